//! Fetching what a plan needs, and saying what became of each file.

use crate::answers;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use crate::progress::{at_work, during};
use indicatif::ProgressBar;
use lantern_core::plan::Plan;
use lantern_core::supply::{HashKind, Wanted};
use lantern_host::config::Server;
use lantern_host::editions::{self, Edition};
use lantern_host::gather::{self, Come, Gatherer, Missing, NotIt};
use lantern_host::planning::fault::PlanningFault;
use lantern_host::{Error, Result};
use std::path::PathBuf;
use std::time::Duration;

/// How often folders are looked at again, for what a person fetches.
const LOOK: Duration = Duration::from_secs(2);

/// Fetches what a plan needs and is not there any more.
///
/// # Errors
/// When the disk refuses, or `[gather]` cannot be used.
pub fn of_plan(
    server: &Server,
    plan: &Plan,
    folders: &[PathBuf],
    waits: bool,
    look: &Look,
) -> Result<Gathered> {
    let wanted = gather::wanted_by(plan);
    let gathered = fetch(server, &wanted, folders, waits, look)?;
    gather::put_for(plan, &server.store())?;
    Ok(gathered)
}

/// A name of a release that is longer than this moves what follows it.
const WIDEST: usize = 36;

/// What came of fetching.
#[derive(Debug, Default)]
pub struct Gathered {
    total: usize,
    got: Vec<answers::Fetched>,
    missing: Vec<(Wanted, Missing)>,
}

impl Gathered {
    /// Whether every file is here.
    pub fn is_whole(&self) -> bool {
        self.missing.is_empty()
    }

    /// What could not be had, by what it is for.
    pub fn missing(&self) -> Vec<String> {
        self.missing.iter().map(|(it, _)| it.what.clone()).collect()
    }

    /// Answers with it; returns the exit status.
    pub fn tell(self, common: &Common, look: &Look) -> u8 {
        let is_whole = self.is_whole();
        let status = if is_whole { fail::DONE } else { fail::NO };
        if look.json {
            look.answer(&answers::Gathered {
                complete: is_whole,
                fetched: self.got,
                missing: self.missing.iter().map(unfetched).collect(),
            });
            return status;
        }
        if self.total == 0 {
            look.say("Nothing has to be fetched: every file is here.");
            return status;
        }
        let sum: u64 = self.got.iter().map(|it| it.bytes).sum();
        let size = match sum {
            0 => String::new(),
            sum => format!(", {}", bytes(sum)),
        };
        let told = format!(
            "{} of {} here{size}.",
            self.total - self.missing.len(),
            count(self.total, "file is", "files are"),
        );
        let means = if is_whole { Means::Good } else { Means::Bad };
        look.say(&look.paint(means, &told));
        let by_person = |(it, _): &(Wanted, Missing)| it.supply.page.is_some();
        if self.missing.iter().any(by_person) {
            let next = common.next("gather --from DIR --wait");
            look.say(&format!(
                "With the folder that your browser downloads to: {next}"
            ));
        }
        status
    }
}

fn unfetched((it, why): &(Wanted, Missing)) -> answers::Unfetched {
    answers::Unfetched {
        what: it.what.clone(),
        name: it.supply.name.clone(),
        bytes: it.supply.bytes,
        page: it.supply.page.clone(),
        by_person: match why {
            Missing::ByPerson(why) => Some(why.clone()),
            _ => None,
        },
        tried: match why {
            Missing::Tried(faults) => faults
                .iter()
                .map(|(url, fault)| answers::TriedUrl {
                    url: url.clone(),
                    why: fault.to_string(),
                })
                .collect(),
            _ => Vec::new(),
        },
    }
}

