//! Stores of backups that are not the server's own: shared by servers, sealed, on another machine, in an object store.

use crate::objects::{Fault, Objects};
use crate::world::{CHANGEOVER, PLAN, UNDO, World};
use insta::assert_snapshot;
use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, SystemTime};

const SFTP: &str = "/usr/lib/openssh/sftp-server";

/// Several servers with the same pack in care, whose backups go where the settings say.
fn with_servers(names: &[&str], settings: &dyn Fn(&World) -> String) -> World {
    let world = World::adopted();
    let settings = settings(&world);
    for name in names {
        if *name != "halcyon-terrace" {
            world.copy("halcyon-terrace", name);
            fs::remove_file(world.path(&format!("{name}/lantern.toml"))).unwrap();
            fs::remove_dir_all(world.path(&format!("{name}/.lantern"))).unwrap();
            world.write(&format!("{name}/worlds/{name}/days"), "1\n");
            world.ok(&["adopt", name, "--name", name]);
        }
        let path = format!("{name}/lantern.toml");
        let own = world.read(&path).replace("at = [\"10s\"]", "at = []");
        world.write(&path, own + &settings);
    }
    world
}

fn made(world: &World, server: &str, name: &str) -> serde_json::Value {
    let told = world.ok(&["backup", "make", name, "--json", "--server", server]);
    serde_json::from_str(&told).unwrap()
}

