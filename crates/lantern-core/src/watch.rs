//! Servers that are looked at again and again: what there is to say of one, and what of it is new.
//!
//! What could not be looked at this time is neither new nor over: what was said of it before stays said.

use crate::component::Id;
use crate::inventory::{Finding, Severity};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

const DAY_MS: i64 = 86_400_000;
const GB: u64 = 1_000_000_000;

/// From when on something is worth being said, as a group states it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Limits {
    /// The newest backup is older than so many days.
    pub backup_days: u32,
    /// Less than so many billions of bytes are free.
    pub free_gb: u64,
}

impl Default for Limits {
    fn default() -> Limits {
        Limits {
            backup_days: 7,
            free_gb: 5,
        }
    }
}

/// What somebody may want to know of a server.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum About {
    /// It cannot be looked at.
    Fault,
    /// Something was cut off there.
    CutOff,
    /// It is down.
    Down,
    /// A survey holds something against it.
    Finding,
    /// Its newest backup is old, or there is none.
    Backup,
    /// A disk fills.
    Disk,
    /// A catalogue cannot be asked, or something on offer cannot be read.
    Catalogue,
    /// There is a newer release of a component for the server version that is installed.
    Update,
    /// There is a later server version that everything is ready for.
    Version,
}

/// Something that there is to say of a server.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sign {
    /// What it is about.
    pub about: About,
    /// Of what: the same again is the same sign.
    pub subject: String,
    /// It, in words.
    pub text: String,
}

impl Sign {
    fn new(about: About, subject: impl Into<String>, text: impl Into<String>) -> Sign {
        Sign {
            about,
            subject: subject.into(),
            text: text.into(),
        }
    }

    /// What it is known by.
    fn key(&self) -> Key {
        (self.about, self.subject.clone())
    }
}

/// What a sign is known by: what it is about, and of what.
type Key = (About, String);

/// What was seen of a server; nothing where it was not looked at.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Seen {
    /// Why it could not be looked at.
    pub fault: Option<String>,
    /// What was cut off there.
    pub cut_off: Option<String>,
    /// Whether it is up.
    pub up: Option<bool>,
    /// How many players are on.
    pub players: Option<usize>,
    /// Its version.
    pub version: Option<String>,
    /// How many components it carries.
    pub components: Option<usize>,
    /// What a survey holds against it.
    pub findings: Option<Vec<Finding>>,
    /// How many backups there are, and when the newest was made, in milliseconds since 1970.
    pub backups: Option<(usize, Option<i64>)>,
    /// What is free on its disks, in bytes, by what lies there.
    pub free: BTreeMap<&'static str, u64>,
    /// What is on offer and could not be asked or read, with all that there is to say of it.
    pub unread: BTreeMap<String, String>,
    /// Newer releases of what is installed, which fit together on the installed server version: from and to.
    pub updates: Option<BTreeMap<Id, (String, String)>>,
    /// The highest later server version that everything is ready for, if there is one.
    pub ready_for: Option<Option<String>>,
}

impl Seen {
    /// What there is to say of it, by what it is about.
    pub fn signs(&self, limits: &Limits, now_ms: i64) -> Vec<Sign> {
        let mut signs = Vec::new();
        if let Some(why) = &self.fault {
            signs.push(Sign::new(
                About::Fault,
                "",
                format!("it cannot be looked at: {why}"),
            ));
        }
        if let Some(told) = &self.cut_off {
            signs.push(Sign::new(About::CutOff, "", told));
        }
        if self.up == Some(false) {
            signs.push(Sign::new(About::Down, "", "it is down"));
        }
        let findings = self.findings.iter().flatten();
        signs.extend(
            findings
                .filter(|it| it.severity != Severity::Note)
                .map(found),
        );
        signs.extend(
            self.backups
                .and_then(|it| old_backup(it, limits.backup_days, now_ms)),
        );
        let full = self.free.iter();
        let full = full.filter(|(_, free)| **free < limits.free_gb.saturating_mul(GB));
        signs.extend(full.map(|(what, free)| {
            let text = format!("the disk of {what} fills: {} GB are free", tenths(*free));
            Sign::new(About::Disk, *what, text)
        }));
        let unread = self.unread.iter();
        signs.extend(unread.map(|(what, text)| Sign::new(About::Catalogue, what, text)));
        let updates = self.updates.iter().flatten();
        signs.extend(updates.map(|(id, (from, to))| {
            let text = format!("{id} {to} fits; {from} is installed");
            Sign::new(About::Update, format!("{id} {to}"), text)
        }));
        if let Some(Some(version)) = &self.ready_for {
            let text = format!("everything is ready for {version}");
            signs.push(Sign::new(About::Version, version, text));
        }
        signs.sort();
        signs
    }

