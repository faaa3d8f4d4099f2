//! The remote console protocol over TCP that many game servers share.
//!
//! An answer may come in several packets, and nothing in it says which is the last: so an empty packet of another number is
//! sent behind the question, and its echo ends the answer.

use crate::config::Remote;
use crate::console::fault::ConsoleFault;
use crate::console::packet::{Packet, Packets};
use crate::console::printed::as_seen;
use crate::error::{Error, Result};
use crate::place::here;
use crate::told::plain;
use lantern_core::family::Ending;
use lantern_core::text;
use std::io::{self, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::path::Path;
use std::time::{Duration, Instant};

/// How long reaching it, and each part of an answer, may take.
const LIMIT: Duration = Duration::from_secs(5);
/// After so long without a packet, an answer that may go on behind its end is taken as whole.
const QUIET: Duration = Duration::from_millis(700);
/// How long a login or an answer may take, all in all: one that never ends would be waited for for ever.
const ALL_IN_ALL: Duration = Duration::from_secs(20);
/// A text of so many bytes may be one that was cut off: the protocol's servers do that at about 4,096.
const CUT: usize = 4000;
/// The longest answer that is read, in bytes.
const LONGEST_ANSWER: usize = 16 << 20;
/// Types of packets: what is asked, and what is answered.
const LOGIN: i32 = 3;
const LOGIN_ANSWER: i32 = 2;
const COMMAND: i32 = 2;
const ANSWER: i32 = 0;
/// The number in the answer to a wrong password.
const REFUSED: i32 = -1;

/// A connection to a remote console, logged in.
pub struct Session<'a> {
    remote: &'a Remote,
    stream: TcpStream,
    /// What was read and is no whole packet yet.
    coming: Packets,
    last_number: i32,
}

fn password(remote: &Remote, root: &Path) -> Result<String> {
    let missing = |why: String| {
        Error::Console(ConsoleFault::Remote {
            address: remote.address.clone(),
            why,
        })
    };
    match (&remote.password_env, &remote.password_file) {
        (Some(name), _) => std::env::var(name).map_err(|_| {
            missing(format!(
                "needs a password, and {name} is not set in the environment"
            ))
        }),
        (None, Some(file)) => {
            let path = root.join(file);
            let text = here::read_text(&path)?;
            Ok(text.trim_end_matches(['\n', '\r']).to_owned())
        }
        (None, None) => Ok(String::new()),
    }
}