/// Fetches files; says of each what became of it, and what is missing in the end.
///
/// # Errors
/// When a folder cannot be read, the store cannot be written, or `[gather]` cannot be used.
pub fn fetch(
    server: &Server,
    wanted: &[Wanted],
    folders: &[PathBuf],
    waits: bool,
    look: &Look,
) -> Result<Gathered> {
    if wanted.is_empty() {
        return Ok(Gathered::default());
    }
    let width = width_of(wanted);
    let gatherer = server.gatherer()?;
    let mut left: Vec<Wanted> = wanted.to_vec();
    let mut folders: Vec<PathBuf> = folders.to_vec();
    folders.extend(server.drop_folders());
    let mut got: Vec<answers::Fetched> = Vec::new();
    let mut missing = Vec::new();
    let mut first = true;
    while !left.is_empty() {
        let mut like = Vec::new();
        for folder in &folders {
            let found = during("downloads are looked at", || {
                gather::find(folder, &left, &gatherer.store)
            })?;
            for (at, (stored, path)) in &found.there {
                let it = &left[*at];
                look.talk(&format!(
                    "  {:<14} {:<width$}  {}, from {}",
                    "taken",
                    it.what,
                    bytes(stored.bytes),
                    shell_word(path)
                ));
                got.push(answers::Fetched {
                    what: it.what.clone(),
                    file: stored.path.clone(),
                    bytes: stored.bytes,
                    from: path.display().to_string(),
                    resumed: 0,
                    checked: it.supply.checks.first().map(|check| check.kind),
                });
            }
            like.extend(
                found
                    .like
                    .into_iter()
                    .map(|(at, path, why)| (left[at].what.clone(), path, why)),
            );
            let mut at = 0;
            left.retain(|_| {
                at += 1;
                !found.there.contains_key(&(at - 1))
            });
        }
        // What nobody but a person can fetch is waited for; all else is asked for once.
        missing = fetched(&gatherer, &left, look, &mut got, !first);
        left = missing
            .iter()
            .map(|(it, _): &(Wanted, Missing)| it.clone())
            .collect();
        let is_by_person = |(it, why): &(Wanted, Missing)| {
            matches!(why, Missing::ByPerson(_) | Missing::NoAddress) && it.supply.page.is_some()
        };
        if first && !missing.is_empty() {
            for folder in &folders {
                let others = during("downloads are looked at", || {
                    editions::read(folder, &server.family)
                })?;
                for (path, edition) in others {
                    told_apart(&mut like, path, edition);
                }
            }
            tell_missing(&missing, &like, look);
        }
        let may_come = missing.iter().all(is_by_person) && !folders.is_empty();
        if left.is_empty() || !waits || !may_come {
            break;
        }
        if first {
            let names = folders
                .iter()
                .map(|folder| shell_word(folder))
                .collect::<Vec<_>>();
            look.talk(&format!(
                "  waiting for {} in {} (Ctrl-C ends it)",
                count(left.len(), "file", "files"),
                names.join(", ")
            ));
        }
        first = false;
        if !lantern_host::interrupt::pause(LOOK) {
            break;
        }
    }
    if let Some(limit) = server.config.gather.limit {
        let stays: Vec<PathBuf> = got.iter().map(|it| it.file.clone()).collect();
        gatherer.store.clean(limit.0, &stays)?;
    }
    Ok(Gathered {
        total: wanted.len(),
        got,
        missing,
    })
}

fn fetched(
    gatherer: &Gatherer,
    wanted: &[Wanted],
    look: &Look,
    got: &mut Vec<answers::Fetched>,
    quietly: bool,
) -> Vec<(Wanted, Missing)> {
    let width = width_of(wanted);
    let bar = match quietly {
        true => ProgressBar::hidden(),
        false => at_work("files are fetched"),
    };
    let tell = |it: &Wanted, come: &Result<Come, Missing>| {
        if let Ok(come) = come
            && !quietly
        {
            bar.suspend(|| look.talk(&line_of(it, come, width)));
        }
    };
    let answers = gatherer.fetch(wanted, &tell);
    bar.finish_and_clear();
    let mut missing = Vec::new();
    for (it, answer) in wanted.iter().zip(answers) {
        match answer {
            Ok(come) => got.push(answers::Fetched {
                what: it.what.clone(),
                file: come.stored.path,
                bytes: come.stored.bytes,
                from: come.host,
                resumed: come.resumed,
                checked: come.checked,
            }),
            Err(why) => missing.push((it.clone(), why)),
        }
    }
    missing
}

/// How wide the names of releases are, so that what is said of each stands below the other.
fn width_of(wanted: &[Wanted]) -> usize {
    let widths = wanted.iter().map(|it| it.what.chars().count());
    widths.max().unwrap_or(0).min(WIDEST)
}

