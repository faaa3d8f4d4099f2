//! A server that is kept up by itself, and what is decided with nobody there.

use crate::world::{PLAN, World, free_port};
use insta::assert_snapshot;
use std::path::Path;
use std::process::Command;

const SERVER: &[&str] = &["--server", "halcyon-terrace"];

fn lantern(world: &World, words: &[&str]) -> String {
    let told = world.lantern(&[words, SERVER].concat());
    let name = regex::Regex::new("(plan |plan: |culprit/)[0-9a-f]{6}\\b").unwrap();
    name.replace_all(&told, "${1}NAME").into_owned()
}

/// A server that is kept up from the drop folder, as some lines of lantern.toml say.
fn kept_up(more: &str) -> World {
    let world = World::adopted();
    std::fs::remove_dir_all(world.path("drop")).unwrap();
    let settings = world.read("halcyon-terrace/lantern.toml");
    let settings = settings.replacen("family =", "drop = [\"../drop\"]\nfamily =", 1);
    let tell = "[[tell]]\non = [\"failed\"]\ncommand = [\"cp\", \"{file}\", \"../told.txt\"]\n";
    world.write(
        "halcyon-terrace/lantern.toml",
        format!("{settings}\n{tell}\n{more}"),
    );
    for (id, version, rest) in [
        ("drip-lines", "2.3.1", "side='server'\nworld_bound=false\n"),
        ("glasswork", "3.1.1", "side='both'\n"),
        ("seed-vault", "4.0.3", "side='server'\nworld_bound=true\n"),
        (
            "sun-clock",
            "1.9.2",
            "side='both'\n[standin]\ncrash='the sun stands still'\n",
        ),
    ] {
        world.drop_addon(
            &format!("{id}-{version}.bloom"),
            &format!("id='{id}'\nversion='{version}'\nserver='>=5'\n{rest}"),
        );
    }
    world
}

const AT_ONCE: &str = "[keep_up]\nwait_days = 0\n";
const MAY: &str = "[unattended]\nmay = [\"updates\", \"clients\", \"undeclared\"]\n";

#[test]
fn it_does_nothing_unless_it_is_allowed_and_only_with_what_is_old_enough() {
    let world = kept_up("");
    let off = lantern(&world, &["keep-up"]);
    let settings = world.read("halcyon-terrace/lantern.toml");
    world.write(
        "halcyon-terrace/lantern.toml",
        format!("{settings}[keep_up]\nwait_days = 7\n{MAY}"),
    );
    let young = lantern(&world, &["keep-up"]);
    // A week passes.
    let mut seen: serde_json::Value =
        serde_json::from_str(&world.read("halcyon-terrace/.lantern/seen.json")).unwrap();
    for (mark, since) in seen["releases"].as_object_mut().unwrap() {
        if mark.starts_with("glasswork") {
            *since = (since.as_i64().unwrap() - 7 * 86_400_000).into();
        }
    }
    world.write("halcyon-terrace/.lantern/seen.json", seen.to_string());
    let before = world.tree("halcyon-terrace");
    let old_enough = lantern(&world, &["keep-up", "--dry-run"]);
    assert_eq!(world.tree("halcyon-terrace"), before);
    let status = lantern(&world, &["status"]);
    assert_snapshot!("keep_up_age", [off, young, old_enough, status].join("\n"));
}

#[test]
fn a_catalogue_may_say_how_old_its_releases_are() {
    let world = kept_up(&format!("[keep_up]\nwait_days = 30\n{MAY}"));
    world.ok(&["catalogue", "make", "drop", "--family", "halcyon"]);
    let path = "drop/drop.catalogue.json";
    let mut catalogue: serde_json::Value = serde_json::from_str(&world.read(path)).unwrap();
    for release in catalogue["releases"].as_array_mut().unwrap() {
        let released = match release["id"].as_str().unwrap() {
            "glasswork" => "2026-02-03",
            "drip-lines" => "2999-02-03T04:05:06Z",
            "sun-clock" => "of late",
            _ => continue,
        };
        release["archive"]["released"] = released.into();
    }
    world.write(path, serde_json::to_string_pretty(&catalogue).unwrap());
    world.edit(
        "halcyon-terrace/lantern.toml",
        "drop = [\"../drop\"]",
        "catalogues = [\"../drop/drop.catalogue.json\"]",
    );
    assert_snapshot!("keep_up_dated", lantern(&world, &["keep-up", "--dry-run"]));
}

