use super::*;
use crate::proofs::at_least;
use crate::text::Text;
use proptest::prelude::*;
use std::collections::BTreeMap;

fn text(text: &str) -> Text {
    Text::read(text.as_bytes())
}

/// What comes of three texts, with answers by id.
fn answered(
    manner: &Manner,
    [before, mine, now]: [&str; 3],
    known: &BTreeMap<String, Answer>,
) -> Merge {
    let (before, mine, now) = (text(before), text(mine), text(now));
    let three = Three {
        before: &before,
        mine: &mine,
        now: &now,
    };
    let answers = Answers {
        known,
        otherwise: None,
    };
    merge("a.file", manner, three, answers)
}

fn of(notation: Option<Notation>, three: [&str; 3]) -> Merge {
    let manner = Manner {
        notation,
        ..Manner::default()
    };
    answered(&manner, three, &BTreeMap::new())
}

/// All that is said of a merge.
fn told(merge: &Merge) -> String {
    let Counts {
        kept,
        new,
        followed,
        gone,
        conflicts,
        places,
    } = merge.counts;
    let mut told = merge.text.as_str().to_owned();
    let what = if places { "places" } else { "values" };
    told += &format!(
        "-- {what}: {kept} kept, {new} new, {followed} followed, {gone} gone, {conflicts} conflicts\n"
    );
    for it in &merge.told {
        told += &format!("-- {it:?}\n");
    }
    for it in &merge.questions {
        let Question {
            subject,
            before,
            mine,
            theirs,
            lines,
            answer,
            ..
        } = it;
        told +=
            &format!("-- ? {subject:?} {lines:?}: {before:?}, {mine:?}, {theirs:?}: {answer:?}\n");
    }
    told
}

