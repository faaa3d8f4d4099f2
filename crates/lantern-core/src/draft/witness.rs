//! What names add-ons, and what says that a server is up: the load order, a start's log, the port.

use super::rule::{Rule, is_of_what_is_off, known};
use super::section;
use super::switches::{in_object, in_tables};
use super::{Sample, Section, quoted};
use crate::launch::is_script_by_name;
use crate::path::RelPath;
use crate::settings::{self, Notation};
use regex::Regex;
use std::cell::OnceCell;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

/// Words of which a line has one that says that a server is ready: those that mean little else first.
static READY: LazyLock<[Regex; 2]> = LazyLock::new(|| {
    [
        known(r"(?i)\b(ready|listening|accepting|online|port \d+)\b"),
        known(r"(?i)\b(started|running|done|open|loaded|initiali[sz]ed)\b"),
    ]
});
/// What lines that say that something is wrong have at or near their beginning.
const WRONG: &[&str] = &["ERROR", "SEVERE", "FATAL", "Error:", "error:", "Traceback"];
/// What stands in front of a line's own words: a time, a level.
static STAMP: LazyLock<Regex> = LazyLock::new(|| {
    known(r"^(?:\[[^\]]*\]:?\s*|\d[\d:.,TZ/-]*[:,]?\s+|[A-Z]{3,}(?:\[[^\]]*\])?:\s*)*")
});
/// What stands between a name and its version.
static VERSION: LazyLock<Regex> = LazyLock::new(|| known(r"^([ =:@(/-]{1,3}v?)\d"));
/// A version behind a name, with what stands between them: a number alone may be anything.
static NAMED_VERSION: LazyLock<Regex> =
    LazyLock::new(|| known(r"^(\s*[ =:@(/-]v?)(\d+(?:\.\d[\w+~-]*)+)"));
static NUMBER: LazyLock<Regex> = LazyLock::new(|| known(r"\d+"));
/// A hash, or a number that is no decimal.
static HASH: LazyLock<Regex> = LazyLock::new(|| known(r"\b[0-9A-Fa-f]{8,}\b"));
/// A truth value among what else is said of an add-on in its line.
static INNER_FLAG: LazyLock<Regex> =
    LazyLock::new(|| known(r"(?i)\b(enabled?|active|on|load)(\s*[=:]\s*)(true|false)\b"));
static FLAG: LazyLock<Regex> =
    LazyLock::new(|| known(r"^(\s*[=:]?\s*)(true|false|on|off|yes|no|0|1)\s*$"));
