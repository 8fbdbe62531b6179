//! What each host demands of an NTFS volume before it mounts, in its order.
//!
//! Linux: the checks of the driver `ntfs3` of 6.12, held against the driver: [`sector`], [`record`], [`files`], [`log`] in
//! the order in which it comes to them. Windows: what is published, only.

mod files;
mod log;
mod record;
mod sector;

use super::{
    boot::Boot,
    catalogue as c,
    layout::own,
    runs::{Mapping, Run},
};
use crate::{
    arith::Sat,
    medium::{Extent, Medium, Unknown},
    report::{
        finding::{Entry, Weight},
        forecast::{Basis, HostForecast},
    },
};

/// What the driver returns: the numbers that its log lines end with.
const EINVAL: i32 = -22;
const ENOENT: i32 = -2;
const ESTALE: i32 = -116;
const EIO: i32 = -5;

/// Why a mount is refused.
type Refusal = (&'static Entry, String);

/// A mount as the driver goes through it, for reading or for writing.
#[expect(clippy::struct_excessive_bools, reason = "what the driver notes, as it notes it")]
struct Mount<'a> {
    medium: &'a dyn Medium,
    sector: u64,
    write: bool,
    /// Asked to write, and made to read only.
    forced: bool,
    log: Vec<String>,
    cluster: u64,
    clusters: u64,
    bytes: u64,
    record: usize,
    mft: u64,
    mirror: u64,
    /// Where the records stand, once record 0 was read.
    map: Option<Mapping>,
    /// $Volume was read; it is marked dirty, now or from before.
    volume: bool,
    dirty: bool,
    was_dirty: bool,
    /// The major version that $Volume tells.
    version: u8,
    /// $Bitmap, once it was read.
    used: Option<Mapping>,
    /// The record that failed is no error that is noted on the volume.
    quiet: bool,
    /// What the device gives an error for.
    unread: Vec<Extent>,
}

/// Bytes of a page, in which the driver reads content, and of its blocks where clusters are not smaller.
const PAGE: u64 = 4096;

/// What a record that was loaded has.
#[derive(Default)]
struct Loaded {
    record: Vec<u8>,
    folder: bool,
    regular: bool,
    runs: Vec<Run>,
    size: u64,
    valid: u64,
    bitmap: Option<Vec<Run>>,
}

impl Mount<'_> {
    /// The first of the blocks with these bytes, of `block` bytes each, that cannot be read: where it begins.
    fn fails(&self, extent: Extent, block: u64) -> Option<u64> {
        let from = extent.offset.per(block).times(block);
        let range = Extent::new(from, extent.end().per_up(block).times(block).minus(from));
        let first = self.unread.iter().map(|place| place.common(range)).find(|part| part.length > 0)?;
        Some(first.offset.per(block).times(block))
    }

    /// The same of a part of some content, in the driver's own blocks, which it says; or in pages, of which it says
    /// nothing.
    fn content_fails(&mut self, map: &Mapping, length: u64, blocks: bool) -> bool {
        let block = if blocks { self.cluster.min(PAGE) } else { PAGE };
        let places = map.places(0, length);
        let Some(at) = places.into_iter().find_map(|(_, extent)| self.fails(extent, block)) else {
            return false;
        };
        if blocks {
            self.say(format!("failed to read volume at offset {at:#x}"));
        }
        true
    }

    fn say(&mut self, line: impl Into<String>) {
        self.log.push(format!("ntfs3(DEV): {}", line.into()));
    }

    /// The driver met an error: on a volume mounted for writing it sets the dirty flag, once.
    fn error(&mut self) {
        if self.write && !self.forced && self.volume && !self.dirty && !self.was_dirty {
            self.dirty = true;
            self.say("Mark volume as dirty due to NTFS errors");
        }
    }
}

/// What Linux 6.12 does. `sector` is the size of the device's logical sectors.
pub(super) fn linux(medium: &dyn Medium, sector: u32, gone: bool) -> HostForecast {
    let go = |write: bool| {
        let mut mount = Mount {
            medium,
            sector: sector.wide(),
            write,
            forced: false,
            log: Vec::new(),
            cluster: 0,
            clusters: 0,
            bytes: 0,
            record: 0,
            mft: 0,
            mirror: 0,
            map: None,
            volume: false,
            dirty: false,
            was_dirty: false,
            version: 0,
            used: None,
            quiet: false,
            unread: medium.unknown(Unknown::Unreadable),
        };
        let verdict = mount.boot().and_then(|()| mount.files());
        (verdict, mount)
    };
    let (read, reading) = go(false);
    let (write, writing) = go(true);
    let mut forecast = match &read {
        Ok(()) => HostForecast::mounts("linux", Basis::Driver),
        Err((entry, reason)) => {
            let entry = if gone { &c::BOOT_GONE } else { entry };
            HostForecast::refuses("linux", Basis::Driver, entry.code, reason.clone())
        }
    };
    if read.is_ok() {
        if let Err((entry, reason)) = &write {
            forecast.mounts_read_write = false;
            forecast.refused_by = Some(entry.code);
            forecast.reason.clone_from(reason);
        } else if writing.forced {
            forecast.mounts_read_write = false;
            forecast.refused_by = Some(c::BEYOND_IMAGE.code);
            "it mounts for reading only, whatever was asked: the device is shorter than the volume and the copy of its boot sector"
                .clone_into(&mut forecast.reason);
        }
    }
    forecast.log = reading.log;
    forecast.log_read_write = writing.log;
    forecast
}

/// What Windows demands as far as it is published: boot sector and signature, the volume within the partition, a version.
pub(super) fn windows(medium: &dyn Medium, boot: &Boot, version: Option<(u8, u8)>) -> HostForecast {
    let refuses = |entry: &'static Entry, reason: String| {
        let mut forecast = HostForecast::refuses("windows", Basis::Documented, entry.code, reason);
        "an unformatted (RAW) volume, and an offer to format it: decline".clone_into(&mut forecast.seen);
        forecast
    };
    if boot.gone {
        return refuses(&c::BOOT_GONE, "sector 0 does not name NTFS".to_owned());
    }
    let blocking = boot
        .fields
        .iter()
        .find(|field| field.wrong() && field.entry.is_some_and(|entry| entry.weight == Weight::BlocksMount));
    if let Some((field, entry)) = blocking.and_then(|field| field.entry.map(|entry| (field, entry))) {
        return refuses(entry, format!("{} (documented demand)", field.field));
    }
    if boot.believed.total_sectors.get().times(u64::from(boot.believed.bytes_per_sector.get())) > medium.len()
    {
        return refuses(
            &c::BEYOND_IMAGE,
            "the volume is longer than its partition (documented demand)".to_owned(),
        );
    }
    match version {
        None => refuses(&c::VOLUME_INFO, "$Volume tells no version (documented demand)".to_owned()),
        Some((major, _)) if !(1..=3).contains(&major) => {
            refuses(&c::VERSION, format!("version {major} is none (documented demand)"))
        }
        Some(_) => HostForecast::mounts("windows", Basis::Documented),
    }
}

/// The class of fault that a record of the file system's own stands for.
fn entry_of(number: u32) -> &'static Entry {
    match number {
        own::BITMAP => &c::BITMAP_GONE,
        own::LOG => &c::LOG_GONE,
        _ => &c::SYSTEM_RECORD,
    }
}
