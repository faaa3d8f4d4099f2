//! `lantern settings keep`, `kept`, `unkeep`, `export`, `import`

use crate::answers;
use crate::commands::{open_settled, open_to_look, plan};
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count};
use crate::paper;
use lantern_core::path::RelPath;
use lantern_host::Result;
use lantern_host::config::Server;
use lantern_host::ledger::Ledger;
use lantern_host::place::here;
use lantern_host::planning::{self, Kept, Stands};
use std::path::Path;

/// How a patch stands to its file, in a few words.
fn word(stands: Stands) -> String {
    match stands {
        Stands::In => "in it".into(),
        Stands::Out => "fits, and is not in it".into(),
        Stands::Misfit { line } => format!("does not fit, from line {line} on"),
        Stands::NoFile => "there is no such file".into(),
    }
}

fn answer(server: &Server, kept: &Kept) -> Result<answers::PatchKept> {
    let patch = &kept.patch;
    Ok(answers::PatchKept {
        name: kept.name.clone(),
        path: patch.path.clone(),
        component: patch.component.clone(),
        changes: patch.hunks.len(),
        stands: word(planning::stands(server, patch)?),
        text: patch.to_text(),
    })
}

/// Keeps what was changed by hand in a file under a name.
pub fn keep(file: &str, name: &str, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "settings keep")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let kept = planning::keep(&server, &mut ledger, &RelPath::parse(file)?, name)?;
    if look.json {
        look.answer(&answers::PatchesKept {
            patches: vec![answer(&server, &kept)?],
        });
        return Ok(fail::DONE);
    }
    let many = count(kept.patch.hunks.len(), "change", "changes");
    look.say(&format!(
        "{name}: {many} of {} kept. It is laid again over each new release of that file.",
        kept.patch.path
    ));
    Ok(fail::DONE)
}

/// Lists the patches that are kept, or shows one.
pub fn kept(name: Option<&str>, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let status = looked.status(fail::DONE);
    let all = match name {
        Some(name) => vec![planning::kept_as(server, name)?],
        None => planning::kept(server)?,
    };
    if look.json {
        let patches = all.iter().map(|kept| answer(server, kept));
        look.answer(&answers::PatchesKept {
            patches: patches.collect::<Result<_>>()?,
        });
        return Ok(status);
    }
    if let (Some(_), [one]) = (name, &all[..]) {
        let stands = word(planning::stands(server, &one.patch)?);
        look.say(&look.paint(
            Means::Title,
            &format!("{} of {}: {stands}", one.name, one.patch.path),
        ));
        for line in one.patch.to_text().lines() {
            let means = match line.as_bytes().first() {
                Some(b'-') => Means::Bad,
                Some(b'+') => Means::Good,
                _ => Means::Aside,
            };
            look.say(&look.paint(means, line));
        }
        return Ok(status);
    }
    let many = count(all.len(), "patch", "patches");
    look.say(&look.paint(Means::Title, &format!("{many} kept.")));
    if all.is_empty() {
        return Ok(status);
    }
    look.say("");
    let rows = all.iter().map(|kept| {
        let patch = &kept.patch;
        let of = patch
            .component
            .as_ref()
            .map_or(String::new(), ToString::to_string);
        let stands = word(planning::stands(server, patch)?);
        Ok(vec![
            kept.name.clone(),
            patch.path.to_string(),
            of,
            patch.hunks.len().to_string(),
            stands,
        ])
    });
    let rows = rows.collect::<Result<Vec<Vec<String>>>>()?;
    look.table(&["name", "file", "of", "changes", "stands"], rows);
    Ok(status)
}

/// Keeps a patch no more.
pub fn unkeep(name: &str, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "settings unkeep")?;
    let gone = planning::drop_patch(&server, name)?;
    if look.json {
        let patches = planning::kept(&server)?;
        let patches = patches.iter().map(|kept| answer(&server, kept));
        look.answer(&answers::PatchesKept {
            patches: patches.collect::<Result<_>>()?,
        });
        return Ok(fail::DONE);
    }
    look.say(&format!(
        "{name} is kept no more. {} stays as it is; what is in it is an edit like any other.",
        gone.patch.path
    ));
    Ok(fail::DONE)
}

/// Writes a patch out as a unified diff.
pub fn export(name: &str, out: Option<&Path>, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let kept = planning::kept_as(&looked.server, name)?;
    let text = kept.patch.to_text();
    match out {
        Some(out) => {
            paper::write(out, &text, common)?;
            look.say(&format!(
                "{}: {name} of {}.",
                out.display(),
                kept.patch.path
            ));
        }
        None => text.lines().for_each(|line| look.say(line)),
    }
    Ok(looked.status(fail::DONE))
}

/// Takes a patch that somebody else has made, and plans to lay it where it fits.
pub fn import(file: &Path, name: Option<&str>, common: &Common, look: &Look) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "settings import")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let text = here::read_text(file)?;
    let stem = file
        .file_stem()
        .map(|stem| stem.to_string_lossy().into_owned());
    let name = name.map(str::to_owned).or(stem).unwrap_or_default();
    let kept = planning::import(&server, &text, &name)?;
    let path = &kept.patch.path;
    match planning::stands(&server, &kept.patch)? {
        Stands::Out => {
            look.talk(&format!("{name} is kept, and fits {path}."));
            let drawn = planning::lay(&server, &mut ledger, &kept)?;
            plan::arm_and_show(
                drawn,
                &format!("{path} has it already."),
                &server,
                common,
                look,
            )
        }
        other => {
            if look.json {
                look.answer(&answers::PatchesKept {
                    patches: vec![answer(&server, &kept)?],
                });
            } else {
                look.say(&format!("{name} is kept: {path}: {}.", word(other)));
            }
            Ok(match other {
                Stands::In => fail::DONE,
                _ => fail::NO,
            })
        }
    }
}
