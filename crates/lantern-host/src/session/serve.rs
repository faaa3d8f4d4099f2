//! The other end of a session: what is asked is done here, at the servers of this machine.

use super::lines::{self, Answered, Asked, Failed, Greeting, Hello, LINES, MOST};
use super::program;
use crate::changeover::Event;
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::error;
use crate::meeting::{Attendance, Seat, heeded};
use crate::{interrupt, lock};
use lantern_core::group::Gate;
use lantern_core::operation::OperationKind;
use lantern_core::supply::Supply;
use serde::Serialize;
use std::fmt;
use std::io::{self, BufRead, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// After so long without a word it is said that it goes on.
const SAY: Duration = Duration::from_secs(15);
/// How often it is looked whether somebody wants it to end meanwhile.
const LOOK: Duration = Duration::from_millis(50);
/// A line that is said to what is under way is shorter, in bytes.
const SHORT: usize = 4096;

/// What is done where something is asked: by its name, at a folder, with what it needs to know.
pub type Does<'d> =
    &'d dyn Fn(&str, &Path, serde_json::Value, &Teller) -> Result<serde_json::Value, Failed>;

/// Answers until nobody asks any more.
///
/// # Errors
/// When this program cannot be read, or whoever asks speaks another format.
pub fn serve(
    input: impl BufRead + Send + 'static,
    output: impl Write + Send + 'static,
    version: &str,
    does: Does<'_>,
) -> error::Result<()> {
    let (asked, gates) = lines_of(input);
    let said = Said(Arc::new(Mutex::new((Box::new(output), 0))));
    let teller = Teller {
        said: said.clone(),
        gates: Arc::new(Mutex::new(gates)),
        has_turned_back: Arc::default(),
    };
    let greeting = Greeting {
        lines: LINES,
        version: version.to_owned(),
        program: program::own()?.hash,
    };
    said.say(&greeting);
    let hello = asked
        .recv()
        .ok()
        .and_then(|line| serde_json::from_slice::<Hello>(&line).ok());
    let Some(hello) = hello.filter(|hello| hello.lines == LINES) else {
        said.fails("whoever asks speaks another format".into());
        return Ok(());
    };
    lock::works_for(&hello.who);
    while let Ok(line) = asked.recv() {
        match serde_json::from_slice(&line) {
            Ok(Asked::Errand { name, at, of }) => {
                let came = {
                    let _alive = Alive::begin(&said);
                    does(&name, &folder(&at), of, &teller)
                };
                said.say(&match came {
                    Ok(came) => Answered::Came(came),
                    Err(failed) => Answered::Failed(failed),
                });
            }
            Ok(Asked::Keeps { at, supply }) => match keep(&at, &supply, &asked) {
                Ok(()) => said.say(&Answered::Came(serde_json::Value::Null)),
                Err(error) => said.fails(error.to_string()),
            },
            Ok(Asked::Ends | Asked::Passes | Asked::TurnsBack(_)) => {}
            Ok(Asked::Part(_)) => said.fails("a part of no file".into()),
            Err(error) => said.fails(format!("what was asked cannot be understood: {error}")),
        }
    }
    Ok(())
}

/// A folder as whoever asks names it: from the root, or from the user's own.
fn folder(at: &str) -> PathBuf {
    let home = std::env::var_os("HOME").map(PathBuf::from);
    home.unwrap_or_default().join(at)
}

/// The lines that come, and by themselves those that are said to what is under way. That it is to end, or that nobody is there any
/// more, counts at once.
fn lines_of(
    mut input: impl BufRead + Send + 'static,
) -> (Receiver<Vec<u8>>, Receiver<Result<(), String>>) {
    let (send, lines) = mpsc::sync_channel(4);
    let (opens, gates) = mpsc::channel();
    std::thread::spawn(move || {
        loop {
            let mut line = Vec::new();
            let read = (&mut input).take(MOST as u64).read_until(b'\n', &mut line);
            if read.is_err() || !line.ends_with(b"\n") {
                interrupt::wish();
                return;
            }
            // The long ones are what is asked, and parts of files.
            let said = match line.len() < SHORT {
                true => serde_json::from_slice(&line).ok(),
                false => None,
            };
            let is_taken = match said {
                Some(Asked::Ends) => {
                    interrupt::wish();
                    true
                }
                Some(Asked::Passes) => opens.send(Ok(())).is_ok(),
                Some(Asked::TurnsBack(other)) => opens.send(Err(other)).is_ok(),
                _ => send.send(line).is_ok(),
            };
            if !is_taken {
                return;
            }
        }
    });
    (lines, gates)
}

/// Tells whoever asked what goes on.
#[derive(Clone)]
pub struct Teller {
    said: Said,
    gates: Arc<Mutex<Receiver<Result<(), String>>>>,
    has_turned_back: Arc<AtomicBool>,
}

impl fmt::Debug for Teller {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Teller").finish_non_exhaustive()
    }
}

