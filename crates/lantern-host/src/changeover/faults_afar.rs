//! A server on another machine, and the line to it cut at what is asked there, in turn: afterwards the tree is the old one or the new
//! one, byte for byte, the world is untouched, and the next commands work.

use super::carrying::carry;
use super::faults::{Pond, stride, world_is_untouched};
use super::{changeover, journal, resume, take_over};
use crate::adopt::{AdoptOptions, adopt};
use crate::changeover::fault::ChangeoverFault;
use crate::config;
use crate::console::{Console, ServerState};
use crate::error::Error;
use crate::folder::own;
use crate::ledger::Ledger;
use crate::person::Person;
use crate::place::far::cut::{self, How};
use crate::place::far::servers::{Served, Server};
use crate::place::{far, here};
use crate::runner::{Runner, ThisMachine};
use lantern_core::plan::{Plan, Step};
use lantern_core::text::Text;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex};

/// Starts and stops it, as somebody's panel does; `$1` says what.
const PANEL: &str = r#"cd DIR/pond
is_up() { pid=$(cat ../pid 2>/dev/null) && [ -e /proc/$pid ] && ! grep -q '^State:.*Z' /proc/$pid/status; }
case $1 in
start) rm -f ../in; mkfifo ../in
    (exec 8<>../in; exec setsid sh -c 'echo $$ >../pid; exec sh server/run.sh' <../in >>log/out 2>&1) &
    until [ -s ../pid ]; do sleep 0.005; done ;;
stop) exec 8<>../in; echo stop >&8; while is_up; do sleep 0.005; done; rm ../pid ;;
state) is_up ;;
esac
"#;

/// A pond on another machine, of a host that no other has.
struct Rented {
    pond: Pond,
    host: String,
}

impl Rented {
    fn new(sinks: bool, served: &Served) -> Rented {
        let rented = Rented::with_buttons(sinks, served);
        rented.state(&Rented::buttons(rented.pond.dir.path()));
        rented
    }

    /// How its settings say that it is started and stopped.
    fn buttons(dir: &Path) -> String {
        let panel = dir.join("panel.sh").display().to_string();
        let run = |what: &str| format!("{what} = [\"sh\", \"{panel}\", \"{what}\"]");
        let run = [run("start"), run("stop"), run("state")].join(", ");
        format!("run = {{ {run} }}\n")
    }

    /// One that nothing but a person starts and stops.
    fn with_buttons(sinks: bool, served: &Served) -> Rented {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let dir = Pond::made(sinks);
        let at = |path: &str| dir.path().join(path);
        fs::create_dir_all(at("pond/log")).unwrap();
        fs::write(at("pond/log/out"), "").unwrap();
        let here = dir.path().display().to_string();
        fs::write(at("panel.sh"), PANEL.replace("DIR", &here)).unwrap();
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let host = format!("pond-{number}.cut.example");
        adopt_far(dir.path(), "home", served, &host);
        let pond = Pond { dir, home: "home" };
        pond.warns_nobody();
        let rented = Rented { pond, host };
        rented.state("\n[console]\nlog = \"log/out\"\n");
        rented
    }

    fn panel(&self) -> PathBuf {
        self.pond.dir.path().join("panel.sh")
    }

    /// Lets its settings say more.
    fn state(&self, words: &str) {
        let settings = self.pond.dir.path().join("home/lantern.toml");
        let text = fs::read_to_string(&settings).unwrap();
        fs::write(&settings, text + words).unwrap();
    }

    /// It is reached again, by whoever is another process; how often it was asked something.
    fn heal(&self) -> u64 {
        far::close(&self.host);
        cut::heal(&self.host)
    }

