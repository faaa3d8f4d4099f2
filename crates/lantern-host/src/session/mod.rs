//! A lantern that works on another machine, at a server folder that lies there, and is asked over what it reads and prints.
//!
//! A program that leads to a shell there, as `ssh` does, begins it: the very program that runs here, put there once ([`program`]). What
//! the two say to one another are lines of JSON ([`lines`]). A session that breaks is to the lantern there what Ctrl-C is here: what is
//! under way is called off before the server is stopped, and goes on to its end afterwards.

pub mod fault;
pub mod lines;
pub mod program;
pub mod serve;

use crate::changeover::Event;
use crate::error::{Error, Result};
use crate::interrupt::{self, Moment, UnderWay};
use crate::meter;
use crate::place::{Address, here, shell_of};
use crate::runner::{somebody, spoken_with};
use crate::shell::quoted;
use crate::told::plain;
use fault::SessionFault;
use lantern_core::group::Gate;
use lantern_core::plan::Step;
use lantern_core::supply::Supply;
use lines::{Answered, Asked, Failed, Greeting, Hello, LINES, MOST};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fmt;
use std::io::{self, Read as _};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::process::{Child, ChildStderr, ChildStdin, ChildStdout};
use tokio::runtime::{Builder, Runtime};

/// What the command there is called.
pub const COMMAND: &str = "far-end";
/// How often it is looked whether somebody wants what is under way to end.
const LOOK: Duration = Duration::from_millis(20);
/// So long the first line may take: somebody may be asked for a password.
const FIRST: Duration = Duration::from_secs(180);
/// So long nothing may come, in which a lantern that is at work says at least that it is.
const SILENCE: Duration = Duration::from_secs(90);
/// So many bytes of a file go in one line.
const PART: usize = 256 * 1024;
/// So much of what the program says is remembered, in bytes.
const REMEMBERED: u64 = 16 * 1024;

/// Something that a lantern is asked to do at one server.
pub trait Errand: Serialize + DeserializeOwned {
    /// What it is called between the two.
    const NAME: &'static str;
    /// What comes of it.
    type Came: Serialize + DeserializeOwned;
    /// Whether it can go back once a server is stopped for it.
    const CAN_GO_BACK: bool = false;
}

/// A server folder on another machine at which a lantern works that is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct There {
    /// Where it is.
    pub address: Address,
    /// The command that runs a line for the shell there, which is added as its last word; otherwise the system's `ssh`.
    pub shell: Option<Vec<String>>,
}

impl There {
    /// The command that runs a line for the shell there.
    pub fn shell(&self) -> Vec<String> {
        let ssh = || shell_of(&self.address);
        self.shell.clone().unwrap_or_else(ssh)
    }

    /// The machine: as whom one gets there, and how.
    fn host(&self) -> (Option<&str>, &str, Option<u16>, Option<&[String]>) {
        let Address {
            user, host, port, ..
        } = &self.address;
        (user.as_deref(), host, *port, self.shell.as_deref())
    }

    /// Whether two lie on one machine, as far as can be told from how they are reached.
    pub fn is_beside(&self, other: &There) -> bool {
        self.host() == other.host()
    }

    /// The machine, in words.
    pub fn machine(&self) -> String {
        let Address { user, host, .. } = &self.address;
        match user {
            Some(user) => format!("{user}@{host}"),
            None => host.clone(),
        }
    }

    /// What is to be pasted to run a command of the lantern there.
    pub fn paste(&self, command: &str, program: &str) -> String {
        let mut words = match &self.shell {
            Some(words) => words.clone(),
            None => {
                let port = self
                    .address
                    .port
                    .map(|port| vec!["-p".into(), port.to_string()]);
                let ssh = ["ssh".to_owned()]
                    .into_iter()
                    .chain(port.into_iter().flatten());
                ssh.chain([self.machine()]).collect()
            }
        };
        words.push(format!("{program} {command}"));
        let words = words.iter().map(|word| match word.chars().all(is_bare) {
            true => word.clone(),
            false => quoted(word),
        });
        words.collect::<Vec<_>>().join(" ")
    }

