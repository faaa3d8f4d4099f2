//! What a start script pins, put in as one word that nothing takes for more.
//!
//! Versions and file names come from outside. In a script they would be run if they held a `$(…)`; so only plain words are
//! written, only over plain words, and whatever stands around them stays: quotes, semicolons, comments.

use crate::family::{Addition, Pattern, Spot};
use crate::launch::Word;
use crate::settings::{self, Notation, SettingsFault};
use crate::text::Lines;
use std::ops::Range;

/// Why a value cannot be set, and in which line, from 1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misfit {
    /// The line.
    pub line: usize,
    /// What stands in the way.
    pub why: String,
}

/// Whether a text is one word to every shell and settings file: letters, digits and `. _ + ~ : @ -`, and none of the last
/// four first.
pub fn is_plain(text: &str) -> bool {
    text.chars().all(is_of_word) && !text.is_empty() && !text.starts_with(['~', ':', '@', '-'])
}

/// Whether a text is a line of words that a settings file takes as they are: the characters of [`is_plain`], `/ , =`, and
/// single blanks between.
pub fn are_plain(text: &str) -> bool {
    let of_words = |c: char| is_of_word(c) || "/,= ".contains(c);
    text.chars().all(of_words) && text.trim() == text && !text.is_empty() && !text.contains("  ")
}

fn is_of_word(c: char) -> bool {
    c.is_alphanumeric() || "._+~:@-".contains(c)
}

/// Puts a value in the place of what the pattern's group `value` finds, in every line but in comments.
///
/// # Errors
/// Where what stands there is no plain word.
pub fn set(pattern: &Pattern, text: &str, becomes: &str) -> Result<String, Misfit> {
    let mut lines = Lines::of(text);
    let mut number = 0;
    while let Some((line, whole)) = lines.next() {
        number += 1;
        let found = pattern.regex().captures(line);
        let found = found.and_then(|found| Some(found.name("value")?.range()));
        let Some(found) = found.filter(|found| !is_comment(line, found.start)) else {
            lines.keep(whole);
            continue;
        };
        let word = word_in(line, found).map_err(|why| Misfit { line: number, why })?;
        let (before, after) = (&line[..word.start], &line[word.end..]);
        lines.replace(whole, &format!("{before}{becomes}{after}"));
    }
    Ok(lines.joined())
}

impl Spot<'_> {
    /// What stands there, and in which line, from 1; of several lines the first, comments left out.
    pub fn says(&self, text: &str) -> Option<(String, usize)> {
        match self {
            Spot::Line(pattern) => text.lines().enumerate().find_map(|(index, line)| {
                let found = pattern.regex().captures(line)?.name("value")?;
                let is_meant = !is_comment(line, found.start());
                is_meant.then(|| (found.as_str().trim().to_owned(), index + 1))
            }),
            Spot::Key(notation, key) => {
                let entries = settings::read(notation, text).ok()?;
                let entry = entries.into_iter().find(|entry| entry.key == *key)?;
                let line = text[..entry.value.start].matches('\n').count() + 1;
                let says = match quotes_around(notation, &entry.says) {
                    Some(_) => entry.says[1..entry.says.len() - 1].to_owned(),
                    None => entry.says,
                };
                Some((says, line))
            }
        }
    }

    /// The text with a value there; one that has a key is added where it is missing.
    ///
    /// # Errors
    /// Where what stands there is no plain word, or the text cannot be read.
    pub fn set(&self, text: &str, becomes: &str) -> Result<String, Misfit> {
        match self {
            Spot::Line(pattern) => set(pattern, text, becomes),
            Spot::Key(notation, key) => {
                let now = settings::get(notation, text, key).ok().flatten();
                let quote = now.and_then(|now| quotes_around(notation, &now));
                let becomes = match quote {
                    Some(quote) => format!("{quote}{becomes}{quote}"),
                    None => becomes.to_owned(),
                };
                settings::set(notation, text, key, &becomes).map_err(|fault| Misfit {
                    line: match &fault {
                        SettingsFault::Text { line, .. } => line.unwrap_or(1),
                        _ => self.says(text).map_or(1, |(_, line)| line),
                    },
                    why: fault.to_string(),
                })
            }
        }
    }
}

/// The quotes that a value stands in where the notation knows none: whoever reads it takes them off, and what takes its place has them, too.
fn quotes_around(notation: &Notation, says: &str) -> Option<char> {
    let quote = says.chars().next().filter(|c| "\"'".contains(*c))?;
    let inside = says.strip_prefix(quote)?.strip_suffix(quote)?;
    (*notation == Notation::Ini && !inside.contains(quote)).then_some(quote)
}

