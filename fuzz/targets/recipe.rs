#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| stavel_work::trials::recipe(data));