    fn fault(&self, fault: SessionFault) -> Error {
        Error::Session {
            machine: self.machine(),
            fault,
        }
    }
}

fn is_bare(sign: char) -> bool {
    sign.is_ascii_alphanumeric() || "-_./@:=+,~".contains(sign)
}

/// A session with a lantern on another machine.
pub struct Session {
    there: There,
    runtime: Runtime,
    asked: ChildStdin,
    answers: BufReader<ChildStdout>,
    /// What is read of the next line by now.
    line: Vec<u8>,
    said: Arc<Mutex<Vec<u8>>>,
    /// How often somebody's wish that it should end was passed on.
    wished: u32,
    _program: Child,
}

impl fmt::Debug for Session {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Session")
            .field("there", &self.there)
            .finish_non_exhaustive()
    }
}

/// So long a session is kept that nobody uses.
const KEPT: Duration = Duration::from_secs(20);

/// Sessions that nobody uses now, and since when.
static IDLE: Mutex<Vec<(Session, Instant)>> = Mutex::new(Vec::new());

/// Asks for something that does no harm when it is asked twice, over a session with that machine that there is already, or over a new one.
///
/// # Errors
/// As [`Session::open`] and [`Session::ask`].
pub fn ask<E: Errand>(there: &There, errand: &E) -> Result<E::Came> {
    if let Some(mut known) = idle(there) {
        match known.ask(errand, &mut Deaf) {
            // It may have broken since it was used last.
            Err(Error::Session { .. }) => {}
            came => {
                keep(known);
                return came;
            }
        }
    }
    let mut session = Session::open(there)?;
    let came = session.ask(errand, &mut Deaf);
    if !matches!(came, Err(Error::Session { .. })) {
        keep(session);
    }
    came
}

/// A session with that machine that nobody uses, for this server.
fn idle(there: &There) -> Option<Session> {
    let mut idle = IDLE.lock().unwrap_or_else(PoisonError::into_inner);
    let old: Vec<_> = idle
        .extract_if(.., |(_, since)| since.elapsed() > KEPT)
        .collect();
    let place = idle
        .iter()
        .position(|(known, _)| known.there.is_beside(there));
    let found = place.map(|place| idle.swap_remove(place).0);
    // To end them takes a while, in which others may have theirs.
    drop(idle);
    drop(old);
    found.map(|session| Session {
        there: there.clone(),
        ..session
    })
}

fn keep(session: Session) {
    let mut idle = IDLE.lock().unwrap_or_else(PoisonError::into_inner);
    idle.push((session, Instant::now()));
}

impl Session {
    /// Begins one.
    ///
    /// # Errors
    /// [`Error::Session`] where that machine is not reached, or this very program is not there.
    pub fn open(there: &There) -> Result<Session> {
        let program = program::own()?;
        let mut command = there.shell();
        command.push(format!("exec {} {COMMAND}", program.path()));
        let runtime = Builder::new_current_thread().enable_all().build();
        let runtime = runtime.map_err(|error| there.fault(SessionFault::Ended(plain(&error))))?;
        let said = Arc::new(Mutex::new(Vec::new()));
        let opened = runtime.block_on(async {
            let mut child = spoken_with(&command)
                .map_err(|error| format!("{} cannot be run: {}", command[0], plain(&error)))?;
            let (Some(asked), Some(answers), Some(words)) =
                (child.stdin.take(), child.stdout.take(), child.stderr.take())
            else {
                return Err("nothing can be said to it".to_owned());
            };
            Ok((child, asked, answers, words))
        });
        let (child, asked, answers, words) =
            opened.map_err(|why| there.fault(SessionFault::Ended(why)))?;
        runtime.spawn(listen(words, Arc::clone(&said)));
        let mut session = Session {
            there: there.clone(),
            runtime,
            asked,
            answers: BufReader::new(answers),
            line: Vec::new(),
            said,
            wished: 0,
            _program: child,
        };
        // Where nobody takes it, what nobody answers tells why.
        let _ = session.say(&Hello {
            lines: LINES,
            who: somebody(),
        });
        let greeting: Greeting = session
            .heard(FIRST, &mut Deaf)
            .map_err(|error| session.not_there(error))?;
        match (greeting.lines, greeting.program == program.hash) {
            (LINES, true) => Ok(session),
            _ => Err(there.fault(SessionFault::Other(greeting.version))),
        }
    }

