//! What in a family file is written well and yet cannot work.

use crate::family::{End, Family, OrderKind, OrderRule, Pattern, Shape, Within};
use regex_syntax::hir::{Hir, HirKind, Look};
use schemars::JsonSchema;
use serde::Serialize;

/// Something in a family file that cannot be what was meant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Remark {
    /// Where: the keys, with dots between.
    pub at: String,
    /// What is wrong with it.
    pub text: String,
}

/// The group of a pattern that finds a value.
const VALUE: &[&str] = &["value"];
const ID: &[&str] = &["id"];

/// Looks for patterns that match nothing, patterns without the groups that are asked for, and
/// readers that take each other's places.
pub fn remarks(family: &Family) -> Vec<Remark> {
    let mut remarks = Vec::new();
    let mut patterns: Vec<Stated<'_>> = Vec::new();
    for reader in &family.readers {
        let at = format!("reader.{}", reader.name);
        for (field, rule, list) in reader.fields.all() {
            for (number, lookup) in rule.0.iter().enumerate() {
                if let Some(pattern) = &lookup.pattern {
                    let at = format!("{at}.fields.{field}[{number}].pattern");
                    patterns.push((at, pattern, if list { &["id"] } else { &["value"] }));
                }
            }
        }
        for (number, file) in reader.files.iter().enumerate() {
            if let Some(line) = &file.line {
                patterns.push((
                    format!("{at}.files[{number}].line"),
                    line,
                    &["key", "value"],
                ));
            }
        }
        if reader.install.is_none() && reader.shape != Shape::Entry {
            remarks.push(Remark {
                at: format!("{at}.install"),
                text: "is missing: nothing new can be put in by this reader".into(),
            });
        }
    }
    if let Some(recipe) = &family.build.acquire {
        if let Some(runtime) = &recipe.runtime {
            let at = "build.acquire.runtime.version".into();
            patterns.push((at, &runtime.version, &["version"]));
        }
        if recipe.results.is_empty() && recipe.product.is_none() {
            remarks.push(Remark {
                at: "build.acquire".into(),
                text: "names neither `product` nor `results`: nothing is wanted of it".into(),
            });
        }
    }
    if let Some(cut) = &family.ids.cut {
        patterns.push(("ids.cut".into(), cut, &[]));
    }
    let console = &family.console;
    if let Some(ready) = &console.ready {
        patterns.push(("console.ready".into(), ready, &[]));
    }
    for (number, error) in console.errors.iter().enumerate() {
        patterns.push((format!("console.errors[{number}]"), error.line(), &[]));
    }
    for setting in &console.settings {
        let at = |key: &str| format!("console.setting \"{}\".{key}", setting.name);
        patterns.extend(setting.line.iter().map(|line| (at("line"), line, VALUE)));
        patterns.push((at("says"), &setting.says, &["value"]));
    }
    if let Some(version) = &console.version {
        patterns.push(("console.version.says".into(), &version.says, &["version"]));
    }
    if let Some(framework) = &console.framework {
        patterns.push(("console.framework".into(), framework, &["id", "version"]));
    }
    for flag in &family.flags {
        let at = format!("flag \"{}\".line", flag.name);
        patterns.extend(flag.line.iter().map(|line| (at.clone(), line, VALUE)));
    }
    for also in &family.also {
        let at = |key: &str| format!("also \"{}\".{key}", also.name);
        patterns.push((at("line"), &also.line, also.kind.groups()));
        patterns.extend(ends(also.within.as_ref(), &at("within")));
        patterns.push((at("each"), &also.each, VALUE));
    }
    for (number, pin) in family.pins.iter().enumerate() {
        let at = format!("pin[{number}].line");
        patterns.extend(pin.line.iter().map(|line| (at.clone(), line, VALUE)));
    }
    let lists = [("list", &console.list), ("players", &console.players)];
    let lists = lists
        .into_iter()
        .filter_map(|(name, list)| Some((name, list.as_ref()?)));
    for (name, list) in lists.clone() {
        match &list.end {
            End::Line(end) => patterns.push((format!("console.{name}.end"), end, &[])),
            End::Count(count) => {
                patterns.push((format!("console.{name}.count"), count, &["count"]))
            }
        }
    }
    let loaded = console.loaded.iter().map(|loaded| ("loaded", loaded));
    for (name, naming) in loaded.chain(lists.map(|(name, list)| (name, &list.naming))) {
        let at = format!("console.{name}.line");
        patterns.push((at, &naming.line, naming.groups()));
        let item = naming.item.iter();
        patterns.extend(item.map(|item| (format!("console.{name}.item"), item, ID)));
    }
    for port in console.port.iter().chain(&console.more_ports) {
        let at = format!("console: the port in {}", port.file);
        patterns.extend(
            port.line
                .iter()
                .map(|line| (at.clone(), line, &["port"][..])),
        );
    }
    if let Some(order) = &family.order {
        let groups = order.kind.groups();
        patterns.push(("order.line".into(), &order.line, groups));
        patterns.extend(ends(order.within.as_ref(), "order.within"));
        let has_all = |name: &&str| order.line.names(name);
        for (key, write) in [
            ("write", Some(&order.write)),
            ("write_with", order.write_with.as_ref()),
        ] {
            if let Some(write) = write.filter(|write| !finds_again(order, write))
                && groups.iter().all(has_all)
            {
                remarks.push(Remark {
                    at: format!("order.{key}"),
                    text: format!("gives {write:?}, in which `line` finds no add-on: nothing new could be started"),
                });
            }
        }
    }
    for (at, pattern, groups) in patterns {
        let names = pattern.regex().capture_names().flatten();
        let names: Vec<&str> = names.collect();
        for group in groups.iter().filter(|group| !names.contains(group)) {
            let text = format!("lacks the group (?P<{group}>…), so nothing is taken from it");
            remarks.push(Remark {
                at: at.clone(),
                text,
            });
        }
        if !can_match(pattern.regex().as_str()) {
            let text = "cannot match anything".into();
            remarks.push(Remark { at, text });
        }
    }
    overlaps(family, &mut remarks);
    remarks
}

