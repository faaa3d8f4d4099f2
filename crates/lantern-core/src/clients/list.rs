//! What players' clients must have to match the server, may have, and must not have.

use crate::component::{Has, HasWord, Id, Kind, Side};
use crate::facts::Facts;
use crate::family::{ClientKind, Others};
use crate::inventory::{Component, Inventory};
use crate::path::RelPath;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// The number of the format of lists.
pub const FORMAT: u32 = 1;

/// How a client stands to a component.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Duty {
    /// It must have it, in exactly this version.
    MustHave,
    /// It may have it; then in exactly this version, where one is stated.
    MayHave,
    /// It must not have it.
    MustNotHave,
}

/// One component, or a set of files that the administrator keeps for clients.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ClientItem {
    /// Which component; of files without one, what the administrator calls them.
    pub id: Id,
    /// In which version; none where it states none, or any will do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// How a client stands to it.
    pub is: Duty,
    /// Of what it must not have: in which versions; none where in every one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range: Option<String>,
    /// Where it lies in the client's folder, where it lies in one place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<RelPath>,
    /// Its files.
    #[serde(default)]
    pub files: Vec<ClientFile>,
    /// Why, in a few words.
    pub why: String,
}

/// One file that clients must or may have.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ClientFile {
    /// Where it lies in the client's folder.
    pub path: RelPath,
    /// BLAKE3 of its content in hexadecimal; of a link, `link:` and where it leads.
    pub blake3: String,
    /// Its size.
    pub bytes: u64,
    /// Where it is to be had here.
    #[serde(skip)]
    pub from: From,
}

/// Where the content of a client's file is to be had.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum From {
    /// Nobody says.
    #[default]
    Nowhere,
    /// In the server folder.
    Server(RelPath),
    /// Among what the administrator keeps for clients: by its place there.
    Kept(usize),
}

/// All that one kind of client must have, may have, and must not have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ClientList {
    /// The number of the format.
    pub format: u32,
    /// The server's name.
    pub server: String,
    /// The server version that clients must speak to; none when it is not known.
    pub server_version: Option<String>,
    /// The kind of client; none where the family names none.
    pub client: Option<String>,
    /// What people call that kind, where it is another word.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Which of its versions may join, in words; none where none may, `unknown` where nobody declared anything.
    pub joins: Option<String>,
    /// What they must have, may have, and must not have, by id.
    pub items: Vec<ClientItem>,
    /// What the server makes of what is not on the list.
    pub others: Others,
    /// Components that do not say whether clients need them.
    pub unknown: Vec<Id>,
    /// The family file, by which a client's folder is read; left out where only paths and hashes count.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family: Option<String>,
}

/// What the administrator says of clients, with the files that he keeps for them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    /// Which component; of files without one, what he calls them.
    pub id: Id,
    /// In which version, where that is known.
    pub version: Option<String>,
    /// How a client stands to it.
    pub is: Duty,
    /// Where it lies in the client's folder, where it lies in one place.
    pub place: Option<RelPath>,
    /// Its files, where they are kept: they take the place of the server's own.
    pub files: Vec<ClientFile>,
}

