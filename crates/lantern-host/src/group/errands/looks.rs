//! What is only looked at.

use super::{AtServer, Offered, opened};
use crate::changeover::Meanwhile;
use crate::console::ServerState;
use crate::error::{Error, Result};
use crate::glance;
use crate::ledger::{Ledger, Logged};
use crate::planning::{self, Terms};
use crate::session::Errand;
use crate::survey::{Depth, survey};
use crate::telling::{self, Message, Told};
use crate::verify::verify;
use crate::watch;
use lantern_core::component::Id;
use lantern_core::group::Carries;
use lantern_core::inventory::Severity;
use lantern_core::notice::ServerNews;
use lantern_core::outlook::{self, Together};
use lantern_core::version::{Notation, Version, VersionFault};
use lantern_core::watch::{Limits, News, Said, Seen};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::Path;

/// A survey of it.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Survey {}

/// What a survey found of a server of a group.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OneSurvey {
    /// What kind of server it is.
    pub family: String,
    /// Its version, where that is known.
    pub server_version: Option<String>,
    /// All that it carries.
    pub carries: Carries,
    /// How many findings say that something is wrong.
    pub wrong: usize,
    /// How many say caution.
    pub caution: usize,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

impl Errand for Survey {
    const NAME: &'static str = "survey";
    type Came = OneSurvey;
}

impl AtServer for Survey {
    fn run(&self, folder: &Path) -> Result<OneSurvey> {
        let (server, meanwhile) = opened(folder)?;
        let mut ledger = Ledger::open(&server.folder)?;
        let found = survey(&server, &mut ledger, Depth::Usual)?;
        glance::remember(&server, &found);
        let of = |severity| {
            let findings = found.inventory.findings.iter();
            findings.filter(|it| it.severity == severity).count()
        };
        let version = found.inventory.server_version();
        Ok(OneSurvey {
            family: server.family.name.clone(),
            server_version: version.map(ToString::to_string),
            carries: Carries::of(&found.inventory),
            wrong: of(Severity::Wrong),
            caution: of(Severity::Caution),
            meanwhile,
        })
    }
}

/// Who is ready for which version: what is installed is not left behind.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Outlooks {
    /// Where releases come from.
    pub from: Offered,
}

/// Who is ready for which version of a server of a group.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(try_from = "WrittenOutlook", into = "WrittenOutlook")]
pub struct OneOutlook {
    /// How its versions are written.
    pub notation: Notation,
    /// The id of its server program.
    pub build: Id,
    /// The version that is installed, where it is known.
    pub installed: Option<Version>,
    /// By server version, in ascending order.
    pub versions: Vec<AtVersion>,
    /// Whether anything is on offer.
    pub is_on_offer: bool,
    /// How many releases and archives were left out, as they could not be read.
    pub left_out: usize,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

/// How a server of a group stands to a server version.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AtVersion<V = Version> {
    /// The version.
    pub version: V,
    /// Whether everything fits together there.
    pub together: Together,
    /// What runs there and is not ready for it.
    pub not_ready: Vec<Id>,
}

/// The same, as it is written down.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenOutlook {
    notation: Notation,
    build: Id,
    installed: Option<String>,
    versions: Vec<AtVersion<String>>,
    is_on_offer: bool,
    left_out: usize,
    meanwhile: Meanwhile,
}

impl From<OneOutlook> for WrittenOutlook {
    fn from(it: OneOutlook) -> WrittenOutlook {
        let versions = it.versions.into_iter().map(|at| AtVersion {
            version: at.version.to_string(),
            together: at.together,
            not_ready: at.not_ready,
        });
        WrittenOutlook {
            notation: it.notation,
            build: it.build,
            installed: it.installed.map(|version| version.to_string()),
            versions: versions.collect(),
            is_on_offer: it.is_on_offer,
            left_out: it.left_out,
            meanwhile: it.meanwhile,
        }
    }
}

impl TryFrom<WrittenOutlook> for OneOutlook {
    type Error = VersionFault;

    fn try_from(it: WrittenOutlook) -> std::result::Result<OneOutlook, VersionFault> {
        let read = |text: &str| Version::parse(text, it.notation);
        let versions = it.versions.into_iter().map(|at| {
            Ok(AtVersion {
                version: read(&at.version)?,
                together: at.together,
                not_ready: at.not_ready,
            })
        });
        Ok(OneOutlook {
            notation: it.notation,
            build: it.build,
            installed: it.installed.as_deref().map(read).transpose()?,
            versions: versions.collect::<std::result::Result<_, _>>()?,
            is_on_offer: it.is_on_offer,
            left_out: it.left_out,
            meanwhile: it.meanwhile,
        })
    }
}

impl OneOutlook {
    /// How it stands to a version; none where nobody offers that version for it.
    pub fn at(&self, version: &Version) -> Option<&AtVersion> {
        self.versions.iter().find(|it| it.version == *version)
    }

