//! Progress on stderr: a bar on a terminal, one line for each finished step anywhere.

use crate::look::{Look, Means, bytes, count, time};
use crate::visible::visible;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use lantern_host::changeover::Event;
use lantern_host::console::{Follower, Log};
use lantern_host::meter;
use std::fmt;
use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// Shows what a changeover tells.
pub struct Progress<'a> {
    look: &'a Look,
    /// Of several at once, whose it is: each is shown by its finished steps alone.
    whose: Option<String>,
    bar: ProgressBar,
    begun: Instant,
    /// What each server prints, while it starts.
    printed: Vec<Printed>,
}

impl<'a> Progress<'a> {
    /// Progress on stderr; bars only on a terminal.
    pub fn new(look: &'a Look) -> Progress<'a> {
        Progress {
            look,
            whose: None,
            bar: ProgressBar::with_draw_target(None, target()),
            begun: Instant::now(),
            printed: Vec::new(),
        }
    }

    /// The progress of one of several at once, by name; what turns meanwhile is theirs together.
    pub fn beside(look: &'a Look, name: &str) -> Progress<'a> {
        let mut progress = Progress::new(look);
        progress.whose = Some(name.to_owned());
        progress.bar = ProgressBar::hidden();
        progress
    }

    /// Says something of a step, above what turns.
    fn talk(&self, text: &str) {
        match &self.whose {
            None => self.look.talk(&format!("  {text}")),
            Some(name) => above(|| self.look.talk(&format!("  {name}  {text}"))),
        }
    }

    /// Says that a step is done.
    fn line(&self, what: &str, text: &str) {
        if self.look.quiet {
            return;
        }
        let took = self.begun.elapsed().as_millis() as u64;
        let took = match self.look.verbose {
            true => format!("   ({})", time(took)),
            false => String::new(),
        };
        self.talk(&format!("{what:<14} {text}{took}"));
    }

    /// Shows an event.
    pub fn show(&mut self, event: Event) {
        match event {
            Event::Begins(_) if self.whose.is_some() => self.begun = Instant::now(),
            Event::Warned(..) | Event::Waiting { .. } if self.whose.is_some() => {}
            Event::Begins(step) => {
                self.bar = at_work(&format!("{} …", step.name()));
                self.begun = Instant::now();
            }
            Event::Warned(done, total) => {
                if self.bar.length() != Some(total) {
                    let style = ProgressStyle::with_template("  {bar:30} {pos} of {len} s");
                    self.bar
                        .set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
                    self.bar.set_length(total);
                }
                self.bar.set_position(done);
            }
            Event::Copied(copied) => {
                let counts = [(copied.cloned, "cloned"), (copied.copied, "copied")];
                let counts = counts.iter().filter(|(files, _)| *files > 0);
                let told: Vec<String> = counts
                    .map(|(files, how)| format!("{} {how}", count(*files, "file", "files")))
                    .collect();
                self.line("copy", &told.join(", "));
                if !copied.left_out.is_empty() {
                    let names = copied.left_out.join(", ");
                    self.line("", &format!("left out, as links are: {names}"));
                }
            }
            Event::Waiting {
                before_ms,
                limit_s,
                outputs,
            } => {
                wait_for_start(&self.bar, before_ms, limit_s);
                let outputs = outputs.iter();
                let follow = |output: &Log| Printed::follow(self.look, &self.bar, output);
                self.printed = outputs.map(follow).collect();
            }
            Event::Done(step, what) => {
                self.printed.clear();
                self.bar.finish_and_clear();
                self.line(step.name(), &what);
            }
            Event::GoesBack(why) => {
                self.printed.clear();
                self.bar.finish_and_clear();
                let failed = self
                    .look
                    .paint_error(Means::Bad, &format!("{:<14}", "failed"));
                self.talk(&format!("{failed} {why}"));
                self.talk(&format!(
                    "{:<14} the old state is being put back",
                    "going back"
                ));
            }
        }
    }
}

impl Drop for Progress<'_> {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

/// So many of the last lines of a start are shown.
const SHOWN_LINES: usize = 3;
/// How often it is looked for what was printed.
const LOOK: Duration = Duration::from_millis(100);

/// What a server prints while it starts, as it goes by: the last few lines below a bar, or all of them where more is to
/// be said; as long as the answer is kept.
pub struct Printed {
    ends: Arc<AtomicBool>,
    follower: Option<JoinHandle<()>>,
}

impl Printed {
    /// Follows the file that a server prints to.
    pub fn follow(look: &Look, bar: &ProgressBar, output: &Log) -> Printed {
        let ends = Arc::new(AtomicBool::new(false));
        let (look, bar, ended) = (look.clone(), bar.clone(), ends.clone());
        let mut lines = Follower::from_start(output);
        let shows = look.verbose || std::io::stderr().is_terminal() && !look.quiet;
        let follower = shows.then(|| {
            std::thread::spawn(move || {
                let mut last: Vec<String> = Vec::new();
                loop {
                    let is_over = ended.load(Ordering::Relaxed);
                    for line in lines.new_lines() {
                        let line = visible(&format!("    | {line}"), &[]).into_owned();
                        let line = look.paint_error(Means::Aside, &line);
                        if look.verbose {
                            bar.suspend(|| look.talk(&line));
                        }
                        last.push(line);
                    }
                    last.drain(..last.len().saturating_sub(SHOWN_LINES));
                    if !look.verbose {
                        bar.set_prefix(last.join("\n"));
                    }
                    if is_over {
                        return;
                    }
                    std::thread::sleep(LOOK);
                }
            })
        });
        Printed { ends, follower }
    }
}

impl Drop for Printed {
    fn drop(&mut self) {
        self.ends.store(true, Ordering::Relaxed);
        if let Some(follower) = self.follower.take() {
            let _ = follower.join();
        }
    }
}

/// What turns now.
static TURNS: Mutex<Option<ProgressBar>> = Mutex::new(None);

/// Says something above what turns.
pub fn above(say: impl FnOnce()) {
    let bar = TURNS.lock().unwrap_or_else(PoisonError::into_inner).clone();
    match bar {
        Some(bar) => bar.suspend(say),
        None => say(),
    }
}

/// Something turning, with how far it has come and how fast, as long as the answer is kept.
pub fn at_work(words: &str) -> ProgressBar {
    meter::begin(0);
    let bar = ProgressBar::with_draw_target(None, target());
    let style = ProgressStyle::with_template("{at_work}");
    let style = style.unwrap_or_else(|_| ProgressStyle::default_spinner());
    let said = words.to_owned();
    bar.set_style(style.with_key(
        "at_work",
        move |state: &ProgressState, line: &mut dyn fmt::Write| {
            show_work(&said, state, line);
        },
    ));
    bar.enable_steady_tick(Duration::from_millis(120));
    *TURNS.lock().unwrap_or_else(PoisonError::into_inner) = Some(bar.clone());
    bar
}

/// Does something, and shows meanwhile how far it has come.
pub fn during<T>(words: &str, work: impl FnOnce() -> T) -> T {
    let bar = at_work(words);
    let done = work();
    bar.finish_and_clear();
    done
}

/// What takes no longer than this shows no progress.
const SOON: Duration = Duration::from_millis(400);
/// What turns.
const TURNING: [char; 4] = ['|', '/', '-', '\\'];

/// So many of several things at work are shown each.
const SHOWN_PARTS: usize = 6;
/// So much of a name is shown.
const NAME: usize = 34;

/// One line on what is at work, and one on each of several things; nothing on what is soon over.
fn show_work(words: &str, state: &ProgressState, line: &mut dyn fmt::Write) {
    let elapsed = state.elapsed();
    if elapsed < SOON {
        return;
    }
    let turn = TURNING[(elapsed.as_millis() / 120) as usize % TURNING.len()];
    let far = match meter::seen() {
        None => time(elapsed.as_millis() as u64),
        Some(far) => {
            let percent = u128::from(far.done) * 100 / u128::from(far.total);
            let rate = ((far.done - far.there) as f64 / elapsed.as_secs_f64()) as u64;
            let left = match (far.total - far.done).checked_div(rate) {
                Some(0) | None => String::new(),
                Some(left) => format!(", {} left", time(left * 1000)),
            };
            let (done, total, rate) = (bytes(far.done), bytes(far.total), bytes(rate));
            format!("{percent} %   {done} of {total}, {rate}/s{left}")
        }
    };
    let _ = write!(line, "  {turn} {words}   {far}");
    let parts = meter::parts();
    for part in parts.iter().take(SHOWN_PARTS) {
        let name = visible(&part.name, &[]);
        let done = match part.total {
            Some(total) => {
                let percent = u128::from(part.done()) * 100 / u128::from(total.max(1));
                format!("{percent:>3} % of {}", bytes(total))
            }
            None => bytes(part.done()),
        };
        let _ = write!(line, "\n      {name:<NAME$.NAME$} {done}");
    }
    if parts.len() > SHOWN_PARTS {
        let _ = write!(line, "\n      and {} more", parts.len() - SHOWN_PARTS);
    }
}

/// Something turning, with the seconds that a start has taken, beside those of the start before and the
/// most that it may take.
pub fn wait_for_start(bar: &ProgressBar, before_ms: Option<u64>, limit_s: u64) {
    let style = ProgressStyle::with_template("  {spinner} start … {elapsed}   {msg}\n{prefix}");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
    let before = before_ms.map(|ms| format!("the one before took {}; ", time(ms)));
    let before = before.unwrap_or_default();
    bar.set_message(format!("({before}it is given {limit_s} s)"));
}

fn target() -> ProgressDrawTarget {
    if std::io::stderr().is_terminal() {
        ProgressDrawTarget::stderr_with_hz(20)
    } else {
        ProgressDrawTarget::hidden()
    }
}
