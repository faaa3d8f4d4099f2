use super::*;
use proptest::prelude::*;

fn file(notation: &str, line: &str) -> DescriptorFile {
    let text = format!("name = \"x\"\nnotation = \"{notation}\"\n{line}");
    toml_edit::de::from_str(&text).unwrap()
}

fn told(notation: &str, text: &str) -> String {
    let line = "line = '^#: (?P<key>\\w+) (?P<value>.*)$'";
    let file = file(notation, if notation == "header" { line } else { "" });
    match parse(&file, text) {
        Ok(table) => show(&Node::Table(table)),
        Err(fault) => match fault.line {
            Some(line) => format!("line {line}: {}", fault.why),
            None => fault.why,
        },
    }
}

fn show(node: &Node) -> String {
    match node {
        Node::Text(text) => format!("{text:?}"),
        Node::List(items) => {
            let items: Vec<String> = items.iter().map(show).collect();
            format!("[{}]", items.join(", "))
        }
        Node::Table(table) => {
            let pairs = table
                .iter()
                .map(|(key, value)| format!("{key}: {}", show(value)));
            format!("{{{}}}", pairs.collect::<Vec<_>>().join(", "))
        }
    }
}

#[test]
fn every_notation_says_the_same() {
    for (notation, text) in [
        (
            "toml",
            "id = 'fern'\nversion = '1.10'\nneeds = ['moss', \"soil\"]\n",
        ),
        (
            "json",
            "{ // a comment\n \"id\": \"fern\", \"version\": 1.10, /* and */ \"none\": null,\n \"needs\": [\"moss\", \"soil\",], }",
        ),
        (
            "yaml",
            "# a comment\nid: fern\nversion: 1.10\nnone: ~\nneeds:\n  - moss\n  - \"soil\"\n",
        ),
        (
            "script",
            "-- a comment\nid 'fern'\nversion = 1.10 --[[ and\nmore ]]\nneeds { 'moss', \"soil\" }",
        ),
        (
            "script",
            "id(\"fern\")\nlocal version = [[1.10]]\nneeds 'moss'\nneeds 'soil';",
        ),
        (
            "header",
            "#: id fern\ncode()\n#: version 1.10\n#: needs moss\n#: needs soil\n",
        ),
        (
            "manifest",
            "id: fern\r\nversion: 1.\r\n 10\r\nneeds: moss\r\nneeds: soil\r\n",
        ),
    ] {
        let expected = "{id: \"fern\", needs: [\"moss\", \"soil\"], version: \"1.10\"}";
        assert_eq!(told(notation, text), expected, "{notation}");
    }
}

