//! From the question to the plan.

mod alike;
mod by_hand;
mod decisions;
pub mod fault;
mod last;
mod launching;
mod needs;
mod one_text;
mod patches;
mod players;
mod put_back;
mod samples;
mod switching;
mod values;

pub use decisions::{Decision, decide, decide_text, decisions, forget};
pub use last::{keep as keep_question, question as last_question};
pub use launching::{cut_off, part_updates, refuse_cut_off};
pub use patches::{Kept, Stands, drop_patch, import, keep, kept, kept_as, lay, stands};
pub use players::{kinds_of_client, may_join, protocol_of};
pub use put_back::{files_aside, put_back, put_order, set_aside};
pub use samples::{Comparison, Taken, ToWrite, comparison, take, to_write};
pub use values::{Values, set_at_once, set_value, values};

use crate::acquire;
use crate::changeover::fault::ChangeoverFault;
use crate::config::Server;
use crate::depot::{Beside, Depot, web_address};
use crate::downloads::{Downloads, shortened};
use crate::error::{At, Error, Result};
use crate::folder::own;
use crate::gather::{Gatherer, Stale, Store, differing, hashes_of};
use crate::laid;
use crate::layers;
use crate::learned;
use crate::ledger::Ledger;
use crate::listings;
use crate::place::here;
use crate::planning::fault::PlanningFault;
use crate::recognised;

use crate::release::payload;
use crate::signing::{self, fault::SigningFault};
use crate::survey::{Depth, PartSeen, Survey, survey};
use lantern_core::artifact::Artifact;
use lantern_core::component::{Id, Kind};
use lantern_core::facts::Facts;
use lantern_core::family::Ground;
use lantern_core::flags::NamedHashes;
use lantern_core::inventory::{Inventory, Remembered, arrange_by_place, compare, united};
use lantern_core::listing::Listing;
use lantern_core::offer::{Offer, Origin};
use lantern_core::order::Arrangement;
use lantern_core::outlook;
use lantern_core::patch::Patch;
use lantern_core::path::RelPath;
use lantern_core::plan::{
    ActionKind, ByHand, OrderChange, Part, Payload, Plan, SampleSeen, Situation, TextEdit,
    afterwards, draw, hashes_after, remembered_after,
};
use lantern_core::resolve::{Choice, Held, Policy, Request, Selection, Target, UnknownId, resolve};
use lantern_core::settings::{Answer, Answers};
use lantern_core::supply::Wanted;
use lantern_core::text::Text;
use lantern_core::tree::FileSeen;
use lantern_core::version::{Range, Version};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The target that means: the server version that is installed.
pub const SAME: &str = "same";

/// The version that means: the newest release for the target.
const LATEST: &str = "latest";

/// The target that means: the newest server version that everything fits.
pub const BEST: &str = "best";

/// Where releases come from, besides what the server's settings name.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sources {
    /// Catalogues.
    pub catalogues: Vec<PathBuf>,
    /// Folders of archives fetched by hand.
    pub drop_folders: Vec<PathBuf>,
    /// Catalogues that were sent along from another machine: the archives that lie beside them lie there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sent: Vec<PathBuf>,
}

/// What the administrator asks for.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Terms {
    /// A server version, a range of them, `same` or `best`.
    pub to: String,
    /// Components to put in.
    pub add: Vec<String>,
    /// Components to take out.
    pub drop: Vec<String>,
    /// Components to keep: `ID` or `ID=VERSION`.
    pub keep: Vec<String>,
    /// When not empty, only these may move.
    pub only: Vec<String>,
    /// Installed add-ons to switch on.
    pub on: Vec<String>,
    /// Add-ons to switch off; they stay installed.
    pub off: Vec<String>,
    /// Components that may go although the world holds their content.
    pub world_loses: Vec<String>,
    /// Variants to choose: `ID=NAME`.
    pub variant: Vec<String>,
    /// Players who are to be let in: `KIND=VERSION`.
    #[serde(default)]
    pub admit: Vec<String>,
    /// Whether what a release would write into the keep list is put beside it.
    pub beside: bool,
    /// What may be taken.
    pub policy: Policy,
    /// The one of several servers of the install on which add-ons are switched, and start what comes new; otherwise all.
    pub of: Option<String>,
    /// What is decided where both the administrator and a release changed something, and nothing else was.
    pub undecided: Option<Side>,
}

/// One of two answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// As the administrator has it.
    Mine,
    /// As it is shipped.
    Theirs,
}

/// A question put together: what is installed, what is on offer, what is asked for.
#[derive(Debug)]
pub struct Question<'a> {
    server: &'a Server,
    /// What is installed.
    pub survey: Survey,
    /// What is switched on, or else off, on each server; the survey's inventories say so already.
    switched: Vec<BTreeMap<Id, bool>>,
    /// The one of several servers that all of this is for.
    of: Option<String>,
    /// Texts that were edited by hand.
    by_hand: BTreeMap<RelPath, ByHand>,
    /// Settings of the place for which a sample is stated.
    samples: Vec<SampleSeen>,
    /// Hand edits with a name.
    patches: BTreeMap<String, Patch>,
    /// What could not be used of what is on offer: where, and why.
    pub left_out: Vec<(String, String)>,
    /// The question itself, for the resolver.
    pub request: Request,
    variants: BTreeMap<Id, String>,
    world_loses: Vec<String>,
    beside: bool,
    /// What was decided, by question.
    decided: BTreeMap<String, Answer>,
    /// What is decided of all else.
    undecided: Option<Answer>,
    downloads: Downloads<'a>,
    /// Which catalogues could not be asked, and stand as they were.
    pub stale: Vec<Stale>,
    store: Store,
}

