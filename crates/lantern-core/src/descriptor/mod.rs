//! What a component's descriptors say, by the rules of its reader.

mod facts;
mod lookups;
mod needs;

use crate::component::Id;
use crate::document::Node;
use crate::facts::{Facts, Reading};
use crate::family::{Family, Reader};
use crate::path::RelPath;
pub(crate) use lookups::{Lookups, Meant};
pub use needs::needing;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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
    /// The file name of the download that it lies in; none of what is installed.
    pub archive: Option<&'a str>,
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

/// The name of a download without what says how it is packed.
pub(crate) fn unpacked_name(name: &str) -> &str {
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    stem.strip_suffix(".tar").unwrap_or(stem)
}

/// How a version is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
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
    /// What stands where its version is stated and is none, and why: then its content stands for one.
    pub unread_version: Option<DescriptorFault>,
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Told {
    /// The field.
    pub field: &'static str,
    /// Where it was found: a key, or `value` for one that the family file gives.
    pub at: String,
    /// What stands there.
    pub text: String,
}

/// Reads what a component's descriptor files say; `reading` is of the family's notations.
///
/// # Errors
/// On text that the notation cannot read, and on versions and ranges that make no sense.
pub fn read(
    subject: &Subject<'_>,
    found: &[Found],
    reading: &mut Reading<'_>,
) -> Result<Described, DescriptorFault> {
    Lookups::open(subject, found)?.described(reading)
}

/// As [`read`], of something installed: it is there whatever its version is, so that one that makes no sense counts as none
/// stated.
///
/// # Errors
/// On text that the notation cannot read, and on ranges that make no sense.
pub fn read_installed(
    subject: &Subject<'_>,
    found: &[Found],
    reading: &mut Reading<'_>,
) -> Result<Described, DescriptorFault> {
    Lookups::open(subject, found)?.described_anyhow(reading)
}

/// Reads only what a component lays claim to, of one whose descriptor files were read before.
///
/// # Errors
/// As [`read`].
pub fn holdings(subject: &Subject<'_>, found: &[Found]) -> Result<Holdings, DescriptorFault> {
    let lookups = Lookups::open(subject, found)?;
    let holdings = lookups.holdings();
    holdings.map_err(|misread| lookups.located(misread))
}

/// Tells field by field what is found where, before anything is made of it.
///
/// # Errors
/// On text that the notation cannot read.
pub fn explain(subject: &Subject<'_>, found: &[Found]) -> Result<Vec<Told>, DescriptorFault> {
    Lookups::open(subject, found)?.told()
}

