//! A fault at every single change to the disk, in turn: afterwards the tree is the old one or the new
//! one, byte for byte, the world is untouched, and the next commands work.

use super::{changeover, journal, restore, resume, undo};
use crate::adopt::{AdoptOptions, adopt};
use crate::backup;
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::console::{Console, ServerState};
use crate::error::Error;
use crate::history;
use crate::ledger::Ledger;
use crate::place::lossy::{Fault, Ran, with};
use crate::planning::{Sources, Terms, question};
use crate::runner::{Runner, Signal, ThisMachine};
use crate::survey::{Depth, survey};
use lantern_core::operation::World;
use lantern_core::plan::Plan;
use lantern_core::text::Text;
use std::collections::{BTreeMap, BTreeSet};
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

pub(super) struct Pond {
    pub(super) dir: TempDir,
    /// The folder that holds its settings.
    pub(super) home: &'static str,
}

impl Pond {
    /// A server in care with a plan: its program, one add-on and the load order change, one comes new.
    fn new(sinks: bool) -> Pond {
        let dir = Pond::made(sinks);
        let family = dir.path().join("pond.family.toml").display().to_string();
        let wishes = AdoptOptions {
            family: Some(&family),
            ..AdoptOptions::default()
        };
        adopt(&dir.path().join("pond"), &wishes).unwrap();
        let pond = Pond { dir, home: "pond" };
        pond.warns_nobody();
        pond
    }

    pub(super) fn warns_nobody(&self) {
        let settings = self.dir.path().join(self.home).join("lantern.toml");
        let text = fs::read_to_string(&settings).unwrap();
        fs::write(&settings, text.replace("at = [\"10s\"]", "at = []")).unwrap();
    }

