//! Servers that move together: those of a group are found, and looked at, several at once.
//!
//! That one of them cannot be looked at is told of that one, and hinders no other.

pub mod errands;
pub mod fault;
mod member;
mod planned;
mod standing;

pub use errands::{OneAtAGlance, OneHistory, OneOutlook, OneSurvey, OneVerified, OneWatched};
pub use member::Member;
pub use planned::{Arms, Asked, OnePlan, Targets};
pub use standing::Standing;

use crate::config::fault::ConfigFault;
use crate::error::{Error, Result};
use crate::place::{far, here};
use crate::planning::Sources;
use crate::session::{There, program};
use errands::{AtServer, Glance, Histories, Offered, Outlooks, SentAlong, Survey, Verify, Watch};
use lantern_core::group::Group;
use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// So many servers are looked at at once: of one on another machine, most of the time is waiting.
const AT_ONCE: usize = 8;

/// How the name of a group's file ends.
const ENDING: &str = ".group.toml";

/// The files of groups in a folder, sorted.
///
/// # Errors
/// When it cannot be listed.
pub fn files(folder: &Path) -> Result<Vec<PathBuf>> {
    let mut files = here::list(folder)?;
    files.retain(|file| {
        let name = file.file_name().and_then(OsStr::to_str);
        name.is_some_and(|name| name.ends_with(ENDING))
    });
    files.sort();
    Ok(files)
}

/// A group, and where its servers are.
#[derive(Debug)]
pub struct Found {
    /// What its file states.
    pub group: Group,
    /// Where each server is, in the same order.
    pub members: Vec<Member>,
}

impl Found {
    /// Reads a group's file, and finds its servers.
    ///
    /// # Errors
    /// When it cannot be read or makes no sense, with the line where there is one; or when two of them are one folder.
    pub fn read(file: &Path) -> Result<Found> {
        let fault = |why: String| {
            Error::Config(ConfigFault::Group {
                path: file.into(),
                why,
            })
        };
        let group = Group::parse(&here::read_text(file)?).map_err(|told| {
            fault(match told.line {
                Some(line) => format!("line {line}: {}", told.why),
                None => told.why,
            })
        })?;
        let base = file.parent().unwrap_or(Path::new(""));
        let members = group.servers.iter();
        let members = members.map(|server| Member::of(server, base).map_err(fault));
        let members: Vec<Member> = members.collect::<Result<_>>()?;
        let mut seen = BTreeMap::new();
        for (server, member) in group.servers.iter().zip(&members) {
            let real = match member {
                Member::Here(folder) => here::real(folder).unwrap_or_else(|| folder.clone()),
                Member::There(there) => PathBuf::from(there.address.to_string()),
            };
            if let Some(other) = seen.insert(real, server.called()) {
                return Err(fault(format!(
                    "server: \"{other}\" and \"{}\" are one folder",
                    server.called()
                )));
            }
        }
        Ok(Found { group, members })
    }

    /// The machines at which lanterns work for it, each once, with its servers, as indices.
    pub fn machines(&self) -> Vec<(&There, Vec<usize>)> {
        let mut machines: Vec<(&There, Vec<usize>)> = Vec::new();
        for (index, member) in self.members.iter().enumerate() {
            let Some(there) = member.there() else {
                continue;
            };
            match machines
                .iter_mut()
                .find(|(known, _)| known.is_beside(there))
            {
                Some((_, servers)) => servers.push(index),
                None => machines.push((there, vec![index])),
            }
        }
        machines
    }

