//! YAML 1.2, its first document.

use super::{Entry, Key, indent, line_end, line_start, rows_of, with_lines};
use crate::reading::{DEEPEST, TextFault, too_deep};
use saphyr_parser::{Event, Marker, Parser, ScalarStyle};

/// A list or table that is still open.
enum Open {
    /// With the number of what comes next.
    List(Key, usize),
    /// With the key whose value comes next, and where that begins.
    Table(Key, Option<(String, usize)>),
}

/// The places of a text by line and column, as the library tells them.
struct Places<'t> {
    text: &'t str,
    starts: Vec<usize>,
}

impl Places<'_> {
    fn of(&self, marker: &Marker) -> usize {
        let start = self
            .starts
            .get(marker.line() - 1)
            .copied()
            .unwrap_or(self.text.len());
        let line = &self.text[start..];
        line.char_indices()
            .nth(marker.col())
            .map_or(self.text.len(), |(at, _)| start + at)
    }
}

pub(super) fn read(text: &str) -> Result<Vec<Entry>, TextFault> {
    let ends = text.match_indices('\n').map(|(at, _)| at + 1);
    let places = Places {
        text,
        starts: std::iter::once(0).chain(ends).collect(),
    };
    let mut open: Vec<Open> = Vec::new();
    let mut entries = Vec::new();
    for event in Parser::new_from_str(text) {
        let (event, span) =
            event.map_err(|error| TextFault::at(error.marker().line(), error.info()))?;
        let line = span.start.line();
        if open.len() > DEEPEST {
            return Err(too_deep(Some(line)));
        }
        // The key of what begins here, where it is no key itself.
        let next = |open: &mut Vec<Open>| match open.last_mut() {
            Some(Open::List(key, number)) => {
                *number += 1;
                Some((key.with(&(*number - 1).to_string()), None))
            }
            Some(Open::Table(key, name)) => {
                let (name, at) = name.take()?;
                Some((key.with(&name), Some(at)))
            }
            None => Some((Key::default(), None)),
        };
        match event {
            Event::Alias(_) => {
                return Err(TextFault::at(
                    line,
                    "it uses an alias, and those are not read",
                ));
            }
            Event::SequenceStart(..) => {
                let (key, _) = next(&mut open).unwrap_or_default();
                open.push(Open::List(key, 0));
            }
            Event::MappingStart(..) => {
                let (key, _) = next(&mut open).unwrap_or_default();
                open.push(Open::Table(key, None));
            }
            Event::SequenceEnd | Event::MappingEnd => {
                open.pop();
            }
            Event::Scalar(says, style, ..) => {
                let (from, to) = (places.of(&span.start), places.of(&span.end));
                if let Some(Open::Table(_, name @ None)) = open.last_mut() {
                    *name = Some((says.into_owned(), from));
                    continue;
                }
                let Some((key, at)) = next(&mut open) else {
                    continue;
                };
                let is_block = matches!(style, ScalarStyle::Literal | ScalarStyle::Folded);
                let raw = &text[from..to];
                let to = from + raw.trim_end().len();
                let rows = at.filter(|_| !is_block).and_then(|at| {
                    let end = |rest: &str| rest.is_empty() || rest.starts_with('#');
                    rows_of(text, at..to, |row| row.starts_with('#'), end)
                });
                entries.push(Entry {
                    key,
                    says: says.into_owned(),
                    value: from..to,
                    rows,
                });
            }
            Event::DocumentEnd => break,
            Event::Nothing | Event::StreamStart | Event::StreamEnd | Event::DocumentStart(_) => {}
        }
    }
    Ok(entries)
}

/// A value as it is written where another one stands, in its manner.
pub(super) fn written(now: &str, value: &str) -> String {
    let plain = |text: &str| {
        let begins = text
            .chars()
            .next()
            .is_some_and(|c| c.is_alphanumeric() || "/._".contains(c));
        begins
            && !text.contains(": ")
            && !text.contains(" #")
            && !text.ends_with([':', ' '])
            && !text.contains('\n')
    };
    match now.chars().next() {
        Some('\'') if !value.contains('\n') => format!("'{}'", value.replace('\'', "''")),
        Some('"') => serde_json::Value::from(value).to_string(),
        _ if plain(value) => value.to_owned(),
        _ => serde_json::Value::from(value).to_string(),
    }
}

pub(super) fn added(text: &str, entries: &[Entry], key: &Key, value: &str) -> Option<String> {
    let end = line_end(text);
    // The deepest table on the way that has something in it.
    for depth in (0..key.0.len()).rev() {
        let (above, rest) = key.0.split_at(depth);
        let inside = |entry: &&Entry| entry.key.0.len() > depth && entry.key.0.starts_with(above);
        let of_it: Vec<&Entry> = entries.iter().filter(inside).collect();
        let Some(last) = of_it.last() else {
            continue;
        };
        let child = of_it.iter().filter(|entry| entry.key.0.len() == depth + 1);
        let child = child.filter_map(|entry| entry.rows.as_ref()).next_back();
        let stop = super::line_stop(text, last.value.end);
        let lead = match child {
            Some(rows) => indent(text, line_start(text, rows.end.saturating_sub(1))).to_owned(),
            None if depth == 0 => String::new(),
            None => return None,
        };
        let mut lines = String::new();
        for (step, name) in rest.iter().enumerate() {
            let last = step + 1 == rest.len();
            let says = if last {
                format!(" {}", written("", value))
            } else {
                String::new()
            };
            let gap = if last { "" } else { end };
            lines.push_str(&format!(
                "{lead}{}{}:{says}{gap}",
                "  ".repeat(step),
                written("", name)
            ));
        }
        return Some(with_lines(text, stop, &lines));
    }
    None
}
