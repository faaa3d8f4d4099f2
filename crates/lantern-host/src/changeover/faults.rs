//! A fault at every single change to the disk, in turn: afterwards the tree is the old one or the new
//! one, byte for byte, the world is untouched, and the next commands work.

use super::{Journal, World, changeover, restore, resume, undo};
use crate::adopt::{Wishes, adopt};
use crate::backup;
use crate::config::Server;
use crate::console::{Console, State};
use crate::depot::Depot;
use crate::disk::faults::{Fault, with};
use crate::error::Error;
use crate::ledger::Ledger;
use crate::planning::{self, Wish};
use crate::survey::{Depth, survey};
use lantern_core::plan::Plan;
use lantern_core::text::Text;
use std::collections::BTreeMap;
use std::fs;
use tempfile::TempDir;
use zip::write::SimpleFileOptions;

const FAMILY: &str = r#"
    format = 1
    name = "pond"
    title = "Pond"
    marks = ["pond.conf"]
    build = { id = "pond" }
    launch = { command = ["sh", "server/run.sh"] }
    layout = { keep = ["world/**"] }
    order = { kind = "sequence", file = "pond.conf", line = '^start (?P<id>\S+)$', write = "start {id}" }
    console = { ready = '^ready', errors = ['^sunk'], hold_ms = 1, ready_timeout_s = 10, stop = { command = "stop" }, stop_timeout_s = 5, list = { ask = "list", line = '^- (?P<id>\S+)$', end = '^all' } }
    [[reader]]
    name = "build"
    kind = "build"
    shape = "folder"
    at = "server"
    install = "server"
    drop = "pond-*.zip"
    files = [{ name = "build.ini", notation = "ini" }]
    fields = { id = { value = "pond" }, version = "version" }
    [[reader]]
    name = "fish"
    kind = "addon"
    shape = "file"
    at = "fish/*.fish"
    install = "fish/{id}-{version}.fish"
    drop = "*.fish"
    files = [{ name = ".", notation = "ini" }]
    fields = { id = "id", version = "version" }
"#;

/// A server in shell: it lists what its settings start, and ends when it is told.
const RUN: &str = "for word in $(cat pond.conf); do [ $word = start ] || ids=\"$ids $word\"; done\n\
    grep -q sinks fish/* && { echo sunk; exit 1; }\necho ready\nexec 9>>world/lock\n\
    while read line; do case $line in stop) exit 0;; list) for id in $ids; do echo \"- $id\"; done; echo all;; esac; done\n";

struct Pond {
    dir: TempDir,
    sinks: bool,
}

impl Pond {
    /// A server in care with a plan: its program, one add-on and the load order change, one comes new.
    fn new(sinks: bool) -> Pond {
        let dir = tempfile::tempdir().unwrap();
        let put = |path: &str, text: &str| {
            let path = dir.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        put("pond.family.toml", FAMILY);
        put("pond/pond.conf", "start carp\n");
        put("pond/server/build.ini", "version = 1\n");
        put("pond/server/run.sh", RUN);
        put("pond/server/old/only.txt", "of version 1\n");
        put("pond/fish/carp-1.fish", "id = carp\nversion = 1\n");
        put("pond/world/map", "deep water\n");
        put("pond/world/lock", "");
        let poison = if sinks { "sinks = true\n" } else { "" };
        put(
            "drop/carp-2.fish",
            &format!("id = carp\nversion = 2\n{poison}"),
        );
        put("drop/pike-1.fish", "id = pike\nversion = 1\n");
        let file = fs::File::create(dir.path().join("drop/pond-2.zip")).unwrap();
        let mut zip = zip::ZipWriter::new(file);
        for (name, text) in [
            ("build.ini", "version = 2\n"),
            ("run.sh", RUN),
            ("new/only.txt", "of version 2\n"),
        ] {
            zip.start_file(name, SimpleFileOptions::default()).unwrap();
            std::io::Write::write_all(&mut zip, text.as_bytes()).unwrap();
        }
        zip.finish().unwrap();
        let family = dir.path().join("pond.family.toml").display().to_string();
        let wishes = Wishes {
            name: None,
            family: Some(&family),
            server_version: None,
        };
        adopt(&dir.path().join("pond"), &wishes).unwrap();
        let settings = dir.path().join("pond/lantern.toml");
        let text = fs::read_to_string(&settings).unwrap();
        fs::write(&settings, text.replace("at = [\"10s\"]", "at = []")).unwrap();
        Pond { dir, sinks }
    }

    fn server(&self) -> Server {
        Server::open(&self.dir.path().join("pond")).unwrap()
    }

    fn plan(&self) -> Plan {
        let server = self.server();
        let mut ledger = Ledger::open(&server.folder).unwrap();
        let found = survey(&server, &mut ledger, Depth::Usual).unwrap();
        let mut depot = Depot::default();
        depot
            .add_drop_folder(&self.dir.path().join("drop"), &server.family)
            .unwrap();
        let wish = Wish {
            to: "2".into(),
            add: vec!["pike".into()],
            ..Wish::default()
        };
        let question = planning::request(&server, &found, &mut depot, &wish).unwrap();
        let selection = planning::select(&question).unwrap();
        let mut plans = planning::plans(
            &server, &found, &depot, &question, selection, &wish, &ledger,
        )
        .unwrap();
        plans.remove(0)
    }

    fn start(&self) {
        let server = self.server();
        let console = Console::of(&server);
        let starting = console.start().unwrap();
        let known = std::collections::BTreeSet::new();
        console.wait_ready(&starting, &known, false).unwrap();
    }

    fn is_up(&self) -> bool {
        Console::of(&self.server()).state().unwrap() != State::Down
    }

    fn changeover(&self, plan: &Plan) -> Result<(), Error> {
        let server = self.server();
        let mut ledger = Ledger::open(&server.folder)?;
        changeover(&server, &mut ledger, plan.clone(), false, &mut |_| {}).map(|_| ())
    }

    fn resume(&self) -> Result<(), Error> {
        let server = self.server();
        let mut ledger = Ledger::open(&server.folder)?;
        resume(&server, &mut ledger, false, &mut |_| {}).map(|_| ())
    }

    fn undo(&self) -> Result<(), Error> {
        let server = self.server();
        let mut ledger = Ledger::open(&server.folder)?;
        undo(&server, &mut ledger, World::Ask, &mut |_| {}).map(|_| ())
    }

    /// Writes some of the world.
    fn play(&self, text: &str) {
        for isle in 0..6 {
            let path = self.dir.path().join(format!("pond/world/isles/{isle}"));
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text.repeat(isle)).unwrap();
        }
    }

