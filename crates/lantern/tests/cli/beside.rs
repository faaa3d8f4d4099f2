//! Add-ons of several files that lie side by side, called alike: one is the add-on, and the others belong to it.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;

const LEAVES: &str = r#"
[[reader]]
name = "leaf"
kind = "addon"
shape = "file"
at = "leaves/*.leaf"
install = "leaves/{id}.leaf"
with = ["{stem}.veins", "../texts/{stem}.txt", "../texts/{stem}"]
off = "fallen/{name}"
drop = "*.zip"
inside = "**/*.leaf"
unused = ["README"]
files = [{ name = "{stem}.about", notation = "toml" }]
fields = { version = "version", needs = "needs", side = { value = "server" } }
"#;

/// Starts the leaves that have veins.
const SERVER: &str = "for veins in leaves/*.veins; do name=${veins%.veins}\n\
                      [ -f \"$name.leaf\" ] && echo \"hedge: ${name##*/}\"; done\n\
                      echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

fn about(version: &str, needs: &str) -> String {
    format!("version = '{version}'\nneeds = [{needs}]\n")
}

fn leaves() -> World {
    let world = World::empty();
    let family = hedge::family_of(LEAVES, hedge::CONSOLE);
    world.write("hedge.family.toml", family);
    world.write("hedge/hedge.sh", SERVER);
    for (id, needs) in [("oak", ""), ("elm", "'oak'")] {
        world.write(&format!("hedge/leaves/{id}.leaf"), format!("{id} 1"));
        world.write(
            &format!("hedge/leaves/{id}.veins"),
            format!("veins of {id} 1"),
        );
        world.write(&format!("hedge/leaves/{id}.about"), about("1.0", needs));
    }
    world.write("hedge/texts/oak.txt", "on oak 1");
    world.write("hedge/texts/elm/shade.txt", "on elm 1");
    hedge::adopt(&world);
    world.zip(
        "drop/oak.zip",
        &[
            ("oak/README", "three files"),
            ("oak/oak.leaf", "oak 2"),
            ("oak/oak.veins", "veins of oak 2"),
            ("oak/oak.about", &about("2.0", "")),
            ("texts/oak.txt", "on oak 2"),
            ("texts/oak/bark.txt", "on bark"),
        ],
    );
    world.zip(
        "drop/two.zip",
        &[
            ("ash.about", &about("1.1", "'oak'")),
            ("ash.leaf", "ash 1"),
            ("ash.veins", "veins of ash 1"),
            ("fig.leaf", "fig 1"),
            ("fig.veins", "veins of fig 1"),
        ],
    );
    world
}

fn plan(world: &World, more: &[&str]) -> String {
    world.lantern(&[&["plan", "--to", "same", "--server", "hedge"], more].concat())
}

#[test]
fn what_lies_beside_comes_and_goes_along() {
    let world = leaves();
    let before = world.tree("hedge");
    assert_snapshot!(
        "beside_check",
        world.lantern(&[
            "family",
            "check",
            "hedge.family.toml",
            "--release",
            "drop/two.zip"
        ])
    );
    let from = ["--from", "drop", "--add", "ash", "--add", "fig"];
    assert_snapshot!("beside_plan", plan(&world, &from));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_snapshot!(
        "beside_survey",
        world.lantern(&["survey", "--server", "hedge"])
    );
    // Nothing more is to be done, though what has no version is known by its content alone.
    assert_snapshot!("beside_again", plan(&world, &from[..2]));
    let off = ["--off", "elm", "--drop", "fig"];
    assert_snapshot!("beside_off", plan(&world, &off));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    let tree = world.tree("hedge");
    let leaves = tree.lines().filter(|line| line.contains('/'));
    assert_snapshot!("beside_tree", leaves.collect::<Vec<_>>().join("\n"));
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    assert_eq!(world.tree("hedge"), before);
}

/// A program whose version stands in a file beside it, among all else that is right in the folder.
const PROGRAM: &str = r#"
[[reader]]
name = "program"
kind = "build"
shape = "file"
at = "hedge.sh"
install = "hedge.sh"
drop = "hedge-*.zip"
inside = "**/hedge.sh"
files = [{ name = ["VERSION.txt", "VERSION"], notation = "lines" }]
fields = { id = { value = "hedge" }, version = "lines", side = { value = "server" } }
"#;

#[test]
fn a_program_is_of_the_version_that_stands_beside_it() {
    let world = World::empty();
    let family = hedge::family_of(PROGRAM, hedge::CONSOLE);
    let family = family.replace(", outside = true", "");
    world.write("hedge.family.toml", &family);
    world.write("hedge/hedge.sh", SERVER);
    world.write("hedge/VERSION", "1.0\n");
    // What is stated does not count where the folder tells another.
    let family_file = ["--family", "hedge.family.toml"];
    let adopt = ["adopt", "hedge", "--server-version", "0.9"];
    assert_snapshot!(
        "beside_program_adopt",
        world.lantern(&[&adopt[..], &family_file].concat())
    );
    let survey = ["survey", "--server", "hedge"];
    assert_snapshot!("beside_program_survey", world.lantern(&survey));
    let release = [
        ("hedge-1.1/hedge.sh", SERVER),
        ("hedge-1.1/VERSION", "1.1\n"),
    ];
    world.zip("drop/hedge-1.1.zip", &release);
    let plan = ["plan", "--to", "1.1", "--server", "hedge", "--from", "drop"];
    assert_snapshot!("beside_program_plan", world.lantern(&plan));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/VERSION"), "1.1\n");
    // Where nothing tells, it counts.
    world.write(
        "plain.family.toml",
        family.replace("\"lines\", side", "\"title\", side"),
    );
    world.write("plain/hedge.sh", SERVER);
    let family = ["--family", "plain.family.toml"];
    let adopt = [&["adopt", "plain"][..], &family].concat();
    world.ok(&[&adopt[..], &["--server-version", "1.0"]].concat());
    assert_snapshot!(
        "beside_program_stated",
        world.lantern(&["survey", "--server", "plain"])
    );
    world.write("lost/hedge.sh", SERVER);
    world.ok(&[&["adopt", "lost"][..], &family].concat());
    assert_snapshot!(
        "beside_program_unknown",
        world.lantern(&["survey", "--server", "lost"])
    );
}
