//! Made-up catalogues, seeded: the same seed gives the same world.
//!
//! A planted answer makes the solvable ones solvable: of each component one release is planted, its
//! needs hold for the planted releases, and nothing planted clashes. Newer ones than the planted may ask
//! for what cannot be, so that the newest choices fail late.

use lantern_core::component::{Id, Kind, Need, Provided};
use lantern_core::facts::Facts;
use lantern_core::offer::{Offer, Origin};
use lantern_core::resolve::{Held, Request, Target};
use lantern_core::version::{Notation, Range, RangeNotation, Version};
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

/// Releases of each component.
pub const RELEASES: usize = 20;
/// The server version that is asked for.
const TARGET: usize = 12;

struct Dice(u64);

impl Dice {
    fn roll(&mut self) -> u64 {
        // xorshift64*, Vigna 2016.
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 16
    }

    fn below(&mut self, n: usize) -> usize {
        (self.roll() % n.max(1) as u64) as usize
    }

    fn one_in(&mut self, n: usize) -> bool {
        self.below(n) == 0
    }
}

/// What kind of world.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sort {
    /// There is an answer.
    Solvable,
    /// A library that many need stops at an older server; with odd seeds, two components want it in
    /// versions that cannot be had together.
    Stuck,
}

// As the reader of requests does: equal versions, and equal ranges, share what they hold.

fn version(release: usize) -> Version {
    thread_local!(static KNOWN: RefCell<HashMap<usize, Version>> = RefCell::default());
    KNOWN.with_borrow_mut(|known| {
        let text = format!("{}.{}", 1 + release / 5, release % 5);
        let parsed = || Version::parse(&text, Notation::Dotted).expect("a version");
        known.entry(release).or_insert_with(parsed).clone()
    })
}

fn range(text: &str) -> Range {
    thread_local!(static KNOWN: RefCell<HashMap<String, Range>> = RefCell::default());
    KNOWN.with_borrow_mut(|known| {
        known
            .entry(text.to_owned())
            .or_insert_with(|| parsed(text))
            .clone()
    })
}

fn parsed(text: &str) -> Range {
    Range::parse(text, RangeNotation::Comparators, Notation::Dotted).expect("a range")
}

fn server(n: usize) -> Version {
    Version::parse(&n.to_string(), Notation::Dotted).expect("a version")
}

fn offer(facts: Facts) -> Offer {
    Offer {
        facts,
        lays: None,
        artifact: Arc::default(),
        supply: None,
        origin: Origin::Catalogue,
    }
}

