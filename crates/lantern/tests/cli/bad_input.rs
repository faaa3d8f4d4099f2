//! Bad input: a clear error that says what, where, why and what to do, and nothing is lost.

use crate::world::{CHANGEOVER, DROP, PLAN, SURVEY, World, standin};
use insta::assert_snapshot;
use std::fs;
use std::io::Write;
use std::process::{Command, Stdio};

#[test]
fn folders_that_cannot_be_adopted() {
    let world = World::demo();
    assert_snapshot!("no_folder", world.lantern(&["adopt", "nowhere"]));
    world.write("photos/cat.png", "meow");
    assert_snapshot!("no_family", world.lantern(&["adopt", "photos"]));
    world.write("halcyon-terrace/minetest.conf", "");
    world.write("halcyon-terrace/worlds/x/world.mt", "");
    assert_snapshot!("two_families", world.lantern(&["adopt", "halcyon-terrace"]));
    assert_snapshot!(
        "unknown_family",
        world.lantern(&["adopt", "halcyon-terrace", "--family", "verbena"])
    );
    world.write(
        "bad.family.toml",
        "format = 1\nname = \"x\"\ntitel = \"X\"\n",
    );
    assert_snapshot!(
        "bad_family_file",
        world.lantern(&["adopt", "halcyon-terrace", "--family", "bad.family.toml"])
    );
    assert_snapshot!("not_adopted", world.lantern(SURVEY));
    world.ok(&["adopt", "halcyon-terrace", "--family", "halcyon"]);
    world.edit("halcyon-terrace/lantern.toml", "[warn]", "[warm]");
    assert_snapshot!("bad_settings", world.lantern(SURVEY));
}

#[test]
fn archives_that_cannot_be_used_are_named_and_left_out() {
    let world = World::adopted();
    world.write(
        "drop/torn.bloom",
        &fs::read(world.path("depot/releases/gnomon-1.0.3.bloom")).unwrap()[..500],
    );
    world.write("drop/page.bloom", "<html>Log in to download</html>");
    world.zip("drop/bare.bloom", &[("readme", "nothing here")]);
    world.zip(
        "drop/climbs.bloom",
        &[
            ("addon.toml", "id='climbs'\nversion='1.0.0'"),
            ("../../climbed", "x"),
        ],
    );
    world.zip(
        "drop/root.bloom",
        &[
            ("addon.toml", "id='root'\nversion='1.0.0'"),
            ("/climbed", "x"),
        ],
    );
    let mut links = zip::ZipWriter::new(fs::File::create(world.path("drop/links.bloom")).unwrap());
    links
        .start_file("addon.toml", zip::write::SimpleFileOptions::default())
        .unwrap();
    links.write_all(b"id='links'\nversion='1.0.0'").unwrap();
    links
        .add_symlink(
            "out",
            "/etc/passwd",
            zip::write::SimpleFileOptions::default(),
        )
        .unwrap();
    links.finish().unwrap();
    world.drop_addon(
        "a-gnomon.bloom",
        "id='gnomon'\nversion='1.0.9'\nserver='>=5'",
    );
    world.drop_addon(
        "b-gnomon.bloom",
        "id='gnomon'\nversion='1.0.9'\nserver='>=5'\ntitle='Another'",
    );
    world.drop_addon("odd.bloom", "id='odd'\nversion='one two'\n");
    assert_snapshot!("left_out", world.lantern(DROP));
    assert!(!world.path("climbed").exists() && !world.path("drop/climbed").exists());
    let plan = world.read("halcyon-terrace/.lantern/next.plan.json");
    assert!(plan.contains("a-gnomon.bloom") && !plan.contains("climbs"));
}

#[test]
fn releases_that_do_not_fit() {
    let world = World::adopted();
    assert_snapshot!(
        "no_such_version",
        world.lantern(&[
            "plan",
            "--to",
            "6.0",
            "--catalogue",
            "depot/verdance.catalogue.json",
            "--server",
            "halcyon-terrace"
        ])
    );
    assert_snapshot!(
        "no_version",
        world.lantern(&["plan", "--to", "soon ish", "--server", "halcyon-terrace"])
    );
    world.drop_addon(
        "fern.bloom",
        "id='fern'\nversion='1.0.0'\n[needs]\nmoss='^2'\n",
    );
    assert_snapshot!("need_not_offered", world.lantern(DROP));
    fs::remove_dir_all(world.path("drop")).unwrap();
    world.zip(
        "drop/trellis-9.zip",
        &[
            (
                "framework/framework.toml",
                "id='trellis'\nversion='9.0.0'\nserver='>=5'",
            ),
            ("framework/../../barred.txt", "all"),
        ],
    );
    assert_snapshot!("framework_climbs", world.lantern(DROP));
}

