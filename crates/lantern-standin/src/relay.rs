//! A slow line before a server that is reached at ports: whoever connects to one of them here is led to the same one at another address,
//! over one line for all, with what is said later and slower.

use crate::line::{Free, Gone, Pace, Window, arrive, leave};
use std::io;
use std::net::{IpAddr, Ipv4Addr, Shutdown, TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::sync_channel;
use std::thread;
use std::time::Duration;

/// So many pieces of one connection are on the way at most: what is asked besides does not wait behind megabytes.
const ON_THE_WAY: usize = 8;

/// When the line is free, there and back.
struct Ways {
    there: Free,
    back: Free,
    gone: Gone,
}

/// Leads who connects to ports of this machine to the same ports at another address, until it is ended. What went each way, in bytes, is
/// written down in a file, where one is named.
///
/// # Errors
/// When a port is taken.
pub fn run(pace: Pace, to: IpAddr, ports: &[u16], log: Option<&Path>) -> io::Result<u8> {
    let ways = Arc::new(Ways {
        there: Free::default(),
        back: Free::default(),
        gone: Gone::default(),
    });
    for &port in ports {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port))?;
        let ways = Arc::clone(&ways);
        let log = log.map(Path::to_owned);
        thread::spawn(move || {
            for near in listener.incoming().flatten() {
                let (ways, log) = (Arc::clone(&ways), log.clone());
                thread::spawn(move || {
                    // To connect takes as long as any other answer.
                    thread::sleep(Duration::from_millis(pace.round_trip_ms));
                    let far = TcpStream::connect((to, port));
                    let _ = far.and_then(|far| lead(&near, &far, pace, &ways, log.as_deref()));
                });
            }
        });
    }
    loop {
        thread::park();
    }
}

/// Carries what is said on two connections from one to the other, each way until its end.
fn lead(
    near: &TcpStream,
    far: &TcpStream,
    pace: Pace,
    ways: &Arc<Ways>,
    log: Option<&Path>,
) -> io::Result<()> {
    near.set_nodelay(true)?;
    far.set_nodelay(true)?;
    thread::scope(|scope| {
        for is_there in [true, false] {
            let (from, to) = if is_there { (near, far) } else { (far, near) };
            let (piece, pieces) = sync_channel(ON_THE_WAY);
            let window = Arc::new(Window::new(pace));
            let told = Arc::clone(&window);
            scope.spawn(move || {
                let free = if is_there { &ways.there } else { &ways.back };
                leave(from, &piece, pace, free, &window);
            });
            scope.spawn(move || {
                arrive(pieces, to, &told, |bytes| {
                    ways.gone.went(is_there, bytes);
                    ways.gone.write_down(log);
                });
                let _ = to.shutdown(Shutdown::Write);
            });
        }
    });
    Ok(())
}
