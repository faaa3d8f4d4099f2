//! `lantern report`: all that a plan will do or an operation did, for co-admins.

use super::armed::choose;
use super::changeover::rehearsed;
use super::history::ends_and_state;
use super::open_to_look;
use crate::answers::Written;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes};
use crate::paper;
use clap::{Args, ValueEnum};
use lantern_core::report::{Report, State, Style};
use lantern_host::ledger::Ledger;
use lantern_host::rehearsal::report_on;
use lantern_host::{Error, Result, armed, learned};
use std::path::PathBuf;

/// Write a report for co-admins: of a plan, or of what was done
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern report --out plan.html        the armed plan\n  lantern report 3 --out done.html      what number 3 did\n  lantern report 3 --as markdown"
)]
pub struct ReportArgs {
    /// A plan, by its name or as a file, or the number of an operation; otherwise the armed plan
    #[arg(value_name = "PLAN|N")]
    what: Option<String>,
    /// The notation; of a file its name tells
    #[arg(long = "as", value_name = "FORM")]
    form: Option<Form>,
    /// The file; otherwise it is shown
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
}

/// A notation of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// One page that asks for nothing else
    Html,
    /// Markdown
    Markdown,
    /// Plain text, as for a mail
    Text,
}

impl ReportArgs {
    fn style(&self) -> Style {
        let ends = |end: &str| {
            let name = self
                .out
                .as_ref()
                .map(|out| out.to_string_lossy().to_lowercase());
            name.is_some_and(|name| name.ends_with(end))
        };
        match self.form {
            Some(Form::Html) => Style::Html,
            Some(Form::Markdown) => Style::Markdown,
            Some(Form::Text) => Style::Text,
            None if ends(".html") || ends(".htm") => Style::Html,
            None if ends(".md") => Style::Markdown,
            None => Style::Text,
        }
    }
}

/// Shows or writes a report.
pub fn run(args: &ReportArgs, common: &Common, look: &Look) -> Result<u8> {
    let looked = open_to_look(common, look)?;
    let server = &looked.server;
    let ledger = Ledger::open(&server.folder)?;
    let number = args.what.as_ref().and_then(|text| text.parse::<i64>().ok());
    let report = match number {
        Some(number) => {
            let past = ends_and_state(server, &ledger, number)?;
            let detail = ledger.detail(number)?;
            let mut report = Report::of_operation(&server.config.name, &past, &detail);
            // What made it fail, where that was found out.
            let facts = match past.state {
                State::Failed => learned::read(server)?,
                State::Planned | State::Done | State::TakenBack => Vec::new(),
            };
            for seen in facts {
                if seen.is_of(&detail.components, &past.to) {
                    report.notes(format!("{}: {}", seen.told(), seen.since()));
                }
            }
            report
        }
        None => {
            let chosen = choose(args.what.as_deref(), false, server)?;
            let mut report = Report::of_plan(&chosen.plan, &armed::name_of(&chosen.text));
            report.notes(match report_on(&chosen.path, &chosen.text) {
                Some(tried) => format!("this plan {}", rehearsed(&tried, &str::to_owned)),
                None => "this plan was not rehearsed".into(),
            });
            report
        }
    };
    let text = report.told(args.style()).map_err(|fault| Error::Template {
        what: "the report".into(),
        fault,
    })?;
    let Some(out) = &args.out else {
        look.say(text.trim_end());
        return Ok(looked.status(fail::DONE));
    };
    paper::write(out, &text, common)?;
    let size = text.len() as u64;
    match look.json {
        true => look.answer(&Written { out, bytes: size }),
        false => look.say(&look.paint(
            Means::Title,
            &format!("{}: {}.", shell_word(out), bytes(size)),
        )),
    }
    Ok(looked.status(fail::DONE))
}
