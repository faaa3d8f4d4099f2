//! A report for co-admins: all that a plan will do, or that an operation did, in one page.

use crate::clients::ClientChange;
use crate::component::{Id, Kind};
use crate::health::ErrorSeen;
use crate::operation::{Detail, StepTaken};
use crate::page::{For, TemplateFault, fill, whole};
use crate::plan::{
    ComponentChange, Decided, Fate, FileMerge, OrderChange, Plan, Rename, Step, Switched, TextEdit,
    Yours,
};
use crate::text::shown;
use serde::Serialize;
use similar::{ChangeTag, TextDiff};

/// In what state the change is that a report tells of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It is a plan.
    Planned,
    /// It was done.
    Done,
    /// It failed, and the old state came back.
    Failed,
    /// It was done, and taken back since.
    TakenBack,
}

/// The notation of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Style {
    /// One page of HTML that asks for nothing else.
    Html,
    /// Markdown.
    Markdown,
    /// Plain text, as for a mail.
    Text,
}

/// A line of a difference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Line {
    /// `-` for what goes, `+` for what comes, a blank for what stays.
    mark: char,
    text: String,
}

/// How a file, or a load order, differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Difference {
    name: String,
    lines: Vec<Line>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Component {
    what: String,
    kind: Kind,
    id: Id,
    from: Option<String>,
    to: Option<String>,
    why: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Decision {
    path: String,
    what: String,
    decided: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Carried {
    path: String,
    told: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Players {
    name: String,
    before: Option<String>,
    after: Option<String>,
    by: String,
    todo: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Taken {
    name: &'static str,
    what: String,
    ms: Option<u64>,
}

/// How long the server was away, and its parts in hundredths.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
struct Away {
    total_ms: u64,
    stop_ms: u64,
    own_ms: u64,
    waited_ms: u64,
    by_hand_ms: u64,
    start_ms: u64,
    stop: u64,
    own: u64,
    waited: u64,
    by_hand: u64,
    start: u64,
}

/// All that a report tells.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Report {
    server: String,
    title: String,
    state: State,
    when: Option<String>,
    why: Option<String>,
    from: Option<String>,
    to: String,
    changed: Vec<Component>,
    unchanged: Vec<Id>,
    players: Vec<Players>,
    orders: Vec<Difference>,
    files: Vec<Difference>,
    renames: Vec<Rename>,
    carried: Vec<Carried>,
    decisions: Vec<Decision>,
    yours: Vec<Carried>,
    steps: Vec<Taken>,
    away: Option<Away>,
    backup: Option<String>,
    new_errors: Vec<String>,
    known_errors: Vec<String>,
    kept: Vec<String>,
    notes: Vec<String>,
}

/// What is known of a past operation besides its detail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Past {
    /// Its number.
    pub number: i64,
    /// What it was, in a word.
    pub what: String,
    /// The state that it is in.
    pub state: State,
    /// When it ended, in words.
    pub when: String,
    /// Why it failed, where it did.
    pub why: Option<String>,
    /// The server version before; none where it is not known.
    pub from: Option<String>,
    /// The server version afterwards.
    pub to: String,
}

impl Report {
    /// What a plan will do; `name` is the plan's.
    pub fn of_plan(plan: &Plan, name: &str) -> Report {
        let mut report = Report::new(
            &plan.server,
            format!("plan {name}"),
            State::Planned,
            (plan.from.as_deref(), &plan.to),
        );
        report.take(
            &plan.components,
            &plan.edits,
            &plan.renames,
            &plan.merges,
            &plan.yours,
        );
        report.players = players(&plan.clients);
        report.orders = orders(&plan.orders);
        report.steps = plan.steps.iter().map(|step| planned(*step)).collect();
        report.kept.clone_from(&plan.keep.patterns);
        report.notes.clone_from(&plan.notes);
        report
    }

    /// What an operation did.
    pub fn of_operation(server: &str, past: &Past, detail: &Detail) -> Report {
        let title = format!("{} {}", past.what, past.number);
        let mut report = Report::new(server, title, past.state, (past.from.as_deref(), &past.to));
        report.take(
            &detail.components,
            &detail.edits,
            &detail.renames,
            &detail.merges,
            &detail.yours,
        );
        report.players = players(&detail.clients);
        report.orders = orders(&detail.orders);
        report.when = Some(past.when.clone());
        report.why.clone_from(&past.why);
        report.steps = detail.steps.iter().map(taken).collect();
        report.away = detail.times.and_then(|times| {
            let total = times.total_ms()?;
            let stop = times.stop_ms?;
            let part = |ms: u64| (ms * 100).checked_div(total).unwrap_or(0);
            Some(Away {
                total_ms: total,
                stop_ms: stop,
                own_ms: times.own_ms,
                waited_ms: times.waited_ms,
                start_ms: times.start_ms,
                by_hand_ms: times.by_hand_ms,
                stop: part(stop),
                own: part(times.own_ms),
                waited: part(times.waited_ms),
                by_hand: part(times.by_hand_ms),
                start: part(times.start_ms),
            })
        });
        report.backup.clone_from(&detail.backup);
        let told = |known: bool| {
            let those = detail
                .errors
                .iter()
                .filter(move |error| error.known == known);
            those.map(ErrorSeen::text).collect()
        };
        (report.new_errors, report.known_errors) = (told(false), told(true));
        report
    }

    fn new(server: &str, title: String, state: State, (from, to): (Option<&str>, &str)) -> Report {
        Report {
            server: server.to_owned(),
            title,
            state,
            when: None,
            why: None,
            from: from.map(str::to_owned),
            to: to.to_owned(),
            changed: Vec::new(),
            unchanged: Vec::new(),
            players: Vec::new(),
            orders: Vec::new(),
            files: Vec::new(),
            renames: Vec::new(),
            carried: Vec::new(),
            decisions: Vec::new(),
            yours: Vec::new(),
            steps: Vec::new(),
            away: None,
            backup: None,
            new_errors: Vec::new(),
            known_errors: Vec::new(),
            kept: Vec::new(),
            notes: Vec::new(),
        }
    }

    fn take(
        &mut self,
        components: &[ComponentChange],
        edits: &[TextEdit],
        renames: &[Rename],
        merges: &[FileMerge],
        yours: &[Yours],
    ) {
        let stays = |it: &&ComponentChange| it.verdict == Fate::Unchanged && it.switched.is_none();
        self.unchanged = components
            .iter()
            .filter(stays)
            .map(|it| it.id.clone())
            .collect();
        let changed = components.iter().filter(|it| !stays(it));
        self.changed = changed.map(component).collect();
        self.files = edits.iter().map(edited).collect();
        self.renames = renames.to_vec();
        self.carried = merges.iter().map(carried).collect();
        self.decisions = merges.iter().flat_map(decisions).collect();
        let yours = yours.iter().map(|it| Carried {
            path: it.path.to_string(),
            told: it.why.as_str().to_owned(),
        });
        self.yours = yours.collect();
    }

    /// Says something more of it.
    pub fn notes(&mut self, note: String) {
        self.notes.push(note);
    }

    /// The report in words.
    ///
    /// # Errors
    /// Never, with our own templates.
    pub fn told(&self, style: Style) -> Result<String, TemplateFault> {
        match style {
            Style::Html => {
                let body = fill(include_str!("report.html"), For::Markup, self)?;
                Ok(whole(&format!("{}: {}", self.server, self.title), &body))
            }
            Style::Markdown => fill(include_str!("report.md"), For::Text, self),
            Style::Text => fill(include_str!("report.txt"), For::Text, self),
        }
    }
}

fn component(change: &ComponentChange) -> Component {
    let fate = match change.verdict {
        Fate::Updated => Some("update"),
        Fate::Added => Some("add"),
        Fate::Removed => Some("remove"),
        Fate::Unchanged => None,
    };
    let switched = change.switched.map(|switched| match switched {
        Switched::On => "switch on",
        Switched::Off => "switch off",
    });
    let words = [fate, switched].into_iter().flatten();
    Component {
        what: words.collect::<Vec<_>>().join(", "),
        kind: change.kind,
        id: change.id.clone(),
        from: change.from.clone(),
        to: change.to.clone(),
        why: change.why.clone(),
    }
}

fn players(clients: &[ClientChange]) -> Vec<Players> {
    // Who cannot join before or afterwards is no news.
    let joins = clients
        .iter()
        .filter(|it| it.before.is_some() || it.after.is_some());
    let each = joins.map(|change| Players {
        name: change.name().to_owned(),
        before: change.before.clone(),
        after: change.after.clone(),
        by: change.by.join(", "),
        todo: change.sentence(),
    });
    each.collect()
}

fn edited(edit: &TextEdit) -> Difference {
    let lines = edit.lines.iter().flat_map(|change| {
        let goes = change.was.iter().map(|text| Line {
            mark: '-',
            text: shown(text).to_owned(),
        });
        let comes = change.becomes.iter().map(|text| Line {
            mark: '+',
            text: shown(text).to_owned(),
        });
        goes.chain(comes)
    });
    Difference {
        name: edit.path.to_string(),
        lines: lines.collect(),
    }
}

fn orders(orders: &[OrderChange]) -> Vec<Difference> {
    let each = orders.iter().map(|order| {
        let ids = |ids: &[Id]| ids.iter().map(|id| format!("{id}\n")).collect::<String>();
        let (before, after) = (ids(&order.before), ids(&order.after));
        let lines = TextDiff::from_lines(&before, &after);
        let lines = lines.iter_all_changes().map(|change| Line {
            mark: match change.tag() {
                ChangeTag::Delete => '-',
                ChangeTag::Insert => '+',
                ChangeTag::Equal => ' ',
            },
            text: change.value().trim_end().to_owned(),
        });
        Difference {
            name: order.server.clone().unwrap_or_default(),
            lines: lines.collect(),
        }
    });
    each.collect()
}

/// How an edited file is carried over, by its counts.
fn carried(merge: &FileMerge) -> Carried {
    let counts = &merge.counts;
    let what = if counts.places { "places" } else { "values" };
    let parts = [
        (counts.kept, "kept as you have them"),
        (counts.new, "new"),
        (counts.followed, "taken from the release"),
        (counts.gone, "gone"),
        (counts.conflicts, "not decided"),
    ];
    let told = parts
        .iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, words)| format!("{count} {words}"));
    let told: Vec<String> = told.collect();
    Carried {
        path: merge.path.to_string(),
        told: match told.is_empty() {
            true => "nothing changes".into(),
            false => format!("{what}: {}", told.join(", ")),
        },
    }
}

fn decisions(merge: &FileMerge) -> Vec<Decision> {
    let each = merge.questions.iter().map(|asked| Decision {
        path: merge.path.to_string(),
        what: match &asked.key {
            Some(key) => key.clone(),
            None if asked.whole => "the whole file".into(),
            None => "lines".into(),
        },
        decided: match &asked.decided {
            None => "nobody decided".into(),
            Some(Decided::Mine) => "kept as it is here".into(),
            Some(Decided::Theirs) => "taken from the release".into(),
            Some(_) if asked.secret => "set (a secret)".into(),
            Some(Decided::Value(value)) => format!("set to {value}"),
            Some(Decided::Edited) => "written by hand".into(),
        },
    });
    each.collect()
}

fn planned(step: Step) -> Taken {
    Taken {
        name: step.name(),
        what: String::new(),
        ms: None,
    }
}

fn taken(step: &StepTaken) -> Taken {
    Taken {
        name: step.step.name(),
        what: step.what.clone(),
        ms: Some(step.ms),
    }
}
