//! A line to another machine: what a program reads and prints, later and slower, and cut off.

use std::collections::VecDeque;
use std::fs;
use std::io::{self, Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

/// So many pieces are on the way at most.
const ON_THE_WAY: usize = 4096;

/// How quick a line is.
#[derive(Clone, Copy)]
pub struct Pace {
    /// How long it is from a question to its answer, in milliseconds.
    pub round_trip_ms: u64,
    /// How much goes each way, in bytes a second; no limit where it is 0.
    pub bytes_per_s: u64,
}

/// How a line is.
pub struct Line<'a> {
    /// How quick.
    pub pace: Pace,
    /// After so many bytes have come back it is cut.
    pub cut_after: Option<u64>,
    /// A file that says how many bytes went there and came back so far.
    pub log: Option<&'a Path>,
}

/// When a line takes the next piece.
#[derive(Default)]
pub struct Free(Mutex<Option<Instant>>);

impl Free {
    /// Takes the line for so long; when it is free again.
    fn take(&self, long: Duration) -> Instant {
        let mut free = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        let again = free.map_or(now, |free| free.max(now)) + long;
        *free = Some(again);
        again
    }
}

/// How much one connection has on the way at once: at first as much as a new connection may (RFC 6928), and twice as much after each
/// round trip, as long as nothing is lost (RFC 5681).
pub struct Window {
    /// How long what has arrived takes to be heard of.
    back: Duration,
    state: Mutex<Sent>,
    heard: Condvar,
}

#[derive(Default)]
struct Sent {
    /// So much may be on the way, in bytes; no limit where there is none.
    most: Option<usize>,
    on_the_way: usize,
    /// What has arrived, and when that is heard of.
    arrived: VecDeque<(Instant, usize)>,
    has_ended: bool,
}

impl Window {
    /// Ten segments of the usual size.
    const FIRST: usize = 10 * 1460;

    /// Of a new connection.
    pub fn new(pace: Pace) -> Window {
        Window {
            back: Duration::from_micros(pace.round_trip_ms * 500),
            state: Mutex::new(Sent {
                most: Some(Window::FIRST),
                ..Sent::default()
            }),
            heard: Condvar::new(),
        }
    }

    /// Of one that everything may be on the way of.
    pub fn open() -> Window {
        Window {
            back: Duration::ZERO,
            state: Mutex::default(),
            heard: Condvar::new(),
        }
    }