    /// Its folder, its family file and what a new version brings.
    pub(super) fn made(sinks: bool) -> TempDir {
        // In memory, where there is such a folder: what these tests sync need not outlast them.
        let dir = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir());
        let dir = dir.unwrap();
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
        dir
    }

    fn opened(&self) -> Result<Server, Error> {
        Server::open(&self.dir.path().join(self.home))
    }

    pub(super) fn server(&self) -> Server {
        self.opened().unwrap()
    }

    pub(super) fn plan(&self) -> Plan {
        self.plan_for(&self.server())
    }

    pub(super) fn plan_for(&self, server: &Server) -> Plan {
        let mut ledger = Ledger::open(&server.folder).unwrap();
        let sources = Sources {
            drop_folders: vec![self.dir.path().join("drop")],
            ..Sources::default()
        };
        let terms = Terms {
            to: "2".into(),
            add: vec!["pike".into()],
            ..Terms::default()
        };
        let mut question = question(server, &mut ledger, &sources, &terms).unwrap();
        question.plans().unwrap().remove(0)
    }

    fn start(&self) {
        let server = self.server();
        let console = Console::of(&server);
        let starting = console.start().unwrap();
        let known = std::collections::BTreeSet::new();
        console.wait_ready(&starting, &known, false).unwrap();
    }

    pub(super) fn is_up(&self) -> bool {
        Console::of(&self.server()).state().unwrap() != ServerState::Down
    }

    pub(super) fn changeover(&self, plan: &Plan) -> Result<(), Error> {
        let server = self.opened()?;
        let mut ledger = Ledger::open(&server.folder)?;
        changeover(&server, &mut ledger, plan.clone(), false, &mut |_| {}).map(|_| ())
    }

    pub(super) fn resume(&self) -> Result<(), Error> {
        let server = self.opened()?;
        let mut ledger = Ledger::open(&server.folder)?;
        resume(&server, &mut ledger, false, &mut |_| {}).map(|_| ())
    }

    pub(super) fn undo(&self) -> Result<(), Error> {
        let server = self.opened()?;
        let mut ledger = Ledger::open(&server.folder)?;
        // Of a pond that is up nobody can tell who is on.
        let is_up = Console::of(&server).state()? != ServerState::Down;
        let world = match is_up {
            true => World::Keep,
            false => World::Ask,
        };
        undo(&server, &mut ledger, world, &mut |_| {}).map(|_| ())
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
    pub(super) fn play_past_a_backup(&self) {
        self.play("reeds\n");
        let server = self.server();
        let pass = backup::pass(&server, None).unwrap();
        let label = backup::Label {
            name: "reeds",
            note: None,
            named: true,
        };
        backup::finish(&server, &pass, &label).unwrap();
        self.play("rushes\n");
        fs::write(self.dir.path().join("pond/world/isles/new"), "sand\n").unwrap();
    }

    fn restored(&self, _: &Plan) {
        self.play_past_a_backup();
        self.restore().unwrap();
    }

    pub(super) fn restore(&self) -> Result<(), Error> {
        let server = self.opened()?;
        let mut ledger = Ledger::open(&server.folder)?;
        restore(&server, &mut ledger, "reeds", &[], &mut |_| {}).map(|_| ())
    }

    /// Every file with its content, lantern's own and its settings left out.
    pub(super) fn tree(&self) -> BTreeMap<String, Text> {
        let server = self.server();
        let files = server.folder.list().unwrap().files.into_iter();
        let text = |path: &lantern_core::path::RelPath| server.folder.read_text(path).unwrap();
        files
            .filter(|(path, _)| {
                path.as_str() != "lantern.toml" && !path.as_str().starts_with("log/")
            })
            .map(|(path, _)| (path.to_string(), text(&path)))
            .collect()
    }

    /// The state is whole: nothing is under way, and the ledger finds everything as it was put.
    pub(super) fn is_whole(&self, about: &str) {
        let server = self.server();
        assert!(journal::read(&server).unwrap().is_none(), "{about}");
        let mut ledger = Ledger::open(&server.folder).unwrap();
        let found = survey(&server, &mut ledger, Depth::Everything).unwrap();
        let wrong: Vec<_> = found
            .inventory
            .findings
            .iter()
            .filter(|finding| finding.code != "not-started")
            .collect();
        assert!(wrong.is_empty(), "{about}: {wrong:?}");
        // What is in force can be taken back, with the world if need be.
        for name in history::backups_needed(&ledger).unwrap() {
            assert!(
                backup::manifest(&server, &name).is_ok(),
                "{about}: {name} is gone"
            );
        }
        let lost = backup::check(&server, None).unwrap().wrong;
        assert!(lost.is_empty(), "{about}: {lost:?}");
    }
}

impl Pond {
    /// On a disk with a fault, of which everything opened meanwhile lies.
    fn on_a_disk<T>(
        &self,
        fault: (u64, Fault),
        idle: Option<&str>,
        work: impl FnOnce() -> T,
    ) -> Ran<T> {
        let graveyard = self.dir.path().join("graveyard");
        fs::create_dir_all(&graveyard).unwrap();
        let graveyard = tempfile::tempdir_in(graveyard).unwrap().keep();
        with(fault, idle, &graveyard, || self.end(), work)
    }

