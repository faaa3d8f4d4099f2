//! A conflict-learning search over small domains.
//!
//! Every component is a domain of which exactly one variable is true: one for each release, and one for
//! "absent". What a release asks for is looked up only when it is first chosen (the [`Theory`] tells),
//! so that releases nobody tries cost nothing. Conflicts are learned as clauses at the first unique
//! implication point; the search restarts from what was learned most about.
//!
//! What a release asks for may stand under a guard: then it counts only in questions in which the guard
//! does, so that one search answers many questions that differ in what counts.
//!
//! All of it is deterministic: no clock, no chance. Effort is counted in steps.

mod budget;
mod guards;
mod learning;
mod log;
mod places;
mod rooms;

use super::heap::ActivityHeap;
pub(super) use budget::Budget;
use foldhash::{HashMap, HashMapExt};
pub(super) use guards::{Counting, Guard};
use log::Log;
pub(super) use log::{Crowd, Step};
use places::Places;
use rooms::{Count, Rooms};
use std::rc::Rc;
use thin_vec::ThinVec;

/// A variable: a release, an "absent", or a helper.
pub(super) type Var = u32;

/// A variable or its negation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Lit(u32);

impl Lit {
    pub(super) fn is(var: Var) -> Lit {
        Lit(var << 1)
    }

    pub(super) fn not(var: Var) -> Lit {
        Lit(var << 1 | 1)
    }

    pub(super) fn var(self) -> Var {
        self.0 >> 1
    }

    pub(super) fn is_negative(self) -> bool {
        self.0 & 1 == 1
    }

    fn index(self) -> usize {
        self.0 as usize
    }
}

impl std::ops::Not for Lit {
    type Output = Lit;

    fn not(self) -> Lit {
        Lit(self.0 ^ 1)
    }
}

/// Tells what a variable asks for once it is true.
pub(super) trait Theory {
    /// Writes down what follows from the variable.
    fn expand(&mut self, var: Var, out: &mut Expansion);

    /// What is in a bundle.
    fn bundle(&self, number: u32) -> Rc<[Lit]>;
}

/// What follows from a variable.
#[derive(Debug, Default)]
pub(super) struct Expansion {
    /// Each of these holds.
    pub(super) implies: Vec<Lit>,
    /// Everything in each of these holds: it is stored once for all variables from which it follows.
    pub(super) bundles: Vec<u32>,
    /// Of each of these lists one holds; the lowest variable is preferred.
    pub(super) demands: Vec<Vec<Lit>>,
    /// Guards, each with the lengths from which on what follows stands under it, up to the next one's.
    guards: Vec<(Guard, Lengths)>,
}

/// How far the lists of an expansion go.
#[derive(Debug, Clone, Copy)]
pub(super) struct Lengths {
    pub(super) implies: usize,
    pub(super) bundles: usize,
    pub(super) demands: usize,
}

impl Expansion {
    /// What is written down from here on counts only where the guard does.
    pub(super) fn under(&mut self, guard: Guard) {
        self.guards.push((guard, self.end()));
    }

    /// What it follows from cannot be, where that is so.
    pub(super) fn cannot_be_where(&mut self, is_so: bool) {
        if is_so {
            self.demands.push(Vec::new());
        }
    }

    fn end(&self) -> Lengths {
        Lengths {
            implies: self.implies.len(),
            bundles: self.bundles.len(),
            demands: self.demands.len(),
        }
    }

    fn clear(&mut self) {
        self.implies.clear();
        self.bundles.clear();
        self.demands.clear();
        self.guards.clear();
    }

    /// What stands under each guard, from where to where; first what stands under none.
    pub(super) fn parts(&self) -> impl Iterator<Item = (Option<Guard>, Lengths, Lengths)> {
        let start = Lengths {
            implies: 0,
            bundles: 0,
            demands: 0,
        };
        let own = self
            .guards
            .iter()
            .map(|(guard, from)| (Some(*guard), *from));
        let until = self.guards.iter().map(|(_, from)| *from);
        let parts = std::iter::once((None, start)).chain(own);
        let untils = until.chain([self.end()]);
        parts
            .zip(untils)
            .map(|((guard, from), until)| (guard, from, until))
    }
}

