//! Where an add-on lies that is switched off: under another name, or in another folder, at which the server does not look.

use super::Globs;
use serde::{Deserialize, Deserializer};

/// The place of an add-on that is switched off, made of the place that it has otherwise: `{folder}/{name}.off`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parked {
    folder: Folder,
    before: String,
    behind: String,
}

/// The folder of what is parked.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Folder {
    /// The own folder, with this behind it: empty, `-off`, `/off`.
    Beside(String),
    /// One for all.
    Fixed(String),
}

/// Folder and name of a path; the folder is empty where it lies in none.
fn parted(path: &str) -> (&str, &str) {
    path.rsplit_once('/').unwrap_or(("", path))
}

fn joined(folder: &str, name: &str) -> String {
    match folder.trim_start_matches('/') {
        "" => name.to_owned(),
        folder => format!("{folder}/{name}"),
    }
}

impl Parked {
    /// Reads one.
    ///
    /// # Errors
    /// With what is wrong with it, in words.
    fn new(text: &str) -> Result<Parked, String> {
        let (folder, name) = match text.rsplit_once('/') {
            Some((folder, name)) => (folder, name),
            None => ("{folder}", text),
        };
        let name = name.split_once("{name}");
        let (before, behind) = name.ok_or("its last part holds {name}, what it is called")?;
        let folder = match folder.strip_prefix("{folder}") {
            Some(behind) => Folder::Beside(behind.to_owned()),
            None => Folder::Fixed(folder.to_owned()),
        };
        let (Folder::Beside(rest) | Folder::Fixed(rest)) = &folder;
        if [rest.as_str(), before, behind]
            .concat()
            .contains(['{', '*', '?'])
        {
            return Err("{folder} stands at its beginning and {name} in its last part, each once, and nothing is a pattern".into());
        }
        if before.is_empty() && behind.is_empty() && folder == Folder::Beside(String::new()) {
            return Err("it is where an add-on lies that is on, too".into());
        }
        Ok(Parked {
            folder,
            before: before.to_owned(),
            behind: behind.to_owned(),
        })
    }

    /// The place that something has when it is off.
    pub fn place(&self, home: &str) -> String {
        let (folder, name) = parted(home);
        let name = format!("{}{name}{}", self.before, self.behind);
        match &self.folder {
            Folder::Beside(behind) => joined(&format!("{folder}{behind}"), &name),
            Folder::Fixed(folder) => joined(folder, &name),
        }
    }

    /// The place that something has when it is on, where it lies at a path that is one of those that are off.
    pub fn home(&self, path: &str, at: &Globs) -> Option<String> {
        let (folder, name) = parted(path);
        let name = name.strip_prefix(&self.before)?;
        let name = name.strip_suffix(&self.behind)?;
        let mut homes = Vec::new();
        match &self.folder {
            Folder::Beside(behind) if folder.is_empty() && !behind.is_empty() => {}
            Folder::Beside(behind) => {
                homes.extend(folder.strip_suffix(behind.as_str()).map(str::to_owned));
                // Right in the server folder, nothing parts it from what comes behind.
                if Some(folder) == behind.strip_prefix('/') {
                    homes.push(String::new());
                }
            }
            Folder::Fixed(fixed) if folder == fixed => {
                homes.extend(at.texts().map(|at| parted(at).0.to_owned()));
            }
            Folder::Fixed(_) => {}
        }
        let mut homes = homes.iter().map(|folder| joined(folder, name));
        homes.find(|home| !name.is_empty() && at.matches(home))
    }

    /// Whether the folder from which something was parked can be told.
    pub(super) fn knows_its_folder(&self, at: &Globs) -> bool {
        match &self.folder {
            Folder::Beside(_) => true,
            Folder::Fixed(_) => {
                let folders: Vec<&str> = at.texts().map(|at| parted(at).0).collect();
                let is_plain = |it: &&str| !it.contains(['*', '?', '[', '{']);
                folders.iter().all(is_plain) && folders.windows(2).all(|two| two[0] == two[1])
            }
        }
    }
}

impl<'de> Deserialize<'de> for Parked {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Parked, D::Error> {
        Parked::new(&String::deserialize(deserializer)?).map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::super::Glob;
    use super::*;

    #[test]
    fn what_is_off_lies_elsewhere_and_is_known_there() {
        for (off, at, home, place) in [
            (
                "{folder}/{name}.off",
                "mods/*.zip",
                "mods/fern.zip",
                "mods/fern.zip.off",
            ),
            (
                "{name}.off",
                "mods/*.zip",
                "mods/fern.zip",
                "mods/fern.zip.off",
            ),
            ("_{name}", "*/m/*", "a/m/fern", "a/m/_fern"),
            (
                "{folder}/off/{name}",
                "mods/*",
                "mods/fern",
                "mods/off/fern",
            ),
            ("{folder}/off/{name}", "*.zip", "fern.zip", "off/fern.zip"),
            (
                "{folder}-off/{name}",
                "a/mods/*",
                "a/mods/fern",
                "a/mods-off/fern",
            ),
            (
                "shed/mods/{name}",
                "a/mods/*",
                "a/mods/fern",
                "shed/mods/fern",
            ),
            ("{name}.off", "*.zip", "fern.zip", "fern.zip.off"),
        ] {
            let parked = Parked::new(off).unwrap();
            let at = Globs(vec![Glob::new(at).unwrap()]);
            assert_eq!(parked.place(home), place, "{off}");
            assert_eq!(parked.home(place, &at).as_deref(), Some(home), "{off}");
            assert_eq!(parked.home(home, &at), None, "{off}");
            assert!(parked.knows_its_folder(&at));
        }
        let at = Globs(vec![Glob::new("mods/*/*.zip").unwrap()]);
        let fixed = Parked::new("shed/{name}").unwrap();
        assert!(!fixed.knows_its_folder(&at));
        // What would not be recognised if it were on, is not when it is off.
        let off = Parked::new("{name}.off").unwrap();
        for path in [
            "mods/fern.zip.off",
            "mods/a/.off",
            "mods/a/fern.txt.off",
            "fern.off",
        ] {
            assert_eq!(off.home(path, &at), None, "{path}");
        }
    }

    #[test]
    fn what_cannot_be_a_place_is_refused() {
        for text in [
            "off",
            "{name}",
            "{folder}/{name}",
            "{name}/off",
            "a/{folder}/{name}",
            "{name}{name}",
            "*/{name}",
        ] {
            assert!(Parked::new(text).is_err(), "{text}");
        }
    }
}