    /// Puts this very program on each machine at which a lantern works for it, where it is not there; on several at once.
    pub fn send(&self) -> Vec<(&There, Vec<usize>, Result<program::Sent>)> {
        let machines = self.machines();
        let mut sent = Vec::new();
        for some in machines.chunks(AT_ONCE) {
            std::thread::scope(|scope| {
                let each = some.iter();
                let each = each.map(|(there, _)| scope.spawn(|| program::send(there)));
                let each: Vec<_> = each.collect();
                for one in each {
                    let came = one.join();
                    sent.push(came.unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
                }
            });
        }
        let both = machines.into_iter().zip(sent);
        both.map(|((there, servers), sent)| (there, servers, sent))
            .collect()
    }

    /// Looks at each server, several at once; in the group's order.
    fn each<T: Send>(&self, look: impl Fn(usize, &Member) -> Result<T> + Sync) -> Vec<Result<T>> {
        let next = AtomicUsize::new(0);
        let members = &self.members;
        let looked = Mutex::new(Vec::new());
        std::thread::scope(|scope| {
            for _ in 0..AT_ONCE.min(members.len()) {
                scope.spawn(|| {
                    while let Some((index, member)) = {
                        let index = next.fetch_add(1, Ordering::Relaxed);
                        members.get(index).map(|member| (index, member))
                    } {
                        let seen = look(index, member);
                        far::close_unused();
                        let mut looked = looked.lock().unwrap_or_else(PoisonError::into_inner);
                        looked.push((index, seen));
                    }
                });
            }
        });
        let mut looked = looked.into_inner().unwrap_or_else(PoisonError::into_inner);
        looked.sort_by_key(|(index, _)| *index);
        looked.into_iter().map(|(_, seen)| seen).collect()
    }

    /// Runs the same errand at each server.
    fn ask_each<E: AtServer + Sync>(&self, errand: &E) -> Vec<Result<E::Came>>
    where
        E::Came: Send,
    {
        self.each(|_, member| member.ask(errand))
    }

    /// Where releases come from, as each server is told: what lies in drop folders is sent along to machines that lack it.
    ///
    /// # Errors
    /// When it cannot be read, or is not taken.
    fn offered(&self, sources: &Sources) -> Result<Offers> {
        let machines = self.machines();
        let sent = match machines[..] {
            [] => None,
            _ => Some(SentAlong::of(sources)?),
        };
        let offers = Offers {
            here: Offered::Here(sources.clone()),
            there: sent.clone().map(Offered::Sent),
            sent,
            untaken: Mutex::default(),
        };
        // Each machine takes a file once, whichever of its servers asks first.
        std::thread::scope(|scope| {
            for (_, servers) in machines {
                scope.spawn(|| {
                    servers
                        .into_iter()
                        .for_each(|index| offers.send(self, index))
                });
            }
        });
        Ok(offers)
    }

    /// What each server carries, and what is to be held against it.
    pub fn surveyed(&self) -> Vec<Result<OneSurvey>> {
        self.ask_each(&Survey {})
    }

    /// Who is ready for which version, at each server by itself: what is installed is not left behind.
    ///
    /// # Errors
    /// When what is on offer cannot be read.
    pub fn outlooks(&self, sources: &Sources) -> Result<Vec<Result<OneOutlook>>> {
        let offers = self.offered(sources)?;
        Ok(self.each(|index, member| {
            let from = offers.of(index, member)?;
            member.ask(&Outlooks { from })
        }))
    }

    /// What a look at each running server finds, and what it carries.
    pub fn verified(&self) -> Vec<Result<OneVerified>> {
        self.ask_each(&Verify {})
    }

    /// The same of one of them, as an index.
    ///
    /// # Errors
    /// When it cannot be looked at.
    pub fn verified_one(&self, index: usize) -> Result<OneVerified> {
        self.members[index].ask(&Verify {})
    }

    /// Looks at each server for what is new since it was looked at last, and tells whom its lantern.toml names; `again` tells all that there is to
    /// say.
    ///
    /// # Errors
    /// When what is on offer cannot be read.
    pub fn watched(&self, sources: &Sources, again: bool, now_ms: i64) -> Result<Vec<OneWatched>> {
        let limits = &self.group.watch;
        let offers = self.offered(sources)?;
        let seen = self.each(|index, member| {
            member.ask(&Watch {
                from: offers.of(index, member)?,
                limits: limits.clone(),
                again,
                now_ms,
            })
        });
        let seen = seen.into_iter();
        let seen =
            seen.map(|it| it.unwrap_or_else(|error| OneWatched::faulty(&error, limits, now_ms)));
        Ok(seen.collect())
    }

    /// What was done at each server, in the order in which it was.
    pub fn histories(&self) -> Vec<Result<OneHistory>> {
        self.ask_each(&Histories {})
    }

    /// How each server is, at a glance.
    pub fn glanced(&self) -> Vec<Result<OneAtAGlance>> {
        self.ask_each(&Glance {})
    }
}

/// Where releases come from, as servers here and elsewhere are told.
struct Offers {
    here: Offered,
    there: Option<Offered>,
    sent: Option<SentAlong>,
    /// Why a server's machine has not taken what lies in drop folders, by its index.
    untaken: Mutex<BTreeMap<usize, Error>>,
}

impl Offers {
    fn of(&self, index: usize, member: &Member) -> Result<Offered> {
        let mut untaken = self.untaken.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(error) = untaken.remove(&index) {
            return Err(error);
        }
        let there = self.there.as_ref().filter(|_| member.there().is_some());
        Ok(there.unwrap_or(&self.here).clone())
    }

    /// Has the machine of a server keep what lies in drop folders.
    fn send(&self, found: &Found, index: usize) {
        if let (Some(sent), Some(there)) = (&self.sent, found.members[index].there())
            && let Err(error) = sent.send(there, &sent.dropped)
        {
            let mut untaken = self.untaken.lock().unwrap_or_else(PoisonError::into_inner);
            untaken.insert(index, error);
        }
    }
}
