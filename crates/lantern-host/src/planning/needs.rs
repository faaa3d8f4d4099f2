//! Need lists that name what was replaced: they are made to name what stands in for it.

use super::Beginning;
use crate::config::Server;
use crate::error::Result;
use lantern_core::component::{Id, Need};
use lantern_core::descriptor::{Found, Subject, needing};
use lantern_core::facts::Facts;
use lantern_core::family::{Reader, Shape};
use lantern_core::inventory::Component;
use lantern_core::path::RelPath;
use lantern_core::plan::{Payload, Plan};
use lantern_core::resolve::{Request, Selection};
use lantern_core::text::Text;
use lantern_core::version::Version;
use std::collections::BTreeMap;

/// What is there once a plan is carried out.
struct After<'a> {
    /// What each says of itself.
    facts: Vec<&'a Facts>,
    /// What is there no more, with what replaces it.
    stands_in: BTreeMap<&'a Id, (&'a Id, &'a Version)>,
}

impl<'a> After<'a> {
    fn of(facts: Vec<&'a Facts>) -> After<'a> {
        let is_there = |id: &Id| {
            let provides =
                |facts: &&Facts| facts.id == *id || facts.provides.iter().any(|it| it.id == *id);
            facts.iter().any(provides)
        };
        let replaces = facts.iter().flat_map(|facts| {
            let one = (&facts.id, &facts.version);
            facts.replaces.iter().map(move |id| (id, one))
        });
        let stands_in = replaces.filter(|(id, _)| !is_there(id)).collect();
        After { facts, stands_in }
    }

    /// The needs of a component that name what is replaced by another.
    fn named<'n>(&self, facts: &'n Facts) -> Vec<(&'n Need, &'a Id, &'a Version)> {
        let needs = facts.needs.iter();
        let named = needs.filter_map(|need| {
            let (by, version) = self.stands_in.get(&need.id)?;
            (**by != facts.id).then_some((need, *by, *version))
        });
        named.collect()
    }
}

/// Has a plan edit the need lists of all that stays or comes and names what was replaced: in them stands what replaces it.
///
/// # Errors
/// When a descriptor cannot be read.
pub(super) fn follow(
    server: &Server,
    at: &Beginning,
    plan: &mut Plan,
    selection: &Selection,
    request: &Request,
    payloads: &BTreeMap<usize, Payload>,
) -> Result<()> {
    let chosen = selection
        .choices
        .iter()
        .filter_map(|choice| match choice.offer {
            Some(offer) => Some(&request.offers[offer].facts),
            None => at
                .inventory
                .get(&choice.id)
                .map(|component| &component.facts),
        });
    let members = at
        .inventory
        .components
        .iter()
        .filter(|component| component.group.is_some());
    let after = After::of(
        chosen
            .chain(members.map(|component| &component.facts))
            .collect(),
    );
    if after.stands_in.is_empty() {
        return Ok(());
    }
    for facts in &after.facts {
        let named = after.named(facts);
        if named.is_empty() {
            continue;
        }
        let choice = selection
            .choices
            .iter()
            .find(|choice| choice.id == facts.id);
        let coming = choice
            .and_then(|choice| choice.offer)
            .and_then(|offer| payloads.get(&offer));
        let component = at.inventory.get(&facts.id);
        let reader = coming
            .map(|payload| &payload.reader)
            .or(component.map(|it| &it.reader));
        let reader =
            reader.and_then(|name| server.family.readers.iter().find(|it| it.name == *name));
        let Some(reader) = reader else {
            continue;
        };
        let place = match (coming, component) {
            (Some(payload), _) => Some(&payload.place),
            (None, Some(component)) => component.place.as_ref(),
            (None, None) => None,
        };
        let Some(place) = place.filter(|_| reader.shape != Shape::File) else {
            plan.notes.push(cannot(facts, &named));
            continue;
        };
        let texts = match (coming, component) {
            (Some(payload), _) => in_payload(reader, place, payload),
            (None, Some(component)) => in_folder(server, reader, place, component)?,
            (None, None) => Vec::new(),
        };
        let list = List {
            server,
            reader,
            place,
            texts,
        };
        if !list.edit(&named, plan) {
            plan.notes.push(cannot(facts, &named));
        }
    }
    Ok(())
}

