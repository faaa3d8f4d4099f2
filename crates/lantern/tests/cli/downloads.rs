//! Downloads of many shapes: every entry of one is placed, or named as not used; none is cut to a part.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;

/// Shrubs that are one file in their download, whose name alone tells the version.
const SEEDS: &str = r#"
[[reader]]
name = "seed"
kind = "addon"
shape = "file"
at = "seeds/*.so"
install = "seeds/{id}.so"
inside = "lib/**/*.so"
unused = ["LICENSE"]
drop = "seed-*.zip"

[reader.fields]
id = { at = "$stem" }
version = { at = "$archive", pattern = '-(?P<value>\d[\d.]*)$' }
side = { value = "server" }
"#;

const SHRUB: &str = "id = 'ivy'\nversion = '2.0'\n";

fn hedge() -> World {
    let world = World::empty();
    let family = hedge::family(hedge::FOLDERS, &[SEEDS, hedge::CONSOLE].concat());
    world.write("hedge.family.toml", family);
    world.write("hedge/hedge.sh", hedge::SERVER);
    world.write("hedge/garden/beds.dat", "beds");
    world.write(
        "hedge/shrubs/ivy/shrub.toml",
        "id = 'ivy'\nversion = '1.0'\n",
    );
    world.write("hedge/seeds/oak.so", vec![0xff; 2_000_000]);
    hedge::adopt(&world);
    world
}

fn plan(world: &World, drop: &str) -> String {
    world.lantern(&["plan", "--to", "1.0", "--from", drop, "--server", "hedge"])
}

#[test]
fn one_file_of_a_download_is_installed_and_the_rest_named() {
    let world = hedge();
    world.zip(
        "drop/seed-oak-2.4.30.zip",
        &[
            ("lib/oak.so", "acorn"),
            ("docs/oak.txt", "tall"),
            ("LICENSE", "free"),
        ],
    );
    // The family's line names shrubs, and no seeds: that is seen while the server runs.
    world.ok(&["console", "start", "--server", "hedge"]);
    assert_snapshot!("one_file_planned", plan(&world, "drop"));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/seeds/oak.so"), "acorn");
    // Its version is known as long as it is what was put there.
    assert_snapshot!(
        "one_file_surveyed",
        world.lantern(&["survey", "oak", "--server", "hedge"])
    );
    world.zip(
        "both/seed-oak-3.0.zip",
        &[("lib/oak.so", "a"), ("lib/elm.so", "b")],
    );
    // Several that are one each: one may be left out. Where two would be the same one, nobody can tell which.
    assert_snapshot!("two_files", plan(&world, "both"));
    let told = world.ok(&[
        "plan", "--to", "1.0", "--from", "both", "--drop", "elm", "--server", "hedge",
    ]);
    assert!(told.contains("1 updated, 0 added"), "{told}");
    plan(&world, "both");
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/seeds/oak.so"), "a");
    assert_eq!(world.read("hedge/seeds/elm.so"), "b");
    world.zip(
        "twice/seed-oak-4.0.zip",
        &[("lib/64/oak.so", "a"), ("lib/32/oak.so", "b")],
    );
    assert_snapshot!("one_file_twice", plan(&world, "twice"));
    world.ok(&["console", "stop", "--server", "hedge"]);
}

