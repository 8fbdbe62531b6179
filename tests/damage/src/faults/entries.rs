//! Damage to folders and their entries.

use super::{ANY, CROWDED, FOLDER, Fault, LONG, Patient, README, fault};
use crate::seed::Seed;
use punchdog_core::{fat::names, medium::Extent};

fn folder_at(p: &Patient, path: &str) -> u64 {
    p.geometry.cluster_offset(p.find(path).clusters[0])
}

/// Where the first unused entry of a folder's last cluster stands.
fn behind_last(p: &Patient, path: &str) -> u64 {
    let folder = p.find(path);
    let each = p.geometry.cluster_bytes() as usize;
    let cluster = *folder.clusters.last().expect("a folder has a cluster");
    let bytes = p.read(p.geometry.cluster_offset(cluster), each);
    let used = bytes.chunks(32).position(|entry| entry[0] == 0).expect("the lab leaves room at the end");
    p.geometry.cluster_offset(cluster) + used as u64 * 32
}

fn long_place(p: &Patient, path: &str) -> u64 {
    let made = p.find(path);
    made.entry - u64::from(made.entries - 1) * 32
}

fn thumbnail(number: u32) -> String {
    format!("Pictures/Thumbs/thumbnail number {number:03}.png")
}

/// The parts of a name whose entry is gone are findings on the damage.
fn name_left(p: &mut Patient, path: &str) {
    let (from, to) = (long_place(p, path), p.find(path).entry);
    p.damaged.push(Extent::new(from, to - from));
}

fn end_early(p: &mut Patient, _: &mut Seed) {
    // The first letter of an entry in the middle of a folder is lost; the entry ends the folder.
    let made = p.find("Pictures/IMG_0002.PNG");
    p.write(made.entry, &[0]);
    p.moves(&["Pictures/IMG_0002.PNG"]);
}

fn tail_garbage(p: &mut Patient, s: &mut Seed) {
    let place = behind_last(p, "Logs") + 64;
    let noise: Vec<u8> = s.bytes(96).iter().map(|byte| byte | 1).collect();
    p.write(place, &noise);
}

fn junk(p: &mut Patient, s: &mut Seed) {
    let place = behind_last(p, "Logs");
    let noise: Vec<u8> = s.bytes(64).iter().map(|byte| byte & 0x9F | 1).collect();
    p.write(place, &noise);
    for entry in 0..2 {
        p.write(place + entry * 32 + 11, &[0xD9, 0xE7]);
        p.write(place + entry * 32, &[0x03, 0x11]);
    }
}

fn copy_entry(p: &mut Patient, from: &str) {
    let (entry, place) = (p.find(from).entry, behind_last(p, "Logs"));
    let bytes = p.read(entry, 32);
    p.write(place, &bytes);
}

fn double_short(p: &mut Patient, _: &mut Seed) {
    // A second file of the same short name: the other is not damaged, this one is renamed.
    let source = p.find("Pictures/IMG_0004.PNG");
    let bytes = p.read(p.find("Pictures/IMG_0002.PNG").entry, 11);
    p.write(source.entry, &bytes);
    p.moves(&["Pictures/IMG_0004.PNG"]);
}

fn wrong_type(p: &mut Patient, path: &str, attributes: u8) {
    let entry = p.find(path).entry;
    p.write(entry + 11, &[attributes]);
}

fn label_in_folder(p: &mut Patient, _: &mut Seed) {
    let place = behind_last(p, "Logs");
    p.write(place, b"MISPLACED  \x08");
}

fn undelete(p: &mut Patient, path: &str) {
    let made = p.find(path);
    for slot in 0..u64::from(made.entries) {
        p.write(made.entry - slot * 32, &[0xE5]);
    }
}

fn hidden(p: &mut Patient, _: &mut Seed) {
    let entries: Vec<u64> = p.live().map(|made| made.entry).collect();
    for entry in entries {
        let now = p.read(entry + 11, 1)[0];
        p.write(entry + 11, &[now | 0x06]);
    }
}

