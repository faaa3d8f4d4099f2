//! What is the same in all notations: where a text is not as it should be, and how deep one may be nested.

/// Nothing is read that is nested deeper than this.
pub(crate) const DEEPEST: usize = 64;

/// Why a text cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextFault {
    /// The line, from 1, where it is known.
    pub line: Option<usize>,
    /// What is wrong.
    pub why: String,
}

impl TextFault {
    pub(crate) fn at(line: usize, why: impl Into<String>) -> TextFault {
        TextFault {
            line: Some(line),
            why: why.into(),
        }
    }
}

/// The line, from 1, of a byte position in a text.
pub(crate) fn line_at(text: &str, position: usize) -> usize {
    let before = &text.as_bytes()[..position.min(text.len())];
    before.iter().filter(|byte| **byte == b'\n').count() + 1
}

/// What is said of a text that is nested too deep.
pub(crate) fn too_deep(line: Option<usize>) -> TextFault {
    TextFault {
        line,
        why: format!("it is nested more than {DEEPEST} deep"),
    }
}
