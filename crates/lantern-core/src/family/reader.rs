//! How components are recognised, and where their facts are found.

use super::pattern::one_or_several;
use super::short::{OneOrSeveral, Short};
use super::{Beside, Glob, Globs, Parked, Pattern, Switch};
use crate::component::Kind;
use crate::facts;
use serde::de::{MapAccess, Visitor};
use serde::{Deserialize, Deserializer};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;

/// What a component is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Shape {
    /// One archive that stays packed; its descriptor lies inside.
    Archive,
    /// One file that is the component and its descriptor in one.
    File,
    /// A folder with its descriptor in it; released as an archive that is unpacked.
    Folder,
    /// A folder of folders that acts as one; `members` names the reader of those inside.
    Group,
    /// An entry of the load-order file without files of its own: something else fetches them.
    Entry,
}

impl Shape {
    /// Whether the component is one file rather than a folder.
    pub fn is_one_file(self) -> bool {
        matches!(self, Shape::Archive | Shape::File)
    }
}

/// What starts an add-on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Start {
    /// What stands in the load order.
    Listed,
    /// That it is there.
    Always,
    /// Nobody can tell.
    Unknown,
}

/// How one sort of component is recognised and read.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Reader {
    /// Its name in messages, and for `members`.
    pub name: String,
    /// What it finds.
    pub kind: Kind,
    /// What that is made of.
    pub shape: Shape,
    /// Where it lies: the file's or the folder's path.
    #[serde(default)]
    pub at: Globs,
    /// Files of which one has to be in the folder or archive; without any, one of `files` has to.
    #[serde(default)]
    pub marks: Vec<Names>,
    /// What starts an add-on that it finds; where it is not stated, the load order if there is one.
    pub runs: Option<Start>,
    /// Where an add-on lies that is switched off; then it runs by where it lies.
    pub off: Option<Parked>,
    /// The value in a file of an add-on's own that says whether it runs.
    pub switch: Option<Switch>,
    /// The reader of the folders inside a group.
    pub members: Option<String>,
    /// File names that a release in a drop folder has.
    pub drop: Option<Glob>,
    /// For single files: the one in the release's archive that is the component. Without it the download itself is.
    pub inside: Option<Glob>,
    /// How many folders around a component its release's archive may have; one, where it is not stated.
    pub depth: Option<usize>,
    /// Of what lies in a release's archive beside the component: what nobody needs.
    #[serde(default)]
    pub unused: Globs,
    /// Where a release goes that is not there yet: `{id}`, `{version}`, the download's own name as `{file}`, the same without
    /// extension as `{archive}`, and where the component lies in it as `{path}`, are filled in.
    pub install: Option<String>,
    /// Of one file: what else belongs to it and lies beside it.
    #[serde(default)]
    pub with: Vec<Beside>,
    /// Parts of a release that go elsewhere than to the component's own place.
    #[serde(default)]
    pub parts: Vec<Part>,
    /// The descriptor files, read one after the other; what an earlier one says stands.
    #[serde(default)]
    pub files: Vec<DescriptorFile>,
    /// What is found where in them.
    #[serde(default)]
    pub fields: Fields,
}

impl Reader {
    /// One of what stands nowhere on a disk: only its fields count.
    pub fn of_fields(name: &str, kind: Kind, fields: Fields) -> Reader {
        let bare = "name = ''\nkind = 'addon'\nshape = 'file'";
        let bare: Reader = toml_edit::de::from_str(bare).expect("it is a reader");
        Reader {
            name: name.to_owned(),
            kind,
            fields,
            ..bare
        }
    }

    /// The folder of a release that goes to the component's own place, with a `/`; empty where all of it does.
    pub fn home_in_release(&self) -> String {
        let place = self
            .install
            .as_deref()
            .map(|place| place.trim_end_matches('/'));
        let mut parts = self.parts.iter().filter(|part| !part.copy);
        let home = parts.find(|part| Some(part.to.trim_end_matches('/')) == place);
        home.map_or(String::new(), |part| {
            format!("{}/", part.from.trim_end_matches('/'))
        })
    }

