//! YAML 1.2, its first document.

use super::{Contents, Entry, Form, Key, Table, indent, line_end, line_start, rows_of, with_lines};
use crate::reading::{DEEPEST, TextFault, too_deep};
use saphyr_parser::{Event, Marker, Parser, ScalarStyle};

/// A table that is still open.
struct Open {
    key: Key,
    /// The key whose value comes next, and where that begins.
    next: Option<(String, usize)>,
    /// Where its own key begins; of the whole, the beginning.
    from: usize,
    /// Its number among all tables.
    number: Option<usize>,
}

/// A list that is still open: it is one value, whatever is in it.
struct OpenList {
    key: Key,
    /// Where its key begins, and where it does.
    from: (usize, usize),
    /// How many lists and tables are open from it on.
    depth: usize,
    is_flow: bool,
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

pub(super) fn read(text: &str) -> Result<Contents, TextFault> {
    let ends = text.match_indices('\n').map(|(at, _)| at + 1);
    let places = Places {
        text,
        starts: std::iter::once(0).chain(ends).collect(),
    };
    let remark = |row: &str| row.starts_with('#');
    let ends_a_line = |rest: &str| rest.is_empty() || rest.starts_with('#');
    let mut open: Vec<Open> = Vec::new();
    let mut list: Option<OpenList> = None;
    let mut found = Contents::default();
    // Where the last value ended.
    let mut end = 0;
    for event in Parser::new_from_str(text) {
        let (event, span) =
            event.map_err(|error| TextFault::at(error.marker().line(), error.info()))?;
        let line = span.start.line();
        let depth = open.len() + list.as_ref().map_or(0, |list| list.depth);
        if depth > DEEPEST {
            return Err(too_deep(Some(line)));
        }
        let from = places.of(&span.start);
        if let Event::Alias(_) = event {
            return Err(TextFault::at(
                line,
                "it uses an alias, and those are not read",
            ));
        }
        if let Some(inside) = &mut list {
            match event {
                Event::SequenceStart(..) | Event::MappingStart(..) => inside.depth += 1,
                Event::SequenceEnd | Event::MappingEnd => inside.depth -= 1,
                _ => {}
            }
            if let Event::Scalar(..) = event {
                end = from + text[from..places.of(&span.end)].trim_end().len();
            }
            let is_closed = text[from..].starts_with([']', '}']);
            if matches!(event, Event::SequenceEnd | Event::MappingEnd) && is_closed {
                end = end.max(from + 1);
            }
            if inside.depth > 0 {
                continue;
            }
            let OpenList {
                key,
                from: (at, from),
                is_flow,
                ..
            } = list.take().expect("it is open");
            // What has no item in lines of its own, has no place.
            let to = if is_flow { end } else { end.max(from) };
            found.entries.push(Entry {
                key,
                says: text[from..to].to_owned(),
                form: Form::List,
                value: from..to,
                whole: at..to,
                rows: rows_of(text, at..to, remark, ends_a_line),
            });
            continue;
        }
        // The key of what begins here, where it is no key itself.
        let next = |open: &mut Vec<Open>| match open.last_mut() {
            Some(Open { key, next, .. }) => next.take().map(|(name, at)| (key.with(&name), at)),
            None => Some((Key::default(), from)),
        };
        match event {
            Event::SequenceStart(..) => {
                if open.is_empty() {
                    return Err(TextFault::at(
                        line,
                        "it is a list, and not keys with values",
                    ));
                }
                let (key, at) = next(&mut open).unwrap_or_default();
                list = Some(OpenList {
                    key,
                    from: (at, from),
                    depth: 1,
                    is_flow: text[from..].starts_with('['),
                });
            }
            Event::MappingStart(..) => {
                let is_top = open.is_empty();
                let (key, at) = next(&mut open).unwrap_or_default();
                let number = (!is_top).then_some(found.tables.len());
                if !is_top {
                    found.tables.push(Table {
                        key: key.clone(),
                        rows: None,
                    });
                }
                open.push(Open {
                    key,
                    next: None,
                    from: at,
                    number,
                });
            }
            Event::MappingEnd => {
                let is_closed = text[from..].starts_with('}');
                end = if is_closed { end.max(from + 1) } else { end };
                if let Some(Open {
                    from,
                    number: Some(number),
                    ..
                }) = open.pop()
                {
                    found.tables[number].rows =
                        rows_of(text, from..end.max(from), remark, ends_a_line);
                }
            }
            Event::Scalar(says, style, ..) => {
                let to = places.of(&span.end);
                if let Some(Open {
                    next: next @ None, ..
                }) = open.last_mut()
                {
                    *next = Some((says.into_owned(), from));
                    continue;
                }
                let Some((key, at)) = next(&mut open) else {
                    continue;
                };
                let is_block = matches!(style, ScalarStyle::Literal | ScalarStyle::Folded);
                let to = from + text[from..to].trim_end().len();
                end = to;
                let rows = || rows_of(text, at..to, remark, ends_a_line);
                found.entries.push(Entry {
                    key,
                    says: says.into_owned(),
                    form: match style {
                        ScalarStyle::Plain => Form::Bare,
                        _ => Form::Text,
                    },
                    value: from..to,
                    whole: at..to,
                    rows: if is_block { None } else { rows() },
                });
            }
            Event::DocumentEnd => break,
            Event::Alias(_)
            | Event::SequenceEnd
            | Event::Nothing
            | Event::StreamStart
            | Event::StreamEnd
            | Event::DocumentStart(_) => {}
        }
    }
    Ok(found)
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
        Some('[' | '-') if value.starts_with('[') => value.to_owned(),
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
        let last = of_it.last();
        if last.is_none() && depth > 0 {
            continue;
        }
        let is_child = |entry: &&&Entry| entry.key.0.len() == depth + 1 && entry.rows.is_some();
        let child = of_it.iter().rfind(is_child);
        let stop = last.map_or(text.len(), |last| super::line_stop(text, last.value.end));
        let lead = match child {
            Some(child) => indent(text, line_start(text, child.whole.start)).to_owned(),
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
