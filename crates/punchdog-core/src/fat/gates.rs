//! What each host demands of a FAT volume before it mounts, in its order.
//!
//! `linux` follows the vfat driver of Linux 6.12: it reads sector 0, judges the BPB, looks at the
//! FSInfo sector, decides the kind by the cluster count, and on FAT32 walks the root folder's
//! chain in copy 0 of the table. It looks neither at 55 AA nor at any second copy.
//! `windows` is the published specification's demands, no more.

use super::{
    boot, catalogue as c,
    geometry::{FIRST_FAT16, Geometry},
    layout::{BootSector, END_ENTRY, ENTRY_BYTES, FSINFO_LEAD, FSINFO_STRUCTURE, FsInfo},
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    report::{
        finding::Entry,
        forecast::{Basis, HostForecast},
    },
};

const PREFIX: &str = "FAT-fs (DEV): ";
/// A file may have 4 GiB less one byte: chains longer than that are loops to the driver.
const MOST_BYTES: u64 = 0xFFFF_FFFF;
/// Blocks of the root folder that are looked at: what an entry can number in 4 MiB of folder.
const ROOT_BLOCKS: usize = 8192;
/// Lines of one kind that the kernel logs in five seconds (Linux, `DEFAULT_RATELIMIT_BURST`).
const LOG_BURST: usize = 10;

struct Refusal {
    entry: &'static Entry,
    reason: String,
    line: String,
    /// Ends in "not a FAT volume" (EINVAL) rather than in an I/O error.
    invalid: bool,
    /// The driver calls it an error of the volume and turns a writable mount read-only.
    error: bool,
}

impl Refusal {
    fn invalid(entry: &'static Entry, reason: impl Into<String>, line: impl Into<String>) -> Self {
        Self { entry, reason: reason.into(), line: line.into(), invalid: true, error: false }
    }
    fn unread(entry: &'static Entry, reason: impl Into<String>, line: impl Into<String>) -> Self {
        Self { invalid: false, ..Self::invalid(entry, reason, line) }
    }
    fn error(entry: &'static Entry, reason: impl Into<String>, line: impl Into<String>) -> Self {
        Self { invalid: false, error: true, ..Self::invalid(entry, reason, line) }
    }
}

/// What the vfat driver of Linux does with the volume on a device with `sector`-byte sectors.
pub(super) fn linux(medium: &dyn Medium, sector: u32, gone: bool) -> HostForecast {
    let mut warnings = Vec::new();
    let with_prefix = |line: &str| format!("{PREFIX}{line}");
    match gates(medium, sector, &mut warnings) {
        Ok(dirty) => {
            let mut forecast = HostForecast::mounts("linux", Basis::Driver);
            forecast.log = warnings.iter().map(|line| with_prefix(line)).collect();
            forecast.log_read_write = forecast.log.clone();
            if dirty {
                let line = "Volume was not properly unmounted. Some data may be corrupt";
                forecast.log_read_write.push(with_prefix(line));
            }
            forecast
        }
        Err(refusal) => {
            let entry = if gone { &c::BOOT_GONE } else { refusal.entry };
            let mut forecast = HostForecast::refuses("linux", Basis::Driver, entry.code, refusal.reason);
            warnings.push(refusal.line);
            forecast.log = warnings.iter().map(|line| with_prefix(line)).collect();
            forecast.log_read_write = forecast.log.clone();
            if refusal.invalid {
                for log in [&mut forecast.log, &mut forecast.log_read_write] {
                    log.push(with_prefix("Can't find a valid FAT filesystem"));
                }
            }
            if refusal.error {
                forecast.log_read_write.push(with_prefix("Filesystem has been set read-only"));
            }
            forecast.seen = if refusal.invalid {
                "mount says: wrong fs type, bad option, bad superblock".to_owned()
            } else {
                "mount says: can't read superblock (Input/output error)".to_owned()
            };
            forecast
        }
    }
}

