//! The server as a plan will leave it: where the plan for the next stop begins.

use super::{Action, ActionKind, ComponentChange, Fate, Payload, Plan};
use crate::component::{Id, Kind, Runs, Side};
use crate::descriptor::Holdings;
use crate::facts::Facts;
use crate::flags::NamedHashes;
use crate::inventory::{
    Beneath, Component, FileState, Inventory, Remembered, VersionFrom, ledger_name,
};
use crate::offer::Offer;
use crate::order::Arrangement;
use crate::path::RelPath;
use crate::resolve::Selection;
use crate::supply::{Checksum, HashKind};
use crate::tree::FileSeen;
use std::collections::{BTreeMap, BTreeSet};

/// The hashes of files that settings name, as a plan with these actions leaves them; `is_named` says of which files they may name one.
pub fn hashes_after<'a>(
    now: &NamedHashes,
    coming: impl Iterator<Item = &'a Payload>,
    actions: impl Iterator<Item = &'a Action>,
    is_named: impl Fn(&RelPath) -> bool,
) -> NamedHashes {
    let coming: BTreeMap<&RelPath, &Vec<Checksum>> =
        coming.flat_map(|payload| &payload.hashes).collect();
    let mut then = now.clone();
    for action in actions.filter(|action| is_named(&action.path)) {
        let path = &action.path;
        let Some(after) = &action.after else {
            then.remove(path);
            continue;
        };
        let is_it = |taken: &&Vec<Checksum>| {
            let mut taken = taken.iter();
            taken.any(|it| it.kind == HashKind::Blake3 && it.hex == *after)
        };
        let known = coming.get(path).copied().into_iter().chain(now.get(path));
        let taken = known.clone().find(is_it).cloned();
        then.insert(path.clone(), taken.unwrap_or_default());
    }
    then
}

/// What the ledger will know that it did not know before, by path.
///
/// What a plan sets aside and nothing takes the place of is to be forgotten.
pub fn remembered_after(
    plan: &Plan,
    before: &BTreeMap<RelPath, Remembered>,
) -> Vec<(RelPath, Remembered)> {
    let mut changes: BTreeMap<&Id, &ComponentChange> = BTreeMap::new();
    for change in &plan.components {
        changes.entry(&change.id).or_insert(change);
    }
    let version_of = |id: &Id| changes.get(id)?.to.clone();
    let edited: BTreeSet<&RelPath> = plan.edits.iter().map(|edit| &edit.path).collect();
    let known = plan.actions.iter().filter(|action| {
        let falls_to = action.what == ActionKind::Keep && action.shipped.is_some();
        action.source.is_some()
            || action.under.is_some()
            || falls_to
            || action.what == ActionKind::Edit
    });
    let unchanged = plan.components.iter();
    let unchanged = unchanged.filter(|change| change.verdict == Fate::Unchanged);
    let unchanged: BTreeSet<&Id> = unchanged.map(|change| &change.id).collect();
    let renamed = plan.renames.iter().filter(|it| unchanged.contains(&it.id));
    let renamed: BTreeMap<&str, &RelPath> = renamed.map(|it| (it.to.as_str(), &it.from)).collect();
    // What a file was called that only gets another name: what is known of it stays known.
    let former = |path: &RelPath| {
        let path = path.as_str();
        if let Some(from) = renamed.get(path) {
            return Some((*from).clone());
        }
        let folders = path.match_indices('/').map(|(at, _)| at);
        folders.rev().find_map(|at| {
            let from = renamed.get(&path[..at])?;
            from.join(&path[at + 1..]).ok()
        })
    };
    let known = known.filter(|action| former(&action.path).is_none());
    let known = known.map(|action| {
        let old = before.get(&action.path);
        let owner = action.component.as_ref().map(|id| match &action.member {
            Some(member) => ledger_name(member, Some(id)),
            None => id.clone(),
        });
        let version = action.component.as_ref().and_then(version_of);
        // What is changed as it comes is nobody's edit.
        let comes = matches!(action.what, ActionKind::Place | ActionKind::Replace);
        let is_as_put = comes && edited.contains(&action.path);
        let shipped = action.shipped.as_ref().filter(|_| !is_as_put);
        let hash = shipped.or(action.after.as_ref());
        let remembered = Remembered {
            owner,
            version: version.or_else(|| old?.version.clone()),
            hash: hash.cloned().unwrap_or_default(),
            shipped: match action.source {
                Some(_) => action.what != ActionKind::Edit || action.shipped.is_some(),
                None => old.is_some_and(|known| known.shipped),
            },
            under: action.under.as_ref().map(|under| Beneath {
                owner: under.component.clone(),
                version: under.version.clone(),
                hash: under.hash.clone(),
            }),
        };
        (action.path.clone(), remembered)
    });
    let same = plan.actions.iter().filter_map(|action| {
        let known = before.get(&former(&action.path)?)?;
        Some((action.path.clone(), known.clone()))
    });
    known.chain(same).collect()
}

