//! What is learned from a conflict, and what is forgotten again.

use super::{Clause, Domain, Lit, NO_DOMAIN, Reason, Solver, Step, Theory, Var};
use foldhash::HashSet;

/// What a literal follows from is traced back over at most so many reasons.
const MOST_DEEP: u32 = 200;
/// So many clauses more are learned before some are forgotten.
pub(super) const LEARNED_BEFORE_FORGETTING: usize = if cfg!(test) { 20 } else { 2_000 };

impl<T: Theory> Solver<T> {
    /// The literals that made this one true, negated.
    pub(super) fn gather_antecedents(&mut self, lit: Lit) {
        let mut found = std::mem::take(&mut self.antecedents);
        found.clear();
        self.gather_into(lit, &mut found);
        self.antecedents = found;
    }

    /// As [`Solver::gather_antecedents`], into a list of one's own.
    pub(super) fn gather_into(&self, lit: Lit, found: &mut Vec<Lit>) {
        let var = lit.var();
        match self.reason[var as usize] {
            Reason::None => {}
            Reason::Because(other) => found.push(!other),
            Reason::Clause(clause) => {
                let lits = &self.literals[self.lits(clause)];
                found.extend(lits.iter().copied().filter(|other| *other != lit));
            }
            Reason::Last => {
                let Domain { first, length, .. } =
                    self.domains[self.domain_of[var as usize] as usize];
                found.extend(
                    (first..first + length)
                        .filter(|other| *other != var)
                        .map(Lit::is),
                );
            }
            Reason::Budget(budget) => {
                self.not_allowed_by(budget, lit, self.level_of[var as usize], found);
            }
        }
    }

    /// Learns a clause from a conflict; returns it, its assertion first, and the level to go back to.
    pub(super) fn analyse(&mut self, conflict: Vec<Lit>) -> (Vec<Lit>, usize) {
        let current = self.levels.len() as u32;
        let latest = |lit: &&Lit| self.level_of[lit.var() as usize] == current;
        if conflict.iter().filter(latest).count() == 1 {
            // Seen late: it could have been concluded below this level, and is now.
            return self.asserting(conflict);
        }
        let mut learned = vec![Lit(0)];
        let mut open = 0;
        let mut index = self.trail.len();
        let mut lits = conflict;
        let mut met: HashSet<u32> = HashSet::default();
        loop {
            for lit in lits.drain(..) {
                let var = lit.var() as usize;
                if self.marked[var] || self.level_of[var] == 0 {
                    continue;
                }
                self.marked[var] = true;
                if self.domain_of[var] != NO_DOMAIN && met.insert(self.domain_of[var]) {
                    self.heap.bump(self.domain_of[var]);
                }
                if self.level_of[var] == current {
                    open += 1;
                } else {
                    learned.push(lit);
                }
            }
            loop {
                index -= 1;
                let var = self.trail[index].var() as usize;
                if self.marked[var] && self.level_of[var] == current {
                    break;
                }
            }
            let lit = self.trail[index];
            self.marked[lit.var() as usize] = false;
            open -= 1;
            if open == 0 {
                learned[0] = !lit;
                break;
            }
            if let Reason::Clause(clause) = self.reason[lit.var() as usize] {
                self.used(clause);
            }
            self.gather_antecedents(lit);
            lits = std::mem::take(&mut self.antecedents);
        }
        let all = learned.clone();
        learned = self.shortened(learned);
        for lit in all {
            self.marked[lit.var() as usize] = false;
        }
        self.heap.decay();
        self.asserting(learned)
    }

    /// Puts the latest literal of a clause first and the second latest behind it; returns the level at
    /// which the first follows from the others.
    fn asserting(&self, mut learned: Vec<Lit>) -> (Vec<Lit>, usize) {
        let level = |lit: &Lit| self.level_of[lit.var() as usize];
        let first = (0..learned.len()).max_by_key(|i| (level(&learned[*i]), usize::MAX - i));
        learned.swap(0, first.unwrap_or(0));
        let mut back = 0;
        if learned.len() > 1 {
            let last = (1..learned.len()).max_by_key(|i| level(&learned[*i]));
            let last = last.unwrap_or(1);
            learned.swap(1, last);
            back = level(&learned[1]) as usize;
        }
        (learned, back)
    }

    /// Leaves out what follows from the rest of a clause; all its literals but the first are marked.
    fn shortened(&mut self, learned: Vec<Lit>) -> Vec<Lit> {
        let mut kept = vec![learned[0]];
        for lit in &learned[1..] {
            if !self.follows_from_rest(*lit, MOST_DEEP) {
                kept.push(*lit);
            }
        }
        for var in self.judged.drain(..) {
            self.follows[var as usize] = None;
        }
        kept
    }

    /// Whether a false literal of a clause follows from others of it.
    fn follows_from_rest(&mut self, lit: Lit, deep: u32) -> bool {
        if self.reason[lit.var() as usize] == Reason::None || deep == 0 {
            return false;
        }
        let mut found = Vec::new();
        self.gather_into(!lit, &mut found);
        found.iter().all(|other| {
            let var = other.var() as usize;
            if self.marked[var] || self.level_of[var] == 0 {
                return true;
            }
            if let Some(follows) = self.follows[var] {
                return follows;
            }
            let follows = self.follows_from_rest(*other, deep - 1);
            self.follows[var] = Some(follows);
            self.judged.push(var as Var);
            follows
        })
    }

