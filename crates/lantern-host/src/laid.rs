//! What was laid outside its own place before lantern came.
//!
//! What a framework put over the server program, and an add-on into folders besides its own, nobody wrote down. Their archive
//! tells, wherever one is on offer: from then on the ledger knows.

use crate::config::Server;
use crate::downloads::Downloads;
use crate::error::Result;
use crate::layers;
use crate::ledger::Ledger;
use crate::release;
use crate::survey::Survey;
use lantern_core::component::{Id, Kind};
use lantern_core::family::{Family, Reader};
use lantern_core::inventory::{ByOwner, Component, Remembered};
use lantern_core::offer::Offer;
use lantern_core::path::RelPath;
use lantern_core::tree::{FileSeen, is_unread};
use std::collections::{BTreeMap, BTreeSet};

/// The installed components of which nobody knows what they laid elsewhere: frameworks, over others; what else has parts, into
/// folders in which something lies that is nobody's.
pub fn unknown<'s>(family: &Family, survey: &'s Survey) -> Vec<&'s Component> {
    let loose = &survey.inventory.unowned;
    let has_loose = |reader: &Reader| {
        let mut parts = reader.parts.iter().filter(|part| !part.own);
        parts.any(|part| {
            let leads = |file: &FileSeen| part.comes_from(file.path.as_str()).is_some();
            loose.iter().any(leads)
        })
    };
    let scattering: BTreeSet<&str> = family
        .readers
        .iter()
        .filter(|reader| has_loose(reader))
        .map(|reader| reader.name.as_str())
        .collect();
    let components = survey.inventory.components.iter();
    let concerned = components.filter(|it| {
        let scatters = scattering.contains(it.reader.as_str());
        it.place.is_some() && (it.facts.kind == Kind::Framework || scatters)
    });
    let known = ByOwner::new(&survey.remembered);
    concerned.filter(|it| !known.knows_laid(it)).collect()
}

/// Learns from the archives of such components what they laid: frameworks, whatever lies there; others, what is nobody's.
/// Returns whether anything was learned, and which frameworks are not whole any more, so that they have to be laid again.
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
    let loose = survey.inventory.unowned.iter();
    let loose: BTreeSet<&RelPath> = loose.map(|file| &file.path).collect();
    let mut rows = BTreeMap::new();
    let mut silent = BTreeSet::new();
    for component in unknown(&server.family, survey) {
        let facts = &component.facts;
        let is_framework = facts.kind == Kind::Framework;
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
            if is_framework {
                let is_there = match hash {
                    Some(mark) if is_unread(mark) => server.folder.hash(&file.path)? == file.hash,
                    known => *known == Some(file.hash.as_str()),
                };
                if is_there {
                    let read = || server.folder.read(&file.path);
                    layers::keep(&server.folder, &file.hash, read)?;
                } else {
                    silent.insert(facts.id.clone());
                }
            } else if !loose.contains(&file.path) {
                continue;
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
