//! What looks alike in a server folder: a reader for each.

use super::fields::{Field, Told, fields, id_by_header};
use super::layout::is_data;
use super::notation::{self, PROSE, last, stem};
use super::own_word::switch;
use super::{Sample, quoted};
use crate::family::Glob;
use crate::path::RelPath;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};

/// Header lines as they are commonly written, tried in turn.
const HEADERS: &[&str] = &[
    r"^\s*[#;/*-]+\s*@?(?P<key>[A-Za-z]+)\s*[:=]\s*(?P<value>.+?)\s*$",
    r"^\s*[#;/*-]+\s*@?(?P<key>[A-Za-z]+)\s+(?P<value>.+?)\s*$",
];

/// Extensions of texts that lie beside anything.
const TEXTS: &[&str] = &["txt", "md", "html", "log"];

/// What the name of a folder, or an extension, says of add-ons that are switched off.
const OFF: &[&str] = &["off", "disabled", "inactive", "parked", "unused"];

/// Finds the version at the end of a name.
pub(super) const NUMBER: &str = r"'[-_ ]v?(?P<value>\d[\w.:~+-]*)$'";

/// Finds a name that may end in a version.
const UNNUMBERED: &str = r"'^(?P<value>.+?)([-_ ]v?\d[\w.:~+-]*)?$'";

/// A guess at a reader.
#[derive(Default)]
pub(super) struct Guess {
    name: String,
    kind: &'static str,
    shape: &'static str,
    pub(super) at: String,
    install: String,
    marks: Vec<String>,
    members: Option<String>,
    file: Option<(String, &'static str)>,
    header: Option<&'static str>,
    fields: Vec<Field>,
    /// Where those lie that are switched off.
    off: Option<String>,
    /// Where they say themselves whether they run.
    switch: Option<String>,
    /// What lies beside one and belongs to it.
    with: Vec<String>,
    /// Where the folder of what one writes is found.
    data: Option<String>,
    /// What its releases look like, as keys of the reader.
    release: Vec<String>,
    /// Whether the folders are called otherwise than what lies in them.
    goes_by_name: bool,
    /// Whether nothing but the names of its releases tells a version.
    is_numbered: bool,
    /// The ids of what was seen, as far as names tell.
    pub(super) ids: BTreeSet<String>,
    seen: usize,
}

/// Files by their folder and extension.
type Alike<'p> = BTreeMap<(String, String), Vec<&'p RelPath>>;

fn by_extension<'p>(paths: impl Iterator<Item = &'p RelPath>) -> Alike<'p> {
    let mut alike = Alike::new();
    for path in paths {
        if let (Some(folder), Some((_, extension))) = (path.folder(), path.name().rsplit_once('.'))
        {
            let key = (folder.to_string(), extension.to_owned());
            alike.entry(key).or_default().push(path);
        }
    }
    alike
}

/// Takes out what is like others but for one more extension, or a folder that says that it is off; by the others' folder and
/// extension, where it lies.
fn parked(alike: &mut Alike<'_>) -> BTreeMap<(String, String), String> {
    let mut found = BTreeMap::new();
    let keys: Vec<(String, String)> = alike.keys().cloned().collect();
    for (folder, extension) in &keys {
        let before = alike[&(folder.clone(), extension.clone())]
            .iter()
            .map(|path| stem(path.name()).rsplit_once('.').map(|(_, before)| before));
        let before: BTreeSet<Option<&str>> = before.collect();
        let renamed = match before.into_iter().collect::<Vec<_>>()[..] {
            [Some(before)] if is_off(extension) => Some((folder.clone(), before.to_owned()))
                .filter(|on| keys.contains(on))
                .map(|on| (on, format!("{{name}}.{extension}"))),
            _ => None,
        };
        let mut homes = keys.iter().filter(|(_, other)| other == extension);
        let moved = homes.find_map(|(home, _)| {
            let off = beside(home, folder)?;
            Some(((home.clone(), extension.clone()), off))
        });
        if let Some((on, off)) = renamed.or(moved) {
            alike.remove(&(folder.clone(), extension.clone()));
            found.insert(on, off);
        }
    }
    found
}

fn is_off(word: &str) -> bool {
    OFF.contains(&word.to_lowercase().as_str())
}

/// Where those of a folder lie that are off, if another folder's name says that it is that place.
fn beside(home: &str, folder: &str) -> Option<String> {
    let rest = folder.strip_prefix(home)?;
    let word = rest.strip_prefix(['/', '-', '_', '.'])?;
    is_off(word).then(|| format!("{{folder}}{rest}/{{name}}"))
}