/// Room of one kind: what chosen variables take, and what each build has.
#[derive(Debug, Clone, Default)]
pub(super) struct Room {
    /// What a variable takes.
    pub(super) takes: std::collections::BTreeMap<Var, u64>,
    /// What a build has.
    pub(super) has: Vec<(Var, u64)>,
    /// What it counts under, where it does not always.
    pub(super) guard: Option<Guard>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reason {
    /// Decided, assumed or given.
    None,
    /// The clause has no other literal left.
    Clause(u32),
    /// This true literal implies it.
    Because(Lit),
    /// All others of its domain are false.
    Last,
    /// It would go beyond this budget.
    Budget(u32),
}

#[derive(Debug, Clone, Copy)]
struct Clause {
    start: u32,
    length: u32,
    learned: bool,
    /// How many decision levels meet in it: fewer are better.
    glue: u32,
    /// How often forgetting passes it by.
    used: u8,
}

#[derive(Debug, Clone, Copy)]
struct Watch {
    clause: u32,
    /// When this holds, so does the clause.
    other: Lit,
}

#[derive(Debug, Clone, Copy)]
struct Domain {
    first: Var,
    length: u32,
    /// How many are not false.
    left: u32,
    /// Whether nothing is to be decided while its first may be true.
    idle: bool,
}

/// One of whose variables exactly one is true.
#[derive(Debug, Clone, Copy)]
pub(super) struct Extent {
    /// How many variables.
    pub(super) length: u32,
    /// Whether its first is what is so where nothing asks for another: then it is not decided, and none of it is true.
    pub(super) idle: bool,
}

#[derive(Debug, Clone, Copy)]
struct Level {
    trail: usize,
    demands: usize,
    demand_head: usize,
    next_domain: usize,
}

/// What a search came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Outcome {
    /// There is an answer; [`Solver::is_true`] tells it.
    Found,
    /// There is none under these assumptions.
    Impossible(Vec<Lit>),
    /// The steps are used up, or there is news for [`Solver::solve_most`].
    GaveUp,
}

const NO_DOMAIN: u32 = u32::MAX;
/// A way back over more levels than this is not gone at once: only the last level is taken back, and
/// what was learned takes its place in the middle of the trail (chronological backtracking, Nadel and
/// Ryvchin 2018). Otherwise thousands of decisions that have nothing to do with a conflict are made anew.
const FAR: usize = if cfg!(test) { 1 } else { 50 };
/// Where most conflicts are is looked at once as many were met as this part of the domains: before, they say little of the
/// whole, and what many need is best decided after those that need it.
const CONFLICTS_TELL: usize = 8;
/// How many of the most active domains are compared for each decision.
const MOST_COMPARED: usize = 24;
/// So many clauses, and so many of their literals, are looked at in the time of a step.
const WATCHES_IN_A_STEP: u64 = 8;
pub(super) const LITERALS_IN_A_STEP: u64 = 32;
/// Conflicts between restarts, times the terms of the Luby sequence.
const RESTART: u64 = if cfg!(test) { 2 } else { 64 };

/// The search. See the module's description.
pub(super) struct Solver<T> {
    pub(super) theory: T,
    value: Vec<i8>,
    level_of: Vec<u32>,
    reason: Vec<Reason>,
    /// Where each variable that is set stands on the trail.
    position: Vec<u32>,
    expanded: Vec<bool>,
    domain_of: Vec<u32>,
    marked: Vec<bool>,
    /// While a clause is shortened: whether what is false follows from the rest of it, and of which that was judged.
    follows: Vec<Option<bool>>,
    judged: Vec<Var>,
    domains: Vec<Domain>,
    literals: Vec<Lit>,
    clauses: Vec<Clause>,
    learned: usize,
    /// With so many learned, some are forgotten.
    most_learned: usize,
    /// How many were forgotten so far.
    pub(super) forgotten: usize,
    watches: Vec<ThinVec<Watch>>,
    implied: Vec<ThinVec<Lit>>,
    demands_of: Vec<ThinVec<u32>>,
    trail: Vec<Lit>,
    head: usize,
    levels: Vec<Level>,
    demands: Vec<u32>,
    demand_head: usize,
    next_domain: usize,
    heap: ActivityHeap,
    rooms: Rooms,
    places: Places,
    budgets: Vec<Budget>,
    /// Whether far more is known of takers and places ([`Solver::places`]) than when this was last said to be old.
    pub(super) has_news: bool,
    bundles: HashMap<u32, Lit>,
    guards: Vec<Var>,
    /// The guards that have to be false where they do not count, in order; from most nothing follows then.
    told_when_off: Vec<Guard>,
    counting: Counting,
    /// Of each domain, what was chosen in the last answer in which all but a few guards counted.
    last: Vec<Option<Var>>,
    impossible: bool,
    /// Conflicts met for the question at hand.
    met: usize,
    /// Whether literals of lower levels may lie above those of higher ones on the trail.
    out_of_order: bool,
    /// Steps taken so far: literals propagated, and the clauses looked at for them.
    pub(super) steps: u64,
    scratch: Expansion,
    antecedents: Vec<Lit>,
    log: Log,
}

