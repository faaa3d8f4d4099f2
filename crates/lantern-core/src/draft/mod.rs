//! The first draft of a family file, from looking at a server folder.
//!
//! It guesses, and says so: every guess stands there to be looked at, and what cannot be guessed is
//! marked `TODO`. A guess that would make the draft no family is left out.

mod called;
mod fields;
mod layout;
mod notation;
mod own_word;
mod program;
mod readers;
mod rule;
mod section;
mod switches;
mod witness;

pub use readers::Release;

use crate::family::{Family, Glob};
use crate::launch::is_script_by_name;
use crate::path::RelPath;
use layout::layout;
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
    let claims: Vec<Glob> = guesses.iter().flat_map(|guess| guess.claims()).collect();
    let owned = sample.paths.iter();
    let owned: BTreeSet<&RelPath> = owned
        .filter(|path| claims.iter().any(|glob| glob.matches(path.as_str())))
        .collect();
    let own = |path: &RelPath| owned.contains(path);
    let data: BTreeSet<String> = guesses.iter().filter_map(|it| it.data()).collect();
    let program = program::program(sample);
    let layout = layout(sample, &data, &own);
    let head = head(name, sample, program.as_ref());
    let mut sections = vec![Section::fixed(head + &layout)];
    sections.extend(program.map(|program| Section::guessed(program.written())));
    sections.push(Section {
        guessed: String::new(),
        plain: NOTHING_ALIKE.into(),
    });
    let mut order = witness::naming(sample, &ids, own);
    let mut each = order
        .as_ref()
        .and_then(|order| called::each(sample, &guesses, order));
    if order.is_none() {
        let named = called::names(sample, &guesses).into_iter();
        let by_name = named.filter_map(|(_, each, names)| {
            let names = names.iter().map(String::as_str).collect();
            Some((witness::naming(sample, &names, own)?, each))
        });
        (order, each) = by_name.max_by_key(|(order, _)| order.count).unzip();
    }
    let readers = guesses.iter().map(|it| it.written(order.is_some()));
    sections.extend(readers.map(Section::guessed));
    let in_lines = order.as_ref().and_then(rule::Rule::lines_of);
    let in_lines = in_lines.map(str::to_owned);
    sections.push(match order {
        Some(order) => Section::guessed(order.order(each.as_deref())),
        None => Section::fixed(
            "\n# Where the load order is written, if anywhere: [order], see: lantern docs family\n"
                .into(),
        ),
    });
    // What names the folders that they lie in, where these are not all called alike.
    for (each, items) in guesses.iter().filter_map(|guess| guess.items(sample)) {
        let items = items.iter().map(String::as_str).collect();
        let rule = witness::naming(sample, &items, own);
        let another =
            rule.filter(|rule| in_lines.is_none() || rule.lines_of() != in_lines.as_deref());
        let also = another.and_then(|rule| rule.also(&each));
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

fn head(name: &str, sample: &Sample, program: Option<&Program>) -> String {
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
         {build}",
        quoted(name),
        quoted(&format!("{name} server")),
        marks(sample),
    )
}

fn is_top(path: &RelPath) -> bool {
    path.folder().is_none()
}

fn launch(sample: &Sample) -> String {
    let scripts = sample.paths.iter().filter(|path| is_top(path));
    let scripts: Vec<&RelPath> = scripts
        .filter(|path| path.name().ends_with(".sh"))
        .collect();
    // One that another one names is a step of that.
    let is_step = |path: &RelPath| {
        let mut others = scripts.iter().filter(|other| ***other != *path);
        others.any(|other| {
            let text = sample.texts.get(other.as_str());
            text.is_some_and(|text| text.contains(path.name()))
        })
    };
    let whole = scripts.iter().find(|path| !is_step(path));
    let start = whole.or(scripts.first());
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
    let top = || sample.paths.iter().filter(|path| is_top(path));
    let telling = top().filter(|path| notation::of_name(path.as_str()).is_some());
    // Whatever is called start or run may be any server's.
    let is_common = |path: &RelPath| {
        let name = path.name().to_lowercase();
        ["start", "run", "launch"]
            .iter()
            .any(|word| name.starts_with(word))
    };
    let scripts = top().filter(|path| is_script_by_name(path.as_str()) && !is_common(path));
    let globs = telling
        .chain(scripts)
        .filter_map(|path| quoted_glob(path.as_str()));
    let mut names: Vec<String> = globs.take(2).collect();
    if names.is_empty() {
        names.push("\"TODO\"".into());
    }
    names.join(", ")
}

#[cfg(test)]
mod tests;
