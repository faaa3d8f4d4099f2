//! `lantern.toml`, and the family file it names.

pub mod fault;
mod several;
mod store;

pub use several::{OneServer, PROCESS};

use crate::config::fault::ConfigFault;
use crate::error::{Error, Result};
use crate::folder::Folder;
use crate::gather::{GatherWords, Gatherer, Store};
use crate::meeting::Seat;
use crate::person::{Memory, Person};
use crate::place::{Address, Means, Password, here};
use crate::records::{self, Brought};
use crate::runner::{Runner, ThisMachine};
use lantern_core::clients::Duty;
use lantern_core::component::{Effect, Id};
use lantern_core::family::{Acquire, Family, FamilyFault, Glob, Launch, Pattern};
use lantern_core::hint::with_nearest;
use lantern_core::notice::{Occasion, Style};
use lantern_core::path::RelPath;
use lantern_core::supply::is_web;
use lantern_core::unattended::Matter;
use lantern_core::version::Version;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::fmt;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

pub use crate::folder::FILE;
pub use store::{BackupPlace, StoreAt};

/// So long a person is waited for, in seconds.
const BY_HAND_S: u64 = 900;

/// The family files that ship with lantern, as name and text.
const SHIPPED: &[(&str, &str)] = &[
    (
        "arbour",
        include_str!("../../../../families/arbour.family.toml"),
    ),
    (
        "bzflag",
        include_str!("../../../../families/bzflag.family.toml"),
    ),
    (
        "freeciv",
        include_str!("../../../../families/freeciv.family.toml"),
    ),
    (
        "halcyon",
        include_str!("../../../../families/halcyon.family.toml"),
    ),
    (
        "minetest",
        include_str!("../../../../families/minetest.family.toml"),
    ),
    (
        "minetest-folder",
        include_str!("../../../../families/minetest-folder.family.toml"),
    ),
    (
        "tramway",
        include_str!("../../../../families/tramway.family.toml"),
    ),
    (
        "triad",
        include_str!("../../../../families/triad.family.toml"),
    ),
];

