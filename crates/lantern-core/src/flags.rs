//! Settings that follow from facts: whether a server is listed as modded, which build it says it is, how many slots it
//! shows, the hash of what players fetch.

use crate::component::{Effect, Id, Kind};
use crate::facts::Facts;
use crate::family::{Family, Flag, FlagFrom};
use crate::path::RelPath;
use crate::supply::Checksum;
use crate::text::Text;
use std::collections::BTreeMap;

/// So many components are named in a reason.
const NAMED: usize = 4;

/// The files of which flags may name a hash, with the hashes that were taken of each, BLAKE3 among them; none where it is not known.
pub type NamedHashes = BTreeMap<RelPath, Vec<Checksum>>;

/// What flags follow from.
#[derive(Debug, Clone)]
pub struct Basis<'a> {
    /// What is installed and runs.
    pub running: Vec<&'a Facts>,
    /// The administrator's own words on what add-ons change.
    pub effects: &'a BTreeMap<Id, Effect>,
    /// Of files whose hash is named.
    pub hashes: &'a NamedHashes,
}

/// What a flag has to be, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// The value.
    pub value: String,
    /// Why, as a clause.
    pub why: String,
    /// Whether capital letters say the same.
    any_case: bool,
}

impl Wanted {
    fn new(value: String, why: String) -> Wanted {
        Wanted {
            value,
            why,
            any_case: false,
        }
    }

    /// Whether this is what it has to say.
    pub fn is_said_by(&self, value: &str) -> bool {
        match self.any_case {
            true => value.eq_ignore_ascii_case(&self.value),
            false => value == self.value,
        }
    }
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
        let value = self.value.as_ref();
        value.is_some_and(|value| self.wanted.is_said_by(value))
    }
}

/// What a flag has to be; none where what it follows from is not known.
pub fn wanted(flag: &Flag, basis: &Basis<'_>) -> Option<Wanted> {
    let Basis {
        running,
        effects,
        hashes,
    } = basis;
    let listed = |facts: &[&Facts]| {
        let names: Vec<&str> = facts.iter().take(NAMED).map(|it| it.id.as_str()).collect();
        let more = facts.len().saturating_sub(NAMED);
        match more {
            0 => names.join(", "),
            more => format!("{} and {more} more", names.join(", ")),
        }
    };
    let either = |yes: bool, why: String| {
        let value = if yes { &flag.yes } else { &flag.no };
        Wanted::new(value.clone(), why)
    };
    let filled = |value: &str, why: String| Wanted::new(flag.yes.replace("{}", value), why);
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
            filled(of.version.as_str(), format!("{} is {}", of.id, of.version))
        }
        FlagFrom::Slots(kind) => {
            let takes = |facts: &&Facts| facts.takes.get(kind).copied().unwrap_or(0);
            let those: Vec<&Facts> = running.iter().filter(|it| takes(it) > 0).copied().collect();
            let sum: u64 = those.iter().map(takes).fold(0, u64::saturating_add);
            let why = match those.is_empty() {
                true => format!("nothing that runs takes {kind}"),
                false => format!("{} together take {sum} {kind}", listed(&those)),
            };
            filled(&sum.to_string(), why)
        }
        FlagFrom::Hash { kind, of } => {
            let mut those = hashes.iter().filter(|(path, _)| of.matches(path.as_str()));
            // Of several, nobody knows which is meant.
            let ((path, taken), None) = (those.next()?, those.next()) else {
                return None;
            };
            let hash = taken.iter().find(|taken| taken.kind == *kind)?;
            let why = format!("that is the {kind} of {path}");
            Wanted {
                any_case: true,
                ..filled(&hash.hex, why)
            }
        }
    })
}

/// The flags of a family as they stand in its files.
pub fn seen<'a>(
    family: &Family,
    texts: impl Iterator<Item = (&'a RelPath, &'a Text)> + Clone,
    basis: &Basis<'_>,
) -> Vec<FlagSeen> {
    let mut all = Vec::new();
    for flag in &family.flags {
        let Some(wanted) = wanted(flag, basis) else {
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
    use crate::supply::HashKind;

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
            let basis = Basis {
                running: running.to_vec(),
                effects: &effects,
                hashes: &NamedHashes::new(),
            };
            let wanted = wanted(&flag(follows), &basis);
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
    #[test]
    fn a_flag_names_the_hash_of_one_file() {
        let told = |paths: &[&str], now: &str| {
            let hashes = paths.iter().map(|path| {
                if *path == "look/unread.pack" {
                    return (RelPath::parse(path).unwrap(), Vec::new());
                }
                let sums = [(HashKind::Blake3, "b3"), (HashKind::Sha1, "a9")];
                let sums = sums.map(|(kind, hex)| Checksum {
                    kind,
                    hex: hex.into(),
                });
                (RelPath::parse(path).unwrap(), sums.to_vec())
            });
            let basis = Basis {
                running: Vec::new(),
                effects: &BTreeMap::new(),
                hashes: &hashes.collect(),
            };
            let flag = flag("{ hash = { kind = 'sha1', of = 'look/*.pack' } }");
            let wanted = wanted(&flag, &basis)?;
            let is_right = wanted.is_said_by(now);
            Some((format!("{}: {}", wanted.value, wanted.why), is_right))
        };
        let one = "on a9: that is the sha1 of look/moss.pack".to_owned();
        assert_eq!(
            told(&["look/moss.pack"], "ON A9"),
            Some((one.clone(), true))
        );
        assert_eq!(told(&["look/moss.pack"], "on a8"), Some((one, false)));
        assert_eq!(told(&["look/moss.pack", "look/fern.pack"], ""), None);
        assert_eq!(told(&["look/moss.pack", "look/unread.pack"], ""), None);
        assert_eq!(told(&["look/unread.pack"], ""), None);
        assert_eq!(told(&["seen/moss.pack"], ""), None);
    }
}
