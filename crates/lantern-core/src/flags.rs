//! Settings that follow from facts: whether a server is listed as modded, which build it says it is, how many slots it
//! shows.

use crate::component::{Effect, Id, Kind};
use crate::facts::Facts;
use crate::family::{Family, Flag, FlagFrom};
use crate::path::RelPath;
use crate::text::Text;
use std::collections::BTreeMap;

/// So many components are named in a reason.
const NAMED: usize = 4;

/// What a flag has to be, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// The value.
    pub value: String,
    /// Why, as a clause.
    pub why: String,
}

/// A flag as it stands in a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FlagSeen {
    /// What people call it.
    pub name: String,
    /// The file.
    pub path: RelPath,
    /// Its line, from 1; none where the file has no such line.
    pub line: Option<usize>,
    /// What stands there.
    pub value: Option<String>,
    /// What has to.
    pub wanted: Wanted,
}

impl FlagSeen {
    /// Whether it says what it has to.
    pub fn is_right(&self) -> bool {
        self.value.as_ref() == Some(&self.wanted.value)
    }
}

/// What a flag has to be with these components running; none where what it follows from is not known. `effects` are the
/// administrator's own words on what add-ons change.
pub fn wanted<'a>(
    flag: &Flag,
    running: impl Iterator<Item = &'a Facts>,
    effects: &BTreeMap<Id, Effect>,
) -> Option<Wanted> {
    let running: Vec<&Facts> = running.collect();
    let listed = |facts: &[&Facts]| {
        let names: Vec<&str> = facts.iter().take(NAMED).map(|it| it.id.as_str()).collect();
        let more = facts.len().saturating_sub(NAMED);
        match more {
            0 => names.join(", "),
            more => format!("{} and {more} more", names.join(", ")),
        }
    };
    let either = |yes: bool, why: String| Wanted {
        value: if yes {
            flag.yes.clone()
        } else {
            flag.no.clone()
        },
        why,
    };
    Some(match &flag.follows {
        FlagFrom::Effect(effect) => {
            let addons = running.iter().filter(|facts| facts.kind == Kind::Addon);
            let of = |facts: &&&Facts| effects.get(&facts.id).copied().or(facts.effect);
            let stated: Vec<&Facts> = addons
                .clone()
                .filter(|it| of(it) == Some(*effect))
                .copied()
                .collect();
            let unknown: Vec<&Facts> = addons.filter(|it| of(it).is_none()).copied().collect();
            let changes = match effect {
                Effect::Play => "changes play",
                Effect::Admin => "is for administrators",
            };
            match (stated.is_empty(), unknown.is_empty()) {
                (false, _) => either(true, format!("{} {changes}", listed(&stated))),
                // What nobody declared counts as the stronger claim.
                (true, false) if *effect == Effect::Play => either(
                    true,
                    format!(
                        "nobody declared whether {} {changes}, so that counts as if",
                        listed(&unknown)
                    ),
                ),
                (true, _) => either(false, format!("nothing that runs {changes}")),
            }
        }
        FlagFrom::Component(id) => {
            let runs = running.iter().any(|facts| facts.id == *id);
            let is = if runs {
                "is installed and runs"
            } else {
                "does not run"
            };
            either(runs, format!("{id} {is}"))
        }
        // It says what it says but while an operation is under way.
        FlagFrom::Changeover => return None,
        FlagFrom::Version(kind) => {
            let of = running.iter().find(|facts| facts.kind == *kind)?;
            Wanted {
                value: flag.yes.replace("{}", of.version.as_str()),
                why: format!("{} is {}", of.id, of.version),
            }
        }
        FlagFrom::Slots(kind) => {
            let takes = |facts: &&Facts| facts.takes.get(kind).copied().unwrap_or(0);
            let those: Vec<&Facts> = running.iter().filter(|it| takes(it) > 0).copied().collect();
            let sum: u64 = those.iter().map(takes).fold(0, u64::saturating_add);
            Wanted {
                value: flag.yes.replace("{}", &sum.to_string()),
                why: match those.is_empty() {
                    true => format!("nothing that runs takes {kind}"),
                    false => format!("{} together take {sum} {kind}", listed(&those)),
                },
            }
        }
    })
}

/// The flags of a family as they stand in its files.
pub fn seen<'a>(
    family: &Family,
    texts: impl Iterator<Item = (&'a RelPath, &'a Text)> + Clone,
    running: impl Iterator<Item = &'a Facts> + Clone,
    effects: &BTreeMap<Id, Effect>,
) -> Vec<FlagSeen> {
    let mut all = Vec::new();
    for flag in &family.flags {
        let Some(wanted) = wanted(flag, running.clone(), effects) else {
            continue;
        };
        for (path, text) in texts
            .clone()
            .filter(|(path, _)| flag.file.matches(path.as_str()))
        {
            let spot = flag.spot(family, path);
            let found = spot.and_then(|spot| spot.says(text.as_str()));
            all.push(FlagSeen {
                name: flag.name.clone(),
                path: path.clone(),
                line: found.as_ref().map(|(_, line)| *line),
                value: found.map(|(value, _)| value),
                wanted: wanted.clone(),
            });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::resolve::tests::facts;

    fn flag(follows: &str) -> Flag {
        let text = format!(
            "name='listed'\nfile='x'\nline='(?P<value>x)'\nyes='on {{}}'\nno='off'\nfollows={follows}"
        );
        toml_edit::de::from_str(&text).unwrap()
    }

    #[test]
    fn a_flag_follows_from_what_runs() {
        let play = |id: &str, effect: Option<Effect>| Facts {
            effect,
            ..facts(&format!("{id} 1"))
        };
        let admin = play("watch", Some(Effect::Admin));
        let bees = play("bees", Some(Effect::Play));
        let fern = play("fern", None);
        let told = |follows: &str, running: &[&Facts], effects: &[(&str, Effect)]| {
            let effects = effects
                .iter()
                .map(|(id, effect)| (Id::new(id), *effect))
                .collect();
            let wanted = wanted(&flag(follows), running.iter().copied(), &effects);
            wanted.map_or("unknown".into(), |it| format!("{}: {}", it.value, it.why))
        };
        let effect = "{ effect = 'play' }";
        assert_eq!(
            told(effect, &[&admin], &[]),
            "off: nothing that runs changes play"
        );
        assert_eq!(
            told(effect, &[&admin, &bees, &fern], &[]),
            "on {}: bees changes play"
        );
        assert_eq!(
            told(effect, &[&admin, &fern], &[]),
            "on {}: nobody declared whether fern changes play, so that counts as if"
        );
        assert_eq!(
            told(effect, &[&admin, &fern], &[("fern", Effect::Admin)]),
            "off: nothing that runs changes play"
        );
        assert_eq!(
            told("{ component = 'bees' }", &[&bees], &[]),
            "on {}: bees is installed and runs"
        );
        assert_eq!(
            told("{ component = 'bees' }", &[], &[]),
            "off: bees does not run"
        );
        let server = facts("server 5.4");
        assert_eq!(
            told("{ version = 'build' }", &[&server], &[]),
            "on 5.4: server is 5.4"
        );
        assert_eq!(told("{ version = 'build' }", &[], &[]), "unknown");
        let leaf = facts("leaf 1 takes skins:3");
        let twig = facts("twig 1 takes skins:2");
        assert_eq!(
            told("{ slots = 'skins' }", &[&leaf, &twig, &bees], &[]),
            "on 5: leaf, twig together take 5 skins"
        );
        assert_eq!(
            told("{ slots = 'skins' }", &[], &[]),
            "on 0: nothing that runs takes skins"
        );
    }
}