/// Adds what is missing; none where it is an argument and no command starts the server in words that can be found again.
pub fn added(addition: &Addition, text: &str, value: &str, start: Option<&Word>) -> Option<String> {
    let filled = |words: &str| words.replace("{}", value);
    let mut lines = Lines::of(text);
    match addition {
        Addition::Argument(words) => {
            let program = start?;
            let mut number = 0;
            let mut done = false;
            while let Some((line, whole)) = lines.next() {
                number += 1;
                let at = line
                    .char_indices()
                    .nth(program.at.column - 1)
                    .map(|(at, _)| at);
                let at = at.filter(|_| number == program.at.line);
                match at.filter(|at| line[*at..].starts_with(&program.text)) {
                    Some(at) => {
                        let (before, after) = line.split_at(at + program.text.len());
                        lines.replace(whole, &format!("{before} {}{after}", filled(words)));
                        done = true;
                    }
                    None => lines.keep(whole),
                }
            }
            done.then(|| lines.joined())
        }
        Addition::Line(line) => {
            while let Some((_, whole)) = lines.next() {
                lines.keep(whole);
            }
            lines.add(&filled(line));
            Some(lines.joined())
        }
        Addition::LineAfter { after, line } => {
            let mut waits = true;
            while let Some((text, whole)) = lines.next() {
                lines.keep(whole);
                if waits && after.regex().is_match(text) {
                    lines.add(&filled(line));
                    waits = false;
                }
            }
            if waits {
                lines.add(&filled(line));
            }
            Some(lines.joined())
        }
    }
}

/// Whether what stands at a place in a line is part of a comment: of a shell script, or of a batch file.
fn is_comment(line: &str, at: usize) -> bool {
    let start = line
        .trim_start()
        .trim_start_matches('@')
        .to_ascii_lowercase();
    if start.starts_with("::") || start == "rem" || start.starts_with("rem ") {
        return true;
    }
    let (mut quote, mut before) = (None, ' ');
    for c in line[..at].chars() {
        match quote {
            Some(open) if c == open => quote = None,
            Some(_) => {}
            None if c == '#' && before.is_whitespace() => return true,
            None if c == '"' || c == '\'' => quote = Some(c),
            None => {}
        }
        before = c;
    }
    false
}

