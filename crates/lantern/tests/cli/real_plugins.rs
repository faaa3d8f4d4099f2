//! The way through on another server that nobody here wrote: Debian's tank game server, with its native plugins.
//!
//! `scripts/test` installs it. Where it cannot be had, the test says so by name, and fails when `CI` is set.

use crate::world::{World, free_port};
use insta::assert_snapshot;
use std::fs;
use std::path::Path;

const PROGRAM: &str = "/usr/games/bzfs";
const PLUGINS: &str = "/usr/lib/bzflag-server";
const PLAN: &[&str] = &["plan", "--to", "2.4.26", "--server", "arena", "--from"];

fn library(name: &str) -> Vec<u8> {
    fs::read(format!("{PLUGINS}/{name}.so")).unwrap()
}

/// A server folder with three plugins, two of them in use; none where the server cannot be had.
fn arena() -> Option<World> {
    let missing = [PROGRAM, PLUGINS]
        .into_iter()
        .find(|path| !Path::new(path).exists());
    if let Some(missing) = missing {
        assert!(
            std::env::var_os("CI").is_none(),
            "{missing} is missing, and CI has to have it"
        );
        eprintln!("real_plugins: not run, as {missing} is missing; scripts/test installs it");
        return None;
    }
    let world = World::empty();
    for name in ["koth", "flagStay", "killall"] {
        world.write(&format!("arena/plugins/{name}.so"), library(name));
    }
    let port = free_port();
    world.write(
        "arena/bzfs.conf",
        format!(
            "# the arena\n-mp 10\n-p {port}\n-j\n-loadplugin plugins/koth.so\n\
             -loadplugin plugins/flagStay.so,flags=3\n# ends here\n"
        ),
    );
    world.write(
        "arena/start.sh",
        format!("#!/bin/sh\nexec {PROGRAM} -conf bzfs.conf -d -d\n"),
    );
    world.ok(&["adopt", "arena", "--server-version", "2.4.26"]);
    world.edit("arena/lantern.toml", "at = [\"10s\"]", "at = []");
    world.ok(&["console", "start", "--server", "arena"]);
    Some(world)
}

/// The same library in another release: what stands behind it is not read.
fn packed(world: &World, path: &str, library: &[u8]) {
    fs::create_dir_all(world.path(path).parent().unwrap()).unwrap();
    let mut zip = zip::ZipWriter::new(fs::File::create(world.path(path)).unwrap());
    let options = zip::write::SimpleFileOptions::default();
    let name = path.rsplit('/').next().unwrap().split('-').nth(1).unwrap();
    for (name, content) in [
        (
            format!("plugin-{name}/{name}.so"),
            [library, b"\nrebuilt"].concat(),
        ),
        (format!("plugin-{name}/README.{name}.txt"), b"x".to_vec()),
    ] {
        zip.start_file(name, options).unwrap();
        std::io::Write::write_all(&mut zip, &content).unwrap();
    }
    zip.finish().unwrap();
}

#[test]
fn native_plugins_are_brought_to_another_release_and_back() {
    let Some(world) = arena() else {
        return;
    };
    let survey = || world.lantern(&["survey", "--server", "arena"]);
    let hashes = regex::Regex::new("#[0-9a-f]{10}").unwrap();
    let sizes = regex::Regex::new(r"\d+ [KM]B +").unwrap();
    let comparable = |text: &str| {
        let text = hashes.replace_all(text, "#CONTENT");
        sizes.replace_all(&text, "SIZE  ").into_owned()
    };
    assert_snapshot!("plugins_surveyed", comparable(&survey()));
    assert!(
        world
            .ok(&["verify", "--server", "arena"])
            .contains("2 of 2 components")
    );
    // One in use moves, one comes, and its line with it; arguments stay where they were.
    packed(&world, "drop/plugin-koth-2.4.30.zip", &library("koth"));
    packed(
        &world,
        "drop/plugin-shockwaveDeath-2.4.30.zip",
        &library("shockwaveDeath"),
    );
    let plan = [PLAN, &["drop", "--add", "shockwaveDeath"]].concat();
    assert_snapshot!("plugins_planned", comparable(&world.lantern(&plan)));
    let before = world.read("arena/bzfs.conf");
    let told = world.ok(&["changeover", "--server", "arena"]);
    assert!(told.contains("3 of 3 components are loaded"), "{told}");
    let after = before.replace("# ends", "-loadplugin plugins/shockwaveDeath.so\n# ends");
    assert_eq!(world.read("arena/bzfs.conf"), after);
    assert!(survey().contains("koth            2.4.30"), "{}", survey());
    // What is no library is noticed, and so is one that ends the server.
    packed(&world, "bad/plugin-koth-2.4.31.zip", b"no library");
    world.ok(&[PLAN, &["bad"]].concat());
    let told = world.lantern(&["changeover", "--server", "arena"]);
    assert!(told.contains("exit status 4"), "{told}");
    assert!(
        told.contains("its file is missing, or no library for this server"),
        "{told}"
    );
    packed(
        &world,
        "cut/plugin-koth-2.4.32.zip",
        &library("koth")[..2_000],
    );
    world.ok(&[PLAN, &["cut"]].concat());
    let told = world.lantern(&["changeover", "--server", "arena"]);
    assert!(told.contains("exit status 4"), "{told}");
    assert!(
        world
            .ok(&["verify", "--server", "arena"])
            .contains("3 of 3 components")
    );
    // Switched off and on again by plans, a plugin keeps the arguments that its line has.
    let switch = |how: &str, id: &str| {
        world.ok(&["plan", "--to", "same", how, id, "--server", "arena"]);
        world.ok(&["changeover", "--server", "arena"])
    };
    assert!(switch("--off", "flagStay").contains("2 of 2 components are loaded"));
    let conf = world.read("arena/bzfs.conf");
    assert!(
        conf.contains("\n# -loadplugin plugins/flagStay.so,flags=3\n"),
        "{conf}"
    );
    assert!(switch("--on", "flagStay").contains("3 of 3 components are loaded"));
    assert_eq!(world.read("arena/bzfs.conf"), after);
    world.ok(&["undo", "--keep-world", "--server", "arena"]);
    world.ok(&["undo", "--keep-world", "--server", "arena"]);
    world.ok(&["undo", "--keep-world", "--server", "arena"]);
    assert_eq!(world.read("arena/bzfs.conf"), before);
    assert!(fs::read(world.path("arena/plugins/koth.so")).unwrap() == library("koth"));
    world.ok(&["console", "stop", "--server", "arena"]);
}
