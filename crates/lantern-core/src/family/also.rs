//! A second list that names what runs, by something else than ids: the numbers under which it was fetched, folders, files.

use super::{
    Globs, Lists, OrderKind, OrderRule, Pattern, Within, default_between, default_off, default_on,
};
use crate::component::Id;
use crate::path::RelPath;
use serde::Deserialize;

/// Such a list.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Also {
    /// What people call it.
    pub name: String,
    /// The files that it stands in.
    pub file: Globs,
    /// How it is written down: a list, or a sequence of lines.
    pub kind: OrderKind,
    /// The part of the file in which items stand; without it, all of it.
    #[serde(default)]
    pub within: Option<Within>,
    /// Finds the text with all items of a list as the group `list`, or a line's item as the group `id`.
    pub line: Pattern,
    /// How a new item is written: `{id}`.
    #[serde(default = "default_write")]
    pub write: String,
    /// What stands between the items of a list.
    #[serde(default = "default_between")]
    pub between: String,
    /// Whether a list goes over several lines.
    #[serde(default)]
    pub spans: bool,
    /// Finds, in the place of an add-on, its item as the group `value`.
    pub each: Pattern,
}

fn default_write() -> String {
    "{id}".into()
}

impl Also {
    /// What an add-on that lies there is named as; none where it needs no item.
    pub fn item(&self, place: &RelPath) -> Option<Id> {
        self.each.capture("value", place.as_str()).map(Id::new)
    }

    /// How it is read and written, as a load order of its kind is.
    pub fn rule(&self) -> OrderRule {
        OrderRule {
            kind: self.kind,
            lists: Lists::On,
            file: self.file.clone(),
            within: self.within.clone(),
            line: self.line.clone(),
            includes: None,
            write: self.write.clone(),
            write_with: None,
            parked: None,
            spans: self.spans,
            between: self.between.clone(),
            categories: Globs::default(),
            each: None,
            on: default_on(),
            off: default_off(),
        }
    }

    /// What in it contradicts itself.
    pub(super) fn fault(&self) -> Option<String> {
        let fault = match self.kind {
            OrderKind::List | OrderKind::Sequence => {
                let mut groups = self.kind.groups().iter();
                let lacks = groups.find(|group| !self.line.names(group));
                lacks.map(|group| format!("line lacks the group (?P<{group}>…)"))
            }
            _ => Some("kind is list or sequence".into()),
        };
        let unnamed = (!self.each.names("value")).then_some("each lacks the group (?P<value>…)");
        let unwritten = (!self.write.contains("{id}")).then_some("write lacks {id}");
        let versioned = self.write.contains("{version}");
        let versioned = versioned.then_some("write has {version}, which is for a load order alone");
        let fault = fault.or(unnamed.or(unwritten).or(versioned).map(str::to_owned));
        fault.map(|fault| format!("also \"{}\": {fault}", self.name))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_that_says_too_little_is_refused() {
        let fault = |keys: &str| {
            let keys = format!("name='items'\nfile='x'\neach='(?P<value>x)'\n{keys}");
            let also: Also = toml_edit::de::from_str(&keys).unwrap();
            also.fault().unwrap_or_default()
        };
        assert_eq!(
            fault("kind='flags'\nline='x'"),
            "also \"items\": kind is list or sequence"
        );
        assert_eq!(
            fault("kind='list'\nline='x'"),
            "also \"items\": line lacks the group (?P<list>…)"
        );
        assert_eq!(
            fault("kind='list'\nline='(?P<list>x)'\nwrite='x'"),
            "also \"items\": write lacks {id}"
        );
        assert_eq!(
            fault("kind='list'\nline='(?P<list>x)'\nwrite='{id} {version}'"),
            "also \"items\": write has {version}, which is for a load order alone"
        );
    }
}
