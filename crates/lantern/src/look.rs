//! How things look: the one place for tables, colours and plain units.

pub use crate::means::Means;
pub use lantern_core::page::time;
pub use lantern_host::told::size as bytes;

use crate::answers::Answer;
use crate::common::When;
use crate::means::style;
use crate::sheet::Sheet;
use crate::visible::{visible, visible_json};
use comfy_table::{ContentArrangement, Row, Table};
use console::Alignment;
use std::fmt;
use std::io::{IsTerminal, Write};
use std::iter;
use std::sync::Arc;

/// What of a line that is printed comes from the styles.
fn own_sequences(color: bool) -> Vec<String> {
    let all = [
        Means::Title,
        Means::Good,
        Means::Caution,
        Means::Bad,
        Means::Aside,
        Means::Paste,
    ];
    let styles = all.into_iter().filter(|_| color).map(style);
    let both = styles.flat_map(|style| [format!("{style}"), format!("{style:#}")]);
    // Bold and red are two sequences.
    let each = both.flat_map(|both| {
        let each = both.split('\u{1b}').filter(|rest| !rest.is_empty());
        each.map(|rest| format!("\u{1b}{rest}")).collect::<Vec<_>>()
    });
    each.collect()
}

/// How this run looks.
#[derive(Debug, Clone)]
pub struct Look {
    color: bool,
    error_color: bool,
    /// Whether answers are JSON.
    pub json: bool,
    /// Whether only what was asked for is said.
    pub quiet: bool,
    /// Whether more is said of each step.
    pub verbose: bool,
    /// Where the answer goes instead of being printed.
    sheet: Option<Sheet>,
    /// Who hears the talk instead of its being printed.
    ear: Option<Ear>,
}

/// Somebody who hears talk.
#[derive(Clone)]
struct Ear(Arc<dyn Fn(&str) + Send + Sync>);

impl fmt::Debug for Ear {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Ear")
    }
}

