//! Servers that move together: what each of them carries, and whether it should differ from what the others do.
//!
//! A group states what all of its servers carry, and what one has to itself. What two of them carry and neither has to itself is meant to
//! be one release; what only some carry, and nobody has stated, is asked about and not guessed.

mod joint;
mod named;
mod together;

pub use joint::{Agreed, Discord, agree};
pub use together::{Gate, Passes, Together};

use crate::component::{Id, Kind};
use crate::inventory::{Component, Inventory};
use crate::path::RelPath;
use crate::reading::{TextFault, line_at};
use crate::tree::{FileSeen, content_hash, is_unread, tree_hash};
use crate::watch::Limits;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZeroUsize;

/// The number of the format that is read.
pub const FORMAT: u32 = 1;

/// A group, as a `*.group.toml` states it (docs/formats/group.md).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Group {
    /// The number of the format: 1.
    pub format: u32,
    /// What it is called.
    pub name: String,
    /// What every server carries, in the same release.
    #[serde(default)]
    pub all: BTreeSet<Id>,
    /// Whether all of them are down before files are exchanged at one, and exchanged at all before one comes up; otherwise each moves by itself.
    #[serde(default)]
    pub together: bool,
    /// So many are worked at at once; where it is not said, one after another, or all that are down together.
    pub at_once: Option<NonZeroUsize>,
    /// From when on something is worth being said, where they are watched.
    #[serde(default)]
    pub watch: Limits,
    /// Its servers; two or more.
    #[serde(rename = "server")]
    pub servers: Vec<GroupServer>,
}

/// A server of a group.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GroupServer {
    /// The name of a server in care, or its folder, as seen from the file; or the address of one at which a lantern works that is there.
    pub at: String,
    /// What it is called here; otherwise as `at` names it.
    pub name: Option<String>,
    /// For one at which a lantern works that is there, the command that runs a line for the shell of that machine, which is added as its last word.
    pub shell: Option<Vec<String>>,
    /// What it has to itself: it carries that, in whatever release, and the others need not.
    #[serde(default)]
    pub own: BTreeSet<Id>,
    /// The servers that it comes up after, and goes down before, as they are called.
    #[serde(default)]
    pub after: BTreeSet<String>,
}

impl GroupServer {
    /// What it is called.
    pub fn called(&self) -> &str {
        self.name.as_deref().unwrap_or(&self.at)
    }
}

impl Group {
    /// Reads a group.
    ///
    /// # Errors
    /// With the line where there is one, when it is none, or states what cannot be meant.
    pub fn parse(text: &str) -> Result<Group, TextFault> {
        let group: Group = toml_edit::de::from_str(text).map_err(|error| TextFault {
            line: error.span().map(|span| line_at(text, span.start)),
            why: error.message().trim().to_owned(),
        })?;
        match group.fault() {
            Some(why) => Err(TextFault { line: None, why }),
            None => Ok(group),
        }
    }

    fn fault(&self) -> Option<String> {
        if self.format != FORMAT {
            return Some(format!(
                "format: {} is not known here; this lantern reads {FORMAT}",
                self.format
            ));
        }
        if self.servers.len() < 2 {
            return Some("server: a group has two or more".into());
        }
        let mut seen = BTreeSet::new();
        for server in &self.servers {
            let GroupServer {
                shell, own, after, ..
            } = server;
            let at = server.called();
            if at.is_empty() || at.chars().any(char::is_control) {
                return Some(format!("server \"{}\": name: it is none", server.at));
            }
            if !seen.insert(at) {
                return Some(format!("server: \"{at}\" stands there twice"));
            }
            if shell.as_ref().is_some_and(Vec::is_empty) {
                return Some(format!("server \"{at}\": shell: it names no command"));
            }
            if let Some(id) = own.iter().find(|id| self.all.contains(*id)) {
                return Some(format!(
                    "server \"{at}\": {id} is its own, and carried by all besides: one of them cannot be meant"
                ));
            }
            let known = |name: &&String| self.servers.iter().any(|it| it.called() == **name);
            if let Some(name) = after.iter().find(|name| !known(name)) {
                return Some(format!(
                    "server \"{at}\": it is to come after \"{name}\", which is no server of this group"
                ));
            }
        }
        let waves = self.waves(&(0..self.servers.len()).collect(), usize::MAX);
        let placed: BTreeSet<usize> = waves.into_iter().flatten().collect();
        let mut stuck = self.servers.iter().enumerate();
        let stuck = stuck.find(|(index, _)| !placed.contains(index));
        stuck.map(|(_, server)| {
            format!(
                "server \"{}\": what it is to come after comes after it, too, so that none of them could be first",
                server.called()
            )
        })
    }

