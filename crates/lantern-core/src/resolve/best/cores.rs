//! Wishes that cannot hold together.
//!
//! All wishes are assumed at once, and a wish that cannot hold beside those before it is let go, so that one search finds many
//! sets of wishes that cannot hold together. Each such set raises the price by one, and from then on all but one of its
//! wishes have to hold (counted by a totalizer, after core-guided optimisation as in "OLL", Andres et al. 2012, with cores
//! that have nothing in common taken together). It ends when nothing is let go, or when the cheapest answer found costs no
//! more than has been shown; releases that would make an answer dearer than that one are ruled out on the way.

use super::Search;
use super::stage::{Next, Settled, Stage};
use crate::resolve::solver::{Lit, Outcome};

/// Cores of more wishes than this are left as they are.
const MOST_SHRUNK: usize = 64;

impl Stage {
    /// Lets go of wishes that cannot hold together, until all that are left can.
    pub(super) fn by_cores(
        &mut self,
        search: &mut Search<'_, '_>,
        limit: u64,
        found: &mut Vec<bool>,
    ) -> Settled {
        let mut cost = self.cost(found);
        while cost > self.least {
            self.rule_out(search, cost);
            let left = limit.saturating_sub(search.steps);
            if left == 0 {
                return Settled::OutOfSteps;
            }
            let assumed: Vec<Lit> = self.wishes.keys().copied().collect();
            let mut cores = Vec::new();
            let outcome = search.solve_most(&assumed, left, &mut cores);
            if outcome == Outcome::Found {
                let another = search.answer();
                let costs = self.cost(&another);
                if costs < cost {
                    (*found, cost) = (another, costs);
                }
                if cores.is_empty() {
                    debug_assert_eq!(cost, self.least, "what all wishes hold in costs the least");
                    break;
                }
            } else if std::mem::take(&mut search.has_news) {
                return Settled::Anew;
            }
            for core in cores {
                // Of cores that share a wish only the first counts: it changes what is wished for.
                if core.iter().all(|lit| self.wishes.contains_key(lit)) {
                    let core = shrunk(search, core);
                    self.relax(search, &core);
                }
            }
        }
        for lit in self.wishes.keys() {
            search.require(&[*lit]);
        }
        Settled::Yes
    }

    /// From here on all but one of these wishes have to hold.
    fn relax(&mut self, search: &mut Search<'_, '_>, core: &[Lit]) {
        let failed = core
            .iter()
            .filter_map(|lit| Some((*lit, self.wishes.remove(lit)?)));
        for (lit, next) in failed.collect::<Vec<_>>() {
            let next = match next {
                // What cannot hold at all is not wished for again.
                Next::Again(times) if times > 0 && core.len() > 1 => {
                    Some((lit, Next::Again(times - 1)))
                }
                Next::Again(times) if core.len() == 1 => {
                    self.least += times;
                    None
                }
                Next::Again(_) | Next::Nothing => None,
                Next::Step(at, step) => self.step_that_can_be(search, at, step),
                Next::Count(totalizer, count) => self.count(totalizer, count),
            };
            self.wishes.extend(next);
        }
        self.least += 1;
        let broken: Vec<Lit> = core.iter().map(|lit| !*lit).collect();
        search.require(&broken);
        if broken.len() > 1 {
            let outputs = totalizer(search, &broken);
            self.totalizers.push(outputs);
            let next = self.count(self.totalizers.len() - 1, 1);
            self.wishes.extend(next);
        }
    }

    /// As [`Stage::step`], without the steps that plainly cannot be.
    fn step_that_can_be(
        &mut self,
        search: &mut Search<'_, '_>,
        at: usize,
        bar: u32,
    ) -> Option<(Lit, Next)> {
        let mut wish = self.step(search, at, bar);
        while let Some((lit, Next::Step(at, bar))) = wish
            && search.refuted(&[lit]).is_some()
        {
            search.require(&[!lit]);
            self.least += 1;
            wish = self.step(search, at, bar);
        }
        wish
    }

    /// The wish that at most so many of a totalizer's inputs are true.
    fn count(&self, totalizer: usize, most: usize) -> Option<(Lit, Next)> {
        let output = self.totalizers[totalizer].get(most)?;
        Some((!*output, Next::Count(totalizer, most + 1)))
    }
}

/// Leaves out of a core what plainly is not needed for it.
fn shrunk(search: &mut Search<'_, '_>, mut core: Vec<Lit>) -> Vec<Lit> {
    let mut at = 0;
    while core.len() > 1 && core.len() <= MOST_SHRUNK && at < core.len() {
        let mut without = core.clone();
        without.remove(at);
        match search.refuted(&without) {
            Some(smaller) => core.retain(|lit| smaller.contains(lit)),
            None => at += 1,
        }
    }
    core
}

/// Counts: output number `n` (from 0) is true when more than `n` inputs are.
fn totalizer(search: &mut Search<'_, '_>, inputs: &[Lit]) -> Vec<Lit> {
    if inputs.len() <= 1 {
        return inputs.to_vec();
    }
    let (left, right) = inputs.split_at(inputs.len() / 2);
    let (left, right) = (totalizer(search, left), totalizer(search, right));
    let outputs: Vec<Lit> = inputs.iter().map(|_| Lit::is(search.helper())).collect();
    for a in 0..=left.len() {
        for b in 0..=right.len() {
            if a + b == 0 {
                continue;
            }
            let mut clause = vec![outputs[a + b - 1]];
            clause.extend(a.checked_sub(1).map(|a| !left[a]));
            clause.extend(b.checked_sub(1).map(|b| !right[b]));
            search.require(&clause);
        }
    }
    outputs
}
