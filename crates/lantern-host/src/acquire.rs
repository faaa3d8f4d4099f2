//! Server programs that cannot be downloaded: a recipe runs an installer or build tool.
//!
//! It runs in a scratch folder of its own; what it prints is kept, and what is wanted of its results
//! goes to `.lantern/acquired/`, where plans find it like an archive in a drop folder.

use crate::config::Server;
use crate::error::{At, Error, Result};
use crate::program::{start, wait};
use lantern_core::family::{Acquire, Glob, RuntimeRule};
use lantern_core::version::Version;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;
use walkdir::WalkDir;

/// The folder of all that recipes have made, inside lantern's own.
pub const FOLDER: &str = "acquired";
/// How long the runtime may take to tell its version.
const RUNTIME_LIMIT: Duration = Duration::from_secs(20);
/// So many lines of a recipe's end are told when it fails.
const TOLD_LINES: usize = 5;

/// What a recipe came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acquired {
    /// Where the results are.
    pub folder: PathBuf,
    /// The results, relative to it.
    pub results: Vec<String>,
    /// What it printed.
    pub log: PathBuf,
    /// The runtime that was found.
    pub runtime: Option<String>,
    /// How it ended, where that was a failure that the recipe allows.
    pub failed: Option<String>,
}

/// Runs the recipe for a version of the server program.
///
/// # Errors
/// Where there is no recipe, the runtime does not do, the program is missing, takes too long, fails,
/// or leaves no results.
pub fn acquire(server: &Server, version: &Version) -> Result<Acquired> {
    let recipe = server.recipe().ok_or(Error::NoRecipe)?;
    let runtime = recipe.runtime.as_ref().map(|rule| runtime(server, rule));
    let runtime = runtime.transpose()?;
    let name = format!("{}-{version}", server.family.build.id);
    let scratch = server.folder.make_own(&format!("acquire/{name}"))?;
    fs::remove_dir_all(&scratch).at("removing", &scratch)?;
    fs::create_dir_all(&scratch).at("making the folder", &scratch)?;
    let log = server.folder.own(&format!("acquire/{name}.log"));
    let root = server.folder.root().display().to_string();
    let fill = |word: &String| {
        word.replace("{version}", version.as_str())
            .replace("{server}", &root)
    };
    let command: Vec<String> = recipe.command.iter().map(fill).collect();
    let child = start(&command, &scratch, &log)?;
    let limit = Duration::from_secs(recipe.limit_s);
    let fault = |why: String| Error::Recipe {
        why,
        log: log.clone(),
        last: last_lines(&log),
    };
    let Some(status) = wait(child, limit).at("waiting for", Path::new(&command[0]))? else {
        return Err(fault(format!(
            "it took longer than {} s, and was ended",
            recipe.limit_s
        )));
    };
    let results = results(recipe, &scratch).map_err(&fault)?;
    let failed = (!status.success()).then(|| status.to_string());
    if let Some(how) = failed.as_ref().filter(|_| !recipe.may_fail) {
        return Err(fault(format!("it failed: {how}")));
    }
    let folder = server.folder.make_own(&format!("{FOLDER}/{name}"))?;
    fs::remove_dir_all(&folder).at("removing", &folder)?;
    for result in &results {
        let (from, to) = (scratch.join(result), folder.join(result));
        if let Some(parent) = to.parent() {
            fs::create_dir_all(parent).at("making the folder", parent)?;
        }
        fs::rename(&from, &to).at("renaming", &from)?;
    }
    fs::remove_dir_all(&scratch).at("removing", &scratch)?;
    Ok(Acquired {
        folder,
        results,
        log,
        runtime,
        failed,
    })
}

/// Looks whether the runtime is there, in a version that does.
fn runtime(server: &Server, rule: &RuntimeRule) -> Result<String> {
    let program = rule.command.first().ok_or(Error::NoRecipe)?;
    let log = tempfile::NamedTempFile::new()
        .at("writing", Path::new("a file for the runtime's words"))?;
    let child = start(&rule.command, server.folder.root(), log.path())?;
    wait(child, RUNTIME_LIMIT).at("waiting for", Path::new(program))?;
    let printed = fs::read(log.path()).at("reading", log.path())?;
    let printed = String::from_utf8_lossy(&printed);
    let found = printed
        .lines()
        .find_map(|line| rule.version.capture("version", line));
    let wrong = |found: &str| Error::Runtime {
        program: program.clone(),
        needed: rule.range.clone(),
        found: found.to_owned(),
    };
    let Some(found) = found else {
        return Err(wrong("no version in what it prints"));
    };
    let notations = &server.family.versions;
    let range = notations
        .range(&rule.range)
        .map_err(|fault| Error::Version(fault.to_string()))?;
    let version = Version::parse(found, notations.components)
        .map_err(|fault| Error::Version(fault.to_string()))?;
    if !range.holds_early(&version) {
        return Err(wrong(found));
    }
    Ok(found.to_owned())
}

/// What is wanted of what lies in the scratch folder.
fn results(recipe: &Acquire, scratch: &Path) -> std::result::Result<Vec<String>, String> {
    let mut files = Vec::new();
    for entry in WalkDir::new(scratch).sort_by_file_name() {
        let entry = entry.map_err(|error| error.to_string())?;
        if entry.file_type().is_file() {
            let below = entry.path().strip_prefix(scratch).unwrap_or(entry.path());
            files.push(below.display().to_string());
        }
    }
    let unmet = |glob: &&Glob| !files.iter().any(|file| glob.matches(file));
    if let Some(glob) = recipe.results.iter().find(unmet) {
        return Err(format!("it left nothing that is called {}", glob.as_str()));
    }
    files.retain(|file| recipe.results.iter().any(|glob| glob.matches(file)));
    Ok(files)
}

fn last_lines(log: &Path) -> Vec<String> {
    let text = fs::read(log).unwrap_or_default();
    let text = String::from_utf8_lossy(&text);
    let lines: Vec<&str> = text.lines().collect();
    let first = lines.len().saturating_sub(TOLD_LINES);
    lines[first..]
        .iter()
        .map(|line| (*line).to_owned())
        .collect()
}