/// What became of one file.
fn line_of(it: &Wanted, come: &Come, width: usize) -> String {
    let what = format!("{:<width$}  {}", it.what, bytes(come.stored.bytes));
    if come.host.is_empty() {
        return format!("  {:<14} {what}", "in the store");
    }
    let checked = match come.checked {
        None => ", unchecked: nobody states a hash".to_owned(),
        Some(kind @ (HashKind::Sha1 | HashKind::Md5)) => format!(", checked by {kind} only"),
        Some(kind) => format!(", checked by {kind}"),
    };
    let resumed = match come.resumed {
        0 => String::new(),
        there => format!(", continued after {}", bytes(there)),
    };
    format!(
        "  {:<14} {what} from {}{checked}{resumed}",
        "fetched", come.host
    )
}

/// Notes of a download what it is: where its name does not tell, and where it says why it is not what is wanted.
fn told_apart(like: &mut Vec<(String, PathBuf, NotIt)>, path: PathBuf, edition: Edition) {
    let known = like.iter_mut().find(|(_, known, _)| *known == path);
    match (edition, known) {
        (Edition::Broken(why), Some((.., not_it))) if *not_it == NotIt::Other => {
            *not_it = NotIt::Broken(why);
        }
        (Edition::Client(_), Some((.., not_it))) => *not_it = NotIt::ClientEdition,
        (Edition::Client(what), None) => like.push((what, path, NotIt::ClientEdition)),
        (Edition::Of(what), None) => like.push((what, path, NotIt::SaysSo)),
        (Edition::Broken(_) | Edition::Of(_), _) => {}
    }
}

fn tell_missing(missing: &[(Wanted, Missing)], like: &[(String, PathBuf, NotIt)], look: &Look) {
    for (it, why) in missing {
        let word = look.paint_error(Means::Bad, &format!("{:<14}", "missing"));
        let size = it
            .supply
            .bytes
            .map_or(String::new(), |size| format!("   {}", bytes(size)));
        look.talk(&format!("  {word} {} ({}){size}", it.what, it.supply.name));
        match why {
            Missing::ByPerson(why) => look.talk(&format!("    only a person can fetch it: {why}")),
            Missing::NoAddress => look.talk("    nobody states an address of the file"),
            Missing::Tried(faults) => {
                for (url, fault) in faults {
                    look.talk(&format!("    {url}: {fault}"));
                }
            }
        }
        if let Some(page) = &it.supply.page {
            look.talk(&format!("    its page: {page}"));
        }
        for (_, path, why) in like.iter().filter(|(what, ..)| *what == it.what) {
            look.talk(&format!("    {} is not it: {why}", shell_word(path)));
        }
    }
}

/// Shows what has to be fetched before a plan can be drawn.
pub fn show_wanted(wanted: &[Wanted], common: &Common, look: &Look) {
    if look.json {
        look.answer(&answers::PlanWaits {
            files: wanted
                .iter()
                .map(|it| answers::WantedFile {
                    what: it.what.clone(),
                    file: it.supply.clone(),
                })
                .collect(),
        });
        return;
    }
    let sum: u64 = wanted.iter().filter_map(|it| it.supply.bytes).sum();
    let title = format!(
        "{} to be fetched before this can be planned file by file: {}.",
        count(wanted.len(), "file has", "files have"),
        bytes(sum)
    );
    look.say(&look.paint(Means::Title, &title));
    look.say("");
    let rows = wanted.iter().map(|it| {
        let supply = &it.supply;
        let host = supply.urls.iter().find_map(|url| url.split('/').nth(2));
        let from = match (&supply.by_person, host) {
            (Some(why), _) => format!("only by a person: {why}"),
            (None, Some(host)) => host.to_owned(),
            (None, None) => "nobody states an address".to_owned(),
        };
        let check = match supply.checks.first() {
            Some(check) => check.kind.to_string(),
            None => "none".to_owned(),
        };
        vec![
            it.what.clone(),
            supply.name.clone(),
            supply.bytes.map_or("unknown".into(), bytes),
            check,
            from,
        ]
    });
    look.table(&["release", "file", "size", "hash", "from"], rows.collect());
    look.next(&common.next("gather"));
}

/// What has to be fetched for a plan that waits for it; none where something else is wrong.
pub fn waits_for(error: &Error) -> Option<&[Wanted]> {
    match error {
        Error::Planning(PlanningFault::ToFetch(wanted)) => Some(wanted),
        _ => None,
    }
}
