//! Several servers that run on one install: each has its own, and what is common is exchanged under none of them.

use crate::kills::{Chance, kill_after, number};
use crate::world::{World, standin};
use insta::assert_snapshot;
use std::io::Write;
use std::os::unix::process::CommandExt;
use std::sync::atomic::{AtomicBool, Ordering};

/// The demo's two suns, in care; nobody is told to leave.
fn suns() -> World {
    let world = World::demo();
    world.ok(&["adopt", "triad-suns"]);
    world.edit("triad-suns/lantern.toml", "at = [\"10s\"]", "at = []");
    world
}

fn at(world: &World, words: &[&str]) -> String {
    world.lantern(&[words, &["--server", "triad-suns"]].concat())
}

/// The process of one of them, as lantern wrote it down.
fn process(world: &World, name: &str) -> String {
    world.read(&format!(
        "triad-suns/.lantern/console/servers/{name}/process.json"
    ))
}

const LATER: [&str; 5] = ["plan", "--to", "7.2.0", "--from", "suns-drop"];

#[test]
fn each_has_its_own_and_the_program_is_common() {
    let world = World::demo();
    assert_snapshot!("several_adopt", world.lantern(&["adopt", "triad-suns"]));
    world.edit("triad-suns/lantern.toml", "at = [\"10s\"]", "at = []");
    let settings = world.read("triad-suns/lantern.toml");
    let (_, stated) = settings.split_once("taken for common.\n").unwrap();
    assert!(at(&world, &["launch", "servers"]).contains(stated));
    assert_snapshot!("several_survey", at(&world, &["survey"]));
    assert_snapshot!("several_order", at(&world, &["order"]));
    assert!(at(&world, &["order", "--of", "south"]).contains("1 entry in south/triad.ini"));
    assert_snapshot!("several_launch", at(&world, &["launch", "show"]));
    at(&world, &["console", "start"]);
    assert_snapshot!("several_status", at(&world, &["status"]));
    // A plan for one stops that one alone.
    let north = process(&world, "north");
    let one = ["plan", "--to", "same", "--of", "south", "--on", "4117"];
    assert_snapshot!("several_plan_one", at(&world, &one));
    assert_snapshot!(
        "several_changeover_one",
        at(&world, &["changeover", "--yes"])
    );
    assert_eq!(process(&world, "north"), north);
    assert!(
        world
            .read("triad-suns/triad.ini")
            .contains("Mods = 4101;4109;4117\n")
    );
    // One for the program stops and starts both; and so does its undo.
    assert_snapshot!("several_plan_all", at(&world, &LATER));
    assert_snapshot!(
        "several_changeover_all",
        at(&world, &["changeover", "--yes"])
    );
    assert_ne!(process(&world, "north"), north);
    assert_snapshot!("several_verify", at(&world, &["verify"]));
    assert!(at(&world, &["undo", "--keep-world"]).contains("Back at 7.1.2"));
    for name in ["north", "south"] {
        let told = at(&world, &["console", "state", "--of", name]);
        assert!(
            told.contains(&format!("triad-suns ({name}) is up")),
            "{told}"
        );
        let printed = format!("triad-suns/.lantern/console/servers/{name}/output.log");
        assert!(world.read(&printed).contains("build 7.1.2"));
    }
    // A word for one has to say for which.
    assert_snapshot!("several_which", at(&world, &["console", "ask", "mods"]));
    let told = at(&world, &["console", "ask", "mods", "--of", "south"]);
    assert!(told.contains("2 mods shine"), "{told}");
    let told = at(&world, &["console", "stop", "--of", "east"]);
    assert!(told.contains("no server of this install is called \"east\"; there are: north, south"));
    assert!(at(&world, &["console", "stop"]).contains("triad-suns (south) is down"));
}

#[test]
fn where_one_fails_all_go_back() {
    let world = suns();
    let program = |words: &str| {
        format!(
            "#!/bin/sh\ncase \"$*\" in *south*) {words};; esac\nexec '{}' triad --build 7.3.0 \"$@\"\n",
            standin().display()
        )
    };
    let release = |words: &str| {
        world.zip(
            "suns-drop/triad-7.3.0.zip",
            &[
                ("bin/build.properties", "build.version = 7.3.0\n"),
                ("bin/triad", &program(words)),
            ],
        );
    };
    release("echo 'Triad: eclipse: no room for two'; exit 1");
    at(&world, &["console", "start"]);
    at(&world, &["plan", "--to", "7.3.0", "--from", "suns-drop"]);
    assert_snapshot!("several_rehearse", at(&world, &["rehearse"]));
    assert_snapshot!("several_back", at(&world, &["changeover", "--yes"]));
    assert!(at(&world, &["console", "state"]).contains("exit status 0"));
    assert!(
        world
            .read("triad-suns/bin/build.properties")
            .contains("7.1.2")
    );
    // One that was down is started to be looked at, and is down again.
    at(&world, &["console", "stop", "--of", "south"]);
    release("true");
    at(&world, &["plan", "--to", "7.3.0", "--from", "suns-drop"]);
    let told = at(&world, &["changeover", "--yes"]);
    assert!(
        told.contains("south: 1 of 1 components are loaded"),
        "{told}"
    );
    let told = at(&world, &["console", "state"]);
    assert!(
        told.contains("(north) is up") && told.contains("(south) is down"),
        "{told}"
    );
    at(&world, &["console", "stop"]);
}

