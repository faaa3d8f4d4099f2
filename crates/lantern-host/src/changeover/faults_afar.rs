//! A server on another machine, and the line to it cut at what is asked there, in turn: afterwards the tree is the old one or the new
//! one, byte for byte, the world is untouched, and the next commands work.

use super::faults::{Pond, stride, world_is_untouched};
use super::journal;
use crate::adopt::{AdoptOptions, adopt};
use crate::changeover::fault::ChangeoverFault;
use crate::error::Error;
use crate::place::far::line::cut::{self, How};
use crate::place::{Address, Far, here};
use lantern_core::plan::Plan;
use lantern_core::text::Text;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::atomic::{AtomicU32, Ordering};

const SFTP: &str = "/usr/lib/openssh/sftp-server";

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

/// A pond on another machine, of a host that no other has; none where OpenSSH is not here, which fails when `CI` is set.
struct Rented {
    pond: Pond,
    host: String,
}

impl Rented {
    fn new(sinks: bool) -> Option<Rented> {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        if here::look(Path::new(SFTP)).is_none() {
            let why = format!("{SFTP} is missing; scripts/test installs it");
            assert!(std::env::var_os("CI").is_none(), "{why}");
            eprintln!("not run: {why}");
            return None;
        }
        let dir = Pond::made(sinks);
        let at = |path: &str| dir.path().join(path);
        fs::create_dir_all(at("home")).unwrap();
        fs::create_dir_all(at("pond/log")).unwrap();
        fs::write(at("pond/log/out"), "").unwrap();
        let here = dir.path().display().to_string();
        fs::write(at("panel.sh"), PANEL.replace("DIR", &here)).unwrap();
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let host = format!("pond-{number}.cut.example");
        let address = format!("sftp://{host}{here}/pond");
        let family = at("pond.family.toml").display().to_string();
        let wishes = AdoptOptions {
            family: Some(&family),
            name: Some("pond"),
            far: Some(Address::parse(&address).unwrap()),
            through: &[SFTP.to_owned()],
            ..AdoptOptions::default()
        };
        adopt(&at("home"), &wishes).unwrap();
        let panel = at("panel.sh").display().to_string();
        let run = |what: &str| format!("{what} = [\"sh\", \"{panel}\", \"{what}\"]");
        let console = format!(
            "\n[console]\nlog = \"log/out\"\nrun = {{ {}, {}, {} }}\n",
            run("start"),
            run("stop"),
            run("state")
        );
        let settings = at("home/lantern.toml");
        let text = fs::read_to_string(&settings).unwrap();
        fs::write(&settings, text + &console).unwrap();
        let pond = Pond { dir, home: "home" };
        pond.warns_nobody();
        Some(Rented { pond, host })
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

impl Drop for Rented {
    fn drop(&mut self) {
        self.pond.end();
        Far::close(&self.host);
        cut::heal(&self.host);
    }
}

/// What leads up to an operation, and the operation.
struct Case {
    sinks: bool,
    prepare: fn(&Pond, &Plan),
    operate: fn(&Pond, &Plan) -> Result<(), Error>,
}

impl Case {
    /// All the trees that there may be, and how often something is asked.
    fn whole(&self) -> Option<([BTreeMap<String, Text>; 3], u64)> {
        let rented = Rented::new(self.sinks)?;
        let pond = &rented.pond;
        let plan = pond.plan();
        let old = pond.tree();
        (self.prepare)(pond, &plan);
        let before = pond.tree();
        cut::at(&rented.host, None);
        let ended = (self.operate)(pond, &plan);
        let asked = cut::heal(&rented.host);
        let new = pond.tree();
        assert!(asked > 50, "only {asked} questions");
        assert!(self.sinks || ended.is_ok() && new != before, "{ended:?}");
        pond.is_whole("no cut");
        Some(([old, before, new], asked))
    }

    fn at(&self, trees: &[BTreeMap<String, Text>], at: u64, how: How) {
        let Some(rented) = Rented::new(self.sinks) else {
            return;
        };
        let about = format!("{how:?} at question {at}, sinks {}", self.sinks);
        let pond = &rented.pond;
        let plan = pond.plan();
        (self.prepare)(pond, &plan);
        cut::at(&rented.host, Some((at, how)));
        let ended = (self.operate)(pond, &plan);
        cut::heal(&rented.host);
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
        for left in ended.into_iter().chain(["under-way.json"]) {
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
        let Some((trees, asked)) = self.whole() else {
            return;
        };
        // Three ways of being cut at each, of which every few are tried.
        for (index, at) in (0..asked).step_by(stride() as usize).enumerate() {
            let each = [How::Before, How::After, How::Gone];
            match stride() {
                1 => each.iter().for_each(|how| self.at(&trees, at, *how)),
                _ => self.at(&trees, at, each[index % each.len()]),
            }
        }
    }
}

fn nothing(_: &Pond, _: &Plan) {}

#[test]
fn a_changeover_there() {
    let case = Case {
        sinks: false,
        prepare: nothing,
        operate: Pond::changeover,
    };
    case.at_many();
}

#[test]
fn a_changeover_there_that_fails() {
    let case = Case {
        sinks: true,
        prepare: nothing,
        operate: Pond::changeover,
    };
    case.at_many();
}

#[test]
fn an_undo_there() {
    let case = Case {
        sinks: false,
        prepare: |pond, plan| pond.changeover(plan).unwrap(),
        operate: |pond, _| pond.undo(),
    };
    case.at_many();
}

#[test]
fn a_restore_there() {
    let case = Case {
        sinks: false,
        prepare: |pond, _| pond.play_past_a_backup(),
        operate: |pond, _| pond.restore(),
    };
    case.at_many();
}
