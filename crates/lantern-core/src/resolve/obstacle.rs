//! What stands in the way: minimal sets of facts, and what was tried and would help.

use super::fact::{Fact, Lens};
use super::model::{Component, Model, named_by};
use super::solver::{Lit, Outcome};
use super::{MOST_STEPS, Request, Target, answer_without, components_of, search_of, stay, stays};
use crate::component::{Id, Kind};
use crate::facts::Facts;
use crate::version::Version;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// So many independent conflicts are told apart.
const MOST_CONFLICTS: usize = 12;
/// So many other server versions are tried.
const MOST_VERSIONS: usize = 6;

/// Why there is no answer.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Obstacle {
    /// The conflicts, each for itself enough; none when the search was given up.
    pub conflicts: Vec<Conflict>,
}

/// Facts that cannot hold together: take any one away and the others can.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    /// The facts.
    pub facts: BTreeSet<Fact>,
}

/// Something that helps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Remedy {
    /// Take a component out, and with it those that need it.
    Drop {
        /// The component.
        id: Id,
        /// What goes with it.
        also: Vec<Id>,
    },
    /// Another server version.
    Version(Version),
    /// Allow these test releases.
    Early(Vec<(Id, Version)>),
    /// Allow these releases that were declared for other server versions.
    Untested(Vec<(Id, Version)>),
    /// Wait for a release of the component for this server version.
    Wait(Id),
    /// Put the archive of what is installed on offer.
    Offer(Id),
    /// Let go of a component that is kept at a version.
    Unpin(Id),
    /// Switch a component on that is installed and off.
    SwitchOn(Id),
    /// Switch a component off, which then does not run and hinders nothing.
    SwitchOff(Id),
    /// Let a component stay that was to go.
    Undrop(Id),
}

impl Obstacle {
    /// Tries what would help against each conflict, with the other conflicts out of the way.
    pub fn remedies(&self, request: &Request) -> Vec<Vec<Remedy>> {
        let of = |conflict: &Conflict| {
            let others = self.conflicts.iter().filter(|other| *other != conflict);
            let causes = others.flat_map(|other| causes(&other.facts));
            let others: BTreeSet<Fact> = causes
                .filter(|fact| !conflict.facts.contains(fact))
                .collect();
            remedies(request, &conflict.facts, &others)
        };
        self.conflicts.iter().map(of).collect()
    }

    /// The search was given up: there may be an answer or not.
    pub(super) fn gave_up() -> Obstacle {
        Obstacle::default()
    }
}

/// Boils down why a request has no answer.
///
/// When a conflict is found, the facts in it that make it one are taken away and the search goes on:
/// what still conflicts has other causes.
///
/// `core` are components that cannot all be there, from the search that found no answer.
pub(super) fn of(request: &Request, core: BTreeSet<Id>) -> Obstacle {
    let mut found: Vec<BTreeSet<Fact>> = Vec::new();
    let mut away: BTreeSet<Fact> = BTreeSet::new();
    let mut next = alone_impossible(request, &away).or(Some(core));
    while let Some(together) = next {
        let together = fewest(request, together, &away);
        let facts = minimal(request, &together, &away);
        let before = away.len();
        away.extend(causes(&facts));
        found.push(facts);
        next = match away.len() == before || found.len() == MOST_CONFLICTS {
            true => None,
            false => cannot_be_together(request, &away),
        };
    }
    Obstacle {
        conflicts: found.into_iter().map(|facts| Conflict { facts }).collect(),
    }
}

/// The facts of a conflict without those that only say what ought to be.
fn causes(facts: &BTreeSet<Fact>) -> impl Iterator<Item = Fact> {
    let wish = |fact: &&Fact| matches!(fact, Fact::Stays(_) | Fact::Target);
    facts.iter().filter(move |fact| !wish(fact)).cloned()
}

/// A component with no release at all: it is told for itself, before what it makes impossible.
fn alone_impossible(request: &Request, away: &BTreeSet<Fact>) -> Option<BTreeSet<Id>> {
    let model = Model::new(request, Lens::Except(away));
    alone_in(&model)
}

