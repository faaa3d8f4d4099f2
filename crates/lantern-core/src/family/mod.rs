//! What a family file says: how one kind of server is laid out and talks.
//!
//! The file is TOML, `*.family.toml`; `docs/formats/family.md` lists every key. Everything peculiar
//! to a kind of server stands there; no code knows one by name.

mod also;
mod beside;
mod clients;
mod console;
mod instead;
mod naming;
mod parked;
mod pattern;
mod reader;
mod settings;
mod short;
mod switch;
mod within;

pub use also::Also;
pub use beside::Beside;
pub use clients::{
    Admitted, ClientKind, Joins, OnlyBy, Others, Place, Same, Speaks, Whole, is_said_protocol,
};
pub use console::{
    ConsoleRule, ErrorRule, KnownError, PortRule, SettingRule, Stop, StopSignal, Transport,
    VersionRule,
};
pub use instead::{Ground, Instead};
pub use naming::{End, Ending, Listing, Named, Naming};
pub use parked::Parked;
pub use pattern::{Glob, Globs, Pattern};
pub use reader::{
    DescriptorFile, FieldRule, Fields, IdSpelling, Item, Lookup, Name, Names, Part, Reader, Shape,
    Start, TextNotation, Where,
};
pub use settings::SettingsRule;
pub use switch::Switch;
pub use within::Within;

use crate::component::{Effect, Id, Kind, Runs};
use crate::facts::Facts;

use crate::hint::with_nearest;
use crate::path::RelPath;
use crate::settings::{Key, Manner, Notation};
use crate::supply::HashKind;
use crate::version::{Notations, Version};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::ops::Range;

/// One kind of server, as its family file describes it.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Family {
    /// The number of the format: 1.
    pub format: u32,
    /// The family's name, as `lantern.toml` gives it.
    pub name: String,
    /// Its name for people.
    pub title: String,
    /// Paths that tell a server of this family: each has to match something.
    pub marks: Vec<Glob>,
    /// How versions and ranges are written.
    #[serde(default)]
    pub versions: Notations,
    /// How ids are spelled.
    #[serde(default)]
    pub ids: IdSpelling,
    /// The server program.
    pub build: Build,
    /// What belongs to the place and what passes.
    #[serde(default)]
    pub layout: Layout,
    /// How components are recognised, first match first.
    #[serde(rename = "reader")]
    pub readers: Vec<Reader>,
    /// What start scripts pin: versions and file names that follow from what is installed.
    #[serde(default, rename = "pin")]
    pub pins: Vec<Pin>,
    /// Settings that follow from facts.
    #[serde(default, rename = "flag")]
    pub flags: Vec<Flag>,
    /// Lists besides the load order that name what runs.
    #[serde(default)]
    pub also: Vec<Also>,
    /// How settings files are to be taken, besides what their names tell.
    #[serde(default)]
    pub settings: Vec<SettingsRule>,
    /// The kinds of client with which players join; the server's own is the first.
    #[serde(default, rename = "client")]
    pub clients: Vec<ClientKind>,
    /// Where the load order is written; none when the server sorts by itself.
    pub order: Option<OrderRule>,
    /// How the server is started.
    pub launch: Launch,
    /// What the console says and takes.
    pub console: ConsoleRule,
}

/// The server program.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Build {
    /// Its id.
    pub id: String,
    /// Whether it lies outside the server folder, installed for the whole machine.
    #[serde(default)]
    pub outside: bool,
    /// Ids that it brings along, so that needs of them are met.
    #[serde(default)]
    pub provides: Vec<String>,
    /// The protocols that its versions speak with clients, where they do not state it themselves.
    #[serde(default)]
    pub speaks: Vec<Speaks>,
    /// How it is made where it cannot be downloaded.
    pub acquire: Option<Acquire>,
}

