//! Asking servers on the web: one question, one answer, and nobody is led astray.
//!
//! Only `http` and `https` are asked, certificates are always checked, and where an answer leads on, each step is looked at
//! before it is taken: never from `https` to `http`, never to this machine from elsewhere, never with what was meant for
//! another host.

pub mod fault;

use crate::place::here;
use fault::WebFault;
use std::io::{self, Read};
use std::net::IpAddr;
use std::path::Path;
use std::time::Duration;
use ureq::Agent;
use ureq::http::{HeaderMap, Request, Response};
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use url::{Host, Url};

/// So often is somebody led on at most.
const MOST_STEPS: usize = 10;
/// A connection has to stand by then.
const CONNECT: Duration = Duration::from_secs(20);
/// So long may nothing come.
const SILENCE: Duration = Duration::from_secs(45);
/// Whatever is sent goes at least so fast, in bytes per millisecond.
const SLOWEST_PER_MS: u64 = 20;

/// Asks servers on the web.
#[derive(Debug, Clone)]
pub struct Web(Agent);

/// What is asked for.
#[derive(Debug, Default)]
pub struct Ask {
    /// Header lines for this host and no other.
    pub secret: Vec<(String, String)>,
    /// Header lines.
    pub headers: Vec<(&'static str, String)>,
}

/// What came back: the beginning of an answer, and the rest as it comes.
pub struct Answer {
    /// Where it came from in the end.
    pub url: Url,
    /// Its status.
    pub status: u16,
    /// Its header lines.
    headers: HeaderMap,
    /// What it holds.
    pub body: Box<dyn Read>,
}

impl std::fmt::Debug for Answer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Answer")
            .field("url", &self.url)
            .field("status", &self.status)
            .finish_non_exhaustive()
    }
}

impl Answer {
    /// A header line.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name)?.to_str().ok()
    }

    /// How many bytes it says are to come.
    pub fn length(&self) -> Option<u64> {
        self.header("content-length")?.trim().parse().ok()
    }

    /// Where a part begins, and how long the whole is.
    pub fn part(&self) -> Option<(u64, Option<u64>)> {
        let range = self
            .header("content-range")?
            .trim()
            .strip_prefix("bytes ")?;
        let (span, whole) = range.split_once('/')?;
        let (start, _) = span.split_once('-')?;
        Some((start.parse().ok()?, whole.parse().ok()))
    }

    /// All of it, as long as it is no longer than that.
    ///
    /// # Errors
    /// When it breaks off or goes on and on.
    pub fn read(self, most: u64) -> Result<Vec<u8>, WebFault> {
        let mut bytes = Vec::new();
        let expected = self.length();
        let read = self.body.take(most + 1).read_to_end(&mut bytes);
        let got = bytes.len() as u64;
        let broke = |why: &io::Error| WebFault::BrokeOff {
            got,
            why: crate::told::plain(why),
        };
        read.map_err(|error| broke(&error))?;
        if got > most {
            return Err(WebFault::TooLong(most));
        }
        match expected {
            Some(expected) if expected != got => Err(WebFault::BrokeOff {
                got,
                why: format!("{expected} were to come"),
            }),
            _ => Ok(bytes),
        }
    }
}

impl Web {
    /// Asks as the machine does, and believes who it believes; besides, who a file of certificates (PEM) names.
    ///
    /// # Errors
    /// When that file cannot be read or names nobody.
    pub fn new(own: Option<&Path>) -> crate::Result<Web> {
        let mut certificates: Vec<Certificate<'static>> = Vec::new();
        let system = rustls_native_certs::load_native_certs().certs;
        certificates.extend(
            system
                .iter()
                .map(|certificate| Certificate::from_der(certificate).to_owned()),
        );
        if let Some(path) = own {
            let pem = here::read(path)?;
            let items = ureq::tls::parse_pem(&pem);
            let named = items.filter_map(|item| match item {
                Ok(ureq::tls::PemItem::Certificate(certificate)) => Some(certificate),
                _ => None,
            });
            let before = certificates.len();
            certificates.extend(named);
            if certificates.len() == before {
                return Err(crate::Error::NoCertificate(path.into()));
            }
        }
        let roots = match certificates.is_empty() {
            true => RootCerts::WebPki,
            false => RootCerts::new_with_certs(&certificates),
        };
        let config = Agent::config_builder()
            .tls_config(TlsConfig::builder().root_certs(roots).build())
            .http_status_as_error(false)
            .max_redirects(0)
            .max_redirects_will_error(false)
            .user_agent(concat!("warm-lantern/", env!("CARGO_PKG_VERSION")))
            .accept_encoding("identity")
            .timeout_connect(Some(CONNECT))
            .timeout_resolve(Some(CONNECT))
            .timeout_recv_response(Some(SILENCE))
            .timeout_per_read(Some(SILENCE))
            .max_idle_connections_per_host(8);
        Ok(Web(config.build().into()))
    }

