//! One line for each add-on; the order of the lines is the load order.

use super::{Change, Form, OrderEntry};
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
        let lines = text.lines().enumerate();
        let entries = lines.filter_map(|(index, line)| {
            Some(OrderEntry {
                line: index + 1,
                id: Id::new(rule.line.capture("id", line)?),
                on: true,
                words: line.to_owned(),
            })
        });
        entries.collect()
    }

    /// Lines that name no add-on keep their places. Where the add-ons that are there already stand in a good relative
    /// order, no line moves: new lines are put in behind the add-on they come after. Otherwise the add-on lines change
    /// places among themselves, each with all that it says.
    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        let order = change.order;
        let present = self.entries(rule, text);
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
        let put_new = |lines: &mut Lines<'_>, ids: Option<Vec<&Id>>| {
            for id in ids.unwrap_or_default() {
                lines.add(&rule.write.replace("{id}", id.as_str()));
            }
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
                None => lines.keep(whole),
                Some(None) => {}
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
