//! The first draft of a family file, from looking at a server folder.
//!
//! It guesses, and says so: every guess stands there to be looked at, and what cannot be guessed is
//! marked `TODO`.

use crate::document::{Node, Table, parse};
use crate::path::RelPath;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

/// What is looked at for a draft.
#[derive(Debug, Default)]
pub struct Sample {
    /// Every file of the folder, sorted.
    pub paths: Vec<RelPath>,
    /// For each archive: the files in it.
    pub archives: BTreeMap<RelPath, Vec<String>>,
    /// Small texts by path; a file in an archive as `archive!file`.
    pub texts: BTreeMap<String, String>,
}

/// Names of files that may be a descriptor, by extension, and how those are written.
const NOTATIONS: &[(&str, &str)] = &[
    ("toml", "toml"),
    ("json", "json"),
    ("yml", "yaml"),
    ("yaml", "yaml"),
    ("properties", "properties"),
    ("xml", "xml"),
    ("ini", "ini"),
    ("conf", "ini"),
    ("cfg", "ini"),
    ("mf", "manifest"),
    ("man", "script"),
    ("lua", "script"),
];

/// Words by which descriptors commonly name a field.
const WORDS: &[(&str, &[&str])] = &[
    ("id", &["id", "name", "identifier", "key"]),
    ("title", &["title", "label", "display_name", "displayname"]),
    ("version", &["version", "ver"]),
    (
        "needs",
        &["needs", "depends", "dependencies", "requires", "dependency"],
    ),
    (
        "uses",
        &["uses", "optional", "optional_depends", "suggests"],
    ),
    ("side", &["side", "environment"]),
];

/// Header lines as they are commonly written, tried in turn.
const HEADERS: &[&str] = &[
    r"^\s*[#;/*-]+\s*@?(?P<key>[A-Za-z]+)\s*[:=]\s*(?P<value>.+?)\s*$",
    r"^\s*[#;/*-]+\s*@?(?P<key>[A-Za-z]+)\s+(?P<value>.+?)\s*$",
];

/// A guess at a reader.
struct Guess {
    name: String,
    shape: &'static str,
    at: String,
    install: String,
    file: Option<(String, &'static str)>,
    header: Option<&'static str>,
    fields: Vec<(&'static str, String)>,
    seen: usize,
}

/// Whether a file may be a descriptor, so that its text is worth reading for a draft.
pub fn is_telling(path: &str) -> bool {
    notation(path).is_some()
}

fn notation(path: &str) -> Option<&'static str> {
    let (_, extension) = path.rsplit_once('.')?;
    let known = NOTATIONS.iter();
    let extension = extension.to_ascii_lowercase();
    known
        .filter(|(known, _)| *known == extension)
        .map(|(_, notation)| *notation)
        .next()
}

/// Writes the draft.
pub fn draft(name: &str, sample: &Sample) -> String {
    let mut guesses = archives(sample);
    guesses.extend(folders(sample));
    guesses.extend(single_files(sample, &guesses));
    let mut text = String::new();
    let mut line = |words: &str| {
        text.push_str(words);
        text.push('\n');
    };
    line(
        "# A first draft, guessed from a folder. Look at every line; what is marked TODO has to be said.",
    );
    line(
        "# What each key means: docs/formats/family.md. Try it: lantern family check THIS --on FOLDER",
    );
    line("format = 1");
    line(&format!("name = {}", quoted(name)));
    line(&format!("title = {}", quoted(&format!("{name} server"))));
    line(&format!(
        "marks = [{}]    # files that only such a server has",
        marks(sample)
    ));
    line(
        "\n[build]\nid = \"TODO\"    # the server program; give it a reader of kind \"build\", or say outside = true\noutside = true",
    );
    line("\n[layout]");
    line(&format!(
        "keep = [{}]    # worlds, players, bans: never written",
        places(sample, &["world", "save", "player", "ban"])
    ));
    line(&format!(
        "passing = [{}]    # logs, caches",
        places(sample, &["log", "cache", "crash", "tmp"])
    ));
    for guess in &guesses {
        line(&format!("\n# Seen {} of these.", guess.seen));
        line(&format!(
            "[[reader]]\nname = {}\nkind = \"addon\"\nshape = \"{}\"\nat = {}\ninstall = {}",
            quoted(&guess.name),
            guess.shape,
            quoted(&guess.at),
            quoted(&guess.install)
        ));
        if let Some((file, notation)) = &guess.file {
            match guess.header {
                Some(header) => line(&format!(
                    "files = [{{ name = {}, notation = \"header\", line = '{header}' }}]",
                    quoted(file)
                )),
                None => line(&format!(
                    "files = [{{ name = {}, notation = \"{notation}\" }}]",
                    quoted(file)
                )),
            }
        }
        if !guess.fields.is_empty() {
            line("\n[reader.fields]");
            for (field, key) in &guess.fields {
                line(&format!("{field} = {}", quoted(key)));
            }
        }
    }
    line("\n# Where the load order is written, if anywhere: [order], see docs/formats/family.md");
    let start = sample
        .paths
        .iter()
        .find(|path| path.name().ends_with(".sh") && path.folder().is_none());
    let start = start.map_or("TODO".into(), |path| path.to_string());
    line(&format!(
        "\n[launch]\ncommand = [\"sh\", {}]",
        quoted(&start)
    ));
    line(
        "\n[console]\nready = 'TODO: the line that says that the server is ready'\nstop = { signal = \"TERM\" }    # or { command = \"…\" }",
    );
    text
}

/// A text as TOML writes it.
fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string()
}