/// The inventory and the files after a plan has been carried out.
///
/// `order` is the load order as the plan leaves it, and `server` which of several this is. Findings are left out: they are
/// for a survey to make.
pub fn afterwards(
    before: &Inventory,
    plan: &Plan,
    selection: &Selection,
    offers: &[Offer],
    payloads: &BTreeMap<usize, Payload>,
    order: Arrangement,
    server: Option<&str>,
) -> (Inventory, Vec<FileSeen>) {
    let stay = plan
        .actions
        .iter()
        .filter(|action| action.what != ActionKind::SetAside);
    let files = stay.map(|action| FileSeen {
        path: action.path.clone(),
        bytes: action.bytes,
        hash: action.after.clone(),
    });
    let files: Vec<FileSeen> = files.collect();
    let moved = selection
        .choices
        .iter()
        .filter(|choice| choice.offer.is_some());
    let mut away: BTreeSet<&Id> = moved.map(|choice| &choice.id).collect();
    away.extend(selection.gone.iter().map(|gone| &gone.id));
    let left = |component: &&Component| {
        let whole = component.group.as_ref().unwrap_or(&component.facts.id);
        !away.contains(whole)
    };
    let renames = plan.renames.iter();
    let renames: BTreeMap<_, _> = renames.map(|it| ((&it.id, &it.from), &it.to)).collect();
    let moved_to = |id: &Id, place: &RelPath| {
        let to = renames.get(&(id, place)).copied();
        to.unwrap_or(place).clone()
    };
    let mut components: Vec<Component> = before.components.iter().filter(left).cloned().collect();
    for component in &mut components {
        let Some(place) = component.place.clone() else {
            continue;
        };
        let to = moved_to(&component.facts.id, &place);
        for file in &mut component.files {
            let below = file.path.below(place.as_str()).map(|rest| to.join(rest));
            let alone = || moved_to(&component.facts.id, &file.path);
            file.path = below.and_then(Result::ok).unwrap_or_else(alone);
        }
        component.place = Some(to);
    }
    let mut files_of: BTreeMap<(&Id, Option<&Id>), Vec<FileSeen>> = BTreeMap::new();
    for action in &plan.actions {
        if let (Some(id), true) = (&action.component, action.what != ActionKind::SetAside) {
            let own = files_of.entry((id, action.member.as_ref())).or_default();
            own.push(FileSeen {
                path: action.path.clone(),
                bytes: action.bytes,
                hash: action.after.clone(),
            });
        }
    }
    let expected = plan.expects.iter();
    let expected = expected.filter(|it| it.server.as_deref() == server);
    let expected: BTreeSet<&Id> = expected.map(|it| &it.id).collect();
    for choice in &selection.choices {
        let Some((offer, payload)) = choice
            .offer
            .and_then(|o| Some((&offers[o], payloads.get(&o)?)))
        else {
            continue;
        };
        let id = &offer.facts.id;
        let of = |member: Option<&Id>| files_of.get(&(id, member)).cloned().unwrap_or_default();
        let installed = |facts: &Facts, place, shape, files, group: Option<Id>| Component {
            place: Some(place),
            shape,
            reader: payload.reader.clone(),
            files,
            runs: match payload.runs {
                _ if facts.kind != Kind::Addon || facts.side == Some(Side::Client) => Runs::Unsaid,
                Runs::On | Runs::Off => Runs::switched(expected.contains(&facts.id)),
                other => other,
            },
            holdings: match &group {
                Some(_) => Holdings::default(),
                None => payload.holdings.clone(),
            },
            group,
            started_by: None,
            silenced: BTreeMap::new(),
            state: FileState::AsShipped,
            version_from: match facts.version.is_content() {
                true => VersionFrom::Content,
                false => VersionFrom::Descriptor,
            },
            facts: facts.clone(),
        };
        components.push(installed(
            &offer.facts,
            moved_to(id, &payload.place),
            payload.shape,
            of(None),
            None,
        ));
        for member in &payload.members {
            let files = of(Some(&member.facts.id));
            components.push(installed(
                &member.facts,
                member.place.clone(),
                member.shape,
                files,
                Some(id.clone()),
            ));
        }
    }
    components.sort_by(|a, b| {
        (a.facts.kind, &a.facts.id, &a.place).cmp(&(b.facts.kind, &b.facts.id, &b.place))
    });
    let unowned = before.unowned.clone();
    let inventory = Inventory {
        components,
        findings: Vec::new(),
        unowned,
        order,
    };
    (inventory, files)
}
