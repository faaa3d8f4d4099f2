//! What a descriptor text says, by the rules of a reader.

use crate::component::{Effect, Facts, Id, Need, Provided, Side};
use crate::family::{FieldRule, Lookup, Notations, Reader, TextNotation};
use crate::version::Version;
use std::collections::BTreeMap;

/// The longest descriptor that is read, in bytes.
pub const LONGEST_BYTES: u64 = 1 << 20;

/// A value of a descriptor, whatever it was written in.
#[derive(Debug, Clone, PartialEq)]
enum Node {
    Text(String),
    List(Vec<Node>),
    Table(BTreeMap<String, Node>),
}

/// One descriptor file as it was found: which of the reader's files, and its text.
#[derive(Debug, Clone, Copy)]
pub struct Found<'a> {
    /// The name, as in the reader's `files`.
    pub name: &'a str,
    /// The text.
    pub text: &'a str,
}

/// Why the descriptor of a component cannot be made sense of.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}{}: {why}", line.map(|l| format!(":{l}")).unwrap_or_default())]
pub struct DescriptorFault {
    /// The descriptor file's name.
    pub file: String,
    /// The line, from 1, where it is known.
    pub line: Option<usize>,
    /// What is wrong.
    pub why: String,
}

/// Reads what a component's descriptor files say.
///
/// `name` is what the folder or file is called, without extension: the id where none is stated.
/// `content` is the hash of the component's content: the version where none is stated.
///
/// # Errors
/// On text that the notation cannot read, and on versions and ranges that make no sense.
pub fn read(
    reader: &Reader,
    notations: &Notations,
    found: &[Found<'_>],
    name: &str,
    content: &str,
) -> Result<Facts, DescriptorFault> {
    let mut top = BTreeMap::new();
    for file in &reader.files {
        let Some(found) = found.iter().find(|f| f.name == file.name) else {
            continue;
        };
        if file.unless.iter().any(|key| top.contains_key(key)) {
            continue;
        }
        for (key, value) in parse(file.notation, found)? {
            top.entry(key).or_insert(value);
        }
    }
    let top = Node::Table(top);
    let source = Source {
        top: &top,
        found,
        notations,
    };
    source.facts(reader, name, content)
}

struct Source<'a> {
    top: &'a Node,
    found: &'a [Found<'a>],
    notations: &'a Notations,
}

