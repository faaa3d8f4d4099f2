//! The way through on a server that nobody here wrote: Debian's voxel game server, with its mods.
//!
//! `scripts/test` fetches the mods into `target/debian-mods`. Where server or mods cannot be had, the
//! test says so by name, and fails when `CI` is set.

use crate::world::{World, free_port};
use insta::assert_snapshot;
use regex::Regex;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

const PROGRAM: &str = "/usr/games/minetestserver";
/// Ten mods and a pack.
const MODS: &[&str] = &[
    "basic_materials",
    "craftguide",
    "currency",
    "infinite_chest",
    "mesecons",
    "mobs_redo",
    "moreblocks",
    "moreores",
    "protector",
    "quartz",
    "unified_inventory",
];

fn mods() -> PathBuf {
    let workspace = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    workspace.join("target/debian-mods/usr/share/games/minetest/mods")
}

/// A server folder with real mods, in care; none where they cannot be had.
fn server() -> Option<World> {
    let world = folder()?;
    world.ok(&[
        "adopt",
        ".minetest",
        "--name",
        "lounge",
        "--server-version",
        "5.6.1",
    ]);
    Some(world)
}

/// A server folder with real mods, as its game account would have it; none where they cannot be had.
fn folder() -> Option<World> {
    let missing = [
        Path::new(PROGRAM),
        &mods().join("mesecons"),
        &mods().join("pipeworks"),
        &mods().join("homedecor"),
    ]
    .into_iter()
    .find(|path| !path.exists())
    .map(|path| path.display().to_string());
    if let Some(missing) = missing {
        assert!(
            std::env::var_os("CI").is_none(),
            "{missing} is missing, and CI has to have it"
        );
        eprintln!("the_real_server: not run, as {missing} is missing; scripts/test fetches it");
        return None;
    }
    let world = World::empty();
    for name in MODS {
        copy(
            &mods().join(name),
            &world.path(&format!(".minetest/mods/{name}")),
        );
    }
    let port = free_port();
    world.write(
        ".minetest/minetest.conf",
        format!("# the lounge\nport = {port}\nserver_announce = false\n"),
    );
    world.write(
        ".minetest/start.sh",
        "#!/bin/sh\n# The program looks for mods in $HOME/.minetest.\nHOME=\"$(cd .. && pwd)\" exec /usr/games/minetestserver \
         --config minetest.conf --world worlds/lounge --gameid minetest_game --logfile debug.txt --color never --info\n",
    );
    let on = [
        "basic_materials",
        "craftguide",
        "currency",
        "mesecons",
        "mesecons_wires",
        "mobs",
        "moreblocks",
        "moreores",
        "quartz",
        "unified_inventory",
    ];
    let mut flags = String::from(
        "gameid = minetest_game\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\nmod_storage_backend = sqlite3\n",
    );
    for id in on {
        flags.push_str(&format!("load_mod_{id} = true\n"));
    }
    flags.push_str("load_mod_protector = false\n# ends here\n");
    world.write(".minetest/worlds/lounge/world.mt", flags);
    Some(world)
}

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to.parent().unwrap()).unwrap();
    let copied = Command::new("cp")
        .arg("-rL")
        .arg(from)
        .arg(to)
        .status()
        .unwrap();
    assert!(copied.success(), "{}", from.display());
}

/// Puts a changed release of a real mod into the drop folder.
fn release(world: &World, name: &str, change: impl Fn(&Path)) {
    let unpacked = world.path(&format!("work/{name}"));
    copy(&mods().join(name), &unpacked);
    change(&unpacked);
    let files = walk(&unpacked);
    let texts: Vec<(String, Vec<u8>)> = files
        .iter()
        .map(|file| {
            let below = file
                .strip_prefix(world.path("work"))
                .unwrap()
                .display()
                .to_string();
            (below, fs::read(file).unwrap())
        })
        .collect();
    fs::create_dir_all(world.path("drop")).unwrap();
    let mut zip =
        zip::ZipWriter::new(fs::File::create(world.path(&format!("drop/{name}.zip"))).unwrap());
    for (name, content) in texts {
        zip.start_file(name, zip::write::SimpleFileOptions::default())
            .unwrap();
        std::io::Write::write_all(&mut zip, &content).unwrap();
    }
    zip.finish().unwrap();
}

