//! A depth-first search over releases, newest or settled first.

use super::{Choice, Fact, Obstacle, Prefer, Reason, Request, Selection};
use crate::component::{Facts, Id, Kind, Need};
use std::collections::{BTreeMap, BTreeSet, VecDeque};

/// After so many steps the search is given up.
const MOST_STEPS: u64 = 500_000;

#[derive(Clone, Copy)]
struct Candidate<'a> {
    facts: &'a Facts,
    offer: Option<usize>,
}

#[derive(Clone)]
enum Task<'a> {
    Choose(&'a Id, Option<&'a Id>),
    Meet(&'a Facts, &'a Need),
}

pub(super) struct Search<'a> {
    request: &'a Request,
    candidates: BTreeMap<&'a Id, Vec<Candidate<'a>>>,
    /// Ids of components that stand in for an id.
    stand_ins: BTreeMap<&'a Id, BTreeSet<&'a Id>>,
    steps: u64,
    deepest: (usize, Vec<Fact>),
}

type Chosen<'a> = BTreeMap<&'a Id, (Candidate<'a>, Option<&'a Id>)>;

impl<'a> Search<'a> {
    pub(super) fn new(request: &'a Request) -> Search<'a> {
        let mut candidates: BTreeMap<&Id, Vec<Candidate>> = BTreeMap::new();
        let mut stand_ins: BTreeMap<&Id, BTreeSet<&Id>> = BTreeMap::new();
        let held: BTreeMap<&Id, &Facts> = request.held.iter().map(|f| (&f.id, f)).collect();
        let offers = request.offers.iter().enumerate();
        let offers = offers.map(|(index, offer)| Candidate {
            facts: &offer.facts,
            offer: Some(index),
        });
        let installed = request
            .held
            .iter()
            .map(|facts| Candidate { facts, offer: None });
        for candidate in installed.chain(offers) {
            let facts = candidate.facts;
            let own = held.get(&facts.id).copied();
            let again =
                candidate.offer.is_some() && own.is_some_and(|own| own.version == facts.version);
            if again || !request.usable(facts, own) {
                continue;
            }
            candidates.entry(&facts.id).or_default().push(candidate);
            for id in &facts.provides {
                stand_ins.entry(id).or_default().insert(&facts.id);
            }
        }
        for list in candidates.values_mut() {
            list.sort_by(|a, b| {
                let by_hand = |c: &Candidate| c.offer.is_some_and(|o| request.by_hand(o));
                let settled =
                    |c: &Candidate| request.policy.prefer == Prefer::Settled && c.offer.is_none();
                by_hand(b)
                    .cmp(&by_hand(a))
                    .then(settled(b).cmp(&settled(a)))
                    .then(b.facts.version.cmp(&a.facts.version))
            });
        }
        Search {
            request,
            candidates,
            stand_ins,
            steps: 0,
            deepest: (0, Vec::new()),
        }
    }

    pub(super) fn run(mut self) -> Result<Selection, Obstacle> {
        let blocked = self.blocked();
        if !blocked.is_empty() {
            return Err(Obstacle { facts: blocked });
        }
        let mut wanted: BTreeSet<&Id> = self.request.held.iter().map(|f| &f.id).collect();
        let by_hand = self.request.offers.iter().enumerate();
        let by_hand = by_hand.filter(|(index, _)| self.request.by_hand(*index));
        wanted.extend(by_hand.map(|(_, offer)| &offer.facts.id));
        if self.request.build_outside {
            wanted.remove(&self.request.build);
        } else {
            wanted.insert(&self.request.build);
        }
        let tasks: VecDeque<Task> = wanted
            .into_iter()
            .map(|id| Task::Choose(id, None))
            .collect();
        match self.go(Chosen::new(), tasks) {
            Some(chosen) => Ok(self.selection(&chosen)),
            None if self.steps > MOST_STEPS => Err(Obstacle {
                facts: vec![Fact::GaveUp { steps: self.steps }],
            }),
            None => Err(Obstacle {
                facts: self.deepest.1,
            }),
        }
    }

    /// What has no candidate at all stands in the way whatever else is chosen.
    fn blocked(&self) -> Vec<Fact> {
        let request = self.request;
        let mut facts = Vec::new();
        let versions_of = |id: &Id| {
            let offers = request.offers.iter().filter(|o| &o.facts.id == id);
            let mut known: Vec<_> = offers
                .map(|o| (o.facts.version.clone(), o.facts.server.clone()))
                .collect();
            known.sort_by(|a, b| b.0.cmp(&a.0));
            known
        };
        if !request.build_outside && !self.candidates.contains_key(&request.build) {
            let mut there: Vec<_> = versions_of(&request.build)
                .into_iter()
                .map(|(v, _)| v)
                .collect();
            there.reverse();
            facts.push(Fact::NoBuild {
                target: request.target.clone(),
                there,
            });
        }
        for held in request.held.iter().filter(|f| f.kind != Kind::Build) {
            if !self.candidates.contains_key(&held.id) {
                facts.push(Fact::NoRelease {
                    id: held.id.clone(),
                    held: Some(held.version.clone()),
                    known: versions_of(&held.id)
                        .into_iter()
                        .filter(|(version, _)| *version != held.version)
                        .chain([(held.version.clone(), held.server.clone())])
                        .collect(),
                    target: request.target.clone(),
                });
            }
        }
        facts
    }

    fn go(&mut self, chosen: Chosen<'a>, mut tasks: VecDeque<Task<'a>>) -> Option<Chosen<'a>> {
        self.steps += 1;
        if self.steps > MOST_STEPS {
            return None;
        }
        match tasks.pop_front() {
            None => Some(chosen),
            Some(Task::Choose(id, _)) if chosen.contains_key(id) => self.go(chosen, tasks),
            Some(Task::Choose(id, by)) => {
                let candidates = self.candidates.get(id).cloned().unwrap_or_default();
                let mut against = Vec::new();
                for candidate in candidates {
                    if let Some(conflict) = self.conflict(&chosen, candidate.facts) {
                        against.extend(conflict);
                        continue;
                    }
                    let mut next = chosen.clone();
                    next.insert(id, (candidate, by));
                    let mut tasks = tasks.clone();
                    let needs = candidate.facts.needs.iter();
                    tasks.extend(needs.map(|need| Task::Meet(candidate.facts, need)));
                    if let Some(done) = self.go(next, tasks) {
                        return Some(done);
                    }
                }
                self.remember(chosen.len(), against);
                None
            }
            Some(Task::Meet(by, need)) => {
                if self.request.given.contains(&need.id) || self.is_met(&chosen, need) {
                    return self.go(chosen, tasks);
                }
                let waiting = |id: &Id| {
                    tasks
                        .iter()
                        .any(|task| matches!(task, Task::Choose(other, _) if *other == id))
                };
                if waiting(&need.id) {
                    tasks.push_back(Task::Meet(by, need));
                    return self.go(chosen, tasks);
                }
                let stand_ins = self.stand_ins.get(&need.id).cloned().unwrap_or_default();
                let own = self.candidates.get_key_value(&need.id).map(|(id, _)| *id);
                for id in own.into_iter().chain(stand_ins) {
                    if chosen.contains_key(id) {
                        continue;
                    }
                    let mut tasks = tasks.clone();
                    tasks.push_front(Task::Choose(id, Some(&by.id)));
                    tasks.push_back(Task::Meet(by, need));
                    if let Some(done) = self.go(chosen.clone(), tasks) {
                        return Some(done);
                    }
                }
                let there = self.candidates.get(&need.id).into_iter().flatten();
                let there: Vec<_> = there.map(|c| c.facts.version.clone()).collect();
                if !there.iter().any(|version| need.range.holds_early(version)) {
                    let by = (by.id.clone(), by.version.clone());
                    let need = need.clone();
                    self.remember(chosen.len(), vec![Fact::NotOffered { by, need, there }]);
                }
                None
            }
        }
    }

