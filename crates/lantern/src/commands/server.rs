//! `lantern console`

use super::open_settled;
use crate::cli::Cli;
use crate::fail;
use crate::look::{Look, Means, count, time};
use clap::{Args, Subcommand};
use lantern_host::Result;
use lantern_host::console::{Console, State};
use serde_json::json;
use std::time::Instant;

/// Start, stop and talk to the game server
#[derive(Debug, Args)]
pub struct ConsoleArgs {
    #[command(subcommand)]
    command: ConsoleCommand,
}

#[derive(Debug, Subcommand)]
enum ConsoleCommand {
    /// Start the server and wait until it is ready; it goes on when lantern ends
    Start,
    /// Ask the server to stop, and wait until it is really down
    Stop,
    /// Say whether it is up, and how that is known
    State,
    /// Type a line into its console
    Send {
        /// The line
        line: String,
    },
}

/// Starts, stops and talks to the game server.
pub fn run(args: &ConsoleArgs, cli: &Cli, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(cli, "console")?;
    let console = Console::of(&server);
    let begun = Instant::now();
    match &args.command {
        ConsoleCommand::Start => {
            let process = console.start()?;
            let started = console.wait_ready(&process)?;
            let lines = count(started.lines.len(), "line", "lines");
            let took = time(begun.elapsed().as_millis() as u64);
            told(
                look,
                true,
                &format!(
                    "{} is up, process {}. {lines} printed in {took}.",
                    server.config.name, started.pid
                ),
            );
        }
        ConsoleCommand::Stop => {
            console.stop()?;
            let took = time(begun.elapsed().as_millis() as u64);
            told(
                look,
                false,
                &format!("{} is down. It took {took}.", server.config.name),
            );
        }
        ConsoleCommand::State => match console.state()? {
            State::Down => {
                told(
                    look,
                    false,
                    &format!(
                        "{} is down: no process, no open file, no port.",
                        server.config.name
                    ),
                );
                return Ok(fail::NO);
            }
            State::Ours(process) => {
                told(
                    look,
                    true,
                    &format!(
                        "{} is up, process {}, started by lantern.",
                        server.config.name, process.pid
                    ),
                );
            }
            State::Foreign { who } => {
                told(
                    look,
                    true,
                    &format!(
                        "{} seems to be up, not started by lantern: {who}.",
                        server.config.name
                    ),
                );
            }
        },
        ConsoleCommand::Send { line } => console.send(line)?,
    }
    Ok(fail::DONE)
}

fn told(look: &Look, up: bool, text: &str) {
    if look.json {
        look.answer(&json!({"format": 1, "up": up, "text": text}));
    } else {
        look.say(&look.paint(Means::Title, text));
    }
}
