//! A request as the search sees it: domains, and what each release asks for when it is chosen.

use super::fact::{Fact, Lens};
use super::solver::{Expansion, Lit, Room, Theory, Var};
use super::{Prefer, Request, Target};
use crate::component::{Id, Kind, Need};
use crate::facts::Facts;
use crate::offer::Origin;
use crate::version::Version;
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};

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
}

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

/// The request, compiled. With a lens only some facts count, and only components they name exist.
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
    lens: Lens<'a>,
    staying: Option<&'a BTreeSet<Id>>,
    /// The facts looked up so far.
    pub(super) met: RefCell<BTreeSet<Fact>>,
    record: bool,
}

impl<'a> Model<'a> {
    /// Compiles a request.
    pub(super) fn new(request: &'a Request, lens: Lens<'a>) -> Model<'a> {
        Model::compiled(request, lens, None, false)
    }

    /// Compiles a request in which only some components have to be there; `record` keeps which facts
    /// were met. The others are absent where nothing needs them, so that little is looked up.
    pub(super) fn of_some(
        request: &'a Request,
        lens: Lens<'a>,
        staying: &'a BTreeSet<Id>,
        record: bool,
    ) -> Model<'a> {
        Model::compiled(request, lens, Some(staying), record)
    }

    fn compiled(
        request: &'a Request,
        lens: Lens<'a>,
        staying: Option<&'a BTreeSet<Id>>,
        record: bool,
    ) -> Model<'a> {
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
            lens,
            staying,
            met: RefCell::new(BTreeSet::new()),
            record,
        };
        model.collect();
        model.number();
        model
    }

    /// Whether a fact counts; notes that it was asked about.
    fn counts(&self, fact: impl FnOnce() -> Fact) -> bool {
        match self.lens {
            Lens::All if !self.record => true,
            Lens::Only(only) => only.contains(&fact()),
            Lens::Except(except) if !self.record => !except.contains(&fact()),
            Lens::All | Lens::Except(_) => {
                let fact = fact();
                if matches!(self.lens, Lens::Except(except) if except.contains(&fact)) {
                    return false;
                }
                self.met.borrow_mut().insert(fact);
                true
            }
        }
    }

    fn collect(&mut self) {
        let request = self.request;
        let named = match self.lens {
            Lens::Only(facts) => Some(named_by(request, facts)),
            Lens::All | Lens::Except(_) => None,
        };
        let wanted = |id: &Id| named.as_ref().is_none_or(|named| named.contains(id));
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
        for (index, held) in request
            .held
            .iter()
            .enumerate()
            .filter(|(_, held)| wanted(&held.facts.id))
        {
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
        for id in request.add.iter().filter(|id| wanted(id)) {
            let at = slot(&mut components, id);
            components[at].stays = true;
        }
        for (index, offer) in request
            .offers
            .iter()
            .enumerate()
            .filter(|(_, o)| wanted(&o.facts.id))
        {
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
            if let Some(staying) = self.staying {
                component.stays = staying.contains(component.id);
            }
            component.absent_first = !component.stays;
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
            // What is installed is not offered once more, nor the same release twice.
            let installed = |c: &Candidate| c.offer.is_none();
            let twice = |c: &Candidate| !installed(c) && held == Some(&c.facts.version);
            if component.candidates.iter().any(installed) {
                component.candidates.retain(|candidate| !twice(candidate));
            }
            component
                .candidates
                .dedup_by(|b, a| a.facts.version == b.facts.version);
        }
        // What many need is decided after those who need it, when it is known what they want: a choice
        // made too early is found wrong late, and much is decided again.
        let mut popular: HashMap<&Id, u32> = HashMap::new();
        for component in &components {
            let likely = component
                .candidates
                .first()
                .map(|candidate| candidate.facts);
            for need in likely
                .into_iter()
                .flat_map(|facts| facts.needs.iter().chain(&facts.uses))
            {
                *popular.entry(&need.id).or_default() += 1;
            }
        }
        components.sort_by_cached_key(|component| {
            let others = popular.get(component.id).copied().unwrap_or(0);
            (
                *component.id != request.build,
                !component.stays,
                others,
                component.id.clone(),
            )
        });
        self.components = components;
    }

    /// Adds a release, unless a fact that counts leaves it out.
    fn add_candidate(
        &self,
        component: &mut Component<'a>,
        facts: &'a Facts,
        offer: Option<usize>,
        ranges: &mut HashMap<&'a str, bool>,
    ) {
        let request = self.request;
        let id = &facts.id;
        if facts.kind == Kind::Build {
            let fits = *id == request.build && request.target.holds(&facts.version);
            if !fits && self.counts(|| Fact::Target) {
                return;
            }
        }
        let runs = match &facts.server {
            _ if facts.kind == Kind::Build => true,
            None => true,
            Some(range) => *ranges
                .entry(range.as_str())
                .or_insert_with(|| request.runs_somewhere(range)),
        };
        let untested = !runs;
        let idle = component.off && offer.is_none();
        if untested && !idle && !request.policy.untested && self.counts(|| Fact::Runs(id.clone())) {
            return;
        }
        let early = offer.is_some() && facts.is_early();
        if early && !request.policy.early && self.counts(|| Fact::Early(id.clone())) {
            return;
        }
        if facts.withdrawn && offer.is_some() && self.counts(|| Fact::Withdrawn(id.clone())) {
            return;
        }
        if !request.allowed_by_pins(facts, offer.is_none())
            && self.counts(|| Fact::Pinned(id.clone()))
        {
            return;
        }
        let is_held = offer.is_none();
        if is_held && request.again.contains(id) && self.counts(|| Fact::Again(id.clone())) {
            return;
        }
        if request.drop.contains(id) && self.counts(|| Fact::Dropped(id.clone())) {
            return;
        }
        component.candidates.push(Candidate {
            facts,
            offer,
            untested,
            early,
            preferred: false,
        });
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
                for id in &facts.replaces {
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

    /// The sizes of the domains, in order.
    pub(super) fn sizes(&self) -> Vec<u32> {
        self.components.iter().map(Component::size).collect()
    }

    /// The component that a variable belongs to.
    pub(super) fn component_of(&self, var: Var) -> &Component<'a> {
        &self.components[self.component_of[var as usize] as usize]
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
                if self.counts(|| Fact::Room(kind.clone())) {
                    rooms.entry(kind).or_default().has.push((var, *has));
                }
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

    fn demand(&self, needs: &'a [Need], how: Present, out: &mut Expansion) {
        if needs
            .iter()
            .any(|need| self.request.given.contains(&need.id))
        {
            return;
        }
        if let [need] = needs
            && let Some(component) = self.get(need.id.as_str())
            && !component.off
            && !self.stand_ins.contains_key(need.id.as_str())
            && !self.idle_stand_ins.contains_key(need.id.as_str())
        {
            out.implies.push(Lit::not(component.absent()));
            self.forbid(component, out, |facts| !facts.meets(need));
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
        for need in facts.needs.iter().filter(|need| !is_own(&need.id)) {
            if self.counts(|| Fact::Needs(id.clone(), need.id.clone())) {
                self.demand(std::slice::from_ref(need), Present::Running, out);
            }
        }
        for need in facts
            .needs_installed
            .iter()
            .filter(|need| !is_own(&need.id))
        {
            if self.counts(|| Fact::NeedsInstalled(id.clone(), need.id.clone())) {
                self.demand(std::slice::from_ref(need), Present::Installed, out);
            }
        }
        for needs in &facts.needs_any {
            let own = needs.iter().any(|need| is_own(&need.id));
            if !own
                && self.counts(|| {
                    Fact::NeedsAny(id.clone(), needs.iter().map(|n| n.id.clone()).collect())
                })
            {
                self.demand(needs, Present::Running, out);
            }
        }
        for need in facts.uses.iter().filter(|need| runs(&need.id)) {
            if self.counts(|| Fact::Uses(id.clone(), need.id.clone())) {
                let unfit = |version: &Version| !need.is_met_by(&need.id, Some(version));
                self.forbid_bearers(id, &need.id, Present::Running, out, unfit);
            }
        }
        for clash in facts.clashes.iter().filter(|clash| runs(&clash.id)) {
            if self.counts(|| Fact::Clashes(id.clone(), clash.id.clone())) {
                let meant = |version: &Version| clash.is_met_by(&clash.id, Some(version));
                self.forbid_bearers(id, &clash.id, Present::Running, out, meant);
            }
        }
        for replaced in facts
            .replaces
            .iter()
            .filter(|replaced| present(replaced, Present::Installed))
        {
            if self.counts(|| Fact::Replaces(id.clone(), replaced.clone())) {
                self.forbid_bearers(id, replaced, Present::Installed, out, |_| true);
            }
        }
        for companion in facts.companions.iter().filter(|other| runs(other)) {
            if self.counts(|| Fact::Companions(id.clone(), companion.clone())) {
                self.forbid_bearers(id, companion, Present::Running, out, |version| {
                    *version != facts.version
                });
            }
        }
        for group in facts.groups() {
            if self.counts(|| Fact::Group(group.to_owned())) {
                let rivals = self.groups.get(group).into_iter().flatten();
                let others = rivals.filter(|var| self.component_of(**var).id != id);
                out.implies.extend(others.map(|var| Lit::not(*var)));
            }
        }
        self.asks_of_build(facts, out);
    }

    /// What a release asks of the build and the framework.
    fn asks_of_build(&self, facts: &Facts, out: &mut Expansion) {
        let id = &facts.id;
        if let Some(build) = self.builds.map(|build| &self.components[build as usize])
            && facts.kind != Kind::Build
        {
            // With test of one server version alone, what does not run there is left out already.
            if let Some(range) = &facts.server
                && build.candidates.len() > 1
                && !self.request.policy.untested
                && self.counts(|| Fact::Runs(id.clone()))
            {
                self.forbid(build, out, |build| !range.holds_early(&build.version));
            }
            if let Some(range) = &facts.runtime
                && self.counts(|| Fact::Runtime(id.clone()))
            {
                let out_of_range = |version: &Version| !range.holds_early(version);
                self.forbid(build, out, |build| {
                    build.build.runtime.as_ref().is_some_and(out_of_range)
                });
            }
            if let Some(flavour) = &facts.flavour
                && self.counts(|| Fact::Flavour(id.clone()))
            {
                self.forbid(build, out, |build| {
                    let flavours = &build.build.flavours;
                    !flavours.is_empty() && !flavours.contains(flavour)
                });
            }
        }
        if let Some(range) = &facts.framework
            && facts.kind != Kind::Framework
            && self.counts(|| Fact::Framework(id.clone()))
        {
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
}

/// The components that facts speak of, with all that could stand in for them.
pub(super) fn named_by(request: &Request, lens: &BTreeSet<Fact>) -> BTreeSet<Id> {
    let mut named = BTreeSet::from([request.build.clone()]);
    let mut everything = false;
    let (mut groups, mut kinds, mut frameworks) = (BTreeSet::new(), BTreeSet::new(), false);
    for fact in lens {
        named.extend(fact.names());
        match fact {
            Fact::Group(group) => {
                groups.insert(group.as_str());
            }
            Fact::Room(kind) => {
                kinds.insert(kind.as_str());
            }
            Fact::Framework(_) => frameworks = true,
            Fact::Target => everything |= request.build_outside,
            _ => {}
        }
    }
    let held = request.held.iter().map(|held| &held.facts);
    let all: Vec<&Facts> = held
        .chain(request.offers.iter().map(|offer| &offer.facts))
        .collect();
    let mut more = BTreeSet::new();
    for facts in all {
        let stands_in = facts.stands_for().any(|(id, _)| named.contains(id));
        let grouped = facts.groups().any(|group| groups.contains(group));
        let takes = facts.takes.keys().any(|kind| kinds.contains(kind.as_str()));
        let framework = frameworks && facts.kind == Kind::Framework;
        if everything || stands_in || grouped || takes || framework {
            more.insert(facts.id.clone());
        }
    }
    named.extend(more);
    named
}
