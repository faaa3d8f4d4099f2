//! In which order add-ons are started, and the least change to the arrangement that is there.
//!
//! A load order stands in a text, in one of several [`Form`]s, or in the names of what is started. Each way has a file of
//! its own; [`OrderKind::keeping`] leads to it, and nothing else asks which it is.

mod flags;
mod follow;
mod least;
mod list;
mod names;
mod numbers;
mod one;
mod sequence;
mod within;
mod written;

pub use follow::{Circle, Follows, Link, Why, must_follow, without_circles};
pub use names::{Named, renamed, succeeding};
pub(crate) use within::changed;
pub use written::OrderText;

use crate::component::Id;
use crate::family::{Glob, OrderKind, OrderRule};
use crate::path::RelPath;
use regex::Captures;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

/// An entry of the load order: it names an add-on, or a category of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderEntry {
    /// The line it stands in, from 1; of a name, which one it is.
    pub line: usize,
    /// The add-on.
    pub id: Id,
    /// Whether it lets the add-on run.
    pub on: bool,
    /// The version of the add-on that it names.
    pub version: Option<NamedVersion>,
    /// What stands there, with whatever is said besides the id: it goes where the entry goes.
    pub words: String,
}

/// A version as an entry names it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedVersion {
    /// As it stands there.
    pub text: String,
    /// Where in the text of the load order.
    at: Range<usize>,
}

impl NamedVersion {
    /// Whether it is one: `*`, `latest` and ranges are none, and stay whatever is installed.
    pub fn is_one(&self) -> bool {
        self.text.starts_with(|c: char| c.is_ascii_alphanumeric())
            && self.text.contains(|c: char| c.is_ascii_digit())
    }
}

/// A load order as it stands in its file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Arrangement {
    /// Its entries, the first first.
    pub entries: Vec<OrderEntry>,
    /// Whether the order of the entries is what decides; else the server sorts by itself.
    pub decides: bool,
}

/// What becomes of a load order.
#[derive(Debug, Clone, Copy)]
pub struct Change<'a> {
    /// Every add-on that has to have an entry that lets it run, first started first.
    pub order: &'a [Id],
    /// Add-ons whose entries go.
    pub gone: &'a BTreeSet<Id>,
    /// Add-ons that stay and are switched off.
    pub off: &'a BTreeSet<Id>,
    /// What add-ons without an entry want to be started with.
    pub arguments: &'a BTreeMap<Id, String>,
    /// The versions that entries have to name, where they name one.
    pub versions: &'a BTreeMap<Id, String>,
}

impl Change<'_> {
    /// A new entry.
    fn written(&self, rule: &OrderRule, id: &Id) -> String {
        let with = rule.write_with.as_ref().zip(self.arguments.get(id));
        let entry = match with {
            Some((with, arguments)) => {
                let entry = with.replace("{id}", id.as_str());
                entry.replace("{arguments}", arguments)
            }
            None => rule.write.replace("{id}", id.as_str()),
        };
        let version = self.versions.get(id).map_or("", String::as_str);
        entry.replace("{version}", version)
    }

    /// Whose flag has to be there, and what a new one says.
    fn flagged<'r>(&self, rule: &'r OrderRule) -> (BTreeSet<&Id>, &'r str) {
        match rule.runs_unlisted() {
            true => (self.off.iter().collect(), &rule.off),
            false => (self.order.iter().collect(), &rule.on),
        }
    }
}

/// A way of writing a load order down.
pub trait Form {
    /// The groups that the rule's pattern has to have.
    fn groups(&self) -> &'static [&'static str];

    /// Whether the order of the entries is what decides.
    fn decides(&self) -> bool;

    /// Whether it names the one of many that is in use.
    fn only_one(&self) -> bool {
        false
    }

    /// The entries in a text.
    fn entries(&self, rule: &OrderRule, text: &str) -> Vec<OrderEntry>;

    /// The text as it is after a change: what does not have to differ stays, byte for byte.
    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String;
}

/// What was written would not be read as it was meant: it stands where this add-on would not be found, or not in its turn.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unread(pub Id);

/// The text of a load order after a change, read again to see that it says what was asked for.
///
/// # Errors
/// With the first add-on of which that is not so: an id may hold what parts one from the next, and a text may hold a second
/// list that nobody can tell the meaning of.
pub fn rewritten(
    form: &dyn Form,
    rule: &OrderRule,
    text: &str,
    change: Change<'_>,
) -> Result<String, Unread> {
    let new = match rule.runs_unlisted() {
        true => naming_what_is_off(form, rule, text, change)?,
        false => naming_what_runs(form, rule, text, change)?,
    };
    naming_versions(form, rule, new, change.versions)
}

