//! Drawing a plan up.

use super::{
    Action, ComponentChange, Expected, FORMAT, Kept, OrderEdit, Plan, Source, Step, Verdict, What,
    reason_text,
};
use crate::catalogue::Offer;
use crate::component::{Facts, Id, Kind, Side};
use crate::family::{Family, Glob, OrderKind, Reader, Shape};
use crate::inventory::{Component, Inventory, State};
use crate::order::{self, Ring};
use crate::path::{PathFault, RelPath};
use crate::resolve::{Gone, Selection};
use crate::tree::{FileSeen, root_in_archive};
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
    /// The path patterns of the keep list: the family's and the server's own.
    pub keep: &'a [Glob],
}

/// The files that an offer would put into the server folder.
#[derive(Debug, Clone)]
pub struct Payload {
    /// The component's folder, or its archive.
    pub place: RelPath,
    /// What it is made of.
    pub shape: Shape,
    /// The reader that knows it.
    pub reader: String,
    /// The files.
    pub files: Vec<PayloadFile>,
    /// For a pack: its members.
    pub members: Vec<Member>,
}

/// A member of a pack that is offered.
#[derive(Debug, Clone)]
pub struct Member {
    /// The folder it would lie in.
    pub folder: RelPath,
    /// What it says of itself.
    pub facts: Facts,
}

/// Where a release goes.
#[derive(Debug, Clone)]
pub struct Laid {
    /// The component's folder, or its archive.
    pub place: RelPath,
    /// Its files.
    pub files: Vec<PayloadFile>,
}

/// One file that an offer would put into the server folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PayloadFile {
    /// Where it goes.
    pub path: RelPath,
    /// The entry of the archive; none when the archive itself is the file.
    pub entry: Option<String>,
    /// Its size.
    pub bytes: u64,
    /// BLAKE3 of its content in hexadecimal.
    pub hash: String,
}

impl Payload {
    /// The member whose folder a path lies in.
    fn member_at(&self, path: &RelPath) -> Option<&Id> {
        let mut members = self.members.iter();
        let member = members.find(|member| path.below(member.folder.as_str()).is_some());
        member.map(|member| &member.facts.id)
    }
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

/// Says where the files of a release go.
///
/// `entries` are the archive's files as name, size and BLAKE3; `archive` is size and BLAKE3 of the
/// archive itself. A folder that is already there stays where it is.
///
/// # Errors
/// When the family does not say where, or a path is not fit to be written.
pub fn lay_out(
    reader: &Reader,
    facts: &Facts,
    installed: Option<&Component>,
    entries: &[(String, u64, String)],
    archive: (u64, &str),
) -> Result<Laid, DrawFault> {
    let id = &facts.id;
    let path_fault = |fault| DrawFault::Path {
        id: id.clone(),
        fault,
    };
    let place = match (installed.and_then(|c| c.place.as_ref()), reader.shape) {
        (Some(place), Shape::Folder | Shape::Group) => place.clone(),
        _ => {
            let template = reader
                .install
                .as_deref()
                .ok_or_else(|| DrawFault::NoPlace { id: id.clone() })?;
            let text = template.replace("{id}", id.as_str());
            let text = text.replace("{version}", facts.version.as_str().trim_start_matches('#'));
            RelPath::parse(&text).map_err(path_fault)?
        }
    };
    if reader.shape.is_one_file() {
        let file = PayloadFile {
            path: place.clone(),
            entry: None,
            bytes: archive.0,
            hash: archive.1.into(),
        };
        return Ok(Laid {
            place,
            files: vec![file],
        });
    }
    let names: Vec<&str> = entries.iter().map(|(name, ..)| name.as_str()).collect();
    let root =
        root_in_archive(reader, &names).ok_or_else(|| DrawFault::NoRoot { id: id.clone() })?;
    let inside = entries.iter().filter_map(|(name, bytes, hash)| {
        let below = name.strip_prefix(&root)?;
        Some((name, below, *bytes, hash))
    });
    let files = inside.map(|(name, below, bytes, hash)| {
        Ok(PayloadFile {
            path: place.join(below).map_err(path_fault)?,
            entry: Some(name.clone()),
            bytes,
            hash: hash.clone(),
        })
    });
    let files = files.collect::<Result<_, DrawFault>>()?;
    Ok(Laid { place, files })
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
        });
        drawing.set_aside(&gone.id);
    }
    for (offer, _) in &moving {
        drawing.set_aside(&offer.facts.id);
    }
    for (offer, payload) in &moving {
        drawing.place(offer, payload)?;
    }
    let (order, expects) = drawing.order(&moving, &selection.gone)?;
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
        order,
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
    archives: Vec<crate::catalogue::ArchiveRef>,
    notes: Vec<String>,
}