/// How a port is stated, in settings and on a command line.
static PORTS: LazyLock<[Regex; 4]> = LazyLock::new(|| {
    [
        known(r#"(?im)^([ \t]*["']?(?:[\w.-]*[_.-])?port["']?[ \t]*[:= ][ \t]*["']?)(\d{2,5})\b"#),
        known(r#"(?m)^([ \t]*["']?[\w.-]*[a-z]Port["']?[ \t]*[:=][ \t]*["']?)(\d{2,5})\b"#),
        known(r"(?m)((?:^|\s)(?:--?(?i:port)[ =]|-p )\s*)(\d{2,5})\b"),
        known(
            r#"(?i)(<(?:[\w.-]*[_.-])?port>\s*|<[^<>]*\s(?:[\w.-]*[_.-])?port\s*=\s*["'])(\d{2,5})\b"#,
        ),
    ]
});
/// What the name of a port has in it that is not the one for players.
static OTHER_PORT: LazyLock<Regex> =
    LazyLock::new(|| known(r"(?i)rcon|query|admin|http|web|metrics"));
/// A list in brackets, in one line or over several, and what stands before it in its line.
static BRACKETS: LazyLock<Regex> =
    LazyLock::new(|| known(r"(?m)^\s*(?P<before>[^\n\[\]]*?)\s*\[(?P<list>[^\[\]]*)\]"));
/// So many lines of a log are looked at.
const MOST_LINES: usize = 20_000;

/// An id that a line names.
struct Named {
    before: String,
    id: String,
    after: String,
}

/// Whether a character is of a word that may be an id, or end one.
fn is_of_word(c: char) -> bool {
    c.is_alphanumeric() || c == '_' || c == '-'
}

/// The ids that a line names, each once.
fn named(line: &str, ids: &BTreeSet<&str>) -> Vec<Named> {
    let mut found: Vec<(usize, &str)> = Vec::new();
    // What has more in it than a word has is looked for as it is.
    for id in ids.iter().filter(|id| !id.chars().all(is_of_word)) {
        let stands_alone = |(at, _): &(usize, &str)| {
            let before = line[..*at].chars().next_back();
            let after = line[at + id.len()..].chars().next();
            let goes_on = |next: Option<char>, own: Option<char>| {
                next.is_some_and(is_of_word) && own.is_some_and(is_of_word)
            };
            !goes_on(before, id.chars().next()) && !goes_on(after, id.chars().next_back())
        };
        let places = line.match_indices(*id).filter(stands_alone);
        found.extend(places.map(|(at, _)| (at, *id)));
    }
    let mut start = None;
    for (at, c) in line.char_indices().chain([(line.len(), ' ')]) {
        match (start, is_of_word(c)) {
            (None, true) => start = Some(at),
            (Some(from), false) => {
                start = None;
                let word = &line[from..at];
                // An id may stand behind what belongs to the line: `-load`, `use_`.
                let id = ids.iter().filter(|id| {
                    let begin = word.strip_suffix(**id);
                    begin.is_some_and(|b| b.is_empty() || b.ends_with(['_', '-']))
                });
                if let Some(id) = id.max_by_key(|id| id.len()) {
                    found.push((at - id.len(), *id));
                }
            }
            _ => {}
        }
    }
    // Of two that overlap the longer one is meant.
    found.sort_by_key(|(at, id)| (*at, Reverse(id.len())));
    let (mut end, mut named): (usize, Vec<Named>) = (0, Vec::new());
    for (at, id) in found {
        if at < end {
            continue;
        }
        end = at + id.len();
        if named.iter().all(|named| named.id != id) {
            named.push(Named {
                before: line[..at].to_owned(),
                id: id.to_owned(),
                after: line[end..].to_owned(),
            });
        }
    }
    named
}

/// The pattern of one character of these ids.
fn word_of<'i>(ids: impl IntoIterator<Item = &'i str>) -> String {
    let all = ids.into_iter().flat_map(str::chars);
    let more: BTreeSet<char> = all.filter(|c| !is_of_word(*c)).collect();
    let more: String = more.into_iter().filter(|c| !c.is_whitespace()).collect();
    format!(r"[\w{}-]", regex::escape(&more))
}

/// Of the lines that name one id, those that begin in the one way that most of them do.
fn most_alike(lines: Vec<Named>) -> Vec<Named> {
    let mut alike: BTreeMap<String, Vec<Named>> = BTreeMap::new();
    for line in lines {
        alike
            .entry(pattern(line.before.trim_start()))
            .or_default()
            .push(line);
    }
    let most = alike.into_values().rev().max_by_key(|lines| {
        let ids: BTreeSet<&str> = lines.iter().map(|line| line.id.as_str()).collect();
        ids.len()
    });
    most.unwrap_or_default()
}

/// What all of them have behind the id, without arguments: an extension, or more of a path, in which it may stand again as `{id}`.
fn behind(lines: &[Named]) -> String {
    let mut afters = lines
        .iter()
        .map(|line| line.after.replace(&line.id, "{id}"));
    let first = afters.next().unwrap_or_default();
    let common = |a: &str, b: &str| {
        let both = a.char_indices().zip(b.chars());
        let mut differs = both.filter(|((_, a), b)| a != b);
        let end = differs.next().map(|((at, _), _)| at);
        end.unwrap_or(a.len().min(b.len()))
    };
    let end = afters.fold(first.len(), |end, after| common(&first[..end], &after));
    let first = &first[..end];
    let word = first.find([',', ';', ' ', '\t', '"', '\'']);
    let word = &first[..word.unwrap_or(first.len())];
    // Of the beginning of a word that goes on otherwise, nothing is known.
    let is_word = word.starts_with(['.', '/']) && word.ends_with(|c: char| c.is_alphanumeric());
    match (is_word, first[word.len()..].trim_start().starts_with('=')) {
        (false, _) => String::new(),
        (true, false) => word.to_owned(),
        (true, true) => format!("{word} = "),
    }
}

/// A pattern for a text: numbers and hashes may be others.
fn pattern(text: &str) -> String {
    let mut pattern = String::new();
    let mut from = 0;
    let mut add = |text: &str, more: &str| {
        pattern += &NUMBER.replace_all(&regex::escape(text), r"\d+");
        pattern += more;
    };
    for hash in HASH.find_iter(text) {
        add(&text[from..hash.start()], r"[0-9A-Fa-f]+");
        from = hash.end();
    }
    add(&text[from..], "");
    pattern
}

/// What names the most of these.
pub(super) fn naming(
    sample: &Sample,
    ids: &BTreeSet<&str>,
    own: impl Fn(&RelPath) -> bool,
) -> Option<Rule> {
    let mut best: Option<Rule> = None;
    for (path, text) in texts(sample, own) {
        let lines = section::out_of_lists(text).filter(|line| !is_comment(&path, line));
        let lines: Vec<Vec<Named>> = lines.map(|line| named(line, ids)).collect();
        let in_one = lines.iter().max_by_key(|named| named.len());
        let in_one = in_one.filter(|named| named.len() > 1);
        let structured = in_brackets(&path, text, ids)
            .or_else(|| in_tables(&path, text, ids))
            .or_else(|| in_object(&path, text, ids));
        let rule = match (structured, in_one) {
            (Some(rule), _) => Some(rule),
            (None, Some(list)) => as_list(&path, list),
            (None, None) => {
                let all: Vec<Named> = lines.into_iter().flatten().collect();
                as_places(sample, &path, &all).or_else(|| {
                    let alike = most_alike(all);
                    as_numbered(&path, &alike)
                        .or_else(|| as_lines((&path, text), &alike, ids.len()))
                })
            }
        };
        if let Some(rule) = rule
            && best.as_ref().is_none_or(|most| rule.count > most.count)
        {
            best = Some(rule);
        }
    }
    best
}

/// The list in brackets that names the most, if several.
fn in_brackets(path: &str, text: &str, ids: &BTreeSet<&str>) -> Option<Rule> {
    let lists = BRACKETS.captures_iter(text).filter_map(|found| {
        let list = found.name("list")?.as_str();
        let items: Vec<&str> = list.split(',').map(str::trim).collect();
        let quote = items.first()?.chars().next().filter(|c| "\"'".contains(*c));
        // What stands between an id and its version; nothing of an id alone.
        let named = |item: &&str| {
            let item = match quote {
                Some(quote) => item.strip_prefix(quote)?.strip_suffix(quote)?,
                None => item,
            };
            if ids.contains(item) {
                return Some(String::new());
            }
            let mut versions = item.char_indices().filter_map(|(at, _)| {
                let found = NAMED_VERSION.captures(&item[at..])?;
                (ids.contains(&item[..at]) && at + found[0].len() == item.len())
                    .then(|| found[1].to_owned())
            });
            versions.next_back()
        };
        let named: Vec<String> = items.iter().filter_map(named).collect();
        let betweens: BTreeSet<&String> = named.iter().filter(|it| !it.is_empty()).collect();
        let written = match betweens.first().filter(|_| betweens.len() == 1) {
            Some(between) => format!("{{id}}{between}{{version}}"),
            None => "{id}".to_owned(),
        };
        let quote = quote.map(String::from).unwrap_or_default();
        let write = format!("{quote}{written}{quote}");
        let spans = list.contains('\n');
        Some((named.len(), found.name("before")?.as_str(), write, spans))
    });
    let (count, before, write, spans) = lists.max_by_key(|(count, ..)| *count)?;
    // One that is off may be the only one.
    if count < 1 || count < 2 && !is_of_what_is_off(before) {
        return None;
    }
    let keys = format!(
        "file = {}\nline = {}\n{}write = {}\nbetween = {}\n",
        quoted(path),
        quoted(&format!(r"^\s*{}\s*\[(?P<list>[^\]]*)\]", pattern(before))),
        if spans { "spans = true\n" } else { "" },
        quoted(&write),
        quoted(", "),
    );
    Some(Rule {
        file: path.to_owned(),
        count,
        how: ", in brackets",
        kind: "list",
        keys,
    })
}

fn as_list(path: &str, list: &[Named]) -> Option<Rule> {
    let (first, second) = (list.first()?, list.get(1)?);
    let between = second.before.get(first.before.len() + first.id.len()..)?;
    // What stands in quotes ends with them.
    let end = list.last().and_then(|last| last.after.chars().next());
    let before = pattern(&first.before);
    let line = match end.filter(|end| "\"'`".contains(*end) && !between.contains(*end)) {
        Some(end) => format!("^{before}(?P<list>[^{end}]*)"),
        None => format!(r"^{before}(?P<list>.*?)\s*$"),
    };
    let keys = format!(
        "file = {}\nline = {}\nwrite = \"{{id}}\"\nbetween = {}\n",
        quoted(path),
        quoted(&line),
        quoted(between),
    );
    Some(Rule {
        file: path.to_owned(),
        count: list.len(),
        how: ", in one line",
        kind: "list",
        keys,
    })
}

/// Lines that each name the end of an add-on's path, not all in the same folder.
fn as_places(sample: &Sample, path: &str, lines: &[Named]) -> Option<Rule> {
    let folder = |line: &Named| {
        let folder = line.before.trim().strip_suffix('/')?;
        let is_plain = |c: char| c.is_alphanumeric() || "_.-/".contains(c);
        (folder.chars().all(is_plain) && line.after.trim().is_empty()).then(|| folder.to_owned())
    };
    let folders: Option<BTreeSet<String>> = lines.iter().map(folder).collect();
    if folders?.len() < 2 {
        return None;
    }
    let first = lines.first()?;
    let end = format!("/{}{}", first.before.trim(), first.id);
    let mut folders = sample.paths.iter().filter_map(RelPath::folder);
    let above = folders.find_map(|it| Some(it.as_str().strip_suffix(&end)?.to_owned()))?;
    let parts = vec!["[^/]+"; end.matches('/').count()].join("/");
    let each = format!("^{}/(?P<value>{parts})$", regex::escape(&above));
    let keys = format!(
        "file = {}\nline = {}\nwrite = \"{{id}}\"\neach = {}\n",
        quoted(path),
        quoted(r"^\s*(?P<id>[^#;\s]\S*)\s*$"),
        quoted(&each),
    );
    Some(Rule {
        file: path.to_owned(),
        count: lines.len(),
        how: ", by where it lies",
        kind: "sequence",
        keys,
    })
}

/// Lines that count up: `mod1 = fern`.
fn as_numbered(path: &str, lines: &[Named]) -> Option<Rule> {
    let parted = |line: &Named| {
        let before = line.before.trim_start();
        let place = NUMBER.find(before)?.range();
        let number: usize = before[place.clone()].parse().ok()?;
        let around = (
            before[..place.start].to_owned(),
            before[place.end..].to_owned(),
        );
        line.after.trim().is_empty().then_some((around, number))
    };
    let parted: Vec<_> = lines.iter().map(parted).collect::<Option<_>>()?;
    let count_up =
        |pair: &[((String, String), usize)]| pair[0].0 == pair[1].0 && pair[0].1 + 1 == pair[1].1;
    if parted.len() < 2 || !parted.windows(2).all(count_up) {
        return None;
    }
    let (begin, end) = &parted[0].0;
    let keys = format!(
        "file = {}\nline = {}\nwrite = {}\n",
        quoted(path),
        quoted(&format!(
            r"^\s*{}(?P<at>\d+){}(?P<id>{}+)",
            pattern(begin),
            pattern(end),
            word_of(lines.iter().map(|line| &*line.id)),
        )),
        quoted(&format!("{begin}{{at}}{end}{{id}}")),
    );
    Some(Rule {
        file: path.to_owned(),
        count: lines.len(),
        how: ", counting up",
        kind: "sequence",
        keys,
    })
}

/// What stands between the names and the versions of lines, most of which name one, what closes these, and the lines without
/// all that.
fn without_versions(lines: &[Named]) -> Option<(String, &'static str, Vec<Named>)> {
    let (mut around, mut count) = (BTreeSet::new(), 0);
    let parted = lines.iter().map(|line| {
        let found = NAMED_VERSION.captures(&line.after);
        let mut after = line.after.as_str();
        if let Some(found) = found {
            after = &after[found[0].len()..];
            let closed = after.strip_prefix(')').filter(|_| found[1].contains('('));
            around.insert((found[1].to_owned(), if closed.is_some() { ")" } else { "" }));
            after = closed.unwrap_or(after);
            count += 1;
        }
        Named {
            before: line.before.clone(),
            id: line.id.clone(),
            after: after.to_owned(),
        }
    });
    let rests: Vec<Named> = parted.collect();
    let (between, close) = around.pop_first().filter(|_| around.is_empty())?;
    let is_whole = between.contains('(') == (close == ")");
    (count * 2 > lines.len() && is_whole).then_some((between, close, rests))
}

fn as_lines((path, text): (&str, &str), lines: &[Named], installed: usize) -> Option<Rule> {
    let versions = without_versions(lines);
    let lines = versions.as_ref().map_or(lines, |(.., rests)| rests);
    let around = versions
        .as_ref()
        .map(|(between, close, _)| (between.as_str(), *close));
    let first = lines.first()?;
    let before = first.before.trim_start();
    // An id alone in a line of some text means nothing.
    if before.is_empty() && lines.len() < 2 && !is_of_what_is_off(path) {
        return None;
    }
    if let Some(closed) = closing(lines) {
        return as_closed((path, text), lines, &closed, installed);
    }
    let behind = behind(lines);
    let flagged = lines.iter().all(|line| FLAG.is_match(&line.after));
    let one = word_of(lines.iter().map(|line| &*line.id));
    let word =
        match behind.starts_with('.') || around.is_some_and(|(between, _)| between.contains('-')) {
            true => format!("{one}+?"),
            false => format!("{one}+"),
        };
    // What no two of them have alike is not written in front of a new one, and so need not stand there.
    let alike = lines.iter().all(|line| line.before.trim_start() == before);
    let in_front = match alike {
        true => pattern(before),
        false => format!("(?:{})?", pattern(before)),
    };
    if !alike && behind.is_empty() {
        return None;
    }
    let (version, write_version) = around.map_or_else(Default::default, |(between, close)| {
        let (before, behind) = (pattern(between), regex::escape(close));
        let found = format!(r"(?:{before}(?P<version>\d[\w.+~-]*){behind})?");
        (found, format!("{between}{{version}}{close}"))
    });
    let id = format!(r"^\s*{in_front}(?P<id>{word}){version}");
    let before = if alike { before } else { "" };
    // How far they stand in may have a meaning.
    let indent = |line: &Named| {
        let far = line.before.len() - line.before.trim_start().len();
        line.before[..far].to_owned()
    };
    let same = lines.iter().all(|line| indent(line) == indent(first));
    let indent = if same { indent(first) } else { String::new() };
    let before = format!("{indent}{before}");
    let (kind, line, write, more) = if flagged {
        let found = FLAG.captures(&first.after)?;
        let (between, value) = (found[1].to_owned(), found[2].to_owned());
        let (on, off) = match value.as_str() {
            "on" | "off" => ("on", "off"),
            "yes" | "no" => ("yes", "no"),
            "0" | "1" => ("1", "0"),
            _ => ("true", "false"),
        };
        let line = format!(r"{id}\s*[=:]?\s*(?P<on>\S+)");
        let write = format!("{before}{{id}}{write_version}{between}{{on}}");
        let more = format!("on = {}\noff = {}\n", quoted(on), quoted(off));
        ("flags", line, write, more)
    } else {
        // One line may name the one of many that is in use, or be the first of a sequence.
        let kind = match lines.len() {
            1 if installed > 1 => "one",
            _ => "sequence",
        };
        let rest = regex::escape(behind.trim_end());
        let line = format!("{id}{}", rest.replace(r"\{id\}", &format!("{one}+")));
        let write = format!("{before}{{id}}{write_version}{behind}");
        (kind, line, write, String::new())
    };
    let ids = lines.iter().map(|line| line.id.as_str()).collect();
    let keys = format!(
        "file = {}\n{}line = {}\nwrite = {}\n{more}",
        quoted(path),
        section::within(text, &line, &ids).unwrap_or_default(),
        quoted(&line),
        quoted(&write),
    );
    Some(Rule {
        file: path.to_owned(),
        count: lines.len(),
        how: "",
        kind,
        keys,
    })
}

/// What closes the quotes and brackets that are open before an id, in all of these lines; none where none are open.
fn closing(lines: &[Named]) -> Option<String> {
    let before = &lines.first()?.before;
    let quote = ['"', '\'', '`'].into_iter();
    let mut open = quote.filter(|quote| before.matches(*quote).count() % 2 == 1);
    let quote = open.next().filter(|quote| before.ends_with(*quote))?;
    let closed = |line: &Named| {
        let rest = line.after.strip_prefix(quote)?;
        let brackets = rest.len() - rest.trim_start_matches([']', ')', '}']).len();
        Some(format!("{quote}{}", &rest[..brackets]))
    };
    let all: BTreeSet<String> = lines.iter().filter_map(closed).collect();
    let same = all.len() == 1 && lines.iter().all(|line| closed(line).is_some());
    // Where they are not closed alike, they cannot be told.
    Some(all.into_iter().next().filter(|_| same).unwrap_or_default())
}

/// Lines whose ids stand in quotes, and that may say of each whether it is on.
fn as_closed(
    (path, text): (&str, &str),
    lines: &[Named],
    closed: &str,
    installed: usize,
) -> Option<Rule> {
    let first = lines.first()?;
    let before = first.before.trim_start();
    let alike = lines.iter().all(|line| line.before == first.before);
    if closed.is_empty() || !alike {
        return None;
    }
    let rest = |line: &Named| line.after[closed.len()..].to_owned();
    let one = word_of(lines.iter().map(|line| &*line.id));
    let id = format!(
        r"^\s*{}(?P<id>{one}+){}",
        pattern(before),
        regex::escape(closed)
    );
    // The one that says least shows how a new one is written.
    let least = lines.iter().map(rest).min_by_key(String::len)?;
    let switches = |line: &Named| INNER_FLAG.is_match(&rest(line));
    let (kind, line, least) = match INNER_FLAG.captures(&least) {
        Some(found) if lines.iter().all(switches) => {
            let key = regex::escape(&found[1]);
            let at = found.get(3)?.range();
            let line = format!(r"{id}.*?\b{key}\s*[=:]\s*(?P<on>\w+)");
            (
                "flags",
                line,
                format!("{}{{on}}{}", &least[..at.start], &least[at.end..]),
            )
        }
        // One line may name the one of many that is in use.
        _ if lines.len() == 1 && installed > 1 => ("one", id, least),
        _ if lines.iter().all(|line| rest(line) == least) => ("sequence", id, least),
        _ => return None,
    };
    let ids = lines.iter().map(|line| line.id.as_str()).collect();
    let write = format!("{}{{id}}{closed}{}", first.before, least.trim_end());
    Some(Rule {
        file: path.to_owned(),
        count: lines.len(),
        how: "",
        kind,
        keys: format!(
            "file = {}\n{}line = {}\nwrite = {}\n",
            quoted(path),
            section::within(text, &line, &ids).unwrap_or_default(),
            quoted(&line),
            quoted(&write),
        ),
    })
}

/// Whether nothing is said in a line. A key in quotes says it with what stands in brackets behind it; in a script, a word
/// may stand in quotes.
fn is_comment(path: &str, line: &str) -> bool {
    let line = line.trim_start();
    let is_quoted = line.starts_with('"') && !is_script_by_name(path);
    is_quoted || line.starts_with(['#', ';']) || line.starts_with("//")
}

/// The texts that belong to no add-on and are no log.
fn texts(
    sample: &Sample,
    own: impl Fn(&RelPath) -> bool,
) -> impl Iterator<Item = (String, &String)> {
    let texts = sample.texts.iter();
    texts.filter_map(move |(path, text)| {
        let parsed = RelPath::parse(path).ok()?;
        let is_log = path.contains("log") || path.starts_with("debug");
        (!own(&parsed) && !path.contains('!') && !is_log).then_some((path.clone(), text))
    })
}

/// The `[console]`, line by line.
pub(super) fn console(
    sample: &Sample,
    ids: &BTreeSet<&str>,
    own: impl Fn(&RelPath) -> bool,
) -> Vec<Section> {
    let log: Vec<&str> = sample
        .log
        .iter()
        .flat_map(|log| log.lines())
        .take(MOST_LINES)
        .collect();
    let mut lines = vec![Section::fixed("\n[console]\n".into())];
    let todo = "ready = 'TODO: the line that says that the server is ready'\n";
    let (port, number) = port(sample, own).unzip();
    lines.push(Section {
        guessed: ready(&log, ids, number.as_deref()).unwrap_or_else(|| todo.into()),
        plain: todo.into(),
    });
    lines.extend(loaded(&log, ids).map(Section::guessed));
    lines.extend(errors(&log).map(Section::guessed));
    lines.extend(port.map(Section::guessed));
    let stop = "stop = { signal = \"TERM\" }    # or { command = \"…\" }\n";
    lines.push(Section::fixed(stop.into()));
    lines
}

/// A line's own words, and whether something stood in front of them.
fn words(line: &str) -> (&str, bool) {
    let end = STAMP.find(line).map_or(0, |found| found.end());
    (line[end..].trim_end(), end > 0)
}

fn anchor(stamped: bool) -> &'static str {
    if stamped { "" } else { "^" }
}

