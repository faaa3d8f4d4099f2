//! The way through on a server of rule packs of which one is in use, and that refuses to run as root: Debian's
//! civilisation game server, of two Debians. The program lies outside the server folder.
//!
//! Where nothing can be given away, the test says so, and fails when `CI` is set.

use crate::world::{World, debian_servers, free_port};
use insta::assert_snapshot;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::process::Command;

const OLD: &str = "freeciv-3.0.6";
const NEW: &str = "freeciv-3.1.4";

fn run(command: &mut Command) -> bool {
    command.status().is_ok_and(|status| status.success())
}

fn copy(from: impl AsRef<std::ffi::OsStr>, to: impl AsRef<std::ffi::OsStr>) {
    let mut copy = Command::new("cp");
    assert!(run(copy.arg("-rL").arg(from).arg(to)));
}

/// A server folder with two rule packs, given to a user of its own, and both releases of the program beside it; none
/// where the servers cannot be had.
fn isles() -> Option<World> {
    let servers = debian_servers()?;
    let world = World::empty();
    fs::create_dir(world.path("isles")).unwrap();
    for release in [OLD, NEW] {
        copy(servers.join(release), world.path(release));
    }
    symlink(OLD, world.path("program")).unwrap();
    for pack in ["civ1", "classic"] {
        let from = format!("{OLD}/data/{pack}");
        copy(world.path(&from), world.path(&format!("isles/{pack}")));
    }
    let port = free_port();
    world.write("isles/start.serv", "# the isles\nrulesetdir civ1\n");
    let program = world.path("program").display().to_string();
    world.write(
        "isles/start.sh",
        format!(
            "#!/bin/sh\n[ \"$(id -u)\" = 0 ] && exec setpriv --reuid 41526 --regid 41526 --clear-groups sh start.sh\n\
             HOME=. FREECIV_DATA_PATH=.:{program}/data exec {program}/lib/ld.so --library-path {program}/lib \\\n    \
             {program}/bin/freeciv-server -p {port} -r start.serv\n"
        ),
    );
    // The server's user has to pass the test's own folder.
    fs::set_permissions(world.path(""), fs::Permissions::from_mode(0o711)).unwrap();
    let mut give = Command::new("chown");
    give.args(["-R", "41526:41526"]).arg(world.path("isles"));
    if !run(&mut give) {
        let why = "nothing can be given away here";
        assert!(std::env::var_os("CI").is_none(), "{why}, and CI has to");
        eprintln!("not run: {why}");
        return None;
    }
    world.ok(&["adopt", "isles", "--server-version", "3.0.6"]);
    world.edit("isles/lantern.toml", "at = [\"10s\"]", "at = []");
    world.ok(&["console", "start", "--server", "isles"]);
    Some(world)
}

/// A release of a rule pack, with something behind its rules.
fn packed(world: &World, drop: &str, (pack, version): (&str, &str), release: &str, behind: &str) {
    let name = format!("{pack}-{version}");
    let made = world.path(&format!("made/{name}"));
    fs::create_dir_all(made.parent().unwrap()).unwrap();
    let from = if pack == "mine" { "civ1" } else { pack };
    copy(world.path(&format!("{release}/data/{from}")), &made);
    let rules = format!("made/{name}/game.ruleset");
    world.write(&rules, world.read(&rules) + behind);
    fs::create_dir_all(world.path(drop)).unwrap();
    let archive = world.path(&format!("{drop}/{name}.tar"));
    let mut tar = Command::new("tar");
    tar.arg("-C").arg(world.path("made"));
    assert!(run(tar.arg("-cf").arg(archive).arg(&name)));
}