    /// Asks, and follows where that leads.
    ///
    /// # Errors
    /// When nobody answers, what answers cannot be trusted, or the status is none of 200, 206, 304 and 416.
    pub fn get(&self, url: &Url, ask: &Ask) -> Result<Answer, WebFault> {
        let mut at = url.clone();
        for _ in 0..MOST_STEPS {
            let host = host_of(&at);
            let mut request = self.0.get(at.as_str());
            for (name, value) in &ask.headers {
                request = request.header(*name, value);
            }
            if at.origin() == url.origin() {
                for (name, value) in &ask.secret {
                    request = request.header(name, value);
                }
            }
            let response = request.call().map_err(|error| WebFault::of(&host, error))?;
            let status = response.status().as_u16();
            match status {
                200 | 206 | 304 | 416 => return answer(at, status, response),
                301 | 302 | 303 | 307 | 308 => {
                    let to = response.headers().get("location");
                    let to = to.and_then(|to| to.to_str().ok());
                    let to = to.ok_or_else(|| WebFault::Other(format!("{host} leads nowhere")))?;
                    at = next(url, &at, to)?;
                }
                _ => {
                    return Err(WebFault::Status {
                        wait: wait_of(response.headers()),
                        host,
                        status,
                    });
                }
            }
        }
        Err(WebFault::Circles(MOST_STEPS))
    }

    /// Sends something to an address; where that leads on, it is not followed.
    ///
    /// # Errors
    /// When nobody takes it within the limit.
    pub fn post(
        &self,
        url: &Url,
        kind: &str,
        secret: Option<&(String, String)>,
        body: &[u8],
        limit: Duration,
    ) -> Result<(), WebFault> {
        let host = host_of(url);
        let mut request = self.0.post(url.as_str()).header("content-type", kind);
        if let Some((name, value)) = secret {
            request = request.header(name, value);
        }
        let request = request.config().timeout_global(Some(limit)).build();
        let response = request
            .send(body)
            .map_err(|error| WebFault::of(&host, error))?;
        match response.status().as_u16() {
            200..=299 => Ok(()),
            status => Err(WebFault::Status {
                wait: wait_of(response.headers()),
                host,
                status,
            }),
        }
    }
}