/// Passes every gate, or says which one stops. Ok(true): mounts, but a writable mount warns.
fn gates(medium: &dyn Medium, device_sector: u32, warnings: &mut Vec<String>) -> Result<bool, Refusal> {
    let device_sector = device_sector.max(512);
    let boot = block(medium, 0, device_sector.wide()).and_then(|bytes| BootSector::read(&bytes));
    let Some(boot) = boot else {
        return Err(Refusal::unread(&c::BOOT_GONE, "sector 0 cannot be read", "unable to read boot sector"));
    };
    bpb(&boot)?;
    let sector = u32::from(boot.bytes_per_sector.get());
    if sector < device_sector {
        let line = format!("logical sector size too small for device (logical sector size = {sector})");
        return Err(Refusal::unread(
            &c::SECTOR_SIZE,
            format!("{sector}-byte sectors on a device with {device_sector}-byte sectors"),
            line,
        ));
    }
    if sector > device_sector && block(medium, 0, sector.wide()).is_none() {
        let line = format!("unable to read boot sector (logical sector size = {sector})");
        return Err(Refusal::unread(&c::SECTOR_SIZE, "sector 0 is longer than the device", line));
    }
    let tail = boot.tail32();
    let small = u32::from(boot.table_sectors_16.get());
    let wide = small == 0;
    let length = if wide { tail.table_sectors.get() } else { small };
    if wide {
        fsinfo(medium, &boot, sector, warnings)?;
    }
    let root_entries = u32::from(boot.root_entries.get());
    if root_entries.rest(sector.per(32)) != 0 {
        let line = format!("bogus number of directory entries ({root_entries})");
        return Err(Refusal::invalid(
            &c::ROOT_ENTRIES,
            format!("{root_entries} root entries fill no whole sector"),
            line,
        ));
    }
    // The driver's own arithmetic: 64 bits that wrap, then cut to 32.
    let reserved = u64::from(boot.reserved_sectors.get());
    let before = reserved
        .plus(u64::from(boot.tables).times(length.wide()))
        .plus(root_entries.wide().times(32).per(sector.wide()));
    let total16 = u64::from(boot.total_sectors_16.get());
    let total = if total16 == 0 { u64::from(boot.total_sectors_32.get()) } else { total16 };
    let clusters = total.wrapping_sub(before).per(u64::from(boot.sectors_per_cluster)) & 0xFFFF_FFFF;
    let bits: u64 = match (wide, clusters >= FIRST_FAT16.wide()) {
        (true, _) => 32,
        (false, true) => 16,
        (false, false) => 12,
    };
    let entries = if bits == 12 {
        length.wide().times(sector.wide()).times(8).per(12)
    } else {
        sector.wide().times(8).per(bits).times(length.wide())
    };
    let clusters = clusters.min(entries.wrapping_sub(2) & 0xFFFF_FFFF);
    let most = match bits {
        32 => 0x0FFF_FFF6,
        16 => 0xFFF4,
        _ => 0xFF4,
    };
    if clusters > most {
        let line = format!("count of clusters too big ({clusters})");
        return Err(Refusal::invalid(
            &c::TABLE_SIZE,
            format!("{clusters} clusters are too many for FAT{bits}"),
            line,
        ));
    }
    let blocks = if wide {
        let each = u64::from(boot.sectors_per_cluster);
        let start = before;
        let chain = root_chain(medium, &boot, sector, clusters.plus(2))?;
        let all = chain.into_iter().flat_map(|cluster| {
            let first = start.plus(cluster.minus(2).wide().times(each));
            (0..each).map(move |block| first.plus(block))
        });
        all.take(ROOT_BLOCKS).collect()
    } else {
        let start = reserved.plus(u64::from(boot.tables).times(length.wide()));
        (0..root_entries.wide().times(32).per(sector.wide()))
            .map(|block| start.plus(block))
            .collect::<Vec<_>>()
    };
    warnings.extend(unread_root(medium, &blocks, sector));
    let flags = if wide { tail.common.flags } else { boot.tail16().flags };
    Ok(flags & 1 != 0)
}

/// A whole block of the device, as the driver reads it; `None` when it reaches past the end.
fn block(medium: &dyn Medium, number: u64, size: u64) -> Option<Vec<u8>> {
    // A device ends at a whole 512-byte sector.
    let end = medium.len().per(512).times(512);
    let from = number.times(size);
    (from.plus(size) <= end).then(|| medium.bytes(from, size.size()).ok()).flatten()
}