impl<'a> Drawing<'a> {
    /// Every file stays, until something else is said.
    fn stand_still(&mut self) {
        let mut owners: BTreeMap<&RelPath, &Id> = BTreeMap::new();
        for component in &self.situation.inventory.components {
            let owner = component.group.as_ref().unwrap_or(&component.facts.id);
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

    fn set_aside(&mut self, id: &Id) {
        for component in self.installed(id) {
            if let State::Edited { files, added } = &component.state {
                let names: Vec<&str> = files.iter().chain(added).map(RelPath::as_str).collect();
                self.notes.push(format!(
                    "{} was edited by hand; your version is set aside: {}",
                    component.facts.id,
                    names.join(", ")
                ));
            }
            for file in &component.files {
                if let Some(action) = self.actions.get_mut(&file.path) {
                    action.what = What::SetAside;
                    action.after = None;
                }
            }
        }
    }

    fn place(&mut self, offer: &Offer, payload: &Payload) -> Result<(), DrawFault> {
        let id = &offer.facts.id;
        let kept: Vec<RelPath> = payload
            .files
            .iter()
            .filter(|file| self.is_kept(&file.path))
            .map(|file| file.path.clone())
            .collect();
        if !kept.is_empty() {
            return Err(DrawFault::WritesKept {
                id: id.clone(),
                paths: kept,
            });
        }
        let archive = self.archives.len();
        self.archives.push(offer.archive.clone());
        for file in &payload.files {
            let mut action = Action {
                path: file.path.clone(),
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
            };
            if let Some(old) = self.actions.get(&file.path) {
                let whose = old.component.as_ref();
                match old.what {
                    What::SetAside if old.before.as_ref() == Some(&file.hash) => {
                        action.what = What::Keep;
                    }
                    What::SetAside => action.what = What::Replace,
                    What::Place | What::Replace => {
                        return Err(DrawFault::Twice {
                            path: file.path.clone(),
                            a: whose.unwrap_or(id).clone(),
                            b: id.clone(),
                        });
                    }
                    What::Keep | What::Edit => {
                        return Err(DrawFault::InTheWay {
                            id: id.clone(),
                            path: file.path.clone(),
                            owner: whose.cloned(),
                        });
                    }
                }
                action.before = old.before.clone();
            }
            self.actions.insert(file.path.clone(), action);
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
            for facts in own
                .into_iter()
                .chain(payload.members.iter().map(|member| &member.facts))
            {
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

    fn order(
        &mut self,
        moving: &[(&'a Offer, &'a Payload)],
        gone: &[Gone],
    ) -> Result<(Option<OrderEdit>, Vec<Expected>), DrawFault> {
        let after = self.afterwards(moving, gone);
        let running = after.iter().filter(|(_, (_, on))| *on);
        let expects = running
            .clone()
            .map(|(id, (facts, _))| Expected {
                id: (*id).clone(),
                version: (!facts.version.is_content()).then(|| facts.version.to_string()),
            })
            .collect();
        let (Some(rule), Some((path, text))) = (&self.situation.family.order, self.situation.order)
        else {
            return Ok((None, expects));
        };
        let inventory = self.situation.inventory;
        let (new, lines) = match rule.kind {
            OrderKind::Flags => {
                let flags = running.map(|(id, _)| ((*id).clone(), true)).collect();
                let gone = inventory.components.iter().map(|c| &c.facts.id);
                let gone = gone.filter(|id| inventory.get(id).is_some_and(|c| c.on.is_some()));
                let gone = gone.filter(|id| !after.contains_key(id)).cloned().collect();
                order::write_flags(rule, text, &flags, &gone)
            }
            OrderKind::Sequence | OrderKind::List => {
                let places = self.places(moving);
                let entries = &inventory.order;
                // An add-on that a category's entry starts has none of its own.
                let entry_of = |id: &Id| {
                    let place = places.get(id);
                    let by = place.and_then(|place| order::starter(rule, entries, id, place));
                    by.map_or(id.clone(), |line| line.id.clone())
                };
                let mut wanted: BTreeMap<Id, BTreeSet<Id>> = BTreeMap::new();
                for (id, follows) in must_follow(&after) {
                    let entry = entry_of(&id);
                    let follows = follows.iter().map(&entry_of).filter(|f| *f != entry);
                    let follows: BTreeSet<Id> = follows.collect();
                    wanted.entry(entry).or_default().extend(follows);
                }
                let current: Vec<Id> = entries.iter().map(|line| line.id.clone()).collect();
                // An entry for something that is not installed is the administrator's own affair.
                for id in current.iter().filter(|id| inventory.get(id).is_none()) {
                    wanted.entry(id.clone()).or_default();
                }
                let order = order::arrange(&wanted, &current)?;
                match rule.kind {
                    OrderKind::List => order::write_list(rule, text, &order),
                    OrderKind::Sequence | OrderKind::Flags => {
                        order::write_sequence(rule, text, &order)
                    }
                }
            }
        };
        if lines.is_empty() {
            return Ok((None, expects));
        }
        let action = Action {
            path: path.clone(),
            what: What::Edit,
            component: None,
            member: None,
            before: Some(blake3::hash(text.as_bytes()).to_hex().to_string()),
            after: Some(blake3::hash(new.as_bytes()).to_hex().to_string()),
            bytes: new.len() as u64,
            source: None,
        };
        self.actions.insert(path.clone(), action);
        let edit = OrderEdit {
            path: path.clone(),
            text: new,
            lines,
        };
        Ok((Some(edit), expects))
    }
}

/// For each add-on that runs: those that have to be started before it.
fn must_follow(after: &BTreeMap<&Id, (&Facts, bool)>) -> BTreeMap<Id, BTreeSet<Id>> {
    let provided: BTreeMap<&Id, &Id> = after
        .values()
        .flat_map(|(facts, _)| facts.provides.iter().map(|p| (&p.id, &facts.id)))
        .collect();
    let real = |id: &Id| provided.get(id).copied().unwrap_or(id).clone();
    let running = || after.iter().filter(|(_, (_, on))| *on);
    let mut follow: BTreeMap<Id, BTreeSet<Id>> = BTreeMap::new();
    for (id, (facts, _)) in running() {
        let needed = facts.needs.iter().chain(&facts.uses).map(|need| &need.id);
        let first = needed.chain(&facts.terms.after).map(real);
        follow.entry((*id).clone()).or_default().extend(first);
    }
    for (id, (facts, _)) in running() {
        for later in facts.terms.before.iter().map(real) {
            if let Some(follows) = follow.get_mut(&later) {
                follows.insert((*id).clone());
            }
        }
    }
    follow
}
