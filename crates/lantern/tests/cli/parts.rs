//! Files of releases that lie outside their component's own place: moved there, or copied.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;
use std::fs;

/// Each shrub brings seals, of which the server wants copies in a folder for all.
pub const SEALS: &str = "parts = [{ from = 'seals', to = 'seals', copy = true }]\n";

const SERVER: &str = "for shrub in shrubs/*/; do name=${shrub%/}; name=${name##*/}\n\
                      for seal in shrubs/$name/seals/*; do cmp -s $seal seals/${seal##*/} || exit 3; done\n\
                      echo \"hedge: $name\"; done\n\
                      echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

pub fn world(parts: &str, shrubs: &[(&str, &str)]) -> World {
    let world = World::empty();
    let shrub = [hedge::FOLDERS, parts].concat();
    world.write("hedge.family.toml", hedge::family(&shrub, hedge::CONSOLE));
    world.write("hedge/hedge.sh", SERVER);
    for (path, text) in shrubs {
        world.write(&format!("hedge/{path}"), text);
    }
    world
}

fn names(world: &World) -> Vec<String> {
    let all = fs::read_dir(world.path("hedge/seals")).unwrap();
    let names = all.map(|file| file.unwrap().file_name().into_string().unwrap());
    let mut names: Vec<String> = names.collect();
    names.sort();
    names
}

fn plan(world: &World, more: &[&str]) -> String {
    let plan = [
        "plan", "--to", "same", "--from", "drop", "--server", "hedge",
    ];
    world.lantern(&[&plan[..], more].concat())
}

#[test]
fn copies_go_with_what_they_are_copies_of() {
    let seals = [
        ("shrubs/box/shrub.toml", "id = 'box'\nversion = '1.0'\n"),
        ("shrubs/box/seals/box", "box 1\n"),
        ("shrubs/box/seals/maker", "of both\n"),
        ("shrubs/yew/shrub.toml", "id = 'yew'\nversion = '1.0'\n"),
        ("shrubs/yew/seals/maker", "of both\n"),
        ("seals/box", "box 1\n"),
        ("seals/maker", "of both\n"),
        ("seals/stray", "of nobody\n"),
    ];
    let world = world(SEALS, &seals);
    hedge::adopt(&world);
    world.ok(&["console", "start", "--server", "hedge"]);
    assert_snapshot!(
        "copies_survey",
        world.lantern(&["survey", "--server", "hedge"])
    );
    // Another seal, and the one that both had no longer.
    let box_2 = [
        ("box/shrub.toml", "id = 'box'\nversion = '1.1'\n"),
        ("box/seals/box-2", "box 2\n"),
    ];
    let ivy = [
        ("ivy/shrub.toml", "id = 'ivy'\nversion = '1.0'\n"),
        ("ivy/seals/maker", "of both\n"),
    ];
    world.zip("drop/box.zip", &box_2);
    world.zip("drop/ivy.zip", &ivy);
    assert_snapshot!("copies", plan(&world, &["--add", "ivy"]));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(names(&world), ["box-2", "maker", "stray"]);
    assert_snapshot!(
        "copies_after",
        world.lantern(&["survey", "--server", "hedge"])
    );
    // The last of those whose it was takes it along.
    world.ok(&["plan", "--to", "same", "--drop", "yew", "--server", "hedge"]);
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(names(&world), ["box-2", "maker", "stray"]);
    world.ok(&["plan", "--to", "same", "--drop", "ivy", "--server", "hedge"]);
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(names(&world), ["box-2", "stray"]);
    world.ok(&["undo", "--keep-world", "--yes", "--server", "hedge"]);
    assert_eq!(names(&world), ["box-2", "maker", "stray"]);
    world.ok(&["console", "stop", "--server", "hedge"]);
}

#[test]
fn what_was_put_elsewhere_before_is_learned_from_the_download() {
    let moved = "parts = [{ from = 'roots', to = 'soil' }, { from = 'leaves', to = 'air' }]\n";
    let there = [
        ("shrubs/box/shrub.toml", "id = 'box'\nversion = '1.0'\n"),
        ("soil/deep", "deep 1\n"),
        ("soil/wide", "wide, by hand\n"),
        ("air/green", "green\n"),
        ("soil/other", "of nobody\n"),
    ];
    let world = world(moved, &there);
    hedge::adopt(&world);
    let release = |version: &str, deep: &str| {
        let text = format!("id = 'box'\nversion = '{version}'\n");
        let files = [
            ("box/shrub.toml", text.as_str()),
            ("box/roots/deep", deep),
            ("box/roots/wide", "wide\n"),
            ("box/leaves/green", "green\n"),
        ];
        world.zip(&format!("drop/box-{version}.zip"), &files);
    };
    release("1.1", "deep 2\n");
    assert_snapshot!("put_elsewhere_unknown", plan(&world, &[]));
    release("1.0", "deep 1\n");
    assert_snapshot!("put_elsewhere", plan(&world, &["--keep", "box=1.1"]));
}
