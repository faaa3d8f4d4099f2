//! What a release would put where.

use super::DrawFault;
use crate::artifact::{ArchivedFile, Artifact};
use crate::component::{Id, Runs};
use crate::descriptor::{Holdings, unpacked_name};
use crate::facts::Facts;
use crate::family::{Part, Reader, Shape};
use crate::flags::NamedHashes;
use crate::inventory::Component;
use crate::link;
use crate::path::RelPath;
use crate::text::Text;
use crate::tree::{beside, root_in_archive};
use std::collections::BTreeMap;

/// The files that an offer would put into the server folder.
#[derive(Debug, Clone)]
pub struct Payload {
    /// The component's folder, or its archive.
    pub place: RelPath,
    /// What it is made of.
    pub shape: Shape,
    /// The reader that knows it.
    pub reader: String,
    /// The files.
    pub files: Vec<PayloadFile>,
    /// For a pack: its members.
    pub members: Vec<PayloadMember>,
    /// What it lays claim to besides its place.
    pub holdings: Holdings,
    /// How an add-on runs that comes new with it.
    pub runs: Runs,
    /// Which of its variants.
    pub variant: Option<String>,
    /// What lies in the archive and goes nowhere.
    pub unused: Vec<String>,
    /// The texts among its files that start scripts and settings are pinned in.
    pub texts: BTreeMap<RelPath, Text>,
    /// The hashes of those of its files of which settings name one.
    pub hashes: NamedHashes,
}

/// A member of a pack that is offered.
#[derive(Debug, Clone)]
pub struct PayloadMember {
    /// The folder or archive it would be.
    pub place: RelPath,
    /// What that is made of.
    pub shape: Shape,
    /// What it says of itself.
    pub facts: Facts,
}

/// Where a release goes.
#[derive(Debug, Clone)]
pub struct Laid {
    /// The component's folder, or its archive.
    pub place: RelPath,
    /// Its files.
    pub files: Vec<PayloadFile>,
    /// What lies in the archive and goes nowhere.
    pub unused: Vec<String>,
}

/// One file that an offer would put into the server folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PayloadFile {
    /// Where it goes.
    pub path: RelPath,
    /// The entry of the archive; none when the archive itself is the file.
    pub entry: Option<String>,
    /// Its size.
    pub bytes: u64,
    /// BLAKE3 of its content in hexadecimal; of a link its [`link::mark`].
    pub hash: String,
    /// Whether it is a copy of what goes to the component's own place: others may bring the same.
    pub is_copy: bool,
}

impl Payload {
    /// The member that a path belongs to.
    pub(super) fn member_at(&self, path: &RelPath) -> Option<&Id> {
        let mut members = self.members.iter();
        let member = members.find(|member| path.is_within(&member.place));
        member.map(|member| &member.facts.id)
    }
}

