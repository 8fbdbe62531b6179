//! The chain of logical volumes in an extended partition.
//!
//! ```text
//! extended partition                          each link, a sector laid out as an MBR
//! ├─link─┬─gap─┬─volume──────────┤              446  16  its volume, counted from the link
//!    └───────────────────────────▶ link …       462  16  the next link, counted from the partition
//! ```
//!
//! No specification has it; it is what all systems have written since the eighties, and what Linux 6.12
//! reads (`block/partitions/msdos.c`, `parse_extended`).

use super::{
    begin, catalogue as c,
    layout::{ENTRIES_AT, MbrEntry},
    mbr::{self, is_extended},
    place::{Place, Scouting, Way},
};
use crate::{
    arith::Sat,
    medium::{Extent, Medium, MediumError, OverlayWindow},
    mending::step::{Provenance, Step, Steps},
    report::wording::counted,
};
use zerocopy::{FromZeros, IntoBytes};

/// Links followed at most: a chain has no natural end.
const LINKS: usize = 128;
/// Sectors between a link and its volume, by custom.
const GAPS: [u64; 5] = [63, 2048, 1, 8, 32];

/// One link of a chain.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Link {
    /// Where it stands: bytes from the start of the disk.
    pub(super) at: u64,
    /// The type of its volume and where that lies, if it names one.
    pub(super) volume: Option<(u8, Extent)>,
}

