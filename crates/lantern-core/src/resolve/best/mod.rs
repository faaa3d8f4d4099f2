//! The best answer, proved: wish by wish, from the weightiest kind to the lightest.
//!
//! Every kind of wish (lose nothing, take nothing untested, …) is met as far as it can be before the
//! next counts.

mod cores;
mod descent;
mod prices;
mod stage;

use super::model::Model;
use super::solver::Solver;
use super::{Prefer, Stay};
use prices::Criterion;
use stage::{Settled, Stage};

/// How good an answer has to be shown to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Proof {
    /// No answer is better.
    Best,
    /// The steps ran out before that was shown.
    BestFound,
}

/// Before it is tried another way, so many steps go by, and so many for each component. Where little is in the way, it is
/// known by then what the best is.
const FIRST_TURN: u64 = if cfg!(test) { 1 } else { 50_000 };
const FOR_EACH: u64 = if cfg!(test) { 0 } else { 1_000 };

type Search<'m, 'a> = Solver<&'m Model<'a>>;

/// Finds the best answer: which variables are true.
///
/// `found` is an answer, with all that the search had to say of it, and everything that has to hold is required of the search. `lost`
/// says of each that is droppable that it stays.
pub(super) fn best(
    search: &mut Search<'_, '_>,
    model: &Model<'_>,
    mut found: Vec<bool>,
    lost: &[Stay],
    most_steps: u64,
) -> (Vec<bool>, Proof) {
    let limit = search.steps.saturating_add(most_steps);
    let turn = FIRST_TURN + FOR_EACH * model.components.len() as u64;
    let kinds = criteria(model.prefer()).iter().map(Some);
    for kind in std::iter::once(None).chain(kinds) {
        loop {
            let mut stage = match kind {
                None => Stage::of_stays(lost),
                Some(kind) => Stage::of(model, search, *kind),
            };
            match stage.settle(search, turn, limit, &mut found) {
                Settled::Yes => break,
                Settled::Anew => {}
                Settled::OutOfSteps => return (found, Proof::BestFound),
            }
        }
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
