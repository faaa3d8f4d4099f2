//! Somebody else's listings, asked page by page, and no faster than they want to be.

use crate::error::{Error, Result};
use crate::gather::{Gatherer, Stale};
use crate::place::here;
use lantern_core::component::Id;
use lantern_core::family::Family;
use lantern_core::listing::{Asked, Listing, ListingFault, Next, Seen};
use lantern_core::offer::Offer;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};
use url::Url;

/// How the name of a mapping ends.
pub const END: &str = ".listing.toml";
/// What a release needs and nobody has is asked for, too, and what that needs: so many rounds.
const ROUNDS: usize = 5;
/// So many components are asked for at once, where nobody limits how often.
const AT_ONCE: usize = 8;

/// Whether a file is a mapping, by its name.
pub fn is_one(path: &Path) -> bool {
    path.to_str().is_some_and(|path| path.ends_with(END))
}

/// What is asked of a listing.
#[derive(Debug, Clone, Copy)]
pub struct Question<'a> {
    /// The components that matter, as they are called here.
    pub ids: &'a BTreeSet<Id>,
    /// What they are called there, where that is something else.
    pub called: &'a BTreeMap<Id, String>,
    /// The server version that is asked for, or is installed.
    pub server: &'a str,
    /// How versions are written, and ids spelled.
    pub family: &'a Family,
}

/// What a listing has.
#[derive(Debug, Default)]
pub struct Listed {
    /// Its releases.
    pub offers: Vec<Offer>,
    /// What could not be used: where, and why.
    pub left_out: Vec<(String, String)>,
    /// Where it was asked.
    pub from: Option<Url>,
    /// Answers that could not be had anew.
    pub stale: Vec<Stale>,
}

/// Reads a mapping.
///
/// # Errors
/// When it is none.
pub fn read(path: &Path) -> Result<Listing> {
    let text = here::read_text(path)?;
    Listing::parse(&text).map_err(|fault| Error::Listing {
        at: path.display().to_string(),
        fault,
    })
}

/// Asks a listing for all that matters: the components, what their releases need, and what those need.
///
/// # Errors
/// When it cannot be asked and never was, or an answer cannot be read by the mapping.
pub fn ask(listing: &Listing, question: Question<'_>, gatherer: &Gatherer) -> Result<Listed> {
    let pace = Pace::new(listing.ask.per_second);
    let theirs: BTreeMap<String, String> = question
        .called
        .iter()
        .map(|(ours, theirs)| (theirs.clone(), ours.to_string()))
        .collect();
    let asking = Asking {
        listing,
        question,
        theirs: &theirs,
        gatherer,
        pace: &pace,
    };
    let from = Url::parse(&listing.ask.url).ok();
    if !listing.asks_each() {
        let listed = asking.all_pages(None)?;
        return Ok(Listed { from, ..listed });
    }
    let mut all = Listed {
        from,
        ..Listed::default()
    };
    let mut asked: BTreeSet<Id> = BTreeSet::new();
    let mut next: BTreeSet<Id> = question.ids.clone();
    for _ in 0..ROUNDS {
        let ids: Vec<&Id> = next.iter().collect();
        if ids.is_empty() {
            break;
        }
        let from = all.offers.len();
        for listed in asking.each(&ids) {
            let listed = listed?;
            all.offers.extend(listed.offers);
            all.left_out.extend(listed.left_out);
            all.stale.extend(listed.stale);
        }
        asked.append(&mut next);
        let needs = all.offers[from..]
            .iter()
            .flat_map(|offer| &offer.facts.needs);
        next = needs
            .map(|need| need.id.clone())
            .filter(|id| !asked.contains(id))
            .collect();
    }
    Ok(all)
}

/// What is made of the first answer for a component, field by field; the answer's address with it.
///
/// # Errors
/// As [`ask`].
pub fn explain(
    listing: &Listing,
    id: Option<&str>,
    question: Question<'_>,
    gatherer: &Gatherer,
) -> Result<(String, Vec<Seen>)> {
    let url = listing.address(id, question.server, listing.ask.first_page);
    let answer = gatherer.text_within(&url, None, listing.is_of_pages())?;
    let asked = Asked {
        id,
        url: &url,
        page: listing.ask.first_page,
        ids: &BTreeMap::new(),
    };
    let seen = listing.explain(&answer.text, asked, question.family);
    let seen = seen.map_err(|fault| failed(&url, fault))?;
    Ok((url, seen))
}

