//! What `group` answers.

use lantern_core::component::{Id, Kind};
use lantern_core::group::{Agreed, Carried, Differs, Row};
use lantern_core::operation::OperationKind;
use lantern_core::outlook::Together;
use lantern_core::plan::ComponentChange;
use lantern_core::version::Version;
use lantern_core::watch::Sign;
use lantern_host::changeover::Meanwhile;
use lantern_host::group::{
    Asked, Found, OneAtAGlance, OneHistory, OneOutlook, OnePlan, OneSurvey, OneVerified, OneWatched,
};
use lantern_host::{Error, Result};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// `group survey`.
#[derive(Serialize, JsonSchema)]
pub struct GroupSurveyed {
    /// What the group is called.
    group: String,
    /// Its servers, in its order.
    servers: Vec<GroupServerSurveyed>,
    /// Every component that one of them carries, or should.
    components: Vec<GroupComponent>,
}

/// A server of a group, as a survey found it.
#[derive(Serialize, JsonSchema)]
struct GroupServerSurveyed {
    /// As the group's file names it.
    server: String,
    /// Why it could not be looked at; all else is then not known.
    fault: Option<String>,
    /// What kind of server it is.
    family: Option<String>,
    /// Its version, where that is known.
    server_version: Option<String>,
    /// How many components it carries.
    components: Option<usize>,
    /// How many findings say that something is wrong.
    wrong: Option<usize>,
    /// How many say caution.
    caution: Option<usize>,
    /// What goes on there, or was cut off, in words.
    meanwhile: Option<String>,
}

/// A component, over all servers of a group.
#[derive(Serialize, JsonSchema)]
struct GroupComponent {
    /// Its kind; none where nobody carries it.
    kind: Option<Kind>,
    /// Its id.
    id: Id,
    /// What is to be said of it; nothing where it is as it should be.
    differs: BTreeSet<Differs>,
    /// Whether it is not known of somebody what its files hold, so that nobody can say that they are the same.
    unread: bool,
    /// What each server carries, by its name in the group's file.
    at: BTreeMap<String, Carried>,
    /// The servers that have it to themselves.
    own: Vec<String>,
    /// The servers at which it should be, and is not.
    missing: Vec<String>,
}

/// What goes on at a server, in words.
fn words(meanwhile: &Meanwhile) -> Option<String> {
    match meanwhile {
        Meanwhile::Nothing => None,
        Meanwhile::UnderWay(told) | Meanwhile::CutOff(told) | Meanwhile::CutOffElsewhere(told) => {
            Some(told.clone())
        }
    }
}

impl GroupSurveyed {
    /// Of what was found.
    pub fn new(found: &Found, seen: &[Result<OneSurvey>], rows: &[Row]) -> GroupSurveyed {
        let named = |index: &usize| found.group.servers[*index].called().to_owned();
        let servers = found.group.servers.iter().zip(seen);
        let servers = servers.map(|(one, seen)| {
            let seen = seen.as_ref();
            let known = seen.ok();
            GroupServerSurveyed {
                server: one.called().to_owned(),
                fault: seen.err().map(Error::to_string),
                family: known.map(|it| it.family.clone()),
                server_version: known.and_then(|it| it.server_version.clone()),
                components: known.map(|it| it.carries.count()),
                wrong: known.map(|it| it.wrong),
                caution: known.map(|it| it.caution),
                meanwhile: known.and_then(|it| words(&it.meanwhile)),
            }
        });
        let components = rows.iter().map(|row| GroupComponent {
            kind: row.kind,
            id: row.id.clone(),
            differs: row.differs.clone(),
            unread: row.is_unread,
            at: row
                .at
                .iter()
                .enumerate()
                .filter_map(|(index, carried)| Some((named(&index), carried.clone()?)))
                .collect(),
            own: row.own.iter().map(named).collect(),
            missing: row.missing.iter().map(named).collect(),
        });
        GroupSurveyed {
            group: found.group.name.clone(),
            servers: servers.collect(),
            components: components.collect(),
        }
    }
}

/// `group outlook`.
#[derive(Serialize, JsonSchema)]
pub struct GroupOutlook {
    /// What the group is called.
    group: String,
    /// The highest version that every server reaches with everything, each by itself; none where there is none, where one of them could not be
    /// looked at, or where they are of different programs.
    highest_for_all: Option<String>,
    /// Its servers, in its order.
    servers: Vec<GroupServerOutlook>,
}

/// Who is ready for which version of a server of a group.
#[derive(Serialize, JsonSchema)]
struct GroupServerOutlook {
    /// As the group's file names it.
    server: String,
    /// Why it could not be looked at; all else is then not known.
    fault: Option<String>,
    /// The id of its server program.
    build: Option<Id>,
    /// The version that is installed.
    installed: Option<String>,
    /// Its versions, from the installed one on, in ascending order.
    versions: Vec<GroupVersion>,
    /// Whether anything is on offer.
    on_offer: Option<bool>,
    /// How many releases and archives were left out, as they could not be read.
    left_out: Option<usize>,
    /// What goes on there, or was cut off, in words.
    meanwhile: Option<String>,
}

