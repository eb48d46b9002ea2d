//! Endpoints that take events over HTTP: CloudEvents 1.0 in structured mode, each with an `Idempotency-Key`. Redirects are not
//! followed, and no more of a reply is read than it may be long.

use std::time::Duration;

use serde_json::Value as Json;
use ureq::http::Response;
use ureq::{Agent, Body, Error, RequestBuilder, Timeout};

use crate::secret::Secret;
use crate::{
    Answer, Asked, CONNECT_SECONDS, Channel, CommandState, Content, DELIVERY_SECONDS, Failure, MOST_OF_A_REPLY,
    Outcome, Outgoing,
};

/// How a structured CloudEvent is labelled.
const EVENT: &str = "application/cloudevents+json; charset=utf-8";

/// Where events go.
#[derive(Clone, Debug)]
pub struct Endpoint {
    /// The URL.
    pub url: String,
    /// The bearer token.
    pub token: Option<Secret>,
}

/// The connection to an endpoint.
struct Client {
    agent: Agent,
    endpoint: Endpoint,
}

impl Client {
    fn new(endpoint: Endpoint) -> Self {
        let mut config = Agent::config_builder()
            .timeout_connect(Some(Duration::from_secs(CONNECT_SECONDS)))
            .timeout_global(Some(Duration::from_secs(DELIVERY_SECONDS)))
            .max_redirects(0)
            .max_redirects_will_error(false)
            .http_status_as_error(false)
            .user_agent(concat!("fencepost/", env!("CARGO_PKG_VERSION")))
            .accept_encoding("identity");
        // Without TLS it is this machine, to which no proxy leads.
        if endpoint.url.starts_with("http://") {
            config = config.proxy(None);
        }
        Self { agent: config.build().new_agent(), endpoint }
    }

    fn authorized<B>(&self, request: RequestBuilder<B>) -> RequestBuilder<B> {
        match &self.endpoint.token {
            Some(token) => request.header("authorization", format!("Bearer {}", token.reveal())),
            None => request,
        }
    }

    /// Posts an event; what it comes to, where the receiver answers at all.
    fn post(&self, key: &str, event: &Json) -> Result<Response<Body>, Outcome> {
        let request = self.authorized(self.agent.post(&self.endpoint.url));
        let request = request.header("content-type", EVENT).header("idempotency-key", key);
        let response = request.send(event.to_string()).map_err(|error| outcome_of(&error))?;
        match response.status().as_u16() {
            200..=299 => Ok(response),
            300..=399 => Err(not_delivered(format!("it answered {}; redirects are not followed", response.status()))),
            401 | 403 => {
                let because = format!("it answered {}: is the token right?", response.status());
                Err(Outcome::NotDelivered(Failure::of_channel(because)))
            }
            _ => Err(not_delivered(format!("it answered {}", response.status()))),
        }
    }
}

fn not_delivered(because: String) -> Outcome {
    Outcome::NotDelivered(Failure::of_delivery(because))
}

/// Tells whether a request that failed may have been heard.
fn outcome_of(error: &Error) -> Outcome {
    let because = in_words(error);
    match error {
        Error::ConnectionFailed | Error::HostNotFound | Error::Tls(_) | Error::Rustls(_) | Error::TlsRequired => {
            Outcome::NotDelivered(Failure::of_channel(because))
        }
        Error::Timeout(Timeout::Resolve | Timeout::Connect) => Outcome::NotDelivered(Failure::of_channel(because)),
        Error::Io(error) if error.kind() == std::io::ErrorKind::ConnectionRefused => {
            Outcome::NotDelivered(Failure::of_channel(because))
        }
        Error::BadUri(_) | Error::Http(_) | Error::InvalidProxyUrl | Error::ConnectProxyFailed(_) => {
            Outcome::NotDelivered(Failure::of_channel(because))
        }
        Error::Timeout(_) => Outcome::Unknown(Failure::of_channel(because)),
        _ => Outcome::Unknown(Failure::of_delivery(because)),
    }
}

