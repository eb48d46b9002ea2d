//! Mail over SMTP (RFC 5321), secured by STARTTLS (RFC 3207) or from the first byte (RFC 8314).

use std::time::{Duration, SystemTime};

use jiff::Timestamp;
use lettre::message::header::{ContentType, HeaderName, HeaderValue};
use lettre::message::{Mailbox, MultiPart, SinglePart};
use lettre::transport::smtp::Error;
use lettre::transport::smtp::authentication::{Credentials as SmtpCredentials, Mechanism};
use lettre::transport::smtp::client::{SmtpConnection, TlsParameters};
use lettre::transport::smtp::extension::ClientId;
use lettre::{Address, Message};

use crate::deadline::within;
use crate::secret::Secret;
use crate::{CONNECT_SECONDS, Channel, Content, DELIVERY_SECONDS, Failure, Outcome, Outgoing};

/// How a connection is secured.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Security {
    /// It begins in the clear and is secured before anything is said.
    StartTls,
    /// It is secured from the first byte.
    Implicit,
    /// Not at all.
    None,
}

/// Who signs in at a mail server.
#[derive(Clone, Debug)]
pub struct Credentials {
    /// The user.
    pub user: Secret,
    /// The password.
    pub password: Secret,
}

/// A mail server.
#[derive(Clone, Debug)]
pub struct MailServer {
    /// Its name or address.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// How connections to it are secured.
    pub security: Security,
    /// Whom mails come from.
    pub from: String,
    /// Who signs in.
    pub credentials: Option<Credentials>,
}

/// Carries mails to a server; one connection serves one delivery after the other.
pub struct MailChannel {
    server: MailServer,
    connection: Option<SmtpConnection>,
}

impl MailChannel {
    /// Returns the channel to a server; nothing is connected yet.
    pub fn new(server: MailServer) -> Self {
        Self { server, connection: None }
    }
}

impl Channel for MailChannel {
    fn deliver(&mut self, outgoing: &Outgoing<'_>) -> Outcome {
        let mail = match mail_of(outgoing, &self.server.from) {
            Ok(mail) => mail,
            Err(because) => return Outcome::NotDelivered(Failure::of_delivery(because)),
        };
        let (server, connection) = (self.server.clone(), self.connection.take());
        let sent = within(Duration::from_secs(DELIVERY_SECONDS), move || send(&server, connection, &mail));
        let Some((connection, outcome)) = sent else {
            return Outcome::Unknown(Failure::of_channel(format!("no answer within {DELIVERY_SECONDS} s")));
        };
        self.connection = connection;
        outcome
    }
}

impl Drop for MailChannel {
    fn drop(&mut self) {
        if let Some(mut connection) = self.connection.take() {
            // A server that does not say goodbye is left all the same.
            let _ = within(Duration::from_secs(1), move || connection.quit());
        }
    }
}

/// Sends a mail over a connection that is open, or a new one; returns the connection where it can be used again.
fn send(server: &MailServer, open: Option<SmtpConnection>, mail: &Message) -> (Option<SmtpConnection>, Outcome) {
    let open = open.and_then(|mut connection| connection.test_connected().then_some(connection));
    let mut connection = match open.map_or_else(|| connect(server), Ok) {
        Ok(connection) => connection,
        Err(because) => return (None, Outcome::NotDelivered(Failure::of_channel(because))),
    };
    match connection.send(mail.envelope(), &mail.formatted()) {
        Ok(_) => (Some(connection), Outcome::Delivered { answer: None }),
        Err(error) => {
            let because = in_words(&error);
            let outcome = match error.status() {
                // What the server says no to it has not taken.
                Some(_) => Outcome::NotDelivered(Failure::of_delivery(because)),
                None => Outcome::Unknown(Failure { because, is_channel_down: error.is_timeout() }),
            };
            connection.abort();
            (None, outcome)
        }
    }
}

/// Connects, secures the connection, and signs in.
fn connect(server: &MailServer) -> Result<SmtpConnection, String> {
    let MailServer { host, port, security, credentials, .. } = server;
    let name = ClientId::default();
    let timeout = Some(Duration::from_secs(CONNECT_SECONDS));
    let in_words = |error: Error| in_words(&error);
    let tls = match security {
        Security::None => None,
        Security::StartTls | Security::Implicit => Some(TlsParameters::new(host.clone()).map_err(in_words)?),
    };
    let implicit = tls.as_ref().filter(|_| *security == Security::Implicit);
    let mut connection =
        SmtpConnection::connect((host.as_str(), *port), timeout, &name, implicit, None).map_err(in_words)?;
    if let (Security::StartTls, Some(tls)) = (security, &tls) {
        if !connection.can_starttls() {
            connection.abort();
            return Err("the server does not offer STARTTLS, and mail is not sent in the clear".to_owned());
        }
        connection.starttls(tls, &name).map_err(in_words)?;
    }
    if let Some(Credentials { user, password }) = credentials {
        let credentials = SmtpCredentials::new(user.reveal().to_owned(), password.reveal().to_owned());
        let signed_in = connection.auth(&[Mechanism::Plain, Mechanism::Login], &credentials);
        // The server's words may repeat what it was told.
        signed_in.map_err(|_| "the server does not let this user sign in".to_owned())?;
    }
    let timeout = Some(Duration::from_secs(DELIVERY_SECONDS));
    connection.set_timeout(timeout).map_err(|error| error.to_string())?;
    Ok(connection)
}

