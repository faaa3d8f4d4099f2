//! What a range holds.

use super::{Notation, Part, Version};
use crate::version;
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

/// How ranges are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RangeNotation {
    /// `[1.2,1.3)`, `(,2.0]`, `[1.5]`; several joined by commas hold what any of them holds.
    Interval,
    /// `>=1.2 <2`, `^1.2`, `~1.2`, `1.2.x`, `1.2 - 1.4`, `1 || 3`; blanks or commas mean "and".
    /// A version with fewer than three parts stands for all that begin with it.
    Comparators,
    /// `4.2` holds 4.2 and every 4.2.x.
    Prefix,
    /// `4.2` holds 4.2 and all later ones.
    AtLeast,
    /// `4.2` holds 4.2 alone.
    Exact,
    /// Whatever is written holds every version.
    Any,
}

/// Why a text is no range.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{text}\" is not a range: {why} (column {column})")]
pub struct RangeFault {
    /// The text as given.
    pub text: String,
    /// What is wrong with it.
    pub why: String,
    /// Where in the text, in characters from 1.
    pub column: usize,
}

/// One end of a span, or none.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Bound {
    Open,
    Including(Version),
    Excluding(Version),
}

/// What one part of a range holds: all that lies between two bounds, or all that begin alike.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Test {
    Span(Bound, Bound),
    Begins(Box<[Part]>),
}

/// A set of versions: it holds a version when every test of one of its rows does.
///
/// Copies share what they hold.
#[derive(Debug, Clone)]
pub struct Range(Arc<Held>);

#[derive(Debug)]
struct Held {
    text: Box<str>,
    rows: Vec<Vec<Test>>,
}

impl PartialEq for Range {
    fn eq(&self, other: &Range) -> bool {
        self.0.rows == other.0.rows
    }
}

impl Eq for Range {}

impl Range {
    /// Reads a range; its versions are read in `versions`.
    ///
    /// `*` and an empty text hold everything in every notation.
    ///
    /// # Errors
    /// With the column at which the text cannot be read on.
    pub fn parse(
        text: &str,
        notation: RangeNotation,
        versions: Notation,
    ) -> Result<Range, RangeFault> {
        let trimmed = text.trim();
        let reader = Reader {
            whole: trimmed,
            versions,
        };
        let rows = match notation {
            _ if trimmed.is_empty() || trimmed == "*" => vec![vec![]],
            RangeNotation::Any => vec![vec![]],
            RangeNotation::Interval => reader.intervals()?,
            RangeNotation::Comparators => reader.comparators()?,
            RangeNotation::Prefix => {
                vec![vec![Test::Begins(reader.whole_version()?.0.parts.clone())]]
            }
            RangeNotation::AtLeast => vec![vec![at_least(reader.whole_version()?)]],
            RangeNotation::Exact => vec![vec![exactly(reader.whole_version()?)]],
        };
        Ok(Range::of(trimmed, rows))
    }

    /// Reads a range in the first of several notations that can read it.
    ///
    /// # Errors
    /// The fault of the first notation, where none can.
    pub fn parse_any(
        text: &str,
        notations: &[RangeNotation],
        versions: Notation,
    ) -> Result<Range, RangeFault> {
        let mut first = None;
        for notation in notations {
            match Range::parse(text, *notation, versions) {
                Ok(range) => return Ok(range),
                Err(fault) => first = first.or(Some(fault)),
            }
        }
        Err(first.unwrap_or_else(|| RangeFault {
            text: text.into(),
            why: "no range notation is set".into(),
            column: 1,
        }))
    }

    fn of(text: &str, rows: Vec<Vec<Test>>) -> Range {
        Range(Arc::new(Held {
            text: text.into(),
            rows,
        }))
    }

    /// The range that holds everything.
    pub fn any() -> Range {
        Range::of("*", vec![vec![]])
    }

    /// The range that holds one version alone.
    pub fn exactly(version: Version) -> Range {
        let text = version.as_str().to_owned();
        Range::of(&text, vec![vec![exactly(version)]])
    }