#[test]
fn a_download_is_never_cut_to_a_part() {
    let world = hedge();
    // What a release usually looks like, with a file beside.
    world.zip(
        "usual/ivy-2.0.zip",
        &[("ivy-2.0/shrub.toml", SHRUB), ("READ.ME", "x")],
    );
    assert_snapshot!("beside", plan(&world, "usual"));
    // Two, and something of which nobody knows whose it is.
    world.zip(
        "several/shrubs.zip",
        &[
            ("ivy/shrub.toml", SHRUB),
            ("yew/shrub.toml", "id = 'yew'\nversion = '1'\n"),
            ("shared/soil", "x"),
        ],
    );
    // A server's own download, which holds a shrub, too.
    world.zip(
        "server/hedge-5.zip",
        &[
            ("hedge-5/shrubs/ivy/shrub.toml", SHRUB),
            ("hedge-5/hedge.sh", "x"),
        ],
    );
    world.zip(
        "server/plain.zip",
        &[("bin/hedge", "x"), ("ivy/shrub.toml", SHRUB)],
    );
    let told = ["several", "server"].map(|drop| plan(&world, drop));
    let left = told
        .iter()
        .flat_map(|told| told.lines())
        .filter(|line| line.starts_with("left out"));
    assert_snapshot!("cut_to_a_part", left.collect::<Vec<_>>().join("\n"));
}

#[test]
fn what_runs_without_a_load_order_is_told_and_missed() {
    let world = hedge();
    assert_snapshot!("always", world.lantern(&["survey", "--server", "hedge"]));
    // The family's line names shrubs, and no seeds.
    world.ok(&["console", "start", "--server", "hedge"]);
    world.zip("drop/ivy-2.0.zip", &[("shrub.toml", SHRUB)]);
    assert!(plan(&world, "drop").contains("exit status 0"));
    let told = world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert!(told.contains("1 of 2 components are loaded"), "{told}");
    assert!(
        told.contains("not reported, as before the changeover: oak"),
        "{told}"
    );
    // One that was named before, and is not any more, is missed.
    world.zip(
        "next/ivy-3.0.zip",
        &[("shrub.toml", "id = 'ivy'\nversion = '3.0'\n")],
    );
    assert!(plan(&world, "next").contains("exit status 0"));
    world.edit("hedge/hedge.sh", "echo \"hedge: ${name##*[-/]}\"", ":");
    // A start script is nobody's.
    let told = world.lantern(&["changeover", "--yes", "--server", "hedge"]);
    assert!(
        told.contains("exit status 4") && told.contains("ivy does not run"),
        "{told}"
    );
    world.ok(&["console", "stop", "--server", "hedge"]);
}

/// A server program in several folders at once, with its descriptor beside them.
const PROGRAM: &str = r#"
[[reader]]
name = "program"
kind = "build"
shape = "folder"
at = "bin"
marks = ["hedged"]
install = "bin"
drop = "hedge-*.tar"
files = [{ name = "BUILD", notation = "properties" }]
fields = { id = { value = "hedge" }, version = "version", side = { value = "server" } }
parts = [
    { from = "bin", to = "bin" },
    { from = "lib", to = "lib", own = true },
    { from = "BUILD", to = "BUILD", own = true },
    { from = "hedge.sample", to = "hedge.sh", own = true },
]
"#;

fn program(world: &World, at: &str, version: &str, script: &str) {
    world.write(&format!("{at}/bin/hedged"), version);
    world.write(&format!("{at}/lib/core-{version}.so"), version);
    world.write(&format!("{at}/lib/common.so"), "the same");
    world.write(&format!("{at}/BUILD"), format!("version={version}\n"));
    world.write(&format!("{at}/{script}"), hedge::SERVER);
}

