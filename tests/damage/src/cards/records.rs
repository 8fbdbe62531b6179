//! What happens to media with NTFS volumes.

use super::{
    Card, Listing, Shape,
    situations::{Ends, Rows, STARTS, TEXT, full, lose_gpt_entry, place, shape, single},
};
use crate::patient::index;
use punchdog_core::family::Kind;

const MIB: u64 = 1 << 20;

/// NTFS: boot sector, copy and first records, behind a table and without one.
pub(super) fn rows(rows: &mut Rows) {
    let all: Vec<Shape> = STARTS.iter().map(|start| shape(Kind::Ntfs, *start)).collect();
    rows.on("boot sector zero", &[all[0], full(all[1]), all[5]], |card| card.zero(0, 0, 512));
    rows.on("FF over the first 8 KiB", &[all[0], all[3]], |card| card.filler(0, 0, 8192, &[0xFF]));
    for row in rows.on("boot sector and copy zero", &all, |card| {
        card.zero(0, 0, 512);
        lose_copy(card);
    }) {
        row.says = &["boot sector is gone"];
    }
    rows.on("MBR zero", &[all[1], full(all[4])], |card| card.bytes[..512].fill(0));
    rows.on("MBR and boot sector zero", &all[1..4], |card| {
        card.bytes[..512].fill(0);
        card.zero(0, 0, 512);
    });
    rows.on("MBR, boot sector and copy zero", &[all[1], all[2], full(all[3]), all[5]], |card| {
        card.bytes[..512].fill(0);
        card.zero(0, 0, 512);
        lose_copy(card);
    });
    rows.on("boot sector and first four records zero", &[all[0], full(all[2])], |card| {
        card.zero(0, 0, 512);
        let records = card.volumes[0].layout.table(0);
        card.zero(0, records, records + 4096);
    });
    rows.on("first four records and their copies zero", &[all[0], full(all[3])], |card| {
        for place in [0, 1] {
            let records = card.volumes[0].layout.table(place);
            card.zero(0, records, records + 4096);
        }
    });
    for row in rows.on("image begins one sector late", &[all[1], all[3]], |card| card.shift(-512)) {
        row.says = &["image begins", "late"];
    }
    for row in rows.on("image begins 8 sectors early", &all[..2], |card| card.shift(4096)) {
        row.says = &["image begins", "early"];
    }
    rows.on("1 MiB of something else in front", &all[..1], |card| card.shift(1 << 20));
    for row in rows.on("image cut short", &[full(all[0]), full(all[2])], |card| {
        let end = card.volumes[0].start + card.volumes[0].bytes * 3 / 4;
        card.cut(end);
    }) {
        row.says = &["image the medium again"];
        row.ends = Ends::Remains;
    }
    for row in rows.on("an imager's text in a file", &all[..2], |card| {
        let place = card.volumes[0].content(card.volumes[0].find("Sounds/shag.wav"))[2].0;
        let start = card.volumes[0].start;
        card.filler(0, place - start, place - start + 512, TEXT);
    }) {
        row.says = &["text that an imager wrote"];
    }
    formatted_over(rows);
    for (name, strike, says) in OFFICE {
        let row = rows.add(name, move || {
            let shapes = [shape(Kind::Fat32, MIB), full(shape(Kind::Ntfs, 48 * MIB))];
            let mut card = Card::new(84 * MIB, Listing::Gpt, &shapes);
            strike(&mut card);
            card
        });
        row.says = says;
    }
}

/// A volume of another family where an NTFS was: its records, their copies and the copy of its boot sector are all there
/// still, as no file of the new one was put over them.
fn formatted_over(rows: &mut Rows) {
    for (kind, start) in [
        (Kind::Fat16, 16 * MIB),
        (Kind::Fat32, MIB),
        (Kind::Fat32, 0),
        (Kind::Exfat, 16 * MIB),
        (Kind::Exfat, 0),
    ] {
        for (what, zeros) in [("", 0), (", boot sector zero", 512)] {
            let new = Shape { bytes: 40 * MIB, ..shape(kind, start) };
            let name = format!("formatted over an NTFS{what}: {} {}", kind.title(), place(start));
            let row = rows.add(name, move || {
                let mut card = single(new);
                // Large clusters, so that the records stand behind all that formatting writes.
                let old = single(Shape { kind: Kind::Ntfs, cluster: 1 << 18, ..new });
                for at in (index(start)..index(start + new.bytes)).step_by(512) {
                    let written = at < index(start + card.volumes[0].layout.data());
                    let sector = at..at + 512;
                    if !written && card.bytes[sector.clone()].iter().all(|byte| *byte == 0) {
                        card.bytes[sector.clone()].copy_from_slice(&old.bytes[sector]);
                    }
                }
                card.sound.clone_from(&card.bytes);
                card.zero(0, 0, zeros);
                card
            });
            row.ends = if zeros == 0 { Ends::Nothing } else { Ends::Sound };
        }
    }
}

fn lose_copy(card: &mut Card) {
    let end = card.volumes[0].bytes;
    card.zero(0, end - 512, end);
}

/// What happens to a whole disk with a GPT, a FAT32 and an NTFS volume, and what must be said of it.
type Blow = (&'static str, fn(&mut Card), &'static [&'static str]);

const OFFICE: [Blow; 6] = [
    (
        "office disk: both copies of the GPT gone",
        |card| {
            let end = card.bytes.len();
            card.bytes[512..34 * 512].fill(0);
            card.bytes[end - 33 * 512..].fill(0);
        },
        &[],
    ),
    (
        "office disk: GPT, protective entry and NTFS boot sector gone",
        |card| {
            let end = card.bytes.len();
            card.bytes[..34 * 512].fill(0);
            card.bytes[end - 33 * 512..].fill(0);
            card.zero(1, 0, 512);
        },
        &[],
    ),
    // Then only the copy of the boot sector, in the middle of what follows, says how long the volume is.
    (
        "office disk: GPT and NTFS boot sector gone, an imager's text over records 5 to 8",
        |card| {
            let end = card.bytes.len();
            card.bytes[..34 * 512].fill(0);
            card.bytes[end - 33 * 512..].fill(0);
            card.zero(1, 0, 512);
            let records = card.volumes[1].layout.table(0);
            card.filler(1, records + 5 * 1024, records + 9 * 1024, TEXT);
        },
        &["32 MiB at byte 50331648"],
    ),
    ("office disk: NTFS entry lost in the primary copy", |card| lose_gpt_entry(card, false), &[]),
    (
        "office disk: FAT32 boot sector gone, NTFS boot sector and copy gone",
        |card| {
            card.zero(0, 0, 512);
            let end = card.volumes[1].bytes;
            card.zero(1, 0, 512);
            card.zero(1, end - 512, end);
        },
        &[],
    ),
    (
        "office disk: FAT32 boot sector gone, NTFS boot sectors, copies of records and every second block of its folders",
        |card| {
            card.zero(0, 0, 512);
            let (start, end) = (card.volumes[1].start, card.volumes[1].bytes);
            for at in
                (0..end).step_by(512).filter(|at| is_block(card, start + at)).step_by(2).collect::<Vec<_>>()
            {
                card.filler(1, at, at + 4096, TEXT);
            }
            let copies = card.volumes[1].layout.table(1);
            card.zero(1, copies, copies + 4096);
            card.zero(1, 0, 512);
            card.zero(1, end - 512, end);
        },
        &[],
    ),
];

/// A block of a folder's index begins there.
fn is_block(card: &Card, at: u64) -> bool {
    let at = index(at);
    card.bytes.get(at..at + 4) == Some(b"INDX")
}
