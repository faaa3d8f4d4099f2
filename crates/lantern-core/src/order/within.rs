//! A load order in the part of a text where its entries stand: forms see that part alone.

use super::{Change, Form, OrderEntry};
use crate::family::OrderRule;

/// The entries in a text, each with where it stands in all of it.
pub(super) fn entries(form: &dyn Form, rule: &OrderRule, text: &str) -> Vec<OrderEntry> {
    let Some(part) = rule.part(text) else {
        return Vec::new();
    };
    let mut entries = form.entries(rule, &text[part.clone()]);
    let lines = text[..part.start].matches('\n').count();
    for entry in &mut entries {
        entry.line += lines;
        if let Some(version) = &mut entry.version {
            version.at = version.at.start + part.start..version.at.end + part.start;
        }
    }
    entries
}

/// The text after a change: what is outside the part stays, and where there is no such part, all does.
pub(crate) fn changed(form: &dyn Form, rule: &OrderRule, text: &str, change: Change<'_>) -> String {
    let Some(part) = rule.part(text) else {
        return text.to_owned();
    };
    let (before, behind) = (&text[..part.start], &text[part.end..]);
    let mut new = form.rewritten(rule, &text[part.clone()], change);
    if part.is_empty() && !new.is_empty() {
        // Nothing in it says how its lines end.
        if before.ends_with("\r\n") {
            new = new.replace('\n', "\r\n");
        }
        if !before.is_empty() && !before.ends_with('\n') {
            new.insert(0, '\n');
        }
    }
    format!("{before}{new}{behind}")
}
