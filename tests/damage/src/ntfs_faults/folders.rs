//! Damage to folders: their indexes, and what ties files to them.

use super::{Fault, OTHER, Patient, README, ROW, fault, files::Records};
use easy_ext::ext;
use punchdog_core::{
    medium::Extent,
    ntfs::{
        layout::{NAME_SHORT, kind, own, put},
        record::{Attribute, attributes},
        runs::Mapping,
    },
};

/// A folder whose index has blocks.
const LARGE: &str = "Recordings/Thumbs";
/// A folder whose index stands in its record.
const SMALL: &str = "Logs/2026";
/// A folder in the root with a folder in it.
const ABOVE: &str = "Logs";
/// A file whose entry stands in the middle of a block.
const INNER: &str = "Recordings/Thumbs/spectrogram number 008.png";
/// What somebody else left there.
const TEXT: &[u8] = b"half past six, wind from the north, visibility good. ";

fn le16(bytes: &[u8], at: usize) -> usize {
    usize::from(u16::from_le_bytes([bytes[at], bytes[at + 1]]))
}

fn le32(bytes: &[u8], at: usize) -> usize {
    u32::from_le_bytes(bytes[at..at + 4].try_into().expect("four bytes")) as usize
}

#[ext(Folders)]
pub(super) impl Patient {
    /// Says that findings on what stands at a byte of a block are findings on the damage.
    fn at_block(&mut self, path: &str, number: usize, at: usize) {
        let place = self.in_block(path, number, at);
        self.damaged.push(Extent::new(place, 16));
    }
    /// Where the root node's entries begin in a folder's record.
    fn root_entries(&self, path: &str) -> usize {
        let number = self.number(path);
        self.root_header(number) + 16
    }
    /// Where the header of the root node stands in a record.
    fn root_header(&self, number: u32) -> usize {
        let at = self.attribute(number, kind::INDEX_ROOT, "$I30");
        at + le16(&self.record(number), at + 20) + 16
    }
    /// In which block of its folder the entry of a file stands, and where.
    fn entry(&self, folder: &str, path: &str) -> (usize, usize) {
        let number = self.number(path);
        let found = self.blocks(folder).into_iter().enumerate().find_map(|(block, pieces)| {
            let bytes = self.block(&pieces);
            let own = |at: &usize| le32(&bytes, *at) == number as usize && bytes[at + 16 + 65] != NAME_SHORT;
            entries(&bytes, 24).into_iter().find(own).map(|at| (block, at))
        });
        found.expect("a block has it")
    }
    /// Strikes a byte of an entry in a block.
    fn strike_entry(&mut self, byte: usize, bits: u8) {
        let (block, at) = self.entry(LARGE, INNER);
        self.edit_block(LARGE, block, |bytes| bytes[at + byte] ^= bits);
        self.at_block(LARGE, block, at);
    }
    /// Removes the entries of a file from the blocks of its folder.
    fn drop_entry(&mut self, folder: &str, path: &str) {
        let (block, at) = self.entry(folder, path);
        self.edit_block(folder, block, |bytes| cut(bytes, 24, at));
        self.at_record(path);
    }
    /// Says that findings on what is in a folder are findings on the damage.
    fn at_records_in(&mut self, folder: &str) {
        let inside = |path: &&str| path.starts_with(folder) && path[folder.len()..].starts_with('/');
        let paths: Vec<String> =
            self.live().map(|made| made.path.as_str()).filter(inside).map(str::to_owned).collect();
        for path in &paths {
            self.at_record(path);
        }
    }
}

/// Where the entries of a node begin, as far as they can be read, the end entry left out; `header` is that of the node.
fn entries(bytes: &[u8], header: usize) -> Vec<usize> {
    let mut at = header + le32(bytes, header);
    let mut found = Vec::new();
    while at + 16 + 66 <= bytes.len() && le16(bytes, at + 12) & 2 == 0 && le16(bytes, at + 8) >= 16 {
        found.push(at);
        at += le16(bytes, at + 8);
    }
    found
}

