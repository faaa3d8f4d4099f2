//! Warm Lantern's hands: everything that touches the world outside the program.
//!
//! | room | what it touches |
//! |---|---|
//! | [`folder`] | the server folder, and nothing outside it |
//! | [`config`] | `lantern.toml`, and the family file it names |
//! | [`ledger`] | `.lantern/ledger.db` |
//! | [`lock`] | `.lantern/lock`: one lantern at a time in one folder |
//! | [`archive`] | zip archives, checked before anything is unpacked |
//! | [`survey`] | the whole folder, read into an inventory |
//! | [`depot`] | catalogues and drop folders |
//! | [`planning`] | from the question to the plan |
//! | [`backup`] | `.lantern/store`: what is on the keep list, by content |
//! | [`console`] | the server's process, port and open files, its input and output |
//! | [`verify`] | what a running server shows |
//! | [`durable`] | files that are there whole or not at all |
//! | [`rehearsal`] | a plan carried out on a copy first |
//! | [`changeover`] | carrying a plan out, going back, `.lantern/journal.json` |

pub mod acquire;
pub mod adopt;
pub mod archive;
pub mod backup;
pub mod changeover;
pub mod client_pack;
pub mod config;
pub mod console;
pub mod depot;
mod disk;
pub mod durable;
mod error;
pub mod folder;
pub mod history;
mod layers;
pub mod ledger;
pub mod lock;
pub mod planning;
mod program;
pub mod rehearsal;
pub mod survey;
pub mod trial;
pub mod verify;

pub use error::{Error, Result};

use std::sync::atomic::{AtomicBool, Ordering};

/// Whether somebody wants what is under way to end, where it still can without harm.
static CALLED_OFF: AtomicBool = AtomicBool::new(false);

/// Asks for what is under way to end where it still can without harm: before a server is stopped.
///
/// Afterwards it goes on to its end, since half an exchange is of no use to anybody.
pub fn call_off() {
    CALLED_OFF.store(true, Ordering::Relaxed);
}

fn called_off() -> bool {
    CALLED_OFF.load(Ordering::Relaxed)
}
