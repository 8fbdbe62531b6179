//! Damage to entry sets and folders.

use super::{CROWDED, FOLDER, Fault, LONG, OTHER, PIECES, Patient, README, ROW, fault};
use crate::seed::Seed;
use punchdog_core::{
    exfat::{layout::name_hash, upcase::Upcase},
    medium::Extent,
};

/// A file whose name takes two entries.
const WIDE: &str = "Möwen und Lummen/Ruf der Trottellumme.wav";

/// The last entries of a folder that are empty: where, and how many.
fn end_of(p: &Patient, path: &str) -> u64 {
    let made = p.find(path);
    let each = usize::try_from(p.geometry.cluster_bytes()).expect("a small cluster");
    for cluster in &made.clusters {
        let bytes = p.read(p.geometry.cluster_place(*cluster), each);
        if let Some(used) = bytes.chunks(32).position(|entry| entry[0] == 0) {
            return p.geometry.cluster_place(*cluster) + used as u64 * 32;
        }
    }
    panic!("the lab leaves room at the end of {path}")
}

fn all_of(p: &Patient, path: &str) -> Extent {
    let made = p.find(path);
    Extent::new(made.entry, u64::from(made.entries) * 32)
}

fn touched(p: &mut Patient, path: &str) {
    let all = all_of(p, path);
    p.damaged.push(all);
}

fn spectrogram(number: u32) -> String {
    format!("Recordings/Thumbs/spectrogram number {number:03}.png")
}

/// Of sets in the hole all is lost but the content; of the first the name, of the last the file entry.
fn hole_of_zeros(p: &mut Patient, _: &mut Seed) {
    let path = |number: u32| format!("Recordings/Thumbs/spectrogram number {number:03}.png");
    let hole = p.find(&path(4)).entry + 64;
    p.write(hole, &[0; 480]);
    for number in 5..8 {
        p.moves(&[&path(number)]);
    }
}

