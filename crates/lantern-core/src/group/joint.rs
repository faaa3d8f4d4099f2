//! One question over all servers of a group: one release of each component that they share, which fits every one of them.
//!
//! Each server's own question becomes a part of one, in which everything bears the server's name; what they share is bound together, as
//! components are that have to move in one version. Servers that are asked the same are one part. What is found is then asked of each server by
//! itself: only the shared releases are settled here.

use super::named::Names;
use super::{Group, GroupServer};
use crate::component::{Id, Kind, Member};
use crate::facts::Facts;
use crate::resolve::{Fact, Held, Obstacle, Request, Selection, Target, first_answer, resolve};
use crate::version::Version;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// What servers of a group agree on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Agreed {
    /// The release of each component that two or more of them could share.
    pub shared: BTreeMap<Id, Version>,
    /// Of each server, in the group's order: what of it is to be kept at the version that is agreed on.
    pub at: Vec<BTreeMap<Id, Version>>,
    /// Whether it is proved that nothing would be better.
    pub proved: bool,
}

/// Why servers of a group do not agree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Discord {
    /// Servers of this program do not agree, with what they share with those of others held at the releases that were found for those.
    Behind {
        /// The program.
        program: Id,
        /// What is held.
        held: BTreeSet<Id>,
        /// Why they do not.
        discord: Box<Discord>,
    },
    /// They are to become different versions.
    Targets(Vec<(String, Vec<usize>)>),
    /// Nobody offers one version of the server program to all of them: those that are asked for, each with the servers that have it.
    Builds(Vec<(Version, Vec<usize>)>),
    /// Their components do not fit together.
    Obstacle {
        /// What stands in the way.
        obstacle: Box<Obstacle>,
        /// The same in words.
        told: String,
        /// Components of which it would help if they were not one release at all servers; each was tried by itself.
        apart: Vec<Id>,
    },
}

impl Discord {
    /// The same, of servers that are these among all.
    fn at(self, servers: &[usize]) -> Discord {
        fn all<T>(each: Vec<(T, Vec<usize>)>, servers: &[usize]) -> Vec<(T, Vec<usize>)> {
            let each = each.into_iter().map(|(what, own)| {
                let own = own.into_iter().map(|it| servers[it]);
                (what, own.collect())
            });
            each.collect()
        }
        match self {
            Discord::Targets(each) => Discord::Targets(all(each, servers)),
            Discord::Builds(each) => Discord::Builds(all(each, servers)),
            Discord::Behind {
                program,
                held,
                discord,
            } => Discord::Behind {
                program,
                held,
                discord: Box::new(discord.at(servers)),
            },
            Discord::Obstacle { .. } => self,
        }
    }
}

/// Servers that are asked the same.
struct Part<'a> {
    servers: Vec<usize>,
    name: String,
    request: &'a Request,
    own: &'a BTreeSet<Id>,
}

/// Finds releases that every server of a group can carry.
///
/// `asked` is each server's own question, in the group's order. Servers of one program are asked at once; those of another one then, with what they
/// share held at the releases that were found before. Where those do not fit, they are asked first. So what is found holds for all; where nothing
/// is, nothing was found in that way.
///
/// # Errors
/// With what stands in the way.
pub fn agree(group: &Group, asked: &[Request]) -> Result<Agreed, Discord> {
    let mut programs = programs(asked);
    let mut were_first = BTreeSet::new();
    loop {
        were_first.extend(programs.first().map(|(program, _)| program.clone()));
        match agree_in_turn(group, asked, &programs) {
            Err(Discord::Behind { program, .. }) if !were_first.contains(&program) => {
                programs.sort_by_key(|(id, _)| *id != program);
            }
            found => return found,
        }
    }
}

