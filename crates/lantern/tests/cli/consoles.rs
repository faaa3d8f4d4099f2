//! Consoles of every kind, and servers that do not do as they are told.

use crate::world::{CHANGEOVER, DROP, World, free_port};
use insta::assert_snapshot;
use std::fs;
use std::path::Path;

const CONF: &str = "halcyon-terrace/greenhouse.conf";
const SETTINGS: &str = "halcyon-terrace/lantern.toml";

fn console(world: &World, words: &[&str]) -> String {
    world.lantern(&[&["console"], words, &["--server", "halcyon-terrace"]].concat())
}

fn verify(world: &World) -> String {
    world.lantern(&["verify", "--server", "halcyon-terrace"])
}

fn add(world: &World, path: &str, text: &str) {
    world.write(path, world.read(path) + text);
}

/// Gives the terrace a remote console, and lantern the way to it; returns its port.
fn with_remote(world: &World) -> u16 {
    let port = free_port();
    let conf = format!("console_port = {port}\nconsole_password = swordfern\nconsole_packet = 7\n");
    add(world, CONF, &conf);
    world.write("halcyon-terrace/console.secret", "swordfern\n");
    let way = format!(
        "\n[console]\nline = {{ remote = {{ address = \"127.0.0.1:{port}\", password_file = \"console.secret\" }} }}\n"
    );
    add(world, SETTINGS, &way);
    port
}

fn release(world: &World, standin: &str) {
    let descriptor = format!("id='night-watch'\nversion='1.1.0'\nserver='>=5'\n{standin}\n");
    world.drop_addon("night-watch-1.1.0.bloom", &descriptor);
    world.ok(DROP);
}

#[test]
fn a_remote_console_says_asks_and_stops() {
    let world = World::adopted();
    with_remote(&world);
    console(&world, &["start"]);
    assert!(
        verify(&world).contains("as it should be"),
        "{}",
        verify(&world)
    );
    release(&world, "");
    let told = world.lantern(&[CHANGEOVER, &["--warn", "1s"]].concat());
    assert!(told.contains("exit status 0"), "{told}");
    let log = "halcyon-terrace/.lantern/console/output.previous.log";
    assert!(world.read(log).contains("to all: The server restarts now."));
    assert!(console(&world, &["stop"]).contains("is down"));
    // The password is in its own file and nowhere else.
    for entry in walkdir::WalkDir::new(world.path("halcyon-terrace/.lantern")) {
        let entry = entry.unwrap();
        let path = entry.path().display().to_string();
        if entry.file_type().is_file() && !path.contains("/store/") && !path.contains("/set-aside/")
        {
            let content = fs::read(entry.path()).unwrap();
            let text = String::from_utf8_lossy(&content);
            // The plan carries the settings file that the load order is in; that is the server's own.
            let plan = path.ends_with("plan.json") || path.ends_with("ledger.db");
            assert!(plan || !text.contains("swordfern"), "{path}");
        }
    }
}

#[test]
fn a_remote_console_that_refuses_or_is_gone() {
    let world = World::adopted();
    let port = with_remote(&world);
    console(&world, &["start"]);
    world.write("halcyon-terrace/console.secret", "guess\n");
    let known = |text: String| text.replace(&port.to_string(), "PORT");
    assert_snapshot!("remote_refused", known(console(&world, &["send", "list"])));
    release(&world, "");
    assert_snapshot!(
        "remote_refused_changeover",
        known(world.lantern(CHANGEOVER))
    );
    world.edit(CONF, "console_port", "nothing_port");
    world.edit(
        SETTINGS,
        "password_file = \"console.secret\"",
        "password_env = \"TERRACE_CONSOLE\"",
    );
    assert_snapshot!(
        "remote_no_password",
        known(console(&world, &["send", "list"]))
    );
    assert!(console(&world, &["stop", "--kill"]).contains("exit status 1"));
}

