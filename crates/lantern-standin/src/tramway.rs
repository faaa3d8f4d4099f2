//! A tramway server: wagons in folders, below categories or not, started by lines; strict about what each needs.
//!
//! It reads descriptors by itself, so that it and lantern can disagree. What a line names and is not there is passed over; a
//! category starts all that lies in it and does not run yet, by name.

use crate::doors::{self, Port};
use lantern_core::version::{Notation, Range, RangeNotation, Version};
use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

fn say(text: &str) {
    println!("[tramway] {text}");
}

struct Wagon {
    version: Version,
    takes: u64,
    group: Option<String>,
}

/// Runs until it is told to halt; returns the exit status.
pub fn run(build: &str) -> io::Result<u8> {
    let settings = expanded(Path::new("depot.cfg"))?;
    let value = |wanted: &str| {
        let mut lines = settings.lines().map(str::trim);
        let found = lines.find_map(|line| line.strip_prefix(wanted)?.strip_prefix(' '));
        found
            .unwrap_or_default()
            .trim()
            .trim_matches('"')
            .to_owned()
    };
    say(&format!("Tramway {build}, line \"{}\"", value("title")));
    let _world = doors::hold_world("journal/line-1.log")?;
    match open(build, &settings) {
        Err(fault) => {
            say(&format!("DERAILED: {fault}"));
            Ok(1)
        }
        Ok(running) => {
            let port: u16 = value("port").parse().unwrap_or(7411);
            let ready = format!("rails are live on {port}");
            doors::serve(&Port::Tcp(port), &ready, "halt", say, |line| match line {
                "wagons" => {
                    let all = running.iter();
                    let rows = all.map(|(name, wagon)| format!("  {name} {}", wagon.version));
                    let end = format!("{} wagons run", running.len());
                    rows.chain([end]).collect()
                }
                "passengers" => vec!["0 on board".into()],
                line => match line.strip_prefix("announce ") {
                    Some(words) => vec![format!("to all: {words}")],
                    None => vec![format!("no such lever: {line}")],
                },
            })
        }
    }
}

/// The settings, with what `read` names in its place: a file, or all files of a folder by name.
fn expanded(path: &Path) -> io::Result<String> {
    if path.is_dir() {
        let mut inside: Vec<PathBuf> = fs::read_dir(path)?
            .filter_map(|entry| Some(entry.ok()?.path()))
            .collect();
        inside.sort();
        return inside.iter().map(|path| expanded(path)).collect();
    }
    let text = fs::read_to_string(path)?;
    let lines = text
        .lines()
        .map(|line| match line.trim().strip_prefix("read ") {
            Some(name) => expanded(Path::new(name.trim())),
            None => Ok(format!("{line}\n")),
        });
    lines.collect()
}

fn open(build: &str, settings: &str) -> Result<BTreeMap<String, Wagon>, String> {
    let server = Version::parse(build, Notation::Dotted).map_err(|fault| fault.to_string())?;
    let engine = fs::read_to_string("engine/engine.json").unwrap_or_default();
    let room = engine.split("\"textures\":").nth(1).unwrap_or_default();
    let room: String = room
        .trim()
        .chars()
        .take_while(char::is_ascii_digit)
        .collect();
    let room: u64 = room.parse().unwrap_or(0);
    let mut wagons = Vec::new();
    find(Path::new("stock"), &mut wagons);
    wagons.sort();
    let mut running = BTreeMap::new();
    let entries = settings
        .lines()
        .filter_map(|line| line.trim().strip_prefix("run "));
    for entry in entries.map(str::trim) {
        let is_named = |path: &&PathBuf| match entry.starts_with('(') {
            true => path.iter().any(|name| name == entry),
            false => path.file_name().is_some_and(|name| name == entry),
        };
        let named: Vec<&PathBuf> = wagons.iter().filter(is_named).collect();
        if named.is_empty() {
            say(&format!("no wagon {entry}, passed over"));
        }
        for path in named {
            start(path, &server, room, &mut running)?;
        }
    }
    Ok(running)
}

