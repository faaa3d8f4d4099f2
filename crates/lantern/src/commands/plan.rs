//! `lantern plan`

use super::armed::{along, summary, way};
use super::question::{SourceArgs, TermArgs, tell_left_out};
use super::{client, fetching, merges, open_settled, request, tell_unshared};
use crate::answers;
use crate::candidates;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes, count};
use crate::paper;
use crate::progress::during;
use clap::Args;
use clap_complete::ArgValueCandidates;
use lantern_core::clients::ClientChange;
use lantern_core::component::Id;
use lantern_core::family::OrderRule;
use lantern_core::launch::is_script_by_name;
use lantern_core::path::RelPath;
use lantern_core::plan::{
    Action, ActionKind, ComponentChange, Fate, Plan, Rename, Switched, TextEdit, renamed,
};
use lantern_core::text::shown;
use lantern_host::armed::{self, Became};
use lantern_host::config::Server;
use lantern_host::glance;
use lantern_host::ledger::Ledger;
use lantern_host::planning::{self, Side, Sources, Terms};
use lantern_host::{Error, Result};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Work out a change: which releases fit together, which files move, which load order follows
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  lantern plan --to 5.4 --catalogue depot/verdance.catalogue.json\n  lantern plan --to best --from drop\n  lantern plan --to same --drop sun-clock --what-if"
)]
pub struct PlanArgs {
    /// The server version to move to, or a range; "same" keeps it, "best" takes the newest that fits
    #[arg(long, value_name = "VERSION", required_unless_present_any = ["request", "again", "proof"], add = ArgValueCandidates::new(candidates::versions))]
    to: Option<String>,
    #[command(flatten)]
    sources: SourceArgs,
    #[command(flatten)]
    terms: TermArgs,
    /// Choose a variant of a pack; it is remembered
    #[arg(long, value_name = "ID=NAME")]
    variant: Vec<String>,
    /// Ask once more what was asked last, with what was decided since
    #[arg(long, conflicts_with_all = ["to", "from", "catalogue", "request"])]
    again: bool,
    /// Where you and a release both changed something: keep yours, wherever nothing else was decided
    #[arg(long, conflicts_with = "theirs")]
    mine: bool,
    /// Where you and a release both changed something: take what is shipped, wherever nothing else was decided
    #[arg(long)]
    theirs: bool,
    /// Put what a release would write into the keep list, or over settings of the place's own, beside them, as *.new
    #[arg(long)]
    beside: bool,
    /// Fetch the files that it needs, where they are not here yet
    #[arg(long)]
    gather: bool,
    /// Only look: the plan is shown, and nothing is armed
    #[arg(long, conflicts_with = "out")]
    what_if: bool,
    /// Put the plan into a file, and do not arm it
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// Show every path
    #[arg(long)]
    files: bool,
    /// Save the question whole, so that it can be answered without this server
    #[arg(long, value_name = "FILE")]
    save_request: Option<PathBuf>,
    /// Answer a saved question; no server is needed and no plan is made
    #[arg(long, value_name = "FILE", conflicts_with_all = ["to", "from", "catalogue", "out", "save_request"])]
    request: Option<PathBuf>,
    /// Where a saved question has no answer: write down why, step by step, for a program that checks it
    #[arg(long, value_name = "FILE", requires = "request", conflicts_with_all = ["to", "again"])]
    proof: Option<PathBuf>,
}

