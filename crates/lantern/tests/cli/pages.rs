//! Pages, in a real browser: nothing goes wrong in them, nothing leaves them, and they can be read by everybody.

use crate::world::World;
use insta::assert_snapshot;
use std::path::{Path, PathBuf};
use std::process::Command;

const TERRACE: &[&str] = &["--server", "halcyon-terrace"];

/// What drives the browser, as `scripts/test` fetches it; none where it or the browser cannot be had, which is said, and fails when
/// `CI` is set.
fn browser() -> Option<PathBuf> {
    let modules = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/browser");
    let there = modules.join("node_modules/axe-core/axe.min.js").exists();
    if there && Path::new("/usr/bin/chromium").exists() {
        return Some(modules.canonicalize().unwrap());
    }
    let why = "target/browser or /usr/bin/chromium is missing";
    assert!(
        std::env::var_os("CI").is_none(),
        "{why}, and CI has to have it"
    );
    eprintln!("not run, as {why}; scripts/test installs it");
    None
}

/// The terrace before and after its update, with a page of each kind.
fn pages() -> (World, Vec<PathBuf>) {
    let world = World::running();
    let settings = world.read("halcyon-terrace/lantern.toml");
    let way = "\n[[players]]\nname = \"By hand\"\ntext = \"Choose Verdance {{ joins }}.\"\n";
    world.write("halcyon-terrace/lantern.toml", settings + way);
    let make = |words: &[&str]| world.ok(&[words, TERRACE].concat());
    let catalogue = ["--catalogue", "depot/verdance.catalogue.json"];
    make(&[&["outlook", "--page", "outlook.html"], &catalogue[..]].concat());
    make(&[&["plan", "--to", "5.4"], &catalogue[..]].concat());
    make(&["report", "--out", "plan.html"]);
    make(&["changeover", "--yes"]);
    make(&["report", "1", "--out", "done.html"]);
    make(&["client", "write", "--as", "page", "--out", "join.html"]);
    world.write("halcyon-terrace/addons/broken.bloom", "no archive");
    let survey = world.lantern(&[&["survey", "--page", "survey.html"], TERRACE].concat());
    assert!(survey.contains("exit status 3"), "{survey}");
    let names = ["outlook", "plan", "done", "join", "survey"];
    let paths = names.map(|name| world.path(&format!("{name}.html")));
    (world, paths.into())
}

#[test]
fn pages_in_a_browser() {
    let Some(modules) = browser() else { return };
    let (_world, pages) = pages();
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cli/pages.mjs");
    let seen = Command::new("node")
        .arg(script)
        .arg(modules)
        .args(pages)
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&seen.stderr);
    assert!(seen.status.success(), "{said}");
    assert_snapshot!("pages_in_a_browser", String::from_utf8_lossy(&seen.stdout));
}

#[test]
fn reports_in_each_notation() {
    let (world, _) = pages();
    let report = |more: &[&str]| world.lantern(&[&["report"], more, TERRACE].concat());
    let told = [report(&["1"]), report(&["1", "--as", "markdown"])].join("\n");
    assert_snapshot!("report_in_words", told);
    let page = world.read("plan.html");
    let body = page.split_once("<main>").unwrap().1;
    let plan = regex::Regex::new("Plan [0-9a-f]{6}").unwrap();
    assert_snapshot!("report_of_a_plan", plan.replace(body, "Plan NAME"));
    let page = world.read("survey.html");
    assert_snapshot!("survey_page", page.split_once("<main>").unwrap().1);
    let faults = [report(&["7"]), report(&["no-such.plan.json"])];
    assert_snapshot!("report_faults", faults.join("\n"));
}
