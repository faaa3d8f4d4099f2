use super::*;
use crate::proofs::at_least;
use proptest::prelude::*;

/// A world: what needs what, and which sets fail.
#[derive(Debug, Clone)]
struct World {
    items: Vec<Item>,
    /// Whatever holds one of these fails.
    fails: Vec<Set>,
}

impl World {
    fn is_bad(&self, set: &Set) -> bool {
        self.fails.iter().any(|one| one.is_subset(set))
    }

    /// Starts a set, which has to fit together, and tells what that shows.
    fn start(&self, set: &Set, search: &mut Search) {
        assert_eq!(order::closed(&self.items, set), *set, "it fits together");
        let seen = if self.is_bad(set) {
            Seen::Bad
        } else {
            Seen::Good
        };
        search.told(set, seen);
    }

    /// Searches; the outcome, and what was started in turn.
    fn search(&self) -> (Outcome, Vec<Set>) {
        let mut search = Search::new(self.items.clone());
        let mut starts = Vec::new();
        loop {
            match search.step() {
                Step::Done(outcome) => return (outcome, starts),
                Step::Try(set) => {
                    assert!(starts.len() < 400, "it comes to no end");
                    self.start(&set, &mut search);
                    starts.push(set);
                }
            }
        }
    }

    /// Searches with so many starts at once; the outcome, and how many starts were made in each round.
    fn search_at_once(&self, most: usize) -> (Outcome, Vec<usize>) {
        let mut search = Search::new(self.items.clone());
        let mut rounds = Vec::new();
        loop {
            if let Step::Done(outcome) = search.step() {
                return (outcome, rounds);
            }
            let sets = search.ahead(most);
            assert!((1..=most).contains(&sets.len()) && rounds.len() < 400);
            rounds.push(sets.len());
            for set in sets {
                self.start(&set, &mut search);
            }
        }
    }

    /// All sets that fit together.
    fn sets(&self) -> impl Iterator<Item = Set> {
        let count = self.items.len();
        let sets = (0..1_u32 << count).map(move |bits| -> Set {
            (0..count).filter(|index| bits >> index & 1 == 1).collect()
        });
        sets.filter(|set| order::closed(&self.items, set) == *set)
    }
}

fn worlds(most: usize) -> impl Strategy<Value = World> {
    (1..=most).prop_flat_map(|count| {
        let needs = proptest::collection::vec(0..count, 0..3);
        let item = (needs, any::<bool>(), 0..3_u32);
        let items = proptest::collection::vec(item, count);
        let set = proptest::collection::btree_set(0..count, 1..=3.min(count));
        (items, proptest::collection::vec(set, 1..3), 0..4_u8).prop_map(|(items, fails, free)| {
            let item = |(needs, is_named, weight)| Item {
                needs: if free == 0 { Vec::new() } else { needs },
                is_named,
                weight,
            };
            World {
                items: items.into_iter().map(item).collect(),
                fails,
            }
        })
    })
}

