//! `lantern settings`

use super::{open_settled, open_to_look, plan};
use crate::answers;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count};
use clap::{Args, Subcommand};
use lantern_core::path::RelPath;
use lantern_core::settings::{Key, is_secret};
use lantern_host::Result;
use lantern_host::ledger::Ledger;
use lantern_host::planning;

/// Show the values of a settings file by key, and set one through a plan
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern settings show garden.toml\n  lantern settings set garden.toml gate.seats 30"
)]
pub struct SettingsArgs {
    #[command(subcommand)]
    what: SettingsCommand,
}

#[derive(Debug, Subcommand)]
enum SettingsCommand {
    /// Show every value with its key and line; secrets are not shown
    Show {
        /// The file, relative to the server folder
        file: String,
    },
    /// Plan to set a value, or to add it: all else in the file stays, byte for byte
    Set {
        /// The file, relative to the server folder
        file: String,
        /// The key, with dots between its names: gate.seats; a name with dots in it in double quotes
        key: String,
        /// What it is to say
        #[arg(allow_hyphen_values = true)]
        value: String,
    },
}

/// Shows a settings file, or plans to set a value in it.
pub fn run(args: &SettingsArgs, common: &Common, look: &Look) -> Result<u8> {
    match &args.what {
        SettingsCommand::Show { file } => show(file, common, look),
        SettingsCommand::Set { file, key, value } => set(file, key, value, common, look),
    }
}

fn set(file: &str, key: &str, value: &str, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, "settings set")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let (path, key) = (RelPath::parse(file)?, Key::of(key));
    let drawn = planning::set_value(&server, &mut ledger, &path, &key, value)?;
    let nothing = format!("{path} says so already: {key} is {value}.");
    plan::arm_and_show(drawn, &nothing, &server, common, look)
}

fn show(file: &str, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let path = RelPath::parse(file)?;
    let values = planning::values(&looked.server, &path)?;
    let text = values.text.as_str();
    let line = |at: usize| text[..at].matches('\n').count() + 1;
    let rows: Vec<answers::SettingsValue> = values
        .entries
        .iter()
        .map(|entry| answers::SettingsValue {
            key: entry.key.to_string(),
            says: (!is_secret(&entry.key)).then(|| entry.says.clone()),
            line: line(entry.value.start),
        })
        .collect();
    let status = looked.status(fail::DONE);
    if look.json {
        look.answer(&answers::SettingsShown { path, values: rows });
        return Ok(status);
    }
    let many = count(rows.len(), "value", "values");
    look.say(&look.paint(Means::Title, &format!("{path}: {many}.")));
    if rows.is_empty() {
        return Ok(status);
    }
    look.say("");
    let rows = rows.into_iter().map(|row| {
        let says = row.says.unwrap_or_else(|| "(a secret)".into());
        vec![row.line.to_string(), row.key, says]
    });
    look.table(&["line", "key", "says"], rows.collect());
    Ok(status)
}
