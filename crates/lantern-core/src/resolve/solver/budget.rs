//! What an answer may cost at the most.
//!
//! A price that climbs step by step is a chain of literals of which each follows from the next, and what all chains cost
//! together is how many of their literals hold. That is counted, and not written down in clauses: why a budget does
//! not allow something is told only when it is asked for (as the bound in branch-and-bound solvers for pseudo-Boolean
//! optimisation, Manquinho and Marques-Silva 2004).

use super::rooms::Count;
use super::{Lit, Reason, Solver, Theory, Var};
use foldhash::HashMap;

/// So many chains are counted in the time of a step.
const CHAINS_IN_A_STEP: usize = 16;

/// Of chains of literals, so many may hold in all.
#[derive(Debug)]
pub(in crate::resolve) struct Budget {
    /// It counts only where this holds.
    on: Lit,
    most: usize,
    chains: Vec<Vec<Lit>>,
    /// How many of each chain held when it was last counted.
    spent: Vec<usize>,
    /// The chain of each variable, and the last place that its literal has in it.
    place_of: HashMap<Var, (usize, usize)>,
}

impl Budget {
    /// Each literal of a chain must follow from the one behind it; one that counts for more stands in it several times, and
    /// none in two chains.
    pub(in crate::resolve) fn new(on: Lit, most: usize, chains: Vec<Vec<Lit>>) -> Budget {
        let places = chains.iter().enumerate().flat_map(|(chain, lits)| {
            let lits = lits.iter().enumerate();
            lits.map(move |(at, lit)| (lit.var(), (chain, at)))
        });
        Budget {
            on,
            most,
            place_of: places.collect(),
            spent: vec![0; chains.len()],
            chains,
        }
    }
}

impl<T: Theory> Solver<T> {
    /// Adds a budget, in the place of one that counts where it does; takes the search back to its beginning.
    pub(in crate::resolve) fn keep_to(&mut self, budget: Budget) {
        self.back_to(0);
        let mut budgets = std::mem::take(&mut self.budgets);
        budgets.retain(|other| other.on != budget.on && self.truth(other.on) >= 0);
        budgets.push(budget);
        self.budgets = budgets;
    }

    /// Whether what holds already is within each budget; what would go beyond it is out.
    pub(super) fn count_budgets(&mut self) -> Count {
        for index in 0..self.budgets.len() {
            if self.truth(self.budgets[index].on) <= 0 {
                continue;
            }
            let left = match self.left_of(index) {
                Ok(left) => left,
                Err(too_much) => return Count::TooMuch(too_much),
            };
            let mut leaves_out = false;
            for chain in 0..self.budgets[index].chains.len() {
                let Budget { chains, spent, .. } = &self.budgets[index];
                if let Some(lit) = chains[chain].get(spent[chain] + left)
                    && self.truth(*lit) == 0
                {
                    self.set(!*lit, Reason::Budget(index as u32));
                    leaves_out = true;
                }
            }
            if leaves_out {
                return Count::LeavesOut;
            }
        }
        Count::Enough
    }

    /// How much more may be spent; where it is too much already, the clause that says so.
    fn left_of(&mut self, index: usize) -> Result<usize, Vec<Lit>> {
        let mut spent = std::mem::take(&mut self.budgets[index].spent);
        let budget = &self.budgets[index];
        for (chain, spent) in budget.chains.iter().zip(&mut spent) {
            while *spent > 0 && self.truth(chain[*spent - 1]) <= 0 {
                *spent -= 1;
            }
            while chain.get(*spent).is_some_and(|lit| self.truth(*lit) > 0) {
                *spent += 1;
            }
        }
        let sum: usize = spent.iter().sum();
        let left = budget.most.checked_sub(sum).ok_or_else(|| {
            let mut lits = Vec::new();
            self.spent_on(budget, &spent, sum - budget.most - 1, &mut lits);
            lits.retain(|lit| self.level_of[lit.var() as usize] > 0);
            lits
        });
        self.steps += (spent.len() / CHAINS_IN_A_STEP) as u64;
        self.budgets[index].spent = spent;
        left
    }

    /// Why a literal holds whose opposite a budget does not allow: all these are false up to the level, and were before it.
    pub(super) fn not_allowed_by(&self, index: u32, lit: Lit, level: u32, found: &mut Vec<Lit>) {
        let budget = &self.budgets[index as usize];
        let (own, place) = budget.place_of[&lit.var()];
        let until = self.position[lit.var() as usize];
        let was = |lit: &Lit| {
            let var = lit.var() as usize;
            self.truth(*lit) > 0 && self.position[var] < until && self.level_of[var] <= level
        };
        let chains = budget.chains.iter().enumerate();
        // The last counts for those before it, whenever these came to hold.
        let spent = chains.map(|(at, chain)| match chain.iter().rposition(was) {
            Some(last) if at != own => last + 1,
            _ => 0,
        });
        let spent: Vec<usize> = spent.collect();
        let sum = spent.iter().sum::<usize>() + place + 1;
        self.spent_on(budget, &spent, sum - budget.most - 1, found);
    }

    /// That a budget counts, and what is spent of it, less so much that need not be told; all negated.
    fn spent_on(&self, budget: &Budget, spent: &[usize], mut spare: usize, found: &mut Vec<Lit>) {
        found.push(!budget.on);
        for (chain, spent) in budget.chains.iter().zip(spent) {
            let told = spent.saturating_sub(spare);
            spare -= spent - told;
            found.extend(told.checked_sub(1).map(|last| !chain[last]));
        }
    }
}
