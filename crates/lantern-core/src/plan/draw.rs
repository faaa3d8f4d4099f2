//! Drawing a plan up.

use super::after::hashes_after;
use super::edits::{self, Afterwards};
use super::{
    Action, ActionKind, ComponentChange, DrawFault, Expected, FORMAT, Fate, FileMerge, Kept,
    Payload, Plan, Step, Switched, TextEdit, Yours, reason_text,
};
use crate::artifact::Artifact;
use crate::component::{Effect, Id, Kind, Runs, Side};
use crate::facts::Facts;
use crate::family::{Family, Glob, Ground, OrderRule};
use crate::flags::NamedHashes;
use crate::inventory::{ByOwner, Component, Inventory, Remembered};
use crate::launch::Flow;
use crate::offer::Offer;
use crate::order::OrderText;
use crate::patch::Patch;
use crate::path::RelPath;
use crate::resolve::{Gone, Reason, Selection};
use crate::settings::Answers;
use crate::text::Text;
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
    /// Each server that runs on the install; of one that has it to itself, that one.
    pub parts: &'a [Part<'a>],
    /// What the administrator wants to be started before what: the first, and the later one.
    pub sooner: &'a [(Id, Id)],
    /// What add-ons change, in the administrator's words.
    pub effects: &'a BTreeMap<Id, Effect>,
    /// What the administrator lets go of.
    pub dropped: &'a BTreeSet<Id>,
    /// The texts of start scripts.
    pub scripts: &'a [(RelPath, Text)],
    /// The hashes of files that settings name, as they are.
    pub hashes: &'a NamedHashes,
    /// The path patterns of the keep list: the family's and the server's own.
    pub keep: &'a [Glob],
    /// What the ledger remembers.
    pub remembered: &'a BTreeMap<RelPath, Remembered>,
    /// The server folder's own path, and every file in it that no plan speaks of: kept, or coming and going.
    pub folder: (&'a str, &'a [RelPath]),
    /// Lantern's settings for this server, and its family file, where that lies in the folder.
    pub own: &'a [RelPath],
    /// Files of layers that are kept aside, by their BLAKE3.
    pub stored: &'a BTreeMap<String, Artifact>,
    /// Whether what a release would write into the keep list is put beside it, as `*.new`.
    pub beside: bool,
    /// Texts that were edited by hand.
    pub by_hand: &'a BTreeMap<RelPath, ByHand>,
    /// What is decided where both the administrator and a release changed something.
    pub answers: Answers<'a>,
    /// Settings of the place for which a sample is stated.
    pub samples: &'a [SampleSeen],
    /// Hand edits with a name.
    pub patches: &'a BTreeMap<String, Patch>,
}

/// Settings of the place, and a sample of them that lies in the folder.
#[derive(Debug, Clone)]
pub struct SampleSeen {
    /// The settings.
    pub file: RelPath,
    /// What they say.
    pub mine: Text,
    /// The sample.
    pub sample: RelPath,
    /// What it says now, before anything is done.
    pub before: Text,
}

/// A text that was edited by hand.
#[derive(Debug, Clone)]
pub struct ByHand {
    /// As it had been put there, or was found at adoption.
    pub before: Text,
    /// As it is.
    pub mine: Text,
    /// Whether it is known that the release shipped it so.
    pub is_shipped: bool,
}

/// A server of an install: the only one, or one of several.
#[derive(Debug, Clone)]
pub struct Part<'a> {
    /// Its name; none where it is the only one.
    pub name: Option<&'a str>,
    /// The family, with this server's own paths.
    pub family: &'a Family,
    /// What is installed for it.
    pub inventory: &'a Inventory,
    /// The load order as it is written down.
    pub order: Option<&'a OrderText>,
    /// What happens when it is started.
    pub flow: &'a Flow,
    /// What is switched on, or else off; the inventory says so already.
    pub switched: &'a BTreeMap<Id, bool>,
    /// Which paths are its own.
    pub ground: &'a Ground,
    /// Whether it starts what comes new.
    pub takes_new: bool,
}

