//! `lantern client list` and `lantern client pack`: what clients must have.

use super::WhichArgs;
use crate::answers::{ClientPacked, Clients};
use crate::common::{Common, shell_word};
use crate::look::{Look, Means, bytes, count};
use crate::progress::during;
use lantern_core::clients::{ClientItem, ClientList, Duty};
use lantern_core::component::Id;
use lantern_host::Result;
use lantern_host::clients::{self, Listed};
use lantern_host::config::Server;
use std::path::Path;

/// Shows a list.
pub fn show(listed: &Listed, which: &WhichArgs, common: &Common, look: &Look) {
    let list = &listed.list;
    if look.json {
        look.answer(&Clients {
            client: list,
            unstated: &listed.unstated,
        });
        return;
    }
    look.say(&look.paint(Means::Title, &title(list)));
    let (wanted, unwanted): (Vec<&ClientItem>, Vec<&ClientItem>) = list
        .items
        .iter()
        .partition(|item| item.is != Duty::MustNotHave);
    if !wanted.is_empty() {
        look.say("");
        let all_must = wanted.iter().all(|item| item.is == Duty::MustHave);
        let rows = wanted
            .iter()
            .map(|item| row(item, brought_by(item, &wanted), all_must));
        let mut heads = vec!["id", "version", "where", "size", "blake3"];
        if !all_must {
            heads.insert(0, "");
        }
        look.table(&heads, rows.collect());
    }
    if !unwanted.is_empty() {
        look.say("\n  must not be there:");
    }
    for item in unwanted {
        let range = item
            .range
            .as_ref()
            .map_or(String::new(), |range| format!(" {range}"));
        look.say(&format!("    {}{range}   {}", item.id, item.why));
    }
    unknown(look, list);
    unstated(look, &listed.unstated);
    look.next(&common.next(&format!("client pack --out client.zip{}", which.words())));
}

fn title(list: &ClientList) -> String {
    let version = list.server_version.as_deref().unwrap_or("unknown");
    let who = match (&list.client, list.joins.as_deref()) {
        (Some(client), Some("unknown")) => {
            format!("a client of the kind {client} (which versions may join is unknown)")
        }
        (Some(client), Some(joins)) => format!("a client of the kind {client}, {joins},"),
        (Some(client), None) => format!("a client of the kind {client} (none may join)"),
        (None, _) => format!("a client of version {version}"),
    };
    let must = list
        .items
        .iter()
        .filter(|item| item.is == Duty::MustHave)
        .count();
    let what = match must {
        0 => "nothing".to_owned(),
        must => count(must, "component", "components"),
    };
    let end = if list.items.is_empty() { "." } else { ":" };
    let server = match list.client {
        Some(_) => format!("{}, server {version}", list.server),
        None => list.server.clone(),
    };
    format!("To join {server}, {who} must have {what}{end}")
}

/// What brings the files of an item that has none itself, as a pack does with its members.
fn brought_by<'i>(item: &ClientItem, all: &[&'i ClientItem]) -> Option<&'i Id> {
    let place = item.place.as_ref().filter(|_| item.files.is_empty())?;
    let brings = |other: &&&ClientItem| other.files.iter().any(|file| file.path.is_within(place));
    all.iter().find(brings).map(|other| &other.id)
}

fn row(item: &ClientItem, brought_by: Option<&Id>, all_must: bool) -> Vec<String> {
    let size = bytes(item.files.iter().map(|file| file.bytes).sum());
    let place = match (&item.place, item.files.len()) {
        (Some(place), _) => place.to_string(),
        (None, 0) => "-".into(),
        (None, files) => count(files, "file", "files"),
    };
    // Of several files no hash stands for all.
    let hash = match &item.files[..] {
        [] => "-".into(),
        [file] => file.blake3.chars().take(16).collect(),
        files => count(files.len(), "file", "files"),
    };
    let mut cells = vec![
        item.id.to_string(),
        item.version.clone().unwrap_or_else(|| "-".into()),
        place,
        brought_by.map_or(size, |by| format!("in {by}")),
        hash,
    ];
    if !all_must {
        let is = if item.is == Duty::MustHave {
            "must"
        } else {
            "may"
        };
        cells.insert(0, is.into());
    }
    cells
}

/// Packs a list with its files.
///
/// # Errors
/// When there is no earlier list to hold it against, a file cannot be read, or the archive cannot be written.
pub fn pack(
    server: &Server,
    which: &WhichArgs,
    out: &Path,
    since: Option<&str>,
    look: &Look,
) -> Result<()> {
    let listed = which.listed(server)?.with_family(server)?;
    let list = &listed.list;
    let earlier = since
        .map(|named| clients::earlier(server, named, listed.kind.as_ref()))
        .transpose()?;
    let changed = earlier.map(|earlier| list.since(&earlier));
    let packed = during("the pack is written", || {
        clients::write(server, &listed, changed.as_ref(), out)
    })?;
    if look.json {
        look.answer(&ClientPacked {
            client: list,
            out,
            bytes: packed.bytes,
            files: packed.files,
            delete: changed.as_ref().map(|changed| &changed.delete),
        });
        return Ok(());
    }
    let files = count(packed.files, "file", "files");
    let what = match &changed {
        None => {
            let wanted = list.items.iter().filter(|item| !item.files.is_empty());
            format!(
                "{}, {files}",
                count(wanted.count(), "component", "components")
            )
        }
        Some(changed) => format!(
            "{files} that changed since {}, {} to delete",
            since.unwrap_or_default(),
            changed.delete.len()
        ),
    };
    let text = format!("{}: {what}, {}.", shell_word(out), bytes(packed.bytes));
    look.say(&look.paint(Means::Title, &text));
    look.say(&format!(
        "  {} inside lists exactly what a client must have. Give it to the players.",
        clients::LIST
    ));
    if changed.is_some_and(|changed| !changed.delete.is_empty()) {
        look.say(&format!(
            "  {} inside lists what players have to delete.",
            clients::DELETE
        ));
    }
    unknown(look, list);
    Ok(())
}

/// Says which kinds of client lantern.toml names, and nothing else does.
pub fn unstated(look: &Look, kinds: &[String]) {
    if !kinds.is_empty() {
        let text = format!(
            "  lantern.toml names kinds of client that neither the family nor anything that runs states: {}",
            kinds.join(", ")
        );
        look.say(&look.paint(Means::Caution, &text));
    }
}

fn unknown(look: &Look, list: &ClientList) {
    if !list.unknown.is_empty() {
        let ids: Vec<&str> = list.unknown.iter().map(Id::as_str).collect();
        let text = format!(
            "  unknown whether clients need it, as nobody declared it: {}",
            ids.join(", ")
        );
        look.say(&look.paint(Means::Caution, &text));
    }
}