/// Archives of one extension in one folder.
fn archives(sample: &Sample) -> Vec<Guess> {
    let mut alike = by_extension(sample.archives.keys());
    let mut off = parked(&mut alike);
    let guesses = alike.into_iter().map(|((folder, extension), paths)| {
        let told = told_inside(sample, &paths);
        let mut ids: BTreeSet<String> = paths
            .iter()
            .map(|path| unnumbered(stem(path.name())))
            .collect();
        if let Some(told) = &told {
            let texts = paths.iter().filter_map(|path| {
                let name = sample.archives[*path].iter();
                let name = name
                    .clone()
                    .find(|name| in_any_folder(path, name) == told.file)?;
                told.id(sample.texts.get(&format!("{path}!{name}"))?)
            });
            ids.extend(texts);
        }
        // New ones are named as those are that are there.
        let between = paths.iter().map(|path| before_number(stem(path.name())));
        let numbered = match most_common(between.collect::<Vec<_>>().iter()).as_deref() {
            None | Some("") => String::new(),
            Some(between) => format!("{between}{{version}}"),
        };
        Guess {
            name: extension.clone(),
            kind: "addon",
            shape: "archive",
            ids,
            at: format!("{folder}/*.{extension}"),
            off: off.remove(&(folder.clone(), extension.clone())),
            install: format!("{folder}/{{id}}{numbered}.{extension}"),
            file: told.as_ref().map(|told| (told.file.clone(), told.notation)),
            fields: told.map(|told| told.fields).unwrap_or_default(),
            seen: paths.len(),
            ..Guess::default()
        }
    });
    guesses.collect()
}

/// The name of a file in an archive, in whatever folder where that is called as the archive is.
fn in_any_folder(archive: &RelPath, name: &str) -> String {
    let own = [stem(archive.name()), &unnumbered(stem(archive.name()))];
    match name.split_once('/') {
        Some((folder, rest)) if own.contains(&folder) => format!("*/{rest}"),
        _ => name.to_owned(),
    }
}

/// The descriptor that most of these archives have, the one that tells most among those, and of these the one that lies highest.
fn told_inside(sample: &Sample, paths: &[&RelPath]) -> Option<Told> {
    let mut found: BTreeMap<String, (usize, Told)> = BTreeMap::new();
    for path in paths {
        for name in &sample.archives[*path] {
            let Some(text) = sample.texts.get(&format!("{path}!{name}")) else {
                continue;
            };
            let name = in_any_folder(path, name);
            let Some(told) = Told::by(&name, text) else {
                continue;
            };
            match found.get_mut(&name) {
                Some((count, most)) => {
                    *count += 1;
                    if told.much() > most.much() {
                        *most = told;
                    }
                }
                None => {
                    found.insert(name, (1, told));
                }
            }
        }
    }
    let most = found.into_values().max_by_key(|(count, told)| {
        let deep = told.file.matches('/').count();
        (*count, told.much(), Reverse(deep))
    });
    most.map(|(_, told)| told)
}

