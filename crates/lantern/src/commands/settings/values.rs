//! `lantern settings show`, `set`

use crate::answers;
use crate::commands::{open_settled, open_to_look, plan};
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count};
use lantern_core::path::RelPath;
use lantern_core::settings::Key;
use lantern_host::Result;
use lantern_host::ledger::Ledger;
use lantern_host::planning;

pub fn set(
    file: &str,
    key: &str,
    value: &str,
    now: bool,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "settings set")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let (path, key) = (RelPath::parse(file)?, Key::of(key));
    if now {
        let before = planning::set_at_once(&server, &path, &key, value)?;
        if look.json {
            look.answer(&answers::SettingsSet {
                path,
                key: key.to_string(),
                before,
            });
            return Ok(fail::DONE);
        }
        look.say(&match &before {
            Some(before) if before == value => format!("{path} says so already: {key} is {value}."),
            Some(before) => format!(
                "{path}: {key} is {value}; it was {before}. The server reads it when it starts."
            ),
            None => format!(
                "{path}: {key} is {value}; it was not there. The server reads it when it starts."
            ),
        });
        return Ok(fail::DONE);
    }
    let drawn = planning::set_value(&server, &mut ledger, &path, &key, value)?;
    let nothing = format!("{path} says so already: {key} is {value}.");
    plan::arm_and_show(drawn, &nothing, &server, common, look)
}

pub fn show(file: &str, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let path = RelPath::parse(file)?;
    let values = planning::values(&looked.server, &path)?;
    let text = values.text.as_str();
    let line = |at: usize| text[..at].matches('\n').count() + 1;
    let is_secret = |key| values.manner.is_secret(key);
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
