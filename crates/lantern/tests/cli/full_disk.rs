//! A disk of its own that gets full: before a changeover, and at each moment in it.

use crate::world::{Disk, World};
use insta::assert_snapshot;
use std::fs;
use std::path::Path;
use std::thread::sleep;
use std::time::{Duration, Instant};

const SERVER: &str = "disk/halcyon-terrace";
const CHANGEOVER: &[&str] = &[
    "changeover",
    "disk/halcyon-terrace/.lantern/next.plan.json",
    "--server",
    SERVER,
];

/// Fills a disk until so many bytes are free.
fn fill(disk: &Disk, left: u64) {
    let stat = rustix::fs::statvfs(&disk.0).unwrap();
    let free = stat.f_bavail * stat.f_frsize;
    let ballast = vec![0; free.saturating_sub(left) as usize];
    // What others write meanwhile may be in the way; full is full.
    let _ = fs::write(disk.0.join("ballast"), ballast);
}

fn empty(disk: &Disk) {
    let _ = fs::remove_file(disk.0.join("ballast"));
}

/// The terrace on the small disk, in care, with a plan.
fn planned(world: &World) {
    world.copy("halcyon-terrace", "disk");
    world.ok(&["adopt", SERVER]);
    world.edit(
        &format!("{SERVER}/lantern.toml"),
        "at = [\"10s\"]",
        "at = []",
    );
    let depot = "depot/verdance.catalogue.json";
    world.ok(&[
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        depot,
        "--server",
        SERVER,
    ]);
}

#[test]
fn too_little_room_is_noticed_before_anything_is_done() {
    let world = World::demo();
    let Some(disk) = Disk::mount(&world, 9) else {
        return;
    };
    planned(&world);
    let before = world.tree(SERVER);
    fill(&disk, 4_500_000);
    let told = world.lantern(CHANGEOVER);
    let numbers =
        regex::Regex::new(r"\d+(\.\d+)? (bytes|[KM]B)|needs \d+ bytes|\d+ are free").unwrap();
    assert_snapshot!("disk_full", numbers.replace_all(&told, "SIZE"));
    assert_eq!(before, world.tree(SERVER));
    let staging = world.path(&format!("{SERVER}/.lantern/staging"));
    assert!(fs::read_dir(staging).unwrap().next().is_none());
}

/// The files that no server writes.
fn still(world: &World) -> String {
    let tree = world.tree(SERVER);
    let lines = tree.lines().filter(|line| !line.contains("orbit-garden/"));
    lines.collect::<Vec<_>>().join("\n")
}

/// Waits until a changeover has come to a phase; says whether it has before it ended.
fn reaches(journal: &Path, phase: &str, lantern: &mut std::process::Child) -> bool {
    let deadline = Instant::now() + Duration::from_secs(20);
    let phase = format!("\"phase\":\"{phase}\"");
    while lantern.try_wait().unwrap().is_none() {
        assert!(Instant::now() < deadline, "it hangs before {phase}");
        if fs::read_to_string(journal).is_ok_and(|text| text.contains(&phase)) {
            return true;
        }
        sleep(Duration::from_micros(300));
    }
    false
}

#[test]
fn a_disk_that_gets_full_at_any_moment() {
    let world = World::demo();
    let Some(disk) = Disk::mount(&world, 24) else {
        return;
    };
    planned(&world);
    let journal = world.path(&format!("{SERVER}/.lantern/journal.json"));
    let soil = format!("{SERVER}/worlds/orbit-garden/soil.bin");
    let at = |words: &[&str]| world.lantern(&[words, &["--server", SERVER]].concat());
    let old = still(&world);
    let map = world.read(&soil);
    world.ok(CHANGEOVER);
    let new = still(&world);
    world.ok(&["undo", "--keep-world", "--server", SERVER]);
    assert_eq!(old, still(&world));
    world.ok(&["history", "--thin", "0", "--yes", "--server", SERVER]);

    let mut told = Vec::new();
    for phase in ["preparing", "stopping", "swapping", "starting"] {
        for (turn, left) in [0, 4 << 10, 40 << 10, 700 << 10].into_iter().enumerate() {
            let about = format!("full at {phase}, {left} bytes left");
            if at(&["console", "state"]).contains("is down") {
                world.ok(&["console", "start", "--server", SERVER]);
            }
            let mut lantern = world.begin(CHANGEOVER);
            let reached = reaches(&journal, phase, &mut lantern);
            fill(&disk, left);
            let status = lantern.wait().unwrap().code();
            told.push((reached, status));
            // While it is full, every command says what state things are in, or works.
            let survey = at(&["survey"]);
            assert!(!survey.contains("panicked"), "{about}: {survey}");
            empty(&disk);
            if journal.exists() {
                let on: &[&str] = match turn % 2 {
                    0 => &["changeover", "--yes", "--resume"],
                    _ => &["undo", "--keep-world"],
                };
                let recovered = at(on);
                let fine = ["exit status 0", "exit status 4"];
                assert!(
                    fine.iter().any(|f| recovered.contains(f)),
                    "{about}: {recovered}"
                );
            }
            assert!(!journal.exists(), "{about}");
            let now = still(&world);
            assert!(now == old || now == new, "{about}: {now}");
            assert!(map == world.read(&soil), "{about}");
            let survey = at(&["survey"]);
            assert!(survey.contains("exit status 0"), "{about}: {survey}");
            if now == new {
                let undone = at(&["undo", "--keep-world"]);
                assert!(undone.contains("exit status 0"), "{about}: {undone}");
                assert_eq!(old, still(&world), "{about}");
            }
            world.ok(&["history", "--thin", "0", "--yes", "--server", SERVER]);
            world.ok(&["backup", "thin", "--keep", "1", "--yes", "--server", SERVER]);
        }
    }
    let _ = at(&["console", "stop"]);
    // It is a test of nothing when the disk is never full in time.
    let hit = told
        .iter()
        .filter(|(reached, status)| *reached && *status != Some(0))
        .count();
    assert!(hit >= 6, "{told:?}");
    eprintln!("{told:?}");
}
