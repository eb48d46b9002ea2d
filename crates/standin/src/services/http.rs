//! As much of HTTP/1.1 (RFC 9112) as the stand-ins need: requests with a body of known length, and one reply each.

use std::io::{self, BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::thread;

use super::Behaviour;

/// An event as it came.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReceivedEvent {
    /// What it is known by.
    pub key: String,
    /// Who sent it, as the request says: the bearer token.
    pub token: Option<String>,
    /// The body.
    pub body: String,
}

/// A request.
#[derive(Debug, Default)]
pub(super) struct Request {
    pub method: String,
    pub path: String,
    headers: Vec<(String, String)>,
    pub body: String,
}

impl Request {
    /// Reads the next request of a connection; none where there is no other.
    pub fn read(from: &mut BufReader<TcpStream>) -> io::Result<Option<Self>> {
        const LONGEST: usize = 16 << 20;
        let mut first = String::new();
        if from.read_line(&mut first)? == 0 {
            return Ok(None);
        }
        let mut words = first.split_whitespace().map(str::to_owned);
        let mut request = Self {
            method: words.next().unwrap_or_default(),
            path: words.next().unwrap_or_default(),
            ..Self::default()
        };
        loop {
            let mut line = String::new();
            from.read_line(&mut line)?;
            let line = line.trim_end();
            if line.is_empty() {
                break;
            }
            if let Some((name, value)) = line.split_once(':') {
                request.headers.push((name.to_ascii_lowercase(), value.trim().to_owned()));
            }
        }
        let length = request.header("content-length").and_then(|length| length.parse().ok()).unwrap_or(0);
        let mut body = vec![0; std::cmp::min(length, LONGEST)];
        from.read_exact(&mut body)?;
        request.body = String::from_utf8_lossy(&body).into_owned();
        Ok(Some(request))
    }

    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    pub fn event(&self) -> ReceivedEvent {
        ReceivedEvent {
            key: self.header("idempotency-key").unwrap_or_default().to_owned(),
            token: self.header("authorization").and_then(|value| value.strip_prefix("Bearer ")).map(str::to_owned),
            body: self.body.clone(),
        }
    }
}

/// Serves the requests of a connection. `answer` gives the status and the body of each reply.
pub(super) fn converse(
    stream: TcpStream,
    behaviour: impl Fn() -> Behaviour,
    mut answer: impl FnMut(&Request) -> (&'static str, String),
) -> io::Result<()> {
    const ENDLESS: usize = 8 << 20;
    let mut out = stream.try_clone()?;
    let mut requests = BufReader::new(stream);
    while let Some(request) = Request::read(&mut requests)? {
        let mut reply = |status: &str, more: &str, body: &str| {
            let head = format!("HTTP/1.1 {status}\r\n{more}content-length: {}\r\n\r\n", body.len());
            out.write_all(head.as_bytes()).and_then(|()| out.write_all(body.as_bytes()))
        };
        match behaviour() {
            Behaviour::Refuses => reply("422 Unprocessable Content", "", "no")?,
            Behaviour::IsBusy => reply("503 Service Unavailable", "", "later")?,
            Behaviour::Redirects => reply("307 Temporary Redirect", "location: http://127.0.0.1:1/\r\n", "")?,
            Behaviour::DropsBefore => return Ok(()),
            Behaviour::DropsAfter => {
                answer(&request);
                return Ok(());
            }
            Behaviour::AnswersNonsense => {
                answer(&request);
                return out.write_all(b"ahoy\r\n\r\nwho is there\r\n");
            }
            Behaviour::AnswersAtLength => {
                answer(&request);
                reply("200 OK", "", &"x".repeat(ENDLESS))?;
            }
            Behaviour::IsSlow(time) => {
                let (status, body) = answer(&request);
                thread::sleep(time);
                reply(status, "", &body)?;
            }
            Behaviour::Takes => {
                let (status, body) = answer(&request);
                reply(status, "content-type: application/json\r\n", &body)?;
            }
        }
    }
    Ok(())
}
