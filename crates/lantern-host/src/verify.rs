//! The running server, looked at: what it shows, held against what was to be expected of it.

use crate::config::Server;
use crate::console::fault::ConsoleFault;
use crate::console::{Console, ServerState, Started};
use crate::error::{Error, Result};
use crate::planning::protocol_of;
use crate::survey::{flow, order_text, scripts};
use lantern_core::component::{Id, Kind};
use lantern_core::health::{self, Installed, Setting, Shown, StartReport, Unshown, Wanted, Watch};
use lantern_core::inventory::{Component, Inventory};
use lantern_core::order::Arrangement;
use lantern_core::path::RelPath;
use lantern_core::plan::Expected;
use lantern_core::text::Text;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// What a look at the running server found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verified {
    /// Whether it is up, and how that is known.
    pub state: ServerState,
    /// Whether it said that it is ready; none where nothing that can be read would say so.
    pub ready: Option<bool>,
    /// Another process that writes its files, and which.
    pub second: Option<String>,
    /// What it shows; none where it is down or cannot be reached.
    pub verdict: Option<StartReport>,
}

impl Verified {
    /// Whether all is as it should be.
    pub fn is_right(&self) -> bool {
        let shown = self.verdict.as_ref();
        self.ready != Some(false)
            && self.second.is_none()
            && shown.is_some_and(|verdict| verdict.problems().is_empty())
    }

    /// Whether all is as it should be; none where it is up, or may be, and nobody can look at it.
    pub fn seen_right(&self) -> Option<bool> {
        match (&self.state, &self.verdict) {
            (ServerState::Foreign { .. } | ServerState::Unknown { .. }, None) => None,
            _ => Some(self.is_right()),
        }
    }

    /// What is wrong, or why nobody can tell, in words; nothing where all is as it should be.
    pub fn problems(&self) -> Vec<String> {
        let mut problems = Vec::new();
        match &self.state {
            ServerState::Down => problems.push("it is down".into()),
            ServerState::Unknown { why } => {
                problems.push(format!("whether it is up cannot be told: {why}"));
            }
            ServerState::Foreign { who } if self.verdict.is_none() => problems.push(format!(
                "it seems to be up, and nobody can look at it: {who}"
            )),
            _ if self.verdict.is_none() => problems.push("nothing of it could be looked at".into()),
            _ => {}
        }
        if self.ready == Some(false) {
            problems.push("its ready line has not come".into());
        }
        if let Some(second) = &self.second {
            problems.push(format!("something else is using its files: {second}"));
        }
        problems.extend(self.verdict.iter().flat_map(StartReport::problems));
        problems
    }
}

/// What is remembered of the last start that was good.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GoodStart {
    /// How long it took until the server was ready, in milliseconds.
    pub ready_ms: u64,
    /// Its error lines, without what differs from start to start.
    pub errors: BTreeSet<String>,
    /// What it did not show.
    #[serde(default)]
    pub unshown: Unshown,
}

impl GoodStart {
    /// Reads it; none where none was remembered.
    pub fn read(server: &Server) -> Option<GoodStart> {
        let text = server
            .folder
            .read(&server.console_file("good-start.json"))
            .ok()?;
        serde_json::from_slice(&text).ok()
    }

    /// Takes error lines that the server has printed for what it always prints.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn accept(server: &Server, errors: impl Iterator<Item = String>) -> Result<()> {
        let mut good = GoodStart::read(server).unwrap_or_default();
        good.errors.extend(errors);
        good.write(server)
    }

    fn write(&self, server: &Server) -> Result<()> {
        let text = serde_json::to_vec(self).expect("a start has only plain values");
        server.make_console_room()?;
        let path = server.console_file("good-start.json");
        server.folder.write_whole(&path, &text)
    }

    /// Remembers a start that was seen as good.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn remember(server: &Server, started: &Started, unshown: Unshown) -> Result<()> {
        let good = GoodStart {
            ready_ms: started.ready_ms,
            errors: errors_in(server, &started.lines),
            unshown,
        };
        good.write(server)
    }
}

/// Lets a copy be looked at with the eyes that its original was last seen with: what it always prints, and what it does not
/// show. The original is asked nothing.
///
/// # Errors
/// When the copy cannot be written.
pub fn hand_on(live: &Server, copy: &Server) -> Result<()> {
    let good = GoodStart {
        errors: known_errors(live),
        ..GoodStart::read(live).unwrap_or_default()
    };
    good.write(copy)
}