/// Folders side by side that have a file of the same name in them.
fn folders(sample: &Sample) -> Vec<Guess> {
    let mut alike: BTreeMap<(String, &str), Vec<&RelPath>> = BTreeMap::new();
    for path in &sample.paths {
        let above = path.folder().and_then(|folder| folder.folder());
        let text = sample.texts.get(path.as_str());
        if let Some((above, text)) = above.zip(text)
            && notation::of(path.as_str(), text).is_some()
        {
            alike
                .entry((above.to_string(), path.name()))
                .or_default()
                .push(path);
        }
    }
    let alike = in_folders_alike(alike);
    let places: BTreeSet<String> = alike.keys().map(|(above, _)| above.clone()).collect();
    let is_parked = |above: &str| places.iter().any(|home| beside(home, above).is_some());
    let off = |above: &str| places.iter().find_map(|other| beside(above, other));
    let on = alike.iter().filter(|((above, _), _)| !is_parked(above));
    let guesses = on.filter_map(|((above, file), paths)| {
        let (renamed, paths): (Vec<&RelPath>, Vec<&RelPath>) =
            paths.iter().copied().partition(|path| {
                let name = path.folder().map(|folder| folder.name().to_owned());
                name.is_some_and(|it| it.rsplit_once('.').is_some_and(|(_, end)| is_off(end)))
            });
        let renamed = renamed.first().and_then(|path| {
            let folder = path.folder()?;
            let (_, end) = folder.name().rsplit_once('.')?;
            Some(format!("{{name}}.{end}"))
        });
        // A file that says nothing of a component does not make one; the one that says most tells how they say it.
        let texts = paths
            .iter()
            .filter_map(|path| sample.texts.get(path.as_str()));
        let told = texts.filter_map(|text| Some((Told::by(file, text)?, text.len())));
        let (told, _) = told.max_by_key(|(told, bytes)| (told.much(), *bytes))?;
        let mut ids = folder_names(&paths);
        let names = ids.len();
        let texts = paths.iter().filter_map(|it| sample.texts.get(it.as_str()));
        ids.extend(texts.clone().filter_map(|text| told.id(text)));
        let off = renamed.or_else(|| off(above));
        let says = off
            .is_none()
            .then(|| switch(&told, texts.map(String::as_str)));
        (paths.len() > 1).then(|| Guess {
            name: last(above.trim_end_matches("/*")).to_owned(),
            kind: "addon",
            shape: "folder",
            at: format!("{above}/*"),
            off,
            switch: says.flatten(),
            install: match above.split_once("/*") {
                // In which of them a new one goes, its download tells.
                Some((whole, _)) => format!("{whole}/{{path}}"),
                None => format!("{above}/{{id}}"),
            },
            goes_by_name: ids.len() > names,
            ids,
            file: Some((told.file, told.notation)),
            fields: told.fields,
            seen: paths.len(),
            ..Guess::default()
        })
    });
    guesses.collect()
}