/// Surveys a server, reads what is on offer, and puts the question together; offers that cannot take part in an
/// answer are left away.
///
/// # Errors
/// When the folder or a catalogue as a whole cannot be read, a version makes no sense, or the target is `same` and the
/// installed version is not known.
pub fn question<'a>(
    server: &'a Server,
    ledger: &'a mut Ledger,
    sources: &Sources,
    terms: &Terms,
) -> Result<Question<'a>> {
    let mut survey = survey(server, ledger, Depth::Usual)?;
    let mut again = BTreeSet::new();
    let mut on_offer = None;
    let mut called_otherwise = Vec::new();
    if !laid::unknown(&server.family, &survey).is_empty()
        || !recognised::unknown(&survey).is_empty()
    {
        let downloads = Downloads::new(ledger);
        let depot = depot(server, &survey, (sources, terms), &downloads)?;
        let (learned, silent) = laid::learn(server, ledger, &survey, &depot.offers, &downloads)?;
        downloads.remember()?;
        again.extend(silent);
        let recognised = recognised::learn(server, ledger, &survey, &depot)?;
        called_otherwise = recognised.called_otherwise;
        if learned || recognised.learned {
            survey = crate::survey::survey(server, ledger, Depth::Usual)?;
        }
        on_offer = Some(depot);
    }
    server.chosen(terms.of.as_deref())?;
    let switched = switching::switch(server, &mut survey, terms)?;
    carried_once(&survey)?;
    let unsaid = loses_unsaid(server, &survey.inventory, terms);
    if !unsaid.is_empty() {
        return Err(Error::Planning(PlanningFault::WorldLoses(unsaid)));
    }
    let ledger: &'a Ledger = ledger;
    let downloads = Downloads::new(ledger);
    let mut depot = match on_offer {
        Some(depot) => depot,
        None => depot(server, &survey, (sources, terms), &downloads)?,
    };
    depot.left_out.extend(called_otherwise);
    downloads.remember()?;
    let mut variants = ledger.variants()?;
    for text in &terms.variant {
        let (id, name) = text
            .split_once('=')
            .ok_or_else(|| Error::Planning(PlanningFault::Variant(text.clone())))?;
        let id = Id::new(id);
        // That nobody remembers which variant is there is no reason to think that it is this one.
        if variants.insert(id.clone(), name.to_owned()).as_deref() != Some(name) {
            again.insert(id);
        }
    }
    let known = depot.ids();
    let mut request = Request {
        again,
        ..request(server, &survey, (depot.offers, &known), terms)
            .map_err(|error| with_left_out(error, &depot.left_out))?
    };
    learned::heed(server, depot.learned, &mut request)?;
    Ok(Question {
        server,
        by_hand: by_hand::edited(server, ledger, &survey)?,
        samples: samples::stated(server, &survey)?,
        patches: patches::by_now(server, ledger, &survey)?,
        survey,
        switched,
        of: terms.of.clone(),
        left_out: depot.left_out,
        request,
        variants,
        world_loses: terms.world_loses.clone(),
        beside: terms.beside,
        decided: decisions::answers(server)?,
        undecided: terms.undecided.map(|side| match side {
            Side::Mine => Answer::Mine,
            Side::Theirs => Answer::Theirs,
        }),
        downloads,
        stale: depot.stale,
        store: server.store(),
    })
}

fn no_such(unknown: UnknownId) -> Error {
    Error::Planning(PlanningFault::NoSuch {
        unknown,
        left_out: Vec::new(),
    })
}

/// Where nothing of an id is on offer, what was left out of it tells why.
fn with_left_out(error: Error, all: &[(String, String)]) -> Error {
    match error {
        Error::Planning(PlanningFault::NoSuch { unknown, .. }) => {
            let begin = format!("{} ", unknown.id);
            let own = all.iter().filter(|(_, why)| why.starts_with(&begin));
            Error::Planning(PlanningFault::NoSuch {
                left_out: own.cloned().collect(),
                unknown,
            })
        }
        other => other,
    }
}

/// Refuses where two servers carry an add-on of one id, each to itself: one release of it has to fit both, and where each
/// lies is not followed.
fn carried_once(survey: &Survey) -> Result<()> {
    if survey.parts.len() < 2 {
        return Ok(());
    }
    let mut places: BTreeMap<&Id, &RelPath> = BTreeMap::new();
    let components = survey.inventory.components.iter();
    let whole = components.filter(|component| component.group.is_none());
    for (component, place) in whole.filter_map(|it| Some((it, it.place.as_ref()?))) {
        let id = &component.facts.id;
        if let Some(other) = places.insert(id, place) {
            return Err(Error::Planning(PlanningFault::CarriedTwice {
                id: id.clone(),
                places: [other.clone(), place.clone()],
            }));
        }
    }
    Ok(())
}

