//! How two version strings compare, and what a range holds.
//!
//! A [`Version`] is read in a [`Notation`] that the family file names; a [`Range`] in a
//! [`RangeNotation`]. The order over versions is total, and equality agrees with it: `5.4`,
//! `v5.4` and `5.4.0` are one version, however they are spelled.

mod notations;
mod range;

pub use notations::{Notations, RangesRead};
pub use range::{Range, RangeFault, RangeNotation};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// How version strings are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema, Default)]
#[serde(rename_all = "kebab-case")]
pub enum Notation {
    /// Any number of parts: numbers, letters, dates, build numbers; a leading `v` is ignored.
    ///
    /// | text | read as |
    /// |---|---|
    /// | `5.4` = `v5.4` = `5.4.0` | 5, 4 |
    /// | `2031.04.12.7` | 2031, 4, 12, 7 |
    /// | `5.4b` | 5, 4, "b": after `5.4`, before `5.4.1` |
    /// | `5.4-rc2` | 5, 4, and before the release: "rc", 2 |
    /// | `5.4+118` | 5, 4, build 118: after `5.4` |
    #[default]
    Dotted,
    /// Three numbers, `-` pre-release, `+` build, as in Semantic Versioning 2.0.0; missing numbers
    /// count as 0 and the build does not take part in the order.
    Semver,
    /// `epoch:upstream-revision`, as Debian's packages are numbered (its policy manual, 5.6.12): a higher epoch wins,
    /// `~` comes before the end, letters before all else, numbers by their value; no epoch and no revision count as 0.
    Epoch,
}

/// Words that mark a pre-release in the dotted notation.
const EARLY_WORDS: &[&str] = &[
    "alpha", "beta", "dev", "early", "pre", "preview", "rc", "snapshot", "test",
];

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Part {
    Word(Box<str>),
    Number(u64),
    /// A number beyond `u64`: its count of digits, then the digits.
    Huge(usize, Box<str>),
}

impl Part {
    fn digits(text: &str) -> Part {
        let text = text.trim_start_matches('0');
        if text.is_empty() {
            return Part::Number(0);
        }
        text.parse()
            .map_or_else(|_| Part::Huge(text.len(), text.into()), Part::Number)
    }

    fn read(text: &str) -> Part {
        if text.bytes().all(|b| b.is_ascii_digit()) && !text.is_empty() {
            Part::digits(text)
        } else {
            Part::Word(text.to_ascii_lowercase().into())
        }
    }
}

/// One version, as written and as it compares.
///
/// Copies share what they hold.
#[derive(Clone)]
pub struct Version(Arc<Held>);

struct Held {
    text: Box<str>,
    parts: Box<[Part]>,
    early: Option<Box<[Part]>>,
    build: Box<[Part]>,
}

/// Why a text is no version.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{text}\" is not a version: {why}")]
pub struct VersionFault {
    /// The text as given.
    pub text: String,
    /// What is wrong with it.
    pub why: &'static str,
}

impl Version {
    /// Reads a version.
    ///
    /// # Errors
    /// On an empty text, blanks or control characters inside, more than 200 characters, or, in
    /// semver, something that is not a number among the first three parts.
    pub fn parse(text: &str, notation: Notation) -> Result<Version, VersionFault> {
        let fault = |why| VersionFault {
            text: text.chars().take(60).collect(),
            why,
        };
        let trimmed = text.trim();
        if trimmed.starts_with('#') && trimmed.len() > 1 && !trimmed.contains(char::is_whitespace) {
            return Ok(Version::of_content(&trimmed[1..]));
        }
        let bare = match trimmed.strip_prefix(['v', 'V']) {
            Some(rest) if rest.starts_with(|c: char| c.is_ascii_digit()) => rest,
            _ => trimmed,
        };
        if bare.is_empty() {
            return Err(fault("it is empty"));
        }
        if bare.len() > 200 {
            return Err(fault("it is longer than 200 characters"));
        }
        if bare.chars().any(|c| c.is_whitespace() || c.is_control()) {
            return Err(fault("a blank or control character stands in it"));
        }
        let (parts, early, build) = match notation {
            Notation::Dotted => {
                let (head, build) = bare.split_once('+').unwrap_or((bare, ""));
                let (parts, early) = dotted(head);
                (parts, early, dotted(build).0)
            }
            Notation::Semver => {
                let (parts, early) = semver(bare).ok_or_else(|| {
                    fault("semver wants numbers with dots between, then -early or +build")
                })?;
                (parts, early, Vec::new())
            }
            Notation::Epoch => {
                let (parts, is_early) = with_epoch(trimmed)
                    .ok_or_else(|| fault("a number has to stand before the colon"))?;
                (parts, is_early.then(Vec::new), Vec::new())
            }
        };
        if parts.is_empty() {
            return Err(fault("no number or letter stands in it"));
        }
        Ok(Version(Arc::new(Held {
            text: trimmed.into(),
            parts: parts.into(),
            early: early.map(Vec::into_boxed_slice),
            build: build.into(),
        })))
    }

