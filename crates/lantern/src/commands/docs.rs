//! `lantern docs` and `lantern man`: a lone binary explains itself.

use crate::answers;
use crate::fail;
use crate::look::{Look, Means, count};
use clap::{Args, ValueEnum};
use lantern_host::place::here;
use lantern_host::{Error, Result};
use std::path::PathBuf;

/// Show a page of the documentation: the guide, a format, the findings
#[derive(Debug, Args)]
pub struct DocsArgs {
    /// The page; without one, the list of all
    page: Option<Page>,
}

/// Write manual pages of all commands into a folder
#[derive(Debug, Args)]
pub struct ManArgs {
    /// The folder; it is made where it is not there
    dir: PathBuf,
}

/// The pages that every binary carries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Page {
    /// A night's work, step by step
    Guide,
    /// A family file in twenty minutes
    Families,
    /// How settings and edits are carried over
    Settings,
    /// Every code that a survey can show
    Findings,
    /// Nights by themselves: files for service managers
    Units,
    /// What is promised, and what is not
    Safety,
    /// Settings of a server: lantern.toml
    LanternToml,
    /// Family files
    Family,
    /// Catalogues
    Catalogue,
    /// Other people's listings of releases
    Listing,
    /// Plans
    Plan,
    /// Lists of what players' clients must have
    ClientList,
    /// Saved questions
    Request,
    /// Servers that move together
    Group,
    /// What two lanterns say to one another
    Lines,
    /// What was learned of releases
    Learned,
    /// Proofs that nothing fits
    Proof,
    /// The store of backups
    Store,
    /// Answers in JSON
    Json,
}

impl Page {
    fn text(self) -> &'static str {
        match self {
            Page::Guide => include_str!("../../../../docs/guide.md"),
            Page::Families => include_str!("../../../../docs/families.md"),
            Page::Settings => include_str!("../../../../docs/settings.md"),
            Page::Findings => include_str!("../../../../docs/findings.md"),
            Page::Units => include_str!("../../../../docs/units.md"),
            Page::Safety => include_str!("../../../../docs/safety.md"),
            Page::LanternToml => include_str!("../../../../docs/formats/lantern-toml.md"),
            Page::Family => include_str!("../../../../docs/formats/family.md"),
            Page::Catalogue => include_str!("../../../../docs/formats/catalogue.md"),
            Page::Listing => include_str!("../../../../docs/formats/listing.md"),
            Page::Plan => include_str!("../../../../docs/formats/plan.md"),
            Page::ClientList => include_str!("../../../../docs/formats/client-list.md"),
            Page::Request => include_str!("../../../../docs/formats/request.md"),
            Page::Group => include_str!("../../../../docs/formats/group.md"),
            Page::Lines => include_str!("../../../../docs/formats/lines.md"),
            Page::Learned => include_str!("../../../../docs/formats/learned.md"),
            Page::Proof => include_str!("../../../../docs/formats/proof.md"),
            Page::Store => include_str!("../../../../docs/formats/store.md"),
            Page::Json => include_str!("../../../../docs/formats/json.md"),
        }
    }
}

/// Shows a page, or which there are.
pub fn show(args: &DocsArgs, look: &Look) -> Result<u8> {
    let all = || {
        let pages = Page::value_variants().iter().filter_map(|page| {
            let value = page.to_possible_value()?;
            let about = value.get_help().map(ToString::to_string);
            Some((value.get_name().to_owned(), about.unwrap_or_default()))
        });
        pages.collect::<Vec<(String, String)>>()
    };
    if look.json {
        let pages = all().into_iter();
        look.answer(&answers::Pages {
            pages: pages
                .map(|(name, about)| answers::DocsPage { name, about })
                .collect(),
            text: args.page.map(Page::text),
        });
        return Ok(fail::DONE);
    }
    if let Some(page) = args.page {
        look.say(page.text().trim_end());
        return Ok(fail::DONE);
    }
    look.say(&look.paint(Means::Title, "Pages:"));
    look.say("");
    let rows = all().into_iter().map(|(name, about)| vec![name, about]);
    look.table(&["name", "what"], rows.collect());
    look.next("lantern docs guide");
    Ok(fail::DONE)
}

/// Writes the manual pages of a command and of all below it.
pub fn write_man(args: &ManArgs, command: clap::Command, look: &Look) -> Result<u8> {
    here::make_folders(&args.dir)?;
    let mut pages = Vec::new();
    collect("lantern", command, &mut pages);
    for (name, page) in &pages {
        let path = args.dir.join(format!("{name}.1"));
        let mut text = Vec::new();
        let rendered = page.render(&mut text);
        rendered.map_err(|source| Error::Io {
            doing: "writing",
            path: path.clone(),
            source,
        })?;
        here::write(&path, &text)?;
    }
    if look.json {
        let pages = pages.into_iter().map(|(name, _)| format!("{name}.1"));
        look.answer(&answers::Manual {
            folder: args.dir.clone(),
            pages: pages.collect(),
        });
        return Ok(fail::DONE);
    }
    let pages = count(pages.len(), "manual page", "manual pages");
    look.say(&format!("{pages} are in {}.", args.dir.display()));
    Ok(fail::DONE)
}

/// The manual pages of a command and of those below it, by name.
fn collect(name: &str, command: clap::Command, pages: &mut Vec<(String, clap_mangen::Man)>) {
    for below in command.get_subcommands() {
        if below.get_name() != "help" {
            collect(
                &format!("{name}-{}", below.get_name()),
                below.clone(),
                pages,
            );
        }
    }
    let named = command.name(name.to_owned()).disable_help_subcommand(true);
    pages.push((name.to_owned(), clap_mangen::Man::new(named)));
}
