//! How a console names things: one in a line, or several in one; and where an answer that names them ends.

use super::Pattern;
use super::short::Short;
use serde::de::DeserializeSeed;
use serde::{Deserialize, Deserializer};

/// Finds what lines name: add-ons, players.
#[derive(Debug, Clone)]
pub struct Naming {
    /// A line that names one as the group `id`, with its version as `version` where told; or several as the group `list`.
    pub line: Pattern,
    /// What stands between those of a list; blanks beside it do not count.
    between: String,
    /// Finds one of a list as the groups `id` and `version`; without it, all of the item is the id. An item in which it finds none
    /// names nothing.
    pub item: Option<Pattern>,
}

/// One that a line names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Named<'t> {
    /// Its id, or a player's name, as it is written.
    pub id: &'t str,
    /// Its version, where told.
    pub version: Option<&'t str>,
}

impl<'t> Named<'t> {
    fn by(pattern: &Pattern, text: &'t str) -> Option<Named<'t>> {
        Some(Named {
            id: pattern.capture("id", text)?,
            version: pattern.capture("version", text),
        })
    }
}

impl Naming {
    fn new(
        line: Pattern,
        between: Option<String>,
        item: Option<Pattern>,
    ) -> Result<Naming, String> {
        if !line.names("list") && (between.is_some() || item.is_some()) {
            return Err("`between` and `item` part the group `list`, and `line` has none".into());
        }
        Ok(Naming {
            line,
            between: between.unwrap_or_else(|| ",".into()),
            item,
        })
    }

    /// What a line names, in its order.
    pub fn named<'t>(&self, line: &'t str) -> Vec<Named<'t>> {
        if !self.line.names("list") {
            return Named::by(&self.line, line).into_iter().collect();
        }
        let list = self.line.capture("list", line).unwrap_or_default();
        let items: Vec<&str> = match self.between.trim() {
            "" => list.split_whitespace().collect(),
            between => list.split(between).map(str::trim).collect(),
        };
        let items = items.into_iter().filter(|item| !item.is_empty());
        let named = items.filter_map(|item| match &self.item {
            Some(pattern) => Named::by(pattern, item),
            None => Some(Named {
                id: item,
                version: None,
            }),
        });
        named.collect()
    }

    /// The groups that its line has to have.
    pub fn groups(&self) -> &'static [&'static str] {
        match self.line.names("list") {
            true => &["list"],
            false => &["id"],
        }
    }

    /// Reads a pattern, or a table where a line names several.
    pub(super) fn short<'de, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<Naming>, D::Error> {
        let pattern = |text: &str| Naming::new(Pattern::new(text)?, None, None);
        let what = "a pattern, or { line = …, between = …, item = … }";
        let short = Short::<Naming, Checked>::new(what, pattern);
        short.deserialize(deserializer).map(Some)
    }
}

/// A table of the keys of a [`Naming`].
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct NamingTable {
    line: Pattern,
    between: Option<String>,
    item: Option<Pattern>,
}

/// Such a table that makes sense.
#[derive(Deserialize)]
#[serde(try_from = "NamingTable")]
struct Checked(Naming);

impl TryFrom<NamingTable> for Checked {
    type Error = String;

    fn try_from(table: NamingTable) -> Result<Checked, String> {
        Naming::new(table.line, table.between, table.item).map(Checked)
    }
}

impl From<Checked> for Naming {
    fn from(Checked(naming): Checked) -> Naming {
        naming
    }
}

/// A console command that lists something: what runs, who is on.
#[derive(Debug, Clone, Deserialize)]
#[serde(try_from = "ListingTable")]
pub struct Listing {
    /// The command.
    pub ask: String,
    /// Finds what the answer names.
    pub naming: Naming,
    /// Where the answer ends.
    pub end: End,
}

/// Where an answer ends.
#[derive(Debug, Clone)]
pub enum End {
    /// At the first line that this finds.
    Line(Pattern),
    /// When as many are named as a line says by the group `count`, that line among those that may name some.
    Count(Pattern),
}

/// A table of the keys of a [`Listing`].
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ListingTable {
    ask: String,
    line: Pattern,
    between: Option<String>,
    item: Option<Pattern>,
    end: Option<Pattern>,
    count: Option<Pattern>,
}

impl TryFrom<ListingTable> for Listing {
    type Error = String;

    fn try_from(table: ListingTable) -> Result<Listing, String> {
        let end = match (table.end, table.count) {
            (Some(end), None) => End::Line(end),
            (None, Some(count)) => End::Count(count),
            _ => return Err("one of `end` and `count` says where the answer ends".into()),
        };
        Ok(Listing {
            ask: table.ask,
            naming: Naming::new(table.line, table.between, table.item)?,
            end,
        })
    }
}

