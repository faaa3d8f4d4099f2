//! Measures the resolver on made-up catalogues: `cargo run --release --example resolver [build|first|best|stuck|tangle|dense|share|crowd] [SIZE…]`.
//!
//! `save SIZE` prints a world as a request instead, and `of FILE` tells the milliseconds of each part of answering one. Prints one line for each seed: what, size, seed, milliseconds, and what came of it. Parsing is not
//! in the times; `build` only makes the worlds. `RESOLVER_SEEDS` says how many seeds, otherwise 10. scripts/bench-resolver makes the table and the plot in docs/performance.md from it.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros)] // It measures the core; it is not part of it.

mod worlds;

use lantern_core::resolve::{Request, first_answer, resolve};
use lantern_core::version::Notations;
use std::time::Instant;
use worlds::{Sort, dense, sharing, tangle, world};

fn main() {
    let mut arguments = std::env::args().skip(1);
    let what = arguments.next().unwrap_or_else(|| "first".into());
    if what == "save" {
        let size = arguments
            .next()
            .and_then(|text| text.parse().ok())
            .unwrap_or(200);
        print!(
            "{}",
            world(size, 1, Sort::Solvable).to_json(&Notations::default())
        );
        return;
    }
    if what == "of" {
        let file = arguments.next().expect("the request's file");
        return of(&std::fs::read_to_string(file).expect("a request"));
    }
    let mut sizes: Vec<usize> = arguments.filter_map(|text| text.parse().ok()).collect();
    if sizes.is_empty() {
        sizes = match what.as_str() {
            "tangle" => vec![20, 30, 40],
            "dense" => vec![20, 25, 30],
            "share" | "crowd" => vec![10, 20, 30],
            _ => vec![200, 2_000, 10_000],
        };
    }
    let seeds = std::env::var("RESOLVER_SEEDS")
        .ok()
        .and_then(|text| text.parse().ok())
        .unwrap_or(10);
    for size in sizes {
        for seed in 1..=seeds {
            measure(&what, size, seed);
        }
    }
}

fn measure(what: &str, size: usize, seed: u64) {
    let request = match what {
        "tangle" => tangle(size, seed),
        "dense" => dense(size, seed),
        "share" => sharing(size, size),
        "crowd" => sharing(size, size - 1),
        "stuck" => world(size, seed, Sort::Stuck),
        _ => world(size, seed, Sort::Solvable),
    };
    let begun = Instant::now();
    let came = match what {
        "build" => format!("{} releases", request.offers.len()),
        "best" | "share" => match resolve(&request) {
            Ok(selection) if selection.proved => "proved best".to_owned(),
            Ok(_) => "best found".to_owned(),
            Err(_) => "no answer".to_owned(),
        },
        "stuck" | "crowd" => match resolve(&request) {
            Ok(_) => "an answer".to_owned(),
            Err(obstacle) => {
                let conflicts = obstacle.conflicts.iter();
                let facts: usize = conflicts.map(|conflict| conflict.facts.len()).sum();
                let words = obstacle.tell(&request).split_whitespace().count();
                let conflicts = obstacle.conflicts.len();
                format!("{conflicts} conflicts, {facts} facts; told in {words} words")
            }
        },
        _ => match first_answer(&request) {
            Some(selection) => format!("{} chosen", selection.choices.len()),
            None => "no answer".to_owned(),
        },
    };
    let ms = begun.elapsed().as_secs_f64() * 1_000.0;
    println!("{what}\t{size}\t{seed}\t{ms:.1}\t{came}");
}

/// Tells how long each part of answering a request takes.
fn of(text: &str) {
    let mut begun = Instant::now();
    let mut told = |what: &str| {
        println!("{what}\t{:.1}", begun.elapsed().as_secs_f64() * 1_000.0);
        begun = Instant::now();
    };
    let (request, _) = Request::from_json(text).expect("a request");
    told("read");
    let _ = first_answer(&request);
    told("first answer");
    match resolve(&request) {
        Ok(selection) => told(&format!("best, proved: {}", selection.proved)),
        Err(obstacle) => {
            told("obstacle");
            let words = obstacle.tell(&request);
            told(&format!("told in {} bytes", words.len()));
        }
    }
}
