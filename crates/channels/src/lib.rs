//! Ways out of the house: mail, webhooks, command endpoints and folders. One call makes one delivery, and says honestly what became
//! of it. What is sent, to whom and when is decided elsewhere.

mod deadline;
mod folder;
mod http;
mod mail;
mod secret;

use jiff::Timestamp;
use serde_json::Value as Json;

pub use folder::Folder;
pub use http::{CommandEndpoint, Endpoint, Webhook};
pub use mail::{Credentials, MailChannel, MailServer, Security};
pub use secret::{ReadSecret, Secret, secret_of_environment, secret_of_file};

/// How long a connection may take to be made, in seconds.
pub const CONNECT_SECONDS: u64 = 10;
/// How long a delivery may take in all, in seconds.
pub const DELIVERY_SECONDS: u64 = 30;
/// No more of a reply is read, in bytes.
pub const MOST_OF_A_REPLY: u64 = 64 << 10;

/// What goes out.
#[derive(Clone, Debug, PartialEq)]
pub struct Outgoing<'d> {
    /// What the receiver knows it by, the same however often it is tried. Letters, digits and hyphens.
    pub key: &'d str,
    /// When it was decided to send it.
    pub at: Timestamp,
    /// Whom it is for: a mail address, a recipient, or a device.
    pub to: &'d str,
    /// What it says.
    pub content: Content<'d>,
}

/// What a delivery says.
#[derive(Clone, Debug, PartialEq)]
pub enum Content<'d> {
    /// A message to be read.
    Message {
        /// Its subject, one line.
        subject: &'d str,
        /// Its text.
        text: &'d str,
        /// The same as HTML, where there is that too.
        html: Option<&'d str>,
    },
    /// An event to be acted on: a CloudEvent 1.0 as JSON.
    Event(&'d Json),
}

/// What became of a delivery.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It was taken.
    Delivered {
        /// What the receiver of a command says of it.
        answer: Option<Answer>,
    },
    /// It did not go out.
    NotDelivered(Failure),
    /// It may have gone out.
    Unknown(Failure),
}

/// Why a delivery failed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// Why, in words; nothing secret.
    pub because: String,
    /// Whether the channel itself is out of order, so that others would fail as well.
    pub is_channel_down: bool,
}

impl Failure {
    fn of_delivery(because: impl Into<String>) -> Self {
        Self { because: because.into(), is_channel_down: false }
    }

    fn of_channel(because: impl Into<String>) -> Self {
        Self { because: because.into(), is_channel_down: true }
    }
}

/// How far a command has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CommandState {
    /// The receiver took it on.
    Accepted,
    /// The device has not been reached yet.
    Pending,
    /// The device carried it out.
    Done,
    /// It will not be carried out.
    Refused,
    /// The device cannot do it.
    Unsupported,
}

impl CommandState {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Accepted, Self::Pending, Self::Done, Self::Refused, Self::Unsupported];

    /// Returns the word that receivers use.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Accepted => "accepted",
            Self::Pending => "pending",
            Self::Done => "done",
            Self::Refused => "refused",
            Self::Unsupported => "unsupported",
        }
    }

    /// Reads the word back.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.as_str() == word)
    }
}

/// What the receiver of a command says of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// How far it has come.
    pub state: CommandState,
    /// Why, in the receiver's words.
    pub because: Option<String>,
}

/// What a receiver says of a delivery that it is asked about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Asked {
    /// It has it.
    Known(Answer),
    /// It never got it.
    NotKnown,
    /// It cannot be asked, or gave no answer.
    NoAnswer(Failure),
}

/// A way out.
pub trait Channel {
    /// Makes one delivery.
    fn deliver(&mut self, outgoing: &Outgoing<'_>) -> Outcome;

    /// Asks the receiver what became of a delivery; most cannot be asked.
    fn ask(&mut self, key: &str) -> Asked {
        let _ = key;
        Asked::NoAnswer(Failure::of_delivery("this channel cannot be asked"))
    }
}
