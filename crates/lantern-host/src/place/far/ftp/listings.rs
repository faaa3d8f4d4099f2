//! What servers tell of files: the facts of RFC 3659, and the lines that they print for people.

use crate::place::{Meta, Sort, Stamp};
use std::io;
use std::time::UNIX_EPOCH;
use suppaftp::list::{File, ListParser, PosixPexQuery};

/// Of the facts that a server can tell, those that are wanted.
pub fn wanted_facts(offered: &str) -> String {
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
pub fn without_rights(line: &str) -> String {
    let (facts, name) = line.split_once("; ").unwrap_or((line, ""));
    let facts = facts.split(';');
    let facts = facts.filter(|fact| !fact.trim().to_ascii_lowercase().starts_with("unix.mode="));
    let facts: Vec<&str> = facts.collect();
    format!("{}; {name}", facts.join(";"))
}

/// What a line of facts says of something.
pub fn meta_in(facts: &str, file: &File) -> Meta {
    let meta = meta_of(file);
    let usual = if meta.is_folder() { 0o755 } else { 0o644 };
    Meta {
        rights: rights_in(facts).unwrap_or(usual),
        ..meta
    }
}

/// What the other end says of something.
pub fn meta_of(file: &File) -> Meta {
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
pub fn read_line(line: &str) -> Option<File> {
    ListParser::parse_posix(line)
        .or_else(|_| ListParser::parse_dos(line))
        .ok()
}

/// The last part of a path.
pub fn last_name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

pub fn strange(line: &str) -> io::Error {
    io::Error::other(format!(
        "a line of the other end's listing is not understood: {line}"
    ))
}
