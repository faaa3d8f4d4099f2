//! A server that is kept up by itself: what moves tonight, as far as lantern.toml leaves it to that.
//!
//! `.lantern/seen.json` holds since when releases are on offer that state no date; `.lantern/keep-up.json` what came of the last time;
//! `.lantern/keep-up.plan.json` is the plan. The armed plan is another one, and stays as it is.

pub mod fault;

use crate::config::Server;
use crate::error::{Error, Result};
use crate::folder::own;
use crate::keep_up::fault::KeepUpFault;
use crate::night::refuse_by_hand;
use crate::place::here;
use crate::planning::fault::PlanningFault;
use crate::planning::{self, Question, SAME, Sources, Terms};
use crate::unattended::fault::UnattendedFault;
use crate::unattended::told;
use lantern_core::component::Id;
use lantern_core::keep_up::{FirstSeen, Left, OldEnough, Waits, mark, narrow};
use lantern_core::offer::Offer;
use lantern_core::path::RelPath;
use lantern_core::plan::{Fate, Plan};
use lantern_core::resolve::{Policy, Prefer, Request};
use lantern_core::supply::Wanted;
use lantern_core::unattended::{Matter, matters, not_left};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

const FORMAT: u32 = 1;
const DAY_MS: i64 = 86_400_000;

/// What is asked: the newest of each that lantern.toml's sources have, for the server version that is installed.
pub fn asked() -> (Sources, Terms) {
    let terms = Terms {
        to: SAME.into(),
        policy: Policy {
            prefer: Prefer::Newest,
            ..Policy::default()
        },
        ..Terms::default()
    };
    (Sources::default(), terms)
}

fn plan_file() -> RelPath {
    own("keep-up.plan.json")
}

/// What the plan in a file came of: what is asked here, or else what an administrator has asked last.
///
/// # Errors
/// When that cannot be read.
pub fn asked_for(server: &Server, plan: &Path) -> Result<(Sources, Terms)> {
    match plan.file_name() == server.folder.shown(&plan_file()).file_name() {
        true => Ok(asked()),
        false => planning::last_question(server),
    }
}

/// What a server can be kept up with.
#[derive(Debug)]
pub struct Proposal {
    /// The server version that stays.
    pub server_version: String,
    /// The plan; none where nothing moves.
    pub plan: Option<Plan>,
    /// Where it lies.
    pub path: PathBuf,
    /// Its text.
    pub text: String,
    /// Releases that are not old enough.
    pub waits: Vec<Waits>,
    /// Components that are left to a person.
    pub left: Vec<Left>,
    /// Releases whose files could not be had, as `ID VERSION`.
    pub missing: Vec<String>,
}

/// Fetches files; those that could not be had, by what they are for.
pub type Fetch<'f> = &'f mut dyn FnMut(&[Wanted]) -> Result<Vec<String>>;

/// Draws the plan for tonight, and writes it down.
///
/// # Errors
/// [`KeepUpFault::Off`] where lantern.toml does not want it; [`NeedsPerson`](crate::night::fault::NightFault) where a person has to stop and start the
/// server; [`UnattendedFault`] where the plan decides what is not left to it and leaving components out does not help; or when nothing fits together, or the disk refuses.
pub fn propose(
    server: &Server,
    question: &mut Question<'_>,
    now_ms: i64,
    fetch: Fetch<'_>,
) -> Result<Proposal> {
    let keep_up = server.config.keep_up.as_ref().ok_or(KeepUpFault::Off)?;
    refuse_by_hand(&server.each())?;
    let may = &server.config.unattended.may;
    let first_seen = look_at_offers(server, &question.request, now_ms)?;
    let old_enough = OldEnough {
        now_ms,
        wait_ms: i64::from(keep_up.wait_days) * DAY_MS,
        first_seen: &first_seen,
    };
    let inventory = question.survey.inventory.clone();
    let mut kept = narrow(&mut question.request, &inventory, old_enough, may);
    let mut missing = Vec::new();
    let mut asked = Vec::new();
    let plan = loop {
        let mut plans = match question.plans() {
            Err(Error::Planning(PlanningFault::ToFetch(wanted))) => {
                let gone = fetch(&wanted)?;
                let is_new = asked != wanted;
                // Whatever is asked for again, though it was fetched or is off the offer, a person has to look at.
                if !is_new || !gone.is_empty() && !without(&mut question.request, &gone) {
                    return Err(Error::Planning(PlanningFault::ToFetch(wanted)));
                }
                asked = wanted;
                missing.extend(gone);
                continue;
            }
            plans => plans?,
        };
        let plan = plans.remove(0);
        let matters = matters(&plan, &inventory, &server.family.versions);
        let not_left = not_left(&matters, may);
        let mut stay: BTreeMap<&Id, Vec<Matter>> = BTreeMap::new();
        for it in not_left.values().flatten() {
            if let Some(id) = &it.component {
                stay.entry(id).or_default().push(it.matter);
            }
        }
        // What nobody has decided is for nobody to guess.
        for merge in plan
            .merges
            .iter()
            .filter(|merge| merge.questions.iter().any(|asked| asked.decided.is_none()))
        {
            stay.entry(&merge.component)
                .or_default()
                .push(Matter::HandEdits);
        }
        // A plan that moves nothing may still put an order right: that is for a person to ask for.
        let moves = plan
            .components
            .iter()
            .any(|it| it.verdict != Fate::Unchanged);
        if !moves || not_left.is_empty() && stay.is_empty() {
            break moves.then_some(plan);
        }
        let mut helps = false;
        for (id, matters) in stay {
            if *id == question.request.build || !question.request.only.remove(id) {
                continue;
            }
            helps = true;
            let change = plan.components.iter().find(|change| change.id == *id);
            if let Some((from, to)) = change.and_then(|it| it.from.clone().zip(it.to.clone())) {
                let id = id.clone();
                kept.left.push(Left {
                    id,
                    from,
                    to,
                    matters,
                });
            }
        }
        if !helps {
            return Err(UnattendedFault::NotLeft {
                asked: told(&not_left),
                may: may.iter().copied().collect(),
            }
            .into());
        }
    };
    let path = server.folder.shown(&plan_file());
    let text = plan.as_ref().map(Plan::to_json).unwrap_or_default();
    if plan.is_some() {
        here::write(&path, text.as_bytes())?;
    }
    kept.left.sort_by(|a, b| a.id.cmp(&b.id));
    Ok(Proposal {
        server_version: question.request.target.to_string(),
        plan,
        path,
        text,
        waits: kept.waits,
        left: kept.left,
        missing,
    })
}

