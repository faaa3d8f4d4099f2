//! The way through, on the demo's server.

use crate::world::{CHANGEOVER, DROP, PLAN, SURVEY, UNDO, World};
use insta::assert_snapshot;
use std::fs;

#[test]
fn adopt_survey_plan() {
    let world = World::demo();
    assert_snapshot!("adopt", world.lantern(&["adopt", "halcyon-terrace"]));
    assert_snapshot!("adopt_again", world.lantern(&["adopt", "halcyon-terrace"]));
    assert_snapshot!("survey", world.lantern(SURVEY));
    assert_snapshot!("plan", world.lantern(PLAN));
    assert_snapshot!("plan_files", world.lantern(&[PLAN, &["--files"]].concat()));
    let once = world.read("halcyon-terrace/.lantern/next.plan.json");
    world.ok(PLAN);
    assert_eq!(
        once,
        world.read("halcyon-terrace/.lantern/next.plan.json"),
        "the same input gives the same plan"
    );
    let narrow = world.narrow(SURVEY, "70");
    assert_snapshot!("survey_narrow", narrow);
    let mut table = narrow.lines().take_while(|line| !line.contains("unowned"));
    assert!(table.all(|line| line.chars().count() <= 70), "{narrow}");
}

#[test]
fn changeover_and_undo_give_the_very_tree_back() {
    let world = World::running();
    world.ok(PLAN);
    let before = world.tree("halcyon-terrace");
    assert_snapshot!("changeover", world.lantern(CHANGEOVER));
    assert_snapshot!(
        "load_order_afterwards",
        world
            .read("halcyon-terrace/greenhouse.conf")
            .replace(char::is_numeric, "N")
    );
    assert_snapshot!("survey_afterwards", world.lantern(SURVEY));
    assert_snapshot!("plan_again", world.lantern(PLAN));
    assert_snapshot!("changeover_again", world.lantern(CHANGEOVER));
    assert_snapshot!("undo", world.lantern(UNDO));
    let without_world = |tree: &str| -> String {
        let lines = tree.lines().filter(|line| !line.starts_with("worlds/"));
        lines.collect::<Vec<_>>().join("\n")
    };
    assert_eq!(
        without_world(&before),
        without_world(&world.tree("halcyon-terrace"))
    );
    assert_snapshot!("undo_again", world.lantern(UNDO));
}

#[test]
fn nothing_but_the_lines_that_change_is_written_or_told() {
    let world = World::adopted();
    let conf = "halcyon-terrace/greenhouse.conf";
    let mut before = world.read(conf).replace("\nport", "\r\nport").into_bytes();
    // As an old editor saved it, with a password that is nobody's business.
    before.extend(b"motto = Gew\xe4chse\nconsole_password = plum-and-fennel");
    world.write(conf, &before);
    world.ok(PLAN);
    let plan = world.read("halcyon-terrace/.lantern/next.plan.json");
    assert!(plan.contains("start gnomon") && !plan.contains("fennel"));
    world.ok(CHANGEOVER);
    let after = fs::read(world.path(conf)).unwrap();
    let came: &[u8] = b"start gnomon\n";
    let at = after.windows(came.len()).position(|part| part == came);
    let without = [&after[..at.unwrap()], &after[at.unwrap() + came.len()..]].concat();
    assert_eq!(
        without.escape_ascii().to_string(),
        before.escape_ascii().to_string()
    );
    world.ok(&[UNDO, &["--keep-world"]].concat());
    assert_eq!(fs::read(world.path(conf)).unwrap(), before);
}

#[test]
fn the_world_comes_back_only_when_asked() {
    let world = World::running();
    world.ok(PLAN);
    world.ok(CHANGEOVER);
    let days = "halcyon-terrace/worlds/orbit-garden/days";
    assert_eq!(world.read(days), "212\n");
    world.write(
        "halcyon-terrace/worlds/orbit-garden/new-bed",
        "planted after",
    );
    assert_snapshot!("undo_world_used", world.lantern(UNDO));
    assert_snapshot!(
        "undo_with_world",
        world.lantern(&[UNDO, &["--with-world"]].concat())
    );
    assert_eq!(
        world.read(days),
        "212\n",
        "as it was when the server had stopped for the changeover"
    );
    assert!(
        !world
            .path("halcyon-terrace/worlds/orbit-garden/new-bed")
            .exists()
    );
    let aside = world.aside("halcyon-terrace", "0002") + "/worlds/orbit-garden";
    assert_eq!(world.read(&format!("{aside}/new-bed")), "planted after");
    assert_eq!(world.read(&format!("{aside}/days")), "213\n");
}

