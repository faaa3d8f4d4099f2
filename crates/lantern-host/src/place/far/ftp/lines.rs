//! The connections to a host, and what comes over one when something is refused.

use super::line::{Line, Secured};
use super::listings::wanted_facts;
#[cfg(test)]
use crate::place::far::cut::{self, How};
use crate::place::far::{Address, Means, Password, Scheme};
use crate::place::here;
use crate::told::plain;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use std::io;
use std::net::{SocketAddr, TcpStream, ToSocketAddrs};
use std::path::Path;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use suppaftp::types::{FileType, Response};
use suppaftp::{FtpError, ImplFtpStream, Mode, RustlsConnector, Status};

/// So many connections there are at once, where nothing else is stated, and the host lets one have them.
const CONNECTIONS: usize = 8;
/// So long an answer may take.
const ANSWER: Duration = Duration::from_secs(60);
/// So long nothing more may be taken of what is sent. There are servers that neither take nor say anything more when their disk is full.
pub const TAKEN: Duration = Duration::from_secs(if cfg!(test) { 6 } else { 60 });
/// How long a connection may take to come about.
const CONNECT: Duration = Duration::from_secs(20);
/// So long it is waited, each time, where a host that says that there are too many connections is asked again.
const MOMENTS: [Duration; 5] = [
    Duration::from_millis(200),
    Duration::from_millis(500),
    Duration::from_millis(1500),
    Duration::from_millis(3000),
    Duration::from_millis(5000),
];
/// A connection that nothing went over for so long is asked whether it is still there.
const IDLE: Duration = Duration::from_secs(20);
/// The port where nothing else is stated.
const PORT: u16 = 21;

/// The connections to a host.
#[derive(Clone)]
pub struct Lines(Arc<Shared>);

struct Shared {
    address: Address,
    password: String,
    tls: Option<Arc<ClientConfig>>,
    /// So many may be asked for.
    most: usize,
    pool: Mutex<Pool>,
    freed: Condvar,
}

struct Pool {
    idle: Vec<(Line, Instant)>,
    open: usize,
    /// So many there may be, as far as the host has let one have them.
    most: usize,
}

impl Lines {
    /// Those to a host, of which none is open yet.
    ///
    /// # Errors
    /// When the password, or whom to believe, is not where it is stated to be.
    pub fn to(address: &Address, means: &Means) -> io::Result<Lines> {
        let password = match &means.password {
            Some(Password::Env(name)) => std::env::var(name).map_err(|_| {
                io::Error::new(
                    io::ErrorKind::InvalidInput,
                    format!("the variable {name}, which holds the password, is not set"),
                )
            })?,
            Some(Password::File(path)) => {
                let text = here::read_text(path);
                let text = text.map_err(|error| {
                    io::Error::new(io::ErrorKind::InvalidInput, error.to_string())
                })?;
                text.lines().next().unwrap_or_default().to_owned()
            }
            None if address.user.is_none() => "anonymous@".into(),
            None => {
                return Err(io::Error::new(
                    io::ErrorKind::InvalidInput,
                    "nothing says where the password is",
                ));
            }
        };
        let most = means.connections.unwrap_or(CONNECTIONS).max(1);
        Ok(Lines(Arc::new(Shared {
            address: address.clone(),
            password,
            tls: match address.scheme {
                Scheme::Ftps => Some(believing(means.ca.as_deref())?),
                Scheme::Sftp | Scheme::Ssh | Scheme::Ftp => None,
            },
            most,
            pool: Mutex::new(Pool {
                idle: Vec::new(),
                open: 0,
                most,
            }),
            freed: Condvar::new(),
        })))
    }

    /// So many there are at once.
    pub fn most(&self) -> usize {
        self.0.most
    }

    /// Whether the line is cut, in a test, at what is asked now.
    #[cfg(test)]
    pub fn cut(&self) -> Option<How> {
        cut::is_due(&self.0.address.host)
    }

    fn pool(&self) -> MutexGuard<'_, Pool> {
        self.0.pool.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Does something over a connection that nothing else goes over meanwhile. One that breaks is not used again, and what was asked over
    /// it is not asked again: nobody knows whether it was done.
    pub fn with<T>(&self, work: impl FnOnce(&mut Line) -> Result<T, FtpError>) -> io::Result<T> {
        let mut line = self.taken()?;
        #[cfg(test)]
        if let Some(how) = self.cut() {
            if how == How::After {
                let _ = work(&mut line);
            }
            self.closed();
            return Err(told(&FtpError::BadResponse));
        }
        let done = work(&mut line);
        match &done {
            Err(error) if is_break(error) => self.closed(),
            _ => self.given_back(line),
        }
        done.map_err(|error| told(&error))
    }

