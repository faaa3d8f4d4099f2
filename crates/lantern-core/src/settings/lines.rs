//! Keys and values in lines: with sections, or without.

use super::{Entry, Key, line_end, line_start, line_stop, rows_of, with_lines};

/// What a remark begins with.
fn is_remark(row: &str) -> bool {
    ["#", ";", "//", "!"]
        .iter()
        .any(|begin| row.starts_with(begin))
}

/// The place of what parts a key from its value.
fn parts_at(line: &str) -> Option<usize> {
    line.find(['=', ':'])
}

pub(super) fn read(text: &str, has_sections: bool) -> Vec<Entry> {
    let mut entries = Vec::new();
    let mut section = Key::default();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let start = at;
        at += line.len();
        let body = line.trim_end_matches(['\n', '\r']);
        let row = body.trim();
        if row.is_empty() || is_remark(row) {
            continue;
        }
        let header = row.strip_prefix('[').and_then(|row| row.strip_suffix(']'));
        if let Some(header) = header.filter(|_| has_sections) {
            section = Key(vec![header.trim().to_owned()]);
            continue;
        }
        let Some(parted) = parts_at(body) else {
            continue;
        };
        let value = &body[parted + 1..];
        let from = start + parted + 1 + (value.len() - value.trim_start().len());
        let says = value.trim();
        let range = from..from + says.len();
        entries.push(Entry {
            key: section.with(body[..parted].trim()),
            says: says.to_owned(),
            rows: rows_of(text, start..range.end, is_remark, str::is_empty),
            value: range,
        });
    }
    entries
}

/// How the lines of a text part keys from values.
fn parted(text: &str, entries: &[Entry]) -> String {
    let like = entries.iter().find(|entry| !entry.says.is_empty());
    let between = like.and_then(|entry| {
        let line = &text[line_start(text, entry.value.start)..entry.value.start];
        let at = parts_at(line)?;
        let blanks = line[..at].len() - line[..at].trim_end().len();
        Some(line[at - blanks..].to_owned())
    });
    // What is put into columns is no manner of parting.
    between
        .filter(|it| it.len() <= 3)
        .unwrap_or_else(|| " = ".into())
}

pub(super) fn added(text: &str, entries: &[Entry], key: &Key, value: &str) -> Option<String> {
    let (above, name) = key.split();
    if above.0.len() > 1 {
        return None;
    }
    let line = format!("{name}{}{value}", parted(text, entries));
    let of_it = entries.iter().filter(|entry| entry.key.split().0 == above);
    if let Some(last) = of_it.max_by_key(|entry| entry.value.end) {
        return Some(with_lines(text, line_stop(text, last.value.end), &line));
    }
    let Some(section) = above.0.first() else {
        // What stands in no section, stands before all of them.
        let mut rows = text.split_inclusive('\n').scan(0, |at, row| {
            *at += row.len();
            Some((*at - row.len(), row))
        });
        let header = rows.find(|(_, row)| row.trim_start().starts_with('['));
        let at = header.map_or(text.len(), |(at, _)| at);
        return Some(with_lines(text, at, &line));
    };
    let header = format!("[{section}]");
    let found = text
        .match_indices(&header)
        .find(|(at, _)| text[line_start(text, *at)..*at].trim().is_empty());
    let end = line_end(text);
    let gap = if text.trim().is_empty() { "" } else { end };
    Some(match found {
        Some((at, _)) => with_lines(text, line_stop(text, at), &line),
        None => with_lines(text, text.len(), &format!("{gap}{header}{end}{line}")),
    })
}

/// Adds a line at the end of a text without sections.
pub(super) fn added_line(text: &str, key: &Key, value: &str) -> Option<String> {
    let [name] = &key.0[..] else {
        return None;
    };
    let entries = read(text, false);
    let line = format!("{name}{}{value}", parted(text, &entries));
    Some(with_lines(text, text.len(), &line))
}
