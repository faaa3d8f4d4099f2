//! What of a folder is of no component: worlds, logs, settings.

use super::{Sample, is_top, notation, quoted_glob};
use crate::launch::is_script_by_name;
use crate::path::RelPath;
use std::collections::BTreeSet;

/// What the names of folders of worlds and players have in them.
const KEPT: &[&str] = &["world", "save", "player", "ban"];
/// What the names of folders that come and go have in them.
const PASSING: &[&str] = &["log", "cache", "crash", "tmp", "screenshot"];
/// What folders of settings are called.
const SETTINGS: &[&str] = &["config", "cfg", "conf", "setting"];
/// So deep lie folders that are known by what they are called.
const DEEPEST: usize = 5;

/// What of the folder is of no component.
pub(super) fn layout(
    sample: &Sample,
    data: &BTreeSet<String>,
    own: &impl Fn(&RelPath) -> bool,
) -> String {
    let all = |words: &[&str]| -> Vec<String> {
        let mut globs = places(sample, words);
        let inner = called(sample, words, own).into_iter();
        let inner = inner.filter_map(|folder| quoted_glob(&format!("{folder}/**")));
        globs.extend(
            inner
                .filter(|glob| !globs.contains(glob))
                .collect::<Vec<_>>(),
        );
        globs
    };
    let passing = all(PASSING);
    let mut kept = all(KEPT);
    let mut named = called(sample, KEPT, own);
    named.extend(called(sample, PASSING, own));
    named.extend(called(sample, SETTINGS, own));
    let is_named = |path: &RelPath| {
        let mut above = std::iter::successors(path.folder(), RelPath::folder);
        above.any(|folder| named.contains(folder.as_str()))
    };
    for glob in written(sample, own, is_named) {
        if !kept.contains(&glob) && !passing.contains(&glob) {
            kept.push(glob);
        }
    }
    let scripts = sample
        .paths
        .iter()
        .filter(|path| is_top(path) && !own(path));
    let scripts = scripts.filter(|path| {
        is_script_by_name(path.as_str()) || notation::of_name(path.as_str()).is_some()
    });
    let mut settings: Vec<String> = scripts
        .filter_map(|path| quoted_glob(path.as_str()))
        .collect();
    let folders = called(sample, SETTINGS, own).into_iter();
    settings.extend(folders.filter_map(|folder| quoted_glob(&format!("{folder}/**"))));
    let data: Vec<String> = data.iter().filter_map(|at| quoted_glob(at)).collect();
    let mut layout = format!(
        "\n[layout]\nkeep = [{}]    # worlds, players, bans: never written\n\
         passing = [{}]    # logs, caches\n",
        kept.join(", "),
        passing.join(", "),
    );
    for (key, globs, what) in [
        ("settings", settings, "the place's own"),
        ("data", data, "what add-ons write: kept, too"),
    ] {
        if !globs.is_empty() {
            layout += &format!("{key} = [{}]    # {what}\n", globs.join(", "));
        }
    }
    layout
}

/// What was written last, and so is perhaps the world's: the folders in which it lies, and those above in which nothing else is. What lies
/// in a folder that its name tells, tells nothing more.
fn written(
    sample: &Sample,
    own: &impl Fn(&RelPath) -> bool,
    is_named: impl Fn(&RelPath) -> bool,
) -> Vec<String> {
    let late: BTreeSet<&RelPath> = sample.written.iter().collect();
    let above = |path: &RelPath| std::iter::successors(path.folder(), RelPath::folder);
    let (mut older, mut taken) = (BTreeSet::new(), BTreeSet::new());
    for path in &sample.paths {
        if own(path) {
            taken.extend(path.folder());
        } else if is_named(path) || !late.contains(path) {
            older.extend(above(path));
        }
    }
    let mut globs = Vec::new();
    let late = sample.written.iter();
    for path in late.filter(|path| !own(path) && !is_named(path)) {
        let folder = path.folder().filter(|folder| !taken.contains(folder));
        let whole = above(path).take_while(|it| !older.contains(it) && !taken.contains(it));
        let glob = match whole.last().or(folder) {
            Some(folder) => quoted_glob(&format!("{folder}/**")),
            None => quoted_glob(path.as_str()),
        };
        globs.extend(glob.filter(|glob| !globs.contains(glob)));
    }
    globs
}

/// Folders below others that are called by one of these words, or several of it; the outermost of those in one another.
fn called(sample: &Sample, words: &[&str], own: &impl Fn(&RelPath) -> bool) -> BTreeSet<String> {
    let is_called = |name: &str| {
        let name = name.to_lowercase();
        let rest = words.iter().find_map(|word| name.strip_prefix(word));
        rest.is_some_and(|rest| ["", "s", "es", "game", "games", "data"].contains(&rest))
    };
    let mut found = BTreeSet::new();
    for path in sample.paths.iter().filter(|path| !own(path)) {
        let slashes = path.as_str().match_indices('/').map(|(at, _)| at);
        let mut folders = slashes.take(DEEPEST).map(|at| &path.as_str()[..at]);
        let name = |folder: &&str| is_called(folder.rsplit('/').next().unwrap_or(folder));
        found.extend(folders.find(name).map(str::to_owned));
    }
    found
}

/// Whether a path lies in a folder that is probably the world's, or comes and goes.
pub(super) fn is_data(path: &RelPath) -> bool {
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
