//! Build, framework, pack, add-ons: what goes, what stays, what is laid again.

use crate::world::World;
use insta::assert_snapshot;
use std::fs;
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use zip::write::SimpleFileOptions;

const ORCHARD: &str = "halcyon-orchard";
const PACK: &[&str] = &[
    "plan",
    "--to",
    "5.4",
    "--from",
    "orchard-drop",
    "--catalogue",
    "depot/verdance.catalogue.json",
    "--server",
    ORCHARD,
];

fn with(args: &[&'static str], more: &[&'static str]) -> Vec<&'static str> {
    [args, more].concat()
}

/// The server with the pack, in care, and nobody warned for long.
fn orchard() -> World {
    let world = World::demo();
    world.ok(&["adopt", ORCHARD]);
    world.edit("halcyon-orchard/lantern.toml", "at = [\"10s\"]", "at = []");
    world
}

fn changeover(world: &World) -> String {
    world.lantern(&["changeover", "--yes", "--server", ORCHARD])
}

/// The tree without what a running server writes, and without lantern's settings.
fn still(world: &World, server: &str) -> String {
    let tree = world.tree(server);
    let lines = tree.lines().filter(|line| !line.starts_with("worlds/"));
    lines.collect::<Vec<_>>().join("\n")
}

/// Writes a release of the pack into a drop folder.
fn pack(world: &World, file: &str, descriptor: &str, more: &[(&str, &str)]) {
    let files = [&[("pack.toml", descriptor)], more].concat();
    world.zip(file, &files);
}

#[test]
fn a_pack_moves_with_build_framework_and_start_script() {
    let world = orchard();
    world.ok(&["console", "start", "--server", ORCHARD]);
    let before = still(&world, ORCHARD);
    assert_snapshot!(
        "pack_survey",
        world.lantern(&["survey", "--server", ORCHARD])
    );
    assert_snapshot!("pack_no_variant", world.lantern(PACK));
    let wild = with(PACK, &["--variant", "orchard=wild"]);
    assert_snapshot!("pack_plan", world.lantern(&wild));
    assert_snapshot!("pack_plan_files", world.lantern(&with(&wild, &["--files"])));
    let plan = world.read("halcyon-orchard/.lantern/next.plan.json");
    world.ok(&wild);
    assert_eq!(plan, world.read("halcyon-orchard/.lantern/next.plan.json"));
    assert_snapshot!("pack_changeover", changeover(&world));
    // The port, the server's own mark and where the stand-in lies differ from run to run.
    let differs = ["greenhouse.conf", "lantern.toml", "server/halcyon"];
    let tree = still(&world, ORCHARD);
    let same = tree
        .lines()
        .filter(|line| !differs.iter().any(|path| line.starts_with(path)));
    assert_snapshot!("pack_tree", same.collect::<Vec<_>>().join("\n"));
    assert!(
        world
            .read("halcyon-orchard/config/orchard/weather.toml")
            .contains("wild")
    );
    assert!(
        world
            .read("halcyon-orchard/start.sh")
            .contains("--lattice 2.2.0")
    );
    // The variant is remembered, and the same pack again is nothing to do.
    assert_snapshot!("pack_again", world.lantern(PACK));
    assert_snapshot!("history", world.lantern(&["history", "--server", ORCHARD]));
    let stormy = with(PACK, &["--variant", "orchard=stormy"]);
    assert_snapshot!("pack_stormy", world.lantern(&stormy));
    // Another variant of the same release is a change of its own, and can be taken back.
    let calm = with(PACK, &["--variant", "orchard=calm"]);
    assert_snapshot!("pack_calm", world.lantern(&calm));
    changeover(&world);
    let weather = || world.read("halcyon-orchard/config/orchard/weather.toml");
    assert!(weather().contains("calm"), "{}", weather());
    assert!(world.lantern(&calm).contains("nothing to do"));
    world.ok(&["undo", "--keep-world", "--server", ORCHARD]);
    assert!(weather().contains("wild"), "{}", weather());
    assert!(world.lantern(PACK).contains("nothing to do"));
    world.ok(&["undo", "--keep-world", "--server", ORCHARD]);
    assert_eq!(before, still(&world, ORCHARD));
    assert_snapshot!(
        "history_undone",
        world.lantern(&["history", "--server", ORCHARD])
    );
    assert_snapshot!(
        "history_thin",
        world.lantern(&["history", "--thin", "1", "--yes", "--server", ORCHARD])
    );
    assert_snapshot!(
        "history_thinned",
        world.lantern(&["history", "--server", ORCHARD])
    );
}

