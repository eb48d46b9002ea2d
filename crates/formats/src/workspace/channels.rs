//! Channels, recipients and `[responses]` of `fencepost.toml`: how what is to be said or done leaves the house.

use std::net::IpAddr;
use std::ops::Range;

use fencepost_core::{Diagnostic, Named, Period, QuietHours, RuleSeverity, Span, did_you_mean};
use jiff::civil::Time;

use super::shape::{KeyKind, TableKey, TableShape, words};
use super::table::{Table, TableReader};

/// Where a secret is to be had; it is never written down itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SecretPlace {
    /// In a variable of the environment.
    Environment(String),
    /// In a file, by its path from the workspace.
    File(String),
}

/// How a connection to a mail server is secured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Tls {
    /// It begins in the clear and is secured before anything is said (RFC 3207).
    #[default]
    StartTls,
    /// It is secured from the first byte (RFC 8314).
    Implicit,
    /// Not at all: to this machine alone.
    None,
}

/// How deliveries of a channel are made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ChannelKind {
    /// Mail.
    Smtp {
        /// The server's name or address.
        host: String,
        /// Its port.
        port: u16,
        /// How the connection is secured.
        tls: Tls,
        /// Whom mails come from.
        from: String,
        /// The user's name, where the server wants one.
        user: Option<SecretPlace>,
        /// The password.
        password: Option<SecretPlace>,
    },
    /// An HTTP endpoint that takes events.
    Webhook {
        /// Its URL.
        url: String,
        /// What is sent as a bearer token.
        token: Option<SecretPlace>,
    },
    /// An HTTP endpoint that carries out commands, and is asked how far they came.
    Commands {
        /// Its URL.
        url: String,
        /// What is sent as a bearer token.
        token: Option<SecretPlace>,
    },
    /// A folder of files, by its path from the workspace.
    Folder {
        /// The path.
        path: String,
    },
}

/// A way out of the house.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Channel {
    /// Its id.
    pub id: String,
    /// How deliveries are made.
    pub kind: ChannelKind,
    /// How many characters the text of a message may have, where the channel carries short ones.
    pub longest_text: Option<usize>,
    /// Where it is written.
    pub place: Option<Span>,
}

/// How a recipient is reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reached {
    /// By mail, at an address.
    Mail(String),
    /// Over a channel of its own.
    Channel(String),
}

/// A desk or a team that is told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recipient {
    /// Its id.
    pub id: String,
    /// How it is reached.
    pub by: Reached,
}

/// What `fencepost.toml` says of sending.
#[derive(Clone, Debug)]
pub struct SendSettings {
    /// The channels.
    pub channels: Vec<Channel>,
    /// The recipients.
    pub recipients: Vec<Recipient>,
    /// The ladder of rules that name none.
    pub default: Option<Named>,
    /// Ladders by severity.
    pub by_severity: Vec<(RuleSeverity, Named)>,
    /// The ladder of people who are about to lose a service without a finding.
    pub access: Option<Named>,
    /// The channel that carries notices to people.
    pub mail: Option<String>,
    /// The channel that carries commands.
    pub commands: Option<String>,
    /// The recipient who is told where nobody else can be.
    pub fallback: Option<String>,
    /// The share of the fleet, from 0 to 1, above which nothing is sent without a code.
    pub brake: f64,
    /// How long an approval holds.
    pub approval_for: Period,
    /// The hours in which nobody is told anything.
    pub quiet: Option<QuietHours>,
}

impl Default for SendSettings {
    fn default() -> Self {
        Self {
            channels: Vec::new(),
            recipients: Vec::new(),
            default: None,
            by_severity: Vec::new(),
            access: None,
            mail: None,
            commands: None,
            fallback: None,
            brake: 0.1,
            approval_for: Period::parse("24h").unwrap_or(Period::ZERO),
            quiet: None,
        }
    }
}

impl SendSettings {
    /// Returns a channel by its id.
    pub fn channel(&self, id: &str) -> Option<&Channel> {
        self.channels.iter().find(|channel| channel.id == id)
    }

    /// Returns a recipient by its id.
    pub fn recipient(&self, id: &str) -> Option<&Recipient> {
        self.recipients.iter().find(|recipient| recipient.id == id)
    }
}

