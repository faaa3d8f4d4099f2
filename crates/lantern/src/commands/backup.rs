//! `lantern backup`

use super::{armed, open_settled, open_to_look, tell_unshared};
use crate::answers;
use crate::by_hand::AtHand;
use crate::candidates;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count, date};
use crate::progress::{Progress, during};
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates;
use lantern_core::path::RelPath;
use lantern_host::backup::ahead::ahead;
use lantern_host::backup::fault::BackupFault;
use lantern_host::backup::{self, Checked, Label, Page, PutThere, Scope, Thinned};
use lantern_host::changeover::{self, Restored};
use lantern_host::config::Server;
use lantern_host::console::{Console, ServerState};
use lantern_host::ledger::Ledger;
use lantern_host::{Error, Result, history};
use std::path::{Path, PathBuf};

/// Make, list, check, restore and thin out backups
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern backup make before-the-party --note \"all is well\"\n  lantern backup restore latest --to DIR\n  lantern backup thin --keep 5 --dry-run"
)]
pub struct BackupArgs {
    #[command(subcommand)]
    what: BackupCommand,
}

#[derive(Debug, Subcommand)]
enum BackupCommand {
    /// Back up every file of the server folder, each content once
    Make {
        /// A name of your own: it is not thinned out with the others
        name: Option<String>,
        /// Only what is on the keep list: worlds, players
        #[arg(long)]
        kept: bool,
        /// A note to find it again by
        #[arg(long, value_name = "TEXT")]
        note: Option<String>,
    },
    /// List all backups
    List {
        /// Those of the other servers, too, whose backups lie in the same store
        #[arg(long)]
        all: bool,
    },
    /// Show what a backup holds
    Show {
        /// Its name, "latest", or the beginning of it
        #[arg(add = ArgValueCandidates::new(candidates::backups))]
        name: String,
    },
    /// Read everything and verify it
    Check {
        /// Only so much of a hundred, drawn anew each time
        #[arg(long, value_name = "PERCENT", value_parser = percent)]
        sample: Option<f64>,
    },
    /// Make a key to seal a store of backups with
    Key {
        /// The file, which must not be there yet
        file: PathBuf,
    },
    /// Put a backup, or a part of it, into another folder, or back where it came from
    Restore {
        /// Its name, "latest", or the beginning of it
        #[arg(add = ArgValueCandidates::new(candidates::backups))]
        name: String,
        /// Files or folders in it; all without any
        paths: Vec<String>,
        /// The folder, which must not be there yet
        #[arg(long, value_name = "DIR", required_unless_present = "in_place")]
        to: Option<PathBuf>,
        /// Back into the server folder, with the server down; what is there now is set aside
        #[arg(long, conflicts_with = "to")]
        in_place: bool,
    },
    /// Delete all but the last N backups, those that you named, and those that an undo would need; after asking
    Thin {
        /// How many stay
        #[arg(long, value_name = "N")]
        keep: usize,
        /// Those that you named, too
        #[arg(long)]
        named: bool,
        /// Only say which would go
        #[arg(long)]
        dry_run: bool,
    },
    /// Delete one backup, after asking
    Rm {
        /// Its name, "latest", or the beginning of it
        #[arg(add = ArgValueCandidates::new(candidates::backups))]
        name: String,
    },
}

/// Does what is asked with backups.
pub fn run(args: &BackupArgs, common: &Common, look: &Look) -> Result<u8> {
    if let BackupCommand::Key { file } = &args.what {
        return make_key(file, look);
    }
    let only_looks = matches!(
        args.what,
        BackupCommand::List { .. } | BackupCommand::Show { .. }
    );
    let (mut server, _lock) = match only_looks {
        true => (open_to_look(common, look)?.server, None),
        false => open_settled(common, look, "backup").map(|(server, lock)| (server, Some(lock)))?,
    };
    AtHand::at(&mut server, look);
    let server = &server;
    match &args.what {
        BackupCommand::Make { name, kept, note } => {
            let wish = (name.as_deref(), note.as_deref());
            make(server, *kept, wish, common, look)
        }
        BackupCommand::List { all } => list(server, *all, common, look),
        BackupCommand::Key { .. } => unreachable!("it needs no server"),
        BackupCommand::Show { name } => show(server, &backup::named(server, name)?, look),
        BackupCommand::Check { sample } => check(server, *sample, look),
        BackupCommand::Restore {
            name, paths, to, ..
        } => {
            let paths: std::result::Result<Vec<RelPath>, _> =
                paths.iter().map(|path| RelPath::parse(path)).collect();
            let name = backup::named(server, name)?;
            match to {
                Some(to) => restore(server, &name, &paths?, to, look),
                None => restore_in_place(server, &name, &paths?, common, look),
            }
        }
        BackupCommand::Thin {
            keep,
            named,
            dry_run,
        } => thin(server, (*keep, *named, *dry_run), common, look),
        BackupCommand::Rm { name } => remove(server, name, common, look),
    }
}

