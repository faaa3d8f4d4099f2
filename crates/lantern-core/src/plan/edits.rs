//! The texts that a plan changes: the load order, and what start scripts pin.

use super::pin;
use super::{DrawFault, Part, Payload, Rename, Situation, TextEdit};
use crate::also::{self, Those};
use crate::component::{Id, Kind, Runs};
use crate::facts::Facts;
use crate::family::{Flag, OrderRule, Pin, Reader};
use crate::flags::{self, Basis, NamedHashes};
use crate::inventory::{Inventory, by_own_word};
use crate::launch::{self, Dialect};
use crate::offer::Offer;
use crate::order::{
    self, Arrangement, Change, Follows, Keeping, Link, Named, OrderText, must_follow,
    without_circles,
};
use crate::patch::Laid;
use crate::path::RelPath;
use crate::text::Text;
use std::collections::{BTreeMap, BTreeSet};

/// One server as the plan leaves it.
pub(super) struct Afterwards<'a> {
    /// The server.
    pub(super) part: &'a Part<'a>,
    /// The add-ons: facts, and whether they run.
    pub(super) addons: &'a BTreeMap<&'a Id, (&'a Facts, Runs)>,
    /// Where each component lies.
    pub(super) places: &'a BTreeMap<&'a Id, &'a RelPath>,
    /// What comes.
    pub(super) moving: &'a [(&'a Offer, &'a Payload)],
    /// The hashes of files that settings name.
    pub(super) hashes: &'a NamedHashes,
}

impl<'a> Afterwards<'a> {
    /// The add-ons that are switched apart from the load order.
    fn apart(&self) -> BTreeSet<&'a Id> {
        let components = self.part.inventory.components.iter();
        let here = components.map(|it| (&it.facts.id, &it.reader));
        let coming = self.moving.iter();
        let coming = coming.map(|(offer, payload)| (&offer.facts.id, &payload.reader));
        let all = here.chain(coming);
        let apart = all.filter(|(_, reader)| self.part.family.is_apart(reader));
        apart.map(|(id, _)| id).collect()
    }

    /// The first add-on that a load order in a text has to name; none where it stands in names.
    fn to_be_named(&self, rule: &OrderRule) -> Option<&'a Id> {
        let apart = self.apart();
        let is_named = |id: &Id, runs: Runs| match rule.runs_unlisted() {
            true => runs.is_off() && !apart.contains(id),
            false => runs == Runs::On,
        };
        let mut addons = self.addons.iter();
        let found = addons.find(|(id, (_, runs))| is_named(id, *runs));
        found.map(|(id, _)| *id).filter(|_| !rule.is_in_names())
    }
}

/// The texts that change, while they do.
struct Changing<'a> {
    /// By path, as they are.
    now: BTreeMap<&'a RelPath, &'a Text>,
    /// Those that were looked at, as they will be.
    becomes: BTreeMap<&'a RelPath, String>,
}

impl<'a> Changing<'a> {
    /// The texts that a pattern of paths matches and that can be written, as they are by now.
    fn those(&self, is_meant: impl Fn(&RelPath) -> bool) -> Vec<(&'a RelPath, String)> {
        let meant = self.now.keys().filter(|path| is_meant(path));
        meant.filter_map(|path| self.one(path)).collect()
    }

    /// A text that can be written, as it is by now.
    fn one(&self, path: &RelPath) -> Option<(&'a RelPath, String)> {
        let (path, text) = self.now.get_key_value(path)?;
        let by_now = self.becomes.get(path);
        let by_now = by_now.map_or(text.as_str(), String::as_str);
        text.is_plain().then(|| (*path, by_now.to_owned()))
    }
}

/// The texts that a plan changes.
pub(super) struct Edits {
    /// By path, with each as it will be.
    pub(super) edits: Vec<(TextEdit, Text)>,
    /// Those that come with a release and of which what is pinned cannot be set.
    pub(super) unread: BTreeSet<RelPath>,
    /// What should be known of patches that were laid over them.
    pub(super) notes: Vec<String>,
}