impl<'a> Session<'a> {
    /// Connects and logs in; `root` is the server folder, which the password's file is relative to.
    ///
    /// # Errors
    /// When nothing answers there, or the password is missing or wrong.
    pub fn open(remote: &'a Remote, root: &Path) -> Result<Session<'a>> {
        let password = password(remote, root)?;
        let mut session = Session {
            remote,
            stream: connect(&remote.address)
                .map_err(|error| fault(remote, format!("cannot be reached: {}", plain(&error))))?,
            coming: Packets::default(),
            last_number: 0,
        };
        let number = session.send(LOGIN, &password)?;
        let until = Instant::now() + ALL_IN_ALL;
        loop {
            let packet = session.packet_until(LIMIT, until)?;
            let packet = packet.ok_or_else(|| session.fault("does not answer the login"))?;
            match packet {
                // Servers send an empty answer before it.
                Packet { kind: ANSWER, .. } => {}
                Packet {
                    kind: LOGIN_ANSWER,
                    number: REFUSED,
                    ..
                } => {
                    return Err(session.fault("refuses the password"));
                }
                Packet {
                    kind: LOGIN_ANSWER,
                    number: echo,
                    ..
                } if echo == number => break,
                _ => return Err(session.fault("answers the login with something else")),
            }
        }
        Ok(session)
    }

    /// Sends a line and takes what is answered at once; that the server ends the connection is no error,
    /// as one that was told to stop does.
    ///
    /// # Errors
    /// When the line cannot be sent.
    pub fn tell(&mut self, line: &str) -> Result<()> {
        self.send(COMMAND, line)?;
        let _ = self.packet(QUIET);
        Ok(())
    }

    /// Sends a line and returns the lines of the answer, up to its end; where none is stated, until nothing more comes.
    ///
    /// # Errors
    /// When the connection ends in the middle, what comes is no such packet, or the answer's end does not come.
    pub fn ask(&mut self, line: &str, end: Option<&Ending<'_>>) -> Result<Vec<String>> {
        let question = self.send(COMMAND, line)?;
        let mut marker = None;
        let mut answer: Vec<u8> = Vec::new();
        let mut limit = LIMIT;
        let until = Instant::now() + ALL_IN_ALL;
        while let Some(packet) = self.packet_until(limit, until)? {
            if Some(packet.number) == marker {
                break;
            }
            if packet.number != question {
                continue;
            }
            // What is cut off at its longest goes on, and may do so in the middle of a line.
            let is_cut = packet.text.len() >= CUT;
            answer.extend(packet.text);
            if answer.len() > LONGEST_ANSWER {
                return Err(self.fault("answers without end"));
            }
            let ends = |end: &Ending| end.is_in(&lines(&answer));
            let has_ended = end.is_none_or(ends);
            if has_ended && end.is_some() && !is_cut {
                break;
            }
            // An answer whose end is known is waited for in full.
            limit = if has_ended { QUIET } else { LIMIT };
            // Sent only now: some servers take one packet at a time.
            if marker.is_none() {
                marker = Some(self.send(ANSWER, "")?);
            }
        }
        let came = lines(&answer);
        match end {
            Some(end) if end.is_in(&came) => Ok(came),
            None if marker.is_some() => Ok(came),
            _ => Err(ConsoleFault::NoAnswer { line: line.into() }.into()),
        }
    }

    fn send(&mut self, kind: i32, text: &str) -> Result<i32> {
        self.last_number += 1;
        let packet = Packet {
            number: self.last_number,
            kind,
            text: text.into(),
        };
        let bytes = packet.bytes();
        let sent = self.stream.write_all(&bytes);
        sent.map_err(|error| self.fault(&format!("ended the connection: {}", plain(&error))))?;
        Ok(self.last_number)
    }

    /// As [`Session::packet`], up to a moment after which there has to be an end.
    fn packet_until(&mut self, limit: Duration, until: Instant) -> Result<Option<Packet>> {
        if Instant::now() > until || crate::interrupt::called_off() {
            return Err(self.fault("answers without end"));
        }
        self.packet(limit)
    }

    /// The next packet; none when nothing comes for so long.
    fn packet(&mut self, limit: Duration) -> Result<Option<Packet>> {
        let deadline = Instant::now() + limit;
        loop {
            match self.coming.take() {
                Ok(None) => {}
                Ok(packet) => return Ok(packet),
                Err(no_packet) => return Err(self.fault(&no_packet.to_string())),
            }
            // What has come is read, however late it is: it may be this program that was held up.
            let left = deadline.saturating_duration_since(Instant::now());
            let left = left.max(Duration::from_millis(1));
            let mut piece = [0; 8192];
            let read = self.stream.set_read_timeout(Some(left));
            match read.and_then(|()| self.stream.read(&mut piece)) {
                Ok(0) => return Err(self.fault("ended the connection in the middle")),
                Ok(read) => self.coming.add(&piece[..read]),
                Err(error) if is_timeout(&error) => return Ok(None),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => {
                    return Err(self.fault(&format!("ended the connection: {}", plain(&error))));
                }
            }
        }
    }

    fn fault(&self, why: &str) -> Error {
        fault(self.remote, why.to_owned())
    }
}

fn fault(remote: &Remote, why: String) -> Error {
    Error::Console(ConsoleFault::Remote {
        address: remote.address.clone(),
        why,
    })
}

fn connect(address: &str) -> io::Result<TcpStream> {
    let mut last = io::Error::from(io::ErrorKind::NotFound);
    for address in address.to_socket_addrs()? {
        match TcpStream::connect_timeout(&address, LIMIT) {
            Ok(stream) => {
                stream.set_write_timeout(Some(LIMIT))?;
                stream.set_nodelay(true)?;
                return Ok(stream);
            }
            Err(error) => last = error,
        }
    }
    Err(last)
}

fn is_timeout(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut
    )
}

