//! What can go wrong between here and a server on the web.

use std::io;
use std::time::Duration;

/// Why an address gave no answer, or none that can be used.
#[derive(Debug, thiserror::Error)]
pub enum WebFault {
    /// It is no address.
    #[error("it is no http or https address")]
    NoAddress,
    /// Nobody knows the host.
    #[error("the host {0} was not found")]
    HostNotFound(String),
    /// Nobody answers there.
    #[error("{host} cannot be reached: {why}")]
    Unreached {
        /// The host.
        host: String,
        /// What the system said.
        why: String,
    },
    /// The host cannot show that it is the one that was asked for.
    #[error("the certificate of {host} is not good: {why}")]
    Certificate {
        /// The host.
        host: String,
        /// What is wrong with it.
        why: String,
    },
    /// It took too long.
    #[error("{0} did not answer in time")]
    Slow(String),
    /// It answered with a status that gives nothing.
    #[error("{host} answered {status}{}", meaning(*status))]
    Status {
        /// The host.
        host: String,
        /// The status.
        status: u16,
        /// How long it wants to be left alone.
        wait: Option<Duration>,
    },
    /// It leads on and on.
    #[error("it leads from one address to another more than {0} times")]
    Circles(usize),
    /// It leads somewhere that files are not fetched from.
    #[error("it leads to {to}, and {why}: that is not followed")]
    LeadsAstray {
        /// Where to.
        to: String,
        /// Why that is no good.
        why: &'static str,
    },
    /// What came was packed in a way that nobody asked for.
    #[error("it answered packed as {0}, which nobody asked for")]
    Packed(String),
    /// More came than there may be.
    #[error("it sends more than {0} bytes, as many as there may be")]
    TooLong(u64),
    /// It broke off.
    #[error("it broke off after {got} bytes: {why}")]
    BrokeOff {
        /// What had come by then.
        got: u64,
        /// What the system said.
        why: String,
    },
    /// A page came where something for programs was to come.
    #[error("a web page came: somebody may have to log in, on this page or to this network")]
    Page,
    /// The usual variables name a proxy that is none.
    #[error("the proxy that the environment names is no address of one")]
    Proxy,
    /// Something else.
    #[error("{0}")]
    Other(String),
}

/// What is wrong with a certificate, in words.
fn of_certificate(text: &str) -> String {
    let text = text.trim_start_matches("invalid peer certificate: ");
    let words = match text {
        _ if text.contains("UnknownIssuer") => "nobody whom this machine believes vouches for it",
        _ if text.contains("NotValidForName") || text.contains("not valid for name") => {
            "it is for another name"
        }
        _ if text.contains("NotValidYet") || text.contains("not valid yet") => {
            "it is not valid yet"
        }
        _ if text.contains("Expired") || text.contains("expired") => "it has expired",
        _ => return text.into(),
    };
    format!("{words} ({text})")
}

fn meaning(status: u16) -> &'static str {
    match status {
        401 | 403 => " (it wants a key, or does not let you in)",
        404 | 410 => " (it is not there)",
        429 => " (it was asked too often)",
        500..=599 => " (it has trouble of its own)",
        _ => "",
    }
}

impl WebFault {
    /// Whether the same may work in a while.
    pub fn may_pass(&self) -> bool {
        match self {
            WebFault::Unreached { .. } | WebFault::Slow(_) | WebFault::BrokeOff { .. } => true,
            WebFault::Status { status, .. } => matches!(status, 408 | 425 | 429 | 500..=599),
            _ => false,
        }
    }

    /// Whether it is the way there, or the host, that is not well: what was had before is as good as ever.
    pub fn may_be_offline(&self) -> bool {
        self.may_pass() || matches!(self, WebFault::HostNotFound(_) | WebFault::Proxy)
    }

    /// How long the host wants to be left alone.
    pub fn wait(&self) -> Option<Duration> {
        match self {
            WebFault::Status { wait, .. } => *wait,
            _ => None,
        }
    }

    pub(super) fn of(host: &str, error: ureq::Error) -> WebFault {
        let host = host.to_owned();
        match error {
            ureq::Error::HostNotFound => WebFault::HostNotFound(host),
            ureq::Error::Timeout(_) => WebFault::Slow(host),
            ureq::Error::InvalidProxyUrl => WebFault::Proxy,
            ureq::Error::BadUri(_) => WebFault::NoAddress,
            ureq::Error::Rustls(error) => WebFault::Certificate {
                host,
                why: of_certificate(&error.to_string()),
            },
            ureq::Error::Io(error) => WebFault::of_io(&host, &error),
            other => WebFault::Unreached {
                host,
                why: other.to_string(),
            },
        }
    }

    fn of_io(host: &str, error: &io::Error) -> WebFault {
        let text = error.to_string();
        // The transport wraps what went wrong between the two hosts.
        if text.contains("certificate") {
            return WebFault::Certificate {
                host: host.into(),
                why: of_certificate(&text),
            };
        }
        if text.contains("lookup address") {
            return WebFault::HostNotFound(host.into());
        }
        if error.kind() == io::ErrorKind::TimedOut {
            return WebFault::Slow(host.into());
        }
        WebFault::Unreached {
            host: host.into(),
            why: crate::told::plain(error),
        }
    }
}