    /// Makes the version of something that states none: its content hash stands for it.
    ///
    /// Such versions equal only themselves; their order among each other means nothing.
    pub fn of_content(hash: &str) -> Version {
        let short: String = hash.chars().take(10).collect();
        let text: Box<str> = format!("#{short}").into();
        Version(Arc::new(Held {
            parts: Box::new([Part::Word(text.clone())]),
            text,
            early: None,
            build: Box::default(),
        }))
    }

    /// Whether a content hash stands for the version.
    pub fn is_content(&self) -> bool {
        self.0.text.starts_with('#')
    }

    /// Whether it comes before a release: an alpha, beta, release candidate and so on.
    pub fn is_early(&self) -> bool {
        self.0.early.is_some()
    }

    /// Whether two differ in nothing but the build: `5.4+wide` is a build of the release `5.4`.
    pub fn is_same_release(&self, other: &Version) -> bool {
        self.significant() == other.significant() && self.0.early == other.0.early
    }

    /// The version as it was written.
    pub fn as_str(&self) -> &str {
        &self.0.text
    }

    fn part(&self, index: usize) -> &Part {
        const ZERO: Part = Part::Number(0);
        self.0.parts.get(index).unwrap_or(&ZERO)
    }

    /// The parts without trailing zeros: what comparing and hashing look at.
    fn significant(&self) -> &[Part] {
        let zeros = self.0.parts.iter().rev();
        let zeros = zeros.take_while(|p| **p == Part::Number(0)).count();
        &self.0.parts[..self.0.parts.len() - zeros]
    }
}

/// Splits at `.`, `-`, `_` and between digits and letters; an early word opens the early part.
fn dotted(text: &str) -> (Vec<Part>, Option<Vec<Part>>) {
    let mut parts = Vec::new();
    let mut early: Option<Vec<Part>> = None;
    for piece in text.split(['.', '-', '_']) {
        let mut rest = piece;
        while let Some(first) = rest.chars().next() {
            let digits = first.is_ascii_digit();
            let end = rest
                .find(|c: char| c.is_ascii_digit() != digits)
                .unwrap_or(rest.len());
            let (head, tail) = rest.split_at(end);
            rest = tail;
            let part = Part::read(head);
            match (&mut early, &part) {
                (Some(early), _) => early.push(part),
                (None, Part::Word(word)) if EARLY_WORDS.contains(&&**word) => {
                    early = Some(vec![part]);
                }
                (None, _) => parts.push(part),
            }
        }
    }
    (parts, early)
}

fn semver(text: &str) -> Option<(Vec<Part>, Option<Vec<Part>>)> {
    let text = text.split_once('+').map_or(text, |(head, _)| head);
    let (core, early) = match text.split_once('-') {
        Some((core, early)) => (core, Some(early)),
        None => (text, None),
    };
    let numbers = core.split('.').map(|piece| {
        let number = !piece.is_empty() && piece.bytes().all(|b| b.is_ascii_digit());
        number.then(|| Part::digits(piece))
    });
    let parts: Vec<Part> = numbers.collect::<Option<_>>()?;
    let early = match early {
        Some(early) if early.split('.').any(str::is_empty) => return None,
        // Semantic Versioning: numbers come before words in the early part.
        Some(early) => Some(early.split('.').map(early_part).collect()),
        None => None,
    };
    (parts.len() <= 3).then_some((parts, early))
}

/// The parts of `epoch:upstream-revision`, so that they compare as such versions do; and whether it comes before a release.
fn with_epoch(text: &str) -> Option<(Vec<Part>, bool)> {
    let (epoch, rest) = text.split_once(':').unwrap_or(("0", text));
    let is_number = !epoch.is_empty() && epoch.bytes().all(|byte| byte.is_ascii_digit());
    let (upstream, revision) = rest.rsplit_once('-').unwrap_or((rest, "0"));
    if !is_number || upstream.is_empty() {
        return None;
    }
    let mut parts = vec![Part::digits(epoch)];
    alternating(upstream, &mut parts);
    alternating(revision, &mut parts);
    let lower = upstream.to_ascii_lowercase();
    let mut tildes = lower.split('~').skip(1);
    let is_early = tildes.any(|behind| EARLY_WORDS.iter().any(|word| behind.starts_with(word)));
    Some((parts, is_early))
}