#[test]
fn what_cannot_be_had_tonight_is_left_out() {
    let world = kept_up(&format!("{AT_ONCE}{MAY}"));
    std::fs::remove_file(world.path("drop/sun-clock-1.9.2.bloom")).unwrap();
    world.ok(&["catalogue", "make", "drop", "--family", "halcyon"]);
    let path = "drop/drop.catalogue.json";
    let mut catalogue: serde_json::Value = serde_json::from_str(&world.read(path)).unwrap();
    for release in catalogue["releases"].as_array_mut().unwrap() {
        if release["id"] == "glasswork" {
            let archive = release["archive"].as_object_mut().unwrap();
            archive.remove("file");
            let url = format!("http://127.0.0.1:{}/glasswork.bloom", free_port());
            archive.insert("urls".into(), serde_json::json!([url]));
        }
    }
    world.write(path, serde_json::to_string_pretty(&catalogue).unwrap());
    world.edit(
        "halcyon-terrace/lantern.toml",
        "drop = [\"../drop\"]",
        "catalogues = [\"../drop/drop.catalogue.json\"]",
    );
    let port = regex::Regex::new("127.0.0.1:[0-9]+").unwrap();
    let told = lantern(&world, &["keep-up", "--dry-run"]);
    assert_snapshot!("keep_up_not_to_be_had", port.replace_all(&told, "HOST"));
}

#[test]
fn a_night_by_itself_leaves_out_what_does_not_start() {
    let world = kept_up(&format!("{AT_ONCE}{MAY}[on_failure]\nculprit = true\n"));
    world.ok(&[&["console", "start"], SERVER].concat());
    let night = lantern(&world, &["keep-up"]);
    assert!(!world.path("told.txt").exists());
    let again = lantern(&world, &["keep-up"]);
    assert_snapshot!("keep_up_night", [night, again].join("\n"));
    world.ok(&[&["console", "stop"], SERVER].concat());
}

#[test]
fn what_does_not_work_on_a_copy_is_told_once() {
    let world = kept_up(&format!("{AT_ONCE}{MAY}"));
    let before = world.tree("halcyon-terrace");
    let first = lantern(&world, &["keep-up"]);
    assert_eq!(world.tree("halcyon-terrace"), before);
    let told = world.read("told.txt");
    std::fs::remove_file(world.path("told.txt")).unwrap();
    let second = lantern(&world, &["keep-up"]);
    assert!(!world.path("told.txt").exists());
    // What makes it fail can be looked for by hand, too.
    let culprit = lantern(
        &world,
        &["culprit", "halcyon-terrace/.lantern/keep-up.plan.json"],
    );
    assert!(
        culprit.contains("sun-clock 1.9.2 does not start on 5.1.0"),
        "{culprit}"
    );
    assert_snapshot!("keep_up_fails_on_a_copy", [first, told, second].join("\n"));
}

#[test]
fn what_had_to_be_taken_back_is_not_tried_night_after_night() {
    let world = kept_up(&format!("{AT_ONCE}{MAY}"));
    let counts = world.path("starts").display().to_string();
    world.drop_addon(
        "sun-clock-1.9.2.bloom",
        &format!("id='sun-clock'\nversion='1.9.2'\nserver='>=5'\nside='both'\n[standin]\ncrash='the sun stands still'\nevery=2\ncounts='{counts}'\n"),
    );
    // It starts on the copy, and then on the server it does not.
    let first = lantern(&world, &["keep-up"]);
    assert!(
        first.contains("exit status 4") && first.contains("works on a copy"),
        "{first}"
    );
    let files = world.tree("halcyon-terrace/addons");
    let again = lantern(&world, &["keep-up"]);
    assert_eq!(world.tree("halcyon-terrace/addons"), files);
    std::fs::remove_file(world.path("told.txt")).unwrap();
    let third = lantern(&world, &["keep-up"]);
    assert!(
        third.contains("is not tried again") && !world.path("told.txt").exists(),
        "{third}"
    );
    assert_snapshot!("keep_up_not_again", again);
}

#[test]
fn it_waits_for_the_last_player_and_not_for_ever() {
    let world = kept_up(&format!("{AT_ONCE}{MAY}"));
    std::fs::remove_file(world.path("drop/sun-clock-1.9.2.bloom")).unwrap();
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 24\nguests = ilva",
    );
    world.ok(&[&["console", "start"], SERVER].concat());
    let before = world.tree("halcyon-terrace/addons");
    let waited = lantern(&world, &["keep-up", "--latest", "+15s"]);
    assert_eq!(world.tree("halcyon-terrace/addons"), before);
    let status = lantern(&world, &["status"]);
    assert_snapshot!(
        "keep_up_somebody_is_on",
        [waited, world.read("told.txt"), status].join("\n")
    );
    world.ok(&[&["console", "stop"], SERVER].concat());
}

