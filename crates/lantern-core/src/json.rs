//! What the JSON reader says, for people.

/// Why a text is not the JSON that a format wants: it breaks off, or a key or value does not fit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {why}")]
pub struct JsonFault {
    /// From 1.
    pub line: usize,
    /// From 1.
    pub column: usize,
    /// In the words of the JSON reader.
    pub why: String,
}

impl From<serde_json::Error> for JsonFault {
    fn from(error: serde_json::Error) -> JsonFault {
        JsonFault {
            line: error.line(),
            column: error.column(),
            why: plain_reason(&error),
        }
    }
}

/// The reason of a JSON error without its place, which is told apart.
pub(crate) fn plain_reason(error: &serde_json::Error) -> String {
    let text = error.to_string();
    match text.rfind(" at line ") {
        Some(end) => text[..end].into(),
        None => text,
    }
}
