//! Settings files: their values by key, each with its place in the text; set and added without touching anything else.
//!
//! A text is read by a library of its notation, and changed in its bytes: comments, order, spacing, quotes and line ends stay as they
//! are. What was changed is read again, and has to say what was asked for.

mod blocks;
mod compare;
mod items;
mod json;
mod lines;
mod manner;
mod merge;
mod rewrite;
mod rows;
mod toml;
mod verdict;
mod xml;
mod yaml;

pub use compare::{Compared, Standing, compare, take};
pub use lines::LinePattern;
pub use manner::Manner;
pub use merge::{Answer, Answers, Counts, Merge, Question, Subject, Three, Told, merge, whole_id};

use crate::reading::TextFault;
use std::fmt;
use std::ops::Range;

/// No longer text is read, in bytes.
pub const LONGEST_BYTES: usize = 8 << 20;

/// How a settings file is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Notation {
    /// TOML.
    Toml,
    /// JSON, with comments.
    Json,
    /// YAML.
    Yaml,
    /// Keys and values in sections.
    Ini,
    /// A key and a value in each line.
    Properties,
    /// XML.
    Xml,
    /// A script, with a name and a value in some of its lines.
    Assignments,
    /// Lines of a pattern of their own.
    Lines(LinePattern),
}

impl Notation {
    /// That of a file, by the end of its name; none where that tells none.
    pub fn of(name: &str) -> Option<Notation> {
        let (_, end) = name.rsplit_once('.')?;
        Some(match end.to_ascii_lowercase().as_str() {
            "toml" => Notation::Toml,
            "json" | "jsonc" | "json5" => Notation::Json,
            "yaml" | "yml" => Notation::Yaml,
            "ini" | "cfg" | "conf" | "cnf" | "mt" => Notation::Ini,
            "properties" => Notation::Properties,
            "xml" => Notation::Xml,
            "sh" | "bash" | "bat" | "cmd" | "lua" | "py" => Notation::Assignments,
            _ => return None,
        })
    }

    /// Reads the word for it.
    pub fn named(word: &str) -> Option<Notation> {
        Some(match word {
            "toml" => Notation::Toml,
            "json" => Notation::Json,
            "yaml" => Notation::Yaml,
            "ini" => Notation::Ini,
            "properties" => Notation::Properties,
            "xml" => Notation::Xml,
            "assignments" => Notation::Assignments,
            _ => return None,
        })
    }

    /// Whether every line of a text says a value, or is there for people alone.
    fn is_whole(&self) -> bool {
        matches!(
            self,
            Notation::Toml | Notation::Json | Notation::Yaml | Notation::Xml
        )
    }
}

/// The way to a value: names, from the outermost one in. What stands in a list has its number, from 0.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Key(pub Vec<String>);

impl Key {
    /// Reads a key as people write it: `a.b.c`; a name with dots in it stands in quotes.
    pub fn of(text: &str) -> Key {
        let mut names = vec![String::new()];
        let mut quoted = false;
        for c in text.chars() {
            match c {
                '"' => quoted = !quoted,
                '.' if !quoted => names.push(String::new()),
                c => names.last_mut().expect("there is one").push(c),
            }
        }
        Key(names)
    }

    fn with(&self, name: &str) -> Key {
        let mut names = Vec::with_capacity(self.0.len() + 1);
        names.extend(self.0.iter().cloned());
        names.push(name.to_owned());
        Key(names)
    }

    /// The key of what it stands in, and its own name.
    fn split(&self) -> (Key, &str) {
        match self.0.split_last() {
            Some((name, above)) => (Key(above.to_vec()), name),
            None => (Key::default(), ""),
        }
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names = self.0.iter().map(|name| match name.contains('.') {
            true => format!("\"{name}\""),
            false => name.clone(),
        });
        f.write_str(&names.collect::<Vec<_>>().join("."))
    }
}

/// A value in a settings file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The way to it.
    pub key: Key,
    /// What it says, without quotes; of a list, as it is written.
    pub says: String,
    /// Of what form it is.
    pub form: Form,
    /// Where that stands in the text, in bytes.
    pub value: Range<usize>,
    /// The same with its key.
    pub whole: Range<usize>,
    /// The lines that it has to itself, with remarks right above them; none where it shares its line.
    pub rows: Option<Range<usize>>,
}

