//! The first draft of a family file, from looking at a server folder.
//!
//! It guesses, and says so: every guess stands there to be looked at, and what cannot be guessed is
//! marked `TODO`. A guess that would make the draft no family is left out.

mod notation;
mod program;
mod readers;
mod witness;

pub use readers::Release;

use crate::family::{Family, Glob};
use crate::path::RelPath;
use program::Program;
use std::collections::{BTreeMap, BTreeSet};

/// What is looked at for a draft.
#[derive(Debug, Default)]
pub struct Sample {
    /// Every file of the folder, sorted.
    pub paths: Vec<RelPath>,
    /// For each archive: the files in it.
    pub archives: BTreeMap<RelPath, Vec<String>>,
    /// Small texts by path; a file in an archive as `archive!file`.
    pub texts: BTreeMap<String, String>,
    /// Links to folders elsewhere, whose files are among those of the folder.
    pub links: Vec<RelPath>,
    /// Files that were written after all others: the server's own writing, perhaps.
    pub written: Vec<RelPath>,
    /// Releases of what runs on it.
    pub releases: Vec<Release>,
    /// What a start of it printed.
    pub log: Option<String>,
}

/// Whether a file in an archive may be a descriptor, so that its text is worth reading for a draft.
pub fn may_tell(path: &str) -> bool {
    path.matches('/').count() < 2 && notation::may_tell(path)
}

/// A part of the draft: as it was guessed, and without the guess.
struct Section {
    guessed: String,
    plain: String,
}

impl Section {
    fn fixed(text: String) -> Section {
        Section {
            guessed: text.clone(),
            plain: text,
        }
    }

    fn guessed(text: String) -> Section {
        Section {
            guessed: text,
            plain: String::new(),
        }
    }
}

/// What the names of folders of worlds and players have in them.
const KEPT: &[&str] = &["world", "save", "player", "ban"];
/// What the names of folders that come and go have in them.
const PASSING: &[&str] = &["log", "cache", "crash", "tmp", "screenshot"];

/// Where nothing looks alike: a family has a reader.
const NOTHING_ALIKE: &str = "\n# TODO: where add-ons lie, and what they are made of.\n[[reader]]\nname = \"addon\"\n\
                             kind = \"addon\"\nshape = \"folder\"\nat = \"TODO/*\"\ninstall = \"TODO/{id}\"\n";

/// Writes the draft; it can always be read as a family.
pub fn draft(name: &str, sample: &Sample) -> String {
    let guesses = readers::guess(sample);
    let ids: BTreeSet<&str> = guesses
        .iter()
        .flat_map(|guess| guess.ids.iter().map(String::as_str))
        .collect();
    let own = |path: &RelPath| guesses.iter().any(|guess| guess.claims(path));
    let data: BTreeSet<String> = guesses.iter().filter_map(|it| it.data()).collect();
    let program = program::program(sample);
    let mut sections = vec![Section::fixed(head(name, sample, &data, program.as_ref()))];
    sections.extend(program.map(|program| Section::guessed(program.written())));
    sections.push(Section {
        guessed: String::new(),
        plain: NOTHING_ALIKE.into(),
    });
    sections.extend(
        guesses
            .iter()
            .map(|guess| Section::guessed(guess.written())),
    );
    let order = witness::naming(sample, &ids, own);
    sections.push(match order {
        Some(order) => Section::guessed(order.order()),
        None => Section::fixed(
            "\n# Where the load order is written, if anywhere: [order], see: lantern docs family\n"
                .into(),
        ),
    });
    // What names the folders that they lie in, where these are not all called alike.
    for (each, items) in guesses.iter().filter_map(|guess| guess.items(sample)) {
        let items = items.iter().map(String::as_str).collect();
        let rule = witness::naming(sample, &items, own);
        let also = rule.and_then(|rule| rule.also(&each));
        sections.extend(also.map(Section::guessed));
    }
    sections.push(Section::fixed(launch(sample)));
    sections.extend(witness::console(sample, &ids, own));
    let all = vec![true; sections.len()];
    if Family::parse(&joined(&sections, &all)).is_ok() {
        return joined(&sections, &all);
    }
    let mut keeps = vec![false; sections.len()];
    // What packs are made of stands behind them, and has to be there before.
    for at in (0..sections.len()).rev() {
        keeps[at] = true;
        if Family::parse(&joined(&sections, &keeps)).is_err() {
            keeps[at] = false;
        }
    }
    joined(&sections, &keeps)
}