/// What `lantern.toml` says; docs/formats/lantern-toml.md lists every key.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// The number of the format: 1.
    pub format: u32,
    /// The server's name.
    pub name: String,
    /// The server's own mark, made at adoption.
    pub id: String,
    /// Of a server folder on another machine, its address; without it, the folder is the one that holds these settings.
    pub folder: Option<String>,
    /// The command line that speaks the file transfer protocol with that machine; otherwise the system's `ssh`.
    #[serde(default)]
    pub through: Vec<String>,
    /// The environment variable that holds the password for that machine, where the protocol is FTP.
    pub password_env: Option<String>,
    /// The file that holds it, relative to this one's folder.
    pub password_file: Option<PathBuf>,
    /// How many connections to that machine there may be at once, where the protocol is FTP.
    pub connections: Option<usize>,
    /// A file of certificates that vouch for that machine, besides those of this one, where the protocol is FTP behind TLS; relative to
    /// this one's folder.
    pub ca: Option<PathBuf>,
    /// The command line that runs a line for the shell on that machine, which is added as its last word; otherwise, where the address says
    /// that there is one, the system's `ssh`.
    #[serde(default)]
    pub shell: Vec<String>,
    /// A family that ships with lantern, or the path of a family file.
    pub family: String,
    /// The server version, for a build that lies outside the folder.
    pub server_version: Option<String>,
    /// Catalogues that are always looked at; paths relative to the server folder.
    #[serde(default)]
    pub catalogues: Vec<CatalogueWords>,
    /// Drop folders that are always looked at; paths relative to the server folder.
    #[serde(default)]
    pub drop: Vec<PathBuf>,
    /// How the server program is made, instead of the family's recipe.
    pub acquire: Option<Acquire>,
    /// Paths to keep besides the family's.
    #[serde(default)]
    pub keep: Vec<Glob>,
    /// Components that may be lost where nothing of them fits.
    #[serde(default)]
    pub droppable: Vec<String>,
    /// What components are called in other people's listings.
    #[serde(default)]
    pub ids: BTreeMap<Id, String>,
    /// Components that are held at a version, or at the `latest` for the server version.
    #[serde(default)]
    pub hold: BTreeMap<Id, String>,
    /// Which add-ons are started after and before which, besides what they say themselves.
    #[serde(default)]
    pub starts: BTreeMap<Id, Turn>,
    /// What add-ons change, where their makers do not say it.
    #[serde(default)]
    pub effects: BTreeMap<Id, Effect>,
    /// What of its start scripts the family does not know.
    #[serde(default)]
    pub launch: LaunchWords,
    /// How players are warned.
    #[serde(default)]
    pub warn: Warn,
    /// Other time limits than the family's.
    #[serde(default)]
    pub limits: Limits,
    /// What is done once a changeover has failed and the old state is back.
    #[serde(default)]
    pub on_failure: OnFailure,
    /// What is left to a changeover that nobody is there for.
    #[serde(default)]
    pub unattended: Unattended,
    /// How the server is kept up by itself; not at all where nothing is said.
    pub keep_up: Option<KeepUp>,
    /// How the server is run and its console reached, where lantern does not keep it itself.
    #[serde(default)]
    pub console: Reach,
    /// What the server has to say of its settings, instead of what its own files say, by their names
    /// in the family file.
    #[serde(default)]
    pub expect: BTreeMap<String, String>,
    /// Where backups go.
    #[serde(default)]
    pub backup: BackupPlace,
    /// How files are fetched.
    #[serde(default)]
    pub gather: GatherWords,
    /// What players' clients have besides what runs here, and must not have.
    #[serde(default, rename = "client")]
    pub clients: Vec<ClientWords>,
    /// The ways in which players play, each in the administrator's words.
    #[serde(default)]
    pub players: Vec<PlayersWords>,
    /// How players are told of a change, in templates of the administrator's own.
    #[serde(default)]
    pub notice: NoticeWords,
    /// Whom a change is told, and how.
    #[serde(default)]
    pub tell: Vec<TellWords>,
    /// The address below which the files of clients can be had, as they lie in a client's folder.
    pub players_at: Option<String>,
    /// The servers that run on this install, where it is more than one.
    #[serde(default, rename = "server")]
    pub servers: Vec<OneServer>,
}

/// What is done once a changeover has failed and the old state is back.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct OnFailure {
    /// Whether it is looked for which of what moved makes it fail.
    pub culprit: bool,
}

/// What is left to a changeover that nobody is there for.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Unattended {
    /// What it may decide.
    pub may: BTreeSet<Matter>,
}

impl Default for Unattended {
    fn default() -> Unattended {
        Unattended {
            may: BTreeSet::from(Matter::USUAL),
        }
    }
}

/// How a server is kept up by itself.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeepUp {
    /// So many days old a release has to be.
    pub wait_days: u32,
}

/// What players' clients have besides what runs on the server, or must not have.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ClientWords {
    /// Which component; of files that are none, what they are called.
    pub id: String,
    /// How a client stands to it.
    #[serde(default = "must_have")]
    pub is: Duty,
    /// Where its files are kept, relative to the server folder: a file, a release as the family's readers know it, a folder of
    /// such releases, or a folder of files.
    pub from: Option<PathBuf>,
    /// Where they come to lie in the client's folder; of a release, where it would lie on the server.
    pub to: Option<RelPath>,
    /// Of a release in variants, which; otherwise that of the server.
    pub variant: Option<String>,
    /// The kinds of client that are meant; otherwise the server's own.
    #[serde(default)]
    pub kinds: Vec<String>,
}

/// How players are told of a change.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct NoticeWords {
    /// A template for plain text, instead of ours.
    pub text: Option<String>,
    /// A template for HTML.
    pub html: Option<String>,
    /// A template for Markdown.
    pub markdown: Option<String>,
    /// The file in which the feed is kept, relative to the server folder: it is written after each changeover.
    pub feed: Option<PathBuf>,
}