/// The same, in this order of programs, each with its servers as indices.
fn agree_in_turn(
    group: &Group,
    asked: &[Request],
    programs: &[(Id, Vec<usize>)],
) -> Result<Agreed, Discord> {
    let mut all = Agreed {
        shared: BTreeMap::new(),
        at: vec![BTreeMap::new(); asked.len()],
        proved: true,
    };
    for (at, (program, servers)) in programs.iter().enumerate() {
        let own: Vec<&GroupServer> = servers.iter().map(|it| &group.servers[*it]).collect();
        // What servers of other programs could share with these.
        let later = programs[at + 1..].iter().flat_map(|(_, later)| later);
        let others = later.flat_map(|it| ids_in(&asked[*it]));
        let others: BTreeSet<Id> = others.chain(all.shared.keys()).cloned().collect();
        let requests: Vec<Request> = servers.iter().map(|it| asked[*it].clone()).collect();
        let free = of_one_program(&own, &requests, &others).map_err(|it| it.at(servers))?;
        let is_same = |(id, version): (&Id, &Version)| {
            all.shared.get(id).is_none_or(|known| known == version)
        };
        let agreed = match free.shared.iter().all(is_same) {
            true => free,
            // Another release of what both share might have been better for these.
            false => Agreed {
                proved: false,
                ..held_at(&all.shared, program, &own, requests, &others)
                    .map_err(|it| it.at(servers))?
            },
        };
        for (index, mut pins) in servers.iter().zip(agreed.at) {
            // Also what none of these carries in the end: by itself, a server might choose it.
            let own = &group.servers[*index].own;
            let before = all.shared.iter().filter(|(id, _)| !own.contains(*id));
            let before = before.filter(|(id, _)| asked[*index].releases(id).next().is_some());
            pins.extend(before.map(|(id, version)| (id.clone(), version.clone())));
            all.at[*index] = pins;
        }
        all.shared.extend(agreed.shared);
        all.proved &= agreed.proved;
    }
    Ok(all)
}

/// The same of servers of one program, with what they share with others held at what was found for those.
fn held_at(
    shared: &BTreeMap<Id, Version>,
    program: &Id,
    servers: &[&GroupServer],
    mut asked: Vec<Request>,
    others: &BTreeSet<Id>,
) -> Result<Agreed, Discord> {
    let mut held = BTreeSet::new();
    for (request, server) in asked.iter_mut().zip(servers) {
        for (id, version) in shared.iter().filter(|(id, _)| !server.own.contains(*id)) {
            if request.releases(id).next().is_some() {
                request.keep.push((id.clone(), Some(version.clone())));
                held.insert(id.clone());
            }
        }
    }
    of_one_program(servers, &asked, others).map_err(|discord| Discord::Behind {
        program: program.clone(),
        held,
        discord: Box::new(discord),
    })
}

/// The servers of each program, as indices, in the order of the first of each.
fn programs(asked: &[Request]) -> Vec<(Id, Vec<usize>)> {
    let programs = by(asked, |request| {
        (request.build.clone(), request.build_outside)
    });
    let programs = programs.into_iter();
    programs.map(|((id, _), servers)| (id, servers)).collect()
}

/// The same of servers of one program; what is in `others` counts as shared also where one of these alone could carry it.
fn of_one_program(
    servers: &[&GroupServer],
    asked: &[Request],
    others: &BTreeSet<Id>,
) -> Result<Agreed, Discord> {
    let first = one_question(asked)?;
    let parts = parts(servers, asked);
    let mut joint = Joint {
        names: Names {
            build: &first.build,
            servers: parts.iter().map(|part| &*part.name).collect(),
        },
        parts: &parts,
        ties: ties(&parts, &first.build, others),
        in_pairs: BTreeSet::new(),
    };
    loop {
        let request = joint.request()?;
        let selection = resolve(&request).map_err(|found| joint.discord(&request, found))?;
        let found = joint.found(&selection);
        let several: BTreeSet<Id> = found
            .iter()
            .filter(|(_, versions)| versions.len() > 1)
            .map(|(id, _)| (*id).clone())
            .collect();
        // What holds the others together may have been taken out: then each is bound to each.
        if several.is_subset(&joint.in_pairs) {
            return Ok(joint.agreed(asked.len(), &selection, &found));
        }
        joint.in_pairs.extend(several);
    }
}

/// Servers by something of their questions, as indices, in the order of the first of each.
fn by<T: PartialEq>(asked: &[Request], of: impl Fn(&Request) -> T) -> Vec<(T, Vec<usize>)> {
    let mut by: Vec<(T, Vec<usize>)> = Vec::new();
    for (index, request) in asked.iter().enumerate() {
        let what = of(request);
        match by.iter_mut().find(|(known, _)| *known == what) {
            Some((_, servers)) => servers.push(index),
            None => by.push((what, vec![index])),
        }
    }
    by
}

