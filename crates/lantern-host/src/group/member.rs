//! A server of a group, as it is found: here, or where a lantern works that is there.

use super::errands::AtServer;
use crate::config::fault::ConfigFault;
use crate::error::Result;
use crate::known;
use crate::place::{Address, Scheme};
use crate::session::{self, There, program};
use lantern_core::group::GroupServer;
use std::path::{Path, PathBuf};

/// A server of a group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Member {
    /// Its settings and records lie on this machine, wherever its own folder does.
    Here(PathBuf),
    /// It lies on another machine, at which a lantern works.
    There(There),
}

impl Member {
    /// The server that a group's file means, as seen from a folder.
    ///
    /// # Errors
    /// When it is an address at which nothing can be asked for.
    pub fn of(server: &GroupServer, base: &Path) -> std::result::Result<Member, String> {
        if !Address::is_meant(&server.at) {
            return match server.shell {
                Some(_) => Err(format!(
                    "server \"{}\": shell: it has no ssh:// in front, so that no lantern there is asked",
                    server.at
                )),
                None => Ok(Member::Here(known::folder_of(&server.at, base))),
            };
        }
        let address = Address::parse(&server.at)?;
        match address.scheme {
            Scheme::Ssh => Ok(Member::There(There {
                address,
                shell: server.shell.clone(),
            })),
            _ => Err(format!(
                "server \"{}\": without a shell no lantern works there: adopt it, and state its name here",
                server.at
            )),
        }
    }

    /// Its folder, where its settings and records lie on this machine.
    ///
    /// # Errors
    /// [`ConfigFault::IsThere`] where they do not.
    pub fn here(&self) -> Result<&Path> {
        match self {
            Member::Here(folder) => Ok(folder),
            Member::There(there) => Err(ConfigFault::IsThere(there.address.to_string()).into()),
        }
    }

    /// A lantern on another machine that works at it.
    pub fn there(&self) -> Option<&There> {
        match self {
            Member::Here(_) => None,
            Member::There(there) => Some(there),
        }
    }

    /// Runs an errand at it, by whichever lantern works there.
    ///
    /// # Errors
    /// What it fails of; or that the other lantern cannot be asked.
    pub fn ask<E: AtServer>(&self, errand: &E) -> Result<E::Came> {
        match self {
            Member::Here(folder) => errand.run(folder),
            Member::There(there) => session::ask(there, errand),
        }
    }

    /// What is to be pasted to have it taken into care.
    ///
    /// # Errors
    /// When this program cannot be read.
    pub fn adopts(&self, word: impl Fn(&Path) -> String) -> Result<String> {
        Ok(match self {
            Member::Here(folder) => format!("lantern adopt {}", word(folder)),
            Member::There(there) => {
                let folder = word(Path::new(&there.address.path));
                there.paste(&format!("adopt {folder}"), &program::own()?.shown())
            }
        })
    }

    /// What is to be pasted to run a command at it.
    ///
    /// # Errors
    /// When this program cannot be read.
    pub fn paste(&self, command: &str, word: impl Fn(&Path) -> String) -> Result<String> {
        Ok(match self {
            Member::Here(folder) => format!("lantern {command} --server {}", word(folder)),
            Member::There(there) => {
                let folder = there.address.path.clone();
                let command = format!("{command} --server {}", word(Path::new(&folder)));
                there.paste(&command, &program::own()?.shown())
            }
        })
    }
}
