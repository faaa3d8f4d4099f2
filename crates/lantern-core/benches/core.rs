//! How long the heart takes, piece by piece: `cargo bench -p lantern-core`, with a part of a name behind it for that one alone.
//!
//! The worlds and settings files are those of the examples `resolver` and `merging`, which measure larger ones.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros)] // It measures the core; it is not part of it.

#[path = "../examples/merging/texts.rs"]
mod texts;
#[allow(dead_code)] // The example uses more of them.
#[path = "../examples/resolver/worlds.rs"]
mod worlds;

use divan::{Bencher, black_box};
use lantern_core::resolve::{Request, first_answer, refutation, resolve};
use lantern_core::version::{Notation, Notations, Range, RangeNotation, Version};
use worlds::{Sort, sharing, tangle, world};

/// As in the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How many components: few where it is only tried whether the benchmarks run.
const SIZES: &[usize] = if cfg!(debug_assertions) {
    &[20]
} else {
    &[200, 2_000]
};

fn main() {
    divan::main();
}

#[divan::bench]
fn parse_versions(bencher: Bencher) {
    let texts: Vec<String> = (0..100)
        .map(|at| format!("1.{at}.{}-rc.{}", at % 7, at % 3))
        .collect();
    let parse = |text: &String| Version::parse(text, Notation::Semver);
    bencher.bench(|| texts.iter().filter_map(|text| parse(text).ok()).max());
}

#[divan::bench]
fn ask_a_range(bencher: Bencher) {
    let range = Range::parse(
        ">=1.4,<2 || >=3.1",
        RangeNotation::Comparators,
        Notation::Semver,
    );
    let range = range.expect("a range");
    let versions =
        (0..100).map(|at| Version::parse(&format!("{}.{at}.0", at % 4), Notation::Semver));
    let versions: Vec<Version> = versions
        .map(|version| version.expect("a version"))
        .collect();
    bencher.bench(|| {
        versions
            .iter()
            .filter(|version| range.holds(black_box(version)))
            .count()
    });
}

#[divan::bench(args = SIZES)]
fn read_a_request(bencher: Bencher, size: usize) {
    let text = world(size, 1, Sort::Solvable).to_json(&Notations::default());
    bencher.bench(|| Request::from_json(&text));
}

#[divan::bench(args = SIZES)]
fn find_an_answer(bencher: Bencher, size: usize) {
    let request = world(size, 1, Sort::Solvable);
    bencher.bench(|| first_answer(&request));
}

#[divan::bench(args = SIZES)]
fn prove_the_best(bencher: Bencher, size: usize) {
    let request = world(size, 1, Sort::Solvable);
    bencher.bench(|| resolve(&request));
}

#[divan::bench(args = SIZES)]
fn tell_the_obstacle(bencher: Bencher, size: usize) {
    let request = world(size, 1, Sort::Stuck);
    bencher.bench(|| {
        resolve(&request)
            .err()
            .map(|obstacle| obstacle.tell(&request))
    });
}

#[divan::bench(args = SIZES)]
fn prove_that_nothing_fits(bencher: Bencher, size: usize) {
    let request = world(size, 1, Sort::Stuck);
    bencher.bench(|| refutation(&request));
}

#[divan::bench]
fn answer_a_tangle(bencher: Bencher) {
    let request = tangle(20, 1);
    bencher.bench(|| first_answer(&request));
}

#[divan::bench]
fn see_that_one_is_too_many(bencher: Bencher) {
    let request = sharing(10, 9);
    bencher.bench(|| first_answer(&request));
}

#[divan::bench(args = ["toml", "yaml", "ini"])]
fn merge_settings(bencher: Bencher, name: &str) {
    use lantern_core::settings::Notation;
    let notation = match name {
        "toml" => Notation::Toml,
        "yaml" => Notation::Yaml,
        _ => Notation::Ini,
    };
    let keys = if cfg!(debug_assertions) { 50 } else { 1_000 };
    let file = texts::File::new(&notation, keys, keys / 10, true);
    bencher.bench(|| file.merged());
}