    /// Whether it holds a version; pre-releases only when the range names one of the same release.
    pub fn holds(&self, version: &Version) -> bool {
        self.0
            .rows
            .iter()
            .any(|row| row_holds(row, version) && (!version.is_early() || names(row, version)))
    }

    /// Whether it holds a version, with pre-releases counting like any other.
    pub fn holds_early(&self, version: &Version) -> bool {
        self.0.rows.iter().any(|row| row_holds(row, version))
    }

    /// Whether a version may be one that it holds, pre-releases like any other: of what only its content tells, anything may be.
    pub fn may_hold(&self, version: &Version) -> bool {
        version.is_content() || self.holds_early(version)
    }

    /// Whether it holds every version there is.
    pub fn is_any(&self) -> bool {
        self.0.rows.iter().any(Vec::is_empty)
    }

    /// The range as it was written.
    pub fn as_str(&self) -> &str {
        &self.0.text
    }

    /// In words for people: `3.4 to below 3.7`.
    pub fn words(&self) -> String {
        let rows = self.0.rows.iter().map(|row| row_words(row));
        rows.collect::<Vec<_>>().join(", or ")
    }

    /// The versions that stand at its bounds, whether it holds them or not, in ascending order; of all that begin alike these are the
    /// first of them, and the first behind them.
    pub fn bounds(&self) -> Vec<Version> {
        let tests = self.0.rows.iter().flatten();
        let named = tests.flat_map(|test| match test {
            Test::Begins(parts) => {
                let behind = next_after(parts).map(|parts| spelled(&parts));
                [Some(spelled(parts)), behind]
            }
            Test::Span(low, high) => [low.version(), high.version()],
        });
        let mut named: Vec<Version> = named.flatten().collect();
        named.sort();
        named.dedup();
        named
    }
}

impl Bound {
    /// The version that it stands at; that of the release where it is that one's earliest.
    fn version(&self) -> Option<Version> {
        match self {
            Bound::Open => None,
            Bound::Including(version) | Bound::Excluding(version) if !version.0.text.is_empty() => {
                Some(version.clone())
            }
            Bound::Including(version) | Bound::Excluding(version) => {
                Some(spelled(&version.0.parts))
            }
        }
    }
}

/// The version that consists of some parts, as it is usually written.
fn spelled(parts: &[Part]) -> Version {
    let words = parts.iter().map(|part| match part {
        Part::Number(number) => number.to_string(),
        Part::Word(text) | Part::Huge(_, text) => text.to_string(),
    });
    Version(Arc::new(version::Held {
        text: words.collect::<Vec<_>>().join(".").into(),
        parts: parts.into(),
        early: None,
        build: Box::default(),
    }))
}

fn row_words(row: &[Test]) -> String {
    let (mut low, mut high, mut words) = (&Bound::Open, &Bound::Open, Vec::new());
    for test in row {
        match test {
            Test::Begins(parts) => words.push(format!("{}.x", spelled(parts))),
            Test::Span(Bound::Open, own) => high = own,
            Test::Span(own, Bound::Open) => low = own,
            Test::Span(own_low, own_high) => (low, high) = (own_low, own_high),
        }
    }
    let text = |bound: &Bound| bound.version().map_or(String::new(), |it| it.to_string());
    let (from, to) = (text(low), text(high));
    match (low, high) {
        (Bound::Open, Bound::Open) if words.is_empty() => words.push("any version".into()),
        (Bound::Open, Bound::Open) => {}
        (Bound::Including(a), Bound::Including(b)) if a == b => words.push(from),
        (Bound::Including(_), Bound::Open) => words.push(format!("{from} or later")),
        (Bound::Excluding(_), Bound::Open) => words.push(format!("later than {from}")),
        (Bound::Open, Bound::Including(_)) => words.push(format!("up to {to}")),
        (Bound::Open, Bound::Excluding(_)) => words.push(format!("below {to}")),
        (low, high) => {
            let later = matches!(low, Bound::Excluding(_));
            let below = matches!(high, Bound::Excluding(_));
            words.push(format!(
                "{}{from} to {}{to}",
                if later { "later than " } else { "" },
                if below { "below " } else { "" }
            ));
        }
    }
    words.join(" and ")
}

