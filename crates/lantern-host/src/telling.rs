//! Telling people of a change: by a command, or by sending it to an address.
//!
//! Whatever goes wrong here is told, and stops nothing.

use crate::changeover::cut_off_plan;
use crate::config::{Server, TellWords};
use crate::error::{Error, Result};
use crate::history;
use crate::ledger::Ledger;
use crate::place::here;
use crate::runner::Ended;
use crate::web::Web;
use lantern_core::notice::{FeedEntry, Moment, Notice, Occasion, ServerNews, Style, feed, urn};
use lantern_core::operation::OperationKind;
use lantern_core::page::{For, TemplateFault, fill};
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::time::Duration;
use url::Url;

/// So long may telling somebody take.
const LIMIT: Duration = Duration::from_secs(20);
/// So many entries stand in a feed.
const MOST_ENTRIES: usize = 30;

/// Somebody who was told, or could not be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Told {
    /// Who: a program, or a host.
    pub who: String,
    /// Why not; none where it was taken.
    pub fault: Option<String>,
}

/// What is told.
#[derive(Debug, Clone, Copy, Serialize)]
#[serde(untagged)]
pub enum Message<'a> {
    /// Of a change.
    Change(&'a Notice),
    /// What is new of a server.
    News(&'a ServerNews),
}

impl Message<'_> {
    fn occasion(self) -> Occasion {
        match self {
            Message::Change(notice) => notice.moment.into(),
            Message::News(news) => news.moment,
        }
    }

    fn title(self) -> String {
        match self {
            Message::Change(notice) => notice.title(),
            Message::News(news) => news.title(),
        }
    }

    /// It, in words; of a change by the templates of lantern.toml.
    fn told(self, style: Style, server: &Server) -> std::result::Result<String, TemplateFault> {
        match self {
            Message::Change(notice) => notice.told(style, server.config.notice.template(style)),
            Message::News(news) => news.told(style),
        }
    }
}

/// Tells everybody whom lantern.toml names for this moment.
pub fn tell(server: &Server, message: Message<'_>) -> Vec<Told> {
    let meant = server
        .config
        .tell
        .iter()
        .filter(|words| words.on.contains(&message.occasion()));
    let told = meant.map(|words| Told {
        who: who(words),
        fault: tell_one(server, words, message).err(),
    });
    told.collect()
}

fn who(words: &TellWords) -> String {
    match (&words.command, &words.post) {
        (Some(command), _) => command.first().cloned().unwrap_or_default(),
        (None, Some(post)) => {
            let host = Url::parse(post)
                .ok()
                .and_then(|url| url.host_str().map(str::to_owned));
            host.unwrap_or_else(|| "its address".into())
        }
        (None, None) => String::new(),
    }
}

/// What is told to somebody, with all that it holds.
#[derive(Serialize)]
struct Data<'a> {
    #[serde(flatten)]
    message: Message<'a>,
    title: String,
    text: &'a str,
}

fn tell_one(
    server: &Server,
    words: &TellWords,
    message: Message<'_>,
) -> std::result::Result<(), String> {
    let text = message
        .told(words.style, server)
        .map_err(|fault| format!("its template, {fault}"))?;
    match (&words.command, &words.post) {
        (Some(command), _) => run(server, command, &text),
        (None, Some(post)) => send(server, words, post, message, &text),
        (None, None) => Ok(()),
    }
}

fn run(server: &Server, command: &[String], text: &str) -> std::result::Result<(), String> {
    let said = |error: std::io::Error| crate::told::plain(&error);
    let scratch = tempfile::tempdir().map_err(said)?;
    let file = scratch.path().join("notice.txt");
    here::write(&file, text.as_bytes()).map_err(|error| error.to_string())?;
    let filled = command.iter().map(|word| {
        word.replace("{text}", text)
            .replace("{file}", &file.to_string_lossy())
    });
    let filled: Vec<String> = filled.collect();
    let log = scratch.path().join("log");
    let ended = server
        .runner
        .run(&filled, server.folder.root(), &log, LIMIT, None)
        .map_err(said)?;
    let how = match ended {
        Ended::Well => return Ok(()),
        Ended::Badly(how) => how,
        Ended::TooSlow => format!("it took over {} seconds, and was ended", LIMIT.as_secs()),
    };
    let printed = here::read_text(&log).unwrap_or_default();
    let last = printed.lines().rev().find(|line| !line.trim().is_empty());
    Err(match last {
        Some(last) => format!("{how}; it said: {}", last.trim()),
        None => how,
    })
}

