//! What would be if some facts did not count: many questions about one request, answered by one search.
//!
//! What was learned for one question holds for all others, and what was chosen is tried first the next
//! time, so that a question that differs little from the one before costs little.

use super::fact::Fact;
use super::model::{Component, Model, Server, Under};
use super::rotation::Rotation;
use super::solver::{Counting, Guard, Lit, Outcome, Solver, Var};
use super::{MOST_STEPS, Request};

use crate::component::{Id, Kind};
use crate::version::Version;
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use std::collections::{BTreeMap, BTreeSet};

/// Steps for one question in which all but a few facts count.
const STEPS: u64 = 20_000_000;
/// All questions about a request together may take this part of the steps for a best answer, where not everything that might
/// help is to be tried …
const PART_OF_EFFORT: u64 = 40;
/// … and so many for each release that is known; but no more than this part in all.
const STEPS_FOR_A_RELEASE: u64 = 100;
const GREATEST_PART_OF_EFFORT: u64 = 10;

/// What came of a question.
pub(super) enum Answer {
    /// There are releases that fit together; they are in the search until the next question.
    Found,
    /// These cannot be.
    Impossible(Core),
    /// The steps ran out.
    GaveUp,
}

/// What cannot be together.
#[derive(Debug, Default)]
pub(super) struct Core {
    /// Components that have to be there.
    pub(super) wishes: BTreeSet<Id>,
    /// What counts.
    facts: BTreeSet<Fact>,
}

/// One search over everything that is known, in which each fact may count or not.
pub(super) struct Questions<'m, 'a> {
    pub(super) request: &'a Request,
    model: &'m Model<'a>,
    search: Solver<&'m Model<'a>>,
    /// Releases that cannot be chosen while a guard counts.
    left_out: Vec<(Guard, Var)>,
    /// Of components that were asked for: the literal that says that it, or what replaces it, is there.
    there: HashMap<&'a Id, Lit>,
    /// What leaves out the releases that say the same of the server; of some components alone, and of all others.
    servers: Vec<(Server<'a>, Option<&'a Id>, Lit)>,
    /// What could not hold together in a question before: where all of one holds again, there is nothing to look for.
    refuted: Vec<Vec<Lit>>,
    /// Steps left for all questions together.
    left: u64,
    /// The components whose runs may be away when it is asked for another server version.
    pub(super) apart: BTreeSet<Id>,
}

impl<'m, 'a> Questions<'m, 'a> {
    /// Questions about a request; the model is a guarded one.
    pub(super) fn new(request: &'a Request, model: &'m Model<'a>) -> Questions<'m, 'a> {
        let mut search = model.search();
        search.count(Counting::Only(HashSet::new()));
        let left_out = model.left_out();
        for together in left_out.while_counts.chunk_by(|(a, _), (b, _)| a == b) {
            let counts = search.guard(together[0].0);
            let out: Vec<Lit> = together.iter().map(|(_, var)| Lit::not(*var)).collect();
            search.require_each(counts, &out);
        }
        for (var, guards) in left_out.unless_count {
            let mut clause = vec![Lit::not(var)];
            clause.extend(guards.into_iter().map(|guard| search.tell_when_off(guard)));
            search.require(&clause);
        }
        Questions {
            request,
            model,
            search,
            left_out: left_out.while_counts,
            there: HashMap::new(),
            servers: Vec::new(),
            refuted: Vec::new(),
            left: match request.policy.all_remedies {
                true => u64::MAX,
                false => {
                    let for_releases = STEPS_FOR_A_RELEASE * u64::from(model.vars());
                    let steps = request.policy.effort / PART_OF_EFFORT + for_releases;
                    steps.min(request.policy.effort / GREATEST_PART_OF_EFFORT)
                }
            },
            apart: BTreeSet::new(),
        }
    }

    /// The components that have to be there, in the model's order.
    pub(super) fn needed(&self) -> impl Iterator<Item = &'m Component<'a>> + use<'m, 'a> {
        let all = self.model.components.iter();
        all.filter(|component| component.stays && !component.droppable)
    }

