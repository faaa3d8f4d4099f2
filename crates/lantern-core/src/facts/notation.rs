//! How one fact is written, in catalogues and requests, and how a reader's field gives it.

use super::SeldomFacts;
use crate::component::{Admits, ClientTerms, Has, HasWord, Id, Member, Need, Provided};
use crate::json::Passing;
use crate::version::{Notation, Notations, Range, RangesRead, Version, VersionFault};
use foldhash::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::de::{DeserializeOwned, DeserializeSeed, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt::{self, Display};
use std::marker::PhantomData;
use std::sync::Arc;
use thin_vec::ThinVec;

/// A text that makes no sense where it stands.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{why}")]
pub struct Misread {
    /// What to look for, to find it: the text itself, or the id that it belongs to.
    pub text: String,
    /// Why it makes no sense.
    pub why: String,
}

impl Misread {
    /// What a text is, and why it makes no sense.
    pub fn new(text: &str, why: impl Display) -> Misread {
        Misread {
            text: text.into(),
            why: why.to_string(),
        }
    }
}

/// What texts are read by; what stands in many places is read once, and shared.
#[derive(Debug)]
pub struct Reading<'n> {
    notations: Cow<'n, Notations>,
    ranges: RangesRead,
    /// By whether they are of the server, then by text.
    versions: [HashMap<String, Version>; 2],
    ids: HashSet<Id>,
    seldom: Arc<SeldomFacts>,
    /// Room for the needs of one release, before it is known how many they are.
    needs: Vec<Need>,
}

impl<'n> Reading<'n> {
    /// Nothing read yet.
    pub fn new(notations: &'n Notations) -> Reading<'n> {
        Reading::by(Cow::Borrowed(notations))
    }

    /// Likewise, by notations of its own.
    pub(crate) fn by(notations: Cow<'n, Notations>) -> Reading<'n> {
        Reading {
            notations,
            ranges: RangesRead::default(),
            versions: Default::default(),
            ids: HashSet::default(),
            seldom: SeldomFacts::nothing(),
            needs: Vec::new(),
        }
    }

    /// Reads a version of the server, or of something else.
    ///
    /// # Errors
    /// As [`Version::parse`].
    pub fn version(&mut self, of_server: bool, text: &str) -> Result<Version, VersionFault> {
        let known = &mut self.versions[usize::from(of_server)];
        if let Some(version) = known.get(text) {
            return Ok(version.clone());
        }
        let version = self.notations.version(of_server, text)?;
        known.insert(text.to_owned(), version.clone());
        Ok(version)
    }

    /// What few releases say, as the release before has it where it says the same.
    pub(super) fn seldom(&mut self, seldom: SeldomFacts) -> Arc<SeldomFacts> {
        if *self.seldom != seldom {
            let nothing = SeldomFacts::nothing();
            self.seldom = match *nothing == seldom {
                true => nothing,
                false => Arc::new(seldom),
            };
        }
        self.seldom.clone()
    }

    /// The id of a text, as it was met before.
    pub(super) fn id(&mut self, text: &str) -> Id {
        if let Some(known) = self.ids.get(text.trim()) {
            return known.clone();
        }
        let id = Id::new(text);
        self.ids.insert(id.clone());
        id
    }

    /// A need of a component in a range.
    fn need(&mut self, id: &Id, range: &str) -> Result<Need, Misread> {
        match self.ranges.range(&self.notations, range) {
            Ok(range) => Ok(Need {
                id: id.clone(),
                range,
            }),
            Err(error) => Err(Misread::new(id.as_str(), format!("{id}: {error}"))),
        }
    }

    /// What stands in for an id, in a version or in every one.
    fn provided(&mut self, id: &str, version: Option<&str>) -> Result<Provided, Misread> {
        let version = version.map(|version| OneVersion::read(version, self));
        Ok(Provided {
            id: self.id(id),
            version: version.transpose()?,
        })
    }

    /// The notations that it reads by.
    pub(crate) fn notations(&self) -> &Notations {
        &self.notations
    }
}

/// Where the fields of a reader are looked up.
pub trait Source {
    /// The one text that a field gives; none where it gives nothing.
    fn text(&self, field: &str) -> Option<String>;

    /// The ids that a field gives, each with what stands beside it: a range, a version, a number, or nothing.
    ///
    /// # Errors
    /// When something else stands there.
    fn pairs(&self, field: &str) -> Result<Vec<(String, String)>, Misread>;
}

/// How a value is written.
pub(super) trait Written<Value> {
    /// What it is written as.
    type Text: Default + PartialEq + Serialize + JsonSchema;

    /// Reads it where it is written. What is there and makes no sense is no fault of the format.
    fn take<'de, D: Deserializer<'de>>(
        deserializer: D,
        reading: &mut Reading<'_>,
    ) -> Result<Result<Value, Misread>, D::Error>;

    fn write(value: &Value) -> Self::Text;

    /// In words for people; only for what is stated.
    fn shown(text: &Self::Text) -> String;
}

/// What takes a value as a notation writes it.
pub(super) struct Taking<'r, 'n, Notation, Value>(
    &'r mut Reading<'n>,
    PhantomData<(Notation, Value)>,
);

impl<'r, 'n, Notation, Value> Taking<'r, 'n, Notation, Value> {
    pub(super) fn by(reading: &'r mut Reading<'n>) -> Taking<'r, 'n, Notation, Value> {
        Taking(reading, PhantomData)
    }
}

impl<'de, Value, Notation: Written<Value>> DeserializeSeed<'de>
    for Taking<'_, '_, Notation, Value>
{
    type Value = Result<Value, Misread>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        Notation::take(deserializer, self.0)
    }
}

/// How a reader's field gives a value.
pub(super) trait Gathered<Value> {
    /// Whether the field gives ids or kinds, each with something beside it.
    const IS_LIST: bool = false;

