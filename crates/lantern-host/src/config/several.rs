//! Several servers that run on one install: what of it is each one's own.

use super::{Config, Reach, Server};
use crate::config::fault::ConfigFault;
use crate::error::{Error, Result};
use crate::folder::{own, safe_name};
use lantern_core::family::{Family, Glob, Ground, Instead};
use lantern_core::path::RelPath;
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// The record of a server's process, among what belongs to its console.
pub const PROCESS: &str = "process.json";

/// One of several servers that run on an install.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OneServer {
    /// Its name.
    pub name: String,
    /// What it has in place of paths that the family names: its start script, settings, load order, world.
    #[serde(default)]
    pub instead: Instead,
    /// Paths of its own to keep, besides the family's.
    #[serde(default)]
    pub keep: Vec<Glob>,
    /// How it is run and its console reached, where lantern does not keep it itself.
    #[serde(default)]
    pub console: Reach,
    /// What it has to say of its settings, instead of what its own files say.
    #[serde(default)]
    pub expect: BTreeMap<String, String>,
}

/// What of an install is one server's own.
#[derive(Debug)]
pub(super) struct Share {
    /// The family, with this server's paths.
    family: Family,
    ground: Ground,
}

/// Which of several servers of an install this is.
#[derive(Debug, Clone)]
pub(super) struct Which {
    name: String,
    share: Arc<Share>,
    /// The names of the others.
    others: Vec<String>,
}

/// The family of the install as a whole, and what is each server's own; of a server that has its install to itself, the
/// family as it is.
///
/// # Errors
/// With what cannot be meant so, in words.
pub(super) fn shared(
    config: &Config,
    family: Family,
) -> std::result::Result<(Family, Vec<Arc<Share>>), String> {
    let servers = &config.servers;
    if servers.is_empty() {
        return Ok((family, Vec::new()));
    }
    check(config, &family)?;
    let insteads: Vec<&Instead> = servers.iter().map(|one| &one.instead).collect();
    let mut whole = family.as_all(&insteads)?;
    let kept = servers.iter().flat_map(|one| one.keep.iter().cloned());
    whole.layout.keep.extend(kept);
    let mut shares = Vec::new();
    let mut commands = BTreeMap::new();
    for one in servers {
        let others = servers.iter().filter(|other| other.name != one.name);
        let others: Vec<(&Instead, &[Glob])> = others
            .map(|other| (&other.instead, &other.keep[..]))
            .collect();
        let own_family = Family {
            layout: whole.layout.clone(),
            readers: whole.readers.clone(),
            ..family.as_one(&one.instead)?
        };
        let command = own_family.launch.command.clone();
        if let Some(other) = commands.insert(command, &one.name) {
            let name = &one.name;
            return Err(format!(
                "server \"{name}\": it is started by the same command as \"{other}\"; say in `instead` which script each has"
            ));
        }
        shares.push(Arc::new(Share {
            family: own_family,
            ground: Ground::of((&one.instead, &one.keep), &others),
        }));
    }
    Ok((whole, shares))
}

fn check(config: &Config, family: &Family) -> std::result::Result<(), String> {
    let servers = &config.servers;
    let mut names = BTreeSet::new();
    let keys = servers.iter().flat_map(|one| one.instead.keys());
    let wild: BTreeSet<&String> = keys
        .filter(|key| key.contains(['*', '?', '[', '{']))
        .collect();
    if config.console.line.is_some() || config.console.run.is_some() || config.console.log.is_some()
    {
        return Err("console: each of several servers has a console of its own; say it in its [[server]], as console = …".into());
    }
    for one in servers {
        let name = &one.name;
        let fault = |why: String| Err(format!("server \"{name}\": {why}"));
        if name.is_empty()
            || name.starts_with('.')
            || *name != safe_name(name)
            || !names.insert(name)
        {
            return fault("each server has a name of its own, of letters, digits, - and _".into());
        }
        if let Some(key) = family.names_none(&one.instead) {
            return fault(format!(
                "instead.\"{key}\": the family names no such path; lantern docs families says where its own stand"
            ));
        }
        for other in one.instead.values() {
            RelPath::parse(other)
                .map_err(|error| format!("server \"{name}\": instead: {error}"))?;
        }
        if let Some(key) = wild.iter().find(|key| !one.instead.contains_key(**key)) {
            return fault(format!(
                "instead.\"{key}\" is missing: another server has it, and which of these is meant here has to be said"
            ));
        }
        if let Some(why) = one.console.fault() {
            return fault(why.into());
        }
    }
    Ok(())
}

