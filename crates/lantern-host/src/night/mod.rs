//! `.lantern/night.json`: a changeover that waits for its hour, in a process of its own.
//!
//! The plan lies beside it (`night.plan.json`), so that a later one does not take its place. While it waits, it holds nothing: whatever else
//! is done meanwhile, the changeover looks at all again when it begins, and refuses where the folder is not as planned.

pub mod fault;

use crate::config::Server;
use crate::console::{Console, Process, ServerState};
use crate::error::{At, Error, Result};
use crate::folder::own;
use crate::interrupt;
use crate::night::fault::NightFault;
use crate::runner::{Launch, Signal};
use lantern_core::hour::{Players, Step, Wait};
use lantern_core::path::RelPath;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::time::Duration;

const FORMAT: u32 = 1;

/// A changeover that waits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Waiting {
    /// The number of the format.
    format: u32,
    /// The plan's name.
    pub plan: String,
    /// What is waited for.
    pub wait: Wait,
    /// The process that waits; none until it has begun to.
    process: Option<Process>,
}

/// A changeover that waits, for people and programs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct NightWait {
    /// The plan's name.
    pub plan: String,
    /// When it may begin, in milliseconds since 1970.
    pub at_ms: i64,
    /// From when on it is not begun any more.
    pub latest_ms: i64,
    /// Whether nobody may be on.
    pub when_empty: bool,
    /// The process that waits; none where it is gone, so that nothing will happen.
    pub process: Option<i32>,
}

fn file() -> RelPath {
    own("night.json")
}

/// Where its plan lies.
pub fn plan_file() -> RelPath {
    own("night.plan.json")
}

/// What it says goes there.
pub fn log_file() -> RelPath {
    own("night.log")
}

fn read(server: &Server) -> Result<Option<Waiting>> {
    let bytes = server.folder.read_if_there(&file())?;
    // What a later lantern wrote says nothing to this one.
    let waiting = bytes.and_then(|bytes| serde_json::from_slice::<Waiting>(&bytes).ok());
    Ok(waiting.filter(|waiting| waiting.format == FORMAT))
}

fn write(server: &Server, waiting: &Waiting) -> Result<()> {
    let text = serde_json::to_vec_pretty(waiting).expect("it has only plain values");
    server.folder.write_whole(&file(), &text)
}

fn is_there(server: &Server, waiting: &Waiting) -> bool {
    let process = waiting.process.as_ref();
    process.is_some_and(|process| process.is_alive(&*server.runner))
}

/// The changeover that waits; none where none does.
///
/// # Errors
/// When it cannot be read.
pub fn seen(server: &Server) -> Result<Option<NightWait>> {
    Ok(read(server)?.map(|waiting| NightWait {
        process: match is_there(server, &waiting) {
            true => waiting.process.as_ref().map(|process| process.pid),
            false => None,
        },
        plan: waiting.plan,
        at_ms: waiting.wait.at_ms,
        latest_ms: waiting.wait.latest_ms,
        when_empty: waiting.wait.when_empty,
    }))
}

/// Refuses what cannot be done without a person at that hour, as far as that can be told now.
///
/// # Errors
/// [`NightFault`] with what stands in the way.
pub fn check(server: &Server, wait: &Wait) -> Result<()> {
    if let Some(waiting) = read(server)?.filter(|waiting| is_there(server, waiting)) {
        return Err(NightFault::AlreadyWaits(waiting.plan).into());
    }
    let each = server.each();
    if each.iter().any(|one| Console::of(one).is_by_hand()) {
        return Err(NightFault::NeedsPerson.into());
    }
    if wait.when_empty
        && let Players::Unknown(why) = players(server)
    {
        return Err(NightFault::CannotTell(why).into());
    }
    Ok(())
}

/// Who is on now, on all servers of the install together. On one that is down nobody is.
pub fn players(server: &Server) -> Players {
    let mut all = 0;
    for one in server.each() {
        let console = Console::of(&one);
        let on = match console.state() {
            Ok(ServerState::Down) => continue,
            Ok(ServerState::Unknown { why }) => return Players::Unknown(why),
            Ok(_) => console.players(),
            Err(error) => return Players::Unknown(error.to_string()),
        };
        match on {
            Ok(Some(names)) => all += names.len(),
            Ok(None) => {
                return Players::Unknown("the family names no way to ask the server".into());
            }
            Err(error) => return Players::Unknown(error.to_string()),
        }
    }
    match all {
        0 => Players::Nobody,
        on => Players::Some(on),
    }
}

/// Lets a plan wait in a process of its own, which is this program with other arguments.
///
/// # Errors
/// When it cannot be written or started.
pub fn begin(
    server: &Server,
    plan: &str,
    text: &str,
    wait: Wait,
    command: &[String],
) -> Result<NightWait> {
    server.folder.write_whole(&plan_file(), text.as_bytes())?;
    let waiting = Waiting {
        format: FORMAT,
        plan: plan.to_owned(),
        wait,
        process: None,
    };
    write(server, &waiting)?;
    let output = server.folder.shown(&log_file());
    let here = std::env::current_dir().at("reading", Path::new("."))?;
    let launch = Launch {
        command,
        folder: &here,
        input: Path::new("/dev/null"),
        output: &output,
        without: None,
    };
    let pid = server
        .runner
        .launch(&launch)
        .at("starting", Path::new(&command[0]))?;
    let process = Process::of(&*server.runner, pid);
    let waiting = Waiting {
        process: Some(process),
        ..waiting
    };
    write(server, &waiting)?;
    match is_there(server, &waiting) {
        true => Ok(seen(server)?.ok_or(NightFault::EndedAtOnce)?),
        false => Err(NightFault::EndedAtOnce.into()),
    }
}