/// Names that are drawn, and marks of servers and keys, are not the same twice.
fn plain(text: &str) -> String {
    let drawn = regex::Regex::new(r"\b[0-9a-f]{32}\b").unwrap();
    let text = drawn.replace_all(text, "PACK");
    let mark = regex::Regex::new(r"\b[0-9a-f]{16}\b").unwrap();
    let text = mark.replace_all(&text, "MARK");
    let port = regex::Regex::new(r"127\.0\.0\.1:\d+").unwrap();
    let text = port.replace_all(&text, "127.0.0.1:PORT");
    let size = regex::Regex::new(r"(\d[\d.]*) (bytes|KB|MB)").unwrap();
    let text = size.replace_all(&text, "SIZE");
    let blanks = regex::Regex::new("  +").unwrap();
    let text = blanks.replace_all(&text, "  ");
    let when = regex::Regex::new(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d").unwrap();
    when.replace_all(&text, "WHEN").into_owned()
}

fn grown(made: &serde_json::Value) -> u64 {
    made["stored_bytes"].as_u64().unwrap()
}

#[test]
fn servers_with_the_same_pack_store_it_once() {
    let names = [
        "halcyon-terrace",
        "halcyon-east",
        "halcyon-west",
        "halcyon-south",
    ];
    let world = with_servers(&names, &|_| {
        "\n[backup]\nstore = \"../store\"\nshared = true\n".into()
    });
    fs::create_dir(world.path("store")).unwrap();
    let first = grown(&made(&world, names[0], "one"));
    let others: u64 = names[1..]
        .iter()
        .map(|name| grown(&made(&world, name, "one")))
        .sum();
    assert!(others * 20 < first, "{first} and {others} for three more");
    let at = |words: &[&str]| world.lantern(&[words, &["--server", "halcyon-east"]].concat());
    let terrace = fs::read_dir(world.path("store/backups")).unwrap();
    let mut rooms: Vec<String> = terrace
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    rooms.sort();
    let of_terrace = format!(
        "{}/one",
        rooms.iter().find(|it| it.contains("terrace")).unwrap()
    );
    let told = [
        at(&["backup", "list"]),
        at(&["backup", "list", "--all"]),
        at(&["backup", "check"]),
        at(&["backup", "restore", &of_terrace, "--to", "out"]),
        at(&["backup", "show", "halcyon-north/one"]),
        at(&["backup", "restore", "../../x", "--to", "there"]),
    ];
    assert_snapshot!(plain(&told.join("\n")));
    assert_eq!(world.tree("out"), world.tree("halcyon-terrace"));
}

/// What the store of a folder holds, by what comes behind the names.
fn packs(world: &World, extension: &str) -> Vec<std::path::PathBuf> {
    let entries = fs::read_dir(world.path("store/packs")).unwrap();
    let paths = entries.map(|entry| entry.unwrap().path());
    paths
        .filter(|path| path.extension().is_some_and(|it| it == extension))
        .collect()
}

#[test]
fn what_is_thinned_out_of_a_shared_store_goes_a_day_later_and_nobody_misses_it() {
    let names = ["halcyon-terrace", "halcyon-east"];
    let world = with_servers(&names, &|_| {
        "\n[backup]\nstore = \"../store\"\nshared = true\n".into()
    });
    fs::create_dir(world.path("store")).unwrap();
    let noise = |seed: u32| -> Vec<u8> {
        let block = |n: u32| blake3::hash((seed * 100_000 + n).to_le_bytes().as_slice());
        (0..60_000).flat_map(|n| *block(n).as_bytes()).collect()
    };
    world.write("halcyon-terrace/worlds/orbit-garden/seed", noise(1));
    made(&world, names[0], "old");
    world.write("halcyon-terrace/worlds/orbit-garden/seed", noise(2));
    made(&world, names[0], "new");
    made(&world, names[1], "east");
    let thin = || plain(&world.lantern(&["backup", "rm", "old", "--yes", "--server", names[0]]));
    let told = thin();
    assert_eq!(packs(&world, "retired").len(), 1, "{told}");
    let again = || {
        let words = [
            "backup", "thin", "--keep", "5", "--named", "--yes", "--server", names[1],
        ];
        plain(&world.lantern(&words))
    };
    let too_soon = again();
    // What a killed lantern left a day ago goes, too.
    let yesterday = SystemTime::now() - Duration::from_secs(25 * 3600);
    let age = |path: &Path| {
        fs::File::options()
            .write(true)
            .open(path)
            .unwrap()
            .set_modified(yesterday)
    };
    world.write("store/packs/left.pack", "what was not finished");
    world.write("store/packs/fresh.pack", "what somebody is at");
    age(&world.path("store/packs/left.pack")).unwrap();
    for marker in packs(&world, "retired") {
        age(&marker).unwrap();
    }
    let before = packs(&world, "pack").len();
    let gone = again();
    assert_eq!(packs(&world, "retired").len(), 0, "{gone}");
    assert_eq!(packs(&world, "pack").len(), before - 2);
    assert!(world.path("store/packs/fresh.pack").exists());
    assert_snapshot!([told, too_soon, gone].join("\n"));
    for (server, name) in [(names[0], "new"), (names[1], "east")] {
        world.ok(&["backup", "check", "--server", server]);
        world.ok(&["backup", "restore", name, "--to", name, "--server", server]);
        assert_eq!(world.tree(name), world.tree(server));
    }
}

#[test]
fn what_is_sealed_is_read_with_its_key_alone() {
    let names = ["halcyon-terrace", "halcyon-east"];
    let settings = "\n[backup]\nstore = \"../store\"\nshared = true\nkey = \"../the.key\"\n";
    let world = with_servers(&names, &|_| settings.into());
    fs::create_dir(world.path("store")).unwrap();
    let at =
        |words: &[&str]| plain(&world.lantern(&[words, &["--server", "halcyon-east"]].concat()));
    let mut told = vec![at(&["backup", "list"])];
    told.push(at(&["backup", "key", "the.key"]));
    told.push(at(&["backup", "key", "the.key"]));
    world.write(
        "halcyon-east/worlds/secret-garden/gate",
        "the gate is behind the ivy\n".repeat(99),
    );
    made(&world, "halcyon-east", "one");
    // Nobody without the key reads a word.
    let mut stack = vec![world.path("store")];
    while let Some(path) = stack.pop() {
        if path.is_dir() {
            stack.extend(
                fs::read_dir(path)
                    .unwrap()
                    .map(|entry| entry.unwrap().path()),
            );
            continue;
        }
        let bytes = fs::read(&path).unwrap();
        for word in [
            &b"behind the ivy"[..],
            b"secret-garden",
            b"\"scope\"",
            b"LANTERN2",
        ] {
            let found = bytes.windows(word.len()).any(|window| window == word);
            assert!(!found, "{}: {word:?}", path.display());
        }
    }
    told.push(at(&["backup", "check"]));
    world.ok(&[
        "backup",
        "restore",
        "one",
        "--to",
        "out",
        "--server",
        "halcyon-east",
    ]);
    assert_eq!(world.tree("out"), world.tree("halcyon-east"));
    // Another key, none, and a key for what is not sealed.
    fs::rename(world.path("the.key"), world.path("right.key")).unwrap();
    world.ok(&["backup", "key", "the.key"]);
    told.push(at(&["backup", "list"]));
    world.edit("halcyon-east/lantern.toml", "key = ", "# key = ");
    told.push(at(&["backup", "list"]));
    world.edit("halcyon-east/lantern.toml", "../store", "../open");
    fs::create_dir(world.path("open")).unwrap();
    made(&world, "halcyon-east", "open");
    world.edit("halcyon-east/lantern.toml", "# key = ", "key = ");
    told.push(at(&["backup", "list"]));
    assert_snapshot!(told.join("\n"));
    // Without lantern, with the key.
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scripts/unpack-backup");
    let rooms = fs::read_dir(world.path("store/backups")).unwrap();
    let room = rooms
        .last()
        .unwrap()
        .unwrap()
        .file_name()
        .into_string()
        .unwrap();
    let unpack = |key: &str| {
        let mut python = Command::new("/usr/bin/python3");
        python
            .arg(&script)
            .arg(world.path("store"))
            .arg(format!("{room}/one"));
        python.arg(world.path("by-hand")).arg(world.path(key));
        python.output().unwrap()
    };
    if !Path::new("/usr/lib/python3/dist-packages/nacl").exists() {
        assert!(
            std::env::var_os("CI").is_none(),
            "CI has to have python3-nacl"
        );
        return;
    }
    assert!(!unpack("the.key").status.success());
    let done = unpack("right.key");
    assert!(done.status.success(), "{done:?}");
    assert_eq!(world.tree("by-hand"), world.tree("out"));
}

#[test]
fn a_store_on_another_machine_is_changed_over_with() {
    if !Path::new(SFTP).exists() {
        assert!(std::env::var_os("CI").is_none(), "CI has to have {SFTP}");
        return;
    }
    let names = ["halcyon-terrace", "halcyon-east"];
    let world = with_servers(&names, &|world| {
        let at = world.path("store");
        fs::create_dir(&at).unwrap();
        format!(
            "\n[backup]\nstore = \"sftp://keeper@archive.example{}\"\nthrough = [\"{SFTP}\"]\n",
            at.display()
        )
    });
    world.ok(PLAN);
    assert!(world.lantern(CHANGEOVER).contains("exit status 0"));
    assert!(!world.path("halcyon-terrace/.lantern/store").exists());
    let undone = world.lantern(&[UNDO, &["--with-world"]].concat());
    assert!(undone.contains("exit status 0"), "{undone}");
    let first = grown(&made(&world, names[0], "one"));
    assert!(grown(&made(&world, names[1], "one")) * 20 < first);
    world.ok(&[
        "backup", "restore", "one", "--to", "out", "--server", names[1],
    ]);
    assert_eq!(world.tree("out"), world.tree(names[1]));
    assert_snapshot!(plain(
        &world.lantern(&["backup", "check", "--server", names[1]])
    ));
}

#[test]
fn an_object_store_takes_a_changeover_and_gives_it_back() {
    let Some(objects) = Objects::start() else {
        return;
    };
    let world = with_servers(&["halcyon-terrace"], &|world| {
        objects.settings(world, "night")
    });
    world.ok(PLAN);
    let told = world.lantern(CHANGEOVER);
    assert!(told.contains("exit status 0"), "{told}");
    let undone = world.lantern(&[UNDO, &["--with-world"]].concat());
    assert!(undone.contains("exit status 0"), "{undone}");
    made(&world, "halcyon-terrace", "one");
    world.write("halcyon-terrace/worlds/orbit-garden/days", "5\n");
    objects.asked();
    made(&world, "halcyon-terrace", "two");
    let asked = objects.asked();
    let puts = asked.iter().filter(|it| it.starts_with("PUT"));
    assert_eq!(
        puts.count(),
        5,
        "contents and lists, each with an index, and the page: {asked:?}"
    );
    assert!(asked.len() <= 14, "{asked:?}");
    // One world is read, and no more than that.
    let words = [
        "backup",
        "restore",
        "two",
        "players",
        "--to",
        "players-only",
        "--server",
    ];
    world.ok(&[&words[..], &["halcyon-terrace"]].concat());
    assert!(world.path("players-only/players/oro.toml").exists());
    assert!(!world.path("players-only/addons").exists());
    let read = objects.asked();
    let packs = read
        .iter()
        .filter(|it| it.starts_with("GET") && it.ends_with(".pack"));
    assert!(packs.count() <= 4, "{read:?}");
    let at =
        |words: &[&str]| plain(&world.lantern(&[words, &["--server", "halcyon-terrace"]].concat()));
    // At a glance, nobody there is asked.
    objects.asked();
    let glance = world
        .output(&["status", "--server", "halcyon-terrace"])
        .stdout;
    let glance = String::from_utf8(glance).unwrap();
    assert!(
        glance.contains("backups in s3://lantern/night, not looked at now"),
        "{glance}"
    );
    assert_eq!(objects.asked(), [""; 0]);
    let checked = [
        at(&["backup", "check"]),
        at(&["backup", "check", "--sample", "10"]),
    ];
    // Whether what lies useless in a pack is a fifth of it hangs on what the server wrote meanwhile.
    let removed = at(&["backup", "rm", "one", "--yes"]);
    let removed = removed.split_inclusive('\n');
    let removed = removed.filter(|line| !line.starts_with("  SIZE more"));
    let told = [&checked[..], &[removed.collect()]].concat();
    // A pack is gone: what that was of is named, and all else comes back. Which packs there are is
    // asked anew: those with much that was useless are written anew by what deletes.
    objects.asked();
    at(&["backup", "check"]);
    let read = objects.asked();
    let mut packs = read
        .iter()
        .filter(|it| it.starts_with("GET") && it.ends_with(".pack"));
    let gone = packs.next_back().unwrap()["GET ".len()..].to_owned();
    objects.fails(move |_, _, about| (about == gone).then_some(Fault::Gone));
    let lost = at(&["backup", "check"]);
    assert!(
        lost.contains("exit status 3") && lost.contains(".pack: "),
        "{lost}"
    );
    objects.fails(|_, _, _| None);
    let path = world.path("halcyon-terrace/lantern.toml");
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replace("s3://lantern/", "s3://nobody/")).unwrap();
    let nobody = at(&["backup", "list"]);
    assert_snapshot!([&told[..], &[nobody]].concat().join("\n"));
}

