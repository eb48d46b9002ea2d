#![no_main]
libfuzzer_sys::fuzz_target!(|bytes: &[u8]| fencepost_fuzz_targets::bodies::run(bytes));
