//! What goes in and out beside the server: packs for players, stores, names, passwords, consoles that never end.

use crate::world::World;
use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::time::Duration;

const SERVER: &str = "halcyon-terrace";

fn on(args: &[&'static str]) -> Vec<&'static str> {
    [args, &["--server", SERVER]].concat()
}

#[test]
fn a_client_pack_replaces_its_like_and_nothing_else() {
    let world = World::adopted();
    world.ok(&on(&["client", "pack", "--out", "client.zip"]));
    world.ok(&on(&["client", "pack", "--out", "client.zip"]));
    world.write("mine.zip", "my own\n");
    let told = world.lantern(&on(&["client", "pack", "--out", "mine.zip"]));
    assert!(
        told.contains("exit status 1") && told.contains("mine.zip already exists"),
        "{told}"
    );
    assert_eq!(world.read("mine.zip"), "my own\n");
    let before = world.tree(SERVER);
    for out in [
        "halcyon-terrace/worlds/orbit-garden/client.zip",
        "halcyon-terrace/lantern.toml",
    ] {
        let told = world.lantern(&on(&["client", "pack", "--out", out]));
        assert!(told.contains("exit status 1"), "{told}");
    }
    assert_eq!(world.tree(SERVER), before);
}

#[test]
fn a_store_is_its_owners_alone_and_backups_are_named() {
    let world = World::adopted();
    fs::create_dir(world.path("store")).unwrap();
    let text = world.read("halcyon-terrace/lantern.toml");
    world.write(
        "halcyon-terrace/lantern.toml",
        format!("{text}\n[backup]\nstore = \"../store\"\n"),
    );
    world.ok(&on(&["backup", "make"]));
    let rooms = fs::read_dir(world.path("store")).unwrap();
    let rights: Vec<u32> = rooms
        .map(|room| room.unwrap().metadata().unwrap().permissions().mode() & 0o777)
        .collect();
    assert_eq!(rights, [0o700]);
    let own = fs::metadata(world.path("halcyon-terrace/.lantern")).unwrap();
    assert_eq!(own.permissions().mode() & 0o777, 0o700);
    for name in ["backups/0001", "../backups/0001", "/etc/passwd"] {
        let told = world.lantern(&on(&["backup", "show", name]));
        assert!(
            told.contains(&format!("there is no backup {name}")),
            "{told}"
        );
    }
}

/// A remote console that answers a login, and then for ever: emptily, or to other questions.
fn endless(number: impl Fn(i32) -> i32 + Send + 'static) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let packet = |number: i32, kind: i32| {
                let mut bytes = Vec::new();
                for field in [10, number, kind] {
                    bytes.extend(field.to_le_bytes());
                }
                bytes.extend([0, 0]);
                bytes
            };
            let mut login = [0; 64];
            let _ = stream.read(&mut login);
            let asked = i32::from_le_bytes(login[4..8].try_into().unwrap());
            let _ = stream.write_all(&packet(asked, 2));
            let _ = stream.read(&mut login);
            let asked = i32::from_le_bytes(login[4..8].try_into().unwrap());
            while stream.write_all(&packet(number(asked), 0)).is_ok() {
                std::thread::sleep(Duration::from_millis(50));
            }
        }
    });
    port
}

#[test]
fn a_console_that_answers_for_ever_is_left() {
    let left = |number: fn(i32) -> i32| {
        let world = World::adopted();
        let port = endless(number);
        let text = world.read("halcyon-terrace/lantern.toml");
        let remote = format!(
            "[console]\nline = {{ remote = {{ address = \"127.0.0.1:{port}\", password_file = \"secret\" }} }}\n"
        );
        world.write("halcyon-terrace/secret", "s");
        world.write("halcyon-terrace/lantern.toml", format!("{text}\n{remote}"));
        let told = world.lantern(&on(&["console", "ask", "list"]));
        assert!(told.contains("answers without end"), "{told}");
    };
    std::thread::scope(|scope| {
        scope.spawn(|| left(|asked| asked));
        scope.spawn(|| left(|asked| asked + 1_000));
    });
}

#[test]
fn no_program_but_the_console_gets_its_password() {
    let world = World::adopted();
    let text = world.read("halcyon-terrace/lantern.toml");
    let console = "[console]\nline = { remote = { address = \"127.0.0.1:9\", password_env = \"TERRACE_SECRET\" } }\n\
                   run = { start = [\"sh\", \"-c\", \"env > started\"], stop = [\"true\"], state = [\"false\"] }\n";
    world.write("halcyon-terrace/lantern.toml", format!("{text}\n{console}"));
    world.with_env(&on(&["console", "start"]), "TERRACE_SECRET", "open-sesame");
    let started = world.read("halcyon-terrace/started");
    assert!(
        started.contains("PATH=") && !started.contains("open-sesame"),
        "{started}"
    );
}