/// The folders of all wagons below a folder.
fn find(folder: &Path, wagons: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        match path.join("wagon.man").exists() {
            true => wagons.push(path),
            false if path.is_dir() => find(&path, wagons),
            false => {}
        }
    }
}

fn start(
    path: &Path,
    server: &Version,
    room: u64,
    running: &mut BTreeMap<String, Wagon>,
) -> Result<(), String> {
    let name = path
        .file_name()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    if running.contains_key(&name) {
        return Ok(());
    }
    let text = fs::read_to_string(path.join("wagon.man")).map_err(|error| error.to_string())?;
    let first = |key: &str| words(&text, key).into_iter().next();
    let stated = first("version").unwrap_or_default();
    let runs_on = first("engine").unwrap_or_else(|| "*".into());
    if !range(&runs_on)?.holds_early(server) {
        return Err(format!(
            "{name} {stated} is for {runs_on}, this is {server}"
        ));
    }
    for need in words(&text, "needs") {
        let (other, wanted) = need.split_once(' ').unwrap_or((&need, "*"));
        match running.get(other) {
            None => {
                return Err(format!(
                    "{name} needs {other}, which does not run before it"
                ));
            }
            Some(there) if !range(wanted)?.holds_early(&there.version) => {
                return Err(format!("{name} wants {need}, found {}", there.version));
            }
            Some(_) => {}
        }
    }
    for file in words(&text, "rides") {
        let (other, inside) = file
            .trim_start_matches('@')
            .split_once('/')
            .unwrap_or((&file, ""));
        if !running.contains_key(other) {
            return Err(format!(
                "{name} rides {file}, and {other} does not run before it"
            ));
        }
        say(&format!("{name} rides {inside} of {other}"));
    }
    let group = first("only_one");
    let rival = running
        .iter()
        .find(|(_, wagon)| wagon.group.is_some() && wagon.group == group);
    if let Some((rival, _)) = rival {
        return Err(format!("{name} and {rival} cannot both run"));
    }
    let takes = text.split("textures =").nth(1).unwrap_or_default();
    let takes: String = takes
        .trim()
        .chars()
        .take_while(char::is_ascii_digit)
        .collect();
    let takes: u64 = takes.parse().unwrap_or(0);
    let taken: u64 = running.values().map(|wagon| wagon.takes).sum();
    if taken + takes > room {
        return Err(format!(
            "{name} takes {takes} textures, and {} are left",
            room - taken
        ));
    }
    let version = Version::parse(&stated, Notation::Dotted).map_err(|fault| fault.to_string())?;
    say(&format!("run {name} {version}"));
    running.insert(
        name,
        Wagon {
            version,
            takes,
            group,
        },
    );
    Ok(())
}

/// The quoted words behind a key: one, or all between braces.
fn words(text: &str, key: &str) -> Vec<String> {
    let start = text.lines().scan(0, |at, line| {
        let here = *at;
        *at += line.len() + 1;
        Some((here, line))
    });
    let mut at = start.filter_map(|(here, line)| {
        let rest = line.strip_prefix(key)?;
        rest.starts_with([' ', '=']).then_some(here + key.len())
    });
    let Some(at) = at.next() else {
        return Vec::new();
    };
    let rest = text[at..].trim_start_matches([' ', '=']);
    let many = rest
        .strip_prefix('{')
        .and_then(|rest| rest.split('}').next());
    let one = rest.lines().next().unwrap_or_default();
    let quoted = many
        .unwrap_or(one)
        .replace("[[", "'")
        .replace("]]", "'")
        .replace('"', "'");
    let words: Vec<String> = quoted
        .split('\'')
        .skip(1)
        .step_by(2)
        .map(str::to_owned)
        .collect();
    match many {
        Some(_) => words
            .into_iter()
            .filter(|word| !word.contains('\n'))
            .collect(),
        None => words.into_iter().take(1).collect(),
    }
}

fn range(text: &str) -> Result<Range, String> {
    Range::parse(text, RangeNotation::Comparators, Notation::Dotted)
        .map_err(|fault| fault.to_string())
}
