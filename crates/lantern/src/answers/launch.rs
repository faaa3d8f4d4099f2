//! Start scripts.

use lantern_core::inventory::Finding;
use lantern_core::launch::{Does, Drafted, Flow};
use lantern_core::path::RelPath;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// `launch show`
#[derive(Debug, Serialize, JsonSchema)]
pub struct LaunchShown<'a> {
    /// The commands, in order.
    steps: Vec<LaunchStep>,
    /// What is wrong with the scripts.
    findings: Vec<&'a Finding>,
}

/// `launch servers`
#[derive(Debug, Serialize, JsonSchema)]
pub struct LaunchServers<'a> {
    /// The servers; none where it is only one.
    servers: Vec<LaunchServer<'a>>,
    /// They as `lantern.toml` states them.
    text: String,
}

/// One of several servers, as its start script tells it.
#[derive(Debug, Serialize, JsonSchema)]
struct LaunchServer<'a> {
    name: &'a str,
    script: &'a RelPath,
    /// What it has in place of the family's paths.
    instead: &'a BTreeMap<String, String>,
}

impl<'a> LaunchServers<'a> {
    /// The servers, with the text that states them.
    pub fn new(servers: &'a [Drafted], text: String) -> LaunchServers<'a> {
        let servers = servers.iter().map(|one| LaunchServer {
            name: &one.name,
            script: &one.script,
            instead: &one.instead,
        });
        LaunchServers {
            servers: servers.collect(),
            text,
        }
    }
}

/// A command of a start.
#[derive(Debug, Serialize, JsonSchema)]
struct LaunchStep {
    /// The script; none for the family's own command line.
    script: Option<RelPath>,
    /// Its line, from 1.
    line: Option<usize>,
    /// Its column, from 1.
    column: Option<usize>,
    does: LaunchDoes,
    /// The script that it runs.
    runs: Option<RelPath>,
    program: String,
    arguments: Vec<LaunchWord>,
}

/// What a command does, as far as a start goes.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum LaunchDoes {
    Starts,
    Updates,
    Calls,
    Other,
}

/// A word behind a program.
#[derive(Debug, Serialize, JsonSchema)]
struct LaunchWord {
    text: String,
    /// Whether that is what it comes to; else it is computed when the script is run.
    known: bool,
    line: usize,
    column: usize,
}

impl<'a> LaunchShown<'a> {
    /// What happens when a server is started.
    pub fn new(flow: &Flow, findings: Vec<&'a Finding>) -> LaunchShown<'a> {
        let steps = flow.steps.iter().map(|step| {
            let (program, arguments) = step.program();
            let at = step.at();
            let arguments = arguments.iter().map(|word| LaunchWord {
                text: word.text.clone(),
                known: word.is_known,
                line: word.at.line,
                column: word.at.column,
            });
            LaunchStep {
                script: step.script.clone(),
                line: at.map(|(_, at)| at.line),
                column: at.map(|(_, at)| at.column),
                does: match step.does {
                    Does::Starts => LaunchDoes::Starts,
                    Does::Updates => LaunchDoes::Updates,
                    Does::Calls(_) => LaunchDoes::Calls,
                    Does::Other => LaunchDoes::Other,
                },
                runs: match &step.does {
                    Does::Calls(path) => Some(path.clone()),
                    _ => None,
                },
                program: program.text.clone(),
                arguments: arguments.collect(),
            }
        });
        LaunchShown {
            steps: steps.collect(),
            findings,
        }
    }
}
