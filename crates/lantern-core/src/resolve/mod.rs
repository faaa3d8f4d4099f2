//! Which releases fit together; if none do, what stands in the way.
//!
//! The door is [`resolve`]: a [`Request`] goes in, a [`Selection`] or an [`Obstacle`] comes out. Behind
//! it: `model` compiles the request into domains, `solver` searches them and learns from conflicts,
//! `best` proves the best answer, with `sharing` for what takes places from one another, `questions`
//! asks what would be if some facts did not count, `obstacle` boils conflicts down to minimal sets of
//! facts with it, `remedies` tries what would help, `tell` puts it into words. `refutation` writes down
//! how it is known that there is no answer, for a checker.

mod best;
mod conflict;
mod fact;
mod heap;
mod model;
mod obstacle;
mod questions;
mod refutation;
mod remedies;
mod rotation;
mod saved;
mod sharing;
mod solver;
mod tell;
mod users_first;
mod why;

pub use conflict::{Conflict, Obstacle, Remedy};
pub use fact::Fact;
pub use refutation::{ProofLine, ProofLiteral, Refutation, refutation};
pub use saved::RequestFault;
pub use why::{Explanation, WhyNot, why_not};

use crate::component::{ClientVersion, Id, Kind, Need};
use crate::facts::Facts;
use crate::hint::nearest;
use crate::offer::{Offer, Origin};
use crate::version::{Range, Version};
use best::Proof;
use foldhash::HashMap;
use model::{Candidate, Component, Model};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use solver::{Lit, Outcome, Solver};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Steps that the search for the best answer takes before it settles for the best found.
pub const EFFORT: u64 = 40_000_000;
/// Steps after which the search for any answer at all is given up.
const MOST_STEPS: u64 = 4_000_000_000;

/// What is asked of the resolver.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// The server version to move to.
    pub target: Target,
    /// The id of the server program.
    pub build: Id,
    /// Whether the server program lies outside the server folder, so that it is not chosen here.
    pub build_outside: bool,
    /// What is installed; a pack with the needs of its members that run.
    pub held: Arc<Vec<Held>>,
    /// What can be had; shared, as many variations of one request are tried.
    pub offers: Arc<Vec<Offer>>,
    /// Ids that the server program brings along.
    pub given: BTreeSet<Id>,
    /// Components to put in.
    pub add: BTreeSet<Id>,
    /// Components to take out.
    pub drop: BTreeSet<Id>,
    /// Components to keep at a version; without one, at what is installed.
    pub keep: Vec<(Id, Option<Version>)>,
    /// When not empty, only these may move.
    pub only: BTreeSet<Id>,
    /// Components that are laid again, in another variant: what is installed of them does not do.
    pub again: BTreeSet<Id>,
    /// Players who are to be let in, each under the name of the [wish](ClientVersion::wish).
    pub admit: BTreeMap<Id, ClientVersion>,
    /// What was seen on this server not to start together.
    pub learned: Vec<Learned>,
    /// What may be taken.
    pub policy: Policy,
}

/// A release that was seen not to start together with another one, or on a server version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Learned {
    /// The component.
    pub id: Id,
    /// Its version.
    pub version: Version,
    /// On which server version that was.
    pub on: Version,
    /// The other one, in the one version; the server program where it is that alone.
    pub other: Need,
    /// How that is known, in words: "known here since 4 May 2026".
    pub since: String,
}

impl Learned {
    /// It in words, without an end.
    pub fn told(&self, build: &Id) -> String {
        let how = if self.other.id == *build {
            "on"
        } else {
            "together with"
        };
        format!(
            "{} {} does not start {how} {} {}: {}",
            self.id, self.version, self.other.id, self.other.range, self.since
        )
    }
}

/// One installed component.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Held {
    /// What it says of itself.
    pub facts: Facts,
    /// Whether it may be lost where nothing fits; what the world holds never is.
    pub droppable: bool,
    /// Whether it is there and switched off: then it asks for nothing, and is what another one needs only where that
    /// needs it to be installed, not to run.
    pub off: bool,
    /// Whether a load order says if it runs, so that it may be switched off.
    pub switched: bool,
}

