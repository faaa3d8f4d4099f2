//! What leads to a plan of it, and where that stands.

use super::{AtServer, Offered, opened};
use crate::armed;
use crate::changeover::{Meanwhile, refuse_interrupted};
use crate::config::Server;
use crate::error::{Error, Result};
use crate::gather::{Missing, Stale};
use crate::glance;
use crate::group::fault::GroupFault;
use crate::ledger::Ledger;
use crate::lock::Lock;
use crate::planning::fault::PlanningFault;
use crate::planning::{self, Question, Terms};
use crate::records::Brought;
use crate::session::Errand;
use crate::survey::{Depth, survey};
use lantern_core::component::Id;
use lantern_core::offer::Origin;
use lantern_core::plan::{Armed, Became, Fate, Plan};
use lantern_core::resolve::Request;
use lantern_core::supply::{Supply, Wanted};
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

/// Which of these it carries, as people write them.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Carried {
    /// Ids; of a variant, what stands before the `=` is one.
    pub named: BTreeSet<String>,
}

impl Errand for Carried {
    const NAME: &'static str = "carried";
    type Came = BTreeSet<String>;
}

impl AtServer for Carried {
    fn run(&self, folder: &Path) -> Result<BTreeSet<String>> {
        let (server, _) = opened(folder)?;
        let mut ledger = Ledger::open(&server.folder)?;
        let found = survey(&server, &mut ledger, Depth::Usual)?;
        let ids = found.inventory.components.iter();
        let ids: BTreeSet<&Id> = ids.map(|component| &component.facts.id).collect();
        let carries = |text: &&String| {
            let id = text.split('=').next().unwrap_or_default();
            ids.contains(&Id::new(&server.family.ids.spell(id)))
        };
        Ok(self.named.iter().filter(carries).cloned().collect())
    }
}

/// Of which server program it is.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Program {}

impl Errand for Program {
    const NAME: &'static str = "program";
    type Came = Id;
}

impl AtServer for Program {
    fn run(&self, folder: &Path) -> Result<Id> {
        Ok(Id::new(&opened(folder)?.0.family.build.id))
    }
}

/// Which of these files its store lacks.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lacks {
    /// The files.
    pub files: Vec<Supply>,
}

impl Errand for Lacks {
    const NAME: &'static str = "lacks";
    type Came = Vec<Supply>;
}

impl AtServer for Lacks {
    fn run(&self, folder: &Path) -> Result<Vec<Supply>> {
        let store = Server::open(folder)?.store();
        let files = self.files.iter();
        Ok(files
            .filter(|it| store.find(it).is_none())
            .cloned()
            .collect())
    }
}

/// Files are fetched by it, from the web.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Fetch {
    /// The files.
    pub files: Vec<Wanted>,
}

impl Errand for Fetch {
    const NAME: &'static str = "fetch";
    /// What could not be had, and why.
    type Came = Vec<(Wanted, String)>;
}

impl AtServer for Fetch {
    fn run(&self, folder: &Path) -> Result<Vec<(Wanted, String)>> {
        let gatherer = Server::open(folder)?.gatherer()?;
        let came = gatherer.fetch(&self.files, &|_, _| ());
        let missing = self.files.iter().zip(came).filter_map(|(it, came)| {
            let why = match came.err()? {
                Missing::ByPerson(why) => why,
                Missing::NoAddress => "nobody says an address of it".into(),
                Missing::Tried(tried) => {
                    let each = tried.iter().map(|(url, fault)| format!("{url}: {fault}"));
                    each.collect::<Vec<_>>().join("; ")
                }
            };
            Some((it.clone(), why))
        });
        Ok(missing.collect())
    }
}

/// Its own question is put together.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Ask {
    /// Where releases come from.
    pub from: Offered,
    /// What is asked of it.
    pub terms: Terms,
    /// What it carries, or should, as its group's file has it.
    pub stated: BTreeSet<Id>,
    /// Whether what was armed before is not any more.
    pub disarms: bool,
}

/// What a server of a group asks the resolver.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OneAsked {
    /// It.
    #[serde(serialize_with = "written", deserialize_with = "read")]
    pub request: WithNotations,
    /// What could not be used of what is on offer: where, and why.
    pub left_out: Vec<(String, String)>,
    /// Which catalogues could not be asked.
    pub stale: Vec<Stale>,
    /// What lies in a drop folder.
    pub by_hand: BTreeSet<Id>,
}

/// A request, with the notations that its versions are written in.
#[derive(Debug)]
pub struct WithNotations {
    /// It.
    pub request: Request,
    notations: lantern_core::version::Notations,
}

fn written<S: Serializer>(it: &WithNotations, to: S) -> std::result::Result<S::Ok, S::Error> {
    to.serialize_str(&it.request.to_json(&it.notations))
}

fn read<'de, D: Deserializer<'de>>(from: D) -> std::result::Result<WithNotations, D::Error> {
    let text = String::deserialize(from)?;
    let read = Request::from_json(&text).map_err(D::Error::custom)?;
    let (request, notations) = read;
    Ok(WithNotations { request, notations })
}

impl Errand for Ask {
    const NAME: &'static str = "ask";
    type Came = OneAsked;
}

