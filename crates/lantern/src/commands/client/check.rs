//! `lantern client check` and `lantern client explain`: a player's folder, or what he was told, held against the list.

use super::WhichArgs;
use crate::answers::{ClientChecked, ClientExplained};
use crate::commands::open_to_look;
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, count};
use crate::progress::during;
use clap::Args;
use lantern_core::clients::{
    self as core, Checked, ClientList, Difference, Duty, Explained, FolderSeen, Wrong,
};
use lantern_core::family::{ClientKind, Family};
use lantern_core::path::RelPath;
use lantern_host::clients::{self, Given};
use lantern_host::place::here;
use lantern_host::{Error, Result};
use std::path::{Path, PathBuf};

/// What a folder is held against.
#[derive(Debug, Args)]
pub struct AgainstArgs {
    #[command(flatten)]
    which: WhichArgs,
    /// A list, or a pack with one in it: then no server is needed
    #[arg(long, value_name = "LIST|PACK", conflicts_with_all = ["kind", "plan"])]
    list: Option<PathBuf>,
}

/// A list, with what is needed to read a folder by it.
struct Against {
    list: ClientList,
    family: Option<Family>,
    /// Whether the state of the server was read past its lock, so that the exit status says so.
    status: u8,
}

impl Against {
    fn kind(&self) -> Option<&ClientKind> {
        let kinds = &self.family.as_ref()?.clients;
        kinds
            .iter()
            .find(|kind| Some(&kind.name) == self.list.client.as_ref())
    }
}

impl AgainstArgs {
    fn read(&self, common: &Common, look: &Look) -> Result<Against> {
        if let Some(path) = &self.list {
            let list = clients::read_list(path)?;
            let family = list
                .family
                .as_deref()
                .map(|text| clients::family_of(path, text))
                .transpose()?;
            return Ok(Against {
                list,
                family,
                status: fail::DONE,
            });
        }
        let looked = open_to_look(common, look)?;
        let list = self.which.listed(&looked.server)?.list;
        let family = Some(looked.server.family.clone());
        Ok(Against {
            list,
            family,
            status: looked.status(fail::DONE),
        })
    }
}

/// Holds a player's folder against the list; the exit status is 3 where something is wrong.
///
/// # Errors
/// When the list or the folder cannot be read.
pub fn check(
    what: &Path,
    args: &AgainstArgs,
    make_list: Option<&Path>,
    common: &Common,
    look: &Look,
) -> Result<u8> {
    let against = args.read(common, look)?;
    let family = against
        .family
        .as_ref()
        .map(|family| family.of_client(against.kind()));
    let given = during("the folder is read", || {
        clients::read(what, Some(&against.list), family.as_ref())
    })?;
    let seen = match given {
        Given::Folder(seen) => seen,
        Given::Text(text) => return Ok(explain_text(&text, &against, look)),
    };
    if let Some(out) = make_list {
        return note(&seen, out, look);
    }
    let notations = against
        .family
        .map(|family| family.versions)
        .unwrap_or_default();
    let checked = core::check(&against.list, &seen, &notations);
    if look.json {
        look.answer(&ClientChecked {
            right: checked.is_right(),
            server: &against.list.server,
            checked: &checked,
        });
    } else {
        show(what, &against.list, &checked, args, common, look);
    }
    Ok(match checked.is_right() {
        true => against.status,
        false => fail::NO,
    })
}

/// Writes down what a folder has, so that somebody else can hold it against a list.
fn note(seen: &FolderSeen, out: &Path, look: &Look) -> Result<u8> {
    if here::look(out).is_some() {
        return Err(Error::InTheWay(out.into()));
    }
    let text = serde_json::to_string_pretty(seen).expect("it has only plain values") + "\n";
    here::write(out, text.as_bytes())?;
    let files = count(seen.files.len(), "file", "files");
    let components = count(seen.components.len(), "component", "components");
    look.say(&format!(
        "{}: {components}, {files}. Send it to whoever runs the server.",
        shell_word(out)
    ));
    Ok(fail::DONE)
}

fn show(
    what: &Path,
    list: &ClientList,
    checked: &Checked,
    args: &AgainstArgs,
    common: &Common,
    look: &Look,
) {
    let wrong: Vec<&Difference> = checked
        .differences
        .iter()
        .filter(|it| it.wrong.is_wrong())
        .collect();
    let server = match &list.server_version {
        Some(version) => format!("{} (server {version})", list.server),
        None => list.server.clone(),
    };
    let right = match checked.right {
        0 => String::new(),
        right => format!(
            " {}.",
            count(
                right,
                "component is as it should be",
                "components are as they should be"
            )
        ),
    };
    let nothing = !list.items.iter().any(|item| item.is == Duty::MustHave);
    let (means, text) = match wrong.len() {
        0 if nothing => (
            Means::Good,
            format!("{server} asks nothing of such a client."),
        ),
        0 => (
            Means::Good,
            format!("{} matches {server}.{right}", what.display()),
        ),
        many => (
            Means::Bad,
            format!(
                "{} does not match {server}: {} to mend.{right}",
                what.display(),
                count(many, "thing", "things")
            ),
        ),
    };
    look.say(&look.paint(means, &text));
    for it in &wrong {
        look.say(&format!("  {}", sentence(it)));
    }
    let of = |wrong: Wrong| {
        checked
            .differences
            .iter()
            .filter(move |it| it.wrong == wrong)
    };
    let ids = |those: Vec<&Difference>| {
        those
            .iter()
            .map(|it| it.id.as_str())
            .collect::<Vec<_>>()
            .join(", ")
    };
    let (unknown, harmless): (Vec<_>, Vec<_>) =
        (of(Wrong::Unknown).collect(), of(Wrong::Harmless).collect());
    if !unknown.is_empty() {
        let text = format!(
            "  not on the list, and nobody declared what the server makes of it: {}",
            ids(unknown)
        );
        look.say(&look.paint(Means::Caution, &text));
    }
    if !harmless.is_empty() {
        look.say(&look.paint(
            Means::Aside,
            &format!("  not on the list, and harmless: {}", ids(harmless)),
        ));
    }
    if !list.unknown.is_empty() {
        let unknown: Vec<&str> = list.unknown.iter().map(|id| id.as_str()).collect();
        let text = format!(
            "  not checked, as nobody declared whether clients need it: {}",
            unknown.join(", ")
        );
        look.say(&look.paint(Means::Caution, &text));
    }
    let brings = wrong.iter().any(|it| !it.bring.is_empty());
    match (&args.list, brings) {
        (None, true) => {
            let words = args.which.words();
            look.next(&common.next(&format!("client pack --out client.zip{words}")));
        }
        (Some(_), true) => look.say("  The files are in the pack of whoever runs the server."),
        (_, false) => {}
    }
}