/// What is no number and what is one, in turn, with an end that comes after `~` and before all else.
fn alternating(text: &str, parts: &mut Vec<Part>) {
    const TILDE: char = '\u{1}';
    const END: char = '\u{2}';
    /// So far behind the letters come all others.
    const OTHERS: u32 = 0x1_0000;
    let rank = |c: char| match c {
        '~' => TILDE,
        c if c.is_ascii_alphabetic() => c,
        c => char::from_u32(u32::from(c) + OTHERS).unwrap_or(char::MAX),
    };
    let word = |text: &str| {
        let ranked: String = text.chars().map(rank).chain([END]).collect();
        Part::Word(ranked.into())
    };
    let mut rest = text;
    while !rest.is_empty() {
        let digits = rest
            .find(|c: char| c.is_ascii_digit())
            .unwrap_or(rest.len());
        parts.push(word(&rest[..digits]));
        rest = &rest[digits..];
        let end = rest
            .find(|c: char| !c.is_ascii_digit())
            .unwrap_or(rest.len());
        parts.push(Part::digits(&rest[..end]));
        rest = &rest[end..];
    }
    parts.push(word(""));
}

fn early_part(text: &str) -> Part {
    match Part::read(text) {
        Part::Word(_) => Part::Huge(usize::MAX, text.into()),
        number => number,
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Version) -> Ordering {
        if Arc::ptr_eq(&self.0, &other.0) {
            return Ordering::Equal;
        }
        let parts = self.significant().cmp(other.significant());
        let early = parts.then_with(|| match (&self.0.early, &other.0.early) {
            (None, None) => Ordering::Equal,
            (None, Some(_)) => Ordering::Greater,
            (Some(_), None) => Ordering::Less,
            (Some(a), Some(b)) => a.cmp(b),
        });
        early.then_with(|| self.0.build.cmp(&other.0.build))
    }
}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Version) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Version) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Version {}

impl Hash for Version {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.significant().hash(state);
        self.0.early.hash(state);
        self.0.build.hash(state);
    }
}

