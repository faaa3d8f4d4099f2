//! A depot on the web: the files of a folder over HTTP and HTTPS, well, or badly in all the ways that are met.
//!
//! `/PATH` is the file. `/~WAY/PATH` is the same file served in another way; `/~WAY=N/PATH` with a number. Ways: `slow` (a
//! pause before each piece), `cut` (breaks off after N bytes), `cut-once` (so, the first time), `busy` (429 N times, then
//! well), `trouble` (500 N times, then well), `loop` (leads to itself), `plain` (leads to http), `file` (leads to a file),
//! `long` (says it is longer than it is), `other` (one byte is another), `second` (breaks off after N bytes, and is another file from then on),
//! `packed` (says that it is gzip, which nobody asked for: it could grow to gigabytes), `endless` (goes on and on), `page` (a
//! page to log in), `no-mark` (no ETag), `key` (only for those who show `x-depot-key: fern`), `away` (leads to N, a port of
//! this machine).
//!
//! It is a proxy, too, and plays whatever host is asked for through it.

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};
use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, UNIX_EPOCH};

/// Where the depot listens, and what it writes down.
pub struct Depot<'a> {
    /// The folder whose files it serves.
    pub folder: &'a Path,
    /// Its port for HTTP; 0 takes a free one.
    pub port: u16,
    /// Writes here what it was asked, a line each: the path, the range, the status, the bytes sent.
    pub log: Option<&'a Path>,
    /// Writes here the certificate that vouches for it, and serves HTTPS, too.
    pub ca: Option<&'a Path>,
}

/// What all connections share.
struct Shared {
    folder: PathBuf,
    log: Option<Mutex<File>>,
    asked: Mutex<HashMap<String, u32>>,
    http: u16,
}

/// Serves until it is stopped; prints the ports first, `http PORT` and `https PORT`.
pub fn run(depot: &Depot<'_>) -> io::Result<u8> {
    let listener = TcpListener::bind(("127.0.0.1", depot.port))?;
    let http = listener.local_addr()?.port();
    let log = depot
        .log
        .map(|path| OpenOptions::new().create(true).append(true).open(path));
    let shared = Arc::new(Shared {
        folder: depot.folder.to_owned(),
        log: log.transpose()?.map(Mutex::new),
        asked: Mutex::new(HashMap::new()),
        http,
    });
    if let Some(ca) = depot.ca {
        let config = Arc::new(certified(ca)?);
        let listener = TcpListener::bind(("127.0.0.1", 0))?;
        println!("https {}", listener.local_addr()?.port());
        let shared = shared.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (config, shared) = (config.clone(), shared.clone());
                std::thread::spawn(move || {
                    let connection = ServerConnection::new(config).map_err(io::Error::other)?;
                    serve(StreamOwned::new(connection, stream), &shared)
                });
            }
        });
    }
    println!("http {http}");
    io::stdout().flush()?;
    for stream in listener.incoming().flatten() {
        let shared = shared.clone();
        std::thread::spawn(move || {
            stream.set_nodelay(true)?;
            serve(stream, &shared)
        });
    }
    Ok(0)
}

/// A certificate for this machine, vouched for by one of its own.
fn certified(ca: &Path) -> io::Result<ServerConfig> {
    let made = || -> Result<ServerConfig, rcgen::Error> {
        let mut params = CertificateParams::new(Vec::new())?;
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let issuer = CertifiedIssuer::self_signed(params, KeyPair::generate()?)?;
        let key = KeyPair::generate()?;
        let names = vec!["localhost".to_owned(), "127.0.0.1".to_owned()];
        let own = CertificateParams::new(names)?.signed_by(&key, &issuer)?;
        fs::write(ca, issuer.pem()).map_err(|_| rcgen::Error::CouldNotParseCertificate)?;
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()));
        let config = ServerConfig::builder()
            .with_no_client_auth()
            .with_single_cert(vec![own.der().clone()], key);
        config.map_err(|_| rcgen::Error::CouldNotParseCertificate)
    };
    made().map_err(io::Error::other)
}