    /// Ends every process that has a file of the folder open, as a power loss does.
    pub(super) fn end(&self) {
        let root = self.dir.path().canonicalize().unwrap();
        let ours = |path: &std::path::Path| path.starts_with(&root);
        let group = |pid: i32| ThisMachine.group_of(pid).unwrap_or(pid);
        let of_the_tests = group(i32::try_from(std::process::id()).unwrap());
        loop {
            let mut groups: BTreeSet<i32> = BTreeSet::new();
            for written in ThisMachine.writers(&ours).seen {
                groups.insert(group(written.pid));
            }
            // A server of files, which lets go when nobody asks it any more.
            groups.remove(&of_the_tests);
            if groups.is_empty() {
                return;
            }
            for group in groups {
                let _ = ThisMachine.signal(group, true, Signal::Kill);
            }
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
    }
}

impl Drop for Pond {
    fn drop(&mut self) {
        self.end();
    }
}

/// What the world holds must never change, whatever happens.
pub(super) fn world_is_untouched(tree: &BTreeMap<String, Text>, about: &str) {
    assert_eq!(tree["world/map"].as_str(), "deep water\n", "{about}");
}

/// Brings an operation that was cut off to an end, one way or the other, and itself cut off once.
fn recover(pond: &Pond, at: u64, fault: Fault, about: &str) {
    let go = |onward: bool| if onward { pond.resume() } else { pond.undo() };
    let is_cut_off = || journal::read(&pond.server()).unwrap().is_some();
    if !is_cut_off() {
        return;
    }
    let onward = at.is_multiple_of(2);
    // Cut off again while it recovers; then it is left to finish.
    let again = match fault {
        Fault::PowerGoes | Fault::PowerGoesReordered => fault,
        _ => Fault::Kills,
    };
    let _ = pond.on_a_disk((at / 2 % 23, again), None, || go(onward));
    if is_cut_off() {
        match go(onward) {
            Ok(()) | Err(Error::Changeover(ChangeoverFault::RolledBack { .. })) => {}
            Err(error) => panic!("{about}: recovery says {error}"),
        }
    }
}

/// One operation and what leads up to it.
struct Case<'c> {
    sinks: bool,
    up: bool,
    prepare: &'c dyn Fn(&Pond, &Plan),
    operate: &'c dyn Fn(&Pond, &Plan) -> Result<(), Error>,
}

/// What an operation without a fault shows.
struct Whole {
    /// The trees that there may be: before all, before it, after it.
    trees: [BTreeMap<String, Text>; 3],
    changes: u64,
    synced: BTreeSet<String>,
}

impl Case<'_> {
    fn whole(&self, fault: Fault) -> Whole {
        let pond = Pond::new(self.sinks);
        let plan = pond.plan();
        let old = pond.tree();
        (self.prepare)(&pond, &plan);
        let before = pond.tree();
        if self.up {
            pond.start();
        }
        let ran = pond.on_a_disk((u64::MAX, fault), None, || (self.operate)(&pond, &plan));
        let new = pond.tree();
        assert!(ran.changes > 20, "only {} changes", ran.changes);
        assert!(self.sinks || new != before);
        Whole {
            trees: [old, before, new],
            changes: ran.changes,
            synced: ran.synced,
        }
    }

    /// Tries a fault at one change, recovers, and looks at what there is then.
    fn at(&self, whole: &Whole, at: u64, fault: Fault, idle: Option<&str>) {
        let (sinks, up) = (self.sinks, self.up);
        let about = format!(
            "{fault:?} at change {at} of {}, sinks {sinks}, up {up}",
            whole.changes
        );
        let pond = Pond::new(sinks);
        let plan = pond.plan();
        (self.prepare)(&pond, &plan);
        if up {
            pond.start();
        }
        let ran = pond.on_a_disk((at, fault), idle, || (self.operate)(&pond, &plan));
        let cuts = matches!(
            fault,
            Fault::Kills | Fault::PowerGoes | Fault::PowerGoesReordered
        );
        assert!(
            !cuts || ran.came_to.is_none() || at >= whole.changes,
            "{about}"
        );
        let power = cuts && fault != Fault::Kills;
        recover(&pond, at, fault, &about);
        let tree = pond.tree();
        world_is_untouched(&tree, &about);
        assert!(whole.trees.contains(&tree), "{about}: {tree:#?}");
        pond.is_whole(&about);
        // Whoever was cut off, the players come back.
        assert!(!up || !cuts || power || pond.is_up(), "{about}: it is down");
        // What is left behind does not stand in the way of the next.
        if tree == whole.trees[0] && !sinks {
            let plan = pond.plan();
            let again = pond.changeover(&plan);
            assert!(again.is_ok(), "{about}: then {again:?}");
        }
    }
}

