//! What components that take places cost together at the least.
//!
//! Each for itself could have what is best for it, and yet not all: only one of them can have a place. The least that
//! they can cost together is an assignment (Kuhn 1955, in the form with potentials of Jonker and Volgenant 1987). It comes
//! with a price for each component and each place that accounts for it, so that what is left of the prices is all that is
//! still to be shown.

/// What one component can have: its price, and the place it takes.
pub(super) type Choice = (u32, Option<usize>);

/// What the least costs are made of.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Shares {
    /// What each component costs in any case; less than nothing where a place that is left over counts for it.
    pub(super) own: Vec<i64>,
    /// What each place costs when nobody takes it.
    pub(super) unused: Vec<i64>,
}

const NEVER: i64 = 1 << 40;
/// The work is the square of the components times all they can have; more than this is left alone.
const MOST_WORK: usize = 100_000_000;

/// Shares out places, each to one component at most, so that all cost the least together; none where there is no way, or it
/// takes too long to find.
///
/// Of what a component has, price less [`Shares::own`] plus [`Shares::unused`] of its place is never less than nothing. These
/// and what unused places cost make up all costs, up to a sum that is the same for every way.
pub(super) fn least(components: &[Vec<Choice>], places: usize) -> Option<Shares> {
    let (rows, columns) = (components.len(), places + components.len());
    if rows * rows * columns > MOST_WORK {
        return None;
    }
    // What takes no place has a column that is the component's own.
    let mut prices = vec![vec![NEVER; columns + 1]; rows + 1];
    for (row, choices) in components.iter().enumerate() {
        for (price, place) in choices {
            let column = place.unwrap_or(places + row) + 1;
            let least = &mut prices[row + 1][column];
            *least = (*least).min(i64::from(*price));
        }
    }
    let (mut of_row, mut of_column) = (vec![0; rows + 1], vec![0; columns + 1]);
    let (mut row_in, mut way) = (vec![0; columns + 1], vec![0; columns + 1]);
    for row in 1..=rows {
        row_in[0] = row;
        let mut least = vec![i64::MAX; columns + 1];
        let mut seen = vec![false; columns + 1];
        let mut at = 0;
        while row_in[at] != 0 {
            seen[at] = true;
            let from = row_in[at];
            let (mut step, mut next) = (i64::MAX, 0);
            for column in (1..=columns).filter(|column| !seen[*column]) {
                let left = prices[from][column] - of_row[from] - of_column[column];
                if left < least[column] {
                    (least[column], way[column]) = (left, at);
                }
                if least[column] < step {
                    (step, next) = (least[column], column);
                }
            }
            for column in 0..=columns {
                if seen[column] {
                    of_row[row_in[column]] += step;
                    of_column[column] -= step;
                } else {
                    least[column] = least[column].saturating_sub(step);
                }
            }
            at = next;
        }
        while at != 0 {
            row_in[at] = row_in[way[at]];
            at = way[at];
        }
    }
    let is_way = |column: &usize| row_in[*column] == 0 || prices[row_in[*column]][*column] < NEVER;
    if !(1..=columns).all(|column| is_way(&column)) {
        return None;
    }
    let own = (0..rows).map(|row| of_row[row + 1] + of_column[places + row + 1]);
    let unused = (0..places).map(|place| -of_column[place + 1]);
    Some(Shares {
        own: own.collect(),
        unused: unused.collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// All ways in which each component has something and no place is taken twice.
    fn ways(components: &[Vec<Choice>]) -> Vec<Vec<Choice>> {
        let Some((last, others)) = components.split_last() else {
            return vec![Vec::new()];
        };
        let is_free = |way: &[Choice], place: Option<usize>| {
            place.is_none() || way.iter().all(|(_, other)| *other != place)
        };
        let others = ways(others);
        let more = others.iter().flat_map(|way| {
            let fitting = last.iter().filter(|(_, place)| is_free(way, *place));
            fitting.map(|choice| way.iter().copied().chain([*choice]).collect())
        });
        more.collect()
    }

    proptest! {
        #[test]
        fn what_is_left_of_prices_is_what_a_way_costs_above_the_least(
            components in prop::collection::vec(
                prop::collection::vec((0u32..6, prop::option::weighted(0.8, 0usize..4)), 1..5),
                0..5,
            ),
        ) {
            let ways = ways(&components);
            let cost = |way: &[Choice]| way.iter().map(|(price, _)| i64::from(*price)).sum::<i64>();
            let Some(shares) = least(&components, 4) else {
                prop_assert!(ways.is_empty());
                return Ok(());
            };
            let best = ways.iter().map(|way| cost(way)).min();
            for way in &ways {
                let mut left = 0;
                for (row, (price, place)) in way.iter().enumerate() {
                    let more = place.map_or(0, |place| shares.unused[place]);
                    let part = i64::from(*price) - shares.own[row] + more;
                    prop_assert!(part >= 0);
                    left += part;
                }
                let is_unused = |place: &usize| way.iter().all(|(_, other)| *other != Some(*place));
                let unused = (0..4).filter(is_unused).map(|place| shares.unused[place]);
                prop_assert_eq!(Some(cost(way) - left - unused.sum::<i64>()), best);
            }
        }
    }
}