fn lines(answer: &[u8]) -> Vec<String> {
    let text = text::line(answer);
    let lines = text.lines().map(|line| as_seen(line).into_owned());
    lines.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use lantern_core::family::Listing;
    use std::net::TcpListener;
    use std::thread::{self, JoinHandle};

    fn packet(number: i32, kind: i32, text: &[u8]) -> Vec<u8> {
        let text = text.into();
        Packet { number, kind, text }.bytes()
    }

    /// A server that sends what is stated, whatever it is asked, each after one packet has come.
    fn server(sends: Vec<Vec<u8>>) -> (Remote, JoinHandle<()>) {
        let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
        let remote = Remote {
            address: listener.local_addr().unwrap().to_string(),
            password_env: None,
            password_file: None,
        };
        let thread = thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let stays = sends.last().is_some_and(Vec::is_empty);
            for bytes in sends {
                let mut length = [0; 4];
                if stream.read_exact(&mut length).is_err() {
                    return;
                }
                let mut rest = vec![0; i32::from_le_bytes(length) as usize];
                stream.read_exact(&mut rest).unwrap();
                // Cut in the middle of a number, as networks do.
                let (first, second) = bytes.split_at(bytes.len().min(3));
                stream.write_all(first).unwrap();
                stream.flush().unwrap();
                thread::sleep(Duration::from_millis(5));
                let _ = stream.write_all(second);
            }
            // Some keep the connection and say no more.
            if stays {
                let _ = stream.read(&mut [0]);
            }
        });
        (remote, thread)
    }

    /// What comes of asking for a list that ends with `end.`.
    fn asked(mut sends: Vec<Vec<u8>>) -> Result<String> {
        let listing = "ask = 'list'\nline = '(?P<id>.+)'\nend = '^end\\.'";
        let listing: Listing = toml_edit::de::from_str(listing).unwrap();
        let login = [packet(1, ANSWER, b""), packet(1, LOGIN_ANSWER, b"")].concat();
        sends.insert(0, login);
        let (remote, thread) = server(sends);
        let answer = Session::open(&remote, Path::new(""))
            .and_then(|mut session| session.ask("list", Some(&listing.ending())));
        thread.join().unwrap();
        answer.map(|lines| lines.join("|"))
    }

    #[test]
    fn an_answer_of_several_packets_is_put_together() {
        // A letter of two bytes is cut, too.
        let parts = [
            packet(2, ANSWER, b"a\nb\xc3"),
            packet(2, ANSWER, b"\xa4r\nend."),
        ]
        .concat();
        assert_eq!(asked(vec![parts]).unwrap(), "a|b\u{e4}r|end.");
    }

    #[test]
    fn what_was_cut_off_at_its_longest_goes_on_behind_the_end_line() {
        let names = "x".repeat(CUT);
        let first = packet(2, ANSWER, format!("end. {names}").as_bytes());
        let rest = packet(2, ANSWER, b"yz");
        let echo = packet(3, ANSWER, b"");
        let whole = format!("end. {names}yz");
        // By the echo behind it, or where none comes, by silence.
        for last in [[rest.clone(), echo].concat(), rest] {
            assert_eq!(asked(vec![first.clone(), last, vec![]]).unwrap(), whole);
        }
    }

    #[test]
    fn an_answer_without_its_end_is_none() {
        let echo = packet(3, ANSWER, b"");
        let error = asked(vec![packet(2, ANSWER, b"no such command"), echo]).unwrap_err();
        let wanted = ConsoleFault::NoAnswer {
            line: "list".into(),
        };
        assert_eq!(error.to_string(), wanted.to_string());
    }

    #[test]
    fn what_is_no_answer_is_an_error() {
        let cases = [
            (
                vec![packet(2, ANSWER, b"a")[..9].to_vec()],
                "ended the connection",
            ),
            (
                vec![b"HTTP/1.1 400 Bad Request\r\n".to_vec()],
                "is something else",
            ),
            (vec![[[0xff; 4], [0; 4]].concat()], "is something else"),
            (vec![], "ended the connection"),
        ];
        for (sends, expected) in cases {
            let error = asked(sends).unwrap_err().to_string();
            assert!(error.contains(expected), "{error}");
        }
    }

    #[test]
    fn a_wrong_password_is_said_and_not_shown() {
        let (mut remote, thread) = server(vec![packet(REFUSED, LOGIN_ANSWER, b"")]);
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("secret"), "swordfern\n").unwrap();
        remote.password_file = Some("secret".into());
        let error = Session::open(&remote, dir.path())
            .err()
            .unwrap()
            .to_string();
        thread.join().unwrap();
        assert!(error.ends_with("refuses the password"), "{error}");
        assert!(!error.contains("swordfern"));
        remote.password_file = None;
        remote.password_env = Some("LANTERN_TEST_NO_SUCH_VARIABLE".into());
        let error = Session::open(&remote, dir.path())
            .err()
            .unwrap()
            .to_string();
        assert!(
            error.contains("LANTERN_TEST_NO_SUCH_VARIABLE is not set"),
            "{error}"
        );
    }
}
