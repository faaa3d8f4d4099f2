//! Where a file names what is installed, as a family file says it.

use super::quoted;
use regex::Regex;

/// A pattern that is written in the code.
pub(super) fn known(pattern: &str) -> Regex {
    Regex::new(pattern).expect("a pattern of our own")
}

/// Where a file names what is installed.
pub(super) struct Rule {
    /// The file.
    pub(super) file: String,
    /// How many of it.
    pub(super) count: usize,
    /// How, as a clause.
    pub(super) how: &'static str,
    /// How it is written down.
    pub(super) kind: &'static str,
    /// The other keys, as a family file writes them.
    pub(super) keys: String,
}

impl Rule {
    /// The file of which each line names one, if it is that.
    pub(super) fn lines_of(&self) -> Option<&str> {
        (self.kind == "sequence").then_some(&*self.file)
    }

    /// The load order, as a family file writes it.
    pub(super) fn order(&self) -> String {
        let Rule {
            count, how, keys, ..
        } = self;
        let kind = match self.kind {
            "one" => "\"one\"    # TODO: or \"sequence\"".into(),
            kind => quoted(kind),
        };
        format!("\n# Names {count} of what was seen{how}.\n[order]\nkind = {kind}\n{keys}")
    }

    /// A list besides the load order, likewise; `each` finds an item in the place of an add-on.
    pub(super) fn also(&self, each: &str) -> Option<String> {
        let Rule {
            count,
            how,
            kind,
            keys,
            ..
        } = self;
        let each = quoted(each);
        matches!(*kind, "list" | "sequence").then(|| {
            format!(
                "\n# Names {count} of the folders that they lie in{how}.\n[[also]]\nname = \"items\"    # what people call it\n\
                 kind = \"{kind}\"\n{keys}each = {each}\n"
            )
        })
    }
}
