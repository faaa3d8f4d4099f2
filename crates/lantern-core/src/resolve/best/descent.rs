//! Better and better answers.
//!
//! What the best answer found costs must be undercut, and it is looked for an answer that does, until there is none. Only what
//! costs more than is already known of is counted, so that it gets easier as wishes that cannot hold together are
//! found (as in core-boosted linear search, Berg, Demirović and Stuckey 2019).

use super::Search;
use super::stage::{Next, Settled, Stage};
use crate::resolve::solver::{Budget, Lit, Outcome};

/// Where more steps of prices than this are open, they are not counted.
const MOST_COUNTED: usize = 8_000;

impl Stage {
    /// Looks for better and better answers, until there is none.
    pub(super) fn by_descent(
        &mut self,
        search: &mut Search<'_, '_>,
        limit: u64,
        found: &mut Vec<bool>,
    ) -> Settled {
        let mut cost = self.cost(found);
        // As much as the best answer found costs, and one more.
        let most = (cost - self.least) as usize + 1;
        if self.open_steps(most) > MOST_COUNTED {
            return Settled::OutOfSteps;
        }
        let chains = self.chains(search, most);
        let better = *self.better.get_or_insert_with(|| Lit::is(search.helper()));
        while cost > self.least {
            let more = (cost - self.least) as usize;
            search.keep_to(Budget::new(better, more - 1, chains.clone()));
            let left = limit.saturating_sub(search.steps);
            if left == 0 {
                return Settled::OutOfSteps;
            }
            match search.solve(&[better], left) {
                Outcome::Found => {
                    *found = search.answer();
                    let now = self.cost(found);
                    debug_assert!(now < cost, "a budget that allows less");
                    cost = now;
                }
                Outcome::Impossible(_) => break,
                Outcome::GaveUp => return Settled::OutOfSteps,
            }
        }
        search.require(&[!better]);
        let most = (cost - self.least) as usize;
        search.keep_to(Budget::new(!better, most, chains));
        Settled::Yes
    }

    /// Sees to it that what holds over one price of a component follows from what holds over the next, and holds where
    /// nothing up to there can be.
    fn order(&mut self, search: &mut Search<'_, '_>, at: usize) {
        if !self.ordered.insert(at) {
            return;
        }
        let mut own = self.prices[at].1.clone();
        own.sort_unstable_by_key(|(var, price)| (*price, *var));
        let mut last: Option<Lit> = None;
        for same in own.chunk_by(|(_, a), (_, b)| a == b) {
            let over = self.over(search, at, same[0].1);
            if let (Some(over), Some(last)) = (over, last) {
                search.require(&[!over, last]);
            }
            let one = same.iter().map(|(var, _)| Lit::is(*var));
            let one: Vec<Lit> = one.chain(over).chain(last.map(|last| !last)).collect();
            search.require(&one);
            last = over;
        }
    }

    /// What costs more than is known of: for each price the literals of which each is one more, up to so many.
    fn chains(&mut self, search: &mut Search<'_, '_>, most: usize) -> Vec<Vec<Lit>> {
        let wishes: Vec<(Lit, Next)> = self
            .wishes
            .iter()
            .map(|(lit, next)| (*lit, *next))
            .collect();
        let chains = wishes.into_iter().map(|(lit, next)| match next {
            Next::Nothing => vec![!lit],
            Next::Again(times) => vec![!lit; most.min(times as usize + 1)],
            Next::Count(totalizer, next) => {
                let outputs = &self.totalizers[totalizer][next - 1..];
                for pair in outputs.windows(2).take(most) {
                    search.require(&[!pair[1], pair[0]]);
                }
                outputs.iter().copied().take(most).collect()
            }
            Next::Step(at, bar) => {
                self.order(search, at);
                let prices = (bar - 1..).take(most);
                prices
                    .map_while(|price| self.over(search, at, price))
                    .collect()
            }
        });
        chains.collect()
    }

    /// How many literals [`Stage::chains`] has.
    fn open_steps(&self, most: usize) -> usize {
        let steps = self.wishes.values().map(|next| match next {
            Next::Nothing => 1,
            Next::Again(times) => *times as usize + 1,
            Next::Count(totalizer, next) => self.totalizers[*totalizer].len() + 1 - next,
            Next::Step(at, bar) => {
                let dearest = self.prices[*at].1.iter().map(|(_, price)| *price).max();
                (dearest.unwrap_or(0) + 1).saturating_sub(*bar) as usize
            }
        });
        steps.map(|steps| steps.min(most)).sum()
    }
}