impl Server {
    /// Whether several servers run on this install, and this is all of them.
    pub fn is_several(&self) -> bool {
        !self.shares.is_empty()
    }

    /// Each server that runs on this install; the server itself, where it has the install to itself.
    pub fn each(&self) -> Vec<Server> {
        if self.shares.is_empty() {
            return vec![self.clone()];
        }
        let names = self.config.servers.iter().map(|one| &one.name);
        let each = self.config.servers.iter().zip(&self.shares);
        let each = each.map(|(one, share)| {
            let mut server = self.clone();
            server.family = share.family.clone();
            server.shares.clear();
            server.which = Some(Which {
                name: one.name.clone(),
                share: share.clone(),
                others: names
                    .clone()
                    .filter(|name| *name != &one.name)
                    .cloned()
                    .collect(),
            });
            let config = &mut server.config;
            config.console = one.console.clone();
            config.expect.extend(one.expect.clone());
            config.servers.clear();
            server
        });
        each.collect()
    }

    /// The one of several servers that has a name; all, where none is named.
    ///
    /// # Errors
    /// When there is none of that name.
    pub fn chosen(&self, name: Option<&str>) -> Result<Vec<Server>> {
        let Some(name) = name else {
            return Ok(self.each());
        };
        let one = self
            .each()
            .into_iter()
            .find(|one| one.which() == Some(name));
        let one = one.ok_or_else(|| {
            let known = self.config.servers.iter();
            Error::Config(ConfigFault::NoSuchServer {
                name: name.to_owned(),
                known: known.map(|one| one.name.clone()).collect(),
            })
        });
        Ok(vec![one?])
    }

    /// Which of several servers of its install this is.
    pub fn which(&self) -> Option<&str> {
        self.which.as_ref().map(|which| which.name.as_str())
    }

    /// Its name for people: of several, with which one it is.
    pub fn title(&self) -> String {
        match self.which() {
            Some(which) => format!("{} ({which})", self.config.name),
            None => self.config.name.clone(),
        }
    }

    /// Which paths of the install are its own.
    pub fn ground(&self) -> Ground {
        let which = self.which.as_ref();
        which.map_or_else(Ground::default, |which| which.share.ground.clone())
    }

    /// Makes the folder for what belongs to its console.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn make_console_room(&self) -> Result<()> {
        self.folder.make_own("console")?;
        self.folder.make_folders(&self.console_room())
    }

    /// The records of the processes of the other servers of the install.
    pub fn others_processes(&self) -> Vec<RelPath> {
        let others = self.which.iter().flat_map(|which| &which.others);
        let files = others.map(|other| own(&format!("console/servers/{other}/{PROCESS}")));
        files.collect()
    }

    /// Where lantern keeps what belongs to its console.
    pub fn console_room(&self) -> RelPath {
        match self.which() {
            // The name is a plain one: that was seen to when the settings were read.
            Some(which) => own(&format!("console/servers/{which}")),
            None => own("console"),
        }
    }

    /// A file of lantern's that belongs to its console.
    pub fn console_file(&self, name: &str) -> RelPath {
        match self.which() {
            Some(which) => own(&format!("console/servers/{which}/{name}")),
            None => own(&format!("console/{name}")),
        }
    }

    /// Of several servers, those that one of these paths concerns: whose own it is, and all where it is common, or none
    /// is named.
    pub fn concerned<'p>(&self, paths: impl Iterator<Item = &'p RelPath>) -> Vec<Server> {
        let paths: Vec<&RelPath> = paths.collect();
        let mut each = self.each();
        each.retain(|one| {
            let ground = one.ground();
            let concerns = |path: &&RelPath| !ground.is_elsewhere(path.as_str());
            paths.is_empty() || paths.iter().any(concerns)
        });
        each
    }
}
