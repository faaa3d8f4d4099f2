//! Drawing a plan up.

use super::edits::{self, Afterwards};
use super::{
    Action, ComponentChange, Expected, FORMAT, Kept, Payload, Plan, Source, Step, Under, Verdict,
    What, reason_text,
};
use crate::catalogue::{ArchiveRef, Offer};
use crate::component::{Facts, Id, Kind, Side};
use crate::family::{Family, Glob};
use crate::inventory::{Component, Inventory, Remembered, State};
use crate::order::Ring;
use crate::path::{PathFault, RelPath};
use crate::resolve::{Gone, Selection};
use crate::tree::FileSeen;
use std::collections::{BTreeMap, BTreeSet};

/// The server as the plan finds it.
#[derive(Debug)]
pub struct Situation<'a> {
    /// The server's name.
    pub server: &'a str,
    /// The server's own mark.
    pub server_id: &'a str,
    /// Its family.
    pub family: &'a Family,
    /// What is installed.
    pub inventory: &'a Inventory,
    /// Every file outside the keep list that does not come and go.
    pub files: &'a [FileSeen],
    /// The load-order file and its text.
    pub order: Option<(&'a RelPath, &'a str)>,
    /// The texts of start scripts.
    pub scripts: &'a [(RelPath, String)],
    /// The path patterns of the keep list: the family's and the server's own.
    pub keep: &'a [Glob],
    /// What the ledger remembers.
    pub remembered: &'a BTreeMap<RelPath, Remembered>,
    /// Files of layers that are kept aside, by their BLAKE3.
    pub stored: &'a BTreeMap<String, ArchiveRef>,
    /// Whether what a release would write into the keep list is put beside it, as `*.new`.
    pub beside: bool,
}

/// Why no plan can be drawn up although releases fit together.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DrawFault {
    /// A release would write where nothing may be written.
    #[error("{id} would write to {}, on the keep list", .paths.iter().map(RelPath::as_str).collect::<Vec<_>>().join(", "))]
    WritesKept {
        /// The component.
        id: Id,
        /// Where.
        paths: Vec<RelPath>,
    },
    /// Two releases would put a file at the same path.
    #[error("{a} and {b} both want to put a file at {path}")]
    Twice {
        /// The path.
        path: RelPath,
        /// The one.
        a: Id,
        /// The other.
        b: Id,
    },
    /// A release would overwrite a file that belongs to another component or to nobody.
    #[error("{id} wants to put a file at {path}, where one of {} lies", .owner.as_ref().map_or("nobody's", Id::as_str))]
    InTheWay {
        /// The component.
        id: Id,
        /// The path.
        path: RelPath,
        /// Whose file lies there.
        owner: Option<Id>,
    },
    /// What a release calls all its own overlaps with the keep list.
    #[error("{id} calls {path} all its own, which overlaps with {keep} on the keep list")]
    OwnsKept {
        /// The component.
        id: Id,
        /// The path.
        path: RelPath,
        /// The pattern of the keep list.
        keep: String,
    },
    /// A pack brings what the administrator has installed beside it.
    #[error("{pack} now holds {member} itself, and yours is installed beside it")]
    InPack {
        /// The pack.
        pack: Id,
        /// Its member.
        member: Id,
    },
    /// What has to be laid over, or come back from under, a layer is kept nowhere.
    #[error("{path} of {id} has to be put there again, and lantern has no copy of it")]
    NoCopy {
        /// The component.
        id: Id,
        /// The file.
        path: RelPath,
    },
    /// A release has variants, and none of them is chosen.
    #[error("{id} comes in variants, and none is chosen: {}", .variants.join(", "))]
    NoVariant {
        /// The component.
        id: Id,
        /// Its variants.
        variants: Vec<String>,
    },
    /// The variant that is chosen is not among those of a release.
    #[error("{id} has no variant \"{chosen}\": it has {}", .variants.join(", "))]
    OtherVariants {
        /// The component.
        id: Id,
        /// The variant that was chosen.
        chosen: String,
        /// Its variants.
        variants: Vec<String>,
    },
    /// Nothing says where such a release goes.
    #[error("the family file does not say where a new {id} goes: its reader has no `install`")]
    NoPlace {
        /// The component.
        id: Id,
    },
    /// The archive does not hold what its descriptor promises.
    #[error("the archive of {id} holds no folder that is {id}")]
    NoRoot {
        /// The component.
        id: Id,
    },
    /// A path is not fit to be written.
    #[error("{id}: {fault}")]
    Path {
        /// The component.
        id: Id,
        /// What is wrong with it.
        fault: PathFault,
    },
    /// Add-ons need one another in a ring.
    #[error(transparent)]
    Ring(#[from] Ring),
}

