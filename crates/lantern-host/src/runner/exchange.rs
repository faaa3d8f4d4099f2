//! One question to a port, and what is answered there.

#![allow(clippy::disallowed_methods)] // The place where the machine is.

use lantern_core::family::Transport;
use std::io::{ErrorKind, Read, Write};
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr, TcpStream, ToSocketAddrs, UdpSocket};
use std::time::{Duration, Instant};

/// How long an answer is waited for, all in all.
const LIMIT: Duration = Duration::from_secs(3);
/// A datagram may be lost: after so long without an answer it is sent again.
const AGAIN: Duration = Duration::from_secs(1);
/// After so long without more, the answer of a server that does not hang up is taken as whole.
const QUIET: Duration = Duration::from_millis(300);
/// The longest answer that is read, in bytes.
const LONGEST_ANSWER: usize = 64 << 10;

/// Sends bytes to a port of a host, and gives what comes back in three seconds; what came before it broke off counts.
pub(super) fn exchange(transport: Transport, host: &str, port: u16, bytes: &[u8]) -> Vec<u8> {
    let mut answer = Vec::new();
    let Some(to) = addresses(host, port)
        .ok()
        .and_then(|all| all.first().copied())
    else {
        return answer;
    };
    let _ = match transport {
        Transport::Tcp => over_tcp(to, bytes, &mut answer),
        Transport::Udp => over_udp(to, bytes, &mut answer),
    };
    answer
}

/// Whether something takes a connection at a port of a host; false where that is refused.
///
/// # Errors
/// When the host is not found, or nothing comes back.
pub(super) fn reaches(host: &str, port: u16) -> std::io::Result<bool> {
    let mut last = None;
    for to in addresses(host, port)? {
        match TcpStream::connect_timeout(&to, LIMIT) {
            Ok(_) => return Ok(true),
            Err(error) if error.kind() == ErrorKind::ConnectionRefused => {}
            Err(_) => last = Some(std::io::Error::other("nothing comes back")),
        }
    }
    last.map_or(Ok(false), Err)
}

/// Where a host is: its addresses of the older kind first, which more servers listen on.
fn addresses(host: &str, port: u16) -> std::io::Result<Vec<SocketAddr>> {
    let found = (host, port).to_socket_addrs();
    let found = found.map_err(|_| std::io::Error::other("there is no such host"))?;
    let mut found: Vec<SocketAddr> = found.collect();
    found.sort_by_key(SocketAddr::is_ipv6);
    Ok(found)
}

fn over_tcp(to: SocketAddr, bytes: &[u8], answer: &mut Vec<u8>) -> std::io::Result<()> {
    let until = Instant::now() + LIMIT;
    let mut stream = TcpStream::connect_timeout(&to, LIMIT)?;
    stream.set_write_timeout(Some(LIMIT))?;
    stream.write_all(bytes)?;
    let mut part = [0; 4096];
    while answer.len() < LONGEST_ANSWER {
        let left = until.saturating_duration_since(Instant::now());
        let wait = if answer.is_empty() {
            left
        } else {
            left.min(QUIET)
        };
        if wait.is_zero() {
            break;
        }
        stream.set_read_timeout(Some(wait))?;
        match stream.read(&mut part)? {
            0 => break,
            read => answer.extend_from_slice(&part[..read]),
        }
    }
    Ok(())
}

fn over_udp(to: SocketAddr, bytes: &[u8], answer: &mut Vec<u8>) -> std::io::Result<()> {
    let until = Instant::now() + LIMIT;
    let own = match to {
        SocketAddr::V4(_) => SocketAddr::from((Ipv4Addr::UNSPECIFIED, 0)),
        SocketAddr::V6(_) => SocketAddr::from((Ipv6Addr::UNSPECIFIED, 0)),
    };
    let socket = UdpSocket::bind(own)?;
    socket.connect(to)?;
    socket.set_read_timeout(Some(AGAIN))?;
    let mut part = vec![0; LONGEST_ANSWER];
    while Instant::now() < until {
        socket.send(bytes)?;
        match socket.recv(&mut part) {
            Ok(read) => {
                answer.extend_from_slice(&part[..read]);
                break;
            }
            Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::TcpListener;
    use std::thread;

    #[test]
    fn a_server_that_does_not_hang_up_is_not_waited_for() {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
        let to = listener.local_addr().unwrap();
        let held = thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let mut asked = [0; 2];
            stream.read_exact(&mut asked).unwrap();
            assert_eq!(asked, [b's', 0xff]);
            stream.write_all(b"up ").unwrap();
            stream.write_all(&[0xfe, b'\n']).unwrap();
            // Until the other side has gone.
            let _ = stream.read(&mut asked);
        });
        let mut answer = Vec::new();
        let ended = over_tcp(to, &[b's', 0xff], &mut answer);
        assert!(ended.is_err(), "the end was said, which it was not");
        assert_eq!(answer, b"up \xfe\n");
        held.join().unwrap();
    }

    #[test]
    fn a_lost_datagram_is_sent_again() {
        let socket = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
        let to = socket.local_addr().unwrap();
        let deaf_once = thread::spawn(move || {
            let mut part = [0; 8];
            socket.recv_from(&mut part).unwrap();
            let (read, from) = socket.recv_from(&mut part).unwrap();
            socket.send_to(&part[..read], from).unwrap();
        });
        let mut answer = Vec::new();
        over_udp(to, b"s", &mut answer).unwrap();
        assert_eq!(answer, b"s");
        deaf_once.join().unwrap();
    }
}
