//! Somebody else's listing of releases, made into ours by a mapping: `*.listing.toml`, described in docs/formats/listing.md.
//!
//! A mapping says which addresses to ask, where in an answer each release stands, and where in that each fact does. What it
//! makes of an answer is a list of offers, as a catalogue's; one that cannot be read is left out and told.

mod draft;

pub use draft::draft;

use crate::component::{Id, Kind};
use crate::descriptor::{Lookups, Meant, Subject, Told, VersionFrom};
use crate::document::{self, Node, Table};
use crate::facts::Reading;
use crate::family::{Family, FieldRule, Fields, Pattern, Reader, TextNotation};
use crate::offer::{Offer, Origin};
use crate::reading::TextFault;
use crate::supply::{Checksum, HashKind, Supply, encoded, is_web, name_of, released_ms};
use html5gum::{Token, Tokenizer};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;

/// So many pages of one listing are asked for at most, where it does not say otherwise.
const MOST_PAGES: u64 = 200;
/// So long is an answer taken as it is, in seconds, where the listing does not say otherwise.
const FRESH_S: u64 = 600;

/// How the answers are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Answers {
    /// JSON.
    Json,
    /// XML, as Atom and RSS are.
    Xml,
    /// A web page: its links are the releases.
    Html,
}

/// Which addresses are asked.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Asking {
    /// The address; `{id}`, `{server}` and `{page}` are filled in. With `{id}` each component is asked for by itself.
    pub url: String,
    /// The number of the first page.
    #[serde(default = "one")]
    pub first_page: u64,
    /// Where an answer says the number of the last page.
    pub last_page: Option<String>,
    /// Where an answer says the address of the next page.
    pub next: Option<String>,
    /// So many pages are asked for at most.
    #[serde(default = "most_pages")]
    pub most_pages: u64,
    /// So many requests a second are made at most.
    pub per_second: Option<f64>,
    /// So long is an answer taken as it is, in seconds.
    #[serde(default = "fresh")]
    pub fresh_s: u64,
}

fn one() -> u64 {
    1
}

fn most_pages() -> u64 {
    MOST_PAGES
}

fn fresh() -> u64 {
    FRESH_S
}

/// Where a release's file stands.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct FileFields {
    /// Its addresses; `{id}` (as the listing calls it), `{version}` and `{name}` are filled in.
    pub urls: FieldRule,
    /// What it is called.
    pub name: FieldRule,
    /// Its size in bytes.
    pub bytes: FieldRule,
    blake3: FieldRule,
    sha512: FieldRule,
    sha256: FieldRule,
    sha1: FieldRule,
    md5: FieldRule,
    /// The page where a person can fetch it.
    pub page: FieldRule,
    /// Why only a person can fetch it.
    pub by_person: FieldRule,
    /// When it was put up.
    pub released: FieldRule,
}

/// What is left out of a listing: releases of which a text fits a pattern.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Skip {
    at: String,
    pattern: Pattern,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, expecting = "a listing's description")]
struct Written {
    format: u32,
    name: String,
    #[serde(default = "addon")]
    kind: Kind,
    answers: Answers,
    #[serde(default)]
    items: String,
    ask: Asking,
    fields: Fields,
    #[serde(default)]
    archive: FileFields,
    #[serde(default)]
    words: BTreeMap<String, BTreeMap<String, String>>,
    #[serde(default)]
    skip: Vec<Skip>,
}

fn addon() -> Kind {
    Kind::Addon
}

/// A mapping.
#[derive(Debug, Clone)]
pub struct Listing {
    /// What it is called.
    pub name: String,
    /// Which addresses are asked.
    pub ask: Asking,
    answers: Answers,
    items: String,
    reader: Reader,
    file: FileFields,
    words: BTreeMap<String, BTreeMap<String, String>>,
    skip: Vec<Skip>,
}

