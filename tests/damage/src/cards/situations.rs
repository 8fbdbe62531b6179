//! What happened to media: a table of situations, each a whole medium with its damage.
//!
//! A row says nothing of how Punchdog works. What must come back is computed: every file whose content
//! stands untouched in the image, but for those that `costs` names, with the reason beside it.

use super::{Card, Fill, Layout, Listing, Shape, Volume};
use crate::patient::index;
use punchdog_core::{
    exfat::layout::{name_hash, set_checksum},
    family::Kind,
    fat::table::{encode, entry_place},
};

/// One MiB.
pub const MIB: u64 = 1 << 20;

/// A medium with its accident.
pub struct Situation {
    /// Its name in test output.
    pub name: String,
    /// Makes it.
    pub make: Box<dyn Fn() -> Card + Send + Sync>,
    /// What `check` must say, in these words.
    pub says: &'static [&'static str],
    /// How it ends.
    pub ends: Ends,
    /// Files whose content stands and cannot be told from what nobody owns any more.
    pub costs: fn(&Card, &Volume) -> Vec<String>,
}

/// How a situation ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ends {
    /// The plan makes the medium sound.
    Sound,
    /// Faults remain that no step mends: content is missing.
    Remains,
    /// There is nothing to mend.
    Nothing,
}

fn nothing(_: &Card, _: &Volume) -> Vec<String> {
    Vec::new()
}

/// The everyday shape of a kind: length and cluster size that people meet.
pub(super) fn shape(kind: Kind, start: u64) -> Shape {
    let (bytes, cluster) = match kind {
        Kind::Fat12 => (4 * MIB, 2048),
        Kind::Fat16 => (24 * MIB, 2048),
        Kind::Fat32 => (40 * MIB, 512),
        Kind::Exfat | Kind::Ntfs => (32 * MIB, 4096),
    };
    Shape { kind, start, bytes, cluster, fill: Fill::Some }
}

pub(super) fn full(shape: Shape) -> Shape {
    Shape { fill: Fill::Full, ..shape }
}

/// A medium with one volume, bare where it begins at byte 0.
pub(super) fn single(shape: Shape) -> Card {
    let listing = if shape.start == 0 { Listing::Bare } else { Listing::Mbr };
    let behind = if shape.start == 0 { 0 } else { MIB };
    Card::new(shape.start + shape.bytes + behind, listing, &[shape])
}

pub(super) fn place(start: u64) -> String {
    match start {
        0 => "bare".to_owned(),
        32256 => "at sector 63".to_owned(),
        start => format!("at {} MiB", start / MIB),
    }
}

/// The table being written down.
#[derive(Default)]
pub(super) struct Rows(Vec<Situation>);

impl Rows {
    pub(super) fn add(
        &mut self,
        name: impl Into<String>,
        make: impl Fn() -> Card + Send + Sync + 'static,
    ) -> &mut Situation {
        self.0.push(Situation {
            name: name.into(),
            make: Box::new(make),
            says: &[],
            ends: Ends::Sound,
            costs: nothing,
        });
        self.0.last_mut().expect("the row just added")
    }
    /// The same accident on several shapes.
    pub(super) fn on(&mut self, name: &str, shapes: &[Shape], strike: fn(&mut Card)) -> &mut [Situation] {
        let from = self.0.len();
        for shape in shapes {
            let fill = if shape.fill == Fill::Full { ", full" } else { "" };
            let name = format!("{name}: {} {}{fill}", shape.kind.title(), place(shape.start));
            let shape = *shape;
            self.add(name, move || {
                let mut card = single(shape);
                strike(&mut card);
                card
            });
        }
        &mut self.0[from..]
    }
}

pub(super) const STARTS: [u64; 6] = [0, MIB, 4 * MIB, 16 * MIB, 32 * MIB, 63 * 512];

