//! In which order add-ons are started, and the least change to the arrangement that is there.

use crate::component::Id;
use crate::family::{OrderKind, OrderRule, Pattern};
use crate::path::RelPath;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// A line of the load-order file that names an add-on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderLine {
    /// From 1.
    pub line: usize,
    /// The add-on.
    pub id: Id,
    /// Whether the line lets it run.
    pub on: bool,
}

/// Reads the entries of a load-order file that name add-ons.
pub fn read(rule: &OrderRule, text: &str) -> Vec<OrderLine> {
    let mut entries = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let mut add = |id: &str, on| {
            entries.push(OrderLine {
                line: index + 1,
                id: Id::new(id),
                on,
            });
        };
        match rule.kind {
            OrderKind::Sequence => {
                if let Some(id) = rule.line.capture("id", line) {
                    add(id, true);
                }
            }
            OrderKind::Flags => {
                if let Some(id) = rule.line.capture("id", line) {
                    add(id, rule.line.capture("on", line) != Some(rule.off.as_str()));
                }
            }
            OrderKind::List => {
                let items = rule.line.capture("list", line).unwrap_or("");
                for id in items.split(rule.between.trim()).map(str::trim) {
                    if !id.is_empty() {
                        add(id, true);
                    }
                }
            }
        }
    }
    entries
}

/// The entry that starts an add-on: its own, or that of a category whose folder it lies in.
pub fn starter<'o>(
    rule: &OrderRule,
    entries: &'o [OrderLine],
    id: &Id,
    place: &RelPath,
) -> Option<&'o OrderLine> {
    let own = entries.iter().find(|entry| entry.id == *id);
    own.or_else(|| {
        let mut folder = place.folder();
        while let Some(path) = folder {
            if rule.categories.matches(path.as_str()) {
                let category = entries.iter().find(|e| e.id.as_str() == path.name());
                if category.is_some() {
                    return category;
                }
            }
            folder = path.folder();
        }
        None
    })
}

/// Add-ons that each have to be started before one another, in a ring.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("these need one another in a ring, so none can be started first: {}", .0.iter().map(Id::as_str).collect::<Vec<_>>().join(", "))]
pub struct Ring(pub Vec<Id>);

/// Puts add-ons in an order in which each comes after all that it follows.
///
/// `wanted` holds each add-on with those it follows; `current` is the arrangement that is there.
/// What is there stays in its relative order wherever the constraints allow it; a new one comes as
/// early as it can, right after what it follows; what follows nothing and is new comes last.
///
/// # Errors
/// With the ring, where there is one.
pub fn arrange(wanted: &BTreeMap<Id, BTreeSet<Id>>, current: &[Id]) -> Result<Vec<Id>, Ring> {
    let mut preferred: Vec<&Id> = Vec::with_capacity(wanted.len());
    let mut listed = BTreeSet::new();
    for id in current {
        if let Some((id, _)) = wanted.get_key_value(id)
            && listed.insert(id)
        {
            preferred.push(id);
        }
    }
    preferred.extend(wanted.keys().filter(|id| !listed.contains(id)));
    let mut placed = BTreeSet::new();
    let mut order = Vec::with_capacity(preferred.len());
    let mut trail = Vec::new();
    for id in preferred {
        place(id, wanted, &mut placed, &mut trail, &mut order)?;
    }
    Ok(order)
}

/// Places what an add-on follows, then the add-on itself.
fn place<'a>(
    id: &'a Id,
    wanted: &'a BTreeMap<Id, BTreeSet<Id>>,
    placed: &mut BTreeSet<&'a Id>,
    trail: &mut Vec<&'a Id>,
    order: &mut Vec<Id>,
) -> Result<(), Ring> {
    if placed.contains(id) {
        return Ok(());
    }
    if let Some(start) = trail.iter().position(|on_trail| *on_trail == id) {
        return Err(Ring(
            trail[start..].iter().map(|id| (*id).clone()).collect(),
        ));
    }
    let Some(follows) = wanted.get(id) else {
        return Ok(());
    };
    trail.push(id);
    for before in follows {
        if let Some((before, _)) = wanted.get_key_value(before) {
            place(before, wanted, placed, trail, order)?;
        }
    }
    trail.pop();
    placed.insert(id);
    order.push(id.clone());
    Ok(())
}

