//! What is made of the facts that a descriptor states.

use super::lookups::Lookups;
use super::{Described, DescriptorFault, Holdings, VersionFrom};
use crate::component::{Id, Kind, Need};
use crate::facts::{Facts, Misread, Reading, Source};
use crate::family::Glob;
use crate::path::RelPath;
use crate::version::{Range, Version};
use std::fmt::Display;

/// The longest id, in bytes.
const LONGEST_ID: usize = 200;

impl Source for Lookups<'_> {
    fn text(&self, field: &str) -> Option<String> {
        let text = self.text_of(self.rule(field))?;
        let meant = self
            .meant
            .and_then(|meant| meant.words.get(field)?.get(&text));
        Some(meant.cloned().unwrap_or(text))
    }

    fn pairs(&self, field: &str) -> Result<Vec<(String, String)>, Misread> {
        self.pairs_of(self.rule(field))
    }
}

impl Lookups<'_> {
    pub(crate) fn described(
        &self,
        reading: &mut Reading<'_>,
    ) -> Result<Described, DescriptorFault> {
        let described = self.described_anyhow(reading)?;
        match described.unread_version {
            Some(fault) => Err(fault),
            None => Ok(described),
        }
    }

    /// With a version that makes no sense as with none.
    pub(super) fn described_anyhow(
        &self,
        reading: &mut Reading<'_>,
    ) -> Result<Described, DescriptorFault> {
        self.read(reading).map_err(|misread| self.located(misread))
    }

    fn read(&self, reading: &mut Reading<'_>) -> Result<Described, Misread> {
        let (reader, family) = (self.subject.reader, self.subject.family);
        let id = self.text("id");
        let id = id.as_deref().unwrap_or_else(|| self.subject.stem());
        let id = match self.meant.and_then(|meant| meant.ids.get(id)) {
            Some(ours) => ours.clone(),
            None => family.ids.spell(id),
        };
        let is_odd = id.chars().any(|c| c.is_control() || "/\\".contains(c));
        if id.is_empty() || id.len() > LONGEST_ID || is_odd {
            return Err(Misread::new(&id, format!("the id {id:?} cannot be used")));
        }
        let (version, version_from, unread_version) = match self.version(reader.kind) {
            Ok((version, from)) => (version, from, None),
            Err(misread) => {
                let content = Version::of_content(self.subject.content);
                (content, VersionFrom::Content, Some(self.located(misread)))
            }
        };
        let mut facts = Facts::of_fields(Id::new(&id), reader.kind, version, self, reading)?;
        for (id, version) in self.pairs("pins")? {
            let exact = made(&version, family.versions.version(false, &version))?;
            facts.needs.push(Need {
                id: Id::new(&id),
                range: Range::exactly(exact),
            });
        }
        // A file of another component that it names is a need of that one, in any version.
        for (id, _) in self.pairs("refers")? {
            let need = Need {
                id: Id::new(&id),
                range: Range::any(),
            };
            if need.id != facts.id && !facts.needs.iter().any(|known| known.id == need.id) {
                facts.needs.push(need);
            }
        }
        Ok(Described {
            facts,
            holdings: self.holdings()?,
            version_from,
            unread_version,
        })
    }

    fn version(&self, kind: Kind) -> Result<(Version, VersionFrom), Misread> {
        let Some(text) = self.text("version") else {
            let content = Version::of_content(self.subject.content);
            return Ok((content, VersionFrom::Content));
        };
        let at = self.first(self.rule("version"));
        let at = at.and_then(|(lookup, _)| lookup.at.as_ref()?.key());
        let from = match at.is_some_and(|at| at.starts_with('$')) {
            true => VersionFrom::FileName,
            false => VersionFrom::Descriptor,
        };
        if was_never_filled_in(&text) {
            let why = format!("{text:?} is not a version: it was never filled in");
            return Err(Misread::new(&text, why));
        }
        let notations = &self.subject.family.versions;
        let read = notations.version(kind == Kind::Build, &text);
        Ok((made(&text, read)?, from))
    }

    pub(super) fn holdings(&self) -> Result<Holdings, Misread> {
        let texts = |field| -> Result<Vec<String>, Misread> {
            let pairs = self.raw_pairs_of(self.rule(field))?.into_iter();
            Ok(pairs.map(|(text, _)| text).collect())
        };
        let path = |text: &str| made(text, RelPath::parse(text));
        let data = self.text("data");
        let overlay = self.raw_pairs_of(self.rule("overlay"))?.into_iter();
        let overlay = overlay.map(|(text, hash)| Ok((path(&text)?, hash)));
        let owns = texts("owns")?;
        let keep = texts("keep")?;
        for pattern in &keep {
            made(pattern, Glob::new(pattern))?;
        }
        let members = self.pairs("members")?.into_iter();
        Ok(Holdings {
            data: data.map(|text| path(&text)).transpose()?,
            overlay: overlay.collect::<Result<_, Misread>>()?,
            owns: owns
                .iter()
                .map(|text| path(text))
                .collect::<Result<_, _>>()?,
            keep,
            members: members.map(|(id, _)| Id::new(&id)).collect(),
            variants: texts("variants")?,
        })
    }
}

/// Whether a text is the place for a version that a build tool was to put there: `${version}`, `@version@`, `%version%`.
fn was_never_filled_in(text: &str) -> bool {
    let between = |mark: char| {
        let inside = text
            .strip_prefix(mark)
            .and_then(|rest| rest.strip_suffix(mark));
        inside.is_some_and(|inside| !inside.is_empty())
    };
    text.contains("${") || text.contains("{{") || between('@') || between('%')
}

/// What was read, or the text that could not be.
fn made<T, E: Display>(text: &str, read: Result<T, E>) -> Result<T, Misread> {
    read.map_err(|error| Misread::new(text, error))
}