/// Makes the release of the pack after the next one from the next one.
fn pack_for_5_5(world: &World) {
    let early = fs::read(world.path("depot/releases/bee-traffic-1.0.0-rc.1.bloom")).unwrap();
    let next = fs::File::open(world.path("orchard-drop/orchard-5.4-pack.zip")).unwrap();
    let mut next = zip::ZipArchive::new(next).unwrap();
    let file = fs::File::create(world.path("orchard-drop/orchard-5.5-pack.zip")).unwrap();
    let mut later = zip::ZipWriter::new(file);
    for index in 0..next.len() {
        let mut entry = next.by_index(index).unwrap();
        let mut content = Vec::new();
        entry.read_to_end(&mut content).unwrap();
        let name = entry.name().unwrap().replace("5.4", "5.5");
        let name = name.replace("bee-traffic-0.9.0", "bee-traffic-1.0.0-rc.1");
        if name.contains("bee-traffic") {
            content.clone_from(&early);
        } else if let Ok(text) = std::str::from_utf8(&content) {
            let text = text.replace("5.5", "5.6").replace("5.4", "5.5");
            content = text.into_bytes();
        }
        later
            .start_file(name, SimpleFileOptions::default())
            .unwrap();
        later.write_all(&content).unwrap();
    }
    later.finish().unwrap();
}

#[test]
fn a_pack_is_brought_forward_in_stops() {
    let world = orchard();
    pack_for_5_5(&world);
    world.ok(&["console", "start", "--server", ORCHARD]);
    world.write("halcyon-orchard/config/orchard/tally.toml", "apples = 8\n");
    let before = still(&world, ORCHARD);
    let mut in_stops = PACK.to_vec();
    in_stops[2] = "5.5";
    let in_stops = with(&in_stops, &["--allow-early", "--variant", "orchard=wild"]);
    assert_snapshot!("pack_in_stops", world.lantern(&in_stops));
    let second = "halcyon-orchard/.lantern/next-2.plan.json";
    assert!(changeover(&world).contains("exit status 0"));
    assert_snapshot!(
        "pack_second_stop",
        world.lantern(&["changeover", "--yes", second, "--server", ORCHARD])
    );
    assert_snapshot!(
        "pack_at_5_5",
        world.lantern(&["survey", "--server", ORCHARD])
    );
    let at = |version: &str| {
        world.path(&format!(
            "halcyon-orchard/config/orchard/for-{version}.toml"
        ))
    };
    assert!(at("5.5").exists() && !at("5.4").exists() && !at("5.1").exists());
    for _ in 0..2 {
        world.ok(&["undo", "--keep-world", "--server", ORCHARD]);
    }
    assert_eq!(before, still(&world, ORCHARD));
}

#[test]
fn what_the_administrator_did_to_a_pack_is_carried_over() {
    let world = orchard();
    let config = |name: &str| format!("halcyon-orchard/config/orchard/{name}");
    world.edit(&config("harvest.toml"), "apples = 40", "apples = 50");
    world.edit(&config("paths.toml"), "pond", "hill");
    world.write(&config("mine.toml"), "bench = true\n");
    fs::remove_file(world.path("halcyon-orchard/addons/bee-traffic-0.8.4.bloom")).unwrap();
    world.edit("halcyon-orchard/greenhouse.conf", "start bee-traffic\n", "");
    assert_snapshot!(
        "pack_edited_survey",
        world.lantern(&["survey", "--server", ORCHARD])
    );
    let calm = with(PACK, &["--variant", "orchard=calm"]);
    assert_snapshot!("pack_edited_plan", world.lantern(&calm));
    let told = changeover(&world);
    assert!(told.contains("exit status 0"), "{told}");
    assert!(world.read(&config("paths.toml")).contains("hill"));
    assert!(world.read(&config("harvest.toml")).contains("apples = 50"));
    assert_eq!(world.read(&config("mine.toml")), "bench = true\n");
    assert!(
        !world.path(&config("for-5.1.toml")).exists(),
        "nothing stale stays"
    );
    assert!(
        !world
            .path("halcyon-orchard/addons/bee-traffic-1.0.0-rc.1.bloom")
            .exists()
    );
    assert_snapshot!(
        "pack_edited_after",
        world.lantern(&["survey", "--server", ORCHARD])
    );
    assert_snapshot!(
        "pack_edited_files",
        world.lantern(&["survey", "--edited", "--server", ORCHARD])
    );
    // What the new release ships is kept, also where the administrator's own stays in its place.
    let edited = world.lantern(&["survey", "--edited", "--json", "--server", ORCHARD]);
    assert!(edited.contains("\"text_kept\": true"), "{edited}");
    assert!(!edited.contains("\"text_kept\": false"), "{edited}");
}