fn failed(url: &str, fault: ListingFault) -> Error {
    Error::Listing {
        at: url.to_owned(),
        fault,
    }
}

struct Asking<'a> {
    listing: &'a Listing,
    question: Question<'a>,
    theirs: &'a BTreeMap<String, String>,
    gatherer: &'a Gatherer,
    pace: &'a Pace,
}

impl Asking<'_> {
    /// Asks for each component, some at once.
    fn each(&self, ids: &[&Id]) -> Vec<Result<Listed>> {
        let share = ids.len().div_ceil(AT_ONCE).max(1);
        std::thread::scope(|scope| {
            let shares = ids.chunks(share).map(|share| {
                scope.spawn(move || -> Vec<Result<Listed>> {
                    let one = |id: &&Id| self.all_pages(Some(*id));
                    share.iter().map(one).collect()
                })
            });
            let shares: Vec<_> = shares.collect();
            let shares = shares.into_iter().flat_map(|share| match share.join() {
                Ok(listed) => listed,
                Err(panic) => std::panic::resume_unwind(panic),
            });
            shares.collect()
        })
    }

    /// Goes through the pages of one component, or of all.
    fn all_pages(&self, id: Option<&Id>) -> Result<Listed> {
        let listing = self.listing;
        let called = id.map(|id| match self.question.called.get(id) {
            Some(theirs) => theirs.as_str(),
            None => id.as_str(),
        });
        let mut listed = Listed::default();
        let mut page = listing.ask.first_page;
        let mut url = listing.address(called, self.question.server, page);
        let mut seen = BTreeSet::new();
        while seen.insert(url.clone()) && (seen.len() as u64) <= listing.ask.most_pages {
            let fresh = Duration::from_secs(listing.ask.fresh_s);
            if !self.gatherer.store.is_fresh(&url, fresh) {
                self.pace.wait();
            }
            let answer = match self
                .gatherer
                .text_within(&url, Some(fresh), listing.is_of_pages())
            {
                // What a listing does not know, it has no releases of.
                Err(error) if id.is_some() && error.is_not_there() => {
                    self.gatherer.store.keep_nothing(&url);
                    break;
                }
                answer => answer?,
            };
            if answer.text.is_empty() {
                break;
            }
            if let Some((fault, age)) = answer.stale {
                listed.stale.push(Stale {
                    url: url.clone(),
                    why: fault.to_string(),
                    age,
                });
            }
            let asked = Asked {
                id: called,
                url: &url,
                page,
                ids: self.theirs,
            };
            let read = listing.read(&answer.text, asked, self.question.family);
            let read = read.map_err(|fault| failed(&url, fault))?;
            listed.offers.extend(read.offers);
            let left_out = read.left_out.into_iter();
            listed
                .left_out
                .extend(left_out.map(|(number, why)| (format!("{url}, number {number}"), why)));
            url = match read.next {
                None => break,
                Some(Next::Address(next)) => {
                    page += 1;
                    next
                }
                Some(Next::Page(next)) => {
                    page = next;
                    listing.address(called, self.question.server, page)
                }
            };
        }
        Ok(listed)
    }
}

/// So many a second, and no more.
struct Pace {
    pause: Duration,
    next: Mutex<Instant>,
}

impl Pace {
    fn new(per_second: Option<f64>) -> Pace {
        let per_second = per_second.filter(|many| *many > 0.0);
        Pace {
            pause: per_second.map_or(Duration::ZERO, |many| {
                Duration::try_from_secs_f64(1.0 / many).unwrap_or(Duration::ZERO)
            }),
            next: Mutex::new(Instant::now()),
        }
    }

    /// Waits for one's turn.
    fn wait(&self) {
        let turn = {
            let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
            let turn = (*next).max(Instant::now());
            *next = turn + self.pause;
            turn
        };
        std::thread::sleep(turn.saturating_duration_since(Instant::now()));
    }
}