pub(super) static CHANNEL: TableShape = TableShape::new(
    "[[channel]]",
    &[&[
        TableKey::new("id", KeyKind::Id, "Its name."),
        TableKey::new("kind", KeyKind::Word(|| words(&KINDS)), "How deliveries are made."),
        TableKey::new("server", KeyKind::Text, "The mail server, \"mail.example:587\"."),
        TableKey::new(
            "tls",
            KeyKind::Word(|| words(&TLS)),
            "How the connection to a mail server is secured: starttls, where nothing is said; none to this machine alone.",
        ),
        TableKey::new("from", KeyKind::Text, "The address that mails come from."),
        TableKey::new("user", KeyKind::Text, "Who signs in at the mail server: \"env:NAME\" or \"file:PATH\"."),
        TableKey::new("password", KeyKind::Text, "The password: \"env:NAME\" or \"file:PATH\"."),
        TableKey::new("url", KeyKind::Text, "Where events or commands go; https, but to this machine."),
        TableKey::new("token", KeyKind::Text, "The bearer token: \"env:NAME\" or \"file:PATH\"."),
        TableKey::new("path", KeyKind::Text, "The folder, from the workspace."),
        TableKey::new(
            "longest_text",
            KeyKind::Integer,
            "How many characters the text of a message may have; a longer one is not sent.",
        ),
    ]],
)
.needs(&[&["id"], &["kind"]])
.with(&[("user", "password"), ("password", "user")]);
pub(super) static RECIPIENT: TableShape = TableShape::new(
    "[[recipient]]",
    &[&[
        TableKey::new("id", KeyKind::Id, "What steps call it."),
        TableKey::new("mail", KeyKind::Text, "Its mail address."),
        TableKey::new("channel", KeyKind::Text, "The channel over which it is reached."),
    ]],
)
.needs(&[&["id"], &["mail", "channel"]]);
pub(super) static RESPONSES: TableShape = TableShape::new(
    "[responses]",
    &[&[
        TableKey::new("default", KeyKind::Text, "The response of rules that name none."),
        TableKey::new(
            "by_severity",
            KeyKind::Table(&BY_SEVERITY),
            "The response of rules that name none, by severity.",
        ),
        TableKey::new(
            "access",
            KeyKind::Text,
            "The response of people who are about to lose a service though nothing is found: it counts from the loss as due.",
        ),
        TableKey::new("mail", KeyKind::Text, "The channel that carries notices to people."),
        TableKey::new("commands", KeyKind::Text, "The channel that carries commands."),
        TableKey::new("fallback", KeyKind::Text, "The recipient who is told where nobody else can be."),
        TableKey::new(
            "brake",
            KeyKind::Text,
            "The share of the fleet above which a day's deliveries need a code: \"10%\", where nothing is said.",
        ),
        TableKey::new("approval_for", KeyKind::Period, "How long an approval holds: 24h, where nothing is said."),
        TableKey::new("quiet", KeyKind::Table(&QUIET), "The hours in which nobody is told anything."),
    ]],
);
static BY_SEVERITY: TableShape = TableShape::new(
    "by_severity",
    &[&[
        TableKey::new("low", KeyKind::Text, "The response of rules of low severity."),
        TableKey::new("medium", KeyKind::Text, "The response of rules of medium severity."),
        TableKey::new("high", KeyKind::Text, "The response of rules of high severity."),
        TableKey::new("critical", KeyKind::Text, "The response of rules of critical severity."),
    ]],
);
static QUIET: TableShape = TableShape::new(
    "`quiet`",
    &[&[
        TableKey::new("from", KeyKind::Text, "From when on, \"20:00\"."),
        TableKey::new("until", KeyKind::Text, "Up to when, \"06:30\"; on the next day, where it is earlier."),
        TableKey::new("days_off", KeyKind::Boolean, "Whether days on which nobody works are quiet throughout."),
    ]],
)
.needs(&[&["from"], &["until"]]);

/// The word of a kind of channel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum KindWord {
    Smtp,
    Webhook,
    Commands,
    Folder,
}

const KINDS: [(&str, KindWord); 4] = [
    ("smtp", KindWord::Smtp),
    ("webhook", KindWord::Webhook),
    ("commands", KindWord::Commands),
    ("folder", KindWord::Folder),
];
const TLS: [(&str, Tls); 3] = [("starttls", Tls::StartTls), ("implicit", Tls::Implicit), ("none", Tls::None)];
/// What a step may name besides recipients.
const RESERVED: [&str; 3] = ["holder", "lead", "device"];

