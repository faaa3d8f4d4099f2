//! Servers of a group at which a lantern works that is on their own machine.

use crate::gather::Depot;
use crate::groups::TO;
use crate::together::{end, is, of_which_one_crashes, steps, up};
use crate::watches::whatever_is_free;
use crate::world::World;
use insta::assert_snapshot;
use regex::Regex;
use std::fs;
use std::process::Command;

const THERE: [&str; 2] = ["south-terrace", "east-terrace"];

/// Has two of the three servers be on another machine: one with a home of its own, to which a shell leads by this script.
fn moved(world: &World, script: &str) {
    world.write("line.sh", script);
    let mut file = world.read("terraces.group.toml");
    for name in THERE {
        let at = world.path(name).display().to_string();
        file = file.replace(
            &format!("at = \"{name}\""),
            &format!(
                "name = \"{name}\"\nat = \"ssh://ida@cellar{at}\"\nshell = [\"sh\", \"{}\"]",
                world.path("line.sh").display()
            ),
        );
    }
    world.write("terraces.group.toml", file);
    fs::create_dir_all(world.path("cellar")).unwrap();
}

/// A shell of the other machine.
fn line(world: &World) -> String {
    let home = world.path("cellar").display().to_string();
    format!("HOME='{home}' exec sh -c \"$1\"\n")
}

/// The same, at an end of which somebody can pull: both programs that carry words over it write down who they are.
fn thin_line(world: &World) -> String {
    let home = world.path("cellar").display().to_string();
    let carry = format!(
        "sh -c 'echo $$ >> {}; exec cat'",
        world.path("carriers").display()
    );
    format!("export HOME='{home}'\n{carry} | sh -c \"$1\" | {carry}\n")
}

/// What came back, with what is different on each machine left out.
fn plain(told: &str) -> String {
    let told = told.replace("sent, ", "sent: ");
    let sizes = Regex::new(r"sent: [0-9.]+ [kMG]B").unwrap();
    let told = sizes.replace_all(&told, "sent: SIZE");
    let program = Regex::new(r"program/[0-9a-f]{16}").unwrap();
    program.replace_all(&told, "program/HASH").into_owned()
}

#[test]
fn a_lantern_is_put_there_and_works_there() {
    let world = up("", "");
    whatever_is_free(&world);
    moved(&world, &line(&world));
    let mut told = Vec::new();
    let mut says = |args: &[&str]| told.push(plain(&world.lantern(args)));
    says(&["group", "survey"]);
    says(&["group", "send"]);
    says(&["group", "send"]);
    says(&["group", "survey"]);
    world.ok(&TO);
    says(&["group", "changeover", "--yes"]);
    says(&["group", "history"]);
    says(&["group", "verify"]);
    says(&["group", "watch"]);
    assert_snapshot!(told.join("\n"));
    assert_snapshot!(is(&world));
    // Another administrator's machine knows as much, as all of it is written there.
    let others = world.path("other");
    fs::create_dir_all(&others).unwrap();
    let standing = world.with_env(
        &["group", "changeover", "--yes"],
        "HOME",
        others.to_str().unwrap(),
    );
    let standing = String::from_utf8_lossy(&standing.stdout);
    assert!(standing.contains("done           halcyon-terrace, south-terrace and east-terrace"));
    let back = world.lantern(&["group", "undo", "--yes"]);
    assert_snapshot!(format!("{}\n{}", end(&back), is(&world)));
}

#[test]
fn those_that_are_down_together_wait_for_one_another_over_machines() {
    let world = of_which_one_crashes("together = true\n");
    moved(&world, &line(&world));
    world.ok(&["group", "send"]);
    // What was planned before stands: it is written with the servers.
    let told = world.lantern(&["group", "changeover", "--yes"]);
    assert!(told.contains("the moss is too deep"), "{told}");
    let steps = steps(&told);
    assert!(
        steps.starts_with("stop ehs, swap ehs, failed s, going s, start"),
        "{steps}"
    );
    assert_snapshot!(format!("{}\n{}", plain(end(&told)), is(&world)));
}

