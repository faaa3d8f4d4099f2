//! Several servers of one install: start scripts that start one program, each with folders and settings of its own.

use super::{Dialect, Flow, Script, Step, Word, is_script_by_name};
use crate::family::{Family, Instead, Launch};
use crate::path::RelPath;
use globset::GlobBuilder;
use std::collections::{BTreeMap, BTreeSet};

/// A server, as its start script tells it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drafted {
    /// A name for it: what its script's name or its folder has to itself.
    pub name: String,
    /// Its start script.
    pub script: RelPath,
    /// What it has in place of the family's paths.
    pub instead: Instead,
    /// What else of the keep list is its own: a world.
    pub keep: Vec<String>,
}

/// The servers that scripts start on one install; none where it is only one.
///
/// `paths` are all files of the folder.
pub fn several(
    family: &Family,
    rule: &Launch,
    texts: &BTreeMap<RelPath, &str>,
    paths: &BTreeSet<&str>,
) -> Vec<Drafted> {
    let Some(word) = rule
        .command
        .iter()
        .rposition(|word| is_script_by_name(word))
    else {
        return Vec::new();
    };
    let key = rule.command[word].trim_start_matches("./").to_owned();
    let usual = Flow::of(rule, &[], texts);
    let usual = usual.start().filter(|step| step.script.is_some());
    let usual = usual.map(|step| step.program().0.text.clone());
    let mut groups: BTreeMap<String, Vec<(RelPath, Step)>> = BTreeMap::new();
    for path in texts.keys() {
        let mut of_it = rule.clone();
        of_it.command[word] = path.as_str().to_owned();
        let flow = Flow::of(&of_it, &[], texts);
        let Some(step) = flow.start().filter(|step| step.script.is_some()) else {
            continue;
        };
        let program = step.program().0.text.clone();
        let is_meant = rule.starts.is_some()
            || usual.as_ref() == Some(&program)
            || paths.contains(program.trim_start_matches("./"));
        let group = groups.entry(program).or_default();
        let same = |(_, other): &(RelPath, Step)| words_of(other) == words_of(step);
        // What only calls another start script starts the same server.
        let calls = calls_another(path, texts);
        if is_meant && !calls && !group.iter().any(same) {
            group.push((path.clone(), step.clone()));
        }
    }
    let group = groups.into_values().max_by_key(Vec::len);
    let mut group = group.filter(|group| group.len() > 1).unwrap_or_default();
    // The family's own script first.
    group.sort_by_key(|(path, _)| (path.as_str() != key, path.clone()));
    let values: Vec<BTreeMap<String, String>> = group
        .iter()
        .map(|(_, step)| paths_in(step.program().1))
        .collect();
    let keys = keys(family, &values);
    let drafted = group.iter().zip(&values).map(|((path, _), values)| {
        let mut instead: Instead = keys
            .iter()
            .filter_map(|(option, key)| Some((key.clone(), values.get(option)?.clone())))
            .collect();
        instead.insert(key.clone(), path.as_str().to_owned());
        // A pattern has to be said by each; what is as the family has it, need not.
        instead.retain(|key, other| key != other);
        let named = |value: &&String| instead.values().any(|other| other == *value);
        let unnamed = values.values().filter(|value| !named(value));
        Drafted {
            name: String::new(),
            script: path.clone(),
            keep: unnamed
                .filter_map(|value| kept(family, value, paths))
                .collect(),
            instead,
        }
    });
    let mut drafted: Vec<Drafted> = drafted.collect();
    let names: Vec<String> = drafted.iter().map(|it| name_of(it, &drafted)).collect();
    for (it, name) in drafted.iter_mut().zip(names) {
        it.name = name;
    }
    drafted
}

/// The pattern for a path that the family keeps, where something is there.
fn kept(family: &Family, value: &str, paths: &BTreeSet<&str>) -> Option<String> {
    let below = format!("{value}/");
    let inside = paths.range(below.as_str()..).next();
    let inside = inside.filter(|path| path.starts_with(&below));
    match inside {
        Some(inside) => family.keeps(inside).then(|| format!("{value}/**")),
        None => (paths.contains(value) && family.keeps(value)).then(|| value.to_owned()),
    }
}

fn words_of(step: &Step) -> Vec<&str> {
    step.command
        .words
        .iter()
        .map(|word| word.text.as_str())
        .collect()
}

/// Whether a script runs another one of the folder.
fn calls_another(path: &RelPath, texts: &BTreeMap<RelPath, &str>) -> bool {
    let script = Script::read(Dialect::of(path), texts[path]);
    let mut words = script.commands.iter().flat_map(|command| &command.words);
    words.any(|word| {
        let named = word.text.trim_start_matches("./");
        named != path.as_str()
            && is_script_by_name(named)
            && texts.keys().any(|it| it.as_str() == named)
    })
}

