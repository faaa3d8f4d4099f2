use super::*;
use crate::proofs::at_least;
use crate::resolve::tests::{two_servers, world};
use crate::watch::Limits;
use insta::assert_snapshot;
use proptest::prelude::*;

/// The servers `one`, `two` and so on, each with what it has to itself behind a `:`, and what each is asked.
fn asked(worlds: &[(&str, &str)]) -> (Group, Vec<Request>) {
    let names = ["one", "two", "three", "four"];
    let servers = worlds
        .iter()
        .zip(names)
        .map(|((own, _), name)| GroupServer {
            at: name.into(),
            name: None,
            shell: None,
            own: own.split_whitespace().map(Id::new).collect(),
            after: BTreeSet::new(),
        });
    let group = Group {
        together: false,
        at_once: None,
        watch: Limits::default(),
        format: 1,
        name: "all".into(),
        all: BTreeSet::new(),
        servers: servers.collect(),
    };
    (group, worlds.iter().map(|(_, text)| world(text)).collect())
}

fn all(group: &Group) -> Vec<&GroupServer> {
    group.servers.iter().collect()
}

/// The same of another program.
fn of_program(request: &mut Request, id: &str) {
    let (old, new) = (
        std::mem::replace(&mut request.build, Id::new(id)),
        Id::new(id),
    );
    let rename = |facts: &mut Facts| {
        if facts.id == old {
            facts.id = new.clone();
        }
    };
    let held = Arc::make_mut(&mut request.held).iter_mut();
    held.for_each(|held| rename(&mut held.facts));
    let offers = Arc::make_mut(&mut request.offers).iter_mut();
    offers.for_each(|offer| rename(&mut offer.facts));
}

fn told(worlds: &[(&str, &str)]) -> String {
    let (group, asked) = asked(worlds);
    told_of(&group, &asked)
}

fn told_of(group: &Group, asked: &[Request]) -> String {
    match agree(group, asked) {
        Ok(agreed) => {
            let shared = agreed.shared.iter();
            let shared: Vec<String> = shared
                .map(|(id, version)| format!("{id} {version}"))
                .collect();
            format!("{} proved {}", shared.join(", "), agreed.proved)
        }
        Err(Discord::Obstacle { told, apart, .. }) => format!("{told}\napart: {apart:?}"),
        Err(other) => format!("{other:?}"),
    }
}

#[test]
fn one_release_fits_every_server() {
    // By itself, the first would take 3.0, and the second cannot.
    let depot = "server 5.4\nbees 1.0 @<5.4\nbees 2.0 @>=5.4\nbees 3.0 @>=5.4 needs hive:>=2\nhive 1.0\nhive 2.0 clashes moss";
    let one = format!("+ server 5.1\n+ bees 1.0 @<5.4\n{depot}");
    let two = format!("+ server 5.1\n+ bees 1.0 @<5.4\n+ moss 1.0\n{depot}");
    assert_snapshot!(told(&[("", &one), ("", &two)]), @"bees 2.0 proved true");
    assert_snapshot!(told(&[("", &one), ("bees", &two)]), @" proved true");
}