    fn gather(
        source: &dyn Source,
        field: &str,
        reading: &mut Reading<'_>,
    ) -> Result<Value, Misread>;
}

/// Whether nothing is stated.
pub(super) fn is_unstated<Text: Default + PartialEq>(text: &Text) -> bool {
    *text == Text::default()
}

fn stated_text(text: &Option<String>) -> String {
    text.clone().unwrap_or_default()
}

fn yes_or_no(is_so: bool) -> String {
    if is_so { "yes" } else { "no" }.into()
}

fn truth(source: &dyn Source, field: &str) -> Result<Option<bool>, Misread> {
    let truth = |text: String| match text.as_str() {
        "true" | "yes" | "1" => Ok(true),
        "false" | "no" | "0" => Ok(false),
        _ => Err(Misread::new(
            &text,
            format!("{text:?} is none of true, false"),
        )),
    };
    source.text(field).map(truth).transpose()
}

/// Values that are written as they are: for each notation, the way in which a field gives them.
macro_rules! as_they_are {
    ($($(#[$doc:meta])* $Notation:ident of $Value:ty: $is_list:literal, $gather:expr, $shown:expr;)*) => {
        $(
            $(#[$doc])*
            pub(super) struct $Notation;

            impl Written<$Value> for $Notation {
                type Text = $Value;

                fn take<'de, D: Deserializer<'de>>(
                    deserializer: D,
                    _: &mut Reading<'_>,
                ) -> Result<Result<$Value, Misread>, D::Error> {
                    <$Value>::deserialize(deserializer).map(Ok)
                }

                fn write(value: &$Value) -> $Value {
                    value.clone()
                }

                fn shown(text: &$Value) -> String {
                    let shown: fn(&$Value) -> String = $shown;
                    shown(text)
                }
            }

            impl Gathered<$Value> for $Notation {
                const IS_LIST: bool = $is_list;

                fn gather(
                    source: &dyn Source,
                    field: &str,
                    _: &mut Reading<'_>,
                ) -> Result<$Value, Misread> {
                    let gather: fn(&dyn Source, &str) -> Result<$Value, Misread> = $gather;
                    gather(source, field)
                }
            }
        )*
    };
}

as_they_are! {
    /// Any text.
    Text of Option<String>: false, |source, field| Ok(source.text(field)), stated_text;
    /// Whether, where it is not known.
    Whether of Option<bool>: false, truth, |whether| yes_or_no(*whether == Some(true));
    /// Whether, and not where nobody says so.
    Flag of bool: false, |source, field| Ok(truth(source, field)?.unwrap_or_default()),
        |flag| yes_or_no(*flag);
    /// Words, in their order.
    Names of Vec<String>: true, |source, field| {
        let pairs = source.pairs(field)?.into_iter();
        Ok(pairs.map(|(name, _)| name).collect())
    }, |names| names.join(", ");
    /// A number by kind.
    Numbers of BTreeMap<String, u64>: true, |source, field| {
        let pairs = source.pairs(field)?.into_iter();
        let numbers = pairs.map(|(kind, number)| match number.parse() {
            Ok(read) => Ok((kind, read)),
            Err(_) => Err(Misread::new(&number, format!("{kind}: {number:?} is no number of slots"))),
        });
        numbers.collect()
    }, |numbers| {
        let numbers = numbers.iter().map(|(kind, number)| format!("{number} {kind}"));
        numbers.collect::<Vec<_>>().join(", ")
    };
}

/// Ids, in their order.
pub(super) struct Ids;

impl Written<ThinVec<Id>> for Ids {
    type Text = Vec<Id>;

    fn take<'de, D: Deserializer<'de>>(
        deserializer: D,
        reading: &mut Reading<'_>,
    ) -> Result<Result<ThinVec<Id>, Misread>, D::Error> {
        let texts = Vec::<Passing>::deserialize(deserializer)?.into_iter();
        Ok(Ok(texts.map(|text| reading.id(&text.0)).collect()))
    }

    fn write(value: &ThinVec<Id>) -> Vec<Id> {
        value.to_vec()
    }

    fn shown(text: &Vec<Id>) -> String {
        text.iter().map(Id::as_str).collect::<Vec<_>>().join(", ")
    }
}

impl Gathered<ThinVec<Id>> for Ids {
    const IS_LIST: bool = true;

    fn gather(
        source: &dyn Source,
        field: &str,
        reading: &mut Reading<'_>,
    ) -> Result<ThinVec<Id>, Misread> {
        let pairs = source.pairs(field)?.into_iter();
        Ok(pairs.map(|(id, _)| reading.id(&id)).collect())
    }
}

/// One of a few words, in small letters.
pub(super) struct Word;

impl<Value> Written<Value> for Word
where
    Value: Clone + Default + PartialEq + Serialize + DeserializeOwned + JsonSchema,
{
    type Text = Value;

    fn take<'de, D: Deserializer<'de>>(
        deserializer: D,
        _: &mut Reading<'_>,
    ) -> Result<Result<Value, Misread>, D::Error> {
        Value::deserialize(deserializer).map(Ok)
    }

    fn write(value: &Value) -> Value {
        value.clone()
    }

    fn shown(text: &Value) -> String {
        let word = serde_json::to_value(text);
        let word = word.as_ref().ok().and_then(serde_json::Value::as_str);
        word.unwrap_or_default().to_owned()
    }
}

impl<Value: Default + DeserializeOwned> Gathered<Value> for Word {
    fn gather(source: &dyn Source, field: &str, _: &mut Reading<'_>) -> Result<Value, Misread> {
        let Some(text) = source.text(field) else {
            return Ok(Value::default());
        };
        let word = serde_json::Value::String(text.trim().to_ascii_lowercase());
        serde_json::from_value(word).map_err(|error| Misread::new(&text, error))
    }
}

/// Values that are written as one text: for each notation, how that is read.
macro_rules! as_one_text {
    ($($(#[$doc:meta])* $Notation:ident of $Value:ty: |$reading:ident, $text:ident| $read:expr;)*) => {
        $(
            $(#[$doc])*
            pub(super) struct $Notation;

            impl $Notation {
                fn read($text: &str, $reading: &mut Reading<'_>) -> Result<$Value, Misread> {
                    $read.map_err(|error| Misread::new($text, error))
                }
            }

            impl Written<Option<$Value>> for $Notation {
                type Text = Option<String>;

                fn take<'de, D: Deserializer<'de>>(
                    deserializer: D,
                    reading: &mut Reading<'_>,
                ) -> Result<Result<Option<$Value>, Misread>, D::Error> {
                    let text = Option::<Passing>::deserialize(deserializer)?;
                    Ok(text.map(|text| $Notation::read(&text.0, reading)).transpose())
                }

                fn write(value: &Option<$Value>) -> Option<String> {
                    value.as_ref().map(ToString::to_string)
                }

                fn shown(text: &Option<String>) -> String {
                    stated_text(text)
                }
            }

            impl Gathered<Option<$Value>> for $Notation {
                fn gather(
                    source: &dyn Source,
                    field: &str,
                    reading: &mut Reading<'_>,
                ) -> Result<Option<$Value>, Misread> {
                    let text = source.text(field);
                    text.map(|text| $Notation::read(&text, reading)).transpose()
                }
            }
        )*
    };
}

as_one_text! {
    /// A range over components.
    Versions of Range: |reading, text| reading.ranges.range(&reading.notations, text);
    /// A range over server versions.
    ServerVersions of Range: |reading, text| reading.ranges.server_range(&reading.notations, text);
    /// A version of something that is not the server.
    OneVersion of Version: |reading, text| reading.version(false, text);
}

/// The range that is meant of a component; several where several are asked for, as by the members of a pack.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Ranges {
    /// One.
    One(String),
    /// Each of them counts.
    Several(Vec<String>),
}

impl Ranges {
    fn texts(&self) -> &[String] {
        match self {
            Ranges::One(text) => std::slice::from_ref(text),
            Ranges::Several(texts) => texts,
        }
    }
}

impl<'de> Deserialize<'de> for Ranges {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Ranges, D::Error> {
        let mut texts = Vec::new();
        let is_one =
            EachRange(|text: &str| texts.push(text.to_owned())).deserialize(deserializer)?;
        Ok(match is_one {
            true => Ranges::One(texts.remove(0)),
            false => Ranges::Several(texts),
        })
    }
}

/// Hands on each range where one or several are written, and whether it is one: a catalogue has hundreds of thousands, and none is kept aside to
/// find that out.
struct EachRange<Each>(Each);

impl<'de, Each: FnMut(&str)> DeserializeSeed<'de> for EachRange<Each> {
    type Value = bool;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<bool, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de, Each: FnMut(&str)> Visitor<'de> for EachRange<Each> {
    type Value = bool;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a range, or a list of ranges")
    }

    fn visit_str<E>(mut self, text: &str) -> Result<bool, E> {
        (self.0)(text);
        Ok(true)
    }

    fn visit_seq<A: SeqAccess<'de>>(mut self, mut texts: A) -> Result<bool, A::Error> {
        while let Some(text) = texts.next_element::<Passing>()? {
            (self.0)(&text.0);
        }
        Ok(false)
    }
}

/// Ids with their ranges.
pub(super) struct Needs;

impl Written<ThinVec<Need>> for Needs {
    type Text = BTreeMap<Id, Ranges>;

    fn take<'de, D: Deserializer<'de>>(
        deserializer: D,
        reading: &mut Reading<'_>,
    ) -> Result<Result<ThinVec<Need>, Misread>, D::Error> {
        deserializer.deserialize_map(TakenNeeds(reading))
    }

    fn write(value: &ThinVec<Need>) -> BTreeMap<Id, Ranges> {
        let pairs = value.iter();
        by_id(pairs.map(|need| (need.id.clone(), need.range.to_string())))
    }

    fn shown(text: &BTreeMap<Id, Ranges>) -> String {
        let pairs = text.iter().flat_map(|(id, ranges)| {
            let ranges = ranges.texts().iter();
            ranges.map(move |range| match range.as_str() {
                "*" | "" => id.to_string(),
                range => format!("{id} {range}"),
            })
        });
        pairs.collect::<Vec<_>>().join(", ")
    }
}

/// Needs from where they are written, with no text kept on the way.
struct TakenNeeds<'r, 'n>(&'r mut Reading<'n>);

impl<'de> Visitor<'de> for TakenNeeds<'_, '_> {
    type Value = Result<ThinVec<Need>, Misread>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("ids with ranges")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
        let mut needs = std::mem::take(&mut self.0.needs);
        let mut fault = None;
        while let Some(id) = map.next_key::<Passing>()? {
            let id = self.0.id(&id.0);
            map.next_value_seed(EachRange(|range: &str| match self.0.need(&id, range) {
                Ok(need) => needs.push(need),
                Err(misread) => fault = fault.take().or(Some(misread)),
            }))?;
        }
        let taken = in_order(&mut needs);
        self.0.needs = needs;
        Ok(fault.map_or(Ok(taken), Err))
    }
}

/// By id; what is asked of one stays in its order.
fn in_order(needs: &mut Vec<Need>) -> ThinVec<Need> {
    needs.sort_by(|a, b| a.id.cmp(&b.id));
    let mut ordered = ThinVec::with_capacity(needs.len());
    ordered.extend(needs.drain(..));
    ordered
}

impl Gathered<ThinVec<Need>> for Needs {
    const IS_LIST: bool = true;

    fn gather(
        source: &dyn Source,
        field: &str,
        reading: &mut Reading<'_>,
    ) -> Result<ThinVec<Need>, Misread> {
        let pairs = source.pairs(field)?.into_iter();
        let needs = pairs.map(|(id, range)| {
            let id = reading.id(&id);
            reading.need(&id, &range)
        });
        Ok(in_order(&mut needs.collect::<Result<_, _>>()?))
    }
}

fn by_id(pairs: impl Iterator<Item = (Id, String)>) -> BTreeMap<Id, Ranges> {
    let mut by_id: BTreeMap<Id, Vec<String>> = BTreeMap::new();
    for (id, range) in pairs {
        by_id.entry(id).or_default().push(range);
    }
    let ranges = |mut texts: Vec<String>| match texts.len() {
        1 => Ranges::One(texts.remove(0)),
        _ => Ranges::Several(texts),
    };
    let by_id = by_id.into_iter();
    by_id.map(|(id, texts)| (id, ranges(texts))).collect()
}

/// What a component says of a kind of client that it lets in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(
    untagged,
    expecting = "expected a range, a list of ranges, or a table with versions, title, notation and has (\"same\", \"nothing\" or a list of ids)"
)]
pub enum Admission {
    /// Which of its versions: of several ranges each lets in.
    Versions(Ranges),
    /// That, and more of the kind.
    Told(ToldAdmission),
}

/// Which versions of a kind of client are let in, and what is to be known of that kind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ToldAdmission {
    /// Which of its versions.
    versions: Ranges,
    /// Its name for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    title: Option<String>,
    /// How its versions are written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    notation: Option<Notation>,
    /// What of the server's components it has to have.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    has: Option<Has>,
}

