//! Who is on.

use crate::config::Server;
use crate::console::{Console, ServerState};
use lantern_core::hour::Players;

/// Who is on now, on all of some servers together. On one that is down nobody is.
pub fn who_is_on<'s>(servers: impl Iterator<Item = &'s Server>) -> Players {
    let mut all = 0;
    for one in servers {
        let console = Console::of(one);
        let on = match console.state() {
            Ok(ServerState::Down) => continue,
            Ok(ServerState::Unknown { why }) => return Players::Unknown(why),
            Ok(_) => console.players(),
            Err(error) => return Players::Unknown(error.to_string()),
        };
        match on {
            Ok(Some(names)) => all += names.len(),
            Ok(None) => {
                return Players::Unknown("the family names no way to ask the server".into());
            }
            Err(error) => return Players::Unknown(error.to_string()),
        }
    }
    match all {
        0 => Players::Nobody,
        on => Players::Some(on),
    }
}
