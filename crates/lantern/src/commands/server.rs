//! `lantern console`

use super::{OneOf, answer_each, open, open_settled, open_to_look};
use crate::answers::{ConsoleAnswer, ConsoleState};
use crate::by_hand::AtHand;
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
        #[command(flatten)]
        which: OneOf,
    },
    /// Ask the server to stop, and wait until it is really down
    Stop {
        /// End it when it does not stop: what it has not saved is lost
        #[arg(long)]
        kill: bool,
        #[command(flatten)]
        which: OneOf,
    },
    /// Say whether it is up, and how that is known
    State(OneOf),
    /// Show what it prints as it comes, until Ctrl-C
    Watch(OneOf),
    /// Type a line into its console, and show what it answers
    Ask {
        /// The line
        line: String,
        #[command(flatten)]
        which: OneOf,
    },
    /// Type a line into its console
    Send {
        /// The line
        line: String,
        #[command(flatten)]
        which: OneOf,
    },
}

/// What a command says of a server: whether it is up, in a sentence.
type Told = (Option<String>, ConsoleState);

/// Starts, stops and talks to the game server.
pub fn run(args: &ConsoleArgs, common: &Common, look: &Look) -> Result<u8> {
    let locked = |opened: Result<(Server, Lock)>| opened.map(|(server, lock)| (server, Some(lock)));
    let (mut server, _lock) = match args.command {
        ConsoleCommand::Start { .. } => locked(open_settled(common, look, "console"))?,
        ConsoleCommand::State(_) | ConsoleCommand::Watch(_) => {
            (open_to_look(common, look)?.server, None)
        }
        // These are of use where an operation was cut off, too.
        _ => locked(open(common, look, "console"))?,
    };
    AtHand::at(&mut server, look);
    match &args.command {
        ConsoleCommand::Start { anyway, which } => {
            if !anyway {
                refuse_cut_off(&server, None)?;
            }
            let each = server.chosen(which.of.as_deref())?;
            let each = each.iter().map(|one| start(&server, one, common, look));
            tell_each(look, each.collect::<Result<_>>()?);
        }
        ConsoleCommand::Stop { kill, which } => {
            let each = server.chosen(which.of.as_deref())?;
            let each = each.iter().map(|one| stop(one, *kill, look));
            tell_each(look, each.collect::<Result<_>>()?);
        }
        ConsoleCommand::State(which) => {
            return state(&server.chosen(which.of.as_deref())?, look);
        }
        ConsoleCommand::Watch(which) => watch(&which.one(&server)?, look),
        ConsoleCommand::Ask { line, which } => {
            let answer = Console::of(&which.one(&server)?).ask(line, None)?;
            if look.json {
                look.answer(&ConsoleAnswer { answer });
            } else {
                answer.iter().for_each(|line| look.say(line));
            }
        }
        ConsoleCommand::Send { line, which } => Console::of(&which.one(&server)?).send(line)?,
    }
    Ok(fail::DONE)
}

/// Answers in JSON; in text, what there is to say was said as it came.
fn tell_each(look: &Look, each: Vec<Told>) {
    if look.json {
        answer_each(look, each);
    }
}

/// Stops a server.
fn stop(server: &Server, kill: bool, look: &Look) -> Result<Told> {
    let console = Console::of(server);
    let begun = Instant::now();
    match console.stop() {
        Err(Error::Console(ConsoleFault::DidNotStop { .. })) if kill => console.kill()?,
        stopped => drop(stopped?),
    }
    let took = time(begun.elapsed().as_millis() as u64);
    let text = format!("{} is down. It took {took}.", server.title());
    Ok(told(server, look, false, text))
}