/// Draws a plan, shows and saves it.
pub fn run(args: &PlanArgs, common: &Common, look: &Look) -> Result<u8> {
    if let Some(path) = &args.request {
        return request::answer(path, args.terms.all_remedies, args.proof.as_deref(), look);
    }
    let (server, _lock) = open_settled(common, look, "plan")?;
    let side = match (args.mine, args.theirs) {
        (true, _) => Some(Side::Mine),
        (_, true) => Some(Side::Theirs),
        (false, false) => None,
    };
    let (sources, terms) = match args.again {
        true => {
            let (sources, terms) = planning::last_question(&server)?;
            let undecided = side.or(terms.undecided);
            (sources, Terms { undecided, ..terms })
        }
        false => {
            // To take something out or switch it, nothing has to be on offer.
            if args.to.as_deref() != Some(planning::SAME) {
                args.sources.tell_none(&server, look);
            }
            args.sources.tell_unlike(&server, look);
            let terms = Terms {
                variant: args.variant.clone(),
                beside: args.beside,
                undecided: side,
                ..args.terms.to(args.to.as_deref().unwrap_or(planning::SAME))
            };
            (args.sources.named(), terms)
        }
    };
    let how = How {
        arms: !args.what_if && args.out.is_none(),
        saves: !args.what_if,
        out: args.out.as_deref(),
        request: args.save_request.as_deref(),
        all_files: args.files,
        gathers: args.gather,
        joint: None,
    };
    draw(&server, &sources, &terms, &how, common, look)
}

/// Asks once more what was asked last, arms and shows what comes of it.
pub fn again(server: &Server, common: &Common, look: &Look) -> Result<u8> {
    let (sources, terms) = planning::last_question(server)?;
    let joint = armed::joint(server)?;
    let how = How {
        joint: joint.as_ref(),
        ..How::ARMED
    };
    draw(server, &sources, &terms, &how, common, look)
}

/// Fetches what the question that was asked last needs, then asks it once more, arms and shows what comes of it.
pub fn gathered(
    server: &Server,
    folders: &[PathBuf],
    waits: bool,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let (sources, terms) = planning::last_question(server)?;
    let mut wanted = Vec::new();
    // The files of a later stop are known only when those of the one before are here.
    loop {
        let mut ledger = Ledger::open(&server.folder)?;
        let mut question = during("files and releases are read", || {
            planning::question(server, &mut ledger, &sources, &terms)
        })?;
        let Err(error) = question.plans() else {
            break;
        };
        let Some(missing) = fetching::waits_for(&error) else {
            return Err(error);
        };
        if missing == wanted {
            return Err(error);
        }
        wanted = missing.to_vec();
        let gathered = fetching::fetch(server, &wanted, folders, waits, look)?;
        if !gathered.is_whole() {
            return Ok(gathered.tell(common, look));
        }
    }
    draw(server, &sources, &terms, &How::ARMED, common, look)
}

/// What becomes of a plan that is drawn.
struct How<'a> {
    /// Whether it is armed.
    arms: bool,
    /// Whether it is written down.
    saves: bool,
    /// Where to, besides lantern's own folder.
    out: Option<&'a Path>,
    /// Where the question is written down whole.
    request: Option<&'a Path>,
    /// Whether every path is shown.
    all_files: bool,
    /// Whether files are fetched that it needs.
    gathers: bool,
    /// The mark of what was planned for several servers at once, and the plan that was armed so: it stays part of that where the same releases come
    /// of it.
    joint: Option<&'a (String, Plan)>,
}

impl How<'_> {
    /// It is armed and shown, and nothing else.
    const ARMED: How<'static> = How {
        arms: true,
        saves: true,
        out: None,
        request: None,
        all_files: false,
        gathers: false,
        joint: None,
    };
}

fn draw(
    server: &Server,
    sources: &Sources,
    terms: &Terms,
    how: &How<'_>,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    if !how.arms {
        return ask(server, sources, terms, how, common, look);
    }
    // What somebody looked at before is not carried out when this question has no answer.
    let before = armed::withdraw(server, "it was cut off")?;
    ask(server, sources, terms, how, common, look).inspect_err(|error| {
        let told = error.to_string();
        let _ = armed::disarm(server, told.lines().next().unwrap_or_default());
        if let Some(name) = before.and_then(|armed| armed.name) {
            look.talk(&format!("  plan {name} is no longer armed"));
        }
    })
}