#[test]
fn a_release_may_not_write_into_the_keep_list() {
    let world = World::adopted();
    world.write("halcyon-terrace/framework/mine.txt", "mine");
    world.edit(
        "halcyon-terrace/lantern.toml",
        "# keep = [\"screenshots/**\"]",
        "keep = [\"framework/mine.txt\"]",
    );
    world.zip(
        "drop/trellis-9.zip",
        &[
            (
                "framework.toml",
                "id='trellis'\nversion='9.0.0'\nserver='>=5'",
            ),
            ("mine.txt", "theirs"),
        ],
    );
    assert_snapshot!("writes_kept", world.lantern(DROP));
    assert_eq!(world.read("halcyon-terrace/framework/mine.txt"), "mine");
}

#[test]
fn catalogues_that_cannot_be_read() {
    let world = World::adopted();
    let plan = |file: &str| {
        world.lantern(&[
            "plan",
            "--to",
            "5.4",
            "--catalogue",
            file,
            "--server",
            "halcyon-terrace",
        ])
    };
    assert_snapshot!("no_catalogue", plan("nowhere.json"));
    let single = [
        "--from",
        "depot/verdance.catalogue.json",
        "--server",
        "halcyon-terrace",
    ];
    let single = world.lantern(&[&["plan", "--to", "5.4"], &single[..]].concat());
    assert_snapshot!("no_drop_folder", single);
    let text = world.read("depot/verdance.catalogue.json");
    world.write("depot/cut.json", &text[..700]);
    assert_snapshot!("cut_catalogue", plan("depot/cut.json"));
    world.write(
        "depot/new.json",
        text.replace("\"format\": 1", "\"format\": 3"),
    );
    assert_snapshot!("new_catalogue", plan("depot/new.json"));
    world.write(
        "depot/odd.json",
        text.replace("\"^2\"", "\"=>2\"")
            .replace("releases/gnomon", "../gnomon"),
    );
    assert_snapshot!("odd_catalogue", plan("depot/odd.json"));
    world.write("depot/releases/gnomon-1.0.3.bloom", "replaced");
    assert_snapshot!("other_archive", plan("depot/verdance.catalogue.json"));
}

#[test]
fn a_folder_that_changed_after_planning() {
    let world = World::adopted();
    world.ok(PLAN);
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 25",
    );
    world.write("halcyon-terrace/addons/new.bloom", "x");
    fs::remove_file(world.path("halcyon-terrace/addons/sun-clock-1.9.1.bloom")).unwrap();
    let before = world.tree("halcyon-terrace");
    assert_snapshot!("folder_changed", world.lantern(CHANGEOVER));
    assert_eq!(before, world.tree("halcyon-terrace"));
}

#[test]
fn plans_that_cannot_be_carried_out() {
    let world = World::adopted();
    assert_snapshot!("no_plan", world.lantern(CHANGEOVER));
    world.ok(PLAN);
    let plan = world.read("halcyon-terrace/.lantern/next.plan.json");
    let begin = plan.split_inclusive("\"actions\": [").next().unwrap();
    world.write("cut.plan.json", begin);
    assert_snapshot!(
        "cut_plan",
        world.lantern(&[CHANGEOVER, &["cut.plan.json"]].concat())
    );
    let place = "\"addons/gnomon-1.0.3.bloom\"";
    for (name, from, to) in [
        ("climbing_plan", place, "\"../gnomon-1.0.3.bloom\""),
        ("greedy_plan", place, "\"worlds/gnomon.bloom\""),
        ("misfitting_plan", "halcyon --lattice 1.8.0", "other"),
        ("bending_plan", "halcyon --lattice 2.2.0", "other"),
    ] {
        world.write("edited.plan.json", plan.replace(from, to));
        assert_snapshot!(
            name,
            world.lantern(&[CHANGEOVER, &["edited.plan.json"]].concat())
        );
    }
    // What is to be a hash is none; an archive is a pipe that nobody writes, or a device that never ends.
    let at = plan.find("\"blake3\": \"").unwrap() + 11;
    let no_hash = format!("{}ü{}", &plan[..at], &plan[at + 64..]);
    world.write("edited.plan.json", no_hash);
    let told = world.lantern(&[CHANGEOVER, &["edited.plan.json"]].concat());
    assert!(
        told.contains("exit status 1") && told.contains("is not the expected file"),
        "{told}"
    );
    let release = world.path("depot/releases/gnomon-1.0.3.bloom");
    let kept = fs::read(&release).unwrap();
    fs::remove_file(&release).unwrap();
    let made = std::process::Command::new("mkfifo").arg(&release).status();
    assert!(made.unwrap().success());
    let told = world.lantern(CHANGEOVER);
    assert!(
        told.contains("it is no file but a folder, a pipe or a device"),
        "{told}"
    );
    fs::remove_file(&release).unwrap();
    std::os::unix::fs::symlink("/dev/zero", &release).unwrap();
    let told = world.lantern(CHANGEOVER);
    assert!(
        told.contains("it is no file but a folder, a pipe or a device"),
        "{told}"
    );
    fs::remove_file(&release).unwrap();
    fs::write(&release, kept).unwrap();
    let other = World::adopted();
    other.write("other.plan.json", &plan);
    assert_snapshot!(
        "other_servers_plan",
        other.lantern(&[CHANGEOVER, &["other.plan.json"]].concat())
    );
    world.write("depot/releases/gnomon-1.0.3.bloom", "another file");
    let before = world.tree("halcyon-terrace");
    assert_snapshot!("archive_changed_after_planning", world.lantern(CHANGEOVER));
    assert_eq!(before, world.tree("halcyon-terrace"));
}

