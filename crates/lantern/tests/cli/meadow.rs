//! What an administrator changed by hand stays over later releases: values, blocks, manifest lines, need lists, and edits with a name.

use crate::world::World;
use insta::assert_snapshot;
use std::fs;
use std::path::Path;

const TIMES: &str = "tramway-meadow/stock/timetable/timetable.toml";
const BOARD: &str = "tramway-meadow/stock/timetable/board.script";
const MANIFEST: &str = "tramway-meadow/stock/timetable/wagon.man";
const BOOTH: &str = "tramway-meadow/stock/ticket-booth/wagon.man";
const NEWEST: &[&str] = &[
    "plan",
    "--to",
    "same",
    "--from",
    "meadow-drop",
    "--prefer",
    "newest",
];

fn at(world: &World, words: &[&str]) -> String {
    world.lantern(&[words, &["--server", "tramway-meadow"]].concat())
}

fn done(world: &World, words: &[&str]) -> String {
    let told = at(world, words);
    assert!(told.contains("exit status 0"), "{told}");
    told
}

/// The meadow in care, and changed by hand.
fn meadow() -> World {
    let world = World::demo();
    world.ok(&["adopt", "tramway-meadow"]);
    world.edit(TIMES, "every_min = 20", "every_min = 12   # since the fair");
    world.edit(TIMES, "wait_s = 30", "wait_s = 45");
    world.edit(
        TIMES,
        "[\"gate\", \"pond\"]",
        "[\"gate\", \"pond\", \"market\"]",
    );
    world.edit(
        BOARD,
        "  show 3\n  scroll 'slow'\n",
        "  show 5\n  scroll 'brisk'\n",
    );
    world.edit(MANIFEST, "scripts {\n", "scripts {\n  'bell.script',\n");
    world
}

/// The parts of a release of the timetable.
fn release(world: &World, version: &str, times: &str, board: &str) {
    let manifest = format!(
        "title 'Timetable'\nversion '{version}'\nengine '>=2030'\nneeds {{ 'rail-kit' }}\n\nscripts {{\n  'board.script',\n  'times.script',\n  'glow.script',\n}}\n"
    );
    world.zip(
        &format!("meadow-drop/timetable-{version}.zip"),
        &[
            ("timetable/wagon.man", manifest.as_str()),
            ("timetable/timetable.toml", times),
            ("timetable/board.script", board),
            ("timetable/times.script", "-- times\n"),
            ("timetable/glow.script", "-- glow\n"),
        ],
    );
}

#[test]
fn an_evening_of_edits_is_kept_over_a_new_release() {
    let world = meadow();
    assert_snapshot!(
        "meadow_keep",
        at(
            &world,
            &[
                "settings",
                "keep",
                "stock/timetable/board.script",
                "--as",
                "full-boards"
            ]
        )
    );
    assert_snapshot!("meadow_plan", at(&world, NEWEST));
    assert_snapshot!(
        "meadow_compare",
        at(
            &world,
            &["settings", "compare", "stock/timetable/timetable.toml"]
        )
    );
    done(&world, &["settings", "decide", "6cb009b4", "14"]);
    done(&world, &["changeover", "--yes"]);
    let whole = [TIMES, BOARD, MANIFEST, BOOTH].map(|path| world.read(path));
    assert_snapshot!("meadow_after", whole.join("----\n"));
    let told = at(&world, &["history", "1"]);
    let (_, told) = told.split_once("  changed by you, and came").unwrap();
    assert_snapshot!("meadow_history", told);
    assert_snapshot!("meadow_kept", at(&world, &["settings", "kept"]));
    // A value in the edit is changed: it stays one, over a release that changes other lines, and one that takes the block away.
    world.edit(BOARD, "show 5", "show 6");
    release(
        &world,
        "2.1",
        &world
            .read(TIMES)
            .replace("every_min = 14   # since the fair", "every_min = 15"),
        &world
            .read(BOARD)
            .replace("show 6", "show 3")
            .replace("brisk", "slow")
            .replace("'left'", "'right'"),
    );
    done(&world, NEWEST);
    done(&world, &["changeover", "--yes"]);
    let board = world.read(BOARD);
    assert!(
        board.contains("show 6\n  scroll 'brisk'") && board.contains("clock 'right'"),
        "{board}"
    );
    let kept = at(&world, &["settings", "kept", "full-boards"]);
    assert!(
        kept.contains("+  show 6") && kept.contains("in it"),
        "{kept}"
    );
    release(&world, "2.2", &world.read(TIMES), "-- no board any more\n");
    let gone = done(&world, NEWEST);
    assert!(
        gone.contains("the patch full-boards is laid") || gone.contains("this has to be decided"),
        "{gone}"
    );
    let told = done(&world, &["plan", "--again", "--theirs"]);
    assert!(
        told.contains("the patch full-boards does not fit any more, from line"),
        "{told}"
    );
    done(&world, &["changeover", "--yes"]);
    assert!(at(&world, &["settings", "kept"]).contains("does not fit"));
    // And back, byte for byte.
    for _ in 0..3 {
        done(&world, &["undo", "--yes"]);
    }
    assert!(
        world
            .read(TIMES)
            .contains("every_min = 12   # since the fair")
    );
    assert!(
        world
            .read(BOOTH)
            .contains("'night-fares', -- and by day, too")
    );
}