fn paths(paths: &[RelPath]) -> String {
    match paths {
        [only] => only.to_string(),
        [first, rest @ ..] => format!(
            "{first} and {}",
            count(rest.len(), "other file", "other files")
        ),
        [] => String::new(),
    }
}

/// What is wrong with one component and what to do, in words to send to a player.
fn sentence(it: &Difference) -> String {
    let has = it
        .has
        .as_deref()
        .unwrap_or("a version that it does not state");
    let wanted = it.wanted.as_deref().unwrap_or("another version");
    let id = &it.id;
    let told = match it.wrong {
        Wrong::Missing => match &it.wanted {
            Some(wanted) => format!("{id} is missing: {wanted} is needed"),
            None => format!("{id} is missing"),
        },
        Wrong::TooOld => format!("{id} is too old: you have {has}, and {wanted} is needed"),
        Wrong::TooNew => format!("{id} is too new: you have {has}, and {wanted} is needed"),
        Wrong::OtherVersion => {
            format!("{id} is another one: you have {has}, and {wanted} is needed")
        }
        Wrong::OtherContent => match &it.wanted {
            Some(wanted) => format!("{id} {wanted} is there, and its files are not the server's"),
            None => format!("{id} is there, and its files are not the server's"),
        },
        Wrong::Twice => format!("{id} is there twice, once more in {has}"),
        Wrong::MustGo => format!("{id} must not be there"),
        Wrong::Unknown | Wrong::Harmless => format!("{id} is not on the list"),
    };
    let mut todo = Vec::new();
    if !it.delete.is_empty() {
        todo.push(format!("delete {}", paths(&it.delete)));
    }
    if !it.bring.is_empty() {
        todo.push(format!("take {} from the pack", paths(&it.bring)));
    }
    match todo.is_empty() {
        true => format!("{told}."),
        false => {
            let todo = todo.join(", then ");
            let (first, rest) = todo.split_at(1);
            format!("{told}. {}{rest}.", first.to_uppercase())
        }
    }
}

/// Explains a text that a client or the server printed when they did not match.
///
/// # Errors
/// When the list cannot be read.
pub fn explain(text: &str, args: &AgainstArgs, common: &Common, look: &Look) -> Result<u8> {
    let against = args.read(common, look)?;
    Ok(explain_text(text, &against, look))
}

fn explain_text(text: &str, against: &Against, look: &Look) -> u8 {
    let pattern = against.kind().and_then(|kind| kind.mismatch.as_ref());
    let found = pattern.zip(against.family.as_ref());
    let found =
        found.map(|(pattern, family)| core::explained(&against.list, pattern, &family.ids, text));
    if look.json {
        look.answer(&ClientExplained {
            stated: pattern.is_some(),
            components: found.as_deref().unwrap_or_default(),
        });
    } else {
        match found.as_deref() {
            None => look.say("The family does not state how a mismatch is told (`mismatch` of a [[client]])."),
            Some([]) => look.say("No line of it names a component, as the family states it (`mismatch` of a [[client]])."),
            Some(found) => found.iter().for_each(|it| look.say(&told(it))),
        }
    }
    match found.as_deref() {
        None | Some([]) => fail::NO,
        Some(_) => against.status,
    }
}

/// One component that a mismatch names, in words to send to a player.
fn told(it: &Explained) -> String {
    let id = &it.id;
    let has = it.has.as_ref().map_or_else(
        || "the message says that you do not have it".to_owned(),
        |has| format!("you have {has}"),
    );
    let wants = it
        .wants
        .as_ref()
        .map(|wants| format!(", and the server wants {wants}"));
    let said = format!("{has}{}", wants.unwrap_or_default());
    let Some(item) = &it.item else {
        return format!("{id}: {said}. It is not on the list of what clients need.");
    };
    let version = item
        .version
        .as_ref()
        .map_or(String::new(), |version| format!(" {version}"));
    match item.is {
        Duty::MustNotHave => format!("{id}: {said}. Delete it: {}.", item.why),
        _ if it.has.is_some() && it.has == item.version => format!(
            "{id}: {said}. That is the version of the list{}: its files may be other ones. Take {} from the pack.",
            version,
            paths(
                &item
                    .files
                    .iter()
                    .map(|file| file.path.clone())
                    .collect::<Vec<_>>()
            )
        ),
        _ => match item.files.is_empty() {
            true => format!("{id}: {said}. The list says{version}."),
            false => format!(
                "{id}: {said}. The list says{version}: take {} from the pack.",
                paths(
                    &item
                        .files
                        .iter()
                        .map(|file| file.path.clone())
                        .collect::<Vec<_>>()
                )
            ),
        },
    }
}