#[test]
fn one_that_something_else_started_is_told_from_the_other() {
    let world = suns();
    at(&world, &["console", "start", "--of", "north"]);
    let mut south = std::process::Command::new("sh")
        .arg("start-south.sh")
        .current_dir(world.path("triad-suns"))
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::null())
        .process_group(0)
        .spawn()
        .unwrap();
    let state = |name: &str| at(&world, &["console", "state", "--of", name]);
    world.wait("the other one is up", || {
        state("south").contains("seems to be up")
    });
    assert!(
        state("north").contains("is up, process"),
        "{}",
        state("north")
    );
    // It has the program open, and lantern has no way to it: nothing is exchanged.
    at(&world, &LATER);
    let told = at(&world, &["changeover", "--yes"]);
    assert!(
        told.contains("not started by lantern") || told.contains("its console"),
        "{told}"
    );
    assert!(
        world
            .read("triad-suns/bin/build.properties")
            .contains("7.1.2")
    );
    south.kill().unwrap();
    south.wait().unwrap();
    at(&world, &["console", "stop"]);
}

#[test]
fn a_world_that_another_goes_on_writing_is_nobodys_concern() {
    let world = suns();
    at(&world, &["console", "start"]);
    at(
        &world,
        &["plan", "--to", "same", "--of", "south", "--on", "4117"],
    );
    let (north, ends) = (
        world.path("triad-suns/saved/north.world"),
        AtomicBool::new(false),
    );
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !ends.load(Ordering::Relaxed) {
                let file = std::fs::File::options().append(true).open(&north);
                writeln!(file.unwrap(), "a day in the north").unwrap();
                std::thread::sleep(std::time::Duration::from_millis(1));
            }
        });
        let told = at(&world, &["changeover", "--yes"]);
        assert!(
            told.contains("the part of the keep list that is south's own is untouched"),
            "{told}"
        );
        // Nobody has written the south's world since; what was written in the north is not asked for, and stays.
        let told = at(&world, &["undo", "--yes"]);
        assert!(told.contains("Back at 7.1.2"), "{told}");
        ends.store(true, Ordering::Relaxed);
    });
    assert!(
        world
            .read("triad-suns/saved/north.world")
            .contains("a day in the north")
    );
    assert!(
        world
            .read("triad-suns/south/triad.ini")
            .contains("Mods = 4109\n")
    );
    at(&world, &["console", "stop"]);
}

#[test]
fn killed_at_any_moment_all_are_up_again() {
    let (kills, seed) = (number("LANTERN_KILLS", 12), number("LANTERN_SEED", 7));
    let mut chance = Chance(seed);
    let world = suns();
    at(&world, &["console", "start"]);
    let version = || world.read("triad-suns/bin/build.properties");
    let (old, mut cut_off) = (version(), 0);
    for kill in 0..kills {
        let about = format!("seed {seed}, kill {kill}");
        let goes = version() == old;
        if goes {
            at(&world, &LATER);
        }
        let first: &[&str] = match goes {
            true => &["changeover", "--yes", "--server", "triad-suns"],
            false => &["undo", "--keep-world", "--server", "triad-suns"],
        };
        cut_off += u64::from(kill_after(&world, first, chance.below(2600)));
        if world.path("triad-suns/.lantern/journal.json").exists() {
            let told = match chance.below(2) {
                0 => at(&world, &["changeover", "--resume", "--yes"]),
                _ => at(&world, &["undo", "--keep-world"]),
            };
            let fine = told.contains("exit status 0") || told.contains("exit status 4");
            assert!(fine, "{about}: {told}");
        }
        assert!(
            !world.path("triad-suns/.lantern/journal.json").exists(),
            "{about}"
        );
        let told = at(&world, &["console", "state"]);
        assert!(told.contains("exit status 0"), "{about}: {told}");
        let told = at(&world, &["survey"]);
        assert!(told.contains("0 findings"), "{about}: {told}");
    }
    at(&world, &["console", "stop"]);
    println!("{kills} kills, {cut_off} cut an operation off");
    assert!(cut_off > kills / 3, "{cut_off} of {kills}");
}

#[test]
fn what_is_stated_wrong_is_told_with_what_to_do() {
    let world = suns();
    let settings = world.read("triad-suns/lantern.toml");
    let (before, _) = settings.split_once("[[server]]").unwrap();
    let told = |servers: &str| {
        world.write("triad-suns/lantern.toml", format!("{before}{servers}"));
        let told = at(&world, &["status"]);
        let (_, error) = told.split_once("error: ").unwrap();
        error.trim().to_owned()
    };
    let two = |south: &str| format!("[[server]]\nname = \"north\"\n[[server]]\n{south}\n");
    let faults = [
        two("name = \"north\"\ninstead = { \"start.sh\" = \"start-south.sh\" }"),
        two("name = \"south\""),
        two("name = \"so/uth\"\ninstead = { \"start.sh\" = \"start-south.sh\" }"),
        two("name = \"south\"\ninstead = { \"strt.sh\" = \"start-south.sh\" }"),
        two("name = \"south\"\ninstead = { \"start.sh\" = \"../start-south.sh\" }"),
        two(
            "name = \"south\"\ninstead = { \"start.sh\" = \"start-south.sh\", \"content/*\" = \"south/*\" }",
        ),
        format!(
            "{}[console]\nlog = \"a.log\"\n",
            two("name = \"south\"\ninstead = { \"start.sh\" = \"start-south.sh\" }")
        ),
    ];
    let faults: Vec<String> = faults.iter().map(|servers| told(servers)).collect();
    assert_snapshot!("several_faults", faults.join("\n\n"));
}