    /// Which assumptions made a literal false, and itself.
    pub(super) fn core_of(&mut self, lit: Lit) -> Vec<Lit> {
        let mut core = self.assumed_for(&[lit]);
        core.retain(|other| *other != !lit);
        core.insert(0, lit);
        core
    }

    /// Which assumptions made all these literals false.
    pub(super) fn assumed_for(&mut self, lits: &[Lit]) -> Vec<Lit> {
        let mut assumed = Vec::new();
        let mut open = 0;
        for lit in lits {
            let var = lit.var() as usize;
            open += usize::from(self.level_of[var] > 0 && !self.marked[var]);
            self.marked[var] |= self.level_of[var] > 0;
        }
        let mut index = self.trail.len();
        while open > 0 {
            index -= 1;
            let lit = self.trail[index];
            if !std::mem::take(&mut self.marked[lit.var() as usize]) {
                continue;
            }
            open -= 1;
            if self.reason[lit.var() as usize] == Reason::None {
                assumed.push(lit);
                continue;
            }
            self.gather_antecedents(lit);
            let found = std::mem::take(&mut self.antecedents);
            for antecedent in &found {
                let var = antecedent.var() as usize;
                open += usize::from(self.level_of[var] > 0 && !self.marked[var]);
                self.marked[var] |= self.level_of[var] > 0;
            }
            self.antecedents = found;
        }
        assumed
    }

    /// How many levels meet in literals.
    pub(super) fn glue(&self, lits: &[Lit]) -> u32 {
        let levels = lits.iter().map(|lit| self.level_of[lit.var() as usize]);
        let mut levels: Vec<u32> = levels.collect();
        levels.sort_unstable();
        levels.dedup();
        levels.len() as u32
    }

    pub(super) fn learn(&mut self, learned: &[Lit]) {
        self.log.note(|| Step::Follows(learned.to_vec()));
        match *learned {
            [lit] => {
                self.set(lit, Reason::None);
                // It holds whatever is decided, also where decisions lie below it on the trail.
                self.level_of[lit.var() as usize] = 0;
            }
            [a, b] => {
                self.implied[(!a).index()].push(b);
                self.implied[(!b).index()].push(a);
                self.set(a, Reason::Because(!b));
            }
            _ => {
                let glue = self.glue(learned);
                let clause = self.store(learned, true, glue);
                self.set(learned[0], Reason::Clause(clause));
            }
        }
    }

    /// A learned clause took part in a conflict: it is worth what its levels are by now, and stays for a while.
    fn used(&mut self, clause: u32) {
        let Clause { learned, glue, .. } = self.clauses[clause as usize];
        if !learned {
            return;
        }
        let now = self.glue(&self.literals[self.lits(clause)]);
        let clause = &mut self.clauses[clause as usize];
        clause.glue = glue.min(now);
        clause.used = if clause.glue <= 6 { 2 } else { 1 };
    }

    /// Forgets, from time to time, three quarters of the learned clauses that took part in no conflict lately: those in which most
    /// levels meet.
    pub(super) fn forget_some(&mut self) {
        if self.learned < self.most_learned {
            return;
        }
        let in_use: HashSet<u32> = self
            .trail
            .iter()
            .filter_map(|lit| match self.reason[lit.var() as usize] {
                Reason::Clause(clause) => Some(clause),
                _ => None,
            })
            .collect();
        let mut idle: Vec<u32> = Vec::new();
        for (index, clause) in self.clauses.iter_mut().enumerate() {
            if clause.learned && clause.glue > 2 && !in_use.contains(&(index as u32)) {
                match clause.used {
                    0 => idle.push(index as u32),
                    _ => clause.used -= 1,
                }
            }
        }
        idle.sort_by_key(|index| {
            let clause = &self.clauses[*index as usize];
            (clause.glue, clause.length, *index)
        });
        let goes: HashSet<u32> = idle.split_off(idle.len() / 4).into_iter().collect();
        self.most_learned = self.learned - goes.len() + LEARNED_BEFORE_FORGETTING;
        self.forgotten += goes.len();
        let mut renumbered = vec![u32::MAX; self.clauses.len()];
        let (mut clauses, mut literals) = (Vec::new(), Vec::new());
        for (index, clause) in self.clauses.iter().enumerate() {
            if goes.contains(&(index as u32)) {
                continue;
            }
            renumbered[index] = clauses.len() as u32;
            let range = clause.start as usize..(clause.start + clause.length) as usize;
            clauses.push(Clause {
                start: literals.len() as u32,
                ..*clause
            });
            literals.extend_from_slice(&self.literals[range]);
        }
        self.learned = clauses.iter().filter(|c| c.learned).count();
        self.clauses = clauses;
        self.literals = literals;
        for watches in &mut self.watches {
            watches.retain_mut(|watch| {
                watch.clause = renumbered[watch.clause as usize];
                watch.clause != u32::MAX
            });
        }
        for reason in &mut self.reason {
            if let Reason::Clause(clause) = reason {
                // Of variables that are not set, reasons are left over and mean nothing.
                let new = renumbered[*clause as usize];
                *reason = if new == u32::MAX {
                    Reason::None
                } else {
                    Reason::Clause(new)
                };
            }
        }
        for demand in self
            .demands_of
            .iter_mut()
            .flatten()
            .chain(&mut self.demands)
        {
            *demand = renumbered[*demand as usize];
        }
    }
}