    /// Somebody else takes it into care, from another machine; the name by which he knows its host.
    fn other(&self, served: &Served) -> String {
        let dir = self.pond.dir.path();
        let theirs = format!("other-{}", self.host);
        adopt_far(dir, "other", served, &theirs);
        let settings = dir.join("other/lantern.toml");
        let text = fs::read_to_string(&settings).unwrap();
        let text = text.replace("at = [\"10s\"]", "at = []");
        let buttons = Rented::buttons(dir);
        let console = format!("\n[console]\nlog = \"log/out\"\n{buttons}");
        fs::write(&settings, text + &console).unwrap();
        theirs
    }

    /// Brings what was cut off to an end, one way or the other.
    fn recover(&self, onward: bool, about: &str) {
        let pond = &self.pond;
        if journal::read(&pond.server()).unwrap().is_none() {
            return;
        }
        let ended = if onward { pond.resume() } else { pond.undo() };
        match ended {
            Ok(()) | Err(Error::Changeover(ChangeoverFault::RolledBack { .. })) => {}
            Err(error) => panic!("{about}: recovery says {error}"),
        }
    }
}

/// Takes the pond into care, as from another machine.
fn adopt_far(dir: &Path, home: &str, served: &Served, host: &str) {
    let family = dir.join("pond.family.toml").display().to_string();
    let wishes = AdoptOptions {
        family: Some(&family),
        name: Some("pond"),
        far: Some(served.address_at(host, &dir.join("pond"))),
        means: served.means(),
        ..AdoptOptions::default()
    };
    fs::create_dir_all(dir.join(home)).unwrap();
    adopt(&dir.join(home), &wishes).unwrap();
}

impl Drop for Rented {
    fn drop(&mut self) {
        self.pond.end();
        self.heal();
    }
}

/// What leads up to an operation, and the operation.
struct Case {
    server: Server,
    sinks: bool,
    prepare: fn(&Pond, &Plan),
    operate: fn(&Pond, &Plan) -> Result<(), Error>,
}

impl Case {
    /// All the trees that there may be, and how often something is asked.
    fn whole(&self, served: &Served) -> ([BTreeMap<String, Text>; 3], u64) {
        let rented = Rented::new(self.sinks, served);
        let pond = &rented.pond;
        let plan = pond.plan();
        let old = pond.tree();
        (self.prepare)(pond, &plan);
        let before = pond.tree();
        cut::at(&rented.host, None);
        let ended = (self.operate)(pond, &plan);
        let asked = rented.heal();
        let new = pond.tree();
        assert!(asked > 50, "only {asked} questions");
        assert!(self.sinks || ended.is_ok() && new != before, "{ended:?}");
        pond.is_whole("no cut");
        ([old, before, new], asked)
    }

    fn at(&self, served: &Served, trees: &[BTreeMap<String, Text>], at: u64, how: How) {
        let rented = Rented::new(self.sinks, served);
        let about = format!(
            "{:?}, {how:?} at question {at}, sinks {}",
            self.server, self.sinks
        );
        let pond = &rented.pond;
        let plan = pond.plan();
        (self.prepare)(pond, &plan);
        cut::at(&rented.host, Some((at, how)));
        let ended = (self.operate)(pond, &plan);
        rented.heal();
        rented.recover(at.is_multiple_of(2), &about);
        let tree = pond.tree();
        world_is_untouched(&tree, &about);
        assert!(trees.contains(&tree), "{about}: {ended:?}: {tree:#?}");
        pond.is_whole(&about);
        let own = pond.dir.path().join("pond/.lantern");
        // Where nobody was reached any more, nobody could say that the work had ended.
        let ended = if how == How::Gone {
            None
        } else {
            Some("at-work")
        };
        for left in ended.into_iter().chain(["under-way.json.zst"]) {
            assert!(here::look(&own.join(left)).is_none(), "{about}: {left}");
        }
        // What is left behind does not stand in the way of the next.
        if tree == trees[0] && !self.sinks {
            let plan = pond.plan();
            let again = pond.changeover(&plan);
            assert!(again.is_ok(), "{about}: then {again:?}");
        }
    }