/// Which server versions will do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// This one, in any build of it.
    One(Version),
    /// Any in the range; the newest build that fits.
    Within(Range),
}

impl Target {
    /// Whether a server version will do.
    pub fn holds(&self, version: &Version) -> bool {
        match self {
            Target::One(target) => target.is_same_release(version),
            Target::Within(range) => range.holds(version),
        }
    }
}

impl std::fmt::Display for Target {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Target::One(version) => write!(f, "{version}"),
            Target::Within(range) if range.is_any() => f.write_str("of any version"),
            Target::Within(range) => write!(f, "{range}"),
        }
    }
}

/// What may be taken, and what is better.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Policy {
    /// Whether test releases may be chosen.
    pub early: bool,
    /// Whether releases may be chosen that were declared for other server versions.
    pub untested: bool,
    /// Which of several fitting releases is better.
    pub prefer: Prefer,
    /// Steps for proving the best answer; for what stands in the way, where there is none, a fortieth of them and a hundred for each
    /// release, at most a tenth.
    pub effort: u64,
    /// Whether everything that might help against an obstacle is tried, however much it is.
    pub all_remedies: bool,
}

impl Default for Policy {
    fn default() -> Policy {
        Policy {
            early: false,
            untested: false,
            prefer: Prefer::Settled,
            effort: EFFORT,
            all_remedies: false,
        }
    }
}

/// Which of several fitting releases is better.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Prefer {
    /// What is installed; what has to move moves to the newest.
    #[default]
    Settled,
    /// The newest.
    Newest,
}

/// What was chosen for one component.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// Which component.
    pub id: Id,
    /// What it is.
    pub kind: Kind,
    /// The version installed; `None` when it comes new.
    pub from: Option<Version>,
    /// The version chosen.
    pub to: Version,
    /// The chosen offer, as an index into the request's; `None` when what is installed stays.
    pub offer: Option<usize>,
    /// Why.
    pub reason: Reason,
    /// Whether the release was declared for the target; `None` when nobody declared anything.
    pub declared: Option<bool>,
}

/// An installed component that goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gone {
    /// Which component.
    pub id: Id,
    /// What it was.
    pub kind: Kind,
    /// The version installed.
    pub from: Version,
    /// What takes its place, where something does.
    pub replaced_by: Option<Id>,
    /// Whether the administrator asked for it to go.
    pub asked: bool,
}

/// What chosen releases need of each id, each with who needs it.
type Wants<'a> = HashMap<&'a Id, Vec<(&'a Id, &'a Need)>>;

fn wants_of<'a>(chosen: &[(&Component<'a>, &Candidate<'a>)]) -> Wants<'a> {
    let mut wants = Wants::default();
    for (_, candidate) in chosen {
        let facts = candidate.facts;
        for need in facts.needs.iter().chain(&facts.needs_installed) {
            wants.entry(&need.id).or_default().push((&facts.id, need));
        }
    }
    wants
}

/// Why what is installed cannot stay, as far as one fact tells it.
fn no_longer(held: &Facts, target: Option<&Version>, wants: &Wants<'_>) -> Reason {
    if let Some((range, target)) = held.server.as_ref().zip(target)
        && !range.holds_early(target)
    {
        return Reason::MadeForOthers {
            version: held.version.to_string(),
            range: range.to_string(),
        };
    }
    let mut wants = wants.get(&held.id).into_iter().flatten();
    let unmet = wants.find(|(_, need)| !need.range.holds_early(&held.version));
    unmet.map_or(Reason::InstalledDoesNotFit, |(id, need)| Reason::Wanted {
        id: (*id).clone(),
        range: need.range.to_string(),
    })
}

