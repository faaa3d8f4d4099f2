//! What all commands share on the command line.

use clap::{Args, ValueEnum};
use std::path::{Path, PathBuf};

/// Options of all commands.
#[derive(Debug, Args)]
pub struct Common {
    /// The server folder
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = ".",
        hide_default_value = true
    )]
    pub server: PathBuf,
    /// Answer in JSON
    #[arg(long, global = true)]
    pub json: bool,
    /// Do not ask: do it
    #[arg(long, short = 'y', global = true)]
    pub yes: bool,
    /// Use colours
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_possible_values = true
    )]
    pub color: When,
}

/// When to use colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum When {
    /// On a terminal.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

impl Common {
    /// A command line to paste, for the same server.
    pub fn next(&self, words: &str) -> String {
        if self.server == Path::new(".") {
            format!("lantern {words}")
        } else {
            format!("lantern {words} --server {}", shell_word(&self.server))
        }
    }
}

/// A path as a shell takes it.
pub fn shell_word(path: &Path) -> String {
    let text = path.display().to_string();
    let plain = |c: char| c.is_alphanumeric() || "/._-+,:@%".contains(c);
    if !text.is_empty() && text.chars().all(plain) {
        text
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}
