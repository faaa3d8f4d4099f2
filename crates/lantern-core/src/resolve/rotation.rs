//! What else a conflict needs, read off an answer to all of it but one fact.
//!
//! Such an answer shows that the fact is needed. Where another choice of one component makes that fact hold and hinders just one
//! other, that one is needed as well, and no search has to show it; and so on from there (model rotation: Marques-Silva and Lynce
//! 2011; recursive: Belov and Marques-Silva 2011).

use super::fact::Fact;
use super::model::{Model, Under};
use super::solver::{Expansion, Guard, LITERALS_IN_A_STEP, Lit, Room, Theory, Var};
use foldhash::{HashMap, HashMapExt};
use std::rc::Rc;

/// The variable that is true of each component, by its number in the model; one that is not named is absent.
type Choice = HashMap<usize, Var>;

/// The facts of a conflict, numbered, and what each release means for them.
pub(super) struct Rotation<'m, 'a> {
    model: &'m Model<'a>,
    facts: Vec<Fact>,
    numbers: HashMap<Fact, usize>,
    /// Whether each fact counts; last, what holds in any case.
    counts: Vec<bool>,
    /// Of each component that has to be there: the number of that fact, and what will do.
    there: Vec<(usize, Vec<Var>)>,
    rooms: Vec<(usize, Room)>,
    asks: HashMap<Var, Rc<[Asked]>>,
    looked_at: u64,
}

/// What follows from a choice.
#[derive(Debug)]
enum Asked {
    /// All of these hold where the fact counts.
    All(usize, Rc<[Lit]>),
    /// One of these holds where the fact counts.
    Any(usize, Vec<Lit>),
    /// One of these facts counts.
    Counts(Vec<usize>),
}

impl<'m, 'a> Rotation<'m, 'a> {
    /// Of facts that cannot hold together, and of a guarded model.
    pub(super) fn new(model: &'m Model<'a>, facts: Vec<Fact>) -> Rotation<'m, 'a> {
        let numbers = facts.iter().cloned().zip(0..).collect();
        let mut rotation = Rotation {
            counts: vec![true; facts.len() + 1],
            facts,
            numbers,
            there: Vec::new(),
            rooms: Vec::new(),
            asks: HashMap::new(),
            looked_at: 0,
            model,
        };
        let wishes = rotation.facts.iter().enumerate();
        let wishes = wishes.filter_map(|(at, fact)| Some((at, model.get(fact.wish()?.as_str())?)));
        let there = wishes.map(|(number, component)| {
            let own = component.vars().map(|(var, _)| var);
            (number, own.chain(model.replacers(component)).collect())
        });
        rotation.there = there.collect();
        if rotation.facts.iter().any(|it| matches!(it, Fact::Room(_))) {
            let rooms = model.rooms().into_iter();
            let rooms = rooms.filter_map(|room| Some((rotation.number(room.guard)?, room)));
            rotation.rooms = rooms.collect();
        }
        rotation
    }

    /// The number of what a guard stands for; none of what is no part of the conflict.
    fn number(&self, guard: Option<Guard>) -> Option<usize> {
        let Some(guard) = guard else {
            return Some(self.facts.len());
        };
        let fact = match self.model.under(guard)? {
            Under::Fact(fact) => fact,
            Under::Builds(id) => Fact::Runs(id),
        };
        self.numbers.get(&fact).copied()
    }

    /// Only these facts count from here on.
    pub(super) fn keep(&mut self, facts: &[Fact]) {
        let always = self.facts.len();
        self.counts[..always].fill(false);
        for fact in facts {
            self.counts[self.numbers[fact]] = true;
        }
    }

    /// How many steps of a search would have taken the time, since this was asked last.
    pub(super) fn take_steps(&mut self) -> u64 {
        std::mem::take(&mut self.looked_at) / LITERALS_IN_A_STEP
    }

    /// Calls `needed` with each fact that it comes to, from a choice that hinders only one; it says whether to go on from there.
    pub(super) fn turn(
        &mut self,
        chosen: impl Iterator<Item = Var>,
        fact: &Fact,
        mut needed: impl FnMut(&Fact) -> bool,
    ) {
        let choice: Choice = chosen.map(|var| (self.model.number_of(var), var)).collect();
        debug_assert_eq!(self.only_hindered(&choice), Some(self.numbers[fact]));
        let mut next = vec![(choice, self.numbers[fact])];
        while let Some((choice, hindered)) = next.pop() {
            let named = self.facts[hindered].names();
            for component in named.iter().filter_map(|id| self.model.get(id.as_str())) {
                let releases = component.vars().map(|(var, _)| var);
                for var in releases.chain([component.absent()]) {
                    let mut other = choice.clone();
                    other.insert(self.model.number_of(var), var);
                    if let Some(fact) = self.only_hindered(&other)
                        && fact != hindered
                        && needed(&self.facts[fact])
                    {
                        next.push((other, fact));
                    }
                }
            }
        }
    }