#[test]
fn an_object_store_that_fails_now_and_then_loses_nothing() {
    let Some(objects) = Objects::start() else {
        return;
    };
    let names = ["halcyon-terrace", "halcyon-east", "halcyon-west"];
    let world = with_servers(&names, &|world| objects.settings(world, "night"));
    // A store that has never answered is not asked for as long.
    objects.fails(|number, _, _| match number % 7 {
        _ if number <= 12 => None,
        1 => Some(Fault::Busy),
        3 => Some(Fault::Cut),
        4 => Some(Fault::Slow),
        6 => Some(Fault::Deaf),
        _ => None,
    });
    // All at once, each with the others' contents.
    let mut at_work: Vec<_> = names
        .iter()
        .map(|name| world.begin(&["backup", "make", "one", "--server", name]))
        .collect();
    for child in &mut at_work {
        assert!(child.wait().unwrap().success());
    }
    objects.fails(|_, _, _| None);
    for name in names {
        let checked = world.lantern(&["backup", "check", "--server", name]);
        assert!(
            checked.contains("1 backup: everything was read"),
            "{checked}"
        );
        world.ok(&[
            "backup",
            "restore",
            "one",
            "--to",
            &format!("{name}-out"),
            "--server",
            name,
        ]);
        assert_eq!(world.tree(&format!("{name}-out")), world.tree(name));
    }
    // One is killed while it writes; what it left is no trouble to anybody.
    objects.fails(|_, method, about| {
        (method == "PUT" && about.contains("packs/")).then_some(Fault::Slow)
    });
    world.write("halcyon-east/worlds/halcyon-east/days", "2\n".repeat(5_000));
    objects.asked();
    let mut killed = world.begin(&["backup", "make", "two", "--server", names[1]]);
    world.wait("a pack is written", || {
        let asked = objects.asked();
        asked.iter().any(|it| it.starts_with("PUT"))
    });
    killed.kill().unwrap();
    killed.wait().unwrap();
    objects.fails(|_, _, _| None);
    made(&world, names[1], "two");
    world.ok(&["backup", "check", "--server", names[1]]);
}

#[test]
fn an_object_store_that_is_not_there_is_said() {
    let world = with_servers(&["halcyon-terrace"], &|world| {
        world.write("objects.toml", "access_key = \"terrace\"\n");
        "\n[backup]\nstore = \"s3://lantern/night\"\nendpoint = \"https://objects.example\"\ncredentials = \"../objects.toml\"\n".into()
    });
    let at =
        |words: &[&str]| plain(&world.lantern(&[words, &["--server", "halcyon-terrace"]].concat()));
    let half_a_key = at(&["backup", "make"]);
    world.edit(
        "halcyon-terrace/lantern.toml",
        "credentials = \"../objects.toml\"\n",
        "",
    );
    let no_key = at(&["backup", "make"]);
    assert_snapshot!([half_a_key, no_key].join("\n"));
}
