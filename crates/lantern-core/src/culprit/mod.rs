//! Which of the things that moved makes a start fail: which set of them to try next, until a smallest one is known.
//!
//! A [`Search`] is asked what to try ([`Search::step`]), told what a start of it has shown ([`Search::told`]), and asked again. It starts
//! nothing itself, and what it asks follows from what it was told alone. What moved is put into an order in which whatever something needs
//! stands before it, so that each beginning of the order fits together; the shortest beginning that fails is found by halving, and its last
//! is a culprit. Where that does not fail by itself, what it fails with is looked for in the same way among what stands before it
//! (U. Junker, QuickXplain, 2004). Every set that is named was started and has failed, whatever else failing may depend on; where more never
//! makes a failing set good, nothing can be left out of it.

mod order;
pub mod parts;
#[cfg(test)]
mod tests;

use order::Unit;
use std::collections::{BTreeMap, BTreeSet, VecDeque};

/// So often a set is tried before it counts as good, where failing comes and goes; and the whole, before it counts as working.
pub const TRIES: u32 = 3;

/// One of the things that moved, or are there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Item {
    /// What cannot be left out where this one is in: indices of others.
    pub needs: Vec<usize>,
    /// Whether a failing start has named it: those are tried before all others.
    pub is_named: bool,
    /// How likely it is the one otherwise: those with the most stand in front.
    pub weight: u32,
}

impl Item {
    /// How likely it is the one.
    fn likely(&self) -> (bool, u32) {
        (self.is_named, self.weight)
    }
}

/// Some of the items, as indices.
pub type Set = BTreeSet<usize>;

/// What one start of a set has shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Seen {
    /// It works.
    Good,
    /// It fails, in the way that is looked into.
    Bad,
    /// Neither: it could not be put together, or fails in another way.
    Unclear,
}

/// What comes next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Start this set, and tell what it shows.
    Try(Set),
    /// It is known.
    Done(Outcome),
}

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// All of it together does not fail.
    Works,
    /// It was not seen to fail in the way that is looked into, nor to work.
    Otherwise,
    /// It fails also with none of it.
    FailsAnyway,
    /// It fails with these.
    Found {
        /// Each fails by itself; in the order in which they were found.
        culprits: Vec<Culprit>,
        /// What works: all but what would have to be left out; none where leaving them out did not help.
        works: Option<Set>,
    },
}

/// What fails, and of which nothing can be left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Culprit {
    /// Those that make it fail, together.
    pub named: Set,
    /// They, and what they need: what was started, and has failed.
    pub tried: Set,
    /// The one of them that is left out, with all that needs it, in what works.
    pub leave_out: usize,
    /// Whether it fails at some starts and not at others.
    pub unsteady: bool,
}

/// How often a set was started, and what came of it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Tally {
    good: u32,
    bad: u32,
    unclear: u32,
}

impl Tally {
    fn starts(&self) -> u32 {
        self.good + self.bad + self.unclear
    }
}

/// A search under way.
#[derive(Debug, Clone)]
pub struct Search {
    items: Vec<Item>,
    /// In the order in which they are tried.
    units: Vec<Unit>,
    tallies: BTreeMap<Set, Tally>,
}

/// That a set has to be started first.
struct Wanted(Set);

impl Search {
    /// A search among items. What an item needs, and does not exist, is not looked at.
    pub fn new(mut items: Vec<Item>) -> Search {
        let count = items.len();
        for item in &mut items {
            item.needs.retain(|need| *need < count);
        }
        Search {
            units: order::units(&items),
            items,
            tallies: BTreeMap::new(),
        }
    }

    /// Takes in what one start of a set has shown.
    pub fn told(&mut self, set: &Set, seen: Seen) {
        let tally = self.tallies.entry(set.clone()).or_default();
        match seen {
            Seen::Good => tally.good += 1,
            Seen::Bad => tally.bad += 1,
            Seen::Unclear => tally.unclear += 1,
        }
    }

    /// What comes next, after all that was told.
    pub fn step(&self) -> Step {
        match self.walk() {
            Ok(outcome) => Step::Done(outcome),
            Err(Wanted(set)) => Step::Try(set),
        }
    }

    /// What to start at the same time: what comes next first, then what would come after that, whatever that shows; where it fails before
    /// where it works. A set may be there twice where it has to be started twice. At most so many; none where the search is at its end.
    pub fn ahead(&self, most: usize) -> Vec<Set> {
        let mut sets: Vec<Set> = Vec::new();
        let mut states = VecDeque::from([self.clone()]);
        // Each state leads to two; those that ask for what is there already are gone through, too.
        for _ in 0..4 * most {
            let Some(state) = states.pop_front().filter(|_| sets.len() < most) else {
                break;
            };
            let Step::Try(set) = state.step() else {
                continue;
            };
            let started = |search: &Search| search.tallies.get(&set).map_or(0, Tally::starts);
            let before = started(&state) - started(self);
            let there = sets.iter().filter(|other| **other == set).count();
            if there <= before as usize {
                sets.push(set.clone());
            }
            for seen in [Seen::Bad, Seen::Good] {
                let mut next = state.clone();
                next.told(&set, seen);
                states.push_back(next);
            }
        }
        sets
    }