#[test]
fn what_lies_in_a_drop_folder_here_is_sent_along() {
    let world = of_which_one_crashes("");
    moved(&world, &line(&world));
    world.ok(&["group", "send"]);
    let plan = world.lantern(&["group", "plan", "--to", "same", "--from", "moss"]);
    assert_snapshot!(plan);
    // What was sent along for an earlier question does not pile up.
    let wall = fs::read(world.path("moss/moss-wall-2.0.0.bloom")).unwrap();
    fs::remove_file(world.path("moss/moss-wall-2.0.0.bloom")).unwrap();
    world.ok(&["group", "plan", "--to", "same", "--from", "moss"]);
    fs::write(world.path("moss/moss-wall-2.0.0.bloom"), wall).unwrap();
    world.ok(&["group", "plan", "--to", "same", "--from", "moss"]);
    let sent = fs::read_dir(world.path("south-terrace/.lantern/sent"));
    assert_eq!(sent.unwrap().count(), 1);
    // Each is there once, for both servers.
    let store = world.path("cellar/.cache/lantern/files");
    let find = Command::new("find")
        .arg(store)
        .args(["-type", "f"])
        .output();
    let found = String::from_utf8(find.unwrap().stdout).unwrap();
    assert_eq!(found.lines().count(), 2, "{found}");
    let told = world.lantern(&["group", "changeover", "--yes"]);
    assert!(told.contains("the moss is too deep"), "{told}");
    assert_snapshot!(format!("{}\n{}", plain(end(&told)), is(&world)));
}

#[test]
fn what_has_an_address_is_fetched_from_there_once() {
    let world = up("", "");
    moved(&world, &line(&world));
    world.ok(&["group", "send"]);
    let depot = Depot::of(&world, "depot");
    let url = format!("{}/verdance.catalogue.json", depot.http);
    let plan = ["group", "plan", "--to", "5.4", "--catalogue", &url];
    let told = world.lantern(&plan);
    // Nine for this machine, and nine for the other one.
    assert!(told.contains("18 files have to be fetched"), "{told}");
    let told = world.lantern(&[&plan[..], &["--gather"]].concat());
    assert!(
        told.contains("exit status 0") && told.contains("Every server's own plan is armed"),
        "{told}"
    );
    let fetched = world.read("depot.log");
    let trellis = fetched
        .lines()
        .filter(|line| line.contains("trellis-2.2.0"));
    assert_eq!(trellis.count(), 2, "{fetched}");
}

/// Begins a changeover of which the session to the second server breaks as soon as something is so; returns what is said of it.
fn broken_when(world: &World, so: impl Fn() -> bool) -> String {
    let lantern = world.begin(&["group", "changeover", "--yes"]);
    world.wait("it has come so far", so);
    let carriers = world.read("carriers");
    for pid in carriers.lines() {
        let _ = Command::new("kill").args(["-9", pid]).output();
    }
    let ended = lantern.wait_with_output().unwrap();
    world.comparable(&String::from_utf8_lossy(&ended.stderr))
}

/// Has the second server be so slow at its end and its start that there is time to see it.
fn slow(world: &World, server: &str) {
    world.edit(
        &format!("{server}/greenhouse.conf"),
        "seats = 24",
        "seats = 24\nslow_ms = 150",
    );
}

#[test]
fn a_session_that_breaks_in_the_middle_is_found_again() {
    let world = up("", "");
    slow(&world, "south-terrace");
    moved(&world, &thin_line(&world));
    world.ok(&["group", "send"]);
    world.ok(&TO);
    let log = "south-terrace/.lantern/console/output.log";
    let told = broken_when(&world, || {
        world.path(log).exists() && world.read(log).contains("Halcyon 5.4.0")
    });
    assert!(
        told.contains("the session broke") && told.contains("south-terrace: done"),
        "{told}"
    );
    // It went on there, and so did the rest.
    assert_snapshot!(is(&world));
    let again = world.lantern(&["group", "changeover", "--yes"]);
    assert_snapshot!(end(&again));
}

#[test]
fn a_session_that_breaks_before_the_stop_calls_it_off() {
    let world = up("", "");
    moved(&world, &thin_line(&world));
    world.ok(&["group", "send"]);
    world.ok(&TO);
    let settings = "south-terrace/lantern.toml";
    world.edit(settings, "at = []", "at = [\"20s\"]");
    let log = "south-terrace/.lantern/console/output.log";
    let told = broken_when(&world, || {
        world.path(log).exists() && world.read(log).contains("20 s")
    });
    assert!(told.contains("it was called off before the stop"), "{told}");
    assert_snapshot!(is(&world));
    world.edit(settings, "at = [\"20s\"]", "at = []");
    let again = world.lantern(&["group", "changeover", "--yes"]);
    assert_snapshot!(end(&again));
}

#[test]
fn ctrl_c_here_means_what_it_does_there() {
    let world = up("", "");
    slow(&world, "south-terrace");
    moved(&world, &line(&world));
    world.ok(&["group", "send"]);
    world.ok(&TO);
    let lantern = world.begin(&["group", "changeover", "--yes"]);
    let log = "south-terrace/.lantern/console/output.log";
    world.wait("the second server starts", || {
        world.path(log).exists() && world.read(log).contains("Halcyon 5.4.0")
    });
    let pid = lantern.id().to_string();
    let _ = Command::new("kill").args(["-INT", &pid]).output();
    let ended = lantern.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&ended.stderr).into_owned();
    assert!(
        told.contains("The server is being exchanged, and that goes on to its end.")
            && told.contains("south-terrace: done")
            && told.contains("Called off: the rest is not begun."),
        "{told}"
    );
    assert_snapshot!(is(&world));
}

