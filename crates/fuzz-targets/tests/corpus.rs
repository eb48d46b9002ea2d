//! Runs every fuzz target over its kept inputs and changed ones, on a compiler without a fuzzer.
//!
//! `FENCEPOST_FUZZ_SECONDS` says for how long the inputs of each target are changed; without it each kept input is changed a few
//! times.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use fencepost_fuzz_targets::{TARGETS, Target};

/// How often each kept input is changed where no time is given.
const CHANGES: u64 = 3;

/// A sequence of numbers that is the same in each run (xorshift).
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 % limit.max(1) as u64).expect("it is below a usize")
    }
}

fn kept_inputs(target: &str) -> Vec<Vec<u8>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus").join(target);
    let mut paths: Vec<PathBuf> = fs::read_dir(&folder)
        .unwrap_or_else(|error| panic!("{}: {error}", folder.display()))
        .map(|entry| entry.expect("an entry of the folder").path())
        .collect();
    paths.sort();
    assert!(!paths.is_empty(), "{} is empty", folder.display());
    paths.iter().map(|path| fs::read(path).expect("a kept input")).collect()
}

/// Changes an input in a few places: bits, bytes, and stretches that are doubled, left out, or taken from another input.
fn changed(input: &[u8], other: &[u8], numbers: &mut Numbers) -> Vec<u8> {
    let mut out = input.to_vec();
    for _ in 0..=numbers.below(4) {
        let at = numbers.below(out.len());
        let end = (at + numbers.below(64)).min(out.len());
        match numbers.below(5) {
            0 if !out.is_empty() => out[at] ^= 1 << numbers.below(8),
            1 if !out.is_empty() => out[at] = u8::try_from(numbers.below(256)).expect("a byte"),
            2 => drop(out.drain(at..end)),
            3 => {
                let again = out[at..end].to_vec();
                out.splice(at..at, again);
            }
            _ => {
                let from = numbers.below(other.len());
                let to = (from + numbers.below(64)).min(other.len());
                out.splice(at..end, other[from..to].iter().copied());
            }
        }
    }
    out
}

fn run_target((name, run): Target, time: Option<Duration>) {
    let inputs = kept_inputs(name);
    inputs.iter().for_each(|input| run(input));
    let mut numbers = Numbers(0x9e37_79b9_7f4a_7c15);
    let began = Instant::now();
    let mut done = 0;
    while time.map_or(done < inputs.len() as u64 * CHANGES, |time| began.elapsed() < time) {
        let input = &inputs[numbers.below(inputs.len())];
        let other = &inputs[numbers.below(inputs.len())];
        run(&changed(input, other, &mut numbers));
        done += 1;
    }
    println!("{name}: {} kept inputs, {done} changed ones", inputs.len());
}

#[test]
fn every_target_holds_over_its_kept_inputs_and_changed_ones() {
    let time = std::env::var("FENCEPOST_FUZZ_SECONDS").ok().map(|seconds| {
        Duration::from_secs(seconds.parse().expect("FENCEPOST_FUZZ_SECONDS is a whole number of seconds"))
    });
    for target in TARGETS {
        run_target(target, time);
    }
}