/// Lantern as root, for a server of another user: what it puts in place is that user's.
#[test]
fn what_comes_belongs_to_whom_what_it_replaces_belonged() {
    const OTHER: u32 = 4_242;
    let world = World::adopted();
    let root = world.path(SERVER);
    let files = || walkdir::WalkDir::new(&root).into_iter().map(Result::unwrap);
    let given = files()
        .all(|entry| std::os::unix::fs::lchown(entry.path(), Some(OTHER), Some(OTHER)).is_ok());
    if !given {
        assert!(
            std::env::var_os("CI").is_none(),
            "CI has to run this as root"
        );
        eprintln!("not run: only root may give files away");
        return;
    }
    fs::set_permissions(
        world.path("halcyon-terrace/start.sh"),
        fs::Permissions::from_mode(0o750),
    )
    .unwrap();
    // What the server itself writes is its own affair.
    let whose = |when: &str| {
        use std::os::unix::fs::MetadataExt;
        let is_ours = |entry: &walkdir::DirEntry| {
            let path = entry.path();
            let below = |name: &str| path.starts_with(root.join(name));
            let is_addon = path.extension().is_some_and(|ext| ext == "bloom");
            let texts = ["start.sh", "greenhouse.conf", "soil.bin"]
                .iter()
                .any(|name| path.ends_with(name));
            !below(".lantern") && (below("framework") || below("server") || is_addon || texts)
        };
        for entry in files().filter(is_ours) {
            let meta = entry.metadata().unwrap();
            assert_eq!(
                (meta.uid(), meta.gid()),
                (OTHER, OTHER),
                "{when}: {}",
                entry.path().display()
            );
        }
        let script = fs::metadata(world.path("halcyon-terrace/start.sh")).unwrap();
        assert_eq!(script.permissions().mode() & 0o777, 0o750, "{when}");
    };
    world.ok(crate::world::PLAN);
    world.ok(crate::world::CHANGEOVER);
    whose("after the changeover");
    let backups = world.ok(&on(&["backup", "list", "--json"]));
    let backups: serde_json::Value = serde_json::from_str(&backups).unwrap();
    let name: &'static str = backups["backups"][0]["name"]
        .as_str()
        .unwrap()
        .to_owned()
        .leak();
    world.write("halcyon-terrace/worlds/orbit-garden/soil.bin", "spoiled");
    std::os::unix::fs::lchown(
        world.path("halcyon-terrace/worlds/orbit-garden/soil.bin"),
        Some(OTHER),
        Some(OTHER),
    )
    .unwrap();
    world.ok(&on(&["console", "stop"]));
    for entry in files() {
        std::os::unix::fs::lchown(entry.path(), Some(OTHER), Some(OTHER)).unwrap();
    }
    world.ok(&on(&["backup", "restore", name, "--in-place"]));
    whose("after the restore");
    world.ok(&on(&["undo", "--keep-world"]));
    world.lantern(&on(&["undo", "--keep-world"]));
    whose("at the end");
}

/// What is advised when lantern's own records are broken can be done, and helps.
#[test]
fn broken_records_can_be_left_behind() {
    let world = World::adopted();
    let survey = on(&["survey"]);
    let before = world.ok(&survey);
    for (record, after) in [
        ("ledger.db", &["adopt", SERVER, "--again"][..]),
        ("journal.json", &["survey", "--edited", "--server", SERVER]),
        ("folder.json", &["survey", "--server", SERVER]),
    ] {
        let path = format!("halcyon-terrace/.lantern/{record}");
        for beside in ["-wal", "-shm"] {
            let _ = fs::remove_file(world.path(&format!("{path}{beside}")));
        }
        world.write(
            &path,
            "neither a record nor anything else that lantern could have written there",
        );
        let told = world.lantern(&survey);
        let broken = format!("{path}.broken");
        assert!(
            told.contains("exit status 1") && told.contains(&format!("{record}.broken")),
            "{told}"
        );
        fs::rename(world.path(&path), world.path(&broken)).unwrap();
        world.ok(after);
        assert_eq!(world.ok(&survey), before, "{record}");
    }
}
