//! Opens the channels of a workspace, each when something is to go out on it.

use std::collections::HashMap;
use std::path::Path;

use fencepost_channels::{
    Channel, CommandEndpoint, Content, Credentials, Endpoint, Folder, MailChannel, MailServer, Outgoing, ReadSecret,
    Secret, Security, Webhook, secret_of_environment, secret_of_file,
};
use fencepost_formats::{ChannelKind, SecretPlace, Tls};
use jiff::Timestamp;

use super::compose::DeliveryContent;
use crate::workspace::project::Project;

/// Whom mails in a folder come from, where they are not sent by a mail server.
const FOLDER_FROM: &str = "fencepost@localhost";

/// The channels of a workspace that were opened.
pub(crate) struct Carriers<'p> {
    project: &'p Project,
    open: HashMap<String, Carrier>,
    /// Files with secrets in them that others can read.
    pub exposed: Vec<String>,
}

/// A channel, or why it is of no use in this run.
enum Carrier {
    Open(Box<dyn Channel>),
    Down(String),
}

impl<'p> Carriers<'p> {
    pub(crate) fn new(project: &'p Project) -> Self {
        Self { project, open: HashMap::new(), exposed: Vec::new() }
    }

    /// Returns a channel; why there is none of use, in words.
    pub(crate) fn channel(&mut self, id: &str) -> Result<&mut dyn Channel, String> {
        if !self.open.contains_key(id) {
            let carrier = match self.opened(id) {
                Ok(channel) => Carrier::Open(channel),
                Err(because) => Carrier::Down(because),
            };
            self.open.insert(id.to_owned(), carrier);
        }
        match self.open.get_mut(id) {
            Some(Carrier::Open(channel)) => Ok(&mut **channel),
            Some(Carrier::Down(because)) => Err(because.clone()),
            None => Err(format!("there is no channel `{id}`")),
        }
    }

    /// Says that a channel is out of order: nothing more is tried on it in this run.
    pub(crate) fn close(&mut self, id: &str, because: &str) {
        self.open.insert(id.to_owned(), Carrier::Down(because.to_owned()));
    }

    /// Returns why a channel is of no use any more in this run.
    pub(crate) fn why_down(&self, id: &str) -> Option<&str> {
        match self.open.get(id) {
            Some(Carrier::Down(because)) => Some(because),
            Some(Carrier::Open(_)) | None => None,
        }
    }

    fn opened(&mut self, id: &str) -> Result<Box<dyn Channel>, String> {
        let project = self.project;
        let Some(channel) = project.config.send.channel(id) else { return Err(format!("there is no channel `{id}`")) };
        Ok(match &channel.kind {
            ChannelKind::Folder { path } => Box::new(Folder::new(project.root.join(path), FOLDER_FROM.to_owned())),
            ChannelKind::Webhook { url, token } => Box::new(Webhook::new(self.endpoint(url, token.as_ref())?)),
            ChannelKind::Commands { url, token } => Box::new(CommandEndpoint::new(self.endpoint(url, token.as_ref())?)),
            ChannelKind::Smtp { host, port, tls, from, user, password } => {
                let credentials = match (user, password) {
                    (Some(user), Some(password)) => {
                        Some(Credentials { user: self.secret(user)?, password: self.secret(password)? })
                    }
                    _ => None,
                };
                let security = match tls {
                    Tls::StartTls => Security::StartTls,
                    Tls::Implicit => Security::Implicit,
                    Tls::None => Security::None,
                };
                let (host, from) = (host.clone(), from.clone());
                Box::new(MailChannel::new(MailServer { host, port: *port, security, from, credentials }))
            }
        })
    }

    fn endpoint(&mut self, url: &str, token: Option<&SecretPlace>) -> Result<Endpoint, String> {
        let token = token.map(|place| self.secret(place)).transpose()?;
        Ok(Endpoint { url: url.to_owned(), token })
    }

    fn secret(&mut self, place: &SecretPlace) -> Result<Secret, String> {
        let ReadSecret { secret, is_exposed } = match place {
            SecretPlace::Environment(name) => secret_of_environment(name)?,
            SecretPlace::File(path) => secret_of_file(&self.project.root.join(Path::new(path)))?,
        };
        if let (true, SecretPlace::File(path)) = (is_exposed, place)
            && !self.exposed.contains(path)
        {
            self.exposed.push(path.clone());
        }
        Ok(secret)
    }
}

/// Returns a delivery as channels take it.
pub(crate) fn outgoing<'o>(key: &'o str, to: &'o str, content: &'o DeliveryContent, at: Timestamp) -> Outgoing<'o> {
    let content = match content {
        DeliveryContent::Message { subject, text, html } => Content::Message { subject, text, html: html.as_deref() },
        DeliveryContent::Event(event) => Content::Event(event),
    };
    Outgoing { key, at, to, content }
}
