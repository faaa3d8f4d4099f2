//! A server on another machine, and the line to it cut at what is asked there, in turn: afterwards the tree is the old one or the new
//! one, byte for byte, the world is untouched, and the next commands work.

use super::faults::{Pond, stride, world_is_untouched};
use super::journal;
use crate::adopt::{AdoptOptions, adopt};
use crate::changeover::fault::ChangeoverFault;
use crate::error::Error;
use crate::place::far::cut::{self, How};
use crate::place::far::servers::{Served, Server};
use crate::place::{far, here};
use lantern_core::plan::Plan;
use lantern_core::text::Text;
use std::collections::BTreeMap;
use std::fs;
use std::sync::atomic::{AtomicU32, Ordering};

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
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let dir = Pond::made(sinks);
        let at = |path: &str| dir.path().join(path);
        fs::create_dir_all(at("home")).unwrap();
        fs::create_dir_all(at("pond/log")).unwrap();
        fs::write(at("pond/log/out"), "").unwrap();
        let here = dir.path().display().to_string();
        fs::write(at("panel.sh"), PANEL.replace("DIR", &here)).unwrap();
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let host = format!("pond-{number}.cut.example");
        let family = at("pond.family.toml").display().to_string();
        let wishes = AdoptOptions {
            family: Some(&family),
            name: Some("pond"),
            far: Some(served.address_at(&host, &at("pond"))),
            means: served.means(),
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
        Rented { pond, host }
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
        far::close(&self.host);
        cut::heal(&self.host);
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
        let asked = cut::heal(&rented.host);
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
        let Some(served) = Served::start(self.server) else {
            return;
        };
        let (trees, asked) = self.whole(&served);
        // Three ways of being cut at each, of which every few are tried.
        let each = [How::Before, How::After, How::Gone];
        // Over FTP each question is several, and takes longer.
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
    a_changeover_over_ftp: Ftp, false, nothing, Pond::changeover;
    an_undo_over_ftp_that_lists_for_people: FtpForPeople, false, |pond, plan| pond.changeover(plan).unwrap(), |pond, _| pond.undo();
    a_changeover_over_ftp_behind_tls: Ftps, false, nothing, Pond::changeover;
}
