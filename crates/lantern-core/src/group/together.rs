//! Servers that go down together: where each waits for the others, and in which order they go down and come up.
//!
//! Whoever carries a server's operation out arrives at each gate, and goes on once it lets through. Where something goes wrong at one, the
//! others are turned back at their next gate, as long as there is a way back: until all of them have been found to be as they should.

use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Where a server waits for the others, in the order in which an operation comes to them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Gate {
    /// Before anything is done.
    Begin,
    /// Before players are told: all have staged and backed up.
    Warn,
    /// Before the first is asked to stop: everybody has been told.
    AskToStop,
    /// Before it is stopped: those that come up after it are down.
    Stop,
    /// Before files are exchanged: all are down.
    Exchange,
    /// Before it is started: the files of all are exchanged, and those that it comes up after are as they should be.
    Start,
    /// Before it is written down that it succeeded: all are as they should be.
    Settle,
    /// Before files are put back: all whose files were exchanged are down again.
    PutBack,
    /// Before it is started with what was: the files of all are back, and those that it comes up after are through.
    StartAgain,
}

/// Whether a gate lets a server through.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Passes {
    /// It goes on.
    Yes,
    /// It has to wait for others.
    NotYet,
    /// It turns back: something went wrong at another one, as an index.
    TurnsBack(usize),
}

/// Servers that go down together.
#[derive(Debug, Clone)]
pub struct Together {
    /// Which others each comes up after, and goes down before.
    after: Vec<BTreeSet<usize>>,
    /// So many are at work at once, at most.
    at_once: usize,
    members: Vec<Member>,
}

/// How far one of them is.
#[derive(Debug, Clone, Copy, Default)]
struct Member {
    /// The last gate that it has come to.
    at: Option<Gate>,
    works: bool,
    failed: bool,
    turned_back: bool,
    ended: bool,
}

impl Member {
    /// Whether it is at this gate, or behind it, or does not come there any more.
    fn is_past(&self, gate: Gate) -> bool {
        self.ended || self.at >= Some(gate)
    }

    /// Whether its files are exchanged, or may be, and it has not come back as far as this.
    fn is_out(&self, gate: Gate) -> bool {
        self.at >= Some(Gate::Exchange) && !self.is_past(gate)
    }
}

impl Together {
    /// Servers of which each comes up after some others, as indices; without circles. At most so many are at work at once, and at least one.
    pub fn new(after: Vec<BTreeSet<usize>>, at_once: usize) -> Together {
        Together {
            members: vec![Member::default(); after.len()],
            after,
            at_once: at_once.max(1),
        }
    }

    /// One has come to a gate, and is at work no more.
    pub fn arrives(&mut self, who: usize, gate: Gate) {
        let member = &mut self.members[who];
        member.at = Some(gate);
        member.works = false;
    }

    /// Whether the gate that one has come to lets it through; it is then at work.
    pub fn passes(&mut self, who: usize) -> Passes {
        let Some(gate) = self.members[who].at else {
            return Passes::NotYet;
        };
        let has_failed = |index: &usize| *index != who && self.members[*index].failed;
        let is_onward = gate < Gate::PutBack;
        if is_onward && let Some(other) = (0..self.members.len()).find(has_failed) {
            self.members[who].turned_back = true;
            return Passes::TurnsBack(other);
        }
        if !self.is_open(who, gate) || self.at_work() >= self.at_once {
            return Passes::NotYet;
        }
        self.members[who].works = true;
        Passes::Yes
    }

    fn is_open(&self, who: usize, gate: Gate) -> bool {
        let each = |holds: &dyn Fn(&Member) -> bool| {
            let mut others = self.members.iter().enumerate();
            others.all(|(index, member)| index == who || holds(member))
        };
        let before = |gate| {
            let mut before = self.after[who].iter();
            before.all(|index| self.members[*index].is_past(gate))
        };
        match gate {
            Gate::Begin => true,
            Gate::Warn | Gate::AskToStop | Gate::Exchange | Gate::Settle => {
                each(&|member| member.is_past(gate))
            }
            Gate::Stop => {
                let mut members = self.members.iter().zip(&self.after);
                members
                    .all(|(member, after)| !after.contains(&who) || member.is_past(Gate::Exchange))
            }
            Gate::Start => each(&|member| member.is_past(gate)) && before(Gate::Settle),
            Gate::PutBack => each(&|member| !member.is_out(gate)),
            Gate::StartAgain => {
                let ended = |index: &usize| self.members[*index].ended;
                each(&|member| !member.is_out(gate)) && self.after[who].iter().all(ended)
            }
        }
    }

    fn at_work(&self) -> usize {
        self.members.iter().filter(|member| member.works).count()
    }

    /// Something went wrong at one: the others turn back. Of one that has turned back itself that is nothing new.
    pub fn fails(&mut self, who: usize) {
        let member = &mut self.members[who];
        member.failed |= !member.turned_back;
    }

    /// Whether one turned back for what went wrong at another.
    pub fn has_turned_back(&self, who: usize) -> bool {
        self.members[who].turned_back
    }

