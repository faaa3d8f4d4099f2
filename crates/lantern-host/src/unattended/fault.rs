//! Why a changeover is not carried out where nobody is there for it.

use lantern_core::unattended::Matter;

/// Why not.
#[derive(Debug, thiserror::Error)]
pub enum UnattendedFault {
    /// It decides more than what is left to it.
    #[error("the plan decides what is not left to it:{}", .asked.iter().map(|(matter, what)| format!("\n  {:<12} {what}", matter.as_str())).collect::<String>())]
    NotLeft {
        /// What, and what it is about.
        asked: Vec<(Matter, String)>,
        /// What is left to it.
        may: Vec<Matter>,
    },
}