/// Whether all are asked for the same version; the first.
fn one_question(asked: &[Request]) -> Result<&Request, Discord> {
    let targets = by(asked, |request| request.target.to_string());
    match asked {
        [first, ..] if targets.len() == 1 => Ok(first),
        _ => Err(Discord::Targets(targets)),
    }
}

fn parts<'a>(servers: &[&'a GroupServer], asked: &'a [Request]) -> Vec<Part<'a>> {
    let mut parts: Vec<Part<'_>> = Vec::new();
    for (index, (server, request)) in servers.iter().zip(asked).enumerate() {
        let mut known = parts.iter_mut();
        match known.find(|part| *part.own == server.own && part.request == request) {
            Some(part) => part.servers.push(index),
            None => parts.push(Part {
                servers: vec![index],
                name: String::new(),
                request,
                own: &server.own,
            }),
        }
    }
    for part in &mut parts {
        let name = |index: usize| servers[part.servers[index]].called();
        part.name = match part.servers.len() {
            1 => name(0).to_owned(),
            2 => format!("{} and {}", name(0), name(1)),
            many => format!("{} and {} more", name(0), many - 1),
        };
    }
    parts
}

/// All that a server could carry.
fn ids_in(request: &Request) -> BTreeSet<&Id> {
    let held = request.held.iter().map(|held| &held.facts.id);
    let offered = request.offers.iter().map(|offer| &offer.facts.id);
    held.chain(offered).collect()
}

/// What two or more servers could carry, and none of those has to itself: each id with their parts. What is in `others` counts as well.
fn ties<'a>(parts: &[Part<'a>], build: &Id, others: &BTreeSet<Id>) -> BTreeMap<&'a Id, Vec<usize>> {
    let mut ties: BTreeMap<&Id, Vec<usize>> = BTreeMap::new();
    for (index, part) in parts.iter().enumerate() {
        for id in ids_in(part.request) {
            if id != build && !part.own.contains(id) {
                ties.entry(id).or_default().push(index);
            }
        }
    }
    ties.retain(|id, at| {
        let servers: usize = at.iter().map(|it| parts[*it].servers.len()).sum();
        servers > 1 || others.contains(*id)
    });
    ties
}

struct Joint<'a> {
    names: Names<'a>,
    parts: &'a [Part<'a>],
    ties: BTreeMap<&'a Id, Vec<usize>>,
    /// What is bound each to each, and not all to one.
    in_pairs: BTreeSet<Id>,
}

impl<'a> Joint<'a> {
    /// A component as a part has it.
    fn id(&self, id: &Id, part: usize) -> Id {
        self.names.id(id, &self.parts[part].name)
    }

    fn request(&self) -> Result<Request, Discord> {
        let first = self.parts[0].request;
        let mut all = Request {
            build_outside: first.build_outside,
            policy: first.policy.clone(),
            ..Request::new(first.target.clone(), first.build.clone())
        };
        for part in self.parts {
            self.names.add(part.request, &part.name, &mut all);
        }
        if !first.build_outside {
            self.add_builds(&mut all)?;
        }
        // What is in a pack is bound by nothing: so each release bears, besides its own id, one that only it has.
        let mut bound: BTreeMap<Id, (Id, Vec<Id>)> = BTreeMap::new();
        for (id, parts) in self.ties.iter().filter(|(_, parts)| parts.len() > 1) {
            let called: Vec<Id> = parts.iter().map(|part| self.id(id, *part)).collect();
            let marks = called
                .iter()
                .map(|id| Id::new(&format!("the release of {id}")));
            let marks: Vec<Id> = marks.collect();
            let anchor = parts.iter().position(|part| self.is_anchored(id, *part));
            let anchor = anchor.filter(|_| !self.in_pairs.contains(*id));
            for (at, own) in called.into_iter().enumerate() {
                let mark = marks[at].clone();
                let others = match anchor {
                    Some(anchor) if anchor != at => vec![marks[anchor].clone()],
                    _ => marks.iter().filter(|it| **it != mark).cloned().collect(),
                };
                bound.insert(own, (mark, others));
            }
        }
        let bind = |facts: &mut Facts| {
            if let Some((mark, others)) = bound.get(&facts.id) {
                facts.companions.extend(others.iter().cloned());
                let version = facts.version.clone();
                facts.members.push(Member {
                    id: mark.clone(),
                    version,
                    group: None,
                });
            }
        };
        let held = Arc::make_mut(&mut all.held).iter_mut();
        held.for_each(|held| bind(&mut held.facts));
        let offers = Arc::make_mut(&mut all.offers).iter_mut();
        offers.for_each(|offer| bind(&mut offer.facts));
        Ok(all)
    }