/// Where a pattern stands, and the groups that it has to have.
type Stated<'f> = (String, &'f Pattern, &'static [&'static str]);

/// The patterns that find where a part of a text begins and ends.
fn ends<'f>(within: Option<&'f Within>, at: &str) -> impl Iterator<Item = Stated<'f>> {
    let ends = within.into_iter().flat_map(|within| {
        let to = within.to.iter().map(|to| ("to", to));
        [("from", &within.from)].into_iter().chain(to)
    });
    ends.map(move |(key, pattern)| (format!("{at}.{key}"), pattern, &[][..]))
}

/// Names of several shapes: a pattern for ids takes one of them.
const NAMES: &[&str] = &[
    "fern",
    "Fern",
    "FERN",
    "fern-house",
    "fern_house",
    "fern.house",
    "a",
    "1",
    "52415257",
];

/// Whether what would be written of an add-on is found again; of lists only the whole is found.
fn finds_again(order: &OrderRule, write: &str) -> bool {
    let found = |name: &str, group: &str| {
        let line = write.replace("{id}", name).replace("{name}", name);
        let line = line.replace("{on}", &order.on).replace("{at}", "10");
        let line = line.replace("{arguments}", "wet");
        let line = line.replace("{version}", "1.2.0");
        order.line.capture(group, &line) == Some(name)
    };
    match order.kind {
        OrderKind::List => true,
        OrderKind::Names => NAMES.iter().any(|name| found(name, "name")),
        OrderKind::Sequence | OrderKind::Flags | OrderKind::One => {
            NAMES.iter().any(|name| found(name, "id"))
        }
    }
}

/// Readers that lay claim to the very same places by the same marks: the later finds nothing.
fn overlaps(family: &Family, remarks: &mut Vec<Remark>) {
    for (index, later) in family.readers.iter().enumerate() {
        let told_apart = |reader: &crate::family::Reader| {
            let marks = reader.marks.iter().map(crate::family::Names::text);
            let files = reader.files.iter().map(|file| file.name.text());
            let by: Vec<String> = if reader.marks.is_empty() {
                files.collect()
            } else {
                marks.collect()
            };
            (reader.shape.is_one_file(), by)
        };
        for earlier in &family.readers[..index] {
            let both = later
                .at
                .texts()
                .find(|text| earlier.at.texts().any(|other| other == *text));
            // What lies in one file is told apart by its path alone.
            let alike = told_apart(earlier) == told_apart(later)
                || earlier.shape.is_one_file() && later.shape.is_one_file();
            if let (Some(at), true) = (both, alike) {
                remarks.push(Remark {
                    at: format!("reader.{}.at", later.name),
                    text: format!(
                        "overlaps with the reader \"{}\", which comes first and takes {at}",
                        earlier.name
                    ),
                });
            }
        }
    }
}

