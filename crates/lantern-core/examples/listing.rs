//! How long somebody else's listing takes to be mapped: `cargo run --release --example listing [-- IDS PAGES RELEASES]`.
//!
//! Answers in JSON for so many components, each with pages of so many releases that say as much as the example in
//! docs/formats/listing.md. Prints the CPU time of the fastest of 5 runs, on one thread.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_types,
    clippy::disallowed_macros
)] // It measures.

use lantern_core::family::Family;
use lantern_core::listing::{Asked, Listing};
use std::collections::BTreeMap;
use std::time::Instant;

/// As in the program.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const MAPPING: &str = r#"
format = 1
name = "measured"
answers = "json"
items = "releases"

[ask]
url = "https://market.example/api/addons/{id}/releases?page={page}"
last_page = "pages"

[fields]
version = { at = "label", pattern = '(?P<value>\d[\d.]*\d)$' }
server = { at = "made_for", template = "~{}" }
channel = "how"
needs = { at = "links", item = { id = "to", range = "from", only = { kind = "must" } }, range = ">={}" }

[archive]
urls = "files.0.at"
name = "files.0.name"
bytes = "files.0.size"
sha256 = "files.0.sums.sha256"

[words.channel]
beta = "early"
release = "stable"
"#;

/// The least that a family has to say.
const FAMILY: &str = include_str!("../../../families/halcyon.family.toml");

fn answer(id: usize, page: usize, releases: usize) -> String {
    let release = |number: usize| {
        let version = format!("{}.{}.{number}", page % 7, page);
        let hash = blake3::hash(format!("{id} {version}").as_bytes());
        format!(
            r#"{{"label": "Plot {id} {version}", "made_for": "5.{}", "how": "release", "date": "2031-04-12T10:00:00Z", "downloads": {number},
            "links": [{{"to": "mist-pipes", "from": "1.{number}", "kind": "must"}}, {{"to": "moss", "from": "2", "kind": "may"}}],
            "files": [{{"at": "https://files.market.example/plot-{id}-{version}.bloom", "name": "plot-{id}-{version}.bloom", "size": 190237, "sums": {{"sha256": "{hash}"}}}}]}}"#,
            page % 9
        )
    };
    let releases: Vec<String> = (0..releases).map(release).collect();
    format!(
        "{{\"pages\": 20, \"releases\": [{}]}}",
        releases.join(",\n")
    )
}

fn main() {
    let numbers = std::env::args().skip(1);
    let mut numbers = numbers.filter_map(|word| word.parse().ok());
    let ids: usize = numbers.next().unwrap_or(500);
    let pages: usize = numbers.next().unwrap_or(20);
    let releases: usize = numbers.next().unwrap_or(5);
    let listing = Listing::parse(MAPPING).unwrap();
    let family = Family::parse(FAMILY).unwrap();
    let answers: Vec<(String, usize, String)> = (0..ids)
        .flat_map(|id| (1..=pages).map(move |page| (id, page)))
        .map(|(id, page)| (format!("plot-{id}"), page, answer(id, page, releases)))
        .collect();
    let bytes: usize = answers.iter().map(|(.., answer)| answer.len()).sum();
    let none = BTreeMap::new();
    let runs = (0..5).map(|_| {
        let begin = Instant::now();
        let mut offers = 0;
        for (id, page, answer) in &answers {
            let asked = Asked {
                id: Some(id),
                url: "https://market.example/api",
                page: *page as u64,
                ids: &none,
            };
            let read = listing.read(answer, asked, &family).unwrap();
            assert!(read.left_out.is_empty(), "{:?}", read.left_out);
            offers += read.offers.len();
        }
        (begin.elapsed().as_millis(), offers)
    });
    let (best, offers) = runs.min().unwrap();
    println!(
        "{ids} components, {pages} pages each: {} answers, {} MB, {offers} releases mapped in {best} ms",
        answers.len(),
        bytes / 1_000_000
    );
}
