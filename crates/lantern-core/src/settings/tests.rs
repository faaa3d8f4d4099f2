use super::*;
use crate::proofs::at_least;
use crate::text;
use proptest::prelude::*;

const NOTATIONS: [Notation; 6] = [
    Notation::Toml,
    Notation::Json,
    Notation::Yaml,
    Notation::Ini,
    Notation::Properties,
    Notation::Xml,
];

/// Every value of a text: its key, what it says, and the lines that it has to itself.
fn told(notation: &Notation, text: &str) -> String {
    let entries = read(notation, text).unwrap();
    let told = entries.iter().map(|entry| {
        let raw = &text[entry.value.clone()];
        let rows = entry.rows.as_ref().map(|rows| &text[rows.clone()]);
        format!("{} = {} {raw:?} {rows:?}", entry.key, entry.says)
    });
    told.collect::<Vec<_>>().join("\n")
}

/// A text with values set one after the other: `key=value`.
fn with(notation: &Notation, text: &str, pairs: &[&str]) -> String {
    let mut text = text.to_owned();
    for pair in pairs {
        let (key, value) = pair.split_once('=').unwrap();
        text = match set(notation, &text, &Key::of(key), value) {
            Ok(new) => new,
            Err(fault) => format!("{text}!! {fault}\n"),
        };
    }
    text
}

