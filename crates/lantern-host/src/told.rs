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