impl<T: Theory> Solver<T> {
    /// A search over domains; the variables count on from domain to domain, each domain's in the order of
    /// preference.
    pub(super) fn new(
        theory: T,
        extents: impl Iterator<Item = Extent>,
        rooms: Vec<Room>,
    ) -> Solver<T> {
        let mut domains = Vec::new();
        let mut first = 0;
        for Extent { length, idle } in extents {
            domains.push(Domain {
                first,
                length,
                left: length,
                idle,
            });
            first += length;
        }
        let mut solver = Solver {
            theory,
            value: Vec::new(),
            level_of: Vec::new(),
            reason: Vec::new(),
            position: Vec::new(),
            expanded: Vec::new(),
            domain_of: Vec::new(),
            marked: Vec::new(),
            follows: Vec::new(),
            judged: Vec::new(),
            literals: Vec::new(),
            clauses: Vec::new(),
            learned: 0,
            forgotten: 0,
            most_learned: 2 * learning::LEARNED_BEFORE_FORGETTING,
            watches: Vec::new(),
            implied: Vec::new(),
            demands_of: Vec::new(),
            trail: Vec::new(),
            head: 0,
            levels: Vec::new(),
            demands: Vec::new(),
            demand_head: 0,
            next_domain: 0,
            heap: ActivityHeap::new(domains.len()),
            rooms: Rooms::new(Vec::new(), &[]),
            places: Places::default(),
            budgets: Vec::new(),
            has_news: false,
            bundles: HashMap::new(),
            guards: Vec::new(),
            told_when_off: Vec::new(),
            counting: Counting::All,
            last: vec![None; domains.len()],
            impossible: false,
            met: 0,
            out_of_order: false,
            steps: 0,
            scratch: Expansion::default(),
            antecedents: Vec::new(),
            log: Log::default(),
            domains,
        };
        solver.grow(first as usize);
        for (index, domain) in solver.domains.iter().enumerate() {
            let range = domain.first as usize..(domain.first + domain.length) as usize;
            solver.domain_of[range].fill(index as u32);
        }
        solver.rooms = Rooms::new(rooms, &solver.domain_of);
        solver.impossible = solver.domains.iter().any(|domain| domain.length == 0);
        for index in 0..solver.domains.len() {
            // Where there is no choice there will be no decision.
            let Domain { first, length, .. } = solver.domains[index];
            if length == 1 {
                solver.set(Lit::is(first), Reason::Last);
            }
        }
        solver
    }

    fn grow(&mut self, vars: usize) {
        self.value.resize(vars, 0);
        self.level_of.resize(vars, 0);
        self.reason.resize(vars, Reason::None);
        self.position.resize(vars, 0);
        self.expanded.resize(vars, false);
        self.domain_of.resize(vars, NO_DOMAIN);
        self.marked.resize(vars, false);
        self.follows.resize(vars, None);
        self.demands_of.resize(vars, ThinVec::new());
        self.watches.resize(2 * vars, ThinVec::new());
        self.implied.resize(2 * vars, ThinVec::new());
    }

    /// A new helper variable, in no domain.
    pub(super) fn helper(&mut self) -> Var {
        let var = self.value.len();
        self.grow(var + 1);
        self.expanded[var] = true;
        var as Var
    }

    /// What is concluded from here on is kept, step by step.
    pub(super) fn begin_log(&mut self) {
        self.log.begin();
    }

    /// What was concluded since the log was begun; nothing more is kept.
    pub(super) fn take_log(&mut self) -> Vec<Step> {
        self.log.take()
    }

    /// Whether a variable is true in the last answer.
    pub(super) fn is_true(&self, var: Var) -> bool {
        self.value[var as usize] > 0
    }

    /// The variables of domains that are true in the last answer.
    pub(super) fn chosen(&self) -> impl Iterator<Item = Var> {
        let chosen = self.trail.iter().filter(|lit| !lit.is_negative());
        let chosen = chosen.map(|lit| lit.var());
        chosen.filter(|var| self.domain_of[*var as usize] != NO_DOMAIN)
    }

    /// Which variables are true, by number; those that the search has made for itself come last.
    pub(super) fn answer(&self) -> Vec<bool> {
        self.value.iter().map(|value| *value > 0).collect()
    }

    /// Whether a variable is false whatever is chosen.
    pub(super) fn is_never(&self, var: Var) -> bool {
        self.value[var as usize] < 0 && self.level_of[var as usize] == 0
    }

    fn truth(&self, lit: Lit) -> i8 {
        let value = self.value[lit.var() as usize];
        if lit.is_negative() { -value } else { value }
    }

    /// Adds a clause that always holds; takes the search back to its beginning.
    pub(super) fn require(&mut self, lits: &[Lit]) {
        self.back_to(0);
        self.log.note(|| Step::Follows(lits.to_vec()));
        if lits.iter().any(|lit| self.truth(*lit) > 0) {
            return;
        }
        let open: Vec<Lit> = lits
            .iter()
            .copied()
            .filter(|lit| self.truth(*lit) == 0)
            .collect();
        match open[..] {
            [] => self.impossible = true,
            [lit] => {
                self.set(lit, Reason::None);
                if self.propagate().is_some() {
                    self.impossible = true;
                }
            }
            [a, b] => {
                self.implied[(!a).index()].push(b);
                self.implied[(!b).index()].push(a);
            }
            _ => {
                self.store(&open, false, 0);
            }
        }
    }

