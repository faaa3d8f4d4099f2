//! One question over all servers of a group, and each server's own plan with what is agreed on.

use super::errands::{Arm, Ask, Carried, Disarm, Draw, Drawn, Fetch, OneAsked, Program};
use super::fault::GroupFault;
use super::{Found, Offers};
use crate::error::{Error, Result};
use crate::gather::Stale;
use crate::planning::{self, Sources, Terms};
use lantern_core::component::Id;
use lantern_core::group::{Agreed, Discord, agree};
use lantern_core::offer::Origin;
use lantern_core::plan::Plan;
use lantern_core::resolve::Request;
use lantern_core::supply::{Supply, Wanted};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

/// Where servers are to come to.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Targets {
    /// By their server program.
    pub by_program: BTreeMap<Id, String>,
    /// Those of the one program that is not named.
    pub others: Option<String>,
}

/// What each server was asked.
pub struct Asked {
    /// Where releases come from.
    offers: Offers,
    /// What is asked of each server by itself, in the group's order.
    terms: Vec<Terms>,
    /// What each asks the resolver.
    requests: Vec<Request>,
    /// What could not be used of what is on offer: where, and why; each once.
    pub left_out: BTreeSet<(String, String)>,
    /// Which catalogues could not be asked, each once.
    pub stale: Vec<Stale>,
    /// What lies in a drop folder, and no server carries or is to carry.
    pub passed_over: BTreeSet<Id>,
}

impl fmt::Debug for Asked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Asked")
            .field("terms", &self.terms)
            .finish_non_exhaustive()
    }
}

/// A server's own plan.
#[derive(Debug)]
pub struct OnePlan {
    /// What is asked of it.
    terms: Terms,
    /// The plan.
    pub plan: Plan,
    /// Its name, where it is armed.
    pub armed: Option<String>,
}

/// What may go on with the servers' own plans meanwhile.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Arms {
    /// They are made to be armed: what was armed before is not any more.
    Yes,
    /// They are only looked at.
    No,
}

/// What is asked only of those that carry it.
fn carried_only(terms: &Terms) -> [&Vec<String>; 5] {
    [
        &terms.on,
        &terms.off,
        &terms.drop,
        &terms.world_loses,
        &terms.variant,
    ]
}

impl Found {
    /// Puts each server's own question together. What is to be taken out or switched is asked of those that carry it; what lies in a drop
    /// folder comes to those that carry it, or should.
    ///
    /// # Errors
    /// [`GroupFault::Some`] when one of them cannot be asked.
    pub fn asked(
        &self,
        sources: &Sources,
        terms: &Terms,
        to: &Targets,
        arms: Arms,
    ) -> Result<Asked> {
        let terms = match carried_only(terms).iter().all(|ids| ids.is_empty()) {
            true => vec![terms.clone(); self.members.len()],
            false => self.terms_of_each(terms)?,
        };
        let terms = self.to_each(terms, to)?;
        let offers = self.offered(sources)?;
        let asked = self.each(|index, member| {
            member.ask(&Ask {
                from: offers.of(index, member)?,
                terms: terms[index].clone(),
                stated: self.stated(index),
                disarms: arms == Arms::Yes,
            })
        });
        let asked: Vec<OneAsked> = self.all_or_which("asked", asked)?;
        let programs = asked.iter().map(|one| &one.request.request.build);
        let several: BTreeSet<&Id> = programs.clone().collect();
        if several.len() > 1 && to.by_program.is_empty() {
            return Err(self.which_program(programs.map(Some)));
        }
        let mut all = Asked {
            offers,
            terms,
            requests: Vec::new(),
            left_out: BTreeSet::new(),
            stale: Vec::new(),
            passed_over: asked.iter().flat_map(|one| one.by_hand.clone()).collect(),
        };
        for one in asked {
            for stale in one.stale {
                if all.stale.iter().all(|known| known.url != stale.url) {
                    all.stale.push(stale);
                }
            }
            let request = one.request.request;
            let comes = request.offers.iter();
            let comes = comes.filter(|offer| offer.origin == Origin::DropFolder);
            for offer in comes {
                all.passed_over.remove(&offer.facts.id);
            }
            all.left_out.extend(one.left_out);
            all.requests.push(request);
        }
        Ok(all)
    }