impl Teller {
    /// In words.
    pub fn talk(&self, text: &str) {
        self.said.say(&Answered::Talk(text.to_owned()));
    }

    /// A step of it.
    pub fn event(&self, event: Event) {
        self.said.say(&Answered::Event(event));
    }

    /// A seat at the meeting that is held where it was asked; the longest there warns its players for so long.
    pub fn seat(&self, warns: Duration) -> Seat {
        Seat::of(Elsewhere {
            teller: self.clone(),
            warns,
        })
    }
}

/// A seat at a meeting that is held on the machine of whoever asked.
#[derive(Debug)]
struct Elsewhere {
    teller: Teller,
    warns: Duration,
}

impl Attendance for Elsewhere {
    fn arrive(&self, gate: Gate, kind: OperationKind) -> Result<(), ChangeoverFault> {
        let teller = &self.teller;
        teller.said.say(&Answered::Arrives(gate));
        let gates = teller.gates.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            let gone = match gates.recv_timeout(LOOK) {
                Ok(Ok(())) => return Ok(()),
                Ok(Err(other)) => other,
                Err(RecvTimeoutError::Timeout) => {
                    heeded(gate, kind)?;
                    continue;
                }
                // Nobody says any more how the others are: as long as there is a way back, it is gone.
                Err(RecvTimeoutError::Disconnected) if gate <= Gate::Settle => {
                    "the machine that it was asked from".to_owned()
                }
                Err(RecvTimeoutError::Disconnected) => return Ok(()),
            };
            teller.has_turned_back.store(true, Ordering::Relaxed);
            return Err(ChangeoverFault::TurnedBack(gone));
        }
    }

    fn warns(&self) -> Duration {
        self.warns
    }

    fn fails(&self) {
        self.teller.said.say(&Answered::Fails);
    }

    fn has_turned_back(&self) -> bool {
        self.teller.has_turned_back.load(Ordering::Relaxed)
    }

    fn ends(&self, _: bool) {}
}

/// Whoever listens. That nobody does any more hinders nothing.
#[derive(Clone)]
struct Said(Arc<Mutex<(Box<dyn Write + Send>, u64)>>);

impl Said {
    fn say(&self, words: &impl Serialize) {
        let mut said = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Ok(mut line) = serde_json::to_vec(words) else {
            return;
        };
        line.push(b'\n');
        said.1 += 1;
        let _ = said.0.write_all(&line).and_then(|()| said.0.flush());
    }

    fn fails(&self, why: String) {
        self.say(&Answered::Failed(Failed {
            why,
            advice: Vec::new(),
            status: 1,
        }));
    }

    fn many(&self) -> u64 {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).1
    }
}

/// Says that it goes on, where nothing else is said, until it is dropped.
struct Alive {
    _ends: mpsc::Sender<()>,
}

impl Alive {
    fn begin(said: &Said) -> Alive {
        let (ends, ended) = mpsc::channel::<()>();
        let said = said.clone();
        std::thread::spawn(move || {
            let mut before = said.many();
            while ended.recv_timeout(SAY) == Err(RecvTimeoutError::Timeout) {
                if said.many() == before {
                    said.say(&Answered::AtWork);
                }
                before = said.many();
            }
        });
        Alive { _ends: ends }
    }
}

/// Keeps a file that follows in parts.
fn keep(at: &str, supply: &Supply, asked: &Receiver<Vec<u8>>) -> error::Result<()> {
    let cut_off = || io::Error::new(io::ErrorKind::UnexpectedEof, "it was cut off");
    let part = || -> io::Result<Vec<u8>> {
        let line = asked.recv().map_err(|_| cut_off())?;
        match serde_json::from_slice(&line) {
            Ok(Asked::Part(part)) => lines::decoded(&part).map_err(io::Error::other),
            _ => Err(cut_off()),
        }
    };
    let mut is_whole = false;
    let kept = Server::open(&folder(at)).and_then(|server| {
        server.store().receive(supply, &mut |file| {
            loop {
                let part = part()?;
                if part.is_empty() {
                    is_whole = true;
                    return Ok(());
                }
                file.write_all(&part)?;
            }
        })
    });
    // What follows it is the next that is asked, whatever became of it.
    while !is_whole {
        is_whole = part().map_or(true, |part| part.is_empty());
    }
    kept
}