/// A recipe for a server program that cannot be downloaded: an installer or build tool that is run.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Acquire {
    /// Program and arguments, run in a scratch folder; `{version}`, `{server}` (the server
    /// folder) and `{runtime}` (the runtime's program) are filled in.
    pub command: Vec<String>,
    /// The runtime that it needs, looked at first.
    pub runtime: Option<RuntimeRule>,
    /// How long it may take, in seconds.
    #[serde(default = "default_acquire_s")]
    pub limit_s: u64,
    /// What it leaves in the scratch folder and is wanted, as path patterns; each has to match.
    #[serde(default)]
    pub results: Vec<Glob>,
    /// The one file that is the server program, where its name is not known before.
    pub product: Option<Product>,
    /// Whether it may fail at its end as long as the results are there.
    #[serde(default)]
    pub may_fail: bool,
}

fn default_acquire_s() -> u64 {
    900
}

/// What a recipe makes, found by its path.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Product {
    /// Finds its path in the scratch folder; the group `version`, if there is one, says which version it is.
    pub find: Pattern,
    /// The path that it gets; `{version}` is filled in. Without it, it stays where it is.
    #[serde(rename = "as")]
    pub named: Option<String>,
}

/// The runtime that a recipe needs.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RuntimeRule {
    /// Program and arguments that print the programs to choose from, one in each line, where several may be installed.
    pub list: Option<Vec<String>>,
    /// Program and arguments that print its version; `{runtime}` is one of those that were listed.
    pub command: Vec<String>,
    /// Finds the version in what is printed, as the group `version`.
    pub version: Pattern,
    /// The range that its version has to be in; of several that are, the newest is taken.
    pub range: String,
}

/// What belongs to the place and what passes.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Layout {
    /// Paths that no changeover writes: worlds, players, bans.
    pub keep: Vec<Glob>,
    /// Paths that come and go: logs, caches. They belong to nobody and are not looked into.
    pub passing: Vec<Glob>,
    /// Settings and start scripts of the place itself: known, and nobody's component.
    pub settings: Vec<Glob>,
    /// Folders in which add-ons keep what they write; kept, and shown with their add-on.
    pub data: Vec<Glob>,
}

/// How the load order is written down.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OrderKind {
    /// One line for each add-on; the order of the lines is the load order.
    Sequence,
    /// One line for each add-on says whether it is on; the server sorts by itself.
    Flags,
    /// One value holds all add-ons, in load order.
    List,
    /// The names of the add-ons' own files or folders; their order is the load order.
    Names,
    /// A line names the one of many that is in use.
    One,
}

/// What the entries of a load order say of the add-ons that they name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Lists {
    /// Which run: what has no entry does not.
    #[default]
    On,
    /// Which do not: what has no entry runs, and the server sorts by itself.
    Off,
}

/// Where and how the load order is written down.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OrderRule {
    /// How it is written down.
    pub kind: OrderKind,
    /// Whether its entries name what runs, or what does not.
    #[serde(default)]
    pub lists: Lists,
    /// The file; exactly one has to match. For names: the files or folders of the add-ons.
    pub file: Globs,
    /// The part of the file in which entries stand; without it, all of it.
    #[serde(default)]
    pub within: Option<Within>,
    /// Finds a line's add-on as the group `id`, and for flags its value as the group `on`; for a
    /// list, the text with all its items as the group `list`; for names, in a name, its number as the group `at` and
    /// what comes after that as the group `name`; in a line, too, the version that it names as the group `version`.
    pub line: Pattern,
    /// Finds a line in whose place another file of the folder is read, or all files of a folder by name, as the group `file`:
    /// relative to the file that it stands in, or else to the server folder.
    #[serde(default)]
    pub includes: Option<Pattern>,
    /// How a new line, or an item of a list, is written: `{id}`, for flags also `{on}`, and `{version}` where it names that; for
    /// names, how one gets a number: `{at}`, `{name}`.
    pub write: String,
    /// How a new line is written for an add-on that states what it wants to be started with: `{id}`, `{arguments}`.
    #[serde(default)]
    pub write_with: Option<String>,
    /// What becomes of a line of a sequence when its add-on is switched off: `{line}`; else it goes.
    #[serde(default)]
    pub parked: Option<String>,
    /// Whether a list goes over several lines.
    #[serde(default)]
    pub spans: bool,
    /// What stands between the items of a list.
    #[serde(default = "default_between")]
    pub between: String,
    /// Folders whose name, as an entry, counts for all add-ons below them.
    #[serde(default)]
    pub categories: Globs,
    /// Finds, in the place of an add-on, what its entry calls it, as the group `value`; without it, that is its id.
    #[serde(default)]
    pub each: Option<Pattern>,
    /// The flag's text for an add-on that is on.
    #[serde(default = "default_on")]
    pub on: String,
    /// The flag's text for an add-on that is off.
    #[serde(default = "default_off")]
    pub off: String,
}