    /// Whether what there is to say about something was looked at.
    fn was_looked_at(&self, about: About) -> bool {
        match about {
            About::Fault | About::CutOff => true,
            _ if self.fault.is_some() => false,
            About::Down => self.up.is_some(),
            About::Finding => self.findings.is_some(),
            About::Backup => self.backups.is_some(),
            About::Disk => !self.free.is_empty(),
            About::Catalogue => true,
            About::Update => self.updates.is_some(),
            About::Version => self.ready_for.is_some(),
        }
    }
}

fn found(finding: &Finding) -> Sign {
    let place = finding.place.as_ref();
    let path = place.map(|place| place.path.to_string());
    let at = path
        .as_ref()
        .map_or(String::new(), |path| format!("{path}: "));
    let subject = format!("{} {}", finding.code, path.unwrap_or_default());
    // Two of one kind in one file differ in what they say.
    let subject = format!("{subject} {}", finding.text);
    Sign::new(About::Finding, subject, format!("{at}{}", finding.text))
}

fn old_backup((many, newest): (usize, Option<i64>), days: u32, now_ms: i64) -> Option<Sign> {
    let text = match newest {
        Some(at) if now_ms - at <= i64::from(days) * DAY_MS => return None,
        Some(at) => match (now_ms - at) / DAY_MS {
            0 => "its newest backup is not a day old".into(),
            1 => "its newest backup is a day old".into(),
            days => format!("its newest backup is {days} days old"),
        },
        None if many > 0 => return None,
        None => "there is no backup of it".into(),
    };
    // A day more is nothing new.
    Some(Sign::new(About::Backup, "", text))
}

/// Billions of bytes, with one digit behind the point.
fn tenths(bytes: u64) -> String {
    let tenths = bytes / (GB / 10);
    format!("{}.{}", tenths / 10, tenths % 10)
}

/// What was said of a server before, and since when, in milliseconds since 1970.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Said(BTreeMap<Key, i64>);

/// What of a server is new.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct News {
    /// What was not said before.
    pub new: Vec<Sign>,
    /// How much was, and is still so.
    pub as_before: usize,
    /// How much was, and is over.
    pub over: usize,
}

impl Said {
    /// What is new of what was seen; it is said from now on.
    pub fn news(&mut self, seen: &Seen, limits: &Limits, now_ms: i64) -> News {
        let signs = seen.signs(limits, now_ms);
        let now: BTreeSet<Key> = signs.iter().map(Sign::key).collect();
        let before = self.0.len();
        self.0
            .retain(|key, _| now.contains(key) || !seen.was_looked_at(key.0));
        let over = before - self.0.len();
        let (known, new): (Vec<Sign>, Vec<Sign>) = signs
            .into_iter()
            .partition(|sign| self.0.contains_key(&sign.key()));
        self.0.extend(new.iter().map(|sign| (sign.key(), now_ms)));
        News {
            new,
            as_before: known.len(),
            over,
        }
    }

    /// Each thing that was said: what it is about, of what, and since when.
    pub fn each(&self) -> impl Iterator<Item = (About, &str, i64)> {
        let each = self.0.iter();
        each.map(|((about, subject), since)| (*about, subject.as_str(), *since))
    }
}