/// Of what form a value is: the same words can be a text, or something else.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Form {
    /// In quotes.
    Text,
    /// As it is.
    Bare,
    /// Several.
    List,
}

/// What values stand in: a table, a section, an element.
#[derive(Debug)]
struct Table {
    key: Key,
    /// Its lines, with what stands in it and the remarks right above; none where it shares a line.
    rows: Option<Range<usize>>,
}

/// A text as read.
#[derive(Debug, Default)]
struct Contents {
    /// In their order.
    entries: Vec<Entry>,
    /// In their order.
    tables: Vec<Table>,
}

/// Why a value cannot be set.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SettingsFault {
    /// The text is not in its notation.
    #[error("{}{}", line.map_or(String::new(), |line| format!("line {line}: ")), why)]
    Text {
        /// The line, from 1, where it is known.
        line: Option<usize>,
        /// What is wrong.
        why: String,
    },
    /// It is longer than anything that is read.
    #[error("it is longer than {} MB", LONGEST_BYTES >> 20)]
    TooLong,
    /// There is no place for the value.
    #[error("there is no place for {0}: what it would stand in is no table")]
    NoPlace(Key),
    /// Nobody has such a value.
    #[error("neither of the two has a value {0}")]
    NoKey(Key),
    /// The notation cannot say this value there.
    #[error("{0} cannot be set to that: read again, the text would say something else")]
    NotHeld(Key),
}

impl From<TextFault> for SettingsFault {
    fn from(fault: TextFault) -> SettingsFault {
        SettingsFault::Text {
            line: fault.line,
            why: fault.why,
        }
    }
}

/// Every value of a text, in its order.
///
/// # Errors
/// When the text is not in that notation, nested too deep, or too long.
pub fn read(notation: &Notation, text: &str) -> Result<Vec<Entry>, SettingsFault> {
    contents(notation, text).map(|contents| contents.entries)
}

fn contents(notation: &Notation, text: &str) -> Result<Contents, SettingsFault> {
    if text.len() > LONGEST_BYTES {
        return Err(SettingsFault::TooLong);
    }
    Ok(match notation {
        Notation::Toml => toml::read(text)?,
        Notation::Json => json::read(text)?,
        Notation::Yaml => yaml::read(text)?,
        Notation::Xml => xml::read(text)?,
        Notation::Ini => lines::read(text, lines::Style::Sections),
        Notation::Properties => lines::read(text, lines::Style::Plain),
        Notation::Assignments => lines::read(text, lines::Style::Script),
        Notation::Lines(pattern) => lines::read(text, lines::Style::Own(pattern)),
    })
}

/// A value as it is written where another one stands, in its manner.
fn written(notation: &Notation, now: &str, value: &str) -> String {
    match notation {
        Notation::Toml => toml::written(now, value),
        Notation::Json => json::written(now, value),
        Notation::Yaml => yaml::written(now, value),
        Notation::Ini | Notation::Properties | Notation::Lines(_) => value.to_owned(),
        Notation::Assignments => lines::assigned(now, value),
        Notation::Xml => xml::written(value),
    }
}

/// What a text says of a key.
///
/// # Errors
/// As [`read`].
pub fn get(notation: &Notation, text: &str, key: &Key) -> Result<Option<String>, SettingsFault> {
    let entries = read(notation, text)?;
    let entry = entries.into_iter().find(|entry| entry.key == *key);
    Ok(entry.map(|entry| entry.says))
}