/// Why a release was chosen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "because")]
pub enum Reason {
    /// It is installed and fits.
    Fits,
    /// It is installed and switched off: whether it fits is no matter.
    Off,
    /// It is the server version asked for.
    Asked,
    /// It was put into the drop folder.
    FetchedByHand,
    /// What is installed does not fit any more.
    InstalledDoesNotFit,
    /// What is installed was made for other server versions.
    MadeForOthers {
        /// The version installed.
        version: String,
        /// What it is for.
        range: String,
    },
    /// Another component wants it in a range that what is installed is not in.
    Wanted {
        /// The other component.
        id: Id,
        /// The range.
        range: String,
    },
    /// It is laid again, in another variant.
    OtherVariant,
    /// The newest was preferred.
    Newer,
    /// Another component needs it.
    NeededBy {
        /// The other component.
        id: Id,
    },
    /// It lets players in who are to be let in.
    LetsIn {
        /// The kind of client.
        client: String,
        /// Its version.
        version: String,
    },
}

/// Releases that fit together: one for each component.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Selection {
    /// By kind, then id.
    pub choices: Vec<Choice>,
    /// What goes, by id.
    pub gone: Vec<Gone>,
    /// Whether it is proved that no selection is better.
    pub proved: bool,
}

/// Chooses a release for every component at once.
///
/// It is complete (where there is an answer it finds one) and deterministic. What it returns is best
/// in this order: fewest droppable components lost; fewest untested releases; fewest test releases;
/// for [`Prefer::Settled`] fewest changes (what is installed or in the drop folder is no change), then
/// the newest of each, summed over all; for [`Prefer::Newest`] what is in the drop folder, then the
/// newest of each, then as little put in besides as will do.
///
/// # Errors
/// With what stands in the way.
pub fn resolve(request: &Request) -> Result<Selection, Box<Obstacle>> {
    let model = Model::new(request);
    let mut search = model.search();
    let (hard, lost) = stays(&model, &mut search);
    match search.solve(&hard, MOST_STEPS) {
        Outcome::Found => {}
        Outcome::GaveUp => return Err(Box::new(Obstacle::gave_up())),
        Outcome::Impossible(core) => {
            let core = components_of(&model, &hard, &core);
            // What comes next takes as much room again.
            drop(search);
            drop(model);
            return Err(Box::new(obstacle::of(request, core)));
        }
    }
    let first = search.answer();
    for lit in &hard {
        search.require(&[*lit]);
    }
    let effort = request.policy.effort;
    let (found, proof) = best::best(&mut search, &model, first, &lost, effort);
    Ok(selection(request, &model, &found, proof == Proof::Best))
}

/// Chooses releases that fit together, without looking for better ones; none where there are none.
pub fn first_answer(request: &Request) -> Option<Selection> {
    let model = Model::new(request);
    let mut search = model.search();
    let (hard, _) = stays(&model, &mut search);
    if search.solve(&hard, MOST_STEPS) != Outcome::Found {
        return None;
    }
    let found = search.answer();
    Some(selection(request, &model, &found, false))
}

/// The components whose staying is part of a core.
fn components_of(model: &Model<'_>, hard: &[Lit], core: &[Lit]) -> BTreeSet<Id> {
    let staying = model
        .components
        .iter()
        .filter(|component| component.stays && !component.droppable);
    let both = staying.zip(hard).filter(|(_, lit)| core.contains(lit));
    both.map(|(component, _)| component.id.clone()).collect()
}

/// What keeps components: the literals that have to hold, and what is worth a price.
fn stays<'m, 'a>(
    model: &'m Model<'a>,
    search: &mut Solver<&'m Model<'a>>,
) -> (Vec<Lit>, Vec<Stay>) {
    let (mut hard, mut lost) = (Vec::new(), Vec::new());
    for component in model.components.iter().filter(|component| component.stays) {
        let stay = Stay::of(model, search, component);
        match component.droppable {
            true => lost.push(stay),
            false => hard.push(stay.lit),
        }
    }
    (hard, lost)
}

/// That a component, or what replaces it, is there.
struct Stay {
    /// Where this holds, one of those does; where it does not, one of them may.
    lit: Lit,
    one_of: Vec<Lit>,
}

