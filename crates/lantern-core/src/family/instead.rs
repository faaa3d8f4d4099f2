//! Several servers of one install: each has paths of its own in place of some that the family names.

use super::{Family, Glob, Globs};
use crate::path::RelPath;
use std::collections::{BTreeMap, BTreeSet};

/// By a path that the family names, or the beginning of several, what one server has in its place.
pub type Instead = BTreeMap<String, String>;

/// Which paths of an install are one server's own, and which are another's; by default there is only one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Ground {
    own: Vec<String>,
    others: Vec<String>,
}

impl Ground {
    /// That of one server, by what it and the others have in place of the family's paths, and keep besides.
    pub fn of(one: (&Instead, &[Glob]), others: &[(&Instead, &[Glob])]) -> Ground {
        let all = others.iter().flat_map(|(instead, _)| instead.keys());
        let keys: BTreeSet<&String> = one.0.keys().chain(all).collect();
        let of = |(instead, keep): (&Instead, &[Glob])| {
            let each = keys.iter();
            let each = each.map(|key| instead.get(*key).unwrap_or(key).clone());
            let kept = keep
                .iter()
                .map(|glob| glob.as_str().trim_end_matches("/**").to_owned());
            each.chain(kept).collect::<Vec<String>>()
        };
        let own = of(one);
        let others = others.iter().flat_map(|other| of(*other));
        Ground {
            others: others.filter(|path| !own.contains(path)).collect(),
            own,
        }
    }

    /// Whether a path is another server's.
    pub fn is_elsewhere(&self, path: &str) -> bool {
        deepest(&self.others, path) > deepest(&self.own, path)
    }

    /// Whether a path is this server's, and no other's.
    pub fn is_own(&self, path: &str) -> bool {
        deepest(&self.own, path) > deepest(&self.others, path)
    }

    /// Whether no server has a path to itself.
    pub fn is_common(&self, path: &RelPath) -> bool {
        !self.is_own(path.as_str()) && !self.is_elsewhere(path.as_str())
    }
}

/// How long the longest of some paths is that a path is, or lies in; none where it lies in none.
fn deepest(folders: &[String], path: &str) -> Option<usize> {
    let within = folders.iter().filter(|folder| {
        let rest = path.strip_prefix(folder.as_str());
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    });
    within.map(String::len).max()
}

/// What stands for a path; none where it is the family's own.
fn instead_of(text: &str, instead: &Instead) -> Option<String> {
    let (dot, text) = match text.strip_prefix("./") {
        Some(rest) => ("./", rest),
        None => ("", text),
    };
    let keys = instead.iter().filter_map(|(key, other)| {
        let rest = text.strip_prefix(key.as_str())?;
        (rest.is_empty() || rest.starts_with('/')).then_some((key, other, rest))
    });
    let (_, other, rest) = keys.max_by_key(|(key, ..)| key.len())?;
    Some(format!("{dot}{other}{rest}"))
}

fn glob_of(glob: &Glob, instead: &Instead) -> Result<Option<Glob>, String> {
    let other = instead_of(glob.as_str(), instead);
    other.map(|text| Glob::new(&text)).transpose()
}

/// Patterns as one server has them.
fn of_one(globs: &Globs, instead: &Instead) -> Result<Globs, String> {
    let each = globs.0.iter();
    let each = each.map(|glob| Ok(glob_of(glob, instead)?.unwrap_or_else(|| glob.clone())));
    each.collect::<Result<_, String>>().map(Globs)
}

/// Adds what servers have in the place of these patterns.
fn extend(globs: &mut Vec<Glob>, servers: &[&Instead]) -> Result<(), String> {
    let mut more = Vec::new();
    for glob in globs.iter() {
        for instead in servers {
            more.extend(glob_of(glob, instead)?);
        }
    }
    globs.extend(more);
    Ok(())
}

impl Family {
    /// Every path that it names and that a server may have another one in place of.
    pub(crate) fn paths(&self) -> BTreeSet<&str> {
        let order = self.order.iter().flat_map(|order| order.file.texts());
        let console = &self.console;
        let ports = console.port.iter().chain(&console.more_ports);
        let layout = &self.layout;
        let kept = [
            &layout.keep,
            &layout.passing,
            &layout.settings,
            &layout.data,
        ];
        let words = self.launch.command.iter().map(String::as_str);
        order
            .chain(ports.map(|port| port.file.as_str()))
            .chain(console.settings.iter().map(|it| it.file.as_str()))
            .chain(self.flags.iter().flat_map(|flag| flag.file.texts()))
            .chain(self.pins.iter().flat_map(|pin| pin.file.texts()))
            .chain(self.also.iter().flat_map(|also| also.file.texts()))
            .chain(kept.into_iter().flatten().map(Glob::as_str))
            .chain(self.readers.iter().flat_map(|reader| reader.at.texts()))
            .chain(words.map(|word| word.trim_start_matches("./")))
            .chain(self.launch.scripts.texts())
            .collect()
    }