/// Draws the plan for a selection.
///
/// `payloads` holds the files of every chosen offer, by its index in `offers`.
///
/// # Errors
/// When carrying the selection out would harm something; nothing is changed in any case.
pub fn draw(
    situation: &Situation<'_>,
    selection: &Selection,
    offers: &[Offer],
    payloads: &BTreeMap<usize, Payload>,
) -> Result<Plan, DrawFault> {
    let mut drawing = Drawing {
        situation,
        actions: BTreeMap::new(),
        archives: Vec::new(),
        notes: Vec::new(),
        away: BTreeSet::new(),
        kinds: BTreeMap::new(),
        carried: BTreeSet::new(),
        edited: BTreeMap::new(),
    };
    drawing.stand_still();
    let mut components = Vec::new();
    let mut moving: Vec<(&Offer, &Payload)> = Vec::new();
    for choice in &selection.choices {
        let from = choice.from.as_ref().map(ToString::to_string);
        components.push(ComponentChange {
            id: choice.id.clone(),
            kind: choice.kind,
            to: Some(choice.to.to_string()),
            verdict: match (choice.offer, &from) {
                (None, _) => Verdict::Stays,
                (Some(_), None) => Verdict::Comes,
                (Some(_), Some(_)) => Verdict::Moves,
            },
            from,
            why: reason_text(&choice.reason),
            variant: choice
                .offer
                .and_then(|offer| payloads[&offer].variant.clone()),
        });
        if let Some(offer) = choice.offer {
            let payload = &payloads[&offer];
            moving.push((&offers[offer], payload));
        }
    }
    for gone in &selection.gone {
        let why = match &gone.replaced_by {
            Some(id) => format!("{id} takes its place"),
            None if gone.asked => "taken out as asked".into(),
            None => "nothing of it fits".into(),
        };
        components.push(ComponentChange {
            id: gone.id.clone(),
            kind: gone.kind,
            from: Some(gone.from.to_string()),
            to: None,
            verdict: Verdict::Goes,
            why,
            variant: None,
        });
        drawing.set_aside(&gone.id, false);
    }
    // The layers are laid from the lowest to the highest.
    moving.sort_by(|(a, _), (b, _)| (a.facts.kind, &a.facts.id).cmp(&(b.facts.kind, &b.facts.id)));
    for (offer, _) in &moving {
        drawing.set_aside(&offer.facts.id, true);
    }
    for (offer, payload) in &moving {
        drawing.check_pack(offer, payload, &moving, &selection.gone)?;
        drawing.place(offer, payload)?;
    }
    drawing.uncover()?;
    drawing.lay_again(&moving)?;
    let after = drawing.afterwards(&moving, &selection.gone);
    let expects = drawing.expects(&after, &moving);
    let places = drawing.places(&moving);
    let afterwards = Afterwards {
        addons: &after,
        places: &places,
        moving: &moving,
    };
    let edits = edits::edits(situation, &afterwards)?;
    let edits = drawing.edit(edits);
    if !selection.proved {
        let note = "the search was long: this is the best found, and perhaps not the best there is";
        drawing.notes.push(note.into());
    }
    let undeclared: Vec<&str> = selection
        .choices
        .iter()
        .filter(|choice| choice.declared.is_none() && choice.kind != Kind::Build)
        .map(|choice| choice.id.as_str())
        .collect();
    if !undeclared.is_empty() {
        let shown = undeclared[..undeclared.len().min(8)].join(", ");
        let more = undeclared.len().saturating_sub(8);
        let more = if more > 0 {
            format!(" and {more} more")
        } else {
            String::new()
        };
        drawing.notes.push(format!(
            "unknown whether made for the target, as nobody declared it: {shown}{more}"
        ));
    }
    let to = selection
        .choices
        .iter()
        .find(|choice| choice.kind == Kind::Build);
    let now = situation
        .inventory
        .server_version()
        .map(ToString::to_string);
    Ok(Plan {
        format: FORMAT,
        server: situation.server.into(),
        server_id: situation.server_id.into(),
        family: situation.family.name.clone(),
        to: to
            .map(|choice| choice.to.to_string())
            .or(now.clone())
            .unwrap_or_default(),
        from: now,
        components,
        archives: drawing.archives,
        actions: drawing.actions.into_values().collect(),
        edits,
        keep: Kept {
            patterns: situation
                .keep
                .iter()
                .map(|glob| glob.as_str().into())
                .collect(),
        },
        expects,
        steps: Step::ALL.to_vec(),
        notes: drawing.notes,
    })
}