    /// Whether a component runs at a part, and is sure to stay.
    fn is_anchored(&self, id: &Id, part: usize) -> bool {
        let request = self.parts[part].request;
        let stays = |held: &Held| !held.droppable && !held.off;
        let mut held = request.held.iter();
        held.any(|held| held.facts.id == *id && stays(held)) && !request.drop.contains(id)
    }

    fn is_off(&self, id: &Id, part: usize) -> bool {
        let mut held = self.parts[part].request.held.iter();
        held.any(|held| held.off && held.facts.id == *id)
    }

    /// Adds the versions of the server program that all parts have.
    fn add_builds(&self, all: &mut Request) -> Result<(), Discord> {
        let builds = |request: &'a Request| {
            let held = request.held.iter().map(|held| (&held.facts, true));
            let offered = request.offers.iter().map(|offer| (&offer.facts, false));
            let builds = held.chain(offered).filter(|(facts, is_held)| {
                facts.kind == Kind::Build && request.allowed_by_pins(facts, *is_held)
            });
            builds.map(|(facts, _)| facts)
        };
        let mut known: BTreeMap<&Version, BTreeSet<usize>> = BTreeMap::new();
        for (index, part) in self.parts.iter().enumerate() {
            for facts in builds(part.request) {
                known.entry(&facts.version).or_default().insert(index);
            }
        }
        let for_all: BTreeSet<&Version> = known
            .iter()
            .filter(|(_, parts)| parts.len() == self.parts.len())
            .map(|(version, _)| *version)
            .collect();
        let target = &self.parts[0].request.target;
        if !for_all.iter().any(|version| target.holds(version)) {
            let servers = |parts: &BTreeSet<usize>| {
                let servers = parts.iter().flat_map(|part| &self.parts[*part].servers);
                servers.copied().collect()
            };
            let known = known.iter().filter(|(version, _)| target.holds(version));
            return Err(Discord::Builds(
                known
                    .map(|(version, parts)| ((*version).clone(), servers(parts)))
                    .collect(),
            ));
        }
        let installed = |part: &Part<'a>| {
            let mut held = part.request.held.iter();
            held.find(|held| held.facts.kind == Kind::Build)
        };
        // How many slots there are is each server's own.
        let of_all = |facts: &Facts| {
            let mut of_all = self.names.facts(facts);
            let slots = self.parts.iter().flat_map(|part| {
                let same = builds(part.request).find(|it| it.version == facts.version);
                same.map(|it| Names::slots(&it.build.has, &part.name))
            });
            Arc::make_mut(&mut of_all.build).has = slots.flatten().collect();
            of_all
        };
        let first = installed(&self.parts[0]);
        let version = first.map(|held| &held.facts.version);
        let is_same = |part: &Part<'a>| installed(part).map(|it| &it.facts.version) == version;
        let first = first.filter(|held| for_all.contains(&held.facts.version));
        if let Some(held) = first.filter(|_| self.parts.iter().all(is_same)) {
            Arc::make_mut(&mut all.held).push(Held {
                facts: of_all(&held.facts),
                ..held.clone()
            });
        }
        // Where one has it and another one has it offered, it is on offer here.
        let mut told = BTreeSet::new();
        for part in self.parts {
            for offer in part.request.offers.iter() {
                let facts = &offer.facts;
                let is_meant = facts.kind == Kind::Build && for_all.contains(&facts.version);
                if is_meant && told.insert(&facts.version) {
                    let mut offer = offer.clone();
                    offer.facts = of_all(facts);
                    Arc::make_mut(&mut all.offers).push(offer);
                }
            }
        }
        Ok(())
    }

    /// The versions of what is shared that were chosen where it runs.
    fn found(&self, selection: &Selection) -> BTreeMap<&'a Id, BTreeSet<Version>> {
        let chosen = selection.choices.iter();
        let chosen: BTreeMap<&Id, &Version> =
            chosen.map(|choice| (&choice.id, &choice.to)).collect();
        let ties = self.ties.iter().map(|(id, parts)| {
            let running = parts.iter().filter(|part| !self.is_off(id, **part));
            let called = running.map(|part| self.id(id, *part));
            let versions = called.filter_map(|id| chosen.get(&id).map(|it| (*it).clone()));
            (*id, versions.collect())
        });
        ties.collect()
    }

    fn agreed(
        &self,
        servers: usize,
        selection: &Selection,
        found: &BTreeMap<&Id, BTreeSet<Version>>,
    ) -> Agreed {
        let mut choices = selection.choices.iter();
        let build = choices.find(|choice| choice.kind == Kind::Build);
        let shared = found.iter();
        let shared =
            shared.filter_map(|(id, versions)| Some(((*id).clone(), versions.first()?.clone())));
        let shared: BTreeMap<Id, Version> = shared.collect();
        let mut at = vec![BTreeMap::new(); servers];
        for (id, version) in &shared {
            for part in self.ties.get(id).into_iter().flatten() {
                let request = self.parts[*part].request;
                let mut releases = request.releases(id);
                // What is switched off, and cannot be had in that version, stays as it is.
                if !self.is_off(id, *part) || releases.any(|facts| facts.version == *version) {
                    for server in &self.parts[*part].servers {
                        at[*server].insert(id.clone(), version.clone());
                    }
                }
            }
        }
        if let (Some(build), Target::Within(_)) = (build, &self.parts[0].request.target) {
            for one in &mut at {
                one.insert(self.names.build.clone(), build.to.clone());
            }
        }
        Agreed {
            shared,
            at,
            proved: selection.proved,
        }
    }

    /// What stands in the way, and what could be let go of it.
    fn discord(&self, request: &Request, obstacle: Box<Obstacle>) -> Discord {
        let facts = obstacle.conflicts.iter().flat_map(|it| &it.facts);
        let bound = facts.filter_map(|fact| match fact {
            Fact::Companions(id, _) => Some(id),
            _ => None,
        });
        let bound: BTreeSet<&Id> = bound.collect();
        let ids = self.ties.iter().filter(|(id, parts)| {
            let mut called = parts.iter().map(|part| self.id(id, *part));
            called.any(|id| bound.contains(&id))
        });
        let apart = ids.filter(|(id, _)| {
            let mut ties = self.ties.clone();
            ties.remove(**id);
            let without = Joint {
                names: self.names.clone(),
                parts: self.parts,
                ties,
                in_pairs: self.in_pairs.clone(),
            };
            let request = without.request();
            request.is_ok_and(|request| first_answer(&request).is_some())
        });
        Discord::Obstacle {
            told: self.with_options(obstacle.tell(request)),
            apart: apart.map(|(id, _)| (*id).clone()).collect(),
            obstacle,
        }
    }

    /// Options name a component as it is called at its server; and what binds its releases is no word of the administrator's.
    fn with_options(&self, told: String) -> String {
        let mut told = told.replace(" and the release of ", " and ");
        for option in ["--drop", "--keep", "--on", "--off"] {
            for part in self.parts {
                let behind = format!(" at {}", part.name);
                let mut from = 0;
                while let Some(begin) = told[from..].find(option).map(|at| from + at) {
                    from = begin + option.len();
                    let rest = &told[from..];
                    let end = rest.find([')', ',']).unwrap_or(rest.len());
                    let end = rest.find(" --").unwrap_or(end).min(end);
                    let id = rest[..end].strip_suffix(&*behind).map(str::to_owned);
                    if let Some(id) = id {
                        told.replace_range(from..from + end, &id);
                    }
                }
            }
        }
        told
    }
}

#[cfg(test)]
mod tests;