    /// The first key that stands for no path of this family's.
    pub fn names_none<'i>(&self, instead: &'i Instead) -> Option<&'i str> {
        let paths = self.paths();
        let mut keys = instead.iter();
        let none = keys.find(|(key, other)| {
            let alone = Instead::from([((*key).clone(), (*other).clone())]);
            paths.iter().all(|path| instead_of(path, &alone).is_none())
        });
        none.map(|(key, _)| key.as_str())
    }

    /// The family as one of several servers has it: how it is started, where its load order, its settings and its ports
    /// stand. What belongs to the install stays as it is.
    ///
    /// # Errors
    /// When what stands for a path is no pattern.
    pub fn as_one(&self, instead: &Instead) -> Result<Family, String> {
        let mut family = self.clone();
        if let Some(order) = &mut family.order {
            order.file = of_one(&order.file, instead)?;
        }
        for flag in &mut family.flags {
            flag.file = of_one(&flag.file, instead)?;
        }
        for pin in &mut family.pins {
            pin.file = of_one(&pin.file, instead)?;
        }
        for also in &mut family.also {
            also.file = of_one(&also.file, instead)?;
        }
        family.launch.scripts = of_one(&family.launch.scripts, instead)?;
        let console = &mut family.console;
        let ports = console.port.iter_mut().chain(&mut console.more_ports);
        let files = ports.map(|port| &mut port.file);
        let files = files.chain(console.settings.iter_mut().map(|it| &mut it.file));
        for path in files.chain(&mut family.launch.command) {
            *path = instead_of(path, instead).unwrap_or_else(|| path.clone());
        }
        Ok(family)
    }

    /// The family of an install that several servers run on: it knows the paths of all of them.
    ///
    /// # Errors
    /// When what stands for a path is no pattern.
    pub fn as_all(&self, servers: &[&Instead]) -> Result<Family, String> {
        let mut family = self.clone();
        let layout = &mut family.layout;
        let kept = [
            &mut layout.keep,
            &mut layout.passing,
            &mut layout.settings,
            &mut layout.data,
        ];
        let readers = family.readers.iter_mut().map(|reader| &mut reader.at.0);
        let order = family.order.iter_mut().map(|order| &mut order.file.0);
        let flags = family.flags.iter_mut().map(|flag| &mut flag.file.0);
        let pins = family.pins.iter_mut().map(|pin| &mut pin.file.0);
        let also = family.also.iter_mut().map(|also| &mut also.file.0);
        let scripts = &mut family.launch.scripts.0;
        for word in &family.launch.command {
            let others = servers.iter().filter_map(|it| instead_of(word, it));
            for other in others {
                scripts.push(Glob::new(other.trim_start_matches("./"))?);
            }
        }
        for globs in kept
            .into_iter()
            .chain(readers)
            .chain(order)
            .chain(flags)
            .chain(pins)
            .chain(also)
            .chain([scripts])
        {
            extend(globs, servers)?;
        }
        Ok(family)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_longest_beginning_counts_and_only_whole_names() {
        let instead = Instead::from(
            [
                ("worlds", "w"),
                ("worlds/*", "worlds/east"),
                ("go.sh", "go-east.sh"),
            ]
            .map(|(a, b)| (a.to_owned(), b.to_owned())),
        );
        for (path, other) in [
            ("worlds/*/order", Some("worlds/east/order")),
            ("worlds/**", Some("w/**")),
            ("worldsize", None),
            ("./go.sh", Some("./go-east.sh")),
            ("go.sh.bak", None),
        ] {
            assert_eq!(instead_of(path, &instead).as_deref(), other, "{path}");
        }
    }

    #[test]
    fn one_has_its_own_paths_and_the_install_knows_all() {
        let family = Family::parse(super::super::tests::SMALL).unwrap();
        let east = Instead::from([("world".to_owned(), "east".to_owned())]);
        let one = family.as_one(&east).unwrap();
        let order = one.order.as_ref().unwrap();
        assert_eq!(order.file.texts().collect::<Vec<_>>(), ["east/*.mt"]);
        assert!(
            one.keeps("world/map.db"),
            "what belongs to the install stays"
        );
        let all = family.as_all(&[&east]).unwrap();
        assert!(all.keeps("world/map.db") && all.keeps("east/map.db"));
        assert!(!all.keeps("world/flags.mt") && !all.keeps("east/flags.mt"));
        assert_eq!(family.names_none(&east), None);
        let astray = Instead::from([("wrld".to_owned(), "east".to_owned())]);
        assert_eq!(family.names_none(&astray), Some("wrld"));
    }
}
