//! Where a file names what is installed, as a family file says it.

use super::quoted;
use regex::Regex;
use std::sync::LazyLock;

/// In the name of a file, or of what stands in it, for what does not run.
static OFF: LazyLock<Regex> = LazyLock::new(|| {
    known(r"(?i)disabled?|inactive|excluded?|ignored?|skipped|blocked|denied|\boff\b|_off|off_")
});

/// A pattern that is written in the code.
pub(super) fn known(pattern: &str) -> Regex {
    Regex::new(pattern).expect("a pattern of our own")
}

/// Whether a name, of a file or of what stands in it, is one for what does not run.
pub(super) fn is_of_what_is_off(name: &str) -> bool {
    OFF.is_match(name)
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

    /// The load order, as a family file writes it; `each` finds in the place of an add-on what an entry calls it, where that is not its id.
    pub(super) fn order(&self, each: Option<&str>) -> String {
        let Rule {
            count, how, keys, ..
        } = self;
        let off = self.lists_what_is_off();
        let kind = match self.kind {
            "one" if off => "\"sequence\"".into(),
            "one" => "\"one\"    # TODO: or \"sequence\"".into(),
            kind => quoted(kind),
        };
        let lists = match off {
            true => {
                "lists = \"off\"    # by its name; TODO: or leave it out, if what it names runs\n"
            }
            false => "",
        };
        let each = each.map(|each| format!("each = {}\n", quoted(each)));
        let each = each.unwrap_or_default();
        format!(
            "\n# Names {count} of what was seen{how}.\n[order]\nkind = {kind}\n{lists}{keys}{each}"
        )
    }

    /// Whether it is called as a list of what does not run is.
    fn lists_what_is_off(&self) -> bool {
        self.kind != "flags" && !self.keys.contains("{at}") && is_of_what_is_off(&self.keys)
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
