//! A folder on another machine, reached by FTP (RFC 959, RFC 3659), behind TLS or in the clear.
//!
//! One connection carries one thing at a time, so there are several. A server that knows the listings of RFC 3659 tells times in seconds; of
//! others, what they print for people is read, and times are as coarse as that.

use super::folders::Folders;
use super::reading::{Reading, Stretches};
use super::{
    Address, Held, Means, Meta, NewFile, Password, Place, Scheme, Sort, Source, Stamp, Way, lock,
    unsupported,
};
use crate::place::{OWNERS_ALONE, here};
use crate::told::plain;
use lantern_core::operation::is_own;
use lantern_core::path::RelPath;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fmt;
use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpStream, ToSocketAddrs};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, UNIX_EPOCH};
use suppaftp::list::{File, ListParser, PosixPexQuery};
use suppaftp::types::{FileType, Response};
use suppaftp::{FtpError, Mode, RustlsConnector, RustlsFtpStream, Status};

/// So many connections there are at once, where nothing else is stated, and the host lets one have them.
const CONNECTIONS: usize = 8;
/// So long an answer may take.
const ANSWER: Duration = Duration::from_secs(60);
/// So long nothing more may be taken of what is sent. There are servers that neither take nor say anything more when their disk is full.
const TAKEN: Duration = Duration::from_secs(if cfg!(test) { 6 } else { 60 });
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

/// A folder on another machine.
pub struct Ftp {
    /// The address, for messages.
    shown: PathBuf,
    folders: Folders,
    way: Way,
    /// Whether the other end knows the listings of RFC 3659.
    tells_facts: bool,
    lines: Lines,
}

impl fmt::Debug for Ftp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Ftp").field("shown", &self.shown).finish()
    }
}

/// The connections to a host.
#[derive(Clone)]
struct Lines(Arc<Shared>);

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
    idle: Vec<(RustlsFtpStream, Instant)>,
    open: usize,
    /// So many there may be, as far as the host has let one have them.
    most: usize,
}

