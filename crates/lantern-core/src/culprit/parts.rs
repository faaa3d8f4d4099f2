//! Parts of a plan, each of which fits together by itself: the resolver says so, with nothing on offer but what the plan brings.

use super::{Item, Set};
use crate::component::{Id, Kind, Need};
use crate::facts::Facts;
use crate::offer::{Offer, Origin};
use crate::plan::{ComponentChange, Fate};
use crate::resolve::{Choice, Policy, Request, Selection, Target, resolve};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Steps for one part: what is on offer is one release of each.
const EFFORT: u64 = 1_000_000;
/// How much counts that another major, or minor, version comes, or something new.
const MAJOR: u32 = 300;
const MINOR: u32 = 200;
const LITTLE: u32 = 100;

/// What can be in or out.
#[derive(Debug, Clone)]
pub struct Parts {
    /// The question, with nothing on offer but what the plan brings.
    request: Request,
    what: What,
    ids: Vec<Id>,
    needs: Vec<Vec<usize>>,
    /// How much each changes.
    changes: Vec<u32>,
}

#[derive(Debug, Clone)]
enum What {
    /// What a plan moves, besides what moves with the server version anyway: out is as it was before.
    Moves(BTreeMap<Id, ComponentChange>),
    /// What is there with all that has to move, and nothing else: out is away.
    There(Box<Selection>),
}

impl Parts {
    /// What a plan moves. What has to move with the server version is in every part.
    ///
    /// None where the resolver finds no way to move nothing else.
    pub fn moved(request: &Request, changes: &[ComponentChange]) -> Option<Parts> {
        let moved: BTreeMap<Id, ComponentChange> = changes
            .iter()
            .filter(|change| change.verdict != Fate::Unchanged)
            .map(|change| (change.id.clone(), change.clone()))
            .collect();
        let mut request = restricted(request, &moved);
        // What cannot stay where it goes goes with the server version.
        if resolve(&without(&request, &moved, &BTreeSet::new())).is_err() {
            let goes = moved
                .values()
                .filter(|change| change.verdict == Fate::Removed);
            request.drop = goes.map(|change| change.id.clone()).collect();
        }
        let of = |wanted: &BTreeSet<Id>| -> Option<BTreeSet<Id>> {
            let selection = resolve(&without(&request, &moved, wanted)).ok()?;
            Some(differs(&selection))
        };
        let anyway = of(&BTreeSet::new())?;
        let items = moved.values().filter(|change| !anyway.contains(&change.id));
        let items: Vec<&ComponentChange> = items.filter(|it| it.kind != Kind::Build).collect();
        let ids: Vec<Id> = items.iter().map(|change| change.id.clone()).collect();
        let needs = ids.iter().enumerate().map(|(own, id)| {
            // Where the resolver finds nothing that fits with it, all of the plan does.
            let with = of(&BTreeSet::from([id.clone()]));
            let is_needed = |at: &usize| with.as_ref().is_none_or(|with| with.contains(&ids[*at]));
            (0..ids.len())
                .filter(|at| *at != own && is_needed(at))
                .collect()
        });
        Some(Parts {
            needs: needs.collect(),
            changes: items.iter().map(|change| how_much(change)).collect(),
            what: What::Moves(moved),
            request,
            ids,
        })
    }

    /// What is there when nothing moves but what has to: add-ons and packs.
    ///
    /// None where the resolver finds no such state.
    pub fn there(&self) -> Option<Parts> {
        let What::Moves(moved) = &self.what else {
            return None;
        };
        let selection = resolve(&without(&self.request, moved, &BTreeSet::new())).ok()?;
        let is_item = |choice: &&Choice| !matches!(choice.kind, Kind::Build | Kind::Framework);
        let items: Vec<&Choice> = selection.choices.iter().filter(is_item).collect();
        let facts: Vec<&Facts> = items
            .iter()
            .filter_map(|choice| facts_of(&self.request, choice))
            .collect();
        let provider = |need: &Need| facts.iter().position(|facts| facts.meets(need));
        let needs = facts.iter().enumerate().map(|(own, facts)| {
            let all = facts.needs.iter().chain(&facts.needs_installed);
            let any = facts.needs_any.iter();
            let first = any.filter_map(|any| any.iter().find_map(provider));
            let needed = all.filter_map(provider).chain(first);
            needed.filter(|at| *at != own).collect()
        });
        Some(Parts {
            needs: needs.collect(),
            changes: vec![LITTLE; items.len()],
            ids: items.iter().map(|choice| choice.id.clone()).collect(),
            request: self.request.clone(),
            what: What::There(Box::new(selection.clone())),
        })
    }

