//! When a changeover that waits for its hour begins, or is given up.
//!
//! It looks at no clock: what the time is, and who is on, it is told. So the hour may be long past when it is asked, as after a machine has
//! slept, and the clock may go back.

use serde::{Deserialize, Serialize};

/// So long is slept at most, in milliseconds: the clock may be set anew meanwhile.
const LONGEST_MS: i64 = 20_000;
/// So old what was seen of the players may be, in milliseconds.
const FRESH_MS: i64 = 5_000;
/// So long it is before players are looked for again, in milliseconds.
const AGAIN_MS: i64 = 15_000;

/// What is waited for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Wait {
    /// When it may begin, in milliseconds since 1970.
    pub at_ms: i64,
    /// From when on it is not begun any more; behind `at_ms`.
    pub latest_ms: i64,
    /// Whether nobody may be on.
    pub when_empty: bool,
}

/// Who is on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Players {
    /// Nobody.
    Nobody,
    /// So many.
    Some(usize),
    /// That cannot be told, and why.
    Unknown(String),
}

impl std::fmt::Display for Players {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Players::Nobody => f.write_str("nobody is on"),
            Players::Some(1) => f.write_str("one player is on"),
            Players::Some(on) => write!(f, "{on} players are on"),
            Players::Unknown(why) => write!(f, "who is on cannot be told: {why}"),
        }
    }
}

/// What comes next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// So long nothing, in milliseconds.
    Sleep(u64),
    /// It is looked who is on.
    Look,
    /// It begins.
    Begin,
    /// It is not begun any more, and why.
    GiveUp(String),
}

impl Wait {
    /// What comes next at a time; `seen` is who was on when it was last looked, and when that was.
    pub fn step(&self, now_ms: i64, seen: Option<&(i64, Players)>) -> Step {
        let sleep = |until: i64| {
            let until = until.min(self.latest_ms);
            Step::Sleep((until - now_ms).clamp(1, LONGEST_MS) as u64)
        };
        if now_ms < self.at_ms {
            return sleep(self.at_ms);
        }
        if now_ms >= self.latest_ms {
            return Step::GiveUp(match seen {
                _ if !self.when_empty => "its hour had passed before it could begin".into(),
                None => "nobody had looked who is on before it was too late".into(),
                Some((_, Players::Nobody)) => "its hour had passed before it could begin".into(),
                Some((_, Players::Some(1))) => "somebody was on until it was too late".into(),
                Some((_, Players::Some(on))) => {
                    format!("{on} players were on until it was too late")
                }
                Some((_, Players::Unknown(why))) => {
                    format!("who is on could not be told until it was too late: {why}")
                }
            });
        }
        if !self.when_empty {
            return Step::Begin;
        }
        match seen {
            Some((at, Players::Nobody)) if (0..FRESH_MS).contains(&(now_ms - at)) => Step::Begin,
            Some((at, Players::Some(_) | Players::Unknown(_)))
                if (0..AGAIN_MS).contains(&(now_ms - at)) =>
            {
                sleep(at + AGAIN_MS)
            }
            _ => Step::Look,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::proofs::at_least;
    use proptest::prelude::*;

    const HOUR: i64 = 3_600_000;

    fn wait(when_empty: bool) -> Wait {
        Wait {
            at_ms: 4 * HOUR,
            latest_ms: 6 * HOUR,
            when_empty,
        }
    }

    /// Lets time pass by what it asks for; players leave when they do. When it begins, or why it is given up.
    fn night(wait: &Wait, from: i64, leave: i64, tells: impl Fn(i64) -> bool) -> (i64, Step) {
        let mut now = from;
        let mut seen = None;
        for _ in 0..100_000 {
            match wait.step(now, seen.as_ref()) {
                Step::Sleep(ms) => now += ms as i64,
                Step::Look => {
                    let on = match tells(now) {
                        false => Players::Unknown("no answer".into()),
                        true if now < leave => Players::Some(3),
                        true => Players::Nobody,
                    };
                    seen = Some((now, on));
                }
                other => return (now, other),
            }
        }
        panic!("it waits for ever");
    }

    #[test]
    fn it_begins_at_its_hour() {
        assert_eq!(
            night(&wait(false), HOUR, 0, |_| true),
            (4 * HOUR, Step::Begin)
        );
        assert_eq!(
            night(&wait(true), HOUR, 0, |_| true),
            (4 * HOUR, Step::Begin)
        );
        // The machine was asleep.
        assert_eq!(
            night(&wait(false), 5 * HOUR, 0, |_| true),
            (5 * HOUR, Step::Begin)
        );
    }

    #[test]
    fn it_waits_for_the_last_player_and_not_for_ever() {
        let (begun, step) = night(&wait(true), HOUR, 5 * HOUR, |_| true);
        assert_eq!(step, Step::Begin);
        assert!(
            (5 * HOUR..5 * HOUR + AGAIN_MS + 1).contains(&begun),
            "{begun}"
        );
        let late = |leave, tells: bool| night(&wait(true), HOUR, leave, |_| tells);
        let told = |why: &str| (6 * HOUR, Step::GiveUp(why.into()));
        assert_eq!(
            late(9 * HOUR, true),
            told("3 players were on until it was too late")
        );
        assert_eq!(
            late(0, false),
            told("who is on could not be told until it was too late: no answer")
        );
        // It slept through all of it.
        let asleep = night(&wait(false), 7 * HOUR, 0, |_| true);
        assert!(matches!(asleep, (_, Step::GiveUp(_))), "{asleep:?}");
    }

    proptest! {
        #![proptest_config(at_least(200))]

        /// It never begins outside of its hours, nor while somebody is on or nobody can tell; and it comes to an end.
        #[test]
        fn it_begins_only_when_it_may(
            from in 0..8 * HOUR,
            leave in 0..8 * HOUR,
            deaf_until in 0..8 * HOUR,
            when_empty: bool,
        ) {
            let wait = wait(when_empty);
            let (at, step) = night(&wait, from, leave, |now| now >= deaf_until);
            match step {
                Step::Begin => {
                    prop_assert!((wait.at_ms..wait.latest_ms).contains(&at));
                    prop_assert!(!when_empty || at >= leave && at >= deaf_until);
                }
                Step::GiveUp(_) => prop_assert!(at >= wait.latest_ms),
                other => panic!("{other:?}"),
            }
        }
    }
}
