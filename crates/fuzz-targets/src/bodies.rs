//! Bodies of the ledger: whatever bytes stand there, decompressing them ends, within the limit of a body.
use std::sync::Arc;

use fencepost_core::limits::BODY_BYTES;
use fencepost_store::{Bodies, Ledger};

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    // Opening a ledger takes a thousand times as long as decompressing a body.
    thread_local!(static BODIES: Arc<Bodies> = {
        let ledger = Ledger::in_memory().expect("a ledger in memory");
        ledger.reader().and_then(|reader| reader.bodies()).expect("it has no dictionary")
    });
    BODIES.with(|bodies| {
        if let Ok(body) = bodies.unpacker().unpack(bytes) {
            assert!(body.len() <= BODY_BYTES);
        }
    });
}