/// Everything that is on offer: catalogues, other people's listings, drop folders, and what recipes have made.
fn depot(
    server: &Server,
    survey: &Survey,
    (sources, terms): (&Sources, &Terms),
    downloads: &Downloads<'_>,
) -> Result<Depot> {
    let mut depot = Depot::default();
    let mut gatherer = None;
    let catalogues = server.catalogues();
    let named = catalogues.iter().chain(&sources.catalogues);
    let named = named.map(|path| (path, Beside::Here));
    let sent = sources.sent.iter().map(|path| (path, Beside::Elsewhere));
    for (path, beside) in named.chain(sent) {
        if listings::is_one(path) {
            let gatherer = match &mut gatherer {
                Some(gatherer) => gatherer,
                none => none.insert(server.gatherer()?),
            };
            let listing = listings::read(path)?;
            let listed = ask(server, survey, terms, &listing, gatherer)?;
            depot.add_listed(listed, path);
            continue;
        }
        let key = server.key_of(path);
        let Some(url) = web_address(path) else {
            if let Some(key) = key {
                signed_beside(server, path, key)?;
            }
            depot.open(path, beside)?;
            continue;
        };
        let gatherer = match &mut gatherer {
            Some(gatherer) => gatherer,
            none => none.insert(server.gatherer()?),
        };
        let answer = gatherer.text(url)?;
        if let Some(key) = key {
            let signature = gatherer.text(&signing::beside(path).to_string_lossy());
            let signature = signature.map_err(|error| unbelieved(path, unsigned(&error)))?;
            let (text, signature) = (answer.text.as_bytes(), &signature.text);
            let confirmed = signing::confirm(text, signature, key, path, &gatherer.store);
            confirmed.map_err(|fault| unbelieved(path, fault))?;
        }
        if let Some((fault, age)) = answer.stale {
            depot.stale.push(Stale {
                url: answer.url.to_string(),
                why: fault.to_string(),
                age,
            });
        }
        depot.open_from_web(&answer.url, answer.text)?;
    }
    for path in server.drop_folders().iter().chain(&sources.drop_folders) {
        depot.add_drop_folder(path, &server.family, downloads)?;
    }
    let made = own(acquire::FOLDER);
    if server.folder.has(&made)? {
        let made = server.folder.shown(&made);
        depot.add_acquired(&made, &server.family, downloads)?;
    }
    depot.take(&of_concern(server, survey, terms), &server.family);
    Ok(depot)
}

/// What is installed, members of packs among it, and all that is named in the question.
fn of_concern(server: &Server, survey: &Survey, terms: &Terms) -> BTreeSet<Id> {
    let components = survey.inventory.components.iter();
    let mut concern: BTreeSet<Id> = components.map(|it| it.facts.id.clone()).collect();
    concern.insert(Id::new(&server.family.build.id));
    let named = [&terms.add, &terms.drop, &terms.only, &terms.world_loses];
    concern.extend(named.into_iter().flat_map(|texts| ids(server, texts)));
    let with_more = terms.keep.iter().chain(&terms.variant);
    let bare: Vec<String> = with_more
        .map(|text| {
            text.split_once('=')
                .map_or(text.as_str(), |(id, _)| id)
                .to_owned()
        })
        .collect();
    concern.extend(ids(server, &bare));
    concern.extend(server.config.hold.keys().cloned());
    concern.extend(players::of_concern(server, terms));
    concern
}

/// Asks somebody else's listing for what is installed, or is to come in.
fn ask(
    server: &Server,
    survey: &Survey,
    terms: &Terms,
    listing: &Listing,
    gatherer: &Gatherer,
) -> Result<listings::Listed> {
    let components = survey.inventory.components.iter();
    let mut matter: BTreeSet<Id> = components
        .filter(|component| component.group.is_none())
        .map(|component| component.facts.id.clone())
        .collect();
    matter.extend(ids(server, &terms.add));
    let build = Id::new(&server.family.build.id);
    let installed = survey
        .inventory
        .get(&build)
        .map(|it| it.facts.version.to_string());
    let to = match terms.to.as_str() {
        SAME | BEST => installed.unwrap_or_default(),
        to => to.to_owned(),
    };
    let question = listings::Question {
        ids: &matter,
        called: &server.config.ids,
        server: &to,
        family: &server.family,
    };
    listings::ask(listing, question, gatherer)
}

/// Whether a catalogue on this machine is signed as it has to be.
fn signed_beside(server: &Server, path: &Path, key: &str) -> Result<()> {
    let text = here::read(path)?;
    let signature = here::read_text(&signing::beside(path));
    let signature = signature.map_err(|error| unbelieved(path, unsigned(&error)))?;
    let confirmed = signing::confirm(&text, &signature, key, path, &server.store());
    confirmed.map_err(|fault| unbelieved(path, fault))
}

fn unsigned(error: &Error) -> SigningFault {
    SigningFault::Unsigned(error.to_string())
}

fn unbelieved(path: &Path, fault: SigningFault) -> Error {
    Error::Signing {
        path: path.into(),
        fault,
    }
}