impl Stay {
    fn of<'m, 'a>(
        model: &'m Model<'a>,
        search: &mut Solver<&'m Model<'a>>,
        component: &Component<'a>,
    ) -> Stay {
        let there = Lit::not(component.absent());
        let replacers = model.replacers(component).into_iter().map(Lit::is);
        let one_of: Vec<Lit> = std::iter::once(there).chain(replacers).collect();
        let lit = match one_of[..] {
            [there] => there,
            _ => {
                let helper = search.helper();
                search.require_with(helper, &one_of);
                Lit::is(helper)
            }
        };
        Stay { lit, one_of }
    }
}

fn selection(request: &Request, model: &Model<'_>, found: &[bool], proved: bool) -> Selection {
    let chosen: Vec<(&Component, &Candidate)> = model
        .components
        .iter()
        .filter_map(|component| {
            let (_, candidate) = component.vars().find(|(var, _)| found[*var as usize])?;
            Some((component, candidate))
        })
        .collect();
    let target = match &request.target {
        Target::One(version) => Some(version),
        Target::Within(_) => {
            let build = chosen
                .iter()
                .find(|(_, candidate)| candidate.facts.kind == Kind::Build);
            build.map(|(_, candidate)| &candidate.facts.version)
        }
    };
    let wants = wants_of(&chosen);
    let mut needed_by = BTreeMap::new();
    for (_, candidate) in &chosen {
        let facts = candidate.facts;
        let any = facts.needs_any.iter().flatten();
        for need in facts.needs.iter().chain(&facts.needs_installed).chain(any) {
            needed_by.entry(&need.id).or_insert(&facts.id);
        }
    }
    let mut choices: Vec<Choice> = chosen
        .iter()
        .map(|(component, candidate)| {
            let facts = candidate.facts;
            let held = component.held.map(|held| &request.held[held].facts);
            let mut needed = facts.stands_for().map(|(id, _)| id);
            let needed = needed.find_map(|id| needed_by.get(id));
            let let_in = |held: Option<&Facts>| {
                let mut players = request.admit.values();
                players.find(|it| facts.lets_in(it) && !held.is_some_and(|held| held.lets_in(it)))
            };
            Choice {
                id: facts.id.clone(),
                kind: facts.kind,
                from: held.map(|held| held.version.clone()),
                to: facts.version.clone(),
                offer: candidate.offer,
                reason: match (candidate.offer, held, needed, let_in(held)) {
                    (None, ..) if component.off => Reason::Off,
                    (None, ..) => Reason::Fits,
                    (Some(_), Some(held), ..) if held.version == facts.version => {
                        Reason::OtherVariant
                    }
                    (Some(_), ..) if facts.kind == Kind::Build => Reason::Asked,
                    (Some(offer), ..) if request.offers[offer].origin == Origin::DropFolder => {
                        Reason::FetchedByHand
                    }
                    (_, None, ..) if request.add.contains(&facts.id) => Reason::Asked,
                    (.., Some(players)) => Reason::LetsIn {
                        client: players.client.clone(),
                        version: players.version.to_string(),
                    },
                    (_, None, Some(by), _) => Reason::NeededBy { id: (*by).clone() },
                    _ if request.policy.prefer == Prefer::Newest => Reason::Newer,
                    (_, Some(held), ..) => no_longer(held, target, &wants),
                    _ => Reason::InstalledDoesNotFit,
                },
                declared: match (&facts.server, target) {
                    _ if facts.kind == Kind::Build => Some(true),
                    (Some(range), Some(target)) if !target.is_content() => {
                        Some(range.holds_early(target))
                    }
                    _ => None,
                },
            }
        })
        .collect();
    choices.sort_by(|a, b| (a.kind, &a.id).cmp(&(b.kind, &b.id)));
    let there: BTreeSet<&Id> = choices.iter().map(|choice| &choice.id).collect();
    let lost = request
        .held
        .iter()
        .map(|held| &held.facts)
        .filter(|held| !there.contains(&held.id));
    let lost = lost.filter(|held| held.kind != Kind::Build);
    let mut gone: Vec<Gone> = lost
        .map(|held| {
            let replacer = chosen
                .iter()
                .find(|(_, c)| c.facts.replaces.contains(&held.id));
            Gone {
                id: held.id.clone(),
                kind: held.kind,
                from: held.version.clone(),
                asked: request.drop.contains(&held.id),
                replaced_by: replacer.map(|(_, candidate)| candidate.facts.id.clone()),
            }
        })
        .collect();
    gone.sort_by(|a, b| a.id.cmp(&b.id));
    Selection {
        choices,
        gone,
        proved,
    }
}

