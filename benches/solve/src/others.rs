//! Two general version-solving crates on the same instance.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::fmt::{Debug, Display};
use std::time::{Duration, Instant};

use pubgrub::{DefaultStringReporter, DependencyConstraints, OfflineDependencyProvider, PubGrubError, Reporter as _};
use resolvo::utils::Pool;
use resolvo::{
    Candidates, Condition, ConditionId, Dependencies, DependencyProvider, HintDependenciesAvailable, Interner,
    KnownDependencies, NameId, Requirement, SolvableId, SolverCache, StringId, UnsolvableOrCancelled, VersionSetId,
    VersionSetUnionId,
};
use version_ranges::Ranges;
use yalotheca_core::id::ItemId;
use yalotheca_core::version::{Scheme, Version};

use crate::instance::{ALL, Instance, Span};

/// Spans with what is provided written out as who provides it.
fn spelled(instance: &Instance, any: &[Span], providers: &HashMap<usize, Vec<Span>>) -> Vec<Span> {
    any.iter()
        .flat_map(|span| match instance.items.get(span.0) {
            Some(_) => vec![*span],
            None => providers.get(&span.0).cloned().unwrap_or_default(),
        })
        .collect()
}

fn providers(instance: &Instance) -> HashMap<usize, Vec<Span>> {
    let mut out: HashMap<usize, Vec<Span>> = HashMap::new();
    for (item, versions) in instance.items.iter().enumerate() {
        for (number, version) in versions.iter().enumerate() {
            let v = number as u32 + 1;
            for provided in &version.provides {
                out.entry(*provided).or_default().push((item, v, v));
            }
        }
    }
    // newest first, as ours takes them
    out.values_mut().for_each(|v| v.reverse());
    out
}

/// What packages and versions are called.
pub trait Names {
    type Package: pubgrub::Package;
    type Version: Ord + Clone + Debug + Display;
    fn package(number: u32) -> Self::Package;
    fn version(number: u32) -> Self::Version;
}

/// As numbers: nothing is cheaper.
pub struct Numbers;

impl Names for Numbers {
    type Package = u32;
    type Version = u32;
    fn package(number: u32) -> u32 {
        number
    }
    fn version(number: u32) -> u32 {
        number
    }
}

/// As ids and versions as they are written: what ours is given.
pub struct Texts;

/// A version in its order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Written(Version);

impl Ord for Written {
    fn cmp(&self, other: &Self) -> Ordering {
        self.0.total(&other.0, Scheme::Plain)
    }
}

impl PartialOrd for Written {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Display for Written {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.0.as_str())
    }
}

impl Names for Texts {
    type Package = ItemId;
    type Version = Written;
    fn package(number: u32) -> ItemId {
        ItemId::new(&format!("i{number}")).unwrap_or_else(|_| unreachable!())
    }
    fn version(number: u32) -> Written {
        Written(Version::new(&number.to_string()))
    }
}

fn range(span: &Span) -> Ranges<u32> {
    named::<Numbers>(span)
}

fn named<N: Names>(span: &Span) -> Ranges<N::Version> {
    match span {
        (_, 1, ALL) => Ranges::full(),
        (_, low, ALL) => Ranges::higher_than(N::version(*low)),
        (_, low, high) => Ranges::between(N::version(*low), N::version(high + 1)),
    }
}

/// The first: no alternatives and no clashes of its own, so each is a package that only stands for it. All of it is made
/// beforehand.
pub fn first<N: Names>(instance: &Instance) -> impl FnOnce() -> (String, Duration) + use<N> {
    let by = providers(instance);
    let items = instance.items.len();
    let (package, version_of) = (N::package, N::version);
    let mut provider: OfflineDependencyProvider<N::Package, Ranges<N::Version>> = OfflineDependencyProvider::new();
    let mut next = items as u32 + 1;
    // who must not be there with whom: one switch for each
    let mut switches: HashMap<(usize, u32), Vec<(u32, u32)>> = HashMap::new();
    for (item, versions) in instance.items.iter().enumerate() {
        for (number, version) in versions.iter().enumerate() {
            for (other, low, high) in &version.apart {
                let switch = next;
                next += 1;
                provider.add_dependencies(package(switch), version_of(1), []);
                provider.add_dependencies(package(switch), version_of(2), []);
                switches.entry((item, number as u32 + 1)).or_default().push((switch, 1));
                let there = instance.items.get(*other).map_or(0, Vec::len) as u32;
                for v in *low..=(*high).min(there) {
                    switches.entry((*other, v)).or_default().push((switch, 2));
                }
            }
        }
    }
    let mut standing: HashMap<Vec<Span>, u32> = HashMap::new();
    for (item, versions) in instance.items.iter().enumerate() {
        for (number, version) in versions.iter().enumerate() {
            let v = number as u32 + 1;
            let mut needs: HashMap<u32, Ranges<N::Version>> = HashMap::new();
            let mut add = |package: u32, range: Ranges<N::Version>| {
                let known = needs.entry(package).or_insert_with(Ranges::full);
                *known = known.intersection(&range);
            };
            for any in &version.needs {
                let any = spelled(instance, any, &by);
                if let [one] = any.as_slice() {
                    add(one.0 as u32, named::<N>(one));
                    continue;
                }
                let stands = *standing.entry(any.clone()).or_insert_with(|| {
                    next += 1;
                    // the first named is the newest of them
                    for (at, span) in any.iter().rev().enumerate() {
                        let one = (package(span.0 as u32), named::<N>(span));
                        provider.add_dependencies(package(next), version_of(at as u32 + 1), [one]);
                    }
                    next
                });
                add(stands, Ranges::full());
            }
            for (switch, side) in switches.get(&(item, v)).into_iter().flatten() {
                add(*switch, Ranges::singleton(version_of(*side)));
            }
            let needs = needs.into_iter().map(|(p, r)| (package(p), r));
            provider.add_dependencies(
                package(item as u32),
                version_of(v),
                needs.collect::<DependencyConstraints<_, _>>(),
            );
        }
    }
    let root = package(u32::MAX);
    provider.add_dependencies(
        root.clone(),
        version_of(1),
        instance.wants.iter().map(|w| (package(w.0 as u32), named::<N>(w))),
    );
    move || {
        let begin = Instant::now();
        let found = pubgrub::resolve(&provider, root, version_of(1));
        let said = match found {
            Ok(found) => format!("{} packages", found.len()),
            Err(PubGrubError::NoSolution(tree)) => {
                format!("impossible, told in {} lines", DefaultStringReporter::report(&tree).lines().count())
            }
            Err(_) => "failed".to_owned(),
        };
        (said, begin.elapsed())
    }
}

