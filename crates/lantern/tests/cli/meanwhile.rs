//! What is killed, what gets full and what is exchanged while lantern is at it, whatever it is at.
//!
//! `LANTERN_KILLS` says how many kills; `scripts/kills` does hundreds. The moments follow from `LANTERN_SEED`.

use crate::kills::{Chance, kill_after, number, still};
use crate::world::{CHANGEOVER, Disk, PLAN, SURVEY, World};
use std::fs;
use std::os::unix::fs::symlink;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::Duration;

const SERVER: &str = "halcyon-terrace";
const SOIL: &str = "halcyon-terrace/worlds/orbit-garden/soil.bin";

fn at(world: &World, words: &[&str]) -> String {
    world.lantern(&[words, &["--server", SERVER]].concat())
}

fn set_up(world: &World, up: bool) {
    let is_up = at(world, &["console", "state"]).contains("is up");
    match (is_up, up) {
        (true, false) => world.ok(&["console", "stop", "--server", SERVER]),
        (false, true) => world.ok(&["console", "start", "--server", SERVER]),
        _ => String::new(),
    };
}

#[test]
fn whatever_else_is_killed_nothing_is_lost() {
    let (kills, seed) = (number("LANTERN_KILLS", 12), number("LANTERN_SEED", 7));
    let mut chance = Chance(seed);
    let world = World::running();
    let old = still(&world);
    let soil = fs::read(world.path(SOIL)).unwrap();
    world.ok(PLAN);
    let mut cut_off = [0; 5];
    for kill in 0..kills {
        let what = (kill % 5) as usize;
        // A restore needs the server down; all else is done with and without it.
        let up = what != 3 && chance.below(2) == 0;
        set_up(&world, up);
        let about = format!("seed {seed}, kill {kill}, of {what}, up {up}");
        if what == 3 {
            at(&world, &["backup", "make", "--kept"]);
            world.write(SOIL, "trodden");
        }
        let newest = world.newest_backup(SERVER);
        let restore = ["backup", "restore", newest.as_str(), "--in-place"];
        let (args, longest): (&[&str], u64) = match what {
            0 => (&["backup", "make"], 120),
            1 => (&["backup", "thin", "--keep", "2", "--yes"], 60),
            2 => (&["rehearse"], 2_500),
            3 => (&restore, 150),
            _ => (&["adopt", "--again"], 120),
        };
        if what == 1 {
            // Something that goes.
            world.write(&format!("{SERVER}/players/new-{kill}.toml"), "beds = 1\n");
            at(&world, &["backup", "make", "--kept"]);
            fs::remove_file(world.path(&format!("{SERVER}/players/new-{kill}.toml"))).unwrap();
            at(&world, &["backup", "make", "--kept"]);
        }
        let whole = match what {
            4 => vec!["adopt", "--again", SERVER],
            _ => [args, &["--server", SERVER]].concat(),
        };
        cut_off[what] += u64::from(kill_after(&world, &whole, chance.below(longest)));
        if at(&world, &["survey"]).contains("exit status 5") {
            let on: &[&str] = match chance.below(2) {
                0 => &["changeover", "--yes", "--resume"],
                _ => &["undo", "--keep-world"],
            };
            let told = at(&world, on);
            assert!(told.contains("exit status 0"), "{about}: {told}");
        }
        assert_eq!(still(&world), old, "{about}");
        let now = fs::read(world.path(SOIL)).unwrap();
        assert!(now == soil || what == 3 && now == b"trodden", "{about}");
        world.write(SOIL, &soil);
        let state = at(&world, &["console", "state"]);
        assert_eq!(state.contains("is up"), up, "{about}: {state}");
        let told = at(&world, &["backup", "check"]);
        assert!(told.contains("exit status 0"), "{about}: {told}");
        let told = at(&world, &["survey"]);
        assert!(told.contains("0 findings"), "{about}: {told}");
        // Done again, it is done; a restore that was gone on with has nothing left to do.
        if what == 3 {
            set_up(&world, false);
        }
        let told = world.lantern(&whole);
        assert!(told.contains("exit status 0"), "{about}: {told}");
        assert_eq!(still(&world), old, "{about}");
    }
    println!("{kills} kills; cut off: make, thin, rehearse, restore, adopt: {cut_off:?}");
    assert!(cut_off.iter().sum::<u64>() > kills / 8, "{cut_off:?}");
}

