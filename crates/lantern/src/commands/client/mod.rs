//! `lantern client`

mod who;

pub use who::tell_changes;

use super::open_to_look;
use crate::answers::Clients;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use crate::progress::during;
use clap::{Args, Subcommand};
use lantern_core::clients::{ClientList, list};
use lantern_core::component::Id;
use lantern_host::Result;
use lantern_host::client_pack;
use lantern_host::ledger::Ledger;
use lantern_host::survey::{Depth, survey};
use std::path::PathBuf;

/// Show which players may join, and show or pack what their clients must have
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern client who --plan\n  lantern client list\n  lantern client pack --out client.zip"
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
    /// List exactly what a client must have
    List,
    /// Pack it into an archive
    Pack {
        /// The archive
        #[arg(long, value_name = "FILE.zip")]
        out: PathBuf,
    },
}

/// Lists or packs what clients must have.
pub fn run(args: &ClientArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    if let ClientCommand::Who { plan: Some(named) } = &args.command {
        who::planned(named.as_deref(), server, look)?;
        return Ok(looked.status(fail::DONE));
    }
    let mut ledger = Ledger::open(&server.folder)?;
    let found = during("files are read", || {
        survey(server, &mut ledger, Depth::Usual)
    })?;
    let list = list(&found.inventory);
    match &args.command {
        ClientCommand::Who { .. } => who::now(server, &found.inventory, common, look),
        ClientCommand::List => {
            if look.json {
                look.answer(&Clients {
                    client: &list,
                    out: None,
                    bytes: None,
                });
                return Ok(looked.status(fail::DONE));
            }
            show(look, &server.config.name, &list);
            look.next(&common.next("client pack --out client.zip"));
        }
        ClientCommand::Pack { out } => {
            let written = client_pack::write(server, &list, out)?;
            if look.json {
                look.answer(&Clients {
                    client: &list,
                    out: Some(out),
                    bytes: Some(written),
                });
                return Ok(looked.status(fail::DONE));
            }
            look.say(&look.paint(
                Means::Title,
                &format!(
                    "{}: {}, {}.",
                    shell_word(out),
                    count(list.items.len(), "component", "components"),
                    bytes(written)
                ),
            ));
            look.say(&format!(
                "  {} inside lists exactly what it contains. Give it to the players.",
                client_pack::LIST
            ));
            unknown(look, &list);
        }
    }
    Ok(looked.status(fail::DONE))
}

fn show(look: &Look, server: &str, list: &ClientList) {
    let version = list.server_version.as_deref().unwrap_or("unknown");
    look.say(&look.paint(
        Means::Title,
        &format!(
            "To join {server}, a client of version {version} must have {}:",
            count(list.items.len(), "component", "components")
        ),
    ));
    look.say("");
    let rows = list.items.iter().map(|item| {
        let size = item.files.iter().map(|file| file.bytes).sum();
        let hash = item
            .files
            .first()
            .map_or(String::new(), |file| file.blake3.chars().take(16).collect());
        vec![
            item.id.to_string(),
            item.version.clone(),
            item.place.to_string(),
            bytes(size),
            hash,
        ]
    });
    look.table(
        &["id", "version", "where", "size", "blake3"],
        rows.collect(),
    );
    unknown(look, list);
}

fn unknown(look: &Look, list: &ClientList) {
    if !list.unknown.is_empty() {
        let ids: Vec<&str> = list.unknown.iter().map(Id::as_str).collect();
        let text = format!(
            "  unknown whether clients need it, as nobody declared it: {}",
            ids.join(", ")
        );
        look.say(&look.paint(Means::Caution, &text));
    }
}
