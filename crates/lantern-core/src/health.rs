//! What a start has shown, held against what was to be expected of it.

use crate::component::Id;
use crate::family::{ConsoleRule, Ending, IdSpelling, Naming, VersionRule, is_said_protocol};
use crate::plan::Expected;
use crate::version::{Notation, Version};
use regex::RegexSet;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// What is to be expected of a start.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Wanted {
    /// What has to run, with its version where one is stated.
    pub components: Vec<Expected>,
    /// The server program that is installed, where its version is known.
    pub build: Option<Installed>,
    /// In which order add-ons have to be started; empty where that does not count.
    pub order: Vec<Id>,
    /// The settings that the administrator has made.
    pub settings: Vec<Setting>,
    /// The error lines of an earlier start that was good, as [`normal`] writes them.
    pub known_errors: BTreeSet<String>,
    /// What was not shown before either.
    pub unshown: Unshown,
}

/// The server program that is installed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Installed {
    /// Which.
    pub id: Id,
    /// Its version.
    pub version: String,
    /// What it speaks with clients, where that is known.
    pub protocol: Option<String>,
}

/// What a server did not show, though it ran well: seen with the same eyes, its absence says nothing later.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Unshown {
    /// Components that had to run and that it did not name.
    pub components: BTreeSet<Id>,
    /// Whether it named none of several at all.
    pub blind: bool,
    /// Readers of whose components it named none.
    #[serde(default)]
    pub readers: BTreeSet<String>,
    /// Settings of which it said nothing.
    pub settings: BTreeSet<String>,
    /// Whether it started add-ons in another order than the load order's.
    #[serde(default)]
    pub disorder: bool,
    /// Whether it did not say of itself that it is of the version that was installed.
    #[serde(default)]
    pub version: bool,
    /// Whether it did not say that it speaks what the installed version does.
    #[serde(default)]
    pub protocol: bool,
}

/// A setting, by its name in the family file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting {
    /// What people call it.
    pub name: String,
    /// Its value, as it is written.
    pub value: String,
    /// Where it is set: a file and a line.
    pub from: String,
}

/// What the server has shown.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Shown {
    /// The lines printed since its start.
    pub printed: Vec<String>,
    /// The lines that it answered, by the command that it was asked.
    pub answers: BTreeMap<String, Vec<String>>,
    /// The lines that came back over its port, where it was asked there.
    pub over_port: Vec<String>,
}

/// What follows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct StartReport {
    /// What the server says of its own version; none where this family cannot tell.
    pub build: Option<BuildSeen>,
    /// What the server says it speaks with clients; none where this family cannot tell.
    pub protocol: Option<ProtocolSeen>,
    /// Each component that has to run; none where this family cannot tell.
    pub components: Option<Vec<Running>>,
    /// Where the order is first another one: what was started, and what was to be.
    pub misplaced: Option<Misplaced>,
    /// Each setting that was to be looked at.
    pub settings: Vec<SettingSeen>,
    /// The error lines.
    pub errors: Vec<ErrorSeen>,
}

/// What the server says of its own version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BuildSeen {
    /// The server program.
    pub id: Id,
    /// The version that is installed.
    pub installed: String,
    /// The version that it says; none where it says none.
    pub says: Option<String>,
    /// Whether the two were not the same before either, so that nothing follows.
    pub unlike_before: bool,
}

impl BuildSeen {
    /// Whether it says the version that is installed, in whichever spelling.
    fn is_said(&self) -> bool {
        let read = |text: &str| Version::parse(text, Notation::Dotted).ok();
        let says = self.says.as_ref();
        says.is_some_and(|says| match (read(says), read(&self.installed)) {
            (Some(says), Some(installed)) => says.is_same_release(&installed),
            _ => *says == self.installed,
        })
    }
}

/// What the server says it speaks with clients.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ProtocolSeen {
    /// What the installed version speaks.
    pub installed: String,
    /// What it says; none where it says nothing.
    pub says: Option<String>,
    /// Whether the two did not agree before either, so that nothing follows.
    pub unlike_before: bool,
}

impl ProtocolSeen {
    fn is_said(&self) -> bool {
        let says = self.says.as_ref();
        says.is_some_and(|says| is_said_protocol(&self.installed, says))
    }

    fn problem(&self) -> Option<String> {
        let installed = &self.installed;
        let is_wrong = !self.is_said() && !self.unlike_before;
        is_wrong.then(|| match &self.says {
            Some(says) => format!(
                "it says that it speaks protocol {says}, and what is installed speaks {installed}: an old program may have been started"
            ),
            None => format!(
                "it does not say which protocol it speaks; what is installed speaks {installed}"
            ),
        })
    }
}

