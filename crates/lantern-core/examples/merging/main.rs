//! How long a merge takes: `cargo run --release --example merging [-- KEYS CHANGED NOTATION]`.
//!
//! A settings file of so many keys, at first without and then with a remark on each; the administrator has changed some values, its author others, added
//! some and taken some out. One line for each notation: the least and the median of 31 runs.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_types,
    clippy::disallowed_macros
)] // It measures.

mod texts;

use lantern_core::settings::Notation;
use std::time::Instant;
use texts::File;

/// As in the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const RUNS: usize = 31;

fn main() {
    let mut numbers = std::env::args()
        .skip(1)
        .filter_map(|word| word.parse().ok());
    let keys: usize = numbers.next().unwrap_or(10_000);
    let changed: usize = numbers.next().unwrap_or(100);
    let only = std::env::args().nth(3);
    println!("{keys} keys, {changed} changed by each hand");
    let notations = [
        ("toml", Notation::Toml),
        ("json", Notation::Json),
        ("yaml", Notation::Yaml),
        ("ini", Notation::Ini),
        ("properties", Notation::Properties),
        ("xml", Notation::Xml),
        ("assignments", Notation::Assignments),
    ];
    for ((name, notation), remarks) in notations.iter().flat_map(|it| [(it, false), (it, true)]) {
        if only.as_deref().is_some_and(|only| only != *name) {
            continue;
        }
        let file = File::new(notation, keys, changed, remarks);
        let mut times = Vec::new();
        let mut counts = None;
        for _ in 0..RUNS {
            let begun = Instant::now();
            counts = Some(file.merged().counts);
            times.push(begun.elapsed());
        }
        times.sort();
        println!(
            "{name:12} {:15} {:>6.1} to {:>6.1} ms   {counts:?}",
            if remarks { "with remarks" } else { "" },
            times[0].as_secs_f64() * 1000.0,
            times[RUNS / 2].as_secs_f64() * 1000.0
        );
    }
}