/// Takes releases off the offer whose files cannot be had; whether any was there.
fn without(request: &mut Request, gone: &[String]) -> bool {
    let gone: BTreeSet<&str> = gone.iter().map(String::as_str).collect();
    let before = request.offers.len();
    Arc::make_mut(&mut request.offers).retain(|offer| {
        let name = format!("{} {}", offer.facts.id, offer.facts.version);
        !gone.contains(name.as_str())
    });
    request.offers.len() < before
}

/// Since when releases are on offer, as it is written down.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Seen {
    format: u32,
    releases: FirstSeen,
}

/// Notes which releases are on offer that state no date. Since when each is.
fn look_at_offers(server: &Server, request: &Request, now_ms: i64) -> Result<FirstSeen> {
    let file = own("seen.json");
    let bytes = server.folder.read_if_there(&file)?;
    // What cannot be read is forgotten: then it is as if all were new, and waits.
    let seen = bytes.and_then(|bytes| serde_json::from_slice::<Seen>(&bytes).ok());
    let mut seen = seen
        .filter(|seen| seen.format == FORMAT)
        .unwrap_or_default();
    let known = seen.releases.len();
    let states_none = |offer: &&Offer| {
        let supply = offer.supply.as_ref();
        supply.is_none_or(|supply| supply.released_ms.is_none())
    };
    let undated = request.offers.iter().filter(states_none);
    for offer in undated {
        seen.releases.entry(mark(offer)).or_insert(now_ms);
    }
    if seen.releases.len() > known {
        seen.format = FORMAT;
        let text = serde_json::to_vec_pretty(&seen).expect("it has only plain values");
        server.folder.write_whole(&file, &text)?;
    }
    Ok(seen.releases)
}

/// What came of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Came {
    /// There was nothing to do.
    Nothing,
    /// It did not work on a copy; the server itself was not touched.
    FailedOnCopy,
    /// It was not begun.
    NotBegun,
    /// It was carried out.
    Done,
    /// It was carried out, failed, and the old state is back.
    WentBack,
    /// Something went wrong; what, it says.
    Failed,
}

/// What came of the last time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LastKeepUp {
    /// The number of the format.
    pub format: u32,
    /// When that was, in milliseconds since 1970.
    pub at_ms: i64,
    /// What came of it.
    pub came: Came,
    /// Why, where it was not carried out.
    pub why: Option<String>,
    /// The last plan that was carried out and had to be taken back, by its name: it is not tried again.
    #[serde(default)]
    pub went_back: Option<String>,
}

fn last_file() -> RelPath {
    own("keep-up.json")
}

/// What came of the last time; none where there was none.
///
/// # Errors
/// When it cannot be read.
pub fn last(server: &Server) -> Result<Option<LastKeepUp>> {
    let bytes = server.folder.read_if_there(&last_file())?;
    // What a later lantern wrote says nothing to this one.
    let last = bytes.and_then(|bytes| serde_json::from_slice::<LastKeepUp>(&bytes).ok());
    Ok(last.filter(|last| last.format == FORMAT))
}

/// Writes down what came of it; `went_back` is a plan that had to be taken back, by its name.
///
/// # Errors
/// When the disk refuses.
pub fn remember(
    server: &Server,
    (came, why): (Came, Option<&str>),
    went_back: Option<String>,
    at_ms: i64,
) -> Result<()> {
    let before = last(server)?.and_then(|last| last.went_back);
    let last = LastKeepUp {
        format: FORMAT,
        at_ms,
        came,
        why: why.map(str::to_owned),
        went_back: went_back.or(before),
    };
    let text = serde_json::to_vec_pretty(&last).expect("it has only plain values");
    server.folder.write_whole(&last_file(), &text)
}
