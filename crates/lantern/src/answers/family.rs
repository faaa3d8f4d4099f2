//! Family files and documentation.

use lantern_core::check::Remark;
use lantern_host::trial::{ReleaseTried, Trial};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// `family check`
#[derive(Debug, Serialize, JsonSchema)]
pub struct FamilyChecked<'a> {
    /// The family.
    pub family: &'a str,
    /// Whether there is nothing to remark.
    pub sound: bool,
    /// What cannot be meant so.
    pub remarks: &'a [Remark],
    /// What it made of a folder, where it was tried on one.
    pub trial: Option<&'a Trial>,
    /// What it made of releases.
    pub releases: &'a [ReleaseTried],
}

/// `family new`
#[derive(Debug, Serialize, JsonSchema)]
pub struct FamilyDraft {
    /// The draft itself.
    pub family: String,
}

/// `family new --out`
#[derive(Debug, Serialize, JsonSchema)]
pub struct FamilyWritten<'a> {
    /// Where the draft is.
    pub file: &'a std::path::Path,
}

/// `docs`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Pages {
    /// All pages.
    pub pages: Vec<DocsPage>,
    /// The one that was asked for, in Markdown.
    pub text: Option<&'static str>,
}

/// One page of the documentation.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DocsPage {
    /// What it is asked for by.
    pub name: String,
    /// What it tells.
    pub about: String,
}

/// `man`
#[derive(Debug, Serialize, JsonSchema)]
pub struct Manual {
    /// The folder.
    pub folder: PathBuf,
    /// The files in it.
    pub pages: Vec<String>,
}