/// All situations.
pub fn all() -> Vec<Situation> {
    let mut rows = Rows::default();
    heads(&mut rows);
    regions(&mut rows);
    super::records::rows(&mut rows);
    images(&mut rows);
    tables(&mut rows);
    contents(&mut rows);
    chains(&mut rows);
    lives(&mut rows);
    rows.0
}

/// The head of the volume is gone, in several lengths.
fn heads(rows: &mut Rows) {
    let fat32: Vec<Shape> = STARTS.iter().map(|start| shape(Kind::Fat32, *start)).collect();
    let wide = [
        shape(Kind::Fat32, 0),
        full(shape(Kind::Fat32, MIB)),
        Shape { bytes: 140 * MIB, cluster: 2048, ..shape(Kind::Fat32, 4 * MIB) },
    ];
    for row in rows.on("sectors 0 to 32 zero", &fat32, |card| card.zero(0, 0, 33 * 512)) {
        row.says = &[
            "one gap: bytes 0 to",
            "the boot sector, FSInfo, the backup boot sector and the head of the first table",
        ];
    }
    rows.on("head and first table zero", &wide, |card| card.zero(0, 0, card.volumes[0].layout.table(1)));
    rows.on("boot sectors and second table zero", &wide, |card| {
        card.zero(0, 0, 32 * 512);
        let table = card.volumes[0].layout.table(1);
        card.zero(0, table, table + card.volumes[0].layout.table_bytes());
    });
    for row in rows.on("boot sectors and both table heads zero", &wide, |card| {
        card.zero(0, 0, 34 * 512);
        let table = card.volumes[0].layout.table(1);
        card.zero(0, table, table + 1024);
    }) {
        row.costs = in_pieces;
    }
    rows.on("boot sectors, 8 KiB of the first table and two root entries zero", &wide, |card| {
        card.zero(0, 0, 512);
        card.zero(0, 6 * 512, 7 * 512);
        let table = card.volumes[0].layout.table(0);
        card.zero(0, table, table + 8192);
        let root = card.volumes[0].layout.data();
        card.zero(0, root + 32, root + 96);
    });
    let narrow = [
        shape(Kind::Fat16, 0),
        full(shape(Kind::Fat16, MIB)),
        shape(Kind::Fat16, 63 * 512),
        shape(Kind::Fat12, 0),
        shape(Kind::Fat12, 32 * MIB),
    ];
    rows.on("boot sector and first table sector zero", &narrow, |card| card.zero(0, 0, 1024));
    rows.on("boot sector and first table zero", &narrow[..4], |card| {
        card.zero(0, 0, card.volumes[0].layout.table(1));
    });
    let wiped = [shape(Kind::Fat32, 16 * MIB), shape(Kind::Fat16, 63 * 512), shape(Kind::Fat12, 0)];
    for row in rows.on("all up to the end of the root folder zero", &wiped, |card| {
        let layout = card.volumes[0].layout;
        let wide = matches!(layout, Layout::Fat(geometry) if geometry.wide());
        let root = if wide { layout.cluster_bytes() } else { 0 };
        card.zero(0, 0, layout.data() + root);
    }) {
        row.says = &["nothing behind it is whole as it stands", "the second table and the root folder"];
        // What stood in the root folder has neither a name nor a first cluster.
        row.costs = |card, volume| {
            let in_root = volume.files().filter(|made| !made.path.contains('/'));
            in_pieces(card, volume).into_iter().chain(in_root.map(|made| made.path.clone())).collect()
        };
    }
}