/// The plain word in what was found; what is put together of several things is left to the administrator.
fn word_in(line: &str, found: Range<usize>) -> Result<Range<usize>, String> {
    let text = &line[found.clone()];
    let quote = text.chars().next().filter(|c| *c == '"' || *c == '\'');
    let start = usize::from(quote.is_some());
    let rest = &text[start..];
    let is_path = |c: char| is_of_word(c) || c == '/';
    let length = rest.find(|c| !is_path(c)).unwrap_or(rest.len());
    let next = rest[length..].chars().next();
    let ends = match (quote, next) {
        (Some(quote), next) => {
            next == Some(quote) || next.is_none() && line[found.end..].starts_with(quote)
        }
        (None, None) => true,
        (None, Some(next)) => {
            next.is_whitespace() || ";&|)<>,".contains(next) || next == '"' || next == '\''
        }
    };
    // Nothing stands there yet: between quotes, or up to a blank or the line's end.
    let before = line[..found.start].chars().next_back();
    let after = line[found.end..].chars().next();
    let is_empty = match quote {
        Some(_) => length == 0 && ends,
        None if after.is_some_and(|c| c == '"' || c == '\'') => text.is_empty() && before == after,
        None => text.is_empty() && after.is_none_or(char::is_whitespace),
    };
    let shown = text.split_whitespace().next().unwrap_or_default();
    match length > 0 && ends || is_empty {
        true => Ok(found.start + start..found.start + start + length),
        false => Err(format!(
            "{shown} is no plain word, and only you know what it comes to"
        )),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pattern(text: &str) -> Pattern {
        serde_json::from_value(text.into()).unwrap()
    }

    #[test]
    fn quotes_of_a_setting_without_a_notation_for_them_stay() {
        let key = crate::settings::Key::of("net.hash");
        for (notation, text, says, after) in [
            (
                Notation::Ini,
                "[net]\nhash = \"a\"\n",
                "a",
                "[net]\nhash = \"b\"\n",
            ),
            (Notation::Ini, "[net]\nhash = a\n", "a", "[net]\nhash = b\n"),
            (
                Notation::Ini,
                "[net]\nhash = \"a\" \"c\"\n",
                "\"a\" \"c\"",
                "[net]\nhash = b\n",
            ),
            (
                Notation::Toml,
                "[net]\nhash = \"'a'\"\n",
                "'a'",
                "[net]\nhash = \"b\"\n",
            ),
        ] {
            let spot = Spot::Key(notation, key.clone());
            assert_eq!(spot.says(text), Some((says.to_owned(), 2)), "{text}");
            assert_eq!(spot.set(text, "b").unwrap(), after);
            assert_eq!(spot.says(after), Some(("b".to_owned(), 2)));
        }
    }

    #[test]
    fn the_word_alone_is_put_in_and_all_around_it_stays() {
        let pattern = pattern(r"--lattice[ =](?P<value>\S+)");
        let kept = [
            ("run --lattice 1.8 --quick", "run --lattice 2.0 --quick"),
            (
                "run --lattice 1.8;echo \"done\"",
                "run --lattice 2.0;echo \"done\"",
            ),
            (
                "run --lattice=\"1.8\" --quick",
                "run --lattice=\"2.0\" --quick",
            ),
            ("run '--lattice 1.8'", "run '--lattice 2.0'"),
            ("(run --lattice 1.8)&", "(run --lattice 2.0)&"),
            (
                "run --lattice 1.8  # was --lattice 1.7",
                "run --lattice 2.0  # was --lattice 1.7",
            ),
            ("run --lattice 1.8>log", "run --lattice 2.0>log"),
            ("# run --lattice 1.8", "# run --lattice 1.8"),
            ("run # --lattice 1.8", "run # --lattice 1.8"),
            ("echo '#' --lattice 1.8", "echo '#' --lattice 2.0"),
            ("echo x#y --lattice 1.8", "echo x#y --lattice 2.0"),
            ("rem --lattice 1.8", "rem --lattice 1.8"),
            ("@REM --lattice 1.8", "@REM --lattice 1.8"),
            (":: --lattice 1.8", ":: --lattice 1.8"),
            ("remove --lattice 1.8", "remove --lattice 2.0"),
            (
                "run --lattice 1.8\r\nport = 1\n",
                "run --lattice 2.0\r\nport = 1\n",
            ),
        ];
        for (text, expected) in kept {
            assert_eq!(set(&pattern, text, "2.0").unwrap(), expected, "{text}");
        }
        let refused = [
            "run --lattice $VERSION",
            "run --lattice \"$VERSION\"",
            "run --lattice %VERSION%",
            "run --lattice `cat version`",
            "run --lattice 1.$MINOR",
            "run --lattice \"1.8",
            "run --lattice 1.8*",
        ];
        for text in refused {
            let misfit = set(&pattern, &format!("\n{text}\n"), "2.0").unwrap_err();
            assert_eq!(misfit.line, 2, "{text}");
            assert!(
                misfit.why.contains("no plain word"),
                "{text}: {}",
                misfit.why
            );
        }
    }

    #[test]
    fn a_word_comes_where_nothing_stands_yet() {
        let set = |text: &str| set(&pattern("sum *= *(?P<value>[^ $]*)"), text, "a9");
        for (text, expected) in [
            ("sum =", "sum =a9"),
            ("sum = \nbeds = 4\n", "sum = a9\nbeds = 4\n"),
            ("sum=\r\n", "sum=a9\r\n"),
            ("sum = \"\"", "sum = \"a9\""),
            ("sum=''", "sum='a9'"),
        ] {
            assert_eq!(set(text).unwrap(), expected, "{text}");
        }
        for text in ["sum =$SUM", "sum=\"$SUM\"", "sum=\"", "sum='\""] {
            assert!(set(text).is_err(), "{text}");
        }
        let inside = pattern("sum=\"(?P<value>[^\"$]*)");
        let set = |text: &str| super::set(&inside, text, "a9");
        assert_eq!(set("sum=\"\";").unwrap(), "sum=\"a9\";");
        assert!(set("sum=\"$SUM\"").is_err());
    }

    #[test]
    fn what_is_missing_is_added_where_the_family_says() {
        let add = |addition: &str, text: &str| {
            let addition: Addition = serde_json::from_str(addition).unwrap();
            let script = crate::launch::Script::read(crate::launch::Dialect::Shell, text);
            let start = script.commands.last();
            let start = start.and_then(|command| command.words.get(1));
            added(&addition, text, "2.0", start)
        };
        let argument = r#"{"argument": "--lattice {}"}"#;
        assert_eq!(
            add(argument, "#!/bin/sh\nexec ./run \\\n  --quick\n").unwrap(),
            "#!/bin/sh\nexec ./run --lattice 2.0 \\\n  --quick\n"
        );
        // Where the program is written in another way than it reads, that is left to its owner.
        assert_eq!(add(argument, "exec \"./run\" --quick\n"), None);
        let line = r#"{"line": "build={}"}"#;
        assert_eq!(add(line, "a=1\r\n").unwrap(), "a=1\r\nbuild=2.0\r\n");
        let after = r#"{"line-after": {"after": "^\\[game\\]", "line": "build={}"}}"#;
        assert_eq!(
            add(after, "[game]\nname=x\n").unwrap(),
            "[game]\nbuild=2.0\nname=x\n"
        );
        assert_eq!(add(after, "name=x\n").unwrap(), "name=x\nbuild=2.0\n");
    }

    #[test]
    fn only_plain_words_come_from_outside() {
        for plain in [
            "2.0",
            "2031.04.12",
            "2.0-rc1+build.7",
            "ärbour-1.run",
            "a_b~c",
            "1:2.0",
        ] {
            assert!(is_plain(plain), "{plain}");
        }
        for odd in [
            "",
            "2.0 x",
            "2.0+$(touch x)",
            "2.0;x",
            "2.0`x`",
            "2.0&x",
            "\"2.0\"",
            "%X%",
            "#abc",
            "-x",
            "~root",
            "2.0\\",
            "a/b",
            "2.0\n",
            "2.0*",
            "{2,0}",
            "2.0|x",
            ">x",
        ] {
            assert!(!is_plain(odd), "{odd}");
        }
    }
}
