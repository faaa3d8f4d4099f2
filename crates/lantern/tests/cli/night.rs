//! What a tired administrator types at night: what is armed, how things are, what was done, what differs.

use crate::world::World;
use insta::assert_snapshot;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

const TERRACE: &[&str] = &["--server", "halcyon-terrace"];
const CATALOGUE: &[&str] = &["--catalogue", "depot/verdance.catalogue.json"];

fn at(world: &World, words: &[&str]) -> String {
    world.lantern(&[words, TERRACE].concat())
}

fn plan(world: &World, words: &[&str]) -> String {
    at(world, &[&["plan"], words, CATALOGUE].concat())
}

/// The name of the plan that is armed.
fn name(world: &World) -> String {
    let text = world.read("halcyon-terrace/.lantern/armed.json");
    let armed: serde_json::Value = serde_json::from_str(&text).unwrap();
    armed["name"].as_str().unwrap().to_owned()
}

#[test]
fn nothing_is_carried_out_that_nobody_has_armed() {
    let world = World::running();
    let carry_out = |words: &[&str]| at(&world, &[&["changeover"], words].concat());
    assert!(plan(&world, &["--to", "5.4"]).contains("is armed"));
    // A what-if arms nothing, and leaves armed what was.
    assert_snapshot!(
        "what_if",
        plan(
            &world,
            &["--to", "5.4", "--drop", "night-watch", "--what-if"]
        )
    );
    let first = name(&world);
    // Where nobody can be asked, the plan has to be named.
    assert_snapshot!("not_confirmed", carry_out(&[]));
    assert_snapshot!("other_name", carry_out(&["abcdef"]));
    // A question without an answer disarms what was armed before it.
    assert_snapshot!("disarmed", plan(&world, &["--to", "5.9"]));
    assert_snapshot!("not_armed", carry_out(&["--yes"]));
    assert!(carry_out(&[&first]).contains("there is no plan"));
    // Carried out by its name, and then not again.
    plan(&world, &["--to", "5.4"]);
    let named = name(&world);
    let done = carry_out(&[&named]);
    assert!(done.contains("exit status 0"), "{done}");
    assert_snapshot!("carried_out_already", carry_out(&["--yes"]));
    let again = carry_out(&[&named]);
    assert!(again.contains("the folder has changed"), "{again}");
}

#[test]
fn on_a_terminal_a_changeover_asks() {
    let world = World::running();
    plan(&world, &["--to", "5.4"]);
    let answer = |answer: &str| {
        let lantern = env!("CARGO_BIN_EXE_lantern");
        let line = format!("{lantern} changeover --server halcyon-terrace");
        let mut script = Command::new("script");
        let script = script.args(["-qec", &line, "/dev/null"]);
        let script = script
            .current_dir(world.path(""))
            .env("HOME", world.path(""));
        let mut script = script
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut keys = script.stdin.take().unwrap();
        keys.write_all(answer.as_bytes()).unwrap();
        let output = script.wait_with_output().unwrap();
        drop(keys);
        (
            output.status.code(),
            String::from_utf8_lossy(&output.stdout).into_owned(),
        )
    };
    let (status, told) = answer("n\n");
    assert!(told.contains("Carry it out? [y/N]"), "{told}");
    assert!(told.contains("not done: the answer was no"), "{told}");
    assert_eq!(status, Some(3), "{told}");
    assert!(at(&world, &["status"]).contains("is armed"));
    let (status, told) = answer("y\n");
    assert_eq!(status, Some(0), "{told}");
    assert!(told.contains("Done."), "{told}");
}

#[test]
fn how_things_are_is_said_at_a_glance() {
    let world = World::running();
    assert_snapshot!("status_first", at(&world, &["status"]));
    plan(&world, &["--to", "5.4"]);
    assert_snapshot!("status_armed", at(&world, &["status"]));
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    let json = world.ok(&[&["status", "--json"], TERRACE].concat());
    let seen: serde_json::Value = serde_json::from_str(&json).unwrap();
    assert_eq!(seen["server_version"], "5.4.0");
    assert_eq!(seen["plan"]["became"]["done"], 1);
    // By its name from anywhere, and without a word from inside its folder.
    let named = world.ok(&["status", "--server", "halcyon-terrace"]);
    let mut inside = Command::new(env!("CARGO_BIN_EXE_lantern"));
    let inside = inside.current_dir(world.path("halcyon-terrace/worlds/orbit-garden"));
    let inside = inside.env("HOME", world.path("")).output().unwrap();
    let inside = String::from_utf8_lossy(&inside.stdout).into_owned();
    let first = |text: &str| text.lines().next().unwrap().to_owned();
    assert_eq!(first(&inside), first(&named));
    world.ok(&[&["console", "stop"], TERRACE].concat());
    assert_snapshot!("status_down", at(&world, &["status"]));
}