fn bpb(boot: &BootSector) -> Result<(), Refusal> {
    if boot.reserved_sectors.get() == 0 {
        return Err(Refusal::invalid(
            &c::RESERVED,
            "reserved sector count is 0 (boot sector, byte 14)",
            "bogus number of reserved sectors",
        ));
    }
    if boot.tables == 0 {
        return Err(Refusal::invalid(
            &c::TABLE_COUNT,
            "number of tables is 0 (boot sector, byte 16)",
            "bogus number of FAT structure",
        ));
    }
    if !boot::media_is_valid(boot.media) {
        let line = format!("invalid media value (0x{:02x})", boot.media);
        return Err(Refusal::invalid(
            &c::MEDIA,
            format!("media byte is {:02X} (boot sector, byte 21)", boot.media),
            line,
        ));
    }
    let sector = boot.bytes_per_sector.get();
    if !sector.is_power_of_two() || !(512..=4096).contains(&sector) {
        let line = format!("bogus logical sector size {sector}");
        return Err(Refusal::invalid(
            &c::SECTOR_SIZE,
            format!("sector size is {sector} (boot sector, byte 11)"),
            line,
        ));
    }
    let cluster = boot.sectors_per_cluster;
    if !cluster.is_power_of_two() {
        let line = format!("bogus sectors per cluster {cluster}");
        return Err(Refusal::invalid(
            &c::CLUSTER_SIZE,
            format!("sectors per cluster is {cluster} (boot sector, byte 13)"),
            line,
        ));
    }
    if boot.table_sectors_16.get() == 0 && boot.tail32().table_sectors.get() == 0 {
        return Err(Refusal::invalid(
            &c::TABLE_SIZE,
            "table size is 0 (boot sector, bytes 22 and 36)",
            "bogus number of FAT sectors",
        ));
    }
    Ok(())
}

fn fsinfo(
    medium: &dyn Medium,
    boot: &BootSector,
    sector: u32,
    warnings: &mut Vec<String>,
) -> Result<(), Refusal> {
    let number = match boot.tail32().fsinfo_sector.get() {
        0 => 1,
        given => u64::from(given),
    };
    let Some(bytes) = block(medium, number, sector.wide()) else {
        let line = format!("bread failed, FSINFO block (sector = {number})");
        return Err(Refusal::unread(
            &c::FSINFO_PLACE,
            format!("FSInfo sector {number} lies beyond the device"),
            line,
        ));
    };
    if let Some(info) = FsInfo::read(&bytes)
        && (info.lead.get() != FSINFO_LEAD || info.structure.get() != FSINFO_STRUCTURE)
    {
        let (lead, structure) = (info.lead.get(), info.structure.get());
        warnings
            .push(format!("Invalid FSINFO signature: 0x{lead:08x}, 0x{structure:08x} (sector = {number})"));
    }
    Ok(())
}

/// What the driver logs while it counts the folders in the root: a line for each block that lies
/// beyond the device, until a block that can be read ends the folder.
fn unread_root(medium: &dyn Medium, blocks: &[u64], sector: u32) -> Vec<String> {
    let mut lines = Vec::new();
    for number in blocks {
        match block(medium, *number, sector.wide()) {
            None => lines.push(format!("Directory bread(block {number}) failed")),
            Some(bytes) if bytes.chunks(ENTRY_BYTES).any(|entry| entry.byte(0) == END_ENTRY) => break,
            Some(_) => {}
        }
        if lines.len() == LOG_BURST {
            break;
        }
    }
    lines
}

/// The root folder's chain as the driver walks it.
fn root_chain(medium: &dyn Medium, boot: &BootSector, sector: u32, end: u64) -> Result<Vec<u32>, Refusal> {
    let root = boot.tail32().root_cluster.get();
    let mut chain = Vec::new();
    if root == 0 {
        return Ok(chain);
    }
    let valid = |cluster: u32| cluster >= 2 && cluster.wide() < end;
    if !valid(root) {
        let line = format!("error, fat_get_cluster: invalid start cluster (i_pos 1, start {root:08x})");
        return Err(Refusal::error(
            &c::ROOT_CLUSTER,
            format!("the root begins at cluster {root}, which the volume does not have"),
            line,
        ));
    }
    let limit = MOST_BYTES.per(sector.wide().times(u64::from(boot.sectors_per_cluster)));
    let (mut at, mut met) = (root, root);
    let mut steps = 0_u64;
    loop {
        // The driver goes on to its limit. A chain that meets a cluster again gets there for certain:
        // ours waits at every cluster whose number in the chain is a power of two.
        if steps > limit || steps > 0 && at == met {
            let line = "error, fat_get_cluster: detected the cluster chain loop (i_pos 1)";
            return Err(Refusal::error(&c::CHAIN_LOOP, "the root folder's chain runs into itself", line));
        }
        if !valid(at) {
            let line = format!("error, invalid access to FAT (entry 0x{at:08x})");
            return Err(Refusal::error(
                differing(medium, boot, sector, at, &c::INTO_RANGE),
                format!("the root folder's chain leads to {at:#x}, which is no cluster"),
                line,
            ));
        }
        let place = at.wide().times(4);
        let number = u64::from(boot.reserved_sectors.get()).plus(place.per(sector.wide()));
        let Some(bytes) = block(medium, number, sector.wide()) else {
            let line = format!("FAT read failed (blocknr {number})");
            return Err(Refusal::unread(&c::BEYOND_IMAGE, "the table cannot be read", line));
        };
        let next = bytes.le32(place.rest(sector.wide()).size()) & 0x0FFF_FFFF;
        if next == 0 {
            let line = "error, fat_get_cluster: invalid cluster chain (i_pos 1)";
            let entry = differing(medium, boot, sector, at, &c::INTO_FREE);
            return Err(Refusal::error(
                entry,
                format!("the root folder's chain runs into a free entry at cluster {at}"),
                line,
            ));
        }
        if chain.len() < ROOT_BLOCKS {
            chain.push(at);
        }
        if next >= 0x0FFF_FFF7 {
            return Ok(chain);
        }
        if steps.is_power_of_two() {
            met = at;
        }
        at = next;
        steps = steps.plus(1);
    }
}

