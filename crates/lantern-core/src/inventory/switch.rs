//! Switching add-ons on and off: what runs, as it is to be.

use super::Inventory;
use crate::component::{Id, Runs};
use crate::family::{Family, Lists, OrderRule, Switch};
use crate::hint::nearest;
use crate::path::RelPath;
use std::collections::BTreeMap;

/// Why an add-on cannot be switched.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SwitchFault {
    /// Nothing of that id is installed.
    #[error("{id} is not installed{}", near.as_ref().map_or(String::new(), |id| format!("; did you mean {id}?")))]
    NotThere {
        /// What was named.
        id: Id,
        /// The installed id nearest to it.
        near: Option<Id>,
    },
    /// The server loads whatever lies where it lies.
    #[error("{0} always runs: the server loads everything in its folder")]
    Always(Id),
    /// It lies in one place for all servers of an install.
    #[error(
        "{0} lies in one place for all servers of this install, and is on or off for all of them"
    )]
    ForAll(Id),
    /// The family states nothing that would switch it.
    #[error("nothing switches {0} on or off: the family has no load order that names it")]
    NoSwitch(Id),
    /// It is started by the entry of its category.
    #[error("{id} is started together with all of {by}, by that one entry of the load order")]
    ByCategory {
        /// The add-on.
        id: Id,
        /// The entry.
        by: Id,
    },
    /// One of many is always in use.
    #[error("{0} is the active one, and one of its kind always is")]
    InUse(Id),
    /// It is to be switched on and off at once.
    #[error("{0} cannot be switched on and off at the same time")]
    Both(Id),
}

/// Whether an add-on runs by its own word, the text of the file at a path, and in which line, from 1, it says so; where nothing says it, by
/// what holds then.
pub fn by_own_word(
    switch: &Switch,
    family: &Family,
    path: &RelPath,
    text: Option<&str>,
) -> (Runs, Option<usize>) {
    let spot = switch.spot(family, path);
    match spot.zip(text).and_then(|(spot, text)| spot.says(text)) {
        Some((value, line)) => (Runs::switched(value != switch.off), Some(line)),
        None => (Runs::switched(switch.unsaid == Lists::On), None),
    }
}

impl Inventory {
    /// Says what is to run. Returns whose state changes, and to what; where only one may be in use, the one that was
    /// is off then.
    ///
    /// # Errors
    /// When one cannot be switched; the inventory is then of no use.
    pub fn switch(
        &mut self,
        family: &Family,
        on: &[Id],
        off: &[Id],
    ) -> Result<BTreeMap<Id, bool>, SwitchFault> {
        let mut changes = BTreeMap::new();
        if let Some(id) = on.iter().find(|id| off.contains(id)) {
            return Err(SwitchFault::Both(id.clone()));
        }
        let only_one = family.order.as_ref().is_some_and(|it| it.kind.only_one());
        if let [_, second, ..] = on
            && only_one
        {
            return Err(SwitchFault::InUse(second.clone()));
        }
        let wanted = on.iter().map(|id| (id, true));
        for (id, wanted) in wanted.chain(off.iter().map(|id| (id, false))) {
            let component = self.components.iter_mut().find(|c| c.facts.id == *id);
            let Some(component) = component else {
                let known = self.components.iter().map(|c| c.facts.id.as_str());
                return Err(SwitchFault::NotThere {
                    id: id.clone(),
                    near: nearest(id.as_str(), known).map(Id::new),
                });
            };
            // Names say in which order, and not whether.
            let apart = family.is_apart(&component.reader);
            let is_named = family.order.as_ref().is_some_and(OrderRule::is_in_names) && !apart;
            match component.runs {
                Runs::On if is_named && !wanted => return Err(SwitchFault::Always(id.clone())),
                Runs::On if wanted => continue,
                Runs::Off if !wanted => continue,
                Runs::Always if wanted => continue,
                Runs::Always => return Err(SwitchFault::Always(id.clone())),
                Runs::Unsaid => return Err(SwitchFault::NoSwitch(id.clone())),
                Runs::On | Runs::Off => {}
            }
            if let Some(by) = &component.started_by {
                return Err(SwitchFault::ByCategory {
                    id: id.clone(),
                    by: by.clone(),
                });
            }
            if only_one && !wanted && !apart {
                return Err(SwitchFault::InUse(id.clone()));
            }
            component.runs = Runs::switched(wanted);
            changes.insert(id.clone(), wanted);
            let in_use = self.components.iter_mut().filter(|c| c.runs == Runs::On);
            let in_use = in_use.filter(|c| !family.is_apart(&c.reader));
            for other in in_use.filter(|c| only_one && !apart && c.facts.id != *id) {
                other.runs = Runs::Off;
                changes.insert(other.facts.id.clone(), false);
            }
        }
        Ok(changes)
    }
}
