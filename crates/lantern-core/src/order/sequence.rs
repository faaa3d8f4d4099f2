//! One line for each add-on; the order of the lines is the load order.

use super::{Change, Form, OrderEntry, naming, numbers, rows, version_in};
use crate::component::Id;
use crate::family::OrderRule;
use crate::text::{Lines, is_remark};
use std::collections::btree_map::Entry;
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
        entries.sort_by_key(|entry| (numbers::turn(rule, entry), entry.line));
        entries
    }

    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        if !numbers::are_stated(rule) {
            return Sequence::arranged(rule, text, change);
        }
        // The lines need not stand in the order of their numbers.
        let entries = self.entries(rule, text);
        let running = entries.iter().filter(|it| it.on).map(|it| &it.id);
        match running.eq(change.order) {
            true => text.to_owned(),
            false => numbers::anew(rule, text, Sequence::arranged(rule, text, change)),
        }
    }
}

impl Sequence {
    /// Lines that name no add-on keep their places, and so do as many of the others as can; each that has to move goes, with
    /// all that it says, behind the add-on that it comes after, and new ones likewise. The line of one that is switched off is
    /// parked, where the family says how, and comes back as it was when that is switched on again.
    fn arranged(rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        let order = change.order;
        let present: Vec<OrderEntry> = naming(rule, text).collect();
        let turns: BTreeMap<&Id, usize> = order.iter().zip(0..).collect();
        // The first line of each wanted add-on stays, or moves; others and doubles go.
        let mut words: BTreeMap<&Id, &str> = BTreeMap::new();
        let mut firsts: Vec<&OrderEntry> = Vec::new();
        for entry in present.iter().filter(|entry| turns.contains_key(&entry.id)) {
            if let Entry::Vacant(new) = words.entry(&entry.id) {
                new.insert(&entry.words);
                firsts.push(entry);
            }
        }
        let rows: Vec<&str> = text.lines().collect();
        let ranks: Vec<(usize, bool)> = firsts
            .iter()
            .map(|entry| {
                // A remark right above is most often about what stands below it.
                let above = entry.line.checked_sub(2).and_then(|at| rows.get(at));
                let has_remark = above.is_some_and(|row| is_remark(row));
                (turns[&entry.id], has_remark)
            })
            .collect();
        let staying: Vec<&OrderEntry> = longest_rising(&ranks)
            .into_iter()
            .map(|at| firsts[at])
            .collect();
        let mut becomes: BTreeMap<usize, Option<&Id>> =
            present.iter().map(|entry| (entry.line, None)).collect();
        becomes.extend(staying.iter().map(|entry| (entry.line, Some(&entry.id))));
        let stays: BTreeSet<&Id> = staying.iter().map(|entry| &entry.id).collect();
        let mut behind: BTreeMap<Option<&Id>, Vec<&Id>> = BTreeMap::new();
        let mut last = None;
        for id in order {
            match stays.contains(id) {
                true => last = Some(id),
                false => behind.entry(last).or_default().push(id),
            }
        }
        let parked = parked(rule, text);
        let put_new = |lines: &mut Lines<'_>, ids: Option<Vec<&Id>>| {
            for id in ids.unwrap_or_default() {
                let own = words.get(id).copied();
                let own = own.or(parked.get(id).map(|entry| entry.words.as_str()));
                match own {
                    Some(own) => lines.add(own),
                    // The number that it gets is not known yet.
                    None => lines.add(&change.written(rule, id).replace("{at}", "0")),
                }
            }
        };
        let new = order.iter().filter(|id| !words.contains_key(id));
        let returning: BTreeSet<usize> = new
            .filter_map(|id| parked.get(id).map(|entry| entry.line))
            .collect();
        let returns = |number: usize| returning.contains(&number);
        let mut by_line: BTreeMap<usize, &OrderEntry> = BTreeMap::new();
        for entry in &present {
            by_line.entry(entry.line).or_insert(entry);
        }
        let goes = |number: usize| {
            let entry = by_line.get(&number)?;
            let stays = change.off.contains(&entry.id);
            Some(
                rule.parked
                    .as_ref()
                    .filter(|_| stays)?
                    .replace("{line}", &entry.words),
            )
        };
        // What comes before the first one comes before the remarks on that, too.
        let first_line = staying.first().map(|entry| {
            let above = rows[..entry.line - 1].iter().rev();
            entry.line - above.take_while(|row| is_remark(row)).count()
        });
        let mut lines = Lines::of(text);
        let mut number = 0;
        while let Some((_, whole)) = lines.next() {
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
                    lines.keep(whole);
                    put_new(&mut lines, behind.remove(&Some(*id)));
                }
            }
        }
        // There was no add-on line at all.
        put_new(&mut lines, behind.remove(&None));
        let mut joined = lines.joined();
        // Where nothing is new, the last line ends, or does not, as before.
        let only_moved = order.iter().all(|id| words.contains_key(id));
        if only_moved && !text.ends_with('\n') && joined.ends_with('\n') {
            let end = if joined.ends_with("\r\n") { 2 } else { 1 };
            joined.truncate(joined.len() - end);
        }
        joined
    }
}

/// The longest part of a row of ranks, by their places in it, in which each is higher than the one before; of several, the one
/// with the most that are marked.
fn longest_rising(ranks: &[(usize, bool)]) -> Vec<usize> {
    // By rank, the best that ends with one of a lower or the same rank: its length, marks, and last place; as a tree of sums is
    // kept (Fenwick), but of the greatest.
    let highest = ranks.iter().map(|(rank, _)| rank + 1).max().unwrap_or(0);
    let mut best: Vec<(usize, usize, Option<usize>)> = vec![(0, 0, None); highest + 1];
    let mut before: Vec<Option<usize>> = Vec::with_capacity(ranks.len());
    let mut longest = (0, 0, None);
    for (place, (rank, is_marked)) in ranks.iter().enumerate() {
        let mut at = *rank;
        let mut found = (0, 0, None);
        while at > 0 {
            found = found.max(best[at]);
            at &= at - 1;
        }
        before.push(found.2);
        let ends = (found.0 + 1, found.1 + usize::from(*is_marked), Some(place));
        longest = longest.max(ends);
        let mut at = rank + 1;
        while at <= highest {
            best[at] = best[at].max(ends);
            at += at & at.wrapping_neg();
        }
    }
    let mut places: Vec<usize> = std::iter::successors(longest.2, |place| before[*place]).collect();
    places.reverse();
    places
}

/// The lines that are parked: of each add-on the first, with what stood in it.
fn parked(rule: &OrderRule, text: &str) -> BTreeMap<Id, OrderEntry> {
    let mut parked = BTreeMap::new();
    let Some((before, after)) = rule.parked.as_ref().and_then(|it| it.split_once("{line}")) else {
        return parked;
    };
    for row in rows(text) {
        let own = row.text.strip_prefix(before);
        let Some(own) = own.and_then(|line| line.strip_suffix(after)) else {
            continue;
        };
        let found = rule.line.regex().captures(own);
        let found = found.filter(|_| rule.line.capture("id", row.text).is_none());
        let id = found.as_ref().and_then(|found| found.name("id"));
        if let Some((found, id)) = found.as_ref().zip(id) {
            let id = Id::new(id.as_str());
            parked.entry(id.clone()).or_insert_with(|| OrderEntry {
                line: row.number,
                id,
                on: false,
                version: version_in(found, row.begin + before.len()),
                words: own.to_owned(),
            });
        }
    }
    parked
}
