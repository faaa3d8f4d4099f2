//! What a component's descriptors say, by the rules of its reader.

use crate::component::{BuildFacts, Effect, Facts, Id, Kind, Need, Provided, Side, Terms};
use crate::document::{self, Node, Table};
use crate::family::{Family, FieldRule, Glob, Item, Lookup, Reader};
use crate::path::RelPath;
use crate::version::{Range, Version};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt::Display;

/// The longest descriptor that is read, in bytes.
pub const LONGEST_BYTES: u64 = 1 << 20;

/// One descriptor file as it was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Found {
    /// Which of the reader's files it is, as an index.
    pub file: usize,
    /// Its name.
    pub name: String,
    /// The text.
    pub text: String,
}

/// The component that descriptors speak of.
#[derive(Debug, Clone, Copy)]
pub struct Subject<'a> {
    /// The reader that found it.
    pub reader: &'a Reader,
    /// Its family.
    pub family: &'a Family,
    /// The path of its file or folder.
    pub place: &'a str,
    /// The hash of its content: the version where none is stated.
    pub content: &'a str,
}

impl<'a> Subject<'a> {
    /// The folder's name, or the file's with its extension.
    pub fn name(&self) -> &'a str {
        self.place.rsplit('/').next().unwrap_or(self.place)
    }

    /// The folder's name, or the file's without extension.
    pub fn stem(&self) -> &'a str {
        let name = self.name();
        if self.reader.shape.is_one_file() {
            name.rsplit_once('.').map_or(name, |(stem, _)| stem)
        } else {
            name
        }
    }
}

/// How a version is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum VersionFrom {
    /// The component's descriptor states it.
    Descriptor,
    /// The name of its file or folder tells.
    FileName,
    /// A catalogue knows the archive by its hash.
    Catalogue,
    /// The ledger knows the release that put the files there.
    Ledger,
    /// Nothing states one: the content hash stands for it.
    Content,
    /// `lantern.toml` states it, for a build outside the folder.
    Stated,
}

/// What a component lays claim to besides its own place.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Holdings {
    /// The folder in which it keeps what it writes.
    pub data: Option<RelPath>,
    /// Files of lower layers that it lays its own over, with the BLAKE3 of its own where told.
    pub overlay: BTreeMap<RelPath, String>,
    /// Files that are its own, and folders with all in them.
    pub owns: Vec<RelPath>,
    /// Path patterns that no changeover writes as long as it is there.
    pub keep: Vec<String>,
    /// Add-ons that are its members.
    pub members: Vec<Id>,
    /// The variants of which one is chosen.
    pub variants: Vec<String>,
}

/// What the descriptors of a component say.
#[derive(Debug, Clone, PartialEq)]
pub struct Described {
    /// What it says of itself.
    pub facts: Facts,
    /// What it lays claim to.
    pub holdings: Holdings,
    /// How its version is known.
    pub version_from: VersionFrom,
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

/// One fact as a descriptor gives it, after patterns and templates.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Told {
    /// The field.
    pub field: &'static str,
    /// Where it was found: a key, or `value` for one that the family file gives.
    pub at: String,
    /// What stands there.
    pub text: String,
}

/// Reads what a component's descriptor files say.
///
/// # Errors
/// On text that the notation cannot read, and on versions and ranges that make no sense.
pub fn read(subject: &Subject<'_>, found: &[Found]) -> Result<Described, DescriptorFault> {
    Source::open(subject, found)?.described()
}

/// Tells field by field what is found where, before anything is made of it.
///
/// # Errors
/// On text that the notation cannot read.
pub fn explain(subject: &Subject<'_>, found: &[Found]) -> Result<Vec<Told>, DescriptorFault> {
    let source = Source::open(subject, found)?;
    let mut told = Vec::new();
    for (field, rule) in subject.reader.fields.all() {
        let Some((lookup, node)) = source.first(rule) else {
            continue;
        };
        let text = if LISTS.contains(&field) {
            let pairs = source.pairs(rule)?.into_iter();
            let words = pairs.map(|(id, range)| format!("{id} {range}").trim().to_owned());
            words.collect::<Vec<_>>().join(", ")
        } else {
            source.text(rule).unwrap_or_else(|| shown(&node))
        };
        told.push(Told {
            field,
            at: lookup.at.clone().unwrap_or_else(|| "value".into()),
            text,
        });
    }
    Ok(told)
}

/// The fields that hold ids with ranges, or numbers by kind.
pub(crate) const LISTS: &[&str] = &[
    "needs", "uses", "clashes", "provides", "replaces", "before", "after", "slots", "overlay",
    "owns", "keep", "members", "pins", "variants",
];

