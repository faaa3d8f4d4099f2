//! `.lantern/night.json`: a changeover that waits for its hour, in a process of its own.
//!
//! The plan lies beside it (`night.plan.json`), so that a later one does not take its place. While it waits, it holds nothing: whatever else
//! is done meanwhile, the changeover looks at all again when it begins, and refuses where the folder is not as planned.
//!
//! What is written down stays until the changeover has ended, so that after a restart of the machine another process can take its place: it
//! waits on, or goes on with what was cut off.

pub mod fault;

use crate::changeover::{self, Meanwhile, meanwhile};
use crate::config::{Server, Span};
use crate::console::{Console, Process, who_is_on};
use crate::error::{At, Result};
use crate::folder::own;
use crate::interrupt;
use crate::ledger::Ledger;
use crate::night::fault::NightFault;
use crate::rehearsal;
use crate::runner::{Launch, Signal};
use lantern_core::hour::{Players, Step, Wait};
use lantern_core::path::RelPath;
use lantern_core::plan::Plan;
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
    /// How it is carried out then.
    pub how: How,
    /// The process that waits; none until it has begun to.
    process: Option<Process>,
    /// Once the changeover has begun: the number in the ledger that it has, if it comes so far.
    begun: Option<i64>,
}

/// How a changeover is carried out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct How {
    /// Whether the new state stays even when the server does not come up with it.
    pub stay: bool,
    /// Whether a server that was down is left up.
    pub start: bool,
    /// Whether it is started although a start command is cut off.
    pub anyway: bool,
    /// Whether it may decide only what lantern.toml leaves to it.
    pub unattended: bool,
    /// How long before the stop players are told, instead of what lantern.toml says.
    pub warn: Option<Vec<Span>>,
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
    /// Whether it waits no more: the changeover is under way.
    pub has_begun: bool,
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

/// Where a changeover stands that waits, or waited.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stands {
    /// Nothing of it was done yet.
    Waits,
    /// It was cut off, and can be gone on with.
    CutOff,
    /// It has come to an end.
    Ended,
}

/// Where one stands whose process is gone.
fn stands(server: &Server, waiting: &Waiting) -> Result<Stands> {
    let Some(number) = waiting.begun else {
        return Ok(Stands::Waits);
    };
    Ok(match meanwhile(server)? {
        Meanwhile::CutOff(_) => Stands::CutOff,
        _ if Ledger::open(&server.folder)?.next_number()? > number => Stands::Ended,
        _ => Stands::Waits,
    })
}

/// The changeover that waits, or is under way after it has waited; none where there is none.
///
/// # Errors
/// When it cannot be read.
pub fn seen(server: &Server) -> Result<Option<NightWait>> {
    let Some(waiting) = read(server)? else {
        return Ok(None);
    };
    let is_there = is_there(server, &waiting);
    if !is_there && stands(server, &waiting)? != Stands::Waits {
        return Ok(None);
    }
    Ok(Some(NightWait {
        process: waiting
            .process
            .as_ref()
            .map(|process| process.pid)
            .filter(|_| is_there),
        has_begun: is_there && waiting.begun.is_some(),
        plan: waiting.plan,
        at_ms: waiting.wait.at_ms,
        latest_ms: waiting.wait.latest_ms,
        when_empty: waiting.wait.when_empty,
    }))
}

/// Refuses servers that a person has to stop and start, where nobody is there.
///
/// # Errors
/// [`NightFault::NeedsPerson`].
pub fn refuse_by_hand(each: &[Server]) -> Result<()> {
    match each.iter().any(|one| Console::of(one).is_by_hand()) {
        true => Err(NightFault::NeedsPerson.into()),
        false => Ok(()),
    }
}

/// Refuses what cannot be done without a person at that hour, as far as that can be told now.
///
/// # Errors
/// [`NightFault`] with what stands in the way.
pub fn check(server: &Server, plan: &Plan, wait: &Wait) -> Result<()> {
    if let Some(waiting) = read(server)?.filter(|waiting| is_there(server, waiting)) {
        return Err(NightFault::AlreadyWaits(waiting.plan).into());
    }
    let each = changeover::named(server, plan)?;
    refuse_by_hand(&each)?;
    if wait.when_empty
        && let Players::Unknown(why) = who_is_on(each.iter())
    {
        return Err(NightFault::CannotTell(why).into());
    }
    Ok(())
}

