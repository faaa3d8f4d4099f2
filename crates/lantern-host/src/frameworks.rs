//! Frameworks that were laid over the server program before lantern came.
//!
//! What is theirs of the program's folders nobody wrote down. Their archive tells, wherever one is on offer: from then on the
//! ledger knows.

use crate::config::Server;
use crate::downloads::Downloads;
use crate::error::Result;
use crate::layers;
use crate::ledger::Ledger;
use crate::release;
use crate::survey::Survey;
use lantern_core::component::{Id, Kind};
use lantern_core::inventory::{Component, Remembered, laid_over};
use lantern_core::offer::Offer;
use lantern_core::path::RelPath;
use std::collections::{BTreeMap, BTreeSet};

/// The installed frameworks of which nobody knows what they laid over others.
pub fn unknown(survey: &Survey) -> Vec<&Component> {
    let components = survey.inventory.components.iter();
    let frameworks = components.filter(|c| c.facts.kind == Kind::Framework && c.place.is_some());
    frameworks
        .filter(|component| !laid_over(component, &survey.remembered))
        .collect()
}

/// Learns from the archives of installed frameworks what they laid. Returns whether anything was learned, and which of them
/// are not whole any more, so that they have to be laid again.
///
/// # Errors
/// When the ledger cannot be written, or a file cannot be kept. An archive that cannot be read teaches nothing: a plan tells
/// of it.
pub fn learn(
    server: &Server,
    ledger: &Ledger,
    survey: &Survey,
    offers: &[Offer],
    downloads: &Downloads<'_>,
) -> Result<(bool, BTreeSet<Id>)> {
    let here = survey.files.iter();
    let here: BTreeMap<&RelPath, Option<&str>> = here
        .map(|file| (&file.path, file.hash.as_deref()))
        .collect();
    let mut rows = BTreeMap::new();
    let mut silent = BTreeSet::new();
    for component in unknown(survey) {
        let facts = &component.facts;
        let same =
            |offer: &&Offer| offer.facts.id == facts.id && offer.facts.version == facts.version;
        let Some(offer) = offers.iter().find(same) else {
            continue;
        };
        let variants = BTreeMap::new();
        let payload = release::payload(
            &server.family,
            offer,
            Some(component),
            &variants,
            &|_| false,
            downloads,
        );
        let Ok(payload) = payload else {
            continue;
        };
        let outside = payload.files.iter().filter(|file| {
            let place = component.place.as_ref();
            place.is_none_or(|place| file.path.below(place.as_str()).is_none())
        });
        for file in outside {
            let Some(hash) = here.get(&file.path) else {
                continue;
            };
            match *hash == Some(file.hash.as_str()) {
                true => layers::keep(&server.folder, &file.hash, || {
                    server.folder.read(&file.path)
                })?,
                false => {
                    silent.insert(facts.id.clone());
                }
            }
            let known = Remembered {
                owner: Some(component.ledger_name()),
                version: Some(facts.version.to_string()),
                hash: file.hash.clone(),
                shipped: true,
                under: None,
            };
            rows.insert(file.path.clone(), Some(known));
        }
    }
    if !rows.is_empty() {
        ledger.put(&rows)?;
    }
    Ok((!rows.is_empty(), silent))
}
