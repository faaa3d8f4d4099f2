//! Progress on stderr: a bar on a terminal, one line for each finished step anywhere.

use crate::look::{Look, Means, count, time};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use lantern_core::plan::Step;
use lantern_host::changeover::Event;
use std::io::IsTerminal;
use std::time::Duration;

/// Shows what a changeover tells.
pub struct Progress<'a> {
    look: &'a Look,
    bar: ProgressBar,
}

impl<'a> Progress<'a> {
    /// Progress on stderr; bars only on a terminal.
    pub fn new(look: &'a Look) -> Progress<'a> {
        let bar = ProgressBar::with_draw_target(None, target());
        Progress { look, bar }
    }

    /// Shows an event.
    pub fn show(&mut self, event: Event) {
        match event {
            Event::Begins(step) => {
                self.bar = at_work(&format!("{} …", name(step)));
            }
            Event::Progress(done, total) => {
                if self.bar.length() != Some(total) {
                    let style = ProgressStyle::with_template("  {bar:30} {msg} {percent} %");
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
                self.look
                    .talk(&format!("  {:<14} {}", "copy", told.join(", ")));
                if !copied.left_out.is_empty() {
                    let names = copied.left_out.join(", ");
                    self.look
                        .talk(&format!("  {:<14} left out, as links are: {names}", ""));
                }
            }
            Event::Waiting(before, limit) => wait_for_start(&self.bar, before, limit),
            Event::Done(step, what) => {
                self.bar.finish_and_clear();
                self.look.talk(&format!("  {:<14} {what}", name(step)));
            }
            Event::GoesBack(why) => {
                self.bar.finish_and_clear();
                let failed = self
                    .look
                    .paint_error(Means::Bad, &format!("{:<14}", "failed"));
                self.look.talk(&format!("  {failed} {why}"));
                self.look.talk(&format!(
                    "  {:<14} the old state is being put back",
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

/// Something turning, with the seconds, as long as the answer is kept.
pub fn at_work(words: &str) -> ProgressBar {
    let bar = ProgressBar::with_draw_target(None, target());
    let style = ProgressStyle::with_template("  {spinner} {msg} {elapsed}");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
    bar.set_message(words.to_owned());
    bar.enable_steady_tick(Duration::from_millis(120));
    bar
}

/// Something turning, with the seconds that a start has taken, beside those of the start before and the
/// most that it may take.
pub fn wait_for_start(bar: &ProgressBar, before_ms: Option<u64>, limit_s: u64) {
    let style = ProgressStyle::with_template("  {spinner} start … {elapsed}   {msg}");
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

/// A step's name for people.
pub fn name(step: Step) -> &'static str {
    match step {
        Step::Check => "check",
        Step::Stage => "stage",
        Step::FirstBackup => "back up",
        Step::Warn => "warn",
        Step::Stop => "stop",
        Step::SecondBackup => "back up again",
        Step::Swap => "swap",
        Step::Start => "start",
        Step::Verify => "verify",
    }
}