/// A chain, as far as it can be followed.
#[derive(Debug, Clone, Default)]
pub(super) struct Chain {
    /// Its links, in order.
    pub(super) links: Vec<Link>,
    /// Where it breaks off, and why.
    pub(super) broken: Option<(u64, &'static str)>,
}

/// Where an entry points that counts from `base`, in sectors of `unit` bytes.
pub(super) fn extent(base: u64, entry: &MbrEntry, unit: u64) -> Extent {
    let start = base.plus(u64::from(entry.start.get()).times(unit));
    Extent::new(start, u64::from(entry.length.get()).times(unit))
}

/// Follows the chain of the extended partition at `partition`.
pub(super) fn follow(medium: &dyn Medium, partition: Extent, unit: u64) -> Chain {
    let mut chain = Chain::default();
    let mut at = partition.offset;
    while chain.links.len() < LINKS {
        if chain.links.iter().any(|link| link.at == at) {
            chain.broken = Some((at, "it leads back to an earlier link"));
            break;
        }
        if at < partition.offset || at >= partition.end() || at >= medium.len() {
            chain.broken = Some((at, "it leads out of the extended partition"));
            break;
        }
        let Some([volume, next, ..]) = mbr::entries(medium, at) else {
            chain.broken = Some((at, "no link stands there: 55 AA is missing at its end"));
            break;
        };
        let named = volume.kind != 0 && volume.length.get() > 0;
        chain.links.push(Link { at, volume: named.then(|| (volume.kind, extent(at, &volume, unit))) });
        if !is_extended(next.kind) || next.start.get() == 0 {
            break;
        }
        at = extent(partition.offset, &next, unit).offset;
    }
    chain
}

/// The extended partition that an MBR lists.
pub(super) fn partition(entries: &[MbrEntry; 4], unit: u64) -> Option<Extent> {
    entries.iter().find(|entry| is_extended(entry.kind)).map(|entry| extent(0, entry, unit))
}

/// The link in front of a volume that begins at `start`, if one stands there.
pub(super) fn link_before(medium: &dyn Medium, start: u64, unit: u64) -> Option<u64> {
    let places = GAPS.iter().filter_map(|gap| start.checked_sub(gap.times(unit)));
    places.into_iter().find(|at| {
        // A disk's MBR has its first volume behind it as well: in an image that begins elsewhere both stand
        // where nothing usually begins.
        let usual = begin::is_usual(*at) || begin::is_usual(start);
        *at > 0
            && usual
            && mbr::entries(medium, *at)
                .is_some_and(|[volume, ..]| extent(*at, &volume, unit).offset == start)
    })
}

/// True for a volume that was in a chain: it lies in the extended partition, or a link stands before it.
pub(super) fn was_logical(
    medium: &dyn Medium,
    entries: Option<&[MbrEntry; 4]>,
    place: &Place,
    unit: u64,
) -> bool {
    let start = place.extent.offset;
    let inside = entries
        .and_then(|entries| partition(entries, unit))
        .is_some_and(|all| all.offset < start && start < all.end());
    inside || link_before(medium, start, unit).is_some()
}

/// A volume that the mended chain shall have.
struct Member {
    kind: u8,
    extent: Extent,
    link: Option<u64>,
}

/// Puts the chain right: every volume that it has or had, with the links between.
pub(super) fn mend(
    stage: &mut OverlayWindow<'_, '_>,
    seen: &Scouting,
    standing: &[MbrEntry; 4],
    steps: &mut Steps<'_>,
) -> Result<(), MediumError> {
    let medium: &dyn Medium = stage;
    let lost: Vec<&Place> = seen
        .volumes
        .iter()
        .filter(|place| place.way == Way::Lost && was_logical(medium, Some(standing), place, seen.unit))
        .collect();
    if lost.is_empty() {
        return Ok(());
    }
    let chain = partition(standing, seen.unit).map(|all| follow(medium, all, seen.unit)).unwrap_or_default();
    let mut members: Vec<Member> = chain
        .links
        .iter()
        .filter_map(|link| link.volume.map(|(kind, extent)| Member { kind, extent, link: Some(link.at) }))
        .filter(|member| !lost.iter().any(|place| place.extent.overlaps(member.extent)))
        .collect();
    members.extend(lost.iter().map(|place| Member {
        kind: place.what.mbr_types().first().copied().unwrap_or(0),
        extent: Extent::new(place.extent.offset, place.bytes),
        link: link_before(medium, place.extent.offset, seen.unit),
    }));
    members.sort_by_key(|member| member.extent.offset);
    let Some(wanted) = laid_out(medium, standing, &members, seen.unit) else { return Ok(()) };
    let step = Step::new(
        "partition-chain-written",
        format!(
            "join {} into the chain of the extended partition",
            counted(lost.len().wide(), "volume", "volumes")
        ),
        Provenance::Derived,
        "place, length and type of the volumes that were found, and the links that are left",
        &[&c::CHAIN_BROKEN],
    );
    steps.run(stage, step, |stage| {
        for (at, bytes) in &wanted {
            stage.write_at(*at, bytes)?;
        }
        Ok(())
    })
}

/// The bytes of the MBR and of all links, with the place of each; `None` where there is no room for a link
/// that is not something else's.
fn laid_out(
    medium: &dyn Medium,
    standing: &[MbrEntry; 4],
    members: &[Member],
    unit: u64,
) -> Option<Vec<(u64, Vec<u8>)>> {
    let (first, last) = (members.first()?, members.last()?);
    let known = partition(standing, unit);
    let start = known.map(|all| all.offset).or(first.link)?;
    let end = last.extent.end().max(known.map_or(0, |all| all.end().min(medium.len())));
    let gap = first.extent.offset.checked_sub(start).filter(|gap| *gap >= unit)?;
    let mut links = Vec::new();
    for (number, member) in members.iter().enumerate() {
        let custom = member.extent.offset.checked_sub(gap);
        let at = if number == 0 { Some(start) } else { member.link.or(custom) }?;
        let before = number.checked_sub(1).and_then(|number| members.get(number));
        let free = before.is_none_or(|before| before.extent.end() <= at);
        let sector = medium.lenient(at, 512).bytes;
        let ours = sector.ends_with(&[0x55, 0xAA])
            || sector.iter().all(|byte| *byte == 0)
            || member.link == Some(at);
        // A link that only lost its signature still has its entry.
        let ours = ours || names(&sector, at, member, unit);
        (free && ours).then(|| links.push(at))?;
    }
    let mut wanted = Vec::new();
    if known.is_none_or(|all| all.end() < end) {
        let slot = standing
            .iter()
            .position(|entry| is_extended(entry.kind))
            .or_else(|| standing.iter().position(|entry| entry.kind == 0))?;
        let entry = new_entry(0x0F, start, end.minus(start), unit);
        wanted.push((ENTRIES_AT.plus(slot.times(16)).wide(), entry.as_bytes().to_vec()));
    }
    for (number, (member, at)) in members.iter().zip(&links).enumerate() {
        let mut entries = [MbrEntry::new_zeroed(); 4];
        let own = new_entry(member.kind, member.extent.offset.minus(*at), member.extent.length, unit);
        let after = number.plus(1);
        let next = members.get(after).zip(links.get(after));
        let next =
            next.map(|(next, link)| new_entry(0x05, link.minus(start), next.extent.end().minus(*link), unit));
        let [volume, following, ..] = &mut entries;
        (*volume, *following) = (own, next.unwrap_or_else(MbrEntry::new_zeroed));
        let kept = mbr::entries(medium, *at).filter(|there| {
            // What is right already keeps its own way of writing it.
            there.iter().zip(&entries).all(|(is, should)| {
                (
                    is_extended(is.kind) == is_extended(should.kind),
                    is.start,
                    is.length.get() >= should.length.get(),
                ) == (true, should.start, true)
                    && (is.kind == 0) == (should.kind == 0)
            })
        });
        if kept.is_none() {
            wanted.push((at.plus(ENTRIES_AT.wide()), entries.as_bytes().to_vec()));
            wanted.push((at.plus(510), vec![0x55, 0xAA]));
        }
    }
    Some(wanted)
}

/// True when the sector's first entry names the member, with or without a signature.
fn names(sector: &[u8], at: u64, member: &Member, unit: u64) -> bool {
    mbr::unsigned(sector).is_some_and(|[volume, ..]| extent(at, &volume, unit).offset == member.extent.offset)
}

/// An entry for `length` bytes, `start` bytes behind what it counts from, in sectors of `unit` bytes.
pub(crate) fn new_entry(kind: u8, start: u64, length: u64, unit: u64) -> MbrEntry {
    let mut entry = MbrEntry::new_zeroed();
    // CHS values that say "beyond what CHS can tell" (UEFI 2.10, 5.2.1): hosts go by the LBA.
    entry.start_chs = [0xFE, 0xFF, 0xFF];
    entry.end_chs = [0xFE, 0xFF, 0xFF];
    entry.kind = kind;
    entry.start = start.per(unit).narrow().into();
    entry.length = length.per(unit).narrow().into();
    entry
}
