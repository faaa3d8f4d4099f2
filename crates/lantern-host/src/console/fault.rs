//! Why the server cannot be seen, stopped, started or spoken to.

/// Why the server cannot be seen, stopped, started or spoken to.
#[derive(Debug, thiserror::Error)]
pub enum ConsoleFault {
    /// The server was asked to stop and did not.
    #[error(
        "the server was asked to stop and is still there after {seconds} s ({who}); no file was touched"
    )]
    DidNotStop {
        /// How long it was waited for.
        seconds: u64,
        /// How it was seen.
        who: String,
    },
    /// Somebody was asked to start or stop the server by hand, and it was not done in time.
    #[error("nobody has {what} the server within {seconds} s ({who})")]
    NotByHand {
        /// What was to be done to it: `stopped`.
        what: &'static str,
        /// How long it was waited for.
        seconds: u64,
        /// How it was seen.
        who: String,
    },
    /// The server did not come up.
    #[error("the server did not come up: {why}")]
    DidNotStart {
        /// Why, as far as can be told.
        why: String,
        /// The last lines that it printed.
        last: Vec<String>,
    },
    /// The server runs and nothing reaches its console.
    #[error("the server is running ({who}), and lantern cannot reach its console")]
    NoConsole {
        /// The process and how it was seen.
        who: String,
    },
    /// Something started the server again after it had been stopped.
    #[error("something has started the server again: {who}")]
    StartedAgain {
        /// How that was seen.
        who: String,
    },
    /// It runs on another machine, and nothing is stated that reaches its console.
    #[error(
        "the server runs on another machine, and nothing in lantern.toml says how its console is reached"
    )]
    NoLine,
    /// The console did not answer.
    #[error("the console did not answer \"{line}\", or not to the end that its family names")]
    NoAnswer {
        /// What it was asked.
        line: String,
    },
    /// A command line of lantern.toml did not do what it is there for.
    #[error("{command}: {why}")]
    CommandLine {
        /// The command line.
        command: String,
        /// What happened.
        why: String,
    },
    /// The remote console cannot be used.
    #[error("the remote console at {address} {why}")]
    Remote {
        /// Where it is.
        address: String,
        /// Why not.
        why: String,
    },
    /// Somebody who was waited for wants all to be as before.
    #[error("you asked for it to go back")]
    CalledBack,
    /// Somebody called the start of a copy off.
    #[error("the start was called off")]
    CalledOff,
    /// Another process than the server's own writes its files.
    #[error("something else is using this server's files: {who}")]
    Second {
        /// The process, and what it writes.
        who: String,
    },
    /// The server is up already.
    #[error("the server is up already: {who}")]
    AlreadyUp {
        /// How that was seen.
        who: String,
    },
    /// Whether the server is up cannot be told.
    #[error("it cannot be told whether the server is up: {why}")]
    Unseen {
        /// What cannot be seen.
        why: String,
    },
}