/// Looks out for the end of an answer, line by line.
#[derive(Debug, Clone)]
pub enum Ending<'r> {
    /// At the first line that this finds.
    Line(&'r Pattern),
    /// When so many are named as were said.
    Count {
        /// Finds how many.
        count: &'r Pattern,
        /// Finds those who are named.
        naming: &'r Naming,
        /// How many are still to come; none until a line says it.
        due: Option<usize>,
    },
}

impl Listing {
    /// The end of one answer, still to come.
    pub fn ending(&self) -> Ending<'_> {
        match &self.end {
            End::Line(line) => Ending::Line(line),
            End::Count(count) => Ending::Count {
                count,
                naming: &self.naming,
                due: None,
            },
        }
    }
}

impl Ending<'_> {
    /// Whether it is in lines that come next.
    pub fn is_in(&self, lines: &[String]) -> bool {
        let mut ahead = self.clone();
        lines.iter().any(|line| ahead.is_at(line))
    }

    /// Takes the next line; says whether it is the last one.
    pub fn is_at(&mut self, line: &str) -> bool {
        match self {
            Ending::Line(end) => end.regex().is_match(line),
            Ending::Count { count, naming, due } => {
                let said = count.capture("count", line).and_then(|it| it.parse().ok());
                *due = due.or(said);
                if let Some(due) = due {
                    *due = due.saturating_sub(naming.named(line).len());
                }
                *due == Some(0)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn listing(rest: &str) -> Result<Listing, String> {
        toml_edit::de::from_str(&format!("ask = 'who'\n{rest}"))
            .map_err(|error| error.to_string().lines().last().unwrap_or("").to_owned())
    }

    /// What an answer names, up to its end; `…` behind it where the end did not come.
    fn read(rest: &str, answer: &str) -> String {
        let listing = listing(rest).unwrap();
        let mut ending = listing.ending();
        let mut names = Vec::new();
        let ends = answer.lines().any(|line| {
            names.extend(listing.naming.named(line));
            ending.is_at(line)
        });
        let names = names.iter().map(|named| match named.version {
            Some(version) => format!("{}={version}", named.id),
            None => named.id.to_owned(),
        });
        let names = names.collect::<Vec<_>>().join(" ");
        format!("{names}{}", if ends { "" } else { " …" })
    }

    #[test]
    fn a_line_names_one_or_several_and_an_answer_ends_at_a_line_or_when_all_are_named() {
        let one_each = "line = '^- (?P<id>\\S+)$'\nend = '^that is all'";
        let counted = "line = '^- (?P<id>\\S+)$'\ncount = '^(?P<count>\\d+) on'";
        let in_one = "line = '^on: (?P<list>.*)$'\nend = '^on:'";
        let in_one_counted =
            "line = '^(?P<count>\\d+) of 20 on:(?P<list>.*)$'\ncount = '^(?P<count>\\d+) of'";
        let with_versions = "line = '^mods: (?P<list>.*)$'\nbetween = ';'\nitem = '^(?P<id>\\S+) v(?P<version>\\S+)$'\nend = '^mods'";
        let by_blanks = "line = '^on (?P<list>.*)$'\nbetween = ' '\nend = '^on'";
        for (rule, answer, wanted) in [
            (
                one_each,
                "- ana\na leaf fell\n- ben\nthat is all\n- nobody",
                "ana ben",
            ),
            (one_each, "- ana", "ana …"),
            (
                counted,
                "2 on\n- ana\na leaf fell\n- ben\n- nobody",
                "ana ben",
            ),
            (counted, "2 on\n- ana", "ana …"),
            (counted, "0 on\n- nobody", ""),
            (counted, "- ana\n", "ana …"),
            (
                in_one,
                "on: ana, ben ,\ton the hill\non: nobody",
                "ana ben on the hill",
            ),
            (in_one, "on: \n", ""),
            (in_one_counted, "0 of 20 on:\n1 of 20 on: nobody", ""),
            (in_one_counted, "2 of 20 on: ana, ben", "ana ben"),
            (
                with_versions,
                "mods: fern v1.2; moss v0.3; two words; reed v1",
                "fern=1.2 moss=0.3 reed=1",
            ),
            (by_blanks, "on ana  ben", "ana ben"),
        ] {
            assert_eq!(read(rule, answer).trim_end(), wanted, "{rule}\n{answer}");
        }
        for (rule, fault) in [
            (
                "line = '(?P<id>x)'",
                "one of `end` and `count` says where the answer ends",
            ),
            (
                "line = '(?P<id>x)'\nend = 'x'\ncount = 'x'",
                "one of `end` and `count` says where the answer ends",
            ),
            (
                "line = '(?P<id>x)'\nend = 'x'\nbetween = ';'",
                "`between` and `item` part the group `list`, and `line` has none",
            ),
        ] {
            assert_eq!(listing(rule).unwrap_err(), fault);
        }
    }
}