/// Where the second copy of the table says something else about `cluster`, the copies differ.
fn differing(
    medium: &dyn Medium,
    boot: &BootSector,
    sector: u32,
    cluster: u32,
    otherwise: &'static Entry,
) -> &'static Entry {
    let place = cluster.wide().times(4);
    let copy = |number: u64| {
        let start = u64::from(boot.reserved_sectors.get())
            .plus(number.times(boot.tail32().table_sectors.get().wide()));
        medium.lenient(start.times(sector.wide()).plus(place), 4).bytes
    };
    if boot.tables > 1 && copy(0) != copy(1) { &c::COPIES_DIFFER } else { otherwise }
}

/// The published demands: what a host that follows the specification checks.
pub(super) fn windows(medium: &dyn Medium, gone: bool) -> HostForecast {
    let basis = Basis::Documented;
    let refuse = |entry: &'static Entry, reason: String| {
        let code = if gone { c::BOOT_GONE.code } else { entry.code };
        let mut forecast = HostForecast::refuses("windows", basis, code, reason);
        "the user sees an unformatted volume and an offer to format it: decline"
            .clone_into(&mut forecast.seen);
        forecast
    };
    let Some(boot) = BootSector::read(&medium.lenient(0, 512).bytes) else {
        return refuse(&c::BOOT_GONE, "there is no sector 0".to_owned());
    };
    if boot.signature != [0x55, 0xAA] {
        return refuse(&c::BOOT_SIGNATURE, "no signature 55 AA at byte 510 (documented demand)".to_owned());
    }
    if !boot::jump_is_valid(&boot.jump) {
        return refuse(
            &c::BOOT_JUMP,
            "sector 0 begins with no jump EB ?? 90 or E9 (documented demand)".to_owned(),
        );
    }
    if let Err(refusal) = bpb(&boot) {
        return refuse(refusal.entry, format!("{} (documented demand)", refusal.reason));
    }
    let wide = boot.table_sectors_16.get() == 0;
    let root_entries = u32::from(boot.root_entries.get());
    if wide && root_entries != 0
        || !wide
            && (root_entries == 0 || root_entries.times(32).rest(u32::from(boot.bytes_per_sector.get())) != 0)
    {
        return refuse(&c::ROOT_ENTRIES, format!("{root_entries} root entries (documented demand)"));
    }
    if wide && boot.tail32().version.get() != 0 {
        return refuse(
            &c::VERSION,
            format!("version {:#06x} instead of 0 (documented demand)", boot.tail32().version.get()),
        );
    }
    if boot.total_sectors_16.get() == 0 && boot.total_sectors_32.get() == 0 {
        return refuse(&c::TOTAL_SECTORS, "both sector totals are 0 (documented demand)".to_owned());
    }
    if Geometry::claimed_by(&boot).is_none() {
        let root = boot.tail32().root_cluster.get();
        let entry = if wide && root < 2 { &c::ROOT_CLUSTER } else { &c::TOTAL_SECTORS };
        return refuse(entry, "the fields of the BPB cannot stand together (documented demand)".to_owned());
    }
    HostForecast::mounts("windows", basis)
}
