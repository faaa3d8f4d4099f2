//! Servers that name what runs a second time, by the numbers of the folders that it was fetched into.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;

const NAMED: &str = r#"
[order]
kind = "list"
file = "hedge.ini"
line = '^Shrubs=(?P<list>.*)$'
write = "{id}"
between = ";"

[[also]]
name = "parcels"
file = "hedge.ini"
kind = "list"
line = '^Parcels=(?P<list>.*)$'
between = ";"
each = '^parcels/(?P<value>\d+)/'
"#;

/// Shrubs that lie as they do in their download.
const PARCELS: &str =
    "shape = \"folder\"\nat = \"parcels/*/shrubs/*\"\ninstall = \"parcels/{path}\"\ndepth = 3\n";

/// Starts the shrubs that are in a parcel which is named.
const SERVER: &str = "set -f\nfor shrub in $(sed -n 's/^Shrubs=//p' hedge.ini | tr ';' ' '); do found=\n\
                      for parcel in $(sed -n 's/^Parcels=//p' hedge.ini | tr ';' ' '); do\n\
                      [ -d parcels/$parcel/shrubs/$shrub ] && found=1; done\n\
                      [ $found ] && echo \"hedge: $shrub\"; done\n\
                      echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

#[test]
fn the_second_list_is_kept_in_step_with_the_load_order() {
    let world = World::empty();
    let more = [NAMED, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(PARCELS, &more));
    world.write("hedge/hedge.sh", SERVER);
    world.write(
        "hedge/hedge.ini",
        "Shrubs=box;yew\nParcels=7301; 7399\nbeds=4\n",
    );
    for (place, id) in [("7301", "box"), ("7302", "yew"), ("7302", "holly")] {
        let text = format!("id = '{id}'\nversion = '1.0'\n");
        world.write(
            &format!("hedge/parcels/{place}/shrubs/{id}/shrub.toml"),
            text,
        );
    }
    hedge::adopt(&world);
    assert_snapshot!(
        "lists_survey",
        world.lantern(&["survey", "--server", "hedge"])
    );
    let ivy = "id = 'ivy'\nversion = '2.0'\nneeds = { box = '*' }\n";
    world.zip("drop/ivy.zip", &[("7310/shrubs/ivy/shrub.toml", ivy)]);
    let plan = ["plan", "--to", "same", "--server", "hedge"];
    let from = ["--from", "drop", "--add", "ivy"];
    assert_snapshot!("lists_plan", world.lantern(&[&plan[..], &from].concat()));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(
        world.read("hedge/hedge.ini"),
        "Shrubs=box;yew;ivy\nParcels=7301; 7399; 7310; 7302\nbeds=4\n"
    );
    // The last of a parcel takes it along; what nobody here gave stays.
    world.ok(&[&plan[..], &["--drop", "yew"]].concat());
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert!(world.read("hedge/hedge.ini").contains("; 7302"));
    world.ok(&[&plan[..], &["--drop", "holly"]].concat());
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(
        world.read("hedge/hedge.ini"),
        "Shrubs=box;ivy\nParcels=7301; 7399; 7310\nbeds=4\n"
    );
}

/// A load order in the start script itself, and a list beside it.
const IN_SCRIPT: &str = r#"
[order]
kind = "sequence"
file = "hedge.sh"
line = '^shrub (?P<id>.+)$'
write = "shrub {id}"

[[also]]
name = "parcels"
file = "hedge.sh"
kind = "sequence"
line = '^parcel (?P<id>.+)$'
write = "parcel {id}"
each = '^parcels/(?P<value>[^/]+)/'
"#;

#[test]
fn what_a_shell_would_take_for_more_is_not_written_into_a_script() {
    let world = World::empty();
    let more = [IN_SCRIPT, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(PARCELS, &more));
    world.write("hedge/hedge.sh", SERVER);
    hedge::adopt(&world);
    let shrub = |id: &str| format!("id = '{id}'\nversion = '1.0'\n");
    world.zip(
        "ids/x.zip",
        &[("7/shrubs/x/shrub.toml", &shrub("$(touch x)"))],
    );
    world.zip(
        "places/ivy.zip",
        &[("$(touch x)/shrubs/ivy/shrub.toml", &shrub("ivy"))],
    );
    let plan = ["plan", "--to", "same", "--server", "hedge", "--from"];
    assert_snapshot!(
        "lists_hostile_id",
        world.lantern(&[&plan[..], &["ids", "--add", "$(touch x)"]].concat())
    );
    assert_snapshot!(
        "lists_hostile_place",
        world.lantern(&[&plan[..], &["places", "--add", "ivy"]].concat())
    );
}

/// A load order that names files, each with its version.
const FILES: &str = r##"
[order]
kind = "sequence"
file = "hedge.rows"
line = '^(?P<id>[^#\s]\S*)'
write = "{id}"
parked = "#{line}"
each = '^shrubs/(?P<value>[^/]+)$'
"##;