    /// Which servers each comes after, as indices.
    pub fn after(&self) -> Vec<BTreeSet<usize>> {
        let each = self.servers.iter().map(|server| {
            let others = self.servers.iter().enumerate();
            let others = others.filter(|(_, other)| server.after.contains(other.called()));
            others.map(|(index, _)| index).collect()
        });
        each.collect()
    }

    /// In which order some of its servers move where each does by itself: so many at once, in the file's order, and each after those that it comes
    /// after. What waits for itself in a circle is left out.
    pub fn waves(&self, servers: &BTreeSet<usize>, at_once: usize) -> Vec<Vec<usize>> {
        let after = self.after();
        let mut left = servers.clone();
        let mut waves = Vec::new();
        loop {
            let is_free = |index: &&usize| after[**index].is_disjoint(&left);
            let wave: Vec<usize> = left.iter().filter(is_free).take(at_once).copied().collect();
            if wave.is_empty() {
                return waves;
            }
            left.retain(|index| !wave.contains(index));
            waves.push(wave);
        }
    }
}

/// What a server carries of one component.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Carried {
    /// Its version.
    pub version: String,
    /// The hash over its files; none where not all of them were read.
    pub content: Option<String>,
    /// The size of its files, in bytes.
    pub bytes: u64,
    /// Whether it is switched off.
    pub is_off: bool,
}

/// What is to be said of a component that servers of a group carry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Differs {
    /// All are to carry it, or a server has it to itself, and it is not there.
    Missing,
    /// It should be one release, and is several.
    Releases,
    /// It is one release, and not the same files.
    Files,
    /// It runs at some, and is switched off at others.
    Switched,
    /// Some carry it and others do not, and nobody has stated that it should be so.
    Unsaid,
}

impl Differs {
    /// Whether something has to be put right; otherwise it has to be stated.
    pub fn is_wrong(self) -> bool {
        !matches!(self, Differs::Unsaid)
    }
}

/// One component over all servers of a group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Its kind; none where nobody carries it.
    pub kind: Option<Kind>,
    /// Its id.
    pub id: Id,
    /// What each server carries, in the group's order.
    pub at: Vec<Option<Carried>>,
    /// The servers that have it to themselves, as indices.
    pub own: BTreeSet<usize>,
    /// The servers at which it should be, and is not, as indices.
    pub missing: BTreeSet<usize>,
    /// The servers that could share it, were looked at, and do not carry it, as indices.
    pub without: BTreeSet<usize>,
    /// What is to be said of it; nothing where it is as it should be.
    pub differs: BTreeSet<Differs>,
    /// Whether it is not known of somebody what its files hold, so that nobody can say that they are the same.
    pub is_unread: bool,
}

impl Row {
    /// Whether something of it has to be put right.
    pub fn is_wrong(&self) -> bool {
        self.differs.iter().any(|it| it.is_wrong())
    }

    /// The servers that carry the same, with what that is, most of them first; without those that have it to themselves. Files are only held
    /// against one another where they are what differs.
    pub fn alike(&self) -> Vec<(&Carried, Vec<usize>)> {
        let by_files = self.differs.contains(&Differs::Files);
        let same = |a: &Carried, b: &Carried| {
            let files = (&a.content, a.bytes) == (&b.content, b.bytes);
            (&a.version, a.is_off) == (&b.version, b.is_off) && (files || !by_files)
        };
        let mut alike: Vec<(&Carried, Vec<usize>)> = Vec::new();
        for (index, carried) in self.at.iter().enumerate() {
            let shared = carried.as_ref().filter(|_| !self.own.contains(&index));
            let Some(carried) = shared else { continue };
            match alike.iter_mut().find(|(known, _)| same(known, carried)) {
                Some((_, servers)) => servers.push(index),
                None => alike.push((carried, vec![index])),
            }
        }
        alike.sort_by_key(|(_, servers)| std::cmp::Reverse(servers.len()));
        alike
    }
}

/// All that a server carries, by id, with its kind; what is part of a pack is not named by itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Carries(BTreeMap<Id, (Kind, Carried)>);

