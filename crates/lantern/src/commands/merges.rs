//! What becomes of files that both the administrator and a release have changed, as people read it.

use crate::common::Common;
use crate::look::{Look, Means};
use lantern_core::plan::{Asked, Decided, FileMerge};
use lantern_core::settings::Counts;

/// So many lines of each side of a question are shown.
const LINES: usize = 6;

/// Shows what becomes of each file, and what is asked.
pub fn show(merges: &[FileMerge], common: &Common, look: &Look) {
    if merges.is_empty() {
        return;
    }
    look.say("\n  changed by you, and coming with a release:");
    for merge in merges {
        look.say(&format!("    {}: {}", merge.path, counts(&merge.counts)));
        for asked in &merge.questions {
            question(merge, asked, common, look);
        }
    }
    let since: Vec<&str> = merges
        .iter()
        .filter(|merge| merge.since_adoption)
        .map(|merge| merge.path.name())
        .collect();
    if !since.is_empty() {
        look.say(&look.row("", 1, &format!(
            "of {}, yours is what changed since adoption: what you had changed before that, nobody knows",
            since.join(", ")
        )));
    }
}

/// Shows what became of each file in an operation of the history.
pub fn show_past(merges: &[FileMerge], look: &Look) {
    if merges.is_empty() {
        return;
    }
    look.say("\n  changed by you, and came with a release:");
    for merge in merges {
        look.say(&format!("    {}: {}", merge.path, counts(&merge.counts)));
        for asked in &merge.questions {
            let what = asked.key.as_deref().unwrap_or("lines");
            let became = asked
                .decided
                .as_ref()
                .map_or("yours stayed".to_owned(), decided);
            look.say(&format!("      {}  {what}: {became}", asked.id));
        }
    }
}

/// What was decided, in words.
fn decided(decided: &Decided) -> String {
    match decided {
        Decided::Mine => "decided: yours".into(),
        Decided::Theirs => "decided: as it is shipped".into(),
        Decided::Value(value) => format!("decided: {value}"),
        Decided::Edited => "decided: as you wrote it".into(),
    }
}

/// How many of each, in words.
fn counts(counts: &Counts) -> String {
    let Counts {
        places,
        kept,
        new,
        followed,
        gone,
        conflicts,
    } = *counts;
    let of = |n: usize, one: &str, many: &str| {
        (n > 0).then(|| format!("{n} {}", if n == 1 { one } else { many }))
    };
    let what = if places { "place" } else { "value" };
    let yours = (kept > 0).then(|| {
        let end = if kept == 1 { "" } else { "s" };
        format!("{kept} {what}{end} of yours kept")
    });
    let told = [
        yours,
        of(new, "new", "new"),
        of(followed, "follows the release", "follow the release"),
        of(gone, "gone", "gone"),
        of(conflicts, "conflict", "conflicts"),
    ];
    let told: Vec<String> = told.into_iter().flatten().collect();
    match told.is_empty() {
        true => "all is decided".into(),
        false => told.join(", "),
    }
}

fn question(merge: &FileMerge, asked: &Asked, common: &Common, look: &Look) {
    let decided = match &asked.decided {
        Some(made) => decided(made),
        None if asked.is_open() => "this has to be decided".to_owned(),
        None => "yours stays, unless you decide otherwise".to_owned(),
    };
    let at = match asked.lines {
        [Some(before), Some(mine), Some(now)] if before == mine && mine == now => {
            format!("line {now} in all three")
        }
        lines => {
            let places = ["shipped before", "yours", "shipped now"]
                .into_iter()
                .zip(lines);
            let lines = places.filter_map(|(what, line)| Some(format!("{what} line {}", line?)));
            lines.collect::<Vec<_>>().join(", ")
        }
    };
    let paint = |text: &str| match asked.decided {
        Some(_) => text.to_owned(),
        None => look.paint(Means::Caution, text),
    };
    let what = match (&asked.key, asked.whole) {
        (Some(key), _) => key.clone(),
        (None, true) => {
            "the whole file: put together, it would not be read as either is".to_owned()
        }
        (None, false) => format!("{}: the same lines", merge.path),
    };
    look.say(&paint(&format!(
        "      ? {}  {what} ({at}): {decided}",
        asked.id
    )));
    if asked.secret {
        look.say("          changed (a secret)");
    } else if asked.key.is_some() {
        let said = |value: &Option<String>| value.clone().unwrap_or_else(|| "–".into());
        look.say(&look.row(
            "",
            7,
            &format!(
                "shipped before {}; yours {}; shipped now {}",
                said(&asked.before),
                said(&asked.mine),
                said(&asked.theirs)
            ),
        ));
    } else {
        for (sign, text, means) in [
            ("-", &asked.mine, Means::Bad),
            ("+", &asked.theirs, Means::Good),
        ] {
            let lines: Vec<&str> = text.iter().flat_map(|text| text.lines()).collect();
            for line in lines.iter().take(LINES) {
                look.say(&look.paint(means, &format!("          {sign} {line}")));
            }
            if lines.len() > LINES {
                look.say(&format!("          {sign} … {} more", lines.len() - LINES));
            }
        }
    }
    if asked.decided.is_none() && !asked.is_open() {
        let command = common.next(&format!("settings decide {} theirs", asked.id));
        look.say(&format!("          {}", look.paint(Means::Paste, &command)));
    }
}