/// Guesses the line that says so, where it is known by which port the server can be reached.
fn ready(log: &[&str], ids: &BTreeSet<&str>, port: Option<&str>) -> Option<String> {
    let last = |says: &dyn Fn(&str) -> bool| {
        let mut lines = log.iter().rev();
        lines.find(|line| says(words(line).0) && named(line, ids).is_empty())
    };
    let says_port = |line: &str| {
        let mut numbers = NUMBER.find_iter(line);
        numbers.any(|number| Some(number.as_str()) == port)
    };
    let [clear, vague] = &*READY;
    let line = last(&|line| clear.is_match(line)).or_else(|| last(&says_port));
    // Where a port tells it, a line that may mean anything does not have to.
    let line = line.or_else(|| last(&|line| port.is_none() && vague.is_match(line)))?;
    let (own, stamped) = words(line);
    let ready = format!("{}{}", anchor(stamped), pattern(own));
    Some(format!(
        "ready = {}    # TODO: is it this line?\n",
        quoted(&ready)
    ))
}

fn loaded(log: &[&str], ids: &BTreeSet<&str>) -> Option<String> {
    let mut stamped = false;
    let mut lines = Vec::new();
    for line in log {
        let (own, stamp) = words(line);
        // A name with nothing in front of it may be said of anything.
        if let Ok([one]) = <[Named; 1]>::try_from(named(own, ids))
            && !one.before.trim().is_empty()
        {
            stamped |= stamp;
            lines.push(one);
        }
    }
    let alike = most_alike(lines);
    let seen: BTreeSet<&str> = alike.iter().map(|line| line.id.as_str()).collect();
    let before = alike.first()?.before.as_str();
    if seen.len() < 2 && ids.len() > 1 {
        return None;
    }
    let between = alike.iter().map(|line| {
        let found = VERSION.captures(&line.after)?;
        Some(found.get(1)?.as_str())
    });
    let between: BTreeSet<Option<&str>> = between.collect();
    // All of them tell their versions alike.
    let version = match between.into_iter().collect::<Vec<_>>()[..] {
        [Some(between)] => format!(r"{}(?P<version>\d[\w.:~+-]*)", pattern(between)),
        _ => String::new(),
    };
    let id = format!("(?P<id>{}+)", word_of(seen.iter().copied()));
    let loaded = format!("{}{}{id}{version}", anchor(stamped), pattern(before));
    Some(format!(
        "loaded = {}    # named {}\n",
        quoted(&loaded),
        seen.len()
    ))
}

