//! What players are told of a change: before it, when it is done, and when it did not come off.

mod news;

pub use news::ServerNews;

use crate::clients::ClientChange;
use crate::component::Kind;
use crate::page::{For, TemplateFault, fill};
use crate::plan::{ComponentChange, Fate};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// When somebody is told.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Moment {
    /// It is planned, or about to begin.
    Before,
    /// It is done.
    Done,
    /// It did not come off.
    Failed,
}

/// On what somebody is told something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Occasion {
    /// A change is planned, or about to begin.
    Before,
    /// A change is done.
    Done,
    /// A change did not come off.
    Failed,
    /// A look at the server has found something new.
    News,
}

impl From<Moment> for Occasion {
    fn from(moment: Moment) -> Occasion {
        match moment {
            Moment::Before => Occasion::Before,
            Moment::Done => Occasion::Done,
            Moment::Failed => Occasion::Failed,
        }
    }
}

/// The notation of a notice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Style {
    /// Plain text.
    Text,
    /// HTML, to be put into a page.
    Html,
    /// Markdown.
    Markdown,
}

/// One component that changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Changed {
    /// Which one.
    pub id: String,
    /// The version before; none where it comes new.
    pub from: Option<String>,
    /// The version afterwards; none where it goes.
    pub to: Option<String>,
}

/// What becomes of players with one kind of client.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ForPlayers {
    /// What they play with.
    pub name: String,
    /// Which versions may join before, in words; none where none may.
    pub before: Option<String>,
    /// Which versions may join afterwards, likewise.
    pub after: Option<String>,
    /// What they have to do, in a sentence; none where nothing becomes different.
    pub todo: Option<String>,
}

/// All that a notice can tell.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Notice {
    /// When it is told.
    pub moment: Moment,
    /// The server's name.
    pub server: String,
    /// The server version before; none where it is not known.
    pub from: Option<String>,
    /// The server version afterwards.
    pub to: String,
    /// When it is to be, or was; none where nobody says.
    pub when: Option<String>,
    /// How long the server is likely to be away, or was; none where nobody knows.
    pub away: Option<String>,
    /// Why it did not come off; none where it did.
    pub why: Option<String>,
    /// Whether it did not come off, and is known to be as it was before.
    pub back: bool,
    /// What comes in another version, the build left out.
    pub updated: Vec<Changed>,
    /// What comes new.
    pub added: Vec<Changed>,
    /// What goes.
    pub removed: Vec<Changed>,
    /// Each kind of client.
    pub players: Vec<ForPlayers>,
}

impl Notice {
    /// What there is to tell of some changes; when and for how long is not known yet.
    pub fn new(
        moment: Moment,
        server: &str,
        (from, to): (Option<&str>, &str),
        components: &[ComponentChange],
        clients: &[ClientChange],
    ) -> Notice {
        let of = |fate: Fate| {
            let meant = components
                .iter()
                .filter(move |it| it.verdict == fate && it.kind != Kind::Build);
            let changed = meant.map(|it| Changed {
                id: it.id.to_string(),
                from: it.from.clone(),
                to: it.to.clone(),
            });
            changed.collect()
        };
        let players = clients.iter().map(|change| ForPlayers {
            name: change.name().to_owned(),
            before: change.before.clone(),
            after: change.after.clone(),
            todo: change.sentence(),
        });
        Notice {
            moment,
            server: server.to_owned(),
            from: from.map(str::to_owned),
            to: to.to_owned(),
            when: None,
            away: None,
            why: None,
            back: false,
            updated: of(Fate::Updated),
            added: of(Fate::Added),
            removed: of(Fate::Removed),
            players: players.collect(),
        }
    }

