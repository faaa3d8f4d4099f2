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
    world.edit(
        "triad-north/triad.ini",
        "4101;4117;4109;4230",
        "4101;4109;4117",
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

#[test]
fn what_was_changed_by_hand_is_kept_over_a_new_release() {
    let world = World::demo();
    world.edit(
        "triad-north/triad.ini",
        "4101;4117;4109;4230",
        "4101;4109;4117",
    );
    let limits = "triad-north/content/4101/limits.ini";
    let before = "# limits\r\nrows = 4\r\n\r\n[deep]\r\nroots = 2\r\nwet = yes\r\n";
    world.write(limits, before);
    world.ok(&["adopt", "triad-north"]);
    world.edit("triad-north/lantern.toml", "at = [\"10s\"]", "at = []");
    let mine = before.replace("rows = 4", "rows   = 9   # for the party");
    world.write(limits, &mine);
    let release = |version: &str, limits: &str| {
        let about = format!(
            "<about version=\"{version}\" made-for=\"&gt;=7\"><title>Fern Beds</title></about>\n"
        );
        world.zip(
            "suns-drop/4101.zip",
            &[("about.xml", &about), ("limits.ini", limits)],
        );
    };
    let plan = || {
        at(
            &world,
            &[
                "plan",
                "--to",
                "same",
                "--from",
                "suns-drop",
                "--prefer",
                "newest",
            ],
        )
    };
    // Its maker changed another place.
    release(
        "3.1",
        &before.replace("wet = yes", "wet = no\r\ndry = never"),
    );
    assert_snapshot!("settings_merged", plan());
    assert!(at(&world, &["changeover", "--yes"]).contains("exit status 0"));
    let both = mine.replace("wet = yes", "wet = no\r\ndry = never");
    assert_eq!(world.read(limits), both);
    assert!(at(&world, &["survey", "--edited"]).contains("content/4101/limits.ini"));
    // And once more, from what was shipped last.
    release(
        "3.2",
        &before.replace("wet = yes", "wet = no\r\ndry = always"),
    );
    assert!(plan().contains("limits.ini: 1 value of yours kept, 1 follows the release"));
    assert!(at(&world, &["changeover", "--yes"]).contains("exit status 0"));
    let twice = mine.replace("wet = yes", "wet = no\r\ndry = always");
    assert_eq!(world.read(limits), twice);
    at(&world, &["undo", "--yes"]);
    assert_eq!(world.read(limits), both);
    // Values in lines that meet.
    world.edit(limits, "roots = 2", "roots = 7");
    release(
        "3.3",
        &before.replace("wet = yes", "; at most\r\nwet = maybe"),
    );
    assert!(plan().contains("limits.ini: 2 values of yours kept, 1 follows the release, 1 gone"));
    assert!(at(&world, &["changeover", "--yes"]).contains("exit status 0"));
    let met = mine.replace("roots = 2", "roots = 7");
    let met = met.replace("wet = yes", "; at most\r\nwet = maybe");
    assert_eq!(world.read(limits), met);
    // The same value: yours stays, unless something else is decided.
    release("3.4", &before.replace("rows = 4", "rows = 5"));
    assert_snapshot!("settings_clash", plan());
    let drawn = world.read("triad-north/.lantern/next.plan.json");
    let drawn: serde_json::Value = serde_json::from_str(&drawn).unwrap();
    let id = drawn["merges"][0]["questions"][0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let decide = |answer: &str| at(&world, &["settings", "decide", &id[..6], answer]);
    assert!(decide("7").contains("decided: 7"));
    assert!(decide("theirs").contains("decided: as it is shipped"));
    assert_snapshot!(
        "settings_decided",
        at(&world, &["settings", "decided"]).replace(&id, "ID")
    );
    assert!(at(&world, &["changeover", "--yes"]).contains("exit status 0"));
    assert_eq!(
        world.read(limits),
        met.replace("rows   = 9   # for the party", "rows   = 5")
            .replace("wet = maybe", "wet = yes")
            .replace("; at most\r\n", "")
    );
    // The same question is answered as it was before.
    at(&world, &["undo", "--yes"]);
    assert!(plan().contains("decided: as it is shipped"));
    assert!(at(&world, &["settings", "forget", &id]).contains("asked again"));
    assert!(at(&world, &["plan", "--again"]).contains("yours stays, unless you decide otherwise"));
    assert!(at(&world, &["plan", "--again", "--theirs"]).contains("decided: as it is shipped"));
    assert!(
        at(&world, &["settings", "decide", "0000000", "mine"])
            .contains("is no question of the armed plan; it has")
    );
}
