//! What a load order calls add-ons that it does not call by their ids: their files or folders.

use super::readers::Guess;
use super::rule::Rule;
use super::{Sample, quoted};
use crate::family::OrderRule;
use crate::order::Arrangement;
use std::collections::BTreeSet;

/// Finds, in the place of an add-on, what an entry of this load order calls it; none where that is its id.
pub(super) fn each(sample: &Sample, guesses: &[Guess], order: &Rule) -> Option<String> {
    let text = sample.texts.get(&order.file)?;
    let keys = format!("kind = {}\n{}", quoted(order.kind), order.keys);
    let rule: OrderRule = toml_edit::de::from_str(&keys).ok()?;
    let arrangement = Arrangement::read(&rule, text);
    let entries: BTreeSet<&str> = arrangement.ids().map(|id| id.as_str()).collect();
    let mut all = names(sample, guesses).into_iter();
    let found = all.find(|(ids, _, names)| {
        let told = |entry: &&str| ids.contains(*entry) && !names.contains(*entry);
        let is_one = |entry: &&str| names.contains(*entry);
        // Some are called otherwise than they lie there, and these entries go by where they lie.
        let differ = ids.iter().any(|id| !names.contains(id));
        differ && entries.iter().any(is_one) && !entries.iter().any(told)
    });
    found.map(|(_, each, _)| each)
}

/// What all of a kind are called where they lie, with what finds that in the place of one, in each way in which they may be meant, and
/// their ids.
pub(super) fn names<'g>(
    sample: &Sample,
    guesses: &'g [Guess],
) -> Vec<(&'g BTreeSet<String>, String, BTreeSet<String>)> {
    let places = guesses.iter().flat_map(|guess| {
        let places = guess.places(sample).into_iter();
        places.map(|(each, names)| (&guess.ids, each, names))
    });
    places.collect()
}