/// A version of a server of a group.
#[derive(Serialize, JsonSchema)]
struct GroupVersion {
    /// It.
    version: String,
    /// Whether everything fits together there.
    together: Together,
    /// What runs and is not ready for it.
    not_ready: Vec<Id>,
}

impl GroupOutlook {
    /// Of what was found.
    pub fn new(
        found: &Found,
        seen: &[Result<OneOutlook>],
        highest: Option<&Version>,
    ) -> GroupOutlook {
        let servers = found.group.servers.iter().zip(seen);
        let servers = servers.map(|(one, seen)| {
            let seen = seen.as_ref();
            let known = seen.ok();
            let versions = known.iter().flat_map(|it| {
                it.versions.iter().map(|at| GroupVersion {
                    version: at.version.to_string(),
                    together: at.together,
                    not_ready: at.not_ready.clone(),
                })
            });
            GroupServerOutlook {
                server: one.called().to_owned(),
                fault: seen.err().map(Error::to_string),
                build: known.map(|it| it.build.clone()),
                installed: known.and_then(|it| Some(it.installed.as_ref()?.to_string())),
                versions: versions.collect(),
                on_offer: known.map(|it| it.is_on_offer),
                left_out: known.map(|it| it.left_out),
                meanwhile: known.and_then(|it| words(&it.meanwhile)),
            }
        });
        GroupOutlook {
            group: found.group.name.clone(),
            highest_for_all: highest.map(ToString::to_string),
            servers: servers.collect(),
        }
    }
}

/// `group plan`.
#[derive(Serialize, JsonSchema)]
pub struct GroupPlanned {
    /// What the group is called.
    group: String,
    /// The version of each component that two or more of them could share, and at least one of them carries or is to carry.
    shared: BTreeMap<Id, String>,
    /// Whether it is proved that nothing would be better.
    proved: bool,
    /// Its servers, in its order.
    servers: Vec<GroupServerPlanned>,
    /// What lies in a drop folder, and none of them carries or is to carry.
    passed_over: BTreeSet<Id>,
    /// What could not be used of what is on offer: where, and why.
    left_out: BTreeSet<(String, String)>,
}

/// A server's own plan.
#[derive(Serialize, JsonSchema)]
struct GroupServerPlanned {
    /// As the group's file names it.
    server: String,
    /// The name of its plan, where it is armed.
    armed: Option<String>,
    /// The server version before, where it is known.
    from: Option<String>,
    /// The server version afterwards.
    to: String,
    /// What becomes of each component.
    components: Vec<ComponentChange>,
    /// How many decisions it waits for.
    undecided: usize,
    /// What is to be known of it besides.
    notes: Vec<String>,
}

impl GroupPlanned {
    /// Of what was planned.
    pub fn new(found: &Found, asked: &Asked, agreed: &Agreed, plans: &[OnePlan]) -> GroupPlanned {
        let servers = found.group.servers.iter().zip(plans);
        let servers = servers.map(|(server, one)| GroupServerPlanned {
            server: server.called().to_owned(),
            armed: one.armed.clone(),
            from: one.plan.from.clone(),
            to: one.plan.to.clone(),
            components: one.plan.components.clone(),
            undecided: one.plan.undecided().count(),
            notes: one.plan.notes.clone(),
        });
        let shared = agreed.shared.iter();
        GroupPlanned {
            group: found.group.name.clone(),
            shared: shared
                .map(|(id, version)| (id.clone(), version.to_string()))
                .collect(),
            proved: agreed.proved,
            servers: servers.collect(),
            passed_over: asked.passed_over.clone(),
            left_out: asked.left_out.clone(),
        }
    }
}

/// `group decide`.
#[derive(Serialize, JsonSchema)]
pub struct GroupDecided {
    /// What the group is called.
    pub group: String,
    /// Its servers, in its order.
    pub servers: Vec<GroupServerDecided>,
}

/// What became of a question at a server.
#[derive(Serialize, JsonSchema)]
pub struct GroupServerDecided {
    /// As the group's file names it.
    pub server: String,
    /// Whether it was asked there, and is decided now.
    pub decided: bool,
    /// How many decisions its plan still waits for; none where it has no part in what was planned for all, or not any more.
    pub undecided: Option<usize>,
}

/// `group changeover`.
#[derive(Serialize, JsonSchema)]
pub struct GroupChangeoverDone {
    /// What the group is called.
    pub group: String,
    /// Its servers, in its order.
    pub servers: Vec<GroupServerDone>,
    /// Once it was carried out everywhere: what they carry in the end. Otherwise none.
    pub same: Option<GroupSame>,
}

