//! A small SMTP receiver on loopback, which can halt in the middle of a conversation.

use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// Messages a receiver took: envelope sender, recipient, text.
pub type Received = Arc<Mutex<Vec<(String, String, String)>>>;

/// A step of an SMTP conversation (RFC 5321 section 3), before the receiver answers to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    Connect,
    Mail,
    Rcpt,
    Data,
    /// The message is there, and isn't answered for yet.
    Body,
}

/// Lets a receiver halt at one step of one message, until it is told to go on.
#[derive(Clone, Default)]
pub struct Halt(Arc<(Mutex<Halting>, Condvar)>);

#[derive(Default)]
struct Halting {
    at: Option<(Step, usize)>,
    /// Messages begun.
    message: usize,
    halted: bool,
}

impl Halt {
    fn state(&self) -> MutexGuard<'_, Halting> {
        self.0.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Halt when so many messages came before, at this step.
    pub fn at(&self, step: Step, message: usize) {
        *self.state() = Halting { at: Some((step, message)), ..Halting::default() };
    }

    /// Does a conversation stand still?
    #[must_use]
    pub fn halted(&self) -> bool {
        self.state().halted
    }

    /// Nothing halts any more.
    pub fn release(&self) {
        *self.state() = Halting::default();
        self.0.1.notify_all();
    }

    /// How many messages were begun before, on any connection.
    fn begun(&self) -> usize {
        self.state().message
    }

    fn begin(&self) -> usize {
        let mut s = self.state();
        s.message += 1;
        s.message - 1
    }

    /// `message`: the number of the one that the conversation is about, or would be.
    fn pass(&self, step: Step, message: usize) {
        let mut s = self.state();
        if s.at == Some((step, message)) {
            s.halted = true;
            while s.at.is_some() {
                s = self.0.1.wait_timeout(s, Duration::from_secs(120)).unwrap_or_else(PoisonError::into_inner).0;
            }
        }
    }
}

/// A small SMTP receiver on loopback. It refuses recipients that begin with `gone.`.
///
/// # Panics
/// When no port is free.
#[must_use]
pub fn smtp_receiver() -> (u16, Received) {
    smtp_receiver_that_halts(&Halt::default())
}

/// As [`smtp_receiver`], halting where it is told to.
///
/// # Panics
/// When no port is free.
#[must_use]
pub fn smtp_receiver_that_halts(halt: &Halt) -> (u16, Received) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
    let port = listener.local_addr().expect("an address").port();
    let received = Received::default();
    let (kept, halt) = (Arc::clone(&received), halt.clone());
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let (kept, halt) = (Arc::clone(&kept), halt.clone());
            std::thread::spawn(move || {
                let _ = converse(stream, &kept, &halt);
            });
        }
    });
    (port, received)
}

fn converse(mut stream: TcpStream, kept: &Received, halt: &Halt) -> std::io::Result<()> {
    let mut lines = BufReader::new(stream.try_clone()?);
    // Each answer at once and whole: else the machine waits for more of it, 40 ms a time.
    stream.set_nodelay(true)?;
    let mut say = move |words: &str| stream.write_all(format!("{words}\r\n").as_bytes());
    let (mut from, mut to) = (String::new(), String::new());
    halt.pass(Step::Connect, halt.begun());
    let mut message = 0;
    say("220 receiver.example")?;
    let mut line = String::new();
    while lines.read_line(&mut line)? > 0 {
        let command = line.trim().to_owned();
        line.clear();
        let inside = |c: &str| c.split('<').nth(1).and_then(|r| r.split('>').next()).unwrap_or_default().to_owned();
        match command.get(..4).unwrap_or_default().to_uppercase().as_str() {
            "MAIL" => {
                from = inside(&command);
                message = halt.begin();
                halt.pass(Step::Mail, message);
                say("250 2.1.0 ok")?;
            }
            "RCPT" => {
                to = inside(&command);
                halt.pass(Step::Rcpt, message);
                say(if to.starts_with("gone.") { "550 5.1.1 no such user here" } else { "250 2.1.5 ok" })?;
            }
            "DATA" => {
                halt.pass(Step::Data, message);
                say("354 go on")?;
                let (mut text, mut whole) = (String::new(), false);
                while lines.read_line(&mut line)? > 0 {
                    if line == ".\r\n" {
                        whole = true;
                        break;
                    }
                    text.push_str(line.strip_prefix('.').unwrap_or(&line));
                    line.clear();
                }
                line.clear();
                // Anybody who went away in the middle has handed over nothing.
                if !whole {
                    return Ok(());
                }
                kept.lock().unwrap_or_else(PoisonError::into_inner).push((from.clone(), to.clone(), text));
                halt.pass(Step::Body, message);
                say("250 2.0.0 queued")?;
            }
            "QUIT" => return say("221 bye"),
            _ => say("250 receiver.example")?,
        }
    }
    Ok(())
}