    /// Where a copy lies of what lies at a path below a component's place.
    pub fn copies<'r>(&'r self, below: &str) -> impl Iterator<Item = String> + use<'r> {
        let name = format!("{}{below}", self.home_in_release());
        let parts = self.parts.iter().filter(|part| part.copy);
        parts.filter_map(move |part| part.leads(&name, None))
    }

    /// What is wrong with parts of which there are copies.
    pub(super) fn copy_fault(&self) -> Option<&'static str> {
        let mut copies = self.parts.iter().filter(|part| part.copy);
        let odd = copies.any(|part| part.own || part.from.contains("{variant}"));
        odd.then_some(
            "parts: what is a copy is known by its content: leave `own` and {variant} out",
        )
    }

    /// Where what lies at a path has its place when it is on: there, or where it was parked from; none where it is nothing of this
    /// reader's.
    pub fn home<'p>(&self, path: &'p str) -> Option<Cow<'p, str>> {
        let parked = self.off.as_ref().and_then(|off| off.home(path, &self.at));
        match parked {
            Some(home) => Some(Cow::Owned(home)),
            None => self.at.matches(path).then_some(Cow::Borrowed(path)),
        }
    }

    /// Whether what it finds is switched apart from the load order: by where it lies, or by its own word.
    pub fn is_apart(&self) -> bool {
        self.off.is_some() || self.switch.is_some()
    }

    /// What is wrong with where add-ons lie that are off.
    pub(super) fn off_fault(&self) -> Option<&'static str> {
        let off = self.off.as_ref()?;
        let is_apart = matches!(self.shape, Shape::Archive | Shape::File | Shape::Folder);
        if self.kind != Kind::Addon || !is_apart {
            Some("`off` is for add-ons that are an archive, a file or a folder")
        } else if self.runs.is_some() {
            Some("with `off` it runs by where it lies, and `runs` says nothing more")
        } else if !off.knows_its_folder(&self.at) {
            Some(
                "`off` names one folder for all, and add-ons that are on lie in several: begin it with {folder}",
            )
        } else {
            None
        }
    }

    /// Whether components that it finds lie right in a folder, or are that folder.
    pub fn lies_in(&self, folder: &str) -> bool {
        let mut places = self.at.texts();
        places.any(|at| {
            at == folder
                || at
                    .rsplit_once('/')
                    .is_some_and(|(above, _)| above == folder)
        })
    }
}

/// A part of a release that goes elsewhere.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Part {
    /// A folder or a file in the release; `{variant}` in it stands for the variant that was chosen.
    pub from: String,
    /// The folder in the server folder that its content goes to, empty for the server folder itself; of a file, its path, or
    /// with a `/` at its end the folder that it goes to.
    pub to: String,
    /// Whether what lies there, and nobody else claims, is the component's own.
    #[serde(default)]
    pub own: bool,
    /// Whether it lies in the component's own place as well, and a copy of it there.
    #[serde(default)]
    pub copy: bool,
}

impl Part {
    /// Where an entry of a release goes that belongs to the part; none when it does not.
    pub fn leads(&self, entry: &str, variant: Option<&str>) -> Option<String> {
        let from = match variant {
            Some(variant) => self.from.replace("{variant}", variant),
            None if self.from.contains("{variant}") => return None,
            None => self.from.clone(),
        };
        let rest = entry.strip_prefix(from.trim_end_matches('/'))?;
        let to = self.to.trim_end_matches('/');
        Some(match (rest.strip_prefix('/'), to) {
            (Some(rest), "") => rest.to_owned(),
            (Some(rest), to) => format!("{to}/{rest}"),
            (None, _) if !rest.is_empty() => return None,
            // The file itself.
            (None, _) if self.to.is_empty() || self.to.ends_with('/') => {
                let name = entry.rsplit('/').next().unwrap_or(entry);
                format!("{}{name}", self.to)
            }
            (None, to) => to.to_owned(),
        })
    }

