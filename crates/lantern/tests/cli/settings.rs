//! Settings files by key: shown, and set through a plan.

use crate::world::World;
use insta::assert_snapshot;

fn at(world: &World, words: &[&str]) -> String {
    world.lantern(&[words, &["--server", "triad-north"]].concat())
}

/// The triad with settings that hold a secret, in care.
fn north() -> World {
    let world = World::demo();
    world.write(
        "triad-north/gate.toml",
        "# who may come in\r\n[gate]\r\nseats = 24   # at most\r\npassword = \"fern\"\r\n",
    );
    world.ok(&["adopt", "triad-north"]);
    world.edit("triad-north/lantern.toml", "at = [\"10s\"]", "at = []");
    world
}

#[test]
fn a_value_is_set_and_all_else_stays() {
    let world = north();
    assert_snapshot!(
        "settings_show",
        at(&world, &["settings", "show", "gate.toml"])
    );
    assert_snapshot!(
        "settings_set",
        at(
            &world,
            &["settings", "set", "gate.toml", "gate.seats", "30"]
        )
    );
    at(&world, &["changeover", "--yes"]);
    let set = "# who may come in\r\n[gate]\r\nseats = 30   # at most\r\npassword = \"fern\"\r\n";
    assert_eq!(world.read("triad-north/gate.toml"), set);
    let again = at(
        &world,
        &["settings", "set", "gate.toml", "gate.seats", "30"],
    );
    assert!(
        again.contains("gate.toml says so already: gate.seats is 30."),
        "{again}"
    );
    // Negative numbers and new keys; and the way back.
    at(
        &world,
        &["settings", "set", "gate.toml", "gate.depth", "-3"],
    );
    at(&world, &["changeover", "--yes"]);
    assert!(
        world
            .read("triad-north/gate.toml")
            .ends_with("\r\ndepth = -3\r\n")
    );
    at(&world, &["undo", "--yes"]);
    assert_eq!(world.read("triad-north/gate.toml"), set);
}

#[test]
fn what_cannot_be_set_is_told_and_nothing_changes() {
    let world = north();
    world.write("triad-north/torn.json", "{ \"a\": \n");
    let told = |words: &[&str]| {
        let told = at(&world, &[&["settings"], words].concat());
        let (_, error) = told.split_once("error: ").unwrap_or(("", &told));
        error.trim().to_owned()
    };
    let faults = [
        told(&["set", "gate.toml", "gate.password", "moss"]),
        told(&["set", "gate.toml", "gate.seats.x", "1"]),
        told(&["show", "torn.json"]),
        told(&["show", "start.sh"]),
        told(&["show", "nothing.toml"]),
        told(&["set", "saved/north.world", "a", "1"]),
        told(&["show", "../gate.toml"]),
    ];
    assert_snapshot!("settings_faults", faults.join("\n\n"));
}