/// Descriptors by the folder of their folders, and their name.
type ByAbove<'p, 's> = BTreeMap<(String, &'s str), Vec<&'p RelPath>>;

/// Puts together what lies in folders that are called alike but for one of those that they lie in: `items/7/mods` and
/// `items/9/mods` are `items/*/mods`, `items/ida` and `items/ilva` are `items/*`.
fn in_folders_alike<'p, 's>(alike: ByAbove<'p, 's>) -> ByAbove<'p, 's> {
    let places: BTreeSet<String> = alike.keys().map(|(above, _)| above.clone()).collect();
    let is_parked = |above: &str| {
        let mut others = places.iter();
        others.any(|other| {
            beside(other, above)
                .or_else(|| beside(above, other))
                .is_some()
        })
    };
    let starred = |above: &str| -> Vec<String> {
        let parts: Vec<&str> = above.split('/').collect();
        let one_place = is_parked(above) || places.contains(&parts[..parts.len() - 1].join("/"));
        let inner = 1..parts.len() - usize::from(one_place);
        let with_star = inner.map(|at| [&parts[..at], &["*"], &parts[at + 1..]].concat().join("/"));
        with_star.collect()
    };
    let mut share: BTreeMap<(String, &str), usize> = BTreeMap::new();
    for (above, file) in alike.keys() {
        for star in starred(above) {
            *share.entry((star, file)).or_default() += 1;
        }
    }
    let mut all = ByAbove::new();
    for ((above, file), paths) in alike {
        let stars = starred(&above).into_iter().map(|star| (star, file));
        let most = stars.max_by_key(|key| share.get(key).copied());
        let key = most.filter(|key| share.get(key).is_some_and(|count| *count > 1));
        let key = key.unwrap_or((above, file));
        all.entry(key).or_default().extend(paths);
    }
    all
}

/// Files of one extension in one folder that tell of themselves at their top.
fn single_files(sample: &Sample, taken: &[Guess]) -> Vec<Guess> {
    let mut alike = by_extension(sample.paths.iter());
    let mut off = parked(&mut alike);
    let guesses = alike
        .into_iter()
        .filter_map(|((folder, extension), paths)| {
            let at = format!("{folder}/*.{extension}");
            // Of some the name alone may tell.
            let texts = paths
                .iter()
                .filter_map(|path| sample.texts.get(path.as_str()));
            let mut told = texts.clone().flat_map(|text| told_by_header(text));
            let (header, fields) = told.next()?;
            let ids = texts.filter_map(|text| id_by_header(&fields, header, text));
            let stems = paths.iter().map(|path| stem(path.name()).to_owned());
            let ids = stems.chain(ids).collect();
            let free = !taken.iter().any(|guess| guess.at == at);
            (paths.len() > 1 && free).then(|| Guess {
                name: extension.clone(),
                kind: "addon",
                shape: "file",
                ids,
                install: format!("{folder}/{{id}}.{extension}"),
                off: off.remove(&(folder.clone(), extension.clone())),
                at,
                file: Some((".".into(), "header")),
                header: Some(header),
                fields,
                seen: paths.len(),
                ..Guess::default()
            })
        });
    guesses.collect()
}

fn told_by_header(text: &str) -> Option<(&'static str, Vec<Field>)> {
    HEADERS.iter().find_map(|header| {
        let fields = fields("header", Some(header), text);
        let tells = fields.iter().any(|field| field.name == "version");
        tells.then_some((*header, fields))
    })
}

/// Folders side by side that have a file of one name, or of one extension, and no descriptor: that file marks them.
fn like_folders(sample: &Sample, taken: &[Guess]) -> Vec<Guess> {
    let mut alike: BTreeMap<(String, String), Vec<&RelPath>> = BTreeMap::new();
    for path in &sample.paths {
        let prose = PROSE.contains(&stem(path.name()).to_lowercase().as_str());
        let folder = path.folder().filter(|_| !prose);
        if let Some(folder) = folder {
            // At the top, too: the server folder may hold nothing else.
            let above = folder
                .folder()
                .map_or(String::new(), |above| format!("{above}/"));
            let key = (above.clone(), path.name().to_owned());
            alike.entry(key).or_default().push(path);
            let extension = path.name().rsplit_once('.').map(|(_, extension)| extension);
            // Not at the top, where it could be any folder.
            if let Some(extension) = extension.filter(|it| !above.is_empty() && !TEXTS.contains(it))
            {
                let files = alike.entry((above, format!("*.{extension}"))).or_default();
                if files
                    .last()
                    .is_none_or(|known| known.folder() != Some(folder))
                {
                    files.push(path);
                }
            }
        }
    }
    // Of each folder what most of those in it have: a name before an extension.
    let mut best: BTreeMap<&str, (&str, &Vec<&RelPath>)> = BTreeMap::new();
    for ((above, file), paths) in alike.iter().rev() {
        let known = best.entry(above).or_insert((file, paths));
        if paths.len() > known.1.len() {
            *known = (file, paths);
        }
    }
    let own = |at: &str| {
        let mut folders = taken.iter().filter(|guess| guess.shape == "folder");
        folders.any(|guess| guess.at == at || guess.holds(at))
    };
    let inside = |above: &str| {
        taken.iter().any(|guess| {
            let place = guess.at.trim_end_matches('*');
            guess.shape == "folder" && above.len() > place.len() && above.starts_with(place)
        })
    };
    let several = best.into_iter().filter(|(above, (_, paths))| {
        paths.len() > 1 && !own(&format!("{above}*")) && !inside(above)
    });
    let several: Vec<(&str, (&str, &Vec<&RelPath>))> = several.collect();
    // Inside of one that is found the same way lie its own.
    let marked = several.iter().filter(|(above, _)| {
        let mut others = several.iter().map(|(other, _)| *other);
        !others.any(|other| other.len() < above.len() && above.starts_with(other))
    });
    let guesses = marked.map(|&(above, (file, paths))| Guess {
        name: match last(above.trim_end_matches('/')) {
            "" => "folder".into(),
            name => name.to_owned(),
        },
        kind: "addon",
        shape: "folder",
        at: format!("{above}*"),
        install: format!("{above}{{id}}"),
        marks: vec![file.to_owned()],
        ids: folder_names(paths),
        seen: paths.len(),
        ..Guess::default()
    });
    guesses.collect()
}

/// Files of one extension in one folder that are no text, libraries and the like, with those that are called alike beside them.
fn like_files(sample: &Sample, taken: &[Guess]) -> Vec<Guess> {
    let mut folders: BTreeMap<String, BTreeMap<&str, Vec<&RelPath>>> = BTreeMap::new();
    for path in &sample.paths {
        let folder = path
            .folder()
            .filter(|_| !is_data(path) && !sample.archives.contains_key(path));
        if let (Some(folder), Some((_, extension))) = (folder, path.name().rsplit_once('.')) {
            let alike = folders.entry(folder.to_string()).or_default();
            alike.entry(extension).or_default().push(path);
        }
    }
    let free = |folder: &str| {
        let mut guesses = taken.iter();
        !guesses.any(|guess| match guess.is_one_file() {
            true => guess
                .at
                .rsplit_once('/')
                .is_some_and(|(above, _)| above == folder),
            false => folder.starts_with(guess.at.trim_end_matches('*')),
        })
    };
    let mut guesses = Vec::new();
    for (folder, mut alike) in folders.into_iter().filter(|(folder, _)| free(folder)) {
        while let Some(main) = most_like_one(sample, &alike) {
            let paths = alike.remove(main).unwrap_or_default();
            guesses.push(of_files(sample, &folder, (main, &paths), &mut alike));
        }
    }
    guesses
}

/// The extension of most files that are no text; of several that have as many, the one that the log of a start names.
fn most_like_one<'e>(sample: &Sample, alike: &BTreeMap<&'e str, Vec<&RelPath>>) -> Option<&'e str> {
    let is_named = |extension: &str| {
        let end = format!(".{extension}");
        sample.log.as_ref().is_some_and(|log| log.contains(&end))
    };
    let is_text = |path: &&RelPath| sample.texts.contains_key(path.as_str());
    let several = alike.iter();
    let several = several.filter(|(_, paths)| paths.len() > 1 && !paths.iter().any(is_text));
    let most = several
        .max_by_key(|(extension, paths)| (paths.len(), is_named(extension), Reverse(**extension)));
    most.map(|(extension, _)| *extension)
}