    /// Each of these holds where the first does, which is not known to hold; takes the search back to its beginning.
    pub(super) fn require_each(&mut self, from: Lit, lits: &[Lit]) {
        self.back_to(0);
        debug_assert!(self.truth(from) <= 0);
        self.log_each(from, lits.iter().copied());
        self.all_follow(from, lits);
    }

    /// One of these holds where a helper does; a decision sees to it where nothing else does. Takes the search back to
    /// its beginning.
    pub(super) fn require_with(&mut self, helper: Var, lits: &[Lit]) {
        self.back_to(0);
        if lits.iter().any(|lit| self.truth(*lit) > 0) {
            return;
        }
        let open = lits.iter().copied().filter(|lit| self.truth(*lit) == 0);
        let clause: Vec<Lit> = std::iter::once(Lit::not(helper)).chain(open).collect();
        if clause.len() == 1 {
            return self.require(&clause);
        }
        self.demands_of[helper as usize].push(self.clauses.len() as u32);
        self.store(&clause, false, 0);
    }

    fn store(&mut self, lits: &[Lit], learned: bool, glue: u32) -> u32 {
        let clause = self.clauses.len() as u32;
        self.clauses.push(Clause {
            start: self.literals.len() as u32,
            length: lits.len() as u32,
            learned,
            glue,
            used: 2,
        });
        self.learned += usize::from(learned);
        self.literals.extend_from_slice(lits);
        for (own, other) in [(lits[0], lits[1]), (lits[1], lits[0])] {
            self.watches[(!own).index()].push(Watch { clause, other });
        }
        clause
    }

    fn lits(&self, clause: u32) -> std::ops::Range<usize> {
        let Clause { start, length, .. } = self.clauses[clause as usize];
        start as usize..(start + length) as usize
    }

    fn set(&mut self, lit: Lit, reason: Reason) {
        let var = lit.var() as usize;
        self.value[var] = if lit.is_negative() { -1 } else { 1 };
        self.position[var] = self.trail.len() as u32;
        self.level_of[var] = match (reason, self.out_of_order) {
            (Reason::None, _) | (_, false) => self.levels.len() as u32,
            _ => self.level_by(lit, reason),
        };
        self.reason[var] = reason;
        if lit.is_negative() && self.domain_of[var] != NO_DOMAIN {
            self.domains[self.domain_of[var] as usize].left -= 1;
        }
        self.rooms.note(lit.var());
        self.trail.push(lit);
    }

    /// The level at which a reason holds: that of its latest literal.
    fn level_by(&self, lit: Lit, reason: Reason) -> u32 {
        let of = |other: Lit| self.level_of[other.var() as usize];
        match reason {
            Reason::None => self.levels.len() as u32,
            Reason::Because(other) => of(other),
            Reason::Clause(clause) => {
                let lits = self.literals[self.lits(clause)].iter();
                lits.filter(|other| **other != lit)
                    .map(|other| of(*other))
                    .max()
                    .unwrap_or(0)
            }
            Reason::Last => {
                let Domain { first, length, .. } =
                    self.domains[self.domain_of[lit.var() as usize] as usize];
                let others = (first..first + length).filter(|other| *other != lit.var());
                others
                    .map(|other| self.level_of[other as usize])
                    .max()
                    .unwrap_or(0)
            }
            Reason::Budget(budget) => {
                let mut found = Vec::new();
                self.not_allowed_by(budget, lit, self.levels.len() as u32, &mut found);
                found.into_iter().map(of).max().unwrap_or(0)
            }
        }
    }

    fn back_to(&mut self, level: usize) {
        if self.levels.len() <= level {
            return;
        }
        let mark = self.levels[level];
        let mut stays = Vec::new();
        for index in mark.trail..self.trail.len() {
            let lit = self.trail[index];
            let var = lit.var() as usize;
            if self.level_of[var] as usize <= level {
                stays.push(lit);
                continue;
            }
            self.value[var] = 0;
            let domain = self.domain_of[var];
            if domain != NO_DOMAIN {
                if lit.is_negative() {
                    self.domains[domain as usize].left += 1;
                } else {
                    self.heap.offer(domain);
                }
            }
        }
        self.trail.truncate(mark.trail);
        self.demands.truncate(mark.demands);
        self.demand_head = mark.demand_head;
        self.next_domain = mark.next_domain;
        self.head = mark.trail;
        for lit in stays {
            self.position[lit.var() as usize] = self.trail.len() as u32;
            self.trail.push(lit);
        }
        self.levels.truncate(level);
        self.out_of_order &= level > 0;
        self.rooms.forget();
    }

