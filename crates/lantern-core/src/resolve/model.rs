//! A request as the search sees it: domains, and what each release asks for when it is chosen.

use super::fact::Fact;
use super::solver::{Expansion, Extent, Guard, Lit, Room, Solver, Theory, Var};
use super::{Prefer, Request, Target, users_first};
use crate::component::{Id, Kind, Need};
use crate::facts::Facts;
use crate::offer::Origin;
use crate::version::{Range, Version};
use foldhash::{HashMap, HashMapExt};
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::rc::Rc;

/// One release that may be chosen.
#[derive(Debug, Clone, Copy)]
pub(super) struct Candidate<'a> {
    pub(super) facts: &'a Facts,
    /// Its place among the offers; none for what is installed.
    pub(super) offer: Option<usize>,
    /// Whether it was declared for other server versions than the target.
    pub(super) untested: bool,
    /// Whether it counts as a test release: what is installed does not.
    pub(super) early: bool,
    /// Whether choosing it changes nothing that nobody asked to change.
    pub(super) preferred: bool,
    /// What keeps it from being chosen, whatever else is: one bit for each of [`LEFT_OUT`].
    left_out: u8,
}

/// Releases that cannot be chosen, as far as that hangs on what counts.
#[derive(Debug, Default)]
pub(super) struct LeftOut {
    /// Each cannot be while the guard counts.
    pub(super) while_counts: Vec<(Guard, Var)>,
    /// Each can be only while one of the guards counts: another one of the same version comes first.
    pub(super) unless_count: Vec<(Var, Vec<Guard>)>,
}

/// What may keep a release from being chosen, whatever else is.
const LEFT_OUT: [fn(Id) -> Fact; 7] = [
    |_| Fact::Target,
    Fact::Runs,
    Fact::Early,
    Fact::Withdrawn,
    Fact::Pinned,
    Fact::Again,
    Fact::Dropped,
];

/// One component: exactly one of its variables is true.
#[derive(Debug)]
pub(super) struct Component<'a> {
    pub(super) id: &'a Id,
    /// Its place among what is installed.
    pub(super) held: Option<usize>,
    /// Whether it has to be there.
    pub(super) stays: bool,
    /// Whether losing it is allowed, at a price.
    pub(super) droppable: bool,
    /// Whether it is installed and switched off.
    pub(super) off: bool,
    first: Var,
    /// Whether "absent" comes before the releases: nobody misses it.
    absent_first: bool,
    pub(super) candidates: Vec<Candidate<'a>>,
}

impl<'a> Component<'a> {
    /// The variable of a candidate.
    pub(super) fn var(&self, candidate: usize) -> Var {
        self.first + candidate as Var + Var::from(self.absent_first)
    }

    /// The variable that says that it is not there.
    pub(super) fn absent(&self) -> Var {
        match self.absent_first {
            true => self.first,
            false => self.first + self.candidates.len() as Var,
        }
    }

    /// All its candidates with their variables.
    pub(super) fn vars(&self) -> impl Iterator<Item = (Var, &Candidate<'a>)> {
        let all = self.candidates.iter().enumerate();
        all.map(|(index, candidate)| (self.var(index), candidate))
    }

    /// Whether it is installed, or was fetched by hand: then one or the other release of it is meant.
    pub(super) fn is_wished(&self) -> bool {
        self.held.is_some() || self.candidates.iter().any(|it| it.preferred)
    }

    fn size(&self) -> u32 {
        self.candidates.len() as u32 + 1
    }
}

/// How something is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Present {
    /// It runs, as far as anybody can say.
    Running,
    /// It is installed, and may be switched off.
    Installed,
}

/// What a release says of the server.
#[derive(Debug, Clone, Copy)]
pub(super) enum Server<'a> {
    /// It is this build.
    Build(&'a Version),
    /// It runs on these.
    Range(&'a Range),
}

impl Server<'_> {
    /// Whether it fits a server version.
    pub(super) fn fits(&self, version: &Version) -> bool {
        match self {
            Server::Build(build) => version.is_same_release(build),
            Server::Range(range) => range.holds_early(version),
        }
    }
}