#[test]
fn whoever_works_there_is_known_by_name_and_machine() {
    let world = up("", "");
    moved(&world, &line(&world));
    world.ok(&["group", "send"]);
    world.ok(&TO);
    world.edit("south-terrace/lantern.toml", "at = []", "at = [\"20s\"]");
    let mut lantern = world.begin(&["group", "changeover", "--yes"]);
    let log = "south-terrace/.lantern/console/output.log";
    world.wait("players are told", || {
        world.path(log).exists() && world.read(log).contains("20 s")
    });
    let told = world.lantern(&["group", "changeover", "--yes"]);
    let _ = lantern.kill();
    let _ = lantern.wait();
    assert!(
        told.contains("by somebody on ") && told.contains(", since "),
        "{told}"
    );
    assert!(told.contains("exit status 1"), "{told}");
    // Nobody is there any more who wanted it: it is called off, as nothing was stopped.
    let lock = || world.lantern(&["status", "--server", "south-terrace"]);
    world.wait("it is called off there", || !lock().contains("under way"));
    assert_snapshot!(is(&world));
}

#[test]
fn what_does_not_get_there_is_told() {
    let world = up("", "");
    let told = |script: &str| {
        moved(&world, script);
        let told = plain(&world.lantern(&["group", "send"]));
        let mut file = world.read("terraces.group.toml");
        for name in THERE {
            let lines = Regex::new(&format!("(?m)^name = \"{name}\"\nat = .*\nshell = .*$"));
            let lines = lines.unwrap();
            file = lines
                .replace(&file, format!("at = \"{name}\""))
                .into_owned();
        }
        world.write("terraces.group.toml", file);
        told
    };
    let home = world.path("cellar").display().to_string();
    let mut all = vec![
        // Nobody answers; another kind of machine; what arrives is cut off; what is put there does not run.
        told("echo 'ssh: connect to host cellar port 22: Connection refused' >&2; exit 255\n"),
        told("case \"$1\" in uname*) echo 'Tern sparrow'; echo known;; esac\n"),
        told(&format!(
            "HOME='{home}'; export HOME; case \"$1\" in *lantern.part*sha256*) head -c 1000 | sh -c \"$1\";; *) sh -c \"$1\";; esac\n"
        )),
        told(&format!(
            "HOME='{home}'; export HOME; case \"$1\" in exec*) echo 'lantern: no such library' >&2; exit 127;; *) sh -c \"$1\";; esac\n"
        )),
    ];
    all.push(world.lantern(&["group", "send"]));
    assert_snapshot!(all.join("\n"));
    let left = fs::read_dir(world.path("cellar/.local/share/lantern/program")).unwrap();
    let left = left.flat_map(|it| fs::read_dir(it.unwrap().path()).unwrap());
    assert_eq!(left.count(), 0);
}

#[test]
fn a_far_end_that_is_spoken_to_badly_says_so() {
    let world = World::demo();
    let answers = |asked: &str| {
        let mut far_end = world.talking(&["far-end"]);
        use std::io::Write as _;
        let mut input = far_end.stdin.take().unwrap();
        input.write_all(asked.as_bytes()).unwrap();
        drop(input);
        let output = far_end.wait_with_output().unwrap();
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let hash = Regex::new("\"program\":\"[0-9a-f]{64}\"").unwrap();
        let text = world.comparable(&text);
        hash.replace_all(&text, "\"program\":\"HASH\"").into_owned()
    };
    let hello = "{\"lines\":1,\"who\":\"by ida on willow\"}\n";
    assert_snapshot!(
        [
            answers(""),
            answers("{\"lines\":2,\"who\":\"x\"}\n"),
            answers(&format!("{hello}not json\n\"ends\"\n")),
            answers(&format!(
                "{hello}{{\"errand\":{{\"name\":\"dance\",\"at\":\"/srv\",\"of\":{{}}}}}}\n"
            )),
            answers(&format!(
                "{hello}{{\"errand\":{{\"name\":\"survey\",\"at\":\"/no/such\",\"of\":{{}}}}}}\n"
            )),
            answers(&format!(
                "{hello}{{\"errand\":{{\"name\":\"survey\",\"at\":\"/srv\",\"of\":{{\"weather\":1}}}}}}\n"
            )),
            answers(&format!(
                "{hello}{{\"keeps\":{{\"at\":\"/no/such\",\"supply\":{{\"name\":\"../x\"}}}}}}\n{{\"part\":\"AAAA\"}}\n{{\"part\":\"\"}}\n"
            )),
        ]
        .join("--\n")
    );
}
