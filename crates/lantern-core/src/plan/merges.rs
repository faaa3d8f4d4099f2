//! What becomes of files that both the administrator and a release have changed; and what samples say anew.

use super::Payload;
use super::draw::Drawing;
use crate::component::Id;
use crate::offer::Offer;
use crate::path::RelPath;
use crate::settings::{Answer, Counts, Question, Standing, Subject, compare};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A file of a component that was edited by hand, and comes with another release.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FileMerge {
    /// The file.
    pub path: RelPath,
    /// The component.
    pub component: Id,
    /// Whether only what was changed since adoption is known to be yours.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub since_adoption: bool,
    /// How many of each.
    pub counts: Counts,
    /// What both have changed, decided or not.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub questions: Vec<Asked>,
}

/// Something that both have changed, each in another way.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Asked {
    /// By which it is decided.
    pub id: String,
    /// The key of the value; none where it is lines, or the whole file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// Whether it is the whole file.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub whole: bool,
    /// Whether it is a secret: then it is not said what the texts say.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub secret: bool,
    /// What was shipped before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// What you have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mine: Option<String>,
    /// What is shipped now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub theirs: Option<String>,
    /// The lines, from 1, in what was shipped before, in yours and in what is shipped now; none where it is missing.
    pub lines: [Option<usize>; 3],
    /// What was decided.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decided: Option<Decided>,
}

/// What was decided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Decided {
    /// As you have it.
    Mine,
    /// As it is shipped now.
    Theirs,
    /// This value.
    Value(String),
    /// The text as you have written it since.
    Edited,
}

impl From<&Answer> for Decided {
    fn from(answer: &Answer) -> Decided {
        match answer {
            Answer::Mine => Decided::Mine,
            Answer::Theirs => Decided::Theirs,
            Answer::Value(value) => Decided::Value(value.clone()),
            Answer::Text(_) => Decided::Edited,
        }
    }
}

impl Asked {
    /// Whether nothing can be done before it is decided: of a value, yours stays until then.
    pub fn is_open(&self) -> bool {
        self.decided.is_none() && self.key.is_none()
    }
}

impl From<Question> for Asked {
    fn from(question: Question) -> Asked {
        Asked {
            key: match &question.subject {
                Subject::Value(key) => Some(key.to_string()),
                Subject::Block | Subject::Whole => None,
            },
            whole: question.subject == Subject::Whole,
            decided: question.answer.as_ref().map(Decided::from),
            id: question.id,
            secret: question.is_secret,
            before: question.before,
            mine: question.mine,
            theirs: question.theirs,
            lines: question.lines,
        }
    }
}

impl Drawing<'_> {
    /// Settings that come anew over what was found at adoption: nobody knows what of that was his.
    pub(super) fn tell_unsure(&mut self) {
        let components = &self.situation.inventory.components;
        // What a component says of itself is no setting.
        let is_descriptor = |path: &RelPath| {
            let mut owners = components
                .iter()
                .filter(|it| it.files.iter().any(|file| file.path == *path));
            owners.any(|owner| {
                let below = owner
                    .place
                    .as_ref()
                    .and_then(|place| path.below(place.as_str()));
                let mut readers = self.situation.family.readers.iter();
                let reader = readers.find(|reader| reader.name == owner.reader);
                let files = reader.map_or(&[][..], |reader| &reader.files);
                below.is_some_and(|below| files.iter().any(|file| file.name.lead_to(below)))
            })
        };
        self.unsure.retain(|path| !is_descriptor(path));
        let Some(first) = self.unsure.first() else {
            return;
        };
        let named = self.unsure[..self.unsure.len().min(3)]
            .iter()
            .map(RelPath::as_str);
        let named = named.collect::<Vec<_>>().join(", ");
        let more = match self.unsure.len().saturating_sub(3) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        self.notes.push(format!(
            "replaced by the new release, and nobody knows what you had changed in them before adoption: {named}{more}; \
             see: lantern settings compare {first}"
        ));
    }

    /// A sample of settings of the place that comes changed is worth a look.
    pub(super) fn tell_samples(&mut self, moving: &[(&Offer, &Payload)]) {
        for seen in self.situation.samples {
            let mut texts = moving
                .iter()
                .filter_map(|(_, payload)| payload.texts.get(&seen.sample));
            let Some(now) = texts.next() else {
                continue;
            };
            let manner = self.situation.family.manner(&seen.file);
            let Some(notation) = &manner.notation else {
                continue;
            };
            let texts = (seen.mine.as_str(), Some(seen.before.as_str()), now.as_str());
            let Ok(values) = compare(&manner, notation, texts.0, texts.1, texts.2) else {
                continue;
            };
            let of = |standing| values.iter().filter(|it| it.standing == standing).count();
            let before = compare(&manner, notation, texts.0, None, seen.before.as_str());
            let known = before.map(|values| {
                values
                    .into_iter()
                    .filter(|it| it.standing == Standing::New)
                    .count()
            });
            let new = of(Standing::New).saturating_sub(known.unwrap_or(0));
            let many = |n: usize, what: &str| {
                (n > 0).then(|| match n {
                    1 => format!("1 {what} value"),
                    n => format!("{n} {what} values"),
                })
            };
            let told = [
                many(new, "new"),
                many(of(Standing::Changed) + of(Standing::Both), "changed"),
                many(of(Standing::Gone), "removed"),
            ];
            let told: Vec<String> = told.into_iter().flatten().collect();
            if !told.is_empty() {
                let of_file = self.situation.samples.iter();
                let which = match of_file.filter(|it| it.file == seen.file).count() {
                    1 => String::new(),
                    _ => format!(" {}", seen.sample),
                };
                self.notes.push(format!(
                    "{}: its sample {} has {}; see: lantern settings compare {}{which}",
                    seen.file,
                    seen.sample,
                    told.join(", "),
                    seen.file
                ));
            }
        }
    }
}
