//! A line to another machine: what a program reads and prints, later and slower, and cut off.

use std::fs;
use std::io::{self, Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
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

/// Reads pieces, each with the moment at which it arrives; whoever shares a line waits until it is free.
pub fn leave(mut from: impl Read, to: &SyncSender<(Instant, Vec<u8>)>, pace: Pace, line: &Free) {
    let mut buffer = vec![0; 32 << 10];
    while let Ok(count @ 1..) = from.read(&mut buffer) {
        let takes = (count as u64 * 1_000_000).checked_div(pace.bytes_per_s);
        let gone = line.take(Duration::from_micros(takes.unwrap_or(0)));
        let arrives = gone + Duration::from_micros(pace.round_trip_ms * 500);
        if to.send((arrives, buffer[..count].to_vec())).is_err() {
            return;
        }
    }
}

/// Hands pieces on, each when it arrives.
pub fn arrive(pieces: Receiver<(Instant, Vec<u8>)>, mut to: impl Write, did: impl Fn(u64)) {
    for (at, bytes) in pieces {
        thread::sleep(at.saturating_duration_since(Instant::now()));
        if to.write_all(&bytes).and_then(|()| to.flush()).is_err() {
            return;
        }
        did(bytes.len() as u64);
    }
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
    thread::spawn(move || leave(io::stdin(), &there, pace, &Free::default()));
    thread::spawn(move || {
        arrive(from_here, input, |bytes| {
            gone_there.went(true, bytes);
        });
    });
    let (back, from_there) = sync_channel(ON_THE_WAY);
    thread::spawn(move || leave(output, &back, pace, &Free::default()));
    arrive(from_there, io::stdout(), |bytes| {
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