#[test]
fn what_one_has_to_itself_is_left_to_it() {
    let depot = "server 5.4\nbees 2.0 @>=5.4\nbees 3.0 @>=5.4";
    let old = format!("+ server 5.1\n+ bees 1.0 @<5.4\n+ comb 1.0 needs bees:<3\n{depot}");
    let new = format!("+ server 5.1\n+ bees 1.0 @<5.4\n+ wax 1.0 needs bees:>=3\n{depot}");
    assert_snapshot!(told(&[("", &old), ("", &new)]), @r#"
    comb at one and wax at two cannot all be installed on server 5.4:
      comb at one is installed and must stay.
      comb at one 1.0 needs bees at one <3. Known releases: 3.0, 2.0 and 1.0.
      wax at two is installed and must stay.
      wax at two 1.0 needs bees at two >=3. Known releases: 3.0, 2.0 and 1.0.
      bees at one and bees at two must have the same version.
      What helps:
      - remove comb at one (--drop comb)
      - remove wax at two (--drop wax)
    apart: [Id("bees")]
    "#);
    assert_snapshot!(told(&[("bees", &old), ("", &new)]), @" proved true");
}

#[test]
fn frameworks_slots_and_groups_are_each_servers_own() {
    let depot = "server 5.4 has users:1\ntrellis 1.0\ntrellis 2.0";
    let old = format!(
        "+ server 5.1\n+ trellis 1.0\n+ bees 1.0 framework <2 takes users:1 group of\n{depot}"
    );
    let new = format!(
        "+ server 5.1\n+ trellis 2.0\n+ wax 1.0 framework >=2 takes users:1 group of\n{depot}"
    );
    assert_snapshot!(told(&[("trellis", &old), ("", &new)]), @" proved true");
    assert_snapshot!(told(&[("", &old), ("", &new)]), @r#"
    bees at one and wax at two cannot all be installed on server 5.4:
      bees at one is installed and must stay.
      bees at one 1.0 needs the framework at one <2. trellis at one stands in for it.
      wax at two is installed and must stay.
      wax at two 1.0 needs the framework at two >=2. trellis at two stands in for it.
      trellis at one and trellis at two must have the same version.
      What helps:
      - remove bees at one (--drop bees)
      - remove wax at two (--drop wax)
    apart: [Id("trellis")]
    "#);
    let full = format!("{new}\n+ comb 1.0 takes users:1");
    assert_snapshot!(told(&[("trellis", &old), ("", &full)]), @r"
    comb at two and wax at two cannot all be installed on server 5.4:
      comb at two is installed and must stay.
      wax at two is installed and must stay.
      The server is to become 5.4.
      The server has 1 slots for users at two; together these need more: comb at two takes 1, wax at two takes 1.
      What helps:
      - remove comb at two (--drop comb)
      - remove wax at two (--drop wax)
      - server 5.1 instead (--to 5.1)
    apart: []
    ");
}

#[test]
fn who_cannot_be_asked_at_once_is_told() {
    let one = "+ server 5.1\nserver 5.4\nserver 5.5";
    let two = "+ server 5.1\nserver 5.5";
    assert_snapshot!(told(&[("", one), ("", one), ("", two)]), @r#"Builds([(Version("5.4"), [0, 1])])"#);
    let (group, mut other) = asked(&[("", one), ("", two)]);
    other[1].target = Target::One(other[1].held[0].facts.version.clone());
    assert_snapshot!(format!("{:?}", agree(&group, &other).unwrap_err()), @r#"Targets([("5.4", [0]), ("5.1", [1])])"#);
}

#[test]
fn servers_of_several_programs_share_what_both_can_carry() {
    let depot = "server 5.4\nbees 2.0 @>=5.4\nbees 3.0 @>=5.4\nwax 1.0\nwax 2.0";
    let one = format!("+ server 5.1\n+ bees 1.0 @<5.4\n+ wax 1.0\n{depot}");
    let two = format!("+ server 5.1\n+ bees 1.0 @<5.4\n+ comb 1.0 needs bees:<3\n{depot}");
    let both = |own: &str| {
        let (group, mut asked) = asked(&[("", &one), (own, &two), ("", &one)]);
        of_program(&mut asked[1], "gate");
        (told_of(&group, &asked), agree(&group, &asked))
    };
    // What the first program's servers came to does not fit at the other's: so that one is asked first.
    assert_snapshot!(both("").0, @"bees 2.0, wax 1.0 proved false");
    // Apart, each has its own, and what the other program's server does not carry is none of its business.
    let (told, agreed) = both("bees");
    assert_snapshot!(told, @"bees 3.0, wax 1.0 proved true");
    assert_snapshot!(format!("{:?}", agreed.unwrap().at.iter().map(|at| at.len()).collect::<Vec<_>>()), @"[2, 1, 2]");
    let each = |asked: &[Request]| {
        let (group, _) = self::asked(&[("", &one), ("", &two), ("", &one)]);
        let agreed = agree(&group, asked).unwrap();
        let bees = Id::new("bees");
        let each = agreed.at.iter();
        let each = each.map(|at| at.get(&bees).map(ToString::to_string));
        format!("{:?}", each.collect::<Vec<_>>())
    };
    let (_, mut all) = asked(&[("", &one), ("", &two), ("", &one)]);
    of_program(&mut all[1], "gate");
    assert_snapshot!(each(&all), @r#"[Some("2.0"), Some("2.0"), Some("2.0")]"#);
    // Neither way.
    let new = format!("+ server 5.1\n+ bees 1.0 @<5.4\n+ moss 1.0 needs bees:>=3\n{depot}");
    let (group, mut all) = asked(&[("", &new), ("", &two)]);
    of_program(&mut all[1], "gate");
    assert!(matches!(agree(&group, &all), Err(Discord::Behind { .. })));
}

/// That what is agreed on fits each server, and that all of them then have one release of what none has to itself; the first has m4.
fn each_has_one(both: &[Request], agreed: &Agreed) -> Result<(), TestCaseError> {
    let mut found: BTreeMap<Id, BTreeSet<Version>> = BTreeMap::new();
    for (request, pins) in both.iter().zip(&agreed.at) {
        let own = kept_at(request, pins);
        prop_assert!(own.is_some(), "{agreed:?}\n{}", shown(both));
        let choices = own.into_iter().flat_map(|it| it.choices);
        for choice in choices.filter(|it| !is_off(request, &it.id)) {
            found.entry(choice.id).or_default().insert(choice.to);
        }
    }
    found.remove("m4");
    let several = found.values().find(|versions| versions.len() > 1);
    prop_assert!(several.is_none(), "{found:?} {agreed:?}\n{}", shown(both));
    Ok(())
}

proptest! {
    #![proptest_config(at_least(200))]
    #[test]
    fn what_servers_of_two_programs_agree_on_fits_each(mut both in two_servers()) {
        both.iter_mut().for_each(|request| request.only.clear());
        of_program(&mut both[1], "gate");
        let (group, _) = asked(&[("m4", "server 5.4"), ("", "server 5.4")]);
        let Ok(agreed) = agree(&group, &both) else {
            return Ok(());
        };
        each_has_one(&both, &agreed)?;
    }
}

/// Servers that are asked the same are one part: many of them are no harder than one.
#[test]
fn many_servers_that_are_alike_are_one_question() {
    let world = "+ server 5.1\n+ bees 1.0 @<5.4\nserver 5.4\nbees 2.0 @>=5.4";
    let (mut group, asked) = asked(&[("", world), ("", world), ("", world)]);
    assert_eq!(parts(&all(&group), &asked).len(), 1);
    assert_eq!(parts(&all(&group), &asked)[0].name, "one and 2 more");
    let agreed = agree(&group, &asked).unwrap();
    assert!(agreed.at.iter().all(|at| format!("{at:?}").contains("2.0")));
    group.servers[1].own.insert(Id::new("moss"));
    let agreed = agree(&group, &asked).unwrap();
    let told: Vec<String> = agreed.at.iter().map(|at| format!("{at:?}")).collect();
    assert_eq!(told[0], told[1]);
    assert!(
        told[2].contains("bees") && told[2].contains("2.0"),
        "{told:?}"
    );
}

fn is_off(request: &Request, id: &Id) -> bool {
    let mut held = request.held.iter();
    held.any(|it| it.off && it.facts.id == *id)
}

/// What is chosen for a server where some things are kept at versions; none where that cannot be.
fn kept_at(request: &Request, pins: &BTreeMap<Id, Version>) -> Option<Selection> {
    let mut keep = request.keep.clone();
    let mut absent = Vec::new();
    for (id, version) in pins.iter().filter(|(id, _)| !is_off(request, id)) {
        let installed = request.held.iter().find(|it| it.facts.id == *id);
        let installed = installed.map(|it| &it.facts.version);
        // Of two wishes about one component the first counts.
        let wished = request.keep.iter().find(|(kept, _)| kept == id);
        match wished.map(|(_, at)| at.as_ref().or(installed)) {
            Some(at) if at != Some(version) => absent.push(id),
            _ => keep.insert(0, (id.clone(), Some(version.clone()))),
        }
    }
    let request = Request {
        keep,
        ..request.clone()
    };
    let found = resolve(&request).ok()?;
    let mut chosen = found.choices.iter().map(|choice| &choice.id);
    let is_else = chosen.any(|id| absent.contains(&id));
    (!is_else).then_some(found)
}

/// What servers are asked, in short.
fn shown(both: &[Request]) -> String {
    let notations = crate::version::Notations::default();
    let each: Vec<String> = both.iter().map(|it| it.to_json(&notations)).collect();
    each.join("\n")
}

proptest! {
    #![proptest_config(at_least(96))]

    /// What is agreed on is an answer for each, and where there is none, no choice of releases is one for both.
    #[test]
    fn what_is_agreed_on_fits_each_and_nothing_that_fits_is_missed(mut both in two_servers()) {
        both.iter_mut().for_each(|request| request.only.clear());
        let (group, _) = asked(&[("m4", "server 5.4"), ("", "server 5.4")]);
        match agree(&group, &both) {
            Ok(agreed) => {
                each_has_one(&both, &agreed)?;
            }
            Err(Discord::Obstacle { .. }) => {
                let mut versions: BTreeMap<&Id, BTreeSet<&Version>> = BTreeMap::new();
                for request in &both {
                    let held = request.held.iter().map(|it| &it.facts);
                    for facts in held.chain(request.offers.iter().map(|it| &it.facts)) {
                        versions.entry(&facts.id).or_default().insert(&facts.version);
                    }
                }
                versions.remove(&Id::new("m4"));
                let mut chosen = vec![BTreeMap::new()];
                for (id, versions) in versions {
                    let each = |known: &BTreeMap<Id, Version>| -> Vec<_> {
                        let with = versions.iter().map(|version| {
                            let mut known = known.clone();
                            known.insert(id.clone(), (*version).clone());
                            known
                        });
                        with.collect()
                    };
                    chosen = chosen.iter().flat_map(each).collect();
                }
                for pins in chosen {
                    let fits = both.iter().all(|request| kept_at(request, &pins).is_some());
                    prop_assert!(!fits, "{pins:?}\n{}", shown(&both));
                }
            }
            Err(Discord::Builds(_)) => {}
            Err(other) => prop_assert!(false, "{other:?}"),
        }
    }
}
