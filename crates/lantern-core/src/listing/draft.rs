//! A first mapping for a listing, guessed from one answer: what is guessed is said, with what it was guessed from.

use super::{Answers, links};
use crate::document::{self, Node, Table};
use crate::family::TextNotation;
use crate::supply::{HashKind, is_web};
use std::fmt::Write as _;

/// So many releases of an answer are looked at.
const LOOKED_AT: usize = 20;
/// So deep is it looked for releases, and for facts in one.
const DEEPEST: usize = 6;

/// The text of a mapping for the listing that gave an answer; none where nothing in it looks like a list of releases.
///
/// What is not found stands there as a remark.
pub fn draft(url: &str, answer: &str) -> Option<String> {
    let answer = answer.trim_start_matches('\u{feff}').trim_start();
    let read = |notation, text: &str| document::read(notation, text).ok();
    let of_links = || Table::from([(String::new(), Node::List(links(answer)))]);
    let (answers, top) = match answer.chars().next()? {
        '[' => (
            Answers::Json,
            read(TextNotation::Json, &format!("{{\"\":{answer}}}"))?,
        ),
        '{' => (Answers::Json, read(TextNotation::Json, answer)?),
        '<' => match read(TextNotation::Xml, answer) {
            Some(top) if !top.contains_key("html") => (Answers::Xml, top),
            _ => (Answers::Html, of_links()),
        },
        _ => return None,
    };
    let (items, releases) = best(&top)?;
    let facts = facts(&releases);
    let has_any = |field: &str| facts.iter().any(|(known, ..)| *known == field);
    let is_list = has_any("version") || has_any("archive.urls");
    is_list.then(|| written(url, answers, &items, &facts))
}