    /// The terms of each server, with where it is to come to.
    fn to_each(&self, mut terms: Vec<Terms>, to: &Targets) -> Result<Vec<Terms>> {
        if to.by_program.is_empty() {
            let to = to.others.as_deref().unwrap_or(planning::SAME);
            terms.iter_mut().for_each(|terms| terms.to = to.to_owned());
            return Ok(terms);
        }
        // Why one cannot be asked is told with all that stands in the way of others.
        let programs = self.ask_each(&Program {}).into_iter();
        let programs: Vec<Option<Id>> = programs.map(Result::ok).collect();
        let known: BTreeSet<&Id> = programs.iter().flatten().collect();
        if let Some(other) = to.by_program.keys().find(|id| !known.contains(id)) {
            return Err(GroupFault::OtherProgram {
                named: other.clone(),
                known: known.into_iter().cloned().collect(),
            }
            .into());
        }
        let unsaid: BTreeSet<&Id> = known
            .iter()
            .copied()
            .filter(|id| !to.by_program.contains_key(*id))
            .collect();
        if unsaid.len() > usize::from(to.others.is_some()) {
            return Err(self.which_program(programs.iter().map(Option::as_ref)));
        }
        for (terms, program) in terms.iter_mut().zip(&programs) {
            let own = program.as_ref().and_then(|id| to.by_program.get(id));
            let to = own.or(to.others.as_ref()).map(String::as_str);
            terms.to = to.unwrap_or(planning::SAME).to_owned();
        }
        Ok(terms)
    }

