//! Several accidents at once on a whole medium: volumes stay where they are, plans end sound, and no file is lost
//! that the accidents did not touch.
//!
//! A file is touched when its content, its entry, a folder above it or its chain in every copy of the
//! table was struck. `PUNCHDOG_ROUNDS=N` tries more, `PUNCHDOG_SEED=N` one.

use punchdog_core::{
    family::{Kind, Wanted},
    fat::table::entry_place,
    files::record::State,
    medium::{Extent, Medium, Memory, Window},
    partition::{self, Way},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    cards::{Card, Fill, Layout, Listing, Shape, Volume},
    patient::Made,
    seed::Seed,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{
        Mutex,
        atomic::{AtomicU64, Ordering},
    },
};

const MIB: u64 = 1 << 20;

fn shape(seed: &mut Seed, start: u64) -> Shape {
    let fill = if seed.below(3) == 0 { Fill::Full } else { Fill::Some };
    let (kind, bytes, clusters): (Kind, u64, &[u32]) = match seed.below(4) {
        0 => (Kind::Fat12, 3 * MIB, &[1024, 2048]),
        1 => (Kind::Fat16, 12 * MIB, &[1024, 2048]),
        2 => (Kind::Fat32, 36 * MIB, &[512]),
        _ => (Kind::Exfat, 8 * MIB, &[2048, 4096]),
    };
    Shape { kind, start, bytes, cluster: *seed.pick(clusters), fill }
}

fn card(seed: &mut Seed) -> (Card, Listing) {
    let listing = *seed.pick(&[Listing::Bare, Listing::Mbr, Listing::Mbr, Listing::Logical, Listing::Gpt]);
    let mut at = match listing {
        Listing::Bare => 0,
        _ => *seed.pick(&[MIB, 4 * MIB, 16 * MIB]),
    };
    let mut shapes = Vec::new();
    for _ in 0..if listing == Listing::Bare { 1 } else { 1 + seed.below(2) } {
        let one = shape(seed, at);
        at = (at + one.bytes).next_multiple_of(MIB) + MIB;
        shapes.push(one);
    }
    let end = shapes.last().map_or(0, |shape| shape.start + shape.bytes);
    let bytes = if listing == Listing::Bare { end } else { end + MIB };
    (Card::new(bytes, listing, &shapes), listing)
}

/// Strikes once; gives what was struck.
fn strike(card: &mut Card, listing: Listing, seed: &mut Seed) -> String {
    let number = usize::try_from(seed.below(card.volumes.len() as u64)).unwrap();
    let volume = card.volumes[number].clone();
    let exfat = volume.kind == Kind::Exfat;
    let fill: Vec<u8> = match seed.below(4) {
        0 | 1 => vec![0],
        2 => vec![0xFF],
        _ => b"UNREADABLE SECTOR ".to_vec(),
    };
    let table = |copy: u32| (volume.layout.table(copy), volume.layout.table_bytes());
    match seed.below(8) {
        0 if listing != Listing::Bare => {
            card.bytes[..512].fill(0);
            "sector 0 of the medium".to_owned()
        }
        1 if listing != Listing::Bare => {
            card.bytes[510] = 0;
            "signature of the table".to_owned()
        }
        2 if listing == Listing::Mbr => {
            let at = 446 + number * 16;
            card.bytes[at..at + 16].fill(0);
            format!("entry {number}")
        }
        3 => {
            let length = if exfat { 12 * 512 } else { 512 };
            card.filler(number, 0, length, &fill);
            format!("boot of volume {number} filled with {:?}", fill[0])
        }
        4 if volume.kind == Kind::Fat32 => {
            card.filler(number, 6 * 512, 7 * 512, &fill);
            format!("backup of volume {number}")
        }
        5 | 6 => {
            let copy = if exfat { 0 } else { u32::try_from(seed.below(2)).unwrap() };
            let (place, length) = table(copy);
            let from = place + seed.below(length / 512) * 512;
            let to = (from + (1 + seed.below(8)) * 512).min(place + length);
            card.filler(number, from, to, &fill);
            format!("table {copy} of volume {number}, {} bytes", to - from)
        }
        _ => {
            let data = volume.layout.data();
            let from = data + seed.below((volume.bytes - data) / 8 / 512) * 512;
            card.filler(number, from, from + 512, &fill);
            format!("a sector of the first clusters of volume {number}")
        }
    }
}

fn changed(card: &Card, from: u64, length: u64) -> bool {
    let range = usize::try_from(from).unwrap()..usize::try_from(from + length).unwrap();
    card.bytes[range.clone()] != card.sound[range]
}

