//! A halcyon server: slow to start, strict about its add-ons, with a console on its input.
//!
//! It checks what it loads by itself, with nothing of lantern but versions and ranges, so that the two
//! can disagree. `greenhouse.conf` may say `slow_ms = N` (pause between lines of the start),
//! `stubborn = true` (it does not stop when told), `guests = names` (who is on; `come NAME` and `leave NAME`, typed into its
//! console, are somebody who comes and leaves), `grumbles = words` (an error line that means
//! nothing), and `console_port = N`, `console_password = word`, `console_packet = bytes` for a remote
//! console. An add-on's descriptor may carry `[standin] crash = "words"` to fail at its start,
//! `dies_after_ready_ms = N`, or `left_out = "words"`: it is not loaded, and the server opens all the same. When it crashes can be
//! narrowed down: `beside = { ID = "RANGE" }` (only where all of those were started before it), `in_world = true` (only where there is a
//! world already), `every = N` with `counts = "FILE"` (only at each Nth start, counted there).

use crate::remote::{self, Line};
use lantern_core::version::{Notation, Range, RangeNotation, Version};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufRead, Read, Write};
use std::net::TcpListener;
use std::sync::mpsc;
use std::thread;
use std::time::Duration;
use toml_edit::{Document, TableLike};

struct Addon {
    version: Version,
    left_out: Option<String>,
    crash: Option<String>,
    when: When,
    dies_after_ready_ms: Option<u64>,
}

struct Settings {
    name: String,
    port: u16,
    slow: Duration,
    stubborn: bool,
    seats: String,
    grumbles: Option<String>,
    guests: String,
    remote: Option<remote::Settings>,
    starts: Vec<String>,
}

fn settings() -> io::Result<Settings> {
    let text = fs::read("greenhouse.conf")?;
    let text = String::from_utf8_lossy(&text);
    let text = text.trim_start_matches('\u{feff}');
    let value = |wanted: &str| {
        let pairs = text.lines().filter_map(|line| line.split_once('='));
        let mut found = pairs.filter(|(key, _)| key.trim() == wanted);
        found.next().map(|(_, value)| value.trim().to_owned())
    };
    let number = |wanted: &str| value(wanted).and_then(|text| text.parse::<u64>().ok());
    let starts = text
        .lines()
        .filter_map(|line| line.trim().strip_prefix("start "));
    Ok(Settings {
        name: value("name").unwrap_or_default(),
        port: value("port")
            .and_then(|port| port.parse().ok())
            .unwrap_or(24300),
        slow: Duration::from_millis(number("slow_ms").unwrap_or(15)),
        stubborn: value("stubborn").as_deref() == Some("true"),
        seats: value("seats").unwrap_or_else(|| "8".into()),
        grumbles: value("grumbles"),
        guests: value("guests").unwrap_or_default(),
        remote: number("console_port").map(|port| remote::Settings {
            port: port as u16,
            password: value("console_password").unwrap_or_default(),
            packet: number("console_packet").unwrap_or(4096) as usize,
        }),
        starts: starts.map(|id| id.trim().to_owned()).collect(),
    })
}

/// Prints as the server does; what it says also goes to its own log.
fn say(text: &str) {
    println!("[halcyon] {text}");
    let log = File::options()
        .append(true)
        .create(true)
        .open("logs/latest.log");
    if let Ok(mut log) = log {
        let _ = writeln!(log, "[halcyon] {text}");
    }
}

/// Runs until it is told to stop; returns the exit status.
///
/// `lattice` is the framework version that the start script asks for, `seed` the world's.
pub fn run(build: &str, lattice: Option<&str>, seed: Option<&str>) -> io::Result<u8> {
    fs::create_dir_all("logs")?;
    let settings = settings()?;
    let world = "worlds/orbit-garden/session.lock";
    // Held open for writing as long as the server lives, as real servers do.
    let _world = File::options().append(true).create(true).open(world)?;
    say(&format!(
        "Halcyon {build}, greenhouse \"{}\"",
        settings.name
    ));
    if let Some(words) = &settings.grumbles {
        say(&format!("FAULT: {words}"));
    }
    thread::sleep(settings.slow);
    match open(build, lattice, &settings) {
        Ok(loaded) => serve(build, seed.unwrap_or("0"), &settings, &loaded),
        Err(fault) => {
            say(&format!("FAULT: {fault}"));
            Ok(1)
        }
    }
}