/// What the server says of one component.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Running {
    /// The component.
    pub id: Id,
    /// The version that it has to have; none where it states none.
    pub installed: Option<String>,
    /// Whether it runs.
    pub runs: bool,
    /// The version that the server says; none where it says none.
    pub version: Option<String>,
    /// Where it does not run: the line of the start that names it, often the only one that says why.
    pub named: Option<String>,
    /// The reader that knows it, where that is known.
    pub reader: Option<String>,
    /// Whether the server did not name it before either, nor anything of its kind, so that nothing follows.
    pub unshown_before: bool,
}

/// An add-on that was started where another one was to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Misplaced {
    /// What was started.
    pub started: Id,
    /// What was to be started there.
    pub wanted: Id,
    /// Whether the order was another one before, too, so that nothing follows.
    pub before: bool,
}

/// What the server says of one setting.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SettingSeen {
    /// What people call it.
    pub name: String,
    /// What was set.
    pub wanted: String,
    /// Where it was: a file and a line.
    pub from: String,
    /// What the server says; none where it says nothing.
    pub said: Option<String>,
    /// Whether it said nothing of it before either, so that nothing follows.
    pub unsaid_before: bool,
    /// Whether it would have to be asked, and nobody could, so that nothing follows.
    pub unasked: bool,
}

/// An error line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ErrorSeen {
    /// The line.
    pub line: String,
    /// What such a line is known to mean.
    pub means: Option<String>,
    /// Whether an earlier start that was good had it, too.
    pub known: bool,
}

impl Running {
    /// Whether the server says what is installed, or nothing follows from its silence.
    pub fn is_right(&self) -> bool {
        let both = self.installed.as_ref().zip(self.version.as_ref());
        match self.runs {
            true => both.is_none_or(|(installed, says)| installed == says),
            false => self.unshown_before,
        }
    }
}

impl SettingSeen {
    /// Whether the server says what was set, or nothing follows from its silence.
    pub fn is_right(&self) -> bool {
        match &self.said {
            Some(said) => *said == self.wanted,
            None => self.unsaid_before || self.unasked,
        }
    }
}

impl ErrorSeen {
    /// The line with what it means.
    pub fn text(&self) -> String {
        match &self.means {
            Some(means) => format!("{} ({means})", self.line.trim()),
            None => self.line.trim().to_owned(),
        }
    }
}

impl StartReport {
    /// What was not shown of what had to be.
    pub fn unshown(&self) -> Unshown {
        let all = || self.components.iter().flatten();
        let silent = all().filter(|it| !it.runs);
        let readers = |runs: bool| -> BTreeSet<&String> {
            let those = all().filter(|it| it.runs == runs);
            those.filter_map(|it| it.reader.as_ref()).collect()
        };
        let silent: BTreeSet<Id> = silent.map(|it| it.id.clone()).collect();
        let unsaid = self.settings.iter();
        let unsaid = unsaid.filter(|it| it.said.is_none() && !it.unasked);
        Unshown {
            blind: self.names_none(),
            components: silent,
            readers: readers(false)
                .difference(&readers(true))
                .map(|reader| (*reader).clone())
                .collect(),
            settings: unsaid.map(|it| it.name.clone()).collect(),
            disorder: self.misplaced.is_some(),
            version: self.build.as_ref().is_some_and(|build| !build.is_said()),
            protocol: self.protocol.as_ref().is_some_and(|it| !it.is_said()),
        }
    }

    /// Whether the server names none of the components that have to run.
    fn names_none(&self) -> bool {
        let all = self.components.as_deref().unwrap_or_default();
        !all.is_empty() && all.iter().all(|it| !it.runs)
    }

    /// What was seen of the server and the components that have to run, in a sentence; and of what nothing was.
    pub fn told(&self) -> String {
        let said = self.build.as_ref().filter(|build| build.is_said());
        let said = said.map(|build| format!("; it says that it is {}", build.installed));
        let speaks = self.protocol.as_ref().filter(|it| it.is_said());
        let speaks = speaks.and_then(|it| it.says.as_ref());
        let speaks = speaks.map(|says| format!("; it says that it speaks protocol {says}"));
        let unasked = self.settings.iter().filter(|it| it.unasked);
        let unasked: Vec<&str> = unasked.map(|it| it.name.as_str()).collect();
        let unasked = (!unasked.is_empty()).then(|| {
            format!(
                "; not looked at, as its console cannot be asked: {}",
                unasked.join(", ")
            )
        });
        [said, speaks, unasked]
            .into_iter()
            .flatten()
            .fold(self.told_of_components(), |told, more| told + &more)
    }

