//! More takers than places: ten that need one of nine, of which each serves one alone.
//!
//! A search that learns from conflicts tries all ways of sharing out before it knows that there is none
//! (Haken 1985), so it is counted: where what has to have one of its values (a taker) is matched with sets of
//! values of which at most one can hold (places), and some takers find no place, then one of those takers has
//! to have a value elsewhere (Hall 1935). That is a clause like any other, and is learned from like one.
//!
//! Which values exclude each other is found by trying each by itself, when a search has restarted a few times: it
//! costs something, and most searches never come to it.

use super::{Counting, Crowd, Domain, Lit, NO_DOMAIN, Solver, Step, Theory, Var};
use foldhash::{HashMap, HashMapExt, HashSet};
use std::collections::{BTreeMap, BTreeSet};

/// So many values are tried by themselves.
const MOST_VALUES: usize = 4_096;
/// Looking for places takes at most so many steps, or this part of all steps so far.
const STEPS: u64 = 2_000_000;
const PART_OF_STEPS: u64 = 8;
/// So many of them at first, of what most conflicts are about: where nothing comes of it, it is left at that.
const FIRST_VALUES: usize = 256;
/// It is looked again when the search has taken so many times as many steps.
const LATER: u64 = 3;
/// So many values are compared in the time of a step.
const COMPARED_IN_A_STEP: u64 = 4;
/// Fewer takers than these are not worth more: there are few ways in which they share.
const FEW: usize = if cfg!(test) { 3 } else { 4 };
/// So often it is looked again with what came of it.
const MOST_ROUNDS: usize = 3;
/// So many reasons for which two of them exclude each other are kept: each may be the one that says so.
const MOST_WHYS: usize = 2;

/// One of these values has to hold where all the rest is false.
#[derive(Debug, Clone)]
pub(super) struct Taker {
    values: Vec<Var>,
    /// Those that were not false when it was found.
    open: Vec<Var>,
    rest: Vec<Lit>,
}

/// Takers and places, and which taker has which place for now.
#[derive(Debug, Default)]
pub(in crate::resolve) struct Places {
    /// What has to have one of its values; no value is in two of them.
    takers: Vec<Taker>,
    /// Values of different takers that exclude each other, each pair both ways.
    rivals: HashMap<Var, Vec<Var>>,
    /// The pairs, the lower value first: under which literals they exclude each other, negated; or under which others.
    whys: HashMap<(Var, Var), Vec<Vec<Lit>>>,
    /// Values that hold whenever one of a taker does, and never else; their own takers are left out.
    same: HashMap<Var, Var>,
    /// Whether places were made of them for what counts now.
    are_made: bool,
    /// The takers of which each value takes a place.
    counted: Vec<usize>,
    /// The place of each value of these; of the values of a place at most one can hold.
    place_of: HashMap<Var, usize>,
    taken_by: Vec<Option<usize>>,
    /// By which value each taker has its place.
    by: Vec<Option<Var>>,
    /// Steps that went into looking for all this.
    steps: u64,
    /// Before so many steps of the search it is not looked again.
    not_before: u64,
    /// How many values were known to be in somebody's way when that was news.
    told: usize,
}

impl Places {
    /// What counts is another thing from here on.
    pub(super) fn are_unmade(&mut self) {
        self.are_made = false;
        self.place_of.clear();
        self.counted.clear();
    }

    /// The place that a value takes; none where it is in nobody's way.
    fn place_of(&self, value: Var) -> Option<usize> {
        self.place_of.get(&value).copied()
    }

    /// All values that are in somebody's way, each with its place.
    pub(in crate::resolve) fn placed(&self) -> impl Iterator<Item = (Var, usize)> {
        self.place_of.iter().map(|(value, place)| (*value, *place))
    }

    /// Values that hold whenever another one does and never else, with that one.
    pub(in crate::resolve) fn same(&self) -> impl Iterator<Item = (Var, Var)> {
        self.same.iter().map(|(value, other)| (*value, *other))
    }