#[test]
fn a_load_order_that_cannot_be_written() {
    let world = World::adopted();
    let conf = "halcyon-terrace/greenhouse.conf";
    let wide = world.read(conf).replace('\n', "\0\n");
    world.write(conf, &wide);
    assert_snapshot!("wide_load_order", world.lantern(PLAN));
    assert_eq!(world.read(conf), wide);
}

#[test]
fn a_server_that_somebody_else_started() {
    let world = World::adopted();
    world.ok(PLAN);
    let server = world.path("halcyon-terrace");
    let mut by_hand = Command::new(standin())
        .args(["halcyon", "--build", "5.1.0"])
        .current_dir(&server)
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    // It takes its world first and listens last: what is said of it rests on both.
    world.wait("the server listens", || {
        world
            .lantern(&["console", "state", "--server", "halcyon-terrace"])
            .contains("listens on its port")
    });
    assert_snapshot!(
        "state_of_foreign",
        world.lantern(&["console", "state", "--server", "halcyon-terrace"])
    );
    assert_snapshot!("no_console", world.lantern(CHANGEOVER));
    assert_snapshot!(
        "start_twice",
        world.lantern(&["console", "start", "--server", "halcyon-terrace"])
    );
    by_hand.stdin.take().unwrap().write_all(b"stop\n").unwrap();
    by_hand.wait().unwrap();
}

#[test]
fn a_server_that_does_not_stop_in_time() {
    let world = World::adopted();
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 24\nstubborn = true",
    );
    world.edit(
        "halcyon-terrace/lantern.toml",
        "[warn]",
        "limits = { stop_s = 1 }\n[warn]",
    );
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    world.ok(PLAN);
    let before = world.tree("halcyon-terrace");
    assert_snapshot!("does_not_stop", world.lantern(CHANGEOVER));
    assert_eq!(before, world.tree("halcyon-terrace"));
    assert_snapshot!(
        "state_after_no_stop",
        world.lantern(&["console", "state", "--server", "halcyon-terrace"])
    );
}

#[test]
fn a_second_lantern_in_the_same_folder() {
    let world = World::running();
    world.edit("halcyon-terrace/lantern.toml", "at = []", "at = [\"30s\"]");
    world.ok(PLAN);
    let mut first = world.begin(CHANGEOVER);
    let output = "halcyon-terrace/.lantern/console/output.log";
    world.wait("players are warned", || {
        world
            .read(output)
            .contains("to all: The server restarts in 30 seconds")
    });
    assert_snapshot!("second_lantern", world.lantern(SURVEY));
    first.kill().unwrap();
    first.wait().unwrap();
    assert_snapshot!("after_the_first_was_killed", world.lantern(SURVEY));
}

/// What a release calls itself comes to stand in start scripts and load orders.
#[test]
fn no_name_from_outside_becomes_a_command() {
    let drop = &[
        "plan",
        "--to",
        "5.1",
        "--from",
        "drop",
        "--server",
        "halcyon-terrace",
    ];
    let script = "halcyon-terrace/start.sh";
    let trellis = |version: &str| {
        let world = World::adopted();
        let text = format!("id = 'trellis'\nversion = '{version}'\nside = 'server'\n");
        world.zip("drop/trellis-new.zip", &[("framework.toml", text.as_str())]);
        world
    };
    let world = trellis("2.2.0+$(touch$IFS-pwned)");
    assert_snapshot!("shell_in_version", world.lantern(drop));
    // What stands around the version stays, and a variable is the administrator's own.
    let world = trellis("2.2.0");
    world.edit(
        script,
        "--lattice 1.8.0",
        "--lattice \"1.8.0\";echo \"done\" #",
    );
    world.ok(drop);
    let plan = world.read("halcyon-terrace/.lantern/next.plan.json");
    assert!(
        plan.contains(r#"--lattice \"2.2.0\";echo \"done\" #"#),
        "{plan}"
    );
    let world = trellis("2.2.0");
    world.edit(script, "--lattice 1.8.0", "--lattice $LATTICE");
    assert_snapshot!("variable_in_script", world.lantern(drop));
    let world = World::adopted();
    world.drop_addon("moss-1.bloom", "id='moss caps'\nversion='1.0'\n");
    assert_snapshot!("id_that_is_two_words", world.lantern(drop));
}
