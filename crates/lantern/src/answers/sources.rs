//! Where releases come from, and what was fetched of them.

use super::PlaceWhy;
use lantern_core::descriptor::Told;
use lantern_core::supply::{HashKind, Supply};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// `acquire`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Acquired {
    /// Where the results are.
    pub folder: PathBuf,
    /// The results, relative to it.
    pub results: Vec<String>,
    /// What the recipe printed.
    pub log: PathBuf,
    /// The version of the release that it is; none where it is no release.
    pub version: Option<String>,
    /// Why it is no release, where it is none.
    pub no_release: Option<String>,
    /// The runtime that was found.
    pub runtime: Option<RuntimeFound>,
    /// How it ended, where that was a failure that the recipe allows.
    pub failed: Option<String>,
}

/// The runtime of a recipe.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RuntimeFound {
    /// Its program; none where only its version was asked for.
    pub program: Option<String>,
    /// Its version.
    pub version: String,
}

/// `catalogue check`, of a mapping for somebody else's listing
#[derive(Debug, Serialize, JsonSchema)]
pub struct ListingChecked {
    /// The address that was asked.
    pub url: String,
    /// What was made of its answer.
    pub releases: Vec<ListedRelease>,
}

/// `catalogue new`
#[derive(Debug, Serialize, JsonSchema)]
pub struct ListingDrafted {
    /// Where it was written.
    pub file: Option<PathBuf>,
    /// The draft.
    pub text: String,
}

/// A release of somebody else's listing, with what the mapping makes of it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ListedRelease {
    /// What was found where.
    pub facts: Vec<Told>,
    /// Its id here.
    pub id: Option<String>,
    /// Its version.
    pub version: Option<String>,
    /// Where its file can be had, with its hashes.
    pub file: Option<Supply>,
    /// Why it cannot be used.
    pub problem: Option<String>,
}

/// `catalogue sign`
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogueSigned {
    /// Where the signature lies.
    pub signature: PathBuf,
    /// The key by which it can be checked, for lantern.toml.
    pub key: String,
}

/// `plan`, where files have to be fetched first
#[derive(Debug, Serialize, JsonSchema)]
pub struct PlanWaits {
    /// What has to be fetched.
    pub files: Vec<WantedFile>,
}

/// A file that has to be fetched.
#[derive(Debug, Serialize, JsonSchema)]
pub struct WantedFile {
    /// What it is for: a release.
    pub what: String,
    /// Where it can be had.
    pub file: Supply,
}

/// `gather`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Gathered {
    /// Whether every file is here.
    pub complete: bool,
    /// What came.
    pub fetched: Vec<Fetched>,
    /// What did not.
    pub missing: Vec<Unfetched>,
}

/// A file that was fetched, or was there already.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Fetched {
    /// What it is for.
    pub what: String,
    /// Where it lies.
    pub file: PathBuf,
    /// Its size in bytes.
    pub bytes: u64,
    /// The host or the path that it came from; empty where it was in the store.
    pub from: String,
    /// How many bytes of it were there already.
    pub resumed: u64,
    /// The hash that it was held against; none where nobody states one, or it was held against it before.
    pub checked: Option<HashKind>,
}

/// A file that could not be fetched.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Unfetched {
    /// What it is for.
    pub what: String,
    /// What it is called.
    pub name: String,
    /// Its size in bytes, where it is stated.
    pub bytes: Option<u64>,
    /// The page where a person can fetch it.
    pub page: Option<String>,
    /// Why only a person can fetch it.
    pub by_person: Option<String>,
    /// The addresses that were tried.
    pub tried: Vec<TriedUrl>,
}

/// An address that gave no file.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TriedUrl {
    /// The address.
    pub url: String,
    /// What went wrong.
    pub why: String,
}

/// `gather --clean`
#[derive(Debug, Serialize, JsonSchema)]
pub struct StoreCleaned {
    /// Where the store is.
    pub store: PathBuf,
    /// How many files were removed.
    pub removed: usize,
    /// How much that was, in bytes.
    pub removed_bytes: u64,
    /// How many files are left.
    pub left: usize,
    /// How much that is, in bytes.
    pub left_bytes: u64,
}

/// `catalogue make`
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogueMade<'a> {
    /// Where it is; none where there was nothing to put into it.
    pub file: Option<&'a std::path::Path>,
    /// How many releases are in it.
    pub releases: usize,
    /// What of the folder is not.
    pub left_out: Vec<PlaceWhy>,
}

/// `catalogue check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct CatalogueChecked {
    /// How many releases could be read.
    pub releases: usize,
    /// Of how many components.
    pub components: usize,
    /// How many of the releases are not here, but at an address: nobody looked at those.
    pub elsewhere: usize,
    /// What is wrong.
    pub wrong: Vec<PlaceWhy>,
}