/// Lists what a kind of client must have, may have, and must not have.
///
/// `name` is the server's, `joins` says in words which versions may join. Where the family names no kind of client, all that runs and
/// is for both sides is meant.
pub fn list(
    name: &str,
    inventory: &Inventory,
    kind: Option<&ClientKind>,
    joins: Option<String>,
) -> ClientList {
    // A client is a program itself: the server's is not for it, whatever that says or leaves out.
    let runs = |it: &&Component| !it.runs.is_off() && it.facts.kind != Kind::Build;
    let running: Vec<&Component> = inventory.components.iter().filter(runs).collect();
    let has = kind.map_or(Some(&Has::Word(HasWord::Same)), |kind| kind.has.as_ref());
    let duty = |facts: &Facts| match (has, facts.side) {
        (Some(Has::Word(HasWord::Same)), Some(Side::Both)) => Some(Duty::MustHave),
        (Some(Has::Word(HasWord::Same)), Some(Side::ClientMay)) => Some(Duty::MayHave),
        (Some(Has::These(ids)), _) => ids.contains(&facts.id).then_some(Duty::MustHave),
        _ => None,
    };
    let mut items: BTreeMap<Id, Vec<ClientItem>> = BTreeMap::new();
    for component in &running {
        let item = duty(&component.facts).and_then(|is| item_of(component, kind, is));
        if let Some(item) = item {
            items.entry(item.id.clone()).or_default().push(item);
        }
    }
    let must = running
        .iter()
        .filter(|component| duty(&component.facts) == Some(Duty::MustHave));
    let asks = must.flat_map(|it| it.facts.clashes.iter().map(|clash| (&it.facts.id, clash)));
    for (by, clash) in asks {
        let item = ClientItem {
            id: clash.id.clone(),
            version: None,
            is: Duty::MustNotHave,
            range: (!clash.range.is_any()).then(|| clash.range.to_string()),
            place: None,
            files: Vec::new(),
            why: format!("it conflicts with {by}"),
        };
        items.entry(item.id.clone()).or_insert_with(|| vec![item]);
    }
    let mut items: Vec<ClientItem> = items.into_values().flatten().collect();
    each_path_once(&mut items);
    let unsaid = running.iter().filter(|component| {
        let facts = &component.facts;
        let said = has == Some(&Has::Word(HasWord::Nothing));
        facts.side.is_none() && !said && duty(facts).is_none()
    });
    ClientList {
        format: FORMAT,
        server: name.to_owned(),
        server_version: inventory.server_version().map(ToString::to_string),
        client: kind.map(|kind| kind.name.clone()),
        title: kind.and_then(|kind| kind.title.clone()),
        joins,
        others: kind.map_or(Others::Unknown, |kind| kind.others),
        unknown: match has {
            None => running
                .iter()
                .filter(|it| it.facts.side != Some(Side::Server))
                .map(|it| it.facts.id.clone())
                .collect(),
            Some(_) => unsaid.map(|component| component.facts.id.clone()).collect(),
        },
        items,
        family: None,
    }
}

/// A component as it is on the server; none where it lies nowhere.
fn item_of(component: &Component, kind: Option<&ClientKind>, is: Duty) -> Option<ClientItem> {
    let place = |path: &RelPath| match kind {
        Some(kind) => kind.in_client(path),
        None => path.clone(),
    };
    let files = component.files.iter().filter_map(|file| {
        Some(ClientFile {
            path: place(&file.path),
            blake3: file.hash.clone()?,
            bytes: file.bytes,
            from: From::Server(file.path.clone()),
        })
    });
    let facts = &component.facts;
    Some(ClientItem {
        id: facts.id.clone(),
        version: (!facts.version.is_content()).then(|| facts.version.to_string()),
        is,
        range: None,
        place: Some(place(component.place.as_ref()?)),
        files: files.collect(),
        why: match facts.side {
            Some(Side::Both) => "it runs here, and is for both sides".into(),
            Some(Side::ClientMay) if is == Duty::MayHave => {
                "it runs here, and clients may have it, too".into()
            }
            _ => "the family says so of this kind of client".into(),
        },
    })
}

/// What the administrator says of a component that clients would have besides.
fn kept_item(own: &Kept, known: Option<ClientItem>) -> ClientItem {
    let known_version = known.as_ref().and_then(|item| item.version.clone());
    let has_own = !own.files.is_empty();
    let (place, files) = match known {
        _ if own.is == Duty::MustNotHave => (None, Vec::new()),
        Some(item) if !has_own => (item.place, item.files),
        _ => (own.place.clone(), own.files.clone()),
    };
    ClientItem {
        id: own.id.clone(),
        version: match own.is {
            Duty::MustNotHave => None,
            _ => own.version.clone().or(known_version),
        },
        is: own.is,
        range: None,
        place,
        files,
        why: "lantern.toml says so".into(),
    }
}