fn request(
    server: &Server,
    survey: &Survey,
    (offers, on_offer): (Vec<Offer>, &[Id]),
    terms: &Terms,
) -> Result<Request> {
    let versions = &server.family.versions;
    let build = &server.family.build;
    let wishes = terms.keep.iter().map(|text| match text.split_once('=') {
        Some((id, version)) => (Id::new(id), Some(version)),
        None => (Id::new(text), None),
    });
    let mut wishes: Vec<(Id, Option<&str>)> = wishes.collect();
    // What lantern.toml holds gives way to what is said here.
    let said = |id: &Id| {
        let named = wishes.iter().any(|(wished, _)| wished == id);
        named || terms.drop.iter().any(|drop| drop == id.as_str())
    };
    let held_back = server.config.hold.iter().filter(|(id, _)| !said(id));
    let held_back = held_back.map(|(id, version)| (id.clone(), Some(version.as_str())));
    wishes.extend(held_back.collect::<Vec<_>>());
    let (latest, exact): (Vec<_>, Vec<_>) = wishes
        .into_iter()
        .partition(|(_, version)| *version == Some(LATEST));
    let keep = exact.into_iter().map(|(id, version)| {
        let version = version.map(|version| versions.version(id.as_str() == build.id, version));
        Ok((id, version.transpose()?))
    });
    let mut request = Request {
        build_outside: build.outside,
        held: Arc::new(held(server, &survey.inventory, &terms.world_loses)),
        offers: Arc::new(offers),
        given: build.provides.iter().map(|id| Id::new(id)).collect(),
        add: ids(server, &terms.add).into_iter().collect(),
        drop: ids(server, &terms.drop).into_iter().collect(),
        keep: keep.collect::<Result<_>>()?,
        only: ids(server, &terms.only).into_iter().collect(),
        policy: terms.policy.clone(),
        ..Request::new(target(server, survey, &terms.to)?, Id::new(&build.id))
    };
    for (id, _) in latest {
        let known = request.knows(&id, on_offer);
        known.map_err(no_such)?;
        let newest = request.latest(&id);
        let newest = newest.ok_or_else(|| Error::Planning(PlanningFault::NoLatest(id.clone())))?;
        request.keep.push((id, Some(newest)));
    }
    // What is installed and switched off, or is a member, counts as well.
    let inventory = survey.inventory.components.iter();
    let installed: BTreeSet<&Id> = inventory.map(|component| &component.facts.id).collect();
    let variants = terms.variant.iter();
    let variants = variants.filter_map(|text| Some(Id::new(text.split_once('=')?.0)));
    let kept = request.keep.iter().map(|(id, _)| id.clone());
    let wishes = [&request.add, &request.drop, &request.only];
    let named = wishes.into_iter().flatten().cloned();
    for id in named
        .chain(kept)
        .chain(variants)
        .chain(ids(server, &terms.world_loses))
    {
        if !installed.contains(&id) {
            let known = request.knows(&id, on_offer);
            known.map_err(no_such)?;
        }
    }
    players::ask(server, terms, &mut request)?;
    let relevant = request.relevant();
    let offers = Arc::make_mut(&mut request.offers);
    offers.retain(|offer| relevant.contains(&offer.facts.id));
    Ok(request)
}

fn target(server: &Server, survey: &Survey, to: &str) -> Result<Target> {
    let versions = &server.family.versions;
    match to {
        SAME => {
            let known = survey.inventory.server_version().cloned();
            known
                .map(Target::One)
                .ok_or(Error::Planning(PlanningFault::NoServerVersion))
        }
        BEST => Ok(Target::Within(Range::any())),
        _ if to.contains(['<', '>', '^', '~', '*', '[', '(', '|']) => {
            Ok(Target::Within(versions.server_range(to)?))
        }
        _ => Ok(Target::One(Version::parse(to, versions.server)?)),
    }
}

/// Finds releases that fit together.
///
/// # Errors
/// [`PlanningFault::Obstacle`] when none do.
pub fn select(request: &Request) -> Result<Selection> {
    resolve(request).map_err(|obstacle| {
        Error::Planning(PlanningFault::Obstacle {
            told: obstacle.tell(request),
            obstacle,
        })
    })
}

/// What of a selection replaces what is installed: the version now, and the one that comes.
pub fn newer(selection: &Selection) -> BTreeMap<Id, (String, String)> {
    let newer = selection.choices.iter().filter_map(|choice| {
        let from = choice.from.as_ref().filter(|from| **from != choice.to)?;
        Some((choice.id.clone(), (from.to_string(), choice.to.to_string())))
    });
    newer.collect()
}

/// What is installed, for the resolver.
fn held(server: &Server, inventory: &Inventory, world_loses: &[String]) -> Vec<Held> {
    let named = |ids: &[String], facts: &Facts| ids.iter().any(|id| *id == facts.id.as_str());
    let installed = inventory.movable().into_iter();
    installed
        .map(|(component, facts)| {
            let bound = facts.world_bound == Some(true) && !named(world_loses, &facts);
            Held {
                droppable: named(&server.config.droppable, &facts) && !bound,
                off: component.runs.is_off(),
                switched: component.runs.is_switched(),
                facts,
            }
        })
        .collect()
}

/// Ids as the family spells them.
fn ids(server: &Server, texts: &[String]) -> Vec<Id> {
    let spelled = texts.iter().map(|id| server.family.ids.spell(id));
    spelled.map(|id| Id::new(&id)).collect()
}

