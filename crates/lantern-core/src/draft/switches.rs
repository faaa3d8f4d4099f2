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
/// The same under a head of its own, of which there are several, as TOML writes a list of tables.
static HEADED: LazyLock<Regex> = LazyLock::new(|| known(r"(?m)^\[\[(?P<head>[\w.-]+)\]\][^\[\]]*"));
static HEADED_PAIR: LazyLock<Regex> = LazyLock::new(|| {
    known(
        r#"(?m)^[ \t]*(?P<key>[\w-]+)[ \t]*=[ \t]*(?:"(?P<text>[^"\\]*)"|(?P<flag>true|false)\b)"#,
    )
});

/// How such tables are written.
#[derive(Clone, Copy)]
enum Manner<'t> {
    /// In braces.
    Braces,
    /// Under a head.
    Headed(&'t str),
}

impl Manner<'_> {
    fn pair(self) -> &'static Regex {
        match self {
            Manner::Braces => &PAIR,
            Manner::Headed(_) => &HEADED_PAIR,
        }
    }

    /// The pattern of a table that has these parts.
    fn line(self, parts: &[(&str, Part)]) -> String {
        let found: Vec<String> = parts
            .iter()
            .map(|(key, part)| part.found(self, key))
            .collect();
        match self {
            Manner::Braces => format!(r"\{{[^{{}}]*?{}[^{{}}]*\}}", found.join(r"[^{}]*?")),
            Manner::Headed(head) => {
                let head = regex::escape(head);
                // With all that stands below it up to a blank line.
                let rest = r"[^\n]*(?:\n[^\[\s#][^\n]*)*";
                let found = found.join(r"[^\[\]]*?");
                format!(r"^\[\[{head}\]\][^\[\]]*?{found}{rest}")
            }
        }
    }

    /// A new table with these parts.
    fn write(self, parts: &[(&str, Part)]) -> String {
        let written: Vec<String> = parts
            .iter()
            .map(|(key, part)| part.written(self, key))
            .collect();
        match self {
            Manner::Braces => format!("{{ {} }}", written.join(", ")),
            Manner::Headed(head) => format!("[[{head}]]\n{}", written.join("\n")),
        }
    }
}

/// A version and nothing else.
static VERSION: LazyLock<Regex> = LazyLock::new(|| known(r"^v?\d+(\.\d[\w+~-]*)+$"));

/// What the tables of a text switch, if several name what is there, each under the same keys.
pub(super) fn in_tables(path: &str, text: &str, ids: &BTreeSet<&str>) -> Option<Rule> {
    let heads = HEADED
        .captures_iter(text)
        .filter_map(|found| Some(found.name("head")?.as_str()));
    let heads: BTreeSet<&str> = heads.collect();
    let headed = heads
        .into_iter()
        .filter_map(|head| in_manner(Manner::Headed(head), path, text, ids));
    let braces = in_manner(Manner::Braces, path, text, ids);
    braces
        .into_iter()
        .chain(headed)
        .max_by_key(|rule| rule.count)
}

fn in_manner(manner: Manner<'_>, path: &str, text: &str, ids: &BTreeSet<&str>) -> Option<Rule> {
    let tables: Vec<_> = match manner {
        Manner::Braces => TABLE.find_iter(text).collect(),
        Manner::Headed(head) => {
            let all = HEADED.captures_iter(text);
            let own = all.filter(|found| &found["head"] == head);
            own.filter_map(|found| found.get(0)).collect()
        }
    };
    let mut alike: BTreeMap<(&str, &str, bool), Vec<&str>> = BTreeMap::new();
    for table in tables {
        let pairs: Vec<_> = manner.pair().captures_iter(table.as_str()).collect();
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
    if let Some((place, key)) = version(manner, &tables, &parts) {
        parts.insert(place, (key, Part::Version));
    }
    let (line, write) = (manner.line(&parts), manner.write(&parts));
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
    fn found(self, manner: Manner<'_>, key: &str) -> String {
        let key = regex::escape(key);
        let key = match manner {
            Manner::Braces => format!(r#""{key}"\s*:\s*"#),
            Manner::Headed(_) => format!(r"\b{key}\s*=\s*"),
        };
        match self {
            Part::Id => format!(r#"{key}"(?P<id>[^"]+)""#),
            Part::Version => format!(r#"{key}"(?P<version>[^"]*)""#),
            Part::On => format!(r"{key}(?P<on>\w+)"),
        }
    }

    fn written(self, manner: Manner<'_>, key: &str) -> String {
        let key = match manner {
            Manner::Braces => format!(r#""{key}": "#),
            Manner::Headed(_) => format!("{key} = "),
        };
        match self {
            Part::Id => format!(r#"{key}"{{id}}""#),
            Part::Version => format!(r#"{key}"{{version}}""#),
            Part::On => format!("{key}{{on}}"),
        }
    }
}

/// The key under which all tables hold a version, and how many of the other parts stand before it, where that is the same in all.
fn version<'t>(
    manner: Manner<'_>,
    tables: &[&'t str],
    parts: &[(&str, Part)],
) -> Option<(usize, &'t str)> {
    let versions = |table: &'t str| -> Vec<(usize, &'t str)> {
        let keys: Vec<(&'t str, bool)> = manner
            .pair()
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