/// Every text that changes, by path, as it will be. `whole` is the install, and `each` every server that runs on it; `coming`
/// are texts that come with releases, in the place of those that are there, and `merged` those that were edited by hand, with what their
/// releases change in them.
pub(super) fn edits(
    situation: &Situation<'_>,
    whole: &Afterwards<'_>,
    each: &[Afterwards<'_>],
    (coming, merged): (&BTreeMap<&RelPath, &Text>, &BTreeMap<RelPath, Text>),
) -> Result<Edits, DrawFault> {
    let mut unread = BTreeSet::new();
    let scripts = situation.scripts.iter().map(|(path, text)| (path, text));
    let orders = situation.parts.iter().filter_map(|part| part.order);
    let mut texts = Changing {
        now: scripts.chain(orders.flat_map(OrderText::files)).collect(),
        becomes: BTreeMap::new(),
    };
    texts
        .now
        .extend(coming.iter().map(|(path, text)| (*path, *text)));
    let mut news = coming.clone();
    news.extend(merged);
    for (path, text) in merged {
        let (path, by_hand) = situation
            .by_hand
            .get_key_value(path)
            .ok_or_else(|| unwritable(path))?;
        texts.now.insert(path, &by_hand.mine);
        texts.becomes.insert(path, text.as_str().to_owned());
    }
    for after in each {
        let Some(rule) = &after.part.family.order else {
            continue;
        };
        let Some(order) = after.part.order else {
            let mut comes = coming.iter();
            let comes = comes.find(|(path, _)| rule.file.matches(path.as_str()));
            let Some(id) = after.to_be_named(rule) else {
                continue;
            };
            let (path, text) = comes.ok_or_else(|| no_file(rule, id))?;
            let arrangement = &after.part.inventory.order;
            let new = load_order(situation, (path, text.as_str()), arrangement, after)?;
            texts.becomes.insert(path, new);
            continue;
        };
        if !order.is_plain() {
            let mut files = order.files().filter(|(_, text)| !text.is_plain());
            let path = files.next().map_or(order.path(), |(path, _)| path);
            return Err(unwritable(path));
        }
        let laid = with_coming(order, rule, after, &news);
        let installed = (order, &after.part.inventory.order);
        let (order, arrangement) = laid.as_ref().map_or(installed, |(order, it)| (order, it));
        let text = (order.path(), order.as_str());
        let new = load_order(situation, text, arrangement, after)?;
        let astray = |_| unwritable(order.path());
        for (path, new) in order.rewritten(rule, &new).map_err(astray)? {
            let known = texts.now.get_key_value(path);
            texts.becomes.extend(known.map(|(path, _)| (*path, new)));
        }
    }
    mend(situation, &mut texts);
    let mut notes = Vec::new();
    for (path, text) in coming {
        let new = patched(situation, path, text.as_str(), &mut notes);
        texts.becomes.extend(new.map(|new| (*path, new)));
    }
    for after in each {
        for pin in &after.part.family.pins {
            for (path, now) in texts.those(|path| pin.file.matches(path.as_str())) {
                match with_pin(pin, path, &now, situation, after) {
                    Ok(new) => texts.becomes.extend(new.map(|new| (path, new))),
                    // What a release ships is its maker's affair.
                    Err(_) if coming.contains_key(path) => {
                        unread.insert(path.clone());
                    }
                    Err(fault) => return Err(fault),
                }
            }
        }
    }
    with_switches(situation, whole, &mut texts)?;
    for after in servers(situation, whole, each) {
        with_also(situation, whole, after, &mut texts, &mut notes)?;
        with_flags(situation, whole, after, &mut texts)?;
    }
    let mut edits = Vec::new();
    for (path, new) in texts.becomes {
        let now = texts.now[path];
        if new == now.as_str() && !merged.contains_key(path) {
            continue;
        }
        let like = merged.get(path).unwrap_or(now);
        let new = like.with(new).ok_or_else(|| unwritable(path))?;
        let edit = TextEdit::between(path, now, &new, &situation.family.manner(path));
        edits.push((edit, new));
    }
    Ok(Edits {
        edits,
        unread,
        notes,
    })
}

/// A text with the patches of its file laid over it; none where that changes nothing.
pub(super) fn patched(
    situation: &Situation<'_>,
    path: &RelPath,
    text: &str,
    notes: &mut Vec<String>,
) -> Option<String> {
    let mut patched: Option<String> = None;
    for (name, patch) in situation
        .patches
        .iter()
        .filter(|(_, patch)| patch.path == *path)
    {
        match patch.lay(patched.as_deref().unwrap_or(text)) {
            Laid::Already => {}
            Laid::With(new) => {
                notes.push(format!("{path}: the patch {name} is laid over it again"));
                patched = Some(new);
            }
            Laid::Misfit { line } => notes.push(format!(
                "{path}: the patch {name} does not fit any more, from line {line} on"
            )),
        }
    }
    patched
}

/// Mends start commands that are cut off, in scripts that no release ships.
fn mend(situation: &Situation<'_>, texts: &mut Changing<'_>) {
    let cuts = situation.parts.iter().flat_map(|part| &part.flow.cuts);
    let cut: BTreeSet<&RelPath> = cuts.map(|(path, _)| path).collect();
    let is_shipped = |path: &RelPath| {
        let mut components = situation.inventory.components.iter();
        components.any(|c| c.files.iter().any(|file| file.path == *path))
    };
    for (path, now) in texts.those(|path| cut.contains(path) && !is_shipped(path)) {
        let mended = launch::mended(Dialect::of(path), &now);
        texts.becomes.extend(mended.map(|mended| (path, mended)));
    }
}

/// A text with what is pinned in it as it has to be; none where it stays.
fn with_pin(
    pin: &Pin,
    path: &RelPath,
    now: &str,
    situation: &Situation<'_>,
    after: &Afterwards<'_>,
) -> Result<Option<String>, DrawFault> {
    let new = pinned(pin, path, situation, after).and_then(|value| {
        let Some(value) = value else {
            return Ok(None);
        };
        let Some(spot) = pin.spot(after.part.family, path) else {
            return Ok(None);
        };
        if let Some(addition) = pin.add.as_ref().filter(|_| spot.says(now).is_none()) {
            let start = after.part.flow.start();
            let start = start.filter(|it| it.script.as_ref() == Some(path));
            let start = start.map(|step| step.program().0);
            return Ok(pin::added(addition, now, &value, start));
        }
        let new = spot.set(now, &value);
        new.map(Some).map_err(|misfit| DrawFault::Pin {
            path: path.clone(),
            line: misfit.line,
            value,
            why: misfit.why,
        })
    });
    // What does not move is named as it has to be, however that is done.
    match moves(pin, after) {
        true => new,
        false => Ok(new.unwrap_or_default()),
    }
}

/// Has each add-on that says itself whether it runs say so: it lies in one place for all servers.
fn with_switches(
    situation: &Situation<'_>,
    whole: &Afterwards<'_>,
    texts: &mut Changing<'_>,
) -> Result<(), DrawFault> {
    let family = situation.family;
    if !family.readers.iter().any(|it| it.switch.is_some()) {
        return Ok(());
    }
    let reader_of = readers(situation, whole);
    for (id, (_, runs)) in whole.addons {
        let reader = reader_of(id);
        let Some(switch) = reader.and_then(|it| it.switch.as_ref()) else {
            continue;
        };
        let path = whole.places.get(*id).and_then(|it| switch.path(it));
        let (Some(path), true) = (path, runs.is_off() || runs.is_sure()) else {
            continue;
        };
        let found = texts.one(&path);
        let is_said = |text: Option<&str>| {
            by_own_word(switch, family, &path, text).0.is_off() == runs.is_off()
        };
        if is_said(found.as_ref().map(|(_, text)| text.as_str())) {
            continue;
        }
        let astray = |why: String| DrawFault::NoSwitch {
            id: (*id).clone(),
            path: path.clone(),
            why,
        };
        let (path, now) =
            found.ok_or_else(|| astray("the file is not there, or no text".into()))?;
        let word = match runs.is_off() {
            true => &switch.off,
            false => &switch.on,
        };
        let spot = switch.spot(family, path);
        let spot = spot.ok_or_else(|| astray("nothing tells how the file is written".into()))?;
        let new = spot.set(&now, word).map_err(|misfit| astray(misfit.why))?;
        if !is_said(Some(&new)) {
            return Err(astray(format!("no place in it would say \"{word}\"")));
        }
        texts.becomes.insert(path, new);
    }
    Ok(())
}

/// What is to be looked at for what follows from what runs: each server, and where there are several, all of them together.
fn servers<'e, 'a>(
    situation: &Situation<'_>,
    whole: &'e Afterwards<'a>,
    each: &'e [Afterwards<'a>],
) -> impl Iterator<Item = &'e Afterwards<'a>> {
    let alone = situation.parts.len() == 1;
    each.iter().chain((!alone).then_some(whole))
}