/// A guess at files of one extension; what is called as they are is taken out of the others.
fn of_files(
    sample: &Sample,
    folder: &str,
    (extension, paths): (&str, &[&RelPath]),
    others: &mut BTreeMap<&str, Vec<&RelPath>>,
) -> Guess {
    let names: BTreeSet<&str> = paths.iter().map(|path| stem(path.name())).collect();
    let (mut with, mut told) = (Vec::new(), None);
    others.retain(|other, paths| {
        let is_alike = paths.iter().all(|path| names.contains(stem(path.name())));
        if is_alike {
            let text = paths
                .first()
                .and_then(|path| sample.texts.get(path.as_str()));
            let tells = text.and_then(|text| Told::by(&format!("{{stem}}.{other}"), text));
            match tells.filter(|_| told.is_none()) {
                Some(found) => told = Some(found),
                None => with.push(format!("{{stem}}.{other}")),
            }
        }
        !is_alike
    });
    Guess {
        name: extension.to_owned(),
        kind: "addon",
        shape: "file",
        at: format!("{folder}/*.{extension}"),
        install: format!("{folder}/{{id}}.{extension}"),
        ids: names.into_iter().map(str::to_owned).collect(),
        with,
        file: told.as_ref().map(|told| (told.file.clone(), told.notation)),
        fields: told.map(|told| told.fields).unwrap_or_default(),
        seen: paths.len(),
        ..Guess::default()
    }
}

/// Folders that hold several of what another guess found: packs, told by a file of their own.
fn groups(sample: &Sample, members: &[Guess]) -> Vec<Guess> {
    let mut guesses = Vec::new();
    for guess in members.iter().filter(|guess| guess.shape == "folder") {
        let above = guess.at.trim_end_matches('*');
        let below = |path: &RelPath| path.as_str().strip_prefix(above).map(str::to_owned);
        let mut holds: BTreeMap<String, usize> = BTreeMap::new();
        let mut own: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for rest in sample.paths.iter().filter_map(below) {
            match rest.split('/').collect::<Vec<_>>()[..] {
                [pack, _, file] if guess.is_told_by(file) => {
                    *holds.entry(pack.into()).or_default() += 1
                }
                [pack, file] => own.entry(pack.into()).or_default().push(file.into()),
                _ => {}
            }
        }
        let prose = |file: &&String| PROSE.contains(&stem(file).to_lowercase().as_str());
        let packs = holds.iter().filter_map(|(pack, count)| {
            let own = own.get(pack).filter(|_| *count > 1)?;
            let mark = own.iter().find(|file| !prose(file))?;
            (!own.iter().any(|file| guess.is_told_by(file))).then_some((pack.clone(), mark.clone()))
        });
        let packs: Vec<(String, String)> = packs.collect();
        if packs.is_empty() {
            continue;
        }
        let marks: BTreeSet<String> = packs.iter().map(|(_, mark)| mark.clone()).collect();
        guesses.push(Guess {
            name: format!("{}-pack", guess.name),
            kind: "pack",
            shape: "group",
            at: guess.at.clone(),
            install: guess.install.clone(),
            marks: marks.into_iter().collect(),
            members: Some(guess.name.clone()),
            seen: packs.len(),
            ..Guess::default()
        });
    }
    guesses
}