/// What a guard stands for.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum Under {
    /// A fact of the request.
    Fact(Fact),
    /// The releases of a component run on the builds that they declare: [`Fact::Runs`], where the build is still to be
    /// chosen.
    Builds(Id),
}

/// The guards of a model, numbered as they are met.
#[derive(Debug, Default)]
struct Guards {
    all: Vec<Under>,
    numbers: HashMap<Under, Guard>,
}

/// The request, compiled.
///
/// A plain one holds what may be chosen when all facts count. A guarded one holds every release, and whatever
/// follows from a fact stands under its guard, so that questions can be asked in which it does not count.
pub(super) struct Model<'a> {
    request: &'a Request,
    pub(super) components: Vec<Component<'a>>,
    index: HashMap<&'a str, u32>,
    component_of: Vec<u32>,
    /// For an id: the releases of other components with a part of that id, and its version.
    inside: HashMap<&'a str, Vec<(Var, &'a Version)>>,
    /// For an id: the releases of other components that meet needs of it, and in which version.
    stand_ins: HashMap<&'a str, Vec<(Var, Option<&'a Version>)>>,
    /// The same, of components that are installed and switched off.
    idle_stand_ins: HashMap<&'a str, Vec<(Var, Option<&'a Version>)>>,
    replacers: HashMap<&'a str, Vec<Var>>,
    groups: HashMap<&'a str, Vec<Var>>,
    frameworks: Vec<u32>,
    builds: Option<u32>,
    guards: Option<RefCell<Guards>>,
    bundles: RefCell<Bundles<'a>>,
}

/// What follows alike from many releases: once for each range that is asked for of an id.
#[derive(Debug, Default)]
struct Bundles<'a> {
    all: Vec<Rc<[Lit]>>,
    numbers: HashMap<(Ask, &'a str, &'a str), u32>,
}

/// What is asked of an id.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Ask {
    /// That it is there, in the range.
    There,
    /// That it is not there out of the range.
    NotOutside,
    /// That it is not there in the range.
    NotInside,
}

