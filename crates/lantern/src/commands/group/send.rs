//! `lantern group send`

use super::names;
use crate::answers::group::{GroupMachine, GroupSent};
use crate::common::{Common, shell_word};
use crate::fail;
use crate::look::{Look, Means, bytes};
use crate::progress::during;
use lantern_host::group::Found;
use lantern_host::group::fault::GroupFault;
use lantern_host::{Error, Result};
use std::path::Path;

/// Puts this very program where lanterns work for the group; the exit status is that of the first machine that does not take it.
pub fn run(file: &Path, common: &Common, look: &Look) -> Result<u8> {
    let found = Found::read(file)?;
    if found.machines().is_empty() {
        return Err(GroupFault::NobodyThere.into());
    }
    let sent = during("this program is sent", || found.send());
    let seen = during("servers are looked at", || found.glanced());
    let mut status = fail::DONE;
    let mut machines = Vec::new();
    let mut adopts = None;
    for (there, servers, came) in &sent {
        let (means, told) = match came {
            Ok(sent) => match sent.bytes {
                Some(size) => (
                    Means::Good,
                    format!("sent, {}, and it runs there", bytes(size)),
                ),
                None => (Means::Good, "was there, and runs".to_owned()),
            },
            Err(error) => {
                status = fail::ERROR;
                let told = match error {
                    Error::Session { fault, .. } => fault.to_string(),
                    other => other.to_string(),
                };
                (Means::Bad, told)
            }
        };
        machines.push(GroupMachine {
            machine: there.machine(),
            servers: servers
                .iter()
                .map(|it| found.group.servers[*it].called().to_owned())
                .collect(),
            sent: came.as_ref().ok().map(|it| it.bytes.is_some()),
            fault: came.as_ref().err().map(Error::to_string),
        });
        if look.json {
            continue;
        }
        look.say(&format!(
            "{}: {}",
            there.machine(),
            look.paint(means, &told)
        ));
        look.say(&format!("  for {}", names(&found, servers)));
        for line in came
            .as_ref()
            .err()
            .iter()
            .flat_map(|error| fail::advice(error, common))
        {
            look.say(&format!("  {line}"));
        }
        for index in servers.iter().filter(|_| came.is_ok()) {
            if let Err(error) = &seen[*index] {
                let why = error.to_string();
                let why = why.lines().next().unwrap_or_default();
                let name = found.group.servers[*index].called();
                look.say(&look.paint(Means::Bad, &format!("  {name}: {why}")));
                status = fail::ERROR;
                adopts = adopts.or(Some(*index));
            }
        }
    }
    if look.json {
        look.answer(&GroupSent {
            group: found.group.name.clone(),
            machines,
        });
        return Ok(status);
    }
    match adopts {
        Some(index) => {
            look.say("\nA server there has to be in care of the lantern there: what kind it is says --family.");
            look.next(&found.members[index].adopts(shell_word)?);
        }
        None if status == fail::DONE => {
            look.next(&format!("lantern group survey {}", shell_word(file)));
        }
        None => {}
    }
    Ok(status)
}