#[test]
fn with_nobody_there_no_more_is_decided_than_what_is_left_to_it() {
    let world = World::running();
    world.ok(PLAN);
    let asks = lantern(&world, &["changeover", "--unattended"]);
    let at_once = lantern(
        &world,
        &["changeover", "--at", "04:00", "--unattended", "--yes"],
    );
    assert!(
        at_once.contains("exit status 1") && at_once.contains("unrehearsed"),
        "{at_once}"
    );
    assert!(!world.path("halcyon-terrace/.lantern/night.json").exists());
    let settings = world.read("halcyon-terrace/lantern.toml");
    let odd = format!("{settings}\n[unattended]\nmay = [\"everything\"]\n");
    world.write("halcyon-terrace/lantern.toml", odd);
    let odd = lantern(&world, &["status"]);
    let may = "[unattended]\nmay = [\"updates\", \"additions\", \"server\", \"world-bound\", \"clients\", \"undeclared\"]\n";
    world.write("halcyon-terrace/lantern.toml", format!("{settings}\n{may}"));
    world.ok(&[&["rehearse"], SERVER].concat());
    // Somebody is on.
    world.ok(&[&["console", "send", "come ilva"], SERVER].concat());
    let before = world.tree("halcyon-terrace/addons");
    let on = lantern(&world, &["changeover", "--unattended"]);
    assert_eq!(world.tree("halcyon-terrace/addons"), before);
    world.ok(&[&["console", "send", "leave ilva"], SERVER].concat());
    let done = lantern(&world, &["changeover", "--unattended"]);
    assert_snapshot!("unattended", [asks, odd, on, done].join("\n"));
    world.ok(&[&["console", "stop"], SERVER].concat());
}

#[test]
fn at_its_hour_it_is_held_against_what_is_left_to_it_again() {
    let world = World::adopted();
    let settings = world.read("halcyon-terrace/lantern.toml");
    let may = "[unattended]\nmay = [\"updates\", \"additions\", \"server\", \"world-bound\", \"clients\", \"undeclared\"]\n";
    world.write("halcyon-terrace/lantern.toml", format!("{settings}\n{may}"));
    world.ok(PLAN);
    world.ok(&[&["rehearse"], SERVER].concat());
    let waits = ["changeover", "--at", "+1s", "--unattended", "--yes"];
    world.ok(&[&waits[..], SERVER].concat());
    let log = world.path("halcyon-terrace/.lantern/night.log");
    world.wait("the changeover to be done", || {
        std::fs::read_to_string(&log).is_ok_and(|text| text.contains("The way back"))
    });
    // What was rehearsed is known there.
    let said = world.read("halcyon-terrace/.lantern/night.log");
    assert!(said.contains("was rehearsed with the world"), "{said}");
}

#[test]
fn the_units_of_the_documentation_are_what_systemd_reads() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/units.md");
    let docs = std::fs::read_to_string(docs).unwrap();
    let unit = regex::Regex::new(r"(?s)systemd/user/([\w@.-]+)`.*?```ini\n(.*?)```").unwrap();
    let dir = tempfile::tempdir().unwrap();
    let mut files = Vec::new();
    for found in unit.captures_iter(&docs) {
        let path = dir.path().join(found[1].replace('@', "@halcyon-terrace"));
        let text = found[2].replace("/usr/local/bin/lantern", env!("CARGO_BIN_EXE_lantern"));
        // The command is one that this program knows.
        for line in text
            .lines()
            .filter_map(|line| line.strip_prefix("ExecStart="))
        {
            let words = line.replace("%i", "nowhere").replace("%f", "nowhere");
            let mut words = words.split(' ');
            let told = Command::new(words.next().unwrap())
                .args(words)
                .output()
                .unwrap();
            let told = String::from_utf8_lossy(&told.stderr).into_owned();
            assert!(
                told.contains("nowhere") && !told.contains("Usage"),
                "{told}"
            );
        }
        std::fs::write(&path, text).unwrap();
        files.push(path);
    }
    assert_eq!(files.len(), 5);
    let verify = Command::new("systemd-analyze")
        .args(["verify", "--man=no"])
        .args(&files)
        .output();
    let Ok(verify) = verify else {
        assert!(
            std::env::var_os("CI").is_none(),
            "systemd-analyze is missing, and CI has to have it"
        );
        return eprintln!("not run, as systemd-analyze is missing");
    };
    // What it does not understand it says, and ends well.
    let said = String::from_utf8_lossy(&verify.stderr).into_owned();
    assert!(verify.status.success() && said.is_empty(), "{said}");
}