impl OrderRule {
    /// Whether an add-on without an entry runs.
    pub fn runs_unlisted(&self) -> bool {
        self.lists == Lists::Off
    }

    /// The part of a text in which entries stand, in bytes; none where it has no such part.
    pub fn part(&self, text: &str) -> Option<Range<usize>> {
        match &self.within {
            None => Some(0..text.len()),
            Some(within) => within.part(text),
        }
    }

    /// Whether the add-ons' own names are the load order.
    pub fn is_in_names(&self) -> bool {
        self.kind == OrderKind::Names
    }

    /// What the entry of an add-on calls it that lies there; none where nothing in its place tells.
    pub fn entry(&self, id: &Id, place: &RelPath) -> Option<Id> {
        match &self.each {
            None => Some(id.clone()),
            Some(each) => each.capture("value", place.as_str()).map(Id::new),
        }
    }
}

fn default_between() -> String {
    ",".into()
}

fn default_on() -> String {
    "true".into()
}

fn default_off() -> String {
    "false".into()
}

/// A setting that follows from facts.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Flag {
    /// What people call it.
    pub name: String,
    /// The files that it stands in.
    pub file: Globs,
    /// Finds what it says as the group `value`.
    pub line: Option<Pattern>,
    /// Or its key, in the notation that the file's name tells.
    pub key: Option<String>,
    /// What it follows from.
    pub follows: FlagFrom,
    /// What it says where that is so; for a version or a number, `{}` is filled in.
    #[serde(default = "default_yes")]
    pub yes: String,
    /// What it says where it is not.
    #[serde(default)]
    pub no: String,
}

fn default_yes() -> String {
    "{}".into()
}

/// What a flag follows from.
#[derive(Debug, Clone, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum FlagFrom {
    /// Whether anything with this effect runs; what nobody declared counts as changing play.
    Effect(Effect),
    /// Whether a component is installed and runs.
    Component(Id),
    /// The version of the build, a framework or a pack.
    Version(Kind),
    /// How many slots of a kind are taken.
    Slots(String),
    /// The hash of the one file that a pattern of paths finds; none where several are found.
    Hash {
        /// Which hash.
        kind: HashKind,
        /// The file.
        of: Globs,
    },
    /// Whether an operation is under way: before and after it, it says what it did.
    Changeover,
}

/// The place of a value in a text.
#[derive(Debug, Clone)]
pub enum Spot<'f> {
    /// What a pattern finds in a line as its group `value`.
    Line(&'f Pattern),
    /// A value by its key.
    Key(Notation, Key),
}

impl Family {
    /// Whether a file may hold what follows from what is installed and runs, or says what does: pins, flags, lists besides the load
    /// order, an add-on's own word.
    pub fn is_followed(&self, path: &str) -> bool {
        let pins = self.pins.iter().map(|pin| &pin.file);
        let flags = self.flags.iter().map(|flag| &flag.file);
        let also = self.also.iter().map(|also| &also.file);
        let mut files = pins.chain(flags).chain(also);
        files.any(|files| files.matches(path)) || self.says_itself(path)
    }