/// True when nothing that leads to the file, and nothing of it, was struck.
fn is_untouched(card: &Card, volume: &Volume, made: &Made) -> bool {
    let cluster = |number: &u32| {
        let place = volume.start + volume.layout.cluster(*number);
        changed(card, place, volume.layout.cluster_bytes())
    };
    let content = volume.content(made).iter().any(|(offset, length)| changed(card, *offset, *length));
    let mut above = made.path.as_str();
    let mut folders = false;
    while let Some((folder, _)) = above.rsplit_once('/') {
        let folder_made = volume.find(folder);
        folders =
            folders || folder_made.clusters.iter().any(cluster) || chain_struck(card, volume, folder_made);
        above = folder;
    }
    // The root: its clusters, or what stands before the clusters of FAT12 and FAT16.
    let root = match volume.layout {
        Layout::Fat(geometry) if geometry.wide() => cluster(&2),
        Layout::Fat(geometry) => changed(card, volume.start + geometry.root_offset(), geometry.root_bytes()),
        Layout::Exfat(geometry) => (2..=geometry.root_cluster).any(|number| cluster(&number)),
        Layout::Ntfs(_) => false,
    };
    !content && !folders && !root && !chain_struck(card, volume, made)
}

/// True when no copy of the table has all of its chain.
fn chain_struck(card: &Card, volume: &Volume, made: &Made) -> bool {
    let row = made.clusters.windows(2).all(|pair| pair[1] == pair[0] + 1);
    match volume.layout {
        Layout::Ntfs(_) => false,
        Layout::Exfat(_) if row => false,
        Layout::Exfat(geometry) => made.clusters.iter().any(|cluster| {
            changed(card, volume.start + geometry.table_place(0) + u64::from(*cluster) * 4, 4)
        }),
        Layout::Fat(geometry) => (0..geometry.tables).all(|copy| {
            made.clusters.iter().any(|cluster| {
                let (place, length) = entry_place(geometry.kind, *cluster);
                changed(card, volume.start + geometry.table_offset(copy) + place, length)
            })
        }),
    }
}

/// What went wrong in one round.
fn round(number: u64) -> Vec<String> {
    let mut seed = Seed::new(number);
    let (mut card, listing) = card(&mut seed);
    let strikes: Vec<String> = (0..=seed.below(3)).map(|_| strike(&mut card, listing, &mut seed)).collect();
    let about = || {
        let kinds: Vec<String> = card
            .volumes
            .iter()
            .map(|v| {
                format!("{} at {} MiB, clusters {}", v.kind.title(), v.start / MIB, v.layout.cluster_bytes())
            })
            .collect();
        format!("round {number}, {listing:?} [{}], {strikes:?}", kinds.join("; "))
    };
    let mut wrong = Vec::new();
    let medium = Memory::new(card.bytes.clone());
    let seen = match partition::scout(&medium, true, &Silent) {
        Ok(seen) => seen,
        Err(error) => return vec![format!("{}: {error}", about())],
    };
    let table = card.bytes[..512] == card.sound[..512];
    for volume in &card.volumes {
        let head = |from: u64| !changed(&card, volume.start + from, 512);
        let second = match volume.kind {
            Kind::Exfat => head(12 * 512),
            Kind::Fat32 => head(6 * 512),
            _ => false,
        };
        let told = table || head(0) || second;
        let found = seen.volumes.iter().any(|place| place.extent.offset == volume.start);
        if told && !found {
            let places: Vec<u64> = seen.volumes.iter().map(|place| place.extent.offset).collect();
            wrong.push(format!("{}: not at {}, but {places:?}", about(), volume.start));
        }
    }
    let bare = seen.volumes.iter().any(|place| place.way == Way::Bare);
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let subject = if bare { whole } else { Subject::Medium };
    let plan = match plan::build(&medium, "", subject, BTreeMap::new(), &Silent) {
        Ok(plan) => plan,
        Err(error) => {
            wrong.push(format!("{}: {error}", about()));
            return wrong;
        }
    };
    if !plan.outcome.after.sound {
        wrong.push(format!("{}: after the plan {:?}", about(), plan.outcome.after.findings));
    }
    let overlay = plan.replay(&medium).unwrap();
    let mut hashes = BTreeSet::new();
    for place in partition::scout(&overlay, true, &Silent).unwrap().volumes {
        let window = Window::new(&overlay, place.extent);
        let Some(volume) = registry::recognise(&window, &Silent).unwrap() else { continue };
        let files = volume.files(&window, Wanted::default(), &Silent).unwrap();
        let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
        hashes.extend(whole.map(|file| file.sha256(&window)));
    }
    for volume in &card.volumes {
        let lost: Vec<&str> = volume
            .files()
            .filter(|made| is_untouched(&card, volume, made) && !hashes.contains(&made.sha256))
            .map(|made| made.path.as_str())
            .collect();
        if !lost.is_empty() {
            wrong.push(format!("{}: {} files lost, {:?}", about(), lost.len(), &lost[..lost.len().min(3)]));
        }
    }
    wrong
}

#[test]
fn accidents_cost_no_file_that_they_did_not_touch() {
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let (from, to) = match number("PUNCHDOG_SEED") {
        Some(seed) => (seed, seed + 1),
        None => (0, number("PUNCHDOG_ROUNDS").unwrap_or(60)),
    };
    let (next, wrong) = (AtomicU64::new(from), Mutex::new(Vec::new()));
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                loop {
                    let turn = next.fetch_add(1, Ordering::Relaxed);
                    if turn >= to {
                        break;
                    }
                    wrong.lock().unwrap().extend(round(turn));
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "{} of {} rounds:\n{}", wrong.len(), to - from, wrong.join("\n"));
}