#[test]
fn values_are_merged_by_their_keys() {
    // Mine stays with its spacing and remark; a default follows; a new one comes with its remark; one goes.
    insta::assert_snapshot!(told(&of(Some(Notation::Ini), [
        "[gate]\nseats = 24\nopen = yes\nold = 1\n",
        "[gate]\nseats  =  30   \nopen = yes\nold = 1\nmine = x\n",
        "[gate]\nseats = 24\n# when\nhours = 8\nopen = no\n",
    ])), @"
    [gate]
    seats  =  30   
    # when
    hours = 8
    open = no
    mine = x
    -- values: 2 kept, 1 new, 1 followed, 1 gone, 0 conflicts
    ");
    insta::assert_snapshot!(told(&of(Some(Notation::Json), [
        "{\n  \"seats\": 24,\n  \"open\": true\n}\n",
        "{\n  \"seats\": 30, // ours\n  \"open\": true\n}\n",
        "{\n  \"seats\": 24,\n  // when\n  \"hours\": 8,\n  \"open\": false,\n  \"last\": {\n    \"a\": 1\n  }\n}\n",
    ])), @r#"
    {
      "seats": 30, // ours
      // when
      "hours": 8,
      "open": false,
      "last": {
        "a": 1
      }
    }
    -- values: 1 kept, 2 new, 1 followed, 0 gone, 0 conflicts
    "#);
    insta::assert_snapshot!(told(&of(Some(Notation::Yaml), [
        "gate:\n  seats: 24\n  open: yes\n  ports:\n    - 1\n    - 2\n",
        "gate:\n  seats: 30\n  open: yes\n  ports:\n    - 1\n    - 2\n",
        "gate:\n  seats: 24\n  open: no\n  # where\n  ports:\n    - 1\n    - 3\n  # new\n  lamps:\n    warm: true\n",
    ])), @"
    gate:
      seats: 30
      open: no
      ports:
        - 1
        - 3
      # new
      lamps:
        warm: true
    -- values: 1 kept, 1 new, 2 followed, 0 gone, 0 conflicts
    ");
    insta::assert_snapshot!(told(&of(Some(Notation::Toml), [
        "a = 1\nb = 2\n\n[gate]\nopen = true\n",
        "a = 5\nb = 2\nmine = 1\n\n[gate]\nopen = false\n",
        "a = 6\nb = 3\n\n# lamps\n[lamps]\nwarm = true\n# how many\nmany = 3\n\n[gate]\nopen = true\nhours = 8\n",
    ])), @r#"
    a = 5
    b = 3
    mine = 1

    # lamps
    [lamps]
    warm = true
    # how many
    many = 3

    [gate]
    open = false
    hours = 8
    -- values: 2 kept, 3 new, 1 followed, 0 gone, 1 conflicts
    -- ? Value(Key(["a"])) [Some(1), Some(1), Some(1)]: Some("1"), Some("5"), Some("6"): None
    "#);
    insta::assert_snapshot!(told(&of(Some(Notation::Xml), [
        "<place>\n  <gate open=\"yes\" port=\"1\"/>\n  <old>1</old>\n</place>\n",
        "<place>\n  <gate open=\"no\" port=\"1\"/>\n  <old>2</old>\n</place>\n",
        "<place>\n  <gate open=\"yes\" port=\"2\"/>\n  <!-- lamps -->\n  <lamps><warm>yes</warm></lamps>\n</place>\n",
    ])), @r##"
    <place>
      <gate open="no" port="2"/>
      <!-- lamps -->
      <lamps><warm>yes</warm></lamps>
    </place>
    -- values: 1 kept, 1 new, 1 followed, 1 gone, 0 conflicts
    -- Gone { key: Key(["place", "old", "#text"]), mine: Some("2"), likely: None }
    "##);
    insta::assert_snapshot!(told(&of(Some(Notation::Properties), [
        "a=1\nb=2\nc=3\n",
        "a=1\nb=9\nc=3\n",
        "a=1\nb=7\nd=4\n",
    ])), @r#"
    a=1
    b=9
    d=4
    -- values: 0 kept, 1 new, 0 followed, 1 gone, 1 conflicts
    -- ? Value(Key(["b"])) [Some(2), Some(2), Some(2)]: Some("2"), Some("9"), Some("7"): None
    "#);
    // A script: values side by side by their names, code by its lines.
    insta::assert_snapshot!(told(&of(Some(Notation::Assignments), [
        "SEATS=24\nOPEN=yes\nrun \"$SEATS\"\n",
        "SEATS=30\nOPEN=yes\nrun \"$SEATS\" --quiet\n",
        "SEATS=24\nOPEN=no\n# when\nHOURS=8\nrun \"$SEATS\" --warm\n",
    ])), @r#"
    SEATS=30
    OPEN=no
    # when
    HOURS=8
    run "$SEATS" --quiet
    -- places: 0 kept, 0 new, 0 followed, 0 gone, 1 conflicts
    -- ? Block [Some(3), Some(3), Some(5)]: Some("run \"$SEATS\""), Some("run \"$SEATS\" --quiet"), Some("run \"$SEATS\" --warm"): None
    "#);
    let own =
        LinePattern::new(regex::Regex::new(r"^(?P<key>\w+) (?P<value>.*)$").unwrap()).unwrap();
    insta::assert_snapshot!(told(&of(Some(Notation::Lines(own)), [
        "set a\nseats 24\nopen yes\n",
        "set a\nseats 30\nopen yes\n",
        "set a\nseats 24\nopen no\nhours 8\n",
    ])), @"
    set a
    seats 30
    open no
    hours 8
    -- values: 1 kept, 1 new, 1 followed, 0 gone, 0 conflicts
    ");
}

#[test]
fn what_has_another_name_and_what_goes_is_told() {
    let manner = Manner {
        notation: Some(Notation::Toml),
        was: vec![
            (Key::of("gate.places"), Key::of("gate.seats")),
            (Key::of("gate.secret_word"), Key::of("gate.password")),
        ],
        ..Manner::default()
    };
    let three = [
        "[gate]\nseats = 24\npassword = \"\"\nlamp = 3\nold = 1\n",
        "[gate]\nseats = 30\npassword = \"fern\"\nlamp = 4\nold = 2\n",
        "[gate]\n# at most\nplaces = 24\nsecret_word = \"\"\nlight = 3\n",
    ];
    insta::assert_snapshot!(told(&answered(&manner, three, &BTreeMap::new())), @r#"
    [gate]
    password = "fern"
    # at most
    places = 30
    secret_word = ""
    light = 3
    -- values: 2 kept, 2 new, 0 followed, 2 gone, 0 conflicts
    -- Renamed { from: Key(["gate", "seats"]), to: Key(["gate", "places"]) }
    -- SecretStays { from: Key(["gate", "password"]), to: Key(["gate", "secret_word"]) }
    -- Gone { key: Key(["gate", "lamp"]), mine: Some("4"), likely: Some(Key(["gate", "light"])) }
    -- Gone { key: Key(["gate", "old"]), mine: Some("2"), likely: None }
    "#);
}

#[test]
fn lists_are_merged_by_item_where_order_has_no_meaning() {
    let lists = |notation, before: &str, mine: &str, now: &str| {
        let manner = Manner {
            notation: Some(notation),
            any_order: vec![Key::of("guests")],
            ..Manner::default()
        };
        let merge = answered(&manner, [before, mine, now], &BTreeMap::new());
        assert!(merge.questions.is_empty(), "{}", told(&merge));
        merge.text.as_str().to_owned()
    };
    assert_eq!(
        lists(
            Notation::Toml,
            "guests = [\"a\", \"b\"]\n",
            "guests = [\"a\", \"b\", \"m\"]\n",
            "guests = [\"b\", \"n\"]\n"
        ),
        "guests = [\"b\", \"m\", \"n\"]\n"
    );
    assert_eq!(
        lists(
            Notation::Json,
            "{\"guests\": [1, 2]}",
            "{\"guests\": [ 1,  2,  7 ]}",
            "{\"guests\": [2, 5]}"
        ),
        "{\"guests\": [ 2,  7,  5 ]}"
    );
    assert_eq!(
        lists(
            Notation::Yaml,
            "guests:\n  - a\n  - b\n",
            "guests:\n  - m\n  - a # first\n  - b\n",
            "guests:\n  - b\n  - n\n",
        ),
        "guests:\n  - m\n  - b\n  - n\n"
    );
    assert_eq!(
        lists(
            Notation::Properties,
            "guests=a, b\n",
            "guests=a, b, m\n",
            "guests=b, n\n"
        ),
        "guests=b, m, n\n"
    );
    // Nothing tells that these are lists.
    let merge = of(
        Some(Notation::Ini),
        ["guests=a\n", "guests=m\n", "guests=n\n"],
    );
    assert_eq!(merge.questions.len(), 1);
}

#[test]
fn what_is_decided_is_so() {
    let three = [
        "a = 1\nb = 2\npassword = 1\n",
        "a = 5\nb = 2\npassword = 2\n",
        "a = 6\nb = 3\npassword = 3\n",
    ];
    let manner = Manner {
        notation: Some(Notation::Toml),
        ..Manner::default()
    };
    let merge = answered(&manner, three, &BTreeMap::new());
    let [first, secret] = &merge.questions[..] else {
        panic!("{}", told(&merge));
    };
    assert!(secret.is_secret && secret.mine.is_none() && !first.is_open());
    for (answer, becomes) in [
        (Answer::Mine, "a = 5\nb = 3\npassword = 2\n"),
        (Answer::Theirs, "a = 6\nb = 3\npassword = 2\n"),
        (Answer::Value("8".into()), "a = 8\nb = 3\npassword = 2\n"),
    ] {
        let known = BTreeMap::from([(first.id.clone(), answer.clone())]);
        let merge = answered(&manner, three, &known);
        assert_eq!(merge.text.as_str(), becomes);
        assert_eq!(merge.questions[0].answer, Some(answer));
        assert_eq!(merge.counts.conflicts, 1);
    }
    // One that the notation cannot say is no answer.
    let three = [
        "<a b=\"1\">x</a>\n",
        "<a b=\"2\">x</a>\n",
        "<a b=\"3\">x</a>\n",
    ];
    let xml = Manner::of("a.xml");
    let id = answered(&xml, three, &BTreeMap::new()).questions[0]
        .id
        .clone();
    let known = BTreeMap::from([(id, Answer::Value("\u{1}".into()))]);
    let merge = answered(&xml, three, &known);
    assert_eq!((merge.text.as_str(), merge.counts.conflicts), (three[1], 1));
    assert_eq!(
        merge.told,
        [Told::NotHeld {
            key: Key::of("a.@b")
        }]
    );
    // Lines without a notation wait for an answer.
    let three = ["a\nb\nc\n", "a\nX\nc\n", "a\nY\nc\n"];
    let merge = of(None, three);
    assert!(merge.questions[0].is_open());
    let known = BTreeMap::from([(merge.questions[0].id.clone(), Answer::Theirs)]);
    assert_eq!(
        answered(&Manner::default(), three, &known).text.as_str(),
        three[2]
    );
    // A whole text that was written by hand.
    let id = whole_id("a.file", &text(three[1]), &text(three[2]));
    let known = BTreeMap::from([(id, Answer::Text(text("a\nXY\nc\n")))]);
    let merge = answered(&Manner::default(), three, &known);
    assert_eq!(
        (merge.text.as_str(), merge.questions.len()),
        ("a\nXY\nc\n", 0)
    );
}

#[test]
fn line_ends_and_encoding_stay_mine() {
    let merge = of(
        Some(Notation::Ini),
        ["a=1\nb=2\n", "a=1\r\nb=3\r\n", "a=4\nb=2\nc=5\n"],
    );
    assert_eq!(merge.text.as_str(), "a=4\r\nb=3\r\nc=5\r\n");
    let (before, mine) = (
        text("name = x\nb = 1\n"),
        Text::read(b"name = Gew\xe4chs\nb = 1\n"),
    );
    let now = text("name = x\nb = 2\n");
    let three = Three {
        before: &before,
        mine: &mine,
        now: &now,
    };
    let none = BTreeMap::new();
    let answers = Answers {
        known: &none,
        otherwise: None,
    };
    let merge = super::merge("a.ini", &Manner::of("a.ini"), three, answers);
    assert_eq!(merge.text.bytes(), b"name = Gew\xe4chs\nb = 2\n");
}

/// Three texts given by their lines with blanks between.
fn blocks(before: &str, mine: &str, now: &str) -> String {
    let lines = [before, mine, now].map(|lines| lines.replace(' ', "\n"));
    let merge = of(None, lines.each_ref().map(String::as_str));
    match merge.questions.iter().find(|it| it.is_open()) {
        Some(question) => format!("{:?}", question.lines),
        None => merge.text.as_str().replace('\n', " "),
    }
}

#[test]
fn both_changes_are_made_where_they_do_not_meet() {
    for (before, mine, now, becomes) in [
        ("a b c d e ", "a X c d e ", "a b c d Y ", "a X c d Y "),
        ("a b c d e ", "a b c d e ", "a b Z d e ", "a b Z d e "),
        ("a b c d e ", "a X c d e ", "a b c d e ", "a X c d e "),
        (
            "a b c d e ",
            "m a b c d e ",
            "a b c d e n ",
            "m a b c d e n ",
        ),
        ("a b c d e ", "a X c d e ", "a X c d Y ", "a X c d Y "),
        (
            "a b c d e ",
            "a X c d e ",
            "a Z c d e ",
            "[Some(2), Some(2), Some(2)]",
        ),
        (
            "a b c d e ",
            "a c d e ",
            "a b Z d e ",
            "[Some(2), Some(2), Some(2)]",
        ),
        ("a b c d e ", "m a b c d e ", "a b c X e ", "m a b c X e "),
        (
            "a b c d e ",
            "m a b c Z e ",
            "a b c X e ",
            "[Some(4), Some(5), Some(4)]",
        ),
    ] {
        assert_eq!(
            blocks(before, mine, now),
            becomes,
            "{before}, {mine}, {now}"
        );
    }
}

proptest! {
    #![proptest_config(at_least(400))]

    /// Mine as it was shipped gives what is shipped now; shipped as before gives mine; and what both hands did is there.
    #[test]
    fn a_merge_of_lines_loses_nothing(
        before in proptest::collection::vec("[a-d]", 0..9),
        mine in proptest::collection::vec((0_usize..9, "[m-o]"), 0..3),
        now in proptest::collection::vec((0_usize..9, "[x-z]"), 0..3),
    ) {
        let with = |edits: &[(usize, String)]| {
            let mut lines = before.clone();
            for (at, line) in edits {
                let at = (*at).min(lines.len());
                lines.insert(at, line.clone());
            }
            lines.iter().map(|line| format!("{line}\n")).collect::<String>()
        };
        let (was, mine, now) = (with(&[]), with(&mine), with(&now));
        let whole = |three: [&str; 3]| {
            let merge = of(None, three);
            merge.questions.is_empty().then(|| merge.text.as_str().to_owned())
        };
        prop_assert_eq!(whole([&was, &was, &now]), Some(now.clone()));
        prop_assert_eq!(whole([&was, &mine, &was]), Some(mine.clone()));
        if let Some(both) = whole([&was, &mine, &now]) {
            let lines: Vec<&str> = both.lines().collect();
            for line in mine.lines().chain(now.lines()) {
                prop_assert!(lines.contains(&line), "{line} is gone");
            }
            // Made once more, it changes nothing.
            prop_assert_eq!(whole([&now, &both, &now]), Some(both.clone()));
            // Whose turn comes first makes no difference.
            prop_assert_eq!(whole([&was, &now, &mine]), Some(both));
        }
    }

    /// Against a model that knows only keys and values.
    #[test]
    fn a_merge_by_keys_says_what_a_plain_model_says(
        values in proptest::collection::vec((0_u8..4, 0_u8..4, 0_u8..4), 7),
        which in 0_usize..6,
        remarks in proptest::collection::vec(any::<bool>(), 7),
        order in any::<u8>(),
    ) {
        let notation = [
            Notation::Ini, Notation::Toml, Notation::Json, Notation::Yaml, Notation::Xml, Notation::Properties,
        ][which].clone();
        // 0 is missing. The last three stand in a table of their own, where the notation has one.
        let text = |pick: fn(&(u8, u8, u8)) -> u8, turn: usize| {
            let row = |at: usize, deep: &str| {
                let value = pick(&values[at]);
                let key = char::from(b'a' + at as u8);
                let remark = match (remarks[at], &notation) {
                    (false, _) => String::new(),
                    (true, Notation::Json) => format!("{deep}// of {key}\n"),
                    (true, Notation::Xml) => format!("{deep}<!-- of {key} -->\n"),
                    (true, _) => format!("{deep}# of {key}\n"),
                };
                (value > 0).then(|| remark + &match notation {
                    Notation::Json => format!("{deep}\"{key}\": {value}"),
                    Notation::Yaml => format!("{deep}{key}: {value}"),
                    Notation::Xml => format!("{deep}<{key}>{value}</{key}>"),
                    _ => format!("{deep}{key} = {value}"),
                })
            };
            let mut first: Vec<usize> = (0..4).collect();
            first.rotate_left(turn % 4);
            let flat: Vec<String> = first.into_iter().filter_map(|at| row(at, match notation {
                Notation::Json | Notation::Xml => "  ",
                _ => "",
            })).collect();
            let deep: Vec<String> = (4..7).filter_map(|at| row(at, match notation {
                Notation::Json | Notation::Xml => "    ",
                Notation::Yaml => "  ",
                _ => "",
            })).collect();
            let has_deep = !deep.is_empty();
            match notation {
                Notation::Json => {
                    let inner = has_deep.then(|| format!("  \"in\": {{\n{}\n  }}", deep.join(",\n")));
                    let all: Vec<String> = flat.into_iter().chain(inner).collect();
                    format!("{{\n{}\n}}\n", all.join(",\n"))
                }
                Notation::Xml => {
                    let inner = has_deep.then(|| format!("  <in>\n{}\n  </in>", deep.join("\n")));
                    let all: Vec<String> = flat.into_iter().chain(inner).collect();
                    format!("<top>\n{}\n</top>\n", all.join("\n"))
                }
                Notation::Yaml => {
                    let inner = has_deep.then(|| format!("in:\n{}", deep.join("\n")));
                    flat.into_iter().chain(inner).map(|row| row + "\n").collect()
                }
                Notation::Properties => flat.into_iter().chain(deep).map(|row| row + "\n").collect(),
                _ => {
                    let inner = has_deep.then(|| format!("\n[in]\n{}", deep.join("\n")));
                    flat.into_iter().chain(inner).map(|row| row + "\n").collect::<String>()
                }
            }
        };
        let three = [text(|it| it.0, 0), text(|it| it.1, usize::from(order)), text(|it| it.2, usize::from(order / 4))];
        let merge = of(Some(notation.clone()), three.each_ref().map(String::as_str));
        let key = |at: usize| {
            let name = char::from(b'a' + at as u8);
            Key::of(&match notation {
                Notation::Xml if at < 4 => format!("top.{name}.#text"),
                Notation::Xml => format!("top.in.{name}.#text"),
                Notation::Properties => name.to_string(),
                _ if at < 4 => name.to_string(),
                _ => format!("in.{name}"),
            })
        };
        let whole = merge.questions.iter().any(|it| it.subject == Subject::Whole);
        if whole {
            // What has no value at all says not how a new one would stand in it.
            let says_something = |text: &String| read(&notation, text).is_ok_and(|all| !all.is_empty());
            prop_assert!(!three.iter().all(says_something), "{:?}", three);
            return Ok(());
        }
        let mut conflicts = 0;
        for (at, (before, mine, now)) in values.iter().enumerate() {
            let wanted = match (before == now, before == mine) {
                (true, _) => mine,
                (false, true) => now,
                (false, false) if mine == now => mine,
                // One that he took out goes, whatever I made of it.
                (false, false) if *now == 0 => now,
                // Both have changed it: mine stays until it is decided.
                (false, false) if *before > 0 || *mine > 0 => { conflicts += 1; mine }
                (false, false) => now,
            };
            let says = get(&notation, merge.text.as_str(), &key(at)).unwrap();
            prop_assert_eq!(says, (*wanted > 0).then(|| wanted.to_string()), "{}: {:?} {}", key(at), three, merge.text.as_str());
        }
        prop_assert_eq!(merge.questions.len(), conflicts);
        // What is strict stays strict.
        if notation == Notation::Json && !remarks.contains(&true) {
            prop_assert!(serde_json::from_str::<serde_json::Value>(merge.text.as_str()).is_ok(), "{}", merge.text.as_str());
        }
        // Made once more, it changes nothing.
        let (now, text) = (&three[2], merge.text.as_str());
        let again = of(Some(notation.clone()), [now, text, now]);
        prop_assert_eq!(again.text.as_str(), text);
        // My own lines are there still, byte for byte, but those whose value changed.
        for (at, (before, mine, now)) in values.iter().enumerate() {
            let stays = *mine > 0 && (before == now || mine == now) && notation != Notation::Json;
            let line = three[1].lines().find(|line| {
                read(&notation, &three[1]).unwrap().iter().any(|entry| entry.key == key(at) && three[1][entry.value.start..].as_ptr() >= line.as_ptr() && three[1][entry.value.start..].as_ptr() < line.as_bytes().as_ptr_range().end)
            });
            if let Some(line) = line.filter(|_| stays) {
                prop_assert!(text.lines().any(|it| it == line), "{line} is gone: {:?} {}", three, text);
            }
        }
    }

    /// Whatever three texts say, it ends, and mine as it was shipped gives what is shipped now.
    #[test]
    fn any_three_texts_come_to_an_end(
        before in "([ab]=[12]\n|\\[[ab]\\]\n|#[ab]\n|x\n|\r\n){0,8}",
        mine in "([ab]=[12]\n|\\[[ab]\\]\n|#[ab]\n|x\n|\r\n){0,8}",
        now in "([ab]=[12]\n|\\[[ab]\\]\n|#[ab]\n|x\n|\r\n){0,8}",
        which in 0_usize..4,
    ) {
        let notation = [None, Some(Notation::Ini), Some(Notation::Toml), Some(Notation::Assignments)][which].clone();
        of(notation.clone(), [&before, &mine, &now]);
        let follows = of(notation.clone(), [&before, &before, &now]);
        prop_assert_eq!(follows.text.as_str(), &now);
        let stays = of(notation, [&before, &mine, &before]);
        prop_assert_eq!(stays.text.as_str(), &mine);
    }
}

#[test]
fn what_is_made_to_be_slow_comes_to_an_end() {
    // Every line is another one: set in, changed, taken out, and as many new ones.
    let text = |state: usize| {
        let row = |at: usize| match state {
            0 => format!("k{at} = {at}\n"),
            1 => format!(" k{at}  =  {}\n", at + at % 2),
            _ if at.is_multiple_of(3) => format!("n{at} = {at}\n"),
            _ => format!("k{at} = {}\n", at + 7),
        };
        (0..6_000).map(row).collect::<String>()
    };
    let three = [text(0), text(1), text(2)];
    let merge = of(Some(Notation::Ini), three.each_ref().map(String::as_str));
    let Counts {
        new,
        gone,
        conflicts,
        ..
    } = merge.counts;
    assert_eq!((new, gone, conflicts), (2_000, 2_000, 2_000));
    // Two lines in turns, and nothing to hold on to.
    let turns = |a: &str, b: &str| format!("{a}\n{b}\n").repeat(20_000);
    let three = [turns("a", "b"), turns("b", "a"), turns("a", "c")];
    assert_eq!(
        of(None, three.each_ref().map(String::as_str))
            .questions
            .len(),
        1
    );
}