proptest! {
    #![proptest_config(at_least(400))]

    /// By brute force: each culprit fails, and nothing can be left out of it; what is said to work does.
    #[test]
    fn nothing_can_be_left_out(world in worlds(9)) {
        let (outcome, starts) = world.search();
        let Outcome::Found { culprits, works } = outcome else {
            panic!("all of it fails, and nothing of it does not: {outcome:?}");
        };
        for culprit in &culprits {
            prop_assert!(world.is_bad(&culprit.tried));
            prop_assert!(starts.contains(&culprit.tried), "it was started");
            prop_assert_eq!(&order::closed(&world.items, &culprit.named), &culprit.tried);
            prop_assert!(culprit.named.contains(&culprit.leave_out));
            let mut less = world.sets().filter(|set| set.is_subset(&culprit.tried) && *set != culprit.tried);
            prop_assert!(less.all(|set| !world.is_bad(&set)), "{:?}", culprit);
        }
        let works = works.expect("nothing at all works, at least");
        prop_assert!(!world.is_bad(&works));
        // Apart from the whole, nothing is started twice.
        let mut once: Vec<&Set> = starts.iter().collect();
        once.sort();
        once.dedup();
        prop_assert!(once.len() + 1 >= starts.len());
    }

    /// What is started ahead changes nothing of what is found, and is found sooner.
    #[test]
    fn several_at_once_find_the_same(world in worlds(9), most in 1..5_usize) {
        let (outcome, starts) = world.search();
        let (at_once, rounds) = world.search_at_once(most);
        prop_assert_eq!(at_once, outcome);
        prop_assert!(rounds.len() <= starts.len());
        prop_assert!(most > 1 || rounds.len() == starts.len());
    }

    /// One that fails by itself is found in few starts, whoever is thought likely.
    #[test]
    fn one_of_many_is_found_in_few_starts(
        likely in proptest::collection::vec((any::<bool>(), 0..3_u32), 1..250),
        at in any::<proptest::sample::Index>(),
    ) {
        let count = likely.len();
        let one = at.index(count);
        let item = |(is_named, weight)| Item { needs: Vec::new(), is_named, weight };
        let world = World {
            items: likely.into_iter().map(item).collect(),
            fails: vec![Set::from([one])],
        };
        let (outcome, starts) = world.search();
        let works: Set = (0..count).filter(|index| *index != one).collect();
        let culprit = Culprit {
            named: Set::from([one]),
            tried: Set::from([one]),
            leave_out: one,
            unsteady: false,
        };
        prop_assert_eq!(outcome, Outcome::Found { culprits: vec![culprit], works: Some(works) });
        let most = 2.0 * (count as f64).log2() + 4.0;
        prop_assert!(starts.len() as f64 <= most, "{} starts among {count}", starts.len());
        prop_assert!(starts.len() <= Search::starts_for_one(count) as usize, "{} starts among {count}", starts.len());
    }

    /// Whatever a start shows, and however often it shows something else, it comes to an end.
    #[test]
    fn it_ends_whatever_is_told(
        world in worlds(9),
        answers in proptest::collection::vec(0..3_u8, 64),
    ) {
        let mut search = Search::new(world.items);
        for asked in 0.. {
            let Step::Try(set) = search.step() else { break };
            prop_assert!(asked < 4_000);
            let seen = match answers[asked % answers.len()] {
                0 => Seen::Good,
                1 => Seen::Bad,
                _ => Seen::Unclear,
            };
            search.told(&set, seen);
        }
    }
}

fn free(count: usize) -> Vec<Item> {
    vec![Item::default(); count]
}

#[test]
fn what_works_and_what_fails_anyway_is_told() {
    let works = World {
        items: free(4),
        fails: Vec::new(),
    };
    let (outcome, starts) = works.search();
    assert_eq!((outcome, starts.len()), (Outcome::Works, TRIES as usize));
    let anyway = World {
        items: free(4),
        fails: vec![Set::new()],
    };
    let (outcome, starts) = anyway.search();
    assert_eq!(outcome, Outcome::FailsAnyway);
    assert_eq!(starts.len(), 3);
}

#[test]
fn what_could_not_be_put_together_is_not_said_to_work() {
    let mut search = Search::new(free(2));
    let Step::Try(whole) = search.step() else {
        unreachable!()
    };
    search.told(&whole, Seen::Unclear);
    assert_eq!(search.step(), Step::Done(Outcome::Otherwise));
    let mut search = Search::new(free(4));
    let outcome = loop {
        let set = match search.step() {
            Step::Done(outcome) => break outcome,
            Step::Try(set) => set,
        };
        // Without it, nothing fits together.
        let seen = match (set.contains(&2), set.len()) {
            (true, _) => Seen::Bad,
            (false, 3) => Seen::Unclear,
            (false, _) => Seen::Good,
        };
        search.told(&set, seen);
    };
    let Outcome::Found { culprits, works } = outcome else {
        panic!("{outcome:?}");
    };
    assert_eq!((culprits.len(), works), (1, None));
}

