//! The table walked: from every state that can be reached, under every answer of the world.

use super::*;
use crate::proofs::at_least;
use proptest::prelude::*;
use std::collections::BTreeSet;

/// How many renames an operation of the tests has.
const MOVES: usize = 3;

/// What the world answers to one action.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Answer {
    Succeeds,
    /// It fails, and has had no effect, or only half of it.
    Fails {
        half: bool,
    },
    /// It is slower than its limit; what waits comes to its end later, or never.
    Slow {
        for_good: bool,
    },
    /// Lantern is killed before it, or right after it.
    Killed {
        after: bool,
    },
    /// From here on the disk takes nothing down, until the next command.
    Unwritable,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ServerIs {
    Down,
    Up,
    /// Some of several are up.
    Partly,
    /// Asked to stop, and still there.
    Stopping,
}

/// A server folder of the tests: what the table and its actions can see and change.
#[derive(Debug, Clone)]
struct Toy {
    facts: Facts,
    server: ServerIs,
    /// Which renames are done.
    done: [bool; MOVES],
    /// The phase in the journal on the disk; none when there is no journal.
    journal: Option<Phase>,
    staged: bool,
    backed_up: bool,
    recorded: bool,
    writable: bool,
}

/// How one command came to its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Outcome {
    Ended(Ending),
    Killed,
}

impl Toy {
    fn new(facts: Facts) -> Toy {
        Toy {
            facts,
            server: if facts.was_up {
                ServerIs::Up
            } else {
                ServerIs::Down
            },
            done: [false; MOVES],
            journal: Some(Phase::Preparing),
            staged: false,
            backed_up: false,
            recorded: false,
            writable: true,
        }
    }

    fn seen(&self, came: Came, trouble: Option<Trouble>, bad: bool) -> Seen {
        Seen {
            server: match self.server {
                ServerIs::Down => ServerSeen::Down,
                ServerIs::Partly => ServerSeen::Partly,
                ServerIs::Up | ServerIs::Stopping => ServerSeen::Up,
            },
            recorded: self.recorded,
            came,
            trouble,
            bad,
        }
    }

    /// Does an action as the world answers; false when it failed.
    fn act(&mut self, action: Action, half: bool, works: bool) -> bool {
        let writes = matches!(
            action,
            Action::Stage
                | Action::FirstBackup
                | Action::SecondBackup
                | Action::DrawMoves
                | Action::Enter(_)
                | Action::Swap
                | Action::SwapBack
                | Action::Record
                | Action::TidyUp
                | Action::SetAsideRewritten
        );
        if writes && !self.writable {
            return false;
        }
        match action {
            Action::Stage => self.staged = works,
            Action::SecondBackup => self.backed_up = works,
            Action::Stop => {
                if works {
                    self.server = ServerIs::Down;
                } else if half && self.server == ServerIs::Up {
                    self.server = ServerIs::Partly;
                }
            }
            Action::AwaitStop => {
                if works {
                    self.server = ServerIs::Down;
                }
            }
            Action::EndWhatRuns => {
                if works {
                    self.server = ServerIs::Down;
                } else if half && self.server == ServerIs::Up {
                    self.server = ServerIs::Partly;
                }
            }
            Action::Swap => {
                assert!(
                    !matches!(self.server, ServerIs::Up | ServerIs::Partly),
                    "files are exchanged under a server"
                );
                assert_eq!(self.journal, Some(Phase::Swapping));
                assert!(self.staged, "nothing is there to come");
                if self.facts.kind == OperationKind::Changeover {
                    assert!(self.backed_up, "the world is not backed up");
                }
                let count = if works { MOVES } else { usize::from(half) };
                self.done[..count].fill(true);
            }
            Action::SwapBack => {
                assert!(
                    !matches!(self.server, ServerIs::Up | ServerIs::Partly),
                    "files are exchanged under a server"
                );
                assert_eq!(self.journal, Some(Phase::GoingBack));
                let first = if works { 0 } else { MOVES - usize::from(half) };
                self.done[first..].fill(false);
            }
            Action::CompareKept | Action::LookAgain => {
                assert_eq!(
                    self.server,
                    ServerIs::Down,
                    "{action:?} is of worth with the server down alone"
                );
            }
            Action::Start | Action::StartAgain => {
                let all = self.done.iter().all(|done| *done);
                let none = self.done.iter().all(|done| !done);
                assert!(all || none, "a server is started on half a state");
                if action == Action::Start {
                    assert!(all, "what is not there is started");
                }
                match self.server {
                    ServerIs::Down if works || half => self.server = ServerIs::Up,
                    ServerIs::Partly if works => self.server = ServerIs::Up,
                    _ => {}
                }
            }
            Action::Verify => assert!(self.done.iter().all(|done| *done)),
            Action::Record => {
                assert!(
                    self.done.iter().all(|done| *done),
                    "what is not done is recorded"
                );
                self.recorded = works;
            }
            Action::Enter(phase) => {
                if works {
                    self.journal = Some(phase);
                }
            }
            Action::TidyUp => {
                if works {
                    self.journal = None;
                }
            }
            Action::FirstBackup
            | Action::Warn
            | Action::DrawMoves
            | Action::SetAsideRewritten
            | Action::RecordFailure
            | Action::End(_) => {}
        }
        works || action == Action::RecordFailure
    }