    /// The components, in the order of the items.
    pub fn ids(&self) -> &[Id] {
        &self.ids
    }

    /// Whether out means away, and not as it was before.
    pub fn is_about_presence(&self) -> bool {
        matches!(self.what, What::There(_))
    }

    /// The items of a search; those that a failing start has named are tried first.
    pub fn items(&self, is_named: impl Fn(&Id) -> bool) -> Vec<Item> {
        let each = self.ids.iter().zip(&self.needs).zip(&self.changes);
        each.map(|((id, needs), changes)| Item {
            needs: needs.clone(),
            is_named: is_named(id),
            weight: changes.saturating_sub(needs.len() as u32),
        })
        .collect()
    }

    /// The ids of a part.
    pub fn of(&self, set: &Set) -> Vec<Id> {
        set.iter()
            .filter_map(|at| self.ids.get(*at).cloned())
            .collect()
    }

    /// The question that has one answer: this part.
    ///
    /// None where the resolver says that it does not fit together.
    pub fn request(&self, set: &Set) -> Option<Request> {
        let wanted: BTreeSet<Id> = self.of(set).into_iter().collect();
        let selection = match &self.what {
            What::Moves(moved) => resolve(&without(&self.request, moved, &wanted)).ok()?,
            What::There(selection) => {
                let all: BTreeSet<&Id> = self.ids.iter().collect();
                let mut left = (**selection).clone();
                let is_in =
                    |choice: &Choice| !all.contains(&choice.id) || wanted.contains(&choice.id);
                left.choices.retain(is_in);
                left
            }
        };
        Some(pinned(&self.request, &selection))
    }
}

/// The question with nothing on offer but what comes with a plan, for the server version that it leads to.
fn restricted(request: &Request, moved: &BTreeMap<Id, ComponentChange>) -> Request {
    let comes = |facts: &Facts| {
        let change = moved.get(&facts.id);
        change.is_some_and(|change| change.to.as_deref() == Some(&*facts.version.to_string()))
    };
    let offers = request.offers.iter().filter(|offer| comes(&offer.facts));
    // What was fetched by hand is wanted for that alone; here it is wanted where it is named.
    let offers = offers.cloned().map(|offer| Offer {
        origin: Origin::Catalogue,
        ..offer
    });
    let offers: Vec<Offer> = offers.collect();
    let build = offers.iter().find(|offer| offer.facts.id == request.build);
    let target = match (build, &request.target) {
        (Some(build), _) => Target::One(build.facts.version.clone()),
        (None, target) => target.clone(),
    };
    Request {
        target,
        offers: Arc::new(offers),
        add: BTreeSet::new(),
        drop: BTreeSet::new(),
        keep: Vec::new(),
        only: BTreeSet::new(),
        learned: Vec::new(),
        policy: Policy {
            early: true,
            untested: true,
            effort: EFFORT,
            ..Policy::default()
        },
        ..request.clone()
    }
}

/// The question for a part of what moves: those are to move, all else only where it has to.
fn without(
    request: &Request,
    moved: &BTreeMap<Id, ComponentChange>,
    wanted: &BTreeSet<Id>,
) -> Request {
    let mut request = request.clone();
    for change in wanted.iter().filter_map(|id| moved.get(id)) {
        let id = change.id.clone();
        match change.verdict {
            Fate::Unchanged => continue,
            Fate::Removed => {
                request.drop.insert(id);
                continue;
            }
            Fate::Added => {
                request.add.insert(id.clone());
            }
            Fate::Updated => {}
        }
        let brought = request.offers.iter().find(|offer| offer.facts.id == id);
        let version = brought.map(|offer| offer.facts.version.clone());
        request
            .keep
            .extend(version.map(|version| (id, Some(version))));
    }
    request
}

