//! A station that has devices commanded: some are asleep, some refuse, and some cannot do what is asked.

use std::collections::BTreeMap;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use super::http::{ReceivedEvent, Request, converse};
use super::{Behaviour, Shared, lock, serve};
use crate::json::text;

/// A command that the station took on.
#[derive(Clone, Debug)]
struct Taken {
    device: String,
    /// How often it was asked about.
    asked: u32,
}

/// A station for commands on a port of this machine.
#[derive(Clone, Debug)]
pub struct CommandStation {
    /// Where it listens.
    pub address: SocketAddr,
    shared: Arc<Shared<ReceivedEvent>>,
    taken: Arc<Mutex<BTreeMap<String, Taken>>>,
}

impl CommandStation {
    /// Starts it. Devices whose names have `asleep`, `stubborn` or `plain` in them are asleep when first asked, refuse, or cannot do
    /// what is asked; all others do it at once.
    ///
    /// # Errors
    /// When there is no port to be had.
    pub fn start() -> io::Result<Self> {
        let (shared, taken) = (Arc::default(), Arc::<Mutex<BTreeMap<String, Taken>>>::default());
        let known = Arc::clone(&taken);
        let address = serve(&shared, move |shared: &Shared<ReceivedEvent>, stream| {
            converse(stream, || shared.behaviour(), |request| answer(shared, &known, request))
        })?;
        Ok(Self { address, shared, taken })
    }

    /// Returns the URL that commands are sent to.
    pub fn url(&self) -> String {
        format!("http://{}/commands", self.address)
    }

    /// Says how it behaves from now on.
    pub fn behave(&self, behaviour: Behaviour) {
        *lock(&self.shared.behaviour) = behaviour;
    }

    /// Returns everything that came, also what came more than once.
    pub fn received(&self) -> Vec<ReceivedEvent> {
        lock(&self.shared.received).clone()
    }

    /// Returns the keys of the commands that it took on: one each, however often it was told.
    pub fn commands(&self) -> Vec<String> {
        lock(&self.taken).keys().cloned().collect()
    }
}

fn answer(
    shared: &Shared<ReceivedEvent>,
    known: &Mutex<BTreeMap<String, Taken>>,
    request: &Request,
) -> (&'static str, String) {
    let mut known = lock(known);
    if request.method == "GET" {
        let key = request.path.rsplit('/').next().unwrap_or_default();
        return match known.get_mut(key) {
            Some(taken) => {
                taken.asked += 1;
                ("200 OK", state_of(taken))
            }
            None => ("404 Not Found", "{}".to_owned()),
        };
    }
    let event = request.event();
    let taken = Taken { device: text_at(&event.body, "device"), asked: 0 };
    shared.keep(event.clone());
    let taken = known.entry(event.key).or_insert(taken);
    ("202 Accepted", state_of(taken))
}

fn state_of(taken: &Taken) -> String {
    let has = |word: &str| taken.device.contains(word);
    let (state, because) = match taken.asked {
        _ if has("stubborn") => ("refused", Some("the device is not enrolled any more")),
        _ if has("plain") => ("unsupported", Some("the device cannot be locked from afar")),
        0 if has("asleep") => ("pending", Some("the device is asleep")),
        _ => ("done", None),
    };
    let because = because.map_or_else(|| "null".to_owned(), text);
    format!("{{\"state\":{},\"because\":{because}}}", text(state))
}

/// Returns the text at a key somewhere in a JSON text, which is enough of reading for a device's name.
fn text_at(json: &str, key: &str) -> String {
    let found = json.split_once(&format!("\"{key}\":\"")).map(|(_, rest)| rest);
    found.and_then(|rest| rest.split('"').next()).unwrap_or_default().to_owned()
}