/// A server of the remote console protocol that nobody here wrote.
#[test]
fn a_remote_console_that_nobody_here_wrote() {
    let package = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/remote-console");
    if !package.join("rcon_server").exists() {
        assert!(
            std::env::var_os("CI").is_none(),
            "CI has to have the package rcon-server"
        );
        eprintln!("not run, as the package rcon-server is missing; scripts/test fetches it");
        return;
    }
    let package = package.canonicalize().unwrap();
    let world = World::empty();
    let port = free_port();
    world.write("ferns/fernhouse.ini", format!("port = {port}\n"));
    world.write("ferns/server.py", include_str!("remote_server.py"));
    world.write(
        "fern.family.toml",
        format!(
            "format = 1\nname = 'fern'\ntitle = 'Fern'\nmarks = ['fernhouse.ini']\nreader = []\n\
             build = {{ id = 'fern', outside = true }}\n\
             launch = {{ command = ['env', 'PYTHONPATH={}', 'python3', '-u', 'server.py', '{port}'] }}\n\
             [console]\nstop = {{ command = 'close' }}\nhold_ms = 100\n\
             list = {{ ask = 'ferns', line = '^- (?P<id>\\S+) (?P<version>\\S+)', end = '^that is all' }}\n\
             port = {{ file = 'fernhouse.ini', line = 'port = (?P<port>\\d+)', transport = 'tcp' }}\n",
            package.display()
        ),
    );
    world.ok(&["adopt", "ferns", "--family", "fern.family.toml"]);
    world.write("ferns/secret", "fern frond");
    let way = format!(
        "\n[console]\nline = {{ remote = {{ address = \"127.0.0.1:{port}\", password_file = \"secret\" }} }}\n"
    );
    add(&world, "ferns/lantern.toml", &way);
    let ferns = |words: &[&str]| world.lantern(&[words, &["--server", "ferns"]].concat());
    let started = ferns(&["console", "start"]);
    assert!(started.contains("exit status 0"), "{started}");
    let asked = ferns(&["console", "ask", "ferns"]);
    assert!(
        asked.contains("- fern-0 0.0.1\n") && asked.contains("- fern-499 499.0.1\n"),
        "{asked}"
    );
    assert_eq!(
        asked.matches("- fern-").count(),
        500,
        "several packets, each once"
    );
    assert!(ferns(&["verify"]).contains("exit status 0"));
    // Its answer has no known end, so the echo of an empty packet ends it.
    assert!(ferns(&["console", "ask", "help"]).contains("no such command: help"));
    assert!(ferns(&["console", "ask", "cut"]).contains("ended the connection in the middle"));
    world.write("ferns/secret", "guess");
    assert!(ferns(&["console", "ask", "ferns"]).contains("refuses the password"));
    world.write("ferns/secret", "fern frond");
    assert!(ferns(&["console", "stop"]).contains("exit status 0"));
    assert!(ferns(&["console", "state"]).contains("is down"));
}

#[test]
fn a_server_in_a_terminal_multiplexer() {
    if !Path::new("/usr/bin/tmux").exists() {
        assert!(std::env::var_os("CI").is_none(), "CI has to have tmux");
        eprintln!("not run, as tmux is missing; scripts/test fetches it");
        return;
    }
    let world = World::adopted();
    let tmux = format!("\"tmux\", \"-S\", \"{}\"", world.path("socket").display());
    add(
        &world,
        SETTINGS,
        &format!(
            "\n[console]\nlog = \"logs/latest.log\"\nline = {{ command = [{tmux}, \"send-keys\", \"-t\", \"terrace\", \"{{line}}\", \"Enter\"] }}\n\
             [console.run]\nstart = [{tmux}, \"new-session\", \"-d\", \"-s\", \"terrace\", \"sh\", \"start.sh\"]\n\
             state = [{tmux}, \"has-session\", \"-t\", \"terrace\"]\n"
        ),
    );
    let without_path =
        |text: String| text.replace(&format!("{}", world.path("socket").display()), "SOCKET");
    assert!(console(&world, &["start"]).contains("exit status 0"));
    assert_snapshot!("multiplexer_verify", without_path(verify(&world)));
    release(&world, "");
    let told = world.lantern(CHANGEOVER);
    assert!(told.contains("exit status 0"), "{told}");
    assert!(console(&world, &["stop"]).contains("is down"));
}

/// A service manager in a few lines: it starts the server again when it ends, unless it is to stop.
const MANAGER: &str = r#"#!/bin/sh
# start | stop | state | keep
cd "$(dirname "$0")/halcyon-terrace" || exit 1
case $1 in
start) rm -f ../down; setsid "$0" keep >/dev/null 2>&1 & sleep 0.2;;
keep) echo $$ > ../manager; while [ ! -e ../down ]; do sh start.sh < ../held; sleep 0.3; done; rm ../manager;;
stop) touch ../down; echo stop > ../held;;
state) [ -e ../manager ];;
esac
"#;

