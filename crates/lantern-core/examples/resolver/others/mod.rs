//! A request as general-purpose resolvers understand one: packages with releases, needs and what may not be beside them.
//!
//! They are asked for any answer with the newest tried first; none of them looks for the best, or tells what would
//! help. What runs on no server version that is asked for is left out for them beforehand, and the time for that is not theirs.

mod pubgrub;
mod resolvo;

use ::pubgrub::Ranges;
use lantern_core::component::{Id, Need};
use lantern_core::facts::Facts;
use lantern_core::resolve::{Request, Selection, Target};
use lantern_core::version::Version;
use std::collections::{BTreeMap, HashMap};
use std::ops::Bound;
use std::time::{Duration, Instant};

/// A component's number.
type Package = u32;
/// A release's place among those of its component, oldest first.
type Place = u32;

/// Some releases of one package.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Term {
    package: Package,
    places: Ranges<Place>,
}

/// What a release asks for and shuts out.
#[derive(Debug, Default)]
struct Release {
    /// Of each of these lists, by number, one has to hold.
    needs: Vec<usize>,
    forbids: Vec<Term>,
}

/// A request of which only what all resolvers know is left.
#[derive(Debug)]
pub struct Plain<'a> {
    names: Vec<&'a Id>,
    versions: Vec<Vec<&'a Version>>,
    releases: Vec<Vec<Release>>,
    /// Lists of which one has to hold, what is asked for by its name first.
    lists: Vec<Vec<Term>>,
    /// What has to be there: one list for each.
    roots: Vec<usize>,
}

/// What a resolver came to.
pub enum Outcome {
    /// These, one place for each package that is there.
    Chosen(BTreeMap<Package, Place>),
    /// There is no answer.
    Impossible,
    /// It was still at it when its time was up.
    TimeIsUp,
}

/// A resolver that is not ours.
pub struct Other {
    /// Its crate's name.
    pub name: &'static str,
    solve: fn(&Plain<'_>, Instant) -> Outcome,
}

/// The resolvers that are not ours.
pub const OTHERS: [Other; 2] = [
    Other {
        name: "pubgrub",
        solve: pubgrub::solve,
    },
    Other {
        name: "resolvo",
        solve: resolvo::solve,
    },
];

impl Other {
    /// Has it answer, within a time.
    pub fn answer(&self, plain: &Plain<'_>, most: Duration) -> Outcome {
        (self.solve)(plain, Instant::now() + most)
    }
}

/// What is being put together.
struct Lowering<'a> {
    releases: Vec<Vec<&'a Facts>>,
    numbers: HashMap<&'a Id, Package>,
    /// For an id: the packages of which some release stands in for it, itself not among them.
    stand_ins: HashMap<&'a Id, Vec<Package>>,
    lists: Vec<Vec<Term>>,
    known_lists: HashMap<Vec<Term>, usize>,
    known_needs: HashMap<(&'a Id, &'a str), usize>,
    known_sets: HashMap<(&'a Id, &'a str, bool), Option<Term>>,
}

impl<'a> Lowering<'a> {
    fn set(&self, package: Package, which: impl Fn(&Facts) -> bool) -> Option<Term> {
        let all = self.releases[package as usize].iter().enumerate();
        let mut runs: Vec<(Place, Place)> = Vec::new();
        for (place, _) in all.filter(|(_, facts)| which(facts)) {
            let place = place as Place;
            match runs.last_mut() {
                Some((_, end)) if *end == place => *end = place + 1,
                _ => runs.push((place, place + 1)),
            }
        }
        let runs = runs.into_iter();
        let places: Ranges<Place> = runs
            .map(|(from, to)| (Bound::Included(from), Bound::Excluded(to)))
            .collect();
        (!places.is_empty()).then_some(Term { package, places })
    }

    fn list(&mut self, terms: Vec<Term>) -> usize {
        let lists = &mut self.lists;
        let known = self.known_lists.entry(terms);
        *known.or_insert_with_key(|terms| {
            lists.push(terms.clone());
            lists.len() - 1
        })
    }

    /// What meets any of these: by its name before what stands in for it.
    fn meeting(&self, needs: &'a [Need]) -> Vec<Term> {
        let mut terms: Vec<Term> = Vec::new();
        for need in needs {
            let own = self.numbers.get(&need.id).copied();
            let others = self.stand_ins.get(&need.id).into_iter().flatten().copied();
            for package in own.into_iter().chain(others) {
                let term = self.set(package, |facts| facts.meets(need));
                terms.extend(term.filter(|term| !terms.contains(term)));
            }
        }
        terms
    }

    fn need(&mut self, need: &'a Need) -> usize {
        let key = (&need.id, need.range.as_str());
        if let Some(known) = self.known_needs.get(&key) {
            return *known;
        }
        let terms = self.meeting(std::slice::from_ref(need));
        let list = self.list(terms);
        self.known_needs.insert(key, list);
        list
    }

    /// Its releases within the range, or out of it.
    fn named(&mut self, need: &'a Need, within: bool) -> Option<Term> {
        let key = (&need.id, need.range.as_str(), within);
        if let Some(known) = self.known_sets.get(&key) {
            return known.clone();
        }
        let package = self.numbers.get(&need.id).copied();
        let term = package.and_then(|package| {
            let is_met = |facts: &Facts| need.is_met_by(&facts.id, Some(&facts.version));
            self.set(package, |facts| is_met(facts) == within)
        });
        self.known_sets.insert(key, term.clone());
        term
    }

