//! What makes a start fail, found by starting parts of the plan on copies.

use crate::world::{CHANGEOVER, DROP, World};
use insta::assert_snapshot;

const CULPRIT: &[&str] = &["culprit", "--server", "halcyon-terrace"];

/// A release of an add-on for the drop folder; `rest` is the end of its descriptor.
fn addon(world: &World, id: &str, version: &str, rest: &str) {
    world.drop_addon(
        &format!("{id}-{version}.bloom"),
        &format!("id='{id}'\nversion='{version}'\nserver='>=5'\n{rest}"),
    );
}

/// Releases for all that is installed, of which one crashes.
fn drop_all(world: &World, faulty: &str, standin: &str) {
    let releases = [
        ("bee-traffic", "0.8.5"),
        ("drip-lines", "2.3.1"),
        ("glasswork", "3.1.1"),
        ("market-stall", "1.2.1"),
        ("mist-pipes", "1.4.3"),
        ("night-watch", "1.0.9"),
        ("seed-vault", "4.0.3"),
        ("sun-clock", "1.9.2"),
    ];
    for (id, version) in releases {
        let rest = if id == faulty { standin } else { "" };
        addon(world, id, version, rest);
    }
}

/// What is told; a plan's name differs with the ports.
fn told(world: &World, more: &[&str]) -> String {
    let told = world.lantern(&[CULPRIT, more].concat());
    let name = regex::Regex::new("culprit/[0-9a-f]{6}[.]").unwrap();
    name.replace_all(&told, "culprit/NAME.").into_owned()
}

#[test]
fn one_that_fails_by_itself_is_found_and_what_works_is_carried_out() {
    let world = World::adopted();
    addon(
        &world,
        "sun-clock",
        "2.1.0",
        "[needs]\nglasswork='^3'\ngnomon='^1'\n[standin]\ncrash='the gnomon casts no shadow'\n",
    );
    let plan = [
        "plan",
        "--to",
        "5.4",
        "--catalogue",
        "depot/verdance.catalogue.json",
        "--from",
        "drop",
        "--server",
        "halcyon-terrace",
    ];
    world.ok(&plan);
    let before = world.tree("halcyon-terrace");
    let failed = world.lantern(&["rehearse", "--server", "halcyon-terrace"]);
    assert!(
        failed.contains("Next: lantern culprit --server halcyon-terrace"),
        "{failed}"
    );
    assert_snapshot!("culprit_found", told(&world, &[]));
    assert_eq!(world.tree("halcyon-terrace"), before);
    // Nothing is started twice.
    assert_snapshot!("culprit_known", told(&world, &[]));
    let found = world.lantern(CULPRIT);
    let next = found
        .lines()
        .find_map(|line| line.strip_prefix("Next: lantern "))
        .unwrap();
    let words: Vec<&str> = next.split(' ').chain(["--yes"]).collect();
    let done = world.lantern(&words);
    assert!(
        done.contains("exit status 0") && done.contains("was rehearsed with the world"),
        "{done}"
    );
}

#[test]
fn a_pair_that_fails_only_together() {
    let world = World::adopted();
    drop_all(
        &world,
        "market-stall",
        "[standin]\ncrash='no shadow on the stall'\nbeside={sun-clock='>=1.9.2'}\n",
    );
    world.ok(DROP);
    assert_snapshot!("culprit_pair", told(&world, &[]));
}

#[test]
fn one_of_two_hundred_is_found_in_few_starts() {
    let world = World::adopted();
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 24\nslow_ms = 0",
    );
    let ids: Vec<String> = (0..200).map(|at| format!("plot-{at:03}")).collect();
    for id in &ids {
        let rest = if id == "plot-137" {
            "[standin]\ncrash='the soil is too dry'\n"
        } else {
            ""
        };
        addon(&world, id, "1.0.0", rest);
    }
    let mut plan = DROP.to_vec();
    ids.iter().for_each(|id| plan.extend(["--add", id]));
    world.ok(&plan);
    let told = told(&world, &["--without-world"]);
    assert!(told.contains("exit status 0"), "{told}");
    assert!(
        told.contains(
            "plot-137 1.0.0 does not start on 5.1.0; without plot-137 it does; all else is fine"
        ),
        "{told}"
    );
    let starts = told
        .lines()
        .filter(|line| line.starts_with("  start "))
        .count();
    assert!(starts <= 19, "{starts} starts\n{told}");
}

