//! The merge of lines beside `git merge-file`: the same conflicts, and the same text where there is none.

#![allow(
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    clippy::disallowed_types
)] // It runs another program.

use lantern_core::settings::{Answers, Manner, Subject, Three, merge};
use lantern_core::text::Text;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::fs;
use std::process::Command;

/// What git makes of three texts: the text where nothing clashes, or how many clashes there are.
fn by_git(folder: &std::path::Path, [before, mine, now]: [&str; 3]) -> Option<Result<String, i32>> {
    for (name, text) in [("before", before), ("mine", mine), ("now", now)] {
        fs::write(folder.join(name), text).unwrap();
    }
    let mut git = Command::new("git");
    git.current_dir(folder).args([
        "merge-file",
        "-p",
        "--diff-algorithm=myers",
        "mine",
        "before",
        "now",
    ]);
    let output = git.output().ok()?;
    match output.status.code()? {
        0 => Some(Ok(String::from_utf8(output.stdout).unwrap())),
        clashes => Some(Err(clashes)),
    }
}

fn by_us([before, mine, now]: [&str; 3]) -> Result<String, usize> {
    let text = |text: &str| Text::read(text.as_bytes());
    let (before, mine, now) = (text(before), text(mine), text(now));
    let three = Three {
        before: &before,
        mine: &mine,
        now: &now,
    };
    let known = BTreeMap::new();
    let answers = Answers {
        known: &known,
        otherwise: None,
    };
    let merge = merge("text", &Manner::default(), three, answers);
    let blocks = merge
        .questions
        .iter()
        .filter(|it| it.subject == Subject::Block);
    match blocks.count() {
        0 => Ok(merge.text.as_str().to_owned()),
        clashes => Err(clashes),
    }
}

/// A text with some lines changed, taken out and put in; no line stands in it twice.
fn edited(lines: usize, edits: &[(usize, u8)], hand: &str) -> String {
    let mut text: Vec<String> = (0..lines).map(|at| format!("line {at}\n")).collect();
    for (number, (at, what)) in edits.iter().enumerate() {
        let at = at % lines;
        text[at] = match what % 4 {
            0 => String::new(),
            1 => format!("{hand} changes {at}\n"),
            2 => format!("{}{hand} adds {number} at {at}\n", text[at]),
            // Both hands do the same.
            _ => format!("both change {at}\n"),
        };
    }
    text.concat()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Where git finds no clash, neither do we, and the text is the same; where git does, so do we. Git may part one clash into
    /// several, or say it of fewer lines, where both sides have lines in common within it: that is why they are not counted.
    #[test]
    fn lines_clash_where_git_says_so(
        lines in 3_usize..20,
        mine in proptest::collection::vec((0_usize..20, any::<u8>()), 0..5),
        now in proptest::collection::vec((0_usize..20, any::<u8>()), 0..5),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let three = [edited(lines, &[], ""), edited(lines, &mine, "mine"), edited(lines, &now, "now")];
        let three = three.each_ref().map(String::as_str);
        let Some(git) = by_git(folder.path(), three) else {
            eprintln!("git is not here, so nothing was held against it");
            return Ok(());
        };
        match (git, by_us(three)) {
            (Ok(theirs), Ok(ours)) => prop_assert_eq!(ours, theirs),
            (Err(_), Err(_)) => {}
            (git, ours) => prop_assert!(false, "git: {git:?}, we: {ours:?}, of {three:?}"),
        }
    }
}
