//! A plan carried out on a copy first; the live server runs on, and nothing of it changes.

use crate::world::{CHANGEOVER, DROP, PLAN, World};
use insta::assert_snapshot;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::os::unix::net::UnixListener;

const REHEARSE: &[&str] = &["rehearse", "--server", "halcyon-terrace"];

/// Every file's size, time of writing and inode, so that rewriting the same content would show, too.
fn stamps(world: &World) -> Vec<(String, u64, i64, u64)> {
    let root = world.path("halcyon-terrace");
    let files = walkdir::WalkDir::new(&root).sort_by_file_name().into_iter();
    let files = files.filter_entry(|entry| entry.file_name() != ".lantern");
    let files = files
        .map(Result::unwrap)
        .filter(|entry| entry.file_type().is_file());
    let stamp = |entry: walkdir::DirEntry| {
        let seen = entry.metadata().unwrap();
        let path = entry
            .path()
            .strip_prefix(&root)
            .unwrap()
            .display()
            .to_string();
        (
            path,
            seen.size(),
            seen.mtime_nsec() + seen.mtime() * 1_000_000_000,
            seen.ino(),
        )
    };
    files.map(stamp).collect()
}

/// What the live server has printed, and its process.
fn live(world: &World) -> (String, String) {
    let own = |name: &str| world.read(&format!("halcyon-terrace/.lantern/console/{name}"));
    (own("output.log"), own("process.json"))
}

#[test]
fn it_works_and_the_live_server_is_neither_stopped_nor_touched() {
    let world = World::running();
    world.ok(PLAN);
    let before = (stamps(&world), live(&world), world.tree("halcyon-terrace"));
    assert_snapshot!("rehearsed", world.lantern(REHEARSE));
    assert!(before == (stamps(&world), live(&world), world.tree("halcyon-terrace")));
    assert!(!world.path("halcyon-terrace/.lantern/rehearsal").exists());
    let report = world.read("halcyon-terrace/.lantern/next.rehearsal.json");
    let report: serde_json::Value = serde_json::from_str(&report).unwrap();
    assert_eq!(report["worked"], true);
    assert_snapshot!("changeover_rehearsed", world.lantern(CHANGEOVER));
    // Another plan is not the one that was rehearsed.
    world.drop_addon(
        "night-watch-1.1.0.bloom",
        "id='night-watch'\nversion='1.1.0'\nserver='>=5'\n",
    );
    world.ok(DROP);
    assert!(
        world
            .lantern(CHANGEOVER)
            .contains("this plan      was not rehearsed")
    );
}

#[test]
fn what_does_not_work_is_told_before_anybody_suffers() {
    let world = World::running();
    world.drop_addon(
        "night-watch-1.1.0.bloom",
        "id='night-watch'\nversion='1.1.0'\nserver='>=5'\n[standin]\ncrash='no moon tonight'\n",
    );
    world.ok(DROP);
    let before = (stamps(&world), live(&world));
    assert_snapshot!("rehearsal_fails", world.lantern(REHEARSE));
    assert!(before == (stamps(&world), live(&world)));
    let told = world.lantern(CHANGEOVER);
    assert!(
        told.contains("this plan      did not work when it was rehearsed"),
        "{told}"
    );
}

#[test]
fn without_the_world_the_server_makes_one_of_its_own() {
    let world = World::running();
    world.write("halcyon-terrace/worlds/orbit-garden/huge", "x".repeat(3000));
    world.ok(PLAN);
    let told = world.lantern(&[REHEARSE, &["--without-world", "--keep-copy"]].concat());
    assert!(
        told.contains("exit status 0") && told.contains("on a copy without the world"),
        "{told}"
    );
    let copy = "halcyon-terrace/.lantern/rehearsal/halcyon-terrace";
    assert!(
        !world
            .path(&format!("{copy}/worlds/orbit-garden/huge"))
            .exists()
    );
    assert!(
        world
            .read(&format!("{copy}/.lantern/console/output.log"))
            .contains("the garden is saved")
    );
    // Ports of its own, in the copy alone.
    let port = |conf: &str| -> String {
        let text = world.read(&format!("{conf}/greenhouse.conf"));
        text.lines()
            .find(|line| line.starts_with("port"))
            .unwrap()
            .to_owned()
    };
    assert_ne!(port(copy), port("halcyon-terrace"));
    // The next one clears it away, with what may still run in it.
    assert!(world.lantern(REHEARSE).contains("exit status 0"));
    assert!(!world.path(copy).exists());
}

