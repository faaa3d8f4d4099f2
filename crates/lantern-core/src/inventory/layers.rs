//! Who owns a file where several layers lay claim to it.
//!
//! A reader claims a place and all in it. Over that goes what the ledger knows: a file that a
//! component put into another one's place is its own as long as it is what it put there. Over that
//! goes what a component's descriptor says that it holds elsewhere.

use super::{Component, Evidence, FileState, Remembered, VersionFrom, ledger_name};
use crate::component::{Id, Kind};
use crate::family::{Family, Glob};
use crate::path::RelPath;
use crate::tree::{Claims, FileSeen};
use crate::version::Version;
use std::collections::{BTreeMap, BTreeSet};

/// Gives each file its one owner, tells members their packs, and compares all with the ledger.
pub(super) fn settle(
    components: &mut [Component],
    family: &Family,
    claims: &Claims<'_>,
    evidence: &Evidence<'_>,
) {
    members(components, evidence);
    let names: BTreeMap<Id, usize> = components
        .iter()
        .enumerate()
        .map(|(index, component)| (component.ledger_name(), index))
        .collect();
    let by_path: BTreeMap<&RelPath, &FileSeen> = evidence
        .files
        .iter()
        .map(|file| (&file.path, file))
        .collect();
    let mut claimed: BTreeMap<RelPath, usize> = BTreeMap::new();
    for (index, component) in components.iter().enumerate() {
        claimed.extend(
            component
                .files
                .iter()
                .map(|file| (file.path.clone(), index)),
        );
    }
    // Path, the component that lays claim to it, and the hash that it put there.
    let mut laid: Vec<(RelPath, usize, String)> = Vec::new();
    for (path, known) in evidence.remembered {
        if let Some(index) = known.owner.as_ref().and_then(|owner| names.get(owner))
            && claimed.get(path) != Some(index)
        {
            laid.push((path.clone(), *index, known.hash.clone()));
        }
    }
    for (index, component) in components.iter().enumerate() {
        for (path, hash) in &component.holdings.overlay {
            let known = laid.iter().any(|(other, ..)| other == path);
            if !known && claimed.get(path) != Some(&index) {
                laid.push((path.clone(), index, hash.clone()));
            }
        }
    }
    for (path, index, hash) in laid {
        let Some(file) = by_path.get(&path) else {
            // What is gone is told by the comparison with the ledger.
            continue;
        };
        let below = claimed.get(&path).copied();
        let active = hash.is_empty() || file.hash.as_ref() == Some(&hash);
        match below {
            Some(_) if !active => {
                components[index].silenced.insert(path, hash);
            }
            Some(below) => {
                components[below].files.retain(|file| file.path != path);
                components[index].files.push((*file).clone());
                claimed.insert(path, index);
            }
            None => {
                components[index].files.push((*file).clone());
                claimed.insert(path, index);
            }
        }
    }
    owned_paths(components, family, claims, evidence, &mut claimed);
    let foreign: BTreeSet<RelPath> = components
        .iter()
        .flat_map(|component| component.silenced.keys().cloned())
        .collect();
    for component in components.iter_mut() {
        component.files.sort_by(|a, b| a.path.cmp(&b.path));
        // What the server writes into a pack by the pack's own leave is no edit.
        let kept = component.holdings.keep.iter();
        let kept: Vec<Glob> = kept.filter_map(|text| Glob::new(text).ok()).collect();
        let is_kept = |path: &RelPath| kept.iter().any(|glob| glob.matches(path.as_str()));
        component.state = state_of(
            &component.ledger_name(),
            component.files.iter().filter(|file| !is_kept(&file.path)),
            |path| foreign.contains(path) || is_kept(path),
            evidence.remembered,
        );
        if component.version_from == VersionFrom::Content
            && component.state == FileState::AsShipped
            && let Some(version) = put_version(family, component, evidence.remembered)
        {
            component.version_from = VersionFrom::Ledger;
            component.facts.version = version;
        }
    }
}

