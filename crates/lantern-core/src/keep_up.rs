//! With what a server may be kept up by itself: which releases are old enough, and which components may move.
//!
//! A release is as old as somebody states, or as long as it has been seen on offer: that it is younger nobody can say then. Of what was
//! neither stated nor seen before, the age is not known, and it waits.

use crate::component::{Id, Kind};
use crate::inventory::Inventory;
use crate::offer::Offer;
use crate::resolve::Request;
use crate::unattended::{Matter, touching};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Since when releases have been seen on offer, in milliseconds since 1970, by their [`mark`].
pub type FirstSeen = BTreeMap<String, i64>;

/// By what a release is known again: another file under the same version is another one.
pub fn mark(offer: &Offer) -> String {
    let stated = offer.supply.iter().flat_map(|supply| &supply.checks);
    let hash = stated.map(|check| check.hex.as_str()).next();
    let hash = hash.unwrap_or(&offer.artifact.blake3);
    format!("{} {} {hash}", offer.facts.id, offer.facts.version)
}

/// When a release is old enough.
#[derive(Debug, Clone, Copy)]
pub struct OldEnough<'s> {
    /// The time, in milliseconds since 1970.
    pub now_ms: i64,
    /// How old it has to be, in milliseconds.
    pub wait_ms: i64,
    /// Since when releases have been seen.
    pub first_seen: &'s FirstSeen,
}

impl OldEnough<'_> {
    /// From when on a release is, in milliseconds since 1970; as if it were seen for the first time now where nothing is known.
    pub fn from_ms(&self, offer: &Offer) -> i64 {
        let stated = offer.supply.as_ref().and_then(|supply| supply.released_ms);
        let seen = || self.first_seen.get(&mark(offer)).copied();
        let since = stated.or_else(seen).unwrap_or(self.now_ms);
        since.saturating_add(self.wait_ms)
    }
}

/// A release that is not taken yet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Waits {
    /// The component.
    pub id: Id,
    /// Its version.
    pub version: String,
    /// From when on it is old enough, in milliseconds since 1970.
    pub from_ms: i64,
}

/// A component of which there is a newer release, and which does not move by itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Left {
    /// The component.
    pub id: Id,
    /// Its version.
    pub from: String,
    /// The newest release that is old enough and for this server version.
    pub to: String,
    /// Which words would have to be left to it.
    pub matters: Vec<Matter>,
}

/// What does not move by itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Kept {
    /// Releases that are too young.
    pub waits: Vec<Waits>,
    /// Components that are left to a person.
    pub left: Vec<Left>,
}

