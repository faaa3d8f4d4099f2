//! The buttons of a host's page: a server in a folder that somebody starts and stops from elsewhere.

use std::fs;
use std::io::{self, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

/// How long a server may take to end.
const LIMIT: Duration = Duration::from_secs(20);

/// A button.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
pub enum Button {
    /// Starts it by its `start.sh`; what it prints goes to `log/latest.log`, and what it reads comes from a pipe.
    Start,
    /// Types `stop`, and waits until it has ended.
    Stop,
    /// Says whether it runs: the exit status is 0 then.
    State,
}

/// Presses a button; the page keeps what it knows of the server beside its folder.
///
/// # Errors
/// When the server cannot be started or spoken to.
pub fn press(button: Button, folder: &Path) -> io::Result<u8> {
    let pid = folder.with_extension("pid");
    let input = folder.with_extension("input");
    match button {
        Button::State => return Ok(u8::from(!runs(&pid))),
        Button::Start if runs(&pid) => {}
        Button::Start => {
            fs::create_dir_all(folder.join("log"))?;
            let log = fs::File::create(folder.join("log/latest.log"))?;
            let _ = fs::remove_file(&input);
            let made = Command::new("mkfifo").arg(&input).status()?;
            if !made.success() {
                return Err(io::Error::other("no pipe could be made"));
            }
            // Open for both, it waits for nobody and has no end.
            let pipe = fs::File::options().read(true).write(true).open(&input)?;
            let server = Command::new("setsid")
                .args(["sh", "start.sh"])
                .current_dir(folder)
                .stdin(pipe)
                .stdout(Stdio::from(log.try_clone()?))
                .stderr(Stdio::from(log))
                .spawn()?;
            fs::write(&pid, server.id().to_string())?;
        }
        Button::Stop => {
            let mut pipe = fs::File::options().read(true).write(true).open(&input)?;
            pipe.write_all(b"stop\n")?;
            let begun = Instant::now();
            while runs(&pid) {
                if begun.elapsed() > LIMIT {
                    return Err(io::Error::other("it does not end"));
                }
                sleep(Duration::from_millis(20));
            }
            let _ = fs::remove_file(&pid);
        }
    }
    Ok(0)
}

/// Whether the process is there, and not only its number.
fn runs(pid: &Path) -> bool {
    let Ok(pid) = fs::read_to_string(pid) else {
        return false;
    };
    let state = fs::read_to_string(format!("/proc/{}/stat", pid.trim()));
    state.is_ok_and(|state| {
        let after_name = state.rsplit(')').next().unwrap_or_default();
        !after_name.trim_start().starts_with('Z')
    })
}
