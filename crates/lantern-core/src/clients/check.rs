//! Whether a client's folder is as a list wants it.

use super::list::{ClientFile, ClientItem, ClientList, Duty};
use crate::component::{Id, Side};
use crate::family::{IdSpelling, Others, Pattern};
use crate::path::RelPath;
use crate::version::{Notations, Version};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

/// What a client's folder has, as far as it was looked at.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FolderSeen {
    /// The number of the format.
    pub format: u32,
    /// Its files.
    pub files: Vec<ClientFile>,
    /// The components that a family's readers know among them.
    pub components: Vec<ComponentSeen>,
}

/// A component in a client's folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ComponentSeen {
    /// Which one.
    pub id: Id,
    /// Its version; none where it states none.
    pub version: Option<String>,
    /// Where it lies.
    pub place: RelPath,
    /// Where it says that it has to be installed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<Side>,
}

/// What is wrong with one component, or to be known of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Wrong {
    /// It is not there, and has to be.
    Missing,
    /// It is there in an earlier version.
    TooOld,
    /// It is there in a later version.
    TooNew,
    /// It is there in a version of which nobody can say which comes first.
    OtherVersion,
    /// It is there, and some of its files are missing or have another content.
    OtherContent,
    /// It is there as it should be, and once more.
    Twice,
    /// It is there, and must not be.
    MustGo,
    /// It is not on the list, and nobody declared what the server makes of that.
    Unknown,
    /// It is not on the list, and does no harm.
    Harmless,
}

impl Wrong {
    /// Whether something has to be done.
    pub fn is_wrong(self) -> bool {
        !matches!(self, Wrong::Unknown | Wrong::Harmless)
    }
}

/// Something that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Difference {
    /// Which component.
    pub id: Id,
    /// What is wrong.
    pub wrong: Wrong,
    /// The version that is wanted, where one is.
    pub wanted: Option<String>,
    /// The version that is there, where it states one.
    pub has: Option<String>,
    /// The files that are to be brought.
    pub bring: Vec<RelPath>,
    /// What is to be deleted: files, and folders with all in them.
    pub delete: Vec<RelPath>,
}

/// What came of a check.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Checked {
    /// How many of the list's components are there as they should be.
    pub right: usize,
    /// What differs: what is wrong first.
    pub differences: Vec<Difference>,
}

impl Checked {
    /// Whether nothing has to be done.
    pub fn is_right(&self) -> bool {
        !self.differences.iter().any(|it| it.wrong.is_wrong())
    }
}

/// A line of what a client or the server prints when they do not match.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Explained {
    /// The component that it names.
    pub id: Id,
    /// What the client has, as the line says.
    pub has: Option<String>,
    /// What it should have, as the line says.
    pub wants: Option<String>,
    /// What the list says of the component; none where it is not on it.
    pub item: Option<ClientItem>,
}

/// Finds what a printed text says of components, line by line.
pub fn explained(
    list: &ClientList,
    mismatch: &Pattern,
    ids: &IdSpelling,
    text: &str,
) -> Vec<Explained> {
    let mut found: Vec<Explained> = Vec::new();
    for line in text.lines() {
        // A line may name several.
        for groups in mismatch.regex().captures_iter(line) {
            let group = |name: &str| {
                let text = groups.name(name)?.as_str();
                Some(text.trim().trim_end_matches([',', ';', '.']).to_owned())
            };
            let Some(id) = group("id").map(|id| Id::new(&ids.spell(&id))) else {
                continue;
            };
            let is_said = |text: &String| !matches!(text.as_str(), "" | "-");
            let one = Explained {
                has: group("has").filter(is_said),
                wants: group("wants").filter(is_said),
                item: list.items.iter().find(|item| item.id == id).cloned(),
                id,
            };
            if !found.contains(&one) {
                found.push(one);
            }
        }
    }
    found
}

