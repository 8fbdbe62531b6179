#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| punchdog_damage::inputs::walk_file(bytes));