/// Whether a file is told by what runs on this server: one of its own is, and a common one by what runs on any.
fn is_told_by(
    after: &Afterwards<'_>,
    path: &RelPath,
    situation: &Situation<'_>,
    whole: &Afterwards<'_>,
) -> bool {
    let is_whole = std::ptr::eq(after, whole);
    situation.parts.len() == 1 || after.part.ground.is_common(path) == is_whole
}

/// Sets the flags in their texts.
fn with_flags(
    situation: &Situation<'_>,
    whole: &Afterwards<'_>,
    after: &Afterwards<'_>,
    texts: &mut Changing<'_>,
) -> Result<(), DrawFault> {
    for (flag, wanted) in flags_after(situation, after) {
        let is_meant = |path: &RelPath| {
            flag.file.matches(path.as_str()) && is_told_by(after, path, situation, whole)
        };
        for (path, now) in texts.those(is_meant) {
            // What does not stand there is left to the server.
            let spot = flag.spot(after.part.family, path).filter(|spot| {
                let says = spot.says(&now);
                says.is_some_and(|(says, _)| !wanted.is_said_by(&says))
            });
            let Some(spot) = spot else {
                continue;
            };
            let set = spot
                .set(&now, &wanted.value)
                .map_err(|misfit| DrawFault::Pin {
                    path: path.clone(),
                    line: misfit.line,
                    value: wanted.value.clone(),
                    why: misfit.why,
                });
            texts.becomes.insert(path, set?);
        }
    }
    Ok(())
}

