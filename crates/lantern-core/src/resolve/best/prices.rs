//! What each release costs, for one kind of wish.

use super::Search;
use crate::resolve::model::Model;
use crate::resolve::sharing::{self, Choice};
use crate::resolve::solver::Var;
use std::collections::{BTreeMap, BTreeSet};

/// The price of each variable of a component, for one kind of wish.
pub(super) type Prices = Vec<(usize, Vec<(Var, u32)>)>;

#[derive(Debug, Clone, Copy)]
pub(super) enum Criterion {
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
pub(super) fn of(model: &Model<'_>, search: &Search<'_, '_>, kind: Criterion) -> Prices {
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
pub(super) fn shared(
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