/// A fact with the path where it may stand, and what stands there in one release.
type Guess = (&'static str, String, String);

fn tables(node: &Node) -> Vec<&Table> {
    let Node::List(items) = node else {
        return Vec::new();
    };
    let tables = items.iter().filter_map(|item| match item {
        Node::Table(table) => Some(table),
        _ => None,
    });
    tables.take(LOOKED_AT).collect()
}

/// The list in an answer whose items say most of what a release does.
fn best(top: &Table) -> Option<(String, Vec<&Table>)> {
    fn lists<'t>(
        table: &'t Table,
        path: &str,
        depth: usize,
        found: &mut Vec<(String, Vec<&'t Table>)>,
    ) {
        for (key, node) in table {
            let path = match path {
                "" => key.clone(),
                path => format!("{path}.{key}"),
            };
            match node {
                Node::List(_) => found.push((path, tables(node))),
                Node::Table(inner) if depth < DEEPEST => lists(inner, &path, depth + 1, found),
                _ => {}
            }
        }
    }
    let mut found = Vec::new();
    lists(top, "", 0, &mut found);
    found.retain(|(_, releases)| !releases.is_empty());
    found.into_iter().max_by_key(|(_, releases)| {
        let facts = facts(releases);
        let has = |field: &str| usize::from(facts.iter().any(|(known, ..)| *known == field));
        (has("version") + has("archive.urls"), facts.len())
    })
}

/// All texts in a release, by their paths.
fn leaves(table: &Table) -> Vec<(String, String)> {
    fn walk(node: &Node, path: &str, depth: usize, found: &mut Vec<(String, String)>) {
        let below = |key: &str| match path {
            "" => key.to_owned(),
            path => format!("{path}.{key}"),
        };
        match node {
            Node::Text(text) => found.push((path.to_owned(), text.clone())),
            _ if depth >= DEEPEST => {}
            Node::List(items) => {
                if let Some(first) = items.first() {
                    walk(first, &below("0"), depth + 1, found);
                }
            }
            Node::Table(table) => {
                for (key, inner) in table {
                    walk(inner, &below(key), depth + 1, found);
                }
            }
        }
    }
    let mut found = Vec::new();
    walk(&Node::Table(table.clone()), "", 0, &mut found);
    found
}

fn facts(releases: &[&Table]) -> Vec<Guess> {
    let mut best: Vec<(&'static str, u32, String, String)> = Vec::new();
    for (path, text) in releases.iter().flat_map(|release| leaves(release)) {
        for (field, score) in guesses(&path, &text) {
            match best.iter_mut().find(|(known, ..)| *known == field) {
                Some(known) if known.1 >= score => {}
                Some(known) => *known = (field, score, path.clone(), text.clone()),
                None => best.push((field, score, path.clone(), text.clone())),
            }
        }
    }
    best.sort_by_key(|(field, ..)| *field);
    let guesses = best
        .into_iter()
        .map(|(field, _, path, text)| (field, path, text));
    guesses.collect()
}

/// What a text may be, with how likely that is.
fn guesses(path: &str, text: &str) -> Vec<(&'static str, u32)> {
    let key = path
        .rsplit(['.', '@'])
        .find(|part| part.parse::<u32>().is_err());
    let key = key.unwrap_or_default().to_lowercase();
    let whole = path.to_lowercase();
    let has = |words: &[&str]| words.iter().any(|word| key.contains(word));
    let is_of_server = ["server", "game", "engine", "made_for", "compat"]
        .iter()
        .any(|word| whole.contains(word));
    let plain = text.trim_start_matches(['v', 'V']);
    let is_version = plain.starts_with(|c: char| c.is_ascii_digit())
        && plain.contains('.')
        && plain.len() < 40
        && !plain.contains([' ', '/', ':']);
    let mut found = Vec::new();
    if is_version {
        match is_of_server {
            true => found.push(("server", 2)),
            false if has(&["version", "tag", "number", "label"]) => found.push(("version", 3)),
            false if has(&["name", "title"]) => found.push(("version", 2)),
            false => found.push(("version", 1)),
        }
    }
    let is_hex = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    if is_hex {
        for kind in HashKind::ALL
            .into_iter()
            .filter(|kind| kind.digits() == text.len())
        {
            let named = u32::from(whole.contains(kind.name()));
            let field = match kind {
                HashKind::Blake3 if named == 0 => continue,
                HashKind::Blake3 => "archive.blake3",
                HashKind::Sha512 => "archive.sha512",
                HashKind::Sha256 if whole.contains("blake") => continue,
                HashKind::Sha256 => "archive.sha256",
                HashKind::Sha1 => "archive.sha1",
                HashKind::Md5 => "archive.md5",
            };
            found.push((field, 1 + named));
        }
    }
    let last = text.split(['?', '#']).next().unwrap_or_default();
    let last = last.rsplit('/').next().unwrap_or_default();
    let is_file = last.rsplit_once('.').is_some_and(|(stem, end)| {
        !stem.is_empty()
            && (2..=8).contains(&end.len())
            && end.bytes().all(|byte| byte.is_ascii_alphanumeric())
            && !end.bytes().all(|byte| byte.is_ascii_digit())
    });
    let is_path = text.contains('/') && !text.contains(' ');
    if is_web(text) || is_path || has(&["href"]) {
        let score = 2 * u32::from(is_file && !last.ends_with("html"))
            + u32::from(has(&["url", "href", "download", "file"]));
        if score > 1 {
            found.push(("archive.urls", score));
        }
    } else if is_file && has(&["name", "file"]) {
        found.push(("archive.name", 1 + u32::from(has(&["file"]))));
    }
    if has(&["size", "bytes", "length"]) && text.parse::<u64>().is_ok() {
        found.push(("archive.bytes", 1));
    }
    let words = [
        "stable", "release", "beta", "alpha", "early", "snapshot", "preview", "nightly",
    ];
    if words.contains(&text.to_lowercase().as_str()) {
        found.push((
            "channel",
            1 + u32::from(has(&["channel", "type", "stability"])),
        ));
    }
    found
}

fn written(url: &str, answers: Answers, items: &str, facts: &[Guess]) -> String {
    let quoted = |text: &str| toml_edit::Value::from(text).to_string().trim().to_owned();
    let mut text = String::new();
    let host = url.split('/').nth(2).unwrap_or(url);
    let word = match answers {
        Answers::Json => "json",
        Answers::Xml => "xml",
        Answers::Html => "html",
    };
    let _ = writeln!(
        text,
        "# Guessed from one answer: look at each line. What each key means: lantern docs listing"
    );
    let _ = writeln!(
        text,
        "format = 1\nname = {}\nkind = \"addon\"\nanswers = \"{word}\"",
        quoted(host)
    );
    if !items.is_empty() {
        let _ = writeln!(text, "items = {}", quoted(items));
    }
    let _ = writeln!(
        text,
        "\n[ask]\n# Put {{id}} where the component's name or number stands, and {{page}} where the page's does.\nurl = {}",
        quoted(url)
    );
    let mut table = |title: &str, own: &[&str]| {
        let _ = writeln!(text, "\n[{title}]");
        for field in own {
            let key = field.rsplit('.').next().unwrap_or(field);
            // Of a link, the version stands in its address.
            let from = match (*field, answers) {
                ("version", Answers::Html) => "archive.urls",
                _ => field,
            };
            let guess = facts.iter().find(|(known, ..)| *known == from);
            let Some((_, path, sample)) = guess else {
                let _ = writeln!(text, "# {key} = \"\"   # not found");
                continue;
            };
            let rule = match *field {
                "version" if answers == Answers::Html => {
                    format!(
                        "{{ at = {}, pattern = '-v?(?P<value>\\d[\\d.]*\\d)\\.\\w+$' }}",
                        quoted(path)
                    )
                }
                _ => quoted(path),
            };
            let sample: String = sample
                .chars()
                .filter(|c| !c.is_control())
                .take(60)
                .collect();
            let _ = writeln!(text, "{key} = {rule}   # {sample}");
        }
        if title == "fields" && answers == Answers::Html {
            let _ = writeln!(
                text,
                "id = {{ at = \"href\", pattern = '(?P<value>[A-Za-z][A-Za-z0-9_-]*?)-v?\\d' }}"
            );
        }
    };
    table("fields", &["version", "server", "channel"]);
    table(
        "archive",
        &[
            "archive.urls",
            "archive.name",
            "archive.bytes",
            "archive.blake3",
            "archive.sha512",
            "archive.sha256",
            "archive.sha1",
            "archive.md5",
        ],
    );
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::listing::Listing;

    #[test]
    fn what_is_drafted_is_a_mapping() {
        let sha = "a".repeat(64);
        let json = format!(
            r#"{{"total": 1, "tags": [{{"x": "1"}}], "data": {{"releases": [{{"number": "1.2.0", "game_versions": ["5.4"], "type": "beta",
            "files": [{{"url": "https://cdn.example/fern-1.2.0.bloom", "filename": "fern-1.2.0.bloom", "size": 12, "hashes": {{"sha256": "{sha}"}}}}]}}]}}}}"#
        );
        let drafted = draft("https://market.example/api/fern", &json).unwrap();
        assert!(Listing::parse(&drafted).is_ok(), "{drafted}");
        insta::assert_snapshot!(drafted, @r#"
        # Guessed from one answer: look at each line. What each key means: lantern docs listing
        format = 1
        name = "market.example"
        kind = "addon"
        answers = "json"
        items = "data.releases"

        [ask]
        # Put {id} where the component's name or number stands, and {page} where the page's does.
        url = "https://market.example/api/fern"

        [fields]
        version = "number"   # 1.2.0
        server = "game_versions.0"   # 5.4
        channel = "type"   # beta

        [archive]
        urls = "files.0.url"   # https://cdn.example/fern-1.2.0.bloom
        name = "files.0.filename"   # fern-1.2.0.bloom
        bytes = "files.0.size"   # 12
        # blake3 = ""   # not found
        # sha512 = ""   # not found
        sha256 = "files.0.hashes.sha256"   # aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa
        # sha1 = ""   # not found
        # md5 = ""   # not found
        "#);
        let page = "<html><body><a href='../'>up</a><a href='fern-1.2.bloom'>fern-1.2.bloom</a></body></html>";
        let drafted = draft("https://market.example/files/", page).unwrap();
        assert!(Listing::parse(&drafted).is_ok(), "{drafted}");
        insta::assert_snapshot!(drafted, @r#"
        # Guessed from one answer: look at each line. What each key means: lantern docs listing
        format = 1
        name = "market.example"
        kind = "addon"
        answers = "html"

        [ask]
        # Put {id} where the component's name or number stands, and {page} where the page's does.
        url = "https://market.example/files/"

        [fields]
        version = { at = "href", pattern = '-v?(?P<value>\d[\d.]*\d)\.\w+$' }   # fern-1.2.bloom
        # server = ""   # not found
        # channel = ""   # not found
        id = { at = "href", pattern = '(?P<value>[A-Za-z][A-Za-z0-9_-]*?)-v?\d' }

        [archive]
        urls = "href"   # fern-1.2.bloom
        # name = ""   # not found
        # bytes = ""   # not found
        # blake3 = ""   # not found
        # sha512 = ""   # not found
        # sha256 = ""   # not found
        # sha1 = ""   # not found
        # md5 = ""   # not found
        "#);
        for none in ["", "x", "{}", "[]", "{\"a\": [1]}", "<html></html>"] {
            assert_eq!(draft("https://market.example/", none), None, "{none}");
        }
    }
}
