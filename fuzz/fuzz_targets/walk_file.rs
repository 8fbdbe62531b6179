#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| punchdog_lab::inputs::walk_file(bytes));
