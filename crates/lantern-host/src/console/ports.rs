//! The ports that a server's settings name, and others for a copy of it.

use crate::config::Server;
use crate::error::{At, Result};
use crate::folder::Folder;
use lantern_core::family::{PortRule, Transport};
use lantern_core::path::RelPath;
use std::collections::BTreeSet;
use std::io;
use std::sync::{Mutex, PoisonError};

/// So many ports are remembered as given to copies.
const MOST_GIVEN: usize = 4096;

/// The port that a rule finds in a server folder.
pub fn stated(rule: &PortRule, folder: &Folder) -> Option<u16> {
    let text = folder.read_as_the_server(&rule.file)?;
    let text = String::from_utf8(text).ok()?;
    let mut lines = text.lines();
    lines.find_map(|line| rule.line.capture("port", line)?.parse().ok())
}

/// Gives a copy of a server ports of its own: each that is still the live server's becomes a free one.
///
/// # Errors
/// When a settings file cannot be written, or no port is free.
pub fn move_away(server: &Server, live: &Folder) -> Result<()> {
    let (console, folder) = (&server.family.console, &server.folder);
    for rule in console.port.iter().chain(&console.more_ports) {
        let (Some(here), Some(there)) = (stated(rule, folder), stated(rule, live)) else {
            continue;
        };
        if here != there {
            continue;
        }
        let path = RelPath::parse(&rule.file)?;
        let text = folder.read(&path)?;
        let text = String::from_utf8_lossy(&text);
        let port = new_port(server, rule.transport);
        let port = port.at("finding a free port for", &folder.shown(&path))?;
        folder.write_whole(&path, with_port(rule, &text, port).as_bytes())?;
    }
    Ok(())
}

/// A free port that no other copy was given, as several may be about to start.
fn new_port(server: &Server, transport: Transport) -> io::Result<u16> {
    static GIVEN: Mutex<BTreeSet<u16>> = Mutex::new(BTreeSet::new());
    let mut given = GIVEN.lock().unwrap_or_else(PoisonError::into_inner);
    loop {
        let port = server.runner.free_port(transport)?;
        if given.insert(port) {
            return Ok(port);
        }
        // All of them were given at some time: then they are free again.
        if given.len() > MOST_GIVEN {
            given.clear();
        }
    }
}

/// The text with another port where the rule finds one.
fn with_port(rule: &PortRule, text: &str, port: u16) -> String {
    let mut done = false;
    let lines = text.split_inclusive('\n').map(|line| {
        let body = line.trim_end_matches(['\n', '\r']);
        let found = rule.line.regex().captures(body);
        match found.and_then(|found| found.name("port")) {
            Some(at) if !done => {
                done = true;
                format!("{}{port}{}", &line[..at.start()], &line[at.end()..])
            }
            _ => line.to_owned(),
        }
    });
    lines.collect()
}
