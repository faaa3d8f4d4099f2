//! Why a component is there, and why no other release is.

use lantern_core::component::Id;
use lantern_core::resolve::{Choice, Explanation, Reason, WhyNot};
use lantern_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

/// `why`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Why<'a> {
    id: &'a Id,
    version: Option<&'a str>,
    because: Option<&'a Reason>,
    held_by: Vec<HeldBy<'a>>,
    newer: Vec<Newer<'a>>,
    /// What was seen of it on this server, in words.
    learned: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct HeldBy<'a> {
    id: &'a Id,
    range: &'a str,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Newer<'a> {
    version: &'a str,
    why_not: NotChosen<'a>,
}

impl<'a> Why<'a> {
    /// Why a component is where it is.
    pub fn new(id: &'a Id, explanation: &'a Explanation, learned: Vec<String>) -> Why<'a> {
        let choice = explanation.choice.as_ref();
        let held_by = explanation.held_by.iter();
        let newer = explanation.newer.iter();
        Why {
            id,
            version: choice.map(|choice| choice.to.as_str()),
            because: choice.map(|choice| &choice.reason),
            learned,
            held_by: held_by.map(|(id, range)| HeldBy { id, range }).collect(),
            newer: newer
                .map(|(version, why)| Newer {
                    version: version.as_str(),
                    why_not: NotChosen::from(why),
                })
                .collect(),
        }
    }
}

/// `why --not`
#[derive(Debug, Serialize, JsonSchema)]
pub struct WhyNotThat<'a> {
    id: &'a Id,
    version: &'a str,
    why_not: NotChosen<'a>,
    /// What was seen of it on this server, in words.
    learned: Vec<String>,
}

impl<'a> WhyNotThat<'a> {
    /// Why a component is not at a version.
    pub fn new(
        id: &'a Id,
        version: &'a Version,
        why: &'a WhyNot,
        learned: Vec<String>,
    ) -> WhyNotThat<'a> {
        WhyNotThat {
            id,
            version: version.as_str(),
            why_not: NotChosen::from(why),
            learned,
        }
    }
}

/// Why a release was not chosen.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "is")]
enum NotChosen<'a> {
    Chosen,
    Unknown { known: Vec<&'a str> },
    Impossible { told: &'a str },
    LessGood { then: Vec<IdTo<'a>> },
}

#[derive(Debug, Serialize, JsonSchema)]
struct IdTo<'a> {
    id: &'a Id,
    to: &'a str,
}

impl<'a> From<&'a WhyNot> for NotChosen<'a> {
    fn from(why: &'a WhyNot) -> NotChosen<'a> {
        let to = |choice: &'a Choice| IdTo {
            id: &choice.id,
            to: choice.to.as_str(),
        };
        match why {
            WhyNot::Chosen => NotChosen::Chosen,
            WhyNot::Unknown(known) => NotChosen::Unknown {
                known: known.iter().map(Version::as_str).collect(),
            },
            WhyNot::Impossible(_, told) => NotChosen::Impossible { told },
            WhyNot::Otherwise(choices) => NotChosen::LessGood {
                then: choices.iter().map(to).collect(),
            },
        }
    }
}