/// Why a mapping cannot be used, or an answer not be read by it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ListingFault {
    /// The mapping is no TOML, or says something else than a mapping does.
    #[error("{}{why}", line.map_or(String::new(), |line| format!("line {line}: ")))]
    Text {
        /// The line, from 1, where it is known.
        line: Option<usize>,
        /// What is wrong.
        why: String,
    },
    /// It is of a format that this program does not read.
    #[error("it is of format {0}; this lantern reads format 1")]
    Format(u32),
    /// An answer is not written as the mapping says.
    #[error("the answer cannot be read: {}{}", .0.line.map_or(String::new(), |line| format!("line {line}: ")), .0.why)]
    Answer(TextFault),
    /// An answer has nothing where the releases should stand.
    #[error(
        "the answer has no list of releases at {0:?} (items): the listing may have changed its shape"
    )]
    NoItems(String),
}

/// What was asked.
#[derive(Debug, Clone, Copy)]
pub struct Asked<'a> {
    /// The component, as the listing calls it; none where all are asked for at once.
    pub id: Option<&'a str>,
    /// Where the answer came from.
    pub url: &'a str,
    /// The page, by its number.
    pub page: u64,
    /// What the listing calls components, with what they are called here.
    pub ids: &'a BTreeMap<String, String>,
}

/// Where it goes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Next {
    /// At an address.
    Address(String),
    /// With the page of a number.
    Page(u64),
}

/// What an answer holds.
#[derive(Debug, Default)]
pub struct Page {
    /// The releases that could be read.
    pub offers: Vec<Offer>,
    /// Those left out: which of the answer's, from 1, and why.
    pub left_out: Vec<(usize, String)>,
    /// Where it goes on.
    pub next: Option<Next>,
}

/// What was made of one release of an answer, field by field.
#[derive(Debug)]
pub struct Seen {
    /// What was found where.
    pub told: Vec<Told>,
    /// What comes of it, or why nothing does.
    pub made: Result<Offer, String>,
}

impl Listing {
    /// Reads a mapping.
    ///
    /// # Errors
    /// When it is none.
    pub fn parse(text: &str) -> Result<Listing, ListingFault> {
        let written: Written =
            toml_edit::de::from_str(text).map_err(|error| ListingFault::Text {
                line: error
                    .span()
                    .map(|span| crate::reading::line_at(text, span.start)),
                why: error.message().trim().to_owned(),
            })?;
        if written.format != 1 {
            return Err(ListingFault::Format(written.format));
        }
        if !is_web(&written.ask.url) {
            return Err(ListingFault::Text {
                line: None,
                why: format!("ask.url: {} is no http or https address", written.ask.url),
            });
        }
        Ok(Listing {
            reader: Reader::of_fields(&written.name, written.kind, written.fields),
            name: written.name,
            ask: written.ask,
            answers: written.answers,
            items: written.items,
            file: written.archive,
            words: written.words,
            skip: written.skip,
        })
    }

    /// Whether its answers are web pages.
    pub fn is_of_pages(&self) -> bool {
        self.answers == Answers::Html
    }

    /// Whether each component is asked for by itself.
    pub fn asks_each(&self) -> bool {
        self.ask.url.contains("{id}")
    }

    /// The address of a page: of a component, as the listing calls it, for a server version.
    pub fn address(&self, id: Option<&str>, server: &str, page: u64) -> String {
        let url = self
            .ask
            .url
            .replace("{id}", &encoded(id.unwrap_or_default()));
        let url = url.replace("{server}", &encoded(server));
        url.replace("{page}", &page.to_string())
    }

    /// What an answer holds.
    ///
    /// # Errors
    /// When it is not written as the mapping says, or has nothing where the releases should stand.
    pub fn read(
        &self,
        answer: &str,
        asked: Asked<'_>,
        family: &Family,
    ) -> Result<Page, ListingFault> {
        let (said, items) = self.items_of(answer)?;
        let mut page = Page::default();
        let many = items.len();
        let mut reading = Reading::new(&family.versions);
        for (number, item) in items.into_iter().enumerate() {
            if self.is_skipped(&item) {
                continue;
            }
            match self.offer(item, asked, family, &mut reading) {
                Ok(offer) => page.offers.push(offer),
                Err(why) => page.left_out.push((number + 1, why)),
            }
        }
        page.next = self.next(said, many, asked);
        Ok(page)
    }