#[test]
fn an_edit_with_a_name_is_shared() {
    let world = meadow();
    done(
        &world,
        &[
            "settings",
            "keep",
            "stock/timetable/board.script",
            "--as",
            "full-boards",
        ],
    );
    done(
        &world,
        &[
            "settings",
            "export",
            "full-boards",
            "--out",
            "full-boards.patch",
        ],
    );
    // Somebody else has the same wagon, and not the edit.
    world.edit(
        BOARD,
        "  show 5\n  scroll 'brisk'\n",
        "  show 3\n  scroll 'slow'\n",
    );
    assert!(at(&world, &["settings", "kept"]).contains("fits, and is not in it"));
    done(&world, &["settings", "unkeep", "full-boards"]);
    assert_snapshot!(
        "meadow_import",
        at(&world, &["settings", "import", "full-boards.patch"])
    );
    done(&world, &["changeover", "--yes"]);
    assert!(world.read(BOARD).contains("  show 5\n  scroll 'brisk'\n"));
    let faults = [
        at(&world, &["settings", "import", "full-boards.patch"]),
        at(
            &world,
            &["settings", "import", "full-boards.patch", "--as", "../x"],
        ),
        at(
            &world,
            &[
                "settings",
                "keep",
                "stock/rail-kit/wagon.man",
                "--as",
                "none",
            ],
        ),
        at(&world, &["settings", "kept", "other"]),
    ];
    assert_snapshot!("meadow_patch_faults", faults.join("\n"));
    // A new release is laid with it also where the file was not changed by hand.
    world.write(
        "hostile.patch",
        "--- a/x\n+++ b/../../etc/x\n@@ -1 +1 @@\n-a\n+b\n",
    );
    assert!(
        at(&world, &["settings", "import", "hostile.patch"]).contains("leads out of the folder")
    );
    world.write(
        "own.patch",
        "--- a/x\n+++ b/.lantern/armed.json\n@@ -1 +1 @@\n-a\n+b\n",
    );
    assert!(at(&world, &["settings", "import", "own.patch"]).contains("lantern's own"));
}

#[test]
fn lines_that_both_changed_are_written_in_an_editor() {
    let world = meadow();
    let board = world
        .read(BOARD)
        .replace("show 5", "show 4")
        .replace("brisk", "slow");
    release(&world, "2.0", &world.read(TIMES), &board);
    assert_snapshot!("meadow_block", at(&world, NEWEST));
    let refused = at(&world, &["changeover", "--yes"]);
    assert!(
        refused.contains("the plan waits for a decision"),
        "{refused}"
    );
    // The editor leaves what it was given: the marks are still there.
    let edit = |editor: &str| {
        let words = [
            "settings",
            "edit",
            "stock/timetable/board.script",
            "--server",
            "tramway-meadow",
        ];
        let output = world.with_env(&words, "EDITOR", editor);
        let told = [&output.stdout[..], &output.stderr[..]].concat();
        format!(
            "exit status {}\n{}",
            output.status.code().unwrap(),
            String::from_utf8_lossy(&told)
        )
    };
    assert!(edit("true").contains("a mark of what was to be decided still stands there"));
    assert!(edit("false").contains("did not end well"));
    world.write("editor.sh", "grep -v '^<<<<<<<\\|^=======\\|^>>>>>>>\\|show 4\\|slow' \"$1\" > \"$1.new\" && mv \"$1.new\" \"$1\"\n");
    let told = edit(&format!("sh {}", world.path("editor.sh").display()));
    assert!(
        told.contains("exit status 0") && !told.contains("waits for"),
        "{told}"
    );
    done(&world, &["changeover", "--yes"]);
    assert!(
        world
            .read(BOARD)
            .contains("  show 5\n  scroll 'brisk'\nend"),
        "{}",
        world.read(BOARD)
    );
}

