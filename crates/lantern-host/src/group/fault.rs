//! What can go wrong with servers that move together.

use lantern_core::component::Id;
use lantern_core::supply::Wanted;
use std::collections::BTreeMap;
use std::fmt::Write as _;

/// What can go wrong with servers that move together.
#[derive(Debug, thiserror::Error)]
pub enum GroupFault {
    /// Some could not be asked, or their own plan could not be drawn: each by name, with why.
    #[error("{}", each(.doing, .servers))]
    Some {
        /// What could not be done: `asked`, `planned`.
        doing: &'static str,
        /// Which, and why.
        servers: Vec<(String, String)>,
    },
    /// At some of them what was planned for all is not to be carried out: each by name, with why.
    #[error("what was planned for all cannot be carried out at {}", named(.0))]
    NotArmed(Vec<(String, String)>),
    /// Files have to be fetched before every server's own plan can be drawn: each once, with the server, as an index, that asks for it first.
    #[error("{} to be fetched before every server's plan can be drawn file by file: {}", many(.0), what(.0))]
    ToFetch(Vec<(usize, Wanted)>),
    /// No server of it is one at which a lantern works that is there.
    #[error(
        "none of its servers is stated by an address, ssh://USER@HOST/FOLDER, so that no lantern works elsewhere for it"
    )]
    NobodyThere,
    /// They are of several programs, of which it is not said where each is to come to: each server's own, with its name.
    #[error("its servers are of several programs, and a version of one is none of another: {}", programs(.0))]
    WhichProgram(Vec<(Id, String)>),
    /// It is said twice where they are to come to.
    #[error("it is said twice where servers are to come to: {0}")]
    ToTwice(String),
    /// None of them is of that program.
    #[error("none of its servers is of the program {named}; there are: {}", known.iter().map(Id::as_str).collect::<Vec<_>>().join(", "))]
    OtherProgram {
        /// The one that is named.
        named: Id,
        /// Those there are.
        known: Vec<Id>,
    },
    /// They are down together.
    #[error("its servers are down together, so that none of them is the first")]
    NoFirst,
    /// Why one of them has no plan of its own, as far as that lies in the group.
    #[error("{0}")]
    Own(String),
    /// They do not agree.
    #[error("{told}")]
    Discord {
        /// Why not.
        told: String,
        /// Components of which it would help if they were not one release at all servers.
        apart: Vec<Id>,
        /// How many conflicts there are between components.
        conflicts: usize,
    },
}

fn programs(each: &[(Id, String)]) -> String {
    let mut by: BTreeMap<&Id, Vec<&str>> = BTreeMap::new();
    for (id, server) in each {
        by.entry(id).or_default().push(server);
    }
    let each = by
        .iter()
        .map(|(id, servers)| format!("{id} at {}", servers.join(", ")));
    each.collect::<Vec<_>>().join("; ")
}

fn many(files: &[(usize, Wanted)]) -> String {
    match files.len() {
        1 => "1 file has".into(),
        several => format!("{several} files have"),
    }
}

fn what(files: &[(usize, Wanted)]) -> String {
    let what: Vec<&str> = files.iter().map(|(_, it)| it.what.as_str()).collect();
    what.join(", ")
}

fn each(doing: &str, servers: &[(String, String)]) -> String {
    let named = named(servers);
    let (many, each) = named.split_once(':').unwrap_or((&named, ""));
    format!("{many} could not be {doing}:{each}")
}

fn named(servers: &[(String, String)]) -> String {
    let mut told = match servers.len() {
        1 => "one server:".to_owned(),
        several => format!("{several} servers:"),
    };
    for (name, why) in servers {
        let _ = write!(told, "\n  {name}: {}", why.replace('\n', "\n    "));
    }
    told
}
