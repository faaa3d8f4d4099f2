//! The ports that a server's settings name, and others for a copy of it.

use crate::config::Server;
use crate::error::{At, Result};
use crate::folder::Folder;
use lantern_core::family::{Family, PortRule, Transport};
use lantern_core::path::RelPath;
use lantern_core::text::Text;
use std::collections::BTreeSet;
use std::io;
use std::sync::{Mutex, PoisonError};

/// So many ports are remembered as given to copies.
const MOST_GIVEN: usize = 4096;

/// The port that a rule of a family finds in a server folder.
pub fn stated(family: &Family, rule: &PortRule, folder: &Folder) -> Option<u16> {
    let text = folder.read_as_the_server(&rule.file)?;
    let text = Text::read(&text);
    let Some(pattern) = &rule.line else {
        let spot = rule.spot(family, &RelPath::parse(&rule.file).ok()?)?;
        return spot.says(text.as_str())?.0.parse().ok();
    };
    let mut lines = text.as_str().lines();
    lines.find_map(|line| pattern.capture("port", line)?.parse().ok())
}

/// Gives a copy of a server ports of its own: each that is still the live server's becomes a free one.
///
/// # Errors
/// When a settings file cannot be written, or no port is free.
pub fn move_away(server: &Server, live: &Folder) -> Result<()> {
    let (family, folder) = (&server.family, &server.folder);
    let console = &family.console;
    for rule in console.port.iter().chain(&console.more_ports) {
        let of = |folder| stated(family, rule, folder);
        let (Some(here), Some(there)) = (of(folder), of(live)) else {
            continue;
        };
        if here != there {
            continue;
        }
        let path = RelPath::parse(&rule.file)?;
        let text = folder.read_text(&path)?;
        let port = new_port(server, rule.transport);
        let port = port.at("finding a free port for", &folder.shown(&path))?;
        let moved = with_port(family, rule, &path, &text, port);
        let moved = moved.ok_or_else(|| io::Error::other("its port cannot be changed there"));
        let moved = moved.at("changing", &folder.shown(&path))?;
        folder.write_whole(&path, &moved.bytes())?;
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

/// The text with another port where the rule finds one; none where it cannot stand there.
fn with_port(
    family: &Family,
    rule: &PortRule,
    path: &RelPath,
    text: &Text,
    port: u16,
) -> Option<Text> {
    let Some(pattern) = &rule.line else {
        let moved = rule
            .spot(family, path)?
            .set(text.as_str(), &port.to_string());
        return text.with(moved.ok()?);
    };
    let mut done = false;
    let lines = text.as_str().split_inclusive('\n').map(|line| {
        let body = line.trim_end_matches(['\n', '\r']);
        let found = pattern.regex().captures(body);
        match found.and_then(|found| found.name("port")) {
            Some(at) if !done => {
                done = true;
                format!("{}{port}{}", &line[..at.start()], &line[at.end()..])
            }
            _ => line.to_owned(),
        }
    });
    text.with(lines.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

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
            more_ports = [{ file = "sea.conf", key = "deep.port", transport = "udp" }]
        "#;
        let family = Family::parse(family).unwrap();
        let rule = family.console.port.as_ref().unwrap();
        let deep = &family.console.more_ports[0];
        let wide = |text: &str| -> Vec<u8> {
            let units = text.encode_utf16().flat_map(u16::to_le_bytes);
            [0xff, 0xfe].into_iter().chain(units).collect()
        };
        let (text, moved) = (
            "name = Gnäw\r\nport = 4711\r\n[deep]\r\nport = 4712\r\n",
            "name = Gnäw\r\nport = 815\r\n[deep]\r\nport = 4712\r\n",
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
            assert_eq!(stated(&family, rule, &folder), Some(4711));
            let path = RelPath::parse("sea.conf").unwrap();
            let text = folder.read_text(&path).unwrap();
            let moved = with_port(&family, rule, &path, &text, 815).unwrap();
            assert_eq!(moved.bytes(), after);
            assert_eq!(stated(&family, deep, &folder), Some(4712));
            let moved = with_port(&family, deep, &path, &text, 816).unwrap();
            assert_eq!(moved.as_str(), text.as_str().replace("4712", "816"));
        }
    }
}
