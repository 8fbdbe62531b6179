//! The restart pages of `$LogFile`.
//!
//! ```text
//! 0   4  RSTR, or CHKD once a check has run        16  4  bytes of a system page     24  2  offset of the restart area
//! 8   8  log number where that check ended         20  4  bytes of a log page        26  4  version, the minor first
//!
//! the area: 0   8  the current log number          14  2  flags: 2 the volume was closed    24  8  bytes of the log
//!           8   2  clients                         16  4  bits of a log number that count   36  2  bytes of a record's head
//!           10  4  first free, first used client   20  4  its length, offset of clients     38  2  offset of data in a page
//!
//! a client: 8   8  log number to go on from        16  4  the client before and behind      28  4  bytes of its name, 32 the name
//! ```
//!
//! As Linux 6.12 takes it (`fs/ntfs3/fslog.c`: `log_read_rst`, `is_rst_page_hdr_valid`, `is_rst_area_valid`,
//! `is_client_area_valid`, `log_replay`), which was asked of each of the fields.

use super::{
    layout::{Fixups, unfix},
    runs::Mapping,
};
use crate::{
    arith::{Peek, Sat},
    medium::{Extent, Medium, Unknown},
};

/// The number that says that no client uses the log.
const NO_CLIENT: u16 = 0xFFFF;
/// Bytes of a client.
const CLIENT: usize = 96;
/// The flag of a restart area that says that the volume was closed.
const CLOSED: u16 = 2;

/// A restart page, as far as a mount depends on it.
struct Restart {
    /// The client that uses the log; `None` where nothing waits in it.
    client: Option<Client>,
    /// It says that the volume was closed.
    closed: bool,
    /// Version.
    version: (u16, u16),
    /// Bits of a log number that count.
    bits: u32,
    /// Bytes of the log that it is of.
    log: u64,
    page: usize,
    /// Where it stands in the log.
    at: u64,
    /// Its number: of two pages, the later one counts.
    number: u64,
}

/// A client of the log.
struct Client {
    /// It is called as the driver expects.
    named: bool,
    /// From where it would go on.
    from: u64,
}

/// The restart page in these bytes, which stand at `at` of the log; `None` where the driver does not take it for one.
fn restart(page: &[u8], at: u64) -> Option<Restart> {
    let (system, size) = (page.le32(16), page.le32(20));
    let (minor, major) = (page.le16(26), page.le16(28));
    let area = usize::from(page.le16(24));
    let restart = |client: Option<Client>, number: u64| Restart {
        client,
        closed: page.le16(area.plus(14)) & CLOSED != 0,
        version: (major, minor),
        bits: page.le32(area.plus(16)),
        log: page.le64(area.plus(24)),
        page: size.size(),
        at,
        number,
    };
    // Once a check has run, nothing else of the page counts.
    if page.part(0, 4) == b"CHKD" {
        return Some(restart(None, page.le64(8)));
    }
    let sane = |bytes: u32| bytes >= 512 && bytes.is_power_of_two();
    let fixups = usize::from(page.le16(4)).plus(system.size().per(512).plus(1).times(2));
    if !sane(system) || !sane(size) || at != 0 && at != u64::from(system) {
        return None;
    }
    if major <= 1 && minor == 0 || major > 2 || area.rest(8) != 0 || area > system.size() || area < fixups {
        return None;
    }
    let clients = page.le16(area.plus(8));
    let (free, used) = (page.le16(area.plus(10)), page.le16(area.plus(12)));
    let off = usize::from(page.le16(area.plus(22)));
    let end = off.plus(usize::from(clients).times(CLIENT));
    let long = usize::from(page.le16(area.plus(20)));
    if area.plus(24) > 510 || clients > 1 || off.rest(8) != 0 || area.plus(off) > 510 || end > system.size() {
        return None;
    }
    if area.plus(long) > system.size() || end > long {
        return None;
    }
    // The driver keeps the length in 32 bits here.
    let counted = 67_u32.minus(u32::BITS.minus(page.le32(area.plus(24)).leading_zeros()));
    let aligned = usize::from(page.le16(area.plus(36)) | page.le16(area.plus(38))).rest(8) == 0;
    if page.le32(area.plus(16)) != counted || !aligned {
        return None;
    }
    // One client at most: a list is empty, or has that alone.
    let client = area.plus(off);
    let alone = page.le16(client.plus(16)) == NO_CLIENT && page.le16(client.plus(18)) == NO_CLIENT;
    let fits = |first: u16| first == NO_CLIENT || first < clients && alone;
    if !fits(free) || !fits(used) {
        return None;
    }
    let client = (used != NO_CLIENT).then(|| Client {
        named: page.le32(client.plus(28)) == 8 && page.part(client.plus(32), 8) == b"N\0T\0F\0S\0",
        from: page.le64(client.plus(8)),
    });
    Some(restart(client, page.le64(area)))
}

/// What the driver of Linux makes of a log.
enum RestartPage {
    /// Nothing but FF where a restart page would be: it was never used, or emptied.
    Empty,
    /// There is no restart page that can be believed, and it is not empty.
    Nothing,
    /// A restart page.
    Page(Restart),
}

