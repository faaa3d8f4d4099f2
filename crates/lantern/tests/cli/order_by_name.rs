//! Servers that take add-ons in the order of their names: a changeover renames as few as can be.

use crate::world::World;
use insta::assert_snapshot;
use std::fs;

const FAMILY: &str = r#"
format = 1
name = "hedge"
title = "Hedge server"
marks = ["hedge.sh"]
build = { id = "hedge", outside = true }

[layout]
keep = ["garden/**", "shrubs/*/kept/**"]

[[reader]]
name = "shrub"
kind = "addon"
shape = "folder"
at = "shrubs/*"
install = "shrubs/{id}"
drop = "*.zip"
files = [{ name = "shrub.toml", notation = "toml" }]
fields = { id = "id", version = "version", needs = "needs", side = { value = "server" } }

[order]
kind = "names"
file = "shrubs/*"
line = '^(?P<at>\d+)-(?P<name>.+)$'
write = "{at}-{name}"

[launch]
command = ["sh", "hedge.sh"]

[console]
ready = '^hedge: open'
loaded = '^hedge: (?P<id>[a-z]+)$'
stop = { command = "close" }
"#;

/// Starts its shrubs by name, and stops when it is told to.
const SERVER: &str = "for shrub in shrubs/*/; do name=${shrub%/}; echo \"hedge: ${name##*[-/]}\"; done\n\
                      echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

fn hedge() -> World {
    let world = World::empty();
    world.write("hedge.family.toml", FAMILY);
    world.write("hedge/hedge.sh", SERVER);
    world.write("hedge/garden/beds.dat", "beds");
    for (folder, id, needs) in [
        ("10-box", "box", ""),
        ("20-yew", "yew", "needs = { box = '*' }\n"),
        ("30-holly", "holly", ""),
    ] {
        let text = format!("id = '{id}'\nversion = '1.0'\n{needs}");
        world.write(&format!("hedge/shrubs/{folder}/shrub.toml"), text);
        world.write(&format!("hedge/shrubs/{folder}/leaves/{id}.txt"), id);
    }
    world.ok(&[
        "adopt",
        "hedge",
        "--family",
        "hedge.family.toml",
        "--server-version",
        "1.0",
    ]);
    // The administrator's own, and one that he edited: they go along with the name.
    world.write("hedge/shrubs/30-holly/mine.txt", "my own\n");
    world.write("hedge/shrubs/30-holly/leaves/holly.txt", "my holly\n");
    // It now needs what is started after it; and something new comes.
    let box_toml = "id = 'box'\nversion = '1.1'\nneeds = { holly = '*' }\n";
    world.zip(
        "drop/box.zip",
        &[
            ("box/shrub.toml", box_toml),
            ("box/leaves/box.txt", "box 1.1"),
        ],
    );
    let ivy = "id = 'ivy'\nversion = '2.0'\nneeds = { box = '*' }\n";
    world.zip("drop/ivy.zip", &[("ivy/shrub.toml", ivy)]);
    world
}

const PLAN: &[&str] = &["plan", "--to", "1.0", "--from", "drop", "--server", "hedge"];

fn names(world: &World) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(world.path("hedge/shrubs"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    names.sort();
    names
}

#[test]
fn as_few_as_can_be_are_renamed_and_undo_gives_all_back() {
    let world = hedge();
    world.ok(&["console", "start", "--server", "hedge"]);
    let before = world.tree("hedge");
    assert_snapshot!(
        "names_survey",
        world.lantern(&["survey", "--server", "hedge"])
    );
    assert_snapshot!("names_plan", world.lantern(PLAN));
    assert_snapshot!(
        "names_changeover",
        world.lantern(&["changeover", "--server", "hedge"])
    );
    let tree = world.tree("hedge");
    let shrubs = tree.lines().filter(|line| line.starts_with("shrubs/"));
    assert_snapshot!("names_tree", shrubs.collect::<Vec<_>>().join("\n"));
    assert_snapshot!(
        "names_survey_after",
        world.lantern(&["survey", "--server", "hedge"])
    );
    world.ok(&["undo", "--server", "hedge"]);
    assert_eq!(world.tree("hedge"), before);
    world.ok(&["console", "stop", "--server", "hedge"]);
}

#[test]
fn a_folder_that_holds_something_kept_is_not_renamed() {
    let world = hedge();
    world.write("hedge/shrubs/30-holly/kept/count.db", "7");
    let before = names(&world);
    assert_snapshot!("names_kept", world.lantern(PLAN));
    assert_eq!(names(&world), before);
}