impl Source<'_> {
    fn facts(&self, reader: &Reader, name: &str, content: &str) -> Result<Facts, DescriptorFault> {
        let fields = &reader.fields;
        let id = self.text(&fields.id).unwrap_or_else(|| name.to_owned());
        if id.is_empty()
            || id.len() > 200
            || id.chars().any(|c| c.is_control() || "/\\".contains(c))
        {
            return Err(self.fault(&id, format!("the id {id:?} cannot be used")));
        }
        let version = match self.text(&fields.version) {
            Some(text) => {
                let version = self.notations.version(reader.kind, &text);
                version.map_err(|error| self.fault(&text, error.to_string()))?
            }
            None => Version::of_content(content),
        };
        let server = match self.text(&fields.server) {
            Some(text) => {
                let range = self.notations.server_range(&text);
                Some(range.map_err(|error| self.fault(&text, error.to_string()))?)
            }
            None => None,
        };
        let side = match self.text(&fields.side) {
            Some(text) => Some(Side::read(&text).ok_or_else(|| {
                self.fault(
                    &text,
                    format!("the side {text:?} is none of server, client, both"),
                )
            })?),
            None => reader.side,
        };
        let effect = match self.text(&fields.effect) {
            Some(text) => Some(Effect::read(&text).ok_or_else(|| {
                self.fault(
                    &text,
                    format!("the effect {text:?} is neither play nor admin"),
                )
            })?),
            None => None,
        };
        let world_bound = match self.text(&fields.world_bound).as_deref() {
            None => None,
            Some("true" | "yes" | "1") => Some(true),
            Some("false" | "no" | "0") => Some(false),
            Some(other) => {
                return Err(self.fault(other, format!("{other:?} is neither true nor false")));
            }
        };
        let provides = self.needs(&fields.provides)?.into_iter();
        Ok(Facts {
            title: self.text(&fields.title),
            server,
            needs: self.needs(&fields.needs)?,
            uses: self.needs(&fields.uses)?,
            clashes: self.needs(&fields.clashes)?,
            provides: provides
                .map(|need| Provided {
                    id: need.id,
                    version: None,
                })
                .collect(),
            side,
            effect,
            world_bound,
            ..Facts::new(Id::new(&id), reader.kind, version)
        })
    }

    fn first<'r>(&self, rule: &'r FieldRule) -> Option<(&'r Lookup, &Node)> {
        rule.0.iter().find_map(|lookup| {
            let mut node = self.top;
            for key in lookup.at.split('.') {
                let Node::Table(table) = node else {
                    return None;
                };
                node = table.get(key)?;
            }
            Some((lookup, node))
        })
    }

    fn text(&self, rule: &FieldRule) -> Option<String> {
        let (lookup, node) = self.first(rule)?;
        let text = match node {
            Node::Text(text) => text.as_str(),
            Node::List(items) => match items.first() {
                Some(Node::Text(text)) => text.as_str(),
                _ => return None,
            },
            Node::Table(_) => return None,
        };
        let text = match &lookup.pattern {
            Some(pattern) => pattern.capture("value", text)?,
            None => text.trim(),
        };
        match &lookup.template {
            _ if text.is_empty() => None,
            Some(template) => Some(template.replace("{}", text)),
            None => Some(text.into()),
        }
    }

    /// A list of ids with ranges: a table `id = range`, a list, or a text cut into items.
    fn needs(&self, rule: &FieldRule) -> Result<Vec<Need>, DescriptorFault> {
        let Some((lookup, node)) = self.first(rule) else {
            return Ok(Vec::new());
        };
        let pairs: Vec<(&str, &str)> = match node {
            Node::Table(table) => {
                let pairs = table.iter().map(|(id, range)| match range {
                    Node::Text(range) => Ok((id.as_str(), range.as_str())),
                    _ => Err(self.fault(id, format!("the range for {id} is not a text"))),
                });
                pairs.collect::<Result<_, _>>()?
            }
            Node::List(items) => {
                let texts = items.iter().map(|item| match item {
                    Node::Text(text) => Ok(text.as_str()),
                    _ => {
                        Err(self.fault(&lookup.at, format!("{} holds more than texts", lookup.at)))
                    }
                });
                let texts: Vec<&str> = texts.collect::<Result<_, _>>()?;
                texts
                    .into_iter()
                    .filter_map(|item| pair(lookup, item))
                    .collect()
            }
            Node::Text(text) => {
                let pieces: Vec<&str> = match &lookup.split {
                    Some(split) => text.split(split.as_str()).collect(),
                    None => vec![text],
                };
                pieces
                    .into_iter()
                    .filter_map(|item| pair(lookup, item))
                    .collect()
            }
        };
        let needs = pairs.into_iter().map(|(id, range)| {
            let range = self.notations.range(range);
            Ok(Need {
                id: Id::new(id),
                range: range.map_err(|error| self.fault(id, format!("{id}: {error}")))?,
            })
        });
        needs.collect()
    }

    fn fault(&self, text: &str, why: String) -> DescriptorFault {
        let place = self.found.iter().find_map(|found| {
            let line = found
                .text
                .lines()
                .position(|line| !text.is_empty() && line.contains(text))?;
            Some((found.name, line + 1))
        });
        DescriptorFault {
            file: place
                .map_or_else(
                    || self.found.first().map_or("", |f| f.name),
                    |(file, _)| file,
                )
                .into(),
            line: place.map(|(_, line)| line),
            why,
        }
    }
}

