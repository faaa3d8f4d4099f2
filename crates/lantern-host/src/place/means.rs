//! How a folder on another machine is reached.

use super::Address;
use std::path::PathBuf;

/// How another machine is reached, besides its address.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Means {
    /// For SFTP, the command line that speaks it; otherwise the system's `ssh`.
    pub through: Option<Vec<String>>,
    /// The command that runs a line for the shell there, which is added as its last word; otherwise, where the address says that there
    /// is one, the system's `ssh`.
    pub shell: Option<Vec<String>>,
    /// For FTP, where the password stands.
    pub password: Option<Password>,
    /// For FTP, how many connections there may be at once; otherwise as many as there may usually be.
    pub connections: Option<usize>,
    /// For FTP behind TLS, a file of certificates that vouch for it, besides those of the machine.
    pub ca: Option<PathBuf>,
}

/// Where a password stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Password {
    /// In a variable of the environment.
    Env(String),
    /// In a file, as its only line.
    File(PathBuf),
}

/// A command line of the system's own `ssh`, with all that the user has set for it, and words behind its options.
pub fn ssh(address: &Address, words: &[&str]) -> Vec<String> {
    let mut command: Vec<String> = [
        "ssh",
        "-o",
        "ConnectTimeout=20",
        "-o",
        "ServerAliveInterval=15",
    ]
    .map(str::to_owned)
    .into();
    if let Some(port) = address.port {
        command.extend(["-p".into(), port.to_string()]);
    }
    if let Some(user) = &address.user {
        command.extend(["-l".into(), user.clone()]);
    }
    command.extend(words.iter().map(|&word| word.to_owned()));
    command
}

/// The command of the system's `ssh` that runs a line for the shell of a machine, which is added as its last word.
pub fn shell_of(address: &Address) -> Vec<String> {
    ssh(address, &["--", &address.host])
}
