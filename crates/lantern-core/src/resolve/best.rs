//! The best answer, proved: wish by wish, from the weightiest kind to the lightest.
//!
//! Every kind of wish (lose nothing, take nothing untested, …) is met as far as it can be before the
//! next counts. Within a kind, all wishes are assumed at once, and a wish that cannot hold beside those
//! before it is let go, so that one search finds many sets of wishes that cannot hold together. Each
//! such set raises the price by one, and from then on all but one of its wishes have to hold (counted by
//! a totalizer, after core-guided optimisation as in "OLL", Andres et al. 2012, with cores that have
//! nothing in common taken together). The search ends when nothing is let go.

use super::Prefer;
use super::model::Model;
use super::solver::{Lit, Outcome, Solver, Var};
use std::collections::BTreeMap;

/// What to wish for next where a wish cannot hold.
#[derive(Debug, Clone, Copy)]
enum Next {
    Nothing,
    /// The next step of one component's price.
    Step(usize, u32),
    /// Outputs of a totalizer: after this many violations.
    Count(usize, usize),
}

/// Wishes: literals that ought to hold.
type Wishes = BTreeMap<Lit, Next>;

/// How good an answer has to be shown to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Proof {
    /// No answer is better.
    Best,
    /// The steps ran out before that was shown.
    BestFound,
}

/// Cores of more wishes than this are left as they are.
const MOST_SHRUNK: usize = 64;

type Search<'m, 'a> = Solver<&'m Model<'a>>;

/// The price of each variable of a component, for one kind of wish.
type Prices = Vec<(usize, Vec<(Var, u32)>)>;

/// Finds the best answer: which variables are true.
///
/// `found` is an answer, and everything that has to hold is required of the search. `lost` are the literals
/// that say that something droppable is not lost.
pub(super) fn best(
    search: &mut Search<'_, '_>,
    model: &Model<'_>,
    mut found: Vec<bool>,
    lost: &[Lit],
    most_steps: u64,
) -> (Vec<bool>, Proof) {
    let limit = search.steps.saturating_add(most_steps);
    let mut stage = Stage::new(Vec::new());
    let mut wishes: Wishes = lost.iter().map(|lit| (*lit, Next::Nothing)).collect();
    let criteria = criteria(model.prefer());
    for kind in criteria.iter().map(Some).chain([None]) {
        if !wishes.is_empty() && !stage.settle(search, model, wishes, limit, &mut found) {
            return (found, Proof::BestFound);
        }
        let Some(kind) = kind else {
            break;
        };
        stage = Stage::new(prices(model, search, *kind));
        wishes = stage.first_wishes(search);
    }
    (found, Proof::Best)
}

/// The kinds of wishes after losing nothing, weightiest first. Who wants the newest of each has it, whatever has to be put in
/// for it.
fn criteria(prefer: Prefer) -> &'static [Criterion] {
    match prefer {
        Prefer::Settled => &[
            Criterion::Untested,
            Criterion::Early,
            Criterion::Build,
            Criterion::Changed,
            Criterion::Rank,
        ],
        Prefer::Newest => &[
            Criterion::Untested,
            Criterion::Early,
            Criterion::Build,
            Criterion::Wished,
            Criterion::Rank,
            Criterion::Changed,
        ],
    }
}

#[derive(Debug, Clone, Copy)]
enum Criterion {
    Untested,
    Early,
    /// The newest build, where several server versions will do.
    Build,
    /// Of what is installed or was fetched by hand, the release that is meant.
    Wished,
    /// That, and nothing put in besides.
    Changed,
    Rank,
}

/// Which variables are true.
fn answer(search: &Search<'_, '_>, model: &Model<'_>) -> Vec<bool> {
    (0..model.vars()).map(|var| search.is_true(var)).collect()
}