fn errors(log: &[&str]) -> Option<String> {
    let seen = |word: &&&str| log.iter().any(|line| line.contains(**word));
    let levels = log
        .iter()
        .any(|line| line.contains("INFO") || line.contains("WARN"));
    let mut words: Vec<&str> = WRONG.iter().filter(seen).copied().collect();
    if words.is_empty() && levels {
        words.push("ERROR");
    }
    if words.is_empty() {
        return None;
    }
    let words: Vec<String> = words
        .iter()
        .map(|word| quoted(&format!(r"\b{word}")))
        .collect();
    Some(format!(
        "errors = [{}]    # TODO: what else does a bad start print?\n",
        words.join(", ")
    ))
}

/// The port, as a line of a family file, and its number.
fn port(sample: &Sample, own: impl Fn(&RelPath) -> bool) -> Option<(String, String)> {
    for (path, text) in texts(sample, own) {
        let entries = OnceCell::new();
        let key_of = |at: usize| -> Option<String> {
            let read = || {
                let entries = settings::read(&Notation::of(&path)?, text);
                entries.ok()
            };
            let entries = entries.get_or_init(read).as_ref()?;
            let found = entries.iter().find(|entry| entry.value.contains(&at))?;
            (found.key.0.len() > 1).then(|| found.key.to_string())
        };
        let all = PORTS.iter().flat_map(|stated| stated.captures_iter(text));
        let mut all = all.filter_map(|found| {
            let key = key_of(found.get(2)?.start());
            let name = key.as_deref().unwrap_or(&found[1]);
            (!OTHER_PORT.is_match(name)).then_some((found, key))
        });
        let Some((found, key)) = all.next() else {
            continue;
        };
        // Of several that are called alike, its key says which is meant.
        let place = match key {
            Some(key) => format!("key = {}", quoted(&key)),
            None => {
                let line = format!(r"{}(?P<port>\d+)", pattern(found[1].trim_start()));
                format!("line = {}", quoted(&line))
            }
        };
        let line = format!(
            "port = {{ file = {}, {place}, transport = \"tcp\" }}    # TODO: or \"udp\"?\n",
            quoted(&path),
        );
        return Some((line, found[2].to_owned()));
    }
    None
}