#[test]
fn secrets_stand_in_no_plan() {
    let world = meadow();
    let with = |secret: &str, more: &str| {
        format!("every_min = 20\npassword = \"{secret}\"\n{more}\n[stops]\nwait_s = 30\n")
    };
    world.write(TIMES, with("", "tone = 1"));
    world.ok(&["survey", "--server", "tramway-meadow"]);
    release(&world, "2.0", &with("", "tone = 1"), &world.read(BOARD));
    done(
        &world,
        &[
            "plan",
            "--to",
            "same",
            "--from",
            "meadow-drop",
            "--prefer",
            "newest",
            "--theirs",
        ],
    );
    done(&world, &["changeover", "--yes"]);
    world.write(TIMES, with("fern-in-june", "tone = 1"));
    // The secret goes, and then it is changed, in the release.
    release(
        &world,
        "2.1",
        "every_min = 20\ntone = 2\n[stops]\nwait_s = 30\n",
        &world.read(BOARD),
    );
    let gone = done(&world, NEWEST);
    assert!(
        gone.contains("password is in the new release no more; yours was a secret"),
        "{gone}"
    );
    let shown = at(
        &world,
        &["diff", "--plan", "stock/timetable/timetable.toml"],
    );
    assert!(shown.contains("(a secret)"), "{shown}");
    for file in [
        "next.plan.json",
        "next.question.json",
        "next.request.json",
        "armed.json",
    ] {
        let text = world.read(&format!("tramway-meadow/.lantern/{file}"));
        assert!(!text.contains("fern-in-june"), "{file}");
    }
    assert!(![gone, shown].concat().contains("fern-in-june"));
    done(&world, &["changeover", "--yes"]);
    assert_eq!(
        world.read(TIMES),
        "every_min = 20\ntone = 2\n[stops]\nwait_s = 30\n"
    );
    done(&world, &["undo", "--yes"]);
    assert_eq!(world.read(TIMES), with("fern-in-june", "tone = 1"));
    release(&world, "2.1", &with("moss", "tone = 2"), &world.read(BOARD));
    let both = done(&world, NEWEST);
    assert!(
        both.contains("changed (a secret)") && !both.contains("moss"),
        "{both}"
    );
    assert!(
        at(
            &world,
            &["settings", "show", "stock/timetable/timetable.toml"]
        )
        .contains("(a secret)")
    );
    let refused = at(
        &world,
        &[
            "settings",
            "keep",
            "stock/timetable/timetable.toml",
            "--as",
            "mine",
        ],
    );
    assert!(
        refused.contains("password is a secret by its name, and no patch holds one"),
        "{refused}"
    );
}

