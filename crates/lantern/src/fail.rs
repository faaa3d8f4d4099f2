//! What to do when something goes wrong: the one place where errors get advice and an exit status.

use crate::common::{Common, shell_word};
use crate::look::{Look, Means, bytes, time};
use lantern_core::operation::{OperationKind, Stuck};
use lantern_core::plan::DrawFault;
use lantern_host::Error;
use std::path::Path;

/// Done.
pub const DONE: u8 = 0;
/// It did not work.
pub const ERROR: u8 = 1;
/// The answer is no.
pub const NO: u8 = 3;
/// A changeover failed and the old state is back.
pub const BACK: u8 = 4;
/// A changeover was cut off and waits.
pub const WAITING: u8 = 5;

/// Tells what went wrong and what to do; returns the exit status.
pub fn tell(error: &Error, common: &Common, look: &Look) -> u8 {
    let word = look.paint_error(Means::Bad, "error");
    look.talk(&format!("{word}: {error}"));
    for line in advice(error, common).lines() {
        look.talk(&format!("  {line}"));
    }
    status(error)
}

fn status(error: &Error) -> u8 {
    match error {
        Error::Obstacle { .. }
        | Error::NoWay { .. }
        | Error::NothingToDo
        | Error::NothingToUndo
        | Error::WorldUsed { .. }
        | Error::RestoredUsed { .. }
        | Error::NothingToResume => NO,
        Error::RolledBack { .. } => BACK,
        Error::Interrupted { .. } => WAITING,
        _ => ERROR,
    }
}

