//! One line names the one add-on of many that is in use.

use super::{Change, Form, OrderEntry};
use crate::component::Id;
use crate::family::OrderRule;

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
        let lines = text.lines().enumerate();
        let named = lines.filter_map(|(index, line)| {
            Some(OrderEntry {
                line: index + 1,
                id: Id::new(rule.line.capture("id", line)?),
                on: true,
                words: line.to_owned(),
            })
        });
        named.last().into_iter().collect()
    }

    /// The one in use stays so: what comes new is only there, and which of them is used is the administrator's affair.
    fn rewritten(&self, _rule: &OrderRule, text: &str, _change: Change<'_>) -> String {
        text.to_owned()
    }
}