#[test]
fn what_was_edited_since_is_set_aside_and_said() {
    let world = World::adopted();
    world.edit(
        "halcyon-terrace/framework/lattice.bin",
        "lattice of 1.8.0\n",
        "mine\n",
    );
    assert_snapshot!("survey_edited", world.lantern(SURVEY));
    assert_snapshot!("plan_edited", world.lantern(PLAN));
    // Both have changed the same lines: nothing is done before that is decided.
    assert_snapshot!("changeover_undecided", world.lantern(CHANGEOVER));
    world.ok(&["plan", "--again", "--theirs", "--server", "halcyon-terrace"]);
    world.ok(CHANGEOVER);
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "seats = 24",
        "seats = 30",
    );
    // The world was written when the new state was looked at: that is asked for.
    let keeping = [UNDO, &["--keep-world"]].concat();
    assert_snapshot!("undo_edited", world.lantern(&keeping));
    assert!(
        world
            .read("halcyon-terrace/framework/lattice.bin")
            .starts_with("mine\n")
    );
    assert!(
        world
            .read(&(world.aside("halcyon-terrace", "0002") + "/greenhouse.conf"))
            .contains("seats = 30")
    );
}

#[test]
fn a_failing_start_brings_the_old_state_back() {
    let world = World::running();
    let before = world.tree("halcyon-terrace");
    world.drop_addon(
        "night-watch-1.1.0.bloom",
        "id='night-watch'\nversion='1.1.0'\nserver='>=5'\n[standin]\ncrash='no moon tonight'\n",
    );
    world.ok(DROP);
    assert_snapshot!("changeover_fails", world.lantern(CHANGEOVER));
    let strip = |tree: &str| {
        tree.lines()
            .filter(|l| !l.contains("days"))
            .collect::<Vec<_>>()
            .join("\n")
    };
    assert_eq!(strip(&before), strip(&world.tree("halcyon-terrace")));
    assert_snapshot!(
        "state_after_failure",
        world.lantern(&["console", "state", "--server", "halcyon-terrace"])
    );
    assert_snapshot!("undo_after_failure", world.lantern(UNDO));
}

#[test]
fn what_a_failed_server_wrote_is_set_aside() {
    let world = World::running();
    world.edit(
        "halcyon-terrace/start.sh",
        "exec",
        "echo '# the server was here' >> greenhouse.conf\nexec",
    );
    world.drop_addon(
        "fern-1.0.0.bloom",
        "id='fern'\nversion='1.0.0'\n[standin]\ncrash='wilted'\n",
    );
    let settings = world.read("halcyon-terrace/greenhouse.conf");
    for attempt in ["0001-failed", "0002-failed"] {
        world.ok(DROP);
        assert!(world.lantern(CHANGEOVER).contains("exit status 4"));
        let written = world.read(&format!(
            "halcyon-terrace/.lantern/set-aside/{attempt}/greenhouse.conf"
        ));
        assert!(
            written.contains("start fern") && written.ends_with("# the server was here\n"),
            "{written}"
        );
    }
    // The old state, with what the old server wrote as it was started again, twice.
    assert_eq!(
        world.read("halcyon-terrace/greenhouse.conf"),
        settings + &"# the server was here\n".repeat(2)
    );
    let backups = fs::read_dir(world.path("halcyon-terrace/.lantern/store/backups")).unwrap();
    assert_eq!(backups.count(), 2, "no backup is written over");
    assert_snapshot!(
        "history_of_failures",
        world.lantern(&["history", "--server", "halcyon-terrace"])
    );
}

#[test]
fn a_server_that_dies_after_the_ready_line_is_noticed() {
    let world = World::running();
    world.drop_addon(
        "night-watch-1.2.0.bloom",
        "id='night-watch'\nversion='1.2.0'\n[standin]\ndies_after_ready_ms=100\n",
    );
    world.ok(DROP);
    assert_snapshot!("changeover_dies", world.lantern(CHANGEOVER));
}

