//! What stands in the way, as a short story for an administrator.

use super::conflict::{Conflict, MOST_TOLD, Obstacle, Remedy};
use super::fact::Fact;
use super::{Request, Target};
use crate::component::{ClientVersion, Id, Kind, Need};
use crate::facts::Facts;
use crate::offer::Origin;
use crate::version::{Range, Version};
use std::collections::{BTreeMap, BTreeSet};

/// At most so many versions are listed.
const LISTED: usize = 6;

impl Obstacle {
    /// Tells the story: what meets where, and what was tried and would help.
    pub fn tell(&self, request: &Request) -> String {
        self.tell_of(request, None)
    }

    /// As [`Obstacle::tell`]; that `asked` could move again is the question, not an answer.
    pub(super) fn tell_of(&self, request: &Request, asked: Option<&Id>) -> String {
        if self.conflicts.is_empty() {
            return "No answer was found within the step limit; there may still be one.".into();
        }
        let stories: Vec<String> = self
            .conflicts
            .iter()
            .map(|conflict| {
                Teller {
                    request,
                    conflict,
                    asked,
                }
                .story()
            })
            .collect();
        match stories.len() {
            1 => stories.concat(),
            count => {
                let numbered = stories
                    .iter()
                    .enumerate()
                    .map(|(n, story)| format!("{}. {story}", n + 1));
                let numbered: Vec<String> = numbered.collect();
                format!("{count} independent problems:\n{}", numbered.join("\n"))
            }
        }
    }
}

/// The releases of components that count; none of those that are being looked up.
type Counting<'a> = BTreeMap<Id, Option<Vec<&'a Facts>>>;

struct Teller<'a> {
    request: &'a Request,
    conflict: &'a Conflict,
    /// The component that a question is about: its version is the question's.
    asked: Option<&'a Id>,
}

impl<'a> Teller<'a> {
    fn has(&self, fact: &Fact) -> bool {
        self.conflict.facts.contains(fact)
    }

    fn story(&self) -> String {
        let staying: Vec<&Id> = self
            .conflict
            .facts
            .iter()
            .filter_map(|fact| match fact {
                Fact::Stays(id) if *id != self.request.build => Some(id),
                _ => None,
            })
            .collect();
        let target = &self.request.target;
        let mut lines = Vec::new();
        let relations = self
            .conflict
            .facts
            .iter()
            .any(|fact| fact.names().len() > 1)
            || self.conflict.facts.iter().any(|fact| {
                matches!(
                    fact,
                    Fact::Group(_)
                        | Fact::Room(_)
                        | Fact::Framework(_)
                        | Fact::Runtime(_)
                        | Fact::Flavour(_)
                )
            });
        match staying[..] {
            [] => lines.push(self.no_build()),
            [id] if self.request.admit.contains_key(id) => {
                lines.push(format!("{id} cannot be let in on server {target}:"));
            }
            [id] if !relations => lines.push(self.no_release(id)),
            [id] => lines.push(format!("{id} cannot be installed on server {target}:")),
            _ => {
                let is_group = |fact: &Fact| matches!(fact, Fact::Group(_));
                let is_wish = |id: &&Id| self.request.admit.contains_key(*id);
                let together = match self.conflict.facts.iter().any(is_group) {
                    true => "active",
                    false if staying.iter().all(is_wish) => "let in",
                    false if staying.iter().any(is_wish) => "there",
                    false => "installed",
                };
                let all = list(&staying);
                lines.push(format!(
                    "{all} cannot all be {together} on server {target}:"
                ));
            }
        }
        let is_wish = |id: &&Id| self.request.admit.contains_key(*id);
        if relations || staying.iter().any(is_wish) {
            let mut supplied = BTreeSet::new();
            let mut told: Vec<String> = Vec::new();
            let facts = self.in_order();
            let mut rest = 0;
            for (at, fact) in facts.iter().copied().enumerate() {
                if told.len() > MOST_TOLD {
                    told.truncate(MOST_TOLD);
                    rest = facts.len() - at + 1;
                    break;
                }
                told.extend(self.sentence(fact).map(|sentence| format!("  {sentence}")));
                if let Fact::Needs(_, other) | Fact::NeedsInstalled(_, other) = fact
                    && supplied.insert(other)
                    && let (Some(last), Some(supply)) = (told.last_mut(), self.supply(other))
                {
                    last.push_str(&supply);
                }
            }
            if rest > 0 {
                told.push(format!("  … and {rest} facts more of this kind."));
            }
            lines.extend(told);
        }
        if !self.conflict.minimal {
            let more = match relations {
                true => "It was not shown that all of this is needed for it",
                false => "What of theirs stands in the way was not found in the steps allowed",
            };
            lines.push(format!("  {more} (--all-remedies goes on looking)."));
        }
        lines.extend(self.alike());
        let to_question =
            |remedy: &&Remedy| matches!(remedy, Remedy::Unpin(id) if Some(id) == self.asked);
        let remedies = self.conflict.remedies.iter();
        let remedies: Vec<&Remedy> = remedies.filter(|remedy| !to_question(remedy)).collect();
        if !remedies.is_empty() {
            lines.push("  What helps:".into());
            lines.extend(
                remedies
                    .iter()
                    .map(|remedy| format!("  - {}", self.remedy(remedy))),
            );
        }
        if self.conflict.untried > 0 {
            lines.push(format!(
                "  {} more ways out were not tried (--all-remedies tries them all).",
                self.conflict.untried
            ));
        }
        lines.join("\n")
    }

