//! What a descriptor says, and under which keys it probably says what.

use super::rule::known;
use super::{notation, quoted};
use crate::document::{Node, Table, parse};
use regex::Regex;
use std::fmt::Write;
use std::sync::LazyLock;

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
    (
        "server",
        &[
            "server_version",
            "game_version",
            "target_version",
            "made_for",
            "server",
            "for",
        ],
    ),
    ("side", &["side", "environment"]),
];
/// By what tables in a list name another component, and in which versions.
const ITEM_IDS: &[&str] = &["id", "name", "identifier", "key", "modid"];
const ITEM_RANGES: &[&str] = &["version", "range", "min_version", "from", "minimum"];

/// What looks like a version, or a range of them.
static VERSIONS: LazyLock<Regex> =
    LazyLock::new(|| known(r"^[\s\[(<>=^~]*v?\d[\w.+-]*(?:[\s,|<>=^~\-\[\]()]|v?\d[\w.+-]*|\*)*$"));

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

    /// How much it tells; what is there and empty tells less.
    pub(super) fn much(&self) -> usize {
        let told = self
            .fields
            .iter()
            .map(|field| 1 + usize::from(!field.is_empty));
        told.sum()
    }

    /// The id that another one of the same kind states.
    pub(super) fn id(&self, text: &str) -> Option<String> {
        id_in(&self.fields, &read(self.notation, None, text)?)
    }
}

/// The id that the header of a file states, in which these fields are found.
pub(super) fn id_by_header(fields: &[Field], header: &str, text: &str) -> Option<String> {
    id_in(fields, &read("header", Some(header), text)?)
}

fn id_in(fields: &[Field], table: &Table) -> Option<String> {
    let id = fields.iter().find(|field| field.name == "id")?;
    let id = at(table, &id.key)?.text()?;
    Some(id.trim().to_owned())
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
    /// Whether nothing stands there.
    is_empty: bool,
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
                is_called(last.trim_start_matches('@'), word)
            })
        })?;
        let node = at(&table, key);
        let rule = match node {
            Some(Node::Text(text)) if *name == "server" && VERSIONS.is_match(text) => format!(
                "{}    # TODO: are these the versions of the server that it is for?",
                quoted(key)
            ),
            _ if *name == "server" => return None,
            Some(Node::List(items)) if *name == "version" => {
                let is_number =
                    |item: &Node| item.text().is_some_and(|text| text.parse::<u64>().is_ok());
                let is_one = items.iter().all(is_number) && !items.is_empty();
                is_one.then(|| format!("{{ at = {}, between = \".\" }}", quoted(key)))?
            }
            Some(Node::Table(table)) if *name == "version" => parted(key, table)?,
            Some(Node::Text(text)) if matches!(*name, "needs" | "uses") => cut(key, text),
            Some(Node::List(items)) if matches!(*name, "needs" | "uses") => listed(key, items)?,
            // Of other shapes nothing could be read by the key alone.
            Some(node) if matches!(*name, "needs" | "uses") && !is_plain(node) => return None,
            _ => quoted(key),
        };
        Some(Field {
            name,
            key: key.clone(),
            rule,
            is_empty: match node {
                Some(Node::Text(text)) => text.trim().is_empty(),
                Some(Node::List(items)) => items.is_empty(),
                Some(Node::Table(table)) => table.is_empty(),
                None => true,
            },
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
    let tables = items.iter().filter_map(|item| match item {
        Node::Table(table) => Some(table),
        Node::Text(_) | Node::List(_) => None,
    });
    let tables: Vec<&Table> = tables.collect();
    if !tables.is_empty() && tables.len() == items.len() {
        return in_tables(key, &tables);
    }
    let texts: Option<Vec<&str>> = items.iter().map(Node::text).collect();
    Some(match texts?.into_iter().all(is_word) {
        true => quoted(key),
        false => {
            let pattern = r"^(?P<id>\w[\w.-]*)\s*(?P<range>.*)$";
            format!("{{ at = {}, pattern = '{pattern}' }}", quoted(key))
        }
    })
}

/// How components are picked out of a list of tables that each name one.
fn in_tables(key: &str, tables: &[&Table]) -> Option<String> {
    let called = |words: &[&str]| {
        let in_all = |key: &&String| {
            tables
                .iter()
                .all(|table| table.get(*key).and_then(Node::text).is_some())
        };
        let mut keys = tables.first()?.keys();
        keys.find(|key| words.iter().any(|word| is_called(key, word)) && in_all(key))
    };
    let id = called(ITEM_IDS)?;
    let item = |more: &str| {
        format!(
            "{{ at = {}, item = {{ id = {}{more} }}",
            quoted(key),
            quoted(id)
        )
    };
    let Some(range) = called(ITEM_RANGES) else {
        return Some(format!("{} }}", item("")));
    };
    // A version alone is the least one where it is called so, and else nobody knows.
    let is_least = is_called(range, "from") || range.to_ascii_lowercase().contains("min");
    let least = if is_least { ", range = \">={}\"" } else { "" };
    let more = format!(", range = {}", quoted(range));
    Some(format!("{}{least} }}", item(&more)))
}

/// A version whose numbers stand each under a key of its own.
fn parted(key: &str, table: &Table) -> Option<String> {
    let part = |word: &str| table.keys().find(|key| is_called(key, word));
    let parts: Vec<&String> = ["major", "minor", "patch"]
        .into_iter()
        .map_while(part)
        .collect();
    let each = parts
        .iter()
        .map(|part| format!("{} = \"{{}}\"", quoted(&format!("{key}.{part}"))));
    let each: Vec<String> = each.collect();
    (each.len() > 1).then(|| format!("{{ at = {{ {} }}, between = \".\" }}", each.join(", ")))
}

/// Whether a key is called by a word, however that is put together.
fn is_called(key: &str, word: &str) -> bool {
    let letters = |text: &str| text.to_ascii_lowercase().replace(['_', '-', ' '], "");
    letters(key) == letters(word)
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