#[test]
fn a_pair_that_fails_only_together_is_found() {
    let world = World {
        items: free(20),
        fails: vec![Set::from([3, 17])],
    };
    let (outcome, starts) = world.search();
    let Outcome::Found { culprits, works } = outcome else {
        panic!("{outcome:?}");
    };
    assert_eq!(culprits.len(), 1);
    assert_eq!(culprits[0].named, Set::from([3, 17]));
    assert_eq!(works.map(|works| works.len()), Some(19));
    assert!(starts.len() <= 16, "{}", starts.len());
}

#[test]
fn the_likely_ones_are_tried_first() {
    let mut items = free(200);
    items[150].is_named = true;
    items[150].needs = vec![7];
    let world = World {
        items,
        fails: vec![Set::from([150])],
    };
    let (_, starts) = world.search();
    assert_eq!(starts[3], Set::from([7, 150]));
    assert_eq!(
        starts.len(),
        6,
        "the whole twice, none, they, what the one needs, the rest"
    );
}

#[test]
fn two_that_have_nothing_to_do_with_each_other_are_both_found() {
    let world = World {
        items: free(30),
        fails: vec![Set::from([4]), Set::from([21])],
    };
    let (outcome, _) = world.search();
    let Outcome::Found { culprits, works } = outcome else {
        panic!("{outcome:?}");
    };
    let named: Vec<&Set> = culprits.iter().map(|culprit| &culprit.named).collect();
    assert_eq!(named, [&Set::from([4]), &Set::from([21])]);
    assert_eq!(works.map(|works| works.len()), Some(28));
}

/// One that fails at every third start only, in a row of good ones that does not ask for it.
#[test]
fn what_fails_now_and_then_is_said_to_be_unsteady() {
    let mut search = Search::new(free(8));
    let mut starts = BTreeMap::new();
    let outcome = loop {
        let Step::Try(set) = search.step() else {
            let Step::Done(outcome) = search.step() else {
                unreachable!()
            };
            break outcome;
        };
        let times: &mut u32 = starts.entry(set.clone()).or_default();
        *times += 1;
        let fails = set.contains(&5) && times.is_multiple_of(3);
        search.told(&set, if fails { Seen::Bad } else { Seen::Good });
    };
    let Outcome::Found { culprits, works } = outcome else {
        panic!("{outcome:?}");
    };
    assert_eq!(culprits[0].named, Set::from([5]));
    assert!(culprits[0].unsteady);
    assert!(works.is_some_and(|works| starts[&works] == TRIES));
}

#[test]
fn a_circle_of_needs_is_in_or_out_together() {
    let mut items = free(6);
    items[1].needs = vec![2];
    items[2].needs = vec![1];
    let world = World {
        items,
        fails: vec![Set::from([2])],
    };
    let (outcome, _) = world.search();
    let Outcome::Found { culprits, works } = outcome else {
        panic!("{outcome:?}");
    };
    assert_eq!(culprits[0].named, Set::from([1, 2]));
    assert_eq!(works, Some(Set::from([0, 3, 4, 5])));
}

#[test]
fn what_is_known_is_told_before_the_end() {
    let mut search = Search::new(free(16));
    for _ in 0..5 {
        let Step::Try(set) = search.step() else {
            unreachable!()
        };
        let seen = if set.contains(&9) {
            Seen::Bad
        } else {
            Seen::Good
        };
        search.told(&set, seen);
    }
    assert_eq!(search.so_far(), []);
    assert_eq!(search.smallest_bad().map(Set::len), Some(12));
}

#[test]
fn two_at_once_take_about_two_thirds_of_the_rounds() {
    let rounds = |at: usize, most: usize| {
        let world = World {
            items: vec![Item::default(); 200],
            fails: vec![Set::from([at])],
        };
        world.search_at_once(most).1.len()
    };
    let all = |most| (0..200).map(|at| rounds(at, most)).sum::<usize>();
    let (one, two, three) = (all(1), all(2), all(3));
    assert!(two * 10 <= one * 7 && three < two, "{one}, {two}, {three}");
}
