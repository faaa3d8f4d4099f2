//! The names of the add-ons' own files or folders, in whose order the server takes them: `10-fern`, `20-moss`.
//!
//! Names are compared byte by byte, as servers list a folder.

use super::OrderEntry;
use crate::component::Id;
use crate::family::OrderRule;
use std::collections::BTreeMap;
use std::ops::Range;

/// The groups that the rule's pattern has to have.
pub(super) const GROUPS: &[&str] = &["at", "name"];

/// How many digits a number has where nothing is numbered yet.
const USUAL_DIGITS: usize = 2;

/// How far apart numbers are where there is room.
const USUAL_STEP: usize = 10;

/// An add-on that takes part in the order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// Which one.
    pub id: Id,
    /// What its file or folder is called, if nothing is done.
    pub name: String,
    /// Whether it is there under that name; else any name costs nothing.
    pub is_there: bool,
}

/// The entries that names make, the first first.
pub(super) fn entries(names: impl Iterator<Item = (Id, String)>) -> Vec<OrderEntry> {
    let mut names: Vec<(String, Id)> = names.map(|(id, name)| (name, id)).collect();
    names.sort();
    let entries = names.into_iter().zip(1..);
    let entries = entries.map(|((words, id), line)| OrderEntry {
        line,
        id,
        on: true,
        version: None,
        words,
    });
    entries.collect()
}

/// The new name of the release of an add-on that is there under another one: it keeps its place in the order.
pub fn succeeding(rule: &OrderRule, old: &str, new: &str) -> String {
    match (number_in(rule, old), number_in(rule, new)) {
        (Some(at), None) => numbered(rule, new, &old[at]),
        (Some(at), Some(of_new)) => replaced(new, of_new, &old[at]),
        (None, _) => new.to_owned(),
    }
}

/// The names under which add-ons stand in an order, in that order; as few as can be of those that are there change.
pub fn renamed(rule: &OrderRule, order: &[Named]) -> BTreeMap<Id, String> {
    let names: Vec<&str> = order.iter().map(|it| it.name.as_str()).collect();
    let numbers = names.iter().filter_map(|name| number_in(rule, name));
    let digits = numbers.map(|at| at.len()).max().unwrap_or(USUAL_DIGITS);
    // Too many for so few digits: all get longer numbers.
    let digits = (digits..).find(|digits| 10_usize.pow(*digits as u32) >= order.len());
    let digits = digits.unwrap_or(USUAL_DIGITS);
    let stays = staying(rule, order, digits);
    let mut renamed = BTreeMap::new();
    let mut settle = |waiting: &mut Vec<&Named>, free: Range<usize>, is_last: bool| {
        let numbers = spread(free, waiting.len(), is_last);
        for (named, number) in waiting.drain(..).zip(numbers) {
            let number = format!("{number:0digits$}");
            let name = match number_in(rule, &named.name) {
                Some(at) => replaced(&named.name, at, &number),
                None => numbered(rule, &named.name, &number),
            };
            renamed.insert(named.id.clone(), name);
        }
    };
    let end = 10_usize.pow(digits as u32);
    let mut free = 0;
    let mut waiting: Vec<&Named> = Vec::new();
    for (named, stays) in order.iter().zip(stays) {
        if !stays {
            waiting.push(named);
            continue;
        }
        let number = value(rule, &named.name, digits);
        settle(&mut waiting, free..number.unwrap_or(end), false);
        free = number.map_or(end, |number| number + 1);
    }
    settle(&mut waiting, free..end, true);
    for named in order {
        let name = || named.name.clone();
        renamed.entry(named.id.clone()).or_insert_with(name);
    }
    renamed
}

/// So many of the free numbers, spread out over them; behind all others, in usual steps.
fn spread(free: Range<usize>, many: usize, is_last: bool) -> Vec<usize> {
    let step = free.len() / (many + 1);
    let number = |count: usize| match is_last && step > 0 {
        true => free.start.saturating_sub(1) + step.min(USUAL_STEP) * count,
        false => free.start + free.len() * count / (many + 1),
    };
    (1..=many).map(number).collect()
}

/// Which of an order keep their names: of all that leave room for the others, the set in which most are there.
///
/// The longest rising subsequence in which the gaps are wide enough, by the usual quadratic way.
fn staying(rule: &OrderRule, order: &[Named], digits: usize) -> Vec<bool> {
    let end = 10_usize.pow(digits as u32);
    let numbers: Vec<Option<usize>> = order
        .iter()
        .map(|it| value(rule, &it.name, digits))
        .collect();
    // A name without a number, or with one of other length, stands where its letters put it.
    let can_stay = |at: usize| {
        numbers[at].is_some() || order[at].name.bytes().next().is_some_and(|b| b > b'9')
    };
    let mut best: Vec<(usize, Option<usize>)> = vec![(0, None); order.len()];
    let worth = |at: usize| {
        if order[at].is_there {
            order.len() + 1
        } else {
            1
        }
    };
    for at in (0..order.len()).filter(|at| can_stay(*at)) {
        let high = numbers[at].unwrap_or(end);
        let mut found = if high >= at {
            (worth(at), None)
        } else {
            (0, None)
        };
        for before in (0..at).filter(|before| best[*before].0 > 0) {
            let between = at - before - 1;
            let room = match numbers[before] {
                Some(low) => high.saturating_sub(low + 1),
                None => 0,
            };
            let rises = order[before].name < order[at].name;
            if rises && room >= between && best[before].0 + worth(at) > found.0 {
                found = (best[before].0 + worth(at), Some(before));
            }
        }
        best[at] = found;
    }
    let fits_behind = |at: usize| {
        let behind = order.len() - at - 1;
        let room = numbers[at].map_or(0, |low| end - low - 1);
        best[at].0 > 0 && room >= behind
    };
    let mut last = (0..order.len())
        .filter(|at| fits_behind(*at))
        .max_by_key(|at| best[*at].0);
    let mut stays = vec![false; order.len()];
    while let Some(at) = last {
        stays[at] = true;
        last = best[at].1;
    }
    stays
}

/// The number in a name, where it has so many digits.
fn value(rule: &OrderRule, name: &str, digits: usize) -> Option<usize> {
    let at = number_in(rule, name)?;
    (at.start == 0 && at.len() == digits).then(|| name[at].parse().ok())?
}

fn number_in(rule: &OrderRule, name: &str) -> Option<Range<usize>> {
    let found = rule.line.regex().captures(name)?;
    let at = found.name("at")?;
    let is_number = !at.is_empty() && at.as_str().bytes().all(|b| b.is_ascii_digit());
    is_number.then(|| at.range())
}

fn replaced(name: &str, at: Range<usize>, number: &str) -> String {
    format!("{}{number}{}", &name[..at.start], &name[at.end..])
}

fn numbered(rule: &OrderRule, name: &str, number: &str) -> String {
    rule.write.replace("{at}", number).replace("{name}", name)
}
