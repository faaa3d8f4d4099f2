use super::*;
use crate::family;
use proptest::prelude::*;
use std::collections::BTreeMap;

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

/// The commands of a script, each with where it stands; what is not known in angle brackets.
fn told(dialect: Dialect, text: &str) -> String {
    let script = Script::read(dialect, text);
    let commands = script.commands.iter().map(|command| {
        let words = command.words.iter().map(|word| match word.is_known {
            true => word.text.clone(),
            false => format!("<{}>", word.text),
        });
        let words: Vec<String> = words.collect();
        let At { line, column } = command.at();
        format!("{line}:{column}-{} {}", command.ends, words.join(" | "))
    });
    let cuts = script.cuts.iter().map(|cut| {
        let At { line, column } = cut.at;
        format!("cut {line}:{column} {:?}, lost: {}", cut.kind, cut.lost)
    });
    commands.chain(cuts).collect::<Vec<_>>().join("\n")
}

#[test]
fn a_shell_script_is_read_word_by_word() {
    let script = r#"#!/bin/sh
# Starts the greenhouse.
cd "$(dirname "$0")" || exit 1
PORT=4710; NAME='Orbit Garden'
export SEATS="24" EXTRA=$(cat extra)
if [ -f stop ]; then rm stop; fi
while true; do
  exec nice -n 5 ./server/halcyon --port $PORT \
      --name "$NAME, ${NAME}" --seats=${SEATS} \
      --motd "say \"hi\" at \$5" --more "$EXTRA" "$@" >>log 2>&1 &
done
case "$1" in
  -h) echo help ;;
esac
cat <<END >/dev/null
--port 1
END
echo ${UNSET:-none} a#b # the end
"#;
    insta::assert_snapshot!(told(Dialect::Shell, script));
}

#[test]
fn a_batch_file_is_read_word_by_word() {
    let script = "@echo off\r\nrem --port 1\r\n:: --port 2\r\nset PORT=4710\r\nset \"NAME=Orbit Garden\"\r\ncd /d %~dp0\r\n\
                  if exist stop (del stop)\r\n:again\r\nstart \"Greenhouse\" /b server\\halcyon.exe --port %PORT% ^\r\n  \
                  --name \"%NAME%\" ^\r\n  --seats 24 --path C:\\x^&y > log.txt 2>&1\r\ngoto again\r\n";
    insta::assert_snapshot!(told(Dialect::Batch, script));
}

/// What is cut in a script, and how it reads when it is mended.
#[test]
fn commands_that_are_cut_off_are_found_and_mended() {
    let shell = [
        ("whole", "run --port 1 \\\n  --seats 2\n"),
        ("whole with tabs", "run --port 1 \\\n\t\t--seats 2\n"),
        (
            "a blank",
            "run --port 1 \\ \n  --seats 2 \\\n  --seed 3\necho done\n",
        ),
        (
            "two blanks",
            "run --port 1 \\\t\n  --seats 2 \\ \n  --seed 3\n",
        ),
        ("a carriage return", "run --port 1 \\\r\n  --seats 2\r\n"),
        ("an empty line", "run --port 1 \\\n\n  --seats 2\n"),
        (
            "a comment",
            "echo hello\nrun --port 1 \\\n  # --debug \\\n  --seats 2\n",
        ),
        ("no mark", "run --port 1\n  --seats 2 \\\n  --seed 3\n"),
        (
            "no mark behind a comment",
            "run --port 1 # the port\n  --seats 2\n",
        ),
        ("an open quote", "run --name \"Orbit Garden --seats 2\n"),
        ("a mark at the end", "run --port 1 \\\n"),
        ("a mark and nothing", "run --port 1 \\\n\n\n"),
        (
            "a mark in quotes",
            "run --name \"Orbit \\\nGarden\" --seats 2\n",
        ),
        (
            "an empty line and another command",
            "run --port 1 \\\n\nrun again\n",
        ),
        ("a plus", "run -game orbit \\ \n  +map garden +seats 2\n"),
        (
            "words in a variable",
            "OPTS='--port 1 --quiet'\nMORE=$OPTS\nrun $OPTS \"$OPTS\" x$MORE\n",
        ),
        ("a case", "case $1 in\n -h) echo help;;\nesac\n"),
        (
            "cases",
            "case $1 in\n  -p|--port) PORT=$2 ;;\n  --quiet)\n    QUIET=1;;\n  *) case $2 in -x) echo x;; esac ;;\nesac\nrun \\ \n  --seats 2\n",
        ),
        (
            "a list of values",
            "EXTRA=(\n  --quiet\n  --seed 7\n)\nrun \"${EXTRA[@]}\"\n",
        ),
        (
            "a condition in two lines",
            "if [[ -d a &&\n      -d b ]]; then run --port 1; fi\nrun |\n  -x\n",
        ),
    ];
    let batch = [
        ("whole", "run --port 1 ^\r\n  --seats 2\r\n"),
        (
            "a blank",
            "run --port 1 ^ \r\n  --seats 2 ^\r\n  --seed 3\r\n",
        ),
        ("an empty line", "run --port 1 ^\r\n\r\n  --seats 2\r\n"),
        (
            "a comment",
            "run --port 1 ^\r\nrem --debug\r\n  --seats 2\r\n",
        ),
        ("no mark", "run --port 1\r\n  --seats 2\r\n"),
        (
            "an open quote",
            "run --name \"Orbit Garden ^\r\n  --seats 2\r\n",
        ),
        ("a mark at the end", "run --port 1 ^"),
    ];
    let mut all = String::new();
    let shell = shell.map(|case| (Dialect::Shell, case));
    let batch = batch.map(|case| (Dialect::Batch, case));
    for (dialect, (name, text)) in shell.into_iter().chain(batch) {
        let becomes = match mended(dialect, text) {
            Some(becomes) => format!("mended: {becomes:?}\n"),
            None => String::new(),
        };
        all.push_str(&format!(
            "## {dialect:?}: {name}\n{}\n{becomes}",
            told(dialect, text)
        ));
    }
    insta::assert_snapshot!(all);
}

