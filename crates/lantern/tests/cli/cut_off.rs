//! Killed in the middle: the next command says what state things are in, and one goes on or back.

use crate::world::{CHANGEOVER, PLAN, SURVEY, UNDO, World};
use insta::assert_snapshot;

/// Kills a changeover while the new server is starting; the first line of all that people are told is kept.
fn killed_while_starting() -> (World, String) {
    let world = World::adopted();
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 24\nslow_ms = 150",
    );
    let file = "halcyon-terrace/lantern.toml";
    let tell = "\n[[tell]]\ncommand = [\"sh\", \"-c\", \"head -n 1 {file} >> ../told.txt\"]\n";
    world.write(file, world.read(file) + tell);
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    world.ok(PLAN);
    let before = world.tree("halcyon-terrace");
    let mut lantern = world.begin(CHANGEOVER);
    let log = "halcyon-terrace/.lantern/console/output.log";
    world.wait("the new server starts", || {
        world.path(log).exists() && world.read(log).contains("Halcyon 5.4.0")
    });
    lantern.kill().unwrap();
    lantern.wait().unwrap();
    (world, before)
}

fn without_days(tree: &str) -> String {
    tree.lines()
        .filter(|line| !line.contains("/days "))
        .collect::<Vec<_>>()
        .join("\n")
}

#[test]
fn it_waits_and_goes_back() {
    let (world, before) = killed_while_starting();
    assert_snapshot!("waiting", world.lantern(SURVEY));
    assert_snapshot!("waiting_changeover", world.lantern(CHANGEOVER));
    assert_snapshot!("undo_of_cut_off", world.lantern(UNDO));
    assert_eq!(
        without_days(&before),
        without_days(&world.tree("halcyon-terrace"))
    );
    assert!(world.lantern(SURVEY).contains("exit status 0"));
    assert_snapshot!("undo_told", world.read("told.txt"));
}

#[test]
fn it_waits_and_goes_on() {
    let (world, _) = killed_while_starting();
    assert_snapshot!(
        "resume",
        world.lantern(&[CHANGEOVER, &["--resume"]].concat())
    );
    assert!(world.ok(SURVEY).contains("halcyon 5.4.0"));
    assert!(
        world
            .lantern(&[UNDO, &["--keep-world"]].concat())
            .contains("exit status 0"),
        "and there is still a way back"
    );
    assert_snapshot!("resume_told", world.read("told.txt"));
    assert!(world.ok(SURVEY).contains("halcyon 5.1.0"));
}

/// Kills an undo while it warns the players, which is before anything is touched.
fn killed_while_warning(world: &World, told: &[&str]) {
    let words = [UNDO, told, &["--warn", "2h"]].concat();
    let mut lantern = world.begin(&words);
    let log = "halcyon-terrace/.lantern/console/output.log";
    world.wait("the players are warned", || {
        world.read(log).contains("restarts in 2 hours")
    });
    lantern.kill().unwrap();
    lantern.wait().unwrap();
}

#[test]
fn an_undo_that_had_not_begun_is_done_anew() {
    let world = World::running();
    world.ok(PLAN);
    world.ok(CHANGEOVER);
    let days = "halcyon-terrace/worlds/orbit-garden/days";
    world.write(days, "9000\n");
    killed_while_warning(&world, &["--with-world"]);
    assert_snapshot!("undo_waiting", world.lantern(SURVEY));
    assert_snapshot!("undo_anew", world.lantern(UNDO));
    assert!(world.ok(SURVEY).contains("halcyon 5.1.0"));
    assert_eq!(world.read(days), "212\n", "as it had been told at first");
    world.ok(PLAN);
    world.ok(CHANGEOVER);
    killed_while_warning(&world, &["--keep-world"]);
    assert_snapshot!(
        "undo_resumed",
        world.lantern(&[CHANGEOVER, &["--resume"]].concat())
    );
    assert!(world.ok(SURVEY).contains("halcyon 5.1.0"));
}

#[test]
fn there_is_nothing_to_go_on_with() {
    let world = World::adopted();
    assert_snapshot!(
        "resume_nothing",
        world.lantern(&[CHANGEOVER, &["--resume"]].concat())
    );
}