impl Admission {
    fn of(versions: Ranges, terms: ClientTerms) -> Admission {
        match terms == ClientTerms::default() {
            true => Admission::Versions(versions),
            false => Admission::Told(ToldAdmission {
                versions,
                title: terms.title,
                notation: terms.notation,
                has: terms.has,
            }),
        }
    }

    fn versions(&self) -> &Ranges {
        match self {
            Admission::Versions(versions) => versions,
            Admission::Told(told) => &told.versions,
        }
    }

    fn apart(self) -> (Ranges, ClientTerms) {
        match self {
            Admission::Versions(versions) => (versions, ClientTerms::default()),
            Admission::Told(told) => {
                let terms = ClientTerms {
                    title: told.title,
                    notation: told.notation,
                    has: told.has,
                };
                (told.versions, terms)
            }
        }
    }
}

/// Kinds of client with ranges over their versions, and what is to be known of those kinds.
pub(super) struct AdmitsClients;

impl AdmitsClients {
    fn read(
        text: BTreeMap<Id, Admission>,
        reading: &mut Reading<'_>,
    ) -> Result<ThinVec<Admits>, Misread> {
        let mut admits = ThinVec::new();
        for (kind, admission) in text {
            let client = String::from(kind);
            let (ranges, terms) = admission.apart();
            for text in ranges.texts() {
                let versions = reading
                    .notations
                    .client_range(&client, terms.notation, text);
                admits.push(Admits {
                    versions: versions
                        .map_err(|error| Misread::new(&client, format!("{client}: {error}")))?,
                    client: client.clone(),
                    terms: terms.clone(),
                });
            }
        }
        Ok(admits)
    }
}

