//! One value holds all add-ons, in load order: in a line, or over several.

use super::{Change, Form, NamedVersion, OrderEntry, rows};
use crate::component::Id;
use crate::family::OrderRule;
use regex::Regex;
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::ops::Range;

/// Items in one value.
pub(super) struct List;

/// Where the values that hold items stand in a text.
fn values(rule: &OrderRule, text: &str) -> Vec<Range<usize>> {
    let line = rule.line.regex();
    let value = |captures: regex::Captures<'_>| Some(captures.name("list")?.range());
    if rule.spans {
        let whole = over_lines(rule);
        return whole.captures_iter(text).filter_map(value).collect();
    }
    let found = rows(text).filter_map(|row| {
        let found = value(line.captures(row.text)?)?;
        Some(row.begin + found.start..row.begin + found.end)
    });
    found.collect()
}

/// The pattern of a rule, for a whole text instead of a line.
pub(super) fn over_lines(rule: &OrderRule) -> Cow<'_, Regex> {
    let line = rule.line.regex();
    // A pattern that compiles by itself does so with a flag in front.
    let whole = Regex::new(&format!("(?m){}", line.as_str()));
    whole.map_or(Cow::Borrowed(line), Cow::Owned)
}

/// Where the items of a value stand in the text, without blanks around them.
fn items(rule: &OrderRule, text: &str, value: Range<usize>) -> Vec<Range<usize>> {
    let between = rule.between.trim();
    let mut at = value.start;
    if between.is_empty() {
        let items = text[value].split_whitespace().map(|item| {
            let begin = at + text[at..].find(item).unwrap_or(0);
            at = begin + item.len();
            begin..at
        });
        return items.collect();
    }
    let items = text[value].split(between).map(|item| {
        let begin = at + (item.len() - item.trim_start().len());
        at += item.len() + between.len();
        begin..begin + item.trim().len()
    });
    items.filter(|item| !item.is_empty()).collect()
}

/// The id that an item names, and the version beside it: what the rule writes around them is no part of either.
fn parts<'i>(rule: &OrderRule, item: &'i str) -> (&'i str, Option<&'i str>) {
    let (before, behind) = rule.write.split_once("{id}").unwrap_or_default();
    let version_first = before.split_once("{version}");
    let version_last = behind.split_once("{version}");
    let (before, between, behind) = match (version_first, version_last) {
        (Some((before, between)), _) => (before, between, behind),
        (_, Some((between, behind))) => (before, between, behind),
        (None, None) => (before, "", behind),
    };
    let inside = item.strip_prefix(before);
    let Some(inside) = inside.and_then(|inside| inside.strip_suffix(behind)) else {
        return (item, None);
    };
    let apart = match (version_first, version_last) {
        (Some(_), _) => inside
            .split_once(between)
            .map(|(version, id)| (id, version)),
        (_, Some(_)) => inside.rsplit_once(between),
        (None, None) => None,
    };
    apart.map_or((inside, None), |(id, version)| (id, Some(version)))
}

/// The id that an item names.
fn id(rule: &OrderRule, item: &str) -> Id {
    Id::new(parts(rule, item).0)
}

impl Form for List {
    fn groups(&self) -> &'static [&'static str] {
        &["list"]
    }

    fn decides(&self) -> bool {
        true
    }

    fn entries(&self, rule: &OrderRule, text: &str) -> Vec<OrderEntry> {
        let values = values(rule, text).into_iter();
        let items = values.flat_map(|value| items(rule, text, value));
        let (mut line, mut seen) = (1, 0);
        let entries = items.map(|item| {
            line += text[seen..item.start].matches('\n').count();
            seen = item.start;
            let words = &text[item];
            let (id, version) = parts(rule, words);
            let version = version.map(|version| {
                let begin = version.as_ptr() as usize - text.as_ptr() as usize;
                NamedVersion {
                    text: version.to_owned(),
                    at: begin..begin + version.len(),
                }
            });
            OrderEntry {
                line,
                id: Id::new(id),
                on: !rule.runs_unlisted(),
                version,
                words: words.to_owned(),
            }
        });
        entries.collect()
    }

    /// Of the first list found, items stay as they are written. Where no list is found, nothing is written: there is no place for
    /// one.
    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        let Some(value) = values(rule, text).into_iter().next() else {
            return text.to_owned();
        };
        let old = items(rule, text, value.clone());
        let mut place_of: BTreeMap<Id, usize> = BTreeMap::new();
        for (place, item) in old.iter().enumerate() {
            place_of
                .entry(id(rule, &text[item.clone()]))
                .or_insert(place);
        }
        let new = change.order.iter().map(|id| match place_of.get(id) {
            Some(place) => (Some(*place), text[old[*place].clone()].to_owned()),
            None => (None, change.written(rule, id)),
        });
        with_items(rule, text, value, &old, new.collect())
    }
}

/// A text with other items in a value, each with its place among the old ones where it is one of them.
///
/// What stands between two that still follow one another stays; others are parted as the first two are. All else stays.
pub(super) fn with_items(
    rule: &OrderRule,
    text: &str,
    value: Range<usize>,
    old: &[Range<usize>],
    new: Vec<(Option<usize>, String)>,
) -> String {
    let (begin, end) = match old {
        // A list of none is written without what parted them.
        _ if new.is_empty() => (value.start, value.end),
        [] => (value.start, value.start),
        [first, ..] => (first.start, old.last().map_or(value.end, |last| last.end)),
    };
    let lead = &text[value.start..begin];
    let between = match old {
        [first, second, ..] => Cow::Borrowed(&text[first.end..second.start]),
        // Each in a line of its own, as the only one is.
        [_] if lead.contains('\n') => Cow::Owned(format!("{}{lead}", rule.between.trim_end())),
        _ => Cow::Borrowed(rule.between.as_str()),
    };
    let mut list = String::new();
    let mut last: Option<usize> = None;
    for (turn, (place, item)) in new.into_iter().enumerate() {
        list += match (last, place) {
            _ if turn == 0 => "",
            (Some(last), Some(place)) if last + 1 == place => {
                &text[old[last].end..old[place].start]
            }
            _ => &between,
        };
        list += &item;
        last = place;
    }
    format!("{}{list}{}", &text[..begin], &text[end..])
}