impl NoticeWords {
    /// The administrator's template for a style, where there is one.
    pub fn template(&self, style: Style) -> Option<&str> {
        let own = match style {
            Style::Text => &self.text,
            Style::Html => &self.html,
            Style::Markdown => &self.markdown,
        };
        own.as_deref()
    }
}

/// Whom a change is told, and how.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TellWords {
    /// When.
    #[serde(default = "always")]
    pub on: Vec<Occasion>,
    /// In which notation.
    #[serde(default = "as_text", rename = "as")]
    pub style: Style,
    /// A command line, run in the server folder: `{text}` in one of its words is the notice, `{file}` a file that holds it.
    pub command: Option<Vec<String>>,
    /// Or the address that it is sent to.
    pub post: Option<String>,
    /// What is sent there: a template, to which the notice in words is `text`; otherwise that alone.
    pub body: Option<String>,
    /// What that is.
    pub content_type: Option<String>,
    /// A header line with a secret.
    pub key: Option<TellKey>,
}

/// A header line with a secret.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TellKey {
    /// Its name.
    pub header: String,
    /// What stands before the secret.
    #[serde(default)]
    pub before: String,
    /// The environment variable that holds it.
    pub env: Option<String>,
    /// The file that holds it, relative to the server folder.
    pub file: Option<PathBuf>,
}

fn always() -> Vec<Occasion> {
    vec![Occasion::Before, Occasion::Done, Occasion::Failed]
}

fn as_text() -> Style {
    Style::Text
}

impl TellWords {
    /// Why this cannot be, where it cannot.
    fn fault(&self) -> Option<&'static str> {
        let key = self.key.as_ref();
        match (&self.command, &self.post) {
            (Some(_), Some(_)) | (None, None) => Some("tell: one of `command` and `post` says how"),
            (Some(words), None) if words.is_empty() => Some("tell.command: is empty"),
            (Some(_), None)
                if self.body.is_some() || self.content_type.is_some() || key.is_some() =>
            {
                Some("tell: `body`, `content_type` and `key` are for `post`")
            }
            (None, Some(post)) if !is_web(post) => Some("tell.post: is no http or https address"),
            _ if key.is_some_and(|key| key.env.is_some() == key.file.is_some()) => {
                Some("tell.key: one of `env` and `file` says where the secret is")
            }
            _ => None,
        }
    }
}

/// One way of playing, in the administrator's words.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PlayersWords {
    /// What players call it.
    pub name: String,
    /// The kind of client that it is for; otherwise the server's own.
    pub kind: Option<String>,
    /// What they have to do: a template.
    pub text: String,
}

fn must_have() -> Duty {
    Duty::MustHave
}

/// A catalogue that is always looked at.
#[derive(Debug, Clone, Deserialize)]
#[serde(
    untagged,
    expecting = "expected a path or an address, or { at = …, key = … }"
)]
pub enum CatalogueWords {
    /// Where it is.
    Plain(PathBuf),
    /// Where it is, and the key by which it is signed.
    Signed(SignedCatalogue),
}

/// A catalogue that is signed.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SignedCatalogue {
    /// Where it is.
    pub at: PathBuf,
    /// The key that its signature has to be by.
    pub key: String,
}

impl CatalogueWords {
    /// Where it is: an address, or a path relative to the server folder.
    pub fn at(&self) -> &Path {
        match self {
            CatalogueWords::Plain(at) | CatalogueWords::Signed(SignedCatalogue { at, .. }) => at,
        }
    }

    fn key(&self) -> Option<&str> {
        match self {
            CatalogueWords::Plain(_) => None,
            CatalogueWords::Signed(signed) => Some(&signed.key),
        }
    }
}

