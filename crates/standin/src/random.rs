//! Numbers that look random and are the same everywhere: a hash of what they are for.

/// Returns a number that depends on every part of `of`, by FNV-1a and the finalizer of SplitMix64.
pub fn draw(of: &[&str]) -> u64 {
    let mut hash: u64 = 0xcbf2_9ce4_8422_2325;
    for part in of {
        for byte in part.bytes().chain([0xff]) {
            hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
        }
    }
    hash = (hash ^ (hash >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    hash = (hash ^ (hash >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    hash ^ (hash >> 31)
}

/// Returns a number below `limit`.
pub fn below(limit: u64, of: &[&str]) -> u64 {
    draw(of) % limit.max(1)
}