impl fmt::Debug for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Version").field(&self.0.text).finish()
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn v(text: &str, notation: Notation) -> Version {
        Version::parse(text, notation).unwrap()
    }

    #[test]
    fn dotted_versions_ascend() {
        let table = [
            "0.9",
            "1-alpha",
            "1-beta2",
            "1-beta10",
            "1-rc1",
            "1",
            "1a",
            "1b",
            "1.0.1",
            "1.2",
            "1.10",
            "5.4-rc2",
            "5.4",
            "5.4+118",
            "5.4+119",
            "5.4.1",
            "2031.04.12.7",
            "2031.4.12.8",
            "99999999999999999999.1",
        ];
        for pair in table.windows(2) {
            let (a, b) = (v(pair[0], Notation::Dotted), v(pair[1], Notation::Dotted));
            assert!(a < b, "{a} < {b}");
        }
    }

    #[test]
    fn versions_with_epochs_ascend() {
        let table = [
            "1.0~~",
            "1.0~~a",
            "1.0~",
            "1.0~rc1-1",
            "1.0~rc2",
            "1.0",
            "1.0-1~bpo12+1",
            "1.0-1",
            "1.0-1+deb13u1",
            "1.0-1.1",
            "1.0-10",
            "1.0a",
            "1.0b",
            "1.0+dfsg-1",
            "1.0.1",
            "1.0.10",
            "1.2-3-1",
            "2",
            "2.a",
            "1:0.1",
            "10:0",
        ];
        for pair in table.windows(2) {
            let (a, b) = (v(pair[0], Notation::Epoch), v(pair[1], Notation::Epoch));
            assert!(a < b, "{a} < {b}");
        }
        for (a, b) in [
            ("1.0", "0:1.0-0"),
            ("1.0a", "1.0a0"),
            ("1.00", "1.0"),
            ("2.4", "2.04"),
        ] {
            assert_eq!(v(a, Notation::Epoch), v(b, Notation::Epoch));
        }
        assert!(v("5.10~rc1-2", Notation::Epoch).is_early());
        assert!(!v("5.10~dfsg-2", Notation::Epoch).is_early());
        let range = Range::parse(
            ">=1:5.10~ <2:0",
            RangeNotation::Comparators,
            Notation::Epoch,
        );
        let range = range.unwrap();
        for (text, held) in [
            ("1:5.10~rc1", true),
            ("1:5.10-2", true),
            ("5.11", false),
            ("2:0", false),
        ] {
            assert_eq!(range.holds_early(&v(text, Notation::Epoch)), held, "{text}");
        }
        for text in ["a:1", ":1", "-1"] {
            assert!(Version::parse(text, Notation::Epoch).is_err(), "{text}");
        }
    }

    #[test]
    fn semver_versions_ascend() {
        let table = [
            "1.0.0-1",
            "1.0.0-alpha",
            "1.0.0-alpha.1",
            "1.0.0-beta.2",
            "1.0.0-beta.11",
            "1.0.0-rc.1",
            "1.0.0",
            "1.0.1",
            "1.2",
            "1.10.0",
            "4.2.0-beta.3+17",
            "4.2.0",
        ];
        for pair in table.windows(2) {
            let (a, b) = (v(pair[0], Notation::Semver), v(pair[1], Notation::Semver));
            assert!(a < b, "{a} < {b}");
        }
    }

    #[test]
    fn one_version_has_several_spellings() {
        for (a, b) in [
            ("5.4", "v5.4"),
            ("5.4", "5.4.0"),
            ("2031.04.1", "2031.4.01"),
            ("1-RC1", "1-rc1"),
        ] {
            assert_eq!(v(a, Notation::Dotted), v(b, Notation::Dotted));
        }
        assert_eq!(
            v("1.2.3+7", Notation::Semver),
            v("1.2.3+8", Notation::Semver)
        );
        assert_eq!(v("v6.1", Notation::Semver), v("6.1.0", Notation::Semver));
    }

    #[test]
    fn what_is_no_version_is_refused() {
        for text in ["", "  ", "1 2", "1\u{7}", "...", &"9".repeat(300)] {
            assert!(Version::parse(text, Notation::Dotted).is_err(), "{text:?}");
        }
        for text in ["latest", "1.2.3.4", "1..2", "1.2-", "x1"] {
            assert!(Version::parse(text, Notation::Semver).is_err(), "{text:?}");
        }
    }

    #[test]
    fn a_content_version_equals_only_itself() {
        let a = Version::of_content("0123456789abcdef");
        assert_eq!(a.as_str(), "#0123456789");
        assert!(a.is_content());
        assert_ne!(a, Version::of_content("1123456789abcdef"));
    }

    fn any_text() -> impl Strategy<Value = (String, Notation)> {
        let dotted = "v?[0-9]{1,2}(\\.[0-9]{1,3}){0,3}([.-](rc|beta|b|x)[0-9]?)?(\\+[0-9])?";
        let semver =
            "v?[0-9]{1,2}(\\.[0-9]{1,3}){0,2}(-(rc|beta|[0-9])(\\.[0-9]{1,2})?)?(\\+[0-9])?";
        prop_oneof![
            (dotted, Just(Notation::Dotted)),
            (semver, Just(Notation::Semver)),
        ]
    }

    /// Three versions of one notation.
    fn three() -> impl Strategy<Value = [Version; 3]> {
        let same = any_text().prop_flat_map(|(_, notation)| {
            let text =
                any_text().prop_filter("of one notation", move |(_, other)| *other == notation);
            proptest::collection::vec(text, 3)
        });
        same.prop_map(|texts| [0, 1, 2].map(|i| v(&texts[i].0, texts[i].1)))
    }

    proptest! {
        #[test]
        fn order_is_total([a, b, c] in three()) {
            prop_assert_eq!(a.cmp(&b), b.cmp(&a).reverse());
            prop_assert_eq!(a == b, a.cmp(&b) == Ordering::Equal);
            if a <= b && b <= c {
                prop_assert!(a <= c);
            }
        }

        #[test]
        fn printing_and_reading_again_keeps_it((text, notation) in any_text()) {
            let version = v(&text, notation);
            let again = v(&version.to_string(), notation);
            prop_assert_eq!(&again, &version);
            prop_assert_eq!(again.as_str(), version.as_str());
        }

        #[test]
        fn no_text_makes_it_panic(text in "\\PC{0,40}") {
            let _ = Version::parse(&text, Notation::Dotted);
            let _ = Version::parse(&text, Notation::Semver);
        }
    }
}