/// exFAT behind a table that lost its signature, or itself.
fn regions(rows: &mut Rows) {
    let all: Vec<Shape> = STARTS[1..].iter().map(|start| shape(Kind::Exfat, *start)).collect();
    rows.on("signature of the MBR gone", &all, |card| card.bytes[510] = 0);
    rows.on("MBR zero", &all[2..4], |card| card.bytes[..512].fill(0));
    for row in rows.on("FF over the rest of both boot regions", &[all[1], full(all[2])], |card| {
        card.filler(0, 1024, 24 * 512, &[0xFF]);
    }) {
        row.says = &["one gap: bytes 1024 to", "the boot checksum and the backup boot region"];
    }
    rows.on("MBR and main boot region zero", &all[1..4], |card| {
        card.bytes[..512].fill(0);
        card.zero(0, 0, 12 * 512);
    });
    rows.on("MBR and both boot regions zero", &all[..3], |card| {
        card.bytes[..512].fill(0);
        card.zero(0, 0, 24 * 512);
    });
    rows.on("both boot regions zero", &[full(all[0]), all[3], shape(Kind::Exfat, 0)], |card| {
        card.zero(0, 0, 24 * 512);
    });
}

/// Images that begin or end elsewhere than their medium.
fn images(rows: &mut Rows) {
    let bare = [shape(Kind::Fat32, 0), shape(Kind::Fat16, 0), shape(Kind::Exfat, 0)];
    let late = |rows: &mut Rows, name: &str, shapes: &[Shape], strike: fn(&mut Card)| {
        for row in rows.on(name, shapes, strike) {
            row.says = &["image begins", "late"];
        }
    };
    late(rows, "image begins one sector late", &[bare[0], bare[2]], |card| card.shift(-512));
    late(rows, "image begins with the first table", &[bare[1], shape(Kind::Fat12, 0)], |card| {
        card.shift(-512);
    });
    late(
        rows,
        "image begins one sector late",
        &[shape(Kind::Fat32, MIB), shape(Kind::Exfat, 16 * MIB)],
        |card| {
            card.shift(-512);
        },
    );
    for row in rows.on("image begins 8 sectors early", &[bare[0], bare[2], shape(Kind::Fat16, MIB)], |card| {
        card.shift(4096);
    }) {
        row.says = &["image begins", "early"];
    }
    for row in rows.on("1 MiB of something else in front", &bare[..1], |card| card.shift(1 << 20)) {
        row.says = &[];
    }
    for row in rows.on(
        "image cut short",
        &[full(bare[0]), full(bare[1]), full(bare[2]), full(shape(Kind::Fat32, 4 * MIB))],
        |card| {
            let end = card.volumes[0].start + card.volumes[0].bytes * 3 / 4;
            card.cut(end);
        },
    ) {
        row.says = &["image the medium again"];
        row.ends = Ends::Remains;
    }
}

/// Partition tables.
fn tables(rows: &mut Rows) {
    let three = |listing: Listing| {
        move || {
            let shapes =
                [shape(Kind::Fat16, MIB), shape(Kind::Fat32, 28 * MIB), shape(Kind::Exfat, 72 * MIB)];
            Card::new(108 * MIB, listing, &shapes)
        }
    };
    let mut on = |name: &str, listing: Listing, strike: fn(&mut Card)| {
        let make = three(listing);
        rows.add(name, move || {
            let mut card = make();
            strike(&mut card);
            card
        });
    };
    on("second link of the extended partition without signature", Listing::Logical, |card| {
        let at = 28 * MIB - 63 * 512 + 510;
        card.write(at, &[0, 0]);
    });
    on("second link of the extended partition zero", Listing::Logical, |card| {
        let at = 28 * MIB - 63 * 512;
        card.write(at, &[0; 512]);
    });
    on("the link to the third volume lost", Listing::Logical, |card| {
        let at = 28 * MIB - 63 * 512 + 462;
        card.write(at, &[0; 16]);
    });
    on("entry of the extended partition zero", Listing::Logical, |card| card.write(462, &[0; 16]));
    on("second entry lost, the first leads to a locked volume", Listing::Mbr, |card| {
        card.write(462, &[0; 16]);
        lock(card);
    });
    on("second entry lost, the first leads to something unknown", Listing::Mbr, |card| {
        card.write(462, &[0; 16]);
        let noise = crate::seed::Seed::new(7).bytes(4 << 20);
        card.write(MIB, &noise);
        card.volumes.remove(0);
    });
    on("MBR zero, logical volumes", Listing::Logical, |card| card.write(0, &[0; 512]));
    on("MBR zero, three volumes", Listing::Mbr, |card| card.write(0, &[0; 512]));
    on("second entry lost, that volume's boot sector gone", Listing::Mbr, |card| {
        card.write(462, &[0; 16]);
        card.zero(1, 0, 512);
    });
    on("GPT entry lost in both copies, checksums right", Listing::Gpt, |card| lose_gpt_entry(card, true));
    on("GPT entry lost in the primary copy", Listing::Gpt, |card| lose_gpt_entry(card, false));
    on("both copies of the GPT gone", Listing::Gpt, |card| {
        let end = card.bytes.len();
        card.bytes[512..34 * 512].fill(0);
        card.bytes[end - 33 * 512..].fill(0);
    });
    on("GPT and protective entry gone", Listing::Gpt, |card| {
        let end = card.bytes.len();
        card.bytes[..34 * 512].fill(0);
        card.bytes[end - 33 * 512..].fill(0);
    });
}

