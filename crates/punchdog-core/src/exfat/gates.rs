//! What each host demands of an exFAT volume before it mounts, in its order.
//!
//! Linux: the driver's own checks, held against the driver. Windows: the published demands only.

use super::{
    boot::Boot,
    catalogue as c,
    geometry::Geometry,
    layout::{
        BITMAP, BootSector, ENTRY, FLAG_DIRTY, FLAG_FAILURE, Owner, UPCASE, boot_checksum, table_checksum,
    },
};
use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium, Unknown},
    report::{
        finding::Entry,
        forecast::{Basis, HostForecast},
    },
};

const READ_BOOT: &str = "failed to read boot sector";
const READ_ONLY: &str = "Filesystem has been set read-only";

struct Gate<'a> {
    medium: &'a dyn Medium,
    boot: BootSector,
    geometry: Geometry,
    log: Vec<String>,
    /// Lines that only a mount for writing has, by the place in `log` before which they stand.
    write_only: Vec<usize>,
    /// An error line was written: a mount for writing becomes one for reading.
    read_only: bool,
    gone: bool,
    /// What the device gives an error for.
    unread: Vec<Extent>,
}

type Verdict = Result<(), (&'static Entry, String)>;

impl Gate<'_> {
    /// The first sector of these bytes that cannot be read, counted from the start of the volume. The driver reads single
    /// sectors.
    fn fails(&self, at: u64, length: u64) -> Option<u64> {
        let sector = self.geometry.sector_bytes().max(512);
        let from = at.per(sector).times(sector);
        let range = Extent::new(from, at.plus(length).per_up(sector).times(sector).minus(from));
        let first = self.unread.iter().map(|place| place.common(range)).find(|part| part.length > 0)?;
        Some(first.offset.per(sector))
    }
    fn say(&mut self, line: impl Into<String>) {
        self.log.push(format!("exFAT-fs (DEV): {}", line.into()));
    }
    /// An error line: by default it turns a volume that is mounted for writing read-only, once.
    fn error(&mut self, line: impl Into<String>) {
        self.say(format!("error, {}", line.into()));
        if !self.read_only {
            self.write_only.push(self.log.len());
            self.read_only = true;
        }
    }
    fn refuse(&mut self, line: &str, entry: &'static Entry, reason: impl Into<String>) -> Verdict {
        self.say(line);
        let entry = if self.gone { &c::BOOT_GONE } else { entry };
        Err((entry, reason.into()))
    }
    fn boot_refused(
        &mut self,
        line: Option<String>,
        entry: &'static Entry,
        reason: impl Into<String>,
    ) -> Verdict {
        if let Some(line) = line {
            self.say(line);
        }
        self.refuse(READ_BOOT, entry, reason)
    }
}

/// What Linux 6.12 does. `sector` is the size of the device's logical sectors.
pub(super) fn linux(medium: &dyn Medium, sector: u32, gone: bool) -> HostForecast {
    let Some(boot) = BootSector::read(&medium.lenient(0, 512).bytes).filter(|_| medium.len() >= 512) else {
        return HostForecast::refuses("linux", Basis::Driver, c::BOOT_GONE.code, "sector 0 cannot be read");
    };
    let geometry = Geometry::claimed_by(&boot);
    let unread = medium.unknown(Unknown::Unreadable);
    let mut gate = Gate {
        medium,
        boot,
        geometry,
        log: Vec::new(),
        write_only: Vec::new(),
        read_only: false,
        gone,
        unread,
    };
    let verdict = boot_sector(&mut gate, sector)
        .and_then(|()| region(&mut gate))
        .and_then(|()| root_chain(&mut gate))
        .and_then(|()| upcase(&mut gate))
        .and_then(|()| bitmap(&mut gate));
    let mut forecast = match verdict {
        Ok(()) => HostForecast::mounts("linux", Basis::Driver),
        Err((entry, reason)) => {
            gate.say("failed to recognize exfat type");
            HostForecast::refuses("linux", Basis::Driver, entry.code, reason)
        }
    };
    if forecast.mounts_read_only && gate.read_only {
        forecast.mounts_read_write = false;
        forecast.refused_by = Some(c::UPCASE_MISSING.code);
        "it mounts for reading only, whatever was asked: the up-case table was not found"
            .clone_into(&mut forecast.reason);
    }
    let mut write = Vec::new();
    for (index, line) in gate.log.iter().enumerate() {
        if gate.write_only.contains(&index) {
            write.push(format!("exFAT-fs (DEV): {READ_ONLY}"));
        }
        write.push(line.clone());
    }
    if gate.write_only.contains(&gate.log.len()) {
        write.push(format!("exFAT-fs (DEV): {READ_ONLY}"));
    }
    forecast.log_read_write = write;
    forecast.log = gate.log;
    forecast
}

