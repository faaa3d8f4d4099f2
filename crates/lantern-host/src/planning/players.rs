//! Which players may join, as it is and as a plan leaves it.

use super::Terms;
use crate::config::Server;
use crate::error::{Error, Result};
use crate::planning::fault::PlanningFault;
use lantern_core::clients::{ClientChange, ClientList, MayJoin, compared, list, who_may_join};
use lantern_core::component::{ClientVersion, Id, Kind, players_with};
use lantern_core::facts::{Facts, stated_notation};
use lantern_core::family::ClientKind;
use lantern_core::hint::nearest;
use lantern_core::inventory::Inventory;
use lantern_core::offer::Offer;
use lantern_core::plan::Plan;
use lantern_core::resolve::{Request, Target};
use lantern_core::version::Version;
use std::collections::BTreeSet;
use std::sync::Arc;

/// Who may join the server as an inventory has it; `version` is that of a build outside the folder, where it is another one than
/// was stated. `known` are releases on offer: they tell of further kinds of client.
pub fn may_join(
    server: &Server,
    inventory: &Inventory,
    version: Option<&Version>,
    known: &[Offer],
) -> Vec<MayJoin> {
    let family = &server.family;
    let outside = version.map(|version| {
        let id = Id::new(&family.build.id);
        Facts::new(id, Kind::Build, version.clone())
    });
    let runs = inventory.components.iter().filter(|it| !it.runs.is_off());
    let runs = runs.map(|it| &it.facts);
    let inside = runs.filter(|facts| outside.is_none() || facts.kind != Kind::Build);
    let running: Vec<&Facts> = inside.chain(&outside).collect();
    who_may_join(
        family,
        running.into_iter(),
        known.iter().map(|offer| &offer.facts),
    )
}

/// The kinds of client that there are where this runs; the first is the server's own, and none stands for it where the family
/// names none.
pub fn kinds_of_client(server: &Server, inventory: &Inventory) -> Vec<Option<ClientKind>> {
    let running = inventory.components.iter().filter(|it| !it.runs.is_off());
    let family = &server.family;
    let kinds = family.kinds_of_client(running.map(|it| &it.facts));
    let unnamed = family.clients.is_empty().then_some(None);
    unnamed
        .into_iter()
        .chain(kinds.into_iter().map(Some))
        .collect()
}

/// What a plan changes in who may join.
pub(super) fn changes(
    server: &Server,
    before: &Inventory,
    after: &Inventory,
    request: &Request,
) -> Vec<ClientChange> {
    let known = &request.offers;
    let version = outside(after, request);
    compared(
        &may_join(server, before, None, known),
        &may_join(server, after, version, known),
    )
}

/// The version of a build that lies outside the folder once a plan has been carried out; none where it lies inside.
fn outside<'r>(after: &Inventory, request: &'r Request) -> Option<&'r Version> {
    let moves_build = after
        .components
        .iter()
        .any(|it| it.facts.kind == Kind::Build && it.place.is_some());
    match (&request.target, moves_build) {
        (Target::One(version), false) => Some(version),
        _ => None,
    }
}

/// What the server speaks with clients once a plan has been carried out, where that is known.
pub(super) fn protocol(server: &Server, after: &Inventory, request: &Request) -> Option<String> {
    match outside(after, request) {
        Some(version) => server.family.protocol(version),
        None => protocol_of(server, after),
    }
}

/// What the server that an inventory has speaks with clients: as its build states, or else as the family does.
pub fn protocol_of(server: &Server, inventory: &Inventory) -> Option<String> {
    let mut builds = inventory
        .components
        .iter()
        .filter(|it| it.facts.kind == Kind::Build);
    let stated = builds.find_map(|it| it.facts.build.protocol.clone());
    stated.or_else(|| server.family.protocol(inventory.server_version()?))
}

/// What each kind of client must have once a plan has been carried out.
pub(super) fn lists(server: &Server, after: &Inventory, plan: &Plan) -> Vec<ClientList> {
    let lists = kinds_of_client(server, after).into_iter().map(|kind| {
        let kind = kind.as_ref();
        let mut changes = plan.clients.iter();
        let own = kind.and_then(|kind| changes.find(|it| it.client == kind.name));
        let joins = own.and_then(|own| own.after.clone());
        ClientList {
            server_version: Some(plan.to.clone()).filter(|to| !to.is_empty()),
            ..list(&server.config.name, after, kind, joins)
        }
    });
    lists.filter(|list| !list.items.is_empty()).collect()
}

/// The kinds of client that a question is about: what lets them in is of concern.
pub(super) fn of_concern(server: &Server, terms: &Terms) -> Vec<Id> {
    let own = server
        .family
        .clients
        .iter()
        .map(|kind| players_with(&kind.name));
    let asked = terms.admit.iter().filter_map(|text| text.split_once('='));
    let asked = asked.map(|(kind, _)| players_with(&server.family.ids.spell(kind)));
    own.chain(asked).collect()
}

/// Says of each build which clients it lets in, and takes up the players who are to be let in.
///
/// # Errors
/// When a wish cannot be read, or is about a kind of client that nobody knows.
pub(super) fn ask(server: &Server, terms: &Terms, request: &mut Request) -> Result<()> {
    let family = &server.family;
    for held in Arc::make_mut(&mut request.held) {
        family.tell_clients(&mut held.facts);
    }
    let is_build = |offer: &&mut Offer| offer.facts.kind == Kind::Build;
    for offer in Arc::make_mut(&mut request.offers)
        .iter_mut()
        .filter(is_build)
    {
        family.tell_clients(&mut offer.facts);
    }
    for text in &terms.admit {
        let players = wish(server, text, request)?;
        let held = request.held.iter().map(|held| &held.facts);
        let all = held.chain(request.offers.iter().map(|offer| &offer.facts));
        let admitted = all
            .flat_map(|facts| &facts.admits)
            .map(|it| it.client.as_str());
        let mut kinds: BTreeSet<&str> = admitted.collect();
        kinds.extend(family.clients.iter().map(|kind| kind.name.as_str()));
        if !kinds.contains(players.client.as_str()) {
            return Err(Error::Planning(PlanningFault::NoSuchClient {
                near: nearest(&players.client, kinds.iter().copied()).map(str::to_owned),
                known: kinds.into_iter().map(str::to_owned).collect(),
                named: players.client,
            }));
        }
        if !outside_lets_in(server, request, &players) {
            request.admit.insert(players.wish(), players);
        }
    }
    Ok(())
}

/// `KIND=VERSION` as a wish.
fn wish(server: &Server, text: &str, request: &Request) -> Result<ClientVersion> {
    let family = &server.family;
    let no_wish = || Error::Planning(PlanningFault::Admit(text.to_owned()));
    let (kind, version) = text.split_once('=').ok_or_else(no_wish)?;
    let client = family.ids.spell(kind);
    if client.is_empty() || version.is_empty() {
        return Err(no_wish());
    }
    let held = request.held.iter().map(|held| &held.facts);
    let all = held.chain(request.offers.iter().map(|offer| &offer.facts));
    let stated = stated_notation(&client, all);
    let version = family.versions.client_version(&client, stated, version)?;
    Ok(ClientVersion { client, version })
}

/// Whether a build lets players in that lies outside the folder, and is not chosen here.
fn outside_lets_in(server: &Server, request: &Request, players: &ClientVersion) -> bool {
    let Target::One(version) = &request.target else {
        return false;
    };
    let mut facts = Facts::new(request.build.clone(), Kind::Build, version.clone());
    server.family.tell_clients(&mut facts);
    request.build_outside && facts.lets_in(players)
}
