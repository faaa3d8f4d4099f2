//! Settings of the place against samples that releases ship.

use super::decisions;
use super::fault::PlanningFault;
use super::one_text::{changing, unsettable};
use crate::armed;
use crate::config::Server;
use crate::downloads::Downloads;
use crate::error::{Error, Result};
use crate::history;
use crate::ledger::Ledger;
use crate::place::here;
use crate::shipped;
use crate::survey::{Depth, Survey, survey};
use lantern_core::path::RelPath;
use lantern_core::plan::{Plan, SampleSeen};
use lantern_core::settings::{self, Answers, Compared, Key, Manner, Notation, Standing, Three};
use lantern_core::text::Text;
use std::path::Path;

/// A settings file compared with a sample.
#[derive(Debug)]
pub struct Comparison {
    /// The file.
    pub path: RelPath,
    /// The sample, as it was named or is stated.
    pub sample: String,
    /// Where its state before comes from, in words; none where nobody knows it.
    pub before: Option<String>,
    /// Where its state now comes from, in words.
    pub now: String,
    /// Value by value.
    pub values: Vec<Compared>,
    mine: Text,
    sample_text: Text,
    manner: Manner,
    notation: Notation,
}

/// A text with where it comes from, in words.
type Found = (Text, String);

/// The settings files for which the family states a sample that is there.
pub(super) fn stated(server: &Server, survey: &Survey) -> Result<Vec<SampleSeen>> {
    let mut seen = Vec::new();
    for rule in server
        .family
        .settings
        .iter()
        .filter(|rule| !rule.sample.0.is_empty())
    {
        let of = |globs: &lantern_core::family::Globs| {
            let files = survey.files.iter().map(|file| &file.path);
            files
                .filter(|path| globs.matches(path.as_str()))
                .cloned()
                .collect::<Vec<RelPath>>()
        };
        for (file, sample) in of(&rule.file).iter().flat_map(|file| {
            of(&rule.sample)
                .into_iter()
                .map(move |sample| (file.clone(), sample))
        }) {
            seen.push(SampleSeen {
                mine: server.folder.read_text(&file)?,
                before: server.folder.read_text(&sample)?,
                file,
                sample,
            });
        }
    }
    Ok(seen)
}

/// Compares a settings file with a sample: one in the server folder or elsewhere; else the one that the family states; else
/// with what the file's own release ships.
///
/// Where the armed plan brings another state of it, that is what it says now, and what lies there is what it said before.
///
/// # Errors
/// When a file is missing or cannot be read in its notation, or it is not said which of several samples is meant.
pub fn comparison(
    server: &Server,
    ledger: &mut Ledger,
    path: &RelPath,
    sample: Option<&str>,
) -> Result<Comparison> {
    let manner = server.family.manner(path);
    let notation = manner.notation.clone();
    let notation = notation.ok_or_else(|| unsettable(path, "nothing tells its notation"))?;
    if !server.folder.has(path)? {
        return Err(Error::NoFile(path.clone()));
    }
    let survey = survey(server, ledger, Depth::Usual)?;
    let plan = armed_plan(server)?;
    let sample = match sample {
        Some(named) => named.to_owned(),
        None => stated_sample(server, &survey, path)?.to_string(),
    };
    let mine = server.folder.read_text(path)?;
    let own = RelPath::parse(&sample).ok();
    let own = own.filter(|path| server.folder.has(path).is_ok_and(|there| there));
    let (before, now) = match &own {
        Some(own) => states(server, ledger, &survey, plan.as_ref(), path, own)?,
        None => {
            let bytes = here::read(Path::new(&sample))?;
            (None, (Text::read(&bytes), "as it is there".to_owned()))
        }
    };
    let values = settings::compare(
        &manner,
        &notation,
        mine.as_str(),
        before.as_ref().map(|(text, _)| text.as_str()),
        now.0.as_str(),
    );
    Ok(Comparison {
        values: values.map_err(|fault| unsettable(path, fault))?,
        path: path.clone(),
        sample,
        before: before.map(|(_, from)| from),
        now: now.1,
        mine,
        sample_text: now.0,
        manner,
        notation,
    })
}