impl Written<ThinVec<Admits>> for AdmitsClients {
    type Text = BTreeMap<Id, Admission>;

    fn take<'de, D: Deserializer<'de>>(
        deserializer: D,
        reading: &mut Reading<'_>,
    ) -> Result<Result<ThinVec<Admits>, Misread>, D::Error> {
        let text = BTreeMap::deserialize(deserializer)?;
        Ok(AdmitsClients::read(text, reading))
    }

    fn write(value: &ThinVec<Admits>) -> Self::Text {
        let pairs = value.iter();
        let ranges =
            by_id(pairs.map(|admits| (Id::new(&admits.client), admits.versions.to_string())));
        let terms = |client: &Id| {
            let mut own = value.iter().filter(|it| it.client == client.as_str());
            own.next()
                .map_or_else(ClientTerms::default, |it| it.terms.clone())
        };
        let each = ranges.into_iter().map(|(client, versions)| {
            let admission = Admission::of(versions, terms(&client));
            (client, admission)
        });
        each.collect()
    }

    fn shown(text: &Self::Text) -> String {
        let pairs = text.iter();
        Needs::shown(
            &pairs
                .map(|(client, admission)| (client.clone(), admission.versions().clone()))
                .collect(),
        )
    }
}

impl Gathered<ThinVec<Admits>> for AdmitsClients {
    const IS_LIST: bool = true;

