//! Bodies of the ledger: whatever bytes stand there, decompressing them ends, within the limit of a body.
use fencepost_core::limits::BODY_BYTES;
use fencepost_store::Ledger;

/// Runs the target on one input.
///
/// # Panics
/// If what the target promises does not hold.
pub fn run(bytes: &[u8]) {
    let ledger = Ledger::in_memory().expect("a ledger in memory");
    let reader = ledger.reader().expect("it can be read");
    let bodies = reader.bodies().expect("it has no dictionary");
    if let Ok(body) = bodies.unpacker().unpack(bytes) {
        assert!(body.len() <= BODY_BYTES);
    }
}