impl AtServer for Ask {
    fn run(&self, folder: &Path) -> Result<OneAsked> {
        let (server, _) = opened(folder)?;
        if let Brought::Apart(who) = &server.brought {
            return Err(Error::Apart { who: who.clone() });
        }
        let _lock = Lock::take(&server.folder, "group plan")?;
        refuse_interrupted(&server)?;
        if self.disarms {
            armed::withdraw(&server, "its group was asked about once more")?;
            Offered::forget(&server)?;
        }
        let sources = self.from.sources(&server)?;
        let mut ledger = Ledger::open(&server.folder)?;
        let mut question = planning::question(&server, &mut ledger, &sources, &self.terms)?;
        glance::remember(&server, &question.survey);
        let by_hand = question.request.offers.iter();
        let by_hand = by_hand.filter(|offer| offer.origin == Origin::DropFolder);
        Ok(OneAsked {
            by_hand: by_hand.map(|offer| offer.facts.id.clone()).collect(),
            request: WithNotations {
                request: narrowed(&self.stated, &mut question).clone(),
                notations: server.family.versions.clone(),
            },
            left_out: std::mem::take(&mut question.left_out),
            stale: std::mem::take(&mut question.stale),
        })
    }
}

/// A server's request, in which of a drop folder only that is wanted which this server carries, or should.
fn narrowed<'q>(stated: &BTreeSet<Id>, question: &'q mut Question<'_>) -> &'q Request {
    let carried = question.survey.inventory.components.iter();
    let carried: BTreeSet<&Id> = carried.map(|component| &component.facts.id).collect();
    let request = &mut question.request;
    for offer in Arc::make_mut(&mut request.offers) {
        let id = &offer.facts.id;
        let is_build = *id == request.build;
        if !stated.contains(id) && !is_build && !carried.contains(id) && !request.add.contains(id) {
            offer.origin = Origin::Catalogue;
        }
    }
    request
}

/// Its own plan is drawn, with what is agreed on.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Draw {
    /// Where releases come from.
    pub from: Offered,
    /// What is asked of it, with what is agreed on kept.
    pub terms: Terms,
    /// What it carries, or should, as its group's file has it.
    pub stated: BTreeSet<Id>,
    /// The version that is agreed on, by what it is of.
    pub agreed: BTreeMap<Id, String>,
}

/// What comes of drawing it.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Drawn {
    /// The plan.
    Plan(Box<Plan>),
    /// Files have to be fetched first.
    ToFetch(Vec<Wanted>),
}

impl Errand for Draw {
    const NAME: &'static str = "draw";
    type Came = Drawn;
}

impl AtServer for Draw {
    fn run(&self, folder: &Path) -> Result<Drawn> {
        let (server, _) = opened(folder)?;
        let _lock = Lock::take(&server.folder, "group plan")?;
        let sources = self.from.sources(&server)?;
        let mut ledger = Ledger::open(&server.folder)?;
        let mut question = planning::question(&server, &mut ledger, &sources, &self.terms)?;
        narrowed(&self.stated, &mut question);
        let mut plans = match question.saved_plans() {
            Err(Error::Planning(PlanningFault::ToFetch(files))) => {
                return Ok(Drawn::ToFetch(files));
            }
            plans => plans?,
        };
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
            let other = |version: &&String| change.to.as_ref().is_some_and(|to| to != *version);
            if let Some(version) = self.agreed.get(&change.id).filter(other) {
                return Err(GroupFault::Own(format!(
                    "{} {version} is agreed on, and is held at another version here",
                    change.id
                ))
                .into());
            }
        }
        Ok(Drawn::Plan(Box::new(plan)))
    }
}

/// Its plan is written down, and armed, where it does anything.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Arm {
    /// Where releases come from.
    pub from: Offered,
    /// What is asked of it, with what is agreed on kept.
    pub terms: Terms,
    /// The plan.
    pub plan: Plan,
    /// The mark that all plans of one move have.
    pub mark: String,
}

impl Errand for Arm {
    const NAME: &'static str = "arm";
    /// Its name, where it is armed.
    type Came = Option<String>;
}

impl AtServer for Arm {
    fn run(&self, folder: &Path) -> Result<Option<String>> {
        let (server, _) = opened(folder)?;
        let _lock = Lock::take(&server.folder, "group plan")?;
        planning::keep_question(&server, &self.from.sources(&server)?, &self.terms)?;
        if self.plan.is_empty() {
            armed::idle(&server, &self.mark)?;
            return Ok(None);
        }
        planning::save(&server, std::slice::from_ref(&self.plan))?;
        Ok(armed::arm(&server, &self.plan, Some(&self.mark))?.name)
    }
}

/// What is armed there is not any more.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Disarm {
    /// Why.
    pub why: String,
}

impl Errand for Disarm {
    const NAME: &'static str = "disarm";
    type Came = ();
}

impl AtServer for Disarm {
    fn run(&self, folder: &Path) -> Result<()> {
        let server = Server::open(folder)?;
        armed::disarm(&server, &self.why).map(drop)
    }
}

/// How far it is with what was planned for its group.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Standing {}

/// How far a server is with what was planned for its group.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StandsAt {
    /// What is armed there, or became of what was.
    pub armed: Option<Armed>,
    /// Whether it was carried out, and taken back.
    pub is_taken_back: bool,
    /// The first decision that its plan waits for, and how many there are.
    pub undecided: Option<(String, usize)>,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

impl Errand for Standing {
    const NAME: &'static str = "standing";
    type Came = StandsAt;
}

impl AtServer for Standing {
    fn run(&self, folder: &Path) -> Result<StandsAt> {
        let (server, meanwhile) = opened(folder)?;
        let armed = armed::read(&server)?;
        let is_taken_back = match armed.as_ref().map(|armed| &armed.became) {
            Some(Became::Done(number)) => {
                let operations = Ledger::open(&server.folder)?.operations()?;
                let mut own = operations.iter().filter(|it| it.number == *number);
                own.any(|operation| operation.undone)
            }
            _ => false,
        };
        let undecided = armed::joint(&server)?.and_then(|(_, plan)| {
            let (_, first) = plan.undecided().next()?;
            Some((first.id.clone(), plan.undecided().count()))
        });
        Ok(StandsAt {
            armed,
            is_taken_back,
            undecided,
            meanwhile,
        })
    }
}
