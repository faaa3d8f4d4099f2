//! What has to be started before what, and why.

use crate::component::{Id, Need};
use crate::facts::Facts;
use foldhash::HashMap;
use std::collections::BTreeMap;
use std::fmt;

/// Why something is started before something else; the weakest first.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Why {
    /// It is taken into account where it is there; the one that gives way in a circle.
    Uses(String),
    /// It is needed.
    Needs(String),
    /// The later one says that it comes after.
    SaysAfter,
    /// The earlier one says that it comes before.
    SaysBefore,
    /// The administrator says so.
    Stated,
}

/// That one add-on is started after another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// The one that is started later.
    pub later: Id,
    /// The one that is started before it.
    pub first: Id,
    /// Why.
    pub why: Why,
}

impl fmt::Display for Link {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Link { later, first, why } = self;
        let in_range = |range: &str| match range {
            "*" => String::new(),
            range => format!(" {range}"),
        };
        match why {
            Why::Uses(range) => write!(f, "{later} works with {first}{}", in_range(range)),
            Why::Needs(range) => write!(f, "{later} needs {first}{}", in_range(range)),
            Why::SaysAfter => write!(f, "{later} says that it starts after {first}"),
            Why::SaysBefore => write!(f, "{first} says that it starts before {later}"),
            Why::Stated => write!(f, "lantern.toml says that {later} starts after {first}"),
        }
    }
}

/// For each add-on that runs: those that are started before it, each with the strongest reason.
pub type Follows = BTreeMap<Id, BTreeMap<Id, Why>>;

/// Add-ons that each have to be started before one another, in a circle, by reasons of which none can give way.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("none of these can be started first: {}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
pub struct Circle(pub Vec<Link>);

/// For each add-on that runs: those that have to be started before it, and why.
///
/// These are the ones that meet its needs and uses, whatever they are called (where none does, those that would in
/// another version), those that it, or they themselves, ask for by `after` and `before`, and those that `stated` names
/// before it: pairs of what comes first and what comes later.
pub fn must_follow<'a>(running: impl Iterator<Item = &'a Facts>, stated: &[(Id, Id)]) -> Follows {
    let running: Vec<&Facts> = running.collect();
    let mut stand_for: HashMap<&Id, Vec<&Facts>> = HashMap::default();
    for facts in &running {
        for (id, _) in facts.stands_for() {
            stand_for.entry(id).or_default().push(facts);
        }
    }
    let those = |id: &Id| stand_for.get(id).into_iter().flatten().copied();
    let mut follows: HashMap<&Id, BTreeMap<Id, Why>> = running
        .iter()
        .map(|facts| (&facts.id, BTreeMap::new()))
        .collect();
    let mut add = |later: &Id, first: &Id, why: Why| {
        if let Some(firsts) = follows.get_mut(later).filter(|_| later != first) {
            let known = firsts.entry(first.clone()).or_insert_with(|| why.clone());
            if *known < why {
                *known = why;
            }
        }
    };
    for facts in &running {
        let range = |need: &Need| need.range.to_string();
        let needs = facts
            .needs
            .iter()
            .map(|need| (need, Why::Needs(range(need))));
        let uses = facts.uses.iter().map(|need| (need, Why::Uses(range(need))));
        for (need, why) in needs.chain(uses) {
            let meets = |other: &&Facts| other.meets(need);
            let met = those(&need.id).any(|other| meets(&other));
            for first in those(&need.id).filter(|other| !met || meets(other)) {
                add(&facts.id, &first.id, why.clone());
            }
        }
        for first in facts.after.iter().flat_map(those) {
            add(&facts.id, &first.id, Why::SaysAfter);
        }
        for later in facts.before.iter().flat_map(those) {
            add(&later.id, &facts.id, Why::SaysBefore);
        }
    }
    for (first, later) in stated {
        for first in those(first) {
            add(later, &first.id, Why::Stated);
        }
    }
    let follows = follows.into_iter();
    follows.map(|(id, firsts)| (id.clone(), firsts)).collect()
}

/// Takes the weakest links out of circles: those of what is only taken into account. Returns what remains, and what gave way.
///
/// # Errors
/// With a circle in which every link has to hold.
pub fn without_circles(mut follows: Follows) -> Result<(Follows, Vec<Link>), Circle> {
    let mut gave_way = Vec::new();
    while let Some(circle) = circle(&follows) {
        let weak = circle.iter().find(|link| matches!(link.why, Why::Uses(_)));
        let Some(weak) = weak.cloned() else {
            return Err(Circle(circle));
        };
        if let Some(firsts) = follows.get_mut(&weak.later) {
            firsts.remove(&weak.first);
        }
        gave_way.push(weak);
    }
    Ok((follows, gave_way))
}

/// The links of a circle, each beginning where the one before ends; none where there is none.
fn circle(follows: &Follows) -> Option<Vec<Link>> {
    let mut done: HashMap<&Id, bool> = HashMap::default();
    for start in follows.keys() {
        // Of each on the trail: those before it that are still to be looked at.
        let mut trail: Vec<(&Id, Vec<&Id>)> = Vec::new();
        let mut next = Some(start);
        loop {
            if let Some(id) = next.take() {
                match done.get(id) {
                    Some(true) => {}
                    Some(false) => {
                        let from = trail.iter().position(|(on_trail, _)| *on_trail == id)?;
                        let mut ids: Vec<&Id> = trail[from..].iter().map(|(id, _)| *id).collect();
                        let first = (0..ids.len()).min_by_key(|at| ids[*at]).unwrap_or(0);
                        ids.rotate_left(first);
                        let firsts = ids.iter().cycle().skip(1);
                        let links = ids.iter().zip(firsts).map(|(later, first)| Link {
                            later: (*later).clone(),
                            first: (*first).clone(),
                            why: follows[*later][*first].clone(),
                        });
                        return Some(links.collect());
                    }
                    None => {
                        done.insert(id, false);
                        let firsts = follows.get(id).map(|firsts| firsts.keys().rev().collect());
                        trail.push((id, firsts.unwrap_or_default()));
                    }
                }
            }
            let Some((id, firsts)) = trail.last_mut() else {
                break;
            };
            next = firsts.pop();
            if next.is_none() {
                done.insert(*id, true);
                trail.pop();
            }
        }
    }
    None
}
