//! Start scripts, before the start: what they do, where they are cut off, and what in them undoes an update.

use crate::hedge;
use crate::world::{PLAN, World};
use insta::assert_snapshot;

const TERRACE: &[&str] = &["--server", "halcyon-terrace"];

fn at(world: &World, words: &[&str]) -> String {
    world.lantern(&[words, TERRACE].concat())
}

/// The server with a start script of somebody's own.
fn world(script: &str) -> World {
    let world = World::adopted();
    world.write("halcyon-terrace/start.sh", script);
    world
}

const CUT: &str = "#!/bin/sh\n# Starts the greenhouse.\nSEED=77\nexec sh server/halcyon --lattice 1.8.0 \\ \n  --seed \"$SEED\"\n";

#[test]
fn a_start_command_that_is_cut_off_is_not_started() {
    let world = world(CUT);
    assert_snapshot!("cut_show", at(&world, &["launch", "show"]));
    assert_snapshot!("cut_start", at(&world, &["console", "start"]));
    assert!(at(&world, &["survey"]).contains("wrong [start-cut] start.sh:4"));
    // Whoever insists may.
    assert!(at(&world, &["console", "start", "--anyway"]).contains("is up"));
    assert_snapshot!("cut_verify", at(&world, &["verify"]));
    world.ok(&[&["console", "stop"], TERRACE].concat());
    // A plan mends it, whatever else it does; without that it is not carried out, nor rehearsed.
    let told = world.lantern(PLAN);
    assert!(
        told.contains("+ exec sh server/halcyon --lattice 2.2.0 \\\n"),
        "{told}"
    );
    let plan = world.read("halcyon-terrace/.lantern/next.plan.json");
    let unmended = plan.replace("--lattice 2.2.0 \\\\\"", "--lattice 2.2.0 \\\\ \"");
    assert_ne!(plan, unmended);
    world.write("unmended.plan.json", unmended);
    for what in ["changeover", "rehearse"] {
        let told = at(&world, &[what, "unmended.plan.json"]);
        assert!(
            told.contains("the start command is cut off: start.sh:4:40"),
            "{told}"
        );
    }
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    assert_eq!(
        world.read("halcyon-terrace/start.sh"),
        CUT.replace("1.8.0 \\ ", "2.2.0 \\")
    );
    assert!(at(&world, &["launch", "show"]).contains("exit status 0"));
}

#[test]
fn a_quote_that_is_not_closed_is_left_to_its_owner() {
    let world = world("exec sh server/halcyon --lattice 1.8.0 --seed \"77\nsleep 1\n");
    assert_snapshot!("quote", at(&world, &["launch", "show"]));
    assert!(at(&world, &["console", "start"]).contains("Correct it in an editor."));
    assert!(at(&world, &["plan", "--to", "same"]).contains("There is nothing to do."));
}

#[test]
fn what_undoes_an_update_moves_into_a_script_of_its_own() {
    let world = world(
        "#!/bin/sh\ncd server\n./fetch-build --to 5.1\ncd ..\nexec sh server/halcyon --lattice 1.8.0\n",
    );
    assert_snapshot!("part_nothing", at(&world, &["launch", "part"]));
    let settings = world.read("halcyon-terrace/lantern.toml");
    let settings = format!("{settings}\n[launch]\nupdates = ['fetch-build']\n");
    world.write("halcyon-terrace/lantern.toml", settings);
    let told = world.lantern(PLAN);
    assert!(
        told.contains("start.sh:3: ./fetch-build --to 5.1 runs before each start"),
        "{told}"
    );
    assert_snapshot!("part", at(&world, &["launch", "part"]));
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    assert_eq!(
        world.read("halcyon-terrace/start.sh"),
        "#!/bin/sh\ncd server\ncd ..\nexec sh server/halcyon --lattice 1.8.0\n"
    );
    assert_eq!(
        world.read("halcyon-terrace/update-start.sh"),
        "#!/bin/sh\ncd server\n./fetch-build --to 5.1\n"
    );
    assert!(!at(&world, &["survey"]).contains("start-updates"));
    world.ok(&[&["undo"], TERRACE].concat());
    assert!(!world.path("halcyon-terrace/update-start.sh").exists());
}