    /// Leaves out takers of which each value holds whenever one of another taker does, and never else. `implied_by` has pairs of
    /// which the first follows from the second.
    fn leave_out_same(&mut self, implied_by: &BTreeSet<(Var, Var)>) {
        let mut taker_of = self.taker_of();
        for taker in (0..self.takers.len()).rev() {
            let same = self.takers[taker].values.iter().map(|value| {
                let mut others = implied_by.range((*value, 0)..=(*value, Var::MAX));
                let is_same = |other: &Var| {
                    let owner = taker_of.get(other);
                    implied_by.contains(&(*other, *value)) && owner.is_some_and(|it| *it != taker)
                };
                others.find(|(_, other)| is_same(other)).copied()
            });
            if let Some(same) = same.collect::<Option<Vec<_>>>() {
                taker_of.retain(|_, owner| *owner != taker);
                self.same.extend(same);
                self.takers.remove(taker);
            }
        }
    }

    fn values(&self) -> impl Iterator<Item = Var> {
        self.takers.iter().flat_map(|taker| &taker.values).copied()
    }

    /// Two values of different takers exclude each other while all these are false.
    fn exclude(&mut self, a: Var, b: Var, while_false: Vec<Lit>) {
        let whys = self.whys.entry(pair(a, b)).or_default();
        if whys.is_empty() {
            self.rivals.entry(a).or_default().push(b);
            self.rivals.entry(b).or_default().push(a);
        }
        if whys.len() < MOST_WHYS && !whys.contains(&while_false) {
            whys.push(while_false);
        }
    }

    /// Which taker each value belongs to.
    fn taker_of(&self) -> HashMap<Var, usize> {
        let takers = self.takers.iter().enumerate();
        let values = takers.flat_map(|(at, taker)| taker.values.iter().map(move |it| (*it, at)));
        values.collect()
    }

    fn let_go(&mut self, taker: usize) {
        if let Some(place) = self.by[taker].take().and_then(|value| self.place_of(value)) {
            self.taken_by[place] = None;
        }
    }

    /// Finds a place for a taker, if need be by moving others; who was asked for theirs is left in `asked`.
    fn settle(&mut self, taker: usize, is_out: &impl Fn(Lit) -> bool, asked: &mut Asked) -> bool {
        if !self.takers[taker].rest.iter().all(|lit| is_out(*lit)) {
            // It does not count for now.
            self.let_go(taker);
            return true;
        }
        asked.takers.push(taker);
        for at in 0..self.takers[taker].values.len() {
            let value = self.takers[taker].values[at];
            if is_out(Lit::is(value)) {
                continue;
            }
            let Some(place) = self.place_of(value) else {
                self.let_go(taker);
                self.by[taker] = Some(value);
                return true;
            };
            if !asked.places.insert(place) {
                continue;
            }
            let other = self.taken_by[place];
            if other.is_none_or(|other| self.settle(other, is_out, asked)) {
                self.let_go(taker);
                self.by[taker] = Some(value);
                self.taken_by[place] = Some(taker);
                return true;
            }
        }
        false
    }
}

/// Who was asked for a place, and for which.
#[derive(Default)]
struct Asked {
    takers: Vec<usize>,
    places: HashSet<usize>,
}

impl<T: Theory> Solver<T> {
    /// Takers and places, as far as they were looked for.
    pub(in crate::resolve) fn places(&self) -> &Places {
        &self.places
    }