    /// The notice in words, by the administrator's template or by ours.
    ///
    /// # Errors
    /// When the template makes no sense.
    pub fn told(&self, style: Style, template: Option<&str>) -> Result<String, TemplateFault> {
        let own = match style {
            Style::Text => include_str!("notice.txt"),
            Style::Html => include_str!("notice.html"),
            Style::Markdown => include_str!("notice.md"),
        };
        let of = match style {
            Style::Html => For::Markup,
            Style::Text | Style::Markdown => For::Text,
        };
        fill(template.unwrap_or(own), of, self)
    }

    /// What it is about, in a line.
    pub fn title(&self) -> String {
        let way = match &self.from {
            Some(from) if *from != self.to => format!("{} from {from} to {}", self.server, self.to),
            _ => format!("{}, {}", self.server, self.to),
        };
        match self.moment {
            Moment::Before => format!("Planned: {way}"),
            Moment::Done => format!("Done: {way}"),
            Moment::Failed => format!("Not done: {way}"),
        }
    }
}

/// One entry of a feed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FeedEntry {
    /// What it is known by, for ever: a URN.
    pub id: String,
    /// What it is about.
    pub title: String,
    /// When it came to be, as RFC 3339 writes it.
    pub updated: String,
    /// What it tells, as HTML.
    pub html: String,
}

/// A feed as RFC 4287 has it, the newest first.
pub fn feed(id: &str, title: &str, updated: &str, entries: &[FeedEntry]) -> String {
    #[derive(Serialize)]
    struct Feed<'a> {
        id: &'a str,
        title: &'a str,
        updated: &'a str,
        entries: &'a [FeedEntry],
    }
    let feed = Feed {
        id,
        title,
        updated,
        entries,
    };
    fill(include_str!("feed.xml"), For::Markup, &feed)
        .expect("our own template names what is there")
}