fn walk(folder: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(next) = folders.pop() {
        for entry in fs::read_dir(next).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path)
            } else {
                files.push(path)
            }
        }
    }
    files.sort();
    files
}

fn append(path: &Path, text: &str) {
    let old = fs::read_to_string(path).unwrap();
    fs::write(path, old + text).unwrap();
}

const SURVEY: &[&str] = &["survey", "--server", ".minetest"];
const PLAN: &[&str] = &[
    "plan",
    "--to",
    "same",
    "--from",
    "drop",
    "--server",
    ".minetest",
];
/// How many files the world has depends on how long the server has run.
fn hide_counts(text: String) -> String {
    let counts = Regex::new(r"\d+ (files of the keep list|bytes had changed)").unwrap();
    let text = counts.replace_all(&text, "N $1");
    let sizes = Regex::new(r"(files of the keep list, )[0-9.]+ \w+").unwrap();
    sizes.replace_all(&text, "${1}SIZE").into_owned()
}

const CHANGEOVER: &[&str] = &["changeover", "--yes", "--server", ".minetest"];

#[test]
fn the_real_server_is_brought_forward_and_comes_back_when_broken() {
    let Some(world) = server() else {
        return;
    };
    let hide_hashes = |text: String| {
        regex::Regex::new("#[0-9a-f]{10}")
            .unwrap()
            .replace_all(&text, "#HASH      ")
            .into_owned()
    };
    world.ok(&["console", "start", "--server", ".minetest"]);
    assert_snapshot!("real_survey", hide_hashes(world.lantern(SURVEY)));

    // Three changed releases; one of them needs a mod that is not there yet but is offered.
    release(&world, "quartz", |unpacked| {
        append(
            &unpacked.join("init.lua"),
            "\nminetest.log('action', 'quartz of tomorrow')\n",
        )
    });
    release(&world, "mesecons", |unpacked| {
        append(
            &unpacked.join("mesecons_wires/init.lua"),
            "\nminetest.log('action', 'wires of tomorrow')\n",
        );
        fs::remove_dir_all(unpacked.join("mesecons_fpga")).unwrap();
    });
    release(&world, "moreores", |unpacked| {
        let conf = fs::read_to_string(unpacked.join("mod.conf")).unwrap();
        assert!(conf.contains("depends = default"), "{conf}");
        fs::write(
            unpacked.join("mod.conf"),
            conf.replacen("depends = default", "depends = default, throwing", 1),
        )
        .unwrap();
    });
    release(&world, "throwing", |_| {});
    assert_snapshot!("real_plan", hide_hashes(world.lantern(PLAN)));
    let state = world.read(".minetest/.lantern/console/process.json");
    assert_snapshot!(
        "real_rehearsal",
        world.lantern(&["rehearse", "--server", ".minetest"])
    );
    assert_eq!(state, world.read(".minetest/.lantern/console/process.json"));
    assert_snapshot!("real_changeover", hide_counts(world.lantern(CHANGEOVER)));
    // Members of the pack that were off stay off, and those that were on stay on.
    let flags = world.read(".minetest/worlds/lounge/world.mt");
    assert!(flags.contains("load_mod_mesecons_wires = true"), "{flags}");
    assert!(!flags.contains("load_mod_mesecons_lamp = true"), "{flags}");
    let log = world.read(".minetest/.lantern/console/output.log");
    assert!(
        log.contains("quartz of tomorrow") && log.contains("wires of tomorrow"),
        "{log}"
    );
    assert!(
        log.contains("Mod \"throwing\" loaded") && log.contains("listening on"),
        "{log}"
    );
    let flags = world.read(".minetest/worlds/lounge/world.mt");
    assert!(
        flags.contains("load_mod_throwing = true") && flags.contains("load_mod_protector = false")
    );
    assert!(flags.contains("# ends here"));
    assert!(
        !world.path(".minetest/mods/mesecons/mesecons_fpga").exists(),
        "nothing stale of the pack stays"
    );

    // A mod that raises an error as it is loaded.
    let good = world.tree(".minetest/mods");
    fs::remove_dir_all(world.path("drop")).unwrap();
    fs::remove_dir_all(world.path("work")).unwrap();
    release(&world, "quartz", |unpacked| {
        append(&unpacked.join("init.lua"), "\nerror('no quartz today')\n")
    });
    world.ok(PLAN);
    let told = hide_counts(world.lantern(CHANGEOVER));
    // How much it prints besides depends on how fast it ends.
    let told: Vec<&str> = told
        .lines()
        .filter(|line| !line.starts_with("    | "))
        .collect();
    assert_snapshot!("real_changeover_fails", told.join("\n"));
    assert_eq!(good, world.tree(".minetest/mods"));
    let log = world.read(".minetest/.lantern/console/output.log");
    assert!(
        log.contains("listening on") && log.contains("quartz of tomorrow"),
        "the old state listens again: {log}"
    );

    assert!(
        world
            .lantern(&["undo", "--keep-world", "--server", ".minetest"])
            .contains("exit status 0")
    );
    assert!(world.path(".minetest/mods/mesecons/mesecons_fpga").exists());
    assert!(!world.path(".minetest/mods/throwing").exists());
    world.ok(&["console", "stop", "--server", ".minetest"]);
}