/// What of a server's start scripts its family does not know.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct LaunchWords {
    /// Start scripts besides the family's.
    pub scripts: Vec<Glob>,
    /// Finds the command that starts the server, instead of the family's pattern.
    pub starts: Option<Pattern>,
    /// Find commands that put in again what an update exchanges, besides the family's.
    pub updates: Vec<Pattern>,
}

/// When an add-on is started.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Turn {
    /// After these.
    pub after: Vec<Id>,
    /// Before these.
    pub before: Vec<Id>,
}

/// How the server is run and its console reached, where lantern does not keep it itself.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Reach {
    /// How a line is typed into the console; otherwise through lantern's own pipe.
    pub line: Option<LineWay>,
    /// The file that the server prints to, relative to its folder; otherwise lantern's own.
    pub log: Option<PathBuf>,
    /// The host at which players reach a server on another machine; otherwise that of its folder.
    pub host: Option<String>,
    /// The command lines that start and stop the server; otherwise lantern starts it itself.
    pub run: Option<RunBy>,
}

/// How a line is typed into the console.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub enum LineWay {
    /// Through a named pipe that the server reads, relative to its folder.
    Pipe(PathBuf),
    /// By a command line; `{line}` in one of its words is filled in.
    Command(Vec<String>),
    /// Over TCP, by the remote console protocol that many game servers share.
    Remote(Remote),
}

/// A remote console.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Remote {
    /// Host and port.
    pub address: String,
    /// The environment variable that holds the password.
    pub password_env: Option<String>,
    /// The file that holds the password, relative to the server folder.
    pub password_file: Option<PathBuf>,
}

/// Command lines that start and stop a server: of a service manager, a terminal multiplexer.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RunBy {
    /// Starts it and comes back at once.
    pub start: Vec<String>,
    /// Stops it; otherwise it is stopped by its console.
    pub stop: Option<Vec<String>>,
    /// Ends with 0 while it is up.
    pub state: Option<Vec<String>>,
}

impl Reach {
    /// Why this cannot be, where it cannot.
    fn fault(&self) -> Option<&'static str> {
        let no_log = self.log.is_none();
        match &self.line {
            Some(LineWay::Command(words)) if !words.iter().any(|word| word.contains("{line}")) => {
                Some("console.line.command: none of its words has {line}")
            }
            Some(LineWay::Pipe(_) | LineWay::Command(_)) if no_log => {
                Some("console.log: is missing, so nothing could be read of what the server answers")
            }
            Some(LineWay::Remote(remote))
                if remote.password_env.is_some() == remote.password_file.is_some() =>
            {
                Some(
                    "console.line.remote: one of password_env and password_file says where the password is",
                )
            }
            _ => None,
        }
    }
}

/// Other time limits than the family's.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Limits {
    /// How long a start may take, in seconds.
    pub start_s: Option<u64>,
    /// How long a stop may take, in seconds.
    pub stop_s: Option<u64>,
    /// How long the server has to stay up after it is ready, in seconds.
    pub hold_s: Option<u64>,
    /// How long a person is waited for who starts or stops it by hand, in seconds; otherwise 900.
    pub by_hand_s: Option<u64>,
    /// What comes to a server on another machine is sent as one archive where that saves so many seconds; otherwise 10,
    /// or 60 where a person has to unpack it.
    pub as_one_s: Option<u64>,
    /// How long it is watched after a stop whether something starts it again, in seconds; otherwise 3
    /// where lantern did not start it, and not at all where it did.
    pub watch_s: Option<u64>,
}

/// How players are warned before the server stops.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Warn {
    /// How long before the stop they are told, each time.
    pub at: Vec<Span>,
    /// What they are told; `{time}` is filled in.
    pub text: String,
    /// What they are told right before the stop.
    pub last: String,
    /// What they are told when it is called off.
    pub off: String,
    /// Whether nothing is stopped while somebody is on. No key of the file: it is said of one operation.
    #[serde(skip)]
    pub only_empty: bool,
}

