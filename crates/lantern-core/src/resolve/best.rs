//! The best answer, proved: wish by wish, from the weightiest kind to the lightest.
//!
//! Every kind of wish (lose nothing, take nothing untested, …) is met as far as it can be before the
//! next counts. Within a kind, all wishes are assumed at once; each set of wishes that cannot hold
//! together raises the price by one, and from then on all but one of them have to hold (counted by a
//! totalizer, after core-guided optimisation as in "OLL", Andres et al. 2012).

use super::Prefer;
use super::model::Model;
use super::solver::{Lit, Outcome, Solver, Var};

/// A wish: a literal that ought to hold, and what to wish for next where it cannot.
#[derive(Debug, Clone)]
struct Soft {
    lit: Lit,
    next: Next,
}

#[derive(Debug, Clone)]
enum Next {
    Nothing,
    /// The next step of one component's price.
    Step(usize, u32),
    /// Outputs of a totalizer: after this many violations.
    Count(usize, usize),
}

/// How good an answer has to be shown to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Proof {
    /// No answer is better.
    Best,
    /// The steps ran out before that was shown.
    BestFound,
}

type Search<'m, 'a> = Solver<&'m Model<'a>>;

/// The price of each variable of a component, for one kind of wish.
type Prices = Vec<(usize, Vec<(Var, u32)>)>;

/// Finds the best answer: which variables are true.
///
/// The search holds an answer already, and everything that has to hold is required of it. `lost` are
/// the literals that say that something droppable is not lost.
pub(super) fn best(
    search: &mut Search<'_, '_>,
    model: &Model<'_>,
    lost: &[Lit],
    most_steps: u64,
) -> (Vec<bool>, Proof) {
    let limit = search.steps.saturating_add(most_steps);
    let mut found = answer(search, model);
    let kept = lost.iter().map(|lit| Soft {
        lit: *lit,
        next: Next::Nothing,
    });
    let mut stage = Stage::new(Vec::new());
    let mut wishes: Vec<Soft> = kept.collect();
    let criteria = criteria(model.prefer());
    for kind in criteria.iter().map(Some).chain([None]) {
        if !wishes.is_empty() {
            if !stage.settle(search, wishes, limit) {
                return (
                    stage.as_good_as_can_be(search, model, found),
                    Proof::BestFound,
                );
            }
            found = answer(search, model);
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
    let vars: u32 = model.sizes().iter().sum();
    (0..vars).map(|var| search.is_true(var)).collect()
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
    wishes: Vec<Soft>,
}

impl Stage {
    fn new(prices: Prices) -> Stage {
        Stage {
            prices,
            totalizers: Vec::new(),
            wishes: Vec::new(),
        }
    }

    fn first_wishes(&mut self, search: &mut Search<'_, '_>) -> Vec<Soft> {
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
    fn step(&self, search: &mut Search<'_, '_>, at: usize, bar: u32) -> Option<Soft> {
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
        Some(Soft {
            lit,
            next: Next::Step(at, bar + 1),
        })
    }

    /// Meets as many wishes as can be, and makes them required. False when the steps ran out.
    fn settle(&mut self, search: &mut Search<'_, '_>, wishes: Vec<Soft>, limit: u64) -> bool {
        self.wishes = wishes;
        loop {
            let assumed: Vec<Lit> = self.wishes.iter().map(|wish| wish.lit).collect();
            let left = limit.saturating_sub(search.steps);
            if left == 0 {
                return false;
            }
            match search.solve(&assumed, left) {
                Outcome::Found => {
                    let kept = std::mem::take(&mut self.wishes);
                    let model: Vec<Lit> = kept.into_iter().map(|wish| wish.lit).collect();
                    // What was found stays the answer while the wishes become required.
                    let again = model.clone();
                    for lit in model {
                        search.require(&[lit]);
                    }
                    return search.solve(&again, u64::MAX) == Outcome::Found;
                }
                Outcome::GaveUp => return false,
                Outcome::Impossible(core) => {
                    let core = self.shrunk(search, core, limit);
                    self.relax(search, &core);
                }
            }
        }
    }

    /// Tries to find a smaller set of wishes that cannot hold together.
    fn shrunk(&self, search: &mut Search<'_, '_>, mut core: Vec<Lit>, limit: u64) -> Vec<Lit> {
        core.sort_unstable();
        core.dedup();
        let mut at = 0;
        while core.len() > 1 && core.len() <= 64 && at < core.len() {
            let mut without = core.clone();
            without.remove(at);
            let effort = 20_000.min(limit.saturating_sub(search.steps));
            match search.solve(&without, effort) {
                Outcome::Impossible(smaller) => {
                    core = smaller;
                    core.sort_unstable();
                    core.dedup();
                }
                Outcome::Found | Outcome::GaveUp => at += 1,
            }
        }
        core
    }

    /// From here on all but one of these wishes have to hold.
    fn relax(&mut self, search: &mut Search<'_, '_>, core: &[Lit]) {
        let (mut failed, mut kept) = (Vec::new(), Vec::new());
        for wish in std::mem::take(&mut self.wishes) {
            match core.binary_search(&wish.lit) {
                Ok(_) => failed.push(wish),
                Err(_) => kept.push(wish),
            }
        }
        self.wishes = kept;
        for wish in &failed {
            let next = match wish.next {
                Next::Nothing => None,
                Next::Step(at, step) => self.step(search, at, step),
                Next::Count(totalizer, count) => self.count(totalizer, count),
            };
            self.wishes.extend(next);
        }
        if failed.len() > 1 {
            let broken: Vec<Lit> = failed.iter().map(|wish| !wish.lit).collect();
            search.require(&broken);
            let outputs = totalizer(search, &broken);
            self.totalizers.push(outputs);
            let next = self.count(self.totalizers.len() - 1, 1);
            self.wishes.extend(next);
        } else if let [wish] = &failed[..] {
            search.require(&[!wish.lit]);
        }
    }

    /// The wish that at most so many of a totalizer's inputs are true.
    fn count(&self, totalizer: usize, most: usize) -> Option<Soft> {
        let output = self.totalizers[totalizer].get(most)?;
        Some(Soft {
            lit: !*output,
            next: Next::Count(totalizer, most + 1),
        })
    }

    /// The steps ran out: wishes that cannot hold together are given up until the rest can.
    fn as_good_as_can_be(
        &mut self,
        search: &mut Search<'_, '_>,
        model: &Model<'_>,
        found: Vec<bool>,
    ) -> Vec<bool> {
        let mut assumed: Vec<Lit> = self.wishes.iter().map(|wish| wish.lit).collect();
        for _ in 0..200 {
            match search.solve(&assumed, 2_000_000) {
                Outcome::Found => return answer(search, model),
                Outcome::GaveUp => assumed.truncate(assumed.len() / 2),
                Outcome::Impossible(core) => {
                    let core: std::collections::HashSet<Lit> = core.into_iter().collect();
                    assumed.retain(|lit| !core.contains(lit));
                }
            }
        }
        found
    }
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
