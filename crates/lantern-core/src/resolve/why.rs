//! Why a component is at the version chosen, and why not at another.

use super::{Choice, Obstacle, Request, Selection, resolve};
use crate::component::Id;
use crate::version::Version;

/// Why a component is not at a version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WhyNot {
    /// It is at that version.
    Chosen,
    /// There is no such release; these are known.
    Unknown(Vec<Version>),
    /// It cannot be: what stands in the way, and that in words.
    Impossible(Box<Obstacle>, String),
    /// It could be, at a price: what would be otherwise then.
    Otherwise(Vec<Choice>),
}

/// Why a component is at the version chosen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Explanation {
    /// What was chosen; none when it is not there.
    pub choice: Option<Choice>,
    /// The components whose chosen releases need or use it, with the range they hold it in.
    pub held_by: Vec<(Id, String)>,
    /// The next newer releases, at most three, and why each was not chosen.
    pub newer: Vec<(Version, WhyNot)>,
}

impl Explanation {
    /// Explains a component in the best answer to a request.
    pub fn of(request: &Request, selection: &Selection, id: &Id) -> Explanation {
        let choice = selection
            .choices
            .iter()
            .find(|choice| choice.id == *id)
            .cloned();
        let chosen = |choice: &Choice| match choice.offer {
            Some(offer) => Some(&request.offers[offer].facts),
            None => request
                .held
                .iter()
                .map(|held| &held.facts)
                .find(|held| held.id == choice.id),
        };
        let mut held_by = Vec::new();
        for other in &selection.choices {
            let Some(facts) = chosen(other) else {
                continue;
            };
            let alternatives = facts.needs_any.iter().flatten();
            let uses = facts.uses.iter().chain(&facts.uses_provided);
            let wants = facts.needs.iter().chain(uses).chain(alternatives);
            let own = wants.filter(|need| need.id == *id);
            held_by.extend(own.map(|need| (other.id.clone(), need.range.to_string())));
        }
        let mut newer: Vec<Version> = request
            .releases(id)
            .filter(|facts| {
                choice
                    .as_ref()
                    .is_none_or(|choice| facts.version > choice.to)
            })
            .map(|facts| facts.version.clone())
            .collect();
        newer.sort_by(|a, b| b.cmp(a));
        newer.dedup();
        newer.truncate(3);
        let newer = newer.into_iter().map(|version| {
            let why = why_not(request, selection, id, &version);
            (version, why)
        });
        Explanation {
            newer: newer.collect(),
            choice,
            held_by,
        }
    }
}

/// Explains why a component is not at a version in the best answer to a request.
pub fn why_not(request: &Request, selection: &Selection, id: &Id, version: &Version) -> WhyNot {
    let at = |choice: &&Choice| choice.id == *id && choice.to == *version;
    if selection.choices.iter().any(|choice| at(&choice)) {
        return WhyNot::Chosen;
    }
    if !request.releases(id).any(|facts| facts.version == *version) {
        let mut known: Vec<Version> = request
            .releases(id)
            .map(|facts| facts.version.clone())
            .collect();
        known.sort_by(|a, b| b.cmp(a));
        known.dedup();
        return WhyNot::Unknown(known);
    }
    let mut asked = request.clone();
    asked.keep.retain(|(pinned, _)| pinned != id);
    asked.keep.push((id.clone(), Some(version.clone())));
    asked.add.insert(id.clone());
    match resolve(&asked) {
        Err(obstacle) => {
            let told = obstacle.tell_of(&asked, Some(id));
            WhyNot::Impossible(obstacle, told)
        }
        Ok(other) => {
            let same = |choice: &&Choice| {
                selection
                    .choices
                    .iter()
                    .any(|c| c.id == choice.id && c.to == choice.to)
            };
            WhyNot::Otherwise(
                other
                    .choices
                    .iter()
                    .filter(|choice| !same(choice))
                    .cloned()
                    .collect(),
            )
        }
    }
}