    fn gather(
        source: &dyn Source,
        field: &str,
        reading: &mut Reading<'_>,
    ) -> Result<ThinVec<Admits>, Misread> {
        let mut terms: BTreeMap<Id, ClientTerms> = BTreeMap::new();
        for (client, title) in source.pairs(&format!("{field}_title"))? {
            terms.entry(Id::new(&client)).or_default().title = Some(title);
        }
        for (client, text) in source.pairs(&format!("{field}_notation"))? {
            let word = serde_json::Value::String(text.trim().to_ascii_lowercase());
            let notation =
                serde_json::from_value(word).map_err(|error| Misread::new(&text, error))?;
            terms.entry(Id::new(&client)).or_default().notation = Some(notation);
        }
        for (client, text) in source.pairs(&format!("{field}_has"))? {
            terms.entry(Id::new(&client)).or_default().has = Some(to_have(&text));
        }
        let pairs = source.pairs(field)?.into_iter();
        let ranges = by_id(pairs.map(|(client, range)| (Id::new(&client), range)));
        let each = ranges.into_iter().map(|(client, versions)| {
            let terms = terms.remove(&client).unwrap_or_default();
            (client, Admission::of(versions, terms))
        });
        AdmitsClients::read(each.collect(), reading)
    }
}

/// What a kind of client has to have, in words: `same`, `nothing`, or ids with commas or blanks between.
fn to_have(text: &str) -> Has {
    match text.trim() {
        "same" => Has::Word(HasWord::Same),
        "nothing" => Has::Word(HasWord::Nothing),
        ids => {
            let ids = ids.split(|c: char| c == ',' || c.is_whitespace());
            Has::These(ids.filter(|id| !id.is_empty()).map(Id::new).collect())
        }
    }
}

