//! In which order add-ons are started, and the least change to the arrangement that is there.

use crate::component::Id;
use crate::family::{OrderKind, OrderRule, Pattern};
use crate::path::RelPath;
use crate::text::Lines;
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

/// Writes an order into the text of a sequence file.
///
/// `order` is every add-on that has to have a line, first started first. Lines that name no add-on
/// keep their places. Where the add-ons that are there already stand in a good relative order, no
/// line moves: new lines are put in behind the add-on they come after. Otherwise the add-on lines
/// are written anew within the places they take up.
pub fn write_sequence(rule: &OrderRule, text: &str, order: &[Id]) -> String {
    let present = read(rule, text);
    let wanted: BTreeSet<&Id> = order.iter().collect();
    let mut seen = BTreeSet::new();
    // The first line of each wanted add-on stays; others and doubles go.
    let stays: Vec<&OrderLine> = present
        .iter()
        .filter(|line| wanted.contains(&line.id) && seen.insert(&line.id))
        .collect();
    let kept_order: Vec<&Id> = order.iter().filter(|id| seen.contains(id)).collect();
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
    let written = |id: &Id| rule.write.replace("{id}", id.as_str());
    let put_new = |lines: &mut Lines<'_>, ids: Option<Vec<&Id>>| {
        for id in ids.unwrap_or_default() {
            lines.add(&written(id));
        }
    };
    let first_line = stays.first().map(|line| line.line);
    let mut lines = Lines::of(text);
    let mut number = 0;
    while let Some((line, whole)) = lines.next() {
        number += 1;
        if Some(number) == first_line {
            put_new(&mut lines, behind.remove(&None));
        }
        match becomes.get(&number) {
            None => lines.keep(whole),
            Some(None) => {}
            Some(Some(id)) => {
                if rule.line.capture("id", line) == Some(id.as_str()) {
                    lines.keep(whole);
                } else {
                    lines.replace(whole, &written(id));
                }
                put_new(&mut lines, behind.remove(&Some(*id)));
            }
        }
    }
    // There was no add-on line at all.
    put_new(&mut lines, behind.remove(&None));
    lines.joined()
}

/// Writes an order into the text of a file that holds it in one line; all else stays.
///
/// Where no line is found, nothing is written: there is no place for one.
pub fn write_list(rule: &OrderRule, text: &str, order: &[Id]) -> String {
    let items: Vec<String> = order
        .iter()
        .map(|id| rule.write.replace("{id}", id.as_str()))
        .collect();
    let items = items.join(&rule.between);
    let mut found = false;
    rewrite(text, |line| {
        let list = rule.line.regex().captures(line)?.name("list")?.range();
        let is_first = !std::mem::replace(&mut found, true);
        is_first.then(|| format!("{}{items}{}", &line[..list.start], &line[list.end..]))
    })
}

/// Puts a value in the place of what a pattern's group `value` finds, in every line.
pub fn set_value(pattern: &Pattern, text: &str, becomes: &str) -> String {
    rewrite(text, |line| {
        let value = pattern.regex().captures(line)?.name("value")?.range();
        let (before, after) = (&line[..value.start], &line[value.end..]);
        Some(format!("{before}{becomes}{after}"))
    })
}

/// Writes each line anew for which there are other words.
fn rewrite(text: &str, mut becomes: impl FnMut(&str) -> Option<String>) -> String {
    let mut lines = Lines::of(text);
    while let Some((line, whole)) = lines.next() {
        match becomes(line) {
            Some(new) => lines.replace(whole, &new),
            None => lines.keep(whole),
        }
    }
    lines.joined()
}

/// Writes flags into the text of a flags file: `flags` says for each add-on whether it is on.
///
/// Add-ons in `gone` lose their lines; all other lines stay as they are.
pub fn write_flags(
    rule: &OrderRule,
    text: &str,
    flags: &BTreeMap<Id, bool>,
    gone: &BTreeSet<Id>,
) -> String {
    let written = |id: &Id, on: bool| {
        let value = if on { &rule.on } else { &rule.off };
        rule.write
            .replace("{id}", id.as_str())
            .replace("{on}", value)
    };
    let mut present = BTreeSet::new();
    let mut lines = Lines::of(text);
    while let Some((line, whole)) = lines.next() {
        let Some(id) = rule.line.capture("id", line).map(Id::new) else {
            lines.keep(whole);
            continue;
        };
        let is_on = rule.line.capture("on", line) != Some(rule.off.as_str());
        match flags.get(&id) {
            _ if gone.contains(&id) => {}
            Some(on) if *on != is_on => lines.replace(whole, &written(&id, *on)),
            _ => lines.keep(whole),
        }
        present.insert(id);
    }
    for (id, on) in flags.iter().filter(|(id, _)| !present.contains(*id)) {
        lines.add(&written(id, *on));
    }
    lines.joined()
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
        let same = write_sequence(&rule, text, &ids("lib bees old"));
        assert_eq!(same, text);
        let new = write_sequence(&rule, text, &ids("lib drip bees clock"));
        assert_eq!(
            new,
            "# mine\nname = x\nstart lib\nstart drip\n\n# the bees\nstart bees\nstart clock\nport = 1\n"
        );
        let turned = write_sequence(&rule, text, &ids("first bees lib old"));
        assert_eq!(
            turned,
            "# mine\nname = x\nstart first\nstart bees\n\n# the bees\nstart lib\nstart old\nport = 1\n"
        );
        let from_nothing = write_sequence(&rule, "port = 1\r\n", &ids("a b"));
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
        let new = write_flags(&rule("flags"), text, &flags, &gone);
        assert_eq!(
            new,
            "game = g\nload_a = true\nload_b = true\nload_d = mods/d\nload_e = true\nload_f = false\n"
        );
    }

    #[test]
    fn each_line_keeps_its_own_end() {
        let rule = rule("sequence");
        for (text, order, expected) in [
            ("a\r\nstart x\nb", "x y", "a\r\nstart x\nstart y\nb"),
            ("a\nstart x", "x y", "a\nstart x\nstart y\n"),
            ("start x\r\nstart y", "y x", "start y\r\nstart x"),
            ("", "x", "start x\n"),
        ] {
            assert_eq!(write_sequence(&rule, text, &ids(order)), expected);
        }
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
            let written = write_sequence(&rule("sequence"), &text, &order);
            let again: Vec<Id> = read(&rule("sequence"), &written).into_iter().map(|l| l.id).collect();
            prop_assert_eq!(again, order);
            prop_assert_eq!(written.matches("# note").count(), current.len());
        }
    }
}