/// What came of waiting.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Came {
    /// It is time.
    Begins,
    /// It is not begun any more, and why.
    GivenUp(String),
    /// Somebody called it off.
    CalledOff,
}

/// The time, and what passes it.
pub struct Clock<'c> {
    /// In milliseconds since 1970.
    pub now: &'c dyn Fn() -> i64,
    /// Lets it pass; false where it was called off meanwhile.
    pub pause: &'c dyn Fn(Duration) -> bool,
}

impl Clock<'_> {
    /// The machine's own.
    pub const REAL: Clock<'static> = Clock {
        now: &|| jiff::Timestamp::now().as_millisecond(),
        pause: &interrupt::pause,
    };
}

/// Waits for the hour, and for the last player where that is wanted; nothing is held meanwhile. Afterwards nothing waits any more.
///
/// # Errors
/// When nothing is written down to wait for, or the disk refuses.
pub fn wait(
    server: &Server,
    clock: &Clock<'_>,
    who: &dyn Fn() -> Players,
    tell: &mut dyn FnMut(&Players),
) -> Result<Came> {
    let waiting = read(server)?.ok_or(NightFault::NothingWaits)?;
    let mut seen = None;
    let came = loop {
        match waiting.wait.step((clock.now)(), seen.as_ref()) {
            Step::Sleep(ms) => {
                if !(clock.pause)(Duration::from_millis(ms)) {
                    break Came::CalledOff;
                }
            }
            Step::Look => {
                let on = who();
                if seen.as_ref().is_none_or(|(_, before)| *before != on) {
                    tell(&on);
                }
                seen = Some(((clock.now)(), on));
            }
            Step::Begin => break Came::Begins,
            Step::GiveUp(why) => break Came::GivenUp(why),
        }
    };
    server.folder.remove_file(&file())?;
    Ok(came)
}

/// Calls the one off that waits. Returns what waited.
///
/// # Errors
/// [`NightFault::NothingWaits`], or when the system refuses.
pub fn call_off(server: &Server) -> Result<NightWait> {
    let seen = seen(server)?.ok_or(NightFault::NothingWaits)?;
    let waiting = read(server)?.ok_or(NightFault::NothingWaits)?;
    if let Some(process) = waiting.process.filter(|_| seen.process.is_some()) {
        process.signal(&*server.runner, Signal::Terminate)?;
        let is_gone = (0..100).any(|_| {
            std::thread::sleep(Duration::from_millis(50));
            !process.is_alive(&*server.runner)
        });
        if !is_gone {
            return Err(NightFault::HasBegun.into());
        }
    }
    // Where the process was gone, it is still written down.
    match server.folder.remove_file(&file()) {
        Err(Error::Io { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => Ok(seen),
        removed => removed.map(|()| seen),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::place::here;
    use std::cell::Cell;

    /// A night that passes in no time, over the change of the clock to summer time.
    #[test]
    fn a_night_passes_by_a_clock_that_is_passed_in() {
        let dir = tempfile::tempdir().unwrap();
        let server = {
            let settings =
                "format = 1\nname = \"pond\"\nid = \"0123456789abcdef\"\nfamily = \"halcyon\"\n";
            here::write(&dir.path().join("lantern.toml"), settings.as_bytes()).unwrap();
            Server::open(dir.path()).unwrap()
        };
        const HOUR: i64 = 3_600_000;
        let now = Cell::new(0);
        let clock = Clock {
            now: &|| now.get(),
            pause: &|wait| {
                now.set(now.get() + wait.as_millis() as i64);
                true
            },
        };
        let leave = 5 * HOUR;
        let who = || match now.get() < leave {
            true => Players::Some(2),
            false => Players::Nobody,
        };
        let waits = |latest_ms| Waiting {
            format: FORMAT,
            plan: "3f2a9c".into(),
            wait: Wait {
                at_ms: 4 * HOUR,
                latest_ms,
                when_empty: true,
            },
            process: None,
        };
        let mut told = Vec::new();
        write(&server, &waits(6 * HOUR)).unwrap();
        let came = wait(&server, &clock, &who, &mut |on| told.push(on.clone())).unwrap();
        assert_eq!(came, Came::Begins);
        assert!(now.get() >= leave && now.get() < leave + 60_000);
        assert_eq!(told, [Players::Some(2), Players::Nobody]);
        // Nothing waits any more.
        assert!(seen(&server).unwrap().is_none());
        now.set(0);
        write(&server, &waits(leave - HOUR / 2)).unwrap();
        let came = wait(&server, &clock, &who, &mut |_| {}).unwrap();
        assert_eq!(
            came,
            Came::GivenUp("2 players were on until it was too late".into())
        );
        assert!(matches!(
            wait(&server, &clock, &who, &mut |_| {}),
            Err(Error::Night(NightFault::NothingWaits))
        ));
    }
}