    /// Runs one command to its end, or until it is killed.
    fn run(&mut self, came: Came, answers: &mut dyn Iterator<Item = Answer>) -> Outcome {
        self.writable = true;
        let (mut came, mut trouble, mut bad) = (came, None, false);
        let mut phase = self.journal.expect("an operation is under way");
        'asked: for _ in 0..40 {
            let actions = next(self.facts, phase, self.seen(came, trouble.take(), bad));
            let last = actions.last().expect("the table always says something");
            assert!(
                matches!(last, Action::End(_) | Action::Enter(_)),
                "{actions:?}"
            );
            for action in actions {
                if let Action::End(ending) = action {
                    return Outcome::Ended(ending);
                }
                let answer = answers.next().unwrap_or(Answer::Succeeds);
                let (works, half, slow) = match answer {
                    Answer::Succeeds => (true, false, false),
                    Answer::Fails { half } => (false, half, false),
                    Answer::Slow { for_good } => {
                        let waits = matches!(action, Action::Stop | Action::AwaitStop);
                        if waits && self.server != ServerIs::Down {
                            self.server = if for_good {
                                ServerIs::Stopping
                            } else {
                                ServerIs::Down
                            };
                        }
                        (!waits, false, waits)
                    }
                    Answer::Killed { after } => {
                        if after {
                            self.act(action, false, true);
                        }
                        return Outcome::Killed;
                    }
                    Answer::Unwritable => {
                        self.writable = false;
                        (true, false, false)
                    }
                };
                let works = match slow {
                    true => false,
                    false => self.act(action, half, works),
                };
                if !works {
                    bad |= matches!(action, Action::Start | Action::Verify | Action::StartAgain);
                    trouble = Some(Trouble { at: action, slow });
                    continue 'asked;
                }
                if let Action::Enter(entered) = action {
                    (phase, came) = (entered, Came::Itself);
                }
            }
        }
        panic!("it never ends");
    }

    /// What has to hold at an end.
    fn check(&self, ending: Ending) {
        let all = self.done.iter().all(|done| *done);
        let none = self.done.iter().all(|done| !done);
        let is_up = self.server == ServerIs::Up;
        let came_up = !self.facts.was_up || is_up;
        match ending {
            Ending::Untouched | Ending::Anew | Ending::Back => {
                assert!(none, "{ending:?}: {self:?}");
                assert!(came_up, "{ending:?}: the server is left down: {self:?}");
                assert_eq!(self.journal, None);
            }
            Ending::Done => {
                assert!(all && self.recorded, "{self:?}");
                assert!(came_up, "the server is left down: {self:?}");
                assert_eq!(self.journal, None);
            }
            Ending::DoneBadly => assert!(all && self.recorded && self.facts.stays, "{self:?}"),
            Ending::TakeBack => assert!(all && self.recorded, "{self:?}"),
            Ending::Stuck(why) => {
                assert!(!why.state().is_empty());
                assert!(self.journal.is_some(), "nobody could go on: {self:?}");
            }
        }
    }
}

fn facts() -> impl Strategy<Value = Facts> {
    (0..3usize, any::<bool>(), any::<bool>()).prop_map(|(kind, was_up, stays)| {
        let kind = OperationKind::ALL[kind];
        Facts {
            kind,
            // A restore is refused where the server is up.
            was_up: was_up && kind != OperationKind::Restore,
            stays: stays || kind != OperationKind::Changeover,
        }
    })
}