    /// The hashes that flags name, each with the patterns that find its file.
    pub fn named_hashes(&self) -> impl Iterator<Item = (HashKind, &Globs)> {
        self.flags.iter().filter_map(|flag| match &flag.follows {
            FlagFrom::Hash { kind, of } => Some((*kind, of)),
            _ => None,
        })
    }

    /// Whether a flag may name the hash of a file.
    pub fn may_name_hash_of(&self, path: &RelPath) -> bool {
        self.named_hashes().any(|(_, of)| of.matches(path.as_str()))
    }

    /// Whether a file may be one in which an add-on says whether it runs.
    pub fn says_itself(&self, path: &str) -> bool {
        let mut readers = self.readers.iter();
        readers.any(|it| {
            let switch = it.switch.as_ref();
            switch.is_some_and(|switch| switch.is_in(&it.at, path))
        })
    }

    /// How a settings file is to be taken.
    pub fn manner(&self, path: &RelPath) -> Manner {
        settings::manner(&self.settings, path)
    }

    fn spot<'f>(
        &self,
        line: Option<&'f Pattern>,
        key: Option<&str>,
        path: &RelPath,
    ) -> Option<Spot<'f>> {
        let by_key = || Some(Spot::Key(self.manner(path).notation?, Key::of(key?)));
        line.map(Spot::Line).or_else(by_key)
    }
}

impl PortRule {
    /// Where it stands in its file, where its key says so; none where nothing tells the file's notation.
    pub fn spot(&self, family: &Family, path: &RelPath) -> Option<Spot<'_>> {
        family.spot(None, self.key.as_deref(), path)
    }
}

impl SettingRule {
    /// Where it stands in its file, likewise.
    pub fn spot(&self, family: &Family, path: &RelPath) -> Option<Spot<'_>> {
        family.spot(None, self.key.as_deref(), path)
    }
}

impl Flag {
    /// Where it stands in a file; none where nothing tells the file's notation.
    pub fn spot(&self, family: &Family, path: &RelPath) -> Option<Spot<'_>> {
        family.spot(self.line.as_ref(), self.key.as_deref(), path)
    }
}

impl Pin {
    /// Where it stands in a file; none where nothing tells the file's notation.
    pub fn spot(&self, family: &Family, path: &RelPath) -> Option<Spot<'_>> {
        family.spot(self.line.as_ref(), self.key.as_deref(), path)
    }
}

/// Something that start scripts pin.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Pin {
    /// The scripts, or settings.
    pub file: Globs,
    /// Finds what is pinned as the group `value`.
    pub line: Option<Pattern>,
    /// Or its key, in the notation that the file's name tells; where it is missing, it is added.
    pub key: Option<String>,
    /// What it has to be: `{build.version}`, the same without a leading `v` as `{build.number}`, `{build.file}`, and so for
    /// `framework` and `pack`.
    pub becomes: String,
    /// What is added where nothing in the file is found.
    pub add: Option<Addition>,
}

/// What is added to a file in which a pin is missing; `{}` is what it has to be.
#[derive(Debug, Clone, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Addition {
    /// Words right behind the program that starts the server.
    Argument(String),
    /// A line at the end of the file.
    Line(String),
    /// A line behind the first one that a pattern finds; at the end of the file where there is none.
    LineAfter {
        /// Finds the line before.
        after: Pattern,
        /// The line.
        line: String,
    },
}

/// How the server is started.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Launch {
    /// Program and arguments; run in the server folder.
    pub command: Vec<String>,
    /// Start scripts, besides those that the command names and other settings.
    #[serde(default)]
    pub scripts: Globs,
    /// Finds the command that starts the server, in its words with a blank between each; else it is the last that runs a
    /// program.
    pub starts: Option<Pattern>,
    /// Find commands that put in again what an update exchanges.
    #[serde(default)]
    pub updates: Vec<Pattern>,
}

impl Launch {
    /// Whether a file may be a start script.
    pub fn is_script(&self, path: &str) -> bool {
        let named = |word: &String| word.trim_start_matches("./") == path;
        self.command.iter().any(named) || self.scripts.matches(path)
    }
}

