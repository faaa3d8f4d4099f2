//! `lantern group verify`

use super::changeover::{same_of, show_same};
use super::{goes_on, not_seen, shown, status_of};
use crate::answers::group::GroupVerified;
use crate::common::shell_word;
use crate::look::{Look, Means, count};
use crate::progress::during;
use lantern_host::Result;
use lantern_host::group::{Found, OneVerified};
use std::path::Path;

/// Looks at each running server; the exit status is 3 where one is not as it should be, or what they share is not the same.
pub fn run(file: &Path, look: &Look) -> Result<u8> {
    let found = Found::read(file)?;
    let seen = during("servers are looked at", || found.verified());
    let carries = seen.iter().map(|it| it.as_ref().ok());
    let carries: Vec<_> = carries.map(|it| Some(it?.carries.clone())).collect();
    let same = same_of(&found, &carries);
    let is_right = |it: &Result<OneVerified>| {
        let it = it.as_ref().ok();
        it.is_some_and(|it| it.seen_right == Some(true))
    };
    let right = seen.iter().filter(|it| is_right(it)).count();
    let is_wrong = right < seen.len() || !same.differs.is_empty();
    let meanwhile = seen.iter().flatten().map(|it| &it.meanwhile);
    let status = status_of(meanwhile, is_wrong);
    if look.json {
        look.answer(&GroupVerified::new(&found, &seen, same));
        return Ok(status);
    }
    let title = format!(
        "{}: {right} of {} up, and as they should be.",
        found.group.name,
        count(seen.len(), "server", "servers")
    );
    look.say(&look.paint(Means::Title, &title));
    look.say("");
    let table = found.group.servers.iter().zip(&seen);
    let table = table.map(|(one, seen)| match seen {
        Ok(it) => vec![
            one.called().to_owned(),
            now(it, look),
            goes_on(&it.meanwhile, look),
        ],
        Err(error) => not_seen(one.called(), error, 2, look),
    });
    shown(&["server", "now", "state"], table.collect(), look);
    look.say("");
    show_same(&same, look);
    let first = seen.iter().position(|it| !is_right(it));
    look.next(&match first {
        Some(index) => found.members[index].paste("verify", shell_word)?,
        None => format!("lantern group survey {}", shell_word(file)),
    });
    Ok(status)
}

/// What a look at a server has found, in a few words.
fn now(it: &OneVerified, look: &Look) -> String {
    match (it.seen_right, &it.problems[..]) {
        (Some(true), _) => look.paint(Means::Good, "as it should be"),
        (None, [why, ..]) => look.paint(Means::Caution, why),
        (_, [why]) => look.paint(Means::Bad, why),
        (_, [why, more @ ..]) => look.paint(Means::Bad, &format!("{why}; {} more", more.len())),
        (_, []) => look.paint(Means::Bad, "not as it should be"),
    }
}