impl Look {
    /// Decides how this run looks.
    pub fn new(when: When, json: bool) -> Look {
        let choose = |terminal: bool| match when {
            When::Always => true,
            When::Never => false,
            When::Auto => terminal && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty()),
        };
        Look {
            color: choose(std::io::stdout().is_terminal()),
            error_color: choose(std::io::stderr().is_terminal()),
            json,
            quiet: false,
            verbose: false,
            sheet: None,
            ear: None,
        }
    }

    /// The same, with the talk being heard by somebody, and without colours.
    pub fn heard_by(&self, hears: impl Fn(&str) + Send + Sync + 'static) -> Look {
        Look {
            color: false,
            error_color: false,
            ear: Some(Ear(Arc::new(hears))),
            ..self.clone()
        }
    }

    /// The same, with the answer going onto a page.
    pub fn onto_page(&self) -> Look {
        Look {
            color: true,
            json: false,
            quiet: true,
            sheet: Some(Sheet::default()),
            ..self.clone()
        }
    }

    /// The page that the answer went onto.
    pub fn page(&self, title: &str) -> Option<String> {
        self.sheet.as_ref().map(|sheet| sheet.page(title))
    }

    /// Text for stdout, in the style of what it means.
    pub fn paint(&self, means: Means, text: &str) -> String {
        paint(self.color, means, text)
    }

    /// Text for stderr, in the style of what it means.
    pub fn paint_error(&self, means: Means, text: &str) -> String {
        paint(self.error_color, means, text)
    }

    /// Prints a line of the answer.
    pub fn say(&self, line: &str) {
        // A reader that has gone away, as `head` does, ends the answer quietly.
        let line = visible(line, &own_sequences(self.color));
        if let Some(sheet) = &self.sheet {
            return sheet.say(&line);
        }
        if writeln!(std::io::stdout(), "{line}").is_err() {
            std::process::exit(0);
        }
    }

    /// Prints a line of talk.
    pub fn talk(&self, line: &str) {
        let line = visible(line, &own_sequences(self.error_color));
        if let Some(Ear(hears)) = &self.ear {
            return hears(&line);
        }
        let _ = writeln!(std::io::stderr(), "{line}");
    }

    /// A word and what is told of it, wrapped on a terminal of such a width so that no word is cut; piped it is one line.
    pub fn row(&self, word: &str, indent: usize, text: &str) -> String {
        let room = width().map_or(usize::MAX, usize::from);
        let room = room.saturating_sub(indent + 3).max(NARROWEST);
        let mut lines = vec![String::new()];
        for piece in text.split_inclusive(' ') {
            let last = lines.last_mut().expect("there is one");
            let both =
                console::measure_text_width(last) + console::measure_text_width(piece.trim_end());
            match both > room && !last.is_empty() {
                true => lines.push(piece.to_owned()),
                false => last.push_str(piece),
            }
        }
        let lines = lines.iter().map(|line| line.trim_end());
        let behind = format!("\n  {:<indent$} ", "");
        format!(
            "  {word:<indent$} {}",
            lines.collect::<Vec<_>>().join(&behind)
        )
    }

    /// Whether a table of several values side by side has little room.
    pub fn is_narrow(&self) -> bool {
        width().is_some_and(|width| width < 100)
    }

    /// Whether nobody is there to be asked.
    pub fn cannot_ask(&self) -> bool {
        !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal()
    }

    /// Asks a question that is answered with yes or no; none where nobody is there to be asked.
    pub fn ask(&self, question: &str) -> Option<bool> {
        if self.cannot_ask() {
            return None;
        }
        eprint!("{} [y/N] ", visible(question, &[]));
        let mut answer = String::new();
        let read = std::io::stdin().read_line(&mut answer).is_ok();
        let answer = answer.trim().to_lowercase();
        Some(read && matches!(&*answer, "y" | "yes"))
    }

    /// Prints an answer as JSON.
    pub fn answer(&self, answer: &impl Answer) {
        let mut value = serde_json::to_value(answer).expect("answers have only plain values");
        value["format"] = 1.into();
        self.say(&visible_json(&format!("{value:#}")));
    }

    /// Prints the next command to paste.
    pub fn next(&self, command: &str) {
        if self.quiet || self.json {
            return;
        }
        self.say(&format!("\nNext: {}", self.paint(Means::Paste, command)));
    }

    /// Prints a table without borders, fitted to the terminal.
    ///
    /// Where it is too narrow the longest text is wrapped; where that is not enough, columns are left out in the order of
    /// what matters least, and that is said. What a row is about stays: a name too long for the terminal is cut in its middle.
    pub fn table(&self, heads: &[&str], rows: Vec<Vec<String>>) {
        let own = own_sequences(self.color);
        let seen = |cell: String| visible(&cell, &own).replace('\n', "␊");
        let rows = rows
            .into_iter()
            .map(|row| row.into_iter().map(seen).collect());
        let mut rows: Vec<Vec<String>> = rows.collect();
        if let Some(sheet) = &self.sheet {
            return sheet.table(heads, &rows);
        }
        let limit = width().map_or(usize::MAX, usize::from);
        let natural = |column: usize| {
            let cells = rows.iter().filter_map(|row| row.get(column));
            let cells = cells.map(|cell| console::measure_text_width(cell));
            cells.chain([heads[column].len()]).max().unwrap_or(0)
        };
        let widths: Vec<usize> = (0..heads.len()).map(natural).collect();
        let Fitted {
            shown,
            wrapped,
            left_out,
            cut,
        } = fit(heads, &widths, limit);
        if let Some((column, room)) = cut {
            for cell in rows.iter_mut().filter_map(|row| row.get_mut(column)) {
                *cell = shortened(cell, room);
            }
        }
        let natural = |column: usize| match cut {
            Some((cut, room)) if cut == column => room,
            _ => widths[column],
        };
        let text = |row: &[String], column: usize| row.get(column).cloned().unwrap_or_default();
        let painted: Vec<String> = heads
            .iter()
            .map(|head| self.paint(Means::Aside, head))
            .collect();
        let Some((widest, room)) = wrapped else {
            for row in iter::once(&painted).chain(&rows) {
                let cells = shown.iter().map(|column| {
                    let width = natural(*column) + GAP;
                    console::pad_str(&text(row, *column), width, Alignment::Left, None).into_owned()
                });
                self.say(&format!("  {}", cells.collect::<String>().trim_end()));
            }
            return self.left_out(&left_out);
        };
        let mut table = Table::new();
        table
            .load_style(comfy_table::presets::NOTHING)
            .set_content_arrangement(ContentArrangement::Dynamic);
        if limit < usize::MAX {
            table.set_width(limit as u16);
        }
        let cells = |row: &[String]| {
            shown
                .iter()
                .map(|column| text(row, *column))
                .collect::<Vec<_>>()
        };
        table.set_header(cells(&painted));
        for row in &rows {
            table.add_row(Row::from(cells(row)));
        }
        for (column, number) in table.column_iter_mut().zip(&shown) {
            column.set_padding((0, GAP as u16));
            let room = if *number == widest {
                room
            } else {
                natural(*number)
            };
            let exact = comfy_table::Width::Fixed((room + GAP) as u16);
            column.set_constraint(comfy_table::ColumnConstraint::Absolute(exact));
        }
        for line in table.lines() {
            self.say(&format!("  {}", line.trim_end()));
        }
        self.left_out(&left_out);
    }

    /// Says which columns had no room.
    fn left_out(&self, heads: &[String]) {
        if !heads.is_empty() {
            let text = format!("  (too narrow for: {})", heads.join(", "));
            self.say(&self.paint(Means::Aside, &text));
        }
    }
}

