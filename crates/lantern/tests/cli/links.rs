//! Worlds that lie elsewhere, and are linked into the server folder.

use crate::world::{CHANGEOVER, Disk, PLAN, UNDO, World, standin};
use insta::assert_snapshot;
use std::fs;
use std::io::Write;
use std::os::unix::fs::symlink;
use std::process::{Command, Stdio};

const STATE: &[&str] = &["console", "state", "--server", "halcyon-terrace"];
const DAYS: &str = "halcyon-terrace/worlds/orbit-garden/days";

fn backup(world: &World, args: &[&str]) -> String {
    world.lantern(&[&["backup"], args, &["--server", "halcyon-terrace"]].concat())
}

/// The demo's server with its worlds in another folder, before anybody has taken it into care.
fn linked(to: &str) -> World {
    let world = World::demo();
    link(&world, to);
    world
}

fn link(world: &World, to: &str) {
    let moved = Command::new("mv")
        .args([world.path("halcyon-terrace/worlds"), world.path(to)])
        .status();
    assert!(moved.unwrap().success());
    let target = format!("../{to}");
    symlink(target, world.path("halcyon-terrace/worlds")).unwrap();
}

fn without_warning(world: &World) {
    world.edit("halcyon-terrace/lantern.toml", "at = [\"10s\"]", "at = []");
}

#[test]
fn a_linked_world_is_backed_up_and_watched() {
    let world = linked("pasture");
    assert_snapshot!("adopt", world.lantern(&["adopt", "halcyon-terrace"]));
    without_warning(&world);
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    world.ok(PLAN);
    assert_snapshot!(
        "rehearsed",
        world.lantern(&["rehearse", "--server", "halcyon-terrace"])
    );
    world.ok(CHANGEOVER);
    world.write(DAYS, "9000\n");
    assert_snapshot!("used", world.lantern(UNDO));
    assert_snapshot!(
        "with_world",
        world.lantern(&[UNDO, &["--with-world"]].concat())
    );
    assert_eq!(world.read("pasture/orbit-garden/days"), "212\n");
    let worlds = world.path("halcyon-terrace/worlds");
    assert!(fs::symlink_metadata(worlds).unwrap().is_symlink());
}

#[test]
fn who_writes_to_a_linked_world_is_seen() {
    let world = linked("pasture");
    world.ok(&["adopt", "halcyon-terrace"]);
    let mut by_hand = Command::new(standin())
        .args(["halcyon", "--build", "5.1.0"])
        .current_dir(world.path("halcyon-terrace"))
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    world.wait("its lock is seen", || {
        world
            .lantern(STATE)
            .contains("worlds/orbit-garden/session.lock open for writing")
    });
    by_hand.stdin.take().unwrap().write_all(b"stop\n").unwrap();
    by_hand.wait().unwrap();
}

#[test]
fn a_world_on_another_disk() {
    let world = World::demo();
    let Some(_disk) = Disk::mount(&world, 16) else {
        return;
    };
    link(&world, "disk/worlds");
    world.ok(&["adopt", "halcyon-terrace"]);
    without_warning(&world);
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    world.ok(PLAN);
    world.ok(CHANGEOVER);
    assert_snapshot!(
        "on_another_disk",
        world.lantern(&[UNDO, &["--with-world"]].concat())
    );
    assert!(
        world.lantern(STATE).contains("is up"),
        "it was not stopped in vain"
    );
    world.ok(&[UNDO, &["--keep-world"]].concat());
    let name = fs::read_dir(world.path("halcyon-terrace/.lantern/store/backups"));
    let name = name.unwrap().next().unwrap().unwrap().path();
    let name = name.file_stem().unwrap().to_str().unwrap();
    backup(&world, &["restore", name, "worlds", "--to", "worlds-then"]);
    assert_eq!(world.read("worlds-then/worlds/orbit-garden/days"), "212\n");
}

#[test]
fn add_ons_on_another_disk_are_not_begun_with() {
    let world = World::demo();
    let Some(disk) = Disk::mount(&world, 16) else {
        return;
    };
    world.ok(&["adopt", "halcyon-terrace"]);
    let addons = world.path("halcyon-terrace/addons");
    let copied = Command::new("cp")
        .arg("-a")
        .arg(&addons)
        .arg(&disk.0)
        .status();
    assert!(copied.unwrap().success());
    let mounted = Command::new("mount")
        .arg("--bind")
        .args([disk.0.join("addons"), addons.clone()])
        .status();
    assert!(mounted.unwrap().success());
    world.ok(PLAN);
    let before = world.tree("halcyon-terrace");
    let told = world.lantern(CHANGEOVER);
    let after = world.tree("halcyon-terrace");
    let _ = Command::new("umount").arg("-l").arg(&addons).status();
    assert_eq!(before, after);
    assert_snapshot!("addons_on_another_disk", told);
}

#[test]
fn what_is_not_followed_is_said() {
    let world = World::demo();
    fs::rename(
        world.path("halcyon-terrace/barred.txt"),
        world.path("barred.txt"),
    )
    .unwrap();
    symlink("../barred.txt", world.path("halcyon-terrace/barred.txt")).unwrap();
    symlink("../..", world.path("halcyon-terrace/worlds/up")).unwrap();
    symlink("nowhere", world.path("halcyon-terrace/worlds/gone")).unwrap();
    symlink("../../depot", world.path("halcyon-terrace/addons/shared")).unwrap();
    assert_snapshot!(
        "adopt_odd_links",
        world.lantern(&["adopt", "halcyon-terrace"])
    );
    without_warning(&world);
    let made = backup(&world, &["make", "--kept"]);
    let made = made.lines().filter(|line| !line.contains("the store grew"));
    assert_snapshot!("backup_odd_links", made.collect::<Vec<_>>().join("\n"));
    world.ok(PLAN);
    assert_snapshot!("changeover_odd_links", world.lantern(CHANGEOVER));
}

/// Add-ons that lie elsewhere are looked at, exchanged and taken back like the rest.
#[test]
fn a_folder_of_addons_may_be_a_link() {
    let world = World::adopted();
    let server = "halcyon-terrace";
    let survey = &["survey", "--server", server];
    let found = world.ok(survey);
    std::fs::rename(
        world.path("halcyon-terrace/addons"),
        world.path("elsewhere"),
    )
    .unwrap();
    std::os::unix::fs::symlink("../elsewhere", world.path("halcyon-terrace/addons")).unwrap();
    assert_eq!(world.ok(survey), found);
    let addons = || {
        let names = std::fs::read_dir(world.path("elsewhere")).unwrap();
        let mut names: Vec<_> = names.map(|entry| entry.unwrap().file_name()).collect();
        names.sort();
        names
    };
    let before = addons();
    world.ok(crate::world::PLAN);
    world.ok(crate::world::CHANGEOVER);
    assert_ne!(addons(), before);
    world.ok(&["undo", "--keep-world", "--server", server]);
    assert_eq!(addons(), before);
    assert!(world.path("halcyon-terrace/addons").is_symlink());
    world.lantern(&["console", "stop", "--server", server]);
}
