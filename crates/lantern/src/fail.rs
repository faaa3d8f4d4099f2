//! What to do when something goes wrong: the one place where errors get advice and an exit status.

use crate::answers::Failure;
use crate::common::{Common, shell_word};
use crate::look::{Look, Means, bytes, time};
use lantern_core::inventory::SwitchFault;
use lantern_core::operation::{OperationKind, Stuck};
use lantern_core::plan::DrawFault;
use lantern_host::Error;
use lantern_host::acquire::fault::AcquireFault;
use lantern_host::adopt::fault::AdoptFault;
use lantern_host::backup::fault::BackupFault;
use lantern_host::changeover::fault::ChangeoverFault;
use lantern_host::config::fault::ConfigFault;
use lantern_host::console::fault::ConsoleFault;
use lantern_host::planning::fault::PlanningFault;
use lantern_host::rehearsal::fault::RehearsalFault;
use lantern_host::survey::fault::SurveyFault;
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
    let advice = format!("{}{}", untouched(error), advice(error, common));
    if look.json {
        let conflicts = match error {
            Error::Planning(PlanningFault::Obstacle { obstacle, .. }) => {
                Some(obstacle.conflicts.len())
            }
            _ => None,
        };
        look.answer(&Failure {
            error: error.to_string(),
            advice: advice.lines().map(str::to_owned).collect(),
            exit_status: status(error),
            conflicts,
        });
    }
    for line in advice.lines() {
        look.talk(&format!("  {line}"));
    }
    status(error)
}

fn status(error: &Error) -> u8 {
    match error {
        Error::Planning(PlanningFault::Obstacle { .. })
        | Error::Planning(PlanningFault::NoWay { .. })
        | Error::Planning(PlanningFault::NotArmed(_))
        | Error::Planning(PlanningFault::Declined)
        | Error::Changeover(ChangeoverFault::NothingToDo)
        | Error::Changeover(ChangeoverFault::NothingToUndo)
        | Error::Changeover(ChangeoverFault::WorldUsed { .. })
        | Error::Changeover(ChangeoverFault::RestoredUsed { .. })
        | Error::Changeover(ChangeoverFault::NothingToResume) => NO,
        Error::Changeover(ChangeoverFault::RolledBack { .. }) => BACK,
        Error::Changeover(ChangeoverFault::Interrupted { .. }) => WAITING,
        _ => ERROR,
    }
}

/// What an error of this kind means for the server, where it is met before anything is done.
fn untouched(error: &Error) -> &'static str {
    const NOTHING: &str = "Nothing was touched. ";
    const NO_FILE: &str = "No file was touched. ";
    match error {
        Error::Changeover(fault) => match fault {
            ChangeoverFault::WritesKept { .. }
            | ChangeoverFault::OtherDisk { .. }
            | ChangeoverFault::StoredOnOtherDisk { .. }
            | ChangeoverFault::FolderChanged { .. }
            | ChangeoverFault::NotInstalled { .. }
            | ChangeoverFault::OtherText { .. }
            | ChangeoverFault::OwnRoom { .. }
            | ChangeoverFault::LinkLeaves { .. }
            | ChangeoverFault::WritesOwn { .. }
            | ChangeoverFault::NothingComes { .. } => NOTHING,
            ChangeoverFault::NeedsDown { .. } => NO_FILE,
            _ => "",
        },
        Error::Console(ConsoleFault::Unseen { .. }) => NOTHING,
        Error::Console(ConsoleFault::NoConsole { .. } | ConsoleFault::StartedAgain { .. }) => {
            NO_FILE
        }
        _ => "",
    }
}

