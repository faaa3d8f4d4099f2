//! The way through on another server that nobody here wrote: Debian's tank game server, with its native plugins, of two
//! Debians. The program lies outside the server folder, where its administrator exchanges it.

use crate::world::{World, debian_servers, free_port};
use insta::assert_snapshot;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

const OLD: &str = "bzflag-2.4.26";
const NEW: &str = "bzflag-2.4.30";
const PLAN: &[&str] = &["plan", "--to", "same", "--server", "arena", "--from"];

fn library(servers: &Path, release: &str, name: &str) -> Vec<u8> {
    fs::read(servers.join(release).join(format!("plugins/{name}.so"))).unwrap()
}

/// A server folder with three plugins, two of them in use.
fn arena(servers: &Path) -> World {
    let world = World::empty();
    symlink(servers.join(OLD), world.path("program")).unwrap();
    for name in ["koth", "flagStay", "killall"] {
        let path = format!("arena/plugins/{name}.so");
        world.write(&path, library(servers, OLD, name));
    }
    let port = free_port();
    world.write(
        "arena/bzfs.conf",
        format!(
            "# the arena\n-mp 10\n-p {port}\n-j\n-loadplugin plugins/koth.so\n\
             -loadplugin plugins/flagStay.so,flags=3\n# ends here\n"
        ),
    );
    let program = world.path("program").display().to_string();
    world.write(
        "arena/start.sh",
        format!(
            "#!/bin/sh\nexec {program}/lib/ld.so --library-path {program}/lib {program}/bin/bzfs -conf bzfs.conf -d -d\n"
        ),
    );
    world.ok(&["adopt", "arena", "--server-version", "2.4.26"]);
    world.edit("arena/lantern.toml", "at = [\"10s\"]", "at = []");
    world.ok(&["console", "start", "--server", "arena"]);
    world
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
    let Some(servers) = debian_servers() else {
        return;
    };
    let world = arena(&servers);
    let library = |name| library(&servers, OLD, name);
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
    let told = world.ok(&["changeover", "--yes", "--server", "arena"]);
    assert!(told.contains("3 of 3 components are loaded"), "{told}");
    let after = before.replace("# ends", "-loadplugin plugins/shockwaveDeath.so\n# ends");
    assert_eq!(world.read("arena/bzfs.conf"), after);
    assert!(survey().contains("koth            2.4.30"), "{}", survey());
    // What is no library is noticed, and so is one that ends the server.
    packed(&world, "bad/plugin-koth-2.4.31.zip", b"no library");
    world.ok(&[PLAN, &["bad"]].concat());
    let told = world.lantern(&["changeover", "--yes", "--server", "arena"]);
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
    let told = world.lantern(&["changeover", "--yes", "--server", "arena"]);
    assert!(told.contains("exit status 4"), "{told}");
    assert!(
        world
            .ok(&["verify", "--server", "arena"])
            .contains("3 of 3 components")
    );
    // Switched off and on again by plans, a plugin keeps the arguments that its line has.
    let switch = |how: &str, id: &str| {
        world.ok(&["plan", "--to", "same", how, id, "--server", "arena"]);
        world.ok(&["changeover", "--yes", "--server", "arena"])
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

#[test]
fn a_program_outside_is_moved_by_its_administrator() {
    let Some(servers) = debian_servers() else {
        return;
    };
    let world = arena(&servers);
    for name in ["koth", "flagStay", "killall"] {
        let path = format!("drop/plugin-{name}-2.4.30.zip");
        packed(&world, &path, &library(&servers, NEW, name));
    }
    // Which versions there are of it is not known, so one has to be named.
    let plan =
        |to: &str| world.lantern(&["plan", "--to", to, "--from", "drop", "--server", "arena"]);
    assert_snapshot!(plan("best"), @"
    $ lantern plan --to best --from drop --server arena
    exit status 1
    --- stderr
    error: bzfs lies outside this folder, so which versions of it there are is not known here: name one, as --to 1.2
    ");
    let told = plan("2.4.30");
    let contents = regex::Regex::new("#[0-9a-f]{10}").unwrap();
    let told = contents.replace_all(&told, "#CONTENT");
    assert_snapshot!("program_outside_planned", told);
    // The plan waits until somebody says that the program is there.
    let refused = world.lantern(&["changeover", "--yes", "--server", "arena"]);
    let refused = contents.replace_all(&refused, "#CONTENT");
    assert_snapshot!(refused, @r#"
    $ lantern changeover --yes --server arena
    exit status 1
    --- stderr
    arena: plan NAME, made just now: bzflag 2.4.26, prepared for 2.4.30. 3 updated, 0 added, 0 removed, 0 unchanged.
      updates        flagStay #CONTENT → 2.4.30, killall #CONTENT → 2.4.30, koth #CONTENT → 2.4.30
      away           its start alone took TIME before
      this plan      was not rehearsed
    error: the plan is for bzfs 2.4.30, which lies outside this folder, and lantern.toml says that 2.4.26 is installed
      Nothing was touched. Install that program first, in the way the present one was installed. Then write server_version = "2.4.30" in arena/lantern.toml.
    "#);
    let rehearsed = world.lantern(&["rehearse", "--server", "arena"]);
    assert!(
        rehearsed.contains("lantern.toml says that 2.4.26 is installed"),
        "{rehearsed}"
    );
    fs::remove_file(world.path("program")).unwrap();
    symlink(servers.join(NEW), world.path("program")).unwrap();
    world.edit("arena/lantern.toml", "\"2.4.26\"", "\"2.4.30\"");
    assert!(
        world
            .ok(&["rehearse", "--server", "arena"])
            .contains("It works")
    );
    let told = world.ok(&["changeover", "--yes", "--server", "arena"]);
    assert!(told.contains("2 of 2 components are loaded"), "{told}");
    let verified = world.ok(&["verify", "--server", "arena"]);
    assert!(verified.contains("2 of 2 components"), "{verified}");
    // Going back is for the files: that the program is still the other one is said.
    let told = world.ok(&["undo", "--keep-world", "--server", "arena"]);
    let other = "it is the state for bzfs 2.4.26, which lies outside, and lantern.toml says that 2.4.30 is installed";
    assert!(told.contains(other), "{told}");
    assert!(
        fs::read(world.path("arena/plugins/koth.so")).unwrap() == library(&servers, OLD, "koth")
    );
    world.ok(&["console", "stop", "--server", "arena"]);
}
