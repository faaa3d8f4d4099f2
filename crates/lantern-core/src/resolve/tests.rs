//! Toy worlds as text, and a slow and simple solver to agree with.

mod refutation;
mod sharing;

use super::*;
use crate::component::{Admits, Channel, ClientTerms, Member, Need, Provided};
use crate::proofs::at_least;
use crate::version::{Notation, RangeNotation};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;
use thin_vec::ThinVec;

fn version(text: &str) -> Version {
    Version::parse(text, Notation::Dotted).unwrap()
}

fn build(facts: &mut Facts) -> &mut crate::facts::BuildFacts {
    Arc::make_mut(&mut facts.build)
}

fn range(text: &str) -> Range {
    Range::parse(text, RangeNotation::Comparators, Notation::Dotted).unwrap()
}

/// `"bees 1.2 @>=5.4 needs lib:^2,nectar any a|b uses x clashes y provides z group g takes skins:3"`,
/// for a pack `"holds red:1.0,blue:2/group"`; marks without words: `!bound`, `!withdrawn`, `!early`.
pub(crate) fn facts(text: &str) -> Facts {
    let mut words = text.split(' ');
    let id = Id::new(words.next().unwrap());
    let kind = match id.as_str() {
        "server" => Kind::Build,
        "trellis" => Kind::Framework,
        _ => Kind::Addon,
    };
    let mut facts = Facts::new(id, kind, version(words.next().unwrap()));
    while let Some(word) = words.next() {
        if let Some(server) = word.strip_prefix('@') {
            facts.server = Some(range(server));
            continue;
        }
        match word {
            "!bound" => facts.world_bound = Some(true),
            "!withdrawn" => facts.withdrawn = true,
            "!early" => facts.channel = Channel::Early,
            _ => {
                let rest = words.next().unwrap();
                let need = |item: &str| {
                    let (id, text) = item.split_once(':').unwrap_or((item, "*"));
                    Need {
                        id: Id::new(id),
                        range: range(text),
                    }
                };
                let needs = || rest.split(',').map(need).collect::<ThinVec<_>>();
                let amounts = || {
                    needs()
                        .into_iter()
                        .map(|n| (n.id.to_string(), n.range.as_str().parse().unwrap()))
                        .collect()
                };
                match word {
                    "needs" => facts.needs = needs(),
                    "installed" => facts.needs_installed = needs(),
                    "admits" => {
                        let admits = needs().into_iter().map(|n| Admits {
                            client: n.id.into(),
                            versions: n.range,
                            terms: ClientTerms::default(),
                        });
                        facts.admits = admits.collect();
                    }
                    "any" => facts.needs_any.push(rest.split('|').map(need).collect()),
                    "uses" => facts.uses = needs(),
                    "clashes" => facts.clashes = needs(),
                    "uses-provided" => facts.uses_provided = needs(),
                    "clashes-provided" => facts.clashes_provided = needs(),
                    "provides" => {
                        let provided = needs().into_iter().map(|n| Provided {
                            version: (!n.range.is_any()).then(|| version(n.range.as_str())),
                            id: n.id,
                        });
                        facts.provides = provided.collect();
                    }
                    "holds" => {
                        let members = rest.split(',').map(|member| {
                            let (member, group) = member.split_once('/').unwrap_or((member, ""));
                            let (id, text) = member.split_once(':').unwrap();
                            Member {
                                id: Id::new(id),
                                version: version(text),
                                group: (!group.is_empty()).then(|| group.into()),
                            }
                        });
                        facts.members = members.collect();
                    }
                    "effect" => facts.effect = serde_json::from_str(&format!("{rest:?}")).unwrap(),
                    "replaces" => facts.replaces = needs().into_iter().map(|n| n.id).collect(),
                    "before" => facts.before = needs().into_iter().map(|n| n.id).collect(),
                    "after" => facts.after = needs().into_iter().map(|n| n.id).collect(),
                    "with" => facts.companions = needs().into_iter().map(|n| n.id).collect(),
                    "group" => facts.group = Some(rest.into()),
                    "takes" => facts.takes = amounts(),
                    "has" => build(&mut facts).has = amounts(),
                    "from" => build(&mut facts).worlds_from = Some(range(rest)),
                    "framework" => facts.framework = Some(range(rest)),
                    "runtime" if facts.kind == Kind::Build => {
                        build(&mut facts).runtime = Some(version(rest))
                    }
                    "runtime" => facts.runtime = Some(range(rest)),
                    "flavour" if facts.kind == Kind::Build => {
                        build(&mut facts).flavours = vec![rest.into()]
                    }
                    "flavour" => facts.flavour = Some(rest.into()),
                    other => panic!("{other}"),
                }
            }
        }
    }
    facts
}

/// Toy worlds: lines beginning with `+` are installed, with `~` installed and droppable, with `.` installed and switched
/// off, with `!` in the drop folder; with `?` players who are to be let in.
pub(crate) fn world(text: &str) -> Request {
    let mut request = Request::new(Target::One(version("5.4")), Id::new("server"));
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
        if let Some(players) = line.strip_prefix("? ") {
            let (client, text) = players.split_once(' ').unwrap();
            let players = ClientVersion {
                client: client.into(),
                version: version(text),
            };
            request.admit.insert(players.wish(), players);
            continue;
        }
        if let Some(rest) = line.strip_prefix(['+', '~', '.']) {
            Arc::make_mut(&mut request.held).push(Held {
                facts: facts(rest.trim_start()),
                droppable: line.starts_with('~'),
                off: line.starts_with('.'),
                switched: facts(rest.trim_start()).group.is_some(),
            });
            continue;
        }
        let by_hand = line.strip_prefix("! ");
        Arc::make_mut(&mut request.offers).push(Offer {
            lays: None,
            facts: facts(by_hand.unwrap_or(line)),
            artifact: Arc::default(),
            supply: None,
            origin: if by_hand.is_some() {
                Origin::DropFolder
            } else {
                Origin::Catalogue
            },
        });
    }
    request
}

/// The chosen releases, `=` behind those that stay; what goes with `-` in front.
fn told(selection: &Selection) -> String {
    let chosen = selection.choices.iter().map(|choice| match choice.offer {
        Some(_) => format!("{} {}", choice.id, choice.to),
        None => format!("{}=", choice.id),
    });
    let gone = selection.gone.iter().map(|gone| format!("-{}", gone.id));
    chosen.chain(gone).collect::<Vec<_>>().join(", ")
}

fn answer(request: &Request) -> String {
    match resolve(request) {
        Ok(selection) => told(&selection),
        Err(obstacle) => {
            for conflict in &obstacle.conflicts {
                check_conflict(request, conflict);
            }
            obstacle.tell(request)
        }
    }
}

fn check_conflict(request: &Request, conflict: &Conflict) {
    let model = Model::guarded(request);
    let mut questions = questions::Questions::new(request, &model);
    for facts in conflict.all() {
        assert!(questions.is_conflict(facts), "{facts:?} can hold together");
        for fact in facts {
            let mut rest = facts.clone();
            rest.remove(fact);
            assert!(
                !questions.is_conflict(&rest),
                "{fact:?} has nothing to do with it: {facts:?}"
            );
        }
    }
}

#[test]
fn only_what_must_move_moves() {
    let mut request = world(
        "+ server 5.1
         server 5.4
         + lib 1.0
         lib 1.1
         + bees 1.0 @<5.4 needs lib
         bees 1.1 @>=5.4 needs lib
         bees 1.2 @>=5.4 needs lib",
    );
    assert_eq!(answer(&request), "server 5.4, bees 1.2, lib=");
    request.policy.prefer = Prefer::Newest;
    assert_eq!(answer(&request), "server 5.4, bees 1.2, lib 1.1");
}

