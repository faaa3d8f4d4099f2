//! Somebody meddles between the moment when something is looked at and the moment when it is exchanged.

use crate::world::World;
use insta::assert_snapshot;
use std::fs;

const SERVER: &str = "halcyon-terrace";
const CHANGEOVER: &[&str] = &["changeover", "--yes", "--server", SERVER];

/// A server that is up, with a plan of which players are warned for a while: time to meddle in.
fn planned() -> World {
    let world = World::running();
    world.edit("halcyon-terrace/lantern.toml", "at = []", "at = [\"2s\"]");
    world.ok(&[
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        "depot/verdance.catalogue.json",
        "--server",
        SERVER,
    ]);
    world
}

/// Carries the plan out, and meddles when all is staged and players are being told.
fn changeover_while(world: &World, meddle: impl FnOnce()) -> String {
    let began = world.begin(CHANGEOVER);
    let printed = "halcyon-terrace/.lantern/console/output.log";
    world.wait("players are told", || {
        world
            .read(printed)
            .contains("to all: The server restarts in")
    });
    meddle();
    let output = began.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    format!(
        "exit status {}\n{}",
        output.status.code().unwrap_or(-1),
        world.comparable(&told)
    )
}

/// The lines that say what went wrong.
fn said(told: &str) -> String {
    let lines = told.lines();
    lines
        .skip_while(|line| !line.starts_with("error"))
        .collect::<Vec<_>>()
        .join("\n")
}

fn staged(world: &World, path: &str) -> std::path::PathBuf {
    world.path(&format!("halcyon-terrace/.lantern/staging/0001/{path}"))
}

/// The tree without what a running server writes.
fn still(world: &World) -> String {
    let tree = world.tree(SERVER);
    let lines = tree.lines().filter(|line| !line.starts_with("worlds/"));
    lines.collect::<Vec<_>>().join("\n")
}

#[test]
fn what_is_staged_is_looked_at_again_once_the_server_is_down() {
    for (name, meddle) in [
        (
            "gone",
            (|path| fs::remove_file(path).unwrap()) as fn(std::path::PathBuf),
        ),
        ("cut", |path| fs::write(path, "PK").unwrap()),
        ("link", |path: std::path::PathBuf| {
            fs::remove_file(&path).unwrap();
            std::os::unix::fs::symlink("/etc/hostname", &path).unwrap();
        }),
    ] {
        let world = planned();
        let before = still(&world);
        let told = changeover_while(&world, || {
            meddle(staged(&world, "addons/drip-lines-2.5.0.bloom"))
        });
        assert!(told.starts_with("exit status 1"), "{told}");
        assert_snapshot!(format!("staged_{name}"), said(&told));
        assert_eq!(still(&world), before, "{name}");
        assert!(
            world
                .lantern(&["verify", "--server", SERVER])
                .contains("exit status 0")
        );
    }
}

#[test]
fn what_the_administrator_writes_meanwhile_is_not_reverted() {
    let world = planned();
    // One that stays as it is but for a line, which is not the one that is edited.
    let told = changeover_while(&world, || {
        let text = world.read("halcyon-terrace/start.sh");
        world.write("halcyon-terrace/start.sh", format!("# mine\n{text}"));
    });
    assert!(told.starts_with("exit status 0"), "{told}");
    let told: Vec<&str> = told.lines().filter(|line| line.contains("swap")).collect();
    assert_snapshot!("edited_anew", told.join("\n"));
    let script = world.read("halcyon-terrace/start.sh");
    assert!(
        script.starts_with("# mine\n") && script.contains("--lattice 2."),
        "{script}"
    );
    world.ok(&["undo", "--keep-world", "--server", SERVER]);
    let script = world.read("halcyon-terrace/start.sh");
    assert!(
        script.starts_with("# mine\n") && script.contains("--lattice 1.8.0"),
        "{script}"
    );

    // One whose very line is edited.
    let world = planned();
    let told = changeover_while(&world, || {
        world.edit(
            "halcyon-terrace/start.sh",
            "--lattice 1.8.0",
            "--lattice 1.8.0 # mine",
        );
    });
    assert!(told.starts_with("exit status 1"), "{told}");
    assert_snapshot!("edited_line", said(&told));
    assert!(
        world
            .read("halcyon-terrace/start.sh")
            .contains("--lattice 1.8.0 # mine")
    );
    world.ok(&["console", "state", "--server", SERVER]);
}

#[test]
fn links_in_lanterns_own_room_are_refused_before_anything_is_stopped() {
    for own in [".lantern/staging", ".lantern/set-aside"] {
        let world = planned();
        fs::create_dir(world.path("elsewhere")).unwrap();
        let place = world.path(&format!("halcyon-terrace/{own}"));
        let _ = fs::remove_dir_all(&place);
        std::os::unix::fs::symlink(world.path("elsewhere"), &place).unwrap();
        let told = world.lantern(CHANGEOVER);
        assert_snapshot!(
            format!("link_at_{}", own.rsplit('/').next().unwrap()),
            said(&told)
        );
        assert!(told.contains("exit status 1"), "{told}");
        assert!(
            fs::read_dir(world.path("elsewhere"))
                .unwrap()
                .next()
                .is_none()
        );
        assert!(
            world
                .read("halcyon-terrace/.lantern/console/output.log")
                .lines()
                .all(|line| !line.contains("closing"))
        );
        world.ok(&["console", "state", "--server", SERVER]);
    }
}

#[test]
fn plans_that_do_not_add_up_are_refused_before_anything_is_stopped() {
    let world = planned();
    let path = "halcyon-terrace/.lantern/next.plan.json";
    let text = world.read(path);
    let plan = || serde_json::from_str::<serde_json::Value>(&text).unwrap();
    let told = |name: &str, plan: serde_json::Value| {
        world.write(path, serde_json::to_string_pretty(&plan).unwrap());
        let told = world.lantern(CHANGEOVER);
        assert!(told.contains("exit status 1"), "{told}");
        assert_snapshot!(name, said(&told));
    };
    let mut no_edits = plan();
    no_edits["edits"] = serde_json::json!([]);
    told("plan_no_edits", no_edits);
    let mut twice = plan();
    let actions = twice["actions"].as_array_mut().unwrap();
    let from_archive = |action: &&mut serde_json::Value| action["source"]["entry"].is_string();
    let mut from = actions.iter_mut().filter(from_archive);
    let source = from.next().unwrap()["source"].clone();
    from.next().unwrap()["source"] = source;
    told("plan_one_entry_twice", twice);
    for (name, own) in [
        ("toml", "lantern.toml"),
        ("room", ".lantern/store/backups/0001.json"),
    ] {
        let mut into = plan();
        let actions = into["actions"].as_array_mut().unwrap();
        let mut placed = actions
            .iter_mut()
            .filter(|action| action["what"] == "place");
        placed.next().unwrap()["path"] = own.into();
        told(&format!("plan_into_{name}"), into);
    }
    world.ok(&["console", "state", "--server", SERVER]);
}
