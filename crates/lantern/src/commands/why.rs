//! `lantern why`

use super::{open_to_look, request};
use crate::answers;
use crate::candidates;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means};
use clap::Args;
use clap_complete::ArgValueCandidates;
use lantern_core::component::Id;
use lantern_core::plan::reason_text;
use lantern_core::resolve::{Choice, Explanation, Learned, Request, WhyNot, resolve, why_not};
use lantern_core::version::Version;
use lantern_host::Error;
use lantern_host::folder::own;
use lantern_host::planning::fault::PlanningFault;
use std::path::PathBuf;

/// Explain, for the last plan asked for, why a component is at its version, or not at another
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern why sun-clock\n  lantern why sun-clock --not 2.1.0")]
pub struct WhyArgs {
    /// The component
    #[arg(add = ArgValueCandidates::new(candidates::ids))]
    id: String,
    /// Explain why it is not at this version
    #[arg(long, value_name = "VERSION")]
    not: Option<String>,
    /// Explain a saved request instead of the last plan
    #[arg(long, value_name = "FILE")]
    request: Option<PathBuf>,
}

/// Explains a choice; the exit status is 3 when what was asked for cannot be.
pub fn run(args: &WhyArgs, common: &Common, look: &Look) -> lantern_host::Result<u8> {
    let path = match &args.request {
        Some(path) => path.clone(),
        None => {
            let server = open_to_look(common, look)?.server;
            let path = own("next.request.json");
            if !server.folder.has(&path)? {
                return Err(PlanningFault::NoRequest.into());
            }
            server.folder.shown(&path)
        }
    };
    let (request, notations) = request::read(&path)?;
    let id = Id::new(&args.id);
    let known = request.knows(&id, &[]);
    known.map_err(|unknown| Error::Planning(PlanningFault::NoPart(unknown)))?;
    let selection = resolve(&request).map_err(|obstacle| {
        Error::Planning(PlanningFault::Obstacle {
            told: obstacle.tell(&request),
            obstacle,
        })
    })?;
    if let Some(version) = &args.not {
        let notation = match id == request.build {
            true => notations.server,
            false => notations.components,
        };
        let version = Version::parse(version, notation)?;
        let why = why_not(&request, &selection, &id, &version);
        if look.json {
            let learned = learned(&request, &id, Some(&version));
            look.answer(&answers::WhyNotThat::new(&id, &version, &why, learned));
        } else {
            look.say(&look.paint(Means::Title, &format!("Why not {id} {version}?")));
            look.say(&told(&why));
            // Where it stands in the way by itself, that was told.
            if !matches!(why, WhyNot::Impossible(..)) {
                for seen in learned(&request, &id, Some(&version)) {
                    look.say(&format!("  {seen}"));
                }
            }
        }
        let possible = matches!(why, WhyNot::Chosen | WhyNot::Otherwise(_));
        return Ok(if possible { fail::DONE } else { fail::NO });
    }
    let answer = Explanation::of(&request, &selection, &id);
    if look.json {
        look.answer(&answers::Why::new(
            &id,
            &answer,
            learned(&request, &id, None),
        ));
        return Ok(fail::DONE);
    }
    match &answer.choice {
        Some(choice) => {
            let text = format!("{id} {}: {}.", choice.to, reason_text(&choice.reason));
            look.say(&look.paint(Means::Title, &text));
        }
        None => look.say(&look.paint(
            Means::Title,
            &format!("{id} is not installed: nothing needs it."),
        )),
    }
    for (other, range) in &answer.held_by {
        let range = if range == "*" {
            "in any version"
        } else {
            range
        };
        look.say(&format!("  {other} needs it {range}"));
    }
    for (version, why) in &answer.newer {
        look.say(&format!(
            "\n{}",
            look.paint(Means::Title, &format!("Why not {version}?"))
        ));
        look.say(&told(why));
    }
    for seen in learned(&request, &id, None) {
        look.say(&format!("  {seen}"));
    }
    Ok(fail::DONE)
}

/// What was seen of a component on this server, in one version or in any.
fn learned(request: &Request, id: &Id, version: Option<&Version>) -> Vec<String> {
    let is_it = |it: &&Learned| {
        let first = it.id == *id && version.is_none_or(|version| it.version == *version);
        let other =
            it.other.id == *id && version.is_none_or(|version| it.other.range.holds_early(version));
        first || other
    };
    let learned = request.learned.iter().filter(is_it);
    learned
        .map(|it| format!("{}.", it.told(&request.build)))
        .collect()
}

fn told(why: &WhyNot) -> String {
    match why {
        WhyNot::Chosen => "  It is the version that was chosen.".into(),
        WhyNot::Unknown(known) if known.is_empty() => {
            "  No catalogue or drop folder has it, in any version.".into()
        }
        WhyNot::Unknown(known) => {
            let known: Vec<&str> = known.iter().map(Version::as_str).collect();
            format!(
                "  There is no such release. Known releases: {}.",
                known.join(", ")
            )
        }
        WhyNot::Impossible(_, told) => told.clone(),
        WhyNot::Otherwise(choices) => {
            let words: Vec<String> = choices.iter().map(change).collect();
            format!(
                "  It would fit, but the answer is worse: then {}.",
                words.join(", ")
            )
        }
    }
}

fn change(choice: &Choice) -> String {
    match &choice.from {
        Some(from) if *from == choice.to => format!("{} stays at {from}", choice.id),
        Some(from) => format!("{} goes from {from} to {}", choice.id, choice.to),
        None => format!("{} {} is added", choice.id, choice.to),
    }
}