/// Every how many changes a fault is tried: each, where `EVERY_CHANGE` is set, as `scripts/proofs` does.
pub(super) fn stride() -> u64 {
    match std::env::var_os("EVERY_CHANGE") {
        Some(_) => 1,
        None => 5,
    }
}

/// Tries a fault at the changes of an operation, each second lane at others; `prepare` leads up to it.
fn at_many_changes(
    (sinks, up): (bool, bool),
    fault: Fault,
    lane: u64,
    prepare: impl Fn(&Pond, &Plan),
    operate: impl Fn(&Pond, &Plan) -> Result<(), Error>,
) {
    let case = Case {
        sinks,
        up,
        prepare: &prepare,
        operate: &operate,
    };
    let whole = case.whole(fault);
    // The first changes, and those after the last, in any case.
    let last = whole.changes + 2;
    for at in (lane..last).step_by(2) {
        if at / 2 % stride() == 0 || at + 2 >= last {
            case.at(&whole, at, fault, None);
        }
    }
}

/// Leaves out each of some sorts of sync in turn: there has to be a power loss after which that shows.
fn are_needed(case: &Case<'_>, syncs: &[&str]) {
    let whole = case.whole(Fault::PowerGoes);
    let shows = |idle: &str, at: u64| {
        let tried = || case.at(&whole, at, Fault::PowerGoes, Some(idle));
        std::panic::catch_unwind(std::panic::AssertUnwindSafe(tried)).is_err()
    };
    let mut idle = Vec::new();
    for sync in syncs {
        assert!(whole.synced.contains(*sync), "of {:#?}", whole.synced);
        // What follows a sync shows soonest that it is missing: so the last change first.
        if !(0..whole.changes).rev().any(|at| shows(sync, at)) {
            idle.push(*sync);
        }
    }
    assert!(
        idle.is_empty(),
        "nothing shows that these are missing: {idle:?}"
    );
}

fn nothing(_: &Pond, _: &Plan) {}

macro_rules! every_change {
    ($($name:ident: $sinks:literal, $up:literal, $fault:ident, $lane:literal, $prepare:expr, $operate:expr;)*) => {$(
        #[test]
        fn $name() {
            at_many_changes(($sinks, $up), Fault::$fault, $lane, $prepare, $operate);
        }
    )*};
}

