//! Laying down an empty NTFS volume: the lab fills such volumes, the last resort is one, and lost records of the file
//! system's own files are made as they would be here.
//!
//! Version 3.1. Where things are placed is free: $MFT near the beginning, $MFTMirr in the middle, as the trade has it.

use super::{
    build::{
        BY_NAME, FileName, Index, Order, Outside, Record, Room, Times, empty_root, folder_entry, index,
        outside, resident, standard, units, unused, view_entry,
    },
    geometry::{Geometry, cluster_code, size_code},
    layout::{
        BootSector, DUP_FOLDER, NAME_BOTH, RECORD_FOLDER, RECORD_VIEW, STANDARD_LEAST, kind, own, put,
        reference,
    },
    names::{Capitals, TABLE, of_key},
    runs::Run,
};
use crate::{
    arith::{Peek, Sat},
    medium::Extent,
};
use zerocopy::IntoBytes;

/// What the volume shall be like.
#[derive(Debug, Clone)]
pub struct Wish {
    /// Bytes in all.
    pub bytes: u64,
    /// Bytes per sector: 512 to 4096.
    pub sector_bytes: u32,
    /// Bytes per cluster: 512 to 2 MiB.
    pub cluster_bytes: u32,
    /// Bytes per record: 1024 or 4096.
    pub record_bytes: u32,
    /// The label, up to 32 characters.
    pub label: String,
    /// The serial number.
    pub serial: u64,
    /// When it is made, in 100 ns since 1601.
    pub time: u64,
    /// Records that $MFT has room for at first; 64 at least.
    pub records: u32,
}

/// Why there can be no such volume.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FreshError {
    /// A size is none that NTFS has.
    #[error("{0} is no size that NTFS has")]
    Size(&'static str),
    /// The volume has no room for its own files.
    #[error("{0} bytes are too few for an NTFS volume")]
    TooSmall(u64),
}

/// Pieces of the volume: where, and the bytes.
pub type Pieces = Vec<(Extent, Vec<u8>)>;

/// Records that a fresh $MFT has room for at least; what is behind them is blank.
const RECORDS: u64 = 64;
/// Bytes of $Boot.
const BOOT_BYTES: u64 = 8192;
/// Where the second copy of the descriptors stands in `$SDS`, and what is repeated.
pub const SDS_STEP: usize = 0x4_0000;
/// Attributes of the file system's own files: hidden, system.
const OWN: u32 = 6;
/// The security id that they have, and the one for people's files.
pub const SECURITY: [u32; 2] = [0x100, 0x101];
/// Records of the files in $Extend: `$Quota`, `$ObjId`, `$Reparse`.
const EXTENDED: [(u32, &str); 3] = [(24, "$Quota"), (25, "$ObjId"), (26, "$Reparse")];

/// Where the file system's own files lie, and what it says of itself: all that their records are made from.
#[derive(Debug, Clone)]
pub struct Facts {
    /// Where everything lies.
    pub geometry: Geometry,
    /// $MFT, and its bitmap.
    pub mft: (Vec<Run>, u64),
    /// Which records are in use, and bytes of that.
    pub mft_bitmap: (Vec<Run>, u64),
    /// $MFTMirr.
    pub mirror: (Vec<Run>, u64),
    /// $LogFile.
    pub log: (Vec<Run>, u64),
    /// $AttrDef.
    pub attrdef: (Vec<Run>, u64),
    /// $Bitmap.
    pub bitmap: (Vec<Run>, u64),
    /// $Boot.
    pub boot: (Vec<Run>, u64),
    /// `$Secure:$SDS`.
    pub descriptors: (Vec<Run>, u64),
    /// $UpCase.
    pub upcase: (Vec<Run>, u64),
    /// The label.
    pub label: String,
    /// Major and minor version.
    pub version: (u8, u8),
    /// When the volume was made.
    pub time: u64,
}