/// Why a text is no family file.
#[derive(Debug, Clone, thiserror::Error)]
pub enum FamilyFault {
    /// It is not TOML, a key is unknown or missing, or a value does not fit; with line and column.
    #[error("{0}")]
    Written(String),
    /// It is of a format that this program does not read.
    #[error("it is of format {0}; this lantern reads format 1")]
    Format(u32),
    /// It is written well but contradicts itself.
    #[error("{0}")]
    Sense(String),
}

impl Family {
    /// Reads a family file.
    ///
    /// # Errors
    /// On anything that is not as docs/formats/family.md says, with the line where there is one.
    pub fn parse(text: &str) -> Result<Family, FamilyFault> {
        let mut family: Family = toml_edit::de::from_str(text)
            .map_err(|error| FamilyFault::Written(with_nearest(error.to_string().trim_end())))?;
        if family.format != 1 {
            return Err(FamilyFault::Format(family.format));
        }
        for kind in &mut family.clients {
            kind.name = family.ids.spell(&kind.name);
            let notation = kind.notation.unwrap_or(family.versions.server);
            family.versions.clients.insert(kind.name.clone(), notation);
        }
        family.check_sense()?;
        let below = |glob: &Glob| Glob::new(&format!("{}/**", glob.as_str()));
        let data: Result<Vec<Glob>, String> = family.layout.data.iter().map(below).collect();
        family.layout.keep.extend(data.map_err(FamilyFault::Sense)?);
        Ok(family)
    }