/// Of two files for one path, that of the administrator counts, or else the first.
fn each_path_once(items: &mut [ClientItem]) {
    let kept = |file: &ClientFile| matches!(file.from, From::Kept(_));
    let all = items.iter().flat_map(|item| &item.files);
    let own: BTreeSet<RelPath> = all
        .filter(|file| kept(file))
        .map(|file| file.path.clone())
        .collect();
    let mut met: BTreeSet<RelPath> = BTreeSet::new();
    for item in items {
        item.files.retain(|file| {
            let counts = kept(file) || !own.contains(&file.path);
            counts && met.insert(file.path.clone())
        });
    }
}

/// What has changed from one list to another.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Since {
    /// Files that are to be brought, as they have to be.
    pub bring: Vec<ClientFile>,
    /// Paths that are to be deleted.
    pub delete: Vec<RelPath>,
}

impl ClientList {
    /// The list with what the administrator says besides.
    pub fn with(mut self, kept: &[Kept]) -> ClientList {
        for own in kept {
            self.unknown.retain(|id| *id != own.id);
            let known = self.items.extract_if(.., |item| item.id == own.id);
            let known: Vec<ClientItem> = known.collect();
            let known = known.into_iter().find(|item| item.is != Duty::MustNotHave);
            self.items.push(kept_item(own, known));
        }
        self.items.sort_by(|a, b| a.id.cmp(&b.id));
        each_path_once(&mut self.items);
        self
    }

    /// The files that clients must or may have.
    pub fn files(&self) -> impl Iterator<Item = &ClientFile> {
        self.items.iter().flat_map(|item| &item.files)
    }

