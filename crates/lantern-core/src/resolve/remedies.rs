//! What was tried against an obstacle, and would help.

use super::Request;
use super::conflict::{Conflict, Remedy};
use super::fact::Fact;
use super::model::{Model, Under};
use super::questions::{Answer, Questions};
use super::solver::{Guard, Lit};
use crate::component::{Id, Kind};
use crate::facts::Facts;
use crate::version::Version;
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// So many ways out of one conflict are tried, where not all are asked for.
const MOST_TRIED: usize = 40;
/// So many other server versions are tried.
const MOST_VERSIONS: usize = 6;

/// Tries what would help against one conflict and all that is like it.
///
/// `others` are the causes of other conflicts: they are away meanwhile.
pub(super) fn remedies(
    questions: &mut Questions<'_, '_>,
    needed: &[&Id],
    conflict: &mut Conflict,
    others: &BTreeSet<Fact>,
) {
    let left = match questions.request.policy.all_remedies {
        true => usize::MAX,
        false => MOST_TRIED,
    };
    let facts: BTreeSet<Fact> = conflict.all().flatten().cloned().collect();
    let mut trying = Trying {
        held: questions
            .request
            .held
            .iter()
            .map(|held| (&held.facts.id, &held.facts))
            .collect(),
        away: questions.guards(others),
        now_and_then: questions.guards(&facts),
        wished: facts.iter().filter_map(Fact::wish).cloned().collect(),
        facts,
        questions,
        needed,
        others,
        left,
        untried: 0,
        helps: Vec::new(),
    };
    for fact in &trying.facts.clone() {
        trying.without(fact);
    }
    trying.allowing(true);
    trying.allowing(false);
    trying.switching_off();
    trying.dropping(conflict);
    trying.other_versions();
    trying.letting_in_others();
    (conflict.remedies, conflict.untried) = (trying.helps, trying.untried);
}

struct Trying<'t, 'm, 'a> {
    questions: &'t mut Questions<'m, 'a>,
    needed: &'t [&'t Id],
    held: BTreeMap<&'a Id, &'a Facts>,
    /// The facts of the conflict.
    facts: BTreeSet<Fact>,
    others: &'t BTreeSet<Fact>,
    /// The components of the conflict that have to be there.
    wished: BTreeSet<Id>,
    /// The guards of the others.
    away: HashSet<Guard>,
    /// The guards of the conflict.
    now_and_then: HashSet<Guard>,
    /// How many may still be tried.
    left: usize,
    untried: usize,
    helps: Vec<Remedy>,
}

impl<'a> Trying<'_, '_, 'a> {
    /// Whether one more may be tried.
    fn may_try(&mut self) -> bool {
        match self.left {
            left if left > 0 && !self.questions.are_over() => self.left -= 1,
            _ => self.untried += 1,
        }
        self.untried == 0
    }

    /// Whether there is an answer with these facts away too, without some components, and with what is besides assumed.
    ///
    /// What may be away here and there is assumed, and all else laid once for all that is tried.
    fn works(&mut self, away: &HashSet<Guard>, without: &BTreeSet<Id>, besides: &[Lit]) -> bool {
        let others = away.difference(&self.now_and_then);
        let laid: HashSet<Guard> = self
            .away
            .union(&others.copied().collect())
            .copied()
            .collect();
        let open = self.now_and_then.iter().filter(|it| !laid.contains(*it));
        let open: HashMap<Guard, bool> = open.map(|it| (*it, !away.contains(it))).collect();
        let mut assumed = besides.to_vec();
        assumed.extend(without.iter().filter_map(|id| self.questions.absent(id)));
        // Those of the conflict first: where it does not help, that is seen at once.
        let (first, rest): (Vec<&Id>, Vec<&Id>) = self
            .needed
            .iter()
            .copied()
            .partition(|id| self.wished.contains(*id));
        let wishes = first
            .into_iter()
            .chain(rest)
            .filter(|id| !without.contains(*id));
        let answer = self
            .questions
            .ask_all_but_open(&laid, &open, wishes, &assumed);
        matches!(answer, Answer::Found)
    }

    /// Whether another request has an answer, with the others' causes away.
    fn other_works(&self, request: &Request) -> bool {
        let model = Model::guarded(request);
        let mut questions = Questions::new(request, &model);
        let needed: Vec<&Id> = questions.needed().map(|component| component.id).collect();
        let away = questions.guards(self.others);
        matches!(questions.ask_all_but(&away, needed), Answer::Found)
    }

