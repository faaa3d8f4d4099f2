//! Three values of one key, and what becomes of it.

/// What becomes of a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Verdict {
    /// All agree, or only I have changed it: mine stays, or stays away.
    Mine,
    /// Only its author has changed it: that follows.
    Follows,
    /// It is new.
    Comes,
    /// Its author took it out.
    Goes,
    /// Both have changed it, each in another way.
    Clash,
}

/// Judges a value that was shipped before, is mine, and is shipped now; none where it is missing.
pub(super) fn judged<V: PartialEq>(before: Option<V>, mine: Option<V>, now: Option<V>) -> Verdict {
    if mine == now || now == before {
        return Verdict::Mine;
    }
    match (&before, &mine, &now) {
        (None, None, Some(_)) => Verdict::Comes,
        (Some(_), Some(_), None) => Verdict::Goes,
        _ if mine == before => Verdict::Follows,
        _ => Verdict::Clash,
    }
}
