//! What is said of a settings file besides its text: how it is written, what in it is secret, what has another name by now.

use super::{Entry, Key, Notation, read};
use crate::reading::line_at;
use globset::GlobMatcher;
use std::collections::{BTreeSet, HashMap};

/// Words in the name of a key that make a secret of its value.
const SECRET: [&str; 8] = [
    "password",
    "passwd",
    "passphrase",
    "secret",
    "token",
    "api_key",
    "apikey",
    "private_key",
];

/// How a settings file is to be taken.
#[derive(Debug, Clone, Default)]
pub struct Manner {
    /// Its notation; none where nothing tells one.
    pub notation: Option<Notation>,
    /// Patterns of further keys that hold secrets, against the whole key and its last name.
    pub secret: Vec<GlobMatcher>,
    /// Lists in which the order of the items has no meaning.
    pub any_order: Vec<Key>,
    /// Keys that have another name by now: the new one, and the old one.
    pub was: Vec<(Key, Key)>,
}

impl Manner {
    /// That of a file, by its name alone.
    pub fn of(name: &str) -> Manner {
        Manner {
            notation: Notation::of(name),
            ..Manner::default()
        }
    }

    /// Whether a key holds what nobody else may know.
    pub fn is_secret(&self, key: &Key) -> bool {
        let name = key.0.iter().rev().find(|name| *name != "#text");
        let Some(name) = name else {
            return false;
        };
        let plain = name.to_ascii_lowercase().replace('-', "_");
        let whole = key.to_string();
        let stated = |glob: &GlobMatcher| glob.is_match(&whole) || glob.is_match(name);
        SECRET.iter().any(|word| plain.contains(word)) || self.secret.iter().any(stated)
    }

    /// The lines of a text, from 1, in which a secret stands.
    pub fn secret_lines(&self, text: &str) -> BTreeSet<usize> {
        let entries = self
            .notation
            .as_ref()
            .and_then(|notation| read(notation, text).ok());
        let entries = entries.unwrap_or_default().into_iter();
        let lines = entries
            .filter(|entry| self.is_secret(&entry.key))
            .flat_map(|entry| line_at(text, entry.whole.start)..=line_at(text, entry.value.end));
        lines.collect()
    }

    /// Two states of a text as they may be shown: of what is secret, only whether it is another one.
    pub fn veiled(&self, before: &str, after: &str) -> (String, String) {
        let read = |text: &str| {
            let entries = self
                .notation
                .as_ref()
                .and_then(|notation| read(notation, text).ok());
            entries.unwrap_or_default()
        };
        let (was, is) = (read(before), read(after));
        let known: HashMap<&Key, &str> = was.iter().map(|it| (&it.key, it.says.as_str())).collect();
        let veil = |text: &str, entries: &[Entry], is_later: bool| {
            let mut shown = text.to_owned();
            for entry in entries
                .iter()
                .rev()
                .filter(|entry| self.is_secret(&entry.key))
            {
                let same = known
                    .get(&entry.key)
                    .is_none_or(|known| *known == entry.says);
                let word = if is_later && !same {
                    "(another secret)"
                } else {
                    "(a secret)"
                };
                shown.replace_range(entry.value.clone(), word);
            }
            match entries.is_empty() {
                true => shown
                    .split_inclusive('\n')
                    .map(|line| self.hidden(line))
                    .collect(),
                false => shown,
            }
        };
        (veil(before, &was, false), veil(after, &is, true))
    }

    /// Whether a line looks as if it held a secret.
    pub fn hides(&self, line: &str) -> bool {
        self.hidden(line) != line
    }

    /// A line as it may be shown: what looks like a secret is not.
    pub(super) fn hidden(&self, line: &str) -> String {
        let parted = line.find(['=', ':']);
        let name = parted.map(|at| {
            line[..at]
                .split_whitespace()
                .next_back()
                .unwrap_or_default()
        });
        let key = name.map(|name| Key(vec![name.trim_matches('"').to_owned()]));
        match (parted, key) {
            (Some(at), Some(key)) if self.is_secret(&key) => {
                let end = if line.ends_with('\n') { "\n" } else { "" };
                format!("{} (a secret){end}", &line[..=at])
            }
            _ => line.to_owned(),
        }
    }
}
