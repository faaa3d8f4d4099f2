//! What can be typed.

use crate::commands::{
    acquire, adopt, backup, changeover, client, demo, family, history, outlook, plan, rehearse,
    server, survey, undo, verify, why,
};
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::{Path, PathBuf};

/// Brings a modded game server to a new version, safely, with a way back
#[derive(Debug, Parser)]
#[command(
    name = "lantern",
    version,
    max_term_width = 100,
    disable_help_subcommand = true
)]
pub struct Cli {
    /// Options of all commands.
    #[command(flatten)]
    pub common: Common,
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

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

/// The commands, in the order of the work.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Take a server folder into care
    Adopt(adopt::AdoptArgs),
    /// Show what is installed, and what is wrong with it
    Survey(survey::SurveyArgs),
    /// Show who is ready for which server version, and which stops lead there
    Outlook(outlook::OutlookArgs),
    /// Make the server program by its recipe, where it cannot be downloaded
    Acquire(acquire::AcquireArgs),
    /// Work out a change: which releases, which files, which load order
    Plan(plan::PlanArgs),
    /// Explain why a component is at its version, or not at another
    Why(why::WhyArgs),
    /// Carry a plan out on a copy of the server first
    Rehearse(rehearse::RehearseArgs),
    /// Carry a plan out: stop, back up, swap, start, verify, or go back
    Changeover(changeover::ChangeoverArgs),
    /// Look at the running server again: add-ons, versions, error lines
    Verify(verify::VerifyArgs),
    /// Go back to before the last changeover
    Undo(undo::UndoArgs),
    /// Make, list, check, restore and thin out backups
    Backup(backup::BackupArgs),
    /// Show what was done here, and what was set aside each time
    History(history::HistoryArgs),
    /// Show or pack what a player's client must have
    Client(client::ClientArgs),
    /// Start, stop and talk to the game server
    Console(server::ConsoleArgs),
    /// Check and make family files: what lantern knows of a kind of server
    Family(family::FamilyArgs),
    /// Tell the whole story on made-up servers
    Demo(demo::DemoArgs),
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

impl Cli {
    /// A command line to paste, for the same server.
    pub fn next(&self, words: &str) -> String {
        if self.common.server == Path::new(".") {
            format!("lantern {words}")
        } else {
            format!(
                "lantern {words} --server {}",
                shell_word(&self.common.server)
            )
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