/// Blanks between columns.
const GAP: usize = 2;
/// No column is wrapped to fewer characters.
const NARROWEST: usize = 16;
/// What a row is about: never left out, and never wrapped.
const ABOUT: &[&str] = &[
    "", "id", "name", "file", "path", "what", "from", "to", "version", "versions",
];
/// What is read word by word, and may go on in the next line.
const PROSE: &[&str] = &["why", "note", "state", "files", "set aside", "belongs to"];
/// Where something lies: what matters stands at its beginning and its end.
const PLACES: &[&str] = &["where", "file", "path"];
/// What is left out first, where there is no room for all.
const LEAST: &[&str] = &[
    "size",
    "side",
    "kind",
    "took",
    "alone",
    "of",
    "named",
    "blake3",
    "made",
    "when",
    "files",
    "where",
    "runs",
    "note",
    "belongs to",
    "set aside",
    "whose",
    "is",
    "state",
    "why",
];

/// How the columns of a table come to fit.
struct Fitted {
    /// Those that are shown.
    shown: Vec<usize>,
    /// One that is wrapped, and to how much.
    wrapped: Option<(usize, usize)>,
    /// The heads of those that are not.
    left_out: Vec<String>,
    /// One whose cells are cut in the middle, and to how much.
    cut: Option<(usize, usize)>,
}

/// Fits columns of these widths into so many characters.
fn fit(heads: &[&str], widths: &[usize], limit: usize) -> Fitted {
    let mut fitted = Fitted {
        shown: (0..heads.len()).collect(),
        wrapped: None,
        left_out: Vec::new(),
        cut: None,
    };
    loop {
        let shown = &fitted.shown;
        let total: usize = shown.iter().map(|column| widths[*column] + GAP).sum();
        if total <= limit {
            return fitted;
        }
        let room = |column: usize| (limit + widths[column]).saturating_sub(total);
        let is = |column: usize, of: &[&str]| of.contains(&heads[column]);
        let gives = |column: &usize| is(*column, PROSE) || is(*column, PLACES);
        let widest = shown.iter().copied().filter(gives);
        let widest = widest.max_by_key(|column| widths[*column]);
        if let Some(column) = widest.filter(|column| room(*column) >= NARROWEST) {
            let fits = Some((column, room(column)));
            match is(column, PLACES) {
                true => fitted.cut = fits,
                false => fitted.wrapped = fits,
            }
            return fitted;
        }
        let rank = |column: usize| {
            let least = LEAST.iter().position(|head| *head == heads[column]);
            (least.unwrap_or(LEAST.len()), usize::MAX - column)
        };
        let droppable = shown.iter().copied().filter(|column| !is(*column, ABOUT));
        let Some(least) = droppable.min_by_key(|column| rank(*column)) else {
            let widest = shown.iter().copied().max_by_key(|column| widths[*column]);
            fitted.cut = widest.map(|column| (column, room(column).max(NARROWEST / 2)));
            return fitted;
        };
        fitted.shown.retain(|column| *column != least);
        fitted.left_out.push(heads[least].to_owned());
    }
}

/// A text that is too long, cut in its middle.
fn shortened(text: &str, room: usize) -> String {
    let length = console::measure_text_width(text);
    if length <= room {
        return text.to_owned();
    }
    let plain: Vec<char> = console::strip_ansi_codes(text).chars().collect();
    let kept = room.saturating_sub(1);
    let end = kept / 2;
    let begin: String = plain[..(kept - end).min(plain.len())].iter().collect();
    let rest: String = plain[plain.len().saturating_sub(end)..].iter().collect();
    format!("{begin}…{rest}")
}

fn paint(color: bool, means: Means, text: &str) -> String {
    if !color || text.is_empty() {
        return text.into();
    }
    let style = style(means);
    format!("{style}{text}{style:#}")
}