/// Has the lists besides the load order name what runs.
fn with_also(
    situation: &Situation<'_>,
    whole: &Afterwards<'_>,
    after: &Afterwards<'_>,
    texts: &mut Changing<'_>,
    notes: &mut Vec<String>,
) -> Result<(), DrawFault> {
    let those = those(situation, after);
    for also in &after.part.family.also {
        let is_meant = |path: &RelPath| {
            also.file.matches(path.as_str()) && is_told_by(after, path, situation, whole)
        };
        for (path, now) in texts.those(is_meant) {
            let becomes = also::becomes(also, &now, &those);
            let becomes = becomes.map_err(|order::Unread(id)| DrawFault::NoItem {
                path: path.clone(),
                list: also.name.clone(),
                item: id,
            })?;
            let Some(becomes) = becomes else {
                continue;
            };
            fit_for(
                after,
                path,
                becomes.comes.iter().map(|(item, id)| (item.as_str(), id)),
            )?;
            let told = |what: &str, word: &str, items: &[(Id, Id)]| {
                let items = items.iter();
                let items = items.map(|(item, id)| format!("{item} {word} {id}"));
                let items: Vec<String> = items.collect();
                (!items.is_empty()).then(|| format!("{what} {}", items.join(", ")))
            };
            let comes = told("gets", "for", &becomes.comes);
            let goes = told("loses", "of", &becomes.goes);
            let told: Vec<String> = comes.into_iter().chain(goes).collect();
            notes.push(format!("{path}: {} {}", also.name, told.join("; ")));
            texts.becomes.insert(path, becomes.text);
        }
    }
    Ok(())
}

/// Refuses what would be written anew into a start script, each with the add-on that it is of, and is no plain word: the shell would make
/// something else of it.
fn fit_for<'i>(
    after: &Afterwards<'_>,
    path: &RelPath,
    mut words: impl Iterator<Item = (&'i str, &'i Id)>,
) -> Result<(), DrawFault> {
    let launch = &after.part.family.launch;
    let is_script = launch.is_script(path.as_str()) || launch::is_script_by_name(path.as_str());
    let is_plain = |word: &str| pin::is_plain(&word.replace('/', "_"));
    match words.find(|(word, _)| is_script && !is_plain(word)) {
        None => Ok(()),
        Some((word, id)) => Err(DrawFault::NoWord {
            id: id.clone(),
            value: word.to_string(),
            path: path.clone(),
        }),
    }
}

/// What such lists have to name afterwards.
fn those<'a>(situation: &Situation<'a>, after: &Afterwards<'a>) -> Those<'a> {
    let mut those = Those::default();
    for (id, (_, runs)) in after.addons {
        match after.places.get(*id) {
            Some(place) if runs.is_off() => those.idle.push(place),
            Some(place) => those.running.push((id, place)),
            None => {}
        }
    }
    let here = situation.inventory.components.iter();
    let here = here.filter_map(|c| Some((&c.facts.id, c.place.as_ref()?)));
    let stays = |id: &Id, place: &RelPath| {
        after.addons.contains_key(id) && after.places.get(id).is_some_and(|it| *it == place)
    };
    let leaving = here.filter(|(id, place)| !stays(id, place));
    those.leaving = leaving.collect();
    those
}

/// The flags of the family, and what each has to be afterwards; what is no plain word is left as it is.
fn flags_after<'a>(
    situation: &Situation<'_>,
    after: &Afterwards<'a>,
) -> Vec<(&'a Flag, flags::Wanted)> {
    let addons = after.addons.values().filter(|(_, runs)| !runs.is_off());
    let addons: Vec<&Facts> = addons.map(|(facts, _)| *facts).collect();
    let coming = after.moving.iter().map(|(offer, _)| &offer.facts);
    let moved: BTreeSet<&Id> = coming.clone().map(|facts| &facts.id).collect();
    let here = situation.inventory.components.iter().map(|c| &c.facts);
    let here = here.filter(|facts| !moved.contains(&facts.id));
    let layers = coming.chain(here).filter(|facts| facts.kind != Kind::Addon);
    let basis = Basis {
        running: layers.chain(addons.iter().copied()).collect(),
        effects: situation.effects,
        hashes: after.hashes,
    };
    let flags = after.part.family.flags.iter().filter_map(|flag| {
        let wanted = flags::wanted(flag, &basis)?;
        pin::is_plain(&wanted.value).then_some((flag, wanted))
    });
    flags.collect()
}