pub(super) const ALL: &[Fault] = &[
    fault("set checksum wrong", "exfat/set-checksum", |p, _| {
        let at = p.find(README).entry + 2;
        p.write(at, &[0xAA, 0x55]);
    }),
    fault("a byte of the times changed", "exfat/set-checksum", |p, _| {
        let at = p.find(ROW).entry + 13;
        p.write(at, &[0x66]);
        touched(p, ROW);
    }),
    fault("secondary count 1", "exfat/secondary-count", |p, _| {
        let at = p.find(LONG).entry + 1;
        p.write(at, &[1]);
    }),
    fault("secondary count 200", "exfat/secondary-count", |p, _| {
        let at = p.find(README).entry + 1;
        p.write(at, &[200]);
    }),
    fault("file entry lost its type", "exfat/set-entry-type", |p, _| {
        let at = p.find(OTHER).entry;
        p.write(at, &[0x25]);
    }),
    fault("file entry became an end mark", "exfat/end-mark-early", |p, _| {
        let at = p.find(OTHER).entry;
        p.write(at, &[0]);
    }),
    fault("file entry lost its in-use bit", "exfat/deleted-in-use", |p, _| {
        let at = p.find(PIECES).entry;
        p.write(at, &[0x05]);
    }),
    fault("file entry of zeros", "exfat/set-head-lost", |p, _| {
        let at = p.find(PIECES).entry;
        p.write(at, &[0; 32]);
    }),
    fault("file entry of a folder of zeros", "exfat/set-head-lost", |p, _| {
        let at = p.find(FOLDER).entry;
        p.write(at, &[0; 32]);
    }),
    fault("file entry of noise", "exfat/set-head-lost", |p, s| {
        let at = p.find(LONG).entry;
        let noise = s.bytes(31);
        p.write(at, &[0x97]);
        p.write(at + 1, &noise);
    }),
    fault("a name of zeros that its neighbours tell", "exfat/set-name-lost", |p, _| {
        let at = p.find("Recordings/Thumbs/spectrogram number 011.png").entry;
        p.write(at + 64, &[0; 64]);
    }),
    fault("a name of noise that nothing tells", "exfat/set-name-lost", |p, s| {
        let at = p.find(WIDE).entry;
        let noise: Vec<u8> = s.bytes(64).iter().map(|byte| byte & 0x1F | 0x60).collect();
        p.write(at + 64, &noise);
        p.moves(&[WIDE]);
    }),
    fault("an entry more than the name needs", "exfat/secondary-count", |p, _| {
        let name: Vec<u16> = "Ruf der Tr".encode_utf16().collect();
        let hash = name_hash(&Upcase::default().upper(&name));
        p.write_set(WIDE, 64 + 2 + 20, &[0; 10]);
        p.write_set(WIDE, 96 + 2, &[0; 30]);
        p.write_set(WIDE, 32 + 3, &[10]);
        p.write_set(WIDE, 32 + 4, &hash.to_le_bytes());
        let at = p.find(WIDE).entry;
        p.write(at + 1, &[3]);
        p.moves(&[WIDE]);
    }),
    fault("a hole of zeros across the sets of a folder", "exfat/set-name-lost", hole_of_zeros),
    fault("stream entry lost its type", "exfat/set-entry-type", |p, _| {
        let at = p.find(OTHER).entry + 32;
        p.write(at, &[0x41]);
    }),
    fault("name entry lost its type", "exfat/set-entry-type", |p, _| {
        let at = p.find(LONG).entry + 96;
        p.write(at, &[0x77]);
    }),
    fault("name length wrong", "exfat/name-length", |p, _| {
        p.write_set(README, 35, &[7]);
    }),
    fault("name hash wrong", "exfat/name-hash", |p, _| p.write_set(ROW, 36, &[1, 2])),
    fault("a bit of a name tipped over", "exfat/name-hash", |p, _| {
        let at = p.find(ROW).entry + 66;
        p.tip(at, 3);
    }),
    fault("a bit of a length tipped over", "exfat/set-checksum", |p, _| {
        let at = p.find(ROW).entry + 58;
        p.tip(at, 4);
    }),
    fault("a bit of what is valid of a file tipped over", "exfat/set-checksum", |p, _| {
        let at = p.find(ROW).entry + 40;
        p.tip(at, 1);
    }),
    fault("a bit of a first cluster tipped over", "exfat/set-checksum", |p, _| {
        let made = p.find(ROW);
        let first = made.clusters[0];
        let free = |bit: &u32| {
            let other = first ^ 1 << bit;
            p.geometry.has(other) && p.live().all(|made| !made.clusters.contains(&other))
        };
        let bit = (0..16).find(free).expect("a free cluster");
        p.tip(made.entry + 52 + u64::from(bit / 8), bit % 8);
        p.damaged.push(Extent::new(made.entry, 96));
    }),
    fault("a slash in a name", "exfat/name-illegal", |p, _| {
        p.write_set(README, 68, b"/");
        p.moves(&[README]);
        touched(p, README);
    }),
    fault("a control character in a name", "exfat/name-illegal", |p, _| {
        p.write_set("ledges.csv", 66, &[3]);
        p.moves(&["ledges.csv"]);
        touched(p, "ledges.csv");
    }),
    fault("the same name twice", "exfat/name-doubled", |p, _| {
        let (one, other) = (
            p.find("Recordings/Thumbs/spectrogram number 003.png"),
            p.find("Recordings/Thumbs/spectrogram number 004.png"),
        );
        // The digit that differs, and with it the hash.
        let digit = p.read(one.entry + 32 + 32 + 32 + 2 + (21 - 15) * 2, 2);
        let hash = p.read(one.entry + 36, 2);
        p.write(other.entry + 32 + 32 + 32 + 2 + (21 - 15) * 2, &digit);
        p.write(other.entry + 36, &hash);
        p.sum_set(&other);
        p.moves(&[
            "Recordings/Thumbs/spectrogram number 003.png",
            "Recordings/Thumbs/spectrogram number 004.png",
        ]);
        touched(p, "Recordings/Thumbs/spectrogram number 004.png");
    }),
    fault("more bytes valid than there are", "exfat/valid-length", |p, _| {
        let size = p.find(OTHER).size + 5;
        p.write_set(OTHER, 40, &size.to_le_bytes());
    }),
    fault("folder length 0", "exfat/folder-length", |p, _| {
        p.write_set(FOLDER, 56, &[0; 8]);
        p.write_set(FOLDER, 40, &[0; 8]);
    }),
    fault("folder length odd", "exfat/folder-length", |p, _| {
        let length = p.geometry.clusters_for(1) * p.geometry.cluster_bytes() - 7;
        p.write_set(FOLDER, 56, &length.to_le_bytes());
    }),
    fault("folder length huge", "exfat/folder-length", |p, _| {
        p.write_set("Logs", 56, &(1_u64 << 40).to_le_bytes());
    }),
    fault("allocation flag cleared", "exfat/stream-flags", |p, _| p.write_set(ROW, 33, &[2])),
    fault("reserved attribute bits", "exfat/attribute-bits", |p, _| p.write_set(README, 4, &[0x20, 0x40])),
    fault("empty file with a first cluster", "exfat/first-cluster-unused", |p, _| {
        let unused = p.unused(1).to_le_bytes();
        p.write_set("Logs/2026/EMPTY.CSV", 52, &unused);
    }),
    fault("end mark in the middle of a folder", "exfat/end-mark-early", |p, _| {
        let made = p.find("Recordings/dawn 0001.wav");
        p.write(made.entry, &[0]);
        // The set itself is lost; what follows it is not.
        p.moves(&["Recordings/dawn 0001.wav"]);
    }),
    fault("garbage behind the end mark", "exfat/folder-tail", |p, s| {
        let at = end_of(p, "Möwen und Lummen") + 32;
        let noise: Vec<u8> = s.bytes(64).iter().map(|byte| byte | 0x81).collect();
        p.write(at, &noise);
    }),
    fault("name entries without a file", "exfat/stray-entry", |p, _| {
        let at = end_of(p, "Logs/2026");
        p.write(at, &[0xC1, 0, b'x', 0, b'y', 0]);
    }),
    fault("entries that no host wrote", "exfat/junk-entry", |p, _| {
        let at = end_of(p, "Logs/2026");
        p.write(at, &[0x85, 0x02, 7, 7, 7, 7, 7, 7, 7, 7]);
    }),
    fault("an imager's text in a folder", "exfat/junk-entry", |p, _| {
        p.unread_by_imager("Recordings/Thumbs/spectrogram number 009.png", CROWDED);
    }),
    fault("a set marked deleted, clusters in use", "exfat/deleted-in-use", |p, _| {
        let made = p.find(PIECES);
        for entry in 0..u64::from(made.entries) {
            let at = made.entry + entry * 32;
            let kind = p.read(at, 1)[0] & 0x7F;
            p.write(at, &[kind]);
        }
    }),
    Fault {
        choose: &[("deleted-in-use", "free")],
        ..fault("a delete to be finished", "exfat/deleted-in-use", |p, _| {
            let made = p.find(ROW);
            for entry in 0..u64::from(made.entries) {
                let at = made.entry + entry * 32;
                let kind = p.read(at, 1)[0] & 0x7F;
                p.write(at, &[kind]);
            }
            p.cost(&[ROW]);
        })
    },
    fault("a set lost, its clusters in use", "exfat/lost-clusters", |p, _| {
        let all = all_of(p, OTHER);
        p.fill(all.offset, all.length, 0x05);
        p.moves(&[OTHER]);
        p.costs.push(OTHER.to_owned());
        let (place, _) = p.bit(p.find(OTHER).clusters[0]);
        p.damaged.push(Extent::new(place, 4));
    }),
    fault("a file entry gone, its name left", "exfat/stray-entry", |p, _| {
        let all = all_of(p, &spectrogram(9));
        p.fill(all.offset, 64, 0xFF);
        p.damaged.push(all);
    }),
    fault("a hole in a folder that ends before a name", "exfat/stray-entry", |p, _| {
        for path in (9..12).map(spectrogram) {
            let all = all_of(p, &path);
            p.fill(all.offset, all.length, 0xFF);
            p.moves(&[&path]);
        }
        // The name behind the hole is that of the last file in it; the others have none left.
        let last = p.find(&spectrogram(12)).entry;
        p.fill(last, 64, 0xFF);
        touched(p, &spectrogram(12));
    }),
    fault("a folder's set lost", "exfat/lost-folder", |p, _| {
        let all = all_of(p, FOLDER);
        p.fill(all.offset, all.length, 0x05);
        p.moves(&[FOLDER]);
        let place = p.geometry.cluster_place(p.find(FOLDER).clusters[0]);
        p.damaged.push(Extent::new(place, 64));
    }),
    fault("a folder in pieces, its set lost", "exfat/lost-folder", |p, _| {
        let all = all_of(p, CROWDED);
        p.fill(all.offset, all.length, 0x05);
        p.moves(&[CROWDED]);
        let place = p.geometry.cluster_place(p.find(CROWDED).clusters[0]);
        p.damaged.push(Extent::new(place, 64));
    }),
];
