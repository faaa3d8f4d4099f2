//! What stands in the way: minimal sets of facts.

use super::Request;
use super::conflict::{Conflict, MOST_TOLD, Obstacle};
use super::fact::Fact;
use super::model::Model;
use super::questions::{Answer, Questions};
use super::remedies::remedies;
use crate::component::Id;
use foldhash::HashSet;
use std::collections::BTreeSet;

/// So many independent conflicts are told apart.
const MOST_CONFLICTS: usize = 12;
/// So many conflicts are looked at for what one cause holds up.
const MOST_ALIKE: usize = 40;

/// Boils down why a request has no answer.
///
/// When a conflict is found, the facts in it that make it one are taken away and the search goes on: what still conflicts has
/// other causes. Then, with those causes out of the way, it is looked for what else each conflict's own causes hold up.
///
/// `core` are components that cannot all be there, from the search that found no answer.
pub(super) fn of(request: &Request, core: BTreeSet<Id>) -> Obstacle {
    let model = Model::guarded(request);
    let mut questions = Questions::new(request, &model);
    let needed: Vec<&Id> = questions.needed().map(|component| component.id).collect();
    let mut conflicts: Vec<(BTreeSet<Fact>, bool)> = Vec::new();
    let mut away: BTreeSet<Fact> = BTreeSet::new();
    let mut next: Vec<Id> = core.into_iter().collect();
    while conflicts.len() < MOST_CONFLICTS {
        let guards = questions.guards(&away);
        // A component with no release at all is told for itself, before what it makes impossible.
        next = questions.alone(&guards).map_or(next, |alone| vec![alone]);
        let (facts, minimal) = match questions.ask_all_but(&guards, &next) {
            Answer::Impossible(core) => match questions.minimal(core) {
                (facts, true) => (closest(&mut questions, &needed, facts), true),
                given_up => given_up,
            },
            // It is known from the first search, and takes too many steps to be shown once more.
            Answer::GaveUp if conflicts.is_empty() => {
                (next.iter().cloned().map(Fact::Stays).collect(), false)
            }
            Answer::GaveUp | Answer::Found => break,
        };
        let before = away.len();
        away.extend(causes(&facts));
        conflicts.push((facts, minimal));
        if away.len() == before {
            break;
        }
        next = needed.iter().map(|id| (*id).clone()).collect();
    }
    let causes: Vec<BTreeSet<Fact>> = conflicts
        .iter()
        .map(|(facts, _)| causes(facts).collect())
        .collect();
    questions.apart = causes.iter().flatten().flat_map(Fact::names).collect();
    let mut obstacle = Obstacle::default();
    for (at, (facts, minimal)) in conflicts.into_iter().enumerate() {
        let others = causes.iter().enumerate().filter(|(other, _)| *other != at);
        let others = others.flat_map(|(_, causes)| causes);
        let others: BTreeSet<Fact> = others
            .filter(|it| !causes[at].contains(*it))
            .cloned()
            .collect();
        let away = questions.guards(&others);
        // Of more than can be told, nobody would see what is alike.
        let is_looked_for = facts.len() <= MOST_TOLD || request.policy.all_remedies;
        let alike = match is_looked_for {
            true => alike(&mut questions, &needed, &facts, &causes[at], &away),
            false => Vec::new(),
        };
        let mut conflict = Conflict {
            alike,
            facts,
            minimal,
            remedies: Vec::new(),
            untried: 0,
        };
        remedies(&mut questions, &needed, &mut conflict, &others);
        obstacle.conflicts.push(conflict);
    }
    obstacle
}

/// The same conflict as of what stands closest to its cause: where something else that it names has to be there and cannot be for
/// fewer of its facts, whatever needs that only follows.
fn closest(
    questions: &mut Questions<'_, '_>,
    needed: &[&Id],
    facts: BTreeSet<Fact>,
) -> BTreeSet<Fact> {
    let named: BTreeSet<Id> = facts.iter().flat_map(Fact::names).collect();
    let is_asked =
        |id: &&&Id| named.contains(**id) && !facts.contains(&Fact::Stays((**id).clone()));
    // Those that need others come first among what is needed.
    for id in needed.iter().rev().filter(is_asked) {
        let rest = facts.iter().filter(|fact| !matches!(fact, Fact::Stays(_)));
        let own: BTreeSet<Fact> = rest.cloned().chain([Fact::Stays((*id).clone())]).collect();
        if let Answer::Impossible(core) = questions.ask_only(&own)
            && let (fewer, true) = questions.minimal(core)
            && fewer.len() < facts.len()
        {
            return fewer;
        }
    }
    facts
}

/// What else the causes of a conflict hold up, when those of the others are away.
fn alike(
    questions: &mut Questions<'_, '_>,
    needed: &[&Id],
    facts: &BTreeSet<Fact>,
    causes: &BTreeSet<Fact>,
    away: &HashSet<u32>,
) -> Vec<BTreeSet<Fact>> {
    let mut wishes: Vec<&Id> = needed.to_vec();
    let mut found: Vec<BTreeSet<Fact>> = Vec::new();
    let mut told: BTreeSet<Id> = facts.iter().filter_map(Fact::wish).cloned().collect();
    let mut held_up = told.clone();
    for _ in 0..MOST_ALIKE {
        let before = wishes.len();
        let with_them = questions.request.needing(&held_up);
        let goes = |id: &Id| held_up.contains(id) || with_them.contains(id);
        wishes.retain(|id| **id == questions.request.build || !goes(id));
        if wishes.len() == before {
            break;
        }
        let asked = questions.ask_all_but(away, wishes.iter().copied());
        let Answer::Impossible(core) = asked else {
            break;
        };
        let (more, true) = questions.minimal(core) else {
            break;
        };
        // What is told of already is no wish any more.
        let more = closest(questions, &wishes, more);
        held_up = more.iter().filter_map(Fact::wish).cloned().collect();
        // What needs or minds something that is told of already only follows from that.
        let names_told = |fact: &Fact| match fact {
            Fact::Framework(_) => told.iter().any(|id| questions.is_framework(id)),
            fact => fact.names().iter().any(|id| told.contains(id)),
        };
        let own = more.iter().filter(|fact| !facts.contains(fact));
        if more.iter().any(|fact| causes.contains(fact)) && !own.clone().any(names_told) {
            told.extend(held_up.iter().cloned());
            found.push(more);
        }
    }
    found
}

/// The facts of a conflict without those that only say what ought to be. Of two that do not go together it is one fact,
/// whichever says so.
fn causes(facts: &BTreeSet<Fact>) -> impl Iterator<Item = Fact> {
    let wish = |fact: &&Fact| matches!(fact, Fact::Stays(_) | Fact::Target);
    let causes = facts.iter().filter(move |fact| !wish(fact));
    causes.flat_map(|fact| [Some(fact.clone()), fact.turned()].into_iter().flatten())
}