    fn told_of_components(&self) -> String {
        let Some(all) = &self.components else {
            return "which components run could not be checked: the server shows no line and no list that tells"
                .into();
        };
        if all.is_empty() {
            return "nothing is installed whose start the server would report".into();
        }
        if all.iter().all(|it| !it.runs && it.unshown_before) {
            return format!(
                "which components run could not be checked: of {} that should, the server names none, and it named none \
                 before",
                all.len()
            );
        }
        let running: Vec<&Running> = all.iter().filter(|it| it.runs).collect();
        let stated = running.iter().filter(|it| it.installed.is_some()).count();
        let seen = format!(
            "{} of {} components are loaded, {stated} of them in a stated version",
            running.len(),
            all.len()
        );
        let silent = all.iter().filter(|it| !it.runs && it.unshown_before);
        let silent = silent.map(|it| it.id.as_str());
        let seen = match silent.collect::<Vec<_>>().join(", ") {
            none if none.is_empty() => seen,
            some => format!("{seen}; not reported, as before the changeover: {some}"),
        };
        match &self.misplaced {
            Some(misplaced) if misplaced.before => {
                format!("{seen}; started in another order than the load order says, as before")
            }
            _ => seen,
        }
    }

    /// All that is not as it should be, a sentence each; empty when all is.
    pub fn problems(&self) -> Vec<String> {
        let mut problems = Vec::new();
        for error in self.errors.iter().filter(|error| !error.known) {
            problems.push(format!("it printed: {}", error.text()));
        }
        let build = self.build.as_ref();
        let build = build.filter(|build| !build.is_said() && !build.unlike_before);
        problems.extend(build.map(|build| match &build.says {
            Some(says) => format!(
                "it says that it is {says}, and {} {} is installed: an old program may have been started",
                build.id, build.installed
            ),
            None => format!("it does not say which version it is; {} {} is installed", build.id, build.installed),
        }));
        problems.extend(self.protocol.as_ref().and_then(ProtocolSeen::problem));
        let wrong = self.components.iter().flatten().filter(|a| !a.is_right());
        let wrong: Vec<&Running> = wrong.collect();
        let names_none = self.names_none() && wrong.len() > 1;
        if names_none {
            problems.push(format!(
                "the server names none of the {} components that should run; if they do, `loaded` or `list` of the family is not \
                 right",
                wrong.len()
            ));
        }
        for answer in wrong.into_iter().filter(|_| !names_none) {
            problems.push(match (&answer.version, &answer.installed) {
                (Some(runs), Some(installed)) => {
                    format!("{} runs in {runs}, not {installed}", answer.id)
                }
                _ => match &answer.named {
                    Some(line) => format!("{} does not run; it printed: {line}", answer.id),
                    None => format!("{} does not run", answer.id),
                },
            });
        }
        let misplaced = self.misplaced.as_ref().filter(|it| !it.before);
        if let Some(Misplaced {
            started, wanted, ..
        }) = misplaced
        {
            problems.push(format!("{started} was started where {wanted} should be"));
        }
        for setting in self.settings.iter().filter(|s| !s.is_right()) {
            let SettingSeen {
                name,
                wanted,
                said,
                from,
                ..
            } = setting;
            problems.push(match said {
                Some(said) => format!(
                    "{name} is {said}, not {wanted} as {from} says: the start command may be cut off"
                ),
                None => {
                    format!("the server does not report {name}, which is {wanted} in {from}")
                },
            });
        }
        problems
    }
}

/// An error line without what differs from start to start: numbers, so times too, and blanks.
pub fn normal(line: &str) -> String {
    let mut text = String::new();
    for c in line.trim().chars() {
        let c = match c {
            c if c.is_ascii_digit() => '#',
            c if c.is_whitespace() => ' ',
            c => c,
        };
        if !(matches!(c, '#' | ' ') && text.ends_with(c)) {
            text.push(c);
        }
    }
    text
}

/// The error lines among what was printed.
pub fn errors(rule: &ConsoleRule, printed: &[String], known: &BTreeSet<String>) -> Vec<ErrorSeen> {
    let seen = printed.iter().filter_map(|line| {
        let mut rules = rule.errors.iter();
        let error = rules.find(|error| error.line().regex().is_match(line))?;
        Some(ErrorSeen {
            line: line.trim().to_owned(),
            means: error.means().map(str::to_owned),
            known: known.contains(&normal(line)),
        })
    });
    seen.collect()
}

/// The lines of a long log that can matter to a judgement, told from all others quickly.
#[derive(Debug)]
pub struct Watch {
    patterns: RegexSet,
}

impl Watch {
    /// By all patterns of a family that a printed line can match.
    pub fn of(rule: &ConsoleRule) -> Watch {
        let loaded = rule.loaded.iter().map(|loaded| &loaded.line);
        let own = rule.ready.iter().chain(loaded).chain(&rule.framework);
        let errors = rule.errors.iter().map(|error| error.line());
        let settings = rule.settings.iter().map(|setting| &setting.says);
        let version = rule.version.iter().map(|version| &version.says);
        let all = own.chain(errors).chain(settings).chain(version);
        let all = all.map(|pattern| pattern.regex().as_str());
        Watch {
            patterns: RegexSet::new(all).unwrap_or_default(),
        }
    }

