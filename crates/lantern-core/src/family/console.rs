//! What a server's console says and takes.

use super::short::Short;
use super::{Listing, Naming, Pattern};
use serde::de::DeserializeSeed;
use serde::{Deserialize, Deserializer};

/// What the console says and takes.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConsoleRule {
    /// A line that says that the server is ready; none where nothing says so but its port.
    pub ready: Option<Pattern>,
    /// Lines that say that something is wrong.
    #[serde(default)]
    pub errors: Vec<ErrorRule>,
    /// How long a start may take, in seconds.
    #[serde(default = "default_ready_s")]
    pub ready_timeout_s: u64,
    /// How long the server has to stay up after it is ready, in milliseconds.
    #[serde(default = "default_hold_ms")]
    pub hold_ms: u64,
    /// How the server is asked to stop.
    pub stop: Stop,
    /// How long a stop may take, in seconds.
    #[serde(default = "default_stop_s")]
    pub stop_timeout_s: u64,
    /// The command that tells players something: `{text}`.
    pub say: Option<String>,
    /// Lines printed at the start that name the add-ons, in the order in which they are started.
    #[serde(default, deserialize_with = "Naming::short")]
    pub loaded: Option<Naming>,
    /// A line by which the framework says that it is active: groups `id` and `version`.
    pub framework: Option<Pattern>,
    /// What the server says of its own version.
    pub version: Option<VersionRule>,
    /// A command that lists the add-ons that run.
    pub list: Option<Listing>,
    /// A command that lists the players who are on.
    pub players: Option<Listing>,
    /// What the server says of its own settings.
    #[serde(default, rename = "setting")]
    pub settings: Vec<SettingRule>,
    /// Where the port stands by which it is known to be up.
    pub port: Option<PortRule>,
    /// Where more ports stand that the server opens.
    #[serde(default)]
    pub more_ports: Vec<PortRule>,
}

fn default_ready_s() -> u64 {
    300
}

fn default_hold_ms() -> u64 {
    2000
}

fn default_stop_s() -> u64 {
    60
}

/// Lines that say that something is wrong: a pattern, or a pattern with what it means.
#[derive(Debug, Clone)]
pub enum ErrorRule {
    /// A pattern alone.
    Line(Pattern),
    /// A pattern, and what such a line means.
    Known(KnownError),
}

/// A pattern of error lines that people know how to read.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KnownError {
    /// Finds the lines.
    pub line: Pattern,
    /// What such a line means, and what to do.
    pub means: String,
}

impl From<KnownError> for ErrorRule {
    fn from(known: KnownError) -> ErrorRule {
        ErrorRule::Known(known)
    }
}

impl<'de> Deserialize<'de> for ErrorRule {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<ErrorRule, D::Error> {
        let pattern = |text: &str| Pattern::new(text).map(ErrorRule::Line);
        let what = "a pattern, or { line = …, means = … }";
        Short::<ErrorRule, KnownError>::new(what, pattern).deserialize(deserializer)
    }
}

impl ErrorRule {
    /// Finds the lines.
    pub fn line(&self) -> &Pattern {
        match self {
            ErrorRule::Line(line) => line,
            ErrorRule::Known(known) => &known.line,
        }
    }

    /// What such a line means, where that is known.
    pub fn means(&self) -> Option<&str> {
        match self {
            ErrorRule::Line(_) => None,
            ErrorRule::Known(known) => Some(&known.means),
        }
    }
}

/// How the server is asked to stop; exactly one of the two is set.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub enum Stop {
    /// By a console command.
    Command(String),
    /// By a signal.
    Signal(StopSignal),
}

/// A signal that servers take as a request to stop.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum StopSignal {
    /// As from the keyboard.
    Int,
    /// As from a service manager.
    Term,
}

/// What the server says of its own version: where it is another one than is installed, an old program was started.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct VersionRule {
    /// Finds it in what the server says as the group `version`, what it speaks with clients as the group `protocol`, or both.
    pub says: Pattern,
    /// The command that makes the server say it; otherwise it is said at the start.
    pub ask: Option<String>,
    /// Instead of a command, what is sent to the server's own port, a byte for each character: what comes back is the answer.
    pub over_port: Option<String>,
}

impl VersionRule {
    /// What is wrong with it, beside a port that may be stated.
    pub fn fault(&self, port: Option<&PortRule>) -> Option<&'static str> {
        let sends = self.over_port.as_ref()?;
        let why = match (&self.ask, port) {
            (Some(_), _) => {
                "console.version: `ask` and `over_port` are two ways to ask, and one is needed"
            }
            (None, None) => "console.version.over_port: no `port` says where it is asked",
            _ if sends.is_empty() => "console.version.over_port is empty: nothing would be asked",
            _ if sends.chars().any(|c| u8::try_from(c).is_err()) => {
                "console.version.over_port has a character above \\u00ff, and each stands for a byte"
            }
            _ => return None,
        };
        Some(why)
    }
}

/// A setting that the server says: where it differs, the start command was not read to its end.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SettingRule {
    /// What people call it: name, seats, map, seed.
    pub name: String,
    /// The settings file or start script where it stands.
    pub file: String,
    /// Finds it there as the group `value`; where no line has it, nothing is expected.
    pub line: Option<Pattern>,
    /// Or its key, in the notation that the file's name tells.
    pub key: Option<String>,
    /// Finds it in what the server says as the group `value`.
    pub says: Pattern,
    /// The command that makes the server say it; otherwise it is said at the start.
    pub ask: Option<String>,
}

/// Where a port stands.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PortRule {
    /// The settings file or start script.
    pub file: String,
    /// Finds the number as the group `port`.
    pub line: Option<Pattern>,
    /// Or its key, in the notation that the file's name tells.
    pub key: Option<String>,
    /// The transport.
    pub transport: Transport,
}

/// The transport of a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Transport {
    /// TCP.
    Tcp,
    /// UDP.
    Udp,
}
