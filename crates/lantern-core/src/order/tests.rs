//! Orders arranged and written.

use super::*;
use crate::family::Family;
use crate::family::Pattern;
use proptest::prelude::*;

fn ids(text: &str) -> Vec<Id> {
    text.split_whitespace().map(Id::new).collect()
}

/// `"c<a,b d"`: c follows a and b, d follows nothing.
fn wanted(text: &str) -> BTreeMap<Id, BTreeSet<Id>> {
    let one = |word: &str| {
        let (id, follows) = word.split_once('<').unwrap_or((word, ""));
        let follows = follows.split(',').filter(|f| !f.is_empty()).map(Id::new);
        (Id::new(id), follows.collect())
    };
    text.split_whitespace().map(one).collect()
}

#[test]
fn the_arrangement_changes_no_more_than_it_must() {
    for (wants, current, expected) in [
        ("a b c", "c b a", "c b a"),
        ("a b<c c", "a b c", "a c b"),
        ("a<lib b lib", "a b", "lib a b"),
        ("a b new", "b a", "b a new"),
        ("a<x b", "a b gone", "a b"),
    ] {
        assert_eq!(
            arrange(&wanted(wants), &ids(current)).unwrap(),
            ids(expected),
            "{wants}"
        );
    }
}

#[test]
fn what_comes_before_what_follows_from_every_term() {
    use crate::resolve::tests::facts;
    let told = |texts: &[&str]| {
        let all: Vec<_> = texts.iter().map(|text| facts(text)).collect();
        let told = must_follow(all.iter()).into_iter().map(|(id, follows)| {
            let follows: Vec<&str> = follows.iter().map(Id::as_str).collect();
            format!("{id}<{}", follows.join(","))
        });
        told.collect::<Vec<_>>().join(" ")
    };
    for (texts, expected) in [
        (&["a 1 needs b uses c", "b 1", "c 1"][..], "a<b,c b< c<"),
        (&["a 1 before b", "b 1"], "a< b<a"),
        (&["a 1 after b", "b 1"], "a<b b<"),
        (&["a 1 needs a,gone"], "a<"),
        // Whoever meets the need has to be there first, whatever it is called.
        (&["a 1 needs old", "new 1 provides old"], "a<new new<"),
        (&["a 1 needs old", "new 1 replaces old"], "a<new new<"),
        (
            &["a 1 needs old:2", "new 1 provides old:1", "old 2"],
            "a<old new< old<",
        ),
        (&["a 1 needs b:2", "b 1"], "a<b b<"),
        (&["a 1 before old", "new 1 provides old"], "a< new<a"),
        (&["a 1 needs red", "pack 1 holds red:1"], "a<pack pack<"),
    ] {
        assert_eq!(told(texts), expected, "{texts:?}");
    }
}

#[test]
fn categories_start_what_lies_below_them() {
    let family = crate::tree::tests::FAMILY.replace(
        "write = \"start {id}\"",
        "write = \"start {id}\", categories = [\"mods/*\", \"mods/*/*\"]",
    );
    let rule = Family::parse(&family).unwrap().order.unwrap();
    let arrangement = Arrangement::read(&rule, "start own\nstart outer\nstart inner\n");
    let by = |id: &str, place: &str| {
        let place = RelPath::parse(place).unwrap();
        let entry = arrangement.starter(&rule, &Id::new(id), &place);
        entry.map_or("nothing".to_owned(), |entry| entry.id.to_string())
    };
    assert_eq!(by("own", "mods/outer/inner/own"), "own");
    assert_eq!(by("a", "mods/outer/inner/a"), "inner");
    assert_eq!(by("a", "mods/outer/other/a"), "outer");
    assert_eq!(by("a", "mods/other/a"), "nothing");
    assert_eq!(by("a", "elsewhere/outer/a"), "nothing");
}

#[test]
fn a_list_is_written_in_its_line() {
    let family = crate::tree::tests::FAMILY.replace(
        r#"order = { kind = "sequence", file = "x.conf", line = '^start (?P<id>\S+)', write = "start {id}" }"#,
        r#"order = { kind = "list", file = "x.conf", line = '^mods=(?P<list>.*)$', write = "{id}", between = "; " }"#,
    );
    let rule = Family::parse(&family).unwrap().order.unwrap();
    let text = "# mods\nmods=a; b;;c\nport=1\nmods=again\n";
    let arrangement = Arrangement::read(&rule, text);
    assert_eq!(
        arrangement.ids().cloned().collect::<Vec<_>>(),
        ids("a b c again")
    );
    assert_eq!(
        (arrangement.entries[2].line, arrangement.decides),
        (2, true)
    );
    assert_eq!(
        written(&rule, text, &ids("c a")),
        "# mods\nmods=c; a\nport=1\nmods=again\n"
    );
    assert_eq!(written(&rule, "port=1\n", &ids("a")), "port=1\n");
}

#[test]
fn each_form_says_what_its_pattern_has_to_find() {
    let groups = [OrderKind::Sequence, OrderKind::Flags, OrderKind::List]
        .map(|kind| (kind.form().groups().join(","), kind.form().decides()));
    let expected = [("id", true), ("id,on", false), ("list", true)];
    assert_eq!(
        groups,
        expected.map(|(groups, decides)| (groups.to_owned(), decides))
    );
    let line = |kind: &str| {
        let entries = Arrangement::read(&rule(kind), "\nload_a = true\nstart b\n").entries;
        entries[0].line
    };
    assert_eq!((line("flags"), line("sequence")), (2, 3));
}