#[test]
fn one_that_fails_now_and_then_is_said_to_be_unsteady() {
    let world = World::adopted();
    let counts = world.path("starts").display().to_string();
    let standin = format!("[standin]\ncrash='a loose pipe'\nevery=3\ncounts='{counts}'\n");
    drop_all(&world, "mist-pipes", &standin);
    world.ok(DROP);
    assert_snapshot!("culprit_unsteady", told(&world, &["--at-once", "1"]));
}

#[test]
fn one_that_fails_only_in_a_world() {
    let world = World::adopted();
    drop_all(
        &world,
        "seed-vault",
        "[standin]\ncrash='the old seeds are in the way'\nin_world=true\n",
    );
    world.ok(DROP);
    assert_snapshot!("culprit_without_world", told(&world, &["--without-world"]));
    let found = told(&world, &[]);
    assert!(
        found.contains("seed-vault 4.0.3 does not start on 5.1.0; with seed-vault 4.0.2 it does"),
        "{found}"
    );
}

#[test]
fn what_counts_as_failing_can_be_said() {
    let world = World::adopted();
    drop_all(
        &world,
        "night-watch",
        "[standin]\nleft_out='no moon tonight'\n",
    );
    world.ok(DROP);
    assert_snapshot!(
        "culprit_error",
        told(&world, &["--error", "stays out: no (moon|sun)"])
    );
    let never = told(&world, &["--without-world", "--error", "no such line"]);
    assert!(
        never.contains("exit status 3")
            && never.contains("The whole plan fails, but not in that way"),
        "{never}"
    );
    let until = "test ! -e addons/drip-lines-2.3.1.bloom";
    let by_look = told(
        &world,
        &["--without-world", "--error", "stays out", "--until", until],
    );
    assert!(
        by_look.contains("drip-lines 2.3.1") && by_look.contains("night-watch 1.0.9"),
        "{by_look}"
    );
}

#[test]
fn it_ends_where_it_is_told_to_and_goes_on_from_there() {
    let world = World::adopted();
    drop_all(
        &world,
        "bee-traffic",
        "[standin]\ncrash='the bees are on strike'\n",
    );
    world.ok(DROP);
    assert_snapshot!("culprit_unfinished", told(&world, &["--starts", "3"]));
    let found = told(&world, &[]);
    assert!(
        found.contains("bee-traffic 0.8.5 does not start on 5.1.0")
            && found.contains("3 known from before"),
        "{found}"
    );
}

#[test]
fn where_nothing_can_be_looked_for() {
    let world = World::adopted();
    let no_plan = told(&world, &[]);
    drop_all(&world, "sun-clock", "");
    world.ok(DROP);
    std::fs::remove_file(world.path("drop/sun-clock-1.9.2.bloom")).unwrap();
    let gone = told(&world, &[]);
    let pattern = told(&world, &["--error", "(moon"]);
    assert_snapshot!("culprit_bad_input", [no_plan, gone, pattern].join("\n"));
}