#[test]
fn notations_have_their_own_ways() {
    let told = [
        told(
            "ini",
            "name = fern ; really\n[soil]\n; no\nkind=wet\nnonsense\n[soil]\ndepth = 2",
        ),
        told(
            "properties",
            "id=fern\\\n  -tree\n! no\nwho: \\u00c9va\nbare\n",
        ),
        told(
            "xml",
            "<?xml version='1.0'?><m:fern xmlns:m='x' id='f'><!-- no --><need id='moss' from='1'/><need id='soil'/><title> Fern </title></m:fern>",
        ),
        told("lines", "# no\nmoss\n\n  soil?\n"),
        told(
            "script",
            "size { wide = 2, ['long'] = -3.5, 'x' }\nfile 'A' 'b.dat'\nempty {}",
        ),
        told(
            "script",
            "x = 1 + 2\nif a then\n  id 'not this'\nend\nneeds { f('x'), id = 'nor this' }\nid [==[\na]]b]==]",
        ),
        told("yaml", "a: {b: [1, 'yes', yes]}\n? c\n: d\n"),
        told("toml", "a = 1.10\nb = true\n[[c]]\nd = 2031-05-04\n"),
    ];
    insta::assert_snapshot!(told.join("\n"), @r#"
    {name: "fern ; really", soil: {depth: "2", kind: "wet"}}
    {bare: "", id: "fern-tree", who: "Éva"}
    {fern: {@id: "f", need: [{@from: "1", @id: "moss"}, {@id: "soil"}], title: "Fern"}}
    {lines: ["moss", "soil?"]}
    {empty: [], file: ["A", "b.dat"], size: {1: "x", long: "-3.5", wide: "2"}}
    {id: "a]]b"}
    {a: {b: ["1", "yes", "yes"]}, c: "d"}
    {a: "1.10", b: "true", c: [{d: "2031-05-04"}]}
    "#);
}

#[test]
fn faults_name_the_line() {
    let deep = |open: &str, n: usize| open.repeat(n);
    let told = [
        told("toml", "a = 1\nb = \n"),
        told("json", "{\n \"a\": 1\n \"b\": 2 }"),
        told("json", "[1]"),
        told("json", ""),
        told("yaml", "a: 1\n\tb: 2\n"),
        told("yaml", "a: &x 1\nb: *x\n"),
        told("yaml", "- 1\n"),
        told("xml", "<a>\n<b></a>"),
        told("xml", "<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>"),
        told("script", "a 'x'\nb 'not closed\n"),
        told("script", "a {\n 'x',\n"),
        told("script", "--[[ not closed"),
        told("properties", "a=\\u00z1\n"),
        told("json", &deep("{\"a\":", 50_000)),
        told("toml", &format!("a = {}", deep("[", 50_000))),
        told("yaml", &deep("[", 50_000)),
        told("yaml", &deep("- ", 50_000)),
        told("xml", &deep("<a>", 50_000)),
        told("xml", &(deep("<a>", 5_000) + &deep("</a>", 5_000))),
        told("script", &format!("a {}", deep("{", 50_000))),
    ];
    insta::assert_snapshot!(told.join("\n"), @r"
    line 2: string values must be quoted, expected literal string
    line 2: Expected comma
    line 1: it is not an object { … }
    line 1: it is empty
    line 1: while scanning a plain scalar, found a tab
    line 2: it uses an alias, and those are not read
    line 1: it is not a table of keys
    line 2: expected 'b' tag, not 'a' at 2:4
    line 1: XML with DTD detected
    line 2: a text is not closed
    line 1: a table is not closed
    line 1: a long text or comment is not closed
    line 1: Malformed \uxxxx encoding: not hex. (line_number = 1)
    line 1: Maximum nesting depth exceeded
    line 1: cannot recurse further; max recursion depth met
    line 1: recursion limit exceeded
    line 1: it is nested more than 64 deep
    line 1: the root node was opened but never closed
    it is nested more than 64 deep
    line 1: it is nested more than 64 deep
    ");
}

proptest! {
    #[test]
    fn no_text_breaks_a_parser(
        notation in prop::sample::select(vec![
            "toml", "json", "yaml", "ini", "properties", "xml", "manifest", "lines", "header", "script",
        ]),
        pieces in prop::collection::vec(prop_oneof![
            prop::sample::select(vec![
                "{", "}", "[", "]", "(", ")", "[[", "]]", "=", ":", ",", "'", "\"", "\n", "--", "--[[", "#",
                " ", "\\", "\\u", "<", ">", "</", "&", "- ", "? ", "|", "a", "1.5", "é", "end", "if", "\t", "\r",
            ]).prop_map(str::to_owned),
            ".{0,6}",
        ], 0..40),
    ) {
        let _ = told(notation, &pieces.concat());
    }

    /// What a table holds survives being written as TOML, JSON or a manifest script, and read.
    #[test]
    fn what_is_written_is_read(pairs in prop::collection::btree_map("[a-df-h][a-z]{0,5}", "[ -!#-&(-\\[\\]-~é]{0,12}", 0..6)) {
        // Words of the scripting notation are no names in it.
        let words = ["and", "break", "do", "else", "elseif", "end", "if", "in", "local", "nil", "not", "or", "repeat", "return",
            "then", "true", "until", "while"];
        prop_assume!(!pairs.keys().any(|name| words.contains(&name.as_str())));
        let expected: Table = pairs.iter().map(|(k, v)| (k.clone(), Node::Text(v.clone()))).collect();
        let json = serde_json::to_string(&pairs).unwrap();
        let toml: String = pairs.iter().map(|(k, v)| format!("{k} = \"{v}\"\n")).collect();
        let script: String = pairs.iter().map(|(k, v)| format!("{k} = '{v}'\n")).collect();
        let yaml = json.clone();
        for (notation, text) in [("json", json), ("toml", toml), ("script", script), ("yaml", yaml)] {
            if notation == "yaml" && pairs.is_empty() { continue; }
            let read = parse(&file(notation, ""), &text).unwrap();
            // A keyword of the scripting notation cannot be a name there.
            if notation == "script" && pairs.contains_key("local") { continue; }
            prop_assert_eq!(&read, &expected, "{}: {}", notation, text);
        }
    }
}

#[test]
fn what_is_no_text_in_toml_stays_as_it_was_written() {
    let text = "\u{feff}a.b = 1.10  # ten\r\nlist = [ 1.20 ,2 ]\r\nin = { v = 0x1F , on = true }\r\n\
                day = 2031-04-12 07:30:00Z\r\n[[t]]\r\nv=1_000\r\n";
    insta::assert_snapshot!(
        told("toml", text),
        @r#"{a: {b: "1.10"}, day: "2031-04-12 07:30:00Z", in: {on: "true", v: "0x1F"}, list: ["1.20", "2"], t: [{v: "1_000"}]}"#
    );
}