/// Files at the top, by which such a server may be told.
fn marks(sample: &Sample) -> String {
    let top = sample.paths.iter().filter(|path| path.folder().is_none());
    let telling = top.filter(|path| notation(path.as_str()).is_some());
    let mut names: Vec<String> = telling.map(|path| quoted(path.as_str())).take(2).collect();
    if names.is_empty() {
        names.push("\"TODO\"".into());
    }
    names.join(", ")
}

/// Folders and files at the top whose names have one of these words in them.
fn places(sample: &Sample, words: &[&str]) -> String {
    let top = sample
        .paths
        .iter()
        .map(|path| match path.as_str().split_once('/') {
            Some((folder, _)) => (folder, true),
            None => (path.as_str(), false),
        });
    let top: BTreeSet<(&str, bool)> = top.collect();
    let meant = top.into_iter().filter(|(name, _)| {
        let name = name.to_lowercase();
        words.iter().any(|word| name.contains(word))
    });
    let globs = meant.map(|(name, folder)| match folder {
        true => quoted(&format!("{name}/**")),
        false => quoted(name),
    });
    globs.collect::<Vec<_>>().join(", ")
}

/// Archives of one extension in one folder.
fn archives(sample: &Sample) -> Vec<Guess> {
    let mut alike: BTreeMap<(String, String), Vec<&RelPath>> = BTreeMap::new();
    for path in sample.archives.keys() {
        if let (Some(folder), Some((_, extension))) = (path.folder(), path.name().rsplit_once('.'))
        {
            let key = (folder.to_string(), extension.to_owned());
            alike.entry(key).or_default().push(path);
        }
    }
    let guesses = alike.into_iter().map(|((folder, extension), paths)| {
        let names = paths.iter().flat_map(|path| &sample.archives[*path]);
        let file = most_common(names.filter(|name| notation(name).is_some()));
        let text = |file: &str| {
            let mut texts = paths.iter();
            texts.find_map(|path| sample.texts.get(&format!("{path}!{file}")))
        };
        let file = file.map(|file| (file.clone(), notation(&file).unwrap_or("toml")));
        let sample_text = file
            .as_ref()
            .and_then(|(file, notation)| Some((*notation, text(file)?)));
        Guess {
            name: extension.clone(),
            shape: "archive",
            at: format!("{folder}/*.{extension}"),
            install: format!("{folder}/{{id}}-{{version}}.{extension}"),
            fields: sample_text
                .map(|(n, text)| fields(n, None, text))
                .unwrap_or_default(),
            file,
            header: None,
            seen: paths.len(),
        }
    });
    guesses.collect()
}

