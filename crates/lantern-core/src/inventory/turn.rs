//! The load order as it stands, and why each add-on stands where it does.

use super::{Component, Inventory};
use crate::component::{Id, Kind, Runs, Side};
use crate::family::{Family, OrderRule};
use crate::order::{Follows, Link, OrderText};
use crate::path::RelPath;

/// Where an add-on stands in the load order, and what comes before it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Turn {
    /// The file that it stands in, where that is not the one that the load order begins in.
    pub file: Option<RelPath>,
    /// The line, from 1; none where it has none.
    pub line: Option<usize>,
    /// What stands there.
    pub entry: String,
    /// The add-ons that it starts; several of a category, none of what is not installed.
    pub starts: Vec<Id>,
    /// Whether it lets them run.
    pub on: bool,
    /// Why it stands behind others.
    pub after: Vec<Link>,
}

impl Inventory {
    /// The entries of the load order, the first first; after them the add-ons that have none, and why. `follows` is what has
    /// to be started before what, and `order` the load order as it is written down.
    pub fn arranged(
        &self,
        family: &Family,
        order: Option<&OrderText>,
        follows: &Follows,
    ) -> (Vec<Turn>, Vec<(Id, String)>) {
        let has_lines = !family.order.as_ref().is_some_and(OrderRule::is_in_names);
        let after = |id: &Id| {
            let firsts = follows.get(id).into_iter().flatten();
            let links = firsts.map(|(first, why)| Link {
                later: id.clone(),
                first: first.clone(),
                why: why.clone(),
            });
            links.collect::<Vec<Link>>()
        };
        let started = |entry: &Id| {
            let by = |component: &&Component| {
                component.started_by.as_ref() == Some(entry) || component.facts.id == *entry
            };
            let started = self.components.iter().filter(by);
            started
                .map(|component| component.facts.id.clone())
                .collect::<Vec<Id>>()
        };
        let entries = self.order.entries.iter().map(|entry| {
            let starts = started(&entry.id);
            let firsts = starts.iter().flat_map(after);
            let place = order.map(|order| order.place(entry.line));
            let begins = order.map(OrderText::path);
            let elsewhere = place.map(|(path, _)| path).filter(|it| Some(*it) != begins);
            Turn {
                file: elsewhere.cloned(),
                line: has_lines.then_some(place.map_or(entry.line, |(_, line)| line)),
                entry: entry.id.to_string(),
                on: entry.on,
                after: firsts
                    .filter(|link| !starts.contains(&link.first))
                    .collect(),
                starts,
            }
        });
        let entries: Vec<Turn> = entries.collect();
        let stands = |id: &Id| entries.iter().any(|turn| turn.starts.contains(id));
        let others = self
            .components
            .iter()
            .filter(|c| c.facts.kind == Kind::Addon);
        let others = others.filter(|component| !stands(&component.facts.id));
        let others = others.map(|component| {
            let why = match component.runs {
                _ if component.facts.side == Some(Side::Client) => "only players' clients have it",
                Runs::Always => "it always runs: the server loads everything in its folder",
                Runs::Off if family.order.is_some() => "it is switched off",
                Runs::Off => "it does not run",
                Runs::On => "the server sorts by itself",
                Runs::Unsaid => "nothing says whether it runs",
            };
            (component.facts.id.clone(), why.to_owned())
        });
        let others = others.collect();
        (entries, others)
    }
}