/// So often it is looked whether the process has begun to wait, and so long between.
const LOOKS: u32 = 100;
const BETWEEN_LOOKS: Duration = Duration::from_millis(50);

/// Lets a plan wait in a process of its own, which is this program with other arguments; it takes its place by [`take_up`].
///
/// # Errors
/// When it cannot be written or started, or ends at once.
pub fn begin(
    server: &Server,
    plan: &str,
    (path, text): (&Path, &str),
    (wait, how): (Wait, How),
    command: &[String],
) -> Result<NightWait> {
    server.folder.write_whole(&plan_file(), text.as_bytes())?;
    rehearsal::hand_on(path, &server.folder.shown(&plan_file()), text)?;
    let waiting = Waiting {
        format: FORMAT,
        plan: plan.to_owned(),
        wait,
        how,
        process: None,
        begun: None,
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
    for _ in 0..LOOKS {
        std::thread::sleep(BETWEEN_LOOKS);
        let seen = seen(server)?;
        if let Some(seen) = seen.filter(|seen| seen.process == Some(pid)) {
            return Ok(seen);
        }
        if !process.is_alive(&*server.runner) {
            break;
        }
    }
    Err(NightFault::EndedAtOnce.into())
}

/// What there is to do for who takes up waiting.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TakenUp {
    /// To [wait], as this one has said before.
    Waits(Waiting),
    /// To go on with what was cut off.
    CutOff(Waiting),
    /// Nothing: it has come to an end since.
    Ended,
}

/// Takes up waiting, as this process: the first that waits, or one in the place of another that is gone.
///
/// # Errors
/// [`NightFault`] when nothing is written down to wait for, or another process waits; or when the disk refuses.
pub fn take_up(server: &Server) -> Result<TakenUp> {
    let waiting = read(server)?.ok_or(NightFault::NothingWaits)?;
    if is_there(server, &waiting) {
        return Err(NightFault::AlreadyWaits(waiting.plan).into());
    }
    let stands = stands(server, &waiting)?;
    if stands == Stands::Ended {
        server.folder.remove_file(&file())?;
        return Ok(TakenUp::Ended);
    }
    let own = i32::try_from(std::process::id()).unwrap_or_default();
    let waiting = Waiting {
        process: Some(Process::of(&*server.runner, own)),
        ..waiting
    };
    write(server, &waiting)?;
    Ok(match stands {
        Stands::CutOff => TakenUp::CutOff(waiting),
        _ => TakenUp::Waits(waiting),
    })
}

