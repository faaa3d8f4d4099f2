//! A changeover that waits for its hour, in a process of its own.

use crate::world::{PLAN, World};
use insta::assert_snapshot;
use regex::Regex;
use rustix::process::{Pid, Signal, kill_process};

const SERVER: &[&str] = &["--server", "halcyon-terrace"];

fn at(world: &World, words: &[&str]) -> String {
    told(&world.lantern(&[words, SERVER].concat()))
}

/// What is told, without when, and in which process.
fn told(text: &str) -> String {
    let when = Regex::new(r"[0-9]{4}-[0-9]{2}-[0-9]{2} [0-9:]{8}").unwrap();
    let process = Regex::new(r"process [0-9]+").unwrap();
    let name = Regex::new(r"([Pp])lan [0-9a-f]{6}\b").unwrap();
    let text = when.replace_all(text, "WHEN");
    let text = name.replace_all(&text, "${1}lan NAME");
    process.replace_all(&text, "process N").into_owned()
}

fn is_gone(process: Pid) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat"));
    stat.map_or(true, |stat| stat.contains(") Z "))
}

/// What a process that waits has said, at its end.
fn night(world: &World, process: Pid) -> String {
    world.wait("the night to pass", || is_gone(process));
    world.read("halcyon-terrace/.lantern/night.log")
}

/// The process that waits.
fn pid(world: &World) -> Pid {
    let text = world.read("halcyon-terrace/.lantern/night.json");
    let waits: serde_json::Value = serde_json::from_str(&text).unwrap();
    let pid = waits["process"]["pid"].as_i64().unwrap();
    Pid::from_raw(i32::try_from(pid).unwrap()).unwrap()
}

#[test]
fn at_its_hour_it_is_carried_out() {
    let world = World::running();
    world.ok(PLAN);
    let arranged = at(
        &world,
        &["changeover", "--at", "+1s", "--when-empty", "--yes"],
    );
    let process = pid(&world);
    let log = world.path("halcyon-terrace/.lantern/night.log");
    world.wait("the changeover to be done", || {
        std::fs::read_to_string(&log).is_ok_and(|text| text.contains("The way back"))
    });
    let said = told(&world.comparable(&night(&world, process)));
    let status = at(&world, &["status"]);
    assert!(
        status.contains("halcyon 5.4.0") && !status.contains("waits"),
        "{status}"
    );
    assert_snapshot!("night", [arranged, said].join("\n"));
    world.ok(&[&["console", "stop"], SERVER].concat());
}

#[test]
fn while_somebody_is_on_it_is_not_begun_and_that_is_told() {
    let world = World::adopted();
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 24\nguests = ilva oro",
    );
    let settings = world.read("halcyon-terrace/lantern.toml");
    let tell = format!(
        "{settings}\n[[tell]]\non = [\"failed\"]\ncommand = [\"cp\", \"{{file}}\", \"../told.txt\"]\n"
    );
    world.write("halcyon-terrace/lantern.toml", tell);
    world.ok(&[&["console", "start"], SERVER].concat());
    world.ok(PLAN);
    world.ok(&[
        &[
            "changeover",
            "--at",
            "+1s",
            "--latest",
            "+5s",
            "--when-empty",
            "--yes",
        ],
        SERVER,
    ]
    .concat());
    let process = pid(&world);
    let before = world.tree("halcyon-terrace");
    let notice = world.path("told.txt");
    world.wait("the notice", || notice.exists());
    let said = told(&world.comparable(&night(&world, process)));
    assert_eq!(world.tree("halcyon-terrace"), before);
    assert_snapshot!(
        "night_given_up",
        [said, told(&world.read("told.txt"))].join("\n")
    );
    world.ok(&[&["console", "stop"], SERVER].concat());
}