/// Holds a client's folder against a list.
pub fn check(list: &ClientList, seen: &FolderSeen, notations: &Notations) -> Checked {
    let files = seen.files.iter();
    let mut checking = Checking {
        notations,
        components: BTreeMap::new(),
        files: files
            .map(|file| (&file.path, file.blake3.as_str()))
            .collect(),
        checked: Checked::default(),
    };
    for component in &seen.components {
        let of_id = checking.components.entry(&component.id);
        of_id.or_default().push(component);
    }
    for item in &list.items {
        match item.is {
            Duty::MustHave | Duty::MayHave => checking.wanted(item),
            Duty::MustNotHave => checking.unwanted(item),
        }
    }
    let listed: BTreeSet<&Id> = list.items.iter().map(|item| &item.id).collect();
    for other in seen.components.iter().filter(|it| !listed.contains(&it.id)) {
        let wrong = match (list.others, other.side) {
            (_, Some(Side::Client)) | (Others::Harmless, _) => Wrong::Harmless,
            (Others::Refused, _) => Wrong::MustGo,
            (Others::Unknown, _) => Wrong::Unknown,
        };
        checking.checked.differences.push(Difference {
            id: other.id.clone(),
            wrong,
            wanted: None,
            has: other.version.clone(),
            bring: Vec::new(),
            delete: match wrong {
                Wrong::MustGo => vec![other.place.clone()],
                _ => Vec::new(),
            },
        });
    }
    let mut checked = checking.checked;
    checked
        .differences
        .sort_by(|a, b| (a.wrong, &a.id).cmp(&(b.wrong, &b.id)));
    checked
}

struct Checking<'a> {
    notations: &'a Notations,
    components: BTreeMap<&'a Id, Vec<&'a ComponentSeen>>,
    files: BTreeMap<&'a RelPath, &'a str>,
    checked: Checked,
}

impl<'a> Checking<'a> {
    fn version(&self, text: &str) -> Option<Version> {
        self.notations.version(false, text).ok()
    }

    /// How the version that is there stands to the one that is wanted; none where nobody can say.
    fn compared(&self, has: &Option<String>, wanted: &Option<String>) -> Option<Ordering> {
        let (has, wanted) = (
            self.version(has.as_ref()?)?,
            self.version(wanted.as_ref()?)?,
        );
        Some(has.cmp(&wanted))
    }