impl fmt::Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(if self.0.text.is_empty() {
            "*"
        } else {
            &self.0.text
        })
    }
}

fn row_holds(row: &[Test], version: &Version) -> bool {
    // A content hash has no place in an order: only "everything" and itself hold it.
    if version.is_content() {
        return row.iter().all(|test| *test == exactly(version.clone()));
    }
    row.iter().all(|test| match test {
        Test::Begins(parts) => (0..parts.len()).all(|i| *version.part(i) == parts[i]),
        Test::Span(low, high) => {
            (match low {
                Bound::Open => true,
                Bound::Including(low) => version >= low,
                Bound::Excluding(low) => version > low,
            }) && (match high {
                Bound::Open => true,
                Bound::Including(high) => version <= high,
                Bound::Excluding(high) => version < high,
            })
        }
    })
}

fn names(row: &[Test], version: &Version) -> bool {
    row.iter().any(|test| match test {
        Test::Begins(_) => false,
        Test::Span(low, high) => [low, high].into_iter().any(|bound| match bound {
            Bound::Open => false,
            Bound::Including(named) | Bound::Excluding(named) => {
                named.is_early()
                    && named.significant().cmp(version.significant()) == Ordering::Equal
            }
        }),
    })
}

fn at_least(version: Version) -> Test {
    Test::Span(Bound::Including(version), Bound::Open)
}

fn exactly(version: Version) -> Test {
    Test::Span(Bound::Including(version.clone()), Bound::Including(version))
}

struct Reader<'a> {
    whole: &'a str,
    versions: Notation,
}