#[test]
fn a_build_update_does_not_silence_the_framework() {
    let world = World::adopted();
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    let to_5_2 = [
        "plan",
        "--to",
        "5.2",
        "--catalogue",
        "depot/verdance.catalogue.json",
        "--server",
        "halcyon-terrace",
    ];
    assert_snapshot!("framework_stays_plan", world.lantern(&with(&[], &to_5_2)));
    assert_snapshot!(
        "framework_stays",
        world.lantern(&["changeover", "--yes", "--server", "halcyon-terrace"])
    );
    let gate = "halcyon-terrace/server/gate.bin";
    assert!(world.read(gate).starts_with("lattice 1.8.0"));
    // Somebody unpacks the build by hand, and the framework is silent.
    world.ok(&["console", "stop", "--server", "halcyon-terrace"]);
    world.write(gate, "bare gate of 5.2.0\n".repeat(20));
    assert_snapshot!(
        "framework_silenced",
        world.lantern(&["survey", "--server", "halcyon-terrace"])
    );
    let same = ["plan", "--to", "same", "--server", "halcyon-terrace"];
    assert_snapshot!("framework_again_plan", world.lantern(&same));
    assert_snapshot!(
        "framework_again",
        world.lantern(&["changeover", "--yes", "--server", "halcyon-terrace"])
    );
    assert!(world.read(gate).starts_with("lattice 1.8.0"));
    assert_snapshot!(
        "framework_fine",
        world.lantern(&["survey", "trellis", "--server", "halcyon-terrace"])
    );
    let keep = [
        "plan",
        "--to",
        "5.4",
        "--keep",
        "trellis=1.8.0",
        "--catalogue",
        "depot/verdance.catalogue.json",
        "--server",
        "halcyon-terrace",
    ];
    assert_snapshot!("no_framework_fits", world.lantern(&keep));
}

#[test]
fn a_taken_out_framework_gives_the_build_its_own_back() {
    let world = World::adopted();
    let plan = [
        "plan",
        "--to",
        "5.2",
        "--catalogue",
        "depot/verdance.catalogue.json",
        "--server",
        "halcyon-terrace",
    ];
    world.ok(&plan);
    world.ok(&["changeover", "--yes", "--server", "halcyon-terrace"]);
    let before = still(&world, "halcyon-terrace");
    assert_snapshot!(
        "framework_goes",
        world.lantern(&[
            "plan",
            "--to",
            "same",
            "--drop",
            "trellis",
            "--server",
            "halcyon-terrace"
        ])
    );
    // The stand-in does not start without its framework; the old state comes back.
    assert_snapshot!(
        "framework_gone",
        world.lantern(&["changeover", "--yes", "--server", "halcyon-terrace"])
    );
    assert_eq!(before, still(&world, "halcyon-terrace"));
}

#[test]
fn a_data_folder_is_not_the_addon() {
    let world = World::demo();
    world.write("halcyon-terrace/addons/sun-clock/noon", "12:04\n");
    world.ok(&["adopt", "halcyon-terrace"]);
    world.edit("halcyon-terrace/lantern.toml", "at = [\"10s\"]", "at = []");
    world.ok(crate::world::PLAN);
    world.ok(crate::world::CHANGEOVER);
    assert_eq!(
        world.read("halcyon-terrace/addons/sun-clock/noon"),
        "12:04\n"
    );
    assert!(
        !world
            .path("halcyon-terrace/addons/sun-clock-1.9.1.bloom")
            .exists()
    );
    assert!(
        world
            .path("halcyon-terrace/addons/sun-clock-2.0.0.bloom")
            .exists()
    );
    assert_snapshot!(
        "data_one",
        world.lantern(&["survey", "sun-clock", "--server", "halcyon-terrace"])
    );
}