fn ask(
    server: &Server,
    sources: &Sources,
    terms: &Terms,
    how: &How<'_>,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let mut ledger = Ledger::open(&server.folder)?;
    let mut question = during("files and releases are read", || {
        planning::question(server, &mut ledger, sources, terms)
    })?;
    tell_left_out(&question.stale, &question.left_out, look);
    if how.arms {
        planning::keep_question(server, sources, terms)?;
    }
    glance::remember(server, &question.survey);
    if let Some(path) = how.request {
        let text = question.request.to_json(&server.family.versions);
        paper::write(path, &text, common)?;
    }
    let plans = match question.saved_plans() {
        Err(error) => match fetching::waits_for(&error) {
            Some(_) if how.gathers => fetched(server, &mut question, error, look)?,
            Some(wanted) => {
                if how.arms {
                    armed::disarm(server, "its files had to be fetched first")?;
                }
                fetching::show_wanted(wanted, common, look);
                return Ok(fail::NO);
            }
            None => return Err(error),
        },
        Ok(plans) => plans,
    };
    let is_empty = plans.iter().all(Plan::is_empty);
    let show = || {
        if !look.json {
            show_all(look, &plans, server, common, how.all_files);
        }
    };
    let saved = match (how.saves && !(how.arms && is_empty), how.out) {
        (false, _) => {
            show();
            Vec::new()
        }
        (true, Some(out)) => {
            let saved = saved_at(out, &plans, common)?;
            show();
            saved
        }
        // It is written while it is shown.
        (true, None) => std::thread::scope(|scope| {
            let saving = scope.spawn(|| planning::save(server, &plans));
            show();
            saving.join()
        })
        .unwrap_or_else(|panic| std::panic::resume_unwind(panic))?,
    };
    let armed = match (how.arms, is_empty) {
        (true, false) => {
            let plan = &plans[0];
            let same = |before: &Plan| before.to == plan.to && before.components == plan.components;
            let joint = how.joint.filter(|(_, before)| same(before));
            let mark = joint.map(|(mark, _)| mark.as_str());
            Some(armed::arm(server, plan, mark)?)
        }
        (true, true) => {
            armed::disarm(server, "there was nothing to do")?;
            None
        }
        (false, _) => None,
    };
    tell_unshared(server, look);
    let left_out = &question.left_out;
    if look.json {
        look.answer(&answers::PlanDrawn::new(
            &plans,
            &saved,
            left_out,
            armed.as_ref(),
        ));
    } else {
        let waits = plans[0].undecided().next().is_some();
        match waits && how.arms {
            true => show_waits(look, common, &plans[0]),
            false => show_next(look, common, server, &saved, how.arms)?,
        }
    }
    Ok(if !left_out.is_empty() {
        fail::NO
    } else {
        fail::DONE
    })
}

/// Fetches what a plan waits for, as often as it waits for something.
fn fetched(
    server: &Server,
    question: &mut planning::Question<'_>,
    mut error: Error,
    look: &Look,
) -> Result<Vec<Plan>> {
    while let Some(wanted) = fetching::waits_for(&error) {
        if !fetching::fetch(server, wanted, &[], false, look)?.is_whole() {
            return Err(error);
        }
        error = match question.plans() {
            Ok(plans) => return Ok(plans),
            Err(error) => error,
        };
    }
    Err(error)
}

/// Writes plans where somebody wants them: the first there, later ones beside it.
fn saved_at(out: &Path, plans: &[Plan], common: &Common) -> Result<Vec<PathBuf>> {
    let files = plans.iter().enumerate().map(|(number, plan)| {
        let path = planning::numbered(out, number);
        paper::write(&path, &plan.to_json(), common)?;
        Ok(path)
    });
    files.collect()
}

/// What has to be decided before a plan can be carried out.
fn show_waits(look: &Look, common: &Common, plan: &Plan) {
    let ids: Vec<&str> = plan
        .undecided()
        .map(|(_, asked)| asked.id.as_str())
        .collect();
    let many = count(ids.len(), "decision", "decisions");
    look.say(&look.paint(
        Means::Caution,
        &format!(
            "\nThe plan is armed, and waits for {many}: {}.",
            ids.join(", ")
        ),
    ));
    let (path, asked) = plan.undecided().next().expect("there is one");
    look.next(&common.next(&format!("settings decide {} mine", asked.id)));
    let others = [
        (
            "Or as it is shipped",
            format!("settings decide {} theirs", asked.id),
        ),
        ("Or in your editor", format!("settings edit {path}")),
        ("Or all of them at once", "plan --again --mine".to_owned()),
    ];
    for (what, command) in others {
        let command = look.paint(Means::Paste, &common.next(&command));
        look.say(&format!("{what}: {command}"));
    }
}