/// What is asked for.
struct Asked {
    path: String,
    /// Whether a proxy is meant, and the path is a host: what comes then is meant for that one, and it plays it.
    opens_a_way: bool,
    headers: HashMap<String, String>,
}

fn asked(reader: &mut impl BufRead) -> io::Result<Option<Asked>> {
    let mut line = String::new();
    if reader.read_line(&mut line)? == 0 {
        return Ok(None);
    }
    let mut words = line.split(' ');
    let opens_a_way = words.next() == Some("CONNECT");
    let path = words.next().unwrap_or("/").to_owned();
    let mut headers = HashMap::new();
    loop {
        line.clear();
        reader.read_line(&mut line)?;
        let Some((name, value)) = line.trim_end().split_once(':') else {
            return Ok(Some(Asked {
                path,
                opens_a_way,
                headers,
            }));
        };
        headers.insert(name.to_lowercase(), value.trim().to_owned());
    }
}

fn serve<S: Read + Write>(stream: S, shared: &Shared) -> io::Result<()> {
    let mut stream = BufReader::new(stream);
    while let Some(asked) = asked(&mut stream)? {
        let answered = answer(stream.get_mut(), &asked, shared);
        let (status, sent, stays) = answered?;
        if let Some(log) = &shared.log {
            let range = asked.headers.get("range").map_or("-", String::as_str);
            let mut log = log.lock().unwrap_or_else(PoisonError::into_inner);
            writeln!(log, "{} {range} {status} {sent}", asked.path)?;
        }
        if !stays {
            return Ok(());
        }
    }
    Ok(())
}

/// The way of serving, its number, and the path of the file.
fn way_of(path: &str) -> (&str, u64, &str) {
    let Some((way, rest)) = path
        .strip_prefix("/~")
        .and_then(|rest| rest.split_once('/'))
    else {
        return ("", 0, path.trim_start_matches('/'));
    };
    match way.split_once('=') {
        Some((way, number)) => (way, number.parse().unwrap_or(0), rest),
        None => (way, 0, rest),
    }
}

