//! Servers of a group that are watched: what is new is said once, to whom it concerns, and figures of them.

use crate::groups::three;
use crate::world::{World, free_port};
use insta::assert_snapshot;
use std::process::Command;

const WATCH: [&str; 4] = [
    "group",
    "watch",
    "--catalogue",
    "depot/verdance.catalogue.json",
];

/// How full the disk of the tests is, is no news.
pub fn whatever_is_free(world: &World) {
    let file = "terraces.group.toml";
    world.edit(file, "all = [", "watch.free_gb = 0\nall = [");
}

#[test]
fn what_is_new_is_said_once() {
    let world = three("");
    whatever_is_free(&world);
    let tell =
        "\n[[tell]]\non = ['news']\nas = 'markdown'\ncommand = ['cp', '{file}', '../told.md']\n";
    let settings = "south-terrace/lantern.toml";
    world.write(settings, world.read(settings) + tell);
    let first = world.lantern(&WATCH);
    let told = world.read("told.md");
    assert_snapshot!([first, world.lantern(&WATCH), told].join("\n"));
    // Another thing is new at one, what was is over at another, and one can be opened no more: that is said each time.
    std::fs::remove_file(world.path("south-terrace/addons/glasswork-3.1.0.bloom")).unwrap();
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    world.ok(&["backup", "make", "--server", "halcyon-terrace"]);
    std::fs::remove_file(world.path("east-terrace/lantern.toml")).unwrap();
    let told = [
        world.lantern(&WATCH),
        world.read("told.md"),
        world.lantern(&WATCH),
    ];
    assert_snapshot!(told.join("\n"));
    // Who cannot be told, and what cannot be written down, is said.
    world.edit(settings, "'cp', ", "'no-such-program', ");
    world.ok(&["console", "stop", "--server", "halcyon-terrace"]);
    let again = world.lantern(&[&WATCH[..], &["--again"]].concat());
    assert!(
        again.contains("not told at south-terrace: no-such-program"),
        "{again}"
    );
    assert_snapshot!(again);
}

#[test]
fn figures_are_what_another_program_reads() {
    let world = three("");
    whatever_is_free(&world);
    // At a port of its own: what answers at that of another seems to be that other, too.
    let other = format!("port = {}\nwas_", free_port());
    world.edit("east-terrace/greenhouse.conf", "port = ", &other);
    world.ok(&["console", "start", "--server", "east-terrace"]);
    world.ok(&["backup", "make", "--server", "east-terrace"]);
    std::fs::remove_file(world.path("south-terrace/lantern.toml")).unwrap();
    let file = world.path("figures.prom").to_str().unwrap().to_owned();
    world.lantern(&[&WATCH[..], &["--metrics", &file]].concat());
    let text = world.read("figures.prom");
    // Times and what is free are not the same twice.
    let moving = regex::Regex::new(r"(?m)^(\w+(?:seconds|bytes)\{.*\}) \d[\d.]*$").unwrap();
    assert_snapshot!(moving.replace_all(&text, "$1 N"));
    let read = "import sys\n\
        from prometheus_client.openmetrics.parser import text_string_to_metric_families as families\n\
        print(sum(len(family.samples) for family in families(open(sys.argv[1]).read())))";
    let told = Command::new("/usr/bin/python3")
        .args(["-c", read, &file])
        .output();
    let Ok(told) = told.as_ref().map_err(drop).and_then(|it| {
        let is_there = !String::from_utf8_lossy(&it.stderr).contains("No module named");
        is_there.then_some(it).ok_or(())
    }) else {
        let why = "python3-prometheus-client is missing: no other program reads the figures";
        assert!(
            std::env::var_os("CI").is_none(),
            "{why}, and CI has to have it"
        );
        eprintln!("{why}");
        return;
    };
    let samples = text.lines().filter(|line| !line.starts_with('#')).count();
    let read = String::from_utf8_lossy(&told.stdout);
    let why = String::from_utf8_lossy(&told.stderr);
    assert_eq!(read.trim(), samples.to_string(), "{why}");
}

#[test]
fn what_could_not_be_looked_for_is_said() {
    let world = three("");
    whatever_is_free(&world);
    world.write("drop/broken-1.0.0.bloom", "no archive");
    let watch = |words: &[&str]| world.lantern(&[&["group", "watch"], words].concat());
    let told = [
        watch(&["--from", "drop"]),
        watch(&["--catalogue", "no-such.json"]),
        // What is said once is said, whatever becomes of the figures.
        watch(&["--again", "--metrics", "no-such/figures.prom"]),
    ];
    assert_snapshot!(told.join("\n"));
}