/// Which components are not as they were.
fn differs(selection: &Selection) -> BTreeSet<Id> {
    let come = selection.choices.iter().filter(|it| it.offer.is_some());
    let go = selection.gone.iter().map(|gone| &gone.id);
    come.map(|it| &it.id).chain(go).cloned().collect()
}

/// The question to which a selection is the only answer.
fn pinned(request: &Request, selection: &Selection) -> Request {
    let mut pinned = Request {
        drop: BTreeSet::new(),
        ..request.clone()
    };
    for choice in selection.choices.iter().filter(|it| it.kind != Kind::Build) {
        if choice.from.is_none() {
            pinned.add.insert(choice.id.clone());
        }
        let version = choice.offer.map(|_| choice.to.clone());
        pinned.keep.push((choice.id.clone(), version));
    }
    let stays: BTreeSet<&Id> = selection.choices.iter().map(|choice| &choice.id).collect();
    let held = request.held.iter().map(|held| &held.facts);
    let goes = held.filter(|facts| facts.kind != Kind::Build && !stays.contains(&facts.id));
    pinned.drop = goes.map(|facts| facts.id.clone()).collect();
    // What takes another one's place says by itself that that one goes.
    let replaced = selection
        .gone
        .iter()
        .filter(|gone| gone.replaced_by.is_some());
    for gone in replaced {
        pinned.drop.remove(&gone.id);
    }
    pinned
}

fn facts_of<'r>(request: &'r Request, choice: &Choice) -> Option<&'r Facts> {
    match choice.offer {
        Some(offer) => request.offers.get(offer).map(|offer| &offer.facts),
        None => {
            let mut held = request.held.iter().map(|held| &held.facts);
            held.find(|facts| facts.id == choice.id)
        }
    }
}

/// How much a component changes, by the first number of its versions that differs.
fn how_much(change: &ComponentChange) -> u32 {
    let (Some(from), Some(to)) = (&change.from, &change.to) else {
        return MAJOR;
    };
    let numbers = |text: &str| -> Vec<String> {
        text.split(|c: char| !c.is_ascii_alphanumeric())
            .map(str::to_owned)
            .collect()
    };
    let (from, to) = (numbers(from), numbers(to));
    match from.iter().zip(&to).position(|(from, to)| from != to) {
        Some(0) => MAJOR,
        Some(1) => MINOR,
        _ => LITTLE,
    }
}

