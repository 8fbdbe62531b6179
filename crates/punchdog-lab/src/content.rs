//! What the station's files hold: logs, tables, notes, small pictures and sounds.

use crate::seed::Seed;
use std::fmt::Write;

/// A line-by-line log of an instrument.
pub fn log(seed: &mut Seed, lines: usize) -> Vec<u8> {
    let words =
        ["started", "battery low", "clock set", "sample stored", "door opened", "card full", "asleep"];
    let mut text = String::from("Skerry Point field station, instrument log\r\n");
    for line in 0..lines {
        let (hour, minute) = (line / 60 % 24, line % 60);
        let _ = writeln!(
            text,
            "{hour:02}:{minute:02}  {}  {:.2} V\r",
            seed.pick(&words),
            11.0 + hundredths(seed, 200)
        );
    }
    text.into_bytes()
}

/// Tide heights, a row every ten minutes.
pub fn tides(seed: &mut Seed, rows: usize) -> Vec<u8> {
    let mut text = String::from("minute;height_m;temperature_c\r\n");
    for row in 0..rows {
        let _ = writeln!(
            text,
            "{};{:.2};{:.2}\r",
            row * 10,
            1.0 + hundredths(seed, 350),
            6.0 + hundredths(seed, 400)
        );
    }
    text.into_bytes()
}

/// Counts of birds by ledge.
pub fn counts(seed: &mut Seed, rows: usize) -> Vec<u8> {
    let birds = ["razorbill", "kittiwake", "puffin", "fulmar", "shag"];
    let mut text = String::from("ledge,bird,adults,chicks\r\n");
    for row in 0..rows {
        let _ = writeln!(text, "{},{},{},{}\r", row % 40, seed.pick(&birds), seed.below(60), seed.below(40));
    }
    text.into_bytes()
}

/// A note in plain words.
pub fn note(seed: &mut Seed, sentences: usize) -> Vec<u8> {
    let parts = [
        "Wind from the west, swell on the landing.",
        "Two razorbills back on ledge nine.",
        "Changed the card in the nest camera.",
        "The tide gauge was dry for an hour.",
        "Fog until noon, no counts.",
        "A gull took the lens cap.",
    ];
    let lines: Vec<&str> = (0..sentences).map(|_| *seed.pick(&parts)).collect();
    lines.join("\r\n").into_bytes()
}