    /// Draws all conclusions; returns the literals of a clause that cannot hold, all of them false.
    fn propagate(&mut self) -> Option<Vec<Lit>> {
        while self.head < self.trail.len() {
            let lit = self.trail[self.head];
            self.head += 1;
            self.steps += 1;
            let conflict = if lit.is_negative() {
                self.after_false(lit.var())
            } else {
                self.after_true(lit.var())
            };
            if conflict.is_some() {
                return conflict;
            }
            let conflict = self.after_implied(lit).or_else(|| self.after_watched(lit));
            if conflict.is_some() {
                return conflict;
            }
        }
        None
    }

    /// Draws all conclusions, and those from counting; it has been said what counts.
    fn conclude(&mut self) -> Option<Vec<Lit>> {
        loop {
            if let Some(conflict) = self.propagate() {
                return Some(conflict);
            }
            let counted = match self.count_rooms() {
                Count::Enough => self.count_budgets(),
                counted => counted,
            };
            match counted {
                Count::Enough => return self.crowded(),
                Count::LeavesOut => {}
                Count::TooMuch(conflict) => return Some(conflict),
            }
        }
    }

    fn after_false(&mut self, var: Var) -> Option<Vec<Lit>> {
        let domain = self.domain_of[var as usize];
        if domain == NO_DOMAIN {
            return None;
        }
        let Domain {
            first,
            length,
            left,
            idle,
        } = self.domains[domain as usize];
        if idle && var == first {
            self.next_domain = self.next_domain.min(domain as usize);
            self.heap.offer(domain);
        }
        let members = first..first + length;
        match left {
            0 => Some(members.map(Lit::is).collect()),
            1 => {
                let mut open = members.filter(|var| self.value[*var as usize] >= 0);
                let last = open.next()?;
                if self.value[last as usize] == 0 {
                    self.set(Lit::is(last), Reason::Last);
                }
                None
            }
            _ => None,
        }
    }

    fn after_true(&mut self, var: Var) -> Option<Vec<Lit>> {
        let domain = self.domain_of[var as usize];
        if domain != NO_DOMAIN {
            let Domain { first, length, .. } = self.domains[domain as usize];
            for other in first..first + length {
                match self.value[other as usize] {
                    _ if other == var => {}
                    0 => self.set(Lit::not(other), Reason::Because(Lit::is(var))),
                    1 => return Some(vec![Lit::not(var), Lit::not(other)]),
                    _ => {}
                }
            }
        }
        if !self.expanded[var as usize] {
            self.expanded[var as usize] = true;
            if let Some(conflict) = self.expand(var) {
                return Some(conflict);
            }
        }
        for demand in &self.demands_of[var as usize] {
            self.demands.push(*demand);
        }
        None
    }

    /// Looks up what a variable asks for before it is chosen; whether anything was concluded from that. What cannot be chosen
    /// beside what is chosen already is seen so without a conflict.
    fn looks_up(&mut self, lit: Lit) -> bool {
        if lit.is_negative() || std::mem::replace(&mut self.expanded[lit.var() as usize], true) {
            return false;
        }
        let before = self.trail.len();
        // It may follow from levels below this one.
        self.out_of_order |= !self.levels.is_empty();
        // What comes of it alone shows when it is chosen.
        self.expand(lit.var());
        self.trail.len() > before
    }

    /// Learns what a variable asks for; it has just become true, or is about to.
    fn expand(&mut self, var: Var) -> Option<Vec<Lit>> {
        let mut found = std::mem::take(&mut self.scratch);
        found.clear();
        self.theory.expand(var, &mut found);
        let own = Lit::is(var);
        let mut conflict = None;
        for (guard, from, until) in found.parts() {
            let guard = guard.map(|guard| self.guard(guard));
            let lits = &found.implies[from.implies..until.implies];
            self.log_each(own, lits.iter().copied());
            let against = self.add_implied(own, guard, lits);
            conflict = conflict.or(against);
            for number in &found.bundles[from.bundles..until.bundles] {
                let all = self.bundle(*number);
                if self.log.is_kept() {
                    let lits = self.theory.bundle(*number);
                    self.log_each(own, lits.iter().copied().chain([all]));
                }
                let against = self.add_implied(own, guard, &[all]);
                conflict = conflict.or(against);
            }
            for demand in &found.demands[from.demands..until.demands] {
                // All are stored, also behind a conflict: a variable is looked up only once.
                let off = guard.iter().map(|guard| !*guard);
                let demand: Vec<Lit> = off.chain(demand.iter().copied()).collect();
                let against = self.add_demand(own, &demand);
                conflict = conflict.or(against);
            }
        }
        self.scratch = found;
        conflict
    }

    /// Each of these holds where the first does.
    fn log_each(&mut self, own: Lit, lits: impl Iterator<Item = Lit>) {
        for lit in lits {
            self.log.note(|| Step::Follows(vec![!own, lit]));
        }
    }