/// Every row leaves the volume with one fault of its class.
pub(super) const ALL: &[Fault] = &[
    fault("\".\" names another cluster", "fat/dot-entry", ANY, |p, _| {
        let at = folder_at(p, "Logs");
        p.write(at + 26, &[99, 0]);
    }),
    fault("\"..\" names another cluster", "fat/dot-dot-entry", ANY, |p, _| {
        let at = folder_at(p, "Logs/2026");
        p.write(at + 32 + 26, &[99, 0]);
    }),
    fault("\"..\" of a folder in the root does not name 0", "fat/dot-dot-entry", ANY, |p, _| {
        let at = folder_at(p, "Logs");
        p.write(at + 32 + 26, &[2, 0]);
    }),
    fault("\".\" and \"..\" zeroed", "fat/dot-entry", ANY, |p, _| {
        let at = folder_at(p, CROWDED);
        p.fill(at, 64, 0);
    }),
    fault("\".\" and \"..\" overwritten", "fat/dot-entry", ANY, |p, s| {
        let (at, noise) = (folder_at(p, CROWDED), s.bytes(64));
        p.write(at, &noise);
    }),
    fault("\".\" in the middle of a folder", "fat/stray-dots", ANY, |p, _| {
        let (place, dot) = (behind_last(p, "Logs"), p.read(folder_at(p, "Logs"), 32));
        p.write(place, &dot);
    }),
    fault("a folder with a size", "fat/folder-size", ANY, |p, _| p.set_size(FOLDER, 4096)),
    fault("garbage behind the end mark", "fat/folder-tail", ANY, tail_garbage),
    fault("an end mark too early", "fat/end-mark-early", ANY, end_early),
    fault("entries that no host wrote", "fat/junk-entry", ANY, junk),
    fault("an imager's text in a folder", "fat/junk-entry", ANY, |p, _| {
        p.unread_by_imager("Pictures/Thumbs/thumbnail number 009.png", CROWDED);
    }),
    fault("long name numbered wrongly", "fat/long-name-order", ANY, |p, _| {
        let at = long_place(p, LONG);
        p.write(at + 32, &[9]);
    }),
    fault("long name checksum wrong in one part", "fat/long-name-checksum", ANY, |p, _| {
        let at = long_place(p, LONG);
        let sum = p.read(at + 13, 1)[0];
        p.write(at + 13, &[sum ^ 0x55]);
    }),
    fault("long name checksum wrong in all parts", "fat/long-name-checksum", ANY, |p, _| {
        let made = p.find(LONG);
        for slot in 1..u64::from(made.entries) {
            p.write(made.entry - slot * 32 + 13, &[0x99]);
        }
    }),
    fault("a part of a long name with attribute 143", "fat/long-name-fields", ANY, |p, _| {
        let at = long_place(p, LONG);
        p.write(at + 11, &[0x8F]);
    }),
    fault("a part of a long name marked as a file", "fat/long-name-fields", ANY, |p, _| {
        let at = long_place(p, LONG);
        p.write(at + 32 + 11, &[0x20]);
    }),
    fault("a part of a long name that names a cluster", "fat/long-name-fields", ANY, |p, _| {
        let at = long_place(p, LONG);
        p.write(at + 26, &[7, 0]);
    }),
    fault("parts of a long name left over", "fat/long-name-stray", ANY, |p, _| {
        let place = behind_last(p, "Logs");
        let parts = names::long_parts("a name that nothing answers to any more.txt", 0x21);
        for (number, part) in parts.iter().enumerate() {
            p.write(place + number as u64 * 32, zerocopy::IntoBytes::as_bytes(part));
        }
    }),
    fault("forbidden character in a long name", "fat/long-name-illegal", ANY, |p, _| {
        let made = p.find(LONG);
        p.write(made.entry - 32 + 3, &[b'?', 0]);
        p.moves(&[LONG]);
    }),
    fault("lower case in a short name", "fat/short-name-illegal", ANY, |p, _| {
        let entry = p.find(README).entry;
        p.write(entry, b"r");
    }),
    fault("control character in a short name", "fat/short-name-illegal", ANY, |p, _| {
        let entry = p.find(README).entry;
        p.write(entry + 2, &[0x07]);
        p.moves(&[README]);
    }),
    fault("short name doubled", "fat/name-twice", ANY, double_short),
    fault("reserved attribute bits", "fat/attributes", ANY, |p, _| {
        let entry = p.find(README).entry;
        p.write(entry + 11, &[0xE0]);
    }),
    fault("label bit on a folder", "fat/attributes", ANY, |p, _| wrong_type(p, FOLDER, 0x18)),
    fault("folder marked as a file", "fat/wrong-type", ANY, |p, _| wrong_type(p, FOLDER, 0x20)),
    fault("file marked as a folder", "fat/wrong-type", ANY, |p, _| {
        wrong_type(p, "Pictures/IMG_0002.PNG", 0x10);
    }),
    fault("the entry behind a long name gone", "fat/long-name-stray", ANY, |p, _| {
        let made = p.find(&thumbnail(9));
        p.fill(made.entry, 32, 0xFF);
        name_left(p, &thumbnail(9));
    }),
    fault("a hole in a folder that begins behind a long name", "fat/long-name-stray", ANY, |p, _| {
        // The name before the hole is that of the first file in it; the others have none left.
        let first = p.find(&thumbnail(9)).entry;
        p.fill(first, 32, 0xFF);
        name_left(p, &thumbnail(9));
        for path in (10..13).map(thumbnail) {
            let from = long_place(p, &path);
            let to = p.find(&path).entry + 32;
            p.fill(from, to - from, 0xFF);
            p.moves(&[&path]);
        }
    }),
    fault("label in a subfolder", "fat/label-misplaced", ANY, label_in_folder),
    fault("second label in the root", "fat/label-misplaced", ANY, |p, _| {
        let entry = p.find("ledges.csv").entry;
        p.write(entry + 32, b"SECOND     \x08");
    }),
    fault("deleted entry whose clusters are in use", "fat/deleted-in-use", ANY, |p, _| {
        undelete(p, "Pictures/Nest 12.png");
    }),
    fault("deleted folder whose clusters are in use", "fat/deleted-in-use", ANY, |p, _| {
        let entry = p.find(CROWDED).entry;
        p.write(entry, &[0xE5]);
        p.moves(&[CROWDED]);
    }),
    Fault {
        name: "deleted entry in use, delete to be finished",
        code: "fat/deleted-in-use",
        on: ANY,
        make: |p, _| {
            undelete(p, "Pictures/Nest 12.png");
            p.cost(&["Pictures/Nest 12.png"]);
        },
        choose: &[("deleted-in-use", "free")],
    },
    Fault {
        name: "a tree hidden",
        code: "fat/hidden-tree",
        on: ANY,
        make: hidden,
        choose: &[("hidden-files", "show")],
    },
    fault("the same file in two folders", "fat/cross-linked", ANY, |p, _| {
        copy_entry(p, README);
    }),
    fault("the same file in two folders, and a lost chain as long", "fat/cross-linked", ANY, |p, _| {
        copy_entry(p, "ledges.csv");
        let chain: Vec<u32> = (0..3).map(|number| p.unused(number)).collect();
        let behind = [chain[1], chain[2], p.end()];
        chain.iter().zip(behind).for_each(|(from, to)| p.set_link(*from, to));
        let unused = chain[0];
        let text = b"Counts of the western ledges, taken in the rain.\r\n".repeat(4);
        p.write(p.geometry.cluster_offset(unused), &text);
    }),
];
