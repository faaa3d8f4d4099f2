//! `lantern console`

use super::{open, open_settled, open_to_look};
use crate::answers::{ConsoleAnswer, ConsoleState};
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count, time};
use crate::progress::{Printed, at_work, wait_for_start};
use clap::{Args, Subcommand};
use lantern_core::health::{self, StartReport};
use lantern_host::config::Server;
use lantern_host::console::fault::ConsoleFault;
use lantern_host::console::{Console, Follower, ServerState};
use lantern_host::ledger::Ledger;
use lantern_host::lock::Lock;
use lantern_host::planning::refuse_cut_off;
use lantern_host::survey::{Depth, survey};
use lantern_host::verify::{GoodStart, verify};
use lantern_host::{Error, Result};
use std::collections::BTreeSet;
use std::time::{Duration, Instant};

/// Start, stop and talk to the game server
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern console start\n  lantern console ask players")]
pub struct ConsoleArgs {
    #[command(subcommand)]
    command: ConsoleCommand,
}

#[derive(Debug, Subcommand)]
enum ConsoleCommand {
    /// Start the server and wait until it is ready; it goes on when lantern ends
    Start {
        /// Start it even though a start command is cut off
        #[arg(long)]
        anyway: bool,
    },
    /// Ask the server to stop, and wait until it is really down
    Stop {
        /// End it when it does not stop: what it has not saved is lost
        #[arg(long)]
        kill: bool,
    },
    /// Say whether it is up, and how that is known
    State,
    /// Show what it prints as it comes, until Ctrl-C
    Watch,
    /// Type a line into its console, and show what it answers
    Ask {
        /// The line
        line: String,
    },
    /// Type a line into its console
    Send {
        /// The line
        line: String,
    },
}

/// Starts, stops and talks to the game server.
pub fn run(args: &ConsoleArgs, common: &Common, look: &Look) -> Result<u8> {
    let locked = |opened: Result<(Server, Lock)>| opened.map(|(server, lock)| (server, Some(lock)));
    let (server, _lock) = match args.command {
        ConsoleCommand::Start { .. } => locked(open_settled(common, "console"))?,
        ConsoleCommand::State | ConsoleCommand::Watch => (open_to_look(common, look)?.server, None),
        // These are of use where an operation was cut off, too.
        _ => locked(open(common, "console"))?,
    };
    let console = Console::of(&server);
    let begun = Instant::now();
    match &args.command {
        ConsoleCommand::Start { anyway } => {
            if !anyway {
                refuse_cut_off(&server, None)?;
            }
            return start(&server, common, look);
        }
        ConsoleCommand::Stop { kill } => {
            match console.stop() {
                Err(Error::Console(ConsoleFault::DidNotStop { .. })) if *kill => console.kill()?,
                stopped => stopped?,
            }
            let took = time(begun.elapsed().as_millis() as u64);
            told(
                look,
                false,
                &format!("{} is down. It took {took}.", server.config.name),
            );
        }
        ConsoleCommand::State => return state(&server, look),
        ConsoleCommand::Watch => watch(&server, look),
        ConsoleCommand::Ask { line } => {
            let answer = console.ask(line, None)?;
            if look.json {
                look.answer(&ConsoleAnswer { answer });
            } else {
                answer.iter().for_each(|line| look.say(line));
            }
        }
        ConsoleCommand::Send { line } => console.send(line)?,
    }
    Ok(fail::DONE)
}

