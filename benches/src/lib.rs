//! Takes the time of parts: medians of rounds after a warm-up.

use std::time::{Duration, Instant};

/// How many rounds are counted.
const ROUNDS: usize = 7;

/// Runs something in rounds, and prints what one of its `count` units takes in the median, with the fastest and the slowest
/// round. Words on the command line say which parts are measured, by a chunk of their names.
pub fn measure(name: &str, count: usize, mut run: impl FnMut()) {
    let mut words = std::env::args().skip(1).filter(|word| !word.starts_with('-')).peekable();
    if words.peek().is_some() && !words.any(|word| name.contains(word.as_str())) {
        return;
    }
    run();
    let mut rounds: Vec<Duration> = (0..ROUNDS)
        .map(|_| {
            let start = Instant::now();
            run();
            start.elapsed()
        })
        .collect();
    rounds.sort();
    let each = |round: Duration| round.as_secs_f64() * 1e6 / count as f64;
    let median = rounds[ROUNDS / 2];
    println!("{name:<34} {:>9.3} us  ({:.3} to {:.3})", each(median), each(rounds[0]), each(rounds[ROUNDS - 1]));
}