#[test]
fn it_is_shown_called_off_and_missed() {
    let world = World::adopted();
    world.ok(PLAN);
    let nothing = at(&world, &["changeover", "--call-off"]);
    let arranged = at(
        &world,
        &[
            "changeover",
            "--at",
            "+2h",
            "--latest",
            "+90m",
            "--json",
            "--yes",
        ],
    );
    let process = pid(&world);
    let shown = at(&world, &["status"]);
    let second = at(&world, &["changeover", "--at", "+3h", "--yes"]);
    let called_off = at(&world, &["changeover", "--call-off"]);
    let said = told(&night(&world, process));
    // One that is killed is missed by nobody but the status.
    world.ok(&[&["changeover", "--at", "+2h", "--yes"], SERVER].concat());
    kill_process(pid(&world), Signal::KILL).unwrap();
    world.wait("the process to be gone", || {
        world
            .lantern(&[&["status"], SERVER].concat())
            .contains("its process is gone")
    });
    let missed = at(&world, &["changeover", "--call-off"]);
    let ms = Regex::new(r#""(at|latest)_ms": [0-9]+"#).unwrap();
    let arranged = ms.replace_all(&arranged, "\"${1}_ms\": MS");
    let number = Regex::new(r#""process": [0-9]+"#).unwrap();
    let arranged = number.replace_all(&arranged, "\"process\": N");
    let name = Regex::new(r#""plan": "[0-9a-f]{6}""#).unwrap();
    let arranged = name
        .replace_all(&arranged, "\"plan\": \"NAME\"")
        .into_owned();
    assert_snapshot!(
        "night_called_off",
        [nothing, arranged, shown, second, called_off, said, missed].join("\n")
    );
}

#[test]
fn what_has_changed_since_is_not_carried_out() {
    let world = World::adopted();
    world.ok(PLAN);
    world.ok(&[&["changeover", "--at", "+2s", "--yes"], SERVER].concat());
    let process = pid(&world);
    world.write(
        "halcyon-terrace/addons/sun-clock-1.9.1.bloom",
        "somebody was here",
    );
    let before = world.tree("halcyon-terrace");
    let log = world.path("halcyon-terrace/.lantern/night.log");
    world.wait("the end", || {
        std::fs::read_to_string(&log).is_ok_and(|text| text.contains("error"))
    });
    assert_snapshot!(
        "night_changed",
        told(&world.comparable(&night(&world, process)))
    );
    assert_eq!(world.tree("halcyon-terrace"), before);
}

#[test]
fn what_cannot_work_is_said_at_once() {
    let world = World::adopted();
    let no_plan = at(&world, &["changeover", "--at", "04:00", "--yes"]);
    world.ok(PLAN);
    let odd = at(&world, &["changeover", "--at", "soon"]);
    let past = at(&world, &["changeover", "--at", "2026-01-01 04:00", "--yes"]);
    let alone = at(&world, &["changeover", "--when-empty"]);
    let unasked = at(&world, &["changeover", "--at", "04:00"]);
    world.write(
        "halcyon-terrace/addons/sun-clock-1.9.1.bloom",
        "somebody was here",
    );
    let changed = at(&world, &["changeover", "--at", "04:00", "--yes"]);
    assert!(!world.path("halcyon-terrace/.lantern/night.json").exists());
    assert_snapshot!(
        "night_not_arranged",
        [no_plan, odd, past, alone, unasked, changed].join("\n")
    );
}

/// Lets a process that waits die, as the machine does.
fn kill(world: &World) {
    let process = pid(world);
    kill_process(process, Signal::KILL).unwrap();
    world.wait("the process to be gone", || is_gone(process));
}

#[test]
fn after_a_restart_of_the_machine_another_process_waits_on() {
    let world = World::running();
    world.ok(PLAN);
    let nothing = at(&world, &["changeover", "--wait-on"]);
    world.ok(&[&["changeover", "--at", "+2h", "--start", "--yes"], SERVER].concat());
    let second = at(&world, &["changeover", "--wait-on"]);
    kill(&world);
    let status = at(&world, &["status"]);
    assert!(status.contains("changeover --wait-on"), "{status}");
    // Its hour comes.
    let waits = "halcyon-terrace/.lantern/night.json";
    let mut written: serde_json::Value = serde_json::from_str(&world.read(waits)).unwrap();
    let at_ms = written["wait"]["at_ms"].as_i64().unwrap();
    written["wait"]["at_ms"] = (at_ms - 2 * 3_600_000).into();
    world.write(waits, written.to_string());
    let done = at(&world, &["changeover", "--wait-on"]);
    let again = at(&world, &["changeover", "--wait-on"]);
    assert!(!world.path(waits).exists());
    assert_snapshot!("night_waited_on", [nothing, second, done, again].join("\n"));
    world.ok(&[&["console", "stop"], SERVER].concat());
}

#[test]
fn what_was_cut_off_in_that_night_is_gone_on_with() {
    let world = World::running();
    world.ok(PLAN);
    world.ok(&[
        &["changeover", "--at", "+1s", "--warn", "30s", "--yes"],
        SERVER,
    ]
    .concat());
    let log = world.path("halcyon-terrace/.lantern/night.log");
    world.wait("the first backup", || {
        std::fs::read_to_string(&log).is_ok_and(|text| text.contains("back up "))
    });
    let under_way = at(&world, &["status"]);
    kill(&world);
    let cut_off = at(&world, &["status"]);
    assert!(!cut_off.contains("waits "), "{cut_off}");
    let waits = "halcyon-terrace/.lantern/night.json";
    let mut written: serde_json::Value = serde_json::from_str(&world.read(waits)).unwrap();
    written["how"]["warn"] = serde_json::json!(["1s"]);
    world.write(waits, written.to_string());
    let done = at(&world, &["changeover", "--wait-on"]);
    assert!(!world.path(waits).exists());
    let under_way: String = under_way
        .lines()
        .filter(|line| line.contains("waits") || line.contains("under way"))
        .collect();
    assert_snapshot!("night_cut_off", [under_way, done].join("\n\n"));
    world.ok(&[&["console", "stop"], SERVER].concat());
}

#[test]
fn who_comes_at_the_last_moment_is_waited_for() {
    let world = World::running();
    world.ok(PLAN);
    let settings = world.read("halcyon-terrace/lantern.toml");
    let come = "echo come ilva > .lantern/console/input; (sleep 4; echo leave ilva > .lantern/console/input) &";
    let tell =
        format!("{settings}\n[[tell]]\non = [\"before\"]\ncommand = [\"sh\", \"-c\", {come:?}]\n");
    world.write("halcyon-terrace/lantern.toml", tell);
    world.ok(&[
        &["changeover", "--at", "+1s", "--when-empty", "--yes"],
        SERVER,
    ]
    .concat());
    let process = pid(&world);
    let said = told(&world.comparable(&night(&world, process)));
    assert_snapshot!("night_somebody_comes", said);
    world.ok(&[&["console", "stop"], SERVER].concat());
}

#[test]
fn what_stands_in_the_way_at_that_hour_is_told() {
    let world = World::adopted();
    world.ok(PLAN);
    let settings = world.read("halcyon-terrace/lantern.toml");
    let tell = format!(
        "{settings}\n[[tell]]\non = [\"failed\"]\ncommand = [\"cp\", \"{{file}}\", \"../told.txt\"]\n"
    );
    world.write("halcyon-terrace/lantern.toml", tell);
    world.ok(&[&["changeover", "--at", "+2s", "--yes"], SERVER].concat());
    let process = pid(&world);
    // What the plan brings is gone from where it lay.
    std::fs::remove_dir_all(world.path("depot/releases")).unwrap();
    let before = world.tree("halcyon-terrace");
    let said = told(&world.comparable(&night(&world, process)));
    assert_eq!(world.tree("halcyon-terrace"), before);
    assert_snapshot!(
        "night_not_begun",
        [said, told(&world.read("told.txt"))].join("\n")
    );
}