#[test]
fn a_server_that_dies_a_second_later_is_noticed_by_a_longer_hold() {
    let world = World::running();
    let settings = "halcyon-terrace/lantern.toml";
    world.write(settings, world.read(settings) + "\n[limits]\nhold_s = 2\n");
    world.drop_addon(
        "night-watch-1.2.0.bloom",
        "id='night-watch'\nversion='1.2.0'\n[standin]\ndies_after_ready_ms=1000\n",
    );
    world.ok(DROP);
    let told = world.lantern(CHANGEOVER);
    assert!(told.contains("exit status 4"), "{told}");
    assert!(
        told.contains("its process ended (exit status 1) TIME after it was ready"),
        "{told}"
    );
}

#[test]
fn a_server_that_was_down_is_not_warned_and_not_stopped() {
    let world = World::adopted();
    world.ok(PLAN);
    assert_snapshot!("changeover_from_down", world.lantern(CHANGEOVER));
}

#[test]
fn what_clients_must_have() {
    let world = World::adopted();
    assert_snapshot!(
        "client_list",
        world.lantern(&["client", "list", "--server", "halcyon-terrace"])
    );
    let pack = &[
        "client",
        "pack",
        "--out",
        "client.zip",
        "--server",
        "halcyon-terrace",
    ];
    assert_snapshot!("client_pack", world.lantern(pack));
    let first = fs::read(world.path("client.zip")).unwrap();
    world.ok(pack);
    assert!(
        first == fs::read(world.path("client.zip")).unwrap(),
        "the same list gives the same archive"
    );
    let mut zip = zip::ZipArchive::new(fs::File::open(world.path("client.zip")).unwrap()).unwrap();
    let mut names: Vec<String> = zip
        .file_names()
        .map(|name| name.unwrap().to_string())
        .collect();
    names.sort();
    assert_snapshot!("client_pack_names", names.join("\n"));
    let mut packed = zip.by_name("addons/drip-lines-2.3.0.bloom").unwrap();
    let mut content = Vec::new();
    std::io::Read::read_to_end(&mut packed, &mut content).unwrap();
    assert!(
        content == fs::read(world.path("halcyon-terrace/addons/drip-lines-2.3.0.bloom")).unwrap()
    );
}

#[test]
fn answers_in_json() {
    let world = World::running();
    for (name, args) in [
        ("json_survey", SURVEY),
        ("json_plan", PLAN),
        ("json_changeover", CHANGEOVER),
        (
            "json_client_list",
            &["client", "list", "--server", "halcyon-terrace"],
        ),
        ("json_undo", UNDO),
    ] {
        let told = world.lantern(&[args, &["--json"]].concat());
        let json = told
            .split("--- stdout\n")
            .nth(1)
            .unwrap()
            .split("--- stderr\n")
            .next()
            .unwrap();
        let whole: serde_json::Value =
            serde_json::from_str(&json.replace(": TIME", ": 1")).unwrap();
        assert_eq!(whole["format"], 1);
        let long = ["components", "actions", "files", "archives"];
        assert_snapshot!(
            name,
            serde_json::to_string_pretty(&shortened(whole, &long)).unwrap()
        );
    }
}

/// Cuts long lists to their first item, so that the shape is what the snapshot shows.
fn shortened(value: serde_json::Value, long: &[&str]) -> serde_json::Value {
    use serde_json::Value;
    match value {
        Value::Object(map) => map
            .into_iter()
            .map(|(key, value)| {
                let value = match value {
                    Value::Array(items) if long.contains(&key.as_str()) => {
                        Value::Array(items.into_iter().take(1).collect())
                    }
                    Value::String(_)
                        if matches!(
                            key.as_str(),
                            "server_id" | "blake3" | "before" | "after" | "saved" | "name"
                        ) =>
                    {
                        Value::String("…".into())
                    }
                    other => other,
                };
                (key, shortened(value, long))
            })
            .collect(),
        Value::Array(items) => items
            .into_iter()
            .map(|item| shortened(item, long))
            .collect(),
        other => other,
    }
}