#[test]
fn what_was_yours_is_shown_and_comes_back() {
    let world = World::running();
    let mine = "a note of mine\n";
    world.write("halcyon-terrace/framework/lattice.bin", mine);
    let differs = at(&world, &["diff"]);
    assert!(differs.contains("+a note of mine"), "{differs}");
    assert!(differs.contains("exit status 3"), "{differs}");
    plan(&world, &["--to", "5.4", "--theirs"]);
    assert_snapshot!(
        "diff_plan",
        at(
            &world,
            &["diff", "--plan", "addons", "greenhouse.conf", "start.sh"]
        )
    );
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    let sizes = regex::Regex::new(r"\d+ KB").unwrap();
    let sizeless = |told: &str| sizes.replace_all(told, "SIZE").into_owned();
    assert_snapshot!("history_one", sizeless(&at(&world, &["history", "1"])));
    assert_snapshot!("history_none", at(&world, &["history", "9"]));
    let of_first = ["framework/lattice.bin", "--operation", "1"];
    let aside = at(&world, &[&["diff"], &of_first[..]].concat());
    assert!(aside.contains("-a note of mine"), "{aside}");
    assert_snapshot!(
        "put_back",
        at(&world, &[&["put-back"], &of_first[..]].concat())
    );
    let done = at(&world, &["changeover", "--yes"]);
    assert!(done.contains("exit status 0"), "{done}");
    assert_eq!(world.read("halcyon-terrace/framework/lattice.bin"), mine);
    // It is the administrator's edit, as it was: known as such, and told before it is thinned out.
    assert!(at(&world, &["survey"]).contains("edited (1)"));
    assert_snapshot!(
        "thin_asks",
        sizeless(&at(&world, &["history", "--thin", "0"]))
    );
    let undone = at(&world, &["undo", "--keep-world"]);
    assert!(undone.contains("exit status 0"), "{undone}");
    let missing = ["put-back", "start.sh", "--operation", "7"];
    assert!(at(&world, &missing).contains("the history has no number 7"));
    let elsewhere = ["put-back", "framework/nothing", "--operation", "1"];
    assert_snapshot!("put_back_nothing", at(&world, &elsewhere));
}

#[test]
fn ctrl_c_after_the_stop_goes_on_and_once_more_goes_back() {
    let world = World::running();
    let old = world.read("halcyon-terrace/start.sh");
    plan(&world, &["--to", "5.4"]);
    // Each line of the new start takes its time.
    let conf = world.read("halcyon-terrace/greenhouse.conf");
    world.write("halcyon-terrace/greenhouse.conf", conf + "slow_ms = 400\n");
    plan(&world, &["--to", "5.4"]);
    let mut lantern = world.begin(&[&["changeover", "--yes"], TERRACE].concat());
    let journal = "halcyon-terrace/.lantern/journal.json";
    let is_starting = || {
        let path = world.path(journal);
        std::fs::read_to_string(path).is_ok_and(|text| text.contains("\"phase\":\"starting\""))
    };
    world.wait("the new state starts", is_starting);
    let pid = rustix::process::Pid::from_child(&lantern);
    let press = || rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    press();
    std::thread::sleep(std::time::Duration::from_millis(200));
    assert!(lantern.try_wait().unwrap().is_none());
    press();
    let output = lantern.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(
        told.contains("Once more, and it goes back to the old state."),
        "{told}"
    );
    assert!(
        told.contains("Back to the old state, as soon as it can."),
        "{told}"
    );
    assert!(told.contains("you asked for it to go back"), "{told}");
    assert_eq!(output.status.code(), Some(4), "{told}");
    assert_eq!(world.read("halcyon-terrace/start.sh"), old);
    assert!(at(&world, &["console", "state"]).contains("is up"));
    assert!(at(&world, &["changeover", "--yes"]).contains("failed as number 1"));
}

#[test]
fn newer_releases_for_what_runs_are_a_line_each() {
    let world = World::adopted();
    let updates = |more: &[&str]| at(&world, &[&["outlook", "--updates"], more].concat());
    assert_snapshot!("updates", updates(CATALOGUE));
    assert_snapshot!("updates_of_nothing", updates(&[]));
}