fn in_words(error: &Error) -> String {
    const MOST_CHARACTERS: usize = 300;
    let text = match std::error::Error::source(error) {
        Some(source) => source.to_string(),
        None => error.to_string(),
    };
    match error.status() {
        Some(code) => format!("the server answered {code}: {text}"),
        None => text,
    }
    .chars()
    .take(MOST_CHARACTERS)
    .collect()
}

/// Makes the mail of a message: RFC 5322, both parts where there is HTML, with a Message-ID that is the same at every attempt.
pub(crate) fn mail_of(outgoing: &Outgoing<'_>, from: &str) -> Result<Message, String> {
    let Content::Message { subject, text, html } = outgoing.content else {
        return Err("this channel carries messages, not events".to_owned());
    };
    if subject.chars().any(char::is_control) {
        return Err("the subject has a line break or another control character in it".to_owned());
    }
    let address = |text: &str| text.parse::<Address>().map_err(|_| format!("`{text}` is no mail address"));
    let (from, to) = (address(from)?, address(outgoing.to)?);
    let id = format!("<{}@{}>", outgoing.key, from.domain());
    let builder = Message::builder()
        .from(Mailbox::new(None, from))
        .to(Mailbox::new(None, to))
        .date(system_time(outgoing.at))
        .message_id(Some(id))
        .subject(subject);
    let mail = match html {
        None => builder.header(ContentType::TEXT_PLAIN).body(text.to_owned()),
        Some(html) => {
            // The boundary is the same at every attempt too.
            let parts = MultiPart::alternative().boundary(format!("part-{}", outgoing.key));
            let parts = parts.singlepart(SinglePart::plain(text.to_owned()));
            builder.multipart(parts.singlepart(SinglePart::html(html.to_owned())))
        }
    };
    let mut mail = mail.map_err(|error| error.to_string())?;
    // RFC 3834: nobody's absence note answers it.
    let automatic = HeaderName::new_from_ascii_str("Auto-Submitted");
    mail.headers_mut().insert_raw(HeaderValue::new(automatic, "auto-generated".to_owned()));
    Ok(mail)
}

/// A moment before 1970 is of no mail.
fn system_time(at: Timestamp) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_secs(at.as_second().max(0).unsigned_abs())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn outgoing<'o>(subject: &'o str, to: &'o str, html: Option<&'o str>) -> Outgoing<'o> {
        let at = "2027-03-14T06:00:00Z".parse().unwrap();
        Outgoing { key: "k1", at, to, content: Content::Message { subject, text: "Ahoi, Bjørk\nzwei", html } }
    }

    #[test]
    fn a_mail_is_the_same_at_every_attempt_and_lets_no_header_in() {
        let make = |subject: &str| {
            let outgoing = outgoing(subject, "brodunk@bredesound.example", Some("<p>Ahoi</p>"));
            mail_of(&outgoing, "desk@bredesound.example").map(|mail| String::from_utf8(mail.formatted()).unwrap())
        };
        let mail = make("Frist läuft ab").unwrap();
        assert_eq!(mail, make("Frist läuft ab").unwrap());
        for line in [
            "Message-ID: <k1@bredesound.example>",
            "Date: Sun, 14 Mar 2027 06:00:00 +0000",
            "Auto-Submitted: auto-generated",
            "Content-Type: text/html; charset=utf-8",
            "To: brodunk@bredesound.example",
        ] {
            assert!(mail.lines().any(|found| found == line), "{line} in {mail}");
        }
        assert!(mail.contains("Subject: Frist =?utf-8?b?"), "{mail}");
        assert!(make("Hello\r\nBcc: everybody@bredesound.example").unwrap_err().contains("line break"));
        for to in ["", "nobody", "a@b\r\nBcc: c@d", "a b@c.example"] {
            assert!(mail_of(&outgoing("s", to, None), "desk@bredesound.example").is_err(), "{to}");
        }
    }
}
