//! A volume as an office fills it.

use super::{Filled, Filler, SPRING, other};
use crate::{fat::Placing, seed::Seed};
use punchdog_core::ntfs::fresh::Wish;
use std::io;

/// A volume with everyday contents.
///
/// # Panics
/// When the sizes of `wish` leave no room for it.
pub fn everyday(wish: &Wish, seed: u64) -> Filled<Vec<u8>> {
    let size = usize::try_from(wish.bytes).expect("a small volume");
    fill_everyday(Filler::new(wish, vec![0; size]).expect("the wish can be met"), &mut Seed::new(seed))
        .expect("there is room for everything")
}

fn fill_everyday(mut filler: Filler<Vec<u8>>, seed: &mut Seed) -> io::Result<Filled<Vec<u8>>> {
    use crate::content::{counts, log, note, picture, sound, tides};
    let cluster = usize::try_from(filler.geometry.cluster()).map_err(other)?;
    let sized = |mut bytes: Vec<u8>, clusters: usize| {
        let want = cluster * clusters - cluster / 3;
        while bytes.len() < want {
            let more = bytes.clone();
            bytes.extend(more);
        }
        bytes.truncate(want);
        bytes
    };
    filler.file("README.TXT", &note(seed, 3), Placing::Row)?;
    filler.folder("Logs", Placing::Row)?;
    filler.folder("Logs/2026", Placing::Row)?;
    filler.folder("Recordings", Placing::Row)?;
    filler.folder("Möwen und Lummen", Placing::Row)?;
    filler.file("Logs/station.log", &sized(log(seed, 300), 5), Placing::Row)?;
    let tides_in_pieces = sized(tides(seed, 300), 4);
    filler.spread_over(
        "Logs/2026/tides of the first week.csv",
        &tides_in_pieces,
        Placing::Pieces(1),
        4,
        true,
    )?;
    filler.file(
        "Logs/2026/counts on the western ledges, second visit.csv",
        &sized(counts(seed, 60), 2),
        Placing::Gaps,
    )?;
    filler.file("Logs/2026/EMPTY.CSV", b"", Placing::Row)?;
    filler.file("Recordings/dawn 0001.wav", &sized(sound(seed, 900), 6), Placing::Row)?;
    filler.file("Recordings/old.wav", &sized(sound(seed, 200), 3), Placing::Row)?;
    filler.file("Recordings/dawn 0002.wav", &sized(sound(seed, 1200), 7), Placing::Pieces(2))?;
    filler.delete("Recordings/old.wav")?;
    let begun = sized(sound(seed, 500), 2);
    filler.reserved("Recordings/unfinished 0004.wav", &begun, begun.len() as u64 * 3, Placing::Row)?;
    filler.spread("Recordings/dusk 0003.wav", &sized(sound(seed, 1200), 8), Placing::Pieces(1))?;
    filler.file("Möwen und Lummen/Ruf der Trottellumme.wav", &sized(sound(seed, 900), 3), Placing::Row)?;
    filler.file("Möwen und Lummen/文字.txt", &note(seed, 2), Placing::Gaps)?;
    filler.linked("ledges.csv", "Logs/ledges again.csv", &sized(counts(seed, 200), 3))?;
    filler.with_stream("Logs/weather.log", &sized(log(seed, 100), 2), "origin", b"station on the point")?;
    filler.sparse("Logs/buoy.raw", &sized(tides(seed, 900), 18), 32)?;
    if cluster <= 4096 {
        filler.packed("Logs/archive.log", &sized(log(seed, 800), 21))?;
    }
    filler.folder("Recordings/Thumbs", Placing::Pieces(1))?;
    for number in 0..60 {
        let path = format!("Recordings/Thumbs/spectrogram number {number:03}.png");
        filler.file(&path, &picture(seed, 8, 6), Placing::Row)?;
    }
    filler.finish()
}

/// A small volume of these sizes.
pub fn small(sector_bytes: u32, cluster_bytes: u32, record_bytes: u32) -> Wish {
    Wish {
        bytes: (3 << 20) + u64::from(cluster_bytes) * 420,
        sector_bytes,
        cluster_bytes,
        record_bytes,
        label: "OFFICE".to_owned(),
        serial: 0x5EAB_1BD5_1BD5_5EAB,
        time: SPRING,
        records: 192,
    }
}
