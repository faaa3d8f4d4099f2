//! Where the facts stand in a component's descriptor files.

use super::{DescriptorFault, Found, Subject, unpacked_name};
use crate::document::{self, Node, Table};
use crate::facts::Misread;
use crate::family::{FieldRule, Item, Lookup, Where};
use std::borrow::Cow;
use std::collections::BTreeMap;

/// All that a component's descriptor files say, to look things up in.
pub(crate) struct Lookups<'a> {
    pub(super) subject: Subject<'a>,
    top: Table,
    found: &'a [Found],
    pub(super) meant: Option<Meant<'a>>,
}

/// What somebody else's words mean here.
#[derive(Clone, Copy)]
pub(crate) struct Meant<'a> {
    /// By field: their words with ours.
    pub(crate) words: &'a BTreeMap<String, BTreeMap<String, String>>,
    /// Their ids with ours.
    pub(crate) ids: &'a BTreeMap<String, String>,
}

impl<'a> Lookups<'a> {
    pub(super) fn open(
        subject: &Subject<'a>,
        found: &'a [Found],
    ) -> Result<Lookups<'a>, DescriptorFault> {
        let mut top = Table::new();
        for found in found {
            let Some(file) = subject.reader.files.get(found.file) else {
                continue;
            };
            if file.unless.iter().any(|key| top.contains_key(key)) {
                continue;
            }
            let read = document::parse(file, &found.text).map_err(|fault| DescriptorFault {
                file: found.name.clone(),
                line: fault.line,
                why: fault.why,
            })?;
            for (key, value) in read {
                top.entry(key).or_insert(value);
            }
        }
        Ok(Lookups {
            subject: *subject,
            top,
            found,
            meant: None,
        })
    }

    /// What a table says that was found elsewhere.
    pub(crate) fn of_table(subject: Subject<'a>, top: Table, meant: Meant<'a>) -> Lookups<'a> {
        Lookups {
            subject,
            top,
            found: &[],
            meant: Some(meant),
        }
    }

    /// The first place of a rule where something stands that its pattern knows.
    pub(crate) fn first<'r>(&self, rule: &'r FieldRule) -> Option<(&'r Lookup, Node)> {
        rule.0.iter().find_map(|lookup| {
            if let Some(value) = &lookup.value {
                return Some((lookup, Node::Text(value.clone())));
            }
            let node = match lookup.at.as_ref()? {
                Where::At(key) => match (self.node(key)?, &lookup.between) {
                    (Node::List(items), Some(between)) => joined(&items, between)?,
                    (node, _) => node,
                },
                several => {
                    let between = lookup.between.as_deref().unwrap_or(" ");
                    let text = several.text(between, |key| self.at(key)?.text())?;
                    Node::Text(text.into_owned())
                }
            };
            let misses = match (&lookup.pattern, &node) {
                (Some(pattern), Node::Text(text)) if lookup.split.is_none() => {
                    !pattern.regex().is_match(text)
                }
                // Of a list one item tells, where one text is wanted.
                (Some(pattern), Node::List(items)) if pattern.names("value") => !items
                    .iter()
                    .any(|item| matches!(item, Node::Text(text) if pattern.regex().is_match(text))),
                _ => false,
            };
            (!misses).then_some((lookup, node))
        })
    }

    /// What stands at a key, or what is known of the component by its place.
    fn node(&self, key: &str) -> Option<Node> {
        let text = match key {
            "$name" => self.subject.name(),
            "$stem" => self.subject.stem(),
            "$archive" => unpacked_name(self.subject.archive?),
            "$path" => self.subject.place,
            key => return self.at(key).cloned(),
        };
        Some(Node::Text(text.into()))
    }

    /// What stands at a path of keys; a key may hold dots itself.
    fn at(&self, path: &str) -> Option<&Node> {
        document::at(&self.top, path)
    }

    /// All texts at the place that counts: of a list, each.
    pub(crate) fn texts_of(&self, rule: &FieldRule) -> Vec<String> {
        let Some((lookup, node)) = self.first(rule) else {
            return Vec::new();
        };
        let texts: Vec<String> = match node {
            Node::Text(text) => vec![text],
            Node::List(items) => items
                .into_iter()
                .filter_map(|item| match item {
                    Node::Text(text) => Some(text),
                    _ => None,
                })
                .collect(),
            Node::Table(_) => return self.text_of(rule).into_iter().collect(),
        };
        let made = texts.iter().filter_map(|text| {
            let text = match &lookup.pattern {
                Some(pattern) => pattern.capture("value", text)?,
                None => text.trim(),
            };
            let template = lookup.template.as_deref().unwrap_or("{}");
            (!text.is_empty()).then(|| template.replace("{}", text))
        });
        made.collect()
    }

    pub(crate) fn text_of(&self, rule: &FieldRule) -> Option<String> {
        let (lookup, node) = self.first(rule)?;
        let own = |node: &Node| match node {
            Node::Text(text) => Some(text.clone()),
            _ => None,
        };
        let texts: Vec<String> = match &node {
            Node::Text(text) => vec![text.clone()],
            Node::List(items) => items.iter().filter_map(own).collect(),
            Node::Table(table) => table.get("#text").and_then(own).into_iter().collect(),
        };
        let text = match &lookup.pattern {
            Some(pattern) => texts
                .iter()
                .find_map(|text| pattern.capture("value", text))?,
            // Which of several is meant, nothing says.
            None => <&[String; 1]>::try_from(texts.as_slice()).ok()?[0].trim(),
        };
        match &lookup.template {
            _ if text.is_empty() => None,
            Some(template) => Some(template.replace("{}", text)),
            None => Some(text.into()),
        }
    }

    /// Ids with ranges: a table `id = range`, a list, tables with the keys of `item`, or a text
    /// cut into items. An id that stands there twice is meant in both ranges.
    pub(super) fn pairs_of(&self, rule: &FieldRule) -> Result<Vec<(String, String)>, Misread> {
        let ids = &self.subject.family.ids;
        let pairs = self.raw_pairs_of(rule)?.into_iter();
        let meant = |id: String| match self.meant.and_then(|meant| meant.ids.get(&id)) {
            Some(ours) => ours.clone(),
            None => ids.spell(&id),
        };
        Ok(pairs.map(|(id, range)| (meant(id), range)).collect())
    }

    /// As [`Lookups::pairs_of`], with texts that are no ids.
    pub(super) fn raw_pairs_of(&self, rule: &FieldRule) -> Result<Vec<(String, String)>, Misread> {
        let Some((lookup, node)) = self.first(rule) else {
            return Ok(Vec::new());
        };
        let other = || {
            let at = lookup.place();
            Misread::new(
                &at,
                format!("{at} holds something else than ids and ranges"),
            )
        };
        let mut pairs = Vec::new();
        let mut add = |(id, range): (&str, Cow<'_, str>)| {
            let range = match &lookup.range {
                Some(template) if !range.is_empty() => template.replace("{}", &range),
                _ => range.into_owned(),
            };
            pairs.push((id.trim().to_owned(), range));
        };
        match (&node, &lookup.item) {
            (Node::Table(table), Some(item)) => tables(item, table).into_iter().for_each(&mut add),
            (Node::Table(table), None) => {
                for (id, range) in table {
                    match range {
                        Node::Text(range) => add((id, range.into())),
                        _ => return Err(other()),
                    }
                }
            }
            (Node::List(items), item) => {
                for node in items {
                    match (node, item) {
                        (Node::Table(table), Some(item)) => {
                            tables(item, table).into_iter().for_each(&mut add);
                        }
                        (Node::Text(text), _) => pair(lookup, text).into_iter().for_each(&mut add),
                        _ => return Err(other()),
                    }
                }
            }
            (Node::Text(text), _) => {
                let pieces: Vec<&str> = match &lookup.split {
                    Some(split) => text.split(split.as_str()).collect(),
                    None => vec![text],
                };
                let pieces = pieces.into_iter().filter_map(|item| pair(lookup, item));
                pieces.for_each(&mut add);
            }
        }
        Ok(pairs)
    }

    /// Where a field of the reader is found.
    pub(super) fn rule(&self, field: &str) -> &'a FieldRule {
        self.subject.reader.fields.rule(field)
    }

    /// The file and line of a text that makes no sense.
    pub(super) fn located(&self, misread: Misread) -> DescriptorFault {
        let Misread { text, why } = misread;
        let place = self.found.iter().find_map(|found| {
            let mut lines = found.text.lines();
            let line = lines.position(|line| !text.is_empty() && line.contains(&text))?;
            Some((found.name.as_str(), line + 1))
        });
        let first = || {
            self.found
                .first()
                .map_or(self.subject.place, |f| f.name.as_str())
        };
        DescriptorFault {
            file: place.map_or_else(first, |(file, _)| file).into(),
            line: place.map(|(_, line)| line),
            why,
        }
    }
}

/// The texts of a list as one; none where something else is listed.
fn joined(items: &[Node], between: &str) -> Option<Node> {
    let texts: Option<Vec<&str>> = items
        .iter()
        .map(|item| item.text().map(str::trim))
        .collect();
    Some(Node::Text(texts?.join(between)))
}

/// What a table says that stands for one need; none when it is not one that is asked for.
fn tables<'t>(item: &Item, table: &'t Table) -> Option<(&'t str, Cow<'t, str>)> {
    let text = |key: &str| table.get(key).and_then(Node::text);
    let asked = item
        .only
        .iter()
        .all(|(key, value)| text(key) == Some(value));
    let range = item.range.as_ref().and_then(|place| place.text(" ", text));
    let range = range.unwrap_or_default();
    text(&item.id).filter(|_| asked).map(|id| (id, range))
}

fn pair<'t>(lookup: &Lookup, item: &'t str) -> Option<(&'t str, Cow<'t, str>)> {
    let item = item.trim();
    let (id, range) = match &lookup.pattern {
        Some(pattern) => (
            pattern.capture("id", item)?,
            pattern.capture("range", item).unwrap_or(""),
        ),
        None => (item, ""),
    };
    (!id.is_empty()).then_some((id, range.into()))
}