fn advice(error: &Error, common: &Common) -> String {
    let plan_again = format!("Make the plan again: {}", common.next("plan --to VERSION"));
    match error {
        Error::NotAFolder(_) => "Name a server folder.".into(),
        Error::NoRecipe => "Write one: [acquire] in docs/formats/lantern-toml.md.".into(),
        Error::NoProgram { .. } => "Install it, or change the recipe in lantern.toml.".into(),
        Error::Runtime { .. } => "Nothing was run. Install the right one, or name another program in the recipe.".into(),
        Error::Recipe { log, last, .. } => {
            let last: String = last.iter().map(|line| format!("  {line}\n")).collect();
            format!("{last}All that it printed: {}", shell_word(log))
        }
        Error::Release { .. } => "Fetch it again, or take it out of the folder.".into(),
        Error::OddPath(_) => "Rename it, or the folder that it lies in.".into(),
        Error::Variant(_) => "Write --variant ID=NAME.".into(),
        Error::InTheWay(_) => "Name another file, or take that one away first.".into(),
        Error::WorldUsed { old, new, .. } => format!(
            "Nothing was changed. {new} may have written the world in a form that {old} cannot read. Say which it is to be:\n\
             the world of the backup, and what was done since is set aside: {}\n\
             the world as it is now, if you know that {old} reads it: {}",
            common.next("undo --with-world"),
            common.next("undo --keep-world")
        ),
        Error::RestoredUsed { .. } => format!(
            "Nothing was changed. Say which it is to be:\n\
             the world as it was before the restore, and what was done since is set aside: {}\n\
             the world as it is now, and only other files go back: {}",
            common.next("undo --with-world"),
            common.next("undo --keep-world")
        ),
        Error::CalledOff(OperationKind::Undo) => format!("To go back later: {}", common.next("undo")),
        Error::CalledOff(_) => format!("The plan is still there: {}", common.next("changeover")),
        Error::NoBackup(_) => format!("See which there are: {}", common.next("backup list")),
        Error::Store { .. } => format!("Look what is whole: {}", common.next("backup check")),
        Error::StorePlace { .. } => "lantern.toml names it: store in [backup]. Nothing was stored, and nothing else was done.".into(),
        Error::NeedsDown { .. } => format!("No file was touched. Stop it first: {}", common.next("console stop")),
        Error::NotInstalled { .. } => format!("See what is: {}", common.next("survey")),
        Error::NotAdopted(path) => format!(
            "Take it into care first: lantern adopt {}\nOr name the right folder with --server DIR.",
            shell_word(path)
        ),
        Error::AlreadyAdopted(path) => {
            format!(
                "See what is there: lantern survey --server {}",
                shell_word(path)
            )
        }
        Error::NoFamily { path, tried } => {
            let tried = tried
                .iter()
                .map(|(name, mark)| format!("{name}: there is no {mark}\n"));
            format!(
                "{}Is this the server's own folder? If it is of another family, name its file:\nlantern adopt {} --family FILE.family.toml",
                tried.collect::<String>(),
                shell_word(path)
            )
        }
        Error::SeveralFamilies { path, families } => {
            format!(
                "Say which: lantern adopt {} --family {}",
                shell_word(path),
                families[0]
            )
        }
        Error::UnknownFamily { .. } => {
            "Name one of these, or a file that ends in .family.toml.".into()
        }
        Error::Config { path, .. } => format!(
            "Put it right in {}; docs/formats/ lists the keys.",
            path.display()
        ),
        Error::Family { .. } => "docs/formats/family.md lists the keys.".into(),
        Error::Ledger { path, .. } => format!(
            "If the file is broken beyond use, move {} away and adopt the server again.",
            path.display()
        ),
        Error::Busy { .. } => "Wait until it is done.".into(),
        Error::Interrupted { stuck, .. } => {
            let first = match stuck {
                Some(Stuck::StillStopping) => format!(
                    "Look at what it is doing: {}\nTo end it without asking: {}\nWhen it is down, ",
                    shell_word(&common.server.join(".lantern/console/output.log")),
                    common.next("console stop --kill")
                ),
                _ => String::new(),
            };
            let go_on = if first.is_empty() { "Go on" } else { "go on" };
            format!(
                "{first}{go_on}: {}\nOr go back: {}",
                common.next("changeover --resume"),
                common.next("undo")
            )
        }
        Error::NewerState { .. } => "Use that lantern, or a later one. Nothing was changed.".into(),
        Error::Unseen { .. } => {
            "Nothing was touched. Run lantern as the user whom the server belongs to, or say how to find out: \
             state in [console.run], docs/formats/lantern-toml.md."
                .into()
        }
        Error::Catalogue { .. } => {
            "Get the catalogue again; docs/formats/catalogue.md says what it holds.".into()
        }
        Error::Archive { .. } => "Fetch it again; nothing was written.".into(),
        Error::OtherArchive { .. } => {
            format!("Fetch it again, or if it is meant to be another one:\n{plan_again}")
        }
        Error::SeveralOrderFiles { .. } => {
            "Keep one server to a folder, or write a family file that names the file.".into()
        }
        Error::Plan { .. } => format!("It may be cut off or edited. {plan_again}"),
        Error::OtherServer { .. } => format!(
            "Name that server with --server DIR. Or: {}",
            common.next("plan --to VERSION")
        ),
        Error::WritesKept { .. } => format!("Nothing was touched. {plan_again}"),
        Error::OtherDisk { .. } => "Nothing was touched. Lantern exchanges files by renames alone, so that nothing is ever half there:\n\
             what a plan exchanges has to lie on the disk of the server folder.".into(),
        Error::StoredOnOtherDisk { path, name } => {
            let top = path.as_str().split('/').next().unwrap_or_default();
            format!(
                "Nothing was touched. What a backup has of it is put elsewhere, for you to exchange with the server down:\n{}",
                common.next(&format!("backup restore {} {} --to DIR", shell_word(Path::new(name)), shell_word(Path::new(top))))
            )
        }
        Error::FolderChanged { .. } | Error::OtherText { .. } => format!("Nothing was touched. {plan_again}"),
        Error::NothingToDo => String::new(),
        Error::NoConsole { .. } => format!(
            "No file was touched. Stop the server yourself, then let lantern start it:\n{}",
            common.next("console start")
        ),
        Error::DidNotStop { .. } => format!(
            "Look at what it is doing: {}\nTo end it without asking: {}",
            shell_word(&common.server.join(".lantern/console/output.log")),
            common.next("console stop --kill")
        ),
        Error::DidNotStart { last, .. } | Error::NotRight { last, .. } => format!(
            "{}All it printed is in {}",
            last_words(last),
            shell_word(&common.server.join(".lantern/console/output.log"))
        ),
        Error::StartedAgain { .. } => {
            "No file was touched. Tell what starts it to leave it alone, or give lantern its command lines: \
             [console.run] in docs/formats/lantern-toml.md."
                .into()
        }
        Error::OwnPath { .. } => {
            "Nothing was copied. Write the path relative to the folder, and it can be rehearsed.".into()
        }
        Error::RehearsalTouched { .. } => format!(
            "Look what in its settings leads there, and compare with the last backup: {}",
            common.next("backup list")
        ),
        Error::RehearsalOff => "The live server was not touched.".into(),
        Error::NoAnswer { .. } => format!("Is it busy? See: {}", common.next("verify")),
        Error::CommandLine { .. } => "It is run in the server folder. Put it right in lantern.toml.".into(),
        Error::Remote { .. } => {
            "Is the server up, and its remote console on? What lantern.toml says of it: [console.line]".into()
        }
        Error::DiskFull { needed, free, .. } => format!(
            "That is {} wanted and {} free. Make room; no file of the server was touched.",
            bytes(*needed),
            bytes(*free)
        ),
        Error::RolledBack {
            down_ms,
            running,
            last,
            ..
        } => format!(
            "{}{} All the failed start printed is in {}",
            last_words(last),
            if *running {
                format!(
                    "The old server runs again; it was down for {}.",
                    time(*down_ms)
                )
            } else {
                "The server is down, as it was before.".into()
            },
            shell_word(
                &common
                    .server
                    .join(".lantern/console/output.previous.log")
            )
        ),
        Error::NothingToUndo | Error::NothingToResume => String::new(),
        Error::NoPlan(_) => format!("Make one: {}", common.next("plan --to VERSION")),
        Error::AlreadyUp { .. } => format!("See: {}", common.next("console state")),
        Error::Lost { .. } => {
            "Somebody moved it while lantern worked. Look for it, put it back, then: lantern undo"
                .into()
        }
        Error::Io { .. } => "Nothing more was done.".into(),
        Error::Draw(DrawFault::NoVariant { id, variants }) => format!(
            "Choose one, and it is remembered: --variant {id}={}",
            variants.first().map_or("NAME", String::as_str)
        ),
        Error::Draw(DrawFault::OtherVariants { id, variants, .. }) => {
            let first = variants.first().map_or("NAME", String::as_str);
            format!("Choose another: --variant {id}={first}")
        }
        Error::Draw(DrawFault::InPack { member, .. }) => {
            format!("Nothing was changed. Let the pack's take its place: --drop {member}")
        }
        Error::Draw(DrawFault::LeavesWorld { pack, member, .. }) => format!(
            "Nothing was changed. Put it in beside the pack: --add {member}\n\
             or keep the pack as it is: --keep {pack}\n\
             or lose what the world holds of it: --drop {member}"
        ),
        Error::Draw(DrawFault::WritesKept { .. }) => {
            "Nothing was changed. --beside puts such files beside, as *.new; or leave that release out.".into()
        }
        Error::Draw(DrawFault::NoCopy { id, .. }) => format!(
            "Put the release of {id} that is installed into the drop folder, and take it with --from."
        ),
        Error::Draw(DrawFault::Unwritable { path }) => {
            format!("Nothing was changed. Save {path} as UTF-8 text in an editor, and plan again.")
        }
        Error::Draw(_) => "Leave that release out, or ask who made it.".into(),
        Error::Obstacle { .. } => "Nothing was changed.".into(),
        Error::NoWay { .. } => format!(
            "See which versions can be reached: {}",
            common.next("outlook --catalogue FILE")
        ),
        Error::Request { .. } => "docs/formats/request.md lists the keys.".into(),
        Error::NoRequest => format!("Ask for one: {}", common.next("plan --to VERSION")),
        Error::Version(_) | Error::Range(_) | Error::NoServerVersion | Error::Path(_) => String::new(),
    }
}

/// The last lines that a server printed, under a heading.
fn last_words(last: &[String]) -> String {
    if last.is_empty() {
        return String::new();
    }
    let lines: String = last.iter().map(|line| format!("  | {line}\n")).collect();
    format!("Its last words:\n{lines}")
}