    /// Some takers have no place where all is as it is: the clause that says so, all its literals false.
    pub(super) fn crowded(&mut self) -> Option<Vec<Lit>> {
        if self.places.counted.is_empty() {
            return None;
        }
        let mut places = std::mem::take(&mut self.places);
        let mut crowd = None;
        for at in 0..places.counted.len() {
            let taker = places.counted[at];
            if places.by[taker].is_some_and(|value| self.value[value as usize] >= 0) {
                continue;
            }
            places.let_go(taker);
            let mut asked = Asked::default();
            self.steps += places.counted.len() as u64;
            if !places.settle(taker, &|lit| self.truth(lit) < 0, &mut asked) {
                crowd = Some(asked);
                break;
            }
        }
        let crowd = crowd.map(|crowd| self.too_many(&places, &crowd));
        self.places = places;
        let crowd = crowd?;
        self.log.note(|| Step::Crowd(crowd.clone()));
        Some(crowd.follows)
    }

    /// One of these takers has a value elsewhere than in these places, which are fewer than they.
    fn too_many(&self, places: &Places, crowd: &Asked) -> Crowd {
        let mut lits: BTreeSet<Lit> = BTreeSet::new();
        let mut within: BTreeMap<usize, Vec<Var>> = BTreeMap::new();
        let mut takers = Vec::new();
        for taker in crowd.takers.iter().map(|taker| &places.takers[*taker]) {
            lits.extend(&taker.rest);
            let mut own = Vec::new();
            for value in &taker.values {
                match places.place_of(*value) {
                    Some(place) if crowd.places.contains(&place) => {
                        within.entry(place).or_default().push(*value);
                        own.push(Lit::is(*value));
                    }
                    _ => _ = lits.insert(Lit::is(*value)),
                }
            }
            takers.push(own);
        }
        for values in within.values() {
            for (at, a) in values.iter().enumerate() {
                let whys = values[at + 1..].iter().map(|b| self.why(places, *a, *b));
                lits.extend(whys.flatten().flatten());
            }
        }
        lits.retain(|lit| self.level_of[lit.var() as usize] > 0);
        let place = |values: Vec<Var>| values.into_iter().map(Lit::is).collect();
        Crowd {
            follows: lits.into_iter().collect(),
            takers,
            places: within.into_values().map(place).collect(),
        }
    }