    /// Whether a line can matter.
    pub fn minds(&self, line: &str) -> bool {
        self.patterns.is_match(line)
    }
}

/// The commands to ask so that everything can be held against what is wanted, each with the end of its answer.
pub fn questions<'r>(rule: &'r ConsoleRule, wanted: &Wanted) -> Vec<(&'r str, Ending<'r>)> {
    let mut questions: Vec<(&str, Ending)> = Vec::new();
    if let Some(list) = &rule.list {
        questions.push((&list.ask, list.ending()));
    }
    if let Some(version) = rule.version.as_ref().filter(|_| wanted.build.is_some())
        && let Some(ask) = &version.ask
    {
        questions.push((ask, Ending::Line(&version.says)));
    }
    let set = |name: &String| wanted.settings.iter().any(|setting| setting.name == *name);
    for setting in rule.settings.iter().filter(|setting| set(&setting.name)) {
        let asked = |ask: &str| questions.iter().any(|(asked, _)| *asked == ask);
        if let Some(ask) = setting.ask.as_deref().filter(|ask| !asked(ask)) {
            questions.push((ask, Ending::Line(&setting.says)));
        }
    }
    questions
}

/// The last line that names an add-on as a word of its own.
fn naming(id: &Id, printed: &[String]) -> Option<String> {
    let part_of_id = |c: char| c.is_alphanumeric() || c == '-' || c == '_';
    let mut lines = printed.iter().rev();
    let line = lines.find(|line| {
        let mut words = line.split(|c| !part_of_id(c));
        words.any(|word| word == id.as_str())
    });
    line.map(|line| line.trim().to_owned())
}

fn each_once(ids: Vec<&Id>) -> Vec<&Id> {
    let mut known = BTreeSet::new();
    ids.into_iter().filter(|id| known.insert(*id)).collect()
}

/// The first that was started where another one is due.
fn out_of_order(started: &[&Id], wanted: &Wanted) -> Option<Misplaced> {
    let there: BTreeSet<&Id> = started.iter().copied().collect();
    let order: BTreeSet<&Id> = wanted.order.iter().collect();
    let due = wanted.order.iter().filter(|id| there.contains(id));
    let in_order = started.iter().filter(|id| order.contains(*id));
    let mut both = in_order.zip(due);
    let (started, due) = both.find(|(started, due)| **started != *due)?;
    Some(Misplaced {
        started: (*started).clone(),
        wanted: due.clone(),
        before: wanted.unshown.disorder,
    })
}