fn with_manager(world: &World) -> String {
    world.write(
        "manager.sh",
        MANAGER
            .replace("$0\" keep", "$PWD/../manager.sh\" keep")
            .replace("setsid \"", "setsid sh \""),
    );
    let made = std::process::Command::new("mkfifo")
        .arg(world.path("held"))
        .status();
    assert!(made.unwrap().success());
    // Somebody has to hold the pipe open.
    let manager = world.path("manager.sh").display().to_string();
    let text = world.read("manager.sh").replace("< ../held", "<> ../held");
    world.write("manager.sh", text);
    manager
}

#[test]
fn a_server_of_a_service_manager() {
    let world = World::adopted();
    let manager = with_manager(&world);
    add(
        &world,
        SETTINGS,
        &format!(
            "\n[console]\nlog = \"logs/latest.log\"\nline = {{ pipe = \"../held\" }}\n[console.run]\nstart = [\"sh\", \"{manager}\", \"start\"]\n\
             stop = [\"sh\", \"{manager}\", \"stop\"]\nstate = [\"sh\", \"{manager}\", \"state\"]\n[limits]\nwatch_s = 1\n"
        ),
    );
    let known = |text: String| text.replace(&manager, "manager.sh");
    assert!(console(&world, &["start"]).contains("exit status 0"));
    assert_snapshot!("manager_state", known(console(&world, &["state"])));
    release(&world, "");
    let told = world.lantern(CHANGEOVER);
    assert!(told.contains("exit status 0"), "{told}");
    assert!(console(&world, &["stop"]).contains("is down"));
    assert_snapshot!("manager_down", known(console(&world, &["state"])));
}

#[test]
fn what_starts_the_server_again_is_noticed() {
    // Started by something else, which does not know that it is to stop.
    let world = World::adopted();
    let manager = with_manager(&world);
    with_remote(&world);
    let ran = std::process::Command::new("sh")
        .args([&manager, "start"])
        .status();
    assert!(ran.unwrap().success());
    world.wait("the server is up", || {
        console(&world, &["send", "list"]).contains("exit status 0")
    });
    release(&world, "");
    let before = world.tree("halcyon-terrace/addons");
    // Which of its signs is there first differs.
    let who = regex::Regex::new("again: .*").unwrap();
    let told = world.lantern(CHANGEOVER);
    assert_snapshot!("started_again", who.replace(&told, "again: WHO"));
    assert_eq!(before, world.tree("halcyon-terrace/addons"));
    world.wait("it is up again", || {
        console(&world, &["send", "list"]).contains("exit status 0")
    });
    let ran = std::process::Command::new("sh")
        .args([&manager, "stop"])
        .status();
    assert!(ran.unwrap().success());
    world.wait("the manager is gone", || !world.path("manager").exists());
}

#[test]
fn a_start_script_that_starts_the_server_again_is_noticed() {
    let world = World::adopted();
    world.edit(
        "halcyon-terrace/start.sh",
        "exec sh server/halcyon",
        "[ -e once ] && exec sh server/halcyon",
    );
    add(
        &world,
        "halcyon-terrace/start.sh",
        "while sleep 0.3; do sh server/halcyon --lattice 1.8.0; done\n",
    );
    console(&world, &["start"]);
    release(&world, "");
    let before = world.tree("halcyon-terrace/addons");
    assert_snapshot!("started_again_inside", world.lantern(CHANGEOVER));
    assert_eq!(before, world.tree("halcyon-terrace/addons"));
}

#[test]
fn a_server_that_ignores_the_signal_is_ended_only_when_told() {
    let world = World::adopted();
    let family = fs::read_to_string(
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../families/halcyon.family.toml"),
    );
    let family = family.unwrap().replace(
        "stop = { command = \"stop\" }",
        "stop = { signal = \"TERM\" }",
    );
    world.write("halcyon-terrace/terrace.family.toml", family);
    world.edit(
        SETTINGS,
        "family = \"halcyon\"",
        "family = \"./terrace.family.toml\"",
    );
    add(&world, SETTINGS, "\n[limits]\nstop_s = 1\n");
    world.edit("halcyon-terrace/start.sh", "exec", "trap '' TERM\nexec");
    console(&world, &["start"]);
    assert_snapshot!("ignores_the_signal", console(&world, &["stop"]));
    assert!(console(&world, &["state"]).contains("is up"));
    assert_snapshot!("ended_when_told", console(&world, &["stop", "--kill"]));
    assert!(console(&world, &["state"]).contains("is down"));
}