/// What a host's panel does for it, on its own machine.
const PANEL: &str = r#"cd DIR/.minetest
is_up() { pid=$(cat ../pid 2>/dev/null) && [ -e /proc/$pid ] && ! grep -q '^State:.*Z' /proc/$pid/status; }
case $1 in
start) setsid sh -c 'echo $$ >../pid; exec sh start.sh' </dev/null >/dev/null 2>&1 &
    until [ -s ../pid ]; do sleep 0.01; done ;;
stop) kill -INT $(cat ../pid); while is_up; do sleep 0.02; done; rm ../pid ;;
state) is_up ;;
esac
"#;

/// What the panel has started, which ends with this.
struct Panel<'w>(&'w World);

impl Panel<'_> {
    fn press(&self, what: &str) -> bool {
        let mut panel = Command::new("sh");
        panel.arg(self.0.path("panel.sh")).arg(what);
        panel.status().unwrap().success()
    }
}

impl Drop for Panel<'_> {
    fn drop(&mut self) {
        if self.press("state") {
            self.press("stop");
        }
    }
}

#[test]
fn the_real_server_at_the_far_end_of_file_transfer() {
    const SFTP: &str = "/usr/lib/openssh/sftp-server";
    let Some(world) = folder().filter(|_| Path::new(SFTP).exists()) else {
        return;
    };
    let here = world.path("").display().to_string();
    let here = here.trim_end_matches('/');
    world.write("panel.sh", PANEL.replace("DIR", here));
    // What of its start goes to the file that it prints to.
    world.edit(
        ".minetest/minetest.conf",
        "# the lounge\n",
        "debug_log_level = info\n",
    );
    let panel = Panel(&world);
    panel.press("start");
    let address = format!("sftp://rented.example{here}/.minetest");
    world.ok(&[
        "adopt",
        &address,
        "--through",
        SFTP,
        "--name",
        "lounge",
        "--server-version",
        "5.6.1",
    ]);
    let run = |what: &str| format!("{what} = [\"sh\", \"{here}/panel.sh\", \"{what}\"]");
    let console = format!(
        "\n[console]\nlog = \"debug.txt\"\nrun = {{ {}, {}, {} }}\n",
        run("start"),
        run("stop"),
        run("state")
    );
    let settings = ".local/share/lantern/servers/lounge/lantern.toml";
    let text = world.read(settings).replace("at = [\"10s\"]", "at = []");
    world.write(settings, text + &console);
    let says = |line: &str| world.read(".minetest/debug.txt").contains(line);
    world.wait("it listens", || says("listening on"));
    let at = |words: &[&str]| world.lantern(&[words, &["--server", "lounge"]].concat());
    let plan = || {
        let planned = at(&["plan", "--to", "same", "--from", "drop"]);
        assert!(planned.contains("exit status 0"), "{planned}");
    };
    // It works.
    release(&world, "quartz", |unpacked| {
        let line = "\nminetest.log('action', 'quartz of tomorrow')\n";
        append(&unpacked.join("init.lua"), line);
    });
    plan();
    let worked = at(&["changeover", "--yes"]);
    assert!(says("quartz of tomorrow"), "{worked}");
    let survey = at(&["survey"]);
    assert!(survey.contains(", 0 findings"), "{survey}");
    let good = world.tree(".minetest/mods");
    // It does not, and is taken back.
    let again = |line: &str| {
        fs::remove_dir_all(world.path("drop")).unwrap();
        fs::remove_dir_all(world.path("work")).unwrap();
        release(&world, "quartz", |unpacked| {
            append(&unpacked.join("init.lua"), line)
        });
        plan();
    };
    again("\nerror('no quartz today')\n");
    let failed = at(&["changeover", "--yes"]);
    assert_eq!(good, world.tree(".minetest/mods"), "{failed}");
    assert!(panel.press("state"), "it runs again");
    // It is cut off as the server starts.
    again("\nminetest.log('action', 'quartz of the day after')\n");
    let mut lantern = world.begin(&["changeover", "--yes", "--server", "lounge"]);
    world.wait("the new state starts", || says("quartz of the day after"));
    lantern.kill().unwrap();
    lantern.wait().unwrap();
    let cut_off = at(&["status"]);
    assert!(cut_off.contains("exit status 5"), "{cut_off}");
    let back = at(&["undo", "--keep-world"]);
    assert_eq!(good, world.tree(".minetest/mods"), "{back}");
    assert!(panel.press("state"), "it runs again");
    let told = [hide_counts(worked), hide_counts(failed), back].join("\n");
    let told: Vec<&str> = told
        .lines()
        .filter(|line| !line.starts_with("    | "))
        .collect();
    let told = Regex::new("[0-9.]+ (KB|MB|bytes) in TIME")
        .unwrap()
        .replace_all(&told.join("\n"), "SIZE in TIME")
        .into_owned();
    let hashes = Regex::new("#[0-9a-f]{10}").unwrap();
    let told = hashes.replace_all(&told, "#HASH");
    assert_snapshot!("real_far", told);
}