fn make(
    server: &Server,
    kept: bool,
    (named, note): (Option<&str>, Option<&str>),
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let each = server.each();
    let states = each.iter().map(|one| Console::of(one).state());
    let mut states: Vec<ServerState> = states.collect::<Result<_>>()?;
    states.retain(|state| *state != ServerState::Down);
    let up = !states.is_empty();
    let scope = if kept { Scope::Kept } else { Scope::Everything };
    if let Some(ahead) = ahead(server, scope)? {
        look.talk(&format!("Fetching {}.", armed::fetched(&ahead, "")));
    }
    let pass = during("files are stored", || backup::pass_of(server, scope, None));
    let pass = pass?;
    let day = jiff::Zoned::now().strftime("%Y-%m-%d");
    let odd = ['/', '.', ' '];
    let name = match named {
        Some(name) => name.replace(odd, "-"),
        None => format!("{}-{day}", server.config.name.replace(odd, "-")),
    };
    let label = Label {
        name: &name,
        note,
        named: named.is_some(),
    };
    let page = backup::finish(server, &pass, &label)?;
    let name = &page.name;
    if look.json {
        look.answer(&answers::BackupMade {
            name: page.name,
            files: page.files,
            bytes: page.bytes,
            stored_bytes: page.stored_bytes,
            while_up: up,
            left_out: pass.left_out,
        });
        return Ok(fail::DONE);
    }
    let text = format!(
        "{name}: {}, {}; the store grew by {}.",
        count(pass.files(), "file", "files"),
        bytes(pass.bytes()),
        bytes(page.stored_bytes)
    );
    look.say(&look.paint(Means::Good, &text));
    if !pass.left_out.is_empty() {
        let text = format!(
            "  not in it, as they are links or have odd names: {}",
            pass.left_out.join(", ")
        );
        look.say(&look.paint(Means::Caution, &text));
    }
    if up {
        let is_unknown = |state: &ServerState| matches!(state, ServerState::Unknown { .. });
        let is = match states.iter().all(is_unknown) {
            true => "may be",
            false => "is",
        };
        let note = format!(
            "  note: the server {is} up; a file that it was writing may be incomplete. A changeover backs up again after the stop."
        );
        look.say(&look.paint(Means::Caution, &note));
    }
    look.next(&common.next("backup list"));
    Ok(fail::DONE)
}

fn percent(text: &str) -> std::result::Result<f64, String> {
    let number: Option<f64> = text.trim_end_matches('%').parse().ok();
    let number = number.filter(|number| *number > 0.0 && *number <= 100.0);
    number.ok_or_else(|| "it has to be more than 0 and at most 100".into())
}

fn make_key(file: &Path, look: &Look) -> Result<u8> {
    let mark = backup::make_key(file)?;
    if look.json {
        look.answer(&answers::KeyMade {
            path: file.display().to_string(),
            mark,
        });
        return Ok(fail::DONE);
    }
    let word = shell_word(file);
    look.say(&look.paint(Means::Good, &format!("The key {mark} is in {word}.")));
    look.say("  Without it, nobody can read what is sealed with it, you included: keep a copy where the server is not.");
    look.say("\nState it in lantern.toml, for a store that has no backups yet:\n");
    look.say(&format!("  [backup]\n  key = {}", toml_text(file)));
    Ok(fail::DONE)
}

fn toml_text(path: &Path) -> String {
    let path = std::path::absolute(path).unwrap_or_else(|_| path.into());
    format!("{:?}", path.display().to_string())
}