/// The plan that is armed, where one is.
pub(super) fn armed_plan(server: &Server) -> Result<Option<Plan>> {
    let is_armed = |it: &armed::Armed| it.became == armed::Became::Armed;
    if armed::read(server)?.filter(is_armed).is_none() {
        return Ok(None);
    }
    let Some(text) = server.folder.read_if_there(&armed::plan_file())? else {
        return Ok(None);
    };
    let text = String::from_utf8_lossy(&text);
    Ok(Plan::parse(&text).ok())
}

/// The sample that the family states for a file; else the file itself, where a release ships it.
fn stated_sample(server: &Server, survey: &Survey, path: &RelPath) -> Result<RelPath> {
    let mut samples = stated(server, survey)?;
    samples.retain(|seen| seen.file == *path);
    match &samples[..] {
        [one] => Ok(one.sample.clone()),
        [] if survey
            .remembered
            .get(path)
            .is_some_and(|known| known.owner.is_some()) =>
        {
            Ok(path.clone())
        }
        [] => Err(Error::Planning(PlanningFault::NoSample(path.clone()))),
        several => Err(Error::Planning(PlanningFault::WhichSample {
            path: path.clone(),
            samples: several.iter().map(|seen| seen.sample.clone()).collect(),
        })),
    }
}

/// What a sample in the server folder said before, and says now.
fn states(
    server: &Server,
    ledger: &Ledger,
    survey: &Survey,
    plan: Option<&Plan>,
    path: &RelPath,
    sample: &RelPath,
) -> Result<(Option<Found>, Found)> {
    let coming = match plan {
        Some(plan) => coming(plan, sample, &Downloads::new(ledger))?,
        None => None,
    };
    let coming = coming.map(|text| (text, "as the armed plan brings it".to_owned()));
    if sample == path {
        // What its release shipped; nobody compares with what he has himself.
        let known = survey.remembered.get(path);
        let from = match known.is_some_and(|known| known.shipped) {
            true => "as it was shipped",
            false => "as it was found at adoption",
        };
        let shipped = shipped::text_at(ledger, &survey.remembered, path)?;
        let shipped = shipped.map(|text| (text, from.to_owned()));
        return match (shipped, coming) {
            (before, Some(now)) => Ok((before, now)),
            (Some(now), None) => Ok((None, now)),
            (None, None) => Err(Error::Planning(PlanningFault::NoSample(path.clone()))),
        };
    }
    let there = server.folder.read_text(sample)?;
    match coming.filter(|(text, _)| *text != there) {
        Some(now) => Ok((Some((there, "as it is now".into())), now)),
        None => Ok((
            earlier(server, ledger, sample, &there)?,
            (there, "as it is now".into()),
        )),
    }
}

/// What a file said before the last operation that changed it, as long as that is set aside.
fn earlier(server: &Server, ledger: &Ledger, path: &RelPath, now: &Text) -> Result<Option<Found>> {
    for past in history::history(server, ledger)?.into_iter().rev() {
        for folder in &past.aside {
            let file = folder.join(path.as_str())?;
            if !server.folder.has(&file)? {
                continue;
            }
            let text = server.folder.read_text(&file)?;
            if text != *now {
                let from = format!("as before number {}", past.operation.number);
                return Ok(Some((text, from)));
            }
        }
    }
    Ok(None)
}

/// The text that a plan brings to a path, where it comes out of an archive.
pub(super) fn coming(
    plan: &Plan,
    path: &RelPath,
    downloads: &Downloads<'_>,
) -> Result<Option<Text>> {
    let action = plan.actions.iter().find(|action| action.path == *path);
    let Some(source) = action.and_then(|action| action.source.as_ref()) else {
        return Ok(None);
    };
    let file = Path::new(&plan.archives[source.archive].file);
    let Some(entry) = &source.entry else {
        return Ok(Some(Text::read(&here::read(file)?)));
    };
    let artifact = downloads.artifact(file)?;
    let Ok(entry) = RelPath::parse(entry) else {
        return Ok(None);
    };
    let fault = |fault| Error::Archive {
        path: file.into(),
        fault,
    };
    let mut archive = downloads.archive(&artifact)?;
    let mut files = archive
        .small_files(&[entry.clone()].into())
        .map_err(fault)?;
    Ok(files.remove(&entry).map(|bytes| Text::read(&bytes)))
}