/// A picture in PNG, `width` by `height` pixels, with sky, sea and a few birds.
///
/// # Panics
/// Never: writing to memory does not fail.
pub fn picture(seed: &mut Seed, width: u32, height: u32) -> Vec<u8> {
    let mut pixels = Vec::new();
    let noise = seed.number();
    for y in 0..height {
        for x in 0..width {
            let grain = u8::try_from(noise.rotate_left(x.wrapping_mul(7) ^ y) & 15).unwrap_or(0);
            pixels.extend(if y * 2 < height {
                [150 + grain, 180 + grain, 210]
            } else {
                [30, 70 + grain, 90 + grain]
            });
        }
    }
    let mut file = Vec::new();
    let mut encoder = png::Encoder::new(&mut file, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let mut writer = encoder.write_header().expect("a header fits into memory");
    writer.write_image_data(&pixels).expect("pixels fit into memory");
    drop(writer);
    file
}

/// A photograph in JPEG, `width` by `height` pixels, with the time at which it was taken (`2026:05:03 06:12:11`).
///
/// # Panics
/// Never: writing to memory does not fail.
pub fn photo(seed: &mut Seed, (width, height): (u32, u32), taken: &str) -> Vec<u8> {
    let (slope, noise) = (1 + seed.below(5), seed.number());
    let light = |x: u32, y: u32, colour: u64| {
        let wave = (u64::from(x) * slope + u64::from(y) * (3 + colour)) / 7 % 90;
        let grain = noise.rotate_left(x.wrapping_mul(13) ^ y.wrapping_mul(29)) & 15;
        u8::try_from(60 + 40 * colour + wave + grain).unwrap_or(u8::MAX)
    };
    let pixels = image::RgbImage::from_fn(width, height, |x, y| {
        image::Rgb([light(x, y, 0), light(x, y, 1), light(x, y, 2)])
    });
    let mut plain = Vec::new();
    let encoder = image::codecs::jpeg::JpegEncoder::new_with_quality(&mut plain, 85);
    pixels.write_with_encoder(encoder).expect("pixels fit into memory");
    // EXIF stands behind the start: a table that names a table with the time in it (EXIF 2.3, 4.6.3 and 4.6.5).
    let mut exif = b"Exif\0\0II*\0\x08\0\0\0".to_vec();
    exif.extend(b"\x01\0\x69\x87\x04\0\x01\0\0\0\x1A\0\0\0\0\0\0\0");
    exif.extend(b"\x01\0\x03\x90\x02\0\x14\0\0\0\x2C\0\0\0\0\0\0\0");
    exif.extend(taken.as_bytes());
    exif.push(0);
    let length = u16::try_from(exif.len() + 2).unwrap_or(2).to_le_bytes();
    let mut file = vec![0xFF, 0xD8, 0xFF, 0xE1, length[1], length[0]];
    file.extend(exif);
    file.extend(&plain[2..]);
    file
}

/// A photograph of a landscape in JPEG: what is bright and what is dark is large, as in most, and there is little grain.
///
/// # Panics
/// Never: writing to memory does not fail.
pub fn landscape(seed: &mut Seed, (width, height): (u32, u32)) -> Vec<u8> {
    let waves: Vec<[f64; 4]> = (0..9)
        .map(|number| {
            let mut part =
                |most: u32| f64::from(u32::try_from(seed.below(1000)).unwrap_or(0) * most) / 1000.0;
            let size = f64::from(1 << (number / 2));
            [part(6) * size, part(6) * size, part(7), 90.0 / size]
        })
        .collect();
    let light = |x: u32, y: u32, colour: usize| {
        let (across, down) = (f64::from(x) / f64::from(width), f64::from(y) / f64::from(height));
        let bright = waves.iter().skip(colour).fold(120.0, |sum, [by_x, by_y, from, strong]| {
            sum + (across * by_x + down * by_y + from).sin() * strong / 2.0
        });
        let grain = f64::from(x.wrapping_mul(13) ^ y.wrapping_mul(29) & 7) % 7.0;
        // Clipped, as a sensor clips.
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "it is clipped to a byte"
        )]
        let clipped = (bright + grain).clamp(0.0, 255.0) as u8;
        clipped
    };
    let pixels =
        image::RgbImage::from_fn(width, height, |x, y| image::Rgb([0, 1, 2].map(|c| light(x, y, c))));
    let mut file = Vec::new();
    let encoder = image::codecs::jpeg::JpegEncoder::new_with_quality(&mut file, 85);
    pixels.write_with_encoder(encoder).expect("pixels fit into memory");
    file
}

/// The same with what programs write in front of a picture: EXIF with `small`, a picture of its own (EXIF 2.3, 4.6.5), and
/// `text`.
pub fn with_a_small_picture(picture: &[u8], small: &[u8], text: &str) -> Vec<u8> {
    let mut exif = b"Exif\0\0II*\0\x08\0\0\0".to_vec();
    // No entry in the first table but one; the second says where the small picture stands.
    exif.extend(b"\x01\0\x12\x01\x03\0\x01\0\0\0\x01\0\0\0\x1A\0\0\0");
    exif.extend(b"\x02\0\x01\x02\x04\0\x01\0\0\0\x38\0\0\0\x02\x02\x04\0\x01\0\0\0");
    exif.extend(u32::try_from(small.len()).unwrap_or(0).to_le_bytes());
    exif.extend([0; 4]);
    exif.extend(small);
    let mut file = picture.get(..2).unwrap_or(&[]).to_vec();
    let named = [b"http://example.invalid/said\0".as_slice(), text.as_bytes()].concat();
    for body in [exif, named] {
        file.extend([0xFF, 0xE1]);
        let length = u16::try_from(body.len() + 2).unwrap_or(2).to_le_bytes();
        file.extend([length[1], length[0]]);
        file.extend(body);
    }
    file.extend(picture.get(2..).unwrap_or(&[]));
    file
}

/// A sound in WAV: one channel, 8000 samples a second, 8 bits; `samples` of them.
pub fn sound(seed: &mut Seed, samples: u32) -> Vec<u8> {
    let mut file = b"RIFF".to_vec();
    file.extend((samples + 36).to_le_bytes());
    file.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    file.extend(8000_u32.to_le_bytes());
    file.extend(8000_u32.to_le_bytes());
    file.extend(b"\x01\0\x08\0data");
    file.extend(samples.to_le_bytes());
    let step = 1 + seed.below(9);
    file.extend((0..u64::from(samples)).map(|n| (n * step % 200).to_le_bytes()[0]));
    file
}

fn hundredths(seed: &mut Seed, below: u64) -> f64 {
    f64::from(u32::try_from(seed.below(below)).unwrap_or(0)) / 100.0
}