    /// Makes a backup, and plays on.
    fn play_past_a_backup(&self) {
        self.play("reeds\n");
        let server = self.server();
        let pass = backup::pass(&server, None).unwrap();
        backup::finish(&server, &pass, "reeds", None).unwrap();
        self.play("rushes\n");
        fs::write(self.dir.path().join("pond/world/isles/new"), "sand\n").unwrap();
    }

    fn restored(&self, _: &Plan) {
        self.play_past_a_backup();
        self.restore().unwrap();
    }

    fn restore(&self) -> Result<(), Error> {
        let server = self.server();
        let mut ledger = Ledger::open(&server.folder)?;
        restore(&server, &mut ledger, "reeds", &[], &mut |_| {}).map(|_| ())
    }

    /// Every file with its content, lantern's own and its settings left out.
    fn tree(&self) -> BTreeMap<String, Text> {
        let server = self.server();
        let files = server.folder.list().unwrap().files.into_iter();
        let text = |path: &lantern_core::path::RelPath| server.folder.read_text(path).unwrap();
        files
            .filter(|(path, _)| path.as_str() != "lantern.toml")
            .map(|(path, _)| (path.to_string(), text(&path)))
            .collect()
    }

    /// The state is whole: nothing is under way, and the ledger finds everything as it was put.
    fn is_whole(&self, about: &str) {
        let server = self.server();
        assert!(Journal::read(&server.folder).unwrap().is_none(), "{about}");
        let mut ledger = Ledger::open(&server.folder).unwrap();
        let found = survey(&server, &mut ledger, Depth::Everything).unwrap();
        let wrong: Vec<_> = found
            .inventory
            .findings
            .iter()
            .filter(|finding| finding.code != "not-started")
            .collect();
        assert!(wrong.is_empty(), "{about}: {wrong:?}");
    }
}

impl Drop for Pond {
    fn drop(&mut self) {
        let server = self.server();
        if let Ok(State::Ours(process)) = Console::of(&server).state() {
            let _ = process.signal(rustix::process::Signal::KILL);
        }
    }
}

/// What the world holds must never change, whatever happens.
fn world_is_untouched(tree: &BTreeMap<String, Text>, about: &str) {
    assert_eq!(tree["world/map"].as_str(), "deep water\n", "{about}");
}

/// Brings an operation that was cut off to an end, one way or the other, and itself cut off once.
fn recover(pond: &Pond, at: u64, about: &str) {
    let go = |onward: bool| if onward { pond.resume() } else { pond.undo() };
    if Journal::read(&pond.server().folder).unwrap().is_none() {
        return;
    }
    let onward = at.is_multiple_of(2);
    // Killed again while it recovers; then it is left to finish.
    let (_, _) = with(at / 2 % 23, Fault::Kills, || go(onward));
    if Journal::read(&pond.server().folder).unwrap().is_some() {
        match go(onward) {
            Ok(()) | Err(Error::RolledBack { .. }) => {}
            Err(error) => panic!("{about}: recovery says {error}"),
        }
    }
}