    /// That they are of several programs, of which it is not said where each is to come to.
    fn which_program<'p>(&self, programs: impl Iterator<Item = Option<&'p Id>>) -> Error {
        let each = programs.zip(&self.group.servers);
        let each = each.filter_map(|(id, server)| Some((id?.clone(), server.called().to_owned())));
        GroupFault::WhichProgram(each.collect()).into()
    }

    /// What a server carries, or should, as the group's file has it.
    fn stated(&self, index: usize) -> BTreeSet<Id> {
        let own = &self.group.servers[index].own;
        self.group.all.union(own).cloned().collect()
    }

    /// Finds releases that all of them can carry.
    ///
    /// # Errors
    /// [`GroupFault::Discord`] when there are none.
    pub fn agreed(&self, asked: &Asked) -> Result<Agreed> {
        agree(&self.group, &asked.requests).map_err(|discord| self.discord(discord).into())
    }

    /// Draws each server's own plan, with what is agreed on. What a machine lacks of files that lie here is sent along.
    ///
    /// # Errors
    /// [`GroupFault::ToFetch`] when files have to be fetched first; [`GroupFault::Some`] when one has no plan otherwise, would not be as
    /// agreed, or takes several stops.
    pub fn drawn(&self, asked: &Asked, agreed: &Agreed) -> Result<Vec<OnePlan>> {
        let terms_of = |index: usize| {
            let mut terms = asked.terms[index].clone();
            let pins = agreed.at[index].iter();
            terms
                .keep
                .extend(pins.map(|(id, version)| format!("{id}={version}")));
            terms
        };
        let drawn = self.each(|index, member| {
            let agreed = agreed.at[index].iter();
            let draw = Draw {
                from: asked.offers.of(index, member)?,
                terms: terms_of(index),
                stated: self.stated(index),
                agreed: agreed
                    .map(|(id, version)| (id.clone(), version.to_string()))
                    .collect(),
            };
            let drawn = member.ask(&draw)?;
            let (Some(there), Some(sent), Drawn::ToFetch(wanted)) =
                (member.there(), &asked.offers.sent, &drawn)
            else {
                return Ok(drawn);
            };
            let lie_here: Vec<Supply> = wanted.iter().map(|it| it.supply.clone()).collect();
            match sent.send(there, &lie_here)? {
                true => member.ask(&draw),
                false => Ok(drawn),
            }
        });
        let mut wanted: Vec<(usize, Wanted)> = Vec::new();
        let mut others = false;
        let mut plans = Vec::new();
        for (server, one) in drawn.into_iter().enumerate() {
            plans.push(match one {
                Ok(Drawn::Plan(plan)) => Ok(OnePlan {
                    terms: terms_of(server),
                    plan: *plan,
                    armed: None,
                }),
                Ok(Drawn::ToFetch(files)) => {
                    let told =
                        GroupFault::ToFetch(files.iter().map(|it| (server, it.clone())).collect());
                    for it in files {
                        let is_there = self.members[server].there();
                        let known = |(other, known): &(usize, Wanted)| {
                            *known == it
                                && is_there.is_none_or(|there| {
                                    let other = self.members[*other].there();
                                    other.is_some_and(|other| other.is_beside(there))
                                })
                        };
                        if !wanted.iter().any(known) {
                            wanted.push((server, it));
                        }
                    }
                    Err(told.into())
                }
                Err(error) => {
                    others = true;
                    Err(error)
                }
            });
        }
        if !wanted.is_empty() && !others {
            return Err(GroupFault::ToFetch(wanted).into());
        }
        self.all_or_which("planned", plans)
    }

    /// Has files fetched from the web by the lantern that works at a server on another machine. What could not be had, and why; none where
    /// that server lies here.
    ///
    /// # Errors
    /// When it cannot be asked.
    pub fn fetched_there(
        &self,
        server: usize,
        files: &[Wanted],
    ) -> Result<Option<Vec<(Wanted, String)>>> {
        let member = &self.members[server];
        let fetch = Fetch {
            files: files.to_vec(),
        };
        member.there().map(|_| member.ask(&fetch)).transpose()
    }

    /// Writes each server's own plan down, and arms it, where it does anything. Where that fails at one of them, none is armed.
    ///
    /// # Errors
    /// [`GroupFault::Some`] when it cannot be written at one of them.
    pub fn arm(&self, asked: &Asked, plans: Vec<OnePlan>) -> Result<Vec<OnePlan>> {
        let mut mark = blake3::Hasher::new();
        for one in &plans {
            mark.update(one.plan.to_json().as_bytes());
        }
        let mark = mark.finalize().to_hex()[..16].to_owned();
        let armed = self.each(|index, member| {
            let one = &plans[index];
            member.ask(&Arm {
                from: asked.offers.of(index, member)?,
                terms: one.terms.clone(),
                plan: one.plan.clone(),
                mark: mark.clone(),
            })
        });
        let armed = self.all_or_which("armed", armed).inspect_err(|_| {
            let _ = self.ask_each(&Disarm {
                why: "another server of its group could not be armed".into(),
            });
        })?;
        let both = plans.into_iter().zip(armed);
        Ok(both.map(|(one, armed)| OnePlan { armed, ..one }).collect())
    }

    /// What is asked of each server: what is to be taken out or switched only where it is carried, unless nobody carries it.
    fn terms_of_each(&self, terms: &Terms) -> Result<Vec<Terms>> {
        let named = carried_only(terms).into_iter().flatten().cloned().collect();
        let carried = self.ask_each(&Carried { named });
        let carried = self.all_or_which("asked", carried)?;
        let carries = |server: usize, text: &String| carried[server].contains(text);
        let somebody = |id: &String| (0..carried.len()).any(|server| carries(server, id));
        let each = (0..carried.len()).map(|server| {
            let here = |ids: &[String]| {
                let here = ids.iter().filter(|id| carries(server, id) || !somebody(id));
                here.cloned().collect()
            };
            Terms {
                on: here(&terms.on),
                off: here(&terms.off),
                drop: here(&terms.drop),
                world_loses: here(&terms.world_loses),
                variant: here(&terms.variant),
                ..terms.clone()
            }
        });
        Ok(each.collect())
    }

    /// All of what was found; or which of the servers stand in the way.
    pub(super) fn all_or_which<T>(
        &self,
        doing: &'static str,
        found: Vec<Result<T>>,
    ) -> Result<Vec<T>> {
        let mut all = Vec::new();
        let mut servers = Vec::new();
        for (server, one) in self.group.servers.iter().zip(found) {
            match one {
                Ok(one) => all.push(one),
                Err(error) => servers.push((server.called().to_owned(), error.to_string())),
            }
        }
        match servers.is_empty() {
            true => Ok(all),
            false => Err(GroupFault::Some { doing, servers }.into()),
        }
    }

    /// Why they do not agree, in words.
    fn discord(&self, discord: Discord) -> GroupFault {
        let names = |servers: &[usize]| {
            let names = servers.iter().map(|it| self.group.servers[*it].called());
            names.collect::<Vec<_>>().join(", ")
        };
        let told = |told: String| GroupFault::Discord {
            told,
            apart: Vec::new(),
            conflicts: 0,
        };
        match discord {
            Discord::Behind {
                program,
                held,
                discord,
            } => {
                let held: Vec<&str> = held.iter().map(Id::as_str).collect();
                let held = held.join(", ");
                match self.discord(*discord) {
                    GroupFault::Discord {
                        told,
                        apart,
                        conflicts,
                    } => GroupFault::Discord {
                        told: format!(
                            "servers of {program}, with what they share with those of another program held at what was found for those ({held}): {told}"
                        ),
                        apart,
                        conflicts,
                    },
                    other => other,
                }
            }
            Discord::Targets(targets) => {
                let each = targets.iter();
                let each = each.map(|(to, servers)| format!("{to} at {}", names(servers)));
                told(format!(
                    "not all of its servers would come to one version: {}",
                    each.collect::<Vec<_>>().join("; ")
                ))
            }
            Discord::Builds(builds) if builds.is_empty() => {
                told("no catalogue and no drop folder that is named, here or in lantern.toml, has a server version that would do".into())
            }
            Discord::Builds(builds) => {
                let each = builds.iter();
                let each =
                    each.map(|(version, servers)| format!("{version} for {}", names(servers)));
                told(format!(
                    "no server version that would do is on offer for all of its servers: there is {}",
                    each.collect::<Vec<_>>().join("; ")
                ))
            }
            Discord::Obstacle {
                obstacle,
                told,
                apart,
            } => GroupFault::Discord {
                told,
                apart,
                conflicts: obstacle.conflicts.len(),
            },
        }
    }
}
