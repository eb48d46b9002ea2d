//! The lines of a log: what each says, and why it is not counted.

use std::borrow::Cow;
use std::fmt;
use std::hash::BuildHasher as _;

use fencepost_core::{Effect, SignIn};
use jiff::Timestamp;
use serde::Deserialize;
use serde::de::{Deserializer, Visitor};

use super::{Replay, note};
use crate::error::EngineError;

/// A text of a line, read in place where it has no escapes.
#[derive(Deserialize)]
struct Word<'l>(#[serde(borrow)] Cow<'l, str>);

#[derive(Deserialize)]
struct LogLine<'l> {
    #[serde(borrow)]
    at: Option<Word<'l>>,
    #[serde(borrow)]
    person: Option<Word<'l>>,
    #[serde(borrow)]
    device: Option<Word<'l>>,
    #[serde(borrow)]
    service: Option<Word<'l>>,
    #[serde(borrow)]
    client: Option<Word<'l>>,
    #[serde(borrow)]
    address: Option<Word<'l>>,
    #[serde(borrow)]
    platform: Option<Word<'l>>,
    effect: Option<RecordedEffect>,
}

/// What was recorded of a sign-in: a word, or whether it succeeded.
struct RecordedEffect(Result<Effect, String>);

impl<'de> Deserialize<'de> for RecordedEffect {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct EffectVisitor;

        impl Visitor<'_> for EffectVisitor {
            type Value = RecordedEffect;

            fn expecting(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
                out.write_str("permit or deny")
            }

            fn visit_bool<E>(self, succeeded: bool) -> Result<Self::Value, E> {
                Ok(RecordedEffect(Ok(if succeeded { Effect::Permit } else { Effect::Deny })))
            }

            fn visit_str<E>(self, word: &str) -> Result<Self::Value, E> {
                Ok(RecordedEffect(Effect::parse(word).ok_or_else(|| word.to_owned())))
            }
        }

        deserializer.deserialize_any(EffectVisitor)
    }
}

/// A line that says what it has to.
pub(super) struct LoggedSignIn<'l> {
    pub at: Timestamp,
    pub person: Cow<'l, str>,
    pub device: Option<Cow<'l, str>>,
    pub service: usize,
    pub client: Cow<'l, str>,
    pub address: Option<Cow<'l, str>>,
    pub platform: Option<Cow<'l, str>>,
    pub recorded: Option<Effect>,
}

impl LoggedSignIn<'_> {
    /// Returns it as a sign-in, with a device that the ledger knows or not.
    pub(super) fn sign_in(&self, known: bool) -> SignIn {
        let text = |text: &Option<Cow<'_, str>>| text.as_deref().map(str::to_owned);
        SignIn {
            address: text(&self.address),
            platform: text(&self.platform),
            time: Some(self.at),
            known: Some(known),
            ..SignIn::of_client(&self.client)
        }
    }
}

impl Replay<'_> {
    /// Reads a line; the inner error says why it is not counted.
    pub(super) fn parse<'l>(&mut self, line: &'l [u8]) -> Result<Result<LoggedSignIn<'l>, String>, EngineError> {
        let said: LogLine<'l> = match serde_json::from_slice(line) {
            Ok(said) => said,
            Err(error) => return Ok(Err(format!("no sign-in as JSON: {error}"))),
        };
        if !self.seen.insert(self.digests.hash_one(line.trim_ascii())) {
            return Ok(Err("an earlier line says the same".to_owned()));
        }
        let word = |word: Option<Word<'l>>| word.map(|Word(text)| text).filter(|text| !text.is_empty());
        let Some(at) = word(said.at) else { return Ok(Err("it says no `at`: when it was made".to_owned())) };
        let Ok(at) = at.parse::<Timestamp>() else {
            return Ok(Err(format!("`{}` is no moment with its offset, such as 2027-03-14T06:00:00Z", cut(&at))));
        };
        if at > self.now {
            return Ok(Err(format!("{at} is in the future")));
        }
        if self.runs[0].as_of > at {
            return Ok(Err(format!("{at} is before the first assessment, as of {}", self.runs[0].as_of)));
        }
        let Some(person) = word(said.person) else {
            return Ok(Err("it says no `person`".to_owned()));
        };
        let Some(service) = word(said.service) else { return Ok(Err("it says no `service`".to_owned())) };
        let services = self.project.rules.access().services();
        let Some(service) = services.iter().position(|known| known.id.as_str() == service || known.title == service)
        else {
            return Ok(Err(format!("there is no service `{}` in access.toml", cut(&service))));
        };
        let recorded = match said.effect {
            None => None,
            Some(RecordedEffect(Ok(effect))) => Some(effect),
            Some(RecordedEffect(Err(word))) if word.is_empty() => None,
            Some(RecordedEffect(Err(word))) => {
                return Ok(Err(format!("`{}` is no effect: permit or deny", cut(&word))));
            }
        };
        let person = match self.person(person, at)? {
            Ok(person) => person,
            Err(because) => return Ok(Err(because)),
        };
        Ok(Ok(LoggedSignIn {
            at,
            person,
            device: word(said.device),
            service,
            client: word(said.client).unwrap_or_default(),
            address: word(said.address),
            platform: word(said.platform),
            recorded,
        }))
    }

    /// Returns who is meant, by id or, where one person alone is called so, by name; somebody on no list is taken as the id says.
    fn person<'l>(&mut self, said: Cow<'l, str>, at: Timestamp) -> Result<Result<Cow<'l, str>, String>, EngineError> {
        let state = self.state(self.run_before(at))?;
        if state.people.get(&said).is_some() {
            return Ok(Ok(said));
        }
        let wanted = said.to_lowercase();
        let named = state.people.all().filter(|person| person.name().to_lowercase() == wanted);
        let named: Vec<&str> = named.map(|person| person.id.as_str()).collect();
        match named.as_slice() {
            [one] => Ok(Ok(Cow::Owned((*one).to_owned()))),
            [] => {
                note(&mut self.out.unknown_people, &said);
                Ok(Ok(said))
            }
            several => Ok(Err(format!("{} people are called `{}`: {}", several.len(), cut(&said), several.join(", ")))),
        }
    }
}

/// A word of a log, cut to what a message can hold.
fn cut(word: &str) -> String {
    word.chars().take(fencepost_core::limits::QUOTED_CHARS).collect()
}
