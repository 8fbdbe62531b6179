//! Pictures in pieces of which nothing tells any more where they go on: what fits by its length alone is not theirs.

use crate::mended::mended;
use punchdog_core::files::inventory::Fate;
use punchdog_damage::{content::photo, exfat, fat::Placing, patient::Patient, seed::Seed};

/// A picture and noise lie in turns, and the only row of as many clusters as the picture lacks is another file's, whose entry is
/// gone: its content breaks there.
#[test]
fn a_row_that_fits_by_chance_is_refused_by_the_content() {
    const CLUSTER: usize = 4096;
    let seed = &mut Seed::new(3);
    let (mut size, mut picture) = (200, Vec::new());
    while picture.len() <= 4 * CLUSTER {
        picture = photo(seed, (size, size), "2026:05:03 06:12:11");
        size += 20;
    }
    assert_eq!(picture.len().div_ceil(CLUSTER), 5, "{} bytes", picture.len());
    let mut noise = |clusters: usize| {
        let mut bytes = seed.bytes(clusters * CLUSTER - 100);
        bytes[0] = 0x11;
        bytes
    };
    let wish = exfat::small(512, 4096, 1);
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.file("ledge.jpg", &picture, Placing::Pieces(2)).unwrap();
    filler.file("between.raw", &noise(6), Placing::Gaps).unwrap();
    filler.file("behind.raw", &noise(2), Placing::Row).unwrap();
    filler.file("gone.raw", &noise(3), Placing::Row).unwrap();
    let mut patient = Patient::new(filler.finish().unwrap());
    let gone = patient.find("gone.raw");
    patient.fill(gone.entry, u64::from(gone.entries) * 32, 0);
    let own = patient.find("ledge.jpg").clusters;
    assert!(own[..2] == [own[0], own[0] + 1] && own[2] > own[1] + 1, "{own:?}");
    for cluster in patient.live().flat_map(|made| made.clusters.clone()).collect::<Vec<_>>() {
        patient.set_link(cluster, 0);
    }
    mended(&patient.bytes, |plan, after, files| {
        let file = files.iter().find(|file| file.path == "ledge.jpg").expect("it is listed");
        let bytes = file.content.start(after, file.size);
        assert!(picture.starts_with(&bytes), "{} bytes of it are not its own", bytes.len());
        assert!(!bytes.is_empty() && bytes.len() < picture.len());
        let told = plan.outcome.changes.iter().find(|change| change.path == "ledge.jpg");
        assert_eq!(told.map(|change| change.fate), Some(Fate::Shorter));
    });
}