fn pair<'t>(lookup: &Lookup, item: &'t str) -> Option<(&'t str, &'t str)> {
    let item = item.trim();
    let (id, range) = match &lookup.pattern {
        Some(pattern) => (
            pattern.capture("id", item)?,
            pattern.capture("range", item).unwrap_or(""),
        ),
        None => (item, ""),
    };
    (!id.is_empty()).then_some((id, range))
}

fn parse(
    notation: TextNotation,
    found: &Found<'_>,
) -> Result<BTreeMap<String, Node>, DescriptorFault> {
    let text = found.text.strip_prefix('\u{feff}').unwrap_or(found.text);
    match notation {
        TextNotation::Toml => {
            let document = text
                .parse::<toml_edit::Document<String>>()
                .map_err(|error| {
                    let before = error.span().and_then(|span| text.get(..span.start));
                    DescriptorFault {
                        file: found.name.into(),
                        line: before.map(|before| before.matches('\n').count() + 1),
                        why: error.message().into(),
                    }
                })?;
            Ok(document
                .iter()
                .filter_map(|(key, item)| Some((key.to_owned(), toml_node(item)?)))
                .collect())
        }
        TextNotation::KeyValue => Ok(content_lines(text)
            .filter_map(|line| {
                let (key, value) = line.split_once('=')?;
                Some((key.trim().to_owned(), Node::Text(value.trim().to_owned())))
            })
            .collect()),
        TextNotation::Lines => {
            let lines = content_lines(text).map(|line| Node::Text(line.to_owned()));
            Ok(BTreeMap::from([(
                "lines".into(),
                Node::List(lines.collect()),
            )]))
        }
    }
}

fn content_lines(text: &str) -> impl Iterator<Item = &str> {
    text.lines()
        .map(str::trim)
        .filter(|line| !line.is_empty() && !line.starts_with(['#', ';']))
}

fn toml_node(item: &toml_edit::Item) -> Option<Node> {
    if let Some(table) = item.as_table_like() {
        let pairs = table
            .iter()
            .filter_map(|(key, item)| Some((key.to_owned(), toml_node(item)?)));
        return Some(Node::Table(pairs.collect()));
    }
    if let Some(tables) = item.as_array_of_tables() {
        let tables = tables.iter().map(|table| {
            let pairs = table
                .iter()
                .filter_map(|(key, item)| Some((key.to_owned(), toml_node(item)?)));
            Node::Table(pairs.collect())
        });
        return Some(Node::List(tables.collect()));
    }
    item.as_value().map(toml_value)
}