impl Default for Warn {
    fn default() -> Warn {
        Warn {
            at: vec![Span(Duration::from_secs(10))],
            text: "The server restarts in {time} for an update.".into(),
            last: "The server restarts now.".into(),
            off: "The restart is called off.".into(),
            only_empty: false,
        }
    }
}

/// A time as people write it: `10m`, `30s`, `2h`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Span(pub Duration);

impl FromStr for Span {
    type Err = String;

    fn from_str(text: &str) -> std::result::Result<Span, String> {
        let wrong = || format!("{text:?} is no time like 10m, 30s or 2h");
        let unit = text.chars().next_back().ok_or_else(wrong)?;
        let number = &text[..text.len() - unit.len_utf8()];
        let number: u64 = number.trim().parse().map_err(|_| wrong())?;
        let seconds = match unit {
            's' => number,
            'm' => number.saturating_mul(60),
            'h' => number.saturating_mul(3600),
            _ => return Err(wrong()),
        };
        Ok(Span(Duration::from_secs(seconds.min(86_400))))
    }
}

impl Serialize for Span {
    fn serialize<S: Serializer>(&self, to: S) -> std::result::Result<S::Ok, S::Error> {
        to.serialize_str(&format!("{}s", self.0.as_secs()))
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let seconds = self.0.as_secs();
        let (number, unit) = match seconds {
            s if s >= 3600 && s.is_multiple_of(3600) => (s / 3600, "hour"),
            s if s >= 60 && s.is_multiple_of(60) => (s / 60, "minute"),
            s => (s, "second"),
        };
        let plural = if number == 1 { "" } else { "s" };
        write!(f, "{number} {unit}{plural}")
    }
}

impl<'de> Deserialize<'de> for Span {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Span, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl Config {
    /// How the machine is reached on which the folder lies; `home` is the folder that holds these settings.
    fn means(&self, home: &Path) -> Means {
        let env = self.password_env.clone().map(Password::Env);
        let file = self.password_file.as_ref();
        let file = file.map(|file| Password::File(home.join(file)));
        Means {
            through: (!self.through.is_empty()).then(|| self.through.clone()),
            shell: (!self.shell.is_empty()).then(|| self.shell.clone()),
            password: env.or(file),
            connections: self.connections,
            ca: self.ca.as_ref().map(|file| home.join(file)),
        }
    }

    /// Reads the text of `lantern.toml`.
    ///
    /// # Errors
    /// On anything that is not as docs/formats/lantern.md says, in words, with the line where there is one.
    pub fn parse(text: &str) -> std::result::Result<Config, String> {
        let config: Config = toml_edit::de::from_str(text)
            .map_err(|error| with_nearest(error.to_string().trim_end()))?;
        if config.format != 1 {
            return Err(format!(
                "it is of format {}; this lantern reads format 1",
                config.format
            ));
        }
        if let Some(at) = config.players_at.as_ref().filter(|at| !is_web(at)) {
            return Err(format!("players_at: \"{at}\" is no http or https address"));
        }
        if let Some(why) = config.tell.iter().find_map(TellWords::fault) {
            return Err(why.into());
        }
        match config.console.fault() {
            Some(why) => Err(why.into()),
            None => Ok(config),
        }
    }
}

/// A server in lantern's care: its folder, settings and family.
#[derive(Debug, Clone)]
pub struct Server {
    /// The folder.
    pub folder: Folder,
    /// What `lantern.toml` says.
    pub config: Config,
    /// What its family file says.
    pub family: Family,
    /// For a copy that a plan is rehearsed on: the folder of the server that it is a copy of.
    pub copy_of: Option<Folder>,
    /// The machine that it runs on.
    pub runner: Arc<dyn Runner>,
    /// Who starts and stops it by hand, where lantern has no way to it.
    pub person: Option<Arc<dyn Person>>,
    /// What came of looking, as it was opened, whether somebody else has worked at it from elsewhere.
    pub brought: Brought,
    /// What is known of it, where it runs on another machine, besides what is seen now.
    pub memory: Memory,
    /// Where its operations wait for those of others, which it goes down together with.
    pub seat: Option<Seat>,
    /// Of an install that several servers run on, what is each one's own.
    shares: Vec<Arc<several::Share>>,
    /// Which of several servers of an install this is.
    which: Option<several::Which>,
}

/// Whether a path is on the keep list of a family, or on a server's own.
fn keeps(family: &Family, own: &[Glob], path: &str) -> bool {
    let is_order = |path: &str| {
        family
            .order
            .as_ref()
            .is_some_and(|it| it.file.matches(path))
    };
    family.keeps(path) || !is_order(path) && own.iter().any(|glob| glob.matches(path))
}

/// Says of links, by path, whether they are taken for the folders they lead to: what is on the keep list has to be backed up and
/// watched wherever it lies, and components are there wherever they are.
pub fn as_folders(
    family: &Family,
    own: &[Glob],
) -> impl Fn(&str) -> bool + Send + Sync + 'static + use<> {
    let (family, own) = (family.clone(), own.to_vec());
    move |link| {
        keeps(&family, &own, &format!("{link}/_"))
            || family.readers.iter().any(|reader| reader.lies_in(link))
    }
}

