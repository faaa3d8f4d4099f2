//! Lines that the shell runs on the machine that a folder lies on, where there is one for them.

use crate::error::{Error, Result};
use crate::folder::Folder;
use crate::meter;
use crate::runner::spoken_with;
use lantern_core::path::RelPath;
use std::collections::HashMap;
use std::io;
use std::time::Duration;
use tokio::io::AsyncWriteExt;
use tokio::runtime::Builder;

/// So much is hashed by one line, in bytes and files: what is done shows in between.
const HASHED_BYTES: u64 = 1 << 30;
const HASHED_FILES: usize = 4_000;
/// How long that may take.
const HASHING: Duration = Duration::from_secs(1800);
/// What is printed first, by which one knows that there is a shell.
const HERE: &str = "here";

/// What came of a line.
#[derive(Debug)]
pub struct Ran {
    /// What it printed.
    pub printed: String,
    /// Why it did not end well; none where it did.
    pub fault: Option<String>,
}

/// A word for a shell.
pub fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', r"'\''"))
}

/// Runs a line, which reads `input`; it is ended where it takes longer than the limit.
///
/// # Errors
/// When the command that leads to the shell cannot be run.
pub fn run(command: &[String], line: String, input: &[u8], limit: Duration) -> io::Result<Ran> {
    let mut command = command.to_vec();
    command.push(line);
    let runtime = Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let mut program = spoken_with(&command)?;
        let words = program.stdin.take();
        let said = async {
            // Whoever ends without having read all says why in what it prints.
            if let Some(mut words) = words {
                let _ = words.write_all(input).await;
            }
        };
        let both = async { tokio::join!(said, program.wait_with_output()).1 };
        let Ok(ended) = tokio::time::timeout(limit, both).await else {
            return Ok(Ran {
                printed: String::new(),
                fault: Some("it took too long".into()),
            });
        };
        let ended = ended?;
        let printed = String::from_utf8_lossy(&ended.stdout).into_owned();
        let complaint = String::from_utf8_lossy(&ended.stderr).into_owned();
        let last = |text: &str| {
            let line = text.lines().rfind(|line| !line.trim().is_empty());
            line.map(|line| line.trim().to_owned())
        };
        let why = || {
            let last = last(&complaint).or_else(|| last(&printed));
            last.unwrap_or_else(|| format!("it ended with {}", ended.status))
        };
        let fault = (!ended.status.success()).then(why);
        Ok(Ran { printed, fault })
    })
}

/// BLAKE3 of the contents of files, in hexadecimal, each with its size, as far as the machine finds them out that they lie on; none where
/// nothing there does, or no shell is said to be there.
///
/// # Errors
/// When one is said to be there, and does not answer.
pub fn hashes<'p>(
    folder: &Folder,
    files: &[(&'p RelPath, u64)],
) -> Result<HashMap<&'p RelPath, String>> {
    let mut found = HashMap::new();
    let Some(command) = folder.shell() else {
        return Ok(found);
    };
    let named = files.iter().filter_map(|(path, bytes)| {
        let there = folder.path_there(path)?;
        // Such a name is printed otherwise than it is.
        (!there.contains('\\')).then_some((there, *path, *bytes))
    });
    let named: Vec<(String, &RelPath, u64)> = named.collect();
    let line = format!(
        "echo {HERE}; if command -v b3sum >/dev/null && command -v xargs >/dev/null; then xargs -0 b3sum --; fi"
    );
    let mut rest = &named[..];
    while !rest.is_empty() && !crate::interrupt::called_off() {
        let mut bytes = 0;
        let within = |(_, _, more): &&(String, &RelPath, u64)| {
            bytes += more;
            bytes <= HASHED_BYTES
        };
        let many = rest.iter().take(HASHED_FILES).take_while(within).count();
        let (these, after) = rest.split_at(many.max(1));
        rest = after;
        let input: Vec<u8> = these
            .iter()
            .flat_map(|(there, _, _)| there.bytes().chain([0]))
            .collect();
        // What it did not find out is told from afar as ever; one that did not end well may have met a file that has gone.
        let ran = run(&command, line.clone(), &input, HASHING).and_then(|ran| {
            let answers = ran.printed.lines().any(|line| line.trim() == HERE);
            let why = ran.fault.as_deref().unwrap_or("it says nothing");
            let why = why.trim_end_matches('.');
            match answers {
                true => Ok(ran),
                false => Err(io::Error::other(format!(
                    "its shell does not answer: {why}; of an account without one the address begins with sftp://"
                ))),
            }
        });
        let ran = ran.map_err(|source| Error::NotReached {
            address: folder.lies_at().display().to_string(),
            source,
        })?;
        let hashed = ran.printed.lines().filter_map(|line| line.split_once("  "));
        let hashed: HashMap<&str, &str> = hashed.map(|(hash, name)| (name, hash)).collect();
        if hashed.is_empty() {
            break;
        }
        for (there, path, bytes) in these {
            let is_hash =
                |hash: &&&str| hash.len() == 64 && hash.bytes().all(|b| b.is_ascii_hexdigit());
            if let Some(hash) = hashed.get(there.as_str()).filter(is_hash) {
                meter::did(*bytes);
                found.insert(*path, (*hash).to_owned());
            }
        }
    }
    Ok(found)
}