impl<'a> Model<'a> {
    /// Compiles a request with all facts counting.
    pub(super) fn new(request: &'a Request) -> Model<'a> {
        Model::compiled(request, None)
    }

    /// Compiles a request with every fact under a guard. Nobody misses any of its components: who has to be there is part of
    /// the question.
    pub(super) fn guarded(request: &'a Request) -> Model<'a> {
        Model::compiled(request, Some(RefCell::default()))
    }

    fn compiled(request: &'a Request, guards: Option<RefCell<Guards>>) -> Model<'a> {
        let mut model = Model {
            request,
            components: Vec::new(),
            index: HashMap::new(),
            component_of: Vec::new(),
            inside: HashMap::new(),
            stand_ins: HashMap::new(),
            idle_stand_ins: HashMap::new(),
            replacers: HashMap::new(),
            groups: HashMap::new(),
            frameworks: Vec::new(),
            builds: None,
            guards,
            bundles: RefCell::default(),
        };
        model.collect();
        model.number();
        model
    }

    /// The guard of a fact; none in a plain model.
    pub(super) fn guard(&self, under: impl FnOnce() -> Under) -> Option<Guard> {
        let mut guards = self.guards.as_ref()?.borrow_mut();
        let under = under();
        if let Some(number) = guards.numbers.get(&under) {
            return Some(*number);
        }
        let number = guards.all.len() as Guard;
        guards.all.push(under.clone());
        guards.numbers.insert(under, number);
        Some(number)
    }

    /// What a guard stands for.
    pub(super) fn under(&self, guard: Guard) -> Option<Under> {
        let guards = self.guards.as_ref()?.borrow();
        guards.all.get(guard as usize).cloned()
    }

    /// What follows stands under a fact.
    fn on(&self, out: &mut Expansion, fact: impl FnOnce() -> Fact) {
        if let Some(guard) = self.guard(|| Under::Fact(fact())) {
            out.under(guard);
        }
    }

    fn collect(&mut self) {
        let request = self.request;
        let mut slots: HashMap<&'a str, u32> = HashMap::new();
        let mut components: Vec<Component<'a>> = Vec::new();
        let mut slot = |components: &mut Vec<Component<'a>>, id: &'a Id| {
            *slots.entry(id.as_str()).or_insert_with(|| {
                components.push(Component {
                    id,
                    held: None,
                    stays: false,
                    droppable: false,
                    off: false,
                    first: 0,
                    absent_first: false,
                    candidates: Vec::new(),
                });
                components.len() as u32 - 1
            }) as usize
        };
        let mut ranges: HashMap<&'a str, bool> = HashMap::new();
        if !request.build_outside {
            let at = slot(&mut components, &request.build);
            components[at].stays = true;
        }
        for (index, held) in request.held.iter().enumerate() {
            let at = slot(&mut components, &held.facts.id);
            let component = &mut components[at];
            component.held = Some(index);
            component.droppable = held.droppable;
            component.off = held.off;
            component.stays = !request.drop.contains(&held.facts.id);
            if held.facts.kind == Kind::Build && request.build_outside {
                component.stays = false;
            }
            self.add_candidate(component, &held.facts, None, &mut ranges);
        }
        // A wish that players be let in is a component without releases: what lets them in takes its place.
        for id in request.add.iter().chain(request.admit.keys()) {
            let at = slot(&mut components, id);
            components[at].stays = true;
        }
        for (index, offer) in request.offers.iter().enumerate() {
            let at = slot(&mut components, &offer.facts.id);
            let component = &mut components[at];
            if offer.origin == Origin::DropFolder && !request.drop.contains(&offer.facts.id) {
                component.stays = true;
            }
            self.add_candidate(component, &offer.facts, Some(index), &mut ranges);
        }
        let by_hand = |candidate: &Candidate| {
            candidate
                .offer
                .is_some_and(|offer| request.offers[offer].origin == Origin::DropFolder)
        };
        let settled = request.policy.prefer == Prefer::Settled;
        for component in &mut components {
            let fetched = component.candidates.iter().filter(|it| by_hand(it));
            let fetched: Vec<&Version> = fetched.map(|it| &it.facts.version).collect();
            let held = component.held.is_some();
            let again = held && request.again.contains(component.id);
            let version = component.held.map(|held| &request.held[held].facts.version);
            for candidate in &mut component.candidates {
                let stays = candidate.offer.is_none();
                candidate.preferred = match (!fetched.is_empty(), held) {
                    // Where that is what is installed, it stays.
                    (true, _) => fetched.contains(&&candidate.facts.version),
                    (false, true) if again => version == Some(&candidate.facts.version),
                    (false, true) => !settled || stays,
                    (false, false) => false,
                };
            }
            component.absent_first = !component.stays || self.guards.is_some();
            let held = component.held.map(|held| &request.held[held].facts.version);
            component.candidates.sort_by(|a, b| {
                let key = |c: &Candidate| (c.untested, c.early, !c.preferred);
                let versions = || b.facts.version.cmp(&a.facts.version);
                key(a)
                    .cmp(&key(b))
                    .then_with(versions)
                    .then((!by_hand(a)).cmp(&!by_hand(b)))
                    .then(a.offer.cmp(&b.offer))
            });
            // What is installed is not offered once more, nor the same release twice; where that hangs on what counts, the
            // guards see to it.
            let installed = |c: &Candidate| c.offer.is_none() && c.left_out == 0;
            let twice = |c: &Candidate| c.offer.is_some() && held == Some(&c.facts.version);
            if component.candidates.iter().any(installed) {
                component.candidates.retain(|candidate| !twice(candidate));
            }
            component
                .candidates
                .dedup_by(|b, a| a.facts.version == b.facts.version && a.left_out == 0);
        }
        let first = |it: &Component<'a>| it.candidates.first().map(|candidate| candidate.facts);
        let asking: Vec<_> = components.iter().map(|it| (it.id, first(it))).collect();
        let places = users_first::places(&asking);
        let mut placed: Vec<(usize, Component<'a>)> = places.into_iter().zip(components).collect();
        placed.sort_unstable_by_key(|(place, component)| {
            (*component.id != request.build, !component.stays, *place)
        });
        self.components = placed.into_iter().map(|(_, component)| component).collect();
    }

    /// Adds a release, unless something leaves it out.
    fn add_candidate(
        &self,
        component: &mut Component<'a>,
        facts: &'a Facts,
        offer: Option<usize>,
        ranges: &mut HashMap<&'a str, bool>,
    ) {
        let request = self.request;
        let id = &facts.id;
        // Whoever calls a release as a wish is called does not grant it by that.
        if request.admit.contains_key(id) {
            return;
        }
        let is_held = offer.is_none();
        let is_build = facts.kind == Kind::Build;
        let runs = match &facts.server {
            Some(range) if !is_build => *ranges
                .entry(range.as_str())
                .or_insert_with(|| request.runs_somewhere(range)),
            _ => true,
        };
        let early = !is_held && facts.is_early();
        let is_meant = *id == request.build && request.target.holds(&facts.version);
        let idle = component.off && is_held;
        let left_out = [
            is_build && !is_meant,
            !runs && !idle && !request.policy.untested,
            early && !request.policy.early,
            facts.withdrawn && !is_held,
            !request.allowed_by_pins(facts, is_held),
            is_held && request.again.contains(id),
            request.drop.contains(id),
        ];
        let left_out = left_out.iter().enumerate();
        let left_out = left_out.map(|(bit, is_so)| u8::from(*is_so) << bit).sum();
        if left_out == 0 || self.guards.is_some() {
            component.candidates.push(Candidate {
                facts,
                offer,
                untested: !runs,
                early,
                preferred: false,
                left_out,
            });
        }
    }

    /// The releases that cannot be chosen while something counts.
    pub(super) fn left_out(&self) -> LeftOut {
        let mut found = LeftOut::default();
        for component in &self.components {
            self.leave_out(component, &mut found);
        }
        found
    }

    /// The same of one component.
    pub(super) fn left_out_of(&self, component: &Component<'a>) -> LeftOut {
        let mut found = LeftOut::default();
        self.leave_out(component, &mut found);
        found
    }

    fn leave_out(&self, component: &Component<'a>, found: &mut LeftOut) {
        let guards =
            LEFT_OUT.map(|fact| move || self.guard(|| Under::Fact(fact(component.id.clone()))));
        let mut known = [None; LEFT_OUT.len()];
        let mut guards = |candidate: &Candidate<'_>| -> Vec<Guard> {
            let bits = (0..LEFT_OUT.len()).filter(|bit| candidate.left_out & 1 << bit != 0);
            let guards = bits.filter_map(|bit| {
                known[bit] = known[bit].or_else(&guards[bit]);
                known[bit]
            });
            guards.collect()
        };
        let mut candidates = component.candidates.iter();
        let held = candidates.position(|it| it.offer.is_none());
        for (at, candidate) in component.candidates.iter().enumerate() {
            let var = component.var(at);
            let own = guards(candidate).into_iter().map(|guard| (guard, var));
            found.while_counts.extend(own);
            let is_twin = |other: &usize| {
                component.candidates[*other].facts.version == candidate.facts.version
            };
            let before = (0..at).rev().take_while(is_twin);
            let held = held.filter(|held| *held != at).filter(is_twin);
            for first in before.chain(held) {
                let first = guards(&component.candidates[first]);
                found.unless_count.push((var, first));
            }
        }
    }

    /// The releases by what they say of the server, each with its component.
    pub(super) fn by_server(&self) -> Vec<(Server<'a>, Vec<(&'a Id, Var)>)> {
        let mut found: Vec<(Server<'a>, Vec<(&'a Id, Var)>)> = Vec::new();
        let mut places: HashMap<(bool, &'a str), usize> = HashMap::new();
        for component in &self.components {
            for (var, candidate) in component.vars() {
                let facts = candidate.facts;
                let (server, text) = match (&facts.server, facts.kind) {
                    (_, Kind::Build) => (Server::Build(&facts.version), facts.version.as_str()),
                    (Some(range), _) if !self.request.policy.untested => {
                        (Server::Range(range), range.as_str())
                    }
                    _ => continue,
                };
                if !component.off || candidate.offer.is_some() {
                    let key = (matches!(server, Server::Build(_)), text);
                    let place = *places.entry(key).or_insert(found.len());
                    if place == found.len() {
                        found.push((server, Vec::new()));
                    }
                    found[place].1.push((component.id, var));
                }
            }
        }
        found
    }

    fn number(&mut self) {
        let mut first = 0;
        for (index, component) in self.components.iter_mut().enumerate() {
            component.first = first;
            first += component.size();
            self.component_of
                .extend(std::iter::repeat_n(index as u32, component.size() as usize));
            self.index.insert(component.id.as_str(), index as u32);
        }
        for index in 0..self.components.len() {
            let component = &self.components[index];
            let mut framework = false;
            for (var, candidate) in component.vars() {
                let facts = candidate.facts;
                let stand_ins = match component.off {
                    true => &mut self.idle_stand_ins,
                    false => &mut self.stand_ins,
                };
                for (id, version) in facts.stands_for().skip(1) {
                    stand_ins
                        .entry(id.as_str())
                        .or_default()
                        .push((var, version));
                }
                if component.off {
                    continue;
                }
                let wishes = self.request.admit.iter();
                let wishes = wishes.filter(|(_, players)| facts.lets_in(players));
                for id in facts.replaces.iter().chain(wishes.map(|(id, _)| id)) {
                    self.replacers.entry(id.as_str()).or_default().push(var);
                }
                // The first is its own id, which leads to its component.
                for (id, version) in facts.parts().skip(1) {
                    let inside = self.inside.entry(id.as_str()).or_default();
                    inside.push((var, version));
                }
                for group in facts.groups() {
                    self.groups.entry(group).or_default().push(var);
                }
                framework |= facts.kind == Kind::Framework;
            }
            if framework {
                self.frameworks.push(index as u32);
            }
            if *component.id == self.request.build {
                self.builds = Some(index as u32);
            }
        }
    }

    /// What the administrator prefers where several releases fit.
    pub(super) fn prefer(&self) -> Prefer {
        self.request.policy.prefer
    }

    /// Whether several server versions will do, and this is the build.
    pub(super) fn chooses_build(&self, component: &Component<'_>) -> bool {
        *component.id == self.request.build && matches!(self.request.target, Target::Within(_))
    }

    /// Whether a candidate is installed and is to stay where nothing speaks against it.
    pub(super) fn is_settled(&self, candidate: &Candidate<'_>) -> bool {
        let settled = self.request.policy.prefer == Prefer::Settled;
        settled && candidate.preferred && candidate.offer.is_none()
    }

    /// A search over the model.
    pub(super) fn search(&self) -> Solver<&Model<'a>> {
        let extents = self.components.iter().map(|component| Extent {
            length: component.size(),
            idle: component.absent_first,
        });
        Solver::new(self, extents, self.rooms())
    }

    /// How many variables its components have.
    pub(super) fn vars(&self) -> Var {
        self.components.iter().map(Component::size).sum()
    }

    /// The place among the components of the one that a variable belongs to.
    pub(super) fn number_of(&self, var: Var) -> usize {
        self.component_of[var as usize] as usize
    }

    /// The component that a variable belongs to.
    pub(super) fn component_of(&self, var: Var) -> &Component<'a> {
        &self.components[self.number_of(var)]
    }

