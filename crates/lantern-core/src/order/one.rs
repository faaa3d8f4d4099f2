//! One line names the one add-on of many that is in use.

use super::{Change, Form, OrderEntry, naming};
use crate::family::OrderRule;
use crate::text::Lines;

/// One of many.
pub(super) struct One;

impl Form for One {
    fn groups(&self) -> &'static [&'static str] {
        &["id"]
    }

    fn decides(&self) -> bool {
        false
    }

    /// Where several lines name one, the last stands.
    fn entries(&self, rule: &OrderRule, text: &str) -> Vec<OrderEntry> {
        naming(rule, text).last().into_iter().collect()
    }

    fn only_one(&self) -> bool {
        true
    }

    /// The one in use stays so, unless another one is asked for: then its line, the last, names that one, and all else in
    /// it stays.
    fn rewritten(&self, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
        let now = self.entries(rule, text).pop();
        let Some(id) = change.order.first() else {
            return text.to_owned();
        };
        if now.as_ref().is_some_and(|entry| entry.id == *id) {
            return text.to_owned();
        }
        let mut lines = Lines::of(text);
        let mut number = 0;
        while let Some((line, whole)) = lines.next() {
            number += 1;
            let named = rule.line.regex().captures(line);
            let named = named.and_then(|found| Some(found.name("id")?.range()));
            match named {
                Some(at) if now.as_ref().is_some_and(|entry| entry.line == number) => {
                    let new = format!("{}{id}{}", &line[..at.start], &line[at.end..]);
                    lines.replace(whole, &new);
                }
                _ => lines.keep(whole),
            }
        }
        if now.is_none() {
            lines.add(&change.written(rule, id));
        }
        lines.joined()
    }
}
