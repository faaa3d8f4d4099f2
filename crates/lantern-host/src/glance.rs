//! What can be said of a server at once, without reading its folder: `.lantern/last-survey.json`, the history, the backups.

use crate::backup;
use crate::config::{PROCESS, Server};
use crate::console::{Console, ServerState};
use crate::error::Result;
use crate::folder::own;
use crate::history;
use crate::ledger::{Ledger, Logged};
use crate::survey::Survey;
use crate::verify::GoodStart;
use lantern_core::inventory::Severity;
use lantern_core::operation::OperationKind;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What the last survey found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LastSurvey {
    /// When it was, in milliseconds since 1970.
    pub at_ms: i64,
    /// The server version, where it was known.
    pub server_version: Option<String>,
    /// How many components there were.
    pub components: usize,
    /// How many findings said that something is wrong.
    pub wrong: usize,
    /// How many said caution.
    pub caution: usize,
    /// How many were notes.
    pub notes: usize,
}

/// Remembers what a survey found. That it cannot be written hinders nothing.
pub fn remember(server: &Server, found: &Survey) {
    let inventory = &found.inventory;
    let of = |severity| {
        let findings = inventory.findings.iter();
        findings.filter(|it| it.severity == severity).count()
    };
    let last = LastSurvey {
        at_ms: jiff::Timestamp::now().as_millisecond(),
        server_version: inventory.server_version().map(ToString::to_string),
        components: inventory.components.len(),
        wrong: of(Severity::Wrong),
        caution: of(Severity::Caution),
        notes: of(Severity::Note),
    };
    let text = serde_json::to_vec(&last).expect("it has only plain values");
    let _ = server.folder.write_whole(&own("last-survey.json"), &text);
}

/// What can be said at once of a server that runs on an install.
#[derive(Debug)]
pub struct OneGlance {
    /// Which of several it is.
    pub which: Option<String>,
    /// Whether it is up.
    pub state: ServerState,
    /// Since when, in milliseconds since 1970, where lantern started it.
    pub since_ms: Option<i64>,
    /// Who is on; none where that cannot be told.
    pub players: Option<Vec<String>>,
    /// How long its last good start took, in milliseconds.
    pub start_ms: Option<u64>,
}

impl OneGlance {
    fn of(server: &Server) -> Result<OneGlance> {
        let console = Console::of(server);
        let state = console.state()?;
        let is_ours = matches!(state, ServerState::Ours(_) | ServerState::Reached { .. });
        let players = is_ours.then(|| console.players().ok().flatten()).flatten();
        let started = server.folder.look(&server.console_file(PROCESS))?;
        Ok(OneGlance {
            which: server.which().map(str::to_owned),
            since_ms: match state {
                ServerState::Ours(_) => started.map(|meta| meta.stamp.modified_ns / 1_000_000),
                _ => None,
            },
            start_ms: GoodStart::read(server).map(|good| good.ready_ms),
            state,
            players,
        })
    }

    /// Whether it is seen to be up; none where that cannot be told.
    pub fn is_up(&self) -> Option<bool> {
        match self.state {
            ServerState::Down => Some(false),
            ServerState::Unknown { .. } => None,
            _ => Some(true),
        }
    }
}

/// What can be said of a server at once.
#[derive(Debug)]
pub struct Glance {
    /// Each server that runs on the install.
    pub each: Vec<OneGlance>,
    /// The last survey.
    pub survey: Option<LastSurvey>,
    /// The last operation.
    pub last: Option<Logged>,
    /// How many backups there are, and how much their store takes, in bytes; none where it cannot be looked into, as when
    /// its disk is not mounted.
    pub backups: Option<(usize, u64)>,
    /// Where they are, where that is not on this machine: there, nobody was asked.
    pub backups_at: Option<String>,
    /// How many files are set aside.
    pub aside: usize,
    /// Their size, in bytes.
    pub aside_bytes: u64,
}

impl Glance {
    /// Whether all that runs there is up; none where that cannot be told of one.
    pub fn is_up(&self) -> Option<bool> {
        let mut each = self.each.iter();
        each.try_fold(true, |all, one| Some(all && one.is_up()?))
    }

    /// The server version: of what was done since the last survey, else of that.
    pub fn version(&self) -> Option<String> {
        let surveyed = self.survey.as_ref();
        let since = self.last.as_ref().filter(|last| {
            let later = surveyed.is_none_or(|survey| last.ended_ms > survey.at_ms);
            later && last.failed.is_none() && last.kind != OperationKind::Restore
        });
        let moved = since
            .map(|last| last.to.clone())
            .filter(|to| !to.is_empty());
        moved.or_else(|| surveyed?.server_version.clone())
    }

    /// How many players are on; none where that cannot be told.
    pub fn players(&self) -> Option<usize> {
        let mut each = self.each.iter();
        each.try_fold(0, |all, one| match one.state {
            ServerState::Down => Some(all),
            _ => Some(all + one.players.as_ref()?.len()),
        })
    }
}

/// Looks at a server without reading its folder.
///
/// # Errors
/// When the ledger cannot be read, or what is set aside cannot be listed.
pub fn glance(server: &Server) -> Result<Glance> {
    let ledger = Ledger::open(&server.folder)?;
    let past = history::history(server, &ledger)?;
    let backups_at = server.config.backup.elsewhere();
    let backups = match backups_at {
        Some(_) => None,
        None => {
            let listed = backup::list(server).ok();
            let many = listed.map(|(backups, _)| backups.len());
            many.zip(backup::stored_bytes(server).ok())
        }
    };
    let survey = server.folder.read(&own("last-survey.json")).ok();
    let each = server
        .each()
        .iter()
        .map(OneGlance::of)
        .collect::<Result<_>>()?;
    Ok(Glance {
        each,
        survey: survey.and_then(|text| serde_json::from_slice(&text).ok()),
        aside: past.iter().map(|past| past.files).sum(),
        aside_bytes: past.iter().map(|past| past.bytes).sum(),
        last: past.into_iter().last().map(|past| past.operation),
        backups,
        backups_at: backups_at.map(ToString::to_string),
    })
}