impl FromIterator<(About, String, i64)> for Said {
    fn from_iter<I: IntoIterator<Item = (About, String, i64)>>(each: I) -> Said {
        let each = each.into_iter();
        Said(
            each.map(|(about, subject, since)| ((about, subject), since))
                .collect(),
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use insta::assert_snapshot;

    const NOW: i64 = 100 * DAY_MS;

    fn told(signs: &[Sign]) -> String {
        let lines = signs
            .iter()
            .map(|sign| format!("{:?}: {}", sign.about, sign.text));
        lines.collect::<Vec<_>>().join("\n")
    }

    /// A server of which all was looked at, and nothing is to be said.
    fn quiet() -> Seen {
        Seen {
            up: Some(true),
            findings: Some(Vec::new()),
            backups: Some((1, Some(NOW - DAY_MS))),
            free: BTreeMap::from([("the server", 6 * GB)]),
            updates: Some(BTreeMap::new()),
            ready_for: Some(None),
            ..Seen::default()
        }
    }

    fn update(to: &str) -> Option<BTreeMap<Id, (String, String)>> {
        Some(BTreeMap::from([(
            Id::new("trellis"),
            ("1.8.0".into(), to.into()),
        )]))
    }

    #[test]
    fn what_there_is_to_say() {
        let limits = Limits::default();
        assert_eq!(quiet().signs(&limits, NOW), []);
        let finding = |severity, text: &str| Finding {
            severity,
            code: "missing",
            place: None,
            text: text.into(),
            remedy: String::new(),
        };
        let loud = Seen {
            cut_off: Some("a changeover was cut off".into()),
            up: Some(false),
            findings: Some(vec![
                finding(Severity::Wrong, "glasswork is not there"),
                finding(Severity::Note, "a note"),
            ]),
            backups: Some((1, Some(NOW - 8 * DAY_MS))),
            free: BTreeMap::from([("the server", GB / 4), ("the backups", 9 * GB)]),
            unread: BTreeMap::from([(
                "https://depot.example/c".into(),
                "https://depot.example/c cannot be asked: no answer".into(),
            )]),
            updates: update("2.2.0"),
            ready_for: Some(Some("5.4".into())),
            ..Seen::default()
        };
        assert_snapshot!(told(&loud.signs(&limits, NOW)), @r"
    CutOff: a changeover was cut off
    Down: it is down
    Finding: glasswork is not there
    Backup: its newest backup is 8 days old
    Disk: the disk of the server fills: 0.2 GB are free
    Catalogue: https://depot.example/c cannot be asked: no answer
    Update: trellis 2.2.0 fits; 1.8.0 is installed
    Version: everything is ready for 5.4
    ");
        let bare = Seen {
            fault: Some("its folder is gone".into()),
            backups: Some((0, None)),
            ..Seen::default()
        };
        assert_snapshot!(told(&bare.signs(&limits, NOW)), @r"
    Fault: it cannot be looked at: its folder is gone
    Backup: there is no backup of it
    ");
        let strict = Limits {
            backup_days: 0,
            free_gb: 7,
        };
        assert_snapshot!(told(&quiet().signs(&strict, NOW)), @r"
    Backup: its newest backup is a day old
    Disk: the disk of the server fills: 6.0 GB are free
    ");
    }

    #[test]
    fn only_what_is_new_is_said_and_what_was_not_looked_at_stays_said() {
        let limits = Limits::default();
        let mut said = Said::default();
        let mut of = |seen: &Seen, now| {
            let news = said.news(seen, &limits, now);
            let new: Vec<&str> = news.new.iter().map(|sign| sign.text.as_str()).collect();
            format!(
                "new [{}], {} as before, {} over",
                new.join("; "),
                news.as_before,
                news.over
            )
        };
        let old = Seen {
            backups: Some((1, Some(NOW - 8 * DAY_MS))),
            updates: update("2.2.0"),
            ..quiet()
        };
        let gone = Seen {
            fault: Some("it is gone".into()),
            ..Seen::default()
        };
        let newer = Seen {
            updates: update("2.3.0"),
            ..old.clone()
        };
        let told = [
            of(&old, NOW),
            // Older by a day, and not asked for updates.
            of(
                &Seen {
                    updates: None,
                    ..old.clone()
                },
                NOW + DAY_MS,
            ),
            of(&gone, NOW),
            of(&old, NOW),
            of(&newer, NOW),
            of(&quiet(), NOW),
            of(&old, NOW),
        ];
        assert_snapshot!(told.join("\n"), @r"
    new [its newest backup is 8 days old; trellis 2.2.0 fits; 1.8.0 is installed], 0 as before, 0 over
    new [], 1 as before, 0 over
    new [it cannot be looked at: it is gone], 0 as before, 0 over
    new [], 2 as before, 1 over
    new [trellis 2.3.0 fits; 1.8.0 is installed], 1 as before, 1 over
    new [], 0 as before, 2 over
    new [its newest backup is 8 days old; trellis 2.2.0 fits; 1.8.0 is installed], 0 as before, 0 over
    ");
        let again: Said = said
            .each()
            .map(|(about, subject, since)| (about, subject.to_owned(), since))
            .collect();
        assert_eq!(again, said);
    }
}