impl Server {
    /// Opens a server that was adopted.
    ///
    /// # Errors
    /// When the folder is not in care, or its settings or family cannot be read.
    pub fn open(path: &Path) -> Result<Server> {
        let folder = Folder::open(path)?;
        let file = folder.root().join(FILE);
        if !here::look(&file).is_some_and(|meta| meta.is_file()) {
            return Err(ConfigFault::NotAdopted(path.into()).into());
        }
        let text = here::read_text(&file)?;
        let fault = |why: String| {
            Error::Config(ConfigFault::Text {
                path: file.clone(),
                why,
            })
        };
        let config = Config::parse(&text).map_err(fault)?;
        let log = config.console.log.as_deref().and_then(Path::to_str);
        let folder = match &config.folder {
            None => folder,
            Some(_) if log.is_some_and(|log| RelPath::parse(log).is_err()) => {
                let why = "console.log: of a server on another machine it has to be a path in the server folder";
                return Err(fault(why.into()));
            }
            Some(address) => {
                let address = Address::parse(address).map_err(fault)?;
                let means = config.means(folder.root());
                folder.of_far(&address, &means)?
            }
        };
        let brought = records::bring(&folder)?;
        let mut family = family(&config.family, folder.root())?;
        let limits = &config.limits;
        let console = &mut family.console;
        console.ready_timeout_s = limits.start_s.unwrap_or(console.ready_timeout_s);
        console.stop_timeout_s = limits.stop_s.unwrap_or(console.stop_timeout_s);
        console.hold_ms = limits
            .hold_s
            .map_or(console.hold_ms, |s| s.saturating_mul(1000));
        let known: Vec<&str> = console.settings.iter().map(|s| s.name.as_str()).collect();
        let of_one = config.servers.iter().flat_map(|one| one.expect.keys());
        let mut expected = config.expect.keys().chain(of_one);
        if let Some(name) = expected.find(|name| !known.contains(&name.as_str())) {
            let known = known.join(", ");
            return Err(fault(format!(
                "expect.{name}: the family knows no such setting; it knows: {known}"
            )));
        }
        let (family, shares) = several::shared(&config, family).map_err(fault)?;
        let mut server = Server {
            folder,
            config,
            family,
            copy_of: None,
            runner: Arc::new(ThisMachine),
            person: None,
            brought,
            memory: Memory::default(),
            seat: None,
            shares,
            which: None,
        };
        if !server.folder.is_far() {
            let wanted = as_folders(&server.family, &server.config.keep);
            server.folder = server.folder.following(wanted);
        }
        Ok(server)
    }

