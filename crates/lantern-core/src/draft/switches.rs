//! Tables side by side that each name an add-on and say whether it is on, as lists of such in JSON do.

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
    let named = format!(r#""{}"\s*:\s*"(?P<id>[^"]+)""#, regex::escape(id));
    let flag = format!(r#""{}"\s*:\s*(?P<on>\w+)"#, regex::escape(on));
    let (line, write) = match is_first {
        true => (
            format!(r"\{{[^{{}}]*?{named}[^{{}}]*?{flag}[^{{}}]*\}}"),
            format!(r#"{{ "{id}": "{{id}}", "{on}": {{on}} }}"#),
        ),
        false => (
            format!(r"\{{[^{{}}]*?{flag}[^{{}}]*?{named}[^{{}}]*\}}"),
            format!(r#"{{ "{on}": {{on}}, "{id}": "{{id}}" }}"#),
        ),
    };
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