struct Drawing<'a> {
    situation: &'a Situation<'a>,
    actions: BTreeMap<RelPath, Action>,
    archives: Vec<ArchiveRef>,
    notes: Vec<String>,
    /// Components whose files go, whether or not another release of them comes.
    away: BTreeSet<Id>,
    /// What each component is.
    kinds: BTreeMap<Id, Kind>,
    /// Files that the administrator put into a component that moves.
    carried: BTreeSet<RelPath>,
    /// Files that he edited in one, with the BLAKE3 of what had been put there.
    edited: BTreeMap<RelPath, String>,
}

impl<'a> Drawing<'a> {
    /// Every file stays, until something else is said.
    fn stand_still(&mut self) {
        let mut owners: BTreeMap<&RelPath, &Id> = BTreeMap::new();
        for component in &self.situation.inventory.components {
            let owner = component.group.as_ref().unwrap_or(&component.facts.id);
            if component.group.is_none() {
                self.kinds.insert(owner.clone(), component.facts.kind);
            }
            owners.extend(component.files.iter().map(|file| (&file.path, owner)));
        }
        for file in self.situation.files {
            let action = Action {
                path: file.path.clone(),
                what: What::Keep,
                component: owners.get(&file.path).map(|id| (*id).clone()),
                member: None,
                before: file.hash.clone(),
                after: file.hash.clone(),
                bytes: file.bytes,
                source: None,
                shipped: None,
                under: None,
            };
            self.actions.insert(file.path.clone(), action);
        }
    }

    fn installed(&self, id: &Id) -> impl Iterator<Item = &'a Component> + use<'a> {
        let id = id.clone();
        let components = self.situation.inventory.components.iter();
        components
            .filter(move |c| c.facts.id == id && c.group.is_none() || c.group.as_ref() == Some(&id))
    }

    /// Everything of a component goes; when another release of it comes, what the administrator put
    /// there stays, and what he edited is looked at again.
    fn set_aside(&mut self, id: &Id, comes_again: bool) {
        self.away.insert(id.clone());
        for component in self.installed(id) {
            let (edited, added): (&[RelPath], &[RelPath]) = match &component.state {
                State::Edited { files, added } => (files, added),
                _ => (&[], &[]),
            };
            for file in &component.files {
                let Some(action) = self.actions.get_mut(&file.path) else {
                    continue;
                };
                if comes_again && added.contains(&file.path) {
                    self.carried.insert(file.path.clone());
                    continue;
                }
                action.what = What::SetAside;
                action.after = None;
                if edited.contains(&file.path)
                    && let Some(known) = self.situation.remembered.get(&file.path)
                {
                    self.edited.insert(file.path.clone(), known.hash.clone());
                }
            }
            let lost = edited.iter().filter(|_| !comes_again);
            let lost: Vec<&str> = lost.map(RelPath::as_str).collect();
            if !lost.is_empty() {
                self.notes.push(format!(
                    "{} was edited by hand; your version is set aside: {}",
                    component.facts.id,
                    lost.join(", ")
                ));
            }
        }
    }

