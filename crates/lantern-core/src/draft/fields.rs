//! What a descriptor says, and under which keys it probably says what.

use super::{notation, quoted};
use crate::document::{Node, Table, parse};
use std::fmt::Write;

/// Words by which descriptors commonly name a field.
const WORDS: &[(&str, &[&str])] = &[
    ("id", &["id", "name", "identifier", "key"]),
    (
        "title",
        &["title", "label", "display_name", "displayname", "name"],
    ),
    ("version", &["version", "ver"]),
    (
        "needs",
        &[
            "needs",
            "depends",
            "depend",
            "dependencies",
            "requires",
            "require",
            "dependency",
        ],
    ),
    (
        "uses",
        &["uses", "optional", "optional_depends", "suggests"],
    ),
    ("side", &["side", "environment"]),
];

/// A descriptor, and what it tells.
pub(super) struct Told {
    pub(super) file: String,
    pub(super) notation: &'static str,
    pub(super) fields: Vec<Field>,
}

impl Told {
    /// None where it says nothing of a component.
    pub(super) fn by(file: &str, text: &str) -> Option<Told> {
        let notation = notation::of(file, text)?;
        let fields = fields(notation, None, text);
        let tells = |name: &str| fields.iter().any(|field| field.name == name);
        (tells("id") || tells("version")).then(|| Told {
            file: file.to_owned(),
            notation,
            fields,
        })
    }

    /// The id that another one of the same kind states.
    pub(super) fn id(&self, text: &str) -> Option<String> {
        let id = self.fields.iter().find(|field| field.name == "id")?;
        match at(&read(self.notation, None, text)?, &id.key)? {
            Node::Text(id) => Some(id.trim().to_owned()),
            _ => None,
        }
    }
}

/// What a descriptor says; none where it cannot be read in this notation.
fn read(notation: &str, header: Option<&str>, text: &str) -> Option<Table> {
    let mut file = format!("name = \".\"\nnotation = \"{notation}\"\n");
    if let Some(header) = header {
        let _ = writeln!(file, "line = '{header}'");
    }
    parse(&toml_edit::de::from_str(&file).ok()?, text).ok()
}

/// Where a fact is probably found.
pub(super) struct Field {
    pub(super) name: &'static str,
    /// The key, with dots between.
    pub(super) key: String,
    /// The lookup, as a family file writes it.
    pub(super) rule: String,
}

/// Which keys of a descriptor probably hold which field.
pub(super) fn fields(notation: &str, header: Option<&str>, text: &str) -> Vec<Field> {
    let Some(table) = read(notation, header, text) else {
        return Vec::new();
    };
    let mut keys = Vec::new();
    collect_keys("", &table, &mut keys);
    let guesses = WORDS.iter().filter_map(|(name, words)| {
        let key = words.iter().find_map(|word| {
            let mut keys = keys.iter();
            keys.find(|key| {
                let last = key.rsplit('.').next().unwrap_or(key);
                last.trim_start_matches('@').eq_ignore_ascii_case(word)
            })
        });
        let rule = match at(&table, key?) {
            Some(Node::Text(text)) if matches!(*name, "needs" | "uses") => cut(key?, text),
            Some(Node::List(items)) if matches!(*name, "needs" | "uses") => listed(key?, items)?,
            // Of other shapes nothing could be read by the key alone.
            Some(node) if matches!(*name, "needs" | "uses") && !is_plain(node) => return None,
            _ => quoted(key?),
        };
        Some(Field {
            name,
            key: key?.clone(),
            rule,
        })
    });
    let mut guesses: Vec<Field> = guesses.collect();
    // One key tells one thing.
    let id = guesses.iter().find(|field| field.name == "id");
    let id = id.map(|field| field.key.clone());
    guesses.retain(|field| field.name != "title" || id.as_ref() != Some(&field.key));
    guesses
}

/// Whether it is a list of ids, or a table of ids and ranges.
fn is_plain(node: &Node) -> bool {
    let is_text = |node: &Node| matches!(node, Node::Text(_));
    match node {
        Node::Text(_) => true,
        Node::List(items) => items.iter().all(is_text),
        Node::Table(table) => {
            let is_id = |key: &String| !key.starts_with(['@', '#']);
            table.keys().all(is_id) && table.values().all(is_text)
        }
    }
}

/// How components are picked out of a list of texts: where ranges stand behind them, what begins with a mark means something
/// else. None where something else is listed.
fn listed(key: &str, items: &[Node]) -> Option<String> {
    let texts: Option<Vec<&str>> = items.iter().map(Node::text).collect();
    Some(match texts?.into_iter().all(is_word) {
        true => quoted(key),
        false => {
            let pattern = r"^(?P<id>\w[\w.-]*)\s*(?P<range>.*)$";
            format!("{{ at = {}, pattern = '{pattern}' }}", quoted(key))
        }
    })
}

/// Whether a text may be an id.
fn is_word(text: &str) -> bool {
    text.chars()
        .all(|c| c.is_alphanumeric() || "_.-".contains(c))
}

/// How several components are picked out of one text.
fn cut(key: &str, text: &str) -> String {
    let between = [",", ";"]
        .into_iter()
        .find(|between| text.contains(between));
    let between = between.unwrap_or(if text.contains(' ') { " " } else { "," });
    let pattern = match text.split(between).all(|item| is_word(item.trim())) {
        true => "",
        false => r", pattern = '^\W*(?P<id>[\w.-]+)\s*(?P<range>.*)$'",
    };
    format!(
        "{{ at = {}, split = {}{pattern} }}",
        quoted(key),
        quoted(between)
    )
}

/// What stands in a table under a key with dots between.
fn at<'t>(table: &'t Table, key: &str) -> Option<&'t Node> {
    let (first, rest) = match key.split_once('.') {
        Some((first, rest)) => (first, Some(rest)),
        None => (key, None),
    };
    match (table.get(first)?, rest) {
        (node, None) => Some(node),
        (Node::Table(inner), Some(rest)) => at(inner, rest),
        _ => None,
    }
}

/// The keys of a table, the outermost first; a table of texts counts as one of them.
fn collect_keys(above: &str, table: &Table, keys: &mut Vec<String>) {
    let named = |key: &str| match above {
        "" => key.to_owned(),
        above => format!("{above}.{key}"),
    };
    keys.extend(table.keys().map(|key| named(key)));
    for (key, node) in table {
        if let Node::Table(inner) = node
            && above.matches('.').count() < 2
        {
            collect_keys(&named(key), inner, keys);
        }
    }
}