#[test]
fn a_setting_follows_from_what_runs() {
    let world = World::running();
    let conf = "halcyon-terrace/greenhouse.conf";
    world.edit(conf, "listed = modded", "listed = plain  # quiet");
    let told = at(&world, &["survey"]);
    let wrong = "caution [flag-wrong] greenhouse.conf:21: listed is plain, and should be modded: nobody declared whether";
    assert!(told.contains(wrong), "{told}");
    assert_snapshot!("flag_set", at(&world, &["plan", "--to", "same"]));
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    assert!(world.read(conf).ends_with("listed = modded  # quiet\n"));
    // Who knows better says so, and what is not so any more is set back with what runs.
    let settings = world.read("halcyon-terrace/lantern.toml");
    let addons = [
        "mist-pipes",
        "drip-lines",
        "glasswork",
        "sun-clock",
        "seed-vault",
        "market-stall",
    ];
    let effects: String = addons
        .iter()
        .map(|id| format!("{id} = \"admin\"\n"))
        .collect();
    world.write(
        "halcyon-terrace/lantern.toml",
        format!("{settings}\n[effects]\n{effects}bee-traffic = \"play\"\n"),
    );
    let off = at(&world, &["plan", "--to", "same", "--off", "bee-traffic"]);
    assert!(
        off.contains(
            "note: greenhouse.conf: listed becomes plain, as nothing that runs changes play"
        ),
        "{off}"
    );
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    assert!(world.read(conf).ends_with("listed = plain  # quiet\n"));
    let on = at(&world, &["plan", "--to", "same", "--on", "bee-traffic"]);
    assert!(
        on.contains("listed becomes modded, as bee-traffic changes play"),
        "{on}"
    );
}

#[test]
fn a_second_server_on_the_same_install_keeps_its_program() {
    let world = World::running();
    world.write(
        "halcyon-terrace/start-two.sh",
        "#!/bin/sh\ncd /srv/other\nexec sh server/halcyon --lattice 1.8.0\n",
    );
    let told = at(&world, &["survey"]);
    assert!(
        told.contains("note [several-servers] start-two.sh:3: this starts server/halcyon, too"),
        "{told}"
    );
    world.ok(PLAN);
    // It has the program open, and writes nothing of this server's.
    let mut second = std::process::Command::new("sh")
        .args(["-c", "exec 9<server/gate.bin; exec sleep 60"])
        .current_dir(world.path("halcyon-terrace"))
        .spawn()
        .unwrap();
    let open = format!("/proc/{}/fd/9", second.id());
    world.wait("the program is open", || {
        std::path::Path::new(&open).exists()
    });
    assert_snapshot!("shared", at(&world, &["changeover", "--yes"]));
    assert!(at(&world, &["console", "state"]).contains("is up"));
    second.kill().unwrap();
    second.wait().unwrap();
    assert!(at(&world, &["changeover", "--yes"]).contains("exit status 0"));
}

#[test]
fn what_a_start_script_lacks_is_added_and_latest_is_a_number() {
    let world = world("#!/bin/sh\nexec sh server/halcyon --seed 5\n");
    let told = world.lantern(PLAN);
    let added = "+ exec sh server/halcyon --lattice 2.2.0 --seed 5\n";
    assert!(told.contains(added), "{told}");
    // The newest release for the server version is a number in the plan, and what is held gives way to what is said.
    let latest = world.lantern(&[PLAN, &["--keep", "seed-vault=latest"]].concat());
    assert!(
        latest.contains("update  addon      seed-vault    4.0.2  4.1.0"),
        "{latest}"
    );
    assert_snapshot!(
        "no_latest",
        world.lantern(&[PLAN, &["--keep", "seed-vaul=latest"]].concat())
    );
    let settings = world.read("halcyon-terrace/lantern.toml");
    let hold = |version: &str| {
        let settings = format!("{settings}\n[hold]\ndrip-lines = \"{version}\"\n");
        world.write("halcyon-terrace/lantern.toml", settings);
        world.lantern(PLAN)
    };
    assert!(hold("latest").contains("drip-lines    2.3.0  2.5.0"));
    let held = hold("2.3.0");
    assert!(
        held.contains("2.5.0 is ruled out by --keep or [hold]"),
        "{held}"
    );
    let said = world.lantern(&[PLAN, &["--keep", "drip-lines=2.5.0"]].concat());
    assert!(said.contains("exit status 0"), "{said}");
}