/// What a mod's own files say that it needs, read as simply as can be.
fn own_words(folder: &Path) -> Vec<String> {
    let read = |name: &str| fs::read_to_string(folder.join(name)).unwrap_or_default();
    let conf = read("mod.conf");
    let line = |key: &str| {
        let mut lines = conf.lines();
        lines.find_map(|line| line.split_once('=').filter(|(k, _)| k.trim() == key))
    };
    let mut needs: Vec<String> = match (line("depends"), line("optional_depends")) {
        (Some((_, list)), _) => list.split(',').map(|id| id.trim().to_owned()).collect(),
        (None, Some(_)) => Vec::new(),
        (None, None) => {
            let lines = read("depends.txt");
            let hard = lines
                .lines()
                .map(str::trim)
                .filter(|line| !line.ends_with('?'));
            hard.map(str::to_owned).collect()
        }
    };
    needs.retain(|id| !id.is_empty());
    needs.sort();
    needs.dedup();
    needs
}

#[test]
fn every_real_mod_is_named_with_its_own_needs() {
    let Some(world) = server() else {
        return;
    };
    let all = mods();
    for kind in ["mods", "clientmods"] {
        let from = all.parent().unwrap().join(kind);
        for entry in fs::read_dir(&from).unwrap() {
            let name = entry.unwrap().file_name().into_string().unwrap();
            let to = world.path(&format!(".minetest/{kind}/{name}"));
            if !to.exists() {
                copy(&from.join(&name), &to);
            }
        }
    }
    let told = world.lantern(&["survey", "--server", ".minetest", "--json"]);
    let told = &told[told.find("--- stdout\n").unwrap() + 11..];
    let told: serde_json::Value = serde_json::from_str(told).unwrap();
    assert_eq!(told["unowned"], serde_json::json!([]));
    let mut seen = 0;
    for component in told["components"].as_array().unwrap() {
        let Some(place) = component["place"].as_str() else {
            continue;
        };
        seen += 1;
        if component["kind"] == "pack" || place.starts_with("clientmods/") {
            continue;
        }
        // What needs nothing states no needs.
        let needs = component["needs"].as_object();
        let needs: Vec<String> = needs
            .into_iter()
            .flatten()
            .map(|(id, _)| id.clone())
            .collect();
        let folder = world.path(&format!(".minetest/{place}"));
        assert_eq!(needs, own_words(&folder), "{place}");
    }
    // Every folder with a program or the mark of a pack is a component, and nothing else is.
    let folders = walk(&world.path(".minetest"))
        .into_iter()
        .filter(|path| {
            let below = path.strip_prefix(world.path(".minetest")).unwrap();
            let depth = below.components().count();
            let name = path.file_name().unwrap().to_str().unwrap();
            let top = below.starts_with("mods") || below.starts_with("clientmods");
            let in_pack = || {
                let above = path.parent().unwrap().parent().unwrap();
                above.join("modpack.conf").exists() || above.join("modpack.txt").exists()
            };
            top && match name {
                "init.lua" => depth == 3 || depth == 4 && in_pack(),
                "modpack.conf" => depth == 3,
                "modpack.txt" => depth == 3 && !path.with_file_name("modpack.conf").exists(),
                _ => false,
            }
        })
        .count();
    assert_eq!(seen, folders);
    assert!(seen > 100, "{seen}");
}