    fn release(&mut self, facts: &'a Facts) -> Release {
        let mut release = Release::default();
        let needs = facts.needs.iter().filter(|need| need.id != facts.id);
        release.needs.extend(needs.map(|need| self.need(need)));
        for any in &facts.needs_any {
            if !any.iter().any(|need| need.id == facts.id) {
                let terms = self.meeting(any);
                release.needs.push(self.list(terms));
            }
        }
        let uses = facts.uses.iter().map(|need| (need, false));
        let clashes = facts.clashes.iter().map(|need| (need, true));
        for (need, within) in uses.chain(clashes) {
            if need.id != facts.id {
                release.forbids.extend(self.named(need, within));
            }
        }
        release
    }
}

/// Whether anything is stated that the other resolvers are not told of.
fn is_beyond(facts: &Facts) -> bool {
    facts.framework.is_some()
        || facts.runtime.is_some()
        || facts.flavour.is_some()
        || facts.group.is_some()
        || !facts.needs_installed.is_empty()
        || !facts.uses_provided.is_empty()
        || !facts.clashes_provided.is_empty()
        || !facts.replaces.is_empty()
        || !facts.companions.is_empty()
        || !facts.members.is_empty()
        || !facts.takes.is_empty()
}

impl<'a> Plain<'a> {
    /// What all resolvers know of a request.
    ///
    /// # Errors
    /// Where something is stated or asked for that they do not know.
    pub fn of(request: &'a Request) -> Result<Plain<'a>, String> {
        let Target::One(target) = &request.target else {
            return Err("the server version is left open".into());
        };
        let asked = [
            request.admit.is_empty(),
            request.drop.is_empty(),
            request.keep.is_empty(),
            request.only.is_empty(),
            request.again.is_empty(),
            request.learned.is_empty(),
            !request.build_outside,
            !request.held.iter().any(|held| held.off || held.droppable),
        ];
        if asked.contains(&false) {
            return Err("something is asked for that other resolvers do not know".into());
        }
        let mut by_id: BTreeMap<&Id, Vec<&Facts>> = BTreeMap::new();
        let held = request.held.iter().map(|held| (&held.facts, true));
        let offers = request.offers.iter().map(|offer| (&offer.facts, false));
        for (facts, is_held) in held.chain(offers) {
            if is_beyond(facts) {
                return Err(format!(
                    "{} {} states what other resolvers do not know",
                    facts.id, facts.version
                ));
            }
            let releases = by_id.entry(&facts.id).or_default();
            let runs = match facts.id == request.build {
                true => target.is_same_release(&facts.version),
                false => facts
                    .server
                    .as_ref()
                    .is_none_or(|it| it.holds_early(target)),
            };
            if runs && (is_held || !(facts.is_early() || facts.withdrawn)) {
                releases.push(facts);
            }
        }
        let held = request.held.iter().map(|held| &held.facts.id);
        let wished = held.chain(&request.add).chain([&request.build]);
        for id in wished.clone() {
            by_id.entry(id).or_default();
        }
        let mut lowering = Lowering {
            releases: Vec::new(),
            numbers: HashMap::new(),
            stand_ins: HashMap::new(),
            lists: Vec::new(),
            known_lists: HashMap::new(),
            known_needs: HashMap::new(),
            known_sets: HashMap::new(),
        };
        let mut names = Vec::new();
        for (number, (id, mut releases)) in by_id.into_iter().enumerate() {
            releases.sort_by(|a, b| a.version.cmp(&b.version));
            releases.dedup_by(|a, b| a.version == b.version);
            let number = number as Package;
            for (other, _) in releases.iter().flat_map(|facts| facts.stands_for()) {
                let known = lowering.stand_ins.entry(other).or_default();
                if other != id && known.last() != Some(&number) {
                    known.push(number);
                }
            }
            lowering.numbers.insert(id, number);
            lowering.releases.push(releases);
            names.push(id);
        }
        let mut roots = Vec::new();
        for id in wished {
            let term = lowering.set(lowering.numbers[id], |_| true);
            let list = lowering.list(term.into_iter().collect());
            roots.push(list);
        }
        let all = lowering.releases.clone();
        let each = |facts: &Vec<&'a Facts>, lowering: &mut Lowering<'a>| {
            facts.iter().map(|facts| lowering.release(facts)).collect()
        };
        let releases = all.iter().map(|facts| each(facts, &mut lowering)).collect();
        let version = |facts: &&'a Facts| &facts.version;
        Ok(Plain {
            names,
            versions: all
                .iter()
                .map(|it| it.iter().map(version).collect())
                .collect(),
            releases,
            lists: lowering.lists,
            roots,
        })
    }

    /// Our own answer in its terms.
    pub fn chosen(&self, selection: &Selection) -> BTreeMap<Package, Place> {
        let choices = selection.choices.iter().map(|choice| {
            let package = self
                .names
                .binary_search(&&choice.id)
                .expect("a component of the request");
            let versions = &self.versions[package];
            let place = versions.iter().position(|version| **version == choice.to);
            (
                package as Package,
                place.expect("a release that may be chosen") as Place,
            )
        });
        choices.collect()
    }

    /// Whether these fit together, and all that has to be is there.
    pub fn holds(&self, chosen: &BTreeMap<Package, Place>) -> bool {
        let is_there = |term: &Term| {
            let place = chosen.get(&term.package);
            place.is_some_and(|place| term.places.contains(place))
        };
        let is_met = |list: &usize| self.lists[*list].iter().any(is_there);
        self.roots.iter().all(is_met)
            && chosen.iter().all(|(package, place)| {
                let release = &self.releases[*package as usize][*place as usize];
                release.needs.iter().all(is_met) && !release.forbids.iter().any(is_there)
            })
    }

    /// The packages that have to be there themselves.
    fn always(&self) -> Vec<bool> {
        let mut always = vec![false; self.names.len()];
        for list in &self.roots {
            if let [only] = &self.lists[*list][..] {
                always[only.package as usize] = true;
            }
        }
        always
    }
}