    /// Whether everything fits together there on a version.
    pub fn together(&self, version: &Version) -> Option<Together> {
        Some(self.at(version)?.together)
    }

    /// What runs there and is not ready for a version.
    pub fn not_ready(&self, version: &Version) -> &[Id] {
        self.at(version).map_or(&[], |it| &it.not_ready)
    }
}

impl Errand for Outlooks {
    const NAME: &'static str = "outlook";
    type Came = OneOutlook;
}

impl AtServer for Outlooks {
    fn run(&self, folder: &Path) -> Result<OneOutlook> {
        let (server, meanwhile) = opened(folder)?;
        let sources = self.from.sources(&server)?;
        let terms = Terms {
            to: planning::BEST.into(),
            ..Terms::default()
        };
        let mut ledger = Ledger::open(&server.folder)?;
        let question = planning::question(&server, &mut ledger, &sources, &terms)?;
        let installed = question.survey.inventory.server_version().cloned();
        let request = &question.request;
        let mut versions = outlook::versions(request);
        versions.retain(|version| installed.as_ref().is_none_or(|now| version >= now));
        let seen = outlook::outlook(request, versions);
        let both = seen.versions.iter().zip(&seen.together).enumerate();
        let versions = both.map(|(at, (version, together))| {
            let rows = seen.rows.iter().filter(|row| !row.off);
            let late = rows.filter(|row| row.standings.get(at).is_some_and(|it| !it.is_ready()));
            AtVersion {
                version: version.clone(),
                together: *together,
                not_ready: late.map(|row| row.id.clone()).collect(),
            }
        });
        Ok(OneOutlook {
            notation: server.family.versions.server,
            build: request.build.clone(),
            versions: versions.collect(),
            installed,
            is_on_offer: !request.offers.is_empty(),
            left_out: question.left_out.len(),
            meanwhile,
        })
    }
}

/// A look at the running server.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Verify {}

/// What a look at a running server of a group found.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OneVerified {
    /// Whether all that runs there is up and as it should be; none where nobody can tell of one.
    pub seen_right: Option<bool>,
    /// What is wrong, or why nobody can tell, in words; nothing where all is as it should be.
    pub problems: Vec<String>,
    /// All that it carries.
    pub carries: Carries,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

impl Errand for Verify {
    const NAME: &'static str = "verify";
    type Came = OneVerified;
}

impl AtServer for Verify {
    fn run(&self, folder: &Path) -> Result<OneVerified> {
        let (server, meanwhile) = opened(folder)?;
        let mut ledger = Ledger::open(&server.folder)?;
        let found = survey(&server, &mut ledger, Depth::Usual)?;
        let mut each = Vec::new();
        for one in server.each() {
            let seen = verify(&one, &found.part(&one).inventory)?;
            each.push((one.which().map(str::to_owned), seen));
        }
        let mut right = each.iter();
        let problems = each.iter().flat_map(|(name, seen)| {
            let of_it = name
                .as_ref()
                .map_or(String::new(), |name| format!("{name}: "));
            let problems = seen.problems().into_iter();
            problems.map(move |it| format!("{of_it}{it}"))
        });
        Ok(OneVerified {
            problems: problems.collect(),
            seen_right: right.try_fold(true, |all, (_, seen)| Some(all && seen.seen_right()?)),
            carries: Carries::of(&found.inventory),
            meanwhile,
        })
    }
}

/// A look for what is new, of which those are told whom its lantern.toml names.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Watch {
    /// Where releases come from.
    pub from: Offered,
    /// From when on something is worth being said.
    pub limits: Limits,
    /// Whether all is said that there is to say.
    pub again: bool,
    /// The time, in milliseconds since 1970.
    pub now_ms: i64,
}

/// What is new of a server of a group.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OneWatched {
    /// What was seen of it.
    pub seen: Look,
    /// What of that is new.
    pub news: News,
    /// When it was looked at last before, in milliseconds since 1970.
    pub last_ms: Option<i64>,
    /// Who was told.
    pub told: Vec<Told>,
    /// Why it could not be written down what was said, so that it will be said again.
    pub unwritten: Option<String>,
}

/// What was seen of a server, in figures.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Look {
    /// Why it could not be looked at.
    pub fault: Option<String>,
    /// Whether an operation was cut off there.
    pub is_cut_off: bool,
    /// Whether it is up.
    pub up: Option<bool>,
    /// How many players are on.
    pub players: Option<usize>,
    /// Its version.
    pub version: Option<String>,
    /// How many components it carries.
    pub components: Option<usize>,
    /// How many findings a survey holds against it, by how much they matter.
    pub findings: Option<BTreeMap<Severity, usize>>,
    /// How many backups there are, and when the newest was made, in milliseconds since 1970.
    pub backups: Option<(usize, Option<i64>)>,
    /// What is free on its disks, in bytes, by what lies there.
    pub free: BTreeMap<String, u64>,
    /// Of how much that is on offer it could not be asked or read.
    pub unread: usize,
    /// How many newer releases fit together on the installed server version.
    pub updates: Option<usize>,
    /// The highest later server version that everything is ready for, if there is one.
    pub ready_for: Option<String>,
}