fn answers() -> impl Strategy<Value = Vec<Answer>> {
    let answer = prop_oneof![
        12 => Just(Answer::Succeeds),
        2 => any::<bool>().prop_map(|half| Answer::Fails { half }),
        1 => any::<bool>().prop_map(|for_good| Answer::Slow { for_good }),
        1 => any::<bool>().prop_map(|after| Answer::Killed { after }),
        1 => Just(Answer::Unwritable),
    ];
    prop::collection::vec(answer, 0..40)
}

proptest! {
    #![proptest_config(at_least(5_000))]

    /// Whatever the world answers, each command ends; it ends in the new state or the one before, with a
    /// server up that was up, or says why not. And in a world that answers well again, the next command
    /// brings it to an end that is none of the last sort.
    #[test]
    fn it_ends_in_the_new_state_or_the_one_before(
        facts in facts(),
        answers in answers(),
        wishes in prop::collection::vec(any::<bool>(), 12),
    ) {
        let mut toy = Toy::new(facts);
        let mut answers = answers.into_iter();
        let mut came = Came::Itself;
        for back in wishes {
            let direction = if back { Direction::Back } else { Direction::Onward };
            match toy.run(came, &mut answers) {
                Outcome::Ended(ending) => {
                    toy.check(ending);
                    if !matches!(ending, Ending::Stuck(_)) {
                        return Ok(());
                    }
                }
                Outcome::Killed => {}
            }
            if toy.journal.is_none() {
                // Killed right after the journal was removed: all is where it belongs.
                let all = toy.done.iter().all(|done| *done);
                let none = toy.done.iter().all(|done| !done);
                prop_assert!(all && toy.recorded || none);
                return Ok(());
            }
            came = Came::CutOff(direction);
        }
        // The last commands had a world that answers well.
        let ending = toy.run(came, &mut std::iter::empty());
        let Outcome::Ended(ending) = ending else {
            panic!("nobody kills it");
        };
        toy.check(ending);
        prop_assert!(!matches!(ending, Ending::Stuck(_)), "stuck in a world that answers well: {ending:?}");
    }
}

