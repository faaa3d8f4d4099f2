//! Which known word was probably meant.

/// Adds to a message of the form "unknown field `x`, expected one of `a`, `b`" which was meant.
///
/// Other messages stay as they are.
pub fn with_nearest(message: &str) -> String {
    let Some((_, rest)) = message.split_once("unknown ") else {
        return message.to_owned();
    };
    let mut words = rest.split('`').skip(1).step_by(2);
    let Some(unknown) = words.next() else {
        return message.to_owned();
    };
    match nearest(unknown, words) {
        Some(known) => format!("{message}\nDid you mean `{known}`?"),
        None => message.to_owned(),
    }
}

/// The known word nearest to one that is not known, where any is near.
pub fn nearest<'w>(unknown: &str, known: impl Iterator<Item = &'w str>) -> Option<&'w str> {
    let distance = |word: &str| strsim::damerau_levenshtein(unknown, word);
    let (near, word) = known.map(|word| (distance(word), word)).min()?;
    (near <= (unknown.chars().count() / 3).max(1)).then_some(word)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_is_told_from_another_word() {
        let message = "unknown field `titel`, expected one of `format`, `title`, `marks`";
        assert!(with_nearest(message).ends_with("Did you mean `title`?"));
        let message = "unknown field `weather`, expected `format` or `title`";
        assert_eq!(with_nearest(message), message);
        assert_eq!(with_nearest("missing field `id`"), "missing field `id`");
        assert_eq!(with_nearest("unknown"), "unknown");
    }
}