#[test]
fn a_program_in_several_folders_is_one_component() {
    let world = World::empty();
    let family = hedge::family(hedge::FOLDERS, &[PROGRAM, hedge::CONSOLE].concat());
    let family = family.replace(", outside = true", "");
    world.write("hedge.family.toml", family);
    world.write("hedge/garden/beds.dat", "beds");
    program(&world, "hedge", "1.0", "hedge.sh");
    world.ok(&["adopt", "hedge", "--family", "hedge.family.toml"]);
    world.edit("hedge/lantern.toml", "at = [\"10s\"]", "at = []");
    assert_snapshot!(
        "several_folders",
        world.lantern(&["survey", "--server", "hedge"])
    );
    program(&world, "made/hedge-2.0", "2.0", "hedge.sample");
    std::fs::create_dir(world.path("drop")).unwrap();
    let tar = std::process::Command::new("tar")
        .args([
            "--owner=0",
            "--group=0",
            "--mtime=2031-04-12",
            "--sort=name",
            "-C",
        ])
        .arg(world.path("made"))
        .args([
            "-cf",
            world.path("drop/hedge-2.0.tar").to_str().unwrap(),
            "hedge-2.0",
        ])
        .status();
    assert!(tar.unwrap().success());
    let check = [
        "family",
        "check",
        "hedge.family.toml",
        "--release",
        "drop/hedge-2.0.tar",
    ];
    assert_snapshot!("several_folders_tried", world.lantern(&check));
    let plan = [
        "plan", "--to", "2.0", "--from", "drop", "--files", "--server", "hedge",
    ];
    assert_snapshot!("several_folders_planned", world.lantern(&plan));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/bin/hedged"), "2.0");
    assert!(!world.path("hedge/lib/core-1.0.so").exists());
    let told = world.ok(&["survey", "--server", "hedge"]);
    assert!(
        told.contains("hedge 2.0") && told.contains("as shipped"),
        "{told}"
    );
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    assert_eq!(world.read("hedge/lib/core-1.0.so"), "1.0");
}

#[test]
fn a_family_is_tried_on_releases() {
    let world = hedge();
    let readme = ("READ.ME", "x");
    world.zip(
        "drop/ivy-2.0.zip",
        &[("ivy/shrub.toml", SHRUB), ("ivy/leaves/a", "a"), readme],
    );
    world.zip(
        "drop/seed-oak-2.4.30.zip",
        &[("lib/oak.so", "acorn"), ("docs/oak.txt", "tall")],
    );
    world.zip("drop/bare.zip", &[readme]);
    world.write("drop/other.rar", "x");
    let files = [
        "ivy-2.0.zip",
        "seed-oak-2.4.30.zip",
        "bare.zip",
        "other.rar",
    ];
    let files = files.map(|file| format!("drop/{file}"));
    let mut args = vec!["family", "check", "hedge.family.toml"];
    args.extend(files.iter().flat_map(|file| ["--release", file.as_str()]));
    assert_snapshot!("family_on_releases", world.lantern(&args));
}

#[test]
fn a_catalogue_is_made_of_a_folder_and_held_against_it() {
    let world = hedge();
    world.zip("depot/ivy-2.0.zip", &[("shrub.toml", SHRUB)]);
    world.zip(
        "depot/ivy-3.0.zip",
        &[(
            "shrub.toml",
            "id = 'ivy'\nversion = '3.0'\nneeds = { oak = '>=2' }\n",
        )],
    );
    world.zip("depot/seed-oak-2.4.30.zip", &[("lib/oak.so", "acorn")]);
    world.write("depot/notes.txt", "x");
    let make = [
        "catalogue",
        "make",
        "depot",
        "--family",
        "hedge.family.toml",
    ];
    let check = [
        "catalogue",
        "check",
        "depot/depot.catalogue.json",
        "--server",
        "hedge",
    ];
    assert_snapshot!("catalogue_made", world.lantern(&make));
    assert_snapshot!("catalogue_in_the_way", world.lantern(&make));
    assert_snapshot!("catalogue_checked", world.lantern(&check));
    let first = world.read("depot/depot.catalogue.json");
    world.ok(&[&make[..], &["--again"]].concat());
    assert_eq!(world.read("depot/depot.catalogue.json"), first);
    // A plan can be made of it: both come together.
    let plan = [
        "plan", "--to", "1.0", "--add", "oak", "--prefer", "newest", "--server", "hedge",
    ];
    let with = ["--catalogue", "depot/depot.catalogue.json"];
    let told = world.lantern(&[&plan[..], &with].concat());
    assert!(told.contains("2.4.30") && told.contains("3.0"), "{told}");
    world.zip(
        "depot/ivy-3.0.zip",
        &[("shrub.toml", "id = 'ivy'\nversion = '3.1'\n")],
    );
    std::fs::remove_file(world.path("depot/ivy-2.0.zip")).unwrap();
    let told = world.lantern(&check);
    let hash = regex::Regex::new("[0-9a-f]{64}").unwrap();
    assert_snapshot!("catalogue_wrong", hash.replace_all(&told, "HASH"));
    std::fs::create_dir(world.path("empty")).unwrap();
    assert_snapshot!(
        "catalogue_of_nothing",
        world.lantern(&[
            "catalogue",
            "make",
            "empty",
            "--family",
            "hedge.family.toml"
        ])
    );
}

