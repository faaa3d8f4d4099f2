//! `lantern client who`: which players may join.

use super::list;
use crate::answers::{Joining, WhoMayJoin};
use crate::commands::armed::choose;
use crate::common::Common;
use crate::look::{Look, Means};
use lantern_core::clients::{ClientChange, MayJoin};
use lantern_core::inventory::Inventory;
use lantern_host::Result;
use lantern_host::clients::unstated;
use lantern_host::config::Server;
use lantern_host::planning::may_join;

/// Tells who may join the server as it is.
pub fn now(server: &Server, inventory: &Inventory, common: &Common, look: &Look) {
    let who = may_join(server, inventory, None, &[]);
    let unstated = unstated(server, who.iter().map(|it| it.client.as_str()));
    if look.json {
        let kinds = who.iter().map(Joining::of).collect();
        look.answer(&WhoMayJoin {
            plan: None,
            kinds,
            unstated,
        });
        return;
    }
    let name = &server.config.name;
    if who.is_empty() {
        look.say(&format!(
            "{name}: neither the family nor anything installed says which clients may join."
        ));
        return;
    }
    let version = inventory.server_version();
    let version = version.map_or("version unknown".to_owned(), ToString::to_string);
    look.say(&look.paint(
        Means::Title,
        &format!("Who may join {name}, server {version}:"),
    ));
    look.say("");
    let rows = who.iter().map(|kind| {
        vec![
            called(&kind.client, kind.title.as_deref()),
            words(look, kind.words()),
            because(kind),
        ]
    });
    look.table(&["client", "versions", "because of"], rows.collect());
    list::unstated(look, &unstated);
    look.next(&common.next("client list"));
}

/// Tells who may join now, and who may once a plan has been carried out.
///
/// # Errors
/// When there is no such plan, or it cannot be read.
pub fn planned(named: Option<&str>, server: &Server, look: &Look) -> Result<()> {
    let chosen = choose(named, false, server)?;
    let (plan, name) = (&chosen.plan, lantern_host::armed::name_of(&chosen.text));
    if look.json {
        let kinds = plan.clients.iter().map(Joining::changing).collect();
        let known = plan.clients.iter().map(|it| it.client.as_str());
        look.answer(&WhoMayJoin {
            plan: Some(name),
            kinds,
            unstated: unstated(server, known),
        });
        return Ok(());
    }
    if plan.clients.is_empty() {
        look.say(&format!("Plan {name} says nothing of clients: neither the family nor any release in it names a kind."));
        return Ok(());
    }
    let title = format!("Who may join {}, now and with plan {name}:", plan.server);
    look.say(&look.paint(Means::Title, &title));
    look.say("");
    let rows = plan.clients.iter().map(|change| {
        vec![
            called(&change.client, change.title.as_deref()),
            words(look, change.before.clone()),
            words(look, change.after.clone()),
            match change.by.is_empty() {
                true => "-".into(),
                false => change.by.join(", "),
            },
        ]
    });
    look.table(
        &["client", "now", "afterwards", "because of"],
        rows.collect(),
    );
    if plan.clients.iter().any(ClientChange::is_change) {
        look.say("");
        tell_changes(&plan.clients, look);
    }
    Ok(())
}

/// What players have to do, a line for each kind of client for which anything becomes different.
pub fn tell_changes(changes: &[ClientChange], look: &Look) {
    for line in changes.iter().filter_map(ClientChange::sentence) {
        look.say(&format!("    {line}"));
    }
}

fn called(client: &str, title: Option<&str>) -> String {
    match title {
        Some(title) if title != client => format!("{client} ({title})"),
        _ => client.to_owned(),
    }
}

fn words(look: &Look, words: Option<String>) -> String {
    match words.as_deref() {
        None => look.paint(Means::Bad, "none"),
        Some("unknown") => look.paint(Means::Aside, "unknown"),
        Some(words) => words.to_owned(),
    }
}

fn because(kind: &MayJoin) -> String {
    match &kind.entrances {
        None => "nobody declared it".into(),
        Some(entrances) if entrances.is_empty() => "nothing that runs lets it in".into(),
        Some(_) => kind.because_of().join(", "),
    }
}
