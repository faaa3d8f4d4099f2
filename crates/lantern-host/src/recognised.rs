//! Files that state no version, and are known by a hash that somebody else states of a release.
//!
//! What was recognised once the ledger knows from then on: nobody has to be asked again.

use crate::config::Server;
use crate::depot::Depot;
use crate::error::{At, Result};
use crate::ledger::Ledger;
use crate::survey::Survey;
use lantern_core::inventory::{Component, Remembered, VersionFrom};
use std::collections::BTreeMap;

/// The installed components of one file whose version nobody states.
pub fn unknown(survey: &Survey) -> Vec<&Component> {
    let components = survey.inventory.components.iter();
    let unknown = components.filter(|it| it.version_from == VersionFrom::Content);
    unknown.filter(|it| it.files.len() == 1).collect()
}

/// What was recognised.
#[derive(Debug, Default)]
pub struct Recognised {
    /// Whether the ledger knows more than before.
    pub learned: bool,
    /// What is listed under another id than it is known by here: where, and what to do.
    pub called_otherwise: Vec<(String, String)>,
}

/// Looks for installed files among the releases that are on offer, by whatever hash is stated of those.
///
/// # Errors
/// When a file cannot be read, or the ledger cannot be written.
pub fn learn(
    server: &Server,
    ledger: &Ledger,
    survey: &Survey,
    depot: &Depot,
) -> Result<Recognised> {
    let mut rows = BTreeMap::new();
    let mut recognised = Recognised::default();
    for component in unknown(survey) {
        let Some(seen) = component.files.first() else {
            continue;
        };
        let Some(hash) = &seen.hash else {
            continue;
        };
        let mut file = server.folder.open_file(&seen.path)?;
        let known = depot.known_by_others(&mut file, &server.family);
        let known = known.at("reading", &server.folder.shown(&seen.path))?;
        let Some(known) = known else {
            continue;
        };
        let (id, theirs) = (&component.facts.id, &known.facts.id);
        if id != theirs {
            let why = format!(
                "it is listed as {theirs} {}, and counts as another component; where that is somebody's listing, \
                 {id} = \"{theirs}\" under [ids] in lantern.toml says that it is the same",
                known.facts.version
            );
            recognised
                .called_otherwise
                .push((seen.path.to_string(), why));
            continue;
        }
        let known = Remembered {
            owner: Some(component.ledger_name()),
            version: Some(known.facts.version.to_string()),
            hash: hash.clone(),
            shipped: true,
            under: None,
        };
        rows.insert(seen.path.clone(), Some(known));
    }
    if !rows.is_empty() {
        ledger.put(&rows)?;
        recognised.learned = true;
    }
    Ok(recognised)
}