/// Answers; the status, how many bytes of content were sent, and whether the connection stays.
fn answer<S: Write>(out: &mut S, asked: &Asked, shared: &Shared) -> io::Result<(u16, u64, bool)> {
    if asked.opens_a_way {
        write!(out, "HTTP/1.1 200 So\r\n\r\n")?;
        out.flush()?;
        return Ok((200, 0, true));
    }
    let (way, number, rest) = way_of(&asked.path);
    let mut times = shared.asked.lock().unwrap_or_else(PoisonError::into_inner);
    let times_before = {
        let times = times.entry(asked.path.clone()).or_default();
        *times += 1;
        *times - 1
    };
    drop(times);
    let short =
        |out: &mut S, status: u16, headers: &str, body: &str| -> io::Result<(u16, u64, bool)> {
            write!(
                out,
                "HTTP/1.1 {status} So\r\ncontent-length: {}\r\n{headers}\r\n{body}",
                body.len()
            )?;
            out.flush()?;
            Ok((status, body.len() as u64, true))
        };
    match way {
        "busy" if u64::from(times_before) < number => {
            return short(out, 429, "retry-after: 0\r\n", "");
        }
        "trouble" if u64::from(times_before) < number => return short(out, 500, "", ""),
        "loop" => return short(out, 302, &format!("location: {}\r\n", asked.path), ""),
        "plain" => {
            let to = format!("location: http://127.0.0.1:{}/{rest}\r\n", shared.http);
            return short(out, 302, &to, "");
        }
        "away" => {
            let to = format!("location: http://localhost:{number}/{rest}\r\n");
            return short(out, 302, &to, "");
        }
        "file" => return short(out, 302, "location: file:///etc/hostname\r\n", ""),
        "page" => {
            let body = "<!doctype html><title>Log in</title>";
            return short(out, 200, "content-type: text/html\r\n", body);
        }
        "key" if asked.headers.get("x-depot-key").map(String::as_str) != Some("fern") => {
            return short(out, 403, "", "");
        }
        "packed" => return packed(out),
        "endless" => return endless(out),
        _ => {}
    }
    let rest = rest.split('?').next().unwrap_or(rest);
    let inside = !rest.split('/').any(|part| part == "..");
    let path = shared.folder.join(rest);
    let Some(mut file) = File::open(&path).ok().filter(|_| inside && path.is_file()) else {
        return short(out, 404, "", "");
    };
    let whole = file.metadata()?.len();
    let changed = way == "second" && times_before > 0;
    let written = file.metadata()?.modified()?.duration_since(UNIX_EPOCH);
    let written = written.map_or(0, |written| written.as_nanos());
    let mark = format!("\"{whole:x}-{written:x}-{}\"", u8::from(changed));
    let has_it = asked.headers.get("if-none-match") == Some(&mark);
    if has_it && way != "no-mark" {
        return short(out, 304, &format!("etag: {mark}\r\n"), "");
    }
    let range = asked.headers.get("range");
    let range = range.filter(|_| asked.headers.get("if-range").is_none_or(|it| *it == mark));
    let from = range.and_then(|range| {
        range
            .strip_prefix("bytes=")?
            .strip_suffix('-')?
            .parse()
            .ok()
    });
    if from.is_some_and(|from: u64| from >= whole) {
        return short(out, 416, &format!("content-range: bytes */{whole}\r\n"), "");
    }
    let start = from.unwrap_or(0);
    let status = if from.is_some() { 206 } else { 200 };
    let length = whole - start + if way == "long" { 1000 } else { 0 };
    write!(
        out,
        "HTTP/1.1 {status} So\r\ncontent-length: {length}\r\naccept-ranges: bytes\r\n"
    )?;
    if way != "no-mark" {
        write!(out, "etag: {mark}\r\n")?;
    }
    if from.is_some() {
        write!(
            out,
            "content-range: bytes {start}-{}/{whole}\r\n",
            whole - 1
        )?;
    }
    write!(out, "\r\n")?;
    let cuts = way == "cut" || matches!(way, "cut-once" | "second") && times_before == 0;
    let most = if cuts {
        number.min(whole - start)
    } else {
        whole - start
    };
    file.seek(SeekFrom::Start(start))?;
    let mut buffer = vec![0; 1 << 16];
    let mut sent = 0;
    while sent < most {
        let piece = buffer
            .len()
            .min(usize::try_from(most - sent).unwrap_or(usize::MAX));
        let many = file.read(&mut buffer[..piece])?;
        if many == 0 {
            break;
        }
        if sent == 0 && start == 0 && (way == "other" || changed) {
            buffer[0] ^= 1;
        }
        if way == "slow" {
            std::thread::sleep(Duration::from_millis(number));
        }
        out.write_all(&buffer[..many])?;
        sent += many as u64;
    }
    out.flush()?;
    Ok((status, sent, !cuts && way != "long"))
}

/// Something that says it is packed; nobody gets as far as unpacking it.
fn packed<S: Write>(out: &mut S) -> io::Result<(u16, u64, bool)> {
    let body = [0x1f, 0x8b, 0x08, 0, 0, 0, 0, 0, 0, 3].repeat(100);
    write!(
        out,
        "HTTP/1.1 200 So\r\ncontent-encoding: gzip\r\ncontent-length: {}\r\n\r\n",
        body.len()
    )?;
    out.write_all(&body)?;
    out.flush()?;
    Ok((200, body.len() as u64, true))
}

fn endless<S: Write>(out: &mut S) -> io::Result<(u16, u64, bool)> {
    write!(out, "HTTP/1.1 200 So\r\nconnection: close\r\n\r\n")?;
    let piece = vec![b'x'; 1 << 16];
    let mut sent = 0;
    while out.write_all(&piece).is_ok() {
        sent += piece.len() as u64;
    }
    Ok((200, sent, false))
}
