//! The core computes, and nothing else: it has no way to a file, clock, process, network or terminal.

#![allow(clippy::disallowed_methods)] // The test reads the sources; the core does not.

use std::fs;
use std::path::{Path, PathBuf};

/// Crates that only compute. A new one is looked at before it is added here.
const ALLOWED: &[&str] = &[
    "arcstr",
    "blake3",
    "encoding_rs",
    "foldhash",
    "html5gum",
    "url",
    "globset",
    "java-properties",
    "jiff",
    "jsonc-parser",
    "minijinja",
    "regex",
    "regex-syntax",
    "roxmltree",
    "saphyr-parser",
    "schemars",
    "serde",
    "serde_json",
    "similar",
    "strsim",
    "thin-vec",
    "thiserror",
    "toml",
    "toml_edit",
];

/// What would be input or output.
const FORBIDDEN: &[&str] = &[
    "std::fs",
    "std::net",
    "std::process",
    "std::env",
    "std::io",
    "std::thread",
    "std::time::Instant",
    "std::time::SystemTime",
    "std::os",
    "Timestamp::now",
    "Zoned::now",
    "TimeZone::system",
    "TimeZone::get",
    "println!",
    "eprintln!",
    "print!",
    "eprint!",
    "dbg!",
    "env!(",
    "include_str!",
    "include_bytes!",
    "extern crate",
];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).to_owned()
}

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
}

/// Whether a line puts in a text that lies beside it, as a template does: that is part of the source.
fn is_own_text(line: &str) -> bool {
    let named = line.split_once("include_str!(\"");
    let name = named.and_then(|(_, rest)| rest.split_once("\")"));
    name.is_some_and(|(name, _)| !name.contains(['/', '\\']))
}

fn faults(text: &str) -> Vec<String> {
    let lines = text
        .lines()
        .enumerate()
        .filter(|(_, line)| !line.trim_start().starts_with("//"));
    lines
        .flat_map(|(number, line)| {
            let is_own = is_own_text(line);
            let hits = FORBIDDEN
                .iter()
                .filter(move |word| line.contains(**word) && !(is_own && **word == "include_str!"));
            hits.map(move |word| format!("{}: {word}", number + 1))
        })
        .collect()
}

#[test]
fn no_source_reaches_outside() {
    let mut files = Vec::new();
    sources(&root().join("src"), &mut files);
    assert!(files.len() > 10);
    for file in files {
        let faults = faults(&fs::read_to_string(&file).unwrap());
        assert!(faults.is_empty(), "{}: {faults:?}", file.display());
    }
}

#[test]
fn the_search_finds_what_it_is_for() {
    assert_eq!(
        faults("use std::fs::File;\n// std::fs\nprintln!(\"x\");").len(),
        2
    );
    assert_eq!(faults("include_str!(\"feed.xml\")").len(), 0);
    for elsewhere in ["\"../feed.xml\"", "concat!(\"/\", \"etc\")", "NAME"] {
        assert_eq!(faults(&format!("include_str!({elsewhere})")).len(), 1);
    }
}

#[test]
fn it_depends_on_nothing_that_does() {
    let manifest = fs::read_to_string(root().join("Cargo.toml")).unwrap();
    let own = manifest
        .split("[dependencies]")
        .nth(1)
        .unwrap()
        .split("\n[")
        .next()
        .unwrap();
    let names = own
        .lines()
        .filter_map(|line| line.split(['.', '=', ' ']).next())
        .filter(|name| !name.is_empty());
    for name in names {
        assert!(
            ALLOWED.contains(&name),
            "lantern-core depends on {name}, which nobody has looked at"
        );
    }
}

#[test]
fn rooms_use_only_those_below_them() {
    for (room, may) in [
        ("lantern-core", &[][..]),
        ("lantern-host", &["lantern-core"]),
        ("lantern-standin", &["lantern-core"]),
    ] {
        let manifest = fs::read_to_string(root().join("..").join(room).join("Cargo.toml")).unwrap();
        let (_, after_name) = manifest.split_once('\n').unwrap();
        for other in ["lantern-core", "lantern-host", "lantern-standin"]
            .iter()
            .filter(|other| **other != room)
        {
            let uses = after_name.lines().any(|line| line.starts_with(other));
            assert!(!uses || may.contains(other), "{room} may not use {other}");
        }
    }
}