/// Flags that change, each with why.
pub(super) fn flags_that_change(
    situation: &Situation<'_>,
    after: &Afterwards<'_>,
) -> BTreeSet<String> {
    let mut told = BTreeSet::new();
    let texts = situation.scripts.iter().map(|(path, text)| (path, text));
    let order = after.part.order.into_iter().flat_map(OrderText::files);
    let texts: Vec<(&RelPath, &Text)> = texts.chain(order).collect();
    for (flag, wanted) in flags_after(situation, after) {
        for (path, text) in &texts {
            let spot = flag
                .spot(after.part.family, path)
                .filter(|_| flag.file.matches(path.as_str()));
            let now = spot.and_then(|spot| spot.says(text.as_str()));
            if now.is_some_and(|(now, _)| !wanted.is_said_by(&now)) {
                told.insert(format!(
                    "{path}: {} becomes {}, as {}",
                    flag.name, wanted.value, wanted.why
                ));
            }
        }
    }
    told
}

/// Whether something that a pin speaks of comes in another release.
fn moves(pin: &Pin, after: &Afterwards<'_>) -> bool {
    let mut coming = after.moving.iter().map(|(offer, _)| offer.facts.kind);
    coming.any(|kind| pin.becomes.contains(&format!("{{{kind}.")))
}

/// What a pin has to be; none when it speaks of something that is not there.
fn pinned(
    pin: &Pin,
    path: &RelPath,
    situation: &Situation<'_>,
    after: &Afterwards<'_>,
) -> Result<Option<String>, DrawFault> {
    let mut text = pin.becomes.clone();
    for kind in [Kind::Build, Kind::Framework, Kind::Pack] {
        if !text.contains(&format!("{{{kind}.")) {
            continue;
        }
        let coming = after.moving.iter().map(|(offer, _)| &offer.facts);
        let here = situation.inventory.components.iter().map(|c| &c.facts);
        let Some(facts) = coming.chain(here).find(|facts| facts.kind == kind) else {
            return Ok(None);
        };
        let file = after.places.get(&facts.id).map_or("", |place| place.name());
        let version = facts.version.as_str();
        let number = version.trim_start_matches(['v', 'V']);
        for (name, value) in [("version", version), ("number", number), ("file", file)] {
            let hole = format!("{{{kind}.{name}}}");
            if !text.contains(&hole) {
                continue;
            }
            if !pin::is_plain(value) {
                return Err(DrawFault::NoWord {
                    id: facts.id.clone(),
                    value: value.into(),
                    path: path.clone(),
                });
            }
            text = text.replace(&hole, value);
        }
    }
    Ok(Some(text))
}

fn unwritable(path: &RelPath) -> DrawFault {
    DrawFault::Unwritable { path: path.clone() }
}

fn no_file(rule: &OrderRule, id: &Id) -> DrawFault {
    let files: Vec<&str> = rule.file.texts().collect();
    DrawFault::NoOrderFile {
        id: id.clone(),
        files: files.join(", "),
    }
}

/// A load order with those of its files that releases change, as they do; none where it has no such.
fn with_coming(
    order: &OrderText,
    rule: &OrderRule,
    after: &Afterwards<'_>,
    news: &BTreeMap<&RelPath, &Text>,
) -> Option<(OrderText, Arrangement)> {
    if !order.files().any(|(path, _)| news.contains_key(path)) {
        return None;
    }
    let laid = order.with(rule, |path, text| {
        Some(news.get(path).map_or(text, |it| *it).clone())
    })?;
    let mut arrangement = Arrangement::read(rule, laid.as_str());
    let places = after.places.iter();
    arrangement.mean(rule, places.map(|(id, place)| (*id, *place)));
    Some((laid, arrangement))
}