#[test]
fn a_server_is_asked_for_its_version_over_its_port() {
    let world = World::adopted();
    let family = include_str!("../../../../families/halcyon.family.toml");
    let at_start = "version = { says = '^\\[halcyon\\] Halcyon (?P<version>\\S+), greenhouse' }";
    assert!(family.contains(at_start));
    let asking = |sends: &str| {
        let over_port = format!(
            "version = {{ says = '^halcyon (?P<version>\\S+)$', over_port = \"{sends}\\n\" }}"
        );
        let file = "halcyon-terrace/terrace.family.toml";
        world.write(file, family.replace(at_start, &over_port));
    };
    asking("status");
    world.edit(
        SETTINGS,
        "family = \"halcyon\"",
        "family = \"./terrace.family.toml\"",
    );
    console(&world, &["start"]);
    assert!(verify(&world).contains("it says that it is 5.1.0"));
    release(&world, "");
    let done = world.lantern(CHANGEOVER);
    assert!(done.contains("it says that it is 5.1.0"), "{done}");
    // Silence is no agreement.
    asking("weather");
    assert_snapshot!("version_over_port_silent", verify(&world));
}

#[test]
fn an_add_on_that_is_left_out_is_missed() {
    let world = World::running();
    release(&world, "[standin]\nleft_out='it is too bright for it'");
    assert_snapshot!("left_out", world.lantern(CHANGEOVER));
    // Told to stay, it stays, and can be taken back.
    assert_snapshot!(
        "left_out_stays",
        world.lantern(&[CHANGEOVER, &["--stay"]].concat())
    );
    assert!(
        world
            .path("halcyon-terrace/addons/night-watch-1.1.0.bloom")
            .exists()
    );
    let undone = world.lantern(&["undo", "--keep-world", "--server", "halcyon-terrace"]);
    assert!(undone.contains("exit status 0"), "{undone}");
}

#[test]
fn error_lines_are_held_against_the_start_before() {
    let world = World::adopted();
    add(&world, CONF, "grumbles = 3 leaves fell\n");
    assert_snapshot!("grumbles_first", console(&world, &["start"]));
    release(&world, "");
    // The same line with another number is nothing new.
    world.edit(CONF, "3 leaves", "14 leaves");
    world.ok(DROP);
    assert_snapshot!("grumbles_as_before", world.lantern(CHANGEOVER));
    assert!(verify(&world).contains("nothing new, it printed: [halcyon] FAULT: 14 leaves fell"));
    world.drop_addon(
        "night-watch-1.2.0.bloom",
        "id='night-watch'\nversion='1.2.0'\n",
    );
    world.edit(CONF, "14 leaves fell", "a branch broke");
    world.ok(DROP);
    let told = world.lantern(CHANGEOVER);
    // How much of what follows it is told depends on how fast it is printed.
    let told: Vec<&str> = told
        .lines()
        .filter(|line| !line.starts_with("    | "))
        .collect();
    assert_snapshot!("grumbles_anew", told.join("\n"));
}

#[test]
fn what_a_start_grumbles_is_known_only_once_it_is_accepted() {
    let world = World::adopted();
    add(&world, CONF, "grumbles = 3 leaves fell\n");
    console(&world, &["start"]);
    assert_snapshot!("grumbles_unknown", verify(&world));
    // Another start makes it no better.
    console(&world, &["stop"]);
    console(&world, &["start"]);
    assert!(verify(&world).contains("exit status 3"));
    let accept = &["verify", "--accept", "--server", "halcyon-terrace"];
    assert_snapshot!("grumbles_accepted", world.lantern(accept));
    assert!(verify(&world).contains("exit status 0"));
    console(&world, &["stop"]);
    world.edit(CONF, "3 leaves fell", "a branch broke");
    console(&world, &["start"]);
    assert!(verify(&world).contains("exit status 3"));
}

#[test]
fn an_error_at_the_end_of_a_long_log_is_seen() {
    let world = World::running();
    let log = "halcyon-terrace/.lantern/console/output.log";
    let leaf = "[halcyon] a leaf fell on orbit-garden, which nobody saw or heard\n";
    let printed = world.read(log);
    world.write(log, printed + &leaf.repeat(600_000));
    assert!(verify(&world).contains("exit status 0"));
    add(&world, log, "[halcyon] FAULT: the pond froze\n");
    let told = verify(&world);
    assert!(
        told.contains("it printed: [halcyon] FAULT: the pond froze"),
        "{told}"
    );
}

