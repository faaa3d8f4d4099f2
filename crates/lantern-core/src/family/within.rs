//! The part of a text in which entries stand, where other parts have lines that look alike.

use super::Pattern;
use crate::text::is_remark;
use serde::Deserialize;
use std::ops::Range;

/// Such a part: what stands behind the line that opens it, and before the next one that ends it.
#[derive(Debug, Clone, Deserialize)]
#[serde(
    deny_unknown_fields,
    expecting = "patterns of the lines that open and end it, as { from = …, to = … }"
)]
pub struct Within {
    /// Finds the line that opens it: the first one that it finds.
    pub from: Pattern,
    /// Finds the line that ends it; without it, the text's end does.
    #[serde(default)]
    pub to: Option<Pattern>,
}

impl Within {
    /// Where the part stands in a text, in bytes, by whole lines; none where no line opens it.
    ///
    /// Blank lines at its end are no part of it, nor are remarks right above what ends it that a blank line parts from what is before them:
    /// what is added stands above both.
    pub fn part(&self, text: &str) -> Option<Range<usize>> {
        let mut at = 0;
        let mut lines = text.split_inclusive('\n').map(|whole| {
            at += whole.len();
            (at - whole.len(), whole.trim_end_matches(['\n', '\r']))
        });
        let opens = |(_, line): &(usize, &str)| self.from.regex().is_match(line);
        lines.find(opens)?;
        let ends = |line: &str| self.to.as_ref().is_some_and(|to| to.regex().is_match(line));
        let mut inside: Vec<(usize, &str)> = Vec::new();
        let mut end = text.len();
        for (begin, line) in lines {
            if ends(line) {
                end = begin;
                break;
            }
            inside.push((begin, line));
        }
        let begin = inside.first().map_or(end, |(begin, _)| *begin);
        let is_blank = |(_, line): &(usize, &str)| line.trim().is_empty();
        let of_entries = inside.iter().rposition(|it| !is_remark(it.1));
        let entries = match of_entries {
            Some(last) if is_blank(&inside[last]) => last,
            _ => inside.len(),
        };
        let last = inside[..entries].iter().rposition(|it| !is_blank(it));
        let behind = inside.get(last.map_or(0, |last| last + 1));
        Some(begin..behind.map_or(end, |(begin, _)| *begin))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_ends_before_what_belongs_to_the_next() {
        let within = |from: &str, to: &str| Within {
            from: Pattern::new(from).unwrap(),
            to: (!to.is_empty()).then(|| Pattern::new(to).unwrap()),
        };
        let section = within(r"^\[ferns\]", r"^\[");
        let cases = [
            ("[ferns]\na\nb\n", Some("a\nb\n")),
            ("x\n[ferns]\na\n\nb\n\n\n[other]\nc\n", Some("a\n\nb\n")),
            ("[ferns]\r\na\r\n\r\n[other]\r\n", Some("a\r\n")),
            ("[ferns]\na\n; b\n[other]\n", Some("a\n; b\n")),
            (
                "[ferns]\na\n\n; of others\n# and more\n[other]\n",
                Some("a\n"),
            ),
            ("[ferns]\n; none yet\n[other]\n", Some("; none yet\n")),
            ("[ferns]\n\n[other]\n", Some("")),
            ("[ferns]\n[other]\na\n[ferns]\nb\n", Some("")),
            ("[ferns]\na", Some("a")),
            ("[ferns]", Some("")),
            ("a\n", None),
            ("", None),
        ];
        for (text, part) in cases {
            let found = section.part(text).map(|part| &text[part]);
            assert_eq!(found, part, "{text:?}");
        }
        let list = within("^ferns:", r"^\S");
        let text = "ferns:\n  - a\n  - b\nothers:\n  - c\n";
        assert_eq!(&text[list.part(text).unwrap()], "  - a\n  - b\n");
        let open = within("^begin", "");
        let text = "a\nbegin\nb\n\n# c\n";
        assert_eq!(&text[open.part(text).unwrap()], "b\n");
    }
}
