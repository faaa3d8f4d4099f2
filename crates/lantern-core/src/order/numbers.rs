//! Numbers in the lines of a sequence, which say in which turn each comes: `mod3 = fern`.

use super::OrderEntry;
use crate::family::OrderRule;
use std::ops::Range;

/// A number as it stands in a text.
struct Number<'t> {
    place: Range<usize>,
    text: &'t str,
    value: u64,
    /// What its line says before it.
    before: &'t str,
}

/// Whether the lines of a rule are numbered.
pub(super) fn are_stated(rule: &OrderRule) -> bool {
    rule.line.names("at")
}

/// The turn of an entry, as it says it itself; nothing where the lines are not numbered.
pub(super) fn turn(rule: &OrderRule, entry: &OrderEntry) -> Option<u64> {
    are_stated(rule).then(|| rule.line.capture("at", &entry.words)?.parse().ok())?
}

/// A new text of a load order with its entries numbered by their turns.
///
/// Numbers that followed one another without a gap do so again, from the least that there was, with as many digits; others
/// stay as long as they rise. Where other lines go by the numbers, too, as `mod3.size = 7` does, no entry may get another one:
/// then the old text stays.
pub(super) fn anew(rule: &OrderRule, old: &str, new: String) -> String {
    let (Some(were), Some(are)) = (numbers(rule, old), numbers(rule, &new)) else {
        return new;
    };
    let mut values: Vec<u64> = were.iter().map(|it| it.value).collect();
    values.sort_unstable();
    let first = values.first().copied().unwrap_or(1);
    let is_whole = values.windows(2).all(|pair| pair[0] + 1 == pair[1]);
    let is_rising = are.windows(2).all(|pair| pair[0].value < pair[1].value);
    let are_old = are.iter().all(|it| values.binary_search(&it.value).is_ok());
    if !is_whole && is_rising && are_old {
        return new;
    }
    let padded = were.iter().filter(|it| it.text.starts_with('0'));
    let digits = padded.map(|it| it.text.len()).max().unwrap_or(0);
    let mut numbered = String::new();
    let mut seen = 0;
    for (turn, number) in are.iter().enumerate() {
        numbered += &new[seen..number.place.start];
        numbered += &format!("{:0digits$}", first + turn as u64);
        seen = number.place.end;
    }
    numbered += &new[seen..];
    match goes_along(rule, old, &were) && were_renumbered(rule, old, &numbered) {
        true => old.to_owned(),
        false => numbered,
    }
}

/// The numbers of all entries in a text; none where one of them is no number.
fn numbers<'t>(rule: &OrderRule, text: &'t str) -> Option<Vec<Number<'t>>> {
    let mut begin = 0;
    let mut found = Vec::new();
    for whole in text.split_inclusive('\n') {
        let line = whole.trim_end_matches(['\n', '\r']);
        if let Some(number) = rule
            .line
            .regex()
            .captures(line)
            .and_then(|it| it.name("at"))
        {
            found.push(Number {
                place: begin + number.start()..begin + number.end(),
                text: number.as_str(),
                value: number.as_str().parse().ok()?,
                before: &line[..number.start()],
            });
        }
        begin += whole.len();
    }
    Some(found)
}

/// Whether a line that is no entry says before a number what the entries say before theirs.
fn goes_along(rule: &OrderRule, text: &str, numbers: &[Number<'_>]) -> bool {
    let others = text
        .lines()
        .filter(|line| !rule.line.regex().is_match(line));
    let is_like = |line: &str, number: &Number<'_>| {
        let behind = line.trim_start().strip_prefix(number.before.trim_start());
        behind.is_some_and(|behind| behind.starts_with(|c: char| c.is_ascii_digit()))
    };
    let mut others = others.filter(|_| numbers.iter().any(|it| !it.before.trim().is_empty()));
    others.any(|line| numbers.iter().any(|number| is_like(line, number)))
}

/// Whether an entry of the old text has another number in the new one, or none.
fn were_renumbered(rule: &OrderRule, old: &str, new: &str) -> bool {
    let named = |text: &str| -> Vec<(String, String)> {
        let lines = text.lines().filter_map(|line| {
            let id = rule.line.capture("id", line)?.to_owned();
            Some((id, rule.line.capture("at", line)?.to_owned()))
        });
        lines.collect()
    };
    let new = named(new);
    named(old).iter().any(|entry| !new.contains(entry))
}