fn rule(text: &str) -> family::Launch {
    toml_edit::de::from_str(text).unwrap()
}

#[test]
fn a_start_is_followed_across_scripts() {
    let texts = [
        (
            "start.sh",
            "#!/bin/sh\n. ./settings.sh\n./fetch-build --to 5.1\ncd bin\nsh ./run.sh --quick\necho ended\n",
        ),
        ("settings.sh", "PORT=1\n"),
        (
            "second.sh",
            "# exec ./halcyon\nexec ./bin/halcyon --world two\n",
        ),
        (
            "bin/run.sh",
            "exec ./halcyon --port 1 \\ \n  --seats 2\nsh ./run.sh\n",
        ),
    ];
    let texts: BTreeMap<RelPath, &str> = texts.iter().map(|(at, text)| (path(at), *text)).collect();
    let told = |rule: &family::Launch, recipe: &[&str]| {
        let recipe: Vec<String> = recipe.iter().map(|word| (*word).to_owned()).collect();
        let flow = Flow::of(rule, &recipe, &texts);
        let steps = flow.steps.iter().map(|step| {
            let at = step
                .at()
                .map_or("-".into(), |(path, at)| format!("{path}:{}", at.line));
            format!("{at} {} {:?}", step.program().0.text, step.does)
        });
        let cuts = flow
            .cuts
            .iter()
            .map(|(path, cut)| format!("cut {path}:{}", cut.at.line));
        let others = flow.others.iter().filter_map(|step| {
            let (path, at) = step.at()?;
            Some(format!("also {path}:{}", at.line))
        });
        steps
            .chain(cuts)
            .chain(others)
            .collect::<Vec<_>>()
            .join("\n")
    };
    let bare = "command = ['sh', 'start.sh']\n";
    insta::assert_snapshot!(told(&rule(bare), &["sh", "/opt/fetch-build", "--quiet"]), @r#"
    - start.sh Calls(RelPath("start.sh"))
    start.sh:2 ./settings.sh Calls(RelPath("settings.sh"))
    start.sh:3 ./fetch-build Updates
    start.sh:4 cd Other
    start.sh:5 ./run.sh Calls(RelPath("bin/run.sh"))
    bin/run.sh:1 ./halcyon Starts
    bin/run.sh:3 ./run.sh Calls(RelPath("bin/run.sh"))
    start.sh:6 echo Other
    cut bin/run.sh:1
    also second.sh:2
    "#);
    let stated = format!("{bare}starts = '^sh \\./run\\.sh'\nupdates = ['^echo ended']");
    insta::assert_snapshot!(told(&rule(&stated), &[]), @r#"
    - start.sh Calls(RelPath("start.sh"))
    start.sh:2 ./settings.sh Calls(RelPath("settings.sh"))
    start.sh:3 ./fetch-build Other
    start.sh:4 cd Other
    start.sh:5 ./run.sh Starts
    start.sh:6 echo Updates
    also bin/run.sh:3
    "#);
    // One that names no script is the command itself.
    insta::assert_snapshot!(told(&rule("command = ['./halcyon', '--port', '1']"), &[]), @"
    - ./halcyon Starts
    also bin/run.sh:1
    also second.sh:2
    ");
}

#[test]
fn what_updates_moves_out_in_the_same_words() {
    let parted = |dialect, text: &str, program: &str| {
        let script = Script::read(dialect, text);
        let moving = script
            .commands
            .iter()
            .filter(|it| it.text().contains(program));
        let moving: Vec<&Command> = moving.collect();
        part(dialect, text, &moving)
    };
    let text = "#!/bin/sh\n# Starts it.\ncd bin\nTO=5.1\n./fetch --to $TO \\\n  --quiet\necho starting\nexec ./halcyon\n";
    let both = parted(Dialect::Shell, text, "fetch").unwrap();
    assert_eq!(
        both.stays,
        "#!/bin/sh\n# Starts it.\ncd bin\nTO=5.1\necho starting\nexec ./halcyon\n"
    );
    assert_eq!(
        both.moves,
        "#!/bin/sh\ncd bin\nTO=5.1\n./fetch --to $TO \\\n  --quiet\n"
    );
    let text = "@echo off\r\nrem It starts.\r\ncall fetch.bat\r\nhalcyon.exe\r\n";
    let both = parted(Dialect::Batch, text, "fetch").unwrap();
    assert_eq!(both.stays, "@echo off\r\nrem It starts.\r\nhalcyon.exe\r\n");
    assert_eq!(both.moves, "@echo off\r\ncall fetch.bat\r\n");
    // What shares its line with something else is left to its owner.
    assert_eq!(
        parted(Dialect::Shell, "./fetch && exec ./halcyon\n", "fetch"),
        None
    );
    assert_eq!(
        parted(Dialect::Shell, "if true; then ./fetch; fi\n", "fetch"),
        None
    );
    // So is what a branch or a function would be left without.
    let nested = [
        "if true; then\n  ./fetch\nfi\nexec ./halcyon\n",
        "update() {\n  ./fetch\n}\nexec ./halcyon\n",
        "case $1 in\n  x)\n    ./fetch\n    ;;\nesac\n",
    ];
    for text in nested {
        assert_eq!(parted(Dialect::Shell, text, "fetch"), None, "{text}");
    }
    let text = "if exist x (\r\n  call fetch.bat\r\n)\r\nhalcyon.exe\r\n";
    assert_eq!(parted(Dialect::Batch, text, "fetch"), None);
    let after = "if true; then\n  echo x\nfi\n./fetch\nexec ./halcyon\n";
    assert!(parted(Dialect::Shell, after, "fetch").is_some());
    assert_eq!(parted(Dialect::Shell, "exec ./halcyon\n", "fetch"), None);
}

/// Scripts put together at random of lines that start something, and of ways to spoil them.
fn scripts() -> impl Strategy<Value = (Dialect, String)> {
    let line = prop_oneof![
        Just("run --port 1"),
        Just("  --seats 2"),
        Just("# words"),
        Just("rem words"),
        Just(""),
        Just("echo \"a b\""),
        Just("NAME='x y'"),
        Just("  --name \"x\""),
        Just("exec ./run"),
        Just("\t+map garden"),
        Just("é ü"),
    ];
    let tail = prop_oneof![
        Just(""),
        Just(" MARK"),
        Just(" MARK "),
        Just(" MARK\t"),
        Just("MARK"),
        Just(" ")
    ];
    let end = prop_oneof![Just("\n"), Just("\r\n")];
    (
        any::<bool>(),
        proptest::collection::vec((line, tail), 0..12),
        end,
        any::<bool>(),
    )
        .prop_map(|(is_batch, rows, end, closed)| {
            let (dialect, mark) = match is_batch {
                true => (Dialect::Batch, "^"),
                false => (Dialect::Shell, "\\"),
            };
            let rows: Vec<String> = rows
                .iter()
                .map(|(line, tail)| format!("{line}{}", tail.replace("MARK", mark)))
                .collect();
            let mut text = rows.join(end);
            if closed {
                text.push_str(end);
            }
            (dialect, text)
        })
}

proptest! {
    #![proptest_config(crate::proofs::at_least(512))]

    /// Mending changes marks, gaps and nothing else: every word that stood there stands there in the same order, and what is
    /// mended needs no mending.
    #[test]
    fn mending_changes_what_is_cut_and_nothing_else((dialect, text) in scripts()) {
        let before = Script::read(dialect, &text);
        match mended(dialect, &text) {
            None => prop_assert!(!before.cuts.iter().any(Cut::can_be_mended)),
            Some(after) => {
                prop_assert!(before.cuts.iter().any(Cut::can_be_mended));
                prop_assert!(mended(dialect, &after).is_none(), "{after:?}");
                let comment = if dialect == Dialect::Batch { "rem" } else { "#" };
                // A comment may come to stand before the command that it stood in.
                let bare = |text: &str| {
                    let lines = text.lines().map(|line| {
                        let marks = |c: char| c.is_whitespace() || "\\^".contains(c);
                        line.trim_end_matches(marks).trim().to_owned()
                    });
                    let lines = lines.filter(|line| !line.is_empty());
                    let (mut comments, others): (Vec<String>, Vec<String>) =
                        lines.partition(|line| line.starts_with(comment));
                    comments.sort();
                    (comments, others)
                };
                prop_assert_eq!(bare(&text), bare(&after));
            }
        }
    }

    /// Nothing that stands in a script makes the reader stumble.
    #[test]
    fn any_text_can_be_read(text in "[ -~\t\r\n\\\\\"'$^%`é]{0,80}", is_batch in any::<bool>()) {
        let dialect = if is_batch { Dialect::Batch } else { Dialect::Shell };
        Script::read(dialect, &text);
        mended(dialect, &text);
    }
}

/// The servers that scripts start on one install, as they would be stated.
fn drafted(family: &str, scripts: &[(&str, &str)], files: &[&str]) -> String {
    let family = family::Family::parse(family).unwrap();
    let texts: BTreeMap<RelPath, &str> = scripts
        .iter()
        .map(|(name, text)| (path(name), *text))
        .collect();
    let names = scripts.iter().map(|(name, _)| *name);
    let files = files.iter().copied().chain(names).collect();
    let drafted = several(&family, &family.launch, &texts, &files);
    let told = drafted.iter().map(|one| {
        let instead: Vec<String> = one
            .instead
            .iter()
            .map(|(a, b)| format!("{a} = {b}"))
            .collect();
        let keep: Vec<String> = one.keep.iter().map(|it| format!("; keeps {it}")).collect();
        format!("{}: {}{}", one.name, instead.join(", "), keep.concat())
    });
    told.collect::<Vec<_>>().join("\n")
}

const GREENHOUSE: &str = r#"
    format = 1
    name = "greenhouse"
    title = "Greenhouse"
    marks = ["green.conf"]
    build = { id = "greenhouse" }
    launch = { command = ["sh", "open.sh"] }
    layout = { keep = ["beds/**", "plots/*/soil.db"] }
    order = { kind = "sequence", file = "plots/*/order.txt", line = '^(?P<id>\w+)$', write = "{id}" }
    [console]
    ready = "open"
    stop = { command = "close" }
    port = { file = "green.conf", line = '^port (?P<port>\d+)', transport = "tcp" }
    [[reader]]
    name = "vine"
    kind = "addon"
    shape = "file"
    at = "vines/*.vine"
    files = [{ name = "*.vine", notation = "toml" }]
    fields = { id = "id" }
"#;

#[test]
fn several_servers_are_drafted_from_their_scripts() {
    let files = [
        "bin/green",
        "beds/east/map",
        "plots/east/soil.db",
        "green.conf",
    ];
    let told = |scripts: &[(&str, &str)]| drafted(GREENHOUSE, scripts, &files);
    let usual = "exec bin/green --conf green.conf --plot plots/main --beds beds/main\n";
    // Settings by their ending, a plot by the family's pattern, beds by the keep list; what is the same for all is common.
    insta::assert_snapshot!(told(&[
        ("open.sh", usual),
        ("open-east.sh", "exec bin/green --conf east.conf --plot=plots/east --beds beds/east\n"),
    ]), @"
    main: plots/* = plots/main
    east: green.conf = east.conf, open.sh = open-east.sh, plots/* = plots/east; keeps beds/east/**
    ");
    // Neither is the family's own script; variables, a call of another script, and one that starts both.
    insta::assert_snapshot!(told(&[
        ("west.sh", "P=plots/west\nnohup ./bin/green --conf west/green.conf --plot $P &\n"),
        ("east.sh", "cd .\nexec ./bin/green --conf east/green.conf --plot plots/east\n"),
        ("all.sh", "sh east.sh\nsh west.sh\n"),
    ]), @"
    east: green.conf = east/green.conf, open.sh = east.sh, plots/* = plots/east
    west: green.conf = west/green.conf, open.sh = west.sh, plots/* = plots/west
    ");
    // One server, and what is no server at all.
    let tail = ("log.sh", "tail -f log.txt\n");
    assert_eq!(told(&[("open.sh", usual), tail]), "");
    assert_eq!(
        told(&[
            ("open.sh", usual),
            ("again.sh", "sh open.sh\n"),
            ("same.sh", usual)
        ]),
        ""
    );
    assert_eq!(
        told(&[
            ("backup.sh", "tar cf a.tar beds\n"),
            ("two.sh", "tar cf b.tar plots\n")
        ]),
        ""
    );
}
