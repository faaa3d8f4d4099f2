//! What the system says, in words for people.

use std::io;

/// What the system says, in words for an administrator.
pub(crate) fn plain(error: &io::Error) -> String {
    use io::ErrorKind as Kind;
    // What this program itself says is said already.
    if error.get_ref().is_some() {
        return error.to_string();
    }
    let plain = match error.kind() {
        Kind::NotFound => "it does not exist",
        Kind::PermissionDenied => "this user may not do that",
        Kind::AlreadyExists => "something of that name exists already",
        Kind::IsADirectory => "it is a folder",
        Kind::NotADirectory => "a part of its path is not a folder",
        Kind::DirectoryNotEmpty => "the folder is not empty",
        Kind::StorageFull => "the disk is full",
        Kind::QuotaExceeded => "this user's share of the disk is full",
        Kind::ReadOnlyFilesystem => "the disk is read-only",
        Kind::ConnectionRefused => "nobody listens there",
        Kind::TimedOut => "it took too long",
        Kind::ExecutableFileBusy => "the program is running",
        _ => {
            let text = error.to_string();
            let code = text.find(" (os error").unwrap_or(text.len());
            return text[..code].to_owned();
        }
    };
    plain.into()
}

/// A size in plain units.
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["bytes", "KB", "MB", "GB", "TB"];
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    match unit {
        0 if bytes == 1 => "1 byte".into(),
        0 => format!("{bytes} bytes"),
        _ if value < 10.0 => format!("{value:.1} {}", UNITS[unit]),
        _ => format!("{value:.0} {}", UNITS[unit]),
    }
}