fn cannot(facts: &Facts, named: &[(&Need, &Id, &Version)]) -> String {
    let ids: Vec<&str> = named.iter().map(|(need, ..)| need.id.as_str()).collect();
    format!(
        "{} names {} in its need list, and that cannot be edited: the server may refuse it",
        facts.id,
        ids.join(", ")
    )
}

/// A descriptor file: its number in the reader, its name in the component, where it lies, and what it says.
type Described = (usize, String, RelPath, Text);

fn in_folder(
    server: &Server,
    reader: &Reader,
    place: &RelPath,
    component: &Component,
) -> Result<Vec<Described>> {
    let mut texts = Vec::new();
    for (number, file) in reader.files.iter().enumerate() {
        let mut files = component.files.iter().map(|file| &file.path);
        let is_it = |path: &&RelPath| {
            path.below(place.as_str())
                .is_some_and(|below| file.name.lead_to(below))
        };
        if let Some(path) = files.find(is_it) {
            let name = path.below(place.as_str()).unwrap_or_default().to_owned();
            texts.push((number, name, path.clone(), server.folder.read_text(path)?));
        }
    }
    Ok(texts)
}

fn in_payload(reader: &Reader, place: &RelPath, payload: &Payload) -> Vec<Described> {
    let files = reader.files.iter().enumerate();
    let texts = files.filter_map(|(number, file)| {
        let mut texts = payload.texts.iter();
        let (path, text) = texts.find(|(path, _)| {
            path.below(place.as_str())
                .is_some_and(|below| file.name.lead_to(below))
        })?;
        Some((
            number,
            path.below(place.as_str())?.to_owned(),
            path.clone(),
            text.clone(),
        ))
    });
    texts.collect()
}

/// The need list of a component, in its descriptor files.
struct List<'a> {
    server: &'a Server,
    reader: &'a Reader,
    place: &'a RelPath,
    texts: Vec<Described>,
}

impl List<'_> {
    /// The descriptor files as a plan changes them, with what stands in for what they name; none where it cannot be done for each.
    fn edited(&self, named: &[(&Need, &Id, &Version)], plan: &Plan) -> Option<Vec<Found>> {
        let subject = Subject {
            reader: self.reader,
            family: &self.server.family,
            place: self.place.as_str(),
            content: "",
            archive: None,
        };
        let found = self.texts.iter().map(|(file, name, path, text)| {
            let changed = plan.edited(path, text);
            Found {
                file: *file,
                name: name.clone(),
                text: changed.as_ref().unwrap_or(text).as_str().to_owned(),
            }
        });
        let mut found: Vec<Found> = found.collect();
        for (need, by, version) in named {
            // What is asked of the old one's version, nobody asks of the new one's.
            if !need.range.holds_early(version) {
                return None;
            }
            let mut files = 0..found.len();
            let changed = |file| Some((file, needing(&subject, &found, file, &need.id, by)?));
            let (file, text) = files.find_map(changed)?;
            found[file].text = text;
        }
        Some(found)
    }

    /// Has the plan edit it; `false` where it cannot be done for each.
    fn edit(&self, named: &[(&Need, &Id, &Version)], plan: &mut Plan) -> bool {
        let Some(found) = self.edited(named, plan) else {
            return false;
        };
        for ((_, _, path, now), found) in self.texts.iter().zip(&found) {
            let by_now = plan.edited(path, now);
            let is_news = |new: &Text| new != by_now.as_ref().unwrap_or(now);
            let Some(new) = now.with(found.text.clone()).filter(is_news) else {
                continue;
            };
            plan.change(path, now, &new, &self.server.family.manner(path));
            let names: Vec<String> = named
                .iter()
                .map(|(need, by, _)| format!("{by} instead of {}", need.id))
                .collect();
            plan.notes.push(format!(
                "{path}: its need list names {} from now on",
                names.join(", ")
            ));
        }
        true
    }
}