/// The text with a value set, or added where it is missing; all else stays, byte for byte.
///
/// # Errors
/// When the text cannot be read, there is no place for the value, or the text would then say something else.
pub fn set(
    notation: &Notation,
    text: &str,
    key: &Key,
    value: &str,
) -> Result<String, SettingsFault> {
    let entries = read(notation, text)?;
    let new = match entries.iter().find(|entry| entry.key == *key) {
        Some(entry) if entry.says == value => return Ok(text.to_owned()),
        Some(entry) => {
            let now = &text[entry.value.clone()];
            replaced(text, entry.value.clone(), &written(notation, now, value))
        }
        None => {
            let added = match notation {
                Notation::Toml => toml::added(text, &entries, key, value),
                Notation::Json => json::added(text, key, value),
                Notation::Yaml => yaml::added(text, &entries, key, value),
                Notation::Ini => lines::added(text, &entries, key, value),
                Notation::Properties => lines::added_line(text, &entries, key, value),
                Notation::Assignments | Notation::Lines(_) => {
                    lines::added_alike(notation, text, &entries, key, value)
                }
                Notation::Xml => xml::added(text, key, value),
            };
            added.ok_or_else(|| SettingsFault::NoPlace(key.clone()))?
        }
    };
    let not_held = || SettingsFault::NotHeld(key.clone());
    let again = read(notation, &new).map_err(|_| not_held())?;
    let says = again.iter().find(|entry| entry.key == *key);
    let mut others = again.iter().filter(|entry| entry.key != *key);
    let before = entries.iter().filter(|entry| entry.key != *key);
    let same = before
        .map(|entry| (&entry.key, &entry.says))
        .eq(others.by_ref().map(|entry| (&entry.key, &entry.says)));
    match same && says.is_some_and(|entry| entry.says == value) {
        true => Ok(new),
        false => Err(not_held()),
    }
}

fn replaced(text: &str, range: Range<usize>, new: &str) -> String {
    format!("{}{new}{}", &text[..range.start], &text[range.end..])
}

/// The line end that a text uses.
fn line_end(text: &str) -> &'static str {
    if text.contains("\r\n") { "\r\n" } else { "\n" }
}

/// Where the line begins that a place stands in.
fn line_start(text: &str, at: usize) -> usize {
    let mut bytes = text.as_bytes()[..at].iter();
    bytes
        .rposition(|byte| *byte == b'\n')
        .map_or(0, |end| end + 1)
}

/// Where the line ends that a place stands in, with its line feed.
fn line_stop(text: &str, at: usize) -> usize {
    let mut bytes = text.as_bytes()[at..].iter();
    bytes
        .position(|byte| *byte == b'\n')
        .map_or(text.len(), |end| at + end + 1)
}

/// The blanks that a line begins with.
fn indent(text: &str, start: usize) -> &str {
    let line = &text[start..];
    let blanks = line.len() - line.trim_start_matches([' ', '\t']).len();
    &line[..blanks]
}

/// The lines from one place to another, with the remarks right above; none where something else stands in them, but what
/// `may_end` a line.
fn rows_of(
    text: &str,
    range: Range<usize>,
    is_remark: impl Fn(&str) -> bool,
    may_end: impl Fn(&str) -> bool,
) -> Option<Range<usize>> {
    let mut start = line_start(text, range.start);
    let stop = line_stop(text, range.end);
    let alone = text[start..range.start].trim().is_empty() && may_end(text[range.end..stop].trim());
    if !alone {
        return None;
    }
    while start > 0 {
        let above = line_start(text, start - 1);
        if !is_remark(text[above..start].trim()) {
            break;
        }
        start = above;
    }
    Some(start..stop)
}

/// The lines of a section, from its header to the last value before the next one.
fn sections(text: &str, heads: Vec<(Key, usize)>, entries: &[Entry]) -> Vec<Table> {
    let starts: Vec<usize> = heads.iter().map(|(_, at)| *at).collect();
    let tables = heads.into_iter().enumerate().map(|(number, (key, at))| {
        let next = starts.get(number + 1).copied().unwrap_or(text.len());
        let first = entries.partition_point(|entry| entry.value.start < at);
        let after = entries.partition_point(|entry| entry.value.start < next);
        let last = entries[first..after]
            .last()
            .map_or(at, |entry| entry.value.end);
        let remark = |row: &str| row.starts_with(['#', ';']);
        Table {
            rows: rows_of(text, at..last.max(at), remark, |_| true),
            key,
        }
    });
    tables.collect()
}

/// Adds lines behind a place at the end of a line, or at the end of the text.
fn with_lines(text: &str, at: usize, lines: &str) -> String {
    let end = line_end(text);
    let (before, after) = text.split_at(at);
    let open = !before.is_empty() && !before.ends_with('\n');
    let gap = if open { end } else { "" };
    format!("{before}{gap}{lines}{end}{after}")
}

#[cfg(test)]
mod merging;
#[cfg(test)]
mod tests;
