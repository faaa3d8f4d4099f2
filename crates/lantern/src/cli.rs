//! What can be typed, and where it leads.

use crate::commands::{
    acquire, adopt, backup, catalogue, changeover, client, demo, diff, family, history, outlook,
    plan, put_back, rehearse, server, status, survey, undo, verify, why,
};
use crate::common::Common;
use crate::fail;
use crate::look::Look;
use clap::{CommandFactory, Parser, Subcommand};
use lantern_host::Result;

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
    /// What to do; without it, the status of the server around here.
    #[command(subcommand)]
    pub command: Option<Command>,
}

/// The commands, in the order of the work.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Say at a glance how the server is
    Status(status::StatusArgs),
    /// Take a server folder into care
    Adopt(adopt::AdoptArgs),
    /// Show what is installed, and what is wrong with it
    Survey(survey::SurveyArgs),
    /// Show who is ready for which server version, and which stops lead there
    Outlook(outlook::OutlookArgs),
    /// Make the server program by its recipe, where it cannot be downloaded
    Acquire(acquire::AcquireArgs),
    /// Work out a change: which releases, which files, which load order
    Plan(Box<plan::PlanArgs>),
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
    /// Show how files differ: from what was shipped, set aside, or is planned
    Diff(diff::DiffArgs),
    /// Plan to bring back what an operation set aside
    PutBack(put_back::PutBackArgs),
    /// Show or pack what a player's client must have
    Client(client::ClientArgs),
    /// Start, stop and talk to the game server
    Console(server::ConsoleArgs),
    /// Check and make family files: what lantern knows of a kind of server
    Family(family::FamilyArgs),
    /// Make a catalogue of a folder of releases, and check one
    Catalogue(catalogue::CatalogueArgs),
    /// Tell the whole story on made-up servers
    Demo(demo::DemoArgs),
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

/// Does what was typed; returns the exit status.
///
/// # Errors
/// Whatever the host says; `fail` tells it.
pub fn run(cli: &Cli, look: &Look) -> Result<u8> {
    let common = &cli.common;
    let Some(command) = &cli.command else {
        return status::run(&status::StatusArgs {}, common, look);
    };
    match command {
        Command::Status(args) => status::run(args, common, look),
        Command::Acquire(args) => acquire::run(args, common, look),
        Command::Adopt(args) => adopt::run(args, look),
        Command::Survey(args) => survey::run(args, common, look),
        Command::Outlook(args) => outlook::run(args, common, look),
        Command::Plan(args) => plan::run(args, common, look),
        Command::Why(args) => why::run(args, common, look),
        Command::Rehearse(args) => rehearse::run(args, common, look),
        Command::Changeover(args) => changeover::run(args, common, look),
        Command::Verify(args) => verify::run(args, common, look),
        Command::Undo(args) => undo::run(args, common, look),
        Command::Backup(args) => backup::run(args, common, look),
        Command::History(args) => history::run(args, common, look),
        Command::Diff(args) => diff::run(args, common, look),
        Command::PutBack(args) => put_back::run(args, common, look),
        Command::Client(args) => client::run(args, common, look),
        Command::Console(args) => server::run(args, common, look),
        Command::Family(args) => family::run(args, look),
        Command::Catalogue(args) => catalogue::run(args, common, look),
        Command::Demo(args) => demo::run(args, look),
        Command::Completions { shell } => {
            clap_complete::generate(
                *shell,
                &mut Cli::command(),
                "lantern",
                &mut std::io::stdout(),
            );
            Ok(fail::DONE)
        }
    }
}