/// Everything that looks alike, packs before what they are made of.
pub(super) fn guess(sample: &Sample) -> Vec<Guess> {
    let mut guesses = archives(sample);
    guesses.extend(folders(sample));
    guesses.extend(single_files(sample, &guesses));
    guesses.extend(like_folders(sample, &guesses));
    guesses.extend(like_files(sample, &guesses));
    without_data(sample, &mut guesses);
    let mut all = groups(sample, &guesses);
    all.extend(guesses);
    let mut names = BTreeMap::new();
    for guess in &mut all {
        let count: &mut usize = names.entry(guess.name.clone()).or_default();
        *count += 1;
        if *count > 1 {
            guess.name = format!("{}-{count}", guess.name);
        }
    }
    for guess in &mut all {
        let like: Vec<_> = sample
            .releases
            .iter()
            .filter(|it| guess.is_in(it))
            .collect();
        guess.learn(&like);
    }
    all
}

/// Takes folders that are called as the files beside them are for what those write, and not for add-ons of their own.
fn without_data(sample: &Sample, guesses: &mut Vec<Guess>) {
    let mut data = Vec::new();
    for guess in guesses.iter_mut().filter(|it| it.is_one_file()) {
        let (above, _) = guess.at.rsplit_once('/').unwrap_or_default();
        let below = |path: &RelPath| Some(path.below(above)?.split_once('/')?.0.to_owned());
        let folders: BTreeSet<String> = sample.paths.iter().filter_map(below).collect();
        let own = folders.intersection(&guess.ids).count();
        if own > 0 && own * 2 >= folders.len() && !above.contains('{') {
            let id = guess.fields.iter().find(|field| field.name == "id");
            let found = match id {
                Some(id) => format!("at = {}", quoted(&id.key)),
                None => format!("at = \"$stem\", pattern = {UNNUMBERED}"),
            };
            let template = quoted(&format!("{above}/{{}}"));
            guess.data = Some(format!("data = {{ {found}, template = {template} }}"));
            data.push(format!("{above}/*"));
        }
    }
    guesses.retain(|guess| guess.is_one_file() || !data.contains(&guess.at));
}

/// A release that is looked at for a draft: its file's name, and the names in it, none where it is no archive.
pub type Release = (String, Vec<String>);

impl Guess {
    fn is_one_file(&self) -> bool {
        matches!(self.shape, "archive" | "file")
    }

    /// The folders in which its add-ons keep what they write, as a pattern.
    pub(super) fn data(&self) -> Option<String> {
        let (above, _) = self.data.as_ref().and(self.at.rsplit_once('/'))?;
        Some(format!("{above}/*"))
    }

    /// The folders above these whose names differ, and what finds one in a place; none where they all lie in one.
    pub(super) fn items(&self, sample: &Sample) -> Option<(String, BTreeSet<String>)> {
        let (before, _) = self.at.split_once("/*/")?;
        let each = format!("^{}/(?P<value>[^/]+)/", regex::escape(before));
        let below = |path: &RelPath| {
            let rest = path.as_str().strip_prefix(before)?.strip_prefix('/')?;
            Some(rest.split_once('/')?.0.to_owned())
        };
        let claims = self.claims();
        let is_one = |path: &&RelPath| claims.iter().any(|glob| glob.matches(path.as_str()));
        let claimed = sample.paths.iter().filter(is_one);
        Some((each, claimed.filter_map(below).collect()))
    }

    /// What finds one of these in its place, by its file's or folder's name, and all such names, in each way in which they may be meant; none
    /// where they lie in several folders.
    pub(super) fn places(&self, sample: &Sample) -> Vec<(String, BTreeSet<String>)> {
        let Some((folder, _)) = self.at.rsplit_once('/') else {
            return Vec::new();
        };
        if folder.contains('*') || !matches!(self.shape, "archive" | "file" | "folder") {
            return Vec::new();
        }
        let name = |path: &RelPath| {
            let rest = path.as_str().strip_prefix(folder)?.strip_prefix('/')?;
            match (self.is_one_file(), rest.split_once('/')) {
                (true, None) => self.holds(path.as_str()).then(|| rest.to_owned()),
                (false, Some((name, _))) => Some(name.to_owned()),
                _ => None,
            }
        };
        let paths = sample.paths.iter().chain(sample.archives.keys());
        let names: BTreeSet<String> = paths.filter_map(name).collect();
        let mut all = Vec::new();
        let folder = regex::escape(folder);
        if self.is_one_file() {
            let stems = names.iter().map(|name| stem(name).to_owned()).collect();
            let extension = regex::escape(self.extension());
            all.push((format!(r"^{folder}/(?P<value>[^/]+)\.{extension}$"), stems));
        }
        all.push((format!("^{folder}/(?P<value>[^/]+)$"), names));
        all
    }