fn alone_in(model: &Model<'_>) -> Option<BTreeSet<Id>> {
    let none = |c: &&Component| {
        c.stays && !c.droppable && c.candidates.is_empty() && model.replacers(c).is_empty()
    };
    let component = model.components.iter().find(none)?;
    Some(BTreeSet::from([component.id.clone()]))
}

/// Components that cannot all be there; none when there is an answer.
fn cannot_be_together(request: &Request, away: &BTreeSet<Fact>) -> Option<BTreeSet<Id>> {
    let model = Model::new(request, Lens::Except(away));
    if let Some(alone) = alone_in(&model) {
        return Some(alone);
    }
    let mut search = search_of(&model);
    let (hard, _) = stays(&model, &mut search);
    match search.solve(&hard, MOST_STEPS) {
        Outcome::Impossible(core) => Some(components_of(&model, &hard, &core)),
        Outcome::Found | Outcome::GaveUp => None,
    }
}

/// As few of these components as cannot all be there.
fn fewest(request: &Request, together: BTreeSet<Id>, away: &BTreeSet<Fact>) -> BTreeSet<Id> {
    let model = Model::of_some(request, Lens::Except(away), &together, false);
    let mut search = search_of(&model);
    let staying = model.components.iter().filter(|component| component.stays);
    let staying: Vec<(Lit, &Id)> = staying
        .map(|c| (stay(&model, &mut search, c), c.id))
        .collect();
    let mut core: Vec<Lit> = staying.iter().map(|(lit, _)| *lit).collect();
    let mut at = 0;
    while core.len() > 1 && at < core.len() {
        let mut without = core.clone();
        without.remove(at);
        match search.solve(&without, MOST_STEPS) {
            Outcome::Impossible(smaller) => core.retain(|lit| smaller.contains(lit)),
            Outcome::Found | Outcome::GaveUp => at += 1,
        }
    }
    let left = staying.into_iter().filter(|(lit, _)| core.contains(lit));
    left.map(|(_, id)| id.clone()).collect()
}

/// A minimal set of facts for which these components cannot all be there.
fn minimal(request: &Request, together: &BTreeSet<Id>, away: &BTreeSet<Fact>) -> BTreeSet<Fact> {
    let recording = Model::of_some(request, Lens::Except(away), together, true);
    let mut search = search_of(&recording);
    let staying = recording
        .components
        .iter()
        .filter(|c| together.contains(c.id));
    let assumed: Vec<Lit> = staying.map(|c| stay(&recording, &mut search, c)).collect();
    search.solve(&assumed, MOST_STEPS);
    let met = recording.met.borrow();
    let of_release = |fact: &Fact| {
        matches!(
            fact,
            Fact::Runs(_)
                | Fact::Early(_)
                | Fact::Withdrawn(_)
                | Fact::Pinned(_)
                | Fact::Again(_)
                | Fact::Dropped(_)
        )
    };
    let mut facts: BTreeSet<Fact> = together.iter().cloned().map(Fact::Stays).collect();
    facts.extend(met.iter().filter(|fact| !of_release(fact)).cloned());
    let named = named_by(request, &facts);
    let concerns =
        |fact: &&Fact| of_release(fact) && fact.names().iter().all(|id| named.contains(id));
    facts.extend(met.iter().filter(concerns).cloned());
    let small = narrowed(request, &facts);
    debug_assert!(is_conflict(&small, &facts));
    let mut order: Vec<Fact> = facts.into_iter().collect();
    // Whole blocks at first: most of what was looked at has nothing to do with it.
    let mut block = order.len().div_ceil(2);
    while block >= 1 {
        let mut at = 0;
        while at < order.len() {
            let end = (at + block).min(order.len());
            let rest: BTreeSet<Fact> = order[..at].iter().chain(&order[end..]).cloned().collect();
            if is_conflict(&small, &rest) {
                order.drain(at..end);
            } else {
                at = end;
            }
        }
        if block == 1 {
            break;
        }
        block = block.div_ceil(2);
    }
    order.into_iter().collect()
}

