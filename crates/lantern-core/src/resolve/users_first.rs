//! In which order components are decided.

use crate::component::Id;
use crate::facts::Facts;
use foldhash::HashMap;
use std::cmp::Reverse;

/// Each component's place in an order in which those that need or use another come before it, as far as they do not do so in
/// turn; what is needed by the same ones stands close together. Of each there is its id, and the release that is tried first,
/// which says what it asks for.
///
/// What many need is so decided when it is known what they want: a choice made too early is found wrong late, and much is
/// decided again. It is the reverse of the order in which a depth-first search leaves them (Tarjan 1976).
pub(super) fn places(components: &[(&Id, Option<&Facts>)]) -> Vec<usize> {
    let known = components.iter().enumerate().map(|(at, (id, _))| (*id, at));
    let known: HashMap<&Id, usize> = known.collect();
    let asks_for = |at: usize| {
        let first = components[at].1.into_iter();
        let needs = first.flat_map(|facts| facts.needs.iter().chain(&facts.uses));
        needs.filter_map(|need| known.get(&need.id).copied())
    };
    let mut users = vec![0_u32; components.len()];
    for other in (0..components.len()).flat_map(asks_for) {
        users[other] += 1;
    }
    let mut roots: Vec<usize> = (0..components.len()).collect();
    // The last one left comes first: of those alike, in the order of their ids.
    roots.sort_by_key(|at| (users[*at], Reverse(components[*at].0)));
    let mut places = vec![0; components.len()];
    let mut met = vec![false; components.len()];
    let mut left = components.len();
    for root in roots {
        let mut open = vec![(root, false)];
        while let Some((at, is_left)) = open.pop() {
            if is_left {
                left -= 1;
                places[at] = left;
            } else if !std::mem::replace(&mut met[at], true) {
                open.push((at, true));
                open.extend(asks_for(at).filter(|it| !met[*it]).map(|it| (it, false)));
            }
        }
    }
    places
}

#[cfg(test)]
mod tests {
    use super::super::tests::facts;
    use super::*;

    fn order(releases: &[&str]) -> String {
        let releases: Vec<Facts> = releases.iter().map(|text| facts(text)).collect();
        let components: Vec<_> = releases.iter().map(|it| (&it.id, Some(it))).collect();
        let mut placed: Vec<_> = places(&components).into_iter().zip(&releases).collect();
        placed.sort_by_key(|(place, _)| *place);
        let ids = placed.iter().map(|(_, facts)| facts.id.as_str());
        ids.collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn who_needs_something_is_decided_before_it() {
        let releases = [
            "bees 1 needs lib",
            "core 1",
            "lib 1 needs core",
            "nectar 1 uses lib needs spare",
            "spare 1 needs core",
        ];
        assert_eq!(order(&releases), "bees nectar spare lib core");
    }

    #[test]
    fn those_that_need_each_other_have_an_order_too() {
        let releases = ["bees 1 needs wax", "wax 1 needs bees", "hive 1 needs wax"];
        assert_eq!(order(&releases), "hive wax bees");
    }
}