fn joined(sections: &[Section], keeps: &[bool]) -> String {
    let both = sections.iter().zip(keeps);
    let texts = both.map(|(section, keeps)| match keeps {
        true => section.guessed.as_str(),
        false => section.plain.as_str(),
    });
    texts.collect()
}

fn head(name: &str, sample: &Sample, data: &BTreeSet<String>, program: Option<&Program>) -> String {
    let name = match name.is_empty() {
        true => "server",
        false => name,
    };
    let links: Vec<&str> = sample.links.iter().map(RelPath::as_str).collect();
    let links = match links.is_empty() {
        true => String::new(),
        false => format!(
            "# Links to folders elsewhere, looked at like the rest: {}\n",
            links.join(", ")
        ),
    };
    let data: Vec<String> = data.iter().filter_map(|at| quoted_glob(at)).collect();
    let data = match data.is_empty() {
        true => String::new(),
        false => format!(
            "data = [{}]    # what add-ons write: kept, too\n",
            data.join(", ")
        ),
    };
    let build = match program {
        Some(program) => format!("id = {}\n", quoted(&program.id)),
        None => "id = \"TODO\"    # the server program; give it a reader of kind \"build\", or say outside = true\n\
                 outside = true\n"
            .into(),
    };
    format!(
        "# A first draft, guessed from a folder. Look at every line; what is marked TODO has to be said.\n\
         # What each key means: lantern docs family. Try it: lantern family check THIS --on FOLDER\n\
         {links}\
         format = 1\n\
         name = {}\n\
         title = {}\n\
         marks = [{}]    # files that only such a server has\n\
         \n[build]\n\
         {build}\
         \n[layout]\n\
         keep = [{}]    # worlds, players, bans: never written\n\
         passing = [{}]    # logs, caches\n\
         {data}",
        quoted(name),
        quoted(&format!("{name} server")),
        marks(sample),
        kept(sample),
        places(sample, PASSING).join(", "),
    )
}

fn launch(sample: &Sample) -> String {
    let scripts = sample
        .paths
        .iter()
        .filter(|path| path.name().ends_with(".sh"));
    let mut top = scripts.filter(|path| path.folder().is_none());
    let start = top.next();
    let text = start.and_then(|path| sample.texts.get(path.as_str()));
    let first = text.and_then(|text| text.lines().next());
    let shell = match first.filter(|line| line.starts_with("#!")) {
        Some(line) if line.trim_end().ends_with("bash") => "bash",
        _ => "sh",
    };
    let start = start.map_or("TODO".into(), |path| path.to_string());
    format!("\n[launch]\ncommand = [\"{shell}\", {}]\n", quoted(&start))
}

/// A text as TOML writes it.
fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string()
}

/// A path as a pattern; none where its name would make that no pattern.
fn quoted_glob(text: &str) -> Option<String> {
    Glob::new(text).is_ok().then(|| quoted(text))
}

/// Files at the top, by which such a server may be told.
fn marks(sample: &Sample) -> String {
    let top = sample.paths.iter().filter(|path| path.folder().is_none());
    let telling = top.filter(|path| notation::of_name(path.as_str()).is_some());
    let globs = telling.filter_map(|path| quoted_glob(path.as_str()));
    let mut names: Vec<String> = globs.take(2).collect();
    if names.is_empty() {
        names.push("\"TODO\"".into());
    }
    names.join(", ")
}

/// What is probably the world's: by its name, or because it was written last.
fn kept(sample: &Sample) -> String {
    let mut kept = places(sample, KEPT);
    let passing = places(sample, PASSING);
    for path in &sample.written {
        let glob = match path.as_str().split_once('/') {
            Some((folder, _)) => quoted_glob(&format!("{folder}/**")),
            None => quoted_glob(path.as_str()),
        };
        let Some(glob) = glob else {
            continue;
        };
        if !kept.contains(&glob) && !passing.contains(&glob) {
            kept.push(glob);
        }
    }
    kept.join(", ")
}

