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
use lantern_core::path::RelPath;
use lantern_core::version::{Range, RangeNotation, Version};
use std::collections::BTreeMap;
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
    pub runtime: Option<Runtime>,
    /// How it ended, where that was a failure that the recipe allows.
    pub failed: Option<String>,
}

/// A runtime that does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Runtime {
    /// Its program; none where only its version was asked for.
    pub program: Option<String>,
    /// Its version.
    pub version: String,
}

/// Runs the recipe for a version of the server program.
///
/// # Errors
/// Where there is no recipe, the runtime does not do, the program is missing, takes too long, fails,
/// or leaves no results.
pub fn acquire(server: &Server, version: &Version) -> Result<Acquired> {
    let recipe = server.recipe().ok_or(AcquireFault::NoRecipe)?;
    if recipe.results.is_empty() && recipe.product.is_none() {
        return Err(AcquireFault::NothingWanted.into());
    }
    let root = server.folder.root().display().to_string();
    let runtime = recipe.runtime.as_ref();
    let runtime = runtime
        .map(|rule| runtime_for(server, &root, rule))
        .transpose()?;
    let name = format!("{}-{version}", server.family.build.id);
    let files = &server.folder;
    let scratch = files.make_own(&format!("acquire/{name}"))?;
    files.remove_all(&scratch)?;
    files.make_folders(&scratch)?;
    let log = files.shown(&own(&format!("acquire/{name}.log")));
    let program = runtime.as_ref().and_then(|it| it.program.as_deref());
    let fill = |word: &String| {
        word.replace("{version}", version.as_str())
            .replace("{server}", &root)
            .replace("{runtime}", program.unwrap_or("{runtime}"))
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
    let wanted = wanted(recipe, &left.collect::<Vec<_>>()).map_err(&fault)?;
    if let Some(how) = failed.as_ref().filter(|_| !recipe.may_fail) {
        return Err(fault(format!("it failed: {how}")));
    }
    let made = wanted.version.as_deref().unwrap_or(version.as_str());
    let named = format!("{FOLDER}/{}-{made}", server.family.build.id);
    RelPath::parse(&named)?;
    let folder = files.make_own(&named)?;
    let moves = wanted.files.iter();
    let moves = moves.map(|(from, to)| Ok((scratch.join(from)?, folder.join(to)?)));
    // What was made before goes only when all names make sense.
    let moves: Vec<(RelPath, RelPath)> = moves.collect::<Result<_>>()?;
    files.remove_all(&folder)?;
    for (from, to) in moves {
        if let Some(parent) = to.folder() {
            files.make_folders(&parent)?;
        }
        files.rename(&from, &to)?;
    }
    let results = wanted.files.into_values().collect();
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

/// What a program prints in the server folder.
fn printed(server: &Server, command: &[String]) -> Result<String> {
    let log = tempfile::NamedTempFile::new()
        .at("writing", Path::new("a file for the runtime's words"))?;
    let folder = server.folder.root();
    run(server, command, folder, log.path(), RUNTIME_LIMIT)?;
    let printed = here::read(log.path())?;
    Ok(String::from_utf8_lossy(&printed).into_owned())
}

/// Looks whether the runtime is there, in a version that does; of several the newest that does.
fn runtime_for(server: &Server, root: &str, rule: &RuntimeRule) -> Result<Runtime> {
    let notations = &server.family.versions;
    // Not what the family is about: comparators can always be used.
    let ranges = [&notations.ranges[..], &[RangeNotation::Comparators]].concat();
    let range = Range::parse_any(&rule.range, &ranges, notations.components);
    let range = range.map_err(AcquireFault::Range)?;
    let filled = |command: &[String], program: &str| -> Vec<String> {
        let words = command.iter().map(|word| word.replace("{server}", root));
        words
            .map(|word| word.replace("{runtime}", program))
            .collect()
    };
    let version_of = |program: &str| -> Result<Option<Version>> {
        let printed = printed(server, &filled(&rule.command, program))?;
        let mut lines = printed.lines();
        let found = lines.find_map(|line| rule.version.capture("version", line));
        let version = found.map(|found| Version::parse(found, notations.components));
        Ok(version.transpose()?)
    };
    let Some(list) = &rule.list else {
        let found = version_of("{runtime}")?;
        let version = found.clone().filter(|version| range.holds_early(version));
        return match version {
            Some(version) => Ok(Runtime {
                program: None,
                version: version.to_string(),
            }),
            None => Err(Error::Acquire(AcquireFault::Runtime {
                program: rule.command.first().cloned().unwrap_or_default(),
                needed: rule.range.clone(),
                found: found.map_or("no version in what it prints".into(), |it| it.to_string()),
            })),
        };
    };
    let mut found = Vec::new();
    let mut best: Option<(Version, String)> = None;
    let listed = printed(server, &filled(list, "{runtime}"))?;
    for program in listed.lines().map(str::trim).filter(|it| !it.is_empty()) {
        match version_of(program) {
            Err(error) => found.push(format!("{program} ({error})")),
            Ok(None) => found.push(format!("{program} (no version in what it prints)")),
            Ok(Some(version)) => {
                found.push(format!("{program} {version}"));
                let newer = best.as_ref().is_none_or(|(known, _)| *known < version);
                if newer && range.holds_early(&version) {
                    best = Some((version, program.to_owned()));
                }
            }
        }
    }
    match best {
        Some((version, program)) => Ok(Runtime {
            program: Some(program),
            version: version.to_string(),
        }),
        None => Err(Error::Acquire(AcquireFault::NoRuntime {
            needed: rule.range.clone(),
            found: match found.is_empty() {
                true => vec!["none".into()],
                false => found,
            },
        })),
    }
}

/// What is wanted of what lies in the scratch folder.
struct Wanted {
    /// Where each is, and where it goes.
    files: BTreeMap<String, String>,
    /// Which version the product is, where its name says so.
    version: Option<String>,
}

/// Finds what is wanted; says why where it is not there.
fn wanted(recipe: &Acquire, left: &[String]) -> std::result::Result<Wanted, String> {
    let unmet = |glob: &&Glob| !left.iter().any(|file| glob.matches(file));
    if let Some(glob) = recipe.results.iter().find(unmet) {
        return Err(format!("it left nothing that is called {}", glob.as_str()));
    }
    let is_result = |file: &&String| recipe.results.iter().any(|glob| glob.matches(file));
    let results = left.iter().filter(is_result);
    let mut wanted = Wanted {
        files: results.map(|file| (file.clone(), file.clone())).collect(),
        version: None,
    };
    let Some(product) = &recipe.product else {
        return Ok(wanted);
    };
    let find = product.find.regex();
    let found = left.iter().filter(|file| find.is_match(file));
    let path = match &found.collect::<Vec<_>>()[..] {
        [] => return Err(format!("it left nothing that product.find finds: {find}")),
        [one] => (*one).clone(),
        several => {
            let names: Vec<&str> = several.iter().map(|name| name.as_str()).collect();
            return Err(format!("product.find finds several: {}", names.join(", ")));
        }
    };
    wanted.version = product
        .find
        .capture("version", &path)
        .map(ToOwned::to_owned);
    let named = product.named.as_ref().unwrap_or(&path);
    let named = match &wanted.version {
        Some(version) => named.replace("{version}", version),
        None => named.clone(),
    };
    wanted.files.insert(path, named);
    Ok(wanted)
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