    /// What else is held up by the same cause.
    fn alike(&self) -> Vec<String> {
        let alike = &self.conflict.alike;
        let others = |facts: &'a BTreeSet<Fact>| -> Vec<&'a Id> {
            let wishes = facts.iter().filter_map(Fact::wish);
            let own = |id: &&Id| !self.has(&Fact::Stays((*id).clone()));
            wishes
                .filter(own)
                .filter(|id| Some(*id) != self.asked)
                .collect()
        };
        let mut lines: Vec<String> = Vec::new();
        for facts in alike.iter().take(LISTED) {
            let teller = Teller {
                request: self.request,
                conflict: &Conflict {
                    facts: facts.clone(),
                    ..self.conflict.clone()
                },
                asked: self.asked,
            };
            let own = facts
                .iter()
                .filter(|fact| !self.has(fact) && fact.wish().is_none());
            let told: Vec<String> = own.filter_map(|fact| teller.sentence(fact)).collect();
            let others = list(&others(facts));
            lines.push(match told.is_empty() {
                true => format!("  The same stops {others}."),
                false => format!("  The same stops {others}: {}", told.join(" ")),
            });
        }
        if alike.len() > LISTED {
            let rest: BTreeSet<&Id> = alike[LISTED..].iter().flat_map(others).collect();
            let rest: Vec<&Id> = rest.into_iter().collect();
            lines.push(format!("  The same stops {}.", list(&rest)));
        }
        lines
    }