fn boot_sector(gate: &mut Gate<'_>, device: u32) -> Verdict {
    if gate.unread.iter().any(|place| place.overlaps(Extent::new(0, device.into()))) {
        let line = Some("unable to read boot sector".to_owned());
        return gate.boot_refused(line, &c::BOOT_GONE, "the main boot region cannot be read");
    }
    let boot = gate.boot;
    let g = gate.geometry;
    if boot.signature.get() != 0xAA55 {
        return gate.boot_refused(
            Some("invalid boot record signature".into()),
            &c::BOOT_SIGNATURE,
            "no 55 AA at byte 510 of the boot sector",
        );
    }
    if !boot.named() {
        return gate.boot_refused(
            Some("invalid fs_name".into()),
            &c::BOOT_NAME,
            "the boot sector does not name exFAT at byte 3",
        );
    }
    if boot.must_be_zero != [0; 53] {
        return gate.boot_refused(None, &c::MUST_BE_ZERO, "bytes 11 to 63 of the boot sector are not zero");
    }
    if !(1..=2).contains(&boot.tables) {
        return gate.boot_refused(
            Some("bogus number of FAT structure".into()),
            &c::FAT_COUNT,
            format!("the number of tables is {} (byte 110)", boot.tables),
        );
    }
    if !(9..=12).contains(&boot.sector_shift) {
        return gate.boot_refused(
            Some(format!("bogus sector size bits : {}", boot.sector_shift)),
            &c::SECTOR_SHIFT,
            format!("the sector size is 2 to the power of {} (byte 108)", boot.sector_shift),
        );
    }
    if boot.cluster_shift > 25_u8.saturating_sub(boot.sector_shift) {
        return gate.boot_refused(
            Some(format!("bogus sectors bits per cluster : {}", boot.cluster_shift)),
            &c::CLUSTER_SHIFT,
            format!("the cluster size is 2 to the power of {} sectors (byte 109)", boot.cluster_shift),
        );
    }
    // The driver adds the two in 32 bits, which wrap.
    if g.table_bytes() < g.clusters.wrapping_add(2).wide().times(4) {
        let entry = if g.clusters > 1 << 31 { &c::CLUSTER_COUNT } else { &c::FAT_LENGTH };
        return gate.boot_refused(
            Some("bogus fat length".into()),
            entry,
            "the table is too short for the clusters",
        );
    }
    if g.heap_offset.wide() < g.table_offset.wide().plus(g.tables.wide().times(g.table_sectors.wide())) {
        return gate.boot_refused(
            Some("bogus data start sector".into()),
            &c::HEAP_OFFSET,
            "the clusters begin before the table ends",
        );
    }
    let flags = boot.flags.get();
    if flags & FLAG_DIRTY != 0 {
        gate.say("Volume was not properly unmounted. Some data may be corrupt");
    }
    if flags & FLAG_FAILURE != 0 {
        gate.say("Medium has reported failures. Some data may be lost.");
    }
    if g.sector_bytes() < device.wide() {
        return gate.boot_refused(
            Some(format!(
                "logical sector size too small for device (logical sector size = {})",
                g.sector_bytes()
            )),
            &c::SECTOR_SHIFT,
            "the volume's sectors are smaller than the device's",
        );
    }
    Ok(())
}

