//! The ports that a server's settings name, and others for a copy of it.

use crate::config::Server;
use crate::error::{At, Result};
use crate::folder::Folder;
use lantern_core::family::{PortRule, Transport};
use lantern_core::path::RelPath;
use lantern_core::text::Text;
use std::collections::BTreeSet;
use std::io;
use std::sync::{Mutex, PoisonError};

/// So many ports are remembered as given to copies.
const MOST_GIVEN: usize = 4096;

/// The port that a rule finds in a server folder.
pub fn stated(rule: &PortRule, folder: &Folder) -> Option<u16> {
    let text = folder.read_as_the_server(&rule.file)?;
    let text = Text::read(&text);
    let mut lines = text.as_str().lines();
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
        let text = folder.read_text(&path)?;
        let port = new_port(server, rule.transport);
        let port = port.at("finding a free port for", &folder.shown(&path))?;
        folder.write_whole(&path, &with_port(rule, text, port).bytes())?;
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
fn with_port(rule: &PortRule, text: Text, port: u16) -> Text {
    let mut done = false;
    let lines = text.as_str().split_inclusive('\n').map(|line| {
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
    // A number has room in every encoding.
    text.with(lines.collect()).unwrap_or(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use lantern_core::family::Family;

    #[test]
    fn a_port_is_found_and_moved_however_its_file_is_written() {
        let family = r#"
            format = 1
            name = "sea"
            title = "Sea"
            marks = ["sea"]
            build = { id = "sea", outside = true }
            launch = { command = ["./sea"] }
            reader = []
            [console]
            stop = { command = "stop" }
            port = { file = "sea.conf", line = '^port = (?P<port>\d+)$', transport = "tcp" }
        "#;
        let family = Family::parse(family).unwrap();
        let rule = family.console.port.as_ref().unwrap();
        let wide = |text: &str| -> Vec<u8> {
            let units = text.encode_utf16().flat_map(u16::to_le_bytes);
            [0xff, 0xfe].into_iter().chain(units).collect()
        };
        let (text, moved) = (
            "name = Gnäw\r\nport = 4711\r\n",
            "name = Gnäw\r\nport = 815\r\n",
        );
        let narrow = |text: &str| text.chars().map(|it| it as u8).collect::<Vec<u8>>();
        for (file, after) in [
            (text.as_bytes().to_vec(), moved.as_bytes().to_vec()),
            (narrow(text), narrow(moved)),
            (wide(text), wide(moved)),
        ] {
            let dir = tempfile::tempdir().unwrap();
            std::fs::write(dir.path().join("sea.conf"), &file).unwrap();
            let folder = Folder::open(dir.path()).unwrap();
            assert_eq!(stated(rule, &folder), Some(4711));
            let text = folder.read_text(&RelPath::parse("sea.conf").unwrap());
            assert_eq!(with_port(rule, text.unwrap(), 815).bytes(), after);
        }
    }
}
