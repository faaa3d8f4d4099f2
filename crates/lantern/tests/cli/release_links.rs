//! Links inside a release: they come, are compared, backed up and taken back as links.

use crate::hedge;
use crate::world::World;
use insta::assert_snapshot;
use std::fs;
use std::os::unix::fs::symlink;
use std::process::Command;

/// A release of ivy as a folder: a program that a link leads to, and more files and links.
fn ivy(world: &World, at: &str, version: &str, links: &[(&str, &str)]) {
    let say = |file: &str, text: &str| world.write(&format!("{at}/{file}"), text);
    say(
        "shrub.toml",
        &format!("id = 'ivy'\nversion = '{version}'\n"),
    );
    say(&format!("bin/run-{version}"), version);
    let run = format!("run-{version}");
    for (path, target) in [("bin/run", run.as_str())].iter().chain(links) {
        symlink(target, world.path(&format!("{at}/{path}"))).unwrap();
    }
}

fn packed(world: &World, version: &str, links: &[(&str, &str)], files: &[&str]) {
    let at = format!("made/{version}");
    ivy(world, &at, version, links);
    for file in files {
        world.write(&format!("{at}/{file}"), version);
    }
    let archive = world.path(&format!("drop-{version}/ivy.tar"));
    fs::create_dir_all(archive.parent().unwrap()).unwrap();
    let tar = Command::new("tar")
        .args([
            "--owner=0",
            "--group=0",
            "--mtime=2031-04-12",
            "--sort=name",
            "-C",
        ])
        .arg(world.path(&at))
        .args(["-cf", archive.to_str().unwrap(), "."])
        .status();
    assert!(tar.unwrap().success());
}

/// Every link of the add-on, with where it leads.
fn links(world: &World) -> String {
    let mut found = Vec::new();
    for path in ["bin/run", "lib", "share"] {
        if let Ok(target) = fs::read_link(world.path(&format!("hedge/shrubs/ivy/{path}"))) {
            found.push(format!("{path} -> {}", target.display()));
        }
    }
    found.join(", ")
}

fn plan(world: &World, version: &str) -> String {
    let from = format!("drop-{version}");
    world.lantern(&["plan", "--to", "1.0", "--from", &from, "--server", "hedge"])
}

#[test]
fn links_of_a_release_come_and_go_as_links() {
    let world = World::empty();
    world.write(
        "hedge.family.toml",
        hedge::family(hedge::FOLDERS, hedge::CONSOLE),
    );
    world.write("hedge/hedge.sh", hedge::SERVER);
    world.write("hedge/garden/beds.dat", "beds");
    symlink("beds.dat", world.path("hedge/garden/latest")).unwrap();
    ivy(&world, "hedge/shrubs/ivy", "1.0", &[("share", "bin")]);
    world.write("hedge/shrubs/ivy/lib/old.so", "old");
    hedge::adopt(&world);
    // What was a folder becomes a link, and the other way round.
    packed(
        &world,
        "2.0",
        &[("lib", "lib-2")],
        &["lib-2/new.so", "share/page"],
    );
    assert_snapshot!("links_planned", plan(&world, "2.0"));
    world.ok(&["changeover", "--yes", "--server", "hedge"]);
    assert_eq!(links(&world), "bin/run -> run-2.0, lib -> lib-2");
    assert_eq!(world.read("hedge/shrubs/ivy/lib/new.so"), "2.0");
    assert_snapshot!(
        "links_surveyed",
        world.lantern(&["survey", "--server", "hedge"])
    );
    // A link that leads elsewhere than it did is a change like any other.
    let run = world.path("hedge/shrubs/ivy/bin/run");
    fs::remove_file(&run).unwrap();
    symlink("run-mine", &run).unwrap();
    assert_snapshot!(
        "links_edited",
        world.lantern(&["survey", "ivy", "--server", "hedge"])
    );
    fs::remove_file(&run).unwrap();
    symlink("run-2.0", &run).unwrap();
    world.ok(&["backup", "make", "--server", "hedge"]);
    world.ok(&["undo", "--keep-world", "--server", "hedge"]);
    assert_eq!(links(&world), "bin/run -> run-1.0, share -> bin");
    assert_eq!(world.read("hedge/shrubs/ivy/lib/old.so"), "old");
    let pages = fs::read_dir(world.path("hedge/.lantern/store/backups")).unwrap();
    let names = pages.map(|page| page.unwrap().file_name().into_string().unwrap());
    let mut names = names.filter(|name| !name.contains("-to-"));
    let name = names.next().unwrap();
    world.ok(&[
        "backup",
        "restore",
        name.trim_end_matches(".json"),
        "--to",
        "out",
        "--server",
        "hedge",
    ]);
    let target = |path: &str| fs::read_link(world.path(path)).unwrap();
    assert_eq!(target("out/shrubs/ivy/bin/run").to_str(), Some("run-2.0"));
    assert_eq!(target("out/garden/latest").to_str(), Some("beds.dat"));
}

#[test]
fn a_link_that_leads_out_of_its_release_is_refused() {
    let world = World::empty();
    world.write(
        "hedge.family.toml",
        hedge::family(hedge::FOLDERS, hedge::CONSOLE),
    );
    world.write("hedge/hedge.sh", hedge::SERVER);
    ivy(&world, "hedge/shrubs/ivy", "1.0", &[]);
    hedge::adopt(&world);
    packed(&world, "2.0", &[("lib", "../../garden")], &[]);
    assert_snapshot!("link_out_of_archive", plan(&world, "2.0"));
    assert_eq!(links(&world), "bin/run -> run-1.0");
}
