//! `lantern notice`: what players are told of a change.

use super::armed::{self, choose};
use super::open_to_look;
use crate::answers::{NoticeTold, Written};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, time};
use crate::paper;
use clap::{Args, ValueEnum};
use lantern_core::notice::{Moment, Notice, Style};
use lantern_core::operation::OperationKind;
use lantern_core::plan::Plan;
use lantern_host::config::Server;
use lantern_host::ledger::{Ledger, Logged};
use lantern_host::telling::{self, Message, Told};
use lantern_host::{Error, Result};
use std::path::PathBuf;

/// Write what players are told of a change: of a plan, or of what was done
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern notice --when 'tonight at ten'      the armed plan\n  lantern notice 3 --as html                  what number 3 did\n  lantern notice --as feed --out www/news.atom"
)]
pub struct NoticeArgs {
    /// A plan, by its name or as a file, or the number of an operation; otherwise the armed plan
    #[arg(value_name = "PLAN|N")]
    what: Option<String>,
    /// The notation
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
    /// When it is to be, in your words
    #[arg(long, value_name = "TEXT")]
    when: Option<String>,
    /// Tell it now, to everybody whom lantern.toml names for such a moment
    #[arg(long, conflicts_with = "out")]
    send: bool,
    /// The file; otherwise it is shown
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
}

/// A notation of a notice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// Plain text
    Text,
    /// HTML, to be put into a page
    Html,
    /// Markdown
    Markdown,
    /// All that was done, as an Atom feed
    Feed,
}

/// Shows, writes or sends a notice.
pub fn run(args: &NoticeArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let ledger = Ledger::open(&server.folder)?;
    let style = match args.form {
        Form::Text => Style::Text,
        Form::Html => Style::Html,
        Form::Markdown => Style::Markdown,
        Form::Feed => return feed(args, server, &ledger, common, look),
    };
    let number = args.what.as_ref().and_then(|text| text.parse::<i64>().ok());
    let mut notice = match number {
        Some(number) => of_operation(server, &ledger, number)?,
        None => {
            let chosen = choose(args.what.as_deref(), false, server)?;
            of_plan(server, &ledger, &chosen.plan)?
        }
    };
    notice.when.clone_from(&args.when);
    let text = notice.told(style, server.config.notice.template(style));
    let text = text.map_err(|fault| Error::Template {
        what: format!("the template of [notice] for {style:?}").to_lowercase(),
        fault,
    })?;
    if args.send {
        let told = telling::tell(server, Message::Change(&notice));
        tell_told(&told, look);
        if told.is_empty() {
            look.say("Nobody is named for such a moment: lantern.toml has no [[tell]] for it.");
        }
        let failed = told.iter().any(|it| it.fault.is_some());
        return Ok(if failed {
            fail::ERROR
        } else {
            looked.status(fail::DONE)
        });
    }
    match &args.out {
        Some(out) => written(out, &text, common, look)?,
        None if look.json => look.answer(&NoticeTold {
            notice: &notice,
            text: &text,
        }),
        None => look.say(text.trim_end()),
    }
    Ok(looked.status(fail::DONE))
}

fn feed(
    args: &NoticeArgs,
    server: &Server,
    ledger: &Ledger,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let text = telling::feed_of(server, ledger)?;
    match &args.out {
        Some(out) => written(out, &text, common, look)?,
        None => look.say(text.trim_end()),
    }
    Ok(fail::DONE)
}

fn written(out: &PathBuf, text: &str, common: &Common, look: &Look) -> Result<()> {
    paper::write(out, text, common)?;
    let bytes = text.len() as u64;
    match look.json {
        true => look.answer(&Written { out, bytes }),
        false => look.say(&look.paint(
            Means::Title,
            &format!("{}: {}.", shell_word(out), crate::look::bytes(bytes)),
        )),
    }
    Ok(())
}

/// What there is to tell of a plan before it is carried out.
///
/// # Errors
/// When the ledger cannot be read.
pub fn of_plan(server: &Server, ledger: &Ledger, plan: &Plan) -> Result<Notice> {
    let ends = (plan.from.as_deref(), plan.to.as_str());
    let mut notice = Notice::new(
        Moment::Before,
        &plan.server,
        ends,
        &plan.components,
        &plan.clients,
    );
    notice.away = armed::last_away(&server.each(), ledger)?.map(|away| about(away.ms()));
    Ok(notice)
}

/// What there is to tell of a past operation.
fn of_operation(server: &Server, ledger: &Ledger, number: i64) -> Result<Notice> {
    let mut notice = telling::of_operation(server, ledger, number)?;
    let times = ledger.detail(number)?.times;
    notice.away = times.and_then(|times| times.total_ms()).map(time);
    Ok(notice)
}

/// A time as one promises it: never less than it takes, and not to the second.
fn about(ms: u64) -> String {
    let seconds = ms.div_ceil(1000).max(1);
    match seconds {
        0..=10 => "10 seconds".into(),
        11..=60 => format!("{} seconds", seconds.div_ceil(10) * 10),
        more => match more.div_ceil(60) {
            1 => "a minute".into(),
            minutes => format!("{minutes} minutes"),
        },
    }
}

/// Tells everybody whom lantern.toml names, before a changeover or after it; that it cannot be done stops nothing.
pub fn tell(server: &Server, notice: &Notice, look: &Look) {
    tell_told(&telling::tell(server, Message::Change(notice)), look);
}

/// Tells how a changeover has ended that was gone on with, where the ledger has one of this number or a later one.
///
/// # Errors
/// When the ledger cannot be read.
pub fn tell_from(number: i64, server: &Server, ledger: &Ledger, look: &Look) -> Result<()> {
    let is_it = |it: &&Logged| it.number >= number && it.kind == OperationKind::Changeover;
    let operations = ledger.operations()?;
    if let Some(ended) = operations.iter().rfind(is_it) {
        tell(server, &of_operation(server, ledger, ended.number)?, look);
    }
    keep_feed(server, ledger, look);
    Ok(())
}

/// Writes the feed anew where lantern.toml wants one; that it cannot be done stops nothing.
pub fn keep_feed(server: &Server, ledger: &Ledger, look: &Look) {
    if let Err(error) = telling::keep_feed(server, ledger) {
        let text = format!("was not written: {error}");
        look.talk(&look.row("the feed", 14, &text));
    }
}

fn tell_told(told: &[Told], look: &Look) {
    for it in told {
        let text = match &it.fault {
            None => it.who.clone(),
            Some(fault) => {
                let not = look.paint_error(Means::Bad, "was not");
                format!("{} {not}: {fault}", it.who)
            }
        };
        look.talk(&look.row("told", 14, &text));
    }
}