fn show_all(look: &Look, plans: &[Plan], server: &Server, common: &Common, all_files: bool) {
    if plans.len() > 1 {
        let stops: Vec<&str> = plans.iter().map(|plan| plan.to.as_str()).collect();
        let text = format!(
            "The worlds are converted in {} stops: {}. Each is a changeover of its own.\n",
            plans.len(),
            stops.join(", then ")
        );
        look.say(&look.paint(Means::Title, &text));
    }
    for (number, plan) in plans.iter().enumerate() {
        if number > 0 {
            look.say("");
        }
        show(look, plan, server, common, all_files);
    }
    if plans.iter().all(Plan::is_empty) {
        look.say("\nThere is nothing to do.");
    }
}

/// What is armed now, and how it goes on.
///
/// `arms` says whether this plan was to be armed.
pub fn show_next(
    look: &Look,
    common: &Common,
    server: &Server,
    saved: &[PathBuf],
    arms: bool,
) -> Result<()> {
    let armed = armed::read(server)?.filter(|armed| armed.became == Became::Armed);
    let name = armed.and_then(|armed| armed.name);
    let told = match (arms, &name) {
        (false, Some(name)) => format!("\nThis armed nothing; plan {name} still is."),
        (false, None) => "\nNothing is armed.".into(),
        (true, Some(name)) => format!("\nPlan {name} is armed: a changeover carries it out."),
        (true, None) => String::new(),
    };
    if !told.is_empty() {
        look.say(&told);
    }
    for (number, path) in saved.iter().enumerate() {
        let command = |word: &str| match (number, arms) {
            (0, true) => common.next(word),
            _ => common.next(&format!("{word} {}", shell_word(path))),
        };
        let (first, command) = (command("rehearse"), command("changeover"));
        match number {
            0 => {
                look.next(&command);
                let first = look.paint(Means::Paste, &first);
                look.say(&format!("On a copy first: {first}"));
                if server.folder.is_far() {
                    let bundle = look.paint(Means::Paste, &common.next("bundle --out up.zip"));
                    look.say(&format!("Or by hand: {bundle}"));
                }
            }
            _ => look.say(&format!("Then: {}", look.paint(Means::Paste, &command))),
        }
    }
    Ok(())
}

/// Of so many it is said which stay.
const NAMED: usize = 12;