/// A name that a text always has, and no other one.
pub fn urn(of: &str) -> String {
    let hash = blake3::hash(of.as_bytes());
    let mut bytes = [0u8; 16];
    bytes.copy_from_slice(&hash.as_bytes()[..16]);
    // Version 8 of RFC 9562: made by whoever makes it.
    bytes[6] = bytes[6] & 0x0f | 0x80;
    bytes[8] = bytes[8] & 0x3f | 0x80;
    let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    format!(
        "urn:uuid:{}-{}-{}-{}-{}",
        &hex[..8],
        &hex[8..12],
        &hex[12..16],
        &hex[16..20],
        &hex[20..]
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::component::Id;

    fn notice(moment: Moment) -> Notice {
        let change = |id: &str, kind, from: Option<&str>, to: Option<&str>| ComponentChange {
            id: Id::new(id),
            kind,
            from: from.map(str::to_owned),
            to: to.map(str::to_owned),
            verdict: match (from, to) {
                (None, _) => Fate::Added,
                (_, None) => Fate::Removed,
                (a, b) if a == b => Fate::Unchanged,
                _ => Fate::Updated,
            },
            switched: None,
            why: String::new(),
            variant: None,
        };
        let components = [
            change("halcyon", Kind::Build, Some("5.1.0"), Some("5.4.0")),
            change("bees", Kind::Addon, Some("1"), Some("2")),
            change("drip & co", Kind::Addon, None, Some("3")),
            change("fern", Kind::Addon, Some("4"), None),
            change("quiet", Kind::Addon, Some("5"), Some("5")),
        ];
        let client = |client: &str, before: &str, after: &str| ClientChange {
            client: client.into(),
            title: None,
            before: Some(before.into()),
            after: Some(after.into()),
            by: Vec::new(),
            no_longer: vec![before.into()],
            newly: vec![after.into()],
        };
        let clients = [client("verdance", "5.1", "5.4"), client("visor", "3", "3")];
        let mut notice = Notice::new(
            moment,
            "the <terrace>",
            (Some("5.1.0"), "5.4.0"),
            &components,
            &clients,
        );
        notice.when = Some("tonight at ten".into());
        notice.away = Some("2 minutes".into());
        notice.why = (moment == Moment::Failed).then(|| "the gnomon casts no shadow".into());
        notice.back = moment == Moment::Failed;
        notice
    }

    #[test]
    fn what_players_are_told() {
        let told = |moment, style| notice(moment).told(style, None).unwrap();
        insta::assert_snapshot!(told(Moment::Before, Style::Text), @"
        the <terrace> will be updated tonight at ten, from 5.1.0 to 5.4.0.
        It will be away for about 2 minutes.
        Players with verdance 5.1 can no longer join: 5.4 is needed.

        * bees 1 -> 2
        * new: drip & co 3
        * gone: fern
        ");
        insta::assert_snapshot!(told(Moment::Done, Style::Text), @"
        the <terrace> has been updated, from 5.1.0 to 5.4.0.
        It was away for 2 minutes.
        Players with verdance 5.1 can no longer join: 5.4 is needed.

        * bees 1 -> 2
        * new: drip & co 3
        * gone: fern
        ");
        insta::assert_snapshot!(told(Moment::Failed, Style::Text), @"The update of the <terrace> did not come off: everything is as it was.");
        insta::assert_snapshot!(told(Moment::Before, Style::Markdown), @"
        **the <terrace>** will be updated tonight at ten, from 5.1.0 to **5.4.0**. It will be away for about 2 minutes.

        Players with verdance 5.1 can no longer join: 5.4 is needed.

        - bees 1 → 2
        - new: drip & co 3
        - gone: fern
        ");
        insta::assert_snapshot!(told(Moment::Before, Style::Html), @"
        <p><strong>the &lt;terrace&gt;</strong> will be updated tonight at ten, from 5.1.0 to <strong>5.4.0</strong>. It will be away for about 2 minutes.</p>
        <p>Players with verdance 5.1 can no longer join: 5.4 is needed.</p>
        <ul>
        <li>bees 1 → 2</li>
        <li>new: drip &amp; co 3</li>
        <li>gone: fern</li>
        </ul>
        ");
        let bare = Notice {
            when: None,
            away: None,
            from: None,
            updated: vec![],
            added: vec![],
            removed: vec![],
            players: vec![],
            ..notice(Moment::Before)
        };
        insta::assert_snapshot!(bare.told(Style::Text, None).unwrap(), @"the <terrace> will be updated.");
        let own = notice(Moment::Done)
            .told(
                Style::Text,
                Some("{{ server }}: {{ updated[0].id }} {{ moment }}"),
            )
            .unwrap();
        assert_eq!(own, "the <terrace>: bees done");
        assert!(
            notice(Moment::Done)
                .told(Style::Text, Some("{{ sever }}"))
                .is_err()
        );
    }

    #[test]
    fn a_feed_that_any_reader_reads() {
        let entry = FeedEntry {
            id: urn("a"),
            title: notice(Moment::Done).title(),
            updated: "2026-11-27T22:00:00Z".into(),
            html: "<p>a & b</p>".into(),
        };
        let feed = feed(&urn("b"), "the <terrace>", "2026-11-27T22:00:00Z", &[entry]);
        roxmltree::Document::parse(&feed).unwrap();
        insta::assert_snapshot!(feed, @r#"
        <?xml version="1.0" encoding="utf-8"?>
        <feed xmlns="http://www.w3.org/2005/Atom">
          <id>urn:uuid:10e5cf3d-3c8a-8f9f-b468-c8cc58eea848</id>
          <title>the &lt;terrace&gt;</title>
          <updated>2026-11-27T22:00:00Z</updated>
          <author><name>the &lt;terrace&gt;</name></author>
          <entry>
            <id>urn:uuid:17762fdd-d969-8453-925d-65717ac3eea2</id>
            <title>Done: the &lt;terrace&gt; from 5.1.0 to 5.4.0</title>
            <updated>2026-11-27T22:00:00Z</updated>
            <content type="html">&lt;p&gt;a &amp; b&lt;/p&gt;</content>
          </entry>
        </feed>
        "#);
        assert_ne!(urn("a"), urn("b"));
    }
}