    fn at_many(&self) {
        let Some(served) = Served::start(self.server) else {
            return;
        };
        let (trees, asked) = self.whole(&served);
        // Three ways of being cut at each, of which every few are tried.
        let each = [How::Before, How::After, How::Gone];
        // Over FTP each question is several, and takes longer; so does each line through SSH.
        let slower = if self.server == Server::Sftp { 1 } else { 3 };
        let every = if stride() == 1 { 1 } else { stride() * slower };
        for (index, at) in (0..asked).step_by(every as usize).enumerate() {
            match stride() {
                1 => each
                    .iter()
                    .for_each(|how| self.at(&served, &trees, at, *how)),
                _ => self.at(&served, &trees, at, each[index % each.len()]),
            }
        }
    }
}

fn nothing(_: &Pond, _: &Plan) {}

/// A changeover that comes to its end.
const OVER_SFTP: Case = Case {
    server: Server::Sftp,
    sinks: false,
    prepare: nothing,
    operate: Pond::changeover,
};

macro_rules! cut_at_each {
    ($($name:ident: $server:ident, $sinks:literal, $prepare:expr, $operate:expr;)*) => {$(
        #[test]
        fn $name() {
            let case = Case {
                server: Server::$server,
                sinks: $sinks,
                prepare: $prepare,
                operate: $operate,
            };
            case.at_many();
        }
    )*};
}

cut_at_each! {
    a_changeover_over_sftp: Sftp, false, nothing, Pond::changeover;
    a_changeover_over_sftp_that_fails: Sftp, true, nothing, Pond::changeover;
    an_undo_over_sftp: Sftp, false, |pond, plan| pond.changeover(plan).unwrap(), |pond, _| pond.undo();
    a_restore_over_sftp: Sftp, false, |pond, _| pond.play_past_a_backup(), |pond, _| pond.restore();
    a_changeover_over_another_sftp_server: SftpInPython, false, nothing, Pond::changeover;
    a_changeover_over_ftp: Ftp, false, nothing, Pond::changeover;
    an_undo_over_ftp_that_lists_for_people: FtpForPeople, false, |pond, plan| pond.changeover(plan).unwrap(), |pond, _| pond.undo();
    a_changeover_over_ftp_behind_tls: Ftps, false, nothing, Pond::changeover;
}

/// Who is cut off and does not come back is followed by somebody on another machine, who goes on; when he comes back after all, he knows of it,
/// and what he had begun is not gone on with.
#[test]
fn somebody_else_goes_on() {
    let Some(served) = Served::start(Server::Sftp) else {
        return;
    };
    let ([old, _, new], asked) = OVER_SFTP.whole(&served);
    for at in (0..=asked).step_by((asked / 9) as usize) {
        let about = format!("cut off at question {at} of {asked}");
        let rented = Rented::new(false, &served);
        let pond = &rented.pond;
        let dir = pond.dir.path();
        let plan = pond.plan();
        cut::at(&rented.host, Some((at, How::Gone)));
        let _ = pond.changeover(&plan);
        rented.heal();
        let theirs = rented.other(&served);
        let other = config::Server::open(&dir.join("other")).unwrap();
        let mut ledger = Ledger::open(&other.folder).unwrap();
        let taken = take_over(&other, &mut ledger).unwrap();
        assert_eq!(taken.lost, [], "{about}");
        if pond.tree() == new {
            // He had come to the end, but for telling so.
            rented.recover(true, &about);
        } else {
            assert_eq!(pond.tree(), old, "{about}: {taken:?}");
            let plan = pond.plan_for(&other);
            changeover(&other, &mut ledger, plan, false, &mut |_| {}).unwrap();
        }
        assert_eq!(pond.tree(), new, "{about}");
        let back = pond.server();
        assert!(journal::read(&back).unwrap().is_none(), "{about}");
        let done = |ledger: &Ledger| {
            let done = ledger.operations().unwrap().into_iter();
            done.filter(|it| it.failed.is_none()).count()
        };
        assert_eq!(done(&Ledger::open(&back.folder).unwrap()), 1, "{about}");
        let left = here::look(&dir.join("pond/.lantern/under-way.json.zst"));
        assert!(left.is_none(), "{about}");
        pond.undo().unwrap();
        assert_eq!(pond.tree(), old, "{about}");
        let other = config::Server::open(&dir.join("other")).unwrap();
        assert_eq!(done(&Ledger::open(&other.folder).unwrap()), 2, "{about}");
        far::close(&theirs);
    }
}

