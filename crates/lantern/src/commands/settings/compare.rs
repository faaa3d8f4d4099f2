//! `lantern settings compare`, `take`

use crate::answers;
use crate::commands::{open_settled, open_to_look, plan};
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means, count};
use lantern_core::path::RelPath;
use lantern_core::settings::{Compared, Key, Standing};
use lantern_host::Result;
use lantern_host::ledger::Ledger;
use lantern_host::planning::{self, Comparison, Taken};

/// How a value stands, in a few words.
fn word(standing: Standing) -> &'static str {
    match standing {
        Standing::Same => "same",
        Standing::Yours => "yours",
        Standing::Changed => "changed there",
        Standing::Both => "changed by both",
        Standing::New => "new there",
        Standing::Own => "only yours",
        Standing::Gone => "gone there",
        Standing::Differs => "differs",
    }
}

pub fn run(
    file: &str,
    sample: Option<&str>,
    all: bool,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let mut ledger = Ledger::open(&looked.server.folder)?;
    let path = RelPath::parse(file)?;
    let compared = planning::comparison(&looked.server, &mut ledger, &path, sample)?;
    let differs = compared
        .values
        .iter()
        .any(|it| it.standing != Standing::Same);
    let status = looked.status(if differs { fail::NO } else { fail::DONE });
    if look.json {
        let values = compared.values.iter().map(|it| answers::ValueCompared {
            key: it.key.to_string(),
            secret: it.is_secret,
            mine: it.mine.clone(),
            before: it.before.clone(),
            now: it.now.clone(),
            standing: word(it.standing),
        });
        look.answer(&answers::SettingsCompared {
            path,
            sample: compared.sample.clone(),
            before: compared.before.clone(),
            now: compared.now.clone(),
            values: values.collect(),
        });
        return Ok(status);
    }
    show(&compared, all, common, look);
    Ok(status)
}

fn show(compared: &Comparison, all: bool, common: &Common, look: &Look) {
    let Comparison {
        path,
        sample,
        values,
        ..
    } = compared;
    let of = |standing| values.iter().filter(|it| it.standing == standing).count();
    let counts = [
        Standing::Yours,
        Standing::Changed,
        Standing::Both,
        Standing::New,
        Standing::Own,
        Standing::Gone,
        Standing::Differs,
        Standing::Same,
    ];
    let counts = counts.into_iter().filter(|standing| of(*standing) > 0);
    let counts: Vec<String> = counts
        .map(|it| format!("{} {}", of(it), word(it)))
        .collect();
    let is_own = *sample == path.as_str();
    let with = match is_own {
        true => "what its release ships",
        false => sample,
    };
    let many = count(values.len(), "value", "values");
    let title = format!("{path} and {with}: {many}: {}.", counts.join(", "));
    look.say(&look.paint(Means::Title, &title));
    let before = compared.before.as_deref();
    look.say(&look.row(
        "before:",
        7,
        before.unwrap_or("not known, so only two are compared"),
    ));
    look.say(&look.row("now:", 7, &compared.now));
    let rows = values
        .iter()
        .filter(|it| all || it.standing != Standing::Same);
    let said = |it: &Compared, value: &Option<String>| match (it.is_secret, value) {
        (true, _) => "(a secret)".to_owned(),
        (false, None) => "–".to_owned(),
        (false, Some(value)) => short(value, if look.is_narrow() { 14 } else { 40 }),
    };
    let rows: Vec<Vec<String>> = rows
        .map(|it| {
            let mut row = vec![
                word(it.standing).to_owned(),
                it.key.to_string(),
                said(it, &it.mine),
            ];
            if before.is_some() {
                row.push(said(it, &it.before));
            }
            row.push(said(it, &it.now));
            row
        })
        .collect();
    if rows.is_empty() {
        return;
    }
    look.say("");
    let heads: &[&str] = match before {
        Some(_) if is_own => &["", "key", "yours", "shipped before", "shipped now"],
        Some(_) => &["", "key", "yours", "sample before", "sample now"],
        None if is_own => &["", "key", "yours", "shipped"],
        None => &["", "key", "yours", "sample now"],
    };
    look.table(heads, rows);
    let is_taken = |it: &Compared| {
        matches!(
            it.standing,
            Standing::New | Standing::Changed | Standing::Gone
        )
    };
    if !is_own && values.iter().any(is_taken) {
        look.next(&common.next(&format!("settings take {path} --untouched --from {sample}")));
    }
}

/// A value in one line, and not longer than so many characters.
fn short(value: &str, most: usize) -> String {
    let line = value.split_whitespace().collect::<Vec<_>>().join(" ");
    match line.chars().count() {
        length if length <= most => line,
        _ => line.chars().take(most - 1).chain(['…']).collect(),
    }
}

/// Which values are taken.
pub struct Which<'a> {
    pub keys: &'a [String],
    pub all: bool,
    pub untouched: bool,
}

pub fn take(
    file: &str,
    from: Option<&str>,
    which: Which<'_>,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let (server, _lock) = open_settled(common, look, "settings take")?;
    let mut ledger = Ledger::open(&server.folder)?;
    let path = RelPath::parse(file)?;
    let taken = match which {
        Which { all: true, .. } => Taken::All,
        Which {
            untouched: true, ..
        } => Taken::Untouched,
        Which { keys, .. } => Taken::Keys(keys.iter().map(|key| Key::of(key)).collect()),
    };
    let drawn = planning::take(&server, &mut ledger, &path, from, taken)?;
    let nothing = format!("{path} says all of that already.");
    plan::arm_and_show(drawn, &nothing, &server, common, look)
}