/// What is to go although the world holds its content, without a word that it may.
fn loses_unsaid(server: &Server, inventory: &Inventory, terms: &Terms) -> Vec<Id> {
    let said = |id: &&Id| !terms.world_loses.iter().any(|it| it == id.as_str());
    let dropped = ids(server, &terms.drop);
    let bound = inventory
        .components
        .iter()
        .map(|component| &component.facts);
    let bound = bound.filter(|facts| facts.world_bound == Some(true));
    let bound = bound.filter(|facts| dropped.contains(&facts.id));
    bound.map(|facts| &facts.id).filter(said).cloned().collect()
}

/// How layers come to lie over one another: what was chosen, and what is kept aside.
struct Layering<'a> {
    variants: &'a BTreeMap<Id, String>,
    stored: BTreeMap<String, Artifact>,
    beside: bool,
    answers: Answers<'a>,
    samples: &'a [SampleSeen],
    patches: &'a BTreeMap<String, Patch>,
}

/// The server as a plan finds it: as surveyed, or as the plan before leaves it.
struct Beginning {
    inventory: Arc<Inventory>,
    files: Vec<FileSeen>,
    parts: Vec<PartAt>,
    scripts: Vec<(RelPath, Text)>,
    hashes: NamedHashes,
    remembered: BTreeMap<RelPath, Remembered>,
    /// Files that no plan speaks of.
    untouched: Vec<RelPath>,
    /// Texts that were edited by hand.
    by_hand: BTreeMap<RelPath, ByHand>,
}

/// One of the servers of the install, as a plan finds it.
struct PartAt {
    seen: PartSeen,
    ground: Ground,
    /// What is switched, which the inventory says already.
    switched: BTreeMap<Id, bool>,
    /// Whether it starts what comes new.
    takes_new: bool,
}

impl Question<'_> {
    /// Writes the question down, for `why`.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn save(&self) -> Result<()> {
        let text = self.request.to_json(&self.server.family.versions);
        let folder = &self.server.folder;
        folder.write_whole(&own("next.request.json"), text.as_bytes())
    }

    /// Finds releases that fit together, and draws the plan; where the worlds have to be brought forward in stops,
    /// one plan for each.
    ///
    /// # Errors
    /// [`PlanningFault::Obstacle`] when none fit together; [`PlanningFault::ToFetch`] when files have to be fetched first; else when no stops lead there, an archive or path is not fit to be
    /// used, or the target is a range of what lies outside.
    pub fn plans(&mut self) -> Result<Vec<Plan>> {
        let selection = self.selected()?;
        self.drawn_of(&selection)
    }

    /// As [`Question::save`], and meanwhile [`Question::plans`].
    ///
    /// # Errors
    /// As both of them.
    pub fn saved_plans(&mut self) -> Result<Vec<Plan>> {
        let (saved, selection) = rayon::join(|| self.save(), || self.selected());
        saved?;
        self.drawn_of(&selection?)
    }

    fn selected(&self) -> Result<Selection> {
        if self.request.build_outside && matches!(self.request.target, Target::Within(_)) {
            let id = self.request.build.clone();
            return Err(Error::Planning(PlanningFault::OneOutside(id)));
        }
        select(&self.request)
    }

    fn drawn_of(&mut self, selection: &Selection) -> Result<Vec<Plan>> {
        let plans = self.drawn(selection);
        self.downloads.remember()?;
        plans
    }

    fn drawn(&mut self, selection: &Selection) -> Result<Vec<Plan>> {
        // What the installed packs keep is kept from the new ones, too.
        let packs = self.survey.inventory.components.iter();
        let patterns = packs.flat_map(|component| &component.holdings.keep);
        let server = &self.server.keeping(patterns.map(String::as_str))?;
        let layering = Layering {
            variants: &self.variants,
            stored: layers::stored(&server.folder)?,
            beside: self.beside,
            answers: Answers {
                known: &self.decided,
                otherwise: self.undecided.as_ref(),
            },
            samples: &self.samples,
            patches: &self.patches,
        };
        let mut at = beginning(server, &self.survey, &self.switched, self.of.as_deref());
        at.by_hand.clone_from(&self.by_hand);
        let stops = stops(&self.request, selection)?;
        let downloads = &self.downloads;
        let Some(stops) = stops else {
            at_hand(&mut self.request.offers, selection, &self.store, downloads)?;
            let request = &self.request;
            let (plan, _) = stage(server, &mut at, downloads, request, selection, &layering)?;
            return Ok(vec![plan]);
        };
        let mut plans = Vec::new();
        for stop in stops {
            let mut request = Request {
                target: Target::One(stop),
                held: Arc::new(held(server, &at.inventory, &self.world_loses)),
                ..self.request.clone()
            };
            let selection = select(&request)?;
            at_hand(&mut request.offers, &selection, &self.store, downloads)?;
            let (plan, next) = stage(server, &mut at, downloads, &request, &selection, &layering)?;
            plans.push(plan);
            at = next;
        }
        Ok(plans)
    }
}