/// `group verify`.
#[derive(Serialize, JsonSchema)]
pub struct GroupVerified {
    /// What the group is called.
    group: String,
    /// Its servers, in its order.
    servers: Vec<GroupServerVerified>,
    /// What they carry.
    same: GroupSame,
}

/// What a look at a running server found.
#[derive(Serialize, JsonSchema)]
struct GroupServerVerified {
    /// As the group's file names it.
    server: String,
    /// Why it could not be looked at; all else is then not known.
    fault: Option<String>,
    /// Whether it is up, and as it should be; none where nobody can tell.
    right: Option<bool>,
    /// What is wrong, or why nobody can tell.
    problems: Vec<String>,
    /// What goes on there, or was cut off, in words.
    meanwhile: Option<String>,
}

impl GroupVerified {
    /// Of what was seen.
    pub fn new(found: &Found, seen: &[Result<OneVerified>], same: GroupSame) -> GroupVerified {
        let servers = found.group.servers.iter().zip(seen);
        let servers = servers.map(|(one, seen)| {
            let seen = seen.as_ref();
            let known = seen.ok();
            GroupServerVerified {
                server: one.called().to_owned(),
                fault: seen.err().map(Error::to_string),
                right: known.and_then(|it| it.seen_right),
                problems: known.map(|it| it.problems.clone()).unwrap_or_default(),
                meanwhile: known.and_then(|it| words(&it.meanwhile)),
            }
        });
        GroupVerified {
            group: found.group.name.clone(),
            servers: servers.collect(),
            same,
        }
    }
}

/// `group watch`.
#[derive(Serialize, JsonSchema)]
pub struct GroupWatched<'a> {
    /// What the group is called.
    group: &'a str,
    /// Its servers, in its order.
    servers: Vec<GroupServerWatched<'a>>,
}

/// What is new of a server.
#[derive(Serialize, JsonSchema)]
struct GroupServerWatched<'a> {
    /// As the group's file names it.
    server: &'a str,
    /// Why it could not be looked at.
    fault: Option<&'a str>,
    /// When it was looked at last before, in milliseconds since 1970.
    last_ms: Option<i64>,
    /// What is new.
    new: &'a [Sign],
    /// How much was said before, and is still so.
    as_before: usize,
    /// How much was said before, and is over.
    over: usize,
    /// Who was told.
    told: Vec<&'a str>,
    /// Who could not be told, and why.
    not_told: BTreeMap<&'a str, &'a str>,
    /// Why it could not be written down what was said, so that it will be said again.
    unwritten: Option<&'a str>,
}

impl<'a> GroupWatched<'a> {
    /// Of what was seen.
    pub fn new(found: &'a Found, seen: &'a [OneWatched]) -> GroupWatched<'a> {
        let servers = found.group.servers.iter().zip(seen);
        let servers = servers.map(|(one, it)| {
            let failed = it.told.iter();
            let failed = failed.filter_map(|told| Some((&*told.who, told.fault.as_deref()?)));
            let told = it.told.iter().filter(|told| told.fault.is_none());
            GroupServerWatched {
                server: one.called(),
                fault: it.seen.fault.as_deref(),
                last_ms: it.last_ms,
                new: &it.news.new,
                as_before: it.news.as_before,
                over: it.news.over,
                told: told.map(|told| &*told.who).collect(),
                not_told: failed.collect(),
                unwritten: it.unwritten.as_deref(),
            }
        });
        GroupWatched {
            group: &found.group.name,
            servers: servers.collect(),
        }
    }
}

/// `group history`.
#[derive(Serialize, JsonSchema)]
pub struct GroupHistory {
    /// What the group is called.
    group: String,
    /// Its servers, in its order.
    servers: Vec<GroupServerHistory>,
}

/// What was done at a server of a group.
#[derive(Serialize, JsonSchema)]
struct GroupServerHistory {
    /// As the group's file names it.
    server: String,
    /// Why it could not be looked at; all else is then not known.
    fault: Option<String>,
    /// What was done, the first first.
    operations: Vec<GroupOperation>,
    /// What goes on there, or was cut off, in words.
    meanwhile: Option<String>,
}

/// Something that was done.
#[derive(Serialize, JsonSchema)]
struct GroupOperation {
    /// Its number at this server.
    number: i64,
    /// What was done.
    kind: OperationKind,
    /// When it ended, in milliseconds since 1970.
    ended_ms: i64,
    /// The server version before.
    from: String,
    /// The server version afterwards.
    to: String,
    /// Whether it was taken back.
    undone: bool,
    /// Why it failed, where it did.
    failed: Option<String>,
}