/// Starts what lies there of all that it names.
const PLANTED: &str = "for file in $(sed '/^#/d; s/ .*//' hedge.rows); do [ -f shrubs/$file ] && echo \"hedge: ${file%%-*}\"; done\n\
                       echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

#[test]
fn a_load_order_that_names_files_follows_them() {
    let world = World::empty();
    let archives =
        "shape = \"archive\"\nat = \"shrubs/*.zip\"\ninstall = \"shrubs/{id}-{version}.zip\"\n";
    let more = [FILES, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(archives, &more));
    world.write("hedge/hedge.sh", PLANTED);
    world.write(
        "hedge/hedge.rows",
        "# from the gate\nyew-1.0.zip  # the old one\nbox-1.0.zip\nelm-2.0.zip\n",
    );
    let shrub = |folder: &str, id: &str, version: &str, needs: &str| {
        let text = format!("id = '{id}'\nversion = '{version}'\nneeds = {{ {needs} }}\n");
        let path = format!("{folder}/{id}-{version}.zip");
        world.zip(&path, &[("shrub.toml", &text)]);
    };
    shrub("hedge/shrubs", "yew", "1.0", "");
    shrub("hedge/shrubs", "box", "1.0", "");
    shrub("hedge/shrubs", "ivy", "1.0", "");
    hedge::adopt(&world);
    let on_hedge = |args: &[&str]| world.lantern(&[args, &["--server", "hedge"]].concat());
    shrub("drop", "yew", "1.1", "holly = '*'");
    shrub("drop", "holly", "3.0", "");
    let same = ["plan", "--to", "same"];
    let told = [
        on_hedge(&["survey"]),
        on_hedge(&[&same[..], &["--from", "drop"]].concat()),
    ];
    assert_snapshot!("lists_of_files", told.join("\n"));
    let changed = on_hedge(&["changeover", "--yes"]);
    assert!(
        changed.contains("3 of 3 components are loaded"),
        "{changed}"
    );
    assert_eq!(
        world.read("hedge/hedge.rows"),
        "holly-3.0.zip\n# from the gate\nyew-1.1.zip  # the old one\nbox-1.0.zip\nelm-2.0.zip\n"
    );
    // Switched off and on, and taken out.
    let change = || world.ok(&["changeover", "--yes", "--server", "hedge"]);
    world.ok(&[
        &same[..],
        &["--off", "box", "--drop", "ivy", "--server", "hedge"],
    ]
    .concat());
    change();
    assert!(world.read("hedge/hedge.rows").contains("\n#box-1.0.zip\n"));
    world.ok(&[
        &same[..],
        &["--on", "box", "--drop", "yew", "--server", "hedge"],
    ]
    .concat());
    change();
    assert_eq!(
        world.read("hedge/hedge.rows"),
        "holly-3.0.zip\nbox-1.0.zip\n# from the gate\nelm-2.0.zip\n"
    );
    world.ok(&["undo", "--yes", "--server", "hedge"]);
    assert!(
        world
            .read("hedge/hedge.rows")
            .contains("yew-1.1.zip  # the old one\n")
    );
}

/// Tables, each with a name and whether it is on; and add-ons that state the lowest and the highest version that they run on.
const TABLES: &str = r##"
[[reader]]
name = "shrub"
kind = "addon"
shape = "archive"
at = "shrubs/*.zip"
install = "shrubs/{id}-{version}.zip"
drop = "*.zip"
files = [{ name = "shrub.json", notation = "json" }]

[reader.fields]
id = "name"
version = "version"
server = { at = { "hedge.oldest" = ">={}", "hedge.newest" = "<={}" } }
needs = { at = "needs", item = { id = "name", range = { from = ">={}", upto = "<{}" } } }

[order]
kind = "flags"
file = "hedge.json"
line = '\{\s*"name":\s*"(?P<id>[^"]+)",\s*"on":\s*(?P<on>\w+)\s*\}'
spans = true
write = '{ "name": "{id}", "on": {on} }'
"##;

/// Starts what is on of all that it names.
const LIT: &str = "(tr -d ' \\n' <hedge.json; echo) | tr '{' '\\n' | sed -n 's/^\"name\":\"\\([a-z]*\\)\",\"on\":true.*/hedge: \\1/p'\n\
                   echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