/// Makes a folder of the server a link to one outside, and a folder again, for as long as it is asked to.
fn exchange(world: &World, folder: &str, ends: &AtomicBool) -> u64 {
    let at = world.path(&format!("{SERVER}/{folder}"));
    let (aside, link) = (world.path("real"), world.path("link"));
    symlink(world.path("outside"), &link).unwrap();
    let mut times = 0;
    while !ends.load(Ordering::Relaxed) {
        // What lantern makes in between may be in the way: then it is put aside, to be looked at.
        if fs::rename(&at, &aside).is_err() {
            continue;
        }
        let _ = fs::rename(&link, &at);
        thread::sleep(Duration::from_micros(300));
        let _ = fs::rename(&at, &link);
        if fs::rename(&aside, &at).is_err() {
            fs::rename(&at, world.path(&format!("between-{times}"))).unwrap();
            fs::rename(&aside, &at).unwrap();
        }
        times += 1;
        thread::sleep(Duration::from_micros(500));
    }
    times
}

/// A folder that somebody exchanges for a link again and again: whatever becomes of a command, nothing is written to where
/// the link leads.
#[test]
fn a_folder_that_turns_into_a_link_leads_nobody_outside() {
    // The server itself writes its world wherever a link leads.
    for folder in ["addons", "framework", "players"] {
        let world = World::adopted();
        world.write("outside/addons/own.txt", "outside");
        world.write("outside/sun-dial.bloom", "outside");
        world.write("outside/oro.toml", "outside");
        world.ok(PLAN);
        let before = world.tree("outside");
        let ends = AtomicBool::new(false);
        let times = thread::scope(|scope| {
            let exchanging = scope.spawn(|| exchange(&world, folder, &ends));
            for _ in 0..2 {
                for words in [CHANGEOVER, SURVEY] {
                    world.lantern(words);
                }
                at(&world, &["backup", "make"]);
                at(&world, &["changeover", "--yes", "--resume"]);
                at(&world, &["undo", "--with-world"]);
                at(&world, &["rehearse"]);
            }
            ends.store(true, Ordering::Relaxed);
            exchanging.join().unwrap()
        });
        assert_eq!(world.tree("outside"), before, "{folder}");
        assert!(times > 100, "{folder}: only {times} times");
    }
}

/// Somebody else fills the disk while a backup is made, put back, or a plan is rehearsed.
#[test]
fn a_disk_that_others_fill_loses_no_backup() {
    let world = World::demo();
    let Some(disk) = Disk::mount(&world, 24) else {
        return;
    };
    let server = "disk/halcyon-terrace";
    world.copy(SERVER, "disk");
    world.ok(&["adopt", server]);
    let at = |words: &[&str]| world.lantern(&[words, &["--server", server]].concat());
    at(&["backup", "make"]);
    let tree = world.tree(server);
    let soil = format!("{server}/worlds/orbit-garden/soil.bin");
    let whole = fs::read(world.path(&soil)).unwrap();
    let depot = "depot/verdance.catalogue.json";
    world.ok(&[
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        depot,
        "--server",
        server,
    ]);
    let mut chance = Chance(number("LANTERN_SEED", 7));
    let mut failed = 0;
    for turn in 0..12 {
        let newest = world.newest_backup(server);
        let restore = ["backup", "restore", newest.as_str(), "--in-place"];
        let (words, longest): (&[&str], u64) = match turn % 3 {
            0 => (&["backup", "make"], 60),
            1 => (&restore, 60),
            _ => (&["rehearse"], 1_500),
        };
        if turn % 3 == 1 {
            world.write(&soil, "trodden");
        }
        let mut lantern = world.begin(&[words, &["--server", server]].concat());
        thread::sleep(Duration::from_millis(chance.below(longest)));
        let stat = rustix::fs::statvfs(&disk.0).unwrap();
        let ballast = vec![0; (stat.f_bavail * stat.f_frsize) as usize];
        let _ = fs::write(disk.0.join("ballast"), ballast);
        let status = lantern.wait().unwrap();
        failed += u64::from(!status.success());
        let _ = fs::remove_file(disk.0.join("ballast"));
        let about = format!("turn {turn}");
        if at(&["survey"]).contains("exit status 5") {
            let told = at(&["undo", "--keep-world"]);
            assert!(told.contains("exit status 0"), "{about}: {told}");
        }
        let now = fs::read(world.path(&soil)).unwrap();
        assert!(now == whole || now == b"trodden", "{about}");
        world.write(&soil, &whole);
        assert_eq!(world.tree(server), tree, "{about}");
        let told = at(&["backup", "check"]);
        assert!(told.contains("exit status 0"), "{about}: {told}");
        at(&["backup", "thin", "--keep", "1", "--yes"]);
    }
    assert!(failed > 0, "the disk was full in time {failed} times of 12");
}