    /// Tries what would take one fact away.
    fn without(&mut self, fact: &Fact) {
        let remedy = match fact {
            Fact::Runs(id) => Remedy::Wait(id.clone()),
            Fact::Again(id) => Remedy::Offer(id.clone()),
            Fact::Dropped(id) => Remedy::Undrop(id.clone()),
            Fact::Pinned(id) => Remedy::Unpin(id.clone()),
            Fact::Needs(_, other) => {
                let off = self.questions.request.held_off(other);
                let Some(id) = off.map(|facts| facts.id.clone()) else {
                    return;
                };
                let on = self.questions.request.with_on(&id);
                let remedy = Remedy::SwitchOn(id);
                if !self.helps.contains(&remedy) && self.may_try() && self.other_works(&on) {
                    self.helps.push(remedy);
                }
                return;
            }
            _ => return,
        };
        if !self.may_try() {
            return;
        }
        let away = self.questions.guards([fact]);
        if self.works(&away, &BTreeSet::new(), &[]) {
            self.helps.push(remedy);
        }
    }

    /// Tries test releases, or what was declared for other server versions; as few as will do are told.
    fn allowing(&mut self, early: bool) {
        let policy = &self.questions.request.policy;
        let allowed = if early { policy.early } else { policy.untested };
        let is_meant = |fact: &Fact| match early {
            true => matches!(fact, Fact::Early(_)),
            false => matches!(fact, Fact::Runs(_)),
        };
        if allowed || !self.facts.iter().any(is_meant) || !self.may_try() {
            return;
        }
        let mut away = self.questions.guards_like(|it| match it {
            Under::Fact(fact) => is_meant(fact),
            Under::Builds(_) => !early,
        });
        if !self.works(&away, &BTreeSet::new(), &[]) {
            return;
        }
        let named: BTreeSet<Id> = self.facts.iter().flat_map(Fact::names).collect();
        let fact = |id: &Id| match early {
            true => Fact::Early(id.clone()),
            false => Fact::Runs(id.clone()),
        };
        let concerned = |questions: &Questions<'_, '_>, id: &Id| {
            let chosen = questions.chosen(id);
            let chosen = chosen.filter(|chosen| if early { chosen.1 } else { chosen.2 });
            chosen.map(|(version, ..)| (id.clone(), version.clone()))
        };
        let of = |questions: &Questions<'_, '_>| -> Vec<(Id, Version)> {
            named
                .iter()
                .filter_map(|id| concerned(questions, id))
                .collect()
        };
        let mut list = of(self.questions);
        for (id, _) in list.clone() {
            let own = self.questions.guards([&fact(&id)]);
            let fewer: HashSet<Guard> = away.difference(&own).copied().collect();
            if self.works(&fewer, &BTreeSet::new(), &[]) {
                let others = of(self.questions);
                if others.len() < list.len() {
                    (away, list) = (fewer, others);
                }
            }
        }
        if !list.is_empty() {
            self.helps.push(match early {
                true => Remedy::Early(list),
                false => Remedy::Untested(list),
            });
        }
    }

    /// Tries to switch components off: what may not run beside another one may still be there beside it.
    fn switching_off(&mut self) {
        let beside = |fact: &Fact| {
            let of_two = matches!(
                fact,
                Fact::Clashes(..) | Fact::ClashesProvided(..) | Fact::Learned(..)
            );
            of_two || matches!(fact, Fact::Group(_))
        };
        if !self.facts.iter().any(beside) {
            return;
        }
        let wished: Vec<Id> = self.facts.iter().filter_map(Fact::wish).cloned().collect();
        for id in wished {
            if let Some(off) = self.questions.request.with_off(&id)
                && self.may_try()
                && self.other_works(&off)
            {
                self.helps.push(Remedy::SwitchOff(id));
            }
        }
    }

    /// Whether a component may be taken out to mend this.
    fn may_go(&self, id: &Id) -> bool {
        let request = self.questions.request;
        let bound = self
            .held
            .get(id)
            .is_some_and(|it| it.world_bound == Some(true));
        let wanted = request.add.contains(id)
            || request.admit.contains_key(id)
            || self.facts.contains(&Fact::Dropped(id.clone()));
        *id != request.build && !bound && !wanted
    }

    /// Tries to take out each component of the conflict that has to be there, and one of each that is like it.
    fn dropping(&mut self, conflict: &Conflict) {
        let wishes = |facts: &BTreeSet<Fact>| -> Vec<Id> {
            let wishes = facts.iter().filter_map(Fact::wish);
            wishes.filter(|id| self.may_go(id)).cloned().collect()
        };
        let first = wishes(&conflict.facts);
        let alike: Vec<Vec<Id>> = conflict.alike.iter().map(wishes).collect();
        for id in first {
            let mut ids = vec![id];
            for others in &alike {
                if !others.iter().any(|other| ids.contains(other)) {
                    ids.extend(others.first().cloned());
                }
            }
            if self.may_try()
                && let Some(also) = self.goes_with(&ids)
            {
                self.helps.push(Remedy::Drop { ids, also });
            }
        }
    }