/// Tries a fault at every change of an operation; `prepare` leads up to it.
fn at_every_change(
    (sinks, up): (bool, bool),
    fault: Fault,
    lane: u64,
    prepare: impl Fn(&Pond, &Plan),
    operate: impl Fn(&Pond, &Plan) -> Result<(), Error>,
) {
    let pond = Pond::new(sinks);
    let plan = pond.plan();
    let old = pond.tree();
    prepare(&pond, &plan);
    let before = pond.tree();
    if up {
        pond.start();
    }
    let (_, changes) = with(u64::MAX, fault, || operate(&pond, &plan));
    let new = pond.tree();
    assert!(changes > 20, "only {changes} changes");
    assert!(sinks || new != before);
    drop(pond);
    for at in (lane..changes + 2).step_by(2) {
        let about = format!("{fault:?} at change {at} of {changes}, sinks {sinks}, up {up}");
        let pond = Pond::new(sinks);
        let plan = pond.plan();
        prepare(&pond, &plan);
        if up {
            pond.start();
        }
        let (done, _) = with(at, fault, || operate(&pond, &plan));
        if fault == Fault::Kills {
            assert!(done.is_none() || at >= changes, "{about}");
        }
        recover(&pond, at, &about);
        let tree = pond.tree();
        world_is_untouched(&tree, &about);
        let known = [&old, &before, &new]
            .into_iter()
            .any(|known| *known == tree);
        assert!(known, "{about}: {tree:#?}");
        pond.is_whole(&about);
        // Whoever was cut off, the players come back.
        assert!(
            !up || fault != Fault::Kills || pond.is_up(),
            "{about}: it is down"
        );
        // What is left behind does not stand in the way of the next.
        if tree == old && !pond.sinks {
            let plan = pond.plan();
            let again = pond.changeover(&plan);
            assert!(again.is_ok(), "{about}: then {again:?}");
        }
    }
}

fn nothing(_: &Pond, _: &Plan) {}

macro_rules! every_change {
    ($($name:ident: $sinks:literal, $up:literal, $fault:ident, $lane:literal, $prepare:expr, $operate:expr;)*) => {$(
        #[test]
        fn $name() {
            at_every_change(($sinks, $up), Fault::$fault, $lane, $prepare, $operate);
        }
    )*};
}

// Each in two lanes, so that two cores have work.
every_change! {
    a_swap_killed_at_any_change: false, false, Kills, 0, nothing, Pond::changeover;
    a_swap_killed_at_any_other_change: false, false, Kills, 1, nothing, Pond::changeover;
    a_swap_on_a_disk_that_fails_once: false, false, Fails, 0, nothing, Pond::changeover;
    a_swap_on_a_disk_that_fails_once_elsewhere: false, false, Fails, 1, nothing, Pond::changeover;
    a_swap_on_a_disk_that_becomes_unwritable: false, false, Unwritable, 0, nothing, Pond::changeover;
    a_swap_on_a_disk_that_becomes_unwritable_elsewhere: false, false, Unwritable, 1, nothing, Pond::changeover;
    a_failing_start_killed_at_any_change: true, false, Kills, 0, nothing, Pond::changeover;
    a_failing_start_killed_at_any_other_change: true, false, Kills, 1, nothing, Pond::changeover;
    a_failing_start_on_a_disk_that_fails_once: true, false, Fails, 0, nothing, Pond::changeover;
    a_swap_with_the_server_up_killed_at_any_change: false, true, Kills, 0, nothing, Pond::changeover;
    a_swap_with_the_server_up_killed_at_any_other_change: false, true, Kills, 1, nothing, Pond::changeover;
    a_swap_with_the_server_up_on_a_disk_that_fails_once: false, true, Fails, 0, nothing, Pond::changeover;
    a_failing_start_with_the_server_up_killed_at_any_change: true, true, Kills, 0, nothing, Pond::changeover;
    an_undo_killed_at_any_change: false, false, Kills, 0, |pond, plan| pond.changeover(plan).unwrap(), |pond, _| pond.undo();
    an_undo_killed_at_any_other_change: false, false, Kills, 1, |pond, plan| pond.changeover(plan).unwrap(), |pond, _| pond.undo();
    a_restore_killed_at_any_change: false, false, Kills, 0, |pond, _| pond.play_past_a_backup(), |pond, _| pond.restore();
    a_restore_killed_at_any_other_change: false, false, Kills, 1, |pond, _| pond.play_past_a_backup(), |pond, _| pond.restore();
    a_restore_on_a_disk_that_fails_once: false, false, Fails, 0, |pond, _| pond.play_past_a_backup(), |pond, _| pond.restore();
    an_undo_of_a_restore_killed_at_any_change: false, false, Kills, 0, Pond::restored, |pond, _| pond.undo();
    an_undo_of_a_restore_killed_at_any_other_change: false, false, Kills, 1, Pond::restored, |pond, _| pond.undo();
    an_undo_on_a_disk_that_fails_once: false, false, Fails, 0, |pond, plan| pond.changeover(plan).unwrap(), |pond, _| pond.undo();
}
