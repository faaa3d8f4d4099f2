//! One line for each add-on; the order of the lines is the load order.

use super::{Change, Form, OrderEntry, naming};
use crate::component::Id;
use crate::family::OrderRule;
use crate::text::Lines;
use std::collections::{BTreeMap, BTreeSet};

/// Lines in order.
pub(super) struct Sequence;

impl Form for Sequence {
    fn groups(&self) -> &'static [&'static str] {
        &["id"]
    }

    fn decides(&self) -> bool {
        true
    }

    fn entries(&self, rule: &OrderRule, text: &str) -> Vec<OrderEntry> {
        let mut entries: Vec<OrderEntry> = naming(rule, text).collect();
        let on: BTreeSet<Id> = entries.iter().map(|entry| entry.id.clone()).collect();
        let off = parked(rule, text).into_iter();
        entries.extend(
            off.filter(|(id, _)| !on.contains(id))
                .map(|(_, entry)| entry),
        );
        entries.sort_by_key(|entry| entry.line);
        entries
    }

    /// Lines that name no add-on keep their places. The line of one that is switched off is parked, where the family says
    /// how, and comes back as it was when that is switched on again. Where the add-ons that are there already stand in a good relative
    /// order, no line moves: new lines are put in behind the add-on they come after. Otherwise the add-on lines change
    /// places among themselves, each with all that it says.
    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        let order = change.order;
        let present: Vec<OrderEntry> = naming(rule, text).collect();
        let wanted: BTreeSet<&Id> = order.iter().collect();
        let mut words: BTreeMap<&Id, &str> = BTreeMap::new();
        // The first line of each wanted add-on stays; others and doubles go.
        let mut stays: Vec<&OrderEntry> = Vec::new();
        for entry in present.iter().filter(|entry| wanted.contains(&entry.id)) {
            if words.insert(&entry.id, &entry.words).is_none() {
                stays.push(entry);
            }
        }
        for entry in &stays {
            words.insert(&entry.id, &entry.words);
        }
        let kept_order = order.iter().filter(|id| words.contains_key(id));
        let mut becomes: BTreeMap<usize, Option<&Id>> =
            present.iter().map(|entry| (entry.line, None)).collect();
        for (entry, id) in stays.iter().zip(kept_order) {
            becomes.insert(entry.line, Some(id));
        }
        let mut behind: BTreeMap<Option<&Id>, Vec<&Id>> = BTreeMap::new();
        let mut last = None;
        for id in order {
            if words.contains_key(id) {
                last = Some(id);
            } else {
                behind.entry(last).or_default().push(id);
            }
        }
        let parked = parked(rule, text);
        let put_new = |lines: &mut Lines<'_>, ids: Option<Vec<&Id>>| {
            for id in ids.unwrap_or_default() {
                match parked.get(id) {
                    Some(entry) => lines.add(&entry.words),
                    None => lines.add(&change.written(rule, id)),
                }
            }
        };
        let returns = |number: usize| {
            let mut new = order.iter().filter(|id| !words.contains_key(id));
            new.any(|id| parked.get(id).is_some_and(|entry| entry.line == number))
        };
        let goes = |number: usize| {
            let entry = present.iter().find(|entry| entry.line == number)?;
            let stays = change.off.contains(&entry.id);
            Some(
                rule.parked
                    .as_ref()
                    .filter(|_| stays)?
                    .replace("{line}", &entry.words),
            )
        };
        let first_line = stays.first().map(|entry| entry.line);
        let mut lines = Lines::of(text);
        let mut number = 0;
        while let Some((line, whole)) = lines.next() {
            number += 1;
            if Some(number) == first_line {
                put_new(&mut lines, behind.remove(&None));
            }
            match becomes.get(&number) {
                None if returns(number) => {}
                None => lines.keep(whole),
                Some(None) => {
                    if let Some(parked) = goes(number) {
                        lines.replace(whole, &parked);
                    }
                }
                Some(Some(id)) => {
                    match words[id] {
                        own if own == line => lines.keep(whole),
                        moved => lines.replace(whole, moved),
                    }
                    put_new(&mut lines, behind.remove(&Some(*id)));
                }
            }
        }
        // There was no add-on line at all.
        put_new(&mut lines, behind.remove(&None));
        lines.joined()
    }
}

/// The lines that are parked: of each add-on the first, with what stood in it.
fn parked(rule: &OrderRule, text: &str) -> BTreeMap<Id, OrderEntry> {
    let mut parked = BTreeMap::new();
    let Some((before, after)) = rule.parked.as_ref().and_then(|it| it.split_once("{line}")) else {
        return parked;
    };
    for (index, line) in text.lines().enumerate() {
        let own = line.strip_prefix(before);
        let own = own.and_then(|line| line.strip_suffix(after));
        let found = own.and_then(|own| Some((rule.line.capture("id", own)?, own)));
        if let Some((id, own)) = found.filter(|_| rule.line.capture("id", line).is_none()) {
            let entry = OrderEntry {
                line: index + 1,
                id: Id::new(id),
                on: false,
                words: own.to_owned(),
            };
            parked.entry(Id::new(id)).or_insert(entry);
        }
    }
    parked
}