struct Second<'a> {
    instance: &'a Instance,
    by: HashMap<usize, Vec<Span>>,
    pool: Pool<Ranges<u32>>,
}

impl Second<'_> {
    fn set(&self, span: &Span) -> VersionSetId {
        let name = self.pool.intern_package_name(span.0.to_string());
        self.pool.intern_version_set(name, range(span))
    }

    fn require(&self, any: &[Span]) -> Requirement {
        let any = spelled(self.instance, any, &self.by);
        let mut sets = any.iter().map(|s| self.set(s)).collect::<Vec<_>>().into_iter();
        match (sets.next(), sets.len()) {
            (Some(one), 0) => one.into(),
            (Some(one), _) => self.pool.intern_version_set_union(one, sets).into(),
            // nobody provides it
            (None, _) => self.set(&(usize::MAX, 1, 1)).into(),
        }
    }

    fn number(&self, name: NameId) -> usize {
        self.pool.resolve_package_name(name).parse().unwrap_or(usize::MAX)
    }
}

impl Interner for Second<'_> {
    fn display_solvable(&self, solvable: SolvableId) -> impl Display + '_ {
        let s = self.pool.resolve_solvable(solvable);
        format!("{} {}", self.pool.resolve_package_name(s.name), s.record)
    }
    fn display_name(&self, name: NameId) -> impl Display + '_ {
        self.pool.resolve_package_name(name).clone()
    }
    fn display_version_set(&self, set: VersionSetId) -> impl Display + '_ {
        self.pool.resolve_version_set(set).clone()
    }
    fn display_string(&self, string: StringId) -> impl Display + '_ {
        self.pool.resolve_string(string).to_owned()
    }
    fn version_set_name(&self, set: VersionSetId) -> NameId {
        self.pool.resolve_version_set_package_name(set)
    }
    fn solvable_name(&self, solvable: SolvableId) -> NameId {
        self.pool.resolve_solvable(solvable).name
    }
    fn version_sets_in_union(&self, union: VersionSetUnionId) -> impl Iterator<Item = VersionSetId> {
        self.pool.resolve_version_set_union(union)
    }
    fn resolve_condition(&self, condition: ConditionId) -> Condition {
        self.pool.resolve_condition(condition).clone()
    }
}

impl DependencyProvider for Second<'_> {
    async fn filter_candidates(&self, candidates: &[SolvableId], set: VersionSetId, inverse: bool) -> Vec<SolvableId> {
        let range = self.pool.resolve_version_set(set);
        let fits = |s: &SolvableId| range.contains(&self.pool.resolve_solvable(*s).record) != inverse;
        candidates.iter().copied().filter(fits).collect()
    }
    async fn get_candidates(&self, name: NameId) -> Option<Candidates> {
        let versions = self.instance.items.get(self.number(name))?;
        let candidates = (1..=versions.len() as u32).map(|v| self.pool.intern_solvable(name, v)).collect();
        Some(Candidates {
            candidates,
            hint_dependencies_available: HintDependenciesAvailable::None,
            ..Candidates::default()
        })
    }
    async fn sort_candidates(&self, _: &SolverCache<Self>, solvables: &mut [SolvableId]) {
        solvables.sort_by_key(|s| std::cmp::Reverse(self.pool.resolve_solvable(*s).record));
    }
    async fn get_dependencies(&self, solvable: SolvableId) -> Dependencies {
        let s = self.pool.resolve_solvable(solvable);
        let version = &self.instance.items[self.number(s.name)][s.record as usize - 1];
        Dependencies::Known(KnownDependencies {
            requirements: version.needs.iter().map(|any| self.require(any).into()).collect(),
            // it may stand beside everything but those
            constrains: version
                .apart
                .iter()
                .map(|span| {
                    let name = self.pool.intern_package_name(span.0.to_string());
                    self.pool.intern_version_set(name, range(span).complement())
                })
                .collect(),
        })
    }
}

/// The second: alternatives and clashes are its own.
pub fn second(instance: &Instance) -> impl FnOnce() -> (String, Duration) + '_ {
    let provider = Second { instance, by: providers(instance), pool: Pool::default() };
    move || {
        let begin = Instant::now();
        let wants = instance.wants.iter().map(|w| provider.require(&[*w]).into()).collect();
        let mut solver = resolvo::Solver::new(provider);
        let found = solver.solve(resolvo::Problem::new().requirements(wants));
        let said = match found {
            Ok(found) => format!("{} packages", found.len()),
            Err(UnsolvableOrCancelled::Unsolvable(conflict)) => {
                let told = conflict.display_user_friendly(&solver).to_string();
                format!("impossible, told in {} lines", told.lines().count())
            }
            Err(UnsolvableOrCancelled::Cancelled(_)) => "failed".to_owned(),
        };
        (said, begin.elapsed())
    }
}