fn region(gate: &mut Gate<'_>) -> Verdict {
    let size = gate.geometry.sector_bytes();
    if size.times(12) > gate.medium.len() {
        return gate.refuse(
            "invalid boot region",
            &c::BEYOND_IMAGE,
            "the boot region lies behind the end of the image",
        );
    }
    let bytes = gate.medium.lenient(0, size.times(12).size()).bytes;
    for number in 1..=11_u64 {
        if gate.fails(number.times(size), size).is_some() {
            return gate.refuse("invalid boot region", &c::CHECKSUM, "the main boot region cannot be read");
        }
        let value = bytes.le32(number.plus(1).times(size).minus(4).size());
        if number > 8 {
            continue;
        }
        if value != super::layout::EXTENDED_SIGNATURE {
            gate.say(format!("Invalid exboot-signature(sector = {number}): {value:#010x}"));
        }
    }
    let sum = boot_checksum(&bytes, size.size());
    let stored = bytes
        .part(size.times(11).size(), size.size())
        .chunks_exact(4)
        .map(|value| value.le32(0))
        .find(|value| *value != sum);
    if let Some(stored) = stored {
        gate.say(format!("Invalid boot checksum (boot checksum : {stored:#010x}, checksum : {sum:#010x})"));
        return gate.refuse(
            "invalid boot region",
            &c::CHECKSUM,
            format!("the boot checksum is {sum:#010x}, sector 11 holds {stored:#010x}"),
        );
    }
    Ok(())
}