/// Nothing waits any more: the changeover has ended, or is not to begin.
///
/// # Errors
/// When the disk refuses.
pub fn ended(server: &Server) -> Result<()> {
    match server.folder.has(&file())? {
        true => server.folder.remove_file(&file()),
        false => Ok(()),
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

/// Waits for the hour, and for the last player where that is wanted; nothing is held meanwhile. Where it begins, that is written down, and
/// stays so until it has [`ended`].
///
/// # Errors
/// When the disk refuses.
pub fn wait(
    server: &Server,
    waiting: &Waiting,
    clock: &Clock<'_>,
    who: &dyn Fn() -> Players,
    tell: &mut dyn FnMut(&Players),
) -> Result<Came> {
    // Another one may have been arranged after this one was called off.
    let is_own = || Ok(read(server)?.and_then(|now| now.process) == waiting.process);
    let came = pass(&waiting.wait, clock, who, tell, &is_own)?;
    match came {
        Came::Begins => {
            let begun = Some(Ledger::open(&server.folder)?.next_number()?);
            let waiting = waiting.clone();
            write(server, &Waiting { begun, ..waiting })?;
        }
        _ if is_own()? => ended(server)?,
        _ => {}
    }
    Ok(came)
}

/// Waits, as long as it `goes_on`; nothing is written down of it.
///
/// # Errors
/// Those of `goes_on`.
pub fn pass(
    wait: &Wait,
    clock: &Clock<'_>,
    who: &dyn Fn() -> Players,
    tell: &mut dyn FnMut(&Players),
    goes_on: &dyn Fn() -> Result<bool>,
) -> Result<Came> {
    let mut seen = None;
    while goes_on()? {
        match wait.step((clock.now)(), seen.as_ref()) {
            Step::Sleep(ms) => {
                if !(clock.pause)(Duration::from_millis(ms)) {
                    break;
                }
            }
            Step::Look => {
                let on = who();
                if seen.as_ref().is_none_or(|(_, before)| *before != on) {
                    tell(&on);
                }
                seen = Some(((clock.now)(), on));
            }
            Step::Begin => return Ok(Came::Begins),
            Step::GiveUp(why) => return Ok(Came::GivenUp(why)),
        }
    }
    Ok(Came::CalledOff)
}

/// Calls the one off that waits. Returns what waited.
///
/// # Errors
/// [`NightFault::NothingWaits`], or when the system refuses.
pub fn call_off(server: &Server) -> Result<NightWait> {
    let seen = seen(server)?.ok_or(NightFault::NothingWaits)?;
    let waiting = read(server)?.ok_or(NightFault::NothingWaits)?;
    if let Some(process) = waiting.process.filter(|_| seen.process.is_some()) {
        // It may be one of several in its group, and the others are nobody's concern here.
        let sent = server.runner.signal(process.pid, false, Signal::Terminate);
        sent.at("signalling", Path::new("the process that waits"))?;
        let is_gone = (0..LOOKS).any(|_| {
            std::thread::sleep(BETWEEN_LOOKS);
            !process.is_alive(&*server.runner)
        });
        if !is_gone {
            return Err(NightFault::HasBegun.into());
        }
    }
    // Where the process was gone, it is still written down.
    ended(server)?;
    Ok(seen)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::Error;
    use crate::place::here;
    use std::cell::Cell;

    /// A server in a folder.
    fn pond(dir: &Path) -> Server {
        let settings =
            "format = 1\nname = \"pond\"\nid = \"0123456789abcdef\"\nfamily = \"halcyon\"\n";
        here::write(&dir.join("lantern.toml"), settings.as_bytes()).unwrap();
        Server::open(dir).unwrap()
    }

    /// A night that passes in no time, over the change of the clock to summer time.
    #[test]
    fn a_night_passes_by_a_clock_that_is_passed_in() {
        let dir = tempfile::tempdir().unwrap();
        let server = pond(dir.path());
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
            how: How::default(),
            process: None,
            begun: None,
        };
        let take_up_waiting = || match take_up(&server).unwrap() {
            TakenUp::Waits(waiting) => waiting,
            other => panic!("{other:?}"),
        };
        let mut told = Vec::new();
        write(&server, &waits(6 * HOUR)).unwrap();
        let waiting = take_up_waiting();
        // Not by two at once.
        let second = take_up(&server);
        assert!(matches!(
            second,
            Err(Error::Night(NightFault::AlreadyWaits(_)))
        ));
        let tell = &mut |on: &Players| told.push(on.clone());
        let came = wait(&server, &waiting, &clock, &who, tell).unwrap();
        assert_eq!(came, Came::Begins);
        assert!(now.get() >= leave && now.get() < leave + 60_000);
        assert_eq!(told, [Players::Some(2), Players::Nobody]);
        assert!(seen(&server).unwrap().unwrap().has_begun);
        ended(&server).unwrap();
        assert!(seen(&server).unwrap().is_none());
        now.set(0);
        write(&server, &waits(leave - HOUR / 2)).unwrap();
        let waiting = take_up_waiting();
        let came = wait(&server, &waiting, &clock, &who, &mut |_| {}).unwrap();
        assert_eq!(
            came,
            Came::GivenUp("2 players were on until it was too late".into())
        );
        // Nothing waits any more.
        assert!(matches!(
            take_up(&server),
            Err(Error::Night(NightFault::NothingWaits))
        ));
    }

    /// One that had begun is not begun again by who takes its place.
    #[test]
    fn what_the_machine_was_started_anew_over_is_known() {
        let dir = tempfile::tempdir().unwrap();
        let server = pond(dir.path());
        let begun = |number| Waiting {
            format: FORMAT,
            plan: "3f2a9c".into(),
            wait: Wait {
                at_ms: 0,
                latest_ms: 1,
                when_empty: false,
            },
            how: How::default(),
            process: None,
            begun: Some(number),
        };
        // It never came so far that the ledger knows it.
        write(&server, &begun(1)).unwrap();
        assert!(seen(&server).unwrap().is_some());
        assert!(matches!(take_up(&server).unwrap(), TakenUp::Waits(_)));
        // It did, and nothing was cut off: it has ended.
        write(&server, &begun(0)).unwrap();
        assert!(seen(&server).unwrap().is_none());
        assert_eq!(take_up(&server).unwrap(), TakenUp::Ended);
        assert!(read(&server).unwrap().is_none());
    }
}
