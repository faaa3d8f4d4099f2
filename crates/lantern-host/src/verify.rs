//! The running server, looked at again.

use crate::config::Server;
use crate::console::{Console, Loaded, Started, State};
use crate::error::{At, Result};
use crate::survey::Survey;
use lantern_core::component::{Id, Kind, Side};
use lantern_core::inventory::Component;
use std::fs;

/// What a look at the running server found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verified {
    /// Whether it is up, and how that is known.
    pub state: State,
    /// Each component that has to run, with its version where one is stated, and what the server says
    /// of it: nothing, or in which version it runs. None where the server cannot be asked.
    pub components: Option<Vec<Answer>>,
    /// Error lines since its start.
    pub errors: Vec<String>,
    /// Whether its ready line came.
    pub ready: bool,
}

/// What the server says of one component.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The component.
    pub id: Id,
    /// The version that is installed; none where it states none.
    pub installed: Option<String>,
    /// Whether it runs.
    pub runs: bool,
    /// The version that the server says; none where it says none.
    pub version: Option<String>,
}

impl Answer {
    /// Whether the server says what is installed.
    pub fn is_right(&self) -> bool {
        let other =
            self.installed.is_some() && self.version.is_some() && self.installed != self.version;
        self.runs && !other
    }
}

impl Verified {
    /// Whether all is as it should be.
    pub fn is_right(&self) -> bool {
        let loaded = self.components.iter().flatten().all(Answer::is_right);
        self.state != State::Down && self.ready && loaded && self.errors.is_empty()
    }
}

/// Looks at the running server; nothing is changed.
///
/// # Errors
/// When its console does not answer, or what it printed cannot be read.
pub fn verify(server: &Server, found: &Survey) -> Result<Verified> {
    let console = Console::of(server);
    let state = console.state()?;
    let rule = &server.family.console;
    let State::Ours(process) = &state else {
        return Ok(Verified {
            state,
            components: None,
            errors: Vec::new(),
            ready: false,
        });
    };
    let log = server.folder.own("console/output.log");
    let printed = fs::read(&log).at("reading", &log)?;
    let printed = String::from_utf8_lossy(&printed);
    let started = Started {
        pid: process.pid,
        lines: printed.lines().map(str::to_owned).collect(),
    };
    let is_error = |line: &&String| rule.errors.iter().any(|e| e.regex().is_match(line));
    let errors = started.lines.iter().filter(is_error).cloned().collect();
    let ready = started
        .lines
        .iter()
        .any(|line| rule.ready.regex().is_match(line));
    let loaded = console.loaded(&started)?;
    Ok(Verified {
        components: loaded.map(|loaded| answers(server, found, &loaded)),
        state,
        errors,
        ready,
    })
}

fn answers(server: &Server, found: &Survey, loaded: &Loaded) -> Vec<Answer> {
    let has_to_run = |component: &&Component| match component.facts.kind {
        Kind::Addon => component.on != Some(false) && component.facts.side != Some(Side::Client),
        Kind::Framework => server.family.console.framework.is_some(),
        Kind::Build | Kind::Pack => false,
    };
    let components = found.inventory.components.iter().filter(has_to_run);
    let answers = components.map(|component| {
        let facts = &component.facts;
        let said = loaded.get(&facts.id);
        Answer {
            id: facts.id.clone(),
            installed: (!facts.version.is_content()).then(|| facts.version.to_string()),
            runs: said.is_some(),
            version: said.cloned().flatten(),
        }
    });
    answers.collect()
}