/// By the option that gives it, every value of a command that may be a path of the folder.
fn paths_in(words: &[Word]) -> BTreeMap<String, String> {
    let is_option = |word: &Word| word.text.starts_with(['-', '+']) && word.text.len() > 1;
    let mut found = BTreeMap::new();
    let mut option: Option<&Word> = None;
    for (index, word) in words.iter().enumerate() {
        let (name, value) = match word.text.split_once('=') {
            Some((name, value)) if is_option(word) => (name.to_owned(), value),
            _ if is_option(word) => {
                option = Some(word);
                continue;
            }
            _ => (
                option.map_or(index.to_string(), |option| option.text.clone()),
                word.text.as_str(),
            ),
        };
        option = None;
        let path = RelPath::parse(value.trim_start_matches("./").trim_end_matches('/'));
        let is_number = value.chars().all(|c| c.is_ascii_digit());
        if let Some(path) = path.ok().filter(|_| word.is_known && !is_number) {
            found.insert(name, path.as_str().to_owned());
        }
    }
    found
}

/// By option, the path of the family's that its values stand for; of those alone in which the servers differ.
fn keys(family: &Family, values: &[BTreeMap<String, String>]) -> BTreeMap<String, String> {
    let options: BTreeSet<&String> = values.iter().flat_map(BTreeMap::keys).collect();
    let mut keys = BTreeMap::new();
    for option in options {
        let given: Vec<&String> = values.iter().filter_map(|it| it.get(option)).collect();
        let differ = given.len() < values.len() || given.iter().any(|it| *it != given[0]);
        let key = given.iter().find_map(|value| stands_for(family, value));
        if let Some(key) = key.filter(|_| differ) {
            keys.insert(option.clone(), key);
        }
    }
    keys
}

/// The path of the family's that a value stands in place of.
fn stands_for(family: &Family, value: &str) -> Option<String> {
    let beginnings = family.paths().into_iter().flat_map(|path| {
        let ends = path
            .match_indices('/')
            .map(|(at, _)| at)
            .chain([path.len()]);
        ends.map(|end| path[..end].to_owned())
            .collect::<Vec<String>>()
    });
    let beginnings: BTreeSet<String> = beginnings.collect();
    let is_wild = |text: &str| text.contains(['*', '?', '[', '{']);
    let matches = |pattern: &String| {
        let glob = GlobBuilder::new(pattern).literal_separator(true).build();
        let alone = pattern.trim_matches(['*', '/']).is_empty();
        !alone && glob.is_ok_and(|glob| glob.compile_matcher().is_match(value))
    };
    let name = |path: &str| path.rsplit('/').next().unwrap_or(path).to_owned();
    let ending = |path: &str| name(path).rsplit_once('.').map(|(_, end)| end.to_owned());
    let named = |path: &&String| !is_wild(path) && name(path) == name(value);
    let plain = beginnings.iter().filter(|path| !is_wild(path));
    let mut alike = plain.filter(|path| ending(path).is_some() && ending(path) == ending(value));
    let only = match (alike.next(), alike.next()) {
        (Some(only), None) => Some(only),
        _ => None,
    };
    // What any depth below fits is no place of one server's; else the deepest says most.
    let near = beginnings.iter().filter(|it| !it.contains("**"));
    let fits = near.filter(|it| matches(it)).max_by_key(|it| it.len());
    fits.or_else(|| beginnings.iter().find(named))
        .or(only)
        .cloned()
}

/// What the name of a server's script, or else of one of its paths, has that no other's has.
fn name_of(one: &Drafted, all: &[Drafted]) -> String {
    let plain = |text: &str| {
        let kept = text.chars().map(|c| match c.is_ascii_alphanumeric() {
            true => c.to_ascii_lowercase(),
            false => '-',
        });
        kept.collect::<String>().trim_matches('-').to_owned()
    };
    let words = |path: &str| {
        let stem = path.rsplit('/').next().unwrap_or(path);
        let stem = stem.rsplit_once('.').map_or(stem, |(stem, _)| stem);
        let words = stem.split(['-', '_', '.']).map(plain);
        words
            .filter(|word| !word.is_empty())
            .collect::<Vec<String>>()
    };
    let own = |it: &Drafted| {
        let paths = it.instead.values().chain(&it.keep);
        let paths = paths.filter(|path| *path != it.script.as_str());
        // A folder, such as a world's, says more than a file.
        let is_file = |path: &&String| path.rsplit('/').next().is_some_and(|it| it.contains('.'));
        let (files, folders): (Vec<&String>, Vec<&String>) = paths.partition(is_file);
        let mut own = words(it.script.as_str());
        let paths = folders.into_iter().chain(files);
        own.extend(paths.flat_map(|path| path.split('/').flat_map(words)));
        own
    };
    let others: BTreeSet<String> = all.iter().filter(|it| *it != one).flat_map(own).collect();
    let mut apart = own(one).into_iter().filter(|word| !others.contains(word));
    apart.next().unwrap_or_else(|| {
        let stem = words(one.script.as_str());
        stem.join("-")
    })
}
