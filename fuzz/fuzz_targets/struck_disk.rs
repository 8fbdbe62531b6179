#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| punchdog_lab::inputs::struck_disk(bytes));
