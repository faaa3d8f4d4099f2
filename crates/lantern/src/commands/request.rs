//! `lantern plan --request`: a saved question, answered without its server.

use crate::answers;
use crate::fail;
use crate::look::{Look, Means, count, time};
use lantern_core::plan::reason_text;
use lantern_core::resolve::{Refutation, Request, Selection, refutation, resolve};
use lantern_core::version::Notations;
use lantern_host::place::here;
use lantern_host::planning::fault::PlanningFault;
use lantern_host::{Error, Result};
use std::io::{BufWriter, Write as _};
use std::path::Path;
use std::time::Instant;

/// Reads a saved request, and the notations that its versions are written in.
///
/// # Errors
/// When the file cannot be read or is no request.
pub fn read(path: &Path) -> Result<(Request, Notations)> {
    let text = here::read_text(path)?;
    Request::from_json(&text).map_err(|fault| {
        Error::Planning(PlanningFault::Request {
            path: path.into(),
            fault,
        })
    })
}

/// Answers a saved request: the selection, or what stands in the way, and the proof of that where one is wanted.
///
/// # Errors
/// As [`read`]; when the proof cannot be written, or would take the request's place.
pub fn answer(path: &Path, all_remedies: bool, proof: Option<&Path>, look: &Look) -> Result<u8> {
    if let Some(proof) =
        proof.filter(|to| here::real(to).is_some_and(|to| Some(to) == here::real(path)))
    {
        return Err(Error::Planning(PlanningFault::ProofOverRequest(
            proof.into(),
        )));
    }
    let begun = Instant::now();
    let (mut request, _) = read(path)?;
    request.policy.all_remedies |= all_remedies;
    let reading = begun.elapsed();
    let begun = Instant::now();
    let answer = resolve(&request);
    let solving = begun.elapsed();
    let begun = Instant::now();
    let told = answer
        .as_ref()
        .err()
        .map(|obstacle| obstacle.tell(&request));
    let telling = begun.elapsed();
    let proved = match (proof, &answer) {
        (Some(to), Err(_)) => write_proof(&request, to)?,
        _ => None,
    };
    let status = if answer.is_ok() { fail::DONE } else { fail::NO };
    if look.json {
        let ms =
            |duration: std::time::Duration| (duration.as_secs_f64() * 100_000.0).round() / 100.0;
        let selection = answer.as_ref().ok();
        let gone = selection.map(|it| it.gone.iter().map(|gone| gone.id.clone()).collect());
        look.answer(&answers::RequestAnswered {
            fits: answer.is_ok(),
            proved: selection.is_none_or(|selection| selection.proved),
            selection: selection.map(answers::chosen),
            gone,
            conflicts: answer.as_ref().err().map(|it| it.conflicts.len()),
            obstacle: told,
            proof_lines: proved,
            ms: answers::Milliseconds {
                reading: ms(reading),
                solving: ms(solving),
                telling: ms(telling),
            },
        });
        return Ok(status);
    }
    match (&answer, told) {
        (Ok(selection), _) => show(look, selection),
        (Err(_), told) => look.say(&told.unwrap_or_default()),
    }
    if let Some(to) = proof {
        look.say(&match proved {
            Some(lines) => format!(
                "\n  {} holds the proof that nothing fits: {} ('lantern docs proof' says how to check it)",
                to.display(),
                count(lines, "line", "lines")
            ),
            None if answer.is_ok() => {
                format!("\n  {} was not written: there is an answer", to.display())
            }
            None => format!(
                "\n  {} was not written: whether nothing fits was not found out",
                to.display()
            ),
        });
    }
    let took = time((solving + telling).as_millis() as u64);
    look.say(&look.paint(Means::Aside, &format!("\n  answered in {took}")));
    Ok(status)
}

/// Writes down why a request has no answer; tells how many lines that takes, or none where it was not found out.
fn write_proof(request: &Request, to: &Path) -> Result<Option<usize>> {
    let Refutation::Proved(lines) = refutation(request) else {
        return Ok(None);
    };
    here::write_whole(to, &mut |file| {
        let mut file = BufWriter::new(file);
        for line in &lines {
            serde_json::to_writer(&mut file, line)?;
            file.write_all(b"\n")?;
        }
        file.flush()
    })?;
    Ok(Some(lines.len()))
}

fn show(look: &Look, selection: &Selection) {
    let best = if selection.proved {
        "the best there is"
    } else {
        "the best found"
    };
    look.say(&look.paint(
        Means::Title,
        &format!(
            "{} fit together; this is {best}.",
            count(selection.choices.len(), "release", "releases")
        ),
    ));
    let moving = selection
        .choices
        .iter()
        .filter(|choice| choice.offer.is_some());
    let rows = moving.map(|choice| {
        let from = choice
            .from
            .as_ref()
            .map(ToString::to_string)
            .unwrap_or_default();
        vec![
            choice.kind.to_string(),
            choice.id.to_string(),
            from,
            choice.to.to_string(),
            reason_text(&choice.reason),
        ]
    });
    look.table(&["kind", "id", "from", "to", "why"], rows.collect());
    for gone in &selection.gone {
        look.say(&format!("  goes: {} {}", gone.id, gone.from));
    }
}
