//! Notations that go line by line. They are read as leniently as servers read them: a line that
//! makes no sense is passed over.

use super::{Node, Table, put};
use crate::family::Pattern;

/// So many lines from the top are looked at for header lines.
const HEADER_LINES: usize = 400;

/// `key = value` lines, `#` and `;` begin comments; in a `[section]`, the key is `section.key`.
pub(super) fn ini(text: &str) -> Table {
    let mut table = Table::new();
    let mut section: Option<String> = None;
    for line in content_lines(text) {
        let name = line.strip_prefix('[').and_then(|l| l.strip_suffix(']'));
        if let Some(name) = name {
            section = Some(name.trim().to_owned());
            continue;
        }
        let Some((key, value)) = line.split_once('=') else {
            continue;
        };
        let (key, value) = (key.trim().to_owned(), Node::Text(value.trim().to_owned()));
        match &section {
            None => {
                table.insert(key, value);
            }
            Some(name) => {
                let inner = table.entry(name.clone());
                if let Node::Table(inner) = inner.or_insert_with(|| Node::Table(Table::new())) {
                    inner.insert(key, value);
                }
            }
        }
    }
    table
}

/// `Key: value` lines; a line that begins with a blank goes on with the value before it.
pub(super) fn manifest(text: &str) -> Table {
    let mut pairs: Vec<(String, String)> = Vec::new();
    for line in text.lines() {
        if let Some(more) = line.strip_prefix([' ', '\t']) {
            if let Some((_, value)) = pairs.last_mut() {
                value.push_str(more);
            }
        } else if let Some((key, value)) = line.split_once(':') {
            pairs.push((key.trim().to_owned(), value.trim_start().to_owned()));
        }
    }
    let mut table = Table::new();
    for (key, value) in pairs {
        put(&mut table, key, Node::Text(value.trim_end().to_owned()));
    }
    table
}

/// One item a line, as the list `lines`; `#` and `;` begin comments.
pub(super) fn plain(text: &str) -> Table {
    let lines = content_lines(text).map(|line| Node::Text(line.to_owned()));
    Table::from([("lines".into(), Node::List(lines.collect()))])
}

/// Lines at the top that a pattern matches: its groups `key` and `value`.
pub(super) fn header(pattern: Option<&Pattern>, text: &str) -> Table {
    let mut table = Table::new();
    let Some(pattern) = pattern else {
        return table;
    };
    for line in text.lines().take(HEADER_LINES) {
        if let (Some(key), Some(value)) =
            (pattern.capture("key", line), pattern.capture("value", line))
        {
            put(&mut table, key.to_owned(), Node::Text(value.to_owned()));
        }
    }
    table
}

fn content_lines(text: &str) -> impl Iterator<Item = &str> {
    text.lines()
        .map(str::trim)
        .filter(|line| !line.is_empty() && !line.starts_with(['#', ';']))
}