/// What the search names, in its first line, and how many starts that took.
fn culprit(world: &World) -> (String, usize) {
    let told = world.lantern(&["culprit", "--without-world", "--server", ".minetest"]);
    assert!(told.contains("exit status 0"), "{told}");
    let starts = told.lines().filter(|line| line.starts_with("  start "));
    let found = told.lines().find(|line| line.contains("does not start on"));
    let found = found.unwrap_or_else(|| panic!("nothing was found: {told}"));
    (found.to_owned(), starts.count())
}

/// Among twenty real mods: one that raises an error as it is loaded, and one that does so only beside another.
#[test]
fn the_culprit_among_twenty_real_mods() {
    let Some(world) = server() else {
        return;
    };
    let new = [
        "3d_armor",
        "ethereal",
        "maidroid",
        "meshport",
        "pipeworks",
        "throwing",
        "throwing_arrows",
        "unifieddyes",
        "worldedit",
    ];
    let all: Vec<&str> = MODS.iter().copied().chain(new).collect();
    assert_eq!(all.len(), 20);
    let of_tomorrow = |unpacked: &Path| {
        fs::write(unpacked.join("tomorrow.txt"), "Of tomorrow.\n").unwrap();
    };
    for name in &all {
        release(&world, name, of_tomorrow);
    }
    release(&world, "quartz", |unpacked| {
        append(&unpacked.join("init.lua"), "\nerror('no quartz today')\n");
    });
    world.ok(PLAN);
    let before = world.tree(".minetest/mods");
    let (found, starts) = culprit(&world);
    assert!(
        found.starts_with("quartz ") && found.contains("all else is fine"),
        "{found}"
    );
    assert!(starts <= 12, "{starts} starts");
    assert_eq!(world.tree(".minetest/mods"), before);

    fs::remove_dir_all(world.path("work/quartz")).unwrap();
    fs::remove_dir_all(world.path("work/throwing")).unwrap();
    release(&world, "quartz", of_tomorrow);
    release(&world, "throwing", |unpacked| {
        append(
            &unpacked.join("init.lua"),
            "\nif minetest.get_modpath('worldedit') then error('not beside that') end\n",
        );
    });
    world.ok(PLAN);
    let (found, starts) = culprit(&world);
    assert!(
        found.contains("throwing")
            && found.contains("together with")
            && found.contains("worldedit"),
        "{found}"
    );
    assert!(found.contains("all else is fine"), "{found}");
    assert!(starts <= 20, "{starts} starts");
}