#[test]
fn a_value_is_put_in_the_place_of_another() {
    let pattern = r"--lattice (?P<value>\S+)".to_owned();
    let pattern: Pattern = serde_json::from_value(pattern.into()).unwrap();
    let text = "run --lattice 1.8 --quick\r\n# --lattice 1.8\nport = 1\n";
    assert_eq!(
        set_value(&pattern, text, "2.0"),
        "run --lattice 2.0 --quick\r\n# --lattice 2.0\nport = 1\n"
    );
}

#[test]
fn a_ring_is_named() {
    let ring = arrange(&wanted("a<b b<c c<b"), &[]).unwrap_err();
    assert_eq!(ring, Ring(ids("b c")));
}

/// Writes an order; what is not in it goes.
fn written(rule: &OrderRule, text: &str, order: &[Id]) -> String {
    let change = Change {
        order,
        gone: &BTreeSet::new(),
    };
    rule.kind.form().rewritten(rule, text, change)
}

fn rule(kind: &str) -> OrderRule {
    let text = crate::tree::tests::FAMILY;
    let flags = text.replace(
        r#"order = { kind = "sequence", file = "x.conf", line = '^start (?P<id>\S+)', write = "start {id}" }"#,
        r#"order = { kind = "flags", file = "x.conf", line = '^load_(?P<id>\w+) = (?P<on>\w+)', write = "load_{id} = {on}" }"#,
    );
    let text = if kind == "flags" {
        flags
    } else {
        text.to_owned()
    };
    Family::parse(&text).unwrap().order.unwrap()
}

#[test]
fn comments_and_places_stay() {
    let text = "# mine\nname = x\nstart lib\n\n# the bees\nstart bees\nstart old\nport = 1\n";
    let rule = rule("sequence");
    let same = written(&rule, text, &ids("lib bees old"));
    assert_eq!(same, text);
    let new = written(&rule, text, &ids("lib drip bees clock"));
    assert_eq!(
        new,
        "# mine\nname = x\nstart lib\nstart drip\n\n# the bees\nstart bees\nstart clock\nport = 1\n"
    );
    let turned = written(&rule, text, &ids("first bees lib old"));
    assert_eq!(
        turned,
        "# mine\nname = x\nstart first\nstart bees\n\n# the bees\nstart lib\nstart old\nport = 1\n"
    );
    let with_words = "start lib --quick\nstart bees  # buzz\n";
    let turned = written(&rule, with_words, &ids("bees lib"));
    assert_eq!(turned, "start bees  # buzz\nstart lib --quick\n");
    let twice = written(&rule, "start a 1\nstart b\nstart a 2\n", &ids("b a"));
    assert_eq!(twice, "start b\nstart a 1\n");
    let from_nothing = written(&rule, "port = 1\r\n", &ids("a b"));
    assert_eq!(from_nothing, "port = 1\r\nstart a\r\nstart b\r\n");
}

#[test]
fn flags_change_only_where_they_must() {
    let text =
        "game = g\nload_a = true\nload_b = false\nload_c = true\nload_d = mods/d\nload_f = false\n";
    let rule = rule("flags");
    let on: Vec<(String, bool)> = Arrangement::read(&rule, text)
        .entries
        .into_iter()
        .map(|entry| (entry.id.to_string(), entry.on))
        .collect();
    let on: Vec<(&str, bool)> = on.iter().map(|(id, on)| (id.as_str(), *on)).collect();
    assert_eq!(
        on,
        [
            ("a", true),
            ("b", false),
            ("c", true),
            ("d", true),
            ("f", false)
        ]
    );
    let change = Change {
        order: &ids("a b d e"),
        gone: &BTreeSet::from([Id::new("c")]),
    };
    assert_eq!(
        rule.kind.form().rewritten(&rule, text, change),
        "game = g\nload_a = true\nload_b = true\nload_d = mods/d\nload_f = false\nload_e = true\n"
    );
}

#[test]
fn each_line_keeps_its_own_end() {
    let rule = rule("sequence");
    for (text, order, expected) in [
        ("a\r\nstart x\nb", "x y", "a\r\nstart x\nstart y\nb"),
        ("a\nstart x", "x y", "a\nstart x\nstart y\n"),
        ("start x\r\nstart y", "y x", "start y\r\nstart x"),
        ("", "x", "start x\n"),
    ] {
        assert_eq!(written(&rule, text, &ids(order)), expected);
    }
}

proptest! {
    #[test]
    fn every_order_keeps_its_constraints_and_is_written_as_meant(
        edges in proptest::collection::vec((0usize..8, 0usize..8), 0..12),
        current in proptest::collection::vec(0usize..10, 0..10),
    ) {
        let id = |n: usize| Id::new(&format!("m{n}"));
        let mut wants: BTreeMap<Id, BTreeSet<Id>> = (0..8).map(|n| (id(n), BTreeSet::new())).collect();
        for (a, b) in edges.iter().filter(|(a, b)| a > b) {
            wants.get_mut(&id(*a)).unwrap().insert(id(*b));
        }
        let current: Vec<Id> = current.into_iter().map(id).collect();
        let order = arrange(&wants, &current).unwrap();
        prop_assert_eq!(order.len(), wants.len());
        let at = |id: &Id| order.iter().position(|o| o == id).unwrap();
        for (id, follows) in &wants {
            for before in follows {
                prop_assert!(at(before) < at(id));
            }
        }
        let text: String = current.iter().map(|id| format!("start {id}\n# note\n")).collect();
        let written = written(&rule("sequence"), &text, &order);
        let again: Vec<Id> = Arrangement::read(&rule("sequence"), &written).ids().cloned().collect();
        prop_assert_eq!(again, order);
        prop_assert_eq!(written.matches("# note").count(), current.len());
    }
}