/// Who followed somebody that was cut off is cut off himself: the first is told so, and can do nothing about it but follow in turn.
#[test]
fn both_are_cut_off() {
    let Some(served) = Served::start(Server::Sftp) else {
        return;
    };
    let ([_, _, new], asked) = OVER_SFTP.whole(&served);
    let rented = Rented::new(false, &served);
    let pond = &rented.pond;
    let plan = pond.plan();
    cut::at(&rented.host, Some((asked * 3 / 4, How::Gone)));
    pond.changeover(&plan).unwrap_err();
    rented.heal();
    let theirs = rented.other(&served);
    let other = || config::Server::open(&pond.dir.path().join("other")).unwrap();
    let server = other();
    let mut ledger = Ledger::open(&server.folder).unwrap();
    take_over(&server, &mut ledger).unwrap();
    let plan = pond.plan_for(&server);
    cut::at(&theirs, Some((asked * 3 / 4, How::Gone)));
    changeover(&server, &mut ledger, plan, false, &mut |_| {}).unwrap_err();
    far::close(&theirs);
    cut::heal(&theirs);
    let is_told = |error: Error| {
        let told = matches!(
            error,
            Error::Changeover(ChangeoverFault::CutOffElsewhere { .. })
        );
        assert!(told, "{error}");
    };
    is_told(journal::read(&pond.server()).unwrap_err());
    is_told(pond.resume().unwrap_err());
    is_told(pond.undo().unwrap_err());
    let server = other();
    assert!(journal::read(&server).unwrap().is_some());
    resume(&server, &mut ledger, false, &mut |_| {}).unwrap();
    assert_eq!(pond.tree(), new);
    assert!(journal::read(&pond.server()).unwrap().is_none());
    far::close(&theirs);
}

/// Somebody who does what he is asked, or does not, and says that he has.
#[derive(Debug)]
struct Hand {
    panel: PathBuf,
    presses: bool,
    said: AtomicBool,
    asked: Mutex<Vec<String>>,
}

impl Hand {
    fn of(rented: &Rented, presses: bool) -> Arc<Hand> {
        Arc::new(Hand {
            panel: rented.panel(),
            presses,
            said: AtomicBool::new(false),
            asked: Mutex::default(),
        })
    }

    fn press(&self, button: &str) {
        let command = [
            "sh".to_owned(),
            self.panel.display().to_string(),
            button.to_owned(),
        ];
        let log = self.panel.with_extension("log");
        let folder = self.panel.parent().unwrap();
        let limit = std::time::Duration::from_secs(10);
        ThisMachine
            .run(&command, folder, &log, limit, None)
            .unwrap();
    }

    fn asked(&self) -> Vec<String> {
        self.asked.lock().unwrap().clone()
    }
}

impl Person for Hand {
    fn ask(&self, words: &str) {
        self.asked.lock().unwrap().push(words.to_owned());
        if !self.presses {
            return;
        }
        if words.starts_with("Unpack") {
            let room = self.panel.with_file_name("pond/.lantern/staging");
            let archive = here::list(&room).unwrap();
            let archive = archive.iter().find(|it| it.extension().is_some());
            let archive = fs::File::open(archive.unwrap()).unwrap();
            let mut archive = zip::ZipArchive::new(archive).unwrap();
            return archive.extract(room.join("0001")).unwrap();
        }
        self.press(if words.starts_with("Stop") {
            "stop"
        } else {
            "start"
        });
        self.said.store(true, Ordering::Relaxed);
    }