impl Situation<'_> {
    fn switched(&self, id: &Id) -> Option<Switched> {
        let parts = self.parts.iter();
        let on = parts.filter_map(|part| part.switched.get(id)).max()?;
        Some(if *on { Switched::On } else { Switched::Off })
    }

    fn is_world_bound(&self, id: &Id) -> bool {
        let component = self.inventory.get(id);
        component.is_some_and(|component| component.facts.world_bound == Some(true))
    }
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
        yours: Vec::new(),
        merged: BTreeMap::new(),
        merges: Vec::new(),
        unsure: Vec::new(),
        taken_out: taken_out(situation),
        owned: BTreeMap::new(),
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
                (None, _) => Fate::Unchanged,
                (Some(_), None) => Fate::Added,
                (Some(_), Some(_)) => Fate::Updated,
            },
            from,
            why: match (situation.switched(&choice.id), choice.offer) {
                (Some(Switched::On), None) => "switched on".into(),
                _ => reason_text(&choice.reason),
            },
            switched: situation.switched(&choice.id),
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
            Some(id) => format!("replaced by {id}"),
            None if gone.asked => "removed as asked".into(),
            None => "no release of it fits".into(),
        };
        components.push(ComponentChange {
            id: gone.id.clone(),
            kind: gone.kind,
            from: Some(gone.from.to_string()),
            to: None,
            verdict: Fate::Removed,
            switched: None,
            why,
            variant: None,
        });
        if gone.replaced_by.is_none() && situation.is_world_bound(&gone.id) {
            let note = format!("{} is removed, and the world loses its content", gone.id);
            drawing.notes.push(note);
        }
        drawing.set_aside(&gone.id, false);
    }
    // A member of a pack is switched by itself, and moves with the pack.
    for member in &situation.inventory.components {
        let facts = &member.facts;
        if let (Some(group), Some(switched)) = (&member.group, situation.switched(&facts.id)) {
            components.push(ComponentChange {
                id: facts.id.clone(),
                kind: facts.kind,
                from: Some(facts.version.to_string()),
                to: Some(facts.version.to_string()),
                verdict: Fate::Unchanged,
                switched: Some(switched),
                why: format!("a member of {group}"),
                variant: None,
            });
        }
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
    drawing.copies_stay();
    drawing.uncover()?;
    drawing.lay_again(&moving)?;
    drawing.warn_of_silence(&moving);
    drawing.warn_of_updates(&moving);
    let places = drawing.places(&moving);
    let coming = moving.iter().map(|(_, payload)| *payload);
    let actions = drawing.actions.values();
    let hashes = hashes_after(situation.hashes, coming, actions, |path| {
        let mut parts = situation.parts.iter();
        parts.any(|part| part.family.may_name_hash_of(path))
    });
    let of_parts = situation.parts.iter();
    let of_parts = of_parts.map(|part| drawing.afterwards(part, &moving, &selection.gone));
    let of_parts: Vec<_> = of_parts.collect();
    let each = situation.parts.iter().zip(&of_parts);
    let each = each.map(|(part, addons)| Afterwards {
        part,
        addons,
        places: &places,
        moving: &moving,
        hashes: &hashes,
    });
    let each: Vec<Afterwards<'_>> = each.collect();
    // What runs on any of them runs.
    let mut after = BTreeMap::new();
    for (id, (facts, runs)) in of_parts.iter().flatten() {
        let known = after.entry(*id).or_insert((*facts, *runs));
        if known.1.is_off() {
            known.1 = *runs;
        }
    }
    let whole = Part {
        name: None,
        family: situation.family,
        inventory: situation.inventory,
        order: None,
        ..each[0].part.clone()
    };
    let whole = Afterwards {
        part: &whole,
        addons: &after,
        places: &places,
        moving: &moving,
        hashes: &hashes,
    };
    drawing.tell_stand_ins(&after, &selection.gone);
    drawing.tell_samples(&moving);
    drawing.tell_unsure();
    let expects = drawing.expects(&each, &moving);
    if situation.family.order.is_some() {
        let links = edits::gave_way(situation, &after)?.into_iter();
        let notes = links.map(|link| format!("{link}: this gives way, as it leads into a circle"));
        drawing.notes.extend(notes);
    }
    let renames = edits::renames(situation, &whole)?;
    drawing.rename(&renames)?;
    let flags = each.iter();
    let flags = flags.flat_map(|after| edits::flags_that_change(situation, after));
    drawing.notes.extend(flags.collect::<BTreeSet<String>>());
    let coming = drawing.coming(&moving);
    let edits = edits::edits(situation, &whole, &each, (&coming, &drawing.merged))?;
    drawing.notes.extend(edits.notes);
    for path in edits.unread {
        let note = format!("{path} comes with a release: check which versions it names");
        drawing.notes.push(note);
    }
    let edits = drawing.edit(edits.edits);
    if !selection.proved {
        let note = "the search took too long: this is the best answer found, but perhaps not the best there is";
        drawing.notes.push(note.into());
    }
    let undeclared: Vec<Id> = selection
        .choices
        .iter()
        .filter(|choice| choice.declared.is_none() && choice.kind != Kind::Build)
        .filter(|choice| choice.reason != Reason::Off)
        .map(|choice| choice.id.clone())
        .collect();
    if !undeclared.is_empty() {
        let shown = undeclared[..undeclared.len().min(8)].iter();
        let shown = shown.map(Id::as_str).collect::<Vec<_>>().join(", ");
        let more = undeclared.len().saturating_sub(8);
        let more = if more > 0 {
            format!(" and {more} more")
        } else {
            String::new()
        };
        let mut builds = selection.choices.iter().filter(|it| it.kind == Kind::Build);
        let why = match builds.any(|build| build.to.is_content()) {
            true => "nobody says which one it is",
            false => "nobody declared it",
        };
        drawing.notes.push(format!(
            "whether these are for this server version is unknown, as {why}: {shown}{more}"
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
    let yours = drawing.yours();
    let servers = drawing.servers(&moving);
    Ok(Plan {
        format: FORMAT,
        server: situation.server.into(),
        server_id: situation.server_id.into(),
        servers,
        family: situation.family.name.clone(),
        to: to
            .map(|choice| choice.to.to_string())
            .or(now.clone())
            .unwrap_or_default(),
        from: now,
        components,
        archives: drawing.archives,
        actions: drawing.actions.into_values().collect(),
        renames,
        edits,
        merges: drawing.merges,
        yours,
        unsure: drawing.unsure,
        undeclared,
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
        orders: Vec::new(),
        clients: Vec::new(),
        client_lists: Vec::new(),
        protocol: None,
    })
}

/// A plan while it is drawn up.
pub(super) struct Drawing<'a> {
    pub(super) situation: &'a Situation<'a>,
    pub(super) actions: BTreeMap<RelPath, Action>,
    pub(super) archives: Vec<Artifact>,
    pub(super) notes: Vec<String>,
    /// Components whose files go, whether or not another release of them comes.
    pub(super) away: BTreeSet<Id>,
    /// What each component is.
    pub(super) kinds: BTreeMap<Id, Kind>,
    /// Files that the administrator put into a component that moves.
    pub(super) carried: BTreeSet<RelPath>,
    /// Files that he edited in one, with the BLAKE3 of what had been put there.
    pub(super) edited: BTreeMap<RelPath, String>,
    /// What of his is set aside.
    pub(super) yours: Vec<Yours>,
    /// What releases change in texts of his.
    pub(super) merged: BTreeMap<RelPath, Text>,
    /// Files that both he and a release have changed.
    pub(super) merges: Vec<FileMerge>,
    /// Settings that come anew, and may have been changed by him before adoption.
    pub(super) unsure: Vec<RelPath>,
    /// By pack, the members that the administrator took out.
    taken_out: BTreeMap<Id, BTreeSet<Id>>,
    /// What is installed, by its id or that of the pack it is a member of.
    owned: BTreeMap<&'a Id, Vec<&'a Component>>,
}

/// By pack, the members that the administrator took out: the ledger knows them, and they are gone.
fn taken_out(situation: &Situation<'_>) -> BTreeMap<Id, BTreeSet<Id>> {
    let members = situation.inventory.components.iter();
    let here: BTreeSet<(&Id, &Id)> = members
        .filter_map(|it| Some((it.group.as_ref()?, &it.facts.id)))
        .collect();
    let mut taken_out: BTreeMap<Id, BTreeSet<Id>> = BTreeMap::new();
    for known in situation.remembered.values() {
        let owner = known.owner.as_ref().map_or("", Id::as_str);
        for (at, _) in owner.match_indices('/') {
            let (pack, member) = (Id::new(&owner[..at]), Id::new(&owner[at + 1..]));
            if !here.contains(&(&pack, &member)) {
                taken_out.entry(pack).or_default().insert(member);
            }
        }
    }
    taken_out
}

impl<'a> Drawing<'a> {
    /// The members of a pack that the administrator took out.
    pub(super) fn taken_out_of(&self, pack: &Id) -> BTreeSet<Id> {
        self.taken_out.get(pack).cloned().unwrap_or_default()
    }

    /// Every file stays, until something else is said.
    fn stand_still(&mut self) {
        let mut owners: BTreeMap<&RelPath, &Id> = BTreeMap::new();
        for component in &self.situation.inventory.components {
            let owner = component.group.as_ref().unwrap_or(&component.facts.id);
            if component.group.is_none() {
                self.kinds.insert(owner.clone(), component.facts.kind);
            }
            owners.extend(component.files.iter().map(|file| (&file.path, owner)));
            self.owned.entry(owner).or_default().push(component);
        }
        for file in self.situation.files {
            let action = Action {
                path: file.path.clone(),
                what: ActionKind::Keep,
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

    /// Who needed what is replaced names it still: what takes its place stands in for it.
    fn tell_stand_ins(&mut self, after: &BTreeMap<&Id, (&Facts, Runs)>, gone: &[Gone]) {
        for gone in gone {
            let Some(by) = &gone.replaced_by else {
                continue;
            };
            let names = |facts: &&&Facts| {
                facts.id != *by && facts.needs.iter().any(|need| need.id == gone.id)
            };
            let others = after.values().map(|(facts, _)| facts);
            let others: Vec<&str> = others
                .filter(names)
                .map(|facts| facts.id.as_str())
                .collect();
            if !others.is_empty() {
                let note = format!(
                    "{by} stands in for {}, which is needed by that name by {}",
                    gone.id,
                    others.join(", ")
                );
                self.notes.push(note);
            }
        }
    }

    /// A build that moves may come to lie over what a framework laid there, where nobody knows what that is.
    fn warn_of_silence(&mut self, moving: &[(&Offer, &Payload)]) {
        let mut coming = moving.iter().map(|(offer, _)| &offer.facts);
        if !coming.any(|facts| facts.kind == Kind::Build) {
            return;
        }
        let inventory = self.situation.inventory;
        let known = ByOwner::new(self.situation.remembered);
        let frameworks = inventory.components.iter();
        let frameworks = frameworks.filter(|c| c.facts.kind == Kind::Framework);
        for framework in frameworks.filter(|c| !self.away.contains(&c.facts.id)) {
            if !known.knows_laid(framework) {
                let (id, version) = (&framework.facts.id, &framework.facts.version);
                self.notes.push(format!(
                    "nobody knows what {id} {version} laid over the server program, so this may silence it: \
                     put its archive into the drop folder"
                ));
            }
        }
    }

    /// What comes may be undone by the start itself.
    fn warn_of_updates(&mut self, moving: &[(&Offer, &Payload)]) {
        let mut coming = moving.iter().map(|(offer, _)| offer.facts.kind);
        if !coming.any(|kind| matches!(kind, Kind::Build | Kind::Framework)) {
            return;
        }
        let flows = self.situation.parts.iter().map(|part| part.flow);
        let mut told = BTreeSet::new();
        for step in flows.flat_map(Flow::updates) {
            let place = step.at().map(|(path, at)| format!("{path}:{}: ", at.line));
            told.insert(format!(
                "{}{} runs before each start, and may undo this: lantern launch part moves it into a script of its own",
                place.unwrap_or_default(),
                step.command.text()
            ));
        }
        self.notes.extend(told);
    }

    /// A component that is installed, and where it is a pack, its members.
    pub(super) fn installed(&self, id: &Id) -> impl Iterator<Item = &'a Component> + use<'a> {
        let own = self.owned.get(id).cloned().unwrap_or_default();
        own.into_iter()
    }

    /// Whether a path is on the keep list; the load-order file never is.
    pub(super) fn is_kept(&self, path: &RelPath) -> bool {
        let mut orders = self.situation.parts.iter().filter_map(|part| part.order);
        let is_order = orders.any(|order| order.holds(path));
        !is_order
            && self
                .situation
                .keep
                .iter()
                .any(|glob| glob.matches(path.as_str()))
    }

    /// The add-ons of one server as they will be: facts, and whether they run; members of packs for themselves.
    fn afterwards(
        &self,
        part: &Part<'a>,
        moving: &[(&'a Offer, &'a Payload)],
        gone: &[Gone],
    ) -> BTreeMap<&'a Id, (&'a Facts, Runs)> {
        let moved = moving.iter().map(|(offer, _)| &offer.facts.id);
        let moved: BTreeSet<&Id> = moved.chain(gone.iter().map(|gone| &gone.id)).collect();
        let gone = |c: &Component| {
            moved.contains(&c.facts.id) && c.group.is_none()
                || c.group.as_ref().is_some_and(|group| moved.contains(group))
        };
        let mut after: BTreeMap<&Id, (&Facts, Runs)> = BTreeMap::new();
        let components = &part.inventory.components;
        let mut were: BTreeMap<&Id, Runs> = BTreeMap::new();
        // Where no names tell the load order, what runs by where it lies has no part in it.
        let family = self.situation.family;
        let in_names = family.order.as_ref().is_some_and(OrderRule::is_in_names);
        let runs_as = |reader: &str, runs: Runs| match runs {
            Runs::On if !in_names && family.is_apart(reader) => Runs::Always,
            runs => runs,
        };
        for component in components.iter() {
            were.insert(&component.facts.id, component.runs);
            if component.facts.kind == Kind::Addon && !gone(component) {
                let runs = runs_as(&component.reader, component.runs);
                after.insert(&component.facts.id, (&component.facts, runs));
            }
        }
        let is_elsewhere = |place: &RelPath| part.ground.is_elsewhere(place.as_str());
        for (offer, payload) in moving.iter().filter(|(_, it)| !is_elsewhere(&it.place)) {
            let own = (offer.facts.kind == Kind::Addon).then_some(&offer.facts);
            let taken_out = self.taken_out_of(&offer.facts.id);
            let members = payload.members.iter().map(|member| &member.facts);
            let members = members.filter(|facts| !taken_out.contains(&facts.id));
            for facts in own.into_iter().chain(members) {
                let was = were.get(&facts.id).copied();
                let by_list = payload.runs.is_switched() && !family.is_apart(&payload.reader);
                let runs = match was.filter(|was| was.is_switched()) {
                    _ if facts.side == Some(Side::Client) => Runs::Unsaid,
                    Some(was) => was,
                    None if by_list && !part.takes_new => Runs::Off,
                    None => payload.runs,
                };
                after.insert(&facts.id, (facts, runs_as(&payload.reader, runs)));
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

    /// What each server has to say is loaded, and that its framework is active where it can say so.
    fn expects(
        &self,
        each: &[Afterwards<'_>],
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
        let coming = moving.iter();
        let coming: BTreeMap<&Id, &String> = coming
            .map(|(offer, payload)| (&offer.facts.id, &payload.reader))
            .collect();
        // The reader that knows a component afterwards.
        let reader_of = |id: &Id| {
            let here = || self.situation.inventory.get(id).map(|it| &it.reader);
            coming.get(id).copied().or_else(here).cloned()
        };
        let mut expects = Vec::new();
        for after in each {
            let running = after.addons.values().filter(|(_, runs)| runs.is_sure());
            let running = running.map(|(facts, _)| *facts);
            let all = frameworks.values().copied().chain(running);
            expects.extend(all.map(|facts| Expected {
                id: facts.id.clone(),
                version: (!facts.version.is_content()).then(|| facts.version.to_string()),
                reader: reader_of(&facts.id),
                server: after.part.name.map(str::to_owned),
            }));
        }
        expects.sort_by(|a, b| (&a.server, &a.id).cmp(&(&b.server, &b.id)));
        expects
    }

    /// Of several servers of the install, those that have to be stopped: whoever has a path that changes to himself, and all
    /// of them where what changes is common. A new file that only a load order starts disturbs nobody.
    fn servers(&self, moving: &[(&'a Offer, &'a Payload)]) -> Vec<String> {
        let family = self.situation.family;
        // What is there and runs until an entry stops it is news to all of them.
        let by_entry = !family.order.as_ref().is_some_and(OrderRule::runs_unlisted);
        let listed = moving.iter().filter(|(offer, payload)| {
            let is_switched = payload.runs.is_switched() && !family.is_apart(&payload.reader);
            offer.facts.kind == Kind::Addon && is_switched && by_entry
        });
        let listed: BTreeSet<&Id> = listed.map(|(offer, _)| &offer.facts.id).collect();
        let listed = |id: &Id| listed.contains(id);
        let disturbs = |action: &&Action| match action.what {
            ActionKind::Keep => false,
            ActionKind::Place => !action.component.as_ref().is_some_and(listed),
            ActionKind::Replace | ActionKind::SetAside | ActionKind::Edit => true,
        };
        let changed: Vec<&Action> = self.actions.values().filter(disturbs).collect();
        let concerned = self.situation.parts.iter().filter(|part| {
            let mut paths = changed.iter().map(|action| &action.path);
            paths.any(|path| !part.ground.is_elsewhere(path.as_str()))
        });
        let names = |parts: &mut dyn Iterator<Item = &Part<'_>>| {
            let names = parts.filter_map(|part| part.name.map(str::to_owned));
            names.collect::<Vec<String>>()
        };
        let concerned = names(&mut concerned.into_iter());
        match concerned.is_empty() {
            true => names(&mut self.situation.parts.iter()),
            false => concerned,
        }
    }

    /// The texts that come with releases and that something is pinned in.
    fn coming(&self, moving: &[(&'a Offer, &'a Payload)]) -> BTreeMap<&'a RelPath, &'a Text> {
        let texts = moving.iter().flat_map(|(_, payload)| &payload.texts);
        let comes = |path: &RelPath| {
            let action = self.actions.get(path);
            let what = action.filter(|action| action.source.is_some());
            what.is_some_and(|it| matches!(it.what, ActionKind::Place | ActionKind::Replace))
        };
        texts.filter(|(path, _)| comes(path)).collect()
    }

    /// The texts that change, as actions; one that comes with a release is changed as it comes, one that was edited by hand as it is.
    fn edit(&mut self, edits: Vec<(TextEdit, Text)>) -> Vec<TextEdit> {
        let mut done = Vec::new();
        for (edit, becomes) in edits {
            match self.actions.get_mut(&edit.path) {
                Some(action) if matches!(action.what, ActionKind::Keep | ActionKind::Edit) => {
                    action.what = ActionKind::Edit;
                    let bytes = becomes.bytes();
                    action.after = Some(blake3::hash(&bytes).to_hex().to_string());
                    action.bytes = bytes.len() as u64;
                    // What both changed may come to what it is.
                    match action.after == action.before {
                        true => action.what = ActionKind::Keep,
                        false => done.push(edit),
                    }
                }
                Some(action) if action.source.is_some() => {
                    let bytes = becomes.bytes();
                    let shipped = action.after.take();
                    action.after = Some(blake3::hash(&bytes).to_hex().to_string());
                    action.bytes = bytes.len() as u64;
                    // Changed as it comes, it may be what is there.
                    if action.after == action.before {
                        action.what = ActionKind::Keep;
                        continue;
                    }
                    action.shipped = shipped;
                    done.push(edit);
                }
                _ => {}
            }
        }
        done
    }
}