#[test]
fn a_shell_is_told_what_can_come_next() {
    let world = World::adopted();
    world.ok(&[&["backup", "make", "dawn"], TERRACE].concat());
    let next = |words: &[&str]| {
        let mut lantern = Command::new(env!("CARGO_BIN_EXE_lantern"));
        let lantern = lantern.args(["--", "lantern"]).args(words);
        let lantern = lantern
            .current_dir(world.path("halcyon-terrace"))
            .env_clear();
        let lantern = lantern.env("HOME", world.path("")).env("COMPLETE", "bash");
        let lantern = lantern.env("_CLAP_COMPLETE_INDEX", words.len().to_string());
        let told = lantern.env("_CLAP_IFS", "\n").output().unwrap();
        String::from_utf8(told.stdout).unwrap()
    };
    assert!(next(&["survey", "sun"]).contains("sun-clock"));
    assert!(next(&["plan", "--keep", ""]).contains("glasswork"));
    assert!(next(&["plan", "--to", ""]).contains("same"));
    assert!(next(&["backup", "show", ""]).contains("dawn"));
    assert!(next(&["status", "--server", ""]).contains("halcyon-terrace"));
}

#[test]
fn a_lone_binary_explains_itself() {
    let world = World::adopted();
    assert!(world.ok(&["docs"]).contains("lantern-toml"));
    assert!(world.ok(&["docs", "guide"]).starts_with("# Guide"));
    assert!(world.ok(&["man", "pages"]).contains("pages"));
    assert!(
        world
            .read("pages/lantern-changeover.1")
            .contains("changeover")
    );
    assert!(world.ok(&["help", "plan"]).contains("Examples:"));
    // A failure is answered in JSON, too: of a command, and of a line that makes no sense.
    let failed = plan(&world, &["--to", "5.9", "--json"]);
    assert_snapshot!("failure_json", failed);
    let misused = at(&world, &["plna", "--json"]);
    assert!(misused.contains("\"exit_status\": 2"), "{misused}");
}

#[test]
fn backups_are_named_and_asked_for() {
    let world = World::adopted();
    let backup = |words: &[&str]| at(&world, &[&["backup"], words].concat());
    backup(&[
        "make",
        "before the party",
        "--kept",
        "--note",
        "all is well",
    ]);
    world.write("halcyon-terrace/worlds/orbit-garden/days", "300\n");
    backup(&["make", "--kept"]);
    backup(&["make", "--kept"]);
    // Never one that has a name, unless that is said.
    assert_snapshot!("thin_dry", backup(&["thin", "--keep", "0", "--dry-run"]));
    assert_snapshot!("thin_not_asked", backup(&["thin", "--keep", "0"]));
    let gone = backup(&["thin", "--keep", "1", "--yes"]);
    assert!(gone.contains("1 backup deleted"), "{gone}");
    assert!(backup(&["show", "latest"]).contains("halcyon-terrace-DATE-2"));
    assert!(backup(&["show", "before"]).contains("before-the-party: 5 files"));
    backup(&["make", "before dawn", "--kept"]);
    assert_snapshot!("several_backups", backup(&["show", "before"]));
    assert_snapshot!("no_backup", backup(&["show", "after"]));
    assert!(backup(&["rm", "before-d", "--yes"]).contains("1 backup deleted"));
    let sizes = regex::Regex::new(r"[0-9.]+ (KB|MB|bytes)").unwrap();
    let list = backup(&["list"]);
    assert_snapshot!("backups_named", sizes.replace_all(&list, "SIZE"));
    // One that an undo would need stays.
    plan(&world, &["--to", "5.4"]);
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    assert_snapshot!("backup_needed", backup(&["rm", "latest", "--yes"]));
}