/// Holds what a server has shown against what is wanted; `ids` spells what it names.
pub fn judge(rule: &ConsoleRule, ids: &IdSpelling, wanted: &Wanted, shown: &Shown) -> StartReport {
    let named = |naming: &Naming, lines: &[String]| -> Vec<(Id, Option<String>)> {
        let found = lines.iter().flat_map(|line| naming.named(line));
        let found = found.map(|it| (Id::new(&ids.spell(it.id)), it.version.map(str::to_owned)));
        found.collect()
    };
    let started = rule.loaded.as_ref();
    let started = started.map_or(Vec::new(), |loaded| named(loaded, &shown.printed));
    // What was started and has gone since is missing from the list, and so does not run.
    let list = rule.list.as_ref();
    let running = match list.map(|list| (list, shown.answers.get(&list.ask))) {
        Some((list, Some(lines))) => Some(named(&list.naming, lines)),
        // Where its console cannot be asked, nothing is known but what it has printed.
        Some((_, None)) if shown.printed.is_empty() => None,
        _ => rule.loaded.as_ref().map(|_| started.clone()),
    };
    let framework = rule.framework.iter().flat_map(|pattern| {
        let lines = shown.printed.iter();
        lines.filter_map(|line| {
            let id = Id::new(&ids.spell(pattern.capture("id", line)?));
            Some((id, pattern.capture("version", line).map(str::to_owned)))
        })
    });
    let components = running.map(|mut running| {
        running.extend(framework);
        let running: BTreeMap<Id, Option<String>> = running.into_iter().collect();
        let answer = |expected: &Expected| {
            let runs = running.contains_key(&expected.id);
            Running {
                id: expected.id.clone(),
                installed: expected.version.clone(),
                runs,
                version: running.get(&expected.id).cloned().flatten(),
                named: (!runs)
                    .then(|| naming(&expected.id, &shown.printed))
                    .flatten(),
                unshown_before: wanted.unshown.blind
                    || wanted.unshown.components.contains(&expected.id)
                    || (expected.reader.as_ref())
                        .is_some_and(|reader| wanted.unshown.readers.contains(reader)),
                reader: expected.reader.clone(),
            }
        };
        wanted.components.iter().map(answer).collect()
    });
    let started: Vec<&Id> = started.iter().map(|(id, _)| id).collect();
    // A server may name each several times, as when it looks at all of them before it starts them.
    let mut again = started.clone();
    again.reverse();
    let mut last = each_once(again);
    last.reverse();
    let misplaced = out_of_order(&each_once(started), wanted).and(out_of_order(&last, wanted));
    let settings = wanted.settings.iter().filter_map(|setting| {
        let setting_rule = rule
            .settings
            .iter()
            .find(|rule| rule.name == setting.name)?;
        let lines = match &setting_rule.ask {
            Some(ask) => shown.answers.get(ask),
            None => Some(&shown.printed),
        };
        let mut lines = lines.into_iter().flatten();
        let said = lines.find_map(|line| setting_rule.says.capture("value", line));
        Some(SettingSeen {
            name: setting.name.clone(),
            wanted: setting.value.clone(),
            from: setting.from.clone(),
            said: said.map(str::to_owned),
            unsaid_before: wanted.unshown.settings.contains(&setting.name),
            unasked: setting_rule
                .ask
                .as_ref()
                .is_some_and(|ask| !shown.answers.contains_key(ask)),
        })
    });
    let build = rule.version.as_ref().zip(wanted.build.as_ref());
    // Where it would have to be asked and nobody can, nothing follows.
    let is_heard = |rule: &VersionRule| {
        rule.ask
            .as_ref()
            .is_none_or(|ask| shown.answers.contains_key(ask))
    };
    let build = build.filter(|(rule, _)| is_heard(rule));
    let says = |rule: &VersionRule, group: &str| -> Option<String> {
        let lines = match (&rule.ask, &rule.over_port) {
            (Some(ask), _) => shown.answers.get(ask),
            (None, Some(_)) => Some(&shown.over_port),
            (None, None) => Some(&shown.printed),
        };
        // Of several starts in one log the last counts.
        let mut lines = lines.into_iter().flatten().rev();
        let found = lines.find_map(|line| rule.says.capture(group, line));
        found.map(str::to_owned)
    };
    let protocol = build.and_then(|(rule, build)| {
        Some(ProtocolSeen {
            installed: build
                .protocol
                .clone()
                .filter(|_| rule.says.names("protocol"))?,
            says: says(rule, "protocol"),
            unlike_before: wanted.unshown.protocol,
        })
    });
    let build = build.filter(|(rule, _)| rule.says.names("version"));
    let build = build.map(|(rule, build)| BuildSeen {
        id: build.id.clone(),
        installed: build.version.clone(),
        says: says(rule, "version"),
        unlike_before: wanted.unshown.version,
    });
    StartReport {
        build,
        protocol,
        components,
        misplaced,
        settings: settings.collect(),
        errors: errors(rule, &shown.printed, &wanted.known_errors),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::family::Family;

    const RULE: &str = r#"
        ready = "^open"
        errors = [{ line = "^FAULT", means = "it cannot go on" }, "^odd"]
        stop = { command = "stop" }
        loaded = '^start (?P<id>\S+) (?P<version>\S+)'
        version = { says = '^frame of (?P<version>\S+)' }
        framework = '^frame (?P<id>\S+) (?P<version>\S+)'
        list = { ask = "list", line = '^- (?P<id>\S+) (?P<version>\S+)', end = "^all" }
        setting = [
            { name = "seats", file = "s.conf", line = 'seats=(?P<value>\d+)', says = '^(?P<value>\d+) seats' },
            { name = "seed", file = "s.conf", line = 'seed=(?P<value>\d+)', says = '^seed (?P<value>\d+)', ask = "seed" },
        ]
    "#;

    fn judged(rule: &ConsoleRule, wanted: &Wanted, shown: &Shown) -> StartReport {
        judge(rule, &IdSpelling::default(), wanted, shown)
    }

    fn rule(text: &str) -> ConsoleRule {
        toml_edit::de::from_str(text).unwrap()
    }

    fn lines(text: &str) -> Vec<String> {
        text.split(", ").map(str::to_owned).collect()
    }

    fn wanted(components: &str, order: &str, settings: &str) -> Wanted {
        let pairs = |text: &str| -> Vec<(String, String)> {
            let words = text.split_whitespace();
            let pairs = words.filter_map(|word| word.split_once('='));
            pairs.map(|(a, b)| (a.to_owned(), b.to_owned())).collect()
        };
        let expected = |(id, version): (String, String)| Expected {
            id: Id::new(&id),
            version: Some(version),
            reader: None,
            server: None,
        };
        Wanted {
            components: pairs(components).into_iter().map(expected).collect(),
            build: None,
            order: order.split_whitespace().map(Id::new).collect(),
            settings: pairs(settings)
                .into_iter()
                .map(|(name, value)| Setting {
                    name,
                    value,
                    from: "s.conf:1".into(),
                })
                .collect(),
            known_errors: BTreeSet::from(["odd sum #".to_owned()]),
            unshown: Unshown::default(),
        }
    }

    fn house(protocol: Option<&str>) -> Installed {
        Installed {
            id: Id::new("house"),
            version: "5.4.0".into(),
            protocol: protocol.map(str::to_owned),
        }
    }

    #[test]
    fn the_server_has_to_say_the_protocol_that_is_installed() {
        let own = r"says = '^frame of (?P<version>\S+)'";
        let with = |says: &str| rule(&RULE.replace(own, &format!("says = '{says}'")));
        let told = |says: &str, installed: Option<&str>, printed: &str| {
            let wanted = Wanted {
                build: Some(house(installed)),
                ..wanted("", "", "")
            };
            let shown = Shown {
                printed: lines(printed),
                ..Shown::default()
            };
            let report = judged(&with(says), &wanted, &shown);
            let unshown = report.unshown();
            format!(
                "{} | {} | {}",
                report.told(),
                report.problems().join("; "),
                unshown.protocol
            )
        };
        let alone = r"^speaks (?P<protocol>\S+)";
        let both = r"^speaks (?P<protocol>\S+)|^frame of (?P<version>\S+)";
        let told = [
            told(alone, Some("37-44"), "speaks 44"),
            told(alone, Some("37-44"), "speaks 37-44"),
            told(alone, Some("37-44"), "speaks 37-41"),
            told(alone, Some("37-44"), "speaks 45"),
            told(alone, Some("moss"), "open"),
            told(alone, None, "speaks 45"),
            told(both, Some("44"), "speaks 44, frame of 5.1"),
        ];
        insta::assert_snapshot!(told.join("\n"), @"
        nothing is installed whose start the server would report; it says that it speaks protocol 44 |  | false
        nothing is installed whose start the server would report; it says that it speaks protocol 37-44 |  | false
        nothing is installed whose start the server would report | it says that it speaks protocol 37-41, and what is installed speaks 37-44: an old program may have been started | true
        nothing is installed whose start the server would report | it says that it speaks protocol 45, and what is installed speaks 37-44: an old program may have been started | true
        nothing is installed whose start the server would report | it does not say which protocol it speaks; what is installed speaks moss | true
        nothing is installed whose start the server would report |  | false
        nothing is installed whose start the server would report; it says that it speaks protocol 44 | it says that it is 5.1, and house 5.4.0 is installed: an old program may have been started | false
        ");
    }

    /// What is wrong with a start, from what was printed and what `list` and `seed` answered.
    fn problems(wanted: &Wanted, printed: &str, list: &str, seed: &str) -> String {
        let answers = [("list", list), ("seed", seed)];
        let shown = Shown {
            printed: lines(printed),
            answers: answers
                .map(|(command, answer)| (command.to_owned(), lines(answer)))
                .into(),
            ..Shown::default()
        };
        judged(&rule(RULE), wanted, &shown).problems().join("; ")
    }

    #[test]
    fn the_server_has_to_say_the_version_that_is_installed() {
        let wanted = |unlike_before| Wanted {
            build: Some(house(None)),
            unshown: Unshown {
                version: unlike_before,
                ..Unshown::default()
            },
            ..wanted("a=1", "", "")
        };
        let told = |before, printed: &str| {
            let shown = Shown {
                printed: lines(printed),
                answers: BTreeMap::from([("list".to_owned(), lines("- a 1, all"))]),
                ..Shown::default()
            };
            let report = judged(&rule(RULE), &wanted(before), &shown);
            let problems = report.problems().join("; ");
            format!(
                "{} | {problems} | {}",
                report.told(),
                report.unshown().version
            )
        };
        let told = [
            told(false, "frame of 5.4"),
            told(false, "frame of 5.1, frame of 5.4+wide"),
            told(false, "frame of 5.1"),
            told(false, "open"),
            told(true, "frame of 5.1"),
        ];
        insta::assert_snapshot!(told.join("\n"), @"
        1 of 1 components are loaded, 1 of them in a stated version; it says that it is 5.4.0 |  | false
        1 of 1 components are loaded, 1 of them in a stated version; it says that it is 5.4.0 |  | false
        1 of 1 components are loaded, 1 of them in a stated version | it says that it is 5.1, and house 5.4.0 is installed: an old program may have been started | true
        1 of 1 components are loaded, 1 of them in a stated version | it does not say which version it is; house 5.4.0 is installed | true
        1 of 1 components are loaded, 1 of them in a stated version |  | true
        ");
    }

    #[test]
    fn the_version_may_be_asked_for_over_the_port() {
        let with = |version: &str| {
            let port = "port = { file = 's', line = '(?P<port>.)', transport = 'tcp' }";
            let own = "version = { says = '^frame of (?P<version>\\S+)' }";
            assert!(RULE.contains(own));
            rule(&format!("{}\n{port}", RULE.replace(own, version)))
        };
        let asked = with("version = { says = '^up: (?P<version>\\S+)', over_port = \"s\\u00ff\" }");
        let wanted = Wanted {
            build: Some(house(None)),
            ..wanted("", "", "")
        };
        let says = |over_port: &str| {
            let shown = Shown {
                printed: lines("up: 5.4.0"),
                over_port: lines(over_port),
                ..Shown::default()
            };
            judged(&asked, &wanted, &shown).build.unwrap().says
        };
        assert_eq!(says("up: 5.1"), Some("5.1".into()));
        assert_eq!(says(""), None, "what it printed is no answer");
    }

    #[test]
    fn what_was_not_shown_before_is_no_reason_to_go_back() {
        let mut rule_without_list = rule(RULE);
        let shown = |lines: &[&str]| Shown {
            printed: lines.iter().map(|line| (*line).to_owned()).collect(),
            ..Shown::default()
        };
        let mut wanted = Wanted {
            components: ["a", "b"]
                .map(|id| Expected {
                    id: Id::new(id),
                    version: Some("1".into()),
                    reader: Some(id.into()),
                    server: None,
                })
                .into(),
            ..Wanted::default()
        };

        rule_without_list.list = None;
        let mut told = Vec::new();
        for (before, after) in [
            // One was not named before, and is not now; the other was, and has gone.
            (&["start a 1"][..], &["start a 1"][..]),
            (&["start a 1"], &["start b 1"]),
            // Nothing ever was: then nothing follows, of what is new neither.
            (&[], &[]),
            (&["start a 1", "start b 1"], &[]),
            (&["start a 1", "start b 1"], &["start a 1"]),
        ] {
            wanted.unshown = Unshown::default();
            let first = judged(&rule_without_list, &wanted, &shown(before));
            wanted.unshown = first.unshown();
            let report = judged(&rule_without_list, &wanted, &shown(after));
            told.push(
                [vec![report.told()], report.problems()]
                    .concat()
                    .join("\n    "),
            );
        }
        insta::assert_snapshot!(told.join("\n"), @"
        1 of 2 components are loaded, 1 of them in a stated version; not reported, as before the changeover: b
        1 of 2 components are loaded, 1 of them in a stated version
            a does not run
        which components run could not be checked: of 2 that should, the server names none, and it named none before
        0 of 2 components are loaded, 0 of them in a stated version
            the server names none of the 2 components that should run; if they do, `loaded` or `list` of the family is not right
        1 of 2 components are loaded, 1 of them in a stated version
            b does not run
        ");
        let nothing = judged(&rule_without_list, &Wanted::default(), &shown(&[]));
        assert!(nothing.told().starts_with("nothing is installed"));
        rule_without_list.loaded = None;
        let blind = judged(&rule_without_list, &wanted, &shown(&[]));
        assert!(blind.told().contains("could not be checked"));
    }

    #[test]
    fn a_start_is_held_against_what_is_wanted() {
        let all = wanted("a=1 b=2 frame=3", "a b", "seats=24 seed=7");
        let good = "frame frame 3, 24 seats, start a 1, start b 2, open";
        let table = [
            (good, "- a 1, - b 2, all", "seed 7", ""),
            (
                good,
                "- a 1, all",
                "seed 7",
                "b does not run; it printed: start b 2",
            ),
            (
                good,
                "- a 1, - b 2.1, all",
                "seed 7",
                "b runs in 2.1, not 2",
            ),
            (
                "24 seats, start a 1, start b 2",
                "- a 1, - b 2",
                "seed 7",
                "frame does not run",
            ),
            (
                "frame frame 3, 24 seats, start b 2, start a 1",
                "- a 1, - b 2",
                "seed 7",
                "b was started where a should be",
            ),
            (
                "frame frame 3, 8 seats, start a 1, start b 2",
                "- a 1, - b 2",
                "what?",
                "seats is 8, not 24 as s.conf:1 says: the start command may be cut off; \
                 the server does not report seed, which is 7 in s.conf:1",
            ),
            (
                "frame frame 3, 24 seats, odd sum 12, FAULT: no, start a 1, start b 2",
                "- a 1, - b 2",
                "seed 7",
                "it printed: FAULT: no (it cannot go on)",
            ),
            (
                "frame frame 3, 24 seats, odd smell, start x 1, start a 1, start b 2",
                "- a 1, - b 2",
                "seed 7",
                "it printed: odd smell",
            ),
        ];
        for (printed, list, seed, expected) in table {
            assert_eq!(problems(&all, printed, list, seed), expected, "{printed}");
        }
    }

    #[test]
    fn nothing_is_asked_and_judged_that_nobody_declared() {
        let rule = rule(RULE);
        let asked = |wanted: &Wanted| -> Vec<String> {
            let questions = questions(&rule, wanted).into_iter();
            questions.map(|(ask, _)| ask.to_owned()).collect()
        };
        assert_eq!(asked(&wanted("", "", "seats=1")), ["list"]);
        assert_eq!(asked(&wanted("", "", "seed=1")), ["list", "seed"]);
        assert_eq!(problems(&wanted("", "", ""), "8 seats", "all", ""), "");
    }

    #[test]
    fn what_nobody_could_ask_is_no_fault_and_is_told() {
        let wanted = wanted("a=1", "", "seats=24 seed=7");
        let shown = Shown {
            printed: lines("24 seats, start a 1"),
            ..Shown::default()
        };
        let report = judged(&rule(RULE), &wanted, &shown);
        assert_eq!(report.problems(), Vec::<String>::new());
        let told = report.told();
        assert!(
            told.ends_with("its console cannot be asked: seed"),
            "{told}"
        );
        // That is no silence of the server's, which the next start would be excused for.
        assert!(report.unshown().settings.is_empty());
    }

    #[test]
    fn the_order_of_a_start_counts_where_it_ever_did() {
        let mut wanted = wanted("a=1 b=2", "a b", "");
        let judged = |wanted: &Wanted, printed: &str| {
            let shown = Shown {
                printed: lines(printed),
                answers: BTreeMap::from([("list".into(), lines("- a 1, - b 2, all"))]),
                ..Shown::default()
            };
            judged(&rule(RULE), wanted, &shown)
        };
        let started = |wanted: &Wanted, printed| judged(wanted, printed).problems().join("; ");
        // All are looked at before they are started, or looked at once more.
        for good in [
            "start b 2, start a 1, start a 1, start b 2",
            "start a 1, start b 2, start b 2, start a 1",
        ] {
            assert_eq!(started(&wanted, good), "");
        }
        let bad = "start b 2, start a 1";
        assert_eq!(started(&wanted, bad), "b was started where a should be");
        // A server that never minded the load order is no worse after it.
        wanted.unshown = judged(&wanted, bad).unshown();
        assert_eq!(started(&wanted, bad), "");
        assert!(judged(&wanted, bad).told().ends_with("as before"));
    }

    #[test]
    fn without_a_list_the_start_lines_tell() {
        let text = RULE.replace("list = {", "#");
        let shown = Shown {
            printed: lines("start a 1"),
            ..Shown::default()
        };
        let verdict = judged(&rule(&text), &wanted("a=1 b=2", "", ""), &shown);
        assert_eq!(verdict.problems(), ["b does not run"]);
        let bare = rule("ready = 'up'\nstop = { command = 'stop' }");
        let verdict = judged(&bare, &wanted("a=1", "", ""), &shown);
        assert_eq!(verdict.components, None);
        assert_eq!(verdict.problems(), Vec::<String>::new());
    }

    #[test]
    fn what_differs_from_start_to_start_is_no_other_error() {
        let table = [
            ("12:04:59 odd  sum 7", "#:#:# odd sum #"),
            ("\t[3] x1y22 \r", "[#] x#y#"),
            ("", ""),
        ];
        for (line, expected) in table {
            assert_eq!(normal(line), expected);
        }
    }

    #[test]
    fn a_console_without_ready_line_needs_a_port() {
        let family = |console: &str| {
            let text = format!(
                "format = 1\nname = 'x'\ntitle = 'X'\nmarks = ['x']\nreader = []\n\
                 build = {{ id = 'x' }}\nlaunch = {{ command = ['x'] }}\n\
                 console = {{ stop = {{ signal = 'INT' }}{console} }}"
            );
            Family::parse(&text)
                .map(|_| ())
                .map_err(|fault| fault.to_string())
        };
        let port = ", port = { file = 'x', line = '(?P<port>1)', transport = 'udp' }";
        assert_eq!(family(port), Ok(()));
        let over = |text: &str| format!(", version = {{ says = 'x', over_port = \"s\"{text} }}");
        let asked = family(&format!("{port}{}", over("")));
        assert_eq!(asked, Ok(()));
        for (rest, why) in [
            (format!(", ready = 'up'{}", over("")), "no `port`"),
            (format!("{port}{}", over(", ask = 'v'")), "two ways"),
            (
                format!("{port}{}", over("").replace("\"s\"", "\"\"")),
                "is empty",
            ),
            (
                format!("{port}{}", over("").replace("\"s\"", "\"\u{2013}\"")),
                "above",
            ),
        ] {
            let fault = family(&rest).unwrap_err();
            assert!(
                fault.starts_with("console.version") && fault.contains(why),
                "{fault}"
            );
        }
        let fault = family("").unwrap_err();
        assert!(
            fault.starts_with("console: neither `ready` nor `port`"),
            "{fault}"
        );
    }
}
