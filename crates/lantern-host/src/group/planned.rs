//! One question over all servers of a group, and each server's own plan with what is agreed on.

use super::fault::GroupFault;
use super::{Found, opened};
use crate::armed;
use crate::changeover::refuse_interrupted;
use crate::config::Server;
use crate::error::{Error, Result};
use crate::gather::Stale;
use crate::glance;
use crate::ledger::Ledger;
use crate::lock::Lock;
use crate::planning::fault::PlanningFault;
use crate::planning::{self, Question, Sources, Terms};
use crate::survey::{Depth, survey};
use lantern_core::component::Id;
use lantern_core::group::{Agreed, Discord, agree};
use lantern_core::offer::Origin;
use lantern_core::plan::{Fate, Plan};
use lantern_core::resolve::Request;
use lantern_core::supply::Wanted;
use lantern_core::version::Version;
use std::collections::BTreeSet;
use std::sync::Arc;

/// What each server was asked.
#[derive(Debug)]
pub struct Asked {
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

/// What a server is asked, for the others.
struct OneAsked {
    terms: Terms,
    request: Request,
    left_out: Vec<(String, String)>,
    stale: Vec<Stale>,
    by_hand: BTreeSet<Id>,
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

impl Found {
    /// Puts each server's own question together. What is to be taken out or switched is asked of those that carry it; what lies in a drop
    /// folder comes to those that carry it, or should.
    ///
    /// # Errors
    /// [`GroupFault::Some`] when one of them cannot be asked.
    pub fn asked(&self, sources: &Sources, terms: &Terms, arms: Arms) -> Result<Asked> {
        let named = [
            &terms.on,
            &terms.off,
            &terms.drop,
            &terms.world_loses,
            &terms.variant,
        ];
        let terms = match named.iter().all(|ids| ids.is_empty()) {
            true => vec![terms.clone(); self.folders.len()],
            false => self.terms_of_each(terms)?,
        };
        let asked = self.each(|index, folder| {
            let (server, _) = opened(folder)?;
            let _lock = Lock::take(&server.folder, "group plan")?;
            refuse_interrupted(&server)?;
            if arms == Arms::Yes {
                armed::disarm(&server, "its group was asked about once more")?;
            }
            let mut ledger = Ledger::open(&server.folder)?;
            let terms = &terms[index];
            let mut question = planning::question(&server, &mut ledger, sources, terms)?;
            glance::remember(&server, &question.survey);
            let by_hand = question.request.offers.iter();
            let by_hand = by_hand.filter(|offer| offer.origin == Origin::DropFolder);
            Ok(OneAsked {
                by_hand: by_hand.map(|offer| offer.facts.id.clone()).collect(),
                request: self.narrowed(index, &mut question).clone(),
                terms: terms.clone(),
                left_out: std::mem::take(&mut question.left_out),
                stale: std::mem::take(&mut question.stale),
            })
        });
        let asked = self.all_or_which("asked", asked)?;
        let mut all = Asked {
            terms: Vec::new(),
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
            let comes = one.request.offers.iter();
            let comes = comes.filter(|offer| offer.origin == Origin::DropFolder);
            for offer in comes {
                all.passed_over.remove(&offer.facts.id);
            }
            all.left_out.extend(one.left_out);
            all.terms.push(one.terms);
            all.requests.push(one.request);
        }
        Ok(all)
    }

    /// Finds releases that all of them can carry.
    ///
    /// # Errors
    /// [`GroupFault::Discord`] when there are none.
    pub fn agreed(&self, asked: &Asked) -> Result<Agreed> {
        agree(&self.group, &asked.requests).map_err(|discord| self.discord(discord).into())
    }

    /// Draws each server's own plan, with what is agreed on.
    ///
    /// # Errors
    /// [`GroupFault::ToFetch`] when files have to be fetched first; [`GroupFault::Some`] when one has no plan otherwise, would not be as
    /// agreed, or takes several stops.
    pub fn drawn(&self, sources: &Sources, asked: &Asked, agreed: &Agreed) -> Result<Vec<OnePlan>> {
        let drawn = self.each(|index, folder| {
            let (server, _) = opened(folder)?;
            let _lock = Lock::take(&server.folder, "group plan")?;
            let mut ledger = Ledger::open(&server.folder)?;
            let mut terms = asked.terms[index].clone();
            let pins = agreed.at[index].iter();
            terms
                .keep
                .extend(pins.map(|(id, version)| format!("{id}={version}")));
            let mut question = planning::question(&server, &mut ledger, sources, &terms)?;
            self.narrowed(index, &mut question);
            question.save()?;
            let mut plans = question.plans()?;
            if let [first, .., last] = &plans[..] {
                return Err(GroupFault::Own(format!(
                    "its worlds are brought forward in stops on the way to {}: plan for {} first",
                    last.to, first.to
                ))
                .into());
            }
            let plan = plans.remove(0);
            let stays = plan.components.iter();
            for change in stays.filter(|change| change.verdict != Fate::Removed) {
                let other = |version: &&Version| {
                    change.to.as_ref().is_some_and(|to| *to != version.as_str())
                };
                if let Some(version) = agreed.at[index].get(&change.id).filter(other) {
                    return Err(GroupFault::Own(format!(
                        "{} {version} is agreed on, and is held at another version here",
                        change.id
                    ))
                    .into());
                }
            }
            Ok(OnePlan {
                terms,
                plan,
                armed: None,
            })
        });
        let mut wanted: Vec<(usize, Wanted)> = Vec::new();
        let mut others = false;
        for (server, one) in drawn.iter().enumerate() {
            match one {
                Ok(_) => {}
                Err(Error::Planning(PlanningFault::ToFetch(files))) => {
                    for it in files {
                        if wanted.iter().all(|(_, known)| known != it) {
                            wanted.push((server, it.clone()));
                        }
                    }
                }
                Err(_) => others = true,
            }
        }
        if !wanted.is_empty() && !others {
            return Err(GroupFault::ToFetch(wanted).into());
        }
        self.all_or_which("planned", drawn)
    }