#[test]
fn a_setting_is_another_way_while_a_changeover_is_under_way() {
    let world = World::demo();
    let family = include_str!("../../../../families/halcyon.family.toml");
    let flag = "\n[[flag]]\nname = \"reload\"\nfile = \"watch.conf\"\nline = '^reload = (?P<value>\\w+)'\n\
                follows = \"changeover\"\nyes = \"off\"\n\n[launch]\n";
    world.write("mine.family.toml", family.replacen("\n[launch]\n", flag, 1));
    let watch = "# what is looked for on the disk\r\nreload = always  # as it is handy\r\n";
    world.write("halcyon-terrace/watch.conf", watch);
    // The start says what it finds.
    world.edit(
        "halcyon-terrace/start.sh",
        "exec ",
        "mkdir -p logs && cat watch.conf >> logs/watched\nexec ",
    );
    world.ok(&["adopt", "halcyon-terrace", "--family", "mine.family.toml"]);
    world.edit("halcyon-terrace/lantern.toml", "at = [\"10s\"]", "at = []");
    at(&world, &["console", "start"]);
    at(&world, &["plan", "--to", "same", "--off", "bee-traffic"]);
    assert!(at(&world, &["changeover", "--yes"]).contains("exit status 0"));
    let paused = watch.replace("always", "off");
    assert_eq!(
        world.read("halcyon-terrace/logs/watched"),
        format!("{watch}{paused}")
    );
    assert_eq!(world.read("halcyon-terrace/watch.conf"), watch);
    assert!(at(&world, &["undo", "--keep-world"]).contains("exit status 0"));
    let all = format!("{watch}{paused}{paused}");
    assert_eq!(world.read("halcyon-terrace/logs/watched"), all);
    assert_eq!(world.read("halcyon-terrace/watch.conf"), watch);
    // One that fails puts it back, too.
    world.drop_addon(
        "night-watch-1.2.0.bloom",
        "id='night-watch'\nversion='1.2.0'\n[standin]\ndies_after_ready_ms=100\n",
    );
    at(
        &world,
        &[
            "plan",
            "--to",
            "same",
            "--from",
            "drop",
            "--add",
            "night-watch",
        ],
    );
    let told = at(&world, &["changeover", "--yes"]);
    assert!(told.contains("the old state is being put back"), "{told}");
    assert_eq!(world.read("halcyon-terrace/watch.conf"), watch);
}