/// Lists of ids with their ranges, of each of which one is enough.
pub(super) struct AnyOf;

impl Written<ThinVec<ThinVec<Need>>> for AnyOf {
    type Text = Vec<BTreeMap<Id, Ranges>>;

    fn take<'de, D: Deserializer<'de>>(
        deserializer: D,
        reading: &mut Reading<'_>,
    ) -> Result<Result<ThinVec<ThinVec<Need>>, Misread>, D::Error> {
        deserializer.deserialize_seq(TakenLists(reading))
    }

    fn write(value: &ThinVec<ThinVec<Need>>) -> Self::Text {
        value.iter().map(Needs::write).collect()
    }

    fn shown(text: &Self::Text) -> String {
        let lists = text
            .iter()
            .map(|list| format!("one of {}", Needs::shown(list)));
        lists.collect::<Vec<_>>().join("; ")
    }
}

struct TakenLists<'r, 'n>(&'r mut Reading<'n>);

impl<'de> Visitor<'de> for TakenLists<'_, '_> {
    type Value = Result<ThinVec<ThinVec<Need>>, Misread>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a list of ids with ranges")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut lists: A) -> Result<Self::Value, A::Error> {
        let mut taken = Vec::new();
        while let Some(needs) = lists.next_element_seed(Taking::<Needs, _>::by(self.0))? {
            taken.push(needs);
        }
        Ok(taken.into_iter().collect())
    }
}

