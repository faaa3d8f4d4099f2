//! The crate `pubgrub`, which knows nothing but that a release needs one package in a range.
//!
//! A list of which one has to hold becomes a package of its own, whose versions are its terms. Whether a package that
//! another one may shut out is there, and in which release, is a package as well: whoever shuts it out needs that to be
//! something else.

use super::{Outcome, Package, Place, Plain};
use pubgrub::{
    Dependencies, DependencyProvider, Map, PackageResolutionStatistics, PubGrubError, Ranges,
};
use std::cmp::Reverse;
use std::fmt;
use std::time::Instant;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Node {
    /// What all is needed for.
    Root,
    /// A component; its versions are places.
    Package(Package),
    /// Which term of a list holds: the later, the more it is liked.
    List(usize),
    /// Whether a component is there: 0 if not, otherwise one more than the place.
    Presence(Package),
}

impl fmt::Display for Node {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self:?}")
    }
}

struct Provider<'p> {
    plain: &'p Plain<'p>,
    always: Vec<bool>,
    shut_out: Vec<bool>,
    until: Instant,
}

/// That its time is up.
#[derive(Debug)]
struct TimeIsUp;

impl fmt::Display for TimeIsUp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the time is up")
    }
}

impl std::error::Error for TimeIsUp {}

impl Provider<'_> {
    /// How many versions a package has, beginning with 0.
    fn count(&self, node: Node) -> u32 {
        let count = match node {
            Node::Root => 1,
            Node::Package(package) => self.plain.releases[package as usize].len(),
            Node::List(list) => self.plain.lists[list].len(),
            Node::Presence(package) => self.plain.releases[package as usize].len() + 1,
        };
        count as u32
    }

    /// Needs the lists, and nothing that is shut out.
    fn needs(&self, lists: &[usize], needed: &mut Map<Node, Ranges<u32>>) {
        for list in lists {
            match &self.plain.lists[*list][..] {
                [only] => narrow(needed, Node::Package(only.package), only.places.clone()),
                _ => narrow(needed, Node::List(*list), Ranges::full()),
            }
        }
    }
}

fn narrow(needed: &mut Map<Node, Ranges<u32>>, node: Node, range: Ranges<u32>) {
    let known = needed.entry(node).or_insert_with(Ranges::full);
    *known = known.intersection(&range);
}

/// The presence in any of these places.
fn presence(places: &Ranges<Place>) -> Ranges<u32> {
    let one_more = |bound: &std::ops::Bound<Place>| bound.map(|place| place + 1);
    let runs = places.iter();
    runs.map(|(from, to)| (one_more(from), one_more(to)))
        .collect()
}

impl DependencyProvider for Provider<'_> {
    type P = Node;
    type V = u32;
    type VS = Ranges<u32>;
    type Priority = (u8, u32, Reverse<usize>);
    type M = String;
    type Err = TimeIsUp;

    /// As the crate's own provider has it: what clashed most, then what has the fewest left. Presence last, when it is known.
    fn prioritize(
        &self,
        node: &Node,
        range: &Ranges<u32>,
        statistics: &PackageResolutionStatistics,
    ) -> Self::Priority {
        if let Node::Presence(_) = node {
            return (0, 0, Reverse(0));
        }
        let left = (0..self.count(*node)).filter(|version| range.contains(version));
        match left.count() {
            0 => (2, 0, Reverse(0)),
            left => (1, statistics.conflict_count(), Reverse(left)),
        }
    }

    fn choose_version(&self, node: &Node, range: &Ranges<u32>) -> Result<Option<u32>, TimeIsUp> {
        let mut all = 0..self.count(*node);
        Ok(match node {
            Node::Presence(_) => all.find(|version| range.contains(version)),
            _ => all.rfind(|version| range.contains(version)),
        })
    }

    fn get_dependencies(
        &self,
        node: &Node,
        version: &u32,
    ) -> Result<Dependencies<Node, Ranges<u32>, String>, TimeIsUp> {
        let mut needed = Map::default();
        match *node {
            Node::Root => self.needs(&self.plain.roots, &mut needed),
            Node::Presence(_) => {}
            Node::List(list) => {
                let terms = &self.plain.lists[list];
                let term = &terms[terms.len() - 1 - *version as usize];
                narrow(
                    &mut needed,
                    Node::Package(term.package),
                    term.places.clone(),
                );
            }
            Node::Package(package) => {
                let release = &self.plain.releases[package as usize][*version as usize];
                self.needs(&release.needs, &mut needed);
                if self.shut_out[package as usize] && !self.always[package as usize] {
                    let here = Ranges::singleton(*version + 1);
                    narrow(&mut needed, Node::Presence(package), here);
                }
                for forbidden in &release.forbids {
                    let other = forbidden.package;
                    match self.always[other as usize] {
                        true => {
                            let others = forbidden.places.complement();
                            narrow(&mut needed, Node::Package(other), others);
                        }
                        false => {
                            let others = presence(&forbidden.places).complement();
                            narrow(&mut needed, Node::Presence(other), others);
                        }
                    }
                }
            }
        }
        Ok(Dependencies::Available(needed.into_iter().collect()))
    }

    fn should_cancel(&self) -> Result<(), TimeIsUp> {
        match Instant::now() < self.until {
            true => Ok(()),
            false => Err(TimeIsUp),
        }
    }
}

pub(super) fn solve(plain: &Plain<'_>, until: Instant) -> Outcome {
    let mut shut_out = vec![false; plain.names.len()];
    for forbidden in plain
        .releases
        .iter()
        .flatten()
        .flat_map(|release| &release.forbids)
    {
        shut_out[forbidden.package as usize] = true;
    }
    let provider = Provider {
        plain,
        always: plain.always(),
        shut_out,
        until,
    };
    match pubgrub::resolve(&provider, Node::Root, 0u32) {
        Ok(chosen) => {
            let chosen = chosen.into_iter().filter_map(|(node, version)| match node {
                Node::Package(package) => Some((package, version)),
                _ => None,
            });
            Outcome::Chosen(chosen.collect())
        }
        Err(PubGrubError::NoSolution(_)) => Outcome::Impossible,
        Err(PubGrubError::ErrorInShouldCancel(TimeIsUp)) => Outcome::TimeIsUp,
        Err(error) => panic!("{error:?}"),
    }
}
