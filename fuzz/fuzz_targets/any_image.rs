//! Any bytes as an image.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| punchdog_fuzz::ask_volume(bytes.to_vec()));
