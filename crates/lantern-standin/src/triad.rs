//! A triad server: mods by number in one value, at most one of them an event; those that name others come after them. Of what it is
//! asked it tells all in one line. It obeys a switch of the real thing's quirks in its settings: `Guests = names` (who is on).

use crate::doors::{self, Port};
use lantern_core::version::{Notation, Version};
use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::Path;

fn say(text: &str) {
    println!("Triad: {text}");
}

/// Runs until the suns set; returns the exit status.
pub fn run(build: &str, settings: &str, world: &str) -> io::Result<u8> {
    let settings = fs::read_to_string(settings)?;
    let value = |wanted: &str| {
        let pairs = settings.lines().filter_map(|line| line.split_once('='));
        let mut found = pairs.filter(|(key, _)| key.trim() == wanted);
        found
            .next()
            .map_or(String::new(), |(_, value)| value.trim().to_owned())
    };
    say(&format!("build {build}, {}", value("Name")));
    let _world = doors::hold_world(world)?;
    match shine(&value("Mods")) {
        Err(fault) => {
            say(&format!("eclipse: {fault}"));
            Ok(1)
        }
        Ok(shining) => {
            let port = Port::Udp(value("Port").parse().unwrap_or(7530));
            let ready = "all three suns are up";
            doors::serve(&port, ready, "sunset", say, |line| match line {
                "who" => vec![counted(
                    "under the suns",
                    value("Guests").split_whitespace(),
                )],
                "mods" => vec![counted("mods shine", shining.iter().map(String::as_str))],
                line => vec![format!("so be it: {line}")],
            })
        }
    }
}

/// How many there are, and which.
fn counted<'n>(what: &str, names: impl Iterator<Item = &'n str>) -> String {
    let names: Vec<&str> = names.collect();
    format!("{} {what}: {}", names.len(), names.join("; "))
}

/// Lights the mods up; returns them, by number.
fn shine(mods: &str) -> Result<Vec<String>, String> {
    let mut shining: BTreeMap<&str, Version> = BTreeMap::new();
    let mut event = None;
    for number in mods
        .split(';')
        .map(str::trim)
        .filter(|number| !number.is_empty())
    {
        let folder = Path::new("content").join(number);
        if !folder.is_dir() {
            say(&format!("{number} is nowhere, passed over"));
            continue;
        }
        let about = fs::read_to_string(folder.join("about.xml")).unwrap_or_default();
        for need in about.split("<needs ").skip(1) {
            let other = attribute(need, "mod").unwrap_or_default();
            let from = attribute(need, "from")
                .and_then(|text| Version::parse(&text, Notation::Dotted).ok());
            match shining.get(other.as_str()) {
                None => {
                    return Err(format!(
                        "{number} needs {other}, which does not shine before it"
                    ));
                }
                Some(there) if from.as_ref().is_some_and(|from| there < from) => {
                    return Err(format!("{number} needs a later {other}"));
                }
                Some(_) => {}
            }
        }
        if folder.join("event.dat").exists()
            && let Some(other) = event.replace(number)
        {
            return Err(format!("{other} and {number} are both events"));
        }
        let version = attribute(&about, "version").unwrap_or_else(|| "0".into());
        let version =
            Version::parse(&version, Notation::Dotted).map_err(|fault| fault.to_string())?;
        say(&format!("{number} shines"));
        shining.insert(number, version);
    }
    Ok(shining.into_keys().map(str::to_owned).collect())
}

fn attribute(text: &str, name: &str) -> Option<String> {
    let rest = text.split(&format!("{name}=\"")).nth(1)?;
    Some(rest.split('"').next()?.to_owned())
}