    /// The literal that says that everything in a bundle holds.
    fn bundle(&mut self, number: u32) -> Lit {
        if let Some(lit) = self.bundles.get(&number) {
            return *lit;
        }
        let all = Lit::is(self.helper());
        let lits = self.theory.bundle(number);
        self.log.note(|| Step::All(all.var(), lits.to_vec()));
        self.all_follow(all, &lits);
        self.one_is_left(all, &lits);
        self.bundles.insert(number, all);
        all
    }

    /// Each of these holds where the first does, and it does not where one of them does not.
    fn all_follow(&mut self, from: Lit, lits: &[Lit]) {
        for lit in lits {
            self.implied[from.index()].push(*lit);
            self.implied[(!*lit).index()].push(!from);
        }
        let level = |lit: &&Lit| self.level_of[lit.var() as usize];
        let against = lits.iter().filter(|lit| self.truth(**lit) < 0);
        if let Some(lit) = against.min_by_key(level)
            && self.truth(from) == 0
        {
            self.out_of_order |= !self.levels.is_empty();
            self.set(!from, Reason::Because(!*lit));
        }
    }

    /// Where a helper leaves out some of one domain, it holds only while one of the others is left: so what asks for them is seen
    /// to be impossible before it is tried.
    fn one_is_left(&mut self, helper: Lit, out: &[Lit]) {
        let domain = self.domain_of[out[0].var() as usize];
        let is_left_out =
            |lit: &Lit| lit.is_negative() && self.domain_of[lit.var() as usize] == domain;
        if domain == NO_DOMAIN || !out.iter().all(is_left_out) {
            return;
        }
        let Domain { first, length, .. } = self.domains[domain as usize];
        let mut is_left = vec![true; length as usize];
        for lit in out {
            is_left[(lit.var() - first) as usize] = false;
        }
        let left = (first..first + length)
            .zip(is_left)
            .filter(|(_, is_left)| *is_left);
        let left = left.map(|(var, _)| Lit::is(var));
        let clause: Vec<Lit> = std::iter::once(!helper).chain(left).collect();
        if clause.len() > 1 {
            self.log.note(|| Step::Follows(clause.clone()));
            self.add_now(clause);
        }
    }

    /// Where `own` holds and the guard counts, each of these does.
    fn add_implied(&mut self, own: Lit, guard: Option<Lit>, lits: &[Lit]) -> Option<Vec<Lit>> {
        match (guard, lits) {
            (None, lits) => {
                self.all_follow(own, lits);
                None
            }
            (_, []) => None,
            (Some(guard), [lit]) => self.add_now(vec![!own, !guard, *lit]),
            (Some(guard), lits) => {
                let all = Lit::is(self.helper());
                self.all_follow(all, lits);
                self.add_now(vec![!own, !guard, all])
            }
        }
    }

    /// One of these holds where `own` does; it is met by a decision where nothing else meets it.
    fn add_demand(&mut self, own: Lit, demand: &[Lit]) -> Option<Vec<Lit>> {
        let mut lits = vec![!own];
        lits.extend_from_slice(demand);
        if lits.len() == 1 {
            // Kept like the others, as another demand's conflict may be the one that is told.
            self.implied[own.index()].push(!own);
            return Some(lits);
        }
        let clause = self.clauses.len() as u32;
        self.demands_of[own.var() as usize].push(clause);
        self.add_now(lits)
    }

    /// Stores a clause of at least two literals in the middle of the search, and draws its conclusion; when all its literals
    /// are false, it is returned.
    fn add_now(&mut self, mut lits: Vec<Lit>) -> Option<Vec<Lit>> {
        // The two watched first: what is not false, or else what became false last.
        let key = |solver: &Self, lit: Lit| match solver.truth(lit) {
            -1 => solver.level_of[lit.var() as usize],
            _ => u32::MAX,
        };
        for place in 0..2 {
            let best = (place..lits.len()).max_by_key(|i| (key(self, lits[*i]), usize::MAX - i));
            lits.swap(place, best?);
        }
        let clause = self.store(&lits, false, 0);
        match (self.truth(lits[0]), self.truth(lits[1])) {
            (-1, _) => Some(lits),
            (0, -1) => {
                self.set(lits[0], Reason::Clause(clause));
                None
            }
            _ => None,
        }
    }

    fn after_implied(&mut self, lit: Lit) -> Option<Vec<Lit>> {
        for index in 0..self.implied[lit.index()].len() {
            let other = self.implied[lit.index()][index];
            match self.truth(other) {
                0 => self.set(other, Reason::Because(lit)),
                -1 => return Some(vec![!lit, other]),
                _ => {}
            }
        }
        None
    }

