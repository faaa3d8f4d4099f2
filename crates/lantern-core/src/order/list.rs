//! One line holds all add-ons, in load order.

use super::{Change, Form, OrderEntry, rewrite};
use crate::component::Id;
use crate::family::OrderRule;

/// Items in one line.
pub(super) struct List;

impl Form for List {
    fn groups(&self) -> &'static [&'static str] {
        &["list"]
    }

    fn decides(&self) -> bool {
        true
    }

    fn entries(&self, rule: &OrderRule, text: &str) -> Vec<OrderEntry> {
        let mut entries = Vec::new();
        for (index, line) in text.lines().enumerate() {
            let items = rule.line.capture("list", line).unwrap_or("");
            let items = items.split(rule.between.trim()).map(str::trim);
            entries.extend(
                items
                    .filter(|item| !item.is_empty())
                    .map(|item| OrderEntry {
                        line: index + 1,
                        id: Id::new(item),
                        on: true,
                        words: item.to_owned(),
                    }),
            );
        }
        entries
    }

    /// The first list found is written anew; all else stays. Where no line is found, nothing is written: there is no
    /// place for one.
    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        let items = change.order.iter();
        let items = items.map(|id| change.written(rule, id));
        let items = items.collect::<Vec<_>>().join(&rule.between);
        let mut found = false;
        rewrite(text, |line| {
            let list = rule.line.regex().captures(line)?.name("list")?.range();
            let is_first = !std::mem::replace(&mut found, true);
            is_first.then(|| format!("{}{items}{}", &line[..list.start], &line[list.end..]))
        })
    }
}