fn shown(node: &Node) -> String {
    match node {
        Node::Text(text) => text.clone(),
        Node::List(items) => items.iter().map(shown).collect::<Vec<_>>().join(", "),
        Node::Table(table) => {
            let pairs = table
                .iter()
                .map(|(key, value)| format!("{key} {}", shown(value)));
            pairs.collect::<Vec<_>>().join(", ")
        }
    }
}

struct Source<'a> {
    subject: &'a Subject<'a>,
    top: Table,
    found: &'a [Found],
}

impl<'a> Source<'a> {
    fn open(subject: &'a Subject<'a>, found: &'a [Found]) -> Result<Source<'a>, DescriptorFault> {
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
        Ok(Source {
            subject,
            top,
            found,
        })
    }

    fn described(&self) -> Result<Described, DescriptorFault> {
        let Subject { reader, family, .. } = self.subject;
        let (fields, notations) = (&reader.fields, &family.versions);
        let id = self.text(&fields.id);
        let id = family
            .ids
            .spell(id.as_deref().unwrap_or_else(|| self.subject.stem()));
        if id.is_empty()
            || id.len() > 200
            || id.chars().any(|c| c.is_control() || "/\\".contains(c))
        {
            return Err(self.fault(&id, format!("the id {id:?} cannot be used")));
        }
        let (version, version_from) = match self.text(&fields.version) {
            Some(text) => {
                let by_name = self
                    .first(&fields.version)
                    .and_then(|(lookup, _)| lookup.at.as_deref())
                    .is_some_and(|at| at.starts_with('$'));
                let from = if by_name {
                    VersionFrom::FileName
                } else {
                    VersionFrom::Descriptor
                };
                (
                    self.made(&text, notations.version(reader.kind, &text))?,
                    from,
                )
            }
            None => (
                Version::of_content(self.subject.content),
                VersionFrom::Content,
            ),
        };
        let range = |rule| -> Result<_, DescriptorFault> {
            let text = self.text(rule);
            let read = text.map(|text| self.made(&text, notations.range(&text)));
            read.transpose()
        };
        let server = match self.text(&fields.server) {
            Some(text) => Some(self.made(&text, notations.server_range(&text))?),
            None => None,
        };
        let side = self.one_of(&fields.side, Side::read, "server, client, both")?;
        let effect = self.one_of(&fields.effect, Effect::read, "play, admin")?;
        let world_bound = self.one_of(&fields.world_bound, truth, "true, false")?;
        let slots = self.slots(&fields.slots)?;
        let is_build = reader.kind == Kind::Build;
        let mut terms = Terms {
            framework: range(&fields.framework)?,
            replaces: self.ids(&fields.replaces)?,
            before: self.ids(&fields.before)?,
            after: self.ids(&fields.after)?,
            group: self.text(&fields.group),
            ..Terms::default()
        };
        let mut build = BuildFacts::default();
        if is_build {
            let runtime = self.text(&fields.runtime);
            let runtime =
                runtime.map(|text| self.made(&text, notations.version(Kind::Addon, &text)));
            build.runtime = runtime.transpose()?;
            build.flavours = self
                .ids(&fields.flavour)?
                .into_iter()
                .map(String::from)
                .collect();
            build.has = slots;
        } else {
            terms.runtime = range(&fields.runtime)?;
            terms.flavour = self.text(&fields.flavour);
            terms.takes = slots;
        }
        let holdings = self.holdings(reader)?;
        let mut needs = self.needs(&fields.needs)?;
        for (id, version) in self.pairs(&fields.pins)? {
            let exact = self.made(&version, notations.version(Kind::Addon, &version))?;
            needs.push(Need {
                id: Id::new(&id),
                range: Range::exactly(exact),
            });
        }
        let facts = Facts {
            title: self.text(&fields.title),
            server,
            needs,
            uses: self.needs(&fields.uses)?,
            clashes: self.needs(&fields.clashes)?,
            provides: self.provides(&fields.provides)?,
            side,
            effect,
            world_bound,
            terms,
            build,
            ..Facts::new(Id::new(&id), reader.kind, version)
        };
        Ok(Described {
            facts,
            holdings,
            version_from,
        })
    }

    fn holdings(&self, reader: &Reader) -> Result<Holdings, DescriptorFault> {
        let fields = &reader.fields;
        let path = |text: &str| self.made(text, RelPath::parse(text));
        let data = self.text(&fields.data);
        let overlay = self.raw_pairs(&fields.overlay)?.into_iter();
        let owns = self.raw_pairs(&fields.owns)?.into_iter();
        let variants = self.raw_pairs(&fields.variants)?.into_iter();
        Ok(Holdings {
            data: data.map(|text| path(&text)).transpose()?,
            overlay: overlay
                .map(|(text, hash)| Ok((path(&text)?, hash)))
                .collect::<Result<_, _>>()?,
            owns: owns
                .map(|(text, _)| path(&text))
                .collect::<Result<_, _>>()?,
            keep: self.patterns(&fields.keep)?,
            members: self.ids(&fields.members)?,
            variants: variants.map(|(name, _)| name).collect(),
        })
    }

    fn patterns(&self, rule: &FieldRule) -> Result<Vec<String>, DescriptorFault> {
        let patterns = self.raw_pairs(rule)?.into_iter().map(|(text, _)| {
            self.made(&text, Glob::new(&text))?;
            Ok(text)
        });
        patterns.collect()
    }

    /// The first place of a rule where something stands that its pattern knows.
    fn first<'r>(&self, rule: &'r FieldRule) -> Option<(&'r Lookup, Node)> {
        rule.0.iter().find_map(|lookup| {
            let node = match (&lookup.value, lookup.at.as_deref()) {
                (Some(value), _) => return Some((lookup, Node::Text(value.clone()))),
                (None, Some("$name")) => Node::Text(self.subject.name().into()),
                (None, Some("$stem")) => Node::Text(self.subject.stem().into()),
                (None, Some("$path")) => Node::Text(self.subject.place.into()),
                (None, at) => self.at(at?)?.clone(),
            };
            let misses = match (&lookup.pattern, &node) {
                (Some(pattern), Node::Text(text)) if lookup.split.is_none() => {
                    !pattern.regex().is_match(text)
                }
                _ => false,
            };
            (!misses).then_some((lookup, node))
        })
    }