    /// The one fact that a choice hinders; none where it hinders several, or what holds in any case.
    fn only_hindered(&mut self, choice: &Choice) -> Option<usize> {
        let model = self.model;
        let is_true = |var: Var| match choice.get(&model.number_of(var)) {
            Some(chosen) => *chosen == var,
            None => model.component_of(var).absent() == var,
        };
        let holds = |lit: &Lit| is_true(lit.var()) != lit.is_negative();
        let asks: Vec<Rc<[Asked]>> = choice.values().map(|var| self.asks(*var)).collect();
        let mut hindered = None;
        // Whether that leaves only one.
        let mut judge = |fact: usize, is_met: bool| {
            is_met || !self.counts[fact] || *hindered.get_or_insert(fact) == fact
        };
        for (fact, ways) in &self.there {
            self.looked_at += ways.len() as u64;
            if !judge(*fact, ways.iter().any(|var| is_true(*var))) {
                return None;
            }
        }
        for asked in asks.iter().flat_map(|asks| asks.iter()) {
            let (fact, is_met, length) = match asked {
                Asked::All(fact, lits) => (*fact, lits.iter().all(holds), lits.len()),
                Asked::Any(fact, lits) => (*fact, lits.iter().any(holds), lits.len()),
                Asked::Counts(_) => continue,
            };
            self.looked_at += length as u64;
            if !judge(fact, is_met) {
                return None;
            }
        }
        for (fact, room) in &self.rooms {
            let takes = room.takes.iter().filter(|(var, _)| is_true(**var));
            let taken: u64 = takes.map(|(_, takes)| takes).sum();
            let mut builds = room.has.iter();
            if !judge(
                *fact,
                builds.all(|(build, has)| !is_true(*build) || taken <= *has),
            ) {
                return None;
            }
        }
        let hindered = hindered.filter(|fact| *fact < self.facts.len())?;
        let counts = |fact: &usize| self.counts[*fact] && *fact != hindered;
        let mut asks = asks.iter().flat_map(|asks| asks.iter());
        let stands = asks.all(|asked| match asked {
            Asked::Counts(facts) => facts.iter().any(counts),
            Asked::All(..) | Asked::Any(..) => true,
        });
        stands.then_some(hindered)
    }

    /// What follows from a variable, as far as it concerns the facts.
    fn asks(&mut self, var: Var) -> Rc<[Asked]> {
        if let Some(asks) = self.asks.get(&var) {
            return asks.clone();
        }
        let mut asks = Vec::new();
        let left_out = self.model.left_out_of(self.model.component_of(var));
        for (guard, _) in left_out.while_counts.iter().filter(|(_, own)| *own == var) {
            let never: Rc<[Lit]> = Rc::new([Lit::not(var)]);
            asks.extend(
                self.number(Some(*guard))
                    .map(|fact| Asked::All(fact, never)),
            );
        }
        for (_, guards) in left_out.unless_count.iter().filter(|(own, _)| *own == var) {
            let facts = guards.iter().filter_map(|guard| self.number(Some(*guard)));
            asks.push(Asked::Counts(facts.collect()));
        }
        let mut found = Expansion::default();
        let mut theory = self.model;
        theory.expand(var, &mut found);
        for (guard, from, until) in found.parts() {
            let Some(fact) = self.number(guard) else {
                continue;
            };
            let implied = &found.implies[from.implies..until.implies];
            let bundles = &found.bundles[from.bundles..until.bundles];
            let demands = &found.demands[from.demands..until.demands];
            asks.push(Asked::All(fact, implied.into()));
            asks.extend(
                bundles
                    .iter()
                    .map(|it| Asked::All(fact, theory.bundle(*it))),
            );
            asks.extend(demands.iter().map(|it| Asked::Any(fact, it.clone())));
        }
        let asks: Rc<[Asked]> = asks.into();
        self.asks.insert(var, asks.clone());
        asks
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::world;
    use super::*;
    use crate::component::Id;
    use std::collections::BTreeSet;

    #[test]
    fn one_answer_shows_what_else_is_needed() {
        let request = world(
            "+ server 5.4
             server 5.4
             + amber 1 needs lib:>=2
             + birch 1 needs lib:<2
             lib 2
             lib 1",
        );
        let model = Model::guarded(&request);
        let id = Id::new;
        let stays = ["amber", "birch"].map(|name| Fact::Stays(id(name)));
        let needs = ["amber", "birch"].map(|name| Fact::Needs(id(name), id("lib")));
        let all: Vec<Fact> = stays.into_iter().chain(needs.clone()).collect();
        let newest = ["amber", "birch", "lib"].map(|name| model.get(name).unwrap().var(0));
        let mut rotation = Rotation::new(&model, all.clone());
        let mut found = BTreeSet::from([needs[1].clone()]);
        rotation.turn(newest.into_iter(), &needs[1], |fact| {
            found.insert(fact.clone())
        });
        assert_eq!(found, all.into_iter().collect());
    }
}