    /// Renames, each from its first place to its second, sent one after another without waiting for answers; that of one that fails leaves
    /// the others as they are.
    ///
    /// # Errors
    /// Each its own. After a break nobody knows of what has no answer whether it was done.
    pub fn rename_ahead(&self, renames: &[(String, String)]) -> Vec<io::Result<()>> {
        let mut line = match self.taken() {
            Ok(line) => line,
            Err(error) => {
                let again = |_| Err(io::Error::new(error.kind(), error.to_string()));
                return renames.iter().map(again).collect();
            }
        };
        #[cfg(test)]
        for index in 0..renames.len() {
            if let Some(how) = self.cut() {
                line.rename_ahead(&renames[..index + usize::from(how == How::After)]);
                self.closed();
                let heard = |at| match at < index {
                    true => Ok(()),
                    false => Err(told(&FtpError::BadResponse)),
                };
                return (0..renames.len()).map(heard).collect();
            }
        }
        let renamed = line.rename_ahead(renames);
        match renamed.iter().any(|it| it.as_ref().is_err_and(is_break)) {
            true => self.closed(),
            false => self.given_back(line),
        }
        let renamed = renamed.into_iter();
        renamed.map(|it| it.map_err(|error| told(&error))).collect()
    }

    /// A connection of one's own.
    pub fn taken(&self) -> io::Result<Line> {
        let mut pool = self.pool();
        loop {
            if let Some((mut line, since)) = pool.idle.pop() {
                if since.elapsed() < IDLE {
                    return Ok(line);
                }
                drop(pool);
                if line.noop().is_ok() {
                    return Ok(line);
                }
                self.closed();
                pool = self.pool();
                continue;
            }
            if pool.open < pool.most {
                pool.open += 1;
                let is_only = pool.open == 1;
                drop(pool);
                let refused = match self.connected(is_only) {
                    Ok(line) => return Ok(line),
                    Err(refused) => refused,
                };
                self.closed();
                pool = self.pool();
                // Many hosts let nobody have more than a few: it has to do with fewer than are open, so that one is left for others.
                if pool.open == 0 {
                    return Err(refused);
                }
                pool.most = pool.most.min(pool.open - 1).max(1);
                continue;
            }
            pool = self
                .0
                .freed
                .wait(pool)
                .unwrap_or_else(PoisonError::into_inner);
        }
    }

    pub fn given_back(&self, line: Line) {
        let mut pool = self.pool();
        match pool.open > pool.most {
            true => pool.open -= 1,
            false => pool.idle.push((line, Instant::now())),
        }
        self.0.freed.notify_one();
    }

    /// One is no more.
    pub fn closed(&self) {
        self.pool().open -= 1;
        self.0.freed.notify_one();
    }

    /// A new one. Of the only one it is waited for a moment that others, which somebody has just closed, are gone there, too.
    fn connected(&self, is_only: bool) -> io::Result<Line> {
        #[cfg(test)]
        if cut::is_gone(&self.0.address.host) {
            return Err(told(&FtpError::BadResponse));
        }
        let Shared {
            address,
            password,
            tls,
            ..
        } = &*self.0;
        // Tests give each folder a host of its own.
        let host = match cfg!(test) && address.host.ends_with(".example") {
            true => "127.0.0.1",
            false => &address.host,
        };
        let greeted = || {
            let stream = dial(host, address.port.unwrap_or(PORT))?;
            let mode = match stream.peer_addr()?.is_ipv6() {
                true => Mode::ExtendedPassive,
                false => Mode::Passive,
            };
            Ok((ImplFtpStream::connect_with_stream(stream), mode))
        };
        let is_full = |greeted: &io::Result<(Result<ImplFtpStream<Secured>, FtpError>, Mode)>| {
            let Ok((Err(FtpError::UnexpectedResponse(said)), _)) = greeted else {
                return false;
            };
            said.status == Status::NotAvailable
        };
        let mut first = greeted();
        for wait in MOMENTS.iter().filter(|_| is_only) {
            if !is_full(&first) {
                break;
            }
            std::thread::sleep(*wait);
            first = greeted();
        }
        let (line, mode) = first?;
        let mut line = line.map_err(|error| told(&error))?;
        line.set_mode(mode);
        // A host behind a gate names an address that leads nowhere.
        line.set_passive_nat_workaround(true);
        let mut line = Line::plain(line.passive_stream_builder(|to| {
            let data =
                TcpStream::connect_timeout(&to, CONNECT).map_err(FtpError::ConnectionError)?;
            waits(&data).map_err(FtpError::ConnectionError)?;
            Ok(data)
        }));
        let entered = (|| {
            if let Some(tls) = tls {
                let tls = RustlsConnector::from(Arc::clone(tls));
                line = line.into_secure(tls, host)?;
            }
            let user = address.user.as_deref().unwrap_or("anonymous");
            line.login(user, password)?;
            line.transfer_type(FileType::Binary)?;
            // What it does not know it does not say.
            let knows = line.feat().unwrap_or_default();
            if knows.contains_key("UTF8") {
                let _ = line.opts("UTF8", Some("ON"));
            }
            if let Some(Some(facts)) = knows.get("MLST") {
                let _ = line.opts("MLST", Some(wanted_facts(facts)));
            }
            Ok(line)
        })();
        entered.map_err(|error| match &error {
            FtpError::UnexpectedResponse(said) if said.status == Status::NotLoggedIn => {
                io::Error::new(
                    io::ErrorKind::PermissionDenied,
                    format!("the other end does not let this user in: {}", words(said)),
                )
            }
            _ => told(&error),
        })
    }
}