    fn check_sense(&self) -> Result<(), FamilyFault> {
        let fault = |text: String| Err(FamilyFault::Sense(text));
        let mut names = BTreeMap::new();
        for reader in &self.readers {
            if names.insert(&reader.name, reader.shape).is_some() {
                return fault(format!("two readers are named \"{}\"", reader.name));
            }
            if (reader.shape == Shape::Entry) != reader.at.0.is_empty() {
                return fault(format!(
                    "reader \"{}\": `at` says where it lies, for every shape but entry",
                    reader.name
                ));
            }
            let odd = reader.off_fault().or(reader.beside_fault());
            if let Some(why) = odd.or(reader.copy_fault()) {
                return fault(format!("reader \"{}\": {why}", reader.name));
            }
            let own = reader.switch.as_ref();
            if let Some(why) = own.and_then(|it| it.fault(self, reader)) {
                return fault(format!("reader \"{}\": {why}", reader.name));
            }
            for file in &reader.files {
                if (file.notation == TextNotation::Header) != file.line.is_some() {
                    return fault(format!(
                        "reader \"{}\": `line` finds header lines, for the notation header and only there",
                        reader.name
                    ));
                }
            }
        }
        for reader in &self.readers {
            let members = reader.members.as_ref();
            let inside = members.and_then(|name| names.get(name));
            if (reader.shape == Shape::Group) != (inside == Some(&Shape::Folder)) {
                return fault(format!(
                    "reader \"{}\": members names a reader of shape folder, for groups and only there",
                    reader.name
                ));
            }
        }
        let several = |files: &'_ Globs| files.texts().map(str::to_owned).collect::<Vec<_>>();
        let flags = self
            .flags
            .iter()
            .map(|it| ("flag", several(&it.file), &it.line, &it.key));
        let pins = self
            .pins
            .iter()
            .map(|it| ("pin", several(&it.file), &it.line, &it.key));
        let console = &self.console;
        let ports = console.port.iter().chain(&console.more_ports);
        let ports = ports.map(|it| ("console.port", vec![it.file.clone()], &it.line, &it.key));
        let told = console.settings.iter();
        let told = told.map(|it| ("console.setting", vec![it.file.clone()], &it.line, &it.key));
        for (what, files, line, key) in flags.chain(pins).chain(ports).chain(told) {
            if line.is_some() == key.is_some() {
                return fault(format!(
                    "{what}: one of `line` and `key` says where it stands"
                ));
            }
            let states = |file: &str| {
                let mut rules = self.settings.iter();
                rules.any(|rule| rule.file.matches(file) || rule.file.texts().any(|it| it == file))
            };
            let is_unknown = |file: &&String| Notation::of(file).is_none() && !states(file);
            let unknown = files.iter().find(is_unknown);
            if let Some(file) = unknown.filter(|_| key.is_some()) {
                return fault(format!(
                    "{what}.key: the name of \"{file}\" tells no notation (.toml, .json, .yaml, .ini, .cfg, .conf, .properties, .xml)"
                ));
            }
        }
        if let Some(why) = self.also.iter().find_map(Also::fault) {
            return fault(why);
        }
        if let Some(why) = self.settings.iter().find_map(SettingsRule::fault) {
            return fault(why);
        }
        if let Some(why) = self.client_rules().fault() {
            return fault(why);
        }
        if self.console.ready.is_none() && self.console.port.is_none() {
            return fault(
                "console: neither `ready` nor `port` says how the server is known to be up".into(),
            );
        }
        let version = self.console.version.as_ref();
        if let Some(why) = version.and_then(|it| it.fault(self.console.port.as_ref())) {
            return fault(why.into());
        }
        if let Some(order) = &self.order {
            if !order.kind.groups().iter().all(|it| order.line.names(it)) {
                return fault(
                    "order.line lacks the group (?P<id>…), for flags (?P<on>…), for a list (?P<list>…), \
                     for names (?P<at>…) and (?P<name>…)"
                        .into(),
                );
            }
            if !order.is_in_names()
                && (order.line.names("at") || order.write.contains("{at}"))
                && !(order.kind == OrderKind::Sequence
                    && order.line.names("at")
                    && order.write.contains("{at}"))
            {
                return fault(
                    "order.line has the group (?P<at>…) where order.write has {at}, for a sequence and for names"
                        .into(),
                );
            }
            let (finds, writes) = (
                order.line.names("version"),
                order.write.contains("{version}"),
            );
            let fits = match order.kind {
                OrderKind::List => !finds,
                OrderKind::Names => !finds && !writes,
                OrderKind::Sequence | OrderKind::Flags | OrderKind::One => finds == writes,
            };
            if !fits {
                return fault(
                    "order.line has the group (?P<version>…) where order.write has {version}, for what names add-ons in \
                     lines; in a list, order.write alone has it"
                        .into(),
                );
            }
            if order.within.is_some() && order.is_in_names() {
                return fault("order.within is for what stands in a text".into());
            }
            if order.includes.as_ref().is_some_and(|it| !it.names("file")) {
                return fault("order.includes lacks the group (?P<file>…)".into());
            }
            if let Some(parked) = &order.parked
                && (order.kind != OrderKind::Sequence || !parked.contains("{line}"))
            {
                return fault("order.parked holds {line}, and is for a sequence alone".into());
            }
            if order.runs_unlisted() {
                let fits = match order.kind {
                    OrderKind::Sequence | OrderKind::List => !order.line.names("at"),
                    OrderKind::Flags => true,
                    OrderKind::Names | OrderKind::One => false,
                };
                if !fits {
                    return fault(
                        "order.lists = \"off\" is for a list, for flags and for a sequence without numbers"
                            .into(),
                    );
                }
                let more = [
                    ("parked", order.parked.is_some()),
                    ("write_with", order.write_with.is_some()),
                    ("categories", order.categories.texts().next().is_some()),
                ];
                if let Some((key, _)) = more.iter().find(|(_, is_there)| *is_there) {
                    return fault(format!(
                        "order.{key} is for a load order that names what runs, not for lists = \"off\""
                    ));
                }
                if self.readers.iter().any(|it| it.shape == Shape::Entry) {
                    return fault(
                        "order.lists = \"off\" names what does not run: no reader has shape entry then"
                            .into(),
                    );
                }
            }
            if let Some(each) = &order.each
                && (order.is_in_names() || !each.names("value"))
            {
                return fault(
                    "order.each has the group (?P<value>…), and is for what stands in a text"
                        .into(),
                );
            }
            if order.spans && !matches!(order.kind, OrderKind::List | OrderKind::Flags) {
                return fault("order.spans is for a list and for flags alone".into());
            }
        }
        Ok(())
    }

