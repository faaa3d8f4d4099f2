//! What `lantern.toml` says of fetching: `[gather]`.

use serde::{Deserialize, Deserializer};
use std::path::PathBuf;
use std::str::FromStr;

/// How files are fetched.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct GatherWords {
    /// The store of what was fetched, instead of the one in the user's cache folder; relative to the server folder.
    pub store: Option<PathBuf>,
    /// No more than this is kept there: what was used longest ago goes.
    pub limit: Option<Size>,
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
            limit: None,
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

/// A size as people write it: a number with `KB`, `MB`, `GB` or `TB`, each a thousand of the one before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Size(pub u64);

impl FromStr for Size {
    type Err = String;

    fn from_str(text: &str) -> Result<Size, String> {
        let text = text.trim();
        let digits = text.bytes().take_while(u8::is_ascii_digit).count();
        let number: u64 = text[..digits]
            .parse()
            .map_err(|_| "it begins with no number".to_owned())?;
        let unit = match text[digits..].trim().to_ascii_uppercase().as_str() {
            "" | "B" => 1,
            "KB" => 1_000,
            "MB" => 1_000_000,
            "GB" => 1_000_000_000,
            "TB" => 1_000_000_000_000,
            other => return Err(format!("{other} is none of KB, MB, GB, TB")),
        };
        let bytes = number.checked_mul(unit);
        bytes.map(Size).ok_or_else(|| "it is too much".to_owned())
    }
}

impl<'de> Deserialize<'de> for Size {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Size, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}
