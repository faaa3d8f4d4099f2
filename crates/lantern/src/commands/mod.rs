//! One file for each command: an `Args` struct whose doc comments are the help, and one function.

pub mod acquire;
pub mod adopt;
mod armed;
pub mod backup;
pub mod bundle;
pub mod catalogue;
pub mod changeover;
pub mod client;
pub mod culprit;
pub mod demo;
pub mod diff;
pub mod docs;
pub mod family;
pub mod far_end;
mod fetching;
pub mod gather;
pub mod group;
pub mod history;
pub mod keep_up;
pub mod known;
pub mod launch;
mod merges;
mod night;
pub mod notice;
pub mod order;
pub mod outlook;
pub mod plan;
pub mod put_back;
mod question;
pub mod rehearse;
pub mod report;
mod request;
pub mod server;
pub mod settings;
pub mod status;
pub mod survey;
pub mod take_over;
pub mod undo;
pub mod verify;
pub mod why;

use crate::answers::{Answer, EachServer, OfServer};
use crate::candidates;
use crate::common::Common;
use crate::fail;
use crate::look::{Look, Means};
use clap::Args;
use clap_complete::ArgValueCandidates;
use lantern_host::Result;
use lantern_host::changeover::{Meanwhile, meanwhile, refuse_interrupted};
use lantern_host::config::Server;
use lantern_host::config::fault::ConfigFault;
use lantern_host::identity;
use lantern_host::interrupt::{Wish, wish};
use lantern_host::lock::Lock;
use lantern_host::records::{Brought, unshared};

/// Which of several servers that run on one install.
#[derive(Debug, Clone, Args)]
struct OneOf {
    /// One of several servers that run on this install, by its name in lantern.toml; otherwise all
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(candidates::of_install))]
    of: Option<String>,
}

impl OneOf {
    /// The server that is meant, where it can only be one.
    fn one(&self, server: &Server) -> Result<Server> {
        let mut each = server.chosen(self.of.as_deref())?;
        let names = each.iter().filter_map(|one| one.which().map(str::to_owned));
        match each.len() {
            1 => Ok(each.remove(0)),
            _ => Err(ConfigFault::WhichServer(names.collect()).into()),
        }
    }
}

/// Answers in JSON: of one server, or of each of several.
fn answer_each<T: Answer>(look: &Look, mut answers: Vec<(Option<String>, T)>)
where
    EachServer<T>: Answer,
{
    match &answers[..] {
        [_] => look.answer(&answers.remove(0).1),
        _ => look.answer(&EachServer {
            servers: answers
                .into_iter()
                .map(|(which, answer)| OfServer {
                    which: which.unwrap_or_default(),
                    answer,
                })
                .collect(),
        }),
    }
}

/// Opens the server that `--server` names, and takes its lock.
fn open(common: &Common, look: &Look, doing: &str) -> Result<(Server, Lock)> {
    let server = Server::open(&common.server)?;
    tell_brought(&server, common, look);
    let lock = Lock::take(&server.folder, doing)?;
    identity::confirm(&server.folder)?;
    let lock = lock.with_store(&server, doing)?;
    Ok((server, lock))
}

/// Says what came of looking whether somebody else has worked at a server from elsewhere.
fn tell_brought(server: &Server, common: &Common, look: &Look) {
    match &server.brought {
        Brought::Nothing => {}
        Brought::Theirs(who) => look.talk(&format!(
            "This server was worked at from elsewhere, {who}; what is known of it since was taken from there."
        )),
        Brought::Unread(why) => {
            let told = format!(
                "What was written down beside this server cannot be read: what was done from elsewhere is not known here. {why}"
            );
            look.talk(&look.paint_error(Means::Caution, &told));
            look.talk(
                "  It is left as it is, and others do not see what is done from here. Where nobody needs it, remove that file there.",
            );
        }
        Brought::Apart(who) => {
            let told = format!(
                "What is known of this server here, and what was written down beside it, {who}, have gone apart: each has done what the other knows nothing of."
            );
            look.talk(&look.paint_error(Means::Caution, &told));
            look.talk(&format!(
                "  To know what the other does, and keep what is known here beside it: {}",
                common.next("take-over")
            ));
        }
    }
}

/// Says it where what was done or asked could not be written down beside the server.
fn tell_unshared(server: &Server, look: &Look) {
    if let Ok(Some(why)) = unshared(&server.folder) {
        let told = format!(
            "Whoever works at this server from elsewhere does not see that: it could not be written down beside it. {why}"
        );
        look.talk(&look.paint_error(Means::Caution, &told));
    }
}

/// The words that show which versions fit; where nothing is stated that knows releases, it has to be told.
fn look_out(server: &Server) -> &'static str {
    match server.catalogues().is_empty() && server.drop_folders().is_empty() {
        true => "outlook --catalogue FILE",
        false => "outlook",
    }
}

/// Answers Ctrl-C, and a signal that asks for the end, at once: says what becomes of it.
fn heed_interrupts(look: &Look) {
    let look = look.clone();
    let _ = ctrlc::set_handler(move || {
        let told = match wish() {
            Wish::CallsOff => "Called off: it ends as soon as it can, and no file is touched.",
            Wish::GoesOn => {
                "The server is being exchanged, and that goes on to its end. Once more, and it goes back to the old state."
            }
            Wish::GoesBack => "Back to the old state, as soon as it can.",
            Wish::Finishes => "It goes on to its end: half of it would be of no use to anybody.",
        };
        look.talk(&look.paint_error(Means::Caution, &format!("\n  {told}")));
    });
}

/// A server that is only looked at.
struct Looked {
    server: Server,
    /// Whether an operation was cut off there.
    is_cut_off: bool,
}

impl Looked {
    /// The exit status, where this one is the answer's.
    fn status(&self, status: u8) -> u8 {
        match self.is_cut_off {
            true => fail::WAITING,
            false => status,
        }
    }
}

/// Opens the server that `--server` names to look at it: at any time, and says what goes on there.
fn open_to_look(common: &Common, look: &Look) -> Result<Looked> {
    let server = Server::open(&common.server)?;
    tell_brought(&server, common, look);
    identity::confirm(&server.folder)?;
    let meanwhile = meanwhile(&server)?;
    match &meanwhile {
        Meanwhile::Nothing => {}
        Meanwhile::UnderWay(told) => {
            let told = look.paint_error(Means::Caution, told);
            look.talk(&format!(
                "{told}\n  What is shown may change while you read it."
            ));
        }
        Meanwhile::CutOff(told) => {
            look.talk(&look.paint_error(Means::Bad, told));
            look.talk(&format!(
                "  Go on: {}\n  Or go back: {}",
                common.next("changeover --resume"),
                common.next("undo")
            ));
        }
        Meanwhile::CutOffElsewhere(told) => {
            look.talk(&look.paint_error(Means::Bad, told));
            look.talk(&format!(
                "  Whoever began it can go on or back. Or put it back from here: {}",
                common.next("take-over")
            ));
        }
    }
    Ok(Looked {
        server,
        is_cut_off: matches!(
            meanwhile,
            Meanwhile::CutOff(_) | Meanwhile::CutOffElsewhere(_)
        ),
    })
}

/// As [`open`], and refuses where a changeover was cut off.
fn open_settled(common: &Common, look: &Look, doing: &str) -> Result<(Server, Lock)> {
    let (server, lock) = open(common, look, doing)?;
    refuse_interrupted(&server)?;
    Ok((server, lock))
}
