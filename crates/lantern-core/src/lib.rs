//! The computing heart of Warm Lantern.
//!
//! Text and values in, values out: nothing here reads a file, a clock, the environment or the
//! network, starts a process or prints. Each room answers one question:
//!
//! | room | question | its file on disk |
//! |---|---|---|
//! | [`version`] | how do two version strings compare, what does a range hold | |
//! | [`component`] | what is a component, a need, an id | |
//! | [`facts`] | what does a release say of itself, and how is it written | |
//! | [`path`] | which paths may be written below a server folder | |
//! | [`family`] | what does a family file say | `*.family.toml` |
//! | [`check`] | what in a family file cannot be meant so | `*.family.toml` |
//! | [`draft`] | which family file would fit what was seen | `*.family.toml` |
//! | [`descriptor`] | what does this descriptor text say, by these reader rules | |
//! | [`document`] | what does this text hold, in whatever notation | |
//! | [`artifact`] | what is a file that can be had | |
//! | [`offer`] | what is a release that can be had | |
//! | [`catalogue`] | which releases are on offer | `*.catalogue.json` |
//! | [`link`] | where does a link lead, and what stands for it where files have hashes | |
//! | [`tree`] | which component does a file belong to | |
//! | [`inventory`] | what is installed, and which findings follow | |
//! | [`reading`] | what is the same in all notations: faults with their lines, a bound on depth | |
//! | [`settings`] | what does a settings file say, by key; how is a value set without touching anything else | |
//! | [`resolve`] | which releases fit together; if none, what stands in the way | |
//! | [`outlook`] | who is ready for which server version; which stops lead there | |
//! | [`json`] | where a JSON text is not what a format wants | |
//! | [`hint`] | which known word was probably meant | |
//! | [`launch`] | what a start script does, and where it is cut off | |
//! | [`order`] | in which order; what is the least change to the arrangement that is there | |
//! | [`text`] | which lines of a text give way to which; all else stays byte for byte | |
//! | [`patch`] | hand edits with a name, laid again over each new release | unified diffs |
//! | [`clients`] | what must a client have | |
//! | [`flags`] | what a setting that follows from facts has to be | |
//! | [`health`] | what has a start shown, held against what was expected | |
//! | [`plan`] | all of it put together: every path with what happens to it | `*.plan.json` |
//! | [`keep_up`] | with what a server may be kept up by itself | |
//! | [`group`] | how what several servers carry differs, and whether it should | `*.group.toml` |
//! | [`thinning`] | what may go from a store of backups that several write to at once | |
//! | [`unattended`] | what a changeover decides in somebody's place | |
//! | [`operation`] | what is done to a server, as a value; what comes next, whatever has happened | `.lantern/journal.json` |

pub mod also;
pub mod artifact;
pub mod catalogue;
pub mod check;
pub mod clients;
pub mod component;
pub mod culprit;
pub mod descriptor;
pub mod document;
pub mod draft;
pub mod facts;
pub mod family;
pub mod flags;
pub mod group;
pub mod health;
pub mod hint;
pub mod hour;
pub mod inventory;
pub mod json;
pub mod keep_up;
pub mod launch;
pub mod link;
pub mod listing;
pub mod metrics;
pub mod notice;
pub mod offer;
pub mod operation;
pub mod order;
pub mod outlook;
pub mod page;
pub mod patch;
pub mod path;
pub mod plan;
pub mod reading;
pub mod report;
pub mod resolve;
pub mod settings;
pub mod supply;
pub mod text;
pub mod thinning;
pub mod tree;
pub mod unattended;
pub mod version;
pub mod watch;

#[cfg(test)]
mod proofs {
    use proptest::prelude::ProptestConfig;

    /// So many random cases, or as many as `PROPTEST_CASES` asks for where that is more.
    pub(crate) fn at_least(cases: u32) -> ProptestConfig {
        let asked = ProptestConfig::default();
        ProptestConfig {
            cases: asked.cases.max(cases),
            failure_persistence: None,
            ..asked
        }
    }
}