/// One entry of the first table, as the driver reads it: `Ok(None)` at the end of a chain.
fn follow(gate: &mut Gate<'_>, cluster: u32) -> Result<Option<u32>, &'static Entry> {
    let g = gate.geometry;
    if !g.has(cluster) {
        gate.error(format!("invalid access to FAT (entry {cluster:#010x})"));
        return Err(&c::ROOT_CLUSTER);
    }
    let entry = gate.medium.lenient(g.table_place(0).plus(cluster.wide().times(4)), 4);
    if !entry.missing.is_empty() {
        gate.error(format!("failed to access to FAT (entry {cluster:#010x}, err:-5)"));
        return Err(&c::INTO_RANGE);
    }
    match entry.bytes.le32(0) {
        0 => {
            gate.error(format!("invalid access to FAT free cluster (entry {cluster:#010x})"));
            Err(&c::INTO_FREE)
        }
        0xFFFF_FFF7 => {
            gate.error(format!("invalid access to FAT bad cluster (entry {cluster:#010x})"));
            Err(&c::INTO_BAD)
        }
        0xFFFF_FFF8.. => Ok(None),
        next if !g.has(next) => {
            gate.error(format!("invalid access to FAT (entry {cluster:#010x}) bogus content ({next:#010x})"));
            Err(&c::INTO_RANGE)
        }
        next => Ok(Some(next)),
    }
}

const COUNT_ROOT: &str = "failed to count the number of clusters in root";

fn root_chain(gate: &mut Gate<'_>) -> Verdict {
    let mut at = gate.geometry.root_cluster;
    if at == 0 || at == u32::MAX {
        return Ok(());
    }
    // The driver counts up to all the clusters that the boot sector claims, which may be four
    // billion. A chain that meets a cluster again gets there for certain: ours waits at every
    // cluster whose number in the chain is a power of two.
    let mut met = at;
    for step in 1..=gate.geometry.clusters {
        match follow(gate, at) {
            Ok(None) => return Ok(()),
            Ok(Some(next)) if next == met => break,
            Ok(Some(next)) => at = next,
            Err(entry) => return gate.refuse(COUNT_ROOT, entry, "the root folder's chain is broken"),
        }
        if step.is_power_of_two() {
            met = at;
        }
    }
    gate.error("The cluster chain has a loop");
    let entry = if gate.geometry.clusters == 0 { &c::CLUSTER_COUNT } else { &c::LOOP };
    gate.refuse(COUNT_ROOT, entry, "the root folder's chain has more clusters than the volume")
}

/// Bytes of the root that are looked at: a folder holds 256 MiB at most (section 7.2).
const ROOT: u64 = 256 << 20;

/// What the driver finds in the root.
enum Found {
    Entry(Owner),
    Nothing,
    /// The root, or a part of it before that, cannot be read.
    Unread(&'static str),
}

/// The first entry of the root that suits, in the driver's order: in each cluster up to its first empty entry, or up to
/// the first empty entry of all. No sector behind it is read.
fn root_entry(gate: &Gate<'_>, suits: impl Fn(&[u8]) -> bool, stop_for_good: bool) -> Found {
    let g = gate.geometry;
    let mut at = g.root_cluster;
    for _ in 0..g.clusters.min(ROOT.per(g.cluster_bytes()).narrow().max(1)) {
        if !g.has(at) {
            return if at == 0 { Found::Unread("the root folder cannot be read") } else { Found::Nothing };
        }
        let place = g.cluster_place(at);
        if place.plus(g.cluster_bytes().min(512)) > gate.medium.len() {
            return Found::Unread("the root folder lies behind the end of the image");
        }
        let bytes = gate.medium.lenient(place, g.cluster_bytes().size()).bytes;
        let mut ended = false;
        for (number, raw) in bytes.chunks_exact(ENTRY).enumerate() {
            if gate.fails(place.plus(number.times(ENTRY).wide()), ENTRY.wide()).is_some() {
                return Found::Unread("the root folder cannot be read");
            }
            if raw.byte(0) == 0 {
                ended = true;
                break;
            }
            if suits(raw) {
                return Found::Entry(Owner::read(raw));
            }
        }
        if ended && stop_for_good {
            return Found::Nothing;
        }
        let next = gate.medium.lenient(g.table_place(0).plus(at.wide().times(4)), 4).bytes.le32(0);
        if !g.has(next) || next >= 0xFFFF_FFF7 {
            return Found::Nothing;
        }
        at = next;
    }
    Found::Nothing
}

fn upcase(gate: &mut Gate<'_>) -> Verdict {
    const LOAD: &str = "failed to load upcase table";
    let g = gate.geometry;
    let owner = match root_entry(gate, |raw| raw.byte(0) == UPCASE, false) {
        Found::Entry(owner) => owner,
        Found::Unread(reason) => return gate.refuse(LOAD, &c::ROOT_CLUSTER, reason),
        Found::Nothing => {
            gate.error("no upcase table entry");
            return Ok(());
        }
    };
    if owner.length == 0 {
        gate.error(format!("bad upcase table size ({} bytes)", owner.length));
        return Ok(());
    }
    let place =
        g.heap_place().wrapping_add(u64::from(owner.first).wrapping_sub(2).wrapping_mul(g.cluster_bytes()));
    // There is no upper bound: a length that says too much is read to the end of the device.
    let length = owner.length.per_up(g.sector_bytes()).times(g.sector_bytes());
    if owner.first < 2 || place.plus(length) > gate.medium.len() {
        let outside = owner.first < 2 || place > gate.medium.len();
        let sector = if outside { place } else { gate.medium.len() }.per(g.sector_bytes());
        gate.say(format!("failed to read sector({sector:#x})"));
        let reason = if outside {
            "the up-case table lies outside the volume"
        } else {
            "the up-case table reaches past the end of the image, by what its entry says"
        };
        return gate.refuse(LOAD, &c::UPCASE_ENTRY, reason);
    }
    if let Some(sector) = gate.fails(place, length) {
        gate.say(format!("failed to read sector({sector:#x})"));
        return gate.refuse(LOAD, &c::UPCASE_ENTRY, "the up-case table cannot be read");
    }
    let (index, sum) = read_table(gate.medium, place, length);
    if index < 0xFFFF || sum != owner.checksum {
        gate.say(format!(
            "{LOAD} (idx : {index:#010x}, chksum : {sum:#010x}, utbl_chksum : {:#010x})",
            owner.checksum
        ));
    }
    Ok(())
}

/// How many characters the driver counts in a table, and the sum of the bytes up to there. It reads
/// whole sectors, past the table's length; nothing behind the last character counts.
fn read_table(medium: &dyn Medium, place: u64, length: u64) -> (u32, u32) {
    /// A table without skips is 128 KiB long: one piece is as good as always all.
    const PIECE: u64 = 128 << 10;
    let (mut index, mut sum) = (0_u32, 0_u32);
    let mut skip = false;
    let mut done = 0_u64;
    while done < length && index <= 0xFFFF {
        let piece = length.minus(done).min(PIECE);
        let bytes = medium.lenient(place.plus(done), piece.size()).bytes;
        (index, sum, skip) = read_piece(&bytes, (index, sum, skip));
        done = done.plus(piece);
    }
    (index, sum)
}

fn read_piece(bytes: &[u8], (mut index, mut sum, mut skip): (u32, u32, bool)) -> (u32, u32, bool) {
    for pair in bytes.chunks_exact(2) {
        if index > 0xFFFF {
            break;
        }
        for byte in pair {
            sum = sum.rotate_right(1).wrapping_add(u32::from(*byte));
        }
        let unit = u32::from(pair.le16(0));
        if skip {
            index = index.plus(unit);
            skip = false;
        } else if unit == 0xFFFF && unit != index {
            skip = true;
        } else {
            index = index.plus(1);
        }
    }
    (index, sum, skip)
}

fn bitmap(gate: &mut Gate<'_>) -> Verdict {
    const LOAD: &str = "failed to load alloc-bitmap";
    let g = gate.geometry;
    let owner = match root_entry(gate, |raw| raw.byte(0) == BITMAP && raw.byte(1) == 0, true) {
        Found::Entry(owner) => owner,
        Found::Unread(reason) => return gate.refuse(LOAD, &c::BITMAP_MISSING, reason),
        Found::Nothing => {
            return gate.refuse(LOAD, &c::BITMAP_MISSING, "the root folder has no bitmap entry");
        }
    };
    let needed = g.bitmap_bytes();
    if owner.length != needed {
        gate.say(format!("bogus allocation bitmap size(need : {needed}, cur : {})", owner.length));
        if owner.length < needed {
            let entry = if g.heap_end() > gate.medium.len() { &c::CLUSTER_COUNT } else { &c::BITMAP_ENTRY };
            return gate.refuse(LOAD, entry, "the bitmap is too short for the clusters");
        }
    }
    let end = g.cluster_place(owner.first).plus(needed);
    if !g.has(owner.first) || end > gate.medium.len() {
        return gate.refuse(LOAD, &c::BITMAP_ENTRY, "the bitmap lies outside the volume");
    }
    if gate.fails(g.cluster_place(owner.first), needed).is_some() {
        return gate.refuse(LOAD, &c::BITMAP_ENTRY, "the bitmap cannot be read");
    }
    // Of the bitmap, only the bits of its own clusters are asked for, of which the kernel counts the lower 32 bits
    // (Linux 6.12, `fs/exfat/balloc.c`, `exfat_test_bitmap_range`).
    let counted = g.clusters_for(owner.length) & u64::from(u32::MAX);
    let own = counted.min(g.clusters.wide()).narrow();
    let from = owner.first.minus(2).per(8).wide();
    let length = own.per(8).plus(2).wide().min(needed.minus(from));
    let bytes = gate.medium.lenient(g.cluster_place(owner.first).plus(from), length.size()).bytes;
    let free = (owner.first..owner.first.plus(own)).find(|cluster| {
        let bit = cluster.minus(2);
        bytes.byte(bit.per(8).minus(from.narrow()).size()) >> bit.rest(8) & 1 == 0
    });
    if free.is_some() {
        return gate.refuse(LOAD, &c::BITMAP_ENTRY, "the bitmap does not have its own clusters in use");
    }
    Ok(())
}

/// What the published demands say of Windows.
pub(super) fn windows(medium: &dyn Medium, boot: &Boot) -> HostForecast {
    let refuses = |entry: &'static Entry, reason: String| {
        let mut forecast = HostForecast::refuses("windows", Basis::Documented, entry.code, reason);
        "an unformatted (RAW) volume, and an offer to format it: decline".clone_into(&mut forecast.seen);
        forecast
    };
    if boot.gone {
        return refuses(&c::BOOT_GONE, "sector 0 does not name exFAT".to_owned());
    }
    let blocking = boot.fields.iter().find(|field| {
        field.wrong()
            && field.entry.is_some_and(|entry| entry.weight == crate::report::finding::Weight::BlocksMount)
    });
    if let Some((field, entry)) = blocking.and_then(|field| field.entry.map(|entry| (field, entry))) {
        return refuses(entry, format!("{} (documented demand)", field.field));
    }
    if let Some((_, value)) = boot.main.wrong {
        return refuses(
            &c::CHECKSUM,
            format!("the boot checksum is {:#010x}, not {value:#010x} (documented demand)", boot.main.sum),
        );
    }
    if let Some(number) = boot.main.unsigned.first() {
        return refuses(
            &c::EXTENDED,
            format!("sector {number} does not end with 00 00 55 AA (documented demand)"),
        );
    }
    let sector = BootSector::read(&boot.main.bytes);
    let geometry = sector.map(|sector| Geometry::claimed_by(&sector));
    let root = geometry.filter(Geometry::possible).map(|g| {
        let bytes =
            medium.lenient(g.cluster_place(g.root_cluster), g.cluster_bytes().min(1 << 16).size()).bytes;
        (g, bytes)
    });
    let Some((g, bytes)) = root else {
        return refuses(&c::BOOT_GONE, "the fields contradict one another".to_owned());
    };
    let entries = || bytes.chunks_exact(ENTRY).take_while(|raw| raw.byte(0) != 0);
    let bitmap = entries().find(|raw| raw.byte(0) == BITMAP).map(Owner::read);
    match bitmap {
        None => {
            return refuses(
                &c::BITMAP_MISSING,
                "the root folder has no bitmap entry (documented demand)".to_owned(),
            );
        }
        Some(owner) if owner.length != g.bitmap_bytes() || !g.has(owner.first) => {
            return refuses(
                &c::BITMAP_ENTRY,
                "the bitmap's place or length is wrong (documented demand)".to_owned(),
            );
        }
        Some(_) => {}
    }
    match entries().find(|raw| raw.byte(0) == UPCASE).map(Owner::read) {
        None => {
            refuses(&c::UPCASE_MISSING, "the root folder has no up-case entry (documented demand)".to_owned())
        }
        Some(owner) if !g.has(owner.first) || owner.length > 131_072 => refuses(
            &c::UPCASE_ENTRY,
            "the up-case table's place or length is wrong (documented demand)".to_owned(),
        ),
        Some(owner) => {
            let sum =
                table_checksum(&medium.lenient(g.cluster_place(owner.first), owner.length.size()).bytes);
            if sum == owner.checksum {
                HostForecast::mounts("windows", Basis::Documented)
            } else {
                refuses(
                    &c::UPCASE_CHECKSUM,
                    format!(
                        "the up-case table has the checksum {sum:#010x}, not {:#010x} (documented demand)",
                        owner.checksum
                    ),
                )
            }
        }
    }
}
