//! Many files sent as one archive, where waiting for the answers to each of them would take long: unpacked there by its shell, or by a
//! person in the page of the host, and looked at file by file.

use super::carrying::carry;
use crate::archive;
use crate::config::Server;
use crate::error::{At, Result};
use crate::folder::{Folder, own};
use crate::ledger::Ledger;
use crate::meter;
use crate::shell::{self, quoted};
use crate::told::{plain, size};
use lantern_core::operation::Move;
use lantern_core::path::RelPath;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::io::{self, Read};
use std::thread::sleep;
use std::time::{Duration, Instant};
use zip::write::SimpleFileOptions;

/// So many answers are waited for, one after another, until a file is there.
const ANSWERS: u32 = 8;
/// As one archive where that saves so many seconds, if nothing else is stated: with a shell, and with a person who has to do it.
const WORTH_S: [u64; 2] = [10, 60];
/// How long a shell may take to unpack.
const UNPACKING: Duration = Duration::from_secs(1800);
/// How often it is looked whether somebody has unpacked it, and said what is waited for.
const LOOK: Duration = Duration::from_millis(if cfg!(test) { 5 } else { 5000 });
const SAY: Duration = Duration::from_secs(15);

/// What became of it, in words behind others; none where the files are better sent one by one.
pub type Told = Option<String>;

/// One file of the parcel.
struct Inside<'m> {
    /// Where it was unpacked here.
    from: RelPath,
    /// Where it comes to lie there.
    to: &'m RelPath,
    /// Its name in the archive.
    name: &'m RelPath,
    expects: &'m str,
    bytes: u64,
    rights: u32,
}

/// Sends what comes as one archive, where that is worth it and somebody can unpack it there: what is then found as it should be is written
/// down, and has not to be sent any more.
///
/// # Errors
/// When the archive cannot be written, or sent.
pub fn send(
    server: &Server,
    ledger: &mut Ledger,
    comes: &[&Move],
    from: &RelPath,
    number: i64,
) -> Result<Told> {
    let folder = &server.folder;
    let person = server.person.as_deref().filter(|person| person.can_say());
    let shell = folder.shell();
    if shell.is_none() && person.is_none() {
        return Ok(None);
    }
    let inside = inside(folder, comes, from)?;
    let waits = waits(folder, inside.len())?;
    let usual = WORTH_S[usize::from(shell.is_none())];
    let worth = server.config.limits.as_one_s.unwrap_or(usual);
    if waits < Duration::from_secs(worth) || inside.is_empty() {
        return Ok(None);
    }
    let local = own(&format!("packing/{number:04}.zip"));
    let to = own(&format!("staging/{number:04}"));
    let bytes = pack(folder, &inside, &local)?;
    let there = name_there(folder, &local, number)?;
    forget(folder, number, Some(&there))?;
    meter::begin(bytes);
    let before = folder.look(&there)?.map(|before| before.stamp.bytes);
    carry(folder, &local, &there, before, None)?;
    folder.make_folders(&to)?;
    let seconds = waits.as_secs();
    let unpacked = match shell {
        Some(command) => by_shell(folder, &command, &there, &to)?,
        None => by_hand(server, &inside, &there, &to, seconds)?,
    };
    let _ = folder.remove_file(&there);
    let _ = folder.remove_file(&local);
    let many = inside.len();
    let sent = format!("{many} files as one archive, {}", size(bytes));
    Ok(Some(match unpacked {
        Unpacked::Not(why) => format!("; {sent}, which could not be unpacked there ({why})"),
        Unpacked::With(hashes) => {
            let right = look(folder, ledger, &inside, &to, hashes.as_ref())?;
            let held = match hashes {
                Some(_) => "by its content",
                None => "by its size",
            };
            format!(
                "; {sent}, as one by one their answers alone would take {seconds} s; {right} of them there as they should be, \
                 each {held}"
            )
        }
    }))
}

