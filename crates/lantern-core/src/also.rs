//! Lists besides the load order that have to name what runs.

use crate::component::Id;
use crate::family::Also;
use crate::order::{self, Change, Keeping, Unread};
use crate::path::RelPath;
use std::collections::{BTreeMap, BTreeSet};

/// What such a list has to name.
#[derive(Debug, Default)]
pub struct Those<'a> {
    /// Add-ons that run, with where they lie.
    pub running: Vec<(&'a Id, &'a RelPath)>,
    /// Places of those that are there and do not run: their items stay where they are.
    pub idle: Vec<&'a RelPath>,
    /// Add-ons that leave, with where they lay.
    pub leaving: Vec<(&'a Id, &'a RelPath)>,
}

/// A list that changes.
#[derive(Debug, PartialEq, Eq)]
pub struct Becomes {
    /// The whole text as it will be.
    pub text: String,
    /// Items that come, each with the first add-on that needs it.
    pub comes: Vec<(Id, Id)>,
    /// Items that go, each with the first add-on that had it.
    pub goes: Vec<(Id, Id)>,
}

/// A text with all that run in the list; none where it names them as it is, or has no such list. Items that no add-on gives are
/// somebody else's affair and stay.
///
/// # Errors
/// With an item that could not be read again where it would stand.
pub fn becomes(also: &Also, text: &str, those: &Those<'_>) -> Result<Option<Becomes>, Unread> {
    let rule = also.rule();
    let Keeping::Text(form) = rule.kind.keeping() else {
        return Ok(None);
    };
    let stays = those.running.iter().map(|(_, place)| *place);
    let stays = stays.chain(those.idle.iter().copied());
    let stays: BTreeSet<Id> = stays.filter_map(|place| also.item(place)).collect();
    let mut goes: BTreeMap<Id, Id> = BTreeMap::new();
    for (id, place) in &those.leaving {
        let item = also.item(place).filter(|item| !stays.contains(item));
        goes.extend(item.map(|item| (item, (*id).clone())));
    }
    let named = order::Arrangement::read(&rule, text);
    let mut known: BTreeSet<Id> = named.ids().cloned().collect();
    goes.retain(|item, _| known.contains(item));
    let mut seen = BTreeSet::new();
    let stay = named.ids().filter(|item| !goes.contains_key(*item));
    let mut order: Vec<Id> = stay.filter(|item| seen.insert(*item)).cloned().collect();
    let mut comes = Vec::new();
    for (id, place) in &those.running {
        if let Some(item) = also.item(place).filter(|item| known.insert(item.clone())) {
            order.push(item.clone());
            comes.push((item, (*id).clone()));
        }
    }
    if comes.is_empty() && goes.is_empty() {
        return Ok(None);
    }
    let gone: BTreeSet<Id> = goes.keys().cloned().collect();
    let change = Change {
        order: &order,
        gone: &gone,
        off: &BTreeSet::new(),
        arguments: &BTreeMap::new(),
        versions: &BTreeMap::new(),
    };
    match order::rewritten(form, &rule, text, change) {
        Ok(text) => Ok(Some(Becomes {
            text,
            comes,
            goes: goes.into_iter().collect(),
        })),
        // Where it has no place for an item, it is left to the server.
        Err(_) if order::changed(form, &rule, text, change) == text => Ok(None),
        Err(unread) => Err(unread),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(keys: &str) -> Also {
        let keys = format!("name='items'\nfile='x'\neach='^items/(?P<value>[^/]+)/'\n{keys}");
        toml_edit::de::from_str(&keys).unwrap()
    }

    fn pairs(all: &[(Id, RelPath)]) -> Vec<(&Id, &RelPath)> {
        all.iter().map(|(id, place)| (id, place)).collect()
    }

    /// Each add-on as `id place`; what comes and goes, and the text afterwards.
    fn told(also: &Also, text: &str, those: [&[&str]; 3]) -> String {
        let parsed = |all: &[&str]| -> Vec<(Id, RelPath)> {
            let pairs = all.iter().map(|it| it.split_once(' ').unwrap());
            pairs
                .map(|(id, place)| (Id::new(id), RelPath::parse(place).unwrap()))
                .collect()
        };
        let [running, idle, leaving] = those.map(parsed);
        let those = Those {
            running: pairs(&running),
            idle: idle.iter().map(|(_, place)| place).collect(),
            leaving: pairs(&leaving),
        };
        let shown = |all: &[(Id, Id)]| -> String {
            let all = all.iter().map(|(item, id)| format!("{item} of {id}"));
            all.collect::<Vec<_>>().join(", ")
        };
        match becomes(also, text, &those) {
            Ok(None) => "as it is".into(),
            Ok(Some(it)) => format!("+ {} - {}: {}", shown(&it.comes), shown(&it.goes), it.text),
            Err(Unread(item)) => format!("cannot name {item}"),
        }
    }

    #[test]
    fn a_list_names_what_runs_and_keeps_what_nobody_gave() {
        let one = list("kind='list'\nline='^fetch=(?P<list>.*)$'\nbetween=';'");
        let fern: &[&str] = &["fern items/7/fern"];
        let both: &[&str] = &["fern items/7/fern", "ivy items/9/ivy", "moss items/9/moss"];
        let cases: &[(&str, [&[&str]; 3], &str)] = &[
            ("fetch=7", [fern, &[], &[]], "as it is"),
            (
                "fetch=1; 7",
                [both, &[], &[]],
                "+ 9 of ivy - : fetch=1; 7; 9",
            ),
            (
                "fetch=",
                [both, &[], &[]],
                "+ 7 of fern, 9 of ivy - : fetch=7;9",
            ),
            // What is there and off keeps its item, and so does one that others share.
            (
                "fetch=9;7",
                [fern, &["ivy items/9/ivy"], &["moss items/9/moss"]],
                "as it is",
            ),
            (
                "fetch=9;7;9",
                [fern, &[], &["moss items/9/moss"]],
                "+  - 9 of moss: fetch=7",
            ),
            ("fetch=7", [&["fern addons/fern"], &[], &[]], "as it is"),
            // No such line, and an item that would be two.
            ("# none", [fern, &[], &[]], "as it is"),
            (
                "fetch=",
                [&["fern items/7;8/fern"], &[], &[]],
                "cannot name 7;8",
            ),
        ];
        for (text, those, expected) in cases {
            assert_eq!(told(&one, text, *those), *expected, "{text}");
        }
        let lines = list("kind='sequence'\nline='^fetch (?P<id>.+)$'\nwrite='fetch {id}'");
        assert_eq!(
            told(&lines, "# all\nfetch 3\nport 1\n", [fern, &[], &[]]),
            "+ 7 of fern - : # all\nfetch 3\nfetch 7\nport 1\n"
        );
    }
}
