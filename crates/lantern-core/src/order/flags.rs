//! One line for each add-on says whether it is on; the server sorts by itself.

use super::{Change, Form, OrderEntry, naming};
use crate::component::Id;
use crate::family::OrderRule;
use crate::text::Lines;
use std::collections::BTreeSet;

/// Lines that switch on and off.
pub(super) struct Flags;

impl Form for Flags {
    fn groups(&self) -> &'static [&'static str] {
        &["id", "on"]
    }

    fn decides(&self) -> bool {
        false
    }

    fn entries(&self, rule: &OrderRule, text: &str) -> Vec<OrderEntry> {
        let named = naming(rule, text).map(|entry| OrderEntry {
            on: is_on(rule, &entry.words),
            ..entry
        });
        named.collect()
    }

    /// What is to run is switched on, what is not is switched off, what goes loses its line; in a line that stays, only
    /// the flag changes.
    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        let on: BTreeSet<&Id> = change.order.iter().collect();
        let written = |id: &Id, flag: &str| change.written(rule, id).replace("{on}", flag);
        let flagged = |line: &str, id: &Id, flag: &str| {
            let value = rule.line.regex().captures(line);
            let value = value.and_then(|found| Some(found.name("on")?.range()));
            value.map_or_else(
                || written(id, flag),
                |at| format!("{}{flag}{}", &line[..at.start], &line[at.end..]),
            )
        };
        let mut present = BTreeSet::new();
        let mut lines = Lines::of(text);
        while let Some((line, whole)) = lines.next() {
            let Some(id) = rule.line.capture("id", line).map(Id::new) else {
                lines.keep(whole);
                continue;
            };
            if on.contains(&id) && !is_on(rule, line) {
                lines.replace(whole, &flagged(line, &id, &rule.on));
            } else if change.off.contains(&id) && is_on(rule, line) {
                lines.replace(whole, &flagged(line, &id, &rule.off));
            } else if !change.gone.contains(&id) {
                lines.keep(whole);
            }
            present.insert(id);
        }
        for id in on.iter().filter(|id| !present.contains(**id)) {
            lines.add(&written(id, &rule.on));
        }
        lines.joined()
    }
}

fn is_on(rule: &OrderRule, line: &str) -> bool {
    rule.line.capture("on", line) != Some(rule.off.as_str())
}