/// The files that come, links left out.
fn inside<'m>(folder: &Folder, comes: &[&'m Move], from: &RelPath) -> Result<Vec<Inside<'m>>> {
    let before = super::moves::Looking::at(folder, comes.iter().map(|step| &step.to))?;
    let mut inside = Vec::new();
    for step in comes {
        let path = from.join(step.to.as_str())?;
        let Some(here) = folder.look(&path)?.filter(|meta| meta.is_file()) else {
            continue;
        };
        let there = before.look(&step.to)?.filter(|meta| meta.is_file());
        inside.push(Inside {
            from: path,
            to: &step.from,
            name: &step.to,
            expects: step.expects.as_deref().unwrap_or_default(),
            bytes: here.stamp.bytes,
            rights: there.map_or(here.rights, |it| it.rights | here.rights & 0o111),
        });
    }
    Ok(inside)
}

/// How long the answers to so many files would be waited for, by how long one takes now.
fn waits(folder: &Folder, files: usize) -> Result<Duration> {
    let mut least = Duration::MAX;
    for _ in 0..3 {
        let begun = Instant::now();
        folder.has(&own("staging"))?;
        least = least.min(begun.elapsed());
    }
    let at_once = folder.at_once().max(1);
    let rounds = u32::try_from(files.div_ceil(at_once)).unwrap_or(u32::MAX);
    Ok(least.saturating_mul(rounds.saturating_mul(ANSWERS)))
}

