//! What two lanterns say to one another: one JSON value in a line (docs/formats/lines.md).

use crate::changeover::Event;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use lantern_core::group::Gate;
use lantern_core::supply::Supply;
use serde::{Deserialize, Serialize};

/// The number of the format.
pub const LINES: u32 = 1;
/// A line is not longer, in bytes.
pub const MOST: usize = 256 << 20;

/// The first line, from whoever asks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Hello {
    /// The number of the format: 1.
    pub lines: u32,
    /// Who asks, for others to know: `by USER on MACHINE`.
    pub who: String,
}

/// The first line, from whoever answers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Greeting {
    /// The number of the format: 1.
    pub lines: u32,
    /// Its version.
    pub version: String,
    /// The BLAKE3 of the program, in hexadecimal.
    pub program: String,
}

/// What is asked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Asked {
    /// Something at a server.
    Errand {
        /// What.
        name: String,
        /// The server's folder.
        at: String,
        /// What it needs to know.
        of: serde_json::Value,
    },
    /// A file is to be kept in a server's store; it follows in parts, the last of which is empty.
    Keeps {
        /// The server's folder.
        at: String,
        /// What it is.
        supply: Supply,
    },
    /// A part of a file, in base64.
    Part(String),
    /// What is under way is to end, as Ctrl-C means it.
    Ends,
    /// The gate where it waits for others lets it through.
    Passes,
    /// It turns back there, for what went wrong at this other one.
    TurnsBack(String),
}

/// What is answered.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Answered {
    /// Words for whoever watches.
    Talk(String),
    /// A step of what is under way.
    Event(Event),
    /// It goes on: said where nothing else was for a while.
    AtWork,
    /// It has come to a gate where servers that are down together wait for one another.
    Arrives(Gate),
    /// Something went wrong with it, and it goes back.
    Fails,
    /// What came of it.
    Came(serde_json::Value),
    /// It failed.
    Failed(Failed),
}

/// Why something failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Failed {
    /// Why, in words.
    pub why: String,
    /// What to do, line by line.
    pub advice: Vec<String>,
    /// The exit status that it would be.
    pub status: u8,
}

/// Bytes in base64.
pub fn encoded(bytes: &[u8]) -> String {
    STANDARD.encode(bytes)
}

/// Bytes out of base64.
///
/// # Errors
/// When it is none, in words.
pub fn decoded(text: &str) -> Result<Vec<u8>, String> {
    let bytes = STANDARD.decode(text);
    bytes.map_err(|error| error.to_string())
}