impl Facts {
    /// The record of one of the file system's own files; `None` for $Secure and for others.
    pub fn record(&self, number: u32) -> Option<Record> {
        let cluster = self.geometry.cluster();
        let plain =
            |(runs, size): &(Vec<Run>, u64)| outside(kind::DATA, "", Outside::plain(runs, *size, cluster));
        let base = |sizes: (u64, u64)| self.named(number, sizes, RECORD_NONE);
        let whole = |(runs, size): &(Vec<Run>, u64)| (clusters(runs).times(cluster), *size);
        Some(match number {
            own::MFT => base(whole(&self.mft)).with(plain(&self.mft)).with(outside(
                kind::BITMAP,
                "",
                Outside::plain(&self.mft_bitmap.0, self.mft_bitmap.1, cluster),
            )),
            own::MIRROR => base(whole(&self.mirror)).with(plain(&self.mirror)),
            own::LOG => base(whole(&self.log)).with(plain(&self.log)),
            own::VOLUME => {
                let mut info = vec![0; 12];
                put(&mut info, 8, &[self.version.0, self.version.1]);
                base((0, 0))
                    .with(resident(kind::VOLUME_NAME, "", &units(&self.label)))
                    .with(resident(kind::VOLUME_INFO, "", &info))
                    .with(resident(kind::DATA, "", &[]))
            }
            own::ATTRDEF => base(whole(&self.attrdef)).with(plain(&self.attrdef)),
            own::BITMAP => base(whole(&self.bitmap)).with(plain(&self.bitmap)),
            own::BOOT => base(whole(&self.boot)).with(plain(&self.boot)),
            own::BADCLUS => {
                let hole = [Run { first: None, length: self.geometry.clusters() }];
                let size = self.geometry.clusters().times(cluster);
                let bad = Outside { valid: 0, ..Outside::plain(&hole, size, cluster) };
                base((0, 0)).with(resident(kind::DATA, "", &[])).with(outside(kind::DATA, "$Bad", bad))
            }
            own::UPCASE => base(whole(&self.upcase)).with(plain(&self.upcase)),
            // Without an entry: those are laid when their names are known.
            own::ROOT | own::EXTEND => self.named(number, (0, 0), RECORD_FOLDER).with(resident(
                kind::INDEX_ROOT,
                "$I30",
                &empty_root(BY_NAME, self.room(usize::MAX)),
            )),
            _ => return None,
        })
    }

    /// A record with standard information and its name in the root folder.
    /// The record of one of the file system's own files, with its name.
    pub(super) fn named(&self, number: u32, sizes: (u64, u64), flags: u16) -> Record {
        let times = Times::all(self.time);
        let name = own::NAMES.get(number.size()).copied().unwrap_or("?");
        let folder = if flags & RECORD_FOLDER != 0 { DUP_FOLDER } else { 0 };
        let key = FileName {
            parent: reference(own::ROOT, 5),
            times,
            sizes,
            attributes: OWN | folder,
            space: NAME_BOTH,
            name,
        };
        let sequence = u16::try_from(number).unwrap_or(1).max(1);
        Record::new(number, sequence, flags)
            .with(resident(kind::STANDARD, "", &self.standard(times)))
            .with(resident(kind::NAME, "", &key.bytes()))
    }

    /// Standard information: before version 3 without what stands behind the attributes.
    fn standard(&self, times: Times) -> Vec<u8> {
        let mut value = standard(times, OWN, 0x100);
        value.truncate(if self.version < (3, 0) { STANDARD_LEAST } else { value.len() });
        value
    }

    /// The sizes that indexes are built for; the root node as large as its record has room for beside the rest.
    pub fn room(&self, root: usize) -> Room {
        Room { block: self.geometry.index(), cluster: self.geometry.cluster().size(), root }
    }
}

const RECORD_NONE: u16 = 0;

fn clusters(runs: &[Run]) -> u64 {
    runs.iter().fold(0, |sum, run| sum.plus(run.length))
}

/// The boot sector of such a volume.
pub fn boot_sector(geometry: &Geometry, serial: u64, hidden: u32) -> BootSector {
    let mut boot = BootSector::read(&[0; 512]).unwrap_or_else(empty);
    boot.jump = [0xEB, 0x52, 0x90];
    boot.name = *b"NTFS    ";
    boot.bytes_per_sector.set(u16::try_from(geometry.sector()).unwrap_or(512));
    boot.sectors_per_cluster = cluster_code(geometry.cluster_shift.saturating_sub(geometry.sector_shift));
    boot.media = 0xF8;
    boot.sectors_per_track.set(63);
    boot.heads.set(255);
    boot.hidden_sectors.set(hidden);
    boot.drive.set(0x0080_0080);
    boot.total_sectors.set(geometry.sectors);
    boot.mft.set(geometry.mft);
    boot.mirror.set(geometry.mirror);
    boot.record_size = size_code(geometry.record_shift, geometry.cluster_shift);
    boot.index_size = size_code(geometry.index_shift, geometry.cluster_shift);
    boot.serial.set(serial);
    boot.signature = [0x55, 0xAA];
    boot
}

