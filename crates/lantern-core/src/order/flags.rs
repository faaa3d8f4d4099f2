//! One line, or one item, for each add-on says whether it is on; the server sorts by itself.

use super::list::{over_lines, with_items};
use super::{Change, Form, NamedVersion, OrderEntry, naming, version_in};
use crate::component::Id;
use crate::family::OrderRule;
use crate::text::Lines;
use std::collections::BTreeSet;
use std::ops::Range;

/// Lines, or items that go over several, which switch on and off.
pub(super) struct Flags;

impl Form for Flags {
    fn groups(&self) -> &'static [&'static str] {
        &["id", "on"]
    }

    fn decides(&self) -> bool {
        false
    }

    fn entries(&self, rule: &OrderRule, text: &str) -> Vec<OrderEntry> {
        if rule.spans {
            let entries = items(rule, text).into_iter().map(|item| OrderEntry {
                line: 1 + text[..item.named.start].matches('\n').count(),
                id: Id::new(&text[item.named]),
                on: text[item.flag] != rule.off,
                version: item.version,
                words: text[item.all].to_owned(),
            });
            return entries.collect();
        }
        let named = naming(rule, text).map(|entry| OrderEntry {
            on: is_on(rule, &entry.words),
            ..entry
        });
        named.collect()
    }

    /// What is to run is switched on, what is not is switched off, what goes loses its line; in a line that stays, only
    /// the flag changes.
    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        if rule.spans {
            return with_flags(rule, text, change);
        }
        let on: BTreeSet<&Id> = change.order.iter().collect();
        let written = |id: &Id, flag: &str| change.written(rule, id).replace("{on}", flag);
        let with_flag = |line: &str, id: &Id, flag: &str| {
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
                lines.replace(whole, &with_flag(line, &id, &rule.on));
            } else if change.off.contains(&id) && is_on(rule, line) {
                lines.replace(whole, &with_flag(line, &id, &rule.off));
            } else if !change.gone.contains(&id) {
                lines.keep(whole);
            }
            present.insert(id);
        }
        let (flagged, flag) = change.flagged(rule);
        for id in flagged.into_iter().filter(|id| !present.contains(*id)) {
            lines.add(&written(id, flag));
        }
        lines.joined()
    }
}

fn is_on(rule: &OrderRule, line: &str) -> bool {
    rule.line.capture("on", line) != Some(rule.off.as_str())
}

/// An item that goes over several lines.
struct Item {
    all: Range<usize>,
    named: Range<usize>,
    flag: Range<usize>,
    version: Option<NamedVersion>,
}

fn items(rule: &OrderRule, text: &str) -> Vec<Item> {
    let pattern = over_lines(rule);
    let found = pattern.captures_iter(text).filter_map(|found| {
        Some(Item {
            all: found.get(0)?.range(),
            named: found.name("id")?.range(),
            flag: found.name("on")?.range(),
            version: version_in(&found, 0),
        })
    });
    found.collect()
}

/// The same with items: what comes new stands behind the last. Where there is none, nothing is written: nobody knows where.
fn with_flags(rule: &OrderRule, text: &str, change: Change<'_>) -> String {
    let old = items(rule, text);
    let (Some(first), Some(last)) = (old.first(), old.last()) else {
        return text.to_owned();
    };
    let lead = text[..first.all.start].trim_end().len();
    let value = lead..last.all.end;
    let mut present = BTreeSet::new();
    let mut new = Vec::new();
    for (
        place,
        Item {
            all, named, flag, ..
        },
    ) in old.iter().enumerate()
    {
        let id = Id::new(&text[named.clone()]);
        let is_off = text[flag.clone()] == rule.off;
        let becomes = match is_off {
            true if change.order.contains(&id) => &rule.on,
            false if change.off.contains(&id) => &rule.off,
            _ => &text[flag.clone()],
        };
        if !change.gone.contains(&id) || change.order.contains(&id) {
            let (before, behind) = (&text[all.start..flag.start], &text[flag.end..all.end]);
            new.push((Some(place), format!("{before}{becomes}{behind}")));
        }
        present.insert(id);
    }
    let (flagged, becomes) = change.flagged(rule);
    let missing = flagged.into_iter().filter(|id| !present.contains(*id));
    new.extend(missing.map(|id| {
        let item = change.written(rule, id).replace("{on}", becomes);
        (None, item)
    }));
    let old: Vec<Range<usize>> = old.into_iter().map(|item| item.all).collect();
    with_items(rule, text, value, &old, new)
}