/// Folders side by side that have a file of the same name in them.
fn folders(sample: &Sample) -> Vec<Guess> {
    let mut alike: BTreeMap<(String, &str), Vec<&RelPath>> = BTreeMap::new();
    for path in &sample.paths {
        let above = path.folder().and_then(|folder| folder.folder());
        if let (Some(above), Some(_)) = (above, notation(path.as_str())) {
            alike
                .entry((above.to_string(), path.name()))
                .or_default()
                .push(path);
        }
    }
    let guesses = alike.into_iter().filter_map(|((above, file), paths)| {
        let notation = notation(file)?;
        let fields = fields(notation, None, sample.texts.get(paths[0].as_str())?);
        // A file that says nothing of a component does not make one.
        let tells = |field| fields.iter().any(|(name, _)| *name == field);
        (paths.len() > 1 && (tells("id") || tells("version"))).then(|| Guess {
            name: above.rsplit('/').next().unwrap_or(&above).to_owned(),
            shape: "folder",
            at: format!("{above}/*"),
            install: format!("{above}/{{id}}"),
            file: Some((file.to_owned(), notation)),
            header: None,
            fields,
            seen: paths.len(),
        })
    });
    guesses.collect()
}

/// Files of one extension in one folder that tell of themselves at their top.
fn single_files(sample: &Sample, taken: &[Guess]) -> Vec<Guess> {
    let mut alike: BTreeMap<(String, &str), Vec<&RelPath>> = BTreeMap::new();
    for path in &sample.paths {
        if let (Some(folder), Some((_, extension))) = (path.folder(), path.name().rsplit_once('.'))
        {
            alike
                .entry((folder.to_string(), extension))
                .or_default()
                .push(path);
        }
    }
    let guesses = alike
        .into_iter()
        .filter_map(|((folder, extension), paths)| {
            let at = format!("{folder}/*.{extension}");
            let text = sample.texts.get(paths[0].as_str())?;
            let (header, fields) = HEADERS.iter().find_map(|header| {
                let fields = fields("header", Some(header), text);
                fields
                    .iter()
                    .any(|(field, _)| *field == "version")
                    .then_some((*header, fields))
            })?;
            let free = !taken.iter().any(|guess| guess.at == at);
            (paths.len() > 1 && free).then(|| Guess {
                name: extension.to_owned(),
                shape: "file",
                install: format!("{folder}/{{id}}.{extension}"),
                at,
                file: Some((".".into(), "header")),
                header: Some(header),
                fields,
                seen: paths.len(),
            })
        });
    guesses.collect()
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

/// Which keys of a descriptor probably hold which field.
fn fields(notation: &str, header: Option<&str>, text: &str) -> Vec<(&'static str, String)> {
    let mut file = format!("name = \".\"\nnotation = \"{notation}\"\n");
    if let Some(header) = header {
        let _ = writeln!(file, "line = '{header}'");
    }
    let Some(file) = toml_edit::de::from_str(&file).ok() else {
        return Vec::new();
    };
    let Ok(table) = parse(&file, text) else {
        return Vec::new();
    };
    let mut keys = Vec::new();
    collect_keys("", &table, &mut keys);
    let guesses = WORDS.iter().filter_map(|(field, words)| {
        let key = words.iter().find_map(|word| {
            let mut keys = keys.iter();
            keys.find(|key| {
                let last = key.rsplit('.').next().unwrap_or(key);
                last.trim_start_matches('@').eq_ignore_ascii_case(word)
            })
        });
        key.map(|key| (*field, key.clone()))
    });
    guesses.collect()
}

/// The keys of a table, the outermost first; a table of texts counts as one of them.
fn collect_keys(above: &str, table: &Table, keys: &mut Vec<String>) {
    let named = |key: &str| match above {
        "" => key.to_owned(),
        above => format!("{above}.{key}"),
    };
    keys.extend(table.keys().map(|key| named(key)));
    for (key, node) in table {
        if let Node::Table(inner) = node
            && above.matches('.').count() < 2
        {
            collect_keys(&named(key), inner, keys);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::family::Family;

    #[test]
    fn a_draft_is_a_family_that_finds_what_was_seen() {
        let path = |text: &str| RelPath::parse(text).unwrap();
        let addon = "id = 'fern'\nversion = '1.0'\n[depends]\nmoss = '*'\n";
        let sample = Sample {
            paths: [
                "addons/fern.vpk",
                "addons/moss.vpk",
                "leaves/a.leaf",
                "leaves/b.leaf",
                "logs/x.log",
                "stock/one/about.json",
                "stock/two/about.json",
                "start.sh",
                "top.conf",
                "worlds/w/map",
            ]
            .map(path)
            .to_vec(),
            archives: BTreeMap::from([
                (
                    path("addons/fern.vpk"),
                    vec!["addon.toml".into(), "b.bin".into()],
                ),
                (path("addons/moss.vpk"), vec!["addon.toml".into()]),
            ]),
            texts: BTreeMap::from([
                ("addons/fern.vpk!addon.toml".into(), addon.into()),
                (
                    "stock/one/about.json".into(),
                    "{\"pack\": {\"Name\": \"one\", \"version\": 2}}".into(),
                ),
                (
                    "leaves/a.leaf".into(),
                    "// name: dial\n// version: 3\n".into(),
                ),
            ]),
        };
        let text = draft("fern \"house\"", &sample);
        Family::parse(&text).unwrap();
        insta::assert_snapshot!(text, @r#"
        # A first draft, guessed from a folder. Look at every line; what is marked TODO has to be said.
        # What each key means: docs/formats/family.md. Try it: lantern family check THIS --on FOLDER
        format = 1
        name = 'fern "house"'
        title = 'fern "house" server'
        marks = ["top.conf"]    # files that only such a server has

        [build]
        id = "TODO"    # the server program; give it a reader of kind "build", or say outside = true
        outside = true

        [layout]
        keep = ["worlds/**"]    # worlds, players, bans: never written
        passing = ["logs/**"]    # logs, caches

        # Seen 2 of these.
        [[reader]]
        name = "vpk"
        kind = "addon"
        shape = "archive"
        at = "addons/*.vpk"
        install = "addons/{id}-{version}.vpk"
        files = [{ name = "addon.toml", notation = "toml" }]

        [reader.fields]
        id = "id"
        version = "version"
        needs = "depends"

        # Seen 2 of these.
        [[reader]]
        name = "stock"
        kind = "addon"
        shape = "folder"
        at = "stock/*"
        install = "stock/{id}"
        files = [{ name = "about.json", notation = "json" }]

        [reader.fields]
        id = "pack.Name"
        version = "pack.version"

        # Seen 2 of these.
        [[reader]]
        name = "leaf"
        kind = "addon"
        shape = "file"
        at = "leaves/*.leaf"
        install = "leaves/{id}.leaf"
        files = [{ name = ".", notation = "header", line = '^\s*[#;/*-]+\s*@?(?P<key>[A-Za-z]+)\s*[:=]\s*(?P<value>.+?)\s*$' }]

        [reader.fields]
        id = "name"
        version = "version"

        # Where the load order is written, if anywhere: [order], see docs/formats/family.md

        [launch]
        command = ["sh", "start.sh"]

        [console]
        ready = 'TODO: the line that says that the server is ready'
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
    }
}