#[test]
fn packs_that_cannot_be_used_are_told_before_anything_happens() {
    let world = orchard();
    let plan = |from: &'static str| {
        let args = ["plan", "--to", "same", "--from", from, "--server", ORCHARD];
        world.lantern(&args)
    };
    // The world holds content of one member, and these packs hold none at all.
    let plan_without = |from: &'static str, more: &[&'static str]| {
        let args = [
            "plan",
            "--to",
            "same",
            "--drop",
            "bee-traffic",
            "--world-loses",
            "bee-traffic",
            "--from",
            from,
        ];
        world.lantern(&[&args, more, &["--server", ORCHARD]].concat())
    };
    assert_snapshot!("pack_client_edition", plan("client-drop"));
    let good = "id = 'orchard'\nversion = '5.2'\nserver = '>=5'\nside = 'server'\n";
    pack(&world, "deep/orchard-5.2-pack.zip", good, &[]);
    let inner = fs::read(world.path("deep/orchard-5.2-pack.zip")).unwrap();
    fs::create_dir_all(world.path("boxed")).unwrap();
    let mut zip =
        zip::ZipWriter::new(fs::File::create(world.path("boxed/download-pack.zip")).unwrap());
    zip.start_file(
        "orchard-5.2-pack.zip",
        zip::write::SimpleFileOptions::default(),
    )
    .unwrap();
    std::io::Write::write_all(&mut zip, &inner).unwrap();
    zip.finish().unwrap();
    assert_snapshot!("pack_in_a_zip", plan("boxed"));
    fs::remove_file(world.path("deep/orchard-5.2-pack.zip")).unwrap();
    world.zip(
        "deep/orchard-5.2-pack.zip",
        &[
            ("Orchard 5.2/pack.toml", good),
            ("Orchard 5.2/config/orchard/harvest.toml", "apples = 1\n"),
        ],
    );
    assert_snapshot!("pack_leaves_world", plan("deep"));
    assert_snapshot!("pack_deeper", plan_without("deep", &[]));
    let owns = format!("{good}owns = ['players', 'config']\n");
    pack(&world, "owns/orchard-5.2-pack.zip", &owns, &[]);
    assert_snapshot!("pack_owns_kept", plan("owns"));
    let pins = format!("{good}pins = {{ moon-pool = '3.1' }}\n");
    pack(&world, "pins/orchard-5.2-pack.zip", &pins, &[]);
    assert_snapshot!("pack_pins_nobody_offers", plan("pins"));
    let why = ["why", "orchard", "--not", "5.2", "--server", ORCHARD];
    assert_snapshot!("pack_pins_why", world.lantern(&why));
    let brings = [("addons/night-watch-2.bloom", "")];
    pack(&world, "brings/orchard-5.2-pack.zip", good, &brings);
    assert_snapshot!("pack_brings_a_torn_member", plan("brings"));
    pack(&world, "kept/orchard-5.2-pack.zip", good, &[]);
    world.zip(
        "kept/trellis-1.9.0.zip",
        &[
            (
                "framework.toml",
                "id = 'trellis'\nversion = '1.9.0'\nserver = '>=5.0 <5.4'\n",
            ),
            ("overlay/server/gate.bin", "lattice 1.9.0\n"),
            ("overlay/barred.txt", "everybody\n"),
        ],
    );
    world.write("halcyon-orchard/barred.txt", "# nobody\n");
    world.ok(&["survey", "--server", ORCHARD]);
    assert_snapshot!("pack_writes_kept", plan("kept"));
    assert_snapshot!("pack_beside", plan_without("kept", &["--beside"]));
}