/// The text of the load order as it will be, of one file or several, and the entries in it.
fn load_order(
    situation: &Situation<'_>,
    (path, text): (&RelPath, &str),
    arrangement: &Arrangement,
    after: &Afterwards<'_>,
) -> Result<String, DrawFault> {
    let Some(rule) = &after.part.family.order else {
        return Ok(text.to_owned());
    };
    let Keeping::Text(form) = rule.kind.keeping() else {
        return Ok(text.to_owned());
    };
    let inventory = after.part.inventory;
    let flagged = inventory.components.iter().filter(|c| c.runs.is_switched());
    let gone = flagged.map(|component| &component.facts.id);
    let gone = gone.filter(|id| !after.addons.contains_key(id)).cloned();
    let started = |(_, (_, runs)): &(&&Id, &(&Facts, Runs))| *runs == Runs::On;
    let running = after.addons.iter().filter(started);
    let order = match arrangement.decides {
        false => running.map(|(id, _)| (*id).clone()).collect(),
        true => {
            let facts = running.map(|(_, (facts, _))| *facts);
            let (turns, _) = without_circles(must_follow(facts, situation.sooner))?;
            arranged(rule, arrangement, &turns, after)?
        }
    };
    let apart = after.apart();
    let off = after.addons.iter();
    let off = off.filter(|(id, (_, runs))| runs.is_off() && !apart.contains(*id));
    let mut arguments = BTreeMap::new();
    for (id, (facts, _)) in after.addons {
        let Some(text) = &facts.arguments else {
            continue;
        };
        if !pin::are_plain(text) {
            return Err(DrawFault::NoWord {
                id: (*id).clone(),
                value: text.clone(),
                path: path.clone(),
            });
        }
        arguments.insert((*id).clone(), text.clone());
    }
    let called = Called::of(rule, inventory, after);
    let named: BTreeSet<&Id> = arrangement.ids().collect();
    let new = order.iter().filter(|id| !named.contains(id));
    let new: Vec<(Id, &Id)> = new
        .map(|id| Ok((called.now(id)?, id)))
        .collect::<Result<_, DrawFault>>()?;
    let renamed = called.renamed();
    let versions = versions_named(rule, arrangement, after);
    let written = new.iter().map(|(word, id)| (word.as_str(), *id));
    let renamings = renamed.values().map(|now| (now.as_str(), now));
    let version_of = |id: &Id| versions.get_key_value(id);
    let of_new = new.iter().filter_map(|(_, id)| version_of(id));
    let others = arrangement.named_versions().filter_map(|(_, id, text)| {
        let other = version_of(id)?;
        (other.1 != text).then_some(other)
    });
    let named = of_new.chain(others);
    let named = named.map(|(id, version)| (version.as_str(), *id));
    fit_for(after, path, written.chain(renamings).chain(named))?;
    let all = |ids: &mut dyn Iterator<Item = &Id>| -> Result<Vec<Id>, DrawFault> {
        ids.map(|id| called.now(id)).collect()
    };
    let versions = versions.into_iter();
    let versions = versions.map(|(id, version)| Ok((called.now(id)?, version)));
    let arguments = arguments.into_iter();
    let arguments = arguments.map(|(id, text)| Ok((called.now(&id)?, text)));
    let change = Change {
        order: &all(&mut order.iter())?,
        gone: &gone.map(|id| called.before(&id)).collect(),
        off: &all(&mut off.map(|(id, _)| *id))?.into_iter().collect(),
        arguments: &arguments.collect::<Result<_, DrawFault>>()?,
        versions: &versions.collect::<Result<_, DrawFault>>()?,
    };
    let no_entry = |order::Unread(id)| match Arrangement::read(rule, text).entries.is_empty() {
        true => DrawFault::NoExample {
            id,
            path: path.clone(),
        },
        false => DrawFault::NoEntry { id },
    };
    let text = order::called_otherwise(form, rule, text, &renamed).map_err(no_entry)?;
    order::rewritten(form, rule, &text, change).map_err(no_entry)
}

/// The versions that entries have to name; one that is written otherwise, and is the same, stays as it is written.
fn versions_named<'a>(
    rule: &OrderRule,
    arrangement: &Arrangement,
    after: &'a Afterwards<'_>,
) -> BTreeMap<&'a Id, String> {
    if !rule.write.contains("{version}") {
        return BTreeMap::new();
    }
    let named = arrangement.named_versions();
    let named: BTreeMap<&Id, &str> = named.map(|(_, id, version)| (id, version)).collect();
    let notations = &after.part.family.versions;
    let versions = after.addons.iter().map(|(id, (facts, _))| {
        let same = named.get(*id).filter(|text| {
            let read = notations.version(false, text);
            read.is_ok_and(|read| read == facts.version)
        });
        let text = same.map_or_else(|| facts.version.to_string(), |text| (*text).to_owned());
        (*id, text)
    });
    versions.collect()
}

/// What the entries of a load order call add-ons, where that is not their id.
struct Called<'a> {
    rule: &'a OrderRule,
    /// By id: as they are.
    were: BTreeMap<&'a Id, Id>,
    after: &'a Afterwards<'a>,
}

