//! What has to be started before what.

use crate::component::Id;
use crate::facts::Facts;
use std::collections::{BTreeMap, BTreeSet};

/// For each add-on that runs: those that have to be started before it.
///
/// These are the ones that meet its needs and uses, whatever they are called (where none does, those that would in
/// another version), those that it, or they themselves, ask for by `after` and `before`, and those that `stated` names
/// before it: pairs of what comes first and what comes later.
pub fn must_follow<'a>(
    running: impl Iterator<Item = &'a Facts>,
    stated: &[(Id, Id)],
) -> BTreeMap<Id, BTreeSet<Id>> {
    let running: Vec<&Facts> = running.collect();
    let mut stand_for: BTreeMap<&Id, Vec<&Facts>> = BTreeMap::new();
    for facts in &running {
        for (id, _) in facts.stands_for() {
            stand_for.entry(id).or_default().push(facts);
        }
    }
    let those = |id: &Id| stand_for.get(id).into_iter().flatten().copied();
    let mut follow: BTreeMap<Id, BTreeSet<Id>> = BTreeMap::new();
    for facts in &running {
        let follows = follow.entry(facts.id.clone()).or_default();
        for need in facts.needs.iter().chain(&facts.uses) {
            let meets = |other: &&Facts| other.meets(need);
            let met = those(&need.id).any(|other| meets(&other));
            let first = those(&need.id).filter(|other| !met || meets(other));
            follows.extend(first.map(|other| other.id.clone()));
        }
        let earlier = facts.after.iter().flat_map(those);
        follows.extend(earlier.map(|other| other.id.clone()));
        follows.remove(&facts.id);
    }
    for facts in &running {
        for later in facts.before.iter().flat_map(those) {
            if later.id != facts.id
                && let Some(follows) = follow.get_mut(&later.id)
            {
                follows.insert(facts.id.clone());
            }
        }
    }
    for (first, later) in stated.iter().filter(|(first, later)| first != later) {
        let firsts: Vec<Id> = those(first).map(|facts| facts.id.clone()).collect();
        if let Some(follows) = follow.get_mut(later) {
            follows.extend(firsts);
        }
    }
    follow
}