    /// What has changed since an earlier list.
    pub fn since(&self, earlier: &ClientList) -> Since {
        let files = |list: &ClientList| -> BTreeMap<RelPath, String> {
            let files = list.files();
            files
                .map(|file| (file.path.clone(), file.blake3.clone()))
                .collect()
        };
        let (before, now) = (files(earlier), files(self));
        let brings = |file: &&ClientFile| before.get(&file.path) != Some(&file.blake3);
        Since {
            bring: self.files().filter(brings).cloned().collect(),
            delete: before
                .into_keys()
                .filter(|path| !now.contains_key(path))
                .collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::family::Place;
    use crate::inventory::tests::inventory;

    fn world() -> Inventory {
        let files = [
            (
                "addons/a.bloom",
                "id='a'\nversion='1'\nside='both'\nclashes={ z = '<2', y = '*' }",
            ),
            ("addons/b.bloom", "id='b'\nversion='1'\nside='server'"),
            ("addons/c.bloom", "id='c'\nversion='1'\nside='both'"),
            ("addons/d.bloom", "id='d'\nversion='1'"),
            ("addons/e.bloom", "id='e'\nversion='2'\nside='both'"),
            (
                "addons/f.bloom",
                "id='f'\nversion='1'\nside='client-may'\nclashes={ x = '*' }",
            ),
        ];
        inventory(
            &files,
            "start a\nstart b\nstart d\nstart e\nstart f\n",
            &BTreeMap::new(),
        )
    }

    fn kind(has: Option<Has>) -> ClientKind {
        ClientKind {
            name: "own".into(),
            title: None,
            notation: None,
            joins: None,
            speaks: Vec::new(),
            has,
            others: Others::Harmless,
            places: vec![Place {
                server: RelPath::parse("addons").unwrap(),
                client: RelPath::parse("mods/live").unwrap(),
            }],
            mismatch: None,
        }
    }

    fn told(list: &ClientList) -> String {
        let items = list.items.iter().map(|item| {
            let is = serde_json::to_string(&item.is).unwrap();
            let files: Vec<&str> = item.files.iter().map(|file| file.path.as_str()).collect();
            let version = item
                .version
                .as_deref()
                .or(item.range.as_deref())
                .unwrap_or("-");
            format!(
                "{} {version} {is} {}: {}",
                item.id,
                files.join(" "),
                item.why
            )
        });
        let unknown: Vec<&str> = list.unknown.iter().map(Id::as_str).collect();
        format!(
            "{}\nunknown: {}",
            items.collect::<Vec<_>>().join("\n"),
            unknown.join(" ")
        )
    }

    #[test]
    fn what_each_kind_of_client_has_to_have() {
        let world = world();
        let of = |kind: Option<&ClientKind>| told(&list("x", &world, kind, None));
        insta::assert_snapshot!(of(None), @r#"
        a 1 "must-have" addons/a.bloom: it runs here, and is for both sides
        e 2 "must-have" addons/e.bloom: it runs here, and is for both sides
        f 1 "may-have" addons/f.bloom: it runs here, and clients may have it, too
        y - "must-not-have" : it conflicts with a
        z <2 "must-not-have" : it conflicts with a
        unknown: d
        "#);
        insta::assert_snapshot!(of(Some(&kind(Some(Has::Word(HasWord::Same))))), @r#"
        a 1 "must-have" mods/live/a.bloom: it runs here, and is for both sides
        e 2 "must-have" mods/live/e.bloom: it runs here, and is for both sides
        f 1 "may-have" mods/live/f.bloom: it runs here, and clients may have it, too
        y - "must-not-have" : it conflicts with a
        z <2 "must-not-have" : it conflicts with a
        unknown: d
        "#);
        insta::assert_snapshot!(of(Some(&kind(Some(Has::Word(HasWord::Nothing))))), @"

        unknown:
        ");
        insta::assert_snapshot!(of(Some(&kind(Some(Has::These(vec![Id::new("b")]))))), @r#"
        b 1 "must-have" mods/live/b.bloom: the family says so of this kind of client
        unknown: d
        "#);
        insta::assert_snapshot!(of(Some(&kind(None))), @"

        unknown: a d e f
        ");
    }

    #[test]
    fn what_the_administrator_says_counts() {
        let own = |id: &str, is: Duty, files: &[&str]| Kept {
            id: Id::new(id),
            version: (id == "skin").then(|| "3".into()),
            is,
            place: None,
            files: files
                .iter()
                .enumerate()
                .map(|(at, path)| ClientFile {
                    path: RelPath::parse(path).unwrap(),
                    blake3: format!("{at}"),
                    bytes: 1,
                    from: From::Kept(at),
                })
                .collect(),
        };
        let kept = [
            own("a", Duty::MayHave, &[]),
            own(
                "e",
                Duty::MustHave,
                &["addons/e-for-clients.bloom", "addons/a.bloom"],
            ),
            own("d", Duty::MustNotHave, &[]),
            own("skin", Duty::MustHave, &["skins/skin.png"]),
        ];
        let list = list("x", &world(), None, None).with(&kept);
        insta::assert_snapshot!(told(&list), @r#"
        a 1 "may-have" : lantern.toml says so
        d - "must-not-have" : lantern.toml says so
        e 2 "must-have" addons/e-for-clients.bloom addons/a.bloom: lantern.toml says so
        f 1 "may-have" addons/f.bloom: it runs here, and clients may have it, too
        skin 3 "must-have" skins/skin.png: lantern.toml says so
        y - "must-not-have" : it conflicts with a
        z <2 "must-not-have" : it conflicts with a
        unknown:
        "#);
    }

    #[test]
    fn since_an_earlier_list() {
        let before = list("x", &world(), None, None);
        let mut now = before.clone();
        now.items.retain(|item| item.id.as_str() != "a");
        now.items[0].files[0].blake3 = "other".into();
        let since = now.since(&before);
        let bring: Vec<&str> = since.bring.iter().map(|file| file.path.as_str()).collect();
        assert_eq!(bring, ["addons/e.bloom"]);
        assert_eq!(since.delete, [RelPath::parse("addons/a.bloom").unwrap()]);
        assert_eq!(before.since(&before), Since::default());
    }
}