    /// What stands between a pack and what the administrator has beside it.
    fn check_pack(
        &mut self,
        offer: &Offer,
        payload: &Payload,
        moving: &[(&Offer, &Payload)],
        gone: &[Gone],
    ) -> Result<(), DrawFault> {
        let id = &offer.facts.id;
        for path in &payload.holdings.owns {
            let inside = format!("{path}/");
            let overlaps =
                |glob: &&Glob| glob.matches(path.as_str()) || glob.as_str().starts_with(&inside);
            if let Some(glob) = self.situation.keep.iter().find(overlaps) {
                return Err(DrawFault::OwnsKept {
                    id: id.clone(),
                    path: path.clone(),
                    keep: glob.as_str().into(),
                });
            }
        }
        for member in &payload.members {
            let member = &member.facts.id;
            let components = self.situation.inventory.components.iter();
            let mut beside = components.filter(|c| {
                c.facts.id == *member && c.facts.kind == Kind::Addon && c.group.as_ref() != Some(id)
            });
            let goes = gone.iter().any(|gone| gone.id == *member)
                || moving.iter().any(|(other, _)| other.facts.id == *member);
            if beside.any(|c| c.group.is_none()) && !goes {
                return Err(DrawFault::InPack {
                    pack: id.clone(),
                    member: member.clone(),
                });
            }
        }
        let holds = |id: &Id| payload.members.iter().any(|member| member.facts.id == *id);
        let leaving = self
            .situation
            .inventory
            .members(id)
            .map(|member| &member.facts);
        for facts in leaving.filter(|facts| !holds(&facts.id)) {
            let bound = match facts.world_bound {
                Some(true) => ", and the world holds content of it",
                _ => "",
            };
            let (pack, version) = (id, &offer.facts.version);
            let note = format!(
                "{} goes: {pack} {version} does not hold it{bound}",
                facts.id
            );
            self.notes.push(note);
        }
        if let Some(folder) = &payload.found_in {
            self.notes.push(format!(
                "{id} lies deeper in its archive than usual, in {folder}; that is taken for it"
            ));
        }
        if offer.facts.kind == Kind::Pack {
            let shared: BTreeSet<RelPath> = payload
                .members
                .iter()
                .filter_map(|member| member.place.folder())
                .collect();
            let components = self.situation.inventory.components.iter();
            let own: Vec<&str> = components
                .filter(|c| c.facts.kind == Kind::Addon && c.group.is_none())
                .filter(|c| !self.away.contains(&c.facts.id))
                .filter(|c| {
                    c.place
                        .as_ref()
                        .and_then(RelPath::folder)
                        .is_some_and(|f| shared.contains(&f))
                })
                .map(|c| c.facts.id.as_str())
                .collect();
            if !own.is_empty() {
                self.notes
                    .push(format!("beside {id}, your own stay: {}", own.join(", ")));
            }
        }
        Ok(())
    }

    /// The members of a pack that the administrator took out: the ledger knows them, and they are gone.
    fn taken_out(&self, pack: &Id) -> BTreeSet<Id> {
        let prefix = format!("{pack}/");
        let known = self.situation.remembered.values().filter_map(|known| {
            let member = known.owner.as_ref()?.as_str().strip_prefix(&prefix)?;
            Some(Id::new(member))
        });
        let known: BTreeSet<Id> = known.collect();
        let here = |id: &Id| {
            self.situation
                .inventory
                .members(pack)
                .any(|c| c.facts.id == *id)
        };
        known.into_iter().filter(|id| !here(id)).collect()
    }