/// The state of `$LogFile`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Log {
    /// Nothing but FF: it was never used, or emptied.
    Empty,
    /// Closed: nothing waits in it.
    Clean,
    /// In use when the host stopped: changes may wait in it.
    InUse,
    /// It holds nothing that is a log.
    Garbage,
    /// There is none, or its record cannot be read.
    Gone,
}

/// How Linux gets through a log when it mounts for writing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Replay {
    /// It finds from where to go on, or has nothing to go on from.
    Done,
    /// It does not find its way.
    Refused,
    /// It does not know this version, major and minor, which it says with a sign.
    Version(i16, i16),
}

/// The state of a log of `size` bytes, and how Linux gets through it.
pub(crate) fn state(medium: &dyn Medium, map: &Mapping, size: u64) -> (Log, Replay) {
    state_and_failures(medium, map, size, 1).0
}

/// The same where the driver reads blocks of `block` bytes, with the block that cannot be read of each page that it asks
/// for and does not get.
pub(super) fn state_and_failures(
    medium: &dyn Medium,
    map: &Mapping,
    size: u64,
    block: u64,
) -> ((Log, Replay), Vec<u64>) {
    let mut failures = Failures { block: block.max(1), met: Vec::new() };
    (known(medium, map, size, &mut failures), failures.met)
}

/// Blocks that cannot be read.
struct Failures {
    block: u64,
    met: Vec<u64>,
}

impl Failures {
    /// Looks for a block with bytes of this place among those that cannot be read.
    fn first(&self, place: Extent, unread: &[Extent]) -> Option<u64> {
        let from = place.offset.per(self.block).times(self.block);
        let whole = Extent::new(from, place.end().per_up(self.block).times(self.block).minus(from));
        let part = unread.iter().map(|one| one.common(whole)).find(|part| part.length > 0)?;
        Some(part.offset.per(self.block).times(self.block))
    }
}

fn known(medium: &dyn Medium, map: &Mapping, size: u64, failures: &mut Failures) -> (Log, Replay) {
    if size < 3 * 4096 {
        return (Log::Gone, Replay::Refused);
    }
    let restart = match told(medium, map, size, failures) {
        RestartPage::Empty => return (Log::Empty, Replay::Done),
        RestartPage::Nothing => return (Log::Garbage, Replay::Refused),
        RestartPage::Page(restart) => restart,
    };
    let Some(client) = &restart.client else { return (Log::Clean, Replay::Done) };
    let replay = replay(medium, map, size, (&restart, client));
    (if restart.closed && replay == Replay::Done { Log::Clean } else { Log::InUse }, replay)
}

/// Of the two restart pages, which need not stand one behind the other, the later one.
fn told(medium: &dyn Medium, map: &Mapping, size: u64, failures: &mut Failures) -> RestartPage {
    let (first, begun) = first_page(medium, map, (0, size), failures);
    let Some(first) = first else { return if begun { RestartPage::Nothing } else { RestartPage::Empty } };
    if first.at > 0 {
        return RestartPage::Page(first);
    }
    let (second, _) = first_page(medium, map, (512, size), failures);
    RestartPage::Page(second.filter(|second| second.number > first.number).unwrap_or(first))
}

/// The first restart page from `at` on, and whether anything was met that a host writes.
fn first_page(
    medium: &dyn Medium,
    map: &Mapping,
    (mut at, size): (u64, u64),
    failures: &mut Failures,
) -> (Option<Restart>, bool) {
    let mut begun = false;
    let unread = medium.unknown(Unknown::Unreadable);
    while at < size.min(map.len()) {
        let mut page = map.read(medium, at, 4096);
        // The driver goes on behind a page that it cannot read.
        if !unread.is_empty()
            && let Some(at) =
                map.places(at, 4096).into_iter().find_map(|(_, place)| failures.first(place, &unread))
        {
            failures.met.push(at);
            page.fill(0xFF);
        }
        if page.part(0, 4) == b"RCRD" {
            return (None, true);
        }
        if matches!(page.part(0, 4), b"RSTR" | b"CHKD") {
            begun = true;
            let long = page.le32(16).size();
            page.truncate(if long.is_power_of_two() { long.clamp(512, 4096) } else { 4096 });
            // It is taken with fixups that are not in order.
            unfix(&mut page);
            if let Some(found) = restart(&page, at) {
                return (Some(found), true);
            }
        } else if page.le32(0) != u32::MAX {
            begun = true;
        }
        at = if at == 0 { 512 } else { at.times(2) };
    }
    (None, begun)
}

fn replay(medium: &dyn Medium, map: &Mapping, size: u64, (restart, client): (&Restart, &Client)) -> Replay {
    if !matches!(restart.version, (1, 1) | (2, 0)) {
        return Replay::Version(restart.version.0.cast_signed(), restart.version.1.cast_signed());
    }
    if restart.log > size || !client.named {
        return Replay::Refused;
    }
    if client.from == 0 {
        return Replay::Done;
    }
    let place = client
        .from
        .checked_shl(restart.bits)
        .and_then(|shifted| shifted.checked_shr(restart.bits.minus(3)))
        .unwrap_or(u64::MAX);
    let page = place.per(restart.page.wide().max(512)).times(restart.page.wide());
    let mut bytes = map.read(medium, page, restart.page.clamp(512, 65536));
    let record = page < size && bytes.part(0, 4) == b"RCRD" && unfix(&mut bytes) == Fixups::Whole;
    if record { Replay::Done } else { Replay::Refused }
}