/// What becomes of one line of the load-order file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "change", deny_unknown_fields)]
pub enum LineChange {
    /// A line is new.
    Added {
        /// As it will stand there.
        text: String,
    },
    /// A line goes.
    Removed {
        /// From 1, in the file as it is.
        line: usize,
        /// As it stands there.
        text: String,
    },
    /// A line is written anew in its place.
    Changed {
        /// From 1, in the file as it is.
        line: usize,
        /// As it stands there.
        text: String,
        /// As it will stand there.
        becomes: String,
    },
}

/// Writes an order into the text of a sequence file.
///
/// `order` is every add-on that has to have a line, first started first. Lines that name no add-on
/// keep their places. Where the add-ons that are there already stand in a good relative order, no
/// line moves: new lines are put in behind the add-on they come after. Otherwise the add-on lines
/// are written anew within the places they take up.
pub fn write_sequence(rule: &OrderRule, text: &str, order: &[Id]) -> (String, Vec<LineChange>) {
    let present = read(rule, text);
    let wanted: BTreeSet<&Id> = order.iter().collect();
    let mut seen = BTreeSet::new();
    // The first line of each wanted add-on stays; others and doubles go.
    let stays: Vec<&OrderLine> = present
        .iter()
        .filter(|line| wanted.contains(&line.id) && seen.insert(&line.id))
        .collect();
    let kept_order: Vec<&Id> = order.iter().filter(|id| seen.contains(id)).collect();
    let mut changes = Vec::new();
    let mut becomes: BTreeMap<usize, Option<&Id>> =
        present.iter().map(|line| (line.line, None)).collect();
    for (line, id) in stays.iter().zip(&kept_order) {
        becomes.insert(line.line, Some(id));
    }
    let mut behind: BTreeMap<Option<&Id>, Vec<&Id>> = BTreeMap::new();
    let mut last = None;
    for id in order {
        if seen.contains(id) {
            last = Some(id);
        } else {
            behind.entry(last).or_default().push(id);
        }
    }
    let mut out: Vec<String> = Vec::new();
    let put_new = |out: &mut Vec<String>, changes: &mut Vec<LineChange>, ids: Vec<&Id>| {
        for id in ids {
            let text = rule.write.replace("{id}", id.as_str());
            changes.push(LineChange::Added { text: text.clone() });
            out.push(text);
        }
    };
    let first_line = stays.first().map(|line| line.line);
    for (index, old) in text.lines().enumerate() {
        let line = index + 1;
        if Some(line) == first_line {
            let ids = behind.remove(&None).unwrap_or_default();
            put_new(&mut out, &mut changes, ids);
        }
        match becomes.get(&line) {
            None => out.push(old.to_owned()),
            Some(None) => changes.push(LineChange::Removed {
                line,
                text: old.to_owned(),
            }),
            Some(Some(id)) => {
                let same = rule.line.capture("id", old) == Some(id.as_str());
                let new = if same {
                    old.to_owned()
                } else {
                    rule.write.replace("{id}", id.as_str())
                };
                if !same {
                    changes.push(LineChange::Changed {
                        line,
                        text: old.to_owned(),
                        becomes: new.clone(),
                    });
                }
                out.push(new);
                let ids = behind.remove(&Some(*id)).unwrap_or_default();
                put_new(&mut out, &mut changes, ids);
            }
        }
    }
    for ids in behind.into_values() {
        put_new(&mut out, &mut changes, ids);
    }
    (join_lines(text, &out), changes)
}

/// Writes an order into the text of a file that holds it in one line; all else stays.
///
/// Where no line is found, nothing is written: there is no place for one.
pub fn write_list(rule: &OrderRule, text: &str, order: &[Id]) -> (String, Vec<LineChange>) {
    let items: Vec<String> = order
        .iter()
        .map(|id| rule.write.replace("{id}", id.as_str()))
        .collect();
    let items = items.join(&rule.between);
    let mut changes = Vec::new();
    let mut out: Vec<String> = text.lines().map(str::to_owned).collect();
    for (index, line) in out.iter_mut().enumerate() {
        let found = rule.line.regex().captures(line);
        let Some(list) = found.and_then(|found| Some(found.name("list")?.range())) else {
            continue;
        };
        let becomes = format!("{}{items}{}", &line[..list.start], &line[list.end..]);
        if becomes != *line {
            changes.push(LineChange::Changed {
                line: index + 1,
                text: line.clone(),
                becomes: becomes.clone(),
            });
            *line = becomes;
        }
        break;
    }
    (join_lines(text, &out), changes)
}

