//! Files beside a component that is one file, which belong to it: `fern.idx` beside `fern.pak`.

use super::{Reader, Shape};
use crate::path::RelPath;
use serde::{Deserialize, Deserializer};

/// The name of such a file, made of the component's own: `{stem}.idx`, `{name}.sig`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Beside(String);

impl Beside {
    /// What it is called beside a file of this name.
    fn of(&self, name: &str) -> String {
        filled(&self.0, name)
    }
}

impl<'de> Deserialize<'de> for Beside {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Beside, D::Error> {
        let text = String::deserialize(deserializer)?;
        let rest = text.replace("{stem}", "").replace("{name}", "");
        let is_name = rest.len() < text.len() && !rest.contains(['/', '{', '*', '?', '[']);
        match is_name && text != "{name}" {
            true => Ok(Beside(text)),
            false => Err(serde::de::Error::custom(
                "it is the name of a file in the same folder, made of {stem} or {name} and something else",
            )),
        }
    }
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
        let mut names = self.files.iter().flat_map(|file| &file.name.0);
        let has_some = !self.with.is_empty() || names.any(|it| is_template(it.inner.as_str()));
        if !has_some || !self.shape.is_one_file() {
            return Vec::new();
        }
        let descriptors =
            (0..self.files.len()).filter_map(|file| self.descriptor_beside(file, path));
        let name = self.own_name(path);
        let others = self.with.iter().map(|with| with.of(&name));
        let others = others.filter_map(|name| in_folder_of(path, &name));
        let all = descriptors.chain(others);
        all.filter(|beside| beside != path).collect()
    }

    /// Where the descriptor of this number lies that belongs to the file at this path; none where the file is its own.
    pub fn descriptor_beside(&self, file: usize, path: &RelPath) -> Option<RelPath> {
        let mut names = self.files.get(file)?.name.0.iter();
        let template = names.find(|name| is_template(name.inner.as_str()))?;
        in_folder_of(path, &filled(template.inner.as_str(), &self.own_name(path)))
    }

    /// The name that it has when it is on.
    fn own_name(&self, path: &RelPath) -> String {
        let home = self.home(path.as_str());
        let home = home.as_deref().unwrap_or(path.as_str());
        home.rsplit('/').next().unwrap_or(home).to_owned()
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

fn in_folder_of(path: &RelPath, name: &str) -> Option<RelPath> {
    match path.folder() {
        Some(folder) => folder.join(name).ok(),
        None => RelPath::parse(name).ok(),
    }
}