impl Reader<'_> {
    fn fault(&self, at: &str, why: impl Into<String>) -> RangeFault {
        let offset = (at.as_ptr() as usize).saturating_sub(self.whole.as_ptr() as usize);
        let before = self.whole.get(..offset).unwrap_or("");
        RangeFault {
            text: self.whole.chars().take(80).collect(),
            why: why.into(),
            column: before.chars().count() + 1,
        }
    }

    fn version(&self, text: &str) -> Result<Version, RangeFault> {
        Version::parse(text, self.versions).map_err(|fault| self.fault(text, fault.to_string()))
    }

    /// The whole text as one version: what begins with an operator was meant in another notation.
    fn whole_version(&self) -> Result<Version, RangeFault> {
        match self
            .whole
            .starts_with(['<', '>', '=', '^', '~', '!', '[', '('])
        {
            true => Err(self.fault(self.whole, "a version is wanted here, and no operator")),
            false => self.version(self.whole),
        }
    }

    fn intervals(&self) -> Result<Vec<Vec<Test>>, RangeFault> {
        let mut rows = Vec::new();
        let mut rest = self.whole;
        loop {
            rest = rest.trim_start();
            let Some(opening) = rest.chars().next().filter(|c| "[(".contains(*c)) else {
                return Err(self.fault(rest, "an interval begins with [ or ("));
            };
            let end = rest
                .find([']', ')'])
                .ok_or_else(|| self.fault(rest, "this interval is not closed by ] or )"))?;
            let (inner, closing) = (&rest[1..end], &rest[end..=end]);
            rows.push(vec![self.interval(
                inner,
                opening == '[',
                closing == "]",
            )?]);
            rest = rest[end + 1..].trim_start();
            match rest.strip_prefix(',') {
                Some(more) => rest = more,
                None if rest.is_empty() => return Ok(rows),
                None => return Err(self.fault(rest, "a comma is missing between two intervals")),
            }
        }
    }

    fn interval(&self, inner: &str, with_low: bool, with_high: bool) -> Result<Test, RangeFault> {
        let Some((low, high)) = inner.split_once(',') else {
            if !(with_low && with_high) {
                return Err(self.fault(inner, "a single version stands in square brackets: [1.5]"));
            }
            return Ok(exactly(self.version(inner.trim())?));
        };
        let bound = |text: &str, including| -> Result<Bound, RangeFault> {
            let text = text.trim();
            Ok(match (text.is_empty(), including) {
                (true, _) => Bound::Open,
                (false, true) => Bound::Including(self.version(text)?),
                (false, false) => Bound::Excluding(self.version(text)?),
            })
        };
        let (low_bound, high_bound) = (bound(low, with_low)?, bound(high, with_high)?);
        if let (
            Bound::Including(a) | Bound::Excluding(a),
            Bound::Including(b) | Bound::Excluding(b),
        ) = (&low_bound, &high_bound)
            && a > b
        {
            return Err(self.fault(low, format!("{a} is later than {b}, so it holds nothing")));
        }
        Ok(Test::Span(low_bound, high_bound))
    }

    fn comparators(&self) -> Result<Vec<Vec<Test>>, RangeFault> {
        self.whole.split("||").map(|row| self.row(row)).collect()
    }

    fn row(&self, row: &str) -> Result<Vec<Test>, RangeFault> {
        if let Some((low, high)) = row.split_once(" - ") {
            let (low, high) = (self.version(low.trim())?, high.trim());
            let mut tests = vec![at_least(low)];
            tests.push(self.up_to(high)?);
            return Ok(tests);
        }
        let mut tests = Vec::new();
        let mut rest = row.trim();
        if rest.is_empty() {
            return Err(self.fault(row, "nothing stands on one side of ||"));
        }
        while !rest.is_empty() {
            let mark_len = rest
                .find(|c: char| !"<>=^~".contains(c))
                .unwrap_or(rest.len());
            let (mark, after) = rest.split_at(mark_len);
            let after = after.trim_start();
            let end = after
                .find(|c: char| c.is_whitespace() || c == ',')
                .unwrap_or(after.len());
            let (word, tail) = after.split_at(end);
            self.comparator(mark, word, rest, &mut tests)?;
            rest = tail.trim_start_matches(|c: char| c.is_whitespace() || c == ',');
        }
        // There are tens of thousands of them, and most have one test.
        tests.shrink_to_fit();
        Ok(tests)
    }

    fn comparator(
        &self,
        mark: &str,
        word: &str,
        at: &str,
        tests: &mut Vec<Test>,
    ) -> Result<(), RangeFault> {
        if matches!(word, "*" | "x" | "X") && matches!(mark, "" | "=" | ">=" | "^" | "~") {
            return Ok(());
        }
        let stem = wildcard_stem(word);
        let version = self.version(stem.unwrap_or(word))?;
        let wild = stem.is_some() || (version.0.parts.len() < 3 && !version.is_early());
        let span = |low, high| Test::Span(low, high);
        let test = match mark {
            "" | "=" if wild => Test::Begins(version.0.parts.clone()),
            "" | "=" => exactly(version),
            ">=" => at_least(version),
            "<" => span(Bound::Open, Bound::Excluding(version)),
            ">" if stem.is_none() => span(Bound::Excluding(version), Bound::Open),
            "<=" => self.up_to(word)?,
            "^" | "~" => {
                let keep = if mark == "^" {
                    caret_length(&version.0.parts)
                } else {
                    version.0.parts.len().clamp(1, 2)
                };
                tests.push(at_least(version.clone()));
                match next_after(&version.0.parts[..keep.min(version.0.parts.len())]) {
                    Some(parts) => span(Bound::Open, Bound::Excluding(before(parts))),
                    None => return Err(self.fault(at, "its last part must be a number here")),
                }
            }
            _ => {
                let why = format!("\"{mark}\" is none of = > >= < <= ^ ~");
                return Err(self.fault(at, why));
            }
        };
        tests.push(test);
        Ok(())
    }

    /// `<= 1.4` and `1 - 1.4` hold 1.4.x too when 1.4 has fewer than three parts.
    fn up_to(&self, word: &str) -> Result<Test, RangeFault> {
        let stem = wildcard_stem(word);
        let version = self.version(stem.unwrap_or(word))?;
        if (stem.is_some() || version.0.parts.len() < 3)
            && !version.is_early()
            && let Some(parts) = next_after(&version.0.parts)
        {
            return Ok(Test::Span(Bound::Open, Bound::Excluding(before(parts))));
        }
        Ok(Test::Span(Bound::Open, Bound::Including(version)))
    }
}

