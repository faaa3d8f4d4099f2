//! `.lantern/culprit/starts.json`: what starts of parts have shown, so that none is made twice.

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
    starts: BTreeMap<String, Vec<Start>>,
}

/// The starts that were made, each under what was started and how it was looked at.
#[derive(Debug, Default)]
pub struct Starts(BTreeMap<String, Vec<Start>>);

fn file() -> RelPath {
    own("culprit/starts.json")
}

impl Starts {
    /// Those that are remembered; none where another lantern wrote them.
    pub fn read(folder: &Folder) -> Result<Starts> {
        let bytes = folder.read_if_there(&file())?.unwrap_or_default();
        let written: Option<Written> = serde_json::from_slice(&bytes).ok();
        let written = written.filter(|written| written.format == FORMAT);
        Ok(Starts(written.map(|it| it.starts).unwrap_or_default()))
    }

    /// Remembers one more.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn add(&mut self, folder: &Folder, key: &str, start: Start) -> Result<()> {
        self.0.entry(key.to_owned()).or_default().push(start);
        let written = Written {
            format: FORMAT,
            starts: self.0.clone(),
        };
        let text = serde_json::to_vec_pretty(&written).expect("a start has only plain values");
        folder.write_whole(&file(), &text)
    }

    /// Those of one key, in turn.
    pub fn of(&self, key: &str) -> &[Start] {
        self.0.get(key).map_or(&[], Vec::as_slice)
    }
}