/// Shows what the server prints, until somebody ends it.
fn watch(server: &Server, look: &Look) -> ! {
    let mut lines = Follower::from_now(&Console::of(server).log());
    loop {
        lines.new_lines().iter().for_each(|line| look.say(line));
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// Says whether servers are up, and how that is known; the exit status is 3 when one is down, or nobody can tell.
fn state(each: &[Server], look: &Look) -> Result<u8> {
    let mut states = Vec::new();
    for server in each {
        let console = Console::of(server);
        let state = console.state()?;
        let second = console.second(&state);
        let name = server.title();
        let text = match &state {
            ServerState::Down => down(server, &name),
            ServerState::Ours(process) => {
                format!("{name} is up, process {}, started by lantern.", process.pid)
            }
            ServerState::Reached { who, .. } => {
                format!(
                    "{name} is up, not started by lantern, but its console can be reached: {who}."
                )
            }
            ServerState::Foreign { who } => {
                format!("{name} seems to be up, not started by lantern: {who}.")
            }
            ServerState::Unknown { why } => {
                format!("It cannot be told whether {name} is up: {why}.")
            }
        };
        let up = match state {
            ServerState::Down => Some(false),
            ServerState::Unknown { .. } => None,
            _ => Some(true),
        };
        states.push((
            server.which().map(str::to_owned),
            ConsoleState { up, text, second },
        ));
    }
    let is_alone = |it: &ConsoleState| it.up == Some(true) && it.second.is_none();
    let all = states.iter().all(|(_, it)| is_alone(it));
    if look.json {
        answer_each(look, states);
    } else {
        for (_, it) in &states {
            let means = if it.up.is_none() {
                Means::Caution
            } else {
                Means::Title
            };
            look.say(&look.paint(means, &it.text));
            if let Some(second) = &it.second {
                let text = format!("  something else is using its files: {second}");
                look.say(&look.paint(Means::Bad, &text));
            }
        }
    }
    Ok(if all { fail::DONE } else { fail::NO })
}

/// That a server is down, and by what that is known.
fn down(server: &Server, name: &str) -> String {
    match server.folder.is_far() {
        true => format!("{name} is down: nothing of it that was seen to answer does."),
        false => format!("{name} is down: no process, no open file, no port."),
    }
}

/// Starts the server, waits until it is ready, and looks at what it shows.
fn start(install: &Server, server: &Server, common: &Common, look: &Look) -> Result<Told> {
    let console = Console::of(server);
    let starting = console.start()?;
    let (at_end, look_on) = (look.clone(), common.next("console state"));
    let _ = ctrlc::set_handler(move || {
        at_end.talk("\n  No longer waiting; the server goes on starting.");
        at_end.talk(&format!("  Its state: {look_on}"));
        std::process::exit(i32::from(fail::ERROR));
    });
    let limit = server.family.console.ready_timeout_s;
    let before = GoodStart::read(server);
    let bar = at_work("");
    wait_for_start(&bar, before.as_ref().map(|good| good.ready_ms), limit);
    let printed = Printed::follow(look, &bar, &console.log());
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
    let found = survey(install, &mut ledger, Depth::Usual)?;
    let seen = verify(server, &found.part(server).inventory)?;
    if seen.is_right() {
        let unshown = seen.verdict.as_ref().map(StartReport::unshown);
        GoodStart::remember(server, &started, unshown.unwrap_or_default())?;
    }
    let who = console.state()?.who();
    let who = who.unwrap_or_else(|| "and has just gone".into());
    let lines = count(started.lines.len(), "line", "lines");
    let took = time(started.ready_ms);
    let name = server.title();
    let text = format!("{name} is up, {who}. {lines} printed, ready after {took}.");
    let told = told(server, look, true, text);
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
    Ok(told)
}

/// Says a sentence, where the answer is not to be in JSON.
fn told(server: &Server, look: &Look, up: bool, text: String) -> Told {
    if !look.json {
        look.say(&look.paint(Means::Title, &text));
    }
    let state = ConsoleState {
        up: Some(up),
        text,
        second: None,
    };
    (server.which().map(str::to_owned), state)
}