    fn place(&mut self, offer: &Offer, payload: &Payload) -> Result<(), DrawFault> {
        let id = &offer.facts.id;
        self.kinds.insert(id.clone(), offer.facts.kind);
        let taken_out = self.taken_out(id);
        let left_out = |path: &RelPath| {
            let member = payload.member_at(path);
            member.is_some_and(|member| taken_out.contains(member))
        };
        for member in &taken_out {
            if payload.members.iter().any(|m| m.facts.id == *member) {
                self.notes
                    .push(format!("{member} of {id} stays out, as you took it out"));
            }
        }
        let kept: Vec<RelPath> = payload
            .files
            .iter()
            .filter(|file| self.is_kept(&file.path) && !left_out(&file.path))
            .map(|file| file.path.clone())
            .collect();
        if !kept.is_empty() && !self.situation.beside {
            return Err(DrawFault::WritesKept {
                id: id.clone(),
                paths: kept,
            });
        }
        let archive = self.archives.len();
        self.archives.push(offer.archive.clone());
        let version = offer.facts.version.to_string();
        for file in payload.files.iter().filter(|file| !left_out(&file.path)) {
            let mut path = file.path.clone();
            if self.is_kept(&path) {
                let Some(beside) = self.beside(&path) else {
                    let note = format!("{path} of {id} is left out: all about it is kept");
                    self.notes.push(note);
                    continue;
                };
                self.notes.push(format!(
                    "{path} is kept; that of {id} is put beside, as {beside}"
                ));
                path = beside;
            }
            let coming = Action {
                path: path.clone(),
                what: What::Place,
                component: Some(id.clone()),
                member: payload.member_at(&file.path).cloned(),
                before: None,
                after: Some(file.hash.clone()),
                bytes: file.bytes,
                source: Some(Source {
                    archive,
                    entry: file.entry.clone(),
                }),
                shipped: None,
                under: None,
            };
            let laid = self.lay(coming, &version)?;
            self.actions.insert(path, laid);
        }
        Ok(())
    }

    /// The name beside a kept path, where that is free to be written.
    fn beside(&self, path: &RelPath) -> Option<RelPath> {
        let beside = RelPath::parse(&format!("{path}.new")).ok()?;
        let free = !self.is_kept(&beside) && !self.actions.contains_key(&beside);
        free.then_some(beside)
    }

    /// Lays a coming file over whatever is at its path.
    fn lay(&mut self, mut coming: Action, version: &str) -> Result<Action, DrawFault> {
        let Some(there) = self.actions.get(&coming.path) else {
            return Ok(coming);
        };
        let path = &coming.path;
        let layer = |id: Option<&Id>| id.and_then(|id| self.kinds.get(id)).copied();
        let (mine, theirs) = (
            layer(coming.component.as_ref()),
            layer(there.component.as_ref()),
        );
        coming.before.clone_from(&there.before);
        match there.what {
            What::SetAside if there.before == coming.after => coming.what = What::Keep,
            What::SetAside if self.edited.get(path) == coming.after.as_ref() => {
                self.notes.push(format!(
                    "{path} was edited by hand and ships unchanged: yours stays"
                ));
                coming.what = What::Keep;
                coming.shipped = coming.after.take();
                coming.after.clone_from(&there.before);
                coming.bytes = there.bytes;
            }
            What::SetAside => {
                if self.edited.contains_key(path) {
                    let note =
                        format!("{path} was edited by hand and ships changed: yours is set aside");
                    self.notes.push(note);
                }
                coming.what = What::Replace;
            }
            What::Keep if self.carried.contains(path) => {
                self.notes.push(format!(
                    "{path} is yours, and now ships: yours is set aside"
                ));
                coming.what = What::Replace;
            }
            // A lower layer: it comes to lie under the higher one.
            What::Place | What::Replace | What::Keep if theirs < mine && theirs.is_some() => {
                let component = there.component.clone();
                let kept = there.what == What::Keep;
                coming.under = component
                    .zip(there.after.clone())
                    .map(|(component, hash)| Under {
                        version: self.version_of(&component),
                        component,
                        hash,
                        source: if kept { None } else { there.source.clone() },
                    });
                coming.what = match there.before {
                    None => What::Place,
                    Some(_) if there.before == coming.after => What::Keep,
                    Some(_) => What::Replace,
                };
            }
            // A higher layer that stays: it goes on lying over what comes.
            What::Keep if theirs > mine => {
                let mut stays = there.clone();
                stays.under = coming
                    .component
                    .zip(coming.after)
                    .map(|(component, hash)| Under {
                        component,
                        version: Some(version.to_owned()),
                        hash,
                        source: coming.source,
                    });
                return Ok(stays);
            }
            What::Place | What::Replace => {
                return Err(DrawFault::Twice {
                    path: path.clone(),
                    a: there.component.clone().unwrap_or_default(),
                    b: coming.component.unwrap_or_default(),
                });
            }
            What::Keep | What::Edit => {
                return Err(DrawFault::InTheWay {
                    id: coming.component.unwrap_or_default(),
                    path: path.clone(),
                    owner: there.component.clone(),
                });
            }
        }
        Ok(coming)
    }

