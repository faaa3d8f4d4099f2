//! `lantern far-end`: the other end of a session, for lanterns on other machines.

use super::group::there::{CarryOut, Decide, Does, Prepare, PrepareBack, TakeBack};
use crate::common::Common;
use crate::fail;
use crate::look::Look;
use lantern_host::group::errands;
use lantern_host::session::Errand;
use lantern_host::session::lines::Failed;
use lantern_host::session::serve::{Teller, serve};
use lantern_host::{Error, Result};
use serde_json::Value;
use std::io::{BufReader, IsTerminal};
use std::path::Path;

/// Answers what a lantern on another machine asks, line by line, until it asks no more.
pub fn run(common: &Common, look: &Look) -> Result<u8> {
    if std::io::stdin().is_terminal() {
        look.talk("This is for lanterns on other machines: lantern docs lines says what they say to one another.");
        return Ok(fail::NO);
    }
    let does = |name: &str, at: &Path, of: Value, teller: &Teller| {
        let own = common.of(at);
        done(name, &own, of, look, teller).map_err(|error| Failed {
            why: error.to_string(),
            advice: fail::advice(&error, &own),
            status: fail::status(&error),
        })
    };
    let input = BufReader::new(std::io::stdin());
    serve(input, std::io::stdout(), env!("CARGO_PKG_VERSION"), &does)?;
    Ok(fail::DONE)
}

fn done(name: &str, common: &Common, of: Value, look: &Look, teller: &Teller) -> Result<Value> {
    fn one<E: Does>(common: &Common, of: Value, look: &Look, teller: &Teller) -> Result<Value> {
        let unread = |error: serde_json::Error| Error::Misasked(error.to_string());
        let errand: E = serde_json::from_value(of).map_err(unread)?;
        serde_json::to_value(errand.does(common, look, teller)?).map_err(unread)
    }
    let tells = teller.clone();
    let look = look.heard_by(move |line| tells.talk(line));
    let does: fn(&Common, Value, &Look, &Teller) -> Result<Value> = match name {
        Prepare::NAME => one::<Prepare>,
        CarryOut::NAME => one::<CarryOut>,
        PrepareBack::NAME => one::<PrepareBack>,
        TakeBack::NAME => one::<TakeBack>,
        Decide::NAME => one::<Decide>,
        _ => {
            let unknown = || Error::Misasked(format!("{name} is nothing that is done here"));
            return errands::run(name, &common.server, of).unwrap_or_else(|| Err(unknown()));
        }
    };
    does(common, of, &look, teller)
}
