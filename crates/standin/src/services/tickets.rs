//! A ticket desk: a webhook that opens one ticket for each key, however often it is told.

use std::collections::BTreeSet;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;

use super::http::{ReceivedEvent, converse};
use super::{Behaviour, Shared, lock, serve};

/// A ticket desk on a port of this machine.
#[derive(Clone, Debug)]
pub struct TicketDesk {
    /// Where it listens.
    pub address: SocketAddr,
    shared: Arc<Shared<ReceivedEvent>>,
}

impl TicketDesk {
    /// Starts it.
    ///
    /// # Errors
    /// When there is no port to be had.
    pub fn start() -> io::Result<Self> {
        let shared = Arc::default();
        let address = serve(&shared, |shared: &Shared<ReceivedEvent>, stream| {
            converse(
                stream,
                || shared.behaviour(),
                |request| {
                    shared.keep(request.event());
                    ("201 Created", "{}".to_owned())
                },
            )
        })?;
        Ok(Self { address, shared })
    }

    /// Returns the URL that tickets are raised at.
    pub fn url(&self) -> String {
        format!("http://{}/tickets", self.address)
    }

    /// Says how it behaves from now on.
    pub fn behave(&self, behaviour: Behaviour) {
        *lock(&self.shared.behaviour) = behaviour;
    }

    /// Returns everything that came, also what came more than once.
    pub fn received(&self) -> Vec<ReceivedEvent> {
        lock(&self.shared.received).clone()
    }

    /// Returns the keys of the tickets that are open: one each, however often it was told of it.
    pub fn tickets(&self) -> BTreeSet<String> {
        self.received().into_iter().map(|event| event.key).collect()
    }
}
