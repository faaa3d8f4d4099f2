//! One connection to a server of FTP (RFC 959), over which several commands can be sent before the first is answered.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::ops::{Deref, DerefMut};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;
use suppaftp::types::Response;
use suppaftp::{
    FtpError, FtpResult, ImplFtpStream, RustlsConnector, Status, TlsConnector, TlsStream,
};

/// So long it is waited for a second answer, where it is tried whether a server reads what is sent before it has answered.
const TRIAL: Duration = Duration::from_secs(3);
/// A reply is no longer, in bytes.
const LONGEST: u64 = 64 << 10;

type Tls = <RustlsConnector as TlsConnector>::Stream;

/// A connection with its commands; those of the library wait for each answer.
pub struct Line {
    client: ImplFtpStream<Secured>,
    /// What the commands go over, behind TLS.
    secured: Option<Shared>,
}

impl Deref for Line {
    type Target = ImplFtpStream<Secured>;

    fn deref(&self) -> &Self::Target {
        &self.client
    }
}

impl DerefMut for Line {
    fn deref_mut(&mut self) -> &mut Self::Target {
        &mut self.client
    }
}

impl Line {
    /// One in the clear.
    pub fn plain(client: ImplFtpStream<Secured>) -> Line {
        Line {
            client,
            secured: None,
        }
    }

    /// Goes on behind TLS.
    ///
    /// # Errors
    /// When the other end cannot, or is not believed.
    pub fn into_secure(self, tls: RustlsConnector, host: &str) -> FtpResult<Line> {
        let first = Arc::new(OnceLock::new());
        let connector = Connector {
            tls,
            first: Arc::clone(&first),
        };
        let client = self.client.into_secure(connector, host)?;
        Ok(Line {
            client,
            secured: first.get().cloned(),
        })
    }

    /// Whether the other end reads a command that comes before the one ahead of it is answered; the line is of no use where it does not.
    pub fn is_answered_ahead(&mut self) -> bool {
        let waits = self.get_ref().read_timeout();
        let limited = self.get_ref().set_read_timeout(Some(TRIAL));
        let is_answered = limited.is_ok()
            && self
                .ahead(&["NOOP".to_owned(), "NOOP".to_owned()])
                .iter()
                .all(Result::is_ok);
        let restored = waits.and_then(|waits| self.get_ref().set_read_timeout(waits));
        is_answered && restored.is_ok()
    }

    /// Renames, each from its first place to its second; that of one that fails leaves the others as they are.
    ///
    /// # Errors
    /// Each its own. After a break nobody knows of what has no answer whether it was done.
    pub fn rename_ahead(&mut self, renames: &[(String, String)]) -> Vec<FtpResult<()>> {
        let commands = renames
            .iter()
            .flat_map(|(from, to)| [format!("RNFR {from}"), format!("RNTO {to}")]);
        let commands: Vec<String> = commands.collect();
        let mut replies = self.ahead(&commands).into_iter();
        let renamed = renames.iter().map(|_| {
            let (named, renamed) = (replies.next(), replies.next());
            let (Some(named), Some(renamed)) = (named, renamed) else {
                return Err(FtpError::BadResponse);
            };
            expected(named?, &[Status::RequestFilePending])?;
            expected(
                renamed?,
                &[Status::RequestedFileActionOk, Status::CommandOk],
            )
        });
        renamed.collect()
    }

    /// The replies to some commands that are sent in one go; after a break there are fewer, of which the last is that.
    fn ahead(&mut self, commands: &[String]) -> Vec<FtpResult<Response>> {
        if commands.iter().any(|it| it.contains(['\r', '\n', '\0'])) {
            let refused = io::Error::new(io::ErrorKind::InvalidInput, "a name of several lines");
            return vec![Err(FtpError::ConnectionError(refused))];
        }
        let text: String = commands.iter().map(|it| format!("{it}\r\n")).collect();
        match &mut self.secured {
            Some(secured) => exchanged(secured, &text, commands.len()),
            None => exchanged(&mut &*self.client.get_ref(), &text, commands.len()),
        }
    }
}