fn naming_what_runs(
    form: &dyn Form,
    rule: &OrderRule,
    text: &str,
    change: Change<'_>,
) -> Result<String, Unread> {
    let new = changed(form, rule, text, change);
    let read = within::entries(form, rule, &new);
    let running = read.iter().filter(|it| it.on).map(|it| &it.id);
    let order = change.order;
    let astray = match form.decides() {
        true => {
            let running: Vec<&Id> = running.collect();
            let mut turns = order.iter().enumerate();
            let astray = turns.find(|(turn, id)| running.get(*turn) != Some(id));
            let more = || Some(*running.get(order.len())?);
            astray.map(|(_, id)| id).or_else(more)
        }
        false => {
            let running: BTreeSet<&Id> = running.collect();
            order.iter().find(|id| !running.contains(id))
        }
    };
    match astray {
        None => Ok(new),
        Some(id) => Err(Unread(id.clone())),
    }
}

/// The same of a load order that names what does not run: each add-on that is off is named, none that runs, and other entries stay.
fn naming_what_is_off(
    form: &dyn Form,
    rule: &OrderRule,
    text: &str,
    change: Change<'_>,
) -> Result<String, Unread> {
    let old = within::entries(form, rule, text);
    let runs: BTreeSet<&Id> = change.order.iter().collect();
    let kept = old.iter().map(|it| &it.id);
    let kept = kept.filter(|id| !runs.contains(id) && !change.gone.contains(*id));
    let mut named: BTreeSet<&Id> = BTreeSet::new();
    let all = kept.chain(change.off).filter(|id| named.insert(*id));
    let all: Vec<Id> = all.cloned().collect();
    let becomes = match form.decides() {
        true => Change {
            order: &all,
            gone: &runs.into_iter().chain(change.gone).cloned().collect(),
            off: &BTreeSet::new(),
            ..change
        },
        false => change,
    };
    let new = changed(form, rule, text, becomes);
    let read = within::entries(form, rule, &new);
    // Of doubles the first counts.
    let mut off = BTreeSet::new();
    let mut met = BTreeSet::new();
    for entry in &read {
        if met.insert(&entry.id) && !entry.on {
            off.insert(&entry.id);
        }
    }
    let still_off = change.order.iter().find(|id| off.contains(id));
    let still_on = change.off.iter().find(|id| !off.contains(id));
    match still_off.or(still_on) {
        None => Ok(new),
        Some(id) => Err(Unread(id.clone())),
    }
}

/// A text whose entries name the versions that they have to, where they name one.
fn naming_versions(
    form: &dyn Form,
    rule: &OrderRule,
    mut text: String,
    versions: &BTreeMap<Id, String>,
) -> Result<String, Unread> {
    if versions.is_empty() {
        return Ok(text);
    }
    let other = |entry: &OrderEntry| {
        let named = entry.version.as_ref().filter(|it| it.is_one())?;
        let meant = versions.get(&entry.id)?;
        (named.text != *meant).then(|| (named.at.clone(), meant))
    };
    let before = within::entries(form, rule, &text);
    let mut changing: Vec<(Range<usize>, &String)> = before.iter().filter_map(other).collect();
    changing.sort_by_key(|(at, _)| at.start);
    for (at, version) in changing.into_iter().rev() {
        text.replace_range(at, version);
    }
    let now = within::entries(form, rule, &text);
    let fits = |(at, was): &(usize, &OrderEntry)| {
        let same = now.get(*at).filter(|it| it.id == was.id);
        same.is_some_and(|it| other(it).is_none())
    };
    match before.iter().enumerate().find(|it| !fits(it)) {
        None => Ok(text),
        Some((_, entry)) => Err(Unread(entry.id.clone())),
    }
}

/// A text in which entries are called otherwise: old names with the new ones. Where they stand stays as it is.
///
/// # Errors
/// As [`rewritten`].
pub fn called_otherwise(
    form: &dyn Form,
    rule: &OrderRule,
    text: &str,
    names: &BTreeMap<Id, Id>,
) -> Result<String, Unread> {
    if names.is_empty() {
        return Ok(text.to_owned());
    }
    let before = within::entries(form, rule, text);
    let mut lines: Vec<String> = text.split_inclusive('\n').map(str::to_owned).collect();
    let is_part = |c: char| c.is_alphanumeric() || "_-.".contains(c);
    for entry in &before {
        let (Some(new), Some(line)) = (names.get(&entry.id), lines.get_mut(entry.line - 1)) else {
            continue;
        };
        let old = entry.id.as_str();
        // Not where it is the part of another name.
        let whole = line.match_indices(old).map(|(at, _)| at).find(|at| {
            let (front, back) = (&line[..*at], &line[at + old.len()..]);
            !front.ends_with(is_part) && !back.starts_with(is_part)
        });
        if let Some(at) = whole {
            line.replace_range(at..at + old.len(), new.as_str());
        }
    }
    let text = lines.concat();
    let now = within::entries(form, rule, &text);
    let expected = before.iter().map(|it| names.get(&it.id).unwrap_or(&it.id));
    let is_there = |(at, id): &(usize, &Id)| now.get(*at).is_some_and(|it| it.id == **id);
    match expected.enumerate().find(|it| !is_there(it)) {
        None => Ok(text),
        Some((_, id)) => Err(Unread(id.clone())),
    }
}

