//! TOML.

use super::{
    Contents, Entry, Form, Key, indent, line_end, line_start, line_stop, rows_of, sections,
    with_lines,
};
use crate::reading::{DEEPEST, TextFault, line_at, too_deep};
use toml_edit::{Document, Item, Table, TableLike, Value};

pub(super) fn read(text: &str) -> Result<Contents, TextFault> {
    let document = Document::parse(text).map_err(|error: toml_edit::TomlError| TextFault {
        line: error.span().map(|span| line_at(text, span.start)),
        why: error.message().into(),
    })?;
    let mut found = Found {
        text,
        entries: Vec::new(),
        heads: Vec::new(),
    };
    found.table(document.as_table(), &Key::default(), 0)?;
    let Found {
        mut entries,
        mut heads,
        ..
    } = found;
    entries.sort_by_key(|entry| entry.value.start);
    heads.sort_by_key(|(_, at)| *at);
    let tables = sections(text, heads, &entries);
    Ok(Contents { entries, tables })
}

/// What was found so far.
struct Found<'t> {
    text: &'t str,
    entries: Vec<Entry>,
    /// The tables that have a header, and where that begins.
    heads: Vec<(Key, usize)>,
}

impl Found<'_> {
    fn table(&mut self, inside: &dyn TableLike, key: &Key, depth: usize) -> Result<(), TextFault> {
        if depth > DEEPEST {
            return Err(too_deep(None));
        }
        for (name, item) in inside.iter() {
            let key = key.with(name);
            if let Some(tables) = item.as_array_of_tables() {
                for (number, inner) in tables.iter().enumerate() {
                    let key = key.with(&number.to_string());
                    self.head(inner, &key);
                    self.table(inner, &key, depth + 1)?;
                }
            } else if let Some(inner) = item.as_table_like() {
                if let Some(table) = item.as_table() {
                    self.head(table, &key);
                }
                self.table(inner, &key, depth + 1)?;
            } else if let (Item::Value(value), Some(span)) = (item, item.span()) {
                // A key and the beginning of its value share a line; a dotted one begins before its last name.
                let start = line_start(self.text, span.start);
                let from = start + indent(self.text, start).len();
                let is_alone = is_alone(self.text, from, span.start);
                let begins = || inside.get_key_value(name)?.0.span();
                let begins = match is_alone {
                    true => from,
                    false => begins().map_or(span.start, |key| key.start),
                };
                let end = |rest: &str| rest.is_empty() || rest.starts_with('#');
                let (says, form) = match value {
                    Value::String(text) => (text.value().clone(), Form::Text),
                    Value::Array(_) => (self.text[span.clone()].to_owned(), Form::List),
                    _ => (self.text[span.clone()].to_owned(), Form::Bare),
                };
                self.entries.push(Entry {
                    says,
                    form,
                    rows: rows_of(self.text, from..span.end, |row| row.starts_with('#'), end)
                        .filter(|_| is_alone),
                    whole: begins..span.end,
                    value: span,
                    key,
                });
            }
        }
        Ok(())
    }

    fn head(&mut self, table: &Table, key: &Key) {
        if let Some(span) = table
            .span()
            .filter(|_| !table.is_implicit() && !table.is_dotted())
        {
            self.heads.push((key.clone(), span.start));
        }
    }
}

/// Whether nothing but a key stands between the beginning of a line and a value.
fn is_alone(text: &str, from: usize, value: usize) -> bool {
    text[from..value].matches('=').count() == 1
}

/// A value as it is written where another one stands, in its manner.
pub(super) fn written(now: &str, value: &str) -> String {
    let is_text = now.starts_with(['"', '\'']);
    let is_bare = value.parse::<Value>().is_ok_and(|parsed| !parsed.is_str());
    match (is_text, is_bare) {
        (false, true) => value.to_owned(),
        _ if now.starts_with('\'') && !value.contains(['\'', '\n']) => format!("'{value}'"),
        _ => Value::from(value).to_string(),
    }
}

fn name_of(name: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "_-".contains(c);
    match !name.is_empty() && name.chars().all(plain) {
        true => name.to_owned(),
        false => Value::from(name).to_string(),
    }
}

pub(super) fn added(text: &str, entries: &[Entry], key: &Key, value: &str) -> Option<String> {
    let (above, name) = key.split();
    let line = format!("{} = {}", name_of(name), written("", value));
    let of_it = entries.iter().filter(|entry| entry.key.split().0 == above);
    let last = of_it
        .filter_map(|entry| entry.rows.as_ref())
        .max_by_key(|rows| rows.end);
    if let Some(last) = last {
        let own = line_start(text, last.end.saturating_sub(1));
        return Some(with_lines(
            text,
            last.end,
            &format!("{}{line}", indent(text, own)),
        ));
    }
    if above.0.is_empty() {
        let mut rows = text.split_inclusive('\n').scan(0, |at, row| {
            *at += row.len();
            Some((*at - row.len(), row))
        });
        let header = rows.find(|(_, row)| row.trim_start().starts_with('['));
        return Some(match header {
            Some((at, _)) => {
                let gap = line_end(text);
                with_lines(text, at, &format!("{line}{gap}"))
            }
            None => with_lines(text, text.len(), &line),
        });
    }
    let names: Vec<String> = above.0.iter().map(|name| name_of(name)).collect();
    let header = format!("[{}]", names.join("."));
    let found = text.match_indices(&header).find(|(at, _)| {
        let start = line_start(text, *at);
        text[start..*at].trim().is_empty()
    });
    Some(match found {
        Some((at, _)) => with_lines(text, line_stop(text, at), &line),
        None => {
            let end = line_end(text);
            let gap = if text.trim().is_empty() { "" } else { end };
            with_lines(text, text.len(), &format!("{gap}{header}{end}{line}"))
        }
    })
}