/// Makes the first volume an encrypted one, by its published mark.
fn lock(card: &mut Card) {
    let noise = crate::seed::Seed::new(8).bytes(1 << 20);
    card.write(MIB, &noise);
    card.write(MIB, b"LUKS\xBA\xBE\x00\x01");
    card.volumes.remove(0);
}

/// Empties the second entry of a GPT; in both copies with checksums that fit, or in one without.
pub(super) fn lose_gpt_entry(card: &mut Card, both: bool) {
    let end = card.bytes.len();
    let copies = [(512, 1024), (end - 512, end - 33 * 512)];
    for (header, entries) in copies.into_iter().take(if both { 2 } else { 1 }) {
        card.bytes[entries + 128..entries + 256].fill(0);
        if both {
            let sum = crc32fast::hash(&card.bytes[entries..entries + 128 * 128]);
            card.bytes[header + 88..header + 92].copy_from_slice(&sum.to_le_bytes());
            card.bytes[header + 16..header + 20].fill(0);
            let sum = crc32fast::hash(&card.bytes[header..header + 92]);
            card.bytes[header + 16..header + 20].copy_from_slice(&sum.to_le_bytes());
        }
    }
}

/// What an imager writes where it cannot read.
pub(super) const TEXT: &[u8] = b"UNREADABLE SECTOR ";

/// Content that is not there, or is an imager's own text.
fn contents(rows: &mut Rows) {
    let shapes = [
        full(Shape { bytes: 140 * MIB, cluster: 2048, ..shape(Kind::Fat32, 4 * MIB) }),
        full(shape(Kind::Fat32, 0)),
        full(shape(Kind::Fat16, 63 * 512)),
        full(shape(Kind::Exfat, 16 * MIB)),
    ];
    for row in rows.on("nothing but zeros behind two fifths", &shapes, |card| {
        let volume = &card.volumes[0];
        let from = (volume.bytes * 2 / 5).next_multiple_of(512);
        card.zero(0, from, card.volumes[0].bytes);
    }) {
        row.says = &["nothing but zeros from byte"];
        row.ends = Ends::Remains;
    }
    for row in rows.on("nothing but FF behind two thirds", &shapes[2..], |card| {
        let volume = &card.volumes[0];
        let (from, to) = ((volume.bytes * 2 / 3).next_multiple_of(512), volume.bytes);
        card.filler(0, from, to, &[0xFF]);
    }) {
        row.says = &["nothing but FF from byte"];
        row.ends = Ends::Remains;
    }
    let small = [shape(Kind::Fat32, MIB), shape(Kind::Fat16, 0), shape(Kind::Exfat, MIB)];
    for row in rows.on("an imager's text in a file", &small, |card| {
        let place = card.volumes[0].content(card.volumes[0].find("Sounds/shag.wav"))[2].0;
        let start = card.volumes[0].start;
        card.filler(0, place - start, place - start + 512, TEXT);
    }) {
        row.says = &["text that an imager wrote"];
    }
    for row in rows.on("an imager's text in the boot sector and the first table", &small[..2], |card| {
        card.filler(0, 0, 512, TEXT);
        let table = card.volumes[0].layout.table(0);
        card.filler(0, table, table + 2048, TEXT);
    }) {
        row.says = &["text that an imager wrote"];
    }
}