    /// Has a file kept in the store of the server there.
    ///
    /// # Errors
    /// When it cannot be read, or is not taken.
    pub fn send(&mut self, path: &Path, supply: &Supply) -> Result<()> {
        let unread = |source| Error::Io {
            doing: "reading",
            path: path.into(),
            source,
        };
        let mut file = here::open(path).map_err(unread)?;
        self.say(&Asked::Keeps {
            at: self.there.address.path.clone(),
            supply: supply.clone(),
        })?;
        let mut part = vec![0; PART];
        loop {
            let mut read = 0;
            while read < part.len() {
                match file.read(&mut part[read..]).map_err(unread)? {
                    0 => break,
                    more => read += more,
                }
            }
            self.say(&Asked::Part(lines::encoded(&part[..read])))?;
            meter::did(read as u64);
            if read == 0 {
                break;
            }
        }
        self.answer(false, &mut Deaf).map(drop)
    }

    /// Asks for something at a server there, and waits for what comes of it; `hears` what is told meanwhile.
    ///
    /// # Errors
    /// What it failed of there, as [`Error::There`]; or that the session broke.
    pub fn ask<E: Errand>(&mut self, errand: &E, hears: &mut dyn Hears) -> Result<E::Came> {
        let of = serde_json::to_value(errand).map_err(|error| self.unread(&error))?;
        self.say(&Asked::Errand {
            name: E::NAME.into(),
            at: self.there.address.path.clone(),
            of,
        })?;
        let came = self.answer(E::CAN_GO_BACK, hears)?;
        serde_json::from_value(came).map_err(|error| self.unread(&error))
    }

    /// Waits for what comes of what was asked.
    fn answer(&mut self, can_go_back: bool, hears: &mut dyn Hears) -> Result<serde_json::Value> {
        // What becomes of a wish that it should end is the same as there.
        let mut under_way = None;
        loop {
            match self.heard(SILENCE, hears)? {
                Answered::Came(came) => return Ok(came),
                Answered::Failed(Failed {
                    why,
                    advice,
                    status,
                }) => {
                    let machine = self.there.machine();
                    return Err(Error::There {
                        machine,
                        why,
                        advice,
                        status,
                    });
                }
                Answered::Talk(text) => hears.told(Told::Talk(text)),
                Answered::Event(event) => {
                    if let Some(moment) = moment(&event, can_go_back) {
                        under_way.get_or_insert_with(UnderWay::begin).enter(moment);
                    }
                    hears.told(Told::Event(event));
                }
                Answered::Arrives(gate) => hears.told(Told::Arrives(gate)),
                Answered::Fails => hears.told(Told::Fails),
                Answered::AtWork => {}
            }
        }
    }

    fn say(&mut self, words: &impl Serialize) -> Result<()> {
        let mut line = serde_json::to_vec(words).map_err(|error| self.unread(&error))?;
        line.push(b'\n');
        let Session { runtime, asked, .. } = self;
        let said = runtime.block_on(async {
            asked.write_all(&line).await?;
            asked.flush().await
        });
        said.map_err(|error| self.broken(&error))
    }