impl Lookups<'_> {
    /// Field by field, what is found where.
    pub(crate) fn told(&self) -> Result<Vec<Told>, DescriptorFault> {
        let mut told = Vec::new();
        for (field, rule, is_list) in self.subject.reader.fields.all() {
            let Some((lookup, node)) = self.first(rule) else {
                continue;
            };
            let text = if is_list {
                let pairs = self
                    .pairs_of(rule)
                    .map_err(|misread| self.located(misread))?
                    .into_iter();
                let words = pairs.map(|(id, range)| format!("{id} {range}").trim().to_owned());
                words.collect::<Vec<_>>().join(", ")
            } else {
                let text = self.text_of(rule).unwrap_or_else(|| shown(&node));
                match field {
                    "id" => self.subject.family.ids.spell(&text),
                    _ => text,
                }
            };
            told.push(Told {
                field,
                at: lookup.place(),
                text,
            });
        }
        Ok(told)
    }
}

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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::component::Need;
    use crate::facts::WrittenRelease;

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
            archive: None,
        };
        read(&subject, &found, &mut Reading::new(&family.versions))
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
        at = "*.bloom"
        files = [{ name = "addon.toml", notation = "toml" }]
        fields = { id = "id", version = "version", needs = "needs", uses = "uses", server = "server", side = "side", effect = "effect" }
    "#;

    #[test]
    fn a_toml_descriptor_is_read() {
        let text = "id = 'drip-lines'\nversion = '2.4.0'\nserver = '>=5.1 <5.4'\nside = 'both'\n[needs]\nmist-pipes = '^1.2'\n";
        let read = read_as(&family(TOML_READER), &[(0, text)], "x.bloom").unwrap();
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
                "id = 'a'\nversion = '1.${number}'\n",
                "addon.toml:2: \"1.${number}\" is not a version: it was never filled in",
            ),
            (
                "id = 'a'\nversion = '@version@'\n",
                "addon.toml:2: \"@version@\" is not a version: it was never filled in",
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
                "addon.toml:2: unknown variant `loud`, expected `play` or `admin`",
            ),
            (
                "id = 'a'\nside = 'up'\n",
                "addon.toml:2: unknown variant `up`, expected one of `server`, `client`, `all`, `both`, `client-may`",
            ),
        ] {
            let fault = read_as(&family(TOML_READER), &[(0, text)], "x.bloom");
            assert_eq!(fault.unwrap_err().to_string(), expected);
        }
    }

    #[test]
    fn what_is_installed_is_there_whatever_its_version_is() {
        let family = family(TOML_READER);
        let subject = Subject {
            reader: &family.readers[0],
            family: &family,
            place: "x.bloom",
            content: "abcdef0123456",
            archive: None,
        };
        let read = |text: &str| {
            let found = Found {
                file: 0,
                name: "addon.toml".into(),
                text: text.into(),
            };
            read_installed(&subject, &[found], &mut Reading::new(&family.versions))
        };
        let odd = read("id = 'a'\nversion = 'Alpha 2'\nserver = '>=5'\n").unwrap();
        assert_eq!(odd.version_from, VersionFrom::Content);
        insta::assert_snapshot!(
            format!("{}\n{}", told(&odd.facts), odd.unread_version.unwrap()),
            @r#"
            a #abcdef0123 needs [] uses [] server >=5 side None
            addon.toml:2: "Alpha 2" is not a version: a blank or control character stands in it
            "#
        );
        assert!(read("id = 'a'\nversion = 'Alpha 2'\nserver = '=>5'\n").is_err());
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
    fn a_text_may_stand_in_several_parts() {
        let told = |fields: &str, text: &str| {
            let family = family(&format!(
                "name = 'leaf'\nkind = 'addon'\nshape = 'folder'\nat = 'leaves/*'\n\
                 files = [{{ name = 'leaf.json', notation = 'json' }}]\n[reader.fields]\n{fields}"
            ));
            let read = read_as(&family, &[(0, text)], "leaves/ivy");
            read.map_or_else(|fault| fault.to_string(), |read| told(&read.facts))
        };
        let joined = "version = { at = 'version', between = '.' }\nserver = { at = 'for', between = ' || ' }";
        let parted = "version = { at = { 'version.major' = '{}', 'version.minor' = '{}' }, between = '.' }\n\
                      id = { at = { by = '{}', name = '{}' }, between = '-' }";
        let plain = "version = 'version'\nserver = 'for'";
        let all = [
            told(
                joined,
                r#"{ "version": [1, 2, 0], "for": ["5.1", "5.3.x"] }"#,
            ),
            told(joined, r#"{ "version": "1.2", "for": [] }"#),
            told(joined, r#"{ "version": [1, { "of": 2 }], "for": "5.1" }"#),
            told(
                parted,
                r#"{ "by": "oro", "name": "box", "version": { "major": 1, "minor": 2 } }"#,
            ),
            // Nothing says which of several is meant.
            told(plain, r#"{ "version": [1, 2, 0], "for": ["5.1", "5.3"] }"#),
            told(plain, r#"{ "version": ["1.2"], "for": ["5.1"] }"#),
        ];
        insta::assert_snapshot!(all.join("\n"), @r#"
        ivy 1.2.0 needs [] uses [] server 5.1 || 5.3.x side None
        ivy 1.2 needs [] uses [] server unknown side None
        ivy #abcdef0123 needs [] uses [] server 5.1 side None
        oro-box 1.2 needs [] uses [] server unknown side None
        ivy #abcdef0123 needs [] uses [] server unknown side None
        ivy 1.2 needs [] uses [] server 5.1 side None
        "#);
    }

    #[test]
    fn a_range_may_stand_in_several_keys() {
        let reader = r#"
            name = "pane"
            kind = "addon"
            shape = "folder"
            at = "panes/*"
            files = [{ name = "pane.xml", notation = "xml" }]
            [reader.fields]
            id = "pane.@name"
            version = "pane.@version"
            server = { at = { "pane.runs.@least" = ">={}", "pane.runs.@most" = "<={}" } }
            needs = { at = "pane.wants", item = { id = "@name", range = { "@from" = ">={}", "@to" = "<{}" } } }
        "#;
        let family = family(reader);
        let told_of = |inside: &str| {
            let text = format!("<pane name=\"ivy\" version=\"1\">{inside}</pane>");
            let read = read_as(&family, &[(0, &text)], "panes/ivy");
            read.map_or_else(|fault| fault.to_string(), |read| told(&read.facts))
        };
        let told: Vec<String> = [
            "<runs least=\"5.1\" most=\"5.4\"/><wants name=\"a\" from=\"1.2\" to=\"2\"/><wants name=\"b\" to=\"3\"/><wants name=\"c\"/>",
            "<runs most=\"5.4\"/><wants name=\"a\" from=\" 1.2 \"/>",
            "<runs least=\"\"/>",
            "<runs least=\"=>5\"/>",
            "",
        ]
        .map(told_of)
        .into();
        insta::assert_snapshot!(told.join("\n"), @r#"
        ivy 1 needs [a >=1.2 <2, b <3, c] uses [] server >=5.1 <=5.4 side None
        ivy 1 needs [a >=1.2] uses [] server <=5.4 side None
        ivy 1 needs [] uses [] server unknown side None
        pane.xml: ">==>5" is not a range: ">==>" is none of = > >= < <= ^ ~ (column 1)
        ivy 1 needs [] uses [] server unknown side None
        "#);
    }

    #[test]
    fn every_term_of_a_descriptor_is_read() {
        let reader = r#"
            name = "addon"
            kind = "addon"
            shape = "archive"
            at = "*.bloom"
            files = [{ name = ["meta.json", "*.bloom!meta.json"], notation = "json" }]
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
        let read = read_as(&family, &[(0, text)], "addons/Ivy-1.10b.bloom").unwrap();
        let written = serde_json::to_string_pretty(&WrittenRelease::of(&read.facts)).unwrap();
        let data = read.holdings.data.unwrap();
        insta::assert_snapshot!(format!("{:?}, data in {data}\n{written}", read.version_from), @r#"
        FileName, data in addons/Ivy-1.10b-data
        {
          "id": "ivy",
          "kind": "addon",
          "version": "1.10b",
          "needs": {
            "a": ">=1.2"
          },
          "uses": {
            "b": "*"
          },
          "clashes": {
            "x-y": "=1.0"
          },
          "side": "server",
          "framework": "^2",
          "runtime": ">=17",
          "flavour": "wide",
          "provides": [
            {
              "id": "c",
              "version": "2"
            },
            "d"
          ],
          "replaces": [
            "e"
          ],
          "before": [
            "f"
          ],
          "after": [
            "g",
            "h"
          ],
          "group": "season",
          "takes": {
            "leaf": 3
          }
        }
        "#);
    }

    #[test]
    fn what_a_build_offers_is_told_from_what_others_ask_of_it() {
        let reader = r#"
            name = "thing"
            kind = "KIND"
            shape = "archive"
            at = "*.bloom"
            files = [{ name = "thing.toml", notation = "toml" }]
            [reader.fields]
            runtime = "vm"
            flavour = "on"
            slots = "slots"
            companions = "with"
            channel = "for"
            withdrawn = "gone"
            protocol = "speaks"
            worlds_from = "worlds"
        "#;
        let text = "vm = '17'\non = 'wide'\nslots = { leaf = '3' }\nwith = ['b']\nfor = 'Early'\ngone = 'yes'\n\
                    speaks = 'p9'\nworlds = '>=4'\n";
        let told: Vec<String> = ["build", "addon"]
            .iter()
            .map(|kind| {
                let family = family(&reader.replace("KIND", kind));
                let read = read_as(&family, &[(0, text)], "thing.bloom").unwrap();
                serde_json::to_string(&WrittenRelease::of(&read.facts)).unwrap()
            })
            .collect();
        insta::assert_snapshot!(told.join("\n"), @r##"
        {"id":"thing","kind":"build","version":"#abcdef0123","build":{"runtime":"17","flavours":["wide"],"has":{"leaf":3},"protocol":"p9","worlds_from":">=4"},"channel":"early","withdrawn":true,"companions":["b"]}
        {"id":"thing","kind":"addon","version":"#abcdef0123","channel":"early","withdrawn":true,"runtime":"17","flavour":"wide","companions":["b"],"takes":{"leaf":3}}
        "##);
    }
}
