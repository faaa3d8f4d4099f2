//! Measures the resolver on made-up catalogues: `cargo run --release --example resolver [build|first|best|stuck|tangle|dense|share|crowd] [SIZE…]`.
//!
//! Prints one line for each seed: what, size, seed, milliseconds, and what came of it. Parsing is not in the times; `build` only makes the worlds. `RESOLVER_SEEDS` says how many seeds, otherwise 10. scripts/bench-resolver makes the table and the plot in docs/performance.md from it.
//! `beside SORT [SIZE…]` has other resolvers answer the same: then a line has the milliseconds to our first answer, to our best or to the
//! obstacle with all that would help, and to the answer of each other one, or `over` for one that has none in `RESOLVER_SECONDS`, otherwise 60.
//! `save SORT SIZE [SEED]` prints a world as a request, and `of FILE` tells the milliseconds of each part of answering one.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros)] // It measures the core; it is not part of it.

mod others;
mod worlds;

use lantern_core::resolve::{Request, first_answer, resolve};
use lantern_core::version::Notations;
use others::{OTHERS, Outcome, Plain};
use std::time::{Duration, Instant};
use worlds::{Sort, dense, mixed, sharing, tangle, world};

/// As in the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() {
    let mut arguments = std::env::args().skip(1);
    let mut what = arguments.next().unwrap_or_else(|| "first".into());
    if what == "save" {
        let sort = arguments.next().expect("a sort of world");
        let mut number = || arguments.next().and_then(|text| text.parse().ok());
        let size = number().expect("a size");
        let seed = number().unwrap_or(1);
        let request = made(&sort, size as usize, seed);
        print!("{}", request.to_json(&Notations::default()));
        return;
    }
    if what == "of" {
        let file = arguments.next().expect("the request's file");
        return of(std::fs::read_to_string(file).expect("a request"));
    }
    let is_beside = what == "beside";
    if is_beside {
        what = arguments.next().unwrap_or_else(|| "best".into());
    }
    let mut sizes: Vec<usize> = arguments.filter_map(|text| text.parse().ok()).collect();
    if sizes.is_empty() {
        sizes = match what.as_str() {
            "tangle" => vec![20, 30, 40],
            "dense" => vec![20, 25, 30],
            "share" | "crowd" => vec![10, 20, 30],
            "mixed" => vec![50, 100, 200],
            _ => vec![200, 2_000, 10_000],
        };
    }
    let seeds = setting("RESOLVER_SEEDS", 10);
    for size in sizes {
        for seed in 1..=seeds {
            match is_beside {
                true => beside(&what, size, seed),
                false => measure(&what, size, seed),
            }
        }
    }
}

/// A number from the environment.
fn setting(name: &str, otherwise: u64) -> u64 {
    let text = std::env::var(name).ok();
    text.and_then(|text| text.parse().ok()).unwrap_or(otherwise)
}

/// The world of a sort.
fn made(what: &str, size: usize, seed: u64) -> Request {
    match what {
        "tangle" => tangle(size, seed),
        "dense" => dense(size, seed),
        "share" => sharing(size, size),
        "crowd" => sharing(size, size - 1),
        "mixed" => mixed(size, seed),
        "stuck" => world(size, seed, Sort::Stuck),
        _ => world(size, seed, Sort::Solvable),
    }
}

fn ms(begun: Instant) -> f64 {
    begun.elapsed().as_secs_f64() * 1_000.0
}

/// Has the other resolvers answer the same.
fn beside(what: &str, size: usize, seed: u64) {
    let request = made(what, size, seed);
    let begun = Instant::now();
    let verdict = match first_answer(&request) {
        Some(_) => "an answer",
        None => "no answer",
    };
    let first = ms(begun);
    let begun = Instant::now();
    let best = resolve(&request);
    let all = ms(begun);
    let plain = Plain::of(&request).expect("what all resolvers know");
    if let Ok(best) = &best {
        assert!(plain.holds(&plain.chosen(best)), "ours is wrong");
    }
    let came = match &best {
        Ok(best) if best.proved => "proved best",
        Ok(_) => "best found",
        Err(_) => verdict,
    };
    print!("{what}\t{size}\t{seed}\t{came}\t{first:.1}\t{all:.1}");
    let most = Duration::from_secs(setting("RESOLVER_SECONDS", 60));
    for other in &OTHERS {
        let begun = Instant::now();
        let outcome = other.answer(&plain, most);
        let time = ms(begun);
        let theirs = match outcome {
            Outcome::Chosen(chosen) => {
                assert!(plain.holds(&chosen), "{} is wrong", other.name);
                "an answer"
            }
            Outcome::Impossible => "no answer",
            Outcome::TimeIsUp => {
                print!("\tover");
                continue;
            }
        };
        assert_eq!(verdict, theirs, "{} says otherwise", other.name);
        print!("\t{time:.1}");
    }
    println!();
}

fn measure(what: &str, size: usize, seed: u64) {
    let request = made(what, size, seed);
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
    let ms = ms(begun);
    println!("{what}\t{size}\t{seed}\t{ms:.1}\t{came}");
}

/// Tells how long each part of answering a request takes.
fn of(text: String) {
    let mut begun = Instant::now();
    let mut told = |what: &str| {
        println!("{what}\t{:.1}", ms(begun));
        begun = Instant::now();
    };
    let (request, _) = Request::from_json(&text).expect("a request");
    drop(text);
    told("read");
    let _ = first_answer(&request);
    told("first answer");
    match resolve(&request) {
        Ok(selection) => told(&format!("best, proved: {}", selection.proved)),
        Err(obstacle) => {
            let conflicts = obstacle.conflicts.iter();
            let facts: Vec<String> = conflicts
                .map(|it| {
                    format!(
                        "{}{}",
                        it.facts.len(),
                        if it.minimal { "" } else { " or fewer" }
                    )
                })
                .collect();
            told(&format!("obstacle, of facts: {}", facts.join(", ")));
            let words = obstacle.tell(&request);
            told(&format!("told in {} bytes", words.len()));
        }
    }
}
