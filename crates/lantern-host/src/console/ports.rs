//! The ports that a server's settings name, and others for a copy of it.

use crate::config::Server;
use crate::durable;
use crate::error::{At, Result};
use lantern_core::family::{PortRule, Transport};
use std::fs;
use std::io::ErrorKind;
use std::net::{TcpListener, UdpSocket};
use std::path::Path;

/// Whether something listens on a port of this machine.
pub fn taken(transport: Transport, port: u16) -> bool {
    let in_use = |error: std::io::Error| error.kind() == ErrorKind::AddrInUse;
    match transport {
        Transport::Tcp => TcpListener::bind(("0.0.0.0", port))
            .err()
            .is_some_and(in_use),
        Transport::Udp => UdpSocket::bind(("0.0.0.0", port)).err().is_some_and(in_use),
    }
}

/// A port that nothing listens on.
fn free(transport: Transport) -> std::io::Result<u16> {
    Ok(match transport {
        Transport::Tcp => TcpListener::bind(("0.0.0.0", 0))?.local_addr()?.port(),
        Transport::Udp => UdpSocket::bind(("0.0.0.0", 0))?.local_addr()?.port(),
    })
}

/// The port that a rule finds in a server folder.
pub fn stated(rule: &PortRule, root: &Path) -> Option<u16> {
    let text = fs::read_to_string(root.join(&rule.file)).ok()?;
    let mut lines = text.lines();
    lines.find_map(|line| rule.line.capture("port", line)?.parse().ok())
}

/// Gives a copy of a server ports of its own: each that is still the live server's becomes a free one.
///
/// # Errors
/// When a settings file cannot be written, or no port is free.
pub fn move_away(server: &Server, live: &Path) -> Result<()> {
    let console = &server.family.console;
    for rule in console.port.iter().chain(&console.more_ports) {
        let root = server.folder.root();
        let (Some(here), Some(there)) = (stated(rule, root), stated(rule, live)) else {
            continue;
        };
        if here != there {
            continue;
        }
        let path = root.join(&rule.file);
        let text = fs::read_to_string(&path).at("reading", &path)?;
        let port = free(rule.transport).at("finding a free port for", &path)?;
        durable::write(&path, with_port(rule, &text, port).as_bytes())?;
    }
    Ok(())
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