fn send(
    server: &Server,
    words: &TellWords,
    post: &str,
    message: Message<'_>,
    text: &str,
) -> std::result::Result<(), String> {
    let url = Url::parse(post).map_err(|error| error.to_string())?;
    let data = Data {
        message,
        title: message.title(),
        text,
    };
    let body = match &words.body {
        Some(template) => {
            fill(template, For::Text, &data).map_err(|fault| format!("`body`, {fault}"))?
        }
        None => text.to_owned(),
    };
    let kind = words
        .content_type
        .as_deref()
        .unwrap_or(match (&words.body, words.style) {
            (None, Style::Html) => "text/html; charset=utf-8",
            _ => "text/plain; charset=utf-8",
        });
    let secret = words.key.as_ref().map(|key| {
        let value = match (&key.env, &key.file) {
            (Some(name), _) => std::env::var(name)
                .map_err(|_| format!("the environment variable {name} is not set")),
            (None, Some(file)) => {
                let path = server.folder.root().join(file);
                here::read_text(&path).map_err(|error| error.to_string())
            }
            (None, None) => Ok(String::new()),
        };
        value.map(|value| {
            (
                key.header.clone(),
                format!("{}{}", key.before, value.trim()),
            )
        })
    });
    let secret = secret.transpose()?;
    let ca = server
        .config
        .gather
        .ca
        .as_ref()
        .map(|ca| server.folder.root().join(ca));
    let web = Web::new(ca.as_deref()).map_err(|error| error.to_string())?;
    web.post(&url, kind, secret.as_ref(), body.as_bytes(), LIMIT)
        .map_err(|fault| fault.to_string())
}

/// The feed of what was done to a server, the newest first.
///
/// # Errors
/// When the ledger cannot be read, or a template makes no sense.
pub fn feed_of(server: &Server, ledger: &Ledger) -> Result<String> {
    let mut entries = Vec::new();
    let mut latest = None;
    for past in history::history(server, ledger)?.into_iter().rev() {
        let operation = past.operation;
        let is_told = operation.kind == OperationKind::Changeover
            && operation.failed.is_none()
            && !operation.undone;
        if !is_told || entries.len() == MOST_ENTRIES {
            continue;
        }
        let at = jiff::Timestamp::from_millisecond(operation.ended_ms).unwrap_or_default();
        let at = at.strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
        let notice = of_operation(server, ledger, operation.number)?;
        let html = notice.told(Style::Html, server.config.notice.template(Style::Html));
        let html = html.map_err(|fault| Error::Template {
            what: "notice.html of lantern.toml".into(),
            fault,
        })?;
        latest.get_or_insert_with(|| at.clone());
        entries.push(FeedEntry {
            id: urn(&format!("{} {}", server.config.id, operation.number)),
            title: notice.title(),
            updated: at,
            html,
        });
    }
    let latest = latest.unwrap_or_else(|| "1970-01-01T00:00:00Z".into());
    Ok(feed(
        &urn(&server.config.id),
        &server.config.name,
        &latest,
        &entries,
    ))
}

/// Writes the feed where lantern.toml wants it; whether it does.
///
/// # Errors
/// When it cannot be made or written.
pub fn keep_feed(server: &Server, ledger: &Ledger) -> Result<bool> {
    let Some(path) = &server.config.notice.feed else {
        return Ok(false);
    };
    let path = server.folder.root().join(path);
    write_feed(server, ledger, &path)?;
    Ok(true)
}

/// Writes the feed to a file.
///
/// # Errors
/// As [`keep_feed`].
pub fn write_feed(server: &Server, ledger: &Ledger, path: &Path) -> Result<()> {
    let text = feed_of(server, ledger)?;
    here::write_whole(path, &mut |file| {
        std::io::Write::write_all(file, text.as_bytes())
    })
}

/// What there is to tell once an undo has taken back what there is to take back: a changeover, a cut-off one among them; none of
/// anything else.
///
/// # Errors
/// When the journal or the ledger cannot be read.
pub fn of_taking_back(server: &Server, ledger: &Ledger) -> Result<Option<Notice>> {
    let (mut notice, why) = match cut_off_plan(server)? {
        Some(plan) => {
            let ends = (plan.from.as_deref(), plan.to.as_str());
            let notice = Notice::new(
                Moment::Failed,
                &plan.server,
                ends,
                &plan.components,
                &plan.clients,
            );
            (notice, "it was cut off, and taken back")
        }
        None => {
            let last = ledger.last_in_force()?;
            let Some(last) = last.filter(|last| last.kind == OperationKind::Changeover) else {
                return Ok(None);
            };
            let notice = of_operation(server, ledger, last.number)?;
            (notice, "it was taken back")
        }
    };
    notice.moment = Moment::Failed;
    notice.back = true;
    notice.why = Some(why.into());
    Ok(Some(notice))
}

/// What there is to tell of a past operation.
///
/// # Errors
/// When there is none of that number.
pub fn of_operation(server: &Server, ledger: &Ledger, number: i64) -> Result<Notice> {
    let all = history::history(server, ledger)?;
    let last = all.last().map(|past| past.operation.number);
    let past = all.into_iter().find(|past| past.operation.number == number);
    let operation = past.ok_or(Error::NoOperation { number, last })?.operation;
    let detail = ledger.detail(number)?;
    let moment = match operation.failed {
        None => Moment::Done,
        Some(_) => Moment::Failed,
    };
    let from = Some(operation.from.as_str()).filter(|from| !from.is_empty());
    let ends = (from, operation.to.as_str());
    let mut notice = Notice::new(
        moment,
        &server.config.name,
        ends,
        &detail.components,
        &detail.clients,
    );
    // What is recorded as failed went back.
    notice.back = operation.failed.is_some();
    notice.why = operation.failed;
    Ok(notice)
}
