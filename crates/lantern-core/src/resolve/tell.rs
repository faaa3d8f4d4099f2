//! What stands in the way, in words for an administrator.

use super::{Fact, Obstacle};
use crate::version::Version;
use std::fmt;

impl fmt::Display for Obstacle {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let together = self
            .facts
            .iter()
            .filter(|fact| matches!(fact, Fact::Meets { .. }))
            .count();
        if together > 0 {
            writeln!(f, "These cannot hold together:")?;
        }
        let lines: Vec<String> = self.facts.iter().map(ToString::to_string).collect();
        f.write_str(&lines.join("\n"))
    }
}

impl fmt::Display for Fact {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Fact::NoBuild { target, there } if there.is_empty() => {
                write!(f, "Server {target} is not offered; no server build is.")
            }
            Fact::NoBuild { target, there } => write!(
                f,
                "Server {target} is not among the builds that are offered: {}.",
                list(there)
            ),
            Fact::NoRelease {
                id,
                held,
                known,
                target,
            } => {
                let known: Vec<String> = known
                    .iter()
                    .map(|(version, server)| {
                        let here = if Some(version) == held.as_ref() {
                            " (installed)"
                        } else {
                            ""
                        };
                        match server {
                            Some(range) if range.holds_early(target) => {
                                format!("{version}{here} is for {range}, but is a pre-release")
                            }
                            Some(range) => format!("{version}{here} is for {range}"),
                            None => format!("{version}{here} does not say for which"),
                        }
                    })
                    .collect();
                let known = known.join("; ");
                write!(
                    f,
                    "There is no release of {id} for server {target}: {known}."
                )
            }
            Fact::NotOffered {
                by: (id, version),
                need,
                there,
            } => {
                let have = match there.len() {
                    0 => "which nobody offers".to_owned(),
                    1 => format!("but only {} is offered", there[0]),
                    _ => format!("but only {} are offered", list(there)),
                };
                write!(f, "{id} {version} needs {need}, {have}.")
            }
            Fact::Meets {
                by: (id, version),
                need,
                clash: true,
            } => {
                write!(f, "{id} {version} clashes with {need}.")
            }
            Fact::Meets {
                by: (id, version),
                need,
                clash: false,
            } => {
                write!(f, "{id} {version} needs {need}.")
            }
            Fact::GaveUp { steps } => {
                write!(
                    f,
                    "No answer was found in {steps} steps; there may still be one."
                )
            }
        }
    }
}

fn list(versions: &[Version]) -> String {
    versions
        .iter()
        .map(Version::as_str)
        .collect::<Vec<_>>()
        .join(", ")
}
