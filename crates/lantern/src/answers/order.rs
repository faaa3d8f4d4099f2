//! The load order.

use super::NameWhy;
use lantern_core::component::Id;
use lantern_core::inventory::{Finding, Turn};
use lantern_core::order::Link;
use lantern_core::path::RelPath;
use schemars::JsonSchema;
use serde::Serialize;

/// `order`
#[derive(Debug, Serialize, JsonSchema)]
pub struct OrderShown<'a> {
    /// The entries, the first first.
    entries: Vec<OrderTurn<'a>>,
    /// Add-ons without an entry, and why.
    without_entry: Vec<NameWhy>,
    /// What of the order gives way, as it leads into a circle.
    gave_way: Vec<OrderLink<'a>>,
    /// What is wrong with it.
    findings: Vec<&'a Finding>,
}

/// An entry of the load order.
#[derive(Debug, Serialize, JsonSchema)]
struct OrderTurn<'a> {
    /// The file that it stands in, where that is not the one that the order begins in.
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<&'a RelPath>,
    /// Its line, from 1; none where names tell the order.
    line: Option<usize>,
    entry: &'a str,
    /// The add-ons that it starts.
    starts: &'a [Id],
    on: bool,
    /// Why it stands behind others.
    after: Vec<OrderLink<'a>>,
}

/// That one add-on is started after another.
#[derive(Debug, Serialize, JsonSchema)]
struct OrderLink<'a> {
    first: &'a Id,
    later: &'a Id,
    /// Why, as a sentence.
    why: String,
}

impl<'a> From<&'a Link> for OrderLink<'a> {
    fn from(link: &'a Link) -> OrderLink<'a> {
        OrderLink {
            first: &link.first,
            later: &link.later,
            why: link.to_string(),
        }
    }
}

impl<'a> From<&'a Turn> for OrderTurn<'a> {
    fn from(turn: &'a Turn) -> OrderTurn<'a> {
        OrderTurn {
            file: turn.file.as_ref(),
            line: turn.line,
            entry: &turn.entry,
            starts: &turn.starts,
            on: turn.on,
            after: turn.after.iter().map(OrderLink::from).collect(),
        }
    }
}

impl<'a> OrderShown<'a> {
    /// A load order with what is wrong with it.
    pub fn new(
        turns: &'a [Turn],
        others: &[(Id, String)],
        gave_way: &'a [Link],
        findings: Vec<&'a Finding>,
    ) -> OrderShown<'a> {
        let others = others.iter().map(|(id, why)| NameWhy {
            name: id.to_string(),
            why: why.clone(),
        });
        OrderShown {
            entries: turns.iter().map(OrderTurn::from).collect(),
            without_entry: others.collect(),
            gave_way: gave_way.iter().map(OrderLink::from).collect(),
            findings,
        }
    }
}

/// `order --why`
#[derive(Debug, Serialize, JsonSchema)]
pub struct OrderWhy<'a> {
    id: &'a Id,
    /// The entry that starts it.
    entry: Option<OrderTurn<'a>>,
    /// What comes before it, and why.
    before: Vec<OrderLink<'a>>,
    /// What comes after it, and why.
    after: Vec<OrderLink<'a>>,
}

impl<'a> OrderWhy<'a> {
    /// Why an add-on stands where it does.
    pub fn new(
        id: &'a Id,
        turn: Option<&'a Turn>,
        before: &[&'a Link],
        after: &[&'a Link],
    ) -> OrderWhy<'a> {
        OrderWhy {
            id,
            entry: turn.map(OrderTurn::from),
            before: before.iter().map(|link| OrderLink::from(*link)).collect(),
            after: after.iter().map(|link| OrderLink::from(*link)).collect(),
        }
    }
}
