//! What a piece of text means, and how that looks.

use anstyle::{AnsiColor, Style};

/// What a piece of text means; colour never says it alone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Means {
    /// The answer, or a heading.
    Title,
    /// As it should be.
    Good,
    /// To be looked at.
    Caution,
    /// Wrong.
    Bad,
    /// Beside the point.
    Aside,
    /// A command line to paste.
    Paste,
}

/// The one table from meaning to style.
pub fn style(means: Means) -> Style {
    let color = |color: AnsiColor| Style::new().fg_color(Some(color.into()));
    match means {
        Means::Title => Style::new().bold(),
        Means::Good => color(AnsiColor::Green),
        Means::Caution => color(AnsiColor::Yellow),
        Means::Bad => color(AnsiColor::Red).bold(),
        Means::Aside => color(AnsiColor::BrightBlack),
        Means::Paste => color(AnsiColor::Cyan),
    }
}