    fn waits(&self, _: &str) {}

    fn has_said(&self) -> bool {
        self.said.swap(false, Ordering::Relaxed)
    }

    fn can_say(&self) -> bool {
        true
    }
}

/// Nothing of the server is seen from afar but what it prints: whoever presses its buttons is believed.
#[test]
fn a_changeover_by_hand_of_a_server_that_is_not_seen() {
    for sinks in [false, true] {
        let Some(served) = Served::start(Server::Sftp) else {
            return;
        };
        let rented = Rented::with_buttons(sinks, &served);
        let hand = Hand::of(&rented, true);
        hand.press("start");
        let pond = &rented.pond;
        let plan = pond.plan();
        let before = pond.tree();
        let mut server = pond.server();
        server.person = Some(hand.clone());
        let mut ledger = Ledger::open(&server.folder).unwrap();
        let done = changeover(&server, &mut ledger, plan, false, &mut |_| {});
        let asked = hand.asked();
        let words: Vec<&str> = asked.iter().map(|words| &words[..5]).collect();
        match sinks {
            false => {
                assert!(done.unwrap().running);
                assert_eq!(words, ["Stop ", "Start"]);
                assert_ne!(pond.tree(), before);
            }
            // It is stopped once more, and started as it was.
            true => {
                let done = done.unwrap_err();
                let back = matches!(done, Error::Changeover(ChangeoverFault::RolledBack { .. }));
                assert!(back, "{done}");
                assert_eq!(words, ["Stop ", "Start", "Stop ", "Start"]);
                assert_eq!(pond.tree(), before);
            }
        }
    }
}

/// It prints that it fails while its port is not open yet: that is no witness that it is down, and whoever stops it is asked.
#[test]
fn what_may_still_be_coming_up_is_not_taken_for_down() {
    let Some(served) = Served::start(Server::Sftp) else {
        return;
    };
    let rented = Rented::with_buttons(true, &served);
    let dir = rented.pond.dir.path();
    let door = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = door.local_addr().unwrap().port();
    let family = dir.join("pond.family.toml");
    let text = fs::read_to_string(&family).unwrap();
    let rule = "console = { port = { file = \"server/port\", line = '^(?P<port>\\d+)$', transport = \"tcp\" }, ";
    fs::write(&family, text.replace("console = { ", rule)).unwrap();
    fs::write(dir.join("pond/server/port"), format!("{port}\n")).unwrap();
    rented.state("host = \"127.0.0.1\"\n");
    let hand = Hand::of(&rented, true);
    let mut server = rented.pond.server();
    server.person = Some(hand.clone());
    let console = Console::of(&server);
    assert!(matches!(
        console.state().unwrap(),
        ServerState::Foreign { .. }
    ));
    drop(door);
    assert_eq!(console.state().unwrap(), ServerState::Down);
    fs::write(dir.join("pond/fish/carp-1.fish"), "sinks = true\n").unwrap();
    let starting = console.start().unwrap();
    let failed = console
        .wait_ready(&starting, &BTreeSet::new(), false)
        .unwrap_err();
    assert!(failed.to_string().contains("sunk"), "{failed}");
    // Who comes later knows it, too.
    let later = rented.pond.server();
    for server in [&server, &later] {
        let state = Console::of(server).state().unwrap();
        let who = state.who().unwrap();
        assert!(
            who.ends_with("is closed, but it was started and may still be coming up"),
            "{who}"
        );
    }
    console.stop().unwrap();
    let asked = hand.asked();
    assert!(
        asked[1].ends_with("press Enter when the page says that it is down."),
        "{asked:?}"
    );
    assert_eq!(console.state().unwrap(), ServerState::Down);
    assert_eq!(Console::of(&later).state().unwrap(), ServerState::Down);
}