/// Takes an entry out of a node.
fn cut(bytes: &mut [u8], header: usize, at: usize) {
    let length = le16(bytes, at + 8);
    let used = le32(bytes, header + 4);
    bytes.copy_within(at + length..header + used, at);
    put(bytes, header + 4, &u32::try_from(used - length).expect("short").to_le_bytes());
}

pub(super) const ALL: &[Fault] = &[
    fault("the root node begins nowhere", "ntfs/index-root", |p, _| {
        let number = p.number(LARGE);
        let header = p.root_header(number);
        p.edit(number, |record| record[header] = 0xF1);
        p.at_record(LARGE);
    }),
    fault("the root node is of another block size", "ntfs/index-root", |p, _| {
        let number = p.number(LARGE);
        let header = p.root_header(number);
        p.edit(number, |record| record[header - 7] ^= 0x31);
        p.at_record(LARGE);
    }),
    fault("the root node counts its blocks otherwise", "ntfs/index-root", |p, _| {
        let number = p.number(LARGE);
        let header = p.root_header(number);
        p.edit(number, |record| record[header - 4] = 3);
        p.at_record(LARGE);
    }),
    // Its last entry has a block below, and no name.
    fault("the last entry of the root node has a name", "ntfs/index-root", |p, _| {
        let number = p.number(LARGE);
        let header = p.root_header(number);
        p.edit(number, |record| {
            let last = header + le32(record, header + 4) - 24;
            record[last + 10] = 0x40;
        });
        p.at_record(LARGE);
    }),
    fault("the root node indexes something else", "ntfs/index-root", |p, _| {
        let number = p.number(SMALL);
        let header = p.root_header(number);
        p.edit(number, |record| record[header - 16] = 0x90);
        p.at_record(SMALL);
    }),
    fault("the root node uses more than it has", "ntfs/index-root", |p, _| {
        let number = p.number(SMALL);
        let header = p.root_header(number);
        p.edit(number, |record| record[header + 5] = 0x70);
        p.at_record(SMALL);
    }),
    fault("an entry of the root node has no length", "ntfs/index-entry", |p, _| {
        let number = p.number(SMALL);
        let at = p.root_entries(SMALL);
        p.edit(number, |record| record[at + 8..at + 10].fill(0));
        p.at_record(SMALL);
    }),
    fault("a folder has lost its root node", "ntfs/index-root", |p, _| {
        let number = p.number(SMALL);
        let at = p.attribute(number, kind::INDEX_ROOT, "$I30");
        p.edit(number, |record| take_out(record, at));
        p.at_record(SMALL);
    }),
    fault("a folder has lost its blocks", "ntfs/index-root", |p, _| {
        let number = p.number(LARGE);
        let at = p.attribute(number, kind::INDEX_ALLOCATION, "$I30");
        p.edit(number, |record| take_out(record, at));
        p.at_record(LARGE);
    }),
    fault("a folder has lost the bitmap of its blocks", "ntfs/index-bitmap", |p, _| {
        let number = p.number(LARGE);
        let at = p.attribute(number, kind::BITMAP, "$I30");
        p.at_block(LARGE, 0, 0);
        p.edit(number, |record| take_out(record, at));
    }),
    fault("a block marked free", "ntfs/index-bitmap", |p, _| {
        let number = p.number(LARGE);
        let at = p.attribute(number, kind::BITMAP, "$I30");
        let at = at + le16(&p.record(number), at + 20);
        p.edit(number, |record| record[at] &= !2);
        p.at_block(LARGE, 1, 0);
    }),
    fault("a block zero", "ntfs/index-block", |p, _| {
        p.fill_block(LARGE, 1, &[0]);
    }),
    fault("all blocks FF", "ntfs/index-block", |p, _| {
        for number in 0..p.blocks(LARGE).len() {
            p.fill_block(LARGE, number, &[0xFF]);
        }
    }),
    fault("the blocks of the root folder zero", "ntfs/index-block", |p, _| {
        let map = Mapping::of(&p.runs(own::ROOT, kind::INDEX_ALLOCATION, "$I30"), p.geometry.cluster());
        let place = map.place(0).expect("it has one");
        p.fill(place, p.geometry.index() as u64, 0);
    }),
    fault("a block torn", "ntfs/index-torn", |p, _| {
        let place = p.in_block(LARGE, 0, 1022);
        p.write(place, &[0x77, 0x77]);
        p.at_block(LARGE, 0, 0);
    }),
    fault("the fixups of a block lie elsewhere", "ntfs/index-block", |p, _| {
        let place = p.in_block(LARGE, 0, 4);
        p.write(place, &[0xFE, 0x7F]);
        p.at_block(LARGE, 0, 0);
    }),
    fault("a block says that it is another", "ntfs/index-block", |p, _| {
        p.edit_block(LARGE, 0, |bytes| bytes[16] ^= 0x5A);
    }),
    fault("a block uses more than it has", "ntfs/index-block", |p, _| {
        p.edit_block(LARGE, 1, |bytes| bytes[29] = 0xF0);
    }),
    fault("a block begins behind its end", "ntfs/index-block", |p, _| {
        p.edit_block(LARGE, 1, |bytes| bytes[25] = 0xF0);
    }),
    fault("a block holds the log of something", "ntfs/index-block", |p, _| {
        p.fill_block(LARGE, 0, TEXT);
    }),
    fault("an entry has no length", "ntfs/index-entry", |p, _| {
        let (block, at) = p.entry(LARGE, INNER);
        p.edit_block(LARGE, block, |bytes| bytes[at + 8..at + 10].fill(0));
        p.at_block(LARGE, block, at);
    }),
    fault("an entry's name is longer than the entry", "ntfs/index-entry", |p, _| {
        let (block, at) = p.entry(LARGE, INNER);
        p.edit_block(LARGE, block, |bytes| bytes[at + 16 + 64] = 0xF0);
        p.at_block(LARGE, block, at);
    }),
    fault("an entry leads to a block that there is not", "ntfs/index-entry", |p, _| {
        let number = p.number(LARGE);
        let at = p.root_entries(LARGE);
        let below = at + le16(&p.record(number), at + 8) - 8;
        p.edit(number, |record| record[below + 2] = 0x31);
        p.at_record(LARGE);
    }),
    fault("two entries lead to one block", "ntfs/index-entry", |p, _| {
        let number = p.number(LARGE);
        let first = p.root_entries(LARGE);
        let record = p.record(number);
        let second = first + le16(&record, first + 8);
        let (one, other) = (second - 8, second + le16(&record, second + 8) - 8);
        p.edit(number, |record| record.copy_within(one..one + 8, other));
        p.at_record(LARGE);
    }),
    fault("two entries exchanged", "ntfs/index-order", |p, _| {
        let (block, at) = p.entry(LARGE, INNER);
        p.edit_block(LARGE, block, |bytes| {
            let length = le16(bytes, at + 8);
            let one = bytes[at..at + length].to_vec();
            bytes.copy_within(at + length..at + 2 * length, at);
            bytes[at + length..at + 2 * length].copy_from_slice(&one);
        });
        let length = le16(&p.block(&p.blocks(LARGE)[block]), at + 8);
        p.at_block(LARGE, block, at + length);
    }),
    fault("an entry missing", "ntfs/index-entry-missing", |p, _| p.drop_entry(LARGE, INNER)),
    fault("the entry of a short name missing", "ntfs/short-name-missing", |p, _| {
        let bytes = p.block(&p.blocks(LARGE)[0]);
        let short = |at: &usize| bytes[at + 16 + 65] == NAME_SHORT;
        let at = entries(&bytes, 24).into_iter().find(short).expect("a block has one");
        p.edit_block(LARGE, 0, |bytes| cut(bytes, 24, at));
        let record = p.record_place(u32::try_from(le32(&bytes, at)).expect("a small volume"));
        p.damaged.push(Extent::new(record, p.geometry.record() as u64));
    }),
    fault("an entry of a small folder missing", "ntfs/index-entry-missing", |p, _| {
        let number = p.number(SMALL);
        let header = p.root_header(number);
        let at = p.root_entries(SMALL);
        p.edit(number, |record| cut(record, header, at));
        for path in p
            .made
            .iter()
            .filter(|made| made.path.starts_with(SMALL))
            .map(|made| made.path.clone())
            .collect::<Vec<_>>()
        {
            p.at_record(&path);
        }
    }),
    fault("a block without entries", "ntfs/index-entry-missing", |p, _| {
        let (block, _) = p.entry(LARGE, INNER);
        p.edit_block(LARGE, block, |bytes| {
            while let Some(at) = entries(bytes, 24).first() {
                cut(bytes, 24, *at);
            }
        });
        p.at_record(INNER);
    }),
    fault("an entry names a free record", "ntfs/index-entry-stale", |p, _| {
        let deleted = p.made.iter().find(|made| made.deleted).expect("one was deleted").index;
        let (block, at) = p.entry(LARGE, INNER);
        p.edit_block(LARGE, block, |bytes| put(bytes, at, &deleted.to_le_bytes()[..6]));
        p.at_block(LARGE, block, at);
    }),
    fault("an entry names another use of the record", "ntfs/index-entry-stale", |p, _| {
        p.strike_entry(6, 0x5A);
    }),
    fault("an entry with another name", "ntfs/index-entry-stale", |p, _| {
        p.strike_entry(16 + 66 + 4, 2);
    }),
    fault("an entry of another folder", "ntfs/index-entry-stale", |p, _| {
        p.strike_entry(16, 0x5A);
    }),
    fault("an entry leads to a record that there is not", "ntfs/index-entry-stale", |p, _| {
        p.strike_entry(3, 0x20);
    }),
    fault("an entry of another use of its folder", "ntfs/index-entry-stale", |p, _| {
        p.strike_entry(16 + 6, 0x10);
    }),
    fault("the last entry of a block has a key", "ntfs/index-entry", |p, _| {
        let (block, _) = p.entry(LARGE, INNER);
        let bytes = p.block(&p.blocks(LARGE)[block]);
        let last = *entries(&bytes, 24).last().expect("entries");
        let end = last + le16(&bytes, last + 8);
        p.edit_block(LARGE, block, |bytes| bytes[end + 11] ^= 0x20);
        p.at_block(LARGE, block, end);
    }),
    fault("an entry twice", "ntfs/index-entry-stale", |p, _| {
        let (block, at) = p.entry(LARGE, INNER);
        let length = le16(&p.block(&p.blocks(LARGE)[block]), at + 8);
        p.edit_block(LARGE, block, |bytes| {
            let one = bytes[at..at + length].to_vec();
            bytes[at + length..at + 2 * length].copy_from_slice(&one);
        });
        p.at_block(LARGE, block, at + length);
    }),
    fault("a folder has another sequence number", "ntfs/record-sequence", |p, _| {
        let number = p.number(ABOVE);
        p.edit(number, |record| record[16] ^= 0x5A);
    }),
    fault("a folder says that it is free", "ntfs/record-flag", |p, _| {
        let number = p.number(ABOVE);
        p.edit(number, |record| record[22] &= !1);
    }),
    fault("a file says that it is free", "ntfs/record-flag", |p, _| {
        let number = p.number(OTHER);
        p.edit(number, |record| record[22] &= !1);
    }),
    fault("a folder says that it is a file", "ntfs/record-folder", |p, _| {
        let number = p.number(ABOVE);
        p.edit(number, |record| record[22] &= !2);
    }),
    fault("a file says that it is a folder", "ntfs/record-folder", |p, _| {
        let number = p.number(README);
        p.edit(number, |record| record[22] |= 2);
    }),
    fault("a name in a folder that there is not", "ntfs/name-folder", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::NAME, "") + 24;
        p.edit(number, |record| record[at..at + 2].copy_from_slice(&[0xBB, 0xBB]));
    }),
    fault("a name in another use of its folder", "ntfs/name-folder", |p, _| {
        let number = p.number(OTHER);
        let at = p.attribute(number, kind::NAME, "") + 24;
        p.edit(number, |record| record[at + 6] ^= 0x5A);
        p.at_record(OTHER);
    }),
    fault("a name of a kind that there is not", "ntfs/name-head", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::NAME, "") + 24;
        p.edit(number, |record| record[at + 65] = 0xC0);
    }),
    fault("a name longer than its value", "ntfs/name-head", |p, _| {
        let number = p.number(OTHER);
        let at = p.attribute(number, kind::NAME, "") + 24;
        p.edit(number, |record| record[at + 64] = 0xC0);
    }),
    fault("a file has lost its long name", "ntfs/name-head", |p, _| {
        let names = |path: &&str| {
            let record = p.record(p.number(path));
            attributes(&record).0.iter().filter(|a| a.kind() == kind::NAME).count()
        };
        let inside = p.live().map(|made| made.path.as_str()).filter(|path| path.starts_with(LARGE));
        let path = inside.into_iter().find(|path| names(path) == 2).expect("one has a short name").to_owned();
        let number = p.number(&path);
        let record = p.record(number);
        let (list, _) = attributes(&record);
        let long = |a: &&Attribute<'_>| a.kind() == kind::NAME && a.value()[65] != NAME_SHORT;
        let at = list.iter().find(long).expect("a long name").at;
        p.edit(number, |record| take_out(record, at));
        p.at_record(&path);
    }),
    fault("a file has lost its name", "ntfs/no-name", |p, _| {
        let number = p.number(ROW);
        let at = p.attribute(number, kind::NAME, "");
        p.edit(number, |record| take_out(record, at));
        p.at_record(ROW);
    }),
    fault("an entry says that a file is a folder", "ntfs/index-entry-kind", |p, _| {
        p.strike_entry(75, 0x10);
    }),
    fault("an entry says that a folder is a file", "ntfs/index-entry-kind", |p, _| {
        let (block, at) = p.entry("", "Möwen und Lummen");
        p.edit_block("", block, |bytes| bytes[at + 75] ^= 0x10);
        p.at_block("", block, at);
    }),
    fault("the number of a block's fixups wrong", "ntfs/index-block", |p, _| {
        let (block, _) = p.entry(LARGE, INNER);
        p.edit_block(LARGE, block, |bytes| bytes[7] = 0x80);
    }),
    fault("an entry says another size than the file's record", "ntfs/index-entry-sizes", |p, _| {
        p.strike_entry(66, 4);
    }),
    fault("an entry says that a file was changed later", "ntfs/index-entry-sizes", |p, _| {
        p.strike_entry(39, 2);
    }),
    fault("a file's record is of an earlier writing than its folder's entry", "ntfs/record-older", |p, _| {
        // The file was saved over, larger and an hour later; of that the folder alone was written.
        let (block, at) = p.entry(LARGE, INNER);
        p.edit_block(LARGE, block, |bytes| {
            let change = |bytes: &mut [u8], add: u64| {
                let value = u64::from_le_bytes(bytes[..8].try_into().expect("eight bytes")) + add;
                bytes[..8].copy_from_slice(&value.to_le_bytes());
            };
            change(&mut bytes[at + 32..], 36_000_000_000);
            change(&mut bytes[at + 64..], 70_000);
        });
        p.at_block(LARGE, block, at);
    }),
    fault("two files of one name in a folder", "ntfs/name-twice", |p, _| {
        // As one that was saved over another leaves it, where the older one was not removed.
        let (one, other) =
            (format!("{LARGE}/spectrogram number 041.png"), format!("{LARGE}/spectrogram number 047.png"));
        p.drop_entry(LARGE, &other);
        let number = p.number(&other);
        let record = p.record(number);
        let (list, _) = attributes(&record);
        let long = |a: &&Attribute<'_>| a.kind() == kind::NAME && a.value()[65] != NAME_SHORT;
        let at = list.iter().find(long).expect("a long name").value_at();
        let last = at + 66 + 2 * usize::from(record[at + 64]) - 10;
        p.edit(number, |record| record[last] = b'1');
        p.at_record(&one);
        p.moves(&[&other]);
    }),
    fault("the record of a folder zero", "ntfs/record-lost", |p, _| {
        let place = p.record_place(p.number(ABOVE));
        p.fill(place, p.geometry.record() as u64, 0);
    }),
    fault("the record of a folder with blocks is noise", "ntfs/record-lost", |p, _| {
        let place = p.record_place(p.number(LARGE));
        let text: Vec<u8> = TEXT.iter().copied().cycle().take(p.geometry.record()).collect();
        p.write(place, &text);
    }),
    fault("the record of a folder zero, and no entry for it", "ntfs/orphan", |p, _| {
        p.drop_entry("", ABOVE);
        let place = p.record_place(p.number(ABOVE));
        p.fill(place, p.geometry.record() as u64, 0);
        p.at_records_in(ABOVE);
        p.moves(&[ABOVE]);
    }),
    fault("the record of a folder given to a file", "ntfs/orphan", |p, _| {
        let (number, other) = (p.number(ABOVE), p.number(README));
        let record = p.record(other);
        p.edit(number, |own| {
            let usn = own[48..50].to_vec();
            own.copy_from_slice(&record);
            own[48..50].copy_from_slice(&usn);
            put(own, 16, &9_u16.to_le_bytes());
            put(own, 44, &number.to_le_bytes());
            let name = own.windows(12).position(|w| w == b"R\0E\0A\0D\0M\0E\0").expect("a name");
            own[name] = b'Z';
        });
        p.at_records_in(ABOVE);
        p.moves(&[ABOVE]);
    }),
    fault("a folder is in the folder that is in it", "ntfs/name-folder", |p, _| {
        p.goes_into_itself();
    }),
    fault("folders in a ring, and no entry for them", "ntfs/orphan", |p, _| {
        p.drop_entry("", ABOVE);
        p.goes_into_itself();
        p.moves(&[ABOVE]);
    }),
    fault("the record of the root folder zero", "ntfs/system-record", |p, _| {
        for place in [p.record_place(own::ROOT), p.copy_place(own::ROOT)] {
            let copy = place != p.record_place(own::ROOT);
            if !copy || p.geometry.mirrored() > own::ROOT.into() {
                p.fill(place, p.geometry.record() as u64, 0);
            }
        }
    }),
    fault("the record of $Extend zero", "ntfs/system-record", |p, _| {
        let place = p.record_place(own::EXTEND);
        p.fill(place, p.geometry.record() as u64, 0);
    }),
];

#[ext(Rings)]
pub(super) impl Patient {
    /// Says of all names of a folder that they stand in the folder that stands in it.
    fn goes_into_itself(&mut self) {
        let (number, inner) = (self.number(ABOVE), self.number(SMALL));
        let reference = u64::from(inner) | (le16(&self.record(inner), 16) as u64) << 48;
        let record = self.record(number);
        let (list, _) = attributes(&record);
        let names: Vec<usize> =
            list.iter().filter(|a| a.kind() == kind::NAME).map(Attribute::value_at).collect();
        self.edit(number, |record| {
            for at in &names {
                put(record, *at, &reference.to_le_bytes());
            }
        });
        self.at_record(ABOVE);
    }
}

/// Takes an attribute out of a record.
fn take_out(record: &mut Vec<u8>, at: usize) {
    let (length, size, used) = (le32(record, at + 4), record.len(), le32(record, 24));
    record.drain(at..at + length);
    record.resize(size, 0);
    put(record, 24, &u32::try_from(used - length).expect("short").to_le_bytes());
}
