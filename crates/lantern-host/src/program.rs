//! Programs of others, run with a time limit.

use crate::error::{At, Error, Result};
use rustix::process::{Pid, Signal, kill_process_group};
use std::fs::File;
use std::io;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

/// How often it is looked whether a program has ended.
const LOOK: Duration = Duration::from_millis(10);

/// Starts a program in a group of its own, in a folder, with all that it prints going to a file.
///
/// # Errors
/// When the command is empty, or cannot be run.
pub(crate) fn start(command: &[String], folder: &Path, log: &Path) -> Result<Child> {
    let Some((program, words)) = command.split_first() else {
        return Err(Error::NoProgram {
            program: "an empty command line".into(),
            source: io::ErrorKind::InvalidInput.into(),
        });
    };
    let output = File::create(log).at("writing", log)?;
    let errors = output.try_clone().at("writing", log)?;
    let mut command = Command::new(program);
    command
        .args(words)
        .current_dir(folder)
        .stdin(Stdio::null())
        .stdout(output)
        .stderr(errors)
        .process_group(0);
    command.spawn().map_err(|source| Error::NoProgram {
        program: program.clone(),
        source,
    })
}

/// Waits until a program has ended; none when it had to be ended, with all that it started.
pub(crate) fn wait(mut child: Child, limit: Duration) -> io::Result<Option<ExitStatus>> {
    let begun = Instant::now();
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(Some(status));
        }
        if begun.elapsed() > limit {
            if let Some(group) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
                let _ = kill_process_group(group, Signal::KILL);
            }
            child.wait()?;
            return Ok(None);
        }
        std::thread::sleep(LOOK);
    }
}

/// Runs a command line of the administrator's: whether it ended with 0, and what it printed.
///
/// # Errors
/// When it cannot be run, or takes longer than `limit`.
pub(crate) fn run(command: &[String], folder: &Path, limit: Duration) -> Result<(bool, String)> {
    let log = tempfile::NamedTempFile::new().at("writing", Path::new("a file for its words"))?;
    let child = start(command, folder, log.path())?;
    let shown = command.join(" ");
    let ended = wait(child, limit).at("waiting for", Path::new(&command[0]))?;
    let printed = std::fs::read(log.path()).at("reading", log.path())?;
    let printed = String::from_utf8_lossy(&printed).trim().to_owned();
    match ended {
        Some(status) => Ok((status.success(), printed)),
        None => Err(Error::CommandLine {
            command: shown,
            why: format!("it took longer than {} s, and was ended", limit.as_secs()),
        }),
    }
}
