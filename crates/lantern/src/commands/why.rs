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
use lantern_core::resolve::{Choice, Explanation, WhyNot, resolve, why_not};
use lantern_core::version::Version;
use lantern_host::Error;
use lantern_host::folder::own;
use lantern_host::planning::fault::PlanningFault;
use std::path::PathBuf;

/// Explain, for the last plan asked for, why a component is at its version, or not at another
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  lantern why sun-clock\n  lantern why --not sun-clock=2.1.0")]
pub struct WhyArgs {
    /// The component
    #[arg(required_unless_present = "not", add = ArgValueCandidates::new(candidates::ids))]
    id: Option<String>,
    /// Explain why a component is not at a version
    #[arg(long, value_name = "ID=VERSION", conflicts_with = "id", value_parser = id_and_version)]
    not: Option<(String, String)>,
    /// Explain a saved request instead of the last plan
    #[arg(long, value_name = "FILE")]
    request: Option<PathBuf>,
}

fn id_and_version(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((id, version)) if !id.is_empty() && !version.is_empty() => {
            Ok((id.into(), version.into()))
        }
        _ => Err("it is written ID=VERSION".into()),
    }
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
    let named = args.not.as_ref().map(|(id, _)| id);
    if let Some(id) = named.or(args.id.as_ref()) {
        let known = request.knows(&Id::new(id));
        known.map_err(|unknown| Error::Planning(PlanningFault::NoPart(unknown)))?;
    }
    let selection = resolve(&request).map_err(|obstacle| {
        Error::Planning(PlanningFault::Obstacle {
            told: obstacle.tell(&request),
            obstacle,
        })
    })?;
    if let Some((id, version)) = &args.not {
        let id = Id::new(id);
        let notation = match id == request.build {
            true => notations.server,
            false => notations.components,
        };
        let version = Version::parse(version, notation)?;
        let why = why_not(&request, &selection, &id, &version);
        if look.json {
            look.answer(&answers::WhyNotThat::new(&id, &version, &why));
        } else {
            look.say(&look.paint(Means::Title, &format!("Why not {id} {version}?")));
            look.say(&told(&why));
        }
        let possible = matches!(why, WhyNot::Chosen | WhyNot::Otherwise(_));
        return Ok(if possible { fail::DONE } else { fail::NO });
    }
    let id = Id::new(args.id.as_deref().unwrap_or_default());
    let answer = Explanation::of(&request, &selection, &id);
    if look.json {
        look.answer(&answers::Why::new(&id, &answer));
        return Ok(fail::DONE);
    }
    match &answer.choice {
        Some(choice) => {
            let text = format!("{id} is at {}: {}.", choice.to, reason_text(&choice.reason));
            look.say(&look.paint(Means::Title, &text));
        }
        None => look.say(&look.paint(
            Means::Title,
            &format!("{id} is not there: nothing needs it."),
        )),
    }
    for (other, range) in &answer.held_by {
        let range = if range == "*" {
            "in any version"
        } else {
            range
        };
        look.say(&format!("  {other} wants it {range}"));
    }
    for (version, why) in &answer.newer {
        look.say(&format!(
            "\n{}",
            look.paint(Means::Title, &format!("Why not {version}?"))
        ));
        look.say(&told(why));
    }
    Ok(fail::DONE)
}

fn told(why: &WhyNot) -> String {
    match why {
        WhyNot::Chosen => "  It is the one chosen.".into(),
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
            format!("  It fits, but is less good: then {}.", words.join(", "))
        }
    }
}

fn change(choice: &Choice) -> String {
    match &choice.from {
        Some(from) if *from == choice.to => format!("{} stays at {from}", choice.id),
        Some(from) => format!("{} moves from {from} to {}", choice.id, choice.to),
        None => format!("{} {} comes new", choice.id, choice.to),
    }
}