/// Says where the files of a release go.
///
/// `entries` are the files in the archive; `artifact` is the archive itself. A folder that is already there stays where it is. Of a release with variants only
/// the files of `variant` are laid out.
///
/// # Errors
/// When the family does not say where, or a path is not fit to be written.
pub fn lay_out(
    reader: &Reader,
    facts: &Facts,
    installed: Option<&Component>,
    variant: Option<&str>,
    entries: &[ArchivedFile],
    artifact: &Artifact,
) -> Result<Laid, DrawFault> {
    let id = &facts.id;
    let path_fault = |fault| DrawFault::Path {
        id: id.clone(),
        fault,
    };
    let names: Vec<&str> = entries.iter().map(|entry| entry.name.as_str()).collect();
    let heart = heart(reader, entries, &names);
    let heart = heart.ok_or_else(|| DrawFault::NoRoot { id: id.clone() })?;
    let place = match (installed.and_then(|c| c.place.as_ref()), reader.shape) {
        (Some(place), Shape::Folder | Shape::Group) => place.clone(),
        _ => {
            let place = new_place(reader, facts, artifact, &heart);
            let place = place.ok_or_else(|| DrawFault::NoPlace { id: id.clone() })?;
            RelPath::parse(&place).map_err(path_fault)?
        }
    };
    let root = match heart {
        Heart::Whole => {
            let file = PayloadFile {
                path: place.clone(),
                entry: None,
                bytes: artifact.bytes,
                hash: artifact.blake3.clone(),
                is_copy: false,
            };
            return Ok(Laid {
                place,
                files: vec![file],
                unused: Vec::new(),
            });
        }
        Heart::Entry(entry) => {
            let own = RelPath::parse(&entry.name).map_err(path_fault)?;
            let come = reader.beside(&own).into_iter().zip(reader.beside(&place));
            let come: BTreeMap<String, RelPath> =
                come.map(|(from, to)| (from.to_string(), to)).collect();
            let place_of = |it: &ArchivedFile| {
                if it.name == entry.name {
                    return Some(place.clone());
                }
                if let Some(path) = come.get(&it.name) {
                    return Some(path.clone());
                }
                // Of a folder that is its own, all that is in it.
                let mut folders = it.name.match_indices('/');
                folders.find_map(|(at, _)| come.get(&it.name[..at])?.join(&it.name[at + 1..]).ok())
            };
            let (mut files, mut unused) = (Vec::new(), Vec::new());
            for it in entries {
                match place_of(it) {
                    Some(path) => files.push(PayloadFile {
                        path,
                        entry: Some(it.name.clone()),
                        bytes: it.bytes,
                        hash: it.blake3.clone(),
                        is_copy: false,
                    }),
                    None if reader.unused.matches(&it.name) => {}
                    None => unused.push(it.name.clone()),
                }
            }
            return Ok(Laid {
                place,
                files,
                unused,
            });
        }
        Heart::Folder(root) => root,
    };
    let mut files = Vec::new();
    for entry in entries {
        let Some(below) = entry.name.strip_prefix(&root) else {
            continue;
        };
        let path = match part_of(&reader.parts, below, variant) {
            Goes::ToPlace => place.join(below),
            Goes::To(path) => RelPath::parse(&path),
            Goes::Nowhere => continue,
        };
        let file = PayloadFile {
            path: path.map_err(path_fault)?,
            entry: Some(entry.name.clone()),
            bytes: entry.bytes,
            hash: entry.blake3.clone(),
            is_copy: false,
        };
        for part in reader.parts.iter().filter(|part| part.copy) {
            if let Some(path) = part.leads(below, variant) {
                files.push(PayloadFile {
                    path: RelPath::parse(&path).map_err(path_fault)?,
                    is_copy: true,
                    ..file.clone()
                });
            }
        }
        files.push(file);
    }
    // A variant may have its own in the place of what all have.
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let of_variant = |file: &PayloadFile| {
        let below = file
            .entry
            .as_deref()
            .and_then(|entry| entry.strip_prefix(&root));
        below.is_some_and(|below| {
            let mut parts = reader.parts.iter();
            parts
                .any(|part| part.from.contains("{variant}") && part.leads(below, variant).is_some())
        })
    };
    files.dedup_by(|later, first| {
        let same = later.path == first.path;
        if same && of_variant(later) {
            std::mem::swap(later, first);
        }
        same
    });
    links_stay(&files, &place, id)?;
    let unused = beside(reader, &root, &names).into_iter();
    Ok(Laid {
        place,
        files,
        unused: unused.map(str::to_owned).collect(),
    })
}

/// What of a release's archive is the component.
enum Heart<'e> {
    /// The archive itself.
    Whole,
    /// One file in it.
    Entry(&'e ArchivedFile),
    /// A folder in it, with a slash at its end; all of it where that is empty.
    Folder(String),
}

fn heart<'e>(reader: &Reader, entries: &'e [ArchivedFile], names: &[&str]) -> Option<Heart<'e>> {
    if !reader.shape.is_one_file() {
        return root_in_archive(reader, names).at().map(Heart::Folder);
    }
    let Some(inside) = &reader.inside else {
        return Some(Heart::Whole);
    };
    let mut found = entries.iter().filter(|entry| inside.matches(&entry.name));
    let entry = found.next().filter(|_| found.next().is_none());
    entry.map(Heart::Entry)
}

/// Where a new component goes, as its reader says; none where that says nothing.
fn new_place(
    reader: &Reader,
    facts: &Facts,
    artifact: &Artifact,
    heart: &Heart<'_>,
) -> Option<String> {
    let file = artifact.file.rsplit(['/', '\\']).next().unwrap_or_default();
    let path = match heart {
        Heart::Whole => file,
        Heart::Entry(entry) => &entry.name,
        Heart::Folder(root) => root.trim_end_matches('/'),
    };
    let text = reader.install.as_deref()?;
    let text = text.replace("{id}", facts.id.as_str());
    let text = text.replace("{version}", facts.version.as_str().trim_start_matches('#'));
    let text = text.replace("{file}", file);
    let text = text.replace("{archive}", unpacked_name(file));
    Some(text.replace("{path}", path))
}

