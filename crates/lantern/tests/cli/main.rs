//! End to end: the built program on files in a temporary folder.
//!
//! Each snapshot holds what an administrator types and all that comes back. Environment, width and
//! time zone are fixed; paths, times, ports and process numbers are replaced by words.

mod answers;
mod backups;
mod bad_input;
mod beside;
mod clients;
mod consoles;
mod copies;
mod culprits;
mod cut_off;
mod doors;
mod downloads;
#[cfg(unix)]
mod far;
mod formats;
mod full_disk;
mod gather;
mod groups;
mod hedge;
mod hostile_text;
mod keep_up;
mod kills;
mod launch;
mod layers;
mod links;
mod lists;
mod meadow;
mod meanwhile;
mod meddling;
mod named_hashes;
mod night;
mod nights;
mod notices;
mod objects;
mod order_by_name;
mod owners;
mod pages;
mod parts;
mod questions;
mod real_plugins;
mod real_program;
mod real_rules;
mod real_server;
mod rehearsals;
mod release_links;
mod sections;
mod settings;
mod several;
mod stores;
mod story;
mod survey;
mod switching;
#[cfg(unix)]
mod there;
mod together;
mod turns;
mod watches;
mod world;