    /// Facts as they follow from one another: each component's own, then what it asks for.
    fn in_order(&self) -> Vec<&'a Fact> {
        let mut queue: Vec<Id> = Vec::new();
        for fact in &self.conflict.facts {
            if let Fact::Stays(id) = fact {
                queue.push(id.clone());
            }
        }
        let mut told: BTreeSet<&Fact> = BTreeSet::new();
        let mut order = Vec::new();
        let mut at = 0;
        while at < queue.len() {
            let id = queue[at].clone();
            at += 1;
            for fact in &self.conflict.facts {
                let names = fact.names();
                let own = match fact {
                    Fact::NeedsAny(whose, _) => *whose == id,
                    _ => names.first() == Some(&id),
                };
                if own && told.insert(fact) {
                    order.push(fact);
                    queue.extend(names.into_iter().filter(|name| *name != id));
                }
            }
        }
        order.extend(
            self.conflict
                .facts
                .iter()
                .filter(|fact| !told.contains(fact)),
        );
        order
    }

    /// The releases of a component that the facts of the conflict leave.
    fn left(&self, id: &Id) -> Vec<&'a Facts> {
        let mut left: Vec<&Facts> = self
            .request
            .releases(id)
            .filter(|facts| {
                let runs = self.runs(facts) || self.request.policy.untested;
                let held = self
                    .held(id)
                    .is_some_and(|held| held.version == facts.version);
                let early = held || !facts.is_early() || self.request.policy.early;
                let again = held && self.has(&Fact::Again(id.clone()));
                !again
                    && (runs || !self.has(&Fact::Runs(id.clone())))
                    && (early || !self.has(&Fact::Early(id.clone())))
                    && (!facts.withdrawn || held || !self.has(&Fact::Withdrawn(id.clone())))
                    && (self.request.allowed_by_pins(facts, held)
                        || !self.has(&Fact::Pinned(id.clone())))
            })
            .collect();
        left.sort_by(|a, b| b.version.cmp(&a.version));
        left.dedup_by(|a, b| a.version == b.version);
        left
    }

    fn runs(&self, facts: &Facts) -> bool {
        facts
            .server
            .as_ref()
            .is_none_or(|range| self.request.runs_somewhere(range))
    }

    fn held(&self, id: &Id) -> Option<&'a Facts> {
        let mut held = self.request.held.iter().map(|held| &held.facts);
        held.find(|facts| facts.id == *id)
    }

    fn no_build(&self) -> String {
        let mut there: Vec<&Version> = self
            .request
            .releases(&self.request.build)
            .filter(|facts| facts.kind == Kind::Build)
            .map(|facts| &facts.version)
            .collect();
        there.sort_unstable();
        there.dedup();
        let target = &self.request.target;
        match there.len() {
            0 => format!("Server {target} is not on offer; no server build is."),
            _ => format!(
                "Server {target} is not on offer. Known builds: {}.",
                versions(&there)
            ),
        }
    }

    fn no_release(&self, id: &Id) -> String {
        let held = self.held(id);
        let mut known: Vec<&Facts> = self.request.releases(id).collect();
        known.sort_by(|a, b| b.version.cmp(&a.version));
        known.dedup_by(|a, b| a.version == b.version);
        let target = &self.request.target;
        if known.is_empty() {
            return format!("{id} was asked for, and no catalogue or drop folder has it.");
        }
        let more = known.len().saturating_sub(LISTED);
        let told = known.iter().take(LISTED).map(|facts| {
            let here = held.is_some_and(|held| held.version == facts.version);
            let here = if here { " (installed)" } else { "" };
            let why = match &facts.server {
                _ if facts.withdrawn && here.is_empty() => "has been withdrawn".into(),
                Some(range) if !self.request.runs_somewhere(range) => format!("is for {range}"),
                _ if facts.is_early() && here.is_empty() => "is a test release".into(),
                _ if self.has(&Fact::Again(id.clone())) && !here.is_empty() => {
                    "is installed in another variant, and its archive is not on offer".into()
                }
                _ if self.asked == Some(id) => "is not the version in question".into(),
                _ => "is ruled out by --keep or [hold]".into(),
            };
            format!("{}{here} {why}", facts.version)
        });
        let told: Vec<String> = told.collect();
        let more = if more > 0 {
            format!("; and {more} older ones")
        } else {
            String::new()
        };
        format!(
            "There is no release of {id} for server {target}: {}{more}.",
            told.join("; ")
        )
    }

    fn sentence(&self, fact: &Fact) -> Option<String> {
        let left = |id: &Id| {
            versions(
                &self
                    .left(id)
                    .iter()
                    .map(|facts| &facts.version)
                    .collect::<Vec<_>>(),
            )
        };
        Some(match fact {
            Fact::Target => match &self.request.target {
                Target::One(version) => format!("The server is to become {version}."),
                Target::Within(range) => format!("The server is to become one of {range}."),
            },
            Fact::Stays(id) if *id == self.request.build => return None,
            Fact::Stays(id) => match (self.request.admit.get(id), self.held(id)) {
                (Some(players), _) => self.who_lets_in(players),
                (None, Some(facts)) if facts.world_bound == Some(true) => {
                    format!("{id} must stay: the world holds its content.")
                }
                (None, Some(_)) => format!("{id} is installed and must stay."),
                (None, None) if self.request.add.contains(id) => format!("{id} was asked for."),
                (None, None) => format!("{id} is in the drop folder."),
            },
            Fact::Runs(id) | Fact::Early(id) | Fact::Withdrawn(id) | Fact::Pinned(id) => {
                let first = [
                    Fact::Runs(id.clone()),
                    Fact::Early(id.clone()),
                    Fact::Withdrawn(id.clone()),
                    Fact::Pinned(id.clone()),
                ];
                let first = first.into_iter().find(|fact| self.has(fact));
                if first.as_ref() != Some(fact) {
                    return None;
                }
                if matches!(fact, Fact::Pinned(_)) && self.asked == Some(id) {
                    return Some(format!("The question is {id} {}.", left(id)));
                }
                let why = match fact {
                    Fact::Runs(_) => format!("for server {}", self.request.target),
                    Fact::Early(_) => "other than test releases".into(),
                    Fact::Withdrawn(_) => "that has not been withdrawn".into(),
                    _ => "that --keep or [hold] allows".into(),
                };
                match self.left(id).len() {
                    0 => format!("{id} has no release {why}."),
                    _ => format!("Releases of {id} {why}: {}.", left(id)),
                }
            }
            Fact::Again(id) => {
                format!(
                    "{id} has to be installed again in another variant, from an archive on offer."
                )
            }
            Fact::Dropped(id) => format!("{id} is to be removed."),
            Fact::Needs(id, other) => {
                let told = self.each(id, |facts| ranges(&facts.needs, other));
                told_needs(id, "needs", other, &told)
            }
            Fact::NeedsInstalled(id, other) => {
                let told = self.each(id, |facts| ranges(&facts.needs_installed, other));
                told_needs(id, "needs to be installed", other, &told)
            }
            Fact::NeedsAny(id, others) => {
                format!(
                    "{id} needs one of {}.",
                    list(&others.iter().collect::<Vec<_>>())
                )
            }
            Fact::Uses(id, other) => {
                let told = self.each(id, |facts| ranges(&facts.uses, other));
                told_needs(id, "works only with", other, &told)
            }
            Fact::Clashes(id, other) => {
                let told = self.each(id, |facts| ranges(&facts.clashes, other));
                told_needs(id, "conflicts with", other, &told)
            }
            Fact::Learned(id, other) => {
                let of = self.request.learned.iter();
                let of = of.filter(|it| it.id == *id && it.other.id == *other);
                let told: Vec<String> = of.map(|it| it.told(&self.request.build)).collect();
                format!("{}.", told.join("; "))
            }
            Fact::UsesProvided(id, other) => {
                let told = self.each(id, |facts| ranges(&facts.uses_provided, other));
                let told = told_needs(id, "works only with whatever stands in for", other, &told);
                told + &self.standing_in(id, other)
            }
            Fact::ClashesProvided(id, other) => {
                let told = self.each(id, |facts| ranges(&facts.clashes_provided, other));
                let told = told_needs(id, "conflicts with whatever stands in for", other, &told);
                told + &self.standing_in(id, other)
            }
            Fact::Replaces(id, other) => {
                format!("{id} replaces {other}; they cannot both be installed.")
            }
            Fact::Companions(id, other) => {
                format!("{id} and {other} must have the same version.")
            }
            Fact::Group(group) => format!("Only one of the group {group} may be active."),
            Fact::Room(kind) => self.room(kind),
            Fact::Framework(id) => {
                let told = self.each(id, |facts| facts.framework.iter().cloned().collect());
                told_needs(id, "runs on framework", &Id::new(""), &told)
            }
            Fact::Runtime(id) => {
                let told = self.each(id, |facts| facts.runtime.iter().cloned().collect());
                told_needs(id, "needs runtime", &Id::new(""), &told)
            }
            Fact::Flavour(id) => {
                let flavours: BTreeSet<&str> = self
                    .left(id)
                    .iter()
                    .filter_map(|f| f.flavour.as_deref())
                    .collect();
                format!(
                    "{id} needs a build that is {}.",
                    flavours.into_iter().collect::<Vec<_>>().join(" or ")
                )
            }
        })
    }

    /// Who lets players in who are to be let in, as a sentence.
    fn who_lets_in(&self, players: &ClientVersion) -> String {
        let held = self.request.held.iter().map(|held| &held.facts);
        let all = held.chain(self.request.offers.iter().map(|offer| &offer.facts));
        let mut by: BTreeMap<&Id, Vec<&Version>> = BTreeMap::new();
        for facts in all.filter(|facts| facts.lets_in(players)) {
            by.entry(&facts.id).or_default().push(&facts.version);
        }
        if by.is_empty() {
            return format!("Nothing that is installed or on offer lets {players} in.");
        }
        let several = by.len() > 1 || by.values().any(|versions| versions.len() > 1);
        let verb = if several { "let" } else { "lets" };
        let told = by.into_iter().map(|(id, mut known)| {
            known.sort_by(|a, b| b.cmp(a));
            known.dedup();
            format!("{id} {}", versions(&known))
        });
        let told: Vec<String> = told.collect();
        format!("Only {} {verb} {players} in.", told.join(" and "))
    }

    /// Of the releases that are left, those that some release asks for which is left and needs the component; all where
    /// nobody asks for any of them. `known` has what was looked up before, and nothing of the components on whose behalf this is.
    fn that_count(&self, id: &Id, known: &mut Counting<'a>) -> Vec<&'a Facts> {
        if let Some(Some(known)) = known.get(id) {
            return known.clone();
        }
        known.insert(id.clone(), None);
        let counting = self.asked_for(id, known);
        known.insert(id.clone(), Some(counting.clone()));
        counting
    }

    fn asked_for(&self, id: &Id, known: &mut Counting<'a>) -> Vec<&'a Facts> {
        let left = self.left(id);
        let needing = self.conflict.facts.iter().filter_map(|fact| match fact {
            Fact::Needs(who, what) | Fact::NeedsInstalled(who, what) if what == id => Some(who),
            _ => None,
        });
        let is_asking = |who: &&Id| matches!(known.get(*who), Some(None));
        let needing: Vec<&Id> = needing.filter(|who| !is_asking(who)).collect();
        if self.has(&Fact::Stays(id.clone())) {
            return left;
        }
        let wished = self.request.admit.iter();
        let wished = wished.filter(|(wish, _)| self.has(&Fact::Stays((*wish).clone())));
        let lets_in = |facts: &&&Facts| wished.clone().any(|(_, players)| facts.lets_in(players));
        let bridges: Vec<&Facts> = left.iter().filter(lets_in).copied().collect();
        if !bridges.is_empty() {
            return bridges;
        }
        if needing.is_empty() {
            return left;
        }
        let needing = needing
            .into_iter()
            .flat_map(|who| self.that_count(who, known));
        let asked: Vec<Range> = needing
            .flat_map(|facts| [ranges(&facts.needs, id), ranges(&facts.needs_installed, id)])
            .flatten()
            .collect();
        let counts = |facts: &&&Facts| asked.iter().any(|range| range.holds_early(&facts.version));
        let counting: Vec<&Facts> = left.iter().filter(counts).copied().collect();
        if counting.is_empty() { left } else { counting }
    }

    /// For each range asked for, the releases that ask for it.
    fn each(
        &self,
        id: &Id,
        asked: impl Fn(&Facts) -> Vec<Range>,
    ) -> Vec<(Range, Vec<&'a Version>)> {
        let mut told: Vec<(Range, Vec<&Version>)> = Vec::new();
        for facts in self.that_count(id, &mut Counting::new()) {
            for range in asked(facts) {
                match told.iter_mut().find(|(known, _)| *known == range) {
                    Some((_, versions)) => versions.push(&facts.version),
                    None => told.push((range, vec![&facts.version])),
                }
            }
        }
        told
    }

    /// What there is of something that is needed, where the story does not say so elsewhere.
    fn supply(&self, other: &Id) -> Option<String> {
        let told_elsewhere = [
            Fact::Runs(other.clone()),
            Fact::Stays(other.clone()),
            Fact::Dropped(other.clone()),
        ];
        if told_elsewhere.iter().any(|fact| self.has(fact)) {
            return None;
        }
        if let Target::One(target) = &self.request.target
            && self.request.build_outside
            && *other == self.request.build
        {
            return Some(format!(" The server program, {other}, is {target}."));
        }
        if let Some(off) = self.request.held_off(other) {
            return Some(match off.id == *other {
                true => format!(" {other} {} is installed and switched off.", off.version),
                false => format!(
                    " {} {}, which stands in for it, is installed and switched off.",
                    off.id, off.version
                ),
            });
        }
        let left = self.left(other);
        if !left.is_empty() {
            let known: Vec<&Version> = left.iter().map(|facts| &facts.version).collect();
            return Some(format!(" Known releases: {}.", versions(&known)));
        }
        let held = self.request.held.iter().map(|held| &held.facts);
        let all = held.chain(self.request.offers.iter().map(|offer| &offer.facts));
        let stands = |facts: &&Facts| facts.stands_for().any(|(id, _)| id == other);
        let standing: BTreeSet<&Id> = all.filter(stands).map(|facts| &facts.id).collect();
        Some(match standing.into_iter().collect::<Vec<_>>()[..] {
            [] => " No catalogue or drop folder has it.".into(),
            [one] => format!(" {one} stands in for it."),
            ref several => format!(" {} stand in for it.", list(several)),
        })
    }

    /// Which of the components that have to be there stand in for another one, as a sentence.
    fn standing_in(&self, besides: &Id, other: &Id) -> String {
        let stands = |id: &&Id| {
            let mut releases = self.left(id).into_iter();
            *id != besides && releases.any(|facts| facts.stands_for().any(|(it, _)| it == other))
        };
        let wished = self.conflict.facts.iter().filter_map(Fact::wish);
        match wished.filter(stands).collect::<Vec<_>>()[..] {
            [] => String::new(),
            [one] if one == other => String::new(),
            [one] => format!(" {one} stands in for it."),
            ref several => format!(" {} stand in for it.", list(several)),
        }
    }

    fn room(&self, kind: &str) -> String {
        let builds = self.left(&self.request.build);
        let most = builds
            .iter()
            .filter_map(|facts| facts.build.has.get(kind))
            .max();
        let mut takes: BTreeMap<&Id, u64> = BTreeMap::new();
        for fact in &self.conflict.facts {
            if let Fact::Stays(id) = fact {
                let least = self
                    .left(id)
                    .iter()
                    .map(|f| f.takes.get(kind).copied().unwrap_or(0))
                    .min();
                takes.extend(least.filter(|least| *least > 0).and_then(|least| {
                    self.conflict
                        .facts
                        .iter()
                        .flat_map(|f| match f {
                            Fact::Stays(other) if other == id => Some((other, least)),
                            _ => None,
                        })
                        .next()
                }));
            }
        }
        let told: Vec<String> = takes
            .iter()
            .map(|(id, takes)| format!("{id} takes {takes}"))
            .collect();
        format!(
            "The server has {} slots for {kind}; together these need more: {}.",
            most.copied().unwrap_or(0),
            told.join(", ")
        )
    }

    fn remedy(&self, remedy: &Remedy) -> String {
        let named = |list: &[(Id, Version)]| {
            let words: Vec<String> = list
                .iter()
                .map(|(id, version)| format!("{id} {version}"))
                .collect();
            words.join(", ")
        };
        match remedy {
            Remedy::Drop { ids, also } => {
                let is_fetched = |id: &&Id| {
                    let offers = self.request.offers.iter();
                    let mut own = offers.filter(|offer| offer.facts.id == **id);
                    self.held(id).is_none() && own.any(|it| it.origin == Origin::DropFolder)
                };
                let (fetched, held): (Vec<&Id>, Vec<&Id>) = ids.iter().partition(is_fetched);
                let mut ways = Vec::new();
                if !fetched.is_empty() {
                    ways.push(format!("take {} out of the drop folder", list(&fetched)));
                }
                if !held.is_empty() {
                    ways.push(format!("remove {}", list(&held)));
                }
                let mut way = ways.join(" and ");
                let also: Vec<&Id> = also.iter().collect();
                if !also.is_empty() {
                    let verb = if held.is_empty() { "remove " } else { "" };
                    let them = if ids.len() > 1 { "them" } else { "it" };
                    way += &format!(", and {verb}what needs {them}: {}", list(&also));
                }
                let removed = held.into_iter().chain(also);
                let options: Vec<String> = removed.map(|id| format!("--drop {id}")).collect();
                match options[..] {
                    [] => way,
                    _ => format!("{way} ({})", options.join(" ")),
                }
            }
            Remedy::Version(version) => format!("server {version} instead (--to {version})"),
            Remedy::Early(releases) => {
                format!("allow test releases (--allow-early): {}", named(releases))
            }
            Remedy::Untested(releases) => {
                format!(
                    "use, untested, what was made for other versions (--allow-untested): {}",
                    named(releases)
                )
            }
            Remedy::Wait(id) => format!(
                "wait for a release of {id} for server {}",
                self.request.target
            ),
            Remedy::Offer(id) => {
                let version = self
                    .held(id)
                    .map_or(String::new(), |it| format!(" {}", it.version));
                format!("provide the archive of {id}{version} (--from DIR or --catalogue FILE)")
            }
            Remedy::Unpin(id) => {
                format!("let {id} change version (without --keep {id}, or [hold] in lantern.toml)")
            }
            Remedy::SwitchOn(id) => format!("switch {id} on (--on {id}, or without --off {id})"),
            Remedy::SwitchOff(id) => {
                format!("switch {id} off (--off {id}, or without --on {id})")
            }
            Remedy::Undrop(id) => format!("keep {id} installed (without --drop {id})"),
            Remedy::Meanwhile {
                players,
                by: (id, version),
                versions,
            } => format!(
                "let in {} {} meanwhile, with {id} {version} (without --admit {}={})",
                players.client,
                versions.words(),
                players.client,
                players.version
            ),
        }
    }
}

fn ranges(needs: &[Need], other: &Id) -> Vec<Range> {
    let named = needs.iter().filter(|need| need.id == *other);
    named.map(|need| need.range.clone()).collect()
}

fn told_needs(id: &Id, verb: &str, other: &Id, told: &[(Range, Vec<&Version>)]) -> String {
    let other = if other.as_str().is_empty() {
        String::new()
    } else {
        format!(" {other}")
    };
    let clauses = told.iter().take(LISTED).map(|(range, of)| {
        let range = if range.is_any() {
            String::new()
        } else {
            format!(" {range}")
        };
        match told.len() == 1 && of.len() != 1 {
            true => format!("{id} {verb}{other}{range}"),
            false if of.len() == 1 => format!("{id} {} {verb}{other}{range}", versions(of)),
            false => format!("{id} {} {}{other}{range}", versions(of), plural(verb)),
        }
    });
    let clauses: Vec<String> = clauses.collect();
    let more: usize = told.iter().skip(LISTED).map(|(_, of)| of.len()).sum();
    match (clauses.len(), more) {
        (0, _) => format!("{id} {verb}{other}."),
        (_, 0) => format!("{}.", clauses.join("; ")),
        _ => format!("{}; and so on, {more} more.", clauses.join("; ")),
    }
}

/// What several do, from what one does: the first word without its ending.
fn plural(verb: &str) -> String {
    let (first, rest) = verb.split_once(' ').unwrap_or((verb, ""));
    let first = first.strip_suffix('s').unwrap_or(first);
    format!("{first} {rest}").trim_end().to_owned()
}

fn versions(versions: &[&Version]) -> String {
    let shown: Vec<&str> = versions
        .iter()
        .take(LISTED)
        .map(|version| version.as_str())
        .collect();
    let more = versions.len() - shown.len();
    match (shown.len(), more) {
        (_, 1..) => format!("{} and {more} more", shown.join(", ")),
        (2.., 0) => format!(
            "{} and {}",
            shown[..shown.len() - 1].join(", "),
            shown[shown.len() - 1]
        ),
        _ => shown.concat(),
    }
}

fn list(ids: &[&Id]) -> String {
    let words: Vec<&str> = ids.iter().map(|id| id.as_str()).collect();
    match words.len() {
        0 => String::new(),
        1 => words[0].into(),
        n if n > 2 * LISTED => format!("{} and {} more", words[..LISTED].join(", "), n - LISTED),
        n => format!("{} and {}", words[..n - 1].join(", "), words[n - 1]),
    }
}