/// Mosses that are folders, and say nothing of themselves.
const MOSSES: &str = r#"
[[reader]]
name = "moss"
kind = "addon"
shape = "folder"
at = "mosses/*"
marks = ["leaf.txt"]
install = "mosses/{id}"
drop = "moss*.zip"

[reader.fields]
id = { at = "$name", pattern = '^(?P<value>[a-z]+)' }
version = { at = "$archive", pattern = '-(?P<value>\d[\d.]*)$' }
side = { value = "server" }
"#;

#[test]
fn a_catalogue_knows_what_is_installed_by_its_content() {
    let world = hedge();
    let family = world.read("hedge.family.toml") + MOSSES;
    world.write("hedge.family.toml", family);
    let moss = |leaf: &'static str| [("moss/leaf.txt", leaf), ("moss/deep/stem.txt", "stem")];
    world.zip("depot/moss-1.2.zip", &moss("leaf"));
    world.zip("depot/moss-1.3.zip", &moss("a broader leaf"));
    world.zip("depot/seed-oak-2.4.30.zip", &[("lib/oak.so", "acorn")]);
    world.write("hedge/mosses/moss/leaf.txt", "leaf");
    world.write("hedge/mosses/moss/deep/stem.txt", "stem");
    world.write("hedge/seeds/oak.so", "acorn");
    let make = [
        "catalogue",
        "make",
        "depot",
        "--family",
        "hedge.family.toml",
    ];
    world.ok(&make);
    world.edit(
        "hedge/lantern.toml",
        "[warn]",
        "catalogues = [\"../depot/depot.catalogue.json\"]\n[warn]",
    );
    let survey = world.ok(&["survey", "--server", "hedge"]);
    let row = |id: &str| survey.lines().find(|line| line.contains(id)).unwrap();
    assert!(row(" moss ").contains(" 1.2 "), "{survey}");
    assert!(row(" oak ").contains(" 2.4.30 "), "{survey}");
    // Packed anew, by somebody who left the version out of the name.
    world.zip("same/moss.zip", &moss("leaf"));
    let told = plan(&world, "same");
    assert!(told.contains("There is nothing to do"), "{told}");
    world.zip("newer/moss.zip", &moss("a broader leaf"));
    assert_snapshot!("known_by_content", plan(&world, "newer"));
    // The server says nothing of mosses and seeds: before the stop as little as after it.
    world.ok(&["console", "start", "--server", "hedge"]);
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    let survey = world.ok(&["survey", "--server", "hedge"]);
    assert!(survey.contains(" 1.3 "), "{survey}");
    world.ok(&["console", "stop", "--server", "hedge"]);
}