/// The commands of the guide, in order, on the demo: each works, and prints the lines that stand below it there.
#[test]
fn the_commands_of_the_guide_work_in_order() {
    let world = World::demo();
    let guide = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide.md");
    let guide = std::fs::read_to_string(guide).unwrap();
    let mut folder = world.path("");
    let (mut done, mut printed, mut compared) = (Vec::new(), String::new(), 0);
    let mut fence = None;
    for line in guide.lines() {
        fence = match (fence, line.strip_prefix("```")) {
            (None, Some(kind)) => Some(kind),
            (Some(_), Some(_)) => None,
            (Some("text"), None) => {
                let line = world.comparable(line);
                assert!(
                    printed.contains(&line),
                    "{done:?} did not print {line}: {printed}"
                );
                compared += 1;
                fence
            }
            (_, None) => fence,
        };
        let typed = line.strip_prefix("    ").filter(|_| fence.is_none());
        let words: Vec<&str> = typed.unwrap_or_default().split_whitespace().collect();
        match words[..] {
            [] => {}
            ["cd", to] => folder = folder.join(to),
            ["lantern", ..] => {
                let mut lantern = Command::new(env!("CARGO_BIN_EXE_lantern"));
                let lantern = lantern.args(&words[1..]).arg("--yes");
                let lantern = lantern.current_dir(&folder).env("HOME", world.path(""));
                let output = lantern.stdin(Stdio::null()).output().unwrap();
                let told = String::from_utf8_lossy(&output.stderr).into_owned();
                assert_eq!(output.status.code(), Some(0), "{line}: {told}");
                printed = world.comparable(&String::from_utf8_lossy(&output.stdout));
                done.push(words[1].to_owned());
            }
            _ => panic!("the guide has a line that is no command: {line}"),
        }
    }
    let all = [
        "adopt",
        "survey",
        "console",
        "outlook",
        "plan",
        "rehearse",
        "culprit",
        "known",
        "changeover",
        "history",
    ];
    assert_eq!(done, all);
    assert!(compared > 20, "{compared}");
    world.ok(&[&["console", "stop"], TERRACE].concat());
}

#[test]
fn what_operations_did_is_shown_between_any_two_of_them() {
    let world = World::running();
    let since = |words: &[&str]| at(&world, &[&["diff", "--since"], words].concat());
    assert!(since(&["1"]).contains("nothing was done here yet"));
    plan(&world, &["--to", "5.4"]);
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    let done = since(&["1", "start.sh", "addons"]);
    assert_snapshot!("diff_since", done);
    world.drop_addon(
        "sun-clock-2.0.7.bloom",
        "id = \"sun-clock\"\nversion = \"2.0.7\"\nserver = \">=5.4\"\nside = \"both\"\n",
    );
    world.ok(crate::world::DROP);
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    let first = since(&["1", "--until", "1", "start.sh", "addons"]);
    let below = |told: &str| told.split_once("--- stdout").unwrap().1.to_owned();
    assert_eq!(below(&first), below(&done));
    assert_snapshot!("diff_second", since(&["2", "addons"]));
    // What was taken back has changed nothing.
    world.ok(&[&["undo", "--keep-world"], TERRACE].concat());
    assert!(since(&["2"]).contains("Nothing differs."));
    assert_eq!(below(&since(&["1", "start.sh", "addons"])), below(&done));
    world.ok(&[&["history", "--thin", "0", "--yes"], TERRACE].concat());
    assert_snapshot!("diff_thinned", since(&["1"]));
}

#[test]
fn a_server_that_was_only_checked_goes_back_without_a_question() {
    let world = World::adopted();
    let days = world.read("halcyon-terrace/worlds/orbit-garden/days");
    plan(&world, &["--to", "5.4"]);
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    assert_ne!(world.read("halcyon-terrace/worlds/orbit-garden/days"), days);
    // Only the changeover's own start has written the world: it comes back, and nothing is lost.
    assert_snapshot!("undo_only_checked", at(&world, &["undo"]));
    assert_eq!(world.read("halcyon-terrace/worlds/orbit-garden/days"), days);
    // Somebody has started it since: that is asked.
    plan(&world, &["--to", "5.4"]);
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    world.ok(&[&["console", "start"], TERRACE].concat());
    world.ok(&[&["console", "stop"], TERRACE].concat());
    assert!(at(&world, &["undo"]).contains("has been written to since"));
}

#[test]
fn whose_a_file_is_and_who_needs_what() {
    let world = World::running();
    assert_snapshot!("survey_path", at(&world, &["survey", "framework"]));
    let from_here = at(&world, &["survey", "halcyon-terrace/start.sh"]);
    assert!(from_here.contains("settings"), "{from_here}");
    assert!(at(&world, &["survey", "glasswork"]).contains("needed by   sun-clock (^3)"));
    assert!(at(&world, &["survey", "framework/none"]).contains("exit status 1"));
    plan(&world, &["--to", "5.4"]);
    world.ok(&[&["changeover", "--yes"], TERRACE].concat());
    let told = at(&world, &["survey", "sun-clock"]);
    assert!(told.contains("what it was before: history 1"), "{told}");
}