    /// The candidate of a variable; none for "absent".
    pub(super) fn candidate(&self, var: Var) -> Option<&Candidate<'a>> {
        let component = self.component_of(var);
        if var == component.absent() {
            return None;
        }
        let index = var - component.first - Var::from(component.absent_first);
        component.candidates.get(index as usize)
    }

    /// The component with an id.
    pub(super) fn get(&self, id: &str) -> Option<&Component<'a>> {
        Some(&self.components[*self.index.get(id)? as usize])
    }

    /// Releases of other components that would take this one's place.
    pub(super) fn replacers(&self, component: &Component<'_>) -> Vec<Var> {
        let all = self
            .replacers
            .get(component.id.as_str())
            .cloned()
            .unwrap_or_default();
        all.into_iter()
            .filter(|var| self.component_of(*var).id != component.id)
            .collect()
    }

    /// What chosen releases take of each kind of slot, and what the builds have.
    pub(super) fn rooms(&self) -> Vec<Room> {
        let mut rooms: BTreeMap<&str, Room> = BTreeMap::new();
        let Some(build) = self.builds.map(|build| &self.components[build as usize]) else {
            return Vec::new();
        };
        for (var, candidate) in build.vars() {
            for (kind, has) in &candidate.facts.build.has {
                let room = rooms.entry(kind).or_default();
                room.guard = self.guard(|| Under::Fact(Fact::Room(kind.clone())));
                room.has.push((var, *has));
            }
        }
        for component in self.components.iter().filter(|component| !component.off) {
            for (var, candidate) in component.vars() {
                for (kind, takes) in &candidate.facts.takes {
                    if let Some(room) = rooms.get_mut(kind.as_str()) {
                        room.takes.insert(var, *takes);
                    }
                }
            }
        }
        rooms.into_values().collect()
    }

    /// Every variable that meets a need.
    fn meeting(&self, need: &'a Need, how: Present) -> impl Iterator<Item = Lit> {
        let id = &need.id;
        let own = self.own_releases(id, how);
        let own = own.map(|(var, version)| (var, Some(version)));
        let idle = self.idle_stand_ins.get(id.as_str());
        let idle = idle.filter(|_| how == Present::Installed);
        let others = self.stand_ins.get(id.as_str()).into_iter().chain(idle);
        let all = own.chain(others.flatten().copied());
        let fitting = all.filter(|(_, version)| need.is_met_by(id, *version));
        fitting.map(|(var, _)| Lit::is(var))
    }

    fn own_releases(&self, id: &Id, how: Present) -> impl Iterator<Item = (Var, &'a Version)> {
        let component = self.get(id.as_str()).into_iter();
        let present = component.filter(move |it| how == Present::Installed || !it.off);
        let vars = present.flat_map(Component::vars);
        vars.map(|(var, candidate)| (var, &candidate.facts.version))
    }

    /// Every variable with a part of an id, and its version.
    fn bearing(&self, id: &Id, how: Present) -> impl Iterator<Item = (Var, &'a Version)> {
        let inside = self.inside.get(id.as_str()).into_iter().flatten();
        self.own_releases(id, how).chain(inside.copied())
    }

    /// Whether the server program that is not chosen here, but there all the same, is in a range; none of anything else.
    fn outside(&self, need: &Need) -> Option<bool> {
        let request = self.request;
        match &request.target {
            Target::One(target) if request.build_outside && need.id == request.build => {
                Some(need.range.holds_early(target))
            }
            _ => None,
        }
    }

    fn demand(&self, needs: &'a [Need], how: Present, out: &mut Expansion) {
        if needs
            .iter()
            .any(|need| self.request.given.contains(&need.id) || self.outside(need) == Some(true))
        {
            return;
        }
        if let [need] = needs
            && let Some(component) = self.get(need.id.as_str())
            && !component.off
            && !self.stand_ins.contains_key(need.id.as_str())
            && !self.idle_stand_ins.contains_key(need.id.as_str())
        {
            self.ask(Ask::There, need, out, || {
                let unfit = component.vars().filter(|(_, it)| !it.facts.meets(need));
                let unfit = unfit.map(|(var, _)| Lit::not(var));
                std::iter::once(Lit::not(component.absent()))
                    .chain(unfit)
                    .collect()
            });
            return;
        }
        let mut lits: Vec<Lit> = needs
            .iter()
            .flat_map(|need| self.meeting(need, how))
            .collect();
        lits.sort_unstable();
        lits.dedup();
        out.demands.push(lits);
    }

    /// Writes down what a range of an id means, which is looked up once for all that ask for it.
    fn ask(&self, ask: Ask, need: &'a Need, out: &mut Expansion, lits: impl FnOnce() -> Vec<Lit>) {
        let mut bundles = self.bundles.borrow_mut();
        let key = (ask, need.id.as_str(), need.range.as_str());
        let next = bundles.all.len() as u32;
        let number = *bundles.numbers.entry(key).or_insert(next);
        if number == next {
            bundles.all.push(lits().into());
        }
        match bundles.all[number as usize][..] {
            [] => {}
            [lit] => out.implies.push(lit),
            _ => out.bundles.push(number),
        }
    }

    /// Leaves out what bears an id in one of the versions meant.
    fn no_bearers(&self, need: &'a Need, meant: impl Fn(&Version) -> bool) -> Vec<Lit> {
        let bearing = self.bearing(&need.id, Present::Running);
        let meant = bearing.filter(|(_, version)| meant(version));
        meant.map(|(var, _)| Lit::not(var)).collect()
    }

    /// Leaves out, of other components, what stands for an id and is in the range, or is not in it.
    fn forbid_standing(&self, own: &Id, need: &Need, inside: bool, out: &mut Expansion) {
        let releases = self.own_releases(&need.id, Present::Running);
        let releases = releases.map(|(var, version)| (var, Some(version)));
        let stand_ins = self.stand_ins.get(need.id.as_str()).into_iter().flatten();
        let meant = releases
            .chain(stand_ins.copied())
            .filter(|(_, version)| need.is_met_by(&need.id, *version) == inside);
        let others = meant.filter(|(var, _)| self.component_of(*var).id != own);
        out.implies.extend(others.map(|(var, _)| Lit::not(var)));
    }

    /// Leaves out what bears an id, where it is another component and its version is one of those meant.
    fn forbid_bearers(
        &self,
        own: &Id,
        id: &Id,
        how: Present,
        out: &mut Expansion,
        meant: impl Fn(&Version) -> bool,
    ) {
        let meant = self.bearing(id, how).filter(|(_, version)| meant(version));
        let others = meant.filter(|(var, _)| self.component_of(*var).id != own);
        out.implies.extend(others.map(|(var, _)| Lit::not(var)));
    }

    fn forbid(
        &self,
        component: &Component<'a>,
        out: &mut Expansion,
        which: impl Fn(&Facts) -> bool,
    ) {
        let forbidden = component
            .vars()
            .filter(|(_, candidate)| which(candidate.facts));
        out.implies.extend(forbidden.map(|(var, _)| Lit::not(var)));
    }

    /// What one release asks for.
    fn asks(&self, facts: &'a Facts, out: &mut Expansion) {
        let id = &facts.id;
        let is_own = |other: &Id| other == id || facts.members.iter().any(|m| m.id == *other);
        let present = |other: &Id, how| !is_own(other) && self.bearing(other, how).next().is_some();
        let runs = |other: &Id| present(other, Present::Running);
        let is_there = |need: &&Need| self.outside(need).is_some() || runs(&need.id);
        for need in facts.needs.iter().filter(|need| !is_own(&need.id)) {
            self.on(out, || Fact::Needs(id.clone(), need.id.clone()));
            self.demand(std::slice::from_ref(need), Present::Running, out);
        }
        let installed = facts.needs_installed.iter();
        for need in installed.filter(|need| !is_own(&need.id)) {
            self.on(out, || Fact::NeedsInstalled(id.clone(), need.id.clone()));
            self.demand(std::slice::from_ref(need), Present::Installed, out);
        }
        for needs in &facts.needs_any {
            if !needs.iter().any(|need| is_own(&need.id)) {
                self.on(out, || {
                    Fact::NeedsAny(id.clone(), needs.iter().map(|n| n.id.clone()).collect())
                });
                self.demand(needs, Present::Running, out);
            }
        }
        for need in facts.uses.iter().filter(is_there) {
            self.on(out, || Fact::Uses(id.clone(), need.id.clone()));
            if let Some(is_inside) = self.outside(need) {
                out.cannot_be_where(!is_inside);
                continue;
            }
            self.ask(Ask::NotOutside, need, out, || {
                self.no_bearers(need, |version| !need.is_met_by(&need.id, Some(version)))
            });
        }
        for clash in facts.clashes.iter().filter(is_there) {
            self.on(out, || Fact::Clashes(id.clone(), clash.id.clone()));
            if let Some(is_inside) = self.outside(clash) {
                out.cannot_be_where(is_inside);
                continue;
            }
            self.ask(Ask::NotInside, clash, out, || {
                self.no_bearers(clash, |version| clash.is_met_by(&clash.id, Some(version)))
            });
        }
        let learned = self.request.learned.iter();
        for learned in learned.filter(|it| it.id == *id && it.version == facts.version) {
            let other = &learned.other;
            // Where the server version is still to be chosen, a pair is not chosen for any.
            if !self.request.target.holds(&learned.on) {
                continue;
            }
            self.on(out, || Fact::Learned(id.clone(), other.id.clone()));
            match self.outside(other) {
                Some(is_inside) => out.cannot_be_where(is_inside),
                None => self.ask(Ask::NotInside, other, out, || {
                    self.no_bearers(other, |version| other.is_met_by(&other.id, Some(version)))
                }),
            }
        }
        for need in facts.uses_provided.iter() {
            self.on(out, || Fact::UsesProvided(id.clone(), need.id.clone()));
            self.forbid_standing(id, need, false, out);
        }
        for clash in facts.clashes_provided.iter() {
            self.on(out, || Fact::ClashesProvided(id.clone(), clash.id.clone()));
            self.forbid_standing(id, clash, true, out);
        }
        let replaced = facts.replaces.iter();
        for replaced in replaced.filter(|replaced| present(replaced, Present::Installed)) {
            self.on(out, || Fact::Replaces(id.clone(), replaced.clone()));
            self.forbid_bearers(id, replaced, Present::Installed, out, |_| true);
        }
        for companion in facts.companions.iter().filter(|other| runs(other)) {
            self.on(out, || Fact::Companions(id.clone(), companion.clone()));
            self.forbid_bearers(id, companion, Present::Running, out, |version| {
                *version != facts.version
            });
        }
        for group in facts.groups() {
            self.on(out, || Fact::Group(group.to_owned()));
            let rivals = self.groups.get(group).into_iter().flatten();
            let others = rivals.filter(|var| self.component_of(**var).id != id);
            out.implies.extend(others.map(|var| Lit::not(*var)));
        }
        self.asks_of_build(facts, out);
    }

    /// What a release asks of the build and the framework.
    fn asks_of_build(&self, facts: &Facts, out: &mut Expansion) {
        let id = &facts.id;
        if let Some(build) = self.builds.map(|build| &self.components[build as usize])
            && facts.kind != Kind::Build
        {
            // With one build of the one version asked for, what does not run there is left out already.
            let is_one = matches!(self.request.target, Target::One(_));
            if let Some(range) = &facts.server
                && !(is_one && build.candidates.len() == 1)
                && !self.request.policy.untested
            {
                if let Some(guard) = self.guard(|| Under::Builds(id.clone())) {
                    out.under(guard);
                }
                self.forbid(build, out, |build| !range.may_hold(&build.version));
            }
            if let Some(range) = &facts.runtime {
                self.on(out, || Fact::Runtime(id.clone()));
                let out_of_range = |version: &Version| !range.holds_early(version);
                self.forbid(build, out, |build| {
                    build.build.runtime.as_ref().is_some_and(out_of_range)
                });
            }
            if let Some(flavour) = &facts.flavour {
                self.on(out, || Fact::Flavour(id.clone()));
                self.forbid(build, out, |build| {
                    let flavours = &build.build.flavours;
                    !flavours.is_empty() && !flavours.contains(flavour)
                });
            }
        }
        if let Some(range) = &facts.framework
            && facts.kind != Kind::Framework
        {
            self.on(out, || Fact::Framework(id.clone()));
            let frameworks = self
                .frameworks
                .iter()
                .map(|at| &self.components[*at as usize]);
            let lits = frameworks.flat_map(|framework| {
                let fitting = framework
                    .vars()
                    .filter(|(_, c)| range.holds_early(&c.facts.version));
                fitting.map(|(var, _)| Lit::is(var)).collect::<Vec<_>>()
            });
            let mut lits: Vec<Lit> = lits.collect();
            lits.sort_unstable();
            out.demands.push(lits);
        }
    }
}

impl Theory for &Model<'_> {
    fn expand(&mut self, var: Var, out: &mut Expansion) {
        if let Some(candidate) = self.candidate(var).filter(|_| !self.component_of(var).off) {
            self.asks(candidate.facts, out);
        }
    }

    fn bundle(&self, number: u32) -> Rc<[Lit]> {
        self.bundles.borrow().all[number as usize].clone()
    }
}