    /// What is made of each release of an answer, field by field.
    ///
    /// # Errors
    /// As [`Listing::read`].
    pub fn explain(
        &self,
        answer: &str,
        asked: Asked<'_>,
        family: &Family,
    ) -> Result<Vec<Seen>, ListingFault> {
        let (_, items) = self.items_of(answer)?;
        let items = items.into_iter().filter(|item| !self.is_skipped(item));
        let mut reading = Reading::new(&family.versions);
        let seen = items.map(|item| {
            let lookups = self.lookups(item.clone(), asked, family);
            let mut told: Vec<Told> = lookups.told().unwrap_or_default();
            for (field, rule) in self.file_fields() {
                if let Some((lookup, _)) = lookups.first(rule) {
                    told.push(Told {
                        field,
                        at: lookup.place(),
                        text: lookups.texts_of(rule).join(", "),
                    });
                }
            }
            Seen {
                told,
                made: self.offer(item, asked, family, &mut reading),
            }
        });
        Ok(seen.collect())
    }

    fn file_fields(&self) -> [(&'static str, &FieldRule); 11] {
        let file = &self.file;
        [
            ("archive.urls", &file.urls),
            ("archive.name", &file.name),
            ("archive.bytes", &file.bytes),
            ("archive.blake3", &file.blake3),
            ("archive.sha512", &file.sha512),
            ("archive.sha256", &file.sha256),
            ("archive.sha1", &file.sha1),
            ("archive.md5", &file.md5),
            ("archive.page", &file.page),
            ("archive.by_person", &file.by_person),
            ("archive.released", &file.released),
        ]
    }

    /// What an answer says of where it goes on, and its releases.
    fn items_of(&self, answer: &str) -> Result<(Option<String>, Vec<Table>), ListingFault> {
        let answer = answer.trim_start_matches('\u{feff}');
        let parsed =
            |notation, text: &str| document::read(notation, text).map_err(ListingFault::Answer);
        let mut top = match self.answers {
            // A list at the top stands under the empty name.
            Answers::Json if answer.trim_start().starts_with('[') => {
                parsed(TextNotation::Json, &format!("{{\"\":{answer}}}"))?
            }
            Answers::Json => parsed(TextNotation::Json, answer)?,
            Answers::Xml => parsed(TextNotation::Xml, answer)?,
            Answers::Html => Table::from([(String::new(), Node::List(links(answer)))]),
        };
        let said = self.ask.next.as_ref().or(self.ask.last_page.as_ref());
        let said = said.and_then(|path| match document::at(&top, path) {
            Some(Node::Text(text)) if !text.is_empty() => Some(text.clone()),
            _ => None,
        });
        let no_items = || ListingFault::NoItems(self.items.clone());
        let node = match (self.items.as_str(), self.answers) {
            (_, Answers::Html) | ("", _) => top.remove(""),
            (path, _) => top
                .remove(path)
                .or_else(|| document::at(&top, path).cloned()),
        };
        let named = |(key, node): (String, Node)| match node {
            Node::Table(mut table) => {
                table.insert("$key".into(), Node::Text(key));
                Some(table)
            }
            _ => None,
        };
        let items = match node.ok_or_else(no_items)? {
            Node::List(items) => items.into_iter().filter_map(as_table).collect(),
            // One alone, as XML has it; or each under its own name.
            Node::Table(table) if self.answers == Answers::Xml => vec![table],
            Node::Table(table) => table.into_iter().filter_map(named).collect(),
            Node::Text(text) if text.trim().is_empty() => Vec::new(),
            Node::Text(_) => return Err(no_items()),
        };
        Ok((said, items))
    }

    fn is_skipped(&self, item: &Table) -> bool {
        self.skip
            .iter()
            .any(|skip| match document::at(item, &skip.at) {
                Some(Node::Text(text)) => skip.pattern.regex().is_match(text),
                _ => false,
            })
    }

    /// Where it goes on: as the answer says, or where it says nothing of that, on the next page.
    fn next(&self, said: Option<String>, many: usize, asked: Asked<'_>) -> Option<Next> {
        if self.ask.next.is_some() {
            return said.map(Next::Address);
        }
        if !self.ask.url.contains("{page}") {
            return None;
        }
        let next = asked.page + 1;
        let goes_on = match &self.ask.last_page {
            Some(_) => said?.parse::<u64>().is_ok_and(|last| next <= last),
            None => many > 0,
        };
        goes_on.then_some(Next::Page(next))
    }

    fn lookups<'a>(&'a self, item: Table, asked: Asked<'a>, family: &'a Family) -> Lookups<'a> {
        let subject = Subject {
            reader: &self.reader,
            family,
            place: asked.id.unwrap_or_default(),
            content: "",
            archive: None,
        };
        let meant = Meant {
            words: &self.words,
            ids: asked.ids,
        };
        Lookups::of_table(subject, item, meant)
    }

    fn offer(
        &self,
        item: Table,
        asked: Asked<'_>,
        family: &Family,
        reading: &mut Reading<'_>,
    ) -> Result<Offer, String> {
        let lookups = self.lookups(item, asked, family);
        let version = lookups.text_of(self.reader.fields.rule("version"));
        let described = lookups.described(reading).map_err(|fault| match &version {
            Some(version) => format!("{version}: {}", fault.why),
            None => fault.why,
        })?;
        let facts = described.facts;
        if described.version_from == VersionFrom::Content {
            return Err(format!("{}: it states no version", facts.id));
        }
        let say = |why: String| format!("{} {}: {why}", facts.id, facts.version);
        let supply = self.supply(&lookups, &facts.id, &facts.version.to_string(), asked);
        let supply = supply.map_err(say)?;
        let blake3 = supply.check(HashKind::Blake3);
        let blake3 = blake3.map(|check| check.hex.clone()).unwrap_or_default();
        let artifact = supply.at(String::new(), blake3, supply.bytes.unwrap_or(0));
        Ok(Offer {
            facts,
            artifact: Arc::new(artifact),
            lays: None,
            origin: Origin::Catalogue,
            supply: Some(Box::new(supply)),
        })
    }

    fn supply(
        &self,
        lookups: &Lookups<'_>,
        id: &Id,
        version: &str,
        Asked {
            id: called,
            url: from,
            ..
        }: Asked<'_>,
    ) -> Result<Supply, String> {
        let file = &self.file;
        let name = lookups.text_of(&file.name);
        let filled = |url: String| {
            let url = url.replace("{id}", &encoded(called.unwrap_or(id.as_str())));
            let url = url.replace("{version}", &encoded(version));
            url.replace("{name}", &encoded(name.as_deref().unwrap_or_default()))
        };
        let urls: Vec<String> = lookups
            .texts_of(&file.urls)
            .into_iter()
            .map(filled)
            .collect();
        let urls: Vec<String> = urls.iter().map(|url| joined(from, url)).collect();
        let page = lookups
            .text_of(&file.page)
            .map(filled)
            .map(|page| joined(from, &page));
        if let Some(url) = urls.iter().chain(&page).find(|url| !is_web(url)) {
            return Err(format!("{url} is no http or https address"));
        }
        if urls.is_empty() && page.is_none() {
            return Err("it states neither an address of the file nor a page".into());
        }
        let stated = [
            (HashKind::Blake3, &file.blake3),
            (HashKind::Sha512, &file.sha512),
            (HashKind::Sha256, &file.sha256),
            (HashKind::Sha1, &file.sha1),
            (HashKind::Md5, &file.md5),
        ];
        let stated = stated
            .into_iter()
            .filter_map(|(kind, rule)| Some((kind, lookups.text_of(rule)?)));
        let checks = stated.map(|(kind, text)| Checksum::of(kind, &text));
        let bytes = lookups.text_of(&file.bytes).map(|text| {
            let number = text.parse();
            number.map_err(|_| format!("archive.bytes: {text:?} is no number"))
        });
        let of_url = || urls.iter().find_map(|url| name_of(url));
        let name = name.or_else(of_url).unwrap_or_else(|| "archive".into());
        let is_name =
            crate::path::RelPath::parse(&name).is_ok_and(|path| !path.as_str().contains('/'));
        if !is_name {
            return Err(format!("archive.name: {name:?} is no file name"));
        }
        Ok(Supply {
            checks: checks.collect::<Result<_, _>>()?,
            bytes: bytes.transpose()?,
            by_person: lookups.text_of(&file.by_person),
            // That a listing says it in a way of its own makes its releases no worse: then it is not known.
            released_ms: lookups
                .text_of(&file.released)
                .and_then(|text| released_ms(&text).ok()),
            name,
            urls,
            page,
        })
    }
}