impl<'a> Called<'a> {
    fn of(rule: &'a OrderRule, inventory: &'a Inventory, after: &'a Afterwards<'a>) -> Called<'a> {
        let components = inventory.components.iter().filter(|_| rule.each.is_some());
        let were = components.filter_map(|it| {
            let id = &it.facts.id;
            Some((id, rule.entry(id, it.place.as_ref()?)?))
        });
        Called {
            rule,
            were: were.collect(),
            after,
        }
    }

    fn before(&self, id: &Id) -> Id {
        self.were.get(id).unwrap_or(id).clone()
    }

    /// As it will be; of what is not installed, as it stands there.
    fn now(&self, id: &Id) -> Result<Id, DrawFault> {
        let (Some(_), Some(place)) = (&self.rule.each, self.after.places.get(id)) else {
            return Ok(self.before(id));
        };
        let entry = self.rule.entry(id, place);
        entry.ok_or_else(|| DrawFault::NoEntry { id: id.clone() })
    }

    /// Those that will be called otherwise, by what they are called now.
    fn renamed(&self) -> BTreeMap<Id, Id> {
        let stay = self
            .were
            .iter()
            .filter(|(id, _)| self.after.addons.contains_key(**id));
        let now = stay.filter_map(|(id, was)| Some((was.clone(), self.now(id).ok()?)));
        now.filter(|(was, now)| was != now).collect()
    }
}

/// The entries of a load order, the first first.
fn arranged(
    rule: &OrderRule,
    arrangement: &Arrangement,
    turns: &Follows,
    after: &Afterwards<'_>,
) -> Result<Vec<Id>, DrawFault> {
    let inventory = after.part.inventory;
    let current: Vec<Id> = arrangement.ids().cloned().collect();
    let starters = arrangement.starters();
    let switched_apart = after.apart();
    // Members of a category that are started by an entry of their own before it.
    let mut apart: BTreeSet<Id> = BTreeSet::new();
    loop {
        // An add-on that a category's entry starts has none of its own.
        let entry_of = |id: &Id| {
            let place = after.places.get(id).filter(|_| !apart.contains(id));
            let by = place.and_then(|place| starters.of(rule, id, place));
            by.map_or(id.clone(), |entry| entry.id.clone())
        };
        let mut wanted = entries(turns, entry_of);
        // An entry for something that is not installed, or is switched by something else, is the administrator's own affair; one that
        // starts nothing is of no use.
        let on = arrangement.entries.iter().filter(|entry| entry.on);
        let is_absent =
            |id: &Id| inventory.get(id).is_none() && !Arrangement::is_category(rule, id);
        let is_sorted_only = |id: &Id| switched_apart.contains(id) && after.addons.contains_key(id);
        for id in on
            .map(|entry| &entry.id)
            .filter(|id| is_absent(id) || is_sorted_only(id))
        {
            wanted.entry(id.clone()).or_default();
        }
        let ring = match order::arrange(&wanted, &current) {
            Ok(order) => return Ok(order),
            Err(ring) => ring,
        };
        // What a category has to come after needs one of its members: that is started by itself, before both.
        let links = turns
            .iter()
            .flat_map(|(later, firsts)| firsts.keys().map(move |first| (later, first)));
        let mut through = links.filter(|(later, first)| {
            let (later, entry) = (entry_of(later), entry_of(first));
            entry != **first && later != entry && ring.0.contains(&later) && ring.0.contains(&entry)
        });
        match through.next() {
            Some((_, member)) => apart.insert(member.clone()),
            None => return Err(ring.into()),
        };
    }
}

/// For the entry of each add-on, the entries that have to come before it.
fn entries(turns: &Follows, entry_of: impl Fn(&Id) -> Id) -> BTreeMap<Id, BTreeSet<Id>> {
    let mut wanted: BTreeMap<Id, BTreeSet<Id>> = BTreeMap::new();
    for (id, firsts) in turns {
        let entry = entry_of(id);
        let firsts = firsts.keys().map(&entry_of).filter(|f| *f != entry);
        let firsts: BTreeSet<Id> = firsts.collect();
        wanted.entry(entry).or_default().extend(firsts);
    }
    wanted
}

/// What of the load order gives way, as add-ons need one another in a circle.
///
/// # Errors
/// With a circle in which every link has to hold.
pub(super) fn gave_way(
    situation: &Situation<'_>,
    after: &BTreeMap<&Id, (&Facts, Runs)>,
) -> Result<Vec<Link>, DrawFault> {
    let running = after.values().filter(|(_, runs)| *runs == Runs::On);
    let turns = must_follow(running.map(|(facts, _)| *facts), situation.sooner);
    Ok(without_circles(turns)?.1)
}

