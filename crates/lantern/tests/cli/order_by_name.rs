//! Servers that take add-ons in the order of their names: a changeover renames as few as can be.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;
use std::fs;

const ORDER: &str = r#"
[order]
kind = "names"
file = "shrubs/*"
line = '^(?P<at>\d+)-(?P<name>.+)$'
write = "{at}-{name}"
"#;

fn numbered() -> World {
    let world = World::empty();
    let more = [ORDER, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(hedge::FOLDERS, &more));
    world.write("hedge/hedge.sh", hedge::SERVER);
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
    hedge::adopt(&world);
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
    let world = numbered();
    world.ok(&["console", "start", "--server", "hedge"]);
    let before = world.tree("hedge");
    assert_snapshot!(
        "names_survey",
        world.lantern(&["survey", "--server", "hedge"])
    );
    assert_snapshot!("names_plan", world.lantern(PLAN));
    assert_snapshot!(
        "names_changeover",
        world.lantern(&["changeover", "--yes", "--server", "hedge"])
    );
    let tree = world.tree("hedge");
    let shrubs = tree.lines().filter(|line| line.starts_with("shrubs/"));
    assert_snapshot!("names_tree", shrubs.collect::<Vec<_>>().join("\n"));
    assert_snapshot!(
        "names_survey_after",
        world.lantern(&["survey", "--server", "hedge"])
    );
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    assert_eq!(world.tree("hedge"), before);
    world.ok(&["console", "stop", "--server", "hedge"]);
}

#[test]
fn a_folder_that_holds_something_kept_is_not_renamed() {
    let world = numbered();
    world.write("hedge/shrubs/30-holly/kept/count.db", "7");
    let before = names(&world);
    assert_snapshot!("names_kept", world.lantern(PLAN));
    assert_eq!(names(&world), before);
}