#[test]
fn toml_is_read_and_set() {
    let text = "# of the place\nname = \"Terrace\"  # ours\nseats=24\nplain = 'a\\b'\n\n[gate]\nopen = true\n# where\nhost.port = 4\nlists = [1, 2]\n\n[[guest]]\nname = \"Fern\"\n\n[bed.\"a.b\"]\nsoil = { depth = 3, wet = false }\n";
    insta::assert_snapshot!(told(&Notation::Toml, text), @r##"
    name = Terrace "\"Terrace\"" Some("# of the place\nname = \"Terrace\"  # ours\n")
    seats = 24 "24" Some("seats=24\n")
    plain = a\b "'a\\b'" Some("plain = 'a\\b'\n")
    gate.open = true "true" Some("open = true\n")
    gate.host.port = 4 "4" Some("# where\nhost.port = 4\n")
    gate.lists = [1, 2] "[1, 2]" Some("lists = [1, 2]\n")
    guest.0.name = Fern "\"Fern\"" Some("name = \"Fern\"\n")
    bed."a.b".soil.depth = 3 "3" None
    bed."a.b".soil.wet = false "false" None
    "##);
    let new = with(
        &Notation::Toml,
        text,
        &[
            "name=Orchard \"x\"",
            "seats=30",
            "plain=c\\d",
            "gate.host.port=5",
            "gate.lists=[3]",
            "guest.0.name=Moss",
            "bed.\"a.b\".soil.depth=4",
        ],
    );
    insta::assert_snapshot!(text::unified(text, &new), @r#"
    @@ -1,16 +1,16 @@
     # of the place
    -name = "Terrace"  # ours
    -seats=24
    -plain = 'a\b'
    +name = 'Orchard "x"'  # ours
    +seats=30
    +plain = 'c\d'
     
     [gate]
     open = true
     # where
    -host.port = 4
    -lists = [1, 2]
    +host.port = 5
    +lists = [3]
     
     [[guest]]
    -name = "Fern"
    +name = "Moss"
     
     [bed."a.b"]
    -soil = { depth = 3, wet = false }
    +soil = { depth = 4, wet = false }
    "#);
    let new = with(
        &Notation::Toml,
        text,
        &["title=New", "gate.seed=77", "pond.depth=2", "gate.open.x=1"],
    );
    insta::assert_snapshot!(text::unified(text, &new), @r#"
    @@ -2,15 +2,21 @@
     name = "Terrace"  # ours
     seats=24
     plain = 'a\b'
    +title = "New"
     
     [gate]
     open = true
     # where
     host.port = 4
     lists = [1, 2]
    +seed = 77
     
     [[guest]]
     name = "Fern"
     
     [bed."a.b"]
     soil = { depth = 3, wet = false }
    +
    +[pond]
    +depth = 2
    +!! gate.open.x cannot be set to that: read again, the text would say something else
    "#);
    assert_eq!(
        with(&Notation::Toml, "", &["a=1", "b.c=two"]),
        "a = 1\n\n[b]\nc = \"two\"\n"
    );
    assert_eq!(with(&Notation::Toml, "a = 1", &["c=2"]), "a = 1\nc = 2\n");
}

#[test]
fn json_is_read_and_set() {
    let text = "{\n  // how many\n  \"seats\": 24,  // at most\n  \"name\": \"Terrace\",\n  \"gate\": { \"open\": true, \"ports\": [1, 2] },\n  \"beds\": {\n    \"depth\": 3\n  }\n}\n";
    insta::assert_snapshot!(told(&Notation::Json, text), @r#"
    seats = 24 "24" Some("  // how many\n  \"seats\": 24,  // at most\n")
    name = Terrace "\"Terrace\"" Some("  \"name\": \"Terrace\",\n")
    gate.open = true "true" None
    gate.ports = [1, 2] "[1, 2]" None
    beds.depth = 3 "3" Some("    \"depth\": 3\n")
    "#);
    let new = with(
        &Notation::Json,
        text,
        &[
            "seats=30",
            "name=Or\"chard",
            "gate.open=false",
            "beds.depth=x",
            "gate.ports=[3]",
        ],
    );
    insta::assert_snapshot!(text::unified(text, &new), @r#"
    @@ -1,9 +1,9 @@
     {
       // how many
    -  "seats": 24,  // at most
    -  "name": "Terrace",
    -  "gate": { "open": true, "ports": [1, 2] },
    +  "seats": 30,  // at most
    +  "name": "Or\"chard",
    +  "gate": { "open": false, "ports": [3] },
       "beds": {
    -    "depth": 3
    +    "depth": "x"
       }
     }
    "#);
    let new = with(
        &Notation::Json,
        text,
        &[
            "gate.seed=77",
            "beds.wet=true",
            "pond.fish=carp",
            "seats.x=1",
        ],
    );
    insta::assert_snapshot!(text::unified(text, &new), @r#"
    @@ -2,8 +2,11 @@
       // how many
       "seats": 24,  // at most
       "name": "Terrace",
    -  "gate": { "open": true, "ports": [1, 2] },
    +  "gate": { "open": true, "ports": [1, 2], "seed": 77 },
       "beds": {
    -    "depth": 3
    -  }
    +    "depth": 3,
    +    "wet": true
    +  },
    +  "pond": { "fish": "carp" }
     }
    +!! there is no place for seats.x: what it would stand in is no table
    "#);
    assert_eq!(with(&Notation::Json, "{}", &["a=1"]), "{\n  \"a\": 1\n}");
    assert_eq!(
        with(&Notation::Json, "{\n\t\"a\": 1, // one\n}", &["b=2"]),
        "{\n\t\"a\": 1, // one\n\t\"b\": 2,\n}"
    );
}

#[test]
fn yaml_is_read_and_set() {
    let text = "# of the place\nseats: 24   # at most\nname: 'Terrace'\ngate:\n    open: \"yes\"\n    ports:\n      - 1\n      - 2\nbeds: {depth: 3}\nlong: |\n  two\n  lines\nlast: ü x\n";
    insta::assert_snapshot!(told(&Notation::Yaml, text), @r##"
    seats = 24 "24" Some("# of the place\nseats: 24   # at most\n")
    name = Terrace "'Terrace'" Some("name: 'Terrace'\n")
    gate.open = yes "\"yes\"" Some("    open: \"yes\"\n")
    gate.ports = - 1
          - 2 "- 1\n      - 2" Some("    ports:\n      - 1\n      - 2\n")
    beds.depth = 3 "3" None
    long = two
    lines
     "two\n  lines" None
    last = ü x "ü x" Some("last: ü x\n")
    "##);
    let new = with(
        &Notation::Yaml,
        text,
        &[
            "seats=30",
            "name=It's",
            "gate.open=n\"o",
            "gate.ports=[5]",
            "beds.depth=4",
            "last=- x",
        ],
    );
    insta::assert_snapshot!(text::unified(text, &new), @r#"
    @@ -1,13 +1,12 @@
     # of the place
    -seats: 24   # at most
    -name: 'Terrace'
    +seats: 30   # at most
    +name: 'It''s'
     gate:
    -    open: "yes"
    +    open: "n\"o"
         ports:
    -      - 1
    -      - 2
    -beds: {depth: 3}
    +      [5]
    +beds: {depth: 4}
     long: |
       two
       lines
    -last: ü x
    +last: "- x"
    "#);
    let new = with(
        &Notation::Yaml,
        text,
        &["gate.seed=77", "title=A: b", "pond.fish.kind=carp"],
    );
    insta::assert_snapshot!(text::unified(text, &new), @r#"
    @@ -6,8 +6,13 @@
         ports:
           - 1
           - 2
    +    seed: 77
     beds: {depth: 3}
     long: |
       two
       lines
     last: ü x
    +title: "A: b"
    +pond:
    +  fish:
    +    kind: carp
    "#);
}

#[test]
fn lines_are_read_and_set() {
    let text = "; of the place\nseats = 24\r\n[gate]\r\nopen=yes\r\n# where\r\nport =  7\r\n\r\n[beds]\r\n";
    insta::assert_snapshot!(told(&Notation::Ini, text), @r##"
    seats = 24 "24" Some("; of the place\nseats = 24\r\n")
    gate.open = yes "yes" Some("open=yes\r\n")
    gate.port = 7 "7" Some("# where\r\nport =  7\r\n")
    "##);
    let new = with(
        &Notation::Ini,
        text,
        &[
            "seats=30",
            "gate.port=8",
            "gate.seed=1 2",
            "beds.depth=3",
            "pond.fish=carp",
            "name=x",
            "a.b.c=1",
        ],
    );
    insta::assert_snapshot!(format!("{new:?}"), @r#""; of the place\nseats = 30\r\nname = x\r\n[gate]\r\nopen=yes\r\n# where\r\nport =  8\r\nseed = 1 2\r\n\r\n[beds]\r\ndepth = 3\r\n\r\n[pond]\r\nfish = carp\r\n!! there is no place for a.b.c: what it would stand in is no table\n""#);
    let new = with(&Notation::Properties, "a.b=1\n!c: 2\nd: 3", &["a.b=x"]);
    assert_eq!(
        new,
        "a.b=1\n!c: 2\nd: 3!! there is no place for a.b: what it would stand in is no table\n"
    );
    let new = with(
        &Notation::Properties,
        "a.b=1\n!c: 2\nd: 3",
        &["\"a.b\"=x", "d=4", "e=5"],
    );
    assert_eq!(new, "a.b=x\n!c: 2\nd: 4\ne=5\n");
}

#[test]
fn xml_is_read_and_set() {
    let text = "<?xml version=\"1.0\"?>\n<place seats=\"24\">\n  <!-- ours -->\n  <name>Terrace &amp; more</name>\n  <gate open='yes'/>\n  <bed>1</bed>\n  <bed>2</bed>\n</place>\n";
    insta::assert_snapshot!(told(&Notation::Xml, text), @r#"
    place.@seats = 24 "24" None
    place.name.#text = Terrace & more "Terrace &amp; more" None
    place.gate.@open = yes "yes" None
    place.bed.#text = 1 "1" None
    place.bed[1].#text = 2 "2" None
    "#);
    let new = with(
        &Notation::Xml,
        text,
        &[
            "place.@seats=30",
            "place.name.#text=A < B",
            "place.gate.@open=no",
            "place.bed[1].#text=3",
        ],
    );
    insta::assert_snapshot!(text::unified(text, &new), @r#"
    @@ -1,8 +1,8 @@
     <?xml version="1.0"?>
    -<place seats="24">
    +<place seats="30">
       <!-- ours -->
    -  <name>Terrace &amp; more</name>
    -  <gate open='yes'/>
    +  <name>A &lt; B</name>
    +  <gate open='no'/>
       <bed>1</bed>
    -  <bed>2</bed>
    +  <bed>3</bed>
     </place>
    "#);
    let new = with(
        &Notation::Xml,
        text,
        &[
            "place.@seed=7",
            "place.gate.@port=8",
            "place.pond.#text=carp",
            "place.bed.x.#text=1",
            "other.x.#text=1",
        ],
    );
    insta::assert_snapshot!(text::unified(text, &new), @r#"
    @@ -1,8 +1,11 @@
     <?xml version="1.0"?>
    -<place seats="24">
    +<place seats="24" seed="7">
       <!-- ours -->
       <name>Terrace &amp; more</name>
    -  <gate open='yes'/>
    +  <gate open='yes' port="8" />
       <bed>1</bed>
       <bed>2</bed>
    +  <pond>carp</pond>
     </place>
    +!! there is no place for place.bed.x.#text: what it would stand in is no table
    +!! line 10: unknown token at 10:1
    "#);
}

#[test]
fn what_is_hostile_is_bounded() {
    let deep = "[".repeat(100_000);
    for (notation, text) in [
        (
            Notation::Json,
            format!("{{\"a\":{}", "{\"a\":".repeat(3_000)),
        ),
        (Notation::Yaml, format!("a: {deep}")),
        (Notation::Xml, "<a>".repeat(3_000)),
        (Notation::Toml, format!("a = {deep}")),
        (Notation::Yaml, "a: &x [1]\nb: *x\n".to_owned()),
        (
            Notation::Xml,
            "<!DOCTYPE a [<!ENTITY b \"c\">]><a>&b;</a>".to_owned(),
        ),
    ] {
        assert!(read(&notation, &text).is_err(), "{notation:?}");
    }
    let long = "a = 1\n".repeat(LONGEST_BYTES / 6 + 1);
    assert_eq!(read(&Notation::Ini, &long), Err(SettingsFault::TooLong));
}

proptest! {
    #![proptest_config(at_least(400))]

    /// Whatever is set: either it is refused, or the text says it, and all else says what it did.
    #[test]
    fn a_value_is_set_or_refused_and_nothing_else_changes(
        lines in proptest::collection::vec((0_usize..6, "[a-c]", "[ -~]{0,6}"), 0..8),
        which in 0_usize..6,
        key in "[a-c](\\.[a-c])?",
        value in "[ -~é]{0,8}",
        end in prop::sample::select(vec!["\n", "\r\n"]),
    ) {
        let notation = &NOTATIONS[which];
        let rows: Vec<String> = lines.iter().map(|(kind, name, says)| match (notation, kind) {
            (Notation::Toml, 0) => format!("[{name}]"),
            (Notation::Toml, 1) => format!("# {says}"),
            (Notation::Toml, _) => format!("{name} = '{}'  # x", says.replace('\'', "")),
            (Notation::Json, 1) => format!("  // {says}"),
            (Notation::Json, _) => format!("  \"{name}\": {},", serde_json::Value::from(says.as_str())),
            (Notation::Yaml, 0) => format!("{name}:{end}  b: 1"),
            (Notation::Yaml, _) => format!("{name}: '{}'", says.replace('\'', "''")),
            (Notation::Xml, _) => format!("  <{name} c=\"1\">{}</{name}>", xml::written(says)),
            (_, 0) => format!("[{name}]"),
            (_, 1) => format!("; {says}"),
            (_, _) => format!("{name} = {says}"),
        }).collect();
        let text = rows.join(end);
        let text = match notation {
            Notation::Json => format!("{{{end}{text}{end}}}"),
            Notation::Xml => format!("<a>{end}{text}{end}</a>"),
            _ => text + end,
        };
        let key = Key::of(&key);
        let Ok(before) = read(notation, &text) else { return Ok(()) };
        let Ok(new) = set(notation, &text, &key, &value) else { return Ok(()) };
        prop_assert_eq!(get(notation, &new, &key).unwrap(), Some(value.clone()));
        // Lines that say something else stay as they are, byte for byte.
        let was: Vec<&str> = text.split(end).collect();
        let is: Vec<&str> = new.split(end).collect();
        let kept = was.iter().filter(|line| is.contains(line)).count();
        prop_assert!(kept + 1 >= was.len(), "{text:?} became {new:?}");
        prop_assert_eq!(set(notation, &new, &key, &value).unwrap(), new.clone());
        if let Some(entry) = before.iter().find(|entry| entry.key == key) {
            let back = set(notation, &new, &key, &entry.says);
            prop_assert!(back.is_ok_and(|back| get(notation, &back, &key).unwrap().as_ref() == Some(&entry.says)));
        }
    }
}