/// Puts a value in the place of what a pattern's group `value` finds, in every line.
pub fn set_value(pattern: &Pattern, text: &str, becomes: &str) -> (String, Vec<LineChange>) {
    let mut changes = Vec::new();
    let mut out: Vec<String> = text.lines().map(str::to_owned).collect();
    for (index, line) in out.iter_mut().enumerate() {
        let found = pattern.regex().captures(line);
        let Some(value) = found.and_then(|found| Some(found.name("value")?.range())) else {
            continue;
        };
        if line[value.clone()] == *becomes {
            continue;
        }
        let new = format!("{}{becomes}{}", &line[..value.start], &line[value.end..]);
        changes.push(LineChange::Changed {
            line: index + 1,
            text: line.clone(),
            becomes: new.clone(),
        });
        *line = new;
    }
    (join_lines(text, &out), changes)
}

/// Writes flags into the text of a flags file: `flags` says for each add-on whether it is on.
///
/// Add-ons in `gone` lose their lines; all other lines stay as they are.
pub fn write_flags(
    rule: &OrderRule,
    text: &str,
    flags: &BTreeMap<Id, bool>,
    gone: &BTreeSet<Id>,
) -> (String, Vec<LineChange>) {
    let mut changes = Vec::new();
    let mut out = Vec::new();
    let mut present = BTreeSet::new();
    let written = |id: &Id, on: bool| {
        let value = if on { &rule.on } else { &rule.off };
        rule.write
            .replace("{id}", id.as_str())
            .replace("{on}", value)
    };
    for (index, old) in text.lines().enumerate() {
        let line = index + 1;
        let Some(id) = rule.line.capture("id", old).map(Id::new) else {
            out.push(old.to_owned());
            continue;
        };
        let is_on = rule.line.capture("on", old) != Some(rule.off.as_str());
        match flags.get(&id) {
            _ if gone.contains(&id) => changes.push(LineChange::Removed {
                line,
                text: old.to_owned(),
            }),
            Some(on) if *on != is_on => {
                let becomes = written(&id, *on);
                changes.push(LineChange::Changed {
                    line,
                    text: old.to_owned(),
                    becomes: becomes.clone(),
                });
                out.push(becomes);
            }
            _ => out.push(old.to_owned()),
        }
        present.insert(id);
    }
    for (id, on) in flags.iter().filter(|(id, _)| !present.contains(*id)) {
        let text = written(id, *on);
        changes.push(LineChange::Added { text: text.clone() });
        out.push(text);
    }
    (join_lines(text, &out), changes)
}