impl Carries {
    /// What was found installed.
    pub fn of(inventory: &Inventory) -> Carries {
        let mut all = BTreeMap::new();
        for component in inventory.components.iter().filter(|it| it.group.is_none()) {
            let id = component.facts.id.clone();
            all.entry(id)
                .or_insert_with(|| (component.facts.kind, carried(component)));
        }
        Carries(all)
    }

    /// How many components that are.
    pub fn count(&self) -> usize {
        self.0.len()
    }
}

/// Holds what servers carry against one another, by kind, then id; of one that could not be looked at there is nothing, and nothing is
/// said of it.
pub fn compare(group: &Group, found: &[Option<Carries>]) -> Vec<Row> {
    let carried = found.iter().flatten().flat_map(|it| it.0.keys());
    let own = group.servers.iter().flat_map(|server| &server.own);
    let ids: BTreeSet<&Id> = carried.chain(&group.all).chain(own).collect();
    let mut rows: Vec<Row> = ids.into_iter().map(|id| row(group, found, id)).collect();
    rows.sort_by(|a, b| (a.kind.is_none(), a.kind, &a.id).cmp(&(b.kind.is_none(), b.kind, &b.id)));
    rows
}

fn carried(component: &Component) -> Carried {
    // What nobody looked into is kept or passing, and no part of a release.
    let files = component.files.iter().filter(|file| file.hash.is_some());
    let files: Vec<&FileSeen> = files.collect();
    let hashes = files
        .iter()
        .filter_map(|file| Some((&file.path, file.hash.as_deref()?)));
    let hashes: Vec<(&RelPath, &str)> = hashes.collect();
    let is_read = !hashes.iter().any(|(_, hash)| is_unread(hash));
    Carried {
        version: component.facts.version.to_string(),
        content: is_read.then(|| match &component.place {
            Some(place) => content_hash(place, hashes.into_iter()),
            None => tree_hash(hashes.iter().map(|(path, hash)| (path.as_str(), *hash))),
        }),
        bytes: files.iter().map(|file| file.bytes).sum(),
        is_off: component.runs.is_off(),
    }
}

fn row(group: &Group, found: &[Option<Carries>], id: &Id) -> Row {
    let carries = |index: &usize| found.get(*index)?.as_ref()?.0.get(id);
    let looked_at = |index: &usize| found.get(*index).is_some_and(Option::is_some);
    let all = 0..group.servers.len();
    let kind = all.clone().find_map(|index| Some(carries(&index)?.0));
    let at: Vec<Option<Carried>> = all
        .clone()
        .map(|index| Some(carries(&index)?.1.clone()))
        .collect();
    let servers = group.servers.iter().enumerate();
    let own: BTreeSet<usize> = servers
        .filter(|(_, server)| server.own.contains(id))
        .map(|(index, _)| index)
        .collect();
    let sharing: Vec<usize> = all
        .filter(|index| !own.contains(index) && looked_at(index))
        .collect();
    let in_all = group.all.contains(id);
    let due = sharing.iter().filter(|_| in_all).chain(&own);
    let missing: BTreeSet<usize> = due
        .filter(|index| looked_at(index) && at[**index].is_none())
        .copied()
        .collect();
    let shared: Vec<&Carried> = sharing
        .iter()
        .filter_map(|index| at[*index].as_ref())
        .collect();
    let several = |of: &dyn Fn(&Carried) -> Option<String>| {
        let known: BTreeSet<String> = shared.iter().filter_map(|it| of(it)).collect();
        known.len() > 1
    };
    let mut differs = BTreeSet::new();
    if !missing.is_empty() {
        differs.insert(Differs::Missing);
    }
    let releases = several(&|it| Some(it.version.clone()));
    if releases {
        differs.insert(Differs::Releases);
    }
    // Of what nobody has read, the size tells at least what cannot be the same.
    let files = several(&|it| it.content.clone()) || several(&|it| Some(it.bytes.to_string()));
    if !releases && files {
        differs.insert(Differs::Files);
    }
    if several(&|it| Some(it.is_off.to_string())) {
        differs.insert(Differs::Switched);
    }
    let some_only = !shared.is_empty() && shared.len() < sharing.len();
    if some_only && !in_all && kind != Some(Kind::Build) {
        differs.insert(Differs::Unsaid);
    }
    let without = sharing.iter().filter(|index| at[**index].is_none());
    let is_unread = shared.len() > 1 && shared.iter().any(|it| it.content.is_none());
    Row {
        kind,
        id: id.clone(),
        own,
        missing,
        without: without.copied().collect(),
        differs,
        is_unread,
        at,
    }
}

#[cfg(test)]
mod tests;