#[test]
fn a_pack_that_takes_in_an_addon_of_mine_asks_first() {
    let world = orchard();
    let watch = fs::read(world.path("halcyon-orchard/addons/night-watch-1.0.5.bloom")).unwrap();
    fs::create_dir_all(world.path("brings")).unwrap();
    let mut zip =
        zip::ZipWriter::new(fs::File::create(world.path("brings/orchard-5.2-pack.zip")).unwrap());
    let stored = zip::write::SimpleFileOptions::default();
    for (name, bytes) in [
        (
            "pack.toml",
            &b"id = 'orchard'\nversion = '5.2'\nserver = '>=5'\nmembers = ['night-watch']\n"[..],
        ),
        ("addons/night-watch-1.0.6.bloom", &watch[..]),
    ] {
        zip.start_file(name, stored).unwrap();
        std::io::Write::write_all(&mut zip, bytes).unwrap();
    }
    zip.finish().unwrap();
    let plan = [
        "plan", "--to", "same", "--from", "brings", "--server", ORCHARD,
    ];
    assert_snapshot!("pack_takes_mine", world.lantern(&plan));
    assert_snapshot!(
        "pack_takes_mine_dropped",
        world.lantern(&with(
            &[
                "plan",
                "--drop",
                "night-watch",
                "--drop",
                "bee-traffic",
                "--world-loses",
                "bee-traffic"
            ],
            &plan[1..]
        ))
    );
}

#[test]
fn a_server_program_is_made_by_a_recipe() {
    let world = World::adopted();
    let acquire = || world.lantern(&["acquire", "5.3.0", "--server", "halcyon-terrace"]);
    assert_snapshot!("acquire_no_recipe", acquire());
    // It really assembles the program, from what the old one has and a part that comes separately.
    world.write(
        "halcyon-terrace/tools/assemble.sh",
        "set -e\necho assembling $1\nmkdir -p server/parts\nprintf 'bare gate of %s\\n' $1 | gzip -c > server/parts/gate.gz\n\
         gzip -dc server/parts/gate.gz > server/gate.bin\nsed \"s/5\\.1\\.0/$1/g\" \"$2/server/build.toml\" > server/build.toml\n\
         sed \"s/5\\.1\\.0/$1/g\" \"$2/server/halcyon\" > server/halcyon\nchmod +x server/halcyon\necho done, now trying to start\nexit 1\n",
    );
    let settings = world.read("halcyon-terrace/lantern.toml");
    let recipe = |words: &str| {
        world.write(
            "halcyon-terrace/lantern.toml",
            format!("{settings}\n[acquire]\n{words}\n"),
        )
    };
    let good = "command = ['sh', '{server}/tools/assemble.sh', '{version}', '{server}']\nresults = ['server/*']\n";
    recipe(good);
    assert_snapshot!("acquire_fails", acquire());
    recipe(&format!(
        "{good}may_fail = true\nruntime = {{ command = ['printf', 'tool 9.1\\n'], version = 'tool (?P<version>.*)', range = '>=10' }}"
    ));
    assert_snapshot!("acquire_runtime_too_old", acquire());
    recipe(&format!(
        "{good}may_fail = true\nruntime = {{ command = ['no-such-tool'], version = '(?P<version>.*)', range = '>=10' }}"
    ));
    assert_snapshot!("acquire_runtime_missing", acquire());
    recipe("command = ['no-such-tool']\nresults = ['server/**']");
    assert_snapshot!("acquire_program_missing", acquire());
    recipe(
        "command = ['sh', '-c', 'echo slow; sleep 30 & sleep 30']\nresults = ['server/**']\nlimit_s = 1",
    );
    assert_snapshot!("acquire_too_long", acquire());
    recipe("command = ['sh', '-c', 'echo all done']\nresults = ['server/**']");
    assert_snapshot!("acquire_leaves_nothing", acquire());
    recipe(&format!(
        "{good}may_fail = true\nruntime = {{ command = ['printf', 'tool 10.2\\n'], version = 'tool (?P<version>.*)', range = '>=10' }}"
    ));
    assert_snapshot!("acquire", acquire());
    assert_snapshot!(
        "acquire_plan",
        world.lantern(&["plan", "--to", "5.3", "--server", "halcyon-terrace"])
    );
    assert_snapshot!(
        "acquire_plan_back",
        world.lantern(&[
            "plan",
            "--to",
            "5.2",
            "--catalogue",
            "depot/verdance.catalogue.json",
            "--server",
            "halcyon-terrace"
        ])
    );
}

