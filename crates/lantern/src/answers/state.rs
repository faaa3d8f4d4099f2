//! How servers are, now.

use lantern_core::health::StartReport;
use lantern_host::armed::Armed;
use lantern_host::config::Server;
use lantern_host::console::ServerState;
use lantern_host::glance::{Glance, LastSurvey, OneGlance};
use lantern_host::keep_up::LastKeepUp;
use lantern_host::night;
use lantern_host::verify::Verified;
use schemars::JsonSchema;
use serde::Serialize;

/// `console ask`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ConsoleAnswer {
    /// The lines that it answered.
    pub answer: Vec<String>,
}

/// The other commands of `console`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ConsoleState {
    /// Another process that writes its files, and which.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub second: Option<String>,
    /// Whether it is up; null where that cannot be told.
    pub up: Option<bool>,
    /// The same in a sentence.
    pub text: String,
}

/// `status`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Status<'a> {
    server: &'a str,
    family: &'a str,
    server_version: Option<String>,
    #[serde(flatten)]
    running: StatusOfOne<'a>,
    /// Each of several servers that run on the install; the fields above are then of the first.
    #[serde(skip_serializing_if = "Option::is_none")]
    servers: Option<Vec<StatusOfOne<'a>>>,
    /// The last plan that was asked for, and what became of it.
    plan: Option<&'a Armed>,
    /// The changeover that waits for its hour.
    waits: Option<night::NightWait>,
    /// What came of the last time that it was kept up by itself.
    kept_up: Option<LastKeepUp>,
    /// The last operation's number.
    last: Option<i64>,
    survey: Option<&'a LastSurvey>,
    /// How many backups; null where their store cannot be looked into.
    backups: Option<usize>,
    backup_bytes: Option<u64>,
    /// Where they are, where that is not on this machine: nobody was asked there.
    backups_at: Option<String>,
    aside_files: usize,
    aside_bytes: u64,
}

/// Whether a server is up.
#[derive(Debug, Serialize, JsonSchema)]
struct StatusOfOne<'a> {
    /// Which of several it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    which: Option<&'a str>,
    /// Whether it is up; null where nobody can tell.
    up: Option<bool>,
    /// How that is known.
    who: Option<String>,
    /// Since when, where lantern started it.
    since_ms: Option<i64>,
    /// Who is on; null where that cannot be told.
    players: &'a Option<Vec<String>>,
}

impl<'a> From<&'a OneGlance> for StatusOfOne<'a> {
    fn from(one: &'a OneGlance) -> StatusOfOne<'a> {
        StatusOfOne {
            which: one.which.as_deref(),
            up: one.is_up(),
            who: one.state.who(),
            since_ms: one.since_ms,
            players: &one.players,
        }
    }
}

/// What a command answers of each of several servers of one install.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(rename = "Each{T}")]
pub struct EachServer<T> {
    /// The servers, as `lantern.toml` names them.
    pub servers: Vec<OfServer<T>>,
}

/// What a command answers of one of several servers.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(rename = "One{T}")]
pub struct OfServer<T> {
    /// Which one.
    pub which: String,
    /// The answer.
    #[serde(flatten)]
    pub answer: T,
}

impl<'a> Status<'a> {
    /// What a glance at a server has seen.
    pub fn new(
        server: &'a Server,
        seen: &'a Glance,
        server_version: Option<String>,
        plan: Option<&'a Armed>,
        waits: Option<night::NightWait>,
        kept_up: Option<LastKeepUp>,
    ) -> Status<'a> {
        Status {
            server: &server.config.name,
            family: &server.family.name,
            server_version,
            running: StatusOfOne::from(&seen.each[0]),
            servers: match &seen.each[..] {
                [_] => None,
                several => Some(several.iter().map(StatusOfOne::from).collect()),
            },
            plan,
            waits,
            kept_up,
            last: seen.last.as_ref().map(|last| last.number),
            survey: seen.survey.as_ref(),
            backups: seen.backups.map(|(backups, _)| backups),
            backup_bytes: seen.backups.map(|(_, bytes)| bytes),
            backups_at: seen.backups_at.clone(),
            aside_files: seen.aside,
            aside_bytes: seen.aside_bytes,
        }
    }
}

/// `verify`
#[derive(Debug, Serialize, JsonSchema)]
pub struct VerifySeen<'a> {
    right: bool,
    up: Option<bool>,
    who: Option<String>,
    ready: Option<bool>,
    second: &'a Option<String>,
    problems: Vec<String>,
    shown: &'a Option<StartReport>,
}

impl<'a> From<&'a Verified> for VerifySeen<'a> {
    fn from(seen: &'a Verified) -> VerifySeen<'a> {
        let who = seen.state.who();
        let problems = seen.verdict.as_ref().map(StartReport::problems);
        VerifySeen {
            right: seen.is_right(),
            second: &seen.second,
            up: match seen.state {
                ServerState::Unknown { .. } => None,
                _ => Some(who.is_some()),
            },
            who,
            ready: seen.ready,
            problems: problems.unwrap_or_default(),
            shown: &seen.verdict,
        }
    }
}
