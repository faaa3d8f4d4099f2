//! A halcyon server's remote console over TCP: the protocol that many game servers share.

use std::io::{self, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::mpsc::{self, Sender};
use std::thread;

/// A line for the console, and where its answer goes besides.
pub struct Line {
    /// What was typed.
    pub text: String,
    /// The asker, for a remote console.
    pub answer: Option<mpsc::Sender<String>>,
}

/// What the settings file says of it.
pub struct Settings {
    /// Where it listens.
    pub port: u16,
    /// What a login has to say.
    pub password: String,
    /// The longest text in a packet, in bytes; longer answers come in several.
    pub packet: usize,
}

/// Listens for logins; each connection has a thread of its own.
pub fn listen(settings: &Settings, lines: Sender<Line>) -> io::Result<()> {
    let listener = TcpListener::bind(("127.0.0.1", settings.port))?;
    let (password, packet) = (settings.password.clone(), settings.packet);
    thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let (password, lines) = (password.clone(), lines.clone());
            thread::spawn(move || serve(stream, &password, packet, &lines));
        }
    });
    Ok(())
}

fn serve(
    mut stream: TcpStream,
    password: &str,
    packet: usize,
    lines: &Sender<Line>,
) -> io::Result<()> {
    let mut logged_in = false;
    loop {
        let mut head = [0; 12];
        stream.read_exact(&mut head)?;
        let number =
            |at: usize| i32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        let mut text = vec![
            0;
            usize::try_from(number(0))
                .unwrap_or(8)
                .saturating_sub(8)
                .min(8192)
        ];
        stream.read_exact(&mut text)?;
        let text = String::from_utf8_lossy(&text)
            .trim_end_matches('\0')
            .to_owned();
        let asked = number(4);
        match number(8) {
            3 => {
                logged_in = text == password;
                send(&mut stream, asked, 0, b"")?;
                send(&mut stream, if logged_in { asked } else { -1 }, 2, b"")?;
            }
            2 if logged_in => {
                let (answer, answers) = mpsc::channel();
                if lines
                    .send(Line {
                        text,
                        answer: Some(answer),
                    })
                    .is_err()
                {
                    return Ok(());
                }
                let answer: String = answers.iter().collect();
                let pieces = answer.as_bytes().chunks(packet.max(1));
                if answer.is_empty() {
                    send(&mut stream, asked, 0, b"")?;
                }
                for piece in pieces {
                    send(&mut stream, asked, 0, piece)?;
                }
            }
            // What it does not know it sends back empty.
            _ if logged_in => send(&mut stream, asked, 0, b"")?,
            _ => return Ok(()),
        }
    }
}

fn send(stream: &mut TcpStream, number: i32, kind: i32, text: &[u8]) -> io::Result<()> {
    let length = i32::try_from(text.len() + 10).unwrap_or(i32::MAX);
    let mut bytes = [length, number, kind].map(i32::to_le_bytes).concat();
    bytes.extend(text);
    bytes.extend([0, 0]);
    stream.write_all(&bytes)
}