    fn version_of(&self, id: &Id) -> Option<String> {
        let component = self.situation.inventory.get(id);
        component.map(|component| component.facts.version.to_string())
    }

    /// A file that is kept aside, as one of the plan's archives.
    fn from_store(&mut self, hash: &str) -> Option<(Source, u64)> {
        let stored = self.situation.stored.get(hash)?.clone();
        let bytes = stored.bytes;
        self.archives.push(stored);
        let archive = self.archives.len() - 1;
        let entry = None;
        Some((Source { archive, entry }, bytes))
    }

    /// What lay under a file that goes comes back.
    fn uncover(&mut self) -> Result<(), DrawFault> {
        let bare = self.actions.values().filter(|a| a.what == What::SetAside);
        let bare: Vec<RelPath> = bare.map(|action| action.path.clone()).collect();
        for path in bare {
            let known = self.situation.remembered.get(&path);
            let Some(under) = known.and_then(|known| known.under.clone()) else {
                continue;
            };
            let stays = self.situation.inventory.get(&under.owner).is_some()
                && !self.away.contains(&under.owner);
            if !stays {
                continue;
            }
            let Some((source, bytes)) = self.from_store(&under.hash) else {
                return Err(DrawFault::NoCopy {
                    id: under.owner,
                    path,
                });
            };
            if let Some(action) = self.actions.get_mut(&path) {
                action.what = What::Replace;
                action.component = Some(under.owner);
                action.member = None;
                action.after = Some(under.hash);
                action.bytes = bytes;
                action.source = Some(source);
            }
        }
        Ok(())
    }

    /// What a staying component laid over others, and does not lie there any more, is laid again.
    fn lay_again(&mut self, moving: &[(&Offer, &Payload)]) -> Result<(), DrawFault> {
        let build_moves = moving
            .iter()
            .any(|(offer, _)| offer.facts.kind == Kind::Build);
        let components = self.situation.inventory.components.iter();
        let away = self.away.clone();
        for component in components.filter(|c| !away.contains(&c.facts.id)) {
            let id = &component.facts.id;
            for (path, hash) in &component.silenced {
                let Some((source, bytes)) = self.from_store(hash) else {
                    if build_moves {
                        return Err(DrawFault::NoCopy {
                            id: id.clone(),
                            path: path.clone(),
                        });
                    }
                    self.notes.push(format!(
                        "{id} stays inactive: lantern has no copy of its {path}; put {id} {} into the drop folder",
                        component.facts.version
                    ));
                    continue;
                };
                let coming = Action {
                    path: path.clone(),
                    what: What::Place,
                    component: Some(id.clone()),
                    member: None,
                    before: None,
                    after: Some(hash.clone()),
                    bytes,
                    source: Some(source),
                    shipped: None,
                    under: None,
                };
                let laid = self.lay(coming, component.facts.version.as_str())?;
                self.actions.insert(path.clone(), laid);
                self.notes
                    .push(format!("{path} of {id} is laid over again"));
            }
        }
        Ok(())
    }

    /// Whether a path is on the keep list; the load-order file never is.
    fn is_kept(&self, path: &RelPath) -> bool {
        let is_order = self.situation.order.is_some_and(|(order, _)| order == path);
        !is_order
            && self
                .situation
                .keep
                .iter()
                .any(|glob| glob.matches(path.as_str()))
    }