fn errors_in(server: &Server, lines: &[String]) -> BTreeSet<String> {
    let errors = health::errors(&server.family.console, lines, &BTreeSet::new());
    errors
        .iter()
        .map(|error| health::normal(&error.line))
        .collect()
}

/// The error lines that are nothing new: of the last start that was good, or where none is remembered,
/// of what the server has printed so far.
pub fn known_errors(server: &Server) -> BTreeSet<String> {
    match GoodStart::read(server) {
        Some(good) => good.errors,
        None => errors_in(server, &Console::of(server).lines().unwrap_or_default()),
    }
}

/// What is to be expected of a start of a version of the build with these components, from the settings as they are now.
///
/// # Errors
/// When the folder cannot be read.
pub fn wanted(
    server: &Server,
    build: Option<Installed>,
    components: Vec<Expected>,
    known_errors: BTreeSet<String>,
    unshown: Unshown,
) -> Result<Wanted> {
    Ok(Wanted {
        build,
        components,
        order: wanted_order(server)?,
        settings: wanted_settings(server)?,
        known_errors,
        unshown,
    })
}

/// What a server that runs does not show of what has to run, seen before it is stopped; of one that is down, what its last
/// good start did not show.
pub fn unshown_now(server: &Server, found: &Inventory) -> Unshown {
    let look_now = || {
        let console = Console::of(server);
        let state = console.state().ok()?;
        let is_ours = matches!(state, ServerState::Ours(_) | ServerState::Reached { .. });
        // Of one on another machine what it printed is read, though nobody reaches its console.
        let is_far = server.folder.is_far() && state != ServerState::Down;
        if !(is_ours || is_far && console.is_heard_whole()) {
            return None;
        }
        let watch = Watch::of(&server.family.console);
        let printed = console.lines_that(&|line| watch.minds(line)).ok()?;
        let expected = expected_now(server, found);
        let build = installed(server, found);
        let wanted = wanted(server, build, expected, BTreeSet::new(), Unshown::default()).ok()?;
        Some(look(&console, server, &wanted, &printed).ok()?.unshown())
    };
    look_now().unwrap_or_else(|| GoodStart::read(server).unwrap_or_default().unshown)
}

/// The order in which add-ons have to be started, where the order of the entries decides, and they are called by their ids.
fn wanted_order(server: &Server) -> Result<Vec<Id>> {
    let rule = server.family.order.as_ref();
    let rule = rule.filter(|rule| rule.each.is_none());
    let (Some(rule), Some(_)) = (rule, &server.family.console.loaded) else {
        return Ok(Vec::new());
    };
    let text = order_text(server)?;
    let arrangement = text.map(|text| Arrangement::read(rule, text.as_str()));
    let deciding = arrangement.filter(|arrangement| arrangement.decides);
    let running = deciding
        .into_iter()
        .flat_map(|it| it.entries)
        .filter(|it| it.on);
    Ok(running.map(|entry| entry.id).collect())
}

/// What `lantern.toml` says of settings, or else the server's own files.
fn wanted_settings(server: &Server) -> Result<Vec<Setting>> {
    let rules = server.family.console.settings.iter();
    let flow = flow(server, &scripts(server)?);
    let settings = rules.filter_map(|rule| {
        let stated = || {
            let path = RelPath::parse(rule.file.as_str()).ok()?;
            let text = || {
                let text = server.folder.read_as_the_server(rule.file.as_str());
                text.map(|text| Text::read(&text))
            };
            let Some(pattern) = &rule.line else {
                let (value, line) = rule.spot(&server.family, &path)?.says(text()?.as_str())?;
                return Some((value, format!("{}:{line}", rule.file)));
            };
            if let Some((value, line)) = flow.value(&path, pattern) {
                return Some((value, format!("{}:{line}", rule.file)));
            }
            let text = text()?;
            let mut lines = text.as_str().lines().enumerate();
            lines.find_map(|(index, line)| {
                let value = pattern.capture("value", line)?.to_owned();
                // What a script computes, nobody knows before it runs.
                let is_computed = flow.steps.iter().any(|step| {
                    let script = step.script.as_ref();
                    script.is_some_and(|script| script.as_str() == rule.file.as_str())
                }) && value.contains(['$', '`', '%']);
                (!is_computed).then(|| (value, format!("{}:{}", rule.file, index + 1)))
            })
        };
        let expected = server.config.expect.get(&rule.name);
        let expected = expected.map(|value| (value.clone(), "[expect] in lantern.toml".into()));
        let (value, from) = expected.or_else(stated)?;
        Some(Setting {
            name: rule.name.clone(),
            value,
            from,
        })
    });
    Ok(settings.collect())
}