    /// The name that a file of the server folder has in a release, where the part would put it there.
    pub fn comes_from(&self, path: &str) -> Option<String> {
        let (from, to) = (
            self.from.trim_end_matches('/'),
            self.to.trim_end_matches('/'),
        );
        if self.from.contains("{variant}") {
            return None;
        }
        let below = match to {
            "" => Some(path),
            to if path == to => return Some(from.to_owned()),
            to => path.strip_prefix(to)?.strip_prefix('/'),
        };
        below.map(|below| format!("{from}/{below}"))
    }
}

/// Names of files inside a component, by patterns; the first that is there counts.
///
/// `outer!inner` is a file in an archive in the archive.
#[derive(Debug, Clone)]
pub struct Names(pub Vec<Name>);

/// One pattern for files inside a component.
#[derive(Debug, Clone)]
pub struct Name {
    /// The archive inside the archive, where it is one.
    pub outer: Option<Glob>,
    /// The file.
    pub inner: Glob,
}

impl Name {
    /// Whether an entry is the one that is meant, or the archive that may hold it.
    pub fn leads_to(&self, path: &str) -> bool {
        self.outer.as_ref().unwrap_or(&self.inner).matches(path)
    }
}

impl Names {
    /// Whether any of the patterns leads to an entry.
    pub fn lead_to(&self, path: &str) -> bool {
        self.0.iter().any(|name| name.leads_to(path))
    }

    /// The patterns as they were written.
    pub fn text(&self) -> String {
        let texts = self.0.iter().map(|name| match &name.outer {
            Some(outer) => format!("{}!{}", outer.as_str(), name.inner.as_str()),
            None => name.inner.as_str().to_owned(),
        });
        texts.collect::<Vec<_>>().join(" or ")
    }
}

impl<'de> Deserialize<'de> for Names {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Names, D::Error> {
        let texts = one_or_several(deserializer)?;
        let names = texts.iter().map(|text| {
            let (outer, inner) = match text.split_once('!') {
                Some((outer, inner)) => (Some(Glob::new(outer)?), inner),
                None => (None, text.as_str()),
            };
            let inner = Glob::new(inner)?;
            Ok(Name { outer, inner })
        });
        let names: Result<Vec<Name>, String> = names.collect();
        names.map(Names).map_err(serde::de::Error::custom)
    }
}

/// One descriptor file.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DescriptorFile {
    /// Its path inside the component, by pattern; of one file, `.` is that itself, and any other name a file beside it.
    pub name: Names,
    /// How it is written.
    pub notation: TextNotation,
    /// For header lines: finds one, with the groups `key` and `value`.
    pub line: Option<Pattern>,
    /// It is not read when an earlier file has one of these keys.
    #[serde(default)]
    pub unless: Vec<String>,
}

/// How a descriptor is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TextNotation {
    /// TOML 1.0.
    Toml,
    /// JSON, with comments and trailing commas.
    Json,
    /// YAML 1.2, the first document, without aliases.
    Yaml,
    /// `key = value` lines, with or without `[sections]`; `#` and `;` begin comments.
    Ini,
    /// `key=value` lines with escapes and continuation, as Java programs write them.
    Properties,
    /// XML without a document type.
    Xml,
    /// `Key: value` lines; one that begins with a blank goes on with the value before.
    Manifest,
    /// One item a line, found as the list `lines`; `#` begins a comment.
    Lines,
    /// Lines at the top that a pattern finds.
    Header,
    /// Calls and tables of literals in a scripting notation; never executed.
    Script,
}

