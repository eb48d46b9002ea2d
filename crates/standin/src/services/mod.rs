//! Services that messages, tickets and commands are sent to, as small stand-ins on this machine: a mail server, a ticket desk, and a
//! station that has devices commanded. Each keeps what it got, and can be told to misbehave.

mod commands;
mod http;
mod mail;
mod tickets;

use std::io;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Duration;

pub use commands::CommandStation;
pub use http::ReceivedEvent;
pub use mail::{MailSink, ReceivedMail};
pub use tickets::TicketDesk;

/// How a service behaves.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Behaviour {
    /// It takes what comes.
    #[default]
    Takes,
    /// It says no.
    Refuses,
    /// It says that it cannot take anything just now.
    IsBusy,
    /// It ends the connection before it has taken anything.
    DropsBefore,
    /// It takes what comes, and ends the connection before it says so.
    DropsAfter,
    /// It sends whoever comes somewhere else.
    Redirects,
    /// It takes what comes, and answers what nobody understands.
    AnswersNonsense,
    /// It takes what comes, and answers at endless length.
    AnswersAtLength,
    /// It takes its time before it answers.
    IsSlow(Duration),
}

impl Behaviour {
    /// Reads a behaviour as the command line has it, `refuses`, `is-slow`.
    pub fn parse(word: &str) -> Option<Self> {
        Some(match word {
            "takes" => Self::Takes,
            "refuses" => Self::Refuses,
            "is-busy" => Self::IsBusy,
            "drops-before" => Self::DropsBefore,
            "drops-after" => Self::DropsAfter,
            "redirects" => Self::Redirects,
            "answers-nonsense" => Self::AnswersNonsense,
            "answers-at-length" => Self::AnswersAtLength,
            "is-slow" => Self::IsSlow(Duration::from_secs(5)),
            _ => return None,
        })
    }
}

/// What a service has in common with those who look at it: how it behaves, and what it got.
#[derive(Debug)]
struct Shared<T> {
    behaviour: Mutex<Behaviour>,
    received: Mutex<Vec<T>>,
}

impl<T> Default for Shared<T> {
    fn default() -> Self {
        Self { behaviour: Mutex::default(), received: Mutex::new(Vec::new()) }
    }
}

impl<T> Shared<T> {
    fn behaviour(&self) -> Behaviour {
        *lock(&self.behaviour)
    }

    fn keep(&self, received: T) {
        lock(&self.received).push(received);
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Listens on a port of this machine, and serves each connection on a thread of its own. It ends with the process.
fn serve<T: Send + Sync + 'static>(
    shared: &Arc<Shared<T>>,
    each: impl Fn(&Shared<T>, TcpStream) -> io::Result<()> + Send + Sync + 'static,
) -> io::Result<SocketAddr> {
    let listener = TcpListener::bind(("127.0.0.1", 0))?;
    let address = listener.local_addr()?;
    let (shared, each) = (Arc::clone(shared), Arc::new(each));
    thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let (shared, each) = (Arc::clone(&shared), Arc::clone(&each));
            // Whoever goes away in the middle is no concern of the others.
            thread::spawn(move || drop(each(&shared, stream)));
        }
    });
    Ok(address)
}
