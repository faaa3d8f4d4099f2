//! A program that was built without what reaches folders on other machines: it says so where one is asked for.

use super::{Address, Means, Place};
use std::io;
use std::sync::Arc;

/// Reaches nothing.
///
/// # Errors
/// Always.
pub fn open(_: &Address, _: &Means) -> io::Result<Arc<dyn Place>> {
    Err(io::Error::new(
        io::ErrorKind::Unsupported,
        "this lantern was built without what reaches other machines: its feature \"far\"",
    ))
}

/// Nothing is open.
pub fn close_unused() {}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::folder::Folder;

    #[test]
    fn without_far_it_says_so() {
        for address in [
            "sftp://rented.example/halcyon",
            "ftps://rented.example/halcyon",
        ] {
            let address = Address::parse(address).unwrap();
            let refused = Folder::elsewhere(&address, &Means::default()).unwrap_err();
            assert!(
                refused.to_string().ends_with("its feature \"far\""),
                "{refused}"
            );
        }
    }
}