/// Whether a text names a component: as a word of its own.
pub fn names(text: &str, id: &Id) -> bool {
    let is_part = |c: char| c.is_alphanumeric() || c == '-' || c == '_';
    text.match_indices(id.as_str()).any(|(at, found)| {
        let before = text[..at].chars().next_back();
        let after = text[at + found.len()..].chars().next();
        !before.is_some_and(is_part) && !after.is_some_and(is_part)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::resolve::Prefer;
    use crate::resolve::tests::world;

    fn change(id: &Id, kind: Kind, from: Option<String>, to: Option<String>) -> ComponentChange {
        let verdict = match (&from, &to) {
            (None, _) => Fate::Added,
            (_, None) => Fate::Removed,
            (from, to) if from == to => Fate::Unchanged,
            _ => Fate::Updated,
        };
        ComponentChange {
            id: id.clone(),
            kind,
            from,
            to,
            verdict,
            switched: None,
            why: String::new(),
            variant: None,
        }
    }

    /// The parts of the plan that brings the newest of everything.
    fn parts(text: &str) -> Parts {
        let mut request = world(text);
        request.policy.prefer = Prefer::Newest;
        let selection = resolve(&request).unwrap();
        let chosen = selection.choices.iter().map(|it| {
            let from = it.from.as_ref().map(|from| from.to_string());
            change(&it.id, it.kind, from, Some(it.to.to_string()))
        });
        let gone = selection.gone.iter();
        let gone = gone.map(|it| change(&it.id, it.kind, Some(it.from.to_string()), None));
        let changes: Vec<ComponentChange> = chosen.chain(gone).collect();
        Parts::moved(&request, &changes).unwrap()
    }

    /// What a part comes to.
    fn state(parts: &Parts, of: &[&str]) -> String {
        let items = parts.ids().iter().enumerate();
        let set = items.filter(|(_, id)| of.contains(&id.as_str()));
        let set: Set = set.map(|(at, _)| at).collect();
        assert_eq!(set.len(), of.len(), "all of them are items");
        let request = parts.request(&set).expect("it fits together");
        let selection = resolve(&request).expect("it has an answer");
        let told = selection.choices.iter();
        let mut told: Vec<String> = told.map(|it| format!("{} {}", it.id, it.to)).collect();
        told.sort();
        told.join(", ")
    }

    #[test]
    fn what_stays_out_is_as_it_was() {
        let parts = parts(
            "+ server 5.4
             + bees 1.0
             + clock 1.0 needs bees:^1
             + stall 1.0
             bees 2.0
             clock 2.0 needs bees:^2
             ! stall 1.1",
        );
        assert_eq!(parts.ids().len(), 3);
        let is = "bees 1.0, clock 1.0, server 5.4";
        assert_eq!(state(&parts, &[]), format!("{is}, stall 1.0"));
        assert_eq!(state(&parts, &["stall"]), format!("{is}, stall 1.1"));
        // Neither of them moves without the other.
        for one in ["bees", "clock"] {
            assert_eq!(
                state(&parts, &[one]),
                "bees 2.0, clock 2.0, server 5.4, stall 1.0"
            );
            let at = parts
                .ids()
                .iter()
                .position(|id| id.as_str() == one)
                .unwrap();
            assert_eq!(parts.items(|_| false)[at].needs.len(), 1);
        }
    }

    #[test]
    fn what_has_to_move_with_the_server_is_in_every_part() {
        let parts = parts(
            "+ server 5.1
             + bees 1.0 @<5.3
             + clock 1.0
             + stall 1.0 @<5.3
             server 5.4
             bees 2.0
             clock 1.1
             stall 1.1",
        );
        assert_eq!(parts.ids(), [Id::new("clock")]);
        assert_eq!(
            state(&parts, &[]),
            "bees 2.0, clock 1.0, server 5.4, stall 1.1"
        );
        // Where that fails already: which of what is there.
        let there = parts.there().unwrap();
        assert!(there.is_about_presence());
        assert_eq!(there.ids().len(), 3);
        assert_eq!(state(&there, &["stall"]), "server 5.4, stall 1.1");
        assert_eq!(state(&there, &[]), "server 5.4");
    }

    #[test]
    fn what_comes_new_and_what_goes_are_parts_too() {
        let mut request = world(
            "+ server 5.4
             + bees 1.0
             + stall 1.0
             bees 1.1 needs hive
             hive 1.0",
        );
        request.policy.prefer = Prefer::Newest;
        let moved = |id: &str, from: Option<&str>, to: Option<&str>| {
            change(
                &Id::new(id),
                Kind::Addon,
                from.map(Into::into),
                to.map(Into::into),
            )
        };
        let changes = [
            moved("bees", Some("1.0"), Some("1.1")),
            moved("hive", None, Some("1.0")),
            moved("stall", Some("1.0"), None),
        ];
        let parts = Parts::moved(&request, &changes).unwrap();
        assert_eq!(state(&parts, &[]), "bees 1.0, server 5.4, stall 1.0");
        assert_eq!(state(&parts, &["stall"]), "bees 1.0, server 5.4");
        assert_eq!(
            state(&parts, &["hive"]),
            "bees 1.0, hive 1.0, server 5.4, stall 1.0"
        );
        assert_eq!(
            state(&parts, &["bees"]),
            "bees 1.1, hive 1.0, server 5.4, stall 1.0"
        );
        // With all of it away but what needs it.
        let there = parts.there().unwrap();
        assert_eq!(state(&there, &["stall"]), "server 5.4, stall 1.0");
    }

    #[test]
    fn a_name_is_a_word_of_its_own() {
        let id = Id::new("sun-clock");
        assert!(names("cannot load sun-clock: no gnomon", &id));
        assert!(names("[sun-clock] died", &id));
        assert!(!names("sun-clock-faces died", &id));
        assert!(!names("the-sun-clock died", &id));
    }
}