fn list(server: &Server, all: bool, common: &Common, look: &Look) -> Result<u8> {
    let (backups, mut broken) = backup::list(server)?;
    let shared = backup::shared_store(server)?;
    let (others, broken_too) = match all {
        true => backup::of_others(server)?,
        false => Default::default(),
    };
    broken.extend(broken_too);
    let alone = backup::alone(server).unwrap_or_default();
    let store = backup::stored_bytes(server)?;
    if look.json {
        let store = (shared, store);
        look.answer(&answers::Backups::new(
            &backups, &others, &broken, &alone, store,
        ));
        return Ok(fail::DONE);
    }
    let title = format!(
        "{}: {}, {}.",
        server.config.name,
        count(backups.len(), "backup", "backups"),
        match &shared {
            None => format!("{} on the disk", bytes(store)),
            Some(at) => format!("in {at}, which has {} of all servers", bytes(store)),
        }
    );
    look.say(&look.paint(Means::Title, &title));
    if !backups.is_empty() {
        look.say("");
        let rows = backups.iter().map(|backup| {
            vec![
                backup.name.clone(),
                date(backup.made_ms),
                match backup.scope {
                    Scope::Kept => "keep list".into(),
                    Scope::Everything => "everything".into(),
                },
                backup.files.to_string(),
                bytes(backup.bytes),
                match alone.get(&backup.name) {
                    Some(alone) => bytes(*alone),
                    None if shared.is_some() => "shared".into(),
                    None => "unknown".into(),
                },
                if backup.named { "yours" } else { "" }.into(),
                backup.note.clone().unwrap_or_default(),
            ]
        });
        let heads = [
            "name", "made", "of", "files", "size", "alone", "named", "note",
        ];
        look.table(&heads, rows.collect());
    }
    if !others.is_empty() {
        look.say("");
        look.say(&look.paint(Means::Title, "Of other servers, in the same store:"));
        look.say("");
        let rows = others.iter().map(|page| {
            let made = date(page.made_ms);
            let note = page.note.clone().unwrap_or_default();
            vec![
                page.name.clone(),
                made,
                page.files.to_string(),
                bytes(page.bytes),
                note,
            ]
        });
        look.table(&["name", "made", "files", "size", "note"], rows.collect());
    }
    for (name, why) in &broken {
        let word = look.paint(Means::Bad, "wrong");
        look.say(&format!("  {word} {name}: {why}"));
    }
    if let Some(last) = backups.last() {
        look.next(&common.next(&format!(
            "backup restore {} --to DIR",
            shell_word(Path::new(&last.name))
        )));
    }
    Ok(fail::DONE)
}

fn show(server: &Server, name: &str, look: &Look) -> Result<u8> {
    let backup = backup::manifest(server, name)?;
    if look.json {
        look.answer(&answers::BackupShown::from(&backup));
        return Ok(fail::DONE);
    }
    let title = format!(
        "{}: {}, {}.",
        backup.name,
        count(backup.files.len(), "file", "files"),
        bytes(backup.bytes())
    );
    look.say(&look.paint(Means::Title, &title));
    look.say("");
    let rows = backup
        .files
        .iter()
        .map(|file| vec![file.path.to_string(), bytes(file.bytes)]);
    look.table(&["file", "size"], rows.collect());
    Ok(fail::DONE)
}

fn check(server: &Server, sample: Option<f64>, look: &Look) -> Result<u8> {
    let doing = match sample {
        None => "everything is read",
        Some(_) => "a part is read",
    };
    let checked = during(doing, || backup::check(server, sample))?;
    let Checked {
        backups,
        wrong,
        read_bytes,
        bytes: all_bytes,
    } = checked;
    let status = if wrong.is_empty() {
        fail::DONE
    } else {
        fail::NO
    };
    if look.json {
        look.answer(&answers::BackupsChecked {
            backups,
            read_bytes,
            bytes: all_bytes,
            wrong: answers::places(&wrong),
        });
        return Ok(status);
    }
    let backups = count(backups, "backup", "backups");
    let part = format!("{} of {}", bytes(read_bytes), bytes(all_bytes));
    let sample = sample.filter(|_| read_bytes < all_bytes);
    if wrong.is_empty() {
        let text = match sample {
            None => format!("{backups}: everything was read and is intact."),
            Some(_) => {
                format!("{backups}: {part} were read and are intact. The rest was not looked at.")
            }
        };
        look.say(&look.paint(Means::Good, &text));
    } else {
        let places = count(wrong.len(), "place is", "places are");
        look.say(&look.paint(Means::Bad, &format!("{backups}: {places} damaged.")));
        for (place, why) in &wrong {
            look.say(&format!("  {place}: {why}"));
        }
        match sample {
            None => look.say("  Everything else can be restored."),
            Some(_) => look.say(&format!("  {part} were read; the rest was not looked at.")),
        }
    }
    Ok(status)
}

/// Puts a backup back where it came from.
fn restore_in_place(
    server: &Server,
    name: &str,
    paths: &[RelPath],
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let mut ledger = Ledger::open(&server.folder)?;
    let mut progress = Progress::new(look);
    let restored = changeover::restore(server, &mut ledger, name, paths, &mut |event| {
        progress.show(event);
    });
    drop(progress);
    let restored = restored?;
    tell_unshared(server, look);
    let Restored {
        brought,
        set_aside,
        aside,
    } = &restored;
    if look.json {
        look.answer(&answers::RestoredInPlace {
            brought: *brought,
            set_aside: *set_aside,
            aside: aside.clone(),
        });
        return Ok(fail::DONE);
    }
    if brought + set_aside == 0 {
        look.say(&format!(
            "Everything is already as in {name}; nothing was done."
        ));
        return Ok(fail::DONE);
    }
    let text = format!("As in {name} again: {}.", came_back(*brought));
    look.say(&look.paint(Means::Good, &text));
    if *set_aside > 0 {
        let what = match set_aside {
            1 => "1 file that was there is".into(),
            many => format!("{many} files that were there are"),
        };
        look.say(&format!("  {what} in {aside}"));
    }
    let way_back = look.paint(Means::Paste, &common.next("undo"));
    look.say(&format!("\nThe way back: {way_back}"));
    Ok(fail::DONE)
}