    /// One has come to its end.
    pub fn ends(&mut self, who: usize) {
        let member = &mut self.members[who];
        member.ended = true;
        member.works = false;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A server whose operation takes one step after the other; where one fails, or is turned back, it goes back as the table of operations does.
    struct Runs {
        fails_at: Option<Gate>,
        next: Option<Gate>,
        is_up: bool,
        is_exchanged: bool,
        is_done: bool,
    }

    const ONWARD: [Gate; 7] = [
        Gate::Begin,
        Gate::Warn,
        Gate::AskToStop,
        Gate::Stop,
        Gate::Exchange,
        Gate::Start,
        Gate::Settle,
    ];

    impl Runs {
        /// Where it goes from a gate at which it failed, or was turned back.
        fn back(&self, gate: Gate) -> Option<Gate> {
            match (self.is_exchanged, self.is_up) {
                (true, _) => Some(Gate::PutBack),
                (false, true) if gate <= Gate::Stop => None,
                (false, _) => Some(Gate::StartAgain),
            }
        }
    }

    fn groups() -> impl Strategy<Value = (Vec<BTreeSet<usize>>, usize, Vec<Option<Gate>>)> {
        (2_usize..6).prop_flat_map(|many| {
            let after: Vec<_> = (0..many)
                .map(|index| proptest::collection::btree_set(0..index.max(1), 0..=index.min(2)))
                .collect();
            let fails = prop_oneof![
                6 => Just(None),
                1 => proptest::sample::select(&ONWARD[..]).prop_map(Some),
            ];
            (after, 1..=many, proptest::collection::vec(fails, many))
        })
    }

    proptest! {
        /// In whatever order they get on: nobody waits for ever, no files are exchanged while one is up, none starts before the files of all are
        /// exchanged, each comes up after those that it is to come up after, and all succeed or none.
        #[test]
        fn all_or_none_and_nobody_waits_for_ever(
            (after, at_once, fails) in groups(),
            turns in proptest::collection::vec(0_usize..64, 400),
        ) {
            // The first comes up after nobody, whatever was drawn.
            let mut after = after;
            after[0].clear();
            let mut together = Together::new(after.clone(), at_once);
            let each = fails.iter().map(|fails_at| Runs {
                fails_at: *fails_at,
                next: Some(Gate::Begin),
                is_up: true,
                is_exchanged: false,
                is_done: false,
            });
            let mut each: Vec<Runs> = each.collect();
            for who in 0..each.len() {
                together.arrives(who, Gate::Begin);
            }
            let mut turns = turns.into_iter().cycle();
            loop {
                let open: Vec<usize> = (0..each.len()).filter(|who| each[*who].next.is_some()).collect();
                if open.is_empty() {
                    break;
                }
                // One after another, from a random one on: somebody has to get on.
                let from = turns.next().unwrap();
                let mut got_on = false;
                for turn in 0..open.len() {
                    let who = open[(from + turn) % open.len()];
                    let gate = each[who].next.unwrap();
                    let passes = together.passes(who);
                    if passes == Passes::NotYet {
                        continue;
                    }
                    got_on = true;
                    prop_assert!(together.at_work() <= at_once);
                    let fails = passes == Passes::Yes && each[who].fails_at == Some(gate);
                    let next = match gate {
                        // That it could not be written down is that one's own affair, and there is no way back from it.
                        Gate::Settle if fails => None,
                        _ if fails || passes != Passes::Yes => {
                            if fails {
                                together.fails(who);
                            }
                            each[who].back(gate)
                        }
                        Gate::Stop => {
                            for (other, after) in after.iter().enumerate() {
                                prop_assert!(!after.contains(&who) || !each[other].is_up);
                            }
                            each[who].is_up = false;
                            Some(Gate::Exchange)
                        }
                        Gate::Exchange => {
                            prop_assert!(each.iter().all(|it| !it.is_up));
                            each[who].is_exchanged = true;
                            Some(Gate::Start)
                        }
                        Gate::Start => {
                            prop_assert!(each.iter().all(|it| it.is_exchanged));
                            prop_assert!(after[who].iter().all(|it| each[*it].is_up));
                            each[who].is_up = true;
                            Some(Gate::Settle)
                        }
                        Gate::Settle => {
                            prop_assert!(each.iter().all(|it| it.is_up && it.is_exchanged));
                            each[who].is_done = true;
                            None
                        }
                        Gate::PutBack => {
                            each[who].is_exchanged = false;
                            Some(Gate::StartAgain)
                        }
                        Gate::StartAgain => {
                            prop_assert!(each.iter().all(|it| !it.is_exchanged));
                            prop_assert!(after[who].iter().all(|it| each[*it].is_up));
                            each[who].is_up = true;
                            None
                        }
                        onward => ONWARD.iter().copied().find(|it| *it > onward),
                    };
                    if next == Some(Gate::PutBack) {
                        each[who].is_up = false;
                    }
                    each[who].next = next;
                    match next {
                        Some(gate) => together.arrives(who, gate),
                        None => together.ends(who),
                    }
                    break;
                }
                prop_assert!(got_on, "they wait for one another for ever");
            }
            prop_assert!(each.iter().all(|it| it.is_up));
            let done = each.iter().filter(|it| it.is_done).count();
            let late = fails.iter().flatten().all(|gate| *gate == Gate::Settle);
            match fails.iter().flatten().count() {
                0 => prop_assert_eq!(done, each.len()),
                _ if late => {}
                _ => prop_assert_eq!(done, 0),
            }
        }
    }
}