/// Settings of the place, which no release overwrites, beside a sample that the engine ships.
#[test]
fn a_sample_says_what_is_new_in_it() {
    let world = World::demo();
    let family = fs::read_to_string(
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../families/tramway.family.toml"),
    )
    .unwrap();
    let rule = "[[settings]]\nfile = \"line.toml\"\nsample = \"engine/line.sample.toml\"\nsecret = [\"*.rcon\"]\n\n[order]";
    world.write(
        "tramway.family.toml",
        family.replacen("[order]", rule, 1).replace(
            "settings = [\"start.sh\"]",
            "settings = [\"start.sh\", \"line.toml\"]",
        ),
    );
    let sample = "# The line.\nseats = 24\nfare = 2\ndoors = \"both\"\n\n[remote]\nrcon = \"\"\n";
    world.write("tramway-meadow/engine/line.sample.toml", sample);
    world.write(
        "tramway-meadow/line.toml",
        sample
            .replace("fare = 2", "fare = 3   # since May")
            .replace("rcon = \"\"", "rcon = \"fern\"")
            + "own = 1\n",
    );
    world.ok(&["adopt", "tramway-meadow", "--family", "tramway.family.toml"]);
    let later = "# The line.\nseats = 30\nfare = 4\n# whether it rings\nbell = true\n\n[remote]\nrcon = \"\"\n# from where\nfrom = \"here\"\n";
    let engine = world
        .read("tramway-meadow/engine/tramway.bin")
        .replace("2031.4", "2031.5");
    let about = world
        .read("tramway-meadow/engine/engine.json")
        .replace("2031.4", "2031.5");
    world.zip(
        "engine-drop/tramway-2031.5.zip",
        &[
            ("engine/engine.json", &about),
            ("engine/tramway.bin", &engine),
            ("engine/line.sample.toml", later),
        ],
    );
    let edited = world
        .read("tramway.family.toml")
        .replace("drop = \"tramway-*.tar.gz\"", "drop = \"tramway-*.zip\"");
    world.write("tramway.family.toml", edited);
    let plan = done(&world, &["plan", "--to", "2031.5", "--from", "engine-drop"]);
    assert!(plan.contains("line.toml: its sample engine/line.sample.toml has 2 new values, 2 changed values, 1 removed value; see: lantern settings compare line.toml"), "{plan}");
    let planned = at(&world, &["settings", "compare", "line.toml"]);
    done(&world, &["changeover", "--yes"]);
    let after = at(&world, &["settings", "compare", "line.toml", "--all"]);
    assert_snapshot!("meadow_sample", [planned, after].join("\n"));
    assert_snapshot!(
        "meadow_take",
        at(&world, &["settings", "take", "line.toml", "--untouched"])
    );
    done(&world, &["changeover", "--yes"]);
    assert_eq!(
        world.read("tramway-meadow/line.toml"),
        "# The line.\nseats = 30\nfare = 3   # since May\n# whether it rings\nbell = true\n\n[remote]\nrcon = \"fern\"\n# from where\nfrom = \"here\"\nown = 1\n"
    );
    let secret = at(&world, &["settings", "take", "line.toml", "remote.rcon"]);
    assert!(
        secret.contains("remote.rcon is a secret by its name, and yours stays"),
        "{secret}"
    );
    let none = at(&world, &["settings", "compare", "depot.cfg"]);
    assert!(
        none.contains("no release ships it, and the family states no sample of it"),
        "{none}"
    );
}

/// The family with its engine in archives of the other kind, and with more in it.
fn with_engine(world: &World, changes: &[(&str, &str)]) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../families/tramway.family.toml");
    let mut family = fs::read_to_string(path).unwrap();
    let zip = ("drop = \"tramway-*.tar.gz\"", "drop = \"tramway-*.zip\"");
    for (old, new) in [zip].iter().chain(changes) {
        assert!(family.contains(old), "{old}");
        family = family.replacen(old, new, 1);
    }
    world.write("tramway.family.toml", family);
}

/// A release of the engine with further files.
fn engine(world: &World, version: &str, about: &str, files: &[(&str, &str)]) {
    let program = world
        .read("tramway-meadow/engine/tramway.bin")
        .replace("2031.4", version);
    let json = format!(
        "{{ \"name\": \"tramway\", \"title\": \"Tramway\", \"version\": \"{version}\"{about} }}"
    );
    let own = [
        ("engine/engine.json", json.as_str()),
        ("engine/tramway.bin", program.as_str()),
    ];
    world.zip(
        &format!("engine-drop/tramway-{version}.zip"),
        &[&own, files].concat(),
    );
}