/// Shows what the server prints, until somebody ends it.
fn watch(server: &Server, look: &Look) -> ! {
    let mut lines = Follower::from_now(&Console::of(server).output());
    loop {
        lines.new_lines().iter().for_each(|line| look.say(line));
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// Says whether the server is up, and how that is known; the exit status is 3 when it is down, or nobody can tell.
fn state(server: &Server, look: &Look) -> Result<u8> {
    let console = Console::of(server);
    let state = console.state()?;
    let name = &server.config.name;
    let text = match &state {
        ServerState::Down => format!("{name} is down: no process, no open file, no port."),
        ServerState::Ours(process) => {
            format!("{name} is up, process {}, started by lantern.", process.pid)
        }
        ServerState::Reached { who, .. } => {
            format!("{name} is up, not started by lantern, but its console can be reached: {who}.")
        }
        ServerState::Foreign { who } => {
            format!("{name} seems to be up, not started by lantern: {who}.")
        }
        ServerState::Unknown { why } => format!("It cannot be told whether {name} is up: {why}."),
    };
    let up = match state {
        ServerState::Down => Some(false),
        ServerState::Unknown { .. } => None,
        _ => Some(true),
    };
    let second = console.second(&state);
    if look.json {
        look.answer(&ConsoleState {
            up,
            text: &text,
            second: second.as_deref(),
        });
    } else {
        let means = if up.is_none() {
            Means::Caution
        } else {
            Means::Title
        };
        look.say(&look.paint(means, &text));
        if let Some(second) = &second {
            let text = format!("  something else is using its files: {second}");
            look.say(&look.paint(Means::Bad, &text));
        }
    }
    let is_alone = up == Some(true) && second.is_none();
    Ok(if is_alone { fail::DONE } else { fail::NO })
}

/// Starts the server, waits until it is ready, and looks at what it shows.
fn start(server: &Server, common: &Common, look: &Look) -> Result<u8> {
    let console = Console::of(server);
    let starting = console.start()?;
    let (at_end, look_on) = (*look, common.next("console state"));
    let _ = ctrlc::set_handler(move || {
        at_end.talk("\n  No longer waiting; the server goes on starting.");
        at_end.talk(&format!("  Its state: {look_on}"));
        std::process::exit(i32::from(fail::ERROR));
    });
    let limit = server.family.console.ready_timeout_s;
    let before = GoodStart::read(server);
    let bar = at_work("");
    wait_for_start(&bar, before.as_ref().map(|good| good.ready_ms), limit);
    let printed = Printed::follow(look, &bar, &console.output());
    // Somebody watches: what it prints is shown, not judged.
    let started = console.wait_ready(&starting, &BTreeSet::new(), true);
    drop(printed);
    bar.finish_and_clear();
    let started = started?;
    let before = before.map(|good| good.errors);
    let known = before.clone().unwrap_or_default();
    let errors = health::errors(&server.family.console, &started.lines, &known);
    // Only what was seen as good is what later starts are held against.
    let mut ledger = Ledger::open(&server.folder)?;
    let found = survey(server, &mut ledger, Depth::Usual)?;
    let seen = verify(server, &found)?;
    if seen.is_right() {
        let unshown = seen.verdict.as_ref().map(StartReport::unshown);
        GoodStart::remember(server, &started, unshown.unwrap_or_default())?;
    }
    let who = console.state()?.who();
    let who = who.unwrap_or_else(|| "and has just gone".into());
    let lines = count(started.lines.len(), "line", "lines");
    let took = time(started.ready_ms);
    let name = &server.config.name;
    told(
        look,
        true,
        &format!("{name} is up, {who}. {lines} printed, ready after {took}."),
    );
    if !look.json {
        for error in &errors {
            let is_new = before.is_some() && !error.known;
            let new = if is_new {
                ", which the start before did not have"
            } else {
                ""
            };
            look.say(&look.paint(
                Means::Caution,
                &format!("  an error line{new}: {}", error.text()),
            ));
        }
        if !seen.is_right() {
            look.next(&common.next("verify"));
        }
    }
    Ok(fail::DONE)
}

fn told(look: &Look, up: bool, text: &str) {
    if look.json {
        look.answer(&ConsoleState {
            up: Some(up),
            text,
            second: None,
        });
    } else {
        look.say(&look.paint(Means::Title, text));
    }
}