impl Look {
    fn of(seen: &Seen) -> Look {
        let counted = |severity| {
            let findings = seen.findings.iter().flatten();
            findings.filter(|it| it.severity == severity).count()
        };
        let all = [Severity::Wrong, Severity::Caution, Severity::Note];
        let free = seen.free.iter();
        Look {
            fault: seen.fault.clone(),
            is_cut_off: seen.cut_off.is_some(),
            up: seen.up,
            players: seen.players,
            version: seen.version.clone(),
            components: seen.components,
            findings: (seen.findings.is_some())
                .then(|| all.into_iter().map(|it| (it, counted(it))).collect()),
            backups: seen.backups,
            free: free
                .map(|(what, bytes)| ((*what).to_owned(), *bytes))
                .collect(),
            unread: seen.unread.len(),
            updates: seen.updates.as_ref().map(BTreeMap::len),
            ready_for: seen.ready_for.clone().flatten(),
        }
    }
}

impl OneWatched {
    /// Of a server that cannot be looked at: it has no lantern.toml that says who is told, and nothing to write down into.
    pub fn faulty(error: &Error, limits: &Limits, now_ms: i64) -> OneWatched {
        let seen = Seen {
            fault: Some(error.to_string()),
            ..Seen::default()
        };
        OneWatched {
            news: Said::default().news(&seen, limits, now_ms),
            seen: Look::of(&seen),
            last_ms: None,
            told: Vec::new(),
            unwritten: None,
        }
    }
}

impl Errand for Watch {
    const NAME: &'static str = "watch";
    type Came = OneWatched;
}

impl AtServer for Watch {
    fn run(&self, folder: &Path) -> Result<OneWatched> {
        let (server, meanwhile) = opened(folder)?;
        let before = watch::said(&server)?;
        let seen = self
            .from
            .sources(&server)
            .and_then(|sources| watch::look(&server, &sources, &meanwhile));
        let seen = seen.unwrap_or_else(|error| Seen {
            fault: Some(error.to_string()),
            ..Seen::default()
        });
        let last_ms = before.as_ref().map(|(_, at_ms)| *at_ms);
        let before = before.filter(|_| !self.again).map(|(said, _)| said);
        let mut said = before.unwrap_or_default();
        let news = said.news(&seen, &self.limits, self.now_ms);
        let told = match news.new.is_empty() {
            true => Vec::new(),
            false => {
                let message = ServerNews::new(&server.config.name, news.new.clone());
                telling::tell(&server, Message::News(&message))
            }
        };
        Ok(OneWatched {
            unwritten: watch::remember(&server, &said, self.now_ms)
                .err()
                .map(|error| error.to_string()),
            seen: Look::of(&seen),
            news,
            last_ms,
            told,
        })
    }
}

/// What was done there.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Histories {}

/// What was done at a server of a group.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OneHistory {
    /// The first first.
    pub operations: Vec<Logged>,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

impl Errand for Histories {
    const NAME: &'static str = "history";
    type Came = OneHistory;
}

impl AtServer for Histories {
    fn run(&self, folder: &Path) -> Result<OneHistory> {
        let (server, meanwhile) = opened(folder)?;
        let operations = Ledger::open(&server.folder)?.operations()?;
        Ok(OneHistory {
            operations,
            meanwhile,
        })
    }
}

/// A glance at it.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Glance {}

/// How a server of a group is.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OneAtAGlance {
    /// Whether all that runs there is up; none where that cannot be told of one.
    pub is_up: Option<bool>,
    /// Whether it is not lantern's own doing that something answers there.
    pub seems: bool,
    /// How many players are on; none where that cannot be told.
    pub players: Option<usize>,
    /// Its version, where that is known of the last survey, or of what was done since.
    pub version: Option<String>,
    /// The last operation.
    pub last: Option<Logged>,
    /// What goes on there.
    pub meanwhile: Meanwhile,
}

impl Errand for Glance {
    const NAME: &'static str = "glance";
    type Came = OneAtAGlance;
}

impl AtServer for Glance {
    fn run(&self, folder: &Path) -> Result<OneAtAGlance> {
        let (server, meanwhile) = opened(folder)?;
        let seen = glance::glance(&server)?;
        let mut each = seen.each.iter();
        Ok(OneAtAGlance {
            is_up: seen.is_up(),
            seems: each.any(|one| matches!(one.state, ServerState::Foreign { .. })),
            players: seen.players(),
            version: seen.version(),
            last: seen.last,
            meanwhile,
        })
    }
}