    fn is_met(&self, chosen: &Chosen<'a>, need: &Need) -> bool {
        chosen.values().any(|(candidate, _)| {
            let facts = candidate.facts;
            (facts.id == need.id && need.range.holds_early(&facts.version))
                || facts.provides.contains(&need.id)
        })
    }

    /// What already chosen releases and a new one hold against each other.
    fn conflict(&self, chosen: &Chosen<'a>, new: &Facts) -> Option<Vec<Fact>> {
        let against = |facts: &Facts, other: &Facts| -> Option<Fact> {
            let meets = |need: &Need, clash| Fact::Meets {
                by: (facts.id.clone(), facts.version.clone()),
                need: need.clone(),
                clash,
            };
            let names = |need: &&Need| need.id == other.id;
            let out = |need: &&Need| names(need) && !need.range.holds_early(&other.version);
            let wants = facts.needs.iter().chain(&facts.uses).find(out);
            let stands_in = other.provides.contains(&other.id);
            let clash = facts.clashes.iter().filter(names);
            let mut clash = clash.filter(|need| need.range.holds_early(&other.version));
            wants
                .filter(|_| !stands_in)
                .map(|need| meets(need, false))
                .or_else(|| clash.next().map(|need| meets(need, true)))
        };
        for (candidate, _) in chosen.values() {
            let fact = against(candidate.facts, new).or_else(|| against(new, candidate.facts));
            if let Some(fact) = fact {
                return Some(vec![fact]);
            }
        }
        None
    }

    fn remember(&mut self, depth: usize, facts: Vec<Fact>) {
        if !facts.is_empty() && (self.deepest.1.is_empty() || depth > self.deepest.0) {
            let mut distinct: Vec<Fact> = Vec::new();
            for fact in facts {
                if !distinct.contains(&fact) {
                    distinct.push(fact);
                }
            }
            self.deepest = (depth, distinct);
        }
    }

    fn selection(&self, chosen: &Chosen<'a>) -> Selection {
        let request = self.request;
        let mut choices: Vec<Choice> = chosen
            .values()
            .map(|(candidate, by)| {
                let facts = candidate.facts;
                let held = request.held.iter().find(|held| held.id == facts.id);
                let reason = match (candidate.offer, held, by) {
                    (None, ..) => Reason::Fits,
                    (Some(_), ..) if facts.kind == Kind::Build => Reason::Asked,
                    (Some(offer), ..) if request.by_hand(offer) => Reason::FetchedByHand,
                    (_, None, Some(by)) => Reason::NeededBy { id: (*by).clone() },
                    (_, Some(held), _)
                        if request.usable(held, Some(held))
                            && request.policy.prefer == Prefer::Newest =>
                    {
                        Reason::Newer
                    }
                    _ => Reason::InstalledDoesNotFit,
                };
                Choice {
                    id: facts.id.clone(),
                    kind: facts.kind,
                    from: held.map(|held| held.version.clone()),
                    to: facts.version.clone(),
                    offer: candidate.offer,
                    reason,
                    declared: match facts.kind {
                        Kind::Build => Some(true),
                        _ => facts
                            .server
                            .as_ref()
                            .map(|range| range.holds_early(&request.target)),
                    },
                }
            })
            .collect();
        choices.sort_by(|a, b| (a.kind, &a.id).cmp(&(b.kind, &b.id)));
        Selection { choices }
    }
}
