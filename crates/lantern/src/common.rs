//! What all commands share on the command line.

use crate::around;
use crate::candidates;
use clap::{Args, ValueEnum};
use clap_complete::ArgValueCandidates;
use lantern_host::known;
use std::path::{Path, PathBuf};

/// Options of all commands.
#[derive(Debug, Args)]
#[command(next_help_heading = "Options of all commands")]
pub struct Common {
    /// The server folder, or the name of a server in care; otherwise the folder around this one that is in care
    #[arg(
        id = "server_named",
        long = "server",
        global = true,
        value_name = "DIR|NAME",
        env = "LANTERN_SERVER",
        hide_env_values = true,
        add = ArgValueCandidates::new(candidates::servers)
    )]
    named: Option<String>,
    /// The server folder, as [`Common::settle`] finds it.
    #[arg(skip)]
    pub server: PathBuf,
    /// Answer in JSON
    #[arg(long, global = true)]
    pub json: bool,
    /// Say only what was asked for: no progress, no next command
    #[arg(long, short = 'q', global = true)]
    pub quiet: bool,
    /// Show how long each step took, and what the server prints while it starts
    #[arg(long, short = 'v', global = true, conflicts_with = "quiet")]
    pub verbose: bool,
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
    /// Finds the server folder: the one that is named, by its path or by its name, or the one around here.
    pub fn settle(&mut self) {
        self.server = match &self.named {
            Some(named) => known::folder_of(named, Path::new("")),
            None => around::here(),
        };
    }

    /// The same for another server, of which nothing is asked any more.
    pub fn of(&self, server: &Path) -> Common {
        Common {
            named: Some(server.display().to_string()),
            server: server.to_owned(),
            json: false,
            yes: true,
            ..*self
        }
    }

    /// A path in the server folder, as it is reached from here.
    pub fn near(&self, path: &str) -> PathBuf {
        match self.server == Path::new(".") {
            true => path.into(),
            false => self.server.join(path),
        }
    }

    /// Where lantern keeps what servers print, as a shell takes it; of several on one install, of each.
    pub fn log(&self, name: &str) -> String {
        let several = self.near(".lantern/console/servers");
        match several.is_dir() {
            true => format!("{}/*/{name}", shell_word(&several)),
            false => shell_word(&self.near(".lantern/console").join(name)),
        }
    }

    /// A command line to paste, for the same server.
    pub fn next(&self, words: &str) -> String {
        match &self.named {
            None => format!("lantern {words}"),
            Some(named) => format!("lantern {words} --server {}", shell_word(Path::new(named))),
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
