//! What is made of the facts that a descriptor states.

use super::source::Source;
use super::{Described, DescriptorFault, Holdings, Subject, VersionFrom};
use crate::component::{BuildFacts, Effect, Facts, Id, Kind, Need, Provided, Side, Terms};
use crate::family::{FieldRule, Glob, Reader};
use crate::path::RelPath;
use crate::version::{Range, Version};
use std::collections::BTreeMap;

impl Source<'_> {
    pub(super) fn described(&self) -> Result<Described, DescriptorFault> {
        let Subject { reader, family, .. } = self.subject;
        let (fields, notations) = (&reader.fields, &family.versions);
        let id = self.text(&fields.id);
        let id = family
            .ids
            .spell(id.as_deref().unwrap_or_else(|| self.subject.stem()));
        if id.is_empty()
            || id.len() > 200
            || id.chars().any(|c| c.is_control() || "/\\".contains(c))
        {
            return Err(self.fault(&id, format!("the id {id:?} cannot be used")));
        }
        let (version, version_from) = match self.text(&fields.version) {
            Some(text) => {
                let by_name = self
                    .first(&fields.version)
                    .and_then(|(lookup, _)| lookup.at.as_deref())
                    .is_some_and(|at| at.starts_with('$'));
                let from = if by_name {
                    VersionFrom::FileName
                } else {
                    VersionFrom::Descriptor
                };
                (
                    self.made(&text, notations.version(reader.kind, &text))?,
                    from,
                )
            }
            None => (
                Version::of_content(self.subject.content),
                VersionFrom::Content,
            ),
        };
        let range = |rule| -> Result<_, DescriptorFault> {
            let text = self.text(rule);
            let read = text.map(|text| self.made(&text, notations.range(&text)));
            read.transpose()
        };
        let server = match self.text(&fields.server) {
            Some(text) => Some(self.made(&text, notations.server_range(&text))?),
            None => None,
        };
        let side = self.one_of(&fields.side, Side::read, "server, client, both")?;
        let effect = self.one_of(&fields.effect, Effect::read, "play, admin")?;
        let world_bound = self.one_of(&fields.world_bound, truth, "true, false")?;
        let slots = self.slots(&fields.slots)?;
        let is_build = reader.kind == Kind::Build;
        let mut terms = Terms {
            framework: range(&fields.framework)?,
            replaces: self.ids(&fields.replaces)?,
            before: self.ids(&fields.before)?,
            after: self.ids(&fields.after)?,
            group: self.text(&fields.group),
            ..Terms::default()
        };
        let mut build = BuildFacts::default();
        if is_build {
            let runtime = self.text(&fields.runtime);
            let runtime =
                runtime.map(|text| self.made(&text, notations.version(Kind::Addon, &text)));
            build.runtime = runtime.transpose()?;
            build.flavours = self
                .ids(&fields.flavour)?
                .into_iter()
                .map(String::from)
                .collect();
            build.has = slots;
        } else {
            terms.runtime = range(&fields.runtime)?;
            terms.flavour = self.text(&fields.flavour);
            terms.takes = slots;
        }
        let holdings = self.holdings(reader)?;
        let mut needs = self.needs(&fields.needs)?;
        for (id, version) in self.pairs(&fields.pins)? {
            let exact = self.made(&version, notations.version(Kind::Addon, &version))?;
            needs.push(Need {
                id: Id::new(&id),
                range: Range::exactly(exact),
            });
        }
        let facts = Facts {
            title: self.text(&fields.title),
            server,
            needs,
            uses: self.needs(&fields.uses)?,
            clashes: self.needs(&fields.clashes)?,
            provides: self.provides(&fields.provides)?,
            side,
            effect,
            world_bound,
            terms,
            build,
            ..Facts::new(Id::new(&id), reader.kind, version)
        };
        Ok(Described {
            facts,
            holdings,
            version_from,
        })
    }

    fn holdings(&self, reader: &Reader) -> Result<Holdings, DescriptorFault> {
        let fields = &reader.fields;
        let path = |text: &str| self.made(text, RelPath::parse(text));
        let data = self.text(&fields.data);
        let overlay = self.raw_pairs(&fields.overlay)?.into_iter();
        let owns = self.raw_pairs(&fields.owns)?.into_iter();
        let variants = self.raw_pairs(&fields.variants)?.into_iter();
        Ok(Holdings {
            data: data.map(|text| path(&text)).transpose()?,
            overlay: overlay
                .map(|(text, hash)| Ok((path(&text)?, hash)))
                .collect::<Result<_, _>>()?,
            owns: owns
                .map(|(text, _)| path(&text))
                .collect::<Result<_, _>>()?,
            keep: self.patterns(&fields.keep)?,
            members: self.ids(&fields.members)?,
            variants: variants.map(|(name, _)| name).collect(),
        })
    }

    fn patterns(&self, rule: &FieldRule) -> Result<Vec<String>, DescriptorFault> {
        let patterns = self.raw_pairs(rule)?.into_iter().map(|(text, _)| {
            self.made(&text, Glob::new(&text))?;
            Ok(text)
        });
        patterns.collect()
    }

    fn one_of<T>(
        &self,
        rule: &FieldRule,
        read: impl Fn(&str) -> Option<T>,
        words: &str,
    ) -> Result<Option<T>, DescriptorFault> {
        let Some(text) = self.text(rule) else {
            return Ok(None);
        };
        match read(&text) {
            Some(value) => Ok(Some(value)),
            None => Err(self.fault(&text, format!("{text:?} is none of {words}"))),
        }
    }

    fn needs(&self, rule: &FieldRule) -> Result<Vec<Need>, DescriptorFault> {
        let notations = &self.subject.family.versions;
        let needs = self.pairs(rule)?.into_iter().map(|(id, range)| {
            let read = notations.range(&range);
            Ok(Need {
                range: read.map_err(|error| self.fault(&id, format!("{id}: {error}")))?,
                id: Id::new(&id),
            })
        });
        needs.collect()
    }

    fn ids(&self, rule: &FieldRule) -> Result<Vec<Id>, DescriptorFault> {
        let pairs = self.pairs(rule)?.into_iter();
        Ok(pairs.map(|(id, _)| Id::new(&id)).collect())
    }

    fn provides(&self, rule: &FieldRule) -> Result<Vec<Provided>, DescriptorFault> {
        let notations = &self.subject.family.versions;
        let provided = self.pairs(rule)?.into_iter().map(|(id, text)| {
            let version = match text.as_str() {
                "" | "*" => None,
                text => Some(self.made(text, notations.version(Kind::Addon, text))?),
            };
            Ok(Provided {
                id: Id::new(&id),
                version,
            })
        });
        provided.collect()
    }

    fn slots(&self, rule: &FieldRule) -> Result<BTreeMap<String, u64>, DescriptorFault> {
        let slots = self.pairs(rule)?.into_iter().map(|(kind, number)| {
            let read = number.parse().map_err(|_| {
                self.fault(&number, format!("{kind}: {number:?} is no number of slots"))
            });
            Ok((kind, read?))
        });
        slots.collect()
    }
}

fn truth(text: &str) -> Option<bool> {
    match text {
        "true" | "yes" | "1" => Some(true),
        "false" | "no" | "0" => Some(false),
        _ => None,
    }
}