/// The way of each kind when all goes well.
#[test]
fn the_way_forward() {
    let way = |kind, was_up| {
        let facts = Facts {
            kind,
            was_up,
            stays: kind != OperationKind::Changeover,
        };
        let mut toy = Toy::new(facts);
        let mut words = Vec::new();
        for phase in [
            Phase::Preparing,
            Phase::Stopping,
            Phase::Swapping,
            Phase::Starting,
        ] {
            let actions = next(facts, phase, toy.seen(Came::Itself, None, false));
            words.push(format!("{phase:?}: {actions:?}"));
        }
        assert_eq!(
            toy.run(Came::Itself, &mut std::iter::empty()),
            Outcome::Ended(Ending::Done)
        );
        words.join("\n")
    };
    insta::assert_snapshot!(way(OperationKind::Changeover, true), @"
    Preparing: [Stage, FirstBackup, Warn, Enter(Stopping)]
    Stopping: [Stop, SecondBackup, LookAgain, Enter(Swapping)]
    Swapping: [Swap, CompareKept, Enter(Starting)]
    Starting: [Start, Verify, Record, Enter(Ending)]
    ");
    insta::assert_snapshot!(way(OperationKind::Undo, true), @"
    Preparing: [Stage, Warn, Enter(Stopping)]
    Stopping: [Stop, DrawMoves, LookAgain, Enter(Swapping)]
    Swapping: [Swap, Enter(Starting)]
    Starting: [StartAgain, Record, Enter(Ending)]
    ");
    insta::assert_snapshot!(way(OperationKind::Restore, false), @"
    Preparing: [Stage, Enter(Stopping)]
    Stopping: [Stop, DrawMoves, LookAgain, Enter(Swapping)]
    Swapping: [Swap, Enter(Starting)]
    Starting: [Record, Enter(Ending)]
    ");
}

/// What follows each thing that goes wrong in a changeover of a server that was up.
#[test]
fn the_way_back() {
    let facts = Facts {
        kind: OperationKind::Changeover,
        was_up: true,
        stays: false,
    };
    let rows = [
        (Phase::Preparing, Action::Stage, ServerSeen::Up, false),
        (Phase::Stopping, Action::Stop, ServerSeen::Up, true),
        (Phase::Stopping, Action::Stop, ServerSeen::Up, false),
        (Phase::Stopping, Action::AwaitStop, ServerSeen::Up, true),
        (Phase::Stopping, Action::LookAgain, ServerSeen::Down, false),
        (Phase::Stopping, Action::StartAgain, ServerSeen::Down, false),
        (Phase::Swapping, Action::Swap, ServerSeen::Down, false),
        (
            Phase::Swapping,
            Action::CompareKept,
            ServerSeen::Down,
            false,
        ),
        (Phase::Starting, Action::Verify, ServerSeen::Up, false),
        (Phase::Starting, Action::Record, ServerSeen::Up, false),
        (Phase::GoingBack, Action::SwapBack, ServerSeen::Down, false),
        (
            Phase::GoingBack,
            Action::StartAgain,
            ServerSeen::Down,
            false,
        ),
        (
            Phase::GoingBack,
            Action::EndWhatRuns,
            ServerSeen::Unknown,
            false,
        ),
        (Phase::Ending, Action::TidyUp, ServerSeen::Up, false),
    ];
    let told = rows.map(|(phase, at, server, slow)| {
        let seen = Seen {
            server,
            recorded: false,
            came: Came::Itself,
            trouble: Some(Trouble { at, slow }),
            bad: false,
        };
        let slow = if slow { ", slow" } else { "" };
        format!(
            "{phase:?}, {at:?}{slow}, {server:?}: {:?}",
            next(facts, phase, seen)
        )
    });
    insta::assert_snapshot!(told.join("\n"), @"
    Preparing, Stage, Up: [TidyUp, End(Untouched)]
    Stopping, Stop, slow, Up: [AwaitStop, StartAgain, RecordFailure, TidyUp, End(Untouched)]
    Stopping, Stop, Up: [RecordFailure, TidyUp, End(Untouched)]
    Stopping, AwaitStop, slow, Up: [End(Stuck(StillStopping))]
    Stopping, LookAgain, Down: [StartAgain, RecordFailure, TidyUp, End(Untouched)]
    Stopping, StartAgain, Down: [End(Stuck(NotUpAgain))]
    Swapping, Swap, Down: [Enter(GoingBack)]
    Swapping, CompareKept, Down: [Enter(GoingBack)]
    Starting, Verify, Up: [Enter(GoingBack)]
    Starting, Record, Up: [End(Stuck(Unwritable))]
    GoingBack, SwapBack, Down: [End(Stuck(HalfBack))]
    GoingBack, StartAgain, Down: [End(Stuck(NotUpWithOld))]
    GoingBack, EndWhatRuns, Unknown: [End(Stuck(OutOfReach))]
    Ending, TidyUp, Up: [End(Stuck(LeftOver))]
    ");
}

#[test]
fn what_was_recorded_can_be_taken_back() {
    let path = |text: &str| RelPath::parse(text).unwrap();
    let known = |hash: &str| Remembered {
        owner: None,
        version: None,
        hash: hash.into(),
        shipped: true,
        under: None,
    };
    let before = BTreeMap::from([
        (path("a"), known("1")),
        (path("b"), known("2")),
        (path("c"), known("3")),
    ]);
    let variants = BTreeMap::from([(Id::new("weather"), "mild".to_owned())]);
    let record = Record {
        files: BTreeMap::from([
            (path("a"), Some(known("4"))),
            (path("b"), None),
            (path("d"), Some(known("5"))),
        ]),
        variants: BTreeMap::from([
            (Id::new("weather"), Some("wild".into())),
            (Id::new("moss"), Some("thick".into())),
        ]),
        takes_back: None,
    };
    let back = record.reversed(&before, &variants);
    // Only what it changed is in it: c is not.
    let files: Vec<String> = back
        .files
        .iter()
        .map(|(path, known)| format!("{path}={:?}", known.as_ref().map(|it| &it.hash)))
        .collect();
    assert_eq!(files, ["a=Some(\"1\")", "b=Some(\"2\")", "d=None"]);
    assert_eq!(back.variants[&Id::new("weather")].as_deref(), Some("mild"));
    assert_eq!(back.variants[&Id::new("moss")], None);
}

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

/// A plan in which a path of each sort is: `old`, `new`, `same`, `goes` and `conf`.
fn small_plan() -> Plan {
    let action = |what: &str, path: &str, before: &str, after: &str| {
        let source = match what {
            "place" | "replace" => r#""source":{"archive":0},"#,
            _ => "",
        };
        format!(
            r#"{{"what":"{what}","path":"{path}","component":"weather","bytes":1,{source}
                "before":{before},"after":{after}}}"#
        )
    };
    let actions = [
        action("set-aside", "goes", r#""1""#, "null"),
        action("place", "new", "null", r#""2""#),
        action("replace", "old", r#""3""#, r#""4""#),
        action("keep", "same", r#""5""#, r#""5""#),
        action("edit", "conf", r#""6""#, r#""7""#),
    ];
    let text = format!(
        r#"{{"format":1,"server":"s","server_id":"i","family":"f","from":"5.1","to":"5.4",
            "components":[{{"id":"weather","kind":"pack","from":"1","to":"2","verdict":"moves","why":"","variant":"wild"}},
                          {{"id":"moss","kind":"addon","from":"1","to":"1","verdict":"stays","why":""}}],
            "archives":[{{"file":"a","blake3":"b","bytes":1}}],"actions":[{}],"edits":[],
            "keep":{{"patterns":[]}},"expects":[],"steps":[],"notes":[]}}"#,
        actions.join(",")
    );
    serde_json::from_str(&text).unwrap()
}

#[test]
fn a_changeover_is_its_plan_as_renames_and_as_what_is_recorded() {
    let known = |hash: &str| Remembered {
        owner: None,
        version: None,
        hash: hash.into(),
        shipped: true,
        under: None,
    };
    let before = BTreeMap::from([(path("goes"), known("1")), (path("old"), known("3"))]);
    let folders = (".lantern/staging/0001", ".lantern/set-aside/x");
    let mut operation =
        Operation::changeover(1, (true, Vec::new()), small_plan(), false, &before, folders)
            .unwrap();
    let moves: Vec<String> = operation
        .moves
        .iter()
        .map(|step| {
            let way = if step.brings() { "comes" } else { "goes" };
            let expects = step.expects.as_deref().unwrap_or("anything");
            format!(
                "{way} {}: {} to {}, {expects}",
                step.path(),
                step.from,
                step.to
            )
        })
        .collect();
    insta::assert_snapshot!(moves.join("\n"), @"
    goes goes: goes to .lantern/set-aside/x/goes, 1
    goes old: old to .lantern/set-aside/x/old, 3
    goes conf: conf to .lantern/set-aside/x/conf, 6
    comes new: .lantern/staging/0001/new to new, 2
    comes old: .lantern/staging/0001/old to old, 4
    comes conf: .lantern/staging/0001/conf to conf, 7
    ");
    assert_eq!(operation.record.files[&path("goes")], None);
    assert_eq!(
        operation.record.files[&path("new")].as_ref().unwrap().hash,
        "2"
    );
    assert!(!operation.record.files.contains_key(&path("same")));
    let variants = operation.record.variants.clone();
    assert_eq!(
        variants,
        BTreeMap::from([(Id::new("weather"), Some("wild".to_owned()))])
    );
    assert_eq!(operation.backup(), None);
    if let Work::Changeover { backup, .. } = &mut operation.work {
        *backup = Some("s-2026".into());
    }
    let back = operation.way_back(&before, &BTreeMap::new()).unwrap();
    assert_eq!(
        (back.format, back.backup.as_str(), &back.restored),
        (FORMAT, "s-2026", &None)
    );
    assert_eq!(back.moves, operation.moves);
    assert_eq!(back.record.files[&path("goes")], Some(known("1")));
    let exchanged: Vec<&str> = back.exchanged().into_iter().map(RelPath::as_str).collect();
    assert_eq!(exchanged, ["conf", "goes", "new", "old"]);
    // What came and is gone since does not go aside, and what nobody wants back stays.
    let all = |_: &RelPath| true;
    let told = |moves: Vec<Move>| {
        let told = moves
            .iter()
            .map(|step| format!("{} to {}", step.from, step.to));
        told.collect::<Vec<_>>().join("\n")
    };
    let whole = back.moves_back(".lantern/set-aside/y", &all, &all).unwrap();
    insta::assert_snapshot!(told(whole), @"
    conf to .lantern/set-aside/y/conf
    old to .lantern/set-aside/y/old
    new to .lantern/set-aside/y/new
    .lantern/set-aside/x/conf to conf
    .lantern/set-aside/x/old to old
    .lantern/set-aside/x/goes to goes
    ");
    let some = back.moves_back(
        ".lantern/set-aside/y",
        &|path| path.as_str() != "conf",
        &|path| path.as_str() != "new",
    );
    insta::assert_snapshot!(told(some.unwrap()), @"
    old to .lantern/set-aside/y/old
    .lantern/set-aside/x/old to old
    .lantern/set-aside/x/goes to goes
    ");
}

#[test]
fn each_kind_says_what_it_is() {
    let extent = Extent {
        scope: Scope::Kept,
        only: vec![path("worlds/isle"), path("barred.txt")],
    };
    assert!(extent.asks_for(&path("worlds/isle/map")) && extent.asks_for(&path("barred.txt")));
    assert!(!extent.asks_for(&path("worlds/isles")));
    let everything = Extent {
        only: Vec::new(),
        ..extent.clone()
    };
    assert!(everything.asks_for(&path("worlds/isles")));
    assert!(is_own(&path(".lantern/x")) && !is_own(&path("lantern/x")));
    let undo = |of| Work::Undo {
        of,
        world: World::Ask,
    };
    let works = [
        Work::Changeover {
            plan: Box::new(small_plan()),
            backup: Some("made".into()),
            stays: true,
        },
        undo(Undoable::Changeover {
            from: "5.1".into(),
            to: "5.4".into(),
        }),
        undo(Undoable::Restore {
            backup: "reeds".into(),
        }),
        Work::Restore {
            backup: "reeds".into(),
            extent,
        },
    ];
    let told = works.map(|work| {
        let operation = Operation {
            number: 7,
            was_up: false,
            servers: Vec::new(),
            paused: Vec::new(),
            work,
            moves: Vec::new(),
            record: Record::default(),
            followed: None,
        };
        let back = operation.way_back(&BTreeMap::new(), &BTreeMap::new());
        format!(
            "{}, {:?}, backup {:?}, stays {}, back {:?}\n{}",
            operation.kind().as_str(),
            operation.ends(),
            operation.backup(),
            operation.facts().stays,
            back.map(|back| (back.backup, back.restored.is_some())),
            operation.cut_off(Phase::Swapping),
        )
    });
    insta::assert_snapshot!(told.join("\n"), @r#"
    changeover, ("5.1", "5.4"), backup Some("made"), stays true, back Some(("made", false))
    A changeover, 5.1 to 5.4, was cut off
    while files were being exchanged: some are old, some are new.
    undo, ("5.4", "5.1"), backup None, stays true, back None
    An undo, 5.4 back to 5.1, was cut off
    while files were being exchanged: some are old, some are new.
    undo, ("reeds", ""), backup None, stays true, back None
    An undo of the restore of reeds was cut off
    while files were being exchanged: some are old, some are new.
    restore, ("", "reeds"), backup Some("reeds"), stays true, back Some(("reeds", true))
    A restore of reeds was cut off
    while files were being exchanged: some are old, some are new.
    "#);
    let states: BTreeSet<&str> = Phase::ALL.into_iter().map(Phase::state).collect();
    assert_eq!(states.len(), Phase::ALL.len());
}

const SERVERS: [ServerSeen; 4] = [
    ServerSeen::Up,
    ServerSeen::Down,
    ServerSeen::Partly,
    ServerSeen::Unknown,
];

/// One line for all the ways a server may be, where the answer is the same in all of them.
fn for_every_server(about: &str, answer: impl Fn(bool, ServerSeen) -> Vec<Action>) -> String {
    let ways = [true, false].map(|was_up| SERVERS.map(|server| (was_up, server)));
    let answers: Vec<_> = ways
        .as_flattened()
        .iter()
        .map(|(was_up, server)| (*was_up, *server, answer(*was_up, *server)))
        .collect();
    let first = &answers[0].2;
    if answers.iter().all(|(.., answer)| answer == first) {
        return format!("{about}: {first:?}");
    }
    let lines = answers.iter().map(|(was_up, server, answer)| {
        let before = if *was_up { "up" } else { "down" };
        format!("{about}, was {before}, is {server:?}: {answer:?}")
    });
    lines.collect::<Vec<_>>().join("\n")
}

/// What comes next after a cut, in every phase of every kind.
#[test]
fn the_way_on_and_back_after_a_cut() {
    let mut told = Vec::new();
    for phase in Phase::ALL {
        for (kind, direction) in [
            (OperationKind::Changeover, Direction::Onward),
            (OperationKind::Changeover, Direction::Back),
            (OperationKind::Restore, Direction::Onward),
            (OperationKind::Restore, Direction::Back),
            (OperationKind::Undo, Direction::Onward),
            (OperationKind::Undo, Direction::Back),
        ] {
            for recorded in [false, true] {
                let word = if recorded { ", recorded" } else { "" };
                let about = format!("{phase:?}, {} {direction:?}{word}", kind.as_str());
                told.push(for_every_server(&about, |was_up, server| {
                    let stays = kind != OperationKind::Changeover;
                    let seen = Seen {
                        server,
                        recorded,
                        came: Came::CutOff(direction),
                        trouble: None,
                        bad: false,
                    };
                    next(
                        Facts {
                            kind,
                            was_up,
                            stays,
                        },
                        phase,
                        seen,
                    )
                }));
            }
        }
    }
    insta::assert_snapshot!(told.join("\n"));
}

/// What follows a failure, where more than the phase decides.
#[test]
fn a_failure_after_a_cut_of_what_stays_or_is_recorded() {
    let mut told = Vec::new();
    for (phase, at) in [
        (Phase::Preparing, Action::StartAgain),
        (Phase::Stopping, Action::Stop),
        (Phase::Stopping, Action::AwaitStop),
        (Phase::Swapping, Action::EndWhatRuns),
        (Phase::Swapping, Action::Enter(Phase::GoingBack)),
        (Phase::Starting, Action::Start),
        (Phase::Starting, Action::StartAgain),
        (Phase::Starting, Action::Enter(Phase::Ending)),
        (Phase::GoingBack, Action::Enter(Phase::Ending)),
        (Phase::GoingBack, Action::RecordFailure),
    ] {
        for (stays, recorded, slow, cut) in [
            (false, false, false, false),
            (true, false, false, false),
            (false, true, false, false),
            (false, false, true, false),
            (false, false, false, true),
            (false, false, true, true),
        ] {
            let words = [
                (stays, " stays"),
                (recorded, " recorded"),
                (slow, " slow"),
                (cut, " cut"),
            ];
            let words = words.iter().filter(|(is, _)| *is).map(|(_, word)| *word);
            let about = format!("{phase:?}, {at:?}{}", words.collect::<String>());
            told.push(for_every_server(&about, |was_up, server| {
                let came = match cut {
                    true => Came::CutOff(Direction::Onward),
                    false => Came::Itself,
                };
                let seen = Seen {
                    server,
                    recorded,
                    came,
                    trouble: Some(Trouble { at, slow }),
                    bad: false,
                };
                let kind = OperationKind::Changeover;
                next(
                    Facts {
                        kind,
                        was_up,
                        stays,
                    },
                    phase,
                    seen,
                )
            }));
        }
    }
    insta::assert_snapshot!(told.join("\n"));
}

#[test]
fn players_are_told_only_of_a_stop_that_comes() {
    let warns = |kind, was_up| {
        let facts = Facts {
            kind,
            was_up,
            stays: true,
        };
        let seen = Toy::new(facts).seen(Came::Itself, None, false);
        next(facts, Phase::Preparing, seen).contains(&Action::Warn)
    };
    assert!(warns(OperationKind::Changeover, true) && warns(OperationKind::Changeover, false));
    assert!(warns(OperationKind::Undo, true) && !warns(OperationKind::Undo, false));
    assert!(!warns(OperationKind::Restore, true) && !warns(OperationKind::Restore, false));
}

#[test]
fn whoever_is_stuck_is_told_how_things_are() {
    let all = [
        Stuck::StillStopping,
        Stuck::NotUpAgain,
        Stuck::Unwritable,
        Stuck::OutOfReach,
        Stuck::HalfBack,
        Stuck::NotUpWithOld,
        Stuck::LeftOver,
    ];
    insta::assert_snapshot!(all.map(Stuck::state).join("\n"));
}
