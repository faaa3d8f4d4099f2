//! A copy of a server's folder has all of its records, and is another server.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;
use std::os::unix::process::CommandExt;
use std::process::Command;

/// A server that stops by a signal, so that who stops a process by its number stops it.
const CONSOLE: &str = r#"
[console]
ready = '^hedge: open'
hold_ms = 200
stop = { signal = "TERM" }
"#;

/// Has its garden open as long as it is up.
const SERVER: &str = "exec 3>>garden/beds.dat\necho 'hedge: open'\nexec sleep 600\n";

fn running() -> World {
    let world = World::empty();
    world.write("hedge.family.toml", hedge::family(hedge::ARCHIVES, CONSOLE));
    world.write("hedge/hedge.sh", SERVER);
    world.write("hedge/garden/beds.dat", "beds");
    world.zip(
        "drop/ivy.zip",
        &[("shrub.toml", "id = 'ivy'\nversion = '2.0'\n")],
    );
    hedge::adopt(&world);
    world.ok(&["console", "start", "--server", "hedge"]);
    world
}

const PLAN: &[&str] = &["plan", "--to", "1.0", "--from", "drop", "--server"];

#[test]
fn a_copy_never_touches_its_original() {
    let world = running();
    world.ok(&[PLAN, &["hedge"]].concat());
    world.copy("hedge", "copy");
    assert_snapshot!(
        "copy_refused",
        world.lantern(&["console", "stop", "--server", "copy"])
    );
    world.lantern(&["changeover", "--yes", "--server", "copy"]);
    assert_snapshot!(
        "copy_not_moved",
        world.lantern(&["adopt", "copy", "--moved"])
    );
    assert_snapshot!("copy_settled", world.lantern(&["adopt", "copy", "--copy"]));
    assert_snapshot!(
        "copy_state",
        world.lantern(&["console", "state", "--server", "copy"])
    );
    assert_snapshot!(
        "copy_plan",
        world.lantern(&["changeover", "--yes", "--server", "copy"])
    );
    // It is started, changed over and stopped by itself, and the original stays up.
    world.ok(&["console", "start", "--server", "copy"]);
    world.ok(&[PLAN, &["copy"]].concat());
    world.ok(&["changeover", "--yes", "--server", "copy"]);
    world.ok(&["console", "stop", "--server", "copy"]);
    world.ok(&["console", "state", "--server", "hedge"]);
    assert_snapshot!("copy_twice", world.lantern(&["adopt", "copy", "--copy"]));
    world.ok(&["console", "stop", "--server", "hedge"]);
}

#[test]
fn a_folder_that_only_got_another_name_stays_the_same_server() {
    let world = running();
    std::fs::rename(world.path("hedge"), world.path("elsewhere")).unwrap();
    assert_snapshot!(
        "moved_state",
        world.lantern(&["console", "state", "--server", "elsewhere"])
    );
    // Its own copy took its old place: that one has to be asked about.
    world.copy("elsewhere", "hedge");
    assert_snapshot!(
        "moved_and_copied",
        world.lantern(&["survey", "--server", "hedge"])
    );
    world.ok(&["console", "stop", "--server", "elsewhere"]);
}

#[test]
fn a_folder_that_was_brought_elsewhere_keeps_its_way_back() {
    let world = running();
    world.ok(&[PLAN, &["hedge"]].concat());
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    world.ok(&["console", "stop", "--server", "hedge"]);
    world.copy("hedge", "elsewhere");
    std::fs::remove_dir_all(world.path("hedge")).unwrap();
    assert_snapshot!(
        "elsewhere_refused",
        world.lantern(&["survey", "--server", "elsewhere"])
    );
    assert_snapshot!(
        "elsewhere_settled",
        world.lantern(&["adopt", "elsewhere", "--moved"])
    );
    world.ok(&["undo", "--server", "elsewhere"]);
    assert!(!world.path("elsewhere/shrubs/ivy.zip").exists());
}

#[test]
fn copies_thin_their_own_backups_alone() {
    let world = running();
    std::fs::create_dir(world.path("store")).unwrap();
    let text = world.read("hedge/lantern.toml");
    world.write(
        "hedge/lantern.toml",
        format!("{text}\n[backup]\nstore = \"../store\"\n"),
    );
    world.ok(&["backup", "make", "--server", "hedge"]);
    world.copy("hedge", "copy");
    world.ok(&["adopt", "copy", "--copy"]);
    world.ok(&["backup", "make", "--server", "copy"]);
    world.ok(&["backup", "make", "--server", "copy"]);
    world.ok(&["backup", "thin", "--keep", "1", "--yes", "--server", "copy"]);
    let kept = world.ok(&["backup", "check", "--server", "hedge"]);
    assert!(kept.contains("1 backup"), "{kept}");
    world.ok(&["console", "stop", "--server", "hedge"]);
}

#[test]
fn a_second_server_on_the_same_world_is_seen_before_anything_is_stopped() {
    let world = running();
    world.ok(&[PLAN, &["hedge"]].concat());
    let second = Command::new("sh")
        .args(["-c", "exec 3>>garden/beds.dat; exec sleep 600"])
        .current_dir(world.path("hedge"))
        .process_group(0)
        .spawn();
    let mut second = second.unwrap();
    let hedge = |args: &[&str]| world.lantern(&[args, &["--server", "hedge"]].concat());
    world.wait("it is seen", || {
        hedge(&["console", "state"]).contains("something else")
    });
    assert_snapshot!("second_state", hedge(&["console", "state"]));
    assert_snapshot!("second_verify", hedge(&["verify"]));
    assert_snapshot!("second_changeover", hedge(&["changeover", "--yes"]));
    for args in [
        &["console", "stop", "--kill"][..],
        &["rehearse"],
        &["backup", "restore", "x", "--in-place"],
    ] {
        let told = hedge(args);
        assert!(told.contains("exit status 1"), "{told}");
    }
    second.kill().unwrap();
    second.wait().unwrap();
    assert!(hedge(&["console", "state"]).contains("exit status 0"));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    world.ok(&["console", "stop", "--server", "hedge"]);
}