/// The request with only those components that facts can speak of.
fn narrowed(request: &Request, facts: &BTreeSet<Fact>) -> Request {
    let model = Model::new(request, Lens::Only(facts));
    let named: BTreeSet<&Id> = model
        .components
        .iter()
        .map(|component| component.id)
        .collect();
    let held = request
        .held
        .iter()
        .filter(|held| named.contains(&held.facts.id));
    let offers = request
        .offers
        .iter()
        .filter(|offer| named.contains(&offer.facts.id));
    Request {
        held: Arc::new(held.cloned().collect()),
        offers: Arc::new(offers.cloned().collect()),
        ..request.clone()
    }
}

/// Whether these facts alone cannot hold together.
pub(super) fn is_conflict(request: &Request, facts: &BTreeSet<Fact>) -> bool {
    let wished = facts.iter().filter(|fact| matches!(fact, Fact::Stays(_)));
    let wished: BTreeSet<Id> = wished.flat_map(Fact::names).collect();
    let model = Model::of_some(request, Lens::Only(facts), &wished, false);
    let mut search = search_of(&model);
    let staying = model
        .components
        .iter()
        .filter(|c| facts.contains(&Fact::Stays(c.id.clone())));
    let assumed: Vec<Lit> = staying.map(|c| stay(&model, &mut search, c)).collect();
    matches!(search.solve(&assumed, MOST_STEPS), Outcome::Impossible(_))
}

impl Request {
    /// What is installed and switched off, and would meet a need of an id.
    pub(super) fn held_off(&self, id: &Id) -> Option<&Facts> {
        let off = self.held.iter().filter(|held| held.off);
        let mut off = off.map(|held| &held.facts);
        off.find(|facts| facts.stands_for().any(|(other, _)| other == id))
    }

    /// The request with a component switched on.
    fn with_on(&self, id: &Id) -> Request {
        let mut request = self.clone();
        for held in Arc::make_mut(&mut request.held) {
            held.off &= held.facts.id != *id;
        }
        request
    }

    /// The request with a component switched off; none where nothing switches it.
    fn with_off(&self, id: &Id) -> Option<Request> {
        let mut request = self.clone();
        let mut held = Arc::make_mut(&mut request.held).iter_mut();
        let held = held.find(|held| held.facts.id == *id && held.switched)?;
        held.off = true;
        Some(request)
    }

    /// All releases known of a component, what is installed first.
    pub(crate) fn releases(&self, id: &Id) -> impl Iterator<Item = &Facts> + use<'_> {
        let id = id.clone();
        let held = self.held.iter().map(|held| &held.facts);
        let all = held.chain(self.offers.iter().map(|offer| &offer.facts));
        all.filter(move |facts| facts.id == id)
    }
}

