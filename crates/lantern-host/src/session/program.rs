//! This very program, put on another machine.

use super::fault::SessionFault;
use super::{Session, There};
use crate::error::{Error, Result};
use crate::place::here;
use crate::runner;
use crate::shell::{self, Ran};
use crate::told::plain;
use lantern_core::supply::HashKind;
use std::path::PathBuf;
use std::sync::OnceLock;
use std::time::Duration;

/// Where it lies there, below the user's own folder: each by what it is, so that several may lie beside one another.
pub const FOLDER: &str = ".local/share/lantern/program";
/// So much of its hash names its folder.
const NAMED: usize = 16;
/// So long may a line take there that does little.
const SHORT: Duration = Duration::from_secs(180);
/// So long may it take to put it there.
const LONG: Duration = Duration::from_secs(3600);

/// This very program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Program {
    file: PathBuf,
    /// Its BLAKE3, in hexadecimal.
    pub hash: String,
}

/// This very program.
///
/// # Errors
/// When its file cannot be read.
pub fn own() -> Result<Program> {
    static OWN: OnceLock<Program> = OnceLock::new();
    if let Some(own) = OWN.get() {
        return Ok(own.clone());
    }
    let file = runner::program().map_err(|source| Error::Io {
        doing: "finding",
        path: "lantern".into(),
        source,
    })?;
    let hash = blake3::hash(&here::read(&file)?).to_hex().to_string();
    Ok(OWN.get_or_init(|| Program { file, hash }).clone())
}

impl Program {
    fn folder(&self) -> String {
        format!("$HOME/{FOLDER}/{}", &self.hash[..NAMED])
    }

    /// Where it lies there, for a shell.
    pub fn path(&self) -> String {
        format!("\"{}/lantern\"", self.folder())
    }

    /// Where it lies there, as people write it.
    pub fn shown(&self) -> String {
        format!("~/{FOLDER}/{}/lantern", &self.hash[..NAMED])
    }
}

/// What came of sending it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sent {
    /// Its size in bytes; none where it was there.
    pub bytes: Option<u64>,
}

/// Puts this very program on another machine, where it is not there, and sees that it runs.
///
/// # Errors
/// Where that machine is not reached, is of another kind, or does not take it.
pub fn send(there: &There) -> Result<Sent> {
    let own = own()?;
    let bytes = here::read(&own.file)?;
    let hashes = crate::gather::hashes_of(&mut &bytes[..], [HashKind::Sha256].into_iter());
    let hashes = hashes.map_err(|source| Error::Io {
        doing: "reading",
        path: own.file.clone(),
        source,
    })?;
    let hash = hashes.iter().find(|check| check.kind == HashKind::Sha256);
    let hash = hash.map_or("", |check| &check.hex);
    let run = |line: String, input: &[u8], limit: Duration| -> Result<Ran> {
        shell::run(&there.shell(), line, input, limit)
            .map_err(|error| there.fault(SessionFault::Ended(plain(&error))))
    };
    let not_taken = |why: String| there.fault(SessionFault::NotTaken(why));
    let (folder, path) = (own.folder(), own.path());
    let seen = run(
        format!("uname -s -m && echo known && if test -f {path}; then sha256sum < {path}; fi"),
        &[],
        SHORT,
    )?;
    let mut lines = seen.printed.lines();
    let kind = lines.next().unwrap_or_default().trim();
    if lines.next() != Some("known") {
        let why = seen.fault.unwrap_or_else(|| "no shell answers".into());
        return Err(there.fault(SessionFault::Broken(why)));
    }
    let own_kind = runner::kind();
    if kind != own_kind {
        return Err(there.fault(SessionFault::OtherKind(kind.into(), own_kind)));
    }
    let says =
        |line: Option<&str>| line.and_then(|line| line.split_whitespace().next()) == Some(hash);
    if says(lines.next()) {
        Session::open(there)?;
        return Ok(Sent { bytes: None });
    }
    let part = format!("\"{folder}/lantern.part\"");
    let put = run(
        format!("umask 077 && mkdir -p \"{folder}\" && cat > {part} && sha256sum < {part}"),
        &bytes,
        LONG,
    )?;
    if !says(put.printed.lines().next()) {
        let _ = run(format!("rm -f {part}"), &[], SHORT);
        let other = || "what arrived has another hash".to_owned();
        return Err(not_taken(put.fault.unwrap_or_else(other)));
    }
    let named = run(
        format!("chmod 700 {part} && mv -f {part} {path}"),
        &[],
        SHORT,
    )?;
    if let Some(why) = named.fault {
        return Err(not_taken(why));
    }
    // Whether it runs there is known once it has spoken.
    if let Err(error) = Session::open(there) {
        let error = match error {
            Error::Session { fault, .. } => fault.to_string(),
            other => other.to_string(),
        };
        let _ = run(format!("rm -f {path}"), &[], SHORT);
        return Err(not_taken(format!("it does not run there: {error}")));
    }
    Ok(Sent {
        bytes: Some(bytes.len() as u64),
    })
}
