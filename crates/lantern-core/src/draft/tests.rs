//! Drafts of made-up folders.

use super::*;
use crate::family::Family;
use proptest::prelude::*;

#[test]
fn a_draft_is_a_family_that_finds_what_was_seen() {
    let path = |text: &str| RelPath::parse(text).unwrap();
    let addon = "id = 'fern'\nversion = '1.0'\n[depends]\nmoss = '*'\n";
    let sample = Sample {
        paths: [
            "addons/fern_1.0.bloom",
            "addons/moss_v2.bloom",
            "leaves/a.leaf",
            "leaves/b.leaf",
            "logs/x.log",
            "stock/one/about.json",
            "stock/two/about.json",
            "start.sh",
            "top.conf",
            "worlds/w/map",
        ]
        .map(path)
        .to_vec(),
        archives: BTreeMap::from([
            (
                path("addons/fern_1.0.bloom"),
                vec!["addon.toml".into(), "b.bin".into()],
            ),
            (path("addons/moss_v2.bloom"), vec!["addon.toml".into()]),
        ]),
        texts: BTreeMap::from([
            ("addons/fern_1.0.bloom!addon.toml".into(), addon.into()),
            (
                "stock/one/about.json".into(),
                "{\"pack\": {\"Name\": \"one\", \"version\": 2}}".into(),
            ),
            (
                "stock/two/about.json".into(),
                "{\"pack\": {\"Name\": \"two\", \"version\": 1}}".into(),
            ),
            (
                "leaves/a.leaf".into(),
                "// name: dial\n// version: 3\n".into(),
            ),
        ]),
        ..Sample::default()
    };
    let text = draft("fern \"house\"", &sample);
    Family::parse(&text).unwrap();
    insta::assert_snapshot!(text, @r#"
    # A first draft, guessed from a folder. Look at every line; what is marked TODO has to be said.
    # What each key means: lantern docs family. Try it: lantern family check THIS --on FOLDER
    format = 1
    name = 'fern "house"'
    title = 'fern "house" server'
    marks = ["top.conf"]    # files that only such a server has

    [build]
    id = "TODO"    # the server program; give it a reader of kind "build", or say outside = true
    outside = true

    [layout]
    keep = ["worlds/**"]    # worlds, players, bans: never written
    passing = ["logs/**"]    # logs, caches
    settings = ["start.sh", "top.conf"]    # the place's own

    # Seen 2 of these.
    [[reader]]
    name = "bloom"
    kind = "addon"
    shape = "archive"
    at = "addons/*.bloom"
    install = "addons/{id}_{version}.bloom"
    files = [{ name = "addon.toml", notation = "toml" }]

    [reader.fields]
    id = "id"
    version = "version"
    needs = "depends"

    # Seen 2 of these.
    [[reader]]
    name = "stock"
    kind = "addon"
    shape = "folder"
    at = "stock/*"
    install = "stock/{id}"
    files = [{ name = "about.json", notation = "json" }]

    [reader.fields]
    id = "pack.Name"
    version = "pack.version"

    # Seen 2 of these.
    [[reader]]
    name = "leaf"
    kind = "addon"
    shape = "file"
    at = "leaves/*.leaf"
    install = "leaves/{id}.leaf"
    files = [{ name = ".", notation = "header", line = '^\s*[#;/*-]+\s*@?(?P<key>[A-Za-z]+)\s*[:=]\s*(?P<value>.+?)\s*$' }]

    [reader.fields]
    id = "name"
    version = "version"

    # Where the load order is written, if anywhere: [order], see: lantern docs family

    [launch]
    command = ["sh", "start.sh"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
}

fn sampled(paths: &[(&str, Option<&str>)]) -> Sample {
    let path = |text: &str| RelPath::parse(text).unwrap();
    let texts = paths
        .iter()
        .filter_map(|(path, text)| Some(((*path).to_owned(), (*text)?.into())));
    Sample {
        paths: paths.iter().map(|(text, _)| path(text)).collect(),
        texts: texts.collect(),
        ..Sample::default()
    }
}

#[test]
fn descriptors_of_no_known_ending_in_folders_that_have_numbers() {
    let about = |id: &str, needs: &str| {
        format!("name=The {id}\r\nid={id}\r\nrequire={needs}\r\npicture=a.png\r\n")
    };
    let (heron, otter, reed) = (
        about("heron", "\\reed"),
        about("otter", "\\reed,\\heron"),
        about("reed", ""),
    );
    let settings =
        "# RconPort=27\nRconPort=2701\nGamePort=27815\nMods=reed;heron\nItems=7302;7309\n";
    let sample = sampled(&[
        ("items/7302/mods/Herons/a.png", None),
        ("items/7302/mods/Herons/mod.about", Some(&heron)),
        ("items/7309/mods/Otters/a.png", None),
        ("items/7309/mods/Otters/mod.about", Some(&otter)),
        ("items/7309/mods/Reed/a.png", None),
        ("items/7309/mods/Reed/mod.about", Some(&reed)),
        ("marsh.ini", Some(settings)),
        ("start.sh", Some("#!/bin/bash\n./marshd\n")),
    ]);
    insta::assert_snapshot!(guessed(&sample), @r#"
    [layout]
    keep = []    # worlds, players, bans: never written
    passing = []    # logs, caches
    settings = ["marsh.ini", "start.sh"]    # the place's own

    # Seen 3 of these.
    [[reader]]
    name = "mods"
    kind = "addon"
    shape = "folder"
    at = "items/*/mods/*"
    install = "items/{path}"
    files = [{ name = "mod.about", notation = "ini" }]

    [reader.fields]
    id = "id"
    title = "name"
    needs = { at = "require", split = ",", pattern = '^\W*(?P<id>[\w.-]+)\s*(?P<range>.*)$' }

    # Names 2 of what was seen, in one line.
    [order]
    kind = "list"
    file = "marsh.ini"
    line = '^Mods=(?P<list>.*?)\s*$'
    write = "{id}"
    between = ";"

    # Names 2 of the folders that they lie in, in one line.
    [[also]]
    name = "items"    # what people call it
    kind = "list"
    file = "marsh.ini"
    line = '^Items=(?P<list>.*?)\s*$'
    write = "{id}"
    between = ";"
    each = "^items/(?P<value>[^/]+)/"

    [launch]
    command = ["bash", "start.sh"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    port = { file = "marsh.ini", line = 'GamePort=(?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
}

#[test]
fn files_that_are_called_alike_are_one_add_on() {
    let mut sample = sampled(&[
        ("Pit/Bin/pitd", None),
        (
            "Pit/Parts/~more/carts.about",
            Some("{\"version\": \"1.2\"}"),
        ),
        ("Pit/Parts/~more/carts.idx", None),
        ("Pit/Parts/~more/carts.part", None),
        (
            "Pit/Parts/~more/ropes.about",
            Some("{\"version\": \"0.3\"}"),
        ),
        ("Pit/Parts/~more/ropes.idx", None),
        ("Pit/Parts/~more/ropes.part", None),
        ("Pit/Saved/Config/Game.ini", Some("[Pit]\nSeats=8\n")),
        ("Pit/Saved/Logs/Pit.log", None),
        ("Pit/Saved/SaveGames/Pit.sav", None),
        ("Pit/Saved/Tally/day.db", None),
        (
            "PitServer.sh",
            Some("#!/bin/sh\nexec Pit/Bin/pitd \"$@\"\n"),
        ),
        ("run.sh", Some("#!/bin/bash\n./PitServer.sh -Port=17777\n")),
    ]);
    let late = ["Pit/Saved/Logs/Pit.log", "Pit/Saved/Tally/day.db"];
    sample.written = late.map(|path| RelPath::parse(path).unwrap()).to_vec();
    sample.log = Some("Mounted \"../Pit/Parts/~more/carts.part\"\n".into());
    insta::assert_snapshot!(guessed(&sample), @r#"
    [layout]
    keep = ["Pit/Saved/SaveGames/**", "Pit/Saved/Tally/**"]    # worlds, players, bans: never written
    passing = ["Pit/Saved/Logs/**"]    # logs, caches
    settings = ["PitServer.sh", "run.sh", "Pit/Saved/Config/**"]    # the place's own

    # Seen 2 of these.
    [[reader]]
    name = "part"
    kind = "addon"
    shape = "file"
    at = "Pit/Parts/~more/*.part"
    install = "Pit/Parts/~more/{id}.part"
    with = ["{stem}.idx"]
    files = [{ name = "{stem}.about", notation = "json" }]

    [reader.fields]
    version = "version"

    # Where the load order is written, if anywhere: [order], see: lantern docs family

    [launch]
    command = ["bash", "run.sh"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    port = { file = "run.sh", line = '\-Port=(?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
}

#[test]
fn libraries_that_a_file_names_with_arguments() {
    let mut sample = sampled(&[
        (
            "arena.conf",
            Some(
                "-port 5154\n# -load plugins/old.so\n-load plugins/fern.so,wet\n-load plugins/moss.so\n",
            ),
        ),
        ("plugins/fern.so", None),
        ("plugins/ivy.so", None),
        ("plugins/moss.so", None),
        ("plugins/README", None),
        ("records/1.rec", None),
    ]);
    sample.written = vec![RelPath::parse("records/1.rec").unwrap()];
    sample.releases = vec![
        (
            "plugin-fern-2.4.30.zip".into(),
            vec!["plugin-fern/fern.so".into(), "plugin-fern/README".into()],
        ),
        ("odd.zip".into(), vec!["nothing".into()]),
    ];
    sample.log = Some(
        "[12:01:07] Plugin: plugins/fern.so loaded\n[12:01:07] Plugin: plugins/moss.so loaded\n\
         [12:01:08] INFO: listening on port 5154\n"
            .into(),
    );
    insta::assert_snapshot!(guessed(&sample), @r#"
    [layout]
    keep = ["records/**"]    # worlds, players, bans: never written
    passing = []    # logs, caches
    settings = ["arena.conf"]    # the place's own

    # Seen 3 of these.
    [[reader]]
    name = "so"
    kind = "addon"
    shape = "file"
    at = "plugins/*.so"
    install = "plugins/{id}.so"
    drop = "*.zip"
    inside = "**/*.so"

    [reader.fields]
    version = { at = "$archive", pattern = '[-_ ]v?(?P<value>\d[\w.:~+-]*)$' }

    # Names 2 of what was seen.
    [order]
    kind = "sequence"
    file = "arena.conf"
    line = '^\s*\-load plugins/(?P<id>[\w-]+?)\.so'
    write = "-load plugins/{id}.so"

    [launch]
    command = ["sh", "TODO"]

    [console]
    ready = 'listening on port \d+'    # TODO: is it this line?
    loaded = 'Plugin: plugins/(?P<id>[\w-]+)'    # named 2
    errors = ['\bERROR']    # TODO: what else does a bad start print?
    port = { file = "arena.conf", line = '\-port (?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
}

#[test]
fn packs_of_folders_of_which_one_file_tells() {
    let flags = sampled(&[
        ("mods/glade/modpack.conf", Some("x")),
        ("mods/glade/fern/init.lua", Some("y")),
        ("mods/glade/ivy/init.lua", Some("y")),
        ("mods/moss/init.lua", Some("y")),
        ("mods/oak/init.lua", Some("y")),
        (
            "worlds/w/world.mt",
            Some("load_mod_moss = true\nload_mod_oak = false\n"),
        ),
    ]);
    insta::assert_snapshot!(guessed(&flags), @r#"
    [layout]
    keep = ["worlds/**"]    # worlds, players, bans: never written
    passing = []    # logs, caches

    # Seen 1 of these.
    [[reader]]
    name = "mods-pack"
    kind = "pack"
    shape = "group"
    at = "mods/*"
    install = "mods/{id}"
    marks = ["modpack.conf"]
    members = "mods"

    # Seen 2 of these.
    [[reader]]
    name = "mods"
    kind = "addon"
    shape = "folder"
    at = "mods/*"
    install = "mods/{id}"
    marks = ["init.lua"]

    # Names 2 of what was seen.
    [order]
    kind = "flags"
    file = "worlds/w/world.mt"
    line = '^\s*load_mod_(?P<id>[\w-]+)\s*[=:]?\s*(?P<on>\S+)'
    write = "load_mod_{id} = {on}"
    on = "true"
    off = "false"

    [launch]
    command = ["sh", "TODO"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
    let order_in = |file: &str, text: &str| {
        let sample = sampled(&[
            ("rules/one/game.rules", Some("x")),
            ("rules/two/game.rules", Some("x")),
            (file, Some(text)),
        ]);
        let text = guessed(&sample);
        let order = text.split("\n\n").find(|part| part.contains("[order]"));
        order.unwrap_or_default().to_owned()
    };
    let bracketed = |list: &str| {
        let text = format!("{{\n  \"port\": 7000,\n  \"mods\": {list}\n}}\n");
        order_in("server.json", &text)
    };
    let spanning = "[\n    \"one\",\n    \"two\"\n  ]";
    insta::assert_snapshot!(bracketed(spanning), @r#"
    # Names 2 of what was seen, in brackets.
    [order]
    kind = "list"
    file = "server.json"
    line = '^\s*"mods":\s*\[(?P<list>[^\]]*)\]'
    spans = true
    write = '"{id}"'
    between = ", "
    "#);
    insta::assert_snapshot!(bracketed("[\"one\", \"two\"]"), @r#"
    # Names 2 of what was seen, in brackets.
    [order]
    kind = "list"
    file = "server.json"
    line = '^\s*"mods":\s*\[(?P<list>[^\]]*)\]'
    write = '"{id}"'
    between = ", "
    "#);
    // What is called as a list of what does not run.
    let disabled = "{\n  \"disabledMods\": [\"one\", \"two\"]\n}\n";
    insta::assert_snapshot!(order_in("server.json", disabled), @r#"
    # Names 2 of what was seen, in brackets.
    [order]
    kind = "list"
    lists = "off"    # by its name; TODO: or leave it out, if what it names runs
    file = "server.json"
    line = '^\s*"disabledMods":\s*\[(?P<list>[^\]]*)\]'
    write = '"{id}"'
    between = ", "
    "#);
    let one = disabled.replace("\"one\", ", "");
    assert!(order_in("server.json", &one).contains("lists = \"off\""));
    assert!(order_in("inactive.txt", "two\n").contains("lists = \"off\""));
    insta::assert_snapshot!(order_in("inactive.txt", "two\none\n"), @r#"
    # Names 2 of what was seen.
    [order]
    kind = "sequence"
    lists = "off"    # by its name; TODO: or leave it out, if what it names runs
    file = "inactive.txt"
    line = '^\s*(?P<id>[\w-]+)'
    write = "{id}"
    "#);
    // Tables that switch, however their keys are arranged.
    insta::assert_snapshot!(bracketed(r#"[{"name": "one", "on": true},
      {"name": "two", "from": "here", "on": false}, {"name": "all", "on": true}]"#), @r#"
    # Names 2 of what was seen, in tables.
    [order]
    kind = "flags"
    file = "server.json"
    line = '\{[^{}]*?"name"\s*:\s*"(?P<id>[^"]+)"[^{}]*?"on"\s*:\s*(?P<on>\w+)[^{}]*\}'
    spans = true
    write = '{ "name": "{id}", "on": {on} }'
    "#);
    insta::assert_snapshot!(bracketed(r#"[{"on": true, "name": "one"}, {"on": false, "name": "two"}]"#), @r#"
    # Names 2 of what was seen, in tables.
    [order]
    kind = "flags"
    file = "server.json"
    line = '\{[^{}]*?"on"\s*:\s*(?P<on>\w+)[^{}]*?"name"\s*:\s*"(?P<id>[^"]+)"[^{}]*\}'
    spans = true
    write = '{ "on": {on}, "name": "{id}" }'
    "#);
    insta::assert_snapshot!(bracketed(r#"[{"name": "one", "on": true}, {"name": "three", "on": true}]"#), @"# Where the load order is written, if anywhere: [order], see: lantern docs family");
    let counted = |lines: &str| order_in("server.ini", lines);
    insta::assert_snapshot!(counted("[rules]\nrule0 = two\nrule1 = one\nport = 7\n"), @r#"
    # Names 2 of what was seen, counting up.
    [order]
    kind = "sequence"
    file = "server.ini"
    line = '^\s*rule(?P<at>\d+) = (?P<id>[\w-]+)'
    write = "rule{at} = {id}"
    "#);
    insta::assert_snapshot!(counted("rule3 = two\nrule7 = one\n"), @"# Where the load order is written, if anywhere: [order], see: lantern docs family");
    // Where other sections have lines that look alike.
    insta::assert_snapshot!(counted("[net]\nport = 7\n[rules]\none = 1\ntwo = 0\n[game]\nrain = 1\n"), @r#"
    # Names 2 of what was seen.
    [order]
    kind = "flags"
    file = "server.ini"
    within = { from = '^\s*\[rules\]', to = '^\s*\[' }
    line = '^\s*(?P<id>[\w-]+)\s*[=:]?\s*(?P<on>\S+)'
    write = "{id} = {on}"
    on = "1"
    off = "0"
    "#);
    insta::assert_snapshot!(order_in("server.yml", "guests:\n  - ilva\nrules:\n  - two\n  - one\n"), @r#"
    # Names 2 of what was seen.
    [order]
    kind = "sequence"
    file = "server.yml"
    within = { from = "^rules:", to = '^[^\s#-]' }
    line = '^\s*\- (?P<id>[\w-]+)'
    write = "  - {id}"
    "#);
    assert!(!counted("[rules]\none = 1\ntwo = 0\n").contains("within"));
    let ports = sampled(&[(
        "server.ini",
        Some("[query]\nport = 7001\n[net]\nport = 7000\n"),
    )]);
    assert!(guessed(&ports).contains(r#"port = { file = "server.ini", key = "net.port", "#));
    insta::assert_snapshot!(bracketed("{\n    \"one\": true,\n    \"two\": false\n  },\n  \"game\": {\n    \"rain\": true\n  }"), @r#"
    # Names 2 of what was seen, as keys of a table.
    [order]
    kind = "flags"
    file = "server.json"
    within = { from = '^\s*"mods"\s*:\s*\{', to = '^\s*\}' }
    line = '"(?P<id>[^"]+)"\s*:\s*(?P<on>true|false)'
    spans = true
    write = '"{id}": {on}'
    "#);
    let alone = order_in("rules.json", "{\n  \"one\": true,\n  \"two\": false\n}\n");
    assert!(alone.contains("as keys of a table") && !alone.contains("within"));
    // In quotes and brackets, which are closed as they are there.
    insta::assert_snapshot!(order_in("rules.lua", "return {\n  [\"one\"] = { on = true, tall = true },\n  [\"two\"] = { on = false },\n}\n"), @r#"
    # Names 2 of what was seen.
    [order]
    kind = "flags"
    file = "rules.lua"
    within = { from = '^return \{', to = '^[})\]]' }
    line = '^\s*\["(?P<id>[\w-]+)"\].*?\bon\s*[=:]\s*(?P<on>\w+)'
    write = '  ["{id}"] = { on = {on} },'
    "#);
    insta::assert_snapshot!(order_in("rules.cfg", "load \"one\"\nload \"two\"\n"), @r#"
    # Names 2 of what was seen.
    [order]
    kind = "sequence"
    file = "rules.cfg"
    line = '^\s*load "(?P<id>[\w-]+)"'
    write = 'load "{id}"'
    "#);
    insta::assert_snapshot!(order_in("rules.py", "rules = [\n    'one',\n    'two',\n]\n"), @r#"
    # Names 2 of what was seen, in brackets.
    [order]
    kind = "list"
    file = "rules.py"
    line = '^\s*rules =\s*\[(?P<list>[^\]]*)\]'
    spans = true
    write = "'{id}'"
    between = ", "
    "#);
    insta::assert_snapshot!(order_in("server.cfg", "rule = \"two\"\n"), @r#"
    # Names 1 of what was seen.
    [order]
    kind = "one"    # TODO: or "sequence"
    file = "server.cfg"
    line = '^\s*rule = "(?P<id>[\w-]+)"'
    write = 'rule = "{id}"'
    "#);
    assert!(!order_in("rules.cfg", "load \"one\"\nload \"two early\"\n").contains("[order]\n"));
    // Under heads of their own.
    let listed = "[net]\nport = 1\n\n[[rule]]\nname = \"one\"\nsince = 3\non = true\nuntil = 9\n\n[[rule]]\nname = \"two\"\non = false\n\n[game]\n";
    insta::assert_snapshot!(order_in("server.toml", listed), @r#"
    # Names 2 of what was seen, in tables.
    [order]
    kind = "flags"
    file = "server.toml"
    line = '^\[\[rule\]\][^\[\]]*?\bname\s*=\s*"(?P<id>[^"]+)"[^\[\]]*?\bon\s*=\s*(?P<on>\w+)[^\n]*(?:\n[^\[\s#][^\n]*)*'
    spans = true
    write = """
    [[rule]]
    name = "{id}"
    on = {on}"""
    "#);
    assert!(!order_in("server.toml", &listed.replace("on = ", "# ")).contains("[order]\n"));
    let list = sampled(&[
        ("rules/one/game.rules", Some("x")),
        ("rules/two/game.rules", Some("x")),
        ("server.ini", Some("[a]\nport = 7000\nmods = one;two\n")),
    ]);
    insta::assert_snapshot!(guessed(&list), @r#"
    [layout]
    keep = []    # worlds, players, bans: never written
    passing = []    # logs, caches
    settings = ["server.ini"]    # the place's own

    # Seen 2 of these.
    [[reader]]
    name = "rules"
    kind = "addon"
    shape = "folder"
    at = "rules/*"
    install = "rules/{id}"
    marks = ["game.rules"]

    # Names 2 of what was seen, in one line.
    [order]
    kind = "list"
    file = "server.ini"
    line = '^mods = (?P<list>.*?)\s*$'
    write = "{id}"
    between = ";"

    [launch]
    command = ["sh", "TODO"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    port = { file = "server.ini", key = "a.port", transport = "tcp" }    # TODO: or "udp"?
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
    let one = sampled(&[
        ("civ/game.rules", Some("x")),
        ("classic/game.rules", Some("x")),
        ("start.serv", Some("rulesdir civ\n")),
    ]);
    insta::assert_snapshot!(guessed(&one), @r#"
    [layout]
    keep = []    # worlds, players, bans: never written
    passing = []    # logs, caches

    # Seen 2 of these.
    [[reader]]
    name = "folder"
    kind = "addon"
    shape = "folder"
    at = "*"
    install = "{id}"
    marks = ["game.rules"]

    # Names 1 of what was seen.
    [order]
    kind = "one"    # TODO: or "sequence"
    file = "start.serv"
    line = '^\s*rulesdir (?P<id>[\w-]+)'
    write = "rulesdir {id}"

    [launch]
    command = ["sh", "TODO"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
}

#[test]
fn folders_of_one_kind_of_file_that_hashes_stand_in_front_of() {
    let mut sample = sampled(&[
        ("rails/fern/fern.track", None),
        ("rails/fern/readme.txt", Some("x")),
        ("rails/moss/moss.track", None),
        ("rails/moss/readme.txt", Some("x")),
        (
            "line.cfg",
            Some(
                "server_port = 3979\n[rails]\n46520101|E35C8FF2C60F|fern/fern.track = \n4D530101|8332B720E357|moss/moss.track = 3 4\n",
            ),
        ),
    ]);
    sample.releases = vec![("fern-2.tar".into(), vec!["fern-2/fern.track".into()])];
    sample.log = Some("line loaded\nreading 'fern/fern.track'\nreading 'moss/moss.track'\n".into());
    insta::assert_snapshot!(guessed(&sample), @r#"
    [layout]
    keep = []    # worlds, players, bans: never written
    passing = []    # logs, caches
    settings = ["line.cfg"]    # the place's own

    # Seen 2 of these.
    [[reader]]
    name = "rails"
    kind = "addon"
    shape = "folder"
    at = "rails/*"
    install = "rails/{id}"
    marks = ["*.track"]
    drop = "*.tar"

    [reader.fields]
    id = { at = "$name", pattern = '^(?P<value>.+?)([-_ ]v?\d[\w.:~+-]*)?$' }
    version = { at = "$archive", pattern = '[-_ ]v?(?P<value>\d[\w.:~+-]*)$' }

    # Names 2 of what was seen.
    [order]
    kind = "sequence"
    file = "line.cfg"
    line = '^\s*(?:[0-9A-Fa-f]+\|[0-9A-Fa-f]+\|)?(?P<id>[\w-]+)/[\w-]+\.track ='
    write = "{id}/{id}.track = "

    [launch]
    command = ["sh", "TODO"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    loaded = '''^reading '(?P<id>[\w-]+)'''    # named 2
    port = { file = "line.cfg", line = 'server_port = (?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
}

#[test]
fn what_is_off_and_what_add_ons_write_is_no_kind_of_its_own() {
    let about = Some("name: Fern\nversion: 1.2\n");
    let mut sample = sampled(&[
        ("beds/sage/bed.toml", Some("id = 'sage'\nversion = '1'\n")),
        ("beds/thyme/bed.toml", Some("id = 'thyme'\nversion = '1'\n")),
        ("beds/rue.off/bed.toml", Some("id = 'rue'\nversion = '1'\n")),
        ("pots-off/iris.pot", Some("# name: iris\n# version: 1\n")),
        ("pots/lily.pot", Some("# name: lily\n# version: 1\n")),
        ("pots/rose.pot", Some("# name: rose\n# version: 1\n")),
        ("sprigs/Fern-1.2.sprig", None),
        ("sprigs/Fern-1.2.sprig!about.yml", about),
        ("sprigs/Fern/told.json", Some("{\"name\": \"x\"}")),
        ("sprigs/Moss-0.9.sprig", None),
        ("sprigs/Moss/told.json", Some("{\"name\": \"y\"}")),
        ("sprigs/Reed-2.0.sprig.off", None),
    ]);
    let archives = ["Fern-1.2.sprig", "Moss-0.9.sprig", "Reed-2.0.sprig.off"];
    for name in archives {
        let path = RelPath::parse(&format!("sprigs/{name}")).unwrap();
        sample.archives.insert(path, vec!["about.yml".into()]);
    }
    sample.log = Some("12:00:01 up comes Fern v1.2\n12:00:02 up comes Moss v0.9\n".into());
    insta::assert_snapshot!(guessed(&sample), @r#"
    [layout]
    keep = []    # worlds, players, bans: never written
    passing = []    # logs, caches
    data = ["sprigs/*"]    # what add-ons write: kept, too

    # Seen 2 of these.
    [[reader]]
    name = "sprig"
    kind = "addon"
    shape = "archive"
    at = "sprigs/*.sprig"
    off = "{name}.off"
    install = "sprigs/{id}-{version}.sprig"
    files = [{ name = "about.yml", notation = "yaml" }]

    [reader.fields]
    id = "name"
    version = "version"
    data = { at = "name", template = "sprigs/{}" }

    # Seen 2 of these.
    [[reader]]
    name = "beds"
    kind = "addon"
    shape = "folder"
    at = "beds/*"
    off = "{name}.off"
    install = "beds/{id}"
    files = [{ name = "bed.toml", notation = "toml" }]

    [reader.fields]
    id = "id"
    version = "version"

    # Seen 2 of these.
    [[reader]]
    name = "pot"
    kind = "addon"
    shape = "file"
    at = "pots/*.pot"
    off = "{folder}-off/{name}"
    install = "pots/{id}.pot"
    files = [{ name = ".", notation = "header", line = '^\s*[#;/*-]+\s*@?(?P<key>[A-Za-z]+)\s*[:=]\s*(?P<value>.+?)\s*$' }]

    [reader.fields]
    id = "name"
    version = "version"

    # Where the load order is written, if anywhere: [order], see: lantern docs family

    [launch]
    command = ["sh", "TODO"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    loaded = 'up comes (?P<id>[\w-]+) v(?P<version>\d[\w.:~+-]*)'    # named 2
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
}

/// What descriptors say of whether their add-ons run: only where no other file does, and only in words that are of a pair.
#[test]
fn descriptors_that_say_whether_their_add_ons_run() {
    let switches = |descriptors: [&str; 3], more: &[(&str, Option<&str>)]| {
        let places = [
            "beds/rue/bed.json",
            "beds/sage/bed.json",
            "beds/thyme/bed.json",
        ];
        let beds = places.into_iter().zip(descriptors.map(Some));
        let all: Vec<_> = beds.chain(more.iter().copied()).collect();
        let text = guessed(&sampled(&all));
        let mut lines = text.lines().filter(|line| line.starts_with("switch"));
        lines.next().unwrap_or("none").to_owned()
    };
    let beds = |rue: &str, sage: &str| {
        let bed =
            |id: &str, more: &str| format!("{{ \"id\": \"{id}\", \"version\": \"1\"{more} }}");
        [bed("rue", rue), bed("sage", sage), bed("thyme", "")]
    };
    let of = |rue: &str, sage: &str, more: &[(&str, Option<&str>)]| {
        let beds = beds(rue, sage);
        switches([&beds[0], &beds[1], &beds[2]], more)
    };
    let list = [("gate.conf", Some("plant rue\nplant sage\nplant thyme\n"))];
    let told = [
        of(", \"enabled\": true", ", \"enabled\": false", &[]),
        of(", \"Disabled\": \"no\"", ", \"Disabled\": \"yes\"", &[]),
        of(", \"enabled\": true", ", \"enabled\": \"maybe\"", &[]),
        of(", \"fire\": { \"enabled\": true }", "", &[]),
        of(", \"enabled\": true", ", \"enabled\": false", &list),
    ];
    insta::assert_snapshot!(told.join("\n"), @r#"
    switch = { file = "bed.json", key = "enabled" }    # TODO: whether that says if it runs
    switch = { file = "bed.json", key = "Disabled", on = "no", off = "yes" }    # TODO: whether that says if it runs
    none
    none
    none
    "#);
}

/// Archives in each of which one folder is called as it is, and a list that says what each needs with marks before some.
#[test]
fn archives_with_a_folder_of_their_own_name() {
    let about = |name: &str, needs: &str| {
        format!("{{\"name\": \"{name}\", \"version\": \"1.2\", \"requires\": {needs}}}")
    };
    let releases = [
        (
            "fern",
            "1.2",
            about("fern", r#"["moss >= 1", "? reed", "! ivy > 2"]"#),
        ),
        ("moss", "1.0.1", about("moss", "[]")),
    ];
    let mut sample = sampled(&[("gate.json", Some("{\n  \"port\": 7000\n}\n"))]);
    for (name, version, text) in releases {
        let (path, inside) = (
            format!("beds/{name}_{version}.zip"),
            format!("{name}_{version}/about.json"),
        );
        sample.texts.insert(format!("{path}!{inside}"), text);
        let path = RelPath::parse(&path).unwrap();
        sample.archives.insert(path.clone(), vec![inside]);
        sample.paths.push(path);
    }
    insta::assert_snapshot!(guessed(&sample), @r##"
    [layout]
    keep = []    # worlds, players, bans: never written
    passing = []    # logs, caches
    settings = ["gate.json"]    # the place's own

    # Seen 2 of these.
    [[reader]]
    name = "zip"
    kind = "addon"
    shape = "archive"
    at = "beds/*.zip"
    install = "beds/{id}_{version}.zip"
    files = [{ name = "*/about.json", notation = "json" }]

    [reader.fields]
    id = "name"
    version = "version"
    needs = { at = "requires", pattern = '^(?P<id>\w[\w.-]*)\s*(?P<range>.*)$' }

    # Where the load order is written, if anywhere: [order], see: lantern docs family

    [launch]
    command = ["sh", "TODO"]

    [console]
    ready = 'TODO: the line that says that the server is ready'
    port = { file = "gate.json", line = '"port": (?P<port>\d+)', transport = "tcp" }    # TODO: or "udp"?
    stop = { signal = "TERM" }    # or { command = "…" }
    "##);
}

/// Add-ons in a folder for each who makes them, settings in XML, and a start that says by its port that it is ready.
#[test]
fn folders_in_folders_that_the_load_order_names() {
    let about = |id: &str, needs: &str| format!("name={id}\nversion=1.2\nrequires={needs}\n");
    let (clay, bisque, glaze) = (
        about("clay", ""),
        about("bisque", "clay>=2"),
        about("glaze", "clay>=2;bisque"),
    );
    let mut sample = sampled(&[
        (
            "etc/firing.order",
            Some("mira/clay\nmira/bisque\node/glaze\n"),
        ),
        (
            "etc/kiln.xml",
            Some("<kiln>\n  <query port=\"7000\"/>\n  <port>7781</port>\n</kiln>\n"),
        ),
        ("plugins/mira/bisque/about.properties", Some(&bisque)),
        ("plugins/mira/clay/about.properties", Some(&clay)),
        ("plugins/ode/glaze/about.properties", Some(&glaze)),
        ("run.sh", Some("#!/bin/bash\n./kiln\n")),
    ]);
    sample.log = Some(
        "fired clay (1.2)\nfired bisque (1.2)\nkiln hot on 7781\n  clay = 1.2\n  bisque = 1.2\n"
            .into(),
    );
    insta::assert_snapshot!(guessed(&sample), @r#"
    [layout]
    keep = []    # worlds, players, bans: never written
    passing = []    # logs, caches
    settings = ["run.sh"]    # the place's own

    # Seen 3 of these.
    [[reader]]
    name = "plugins"
    kind = "addon"
    shape = "folder"
    at = "plugins/*/*"
    install = "plugins/{path}"
    files = [{ name = "about.properties", notation = "properties" }]

    [reader.fields]
    id = "name"
    version = "version"
    needs = { at = "requires", split = ";", pattern = '^\W*(?P<id>[\w.-]+)\s*(?P<range>.*)$' }

    # Names 3 of what was seen, by where it lies.
    [order]
    kind = "sequence"
    file = "etc/firing.order"
    line = '^\s*(?P<id>[^#;\s]\S*)\s*$'
    write = "{id}"
    each = "^plugins/(?P<value>[^/]+/[^/]+)$"

    [launch]
    command = ["bash", "run.sh"]

    [console]
    ready = '^kiln hot on \d+'    # TODO: is it this line?
    loaded = '^fired (?P<id>[\w-]+) \((?P<version>\d[\w.:~+-]*)'    # named 2
    port = { file = "etc/kiln.xml", key = "kiln.port.#text", transport = "tcp" }    # TODO: or "udp"?
    stop = { signal = "TERM" }    # or { command = "…" }
    "#);
}

#[test]
fn a_program_is_known_by_the_script_that_starts_it() {
    let told = [
        ("house-3.2.run", "exec ./house-3.2.run --quiet\n"),
        ("bin/house_v3.2.0", "cd bin\n./house_v3.2.0\n"),
        ("house-3.2.run", "exec ./house.run\n"),
    ]
    .map(|(file, script)| {
        let sample = sampled(&[(file, None), ("go.sh", Some(script))]);
        let family = Family::parse(&draft("house", &sample)).unwrap();
        let Some(reader) = family.reader("program") else {
            return format!("{file}: no program");
        };
        let at = reader.at.texts().collect::<Vec<_>>().join(" ");
        let finds = family.pins[0].line.as_ref().unwrap();
        let found = script.lines().find_map(|line| finds.capture("value", line));
        let install = reader.install.as_deref();
        format!("{file}: {}, {at}, {install:?}, {found:?}", family.build.id)
    });
    insta::assert_snapshot!(told.join("\n"), @r#"
    house-3.2.run: house, house-*.run, Some("house-{version}.run"), Some("house-3.2.run")
    bin/house_v3.2.0: house, bin/house_v*, Some("bin/house_v{version}"), Some("house_v3.2.0")
    house-3.2.run: no program
    "#);
}

/// What a draft says from its layout on, without its fixed lines.
fn guessed(sample: &Sample) -> String {
    let text = draft("house", sample);
    Family::parse(&text).unwrap();
    let from = text.find("[layout]").unwrap();
    text[from..].to_owned()
}

proptest! {
    #[test]
    fn every_draft_is_a_family(
        names in proptest::collection::vec("[a-z'\"\\\\{}\\[\\]*é -]{1,6}", 2..6),
        text in "(?s).{0,80}",
        log in "(?s).{0,120}",
    ) {
        let mut sample = Sample { log: Some(log), ..Sample::default() };
        let mut place = |text: String| {
            if let Ok(path) = RelPath::parse(&text) {
                sample.paths.push(path);
            }
        };
        for name in &names {
            place(format!("{}/{name}.so", names[0]));
            place(format!("{}/{name}/{}", names[0], names[1]));
        }
        sample.paths.sort();
        sample.paths.dedup();
        sample.texts.insert("a.conf".into(), format!("{text}\n{}\nport={}", names.join(","), names[0]));
        sample.releases.push((format!("{}-1.zip", names[0]), names.clone()));
        let text = draft(&names[0], &sample);
        let read = Family::parse(&text).map(|_| ());
        prop_assert!(read.is_ok(), "{:?}\n{}", read, text);
    }
}

/// What a draft makes of a file, with an add-on of each id there, and what is read with that.
fn ordered(ids: [&str; 3], (file, order): (&str, &str)) -> String {
    let about = ids.map(|id| {
        let text = format!("{{\"name\": \"{id}\", \"version\": \"1.2.0\"}}");
        (format!("mods/{id}/about.json"), text)
    });
    let mut files: Vec<(&str, Option<&str>)> = about
        .iter()
        .map(|(path, text)| (path.as_str(), Some(text.as_str())))
        .collect();
    files.extend([(file, Some(order)), ("run.sh", Some("exit\n"))]);
    let text = draft("a", &sampled(&files));
    let family = Family::parse(&text).unwrap();
    let Some(rule) = &family.order else {
        return format!("{order}=> none\n");
    };
    let read = crate::order::Arrangement::read(rule, order);
    let entries = read.entries.iter().map(|entry| {
        let version = entry.version.as_ref().map_or("-", |it| it.text.as_str());
        format!("{} {version} {}", entry.id, entry.on)
    });
    let keys = text.split("\n[order]\n").nth(1).unwrap();
    let keys = keys.split("\n\n").next().unwrap();
    format!(
        "{order}{keys}\n=> {}\n",
        entries.collect::<Vec<_>>().join(", ")
    )
}

#[test]
fn entries_that_are_no_plain_words() {
    let ids = ["@fern", "com.moss.core", "big sedge"];
    let orders = [
        (
            "start.sh",
            "./gate \\\n  \"-mods=@fern;com.moss.core\" \\\n  -quiet\n",
        ),
        ("start.sh", "./gate -mods='@fern,big sedge' -quiet\n"),
        ("load.txt", "load com.moss.core\nload @fern\n"),
        ("use.ini", "com.moss.core=true\n@fern=false\n"),
        ("load.txt", "1=com.moss.core\n2=@fern\n"),
        ("load.txt", "com.moss.core.extra\nnofern\n"),
        (
            "gate.json",
            "{\"mods\": [\"com.moss.core\", \"big sedge\"]}\n",
        ),
    ];
    let drafts = orders.map(|it| ordered(ids, it));
    insta::assert_snapshot!(drafts.join("\n"), @r#"
    ./gate \
      "-mods=@fern;com.moss.core" \
      -quiet
    kind = "list"
    file = "start.sh"
    line = '^  "\-mods=(?P<list>[^"]*)'
    write = "{id}"
    between = ";"
    => @fern - true, com.moss.core - true

    ./gate -mods='@fern,big sedge' -quiet
    kind = "list"
    file = "start.sh"
    line = '''^\./gate \-mods='(?P<list>[^']*)'''
    write = "{id}"
    between = ","
    => @fern - true, big sedge - true

    load com.moss.core
    load @fern
    kind = "sequence"
    file = "load.txt"
    line = '^\s*load (?P<id>[\w\.@-]+)'
    write = "load {id}"
    => com.moss.core - true, @fern - true

    com.moss.core=true
    @fern=false
    kind = "flags"
    file = "use.ini"
    line = '^\s*(?P<id>[\w\.@-]+)\s*[=:]?\s*(?P<on>\S+)'
    write = "{id}={on}"
    on = "true"
    off = "false"
    => com.moss.core - true, @fern - false

    1=com.moss.core
    2=@fern
    kind = "sequence"
    file = "load.txt"
    line = '^\s*(?P<at>\d+)=(?P<id>[\w\.@-]+)'
    write = "{at}={id}"
    => com.moss.core - true, @fern - true

    com.moss.core.extra
    nofern
    => none

    {"mods": ["com.moss.core", "big sedge"]}
    kind = "list"
    file = "gate.json"
    line = '^\s*\{"mods":\s*\[(?P<list>[^\]]*)\]'
    write = '"{id}"'
    between = ", "
    => com.moss.core - true, big sedge - true
    "#);
}

#[test]
fn a_descriptor_that_a_script_would_state() {
    let text =
        "// of the fern\r\nname = \"fern\";\r\nversion = \"1.2.0\";\r\nneeds = { \"moss\" };\r\n";
    let other = text.replace("fern", "moss");
    let files = [
        ("mods/fern/about.h", Some(text)),
        ("mods/moss/about.h", Some(other.as_str())),
    ];
    let drafted = guessed(&sampled(&files));
    let reader = drafted.split("\n\n").find(|it| it.contains("[[reader]]"));
    insta::assert_snapshot!(reader.unwrap(), @r#"
    # Seen 2 of these.
    [[reader]]
    name = "mods"
    kind = "addon"
    shape = "folder"
    at = "mods/*"
    install = "mods/{id}"
    files = [{ name = "about.h", notation = "script" }]
    "#);
}

#[test]
fn entries_that_name_versions() {
    let orders = [
        (
            "load.txt",
            "load fern 1.2.0\nload moss 0.9 wet\nload sedge\n",
        ),
        ("load.txt", "load fern 1.2.0\nload moss 0.9 wet\n"),
        ("load.txt", "load fern 3\nload moss 4\n"),
        ("load.txt", "load fern (1.2.0)\nload moss (0.9)\n"),
        ("use.ini", "fern@1.2.0 = true\nmoss@0.9 = false\n"),
        (
            "gate.json",
            "{\n  \"mods\": [\"fern@1.2.0\", \"moss\", \"sedge@2.0.0\"]\n}\n",
        ),
        (
            "gate.json",
            "[{\"on\": true, \"v\": \"1.2.0\", \"name\": \"fern\"},\n {\"on\": false, \"v\": \"0.9\", \"name\": \"moss\"}]\n",
        ),
        (
            "gate.json",
            "[{\"on\": true, \"v\": \"1.2.0\", \"name\": \"fern\"},\n {\"on\": false, \"name\": \"moss\"}]\n",
        ),
    ];
    let drafts = orders.map(|it| ordered(["fern", "moss", "sedge"], it));
    insta::assert_snapshot!(drafts.join("\n"), @r#"
    load fern 1.2.0
    load moss 0.9 wet
    load sedge
    kind = "sequence"
    file = "load.txt"
    line = '^\s*load (?P<id>[\w-]+)(?: (?P<version>\d[\w.+~-]*))?'
    write = "load {id} {version}"
    => fern 1.2.0 true, moss 0.9 true, sedge - true

    load fern 1.2.0
    load moss 0.9 wet
    kind = "sequence"
    file = "load.txt"
    line = '^\s*load (?P<id>[\w-]+)(?: (?P<version>\d[\w.+~-]*))?'
    write = "load {id} {version}"
    => fern 1.2.0 true, moss 0.9 true

    load fern 3
    load moss 4
    kind = "sequence"
    file = "load.txt"
    line = '^\s*load (?P<id>[\w-]+)'
    write = "load {id}"
    => fern - true, moss - true

    load fern (1.2.0)
    load moss (0.9)
    kind = "sequence"
    file = "load.txt"
    line = '^\s*load (?P<id>[\w-]+)(?: \((?P<version>\d[\w.+~-]*)\))?'
    write = "load {id} ({version})"
    => fern 1.2.0 true, moss 0.9 true

    fern@1.2.0 = true
    moss@0.9 = false
    kind = "flags"
    file = "use.ini"
    line = '^\s*(?P<id>[\w-]+)(?:@(?P<version>\d[\w.+~-]*))?\s*[=:]?\s*(?P<on>\S+)'
    write = "{id}@{version} = {on}"
    on = "true"
    off = "false"
    => fern 1.2.0 true, moss 0.9 false

    {
      "mods": ["fern@1.2.0", "moss", "sedge@2.0.0"]
    }
    kind = "list"
    file = "gate.json"
    line = '^\s*"mods":\s*\[(?P<list>[^\]]*)\]'
    write = '"{id}@{version}"'
    between = ", "
    => fern 1.2.0 true, moss - true, sedge 2.0.0 true

    [{"on": true, "v": "1.2.0", "name": "fern"},
     {"on": false, "v": "0.9", "name": "moss"}]
    kind = "flags"
    file = "gate.json"
    line = '\{[^{}]*?"on"\s*:\s*(?P<on>\w+)[^{}]*?"v"\s*:\s*"(?P<version>[^"]*)"[^{}]*?"name"\s*:\s*"(?P<id>[^"]+)"[^{}]*\}'
    spans = true
    write = '{ "on": {on}, "v": "{version}", "name": "{id}" }'
    => fern 1.2.0 true, moss 0.9 false

    [{"on": true, "v": "1.2.0", "name": "fern"},
     {"on": false, "name": "moss"}]
    kind = "flags"
    file = "gate.json"
    line = '\{[^{}]*?"on"\s*:\s*(?P<on>\w+)[^{}]*?"name"\s*:\s*"(?P<id>[^"]+)"[^{}]*\}'
    spans = true
    write = '{ "on": {on}, "name": "{id}" }'
    => fern - true, moss - false
    "#);
}

/// What stands in descriptors that says more than ids and versions.
#[test]
fn needs_in_tables_and_server_versions() {
    let fields = |descriptors: [&str; 2]| {
        let sample = sampled(&[
            ("mods/rue/mod.json", Some(descriptors[0])),
            ("mods/sage/mod.json", Some(descriptors[1])),
        ]);
        let text = guessed(&sample);
        let fields = text
            .split("\n\n")
            .find(|part| part.contains("[reader.fields]"));
        fields.unwrap_or_default().to_owned()
    };
    let told = [
        // The one that says most shows how it is said.
        fields([
            r#"{ "Id": "rue", "Version": "1.0", "GameVersion": "^3.1", "Dependencies": [] }"#,
            r#"{ "Id": "sage", "Version": "1.0", "GameVersion": "^3.1", "Dependencies": [{ "Id": "rue", "MinVersion": "0.5" }] }"#,
        ]),
        fields([
            r#"{ "name": "rue", "version": "1.0", "for": "3.x", "requires": [{ "name": "sage", "version": ">=2 <3" }] }"#,
            r#"{ "name": "sage", "version": "1.0", "requires": [] }"#,
        ]),
        fields([
            r#"{ "name": "rue", "version": "1.0", "server": true, "needs": [{ "id": "sage" }, { "id": "thyme" }] }"#,
            r#"{ "name": "sage", "version": "1.0", "for": "gardens", "needs": [{ "what": "sage" }] }"#,
        ]),
        // Versions in parts.
        fields([
            r#"{ "id": "rue", "version": [1, 2, 0] }"#,
            r#"{ "id": "sage", "version": [1, 0, 3] }"#,
        ]),
        fields([
            r#"{ "id": "rue", "version": { "Major": 1, "Minor": 2 } }"#,
            r#"{ "id": "sage", "version": { "Major": 1, "Minor": 0 } }"#,
        ]),
        fields([
            r#"{ "id": "rue", "version": { "of": "1" } }"#,
            r#"{ "id": "sage", "version": ["stable"] }"#,
        ]),
    ];
    insta::assert_snapshot!(told.join("\n"), @r#"
    [reader.fields]
    id = "Id"
    version = "Version"
    needs = { at = "Dependencies", item = { id = "Id", range = "MinVersion" }, range = ">={}" }
    server = "GameVersion"    # TODO: are these the versions of the server that it is for?
    [reader.fields]
    id = "name"
    version = "version"
    needs = { at = "requires", item = { id = "name", range = "version" } }
    server = "for"    # TODO: are these the versions of the server that it is for?
    [reader.fields]
    id = "name"
    version = "version"
    needs = { at = "needs", item = { id = "id" } }
    [reader.fields]
    id = "id"
    version = { at = "version", between = "." }
    [reader.fields]
    id = "id"
    version = { at = { "version.Major" = "{}", "version.Minor" = "{}" }, between = "." }
    [reader.fields]
    id = "id"
    "#);
}

/// Where entries name folders or files, and descriptors tell other ids.
#[test]
fn entries_that_go_by_where_add_ons_lie() {
    let order_of = |sample: &Sample| {
        let text = guessed(sample);
        let order = text.split("\n\n").find(|part| part.contains("[order]"));
        order.unwrap_or_default().to_owned()
    };
    let folders = || {
        sampled(&[
            (
                "mods/730_rue/mod.json",
                Some(r#"{ "id": "rue", "version": "1" }"#),
            ),
            (
                "mods/731_sage/mod.json",
                Some(r#"{ "id": "sage", "version": "1" }"#),
            ),
            ("order.txt", Some("730_rue\n731_sage\n")),
        ])
    };
    let packed = |entry: &str| {
        let release = ("733_thyme.zip".to_owned(), vec![entry.to_owned()]);
        let releases = vec![release];
        let sample = Sample {
            releases,
            ..folders()
        };
        let text = guessed(&sample);
        let install = text.lines().find(|line| line.starts_with("install"));
        install.unwrap_or_default().to_owned()
    };
    assert_eq!(packed("733_thyme/mod.json"), r#"install = "mods/{path}""#);
    assert_eq!(
        packed("mods/733_thyme/mod.json"),
        r#"install = "mods/{id}""#
    );
    insta::assert_snapshot!(order_of(&folders()), @r#"
    # Names 2 of what was seen.
    [order]
    kind = "sequence"
    file = "order.txt"
    line = '^\s*(?P<id>[\w-]+)'
    write = "{id}"
    each = "^mods/(?P<value>[^/]+)$"
    "#);
    let files = sampled(&[
        ("leaves/rue-1.2.leaf", Some("# name: rue\n# version: 1.2\n")),
        (
            "leaves/sage-0.9.leaf",
            Some("# name: sage\n# version: 0.9\n"),
        ),
        (
            "order.txt",
            Some("start rue-1.2.leaf\nstart sage-0.9.leaf\n"),
        ),
    ]);
    insta::assert_snapshot!(order_of(&files), @r#"
    # Names 2 of what was seen.
    [order]
    kind = "sequence"
    file = "order.txt"
    line = '^\s*start (?P<id>[\w\.-]+?)\.leaf'
    write = "start {id}.leaf"
    each = '^leaves/(?P<value>[^/]+)\.leaf$'
    "#);
}