/// Tries what would help against one conflict.
///
/// `others` are the causes of other conflicts: they are taken away meanwhile.
fn remedies(request: &Request, facts: &BTreeSet<Fact>, others: &BTreeSet<Fact>) -> Vec<Remedy> {
    let works = |request: &Request| answer_without(request, Lens::Except(others));
    let mut remedies = Vec::new();
    let held: BTreeMap<&Id, &Facts> = request
        .held
        .iter()
        .map(|held| (&held.facts.id, &held.facts))
        .collect();
    for fact in facts {
        match fact {
            Fact::Runs(id) => remedies.push(Remedy::Wait(id.clone())),
            Fact::Again(id) => remedies.push(Remedy::Offer(id.clone())),
            Fact::Needs(_, other) => {
                let off = request.held_off(other).map(|facts| facts.id.clone());
                let on = off
                    .map(Remedy::SwitchOn)
                    .filter(|it| !remedies.contains(it));
                if let Some(Remedy::SwitchOn(id)) = &on
                    && works(&request.with_on(id)).is_some()
                {
                    remedies.extend(on);
                }
            }
            Fact::Dropped(id) => {
                let mut there = request.clone();
                there.drop.remove(id);
                if works(&there).is_some() {
                    remedies.push(Remedy::Undrop(id.clone()));
                }
            }
            Fact::Pinned(id) => {
                let mut free = request.clone();
                free.keep.retain(|(pinned, _)| pinned != id);
                free.only.insert(id.clone());
                if request.only.is_empty() {
                    free.only.clear();
                }
                if works(&free).is_some() {
                    remedies.push(Remedy::Unpin(id.clone()));
                }
            }
            _ => {}
        }
    }
    for (policy, early) in [
        (!request.policy.early, true),
        (!request.policy.untested, false),
    ] {
        let concerned = facts.iter().any(|fact| match fact {
            Fact::Early(_) => early,
            Fact::Runs(_) => !early,
            _ => false,
        });
        if !policy || !concerned {
            continue;
        }
        let mut allowed = request.clone();
        allowed.policy.early |= early;
        allowed.policy.untested |= !early;
        let Some(selection) = works(&allowed) else {
            continue;
        };
        let named: BTreeSet<Id> = facts.iter().flat_map(Fact::names).collect();
        let chosen = selection
            .choices
            .iter()
            .filter(|choice| named.contains(&choice.id));
        let concerned = chosen.filter(|choice| match early {
            true => choice
                .offer
                .is_some_and(|offer| request.offers[offer].facts.is_early()),
            false => choice.declared == Some(false),
        });
        let list: Vec<(Id, Version)> = concerned
            .map(|choice| (choice.id.clone(), choice.to.clone()))
            .collect();
        if !list.is_empty() {
            remedies.push(match early {
                true => Remedy::Early(list),
                false => Remedy::Untested(list),
            });
        }
    }
    // What may not run beside another one may still be there beside it.
    let beside = |fact: &Fact| matches!(fact, Fact::Group(_) | Fact::Clashes(..));
    for fact in facts.iter().filter(|_| facts.iter().any(beside)) {
        let Fact::Stays(id) = fact else {
            continue;
        };
        if request
            .with_off(id)
            .is_some_and(|off| works(&off).is_some())
        {
            remedies.push(Remedy::SwitchOff(id.clone()));
        }
    }
    for fact in facts {
        let Fact::Stays(id) = fact else {
            continue;
        };
        let bound = held
            .get(id)
            .is_some_and(|facts| facts.world_bound == Some(true));
        if *id == request.build || bound || facts.contains(&Fact::Dropped(id.clone())) {
            continue;
        }
        let mut without = request.clone();
        without.drop.insert(id.clone());
        let mut also: Vec<Id> = Vec::new();
        loop {
            if works(&without).is_some() {
                remedies.push(Remedy::Drop {
                    id: id.clone(),
                    also,
                });
                break;
            }
            let dropped = without.drop.iter().filter_map(|id| held.get(id));
            let gone: BTreeSet<&Id> = dropped
                .flat_map(|facts| facts.stands_for().map(|(id, _)| id))
                .collect();
            let needs_gone = |facts: &&Facts| {
                let needs = facts.needs.iter().any(|need| gone.contains(&need.id));
                needs && !without.drop.contains(&facts.id) && facts.world_bound != Some(true)
            };
            let more: Vec<Id> = held
                .values()
                .copied()
                .filter(needs_gone)
                .map(|facts| facts.id.clone())
                .collect();
            if more.is_empty() {
                break;
            }
            without.drop.extend(more.iter().cloned());
            also.extend(more);
        }
    }
    remedies.extend(other_versions(request, facts, others));
    remedies
}

/// The highest server version, other than the target, with which it works.
fn other_versions(
    request: &Request,
    facts: &BTreeSet<Fact>,
    others: &BTreeSet<Fact>,
) -> Option<Remedy> {
    let concerned = facts
        .iter()
        .any(|fact| matches!(fact, Fact::Runs(_) | Fact::Target | Fact::Room(_)));
    if !concerned || request.build_outside {
        return None;
    }
    let mut versions: Vec<&Version> = request
        .releases(&request.build)
        .filter(|facts| facts.kind == Kind::Build && !request.target.holds(&facts.version))
        .map(|facts| &facts.version)
        .collect();
    versions.sort_unstable();
    versions.dedup();
    let mut tried = versions.into_iter().rev().take(MOST_VERSIONS);
    let works = tried.find(|version| {
        let other = Request {
            target: Target::One((*version).clone()),
            ..request.clone()
        };
        answer_without(&other, Lens::Except(others)).is_some()
    });
    works.cloned().map(Remedy::Version)
}