/// How wide the output may be on a terminal, as `COLUMNS` says or as it is; piped output is not cut.
fn width() -> Option<u16> {
    if !std::io::stdout().is_terminal() {
        return None;
    }
    let asked = std::env::var("COLUMNS").ok();
    let asked = asked.and_then(|text| text.parse().ok());
    let width = asked.unwrap_or_else(|| console::Term::stdout().size().1);
    Some(width.max(40) - 2)
}

/// A moment in the machine's own time zone; milliseconds since 1970.
pub fn date(ms: i64) -> String {
    let at = jiff::Timestamp::from_millisecond(ms);
    let zoned = at.map(|at| at.to_zoned(jiff::tz::TimeZone::system()));
    zoned.map_or_else(
        |_| "unknown".into(),
        |at| at.strftime("%Y-%m-%d %H:%M:%S").to_string(),
    )
}

/// How long ago a moment was, in plain words; milliseconds since 1970.
pub fn ago(ms: i64) -> String {
    let seconds = (jiff::Timestamp::now().as_millisecond() - ms).max(0) / 1000;
    let (n, one, many) = match seconds {
        0..60 => return "just now".into(),
        60..3_600 => (seconds / 60, "minute", "minutes"),
        3_600..172_800 => (seconds / 3_600, "hour", "hours"),
        _ => (seconds / 86_400, "day", "days"),
    };
    format!("{} ago", count(n as usize, one, many))
}

/// A count with its noun.
pub fn count(n: usize, one: &str, many: &str) -> String {
    format!("{} {}", grouped(n), if n == 1 { one } else { many })
}

/// A number, its digits in groups.
pub fn grouped(n: usize) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_painted_comes_through() {
        for means in [
            Means::Title,
            Means::Good,
            Means::Caution,
            Means::Bad,
            Means::Aside,
            Means::Paste,
        ] {
            let painted = paint(true, means, "text");
            assert_eq!(
                visible(&painted, &own_sequences(true)),
                painted,
                "{means:?}"
            );
            assert_ne!(
                visible(&painted, &own_sequences(false)),
                painted,
                "{means:?}"
            );
        }
    }

    #[test]
    fn what_a_row_is_about_stays() {
        let heads = ["", "kind", "id", "from", "to", "size", "files", "why"];
        let widths = [7, 9, 28, 6, 6, 7, 20, 60];
        let mut told = Vec::new();
        for limit in [200, 120, 100, 80, 60, 40] {
            let fitted = fit(&heads, &widths, limit);
            let shown: Vec<&str> = fitted.shown.iter().map(|column| heads[*column]).collect();
            let of = |it: Option<(usize, usize)>| it.map(|(column, room)| (heads[column], room));
            told.push(format!(
                "{limit}: {} | wrapped {:?}, cut {:?}, left out {}",
                shown.join(","),
                of(fitted.wrapped),
                of(fitted.cut),
                fitted.left_out.join(",")
            ));
        }
        insta::assert_snapshot!(told.join("\n"), @r#"
        200: ,kind,id,from,to,size,files,why | wrapped None, cut None, left out 
        120: ,kind,id,from,to,size,files,why | wrapped Some(("why", 21)), cut None, left out 
        100: ,id,from,to,files,why | wrapped Some(("why", 21)), cut None, left out size,kind
        80: ,id,from,to,why | wrapped Some(("why", 23)), cut None, left out size,kind,files
        60: ,id,from,to | wrapped None, cut None, left out size,kind,files,why
        40: ,id,from,to | wrapped None, cut Some(("id", 13)), left out size,kind,files,why
        "#);
        assert_eq!(
            shortened("halcyon-terrace-2031-04-12", 15),
            "halcyon…31-04-12".replace("31", "1")
        );
        assert_eq!(shortened("ivy", 15), "ivy");
    }

    #[test]
    fn units_are_plain() {
        for (n, text) in [
            (0, "0 bytes"),
            (1, "1 byte"),
            (999, "999 bytes"),
            (1_000, "1.0 KB"),
            (9_960, "10.0 KB"),
            (12_345, "12 KB"),
            (999_600, "1.0 MB"),
            (3_400_000_000, "3.4 GB"),
        ] {
            assert_eq!(bytes(n), text);
        }
        assert_eq!(time(450), "450 ms");
        assert_eq!(time(12_340), "12.3 s");
        assert_eq!(time(185_000), "3 min 5 s");
        assert_eq!(count(12_000, "file", "files"), "12,000 files");
    }
}