fn exchanged(
    mut stream: &mut (impl Read + Write),
    text: &str,
    many: usize,
) -> Vec<FtpResult<Response>> {
    let sent = stream.write_all(text.as_bytes());
    if let Err(error) = sent.and_then(|()| stream.flush()) {
        return vec![Err(FtpError::ConnectionError(error))];
    }
    let mut reader = BufReader::new(&mut stream);
    let mut replies = Vec::new();
    while replies.len() < many {
        let reply = reply(&mut reader);
        let is_last = reply.is_err();
        replies.push(reply);
        if is_last {
            return replies;
        }
    }
    // What nobody asked for would be taken for the answer to the next question.
    if !reader.buffer().is_empty() {
        replies.pop();
        replies.push(Err(FtpError::BadResponse));
    }
    replies
}

/// One reply, of a line or of several (RFC 959, section 4.2): the last has a blank behind the number.
fn reply(reader: &mut impl BufRead) -> FtpResult<Response> {
    let mut reader = reader.take(LONGEST);
    let mut body = Vec::new();
    loop {
        let begins = body.len();
        let read = reader.read_until(b'\n', &mut body);
        if read.map_err(FtpError::ConnectionError)? == 0 {
            let ended = io::Error::from(io::ErrorKind::UnexpectedEof);
            return Err(FtpError::ConnectionError(ended));
        }
        let line = &body[begins..];
        let number = line.get(..3).filter(|it| it.iter().all(u8::is_ascii_digit));
        let number = number.and_then(|it| std::str::from_utf8(it).ok()?.parse::<u32>().ok());
        match (number, line.get(3)) {
            (Some(number), Some(b' ' | b'\r' | b'\n')) => {
                return Ok(Response::new(Status::from(number), body));
            }
            (None, _) if begins == 0 => return Err(FtpError::BadResponse),
            _ => {}
        }
    }
}

fn expected(reply: Response, expected: &[Status]) -> FtpResult<()> {
    match expected.contains(&reply.status) {
        true => Ok(()),
        false => Err(FtpError::UnexpectedResponse(reply)),
    }
}

/// TLS for the library's connections. Of the first, which is that of the commands, a hold is kept.
#[derive(Debug)]
struct Connector {
    tls: RustlsConnector,
    first: Arc<OnceLock<Shared>>,
}

impl TlsConnector for Connector {
    type Stream = Secured;

    fn connect(&self, domain: &str, stream: TcpStream) -> FtpResult<Secured> {
        let socket = stream.try_clone().map_err(FtpError::ConnectionError)?;
        let shared = Shared(Arc::new(Mutex::new(self.tls.connect(domain, stream)?)));
        // Those for data come later, and are not kept.
        let _ = self.first.set(shared.clone());
        Ok(Secured { shared, socket })
    }
}

/// A connection behind TLS.
#[derive(Debug)]
pub struct Secured {
    shared: Shared,
    socket: TcpStream,
}

impl TlsStream for Secured {
    type InnerStream = Shared;

    fn tcp_stream(self) -> FtpResult<TcpStream> {
        Ok(self.socket)
    }

    fn get_ref(&self) -> &TcpStream {
        &self.socket
    }

    fn mut_ref(&mut self) -> &mut Shared {
        &mut self.shared
    }
}

/// What goes over a connection behind TLS.
#[derive(Debug, Clone)]
pub struct Shared(Arc<Mutex<Tls>>);

impl Shared {
    fn held(&self) -> MutexGuard<'_, Tls> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Read for Shared {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        self.held().mut_ref().read(bytes)
    }
}

impl Write for Shared {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.held().mut_ref().write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.held().mut_ref().flush()
    }
}

#[cfg(test)]
mod tests {
    use super::reply;

    #[test]
    fn replies_are_told_apart() {
        let said = "350 go on\r\n250-it\r\n 251 is\r\n250 done\r\n226\r\n";
        let mut reader = said.as_bytes();
        let statuses: Vec<u32> = (0..3)
            .map(|_| reply(&mut reader).unwrap().status.code())
            .collect();
        assert_eq!(statuses, [350, 250, 226]);
        assert!(reply(&mut reader).is_err(), "nothing more came");
        for strange in ["hello\r\n", "", "25", "2x0 \r\n", "250-it\r\n"] {
            assert!(reply(&mut strange.as_bytes()).is_err(), "{strange}");
        }
        let endless = "250-and so on\r\n".repeat(10_000);
        assert!(reply(&mut endless.as_bytes()).is_err());
    }
}