/// Chains that are gone, and chains that are named by the wrong witness.
fn chains(rows: &mut Rows) {
    let exfat = [
        shape(Kind::Exfat, MIB),
        full(shape(Kind::Exfat, 0)),
        Shape { bytes: 64 * MIB, cluster: 4096, ..shape(Kind::Exfat, 16 * MIB) },
    ];
    for row in rows.on("all of the table zero", &exfat, |card| {
        let layout = card.volumes[0].layout;
        card.zero(0, layout.table(0), layout.table(0) + layout.table_bytes());
    }) {
        row.costs = in_pieces;
    }
    for row in rows.on(
        "both tables zero",
        &[shape(Kind::Fat32, MIB), full(shape(Kind::Fat16, 0)), shape(Kind::Fat12, 0)],
        |card| {
            let layout = card.volumes[0].layout;
            card.zero(0, layout.table(0), layout.table(0) + 2 * layout.table_bytes());
        },
    ) {
        row.costs = in_pieces;
    }
    rows.on("noise in the reserved bits of the first table", &[shape(Kind::Fat32, MIB)], |card| {
        let layout = card.volumes[0].layout;
        let from = card.volumes[0].start + layout.table(0);
        for entry in 8..400 {
            card.bytes[index(from) + entry * 4 + 3] |= 0x50;
        }
    });
    rows.on("a file in pieces is said to lie in a row", &[shape(Kind::Exfat, MIB)], |card| {
        let path = "Sounds/puffin.wav";
        set_stream_flags(card, path, 3);
    });
    rows.on("backup boot sector of an older format", &[shape(Kind::Fat32, 4 * MIB)], older_backup);
    let stale = [shape(Kind::Fat32, 0), full(shape(Kind::Fat32, 4 * MIB))];
    rows.on("sector 0 zero, backup boot sector of an older format", &stale, |card| {
        older_backup(card);
        card.zero(0, 0, 512);
    });
    let named = [shape(Kind::Fat32, MIB), shape(Kind::Fat16, 0), shape(Kind::Exfat, MIB)];
    rows.on("entries of four files zeroed", &named, |card| {
        for path in [
            "DCIM/Ledge 03/nest 004.png",
            "Sounds/puffin.wav",
            "Counts/2026/ledge counts, week 2.csv",
            "Sounds/shag.wav",
        ] {
            let volume = card.volumes[0].clone();
            let made = volume.find(path);
            // FAT: the short entry with the long ones before it; exFAT: the set from its file entry on.
            let length = u64::from(made.entries) * 32;
            let before = if volume.kind == Kind::Exfat { 0 } else { length - 32 };
            // What hosts leave of an entry: deleted, and then written over with something that is none.
            let free = if volume.kind == Kind::Exfat { 0x05 } else { 0xE5 };
            for entry in 0..u64::from(made.entries) {
                let at = volume.start + made.entry - before + entry * 32;
                card.write(at, &[[free].as_slice(), &[0; 31]].concat());
            }
        }
    });
}

/// A backup of a format with other clusters, another table and another number.
fn older_backup(card: &mut Card) {
    let at = card.volumes[0].start + 6 * 512;
    card.write(at + 13, &[8]);
    card.write(at + 36, &80_u32.to_le_bytes());
    card.write(at + 67, &[1, 2, 3, 4]);
}

/// Files that lie in pieces: without a table nothing names the order of their pieces.
fn in_pieces(_: &Card, volume: &Volume) -> Vec<String> {
    let row = |clusters: &[u32]| clusters.windows(2).all(|pair| pair[1] == pair[0] + 1);
    volume.files().filter(|made| !row(&made.clusters)).map(|made| made.path.clone()).collect()
}

