//! No two files of a crate use one another, by whatever way: who reads one has to go down only.
//!
//! A file may use the folder that it lies in and be used by it, as a part by its whole.

use regex::Regex;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// The path of a module: `["plan", "lay"]`.
type Module = Vec<String>;

/// Every source file of a crate, by its module; tests are left out.
fn modules(source: &Path) -> BTreeMap<Module, PathBuf> {
    let files = walkdir::WalkDir::new(source).into_iter();
    let files = files.map(|entry| entry.unwrap().into_path());
    let rust = files.filter(|path| path.extension().is_some_and(|ext| ext == "rs"));
    let modules = rust.map(|path| {
        let below = path.strip_prefix(source).unwrap().with_extension("");
        let mut module: Module = below
            .iter()
            .map(|name| name.to_str().unwrap().to_owned())
            .collect();
        if ["mod", "lib", "main"].contains(&module[module.len() - 1].as_str()) {
            module.pop();
        }
        (module, path)
    });
    let is_test = |module: &Module| {
        let name = module.last().map_or("", String::as_str);
        ["tests", "faults", "states"].contains(&name)
    };
    modules.filter(|(module, _)| !is_test(module)).collect()
}

/// The modules that a text names with `crate::` and `super::`.
fn named(text: &str, own: &Module, modules: &BTreeMap<Module, PathBuf>) -> BTreeSet<Module> {
    let text = text.split("#[cfg(test)]\nmod tests").next().unwrap();
    let path = Regex::new(r"\b(crate|super)((?:::\w+)*)(::\{[^}]*\})?").unwrap();
    let word = Regex::new(r"\w+").unwrap();
    let mut found = BTreeSet::new();
    for mention in path.captures_iter(text) {
        let mut names: Vec<&str> = mention[2].split("::").skip(1).collect();
        let mut at = match &mention[1] {
            "crate" => Vec::new(),
            _ => own[..own.len().saturating_sub(1)].to_vec(),
        };
        while names.first() == Some(&"super") {
            names.remove(0);
            at.pop();
        }
        let step = |at: &Module, name: &str| {
            let mut next = at.clone();
            next.push(name.to_owned());
            modules.contains_key(&next).then_some(next)
        };
        for name in names {
            match step(&at, name) {
                Some(next) => at = next,
                None => break,
            }
        }
        let inside = mention.get(3).map_or("", |braces| braces.as_str());
        found.extend(
            word.find_iter(inside)
                .filter_map(|name| step(&at, name.as_str())),
        );
        found.insert(at);
    }
    found.retain(|other| !own.starts_with(other));
    found
}

/// A way from a module back to itself.
fn circle(uses: &BTreeMap<Module, BTreeSet<Module>>) -> Option<Vec<String>> {
    for start in uses.keys() {
        let mut came_from: BTreeMap<&Module, &Module> = BTreeMap::new();
        let mut queue = vec![start];
        while let Some(at) = queue.pop() {
            for next in uses.get(at).into_iter().flatten() {
                if next == start {
                    let mut way = vec![start.join("::"), at.join("::")];
                    let mut step = at;
                    while step != start {
                        step = came_from[step];
                        way.push(step.join("::"));
                    }
                    way.reverse();
                    return Some(way);
                }
                if came_from.insert(next, at).is_none() {
                    queue.push(next);
                }
            }
        }
    }
    None
}

#[test]
fn no_file_uses_one_that_uses_it() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    for name in ["lantern-core", "lantern-host", "lantern", "lantern-standin"] {
        let modules = modules(&crates.join(name).join("src"));
        assert!(modules.len() > 5, "{name}: {modules:?}");
        let uses: BTreeMap<Module, BTreeSet<Module>> = modules
            .iter()
            .map(|(module, path)| {
                let text = fs::read_to_string(path).unwrap();
                (module.clone(), named(&text, module, &modules))
            })
            .collect();
        let arrows: usize = uses.values().map(BTreeSet::len).sum();
        assert!(arrows > 0, "{name}: no arrow is seen");
        assert_eq!(circle(&uses), None, "in {name}");
    }
}

#[test]
fn a_circle_is_seen() {
    let modules: BTreeMap<Module, PathBuf> = ["a", "b", "c"]
        .map(|name| (vec![name.to_owned()], PathBuf::new()))
        .into();
    let texts = [
        ("a", "use crate::{b, x};"),
        ("b", "use crate::c::C;"),
        ("c", "super::a::f()"),
    ];
    let uses = texts.map(|(name, text)| {
        let module = vec![name.to_owned()];
        let uses = named(text, &module, &modules);
        (module, uses)
    });
    let way = circle(&uses.into()).unwrap();
    assert_eq!(way.len(), 4, "{way:?}");
}