/// Narrows a question to what may move by itself: releases that are old enough and can be had without a person, of components whose moving
/// decides nothing but what is left to it. Says what does not move for that.
pub fn narrow(
    request: &mut Request,
    inventory: &Inventory,
    old_enough: OldEnough<'_>,
    may: &BTreeSet<Matter>,
) -> Kept {
    let mut kept = Kept::default();
    let held: BTreeSet<Id> = request.held.iter().map(|it| it.facts.id.clone()).collect();
    let newest: BTreeMap<Id, _> = held
        .iter()
        .filter_map(|id| Some((id.clone(), request.latest(id)?)))
        .collect();
    let is_other_server = |offer: &Offer| {
        offer.facts.kind == Kind::Build && !request.target.holds(&offer.facts.version)
    };
    let is_old = |offer: &Offer| old_enough.from_ms(offer) <= old_enough.now_ms;
    for offer in request
        .offers
        .iter()
        .filter(|offer| !is_old(offer) && !is_other_server(offer))
    {
        let facts = &offer.facts;
        let is_update = request
            .held
            .iter()
            .any(|it| it.facts.id == facts.id && it.facts.version < facts.version);
        if is_update && newest.get(&facts.id) == Some(&facts.version) {
            kept.waits.push(Waits {
                id: facts.id.clone(),
                version: facts.version.to_string(),
                from_ms: old_enough.from_ms(offer),
            });
        }
    }
    let comes_alone = |offer: &Offer| {
        let stated = offer.supply.as_deref();
        offer.artifact.is_at_hand() || stated.is_none_or(|supply| !supply.urls.is_empty())
    };
    let takes_a_place = |offer: &Offer| offer.facts.replaces.iter().any(|id| held.contains(id));
    let declares = |offer: &Offer| offer.facts.kind == Kind::Build || offer.facts.server.is_some();
    let fits = |offer: &Offer| {
        is_old(offer)
            && (may.contains(&Matter::Undeclared) || declares(offer))
            && comes_alone(offer)
            && (may.contains(&Matter::Additions) || held.contains(&offer.facts.id))
            && (may.contains(&Matter::Removals) || !takes_a_place(offer))
    };
    Arc::make_mut(&mut request.offers).retain(fits);
    for held in Arc::make_mut(&mut request.held) {
        held.droppable &= may.contains(&Matter::Removals);
    }
    // The server program is free to move to another build of its version; it stands here so that the set is never empty.
    let mut moves = BTreeSet::from([request.build.clone()]);
    for held in request.held.iter() {
        let facts = &held.facts;
        let mut matters = touching(&facts.id, facts.kind, inventory);
        matters.insert(0, Matter::Updates);
        matters.retain(|matter| !may.contains(matter));
        if matters.is_empty() {
            moves.insert(facts.id.clone());
            continue;
        }
        let is_pinned = request.keep.iter().any(|(id, _)| *id == facts.id);
        let newest = request
            .latest(&facts.id)
            .filter(|to| *to > facts.version && !is_pinned);
        if let Some(to) = newest {
            kept.left.push(Left {
                id: facts.id.clone(),
                from: facts.version.to_string(),
                to: to.to_string(),
                matters,
            });
        }
    }
    request.only = moves;
    kept
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::resolve::tests::world;
    use crate::resolve::{Prefer, resolve};
    use crate::supply::Supply;

    const DAY: i64 = 86_400_000;

    /// A world in which of each release it is stated how many days old it is, by its mark's beginning.
    fn aged(text: &str, days: &[(&str, i64)]) -> Request {
        let mut request = world(text);
        request.policy.prefer = Prefer::Newest;
        for offer in Arc::make_mut(&mut request.offers) {
            let name = format!("{} {}", offer.facts.id, offer.facts.version);
            let known = days.iter().find(|(of, _)| *of == name);
            offer.supply = Some(Box::new(Supply {
                urls: vec!["https://depot.verdance.example/a".into()],
                released_ms: known.map(|(_, days)| (100 - days) * DAY),
                ..Supply::default()
            }));
        }
        request
    }

    fn moved(mut request: Request, first_seen: &FirstSeen, may: &[Matter]) -> (String, Kept) {
        let old_enough = OldEnough {
            now_ms: 100 * DAY,
            wait_ms: 7 * DAY,
            first_seen,
        };
        let may = may.iter().copied().collect();
        let kept = narrow(&mut request, &Inventory::default(), old_enough, &may);
        let selection = resolve(&request).unwrap();
        let moved = selection.choices.iter().filter(|it| it.offer.is_some());
        let moved: Vec<String> = moved.map(|it| format!("{} {}", it.id, it.to)).collect();
        (moved.join(", "), kept)
    }

    #[test]
    fn only_what_is_old_enough_moves() {
        let text = "+server 5.4\n+fern 1\nfern 2 @5.4\nfern 3 @5.4\nfern 4 @5.4";
        let days = [("fern 2", 30), ("fern 3", 7), ("fern 4", 6)];
        let usual = Matter::USUAL;
        let (told, kept) = moved(aged(text, &days), &FirstSeen::new(), &usual);
        assert_eq!(told, "fern 3");
        assert_eq!(kept.waits.len(), 1);
        assert_eq!(
            (kept.waits[0].version.as_str(), kept.waits[0].from_ms),
            ("4", 101 * DAY)
        );
        // Where nobody states it, it is as old as it is known here.
        let (told, kept) = moved(aged(text, &[]), &FirstSeen::new(), &usual);
        assert_eq!((told.as_str(), kept.waits[0].from_ms), ("", 107 * DAY));
        let request = aged(text, &[]);
        let seen = request.offers.iter().map(|offer| (mark(offer), 90 * DAY));
        let seen: FirstSeen = seen
            .filter(|(mark, _)| mark.starts_with("fern 2"))
            .collect();
        assert_eq!(moved(request, &seen, &usual).0, "fern 2");
    }

    #[test]
    fn what_is_not_left_to_it_stays() {
        let text = "+server 5.4\n+fern 1\nfern 2 @5.4 needs lib:*\nfern 1.5 @5.4\nfern 1.7\nlib 1 @5.4\n+moss 1\nlichen 1 @5.4 replaces moss";
        let days = [
            ("fern 2", 30),
            ("fern 1.5", 30),
            ("fern 1.7", 30),
            ("lib 1", 30),
            ("lichen 1", 30),
        ];
        let told = |may: &[Matter]| moved(aged(text, &days), &FirstSeen::new(), may).0;
        assert_eq!(told(&[Matter::Updates, Matter::Additions]), "fern 2, lib 1");
        assert_eq!(told(&[Matter::Updates]), "fern 1.5");
        assert_eq!(told(&[Matter::Updates, Matter::Undeclared]), "fern 1.7");
        assert_eq!(told(&[]), "");
    }

    #[test]
    fn what_only_a_person_can_fetch_is_left_to_him() {
        let mut request = aged("+server 5.4\n+fern 1\nfern 2 @5.4", &[("fern 2", 30)]);
        for offer in Arc::make_mut(&mut request.offers) {
            offer.supply.as_mut().unwrap().urls.clear();
        }
        assert_eq!(moved(request, &FirstSeen::new(), &Matter::USUAL).0, "");
    }
}