fn came_back(files: usize) -> String {
    match files {
        0 => "nothing had to come back".into(),
        1 => "1 file came back".into(),
        many => format!("{many} files came back"),
    }
}

fn restore(server: &Server, name: &str, paths: &[RelPath], to: &Path, look: &Look) -> Result<u8> {
    if to.exists() {
        return Err(Error::InTheWay(to.into()));
    }
    let restored = during("files are put back", || {
        backup::restore(server, name, to, paths)
    });
    let PutThere {
        files,
        lost,
        not_given,
    } = restored?;
    let status = if lost.is_empty() && files > 0 {
        fail::DONE
    } else {
        fail::NO
    };
    if look.json {
        look.answer(&answers::BackupRestored::new(files, &lost, not_given));
        return Ok(status);
    }
    let text = format!(
        "{} of {name} are in {}.",
        count(files, "file", "files"),
        shell_word(to)
    );
    look.say(&look.paint(Means::Good, &text));
    if not_given > 0 {
        let many = count(not_given, "of them is", "of them are");
        look.say(&format!(
            "  {many} not owned as before, or without their attributes: only some users may restore those"
        ));
    }
    for (path, why) in &lost {
        look.say(&look.paint(Means::Bad, &format!("  lost: {path}: {why}")));
    }
    Ok(status)
}

fn thin(
    server: &Server,
    (keep, named, dry_run): (usize, bool, bool),
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let ledger = Ledger::open(&server.folder)?;
    let needed = history::backups_needed(&ledger)?;
    let go = backup::to_thin(server, keep, &needed, named)?;
    let more = if named { " --named" } else { "" };
    let without = common.next(&format!("backup thin --keep {keep}{more} --yes"));
    delete(server, &go, dry_run, &without, common, look)
}

fn remove(server: &Server, name: &str, common: &Common, look: &Look) -> Result<u8> {
    let name = backup::named(server, name)?;
    let ledger = Ledger::open(&server.folder)?;
    if history::backups_needed(&ledger)?.contains(&name) {
        return Err(BackupFault::Needed(name).into());
    }
    let (pages, _) = backup::list(server)?;
    let go: Vec<Page> = pages.into_iter().filter(|it| it.name == name).collect();
    let word = shell_word(Path::new(&name));
    let without = common.next(&format!("backup rm {word} --yes"));
    delete(server, &go, false, &without, common, look)
}

/// Deletes backups after asking.
fn delete(
    server: &Server,
    go: &[Page],
    dry_run: bool,
    without: &str,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    if !go.is_empty() {
        let would = match (dry_run, go.len()) {
            (true, _) => "would be",
            (false, 1) => "is to be",
            (false, _) => "are to be",
        };
        look.talk(&format!(
            "{} {would} deleted:",
            count(go.len(), "backup", "backups")
        ));
    }
    for page in go {
        let note = page.note.as_ref().map(|note| format!("   {note}"));
        let note = note.unwrap_or_default();
        look.talk(&format!("  {}   {}{note}", page.name, date(page.made_ms)));
    }
    if !go.is_empty() && !dry_run {
        armed::confirm("Delete them?", without, common, look)?;
    }
    let names = go.iter().map(|page| page.name.clone()).collect();
    // In a store that is shared there may be what was given up a day ago.
    let has_work = !go.is_empty() || backup::shared_store(server)?.is_some();
    let (gone, thinned): (Vec<String>, Thinned) = match dry_run || !has_work {
        true => Default::default(),
        false => backup::remove(server, &names)?,
    };
    if look.json {
        look.answer(&answers::BackupsThinned {
            gone,
            bytes: thinned.given_back,
            later_bytes: thinned.later,
            among_bytes: thinned.among,
        });
        return Ok(fail::DONE);
    }
    if dry_run {
        look.say("Nothing was deleted.");
        return Ok(fail::DONE);
    }
    look.say(&format!(
        "{} deleted, {} given back.",
        count(gone.len(), "backup", "backups"),
        bytes(thinned.given_back)
    ));
    if thinned.later > 0 {
        look.say(&format!(
            "  {} more are not needed and may go a day from now, the next time that this store is thinned out: until then, others may be counting on them.",
            bytes(thinned.later)
        ));
    }
    if thinned.among > 0 {
        look.say(&format!(
            "  {} more that no backup needs lie among what is needed, and go once they are a fifth of a pack.",
            bytes(thinned.among)
        ));
    }
    Ok(fail::DONE)
}
