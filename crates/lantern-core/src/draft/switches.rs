//! What says of each add-on whether it is on, as JSON does: tables side by side that each name one, or one table with a key for each.

use super::quoted;
use super::rule::{Rule, known};
use regex::Regex;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

/// A table with no other in it, and in it a key with a text, or with a truth value.
static TABLE: LazyLock<Regex> = LazyLock::new(|| known(r"\{[^{}]*\}"));
static PAIR: LazyLock<Regex> = LazyLock::new(|| {
    known(r#""(?P<key>[^"\\]+)"\s*:\s*(?:"(?P<text>[^"\\]*)"|(?P<flag>true|false)\b)"#)
});

/// A version and nothing else.
static VERSION: LazyLock<Regex> = LazyLock::new(|| known(r"^v?\d+(\.\d[\w+~-]*)+$"));

/// What the tables of a text switch, if several name what is there, each under the same keys.
pub(super) fn in_tables(path: &str, text: &str, ids: &BTreeSet<&str>) -> Option<Rule> {
    let mut alike: BTreeMap<(&str, &str, bool), Vec<&str>> = BTreeMap::new();
    for table in TABLE.find_iter(text) {
        let pairs: Vec<_> = PAIR.captures_iter(table.as_str()).collect();
        let key = |pair: &regex::Captures<'_>| {
            let key = pair.name("key")?;
            Some(&text[table.start() + key.start()..table.start() + key.end()])
        };
        let text_of =
            |pair: &regex::Captures<'_>| pair.name("text").map(|text| text.as_str().to_owned());
        let named = pairs
            .iter()
            .position(|pair| text_of(pair).is_some_and(|text| ids.contains(&*text)));
        let flag = pairs.iter().position(|pair| pair.name("flag").is_some());
        if let (Some(named), Some(flag)) = (named, flag)
            && let (Some(id), Some(on)) = (key(&pairs[named]), key(&pairs[flag]))
        {
            let all = alike.entry((id, on, named < flag)).or_default();
            all.push(table.as_str());
        }
    }
    let ((id, on, is_first), tables) = alike.into_iter().max_by_key(|(_, all)| all.len())?;
    if tables.len() < 2 {
        return None;
    }
    let mut parts = match is_first {
        true => vec![(id, Part::Id), (on, Part::On)],
        false => vec![(on, Part::On), (id, Part::Id)],
    };
    if let Some((place, key)) = version(&tables, &parts) {
        parts.insert(place, (key, Part::Version));
    }
    let line: Vec<String> = parts.iter().map(|(key, part)| part.found(key)).collect();
    let line = format!(r"\{{[^{{}}]*?{}[^{{}}]*\}}", line.join(r"[^{}]*?"));
    let write: Vec<String> = parts.iter().map(|(key, part)| part.written(key)).collect();
    let write = format!("{{ {} }}", write.join(", "));
    Some(Rule {
        file: path.to_owned(),
        count: tables.len(),
        how: ", in tables",
        kind: "flags",
        keys: format!(
            "file = {}\nline = {}\nspans = true\nwrite = {}\n",
            quoted(path),
            quoted(&line),
            quoted(&write)
        ),
    })
}

/// The line that opens a table which goes over several.
static OPENS: LazyLock<Regex> = LazyLock::new(|| known(r#"^\s*("[^"\\]+")\s*:\s*$"#));

/// The table whose keys name the most of what is there, if several, each with a truth value.
pub(super) fn in_object(path: &str, text: &str, ids: &BTreeSet<&str>) -> Option<Rule> {
    let switches = |table: &str| {
        let pairs = PAIR.captures_iter(table);
        let switches = pairs.filter(|pair| {
            pair.name("flag").is_some()
                && pair
                    .name("key")
                    .is_some_and(|key| ids.contains(key.as_str()))
        });
        switches.count()
    };
    let tables = TABLE
        .find_iter(text)
        .map(|table| (switches(table.as_str()), table));
    let (count, table) = tables.max_by_key(|(count, _)| *count)?;
    let is_whole = text[..table.start()].trim().is_empty() && text[table.end()..].trim().is_empty();
    let opens = text[..table.start()]
        .lines()
        .next_back()
        .and_then(|line| OPENS.captures(line));
    let within = match (is_whole, opens) {
        (true, _) => String::new(),
        (false, Some(opens)) => format!(
            "within = {{ from = {}, to = {} }}\n",
            quoted(&format!(r"^\s*{}\s*:\s*\{{", regex::escape(&opens[1]))),
            quoted(r"^\s*\}"),
        ),
        (false, None) => return None,
    };
    (count > 1 && table.as_str().contains('\n')).then(|| Rule {
        file: path.to_owned(),
        count,
        how: ", as keys of a table",
        kind: "flags",
        keys: format!(
            "file = {}\n{within}line = {}\nspans = true\nwrite = {}\n",
            quoted(path),
            quoted(r#""(?P<id>[^"]+)"\s*:\s*(?P<on>true|false)"#),
            quoted(r#""{id}": {on}"#)
        ),
    })
}

/// What stands under a key of such a table.
#[derive(Clone, Copy)]
enum Part {
    Id,
    Version,
    On,
}

impl Part {
    fn found(self, key: &str) -> String {
        let key = regex::escape(key);
        match self {
            Part::Id => format!(r#""{key}"\s*:\s*"(?P<id>[^"]+)""#),
            Part::Version => format!(r#""{key}"\s*:\s*"(?P<version>[^"]*)""#),
            Part::On => format!(r#""{key}"\s*:\s*(?P<on>\w+)"#),
        }
    }

    fn written(self, key: &str) -> String {
        match self {
            Part::Id => format!(r#""{key}": "{{id}}""#),
            Part::Version => format!(r#""{key}": "{{version}}""#),
            Part::On => format!(r#""{key}": {{on}}"#),
        }
    }
}

/// The key under which all tables hold a version, and how many of the other parts stand before it, where that is the same in all.
fn version<'t>(tables: &[&'t str], parts: &[(&str, Part)]) -> Option<(usize, &'t str)> {
    let versions = |table: &'t str| -> Vec<(usize, &'t str)> {
        let keys: Vec<(&'t str, bool)> = PAIR
            .captures_iter(table)
            .filter_map(|pair| {
                let text = pair.name("text").map_or("", |text| text.as_str());
                Some((pair.name("key")?.as_str(), VERSION.is_match(text)))
            })
            .collect();
        let before = |at: usize| {
            let keys = keys[..at].iter();
            let others = keys.filter(|(key, _)| parts.iter().any(|(other, _)| other == key));
            others.count()
        };
        let found = keys.iter().enumerate().filter(|(_, (_, is_one))| *is_one);
        found.map(|(at, (key, _))| (before(at), *key)).collect()
    };
    let mut all = tables.iter().map(|table| versions(table));
    let first = all.next()?;
    let rest: Vec<_> = all.collect();
    let mut in_all = first.into_iter();
    in_all.find(|found| rest.iter().all(|table| table.contains(found)))
}