    /// The add-ons as they will be: facts, and whether they run; members of packs for themselves.
    fn afterwards(
        &self,
        moving: &[(&'a Offer, &'a Payload)],
        gone: &[Gone],
    ) -> BTreeMap<&'a Id, (&'a Facts, bool)> {
        let moved = moving.iter().map(|(offer, _)| &offer.facts.id);
        let moved: BTreeSet<&Id> = moved.chain(gone.iter().map(|gone| &gone.id)).collect();
        let gone = |c: &Component| {
            moved.contains(&c.facts.id) && c.group.is_none()
                || c.group.as_ref().is_some_and(|group| moved.contains(group))
        };
        let mut after: BTreeMap<&Id, (&Facts, bool)> = BTreeMap::new();
        let components = &self.situation.inventory.components;
        let mut was_on: BTreeMap<&Id, bool> = BTreeMap::new();
        for component in components.iter() {
            let on = component.on.unwrap_or(false);
            was_on.insert(&component.facts.id, on);
            if component.facts.kind == Kind::Addon && !gone(component) {
                after.insert(&component.facts.id, (&component.facts, on));
            }
        }
        for (offer, payload) in moving {
            let own = (offer.facts.kind == Kind::Addon).then_some(&offer.facts);
            let taken_out = self.taken_out(&offer.facts.id);
            let members = payload.members.iter().map(|member| &member.facts);
            let members = members.filter(|facts| !taken_out.contains(&facts.id));
            for facts in own.into_iter().chain(members) {
                let runs = facts.side != Some(Side::Client);
                let on = runs && was_on.get(&facts.id).copied().unwrap_or(true);
                after.insert(&facts.id, (facts, on));
            }
        }
        after
    }

    /// Where each add-on will lie.
    fn places(&self, moving: &[(&'a Offer, &'a Payload)]) -> BTreeMap<&'a Id, &'a RelPath> {
        let components = self.situation.inventory.components.iter();
        let here = components.filter_map(|c| Some((&c.facts.id, c.place.as_ref()?)));
        let coming = moving
            .iter()
            .map(|(offer, payload)| (&offer.facts.id, &payload.place));
        here.chain(coming).collect()
    }

    /// What the server has to say is loaded, and that its framework is active where it can say so.
    fn expects(
        &self,
        after: &BTreeMap<&'a Id, (&'a Facts, bool)>,
        moving: &[(&'a Offer, &'a Payload)],
    ) -> Vec<Expected> {
        let mut frameworks: BTreeMap<&Id, &Facts> = BTreeMap::new();
        if self.situation.family.console.framework.is_some() {
            let here = self.situation.inventory.components.iter().map(|c| &c.facts);
            let here = here.filter(|facts| !self.away.contains(&facts.id));
            let coming = moving.iter().map(|(offer, _)| &offer.facts);
            let both = here.chain(coming).filter(|f| f.kind == Kind::Framework);
            frameworks.extend(both.map(|facts| (&facts.id, facts)));
        }
        let running = after
            .values()
            .filter(|(_, on)| *on)
            .map(|(facts, _)| *facts);
        let mut expects: Vec<Expected> = frameworks
            .into_values()
            .chain(running)
            .map(|facts| Expected {
                id: facts.id.clone(),
                version: (!facts.version.is_content()).then(|| facts.version.to_string()),
            })
            .collect();
        expects.sort_by(|a, b| a.id.cmp(&b.id));
        expects
    }

    /// The texts that change, as actions; a text that comes new with a release is left as it comes.
    fn edit(&mut self, edits: Vec<super::TextEdit>) -> Vec<super::TextEdit> {
        let mut done = Vec::new();
        for edit in edits {
            match self.actions.get_mut(&edit.path) {
                Some(action) if action.what == What::Keep => {
                    action.what = What::Edit;
                    action.after = Some(blake3::hash(edit.text.as_bytes()).to_hex().to_string());
                    action.bytes = edit.text.len() as u64;
                    done.push(edit);
                }
                Some(_) => {
                    let note = format!("{} comes new: look at what it pins", edit.path);
                    self.notes.push(note);
                }
                None => {}
            }
        }
        done
    }
}