/// Joins lines with the line ends that the text had, the one at its end included.
fn join_lines(text: &str, lines: &[String]) -> String {
    let end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let mut joined = lines.join(end);
    if (text.ends_with('\n') || text.is_empty()) && !joined.is_empty() {
        joined.push_str(end);
    }
    joined
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::family::Family;
    use proptest::prelude::*;

    fn ids(text: &str) -> Vec<Id> {
        text.split_whitespace().map(Id::new).collect()
    }

    /// `"c<a,b d"`: c follows a and b, d follows nothing.
    fn wanted(text: &str) -> BTreeMap<Id, BTreeSet<Id>> {
        let one = |word: &str| {
            let (id, follows) = word.split_once('<').unwrap_or((word, ""));
            let follows = follows.split(',').filter(|f| !f.is_empty()).map(Id::new);
            (Id::new(id), follows.collect())
        };
        text.split_whitespace().map(one).collect()
    }

    #[test]
    fn the_arrangement_changes_no_more_than_it_must() {
        for (wants, current, expected) in [
            ("a b c", "c b a", "c b a"),
            ("a b<c c", "a b c", "a c b"),
            ("a<lib b lib", "a b", "lib a b"),
            ("a b new", "b a", "b a new"),
            ("a<x b", "a b gone", "a b"),
        ] {
            assert_eq!(
                arrange(&wanted(wants), &ids(current)).unwrap(),
                ids(expected),
                "{wants}"
            );
        }
    }

    #[test]
    fn a_ring_is_named() {
        let ring = arrange(&wanted("a<b b<c c<b"), &[]).unwrap_err();
        assert_eq!(ring, Ring(ids("b c")));
    }

    fn rule(kind: &str) -> OrderRule {
        let text = crate::tree::tests::FAMILY;
        let flags = text.replace(
            r#"order = { kind = "sequence", file = "x.conf", line = '^start (?P<id>\S+)', write = "start {id}" }"#,
            r#"order = { kind = "flags", file = "x.conf", line = '^load_(?P<id>\w+) = (?P<on>\w+)', write = "load_{id} = {on}" }"#,
        );
        let text = if kind == "flags" {
            flags
        } else {
            text.to_owned()
        };
        Family::parse(&text).unwrap().order.unwrap()
    }

    #[test]
    fn comments_and_places_stay() {
        let text = "# mine\nname = x\nstart lib\n\n# the bees\nstart bees\nstart old\nport = 1\n";
        let rule = rule("sequence");
        let (same, none) = write_sequence(&rule, text, &ids("lib bees old"));
        assert_eq!((same.as_str(), none.len()), (text, 0));
        let (new, changes) = write_sequence(&rule, text, &ids("lib drip bees clock"));
        assert_eq!(
            new,
            "# mine\nname = x\nstart lib\nstart drip\n\n# the bees\nstart bees\nstart clock\nport = 1\n"
        );
        assert_eq!(changes.len(), 3);
        let (turned, _) = write_sequence(&rule, text, &ids("first bees lib old"));
        assert_eq!(
            turned,
            "# mine\nname = x\nstart first\nstart bees\n\n# the bees\nstart lib\nstart old\nport = 1\n"
        );
        let (from_nothing, _) = write_sequence(&rule, "port = 1\r\n", &ids("a b"));
        assert_eq!(from_nothing, "port = 1\r\nstart a\r\nstart b\r\n");
    }

    #[test]
    fn flags_change_only_where_they_must() {
        let text = "game = g\nload_a = true\nload_b = false\nload_c = true\nload_d = mods/d\n";
        let flags = [
            ("a", true),
            ("b", true),
            ("d", true),
            ("e", true),
            ("f", false),
        ];
        let flags = flags.map(|(id, on)| (Id::new(id), on)).into();
        let gone = BTreeSet::from([Id::new("c")]);
        let (new, changes) = write_flags(&rule("flags"), text, &flags, &gone);
        assert_eq!(
            new,
            "game = g\nload_a = true\nload_b = true\nload_d = mods/d\nload_e = true\nload_f = false\n"
        );
        assert_eq!(changes.len(), 4);
    }

    proptest! {
        #[test]
        fn every_order_keeps_its_constraints_and_is_written_as_meant(
            edges in proptest::collection::vec((0usize..8, 0usize..8), 0..12),
            current in proptest::collection::vec(0usize..10, 0..10),
        ) {
            let id = |n: usize| Id::new(&format!("m{n}"));
            let mut wants: BTreeMap<Id, BTreeSet<Id>> = (0..8).map(|n| (id(n), BTreeSet::new())).collect();
            for (a, b) in edges.iter().filter(|(a, b)| a > b) {
                wants.get_mut(&id(*a)).unwrap().insert(id(*b));
            }
            let current: Vec<Id> = current.into_iter().map(id).collect();
            let order = arrange(&wants, &current).unwrap();
            prop_assert_eq!(order.len(), wants.len());
            let at = |id: &Id| order.iter().position(|o| o == id).unwrap();
            for (id, follows) in &wants {
                for before in follows {
                    prop_assert!(at(before) < at(id));
                }
            }
            let text: String = current.iter().map(|id| format!("start {id}\n# note\n")).collect();
            let (written, _) = write_sequence(&rule("sequence"), &text, &order);
            let again: Vec<Id> = read(&rule("sequence"), &written).into_iter().map(|l| l.id).collect();
            prop_assert_eq!(again, order);
            prop_assert_eq!(written.matches("# note").count(), current.len());
        }
    }
}