    /// Writes each server's own plan down, and arms it, where it does anything. Where that fails at one of them, none is armed.
    ///
    /// # Errors
    /// [`GroupFault::Some`] when it cannot be written at one of them.
    pub fn arm(&self, sources: &Sources, plans: Vec<OnePlan>) -> Result<Vec<OnePlan>> {
        let mut mark = blake3::Hasher::new();
        for one in &plans {
            mark.update(one.plan.to_json().as_bytes());
        }
        let mark = mark.finalize().to_hex()[..16].to_owned();
        let armed = self.each(|index, folder| {
            let (server, _) = opened(folder)?;
            let _lock = Lock::take(&server.folder, "group plan")?;
            let one = &plans[index];
            planning::keep_question(&server, sources, &one.terms)?;
            if one.plan.is_empty() {
                armed::idle(&server, &mark)?;
                return Ok(None);
            }
            planning::save(&server, std::slice::from_ref(&one.plan))?;
            Ok(armed::arm(&server, &one.plan, Some(&mark))?.name)
        });
        let armed = self.all_or_which("armed", armed).inspect_err(|_| {
            let _ = self.each(|_, folder| {
                let server = Server::open(folder)?;
                armed::disarm(&server, "another server of its group could not be armed")
            });
        })?;
        let both = plans.into_iter().zip(armed);
        Ok(both.map(|(one, armed)| OnePlan { armed, ..one }).collect())
    }

    /// What is asked of each server: what is to be taken out or switched only where it is carried, unless nobody carries it.
    fn terms_of_each(&self, terms: &Terms) -> Result<Vec<Terms>> {
        let carried = self.each(|_, folder| {
            let (server, _) = opened(folder)?;
            let mut ledger = Ledger::open(&server.folder)?;
            let found = survey(&server, &mut ledger, Depth::Usual)?;
            let ids = found.inventory.components.into_iter();
            let ids: BTreeSet<Id> = ids.map(|component| component.facts.id).collect();
            Ok((server.family.ids.clone(), ids))
        });
        let carried = self.all_or_which("asked", carried)?;
        let carries = |server: usize, text: &String| {
            let (spelling, ids) = &carried[server];
            // Of a variant, what stands before the `=` is the id.
            let id = text.split('=').next().unwrap_or_default();
            ids.contains(&Id::new(&spelling.spell(id)))
        };
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

    /// A server's request, in which of a drop folder only that is wanted which this server carries, or should.
    fn narrowed<'q>(&self, index: usize, question: &'q mut Question<'_>) -> &'q Request {
        let server = &self.group.servers[index];
        let carried = question.survey.inventory.components.iter();
        let carried: BTreeSet<&Id> = carried.map(|component| &component.facts.id).collect();
        let request = &mut question.request;
        for offer in Arc::make_mut(&mut request.offers) {
            let id = &offer.facts.id;
            let stated = self.group.all.contains(id) || server.own.contains(id);
            let is_build = *id == request.build;
            if !stated && !is_build && !carried.contains(id) && !request.add.contains(id) {
                offer.origin = Origin::Catalogue;
            }
        }
        request
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
                Err(error) => servers.push((server.at.clone(), error.to_string())),
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
            let names = servers.iter().map(|it| self.group.servers[*it].at.as_str());
            names.collect::<Vec<_>>().join(", ")
        };
        let told = |told: String| GroupFault::Discord {
            told,
            apart: Vec::new(),
            conflicts: 0,
        };
        match discord {
            Discord::Programs(programs) => {
                let each = programs.iter();
                let each = each.map(|(id, servers)| format!("{id} at {}", names(servers)));
                told(format!(
                    "not all of its servers are of one program, so that they cannot be asked at once: {}",
                    each.collect::<Vec<_>>().join("; ")
                ))
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