    /// What stands at a path of keys; a key may hold dots itself.
    fn at(&self, path: &str) -> Option<&Node> {
        fn find<'n>(table: &'n Table, path: &str) -> Option<&'n Node> {
            if let Some(node) = table.get(path) {
                return Some(node);
            }
            path.match_indices('.')
                .find_map(|(dot, _)| match table.get(&path[..dot]) {
                    Some(Node::Table(inner)) => find(inner, &path[dot + 1..]),
                    _ => None,
                })
        }
        find(&self.top, path)
    }

    fn text(&self, rule: &FieldRule) -> Option<String> {
        let (lookup, node) = self.first(rule)?;
        let text = match &node {
            Node::Text(text) => text.as_str(),
            Node::List(items) => match items.first() {
                Some(Node::Text(text)) => text.as_str(),
                _ => return None,
            },
            Node::Table(table) => match table.get("#text") {
                Some(Node::Text(text)) => text.as_str(),
                _ => return None,
            },
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

    fn one_of<T>(
        &self,
        rule: &FieldRule,
        read: impl Fn(&str) -> Option<T>,
        words: &str,
    ) -> Result<Option<T>, DescriptorFault> {
        let Some(text) = self.text(rule) else {
            return Ok(None);
        };
        match read(&text) {
            Some(value) => Ok(Some(value)),
            None => Err(self.fault(&text, format!("{text:?} is none of {words}"))),
        }
    }

    /// Ids with ranges: a table `id = range`, a list, tables with the keys of `item`, or a text
    /// cut into items. An id that stands there twice is meant in both ranges.
    fn pairs(&self, rule: &FieldRule) -> Result<Vec<(String, String)>, DescriptorFault> {
        let ids = &self.subject.family.ids;
        let pairs = self.raw_pairs(rule)?.into_iter();
        Ok(pairs.map(|(id, range)| (ids.spell(&id), range)).collect())
    }

    /// As [`Source::pairs`], with texts that are no ids.
    fn raw_pairs(&self, rule: &FieldRule) -> Result<Vec<(String, String)>, DescriptorFault> {
        let Some((lookup, node)) = self.first(rule) else {
            return Ok(Vec::new());
        };
        let at = lookup.at.as_deref().unwrap_or("value");
        let other = || self.fault(at, format!("{at} holds something else than ids and ranges"));
        let mut pairs = Vec::new();
        let mut add = |(id, range): (&str, &str)| {
            let range = match &lookup.range {
                Some(template) if !range.is_empty() => template.replace("{}", range),
                _ => range.to_owned(),
            };
            pairs.push((id.trim().to_owned(), range));
        };
        match (&node, &lookup.item) {
            (Node::Table(table), Some(item)) => tables(item, table).into_iter().for_each(&mut add),
            (Node::Table(table), None) => {
                for (id, range) in table {
                    match range {
                        Node::Text(range) => add((id, range)),
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

    fn needs(&self, rule: &FieldRule) -> Result<Vec<Need>, DescriptorFault> {
        let notations = &self.subject.family.versions;
        let needs = self.pairs(rule)?.into_iter().map(|(id, range)| {
            let read = notations.range(&range);
            Ok(Need {
                range: read.map_err(|error| self.fault(&id, format!("{id}: {error}")))?,
                id: Id::new(&id),
            })
        });
        needs.collect()
    }

    fn ids(&self, rule: &FieldRule) -> Result<Vec<Id>, DescriptorFault> {
        let pairs = self.pairs(rule)?.into_iter();
        Ok(pairs.map(|(id, _)| Id::new(&id)).collect())
    }

    fn provides(&self, rule: &FieldRule) -> Result<Vec<Provided>, DescriptorFault> {
        let notations = &self.subject.family.versions;
        let provided = self.pairs(rule)?.into_iter().map(|(id, text)| {
            let version = match text.as_str() {
                "" | "*" => None,
                text => Some(self.made(text, notations.version(Kind::Addon, text))?),
            };
            Ok(Provided {
                id: Id::new(&id),
                version,
            })
        });
        provided.collect()
    }

    fn slots(&self, rule: &FieldRule) -> Result<BTreeMap<String, u64>, DescriptorFault> {
        let slots = self.pairs(rule)?.into_iter().map(|(kind, number)| {
            let read = number.parse().map_err(|_| {
                self.fault(&number, format!("{kind}: {number:?} is no number of slots"))
            });
            Ok((kind, read?))
        });
        slots.collect()
    }

    /// What was read, or a fault at the text that could not be.
    fn made<T, E: Display>(&self, text: &str, read: Result<T, E>) -> Result<T, DescriptorFault> {
        read.map_err(|error| self.fault(text, error.to_string()))
    }

    fn fault(&self, text: &str, why: String) -> DescriptorFault {
        let place = self.found.iter().find_map(|found| {
            let mut lines = found.text.lines();
            let line = lines.position(|line| !text.is_empty() && line.contains(text))?;
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

fn truth(text: &str) -> Option<bool> {
    match text {
        "true" | "yes" | "1" => Some(true),
        "false" | "no" | "0" => Some(false),
        _ => None,
    }
}

/// What a table says that stands for one need; none when it is not one that is asked for.
fn tables<'t>(item: &Item, table: &'t Table) -> Option<(&'t str, &'t str)> {
    let text = |key: &str| match table.get(key) {
        Some(Node::Text(text)) => Some(text.as_str()),
        _ => None,
    };
    let asked = item
        .only
        .iter()
        .all(|(key, value)| text(key) == Some(value));
    let range = item.range.as_deref().and_then(text).unwrap_or("");
    text(&item.id).filter(|_| asked).map(|id| (id, range))
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

#[cfg(test)]
mod tests {
    use super::*;

    fn family(reader: &str) -> Family {
        let text = crate::tree::tests::FAMILY;
        let top = &text[..text.find("[[reader]]").unwrap()];
        Family::parse(&format!("{top}\n[[reader]]\n{reader}")).unwrap()
    }

    /// Reads texts as the files of a family's reader, by their order in it.
    fn read_as(
        family: &Family,
        texts: &[(usize, &str)],
        place: &str,
    ) -> Result<Described, DescriptorFault> {
        let reader = &family.readers[0];
        let found: Vec<Found> = texts
            .iter()
            .map(|(file, text)| Found {
                file: *file,
                name: reader.files[*file].name.text(),
                text: (*text).to_owned(),
            })
            .collect();
        let subject = Subject {
            reader,
            family,
            place,
            content: "abcdef0123456",
        };
        read(&subject, &found)
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
        let read = read_as(&family(TOML_READER), &[(0, text)], "x.vpk").unwrap();
        insta::assert_snapshot!(told(&read.facts), @"drip-lines 2.4.0 needs [mist-pipes ^1.2] uses [] server >=5.1 <5.4 side Some(Both)");
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
                "addon.toml:2: \"loud\" is none of play, admin",
            ),
            (
                "id = 'a'\nside = 'up'\n",
                "addon.toml:2: \"up\" is none of server, client, both",
            ),
        ] {
            let fault = read_as(&family(TOML_READER), &[(0, text)], "x.vpk");
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
            { name = "mod.conf", notation = "ini" },
            { name = "depends.txt", notation = "lines", unless = ["depends", "optional_depends"] },
        ]
        [reader.fields]
        id = "name"
        needs = [{ at = "depends", split = "," }, { at = "lines", pattern = '^(?P<id>\w+)$' }]
        uses = [{ at = "optional_depends", split = "," }, { at = "lines", pattern = '^(?P<id>\w+)\?$' }]
        server = { at = "min", template = ">={}" }
    "#;

    #[test]
    fn the_older_file_speaks_only_where_the_newer_is_silent() {
        let family = family(FLAG_READER);
        let conf = (0, "name = lamps\ndepends = glass, wire\nmin = 5.0\n");
        let bare = (0, "name = lamps\n");
        let old = (1, "# what it wants\nglass\npaint?\n");
        let cases = [vec![conf, old], vec![bare, old], vec![old], vec![]];
        let told: Vec<String> = cases
            .iter()
            .map(|found| told(&read_as(&family, found, "mods/lamps2").unwrap().facts))
            .collect();
        insta::assert_snapshot!(told.join("\n"), @r"
        lamps #abcdef0123 needs [glass, wire] uses [] server >=5.0 side None
        lamps #abcdef0123 needs [glass] uses [paint] server unknown side None
        lamps2 #abcdef0123 needs [glass] uses [paint] server unknown side None
        lamps2 #abcdef0123 needs [] uses [] server unknown side None
        ");
    }

    #[test]
    fn every_term_of_a_descriptor_is_read() {
        let reader = r#"
            name = "addon"
            kind = "addon"
            shape = "archive"
            at = "*.vpk"
            files = [{ name = ["meta.json", "*.vpk!meta.json"], notation = "json" }]
            [reader.fields]
            id = ["pack.id", { at = "$stem", pattern = '^(?P<value>.+?)-\d' }]
            version = ["pack.version", { at = "$stem", pattern = '-(?P<value>\d[\w.]*)$' }]
            needs = { at = "wants", item = { id = "name", range = "from", only = { how = "must" } }, range = ">={}" }
            uses = { at = "wants", item = { id = "name", only = { how = "may" } } }
            clashes = { at = "never", pattern = '^(?P<id>.+?)-(?P<range>[\d.]+)$', range = "={}" }
            provides = "stands-for"
            replaces = "old"
            before = "before"
            after = { at = "after", split = " " }
            framework = "trellis"
            runtime = "vm"
            flavour = "on"
            group = "only-one"
            slots = "takes"
            side = [{ at = "where" }, { value = "server" }]
            data = { at = "$stem", template = "addons/{}-data" }
        "#;
        let text = r#"{ "wants": [{"name": "A", "from": "1.2", "how": "must"}, {"name": "b", "how": "may"}],
            "never": ["x-y-1.0"], "stands-for": {"C": "2", "d": "*"}, "old": "E", "before": ["f"], "after": "g h",
            "trellis": "^2", "vm": ">=17", "on": "wide", "only-one": "season", "takes": {"leaf": 3} }"#;
        let mut family = family(reader);
        family.ids.lower = true;
        let read = read_as(&family, &[(0, text)], "addons/Ivy-1.10b.vpk").unwrap();
        let facts = &read.facts;
        let list = |needs: &[Need]| {
            needs
                .iter()
                .map(ToString::to_string)
                .collect::<Vec<_>>()
                .join(", ")
        };
        insta::assert_snapshot!(format!(
            "{} {} {:?}\nneeds {} | uses {} | clashes {}\nprovides {:?}\n{:?}\nside {:?} data {}",
            facts.id, facts.version, read.version_from,
            list(&facts.needs), list(&facts.uses), list(&facts.clashes),
            facts.provides.iter().map(|p| format!("{} {:?}", p.id, p.version.as_ref().map(ToString::to_string))).collect::<Vec<_>>(),
            facts.terms, facts.side, read.holdings.data.unwrap(),
        ), @r#"
        ivy 1.10b FileName
        needs a >=1.2 | uses b | clashes x-y =1.0
        provides ["c Some(\"2\")", "d None"]
        Terms { needs_any: [], framework: Some(Range(Held { text: "^2", rows: [[Span(Including(Version { text: "2", parts: [Number(2)], early: None, build: [] }), Open), Span(Open, Excluding(Version { text: "", parts: [Number(3)], early: Some([]), build: [] }))]] })), runtime: Some(Range(Held { text: ">=17", rows: [[Span(Including(Version { text: "17", parts: [Number(17)], early: None, build: [] }), Open)]] })), flavour: Some("wide"), replaces: [Id("e")], group: Some("season"), before: [Id("f")], after: [Id("g"), Id("h")], companions: [], takes: {"leaf": 3}, early: false, withdrawn: false }
        side Some(Server) data addons/Ivy-1.10b-data
        "#);
    }
}