#[test]
fn every_term_counts() {
    for (name, text, expected) in [
        (
            "needs pull in",
            "+ server 5.4\n+ bees 1.0\n! bees 2.0 needs nectar:^2\nnectar 1.0\nnectar 2.0 needs jar\nnectar 2.1 needs gone\njar 1\n+ hive 1 needs bees:^2",
            "server=, bees 2.0, hive=, jar 1, nectar 2.0",
        ),
        (
            "uses bind only where present",
            "+ server 5.4\n+ a 1 uses b:^1\n! b 2\n! b 1.5",
            "server=, a=, b 1.5",
        ),
        (
            "stand-ins meet a need",
            "+ server 5.4\n+ a 1\n! a 2 needs old\nnew 3 provides old",
            "server=, a 2, new 3",
        ),
        (
            "a stand-in's version counts",
            "+ server 5.4\n! a 2 needs old:^2\nnew 3 provides old:1.4\nnewer 1 provides old:2.1",
            "server=, a 2, newer 1",
        ),
        (
            "any of several",
            "+ server 5.4\n! a 2 any x:^2|y\nx 1\ny 3",
            "server=, a 2, y 3",
        ),
        (
            "what is there already meets it",
            "+ server 5.4\n+ y 3\n! a 2 any x|y\nx 1",
            "server=, a 2, y=",
        ),
        (
            "clashes",
            "+ server 5.4\n+ a 1\n! b 1 clashes a:^1\na 2",
            "server=, a 2, b 1",
        ),
        (
            "replaced ones go",
            "+ server 5.4\n+ old 1\n+ user 1 needs old\n! new 1 replaces old",
            "server=, new 1, user=, -old",
        ),
        (
            "one of a group",
            "+ server 5.4\n+ spring 1 group season\n~ autumn 1 group season",
            "server=, spring=, -autumn",
        ),
        (
            "companions move together",
            "+ server 5.4\n+ a 1 with b\n+ b 1\nb 2\n! a 2 with b",
            "server=, a 2, b 2",
        ),
        (
            "framework",
            "+ server 5.1\nserver 5.4\n+ trellis 1 @<5.4\ntrellis 2 @>=5.4\ntrellis 3 @>=5.4\n+ a 1 framework <2\na 2 framework >=2,<3",
            "server 5.4, trellis 2, a 2",
        ),
        (
            "runtime",
            "+ server 5.4 runtime 17\n+ a 1 runtime <17\na 2 runtime >=17",
            "server=, a 2",
        ),
        (
            "flavour",
            "+ server 5.4 flavour plugins\n+ a 1\n! b 1 flavour plugins",
            "server=, a=, b 1",
        ),
        (
            "room",
            "+ server 5.4 has skins:5\n+ a 1 takes skins:3\na 2 takes skins:2\n! b 1 takes skins:3",
            "server=, a 2, b 1",
        ),
        (
            "a build with more room",
            "+ server 5.4 has skins:5\nserver 5.4+wide has skins:9\n+ a 1 takes skins:3\n! b 1 takes skins:3",
            "server 5.4+wide, a=, b 1",
        ),
        (
            "withdrawn ones are not taken",
            "+ server 5.4\n+ a 1 @<5\na 3 !withdrawn\na 2",
            "server=, a 2",
        ),
        (
            "droppable ones are lost last",
            "+ server 5.4\n~ a 1 @<5.4\n~ b 1 needs a\n+ c 1",
            "server=, c=, -a, -b",
        ),
        (
            "a member's version counts",
            "+ server 5.4\n! a 2 needs red:^2\npack 1 holds red:1.0\npack 2 holds red:2.1",
            "server=, a 2, pack 2",
        ),
        (
            "a clash with a member",
            "+ server 5.4\n+ pack 1 holds red:1.0\npack 2 holds red:2.1\n! a 2 clashes red:^1",
            "server=, a 2, pack 2",
        ),
        (
            "a clash does not mean what only stands in",
            "+ server 5.4\n+ a 1 clashes b\n! c 1 provides b",
            "server=, a=, c 1",
        ),
        (
            "what is taken into account may be a member",
            "+ server 5.4\n+ a 1 uses red:^2\na 2 uses red:^1\n! pack 1 holds red:1.0",
            "server=, a 2, pack 1",
        ),
        (
            "a member is replaced with its pack",
            "+ server 5.4\n~ pack 1 holds red:1.0\n! new 1 replaces red",
            "server=, new 1, -pack",
        ),
        (
            "a member is of a group",
            "+ server 5.4\n~ spring 1 group season\n! pack 1 holds red:1.0/season",
            "server=, pack 1, -spring",
        ),
        (
            "a pack meets its own members' needs",
            "+ server 5.4\n! pack 1 holds red:1.0,blue:2 needs red:^9",
            "server=, pack 1",
        ),
        (
            "a need of itself and rings are fine",
            "+ server 5.4\n! a 1 needs a,b\nb 1 needs a",
            "server=, a 1, b 1",
        ),
    ] {
        assert_eq!(answer(&world(text)), expected, "{name}");
    }
}

