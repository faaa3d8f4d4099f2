//! The crate `resolvo`: lists of which one has to hold are its unions, what is shut out are its constraints.

use super::{Outcome, Package, Place, Plain, Term};
use pubgrub::Ranges;
use resolvo::utils::Pool;
use resolvo::{
    Candidates, Condition, ConditionId, Dependencies, DependencyProvider,
    HintDependenciesAvailable, Interner, KnownDependencies, NameId, Problem, Requirement,
    SolvableId, Solver, SolverCache, StringId, UnsolvableOrCancelled, VersionSetId,
    VersionSetUnionId,
};
use std::any::Any;
use std::fmt::Display;
use std::time::Instant;

struct Provider<'p> {
    plain: &'p Plain<'p>,
    pool: Pool<Ranges<Place>>,
    names: Vec<NameId>,
    solvables: Vec<Vec<SolvableId>>,
    /// What each solvable is.
    releases: Vec<(Package, Place)>,
    requirements: Vec<Requirement>,
    until: Instant,
}

impl<'p> Provider<'p> {
    fn new(plain: &'p Plain<'p>, until: Instant) -> Provider<'p> {
        let pool: Pool<Ranges<Place>> = Pool::default();
        let names = plain.names.iter();
        let names: Vec<NameId> = names
            .map(|id| pool.intern_package_name(id.as_str()))
            .collect();
        let mut releases = Vec::new();
        let all = plain.releases.iter().zip(&names).enumerate();
        let solvables = all.map(|(package, (of_package, name))| {
            let places = (0..of_package.len() as Place).map(|place| {
                releases.push((package as Package, place));
                pool.intern_solvable(*name, place)
            });
            places.collect()
        });
        let solvables = solvables.collect();
        let mut provider = Provider {
            plain,
            pool,
            names,
            solvables,
            releases,
            requirements: Vec::new(),
            until,
        };
        let lists = plain.lists.iter();
        provider.requirements = lists.map(|list| provider.requirement(list)).collect();
        provider
    }

    fn set(&self, package: Package, places: Ranges<Place>) -> VersionSetId {
        let name = self.names[package as usize];
        self.pool.intern_version_set(name, places)
    }

    fn requirement(&self, list: &[Term]) -> Requirement {
        let mut sets = list
            .iter()
            .map(|term| self.set(term.package, term.places.clone()));
        match sets.next() {
            // Nothing meets it: a package that has no release does as well.
            None => {
                let nobody = self.pool.intern_package_name("nobody");
                self.pool.intern_version_set(nobody, Ranges::full()).into()
            }
            Some(only) if list.len() == 1 => only.into(),
            Some(first) => self.pool.intern_version_set_union(first, sets).into(),
        }
    }

    fn release(&self, solvable: SolvableId) -> (Package, Place) {
        self.releases[solvable.into_raw() as usize]
    }
}

impl Interner for Provider<'_> {
    type NameId = NameId;
    type SolvableId = SolvableId;

    fn display_solvable(&self, solvable: SolvableId) -> impl Display + '_ {
        let (package, place) = self.release(solvable);
        let version = self.plain.versions[package as usize][place as usize];
        format!("{} {version}", self.plain.names[package as usize])
    }

    fn display_merged_solvables(&self, solvables: &[SolvableId]) -> impl Display + '_ {
        let all = solvables.iter();
        let all: Vec<String> = all
            .map(|it| self.display_solvable(*it).to_string())
            .collect();
        all.join(" | ")
    }

    fn display_name(&self, name: NameId) -> impl Display + '_ {
        self.pool.resolve_package_name(name)
    }

    fn display_version_set(&self, set: VersionSetId) -> impl Display + '_ {
        self.pool.resolve_version_set(set)
    }

    fn display_string(&self, string: StringId) -> impl Display + '_ {
        self.pool.resolve_string(string)
    }

    fn version_set_name(&self, set: VersionSetId) -> NameId {
        self.pool.resolve_version_set_package_name(set)
    }

    fn solvable_name(&self, solvable: SolvableId) -> NameId {
        self.pool.resolve_solvable(solvable).name
    }

    fn version_sets_in_union(
        &self,
        union: VersionSetUnionId,
    ) -> impl Iterator<Item = VersionSetId> {
        self.pool.resolve_version_set_union(union)
    }

    fn resolve_condition(&self, _: ConditionId) -> Condition {
        unreachable!("no condition is ever made")
    }
}

impl DependencyProvider for Provider<'_> {
    async fn filter_candidates(
        &self,
        candidates: &[SolvableId],
        set: VersionSetId,
        inverse: bool,
    ) -> Vec<SolvableId> {
        let places = self.pool.resolve_version_set(set);
        let is_in = |id: &SolvableId| places.contains(&self.release(*id).1);
        let candidates = candidates.iter().copied();
        candidates.filter(|id| is_in(id) != inverse).collect()
    }

    async fn get_candidates(&self, name: NameId) -> Option<Candidates> {
        let package = name.into_raw() as usize;
        Some(Candidates {
            candidates: self.solvables.get(package)?.clone(),
            hint_dependencies_available: HintDependenciesAvailable::All,
            ..Candidates::default()
        })
    }

    async fn sort_candidates(&self, _: &SolverCache<Self>, solvables: &mut [SolvableId]) {
        solvables.sort_by_key(|id| std::cmp::Reverse(self.release(*id).1));
    }

    async fn get_dependencies(&self, solvable: SolvableId) -> Dependencies {
        let (package, place) = self.release(solvable);
        let release = &self.plain.releases[package as usize][place as usize];
        let needs = release.needs.iter();
        let forbids = release.forbids.iter();
        Dependencies::Known(KnownDependencies {
            requirements: needs.map(|list| self.requirements[*list].into()).collect(),
            constrains: forbids
                .map(|it| self.set(it.package, it.places.complement()))
                .collect(),
        })
    }

    fn should_cancel_with_value(&self) -> Option<Box<dyn Any>> {
        (Instant::now() >= self.until).then(|| Box::new(()) as Box<dyn Any>)
    }
}

pub(super) fn solve(plain: &Plain<'_>, until: Instant) -> Outcome {
    let provider = Provider::new(plain, until);
    let roots = plain.roots.iter();
    let roots = roots
        .map(|list| provider.requirements[*list].into())
        .collect();
    let mut solver = Solver::new(provider);
    match solver.solve(Problem::new().requirements(roots)) {
        Ok(solvables) => {
            let chosen = solvables
                .into_iter()
                .map(|id| solver.provider().release(id));
            Outcome::Chosen(chosen.collect())
        }
        Err(UnsolvableOrCancelled::Unsolvable(_)) => Outcome::Impossible,
        Err(UnsolvableOrCancelled::Cancelled(_)) => Outcome::TimeIsUp,
    }
}