    /// How an add-on runs that a reader finds and that comes new.
    pub fn runs(&self, reader: &Reader) -> Runs {
        match (reader.runs, &self.order) {
            _ if reader.is_apart() => Runs::On,
            (Some(Start::Always), _) | (None, None) => Runs::Always,
            // Of many, what comes new is not the one in use.
            (Some(Start::Listed) | None, Some(order)) => {
                Runs::switched(order.kind != OrderKind::One)
            }
            (Some(Start::Unknown), _) | (Some(Start::Listed), None) => Runs::Unsaid,
        }
    }

    fn client_rules(&self) -> clients::Rules<'_> {
        clients::Rules {
            kinds: &self.clients,
            servers: &self.build.speaks,
            notations: &self.versions,
        }
    }

    /// Adds to a build's facts which clients it lets in, for the kinds of which it does not say so itself.
    pub fn tell_clients(&self, facts: &mut Facts) {
        if facts.kind != Kind::Build {
            return;
        }
        let mut own = self.client_rules().admits(facts);
        own.retain(|own| facts.admits.iter().all(|it| it.client != own.client));
        facts.admits.extend(own);
    }

    /// What a version of the server speaks with clients, where its build does not state it; none where that is not known.
    pub fn protocol(&self, version: &Version) -> Option<String> {
        self.client_rules().protocol(version).map(str::to_owned)
    }

    /// The reader with a name.
    pub fn reader(&self, name: &str) -> Option<&Reader> {
        self.readers.iter().find(|reader| reader.name == name)
    }

    /// Whether what a reader finds is switched apart from the load order.
    pub fn is_apart(&self, reader: &str) -> bool {
        self.reader(reader).is_some_and(Reader::is_apart)
    }

    /// Whether a path is on the family's keep list; the file of the load order never is.
    pub fn keeps(&self, path: &str) -> bool {
        let order_file = self.order.as_ref().is_some_and(|o| o.file.matches(path));
        !order_file && self.layout.keep.iter().any(|glob| glob.matches(path))
    }

    /// Whether something on the family's keep list may lie below a folder.
    pub fn may_keep_below(&self, folder: &str) -> bool {
        let mut keep = self.layout.keep.iter();
        keep.any(|glob| glob.may_match_below(folder))
    }

    /// Whether a path holds settings or a start script of the place itself.
    pub fn is_settings(&self, path: &str) -> bool {
        self.layout.settings.iter().any(|glob| glob.matches(path))
    }

    /// Whether a path comes and goes by itself.
    pub fn passes(&self, path: &str) -> bool {
        self.layout.passing.iter().any(|glob| glob.matches(path))
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    pub(super) const SMALL: &str = r#"
        format = 1
        name = "x"
        title = "X"
        marks = ["x.conf"]
        build = { id = "x" }
        launch = { command = ["sh", "start.sh"] }
        console = { ready = "up", stop = { command = "stop" } }
        layout = { keep = ["world/**"] }
        order = { kind = "flags", file = "world/*.mt", line = '^(?P<id>\w+)=(?P<on>\w+)', write = "{id}={on}" }
        [[reader]]
        name = "addon"
        kind = "addon"
        shape = "archive"
        at = "addons/*.zip"
        files = [{ name = "a.toml", notation = "toml" }]
        fields = { id = ["id", { at = "name", pattern = '(?P<value>.*)' }] }
    "#;

    #[test]
    fn a_small_family_is_read() {
        let family = Family::parse(SMALL).unwrap();
        assert!(family.keeps("world/map.db") && family.keeps("world/a/b"));
        assert!(
            !family.keeps("world/flags.mt"),
            "the load order's file is never kept"
        );
        assert_eq!(family.readers[0].fields.rule("id").0.len(), 2);
        assert_eq!(family.console.ready_timeout_s, 300);
    }

    #[test]
    fn faults_say_where() {
        for (from, to, says) in [
            ("title", "titel", "titel"),
            ("format = 1", "format = 7", "format 7"),
            ("(?P<id>\\w+)=", "(?P<id>\\w+=", "regex"),
            ("(?P<on>\\w+)", "\\w+", "(?P<on>"),
            ("at = \"addons/*.zip\"", "", "`at` says where"),
            (
                "notation = \"toml\"",
                "notation = \"header\"",
                "header lines",
            ),
            ("id = [\"id\",", "id = [{ split = \",\" },", "either"),
            ("shape = \"archive\"", "shape = \"group\"", "members"),
            (
                "kind = \"flags\",",
                "kind = \"sequence\", spans = true,",
                "for a list and for flags alone",
            ),
            (
                "kind = \"flags\",",
                "kind = \"one\", lists = \"off\",",
                "a sequence without numbers",
            ),
            (
                "kind = \"flags\",",
                "kind = \"flags\", lists = \"off\", write_with = \"x\",",
                "order.write_with is for a load order that names what runs",
            ),
            (
                "kind = \"flags\",",
                "kind = \"flags\", lists = \"none\",",
                "unknown variant `none`, expected `on` or `off`",
            ),
            (
                "{on}\" }\n        [[reader]]",
                "{on}\", lists = \"off\" }\n        [[reader]]\n        name = \"entry\"\n        \
                 kind = \"addon\"\n        shape = \"entry\"\n        [[reader]]",
                "no reader has shape entry",
            ),
            (
                "kind = \"flags\",",
                "kind = \"flags\", each = '^addons/(.+)$',",
                "order.each has the group (?P<value>",
            ),
            (
                "write = \"",
                "write = \"{at} ",
                "order.line has the group (?P<at>…) where order.write has {at}",
            ),
            (
                "write = \"",
                "write = \"{version} ",
                "order.line has the group (?P<version>…) where order.write has {version}",
            ),
            // What is written long has its own faults, in a list and alone.
            ("pattern = '(?P", "each = '(?P", "unknown field `each`"),
            ("'(?P<value>.*)'", "'(?P<value>.*'", "unclosed group"),
            (
                "id = [\"id\", { at = \"name\", pattern = '(?P<value>.*)' }]",
                "id = { at = \"name\", as = 1 }",
                "unknown field `as`",
            ),
            ("[\"id\",", "[3,", "a key, or { at = … }"),
            (
                "id = [\"id\",",
                "id = [{ at = { least = 1 } },",
                "expected a string",
            ),
            ("id = [\"id\",", "id = [{ at = 1 },", "a table of keys"),
            ("id = [\"id\",", "id = [{ at = {} },", "no key is named"),
            (
                "id = [\"id\",",
                "needs = { at = { a = \"{}\", b = \"{}\" } }, id = [\"id\",",
                "`needs` is a list, which stands at one key, and not at each of a, b",
            ),
            (
                "ready = \"up\",",
                "ready = \"up\", errors = [\"(\"],",
                "unclosed",
            ),
            (
                "ready = \"up\",",
                "ready = \"up\", errors = [{ line = \"x\" }],",
                "missing field `means`",
            ),
            (
                "at = \"addons/*.zip\"",
                "at = 3",
                "a text, or a list of texts",
            ),
            (
                "at = \"addons/*.zip\"",
                "at = \"addons/*.zip\"\nparts = [{ from = \"a\", to = \"b\", own = true, copy = true }]",
                "leave `own` and {variant} out",
            ),
        ] {
            let fault = Family::parse(&SMALL.replace(from, to))
                .unwrap_err()
                .to_string();
            assert!(fault.contains(says), "{says}: {fault}");
        }
    }
}