/// Has all chosen releases' files on this machine, as far as they were fetched before.
///
/// # Errors
/// [`PlanningFault::ToFetch`] where some were not.
fn at_hand(
    offers: &mut Arc<Vec<Offer>>,
    selection: &Selection,
    store: &Store,
    downloads: &Downloads<'_>,
) -> Result<()> {
    let chosen = selection.choices.iter().filter_map(|choice| choice.offer);
    let chosen: Vec<usize> = chosen
        .filter(|at| offers[*at].to_fetch().is_some() || offers[*at].artifact.blake3.is_empty())
        .collect();
    let mut missing: Vec<Wanted> = Vec::new();
    for at in chosen {
        let offer = &offers[at];
        if offer.artifact.is_at_hand() {
            let known = as_stated(offer, downloads)?;
            Arc::make_mut(offers)[at].artifact = Arc::new(known);
            continue;
        }
        let Some(supply) = offer.to_fetch().cloned() else {
            continue;
        };
        // What lies in the store is looked at again.
        let there = store.find(&supply).and_then(|stored| {
            let artifact = downloads.artifact(&stored.path).ok()?;
            (artifact.blake3 == stored.blake3).then_some(artifact)
        });
        match there {
            Some(artifact) => {
                let known = supply.at(artifact.file, artifact.blake3, artifact.bytes);
                Arc::make_mut(offers)[at].artifact = Arc::new(known);
            }
            None => missing.push(Wanted {
                what: format!("{} {}", offer.facts.id, offer.facts.version),
                supply,
            }),
        }
    }
    missing.dedup_by(|a, b| a.supply == b.supply);
    match missing.is_empty() {
        true => Ok(()),
        false => Err(Error::Planning(PlanningFault::ToFetch(missing))),
    }
}

/// The file of a release whose catalogue states other hashes than its BLAKE3, held against those.
///
/// # Errors
/// When it cannot be read, or is another file.
fn as_stated(offer: &Offer, downloads: &Downloads<'_>) -> Result<Artifact> {
    let path = Path::new(&offer.artifact.file);
    let checks = offer.supply.iter().flat_map(|supply| &supply.checks);
    let kinds = checks.clone().map(|check| check.kind);
    let hashes = here::open(path).and_then(|mut file| hashes_of(&mut file, kinds));
    let hashes = hashes.at("reading", path)?;
    if let Some((stated, is)) = differing(checks, &hashes) {
        return Err(Error::OtherArchive {
            path: path.into(),
            expected: shortened(&stated.hex),
            found: shortened(&is.hex),
        });
    }
    let artifact = downloads.artifact(path)?;
    Ok(Artifact {
        urls: offer.artifact.urls.clone(),
        ..artifact
    })
}

/// The server as a survey found it, with what is switched on each that runs on the install; `of` is the one of them that
/// starts what comes new, or all do.
fn beginning(
    server: &Server,
    survey: &Survey,
    switched: &[BTreeMap<Id, bool>],
    of: Option<&str>,
) -> Beginning {
    let parts = survey.parts.iter().enumerate();
    let parts = parts.map(|(index, seen)| PartAt {
        ground: seen.server.ground(),
        switched: switched.get(index).cloned().unwrap_or_default(),
        takes_new: of.is_none() || seen.server.which() == of,
        seen: seen.clone(),
    });
    Beginning {
        inventory: Arc::clone(&survey.inventory),
        files: survey.planned_files(server).cloned().collect(),
        parts: parts.collect(),
        scripts: survey.scripts.clone(),
        hashes: survey.hashes.clone(),
        remembered: survey.remembered.clone(),
        untouched: survey.untouched_files(server).cloned().collect(),
        by_hand: BTreeMap::new(),
    }
}

/// Writes plans down in lantern's own folder, later ones beside the first. Returns where each is.
///
/// # Errors
/// When one cannot be written.
pub fn save(server: &Server, plans: &[Plan]) -> Result<Vec<PathBuf>> {
    let out = server.folder.shown(&own("next.plan.json"));
    let files = plans.iter().enumerate().map(|(number, plan)| {
        let path = numbered(&out, number);
        here::write(&path, plan.to_json().as_bytes())?;
        Ok(path)
    });
    files.collect()
}

/// Where the plan for a stop on the way goes: the first to `out`, later ones beside it.
pub fn numbered(out: &Path, number: usize) -> PathBuf {
    if number == 0 {
        return out.to_owned();
    }
    let name = out.file_name().map(|name| name.to_string_lossy());
    let name = name.map_or(String::new(), |name| name.into_owned());
    let (stem, rest) = name.split_once('.').unwrap_or((&name, "plan.json"));
    out.with_file_name(format!("{stem}-{}.{rest}", number + 1))
}

/// The stops on the way, where the chosen build cannot bring the installed worlds forward at once.
fn stops(request: &Request, selection: &Selection) -> Result<Option<Vec<Version>>> {
    let build = selection
        .choices
        .iter()
        .find(|choice| choice.kind == Kind::Build);
    let Some((offer, from)) = build.and_then(|build| build.offer.zip(build.from.as_ref())) else {
        return Ok(None);
    };
    let facts = &request.offers[offer].facts;
    let brings = &facts.build.worlds_from;
    if brings.as_ref().is_none_or(|range| range.holds_early(from)) {
        return Ok(None);
    }
    let stops = outlook::stops(request, &facts.version);
    stops.map(Some).ok_or_else(|| {
        Error::Planning(PlanningFault::NoWay {
            from: from.to_string(),
            to: facts.version.to_string(),
        })
    })
}

