//! What the smaller servers have in common: a port that is held, and a console on the input that obeys a few words.

use std::fs::{self, File};
use std::io::{self, BufRead};
use std::net::{TcpListener, UdpSocket};

/// A port that is held as long as the server is up.
pub enum Port {
    Tcp(u16),
    Udp(u16),
}

impl Port {
    /// What keeps it, as long as that is kept.
    fn hold(&self) -> io::Result<Box<dyn std::any::Any>> {
        Ok(match self {
            Port::Tcp(port) => Box::new(TcpListener::bind(("127.0.0.1", *port))?),
            Port::Udp(port) => Box::new(UdpSocket::bind(("127.0.0.1", *port))?),
        })
    }
}

/// Holds a world's file open for writing, as real servers do.
pub fn hold_world(path: &str) -> io::Result<File> {
    if let Some((folder, _)) = path.rsplit_once('/') {
        fs::create_dir_all(folder)?;
    }
    File::options().append(true).create(true).open(path)
}

/// Opens the port, says that it is ready, and obeys until it is told to stop. `obey` answers a line, or not at all.
pub fn serve(
    port: &Port,
    ready: &str,
    stop: &str,
    say: fn(&str),
    obey: impl Fn(&str) -> Vec<String>,
) -> io::Result<u8> {
    let _held = port.hold()?;
    say(ready);
    for line in io::stdin().lock().lines() {
        let line = line?;
        let line = line.trim();
        if line == stop {
            say("good night");
            return Ok(0);
        }
        obey(line).iter().for_each(|words| say(words));
    }
    Ok(0)
}
