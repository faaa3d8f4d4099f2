//! `lantern client`

mod check;
mod list;
mod who;
mod write;

pub use who::tell_changes;

use super::armed::choose;
use super::open_to_look;
use crate::candidates;
use crate::common::Common;
use crate::fail;
use crate::look::Look;
use crate::progress::during;
use check::AgainstArgs;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use lantern_host::Result;
use lantern_host::clients::{self, Listed};
use lantern_host::config::Server;
use lantern_host::ledger::Ledger;
use lantern_host::survey::{Depth, survey};
use std::path::PathBuf;
use write::WriteArgs;

/// Show which players may join, and show or pack what their clients must have
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern client who --plan\n  lantern client list\n  lantern client pack --out client.zip --since 5.1\n  lantern client check ~/verdance --list client.zip\n  lantern client write --as page --out join.html"
)]
pub struct ClientArgs {
    #[command(subcommand)]
    command: ClientCommand,
}

#[derive(Debug, Subcommand)]
enum ClientCommand {
    /// Show which kinds and versions of client may join
    Who {
        /// What a plan changes in that: the armed one, or this file
        #[arg(long, value_name = "PLAN", num_args = 0..=1)]
        plan: Option<Option<String>>,
    },
    /// List exactly what a client must have, may have, and must not have
    List {
        #[command(flatten)]
        which: WhichArgs,
    },
    /// Pack it into an archive
    Pack {
        #[command(flatten)]
        which: WhichArgs,
        /// The archive
        #[arg(long, value_name = "FILE.zip")]
        out: PathBuf,
        /// Only what has changed since this server version, or since an earlier list or pack
        #[arg(long, value_name = "VERSION|FILE")]
        since: Option<String>,
    },
    /// Write the list for other programs or for people
    Write {
        #[command(flatten)]
        which: WhichArgs,
        #[command(flatten)]
        how: WriteArgs,
    },
    /// Hold a player's folder against what it must have
    Check {
        /// The folder, an archive of it, what --make-list wrote, or a file with the message of a mismatch
        #[arg(value_name = "DIR|ARCHIVE|LIST")]
        what: PathBuf,
        #[command(flatten)]
        against: AgainstArgs,
        /// Only write down what the folder has, so that somebody else can hold it against a list
        #[arg(long, value_name = "FILE")]
        make_list: Option<PathBuf>,
    },
    /// Explain the message of a mismatch
    Explain {
        /// What the client or the server said
        #[arg(value_name = "TEXT")]
        text: String,
        #[command(flatten)]
        against: AgainstArgs,
    },
}

/// Which clients are meant, and when.
#[derive(Debug, Args)]
struct WhichArgs {
    /// The kind of client; otherwise the server's own
    #[arg(long, value_name = "KIND", add = ArgValueCandidates::new(candidates::client_kinds))]
    kind: Option<String>,
    /// As a plan leaves it: the armed one, or this file
    #[arg(long, value_name = "PLAN", num_args = 0..=1)]
    plan: Option<Option<String>>,
}

impl WhichArgs {
    /// What they must have.
    fn listed(&self, server: &Server) -> Result<Listed> {
        let kind = self.kind.as_deref();
        if let Some(named) = &self.plan {
            let chosen = choose(named.as_deref(), false, server)?;
            return clients::planned(server, &chosen.plan, kind);
        }
        let mut ledger = Ledger::open(&server.folder)?;
        let found = during("files are read", || {
            survey(server, &mut ledger, Depth::Usual)
        })?;
        clients::listed(server, &found.inventory, kind)
    }

    /// The options again, for a command line to paste.
    fn words(&self) -> String {
        let kind = self.kind.iter().map(|kind| format!(" --kind {kind}"));
        let plan = self.plan.iter().map(|plan| match plan {
            Some(plan) => format!(" --plan {plan}"),
            None => " --plan".into(),
        });
        kind.chain(plan).collect()
    }
}

/// Tells of players and their clients.
pub fn run(args: &ClientArgs, common: &Common, look: &Look) -> Result<u8> {
    match &args.command {
        ClientCommand::Check {
            what,
            against,
            make_list,
        } => return check::check(what, against, make_list.as_deref(), common, look),
        ClientCommand::Explain { text, against } => {
            return check::explain(text, against, common, look);
        }
        _ => {}
    }
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    match &args.command {
        ClientCommand::Check { .. } | ClientCommand::Explain { .. } => {}
        ClientCommand::Who { plan: Some(named) } => who::planned(named.as_deref(), server, look)?,
        ClientCommand::Who { plan: None } => {
            let mut ledger = Ledger::open(&server.folder)?;
            let found = during("files are read", || {
                survey(server, &mut ledger, Depth::Usual)
            })?;
            who::now(server, &found.inventory, common, look);
        }
        ClientCommand::List { which } => {
            let listed = which.listed(server)?;
            list::show(&listed, which, common, look);
        }
        ClientCommand::Write { which, how } => write::run(server, which, how, common, look)?,
        ClientCommand::Pack { which, out, since } => {
            list::pack(server, which, out, since.as_deref(), look)?;
        }
    }
    Ok(looked.status(fail::DONE))
}