#[test]
fn tables_that_switch_stay_as_they_are_written() {
    let world = World::empty();
    let more = [TABLES, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family_of("", &more));
    world.write("hedge/hedge.sh", LIT);
    let table =
        |id: &str, on: bool| format!("  {{\n    \"name\": \"{id}\",\n    \"on\": {on}\n  }}");
    let tables = |all: &[String]| format!("[\n{}\n]\n", all.join(",\n"));
    let three = [table("yew", true), table("box", false), table("ivy", true)];
    world.write("hedge/hedge.json", tables(&three));
    let shrub = |folder: &str, id: &str, version: &str, hedge: &str, needs: &str| {
        let text = format!(
            "{{\"name\": \"{id}\", \"version\": \"{version}\", \"hedge\": {{{hedge}}}, \"needs\": [{needs}]}}"
        );
        world.zip(
            &format!("{folder}/{id}-{version}.zip"),
            &[("shrub.json", &text)],
        );
    };
    let until = "\"oldest\": \"1.0\", \"newest\": \"1.0\"";
    shrub("hedge/shrubs", "yew", "1.0", until, "");
    shrub("hedge/shrubs", "box", "1.0", "", "");
    shrub("hedge/shrubs", "ivy", "1.0", "\"newest\": \"0.9\"", "");
    hedge::adopt(&world);
    let needs = "{\"name\": \"holly\", \"from\": \"1\", \"upto\": \"3\"}";
    shrub("drop", "yew", "1.1", until, needs);
    shrub("drop", "yew", "1.2", "\"oldest\": \"1.1\"", "");
    shrub("drop", "holly", "2.0", until, "");
    shrub("drop", "holly", "3.0", until, "");
    let on_hedge = |args: &[&str]| world.lantern(&[args, &["--server", "hedge"]].concat());
    let same = ["plan", "--to", "same", "--from", "drop"];
    world.write("others/fern.tar", "");
    let told = [
        on_hedge(&["survey"]),
        on_hedge(&["plan", "--to", "same", "--from", "others"]),
        on_hedge(&[&same[..], &["--drop", "ivy", "--on", "box"]].concat()),
    ];
    assert_snapshot!("lists_of_tables", told.join("\n"));
    // Where none stands, nobody knows where one would; the next plan is as before.
    world.write("hedge/hedge.json", "[]\n");
    let with_holly = [&same[..], &["--drop", "ivy", "--on", "box"]].concat();
    assert_snapshot!("lists_of_no_tables", on_hedge(&with_holly));
    world.write("hedge/hedge.json", tables(&three));
    on_hedge(&with_holly);
    let changed = on_hedge(&["changeover", "--yes"]);
    assert!(
        changed.contains("3 of 3 components are loaded"),
        "{changed}"
    );
    let holly = "  { \"name\": \"holly\", \"on\": true }".to_owned();
    let became = [table("yew", true), table("box", true), holly];
    assert_eq!(world.read("hedge/hedge.json"), tables(&became));
    world.ok(&["undo", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/hedge.json"), tables(&three));
}

/// Lines that state their turn by a number; another setting goes by one of these numbers.
const NUMBERED: &str = r#"
[order]
kind = "sequence"
file = "hedge.ini"
line = '^shrub(?P<at>\d+)\s*=\s*(?P<id>\S+)'
write = "shrub{at} = {id}"
"#;

/// Starts the shrubs of its numbered lines, the lowest first, as far as they count up.
const COUNTED: &str = "at=1\nwhile shrub=$(sed -n \"s/^shrub$at *= *//p\" hedge.ini) && [ \"$shrub\" ]; do\n\
                       echo \"hedge: $shrub\"; at=$((at + 1)); done\n\
                       echo 'hedge: open'\nwhile read -r line; do [ \"$line\" = close ] && exit 0; done\n";

#[test]
fn numbered_lines_are_numbered_anew() {
    let world = World::empty();
    let more = [NUMBERED, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(hedge::FOLDERS, &more));
    world.write("hedge/hedge.sh", COUNTED);
    let lines = "# the oldest\nshrub1 = box\nshrub2 = ivy\nshrub3 = yew\nrows = 4\n";
    world.write("hedge/hedge.ini", lines);
    for id in ["box", "ivy", "yew"] {
        let text = format!("id = '{id}'\nversion = '1.0'\n");
        world.write(&format!("hedge/shrubs/{id}/shrub.toml"), text);
    }
    hedge::adopt(&world);
    let box_2 = "id = 'box'\nversion = '2.0'\nneeds = { holly = '*' }\n";
    world.zip("drop/box.zip", &[("box/shrub.toml", box_2)]);
    let holly = "id = 'holly'\nversion = '1.0'\n";
    world.zip("drop/holly.zip", &[("holly/shrub.toml", holly)]);
    let plan = ["plan", "--to", "same", "--from", "drop", "--drop", "ivy"];
    let plan = [&plan[..], &["--server", "hedge"]].concat();
    assert_snapshot!("lists_numbered", world.lantern(&plan));
    let told = world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert!(told.contains("3 of 3 components are loaded"), "{told}");
    assert_eq!(
        world.read("hedge/hedge.ini"),
        "shrub1 = holly\n# the oldest\nshrub2 = box\nshrub3 = yew\nrows = 4\n"
    );
    world.ok(&["undo", "--keep-world", "--yes", "--server", "hedge"]);
    assert_eq!(world.read("hedge/hedge.ini"), lines);
    // What goes by a number would go by another shrub's.
    world.write("hedge/hedge.ini", [lines, "shrub2.trim = often\n"].concat());
    assert_snapshot!("lists_numbered_elsewhere", world.lantern(&plan));
}