/// Shows a plan.
pub fn show(look: &Look, plan: &Plan, server: &Server, common: &Common, all_files: bool) {
    let title = format!(
        "{}: {}. {}.",
        plan.server,
        way(plan, server),
        summary(&plan.components)
    );
    look.say(&look.paint(Means::Title, &title));
    let stays =
        |change: &&ComponentChange| change.verdict == Fate::Unchanged && change.switched.is_none();
    let changed = plan.components.iter().filter(|change| !stays(change));
    let mut actions: BTreeMap<&Id, Vec<&Action>> = BTreeMap::new();
    for action in &plan.actions {
        if let Some(id) = &action.component {
            actions.entry(id).or_default().push(action);
        }
    }
    let rows: Vec<Vec<String>> = changed
        .map(|change| {
            let own = actions.get(&change.id).into_iter().flatten();
            let tally = |what| own.clone().filter(|action| action.what == what).count();
            let files = [
                (tally(ActionKind::Place), "in"),
                (tally(ActionKind::Replace), "replaced"),
                (tally(ActionKind::SetAside), "set aside"),
                (tally(ActionKind::Keep), "same"),
            ];
            let files = files
                .iter()
                .filter(|(n, _)| *n > 0)
                .map(|(n, word)| format!("{n} {word}"));
            let size: u64 = own
                .clone()
                .filter(|a| a.after.is_some() && a.what != ActionKind::Keep)
                .map(|a| a.bytes)
                .sum();
            vec![
                fate(change),
                change.kind.to_string(),
                change.id.to_string(),
                change.from.clone().unwrap_or_default(),
                change.to.clone().unwrap_or_default(),
                bytes(size),
                files.collect::<Vec<_>>().join(", "),
                change.why.clone(),
            ]
        })
        .collect();
    if !rows.is_empty() {
        look.say("");
        look.table(
            &["", "kind", "id", "from", "to", "size", "files", "why"],
            rows,
        );
    }
    let stays: Vec<&str> = plan
        .components
        .iter()
        .filter(stays)
        .map(|c| c.id.as_str())
        .collect();
    match stays.len() {
        0 => {}
        1..=NAMED => look.say(&format!("\n  unchanged: {}", stays.join(", "))),
        more => look.say(&format!("\n  unchanged: {more}, which --files lists")),
    }
    show_edits(&plan.edits, &plan.renames, server, look);
    merges::show(&plan.merges, common, look);
    if plan.clients.iter().any(ClientChange::is_change) {
        look.say("\n  players:");
        client::tell_changes(&plan.clients, look);
    }
    if all_files {
        look.say("");
        let rows = plan.actions.iter().map(|action| {
            let what = match action.what {
                ActionKind::Place => "place",
                ActionKind::Replace => "replace",
                ActionKind::SetAside => "set aside",
                ActionKind::Keep => "keep",
                ActionKind::Edit => "edit",
            };
            let unowned = match action.what {
                ActionKind::Edit => "your settings",
                _ => "unowned",
            };
            let owner = action.component.as_ref().map_or(unowned, |id| id.as_str());
            vec![
                what.into(),
                action.path.to_string(),
                bytes(action.bytes),
                owner.into(),
            ]
        });
        look.table(&["what", "path", "size", "whose"], rows.collect());
    }
    let brought: Vec<&str> = plan.brought().map(RelPath::as_str).collect();
    if !brought.is_empty() && plan.components.is_empty() {
        look.say("\n  put in place:");
        brought
            .iter()
            .for_each(|path| look.say(&format!("    {path}")));
    }
    if !plan.yours.is_empty() {
        look.say("\n  yours, and set aside:");
    }
    for yours in &plan.yours {
        look.say(&format!("    {}   {}", yours.path, yours.why.as_str()));
    }
    let kept = plan.of(ActionKind::Keep).count();
    look.say(&format!(
        "\n  {} to write; {} set aside, {} edited, {} stay; never written: {}",
        bytes(plan.staged_bytes()),
        count(
            plan.of(ActionKind::SetAside).count() + plan.of(ActionKind::Replace).count(),
            "file is",
            "files are"
        ),
        plan.of(ActionKind::Edit).count(),
        kept,
        match plan.keep.patterns.join(", ") {
            none if none.is_empty() =>
                "nothing is stated (keep, in its family or in lantern.toml)".into(),
            patterns => patterns,
        }
    ));
    // Elsewhere it is a person who takes them.
    if !server.folder.is_far() {
        let steps: Vec<&str> = plan.steps.iter().map(|step| step.name()).collect();
        look.say(&format!("  steps: {}", steps.join(", ")));
    }
    if !plan.servers.is_empty() {
        let mut others: Vec<&str> = server
            .config
            .servers
            .iter()
            .map(|one| one.name.as_str())
            .collect();
        others.retain(|name| plan.servers.iter().all(|concerned| concerned != name));
        let others = match others.is_empty() {
            true => String::new(),
            false => format!("; not touched: {}", others.join(", ")),
        };
        look.say(&format!(
            "  servers stopped and started: {}{others}",
            plan.servers.join(", ")
        ));
    }
    for note in &plan.notes {
        look.say(&look.paint(Means::Caution, &look.row("note:", 5, note)));
    }
}