    /// How long a person is waited for who does something by hand.
    pub fn by_hand_limit(&self) -> Duration {
        Duration::from_secs(self.config.limits.by_hand_s.unwrap_or(BY_HAND_S))
    }

    /// Refuses where the server folder lies on another machine.
    ///
    /// # Errors
    /// [`Error::Far`].
    pub fn refuse_far(&self, doing: &'static str) -> Result<()> {
        match &self.config.folder {
            None => Ok(()),
            Some(address) => Err(Error::Far {
                address: address.clone(),
                doing,
            }),
        }
    }

    /// The version that is stated of a server program outside the folder, where it is not this one; an empty text where none is.
    pub fn stated_otherwise(&self, version: &str) -> Option<&str> {
        let notation = self.family.versions.server;
        let stated = self.config.server_version.as_deref().unwrap_or_default();
        let same = match (
            Version::parse(stated, notation),
            Version::parse(version, notation),
        ) {
            (Ok(stated), Ok(version)) => stated == version,
            _ => stated == version,
        };
        (self.family.build.outside && !same).then_some(stated)
    }

    /// Files in the folder that are lantern's own: its settings, and the family file where it lies there.
    pub fn own_files(&self) -> Vec<RelPath> {
        let family = self.folder.root().join(&self.config.family);
        let family = here::real(&family).and_then(|real| self.folder.below(&real));
        let family = family.and_then(|path| RelPath::parse(path.to_str()?).ok());
        let settings = RelPath::parse(FILE).ok();
        settings.into_iter().chain(family).collect()
    }

    /// The environment variable that holds the remote console's password: no other program gets it.
    pub fn password_env(&self) -> Option<&str> {
        let of_each = self.config.servers.iter().map(|one| &one.console);
        let mut all = std::iter::once(&self.config.console).chain(of_each);
        all.find_map(|console| match &console.line {
            Some(LineWay::Remote(remote)) => remote.password_env.as_deref(),
            _ => None,
        })
    }

    /// The catalogues that are always looked at.
    pub fn catalogues(&self) -> Vec<PathBuf> {
        let paths = self.config.catalogues.iter();
        paths.map(|words| self.whole(words.at())).collect()
    }

    fn whole(&self, at: &Path) -> PathBuf {
        match at.to_str().is_some_and(is_web) {
            true => at.to_owned(),
            false => self.folder.root().join(at),
        }
    }

    /// The key by which a catalogue has to be signed, where one is stated.
    pub fn key_of(&self, catalogue: &Path) -> Option<&str> {
        let mut words = self.config.catalogues.iter();
        words.find_map(|words| words.key().filter(|_| self.whole(words.at()) == catalogue))
    }

    /// Who fetches files for it.
    ///
    /// # Errors
    /// When a file that `[gather]` names cannot be read, or a variable is not set.
    pub fn gatherer(&self) -> Result<Gatherer> {
        Gatherer::new(&self.config.gather, self.folder.root())
    }

    /// The store of what was fetched.
    pub fn store(&self) -> Store {
        let folder = self.config.gather.store.as_ref();
        let folder = folder.map(|folder| self.folder.root().join(folder));
        Store::at(folder.as_deref())
    }

    /// The drop folders that are always looked at.
    pub fn drop_folders(&self) -> Vec<PathBuf> {
        let paths = self.config.drop.iter();
        paths.map(|path| self.folder.root().join(path)).collect()
    }

    /// How the server is started: what the family says, with what `lantern.toml` adds.
    pub fn launch(&self) -> Launch {
        let mut launch = self.family.launch.clone();
        let own = &self.config.launch;
        launch.scripts.0.extend(own.scripts.iter().cloned());
        launch.updates.extend(own.updates.iter().cloned());
        launch.starts = own.starts.clone().or(launch.starts);
        launch
    }

    /// The recipe for the server program: this server's own, or the family's.
    pub fn recipe(&self) -> Option<&Acquire> {
        let own = self.config.acquire.as_ref();
        own.or(self.family.build.acquire.as_ref())
    }