#[test]
fn a_start_command_that_is_cut_off_shows_in_the_settings() {
    let world = World::adopted();
    world.edit(
        "halcyon-terrace/start.sh",
        "--lattice 1.8.0",
        "--lattice 1.8.0 \\\n  --seed 7081",
    );
    console(&world, &["start"]);
    assert_snapshot!("settings_right", verify(&world));
    console(&world, &["stop"]);
    // A trailing space after the line-continuation mark, and somebody who insists.
    world.edit("halcyon-terrace/start.sh", "1.8.0 \\\n", "1.8.0 \\ \n");
    add(&world, SETTINGS, "\n[expect]\nseats = \"30\"\n");
    console(&world, &["start", "--anyway"]);
    assert_snapshot!("settings_cut", verify(&world));
    add(&world, SETTINGS, "sets = \"30\"\n");
    assert_snapshot!("settings_unknown", verify(&world));
}

#[test]
fn a_second_server_on_the_same_world_is_no_good_start() {
    let world = World::running();
    // What the new start brings along in a session of its own.
    world.edit(
        "halcyon-terrace/start.sh",
        "exec sh",
        "[ -e ../second ] && setsid sh -c 'exec 9>>worlds/orbit-garden/soil.bin; while [ -e ../second ]; do sleep 0.1; done' &\nexec sh",
    );
    release(&world, "");
    world.write("second", "");
    add(&world, SETTINGS, "\n[limits]\nstop_s = 2\n");
    let told = world.lantern(CHANGEOVER);
    let known = "a second one was started by something else: process PID has worlds/orbit-garden/soil.bin open for writing";
    assert!(told.contains(known), "{told}");
    // It was there for the old server's start, too.
    assert!(told.contains("exit status 5"), "{told}");
    fs::remove_file(world.path("second")).unwrap();
    let undo = &["undo", "--keep-world", "--server", "halcyon-terrace"];
    world.wait("the second one is gone", || {
        world.lantern(undo).contains("exit status 0")
    });
}

#[test]
fn players_who_are_on_are_thought_of() {
    let world = World::running();
    release(&world, "");
    add(&world, CONF, "guests = oro ilva\n");
    world.ok(DROP);
    world.ok(CHANGEOVER);
    let undo = &["undo", "--server", "halcyon-terrace"];
    assert_snapshot!("undo_players_on", world.lantern(undo));
    world.ok(&[undo, &["--keep-world"][..]].concat());
    let log = "halcyon-terrace/.lantern/console/output.previous.log";
    assert!(world.read(log).contains("to all: The server restarts now."));
}

#[test]
fn what_a_console_tells_in_one_line_is_read() {
    let world = World::demo();
    world.ok(&["adopt", "triad-north"]);
    let (was, sound) = ("4101;4117;4109;4230", "4101;4109;4117");
    world.edit("triad-north/triad.ini", was, sound);
    add(&world, "triad-north/triad.ini", "Guests = oro ilva\n");
    let there = |words: &[&str]| world.lantern(&[words, &["--server", "triad-north"]].concat());
    there(&["console", "start"]);
    assert_snapshot!("verify_in_one_line", there(&["verify"]));
    let told = there(&[]);
    assert!(told.contains("oro, ilva"), "{told}");
    // What is to run by now was not started.
    world.edit("triad-north/triad.ini", sound, &format!("{sound};4152"));
    assert_snapshot!("verify_in_one_line_missing", there(&["verify"]));
    there(&["console", "stop"]);
}

#[test]
fn from_a_server_that_hangs_there_is_a_way_back() {
    let world = World::running();
    release(&world, "");
    world.ok(CHANGEOVER);
    let record = world.read("halcyon-terrace/.lantern/console/process.json");
    let record: serde_json::Value = serde_json::from_str(&record).unwrap();
    let group = rustix::process::Pid::from_raw(record["pid"].as_i64().unwrap() as i32).unwrap();
    rustix::process::kill_process_group(group, rustix::process::Signal::STOP).unwrap();
    add(&world, SETTINGS, "\n[limits]\nstop_s = 1\n");
    let undo = &["undo", "--keep-world", "--server", "halcyon-terrace"];
    let told = world.lantern(undo);
    assert!(told.contains("is still there after 1 s"), "{told}");
    assert!(console(&world, &["stop", "--kill"]).contains("is down"));
    assert!(world.lantern(undo).contains("exit status 0"));
    assert!(
        !world
            .path("halcyon-terrace/addons/night-watch-1.1.0.bloom")
            .exists()
    );
}