impl Web {
    /// Asks once, in whatever way, and is not led on; every status is an answer but those that may pass.
    ///
    /// # Errors
    /// When nobody answers, or it has trouble that may pass.
    pub fn ask(
        &self,
        method: &str,
        url: &Url,
        headers: &[(&'static str, String)],
        body: Option<&[u8]>,
    ) -> Result<Answer, WebFault> {
        let host = host_of(url);
        let mut request = Request::builder().method(method).uri(url.as_str());
        for (name, value) in headers {
            request = request.header(*name, value);
        }
        let of_http = |error: ureq::http::Error| WebFault::Other(error.to_string());
        let response = match body {
            None => self.0.run(request.body(()).map_err(of_http)?),
            Some(body) => {
                let limit = SILENCE + Duration::from_millis(body.len() as u64 / SLOWEST_PER_MS);
                let request = request.body(body).map_err(of_http)?;
                let config = self.0.configure_request(request);
                let request = config.timeout_send_body(Some(limit)).build();
                self.0.run(request)
            }
        };
        let response = response.map_err(|error| WebFault::of(&host, error))?;
        let status = response.status().as_u16();
        let fault = WebFault::Status {
            wait: wait_of(response.headers()),
            host,
            status,
        };
        match fault.may_pass() && status != 501 {
            true => Err(fault),
            false => answer(url.clone(), status, response),
        }
    }
}

fn answer(url: Url, status: u16, response: Response<ureq::Body>) -> Result<Answer, WebFault> {
    let (parts, body) = response.into_parts();
    let packed = parts.headers.get("content-encoding");
    let packed = packed.and_then(|packed| packed.to_str().ok());
    if let Some(packed) = packed.filter(|it| !it.eq_ignore_ascii_case("identity")) {
        return Err(WebFault::Packed(packed.to_owned()));
    }
    Ok(Answer {
        url,
        status,
        headers: parts.headers,
        body: Box::new(body.into_reader()),
    })
}

/// How long a host wants to be left alone: in seconds; a date is taken as a minute.
fn wait_of(headers: &HeaderMap) -> Option<Duration> {
    let text = headers.get("retry-after")?.to_str().ok()?;
    Some(Duration::from_secs(text.trim().parse().unwrap_or(60)))
}

/// Where an answer leads, looked at before it is followed.
fn next(first: &Url, at: &Url, to: &str) -> Result<Url, WebFault> {
    let astray = |why| WebFault::LeadsAstray {
        to: to.to_owned(),
        why,
    };
    let next = at.join(to).map_err(|_| astray("that is no address"))?;
    match (at.scheme(), next.scheme()) {
        ("https", "http") => {
            return Err(astray("what is asked for over https is not had over http"));
        }
        (_, "http" | "https") => {}
        _ => return Err(astray("it is neither http nor https")),
    }
    if is_here(&next) && !is_here(first) {
        return Err(astray("that is this machine"));
    }
    Ok(next)
}

/// Whether somebody elsewhere names an address of this machine: what answers there is none of his business.
pub fn reaches_in(from: &Url, to: &str) -> bool {
    !is_here(from) && Url::parse(to).is_ok_and(|to| is_here(&to))
}

/// Whether an address is one of this machine.
pub fn is_here(url: &Url) -> bool {
    let of_address = |address: IpAddr| address.is_loopback() || address.is_unspecified();
    match url.host() {
        Some(Host::Domain(name)) => {
            let name = name.trim_end_matches('.');
            name == "localhost" || name.ends_with(".localhost")
        }
        Some(Host::Ipv4(address)) => of_address(address.into()),
        Some(Host::Ipv6(address)) => {
            of_address(address.into())
                || address
                    .to_ipv4_mapped()
                    .is_some_and(|it| of_address(it.into()))
        }
        None => true,
    }
}

/// The host of an address, with its port where that is an unusual one.
pub fn host_of(url: &Url) -> String {
    let host = url.host_str().unwrap_or_default();
    match url.port() {
        Some(port) => format!("{host}:{port}"),
        None => host.to_owned(),
    }
}

/// Reads an address to ask.
///
/// # Errors
/// When it is none, or neither `http` nor `https`.
pub fn address(text: &str) -> Result<Url, WebFault> {
    let url = Url::parse(text).map_err(|_| WebFault::NoAddress)?;
    match (url.scheme(), url.has_host()) {
        ("http" | "https", true) => Ok(url),
        _ => Err(WebFault::NoAddress),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nobody_is_led_astray() {
        let led = |first: &str, at: &str, to: &str| {
            let (first, at) = (address(first).unwrap(), address(at).unwrap());
            next(&first, &at, to)
                .map(|url| url.to_string())
                .map_err(|fault| fault.to_string())
        };
        let out = "https://depot.example/a/b";
        assert_eq!(led(out, out, "../c").unwrap(), "https://depot.example/c");
        assert_eq!(
            led(out, out, "//other.example/").unwrap(),
            "https://other.example/"
        );
        for to in [
            "http://depot.example/a/b",
            "file:///etc/passwd",
            "https://localhost/x",
            "https://127.0.0.1/x",
            "https://[::1]/x",
            "https://[::ffff:127.0.0.1]/x",
            "https://a.localhost./x",
            "https://0.0.0.0/",
            "https://",
        ] {
            assert!(led(out, out, to).is_err(), "{to}");
        }
        let out = address(out).unwrap();
        assert!(
            reaches_in(&out, "http://localhost:8080/")
                && !reaches_in(&out, "http://other.example/")
        );
        let own = "http://127.0.0.1:8000/x";
        assert_eq!(
            led(own, own, "http://localhost:1/").unwrap(),
            "http://localhost:1/"
        );
    }
}