/// A world of components with twenty releases each.
pub fn world(components: usize, seed: u64, sort: Sort) -> Request {
    let mut dice = Dice(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let ids: Vec<Id> = (0..components)
        .map(|n| Id::new(&format!("c{n:05}")))
        .collect();
    let id = |n: usize| ids[n].clone();
    let mut request = Request::new(Target::One(server(TARGET)), Id::new("server"));
    Arc::make_mut(&mut request.offers).reserve_exact(components * RELEASES + TARGET);
    for n in 8..=TARGET {
        Arc::make_mut(&mut request.offers).push(offer(Facts::new(
            Id::new("server"),
            Kind::Build,
            server(n),
        )));
    }
    Arc::make_mut(&mut request.held).push(Held {
        off: false,
        switched: false,
        facts: Facts::new(Id::new("server"), Kind::Build, server(TARGET - 2)),
        droppable: false,
    });
    let planted: Vec<usize> = (0..components)
        .map(|_| RELEASES - 1 - dice.below(6))
        .collect();
    // The first tenth are libraries, the first of them the most popular.
    let libraries = (components / 10).max(5);
    let stops = (sort == Sort::Stuck && seed.is_multiple_of(2)).then_some(2);
    let apart = (sort == Sort::Stuck && !seed.is_multiple_of(2)).then_some(components - 2);
    for n in 0..components {
        let needs: Vec<usize> = (0..dice.below(5))
            .map(|_| {
                let spread = dice.below(libraries * libraries);
                libraries - 1 - spread.isqrt().min(libraries - 1)
            })
            .filter(|library| *library < n)
            .collect();
        let uses: Vec<usize> = (0..dice.below(2))
            .map(|_| dice.below(components))
            .filter(|other| *other != n)
            .collect();
        let installed = RELEASES / 2 + dice.below(4);
        for release in 0..RELEASES {
            let mut facts = Facts::new(id(n), Kind::Addon, version(release));
            let last = if stops == Some(n) {
                TARGET - 1
            } else {
                TARGET + 4
            };
            let is_planted = release == planted[n];
            // A release serves a few server versions; later ones serve later servers.
            let from = 2 + release / 2;
            let to = if is_planted || release + 2 > planted[n] {
                last
            } else {
                (from + 1 + dice.below(4)).min(last)
            };
            facts.server = Some(range(&format!(">={from} <={to}")));
            for library in &needs {
                // Around what was current then; the planted one always within.
                let least = if is_planted || release < planted[n] {
                    planted[*library].min(release).saturating_sub(dice.below(4))
                } else {
                    // Too new a wish in some: there the newest choice fails.
                    (planted[*library] + usize::from(dice.one_in(3))).saturating_sub(dice.below(2))
                };
                let text = match dice.below(4) {
                    0 if is_planted => {
                        format!(">={} <{}", version(least), version(planted[*library] + 5))
                    }
                    0 => format!(">={} <{}", version(least), version(least + 6)),
                    _ => format!(">={}", version(least)),
                };
                facts.needs.push(Need {
                    id: id(*library),
                    range: range(&text),
                });
            }
            if apart.is_some_and(|first| n >= first) {
                let text = if apart == Some(n) { "<4.0" } else { ">=4.0" };
                facts.needs.retain(|need| need.id != id(3));
                facts.needs.push(Need {
                    id: id(3),
                    range: range(text),
                });
            }
            for other in &uses {
                let least = planted[*other].saturating_sub(6);
                facts.uses.push(Need {
                    id: id(*other),
                    range: range(&format!(">={}", version(least))),
                });
            }
            if !is_planted && dice.one_in(60) {
                let other = dice.below(components);
                if other != n {
                    facts.clashes.push(Need {
                        id: id(other),
                        range: range(&format!(">={}", version(planted[other]))),
                    });
                }
            }
            if release == installed {
                Arc::make_mut(&mut request.held).push(Held {
                    off: false,
                    switched: false,
                    facts: facts.clone(),
                    droppable: false,
                });
            }
            facts.needs.shrink_to_fit();
            facts.uses.shrink_to_fit();
            Arc::make_mut(&mut request.offers).push(offer(facts));
        }
    }
    request
}

/// A small dense tangle near the edge between solvable and not: every release wants many of the others
/// within a window of versions of its own.
pub fn tangle(components: usize, seed: u64) -> Request {
    let mut dice = Dice(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let id = |n: usize| Id::new(&format!("t{n:02}"));
    let mut request = Request::new(Target::One(server(TARGET)), Id::new("server"));
    Arc::make_mut(&mut request.offers).push(offer(Facts::new(
        Id::new("server"),
        Kind::Build,
        server(TARGET),
    )));
    // With these windows about half of the tangles have an answer.
    let wide = if components <= 25 { 9 } else { 10 } + (seed % 2) as usize;
    for n in 0..components {
        request.add.insert(id(n));
        let others: Vec<usize> = (0..components)
            .filter(|other| *other != n && dice.one_in(3))
            .collect();
        for release in 0..RELEASES {
            let mut facts = Facts::new(id(n), Kind::Addon, version(release));
            for other in &others {
                let least = dice.below(RELEASES - wide + 1);
                let text = format!(">={} <{}", version(least), version(least + wide));
                facts.needs.push(Need {
                    id: id(*other),
                    range: range(&text),
                });
            }
            Arc::make_mut(&mut request.offers).push(offer(facts));
        }
    }
    request
}

/// Components of which single pairs of releases shut each other out: ten releases each, and every pair clashes with a chance
/// at which a world has one answer on average, and most have none.
pub fn dense(components: usize, seed: u64) -> Request {
    const RELEASES: usize = 10;
    let mut dice = Dice(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let id = |n: usize| Id::new(&format!("d{n:02}"));
    let mut request = Request::new(Target::One(server(TARGET)), Id::new("server"));
    let build = Facts::new(Id::new("server"), Kind::Build, server(TARGET));
    let mut offers = vec![offer(build)];
    let chance = 1.0 - (RELEASES as f64).powf(-2.0 / (components as f64 - 1.0));
    let chance = (chance * 10_000.0) as usize;
    for n in 0..components {
        request.add.insert(id(n));
        for release in 0..RELEASES {
            let mut facts = Facts::new(id(n), Kind::Addon, version(release));
            for other in n + 1..components {
                let out = (0..RELEASES).filter(|_| dice.below(10_000) < chance);
                let out: Vec<String> = out.map(|it| format!("={}", version(it))).collect();
                if !out.is_empty() {
                    facts.clashes.push(Need {
                        id: id(other),
                        range: range(&out.join(" || ")),
                    });
                }
            }
            offers.push(offer(facts));
        }
    }
    request.offers = Arc::new(offers);
    request
}

/// Users that each take one of these places, and want the first most: one at a time, as each place has a release for each user.
pub fn sharing(users: usize, places: usize) -> Request {
    let mut request = Request::new(Target::One(server(TARGET)), Id::new("server"));
    let build = Facts::new(Id::new("server"), Kind::Build, server(TARGET));
    let mut offers = vec![offer(build)];
    for user in 0..users {
        let id = Id::new(&format!("user{user:02}"));
        request.add.insert(id.clone());
        for place in 0..places {
            let mut facts = Facts::new(id.clone(), Kind::Addon, version(places - place));
            facts.needs.push(Need {
                id: Id::new(&format!("place{place:02}")),
                range: range(&format!("={}", version(user))),
            });
            offers.push(offer(facts));
        }
    }
    for place in 0..places {
        let id = Id::new(&format!("place{place:02}"));
        offers.extend((0..users).map(|user| {
            let facts = Facts::new(id.clone(), Kind::Addon, version(user));
            offer(facts)
        }));
    }
    request.offers = Arc::new(offers);
    request
}

/// A world of everything that a release can ask of others: parts that several provide, in versions or in none, lists of which
/// one will do, what binds only where it is there, and what must not be there. Some have an answer.
pub fn mixed(components: usize, seed: u64) -> Request {
    const RELEASES: usize = 8;
    let mut dice = Dice(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    let id = |n: usize| Id::new(&format!("m{n:02}"));
    let part = |n: usize| Id::new(&format!("part{n:02}"));
    let parts = components.div_ceil(5);
    let mut request = Request::new(Target::One(server(TARGET)), Id::new("server"));
    let build = Facts::new(Id::new("server"), Kind::Build, server(TARGET));
    let mut offers = vec![offer(build)];
    for n in 0..components {
        if !dice.one_in(3) {
            request.add.insert(id(n));
        }
        let provided = dice.one_in(3).then(|| dice.below(parts));
        for release in 0..RELEASES {
            let need = |dice: &mut Dice| {
                let least = dice.below(RELEASES);
                let text = match dice.below(3) {
                    0 => format!(">={} <{}", version(least), version(least + 3)),
                    1 => format!(">={}", version(least)),
                    _ => format!("<={}", version(least)),
                };
                let other = match dice.one_in(4) {
                    true => part(dice.below(parts)),
                    false => id(dice.below(components)),
                };
                Need {
                    id: other,
                    range: range(&text),
                }
            };
            let mut facts = Facts::new(id(n), Kind::Addon, version(release));
            facts.provides.extend(provided.map(|provided| Provided {
                id: part(provided),
                version: (!dice.one_in(3)).then(|| version(release)),
            }));
            for _ in 0..1 + dice.below(2) {
                facts.needs.push(need(&mut dice));
            }
            if dice.one_in(2) {
                let any = (0..2 + dice.below(2)).map(|_| need(&mut dice));
                facts.needs_any.push(any.collect());
            }
            for _ in 0..dice.below(3) {
                facts.uses.push(need(&mut dice));
            }
            for _ in 0..1 + dice.below(3) {
                facts.clashes.push(need(&mut dice));
            }
            offers.push(offer(facts));
        }
    }
    request.offers = Arc::new(offers);
    request
}