    fn after_watched(&mut self, lit: Lit) -> Option<Vec<Lit>> {
        let mut watches = std::mem::take(&mut self.watches[lit.index()]);
        let mut kept = 0;
        let mut conflict = None;
        let mut index = 0;
        let mut looked = 0;
        'watches: while index < watches.len() {
            let watch = watches[index];
            index += 1;
            if self.truth(watch.other) > 0 {
                watches[kept] = watch;
                kept += 1;
                continue;
            }
            let range = self.lits(watch.clause);
            if self.literals[range.start] == !lit {
                self.literals.swap(range.start, range.start + 1);
            }
            let first = self.literals[range.start];
            let again = Watch {
                clause: watch.clause,
                other: first,
            };
            if self.truth(first) > 0 {
                watches[kept] = again;
                kept += 1;
                continue;
            }
            for place in range.start + 2..range.end {
                let other = self.literals[place];
                looked += 1;
                if self.truth(other) >= 0 {
                    self.literals.swap(range.start + 1, place);
                    self.watches[(!other).index()].push(again);
                    continue 'watches;
                }
            }
            watches[kept] = again;
            kept += 1;
            if self.truth(first) < 0 {
                conflict = Some(self.literals[range].to_vec());
                break;
            }
            self.set(first, Reason::Clause(watch.clause));
        }
        self.steps += index as u64 / WATCHES_IN_A_STEP + looked / LITERALS_IN_A_STEP;
        while index < watches.len() {
            watches[kept] = watches[index];
            kept += 1;
            index += 1;
        }
        watches.truncate(kept);
        debug_assert!(self.watches[lit.index()].is_empty());
        self.watches[lit.index()] = watches;
        conflict
    }

    /// Looks for an answer in which all assumptions hold, for at most so many steps more.
    pub(super) fn solve(&mut self, assumptions: &[Lit], most_steps: u64) -> Outcome {
        self.run(assumptions.to_vec(), most_steps, None)
    }

    /// As [`Solver::solve`], and goes on without an assumption that cannot hold beside those before it: what cannot hold
    /// together is put down in `cores`, one for each assumption that was let go. It gives up when there is news ([`Solver::has_news`]).
    pub(super) fn solve_most(
        &mut self,
        assumptions: &[Lit],
        most_steps: u64,
        cores: &mut Vec<Vec<Lit>>,
    ) -> Outcome {
        self.run(assumptions.to_vec(), most_steps, Some(cores))
    }

    fn run(
        &mut self,
        mut assumed: Vec<Lit>,
        most_steps: u64,
        mut cores: Option<&mut Vec<Vec<Lit>>>,
    ) -> Outcome {
        let ground = self.ground();
        self.back_to(ground);
        let limit = self.steps.saturating_add(most_steps);
        if self.impossible {
            return Outcome::Impossible(Vec::new());
        }
        self.met = 0;
        let (mut conflicts, mut restarts) = (0, 1);
        let (mut look, mut takers) = (false, None);
        loop {
            let conflict = match self.levels.len() < ground {
                true => self.propagate(),
                false => self.conclude(),
            };
            if let Some(conflict) = conflict {
                let highest = conflict
                    .iter()
                    .map(|lit| self.level_of[lit.var() as usize])
                    .max();
                let highest = highest.unwrap_or(0) as usize;
                if highest <= ground {
                    self.impossible |= highest == 0;
                    return Outcome::Impossible(self.assumed_for(&conflict));
                }
                self.back_to(highest);
                let (learned, back) = self.analyse(conflict);
                if highest - back > FAR {
                    self.out_of_order = true;
                    self.back_to(highest - 1);
                } else {
                    self.back_to(back);
                }
                self.learn(&learned);
                conflicts += 1;
                self.met += 1;
                if self.steps > limit {
                    return Outcome::GaveUp;
                }
                if conflicts >= RESTART * luby(restarts) {
                    look = self.conflicts_tell() && self.is_time_to_look();
                    self.back_to(ground + assumed.len());
                    self.forget_some();
                    conflicts = 0;
                    restarts += 1;
                }
                continue;
            }
            if self.levels.len() < ground {
                self.lay_ground();
                continue;
            }
            if let Some(takers) = takers.take() {
                self.look_for_places(takers);
                if self.impossible {
                    return Outcome::Impossible(Vec::new());
                }
                continue;
            }
            if self.levels.len() == ground && self.has_places_to_make() {
                self.make_places();
                if cores.is_some() && self.has_news {
                    return Outcome::GaveUp;
                }
                continue;
            }
            if look && self.levels.len() == ground + assumed.len() {
                look = false;
                takers = Some(self.takers());
                self.back_to(ground);
                continue;
            }
            let next = match assumed.get(self.levels.len() - ground) {
                Some(lit) if self.truth(*lit) < 0 => {
                    let core = self.core_of(*lit);
                    let Some(cores) = &mut cores else {
                        return Outcome::Impossible(core);
                    };
                    cores.push(core);
                    assumed.remove(self.levels.len() - ground);
                    continue;
                }
                Some(lit) => Some(*lit),
                None => match self.decide() {
                    None => {
                        self.remember();
                        return Outcome::Found;
                    }
                    Some(lit) if self.looks_up(lit) => continue,
                    some => some,
                },
            };
            self.decided(next);
        }
    }

    /// Opens a level with a literal that is tried; with none, or one that holds already, nothing is set.
    fn decided(&mut self, lit: Option<Lit>) {
        self.levels.push(Level {
            trail: self.trail.len(),
            demands: self.demands.len(),
            demand_head: self.demand_head,
            next_domain: self.next_domain,
        });
        if let Some(lit) = lit
            && self.truth(lit) == 0
        {
            self.set(lit, Reason::None);
        }
    }

    /// Which of these assumptions cannot hold together, as far as it follows without trying anything.
    pub(super) fn refuted(&mut self, assumptions: &[Lit]) -> Option<Vec<Lit>> {
        self.back_to(0);
        // What stays when all is taken back is concluded from again, before a level is opened above it.
        if self.propagate().is_some() {
            self.impossible = true;
            return Some(Vec::new());
        }
        for lit in assumptions {
            if self.truth(*lit) < 0 {
                return Some(self.core_of(*lit));
            }
            self.decided(Some(*lit));
            if let Some(conflict) = self.conclude() {
                return Some(self.assumed_for(&conflict));
            }
        }
        None
    }

    /// The next literal to try; none when everything is decided.
    fn decide(&mut self) -> Option<Lit> {
        if self.conflicts_tell()
            && let Some(lit) = self.most_contested()
        {
            return Some(lit);
        }
        while self.demand_head < self.demands.len() {
            let range = self.lits(self.demands[self.demand_head]);
            let lits = &self.literals[range];
            let met = lits
                .iter()
                .any(|lit| self.truth(*lit) > 0 || self.is_off(*lit));
            // Watching has changed the order: the lowest variable is the one preferred.
            let open = || lits.iter().filter(|lit| self.truth(**lit) == 0);
            let again = open().find(|lit| self.was_chosen(lit.var()));
            match again.or_else(|| open().min()) {
                Some(lit) if !met => return Some(*lit),
                _ => self.demand_head += 1,
            }
        }
        while self.next_domain < self.domains.len() {
            if let Some(lit) = self.best_of(self.next_domain as u32) {
                return Some(lit);
            }
            self.next_domain += 1;
        }
        None
    }

    /// Whether so many conflicts were met that it says something where they are.
    fn conflicts_tell(&self) -> bool {
        self.met > self.domains.len() / CONFLICTS_TELL
    }

    /// The preferred variable of the domain with the most conflicts for each release that is still open in it, among the most
    /// active ones: it leaves the fewest ways to try ("dom/wdeg", Boussemart et al. 2004).
    fn most_contested(&mut self) -> Option<Lit> {
        while !self.is_open(self.heap.top()?) {
            self.heap.pop();
        }
        let mut best: Option<(f64, u32)> = None;
        for domain in self.heap.upper(MOST_COMPARED) {
            if self.is_open(domain) {
                let left = f64::from(self.domains[domain as usize].left);
                let weight = self.heap.activity(domain) / left;
                if best.is_none_or(|(most, _)| weight > most) {
                    best = Some((weight, domain));
                }
            }
        }
        self.best_of(best?.1)
    }

    /// Whether something is to be decided in a domain; all conclusions have been drawn.
    fn is_open(&self, domain: u32) -> bool {
        let Domain {
            first, left, idle, ..
        } = self.domains[domain as usize];
        left > 1 && !(idle && self.value[first as usize] >= 0)
    }

    /// The preferred variable of a domain that is still open; none when it is decided.
    fn best_of(&self, domain: u32) -> Option<Lit> {
        let Domain { first, length, .. } = self.domains[domain as usize];
        let mut members = first..first + length;
        if !self.is_open(domain) {
            return None;
        }
        let again = self.last[domain as usize].filter(|var| self.value[*var as usize] == 0);
        again
            .or_else(|| members.find(|var| self.value[*var as usize] == 0))
            .map(Lit::is)
    }
}

/// The Luby sequence: 1 1 2 1 1 2 4 …, from its first term.
fn luby(mut index: u64) -> u64 {
    loop {
        let bits = 64 - index.leading_zeros();
        if index == (1 << bits) - 1 {
            return 1 << (bits - 1);
        }
        index -= (1 << (bits - 1)) - 1;
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_luby_sequence() {
        let first: Vec<u64> = (1..=15).map(super::luby).collect();
        assert_eq!(first, [1, 1, 2, 1, 1, 2, 4, 1, 1, 2, 1, 1, 2, 4, 8]);
    }
}