#[test]
fn a_program_of_one_file_moves_with_its_name() {
    let world = World::demo();
    world.write("drop/arbour-3.2.9.run", "a newer program\n");
    world.write(
        "drop/moss-count.leaf",
        ";; leaf moss-count\n;; version 0.4\n;; arbour 3.2\ncount moss\n",
    );
    world.ok(&["adopt", "arbour-deck"]);
    assert_snapshot!(
        "one_file_plan",
        world.lantern(&[
            "plan",
            "--to",
            "3.2.9",
            "--drop",
            "harvest-fair",
            "--from",
            "drop",
            "--files",
            "--server",
            "arbour-deck"
        ])
    );
}

#[test]
fn what_a_pack_keeps_is_never_written() {
    let world = orchard();
    let tally = "halcyon-orchard/config/orchard/tally.toml";
    world.write(tally, "apples = 8\n");
    world.ok(&with(PACK, &["--variant", "orchard=calm"]));
    let told = changeover(&world);
    assert!(told.contains("exit status 0"), "{told}");
    assert_eq!(world.read(tally), "apples = 8\n");
    // It is the pack's world: what was counted since goes back with it, or stays.
    world.write(tally, "apples = 9\n");
    let undo = ["undo", "--server", ORCHARD];
    let told = world.lantern(&undo);
    let written = "config/orchard/tally.toml, worlds/orbit-garden/days";
    assert!(told.contains(written), "{told}");
    world.ok(&with(&undo, &["--with-world"]));
    assert_eq!(world.read(tally), "apples = 8\n");
    // So it does with the backup that the changeover made of it.
    world.write(tally, "apples = 10\n");
    let backups = fs::read_dir(world.path("halcyon-orchard/.lantern/store/backups"));
    let backup = backups.unwrap().next().unwrap().unwrap().path();
    let name = backup.file_stem().unwrap().to_str().unwrap();
    let restore = ["backup", "restore", name, "--in-place", "--server", ORCHARD];
    world.ok(&["console", "stop", "--server", ORCHARD]);
    world.ok(&restore);
    assert_eq!(world.read(tally), "apples = 8\n");
    world.ok(&undo);
    assert_eq!(world.read(tally), "apples = 10\n");
}

/// A framework whose descriptor does not say what it lays over the program; returns the descriptor.
fn says_no_overlay(world: &World) -> &'static str {
    let at = "halcyon-terrace/framework/framework.toml";
    let descriptor = world.read(at).leak();
    let silent = descriptor.split("\n[overlay]").next().unwrap();
    world.write(at, silent);
    silent
}

#[test]
fn what_a_framework_laid_before_lantern_came_is_learned_from_its_archive() {
    let world = World::demo();
    let terrace = "halcyon-terrace";
    let silent = says_no_overlay(&world);
    world.ok(&["adopt", terrace]);
    let to = |more: &[&str]| {
        let plan = [
            "plan",
            "--to",
            "5.2",
            "--catalogue",
            "depot/verdance.catalogue.json",
        ];
        world.lantern(&[&plan[..], &["--server", terrace], more].concat())
    };
    let note = "nobody knows what trellis 1.8.0 laid over the server program";
    let told = to(&[]);
    assert!(told.contains(note), "{told}");
    let gate = world.read("halcyon-terrace/server/gate.bin");
    let lattice = world.read("halcyon-terrace/framework/lattice.bin");
    let laid: &'static str = gate.clone().leak();
    let files = [
        ("framework.toml", silent),
        ("lattice.bin", lattice.leak()),
        ("overlay/server/gate.bin", laid),
    ];
    world.zip("laid/trellis-1.8.0.zip", &files);
    let told = to(&["--from", "laid"]);
    assert!(!told.contains(note), "{told}");
    world.ok(&["changeover", "--yes", "--server", terrace]);
    assert_eq!(world.read("halcyon-terrace/server/gate.bin"), gate);
    let told = world.ok(&["survey", "--server", terrace]);
    assert!(told.contains("halcyon 5.2"), "{told}");
    // A build that was unpacked by hand is seen now, and the framework laid again.
    world.write("halcyon-terrace/server/gate.bin", "bare gate\n");
    let told = world.lantern(&["survey", "--server", terrace]);
    assert!(told.contains("framework-inactive"), "{told}");
}

