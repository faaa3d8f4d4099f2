//! A halcyon server: slow to start, strict about its add-ons, with a console on its input.
//!
//! It checks what it loads by itself, with nothing of lantern but versions and ranges, so that the two
//! can disagree. `greenhouse.conf` may say `slow_ms = N` (pause between lines of the start) and
//! `stubborn = true` (it does not stop when told). An add-on's descriptor may carry
//! `[standin] crash = "words"` to fail at its start, or `dies_after_ready_ms = N`.

use lantern_core::version::{Notation, Range, RangeNotation, Version};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufRead, Read, Write};
use std::net::TcpListener;
use std::sync::mpsc;
use std::thread;
use std::time::Duration;
use toml_edit::Document;

struct Addon {
    version: Version,
    crash: Option<String>,
    dies_after_ready_ms: Option<u64>,
}

struct Settings {
    name: String,
    port: u16,
    slow: Duration,
    stubborn: bool,
    starts: Vec<String>,
}

fn settings() -> io::Result<Settings> {
    let text = fs::read_to_string("greenhouse.conf")?;
    let value = |wanted: &str| {
        let pairs = text.lines().filter_map(|line| line.split_once('='));
        let mut found = pairs.filter(|(key, _)| key.trim() == wanted);
        found.next().map(|(_, value)| value.trim().to_owned())
    };
    let starts = text
        .lines()
        .filter_map(|line| line.trim().strip_prefix("start "));
    Ok(Settings {
        name: value("name").unwrap_or_default(),
        port: value("port")
            .and_then(|port| port.parse().ok())
            .unwrap_or(24300),
        slow: Duration::from_millis(
            value("slow_ms")
                .and_then(|ms| ms.parse().ok())
                .unwrap_or(15),
        ),
        stubborn: value("stubborn").as_deref() == Some("true"),
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
        let _ = writeln!(log, "{text}");
    }
}

/// Runs until it is told to stop; returns the exit status.
///
/// `lattice` is the framework version that the start script asks for.
pub fn run(build: &str, lattice: Option<&str>) -> io::Result<u8> {
    fs::create_dir_all("logs")?;
    let settings = settings()?;
    let world = "worlds/orbit-garden/session.lock";
    // Held open for writing as long as the server lives, as real servers do.
    let _world = File::options().append(true).create(true).open(world)?;
    say(&format!(
        "Halcyon {build}, greenhouse \"{}\"",
        settings.name
    ));
    thread::sleep(settings.slow);
    match open(build, lattice, &settings) {
        Ok(loaded) => serve(build, &settings, &loaded),
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
        say(&format!("start {id} {}", addon.version));
        if let Some(words) = &addon.crash {
            return Err(format!("{id}: {words}"));
        }
        loaded.insert(id.clone(), addon);
    }
    Ok(loaded)
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
    let crash = standin.and_then(|table| table.get("crash")?.as_str());
    let dies = standin.and_then(|table| table.get("dies_after_ready_ms")?.as_integer());
    Ok(Addon {
        version: version(&stated)?,
        crash: crash.map(str::to_owned),
        dies_after_ready_ms: dies.and_then(|ms| ms.try_into().ok()),
    })
}

/// The descriptors of all archives in `addons/`, by id.
fn installed() -> Result<BTreeMap<String, String>, String> {
    let mut installed = BTreeMap::new();
    let said = |error: io::Error| format!("addons: {error}");
    for entry in fs::read_dir("addons").map_err(said)? {
        let path = entry.map_err(said)?.path();
        if path.extension().is_none_or(|extension| extension != "vpk") {
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

fn serve(build: &str, settings: &Settings, loaded: &BTreeMap<String, Addon>) -> io::Result<u8> {
    let _port = match TcpListener::bind(("127.0.0.1", settings.port)) {
        Ok(port) => port,
        Err(error) => {
            say(&format!("FAULT: port {}: {error}", settings.port));
            return Ok(1);
        }
    };
    say(&format!("doors open on port {}", settings.port));
    let (send, commands) = mpsc::channel();
    let dies = loaded
        .values()
        .filter_map(|addon| addon.dies_after_ready_ms)
        .min();
    if let Some(ms) = dies {
        let send = send.clone();
        thread::spawn(move || {
            thread::sleep(Duration::from_millis(ms));
            let _ = send.send("\0die".to_owned());
        });
    }
    thread::spawn(move || {
        for line in io::stdin().lock().lines().map_while(Result::ok) {
            if send.send(line).is_err() {
                break;
            }
        }
    });
    for line in commands {
        match line.trim() {
            "stop" if settings.stubborn => say("not now"),
            "stop" => {
                say("closing the doors");
                let days = fs::read_to_string("worlds/orbit-garden/days").unwrap_or_default();
                let days: u64 = days.trim().parse().unwrap_or(0);
                fs::write("worlds/orbit-garden/days", format!("{}\n", days + 1))?;
                thread::sleep(settings.slow * 4);
                say("the garden is saved");
                return Ok(0);
            }
            "list" => {
                for (id, addon) in loaded {
                    say(&format!("  {id} {}", addon.version));
                }
                say(&format!("{} add-ons run", loaded.len()));
            }
            "version" => say(&format!("this is Halcyon {build}")),
            "\0die" => {
                say("something tore");
                return Ok(1);
            }
            other => match other.strip_prefix("say ") {
                Some(words) => say(&format!("to all: {words}")),
                None => say(&format!("unknown command: {other}")),
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
