//! Lines that are cut, for tests: what is asked of a host is counted, and at one of them its line ends.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, MutexGuard, PoisonError};

/// How a line is cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// Before what is asked is done.
    Before,
    /// When it is done, and nobody hears of that.
    After,
    /// Before it is done, and the host is not reached again.
    Gone,
}

#[derive(Default)]
struct Host {
    asked: u64,
    cut: Option<(u64, How)>,
}

static HOSTS: LazyLock<Mutex<HashMap<String, Host>>> = LazyLock::new(Mutex::default);

fn hosts() -> MutexGuard<'static, HashMap<String, Host>> {
    HOSTS.lock().unwrap_or_else(PoisonError::into_inner)
}

/// From now on it is counted, and cut at one; never, where that is none.
pub fn at(host: &str, cut: Option<(u64, How)>) {
    hosts().insert(host.to_owned(), Host { asked: 0, cut });
}

/// It is reached again; how often it was asked something.
pub fn heal(host: &str) -> u64 {
    hosts().remove(host).map_or(0, |host| host.asked)
}

pub fn is_gone(host: &str) -> bool {
    let hosts = hosts();
    let cut = hosts
        .get(host)
        .and_then(|host| Some((host.asked, host.cut?)));
    cut.is_some_and(|(asked, (at, how))| how == How::Gone && asked > at)
}

pub fn is_due(host: &str) -> Option<How> {
    let mut hosts = hosts();
    let host = hosts.get_mut(host)?;
    host.asked += 1;
    let (at, how) = host.cut?;
    let is_now = host.asked - 1 == at || how == How::Gone && host.asked > at;
    is_now.then_some(how)
}