    /// Whether a place is one of these.
    fn holds(&self, place: &str) -> bool {
        Glob::new(&self.at).is_ok_and(|glob| glob.matches(place))
    }

    fn extension(&self) -> &str {
        self.at
            .rsplit_once("*.")
            .map_or("", |(_, extension)| extension)
    }

    /// Whether a file of this path tells it.
    fn is_told_by(&self, path: &str) -> bool {
        let file = self.file.as_ref().map(|(file, _)| file);
        let telling = file.or(self.marks.first());
        telling.is_some_and(|telling| {
            *telling == last(path) || Glob::new(telling).is_ok_and(|glob| glob.matches(last(path)))
        })
    }

    fn is_in(&self, (name, entries): &Release) -> bool {
        let ends = |entry: &String| {
            entry
                .rsplit_once('.')
                .is_some_and(|(_, e)| e == self.extension())
        };
        match self.shape {
            "archive" => ends(name),
            "file" => ends(name) || entries.iter().filter(|entry| ends(entry)).count() == 1,
            _ => entries.iter().any(|entry| self.is_told_by(entry)),
        }
    }

    /// Learns from releases of it how they are packed.
    fn learn(&mut self, releases: &[&Release]) {
        if releases.is_empty() {
            return;
        }
        let ends = releases.iter().map(|(name, _)| packed(name));
        let ends: BTreeSet<&str> = ends.collect();
        let drop = match &ends.iter().collect::<Vec<_>>()[..] {
            [one] => format!("*.{one}"),
            _ => format!(
                "*.{{{}}}",
                ends.iter().copied().collect::<Vec<_>>().join(",")
            ),
        };
        self.release.push(format!("drop = {}", quoted(&drop)));
        let deep = releases.iter().flat_map(|(_, entries)| {
            let telling = entries.iter().filter(|entry| self.is_told_by(entry));
            telling.map(|entry| entry.matches('/').count()).min()
        });
        let deep: Vec<usize> = deep.collect();
        // Each in a folder of its own, whose name it keeps.
        if self.goes_by_name && !deep.is_empty() && deep.iter().all(|deep| *deep == 1) {
            self.install = self.install.replace("/{id}", "/{path}");
        }
        if let Some(depth) = deep
            .into_iter()
            .max()
            .filter(|depth| *depth > 1 && self.shape == "folder")
        {
            self.release.push(format!("depth = {depth}"));
        }
        if self.shape == "file" && releases.iter().any(|(_, entries)| !entries.is_empty()) {
            let inside = format!("**/*.{}", self.extension());
            self.release.push(format!("inside = {}", quoted(&inside)));
        }
        let numbered = |(name, _): &&Release| {
            let name = name.strip_suffix(packed(name)).unwrap_or(name);
            unnumbered(name.trim_end_matches('.')) != name.trim_end_matches('.')
        };
        let states = self.fields.iter().any(|field| field.name == "version");
        self.is_numbered = !states && releases.iter().all(numbered);
    }

