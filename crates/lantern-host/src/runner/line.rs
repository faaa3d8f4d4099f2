//! A program that something is spoken with over what it reads and prints.

use std::io;
use std::process::Stdio;
use tokio::process::{Child, Command};

/// Starts a program; it ends when what is returned is dropped.
///
/// # Errors
/// When it cannot be run.
pub fn spoken_with(command: &[String]) -> io::Result<Child> {
    let (program, arguments) = command
        .split_first()
        .ok_or_else(|| io::Error::other("no program is named"))?;
    Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
}