/// Whether any text matches a regular expression.
fn can_match(pattern: &str) -> bool {
    regex_syntax::parse(pattern).is_ok_and(|hir| possible(&hir))
}

fn possible(hir: &Hir) -> bool {
    if hir.properties().minimum_len().is_none() {
        return false;
    }
    match hir.kind() {
        HirKind::Concat(parts) => {
            let takes = |part: &Hir| part.properties().minimum_len().unwrap_or(0) > 0;
            let look = |part: &Hir, look| matches!(part.kind(), HirKind::Look(l) if *l == look);
            let taken_before = |index: usize| parts[..index].iter().any(takes);
            let taken_after = |index: usize| parts[index + 1..].iter().any(takes);
            let out_of_place = (0..parts.len()).any(|index| {
                look(&parts[index], Look::Start) && taken_before(index)
                    || look(&parts[index], Look::End) && taken_after(index)
            });
            !out_of_place && parts.iter().all(possible)
        }
        HirKind::Alternation(parts) => parts.iter().any(possible),
        HirKind::Capture(capture) => possible(&capture.sub),
        HirKind::Repetition(repetition) => repetition.min == 0 || possible(&repetition.sub),
        HirKind::Empty | HirKind::Literal(_) | HirKind::Class(_) | HirKind::Look(_) => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn impossible_patterns_are_told_apart() {
        for pattern in ["a^b", "(x)$y", "[a&&b]", "^a(b$c)+"] {
            assert!(!can_match(pattern), "{pattern}");
        }
        for pattern in [
            "^a$",
            "(?m)a$\\nb",
            "a*^b",
            "^(a|b^c)$",
            "",
            "(a^b)?c",
            "\\ba",
        ] {
            assert!(can_match(pattern), "{pattern}");
        }
    }

    #[test]
    fn what_would_be_written_has_to_be_found_again() {
        let table = [
            ("sequence", r"^load (?P<id>\S+)$", "load {id}", true),
            ("sequence", r"^load (?P<id>\S+)$", "{id}", false),
            ("sequence", r"^(?P<id>[A-Z]{4})$", "{id}", true),
            ("flags", r"^(?P<id>\w+)=(?P<on>\w+)$", "{id}={on}", true),
            ("flags", r"^(?P<id>\w+)=(?P<on>\w+)$", "{id}", false),
            ("names", r"^(?P<at>\d+)-(?P<name>.+)$", "{at}-{name}", true),
            ("names", r"^(?P<at>\d+)-(?P<name>.+)$", "{name}", false),
            ("list", r"^mods=(?P<list>.*)$", "{id}", true),
        ];
        for (kind, line, write, found) in table {
            let order = format!("kind = '{kind}'\nfile = 'x'\nline = '{line}'\nwrite = '{write}'");
            let order: OrderRule = toml_edit::de::from_str(&order).unwrap();
            let again = finds_again(&order, &order.write);
            assert_eq!(again, found, "{kind} {line} {write}");
        }
    }

    #[test]
    fn remarks_name_the_key() {
        let text = crate::tree::tests::FAMILY
            .replace("ready = \"up\"", "ready = 'up^'")
            .replace(
                "version = \"version\"",
                "version = { at = \"version\", pattern = '(\\d+)' }",
            )
            .replace(
                "at = \"mods/*\"\n        marks = [\"init.lua\"]",
                "at = \"mods/*\"\n        marks = [\"group.txt\"]",
            );
        let family = Family::parse(&text).unwrap();
        let told = remarks(&family)
            .into_iter()
            .map(|r| format!("{} {}", r.at, r.text));
        insta::assert_snapshot!(told.collect::<Vec<_>>().join("\n"), @r#"
        reader.group.install is missing: nothing new can be put in by this reader
        reader.archive.fields.version[0].pattern lacks the group (?P<value>…), so nothing is taken from it
        console.ready cannot match anything
        reader.folder.at overlaps with the reader "group", which comes first and takes mods/*
        "#);
    }
}
