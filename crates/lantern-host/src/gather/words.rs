//! What `lantern.toml` says of fetching: `[gather]`.

use serde::Deserialize;
use std::path::PathBuf;

/// How files are fetched.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct GatherWords {
    /// The store of what was fetched, instead of the one in the user's cache folder; relative to the server folder.
    pub store: Option<PathBuf>,
    /// So many files are fetched from one host at once.
    pub connections: usize,
    /// A file of certificates (PEM) to believe besides those that the machine believes.
    pub ca: Option<PathBuf>,
    /// What hosts want to be shown.
    #[serde(rename = "key")]
    pub keys: Vec<KeyWords>,
}

impl Default for GatherWords {
    fn default() -> GatherWords {
        GatherWords {
            store: None,
            connections: 4,
            ca: None,
            keys: Vec::new(),
        }
    }
}

/// What a host wants to be shown: a header line with a secret, which stands in the environment or a file of its own.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeyWords {
    /// The host, with its port where that is an unusual one.
    pub host: String,
    /// The header line.
    pub header: String,
    /// What stands before the secret.
    #[serde(default)]
    pub before: String,
    /// The environment variable that holds it.
    pub env: Option<String>,
    /// The file that holds it; relative to the server folder.
    pub file: Option<PathBuf>,
}
