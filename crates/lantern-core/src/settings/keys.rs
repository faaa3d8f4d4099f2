//! Three texts by their keys: for where both hands changed lines that meet, but not the same values.

use super::{Entry, Key, Notation, read, set};
use std::collections::BTreeMap;

/// No more than this is read anew while values are carried over one by one, in bytes.
const MOST_READ: usize = 32 << 20;

/// What stands in the way of a merge by keys.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Hindrance {
    /// Both have changed this value, each to another one.
    Both(Key),
    /// One of the texts cannot be read or changed so.
    Unread,
}

/// What came of a merge by keys.
pub(super) struct ByKeys {
    pub(super) text: String,
    /// How many values of mine stay that are not his.
    pub(super) kept: usize,
    /// Values that he took out though I had changed them.
    pub(super) gone: Vec<(Key, String)>,
}

/// My text with what its author has changed since: values that I have left as they were follow, new ones come with their
/// remarks, and those that he took out go.
pub(super) fn merged(
    notation: Notation,
    before: &str,
    mine: &str,
    now_text: &str,
) -> Result<ByKeys, Hindrance> {
    let unread = |_| Hindrance::Unread;
    let was = says(&read(notation, before).map_err(unread)?)?;
    let own = says(&read(notation, mine).map_err(unread)?)?;
    let theirs = read(notation, now_text).map_err(unread)?;
    let new = says(&theirs)?;
    let changed = |key: &&Key| was.get(*key) != new.get(*key) && own.get(*key) != new.get(*key);
    let keys: Vec<&Key> = was
        .keys()
        .chain(new.keys().filter(|key| !was.contains_key(*key)))
        .collect();
    let keys: Vec<&Key> = keys.into_iter().filter(changed).collect();
    if keys.len().saturating_mul(mine.len().max(now_text.len())) > MOST_READ {
        return Err(Hindrance::Unread);
    }
    let mut text = mine.to_owned();
    let mut gone = Vec::new();
    for key in keys {
        let (before, now, here) = (was.get(key), new.get(key), own.get(key));
        text = match (now, here) {
            // One that I have changed, or taken out, and he has changed, too.
            (Some(_), _) if before.is_some() && here != before => {
                return Err(Hindrance::Both(key.clone()));
            }
            (Some(_), Some(_)) if before.is_none() => return Err(Hindrance::Both(key.clone())),
            (Some(value), Some(_)) => set(notation, &text, key, value).map_err(unread)?,
            (Some(value), None) => with_new(notation, &text, now_text, &theirs, (key, value))?,
            (None, Some(value)) => {
                if before != here {
                    gone.push((key.clone(), value.clone()));
                }
                without(notation, &text, key)?
            }
            (None, None) => text,
        };
    }
    let again = says(&read(notation, &text).map_err(unread)?)?;
    let held = was.keys().chain(new.keys()).chain(own.keys()).all(|key| {
        let (before, now, here) = (was.get(key), new.get(key), own.get(key));
        let wanted = if now == before { here } else { now };
        again.get(key) == wanted
    });
    let kept = own
        .iter()
        .filter(|(key, value)| again.get(*key) == Some(value) && new.get(*key) != Some(value));
    match held {
        true => Ok(ByKeys {
            kept: kept.count(),
            text,
            gone,
        }),
        false => Err(Hindrance::Unread),
    }
}

/// What a text says by key.
fn says(entries: &[Entry]) -> Result<BTreeMap<Key, String>, Hindrance> {
    let mut all = BTreeMap::new();
    for entry in entries {
        // What says something twice has an order that counts.
        if all.insert(entry.key.clone(), entry.says.clone()).is_some() {
            return Err(Hindrance::Unread);
        }
    }
    Ok(all)
}

/// A text with a value that is new, behind the one that it stands behind in the text that it comes from, with the remarks above
/// it; where it cannot stand so, it is added as any other.
fn with_new(
    notation: Notation,
    text: &str,
    now: &str,
    theirs: &[Entry],
    (key, value): (&Key, &str),
) -> Result<String, Hindrance> {
    let here = read(notation, text).map_err(|_| Hindrance::Unread)?;
    let at = theirs.iter().position(|entry| entry.key == *key);
    let beside = |entry: &&Entry| entry.key.split().0 == key.split().0;
    let place = |entry: &Entry| {
        let there = here.iter().find(|own| own.key == entry.key)?;
        there.rows.clone()
    };
    let rows = at
        .and_then(|at| theirs[at].rows.clone())
        .map(|rows| &now[rows]);
    let stop = at.and_then(|at| {
        let above = theirs[..at].iter().rev().filter(beside).find_map(place);
        let below = theirs[at + 1..].iter().filter(beside).find_map(place);
        above.map(|rows| rows.end).or(below.map(|rows| rows.start))
    });
    let with_rows = rows.zip(stop).and_then(|(rows, stop)| {
        let end = super::line_end(text);
        let rows: String = rows.lines().map(|row| format!("{row}{end}")).collect();
        let open = stop > 0 && !text[..stop].ends_with('\n');
        let gap = if open { end } else { "" };
        let new = format!("{}{gap}{rows}{}", &text[..stop], &text[stop..]);
        let again = says(&read(notation, &new).ok()?).ok()?;
        let mut wanted = says(&here).ok()?;
        wanted.insert(key.clone(), value.to_owned());
        (again == wanted).then_some(new)
    });
    match with_rows {
        Some(new) => Ok(new),
        None => set(notation, text, key, value).map_err(|_| Hindrance::Unread),
    }
}

/// A text without a value, where that has its lines to itself.
fn without(notation: Notation, text: &str, key: &Key) -> Result<String, Hindrance> {
    let entries = read(notation, text).map_err(|_| Hindrance::Unread)?;
    let entry = entries.iter().find(|entry| entry.key == *key);
    let rows = entry
        .and_then(|entry| entry.rows.clone())
        .ok_or(Hindrance::Unread)?;
    let new = format!("{}{}", &text[..rows.start], &text[rows.end..]);
    let mut wanted = says(&entries)?;
    wanted.remove(key);
    match read(notation, &new).is_ok_and(|again| says(&again) == Ok(wanted)) {
        true => Ok(new),
        false => Err(Hindrance::Unread),
    }
}