impl Lines {
    fn pool(&self) -> MutexGuard<'_, Pool> {
        self.0.pool.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Does something over a connection that nothing else goes over meanwhile. One that breaks is not used again, and what was asked over
    /// it is not asked again: nobody knows whether it was done.
    fn with<T>(
        &self,
        work: impl FnOnce(&mut RustlsFtpStream) -> Result<T, FtpError>,
    ) -> io::Result<T> {
        let mut line = self.taken()?;
        #[cfg(test)]
        if let Some(how) = super::cut::is_due(&self.0.address.host) {
            if how == super::cut::How::After {
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

    /// A connection of one's own.
    fn taken(&self) -> io::Result<RustlsFtpStream> {
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

    fn given_back(&self, line: RustlsFtpStream) {
        let mut pool = self.pool();
        match pool.open > pool.most {
            true => pool.open -= 1,
            false => pool.idle.push((line, Instant::now())),
        }
        self.0.freed.notify_one();
    }

    /// One is no more.
    fn closed(&self) {
        self.pool().open -= 1;
        self.0.freed.notify_one();
    }

    /// A new one. Of the only one it is waited for a moment that others, which somebody has just closed, are gone there, too.
    fn connected(&self, is_only: bool) -> io::Result<RustlsFtpStream> {
        #[cfg(test)]
        if super::cut::is_gone(&self.0.address.host) {
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
            Ok((RustlsFtpStream::connect_with_stream(stream), mode))
        };
        let is_full = |greeted: &io::Result<(Result<RustlsFtpStream, FtpError>, Mode)>| {
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
        let mut line = line.passive_stream_builder(|to| {
            let data =
                TcpStream::connect_timeout(&to, CONNECT).map_err(FtpError::ConnectionError)?;
            waits(&data).map_err(FtpError::ConnectionError)?;
            Ok(data)
        });
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
fn is_break(error: &FtpError) -> bool {
    match error {
        FtpError::UnexpectedResponse(said) => said.status == Status::NotAvailable,
        _ => true,
    }
}

/// Whether a moment was waited for in vain.
fn waited_in_vain(error: &io::Error) -> bool {
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
fn told(error: &FtpError) -> io::Error {
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

fn is_refused(error: &io::Error) -> bool {
    error.kind() == io::ErrorKind::Other
}

/// Of the facts that a server can tell, those that are wanted.
fn wanted_facts(offered: &str) -> String {
    const WANTED: [&str; 6] = [
        "type",
        "size",
        "modify",
        "unix.mode",
        "unix.uid",
        "unix.gid",
    ];
    let offered = offered
        .split(';')
        .map(|fact| fact.trim().trim_end_matches('*'));
    let wanted = offered.filter(|fact| WANTED.contains(&&*fact.to_ascii_lowercase()));
    wanted.map(|fact| format!("{fact};")).collect()
}

/// The rights that a line of facts tells; none where it tells none.
fn rights_in(facts: &str) -> Option<u32> {
    let facts = facts.to_ascii_lowercase();
    let mut facts = facts.split(';').map(str::trim);
    let mode = facts.find_map(|fact| fact.strip_prefix("unix.mode="))?;
    // Some write it as their own language does.
    let mode = mode.strip_prefix("0o").unwrap_or(mode);
    Some(u32::from_str_radix(mode, 8).ok()? & 0o7777)
}

/// A line of facts without that of rights, which not every server writes as others read it.
fn without_rights(line: &str) -> String {
    let (facts, name) = line.split_once("; ").unwrap_or((line, ""));
    let facts = facts.split(';');
    let facts = facts.filter(|fact| !fact.trim().to_ascii_lowercase().starts_with("unix.mode="));
    let facts: Vec<&str> = facts.collect();
    format!("{}; {name}", facts.join(";"))
}

/// What a line of facts says of something.
fn meta_in(facts: &str, file: &File) -> Meta {
    let meta = meta_of(file);
    let usual = if meta.is_folder() { 0o755 } else { 0o644 };
    Meta {
        rights: rights_in(facts).unwrap_or(usual),
        ..meta
    }
}

/// What the other end says of something.
fn meta_of(file: &File) -> Meta {
    let sort = match () {
        () if file.is_symlink() => Sort::Link,
        () if file.is_directory() => Sort::Folder,
        () if file.is_file() => Sort::File,
        () => Sort::Other,
    };
    let of = |who: PosixPexQuery, shift: u32| {
        let who = || match who {
            PosixPexQuery::Owner => PosixPexQuery::Owner,
            PosixPexQuery::Group => PosixPexQuery::Group,
            PosixPexQuery::Others => PosixPexQuery::Others,
        };
        let bits = u32::from(file.can_read(who())) << 2
            | u32::from(file.can_write(who())) << 1
            | u32::from(file.can_execute(who()));
        bits << shift
    };
    let rights =
        of(PosixPexQuery::Owner, 6) | of(PosixPexQuery::Group, 3) | of(PosixPexQuery::Others, 0);
    let written = file.modified().duration_since(UNIX_EPOCH);
    let written = written.map_or(0, |since| since.as_secs() as i64 * 1_000_000_000);
    Meta {
        sort,
        stamp: Stamp {
            bytes: if sort == Sort::File {
                file.size() as u64
            } else {
                0
            },
            modified_ns: written,
            changed_ns: written,
            inode: 0,
        },
        rights,
        disk: 0,
        owner: file.uid().unwrap_or(0),
        group: file.gid().unwrap_or(0),
    }
}

/// Reads a line that is printed for people, as Unix or DOS would.
fn read_line(line: &str) -> Option<File> {
    ListParser::parse_posix(line)
        .or_else(|_| ListParser::parse_dos(line))
        .ok()
}

/// The last part of a path.
fn last_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

impl Ftp {
    /// Opens a folder.
    ///
    /// # Errors
    /// When the other end is not reached, does not let one in, or there is no such folder.
    pub fn open(address: &Address, means: &Means) -> io::Result<Ftp> {
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
        let lines = Lines(Arc::new(Shared {
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
        }));
        let found = lines.with(|line| {
            let knows = line.feat().unwrap_or_default();
            if !address.path.is_empty() {
                line.cwd(&address.path)?;
            }
            let tells_facts = knows.contains_key("MLST") || knows.contains_key("MLSD");
            Ok((line.pwd()?, tells_facts))
        });
        let (top, tells_facts) = found.map_err(|error| match is_refused(&error) {
            true => io::Error::new(io::ErrorKind::NotFound, error.to_string()),
            false => error,
        })?;
        Ok(Ftp {
            shown: PathBuf::from(address.to_string()),
            folders: Folders::below(&top),
            way: (address.clone(), means.clone()),
            tells_facts,
            lines,
        })
    }

    fn whole(&self, path: &RelPath) -> String {
        self.folders.whole(path)
    }

    fn on_the_way(&self, path: &RelPath) -> io::Result<()> {
        let sort = |folder: &RelPath| Ok(self.seen(folder)?.map(|meta| meta.sort));
        self.folders.on_the_way(path, sort)
    }

    /// What lies at a path; none when there is nothing.
    fn seen(&self, path: &RelPath) -> io::Result<Option<Meta>> {
        let whole = self.whole(path);
        if self.tells_facts {
            let line = self.lines.with(|line| line.mlst(Some(&whole)));
            return match line {
                Ok(line) => match ListParser::parse_mlst(&without_rights(line.trim())) {
                    Ok(file) => Ok(Some(meta_in(&line, &file))),
                    Err(_) => Err(strange(&line)),
                },
                Err(error) if is_refused(&error) => Ok(None),
                Err(error) => Err(error),
            };
        }
        // A file is listed by itself; of a folder that would show what is in it.
        if self.has_size(path)? {
            let listed = self.lines.with(|line| line.list(Some(&whole)))?;
            let file = listed.iter().find_map(|line| read_line(line));
            if let Some(file) = file {
                return Ok(Some(meta_of(&file)));
            }
        }
        let inside = match self.listed(path.folder().as_ref()) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            inside => inside?,
        };
        let mut inside = inside.into_iter();
        let found = inside.find(|(name, _)| name.to_str() == Some(path.name()));
        Ok(found.map(|(_, meta)| meta))
    }

    /// All that lies in one folder. Of one that nobody has seen it is asked first whether it is there, where that can be asked: there are
    /// servers that lose the next connection for data when one was opened for a listing that is then refused.
    fn listed(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>> {
        let whole = self.folders.folder(folder);
        if let Some(folder) = folder.filter(|it| self.tells_facts && !self.folders.is_known(it))
            && self.seen(folder)?.is_none()
        {
            return Err(io::Error::new(io::ErrorKind::NotFound, "it is not there"));
        }
        let lines = match self.tells_facts {
            true => self.lines.with(|line| line.mlsd(Some(&whole))),
            // A folder is gone into first: in a listing's own words, blanks in its path would be several names, and what begins with
            // a dot is not shown by every server.
            false => self.lines.with(|line| {
                line.cwd(&whole)?;
                line.list(Some("-a"))
            }),
        };
        let lines = lines.map_err(|error| match is_refused(&error) {
            true => io::Error::new(io::ErrorKind::NotFound, error.to_string()),
            false => error,
        })?;
        let mut found = Vec::new();
        for line in lines.iter().map(|line| line.trim_end()) {
            if line.is_empty() || !self.tells_facts && line.starts_with("total ") {
                continue;
            }
            if self.tells_facts {
                let facts = line.to_ascii_lowercase();
                // The folder itself, and the one above it.
                if facts.contains("type=cdir;") || facts.contains("type=pdir;") {
                    continue;
                }
            }
            let file = match self.tells_facts {
                true => ListParser::parse_mlsd(&without_rights(line)).ok(),
                false => read_line(line),
            };
            let file = file.ok_or_else(|| strange(line))?;
            let name = last_name(file.name());
            if name != "." && name != ".." {
                let meta = match self.tells_facts {
                    true => meta_in(line, &file),
                    false => meta_of(&file),
                };
                found.push((OsString::from(name), meta));
            }
        }
        Ok(found)
    }

    /// Whether there is something that has a size: what a file has, and with some servers a folder.
    fn has_size(&self, path: &RelPath) -> io::Result<bool> {
        let whole = self.whole(path);
        match self.lines.with(|line| line.size(&whole)) {
            Ok(_) => Ok(true),
            Err(error) if is_refused(&error) => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// Whether something is at a place to which something is to be renamed, in one question where there is nothing: what is not there
    /// cannot be named as what is to be renamed. Where it can be, what is there is looked at. A link that leads nowhere may not be seen.
    fn is_taken(&self, path: &RelPath) -> io::Result<bool> {
        self.on_the_way(path)?;
        if !self.tells_facts {
            let named = format!("RNFR {}", self.whole(path));
            let named = self
                .lines
                .with(|line| line.custom_command(&named, &[Status::RequestFilePending]));
            match named {
                Err(error) if is_refused(&error) => return Ok(false),
                Err(error) => return Err(error),
                Ok(_) => (),
            }
        }
        Ok(self.seen(path)?.is_some())
    }

    /// The error of something that was asked of a path: where nothing is there, that.
    fn of_path(&self, path: &RelPath, error: io::Error) -> io::Error {
        match is_refused(&error) && matches!(self.seen(path), Ok(None)) {
            true => io::Error::new(io::ErrorKind::NotFound, "it is not there"),
            false => error,
        }
    }
}

fn strange(line: &str) -> io::Error {
    io::Error::other(format!(
        "a line of the other end's listing is not understood: {line}"
    ))
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

/// A file that is read, a stretch at a time.
struct Part {
    lines: Lines,
    whole: String,
}

impl Stretches for Part {
    /// Each stretch is a connection of its own, which takes as long as several answers do, and of one that is broken off about so much
    /// is under way.
    const GROWS: u64 = 16;
    const MOST: u64 = 8 << 20;

    fn stretch(&self, from: u64, length: u64) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        let mut line = self.lines.taken()?;
        #[cfg(test)]
        if super::cut::is_due(&self.lines.0.address.host).is_some() {
            self.lines.closed();
            return Err(told(&FtpError::BadResponse));
        }
        let read = (|| {
            line.resume_transfer(from as usize)?;
            let mut data = line.retr_as_stream(&self.whole)?;
            let mut piece = vec![0; 64 << 10];
            while (bytes.len() as u64) < length {
                let wanted = piece.len().min((length - bytes.len() as u64) as usize);
                match data
                    .read(&mut piece[..wanted])
                    .map_err(FtpError::ConnectionError)?
                {
                    0 => break,
                    read => bytes.extend_from_slice(&piece[..read]),
                }
            }
            // Where that was not its end, the other end says that it was broken off, and in the one answer that it owes.
            let is_short = (bytes.len() as u64) < length;
            match data.finish() {
                Err(error) if is_short || is_break(&error) => Err(error),
                _ => Ok(()),
            }
        })();
        match &read {
            Err(error) if is_break(error) => self.lines.closed(),
            _ => self.lines.given_back(line),
        }
        read.map(|()| bytes).map_err(|error| told(&error))
    }
}

type Data = suppaftp::TransferStream<<RustlsConnector as suppaftp::TlsConnector>::Stream>;

/// A file that is being written.
struct Writing {
    lines: Lines,
    whole: String,
    under_way: Mutex<UnderWay>,
}

/// How far it is.
struct UnderWay {
    line: Option<(RustlsFtpStream, Data)>,
    at: u64,
    rights: Option<u32>,
}

impl Writing {
    fn under_way(&self) -> MutexGuard<'_, UnderWay> {
        self.under_way
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
    }
}

fn ended() -> io::Error {
    io::Error::new(
        io::ErrorKind::ConnectionAborted,
        "it was written to its end",
    )
}

impl Write for Writing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let at = self.under_way().at;
        self.write_all_at(bytes, at)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl NewFile for Writing {
    fn write_all_at(&self, bytes: &[u8], offset: u64) -> io::Result<()> {
        let mut under_way = self.under_way();
        if offset != under_way.at {
            return unsupported("writing elsewhere than at its end");
        }
        #[cfg(test)]
        if super::cut::is_due(&self.lines.0.address.host).is_some() {
            drop(under_way.line.take());
            self.lines.closed();
            return Err(told(&FtpError::BadResponse));
        }
        let (line, mut data) = under_way.line.take().ok_or_else(ended)?;
        if let Err(error) = data.write_all(bytes) {
            self.lines.closed();
            if waited_in_vain(&error) {
                let why = format!(
                    "nothing more was taken for {} seconds: the disk there may be full, or a quota reached",
                    TAKEN.as_secs()
                );
                return Err(io::Error::new(io::ErrorKind::TimedOut, why));
            }
            // Why it takes no more, the other end says where it is asked things. How often, differs: the line is not used again.
            let said = data.finish();
            drop(line);
            return Err(match said {
                Err(said) if !is_break(&said) => told(&said),
                _ => told(&FtpError::ConnectionError(error)),
            });
        }
        under_way.line = Some((line, data));
        under_way.at += bytes.len() as u64;
        Ok(())
    }

    /// Ends the transfer: what the other end answers then is all that is known.
    fn sync(&self) -> io::Result<()> {
        let mut under_way = self.under_way();
        let Some((mut line, data)) = under_way.line.take() else {
            return Ok(());
        };
        let finished = data.finish();
        if finished.is_ok()
            && let Some(rights) = under_way.rights
        {
            // A host that does not know it leaves them as they are.
            let _ = line.site(format!("CHMOD {rights:o} {}", self.whole));
        }
        match &finished {
            Ok(()) => self.lines.given_back(line),
            // More may be said of it: the line is not used again.
            Err(_) => self.lines.closed(),
        }
        finished.map_err(|error| told(&error))
    }

    fn set_rights(&self, rights: u32) -> io::Result<()> {
        self.under_way().rights = Some(rights);
        Ok(())
    }

    fn set_attribute(&self, _: &str, _: &[u8]) -> io::Result<()> {
        unsupported("setting an extended attribute")
    }
}

impl Drop for Writing {
    fn drop(&mut self) {
        let _ = self.sync();
    }
}

impl Ftp {
    /// A file to be read.
    fn part(&self, path: &RelPath) -> Part {
        Part {
            lines: self.lines.clone(),
            whole: self.whole(path),
        }
    }

    /// Begins to send a file: a new one, or what comes behind the end of one that is so long.
    fn storing(&self, path: &RelPath, at: u64) -> io::Result<Box<dyn NewFile>> {
        let whole = self.whole(path);
        let mut line = self.lines.taken()?;
        let begun = match at {
            0 => line.put_with_stream(&whole),
            _ => line.append_with_stream(&whole),
        };
        match begun {
            Ok(data) => Ok(Box::new(Writing {
                lines: self.lines.clone(),
                whole,
                under_way: Mutex::new(UnderWay {
                    line: Some((line, data)),
                    at,
                    rights: None,
                }),
            })),
            Err(error) => {
                match is_break(&error) {
                    true => self.lines.closed(),
                    false => self.lines.given_back(line),
                }
                Err(told(&error))
            }
        }
    }
}

impl Place for Ftp {
    fn root(&self) -> &Path {
        &self.shown
    }

    fn at_once(&self) -> usize {
        self.lines.0.most
    }

    fn shell(&self) -> Option<Vec<String>> {
        super::shell(&self.way)
    }

    fn path_there(&self, path: &RelPath) -> Option<String> {
        Some(self.whole(path))
    }

    fn look(&self, path: &RelPath) -> io::Result<Option<Meta>> {
        self.on_the_way(path)?;
        self.seen(path)
    }

    fn list(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Meta)>> {
        let listed = self.listed(folder)?;
        if let Some(folder) = folder {
            self.folders.is_plain(folder);
        }
        let names = listed.iter().filter(|(_, meta)| meta.is_folder());
        for name in names.filter_map(|(name, _)| name.to_str()) {
            let path = match folder {
                Some(folder) => folder.join(name),
                None => RelPath::parse(name),
            };
            if let Ok(path) = path {
                self.folders.is_plain(&path);
            }
        }
        Ok(listed)
    }

    fn list_likely(&self, folders: &[Option<RelPath>]) -> Vec<io::Result<Vec<(OsString, Meta)>>> {
        // Where it can be asked whether one still is there, it is.
        if self.tells_facts {
            let folders = folders.iter().flatten();
            folders.for_each(|folder| self.folders.is_plain_no_more(folder));
        }
        self.list_each(folders)
    }

    fn list_each(&self, folders: &[Option<RelPath>]) -> Vec<io::Result<Vec<(OsString, Meta)>>> {
        let next = AtomicUsize::new(0);
        let answers: Vec<Mutex<Option<io::Result<_>>>> =
            folders.iter().map(|_| Mutex::new(None)).collect();
        std::thread::scope(|scope| {
            for _ in 0..self.lines.0.most.min(folders.len()) {
                scope.spawn(|| {
                    loop {
                        let index = next.fetch_add(1, Ordering::Relaxed);
                        let Some(folder) = folders.get(index) else {
                            return;
                        };
                        let answer = self.list(folder.as_ref());
                        *answers[index]
                            .lock()
                            .unwrap_or_else(PoisonError::into_inner) = Some(answer);
                    }
                });
            }
        });
        let answers = answers.into_iter();
        let answers = answers.map(|it| it.into_inner().unwrap_or_else(PoisonError::into_inner));
        answers
            .map(|it| it.unwrap_or_else(|| Err(io::ErrorKind::ConnectionAborted.into())))
            .collect()
    }

    fn sorts(&self, folder: Option<&RelPath>) -> io::Result<Vec<(OsString, Sort)>> {
        let listed = self.list(folder)?.into_iter();
        Ok(listed.map(|(name, meta)| (name, meta.sort)).collect())
    }

    fn open(&self, path: &RelPath) -> io::Result<Box<dyn Source>> {
        let meta = self.look(path)?;
        let meta = meta.ok_or_else(|| io::Error::from(io::ErrorKind::NotFound))?;
        match meta.sort {
            Sort::File => Ok(Box::new(Reading::new(
                self.part(path),
                meta.stamp.bytes,
                Some(meta),
            ))),
            _ => Err(io::Error::other("it is no regular file")),
        }
    }

    fn open_listed(&self, path: &RelPath, bytes: u64) -> io::Result<Box<dyn Source>> {
        self.on_the_way(path)?;
        Ok(Box::new(Reading::new(self.part(path), bytes, None)))
    }

    fn read_link(&self, path: &RelPath) -> io::Result<String> {
        if self.tells_facts {
            return unsupported("reading a link");
        }
        let whole = self.folders.folder(path.folder().as_ref());
        let lines = self.lines.with(|line| {
            line.cwd(&whole)?;
            line.list(Some("-a"))
        })?;
        let files = lines.iter().filter_map(|line| read_line(line));
        let link = files.filter(|file| file.is_symlink());
        let mut link = link.filter(|file| last_name(file.name()) == path.name());
        let target = link
            .next()
            .and_then(|file| file.symlink().map(Path::to_owned));
        let target = target.and_then(|target| target.to_str().map(str::to_owned));
        target.ok_or_else(|| io::Error::other("where it leads is not told"))
    }

    fn make_link(&self, _: &str, _: &RelPath) -> io::Result<()> {
        unsupported("making a link")
    }

    fn create(&self, path: &RelPath) -> io::Result<Box<dyn NewFile>> {
        // A file whose name may not be changed is found by its size; lantern's own may be.
        let is_told = self.tells_facts || is_own(path);
        match self.is_taken(path)? || !is_told && self.has_size(path)? {
            true => Err(io::ErrorKind::AlreadyExists.into()),
            false => self.storing(path, 0),
        }
    }

    /// What came before a break came in order.
    fn unsure_end(&self) -> Option<u64> {
        Some(0)
    }

    fn go_on(&self, path: &RelPath, at: u64) -> io::Result<Box<dyn NewFile>> {
        self.storing(path, at)
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        // The protocol leaves it open what becomes of what is there.
        if self.is_taken(to)? {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        self.rename_as_listed(from, to)
    }

    fn asks_before_renames(&self) -> bool {
        true
    }

    fn rename_as_listed(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.on_the_way(from)?;
        self.on_the_way(to)?;
        let (old, new) = (self.whole(from), self.whole(to));
        // Where the answer is lost, nobody knows whether it was done.
        self.folders.is_plain_no_more(from);
        let renamed = self.lines.with(|line| line.rename(&old, &new));
        renamed.map_err(|error| self.of_path(from, error))
    }

    fn replace(&self, from: &RelPath, to: &RelPath) -> io::Result<()> {
        self.on_the_way(from)?;
        self.on_the_way(to)?;
        let (old, new) = (self.whole(from), self.whole(to));
        match self.lines.with(|line| line.rename(&old, &new)) {
            Err(error) if is_refused(&error) && self.seen(to)?.is_some() => {
                super::replace_in_steps(self, from, to)
            }
            renamed => renamed,
        }
    }

    fn make_folder(&self, path: &RelPath, rights: u32) -> io::Result<()> {
        if self.folders.is_known(path) {
            return Ok(());
        }
        self.on_the_way(path)?;
        let whole = self.whole(path);
        let made = self.lines.with(|line| {
            line.mkdir(&whole)?;
            // A host that does not know it leaves them as they are.
            if rights == OWNERS_ALONE {
                let _ = line.site(format!("CHMOD {rights:o} {whole}"));
            }
            Ok(())
        });
        match made {
            Ok(()) => {
                self.folders.is_plain(path);
                Ok(())
            }
            Err(error) => match self.look(path)? {
                Some(meta) if meta.is_folder() => Ok(()),
                _ => Err(error),
            },
        }
    }

    fn remove_file(&self, path: &RelPath) -> io::Result<()> {
        self.on_the_way(path)?;
        let whole = self.whole(path);
        let removed = self.lines.with(|line| line.rm(&whole));
        removed.map_err(|error| self.of_path(path, error))
    }

    fn remove_folder(&self, path: &RelPath) -> io::Result<()> {
        self.on_the_way(path)?;
        let whole = self.whole(path);
        self.folders.is_plain_no_more(path);
        let removed = self.lines.with(|line| line.rmdir(&whole));
        removed.map_err(|error| self.of_path(path, error))
    }

    /// The protocol has no word for it: what the other end answers is all that is known.
    fn sync(&self, _: Option<&RelPath>) -> io::Result<()> {
        Ok(())
    }

    fn share(&self, _: &RelPath, _: &RelPath) -> io::Result<()> {
        unsupported("sharing content")
    }

    fn give(&self, path: &RelPath, _: u32, _: u32, rights: Option<u32>) -> io::Result<()> {
        self.on_the_way(path)?;
        let whole = self.whole(path);
        let Some(rights) = rights else {
            return unsupported("giving a file away");
        };
        let set = self
            .lines
            .with(|line| line.site(format!("CHMOD {rights:o} {whole}")));
        set.map(|_| ())
    }

    fn attributes(&self, _: &RelPath) -> io::Result<BTreeMap<String, Vec<u8>>> {
        Ok(BTreeMap::new())
    }

    fn set_attribute(&self, _: &RelPath, _: &str, _: &[u8]) -> io::Result<()> {
        unsupported("setting an extended attribute")
    }

    fn free_bytes(&self) -> io::Result<u64> {
        unsupported("asking how much room there is")
    }

    fn lock(&self, path: &RelPath, words: &str) -> io::Result<Result<Box<dyn Held>, String>> {
        lock::take(self, self.way.clone(), path, words)
    }

    fn locked_by(&self, path: &RelPath) -> io::Result<Option<String>> {
        lock::held_by(self, path)
    }
}
