//! What counts in one question and not in another.

use super::{Lit, NO_DOMAIN, Reason, Solver, Theory, Var};
use foldhash::HashSet;

/// The number of something that may count or not.
pub(in crate::resolve) type Guard = u32;

/// Which guards count while a question is answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::resolve) enum Counting {
    /// There are none: everything counts.
    All,
    /// All but these; of the open ones the assumptions say whether they do.
    AllBut {
        /// Those that do not count.
        away: HashSet<Guard>,
        /// Those of which nothing is said.
        open: HashSet<Guard>,
    },
    /// These alone.
    Only(HashSet<Guard>),
}

impl Counting {
    /// Whether a guard counts; none where nothing is said of it.
    fn counts(&self, guard: Guard) -> Option<bool> {
        match self {
            Counting::All => Some(true),
            Counting::AllBut { open, .. } if open.contains(&guard) => None,
            Counting::AllBut { away, .. } => Some(!away.contains(&guard)),
            Counting::Only(only) => Some(only.contains(&guard)),
        }
    }
}

/// Guards are set at this level: above what always holds, below what is assumed.
const GROUND: usize = 1;

impl<T: Theory> Solver<T> {
    /// What counts from here on; where that changes, it takes the search back to its beginning.
    pub(in crate::resolve) fn count(&mut self, counting: Counting) {
        if self.counting != counting {
            self.back_to(0);
            self.counting = counting;
            self.places.are_unmade();
        }
    }

    /// The literal that says that a guard counts.
    pub(in crate::resolve) fn guard(&mut self, guard: Guard) -> Lit {
        while self.guards.len() <= guard as usize {
            let var = self.helper();
            self.guards.push(var);
            if self.levels.len() >= GROUND {
                self.lay(self.guards.len() as Guard - 1);
                self.out_of_order |= self.levels.len() > GROUND;
            }
        }
        Lit::is(self.guards[guard as usize])
    }

    /// Something may be chosen only where the guard does not count.
    pub(in crate::resolve) fn tell_when_off(&mut self, guard: Guard) -> Lit {
        let lit = self.guard(guard);
        if let Err(place) = self.told_when_off.binary_search(&guard) {
            self.told_when_off.insert(place, guard);
        }
        lit
    }

    /// The guard of a literal, where it says that one counts.
    pub(in crate::resolve) fn guard_of(&self, lit: Lit) -> Option<Guard> {
        let place = self.guards.binary_search(&lit.var());
        place
            .ok()
            .filter(|_| !lit.is_negative())
            .map(|place| place as Guard)
    }

    /// Whether a literal says of a guard what is so for what counts now.
    pub(in crate::resolve) fn is_laid(&self, lit: Lit) -> bool {
        let guard = self.guards.binary_search(&lit.var());
        guard.is_ok_and(|guard| self.counting.counts(guard as Guard) == Some(!lit.is_negative()))
    }

    /// Whether a literal of a demand says that the guard does not count, and nothing says otherwise.
    pub(super) fn is_off(&self, lit: Lit) -> bool {
        let is_guard = self.domain_of[lit.var() as usize] == NO_DOMAIN;
        is_guard && lit.is_negative() && self.truth(lit) == 0
    }

    /// Keeps what was chosen: questions in which nearly everything counts have much the same answer.
    pub(super) fn remember(&mut self) {
        if !matches!(self.counting, Counting::AllBut { .. }) {
            return;
        }
        for (domain, last) in self.domains.iter().zip(&mut self.last) {
            let mut members = domain.first..domain.first + domain.length;
            *last = members.find(|var| self.value[*var as usize] > 0);
        }
    }

    /// Whether a variable was chosen in the last such answer.
    pub(super) fn was_chosen(&self, var: Var) -> bool {
        let domain = self.domain_of[var as usize];
        domain != NO_DOMAIN && self.last[domain as usize] == Some(var)
    }

    /// The levels below the assumptions.
    pub(super) fn ground(&self) -> usize {
        match self.counting {
            Counting::All => 0,
            _ => GROUND,
        }
    }

    /// Says of the guards whether they count.
    pub(super) fn lay_ground(&mut self) {
        self.decided(None);
        let all = self.guards.len() as Guard;
        let laid: Vec<Guard> = match &self.counting {
            // Nothing is said of the others, or it is said for nearly none.
            Counting::Only(only) => {
                let known = only.iter().filter(|guard| **guard < all);
                let mut laid: Vec<Guard> = known.chain(&self.told_when_off).copied().collect();
                laid.sort_unstable();
                laid
            }
            _ => (0..all).collect(),
        };
        for guard in laid {
            self.lay(guard);
        }
    }

    fn lay(&mut self, guard: Guard) {
        let var: Var = self.guards[guard as usize];
        let lit = match self.counting.counts(guard) {
            Some(true) => Lit::is(var),
            Some(false) if self.told_when_off.binary_search(&guard).is_ok() => Lit::not(var),
            _ => return,
        };
        if self.truth(lit) == 0 {
            self.set(lit, Reason::None);
            self.level_of[var as usize] = GROUND as u32;
        }
    }
}