/// Which values of a sample are taken.
#[derive(Debug)]
pub enum Taken {
    /// These.
    Keys(Vec<Key>),
    /// All in which it differs.
    All,
    /// New ones, and those that were never changed here.
    Untouched,
}

/// Draws a plan that takes values from a sample into a settings file, and does nothing else.
///
/// # Errors
/// As [`comparison`]; when no plan writes the file, or a value cannot be set.
pub fn take(
    server: &Server,
    ledger: &mut Ledger,
    path: &RelPath,
    sample: Option<&str>,
    taken: Taken,
) -> Result<Plan> {
    let compared = comparison(server, ledger, path, sample)?;
    let those = |is: &dyn Fn(&Compared) -> bool| {
        let values = compared.values.iter().filter(|it| is(it));
        values.map(|it| it.key.clone()).collect::<Vec<Key>>()
    };
    let keys = match taken {
        Taken::Keys(keys) => keys,
        // What is mine alone, the sample says nothing of; and secrets are nobody's default.
        Taken::All => {
            those(&|it| !it.is_secret && !matches!(it.standing, Standing::Same | Standing::Own))
        }
        Taken::Untouched => those(&|it| {
            matches!(
                it.standing,
                Standing::New | Standing::Changed | Standing::Gone
            ) && !(it.is_secret && it.standing != Standing::New)
        }),
    };
    if let Some(secret) = keys.iter().find(|key| {
        compared.manner.is_secret(key)
            && compared
                .values
                .iter()
                .any(|it| it.key == **key && it.standing != Standing::New)
    }) {
        return Err(unsettable(
            path,
            format!("{secret} is a secret by its name, and yours stays: change it in an editor"),
        ));
    }
    let new = settings::take(
        &compared.notation,
        compared.mine.as_str(),
        compared.sample_text.as_str(),
        &keys,
    );
    let new = new.map_err(|fault| unsettable(path, fault))?;
    changing(server, ledger, path, &compared.mine, &compared.manner, new)
}

/// A text that both the administrator and a release have changed, to be written by hand.
#[derive(Debug)]
pub struct ToWrite {
    /// The question that the whole text is.
    pub id: String,
    /// As the administrator has it; what is written has its encoding.
    pub mine: Text,
    /// What comes of both, with the usual marks around what is not decided.
    pub marked: String,
    /// How many places are marked.
    pub places: usize,
}

/// What the armed plan makes of a file that was edited by hand, with marks where something is undecided.
///
/// # Errors
/// When no plan is armed, it brings nothing to that file, or what it was shipped as is not known.
pub fn to_write(server: &Server, ledger: &mut Ledger, path: &RelPath) -> Result<ToWrite> {
    let survey = survey(server, ledger, Depth::Usual)?;
    let none = |why: &'static str| {
        Error::Planning(PlanningFault::NothingToWrite {
            path: path.clone(),
            why,
        })
    };
    let plan = armed_plan(server)?.ok_or_else(|| none("no plan is armed"))?;
    let now = coming(&plan, path, &Downloads::new(ledger))?;
    let now = now.ok_or_else(|| none("the armed plan brings nothing there"))?;
    let before = shipped::text_at(ledger, &survey.remembered, path)?;
    let before = before.ok_or_else(|| none("what was shipped there is not known"))?;
    let mine = server.folder.read_text(path)?;
    let three = Three {
        before: &before,
        mine: &mine,
        now: &now,
    };
    let manner = server.family.manner(path);
    let mut known = decisions::answers(server)?;
    let id = settings::whole_id(path.as_str(), &mine, &now);
    known.remove(&id);
    let with = |otherwise| {
        let answers = Answers {
            known: &known,
            otherwise: Some(otherwise),
        };
        settings::merge(path.as_str(), &manner, three, answers).text
    };
    let (ours, theirs) = (
        with(&settings::Answer::Mine),
        with(&settings::Answer::Theirs),
    );
    let (marked, places) = lantern_core::text::marked(ours.as_str(), theirs.as_str());
    Ok(ToWrite {
        id,
        mine,
        marked,
        places,
    })
}