/// What happens to a component, in a word or two.
pub fn fate(change: &ComponentChange) -> String {
    let fate = match change.verdict {
        Fate::Updated => "update",
        Fate::Added => "add",
        Fate::Unchanged => "",
        Fate::Removed => "remove",
    };
    let switched = change.switched.map(|switched| match switched {
        Switched::On => "on",
        Switched::Off => "off",
    });
    let words = [Some(fate).filter(|word| !word.is_empty()), switched];
    let words: Vec<&str> = words.into_iter().flatten().collect();
    words.join(", ")
}

/// Saves, arms and shows a plan that was drawn for a command of its own; `nothing` is said where it would change nothing,
/// and is then why none is armed any more.
pub fn arm_and_show(
    drawn: Plan,
    nothing: &str,
    server: &Server,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    armed::withdraw(server, "there was nothing to do")?;
    let plans = [drawn];
    if plans[0].is_empty() {
        armed::disarm(server, "there was nothing to do")?;
        match look.json {
            true => look.answer(&answers::PlanDrawn::new(&plans, &[], &[], None)),
            false => look.say(nothing),
        }
        return Ok(fail::DONE);
    }
    let saved = planning::save(server, &plans)?;
    let armed = armed::arm(server, &plans[0], None)?;
    tell_unshared(server, look);
    if look.json {
        look.answer(&answers::PlanDrawn::new(&plans, &saved, &[], Some(&armed)));
        return Ok(fail::DONE);
    }
    show(look, &plans[0], server, common, false);
    show_next(look, common, server, &saved, true)?;
    Ok(fail::DONE)
}

/// A line with the blanks at its end made visible.
fn ends_seen(line: &str) -> String {
    let line = line.strip_suffix('\r').unwrap_or(line);
    let bare = line.trim_end();
    format!("{bare}{}", "␠".repeat(line[bare.len()..].chars().count()))
}

/// The lines that change in the load order and in start scripts, and what gets another name or comes to lie elsewhere.
pub fn show_edits(edits: &[TextEdit], renames: &[Rename], server: &Server, look: &Look) {
    let by_place = |it: &Rename| {
        let is_parked = |path: &RelPath| {
            let mut readers = server.family.readers.iter();
            readers.any(|it| {
                it.home(path.as_str())
                    .is_some_and(|home| home != path.as_str())
            })
        };
        is_parked(&it.from) != is_parked(&it.to)
    };
    let all = renamed(renames).into_iter();
    let (switched, named): (Vec<_>, Vec<_>) = all.partition(|(it, _)| by_place(it));
    for (title, renames) in [
        ("on or off, by where it lies", switched),
        ("load order, by name", named),
    ] {
        if !renames.is_empty() {
            look.say(&format!("\n  {title}:"));
        }
        for (rename, beside) in renames {
            let along = along(beside);
            look.say(&format!("    {} becomes {}{along}", rename.from, rename.to));
        }
    }
    for edit in edits {
        let order = server.family.order.as_ref();
        let names_addons = |rule: &OrderRule| {
            let mut lines = edit
                .lines
                .iter()
                .flat_map(|line| line.was.iter().chain(&line.becomes));
            lines.any(|line| rule.line.regex().is_match(line))
        };
        let is_order = order.is_some_and(|rule| {
            let is_read = rule.includes.is_some() && names_addons(rule);
            rule.file.matches(edit.path.as_str()) || is_read
        });
        let path = edit.path.as_str();
        let is_script = is_script_by_name(path) || server.launch().is_script(path);
        let what = match (is_order, is_script) {
            (true, _) => "load order",
            _ if server.family.says_itself(path) => "what an add-on says of itself",
            (false, true) => "start script",
            (false, false) => "settings",
        };
        look.say(&format!("\n  {what}, {}:", edit.path));
        for change in &edit.lines {
            for (text, line) in change.was.iter().zip(change.line..) {
                let text = format!("    - {}   (line {line})", ends_seen(shown(text)));
                look.say(&look.paint(Means::Bad, &text));
            }
            for text in &change.becomes {
                let text = format!("    + {}", ends_seen(shown(text)));
                look.say(&look.paint(Means::Good, &text));
            }
        }
    }
}
