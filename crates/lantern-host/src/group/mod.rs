//! Servers that move together: those of a group are found, and looked at, several at once.
//!
//! That one of them cannot be looked at is told of that one, and hinders no other.

pub mod fault;
mod planned;
mod standing;

pub use planned::{Arms, Asked, OnePlan};
pub use standing::Standing;

use crate::changeover::{Meanwhile, meanwhile};
use crate::config::Server;
use crate::config::fault::ConfigFault;
use crate::error::{Error, Result};
use crate::glance::{self, Glance};
use crate::identity;
use crate::known;
use crate::ledger::{Ledger, Logged};
use crate::place::{far, here};
use crate::planning::{self, Sources, Terms};
use crate::survey::{Depth, survey};
use crate::telling::{self, Message, Told};
use crate::verify::{Verified, verify};
use crate::watch;
use lantern_core::component::Id;
use lantern_core::group::{Carries, Group};
use lantern_core::inventory::Severity;
use lantern_core::notice::ServerNews;
use lantern_core::outlook::{self, Outlook, Together};
use lantern_core::version::Version;
use lantern_core::watch::{Limits, News, Said, Seen};
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
    /// The folder of each server, in the same order.
    pub folders: Vec<PathBuf>,
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
        let folders = group.servers.iter();
        let folders: Vec<PathBuf> = folders
            .map(|server| known::folder_of(&server.at, base))
            .collect();
        let mut seen = BTreeMap::new();
        for (server, folder) in group.servers.iter().zip(&folders) {
            let real = here::real(folder).unwrap_or_else(|| folder.clone());
            if let Some(other) = seen.insert(real, &server.at) {
                return Err(fault(format!(
                    "server: \"{other}\" and \"{}\" are one folder",
                    server.at
                )));
            }
        }
        Ok(Found { group, folders })
    }

    /// Looks at each server, several at once; in the group's order.
    fn each<T: Send>(&self, look: impl Fn(usize, &Path) -> Result<T> + Sync) -> Vec<Result<T>> {
        let next = AtomicUsize::new(0);
        let looked = Mutex::new(Vec::new());
        std::thread::scope(|scope| {
            for _ in 0..AT_ONCE.min(self.folders.len()) {
                scope.spawn(|| {
                    while let Some((index, folder)) = {
                        let index = next.fetch_add(1, Ordering::Relaxed);
                        self.folders.get(index).map(|folder| (index, folder))
                    } {
                        let seen = look(index, folder);
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

    /// What each server carries, and what is to be held against it.
    pub fn surveyed(&self) -> Vec<Result<OneSurvey>> {
        self.each(|_, folder| {
            let (server, meanwhile) = opened(folder)?;
            let mut ledger = Ledger::open(&server.folder)?;
            let found = survey(&server, &mut ledger, Depth::Usual)?;
            glance::remember(&server, &found);
            let of = |severity| {
                let findings = found.inventory.findings.iter();
                findings.filter(|it| it.severity == severity).count()
            };
            let version = found.inventory.server_version();
            Ok(OneSurvey {
                family: server.family.name.clone(),
                server_version: version.map(ToString::to_string),
                carries: Carries::of(&found.inventory),
                wrong: of(Severity::Wrong),
                caution: of(Severity::Caution),
                meanwhile,
            })
        })
    }

    /// Who is ready for which version, at each server by itself: what is installed is not left behind.
    pub fn outlooks(&self, sources: &Sources) -> Vec<Result<OneOutlook>> {
        let terms = Terms {
            to: planning::BEST.into(),
            ..Terms::default()
        };
        self.each(|_, folder| {
            let (server, meanwhile) = opened(folder)?;
            let mut ledger = Ledger::open(&server.folder)?;
            let question = planning::question(&server, &mut ledger, sources, &terms)?;
            let installed = question.survey.inventory.server_version().cloned();
            let request = &question.request;
            let mut versions = outlook::versions(request);
            versions.retain(|version| installed.as_ref().is_none_or(|now| version >= now));
            Ok(OneOutlook {
                build: request.build.clone(),
                outlook: outlook::outlook(request, versions),
                installed,
                is_on_offer: !request.offers.is_empty(),
                left_out: question.left_out.len(),
                meanwhile,
            })
        })
    }

    /// What a look at each running server finds, and what it carries.
    pub fn verified(&self) -> Vec<Result<OneVerified>> {
        self.each(|_, folder| verified(folder))
    }

    /// The same of one of them, as an index.
    ///
    /// # Errors
    /// When it cannot be looked at.
    pub fn verified_one(&self, index: usize) -> Result<OneVerified> {
        verified(&self.folders[index])
    }

    /// Looks at each server for what is new since it was looked at last, and tells whom its lantern.toml names; `again` tells all that there is to
    /// say.
    pub fn watched(&self, sources: &Sources, again: bool, now_ms: i64) -> Vec<OneWatched> {
        let limits = &self.group.watch;
        let each =
            self.each(|_, folder| Ok(OneWatched::of(folder, sources, limits, again, now_ms)));
        each.into_iter().flatten().collect()
    }

    /// What was done at each server, in the order in which it was.
    pub fn histories(&self) -> Vec<Result<OneHistory>> {
        self.each(|_, folder| {
            let (server, meanwhile) = opened(folder)?;
            let operations = Ledger::open(&server.folder)?.operations()?;
            Ok(OneHistory {
                operations,
                meanwhile,
            })
        })
    }

    /// How each server is, at a glance.
    pub fn glanced(&self) -> Vec<Result<OneAtAGlance>> {
        self.each(|_, folder| {
            let (server, meanwhile) = opened(folder)?;
            Ok(OneAtAGlance {
                glance: glance::glance(&server)?,
                meanwhile,
            })
        })
    }
}

/// Opens a server to look at it, with what goes on there.
fn opened(folder: &Path) -> Result<(Server, Meanwhile)> {
    let server = Server::open(folder)?;
    identity::confirm(&server.folder)?;
    let meanwhile = meanwhile(&server)?;
    Ok((server, meanwhile))
}

fn verified(folder: &Path) -> Result<OneVerified> {
    let (server, meanwhile) = opened(folder)?;
    let mut ledger = Ledger::open(&server.folder)?;
    let found = survey(&server, &mut ledger, Depth::Usual)?;
    let mut each = Vec::new();
    for one in server.each() {
        let seen = verify(&one, &found.part(&one).inventory)?;
        each.push((one.which().map(str::to_owned), seen));
    }
    Ok(OneVerified {
        each,
        carries: Carries::of(&found.inventory),
        meanwhile,
    })
}

/// What a look at a running server of a group found.
#[derive(Debug)]
pub struct OneVerified {
    /// What was seen; of several servers of one install, of each by name.
    pub each: Vec<(Option<String>, Verified)>,
    /// All that it carries.
    pub carries: Carries,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

impl OneVerified {
    /// Whether all that runs there is up and as it should be; none where nobody can tell of one.
    pub fn seen_right(&self) -> Option<bool> {
        let mut each = self.each.iter();
        each.try_fold(true, |all, (_, seen)| Some(all && seen.seen_right()?))
    }

    /// What is wrong, or why nobody can tell, in words; nothing where all is as it should be.
    pub fn problems(&self) -> Vec<String> {
        let each = self.each.iter().flat_map(|(name, seen)| {
            let of_it = name
                .as_ref()
                .map_or(String::new(), |name| format!("{name}: "));
            let problems = seen.problems().into_iter();
            problems.map(move |it| format!("{of_it}{it}"))
        });
        each.collect()
    }
}

/// What is new of a server of a group.
#[derive(Debug)]
pub struct OneWatched {
    /// What was seen of it.
    pub seen: Seen,
    /// What of that is new.
    pub news: News,
    /// When it was looked at last before, in milliseconds since 1970.
    pub last_ms: Option<i64>,
    /// Who was told.
    pub told: Vec<Told>,
    /// Why it could not be written down what was said, so that it will be said again.
    pub unwritten: Option<String>,
}

impl OneWatched {
    fn of(
        folder: &Path,
        sources: &Sources,
        limits: &Limits,
        again: bool,
        now_ms: i64,
    ) -> OneWatched {
        let faulty = |error: &Error| Seen {
            fault: Some(error.to_string()),
            ..Seen::default()
        };
        let server = opened(folder).and_then(|(server, meanwhile)| {
            let before = watch::said(&server)?;
            Ok((server, meanwhile, before))
        });
        let (server, meanwhile, before) = match server {
            Ok(opened) => opened,
            // Whoever cannot be opened has no lantern.toml that says who is told, and nothing to write down into.
            Err(error) => {
                let seen = faulty(&error);
                return OneWatched {
                    news: Said::default().news(&seen, limits, now_ms),
                    seen,
                    last_ms: None,
                    told: Vec::new(),
                    unwritten: None,
                };
            }
        };
        let seen = watch::look(&server, sources, &meanwhile);
        let seen = seen.unwrap_or_else(|error| faulty(&error));
        let last_ms = before.as_ref().map(|(_, at_ms)| *at_ms);
        let before = before.filter(|_| !again).map(|(said, _)| said);
        let mut said = before.unwrap_or_default();
        let news = said.news(&seen, limits, now_ms);
        let told = match news.new.is_empty() {
            true => Vec::new(),
            false => {
                let message = ServerNews::new(&server.config.name, news.new.clone());
                telling::tell(&server, Message::News(&message))
            }
        };
        OneWatched {
            unwritten: watch::remember(&server, &said, now_ms)
                .err()
                .map(|error| error.to_string()),
            seen,
            news,
            last_ms,
            told,
        }
    }
}

/// What was done at a server of a group.
#[derive(Debug)]
pub struct OneHistory {
    /// The first first.
    pub operations: Vec<Logged>,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

/// What a survey found of a server of a group.
#[derive(Debug)]
pub struct OneSurvey {
    /// What kind of server it is.
    pub family: String,
    /// Its version, where that is known.
    pub server_version: Option<String>,
    /// All that it carries.
    pub carries: Carries,
    /// How many findings say that something is wrong.
    pub wrong: usize,
    /// How many say caution.
    pub caution: usize,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

/// How a server of a group is.
#[derive(Debug)]
pub struct OneAtAGlance {
    /// What can be said at once.
    pub glance: Glance,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

/// Who is ready for which version of a server of a group.
#[derive(Debug)]
pub struct OneOutlook {
    /// The id of its server program.
    pub build: Id,
    /// The version that is installed, where it is known.
    pub installed: Option<Version>,
    /// By server version.
    pub outlook: Outlook,
    /// Whether anything is on offer.
    pub is_on_offer: bool,
    /// How many releases and archives were left out, as they could not be read.
    pub left_out: usize,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

impl OneOutlook {
    /// Whether everything fits together there on a version; none where nobody offers that version for it.
    pub fn together(&self, version: &Version) -> Option<Together> {
        let at = self.at(version)?;
        self.outlook.together.get(at).copied()
    }

    /// What runs there and is not ready for a version.
    pub fn not_ready(&self, version: &Version) -> Vec<&Id> {
        let Some(at) = self.at(version) else {
            return Vec::new();
        };
        let rows = self.outlook.rows.iter().filter(|row| !row.off);
        let rows = rows.filter(|row| row.standings.get(at).is_some_and(|it| !it.is_ready()));
        rows.map(|row| &row.id).collect()
    }

    fn at(&self, version: &Version) -> Option<usize> {
        self.outlook.versions.iter().position(|it| it == version)
    }
}