/// Tells add-ons which pack they are members of: as the ledger knows, or the pack itself says.
fn members(components: &mut [Component], evidence: &Evidence<'_>) {
    let packs: Vec<(Id, BTreeSet<Id>)> = components
        .iter()
        .filter(|component| component.facts.kind == Kind::Pack)
        .map(|pack| {
            let members = pack.holdings.members.iter().cloned().collect();
            (pack.facts.id.clone(), members)
        })
        .collect();
    for component in components.iter_mut() {
        if component.group.is_some() || component.facts.kind == Kind::Pack {
            continue;
        }
        let first = component.files.first();
        let known = first.and_then(|file| evidence.remembered.get(&file.path));
        let owner = known.and_then(|known| known.owner.as_ref());
        let id = &component.facts.id;
        let pack = packs.iter().find(|(pack, members)| match owner {
            Some(owner) if known.is_some_and(|known| known.shipped) => {
                *owner == ledger_name(id, Some(pack))
            }
            _ => members.contains(id),
        });
        component.group = pack.map(|(pack, _)| pack.clone());
    }
}

/// Gives a component what nobody else claims in the paths that are all its own.
fn owned_paths(
    components: &mut [Component],
    family: &Family,
    claims: &Claims<'_>,
    evidence: &Evidence<'_>,
    claimed: &mut BTreeMap<RelPath, usize>,
) {
    let order = evidence.order.map(|(path, _)| path);
    for (index, component) in components.iter_mut().enumerate() {
        for owned in component.holdings.owns.clone() {
            for (number, file) in evidence.files.iter().enumerate() {
                let path = file.path.as_str();
                let inside = file.path == owned || file.path.below(owned.as_str()).is_some();
                let free = claims.owner[number].is_none() && !claimed.contains_key(&file.path);
                let kept = family.keeps(path) || family.passes(path) || order == Some(&file.path);
                if inside && free && !kept {
                    component.files.push(file.clone());
                    claimed.insert(file.path.clone(), index);
                }
            }
        }
    }
}

/// The version that the ledger knows for files just as they were put there.
fn put_version(
    family: &Family,
    component: &Component,
    remembered: &BTreeMap<RelPath, Remembered>,
) -> Option<Version> {
    let text = remembered
        .get(&component.files.first()?.path)?
        .version
        .as_deref()?;
    let version = family.versions.version(component.facts.kind, text).ok()?;
    (!version.is_content()).then_some(version)
}

/// `apart` says which files do not count where they are gone or were not shipped.
fn state_of<'f>(
    owner: &Id,
    files: impl Iterator<Item = &'f FileSeen>,
    apart: impl Fn(&RelPath) -> bool,
    remembered: &BTreeMap<RelPath, Remembered>,
) -> FileState {
    let files: Vec<&FileSeen> = files.collect();
    let ours = |path: &RelPath| {
        let known = remembered.get(path)?;
        (known.owner.as_ref() == Some(owner)).then_some(known)
    };
    let known = remembered
        .iter()
        .filter(|(_, r)| r.owner.as_ref() == Some(owner));
    let here: BTreeSet<&RelPath> = files.iter().map(|file| &file.path).collect();
    let missing: Vec<RelPath> = known
        .map(|(path, _)| path)
        .filter(|path| !here.contains(path) && !apart(path))
        .cloned()
        .collect();
    if files.iter().all(|file| ours(&file.path).is_none()) {
        return FileState::New;
    }
    let paths_where = |is: &dyn Fn(&FileSeen, Option<&Remembered>) -> bool| -> Vec<RelPath> {
        let those = files.iter().filter(|file| is(file, ours(&file.path)));
        those.map(|file| file.path.clone()).collect()
    };
    let added = paths_where(&|file, known| known.is_none() && !apart(&file.path));
    let edited = paths_where(&|file, known| {
        known.is_some_and(|known| Some(&known.hash) != file.hash.as_ref())
    });
    if !missing.is_empty() {
        FileState::PartlyMissing { files: missing }
    } else if !edited.is_empty() || !added.is_empty() {
        FileState::Edited {
            files: edited,
            added,
        }
    } else if files
        .iter()
        .filter(|file| !apart(&file.path))
        .all(|file| ours(&file.path).is_some_and(|known| known.shipped))
    {
        FileState::AsShipped
    } else {
        FileState::AsAdopted
    }
}
