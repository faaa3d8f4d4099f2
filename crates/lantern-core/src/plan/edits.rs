//! The texts that a plan changes: the load order, and what start scripts pin.

use super::{DrawFault, Payload, Situation, TextEdit};
use crate::catalogue::Offer;
use crate::component::{Id, Kind};
use crate::facts::Facts;
use crate::family::Pin;
use crate::order::{self, Change};
use crate::path::RelPath;
use crate::text::{self, Text};
use std::collections::{BTreeMap, BTreeSet};

/// The server as the plan leaves it.
pub(super) struct Afterwards<'a> {
    /// The add-ons: facts, and whether they run.
    pub(super) addons: &'a BTreeMap<&'a Id, (&'a Facts, bool)>,
    /// Where each component lies.
    pub(super) places: &'a BTreeMap<&'a Id, &'a RelPath>,
    /// What comes.
    pub(super) moving: &'a [(&'a Offer, &'a Payload)],
}

/// Every text that changes, by path, as it will be.
pub(super) fn edits(
    situation: &Situation<'_>,
    after: &Afterwards<'_>,
) -> Result<Vec<(TextEdit, Text)>, DrawFault> {
    let mut becomes: BTreeMap<&RelPath, String> = BTreeMap::new();
    if let Some((path, text)) = situation.order {
        if !text.is_plain() {
            return Err(DrawFault::Unwritable { path: path.clone() });
        }
        becomes.insert(path, load_order(situation, text.as_str(), after)?);
    }
    let scripts = situation.scripts.iter().map(|(path, text)| (path, text));
    for (path, text) in scripts.clone().filter(|(_, text)| text.is_plain()) {
        for pin in &situation.family.pins {
            if !pin.file.matches(path.as_str()) {
                continue;
            }
            let Some(value) = pinned(pin, situation, after) else {
                continue;
            };
            let now = becomes.get(path).map_or(text.as_str(), String::as_str);
            let new = order::set_value(&pin.line, now, &value);
            becomes.insert(path, new);
        }
    }
    let now: BTreeMap<&RelPath, &Text> = scripts.chain(situation.order).collect();
    let mut edits = Vec::new();
    for (path, new) in becomes {
        let now = now[path];
        if new == now.as_str() {
            continue;
        }
        let edit = TextEdit {
            path: path.clone(),
            lines: text::changes(now.as_str(), &new),
        };
        let unwritable = || DrawFault::Unwritable { path: path.clone() };
        edits.push((edit, now.with(new).ok_or_else(unwritable)?));
    }
    Ok(edits)
}

/// What a pin has to be; none when it speaks of something that is not there.
fn pinned(pin: &Pin, situation: &Situation<'_>, after: &Afterwards<'_>) -> Option<String> {
    let mut text = pin.becomes.clone();
    for kind in [Kind::Build, Kind::Framework, Kind::Pack] {
        if !text.contains(&format!("{{{kind}.")) {
            continue;
        }
        let coming = after.moving.iter().map(|(offer, _)| &offer.facts);
        let here = situation.inventory.components.iter().map(|c| &c.facts);
        let facts = coming.chain(here).find(|facts| facts.kind == kind)?;
        let file = after.places.get(&facts.id).map_or("", |place| place.name());
        text = text.replace(&format!("{{{kind}.version}}"), facts.version.as_str());
        text = text.replace(&format!("{{{kind}.file}}"), file);
    }
    Some(text)
}

/// The text of the load-order file as it will be.
fn load_order(
    situation: &Situation<'_>,
    text: &str,
    after: &Afterwards<'_>,
) -> Result<String, DrawFault> {
    let Some(rule) = &situation.family.order else {
        return Ok(text.to_owned());
    };
    let inventory = situation.inventory;
    let arrangement = &inventory.order;
    let flagged = inventory.components.iter().filter(|c| c.on.is_some());
    let gone = flagged.map(|component| &component.facts.id);
    let gone = gone.filter(|id| !after.addons.contains_key(id)).cloned();
    let order = match arrangement.decides {
        false => {
            let running = after.addons.iter().filter(|(_, (_, on))| *on);
            running.map(|(id, _)| (*id).clone()).collect()
        }
        true => {
            // An add-on that a category's entry starts has none of its own.
            let entry_of = |id: &Id| {
                let place = after.places.get(id);
                let by = place.and_then(|place| arrangement.starter(rule, id, place));
                by.map_or(id.clone(), |entry| entry.id.clone())
            };
            let mut wanted: BTreeMap<Id, BTreeSet<Id>> = BTreeMap::new();
            let running = after.addons.values().filter(|(_, on)| *on);
            for (id, follows) in order::must_follow(running.map(|(facts, _)| *facts)) {
                let entry = entry_of(&id);
                let follows = follows.iter().map(&entry_of).filter(|f| *f != entry);
                let follows: BTreeSet<Id> = follows.collect();
                wanted.entry(entry).or_default().extend(follows);
            }
            let current: Vec<Id> = arrangement.ids().cloned().collect();
            // An entry for something that is not installed is the administrator's own affair.
            for id in current.iter().filter(|id| inventory.get(id).is_none()) {
                wanted.entry(id.clone()).or_default();
            }
            order::arrange(&wanted, &current)?
        }
    };
    let change = Change {
        order: &order,
        gone: &gone.collect(),
    };
    Ok(rule.kind.form().rewritten(rule, text, change))
}