fn in_words(error: &Error) -> String {
    match error {
        Error::Timeout(Timeout::Connect | Timeout::Resolve) => format!("no connection within {CONNECT_SECONDS} s"),
        Error::Timeout(_) => format!("no answer within {DELIVERY_SECONDS} s"),
        Error::ConnectionFailed => "the connection was refused".to_owned(),
        Error::Io(error) if error.kind() == std::io::ErrorKind::ConnectionRefused => {
            "the connection was refused".to_owned()
        }
        Error::Io(_) => "the connection was lost before an answer came".to_owned(),
        Error::HostNotFound => "the host is not known".to_owned(),
        Error::Protocol(_) => "what answers does not speak HTTP".to_owned(),
        other => other.to_string(),
    }
}

/// Reads what a receiver of commands says: `{"state", "because"}`.
fn answer_of(mut response: Response<Body>) -> Result<Answer, String> {
    const MOST_CHARACTERS: usize = 300;
    let text = response.body_mut().with_config().limit(MOST_OF_A_REPLY).read_to_string();
    let text = text.map_err(|error| match error {
        Error::BodyExceedsLimit(_) => format!("the reply is longer than {} KiB", MOST_OF_A_REPLY >> 10),
        other => in_words(&other),
    })?;
    let reply: Json = serde_json::from_str(&text).map_err(|_| "the reply is no JSON".to_owned())?;
    let word = reply.get("state").and_then(Json::as_str).unwrap_or_default();
    let states: Vec<&str> = CommandState::ALL.map(CommandState::as_str).to_vec();
    let state = CommandState::parse(word)
        .ok_or_else(|| format!("the reply has no state that is one of {}", states.join(", ")))?;
    let because = reply.get("because").and_then(Json::as_str);
    Ok(Answer { state, because: because.map(|text| text.chars().take(MOST_CHARACTERS).collect()) })
}

/// A webhook.
pub struct Webhook(Client);

impl Webhook {
    /// Returns the webhook at an endpoint.
    pub fn new(endpoint: Endpoint) -> Self {
        Self(Client::new(endpoint))
    }
}

impl Channel for Webhook {
    fn deliver(&mut self, outgoing: &Outgoing<'_>) -> Outcome {
        let Content::Event(event) = outgoing.content else { return not_an_event() };
        match self.0.post(outgoing.key, event) {
            Ok(mut response) => {
                // The connection can be used again when the reply was read; what it says is nothing to us.
                let _ = response.body_mut().with_config().limit(MOST_OF_A_REPLY).read_to_vec();
                Outcome::Delivered { answer: None }
            }
            Err(outcome) => outcome,
        }
    }
}

/// An endpoint that has devices commanded, and can be asked about each command by its key.
pub struct CommandEndpoint(Client);

impl CommandEndpoint {
    /// Returns the command endpoint.
    pub fn new(endpoint: Endpoint) -> Self {
        Self(Client::new(endpoint))
    }
}

impl Channel for CommandEndpoint {
    fn deliver(&mut self, outgoing: &Outgoing<'_>) -> Outcome {
        let Content::Event(event) = outgoing.content else { return not_an_event() };
        match self.0.post(outgoing.key, event) {
            Ok(response) => match answer_of(response) {
                Ok(answer) => Outcome::Delivered { answer: Some(answer) },
                Err(because) => Outcome::Unknown(Failure::of_delivery(because)),
            },
            Err(outcome) => outcome,
        }
    }

    fn ask(&mut self, key: &str) -> Asked {
        let url = format!("{}/{key}", self.0.endpoint.url.trim_end_matches('/'));
        let response = match self.0.authorized(self.0.agent.get(url)).call() {
            Ok(response) => response,
            Err(error) => {
                return Asked::NoAnswer(match outcome_of(&error) {
                    Outcome::NotDelivered(failure) | Outcome::Unknown(failure) => failure,
                    Outcome::Delivered { .. } => Failure::of_delivery(in_words(&error)),
                });
            }
        };
        match response.status().as_u16() {
            200..=299 => match answer_of(response) {
                Ok(answer) => Asked::Known(answer),
                Err(because) => Asked::NoAnswer(Failure::of_delivery(because)),
            },
            404 => Asked::NotKnown,
            _ => Asked::NoAnswer(Failure::of_delivery(format!("it answered {}", response.status()))),
        }
    }
}

fn not_an_event() -> Outcome {
    not_delivered("this channel carries events, not messages".to_owned())
}
