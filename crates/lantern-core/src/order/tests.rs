//! Orders arranged and written.

use super::*;
use crate::family::Family;
use crate::proofs::at_least;
use crate::text::Text;
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
        let told = must_follow(all.iter(), &[])
            .into_iter()
            .map(|(id, follows)| {
                let follows: Vec<&str> = follows.keys().map(Id::as_str).collect();
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
        let entry = arrangement.starters().of(&rule, &Id::new(id), &place);
        entry.map_or("nothing".to_owned(), |entry| entry.id.to_string())
    };
    assert_eq!(by("own", "mods/outer/inner/own"), "own");
    assert_eq!(by("a", "mods/outer/inner/a"), "inner");
    assert_eq!(by("a", "mods/outer/other/a"), "outer");
    assert_eq!(by("a", "mods/other/a"), "nothing");
    assert_eq!(by("a", "elsewhere/outer/a"), "nothing");
}

#[test]
fn what_is_named_may_be_what_does_not_run() {
    let list = r#"kind = "list", line = '^off=(?P<list>.*)$', write = "{id}""#;
    let lines = r#"kind = "sequence", line = '^no (?P<id>\S+)', write = "no {id}""#;
    let flags = r#"kind = "flags", line = '^(?P<id>\w+)=(?P<on>\w+)', write = "{id}={on}""#;
    let items = r#"kind = "flags", spans = true, line = '\{(?P<id>\w+):\s(?P<on>\w+)\}', write = "{{id}: {on}}""#;
    // What has to run, what has not, what goes; and the text before and after.
    for (rule, text, [runs, off, gone], expected) in [
        (list, "off=b,old\n", ["a c", "b", ""], "off=b,old\n"),
        (list, "off=b,old\n", ["a b c", "", ""], "off=old\n"),
        (list, "off=b,old\n", ["c", "a b", ""], "off=b,old,a\n"),
        (list, "off=b,old\n", ["a", "", "b"], "off=old\n"),
        (list, "off=\n", ["a", "b", ""], "off=b\n"),
        (lines, "# off\nno b\nx\n", ["a b", "", ""], "# off\nx\n"),
        (
            lines,
            "# off\nno b\nx\n",
            ["", "a b", ""],
            "# off\nno b\nno a\nx\n",
        ),
        (lines, "", ["a", "b", ""], "no b\n"),
        (
            flags,
            "a=true\nb=false\n",
            ["a b c", "", ""],
            "a=true\nb=true\n",
        ),
        (flags, "a=true\n", ["", "a b", ""], "a=false\nb=false\n"),
        (flags, "b=false\n", ["a", "", "b"], ""),
        (
            items,
            "[{a: true}]",
            ["c", "a b", ""],
            "[{a: false},{b: false}]",
        ),
    ] {
        let family = crate::tree::tests::FAMILY.replace(
            r#"order = { kind = "sequence", file = "x.conf", line = '^start (?P<id>\S+)', write = "start {id}" }"#,
            &format!(r#"order = {{ file = "x.conf", lists = "off", {rule} }}"#),
        );
        let rule = Family::parse(&family).unwrap().order.unwrap();
        let Keeping::Text(form) = rule.kind.keeping() else {
            unreachable!()
        };
        let (order, off, gone) = (ids(runs), ids(off), ids(gone));
        let change = Change {
            order: &order,
            gone: &gone.into_iter().collect(),
            off: &off.iter().cloned().collect(),
            arguments: &BTreeMap::new(),
            versions: &BTreeMap::new(),
        };
        let new = rewritten(form, &rule, text, change).unwrap();
        assert_eq!(new, expected, "{text:?}, {runs} run, {off:?} are off");
        let read = Arrangement::read(&rule, &new);
        assert!(!read.decides);
        let is_off = |id: &Id| read.entries.iter().any(|it| it.id == *id && !it.on);
        assert!(off.iter().all(is_off) && !order.iter().any(is_off));
    }
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
fn the_items_of_a_list_may_have_blanks_alone_between_them() {
    let rule = serde_json::json!({
        "kind": "list", "file": "x.conf", "line": r"^mods = (?P<list>.*)$", "write": "{id}", "between": " "
    });
    let rule: OrderRule = serde_json::from_value(rule).unwrap();
    let text = "mods = lib  ib bees\n";
    let read = Arrangement::read(&rule, text);
    assert_eq!(read.ids().cloned().collect::<Vec<_>>(), ids("lib ib bees"));
    assert_eq!(written(&rule, text, &ids("lib ib bees")), text);
    assert_eq!(
        written(&rule, text, &ids("new ib bees")),
        "mods = new  ib bees\n"
    );
    assert_eq!(
        written(&rule, "mods = \n", &ids("lib ib")),
        "mods = lib ib\n"
    );
}

/// A list that goes over several lines, of items in quotes, is written as it was.
#[test]
fn a_list_in_brackets_is_written_as_it_was() {
    let rule = serde_json::json!({
        "kind": "list", "file": "x.json", "line": r#"^\s*"mods":\s*\[(?P<list>[^\]]*)\]"#, "spans": true,
        "write": r#""{id}""#, "between": ", "
    });
    let rule: OrderRule = serde_json::from_value(rule).unwrap();
    let lines = "{\n  \"mods\": [\n    \"lib\",\n    \"bees\"\n  ],\n  \"port\": 7\n}\n";
    let one = "{ \"port\": 7,\n \"mods\": [ \"lib\",\"bees\" ] }\n";
    let only = "{\r\n  \"mods\": [\r\n    \"lib\"\r\n  ]\r\n}\r\n";
    let none = "{ \"port\": 7,\n \"mods\": [] }\n";
    for (text, entries, order, expected) in [
        (lines, "3 lib, 4 bees", "lib bees", lines.to_owned()),
        (
            lines,
            "3 lib, 4 bees",
            "lib clock bees",
            lines.replace("lib\",\n", "lib\",\n    \"clock\",\n"),
        ),
        (
            lines,
            "3 lib, 4 bees",
            "bees",
            lines.replace("    \"lib\",\n", ""),
        ),
        (
            lines,
            "3 lib, 4 bees",
            "",
            lines.replace("\n    \"lib\",\n    \"bees\"\n  ", ""),
        ),
        (
            one,
            "2 lib, 2 bees",
            "bees lib clock",
            one.replace("\"lib\",\"bees\"", "\"bees\",\"lib\",\"clock\""),
        ),
        (
            only,
            "3 lib",
            "lib bees",
            only.replace("lib\"", "lib\",\r\n    \"bees\""),
        ),
        (
            none,
            "",
            "lib bees",
            none.replace("[]", "[\"lib\", \"bees\"]"),
        ),
    ] {
        let read = Arrangement::read(&rule, text);
        let read = read
            .entries
            .iter()
            .map(|it| format!("{} {}", it.line, it.id));
        assert_eq!(read.collect::<Vec<_>>().join(", "), entries, "{text}");
        assert_eq!(written(&rule, text, &ids(order)), expected, "{order}");
    }
}

/// Lines that state their turn are numbered anew where that changes, and only then.
#[test]
fn lines_may_be_numbered() {
    let rule = serde_json::json!({
        "kind": "sequence", "file": "x.ini", "line": r"^mod(?P<at>\d+)\s*=\s*(?P<id>\w+)", "write": "mod{at} = {id}",
        "parked": "; {line}",
    });
    let rule: OrderRule = serde_json::from_value(rule).unwrap();
    let three = "[mods]\r\nmod1=lib ; first\r\nmod2=bees\r\nmod3=fern\r\nport=7\r\n";
    for (text, order, off, expected) in [
        (three, "lib bees fern", "", three),
        (
            three,
            "lib bees fern moss",
            "",
            "[mods]\r\nmod1=lib ; first\r\nmod2=bees\r\nmod3=fern\r\nmod4 = moss\r\nport=7\r\n",
        ),
        (
            three,
            "moss lib fern",
            "bees",
            "[mods]\r\nmod1 = moss\r\nmod2=lib ; first\r\n; mod2=bees\r\nmod3=fern\r\nport=7\r\n",
        ),
        // By their numbers, wherever they stand.
        (
            "mod1=bees\nmod0=lib\n",
            "lib bees",
            "",
            "mod1=bees\nmod0=lib\n",
        ),
        (
            "mod1=bees\nmod0=lib\n",
            "lib fern bees",
            "",
            "mod0=lib\nmod1 = fern\nmod2=bees\n",
        ),
        (
            "mod08=lib\nmod09=bees\n",
            "bees fern",
            "",
            "mod08=bees\nmod09 = fern\n",
        ),
        (
            "mod08=lib\nmod09=bees\n",
            "lib bees fern",
            "",
            "mod08=lib\nmod09=bees\nmod10 = fern\n",
        ),
        // Where there were gaps before, there may be one.
        (
            "mod1=lib\nmod5=bees\nmod9=fern\n",
            "lib fern",
            "",
            "mod1=lib\nmod9=fern\n",
        ),
        (
            "mod1=lib\nmod5=bees\nmod9=fern\n",
            "lib moss fern",
            "",
            "mod1=lib\nmod2 = moss\nmod3=fern\n",
        ),
        (
            "port=7\n",
            "lib bees",
            "",
            "port=7\nmod1 = lib\nmod2 = bees\n",
        ),
        // What goes by the number, too, would come to another one's.
        (
            "mod1=lib\nmod2=bees\nmod2.size = 3\n",
            "lib bees fern",
            "",
            "mod1=lib\nmod2=bees\nmod3 = fern\nmod2.size = 3\n",
        ),
        (
            "mod1=lib\nmod2=bees\nmod2.size = 3\n",
            "bees",
            "",
            "refused",
        ),
    ] {
        let (order, off) = (ids(order), ids(off));
        let change = Change {
            order: &order,
            gone: &BTreeSet::new(),
            off: &off.into_iter().collect(),
            arguments: &BTreeMap::new(),
            versions: &BTreeMap::new(),
        };
        let became = rewritten(form(rule.kind), &rule, text, change);
        assert_eq!(
            became.as_deref().unwrap_or("refused"),
            expected,
            "{text}{order:?}"
        );
    }
}

/// Tables in a list that say of an add-on whether it is on, in a line each or over several.
#[test]
fn flags_may_stand_in_items_that_go_over_several_lines() {
    let rule = serde_json::json!({
        "kind": "flags", "file": "x.json", "spans": true,
        "line": r#"\{\s*"name":\s*"(?P<id>[^"]+)",\s*"enabled":\s*(?P<on>\w+)\s*\}"#,
        "write": r#"{ "name": "{id}", "enabled": {on} }"#,
    });
    let rule: OrderRule = serde_json::from_value(rule).unwrap();
    let item = |id: &str, on: bool| format!("{{\n  \"name\": \"{id}\",\n  \"enabled\": {on}\n }}");
    let new = |id: &str| format!("{{ \"name\": \"{id}\", \"enabled\": true }}");
    let text_of = |items: &[String]| {
        format!(
            "{{ \"mods\": [\n {}\n], \"port\": 7 }}\n",
            items.join(",\n ")
        )
    };
    let (lib, bees) = (item("lib", true), item("bees", false));
    let three = text_of(&[lib.clone(), bees.clone(), item("fern", true)]);
    let read = Arrangement::read(&rule, &three);
    let read = read
        .entries
        .iter()
        .map(|it| format!("{} {} {}", it.line, it.id, it.on));
    assert_eq!(
        read.collect::<Vec<_>>().join(", "),
        "3 lib true, 7 bees false, 11 fern true"
    );
    let only = text_of(&[item("fern", true)]);
    let line = "[{\"name\":\"lib\",\"enabled\":true}]";
    for (text, on, off, gone, expected) in [
        (&*three, "lib fern", "bees", "", three.clone()),
        // Whether it is on, and nothing else.
        (
            &three,
            "bees fern",
            "lib",
            "",
            text_of(&[item("lib", false), item("bees", true), item("fern", true)]),
        ),
        (&three, "fern", "", "lib bees", only.clone()),
        (
            &three,
            "lib",
            "",
            "bees fern",
            text_of(std::slice::from_ref(&lib)),
        ),
        (
            &three,
            "",
            "",
            "lib bees fern",
            "{ \"mods\": [\n], \"port\": 7 }\n".into(),
        ),
        (
            &three,
            "lib clock moss",
            "bees",
            "fern",
            text_of(&[lib.clone(), bees.clone(), new("clock"), new("moss")]),
        ),
        (
            &only,
            "fern moss",
            "",
            "",
            text_of(&[item("fern", true), new("moss")]),
        ),
        (
            line,
            "lib moss",
            "",
            "",
            line.replace("}]", &format!("}},{}]", new("moss"))),
        ),
    ] {
        let (order, off, gone) = (ids(on), ids(off), ids(gone));
        let change = Change {
            order: &order,
            gone: &gone.into_iter().collect(),
            off: &off.into_iter().collect(),
            arguments: &BTreeMap::new(),
            versions: &BTreeMap::new(),
        };
        let became = rewritten(form(rule.kind), &rule, text, change).unwrap();
        assert_eq!(became, expected, "{on}");
    }
    // Where no item stands, nobody knows where one would.
    let order = ids("lib");
    let change = Change {
        order: &order,
        gone: &BTreeSet::new(),
        off: &BTreeSet::new(),
        arguments: &BTreeMap::new(),
        versions: &BTreeMap::new(),
    };
    let astray = rewritten(form(rule.kind), &rule, "{ \"mods\": [] }", change);
    assert_eq!(astray, Err(Unread(Id::new("lib"))));
}

#[test]
fn each_form_says_what_its_pattern_has_to_find() {
    let groups = [OrderKind::Sequence, OrderKind::Flags, OrderKind::List]
        .map(|kind| (kind.groups().join(","), form(kind).decides()));
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
fn a_ring_is_named() {
    let ring = arrange(&wanted("a<b b<c c<b"), &[]).unwrap_err();
    assert_eq!(ring, Ring(ids("b c")));
}

#[test]
fn a_circle_is_told_as_a_story_and_its_weakest_link_gives_way() {
    use crate::resolve::tests::facts;
    let told = |texts: &[&str], stated: &[(Id, Id)]| {
        let all: Vec<_> = texts.iter().map(|text| facts(text)).collect();
        match without_circles(must_follow(all.iter(), stated)) {
            Err(circle) => circle.to_string(),
            Ok((_, gave_way)) => {
                let gave_way = gave_way.iter().map(|link| format!("gives way: {link}"));
                gave_way.collect::<Vec<_>>().join("\n")
            }
        }
    };
    let needs = ["a 1 needs b:^1", "b 1 after c", "c 1 needs a"];
    assert_eq!(
        told(&needs, &[]),
        "none of these can be started first: a needs b ^1; b says that it starts after c; c needs a"
    );
    let uses = ["a 1 needs b", "b 1 uses c", "c 1 needs a"];
    assert_eq!(told(&uses, &[]), "gives way: b works with c");
    let stated = [(Id::new("a"), Id::new("b"))];
    assert_eq!(
        told(&["a 1 uses b", "b 1"], &stated),
        "gives way: a works with b"
    );
    // The stronger reason of two is the one that counts.
    assert_eq!(
        told(
            &["a 1 needs b uses b", "b 1 before c", "c 1 before a"],
            &[(Id::new("a"), Id::new("c"))]
        ),
        "none of these can be started first: c says that it starts before a; lantern.toml says that c starts after a"
    );
    assert_eq!(told(&["a 1 needs b", "b 1"], &[]), "");
}

fn form(kind: OrderKind) -> &'static dyn Form {
    match kind.keeping() {
        Keeping::Text(form) => form,
        Keeping::Names => panic!("names are no text"),
    }
}

proptest! {
    #![proptest_config(at_least(256))]

    /// Only what is taken into account gives way, no circle remains, and a circle is one.
    #[test]
    fn circles_are_opened_at_their_weakest_links(links in proptest::collection::vec((0..5u8, 0..5u8, 0..3u8), 0..10)) {
        let id = |n: u8| Id::new(&format!("x{n}"));
        let mut follows: Follows = (0..5).map(|n| (id(n), BTreeMap::new())).collect();
        for (later, first, why) in links.into_iter().filter(|(later, first, _)| later != first) {
            let why = match why {
                0 => Why::Needs("*".into()),
                1 => Why::SaysAfter,
                _ => Why::Uses("*".into()),
            };
            follows.get_mut(&id(later)).unwrap().insert(id(first), why);
        }
        let sets = |follows: &Follows| -> BTreeMap<Id, BTreeSet<Id>> {
            follows.iter().map(|(id, firsts)| (id.clone(), firsts.keys().cloned().collect())).collect()
        };
        let is_weak = |why: &Why| matches!(why, Why::Uses(_));
        match without_circles(follows.clone()) {
            Ok((rest, gave_way)) => {
                prop_assert!(arrange(&sets(&rest), &[]).is_ok());
                prop_assert!(gave_way.iter().all(|link| is_weak(&link.why)));
                let left: usize = rest.values().map(BTreeMap::len).sum();
                let all: usize = follows.values().map(BTreeMap::len).sum();
                prop_assert_eq!(left + gave_way.len(), all);
            }
            Err(Circle(links)) => {
                prop_assert!(links.iter().all(|link| !is_weak(&link.why)));
                let next = links.iter().cycle().skip(1);
                prop_assert!(links.iter().zip(next).all(|(link, next)| link.first == next.later));
                // Without all that may give way, there is a circle still.
                for firsts in follows.values_mut() {
                    firsts.retain(|_, why| !is_weak(why));
                }
                prop_assert!(arrange(&sets(&follows), &[]).is_err());
            }
        }
    }
}

/// Writes an order; what is not in it goes.
fn written(rule: &OrderRule, text: &str, order: &[Id]) -> String {
    let change = Change {
        order,
        gone: &BTreeSet::new(),
        off: &BTreeSet::new(),
        arguments: &BTreeMap::new(),
        versions: &BTreeMap::new(),
    };
    form(rule.kind).rewritten(rule, text, change)
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
        "# mine\nname = x\n\nstart first\n# the bees\nstart bees\nstart lib\nstart old\nport = 1\n"
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
fn what_is_switched_off_is_parked_and_comes_back_as_it_was() {
    let rule = OrderRule {
        parked: Some("; {line}".into()),
        write_with: Some("start {id} {arguments}".into()),
        ..rule("sequence")
    };
    let text = "start a  --loud\nport = 1\nstart b 2\nstart c\n";
    let changed = |text: &str, order: &str, off: &str, gone: &str| {
        let set = |ids: Vec<Id>| ids.into_iter().collect::<BTreeSet<Id>>();
        let change = Change {
            order: &ids(order),
            gone: &set(ids(gone)),
            off: &set(ids(off)),
            arguments: &BTreeMap::from([(Id::new("d"), "x=1".into()), (Id::new("a"), "no".into())]),
            versions: &BTreeMap::new(),
        };
        rewritten(form(rule.kind), &rule, text, change).unwrap()
    };
    let off = changed(text, "b", "a", "c");
    assert_eq!(off, "; start a  --loud\nport = 1\nstart b 2\n");
    let read = Arrangement::read(&rule, &off);
    let read: Vec<(&str, bool)> = read
        .entries
        .iter()
        .map(|it| (it.id.as_str(), it.on))
        .collect();
    assert_eq!(read, [("a", false), ("b", true)]);
    let on = changed(&off, "a b d", "", "");
    assert_eq!(on, "port = 1\nstart a  --loud\nstart b 2\nstart d x=1\n");
    // What only looks like a parked line, and what is started all the same, stays.
    let same = "; start of the list\n; start a\nstart a\n";
    assert_eq!(changed(same, "a", "", ""), same);
}

#[test]
fn one_of_many_is_exchanged_where_it_is_named() {
    let rule = OrderRule {
        kind: OrderKind::One,
        ..rule("sequence")
    };
    let text = "start old\nport = 1\nstart b  # mine\n";
    assert_eq!(written(&rule, text, &ids("b")), text);
    assert_eq!(written(&rule, text, &[]), text);
    assert_eq!(
        written(&rule, text, &ids("c")),
        "start old\nport = 1\nstart c  # mine\n"
    );
    assert_eq!(
        written(&rule, "port = 1\n", &ids("c")),
        "port = 1\nstart c\n"
    );
}

#[test]
fn flags_change_only_where_they_must() {
    let text = "game = g\nload_a = true\nload_a2 = true # why\nload_b = false\nload_c = true\nload_d = mods/d\nload_f = false\n";
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
            ("a2", true),
            ("b", false),
            ("c", true),
            ("d", true),
            ("f", false)
        ]
    );
    let change = Change {
        order: &ids("a b d e"),
        gone: &BTreeSet::from([Id::new("c")]),
        off: &BTreeSet::from([Id::new("f"), Id::new("a2")]),
        arguments: &BTreeMap::new(),
        versions: &BTreeMap::new(),
    };
    assert_eq!(
        form(rule.kind).rewritten(&rule, text, change),
        "game = g\nload_a = true\nload_a2 = false # why\nload_b = true\nload_d = mods/d\nload_f = false\nload_e = true\n"
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

fn names_rule() -> OrderRule {
    let text = r#"{ "kind": "names", "file": "addons/*", "line": "^(?P<at>\\d+)-(?P<name>.+)$", "write": "{at}-{name}" }"#;
    serde_json::from_str(text).unwrap()
}

/// Add-ons in order: `10-fern` is there under that name, `+moss` comes.
fn named(text: &str) -> Vec<Named> {
    let each = text.split_whitespace().map(|word| {
        let (is_there, name) = match word.strip_prefix('+') {
            Some(name) => (false, name),
            None => (true, word),
        };
        Named {
            id: Id::new(name.rsplit('-').next().unwrap()),
            name: name.into(),
            is_there,
        }
    });
    each.collect()
}

fn names_after(order: &[Named]) -> Vec<String> {
    let names = renamed(&names_rule(), order);
    order.iter().map(|it| names[&it.id].clone()).collect()
}

#[test]
fn as_few_names_as_can_be_change() {
    let cases = [
        // What is in order stays as it is, numbered or not.
        ("10-a 20-b 30-c", "10-a 20-b 30-c"),
        ("a b c", "a b c"),
        // One that comes gets a number between its neighbours, or behind them; a name in order needs none.
        ("10-a +x 20-b", "10-a 15-x 20-b"),
        ("10-a 20-b +x", "10-a 20-b x"),
        ("b +a", "50-b a"),
        ("+x 10-a", "05-x 10-a"),
        // Where there is no room, the neighbour that costs least makes some.
        ("10-a +x 11-b 30-c", "10-a 17-x 23-b 30-c"),
        // The one that stands wrong moves, not the others.
        ("30-c 10-a 20-b 40-d", "05-c 10-a 20-b 40-d"),
        ("10-a 40-d 20-b 30-c", "10-a 15-d 20-b 30-c"),
        // Numbers keep their length; what has another is numbered anew.
        ("001-a 5-b 003-c", "001-a 002-b 003-c"),
        ("9-a 8-b +c", "4-a 8-b c"),
        ("98-a 99-b 3d-c", "10-a 20-b 30-3d-c"),
    ];
    for (order, expected) in cases {
        assert_eq!(names_after(&named(order)).join(" "), expected, "{order}");
    }
    let many: Vec<Named> = (0..120)
        .map(|n| Named {
            id: Id::new(&format!("m{n}")),
            name: format!("{:02}-m{n}", 99 - n % 99),
            is_there: true,
        })
        .collect();
    let after = names_after(&many);
    assert!(after.is_sorted() && after[0].starts_with("0"), "{after:?}");
    let rule = names_rule();
    assert_eq!(succeeding(&rule, "20-fern-1.0", "fern-2.0"), "20-fern-2.0");
    assert_eq!(succeeding(&rule, "20-fern", "00-fern"), "20-fern");
    assert_eq!(succeeding(&rule, "fern", "fern-2"), "fern-2");
}

proptest! {
    #![proptest_config(at_least(500))]
    #[test]
    fn no_other_way_renames_fewer(
        numbers in proptest::collection::vec((0_usize..14, any::<bool>()), 1..7),
    ) {
        // With none that is numbered, numbers have two digits.
        prop_assume!(numbers.iter().any(|(number, _)| *number < 10));
        let order: Vec<Named> = numbers
            .iter()
            .zip('a'..)
            .map(|((number, is_there), letter)| Named {
                id: Id::new(&letter.to_string()),
                name: match number {
                    0..10 => format!("{number}-{letter}"),
                    _ => letter.to_string(),
                },
                is_there: *is_there,
            })
            .collect();
        let after = names_after(&order);
        prop_assert!(after.is_sorted(), "{after:?}");
        let stay = |it: &Named, name: &String| it.is_there && it.name == *name;
        let kept = order.iter().zip(&after).filter(|(it, name)| stay(it, name)).count();
        let most = (0_u32..1 << order.len()).filter_map(|set| kept_by_hand(&order, set)).max();
        prop_assert_eq!(Some(kept), most, "{:?}", after);
    }
}

/// How many that are there keep their names when just those of a set do, and the others take the next free numbers
/// of one digit, which nothing else has; none where there are not enough.
fn kept_by_hand(order: &[Named], set: u32) -> Option<usize> {
    let mut last = String::new();
    let (mut kept, mut was_kept) = (0, false);
    for (at, it) in order.iter().enumerate() {
        let keeps = set & (1 << at) != 0;
        let number = it.name.starts_with(|c: char| c.is_ascii_digit());
        let next = match keeps {
            true => it.name.clone(),
            false => {
                let stem = if number { &it.name[2..] } else { &it.name };
                let mut names = (0..10).map(|n| format!("{n}-{stem}"));
                names.find(|name| last.is_empty() || number_of(name) > number_of(&last))?
            }
        };
        let shares = was_kept && keeps || last.is_empty() || number_of(&next) > number_of(&last);
        if next <= last || !shares {
            return None;
        }
        was_kept = keeps;
        kept += usize::from(keeps && it.is_there);
        last = next;
    }
    Some(kept)
}

fn number_of(name: &str) -> u32 {
    let first = name.chars().next().unwrap_or('0');
    first.to_digit(10).unwrap_or(10)
}

/// How many entries of one order stand in another one in the same turn.
fn kept(before: &[Id], after: &[Id]) -> usize {
    let mut best = vec![vec![0; after.len() + 1]; before.len() + 1];
    for (i, a) in before.iter().enumerate() {
        for (j, b) in after.iter().enumerate() {
            best[i + 1][j + 1] = match a == b {
                true => best[i][j] + 1,
                false => best[i][j + 1].max(best[i + 1][j]),
            };
        }
    }
    best[before.len()][after.len()]
}

/// The most entries that any order keeps in turn that holds to all that is wanted, found by trying each.
fn most_kept(wants: &BTreeMap<Id, BTreeSet<Id>>, current: &[Id], begun: &mut Vec<Id>) -> usize {
    if begun.len() == wants.len() {
        return kept(current, begun);
    }
    let mut most = 0;
    for (id, firsts) in wants {
        if begun.contains(id) || !firsts.iter().all(|first| begun.contains(first)) {
            continue;
        }
        begun.push(id.clone());
        most = most.max(most_kept(wants, current, begun));
        begun.pop();
    }
    most
}

proptest! {
    #![proptest_config(at_least(500))]
    #[test]
    fn no_other_order_moves_fewer_entries(
        edges in proptest::collection::vec((0_usize..6, 0_usize..6), 0..9),
        current in Just((0..6).collect::<Vec<usize>>()).prop_shuffle(),
        new in 0_usize..3,
    ) {
        let id = |n: usize| Id::new(&format!("m{n}"));
        let mut wants: BTreeMap<Id, BTreeSet<Id>> = (0..6).map(|n| (id(n), BTreeSet::new())).collect();
        for (a, b) in edges.iter().filter(|(a, b)| a > b) {
            wants.get_mut(&id(*a)).unwrap().insert(id(*b));
        }
        let current: Vec<Id> = current.into_iter().skip(new).map(id).collect();
        let order = arrange(&wants, &current).unwrap();
        prop_assert_eq!(
            kept(&current, &order),
            most_kept(&wants, &current, &mut Vec::new()),
            "{:?} became {:?}", current, order
        );
    }

    /// Any text in any form, any change of it: applied and taken back, it is the same, byte for byte.
    #[test]
    fn a_change_of_any_order_file_can_be_taken_back(
        rows in proptest::collection::vec((0_usize..11, 0_usize..7), 0..9),
        end in prop::sample::select(vec!["\n", "\r\n", "\r\r\n"]),
        ends_open in any::<bool>(),
        mark in any::<bool>(),
        form in prop::sample::select(vec!["sequence", "numbers", "flags", "items", "list", "lists", "one"]),
        order in Just((0..7).collect::<Vec<usize>>()).prop_shuffle(),
        running in 1_usize..7,
    ) {
        let id = |n: usize| Id::new(&format!("m{n}"));
        let (line, write) = match form {
            "flags" => (r"^(?P<id>m\d) = (?P<on>\w+)", "{id} = {on}"),
            "items" => (r"^(?P<id>m\d)\s*=\s*(?P<on>\w+)", "{id} = {on}"),
            "numbers" => (r"^(?P<id>m\d) = (?P<at>\d+)", "{id} = {at}"),
            "list" => (r"^mods = (?P<list>\S*)", "{id}"),
            "lists" => (r"^mods = (?P<list>[\w,\s]*)", "{id}"),
            _ => (r"^\s*start (?P<id>m\d)", "start {id}"),
        };
        let (kind, spans) = match form {
            "lists" => ("list", true),
            "items" => ("flags", true),
            "numbers" => ("sequence", false),
            form => (form, false),
        };
        let rule = serde_json::json!({ "kind": kind, "file": "x.conf", "line": line, "write": write, "spans": spans });
        let rule: OrderRule = serde_json::from_value(rule).unwrap();
        let row = |(kind, n): &(usize, usize)| match kind {
            0 => "  # a word of mine".to_owned(),
            1 => String::new(),
            2 => format!("start m{n}  "),
            3 => format!("\tstart m{n}"),
            4 => format!("m{n} = true"),
            5 => format!("m{n} = no   # why"),
            6 => format!("mods = m{n},m0"),
            7 => format!("# start m{n}"),
            8 => format!("m{n} ={end}no"),
            9 => format!("m{n} = {}", 7 - n),
            _ => format!("other {n}"),
        };
        let rows: Vec<String> = rows.iter().map(row).collect();
        let mut text = rows.join(end);
        if !ends_open {
            text.push_str(end);
        }
        let bytes = [if mark { &b"\xef\xbb\xbf"[..] } else { b"" }, text.as_bytes()].concat();
        let text = Text::read(&bytes);
        let order: Vec<Id> = order.into_iter().take(running).map(id).collect();
        let off = (0..7).map(id).filter(|id| !order.contains(id)).collect();
        let change = Change { order: &order, gone: &BTreeSet::new(), off: &off, arguments: &BTreeMap::new(), versions: &BTreeMap::new() };
        let Keeping::Text(form) = rule.kind.keeping() else {
            unreachable!("all of these stand in a text")
        };
        let Ok(new) = rewritten(form, &rule, text.as_str(), change) else {
            return Ok(());
        };
        let lines = crate::text::changes(text.as_str(), &new);
        let there = text.changed(&lines).unwrap();
        prop_assert_eq!(there.as_str(), new.as_str());
        let back = there.changed(&crate::text::reversed(&lines)).unwrap();
        prop_assert_eq!(back.bytes(), bytes);
    }
}

fn with_includes() -> OrderRule {
    let rule = serde_json::json!({
        "kind": "sequence", "file": "main.cfg", "line": r"^\s*start (?P<id>\w+)", "write": "start {id}",
        "includes": r#"^read "?(?P<file>[^"]+)"?$"#
    });
    serde_json::from_value(rule).unwrap()
}

/// Reads a load order from named texts; a name that ends in `/` stands for all texts below it.
fn order_in(files: &[(&str, &str)]) -> OrderText {
    let path = |text: &str| RelPath::parse(text).unwrap();
    let mut named = |_: &RelPath, name: &str| {
        let those = files.iter().filter(|(file, _)| match name.ends_with('/') {
            true => file.starts_with(name),
            false => *file == name,
        });
        those
            .map(|(file, text)| (path(file), Text::read(text.as_bytes())))
            .collect()
    };
    let (first, text) = files[0];
    OrderText::read(
        &with_includes(),
        path(first),
        Text::read(text.as_bytes()),
        &mut named,
    )
}

#[test]
fn an_order_over_several_files_is_changed_where_it_stands() {
    let files = [
        (
            "main.cfg",
            "# mine\nstart lib\nread \"more.cfg\"\nstart last\nread parts/\n",
        ),
        (
            "more.cfg",
            "start bees\r\n# of the bees\r\nread main.cfg\r\nstart honey",
        ),
        ("parts/a.cfg", "start ants\n"),
        ("parts/b.cfg", "start beetles\n"),
    ];
    let order = order_in(&files);
    let arrangement = Arrangement::read(&with_includes(), order.as_str());
    let told: Vec<String> = arrangement
        .entries
        .iter()
        .map(|entry| {
            let (path, line) = order.place(entry.line);
            format!("{} {path}:{line}", entry.id)
        })
        .collect();
    insta::assert_snapshot!(told.join("\n"), @"
    lib main.cfg:2
    bees more.cfg:1
    honey more.cfg:4
    last main.cfg:4
    ants parts/a.cfg:1
    beetles parts/b.cfg:1
    ");
    let change = |ids: &str| {
        let ids = self::ids(ids);
        let change = Change {
            order: &ids,
            gone: &BTreeSet::new(),
            off: &BTreeSet::new(),
            arguments: &BTreeMap::new(),
            versions: &BTreeMap::new(),
        };
        let form = form(OrderKind::Sequence);
        let new = rewritten(form, &with_includes(), order.as_str(), change).unwrap();
        let files = order.rewritten(&with_includes(), &new).unwrap();
        let texts = files.into_iter().filter(|(path, new)| {
            let (_, now) = order.files().find(|(known, _)| known == path).unwrap();
            now.as_str() != new
        });
        texts
            .map(|(path, text)| format!("{path}: {text:?}"))
            .collect::<Vec<_>>()
            .join("\n")
    };
    assert_eq!(change("lib bees honey last ants beetles"), "");
    insta::assert_snapshot!(change("lib bees wasps honey last ants beetles new"), @r#"
    more.cfg: "start bees\r\nstart wasps\r\n# of the bees\r\nread main.cfg\r\nstart honey"
    parts/b.cfg: "start beetles\nstart new\n"
    "#);
    insta::assert_snapshot!(change("lib honey bees last beetles"), @r##"
    more.cfg: "# of the bees\r\nread main.cfg\r\nstart honey\nstart bees"
    parts/a.cfg: ""
    "##);
}

proptest! {
    #![proptest_config(at_least(300))]
    #[test]
    fn any_order_over_files_says_what_was_asked_and_no_more_changes(
        rows in proptest::collection::vec((0_usize..3, 0_usize..8), 0..14),
        order in Just((0..6).collect::<Vec<usize>>()).prop_shuffle(),
        running in 0_usize..6,
        is_open in any::<bool>(),
    ) {
        let mut texts = ["# first\nread b.cfg\nread c.cfg\n".to_owned(), String::new(), "# c\n".to_owned()];
        for (file, what) in &rows {
            texts[*file].push_str(&match what {
                6 => "\n".to_owned(),
                7 => "  # a word\n".to_owned(),
                n => format!("start m{n}\n"),
            });
        }
        if is_open && texts[1].ends_with('\n') {
            texts[1].pop();
        }
        let files = [("main.cfg", texts[0].as_str()), ("b.cfg", &texts[1]), ("c.cfg", &texts[2])];
        let text = order_in(&files);
        let order: Vec<Id> = order.into_iter().take(running).map(|n| Id::new(&format!("m{n}"))).collect();
        let change = Change { order: &order, gone: &BTreeSet::new(), off: &BTreeSet::new(), arguments: &BTreeMap::new(), versions: &BTreeMap::new() };
        let new = rewritten(form(OrderKind::Sequence), &with_includes(), text.as_str(), change);
        let Ok(new) = new else { return Ok(()) };
        let becomes = text.rewritten(&with_includes(), &new).unwrap();
        let after: Vec<(&str, &str)> = files
            .iter()
            .map(|(name, _)| (*name, becomes[&RelPath::parse(name).unwrap()].as_str()))
            .collect();
        let again = Arrangement::read(&with_includes(), order_in(&after).as_str());
        prop_assert_eq!(again.ids().cloned().collect::<Vec<Id>>(), order);
        for (name, old) in files {
            let notes = |text: &str| text.lines().filter(|line| line.contains('#')).count();
            prop_assert_eq!(notes(old), notes(&becomes[&RelPath::parse(name).unwrap()]));
        }
    }
}

#[test]
fn what_names_a_version_names_the_new_one() {
    let lines = r#"kind = "sequence", line = '^start (?P<id>\S+)( (?P<version>\S+))?', write = "start {id} {version}", parked = "-{line}""#;
    let flags = r#"kind = "flags", line = '^(?P<id>\w+)/(?P<version>[^=]+)=(?P<on>\w+)$', write = "{id}/{version}={on}""#;
    let items = r#"kind = "flags", spans = true, line = '\{"(?P<id>\w+)",\s*"(?P<version>[^"]*)", (?P<on>\w+)\}', write = '{"{id}", "{version}", {on}}'"#;
    let behind = r#"kind = "list", line = '^mods=(?P<list>.*)', write = '"{id}@{version}"'"#;
    let before =
        r#"kind = "list", line = '^mods=(?P<list>.*)', write = "{version}:{id}", between = " ""#;
    let one =
        r#"kind = "one", line = '^use (?P<id>\S+) (?P<version>\S+)', write = "use {id} {version}""#;
    for (rule, text, [runs, off, versions], expected) in [
        // Only the version changes, whatever else stands there; what names none goes on naming none.
        (
            lines,
            "start a 1.2 wet\r\nstart b\r\n",
            ["a b", "", "a=1.3 b=2"],
            "start a 1.3 wet\r\nstart b\r\n",
        ),
        (
            lines,
            "start a 1",
            ["a b", "", "a=1 b=2"],
            "start a 1\nstart b 2\n",
        ),
        (
            lines,
            "start b *\nstart a 1\n",
            ["a b", "", "a=3 b=2"],
            "start a 3\nstart b *\n",
        ),
        (
            lines,
            "-start a 1 wet\nstart b >=2\n",
            ["b", "a", "a=3 b=2"],
            "-start a 3 wet\nstart b >=2\n",
        ),
        (
            flags,
            "a/1=false\nb/2=true\n",
            ["b c", "a", "a=1.1 b=2.1 c=3"],
            "a/1.1=false\nb/2.1=true\nc/3=true\n",
        ),
        (
            items,
            "[{\"a\",\n\"1\", true}, {\"b\", \"\", true}]",
            ["a b c", "", "a=1.1 b=2 c=3"],
            "[{\"a\",\n\"1.1\", true}, {\"b\", \"\", true}, {\"c\", \"3\", true}]",
        ),
        (
            behind,
            "mods=\"a@1\", b , \"c@latest\"\n",
            ["a b c d", "", "a=1.10 b=2 c=3 d=4-x"],
            "mods=\"a@1.10\", b , \"c@latest\", \"d@4-x\"\n",
        ),
        (
            before,
            "mods=1:a:x 2:b\n",
            ["a:x b", "", "a:x=1.1 b=2.1"],
            "mods=1.1:a:x 2.1:b\n",
        ),
        (one, "use a 1\n", ["b", "a", "a=1 b=2"], "use b 2\n"),
    ] {
        let family = crate::tree::tests::FAMILY.replace(
            r#"order = { kind = "sequence", file = "x.conf", line = '^start (?P<id>\S+)', write = "start {id}" }"#,
            &format!(r#"order = {{ file = "x.conf", {rule} }}"#),
        );
        let rule = Family::parse(&family).unwrap().order.unwrap();
        let Keeping::Text(form) = rule.kind.keeping() else {
            unreachable!()
        };
        let versions = versions.split_whitespace();
        let versions = versions.map(|it| it.split_once('=').unwrap());
        let versions: BTreeMap<Id, String> = versions
            .map(|(id, version)| (Id::new(id), version.to_owned()))
            .collect();
        let order = ids(runs);
        let change = Change {
            order: &order,
            gone: &BTreeSet::new(),
            off: &ids(off).into_iter().collect(),
            arguments: &BTreeMap::new(),
            versions: &versions,
        };
        let new = rewritten(form, &rule, text, change).unwrap();
        assert_eq!(new, expected, "{text:?}, {runs} run");
        let read = Arrangement::read(&rule, &new);
        for (_, id, named) in read.named_versions() {
            assert_eq!(named, versions[id], "{id} in {new:?}");
        }
    }
}

#[test]
fn a_version_that_would_not_be_read_again_is_refused() {
    let family = crate::tree::tests::FAMILY.replace(
        r#"order = { kind = "sequence", file = "x.conf", line = '^start (?P<id>\S+)', write = "start {id}" }"#,
        r#"order = { file = "x.conf", kind = "list", line = '^mods=(?P<list>.*)', write = "{id}@{version}" }"#,
    );
    let rule = Family::parse(&family).unwrap().order.unwrap();
    let Keeping::Text(form) = rule.kind.keeping() else {
        unreachable!()
    };
    for (version, is_refused) in [("1.1", false), ("1,b@2", true), ("1@2", true)] {
        let change = Change {
            order: &[Id::new("a")],
            gone: &BTreeSet::new(),
            off: &BTreeSet::new(),
            arguments: &BTreeMap::new(),
            versions: &BTreeMap::from([(Id::new("a"), version.to_owned())]),
        };
        let new = rewritten(form, &rule, "mods=a@1\n", change);
        assert_eq!(new.is_err(), is_refused, "{version:?}: {new:?}");
    }
}

#[test]
fn entries_stand_in_a_part_of_the_text_alone() {
    let rule = |keys: &[(&str, &str)]| -> OrderRule {
        let mut rule = serde_json::json!({ "file": "x" });
        for (key, value) in keys {
            rule[*key] = match *key {
                "from" | "to" => continue,
                "spans" => true.into(),
                _ => (*value).into(),
            };
        }
        let of = |key: &str| keys.iter().find(|it| it.0 == key).map(|it| it.1);
        rule["within"] = serde_json::json!({ "from": of("from"), "to": of("to") });
        serde_json::from_value(rule).unwrap()
    };
    let flags = rule(&[
        ("kind", "flags"),
        ("from", r"^\[ferns\]"),
        ("to", r"^\["),
        ("line", r"^(?P<id>\w+) = (?P<on>\w+)"),
        ("write", "{id} = {on}"),
        ("on", "on"),
        ("off", "off"),
    ]);
    let sequence = rule(&[
        ("kind", "sequence"),
        ("from", "^ferns:"),
        ("to", r"^\S"),
        ("line", r"^\s*- (?P<id>\w+)( (?P<version>\S+))?"),
        ("write", "  - {id} {version}"),
    ]);
    let items = rule(&[
        ("kind", "flags"),
        ("from", r#"^\s*"ferns": \["#),
        ("to", r"^\s*\]"),
        ("line", r#"\{ "n": "(?P<id>\w+)", "on": (?P<on>\w+) \}"#),
        ("write", r#"{ "n": "{id}", "on": {on} }"#),
        ("spans", ""),
    ]);
    let ini = "a = on\n[ferns]\nlib = on\nbees = off\n\n; all\n[other]\nbees = on\nlib = on\n";
    let yaml = "all:\n  - lib 1\nferns:\n  - lib 1\n  - bees 2\nothers:\n  - bees 2\n";
    let json = "{\n \"all\": [\n  { \"n\": \"bees\", \"on\": true }\n ],\n \"ferns\": [\n  { \"n\": \"lib\", \"on\": true },\n  \
                { \"n\": \"bees\", \"on\": false }\n ]\n}\n";
    let mut told = Vec::new();
    for (rule, text, order) in [
        (&flags, ini, "bees drip"),
        (&flags, "[ferns]\r\n[other]\r\nx = y\r\n", "bees"),
        (&flags, "a = b\n[ferns]", "bees"),
        (&sequence, yaml, "bees lib drip"),
        (&sequence, "ferns:\n\n# theirs\nothers:\n  - lib\n", "lib"),
        (&items, json, "bees lib drip"),
    ] {
        let entries = Arrangement::read(rule, text).entries;
        let entries = entries.iter().map(|entry| {
            let version = entry.version.as_ref().map(|it| &text[it.at.clone()]);
            let switch = if entry.on { "on" } else { "off" };
            format!("{}: {} {switch} {version:?}", entry.line, entry.id)
        });
        told.extend(entries);
        let (order, none) = (ids(order), BTreeSet::new());
        let versions = order
            .iter()
            .map(|id| (id.clone(), "3".to_owned()))
            .collect();
        let change = Change {
            order: &order,
            gone: &none,
            off: &none,
            arguments: &BTreeMap::new(),
            versions: &versions,
        };
        told.push(
            rewritten(form(rule.kind), rule, text, change)
                .unwrap()
                .escape_debug()
                .to_string(),
        );
    }
    insta::assert_snapshot!(told.join("\n"), @r#"
    3: lib on None
    4: bees off None
    a = on\n[ferns]\nlib = on\nbees = on\ndrip = on\n\n; all\n[other]\nbees = on\nlib = on\n
    [ferns]\r\nbees = on\r\n[other]\r\nx = y\r\n
    a = b\n[ferns]\nbees = on\n
    4: lib on Some("1")
    5: bees on Some("2")
    all:\n  - lib 1\nferns:\n  - bees 3\n  - lib 3\n  - drip 3\nothers:\n  - bees 2\n
    ferns:\n  - lib 3\n\n# theirs\nothers:\n  - lib\n
    6: lib on None
    7: bees off None
    {\n \"all\": [\n  { \"n\": \"bees\", \"on\": true }\n ],\n \"ferns\": [\n  { \"n\": \"lib\", \"on\": true },\n  { \"n\": \"bees\", \"on\": true },\n  { \"n\": \"drip\", \"on\": true }\n ]\n}\n
    "#);
    let missing = rewritten(
        form(flags.kind),
        &flags,
        "[other]\nlib = on\n",
        Change {
            order: &ids("lib"),
            gone: &BTreeSet::new(),
            off: &BTreeSet::new(),
            arguments: &BTreeMap::new(),
            versions: &BTreeMap::new(),
        },
    );
    assert_eq!(missing, Err(Unread(Id::new("lib"))));
}