/// Packs them; the size of the archive.
fn pack(folder: &Folder, inside: &[Inside<'_>], local: &RelPath) -> Result<u64> {
    if folder.has(local)? {
        folder.remove_file(local)?;
    }
    archive::write(&folder.shown(local), &mut |zip| {
        for file in inside {
            let options = SimpleFileOptions::default()
                .unix_permissions(file.rights & 0o777)
                .large_file(file.bytes >= u32::MAX.into());
            let mut source = folder.open_file(&file.from)?;
            let mut copy = || {
                zip.start_file(file.name.as_str(), options)
                    .map_err(io::Error::other)?;
                io::copy(&mut *source, zip).map(|_| ())
            };
            copy().at("packing", &folder.shown(&file.from))?;
        }
        Ok(())
    })
}

/// What an archive of an operation is called there: by its content, so that what an attempt before left of it can be gone on with.
fn name_there(folder: &Folder, local: &RelPath, number: i64) -> Result<RelPath> {
    let content = folder.hash(local)?;
    Ok(own(&format!("staging/{number:04}-{}.zip", &content[..8])))
}

/// Removes the archives of an operation there, but one.
pub fn forget(folder: &Folder, number: i64, but: Option<&RelPath>) -> Result<()> {
    for (path, _) in folder.sorts(&own("staging"))? {
        let Some(path) = path.filter(|path| Some(path) != but) else {
            continue;
        };
        let begin = own(&format!("staging/{number:04}-"));
        if path.as_str().starts_with(begin.as_str()) {
            folder.remove_file(&path)?;
        }
    }
    Ok(())
}

/// What came of having it unpacked.
enum Unpacked {
    /// It was; with the SHA-256 of each file by its name, where that could be found out there.
    With(Option<BTreeMap<String, String>>),
    /// It was not, and why.
    Not(String),
}

/// Has it unpacked by the shell there.
fn by_shell(
    folder: &Folder,
    command: &[String],
    there: &RelPath,
    to: &RelPath,
) -> Result<Unpacked> {
    let (Some(archive), Some(to)) = (folder.path_there(there), folder.path_there(to)) else {
        return Ok(Unpacked::Not("its path there is not known".into()));
    };
    let (archive, to) = (quoted(&archive), quoted(&to));
    let line = format!(
        "cd {to} && test -f {archive} && \
         if command -v unzip >/dev/null; then unzip -qo {archive}; \
         elif command -v bsdtar >/dev/null; then bsdtar -xf {archive}; \
         elif command -v python3 >/dev/null; then python3 -m zipfile -e {archive} .; \
         else echo 'neither unzip, bsdtar nor python3 is there'; exit 1; fi && \
         if command -v sha256sum >/dev/null; then find . -type f -exec sha256sum {{}} +; fi"
    );
    let ran = match shell::run(command, line, &[], UNPACKING) {
        Ok(ran) => ran,
        Err(error) => return Ok(Unpacked::Not(plain(&error))),
    };
    if let Some(why) = ran.fault {
        return Ok(Unpacked::Not(why));
    }
    let hashes = ran.printed.lines().filter_map(|line| {
        let (hash, name) = line.split_once("  ./")?;
        Some((name.to_owned(), hash.to_owned()))
    });
    let hashes: BTreeMap<String, String> = hashes.collect();
    Ok(Unpacked::With(
        Some(hashes).filter(|hashes| !hashes.is_empty()),
    ))
}

/// Has it unpacked by a person, in the page of the host, and watches for all to be there.
fn by_hand(
    server: &Server,
    inside: &[Inside<'_>],
    there: &RelPath,
    to: &RelPath,
    seconds: u64,
) -> Result<Unpacked> {
    let folder = &server.folder;
    let Some(person) = &server.person else {
        return Ok(Unpacked::Not("nobody is there".into()));
    };
    let many = inside.len();
    person.ask(&format!(
        "Unpack {} into the folder {} now, in the page of its host: the answers to {many} files one by one would take {seconds} s. \
         I see by myself when all is there. If you cannot, press Enter, and they are sent one by one.",
        folder.shown(there).display(),
        folder.shown(to).display()
    ));
    let begun = Instant::now();
    let mut told = Instant::now();
    loop {
        let missing = missing(folder, inside, to)?;
        if missing == 0 {
            return Ok(Unpacked::With(None));
        }
        if person.has_said() {
            return Ok(Unpacked::Not("you said so".into()));
        }
        if crate::interrupt::called_off() || begun.elapsed() > server.by_hand_limit() {
            return Ok(Unpacked::Not("nobody did it in time".into()));
        }
        if told.elapsed() >= SAY {
            told = Instant::now();
            person.waits(&format!(
                "waiting for {missing} of {many} files to be there"
            ));
        }
        sleep(LOOK);
    }
}

/// How many files are not there with their size.
fn missing(folder: &Folder, inside: &[Inside<'_>], to: &RelPath) -> Result<usize> {
    let there: BTreeMap<RelPath, u64> = folder
        .metas_below(to)?
        .into_iter()
        .map(|(path, meta)| (path, meta.stamp.bytes))
        .collect();
    let is_missing = |file: &&Inside<'_>| there.get(file.to) != Some(&file.bytes);
    Ok(inside.iter().filter(is_missing).count())
}

/// Looks at each file there, and writes down those that are as they should be; how many there are.
fn look(
    folder: &Folder,
    ledger: &mut Ledger,
    inside: &[Inside<'_>],
    to: &RelPath,
    hashes: Option<&BTreeMap<String, String>>,
) -> Result<usize> {
    let there: BTreeMap<RelPath, _> = folder.metas_below(to)?.into_iter().collect();
    let mut rows = Vec::new();
    for file in inside {
        let Some(meta) = there
            .get(file.to)
            .filter(|meta| meta.stamp.bytes == file.bytes)
        else {
            continue;
        };
        let is_right = match hashes {
            None => true,
            Some(hashes) => hashes.get(file.name.as_str()) == Some(&sha256(folder, &file.from)?),
        };
        if is_right {
            rows.push((file.to, meta.stamp, file.expects.to_owned()));
        }
    }
    let right = rows.len();
    ledger.see(rows.into_iter(), &[])?;
    Ok(right)
}

fn sha256(folder: &Folder, path: &RelPath) -> Result<String> {
    let mut file = folder.open_file(path)?;
    let mut hasher = Sha256::new();
    let mut piece = vec![0; 128 << 10];
    loop {
        let read = file.read(&mut piece).at("reading", &folder.shown(path))?;
        if read == 0 {
            let hash = hasher.finalize();
            return Ok(hash.iter().map(|byte| format!("{byte:02x}")).collect());
        }
        hasher.update(&piece[..read]);
    }
}
