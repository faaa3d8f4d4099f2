//! What an add-on says of itself: whether it runs, by a value in a file of its own.

use super::{Family, Globs, Lists, Pattern, Reader, Shape, Spot, default_off, default_on};
use crate::component::Kind;
use crate::path::RelPath;
use crate::settings::Notation;
use serde::Deserialize;

/// The file of an add-on that is one file.
const ITSELF: &str = ".";

/// The value that says whether an add-on runs, in a file of its own.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Switch {
    /// The file: where it lies in the add-on's folder, or `.` for an add-on that is one text file.
    pub file: String,
    /// Finds the value as the group `value`.
    pub line: Option<Pattern>,
    /// Or its key, in the notation that the file's name tells.
    pub key: Option<String>,
    /// What stands there when it runs; whatever is not `off` counts as this.
    #[serde(default = "default_on")]
    pub on: String,
    /// What stands there when it does not.
    #[serde(default = "default_off")]
    pub off: String,
    /// What holds where nothing stands there.
    #[serde(default)]
    pub unsaid: Lists,
}

impl Switch {
    /// The file of the add-on that lies at a path; none where that makes no path.
    pub fn path(&self, place: &RelPath) -> Option<RelPath> {
        match self.file.as_str() {
            ITSELF => Some(place.clone()),
            file => place.join(file).ok(),
        }
    }

    /// Whether a path may be that of the file of an add-on that lies at such places.
    pub(super) fn is_in(&self, places: &Globs, path: &str) -> bool {
        let place = match self.file.as_str() {
            ITSELF => Some(path),
            file => path.strip_suffix(file).and_then(|it| it.strip_suffix('/')),
        };
        place.is_some_and(|place| places.matches(place))
    }

    /// Where it stands in the file at a path; none where nothing tells the file's notation.
    pub fn spot(&self, family: &Family, path: &RelPath) -> Option<Spot<'_>> {
        family.spot(self.line.as_ref(), self.key.as_deref(), path)
    }

    /// What is wrong with it.
    pub(super) fn fault(&self, family: &Family, reader: &Reader) -> Option<String> {
        let fits = match reader.shape {
            Shape::Folder => self.file != ITSELF && RelPath::parse(&self.file).is_ok(),
            Shape::File => self.file == ITSELF,
            Shape::Archive | Shape::Group | Shape::Entry => false,
        };
        let tells = |at: &str| {
            let path = match self.file.as_str() {
                ITSELF => at,
                file => file,
            };
            let mut rules = family.settings.iter();
            Notation::of(path).is_some() || rules.any(|rule| rule.notation.is_some())
        };
        if reader.kind != Kind::Addon || !fits {
            Some("`switch` is for add-ons that are a folder, with the path of a file in it, or one text file, with `.`".into())
        } else if reader.runs.is_some() || reader.off.is_some() {
            Some("with `switch` a file of its own says whether it runs, and `runs` and `off` say nothing more".into())
        } else if self.line.is_some() == self.key.is_some() {
            Some("switch: one of `line` and `key` says where it stands".into())
        } else if self.line.as_ref().is_some_and(|it| !it.names("value")) {
            Some("switch.line lacks the group (?P<value>…)".into())
        } else if self.key.is_some() && !reader.at.texts().any(tells) {
            Some("switch.key: the file's name tells no notation (.toml, .json, .yaml, .ini, .cfg, .conf, .properties, .xml)".into())
        } else if self.on == self.off || self.on.is_empty() || self.off.is_empty() {
            Some("switch: `on` and `off` are two different words".into())
        } else {
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn family(reader: &str, more: &str) -> Result<Family, String> {
        let text = crate::tree::tests::FAMILY;
        let top = &text[..text.find("[[reader]]").unwrap()];
        let head = "[[reader]]\nname = 'fern'\nkind = 'addon'\nfiles = [{ name = 'fern.ini', notation = 'ini' }]\n";
        Family::parse(&format!("{top}\n{head}{reader}\n{more}")).map_err(|fault| fault.to_string())
    }

    #[test]
    fn it_stands_in_the_add_ons_own_file() {
        for (reader, place, file, others) in [
            (
                "shape = 'folder'\nat = ['ferns/*', 'beds/*/ferns/*']\nswitch = { file = 'about/fern.ini', key = 'awake' }",
                "beds/a/ferns/box",
                "beds/a/ferns/box/about/fern.ini",
                ["beds/a/ferns/about/fern.ini", "ferns/box/fern.ini"],
            ),
            (
                "shape = 'file'\nat = 'ferns/*.lua'\nswitch = { file = '.', line = '^awake = (?P<value>.*)$' }",
                "ferns/box.lua",
                "ferns/box.lua",
                ["ferns/box.txt", "ferns/box.lua/awake"],
            ),
        ] {
            let family = family(reader, "").unwrap();
            let switch = family.readers[0].switch.as_ref().unwrap();
            let place = RelPath::parse(place).unwrap();
            let found = switch.path(&place).unwrap();
            assert_eq!(found.as_str(), file);
            assert!(family.is_followed(file), "{file}");
            assert!(
                others.iter().all(|other| !family.is_followed(other)),
                "{others:?}"
            );
            assert!(switch.spot(&family, &found).is_some());
        }
    }

    #[test]
    fn one_that_can_say_nothing_is_refused() {
        let folder = "shape = 'folder'\nat = 'ferns/*'\n";
        let ini = "switch = { file = 'fern.ini', key = 'awake'";
        let written = "[[settings]]\nfile = 'ferns/*/fern.leaf'\nnotation = 'ini'";
        for (reader, more, why) in [
            (format!("{folder}{ini} }}"), "", ""),
            (
                format!("{folder}switch = {{ file = 'fern.leaf', key = 'awake' }}"),
                written,
                "",
            ),
            (
                format!("shape = 'archive'\nat = 'ferns/*.zip'\n{ini} }}"),
                "",
                "is for add-ons that are a folder",
            ),
            (
                format!("shape = 'file'\nat = 'ferns/*.ini'\n{ini} }}"),
                "",
                "is for add-ons that are a folder",
            ),
            (
                format!("{folder}switch = {{ file = '.', key = 'awake' }}"),
                "",
                "is for add-ons that are a folder",
            ),
            (
                format!("{folder}switch = {{ file = '../x.ini', key = 'awake' }}"),
                "",
                "is for add-ons that are a folder",
            ),
            (
                format!("{folder}runs = 'always'\n{ini} }}"),
                "",
                "`runs` and `off` say nothing more",
            ),
            (
                format!("{folder}off = '{{name}}.off'\n{ini} }}"),
                "",
                "`runs` and `off` say nothing more",
            ),
            (
                format!("{folder}{ini}, line = '(?P<value>x)' }}"),
                "",
                "one of `line` and `key`",
            ),
            (
                format!("{folder}switch = {{ file = 'fern.ini' }}"),
                "",
                "one of `line` and `key`",
            ),
            (
                format!("{folder}switch = {{ file = 'fern.ini', line = 'awake' }}"),
                "",
                "lacks the group (?P<value>…)",
            ),
            (
                format!("{folder}switch = {{ file = 'fern.leaf', key = 'awake' }}"),
                "",
                "tells no notation",
            ),
            (
                format!("{folder}{ini}, off = 'true' }}"),
                "",
                "two different words",
            ),
            (
                format!("{folder}{ini}, of = 'no' }}"),
                "",
                "unknown field `of`",
            ),
        ] {
            let told = family(&reader, more).err().unwrap_or_default();
            assert!(
                told.contains(why) && told.is_empty() == why.is_empty(),
                "{reader}: {told}"
            );
        }
    }
}
