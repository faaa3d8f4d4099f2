//! Players' clients, and what players are told.

use lantern_core::clients::{Checked, ClientChange, ClientList, Explained, MayJoin};
use lantern_core::notice::Notice;
use lantern_core::path::RelPath;
use lantern_core::resolve::{Request, Selection};
use lantern_host::changeover::by_hand::Odd;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// `client who`
#[derive(Debug, Serialize, JsonSchema)]
pub struct WhoMayJoin {
    /// The name of the plan that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plan: Option<String>,
    /// Each kind of client, the server's own first.
    pub kinds: Vec<Joining>,
    /// Kinds that lantern.toml names, and neither the family nor anything that runs states.
    pub unstated: Vec<String>,
}

/// Which players with one kind of client may join.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Joining {
    client: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    title: Option<String>,
    /// Versions that may join now, in words; none where no one may, `unknown` where nobody declared anything.
    now: Option<String>,
    /// Versions that may join with the plan, likewise.
    #[serde(skip_serializing_if = "Option::is_none")]
    afterwards: Option<Option<String>>,
    /// What lets them in; with a plan, afterwards.
    because_of: Vec<String>,
    /// Versions that may join no longer.
    no_longer: Vec<String>,
    /// Versions that may join newly.
    newly: Vec<String>,
}

impl Joining {
    /// As it is.
    pub fn of(kind: &MayJoin) -> Joining {
        Joining {
            client: kind.client.clone(),
            title: kind.title.clone(),
            now: kind.words(),
            afterwards: None,
            because_of: kind.because_of(),
            no_longer: Vec::new(),
            newly: Vec::new(),
        }
    }

    /// As a plan changes it.
    pub fn changing(change: &ClientChange) -> Joining {
        Joining {
            client: change.client.clone(),
            title: change.title.clone(),
            now: change.before.clone(),
            afterwards: Some(change.after.clone()),
            because_of: change.by.clone(),
            no_longer: change.no_longer.clone(),
            newly: change.newly.clone(),
        }
    }
}

/// `bundle --out`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BundlePacked<'a> {
    /// The plan, by its name.
    pub plan: &'a str,
    /// The archive that was written.
    pub out: &'a Path,
    /// How many files are in it.
    pub files: usize,
    /// Its size.
    pub bytes: u64,
    /// What goes, and nothing comes in its place.
    pub goes: &'a [RelPath],
    /// How many files that go, or are replaced, were packed, too; none where that was not asked for.
    pub old: Option<usize>,
}

/// `bundle --check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct BundleLookedAt<'a> {
    /// The plan, by its name.
    pub plan: &'a str,
    /// How many paths are as it has them.
    pub right: usize,
    /// Those that are not.
    pub odd: &'a [Odd],
    /// The number in the history, where all is as it should be.
    pub number: Option<i64>,
}

/// `client list`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Clients<'a> {
    /// What a client must have, may have, and must not have.
    pub client: &'a ClientList,
    /// Kinds that lantern.toml names, and neither the family nor anything that runs states.
    pub unstated: &'a [String],
}

/// `client pack`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ClientPacked<'a> {
    /// What a client must have, may have, and must not have.
    pub client: &'a ClientList,
    /// The archive that was written.
    pub out: &'a Path,
    /// Its size.
    pub bytes: u64,
    /// How many files are in it, besides the lists.
    pub files: usize,
    /// What players have to delete; null where all was packed.
    pub delete: Option<&'a Vec<RelPath>>,
}

/// `client write --out`, `notice --out`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Written<'a> {
    /// The file.
    pub out: &'a Path,
    /// Its size.
    pub bytes: u64,
}

/// `notice`
#[derive(Debug, Serialize, JsonSchema)]
pub struct NoticeTold<'a> {
    /// All that there is to tell.
    pub notice: &'a Notice,
    /// It in words.
    pub text: &'a str,
}

/// `client check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ClientChecked<'a> {
    /// Whether nothing has to be done.
    #[serde(rename = "matches")]
    pub right: bool,
    /// The server.
    pub server: &'a str,
    /// What was found.
    pub checked: &'a Checked,
}

/// `client explain`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ClientExplained<'a> {
    /// Whether the family states how a mismatch is told.
    pub stated: bool,
    /// The components that the text names.
    pub components: &'a [Explained],
}

/// `outlook --watch-for-client`
#[derive(Debug, Serialize, JsonSchema)]
pub struct CanJoin<'a> {
    server: &'a str,
    /// Who is to be let in.
    players: &'a str,
    /// What a plan has to be asked for so that they are: `same` server version, or the `best`; null where none does.
    pub with: Option<&'static str>,
    /// Whether anything has to change for it.
    pub needs_plan: Option<bool>,
    /// What lets them in.
    pub by: Vec<String>,
    /// What stands in the way.
    pub why: Option<String>,
}

impl<'a> CanJoin<'a> {
    /// Nothing is known yet.
    pub fn new(server: &'a str, players: &'a str) -> CanJoin<'a> {
        CanJoin {
            server,
            players,
            with: None,
            needs_plan: None,
            by: Vec::new(),
            why: None,
        }
    }

    /// Releases that let them in were found.
    pub fn found(&mut self, to: &'static str, request: &Request, selection: &Selection) {
        let chosen = selection.choices.iter().filter_map(|choice| {
            let held = || request.held.iter().find(|held| held.facts.id == choice.id);
            let facts = match choice.offer {
                Some(offer) => &request.offers[offer].facts,
                None => &held()?.facts,
            };
            let lets_in = request.admit.values().any(|players| facts.lets_in(players));
            lets_in.then(|| {
                (
                    choice.offer.is_some(),
                    format!("{} {}", facts.id, facts.version),
                )
            })
        });
        let chosen: Vec<(bool, String)> = chosen.collect();
        self.with = Some(to);
        self.why = None;
        self.needs_plan = Some(!chosen.is_empty() && chosen.iter().all(|(moves, _)| *moves));
        self.by = chosen.into_iter().map(|(_, by)| by).collect();
    }
}
