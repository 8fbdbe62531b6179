#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| punchdog_damage::inputs::struck_disk(bytes));
