//! The files of a server folder, each with its one owner.

use super::SurveyArgs;
use crate::answers::{FileRow, Files, Is};
use crate::common::Common;
use crate::look::{Look, bytes, count};
use lantern_core::inventory::{Component, FileState};
use lantern_core::path::RelPath;
use lantern_host::Result;
use lantern_host::config::{FILE, Server};
use lantern_host::difference::{Extent, extent};
use lantern_host::ledger::Ledger;
use lantern_host::planning;
use lantern_host::shipped;
use lantern_host::survey::Survey;
use std::collections::BTreeMap;
use std::path::Path;

/// The file or folder that is meant, where it is no component's id: relative to the server folder, or as it is reached from here.
pub(super) fn meant(text: &str, common: &Common, found: &Survey) -> Option<RelPath> {
    let ids = &found.inventory.components;
    if ids
        .iter()
        .any(|component| component.facts.id.as_str() == text)
    {
        return None;
    }
    let from_here = Path::new(text).strip_prefix(&common.server).ok();
    let texts = from_here.and_then(Path::to_str).into_iter().chain([text]);
    let mut paths = texts.filter_map(|text| RelPath::parse(text.trim_end_matches('/')).ok());
    let is_there = |path: &RelPath| {
        let mut files = found.files.iter().map(|file| &file.path);
        files.any(|file| file.is_within(path))
    };
    paths.find(is_there)
}

/// All files with their owners, by path; missing ones too.
///
/// # Errors
/// When the ledger cannot be read.
pub(super) fn rows<'a>(
    server: &Server,
    ledger: &Ledger,
    found: &'a Survey,
) -> Result<Vec<FileRow<'a>>> {
    let components = &found.inventory.components;
    let mut owned: BTreeMap<&RelPath, (&Component, Is)> = BTreeMap::new();
    let mut rows = Vec::new();
    for component in components {
        let (edited, added, missing): (&[RelPath], &[RelPath], &[RelPath]) = match &component.state
        {
            FileState::Edited { files, added } => (files, added, &[]),
            FileState::PartlyMissing { files } => (&[], &[], files),
            _ => (&[], &[], &[]),
        };
        for file in &component.files {
            let is = if edited.contains(&file.path) {
                Is::Edited
            } else if added.contains(&file.path) {
                Is::Added
            } else if component.state == FileState::New {
                Is::New
            } else {
                Is::AsPut
            };
            owned.insert(&file.path, (component, is));
        }
        rows.extend(missing.iter().map(|path| FileRow {
            path,
            bytes: None,
            owner: Some(component.ledger_name().to_string()),
            is: Is::Missing,
            text_kept: None,
            changed: None,
            kept_as: Vec::new(),
        }));
    }
    let data = |path: &RelPath| {
        let mut holders = components.iter();
        holders.find(|c| {
            c.holdings
                .data
                .as_ref()
                .is_some_and(|d| path.below(d.as_str()).is_some())
        })
    };
    let kept = planning::kept(server)?;
    for file in &found.files {
        let path = file.path.as_str();
        let (owner, is) = match (owned.get(&file.path), data(&file.path)) {
            (Some((component, is)), _) => (Some(*component), *is),
            (None, Some(component)) => (Some(component), Is::Data),
            (None, None) if server.keeps(path) => (None, Is::Kept),
            (None, None) if server.family.passes(path) => (None, Is::Passing),
            (None, None) if path == FILE || server.family.is_settings(path) => (None, Is::Settings),
            (None, None) => {
                let is_order = found.is_order(&file.path);
                (None, if is_order { Is::LoadOrder } else { Is::Unowned })
            }
        };
        let shipped = match is {
            Is::Edited => Some(shipped::text_at(ledger, &found.remembered, &file.path)?),
            _ => None,
        };
        rows.push(FileRow {
            path: &file.path,
            bytes: Some(file.bytes),
            owner: owner.map(|component| component.ledger_name().to_string()),
            text_kept: shipped.as_ref().map(Option::is_some),
            changed: match shipped.flatten() {
                Some(shipped) => extent(server, &file.path, &shipped)?.map(|it| match it {
                    Extent::Values(values) => count(values, "value", "values"),
                    Extent::Places(places) => count(places, "place", "places"),
                }),
                None => None,
            },
            kept_as: kept
                .iter()
                .filter(|kept| kept.patch.path == file.path)
                .map(|kept| kept.name.clone())
                .collect(),
            is,
        });
    }
    rows.sort_by_key(|row| row.path);
    Ok(rows)
}

/// Shows the files that were asked for.
pub(super) fn show(args: &SurveyArgs, rows: Vec<FileRow<'_>>, look: &Look) {
    let asked = |row: &&FileRow<'_>| {
        if args.unowned {
            row.is == Is::Unowned
        } else {
            !args.edited || matches!(row.is, Is::Edited | Is::Added | Is::Missing)
        }
    };
    let rows: Vec<&FileRow<'_>> = rows.iter().filter(asked).collect();
    if look.json {
        look.answer(&Files { files: rows });
        return;
    }
    let what = match (args.unowned, args.edited) {
        (true, _) => "Unowned",
        (_, true) => "Changed since installation",
        _ => "In all",
    };
    let total: u64 = rows.iter().filter_map(|row| row.bytes).sum();
    look.say(&format!(
        "{what}: {}, {}.",
        count(rows.len(), "file", "files"),
        bytes(total)
    ));
    if rows.is_empty() {
        return;
    }
    look.say("");
    let table = rows.iter().map(|row| {
        let word = match row.is {
            Is::AsPut => "",
            Is::New => "new",
            Is::Edited => "edited",
            Is::Added => "added",
            Is::Missing => "gone",
            Is::Data => "its data",
            Is::Kept => "kept",
            Is::Passing => "comes and goes",
            Is::LoadOrder => "load order",
            Is::Settings => "settings",
            Is::Unowned => "unowned",
        };
        vec![
            row.path.to_string(),
            row.bytes.map(bytes).unwrap_or_default(),
            row.owner.clone().unwrap_or_default(),
            match (&row.changed, &row.kept_as[..]) {
                (Some(changed), []) => format!("{word}: {changed}"),
                (Some(changed), kept) => format!("{word}: {changed}, kept as {}", kept.join(", ")),
                (None, _) => word.to_owned(),
            },
        ]
    });
    look.table(&["file", "size", "belongs to", "is"], table.collect());
}