    /// Under which literals that are true two values exclude each other, negated; of one component they do always.
    fn why<'p>(&self, places: &'p Places, a: Var, b: Var) -> Option<&'p Vec<Lit>> {
        let mut whys = places.whys.get(&pair(a, b))?.iter();
        whys.find(|why| why.iter().all(|lit| self.truth(*lit) < 0))
    }

    /// Looks for which values of takers exclude each other. All conclusions have been drawn, and nothing is assumed.
    ///
    /// Takes the search back to its beginning where a value turns out never to hold, or a place always to be taken.
    pub(super) fn look_for_places(&mut self, takers: Vec<Taker>) {
        let before = self.steps;
        let most = (before / PART_OF_STEPS).max(STEPS);
        let until = before + most.saturating_sub(self.places.steps);
        if self.is_worth_looking(&takers, until) {
            self.look_well(takers, until);
        }
        self.places.are_unmade();
        self.places.not_before = LATER * before;
        self.places.steps += self.steps - before;
    }

    /// Whether enough of the first takers are in each other's way; what was known stays.
    fn is_worth_looking(&mut self, takers: &[Taker], until: u64) -> bool {
        let mut values = 0;
        let first = takers.iter().take_while(|taker| {
            values += taker.values.len();
            values <= FIRST_VALUES
        });
        let known = std::mem::replace(&mut self.places.takers, first.cloned().collect());
        let same = self.places.same.clone();
        self.try_values(until);
        let is_left = !self.impossible && self.levels.len() == self.ground();
        if is_left {
            self.make_places();
        }
        self.places.takers = known;
        self.places.same = same;
        is_left && self.places.counted.len() >= FEW
    }

    /// Tries all takers, and again with what is known then of places that are always taken, until nothing new comes of it.
    fn look_well(&mut self, mut takers: Vec<Taker>, until: u64) {
        let mut known = BTreeSet::new();
        for _ in 0..MOST_ROUNDS {
            self.places.takers = takers;
            self.try_values(until);
            if self.ground() > 0 || self.impossible {
                break;
            }
            self.make_places();
            let tight = self.tight();
            if tight == known {
                break;
            }
            for clause in &tight {
                self.require(&Vec::from_iter(clause.iter().copied()));
            }
            known = tight;
            self.try_without(until);
            takers = self.takers();
        }
    }

    /// Tries whether the components that conflicts are about can be away, up to so many steps.
    fn try_without(&mut self, until: u64) {
        let mut domains = self.heap.by_activity();
        domains.extend(self.concerned(&domains));
        for domain in domains {
            if self.impossible || self.steps > until {
                break;
            }
            let Domain { first, idle, .. } = self.domains[domain as usize];
            if idle && self.value[first as usize] == 0 {
                self.decided(Some(Lit::is(first)));
                let fails = self.propagate().is_some();
                self.back_to(0);
                if fails {
                    self.require(&[Lit::not(first)]);
                }
            }
        }
    }

    /// Tries each value of the takers by itself, and keeps which others it excludes, up to so many steps.
    fn try_values(&mut self, until: u64) {
        let mut places = std::mem::take(&mut self.places);
        let taker_of = places.taker_of();
        let ground = self.ground();
        let mut never = Vec::new();
        // Each with one from which it follows.
        let mut implied_by: BTreeSet<(Var, Var)> = BTreeSet::new();
        let values: Vec<Var> = places.values().collect();
        for value in values {
            if self.steps > until {
                break;
            }
            let before = self.trail.len();
            self.decided(Some(Lit::is(value)));
            if let Some(conflict) = self.propagate() {
                let why = self.assumed_for(&conflict);
                never.push(why.into_iter().map(|lit| !lit).collect::<Vec<_>>());
                self.back_to(ground);
                continue;
            }
            let (mut others, mut implied) = (Vec::new(), Vec::new());
            for lit in &self.trail[before..] {
                let owner = taker_of.get(&lit.var());
                if owner.is_some_and(|owner| *owner != taker_of[&value]) {
                    let list = if lit.is_negative() {
                        &mut others
                    } else {
                        &mut implied
                    };
                    list.push(lit.var());
                }
            }
            for other in &others {
                let why = match ground {
                    0 => Vec::new(),
                    _ => self.counted_behind(Lit::not(*other), value),
                };
                places.exclude(value, *other, why);
            }
            self.back_to(ground);
            if ground == 0 {
                implied_by.extend(implied.into_iter().map(|other| (other, value)));
            }
        }
        places.same.clear();
        places.leave_out_same(&implied_by);
        self.places = places;
        for clause in never {
            self.require(&clause);
        }
    }

    /// What counts that a literal follows from, besides a value, negated.
    fn counted_behind(&self, lit: Lit, value: Var) -> Vec<Lit> {
        let mut seen: HashSet<Var> = HashSet::from_iter([value, lit.var()]);
        let (mut open, mut found, mut reasons) = (vec![lit], BTreeSet::new(), Vec::new());
        while let Some(lit) = open.pop() {
            reasons.clear();
            self.gather_into(lit, &mut reasons);
            if reasons.is_empty() {
                found.insert(!lit);
            }
            for reason in reasons.iter().map(|reason| !*reason) {
                if self.level_of[reason.var() as usize] > 0 && seen.insert(reason.var()) {
                    open.push(reason);
                }
            }
        }
        found.into_iter().collect()
    }

    /// Where so many takers have no more places than they need, each of these places is taken by one of them: as clauses. Nothing
    /// is assumed or counts only for now.
    fn tight(&mut self) -> BTreeSet<BTreeSet<Lit>> {
        if self.crowded().is_some() {
            return BTreeSet::new();
        }
        let places = &self.places;
        let is_open = |value: &&Var| self.value[**value as usize] >= 0;
        let open = |taker: usize| places.takers[taker].values.iter().filter(is_open);
        let mut loose_places: HashSet<usize> = HashSet::default();
        let unused = places.taken_by.iter().enumerate();
        loose_places.extend(
            unused
                .filter(|(_, by)| by.is_none())
                .map(|(place, _)| place),
        );
        let settled = places.counted.iter().copied();
        let settled = settled.filter(|taker| places.by[*taker].is_some());
        let mut tight: BTreeSet<usize> = settled.collect();
        loop {
            let is_loose = |value: &Var| {
                places
                    .place_of(*value)
                    .is_none_or(|place| loose_places.contains(&place))
            };
            let loose = tight
                .iter()
                .copied()
                .filter(|taker| open(*taker).any(is_loose));
            let loose: Vec<usize> = loose.collect();
            if loose.is_empty() {
                break;
            }
            for taker in loose {
                tight.remove(&taker);
                loose_places.extend(places.by[taker].and_then(|value| places.place_of(value)));
            }
        }
        let mut takers_of: BTreeMap<usize, BTreeSet<Lit>> = BTreeMap::new();
        for value in tight.iter().copied().flat_map(open) {
            if let Some(place) = places.place_of(*value) {
                takers_of.entry(place).or_default().insert(Lit::is(*value));
            }
        }
        for (place, lits) in &takers_of {
            let others = takers_of.iter().filter(|(other, _)| *other != place);
            // Without it they were too many for the others.
            self.log.note(|| {
                let elsewhere = |taker: usize| {
                    let values =
                        open(taker).filter(|value| places.place_of(**value) != Some(*place));
                    values.copied().map(Lit::is).collect()
                };
                Step::Crowd(Crowd {
                    follows: lits.iter().copied().collect(),
                    takers: tight.iter().copied().map(elsewhere).collect(),
                    places: others
                        .map(|(_, lits)| lits.iter().copied().collect())
                        .collect(),
                })
            });
        }
        takers_of.into_values().collect()
    }

    /// What has to have one of its values while all is as it is, of what conflicts are about: first components, then what their
    /// releases ask for.
    pub(super) fn takers(&self) -> Vec<Taker> {
        let mut active = self.heap.by_activity();
        active.extend(self.concerned(&active));
        let domains = active.iter().map(|domain| self.domains[*domain as usize]);
        let needed = domains.filter(|it| !it.idle || self.value[it.first as usize] < 0);
        let own = needed.map(|it| (it.first..it.first + it.length).map(Lit::is).collect());
        let demands = self.demands.iter().map(|demand| self.lits(*demand));
        let demands = demands.map(|range| self.literals[range].to_vec());
        let is_fixed = |lit: &Lit| self.level_of[lit.var() as usize] == 0;
        let mut used: HashSet<Var> = HashSet::default();
        let mut takers = Vec::new();
        for lits in own.chain(demands) {
            let lits: Vec<Lit> = lits;
            let left = lits
                .into_iter()
                .filter(|lit| !(self.truth(*lit) < 0 && is_fixed(lit)));
            let (values, rest): (Vec<Lit>, Vec<Lit>) = left.partition(|lit| {
                !lit.is_negative() && self.domain_of[lit.var() as usize] != NO_DOMAIN
            });
            let is_met = values
                .iter()
                .any(|lit| self.truth(*lit) > 0 && is_fixed(lit));
            let values: Vec<Var> = values.into_iter().map(Lit::var).collect();
            let open = values.iter().copied();
            let open = open
                .filter(|value| self.value[*value as usize] >= 0)
                .collect();
            let is_new = !values.iter().any(|value| used.contains(value));
            if is_new && !is_met && used.len() + values.len() <= MOST_VALUES {
                used.extend(&values);
                takers.push(Taker { values, open, rest });
            }
        }
        takers
    }

    /// Of other domains than these, those of which something follows at once from a value of these.
    fn concerned(&self, domains: &[u32]) -> Vec<u32> {
        let own = domains.iter().map(|domain| self.domains[*domain as usize]);
        let vars = own.flat_map(|it| it.first..it.first + it.length);
        let implied = vars.flat_map(|var| &self.implied[Lit::is(var).index()]);
        let mut known: HashSet<u32> = domains.iter().copied().collect();
        let mut found = Vec::new();
        for lit in implied {
            let helped = match self.domain_of[lit.var() as usize] {
                NO_DOMAIN => &self.implied[lit.index()][..],
                _ => &[],
            };
            for lit in std::iter::once(lit).chain(helped) {
                let domain = self.domain_of[lit.var() as usize];
                if domain != NO_DOMAIN && known.insert(domain) {
                    found.push(domain);
                }
            }
        }
        found
    }

    /// Puts values that exclude each other while this counts into one place each: first those of several takers, then what else
    /// of these takers fits in. All conclusions have been drawn, and nothing is assumed.
    pub(super) fn make_places(&mut self) {
        let mut found = std::mem::take(&mut self.places);
        let taker_of = found.taker_of();
        let exclude = |a: &Var, b: &Var| {
            let alike = self.domain_of[*a as usize] == self.domain_of[*b as usize];
            alike || self.why(&found, *a, *b).is_some()
        };
        let mut place_of: HashMap<Var, usize> = HashMap::new();
        let (mut places, mut compared) = (0, 0);
        for first in found.takers.iter().flat_map(|taker| &taker.values) {
            if place_of.contains_key(first) {
                continue;
            }
            let mut members = vec![*first];
            let mut owners: HashSet<usize> = HashSet::from_iter([taker_of[first]]);
            let add = |value: &Var, members: &mut Vec<Var>| {
                let is_free = !place_of.contains_key(value) && !members.contains(value);
                let fits = is_free && members.iter().all(|other| exclude(value, other));
                members.extend(fits.then_some(*value));
                fits
            };
            for value in found.rivals.get(first).into_iter().flatten() {
                compared += members.len() as u64;
                if let Some(owner) = taker_of.get(value)
                    && !owners.contains(owner)
                    && add(value, &mut members)
                {
                    owners.insert(*owner);
                }
            }
            if members.len() < 2 {
                continue;
            }
            for at in 0..members.len() {
                for value in &found.takers[taker_of[&members[at]]].values {
                    add(value, &mut members);
                }
            }
            place_of.extend(members.into_iter().map(|value| (value, places)));
            places += 1;
        }
        // Who can have something that is in nobody's way is no taker, and for what only one of the others could take there is
        // no need of a place.
        let mut counted: BTreeSet<usize> = (0..found.takers.len()).collect();
        loop {
            let mut owners: Vec<BTreeSet<usize>> = vec![BTreeSet::new(); places];
            for (value, place) in &place_of {
                owners[*place].extend(counted.get(&taker_of[value]));
            }
            place_of.retain(|value, place| {
                counted.contains(&taker_of[value]) && owners[*place].len() > 1
            });
            let before = counted.len();
            let is_placed =
                |value: &Var| place_of.contains_key(value) || self.value[*value as usize] < 0;
            counted.retain(|taker| found.takers[*taker].open.iter().all(is_placed));
            if counted.len() == before {
                break;
            }
        }
        self.steps += compared / COMPARED_IN_A_STEP;
        let known = place_of.len() + found.same.len();
        if self.counting == Counting::All && known > found.told + found.told / 4 {
            found.told = known;
            self.has_news = true;
        }
        found.counted = counted.into_iter().collect();
        found.place_of = place_of;
        found.taken_by = vec![None; places];
        found.by = vec![None; found.takers.len()];
        found.are_made = true;
        self.places = found;
    }

    /// Whether it is time to look for places.
    pub(super) fn is_time_to_look(&self) -> bool {
        self.steps >= self.places.not_before
    }

    /// Whether places are still to be made.
    pub(super) fn has_places_to_make(&self) -> bool {
        !self.places.are_made && !self.places.takers.is_empty()
    }
}

fn pair(a: Var, b: Var) -> (Var, Var) {
    (a.min(b), a.max(b))
}
