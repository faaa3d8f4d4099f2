//! `lantern adopt`

use crate::answers;
use crate::common::shell_word;
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use crate::progress::during;
use clap::Args;
use lantern_core::component::Kind;
use lantern_core::tree::is_unread;
use lantern_host::adopt::fault::AdoptFault;
use lantern_host::adopt::{AdoptOptions, adopt, adopt_again, home, mark};
use lantern_host::config::Server;
use lantern_host::glance;
use lantern_host::identity::{self, Become};
use lantern_host::lock::Lock;
use lantern_host::place::{Address, Means as Reached, Password, Scheme};
use lantern_host::records::Brought;
use lantern_host::{Error, Result};
use std::path::{Path, PathBuf, absolute};

/// Take a server folder into care: write lantern.toml, and every file into the ledger
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern adopt halcyon-terrace\n  lantern adopt lake --family mossgate.family.toml --server-version 5.4"
)]
pub struct AdoptArgs {
    /// The server folder; on another machine, sftp://USER@HOST/FOLDER, or ssh://, ftps://
    dir: PathBuf,
    /// A family's name, or a family file; otherwise the one whose marks fit
    #[arg(long, value_name = "NAME|FILE")]
    family: Option<String>,
    /// The server's name; otherwise the folder's
    #[arg(long)]
    name: Option<String>,
    /// The server version, where the server program lies outside the folder, or nothing in it tells
    #[arg(long, value_name = "VERSION")]
    server_version: Option<String>,
    /// The command that speaks SFTP with another machine, instead of ssh: words with blanks between
    #[arg(long, value_name = "COMMAND", value_delimiter = ' ')]
    through: Vec<String>,
    /// The variable that holds the password, for FTP
    #[arg(long, value_name = "NAME", conflicts_with = "password_file")]
    password_env: Option<String>,
    /// The file that holds the password, for FTP
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// A file of certificates that vouch for the host, for FTP behind TLS, besides those of this machine
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
    /// Let everything be sent in the clear, the password too, as ftp:// does
    #[arg(long)]
    plain: bool,
    /// It is in care already, and was moved here
    #[arg(long, conflicts_with_all = ["family", "name", "server_version", "copy"])]
    moved: bool,
    /// It is a copy of a server in care: from now on a server of its own
    #[arg(long, conflicts_with_all = ["family", "name", "server_version"])]
    copy: bool,
    /// It is in care already, and its ledger is lost: take every file in again, as it is now
    #[arg(long, conflicts_with_all = ["family", "name", "server_version", "moved", "copy"])]
    again: bool,
}

