//! A limit on the time that a call may take which has none of its own.

use std::sync::mpsc;
use std::thread;
use std::time::Duration;

/// Runs `work` on a thread of its own and returns what it comes to; none where that takes longer than `limit`. The thread is left
/// alone then, and ends when its own limits do.
pub(crate) fn within<T: Send + 'static>(limit: Duration, work: impl FnOnce() -> T + Send + 'static) -> Option<T> {
    let (sender, receiver) = mpsc::channel();
    // Whoever waits may have gone.
    thread::spawn(move || drop(sender.send(work())));
    receiver.recv_timeout(limit).ok()
}