/// What a load order stands in, and so what a change of it is.
#[derive(Clone, Copy)]
pub enum Keeping {
    /// A text, in a form: lines change.
    Text(&'static dyn Form),
    /// The names of the files or folders that are started: they are renamed.
    Names,
}

impl OrderKind {
    /// Where it is read, and how it is written.
    pub fn keeping(self) -> Keeping {
        match self {
            OrderKind::Sequence => Keeping::Text(&sequence::Sequence),
            OrderKind::Flags => Keeping::Text(&flags::Flags),
            OrderKind::List => Keeping::Text(&list::List),
            OrderKind::One => Keeping::Text(&one::One),
            OrderKind::Names => Keeping::Names,
        }
    }

    /// Whether it names the one of many that is in use.
    pub fn only_one(self) -> bool {
        matches!(self.keeping(), Keeping::Text(form) if form.only_one())
    }

    /// The groups that its pattern has to have.
    pub fn groups(self) -> &'static [&'static str] {
        match self.keeping() {
            Keeping::Text(form) => form.groups(),
            Keeping::Names => names::GROUPS,
        }
    }
}

impl Arrangement {
    /// Reads the load order in a text; there is none in it where names tell.
    pub fn read(rule: &OrderRule, text: &str) -> Arrangement {
        match rule.kind.keeping() {
            Keeping::Names => Arrangement::default(),
            Keeping::Text(form) => Arrangement {
                entries: within::entries(form, rule, text),
                decides: form.decides() && !rule.runs_unlisted(),
            },
        }
    }

    /// Reads the load order in the names of add-ons, each with the place where it lies.
    pub fn of_names<'a>(
        rule: &OrderRule,
        addons: impl Iterator<Item = (&'a Id, &'a RelPath)>,
    ) -> Arrangement {
        let ordered = addons.filter(|(_, place)| rule.file.matches(place.as_str()));
        let names = ordered.map(|(id, place)| (id.clone(), place.name().to_owned()));
        Arrangement {
            entries: names::entries(names),
            decides: true,
        }
    }

    /// Gives each entry the id of the add-on that it means, where they are not called by their ids: `addons` are all there are, with
    /// where each lies. What means none of them keeps its name.
    pub fn mean<'a>(
        &mut self,
        rule: &OrderRule,
        addons: impl Iterator<Item = (&'a Id, &'a RelPath)>,
    ) {
        if rule.each.is_none() {
            return;
        }
        let meant = addons.filter_map(|(id, place)| Some((rule.entry(id, place)?, id)));
        let meant: BTreeMap<Id, &Id> = meant.collect();
        for entry in &mut self.entries {
            if let Some(id) = meant.get(&entry.id) {
                entry.id = (*id).clone();
            }
        }
    }

    /// The versions that its entries name: the line of each, and of which add-on it is.
    pub fn named_versions(&self) -> impl Iterator<Item = (usize, &Id, &str)> {
        self.entries.iter().filter_map(|entry| {
            let version = entry.version.as_ref().filter(|it| it.is_one())?;
            Some((entry.line, &entry.id, version.text.as_str()))
        })
    }

    /// The ids of its entries, the first first.
    pub fn ids(&self) -> impl Iterator<Item = &Id> {
        self.entries.iter().map(|entry| &entry.id)
    }

    /// Whether an entry is of a kind that starts a folder of add-ons, whatever lies there.
    pub fn is_category(rule: &OrderRule, id: &Id) -> bool {
        let mut last = rule.categories.texts().filter_map(|text| {
            let name = text.rsplit('/').next().unwrap_or(text);
            Glob::new(name).ok()
        });
        last.any(|glob| glob.matches(id.as_str()))
    }

    /// Its entries by name, to find those that start add-ons.
    pub fn starters(&self) -> Starters<'_> {
        let mut entries = BTreeMap::new();
        for entry in &self.entries {
            entries.entry(entry.id.as_str()).or_insert(entry);
        }
        Starters(entries)
    }
}

/// The entries of an arrangement, each under its name; of doubles the first.
#[derive(Debug)]
pub struct Starters<'a>(BTreeMap<&'a str, &'a OrderEntry>);

