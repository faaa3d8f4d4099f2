//! Which releases fit together; if none do, what stands in the way.
//!
//! The door is [`resolve`]: a [`Request`] goes in, a [`Selection`] or an [`Obstacle`] comes out.

mod search;
mod tell;

use crate::catalogue::{Offer, Origin};
use crate::component::{Facts, Id, Kind, Need};
use crate::version::{Range, Version};
use serde::Serialize;
use std::collections::BTreeSet;

/// What is asked of the resolver.
#[derive(Debug, Clone)]
pub struct Request {
    /// The server version to move to.
    pub target: Version,
    /// The id of the server program.
    pub build: Id,
    /// Whether the server program lies outside the server folder, so that it is not chosen here.
    pub build_outside: bool,
    /// What is installed and runs; a pack with its members' needs.
    pub held: Vec<Facts>,
    /// What can be had.
    pub offers: Vec<Offer>,
    /// Ids that the server program brings along.
    pub given: BTreeSet<Id>,
    /// What may be taken.
    pub policy: Policy,
}

/// What may be taken, and what is better.
#[derive(Debug, Clone, Default)]
pub struct Policy {
    /// Whether pre-releases may be chosen.
    pub early: bool,
    /// Which of several fitting releases is better.
    pub prefer: Prefer,
}

/// Which of several fitting releases is better.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Prefer {
    /// What is installed; what has to move moves to the newest.
    #[default]
    Settled,
    /// The newest.
    Newest,
}

/// What was chosen for one component.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// Which component.
    pub id: Id,
    /// What it is.
    pub kind: Kind,
    /// The version installed; `None` when it comes new.
    pub from: Option<Version>,
    /// The version chosen.
    pub to: Version,
    /// The chosen offer, as an index into the request's; `None` when what is installed stays.
    pub offer: Option<usize>,
    /// Why.
    pub reason: Reason,
    /// Whether the release was declared for the target; `None` when nobody declared anything.
    pub declared: Option<bool>,
}

/// Why a release was chosen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "because")]
pub enum Reason {
    /// It is installed and fits.
    Fits,
    /// It is the server version asked for.
    Asked,
    /// It was put into the drop folder.
    FetchedByHand,
    /// What is installed does not fit any more.
    InstalledDoesNotFit,
    /// The newest was preferred.
    Newer,
    /// Another component needs it.
    NeededBy {
        /// The other component.
        id: Id,
    },
}

/// Releases that fit together: one for each component.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Selection {
    /// By kind, then id.
    pub choices: Vec<Choice>,
}

/// Why no releases fit together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Obstacle {
    /// The facts that cannot hold together.
    pub facts: Vec<Fact>,
}

/// One fact that takes part in an obstacle.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fact {
    /// No build of the target version is offered.
    NoBuild {
        /// The target.
        target: Version,
        /// The builds that there are.
        there: Vec<Version>,
    },
    /// No release of an installed component runs on the target.
    NoRelease {
        /// The component.
        id: Id,
        /// The version installed, or none.
        held: Option<Version>,
        /// Every release known, with the server range it declares.
        known: Vec<(Version, Option<Range>)>,
        /// The target.
        target: Version,
    },
    /// Something is needed that nobody offers.
    NotOffered {
        /// Who needs it, in which version.
        by: (Id, Version),
        /// What is needed.
        need: Need,
        /// Its versions that can be had but are out of range.
        there: Vec<Version>,
    },
    /// Two components cannot agree on a third, or clash.
    Meets {
        /// Who wants it.
        by: (Id, Version),
        /// What is wanted, or for a clash not wanted.
        need: Need,
        /// Whether it is a clash.
        clash: bool,
    },
    /// The search was given up after this many steps.
    GaveUp {
        /// Steps taken.
        steps: u64,
    },
}

/// Chooses a release for every component at once.
///
/// It is complete up to the limit on steps, and deterministic.
///
/// # Errors
/// With what stands in the way.
pub fn resolve(request: &Request) -> Result<Selection, Obstacle> {
    search::Search::new(request).run()
}

impl Request {
    /// Whether the release may be chosen at all.
    fn usable(&self, facts: &Facts, held: Option<&Facts>) -> bool {
        if facts.kind == Kind::Build {
            return facts.id == self.build && facts.version == self.target;
        }
        let is_held = held.is_some_and(|held| held.version == facts.version);
        let runs = facts
            .server
            .as_ref()
            .is_none_or(|range| range.holds_early(&self.target));
        runs && (self.policy.early || is_held || !facts.version.is_early())
    }

