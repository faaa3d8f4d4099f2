//! Server programs that cannot be downloaded: a recipe runs an installer or build tool.
//!
//! It runs in a scratch folder of its own; what it prints is kept, and what is wanted of its results
//! goes to `.lantern/acquired/`, where plans find it like an archive in a drop folder.

pub mod fault;

use crate::acquire::fault::AcquireFault;
use crate::config::Server;
use crate::error::{At, Error, Result};
use crate::folder::own;
use crate::place::here;
use crate::runner::Ended;
use lantern_core::family::{Acquire, Glob, RuntimeRule};
use lantern_core::version::Version;
use std::path::{Path, PathBuf};
use std::time::Duration;

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
    let recipe = server.recipe().ok_or(AcquireFault::NoRecipe)?;
    let runtime = recipe.runtime.as_ref().map(|rule| runtime(server, rule));
    let runtime = runtime.transpose()?;
    let name = format!("{}-{version}", server.family.build.id);
    let files = &server.folder;
    let scratch = files.make_own(&format!("acquire/{name}"))?;
    files.remove_all(&scratch)?;
    files.make_folders(&scratch)?;
    let log = files.shown(&own(&format!("acquire/{name}.log")));
    let root = server.folder.root().display().to_string();
    let fill = |word: &String| {
        word.replace("{version}", version.as_str())
            .replace("{server}", &root)
    };
    let command: Vec<String> = recipe.command.iter().map(fill).collect();
    let limit = Duration::from_secs(recipe.limit_s);
    let ended = run(server, &command, &files.shown(&scratch), &log, limit)?;
    let fault = |why: String| {
        Error::Acquire(AcquireFault::Recipe {
            why,
            log: log.clone(),
            last: last_lines(&log),
        })
    };
    let failed = match ended {
        Ended::Well => None,
        Ended::Badly(how) => Some(how),
        Ended::TooSlow => {
            return Err(fault(format!(
                "it took longer than {} s, and was ended",
                recipe.limit_s
            )));
        }
    };
    let left = files.files_below(&scratch)?.into_iter();
    let left = left.filter_map(|(path, _)| Some(path.below(scratch.as_str())?.to_owned()));
    let results = results(recipe, left.collect()).map_err(&fault)?;
    if let Some(how) = failed.as_ref().filter(|_| !recipe.may_fail) {
        return Err(fault(format!("it failed: {how}")));
    }
    let folder = files.make_own(&format!("{FOLDER}/{name}"))?;
    files.remove_all(&folder)?;
    for result in &results {
        let (from, to) = (scratch.join(result)?, folder.join(result)?);
        if let Some(parent) = to.folder() {
            files.make_folders(&parent)?;
        }
        files.rename(&from, &to)?;
    }
    files.remove_all(&scratch)?;
    Ok(Acquired {
        folder: files.shown(&folder),
        results,
        log,
        runtime,
        failed,
    })
}

/// Runs a program of somebody else.
///
/// # Errors
/// When it cannot be run.
fn run(
    server: &Server,
    command: &[String],
    folder: &Path,
    log: &Path,
    limit: Duration,
) -> Result<Ended> {
    let ended = server
        .runner
        .run(command, folder, log, limit, server.password_env());
    ended.map_err(|source| Error::NoProgram {
        program: command
            .first()
            .map_or("an empty command line", String::as_str)
            .into(),
        source,
    })
}

/// Looks whether the runtime is there, in a version that does.
fn runtime(server: &Server, rule: &RuntimeRule) -> Result<String> {
    let program = rule.command.first().ok_or(AcquireFault::NoRecipe)?;
    let log = tempfile::NamedTempFile::new()
        .at("writing", Path::new("a file for the runtime's words"))?;
    let folder = server.folder.root();
    run(server, &rule.command, folder, log.path(), RUNTIME_LIMIT)?;
    let printed = here::read(log.path())?;
    let printed = String::from_utf8_lossy(&printed);
    let found = printed
        .lines()
        .find_map(|line| rule.version.capture("version", line));
    let wrong = |found: &str| {
        Error::Acquire(AcquireFault::Runtime {
            program: program.clone(),
            needed: rule.range.clone(),
            found: found.to_owned(),
        })
    };
    let Some(found) = found else {
        return Err(wrong("no version in what it prints"));
    };
    let notations = &server.family.versions;
    let range = notations.range(&rule.range)?;
    let version = Version::parse(found, notations.components)?;
    if !range.holds_early(&version) {
        return Err(wrong(found));
    }
    Ok(found.to_owned())
}

/// What is wanted of what lies in the scratch folder.
fn results(recipe: &Acquire, mut files: Vec<String>) -> std::result::Result<Vec<String>, String> {
    let unmet = |glob: &&Glob| !files.iter().any(|file| glob.matches(file));
    if let Some(glob) = recipe.results.iter().find(unmet) {
        return Err(format!("it left nothing that is called {}", glob.as_str()));
    }
    files.retain(|file| recipe.results.iter().any(|glob| glob.matches(file)));
    Ok(files)
}

fn last_lines(log: &Path) -> Vec<String> {
    let text = here::read(log).unwrap_or_default();
    let text = String::from_utf8_lossy(&text);
    let lines: Vec<&str> = text.lines().collect();
    let first = lines.len().saturating_sub(TOLD_LINES);
    lines[first..]
        .iter()
        .map(|line| (*line).to_owned())
        .collect()
}