#[test]
fn the_demo_tells_the_whole_story() {
    let world = World::empty();
    let told = world.lantern(&["demo", "--dir", "demo"]);
    assert!(
        told.starts_with("$ lantern demo --dir demo\nexit status 0\n"),
        "{told}"
    );
    assert_snapshot!("demo", told);
    assert_snapshot!("demo_again", world.lantern(&["demo", "--dir", "demo"]));
}

#[test]
fn completions_and_help_are_there() {
    let world = World::empty();
    assert!(
        world
            .ok(&["completions", "bash"])
            .contains("_clap_complete_lantern")
    );
    assert_snapshot!("help", world.ok(&["--help"]));
    assert_snapshot!("wrong_usage", world.lantern(&["plan", "--too", "5.4"]));
}

#[test]
fn the_running_server_is_looked_at_again() {
    let world = World::adopted();
    let verify = || world.lantern(&["verify", "--server", "halcyon-terrace"]);
    assert_snapshot!("verify_down", verify());
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    assert_snapshot!("verify", verify());
    let json = world.lantern(&["verify", "--json", "--server", "halcyon-terrace"]);
    assert!(json.contains("\"right\": true"), "{json}");
    // Somebody lays in a newer add-on by hand; the server still runs the old one.
    fs::remove_file(world.path("halcyon-terrace/addons/glasswork-3.1.0.bloom")).unwrap();
    world.zip(
        "halcyon-terrace/addons/glasswork-3.2.0.bloom",
        &[("addon.toml", "id = 'glasswork'\nversion = '3.2.0'\n")],
    );
    world.edit(
        "halcyon-terrace/greenhouse.conf",
        "start night-watch\n",
        "start night-watch\nstart moss\n",
    );
    world.zip(
        "halcyon-terrace/addons/moss.bloom",
        &[("addon.toml", "id = 'moss'\nversion = '1'\n")],
    );
    assert_snapshot!("verify_other", verify());
    // A bare gate: the ready line comes, and nothing is loaded.
    world.ok(&["console", "stop", "--server", "halcyon-terrace"]);
    world.write("halcyon-terrace/server/gate.bin", "bare gate\n");
    world.ok(&["console", "start", "--server", "halcyon-terrace"]);
    assert_snapshot!("verify_bare", verify());
}

#[test]
fn it_is_called_off_while_players_are_warned() {
    let world = World::running();
    let before = world.tree("halcyon-terrace");
    world.ok(PLAN);
    let mut first = world.begin(&[CHANGEOVER, &["--warn", "2h,90s"]].concat());
    let output = "halcyon-terrace/.lantern/console/output.log";
    world.wait("players are warned", || {
        world.read(output).contains("restarts in 2 hours")
    });
    let pid = rustix::process::Pid::from_child(&first);
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    assert_eq!(first.wait().unwrap().code(), Some(1));
    // What is typed into a console is said a moment later.
    let off = "to all: The restart is called off.";
    let is_off = || world.read(output).contains(off);
    world.wait("players hear that it is called off", is_off);
    assert_eq!(before, world.tree("halcyon-terrace"));
    assert_snapshot!(
        "called_off_then",
        world.lantern(&["console", "state", "--server", "halcyon-terrace"])
    );
    // In the end all that is to be told is told, the last right before the stop.
    world.ok(&[CHANGEOVER, &["--warn", "2s,1s"]].concat());
    let previous = world.read("halcyon-terrace/.lantern/console/output.previous.log");
    let told: Vec<&str> = previous
        .lines()
        .filter(|line| line.contains("to all"))
        .collect();
    assert_snapshot!("told_to_players", told.join("\n"));
    // An undo tells them, too, if it is to.
    let mut undo = world.begin(&[UNDO, &["--keep-world", "--warn", "2h,90s"]].concat());
    world.wait("players are warned of the undo", || {
        world.read(output).contains("restarts in 2 hours")
    });
    let pid = rustix::process::Pid::from_child(&undo);
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    assert_eq!(undo.wait().unwrap().code(), Some(1));
    world.wait("players hear that the undo is called off", is_off);
    assert_snapshot!(
        "undo_after_warning",
        world.lantern(&[UNDO, &["--keep-world", "--warn", "1s"]].concat())
    );
    assert_snapshot!(
        "warn_odd",
        world.lantern(&[CHANGEOVER, &["--warn", "soon"]].concat())
    );
}