fn open(
    build: &str,
    lattice: Option<&str>,
    settings: &Settings,
) -> Result<BTreeMap<String, Addon>, String> {
    let server = version(build)?;
    let framework = fs::read_to_string("framework/framework.toml");
    let framework = framework.map_err(|_| "no framework is laid over this build".to_owned())?;
    let framework = document(&framework)?;
    let runs_on = text(&framework, "server").unwrap_or_default();
    if !range(&runs_on)?.holds_early(&server) {
        let version = text(&framework, "version").unwrap_or_default();
        return Err(format!(
            "framework {version} is for {runs_on}, this is {build}"
        ));
    }
    let there = text(&framework, "version").unwrap_or_default();
    if let Some(asked) = lattice
        && asked != there
    {
        return Err(format!(
            "the start script asks for lattice {asked}, and {there} is here"
        ));
    }
    // The framework is active by what it laid over the gate. Over a bare gate nothing is loaded, and
    // nothing is said of it.
    let gate = fs::read_to_string("server/gate.bin").unwrap_or_default();
    let Some(laid) = gate
        .strip_prefix("lattice ")
        .and_then(|rest| rest.lines().next())
    else {
        return Ok(BTreeMap::new());
    };
    if laid != there {
        return Err(format!(
            "the gate has lattice {laid}, and the framework is {there}"
        ));
    }
    say(&format!("trellis {there} holds the gate"));
    let installed = installed()?;
    let mut loaded: BTreeMap<String, Addon> = BTreeMap::new();
    for id in &settings.starts {
        let Some(text_of) = installed.get(id) else {
            return Err(format!("{id} is to be started but is not installed"));
        };
        let addon = check(id, text_of, &server, &loaded)?;
        thread::sleep(settings.slow);
        if let Some(words) = &addon.left_out {
            say(&format!("{id} stays out: {words}"));
            continue;
        }
        say(&format!("start {id} {}", addon.version));
        if let Some(words) = addon.crash.as_ref().filter(|_| addon.when.is_met(&loaded)) {
            return Err(format!("{id}: {words}"));
        }
        loaded.insert(id.clone(), addon);
    }
    Ok(loaded)
}

/// When an add-on crashes.
#[derive(Default)]
struct When {
    beside: Vec<(String, Range)>,
    in_world: bool,
    every: Option<(u64, String)>,
}

impl When {
    fn read(standin: Option<&dyn TableLike>) -> Result<When, String> {
        let Some(standin) = standin else {
            return Ok(When::default());
        };
        let beside = standin.get("beside").and_then(|item| item.as_table_like());
        let beside = beside.into_iter().flat_map(|table| table.iter());
        let beside =
            beside.map(|(id, wanted)| Ok((id.to_owned(), range(wanted.as_str().unwrap_or("*"))?)));
        let every = standin.get("every").and_then(|item| item.as_integer());
        let every = every.and_then(|every| every.try_into().ok());
        let counts = standin.get("counts").and_then(|item| item.as_str());
        Ok(When {
            beside: beside.collect::<Result<_, String>>()?,
            in_world: standin.get("in_world").and_then(|item| item.as_bool()) == Some(true),
            every: every.zip(counts.map(str::to_owned)),
        })
    }

    fn is_met(&self, loaded: &BTreeMap<String, Addon>) -> bool {
        let is_there = |(id, range): &(String, Range)| {
            let there = loaded.get(id);
            there.is_some_and(|there| range.holds_early(&there.version))
        };
        let has_world = fs::metadata("worlds/orbit-garden/soil.bin").is_ok();
        self.beside.iter().all(is_there)
            && (has_world || !self.in_world)
            && self.every.as_ref().is_none_or(|(every, counts)| {
                let before = fs::read_to_string(counts).unwrap_or_default();
                let now = before.trim().parse::<u64>().unwrap_or(0) + 1;
                let _ = fs::write(counts, now.to_string());
                now.is_multiple_of(*every)
            })
    }
}

fn check(
    id: &str,
    descriptor: &str,
    server: &Version,
    loaded: &BTreeMap<String, Addon>,
) -> Result<Addon, String> {
    let described = document(descriptor)?;
    let stated = text(&described, "version").unwrap_or_default();
    if let Some(runs_on) = text(&described, "server")
        && !range(&runs_on)?.holds_early(server)
    {
        return Err(format!("{id} {stated} is for {runs_on}, this is {server}"));
    }
    for (table, must) in [("needs", true), ("uses", false)] {
        let Some(needs) = described.get(table).and_then(|item| item.as_table_like()) else {
            continue;
        };
        for (other, wanted) in needs.iter() {
            let wanted = wanted.as_str().unwrap_or("*");
            match loaded.get(other) {
                None if must => {
                    return Err(format!(
                        "{id} needs {other}, which is not started before it"
                    ));
                }
                Some(there) if !range(wanted)?.holds_early(&there.version) => {
                    return Err(format!(
                        "{id} wants {other} {wanted}, found {}",
                        there.version
                    ));
                }
                _ => {}
            }
        }
    }
    let standin = described
        .get("standin")
        .and_then(|item| item.as_table_like());
    let words = |key: &str| Some(standin?.get(key)?.as_str()?.to_owned());
    let dies = standin.and_then(|table| table.get("dies_after_ready_ms")?.as_integer());
    Ok(Addon {
        version: version(&stated)?,
        crash: words("crash"),
        when: When::read(standin)?,
        left_out: words("left_out"),
        dies_after_ready_ms: dies.and_then(|ms| ms.try_into().ok()),
    })
}