#[test]
fn what_comes_with_a_release_and_settings_of_every_notation_are_pinned() {
    let world = World::demo();
    let family = include_str!("../../../../families/triad.family.toml");
    let parts = "parts = [{ from = \"bin\", to = \"bin\" }, { from = \"go.sh\", to = \"go.sh\", own = true }]\n";
    let family = family.replacen(
        "install = \"bin\"\n",
        &format!("install = \"bin\"\n{parts}"),
        1,
    );
    let pin = |file: &str, at: &str| {
        format!("[[pin]]\nfile = \"{file}\"\n{at}\nbecomes = \"{{build.number}}\"\n")
    };
    let pins = [
        pin("go.sh", "line = '--for (?P<value>\\S+)'"),
        pin("gate.json", "key = \"gate.build\""),
        pin("gate.toml", "key = \"gate.build\""),
        pin("gate.yaml", "key = \"gate.build\""),
        pin("gate.ini", "key = \"gate.build\""),
        pin("gate.xml", "key = \"gate.@build\""),
    ];
    let family = family.replacen("[order]\n", &format!("{}\n[order]\n", pins.concat()), 1);
    let family = family.replacen(
        "settings = [\"start.sh\"]",
        "settings = [\"start.sh\", \"gate.*\"]",
        1,
    );
    world.write("mine.family.toml", family);
    let at = |words: &[&str]| world.lantern(&[words, &["--server", "triad-north"]].concat());
    world.write(
        "triad-north/gate.json",
        "{\n  \"gate\": {\n    \"open\": true\n  }\n}\n",
    );
    world.write(
        "triad-north/gate.toml",
        "# ours\n[gate]\nbuild = \"v7.1.2\"  # of the suns\n",
    );
    world.write("triad-north/gate.yaml", "gate:\n  build: latest # always\n");
    world.write("triad-north/gate.ini", "[gate]\r\nopen=yes\r\n");
    world.write("triad-north/gate.xml", "<gate open=\"yes\"/>\n");
    world.ok(&["adopt", "triad-north", "--family", "mine.family.toml"]);
    world.zip(
        "suns-drop/triad-7.2.0.zip",
        &[
            ("bin/build.properties", "build.version = v7.2.0\n"),
            ("bin/triad", "exit 1\n"),
            (
                "go.sh",
                "#!/bin/sh\n# --for the suns\nexec sh bin/triad --for latest\n",
            ),
        ],
    );
    assert_snapshot!(
        "pins_everywhere",
        at(&["plan", "--to", "v7.2.0", "--from", "suns-drop"])
    );
    at(&["changeover", "--yes", "--stay"]);
    assert_eq!(
        world.read("triad-north/go.sh"),
        "#!/bin/sh\n# --for the suns\nexec sh bin/triad --for 7.2.0\n"
    );
    assert_eq!(
        world.read("triad-north/gate.xml"),
        "<gate open=\"yes\" build=\"7.2.0\" />\n"
    );
    assert_snapshot!("pins_everywhere_edited", at(&["survey", "--edited"]));
    assert!(at(&["plan", "--to", "same"]).contains("nothing to do"));
}

#[test]
fn what_is_changed_in_a_text_as_it_comes_is_nobodys_edit() {
    let world = World::empty();
    let pin = "\n[[pin]]\nfile = \"shrubs/*/made.txt\"\nline = '^for=(?P<value>\\S+)'\nbecomes = \"{build.version}\"\n";
    let more = [pin, hedge::CONSOLE].concat();
    world.write("hedge.family.toml", hedge::family(hedge::FOLDERS, &more));
    world.write("hedge/hedge.sh", hedge::SERVER);
    let shrub = |version: &str| format!("id = 'box'\nversion = '{version}'\n");
    world.write("hedge/shrubs/box/shrub.toml", shrub("1.0"));
    world.write("hedge/shrubs/box/made.txt", "rows=1\nfor=1.0\n");
    hedge::adopt(&world);
    let release = |version: &str, made: &str| {
        let files = [("box/shrub.toml", &*shrub(version)), ("box/made.txt", made)];
        world.zip("drop/box.zip", &files);
    };
    let on_hedge = |args: &[&str]| world.lantern(&[args, &["--server", "hedge"]].concat());
    let plan = || on_hedge(&["plan", "--to", "same", "--from", "drop"]);
    let changeover = || on_hedge(&["changeover", "--yes"]);
    let made = || world.read("hedge/shrubs/box/made.txt");
    release("2.0", "wide=2\n\n\nrows=2\n\n\nfor=0.9\n");
    let told = [plan(), changeover(), on_hedge(&["survey"])];
    assert_snapshot!("pinned_as_it_comes", told.join("\n"));
    assert_eq!(made(), "wide=2\n\n\nrows=2\n\n\nfor=1.0\n");
    // The next one is what is there once the pin is set.
    release("3.0", "wide=2\n\n\nrows=2\n\n\nfor=0.8\n");
    assert_snapshot!("pinned_to_what_is_there", plan());
    changeover();
    assert!(on_hedge(&["survey"]).contains("as shipped"));
    // What is edited by hand after that is told from it, and stays.
    world.edit("hedge/shrubs/box/made.txt", "rows=2", "rows=7");
    release("4.0", "wide=4\n\n\nrows=2\n\n\nfor=0.7\n");
    assert_snapshot!("pinned_over_an_edit", plan());
    changeover();
    assert_eq!(made(), "wide=4\n\n\nrows=7\n\n\nfor=1.0\n");
    assert!(on_hedge(&["plan", "--to", "same"]).contains("nothing to do"));
}