#[test]
fn a_framework_that_was_silenced_before_lantern_came_is_laid_again() {
    let world = World::demo();
    let terrace = "halcyon-terrace";
    let silent = says_no_overlay(&world);
    let gate = world.read("halcyon-terrace/server/gate.bin");
    world.write("halcyon-terrace/server/gate.bin", "bare gate\n");
    world.ok(&["adopt", terrace]);
    let files = [
        ("framework.toml", silent),
        (
            "lattice.bin",
            world.read("halcyon-terrace/framework/lattice.bin").leak(),
        ),
        ("overlay/server/gate.bin", gate.clone().leak()),
    ];
    world.zip("laid/trellis-1.8.0.zip", &files);
    let plan = [
        "plan", "--to", "same", "--from", "laid", "--server", terrace,
    ];
    assert_snapshot!("framework_learned_silent", world.lantern(&plan));
    world.ok(&["changeover", "--yes", "--server", terrace]);
    assert_eq!(world.read("halcyon-terrace/server/gate.bin"), gate);
}

/// The installer names the product as it likes, and three runtimes are installed, of which one is broken.
#[test]
fn a_recipe_finds_its_runtime_and_its_product() {
    let world = World::demo();
    world.ok(&["adopt", "arbour-deck"]);
    let settings = world.read("arbour-deck/lantern.toml");
    let recipe = |range: &str, more: &str| {
        let text = format!(
            "{settings}\n[acquire]\ncommand = ['sh', '-c', '{{runtime}} make; mkdir -p out; cp {{server}}/arbour-3.2.run out/arbour-3.3.1-full.run; {more} exit 2']\n\
             may_fail = true\nproduct = {{ find = 'out/arbour-(?P<version>[0-9.]+)-full[.]run$', as = 'arbour-{{version}}.run' }}\n\
             [acquire.runtime]\nlist = ['sh', '-c', 'ls {{server}}/tools/*/kiln']\ncommand = ['{{runtime}}', '--version']\n\
             version = 'kiln (?P<version>.*)'\nrange = '{range}'\n"
        );
        world.write("arbour-deck/lantern.toml", text);
    };
    for (version, says) in [("17", "kiln 17.0.2"), ("21", "kiln 21.1"), ("8", "no idea")] {
        let path = format!("arbour-deck/tools/{version}/kiln");
        world.write(&path, format!("#!/bin/sh\necho \"{says}\"\n"));
        let program = world.path(&path);
        fs::set_permissions(program, fs::Permissions::from_mode(0o755)).unwrap();
    }
    let acquire = || world.lantern(&["acquire", "3.3", "--server", "arbour-deck"]);
    recipe(">=17 <21", "");
    assert_snapshot!("recipe_finds_all", acquire());
    recipe(">=22", "");
    assert_snapshot!("recipe_finds_no_runtime", acquire());
    recipe(">=17", "cp out/* out/arbour-3.3.2-full.run;");
    assert_snapshot!("recipe_finds_several", acquire());
    recipe(">=17", "rm out/*;");
    assert_snapshot!("recipe_finds_nothing", acquire());
    // A name that leads out is refused, and what was made before is still there.
    recipe(">=17", "");
    let text = world.read("arbour-deck/lantern.toml");
    let text = text.replace("as = 'arbour-{version}.run'", "as = '../../out.run'");
    world.write("arbour-deck/lantern.toml", text);
    let told = acquire();
    assert!(told.contains("leads out of the folder"), "{told}");
    let made = "arbour-deck/.lantern/acquired/arbour-3.3.1/arbour-3.3.1.run";
    assert!(world.path(made).is_file());
}

#[test]
fn what_a_recipe_made_may_be_called_anything() {
    let world = World::demo();
    world.ok(&["adopt", "arbour-deck"]);
    let recipe = "\n[acquire]\ncommand = ['sh', '-c', 'cp {server}/arbour-3.2.run built']\nresults = ['built']\n";
    let settings = world.read("arbour-deck/lantern.toml") + recipe;
    world.write(
        "arbour-deck/lantern.toml",
        settings.replace("at = [\"10s\"]", "at = []"),
    );
    world.ok(&["acquire", "3.3", "--server", "arbour-deck"]);
    assert_snapshot!(
        "acquired_by_another_name",
        world.lantern(&[
            "plan",
            "--to",
            "3.3",
            "--allow-untested",
            "--drop",
            "harvest-fair",
            "--server",
            "arbour-deck"
        ])
    );
}