pub(super) fn read(reader: &mut TableReader<'_>, root: &Table<'_>) -> SendSettings {
    let mut settings = SendSettings::default();
    for table in reader.tables(root, "channel") {
        let Some(channel) = channel(reader, &table) else { continue };
        if settings.channel(&channel.id).is_some() {
            doubled(reader, &table, "channels", &channel.id);
        }
        settings.channels.push(channel);
    }
    for table in reader.tables(root, "recipient") {
        let Some(recipient) = recipient(reader, &table, &settings.channels) else { continue };
        if settings.recipient(&recipient.id).is_some() {
            doubled(reader, &table, "recipients", &recipient.id);
        }
        settings.recipients.push(recipient);
    }
    if let Some(table) = reader.table(root, "responses") {
        read_responses(reader, &table, &mut settings);
    }
    settings
}

fn doubled(reader: &mut TableReader<'_>, table: &Table<'_>, what: &str, id: &str) {
    let span = table.get("id").map_or(0..0, |id| id.span());
    reader.error("doubled-id", format!("two {what} are called `{id}`"), span, "give one of them another id");
}

fn channel(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<Channel> {
    let id = reader.id(table, "a [[channel]]")?;
    if !reader.is_complete(table, "a channel", "say how deliveries are made: kind = \"smtp\"") {
        return None;
    }
    let word = reader.word(table, "kind", &KINDS)?;
    check_fit(reader, table, word);
    let kind = match word {
        KindWord::Smtp => smtp(reader, table)?,
        KindWord::Webhook => ChannelKind::Webhook { url: url(reader, table)?, token: secret(reader, table, "token") },
        KindWord::Commands => ChannelKind::Commands { url: url(reader, table)?, token: secret(reader, table, "token") },
        KindWord::Folder => ChannelKind::Folder { path: reader.string(table, "path")? },
    };
    let longest_text = longest_text(reader, table);
    Some(Channel { id: id.text, kind, longest_text, place: id.span })
}

fn longest_text(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<usize> {
    let number = reader.integer(table, "longest_text")?;
    let longest = usize::try_from(number).ok().filter(|longest| *longest > 0);
    if longest.is_none() {
        let span = table.get("longest_text").map_or_else(|| table.heading(), |value| value.span());
        let message = format!("a text cannot have {number} characters");
        reader.error("bad-length", message, span, "write how many it may have: longest_text = 160");
    }
    longest
}

/// Reports what a channel lacks or has too much of, for its kind.
fn check_fit(reader: &mut TableReader<'_>, table: &Table<'_>, word: KindWord) {
    let (needed, optional): (&[&str], &[&str]) = match word {
        KindWord::Smtp => (&["server", "from"], &["tls", "user", "password", "longest_text"]),
        KindWord::Webhook => (&["url"], &["token", "longest_text"]),
        KindWord::Commands => (&["url"], &["token"]),
        KindWord::Folder => (&["path"], &["longest_text"]),
    };
    let kind = KINDS.iter().find(|(_, one)| *one == word).map_or("", |(kind, _)| kind);
    let missing: Vec<&str> = needed.iter().copied().filter(|key| table.get(key).is_none()).collect();
    if !missing.is_empty() {
        let message = format!("a channel of kind {kind} needs {}", missing.join(" and "));
        reader.error("kind-needs", message, table.heading(), "say where deliveries go");
    }
    for entry in table.entries() {
        let is_fit = needed.iter().chain(optional).chain(&["id", "kind"]).any(|key| *key == entry.key);
        if !is_fit && CHANNEL.keys().any(|known| known.name == entry.key) {
            let message = format!("`{}` has no meaning for a channel of kind {kind}", entry.key);
            reader.error("idle-key", message, entry.span, "take it out");
        }
    }
}

fn smtp(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<ChannelKind> {
    let tls = reader.word(table, "tls", &TLS).unwrap_or_default();
    let (server, from) = (reader.named(table, "server")?, address(reader, table, "from")?);
    let (host, port) = match server.text.rsplit_once(':') {
        Some((host, port)) => (host.to_owned(), port.parse().ok()),
        None => (server.text.clone(), Some(if tls == Tls::Implicit { 465 } else { 587 })),
    };
    let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
    let Some(port) = port.filter(|_| !host.is_empty()) else {
        let message = format!("`{}` is no mail server", server.text);
        reader.report(Diagnostic::error("bad-server", message, server.span).help("write \"mail.example:587\""));
        return None;
    };
    if tls == Tls::None && !is_loopback(&host) {
        let help = "write tls = \"starttls\" or \"implicit\"; only a server on this machine may go without";
        reader.report(
            Diagnostic::error("not-secured", "mail would leave the machine in the clear", server.span).help(help),
        );
        return None;
    }
    let (user, password) = (secret(reader, table, "user"), secret(reader, table, "password"));
    if table.get("user").is_some() != table.get("password").is_some() {
        let message = "`user` and `password` belong together";
        reader.error("incomplete", message, place_beside(table), "write both, or neither");
    }
    Some(ChannelKind::Smtp { host, port, tls, from, user, password })
}

/// Returns whether a host is this machine.
fn is_loopback(host: &str) -> bool {
    host == "localhost" || host.parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
}

fn address(reader: &mut TableReader<'_>, table: &Table<'_>, key: &str) -> Option<String> {
    let named = reader.named(table, key)?;
    if is_address(&named.text) {
        return Some(named.text);
    }
    let message = format!("`{}` is no mail address", named.text);
    reader.report(Diagnostic::error("bad-address", message, named.span).help("write \"desk@company.example\""));
    None
}

/// Returns whether a text may be a mail address: one `@` with something on both sides, and nothing that ends a header.
pub fn is_address(text: &str) -> bool {
    let halves = text.split_once('@');
    let is_plain = |c: char| !c.is_whitespace() && !c.is_control() && !"<>,;:\"()[]\\".contains(c);
    halves.is_some_and(|(name, domain)| !name.is_empty() && !domain.is_empty() && !domain.contains('@'))
        && text.chars().all(is_plain)
        && !text.contains("..")
}

/// Reads the URL of an endpoint: secured, but to this machine.
fn url(reader: &mut TableReader<'_>, table: &Table<'_>) -> Option<String> {
    let named = reader.named(table, "url")?;
    let (scheme, rest) = named.text.split_once("://").unwrap_or_default();
    let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
    let host = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
    let host = match host.strip_prefix('[') {
        Some(six) => six.split(']').next().unwrap_or_default(),
        None => host.split(':').next().unwrap_or_default(),
    };
    let is_plain = named.text.chars().all(|c| c.is_ascii_graphic());
    let problem = match scheme {
        "http" | "https" if host.is_empty() || !is_plain => Some(("bad-url", "is no URL")),
        "http" if !is_loopback(host) => Some(("not-secured", "would leave the machine in the clear")),
        "http" | "https" if authority.contains('@') => Some(("secret-in-url", "has a secret in it")),
        "http" | "https" => None,
        _ => Some(("bad-url", "is no URL")),
    };
    let Some((code, what)) = problem else { return Some(named.text) };
    let help = match code {
        "secret-in-url" => "take it out, and write token = \"env:NAME\"",
        _ => "write \"https://desk.example/tickets\"; http is for this machine alone",
    };
    if code == "secret-in-url" {
        reader.error(code, format!("`url` {what}"), place_beside(table), help);
    } else {
        reader.report(Diagnostic::error(code, format!("`{}` {what}", named.text), named.span).help(help));
    }
    None
}

/// Returns a place of a channel to point at instead of one that perhaps shows a secret.
fn place_beside(table: &Table<'_>) -> Range<usize> {
    table.get("id").map_or_else(|| table.heading(), |id| id.span())
}

fn secret(reader: &mut TableReader<'_>, table: &Table<'_>, key: &str) -> Option<SecretPlace> {
    let named = reader.named(table, key)?;
    let place = match named.text.split_once(':') {
        Some(("env", name)) if !name.is_empty() => Some(SecretPlace::Environment(name.to_owned())),
        Some(("file", path)) if !path.is_empty() => Some(SecretPlace::File(path.to_owned())),
        _ => None,
    };
    if place.is_none() {
        let help = format!("write {key} = \"env:NAME\" or \"file:PATH\"; a secret is never written into this file");
        let message = format!("`{key}` does not say where the secret is");
        reader.error("bad-secret", message, place_beside(table), help);
    }
    place
}

fn recipient(reader: &mut TableReader<'_>, table: &Table<'_>, channels: &[Channel]) -> Option<Recipient> {
    let id = reader.id(table, "a [[recipient]]")?;
    if RESERVED.contains(&id.text.as_str()) {
        let message = format!("a recipient cannot be called `{}`", id.text);
        reader.report(
            Diagnostic::error("reserved-id", message, id.span)
                .help("steps mean those around the device by it; take another id"),
        );
        return None;
    }
    let by = match (table.get("mail").is_some(), table.get("channel").is_some()) {
        (true, false) => Reached::Mail(address(reader, table, "mail")?),
        (false, true) => Reached::Channel(channel_named(reader, table, "channel", channels)?),
        (false, false) | (true, true) => {
            let help = "write mail = \"desk@company.example\", or channel = \"desk\"";
            let message = format!("recipient `{}` has no one way to be reached", id.text);
            reader.report(Diagnostic::error("no-address", message, id.span).help(help));
            return None;
        }
    };
    Some(Recipient { id: id.text, by })
}

fn channel_named(reader: &mut TableReader<'_>, table: &Table<'_>, key: &str, channels: &[Channel]) -> Option<String> {
    let named = reader.named(table, key)?;
    if channels.iter().any(|channel| channel.id == named.text) {
        return Some(named.text);
    }
    let help = did_you_mean(&named.text, channels.iter().map(|channel| channel.id.as_str()), || {
        "write it as a [[channel]]".to_owned()
    });
    let message = format!("there is no channel `{}`", named.text);
    reader.report(Diagnostic::error("unknown-channel", message, named.span).help(help));
    None
}

fn read_responses(reader: &mut TableReader<'_>, table: &Table<'_>, settings: &mut SendSettings) {
    settings.default = reader.named(table, "default");
    settings.access = reader.named(table, "access");
    if let Some(severities) = reader.table(table, "by_severity") {
        for severity in RuleSeverity::ALL {
            let named = reader.named(&severities, severity.as_str());
            settings.by_severity.extend(named.map(|named| (severity, named)));
        }
    }
    settings.mail = channel_named(reader, table, "mail", &settings.channels);
    settings.commands = channel_named(reader, table, "commands", &settings.channels);
    check_carriers(reader, table, settings);
    if let Some(named) = reader.named(table, "fallback") {
        match settings.recipient(&named.text) {
            Some(_) => settings.fallback = Some(named.text),
            None => {
                let known = settings.recipients.iter().map(|recipient| recipient.id.as_str());
                let help = did_you_mean(&named.text, known, || "write it as a [[recipient]]".to_owned());
                let message = format!("there is no recipient `{}`", named.text);
                reader.report(Diagnostic::error("unknown-recipient", message, named.span).help(help));
            }
        }
    }
    if let Some(named) = reader.named(table, "brake") {
        let percent = named.text.strip_suffix('%').and_then(|number| number.trim().parse::<f64>().ok());
        match percent.filter(|percent| (0.0..=100.0).contains(percent)) {
            Some(percent) => settings.brake = percent / 100.0,
            None => reader.report(
                Diagnostic::error("bad-brake", format!("`{}` is no share of the fleet", named.text), named.span)
                    .help("write brake = \"10%\""),
            ),
        }
    }
    settings.approval_for = reader.period(table, "approval_for").unwrap_or(settings.approval_for);
    if let Some(quiet) = reader.table(table, "quiet")
        && reader.is_complete(&quiet, "`quiet`", "write { from = \"20:00\", until = \"06:30\" }")
    {
        let (from, until) = (hour(reader, &quiet, "from"), hour(reader, &quiet, "until"));
        let days_off = reader.boolean(&quiet, "days_off").unwrap_or(false);
        settings.quiet = from.zip(until).map(|(from, until)| QuietHours { from, until, days_off });
    }
}

/// Checks that the channels for people and for commands can carry them.
fn check_carriers(reader: &mut TableReader<'_>, table: &Table<'_>, settings: &SendSettings) {
    let carriers = [("mail", &settings.mail), ("commands", &settings.commands)];
    for (key, named) in carriers {
        let Some(channel) = named.as_ref().and_then(|id| settings.channel(id)) else { continue };
        let is_fit = match &channel.kind {
            ChannelKind::Folder { .. } => true,
            ChannelKind::Smtp { .. } => key == "mail",
            ChannelKind::Commands { .. } => key == "commands",
            ChannelKind::Webhook { .. } => false,
        };
        if !is_fit {
            let message = format!("channel `{}` cannot carry {key}", channel.id);
            let span = table.get(key).map_or(0..0, |value| value.span());
            let help = match key {
                "mail" => "people are told over a channel of kind smtp or folder",
                _ => "commands go over a channel of kind commands or folder",
            };
            reader.error("wrong-kind", message, span, help);
        }
    }
}

fn hour(reader: &mut TableReader<'_>, table: &Table<'_>, key: &str) -> Option<Time> {
    let named = reader.named(table, key)?;
    let time = Time::strptime("%H:%M", &named.text).ok();
    if time.is_none() {
        let message = format!("`{}` is no time of day", named.text);
        reader.report(Diagnostic::error("bad-hour", message, named.span).help("write \"20:00\""));
    }
    time
}
