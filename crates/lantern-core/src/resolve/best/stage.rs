//! One kind of wish, as it is being met.

use super::Search;
use super::prices::{self, Criterion, Prices};
use crate::resolve::Stay;
use crate::resolve::model::Model;
use crate::resolve::solver::{Lit, Var};
use std::collections::{BTreeMap, BTreeSet};

/// Looking for better answers takes so many times the steps that looking for what cannot hold together took before.
const PART_OF_DESCENT: u64 = 4;

/// What to wish for next where a wish cannot hold.
#[derive(Debug, Clone, Copy)]
pub(super) enum Next {
    Nothing,
    /// The next step of one component's price.
    Step(usize, u32),
    /// Outputs of a totalizer: after this many violations.
    Count(usize, usize),
    /// The same again, so many times.
    Again(i64),
}

/// Wishes: literals that ought to hold.
type Wishes = BTreeMap<Lit, Next>;

/// What came of one kind of wish.
pub(super) enum Settled {
    /// They are met as far as they can be, and required.
    Yes,
    /// More is known by now of who shares places, with which it is simpler.
    Anew,
    OutOfSteps,
}

/// One kind of wish being met as far as it can be.
pub(super) struct Stage {
    pub(super) prices: Prices,
    /// What costs so much, besides, where none of these holds.
    plain: Vec<(Vec<Lit>, i64)>,
    pub(super) totalizers: Vec<Vec<Lit>>,
    pub(super) wishes: Wishes,
    /// By component and price: what holds where it costs more than that.
    over: BTreeMap<(usize, u32), Lit>,
    /// Components of which it is known of each price whether they cost more, and that one follows from the other.
    pub(super) ordered: BTreeSet<usize>,
    /// Where this holds, an answer has to be better than the best one found.
    pub(super) better: Option<Lit>,
    /// So much all costs together, at the least.
    pub(super) least: i64,
}

impl Stage {
    /// The wish that each of these stays.
    pub(super) fn of_stays(wanted: &[Stay]) -> Stage {
        let plain = wanted.iter().map(|stay| (stay.one_of.clone(), 1));
        let wishes = wanted.iter().map(|stay| (stay.lit, Next::Nothing));
        Stage {
            prices: Prices::new(),
            plain: plain.collect(),
            totalizers: Vec::new(),
            wishes: wishes.collect(),
            over: BTreeMap::new(),
            ordered: BTreeSet::new(),
            better: None,
            least: 0,
        }
    }

    pub(super) fn of(model: &Model<'_>, search: &mut Search<'_, '_>, kind: Criterion) -> Stage {
        search.has_news = false;
        let prices = prices::of(model, search, kind);
        let mut stage = Stage::of_stays(&[]);
        let (prices, used) = prices::shared(model, search, prices);
        stage.prices = prices;
        for at in 0..stage.prices.len() {
            let least = stage.prices[at].1.iter().map(|(_, price)| *price).min();
            let least = least.unwrap_or(0);
            stage.least += i64::from(least);
            let wish = stage.step(search, at, least);
            stage.wishes.extend(wish);
        }
        for (vars, times) in used {
            let one = search.helper();
            let vars: Vec<Lit> = vars.into_iter().map(Lit::is).collect();
            search.require_with(one, &vars);
            stage.wishes.insert(Lit::is(one), Next::Again(times - 1));
            stage.plain.push((vars, times));
        }
        stage
    }

    /// What an answer costs.
    pub(super) fn cost(&self, found: &[bool]) -> i64 {
        let holds = |lit: &Lit| found[lit.var() as usize] == (Lit::is(lit.var()) == *lit);
        let own = self.prices.iter().flat_map(|(_, own)| own);
        let own = own.filter(|(var, _)| found[*var as usize]);
        let plain = self.plain.iter();
        let plain = plain.filter(|(lits, _)| !lits.iter().any(holds));
        own.map(|(_, price)| i64::from(*price)).sum::<i64>()
            + plain.map(|(_, times)| times).sum::<i64>()
    }

    /// Rules out what makes any answer dearer than one that costs so much.
    pub(super) fn rule_out(&self, search: &mut Search<'_, '_>, cost: i64) {
        for next in self.wishes.values() {
            let Next::Step(at, bar) = next else {
                continue;
            };
            // Up to one less than this a price is accounted for, or costs nothing more.
            let most = i64::from(*bar) - 1 + cost - self.least;
            let dearer = self.prices[*at].1.iter();
            for (var, _) in dearer.filter(|(_, price)| i64::from(*price) > most) {
                if !search.is_never(*var) {
                    search.require(&[Lit::not(*var)]);
                }
            }
        }
    }

    /// The wish that a component's price is at most this; none when it always is.
    ///
    /// Every whole price is a step of its own, so that each failed wish costs one.
    pub(super) fn step(
        &mut self,
        search: &mut Search<'_, '_>,
        at: usize,
        bar: u32,
    ) -> Option<(Lit, Next)> {
        let over = self.over(search, at, bar)?;
        Some((!over, Next::Step(at, bar + 1)))
    }

    /// What holds where a component costs more than this; none where it never does.
    pub(super) fn over(
        &mut self,
        search: &mut Search<'_, '_>,
        at: usize,
        price: u32,
    ) -> Option<Lit> {
        let own = &self.prices[at].1;
        let dearer: Vec<(Var, u32)> = own
            .iter()
            .copied()
            .filter(|(_, own)| *own > price)
            .collect();
        // Between two prices there is nothing.
        let price = dearer.iter().map(|(_, price)| *price).min()? - 1;
        if let [(one, _)] = dearer[..] {
            return Some(Lit::is(one));
        }
        let over = self.over.entry((at, price)).or_insert_with(|| {
            let over = Lit::is(search.helper());
            for (var, _) in dearer {
                search.require(&[Lit::not(var), over]);
            }
            over
        });
        Some(*over)
    }

    /// Meets as many wishes as can be, and makes them required. When the steps run out, the best answer found is there
    /// too. `turn` are the steps of the first turn.
    ///
    /// Where little has to be given up it is soon known what; where nearly every wish is in the way of another, an answer
    /// that is better than the best one found is soon known not to be. So each is tried in turn, for longer each time.
    pub(super) fn settle(
        &mut self,
        search: &mut Search<'_, '_>,
        mut turn: u64,
        limit: u64,
        found: &mut Vec<bool>,
    ) -> Settled {
        loop {
            let until = limit.min(search.steps.saturating_add(turn));
            match self.by_cores(search, until, found) {
                Settled::OutOfSteps if search.steps < limit => {}
                settled => return settled,
            }
            let descent = turn.saturating_mul(PART_OF_DESCENT);
            let until = limit.min(search.steps.saturating_add(descent));
            match self.by_descent(search, until, found) {
                Settled::OutOfSteps if search.steps < limit => {}
                settled => return settled,
            }
            turn = turn.saturating_mul(2);
        }
    }
}