fn empty() -> BootSector {
    zerocopy::FromZeros::new_zeroed()
}

/// Hands out clusters from the beginning on, and leaves out what was taken before.
struct Allocator {
    next: u64,
    taken: Run,
}

impl Allocator {
    fn take(&mut self, count: u64) -> Vec<Run> {
        if self.next < self.taken.end() && self.next.plus(count) > self.taken.first.unwrap_or(0) {
            self.next = self.taken.end();
        }
        let run = Run::new(self.next, count);
        self.next = self.next.plus(count);
        vec![run]
    }
}

/// Where everything will lie.
fn facts(wish: &Wish) -> Result<Facts, FreshError> {
    let shift = |bytes: u32, low: u32, high: u32, what: &'static str| {
        let fits = bytes.is_power_of_two() && (low..=high).contains(&bytes);
        u8::try_from(bytes.trailing_zeros()).ok().filter(|_| fits).ok_or(FreshError::Size(what))
    };
    let sector_shift = shift(wish.sector_bytes, 512, 4096, "the sector size")?;
    let cluster_shift = shift(wish.cluster_bytes, wish.sector_bytes, 2 << 20, "the cluster size")?;
    let record_shift = shift(wish.record_bytes, wish.sector_bytes.max(1024), 4096, "the record size")?;
    let sectors = wish.bytes.per(wish.sector_bytes.wide()).minus(1);
    let cluster = wish.cluster_bytes.wide();
    let all = sectors.times(wish.sector_bytes.wide()).per(cluster);
    let mut geometry =
        Geometry { sector_shift, cluster_shift, sectors, mft: 0, mirror: 0, record_shift, index_shift: 12 };
    let need = |bytes: u64| geometry.clusters_for(bytes).max(1);
    let record = wish.record_bytes.wide();
    let mirrored = geometry.mirrored();
    let mirror = Run::new(all.per(2), need(mirrored.times(record)));
    let boot = need(BOOT_BYTES);
    // $MFT begins at 16 KiB or behind $Boot, as it usually does on small volumes.
    let mut free = Allocator { next: boot.max(need(16 << 10)), taken: mirror };
    let mut lay = |bytes: u64| (free.take(need(bytes)), bytes);
    let records = wish.records.wide().max(RECORDS);
    let mft = lay(records.times(record));
    let mft_bitmap = lay(records.per_up(64).times(8));
    let attrdef = lay(super::attrdef::TABLE.len().wide());
    let bitmap = lay(all.per_up(64).times(8));
    let descriptors = lay(SDS_STEP.plus(descriptors().len()).wide());
    let upcase = lay(TABLE.wide());
    let log = lay(log_bytes(wish.bytes));
    let root = free.next.plus(need(geometry.index().wide()));
    if root > all || mirror.end() > all {
        return Err(FreshError::TooSmall(wish.bytes));
    }
    geometry.mft = mft.0.first().map_or(0, |run| run.first.unwrap_or(0));
    geometry.mirror = mirror.first.unwrap_or(0);
    Ok(Facts {
        geometry,
        mft,
        mft_bitmap,
        mirror: (vec![mirror], mirrored.times(record)),
        log,
        attrdef,
        bitmap,
        boot: (vec![Run::new(0, boot)], BOOT_BYTES),
        descriptors,
        upcase,
        label: wish.label.chars().take(32).collect(),
        version: (3, 1),
        time: wish.time,
    })
}

/// Bytes of the log: a hundredth of the volume, within the bounds that hosts keep.
fn log_bytes(volume: u64) -> u64 {
    (volume.per(100).per(4096).times(4096)).clamp(256 << 10, 64 << 20)
}

/// The descriptors, as they stand in `$SDS`: a head (hash, id, offset, length) and a descriptor each.
fn descriptors() -> Vec<u8> {
    let mut all = Vec::new();
    for (index, id) in SECURITY.iter().enumerate() {
        let descriptor = descriptor(index == 1);
        let mut entry = vec![0; 20];
        let length = entry.len().plus(descriptor.len());
        put(&mut entry, 0, &hash(&descriptor).to_le_bytes());
        put(&mut entry, 4, &id.to_le_bytes());
        put(&mut entry, 8, &all.len().wide().to_le_bytes());
        put(&mut entry, 16, &length.narrow().to_le_bytes());
        entry.extend(descriptor);
        entry.resize(length.plus(15).per(16).times(16), 0);
        all.extend(entry);
    }
    all
}