/// Draws the plan for one stage of the way, and says how it leaves the server.
fn stage(
    server: &Server,
    at: &mut Beginning,
    downloads: &Downloads<'_>,
    request: &Request,
    selection: &Selection,
    layering: &Layering<'_>,
) -> Result<(Plan, Beginning)> {
    let laid_out = |choice: &Choice| {
        let offer = choice.offer?;
        let files = payload(
            &server.family,
            &request.offers[offer],
            at.inventory.whole(&choice.id),
            layering.variants,
            &|path| {
                let mut patches = layering.patches.values();
                let mut orders = at.parts.iter().filter_map(|part| part.seen.order.as_ref());
                at.by_hand.contains_key(path)
                    || patches.any(|patch| patch.path == *path)
                    || orders.any(|order| order.holds(path))
            },
            downloads,
        );
        Some(files.map(|files| (offer, files)))
    };
    // Several at once; of those that cannot be laid out, the first is told.
    let choices = selection.choices.par_iter();
    let payloads: Vec<Result<(usize, Payload)>> =
        downloads.at_one_moment(|| choices.filter_map(laid_out).collect())?;
    let payloads: BTreeMap<usize, Payload> = payloads.into_iter().collect::<Result<_>>()?;
    if server.folder.is_far() {
        alike::read_alike(server, at, &payloads, downloads.ledger())?;
    }
    let at = &*at;
    let keep = server.keep();
    let root = server.folder.root().display().to_string();
    let parts = at.parts.iter().map(|part| Part {
        name: part.seen.server.which(),
        family: &part.seen.server.family,
        inventory: &part.seen.inventory,
        order: part.seen.order.as_ref(),
        flow: &part.seen.flow,
        switched: &part.switched,
        ground: &part.ground,
        takes_new: part.takes_new,
    });
    let parts: Vec<Part<'_>> = parts.collect();
    let situation = Situation {
        folder: (&root, &at.untouched),
        own: &server.own_files(),
        server: &server.config.name,
        server_id: &server.config.id,
        family: &server.family,
        inventory: &at.inventory,
        files: &at.files,
        parts: &parts,
        sooner: &server.sooner(),
        dropped: &request.drop,
        scripts: &at.scripts,
        effects: &server.config.effects,
        hashes: &at.hashes,
        keep: &keep,
        remembered: &at.remembered,
        stored: &layering.stored,
        beside: layering.beside,
        by_hand: &at.by_hand,
        answers: layering.answers,
        samples: layering.samples,
        patches: layering.patches,
    };
    let mut plan = draw(&situation, selection, &request.offers, &payloads)?;
    if let Some(rename) = switching::moved_afar(server, &plan) {
        return Err(Error::Planning(PlanningFault::MovesAfar(rename.clone())));
    }
    needs::follow(server, at, &mut plan, selection, request, &payloads)?;
    if !selection
        .choices
        .iter()
        .any(|choice| choice.kind == Kind::Build)
    {
        plan.to = request.target.to_string();
        if server.stated_otherwise(&plan.to).is_some() {
            let note = format!(
                "{} {to} has to be installed first: it lies outside this folder, and a changeover waits until lantern.toml \
                 says server_version = \"{to}\"",
                server.family.build.id,
                to = plan.to
            );
            plan.notes.insert(0, note);
        }
    }
    for choice in &selection.choices {
        let offer = choice.offer.map(|offer| &request.offers[offer]);
        let supply = offer.and_then(|offer| offer.supply.as_deref());
        if let Some(supply) = supply.filter(|supply| supply.checks.is_empty()) {
            plan.notes.push(format!(
                "{} {}: nobody states a hash of {}, so nothing says that what came is what was meant",
                choice.id, choice.to, supply.name
            ));
        }
    }
    for (offer, choice) in unused_by_hand(request, selection) {
        plan.notes.push(format!(
            "{} {} is in the drop folder but is not used{}; see: lantern why {} --not {}",
            offer.id,
            offer.version,
            choice.map_or(String::new(), |to| format!("; {to} is")),
            offer.id,
            offer.version
        ));
    }
    let next = left_by(&plan, at, selection, request, &payloads)?;
    plan.orders = orders(at, &next);
    plan.clients = players::changes(server, &at.inventory, &next.inventory, request);
    plan.protocol = players::protocol(server, &next.inventory, request);
    plan.client_lists = players::lists(server, &next.inventory, &plan);
    Ok((plan, next))
}

/// The load orders that become other ones.
fn orders(at: &Beginning, next: &Beginning) -> Vec<OrderChange> {
    let running = |inventory: &Inventory| -> Vec<Id> {
        let on = inventory.order.entries.iter().filter(|entry| entry.on);
        on.map(|entry| entry.id.clone()).collect()
    };
    let both = at.parts.iter().zip(&next.parts);
    let orders = both.map(|(before, after)| OrderChange {
        server: before.seen.server.which().map(str::to_owned),
        before: running(&before.seen.inventory),
        after: running(&after.seen.inventory),
    });
    orders.filter(|order| order.before != order.after).collect()
}

