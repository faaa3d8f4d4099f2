//! Several servers of one install, as its start scripts tell them.

use crate::config::{self, Server};
use crate::error::Result;
use crate::folder::Listing;
use crate::survey::scripts_in;
use lantern_core::family::Launch;
use lantern_core::launch::{Drafted, several};
use std::collections::BTreeMap;

/// The servers that the start scripts of a folder start; none where it is only one.
///
/// # Errors
/// When the folder cannot be listed, or a script cannot be read.
pub fn drafted(server: &Server) -> Result<Vec<Drafted>> {
    drafted_in(server, &server.folder.list()?)
}

/// As [`drafted`], of a folder that was just listed.
///
/// # Errors
/// When a script cannot be read.
pub fn drafted_in(server: &Server, listing: &Listing) -> Result<Vec<Drafted>> {
    let texts = scripts_in(server, listing)?;
    let texts: BTreeMap<_, _> = texts
        .iter()
        .filter(|(_, text)| text.is_plain())
        .map(|(path, text)| (path.clone(), text.as_str()))
        .collect();
    let paths = listing.files.iter().map(|(path, _)| path.as_str());
    let paths = paths.collect();
    // As it is without what is stated of them already.
    let family = config::family(&server.config.family, server.folder.root())?;
    let launch = Launch {
        command: family.launch.command.clone(),
        ..server.launch()
    };
    Ok(several(&family, &launch, &texts, &paths))
}

/// They as `lantern.toml` states them.
pub fn blocks(servers: &[Drafted]) -> String {
    let quoted = |text: &str| toml_edit::Value::from(text).to_string();
    let blocks = servers.iter().map(|one| {
        let pairs = one.instead.iter();
        let pairs = pairs.map(|(key, other)| format!("{} = {}", quoted(key), quoted(other)));
        let pairs: Vec<String> = pairs.collect();
        let instead = match pairs.is_empty() {
            true => "instead = {}    # it has what the family names".to_owned(),
            false => format!("instead = {{ {} }}", pairs.join(", ")),
        };
        let keep: Vec<String> = one.keep.iter().map(|path| quoted(path)).collect();
        let keep = match keep.is_empty() {
            true => String::new(),
            false => format!("keep = [{}]\n", keep.join(", ")),
        };
        format!(
            "[[server]]\nname = {}\n{instead}\n{keep}",
            quoted(&one.name)
        )
    });
    blocks.collect::<Vec<String>>().join("\n")
}
