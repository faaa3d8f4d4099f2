//! Asking the person at the terminal to start or stop a server, where lantern has no way to it.

use crate::look::{Look, Means};
use crate::progress::above;
use lantern_host::config::Server;
use lantern_host::person::Person;
use std::io::BufRead;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Once};

/// Whoever sits at the terminal.
#[derive(Debug)]
pub struct AtHand {
    look: Look,
    said: Arc<AtomicBool>,
    listens: Once,
}

impl AtHand {
    /// Lets a server be started and stopped by whoever is there.
    pub fn at(server: &mut Server, look: &Look) {
        server.person = Some(Arc::new(AtHand::new(look)));
    }

    /// Nobody has been asked yet.
    fn new(look: &Look) -> AtHand {
        AtHand {
            look: look.clone(),
            said: Arc::default(),
            listens: Once::new(),
        }
    }

    /// Hears each line that is typed from now on.
    fn listen(&self) {
        self.listens.call_once(|| {
            let said = Arc::clone(&self.said);
            std::thread::spawn(move || {
                for line in std::io::stdin().lock().lines() {
                    if line.is_err() {
                        break;
                    }
                    said.store(true, Ordering::Relaxed);
                }
            });
        });
    }
}

impl Person for AtHand {
    fn ask(&self, words: &str) {
        self.said.store(false, Ordering::Relaxed);
        let words = self.look.paint_error(Means::Caution, words);
        above(|| self.look.talk(&format!("\n  {words}\n")));
        // What a pipe holds was written before anything was asked.
        if self.can_say() {
            self.listen();
        }
    }

    fn waits(&self, words: &str) {
        above(|| self.look.talk(&format!("                 {words}")));
    }

    fn has_said(&self) -> bool {
        self.said.swap(false, Ordering::Relaxed)
    }

    fn can_say(&self) -> bool {
        !self.look.cannot_ask()
    }
}
