//! What is said at one server of a group, so called that all servers can be asked about at once.
//!
//! `quartz` at the server `terrace` is `quartz at terrace`. The server program alone is one for all.

use crate::component::{Admits, ClientVersion, Id, Kind, Member, Need, Provided};
use crate::facts::{Facts, SeldomFacts};
use crate::offer::Offer;
use crate::resolve::{Held, Learned, Request};
use std::collections::BTreeMap;
use std::sync::Arc;
use thin_vec::ThinVec;

/// How servers of a group call what they have.
#[derive(Debug, Clone)]
pub struct Names<'a> {
    /// The server program, which is one for all.
    pub build: &'a Id,
    /// What the servers are called.
    pub servers: Vec<&'a str>,
}

/// A word as one server has it to itself.
fn word(text: &str, server: &str) -> String {
    format!("{text} at {server}")
}

impl Names<'_> {
    /// A component as one server has it.
    pub fn id(&self, id: &Id, server: &str) -> Id {
        match id == self.build {
            true => id.clone(),
            false => Id::new(&word(id.as_str(), server)),
        }
    }

    fn each(&self, id: &Id) -> Vec<Id> {
        match id == self.build {
            true => vec![id.clone()],
            false => self.servers.iter().map(|it| self.id(id, it)).collect(),
        }
    }

    fn ids(&self, ids: &[Id]) -> ThinVec<Id> {
        ids.iter().flat_map(|id| self.each(id)).collect()
    }

    fn needs(&self, needs: &[Need]) -> ThinVec<Need> {
        let each = needs.iter().flat_map(|need| {
            let ids = self.each(&need.id).into_iter();
            ids.map(|id| Need {
                id,
                range: need.range.clone(),
            })
        });
        each.collect()
    }

    /// So many slots of each kind, at a server.
    pub fn slots(slots: &BTreeMap<String, u64>, server: &str) -> BTreeMap<String, u64> {
        let each = slots.iter();
        each.map(|(kind, many)| (word(kind, server), *many))
            .collect()
    }

    /// A framework is asked for by what it is, whatever it is called: each stands for that at its server.
    fn frameworks(&self) -> impl Iterator<Item = Id> {
        let servers = self.servers.iter();
        servers.map(|server| Id::new(&word("the framework", server)))
    }

    /// What a release says of itself. The server program says it for all servers at once, but for how many slots it has.
    pub fn facts(&self, facts: &Facts) -> Facts {
        let is_framework = facts.kind == Kind::Framework;
        let mut needs = self.needs(&facts.needs);
        if let Some(range) = facts.framework.as_ref().filter(|_| !is_framework) {
            needs.extend(self.frameworks().map(|id| Need {
                id,
                range: range.clone(),
            }));
        }
        let mut provides: ThinVec<Provided> = facts
            .provides
            .iter()
            .flat_map(|provided| {
                let ids = self.each(&provided.id).into_iter();
                ids.map(|id| Provided {
                    id,
                    version: provided.version.clone(),
                })
            })
            .collect();
        if is_framework {
            provides.extend(self.frameworks().map(|id| Provided {
                id,
                version: Some(facts.version.clone()),
            }));
        }
        let any = facts.needs_any.iter().flat_map(|list| {
            self.servers.iter().map(|server| {
                let one = list.iter().map(|need| Need {
                    id: self.id(&need.id, server),
                    range: need.range.clone(),
                });
                one.collect()
            })
        });
        let of_first =
            |text: &String| word(text, self.servers.first().copied().unwrap_or_default());
        let admits = facts.admits.iter().flat_map(|admits| {
            self.servers.iter().map(|server| Admits {
                client: word(&admits.client, server),
                ..admits.clone()
            })
        });
        let members = facts.members.iter().map(|member| Member {
            id: self.each(&member.id).remove(0),
            version: member.version.clone(),
            group: member.group.as_ref().map(of_first),
        });
        let seldom = SeldomFacts {
            framework: None,
            runtime: facts.runtime.clone(),
            flavour: facts.flavour.clone(),
            needs_installed: self.needs(&facts.needs_installed),
            needs_any: any.collect(),
            uses_provided: self.needs(&facts.uses_provided),
            clashes_provided: self.needs(&facts.clashes_provided),
            provides,
            replaces: self.ids(&facts.replaces),
            companions: self.ids(&facts.companions),
            before: ThinVec::new(),
            after: ThinVec::new(),
            arguments: None,
            members: members.collect(),
            title: facts.title.clone(),
            group: facts.group.as_ref().map(of_first),
            takes: self
                .servers
                .first()
                .map_or_else(BTreeMap::new, |it| Names::slots(&facts.takes, it)),
            admits: admits.collect(),
        };
        Facts {
            id: self.each(&facts.id).remove(0),
            kind: facts.kind,
            version: facts.version.clone(),
            build: facts.build.clone(),
            server: facts.server.clone(),
            needs,
            uses: self.needs(&facts.uses),
            clashes: self.needs(&facts.clashes),
            side: facts.side,
            effect: facts.effect,
            world_bound: facts.world_bound,
            channel: facts.channel,
            withdrawn: facts.withdrawn,
            seldom: Arc::new(seldom),
        }
    }

    /// Players who are to be let in.
    fn players(&self, players: &ClientVersion, server: &str) -> ClientVersion {
        ClientVersion {
            client: word(&players.client, server),
            version: players.version.clone(),
        }
    }

    /// Adds one server's question to that of all; what it says of the server program is left away.
    pub fn add(&self, of: &Request, server: &str, all: &mut Request) {
        let here = Names {
            build: self.build,
            servers: vec![server],
        };
        let held = of.held.iter().filter(|held| held.facts.kind != Kind::Build);
        let held = held.map(|held| Held {
            facts: here.facts(&held.facts),
            ..held.clone()
        });
        Arc::make_mut(&mut all.held).extend(held);
        let offers = of.offers.iter();
        let offers = offers.filter(|offer| offer.facts.kind != Kind::Build);
        let offers = offers.map(|offer| Offer {
            facts: here.facts(&offer.facts),
            ..offer.clone()
        });
        Arc::make_mut(&mut all.offers).extend(offers);
        let id = |id: &Id| here.id(id, server);
        all.given.extend(of.given.iter().map(id));
        all.add.extend(of.add.iter().map(id));
        all.drop.extend(of.drop.iter().map(id));
        all.only.extend(of.only.iter().map(id));
        all.again.extend(of.again.iter().map(id));
        let keep = of.keep.iter().filter(|(id, _)| id != self.build);
        all.keep
            .extend(keep.map(|(it, version)| (id(it), version.clone())));
        all.admit.extend(of.admit.values().map(|players| {
            let players = here.players(players, server);
            (players.wish(), players)
        }));
        all.learned.extend(of.learned.iter().map(|learned| Learned {
            id: id(&learned.id),
            other: Need {
                id: id(&learned.other.id),
                range: learned.other.range.clone(),
            },
            ..learned.clone()
        }));
    }
}
