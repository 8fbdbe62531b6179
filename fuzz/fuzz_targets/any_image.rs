#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| punchdog_lab::inputs::any_image(bytes));