impl<'a> Starters<'a> {
    /// The entry that starts an add-on: its own, or that of a category whose folder it lies in.
    pub fn of(&self, rule: &OrderRule, id: &Id, place: &RelPath) -> Option<&'a OrderEntry> {
        let named = |name: &str| self.0.get(name).copied();
        let folders = std::iter::successors(place.folder(), RelPath::folder);
        let mut categories = folders.filter(|folder| rule.categories.matches(folder.as_str()));
        named(id.as_str()).or_else(|| categories.find_map(|folder| named(folder.name())))
    }
}

/// Add-ons that each have to be started before one another, in a ring.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("these need one another in a circle, so none can be started first: {}", .0.iter().map(Id::as_str).collect::<Vec<_>>().join(", "))]
pub struct Ring(pub Vec<Id>);

/// Puts add-ons in an order in which each comes after all that it follows.
///
/// `wanted` holds each add-on with those it follows; `current` is the arrangement that is there.
/// Of what is there, as many as can be stay in their relative order; a new one comes as
/// early as it can, right after what it follows; what follows nothing and is new comes last.
///
/// # Errors
/// With the ring, where there is one.
pub fn arrange(wanted: &BTreeMap<Id, BTreeSet<Id>>, current: &[Id]) -> Result<Vec<Id>, Ring> {
    let mut preferred: Vec<&Id> = Vec::with_capacity(wanted.len());
    let mut listed = BTreeSet::new();
    for id in current {
        if let Some((id, _)) = wanted.get_key_value(id)
            && listed.insert(id)
        {
            preferred.push(id);
        }
    }
    let mut with_chain = wanted.clone();
    for pair in least::staying(wanted, &preferred).windows(2) {
        let firsts = with_chain.entry(pair[1].clone()).or_default();
        firsts.insert(pair[0].clone());
    }
    let wanted = &with_chain;
    preferred.extend(wanted.keys().filter(|id| !listed.contains(id)));
    let mut placed = BTreeSet::new();
    let mut order = Vec::with_capacity(preferred.len());
    let mut trail = Vec::new();
    for id in preferred {
        place(id, wanted, &mut placed, &mut trail, &mut order)?;
    }
    Ok(order)
}

/// Places what an add-on follows, then the add-on itself.
fn place<'a>(
    id: &'a Id,
    wanted: &'a BTreeMap<Id, BTreeSet<Id>>,
    placed: &mut BTreeSet<&'a Id>,
    trail: &mut Vec<&'a Id>,
    order: &mut Vec<Id>,
) -> Result<(), Ring> {
    if placed.contains(id) {
        return Ok(());
    }
    if let Some(start) = trail.iter().position(|on_trail| *on_trail == id) {
        return Err(Ring(
            trail[start..].iter().map(|id| (*id).clone()).collect(),
        ));
    }
    let Some(follows) = wanted.get(id) else {
        return Ok(());
    };
    trail.push(id);
    for before in follows {
        if let Some((before, _)) = wanted.get_key_value(before) {
            place(before, wanted, placed, trail, order)?;
        }
    }
    trail.pop();
    placed.insert(id);
    order.push(id.clone());
    Ok(())
}

/// The lines of a text that name an add-on, as entries.
fn naming(rule: &OrderRule, text: &str) -> impl Iterator<Item = OrderEntry> {
    rows(text).filter_map(|row| {
        let found = rule.line.regex().captures(row.text)?;
        Some(OrderEntry {
            line: row.number,
            id: Id::new(found.name("id")?.as_str()),
            on: !rule.runs_unlisted(),
            version: version_in(&found, row.begin),
            words: row.text.to_owned(),
        })
    })
}

/// The version that a pattern found in a part of a text which begins there.
fn version_in(found: &Captures<'_>, begin: usize) -> Option<NamedVersion> {
    let version = found.name("version")?;
    Some(NamedVersion {
        text: version.as_str().to_owned(),
        at: begin + version.start()..begin + version.end(),
    })
}

/// A line of a text, without its end.
struct Row<'t> {
    /// From 1.
    number: usize,
    /// Where in the text it begins.
    begin: usize,
    text: &'t str,
}

fn rows(text: &str) -> impl Iterator<Item = Row<'_>> {
    let mut next = 0;
    let lines = text.split_inclusive('\n').zip(1..);
    lines.map(move |(whole, number)| {
        let begin = next;
        next += whole.len();
        let line = whole.strip_suffix('\n').unwrap_or(whole);
        Row {
            number,
            begin,
            text: line.strip_suffix('\r').unwrap_or(line),
        }
    })
}

#[cfg(test)]
mod tests;