#[test]
fn nobody_presses_anything() {
    let Some(served) = Served::start(Server::Sftp) else {
        return;
    };
    let rented = Rented::with_buttons(false, &served);
    rented.state("\n[limits]\nby_hand_s = 1\n");
    let hand = Hand::of(&rented, false);
    hand.press("start");
    let pond = &rented.pond;
    let plan = pond.plan();
    let before = pond.tree();
    let mut server = pond.server();
    server.person = Some(hand.clone());
    let mut ledger = Ledger::open(&server.folder).unwrap();
    let done = changeover(&server, &mut ledger, plan.clone(), false, &mut |_| {}).unwrap_err();
    assert!(
        done.to_string()
            .contains("nobody has stopped the server within 1 s"),
        "{done}"
    );
    assert_eq!(pond.tree(), before);
    assert!(journal::read(&server).unwrap().is_none());
    // Without anybody to be asked it does not begin.
    server.person = None;
    let done = changeover(&server, &mut ledger, plan, false, &mut |_| {}).unwrap_err();
    assert!(
        done.to_string()
            .contains("it cannot be told whether the server is up"),
        "{done}"
    );
}

/// A shell on a machine that unpacks nothing; the line that it runs is its first word.
const NO_UNZIP: &str = r#"shell = ["sh", "-c", 'case $0 in *unzip*) exit 1; esac; eval "$0"']
"#;

/// As one archive, unpacked by the shell there, by a person, and by nobody.
#[test]
fn what_comes_as_one_archive() {
    let Some(served) = Served::start(Server::Sftp) else {
        return;
    };
    for (shell, expected) in [
        ("shell = [\"sh\", \"-c\"]\n", "each by its content"),
        ("", "each by its size"),
        (NO_UNZIP, "which could not be unpacked there"),
    ] {
        let rented = Rented::new(false, &served);
        let settings = rented.pond.dir.path().join("home/lantern.toml");
        let text = fs::read_to_string(&settings).unwrap();
        fs::write(
            &settings,
            text.replacen("family =", &format!("{shell}family ="), 1),
        )
        .unwrap();
        rented.state("\n[limits]\nas_one_s = 0\n");
        let hand = Hand::of(&rented, true);
        let pond = &rented.pond;
        let plan = pond.plan();
        let mut server = pond.server();
        server.person = Some(hand.clone());
        let mut ledger = Ledger::open(&server.folder).unwrap();
        let mut told = String::new();
        let done = changeover(&server, &mut ledger, plan, false, &mut |event| {
            if let super::Event::Done(Step::Stage, what) = event {
                told = what;
            }
        });
        assert!(done.unwrap().running);
        assert!(told.contains(expected), "{told}");
        let one_by_one = told.contains("files sent");
        assert_eq!(one_by_one, shell == NO_UNZIP, "{told}");
        assert_eq!(
            hand.asked().len(),
            usize::from(shell.is_empty()),
            "{:?}",
            hand.asked()
        );
        pond.is_whole("as one archive");
        let room = pond.dir.path().join("pond/.lantern/staging");
        let left = here::list(&room).unwrap();
        assert!(left.iter().all(|it| it.extension().is_none()), "{left:?}");
    }
}

