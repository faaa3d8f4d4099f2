//! Slots that are taken together, and builds that have only so many.

use super::{Lit, Reason, Solver, Theory, Var};

impl<T: Theory> Solver<T> {
    /// Whether what is chosen still has room on the builds that are left.
    pub(super) fn check_rooms(&mut self, var: Var) -> Option<Vec<Lit>> {
        for index in 0..self.rooms.len() {
            let concerned = self.rooms[index].takes.contains_key(&var)
                || self.rooms[index].has.iter().any(|(build, _)| *build == var);
            if !concerned {
                continue;
            }
            let guard = self.rooms[index].guard.map(|guard| self.guard(guard));
            if guard.is_some_and(|guard| self.truth(guard) <= 0) {
                continue;
            }
            for place in 0..self.rooms[index].has.len() {
                let (build, has) = self.rooms[index].has[place];
                if self.taken[index] <= has || self.value[build as usize] < 0 {
                    continue;
                }
                let mut lits = self.too_much(index, has);
                lits.extend(guard.map(|guard| !guard));
                if self.value[build as usize] > 0 {
                    lits.push(Lit::not(build));
                    return Some(lits);
                }
                // The build is out; the clause keeps why.
                lits.insert(0, Lit::not(build));
                let last =
                    (1..lits.len()).max_by_key(|i| self.level_of[lits[*i].var() as usize])?;
                lits.swap(1, last);
                let clause = self.store(&lits, true, 2);
                self.set(lits[0], Reason::Clause(clause));
            }
        }
        None
    }

    /// As few as can be of what together takes more than there is, negated.
    fn too_much(&self, index: usize, has: u64) -> Vec<Lit> {
        let takes = self.rooms[index].takes.iter();
        let mut chosen: Vec<(u64, Var)> = takes
            .filter(|(var, _)| self.value[**var as usize] > 0)
            .map(|(var, amount)| (*amount, *var))
            .collect();
        chosen.sort_unstable_by_key(|(amount, var)| (std::cmp::Reverse(*amount), *var));
        let mut sum = 0;
        let mut lits = Vec::new();
        for (amount, var) in chosen {
            sum += amount;
            lits.push(Lit::not(var));
            if sum > has {
                break;
            }
        }
        lits
    }
}