impl GroupHistory {
    /// Of what was seen.
    pub fn new(found: &Found, seen: &[Result<OneHistory>]) -> GroupHistory {
        let servers = found.group.servers.iter().zip(seen);
        let servers = servers.map(|(one, seen)| {
            let seen = seen.as_ref();
            let known = seen.ok();
            let operations = known.into_iter().flat_map(|it| &it.operations);
            let operations = operations.map(|it| GroupOperation {
                number: it.number,
                kind: it.kind,
                ended_ms: it.ended_ms,
                from: it.from.clone(),
                to: it.to.clone(),
                undone: it.undone,
                failed: it.failed.clone(),
            });
            GroupServerHistory {
                server: one.called().to_owned(),
                fault: seen.err().map(Error::to_string),
                operations: operations.collect(),
                meanwhile: known.and_then(|it| words(&it.meanwhile)),
            }
        });
        GroupHistory {
            group: found.group.name.clone(),
            servers: servers.collect(),
        }
    }
}

/// `group undo`.
#[derive(Serialize, JsonSchema)]
pub struct GroupUndone {
    /// What the group is called.
    pub group: String,
    /// Its servers, in its order.
    pub servers: Vec<GroupServerDone>,
}

/// A server, and what became of its plan.
#[derive(Serialize, JsonSchema)]
pub struct GroupServerDone {
    /// As the group's file names it.
    pub server: String,
    /// What became of it.
    pub became: GroupBecame,
    /// Why, where it went wrong.
    pub why: Option<String>,
}

/// What became of a server's plan.
#[derive(Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum GroupBecame {
    /// It was carried out now.
    Done,
    /// It was carried out before.
    DoneBefore,
    /// There was nothing to do.
    Nothing,
    /// It went wrong.
    Failed,
    /// It was not carried out, or put back before it was through, as it went wrong at another one.
    TurnedBack,
    /// It was carried out, and taken back.
    TakenBack,
    /// It should have been taken back, and was not.
    Stays,
    /// It was not begun: it still waits.
    Waits,
}

/// What servers carry in the end.
#[derive(Serialize, JsonSchema)]
pub struct GroupSame {
    /// How many components two or more of them carry that are the same at all of those.
    pub same: usize,
    /// Of which of them not all files were read, so that nobody can say so.
    pub unread: Vec<Id>,
    /// Which are not the same, or are missing somewhere.
    pub differs: Vec<Id>,
}

/// `group send`.
#[derive(Serialize, JsonSchema)]
pub struct GroupSent {
    /// What the group is called.
    pub group: String,
    /// The machines at which lanterns work for it.
    pub machines: Vec<GroupMachine>,
}

/// A machine at which a lantern works for a group.
#[derive(Serialize, JsonSchema)]
pub struct GroupMachine {
    /// It.
    pub machine: String,
    /// The servers there, as the group's file names them.
    pub servers: Vec<String>,
    /// Whether the program was sent; otherwise it was there; none where it does not run there.
    pub sent: Option<bool>,
    /// Why it does not run there.
    pub fault: Option<String>,
}

/// `group status`.
#[derive(Serialize, JsonSchema)]
pub struct GroupStatus {
    /// What the group is called.
    group: String,
    /// Its servers, in its order.
    servers: Vec<GroupServerStatus>,
}

/// How a server of a group is.
#[derive(Serialize, JsonSchema)]
struct GroupServerStatus {
    /// As the group's file names it.
    server: String,
    /// Why it could not be looked at; all else is then not known.
    fault: Option<String>,
    /// Whether it is up, of several on one install all of them; none where that cannot be told.
    up: Option<bool>,
    /// How many players are on; none where that cannot be told.
    players: Option<usize>,
    /// The server version, as of the last survey, or of what was done since.
    server_version: Option<String>,
    /// The number of what was done last.
    last: Option<i64>,
    /// What goes on there, or was cut off, in words.
    meanwhile: Option<String>,
}

impl GroupStatus {
    /// Of what was seen.
    pub fn new(found: &Found, seen: &[Result<OneAtAGlance>]) -> GroupStatus {
        let servers = found.group.servers.iter().zip(seen);
        let servers = servers.map(|(one, seen)| {
            let seen = seen.as_ref();
            let known = seen.ok();
            GroupServerStatus {
                server: one.called().to_owned(),
                fault: seen.err().map(Error::to_string),
                up: known.and_then(|it| it.is_up),
                players: known.and_then(|it| it.players),
                server_version: known.and_then(|it| it.version.clone()),
                last: known.and_then(|it| Some(it.last.as_ref()?.number)),
                meanwhile: known.and_then(|it| words(&it.meanwhile)),
            }
        });
        GroupStatus {
            group: found.group.name.clone(),
            servers: servers.collect(),
        }
    }
}
