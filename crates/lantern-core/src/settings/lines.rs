//! Keys and values in lines: with sections, or without; in a script; or as a pattern finds them.

use super::{
    Contents, Entry, Form, Key, Notation, Table, line_end, line_start, line_stop, replaced,
    rows_of, sections, with_lines,
};
use regex::Regex;
use std::ops::Range;
use std::sync::LazyLock;

/// Finds a line's key and value as groups of these names.
#[derive(Debug, Clone)]
pub struct LinePattern(Regex);

impl LinePattern {
    /// Takes a pattern.
    ///
    /// # Errors
    /// With what is wrong with it, where it lacks one of the groups.
    pub fn new(pattern: Regex) -> Result<LinePattern, String> {
        let has = |group: &str| pattern.capture_names().any(|name| name == Some(group));
        match has("key") && has("value") {
            true => Ok(LinePattern(pattern)),
            false => Err("it lacks the group (?P<key>…) or (?P<value>…)".into()),
        }
    }
}

impl PartialEq for LinePattern {
    fn eq(&self, other: &LinePattern) -> bool {
        self.0.as_str() == other.0.as_str()
    }
}

impl Eq for LinePattern {}

/// How lines say values.
#[derive(Debug, Clone, Copy)]
pub(super) enum Style<'p> {
    Sections,
    Plain,
    Script,
    Own(&'p LinePattern),
}

/// A name and a value in a script, and nothing else in the line but a remark: in a shell, a batch file, Lua, Python.
static ASSIGNMENT: LazyLock<Regex> = LazyLock::new(|| {
    let names = r#"^\s*(?:(?:@?set|export|local|readonly|declare|SET|@SET)\s+)*(?P<key>[A-Za-z_][\w.]*)\s*=\s*"#;
    let value = r#"(?P<value>"[^"\\]*"|'[^'\\]*'|[^\s"'`;#=(){}\[\],$%|&<>]*)"#;
    let rest = r"[;,]?\s*(?:(?:#|--|//|::).*)?$";
    Regex::new(&format!("{names}{value}{rest}")).expect("it is well formed")
});

/// What a remark begins with.
fn is_remark(row: &str) -> bool {
    let begins = ["#", ";", "//", "!", "--", "::"];
    begins.iter().any(|begin| row.starts_with(begin))
        || row
            .get(..4)
            .is_some_and(|word| word.eq_ignore_ascii_case("rem "))
}

/// Whether a line says a value, or is there for people alone.
pub(super) fn is_plain(notation: &Notation, line: &str) -> bool {
    let row = line.trim();
    let is_header = *notation == Notation::Ini && row.starts_with('[') && row.ends_with(']');
    row.is_empty()
        || is_remark(row)
        || is_header
        || match notation {
            Notation::Ini => said(Style::Sections, line).is_some(),
            Notation::Properties => said(Style::Plain, line).is_some(),
            Notation::Assignments => said(Style::Script, line).is_some(),
            Notation::Lines(pattern) => said(Style::Own(pattern), line).is_some(),
            _ => false,
        }
}

/// The place of what parts a key from its value.
fn parts_at(line: &str) -> Option<usize> {
    line.find(['=', ':'])
}

/// The places of a line's key and value.
fn said(style: Style<'_>, body: &str) -> Option<(Range<usize>, Range<usize>)> {
    let trimmed = |from: usize, to: usize| {
        let says = &body[from..to];
        let start = from + (says.len() - says.trim_start().len());
        start..start + says.trim().len()
    };
    let by = |pattern: &Regex| {
        let found = pattern.captures(body)?;
        let (key, value) = (found.name("key")?, found.name("value")?);
        Some((
            trimmed(key.start(), key.end()),
            trimmed(value.start(), value.end()),
        ))
    };
    match style {
        Style::Sections | Style::Plain => {
            let parted = parts_at(body)?;
            Some((trimmed(0, parted), trimmed(parted + 1, body.len())))
        }
        Style::Script => by(&ASSIGNMENT),
        Style::Own(pattern) => by(&pattern.0),
    }
}

/// What stands in a pair of quotes.
fn unquoted(raw: &str) -> Option<&str> {
    let inside = |quote: char| raw.strip_prefix(quote)?.strip_suffix(quote);
    inside('"').or_else(|| inside('\''))
}

pub(super) fn read(text: &str, style: Style<'_>) -> Contents {
    let mut entries = Vec::new();
    let mut heads: Vec<(Key, usize)> = Vec::new();
    let mut section = Key::default();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let start = at;
        at += line.len();
        let body = line.trim_end_matches(['\n', '\r']);
        let row = body.trim();
        let own = matches!(style, Style::Own(_));
        if row.is_empty() || (is_remark(row) && !own) {
            continue;
        }
        let header = row.strip_prefix('[').and_then(|row| row.strip_suffix(']'));
        if let (Some(header), Style::Sections) = (header, style) {
            section = Key(vec![header.trim().to_owned()]);
            heads.push((
                section.clone(),
                start + (body.len() - body.trim_start().len()),
            ));
            continue;
        }
        let Some((key, value)) = said(style, body) else {
            continue;
        };
        let raw = &body[value.clone()];
        let text_in = unquoted(raw).filter(|_| matches!(style, Style::Script));
        let value = start + value.start..start + value.end;
        entries.push(Entry {
            key: section.with(&body[key.clone()]),
            says: text_in.unwrap_or(raw).to_owned(),
            form: if text_in.is_some() {
                Form::Text
            } else {
                Form::Bare
            },
            rows: rows_of(text, start..start + body.len(), is_remark, str::is_empty),
            whole: start + key.start.min(value.start - start)..value.end,
            value,
        });
    }
    let tables: Vec<Table> = sections(text, heads, &entries);
    Contents { entries, tables }
}

/// A value of a script as it is written where another one stands.
pub(super) fn assigned(now: &str, value: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || "_-./:+@".contains(c);
    match now.chars().next() {
        Some('\'') if !value.contains('\'') => format!("'{value}'"),
        Some('"' | '\'') => format!("\"{value}\""),
        _ if value.chars().all(plain) => value.to_owned(),
        _ => format!("\"{value}\""),
    }
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
pub(super) fn added_line(text: &str, entries: &[Entry], key: &Key, value: &str) -> Option<String> {
    let [name] = &key.0[..] else {
        return None;
    };
    let line = format!("{name}{}{value}", parted(text, entries));
    Some(with_lines(text, text.len(), &line))
}

/// Adds a line behind the last one that says a value, and like that one.
pub(super) fn added_alike(
    notation: &Notation,
    text: &str,
    entries: &[Entry],
    key: &Key,
    value: &str,
) -> Option<String> {
    let ([name], Some(last)) = (&key.0[..], entries.last()) else {
        return None;
    };
    let (start, stop) = (
        line_start(text, last.value.start),
        line_stop(text, last.value.end),
    );
    let line = text[start..stop].trim_end_matches(['\n', '\r']);
    let written = super::written(notation, &text[last.value.clone()], value);
    let line = replaced(
        line,
        last.value.start - start..last.value.end - start,
        &written,
    );
    let line = line.replacen(&last.key.0[0], name, 1);
    Some(with_lines(text, stop, &line))
}
