//! What a command writes into a file that somebody named.

use crate::common::Common;
use lantern_host::clients::fault::ClientFault;
use lantern_host::place::here;
use lantern_host::{Error, Result};
use std::path::Path;

/// So many bytes tell whether two files are of one kind.
const BEGINNING: usize = 15;

/// Writes a text into a file. One that is there already gives way to its like, as a page does to a page, and to nothing else unless it was
/// said that it may.
///
/// # Errors
/// When another file is in the way, or it cannot be written.
pub fn write(out: &Path, text: &str, common: &Common) -> Result<()> {
    let is_like = || {
        let there = here::read(out).unwrap_or_default();
        text.len() >= BEGINNING && there.starts_with(&text.as_bytes()[..BEGINNING])
    };
    if here::look(out).is_some() && !common.yes && !is_like() {
        return Err(Error::Client(ClientFault::InTheWay(out.to_owned())));
    }
    here::write_whole(out, &mut |file| {
        std::io::Write::write_all(file, text.as_bytes())
    })
}