    /// The reader, as a family file writes it; where there is a load order, nothing else says what runs.
    pub(super) fn written(&self, is_ordered: bool) -> String {
        let mut lines = vec![
            format!("\n# Seen {} of these.", self.seen),
            "[[reader]]".into(),
            format!("name = {}", quoted(&self.name)),
            format!("kind = \"{}\"", self.kind),
            format!("shape = \"{}\"", self.shape),
            format!("at = {}", quoted(&self.at)),
        ];
        let off = self.off.as_ref();
        lines.extend(off.map(|off| format!("off = {}", quoted(off))));
        let switch = self.switch.as_ref().filter(|_| !is_ordered);
        lines
            .extend(switch.map(|switch| {
                format!("switch = {switch}    # TODO: whether that says if it runs")
            }));
        lines.extend([format!("install = {}", quoted(&self.install))]);
        if !self.with.is_empty() {
            let with: Vec<String> = self.with.iter().map(|name| quoted(name)).collect();
            lines.push(format!("with = [{}]", with.join(", ")));
        }
        if !self.marks.is_empty() {
            let marks: Vec<String> = self.marks.iter().map(|mark| quoted(mark)).collect();
            lines.push(format!("marks = [{}]", marks.join(", ")));
        }
        lines.extend(
            self.members
                .as_ref()
                .map(|it| format!("members = {}", quoted(it))),
        );
        lines.extend(self.release.iter().cloned());
        if let Some((file, notation)) = &self.file {
            let line = self.header.map(|header| format!(", line = '{header}'"));
            lines.push(format!(
                "files = [{{ name = {}, notation = \"{notation}\"{} }}]",
                quoted(file),
                line.unwrap_or_default()
            ));
        }
        let fields = self.fields.iter();
        let fields = fields.map(|field| format!("{} = {}", field.name, field.rule));
        let of_folder = self.is_numbered && self.shape == "folder";
        let of_folder = of_folder && self.fields.iter().all(|field| field.name != "id");
        let fields: Vec<String> = (of_folder
            .then(|| format!("id = {{ at = \"$name\", pattern = {UNNUMBERED} }}")))
        .into_iter()
        .chain(fields)
        .chain(
            self.is_numbered
                .then(|| format!("version = {{ at = \"$archive\", pattern = {NUMBER} }}")),
        )
        .chain(self.data.clone())
        .collect();
        if !fields.is_empty() {
            lines.push("\n[reader.fields]".into());
            lines.extend(fields);
        }
        lines.join("\n") + "\n"
    }

    /// What is one of these, or lies in one.
    pub(super) fn claims(&self) -> Vec<Glob> {
        let claims = match self.is_one_file() {
            true => {
                let folder = self.at.rsplit_once('/').map_or("", |(folder, _)| folder);
                let file = self.file.iter().map(|(name, _)| name);
                let beside = self
                    .with
                    .iter()
                    .chain(file)
                    .filter(|it| it.contains("{stem}"));
                let beside =
                    beside.map(|it| Some(format!("{folder}/{}", it.replace("{stem}", "*"))));
                let own = [
                    Some(self.at.clone()),
                    self.data().map(|at| format!("{at}/**")),
                ];
                own.into_iter().chain(beside).collect()
            }
            false => vec![Some(format!("{}/**", self.at))],
        };
        let globs = claims.into_iter().flatten();
        globs.filter_map(|at| Glob::new(&at).ok()).collect()
    }
}

/// How a download is packed: its extension, or two where one packs the other.
fn packed(name: &str) -> &str {
    let name = last(name);
    let double = name.rfind(".tar.").map(|at| &name[at + 1..]);
    double
        .or(name.rsplit_once('.').map(|(_, end)| end))
        .unwrap_or("")
}

/// A name without the version at its end.
pub(super) fn unnumbered(name: &str) -> String {
    number(name).map_or(name, |at| &name[..at]).to_owned()
}

/// What stands between a name and the version at its end; nothing where it has none.
pub(super) fn before_number(name: &str) -> String {
    let between = number(name).map(|at| &name[at..]);
    let Some(between) = between else {
        return String::new();
    };
    let is_v = between[1..].starts_with('v');
    between[..1 + usize::from(is_v)].to_owned()
}

/// Where the version at the end of a name begins, with what stands before it.
fn number(name: &str) -> Option<usize> {
    let begins = |rest: &str| {
        let rest = rest.strip_prefix('v').unwrap_or(rest);
        rest.starts_with(|c: char| c.is_ascii_digit())
    };
    let mut between = name.match_indices(['-', '_', ' ']);
    let found = between.find(|(at, _)| *at > 0 && begins(&name[at + 1..]));
    found.map(|(at, _)| at)
}

fn folder_names(paths: &[&RelPath]) -> BTreeSet<String> {
    let folders = paths.iter().filter_map(|path| path.folder());
    folders.map(|folder| folder.name().to_owned()).collect()
}

fn most_common<'n>(names: impl Iterator<Item = &'n String>) -> Option<String> {
    let mut counts: BTreeMap<&String, usize> = BTreeMap::new();
    for name in names {
        *counts.entry(name).or_default() += 1;
    }
    let best = counts
        .into_iter()
        .max_by_key(|(name, count)| (*count, std::cmp::Reverse(name.len())));
    best.map(|(name, _)| name.clone())
}
