//! What the JSON reader says, for people.

/// The reason of a JSON error without its place, which is told apart.
pub(crate) fn plain_reason(error: &serde_json::Error) -> String {
    let text = error.to_string();
    match text.rfind(" at line ") {
        Some(end) => text[..end].into(),
        None => text,
    }
}