fn advice(error: &Error, common: &Common) -> String {
    let plan_again = plan_again(common);
    match error {
        Error::NotAFolder(_) => "Name a folder that is there.".into(),
        Error::NoProgram { .. } => "Install it, or change the recipe in lantern.toml.".into(),
        Error::Release { .. } => "Fetch it again, or take it out of the folder.".into(),
        Error::OddPath(_) => "Rename it, or the folder that it lies in.".into(),
        Error::InTheWay(path) if path.to_string_lossy().ends_with(".catalogue.json") => {
            "Write it anew with --again; or take it away first.".into()
        }
        Error::InTheWay(_) => "Name another file, or take that one away first.".into(),
        Error::Ledger { path, .. } => format!(
            "If it is broken beyond use, move it away and take every file in again, as it is now:\n\
             mv {0} {0}.broken\nlantern adopt {1} --again",
            shell_word(path),
            shell_word(&common.server)
        ),
        Error::Busy { .. } => "Wait until it is done.".into(),
        Error::NoFile(_) => format!("What does: {}", common.next("survey --files")),
        Error::NoOperation { .. } => format!("All of them: {}", common.next("history")),
        Error::NewerState { .. } => "Use that lantern, or a later one. Nothing was changed.".into(),
        Error::Catalogue { .. } => {
            "Get the catalogue again; docs/formats/catalogue.md says what it holds.".into()
        }
        Error::Archive { .. } => "Fetch it again; nothing was written.".into(),
        Error::OtherArchive { .. } => {
            format!("Fetch it again, or if it is meant to be another one:\n{plan_again}")
        }
        Error::DiskFull { needed, free, .. } => format!(
            "That is {} wanted and {} free. Make room; no file of the server was touched.",
            bytes(*needed),
            bytes(*free)
        ),
        Error::Io { .. } => "Nothing else was done.".into(),
        Error::Version(_) | Error::Range(_) | Error::Path(_) => String::new(),
        Error::Acquire(fault) => of_acquire(fault),
        Error::Adopt(fault) => of_adopt(fault),
        Error::Backup(fault) => of_backup(fault, common),
        Error::Changeover(fault) => of_changeover(fault, common),
        Error::Config(fault) => of_config(fault, common),
        Error::Console(fault) => of_console(fault, common),
        Error::Draw(fault) => of_draw(fault),
        Error::Planning(fault) => of_planning(fault, common),
        Error::Rehearsal(fault) => of_rehearsal(fault, common),
        Error::Survey(fault) => of_survey(fault, common),
    }
}

fn plan_again(common: &Common) -> String {
    format!("Make the plan again: {}", common.next("plan --to VERSION"))
}

fn of_acquire(fault: &AcquireFault) -> String {
    match fault {
        AcquireFault::NoRecipe => "Write one: [acquire] in docs/formats/lantern-toml.md.".into(),
        AcquireFault::Runtime { .. } => {
            "Nothing was run. Install the right one, or name another program in the recipe.".into()
        }
        AcquireFault::Recipe { log, last, .. } => {
            let last: String = last.iter().map(|line| format!("  {line}\n")).collect();
            format!("{last}All that it printed: {}", shell_word(log))
        }
    }
}

fn of_adopt(fault: &AdoptFault) -> String {
    match fault {
        AdoptFault::AlreadyAdopted(path) => {
            format!(
                "See what is there: lantern survey --server {}",
                shell_word(path)
            )
        }
        AdoptFault::NoFamily { path, tried } => {
            let tried = tried
                .iter()
                .map(|(name, mark)| format!("{name}: there is no {mark}\n"));
            format!(
                "{}Is this the server's own folder? If it is of another family, name its file:\nlantern adopt {} --family FILE.family.toml",
                tried.collect::<String>(),
                shell_word(path)
            )
        }
        AdoptFault::SeveralFamilies { path, families } => {
            format!(
                "Say which: lantern adopt {} --family {}",
                shell_word(path),
                families[0]
            )
        }
    }
}