#[test]
fn what_was_found_is_heeded_by_plans_until_it_is_forgotten() {
    let world = World::adopted();
    let at = |words: &[&str]| world.lantern(&[words, &["--server", "halcyon-terrace"]].concat());
    let nothing = at(&["known"]);
    drop_all(
        &world,
        "market-stall",
        "[standin]\ncrash='no shadow on the stall'\nbeside={sun-clock='>=1.9.2'}\n",
    );
    world.ok(DROP);
    world.ok(CULPRIT);
    let again = at(&["plan", "--again"]);
    let told = [
        nothing,
        at(&["known"]),
        again,
        at(&["why", "sun-clock", "--not", "1.9.2"]),
        at(&["why", "market-stall"]),
        at(&["outlook", "--from", "drop"]),
        at(&["known", "export", "ours.learned.json"]),
        at(&["known", "forget", "2"]),
        at(&["known", "forget", "1"]),
        at(&["known", "take", "ours.learned.json"]),
        at(&["known", "take", "ours.learned.json"]),
        at(&["known"]),
        at(&["known", "take", "drop"]),
    ];
    let day = regex::Regex::new(r"since [0-9]+ \w+ [0-9]{4}").unwrap();
    assert_snapshot!("known", day.replace_all(&told.join("\n"), "since DAY"));
    // Another file under that version is another matter.
    addon(&world, "market-stall", "1.2.1", "");
    let mended = at(&["plan", "--again"]);
    assert!(mended.contains("sun-clock     1.9.1  1.9.2"), "{mended}");
    let empty = r#"{"format": 1, "facts": [{"number": 1, "at_ms": 0, "server_version": "5.1.0", "components": []}]}"#;
    world.write("empty.learned.json", empty);
    let empty = at(&["known", "take", "empty.learned.json"]);
    world.write("ours.learned.json", "{\"format\": 2, \"facts\": []}");
    let newer = at(&["known", "take", "ours.learned.json"]);
    assert_snapshot!("known_odd", [empty, newer].join("\n"));
}

#[test]
fn what_others_have_learned_can_stand_among_the_catalogues() {
    let world = World::adopted();
    drop_all(&world, "", "");
    let fact = r#"{ "number": 7, "at_ms": 1777928940000, "server_version": "5.1.0", "components": [{ "id": "market-stall", "version": "1.2.1" }] }"#;
    let others = |format: u32| format!("{{ \"format\": {format}, \"facts\": [{fact}] }}");
    world.write("others.learned.json", others(1));
    let settings = world.read("halcyon-terrace/lantern.toml");
    let catalogues = "catalogues = [\"../others.learned.json\"]\nfamily =";
    let settings = settings.replacen("family =", catalogues, 1);
    world.write("halcyon-terrace/lantern.toml", settings);
    let plan = world.ok(DROP);
    assert!(
        plan.contains("unchanged: halcyon, trellis, market-stall\n"),
        "{plan}"
    );
    let why = [
        "why",
        "market-stall",
        "--not",
        "1.2.1",
        "--server",
        "halcyon-terrace",
    ];
    let odd = {
        let why = world.lantern(&why);
        world.write("others.learned.json", others(2));
        [why, world.lantern(DROP)].join("\n")
    };
    assert_snapshot!("known_among_catalogues", odd);
}

#[test]
fn after_a_changeover_that_failed_it_is_looked_for_by_itself() {
    let world = World::running();
    drop_all(
        &world,
        "bee-traffic",
        "[standin]\ncrash='the bees are on strike'\n",
    );
    world.ok(DROP);
    let settings = world.read("halcyon-terrace/lantern.toml");
    let on_failure = format!("{settings}\n[on_failure]\nculprit = true\n");
    world.write("halcyon-terrace/lantern.toml", on_failure);
    let told = world.lantern(CHANGEOVER);
    let name = regex::Regex::new("culprit/[0-9a-f]{6}[.]").unwrap();
    assert_snapshot!(
        "culprit_by_itself",
        name.replace_all(&told, "culprit/NAME.")
    );
    let report = world.lantern(&["report", "1", "--server", "halcyon-terrace"]);
    let found = "bee-traffic 0.8.5 does not start on 5.1.0: known here since";
    assert!(
        report.contains("the bees are on strike") && report.contains(found),
        "{report}"
    );
    world.ok(&["console", "stop", "--server", "halcyon-terrace"]);
}