/// Refuses a link that leads out of all that is the release's own: its place, and what it puts elsewhere.
fn links_stay(files: &[PayloadFile], place: &RelPath, id: &Id) -> Result<(), DrawFault> {
    for file in files {
        let Some(target) = link::target(&file.hash) else {
            continue;
        };
        let stays = link::leads_to(&file.path, target).is_some_and(|to| {
            to.is_within(place) || files.iter().any(|other| other.path.is_within(&to))
        });
        if !stays {
            return Err(DrawFault::LinkLeaves {
                id: id.clone(),
                path: file.path.clone(),
                target: target.to_owned(),
            });
        }
    }
    Ok(())
}

/// Where an entry of a release goes.
enum Goes {
    /// Below the component's own place.
    ToPlace,
    /// There.
    To(String),
    /// It is of a variant that was not chosen.
    Nowhere,
}

fn part_of(parts: &[Part], below: &str, variant: Option<&str>) -> Goes {
    let fitting = parts.iter().filter(|part| !part.copy);
    let fitting = fitting.filter_map(|part| Some((part, part.leads(below, variant)?)));
    if let Some((_, to)) = fitting.max_by_key(|(part, _)| part.from.len()) {
        return Goes::To(to);
    }
    let other_variant = parts.iter().any(|part| {
        let stem = part.from.split("{variant}").next().unwrap_or("");
        part.from.contains("{variant}") && below.starts_with(stem)
    });
    if other_variant {
        Goes::Nowhere
    } else {
        Goes::ToPlace
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::component::Kind;
    use crate::family::Family;
    use crate::version::{Notation, Version};

    fn reader(text: &str) -> Reader {
        let family = crate::tree::tests::FAMILY;
        let top = &family[..family.find("[[reader]]").unwrap()];
        let family = Family::parse(&format!("{top}\n[[reader]]\n{text}")).unwrap();
        family.readers.into_iter().next().unwrap()
    }

    #[test]
    fn a_link_stays_inside_what_is_the_release_s_own() {
        let reader = reader(
            r#"
            name = "tool"
            kind = "addon"
            shape = "folder"
            at = "tools/*"
            install = "tools/{id}"
            marks = ["bin/run"]
            parts = [{ from = "docs", to = "manual" }]
            "#,
        );
        let laid = |path: &str, target: &str| {
            let link = ArchivedFile {
                name: path.into(),
                bytes: target.len() as u64,
                blake3: link::mark(target),
            };
            let file = |name: &str| ArchivedFile {
                name: name.into(),
                bytes: 1,
                blake3: "00".into(),
            };
            let entries = [file("bin/run"), file("docs/page/one"), link];
            let version = Version::parse("1.2", Notation::Dotted).unwrap();
            let facts = Facts::new(Id::new("ivy"), Kind::Addon, version);
            let artifact = Artifact::default();
            lay_out(&reader, &facts, None, None, &entries, &artifact).is_ok()
        };
        for (path, target, stays) in [
            ("bin/go", "run", true),
            ("go", "bin/not-there", true),
            ("docs/first", "page/one", true),
            ("docs/first", "page", true),
            // There in the archive, and elsewhere once they are laid out.
            ("docs/run", "../bin/run", false),
            ("bin/docs", "../docs", true),
            ("up", "../other-tool", false),
            ("docs/up", "..", false),
        ] {
            assert_eq!(laid(path, target), stays, "{path} -> {target}");
        }
    }

    fn laid(reader: &Reader, variant: Option<&str>, names: &[&str]) -> Result<String, DrawFault> {
        let version = Version::parse("1.2", Notation::Dotted).unwrap();
        let facts = Facts::new(Id::new("ivy"), Kind::Addon, version);
        let entry = |name: &&str| ArchivedFile {
            name: (*name).into(),
            bytes: 3,
            blake3: format!("hash of {name}"),
        };
        let entries: Vec<ArchivedFile> = names.iter().map(entry).collect();
        let artifact = Artifact {
            file: "drop/ivy.zip".into(),
            blake3: "whole".into(),
            bytes: 9,
            urls: Vec::new(),
        };
        let laid = lay_out(reader, &facts, None, variant, &entries, &artifact)?;
        let files = laid.files.iter().map(|file| {
            let entry = file.entry.as_deref().unwrap_or("itself");
            assert!(file.entry.is_none() || file.hash == format!("hash of {entry}"));
            format!("{} < {entry}", file.path)
        });
        let place = format!("{}, unused {:?}", laid.place, laid.unused);
        Ok(std::iter::once(place)
            .chain(files)
            .collect::<Vec<_>>()
            .join("\n"))
    }

    #[test]
    fn a_release_is_found_in_its_archive_and_laid_to_its_place() {
        let plain = reader(
            "name = 'ivy'\nkind = 'addon'\nshape = 'folder'\nat = 'addons/*'\nmarks = ['ivy.toml']\ninstall = 'addons/{id}'",
        );
        let told = [
            &["ivy.toml", "leaves/a"][..],
            &["ivy-1.2/ivy.toml", "ivy-1.2/leaves/a"],
            &["ivy-1.2/ivy.toml", "readme"],
        ];
        let told = told.map(|names| laid(&plain, None, names).unwrap());
        insta::assert_snapshot!(told.join("\n"), @r#"
        addons/ivy, unused []
        addons/ivy/ivy.toml < ivy.toml
        addons/ivy/leaves/a < leaves/a
        addons/ivy, unused []
        addons/ivy/ivy.toml < ivy-1.2/ivy.toml
        addons/ivy/leaves/a < ivy-1.2/leaves/a
        addons/ivy, unused ["readme"]
        addons/ivy/ivy.toml < ivy-1.2/ivy.toml
        "#);
        let whole = reader(
            "name = 'ivy'\nkind = 'addon'\nshape = 'archive'\nat = 'addons/*.zip'\ninstall = 'addons/{id}-{version}.zip'",
        );
        insta::assert_snapshot!(laid(&whole, None, &["ivy.toml"]).unwrap(), @"
        addons/ivy-1.2.zip, unused []
        addons/ivy-1.2.zip < itself
        ");
        let nowhere = reader(
            "name = 'ivy'\nkind = 'addon'\nshape = 'folder'\nat = 'addons/*'\nmarks = ['ivy.toml']",
        );
        assert!(matches!(
            laid(&nowhere, None, &["ivy.toml"]),
            Err(DrawFault::NoPlace { .. })
        ));
        assert!(matches!(
            laid(&plain, None, &["readme"]),
            Err(DrawFault::NoRoot { .. })
        ));
    }

    #[test]
    fn parts_go_to_places_of_their_own_and_a_variant_takes_what_all_have() {
        let parts = reader(
            "name = 'ivy'\nkind = 'pack'\nshape = 'folder'\nat = 'addons/*'\nmarks = ['ivy.toml']\ninstall = 'addons/{id}'\n\
             parts = [{ from = 'top', to = '' }, { from = 'kinds/{variant}', to = 'config/' }, { from = 'all', to = 'config' }]",
        );
        let names = [
            "ivy.toml",
            "top/start.sh",
            "all/a.conf",
            "all/b.conf",
            "kinds/wild/b.conf",
            "kinds/tame/c.conf",
            "topmost/d",
        ];
        let told = [Some("wild"), Some("tame"), None]
            .map(|variant| laid(&parts, variant, &names).unwrap());
        insta::assert_snapshot!(told.join("\n"), @"
        addons/ivy, unused []
        addons/ivy/ivy.toml < ivy.toml
        addons/ivy/topmost/d < topmost/d
        config/a.conf < all/a.conf
        config/b.conf < kinds/wild/b.conf
        start.sh < top/start.sh
        addons/ivy, unused []
        addons/ivy/ivy.toml < ivy.toml
        addons/ivy/topmost/d < topmost/d
        config/a.conf < all/a.conf
        config/b.conf < all/b.conf
        config/c.conf < kinds/tame/c.conf
        start.sh < top/start.sh
        addons/ivy, unused []
        addons/ivy/ivy.toml < ivy.toml
        addons/ivy/topmost/d < topmost/d
        config/a.conf < all/a.conf
        config/b.conf < all/b.conf
        start.sh < top/start.sh
        ");
    }

    #[test]
    fn of_a_part_that_is_copied_both_come() {
        let copied = reader(
            "name = 'ivy'\nkind = 'addon'\nshape = 'folder'\nat = 'addons/*'\nmarks = ['ivy.toml']\ninstall = 'addons/{id}'\n\
             parts = [{ from = 'seals', to = 'seals', copy = true }, { from = 'seals/top', to = '' }, { from = 'one', to = 'ones/', copy = true }]",
        );
        let names = ["ivy.toml", "one", "seals/a", "seals/top/b"];
        insta::assert_snapshot!(laid(&copied, None, &names).unwrap(), @"
        addons/ivy, unused []
        addons/ivy/ivy.toml < ivy.toml
        addons/ivy/one < one
        addons/ivy/seals/a < seals/a
        b < seals/top/b
        ones/one < one
        seals/a < seals/a
        seals/top/b < seals/top/b
        ");
    }
}