/// An id that a request knows nothing of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnknownId {
    /// What was named.
    pub id: Id,
    /// The known id that is nearest to it, where any is near.
    pub near: Option<Id>,
}

impl Request {
    /// Looks whether an id is one of what is installed or on offer, or inside of that. `besides` are ids of which it was not
    /// asked for anything.
    ///
    /// # Errors
    /// With the nearest that is.
    pub fn knows(&self, id: &Id, besides: &[Id]) -> Result<(), UnknownId> {
        let held = self.held.iter().map(|held| &held.facts);
        let all = held.chain(self.offers.iter().map(|offer| &offer.facts));
        let ids = || {
            let ids = all
                .clone()
                .flat_map(|facts| facts.stands_for().map(|(id, _)| id));
            ids.chain(&self.given).chain([&self.build])
        };
        if ids().any(|known| known == id) {
            return Ok(());
        }
        let near = nearest(id.as_str(), ids().chain(besides).map(Id::as_str)).map(Id::new);
        Err(UnknownId {
            id: id.clone(),
            near,
        })
    }

    /// The question in its plainest form: from what is installed to a server version.
    pub fn new(target: Target, build: Id) -> Request {
        Request {
            target,
            build,
            build_outside: false,
            held: Arc::default(),
            offers: Arc::default(),
            given: BTreeSet::new(),
            add: BTreeSet::new(),
            drop: BTreeSet::new(),
            keep: Vec::new(),
            only: BTreeSet::new(),
            again: BTreeSet::new(),
            admit: BTreeMap::new(),
            learned: Vec::new(),
            policy: Policy::default(),
        }
    }

    /// Whether a release was seen not to start on a server version.
    pub fn is_known_to_fail(&self, facts: &Facts, on: &Version) -> bool {
        self.learned.iter().any(|it| {
            let is_it = it.id == facts.id && it.version == facts.version;
            is_it && it.other.id == self.build && it.on.is_same_release(on)
        })
    }

    /// Whether a range of server versions holds one that will do.
    fn runs_somewhere(&self, range: &Range) -> bool {
        match &self.target {
            Target::One(target) => range.may_hold(target),
            Target::Within(_) => {
                let held = self.held.iter().map(|held| &held.facts);
                let mut builds = held
                    .chain(self.offers.iter().map(|offer| &offer.facts))
                    .filter(|facts| facts.kind == Kind::Build && self.target.holds(&facts.version));
                builds.any(|build| range.may_hold(&build.version))
            }
        }
    }

    /// The newest release of a component that may be taken: for the target, not withdrawn, and no test release where those
    /// are not allowed. Whether it fits the rest is another question.
    pub fn latest(&self, id: &Id) -> Option<Version> {
        let fits = |facts: &&Facts| {
            let runs = facts
                .server
                .as_ref()
                .is_none_or(|range| self.runs_somewhere(range));
            let early = self.policy.early || !facts.is_early();
            (runs || self.policy.untested) && early && !facts.withdrawn
        };
        let versions = self.releases(id).filter(fits);
        versions.map(|facts| facts.version.clone()).max()
    }

    /// Whether the administrator's own wishes let a release be chosen.
    pub(crate) fn allowed_by_pins(&self, facts: &Facts, is_held: bool) -> bool {
        let pinned = self.keep.iter().find(|(id, _)| *id == facts.id);
        let free =
            self.only.is_empty() || self.only.contains(&facts.id) || facts.kind == Kind::Build;
        match pinned {
            Some((_, Some(version))) => *version == facts.version,
            Some((_, None)) => is_held,
            None => free || is_held || !self.held.iter().any(|held| held.facts.id == facts.id),
        }
    }
}

#[cfg(test)]
pub(crate) mod tests;