/// Asks the running server, and holds all it shows against what is wanted.
///
/// # Errors
/// When its console does not answer.
pub fn look(
    console: &Console,
    server: &Server,
    wanted: &Wanted,
    printed: &[String],
) -> Result<StartReport> {
    let rule = &server.family.console;
    let mut answers = BTreeMap::new();
    let questions = health::questions(rule, wanted).into_iter();
    for (question, end) in questions.filter(|_| console.can_be_asked()) {
        let is_list = rule.list.as_ref().is_some_and(|it| it.ask == question);
        let answer = match console.ask(question, Some(end)) {
            // Nothing is said of it, and all else may be.
            Err(Error::Console(ConsoleFault::NoAnswer { .. })) if !is_list => Vec::new(),
            answer => answer?,
        };
        answers.insert(question.to_owned(), answer);
    }
    let version = rule.version.as_ref().filter(|_| wanted.build.is_some());
    let sends = version.and_then(|it| it.over_port.as_deref());
    let shown = Shown {
        printed: printed.to_vec(),
        answers,
        over_port: sends.map_or_else(Vec::new, |sends| console.ask_over_port(sends)),
    };
    Ok(health::judge(rule, &server.family.ids, wanted, &shown))
}

/// Looks at the running server; nothing is changed.
///
/// # Errors
/// When its console does not answer, or what it printed cannot be read.
pub fn verify(server: &Server, found: &Inventory) -> Result<Verified> {
    let console = Console::of(server);
    let state = console.state()?;
    let is_ours = matches!(state, ServerState::Ours(_) | ServerState::Reached { .. });
    // Of one on another machine what it printed is read, though nobody reaches its console.
    let is_heard = server.folder.is_far() && state != ServerState::Down && !console.is_silent();
    if !(is_ours || is_heard) {
        return Ok(Verified {
            state,
            ready: None,
            second: None,
            verdict: None,
        });
    }
    let watch = Watch::of(&server.family.console);
    let printed = console.lines_that(&|line| watch.minds(line))?;
    let ready = server.family.console.ready.as_ref();
    let ready = ready.filter(|_| !console.is_silent());
    let ready = ready.map(|ready| printed.iter().any(|line| ready.regex().is_match(line)));
    let good = GoodStart::read(server).unwrap_or_default();
    let expected = expected_now(server, found);
    let wanted = wanted(
        server,
        installed(server, found),
        expected,
        good.errors,
        good.unshown,
    )?;
    Ok(Verified {
        verdict: Some(look(&console, server, &wanted, &printed)?),
        ready,
        second: console.second(&state),
        state,
    })
}

/// The build that is installed, where it states a version.
pub fn installed(server: &Server, found: &Inventory) -> Option<Installed> {
    let stated = found
        .server_version()
        .filter(|version| !version.is_content());
    Some(Installed {
        id: Id::new(&server.family.build.id),
        version: stated?.to_string(),
        protocol: protocol_of(server, found),
    })
}

/// What has to run, by what is installed.
pub fn expected_now(server: &Server, found: &Inventory) -> Vec<Expected> {
    let has_to_run = |component: &&Component| match component.facts.kind {
        Kind::Addon => component.runs.is_sure(),
        Kind::Framework => server.family.console.framework.is_some(),
        Kind::Build | Kind::Pack => false,
    };
    let components = found.components.iter().filter(has_to_run);
    let expected = components.map(|component| Expected {
        id: component.facts.id.clone(),
        version: (!component.facts.version.is_content())
            .then(|| component.facts.version.to_string()),
        reader: Some(component.reader.clone()),
        server: server.which().map(str::to_owned),
    });
    expected.collect()
}