/// Opens a connection, on which nothing is waited for without an end.
fn dial(host: &str, port: u16) -> io::Result<TcpStream> {
    let found = (host, port).to_socket_addrs();
    let found = found.map_err(|_| io::Error::other("there is no such host"))?;
    let mut found: Vec<SocketAddr> = found.collect();
    found.sort_by_key(SocketAddr::is_ipv6);
    let mut last = io::Error::other("there is no such host");
    for to in found {
        match TcpStream::connect_timeout(&to, CONNECT) {
            Ok(stream) => {
                waits(&stream)?;
                return Ok(stream);
            }
            Err(error) => last = error,
        }
    }
    Err(io::Error::new(
        io::ErrorKind::ConnectionAborted,
        format!("{host}, port {port}, is not reached: {}", plain(&last)),
    ))
}

fn waits(stream: &TcpStream) -> io::Result<()> {
    stream.set_read_timeout(Some(ANSWER))?;
    stream.set_write_timeout(Some(TAKEN))?;
    stream.set_nodelay(true)
}

/// Whether nothing can be asked over a connection any more.
pub fn is_break(error: &FtpError) -> bool {
    match error {
        FtpError::UnexpectedResponse(said) => said.status == Status::NotAvailable,
        _ => true,
    }
}

/// Whether a moment was waited for in vain.
pub fn waited_in_vain(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut
    )
}

/// What the other end says, without the number in front.
fn words(said: &Response) -> String {
    let text = String::from_utf8_lossy(&said.body).into_owned();
    let text = text.trim();
    let without = text.strip_prefix(&said.status.code().to_string());
    without
        .unwrap_or(text)
        .trim_start_matches(['-', ' '])
        .to_owned()
}

/// An answer of the other end, or the end of the connection, as the system's errors are told.
pub fn told(error: &FtpError) -> io::Error {
    let FtpError::UnexpectedResponse(said) = error else {
        if matches!(error, FtpError::ConnectionError(error) if waited_in_vain(error)) {
            let why = format!("nothing came back for {} seconds", ANSWER.as_secs());
            return io::Error::new(io::ErrorKind::TimedOut, why);
        }
        let why = match error {
            FtpError::ConnectionError(error) => plain(error),
            FtpError::SecureError(why) => why.clone(),
            other => other.to_string(),
        };
        return io::Error::new(
            io::ErrorKind::ConnectionAborted,
            format!("the line has ended: {why}"),
        );
    };
    let kind = match said.status {
        Status::NotAvailable => io::ErrorKind::ConnectionAborted,
        Status::ExceededStorage => io::ErrorKind::StorageFull,
        Status::BadCommand | Status::NotImplemented => io::ErrorKind::Unsupported,
        _ => io::ErrorKind::Other,
    };
    io::Error::new(kind, format!("the other end refuses: {}", words(said)))
}

pub fn is_refused(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::Other
}

/// Believes whom the machine believes, and besides whom a file names.
fn believing(ca: Option<&Path>) -> io::Result<Arc<ClientConfig>> {
    let mut roots = RootCertStore::empty();
    let found = rustls_native_certs::load_native_certs();
    roots.add_parsable_certificates(found.certs);
    if let Some(path) = ca {
        let certificates = CertificateDer::pem_file_iter(path)
            .and_then(Iterator::collect::<Result<Vec<_>, _>>)
            .map_err(|error| io::Error::other(format!("{}: {error}", path.display())))?;
        if roots.add_parsable_certificates(certificates).0 == 0 {
            let why = format!("{} holds no certificate", path.display());
            return Err(io::Error::other(why));
        }
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    // A connection for data has to go on from the session of the one for commands, any number of times: in later versions each ticket is
    // good for one.
    let config = ClientConfig::builder_with_provider(provider)
        .with_protocol_versions(&[&rustls::version::TLS12])
        .map_err(io::Error::other)?
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(Arc::new(config))
}
