//! What to do when something goes wrong: the one place where errors get advice and an exit status.

use crate::answers::Failure;
use crate::common::{Common, shell_word};
use crate::look::{Look, Means, bytes, time};
use lantern_core::clients::FormFault;
use lantern_core::component::Id;
use lantern_core::inventory::SwitchFault;
use lantern_core::operation::{OperationKind, Stuck};
use lantern_core::plan::DrawFault;
use lantern_core::supply::Wanted;
use lantern_core::unattended::Matter;
use lantern_host::Error;
use lantern_host::acquire::fault::AcquireFault;
use lantern_host::adopt::fault::AdoptFault;
use lantern_host::backup::fault::BackupFault;
use lantern_host::changeover::fault::ChangeoverFault;
use lantern_host::clients::fault::ClientFault;
use lantern_host::config::fault::ConfigFault;
use lantern_host::console::fault::ConsoleFault;
use lantern_host::culprit::fault::CulpritFault;
use lantern_host::group::fault::GroupFault;
use lantern_host::keep_up::fault::KeepUpFault;
use lantern_host::night::fault::NightFault;
use lantern_host::place::Address;
use lantern_host::planning::fault::PlanningFault;
use lantern_host::rehearsal::fault::RehearsalFault;
use lantern_host::session::fault::SessionFault;
use lantern_host::signing::fault::SigningFault;
use lantern_host::survey::fault::SurveyFault;
use lantern_host::unattended::fault::UnattendedFault;
use lantern_host::web::fault::WebFault;
use std::collections::BTreeSet;
use std::io::ErrorKind;
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
    let advice = advice(error, common);
    if look.json {
        let conflicts = match error {
            Error::Planning(PlanningFault::Obstacle { obstacle, .. }) => {
                Some(obstacle.conflicts.len())
            }
            Error::Group(GroupFault::Discord { conflicts, .. }) => Some(*conflicts),
            _ => None,
        };
        look.answer(&Failure {
            error: error.to_string(),
            advice: advice.clone(),
            exit_status: status(error),
            conflicts,
        });
    }
    for line in advice {
        look.talk(&format!("  {line}"));
    }
    status(error)
}

/// What to do about an error, line by line.
pub fn advice(error: &Error, common: &Common) -> Vec<String> {
    let advice = format!("{}{}", untouched(error), what_to_do(error, common));
    advice.lines().map(str::to_owned).collect()
}

