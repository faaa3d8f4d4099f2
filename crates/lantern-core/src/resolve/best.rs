//! The best answer, proved: wish by wish, from the weightiest kind to the lightest.
//!
//! Every kind of wish (lose nothing, take nothing untested, …) is met as far as it can be before the
//! next counts. Within a kind, all wishes are assumed at once, and a wish that cannot hold beside those
//! before it is let go, so that one search finds many sets of wishes that cannot hold together. Each
//! such set raises the price by one, and from then on all but one of its wishes have to hold (counted by
//! a totalizer, after core-guided optimisation as in "OLL", Andres et al. 2012, with cores that have
//! nothing in common taken together). The search ends when nothing is let go, or when the cheapest answer
//! found costs no more than has been shown; releases that would make an answer dearer than that one are ruled out on the way.

use super::Prefer;
use super::model::Model;
use super::sharing::{self, Choice};
use super::solver::{Lit, Outcome, Solver, Var};
use std::collections::{BTreeMap, BTreeSet};

/// What to wish for next where a wish cannot hold.
#[derive(Debug, Clone, Copy)]
enum Next {
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
/// `found` is an answer, with all that the search had to say of it, and everything that has to hold is required of the search. `lost`
/// are the literals that say that something droppable is not lost.
pub(super) fn best(
    search: &mut Search<'_, '_>,
    model: &Model<'_>,
    mut found: Vec<bool>,
    lost: &[Lit],
    most_steps: u64,
) -> (Vec<bool>, Proof) {
    let limit = search.steps.saturating_add(most_steps);
    let kinds = criteria(model.prefer()).iter().map(Some);
    for kind in std::iter::once(None).chain(kinds) {
        loop {
            let mut stage = match kind {
                None => Stage::of_lits(lost),
                Some(kind) => Stage::of(model, search, *kind),
            };
            match stage.settle(search, limit, &mut found) {
                Settled::Yes => break,
                Settled::Anew => {}
                Settled::OutOfSteps => return (found, Proof::BestFound),
            }
        }
    }
    (found, Proof::Best)
}

/// What came of one kind of wish.
enum Settled {
    /// They are met as far as they can be, and required.
    Yes,
    /// More is known by now of who shares places, with which it is simpler.
    Anew,
    OutOfSteps,
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

/// Leaves of the prices what is more than components that take places cost together at the least. What that costs when a place
/// is not taken is to be wished for besides: that one of these is chosen, each so many times.
fn shared(
    model: &Model<'_>,
    search: &Search<'_, '_>,
    prices: Prices,
) -> (Prices, Vec<(Vec<Var>, i64)>) {
    let place_of: BTreeMap<Var, usize> = search.places().placed().collect();
    let place = |var: &Var| place_of.get(var).copied();
    let same: BTreeMap<Var, Var> = search.places().same().collect();
    let takers = place_of.keys().chain(same.values());
    let takers: BTreeSet<usize> = takers.map(|var| model.number_of(*var)).collect();
    let mut all: BTreeMap<usize, Vec<(Var, u32)>> = prices.into_iter().collect();
    for taker in &takers {
        let component = &model.components[*taker];
        let vars = component.vars().map(|(var, _)| var);
        let vars = vars
            .chain([component.absent()])
            .filter(|var| !search.is_never(*var));
        all.entry(*taker)
            .or_insert_with(|| vars.map(|var| (var, 0)).collect());
    }
    // What holds whenever another one does is paid for there.
    let mut moved: BTreeMap<Var, u32> = BTreeMap::new();
    for (var, price) in all.values_mut().flatten() {
        if let Some(other) = same.get(var) {
            *moved.entry(*other).or_default() += std::mem::take(price);
        }
    }
    for (var, price) in all.values_mut().flatten() {
        *price += moved.get(var).copied().unwrap_or(0);
    }
    let choices = takers.iter().map(|taker| {
        let own = all[taker].iter();
        own.map(|(var, price)| (*price, place(var))).collect()
    });
    let choices: Vec<Vec<Choice>> = choices.collect();
    let places = place_of.values().max().map_or(0, |last| last + 1);
    let Some(shares) = sharing::least(&choices, places) else {
        return (all.into_iter().collect(), Vec::new());
    };
    for (taker, own) in takers.iter().zip(shares.own) {
        for (var, price) in all.get_mut(taker).into_iter().flatten() {
            let more = place(var).map_or(0, |place| shares.unused[place]);
            *price = (i64::from(*price) - own + more) as u32;
        }
    }
    let unused = shares
        .unused
        .into_iter()
        .enumerate()
        .filter(|(_, times)| *times > 0);
    let unused = unused.map(|(unused, times)| {
        let vars = place_of.iter().filter(|(_, place)| **place == unused);
        (vars.map(|(var, _)| *var).collect(), times)
    });
    let unused = unused.collect();
    all.retain(|_, own| own.iter().any(|(_, price)| *price != own[0].1));
    (all.into_iter().collect(), unused)
}

/// One kind of wish being met as far as it can be.
struct Stage {
    prices: Prices,
    /// What costs so much, besides, where none of these holds.
    plain: Vec<(Vec<Lit>, i64)>,
    totalizers: Vec<Vec<Lit>>,
    wishes: Wishes,
    /// So much all costs together, at the least.
    least: i64,
}

impl Stage {
    /// The wish that each of these holds.
    fn of_lits(wanted: &[Lit]) -> Stage {
        Stage {
            prices: Prices::new(),
            plain: wanted.iter().map(|lit| (vec![*lit], 1)).collect(),
            totalizers: Vec::new(),
            wishes: wanted.iter().map(|lit| (*lit, Next::Nothing)).collect(),
            least: 0,
        }
    }

    fn of(model: &Model<'_>, search: &mut Search<'_, '_>, kind: Criterion) -> Stage {
        search.has_news = false;
        let prices = prices(model, search, kind);
        let mut stage = Stage::of_lits(&[]);
        let (prices, used) = shared(model, search, prices);
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
    fn cost(&self, found: &[bool]) -> i64 {
        let holds = |lit: &Lit| found[lit.var() as usize] == (Lit::is(lit.var()) == *lit);
        let own = self.prices.iter().flat_map(|(_, own)| own);
        let own = own.filter(|(var, _)| found[*var as usize]);
        let plain = self.plain.iter();
        let plain = plain.filter(|(lits, _)| !lits.iter().any(holds));
        own.map(|(_, price)| i64::from(*price)).sum::<i64>()
            + plain.map(|(_, times)| times).sum::<i64>()
    }

    /// Rules out what makes any answer dearer than one that costs so much.
    fn rule_out(&self, search: &mut Search<'_, '_>, cost: i64) {
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

    /// Meets as many wishes as can be, and makes them required. When the steps run out, the best answer found is there
    /// too.
    fn settle(
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
            match search.solve_most(&assumed, left, &mut cores) {
                Outcome::Found => {}
                _ if std::mem::take(&mut search.has_news) => return Settled::Anew,
                _ => return Settled::OutOfSteps,
            }
            let another = search.answer();
            let costs = self.cost(&another);
            if costs < cost {
                (*found, cost) = (another, costs);
            }
            if cores.is_empty() {
                debug_assert_eq!(cost, self.least, "what all wishes hold in costs the least");
                break;
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