/// What each variable costs, for one kind of wish; components at one price whatever is chosen are
/// left out.
fn prices(model: &Model<'_>, search: &Search<'_, '_>, kind: Criterion) -> Prices {
    let mut prices = Vec::new();
    for (index, component) in model.components.iter().enumerate() {
        let mut own: Vec<(Var, u32)> = Vec::with_capacity(component.candidates.len() + 1);
        let mut by_version: Vec<usize> = (0..component.candidates.len()).collect();
        if matches!(kind, Criterion::Rank | Criterion::Build) {
            by_version.sort_by(|a, b| {
                let version = |i: &usize| &component.candidates[*i].facts.version;
                version(b).cmp(version(a))
            });
        }
        for (rank, at) in by_version.into_iter().enumerate() {
            let candidate = &component.candidates[at];
            let price = match kind {
                Criterion::Untested => u32::from(candidate.untested),
                Criterion::Early => u32::from(candidate.early),
                Criterion::Build if !model.chooses_build(component) => 0,
                Criterion::Changed | Criterion::Wished if model.chooses_build(component) => 0,
                Criterion::Wished if !component.is_wished() => 0,
                Criterion::Changed | Criterion::Wished => u32::from(!candidate.preferred),
                Criterion::Build => rank as u32,
                Criterion::Rank if model.is_settled(candidate) => 0,
                Criterion::Rank => rank as u32,
            };
            own.push((component.var(at), price));
        }
        own.push((component.absent(), 0));
        own.retain(|(var, _)| !search.is_never(*var));
        let least = own.iter().map(|(_, price)| *price).min().unwrap_or(0);
        let most = own.iter().map(|(_, price)| *price).max().unwrap_or(0);
        if least < most {
            prices.push((index, own));
        }
    }
    prices
}

/// One kind of wish being met as far as it can be.
struct Stage {
    prices: Prices,
    totalizers: Vec<Vec<Lit>>,
    wishes: Wishes,
}

impl Stage {
    fn new(prices: Prices) -> Stage {
        Stage {
            prices,
            totalizers: Vec::new(),
            wishes: Wishes::new(),
        }
    }

    fn first_wishes(&mut self, search: &mut Search<'_, '_>) -> Wishes {
        (0..self.prices.len())
            .filter_map(|at| {
                let least = self.prices[at].1.iter().map(|(_, price)| *price).min();
                self.step(search, at, least.unwrap_or(0))
            })
            .collect()
    }

    /// The wish that a component's price is at most this; none when it always is.
    ///
    /// Every whole price is a step of its own, so that each failed wish costs one.
    fn step(&self, search: &mut Search<'_, '_>, at: usize, bar: u32) -> Option<(Lit, Next)> {
        let own = &self.prices[at].1;
        let dearer = own.iter().filter(|(_, price)| *price > bar);
        let dearer: Vec<Var> = dearer.map(|(var, _)| *var).collect();
        if dearer.is_empty() {
            return None;
        }
        let lit = match dearer[..] {
            [one] => Lit::not(one),
            _ => {
                let helper = search.helper();
                for var in dearer {
                    search.require(&[Lit::not(var), Lit::is(helper)]);
                }
                Lit::not(helper)
            }
        };
        Some((lit, Next::Step(at, bar + 1)))
    }

    /// Meets as many wishes as can be, and makes them required. False when the steps ran out; the best answer found is
    /// there then too.
    fn settle(
        &mut self,
        search: &mut Search<'_, '_>,
        model: &Model<'_>,
        wishes: Wishes,
        limit: u64,
        found: &mut Vec<bool>,
    ) -> bool {
        self.wishes = wishes;
        loop {
            let left = limit.saturating_sub(search.steps);
            if left == 0 {
                return false;
            }
            let assumed: Vec<Lit> = self.wishes.keys().copied().collect();
            let mut cores = Vec::new();
            if search.solve_most(&assumed, left, &mut cores) != Outcome::Found {
                return false;
            }
            *found = answer(search, model);
            if cores.is_empty() {
                for lit in assumed {
                    search.require(&[lit]);
                }
                return true;
            }
            for core in cores {
                // Of cores that share a wish only the first counts: it changes what is wished for.
                let core = shrunk(search, core);
                if core.iter().all(|lit| self.wishes.contains_key(lit)) {
                    self.relax(search, &core);
                }
            }
        }
    }

    /// From here on all but one of these wishes have to hold.
    fn relax(&mut self, search: &mut Search<'_, '_>, core: &[Lit]) {
        let failed = core.iter().filter_map(|lit| self.wishes.remove(lit));
        for next in failed.collect::<Vec<_>>() {
            let next = match next {
                Next::Nothing => None,
                Next::Step(at, step) => self.step_that_can_be(search, at, step),
                Next::Count(totalizer, count) => self.count(totalizer, count),
            };
            self.wishes.extend(next);
        }
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
        &self,
        search: &mut Search<'_, '_>,
        at: usize,
        bar: u32,
    ) -> Option<(Lit, Next)> {
        let mut wish = self.step(search, at, bar);
        while let Some((lit, Next::Step(at, bar))) = wish
            && search.refuted(&[lit]).is_some()
        {
            search.require(&[!lit]);
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