/// Where each fact is found; a missing one is unknown.
#[derive(Debug, Clone, Default)]
pub struct Fields(foldhash::HashMap<&'static str, FieldRule>);

/// What a component lays claim to, besides what it says of itself: the fields, and whether each is a list.
const CLAIMS: [(&str, bool); 8] = [
    ("data", false),
    ("overlay", true),
    ("owns", true),
    ("keep", true),
    ("members", true),
    ("pins", true),
    ("refers", true),
    ("variants", true),
];

impl Fields {
    /// Every field there is, in the order in which people ask, and whether it is a list: ids with ranges, numbers by
    /// kind, paths.
    pub fn known() -> impl Iterator<Item = (&'static str, bool)> {
        let first = [("id", false), ("version", false)];
        first.into_iter().chain(facts::fields()).chain(CLAIMS)
    }

    /// Where a field is found; nowhere when the reader does not say.
    pub fn rule(&self, field: &str) -> &FieldRule {
        const NOWHERE: &FieldRule = &FieldRule(Vec::new());
        self.0.get(field).unwrap_or(NOWHERE)
    }

    /// The fields that the reader says something of: name, rule, and whether it is a list.
    pub fn all(&self) -> impl Iterator<Item = (&'static str, &FieldRule, bool)> {
        Fields::known().filter_map(|(field, is_list)| Some((field, self.0.get(field)?, is_list)))
    }
}

impl<'de> Deserialize<'de> for Fields {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Fields, D::Error> {
        #[derive(PartialEq, Eq, PartialOrd, Ord)]
        struct Name(&'static str);
        impl<'de> Deserialize<'de> for Name {
            fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Name, D::Error> {
                let name = String::deserialize(deserializer)?;
                let known = Fields::known().find(|(known, _)| *known == name);
                known.map(|(known, _)| Name(known)).ok_or_else(|| {
                    let all: Vec<String> = Fields::known()
                        .map(|(name, _)| format!("`{name}`"))
                        .collect();
                    let why = format!("unknown field `{name}`, expected one of {}", all.join(", "));
                    serde::de::Error::custom(why)
                })
            }
        }
        let rules = BTreeMap::<Name, FieldRule>::deserialize(deserializer)?;
        let lists = Fields::known().filter(|(_, is_list)| *is_list);
        let lists = lists.filter_map(|(field, _)| Some((field, rules.get(&Name(field))?)));
        for (field, rule) in lists {
            let mut places = rule.0.iter().filter_map(|lookup| lookup.at.as_ref());
            if let Some(several) = places.find(|place| place.key().is_none()) {
                let why = format!(
                    "`{field}` is a list, which stands at one key, and not at each of {several}; for the bounds of a range in a table of it, there is `item.range`"
                );
                return Err(serde::de::Error::custom(why));
            }
        }
        Ok(Fields(
            rules
                .into_iter()
                .map(|(Name(name), rule)| (name, rule))
                .collect(),
        ))
    }
}

/// Several places to look for one fact, tried in turn; the first that is there counts.
#[derive(Debug, Clone, Default)]
pub struct FieldRule(pub Vec<Lookup>);

impl<'de> Deserialize<'de> for FieldRule {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<FieldRule, D::Error> {
        let key = |at: &str| {
            Ok(Lookup {
                at: Some(Where::At(at.into())),
                ..Lookup::default()
            })
        };
        let one = Short::<Lookup, Lookup>::new("a key, or { at = … } or { value = … }", key);
        let rule = deserializer.deserialize_any(OneOrSeveral(one))?;
        if rule.iter().any(|l| l.at.is_some() == l.value.is_some()) {
            let why = "a place to look has either `at` or `value`";
            return Err(serde::de::Error::custom(why));
        }
        Ok(FieldRule(rule))
    }
}

/// One place to look, and what to make of what is found.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lookup {
    /// Where it stands. `$name`, `$stem` and `$path` are the component's own file or folder name, that without extension, and
    /// its path in the server folder.
    pub at: Option<Where>,
    /// Instead of a place: what is taken where no place before it had anything.
    pub value: Option<String>,
    /// What stands between the texts of several keys, a blank where it is not stated; where it is, the texts of a list are one text, too.
    pub between: Option<String>,
    /// Cuts a text into items at this.
    pub split: Option<String>,
    /// Each item has to match; groups `id` and `range` pick the two out, `value` a single text.
    pub pattern: Option<Pattern>,
    /// What to make of the text; `{}` stands for it.
    pub template: Option<String>,
    /// What to make of the text that `range` captured; `{}` stands for it.
    pub range: Option<String>,
    /// Where items are tables: what is found where in one.
    pub item: Option<Item>,
}

impl Lookup {
    /// In messages: where it looks, or `value`.
    pub(crate) fn place(&self) -> String {
        match &self.at {
            Some(at) => at.to_string(),
            None => "value".into(),
        }
    }
}

/// Where a text stands: keys with dots between, as `package.id`.
#[derive(Debug, Clone)]
pub enum Where {
    /// At one key.
    At(String),
    /// At several keys, each with what to make of what stands there, where `{}` stands for it: the bounds of a range. What is
    /// found of them, in the order in which they are named, is one text.
    Each(Vec<(String, String)>),
}

impl Where {
    /// The key, where it is one.
    pub fn key(&self) -> Option<&str> {
        match self {
            Where::At(key) => Some(key),
            Where::Each(_) => None,
        }
    }

    /// What stands there, with `between` between what stands at several keys; `text` says it of a key.
    pub(crate) fn text<'t>(
        &self,
        between: &str,
        text: impl Fn(&str) -> Option<&'t str>,
    ) -> Option<Cow<'t, str>> {
        let keys = match self {
            Where::At(key) => return text(key).map(Cow::Borrowed),
            Where::Each(keys) => keys,
        };
        let found = keys.iter().filter_map(|(key, template)| {
            let text = text(key).map(str::trim).filter(|text| !text.is_empty())?;
            Some(template.replace("{}", text))
        });
        let found: Vec<String> = found.collect();
        (!found.is_empty()).then(|| Cow::Owned(found.join(between)))
    }
}