#[test]
fn players_are_let_in() {
    let text = "+ server 5.1
         server 5.4 admits own:5.4
         + lens 2.0 admits visor:3.3
         lens 2.1 @>=5.4 needs glass admits visor:3.5
         lens 2.2 @>=5.5 admits visor:3.6
         lens 2.3 @>=5.4 needs gone admits visor:4
         glass 1
         gate 1 admits kite:1";
    let with = |wish: &str| {
        let request = world(&format!("{text}\n? {wish}"));
        let told = answer(&request);
        match resolve(&request) {
            Ok(selection) => {
                let let_in = |choice: &&Choice| matches!(choice.reason, Reason::LetsIn { .. });
                let by = selection
                    .choices
                    .iter()
                    .filter(let_in)
                    .map(|choice| choice.id.as_str());
                format!("{told}; by {}", by.collect::<Vec<_>>().join(", "))
            }
            Err(_) => told,
        }
    };
    assert_eq!(with("own 5.4"), "server 5.4, lens=; by ");
    assert_eq!(with("visor 3.3"), "server 5.4, lens=; by ");
    assert_eq!(with("visor 3.5"), "server 5.4, glass 1, lens 2.1; by lens");
    let mut called_so = world(&format!("{text}\n? visor 9"));
    let mut impostor = called_so.offers[0].clone();
    impostor.facts = Facts::new(Id::new("players with visor 9"), Kind::Addon, version("1"));
    Arc::make_mut(&mut called_so.offers).push(impostor);
    assert!(resolve(&called_so).is_err());
    assert_eq!(with("kite 1"), "server 5.4, gate 1, lens=; by gate");
    insta::assert_snapshot!(with("visor 3.6"), @"
    players with visor 3.6 cannot be let in on server 5.4:
      Only lens 2.2 lets visor 3.6 in.
      Releases of lens for server 5.4: 2.3, 2.1 and 2.0.
      What helps:
      - wait for a release of lens for server 5.4
      - use, untested, what was made for other versions (--allow-untested): lens 2.2
      - let in visor 3.5.x meanwhile, with lens 2.1 (without --admit visor=3.6)
    ");
    insta::assert_snapshot!(with("visor 4"), @"
    players with visor 4 cannot be let in on server 5.4:
      Only lens 2.3 lets visor 4 in.
      lens 2.3 needs gone. No catalogue or drop folder has it.
      What helps:
      - let in visor 3.5.x meanwhile, with lens 2.1 (without --admit visor=4)
    ");
    insta::assert_snapshot!(with("visor 9"), @"
    players with visor 9 cannot be let in on server 5.4:
      Nothing that is installed or on offer lets visor 9 in.
      What helps:
      - let in visor 3.5.x meanwhile, with lens 2.1 (without --admit visor=9)
    ");
    insta::assert_snapshot!(with("visor 3.3\n? visor 3.5"), @"
    players with visor 3.3 and players with visor 3.5 cannot all be let in on server 5.4:
      Only lens 2.0 lets visor 3.3 in.
      Only lens 2.1 lets visor 3.5 in.
      What helps:
      - let in visor 3.5.x meanwhile, with lens 2.1 (without --admit visor=3.3)
      - let in visor 3.3.x meanwhile, with lens 2.0 (without --admit visor=3.5)
    ");
}

#[test]
fn what_the_administrator_says_counts() {
    let text = "+ server 5.4\n+ a 1\na 2\na 3\n+ b 1\nb 2\nc 1";
    let newest = |change: fn(&mut Request)| {
        let mut request = world(text);
        request.policy.prefer = Prefer::Newest;
        change(&mut request);
        answer(&request)
    };
    let needed = world("+ server 5.4\n+ glass 1\n+ clock 1 needs glass");
    let dropped = Request {
        drop: BTreeSet::from([Id::new("glass")]),
        ..needed
    };
    insta::assert_snapshot!(answer(&dropped), @"
    clock cannot be installed on server 5.4:
      clock is installed and must stay.
      clock 1 needs glass.
      glass is to be removed.
      What helps:
      - keep glass installed (without --drop glass)
      - remove clock (--drop clock)
    ");
    assert_eq!(newest(|_| ()), "server=, a 3, b 2");
    assert_eq!(
        newest(|r| r.keep.push((Id::new("a"), Some(version("2"))))),
        "server=, a 2, b 2"
    );
    assert_eq!(
        newest(|r| r.keep.push((Id::new("a"), None))),
        "server=, a=, b 2"
    );
    assert_eq!(
        newest(|r| {
            r.drop.insert(Id::new("a"));
        }),
        "server=, b 2, -a"
    );
    // Laid again: what is installed does not do, and the same release is better than another.
    let mut again = world("+ server 5.4\n+ a 2\na 2\na 3");
    again.again.insert(Id::new("a"));
    assert_eq!(answer(&again), "server=, a 2");
    Arc::make_mut(&mut again.offers).clear();
    insta::assert_snapshot!(answer(&again), @"
    There is no release of a for server 5.4: 2 (installed) is installed in another variant, and its archive is not on offer.
      What helps:
      - provide the archive of a 2 (--from DIR or --catalogue FILE)
      - remove a (--drop a)
    ");
    assert_eq!(
        newest(|r| {
            r.add.insert(Id::new("c"));
        }),
        "server=, a 3, b 2, c 1"
    );
    assert_eq!(
        newest(|r| {
            r.only.insert(Id::new("b"));
        }),
        "server=, a=, b 2"
    );
}

/// Each choice with its reason and whether it was declared for the target; what goes with what takes its place.
fn reasons(request: &Request) -> String {
    let selection = resolve(request).unwrap();
    let choices = selection.choices.iter().map(|choice| {
        let from = choice.from.as_ref().map_or("-".into(), ToString::to_string);
        let declared = choice
            .declared
            .map_or("unknown".into(), |it| it.to_string());
        format!(
            "{} {} {from} to {}: {:?}, declared {declared}",
            choice.kind, choice.id, choice.to, choice.reason
        )
    });
    let gone = selection.gone.iter().map(|gone| {
        let by = gone.replaced_by.as_ref().map_or("nothing", Id::as_str);
        format!(
            "gone {} {}: asked {}, {by} in its place",
            gone.id, gone.from, gone.asked
        )
    });
    choices.chain(gone).collect::<Vec<_>>().join("\n")
}

#[test]
fn every_choice_says_why() {
    let mut request = world(
        "+ server 5.1
         server 5.4
         + trellis 1
         + stays 1
         + late 1 @<5.4
         late 2 @>=5.4 needs lib,old
         lib 1 @>=5.0
         ! fetched 3 any x|other
         other 1
         + again 1
         again 1
         asked 1
         + old 1 @<5.4
         new 1 replaces old
         + off 1
         ~ lost 1 @<5.4",
    );
    request.add.insert(Id::new("asked"));
    request.drop.insert(Id::new("off"));
    request.again.insert(Id::new("again"));
    insta::assert_snapshot!(reasons(&request), @r#"
    build server 5.1 to 5.4: Asked, declared true
    framework trellis 1 to 1: Fits, declared unknown
    addon again 1 to 1: OtherVariant, declared unknown
    addon asked - to 1: Asked, declared unknown
    addon fetched - to 3: FetchedByHand, declared unknown
    addon late 1 to 2: MadeForOthers { version: "1", range: "<5.4" }, declared true
    addon lib - to 1: NeededBy { id: Id("late") }, declared true
    addon new - to 1: NeededBy { id: Id("late") }, declared unknown
    addon other - to 1: NeededBy { id: Id("fetched") }, declared unknown
    addon stays 1 to 1: Fits, declared unknown
    gone lost 1: asked false, nothing in its place
    gone off 1: asked true, nothing in its place
    gone old 1: asked false, new in its place
    "#);
    let mut newest = world("+ server 5.4\n+ a 1\na 2\n+ b 1 @<5.4\nb 2 @<5.4");
    newest.policy.prefer = Prefer::Newest;
    newest.policy.untested = true;
    insta::assert_snapshot!(reasons(&newest), @"
    build server 5.4 to 5.4: Fits, declared true
    addon a 1 to 2: Newer, declared unknown
    addon b 1 to 2: Newer, declared false
    ");
    // Where several server versions will do, the chosen one is what is declared for.
    let mut several = world("+ server 5.1\nserver 5.4\n+ a 1 @<5.3\na 2 @>=5.4\n+ c 1 @>=5.4");
    several.target = Target::Within(Range::any());
    insta::assert_snapshot!(reasons(&several), @r#"
    build server 5.1 to 5.4: Asked, declared true
    addon a 1 to 2: MadeForOthers { version: "1", range: "<5.3" }, declared true
    addon c 1 to 1: Fits, declared true
    "#);
    let targets = [
        Target::One(version("5.4")),
        Target::Within(Range::any()),
        Target::Within(range("<5")),
    ];
    let targets: Vec<String> = targets.iter().map(ToString::to_string).collect();
    assert_eq!(targets, ["5.4", "of any version", "<5"]);
}

#[test]
fn a_demand_that_nothing_meets_is_remembered_behind_another_conflict() {
    let mut request = world(
        "+ server 5.1
         + trellis 1
         ~ m0 1 needs m4
         m1 1 provides m3:2
         ! m1 2 provides m0:1
         ~ m2 1 needs m3:2 framework >=2
         + m3 1",
    );
    request.target = Target::Within(Range::any());
    insta::assert_snapshot!(answer(&request), @"server=, trellis=, m1 2, m3=, -m0, -m2");
}

#[test]
fn what_is_fetched_again_stays() {
    let text = "+ server 5.4\n+ moss 1\n! moss 1\nmoss 2";
    insta::assert_snapshot!(answer(&world(text)), @"server=, moss=");
}

#[test]
fn what_is_switched_off_asks_for_nothing_and_is_brought_along() {
    let text = "+ server 5.3
         server 5.4
         . clock 1 @<5.4 needs gears
         clock 2 @>=5.4 needs gears
         . old 1 @<5.4
         + pots 1 clashes clock";
    insta::assert_snapshot!(answer(&world(text)), @"server 5.4, clock 2, old=, pots=");
    let needing = |need: &str| answer(&world(&format!("{text}\n+ bees 1 {need} old")));
    insta::assert_snapshot!(needing("installed"), @"server 5.4, bees=, clock 2, old=, pots=");
    insta::assert_snapshot!(needing("needs"), @"
    bees cannot be installed on server 5.4:
      bees is installed and must stay.
      bees 1 needs old. old 1 is installed and switched off.
      What helps:
      - remove bees (--drop bees)
    ");
    let on = text
        .replace(". clock", "+ clock")
        .replace(" clashes clock", "");
    insta::assert_snapshot!(answer(&world(&on)), @"
    clock cannot be installed on server 5.4:
      clock is installed and must stay.
      clock needs gears. No catalogue or drop folder has it.
      What helps:
      - remove clock (--drop clock)
    ");
    // What takes its place is there instead, and nothing else may be.
    insta::assert_snapshot!(answer(&world(&format!("{text}\n! new 1 replaces old"))), @"server 5.4, clock 2, new 1, pots=, -old");
}

#[test]
fn early_and_untested_ones_only_by_policy() {
    let text = "+ server 5.1\nserver 5.4\n+ a 1 @<5.4\na 2-rc1 @>=5.4\na 1.5 @<5.3";
    let mut request = world(text);
    assert!(answer(&request).contains("There is no release of a"));
    request.policy.early = true;
    assert_eq!(answer(&request), "server 5.4, a 2-rc1");
    request.policy.early = false;
    request.policy.untested = true;
    assert_eq!(
        answer(&request),
        "server 5.4, a=",
        "settled: what is there stays, untested"
    );
    request.policy.early = true;
    assert_eq!(
        answer(&request),
        "server 5.4, a 2-rc1",
        "untested weighs more than early"
    );
}

#[test]
fn the_best_build_of_several() {
    let mut request = world(
        "+ server 5.1\nserver 5.2\nserver 5.3\nserver 5.4\n+ a 1 @<5.3\na 2 @>=5.2,<5.4\n+ b 1",
    );
    request.target = Target::Within(Range::any());
    request.policy.prefer = Prefer::Newest;
    assert_eq!(answer(&request), "server 5.3, a 2, b=");
    request.target = Target::Within(range("<5.3"));
    assert_eq!(answer(&request), "server 5.2, a 2, b=");
}

/// Stories, to be read aloud: would someone at two in the morning know what to do?
#[test]
fn stories() {
    let stories = [
        ("no such build", "+ server 5.1\nserver 5.2\nserver 5.3"),
        (
            "two without a release",
            "+ server 5.1\nserver 5.3\nserver 5.4\n+ bees 1 @<5.4\nbees 2 @<5.3\n+ vault 1 @<5.4 !bound",
        ),
        (
            "only a test release",
            "+ server 5.1\nserver 5.4\n+ bees 1 @<5.4\nbees 2 @>=5.4 !early",
        ),
        (
            "a need nobody offers",
            "+ server 5.4\n! fern 1 needs moss:^2",
        ),
        (
            "a need in another version",
            "+ server 5.4\n! fern 1 needs moss:^2\nmoss 1.0\nmoss 1.4",
        ),
        (
            "one library, two wishes",
            "+ server 5.1\nserver 5.4\n+ bees 1 @<5.4\nbees 2 @>=5.4 needs lib:^2\n+ clock 3 needs lib:^1\n+ lib 1.5\nlib 2.0",
        ),
        (
            "a library that stops at an older server",
            "+ server 5.1\nserver 5.3\nserver 5.4\n+ lib 1 @<5.4\n+ bees 1 needs lib\nbees 2 @>=5.4 needs lib:>=1\n+ hive 1 needs bees",
        ),
        (
            "each release has something",
            "+ server 5.1\nserver 5.4\n+ a 1 @<5.4\na 2 @>=5.4 !withdrawn\na 3 @>=5.4 !early\na 4 @<5.2\na 5 @<5.2\n\
             a 6 @<5.2\na 7 @<5.2\na 8 @<5.2",
        ),
        (
            "nobody offers it",
            "+ server 5.4\n+ a 1 needs b\n+ b 1 clashes c\n! c 1 needs a,b",
        ),
        ("a clash", "+ server 5.4\n+ a 1\n! b 1 clashes a"),
        (
            "two of one group",
            "+ server 5.4\n+ spring 1 group season\n! autumn 2 group season",
        ),
        (
            "no room",
            "+ server 5.4 has skins:5\n+ a 1 takes skins:3\n! b 1 takes skins:3",
        ),
        (
            "a framework that is late",
            "+ server 5.1\nserver 5.4\n+ trellis 1 @<5.4\n+ a 1 framework >=1",
        ),
        (
            "companions apart",
            "+ server 5.4\n+ a 1 with b\n+ b 1\n! a 2 with b",
        ),
        (
            "a chain",
            "+ server 5.4\n! a 1 needs b:^1\nb 1.0 needs c:^1\nb 1.1 needs c:^1\nc 1 needs d:^3\nd 2\nd 4",
        ),
        (
            "two things at once",
            "+ server 5.4\n! a 1 needs x\n+ b 1 clashes c\n+ c 1",
        ),
    ];
    let told = stories.map(|(name, text)| format!("## {name}\n{}\n", answer(&world(text))));
    insta::assert_snapshot!(told.join("\n"));
}

/// What stands in the way where the administrator's own wishes do.
#[test]
fn wishes_stand_in_the_way() {
    let told = |text: &str, change: fn(&mut Request)| {
        let mut request = world(text);
        change(&mut request);
        answer(&request)
    };
    let keep = |r: &mut Request| r.keep.push((Id::new("lib"), Some(version("1"))));
    insta::assert_snapshot!(told("+ server 5.4\n+ lib 1\nlib 2\n! a 1 needs lib:^2", keep), @"
    a cannot be installed on server 5.4:
      a is in the drop folder.
      a 1 needs lib ^2. Known releases: 1.
      Releases of lib that --keep or [hold] allows: 1.
      What helps:
      - let lib change version (without --keep lib, or [hold] in lantern.toml)
      - take a out of the drop folder
    ");
    let only = |r: &mut Request| {
        r.only.insert(Id::new("a"));
    };
    insta::assert_snapshot!(told("+ server 5.4\n+ lib 1\nlib 2\n! a 1 needs lib:^2", only), @"
    a cannot be installed on server 5.4:
      a is in the drop folder.
      a 1 needs lib ^2. Known releases: 1.
      Releases of lib that --keep or [hold] allows: 1.
      What helps:
      - let lib change version (without --keep lib, or [hold] in lantern.toml)
      - take a out of the drop folder
    ");
    // Of several ways to say it, the one with the fewest facts is told.
    let nothing = |_: &mut Request| ();
    let text = "+ server 5.4\n+ far 1 needs b\nb 1 needs c\nc 1 needs gone\n+ near 1 needs gone";
    insta::assert_snapshot!(told(text, nothing), @"
    2 independent problems:
    1. far cannot be installed on server 5.4:
      far is installed and must stay.
      far 1 needs b. Known releases: 1.
      b 1 needs c. Known releases: 1.
      c 1 needs gone. No catalogue or drop folder has it.
      What helps:
      - remove far (--drop far)
    2. near cannot be installed on server 5.4:
      near is installed and must stay.
      near 1 needs gone. No catalogue or drop folder has it.
      What helps:
      - remove near (--drop near)
    ");
}

#[test]
fn what_is_stuck_for_one_cause_is_told_together() {
    let one = |id: &str| {
        format!("+ {id} 1 @<5.4\n{id} 2 @>=5.4 needs lib:>=1\n{id} 1.1 @>=5.4 needs lib")
    };
    let users: Vec<String> = ["amber", "birch", "cedar"].map(one).to_vec();
    let text = format!(
        "+ server 5.1\nserver 5.4\nlib 1 @<5.4\n{}",
        users.join("\n")
    );
    insta::assert_snapshot!(answer(&world(&text)), @"
    amber cannot be installed on server 5.4:
      amber is installed and must stay.
      Releases of amber for server 5.4: 2 and 1.1.
      amber 2 needs lib >=1; amber 1.1 needs lib.
      lib has no release for server 5.4.
      The same stops birch: Releases of birch for server 5.4: 2 and 1.1. birch 2 needs lib >=1; birch 1.1 needs lib.
      The same stops cedar: Releases of cedar for server 5.4: 2 and 1.1. cedar 2 needs lib >=1; cedar 1.1 needs lib.
      What helps:
      - wait for a release of lib for server 5.4
      - use, untested, what was made for other versions (--allow-untested): lib 1
      - remove amber, birch and cedar (--drop amber --drop birch --drop cedar)
      - server 5.1 instead (--to 5.1)
    ");
    // What goes as asked needs nothing any more.
    let text = "+ server 5.4\n+ pack 3 needs gate provides lib\n+ gate 2 needs lib\n+ moss 1 needs lib:>=1";
    let mut request = world(text);
    request.drop.insert(Id::new("pack"));
    insta::assert_snapshot!(answer(&request), @"
    gate cannot be installed on server 5.4:
      gate is installed and must stay.
      gate 2 needs lib. pack stands in for it.
      pack is to be removed.
      The same stops moss: moss 1 needs lib >=1.
      What helps:
      - keep pack installed (without --drop pack)
      - remove gate and moss (--drop gate --drop moss)
    ");
    // A tenth of a hundred is told, and a number for the rest.
    let users: Vec<String> = (10..50).map(|n| one(&format!("user{n}"))).collect();
    let text = format!(
        "+ server 5.1\nserver 5.4\nlib 1 @<5.4\n{}",
        users.join("\n")
    );
    let told = answer(&world(&text));
    let lines: Vec<&str> = told
        .lines()
        .filter(|line| line.contains("same stops"))
        .collect();
    insta::assert_snapshot!(lines.join("\n"), @"
    The same stops user11: Releases of user11 for server 5.4: 2 and 1.1. user11 2 needs lib >=1; user11 1.1 needs lib.
    The same stops user12: Releases of user12 for server 5.4: 2 and 1.1. user12 2 needs lib >=1; user12 1.1 needs lib.
    The same stops user13: Releases of user13 for server 5.4: 2 and 1.1. user13 2 needs lib >=1; user13 1.1 needs lib.
    The same stops user14: Releases of user14 for server 5.4: 2 and 1.1. user14 2 needs lib >=1; user14 1.1 needs lib.
    The same stops user15: Releases of user15 for server 5.4: 2 and 1.1. user15 2 needs lib >=1; user15 1.1 needs lib.
    The same stops user16: Releases of user16 for server 5.4: 2 and 1.1. user16 2 needs lib >=1; user16 1.1 needs lib.
    The same stops user17, user18, user19, user20, user21, user22 and 27 more.
    ");
    let mut all = world(&text);
    let untried = |request: &Request| {
        let obstacle = resolve(request).unwrap_err();
        obstacle
            .conflicts
            .iter()
            .map(|it| it.untried)
            .sum::<usize>()
    };
    all.policy.all_remedies = true;
    assert_eq!((untried(&world(&text)) > 0, untried(&all)), (true, 0));
}

#[test]
fn two_that_shut_each_other_out_are_one_conflict() {
    let told = answer(&world("+ server 5.4\n+ a 1 clashes b\n+ b 1 clashes a"));
    insta::assert_snapshot!(told, @"
    a and b cannot all be installed on server 5.4:
      a is installed and must stay.
      a 1 conflicts with b.
      b is installed and must stay.
      What helps:
      - remove a (--drop a)
      - remove b (--drop b)
    ");
}

#[test]
fn without_effort_the_first_answer_is_told() {
    let mut request = world("+ server 5.4\n+ a 1\na 2\n! b 1 any c|d\nc 1 needs d\nd 1");
    let best = resolve(&request).unwrap();
    request.policy.effort = 0;
    let first = resolve(&request).unwrap();
    assert_eq!((best.proved, first.proved), (true, false));
    assert!(fits(&request, &chosen(&request, &first)));
}

#[test]
fn why_and_why_not() {
    let request = world(
        "+ server 5.1\nserver 5.4\n+ lib 1.5\nlib 2.0\nlib 1.8\n+ bees 1 @<5.4\nbees 2 @>=5.4 needs lib:^1\n+ clock 1 uses lib:<1.7",
    );
    let selection = resolve(&request).unwrap();
    assert_eq!(told(&selection), "server 5.4, bees 2, clock=, lib=");
    let why = Explanation::of(&request, &selection, &Id::new("lib"));
    assert_eq!(why.held_by.len(), 2);
    let newer: Vec<String> = why
        .newer
        .iter()
        .map(|(version, why)| match why {
            WhyNot::Impossible(_, told) => format!("{version}: {told}"),
            other => format!("{version}: {other:?}"),
        })
        .collect();
    insta::assert_snapshot!(newer.join("\n"));
    let unknown = why_not(&request, &selection, &Id::new("lib"), &version("9"));
    assert!(matches!(unknown, WhyNot::Unknown(known) if known.len() == 3));
    assert_eq!(
        why_not(&request, &selection, &Id::new("bees"), &version("2")),
        WhyNot::Chosen
    );
}

/// Whether a choice of releases (by component) fits the request; written apart from the solver.
fn fits(request: &Request, chosen: &BTreeMap<&Id, &Facts>) -> bool {
    let Some(build) = chosen.get(&request.build) else {
        return false;
    };
    let everything = || chosen.values().copied();
    let running = || everything().filter(|facts| !is_off(request, &facts.id));
    let room = build.build.has.iter().all(|(kind, has)| {
        let takes = running().map(|facts| facts.takes.get(kind).copied().unwrap_or(0));
        takes.sum::<u64>() <= *has
    });
    let stays = to_stay(request)
        .filter(|id| !droppable(request, id))
        .all(|id| is_there(request, chosen, id));
    let let_in = |players: &ClientVersion| running().any(|facts| facts.lets_in(players));
    stays
        && room
        && request.admit.values().all(let_in)
        && request.target.holds(&build.version)
        && everything().all(|facts| usable(request, facts))
        && running().all(|facts| {
            runs_on(request, facts, build)
                && needs_hold(request, facts, chosen)
                && goes_with_the_others(request, facts, chosen)
        })
}

fn is_off(request: &Request, id: &Id) -> bool {
    let mut held = request.held.iter();
    held.any(|held| held.facts.id == *id && held.off)
}

/// All that is installed, in the drop folder or asked for, and is not to go.
fn to_stay(request: &Request) -> impl Iterator<Item = &Id> {
    let held = request.held.iter().map(|held| &held.facts.id);
    let offers = request.offers.iter();
    let by_hand = offers.filter(|offer| offer.origin == Origin::DropFolder);
    let all = held.chain(by_hand.map(|offer| &offer.facts.id));
    all.chain(&request.add)
        .filter(|id| !request.drop.contains(*id))
}

fn droppable(request: &Request, id: &Id) -> bool {
    let mut held = request.held.iter();
    held.any(|held| held.facts.id == *id && held.droppable)
}

/// Whether a component, or what takes its place, was chosen.
fn is_there(request: &Request, chosen: &BTreeMap<&Id, &Facts>, id: &Id) -> bool {
    let mut others = chosen.values().filter(|facts| !is_off(request, &facts.id));
    chosen.contains_key(id) || others.any(|facts| facts.replaces.contains(id))
}

fn is_own(request: &Request, facts: &Facts) -> bool {
    let mut held = request.held.iter().map(|held| &held.facts);
    held.any(|held| held.id == facts.id && held.version == facts.version)
}

/// Whether a release was declared for none of the server versions that would do.
fn is_untested(request: &Request, facts: &Facts) -> bool {
    let builds = every_release(request).filter(|other| other.kind == Kind::Build);
    let versions: Vec<&Version> = match &request.target {
        Target::One(version) => vec![version],
        Target::Within(range) => builds
            .map(|build| &build.version)
            .filter(|version| range.holds(version))
            .collect(),
    };
    let range = facts.server.as_ref();
    facts.kind != Kind::Build
        && range.is_some_and(|range| !versions.iter().any(|version| range.holds_early(version)))
}

fn every_release(request: &Request) -> impl Iterator<Item = &Facts> {
    let held = request.held.iter().map(|held| &held.facts);
    held.chain(request.offers.iter().map(|offer| &offer.facts))
}

/// Whether a release may be chosen at all, whatever the others are.
fn usable(request: &Request, facts: &Facts) -> bool {
    let own = is_own(request, facts);
    let installed = request.held.iter().any(|held| held.facts.id == facts.id);
    let mut pins = request.keep.iter().filter(|(id, _)| *id == facts.id);
    let wished = match pins.next() {
        Some((_, Some(version))) => *version == facts.version,
        Some((_, None)) => own,
        None => {
            let may_move = request.only.is_empty() || request.only.contains(&facts.id);
            own || may_move || !installed || facts.kind == Kind::Build
        }
    };
    wished
        && !request.drop.contains(&facts.id)
        && (facts.kind != Kind::Build || request.target.holds(&facts.version))
        && (request.policy.untested
            || own && is_off(request, &facts.id)
            || !is_untested(request, facts))
        && (own || request.policy.early || !facts.is_early())
        && (own || !facts.withdrawn)
}

fn runs_on(request: &Request, facts: &Facts, build: &Facts) -> bool {
    if facts.kind == Kind::Build {
        return true;
    }
    let offers = &build.build;
    let server = facts.server.as_ref();
    let runtime = (facts.runtime.as_ref()).zip(offers.runtime.as_ref());
    let flavour = facts.flavour.as_ref();
    (request.policy.untested || server.is_none_or(|range| range.may_hold(&build.version)))
        && runtime.is_none_or(|(range, version)| range.holds_early(version))
        && (offers.flavours.is_empty() || flavour.is_none_or(|f| offers.flavours.contains(f)))
}

/// Itself and its members.
fn bears(facts: &Facts) -> Vec<(&Id, &Version)> {
    let mut all = vec![(&facts.id, &facts.version)];
    all.extend(facts.members.iter().map(|m| (&m.id, &m.version)));
    all
}

fn needs_hold(request: &Request, facts: &Facts, chosen: &BTreeMap<&Id, &Facts>) -> bool {
    let met_by = |need: &Need, off: bool| {
        let mut others = chosen.values();
        others.any(|other| {
            if is_off(request, &other.id) && !off {
                return false;
            }
            let by_part = bears(other);
            let mut by_part = by_part.iter();
            let mut by_word = other.provides.iter();
            by_part.any(|(id, version)| **id == need.id && need.range.holds_early(version))
                || by_word.any(|provided| {
                    let version = provided.version.as_ref();
                    provided.id == need.id && version.is_none_or(|v| need.range.holds_early(v))
                })
                || other.replaces.contains(&need.id)
        })
    };
    let met = |need: &Need| met_by(need, false);
    let own = |need: &Need| bears(facts).iter().any(|(id, _)| **id == need.id);
    let mut installed = facts.needs_installed.iter();
    let any = |needs: &ThinVec<Need>| needs.iter().any(|need| own(need) || met(need));
    let mut frameworks = chosen
        .values()
        .filter(|other| other.kind == Kind::Framework);
    let framework = facts.framework.as_ref();
    facts.needs.iter().all(|need| own(need) || met(need))
        && installed.all(|need| own(need) || met_by(need, true))
        && facts.needs_any.iter().all(any)
        && (facts.kind == Kind::Framework
            || framework.is_none_or(|range| frameworks.any(|f| range.holds_early(&f.version))))
}

fn goes_with_the_others(request: &Request, facts: &Facts, chosen: &BTreeMap<&Id, &Facts>) -> bool {
    let own: Vec<&Id> = bears(facts).into_iter().map(|(id, _)| id).collect();
    let groups = |facts: &Facts| -> Vec<String> {
        let members = facts.members.iter().filter_map(|m| m.group.clone());
        facts.group.clone().into_iter().chain(members).collect()
    };
    let others = chosen.values().filter(|other| other.id != facts.id);
    let mut ids = others.clone().map(|other| &other.id);
    if ids.any(|id| facts.replaces.contains(id) && !own.contains(&id)) {
        return false;
    }
    let others = others.filter(|other| !is_off(request, &other.id));
    let parts = others.clone().flat_map(|other| bears(other));
    let fits = |id: &Id, version: &Version| {
        own.contains(&id)
            || facts
                .uses
                .iter()
                .all(|used| used.id != *id || used.range.holds_early(version))
                && !facts
                    .clashes
                    .iter()
                    .any(|c| c.id == *id && c.range.holds_early(version))
                && !facts.replaces.contains(id)
                && (!facts.companions.contains(id) || *version == facts.version)
    };
    let stands_for = |other: &Facts, need: &Need, inside: bool| {
        let versions = bears(other).into_iter().filter(|(id, _)| **id == need.id);
        let versions = versions.map(|(_, version)| Some(version));
        let provides = other.provides.iter().filter(|it| it.id == need.id);
        let provides = provides.map(|it| it.version.as_ref());
        let replaces = other.replaces.iter().filter(|id| **id == need.id);
        let mut all = versions.chain(provides).chain(replaces.map(|_| None));
        all.any(|version| version.is_none_or(|v| need.range.holds_early(v)) == inside)
    };
    let beside_what_stands_in = others.clone().all(|other| {
        let mut uses = facts.uses_provided.iter();
        let mut clashes = facts.clashes_provided.iter();
        uses.all(|used| !stands_for(other, used, false))
            && !clashes.any(|clash| stands_for(other, clash, true))
    });
    if !beside_what_stands_in {
        return false;
    }
    let mine = groups(facts);
    parts.clone().all(|(id, version)| fits(id, version))
        && others
            .clone()
            .all(|other| groups(other).iter().all(|group| !mine.contains(group)))
}

/// How good a choice is; lower is better. In the order in which it counts: lost, untested, test releases, how
/// old the build is where several will do, then changes and the sum of ranks; for who wants the newest what is not as he
/// wished, the sum of ranks, and changes.
fn price(request: &Request, chosen: &BTreeMap<&Id, &Facts>) -> [usize; 7] {
    let to_stay: BTreeSet<&Id> = to_stay(request).collect();
    let lost = to_stay
        .iter()
        .filter(|id| droppable(request, id) && !is_there(request, chosen, id));
    let count =
        |which: &dyn Fn(&Facts) -> bool| chosen.values().filter(|facts| which(facts)).count();
    let by_hand = |facts: &Facts| {
        let mut offers = request.offers.iter();
        offers.any(|offer| offer.origin == Origin::DropFolder && offer.facts == *facts)
    };
    let newest = request.policy.prefer == Prefer::Newest;
    let unchanged = |facts: &Facts| {
        let own = |other: &&Facts| other.id == facts.id && usable(request, other);
        match every_release(request).filter(own).any(by_hand) {
            true => by_hand(facts),
            false => {
                let installed = request.held.iter().any(|held| held.facts.id == facts.id);
                is_own(request, facts) || newest && installed
            }
        }
    };
    let one_of_several =
        |facts: &Facts| facts.kind == Kind::Build && matches!(request.target, Target::Within(_));
    let newer = |facts: &Facts| {
        let all = every_release(request).filter(|other| other.id == facts.id);
        let newer = all.filter(|other| usable(request, other) && other.version > facts.version);
        newer
            .map(|other| &other.version)
            .collect::<BTreeSet<_>>()
            .len()
    };
    let settled = |facts: &Facts| !newest && is_own(request, facts) && unchanged(facts);
    let ranks = chosen
        .values()
        .filter(|facts| !settled(facts))
        .map(|facts| newer(facts));
    let build = chosen.values().filter(|facts| one_of_several(facts));
    let wished = |facts: &Facts| {
        let own = |other: &&Facts| other.id == facts.id && usable(request, other);
        let installed = request.held.iter().any(|held| held.facts.id == facts.id);
        installed || every_release(request).filter(own).any(by_hand)
    };
    let changes = count(&|facts| !one_of_several(facts) && !unchanged(facts));
    let misses = count(&|facts| !one_of_several(facts) && !unchanged(facts) && wished(facts));
    let ranks: usize = ranks.sum();
    let last = match newest {
        true => [misses, ranks, changes],
        false => [0, changes, ranks],
    };
    [
        lost.count(),
        count(&|facts| is_untested(request, facts)),
        count(&|facts| facts.is_early() && !is_own(request, facts)),
        build.map(|facts| newer(facts)).sum(),
        last[0],
        last[1],
        last[2],
    ]
}

/// The releases of each component, each version once.
fn releases(request: &Request) -> BTreeMap<&Id, Vec<&Facts>> {
    let mut releases: BTreeMap<&Id, Vec<&Facts>> = BTreeMap::new();
    for facts in every_release(request) {
        let known = releases.entry(&facts.id).or_default();
        if !known.iter().any(|other| other.version == facts.version) {
            known.push(facts);
        }
    }
    for id in request.add.iter().chain([&request.build]) {
        releases.entry(id).or_default();
    }
    releases
}

/// Tries every combination.
fn by_trying(request: &Request) -> Option<[usize; 7]> {
    let releases: Vec<(&Id, Vec<&Facts>)> = releases(request).into_iter().collect();
    let mut best = None;
    let mut counters = vec![0; releases.len()];
    loop {
        let chosen = releases
            .iter()
            .zip(&counters)
            .filter(|(_, n)| **n > 0)
            .map(|((id, list), n)| (*id, list[*n - 1]));
        let chosen: BTreeMap<&Id, &Facts> = chosen.collect();
        if fits(request, &chosen) {
            let price = price(request, &chosen);
            best = Some(best.map_or(price, |best: [usize; 7]| best.min(price)));
        }
        let mut at = 0;
        loop {
            if at == counters.len() {
                return best;
            }
            counters[at] += 1;
            if counters[at] <= releases[at].1.len() {
                break;
            }
            counters[at] = 0;
            at += 1;
        }
    }
}

/// What a random administrator asks for besides: bits of the policy, and wishes about components.
#[derive(Debug, Clone)]
struct Asked {
    early: bool,
    newest: bool,
    several: bool,
    untested: bool,
    /// Which wish, about which component, at which version.
    wishes: Vec<(u8, usize, u8)>,
}

/// Small random worlds: up to five components with up to three releases each, some of them packs.
fn any_world() -> impl Strategy<Value = (String, Asked)> {
    let release = (0u8..8, 0usize..5, 0usize..5, 0u8..48, 0u8..48, 1u8..4);
    let component = (0u8..8, proptest::collection::vec(release, 1..=3));
    let wish = (0u8..12, 0usize..5, 1u8..4);
    let asked =
        (0u8..16, proptest::collection::vec(wish, 0..=2)).prop_map(|(bits, wishes)| Asked {
            early: bits & 1 == 1,
            newest: bits & 2 == 2,
            several: bits & 12 == 4,
            untested: bits & 12 == 8,
            wishes,
        });
    let worlds = (proptest::collection::vec(component, 2..=5), asked, 3u64..8);
    worlds.prop_map(|(components, asked, room)| {
        let mut lines = vec![
            format!("+ server 5.1 has skins:{room} runtime 17"),
            format!("server 5.4 has skins:{room} runtime 21 flavour plugins"),
            "+ trellis 1".into(),
            "trellis 2 @>=5.2".into(),
        ];
        for (index, (state, releases)) in components.iter().enumerate() {
            for (number, (server, a, b, first, second, amount)) in releases.iter().enumerate() {
                let mark = match (number, state) {
                    (0, 0..=3) => "+ ",
                    (0, 4) => "~ ",
                    (0, 6) => ". ",
                    (1, 5) => "! ",
                    _ => "",
                };
                let mut line = format!("{mark}m{index} {}", number + 1);
                line.push_str(match server {
                    0 => " @<5.4",
                    1 => " @>=5.2",
                    2 => " effect play",
                    _ => "",
                });
                for (kind, other) in [(first, a), (second, b)] {
                    let at = *amount as usize + number;
                    let wanted = format!("m{other}:{}", [">=2", "<3", "*", "2"][at % 4]);
                    let term = match kind {
                        17 => " group g".into(),
                        18..=20 => format!(" takes skins:{amount}"),
                        21 => " !early".into(),
                        22 => " !withdrawn".into(),
                        23 if a != &index && b != &index => format!(" any m{a}:>=2|m{b}"),
                        24..=25 => format!(" framework {}", ["<2", ">=2"][at % 2]),
                        26 => format!(" runtime {}", ["<20", ">=20"][at % 2]),
                        27 => format!(" flavour {}", ["plugins", "wild"][at % 2]),
                        _ if other == &index => String::new(),
                        0..=7 => format!(" needs {wanted}"),
                        8..=11 => format!(" uses {wanted}"),
                        12..=13 => format!(" clashes {wanted}"),
                        14 => format!(" provides m{other}:{amount}"),
                        15 => format!(" replaces m{other}"),
                        16 => format!(" with m{other}"),
                        28..=30 => format!(" holds m{other}:{amount}"),
                        32..=34 => format!(" installed {wanted}"),
                        39..=40 => format!(" admits visor:{}", [">=2", "<3", "*", "2"][at % 4]),
                        35..=36 => format!(" clashes-provided {wanted}"),
                        37..=38 => format!(" uses-provided {wanted}"),
                        31 => format!(" holds m{other}:{amount},x:1/g"),
                        _ => String::new(),
                    };
                    line.push_str(&term);
                }
                lines.push(line);
            }
        }
        (lines.join("\n"), asked)
    })
}

/// Two servers that are asked the same of different small random worlds.
pub(crate) fn two_servers() -> impl Strategy<Value = [Request; 2]> {
    (any_world(), any_world()).prop_map(|(first, second)| {
        let mut both = [first, second].map(|it| with_policy(&it));
        let [first, second] = &mut both;
        second.policy = first.policy.clone();
        second.target = first.target.clone();
        second.keep = first.keep.clone();
        second.drop = first.drop.clone();
        both
    })
}

fn with_policy((text, asked): &(String, Asked)) -> Request {
    let mut request = world(text);
    request.policy.early = asked.early;
    request.policy.untested = asked.untested;
    if asked.several {
        request.target = Target::Within(Range::any());
    }
    if asked.newest {
        request.policy.prefer = Prefer::Newest;
    }
    for (wish, component, number) in &asked.wishes {
        let id = Id::new(&format!("m{component}"));
        match wish {
            0..=1 => request.keep.push((id, Some(version(&number.to_string())))),
            2 => request.keep.push((id, None)),
            3..=4 => {
                request.only.insert(id);
            }
            5 if !request.add.contains(&id) => {
                request.drop.insert(id);
            }
            6 if !request.drop.contains(&id) => {
                request.add.insert(id);
            }
            7 => {
                let players = ClientVersion {
                    client: "visor".into(),
                    version: version(&number.to_string()),
                };
                request.admit.insert(players.wish(), players);
            }
            8 => {
                let at = ["5.1", "5.4"][usize::from(number % 2)];
                let server = Id::new("server");
                request.keep.push((server, Some(version(at))));
            }
            _ => {}
        }
    }
    request
}

fn chosen<'a>(request: &'a Request, selection: &'a Selection) -> BTreeMap<&'a Id, &'a Facts> {
    let facts = |choice: &'a Choice| match choice.offer {
        Some(offer) => &request.offers[offer].facts,
        None => {
            &request
                .held
                .iter()
                .find(|held| held.facts.id == choice.id)
                .unwrap()
                .facts
        }
    };
    selection
        .choices
        .iter()
        .map(|choice| (&choice.id, facts(choice)))
        .collect()
}

proptest! {
    #![proptest_config(at_least(1000))]
    #[test]
    fn it_agrees_with_trying_everything(world in any_world()) {
        let request = with_policy(&world);
        let simple = by_trying(&request);
        match resolve(&request) {
            Ok(selection) => {
                let chosen = chosen(&request, &selection);
                prop_assert!(fits(&request, &chosen), "{}", told(&selection));
                prop_assert!(selection.proved);
                prop_assert_eq!(Some(price(&request, &chosen)), simple, "{}", told(&selection));
                let again = resolve(&request).unwrap();
                prop_assert_eq!(again, selection);
                let mut unproved = request.clone();
                unproved.policy.effort = 0;
                let first = resolve(&unproved).unwrap();
                prop_assert!(fits(&request, &self::chosen(&request, &first)), "{}", told(&first));
            }
            Err(obstacle) => {
                prop_assert_eq!(simple, None, "{}", obstacle.tell(&request));
                prop_assert!(!obstacle.conflicts.is_empty());
                for conflict in &obstacle.conflicts {
                    check_conflict(&request, conflict);
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(at_least(200))]
    #[test]
    fn what_is_saved_is_read_again(world in any_world()) {
        let request = with_policy(&world);
        let notations = crate::version::Notations::default();
        let text = request.to_json(&notations);
        let (again, read) = Request::from_json(&text).unwrap();
        prop_assert_eq!(again.to_json(&read), text);
        // What is written is sorted by id: that is all that differs.
        let sorted = |facts: &Facts| {
            let mut facts = facts.clone();
            let lists = [&mut facts.needs, &mut facts.uses, &mut facts.clashes];
            for needs in lists.into_iter().chain(&mut Arc::make_mut(&mut facts.seldom).needs_any) {
                needs.sort_by(|a, b| a.id.cmp(&b.id));
            }
            facts
        };
        let held = |it: &Request| -> Vec<Facts> { it.held.iter().map(|held| sorted(&held.facts)).collect() };
        let offers = |it: &Request| -> Vec<(Facts, Origin)> {
            it.offers.iter().map(|offer| (sorted(&offer.facts), offer.origin)).collect()
        };
        prop_assert_eq!(held(&again), held(&request));
        prop_assert_eq!(offers(&again), offers(&request));
        prop_assert_eq!(&again.target, &request.target);
        prop_assert_eq!(&again.policy, &request.policy);
        let asked = |it: &Request| (it.keep.clone(), it.only.clone(), it.add.clone(), it.drop.clone());
        prop_assert_eq!(asked(&again), asked(&request));
        let worth = |of: &Request| resolve(of).ok().map(|it| price(of, &chosen(of, &it)));
        prop_assert_eq!(worth(&again), worth(&request));
    }
}

proptest! {
    #![proptest_config(at_least(300))]
    #[test]
    fn what_is_left_out_makes_no_answer_worse(world in any_world()) {
        let request = with_policy(&world);
        let relevant = request.relevant();
        let mut narrow = request.clone();
        Arc::make_mut(&mut narrow.offers).retain(|offer| relevant.contains(&offer.facts.id));
        let worth = |of: &Request| {
            let selection = resolve(of).ok()?;
            Some(price(&request, &chosen(of, &selection)))
        };
        prop_assert_eq!(worth(&narrow), worth(&request));
    }
}

#[test]
fn the_random_worlds_are_worth_it() {
    use proptest::strategy::ValueTree;
    use proptest::test_runner::TestRunner;
    let mut runner = TestRunner::deterministic();
    let (mut solvable, mut stuck) = (0, 0);
    for _ in 0..300 {
        let request = with_policy(&any_world().new_tree(&mut runner).unwrap().current());
        match resolve(&request) {
            Ok(_) => solvable += 1,
            Err(_) => stuck += 1,
        }
    }
    assert!(
        solvable > 60 && stuck > 60,
        "{solvable} solvable, {stuck} not"
    );
}

/// A tangle: components with a few releases each, which need and do not go with one another at random, the same for
/// each seed.
fn tangle(seed: u64, components: u64) -> Request {
    let mut random = dice(seed);
    let mut lines = vec!["+ server 5.1".to_owned(), "server 5.4".into()];
    for component in 0..components {
        let stays = random(10) < 6;
        for release in 1..=4 {
            let mark = if release == 1 && stays { "+ " } else { "" };
            let mut line = format!("{mark}m{component} {release}");
            match (release, random(4)) {
                (1, 0..3) => line.push_str(" @<5.4"),
                (2.., 0) => line.push_str(" @>=5.2"),
                _ => {}
            }
            let mut others = |count: u64, ranges: [&str; 4]| -> String {
                let others = (0..count).map(|_| {
                    let other = (component + 1 + random(components - 1)) % components;
                    format!("m{other}:{}", ranges[random(4) as usize])
                });
                others.collect::<Vec<_>>().join(",")
            };
            let needs = others(1 + release % 2, ["*", "<4", ">=2", ">=2,<4"]);
            let clashes = others(2, ["1", "2", "3", ">=4"]);
            line.push_str(&format!(" needs {needs} clashes {clashes}"));
            lines.push(line);
        }
    }
    world(&lines.join("\n"))
}

#[test]
fn what_takes_too_long_to_boil_down_is_told_as_it_is() {
    let stuck = (1..).map(|seed| dense(seed, 14));
    let mut stuck = stuck.filter(|(_, clashes)| !can_be(clashes, 14, &mut Vec::new()));
    let (mut request, _) = stuck.next().unwrap();
    let all = resolve(&request).unwrap_err();
    assert!(all.conflicts[0].minimal);
    check_conflict(&request, &all.conflicts[0]);
    for (effort, facts) in [(10 * 30_000, 80..300), (0, 14..15)] {
        request.policy.effort = effort;
        let obstacle = resolve(&request).unwrap_err();
        let [conflict] = &obstacle.conflicts[..] else {
            panic!("{obstacle:?}");
        };
        assert!(!conflict.minimal);
        assert!(
            facts.contains(&conflict.facts.len()),
            "{}",
            conflict.facts.len()
        );
        let told = obstacle.tell(&request);
        assert!(told.contains("--all-remedies goes on looking"), "{told}");
    }
}

#[test]
fn what_is_needed_is_there_also_after_wishes_were_found_impossible() {
    let request = world(
        "+ server 5.1\nserver 5.4\nm0 1 @>=5.2 provides m4:2\n+ m1 1 @>=5.2 needs m0:<3 holds m0:1\n+ m2 1 @<5.4 needs m0:<3\n\
         m2 2 @>=5.2 needs m0:2\nm2 3 @>=5.2 needs m4:2 clashes m0:2\n+ m3 1 @>=5.2 clashes m0:2\nm4 1 @<5.4 needs m0:<3\n\
         m4 2 @>=5.2 any m0:>=2|m0 needs m0:*",
    );
    insta::assert_snapshot!(answer(&request), @"server 5.4, m1=, m2 3, m3=, m4 2");
}

#[test]
fn whatever_stands_in_counts_where_it_is_said() {
    let told = |lines: &str| {
        let request = world(&format!("+ server 5.1\nserver 5.4\n{lines}"));
        match resolve(&request) {
            Ok(selection) => told(&selection),
            Err(obstacle) => obstacle.tell(&request),
        }
    };
    let both = [
        "+ drain 1 clashes-provided pump\n+ pump 1",
        "+ drain 1 clashes-provided pump:<2\n+ gate 1 provides pump\ngate 2",
        "+ drain 1 clashes-provided pump:<2\n+ gate 1 provides pump:2",
        "+ drain 1 clashes-provided pump\n+ gate 1 replaces pump",
        "+ drain 1 clashes-provided pump provides pump",
        "+ drain 1 clashes pump\n+ gate 1 provides pump",
        "+ drain 1 uses-provided pump:>=2\n+ gate 1 provides pump:1\ngate 2 provides pump:2",
        "+ drain 1 uses-provided pump:>=2\n+ gate 1 provides pump:1",
        "+ drain 1 uses-provided pump:>=2",
    ];
    let told: Vec<String> = both
        .iter()
        .map(|lines| format!("{lines}\n-> {}", told(lines)))
        .collect();
    insta::assert_snapshot!(told.join("\n\n"), @"
    + drain 1 clashes-provided pump
    + pump 1
    -> drain and pump cannot all be installed on server 5.4:
      drain is installed and must stay.
      drain 1 conflicts with whatever stands in for pump.
      pump is installed and must stay.
      What helps:
      - remove drain (--drop drain)
      - remove pump (--drop pump)

    + drain 1 clashes-provided pump:<2
    + gate 1 provides pump
    gate 2
    -> server 5.4, drain=, gate 2

    + drain 1 clashes-provided pump:<2
    + gate 1 provides pump:2
    -> server 5.4, drain=, gate=

    + drain 1 clashes-provided pump
    + gate 1 replaces pump
    -> drain and gate cannot all be installed on server 5.4:
      drain is installed and must stay.
      drain 1 conflicts with whatever stands in for pump. gate stands in for it.
      gate is installed and must stay.
      What helps:
      - remove drain (--drop drain)
      - remove gate (--drop gate)

    + drain 1 clashes-provided pump provides pump
    -> server 5.4, drain=

    + drain 1 clashes pump
    + gate 1 provides pump
    -> server 5.4, drain=, gate=

    + drain 1 uses-provided pump:>=2
    + gate 1 provides pump:1
    gate 2 provides pump:2
    -> server 5.4, drain=, gate 2

    + drain 1 uses-provided pump:>=2
    + gate 1 provides pump:1
    -> drain and gate cannot all be installed on server 5.4:
      drain is installed and must stay.
      drain 1 works only with whatever stands in for pump >=2. gate stands in for it.
      gate is installed and must stay.
      What helps:
      - remove drain (--drop drain)
      - remove gate (--drop gate)

    + drain 1 uses-provided pump:>=2
    -> server 5.4, drain=
    ");
}

#[test]
fn what_has_no_release_is_there_by_what_replaces_it() {
    let mut request = world("+ server 5.1\nserver 5.4\nlift 1 @<5.4 replaces winch");
    request.target = Target::Within(Range::any());
    request.add.insert(Id::new("winch"));
    insta::assert_snapshot!(answer(&request), @"server=, lift 1");
}

/// Numbers below a bound, the same for the same seed (xorshift).
fn dice(seed: u64) -> impl FnMut(u64) -> u64 {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    move |below| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state % below
    }
}

/// Releases of which many pairs shut each other out: for each pair of components, which do.
type Clashes = BTreeMap<(usize, usize), Vec<(u64, u64)>>;

/// Components with a handful of releases each, of which about one pair in five clashes: near the point at which there is
/// no answer any more.
fn dense(seed: u64, components: usize) -> (Request, Clashes) {
    let mut random = dice(seed);
    let mut clashes = Clashes::new();
    for a in 0..components {
        for b in a + 1..components {
            let pairs = (1..=RELEASES).flat_map(|x| (1..=RELEASES).map(move |y| (x, y)));
            clashes.insert((a, b), pairs.filter(|_| random(100) < 20).collect());
        }
    }
    let mut lines = vec!["+ server 5.4".to_owned()];
    for a in 0..components {
        for x in 1..=RELEASES {
            let pairs = clashes.range((a, 0)..(a + 1, 0));
            let pairs = pairs.flat_map(|((_, b), pairs)| pairs.iter().map(move |it| (b, it)));
            let own = pairs.filter(|(_, (own, _))| *own == x);
            let against: Vec<String> = own.map(|(b, (_, y))| format!("m{b}:{y}")).collect();
            let against = match against.is_empty() {
                true => String::new(),
                false => format!(" clashes {}", against.join(",")),
            };
            lines.push(format!("m{a} {x}{against}"));
        }
    }
    let mut request = world(&lines.join("\n"));
    request.add = (0..components).map(|a| Id::new(&format!("m{a}"))).collect();
    (request, clashes)
}

const RELEASES: u64 = 6;

/// Whether there is an answer, by trying one release after the other.
fn can_be(clashes: &Clashes, components: usize, taken: &mut Vec<u64>) -> bool {
    let own = taken.len();
    own == components
        || (1..=RELEASES).any(|x| {
            let fits = |(other, y): (usize, &u64)| !clashes[&(other, own)].contains(&(*y, x));
            if !taken.iter().enumerate().all(fits) {
                return false;
            }
            taken.push(x);
            let found = can_be(clashes, components, taken);
            taken.pop();
            found
        })
}

/// Hard worlds, so that the search starts anew and forgets, are judged like by trying everything.
#[test]
fn dense_worlds_are_judged_right() {
    let (mut possible, mut forgotten) = (0, 0);
    for seed in 1..=16 {
        let (request, clashes) = dense(seed, 16);
        let model = Model::new(&request);
        let mut search = model.search();
        let (hard, _) = stays(&model, &mut search);
        let found = search.solve(&hard, MOST_STEPS) == Outcome::Found;
        assert_eq!(found, can_be(&clashes, 16, &mut Vec::new()), "seed {seed}");
        possible += usize::from(found);
        forgotten += search.forgotten;
    }
    assert!((4..=12).contains(&possible), "{possible} of 16");
    assert!(forgotten > 100, "{forgotten} forgotten");
}

/// How many newer releases are passed over in the best answer of a dense world, by trying one release after the other.
fn least_passed_over(clashes: &Clashes, components: usize, taken: &mut Vec<u64>) -> Option<u64> {
    let own = taken.len();
    if own == components {
        return Some(taken.iter().map(|x| RELEASES - x).sum());
    }
    let mut least = None;
    for x in 1..=RELEASES {
        let fits = |(other, y): (usize, &u64)| !clashes[&(other, own)].contains(&(*y, x));
        if taken.iter().enumerate().all(fits) {
            taken.push(x);
            let found = least_passed_over(clashes, components, taken);
            least = found.into_iter().chain(least).min();
            taken.pop();
        }
    }
    least
}

/// Where nearly every wish is in the way of another, the best answer is the one that trying everything finds.
#[test]
fn dense_worlds_get_the_best_answer() {
    let mut possible = 0;
    for seed in 1..=40 {
        let (request, clashes) = dense(seed, 11);
        let least = least_passed_over(&clashes, 11, &mut Vec::new());
        let found = resolve(&request).ok().map(|selection| {
            assert!(selection.proved);
            price(&request, &chosen(&request, &selection))[6] as u64
        });
        assert_eq!(found, least, "seed {seed}");
        possible += usize::from(least.is_some());
    }
    assert!(possible > 20, "{possible} of 40");
}

/// The search is the same on every machine, down to its steps: how it chooses, learns and forgets shows in them.
#[test]
fn the_search_takes_the_steps_that_it_takes() {
    let told = (1..=16).map(|seed| {
        let size = if seed > 12 { 34 } else { 12 + 4 * (seed % 6) };
        let mut request = tangle(seed, size);
        request.policy.prefer = if seed % 2 == 0 {
            Prefer::Newest
        } else {
            Prefer::Settled
        };
        let model = Model::new(&request);
        let mut search = model.search();
        let (hard, lost) = stays(&model, &mut search);
        let outcome = search.solve(&hard, MOST_STEPS);
        let first = search.steps;
        if outcome != Outcome::Found {
            return format!("{seed}: no answer after {first}");
        }
        let found = search.answer();
        for lit in &hard {
            search.require(&[*lit]);
        }
        let (found, proof) = best::best(&mut search, &model, found, &lost, EFFORT);
        let selection = selection(&request, &model, &found, true);
        let priced = price(&request, &chosen(&request, &selection));
        format!(
            "{seed}: first after {first}, {proof:?} after {}, at {priced:?}",
            search.steps
        )
    });
    insta::assert_snapshot!(told.collect::<Vec<_>>().join("\n"), @"
    1: no answer after 449
    2: first after 377, Best after 714, at [0, 0, 0, 0, 0, 16, 3]
    3: no answer after 33
    4: no answer after 1053
    5: no answer after 1278
    6: no answer after 222
    7: no answer after 685
    8: no answer after 734
    9: first after 994, Best after 1127, at [0, 0, 0, 0, 0, 23, 25]
    10: no answer after 414
    11: no answer after 933
    12: first after 127, Best after 869, at [0, 0, 0, 0, 0, 5, 1]
    13: no answer after 3075
    14: no answer after 105
    15: no answer after 1066
    16: no answer after 706
    ");
}

/// What cannot be there is told for itself, whoever needs it and is looked at first.
#[test]
fn a_conflict_is_told_of_what_stands_closest_to_its_cause() {
    let request = world(
        "+ amber 1 needs birch
         + birch 1 needs cedar
         + cedar 1 needs gone
         server 5.4",
    );
    insta::assert_snapshot!(answer(&request), @"
    cedar cannot be installed on server 5.4:
      cedar is installed and must stay.
      cedar 1 needs gone. No catalogue or drop folder has it.
      What helps:
      - remove cedar, and what needs it: birch and amber (--drop cedar --drop birch --drop amber)
    ");
    let request = world(
        "+ amber 1 needs lib
         + birch 1 needs cedar
         + cedar 1 needs lib
         lib 1 @<5.4
         server 5.4",
    );
    insta::assert_snapshot!(answer(&request), @"
    amber cannot be installed on server 5.4:
      amber is installed and must stay.
      amber 1 needs lib.
      lib has no release for server 5.4.
      The same stops cedar: cedar 1 needs lib.
      What helps:
      - wait for a release of lib for server 5.4
      - use, untested, what was made for other versions (--allow-untested): lib 1
      - remove amber and cedar, and what needs them: birch (--drop amber --drop cedar --drop birch)
    ");
}

/// Who lets the search go on longer has an answer that is as good, or better.
#[test]
fn more_steps_make_no_answer_worse() {
    let (mut better, mut proved) = (0, 0);
    for seed in 1..=8 {
        let (mut request, _) = dense(seed, 14);
        let mut last = None;
        for effort in (0..8).map(|step| step * step * 2_000) {
            request.policy.effort = effort;
            let Ok(selection) = resolve(&request) else {
                break;
            };
            let now = price(&request, &chosen(&request, &selection));
            if let Some(last) = last {
                assert!(
                    now <= last,
                    "seed {seed}, {effort} steps: {now:?} after {last:?}"
                );
                better += usize::from(now < last);
            }
            proved += usize::from(selection.proved);
            last = Some(now);
        }
    }
    assert!(better > 3 && proved > 8, "{better} better, {proved} proved");
}

fn learned(id: &str, of: &str, other: &str, range_text: &str) -> Learned {
    Learned {
        id: Id::new(id),
        version: version(of),
        on: version("5.4"),
        other: Need {
            id: Id::new(other),
            range: Range::exactly(version(range_text)),
        },
        since: "known here since 4 May 2026".into(),
    }
}

#[test]
fn what_was_seen_not_to_start_is_not_chosen_again() {
    let mut request = world(
        "+ server 5.1
         + clock 1.0 @<5.3
         + gnomon 1.0
         server 5.4
         clock 2.0
         clock 2.1
         gnomon 1.1",
    );
    assert_eq!(answer(&request), "server 5.4, clock 2.1, gnomon=");
    request.learned = vec![learned("clock", "2.1", "gnomon", "1.0")];
    assert_eq!(answer(&request), "server 5.4, clock 2.0, gnomon=");
    // It holds for those versions, and no others.
    request.learned = vec![learned("clock", "2.1", "gnomon", "1.1")];
    assert_eq!(answer(&request), "server 5.4, clock 2.1, gnomon=");
    request.learned = vec![learned("clock", "2.1", "server", "5.4")];
    assert_eq!(answer(&request), "server 5.4, clock 2.0, gnomon=");
    let selection = resolve(&request).unwrap();
    let why = why_not(&request, &selection, &Id::new("clock"), &version("2.1"));
    let WhyNot::Impossible(_, told) = why else {
        panic!("{why:?}");
    };
    assert!(
        told.contains("clock 2.1 does not start on server 5.4: known here since 4 May 2026."),
        "{told}"
    );
    // Nor where the server program is not chosen here.
    request.build_outside = true;
    request.held = Arc::new(
        request
            .held
            .iter()
            .filter(|held| held.facts.kind != Kind::Build)
            .cloned()
            .collect(),
    );
    Arc::make_mut(&mut request.offers).retain(|offer| offer.facts.kind != Kind::Build);
    assert_eq!(answer(&request), "clock 2.0, gnomon=");
    // It is written down with the question.
    let notations = crate::version::Notations::default();
    let (again, _) = Request::from_json(&request.to_json(&notations)).unwrap();
    assert_eq!(again.learned, request.learned);
}

/// What takes the place of something that has to stay is chosen also where nobody looks for better answers, and where each of several could.
#[test]
fn one_of_several_takes_the_place() {
    for (worlds, effort) in [("+ old 1 @<5.4", 0), ("+ old 1 @<5.4", 1_000_000), ("", 0)] {
        let mut request = world(&format!(
            "+ server 5.1\nserver 5.4\n{worlds}\nnew 1 replaces old admits visor:<3\nnew 2 replaces old admits visor:*"
        ));
        request.policy.effort = effort;
        let players = ClientVersion {
            client: "visor".into(),
            version: version("1"),
        };
        request.admit.insert(players.wish(), players);
        let selection = resolve(&request).unwrap();
        assert!(
            fits(&request, &chosen(&request, &selection)),
            "{}",
            told(&selection)
        );
    }
    let text = "+ server 5.1 has skins:3\nserver 5.4 has skins:3\n+ trellis 1\n\
        m0 1 @>=5.2 admits visor:<3\nm0 2 @>=5.2 installed m1:* admits visor:*\nm0 3 @<5.4\n\
        ~ m1 1 @<5.4 needs m0:<3 installed m2:<3";
    let asked = Asked {
        early: false,
        newest: false,
        several: true,
        untested: false,
        wishes: vec![(7, 0, 1)],
    };
    let request = with_policy(&(text.into(), asked));
    let selection = resolve(&request).unwrap();
    let chosen = chosen(&request, &selection);
    assert!(fits(&request, &chosen), "{}", told(&selection));
    assert_eq!(Some(price(&request, &chosen)), by_trying(&request));
}

/// A server program that lies outside is there in the version asked for, for whatever names it.
#[test]
fn what_names_the_server_program_outside_is_held_against_the_target() {
    let outside = |text: &str| {
        let mut request = world(&format!("+ server 5.1\n{text}"));
        request.build_outside = true;
        request.add.insert(Id::new("clock"));
        request
    };
    for (text, chosen) in [
        ("clock 2 needs server:^5.4", "clock 2"),
        ("clock 2 needs server:^6\nclock 1", "clock 1"),
        ("clock 2 any moon|server", "clock 2"),
        ("clock 2 uses server:^6\nclock 1 uses server:^5", "clock 1"),
        (
            "clock 2 clashes server:<6\nclock 1 clashes server:<5",
            "clock 1",
        ),
    ] {
        assert_eq!(answer(&outside(text)), chosen, "{text}");
    }
    let stuck = outside("+ clock 2 needs server:^6");
    let told = resolve(&stuck).unwrap_err().tell(&stuck);
    insta::assert_snapshot!(told, @r#"
    clock cannot be installed on server 5.4:
      clock is installed and must stay.
      clock 2 needs server ^6. The server program, server, is 5.4.
    "#);
}