/// Whether a path lies in a folder that is probably the world's, or comes and goes.
fn is_data(path: &RelPath) -> bool {
    let top = path.as_str().split('/').next().unwrap_or_default();
    let top = top.to_lowercase();
    KEPT.iter().chain(PASSING).any(|word| top.contains(word))
}

/// Folders and files at the top whose names have one of these words in them.
fn places(sample: &Sample, words: &[&str]) -> Vec<String> {
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
    let globs = meant.filter_map(|(name, folder)| match folder {
        true => quoted_glob(&format!("{name}/**")),
        false => quoted_glob(name),
    });
    globs.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::family::Family;
    use proptest::prelude::*;

    #[test]
    fn a_draft_is_a_family_that_finds_what_was_seen() {
        let path = |text: &str| RelPath::parse(text).unwrap();
        let addon = "id = 'fern'\nversion = '1.0'\n[depends]\nmoss = '*'\n";
        let sample = Sample {
            paths: [
                "addons/fern_1.0.bloom",
                "addons/moss_v2.bloom",
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
                    path("addons/fern_1.0.bloom"),
                    vec!["addon.toml".into(), "b.bin".into()],
                ),
                (path("addons/moss_v2.bloom"), vec!["addon.toml".into()]),
            ]),
            texts: BTreeMap::from([
                ("addons/fern_1.0.bloom!addon.toml".into(), addon.into()),
                (
                    "stock/one/about.json".into(),
                    "{\"pack\": {\"Name\": \"one\", \"version\": 2}}".into(),
                ),
                (
                    "stock/two/about.json".into(),
                    "{\"pack\": {\"Name\": \"two\", \"version\": 1}}".into(),
                ),
                (
                    "leaves/a.leaf".into(),
                    "// name: dial\n// version: 3\n".into(),
                ),
            ]),
            ..Sample::default()
        };
        let text = draft("fern \"house\"", &sample);
        Family::parse(&text).unwrap();
        insta::assert_snapshot!(text, @r#"
        # A first draft, guessed from a folder. Look at every line; what is marked TODO has to be said.
        # What each key means: lantern docs family. Try it: lantern family check THIS --on FOLDER
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
        name = "bloom"
        kind = "addon"
        shape = "archive"
        at = "addons/*.bloom"
        install = "addons/{id}_{version}.bloom"
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

        # Where the load order is written, if anywhere: [order], see: lantern docs family

        [launch]
        command = ["sh", "start.sh"]

        [console]
        ready = 'TODO: the line that says that the server is ready'
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
    }

    fn sampled(paths: &[(&str, Option<&str>)]) -> Sample {
        let path = |text: &str| RelPath::parse(text).unwrap();
        let texts = paths
            .iter()
            .filter_map(|(path, text)| Some(((*path).to_owned(), (*text)?.into())));
        Sample {
            paths: paths.iter().map(|(text, _)| path(text)).collect(),
            texts: texts.collect(),
            ..Sample::default()
        }
    }

    #[test]
    fn descriptors_of_no_known_ending_in_folders_that_have_numbers() {
        let about = |id: &str, needs: &str| {
            format!("name=The {id}\r\nid={id}\r\nrequire={needs}\r\npicture=a.png\r\n")
        };
        let (heron, otter, reed) = (
            about("heron", "\\reed"),
            about("otter", "\\reed,\\heron"),
            about("reed", ""),
        );
        let settings =
            "# RconPort=27\nRconPort=2701\nGamePort=27815\nMods=reed;heron\nItems=7302;7309\n";
        let sample = sampled(&[
            ("items/7302/mods/Herons/a.png", None),
            ("items/7302/mods/Herons/mod.about", Some(&heron)),
            ("items/7309/mods/Otters/a.png", None),
            ("items/7309/mods/Otters/mod.about", Some(&otter)),
            ("items/7309/mods/Reed/a.png", None),
            ("items/7309/mods/Reed/mod.about", Some(&reed)),
            ("marsh.ini", Some(settings)),
            ("start.sh", Some("#!/bin/bash\n./marshd\n")),
        ]);
        insta::assert_snapshot!(guessed(&sample), @r#"
        [layout]
        keep = []    # worlds, players, bans: never written
        passing = []    # logs, caches

        # Seen 3 of these.
        [[reader]]
        name = "mods"
        kind = "addon"
        shape = "folder"
        at = "items/*/mods/*"
        install = "items/{path}"
        files = [{ name = "mod.about", notation = "ini" }]

        [reader.fields]
        id = "id"
        title = "name"
        needs = { at = "require", split = ",", pattern = '^\W*(?P<id>[\w.-]+)\s*(?P<range>.*)$' }

        # Names 2 of what was seen, in one line.
        [order]
        kind = "list"
        file = "marsh.ini"
        line = '^Mods=(?P<list>.*?)\s*$'
        write = "{id}"
        between = ";"

        # Names 2 of the folders that they lie in, in one line.
        [[also]]
        name = "items"    # what people call it
        kind = "list"
        file = "marsh.ini"
        line = '^Items=(?P<list>.*?)\s*$'
        write = "{id}"
        between = ";"
        each = "^items/(?P<value>[^/]+)/"

        [launch]
        command = ["bash", "start.sh"]

        [console]
        ready = 'TODO: the line that says that the server is ready'
        port = { file = "marsh.ini", line = 'GamePort=(?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
    }

    #[test]
    fn libraries_that_a_file_names_with_arguments() {
        let mut sample = sampled(&[
            (
                "arena.conf",
                Some(
                    "-port 5154\n# -load plugins/old.so\n-load plugins/fern.so,wet\n-load plugins/moss.so\n",
                ),
            ),
            ("plugins/fern.so", None),
            ("plugins/ivy.so", None),
            ("plugins/moss.so", None),
            ("plugins/README", None),
            ("records/1.rec", None),
        ]);
        sample.written = vec![RelPath::parse("records/1.rec").unwrap()];
        sample.releases = vec![
            (
                "plugin-fern-2.4.30.zip".into(),
                vec!["plugin-fern/fern.so".into(), "plugin-fern/README".into()],
            ),
            ("odd.zip".into(), vec!["nothing".into()]),
        ];
        sample.log = Some(
            "[12:01:07] Plugin: plugins/fern.so loaded\n[12:01:07] Plugin: plugins/moss.so loaded\n\
             [12:01:08] INFO: listening on port 5154\n"
                .into(),
        );
        insta::assert_snapshot!(guessed(&sample), @r#"
        [layout]
        keep = ["records/**"]    # worlds, players, bans: never written
        passing = []    # logs, caches

        # Seen 3 of these.
        [[reader]]
        name = "so"
        kind = "addon"
        shape = "file"
        at = "plugins/*.so"
        install = "plugins/{id}.so"
        drop = "*.zip"
        inside = "**/*.so"

        [reader.fields]
        version = { at = "$archive", pattern = '[-_ ]v?(?P<value>\d[\w.:~+-]*)$' }

        # Names 2 of what was seen.
        [order]
        kind = "sequence"
        file = "arena.conf"
        line = '^\s*\-load plugins/(?P<id>[\w-]+?)\.so'
        write = "-load plugins/{id}.so"

        [launch]
        command = ["sh", "TODO"]

        [console]
        ready = 'listening on port \d+'    # TODO: is it this line?
        loaded = 'Plugin: plugins/(?P<id>[\w-]+)'    # named 2
        errors = ['\bERROR']    # TODO: what else does a bad start print?
        port = { file = "arena.conf", line = '\-port (?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
    }

    #[test]
    fn packs_of_folders_of_which_one_file_tells() {
        let flags = sampled(&[
            ("mods/glade/modpack.conf", Some("x")),
            ("mods/glade/fern/init.lua", Some("y")),
            ("mods/glade/ivy/init.lua", Some("y")),
            ("mods/moss/init.lua", Some("y")),
            ("mods/oak/init.lua", Some("y")),
            (
                "worlds/w/world.mt",
                Some("load_mod_moss = true\nload_mod_oak = false\n"),
            ),
        ]);
        insta::assert_snapshot!(guessed(&flags), @r#"
        [layout]
        keep = ["worlds/**"]    # worlds, players, bans: never written
        passing = []    # logs, caches

        # Seen 1 of these.
        [[reader]]
        name = "mods-pack"
        kind = "pack"
        shape = "group"
        at = "mods/*"
        install = "mods/{id}"
        marks = ["modpack.conf"]
        members = "mods"

        # Seen 2 of these.
        [[reader]]
        name = "mods"
        kind = "addon"
        shape = "folder"
        at = "mods/*"
        install = "mods/{id}"
        marks = ["init.lua"]

        # Names 2 of what was seen.
        [order]
        kind = "flags"
        file = "worlds/w/world.mt"
        line = '^\s*load_mod_(?P<id>[\w-]+)\s*[=:]?\s*(?P<on>\S+)'
        write = "load_mod_{id} = {on}"
        on = "true"
        off = "false"

        [launch]
        command = ["sh", "TODO"]

        [console]
        ready = 'TODO: the line that says that the server is ready'
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
        let bracketed = |list: &str| {
            let text = format!("{{\n  \"port\": 7000,\n  \"mods\": {list}\n}}\n");
            let sample = sampled(&[
                ("rules/one/game.rules", Some("x")),
                ("rules/two/game.rules", Some("x")),
                ("server.json", Some(&text)),
            ]);
            let text = guessed(&sample);
            let order = text.split("\n\n").find(|part| part.contains("[order]"));
            order.unwrap_or_default().to_owned()
        };
        let spanning = "[\n    \"one\",\n    \"two\"\n  ]";
        insta::assert_snapshot!(bracketed(spanning), @r#"
        # Names 2 of what was seen, in brackets.
        [order]
        kind = "list"
        file = "server.json"
        line = '^\s*"mods":\s*\[(?P<list>[^\]]*)\]'
        spans = true
        write = '"{id}"'
        between = ", "
        "#);
        insta::assert_snapshot!(bracketed("[\"one\", \"two\"]"), @r#"
        # Names 2 of what was seen, in brackets.
        [order]
        kind = "list"
        file = "server.json"
        line = '^\s*"mods":\s*\[(?P<list>[^\]]*)\]'
        write = '"{id}"'
        between = ", "
        "#);
        let list = sampled(&[
            ("rules/one/game.rules", Some("x")),
            ("rules/two/game.rules", Some("x")),
            ("server.ini", Some("[a]\nport = 7000\nmods = one;two\n")),
        ]);
        insta::assert_snapshot!(guessed(&list), @r#"
        [layout]
        keep = []    # worlds, players, bans: never written
        passing = []    # logs, caches

        # Seen 2 of these.
        [[reader]]
        name = "rules"
        kind = "addon"
        shape = "folder"
        at = "rules/*"
        install = "rules/{id}"
        marks = ["game.rules"]

        # Names 2 of what was seen, in one line.
        [order]
        kind = "list"
        file = "server.ini"
        line = '^mods = (?P<list>.*?)\s*$'
        write = "{id}"
        between = ";"

        [launch]
        command = ["sh", "TODO"]

        [console]
        ready = 'TODO: the line that says that the server is ready'
        port = { file = "server.ini", line = 'port = (?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
        let one = sampled(&[
            ("civ/game.rules", Some("x")),
            ("classic/game.rules", Some("x")),
            ("start.serv", Some("rulesdir civ\n")),
        ]);
        insta::assert_snapshot!(guessed(&one), @r#"
        [layout]
        keep = []    # worlds, players, bans: never written
        passing = []    # logs, caches

        # Seen 2 of these.
        [[reader]]
        name = "folder"
        kind = "addon"
        shape = "folder"
        at = "*"
        install = "{id}"
        marks = ["game.rules"]

        # Names 1 of what was seen.
        [order]
        kind = "one"    # TODO: or "sequence"
        file = "start.serv"
        line = '^\s*rulesdir (?P<id>[\w-]+)'
        write = "rulesdir {id}"

        [launch]
        command = ["sh", "TODO"]

        [console]
        ready = 'TODO: the line that says that the server is ready'
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
    }

    #[test]
    fn folders_of_one_kind_of_file_that_hashes_stand_in_front_of() {
        let mut sample = sampled(&[
            ("rails/fern/fern.track", None),
            ("rails/fern/readme.txt", Some("x")),
            ("rails/moss/moss.track", None),
            ("rails/moss/readme.txt", Some("x")),
            (
                "line.cfg",
                Some(
                    "server_port = 3979\n[rails]\n46520101|E35C8FF2C60F|fern/fern.track = \n4D530101|8332B720E357|moss/moss.track = 3 4\n",
                ),
            ),
        ]);
        sample.releases = vec![("fern-2.tar".into(), vec!["fern-2/fern.track".into()])];
        sample.log =
            Some("line loaded\nreading 'fern/fern.track'\nreading 'moss/moss.track'\n".into());
        insta::assert_snapshot!(guessed(&sample), @r#"
        [layout]
        keep = []    # worlds, players, bans: never written
        passing = []    # logs, caches

        # Seen 2 of these.
        [[reader]]
        name = "rails"
        kind = "addon"
        shape = "folder"
        at = "rails/*"
        install = "rails/{id}"
        marks = ["*.track"]
        drop = "*.tar"

        [reader.fields]
        id = { at = "$name", pattern = '^(?P<value>.+?)([-_ ]v?\d[\w.:~+-]*)?$' }
        version = { at = "$archive", pattern = '[-_ ]v?(?P<value>\d[\w.:~+-]*)$' }

        # Names 2 of what was seen.
        [order]
        kind = "sequence"
        file = "line.cfg"
        line = '^\s*(?:[0-9A-Fa-f]+\|[0-9A-Fa-f]+\|)?(?P<id>[\w-]+)/[\w-]+\.track ='
        write = "{id}/{id}.track = "

        [launch]
        command = ["sh", "TODO"]

        [console]
        ready = 'TODO: the line that says that the server is ready'
        loaded = '''^reading '(?P<id>[\w-]+)'''    # named 2
        port = { file = "line.cfg", line = 'server_port = (?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
    }

    #[test]
    fn what_is_off_and_what_add_ons_write_is_no_kind_of_its_own() {
        let about = Some("name: Fern\nversion: 1.2\n");
        let mut sample = sampled(&[
            ("beds/sage/bed.toml", Some("id = 'sage'\nversion = '1'\n")),
            ("beds/thyme/bed.toml", Some("id = 'thyme'\nversion = '1'\n")),
            ("beds/rue.off/bed.toml", Some("id = 'rue'\nversion = '1'\n")),
            ("pots-off/iris.pot", Some("# name: iris\n# version: 1\n")),
            ("pots/lily.pot", Some("# name: lily\n# version: 1\n")),
            ("pots/rose.pot", Some("# name: rose\n# version: 1\n")),
            ("sprigs/Fern-1.2.sprig", None),
            ("sprigs/Fern-1.2.sprig!about.yml", about),
            ("sprigs/Fern/told.json", Some("{\"name\": \"x\"}")),
            ("sprigs/Moss-0.9.sprig", None),
            ("sprigs/Moss/told.json", Some("{\"name\": \"y\"}")),
            ("sprigs/Reed-2.0.sprig.off", None),
        ]);
        let archives = ["Fern-1.2.sprig", "Moss-0.9.sprig", "Reed-2.0.sprig.off"];
        for name in archives {
            let path = RelPath::parse(&format!("sprigs/{name}")).unwrap();
            sample.archives.insert(path, vec!["about.yml".into()]);
        }
        sample.log = Some("12:00:01 up comes Fern v1.2\n12:00:02 up comes Moss v0.9\n".into());
        insta::assert_snapshot!(guessed(&sample), @r#"
        [layout]
        keep = []    # worlds, players, bans: never written
        passing = []    # logs, caches
        data = ["sprigs/*"]    # what add-ons write: kept, too

        # Seen 2 of these.
        [[reader]]
        name = "sprig"
        kind = "addon"
        shape = "archive"
        at = "sprigs/*.sprig"
        off = "{name}.off"
        install = "sprigs/{id}-{version}.sprig"
        files = [{ name = "about.yml", notation = "yaml" }]

        [reader.fields]
        id = "name"
        version = "version"
        data = { at = "name", template = "sprigs/{}" }

        # Seen 2 of these.
        [[reader]]
        name = "beds"
        kind = "addon"
        shape = "folder"
        at = "beds/*"
        off = "{name}.off"
        install = "beds/{id}"
        files = [{ name = "bed.toml", notation = "toml" }]

        [reader.fields]
        id = "id"
        version = "version"

        # Seen 2 of these.
        [[reader]]
        name = "pot"
        kind = "addon"
        shape = "file"
        at = "pots/*.pot"
        off = "{folder}-off/{name}"
        install = "pots/{id}.pot"
        files = [{ name = ".", notation = "header", line = '^\s*[#;/*-]+\s*@?(?P<key>[A-Za-z]+)\s*[:=]\s*(?P<value>.+?)\s*$' }]

        [reader.fields]
        id = "name"
        version = "version"

        # Where the load order is written, if anywhere: [order], see: lantern docs family

        [launch]
        command = ["sh", "TODO"]

        [console]
        ready = 'TODO: the line that says that the server is ready'
        loaded = 'up comes (?P<id>[\w-]+) v(?P<version>\d[\w.:~+-]*)'    # named 2
        stop = { signal = "TERM" }    # or { command = "…" }
        "#);
    }

    #[test]
    fn a_program_is_known_by_the_script_that_starts_it() {
        let told = [
            ("house-3.2.run", "exec ./house-3.2.run --quiet\n"),
            ("bin/house_v3.2.0", "cd bin\n./house_v3.2.0\n"),
            ("house-3.2.run", "exec ./house.run\n"),
        ]
        .map(|(file, script)| {
            let sample = sampled(&[(file, None), ("go.sh", Some(script))]);
            let family = Family::parse(&draft("house", &sample)).unwrap();
            let Some(reader) = family.reader("program") else {
                return format!("{file}: no program");
            };
            let at = reader.at.texts().collect::<Vec<_>>().join(" ");
            let finds = family.pins[0].line.as_ref().unwrap();
            let found = script.lines().find_map(|line| finds.capture("value", line));
            let install = reader.install.as_deref();
            format!("{file}: {}, {at}, {install:?}, {found:?}", family.build.id)
        });
        insta::assert_snapshot!(told.join("\n"), @r#"
        house-3.2.run: house, house-*.run, Some("house-{version}.run"), Some("house-3.2.run")
        bin/house_v3.2.0: house, bin/house_v*, Some("bin/house_v{version}"), Some("house_v3.2.0")
        house-3.2.run: no program
        "#);
    }

    /// What a draft says from its layout on, without its fixed lines.
    fn guessed(sample: &Sample) -> String {
        let text = draft("house", sample);
        Family::parse(&text).unwrap();
        let from = text.find("[layout]").unwrap();
        text[from..].to_owned()
    }

    proptest! {
        #[test]
        fn every_draft_is_a_family(
            names in proptest::collection::vec("[a-z'\"\\\\{}\\[\\]*é -]{1,6}", 2..6),
            text in "(?s).{0,80}",
            log in "(?s).{0,120}",
        ) {
            let mut sample = Sample { log: Some(log), ..Sample::default() };
            let mut place = |text: String| {
                if let Ok(path) = RelPath::parse(&text) {
                    sample.paths.push(path);
                }
            };
            for name in &names {
                place(format!("{}/{name}.so", names[0]));
                place(format!("{}/{name}/{}", names[0], names[1]));
            }
            sample.paths.sort();
            sample.paths.dedup();
            sample.texts.insert("a.conf".into(), format!("{text}\n{}\nport={}", names.join(","), names[0]));
            sample.releases.push((format!("{}-1.zip", names[0]), names.clone()));
            let text = draft(&names[0], &sample);
            let read = Family::parse(&text).map(|_| ());
            prop_assert!(read.is_ok(), "{:?}\n{}", read, text);
        }
    }
}