/// An address as it is meant where it stands.
fn joined(from: &str, url: &str) -> String {
    match url::Url::parse(from).and_then(|base| base.join(url)) {
        Ok(whole) => whole.into(),
        Err(_) => url.to_owned(),
    }
}

fn as_table(node: Node) -> Option<Table> {
    match node {
        Node::Table(table) => Some(table),
        Node::Text(text) => Some(Table::from([("$text".to_owned(), Node::Text(text))])),
        Node::List(_) => None,
    }
}

/// The links of a web page, with where each leads (`href`) and its words (`text`).
fn links(page: &str) -> Vec<Node> {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let mut links: Vec<Node> = Vec::new();
    let mut open: Option<(String, String)> = None;
    let mut close = |open: &mut Option<(String, String)>| {
        if let Some((href, words)) = open.take() {
            links.push(Node::Table(Table::from([
                ("href".to_owned(), Node::Text(href)),
                ("text".to_owned(), Node::Text(words.trim().to_owned())),
            ])));
        }
    };
    for Ok(token) in Tokenizer::new(page) {
        match token {
            Token::StartTag(tag) if *tag.name == b"a" => {
                close(&mut open);
                let href = tag.attributes.get(&b"href"[..]);
                open = href.map(|href| (text(href), String::new()));
            }
            Token::EndTag(tag) if *tag.name == b"a" => close(&mut open),
            Token::String(words) => {
                if let Some((_, said)) = &mut open {
                    said.push_str(&text(&words));
                }
            }
            _ => {}
        }
    }
    close(&mut open);
    links
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::WrittenRelease;

    fn family() -> Family {
        Family::parse(crate::tree::tests::FAMILY).unwrap()
    }

    /// All offers and what was left out, a line each.
    fn told(listing: &str, asked: Option<&str>, answer: &str) -> String {
        let listing = Listing::parse(listing).unwrap();
        let ids = BTreeMap::from([("4711".to_owned(), "fern".to_owned())]);
        let asked = Asked {
            id: asked,
            url: "https://market.example/api/list?x=1",
            page: 1,
            ids: &ids,
        };
        let page = match listing.read(answer, asked, &family()) {
            Ok(page) => page,
            Err(fault) => return fault.to_string(),
        };
        let mut lines: Vec<String> = page
            .offers
            .iter()
            .map(|offer| {
                let facts = serde_json::to_string(&WrittenRelease::of(&offer.facts)).unwrap();
                let supply = serde_json::to_string(&offer.supply).unwrap();
                format!("{facts}\n  {supply}")
            })
            .collect();
        lines.extend(
            page.left_out
                .iter()
                .map(|(number, why)| format!("left out {number}: {why}")),
        );
        lines.push(format!("{:?}", page.next));
        lines.join("\n")
    }

    const JSON: &str = r#"
format = 1
name = "Gate market"
answers = "json"
items = "data.files"
[ask]
url = "https://market.example/api/{id}?page={page}"
last_page = "pages"
[fields]
version = { at = "label", pattern = '(?P<value>\d[\d.]*)' }
server = { at = "made_for", template = "={}" }
channel = "how"
side = "where"
needs = { at = "links", item = { id = "to", range = "from", only = { kind = "must" } }, range = ">={}" }
[archive]
urls = "files.0.at"
name = "files.0.name"
bytes = "files.0.size"
sha1 = "files.0.sums.sha1"
[words.channel]
beta = "early"
release = "stable"
[words.side]
everywhere = "both"
[[skip]]
at = "label"
pattern = '^(latest|recommended)$'
"#;

    #[test]
    fn a_json_answer_is_read() {
        let sha = "a".repeat(40);
        let answer = format!(
            r#"{{"pages": 3, "data": {{"files": [
            {{"label": "Fern 1.2", "made_for": "5.4", "how": "beta", "where": "everywhere",
              "links": [{{"to": "ivy", "from": "2", "kind": "must"}}, {{"to": "moss", "kind": "may"}}],
              "files": [{{"at": "/dl/fern%201.2.bloom", "size": 12, "name": "fern 1.2.bloom", "sums": {{"sha1": "{sha}"}}}}]}},
            {{"label": "latest", "files": []}},
            {{"label": "Fern", "files": []}},
            {{"label": "Fern 1.3", "how": "nightly", "files": []}},
            {{"label": "Fern 1.4", "files": [{{"at": "ftp://x/y"}}]}},
            {{"label": "Fern 1.5", "files": [{{"at": "https://x/y", "size": "many"}}]}},
            {{"label": "Fern 1.6", "files": [{{"at": "https://x/y", "name": "../y"}}]}},
            {{"label": "Fern 1.7", "files": [{{"at": "https://x/y", "sums": {{"sha1": "12"}}}}]}},
            {{"label": "Fern 1.8"}}
            ]}}}}"#
        );
        insta::assert_snapshot!(told(JSON, Some("4711"), &answer), @r#"
        {"id":"fern","kind":"addon","version":"1.2","server":"=5.4","needs":{"ivy":">=2"},"side":"both","channel":"early"}
          {"name":"fern 1.2.bloom","urls":["https://market.example/dl/fern%201.2.bloom"],"checks":[{"kind":"sha1","hex":"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"}],"bytes":12}
        left out 3: fern: it states no version
        left out 4: 1.3: unknown variant `nightly`, expected `stable` or `early`
        left out 5: fern 1.4: ftp://x/y is no http or https address
        left out 6: fern 1.5: archive.bytes: "many" is no number
        left out 7: fern 1.6: archive.name: "../y" is no file name
        left out 8: fern 1.7: sha1 is not 40 hexadecimal digits
        left out 9: fern 1.8: it states neither an address of the file nor a page
        Some(Page(2))
        "#);
        insta::assert_snapshot!(told(JSON, Some("4711"), "{\"data\": {\"releases\": []}}"), @r#"the answer has no list of releases at "data.files" (items): the listing may have changed its shape"#);
        insta::assert_snapshot!(told(JSON, Some("4711"), "<html>"), @"the answer cannot be read: line 1: Unexpected token");
        insta::assert_snapshot!(told(JSON, Some("4711"), "{\"pages\": 1, \"data\": {\"files\": []}}"), @"None");
    }

    #[test]
    fn a_list_at_the_top_and_tables_by_name_are_read() {
        let by_name = "format = 1\nname = 'x'\nanswers = 'json'\nitems = 'versions'\n[ask]\nurl = 'https://a.example/{id}'\n[fields]\nversion = '$key'\n[archive]\nurls = { value = 'files/{id}/{version}.bloom' }\n";
        insta::assert_snapshot!(told(by_name, Some("4711"), r#"{"versions": {"1.0": {"x": 1}, "1.1": {}}}"#), @r#"
        {"id":"fern","kind":"addon","version":"1.0"}
          {"name":"1.0.bloom","urls":["https://market.example/api/files/4711/1.0.bloom"]}
        {"id":"fern","kind":"addon","version":"1.1"}
          {"name":"1.1.bloom","urls":["https://market.example/api/files/4711/1.1.bloom"]}
        None
        "#);
        let at_the_top = by_name
            .replace("items = 'versions'\n", "")
            .replace("$key", "v");
        insta::assert_snapshot!(told(&at_the_top, Some("4711"), r#"[{"v": "1.0"}]"#), @r#"
        {"id":"fern","kind":"addon","version":"1.0"}
          {"name":"1.0.bloom","urls":["https://market.example/api/files/4711/1.0.bloom"]}
        None
        "#);
    }

    #[test]
    fn feeds_and_pages_of_links_are_read() {
        let feed = "format = 1\nname = 'x'\nanswers = 'xml'\nitems = 'feed.entry'\n[ask]\nurl = 'https://a.example/feed'\nnext = 'feed.link.@href'\n[fields]\nid = { at = 'title', pattern = '^(?P<value>\\S+)' }\nversion = { at = 'title', pattern = '\\s(?P<value>\\S+)$' }\n[archive]\nurls = 'link.@href'\n";
        let answer = "<feed xmlns='http://www.w3.org/2005/Atom'><link rel='next' href='https://a.example/feed?2'/>\
            <entry><title>fern 1.0</title><link href='/fern-1.0.bloom'/></entry>\
            <entry><title>ivy 2.0</title><link href='https://b.example/ivy-2.0.bloom'/></entry></feed>";
        insta::assert_snapshot!(told(feed, None, answer), @r#"
        {"id":"fern","kind":"addon","version":"1.0"}
          {"name":"fern-1.0.bloom","urls":["https://market.example/fern-1.0.bloom"]}
        {"id":"ivy","kind":"addon","version":"2.0"}
          {"name":"ivy-2.0.bloom","urls":["https://b.example/ivy-2.0.bloom"]}
        Some(Address("https://a.example/feed?2"))
        "#);
        let page = "format = 1\nname = 'x'\nanswers = 'html'\n[ask]\nurl = 'https://a.example/index/'\n[fields]\nid = { at = 'href', pattern = '^(?P<value>[a-z-]+)-\\d' }\nversion = { at = 'href', pattern = '-(?P<value>\\d[\\d.]*\\d)\\.bloom$' }\n[archive]\nurls = 'href'\n[[skip]]\nat = 'href'\npattern = '^\\?|/$'\n";
        let answer = "<h1>Index</h1><a href='?C=N'>Name</a> <A HREF=fern-1.0.bloom>fern</A><a href=\"ivy-2.0.bloom\">ivy &amp; more<p><a href='other/'>other</a><a>no</a><a href='readme.txt'>x";
        insta::assert_snapshot!(told(page, None, answer), @r#"
        {"id":"fern","kind":"addon","version":"1.0"}
          {"name":"fern-1.0.bloom","urls":["https://market.example/api/fern-1.0.bloom"]}
        {"id":"ivy","kind":"addon","version":"2.0"}
          {"name":"ivy-2.0.bloom","urls":["https://market.example/api/ivy-2.0.bloom"]}
        left out 5: the id "" cannot be used
        None
        "#);
    }

    #[test]
    fn a_mapping_that_is_none_is_refused_with_its_place() {
        for (text, why) in [
            (
                "format = 1\nname = 'x'\nanswers = 'yaml'\n",
                "line 3: unknown variant `yaml`",
            ),
            (
                &JSON.replace("format = 1", "format = 2"),
                "it is of format 2",
            ),
            (
                &JSON.replace("https://", "file://"),
                "is no http or https address",
            ),
            (&JSON.replace("sha1 =", "sha3 ="), "unknown field `sha3`"),
        ] {
            let fault = Listing::parse(text).unwrap_err().to_string();
            assert!(fault.contains(why), "{fault}");
        }
        let listing = Listing::parse(JSON).unwrap();
        assert_eq!(
            listing.address(Some("a/b c"), "5.4", 2),
            "https://market.example/api/a%2Fb%20c?page=2"
        );
    }
}
