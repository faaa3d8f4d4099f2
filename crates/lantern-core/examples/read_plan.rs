//! Reads a plan so many times, and prints how long the middle one of them took.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods)] // An example measures; the core does not.

use lantern_core::plan::Plan;
use std::time::Instant;

fn main() {
    let mut words = std::env::args().skip(1);
    let file = words.next().expect("the plan's file");
    let times: usize = words.next().and_then(|n| n.parse().ok()).unwrap_or(20);
    let text = std::fs::read_to_string(&file).expect("a plan that can be read");
    let mut took: Vec<f64> = Vec::new();
    let mut actions = 0;
    for _ in 0..times {
        let begun = Instant::now();
        actions = Plan::parse(&text).expect("a plan").actions.len();
        took.push(begun.elapsed().as_secs_f64() * 1000.0);
    }
    took.sort_by(f64::total_cmp);
    println!("{actions} actions read in {:.1} ms", took[times / 2]);
}
