//! Any bytes as a file of each kind that is walked: the first byte says which.
#![no_main]

use libfuzzer_sys::fuzz_target;
use punchdog_core::formats::{BEGINNING, End, Format, Tape, begins, walk, walk_with_stands};

const EXTENSIONS: [&str; 24] = [
    "jpg", "png", "gif", "bmp", "tif", "heic", "mp4", "avi", "wav", "mts", "mp3", "flac", "ogg", "mkv", "pdf", "zip",
    "doc", "sqlite", "7z", "gz", "rtf", "html", "xml", "txt",
];

fuzz_target!(|data: &[u8]| {
    let Some((first, bytes)) = data.split_first() else { return };
    let named = EXTENSIONS.get(usize::from(*first) % EXTENSIONS.len()).and_then(|own| Format::of_extension(own));
    for format in [named, begins(&bytes[..bytes.len().min(BEGINNING)])].into_iter().flatten() {
        let walked = walk(format, &mut Tape::new(&bytes));
        if let End::Whole { length, .. } = walked.end {
            assert!(length <= bytes.len() as u64);
        }
        walk_with_stands(format, &mut Tape::new(&bytes), 512);
    }
});