    /// A component that has to be there and has no release that may be chosen, with some facts away.
    pub(super) fn alone(&self, away: &HashSet<Guard>) -> Option<Id> {
        let left_out = self.left_out.iter();
        let left_out = left_out.filter(|(guard, _)| !away.contains(guard));
        let left_out: HashSet<Var> = left_out.map(|(_, var)| *var).collect();
        let none = |component: &&Component<'_>| {
            let mut vars = component.vars();
            vars.all(|(var, _)| left_out.contains(&var))
                && self.model.replacers(component).is_empty()
        };
        self.needed()
            .find(none)
            .map(|component| component.id.clone())
    }

    /// The guards of facts.
    pub(super) fn guards<'f>(&self, facts: impl IntoIterator<Item = &'f Fact>) -> HashSet<Guard> {
        let mut guards = HashSet::new();
        for fact in facts.into_iter().filter(|fact| fact.wish().is_none()) {
            guards.extend(self.model.guard(|| Under::Fact(fact.clone())));
            if let Fact::Runs(id) = fact {
                guards.extend(self.model.guard(|| Under::Builds(id.clone())));
            }
        }
        guards
    }

    /// The guards of all facts of one kind; that releases run on the builds they declare is met only during the search.
    pub(super) fn guards_like(&self, is_meant: impl Fn(&Under) -> bool) -> HashSet<Guard> {
        let ids = self.model.components.iter().map(|component| component.id);
        for id in ids.filter(|id| is_meant(&Under::Builds((*id).clone()))) {
            self.model.guard(|| Under::Builds(id.clone()));
        }
        let all = (0..).map_while(|guard| Some((guard, self.model.under(guard)?)));
        let meant = all.filter(|(_, under)| is_meant(under));
        meant.map(|(guard, _)| guard).collect()
    }

    /// Whether these components can all be there when all facts count but some.
    pub(super) fn ask_all_but<'i>(
        &mut self,
        away: &HashSet<Guard>,
        wishes: impl IntoIterator<Item = &'i Id>,
    ) -> Answer {
        self.ask_all_but_open(away, &HashMap::new(), wishes, &[])
    }

    /// The same with what is besides assumed, and some guards said one by one to count or not: for questions that differ in
    /// these alone the rest is laid once.
    pub(super) fn ask_all_but_open<'i>(
        &mut self,
        away: &HashSet<Guard>,
        open: &HashMap<Guard, bool>,
        wishes: impl IntoIterator<Item = &'i Id>,
        besides: &[Lit],
    ) -> Answer {
        let guards: BTreeMap<Guard, bool> =
            open.iter().map(|(it, counts)| (*it, *counts)).collect();
        let mut assumed: Vec<Lit> = Vec::new();
        for (guard, counts) in guards {
            let lit = self.search.guard(guard);
            assumed.push(if counts { lit } else { !lit });
        }
        assumed.extend(besides);
        assumed.extend(wishes.into_iter().filter_map(|id| self.there(id)));
        self.search.count(Counting::AllBut {
            away: away.clone(),
            open: open.keys().copied().collect(),
        });
        self.ask(&assumed, STEPS)
    }

    /// Whether these facts can hold together when no other counts.
    pub(super) fn ask_only<'f>(
        &mut self,
        facts: impl IntoIterator<Item = &'f Fact> + Clone,
    ) -> Answer {
        let guards = self.guards(facts.clone());
        let wishes = facts.into_iter().filter_map(Fact::wish);
        let assumed: Vec<Lit> = wishes.filter_map(|id| self.there(id)).collect();
        self.search.count(Counting::Only(guards));
        self.ask(&assumed, MOST_STEPS)
    }

    fn ask(&mut self, assumed: &[Lit], most_steps: u64) -> Answer {
        let outcome = match self.refuted_of(assumed) {
            Some(known) => Outcome::Impossible(known),
            None => self.search_for(assumed, most_steps),
        };
        let lits = match outcome {
            Outcome::Found => return Answer::Found,
            Outcome::GaveUp => return Answer::GaveUp,
            Outcome::Impossible(lits) => lits,
        };
        let lits: HashSet<Lit> = lits.into_iter().collect();
        let wishes = self.there.iter().filter(|(_, lit)| lits.contains(lit));
        let guards = lits.iter().filter_map(|lit| self.search.guard_of(*lit));
        let facts = guards.filter_map(|guard| match self.model.under(guard)? {
            Under::Fact(fact) => Some(fact),
            Under::Builds(id) => Some(Fact::Runs(id)),
        });
        Answer::Impossible(Core {
            wishes: wishes.map(|(id, _)| (*id).clone()).collect(),
            facts: facts.collect(),
        })
    }

    fn search_for(&mut self, assumed: &[Lit], most_steps: u64) -> Outcome {
        let before = self.search.steps;
        let outcome = self.search.solve(assumed, most_steps.min(self.left));
        self.left = self.left.saturating_sub(self.search.steps - before);
        if let Outcome::Impossible(lits) = &outcome {
            self.refuted.push(lits.clone());
        }
        outcome
    }

    /// What is assumed, or counts, and is known not to hold together.
    fn refuted_of(&self, assumed: &[Lit]) -> Option<Vec<Lit>> {
        if self.refuted.is_empty() {
            return None;
        }
        let assumed: HashSet<Lit> = assumed.iter().copied().collect();
        let holds = |lit: &Lit| assumed.contains(lit) || self.search.is_laid(*lit);
        let known = self.refuted.iter().find(|lits| lits.iter().all(holds));
        known.cloned()
    }

    /// The literal that says that a component, or what replaces it, is there; none where nothing is known of it.
    fn there(&mut self, id: &Id) -> Option<Lit> {
        if let Some(lit) = self.there.get(id) {
            return Some(*lit);
        }
        let component = self.model.get(id.as_str())?;
        let there = Lit::not(component.absent());
        let replacers = self.model.replacers(component);
        let lit = match replacers.is_empty() {
            true => there,
            false => {
                let helper = self.search.helper();
                let ways = replacers.into_iter().map(Lit::is).chain([there]);
                self.search.require_with(helper, &ways.collect::<Vec<_>>());
                Lit::is(helper)
            }
        };
        self.there.insert(component.id, lit);
        Some(lit)
    }

    /// Whether releases of a component are frameworks.
    pub(super) fn is_framework(&self, id: &Id) -> bool {
        let component = self.model.get(id.as_str()).into_iter();
        let mut candidates = component.flat_map(|component| &component.candidates);
        candidates.any(|candidate| candidate.facts.kind == Kind::Framework)
    }

    /// The literal that says that a component is not there.
    pub(super) fn absent(&self, id: &Id) -> Option<Lit> {
        let component = self.model.get(id.as_str());
        component.map(|component| Lit::is(component.absent()))
    }

    /// What leaves out whatever is not for a server version; nothing of a component whose runs are away.
    pub(super) fn at_version(&mut self, version: &Version, away: &HashSet<Guard>) -> Vec<Lit> {
        if self.servers.is_empty() {
            for (server, releases) in self.model.by_server() {
                let mut own: BTreeMap<Option<&'a Id>, Vec<Lit>> = BTreeMap::new();
                for (id, var) in releases {
                    let apart = Some(id).filter(|id| self.apart.contains(*id));
                    own.entry(apart).or_default().push(Lit::not(var));
                }
                for (id, out) in own {
                    let lit = Lit::is(self.search.helper());
                    self.search.require_each(lit, &out);
                    self.servers.push((server, id, lit));
                }
            }
        }
        let counts = |id: &Id| {
            let runs = self.model.guard(|| Under::Fact(Fact::Runs(id.clone())));
            !runs.is_some_and(|runs| away.contains(&runs))
        };
        let unfit = self
            .servers
            .iter()
            .filter(|(server, ..)| !server.fits(version));
        let unfit = unfit.filter(|(_, id, _)| id.is_none_or(counts));
        unfit.map(|(.., lit)| *lit).collect()
    }

    /// What was chosen of a component: its version, whether it is a test release, and whether it was declared for other
    /// server versions.
    pub(super) fn chosen(&self, id: &Id) -> Option<(&'a Version, bool, bool)> {
        let mut vars = self.model.get(id.as_str())?.vars();
        let (_, candidate) = vars.find(|(var, _)| self.search.is_true(*var))?;
        Some((
            &candidate.facts.version,
            candidate.early,
            candidate.untested,
        ))
    }

    /// Whether the steps for all questions are used up.
    pub(super) fn are_over(&self) -> bool {
        self.left == 0
    }

    /// As few of what cannot be together as still cannot, as facts; and whether each of them is known to be needed for that.
    pub(super) fn minimal(&mut self, core: Core) -> (BTreeSet<Fact>, bool) {
        let components = self.model.components.iter().map(|component| component.id);
        let wished = components.filter(|id| core.wishes.contains(*id));
        let mut order: Vec<Fact> = wished.cloned().map(Fact::Stays).collect();
        order.extend(core.facts);
        let mut rotation = Rotation::new(self.model, order.clone());
        // Known to be needed, or given up on.
        let (mut judged, mut minimal) = (HashSet::new(), true);
        while let Some(at) = order.iter().position(|fact| !judged.contains(fact)) {
            if self.are_over() {
                minimal = false;
                break;
            }
            let fact = order[at].clone();
            match self.ask_only(order.iter().filter(|other| **other != fact)) {
                Answer::Impossible(smaller) => {
                    order.retain(|fact| match fact {
                        Fact::Stays(id) => smaller.wishes.contains(id),
                        fact => smaller.facts.contains(fact),
                    });
                    rotation.keep(&order);
                }
                Answer::Found => {
                    judged.insert(fact.clone());
                    let chosen = self.search.chosen();
                    rotation.turn(chosen, &fact, |other| judged.insert(other.clone()));
                    self.left = self.left.saturating_sub(rotation.take_steps());
                }
                Answer::GaveUp => {
                    judged.insert(fact);
                    minimal = false;
                }
            }
        }
        (order.into_iter().collect(), minimal)
    }

    /// Whether facts alone cannot hold together.
    #[cfg(test)]
    pub(super) fn is_conflict(&mut self, facts: &BTreeSet<Fact>) -> bool {
        matches!(self.ask_only(facts), Answer::Impossible(_))
    }
}
