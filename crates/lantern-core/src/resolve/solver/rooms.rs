//! Slots that are taken together, and builds that have only so many.

use super::{Lit, Reason, Room, Solver, Step, Theory, Var};
use std::cmp::Reverse;
use std::collections::BTreeMap;

/// Room of each kind, and what components take of it.
#[derive(Debug)]
pub(super) struct Rooms {
    all: Vec<Counted>,
    /// Of each variable: whether it says how much is taken, or how much there is.
    matters: Vec<bool>,
    /// Whether something that matters has changed since it was last counted.
    is_stale: bool,
}

/// Room of one kind.
#[derive(Debug)]
struct Counted {
    room: Room,
    /// The components that may take of it: the domain, and what each of its variables takes, in their order.
    takers: Vec<(u32, Vec<u64>)>,
}

/// What came of counting.
pub(super) enum Count {
    /// Nothing is too much, as far as is known.
    Enough,
    /// Something that is too much is out; there may be more to conclude.
    LeavesOut,
    /// These literals cannot all be false, and are.
    TooMuch(Vec<Lit>),
}

impl Rooms {
    pub(super) fn new(rooms: Vec<Room>, domain_of: &[u32]) -> Rooms {
        let mut matters = vec![false; if rooms.is_empty() { 0 } else { domain_of.len() }];
        let all = rooms.into_iter().map(|room| {
            let mut takers: BTreeMap<u32, Vec<u64>> = BTreeMap::new();
            for var in room.takes.keys() {
                takers.entry(domain_of[*var as usize]).or_default();
            }
            for (var, domain) in domain_of.iter().enumerate() {
                if let Some(takes) = takers.get_mut(domain) {
                    takes.push(room.takes.get(&(var as Var)).copied().unwrap_or(0));
                    matters[var] = true;
                }
            }
            for (build, _) in &room.has {
                matters[*build as usize] = true;
            }
            let takers = takers.into_iter().collect();
            Counted { room, takers }
        });
        Rooms {
            all: all.collect(),
            matters,
            is_stale: true,
        }
    }

    /// A variable is set.
    pub(super) fn note(&mut self, var: Var) {
        // What is in no domain may be what a room counts under.
        self.is_stale |= self
            .matters
            .get(var as usize)
            .is_none_or(|matters| *matters);
    }

    /// What was counted may not hold any more.
    pub(super) fn forget(&mut self) {
        self.is_stale = true;
    }
}

impl<T: Theory> Solver<T> {
    /// Whether what components take at the least has room on the builds that are left.
    pub(super) fn count_rooms(&mut self) -> Count {
        if !std::mem::take(&mut self.rooms.is_stale) {
            return Count::Enough;
        }
        for index in 0..self.rooms.all.len() {
            let guard = self.rooms.all[index]
                .room
                .guard
                .map(|guard| self.guard(guard));
            if guard.is_some_and(|guard| self.truth(guard) <= 0) {
                continue;
            }
            let least = self.least_taken(index);
            let taken: u64 = least.iter().map(|(takes, _)| takes).sum();
            for place in 0..self.rooms.all[index].room.has.len() {
                let (build, has) = self.rooms.all[index].room.has[place];
                if taken <= has || self.value[build as usize] < 0 {
                    continue;
                }
                self.rooms.is_stale = true;
                let mut lits = vec![Lit::not(build)];
                lits.extend(guard.map(|guard| !guard));
                lits.extend(self.too_much(index, &least, has));
                self.log.note(|| Step::Room(lits.clone()));
                if self.value[build as usize] > 0 {
                    return Count::TooMuch(lits);
                }
                // The build is out; the clause keeps why.
                let level = |place: &usize| self.level_of[lits[*place].var() as usize];
                if let Some(last) = (1..lits.len()).max_by_key(level) {
                    lits.swap(1, last);
                    let clause = self.store(&lits, true, 2);
                    self.set(lits[0], Reason::Clause(clause));
                } else {
                    self.learn(&lits);
                }
                return Count::LeavesOut;
            }
        }
        Count::Enough
    }

    /// What each component takes of a room at the least, as far as that is something, and its place among the takers; most first.
    fn least_taken(&self, index: usize) -> Vec<(u64, usize)> {
        let takers = self.rooms.all[index].takers.iter().enumerate();
        let least = takers.filter_map(|(at, (domain, takes))| {
            let first = self.domains[*domain as usize].first as usize;
            let open = takes.iter().zip(&self.value[first..]);
            let open = open.filter(|(_, value)| **value >= 0);
            let least = open.map(|(takes, _)| *takes).min()?;
            (least > 0).then_some((least, at))
        });
        let mut least: Vec<(u64, usize)> = least.collect();
        least.sort_unstable_by_key(|(takes, at)| (Reverse(*takes), *at));
        least
    }

    /// As few components as can be that together take more than there is: what each could be to take less.
    fn too_much(&self, index: usize, least: &[(u64, usize)], has: u64) -> Vec<Lit> {
        let mut sum = 0;
        let mut lits = Vec::new();
        for (least, at) in least {
            let (domain, takes) = &self.rooms.all[index].takers[*at];
            let vars = self.domains[*domain as usize].first..;
            let less = vars.zip(takes).filter(|(_, takes)| *takes < least);
            lits.extend(less.map(|(var, _)| Lit::is(var)));
            sum += least;
            if sum > has {
                break;
            }
        }
        lits.retain(|lit| self.level_of[lit.var() as usize] > 0);
        lits
    }
}