fn toml_value(value: &toml_edit::Value) -> Node {
    match value {
        toml_edit::Value::String(text) => Node::Text(text.value().clone()),
        toml_edit::Value::Array(items) => Node::List(items.iter().map(toml_value).collect()),
        toml_edit::Value::InlineTable(table) => Node::Table(
            table
                .iter()
                .map(|(key, value)| (key.to_owned(), toml_value(value)))
                .collect(),
        ),
        other => Node::Text(other.to_string().trim().to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reader(text: &str) -> Reader {
        toml_edit::de::from_str(text).unwrap()
    }

    fn told(facts: &Facts) -> String {
        let list = |needs: &[Need]| {
            let words: Vec<String> = needs.iter().map(ToString::to_string).collect();
            words.join(", ")
        };
        format!(
            "{} {} needs [{}] uses [{}] server {} side {:?}",
            facts.id,
            facts.version,
            list(&facts.needs),
            list(&facts.uses),
            facts.server.as_ref().map_or("unknown", |r| r.as_str()),
            facts.side,
        )
    }

    const TOML_READER: &str = r#"
        name = "addon"
        kind = "addon"
        shape = "archive"
        at = "*.vpk"
        files = [{ name = "addon.toml", notation = "toml" }]
        fields = { id = "id", version = "version", needs = "needs", uses = "uses", server = "server", side = "side", effect = "effect" }
    "#;

    #[test]
    fn a_toml_descriptor_is_read() {
        let text = "id = 'drip-lines'\nversion = '2.4.0'\nserver = '>=5.1 <5.4'\nside = 'both'\n[needs]\nmist-pipes = '^1.2'\n";
        let found = [Found {
            name: "addon.toml",
            text,
        }];
        let facts = read(
            &reader(TOML_READER),
            &Notations::default(),
            &found,
            "x",
            "00",
        )
        .unwrap();
        insta::assert_snapshot!(told(&facts), @"drip-lines 2.4.0 needs [mist-pipes ^1.2] uses [] server >=5.1 <5.4 side Some(Both)");
    }

    #[test]
    fn faults_say_file_and_line() {
        for (text, expected) in [
            (
                "id = 'a'\nversion = '1 2'\n",
                "addon.toml:2: \"1 2\" is not a version: a blank or control character stands in it",
            ),
            (
                "id = 'a'\nversion = \n",
                "addon.toml:2: string values must be quoted, expected literal string",
            ),
            (
                "id = 'a'\n[needs]\nb = '=>1'\n",
                "addon.toml:3: b: \"=>1\" is not a range: \"=>\" is none of = > >= < <= ^ ~ (column 1)",
            ),
            (
                "id = 'a/b'\n",
                "addon.toml:1: the id \"a/b\" cannot be used",
            ),
            (
                "id = 'a'\neffect = 'loud'\n",
                "addon.toml:2: the effect \"loud\" is neither play nor admin",
            ),
            (
                "id = 'a'\nside = 'up'\n",
                "addon.toml:2: the side \"up\" is none of server, client, both",
            ),
        ] {
            let found = [Found {
                name: "addon.toml",
                text,
            }];
            let fault = read(
                &reader(TOML_READER),
                &Notations::default(),
                &found,
                "x",
                "00",
            );
            assert_eq!(fault.unwrap_err().to_string(), expected);
        }
    }

    const FLAG_READER: &str = r#"
        name = "mod"
        kind = "addon"
        shape = "folder"
        at = "mods/*"
        marks = ["init.lua"]
        files = [
            { name = "mod.conf", notation = "key-value" },
            { name = "depends.txt", notation = "lines", unless = ["depends", "optional_depends"] },
        ]
        [fields]
        id = "name"
        needs = [{ at = "depends", split = "," }, { at = "lines", pattern = '^(?P<id>\w+)$' }]
        uses = [{ at = "optional_depends", split = "," }, { at = "lines", pattern = '^(?P<id>\w+)\?$' }]
        server = { at = "min", template = ">={}" }
    "#;

    #[test]
    fn the_older_file_speaks_only_where_the_newer_is_silent() {
        let reader = reader(FLAG_READER);
        let conf = Found {
            name: "mod.conf",
            text: "name = lamps\ndepends = glass, wire\nmin = 5.0\n",
        };
        let bare = Found {
            name: "mod.conf",
            text: "name = lamps\n",
        };
        let old = Found {
            name: "depends.txt",
            text: "# what it wants\nglass\npaint?\n",
        };
        let cases = [vec![conf, old], vec![bare, old], vec![old], vec![]];
        let told: Vec<String> = cases
            .iter()
            .map(|found| {
                told(
                    &read(
                        &reader,
                        &Notations::default(),
                        found,
                        "lamps2",
                        "abcdef0123456",
                    )
                    .unwrap(),
                )
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"), @r"
        lamps #abcdef0123 needs [glass, wire] uses [] server >=5.0 side None
        lamps #abcdef0123 needs [glass] uses [paint] server unknown side None
        lamps2 #abcdef0123 needs [glass] uses [paint] server unknown side None
        lamps2 #abcdef0123 needs [] uses [] server unknown side None
        ");
    }
}