/// Of several samples, who asks says which; a plan tells what is new in each.
#[test]
fn one_of_several_samples_is_named() {
    let world = World::demo();
    let rule = "[[settings]]\nfile = \"line.toml\"\nsample = \"engine/samples/*.toml\"\n\n[order]";
    with_engine(
        &world,
        &[
            ("[order]", rule),
            (
                "settings = [\"start.sh\"]",
                "settings = [\"start.sh\", \"line.toml\"]",
            ),
        ],
    );
    let day = "seats = 24\nfare = 2\n";
    let night = "seats = 12\nfare = 3\nlamps = true\n";
    world.write("tramway-meadow/engine/samples/day.toml", day);
    world.write("tramway-meadow/engine/samples/night.toml", night);
    world.write("tramway-meadow/line.toml", night.replace("12", "14"));
    world.ok(&["adopt", "tramway-meadow", "--family", "tramway.family.toml"]);
    let asked = at(&world, &["settings", "compare", "line.toml"]);
    assert_snapshot!("meadow_which_sample", asked);
    let later = night.replace("fare = 3", "fare = 4") + "bell = true\n";
    engine(
        &world,
        "2031.5",
        "",
        &[
            ("engine/samples/day.toml", day),
            ("engine/samples/night.toml", &later),
        ],
    );
    let plan = done(&world, &["plan", "--to", "2031.5", "--from", "engine-drop"]);
    let told: Vec<&str> = plan
        .lines()
        .filter(|line| line.contains("sample"))
        .collect();
    assert_snapshot!("meadow_samples_of_a_plan", told.join("\n"));
    done(&world, &["changeover", "--yes"]);
    let sample = "engine/samples/night.toml";
    done(
        &world,
        &[
            "settings",
            "take",
            "line.toml",
            "--from",
            sample,
            "--untouched",
        ],
    );
    done(&world, &["changeover", "--yes"]);
    assert_eq!(
        world.read("tramway-meadow/line.toml"),
        "seats = 14\nfare = 4\nlamps = true\nbell = true\n"
    );
}

/// Each stop of a way merges over what the one before it leaves.
#[test]
fn an_edit_is_kept_over_several_stops() {
    let world = World::demo();
    let fields = (
        "slots = \"room\"",
        "slots = \"room\", worlds_from = \"worlds\"",
    );
    with_engine(&world, &[fields]);
    let signals = |b: u8, c: u8, more: &str| format!("a = 1\nb = {b}\nc = {c}\nd = 1\n{more}");
    let path = "tramway-meadow/engine/signals.toml";
    world.write(path, signals(1, 1, ""));
    world.ok(&["adopt", "tramway-meadow", "--family", "tramway.family.toml"]);
    world.edit(path, "a = 1", "a = 9   # ours");
    world.edit(path, "d = 1", "d = 7");
    world.write("tramway-meadow/engine/own.txt", "ours\n");
    engine(
        &world,
        "2031.5",
        ", \"worlds\": \">=2031.4\"",
        &[("engine/signals.toml", &signals(2, 1, ""))],
    );
    let last = signals(2, 3, "# new\ne = 5\n").replace("d = 1", "d = 2");
    engine(
        &world,
        "2031.6",
        ", \"worlds\": \">=2031.5\"",
        &[("engine/signals.toml", &last)],
    );
    assert_snapshot!(
        "meadow_stops",
        at(&world, &["plan", "--to", "2031.6", "--from", "engine-drop"])
    );
    done(&world, &["changeover", "--yes"]);
    assert_eq!(world.read(path), "a = 9   # ours\nb = 2\nc = 1\nd = 7\n");
    let second = "tramway-meadow/.lantern/next-2.plan.json";
    done(&world, &["changeover", "--yes", second]);
    let after = "a = 9   # ours\nb = 2\nc = 3\nd = 7\n# new\ne = 5\n";
    assert_eq!(world.read(path), after);
    assert_eq!(world.read("tramway-meadow/engine/own.txt"), "ours\n");
    done(&world, &["undo", "--keep-world"]);
    assert_eq!(world.read(path), "a = 9   # ours\nb = 2\nc = 1\nd = 7\n");
}

#[test]
fn a_value_under_another_name_is_carried_over() {
    let world = meadow();
    release(
        &world,
        "2.0",
        "# How often trams run.\nevery = 20\n\n[stops]\nwait_s = 30\n",
        &world.read(BOARD),
    );
    world.ok(&["catalogue", "make", "meadow-drop", "--family", "tramway"]);
    let catalogue = "meadow-drop/meadow-drop.catalogue.json";
    world.edit(
        catalogue,
        "\"id\": \"timetable\",",
        "\"id\": \"timetable\",\n \"was\": { \"timetable.toml\": { \"every\": \"every_min\" } },",
    );
    let plan = done(&world, &[NEWEST, &["--catalogue", catalogue]].concat());
    let renamed = "timetable.toml: every_min is called every from now on";
    assert!(plan.contains(renamed), "{plan}");
    done(&world, &["changeover", "--yes"]);
    let times = world.read(TIMES);
    assert!(
        times.contains("\nevery = 12\n") && times.contains("wait_s = 45"),
        "{times}"
    );
    assert!(!times.contains("every_min"), "{times}");
}
