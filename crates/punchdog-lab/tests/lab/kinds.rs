//! Files of many kinds, made by programs that share nothing with ours (`kinds/README.md` says by which): each is walked
//! to its exact end, and what is not whole is not called so.

use punchdog_core::formats::{BEGINNING, End, Format, Proof, Tape, begins, is_weak, walk};
use punchdog_damage::seed::Seed;
use std::{fs, path::Path};

/// Name, extension, bytes.
fn files() -> Vec<(String, String, Vec<u8>)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/kinds");
    let mut found: Vec<_> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .map(|path| {
            let part = |part: Option<&std::ffi::OsStr>| part.unwrap().to_string_lossy().into_owned();
            (part(path.file_name()), part(path.extension()), fs::read(&path).unwrap())
        })
        .filter(|(_, extension, _)| extension != "md")
        .collect();
    found.sort();
    assert!(found.len() >= 50, "{}", found.len());
    found
}

fn noise(seed: &mut Seed, length: usize) -> Vec<u8> {
    (0..length).map(|_| seed.number().to_le_bytes()[3]).collect()
}

/// What begins in `bytes`, and where walking through it ends.
fn walked(bytes: &[u8]) -> Option<(Format, End)> {
    let format = begins(&bytes[..bytes.len().min(BEGINNING)])?;
    let walked = walk(format, &mut Tape::new(&bytes));
    Some((walked.format, walked.end))
}

#[test]
fn each_file_is_walked_to_its_exact_end() {
    let mut seed = Seed::new(3);
    let mut wrong = Vec::new();
    for (name, extension, bytes) in files() {
        // As it lies on a medium: zeros to the end of the cluster, then something else.
        for (slack, behind) in [(512, 0), (4096, 9000), (4096, 0)] {
            let mut there = bytes.clone();
            there.resize(bytes.len().next_multiple_of(slack), 0);
            there.extend(noise(&mut seed, behind));
            let whole = |end: &End| matches!(end, End::Whole { length, .. } if *length == bytes.len() as u64);
            match walked(&there) {
                Some((format, end)) if whole(&end) && format.extension() == extension => {}
                other => wrong.push((name.clone(), slack, bytes.len(), other)),
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn what_is_cut_or_overwritten_is_not_proved() {
    let mut seed = Seed::new(5);
    let (mut tried, mut wrong) = (0, Vec::new());
    for (name, _, bytes) in files() {
        let proved = matches!(walked(&bytes), Some((_, End::Whole { proof: Proof::Content, .. })));
        for percent in [20, 50, 80, 96] {
            let at = bytes.len() * percent / 100;
            // Cut, with zeros or something else behind; one sector of something else; one of zeros.
            let zeros = [&bytes[..at], &vec![0; 8192]].concat();
            let cut = [&bytes[..at], &noise(&mut seed, 8192)].concat();
            let sector = at / 512 * 512;
            let end = (sector + 512).min(bytes.len());
            let mut struck = bytes.clone();
            struck[sector..end].copy_from_slice(&noise(&mut seed, end - sector));
            let mut blank = bytes.clone();
            blank[sector..end].fill(0);
            let same = blank == bytes;
            for (what, there) in [("zeros", &zeros), ("cut", &cut), ("struck", &struck), ("blank", &blank)] {
                if (what == "blank" && same) || !proved {
                    continue;
                }
                tried += 1;
                if let Some((format, End::Whole { length, proof: Proof::Content })) = walked(there) {
                    wrong.push((name.clone(), what, percent, format, length));
                }
            }
        }
    }
    assert!(tried > 250, "{tried}");
    assert!(wrong.is_empty(), "{} of {tried}: {wrong:#?}", wrong.len());
}

/// A film has no sums. That the lengths of its parts come out, and that no row of zeros stands in them, shows where
/// something else stands: the first wrong byte lies between what is good and where it breaks.
#[test]
fn foreign_bytes_in_the_midst_of_a_film_are_told() {
    let mut seed = Seed::new(17);
    let (mut tried, mut told, mut wrong) = ([0; 2], [0; 2], Vec::new());
    let films = [
        "front.mp4",
        "behind.mov",
        "hevc.mp4",
        "frames.mov",
        "visual.mp4",
        "film.3gp",
        "busy.gif",
        "fragments.mp4",
    ];
    for (name, _, bytes) in files().into_iter().filter(|(name, ..)| films.contains(&name.as_str())) {
        // Behind the index where that is in front, before it where it is not; the first pictures say what is usual.
        let (from, to) = match name.as_str() {
            "front.mp4" => (bytes.len() / 5, bytes.len()),
            _ => (bytes.len() / 5, bytes.len() * 3 / 4),
        };
        for at in (from.next_multiple_of(512)..to - 2048).step_by(512) {
            for blank in [true, false] {
                let mut there = bytes.clone();
                let put = if blank { vec![0; 2048] } else { noise(&mut seed, 2048) };
                there[at..at + 2048].copy_from_slice(&put);
                tried[usize::from(blank)] += 1;
                if let Some((_, End::Broken { good, at: broken, .. })) = walked(&there) {
                    told[usize::from(blank)] += 1;
                    let (good, broken) = (usize::try_from(good).unwrap(), usize::try_from(broken).unwrap());
                    // What stood there may be alike for some bytes.
                    if good > at + 2048 || broken < at {
                        wrong.push((name.clone(), blank, at, good, broken));
                    }
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    // Noise within one part of a picture cannot be told from what it stands for.
    let least = |which: usize, percent: usize| told[which] * 100 >= tried[which] * percent;
    assert!(tried[0] > 300 && least(0, 50) && least(1, 97), "{told:?} of {tried:?}");
}

/// Every walk ends, whatever stands there. `PUNCHDOG_MUTATIONS` takes more than a sample.
#[test]
fn no_bytes_stop_a_walk() {
    let all: usize =
        std::env::var("PUNCHDOG_MUTATIONS").ok().and_then(|text| text.parse().ok()).unwrap_or(8000);
    let mut seed = Seed::new(11);
    let files = files();
    let mut whole = 0;
    for round in 0..all {
        let (_, _, bytes) = &files[round % files.len()];
        let mut there = bytes.clone();
        for _ in 0..=seed.below(12) {
            let at = usize::try_from(seed.below(there.len() as u64)).unwrap();
            // The beginning says what to walk; what it says of lengths comes soon behind.
            let at = if seed.below(2) == 0 { at } else { at % 256 };
            let value = *seed.pick(&[0, 1, 0x7F, 0x80, 0xFE, 0xFF]);
            let length = usize::try_from(1 + seed.below(4)).unwrap().min(there.len() - at);
            there[at..at + length].fill(value);
        }
        let formats =
            [begins(&there[..there.len().min(BEGINNING)]), begins(&bytes[..bytes.len().min(BEGINNING)])];
        for format in formats.into_iter().flatten() {
            let ended = walk(format, &mut Tape::new(&there.as_slice()));
            if let End::Whole { length, .. } = ended.end {
                whole += 1;
                assert!(length <= there.len() as u64, "{format:?} has {length} of {}", there.len());
            }
        }
    }
    // Both happen: else nothing was tried.
    assert!(whole > all / 50 && whole < all * 2, "{whole}");
}

#[test]
fn noise_and_text_begin_no_picture() {
    let mut seed = Seed::new(9);
    let mut strong = 0;
    for _ in 0..20_000 {
        let sector = noise(&mut seed, 512);
        strong += usize::from(begins(&sector).is_some_and(|format| !is_weak(format)));
    }
    assert_eq!(strong, 0);
}
