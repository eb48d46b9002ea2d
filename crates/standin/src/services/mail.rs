//! A mail server that keeps what it gets (RFC 5321, as much of it as a client needs).

use std::io::{self, BufRead as _, BufReader, Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::sync::Arc;
use std::thread;

use super::{Behaviour, Shared, lock, serve};

/// A mail as it came.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReceivedMail {
    /// Whom the envelope names as sender.
    pub from: String,
    /// Whom it is for.
    pub to: Vec<String>,
    /// Headers and body, with line feeds alone.
    pub data: String,
    /// What whoever sent it signed in with, as the client wrote it (RFC 4616, in base64).
    pub signed_in: Option<String>,
}

impl ReceivedMail {
    /// Returns a header by its name, without its folding.
    pub fn header(&self, name: &str) -> Option<String> {
        let head = self.data.split("\n\n").next().unwrap_or_default().replace("\n ", " ");
        let is_meant = |line: &&str| line.split_once(':').is_some_and(|(found, _)| found.eq_ignore_ascii_case(name));
        head.lines().find(is_meant).and_then(|line| line.split_once(": ")).map(|(_, value)| value.to_owned())
    }
}

/// A mail server on a port of this machine.
#[derive(Clone, Debug)]
pub struct MailSink {
    /// Where it listens.
    pub address: SocketAddr,
    shared: Arc<Shared<ReceivedMail>>,
}

impl MailSink {
    /// Starts it.
    ///
    /// # Errors
    /// When there is no port to be had.
    pub fn start() -> io::Result<Self> {
        let shared = Arc::default();
        let address = serve(&shared, converse)?;
        Ok(Self { address, shared })
    }

    /// Says how it behaves from now on.
    pub fn behave(&self, behaviour: Behaviour) {
        *lock(&self.shared.behaviour) = behaviour;
    }

    /// Returns the mails that it got.
    pub fn received(&self) -> Vec<ReceivedMail> {
        lock(&self.shared.received).clone()
    }
}

fn converse(shared: &Shared<ReceivedMail>, stream: TcpStream) -> io::Result<()> {
    const LONGEST_LINE: u64 = 1 << 20;
    let mut out = stream.try_clone()?;
    let mut lines = BufReader::new(stream);
    let mut say = |text: &str| out.write_all(text.as_bytes()).and_then(|()| out.write_all(b"\r\n"));
    if shared.behaviour() == Behaviour::AnswersNonsense {
        return say("hello, who is there?");
    }
    say("220 sink.example ready")?;
    let mut signed_in = None;
    let mut mail = ReceivedMail::default();
    loop {
        let mut line = Vec::new();
        if (&mut lines).take(LONGEST_LINE).read_until(b'\n', &mut line)? == 0 {
            return Ok(());
        }
        let line = String::from_utf8_lossy(&line).trim_end().to_owned();
        let verb = line.split([' ', ':']).next().unwrap_or_default().to_ascii_uppercase();
        let address = || line.split(['<', '>']).nth(1).unwrap_or_default().to_owned();
        let behaviour = shared.behaviour();
        match verb.as_str() {
            "EHLO" => {
                say("250-sink.example")?;
                say("250-AUTH PLAIN")?;
                say("250 8BITMIME")?;
            }
            "AUTH" if behaviour == Behaviour::Refuses => say("535 who are you?")?,
            "AUTH" => {
                signed_in = line.split(' ').nth(2).map(str::to_owned);
                say("235 welcome")?;
            }
            "HELO" | "NOOP" | "RSET" => say("250 ok")?,
            "MAIL" => {
                mail = ReceivedMail { from: address(), signed_in: signed_in.clone(), ..ReceivedMail::default() };
                say("250 ok")?;
            }
            "RCPT" if behaviour == Behaviour::Refuses => say("550 no such mailbox")?,
            "RCPT" if behaviour == Behaviour::IsBusy => say("451 come back later")?,
            "RCPT" => {
                mail.to.push(address());
                say("250 ok")?;
            }
            "DATA" if behaviour == Behaviour::DropsBefore => return Ok(()),
            "DATA" => {
                say("354 go ahead")?;
                mail.data = data_of(&mut lines)?;
                shared.keep(mail.clone());
                match behaviour {
                    Behaviour::DropsAfter => return Ok(()),
                    Behaviour::IsSlow(time) => thread::sleep(time),
                    _ => {}
                }
                say("250 taken")?;
            }
            "QUIT" => return say("221 goodbye"),
            _ => say("502 not known here")?,
        }
    }
}

/// Reads a mail up to the line with a point alone; lines that begin with a point have one more.
fn data_of(lines: &mut BufReader<TcpStream>) -> io::Result<String> {
    let mut data = String::new();
    loop {
        let mut line = Vec::new();
        if lines.read_until(b'\n', &mut line)? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let line = String::from_utf8_lossy(&line);
        let line = line.trim_end_matches(['\r', '\n']);
        if line == "." {
            return Ok(data);
        }
        data.push_str(line.strip_prefix('.').unwrap_or(line));
        data.push('\n');
    }
}