    /// The next line; a wish that what is under way should end is passed on meanwhile.
    fn heard<T: DeserializeOwned>(
        &mut self,
        silence: Duration,
        hears: &mut dyn Hears,
    ) -> Result<T> {
        let mut waited = Duration::ZERO;
        loop {
            let Session {
                runtime,
                answers,
                line,
                ..
            } = self;
            let left = (MOST as u64).saturating_sub(line.len() as u64);
            let heard = runtime.block_on(async {
                let mut answers = answers.take(left);
                tokio::time::timeout(LOOK, answers.read_until(b'\n', line)).await
            });
            match heard {
                Ok(Ok(_)) if self.line.ends_with(b"\n") => {
                    let line = std::mem::take(&mut self.line);
                    return serde_json::from_slice(&line).map_err(|error| self.unread(&error));
                }
                Ok(Ok(_)) if self.line.len() >= MOST => {
                    let why = "a line of it has no end".to_owned();
                    return Err(self.there.fault(SessionFault::Unread(why)));
                }
                Ok(Ok(_)) => return Err(self.broken(&io::ErrorKind::UnexpectedEof.into())),
                Ok(Err(error)) => return Err(self.broken(&error)),
                Err(_) => waited += LOOK,
            }
            if waited >= silence {
                return Err(self.broken(&io::ErrorKind::TimedOut.into()));
            }
            if let Some(words) = hears.wants_to_say() {
                self.say(&words)?;
            }
            while self.wished < interrupt::wishes() {
                self.wished += 1;
                self.say(&Asked::Ends)?;
            }
        }
    }

    fn unread(&self, error: &serde_json::Error) -> Error {
        self.there.fault(SessionFault::Unread(error.to_string()))
    }

    /// Why nothing can be said or heard any more.
    fn broken(&self, error: &io::Error) -> Error {
        self.there.fault(SessionFault::Broken(self.why(error)))
    }

    /// What the program that leads there said last, or what the system says.
    fn why(&self, error: &io::Error) -> String {
        // What it says comes to its end with it.
        self.runtime
            .block_on(async { tokio::time::sleep(LOOK).await });
        let said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
        let said = String::from_utf8_lossy(&said).into_owned();
        let last = said.lines().rfind(|line| !line.trim().is_empty());
        match (last, error.kind()) {
            (Some(last), _) => last.trim().to_owned(),
            (None, io::ErrorKind::UnexpectedEof) => "the connection ended".into(),
            (None, io::ErrorKind::TimedOut) => "nothing came any more".into(),
            (None, _) => plain(error),
        }
    }

    /// Why there is no greeting: a shell says in its own words that there is no such program.
    fn not_there(&mut self, error: Error) -> Error {
        let said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
        let said = String::from_utf8_lossy(&said).into_owned();
        let program = program::FOLDER;
        match said.lines().any(|line| line.contains(program)) {
            true => self.there.fault(SessionFault::NotSent),
            false => error,
        }
    }
}

/// How far something is, as far as a wish to end it matters; none where an event says nothing of that.
fn moment(event: &Event, can_go_back: bool) -> Option<Moment> {
    match event {
        Event::Begins(step) if *step < Step::Stop => Some(Moment::Before),
        Event::Begins(_) if can_go_back => Some(Moment::Exchanging),
        Event::Begins(_) | Event::GoesBack(_) => Some(Moment::Finishing),
        _ => None,
    }
}

/// What is told while something is under way.
#[derive(Debug)]
pub enum Told {
    /// In words.
    Talk(String),
    /// A step of it.
    Event(Event),
    /// It has come to a gate where servers that are down together wait for one another.
    Arrives(Gate),
    /// Something went wrong with it, and it goes back.
    Fails,
}

/// Whoever hears what is told while something is under way there.
pub trait Hears {
    /// This is told.
    fn told(&mut self, told: Told);

    /// What is to be said to it, asked again and again.
    fn wants_to_say(&mut self) -> Option<Asked> {
        None
    }
}

/// Nobody.
pub struct Deaf;

impl Hears for Deaf {
    fn told(&mut self, _: Told) {}
}

async fn listen(mut words: ChildStderr, said: Arc<Mutex<Vec<u8>>>) {
    let mut part = [0; 1024];
    while let Ok(read @ 1..) = words.read(&mut part).await {
        let mut said = said.lock().unwrap_or_else(PoisonError::into_inner);
        said.extend_from_slice(&part[..read]);
        let over = said.len().saturating_sub(REMEMBERED as usize);
        said.drain(..over);
    }
}