/// The exit status of an error.
pub fn status(error: &Error) -> u8 {
    match error {
        Error::There { status, .. } => *status,
        Error::Planning(PlanningFault::Obstacle { .. })
        | Error::Planning(PlanningFault::NoWay { .. })
        | Error::Planning(PlanningFault::NotArmed(_))
        | Error::Planning(PlanningFault::Declined)
        | Error::Planning(PlanningFault::ToFetch(_))
        | Error::Group(GroupFault::Discord { .. } | GroupFault::ToFetch(_) | GroupFault::NoFirst)
        | Error::Changeover(ChangeoverFault::NothingToDo)
        | Error::Changeover(ChangeoverFault::NothingToUndo)
        | Error::Changeover(ChangeoverFault::BackupElsewhere(_))
        | Error::Changeover(ChangeoverFault::WorldUsed { .. })
        | Error::Changeover(ChangeoverFault::RestoredUsed { .. })
        | Error::Changeover(ChangeoverFault::NothingToResume) => NO,
        Error::Changeover(ChangeoverFault::RolledBack { .. }) => BACK,
        Error::Changeover(
            ChangeoverFault::Interrupted { .. } | ChangeoverFault::CutOffElsewhere { .. },
        ) => WAITING,
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
            | ChangeoverFault::Shared { .. }
            | ChangeoverFault::OwnRoom { .. }
            | ChangeoverFault::LinkLeaves { .. }
            | ChangeoverFault::WritesOwn { .. }
            | ChangeoverFault::NothingComes { .. }
            | ChangeoverFault::CutOffElsewhere { .. } => NOTHING,
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

fn what_to_do(error: &Error, common: &Common) -> String {
    let plan_again = plan_again(common);
    match error {
        Error::NotAFolder(_) => "Name a folder that is there: of a single file, the one that it lies in.".into(),
        Error::Far { .. } => "What can be done there: lantern docs guide".into(),
        Error::NotReached { source, .. } => match source.kind() {
            ErrorKind::ConnectionAborted | ErrorKind::TimedOut => {
                "See whether another program gets through by itself; how it is reached can be said with --through, --password-env or --password-file, or in lantern.toml.".into()
            }
            ErrorKind::InvalidInput | ErrorKind::PermissionDenied => {
                "Say where the password is: --password-env NAME or --password-file FILE, or in lantern.toml.".into()
            }
            ErrorKind::NotFound | ErrorKind::NotADirectory => {
                "Name a folder that is there, or a program that is here.".into()
            }
            ErrorKind::Unsupported => {
                "Take a lantern that is built with all its features, or another way to that machine.".into()
            }
            _ => "Ask whoever runs that machine.".into(),
        },
        Error::Address(_) => "Write it as sftp://USER@HOST/FOLDER; or ssh://, ftps:// or ftp://.".into(),
        Error::Session { fault, .. } => match fault {
            SessionFault::NotSent | SessionFault::Other(_) => {
                "Put this one there, with the group's file: lantern group send".into()
            }
            SessionFault::OtherKind(..) => {
                "Adopt the server from here, as a folder on another machine, and state its name in the group's file.".into()
            }
            SessionFault::NotTaken(_) => "Ask whoever runs that machine, or adopt the server from here, as a folder on another machine.".into(),
            SessionFault::Ended(_) | SessionFault::Broken(_) | SessionFault::Unread(_) => {
                "See whether the same command gets there by itself; what is under way there goes on, or was called off, and is found again by the same command.".into()
            }
        },
        Error::There { machine, advice, .. } => match &advice[..] {
            [] => String::new(),
            advice => format!("On {machine}:\n{}", advice.join("\n")),
        },
        Error::Misasked(_) => "Have both be the same lantern: lantern group send".into(),
        Error::NotSent(_) => "Run the same command again.".into(),
        Error::NoProgram { .. } => "Install it, or change the recipe in lantern.toml.".into(),
        Error::Release { .. } => "Download it again, or remove it from the folder.".into(),
        Error::OddPath(_) => "Rename it, or the folder that it lies in.".into(),
        Error::InTheWay(path) if path.to_string_lossy().ends_with(".catalogue.json") => {
            "Write over it with --again, or move it away first.".into()
        }
        Error::InTheWay(_) => "Name another file, or move that one away first.".into(),
        Error::Ledger { path, .. } => format!(
            "If it is broken beyond use, move it away and take every file in again, as it is now:\n\
             mv {0} {0}.broken\nlantern adopt {1} --again",
            shell_word(path),
            shell_word(&common.server)
        ),
        Error::Busy { .. } => "Wait until it is done.".into(),
        Error::BusyThere { .. } => format!(
            "Wait until that is done. If it has ended without a word, take over: {}",
            common.next("take-over")
        ),
        Error::Apart { .. } => format!(
            "To know what the other does, and keep what is known here beside it: {}",
            common.next("take-over")
        ),
        Error::MovedOn { .. } => {
            "It is known here now what was done there: ask once more.".into()
        }
        Error::NoFile(_) => format!("All files: {}", common.next("survey --files")),
        Error::ThinnedOut(number) => format!(
            "What has changed after it: {}",
            common.next(&format!("diff --since {}", number + 1))
        ),
        Error::Learned { path, .. } => format!("How it is written: lantern docs learned. Correct {}, or move it away: then nothing of it is known.", shell_word(path)),
        Error::NoFact(_) => format!("All that is known: {}", common.next("known")),
        Error::NoOperation { .. } => format!("All operations: {}", common.next("history")),
        Error::NewerState { .. } => {
            "Use that version of lantern, or a later one. Nothing was changed.".into()
        }
        Error::Catalogue { .. } => {
            "Get the catalogue again. What it must contain: lantern docs catalogue".into()
        }
        Error::NoCertificate(_) => {
            "Name a PEM file with certificates: lantern docs lantern-toml".into()
        }
        Error::NoKey { .. } => "See [[gather.key]]: lantern docs lantern-toml".into(),
        Error::WhichComponent(_) => "Name one as the listing calls it: --id ID".into(),
        Error::Listing { .. } => {
            "Correct the mapping: lantern docs listing. What it makes of an answer: lantern catalogue check FILE.listing.toml".into()
        }
        Error::Signing { path, fault } => of_signing(path, fault),
        Error::Web { fault, .. } => of_web(fault),
        Error::Archive { .. } => "Download it again. Nothing was written.".into(),
        Error::OtherArchive { .. } => {
            format!("Download it again; or, if it is meant to be a different one:\n{plan_again}")
        }
        Error::DiskFull { needed, free, .. } => format!(
            "{} are needed and {} are free. Make room; no file of the server was touched.",
            bytes(*needed),
            bytes(*free)
        ),
        Error::Io { path, source, .. } => of_system(path, source.kind()),
        Error::Version(_) | Error::Range(_) | Error::Path(_) => String::new(),
        Error::Acquire(fault) => of_acquire(fault),
        Error::Adopt(fault) => of_adopt(fault),
        Error::Backup(fault) => of_backup(fault, common),
        Error::Changeover(fault) => of_changeover(fault, common),
        Error::Config(fault) => of_config(fault, common),
        Error::Group(fault) => of_group(fault),
        Error::Console(fault) => of_console(fault, common),
        Error::Draw(fault) => of_draw(fault),
        Error::Planning(fault) => of_planning(fault, common),
        Error::Template { .. } => "What can stand in a template: lantern docs lantern-toml".into(),
        Error::Client(fault) => of_client(fault, common),
        Error::Rehearsal(fault) => of_rehearsal(fault, common),
        Error::Culprit(fault) => of_culprit(fault, common),
        Error::Night(fault) => of_night(fault, common),
        Error::Unattended(fault) => of_unattended(fault, common),
        Error::KeepUp(KeepUpFault::Off) => "Read what it does: lantern docs guide. Then allow it in lantern.toml, for releases that are so many days old:\n  [keep_up]\n  wait_days = 7".into(),
        Error::Survey(fault) => of_survey(fault, common),
    }
}

fn plan_again(common: &Common) -> String {
    format!("Make the plan again: {}", common.next("plan --to VERSION"))
}

/// What to do about what the system refuses.
fn of_system(path: &Path, kind: ErrorKind) -> String {
    if Address::is_meant(&path.to_string_lossy()) {
        return match kind {
            ErrorKind::PermissionDenied => {
                "See what the account may do there, in the page of the host.".into()
            }
            ErrorKind::ConnectionAborted | ErrorKind::TimedOut => {
                "See whether the machine is reached, then give the command again.".into()
            }
            ErrorKind::StorageFull | ErrorKind::QuotaExceeded => {
                "Make room there, then give the command again.".into()
            }
            // That the room of an account is used up, the protocol has no word for.
            ErrorKind::Other => "See in the page of the host whether the account has room left, of bytes and of files; then give the command again.".into(),
            _ => String::new(),
        };
    }
    let path = shell_word(path);
    match kind {
        ErrorKind::NotFound => "Check the path.".into(),
        ErrorKind::PermissionDenied => {
            format!("Run lantern as the user to whom it belongs. See who that is: ls -ld {path}")
        }
        ErrorKind::StorageFull | ErrorKind::QuotaExceeded => {
            format!("Make room, then give the command again. How much there is: df -h {path}")
        }
        ErrorKind::ReadOnlyFilesystem => format!("See how it is mounted: findmnt -T {path}"),
        ErrorKind::AlreadyExists => format!("See what it is: ls -ld {path}"),
        _ => String::new(),
    }
}

/// What to do about a signature.
fn of_signing(path: &Path, fault: &SigningFault) -> String {
    match fault {
        SigningFault::NoKey => "Correct it in lantern.toml: lantern docs lantern-toml".into(),
        SigningFault::Unsigned(_) | SigningFault::Wrong(_) | SigningFault::Older(_) => {
            "Nothing of it was used. Ask whoever publishes it; or, if the key has changed, state the new one in lantern.toml.".into()
        }
        SigningFault::Secret(_) => format!(
            "The password of a key is taken from LANTERN_KEY_PASSWORD. Make a new key in another file with --new-key, or name another one than {}.",
            shell_word(path)
        ),
    }
}

/// What to do about an address that gives nothing.
fn of_web(fault: &WebFault) -> String {
    match fault {
        WebFault::NoAddress => "Write it as http://… or https://….".into(),
        WebFault::HostNotFound(_) => "Check the address, and whether this machine is on the network.".into(),
        WebFault::Certificate { .. } => {
            "Nothing was fetched. If that host is your own, state its certificate: [gather] ca, see lantern docs lantern-toml".into()
        }
        WebFault::Proxy => "Correct http_proxy, https_proxy or all_proxy in the environment.".into(),
        WebFault::Page => "Open the address in a browser, and see what it wants.".into(),
        WebFault::Status { status: 401 | 403, .. } => {
            "State the key that it wants: [[gather.key]], see lantern docs lantern-toml".into()
        }
        fault if fault.may_pass() => "Try it again in a while.".into(),
        _ => String::new(),
    }
}

fn of_acquire(fault: &AcquireFault) -> String {
    match fault {
        AcquireFault::NoRecipe => "Write one: [acquire], see lantern docs lantern-toml.".into(),
        AcquireFault::NothingWanted | AcquireFault::Range(_) => {
            "What can be said there: [acquire], see lantern docs lantern-toml".into()
        }
        AcquireFault::Runtime { .. } | AcquireFault::NoRuntime { .. } => {
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
        AdoptFault::NoHome => "Set HOME, or XDG_DATA_HOME.".into(),
        AdoptFault::NoName => "Name it: --name NAME.".into(),
        AdoptFault::Plain => {
            "See whether the host takes ftps:// or sftp://. If it does not, and that is how it is to be: --plain".into()
        }
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
        BackupFault::Store { .. } => format!("See what is intact: {}", common.next("backup check")),
        BackupFault::Shelf { .. } => {
            "lantern.toml says where it is: [backup]. What is stored there stays as it is.".into()
        }
        BackupFault::Key { .. } => {
            "lantern.toml names the file of the key: key in [backup]. Without the right key, nobody can read the store.".into()
        }
        BackupFault::TooLong => {
            "No backup was made. Make it again: what was stored now need not be stored again.".into()
        }
        BackupFault::StorePlace { .. } => {
            "lantern.toml names it: store in [backup]. Nothing was stored.".into()
        }
    }
}

fn of_changeover(fault: &ChangeoverFault, common: &Common) -> String {
    let plan_again = plan_again(common);
    match fault {
        ChangeoverFault::WorldUsed { old, new, .. } if old == new => format!(
            "Nothing was changed. Add-ons may have written the world in a form that the old ones cannot read. Choose one:\n\
             the world of the backup; what was done since is set aside: {}\n\
             the world as it is now: {}",
            common.next("undo --with-world"),
            common.next("undo --keep-world")
        ),
        ChangeoverFault::WorldUsed { old, new, .. } => format!(
            "Nothing was changed. {new} may have written the world in a form that {old} cannot read. Choose one:\n\
             the world of the backup; what was done since is set aside: {}\n\
             the world as it is now, if you know that {old} can read it: {}",
            common.next("undo --with-world"),
            common.next("undo --keep-world")
        ),
        ChangeoverFault::RestoredUsed { .. } => format!(
            "Nothing was changed. Choose one:\n\
             the world as it was before the restore; what was done since is set aside: {}\n\
             the world as it is now, while all other files go back: {}",
            common.next("undo --with-world"),
            common.next("undo --keep-world")
        ),
        ChangeoverFault::BackupElsewhere(_) => format!(
            "Nothing was changed. Whoever made it can go back with the world, from his machine.\n\
             To leave the world as it is now, if you know that the version before can read it: {}",
            common.next("undo --keep-world")
        ),
        ChangeoverFault::CalledBack | ChangeoverFault::TurnedBack(_) => String::new(),
        ChangeoverFault::CutOffElsewhere { .. } => format!(
            "Whoever began it can go on or back from his machine. Or put it back from here: {}",
            common.next("take-over")
        ),
        ChangeoverFault::NotTaken { .. } => format!(
            "The server was not stopped. See what the account may do there; to carry the plan out by hand: {}",
            common.next("bundle --out up.zip")
        ),
        ChangeoverFault::Undecided { .. } => format!(
            "Nothing was touched. Decide each: {}\nor all at once: {}",
            common.next("settings decide ID mine"),
            common.next("plan --again --mine")
        ),
        ChangeoverFault::LinksChanged { path } => {
            format!("Nothing was touched. Make {path} what it was, and repeat the command.")
        }
        ChangeoverFault::CalledOff(OperationKind::Undo) => {
            format!("To go back later: {}", common.next("undo"))
        }
        ChangeoverFault::NotEmpty(_) => {
            "Let it wait until nobody is on: changeover --at TIME --when-empty".into()
        }
        ChangeoverFault::CalledOff(_) => {
            format!("The plan is still there: {}", common.next("changeover"))
        }
        ChangeoverFault::Shared { pid, .. } => {
            format!("Stop it first. What it is: ps -fp {pid}")
        }
        ChangeoverFault::NeedsDown { .. } => {
            format!("Stop it first: {}", common.next("console stop"))
        }
        ChangeoverFault::Interrupted { stuck, .. } => {
            let first = match stuck {
                Some(Stuck::StillStopping) => format!(
                    "See what it is doing: {}\nTo kill it: {}\nWhen it is down, ",
                    common.log("output.log"),
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
            "Install that program first, in the way the present one was installed. Then write server_version = \"{wanted}\" in {}.",
            shell_word(&common.near("lantern.toml"))
        ),
        ChangeoverFault::WritesKept { .. } => plan_again,
        ChangeoverFault::OtherDisk { .. } => {
            "Lantern exchanges files by renaming only, so that nothing is ever half written:\n\
             what a plan exchanges must be on the same disk as the server folder."
                .into()
        }
        ChangeoverFault::StoredOnOtherDisk { path, name } => {
            let top = path.as_str().split('/').next().unwrap_or_default();
            format!(
                "Restore it to another folder, and exchange it yourself with the server down:\n{}",
                common.next(&format!(
                    "backup restore {} {} --to DIR",
                    shell_word(Path::new(name)),
                    shell_word(Path::new(top))
                ))
            )
        }
        ChangeoverFault::FolderChanged { .. } | ChangeoverFault::OtherText { .. } => plan_again,
        ChangeoverFault::OwnRoom { path } => {
            format!("Make {path} a folder, or remove it: lantern makes a new one.")
        }
        ChangeoverFault::LinkLeaves { .. } | ChangeoverFault::WritesOwn { .. } => {
            "Lantern makes no such plan: do not carry it out.".into()
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
        } => {
            format!(
                "{}{}{}{}{}",
                last_words(last),
                lost.iter()
                    .map(|path| format!("Missing, and so not put back: {path}\n"))
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
                all_printed(common)
            ) + &format!(
                "\nWhich of what moved makes it fail: {}",
                common.next("culprit")
            )
        }
        ChangeoverFault::GivenUp { wrong, cause, .. } => {
            let cause = cause
                .as_ref()
                .and_then(|cause| cause.downcast_ref::<Error>());
            let why = cause
                .map(|cause| what_to_do(cause, common))
                .unwrap_or_default();
            format!(
                "{}{why}\nIf that was a passing fault, give the same command again.",
                wrong_now(wrong)
            )
        }
        ChangeoverFault::NothingToUndo | ChangeoverFault::NothingToResume => String::new(),
        ChangeoverFault::Lost { .. } => {
            "It was moved while lantern worked. Find it and put it back, then: lantern undo".into()
        }
    }
}

fn of_config(fault: &ConfigFault, common: &Common) -> String {
    match fault {
        ConfigFault::NotAdopted(path) => format!(
            "Take it into care first: lantern adopt {}\nOr name the right folder with --server DIR.",
            shell_word(path)
        ),
        ConfigFault::IsThere(_) => {
            "Give the command there, or for the whole group: lantern group --help".into()
        }
        ConfigFault::UnknownFamily { .. } => {
            "Name one of these, or a file that ends in .family.toml.".into()
        }
        ConfigFault::Text { path, .. } if path.iter().any(|name| name == ".lantern") => format!(
            "Lantern wrote it, and it has been damaged since. Move it away, and see what state the files are in:\n\
             mv {0} {0}.broken\n{1}",
            shell_word(path),
            common.next("survey --edited")
        ),
        ConfigFault::Text { path, .. } => {
            format!("Correct it in {}. The keys: lantern docs", path.display())
        }
        ConfigFault::OtherFolder {
            here,
            is_still_there: true,
            ..
        } => format!(
            "Nothing was done. This is a copy of it. To make it a server of its own: lantern adopt {} --copy",
            shell_word(Path::new(here))
        ),
        ConfigFault::StillThere(there) => format!(
            "If that one is not to be used again, take it out of care first: mv {0}/lantern.toml {0}/lantern.toml.old",
            shell_word(there)
        ),
        ConfigFault::OtherFolder { here, .. } => {
            let here = shell_word(Path::new(here));
            format!(
                "Nothing was done. Which is it?\n\
                 The same server, which was moved here: lantern adopt {here} --moved\n\
                 A copy, and so a server of its own: lantern adopt {here} --copy"
            )
        }
        ConfigFault::OwnFolder(_) => "There is nothing to settle.".into(),
        ConfigFault::NoSuchServer { .. } => {
            "Nothing was done. They stand in lantern.toml, as [[server]].".into()
        }
        ConfigFault::WhichServer(names) => format!(
            "Say which one is meant: --of {}",
            names.first().map_or("NAME", String::as_str)
        ),
        ConfigFault::Family { .. } => "The keys: lantern docs family".into(),
        ConfigFault::Group { .. } => "The keys: lantern docs group".into(),
        ConfigFault::WhichGroup(files) => match files.first() {
            Some(file) => format!("Name one, as in: lantern group survey {}", shell_word(file)),
            None => "Make one: lantern docs group shows what stands in it".into(),
        },
    }
}

fn of_group(fault: &GroupFault) -> String {
    match fault {
        GroupFault::NotArmed(_) => {
            "Nothing was begun. Plan for all of them: lantern group plan --to VERSION".into()
        }
        GroupFault::Some { .. } | GroupFault::Own(_) => {
            "Nothing was armed. Each of them by itself: lantern plan --server NAME".into()
        }
        GroupFault::NobodyThere => {
            "State one as at = \"ssh://USER@HOST/FOLDER\", where a lantern is to work that is there: lantern docs group".into()
        }
        GroupFault::WhichProgram(each) => {
            let ids: BTreeSet<&Id> = each.iter().map(|(id, _)| id).collect();
            let each: Vec<String> = ids.iter().map(|id| format!("--to {id}=VERSION")).collect();
            format!(
                "Nothing was armed. Say it of each, or of all but one: {}; \"same\" keeps what is installed.",
                each.join(" ")
            )
        }
        GroupFault::ToTwice(_) => "Nothing was armed. Say it once of each program.".into(),
        GroupFault::OtherProgram { .. } => "Nothing was armed. Name one of these.".into(),
        GroupFault::NoFirst => "Nothing was begun. All of them: lantern group changeover".into(),
        GroupFault::ToFetch(files) => {
            let sum: u64 = files.iter().filter_map(|(_, it)| it.supply.bytes).sum();
            format!(
                "Nothing was armed. Give the same command with --gather, which fetches them: {} as far as that is stated.",
                bytes(sum)
            )
        }
        GroupFault::Discord { apart, .. } if apart.is_empty() => "Nothing was armed.".into(),
        GroupFault::Discord { apart, .. } => {
            let each: Vec<String> = apart.iter().map(|id| format!("\"{id}\"")).collect();
            format!(
                "Nothing was armed. It fits where servers carry releases of their own of it: own = [{}] for them in the group's file.",
                each.join(", ")
            )
        }
    }
}

/// Where all is that a failed start has printed; nothing where it went elsewhere than through lantern.
fn all_printed(common: &Common) -> String {
    let log = "output.previous.log";
    let several = common.near(".lantern/console/servers").is_dir();
    match several || common.near(".lantern/console").join(log).is_file() {
        true => format!(" Everything the failed start printed: {}", common.log(log)),
        false => String::new(),
    }
}

fn of_console(fault: &ConsoleFault, common: &Common) -> String {
    match fault {
        ConsoleFault::Unseen { .. } => {
            "Run lantern as the user to whom the server belongs; where it runs on another machine, at a terminal, where you can be \
             asked; or state how to find out: state in [console.run], see lantern docs lantern-toml."
                .into()
        }
        ConsoleFault::NoLine => {
            "See [console.line]: lantern docs lantern-toml. Its remote console, or a command line that gets there.".into()
        }
        ConsoleFault::NotByHand { .. } => {
            "How long you are waited for: by_hand_s in [limits], see lantern docs lantern-toml.".into()
        }
        ConsoleFault::NoConsole { .. } => format!(
            "Stop the server yourself, then start it with lantern:\n{}",
            common.next("console start")
        ),
        ConsoleFault::DidNotStop { .. } => format!(
            "See what it is doing: {}\nTo kill it: {}",
            common.log("output.log"),
            common.next("console stop --kill")
        ),
        ConsoleFault::StartedAgain { .. } => {
            "Stop what starts it again, or give lantern its command lines: \
             [console.run], see lantern docs lantern-toml."
                .into()
        }
        ConsoleFault::NoAnswer { .. } => format!("Is it busy? See: {}", common.next("verify")),
        ConsoleFault::CommandLine { .. } => "It is run in the server folder. Correct it in lantern.toml.".into(),
        ConsoleFault::Remote { .. } => {
            "Is the server up, and its remote console switched on? lantern.toml says where it is: [console.line]".into()
        }
        ConsoleFault::Second { .. } => {
            "Nothing was stopped, and no file was touched. Find out what it is, and end it first: it may be a second server on \
             the same world."
                .into()
        }
        ConsoleFault::DidNotStart { last, .. } => printed(last, common),
        ConsoleFault::CalledOff | ConsoleFault::CalledBack => String::new(),
        ConsoleFault::AlreadyUp { .. } => format!("See: {}", common.next("console state")),
    }
}

fn of_draw(fault: &DrawFault) -> String {
    match fault {
        DrawFault::NoVariant { id, variants } => format!(
            "Choose one; it is remembered: --variant {id}={}",
            variants.first().map_or("NAME", String::as_str)
        ),
        DrawFault::OtherVariants { id, variants, .. } => {
            let first = variants.first().map_or("NAME", String::as_str);
            format!("Choose another: --variant {id}={first}")
        }
        DrawFault::InPack { member, .. } => {
            format!("Nothing was changed. To use the pack's instead: --drop {member}")
        }
        DrawFault::LeavesWorld { pack, member, .. } => format!(
            "Nothing was changed. Install it beside the pack: --add {member}\n\
             or keep the pack as it is: --keep {pack}\n\
             or lose what the world holds of it: --drop {member} --world-loses {member}"
        ),
        DrawFault::WritesKept { .. } => {
            "Nothing was changed. --beside puts such files beside yours, as *.new; or leave that release out.".into()
        }
        DrawFault::Empty { .. } => {
            "Nothing was changed. See what is in that download, and how the family's reader looks for it.".into()
        }
        DrawFault::LinkLeaves { .. } => {
            "Nothing was changed. Leave that release out, or tell its maker: its links must stay inside it.".into()
        }
        DrawFault::InTheWay { are_settings: true, .. } => {
            "Nothing was changed. What lies there are settings of your own (`layout.settings` of the family): --beside puts \
             the release's beside them, as *.new."
                .into()
        }
        DrawFault::InTheWay { id, owner: None, scattered: Some(version), .. } => format!(
            "Nothing was changed. What {id} {version} put outside its own folder is not known. Put its download, that of \
             {version}, into a drop folder and plan once: what is its own is known from then on. Or move away what you do not need."
        ),
        DrawFault::InTheWay { id, owner: None, .. } => {
            format!("Nothing was changed. Move that away first, if you do not need it; or leave {id} as it is.")
        }
        DrawFault::NoPlace { .. } => {
            "Nothing was changed. Say it there, such as install = \"FOLDER/{file}\" for the download's own name.".into()
        }
        DrawFault::WritesOwn { .. } => "Nothing was changed. No release has any business there: leave it out.".into(),
        DrawFault::KeptInside { .. } => {
            "Nothing was changed. Rename it yourself with the server down, with all that is in it. Then plan again.".into()
        }
        DrawFault::NoWord { .. } => {
            "Nothing was changed. Leave that release out: no honest one has such a name.".into()
        }
        DrawFault::NoEntry { id } => format!(
            "Nothing was changed. See whether the file says twice what is started, and keep one; \
             where its lines are numbered, and others name those numbers, change it by hand; \
             or leave {id} out: no honest add-on has blanks or marks in its id."
        ),
        DrawFault::NoOrderFile { .. } => {
            "Nothing was changed. Put the file back from a backup, write it as the server wants it, or start the server once so that it writes one; then plan again.".into()
        }
        DrawFault::NoSwitch { path, .. } => format!(
            "Nothing was changed. Write it into {path} as the server wants it, or see whether `switch` in the family file still fits; then plan again."
        ),
        DrawFault::NoExample { path, .. } => format!(
            "Nothing was changed. Write an entry into {path} as the server wants it, or see whether the family file still fits; then plan again."
        ),
        DrawFault::Pin { .. } => "Nothing was changed. Write it there yourself, as a plain word, and plan again.".into(),
        DrawFault::NoCopy { id, .. } => format!(
            "Put the installed release of {id} into the drop folder, and name that with --from."
        ),
        DrawFault::Unwritable { path } => {
            format!("Nothing was changed. Save {path} as UTF-8 text in an editor, and plan again.")
        }
        _ => "Leave that release out, or ask its maker.".into(),
    }
}

fn of_client(fault: &ClientFault, common: &Common) -> String {
    match fault {
        ClientFault::NoSuchKind { .. } => {
            format!("See who may join: {}", common.next("client who"))
        }
        ClientFault::Words { .. } => "The keys: lantern docs lantern-toml".into(),
        ClientFault::NoEdition { .. } => {
            "Put the release for clients there that is of this version; nothing was written.".into()
        }
        ClientFault::EditedByPlan(_) => "Pack it after the changeover.".into(),
        ClientFault::Changed(_) => {
            "Something is writing it, or the disk is not to be trusted. Try again.".into()
        }
        ClientFault::WritesKept { .. } => "Name another file with --out.".into(),
        ClientFault::InTheWay(_) => "Name another file, or write over it: --yes".into(),
        ClientFault::Form(FormFault::NoAddress(_)) => {
            "State in lantern.toml below which address they lie: players_at = \"https://…\".".into()
        }
        ClientFault::Form(FormFault::Template { .. }) => {
            "What can stand in a template: lantern docs client-list".into()
        }
        ClientFault::Nowhere(_) | ClientFault::NoList { .. } => String::new(),
        ClientFault::NoEarlier { .. } => {
            "Name an earlier list or pack instead: --since FILE".into()
        }
    }
}

fn of_planning(fault: &PlanningFault, common: &Common) -> String {
    let plan_again = plan_again(common);
    match fault {
        PlanningFault::ToFetch(wanted) => {
            let size = |it: &Wanted| it.supply.bytes.map_or("size unknown".into(), bytes);
            let each = wanted
                .iter()
                .map(|it| format!("{} ({}), {}\n", it.what, it.supply.name, size(it)));
            let each: String = each.collect();
            let sum: u64 = wanted.iter().filter_map(|it| it.supply.bytes).sum();
            let (sum, next) = (bytes(sum), common.next("gather"));
            format!("{each}{sum} in all. Fetch them: {next}")
        }
        PlanningFault::NoServerVersion | PlanningFault::OneOutside(_) => String::new(),
        PlanningFault::CutOff(cuts) => {
            let mends = match cuts.iter().any(|(_, cut)| cut.can_be_mended()) {
                true => format!(
                    "Nothing was started. Mend it: {}\n",
                    common.next("plan --to same")
                ),
                false => "Nothing was started. Correct it in an editor.\n".into(),
            };
            format!("{mends}Or start it as it is, with --anyway.")
        }
        PlanningFault::PatchName(_) => "Letters, digits, - _ . and at most 60 of them.".into(),
        PlanningFault::PatchTaken(name) => format!(
            "Choose another name, or let that one go: {}",
            common.next(&format!("settings unkeep {name}"))
        ),
        PlanningFault::NoPatch { .. } => format!("See which there are: {}", common.next("settings kept")),
        PlanningFault::Patch { .. } => {
            "Nothing was changed. A patch is a unified diff of one file, with its path in the server folder behind +++.".into()
        }
        PlanningFault::NothingToKeep { path, .. } => format!("See what you changed: {}", common.next(&format!("diff {path}"))),
        PlanningFault::SecretInPatch(_) => "Nothing was kept. Leave that line out of it.".into(),
        PlanningFault::PatchOfOwn(_) => String::new(),
        PlanningFault::PatchMisfit { name, .. } => format!(
            "Nothing was changed. Look at it: {}",
            common.next(&format!("settings kept {name}"))
        ),
        PlanningFault::NoSample(path) => format!(
            "Name one: {}",
            common.next(&format!("settings compare {path} SAMPLE"))
        ),
        PlanningFault::WhichSample { path, samples } => {
            let each = samples.iter().map(|sample| common.next(&format!("settings compare {path} {sample}")));
            each.collect::<Vec<_>>().join("\n")
        }
        PlanningFault::NothingToWrite { .. } => format!(
            "It is for files that you and a release both changed, while the plan is armed: {}",
            common.next("plan --again")
        ),
        PlanningFault::StillMarked { .. } => {
            "Nothing was decided. Leave the lines that are to be, and take the marks away.".into()
        }
        PlanningFault::NotDown(path) => format!(
            "Nothing was written. Stop it first ({}), or leave out --now and let a changeover write {path}.",
            common.next("console stop")
        ),
        PlanningFault::Decisions { .. } => {
            "Correct it in an editor, or take it away: then everything is asked again.".into()
        }
        PlanningFault::NoValue { id, .. } => common.next(&format!("settings decide {id} theirs")),
        PlanningFault::NoSuchDecision(_) => {
            format!("See which there are: {}", common.next("settings decided"))
        }
        PlanningFault::NoEditor(_) => {
            "Set EDITOR to the program that you write with, or give a finished text: --with FILE.".into()
        }
        PlanningFault::EditorFailed { .. } => "Nothing was decided.".into(),
        PlanningFault::NoQuestion => format!("Ask first: {}", common.next("plan --to VERSION")),
        PlanningFault::NoSuchQuestion { .. } => format!("See what it asks: {}", common.next("plan --again")),
        PlanningFault::NotSettable { .. } => {
            "Nothing was changed. Notations known by name: .toml, .json, .yaml, .ini, .cfg, .conf, .properties, .xml, and assignments in scripts; others the family states in [[settings]].".into()
        }
        PlanningFault::CarriedTwice { id, .. } => format!(
            "One release of {id} has to fit both, and two copies of it are not kept alike. Put one where both load it from, and take these away."
        ),
        PlanningFault::MovesAfar(_) => {
            "Nothing was changed. Move it there yourself, with the server down; the next survey sees it. Then plan again, without the switch.".into()
        }
        PlanningFault::NothingUpdates => {
            "If something does, say how it is known: `updates` in [launch] of lantern.toml.".into()
        }
        PlanningFault::SharesLine { .. } => {
            "Nothing was changed. Give it a line of its own outside of all else, or move it yourself.".into()
        }
        PlanningFault::Switch(fault) => match fault {
            SwitchFault::NotThere { .. } => {
                format!("What is installed: {}", common.next("survey"))
            }
            SwitchFault::Always(id) => {
                format!(
                    "Remove it: {}",
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
            SwitchFault::ForAll(_) => "Plan without --of: then it is switched for all of them.".into(),
            SwitchFault::NoSwitch(_) | SwitchFault::Both(_) => String::new(),
        },
        PlanningFault::NoSuch { .. } => format!(
            "What is installed: {}; what is on offer depends on --catalogue and --from.",
            common.next("survey")
        ),
        PlanningFault::NoLatest(id) => {
            format!(
                "Name a version: --keep {id}=VERSION. What is on offer depends on --catalogue and --from."
            )
        }
        PlanningFault::NoPart(_) => format!("What is installed: {}", common.next("survey")),
        PlanningFault::WorldLoses(ids) => {
            let words: Vec<String> = ids.iter().map(|id| format!("--world-loses {id}")).collect();
            format!("If that is all right, add {}.", words.join(" "))
        }
        PlanningFault::Admit(_) => "Write --admit KIND=VERSION.".into(),
        PlanningFault::NoSuchClient { .. } => {
            format!("See who may join: {}", common.next("client who"))
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
                "Make another plan: {}{}",
                common.next("plan --to VERSION"),
                again.unwrap_or_default()
            )
        }
        PlanningFault::NothingAside(number) | PlanningFault::NotAside { number, .. } => format!(
            "What it did set aside: {}",
            common.next(&format!("history {number}"))
        ),
        PlanningFault::KeptAside(_) => "Nothing was changed.".into(),
        PlanningFault::OtherName { .. } => {
            format!("Make a new one: {}", common.next("plan --to VERSION"))
        }
        PlanningFault::NotConfirmed(without) => format!("Nothing was changed. To do it: {without}"),
        PlanningFault::Declined => "Nothing was changed.".into(),
        PlanningFault::Obstacle { .. } => "Nothing was changed.".into(),
        PlanningFault::NoWay { .. } => format!(
            "See which versions can be reached: {}",
            common.next("outlook --catalogue FILE")
        ),
        PlanningFault::ProofOverRequest(_) => "Name another file with --proof.".into(),
        PlanningFault::Request { .. } => {
            "Where it was cut short, copy or save it again. The keys: lantern docs request".into()
        }
        PlanningFault::NoRequest => format!("Ask for one: {}", common.next("plan --to VERSION")),
    }
}

fn of_rehearsal(fault: &RehearsalFault, common: &Common) -> String {
    match fault {
        RehearsalFault::OwnPath { .. } => {
            "Nothing was copied. Write the path relative to the folder; then it can be rehearsed."
                .into()
        }
        RehearsalFault::OwnPort { .. } => {
            "Nothing was copied. State the port there, or mend `console.port` of the family; or stop the server first."
                .into()
        }
        RehearsalFault::Touched { .. } => format!(
            "Find out which of its settings lead there, and compare with the last backup: {}",
            common.next("backup list")
        ),
        RehearsalFault::CalledOff => "The live server was not touched.".into(),
    }
}

fn of_night(fault: &NightFault, common: &Common) -> String {
    match fault {
        NightFault::AlreadyWaits(_) => {
            format!("Call that one off first: {}", common.next("changeover --call-off"))
        }
        NightFault::NothingWaits | NightFault::HasBegun => format!("How the server is: {}", common.next("status")),
        NightFault::NeedsPerson => "State a way to stop and start it: console.run, see lantern docs lantern-toml. Or carry it out while you are there.".into(),
        NightFault::CannotTell(_) => {
            "Leave --when-empty out; or see that the server is up and can be asked: console.players of its family.".into()
        }
        NightFault::Past => "Name a later one: 04:00 is the next time that it is four.".into(),
        NightFault::EndedAtOnce => format!(
            "What it said: {}",
            shell_word(&common.near(".lantern/night.log"))
        ),
    }
}

fn of_unattended(
    UnattendedFault::NotLeft { asked, may }: &UnattendedFault,
    common: &Common,
) -> String {
    let mut told = "Nothing was stopped, and no file was touched.".to_owned();
    let is_unrehearsed = |(matter, _): &&(Matter, String)| *matter == Matter::Unrehearsed;
    if asked.iter().any(|asked| is_unrehearsed(&asked)) {
        told += &format!(" Carry it out on a copy first: {}", common.next("rehearse"));
    }
    let others = asked.iter().filter(|asked| !is_unrehearsed(asked));
    let others: Vec<&Matter> = others.map(|(matter, _)| matter).collect();
    if !others.is_empty() {
        let words = may.iter().chain(others);
        let words: Vec<String> = words.map(|word| format!("{:?}", word.as_str())).collect();
        told += &format!(
            "\nCarry it out while you are there; or leave that to it, in lantern.toml:\n  [unattended]\n  may = [{}]",
            words.join(", ")
        );
    }
    told
}

fn of_culprit(fault: &CulpritFault, common: &Common) -> String {
    match fault {
        CulpritFault::NotOnOffer { .. } | CulpritFault::OtherQuestion => {
            format!("Nothing was started. {}", plan_again(common))
        }
        CulpritFault::NothingMoves => format!(
            "Nothing was started. What the server says of itself: {}",
            common.next("verify")
        ),
    }
}

fn of_survey(fault: &SurveyFault, common: &Common) -> String {
    match fault {
        SurveyFault::NotInstalled { .. } => format!("What is installed: {}", common.next("survey")),
        SurveyFault::SeveralOrderFiles { .. } => {
            "Keep one server in each folder, or write a family file that names the file.".into()
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
    let log = common.log("output.log");
    format!("{}Everything it printed: {}", last_words(last), log)
}

/// The last lines that a server printed, under a heading.
fn last_words(last: &[String]) -> String {
    if last.is_empty() {
        return String::new();
    }
    let lines: String = last.iter().map(|line| format!("  | {line}\n")).collect();
    format!("Its last words:\n{lines}")
}