    /// Whether an offer was fetched by hand.
    fn by_hand(&self, offer: usize) -> bool {
        self.offers[offer].origin == Origin::DropFolder
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::catalogue::ArchiveRef;
    use crate::version::{Notation, RangeNotation};

    fn version(text: &str) -> Version {
        Version::parse(text, Notation::Dotted).unwrap()
    }

    fn range(text: &str) -> Range {
        Range::parse(text, RangeNotation::Comparators, Notation::Dotted).unwrap()
    }

    /// `"bees 1.2 @>=5.4 needs lib:^2,nectar uses x clashes y provides z"`.
    fn facts(text: &str) -> Facts {
        let mut words = text.split(' ');
        let id = Id::new(words.next().unwrap());
        let mut facts = Facts {
            kind: if id.as_str() == "server" {
                Kind::Build
            } else {
                Kind::Addon
            },
            id,
            title: None,
            version: version(words.next().unwrap()),
            server: None,
            needs: Vec::new(),
            uses: Vec::new(),
            clashes: Vec::new(),
            provides: Vec::new(),
            side: None,
            world_bound: None,
        };
        while let Some(word) = words.next() {
            if let Some(server) = word.strip_prefix('@') {
                facts.server = Some(range(server));
                continue;
            }
            let needs = words.next().unwrap().split(',').map(|item| {
                let (id, text) = item.split_once(':').unwrap_or((item, "*"));
                Need {
                    id: Id::new(id),
                    range: range(text),
                }
            });
            let needs: Vec<Need> = needs.collect();
            match word {
                "needs" => facts.needs = needs,
                "uses" => facts.uses = needs,
                "clashes" => facts.clashes = needs,
                "provides" => facts.provides = needs.into_iter().map(|n| n.id).collect(),
                other => panic!("{other}"),
            }
        }
        facts
    }

    /// Toy worlds: lines beginning with `+` are installed, with `!` in the drop folder.
    pub(crate) fn world(text: &str) -> Request {
        let mut request = Request {
            target: version("5.4"),
            build: Id::new("server"),
            build_outside: false,
            held: Vec::new(),
            offers: Vec::new(),
            given: BTreeSet::new(),
            policy: Policy::default(),
        };
        for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
            if let Some(line) = line.strip_prefix("+ ") {
                request.held.push(facts(line));
                continue;
            }
            let by_hand = line.strip_prefix("! ");
            request.offers.push(Offer {
                facts: facts(by_hand.unwrap_or(line)),
                archive: ArchiveRef {
                    file: String::new(),
                    blake3: String::new(),
                    bytes: 0,
                },
                origin: if by_hand.is_some() {
                    Origin::DropFolder
                } else {
                    Origin::Catalogue
                },
            });
        }
        request
    }

    fn answer(request: &Request) -> String {
        match resolve(request) {
            Ok(selection) => {
                let words = selection.choices.iter().map(|c| {
                    let mark = if c.offer.is_some() { "" } else { "=" };
                    format!(
                        "{}{mark}{}",
                        c.id,
                        if mark.is_empty() {
                            format!(" {}", c.to)
                        } else {
                            String::new()
                        }
                    )
                });
                words.collect::<Vec<_>>().join(", ")
            }
            Err(obstacle) => obstacle.to_string(),
        }
    }

    #[test]
    fn only_what_must_move_moves() {
        let request = world(
            "+ server 5.1
             server 5.4
             + lib 1.0
             lib 1.1
             + bees 1.0 @<5.4 needs lib
             bees 1.1 @>=5.4 needs lib
             bees 1.2 @>=5.4 needs lib",
        );
        assert_eq!(answer(&request), "server 5.4, bees 1.2, lib=");
        let newest = Request {
            policy: Policy {
                prefer: Prefer::Newest,
                ..Policy::default()
            },
            ..request
        };
        assert_eq!(answer(&newest), "server 5.4, bees 1.2, lib 1.1");
    }

    #[test]
    fn needs_pull_in_and_hold_back() {
        assert_eq!(
            answer(&world(
                "+ server 5.4
                 + bees 1.0
                 ! bees 2.0 needs nectar:^2
                 nectar 1.0
                 nectar 2.0 needs jar
                 nectar 2.1 needs gone
                 jar 1
                 + hive 1 needs bees:^2"
            )),
            "server=, bees 2.0, hive=, jar 1, nectar 2.0"
        );
        assert_eq!(
            answer(&world("+ server 5.4\n+ a 1 uses b:^1\n! b 2\n! b 1.5")),
            "server=, a=, b 1.5"
        );
    }

    #[test]
    fn stand_ins_meet_a_need() {
        assert_eq!(
            answer(&world(
                "+ server 5.4\n+ a 1\n! a 2 needs old\nnew 3 provides old"
            )),
            "server=, a 2, new 3"
        );
    }

    #[test]
    fn early_ones_only_by_policy() {
        let text = "+ server 5.1\nserver 5.4\n+ a 1 @<5.4\na 2-rc1 @>=5.4";
        assert!(answer(&world(text)).contains("no release of a"));
        let mut request = world(text);
        request.policy.early = true;
        assert_eq!(answer(&request), "server 5.4, a 2-rc1");
    }

    #[test]
    fn obstacles_are_told_in_words() {
        insta::assert_snapshot!(answer(&world("+ server 5.1\nserver 5.2\nserver 5.3")), @"Server 5.4 is not among the builds that are offered: 5.2, 5.3.");
        insta::assert_snapshot!(answer(&world("+ server 5.1\nserver 5.4\n+ bees 1 @<5.4\nbees 2 @<5.3\n+ vault 1 @<5.4")), @r"
        There is no release of bees for server 5.4: 2 is for <5.3; 1 (installed) is for <5.4.
        There is no release of vault for server 5.4: 1 (installed) is for <5.4.
        ");
        insta::assert_snapshot!(answer(&world("+ server 5.4\n+ a 1 needs lib:^1\n+ b 1 needs lib:^2\nlib 1\nlib 2")), @r"
        These cannot hold together:
        a 1 needs lib ^1.
        b 1 needs lib ^2.
        ");
    }
}
