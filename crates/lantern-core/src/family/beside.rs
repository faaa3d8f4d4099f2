//! Files that belong to a component which is one file, and are called as it is: `fern.idx` beside `fern.pak`, `../text/fern.txt`.

use super::{Reader, Shape};
use crate::path::RelPath;
use serde::{Deserialize, Deserializer};

/// The place of such a file, or of a folder that is all the component's, seen from the folder of its own and made of its name:
/// `{stem}.idx`, `{name}.sig`, `../text/{stem}.txt`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Beside(String);

impl Beside {
    /// Where it lies for a component of this name.
    fn of(&self, name: &str) -> String {
        filled(&self.0, name)
    }

    /// Whether it lies in another folder: then it stays there when the component is switched off.
    fn is_apart(&self) -> bool {
        self.0.contains('/')
    }
}

impl<'de> Deserialize<'de> for Beside {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Beside, D::Error> {
        let text = String::deserialize(deserializer)?;
        let text = text.trim_end_matches('/').to_owned();
        let rest = text.replace("{stem}", "").replace("{name}", "");
        let last = text.rsplit('/').next().unwrap_or(&text);
        let is_named = last.contains("{stem}") || last.contains("{name}");
        let is_plain = !rest.contains(['{', '*', '?', '[', '\\']);
        match is_named && is_plain && !text.starts_with('/') && text != "{name}" {
            true => Ok(Beside(text)),
            false => Err(serde::de::Error::custom(
                "it is the name of a file beside it, made of {stem} or {name} and something else, or leads to one from there, as in ../text/{stem}.txt",
            )),
        }
    }
}

/// Whether the name of a descriptor is that of the component's one file, which is called so.
fn is_itself(text: &str, own: &str) -> bool {
    let is_pattern = text.contains(['*', '?', '[']);
    text == "." || text == own || is_pattern
}

/// Whether a text is made of the component's own name.
pub(super) fn is_template(text: &str) -> bool {
    text.contains("{stem}")
}

fn filled(template: &str, name: &str) -> String {
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    template.replace("{name}", name).replace("{stem}", stem)
}

impl Reader {
    /// Where the files lie that belong to the one at this path; whether they are there, the folder tells.
    pub fn beside(&self, path: &RelPath) -> Vec<RelPath> {
        if !self.shape.is_one_file() || self.with.is_empty() && self.shape != Shape::File {
            return Vec::new();
        }
        let files = 0..self.files.len();
        let descriptors = files.flat_map(|file| self.descriptors_beside(file, path));
        let home = self.home_of(path);
        let others = self.with.iter().filter_map(|with| {
            let seen_from = if with.is_apart() { &home } else { path };
            seen_from_folder_of(seen_from, &with.of(home.name()))
        });
        let all = descriptors.chain(others);
        all.filter(|beside| beside != path).collect()
    }

    /// Where the descriptor of this number may lie that belongs to the file at this path, the first of which is meant that is there; none
    /// where the file is its own.
    pub fn descriptors_beside(&self, file: usize, path: &RelPath) -> Vec<RelPath> {
        if self.shape != Shape::File {
            return Vec::new();
        }
        let home = self.home_of(path);
        let own = home.name();
        let names = self.files.get(file).into_iter().flat_map(|it| &it.name.0);
        let texts = names.filter(|name| name.outer.is_none());
        let texts = texts.map(|name| name.inner.as_str());
        let others = texts.filter(|text| !is_itself(text, own));
        let ways = others.map(|text| filled(text, own));
        ways.filter_map(|way| seen_from_folder_of(path, &way))
            .collect()
    }

    /// The place that it has when it is on; of a release, the one in that.
    fn home_of(&self, path: &RelPath) -> RelPath {
        let home = self.home(path.as_str());
        let home = home.and_then(|home| RelPath::parse(&home).ok());
        home.unwrap_or_else(|| path.clone())
    }

    /// What is wrong with what lies beside.
    pub(super) fn beside_fault(&self) -> Option<&'static str> {
        let mut names = self.files.iter().flat_map(|file| &file.name.0);
        if !self.with.is_empty() && !self.shape.is_one_file() {
            Some("`with` is for what is one file")
        } else if self.shape != Shape::File && names.any(|name| is_template(name.inner.as_str())) {
            Some("a descriptor beside it, by {stem}, is for the shape file")
        } else {
            None
        }
    }
}

/// What a way from the folder of a path leads to; none where it leads out of everything.
fn seen_from_folder_of(path: &RelPath, way: &str) -> Option<RelPath> {
    let mut folder = path.folder();
    let mut rest = way;
    while let Some(behind) = rest.strip_prefix("../") {
        folder = folder?.folder();
        rest = behind;
    }
    match folder {
        Some(folder) => folder.join(rest).ok(),
        None => RelPath::parse(rest).ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn beside(keys: &str, path: &str) -> String {
        let keys = format!("name='x'\nkind='addon'\nshape='file'\nat='plugins/*.x'\n{keys}");
        let reader: Result<Reader, _> = toml_edit::de::from_str(&keys);
        match reader {
            Ok(reader) => {
                let paths = reader.beside(&RelPath::parse(path).unwrap());
                let paths: Vec<&str> = paths.iter().map(RelPath::as_str).collect();
                paths.join(" ")
            }
            Err(fault) => fault.message().to_owned(),
        }
    }

    #[test]
    fn what_belongs_to_a_file_is_called_as_it_is() {
        let with = "with=['{stem}.y', '{name}.sig', '../text/{stem}.txt', '../../{stem}', '../data/{stem}/']";
        let cases = [
            (
                with,
                "plugins/fern.x",
                "plugins/fern.y plugins/fern.x.sig text/fern.txt data/fern",
            ),
            // In a release that holds other folders around it.
            (
                with,
                "all/plugins/fern.x",
                "all/plugins/fern.y all/plugins/fern.x.sig all/text/fern.txt fern all/data/fern",
            ),
            (
                "with=['{stem}.y', '../text/{stem}.txt']\noff='{folder}/off/{name}'",
                "plugins/off/fern.x",
                "plugins/off/fern.y text/fern.txt",
            ),
            (
                "with=['{stem}.y']\noff='{name}.off'",
                "plugins/fern.x.off",
                "plugins/fern.y",
            ),
            ("", "plugins/fern.x", ""),
            (
                "files=[{name='{stem}.json', notation='json'}]",
                "plugins/fern.x",
                "plugins/fern.json",
            ),
            (
                "files=[{name=['{stem}.json', '../VERSION'], notation='json'}, {name='notes', notation='lines'}]",
                "plugins/fern.x",
                "plugins/fern.json VERSION plugins/notes",
            ),
            (
                "files=[{name=['.', '*.x', 'fern.x'], notation='json'}]",
                "plugins/fern.x",
                "",
            ),
        ];
        for (keys, path, expected) in cases {
            assert_eq!(beside(keys, path), expected, "{keys}");
        }
        for refused in ["x.y", "{name}", "/{stem}.y", "{stem}*", "{stem}/x"] {
            let told = beside(&format!("with=['{refused}']"), "plugins/fern.x");
            assert!(
                told.contains("it is the name of a file beside it"),
                "{told}"
            );
        }
    }
}