    fn state(&self) -> MutexGuard<'_, Sent> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits until more may leave, and says how much.
    fn room(&self) -> usize {
        let mut state = self.state();
        loop {
            let now = Instant::now();
            while let Some(&(at, bytes)) = state.arrived.front()
                && at <= now
            {
                state.arrived.pop_front();
                state.on_the_way -= bytes;
                state.most = state.most.map(|most| most + bytes);
            }
            let Some(most) = state.most.filter(|_| !state.has_ended) else {
                return usize::MAX;
            };
            if most > state.on_the_way {
                return most - state.on_the_way;
            }
            let next = state.arrived.front();
            let wait = next.map_or(Duration::from_secs(1), |(at, _)| *at - now);
            let waited = self.heard.wait_timeout(state, wait);
            state = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    fn left(&self, bytes: usize) {
        self.state().on_the_way += bytes;
    }

    fn arrived(&self, bytes: usize) {
        let heard = Instant::now() + self.back;
        let mut state = self.state();
        if state.most.is_some() {
            state.arrived.push_back((heard, bytes));
        }
        self.heard.notify_one();
    }

    /// Nothing arrives any more.
    fn end(&self) {
        self.state().has_ended = true;
        self.heard.notify_one();
    }
}

/// How much has gone each way.
#[derive(Default)]
pub struct Gone {
    there: AtomicU64,
    back: AtomicU64,
}

impl Gone {
    /// Counts what went there or back; how much that is by now.
    pub fn went(&self, is_there: bool, bytes: u64) -> u64 {
        let way = if is_there { &self.there } else { &self.back };
        way.fetch_add(bytes, Ordering::Relaxed) + bytes
    }

    /// Writes it down in a file, where there is one.
    pub fn write_down(&self, log: Option<&Path>) {
        let (there, back) = (&self.there, &self.back);
        let text = format!(
            "{} {}\n",
            there.load(Ordering::Relaxed),
            back.load(Ordering::Relaxed)
        );
        if let Some(log) = log {
            let _ = fs::write(log, text);
        }
    }
}

/// Reads pieces, each with the moment at which it arrives; whoever shares a line waits until it is free, and no more is on the way than
/// `window` lets.
pub fn leave(
    mut from: impl Read,
    to: &SyncSender<(Instant, Vec<u8>)>,
    pace: Pace,
    line: &Free,
    window: &Window,
) {
    let mut buffer = vec![0; 32 << 10];
    loop {
        let most = window.room().min(buffer.len());
        let Ok(count @ 1..) = from.read(&mut buffer[..most]) else {
            return;
        };
        window.left(count);
        let takes = (count as u64 * 1_000_000).checked_div(pace.bytes_per_s);
        let gone = line.take(Duration::from_micros(takes.unwrap_or(0)));
        let arrives = gone + Duration::from_micros(pace.round_trip_ms * 500);
        if to.send((arrives, buffer[..count].to_vec())).is_err() {
            return;
        }
    }
}

/// Hands pieces on, each when it arrives, and tells `window` of it.
pub fn arrive(
    pieces: Receiver<(Instant, Vec<u8>)>,
    mut to: impl Write,
    window: &Window,
    did: impl Fn(u64),
) {
    for (at, bytes) in pieces {
        thread::sleep(at.saturating_duration_since(Instant::now()));
        if to.write_all(&bytes).and_then(|()| to.flush()).is_err() {
            break;
        }
        window.arrived(bytes.len());
        did(bytes.len() as u64);
    }
    window.end();
}

/// Runs a program at the other end of a line; its exit status.
///
/// # Errors
/// When it cannot be run.
pub fn run(line: &Line<'_>, command: &[String]) -> io::Result<u8> {
    let mut program = Command::new(&command[0])
        .args(&command[1..])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()?;
    let (input, output) = (program.stdin.take(), program.stdout.take());
    let (Some(input), Some(output)) = (input, output) else {
        return Err(io::Error::other("nothing can be said to it"));
    };
    let gone = Arc::new(Gone::default());
    let program: Mutex<Child> = Mutex::new(program);
    let pace = line.pace;
    let (there, from_here) = sync_channel(ON_THE_WAY);
    let gone_there = Arc::clone(&gone);
    // What waits for words that never come again ends with the process.
    thread::spawn(move || {
        leave(io::stdin(), &there, pace, &Free::default(), &Window::open());
    });
    thread::spawn(move || {
        arrive(from_here, input, &Window::open(), |bytes| {
            gone_there.went(true, bytes);
        });
    });
    let (back, from_there) = sync_channel(ON_THE_WAY);
    thread::spawn(move || leave(output, &back, pace, &Free::default(), &Window::open()));
    arrive(from_there, io::stdout(), &Window::open(), |bytes| {
        let all = gone.went(false, bytes);
        gone.write_down(line.log);
        if line.cut_after.is_some_and(|most| all >= most)
            && let Ok(mut program) = program.lock()
        {
            let _ = program.kill();
            std::process::exit(255);
        }
    });
    let status = program
        .lock()
        .map_err(|_| io::Error::other("the program is lost"))?
        .wait()?;
    Ok(status
        .code()
        .and_then(|code| u8::try_from(code).ok())
        .unwrap_or(255))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_new_connection_has_little_on_the_way_and_then_more() {
        let window = Window::new(Pace {
            round_trip_ms: 0,
            bytes_per_s: 0,
        });
        assert_eq!(window.room(), Window::FIRST);
        window.left(Window::FIRST);
        window.arrived(Window::FIRST);
        assert_eq!(window.room(), 2 * Window::FIRST);
        window.left(2 * Window::FIRST);
        window.end();
        assert_eq!(window.room(), usize::MAX);
    }
}
