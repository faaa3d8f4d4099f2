//! An edit of any load order, in each form: what was asked for is there, what names no add-on stays, and a second edit
//! finds nothing to do.
#![no_main]

use lantern_core::component::Id;
use lantern_core::family::{OrderKind, OrderRule};
use lantern_core::order::{self, Arrangement, Change, Keeping, arrange};
use libfuzzer_sys::fuzz_target;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

static RULES: LazyLock<Vec<OrderRule>> = LazyLock::new(|| {
    let rules = [
        ("sequence", r"^\s*(?P<id>[a-z0-9-]+)\s*(;.*)?$", "{id}"),
        // Of this one, lines are parked.
        ("sequence", r"^run (?P<id>[a-z0-9-]+).*$", "run {id}"),
        (
            "flags",
            r"^load_(?P<id>[a-z0-9-]+) *= *(?P<on>\w+)$",
            "load_{id} = {on}",
        ),
        ("list", r"^addons *= *(?P<list>.*)$", "{id}"),
    ];
    let rule = |(kind, line, write): (&str, &str, &str)| {
        let text =
            format!("file = 'order.cfg'\nkind = '{kind}'\nline = '{line}'\nwrite = '{write}'\n");
        let parked = write.starts_with("run").then_some("parked = '# {line}'\n");
        let text = text + parked.unwrap_or_default();
        toml_edit::de::from_str(&text).unwrap()
    };
    rules.into_iter().map(rule).collect()
});

fuzz_target!(|input: (u8, &str)| {
    let (chosen, text) = input;
    let rule: &OrderRule = &RULES[usize::from(chosen) % RULES.len()];
    let Keeping::Text(form) = rule.kind.keeping() else {
        unreachable!("none of these is told by names");
    };
    let here = Arrangement::read(rule, text);
    let names = ["fern", "moss", "ivy"].map(Id::new);
    let mut wanted: BTreeMap<Id, BTreeSet<Id>> = BTreeMap::new();
    // Of what is there, the add-ons at even places stay; one of three comes that follows another.
    for id in here.ids().step_by(2).filter(|id| !names.contains(id)) {
        wanted.entry(id.clone()).or_default();
    }
    for (number, id) in names.iter().enumerate() {
        if chosen >> (4 + number) & 1 == 1 {
            let before = names[..number].iter().filter(|it| wanted.contains_key(*it));
            let before = before.cloned().collect();
            wanted.insert(id.clone(), before);
        }
    }
    let current: Vec<Id> = here.ids().cloned().collect();
    let order = arrange(&wanted, &current).expect("no ring was asked for");
    let gone: BTreeSet<Id> = current
        .iter()
        .filter(|id| !wanted.contains_key(*id))
        .cloned()
        .collect();
    // Half of what does not run from then on stays, and is switched off.
    let off: BTreeSet<Id> = gone.iter().step_by(2).cloned().collect();
    let gone: BTreeSet<Id> = gone.difference(&off).cloned().collect();
    let change = Change {
        order: &order,
        gone: &gone,
        off: &off,
        arguments: &BTreeMap::new(),
    };
    // Two lists, or none at all, leave open where an add-on belongs.
    let lists = text
        .lines()
        .filter(|line| rule.line.capture("list", line).is_some());
    let is_clear = rule.kind != OrderKind::List || lists.count() == 1;
    match order::rewritten(form, rule, text, change) {
        Ok(new) => assert_eq!(
            order::rewritten(form, rule, &new, change),
            Ok(new),
            "edited twice"
        ),
        Err(unread) => assert!(!is_clear, "{unread:?} in {text:?}"),
    }
});
