//! Layers over one another: what goes, what comes to lie over what, what is laid again.

use super::draw::Drawing;
use super::edits::patched;
use super::{
    Action, ActionKind, Asked, DrawFault, FileMerge, Payload, Source, Under, WhyAside, Yours,
    is_lanterns,
};
use crate::artifact::Artifact;
use crate::component::{Id, Kind};
use crate::family::Glob;
use crate::inventory::FileState;
use crate::link;
use crate::offer::Offer;
use crate::path::RelPath;
use crate::resolve::Gone;
use crate::settings::{self, Key, Notation, Three, Told};
use crate::text::Text;
use std::collections::BTreeSet;

impl Drawing<'_> {
    /// Everything of a component goes; when another release of it comes, what the administrator put
    /// there stays, and what he edited is looked at again.
    pub(super) fn set_aside(&mut self, id: &Id, comes_again: bool) {
        self.away.insert(id.clone());
        for component in self.installed(id) {
            // What was put over its files by others is theirs from now on.
            for path in component.silenced.keys() {
                if let Some(action) = self.actions.get_mut(path) {
                    action.shipped.clone_from(&action.before);
                }
            }
            let (edited, added): (&[RelPath], &[RelPath]) = match &component.state {
                FileState::Edited { files, added } => (files, added),
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
                action.what = ActionKind::SetAside;
                action.after = None;
                if comes_again
                    && edited.contains(&file.path)
                    && let Some(known) = self.situation.remembered.get(&file.path)
                {
                    self.edited.insert(file.path.clone(), known.hash.clone());
                }
            }
            let lost = edited.iter().filter(|_| !comes_again);
            let lost: Vec<RelPath> = lost.cloned().collect();
            for path in lost {
                self.set_yours_aside(&path, id, WhyAside::Goes);
            }
        }
    }

    /// Writes down that a file of the administrator's is set aside.
    fn set_yours_aside(&mut self, path: &RelPath, component: &Id, why: WhyAside) {
        self.yours.push(Yours {
            path: path.clone(),
            component: component.clone(),
            why,
        });
    }

    /// What stands between a pack and what the administrator has beside it.
    pub(super) fn check_pack(
        &mut self,
        offer: &Offer,
        payload: &Payload,
        moving: &[(&Offer, &Payload)],
        gone: &[Gone],
    ) -> Result<(), DrawFault> {
        let id = &offer.facts.id;
        for path in &payload.holdings.owns {
            let inside = format!("{path}/");
            // What it keeps there itself is no contradiction.
            let overlaps = |glob: &&Glob| {
                let its_own = payload.holdings.keep.iter().any(|own| own == glob.as_str());
                let meets = glob.matches(path.as_str()) || glob.as_str().starts_with(&inside);
                meets && !its_own
            };
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
        let comes = |id: &Id| moving.iter().any(|(other, _)| other.facts.id == *id);
        for facts in leaving.filter(|facts| !holds(&facts.id) && !comes(&facts.id)) {
            let (pack, version) = (id, &offer.facts.version);
            let bound = match facts.world_bound {
                Some(true) if !self.situation.dropped.contains(&facts.id) => {
                    return Err(DrawFault::LeavesWorld {
                        pack: pack.clone(),
                        version: version.clone(),
                        member: facts.id.clone(),
                    });
                }
                Some(true) => ", and the world holds content of it",
                _ => "",
            };
            let note = format!(
                "{} is removed: {pack} {version} does not contain it{bound}",
                facts.id
            );
            self.notes.push(note);
        }
        // Of a download that holds several it is told once.
        let told = offer.inside().is_some() && self.archives.contains(&offer.artifact);
        if !payload.unused.is_empty() && !told {
            let shown = &payload.unused[..payload.unused.len().min(5)];
            let more = match payload.unused.len() - shown.len() {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            self.notes.push(format!(
                "of the download of {id} is not used: {}{more}",
                shown.join(", ")
            ));
        }
        let mut had = self
            .installed(id)
            .filter(|component| !component.files.is_empty());
        if payload.files.is_empty() && had.next().is_some() {
            return Err(DrawFault::Empty { id: id.clone() });
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
                    .push(format!("your own stay beside {id}: {}", own.join(", ")));
            }
        }
        Ok(())
    }

    /// Whether a load order lies there: that is the place's own, whoever's folder it lies in.
    fn is_order(&self, path: &RelPath) -> bool {
        let mut orders = self.situation.parts.iter().filter_map(|part| part.order);
        orders.any(|order| order.path() == path)
    }

    /// Whether settings, or a start script, of the place's own lie there, and are no component's.
    fn is_own_setting(&self, path: &RelPath) -> bool {
        let there = self.actions.get(path);
        let is_nobodys = there.is_some_and(|it| it.before.is_some() && it.component.is_none());
        is_nobodys && self.situation.family.is_settings(path.as_str())
    }

    pub(super) fn place(&mut self, offer: &Offer, payload: &Payload) -> Result<(), DrawFault> {
        let id = &offer.facts.id;
        self.kinds.insert(id.clone(), offer.facts.kind);
        let taken_out = self.taken_out_of(id);
        let left_out = |path: &RelPath| {
            let member = payload.member_at(path);
            member.is_some_and(|member| taken_out.contains(member))
        };
        for member in &taken_out {
            if payload.members.iter().any(|m| m.facts.id == *member) {
                self.notes.push(format!(
                    "{member} of {id} is not installed again, as you removed it"
                ));
            }
        }
        let own = self.situation.own;
        if let Some(file) = payload
            .files
            .iter()
            .find(|file| is_lanterns(&file.path, own))
        {
            return Err(DrawFault::WritesOwn {
                id: id.clone(),
                path: file.path.clone(),
            });
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
        self.archives.push(Artifact::clone(&offer.artifact));
        let version = offer.facts.version.to_string();
        let mut in_the_way: Vec<RelPath> = Vec::new();
        for file in payload.files.iter().filter(|file| !left_out(&file.path)) {
            let mut path = file.path.clone();
            if self.is_order(&path) {
                self.notes.push(format!(
                    "{path} is the load order, and stays yours; the one that {id} ships is not installed"
                ));
                continue;
            }
            if self.is_kept(&path) || self.situation.beside && self.is_own_setting(&path) {
                let Some(beside) = self.beside(&path, id) else {
                    let note = format!(
                        "{path} of {id} is not installed: the place beside it, {path}.new, is taken or kept as well"
                    );
                    self.notes.push(note);
                    continue;
                };
                self.notes.push(format!(
                    "{path} is kept as it is; the one of {id} is put beside it, as {beside}"
                ));
                path = beside;
            }
            let coming = Action {
                path: path.clone(),
                what: ActionKind::Place,
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
            let coming = match payload.texts.get(&path) {
                Some(now) => self.merge(coming, now, offer),
                None => coming,
            };
            match self.lay(coming, file.is_copy, &version)? {
                Some(laid) => {
                    self.actions.insert(path, laid);
                }
                None => in_the_way.push(path),
            }
        }
        match in_the_way.is_empty() {
            true => Ok(()),
            false => Err(self.in_the_way(id, in_the_way)),
        }
    }

    /// What lies where a release would put files: of these paths, what is nobody's and no setting before what is a setting, and
    /// that before what is another component's.
    fn in_the_way(&self, id: &Id, paths: Vec<RelPath>) -> DrawFault {
        let owner = |path: &RelPath| self.actions.get(path)?.component.clone();
        let sort = |path: &RelPath| (owner(path), self.is_own_setting(path));
        let first = paths.iter().map(sort).min().unwrap_or_default();
        let mut installed = self.installed(id);
        let scattered = installed.find(|component| {
            let reader = self.situation.family.reader(&component.reader);
            reader.is_some_and(|reader| !reader.parts.is_empty())
        });
        DrawFault::InTheWay {
            id: id.clone(),
            paths: paths.into_iter().filter(|it| sort(it) == first).collect(),
            scattered: scattered.map(|component| component.facts.version.clone()),
            owner: first.0,
            are_settings: first.1,
        }
    }

    /// What goes and is a copy of a file of a component that stays becomes that one's.
    pub(super) fn copies_stay(&mut self) {
        for component in &self.situation.inventory.components {
            let owner = component.group.as_ref().unwrap_or(&component.facts.id);
            if self.away.contains(owner) {
                continue;
            }
            for (path, own) in component.copies(self.situation.family) {
                if let Some(action) = self.actions.get_mut(&path)
                    && action.what == ActionKind::SetAside
                    && action.before == own.hash
                {
                    action.what = ActionKind::Keep;
                    action.after = own.hash;
                    action.component = Some(owner.clone());
                    action.member = None;
                }
            }
        }
    }

    /// The name beside a kept path, where that is free to be written, or holds what an earlier release of a component put there.
    fn beside(&self, path: &RelPath, id: &Id) -> Option<RelPath> {
        let beside = RelPath::parse(&format!("{path}.new")).ok()?;
        let goes =
            |it: &Action| it.what == ActionKind::SetAside && it.component.as_ref() == Some(id);
        let free = !self.is_kept(&beside) && self.actions.get(&beside).is_none_or(goes);
        free.then_some(beside)
    }

    /// Where the administrator has edited a text, and its maker, too: both changes are made, where they do not meet.
    fn merge(&mut self, coming: Action, now: &Text, offer: &Offer) -> Action {
        let path = &coming.path;
        let there = self
            .actions
            .get(path)
            .filter(|it| it.what == ActionKind::SetAside);
        let shipped = self
            .edited
            .get(path)
            .filter(|known| Some(*known) != coming.after.as_ref());
        let by_hand = self.situation.by_hand.get(path);
        let (Some(there), Some(_), Some(by_hand)) = (there, shipped, by_hand) else {
            return coming;
        };
        if there.before == coming.after {
            return coming;
        }
        let mut manner = self.situation.family.manner(path);
        let of_file =
            |named: &str| path.as_str() == named || path.as_str().ends_with(&format!("/{named}"));
        let was = offer.was().into_iter().flatten();
        for (_, was) in was.filter(|(named, _)| of_file(named)) {
            manner
                .was
                .extend(was.iter().map(|(new, old)| (Key::of(new), Key::of(old))));
        }
        let three = Three {
            before: &by_hand.before,
            mine: &by_hand.mine,
            now,
        };
        let mut merge = settings::merge(path.as_str(), &manner, three, self.situation.answers);
        let patched = patched(self.situation, path, merge.text.as_str(), &mut self.notes);
        if let Some(text) = patched.and_then(|text| merge.text.with(text)) {
            merge.text = text;
        }
        for told in &merge.told {
            self.notes.push(tell(path, told));
        }
        let component = coming.component.clone().unwrap_or_default();
        self.merges.push(FileMerge {
            path: path.clone(),
            component,
            since_adoption: !by_hand.is_shipped,
            counts: merge.counts,
            questions: merge.questions.into_iter().map(Asked::from).collect(),
        });
        if merge.text == *now {
            return coming;
        }
        if merge.text == by_hand.mine {
            return Action {
                what: ActionKind::Keep,
                before: there.before.clone(),
                after: there.before.clone(),
                bytes: there.bytes,
                shipped: coming.after.clone(),
                ..coming
            };
        }
        let bytes = merge.text.bytes();
        let merged = Action {
            what: ActionKind::Edit,
            before: there.before.clone(),
            after: Some(blake3::hash(&bytes).to_hex().to_string()),
            bytes: bytes.len() as u64,
            shipped: coming.after.clone(),
            ..coming
        };
        self.merged.insert(merged.path.clone(), merge.text);
        merged
    }

    /// Lays a coming file over whatever is at its path; none where that is in the way. Of a copy it may be that another
    /// component has brought the same.
    fn lay(
        &mut self,
        mut coming: Action,
        is_copy: bool,
        version: &str,
    ) -> Result<Option<Action>, DrawFault> {
        let Some(there) = self.actions.get(&coming.path) else {
            return Ok(Some(coming));
        };
        let path = &coming.path;
        let layer = |id: Option<&Id>| id.and_then(|id| self.kinds.get(id)).copied();
        let (mine, theirs) = (
            layer(coming.component.as_ref()),
            layer(there.component.as_ref()),
        );
        // What is the administrator's, and stays so, is decided already.
        if coming.what != ActionKind::Place {
            return Ok(Some(coming));
        }
        coming.before.clone_from(&there.before);
        let is_same = there.after == coming.after;
        let mut yours = None;
        match there.what {
            ActionKind::Place | ActionKind::Replace | ActionKind::Keep
                if is_copy && is_same && there.component.is_some() =>
            {
                return Ok(Some(there.clone()));
            }
            // Nobody's until now, and just what comes.
            ActionKind::Keep if is_same && there.component.is_none() => {
                coming.what = ActionKind::Keep;
            }
            ActionKind::SetAside if there.before == coming.after => coming.what = ActionKind::Keep,
            ActionKind::SetAside if self.edited.get(path) == coming.after.as_ref() => {
                self.notes.push(format!(
                    "{path} was edited by hand, and the new release did not change it: yours stays"
                ));
                coming.what = ActionKind::Keep;
                coming.shipped = coming.after.take();
                coming.after.clone_from(&there.before);
                coming.bytes = there.bytes;
            }
            ActionKind::SetAside => {
                if self.edited.contains_key(path) {
                    yours = Some(WhyAside::ShipsChanged);
                }
                let known = self.situation.remembered.get(path);
                let as_found = known.is_some_and(|known| {
                    !known.shipped && Some(&known.hash) == there.before.as_ref()
                });
                let manner = || self.situation.family.manner(path).notation;
                if as_found && manner().is_some_and(|notation| notation != Notation::Assignments) {
                    self.unsure.push(path.clone());
                }
                coming.what = ActionKind::Replace;
            }
            ActionKind::Keep if self.carried.contains(path) => {
                yours = Some(WhyAside::NowShips);
                coming.what = ActionKind::Replace;
            }
            // A lower layer: it comes to lie under the higher one.
            ActionKind::Place | ActionKind::Replace | ActionKind::Keep
                if theirs < mine && theirs.is_some() =>
            {
                let component = there.component.clone();
                let kept = there.what == ActionKind::Keep;
                coming.under = component
                    .zip(there.after.clone())
                    .map(|(component, hash)| Under {
                        version: self.version_of(&component),
                        component,
                        hash,
                        source: if kept { None } else { there.source.clone() },
                    });
                coming.what = match there.before {
                    None => ActionKind::Place,
                    Some(_) if there.before == coming.after => ActionKind::Keep,
                    Some(_) => ActionKind::Replace,
                };
            }
            // A higher layer that stays: it goes on lying over what comes.
            ActionKind::Keep if theirs > mine => {
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
                return Ok(Some(stays));
            }
            ActionKind::Place | ActionKind::Replace => {
                return Err(DrawFault::Twice {
                    path: path.clone(),
                    a: there.component.clone().unwrap_or_default(),
                    b: coming.component.unwrap_or_default(),
                });
            }
            ActionKind::Keep | ActionKind::Edit => return Ok(None),
        }
        if let Some((why, component)) = yours.zip(coming.component.clone()) {
            self.set_yours_aside(&coming.path.clone(), &component, why);
        }
        Ok(Some(coming))
    }

    fn version_of(&self, id: &Id) -> Option<String> {
        let component = self.situation.inventory.get(id);
        component.map(|component| component.facts.version.to_string())
    }

    /// A file that is kept aside, as one of the plan's archives; of a link the hash itself holds all.
    fn take_stored(&mut self, hash: &str) -> Option<(Option<Source>, u64)> {
        if let Some(target) = link::target(hash) {
            return Some((None, target.len() as u64));
        }
        let stored = self.situation.stored.get(hash)?.clone();
        let bytes = stored.bytes;
        self.archives.push(stored);
        let archive = self.archives.len() - 1;
        let entry = None;
        Some((Some(Source { archive, entry }), bytes))
    }

    /// The files of the administrator's that are set aside in the end, by path.
    pub(super) fn yours(&mut self) -> Vec<Yours> {
        let mut yours = std::mem::take(&mut self.yours);
        let goes = |path: &RelPath| {
            let what = self.actions.get(path).map(|action| action.what);
            matches!(what, Some(ActionKind::SetAside | ActionKind::Replace))
        };
        yours.retain(|yours| goes(&yours.path));
        yours.sort_by(|a, b| a.path.cmp(&b.path));
        yours
    }

    /// What lay under a file that goes comes back.
    pub(super) fn uncover(&mut self) -> Result<(), DrawFault> {
        let edited = self.edited.keys().filter_map(|path| {
            let action = self.actions.get(path)?;
            let goes = action.what == ActionKind::SetAside;
            goes.then(|| Some((path.clone(), action.component.clone()?)))?
        });
        for (path, component) in edited.collect::<Vec<_>>() {
            self.set_yours_aside(&path, &component, WhyAside::ShipsNoMore);
        }
        let bare = self
            .actions
            .values()
            .filter(|a| a.what == ActionKind::SetAside);
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
            let Some((source, bytes)) = self.take_stored(&under.hash) else {
                return Err(DrawFault::NoCopy {
                    id: under.owner,
                    path,
                });
            };
            if let Some(action) = self.actions.get_mut(&path) {
                action.what = ActionKind::Replace;
                action.component = Some(under.owner);
                action.member = None;
                action.after = Some(under.hash);
                action.bytes = bytes;
                action.source = source;
            }
        }
        Ok(())
    }

    /// What a staying component laid over others, and does not lie there any more, is laid again.
    pub(super) fn lay_again(&mut self, moving: &[(&Offer, &Payload)]) -> Result<(), DrawFault> {
        let build_moves = moving
            .iter()
            .any(|(offer, _)| offer.facts.kind == Kind::Build);
        let components = self.situation.inventory.components.iter();
        let away = self.away.clone();
        for component in components.filter(|c| !away.contains(&c.facts.id)) {
            let id = &component.facts.id;
            for (path, hash) in &component.silenced {
                let Some((source, bytes)) = self.take_stored(hash) else {
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
                    what: ActionKind::Place,
                    component: Some(id.clone()),
                    member: None,
                    before: None,
                    after: Some(hash.clone()),
                    bytes,
                    source,
                    shipped: None,
                    under: None,
                };
                let version = component.facts.version.as_str();
                let laid = self.lay(coming, false, version)?;
                let Some(laid) = laid else {
                    return Err(self.in_the_way(id, vec![path.clone()]));
                };
                self.actions.insert(path.clone(), laid);
                self.notes
                    .push(format!("{path} of {id} is installed over it again"));
            }
        }
        Ok(())
    }
}

/// What should be known of a file that both have changed.
fn tell(path: &RelPath, told: &Told) -> String {
    match told {
        Told::Gone { key, mine, likely } => {
            let mine = mine.as_deref().unwrap_or("a secret");
            let likely = likely.as_ref().map_or(String::new(), |likely| {
                format!("; {likely} is new and may be the same")
            });
            format!("{path}: {key} is in the new release no more; yours was {mine}{likely}")
        }
        Told::NotHeld { key } => {
            format!("{path}: what was decided for {key} cannot be written there, so yours stays")
        }
        Told::Renamed { from, to } => format!("{path}: {from} is called {to} from now on"),
        Told::SecretStays { from, to } => format!(
            "{path}: {from} is called {to} from now on; as it is a secret, put yours there in an editor"
        ),
    }
}