/// Who is cut off for good while files are sent does not begin anew the next time.
#[test]
fn what_was_sent_stays_for_the_next_attempt() {
    for server in [Server::Sftp, Server::Ftp] {
        let Some(served) = Served::start(server) else {
            return;
        };
        let case = Case {
            server,
            sinks: false,
            prepare: nothing,
            operate: Pond::changeover,
        };
        let (_, asked) = case.whole(&served);
        let mut went_on = 0;
        for at in (0..asked / 2).step_by(asked as usize / 24) {
            let rented = Rented::new(false, &served);
            let pond = &rented.pond;
            let plan = pond.plan();
            cut::at(&rented.host, Some((at, How::Gone)));
            let ended = pond.changeover(&plan);
            rented.heal();
            if ended.is_ok() {
                continue;
            }
            let server = pond.server();
            let mut ledger = Ledger::open(&server.folder).unwrap();
            let mut told = String::new();
            let mut tell = |event| {
                if let super::Event::Done(Step::Stage, what) = event {
                    told = what;
                }
            };
            // Where the other end could not be told that it is over, it is gone on with.
            let done = match journal::read(&server).unwrap() {
                None => changeover(&server, &mut ledger, plan, false, &mut tell),
                Some(_) => resume(&server, &mut ledger, false, &mut tell),
            };
            assert!(done.unwrap().running, "{at}");
            went_on += u32::from(told.contains("there from before"));
            pond.is_whole("gone on with");
            let room = pond.dir.path().join("pond/.lantern/staging");
            assert_eq!(here::list(&room).unwrap_or_default(), Vec::<PathBuf>::new());
        }
        assert!(went_on > 0, "{server:?}: nothing was there from before");
    }
}

#[test]
fn a_large_file_goes_on_where_it_was_cut_off() {
    const WHOLE: usize = 9_000_000;
    for server in [Server::Sftp, Server::Ftp, Server::FtpForPeople] {
        let Some(served) = Served::start(server) else {
            return;
        };
        let rented = Rented::new(false, &served);
        let folder = rented.pond.server().folder;
        let content: Vec<u8> = (0..WHOLE as u32).map(|n| (n % 253) as u8).collect();
        let (from, to) = (own("packing/large"), own("staging/large"));
        folder.write_new(&from, &content, None).unwrap();
        let other = vec![7; WHOLE];
        for (before, most) in [
            (None, WHOLE),
            // What came last may not be in order.
            (Some(&content[..7_000_000]), 3_100_000),
            (Some(&content[..]), 1_100_000),
            // Too little, another content, and more than there is.
            (Some(&content[..5_000]), WHOLE),
            (Some(&other[..7_000_000]), WHOLE),
            (Some(&[other.clone(), other.clone()].concat()), WHOLE),
        ] {
            let _ = folder.remove_file(&to);
            if let Some(before) = before {
                folder.write_new(&to, before, None).unwrap();
            }
            let before = before.map(|before| before.len() as u64);
            let sent = carry(&folder, &from, &to, before, Some(0o644)).unwrap();
            assert!(sent <= most as u64, "{server:?}: {sent} of {most}");
            assert!(
                folder.read(&to).unwrap() == content,
                "{server:?}, {before:?}"
            );
        }
    }
}

/// A world that players have written since is not taken for an old one because the host's clock is late.
#[test]
fn a_clock_there_that_is_late() {
    let Some(served) = Served::start(Server::Sftp) else {
        return;
    };
    let rented = Rented::new(false, &served);
    let pond = &rented.pond;
    let plan = pond.plan();
    pond.changeover(&plan).unwrap();
    let hand = Hand::of(&rented, true);
    hand.press("stop");
    let map = pond.dir.path().join("pond/world/map");
    fs::write(&map, "a new isle\n").unwrap();
    let touch = ["touch", "-d", "2 hours ago", &map.display().to_string()].map(str::to_owned);
    let (folder, log) = (pond.dir.path(), pond.dir.path().join("touch.log"));
    let limit = std::time::Duration::from_secs(10);
    ThisMachine.run(&touch, folder, &log, limit, None).unwrap();
    let refused = pond.undo().unwrap_err();
    let used = matches!(
        refused,
        Error::Changeover(ChangeoverFault::WorldUsed { .. })
    );
    assert!(used, "{refused}");
    assert_eq!(pond.tree()["world/map"].as_str(), "a new isle\n");
}