/// The descriptors of all archives in `addons/`, by id.
fn installed() -> Result<BTreeMap<String, String>, String> {
    let mut installed = BTreeMap::new();
    let said = |error: io::Error| format!("addons: {error}");
    fs::create_dir_all("addons").map_err(said)?;
    for entry in fs::read_dir("addons").map_err(said)? {
        let path = entry.map_err(said)?.path();
        if path
            .extension()
            .is_none_or(|extension| extension != "bloom")
        {
            continue;
        }
        let shown = path.display().to_string();
        let said = |error: &dyn std::fmt::Display| format!("{shown}: {error}");
        let file = File::open(&path).map_err(|error| said(&error))?;
        let mut zip = zip::ZipArchive::new(file).map_err(|error| said(&error))?;
        let mut text_of = String::new();
        let mut entry = zip.by_name("addon.toml").map_err(|error| said(&error))?;
        entry
            .read_to_string(&mut text_of)
            .map_err(|error| said(&error))?;
        let id = text(&document(&text_of)?, "id").unwrap_or_default();
        if installed.insert(id.clone(), text_of).is_some() {
            return Err(format!("{id} is installed twice"));
        }
    }
    Ok(installed)
}

/// Whoever knocks and asks for the status is told it; the others are let go.
fn tell_at_the_door(port: &TcpListener, status: &str) {
    for mut guest in port.incoming().flatten() {
        let mut asked = [0; 7];
        let patience = guest.set_read_timeout(Some(Duration::from_secs(1)));
        if patience.is_ok() && guest.read_exact(&mut asked).is_ok() && asked == *b"status\n" {
            let _ = guest.write_all(status.as_bytes());
        }
    }
}

fn serve(
    build: &str,
    seed: &str,
    settings: &Settings,
    loaded: &BTreeMap<String, Addon>,
) -> io::Result<u8> {
    let port = match TcpListener::bind(("127.0.0.1", settings.port)) {
        Ok(port) => port,
        Err(error) => {
            say(&format!("FAULT: port {}: {error}", settings.port));
            return Ok(1);
        }
    };
    let (send, lines) = mpsc::channel();
    if let Some(remote) = &settings.remote {
        remote::listen(remote, send.clone())?;
    }
    let status = format!("halcyon {build}\n{} add-ons\n", loaded.len());
    thread::spawn(move || tell_at_the_door(&port, &status));
    say(&format!("doors open on port {}", settings.port));
    let typed = |text: String| Line { text, answer: None };
    let dies = loaded
        .values()
        .filter_map(|addon| addon.dies_after_ready_ms)
        .min();
    if let Some(ms) = dies {
        let send = send.clone();
        thread::spawn(move || {
            thread::sleep(Duration::from_millis(ms));
            let _ = send.send(typed("\0die".to_owned()));
        });
    }
    thread::spawn(move || {
        for line in io::stdin().lock().lines().map_while(Result::ok) {
            if send.send(typed(line)).is_err() {
                break;
            }
        }
    });
    let mut guests: Vec<String> = settings
        .guests
        .split_whitespace()
        .map(str::to_owned)
        .collect();
    for Line { text, answer } in lines {
        let reply = |words: &str| {
            say(words);
            if let Some(answer) = &answer {
                let _ = answer.send(format!("[halcyon] {words}\n"));
            }
        };
        match text.trim() {
            "stop" if settings.stubborn => reply("not now"),
            "stop" => {
                reply("closing the doors");
                let days = fs::read_to_string("worlds/orbit-garden/days").unwrap_or_default();
                let days: u64 = days.trim().parse().unwrap_or(0);
                fs::write("worlds/orbit-garden/days", format!("{}\n", days + 1))?;
                thread::sleep(settings.slow * 4);
                say("the garden is saved");
                return Ok(0);
            }
            "list" => {
                for (id, addon) in loaded {
                    reply(&format!("  {id} {}", addon.version));
                }
                reply(&format!("{} add-ons run", loaded.len()));
            }
            "who" => {
                for name in &guests {
                    reply(&format!("  {name} is here"));
                }
                reply(&format!("{} on {} seats", guests.len(), settings.seats));
            }
            "version" => reply(&format!("this is Halcyon {build}")),
            "settings" => reply(&format!("{} seats, seed {seed}", settings.seats)),
            "\0die" => {
                say("something tore");
                return Ok(1);
            }
            other => match other.split_once(' ') {
                Some(("say", words)) => reply(&format!("to all: {words}")),
                Some(("come", name)) => guests.push(name.to_owned()),
                Some(("leave", name)) => guests.retain(|guest| guest != name),
                _ => reply(&format!("unknown command: {other}")),
            },
        }
    }
    Ok(0)
}

fn document(text: &str) -> Result<Document<String>, String> {
    text.parse::<Document<String>>()
        .map_err(|error| error.to_string())
}

fn text(document: &Document<String>, key: &str) -> Option<String> {
    Some(document.get(key)?.as_str()?.to_owned())
}

fn version(text: &str) -> Result<Version, String> {
    Version::parse(text, Notation::Dotted).map_err(|fault| fault.to_string())
}

fn range(text: &str) -> Result<Range, String> {
    Range::parse(text, RangeNotation::Comparators, Notation::Dotted)
        .map_err(|fault| fault.to_string())
}