// Each in two lanes, so that two cores have work.
every_change! {
    a_swap_killed_at_any_change: false, false, Kills, 0, nothing, Pond::changeover;
    a_swap_killed_at_any_other_change: false, false, Kills, 1, nothing, Pond::changeover;
    a_swap_cut_off_by_a_power_loss: false, false, PowerGoes, 0, nothing, Pond::changeover;
    a_swap_cut_off_by_a_power_loss_elsewhere: false, false, PowerGoes, 1, nothing, Pond::changeover;
    a_swap_cut_off_by_a_power_loss_on_a_disk_that_reorders: false, false, PowerGoesReordered, 0, nothing, Pond::changeover;
    a_failing_start_cut_off_by_a_power_loss: true, false, PowerGoes, 0, nothing, Pond::changeover;
    a_failing_start_cut_off_by_a_power_loss_elsewhere: true, false, PowerGoesReordered, 1, nothing, Pond::changeover;
    a_restore_cut_off_by_a_power_loss: false, false, PowerGoes, 0, |pond, _| pond.play_past_a_backup(), |pond, _| pond.restore();
    a_restore_cut_off_by_a_power_loss_elsewhere: false, false, PowerGoesReordered, 1, |pond, _| pond.play_past_a_backup(), |pond, _| pond.restore();
    an_undo_cut_off_by_a_power_loss: false, false, PowerGoes, 0, |pond, plan| pond.changeover(plan).unwrap(), |pond, _| pond.undo();
    an_undo_cut_off_by_a_power_loss_elsewhere: false, false, PowerGoesReordered, 1, |pond, plan| pond.changeover(plan).unwrap(), |pond, _| pond.undo();
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

#[test]
fn a_stop_that_outlasts_its_limit_is_waited_for_and_taken_back() {
    let pond = Pond::new(false);
    let run = pond.dir.path().join("pond/server/run.sh");
    fs::write(&run, RUN.replace("stop) exit 0", "stop) sleep 1.5; exit 0")).unwrap();
    let settings = pond.dir.path().join("pond/lantern.toml");
    let text = fs::read_to_string(&settings).unwrap();
    fs::write(&settings, format!("{text}\n[limits]\nstop_s = 1\n")).unwrap();
    let plan = pond.plan();
    let before = pond.tree();
    pond.start();
    let failed = pond.changeover(&plan).unwrap_err();
    assert!(
        matches!(
            failed,
            Error::Changeover(ChangeoverFault::GivenUp { is_up: true, ref why, .. }) if why.contains("after 1 s")
        ),
        "{failed}"
    );
    assert!(pond.is_up(), "it is left down");
    assert_eq!(pond.tree(), before);
    let ledger = Ledger::open(&pond.server().folder).unwrap();
    let history = ledger.operations().unwrap();
    assert!(
        history[0]
            .failed
            .as_ref()
            .unwrap()
            .contains("was asked to stop")
    );
    assert!(journal::read(&pond.server()).unwrap().is_none());
}

#[test]
fn what_is_written_during_the_warning_is_seen_before_the_swap() {
    let pond = Pond::new(false);
    let plan = pond.plan();
    pond.start();
    let settings = pond.dir.path().join("pond/pond.conf");
    let server = pond.server();
    let mut ledger = Ledger::open(&server.folder).unwrap();
    let refused = changeover(&server, &mut ledger, plan, false, &mut |event| {
        if matches!(event, super::Event::Begins(lantern_core::plan::Step::Stop)) {
            fs::write(&settings, "start carp\n# by hand\n").unwrap();
        }
    });
    let refused = refused.unwrap_err().to_string();
    assert!(refused.contains("pond.conf was written"), "{refused}");
    assert!(pond.is_up());
    assert_eq!(
        fs::read_to_string(&settings).unwrap(),
        "start carp\n# by hand\n"
    );
}

#[test]
fn a_world_that_is_written_during_the_swap_is_seen() {
    let pond = Pond::new(false);
    let plan = pond.plan();
    let old = pond.tree();
    let map = pond.dir.path().join("pond/world/map");
    let server = pond.server();
    let mut ledger = Ledger::open(&server.folder).unwrap();
    let refused = changeover(&server, &mut ledger, plan, false, &mut |event| {
        if matches!(event, super::Event::Begins(lantern_core::plan::Step::Swap)) {
            fs::write(&map, "somebody swims\n").unwrap();
        }
    });
    let refused = refused.unwrap_err();
    assert!(
        matches!(
            refused,
            Error::Changeover(ChangeoverFault::RolledBack { .. })
        ),
        "{refused}"
    );
    assert!(
        refused.to_string().contains("world/map was written"),
        "{refused}"
    );
    let now = pond.tree();
    assert_eq!(now["pond.conf"], old["pond.conf"]);
    assert_eq!(now["world/map"].as_str(), "somebody swims\n");
}

#[test]
fn the_syncs_of_a_swap_are_needed() {
    let case = Case {
        sinks: false,
        up: false,
        prepare: &nothing,
        operate: &Pond::changeover,
    };
    let syncs = [
        "content of .lantern/journal.json.part",
        "content of .lantern/staging/",
        "names in ",
        "names in .lantern",
        "names in .lantern/staging/",
        "content of .lantern/store/backups",
        "content of .lantern/store/packs",
        "names in .lantern/store/backups",
        "names in .lantern/store/packs",
        "names in server",
    ];
    are_needed(&case, &syncs);
}