/// The hash by which descriptors are found.
pub fn hash(descriptor: &[u8]) -> u32 {
    let words = descriptor.chunks_exact(4).map(|word| word.le32(0));
    words.fold(0_u32, |sum, word| word.wrapping_add(sum.rotate_left(3)))
}

/// A descriptor: administrators own it, and they alone (or everybody) may do everything.
fn descriptor(everybody: bool) -> Vec<u8> {
    descriptor_with(everybody, 0, false)
}

/// The same with so many bytes of room in its list; owner and group `shared`: the one name stands for both.
fn descriptor_with(everybody: bool, room: usize, shared: bool) -> Vec<u8> {
    // S-1-5-32-544 and S-1-1-0.
    let administrators: [u8; 16] = [1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0];
    let world: [u8; 12] = [1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0];
    let who: &[u8] = if everybody { &world } else { &administrators };
    let ace = who.len().plus(8);
    let list = ace.plus(8).plus(room);
    let mut bytes = vec![0; 20];
    put(&mut bytes, 0, &[1, 0, 0x04, 0x80]);
    put(&mut bytes, 16, &20_u32.to_le_bytes());
    let mut acl = vec![2, 0];
    acl.extend(u16::try_from(list).unwrap_or(0).to_le_bytes());
    acl.extend([1, 0, 0, 0, 0, 3]);
    acl.extend(u16::try_from(ace).unwrap_or(0).to_le_bytes());
    acl.extend(0x001F_01FF_u32.to_le_bytes());
    acl.extend(who);
    acl.resize(list, 0);
    let owner = 20_usize.plus(acl.len());
    let group = if shared { owner } else { owner.plus(administrators.len()) };
    put(&mut bytes, 4, &owner.narrow().to_le_bytes());
    put(&mut bytes, 8, &group.narrow().to_le_bytes());
    bytes.extend(acl);
    bytes.extend(administrators);
    if !shared {
        bytes.extend(administrators);
    }
    bytes
}

/// An entry of this length for `$SDS` that lets administrators alone do everything; `None` where that is too short.
pub(super) fn usual_entry(id: u32, offset: usize, length: usize) -> Option<Vec<u8>> {
    let room = |shared: bool| {
        let least = descriptor_with(false, 0, shared).len().plus(20);
        length.checked_sub(least).filter(|room| room.rest(4) == 0 && *room < 0xFF00)
    };
    let descriptor = match (room(false), room(true)) {
        (Some(room), _) => descriptor_with(false, room, false),
        (None, Some(room)) => descriptor_with(false, room, true),
        (None, None) => return None,
    };
    let mut entry = hash(&descriptor).to_le_bytes().to_vec();
    entry.extend(id.to_le_bytes());
    entry.extend(offset.wide().to_le_bytes());
    entry.extend(length.narrow().to_le_bytes());
    entry.extend(descriptor);
    Some(entry)
}

/// What stands in `$SDS` of a fresh volume: the descriptors, and their copies.
pub(super) fn descriptor_stream() -> Vec<u8> {
    let mut stream = descriptors();
    let copy = stream.clone();
    stream.resize(SDS_STEP, 0);
    stream.extend(copy);
    stream
}

/// The heads of the descriptors that a fresh volume has.
fn descriptor_heads() -> Vec<Vec<u8>> {
    let all = descriptors();
    let mut heads = Vec::new();
    let mut at = 0;
    while at < all.len() {
        heads.push(all.part(at, 20).to_vec());
        at = at.plus(all.le32(at.plus(16)).size().plus(15).per(16).times(16));
    }
    heads
}

/// The two indexes of descriptors with these heads, by hash and by id: entries in order.
pub(super) fn descriptor_entries(mut heads: Vec<Vec<u8>>) -> (Vec<Vec<u8>>, Vec<Vec<u8>>) {
    heads.sort_by_key(|head| head.le32(4));
    let by_id = heads.iter().map(|head| view_entry(head.part(4, 4), head)).collect();
    heads.sort_by_key(|head| (head.le32(0), head.le32(4)));
    let by_hash = heads.iter().map(|head| {
        let value = [head.as_slice(), &units("I"), &[0, 0]].concat();
        let mut entry = view_entry(head.part(0, 8), &value);
        // The filler behind the value does not count as value.
        put(&mut entry, 2, &20_u16.to_le_bytes());
        entry
    });
    (by_hash.collect(), by_id)
}