/// What gets another name, or lies elsewhere: what is switched on or off by that, and where names tell the load order, whatever has to so
/// that each comes after what it follows.
pub(super) fn renames(
    situation: &Situation<'_>,
    after: &Afterwards<'_>,
) -> Result<Vec<Rename>, DrawFault> {
    let mut places = placed_as_they_run(situation, after)?;
    let order = situation.family.order.as_ref();
    if let Some(rule) = order.filter(|rule| rule.is_in_names()) {
        for (id, name) in names(rule, situation, after, &places)? {
            let place = &places[id];
            let renamed = match place.folder() {
                Some(folder) => folder.join(&name),
                None => RelPath::parse(&name),
            };
            let renamed = renamed.map_err(|fault| DrawFault::Path {
                id: id.clone(),
                fault,
            })?;
            places.insert(id, renamed);
        }
    }
    let reader_of = readers(situation, after);
    let mut moved = Vec::new();
    for (id, to) in places.into_iter().filter(|(id, to)| after.places[id] != to) {
        let from = after.places[id];
        // What lies beside goes along.
        let reader = reader_of(id).into_iter();
        let beside = reader.flat_map(|it| it.beside(from).into_iter().zip(it.beside(&to)));
        let beside: Vec<(RelPath, RelPath)> = beside.filter(|(from, to)| from != to).collect();
        let all = std::iter::once((from.clone(), to)).chain(beside);
        moved.extend(all.map(|(from, to)| Rename {
            id: id.clone(),
            from,
            to,
        }));
    }
    Ok(moved)
}

/// The reader that knows each component afterwards.
fn readers<'s>(
    situation: &'s Situation<'_>,
    after: &'s Afterwards<'_>,
) -> impl Fn(&Id) -> Option<&'s Reader> {
    let coming = after.moving.iter();
    let coming = coming.map(|(offer, payload)| (&offer.facts.id, &payload.reader));
    let coming: BTreeMap<&Id, &String> = coming.collect();
    move |id| {
        let here = || Some(&situation.inventory.get(id)?.reader);
        let reader = coming.get(id).copied().or_else(here)?;
        situation.family.reader(reader)
    }
}

/// Where each add-on has to lie so that it runs, or does not: elsewhere than it would otherwise where that is what switches it.
fn placed_as_they_run<'a>(
    situation: &Situation<'_>,
    after: &Afterwards<'a>,
) -> Result<BTreeMap<&'a Id, RelPath>, DrawFault> {
    let reader_of = readers(situation, after);
    let mut places = BTreeMap::new();
    for (id, (_, runs)) in after.addons {
        let Some(place) = after.places.get(id) else {
            continue;
        };
        let reader = reader_of(id);
        let home = reader.and_then(|reader| reader.home(place.as_str()));
        let off = reader.and_then(|reader| reader.off.as_ref());
        let right = match (home, off) {
            (Some(home), Some(off)) if runs.is_off() => RelPath::parse(&off.place(&home)),
            (Some(home), Some(_)) if runs.is_sure() => RelPath::parse(&home),
            _ => Ok((*place).clone()),
        };
        let right = right.map_err(|fault| DrawFault::Path {
            id: (*id).clone(),
            fault,
        })?;
        places.insert(*id, right);
    }
    Ok(places)
}

/// Where names tell the load order: what each of the add-ons in it is called, so that it comes after what it follows.
fn names<'a>(
    rule: &OrderRule,
    situation: &Situation<'_>,
    after: &Afterwards<'a>,
    places: &BTreeMap<&'a Id, RelPath>,
) -> Result<Vec<(&'a Id, String)>, DrawFault> {
    let started = |(_, (_, runs)): &(&&Id, &(&Facts, Runs))| *runs == Runs::On;
    let running = after.addons.iter().filter(started);
    let mut named: BTreeMap<&Id, Named> = BTreeMap::new();
    for (id, _) in running.clone() {
        let Some(place) = places.get(id) else {
            continue;
        };
        if !rule.file.matches(place.as_str()) {
            continue;
        }
        let installed = situation.inventory.whole(id);
        let now = installed.and_then(|it| it.home(situation.family));
        let name = now.as_ref().map_or(place.name().to_owned(), |now| {
            order::succeeding(rule, now.name(), place.name())
        });
        let it = Named {
            id: (*id).clone(),
            is_there: now.is_some_and(|now| now.name() == name),
            name,
        };
        named.insert(id, it);
    }
    let facts = running.clone().map(|(_, (facts, _))| *facts);
    let facts = facts.filter(|facts| named.contains_key(&facts.id));
    let (turns, _) = without_circles(must_follow(facts, situation.sooner))?;
    let wanted = entries(&turns, Id::clone);
    // What comes new stands where its name puts it, unless it has to follow something.
    let mut current: Vec<&Named> = named.values().collect();
    current.sort_by(|a, b| (&a.name, &a.id).cmp(&(&b.name, &b.id)));
    let current: Vec<Id> = current.iter().map(|it| it.id.clone()).collect();
    let order = order::arrange(&wanted, &current)?;
    let in_turn = match order == current {
        true => None,
        false => {
            let order: Vec<Named> = order.iter().map(|id| named[id].clone()).collect();
            Some(order::renamed(rule, &order))
        }
    };
    let names = running.filter_map(|(id, _)| {
        let own = named.get(id)?.name.clone();
        let name = in_turn.as_ref().map_or(own, |names| names[*id].clone());
        Some((*id, name))
    });
    Ok(names.collect())
}