/// Sets the stream entry's flags, and the checksum of the set.
fn set_stream_flags(card: &mut Card, path: &str, flags: u8) {
    let volume = &card.volumes[0];
    let made = volume.find(path);
    let (at, entries) = (index(volume.start + made.entry), made.entries);
    card.bytes[at + 33] = flags;
    sum_set(card, entries, at);
}

/// Takes size and first cluster out of an entry, as it is while a recorder writes.
fn unclose(card: &mut Card, path: &str) {
    let volume = card.volumes[0].clone();
    let made = volume.find(path);
    let at = index(volume.start + made.entry);
    match volume.layout {
        Layout::Fat(_) => {
            card.bytes[at + 20..at + 22].fill(0);
            card.bytes[at + 26..at + 32].fill(0);
        }
        Layout::Exfat(_) => {
            card.bytes[at + 33] = 1;
            card.bytes[at + 40..at + 48].fill(0);
            card.bytes[at + 52..at + 64].fill(0);
            sum_set(card, made.entries, at);
        }
        Layout::Ntfs(_) => of_entries(),
    }
}

/// Sets the hidden and system bits of a file or folder.
fn hide(card: &mut Card, path: &str) {
    let volume = card.volumes[0].clone();
    let made = volume.find(path);
    let at = index(volume.start + made.entry);
    match volume.layout {
        Layout::Fat(_) => card.bytes[at + 11] |= 0x06,
        Layout::Exfat(_) => {
            card.bytes[at + 4] |= 0x06;
            sum_set(card, made.entries, at);
        }
        Layout::Ntfs(_) => of_entries(),
    }
}

/// Makes "who sat where.txt" a shortcut that has the name of a hidden folder.
fn lure(card: &mut Card) {
    let volume = card.volumes[0].clone();
    let made = volume.find("who sat where.txt");
    let at = index(volume.start + made.entry);
    match volume.layout {
        Layout::Fat(_) => {
            // Its long name goes; the short one says it all.
            for part in 1..made.entries as usize {
                card.bytes[at - part * 32] = 0xE5;
            }
            card.bytes[at..at + 11].copy_from_slice(b"COUNTS  LNK");
        }
        Layout::Exfat(_) => {
            let name: Vec<u16> = "Counts.lnk".encode_utf16().collect();
            let upper: Vec<u16> = "COUNTS.LNK".encode_utf16().collect();
            card.bytes[at + 1] = 2;
            card.bytes[at + 35] = u8::try_from(name.len()).unwrap_or(0);
            card.bytes[at + 36..at + 38].copy_from_slice(&name_hash(&upper).to_le_bytes());
            card.bytes[at + 66..at + 96].fill(0);
            for (number, unit) in name.iter().enumerate() {
                card.bytes[at + 66 + number * 2..at + 68 + number * 2].copy_from_slice(&unit.to_le_bytes());
            }
            for entry in 3..made.entries as usize {
                card.bytes[at + entry * 32] &= 0x7F;
            }
            sum_set(card, 3, at);
        }
        Layout::Ntfs(_) => of_entries(),
    }
    card.sound = card.bytes.clone();
}

/// Puts the checksum of the set of `entries` entries at `at` right.
fn sum_set(card: &mut Card, entries: u32, at: usize) {
    let sum = set_checksum(&card.bytes[at..at + entries as usize * 32]);
    card.bytes[at + 2..at + 4].copy_from_slice(&sum.to_le_bytes());
}

