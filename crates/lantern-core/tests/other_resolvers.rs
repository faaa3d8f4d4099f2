//! Resolvers that are not ours come to the same verdicts, and what ours chooses holds for what they are asked.

#![allow(clippy::disallowed_methods)] // Each has a time to answer in.

#[path = "../examples/resolver/others/mod.rs"]
mod others;
#[path = "../examples/resolver/worlds.rs"]
mod worlds;

use lantern_core::resolve::{Request, first_answer, resolve};
use others::{OTHERS, Outcome, Plain};
use std::time::Duration;
use worlds::{Sort, dense, mixed, sharing, tangle, world};

/// Compares the verdicts on a request; tells whether there is an answer.
fn compare(what: &str, request: &Request) -> bool {
    let plain = Plain::of(request).expect("what all resolvers know");
    let first = first_answer(request);
    let best = resolve(request).ok();
    for selection in first.iter().chain(&best) {
        assert!(
            plain.holds(&plain.chosen(selection)),
            "{what}: {selection:?}"
        );
    }
    assert_eq!(first.is_some(), best.is_some(), "{what}");
    for other in &OTHERS {
        match other.answer(&plain, Duration::from_secs(600)) {
            Outcome::Chosen(chosen) => {
                assert!(plain.holds(&chosen), "{what}: {} is wrong", other.name);
                assert!(best.is_some(), "{what}: {} has an answer", other.name);
            }
            Outcome::Impossible => {
                assert!(best.is_none(), "{what}: {} has none", other.name);
            }
            Outcome::TimeIsUp => panic!("{what}: {} is still at it", other.name),
        }
    }
    best.is_some()
}

#[test]
fn the_others_agree_with_every_verdict() {
    let mut verdicts = [0, 0];
    let mut each = |what: String, request: Request| {
        verdicts[usize::from(compare(&what, &request))] += 1;
    };
    for seed in 1..=20 {
        each(format!("mixed {seed}"), mixed(24, seed));
    }
    for seed in 1..=40 {
        each(format!("small {seed}"), mixed(12, seed));
    }
    for seed in 1..=6 {
        each(format!("world {seed}"), world(60, seed, Sort::Solvable));
        each(format!("stuck {seed}"), world(60, seed, Sort::Stuck));
        each(format!("tangle {seed}"), tangle(10, seed));
        each(format!("dense {seed}"), dense(10, seed));
    }
    each("places".into(), sharing(5, 5));
    each("too few".into(), sharing(5, 4));
    let [without, with] = verdicts;
    assert!(with > 20 && without > 20, "{with} with, {without} without");
}