#[test]
fn each_of_several_in_one_download_is_an_offer_of_its_own() {
    let world = hedge();
    let yew = "id = 'yew'\nversion = '1.0'\nneeds = { ivy = '>=2' }\n";
    let both = [
        ("ivy/shrub.toml", SHRUB),
        ("ivy/leaf", "broad"),
        ("yew/shrub.toml", yew),
        ("yew/berry", "red"),
        ("READ.ME", "x"),
    ];
    world.zip("drop/shrubs-5.zip", &both);
    let check = [
        "family",
        "check",
        "hedge.family.toml",
        "--release",
        "drop/shrubs-5.zip",
    ];
    assert_snapshot!("several_tried", world.lantern(&check));
    assert_snapshot!("several_planned", plan(&world, "drop"));
    // One of them is not wanted.
    let without = [
        "plan", "--to", "1.0", "--from", "drop", "--drop", "yew", "--server", "hedge",
    ];
    let told = world.ok(&without);
    assert!(told.contains("1 updated, 0 added"), "{told}");
    world.ok(&["console", "start", "--server", "hedge"]);
    plan(&world, "drop");
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/shrubs/ivy/leaf"), "broad");
    assert_eq!(world.read("hedge/shrubs/yew/berry"), "red");
    assert!(!world.path("hedge/shrubs/ivy/berry").exists());
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    assert!(!world.path("hedge/shrubs/yew").exists());
    world.ok(&["console", "stop", "--server", "hedge"]);
    // From a catalogue they come one by one.
    let make = ["catalogue", "make", "drop", "--family", "hedge.family.toml"];
    assert_snapshot!("several_catalogued", world.lantern(&make));
    let from = [
        "--catalogue",
        "drop/drop.catalogue.json",
        "--server",
        "hedge",
    ];
    let told = world.ok(&[&["plan", "--to", "1.0", "--add", "yew"], &from[..]].concat());
    assert!(told.contains("1 updated, 1 added"), "{told}");
}

#[test]
fn parts_of_several_kinds_in_one_download_can_be_left_out() {
    let world = World::empty();
    let bed = "[[reader]]\nname = \"bed\"\nkind = \"addon\"\nshape = \"folder\"\nat = \"beds/*\"\nmarks = [\"bed.map\"]\n\
               install = \"beds/{id}\"\ndrop = \"*.zip\"\ndepth = 3\nruns = \"unknown\"\n\
               fields = { version = { at = \"$archive\", pattern = '-(?P<value>[0-9.]+)$' }, side = { value = \"server\" } }\n";
    // One that knows no downloads has none.
    let note = "[[reader]]\nname = \"note\"\nkind = \"addon\"\nshape = \"file\"\nat = \"notes/*.txt\"\n\
                install = \"notes/{id}.txt\"\n";
    let shrubs = format!("{}depth = 2\n{note}{bed}", hedge::FOLDERS);
    world.write("hedge.family.toml", hedge::family(&shrubs, hedge::CONSOLE));
    world.write("hedge/hedge.sh", hedge::SERVER);
    hedge::adopt(&world);
    world.zip(
        "drop/grove-2.0.zip",
        &[
            ("grove-2.0/ivy/shrub.toml", SHRUB),
            ("grove-2.0/maps/dell/bed.map", "a dell"),
            ("grove-2.0/READ.ME", "x"),
        ],
    );
    assert_snapshot!("parts_planned", plan(&world, "drop"));
    let without = [
        "plan", "--to", "1.0", "--from", "drop", "--drop", "dell", "--server", "hedge",
    ];
    let told = world.ok(&without);
    assert!(told.contains("0 updated, 1 added"), "{told}");
    plan(&world, "drop");
    world.ok(&["console", "start", "--server", "hedge"]);
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/beds/dell/bed.map"), "a dell");
    assert_eq!(world.read("hedge/shrubs/ivy/shrub.toml"), SHRUB);
    world.ok(&["console", "stop", "--server", "hedge"]);
    // With a folder of which nobody knows whose it is, nothing of it is taken.
    world.zip(
        "more/grove-3.0.zip",
        &[
            ("ivy/shrub.toml", SHRUB),
            ("maps/dell/bed.map", "a dell"),
            ("lib/soil", "x"),
        ],
    );
    let told = plan(&world, "more");
    assert!(told.contains("left out: more/grove-3.0.zip"), "{told}");
}