    /// What has to go with components so that the rest works; none when it does not.
    fn goes_with(&mut self, ids: &[Id]) -> Option<Vec<Id>> {
        let mut without: BTreeSet<Id> = ids.iter().cloned().collect();
        let mut also: Vec<Id> = Vec::new();
        loop {
            if self.works(&HashSet::new(), &without, &[]) {
                return Some(also);
            }
            let dropped = without.iter().filter_map(|id| self.held.get(id));
            let gone: BTreeSet<&Id> = dropped
                .flat_map(|facts| facts.stands_for().map(|(id, _)| id))
                .collect();
            let asked = &self.questions.request.drop;
            let needs_gone = |facts: &&&Facts| {
                let needs = facts.needs.iter().any(|need| gone.contains(&need.id));
                let goes = without.contains(&facts.id) || asked.contains(&facts.id);
                needs && !goes && facts.world_bound != Some(true)
            };
            let more = self.held.values().filter(needs_gone);
            let more: Vec<Id> = more.map(|facts| facts.id.clone()).collect();
            if more.is_empty() {
                return None;
            }
            without.extend(more.iter().cloned());
            also.extend(more);
        }
    }

    /// Which other players of the same kind can be let in, where those who were to be cannot.
    fn letting_in_others(&mut self) {
        let request = self.questions.request;
        let wished = self.wished.clone();
        for (wish, players) in request
            .admit
            .iter()
            .filter(|(wish, _)| wished.contains(*wish))
        {
            let held = request.held.iter().map(|held| &held.facts);
            let all = held.chain(request.offers.iter().map(|offer| &offer.facts));
            let of_kind =
                |facts: &&Facts| facts.admits.iter().any(|it| it.client == players.client);
            let mut bridges: Vec<&Facts> = all.filter(of_kind).collect();
            bridges.sort_by(|a, b| b.version.cmp(&a.version).then_with(|| a.id.cmp(&b.id)));
            bridges.dedup_by(|a, b| a.id == b.id && a.version == b.version);
            for facts in bridges.into_iter().take(MOST_VERSIONS) {
                if !self.may_try() {
                    return;
                }
                let mut other = request.clone();
                other.admit.remove(wish);
                other.add.insert(facts.id.clone());
                other.keep.retain(|(id, _)| *id != facts.id);
                other
                    .keep
                    .push((facts.id.clone(), Some(facts.version.clone())));
                let own = facts.admits.iter().find(|it| it.client == players.client);
                if let Some(admits) = own
                    && self.other_works(&other)
                {
                    self.helps.push(Remedy::Meanwhile {
                        players: players.clone(),
                        by: (facts.id.clone(), facts.version.clone()),
                        versions: admits.versions.clone(),
                    });
                    break;
                }
            }
        }
    }

    /// The highest server version, other than the target, with which it works.
    fn other_versions(&mut self) {
        let request = self.questions.request;
        let concerned = |fact: &Fact| matches!(fact, Fact::Runs(_) | Fact::Target | Fact::Room(_));
        if !self.facts.iter().any(concerned) || request.build_outside {
            return;
        }
        let builds = request.releases(&request.build);
        let others = builds
            .filter(|facts| facts.kind == Kind::Build && !request.target.holds(&facts.version));
        let mut versions: Vec<&Version> = others.map(|facts| &facts.version).collect();
        versions.sort_unstable();
        versions.dedup();
        let away = self
            .questions
            .guards_like(|it| matches!(it, Under::Fact(Fact::Target | Fact::Runs(_))));
        for version in versions.into_iter().rev().take(MOST_VERSIONS) {
            if !self.may_try() {
                return;
            }
            let only = self.questions.at_version(version, &self.away);
            if self.works(&away, &BTreeSet::new(), &only) {
                self.helps.push(Remedy::Version(version.clone()));
                return;
            }
        }
    }
}

impl Request {
    /// What is installed and switched off, and would meet a need of an id.
    pub(super) fn held_off(&self, id: &Id) -> Option<&Facts> {
        let off = self.held.iter().filter(|held| held.off);
        let mut off = off.map(|held| &held.facts);
        off.find(|facts| facts.stands_for().any(|(other, _)| other == id))
    }

    /// What is installed, is not to be removed, and needs one of some components, or what needs that.
    pub(super) fn needing(&self, ids: &BTreeSet<Id>) -> BTreeSet<Id> {
        let mut by: HashMap<&Id, Vec<&Facts>> = HashMap::new();
        let held = self.held.iter().map(|held| &held.facts);
        for facts in held.filter(|facts| !self.drop.contains(&facts.id)) {
            for need in &facts.needs {
                by.entry(&need.id).or_default().push(facts);
            }
        }
        let held = self.held.iter().map(|held| &held.facts);
        let mut next: Vec<&Facts> = held.filter(|facts| ids.contains(&facts.id)).collect();
        let mut found = BTreeSet::new();
        while let Some(facts) = next.pop() {
            let needing = facts
                .stands_for()
                .filter_map(|(id, _)| by.get(id))
                .flatten();
            for needing in needing.copied() {
                if !ids.contains(&needing.id) && found.insert(needing.id.clone()) {
                    next.push(needing);
                }
            }
        }
        found
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