#[test]
fn what_leads_back_to_the_live_server_is_not_rehearsed() {
    let world = World::running();
    let root = world.path("halcyon-terrace").canonicalize().unwrap();
    // A socket and a link are left out of the copy.
    let _socket = UnixListener::bind(world.path("halcyon-terrace/talk")).unwrap();
    std::os::unix::fs::symlink("/etc", world.path("halcyon-terrace/elsewhere")).unwrap();
    world.ok(PLAN);
    let told = world.lantern(REHEARSE);
    assert!(
        told.contains("left out, as links are: elsewhere, talk"),
        "{told}"
    );
    let conf = world.read("halcyon-terrace/greenhouse.conf");
    world.write(
        "halcyon-terrace/greenhouse.conf",
        conf.replace("\nport = ", "\n# port = "),
    );
    assert_snapshot!("rehearsal_own_port", world.lantern(REHEARSE));
    world.write("halcyon-terrace/greenhouse.conf", conf);
    let start = world.read("halcyon-terrace/start.sh");
    let cd = format!("#!/bin/sh\ncd {} || exit 1\n", root.display());
    world.write(
        "halcyon-terrace/start.sh",
        start.replace("#!/bin/sh\n", &cd),
    );
    world.ok(PLAN);
    assert_snapshot!("rehearsal_own_path", world.lantern(REHEARSE));
    assert!(!world.path("halcyon-terrace/.lantern/rehearsal").exists());
}

#[test]
fn a_plan_that_no_longer_fits_is_not_rehearsed() {
    let world = World::running();
    world.ok(PLAN);
    fs::remove_file(world.path("halcyon-terrace/addons/glasswork-3.1.0.bloom")).unwrap();
    assert_snapshot!("rehearsal_changed", world.lantern(REHEARSE));
    assert!(
        !world
            .path("halcyon-terrace/.lantern/next.rehearsal.json")
            .exists()
    );
}

/// A rehearsal under way, on a copy that is slow to start.
fn under_way() -> (World, std::process::Child) {
    let world = World::running();
    add_slowness(&world);
    world.ok(PLAN);
    let lantern = world.begin(REHEARSE);
    let log = "halcyon-terrace/.lantern/rehearsal/halcyon-terrace/.lantern/console/output.log";
    world.wait("the copy starts", || {
        world.path(log).exists() && world.read(log).contains("Halcyon 5.4.0")
    });
    (world, lantern)
}

fn add_slowness(world: &World) {
    let conf = "halcyon-terrace/greenhouse.conf";
    world.write(conf, world.read(conf) + "slow_ms = 300\n");
}

#[test]
fn called_off_the_copy_goes_and_killed_the_next_one_clears_it_away() {
    let (world, mut lantern) = under_way();
    let before = (stamps(&world), live(&world));
    let pid = rustix::process::Pid::from_raw(lantern.id() as i32).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    assert_eq!(lantern.wait().unwrap().code(), Some(1));
    assert!(!world.path("halcyon-terrace/.lantern/rehearsal").exists());
    assert!(
        !world
            .path("halcyon-terrace/.lantern/next.rehearsal.json")
            .exists()
    );

    let mut lantern = world.begin(REHEARSE);
    let copy = "halcyon-terrace/.lantern/rehearsal/halcyon-terrace";
    let process = format!("{copy}/.lantern/console/process.json");
    world.wait("the copy starts again", || world.path(&process).exists());
    lantern.kill().unwrap();
    lantern.wait().unwrap();
    let state = world.lantern(&["console", "state", "--server", "halcyon-terrace"]);
    assert!(
        state.contains("is up, process PID, started by lantern"),
        "{state}"
    );
    let again = world.lantern(REHEARSE);
    assert!(again.contains("exit status 0"), "{again}");
    assert!(!world.path(copy).exists());
    assert!(before == (stamps(&world), live(&world)));
}

/// What a start script does to the copy is done to the copy.
#[test]
fn nothing_that_could_be_written_is_shared_with_the_live_server() {
    let world = World::running();
    let before = world.tree("halcyon-terrace");
    world.edit(
        "halcyon-terrace/start.sh",
        "exec sh",
        "for file in addons/*; do echo spoiled >> \"$file\"; done\nexec sh",
    );
    world.ok(PLAN);
    world.lantern(REHEARSE);
    let addons = |tree: &str| -> Vec<String> {
        let lines = tree.lines().filter(|line| line.starts_with("addons/"));
        lines.map(str::to_owned).collect()
    };
    assert_eq!(addons(&world.tree("halcyon-terrace")), addons(&before));
}