    /// How many starts there are at most from the beginning, where one item fails by itself at every start.
    pub fn starts_for_one(items: usize) -> u32 {
        let halvings = items.max(1).next_power_of_two().trailing_zeros();
        match items {
            0 => 2,
            1 => 3,
            _ => halvings + 6,
        }
    }

    /// All that is known by now to fail, and of which nothing can be left out, where the search is not at its end.
    pub fn so_far(&self) -> Vec<Culprit> {
        let mut culprits = Vec::new();
        let _ = self.culprits(&mut culprits);
        culprits
    }

    /// Of the items that something may still depend on: the smallest set that was seen to fail.
    pub fn smallest_bad(&self) -> Option<&Set> {
        let bad = self.tallies.iter().filter(|(_, tally)| tally.bad > 0);
        bad.map(|(set, _)| set).min_by_key(|set| set.len())
    }

    fn all(&self) -> Set {
        (0..self.items.len()).collect()
    }

    /// Whether failing comes and goes.
    fn is_unsteady(&self) -> bool {
        let both = |tally: &Tally| tally.good > 0 && tally.bad > 0;
        self.tallies.values().any(both)
    }

    /// Whether a set fails, as far as it was started often enough.
    fn fails(&self, set: &Set) -> Result<bool, Wanted> {
        let tally = self.tallies.get(set).copied().unwrap_or_default();
        let is_whole = set.len() == self.items.len();
        let (bad, good) = match (is_whole, self.is_unsteady()) {
            (_, true) => (1, TRIES),
            // Twice, as all else is held against it.
            (true, false) => (2, TRIES),
            (false, false) => (1, 1),
        };
        match () {
            () if tally.bad >= bad => Ok(true),
            () if tally.unclear > 0 || tally.good >= good => Ok(false),
            () => Err(Wanted(set.clone())),
        }
    }

    /// Whether a set was seen to work: that it did not fail may mean that it could not be put together.
    fn was_good(&self, set: &Set) -> bool {
        self.tallies.get(set).is_some_and(|tally| tally.good > 0)
    }

    fn is_unsteady_with(&self, set: &Set) -> bool {
        self.tallies.get(set).is_some_and(|tally| tally.good > 0)
    }

    fn walk(&self) -> Result<Outcome, Wanted> {
        if !self.fails(&self.all())? {
            return Ok(match self.was_good(&self.all()) {
                true => Outcome::Works,
                false => Outcome::Otherwise,
            });
        }
        if self.fails(&Set::new())? {
            return Ok(Outcome::FailsAnyway);
        }
        let mut culprits = Vec::new();
        let works = self.culprits(&mut culprits)?;
        Ok(Outcome::Found { culprits, works })
    }

    /// Finds one after the other, until what is left works.
    fn culprits(&self, found: &mut Vec<Culprit>) -> Result<Option<Set>, Wanted> {
        let mut left = self.all();
        loop {
            let culprit = self.culprit_in(&left)?;
            let without = order::without(&self.items, &left, culprit.leave_out);
            let is_new = without != left;
            found.push(culprit);
            left = without;
            if !is_new {
                return Ok(None);
            }
            if left.is_empty() || !self.fails(&left)? {
                return Ok(self.was_good(&left).then_some(left));
            }
        }
    }

    /// Finds a smallest failing set in one that fails, and that fails no more with nothing of it.
    fn culprit_in(&self, whole: &Set) -> Result<Culprit, Wanted> {
        let order: Vec<&Unit> = self.units.iter().filter(|unit| unit.is_in(whole)).collect();
        let beginning = |length: usize| order[..length].iter().flat_map(|unit| &unit.items);
        let mut named = Set::new();
        let mut tried = Set::new();
        let mut failing = order.len();
        loop {
            let fixed = tried;
            let with = |length: usize| -> Set {
                let mut set: Set = beginning(length).copied().collect();
                set.extend(&fixed);
                set
            };
            let mut good = 0;
            let mut bad = failing;
            let mut next = order.iter().take_while(|unit| unit.is_suspect).count();
            while bad - good > 1 {
                if next <= good || next >= bad {
                    next = good + (bad - good) / 2;
                }
                match self.fails(&with(next))? {
                    true => bad = next,
                    false => good = next,
                }
                next = 0;
            }
            let last = order[bad - 1];
            named.extend(&last.items);
            tried = order::closed(&self.items, &named);
            if bad == 1 || self.fails(&tried)? {
                let leave_out = self.best_to_leave_out(whole, &named);
                return Ok(Culprit {
                    unsteady: self.is_unsteady_with(&tried),
                    leave_out,
                    named,
                    tried,
                });
            }
            failing = bad - 1;
        }
    }

    /// The one of those that fail together without which the most is left; of equal ones the most likely.
    fn best_to_leave_out(&self, whole: &Set, named: &Set) -> usize {
        let worth = |index: &&usize| {
            let left = order::without(&self.items, whole, **index).len();
            (left, self.items[**index].likely())
        };
        *named.iter().max_by_key(worth).expect("somebody is named")
    }
}