/// Adopts a server and says in a few lines what was found.
pub fn run(args: &AdoptArgs, look: &Look) -> Result<u8> {
    let becomes = match (args.moved, args.copy) {
        (true, _) => Some(Become::Moved),
        (_, true) => Some(Become::Copy),
        (false, false) => None,
    };
    if let Some(becomes) = becomes {
        return settle(args, becomes, look);
    }
    let text = args.dir.to_string_lossy();
    let far = Address::is_meant(&text).then(|| Address::parse(&text));
    let far = far.transpose().map_err(Error::Address)?;
    let env = args.password_env.clone().map(Password::Env);
    let file = args.password_file.as_ref();
    let whole = |file: &PathBuf| absolute(file).unwrap_or_else(|_| file.clone());
    let file = file.map(|file| Password::File(whole(file)));
    let means = Reached {
        through: (!args.through.is_empty()).then(|| args.through.clone()),
        shell: None,
        password: env.or(file),
        connections: None,
        ca: args.ca.as_ref().map(whole),
    };
    if far.as_ref().is_some_and(|far| far.scheme == Scheme::Ftp) && !args.plain {
        return Err(AdoptFault::Plain.into());
    }
    let name = args.name.as_deref();
    let dir = match &far {
        None => args.dir.clone(),
        Some(address) => home(name.or(address.name()).unwrap_or_default())?,
    };
    let wishes = AdoptOptions {
        family: args.family.as_deref(),
        name,
        server_version: args.server_version.as_deref(),
        far,
        means,
    };
    let adopted = during("files are read", || match args.again {
        true => adopt_again(&dir),
        false => adopt(&dir, &wishes),
    });
    let (server, found) = adopted?;
    glance::remember(&server, &found);
    let inventory = &found.inventory;
    let of_kind = |kind| {
        inventory
            .components
            .iter()
            .filter(|c| c.facts.kind == kind)
            .count()
    };
    let total: u64 = found.files.iter().map(|file| file.bytes).sum();
    let kept = found
        .files
        .iter()
        .filter(|file| server.keeps(file.path.as_str()))
        .count();
    if look.json {
        look.answer(&answers::Adopted {
            server: server.config.name.clone(),
            family: server.family.name.clone(),
            server_version: inventory.server_version().map(ToString::to_string),
            components: inventory.components.len(),
            files: found.files.len(),
            bytes: total,
            kept_files: kept,
            findings: inventory.findings.len(),
        });
        return Ok(fail::DONE);
    }
    let version = inventory
        .server_version()
        .map_or("of unknown version".into(), ToString::to_string);
    look.say(&look.paint(
        Means::Title,
        &format!(
            "{} is in lantern's care: {}, {version}.",
            server.config.name, server.family.title
        ),
    ));
    look.say(&format!(
        "  {}, {}, {}",
        count(of_kind(Kind::Addon), "add-on", "add-ons"),
        count(of_kind(Kind::Pack), "pack", "packs"),
        count(of_kind(Kind::Framework), "framework", "frameworks"),
    ));
    look.say(&format!(
        "  {}, {}, all in the ledger; {kept} of them on the keep list",
        count(found.files.len(), "file", "files"),
        bytes(total),
    ));
    look.say(&format!(
        "  {}",
        count(inventory.findings.len(), "finding", "findings")
    ));
    if server.is_several() {
        let names: Vec<&str> = server
            .config
            .servers
            .iter()
            .map(|one| one.name.as_str())
            .collect();
        look.say(&format!(
            "  {} run on this install, by their start scripts: {}; look over what lantern.toml says of them",
            count(names.len(), "server", "servers"),
            names.join(", ")
        ));
    }
    for link in server.folder.followed() {
        let kept = server.keeps(&format!("{}/_", link.at));
        let text = format!(
            "  {} is a link to {}: {}",
            link.at,
            link.target.display(),
            match kept {
                true => "what lies there is on the keep list, and backed up like the rest",
                false => "the components that lie there are looked at like the rest",
            }
        );
        look.say(&text);
    }
    if !found.left_alone.is_empty() {
        let text = format!(
            "  left alone, as they are links or have odd names: {}",
            found.left_alone.join(", ")
        );
        look.say(&look.paint(Means::Caution, &text));
    }
    if server.family.build.outside && server.config.server_version.is_none() {
        look.say("  The server program is outside the folder: state its version in lantern.toml, as server_version.");
    }
    if let (false, Some(stated), Some(told)) = (
        server.family.build.outside,
        args.server_version.as_deref(),
        found.inventory.server_version(),
    ) && server.family.versions.version(true, stated).as_ref() != Ok(told)
    {
        let text = format!("  the folder tells that the server is {told}: {stated} does not count");
        look.say(&look.paint(Means::Caution, &text));
    }
    look.say("  lantern.toml has lines for catalogues and a drop folder: fill them in, and no command needs to be told");
    let named = match server.folder.is_far() {
        true => Path::new(&server.config.name),
        false => &args.dir,
    };
    if server.folder.is_far() {
        look.say(&format!(
            "  the server stays where it is; what lantern keeps of it is in {}",
            dir.display()
        ));
        let hashes = found.files.iter().filter_map(|file| file.hash.as_deref());
        match (hashes.filter(|hash| is_unread(hash)).count(), server.folder.shell()) {
            (0, None) => {}
            (0, Some(_)) => look.say("  what each file holds was found out there, and nothing but descriptors was fetched"),
            (_, None) => look.say("  of most files nothing was read: they are known by their size, and by when they were written"),
            (many, Some(_)) => look.say(&format!(
                "  of {many} files nothing was read: they are known by their size, and by when they were written; with b3sum on that \
                 machine, what they hold is found out there"
            )),
        }
    }
    if let Brought::Theirs(who) = &server.brought {
        look.say(&format!(
            "  it is in care already, {who}; what is known of it there is known here now: its history, and what is planned"
        ));
    }
    look.next(&format!("lantern survey --server {}", shell_word(named)));
    Ok(fail::DONE)
}

/// Settles whether a folder in care was moved here, or is a copy.
fn settle(args: &AdoptArgs, becomes: Become, look: &Look) -> Result<u8> {
    let server = Server::open(&args.dir)?;
    let _lock = Lock::take(&server.folder, "adopt")?;
    identity::settle(&server.folder, becomes, &mark())?;
    let server = Server::open(&args.dir)?;
    let name = &server.config.name;
    let dir = shell_word(&args.dir);
    if look.json {
        look.answer(&answers::Settled {
            server: name.clone(),
            id: server.config.id.clone(),
        });
        return Ok(fail::DONE);
    }
    match becomes {
        Become::Moved => look.say(&format!(
            "{name} is here now. Its history, its backups and its plan are as they were."
        )),
        Become::Copy => {
            look.say(&format!("{name} is a server of its own now."));
            look.say("  Its history came along. A plan that was made for the other is not valid for this one, and backups in");
            look.say("  a shared store stay the other's. Give it a port and, in lantern.toml, a name of its own.");
        }
    }
    look.next(&format!("lantern survey --server {dir}"));
    Ok(fail::DONE)
}
