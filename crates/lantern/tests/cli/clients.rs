//! Players: who may join, now and with a plan.

use crate::world::World;
use insta::assert_snapshot;

const LOOKOUT: &[&str] = &["--server", "halcyon-lookout"];
const CATALOGUE: &[&str] = &[
    "--catalogue",
    "depot/lookout.catalogue.json",
    "--server",
    "halcyon-lookout",
];

fn lookout() -> World {
    let world = World::demo();
    world.ok(&["adopt", "halcyon-lookout"]);
    world
}

#[test]
fn who_may_join_now_and_with_a_plan() {
    let world = lookout();
    let who = |more: &[&str]| world.lantern(&[&["client", "who"], more, LOOKOUT].concat());
    let plan = |more: &[&str]| world.lantern(&[&["plan", "--to", "5.4"], more, CATALOGUE].concat());
    assert_snapshot!("who_now", who(&[]));
    assert_snapshot!("who_planned_without_a_plan", who(&["--plan"]));
    assert_snapshot!("plan_tells_players", plan(&[]));
    assert_snapshot!("who_planned", who(&["--plan"]));
    let json = world.ok(&[&["client", "who", "--plan", "--json"], LOOKOUT].concat());
    let json: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_snapshot!("who_planned_json", json["kinds"].to_string());
    assert_snapshot!("plan_lets_in", plan(&["--admit", "visor=3.6"]));
    assert_snapshot!("plan_cannot_let_in", plan(&["--admit", "visor=3.7"]));
    assert_snapshot!("plan_lets_in_unknown_kind", plan(&["--admit", "vizor=3.6"]));
    assert_snapshot!("plan_lets_in_no_version", plan(&["--admit", "visor"]));
}

#[test]
fn a_family_and_releases_that_say_nothing_of_clients() {
    let world = World::demo();
    world.ok(&["adopt", "tramway-loop"]);
    assert_snapshot!(
        "who_nobody_said",
        world.lantern(&["client", "who", "--server", "tramway-loop"])
    );
}

#[test]
fn players_are_watched_for() {
    let world = lookout();
    assert_snapshot!(
        "outlook_with_clients",
        world.lantern(&[&["outlook"], CATALOGUE].concat())
    );
    let watch = |players: &str| {
        world.lantern(&[&["outlook", "--watch-for-client", players], CATALOGUE].concat())
    };
    let told = ["visor=3.5", "visor=3.6", "visor=3.7", "kite=1"].map(watch);
    assert_snapshot!("watch_for_client", told.join("\n"));
}

#[test]
fn a_server_that_says_another_version_goes_back() {
    let world = lookout();
    world.ok(&["console", "start", "--server", "halcyon-lookout"]);
    world.ok(&[&["plan", "--to", "5.4"], CATALOGUE].concat());
    // Another program than the one in the folder is started.
    let start = world.read("halcyon-lookout/start.sh");
    let pinned = start.replace(
        "exec sh server/halcyon",
        "sed -i 's/--build 5.4.0/--build 5.4.9/' server/halcyon\nexec sh server/halcyon",
    );
    world.write("halcyon-lookout/start.sh", &pinned);
    world.ok(&[&["plan", "--to", "5.4"], CATALOGUE].concat());
    assert_snapshot!(
        "changeover_of_another_version",
        world.lantern(&["changeover", "--yes", "--server", "halcyon-lookout"])
    );
}