fn wildcard_stem(word: &str) -> Option<&str> {
    let stem = word.trim_end_matches(['.', '*', 'x', 'X']);
    (stem.len() < word.len() && !stem.is_empty() && word[stem.len()..].starts_with('.'))
        .then_some(stem)
}

/// How many leading parts a caret keeps: up to the first that is not zero.
fn caret_length(parts: &[Part]) -> usize {
    let zeros = parts.iter().take_while(|p| **p == Part::Number(0)).count();
    (zeros + 1).min(parts.len())
}

/// The parts of the first version after all that begin with `parts`.
fn next_after(parts: &[Part]) -> Option<Vec<Part>> {
    let mut parts = parts.to_vec();
    match parts.last_mut()? {
        Part::Number(n) => *n = n.checked_add(1)?,
        _ => return None,
    }
    Some(parts)
}

/// The earliest pre-release of a version: below it lies all that comes before that version.
fn before(parts: Vec<Part>) -> Version {
    Version(Arc::new(version::Held {
        text: "".into(),
        parts: parts.into(),
        early: Some(Box::default()),
        build: Box::default(),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `notation, range, held, not held`: the tables that docs/formats/family.md shows.
    #[test]
    fn ranges_hold_what_their_notation_says() {
        use RangeNotation::*;
        let table: &[(RangeNotation, &str, &str, &str)] = &[
            (
                Interval,
                "[1.2,1.3)",
                "1.2 1.2.9",
                "1.1 1.3 1.3.1 1.2.5-rc1",
            ),
            (Interval, "(,2.0]", "0.1 2.0", "2.0.1 3"),
            (Interval, "(1.0,)", "1.0.1 9", "1.0 0.9"),
            (Interval, "[1.5]", "1.5 1.5.0", "1.5.1 1.4"),
            (Interval, "[1,2),[3,4)", "1.5 3.9", "2.5 4"),
            (
                Interval,
                "[1.2-rc1,2)",
                "1.2-rc1 1.2-rc2 1.5",
                "1.2-beta1 1.5-rc1",
            ),
            (Comparators, ">=1.2 <2", "1.2 1.9.9", "1.1 2 2.1"),
            (Comparators, ">=1.2,<2", "1.2 1.9.9", "1.1 2"),
            (Comparators, "> 1.2.0", "1.2.1 2", "1.2.0 1.1"),
            (Comparators, "<=1.4", "1.4 1.4.7 1.0", "1.5 1.5-rc1"),
            (Comparators, "<=1.4.2", "1.4.2", "1.4.3"),
            (Comparators, "^1.2", "1.2 1.9", "1.1 2.0 2.0-rc1"),
            (Comparators, "^0.3.1", "0.3.1 0.3.9", "0.4 0.3"),
            (Comparators, "~1.2.3", "1.2.3 1.2.9", "1.3 1.2.2"),
            (Comparators, "~1", "1.0 1.9", "2"),
            (Comparators, "1.2.x", "1.2 1.2.7", "1.3"),
            (Comparators, "1.2.*", "1.2 1.2.7", "1.3"),
            (Comparators, "1.2", "1.2 1.2.7", "1.3"),
            (Comparators, "=1.2.3", "1.2.3", "1.2.4"),
            (Comparators, "1.2 - 1.4", "1.2 1.4.9", "1.5 1.1"),
            (Comparators, "1.x || >=3", "1.7 3 4", "2"),
            (Comparators, ">=2-rc1 <3", "2-rc2 2", "3 2.5-rc1"),
            (Comparators, "*", "0 99", "1-rc1"),
            (Prefix, "4.2", "4.2 4.2.8", "4.20 4.3 4.2-rc1"),
            (Prefix, "4.0", "4 4.0.3", "4.1"),
            (AtLeast, "4.2", "4.2 5", "4.1"),
            (Exact, "4.2", "4.2 4.2.0", "4.2.1"),
            (Any, "whatever", "1 99", "1-rc1"),
        ];
        for (notation, text, held, not_held) in table {
            let range = Range::parse(text, *notation, Notation::Dotted).unwrap();
            for (words, expected) in [(held, true), (not_held, false)] {
                for word in words.split(' ') {
                    let version = Version::parse(word, Notation::Dotted).unwrap();
                    assert_eq!(
                        range.holds(&version),
                        expected,
                        "{notation:?} {text} {word}"
                    );
                }
            }
        }
    }

    #[test]
    fn ranges_in_words_and_the_versions_at_their_bounds() {
        let table = [
            (">=3.4 <3.7", "3.4 to below 3.7", "3.4 3.7"),
            ("3.4 - 3.6", "3.4 to below 3.7", "3.4 3.7"),
            ("3.4.1 - 3.6.2", "3.4.1 to 3.6.2", "3.4.1 3.6.2"),
            ("=3.4.1", "3.4.1", "3.4.1"),
            ("3.4", "3.4.x", "3.4 3.5"),
            (">3.4.1", "later than 3.4.1", "3.4.1"),
            ("<=3.4.1", "up to 3.4.1", "3.4.1"),
            ("<3", "below 3", "3"),
            ("3.4 || >=4", "3.4.x, or 4 or later", "3.4 3.5 4"),
            ("*", "any version", ""),
        ];
        for (text, words, bounds) in table {
            let range = Range::parse(text, RangeNotation::Comparators, Notation::Dotted).unwrap();
            assert_eq!(range.words(), words);
            let named: Vec<String> = range.bounds().iter().map(ToString::to_string).collect();
            assert_eq!(named.join(" "), bounds, "{text}");
        }
        let both = Range::parse("[1,2)", RangeNotation::Interval, Notation::Dotted).unwrap();
        assert_eq!(both.words(), "1 to below 2");
    }

    #[test]
    fn early_ones_count_when_the_policy_allows_them() {
        let range = Range::parse(">=1.2", RangeNotation::Comparators, Notation::Dotted).unwrap();
        let early = Version::parse("1.3-rc1", Notation::Dotted).unwrap();
        assert!(!range.holds(&early));
        assert!(range.holds_early(&early));
    }

    #[test]
    fn a_content_version_is_held_by_everything_and_itself_alone() {
        let content = Version::of_content("abcdef0123456789");
        let at_least = Range::parse("1", RangeNotation::AtLeast, Notation::Dotted).unwrap();
        assert!(Range::any().holds(&content));
        assert!(Range::exactly(content.clone()).holds(&content));
        assert!(!at_least.holds(&content));
    }

    #[test]
    fn faults_name_the_column() {
        let cases = [
            (RangeNotation::Interval, "[1.2,1.3", 1),
            (RangeNotation::Interval, "[1,2) [3,4)", 7),
            (RangeNotation::Interval, "[2,1]", 2),
            (RangeNotation::Comparators, ">=1.0 =>2.0", 7),
            (RangeNotation::Comparators, "1.0 || ", 7),
        ];
        for (notation, text, column) in cases {
            let fault = Range::parse(text, notation, Notation::Dotted).unwrap_err();
            assert_eq!(fault.column, column, "{fault}");
        }
    }

    #[test]
    fn the_first_notation_that_reads_it_wins() {
        let notations = [RangeNotation::Interval, RangeNotation::AtLeast];
        let range = Range::parse_any("1.4", &notations, Notation::Dotted).unwrap();
        assert!(range.holds(&Version::parse("1.5", Notation::Dotted).unwrap()));
        assert!(Range::parse_any("1 4", &notations, Notation::Dotted).is_err());
        for notation in [
            RangeNotation::AtLeast,
            RangeNotation::Prefix,
            RangeNotation::Exact,
        ] {
            let notations = [notation, RangeNotation::Comparators];
            let range = Range::parse_any(">=22", &notations, Notation::Dotted).unwrap();
            assert!(!range.holds(&Version::parse("21.1", Notation::Dotted).unwrap()));
        }
    }

    proptest::proptest! {
        #[test]
        fn no_text_makes_it_panic(text in "[\\[\\](),.<>=^~|x* v0-9a-]{0,24}") {
            for notation in [RangeNotation::Interval, RangeNotation::Comparators, RangeNotation::Prefix] {
                let _ = Range::parse(&text, notation, Notation::Dotted);
                let _ = Range::parse(&text, notation, Notation::Semver);
            }
        }
    }
}
