//! Warm Lantern's hands: everything that touches the world outside the program.
//!
//! | room | what it touches |
//! |---|---|
//! | [`place`] | the disk: a folder with the few operations that all else is made of |
//! | [`runner`] | the machine: processes, ports, programs |
//! | [`folder`] | the server folder, and nothing outside it |
//! | [`config`] | `lantern.toml`, and the family file it names |
//! | [`ledger`] | `.lantern/ledger.db` |
//! | [`identity`] | whether the folder is the one that was taken into care |
//! | [`interrupt`] | what becomes of Ctrl-C |
//! | [`known`] | where the servers are that this user has in care, by name |
//! | [`difference`] | how files differ from what was shipped, set aside, or is planned |
//! | [`glance`] | what can be said of a server at once |
//! | [`group`] | how the members of a group are, and what they carry |
//! | [`meter`] | how far long work has come |
//! | [`lock`] | `.lantern/lock`: one lantern at a time in one folder |
//! | [`archive`] | zip archives, checked before anything is unpacked |
//! | [`survey`] | the whole folder, read into an inventory |
//! | [`web`] | servers on the web, asked one question at a time |
//! | [`gather`] | the store of what was fetched, and the fetching |
//! | [`signing`] | signatures of catalogues |
//! | [`depot`] | catalogues and drop folders |
//! | [`editions`] | what lies among downloads and is not what is wanted |
//! | [`listings`] | other people's listings, asked page by page |
//! | [`recognised`] | installed files that state no version, known by a hash on offer |
//! | [`listing`] | catalogues made of folders of releases |
//! | [`planning`] | from the question to the plan |
//! | [`editor`] | the administrator's own editor |
//! | [`armed`] | `.lantern/armed.json`: which plan is carried out when none is named |
//! | [`backup`] | `.lantern/store`: what is on the keep list, by content |
//! | [`console`] | the server's process, port and open files, its input and output |
//! | [`verify`] | what a running server shows |
//! | [`session`] | a lantern on another machine, asked line by line |
//! | [`rehearsal`] | a plan carried out on a copy first |
//! | [`changeover`] | carrying a plan out, going back, `.lantern/journal.json` |

// Tests look at the real disk beside what they test.
#![cfg_attr(test, allow(clippy::disallowed_methods, clippy::disallowed_types))]

pub mod acquire;
pub mod adopt;
pub mod archive;
pub mod armed;
pub mod backup;
pub mod changeover;
pub mod clients;
pub mod config;
pub mod console;
pub mod culprit;
pub mod depot;
mod descriptors;
pub mod difference;
pub mod downloads;
pub mod editions;
pub mod editor;
mod error;
pub mod folder;
mod format1;
pub mod gather;
pub mod glance;
pub mod group;
pub mod history;
pub mod identity;
pub mod interrupt;
pub mod keep_up;
pub mod known;
mod laid;
mod layers;
pub mod learned;
pub mod ledger;
pub mod listing;
pub mod listings;
pub mod lock;
pub mod meeting;
pub mod meter;
pub mod night;
pub mod person;
pub mod place;
pub mod planning;
pub mod recognised;
pub mod records;
pub mod rehearsal;
pub mod release;
pub mod runner;
pub mod session;
mod shell;
pub mod shipped;
pub mod signing;
pub mod survey;
pub mod telling;
pub mod told;
pub mod trial;
pub mod unattended;
pub mod verify;
pub mod watch;
pub mod web;

pub use error::{Error, Result};