impl fmt::Display for Where {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Where::At(key) => f.write_str(key),
            Where::Each(keys) => {
                let keys: Vec<&str> = keys.iter().map(|(key, _)| key.as_str()).collect();
                f.write_str(&keys.join(", "))
            }
        }
    }
}

impl<'de> Deserialize<'de> for Where {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Where, D::Error> {
        let key = |key: &str| Ok(Where::At(key.into()));
        let what = "a key, or a table of keys with what to make of each, as { min = \">={}\", max = \"<={}\" }";
        let place = deserializer.deserialize_any(Short::<Where, Several>::new(what, key))?;
        match &place {
            Where::Each(keys) if keys.is_empty() => {
                Err(serde::de::Error::custom("no key is named"))
            }
            _ => Ok(place),
        }
    }
}

/// A place with several keys, in the order in which they are written.
struct Several(Vec<(String, String)>);

impl<'de> Deserialize<'de> for Several {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Several, D::Error> {
        deserializer.deserialize_map(Keys)
    }
}

/// Reads the table of such a place.
struct Keys;

impl<'de> Visitor<'de> for Keys {
    type Value = Several;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("keys, each with what to make of it")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Several, A::Error> {
        let mut keys = Vec::new();
        while let Some(entry) = map.next_entry()? {
            keys.push(entry);
        }
        Ok(Several(keys))
    }
}

impl From<Several> for Where {
    fn from(Several(keys): Several) -> Where {
        Where::Each(keys)
    }
}

/// Where a table that stands for one need has its parts.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Item {
    /// The key of the id.
    pub id: String,
    /// Where the range stands.
    pub range: Option<Where>,
    /// Only tables are taken in which these keys have these texts.
    #[serde(default)]
    pub only: BTreeMap<String, String>,
}

/// How a family spells ids: every id that is read becomes of this one spelling.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct IdSpelling {
    /// Letters become small ones.
    pub lower: bool,
    /// What this matches is cut out of an id: a prefix, an author.
    pub cut: Option<Pattern>,
}

impl IdSpelling {
    /// Spells an id as the family does.
    pub fn spell(&self, text: &str) -> String {
        let text = text.trim();
        let text = match &self.cut {
            Some(cut) => cut.regex().replace(text, "").into_owned(),
            None => text.to_owned(),
        };
        if self.lower {
            text.to_lowercase()
        } else {
            text
        }
    }
}