/// The order of an index by hash of descriptors.
/// A record that is kept for later versions: in use, without a name.
pub(super) fn reserved(number: u32, times: Times) -> Record {
    let record = Record::new(number, u16::try_from(number).unwrap_or(1), 0);
    record.with(resident(kind::STANDARD, "", &standard(times, OWN, 0x100))).with(resident(
        kind::DATA,
        "",
        &[],
    ))
}

pub(super) const BY_HASH: Order = Order { of: 0, rule: 0x12 };
/// By number.
pub(super) const BY_NUMBER: Order = Order { of: 0, rule: 0x10 };
/// By the security id of an owner.
pub const BY_OWNER: Order = Order { of: 0, rule: 0x11 };
/// By several numbers.
pub const BY_NUMBERS: Order = Order { of: 0, rule: 0x13 };

/// The volume's own structures; everything else is zero. Log and bitmap are among the pieces.
///
/// # Errors
/// When a size is none that NTFS has, or the volume is too small.
pub fn lay_down(wish: &Wish) -> Result<(Facts, Pieces), FreshError> {
    lay_down_behind(0, wish)
}

/// The same with so many sectors in front of the volume (published boot sector, byte 28).
///
/// # Errors
/// As [`lay_down`].
#[expect(clippy::too_many_lines, reason = "one file after the other")]
pub fn lay_down_behind(before: u64, wish: &Wish) -> Result<(Facts, Pieces), FreshError> {
    let facts = facts(wish)?;
    let geometry = facts.geometry;
    let size = geometry.record();
    let cluster = geometry.cluster();
    let times = Times::all(wish.time);
    let last = facts.log.0.first().map_or(0, Run::end);
    let root_runs = vec![Run::new(last, geometry.clusters_for(geometry.index().wide()).max(1))];

    let mut records: Vec<Record> = Vec::new();
    let plain = |number| facts.record(number).into_iter();
    records.extend((own::MFT..=own::ATTRDEF).flat_map(plain));
    records.extend((own::BITMAP..=own::BADCLUS).flat_map(plain));
    records.extend(plain(own::UPCASE));
    let room = facts.room(usize::MAX);
    let (by_hash, by_id) = descriptor_entries(descriptor_heads());
    records.push(
        facts
            .named(own::SECURE, (0, 0), RECORD_VIEW)
            .with(outside(
                kind::DATA,
                "$SDS",
                Outside::plain(&facts.descriptors.0, facts.descriptors.1, cluster),
            ))
            .with(resident(kind::INDEX_ROOT, "$SDH", &index(by_hash, BY_HASH, room).root))
            .with(resident(kind::INDEX_ROOT, "$SII", &index(by_id, BY_NUMBER, room).root)),
    );
    // What stands in $Extend.
    let mut extended = Vec::new();
    for (number, name) in EXTENDED {
        let key = FileName {
            parent: reference(own::EXTEND, 11),
            times,
            sizes: (0, 0),
            attributes: OWN | 0x2000_0000,
            space: NAME_BOTH,
            name,
        }
        .bytes();
        let record = Record::new(number, 1, RECORD_VIEW | 4)
            .with(resident(kind::STANDARD, "", &standard(times, OWN | 0x20, 0x101)))
            .with(resident(kind::NAME, "", &key));
        let view = |name, order| resident(kind::INDEX_ROOT, name, &empty_root(order, room));
        records.push(match name {
            "$Quota" => record.with(view("$O", BY_OWNER)).with(view("$Q", BY_NUMBER)),
            "$ObjId" => record.with(view("$O", BY_NUMBERS)),
            _ => record.with(view("$R", BY_NUMBERS)),
        });
        extended.push((reference(number, 1), key));
    }
    let folder = by_name(extended, Capitals::usual());
    records.push(facts.named(own::EXTEND, (0, 0), RECORD_FOLDER).with(resident(
        kind::INDEX_ROOT,
        "$I30",
        &index(folder, BY_NAME, room).root,
    )));
    // The root folder, with all of them.
    let mut entries: Vec<(u64, Vec<u8>)> = Vec::new();
    for record in records.iter().filter(|record| record.number < own::FIRST_FREE) {
        let name = record.attributes.iter().find(|attribute| attribute.le32(0) == kind::NAME);
        let key = name.map(|bytes| bytes.part(usize::from(bytes.le16(20)), bytes.le32(16).size()).to_vec());
        entries.extend(key.map(|key| (reference(record.number, record.sequence), key)));
    }
    let root = facts.named(own::ROOT, (0, 0), RECORD_FOLDER);
    let own_key = root.attributes.last().map(|bytes| bytes.part(24, bytes.le32(16).size()).to_vec());
    entries.extend(own_key.map(|key| (reference(own::ROOT, 5), key)));
    let Index { root: node, blocks } = index(by_name(entries, Capitals::usual()), BY_NAME, facts.room(40));
    let bytes = geometry.index().times(blocks.len()).wide();
    records.push(
        root.with(resident(kind::INDEX_ROOT, "$I30", &node))
            .with(outside(kind::INDEX_ALLOCATION, "$I30", Outside::plain(&root_runs, bytes, cluster)))
            .with(resident(kind::BITMAP, "$I30", &1_u64.to_le_bytes())),
    );

    let mut pieces = Pieces::new();
    let mut add = |place: u64, bytes: Vec<u8>| pieces.push((Extent::new(place, bytes.len().wide()), bytes));
    let at = |runs: &(Vec<Run>, u64)| geometry.place(runs.0.first().map_or(0, |run| run.first.unwrap_or(0)));
    let boot = boot_sector(&geometry, wish.serial, before.narrow()).as_bytes().to_vec();
    add(0, boot.clone());
    add(geometry.counted(), boot);
    let mut used = vec![0_u8; RECORDS.per(8).size()];
    let mut all: Vec<u8> = Vec::new();
    for number in 0..RECORDS.narrow() {
        let made = records.iter().find(|record| record.number == number).cloned();
        let made = made.or_else(|| own::RESERVED.contains(&number).then(|| reserved(number, times)));
        if made.is_some() {
            set_bit(&mut used, number.wide());
        }
        let sequence = u16::try_from(number).unwrap_or(1).clamp(1, 23);
        let sequence = if number < own::FIRST_USER { sequence } else { 1 };
        let bytes = made.and_then(|record| record.bytes(size));
        all.extend(bytes.unwrap_or_else(|| unused(number, sequence, size)));
    }
    let copies = all.part(0, size.times(geometry.mirrored().size())).to_vec();
    add(at(&facts.mirror), copies);
    add(at(&facts.mft), all);
    add(at(&facts.mft_bitmap), used);
    add(at(&facts.log), vec![0xFF; facts.log.1.size()]);
    add(at(&facts.attrdef), super::attrdef::TABLE.clone());
    add(at(&facts.upcase), Capitals::usual().bytes());
    add(at(&facts.descriptors), descriptor_stream());
    add(geometry.place(last), blocks.concat());
    let owners = [
        &facts.mft.0,
        &facts.mft_bitmap.0,
        &facts.mirror.0,
        &facts.log.0,
        &facts.attrdef.0,
        &facts.bitmap.0,
        &facts.boot.0,
        &facts.descriptors.0,
        &facts.upcase.0,
        &root_runs,
    ];
    let mut bitmap = vec![0_u8; facts.bitmap.1.size()];
    for run in owners.iter().flat_map(|runs| runs.iter()) {
        (run.first.unwrap_or(0)..run.end()).for_each(|cluster| set_bit(&mut bitmap, cluster));
    }
    // Behind the last cluster there is none to be had.
    (geometry.clusters()..facts.bitmap.1.times(8)).for_each(|cluster| set_bit(&mut bitmap, cluster));
    add(at(&facts.bitmap), bitmap);
    Ok((facts, pieces))
}

/// Sets a bit of a bitmap.
pub fn set_bit(bitmap: &mut [u8], number: u64) {
    if let Some(byte) = bitmap.get_mut(number.per(8).size()) {
        *byte |= 1_u8.checked_shl(number.rest(8).narrow()).unwrap_or(0);
    }
}

/// Folder entries of these files, in order: references with their `$FILE_NAME`.
pub fn by_name(mut files: Vec<(u64, Vec<u8>)>, capitals: &Capitals) -> Vec<Vec<u8>> {
    files.sort_by(|(_, one), (_, other)| capitals.order(of_key(one), of_key(other)));
    files.into_iter().map(|(reference, key)| folder_entry(reference, &key)).collect()
}