fn of_backup(fault: &BackupFault, common: &Common) -> String {
    match fault {
        BackupFault::CalledOff => String::new(),
        BackupFault::Needed(_) => format!(
            "Nothing was deleted. Thin the history out first, if it need not be taken back: {}",
            common.next("history --thin N")
        ),
        BackupFault::SeveralBackups { .. } => "Type more of its name.".into(),
        BackupFault::NoBackup(_) => format!("See which there are: {}", common.next("backup list")),
        BackupFault::Store { .. } => format!("Look what is whole: {}", common.next("backup check")),
        BackupFault::StorePlace { .. } => "lantern.toml names it: store in [backup]. Nothing was stored, and nothing else was done.".into(),
    }
}

fn of_changeover(fault: &ChangeoverFault, common: &Common) -> String {
    let plan_again = plan_again(common);
    match fault {
        ChangeoverFault::WorldUsed { old, new, .. } => format!(
            "Nothing was changed. {new} may have written the world in a form that {old} cannot read. Say which it is to be:\n\
             the world of the backup, and what was done since is set aside: {}\n\
             the world as it is now, if you know that {old} reads it: {}",
            common.next("undo --with-world"),
            common.next("undo --keep-world")
        ),
        ChangeoverFault::RestoredUsed { .. } => format!(
            "Nothing was changed. Say which it is to be:\n\
             the world as it was before the restore, and what was done since is set aside: {}\n\
             the world as it is now, and only other files go back: {}",
            common.next("undo --with-world"),
            common.next("undo --keep-world")
        ),
        ChangeoverFault::CalledBack => String::new(),
        ChangeoverFault::LinksChanged { path } => {
            format!("Nothing was touched. Make {path} again what it was, and repeat the command.")
        }
        ChangeoverFault::CalledOff(OperationKind::Undo) => {
            format!("To go back later: {}", common.next("undo"))
        }
        ChangeoverFault::CalledOff(_) => {
            format!("The plan is still there: {}", common.next("changeover"))
        }
        ChangeoverFault::NeedsDown { .. } => {
            format!("Stop it first: {}", common.next("console stop"))
        }
        ChangeoverFault::Interrupted { stuck, .. } => {
            let first = match stuck {
                Some(Stuck::StillStopping) => format!(
                    "Look at what it is doing: {}\nTo end it without asking: {}\nWhen it is down, ",
                    shell_word(&common.near(".lantern/console/output.log")),
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
        ChangeoverFault::OtherServer { .. } => format!(
            "Name that server with --server DIR. Or: {}",
            common.next("plan --to VERSION")
        ),
        ChangeoverFault::NotInstalled { wanted, .. } => format!(
            "Install that program first, the way it came here. Then write server_version = \"{wanted}\" in {}.",
            shell_word(&common.near("lantern.toml"))
        ),
        ChangeoverFault::WritesKept { .. } => plan_again,
        ChangeoverFault::OtherDisk { .. } => {
            "Lantern exchanges files by renames alone, so that nothing is ever half there:\n\
             what a plan exchanges has to lie on the disk of the server folder."
                .into()
        }
        ChangeoverFault::StoredOnOtherDisk { path, name } => {
            let top = path.as_str().split('/').next().unwrap_or_default();
            format!(
                "What a backup has of it is put elsewhere, for you to exchange with the server down:\n{}",
                common.next(&format!(
                    "backup restore {} {} --to DIR",
                    shell_word(Path::new(name)),
                    shell_word(Path::new(top))
                ))
            )
        }
        ChangeoverFault::FolderChanged { .. } | ChangeoverFault::OtherText { .. } => plan_again,
        ChangeoverFault::OwnRoom { path } => {
            format!("Make {path} a folder, or take it away: lantern makes it anew.")
        }
        ChangeoverFault::LinkLeaves { .. } | ChangeoverFault::WritesOwn { .. } => {
            "No plan of lantern's does that: do not carry it out.".into()
        }
        ChangeoverFault::NothingComes { .. } => plan_again,
        ChangeoverFault::NothingToDo => String::new(),
        ChangeoverFault::NotRight { last, .. } => printed(last, common),
        ChangeoverFault::RolledBack {
            down_ms,
            running,
            last,
            wrong,
            lost,
            ..
        } => format!(
            "{}{}{}{} All the failed start printed is in {}",
            last_words(last),
            lost.iter()
                .map(|path| format!("Not found, and so not put back: {path}\n"))
                .collect::<String>(),
            wrong_now(wrong),
            if *running {
                format!(
                    "The old server runs again; it was down for {}.",
                    time(*down_ms)
                )
            } else {
                "The server is down, as it was before.".into()
            },
            shell_word(&common.near(".lantern/console/output.previous.log"))
        ),
        ChangeoverFault::GivenUp { wrong, cause, .. } => {
            let cause = cause
                .as_ref()
                .and_then(|cause| cause.downcast_ref::<Error>());
            let why = cause.map(|cause| advice(cause, common)).unwrap_or_default();
            // The server was stopped: that no file was is said already.
            let why = why.trim_start_matches("").trim_start_matches("");
            format!(
                "{}{why}\nIf it was chance, give the same command again.",
                wrong_now(wrong)
            )
        }
        ChangeoverFault::NothingToUndo | ChangeoverFault::NothingToResume => String::new(),
        ChangeoverFault::Lost { .. } => {
            "Somebody moved it while lantern worked. Look for it, put it back, then: lantern undo"
                .into()
        }
    }
}

fn of_config(fault: &ConfigFault, common: &Common) -> String {
    match fault {
        ConfigFault::NotAdopted(path) => format!(
            "Take it into care first: lantern adopt {}\nOr name the right folder with --server DIR.",
            shell_word(path)
        ),
        ConfigFault::UnknownFamily { .. } => {
            "Name one of these, or a file that ends in .family.toml.".into()
        }
        ConfigFault::Text { path, .. } if path.iter().any(|name| name == ".lantern") => format!(
            "Lantern wrote it, and it was damaged since. Move it away, and look what state the files are in:\n\
             mv {0} {0}.broken\n{1}",
            shell_word(path),
            common.next("survey --edited")
        ),
        ConfigFault::Text { path, .. } => format!(
            "Put it right in {}; docs/formats/ lists the keys.",
            path.display()
        ),
        ConfigFault::OtherFolder {
            here,
            is_still_there: true,
            ..
        } => format!(
            "Nothing was done. This is a copy of it: make it a server of its own: lantern adopt {} --copy",
            shell_word(Path::new(here))
        ),
        ConfigFault::StillThere(there) => format!(
            "Take it out of care first, when it is not to be used again: mv {0}/lantern.toml {0}/lantern.toml.old",
            shell_word(there)
        ),
        ConfigFault::OtherFolder { here, .. } => {
            let here = shell_word(Path::new(here));
            format!(
                "Nothing was done. Say which it is:\n\
                 the same server, which lies here now: lantern adopt {here} --moved\n\
                 a copy, and so a server of its own: lantern adopt {here} --copy"
            )
        }
        ConfigFault::OwnFolder(_) => "There is nothing to settle.".into(),
        ConfigFault::Family { .. } => "docs/formats/family.md lists the keys.".into(),
    }
}

fn of_console(fault: &ConsoleFault, common: &Common) -> String {
    match fault {
        ConsoleFault::Unseen { .. } => {
            "Run lantern as the user whom the server belongs to, or say how to find out: \
             state in [console.run], docs/formats/lantern-toml.md."
                .into()
        }
        ConsoleFault::NoConsole { .. } => format!(
            "Stop the server yourself, then let lantern start it:\n{}",
            common.next("console start")
        ),
        ConsoleFault::DidNotStop { .. } => format!(
            "Look at what it is doing: {}\nTo end it without asking: {}",
            shell_word(&common.near(".lantern/console/output.log")),
            common.next("console stop --kill")
        ),
        ConsoleFault::StartedAgain { .. } => {
            "Tell what starts it to leave it alone, or give lantern its command lines: \
             [console.run] in docs/formats/lantern-toml.md."
                .into()
        }
        ConsoleFault::NoAnswer { .. } => format!("Is it busy? See: {}", common.next("verify")),
        ConsoleFault::CommandLine { .. } => "It is run in the server folder. Put it right in lantern.toml.".into(),
        ConsoleFault::Remote { .. } => {
            "Is the server up, and its remote console on? What lantern.toml says of it: [console.line]".into()
        }
        ConsoleFault::Second { .. } => {
            "Nothing was stopped, and no file was touched. Find out what it is, and end it first: it may be a second server on \
             the same world."
                .into()
        }
        ConsoleFault::DidNotStart { last, .. } => printed(last, common),
        ConsoleFault::CalledOff => String::new(),
        ConsoleFault::AlreadyUp { .. } => format!("See: {}", common.next("console state")),
    }
}

fn of_draw(fault: &DrawFault) -> String {
    match fault {
        DrawFault::NoVariant { id, variants } => format!(
            "Choose one, and it is remembered: --variant {id}={}",
            variants.first().map_or("NAME", String::as_str)
        ),
        DrawFault::OtherVariants { id, variants, .. } => {
            let first = variants.first().map_or("NAME", String::as_str);
            format!("Choose another: --variant {id}={first}")
        }
        DrawFault::InPack { member, .. } => {
            format!("Nothing was changed. Let the pack's take its place: --drop {member}")
        }
        DrawFault::LeavesWorld { pack, member, .. } => format!(
            "Nothing was changed. Put it in beside the pack: --add {member}\n\
             or keep the pack as it is: --keep {pack}\n\
             or lose what the world holds of it: --drop {member} --world-loses {member}"
        ),
        DrawFault::WritesKept { .. } => {
            "Nothing was changed. --beside puts such files beside, as *.new; or leave that release out.".into()
        }
        DrawFault::Empty { .. } => {
            "Nothing was changed. Look what is in that download, and how the family's reader finds it there.".into()
        }
        DrawFault::LinkLeaves { .. } => {
            "Nothing was changed. Leave that release out, or tell its maker: a link of it has to stay inside it.".into()
        }
        DrawFault::WritesOwn { .. } => "Nothing was changed. No release has anything to put there: leave it out.".into(),
        DrawFault::KeptInside { .. } => {
            "Nothing was changed. Rename it yourself with the server down: what lies in it goes with it. Then plan again.".into()
        }
        DrawFault::NoWord { .. } => {
            "Nothing was changed. Leave that release out: no honest one is called so.".into()
        }
        DrawFault::NoEntry { id } => format!(
            "Nothing was changed. Look whether the file says twice what is started, and leave one; \
             or leave {id} out: no honest add-on has blanks or marks in its id."
        ),
        DrawFault::Pin { .. } => "Nothing was changed. Write it there yourself, as a plain word, and plan again.".into(),
        DrawFault::NoCopy { id, .. } => format!(
            "Put the release of {id} that is installed into the drop folder, and take it with --from."
        ),
        DrawFault::Unwritable { path } => {
            format!("Nothing was changed. Save {path} as UTF-8 text in an editor, and plan again.")
        }
        _ => "Leave that release out, or ask who made it.".into(),
    }
}

fn of_planning(fault: &PlanningFault, common: &Common) -> String {
    let plan_again = plan_again(common);
    match fault {
        PlanningFault::NoServerVersion | PlanningFault::OneOutside(_) => String::new(),
        PlanningFault::Switch(fault) => match fault {
            SwitchFault::NotThere { .. } => {
                format!("What is installed: {}", common.next("survey"))
            }
            SwitchFault::Always(id) => {
                format!(
                    "Take it out: {}",
                    common.next(&format!("plan --to same --drop {id}"))
                )
            }
            SwitchFault::InUse(_) => {
                format!(
                    "Name the one to use: {}",
                    common.next("plan --to same --on ID")
                )
            }
            SwitchFault::ByCategory { by, .. } => format!("Edit the entry {by} by hand."),
            SwitchFault::NoSwitch(_) | SwitchFault::Both(_) => String::new(),
        },
        PlanningFault::NoSuch(_) => format!(
            "What is installed: {}; what is on offer depends on --catalogue and --from.",
            common.next("survey")
        ),
        PlanningFault::NoPart(_) => format!("What is installed: {}", common.next("survey")),
        PlanningFault::WorldLoses(ids) => {
            let words: Vec<String> = ids.iter().map(|id| format!("--world-loses {id}")).collect();
            format!("If it may, add {}.", words.join(" "))
        }
        PlanningFault::Variant(_) => "Write --variant ID=NAME.".into(),
        PlanningFault::Plan { .. } => format!("It may be cut off or edited. {plan_again}"),
        PlanningFault::NoPlan(_) => format!("Make one: {}", common.next("plan --to VERSION")),
        PlanningFault::NotArmed(armed) => {
            let again = armed.name.as_ref().map(|name| {
                let again = common.next(&format!("changeover {name}"));
                format!("\nTo try that one again as it is: {again}")
            });
            format!(
                "Make another: {}{}",
                common.next("plan --to VERSION"),
                again.unwrap_or_default()
            )
        }
        PlanningFault::NothingAside(number) | PlanningFault::NotAside { number, .. } => format!(
            "What it set aside: {}",
            common.next(&format!("history {number}"))
        ),
        PlanningFault::KeptAside(_) => "Nothing was changed.".into(),
        PlanningFault::OtherName { .. } => {
            format!("Make one: {}", common.next("plan --to VERSION"))
        }
        PlanningFault::NotConfirmed(without) => format!("Nothing was changed. To do it: {without}"),
        PlanningFault::Declined => "Nothing was changed.".into(),
        PlanningFault::Obstacle { .. } => "Nothing was changed.".into(),
        PlanningFault::NoWay { .. } => format!(
            "See which versions can be reached: {}",
            common.next("outlook --catalogue FILE")
        ),
        PlanningFault::Request { .. } => "docs/formats/request.md lists the keys.".into(),
        PlanningFault::NoRequest => format!("Ask for one: {}", common.next("plan --to VERSION")),
    }
}

fn of_rehearsal(fault: &RehearsalFault, common: &Common) -> String {
    match fault {
        RehearsalFault::OwnPath { .. } => {
            "Nothing was copied. Write the path relative to the folder, and it can be rehearsed."
                .into()
        }
        RehearsalFault::Touched { .. } => format!(
            "Look what in its settings leads there, and compare with the last backup: {}",
            common.next("backup list")
        ),
        RehearsalFault::CalledOff => "The live server was not touched.".into(),
    }
}

fn of_survey(fault: &SurveyFault, common: &Common) -> String {
    match fault {
        SurveyFault::NotInstalled { .. } => format!("See what is: {}", common.next("survey")),
        SurveyFault::SeveralOrderFiles { .. } => {
            "Keep one server to a folder, or write a family file that names the file.".into()
        }
    }
}

/// What is wrong with a state that was left and is back, a line each.
fn wrong_now(wrong: &[String]) -> String {
    let lines = wrong.iter();
    lines
        .map(|wrong| format!("Wrong with the old state now: {wrong}\n"))
        .collect()
}

/// The last lines that a server printed, and where all of it is.
fn printed(last: &[String], common: &Common) -> String {
    let log = common.near(".lantern/console/output.log");
    format!(
        "{}All it printed is in {}",
        last_words(last),
        shell_word(&log)
    )
}

/// The last lines that a server printed, under a heading.
fn last_words(last: &[String]) -> String {
    if last.is_empty() {
        return String::new();
    }
    let lines: String = last.iter().map(|line| format!("  | {line}\n")).collect();
    format!("Its last words:\n{lines}")
}