/// Deletes DCIM with all that is in it, as hosts do: the entries are marked, the clusters freed.
fn delete_pictures(card: &mut Card) {
    let volume = card.volumes[0].clone();
    let start = volume.start;
    for made in volume.made.iter().filter(|made| made.path.starts_with("DCIM")) {
        let before = match volume.layout {
            Layout::Fat(_) => u64::from(made.entries - 1) * 32,
            Layout::Exfat(_) => 0,
            Layout::Ntfs(_) => of_entries(),
        };
        for entry in 0..u64::from(made.entries) {
            let at = index(start + made.entry - before + entry * 32);
            card.bytes[at] = match volume.layout {
                Layout::Fat(_) => 0xE5,
                Layout::Exfat(_) => card.bytes[at] & 0x7F,
                Layout::Ntfs(_) => of_entries(),
            };
        }
        for cluster in &made.clusters {
            free(card, &volume, *cluster);
        }
    }
    for made in card.volumes[0].made.iter_mut().filter(|made| made.path.starts_with("DCIM")) {
        made.deleted = true;
    }
    if volume.kind == Kind::Fat32 {
        // FSInfo knows no number of free clusters any more.
        card.write(start + 512 + 488, &[0xFF; 4]);
    }
    card.sound = card.bytes.clone();
}

/// Gives a cluster back: in the tables of FAT, in the bitmap of exFAT, which stands in cluster 2.
fn free(card: &mut Card, volume: &Volume, cluster: u32) {
    match volume.layout {
        Layout::Fat(geometry) => {
            for copy in 0..geometry.tables {
                let (place, _) = entry_place(geometry.kind, cluster);
                let at = index(volume.start + geometry.table_offset(copy) + place);
                encode(geometry.kind, cluster, 0, &mut card.bytes[at..at + 4]);
            }
        }
        Layout::Exfat(geometry) => {
            let bit = cluster - 2;
            let at = index(volume.start + geometry.cluster_place(2) + u64::from(bit / 8));
            card.bytes[at] &= !(1 << (bit % 8));
        }
        Layout::Ntfs(_) => of_entries(),
    }
}

/// What these rows change are entries of folders, which NTFS has in its own manner.
fn of_entries<T>() -> T {
    unreachable!("a row of folders' entries on a volume of records")
}

/// What people do.
fn lives(rows: &mut Rows) {
    let shapes = [shape(Kind::Fat32, MIB), shape(Kind::Fat16, 0), shape(Kind::Exfat, 4 * MIB)];
    for row in rows.on("formatted over", &shapes, |card| {
        // The same shape, empty, over what was there: clusters keep their bytes.
        let volume = card.volumes[0].clone();
        let fill = Shape {
            kind: volume.kind,
            start: volume.start,
            bytes: volume.bytes,
            cluster: u32::try_from(volume.layout.cluster_bytes()).unwrap_or(0),
            fill: Fill::Empty,
        };
        let fresh = single(fill);
        // Up to the cluster behind the new root folder.
        let end = index(volume.start + volume.layout.data())
            + match volume.kind {
                Kind::Exfat => 4 * index(volume.layout.cluster_bytes()),
                _ => index(volume.layout.cluster_bytes()),
            };
        card.bytes[..end].copy_from_slice(&fresh.bytes[..end]);
        card.sound = card.bytes.clone();
        card.volumes[0].made.clear();
    }) {
        row.says = &["an older volume"];
        row.ends = Ends::Nothing;
    }
    for row in rows.on("folders hidden, a shortcut of the same name beside them", &shapes, |card| {
        for path in ["DCIM", "Counts", "station.log"] {
            hide(card, path);
        }
        lure(card);
    }) {
        row.says = &["are hidden, 1 program of the same names beside them"];
        row.ends = Ends::Nothing;
    }
    rows.on("two recordings that were never closed", &shapes, |card| {
        unclose(card, "Sounds/razorbill.wav");
        unclose(card, "Sounds/shag.wav");
    });
    // Clusters of a kilobyte: the folders of FAT32 have no more than one.
    let shapes = [Shape { cluster: 1024, ..shapes[0] }, shapes[1], shapes[2]];
    for row in rows.on("every picture deleted, with its folders", &shapes, delete_pictures) {
        row.says = &["18 files are marked deleted; 18 of them can still be read"];
        row.ends = Ends::Nothing;
    }
}
