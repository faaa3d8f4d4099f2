//! What can be typed, and where it leads.

use crate::commands::{
    acquire, adopt, backup, bundle, catalogue, changeover, client, culprit, demo, diff, docs,
    family, far_end, gather, group, history, keep_up, known, launch, notice, order, outlook, plan,
    put_back, rehearse, report, server, settings, status, survey, take_over, undo, verify, why,
};
use crate::common::Common;
use crate::fail;
use crate::look::Look;
use clap::{CommandFactory, Parser, Subcommand};
use clap_complete::env::Shells;
use lantern_host::Result;

/// Brings a modded game server to a new version, safely, with a way back
#[derive(Debug, Parser)]
#[command(
    name = "lantern",
    version,
    max_term_width = 100,
    after_help = "Examples:\n  lantern                     how the server around here is\n  lantern adopt DIR           take a server into care\n  \
                  lantern help plan           all about one command\n  lantern docs guide          a night's work, step by step"
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
    /// Fetch the files that a plan needs
    Gather(gather::GatherArgs),
    /// Work out a change: which releases, which files, which load order
    Plan(Box<plan::PlanArgs>),
    /// Explain why a component is at its version, or not at another
    Why(why::WhyArgs),
    /// Carry a plan out on a copy of the server first
    Rehearse(rehearse::RehearseArgs),
    /// Find out which of what moved makes the start fail
    Culprit(culprit::CulpritArgs),
    KeepUp(keep_up::KeepUpArgs),
    /// Show what was seen here not to start together
    Known(known::KnownArgs),
    /// Carry a plan out: stop, back up, swap, start, verify, or go back
    Changeover(changeover::ChangeoverArgs),
    /// Pack what a plan brings, to carry it out by hand, and look whether it was
    Bundle(bundle::BundleArgs),
    /// Look at the running server again: add-ons, versions, error lines
    Verify(verify::VerifyArgs),
    /// Go back to before the last changeover
    Undo(undo::UndoArgs),
    /// Take a server on another machine over from somebody who was cut off there
    TakeOver(take_over::TakeOverArgs),
    /// Make, list, check, restore and thin out backups
    Backup(backup::BackupArgs),
    /// Show what was done here, and what was set aside each time
    History(history::HistoryArgs),
    /// Show how files differ: from what was shipped, set aside, or is planned
    Diff(diff::DiffArgs),
    /// Plan to bring back what an operation set aside
    PutBack(put_back::PutBackArgs),
    /// Show which players may join, and what their clients must have
    Client(client::ClientArgs),
    /// Write a report for co-admins: of a plan, or of what was done
    Report(report::ReportArgs),
    /// Write what players are told of a change
    Notice(notice::NoticeArgs),
    /// Start, stop and talk to the game server
    Console(server::ConsoleArgs),
    /// Look at servers that move together: what they carry, and whether it should differ
    Group(group::GroupArgs),
    /// Show in which order add-ons are started, why, and what is wrong with that
    Order(order::OrderArgs),
    /// Show what the start scripts do, before they are run, and what is wrong with them
    Launch(launch::LaunchArgs),
    /// Keep your settings and edits over releases: compare, take, decide, set
    Settings(settings::SettingsArgs),
    /// Check and make family files: what lantern knows of a kind of server
    Family(family::FamilyArgs),
    /// Make a catalogue of a folder of releases, and check one
    Catalogue(catalogue::CatalogueArgs),
    /// Tell the whole story on made-up servers
    Demo(demo::DemoArgs),
    /// Show a page of the documentation
    Docs(docs::DocsArgs),
    /// Write manual pages into a folder
    Man(docs::ManArgs),
    /// Answer a lantern on another machine, line by line
    #[command(hide = true)]
    FarEnd,
    /// Print what makes a shell complete ids, versions, backups and servers
    #[command(
        after_help = "Examples:\n  source <(lantern completions bash)        in ~/.bashrc\n  \
                            lantern completions fish > ~/.config/fish/completions/lantern.fish"
    )]
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
        Command::Gather(args) => gather::run(args, common, look),
        Command::Adopt(args) => adopt::run(args, look),
        Command::Survey(args) => survey::run(args, common, look),
        Command::Outlook(args) => outlook::run(args, common, look),
        Command::Plan(args) => plan::run(args, common, look),
        Command::Why(args) => why::run(args, common, look),
        Command::Rehearse(args) => rehearse::run(args, common, look),
        Command::Culprit(args) => culprit::run(args, common, look),
        Command::KeepUp(args) => keep_up::run(args, common, look),
        Command::Known(args) => known::run(args, common, look),
        Command::Changeover(args) => changeover::run(args, common, look),
        Command::Verify(args) => verify::run(args, common, look),
        Command::Undo(args) => undo::run(args, common, look),
        Command::TakeOver(args) => take_over::run(args, common, look),
        Command::Backup(args) => backup::run(args, common, look),
        Command::History(args) => history::run(args, common, look),
        Command::Diff(args) => diff::run(args, common, look),
        Command::PutBack(args) => put_back::run(args, common, look),
        Command::Bundle(args) => bundle::run(args, common, look),
        Command::Client(args) => client::run(args, common, look),
        Command::Report(args) => report::run(args, common, look),
        Command::Notice(args) => notice::run(args, common, look),
        Command::Console(args) => server::run(args, common, look),
        Command::Group(args) => group::run(args, common, look),
        Command::Order(args) => order::run(args, common, look),
        Command::Launch(args) => launch::run(args, common, look),
        Command::Settings(args) => settings::run(args, common, look),
        Command::Family(args) => family::run(args, look),
        Command::Catalogue(args) => catalogue::run(args, common, look),
        Command::Docs(args) => docs::show(args, look),
        Command::Man(args) => docs::write_man(args, Cli::command(), look),
        Command::Demo(args) => demo::run(args, look),
        Command::FarEnd => far_end::run(common, look),
        Command::Completions { shell } => {
            let shells = Shells::builtins();
            let mut script = Vec::new();
            if let Some(completer) = shells.completer(&shell.to_string()) {
                // What is written into memory does not fail.
                let _ = completer.write_registration(
                    "COMPLETE",
                    "lantern",
                    "lantern",
                    "lantern",
                    &mut script,
                );
            }
            look.say(String::from_utf8_lossy(&script).trim_end());
            Ok(fail::DONE)
        }
    }
}