    /// This server with more on its keep list; patterns that say nothing new change nothing.
    ///
    /// # Errors
    /// When a pattern is none.
    pub fn keeping<'p>(&self, patterns: impl Iterator<Item = &'p str>) -> Result<Server> {
        let mut server = self.clone();
        for pattern in patterns {
            if server.keep().iter().all(|glob| glob.as_str() != pattern) {
                let glob = Glob::new(pattern).map_err(|why| {
                    Error::Config(ConfigFault::Text {
                        path: self.folder.root().join(FILE),
                        why,
                    })
                })?;
                server.config.keep.push(glob);
            }
        }
        Ok(server)
    }

    /// What the administrator wants to be started before what: the first, and the later one.
    pub fn sooner(&self) -> Vec<(Id, Id)> {
        let turns = self.config.starts.iter();
        let pairs = turns.flat_map(|(id, turn)| {
            let after = turn.after.iter().map(|first| (first.clone(), id.clone()));
            let before = turn.before.iter().map(|later| (id.clone(), later.clone()));
            after.chain(before)
        });
        pairs.collect()
    }

    /// All path patterns of the keep list, the family's first.
    pub fn keep(&self) -> Vec<Glob> {
        let family = self.family.layout.keep.iter();
        family.chain(&self.config.keep).cloned().collect()
    }

    /// Whether a path is on the keep list of the family or of this server.
    pub fn keeps(&self, path: &str) -> bool {
        keeps(&self.family, &self.config.keep, path)
    }

    /// Whether something on the keep list may lie below a folder.
    pub fn may_keep_below(&self, folder: &str) -> bool {
        let mut own = self.config.keep.iter();
        self.family.may_keep_below(folder) || own.any(|glob| glob.may_match_below(folder))
    }
}

/// The families that ship with lantern.
///
/// # Errors
/// When one of them is broken, which the tests rule out.
pub fn shipped_families() -> Result<Vec<Family>> {
    let families = SHIPPED
        .iter()
        .map(|(name, text)| parse(text, Path::new(name)));
    families.collect()
}

/// Reads a family by its name, or by the path of its file, relative to `base`.
///
/// # Errors
/// When there is none of that name, or the file cannot be made sense of.
pub fn family(name: &str, base: &Path) -> Result<Family> {
    let text = family_text(name, base)?;
    match SHIPPED.iter().any(|(shipped, _)| *shipped == name) {
        true => parse(&text, Path::new(name)),
        false => parse(&text, &base.join(name)),
    }
}

/// The text of a family file: of one that ships with lantern by its name, of another by its path, relative to `base`.
///
/// # Errors
/// When there is none, or it cannot be read.
pub fn family_text(name: &str, base: &Path) -> Result<String> {
    if let Some((_, text)) = SHIPPED.iter().find(|(shipped, _)| *shipped == name) {
        return Ok((*text).to_owned());
    }
    if !name.contains(['/', '.']) {
        return Err(ConfigFault::UnknownFamily {
            name: name.into(),
            known: SHIPPED.iter().map(|(name, _)| (*name).to_owned()).collect(),
        }
        .into());
    }
    here::read_text(&base.join(name))
}

/// So many different families are kept as they were read.
const FAMILIES: usize = 8;

fn parse(text: &str, path: &Path) -> Result<Family> {
    // A group opens hundreds of servers of one kind, and making sense of what a family says takes longer than all else of that.
    static READ: Mutex<VecDeque<(String, Family)>> = Mutex::new(VecDeque::new());
    let mut read = READ.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((_, family)) = read.iter().find(|(known, _)| known == text) {
        return Ok(family.clone());
    }
    let family = Family::parse(text).map_err(|fault: FamilyFault| {
        Error::Config(ConfigFault::Family {
            path: path.into(),
            fault,
        })
    })?;
    read.truncate(FAMILIES - 1);
    read.push_front((text.to_owned(), family.clone()));
    Ok(family)
}
