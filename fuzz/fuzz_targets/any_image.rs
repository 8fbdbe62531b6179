#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| punchdog_damage::inputs::any_image(bytes));