    fn of_id(&self, id: &Id) -> Vec<&'a ComponentSeen> {
        self.components.get(id).cloned().unwrap_or_default()
    }

    /// What the client must have, or may.
    fn wanted(&mut self, item: &ClientItem) {
        let is_right =
            |file: &&ClientFile| self.files.get(&file.path) == Some(&file.blake3.as_str());
        let bring: Vec<RelPath> = item
            .files
            .iter()
            .filter(|file| !is_right(file))
            .map(|file| file.path.clone())
            .collect();
        let lies_there = |place: &RelPath| {
            let own = item.place.iter().any(|own| own == place);
            own || item
                .files
                .iter()
                .any(|file| file.path == *place || file.path.below(place.as_str()).is_some())
        };
        let there = self.of_id(&item.id);
        let is_wanted = |it: &&ComponentSeen| {
            item.version.is_none()
                || self.compared(&it.version, &item.version) == Some(Ordering::Equal)
        };
        let (in_place, elsewhere): (Vec<&ComponentSeen>, Vec<&ComponentSeen>) =
            match item.files.is_empty() {
                // Without files it may lie anywhere.
                true => there.iter().copied().partition(is_wanted),
                false => there.iter().copied().partition(|it| lies_there(&it.place)),
            };
        let is_there = match item.files.is_empty() {
            true => !in_place.is_empty(),
            false => bring.is_empty(),
        };
        let others: Vec<RelPath> = elsewhere.iter().map(|it| it.place.clone()).collect();
        let difference = |wrong, has: Option<&ComponentSeen>, bring, delete| Difference {
            id: item.id.clone(),
            wrong,
            wanted: item.version.clone(),
            has: has.and_then(|it| it.version.clone()),
            bring,
            delete,
        };
        if is_there {
            self.checked.right += 1;
            if let Some(other) = elsewhere.first() {
                let twice = difference(Wrong::Twice, Some(other), Vec::new(), others);
                self.checked.differences.push(twice);
            }
            return;
        }
        let any_file = item
            .files
            .iter()
            .any(|file| self.files.contains_key(&file.path));
        // In its own place first, then wherever it is found.
        let found = in_place.first().or(elsewhere.first()).copied();
        let wrong = match found {
            None if any_file => Wrong::OtherContent,
            None if item.is == Duty::MayHave => return,
            None => Wrong::Missing,
            Some(found) => match self.compared(&found.version, &item.version) {
                Some(Ordering::Less) => Wrong::TooOld,
                Some(Ordering::Greater) => Wrong::TooNew,
                Some(Ordering::Equal) => Wrong::OtherContent,
                None if item.version.is_some() && found.version.is_some() => Wrong::OtherVersion,
                None => Wrong::OtherContent,
            },
        };
        let wrong = difference(wrong, found, bring, others);
        self.checked.differences.push(wrong);
    }

    /// What the client must not have.
    fn unwanted(&mut self, item: &ClientItem) {
        let range = item
            .range
            .as_ref()
            .and_then(|text| self.notations.range(text).ok());
        let is_meant = |it: &&ComponentSeen| {
            let version = it.version.as_ref().and_then(|text| self.version(text));
            match (&range, version) {
                (Some(range), Some(version)) => range.holds_early(&version),
                _ => true,
            }
        };
        let mut meant = self.of_id(&item.id);
        meant.retain(is_meant);
        for found in meant {
            self.checked.differences.push(Difference {
                id: item.id.clone(),
                wrong: Wrong::MustGo,
                wanted: None,
                has: found.version.clone(),
                bring: Vec::new(),
                delete: vec![found.place.clone()],
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clients::FORMAT;
    use crate::proofs::at_least;
    use proptest::prelude::*;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    fn file(at: &str, blake3: &str) -> ClientFile {
        ClientFile {
            path: path(at),
            blake3: blake3.into(),
            bytes: 1,
            from: super::super::From::Nowhere,
        }
    }

    /// `"bees 1.2 must 2"`: a component of so many files.
    fn item(text: &str) -> ClientItem {
        let words: Vec<&str> = text.split(' ').collect();
        let [id, version, is, count] = words[..] else {
            panic!("{text}");
        };
        let is = match is {
            "must" => Duty::MustHave,
            "may" => Duty::MayHave,
            _ => Duty::MustNotHave,
        };
        let place = format!("mods/{id}-{version}");
        let files = (0..count.parse().unwrap())
            .map(|n| file(&format!("{place}/{n}"), &format!("{id} {version} {n}")));
        ClientItem {
            id: Id::new(id),
            version: (is != Duty::MustNotHave && version != "-").then(|| version.into()),
            range: (is == Duty::MustNotHave && version != "-").then(|| version.into()),
            is,
            files: files.collect(),
            place: Some(path(&place)).filter(|_| count != "0"),
            why: String::new(),
        }
    }

    fn list(others: Others, items: &[&str]) -> ClientList {
        ClientList {
            format: FORMAT,
            server: "x".into(),
            server_version: None,
            client: None,
            title: None,
            joins: None,
            items: items.iter().map(|text| item(text)).collect(),
            others,
            unknown: Vec::new(),
            family: None,
        }
    }

    fn seen(id: &str, version: &str, place: &str) -> ComponentSeen {
        ComponentSeen {
            id: Id::new(id),
            version: (version != "-").then(|| version.into()),
            place: path(place),
            side: None,
        }
    }

    /// A folder that was made from a list.
    fn made_from(list: &ClientList) -> FolderSeen {
        let wanted = list
            .items
            .iter()
            .filter(|item| item.is != Duty::MustNotHave);
        FolderSeen {
            format: FORMAT,
            files: list.files().cloned().collect(),
            components: wanted
                .filter_map(|item| {
                    let version = item.version.as_deref().unwrap_or("-");
                    let place = item.place.as_ref()?;
                    Some(seen(item.id.as_str(), version, place.as_str()))
                })
                .collect(),
        }
    }

    fn told(checked: &Checked) -> String {
        let each = checked
            .differences
            .iter()
            .map(|it| serde_json::to_string(it).unwrap());
        let lines: Vec<String> = each.collect();
        format!("{} right\n{}", checked.right, lines.join("\n"))
    }

    #[test]
    fn each_kind_of_difference() {
        let list = list(
            Others::Unknown,
            &[
                "bees 2 must 1",
                "clock 2 must 1",
                "drip 2 must 2",
                "fern - must 1",
                "gate 1 must 1",
                "hive 3 must 1",
                "map 1 may 1",
                "pad 1.0 must 0",
                "ray <2 not 0",
                "spy - not 0",
                "twin 2 must 1",
            ],
        );
        let mut folder = made_from(&list);
        let drop = |folder: &mut FolderSeen, id: &str| {
            folder
                .files
                .retain(|file| !file.path.as_str().starts_with(&format!("mods/{id}-")));
            folder.components.retain(|it| it.id.as_str() != id);
        };
        for id in ["bees", "clock", "gate", "map"] {
            drop(&mut folder, id);
        }
        folder
            .files
            .retain(|file| file.path.as_str() != "mods/drip-2/1");
        for file in &mut folder.files {
            if file.path.as_str().starts_with("mods/fern") {
                file.blake3 = "edited".into();
            }
        }
        folder.components.extend([
            seen("bees", "1.9", "mods/bees-1.9"),
            seen("clock", "2.1", "mods/clock-2.1"),
            seen("pad", "1", "mods/pad"),
            seen("ray", "1.4", "mods/ray"),
            seen("ray", "2.0", "mods/ray-new"),
            seen("spy", "-", "mods/spy"),
            seen("twin", "1", "mods/twin-old"),
            seen("own", "1", "mods/own"),
        ]);
        insta::assert_snapshot!(told(&check(&list, &folder, &Notations::default())), @r#"
        3 right
        {"id":"gate","wrong":"missing","wanted":"1","has":null,"bring":["mods/gate-1/0"],"delete":[]}
        {"id":"bees","wrong":"too-old","wanted":"2","has":"1.9","bring":["mods/bees-2/0"],"delete":["mods/bees-1.9"]}
        {"id":"clock","wrong":"too-new","wanted":"2","has":"2.1","bring":["mods/clock-2/0"],"delete":["mods/clock-2.1"]}
        {"id":"drip","wrong":"other-content","wanted":"2","has":"2","bring":["mods/drip-2/1"],"delete":[]}
        {"id":"fern","wrong":"other-content","wanted":null,"has":null,"bring":["mods/fern--/0"],"delete":[]}
        {"id":"twin","wrong":"twice","wanted":"2","has":"1","bring":[],"delete":["mods/twin-old"]}
        {"id":"ray","wrong":"must-go","wanted":null,"has":"1.4","bring":[],"delete":["mods/ray"]}
        {"id":"spy","wrong":"must-go","wanted":null,"has":null,"bring":[],"delete":["mods/spy"]}
        {"id":"own","wrong":"unknown","wanted":null,"has":"1","bring":[],"delete":[]}
        "#);
        for (others, wrong) in [
            (Others::Harmless, Wrong::Harmless),
            (Others::Refused, Wrong::MustGo),
        ] {
            let list = ClientList {
                others,
                ..list.clone()
            };
            let checked = check(&list, &folder, &Notations::default());
            let own = checked
                .differences
                .iter()
                .find(|it| it.id.as_str() == "own")
                .unwrap();
            assert_eq!(own.wrong, wrong);
        }
    }

    #[test]
    fn a_printed_mismatch_is_explained() {
        let list = list(Others::Refused, &["bees 2 must 1", "spy - not 0"]);
        let pattern = toml_edit::de::from_str::<BTreeMap<String, Pattern>>(
            r"it = '(?P<id>\S+): yours (?P<has>\S+), theirs (?P<wants>\S+)'",
        );
        let pattern = pattern.unwrap().remove("it").unwrap();
        let text = "no match\nBees: yours 1.9, theirs 2; spy: yours 3, theirs -\nagain Bees: yours 1.9, theirs 2.\nelse: yours -, theirs 1";
        let ids = IdSpelling {
            lower: true,
            ..IdSpelling::default()
        };
        let told = explained(&list, &pattern, &ids, text)
            .into_iter()
            .map(|it| {
                let on_list = it.item.map_or("not on it", |item| {
                    if item.is == Duty::MustHave {
                        "must have"
                    } else {
                        "must not"
                    }
                });
                format!("{} {:?} {:?} {on_list}", it.id, it.has, it.wants)
            });
        insta::assert_snapshot!(told.collect::<Vec<_>>().join("\n"), @r#"
        bees Some("1.9") Some("2") must have
        spy Some("3") None must not
        else None Some("1") not on it
        "#);
    }

    fn any_list() -> impl Strategy<Value = ClientList> {
        let item = (0u8..4, 1u8..4, 0usize..3);
        proptest::collection::vec(item, 1..6).prop_map(|items| {
            let texts = items.iter().enumerate().map(|(at, (is, version, files))| {
                let is = ["must", "must", "may", "not"][*is as usize];
                let files = if is == "not" { 0 } else { files + 1 };
                format!("c{at} {version} {is} {files}")
            });
            let texts: Vec<String> = texts.collect();
            list(
                Others::Refused,
                &texts.iter().map(String::as_str).collect::<Vec<_>>(),
            )
        })
    }

    proptest! {
        #![proptest_config(at_least(300))]
        #[test]
        fn what_was_made_from_a_list_passes_and_each_change_is_told(list in any_list(), which in 0usize..100, change in 0u8..5) {
            let notations = Notations::default();
            let folder = made_from(&list);
            let checked = check(&list, &folder, &notations);
            prop_assert!(checked.is_right(), "{}", told(&checked));
            let wanted = list.items.iter().filter(|item| item.is != Duty::MustNotHave).count();
            prop_assert_eq!(checked.right, wanted);
            let mut changed = folder.clone();
            let item = &list.items[which % list.items.len()];
            let own = |file: &ClientFile| item.files.iter().any(|it| it.path == file.path);
            match change {
                // A file of it is gone; all of what may be there may be gone.
                0 => changed.files.retain(|file| item.files.first().is_none_or(|it| it.path != file.path)),
                // A file of it is edited.
                1 => changed.files.iter_mut().filter(|file| own(file)).take(1).for_each(|file| file.blake3 = "edited".into()),
                // Another version of it takes its place.
                2 => {
                    changed.files.retain(|file| !own(file));
                    changed.components.retain(|it| it.id != item.id);
                    changed.components.push(seen(item.id.as_str(), "0.5", "mods/other"));
                }
                // It is there once more.
                3 => changed.components.push(seen(item.id.as_str(), "0.5", "mods/once-more")),
                // Something else is there.
                _ => changed.components.push(seen("stranger", "1", "mods/stranger")),
            }
            let checked = check(&list, &changed, &notations);
            let meant = match change {
                4 => "stranger",
                _ => item.id.as_str(),
            };
            // Of what must not be there, only the versions meant matter; and where nothing was changed, nothing is told.
            let is_unwanted = item.is == Duty::MustNotHave;
            let only_file_gone = change == 0 && item.is == Duty::MayHave && item.files.len() == 1;
            let told_of = checked.differences.iter().any(|it| it.id.as_str() == meant && it.wrong.is_wrong());
            let in_range = |text: &str| {
                let range = item.range.as_ref().map(|range| notations.range(range).unwrap());
                range.is_none_or(|range| range.holds_early(&notations.version(false, text).unwrap()))
            };
            let expected = match (is_unwanted, change) {
                (_, 4) => true,
                (true, 0 | 1) => false,
                (true, _) => in_range("0.5"),
                (false, _) => !only_file_gone || changed.components.iter().any(|it| it.id == item.id),
            };
            prop_assert_eq!(told_of, expected, "{} {}\n{}", change, item.id, told(&checked));
            let others = checked.differences.iter().filter(|it| it.id.as_str() != meant);
            prop_assert_eq!(others.count(), 0);
        }
    }
}