/// An id that a component stands in for, alone or in a version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged, expecting = "expected an id, or { id = …, version = … }")]
pub enum StandsInFor {
    /// In every version.
    Any(Id),
    /// In one.
    Versioned {
        /// The id.
        id: Id,
        /// The version.
        version: String,
    },
}

/// Ids that it stands in for.
pub(super) struct Provides;

impl Written<ThinVec<Provided>> for Provides {
    type Text = Vec<StandsInFor>;

    fn take<'de, D: Deserializer<'de>>(
        deserializer: D,
        reading: &mut Reading<'_>,
    ) -> Result<Result<ThinVec<Provided>, Misread>, D::Error> {
        let provided = Vec::<StandsInFor>::deserialize(deserializer)?.into_iter();
        let provided = provided.map(|provided| match provided {
            StandsInFor::Any(id) => reading.provided(id.as_str(), None),
            StandsInFor::Versioned { id, version } => reading.provided(id.as_str(), Some(&version)),
        });
        Ok(provided.collect())
    }

    fn write(value: &ThinVec<Provided>) -> Vec<StandsInFor> {
        let provided = value.iter().map(|provided| match &provided.version {
            None => StandsInFor::Any(provided.id.clone()),
            Some(version) => StandsInFor::Versioned {
                id: provided.id.clone(),
                version: version.to_string(),
            },
        });
        provided.collect()
    }

    fn shown(text: &Vec<StandsInFor>) -> String {
        let provided = text.iter().map(|provided| match provided {
            StandsInFor::Any(id) => id.to_string(),
            StandsInFor::Versioned { id, version } => format!("{id} {version}"),
        });
        provided.collect::<Vec<_>>().join(", ")
    }
}

impl Gathered<ThinVec<Provided>> for Provides {
    const IS_LIST: bool = true;

    fn gather(
        source: &dyn Source,
        field: &str,
        reading: &mut Reading<'_>,
    ) -> Result<ThinVec<Provided>, Misread> {
        let pairs = source.pairs(field)?.into_iter();
        let provided = pairs.map(|(id, version)| match version.as_str() {
            "" | "*" => reading.provided(&id, None),
            version => reading.provided(&id, Some(version)),
        });
        provided.collect()
    }
}

/// A component inside a pack.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct WrittenMember {
    id: Id,
    version: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    group: Option<String>,
}

/// The members of a pack.
pub(super) struct Members;

impl Written<ThinVec<Member>> for Members {
    type Text = Vec<WrittenMember>;

    fn take<'de, D: Deserializer<'de>>(
        deserializer: D,
        reading: &mut Reading<'_>,
    ) -> Result<Result<ThinVec<Member>, Misread>, D::Error> {
        let members = Vec::<WrittenMember>::deserialize(deserializer)?.into_iter();
        let members = members.map(|member| {
            Ok(Member {
                version: OneVersion::read(&member.version, reading)?,
                id: member.id,
                group: member.group,
            })
        });
        Ok(members.collect())
    }

    fn write(value: &ThinVec<Member>) -> Vec<WrittenMember> {
        let members = value.iter().map(|member| WrittenMember {
            id: member.id.clone(),
            version: member.version.to_string(),
            group: member.group.clone(),
        });
        members.collect()
    }

    fn shown(text: &Vec<WrittenMember>) -> String {
        let members = text
            .iter()
            .map(|member| format!("{} {}", member.id, member.version));
        members.collect::<Vec<_>>().join(", ")
    }
}
