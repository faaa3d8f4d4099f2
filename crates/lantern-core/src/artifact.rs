//! A file that can be had, known by what it holds.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A file that can be had: a release's archive, a recipe's product, a layer's copy.
///
/// What it is, its hash says; where it lies may change.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Artifact {
    /// Where it lies, a whole path; empty as long as it has to be fetched first.
    pub file: String,
    /// BLAKE3 of the whole file, 64 hexadecimal digits; of a folder, that over its files' names and hashes. Empty where
    /// nobody states it of a file that has to be fetched.
    pub blake3: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// Addresses where it can be had again, in the order in which they are tried.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub urls: Vec<String>,
}

impl Artifact {
    /// Whether it lies on this machine, as far as is known.
    pub fn is_at_hand(&self) -> bool {
        !self.file.is_empty()
    }
}

/// One file in an archive; the list of all of them is a fact of the archive's hash.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ArchivedFile {
    /// Its name in the archive, checked.
    pub name: String,
    /// Its size in bytes, unpacked.
    pub bytes: u64,
    /// BLAKE3 of its content in hexadecimal; of a link its [`crate::link::mark`].
    pub blake3: String,
}
