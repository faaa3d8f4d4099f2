//! `.lantern/culprit/starts.json`: what starts of parts of a plan have shown, so that none is made twice. It lies there beside the parts, and
//! goes with them when it is another plan's turn.

use crate::error::Result;
use crate::folder::{Folder, own};
use lantern_core::culprit::Seen;
use lantern_core::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

const FORMAT: u32 = 1;

/// What one start has shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Start {
    /// Whether it was good.
    pub seen: Shown,
    /// Why it was not.
    pub why: Option<String>,
    /// The last lines that it printed then.
    pub last: Vec<String>,
    /// How long copy, start and look took, in milliseconds.
    pub ms: u64,
}

/// As [`Seen`], as it is written down.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Shown {
    /// It works.
    Good,
    /// It fails, in the way that is looked into.
    Bad,
    /// Neither.
    Unclear,
}

impl From<Shown> for Seen {
    fn from(shown: Shown) -> Seen {
        match shown {
            Shown::Good => Seen::Good,
            Shown::Bad => Seen::Bad,
            Shown::Unclear => Seen::Unclear,
        }
    }
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    format: u32,
    /// The plan's name.
    plan: String,
    starts: BTreeMap<String, Vec<Start>>,
}

/// The starts that were made, each under what was started and how it was looked at.
#[derive(Debug)]
pub struct Starts(Written);

fn file() -> RelPath {
    own("culprit/starts.json")
}

impl Starts {
    /// Those of a plan, by its name. What lies there of another one, or was written by another lantern, goes.
    ///
    /// # Errors
    /// When it cannot be read, or removed.
    pub fn of_plan(folder: &Folder, plan: &str) -> Result<Starts> {
        let bytes = folder.read_if_there(&file())?.unwrap_or_default();
        let written: Option<Written> = serde_json::from_slice(&bytes).ok();
        let is_its = |written: &Written| written.format == FORMAT && written.plan == plan;
        if let Some(written) = written.filter(is_its) {
            return Ok(Starts(written));
        }
        let room = own("culprit");
        folder.remove_all(&room)?;
        folder.make_folders(&room)?;
        Ok(Starts(Written {
            format: FORMAT,
            plan: plan.to_owned(),
            starts: BTreeMap::new(),
        }))
    }

    /// Remembers one more.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn add(&mut self, folder: &Folder, key: &str, start: Start) -> Result<()> {
        let starts = self.0.starts.entry(key.to_owned()).or_default();
        starts.push(start);
        let text = serde_json::to_vec_pretty(&self.0).expect("a start has only plain values");
        folder.write_whole(&file(), &text)
    }

    /// Those of one key, in turn.
    pub fn of(&self, key: &str) -> &[Start] {
        self.0.starts.get(key).map_or(&[], Vec::as_slice)
    }
}