/// The server as a plan leaves it.
fn left_by(
    plan: &Plan,
    at: &Beginning,
    selection: &Selection,
    request: &Request,
    payloads: &BTreeMap<usize, Payload>,
) -> Result<Beginning> {
    // What comes with a release is edited as it comes.
    let texts = payloads.values().flat_map(|payload| &payload.texts);
    let texts: BTreeMap<&RelPath, &Text> = texts.collect();
    let comes = [ActionKind::Place, ActionKind::Replace].into_iter();
    let comes = comes.flat_map(|what| plan.of(what));
    let comes = comes.filter(|it| it.source.is_some());
    let coming = comes.filter_map(|it| Some((&it.path, *texts.get(&it.path)?)));
    let coming: BTreeMap<&RelPath, &Text> = coming.collect();
    let changed = |path: &RelPath, text: &Text| {
        let text = coming.get(path).copied().unwrap_or(text);
        let edit = plan.edits.iter().find(|edit| edit.path == *path);
        edit.map_or_else(|| Ok(text.clone()), |edit| edited(edit, text))
    };
    let mut scripts: BTreeMap<RelPath, Text> = at.scripts.iter().cloned().collect();
    for action in plan.of(ActionKind::SetAside) {
        scripts.remove(&action.path);
    }
    let followed = coming.iter().filter(|(path, _)| {
        let mut parts = at.parts.iter();
        parts.any(|part| part.seen.server.family.is_followed(path.as_str()))
    });
    scripts.extend(followed.map(|(path, text)| ((*path).clone(), (*text).clone())));
    for (path, text) in &mut scripts {
        *text = changed(path, text)?;
    }
    let mut remembered = at.remembered.clone();
    for action in plan.of(ActionKind::SetAside) {
        remembered.remove(&action.path);
    }
    remembered.extend(remembered_after(plan, &at.remembered));
    let mut parts = Vec::new();
    let mut files = Vec::new();
    for part in &at.parts {
        let seen = &part.seen;
        let family = &seen.server.family;
        let order = seen.order.as_ref();
        let rules = family.order.as_ref().zip(order);
        let order =
            rules.and_then(|(rule, order)| order.with(rule, |path, text| changed(path, text).ok()));
        let lines = family.order.as_ref().zip(order.as_ref());
        let lines = lines.map(|(rule, order)| Arrangement::read(rule, order.as_str()));
        let (mut inventory, left) = afterwards(
            &seen.inventory,
            plan,
            selection,
            &request.offers,
            payloads,
            lines.unwrap_or_default(),
            seen.server.which(),
        );
        let is_elsewhere = |place: &RelPath| part.ground.is_elsewhere(place.as_str());
        inventory
            .components
            .retain(|it| !it.place.as_ref().is_some_and(is_elsewhere));
        if let Some(rule) = &family.order {
            arrange_by_place(rule, &mut inventory);
        }
        compare(&mut inventory.components, &remembered, order.as_ref());
        files = left;
        parts.push(PartAt {
            seen: PartSeen {
                server: seen.server.clone(),
                inventory: Arc::new(inventory),
                order,
                flow: seen.flow.clone(),
            },
            ground: part.ground.clone(),
            switched: BTreeMap::new(),
            takes_new: part.takes_new,
        });
    }
    Ok(Beginning {
        inventory: match &parts[..] {
            [only] => Arc::clone(&only.seen.inventory),
            several => Arc::new(united(several.iter().map(|part| &*part.seen.inventory))),
        },
        files,
        parts,
        scripts: scripts.into_iter().collect(),
        hashes: hashes_after(&at.hashes, payloads.values(), plan.actions.iter(), |path| {
            let mut parts = at.parts.iter();
            parts.any(|part| part.seen.server.family.may_name_hash_of(path))
        }),
        remembered,
        untouched: at.untouched.clone(),
        by_hand: by_hand::after(plan, at, payloads)?,
    })
}

/// What lies in the drop folder and was not chosen, with what was chosen instead; older ones of
/// several are not told.
fn unused_by_hand<'a>(
    request: &'a Request,
    selection: &'a Selection,
) -> Vec<(&'a Facts, Option<&'a Version>)> {
    let by_hand = request
        .offers
        .iter()
        .filter(|offer| offer.origin == Origin::DropFolder);
    let mut newest: BTreeMap<&Id, &Facts> = BTreeMap::new();
    for offer in by_hand {
        let known = newest.entry(&offer.facts.id).or_insert(&offer.facts);
        if offer.facts.version > known.version {
            *known = &offer.facts;
        }
    }
    let choices = selection.choices.iter();
    let choices: BTreeMap<&Id, &Version> = choices.map(|it| (&it.id, &it.to)).collect();
    let chosen = |id: &Id| choices.get(id).copied();
    let unused = newest.into_values().map(|facts| (facts, chosen(&facts.id)));
    unused
        .filter(|(facts, chosen)| *chosen != Some(&facts.version))
        .collect()
}

/// A text as a plan changes it.
///
/// # Errors
/// When it is not the one that the plan was made for.
pub(crate) fn edited(edit: &TextEdit, text: &Text) -> Result<Text> {
    text.changed(&edit.lines).map_err(|misfit| {
        Error::Changeover(ChangeoverFault::OtherText {
            path: edit.path.clone(),
            why: misfit.to_string(),
        })
    })
}