#[test]
fn rule_packs_of_which_one_is_in_use() {
    let Some(world) = isles() else {
        return;
    };
    let plan_to = |to: &str, drop: &str, more: &[&str]| {
        let plan = ["plan", "--to", to, "--from", drop, "--server", "isles"];
        world.lantern(&[&plan[..], more].concat())
    };
    let plan = |drop: &str, more: &[&str]| plan_to("3.0.6", drop, more);
    let survey = world.lantern(&["survey", "--server", "isles"]);
    let differs = regex::Regex::new("#[0-9a-f]{10}|[0-9]+ KB").unwrap();
    assert_snapshot!("rules_surveyed", differs.replace_all(&survey, "DIFFERS"));
    let running = |told: &str| told.contains("1 of 1 components are loaded");
    assert!(running(&world.ok(&["verify", "--server", "isles"])));
    // The one in use moves; another comes, and is only there.
    packed(&world, "drop", ("civ1", "3.1"), OLD, "; mended\n");
    packed(&world, "drop", ("mine", "1.0"), OLD, "; my own\n");
    let told = plan("drop", &["--add", "mine"]);
    assert!(told.contains("1 updated, 1 added"), "{told}");
    assert!(!told.contains("load order"), "{told}");
    assert!(
        world
            .ok(&["rehearse", "--server", "isles"])
            .contains("It works")
    );
    assert!(running(&world.ok(&[
        "changeover",
        "--yes",
        "--server",
        "isles"
    ])));
    let told = world.ok(&["survey", "--server", "isles"]);
    let line = |id: &str| {
        told.lines()
            .find(|line| line.contains(id))
            .unwrap()
            .to_owned()
    };
    assert!(
        line("civ1").contains("3.1") && line("civ1").contains(" on "),
        "{told}"
    );
    assert!(
        line("mine").contains("1.0") && line("mine").contains(" off "),
        "{told}"
    );
    // Rules that cannot be read are noticed.
    packed(&world, "bad", ("civ1", "3.2"), OLD, "[torn\nno = rules {\n");
    assert!(plan("bad", &[]).contains("1 updated"));
    let told = world.lantern(&["changeover", "--yes", "--server", "isles"]);
    assert!(told.contains("exit status 4"), "{told}");
    assert!(running(&world.ok(&["verify", "--server", "isles"])));
    // The other one is taken into use by a plan, and the one that was by undoing it.
    let told = world.ok(&["plan", "--to", "same", "--on", "mine", "--server", "isles"]);
    assert!(told.contains("1 switched on, 1 switched off"), "{told}");
    assert!(running(&world.ok(&[
        "changeover",
        "--yes",
        "--server",
        "isles"
    ])));
    assert!(
        world
            .read("isles/start.serv")
            .ends_with("\nrulesetdir mine\n")
    );
    world.ok(&["undo", "--keep-world", "--server", "isles"]);
    assert!(
        world
            .read("isles/start.serv")
            .ends_with("\nrulesetdir civ1\n")
    );
    world.ok(&["undo", "--keep-world", "--server", "isles"]);
    assert!(!world.path("isles/mine").exists());
    assert!(!world.read("isles/civ1/game.ruleset").contains("mended"));
    // Another program outside wants its own packs: with those of now it comes up, and plays by other rules, which is told.
    world.ok(&["console", "stop", "--server", "isles"]);
    fs::remove_file(world.path("program")).unwrap();
    symlink(NEW, world.path("program")).unwrap();
    let told = world.lantern(&["console", "start", "--server", "isles"]);
    assert!(
        told.contains("Failed loading rulesets from directory \"civ1\""),
        "{told}"
    );
    world.ok(&["console", "stop", "--server", "isles"]);
    packed(&world, "new", ("civ1", "3.1.4"), NEW, "");
    let told = plan_to("3.1.4", "new", &[]);
    assert!(
        told.contains("freeciv 3.1.4 has to be installed first"),
        "{told}"
    );
    world.edit("isles/lantern.toml", "\"3.0.6\"", "\"3.1.4\"");
    let told = world.ok(&["changeover", "--yes", "--start", "--server", "isles"]);
    assert!(
        running(&world.ok(&["verify", "--server", "isles"])),
        "{told}"
    );
    world.ok(&["console", "stop", "--server", "isles"]);
}
