//! Deciding what an image holds.

use super::{
    apart, begin, catalogue as c, extended, gpt,
    layout::MbrEntry,
    listed::{self, Listed},
    mbr, member,
    place::{Kept, Place, Scouting, Table, Way},
    search, unlisted,
};
use crate::{
    impaired::Places,
    medium::{Extent, Medium, MediumError, Unknown, Window},
    progress::Watch,
    report::finding::{Collector, Finding, Sink},
};

/// What `medium` holds. With `thorough`, everything that no volume covers is searched for lost
/// volumes; without, only where nothing else was found.
pub fn scout(medium: &dyn Medium, thorough: bool, watch: &dyn Watch) -> Result<Scouting, MediumError> {
    let mut out = Scouting {
        table: Table::None,
        unit: mbr::SECTOR,
        volumes: Vec::new(),
        strangers: Vec::new(),
        beneath: Vec::new(),
        blank: None,
        findings: Vec::new(),
        entropy: None,
        member: None,
        kept: Kept::default(),
    };
    let whole = Extent::new(0, medium.len());
    if let Some(place) = listed::claimed(medium, whole, Way::Bare, watch)? {
        let claimed = [Extent::new(0, place.bytes)];
        out.volumes.push(place);
        member::find(medium, &claimed, &out, watch)?.into_iter().for_each(|member| member.take(&mut out));
        return Ok(out);
    }
    let mut faults = Collector::default();
    let (primary, backup) = gpt::copies(medium);
    let signed = mbr::entries(medium, 0).filter(|entries| mbr::is_table(entries, medium.len(), mbr::SECTOR));
    let sector_0 = match signed {
        Some(entries) => Some(entries),
        None => unsigned(medium, watch)?,
    };
    let protected = sector_0.is_some_and(|entries| mbr::only_protects(&entries));
    let entries = if primary.is_some() || backup.is_some() || protected {
        out.table = Table::Gpt(primary.is_some(), backup.is_some());
        listed::judge_gpt(medium, primary.as_ref(), backup.as_ref(), sector_0.as_ref(), &mut faults);
        let copy = primary.as_ref().or(backup.as_ref());
        out.unit = copy.map_or(mbr::SECTOR, |copy| copy.sector);
        listed::listed_by_gpt(copy)
    } else if let Some(table) = &sector_0 {
        out.table = Table::Mbr;
        if signed.is_none() {
            report_unsigned(medium, &mut faults);
        }
        out.unit = mbr::unit(medium, table);
        mbr::listed(medium, table, out.unit).into_iter().map(listed::by_mbr).collect()
    } else {
        Vec::new()
    };
    let mut unfilled = listed::look_into(medium, &entries, &mut out, &mut faults, watch)?;
    if out.table == Table::None {
        unlisted::volumes(medium, &mut out, &mut faults, watch)?;
    } else if thorough || !unfilled.is_empty() || out.volumes.iter().all(|place| place.boot_gone) {
        let chain = sector_0.filter(|_| out.table == Table::Mbr);
        let mut rest = Rest { medium, entries: &entries, chain, unfilled: &mut unfilled, older: Vec::new() };
        for place in rest.search(&out, watch)? {
            rest.place(place, &mut out, &mut faults);
        }
        if thorough {
            for place in rest.between(&out, watch)? {
                rest.place(place, &mut out, &mut faults);
            }
        }
    }
    if matches!(out.table, Table::None | Table::Gpt(false, false)) {
        let protects = sector_0.and_then(|entries| mbr::protects_in(&entries, medium.len()));
        let unit = protects.or_else(|| begin::large_sectors(medium, &out.volumes));
        out.unit = unit.unwrap_or(mbr::SECTOR);
    }
    let mut listed: Vec<Extent> = entries.iter().map(|entry| entry.extent).collect();
    if out.table == Table::None {
        listed.extend(search::claim(medium).map(|(_, bytes)| Extent::new(0, bytes)));
    }
    if let Some(member) = member::find(medium, &listed, &out, watch)? {
        member.take(&mut out);
        return Ok(out);
    }
    for entry in entries.iter().filter(|entry| unfilled.contains(&entry.entry_at)) {
        if !out.volumes.iter().any(|place| place.extent.overlaps(entry.extent)) {
            report_unknown(medium, entry, &mut faults);
        }
    }
    if let Some(entry) = entries.iter().find(|entry| entry.is_managed()) {
        let finding = Finding::new(&c::MANAGED, format!("{}: {}", entry.text, c::MANAGED.title));
        faults.add(finding.at(entry.entry_at.offset, entry.entry_at.length));
    }
    if let Some(displaced) = begin::displaced(medium, &out) {
        displaced.report(&mut out.volumes, &mut faults);
    }
    out.volumes.sort_by_key(|place| place.extent.offset);
    out.findings = faults.into_sorted();
    tell_unread(medium, &mut out.findings);
    // What is wrong with a table as a whole concerns every volume that it lists.
    for class in [&c::GPT_PROTECTION, &c::GPT_PRIMARY, &c::GPT_GONE, &c::SIGNATURE] {
        if out.findings.iter().any(|finding| finding.entry.code == class.code) {
            out.volumes.iter_mut().for_each(|place| place.way_faults.push(class));
        }
    }
    Ok(out)
}

/// What zeros would be a fault of where nothing can be read: that nobody knows it is said first.
fn tell_unread(medium: &dyn Medium, findings: &mut [Finding]) {
    let unread = Places::of(medium, Unknown::Unreadable);
    for finding in findings {
        if finding.extents.first().is_some_and(|begins| unread.begin(*begins)) {
            finding.summary = format!("{}, as far as can be read", finding.summary);
            finding.is = format!("Its bytes cannot be read; what stands there is not known. {}", finding.is);
        }
    }
}

/// What the entries do not lead to.
struct Rest<'a> {
    medium: &'a dyn Medium,
    entries: &'a [Listed],
    /// The MBR's entries, where an MBR it is.
    chain: Option<[MbrEntry; 4]>,
    /// Entries behind which nothing was found.
    unfilled: &'a mut Vec<Extent>,
    /// Where older volumes were, which are none any more.
    older: Vec<Extent>,
}

impl Rest<'_> {
    /// Volumes by their boot sectors and backups, in what is neither a volume nor a stranger.
    fn search(&self, out: &Scouting, watch: &dyn Watch) -> Result<Vec<Place>, MediumError> {
        // A volume without its boot sector may begin elsewhere; a boot sector among its clusters is the
        // content of a file all the same.
        let standing = out.volumes.iter().map(|place| {
            let from = if place.boot_gone { place.data_at } else { place.extent.offset };
            Extent::new(from, place.extent.end().saturating_sub(from))
        });
        let covered: Vec<Extent> = standing.chain(out.strangers.iter().map(|s| s.extent)).collect();
        search::lost(self.medium, Extent::new(0, self.medium.len()), &covered, watch)
    }

    /// Volumes without boot sectors where neither a volume nor a stranger is, nor an entry leads.
    fn between(&self, out: &Scouting, watch: &dyn Watch) -> Result<Vec<Place>, MediumError> {
        let known = out.volumes.iter().map(|place| place.extent);
        let strangers = out.strangers.iter().map(|stranger| stranger.extent);
        let listed = self.entries.iter().map(|entry| entry.extent);
        let older = self.older.iter().copied();
        let covered: Vec<Extent> = known.chain(strangers).chain(listed).chain(older).collect();
        let found = unlisted::between(self.medium, &covered, watch)?;
        // Where the table stands no volume begins.
        Ok(found.into_iter().filter(|place| place.extent.offset > 0).collect())
    }

    /// Puts a volume that was found where it belongs: listed by an entry after all, in the chain of an
    /// extended partition, older than a listed one, or lost.
    fn place(&mut self, place: Place, out: &mut Scouting, faults: &mut Collector) {
        let start = place.extent.offset;
        if out.volumes.iter().any(|listed| listed.extent.offset == start) {
            return;
        }
        let medium = self.medium;
        if let Some(front) = out.volumes.iter().find(|front| apart::is_end_of(medium, &place, front)) {
            apart::report(&place, front, faults);
            return;
        }
        let end = out.volumes.iter().position(|listed| apart::is_end_of(medium, listed, &place));
        let inside = || out.volumes.iter().position(|listed| is_read_from_inside(listed, &place));
        if let Some(astray) = end.or_else(inside) {
            let astray = out.volumes.remove(astray);
            if end.is_some() {
                apart::report(&astray, &place, faults);
            }
            let behind = self.entries.iter().find(|entry| entry.extent.offset > start);
            self.unfilled.extend(behind.map(|entry| entry.entry_at));
        } else if let Some(over) = out.volumes.iter().find(|over| reaches_into(&place, over, self.entries)) {
            report_older(&place, over, faults);
            self.older.push(place.extent);
            return;
        }
        // An entry leads to it: it is listed, and only its own beginning is gone.
        if let Some(entry) = self.entries.iter().find(|entry| entry.extent.offset == start) {
            self.unfilled.retain(|at| *at != entry.entry_at);
            out.volumes.push(listed::take(entry, Place { way: Way::Listed, ..place }, faults));
            return;
        }
        if out.table == Table::Mbr
            && extended::was_logical(self.medium, self.chain.as_ref(), &place, out.unit)
        {
            out.volumes.push(report_unchained(self.medium, place, self.chain.as_ref(), out.unit, faults));
            return;
        }
        // What no entry lists its manager's own database does.
        if self.entries.iter().any(Listed::is_managed) {
            out.volumes.push(place);
            return;
        }
        // An entry that leads to something unknown did not go astray.
        let unfilled = self.entries.iter().filter(|entry| self.unfilled.contains(&entry.entry_at));
        let free = |entry: &&Listed| {
            entry.extent.overlaps(place.extent) || listed::is_blank(self.medium, entry.extent)
        };
        let astray: Vec<Extent> = unfilled.filter(free).map(|entry| entry.entry_at).collect();
        out.volumes.push(report_lost(place, &astray, faults));
    }
}

/// True when `listed`, a volume without its boot sector, was read from tables of `found` alone, into which
/// its entry points: the tables are one, or those of the one are a copy of the other's.
fn is_read_from_inside(listed: &Place, found: &Place) -> bool {
    let same = listed.tables_at == found.tables_at && found.tables_at != 0;
    let inside = listed.boot_gone
        && !found.boot_gone
        && found.what.shares_family(listed.what)
        && (found.tables_at..found.data_at).contains(&listed.tables_at)
        && found.extent.offset < listed.extent.offset
        && listed.extent.offset < found.extent.end();
    same || inside
}

/// What an entry leads to is nothing that is known here, and not blank: it is left alone, and said.
fn report_unknown(medium: &dyn Medium, entry: &Listed, faults: &mut Collector) {
    if listed::is_blank(medium, entry.extent) {
        return;
    }
    let begins = Window::new(medium, entry.extent);
    let why = match search::claim(&begins) {
        Some((kind, bytes)) => format!(
            "It begins with the boot sector of {} volume of {bytes} bytes; nothing that it leads to is there.",
            kind.with_article()
        ),
        None => "It has no mark of a file system that Punchdog knows.".to_owned(),
    };
    faults.add(
        Finding::new(&c::UNKNOWN, format!("{}: {}", entry.text, c::UNKNOWN.title))
            .at(entry.entry_at.offset, entry.entry_at.length)
            .at(entry.extent.offset, 512)
            .because(
                format!("Something stands from byte {} on.", entry.extent.offset),
                why,
                "Its entry is left as it is.",
            ),
    );
}

/// The entries of sector 0 without the signature 55 AA behind them, where one of them leads to a volume or
/// protects a GPT.
fn unsigned(medium: &dyn Medium, watch: &dyn Watch) -> Result<Option<[MbrEntry; 4]>, MediumError> {
    let sector = medium.lenient(0, 512).bytes;
    let Some(entries) =
        mbr::unsigned(&sector).filter(|entries| mbr::is_table(entries, medium.len(), mbr::SECTOR))
    else {
        return Ok(None);
    };
    let mut leads = mbr::only_protects(&entries);
    for entry in mbr::listed(medium, &entries, mbr::unit(medium, &entries)) {
        let behind = Extent::new(entry.extent.offset, medium.len().saturating_sub(entry.extent.offset));
        leads = leads || listed::claimed(medium, behind, Way::Listed, watch)?.is_some();
    }
    Ok(leads.then_some(entries))
}

fn report_unsigned(medium: &dyn Medium, faults: &mut Collector) {
    let there = medium.lenient(510, 2).bytes;
    faults.add(Finding::new(&c::SIGNATURE, c::SIGNATURE.title).at(510, 2).because(
        format!("The last two bytes of sector 0 are {}.", hex::encode_upper(&there)),
        "They are 55 AA; the entries before them lead to volumes.",
        "Hosts show an empty disk.",
    ));
}

fn report_unchained(
    medium: &dyn Medium,
    mut place: Place,
    table: Option<&[MbrEntry; 4]>,
    unit: u64,
    faults: &mut Collector,
) -> Place {
    place.way_faults.push(&c::CHAIN_BROKEN);
    let start = place.extent.offset;
    let summary = format!("{} volume at byte {start}: {}", place.what.title(), c::CHAIN_BROKEN.title);
    let all = table.and_then(|table| extended::partition(table, unit));
    let (at, why) = match all.map(|all| extended::follow(medium, all, unit)) {
        Some(chain) => match (chain.broken, chain.links.last()) {
            (Some((at, why)), _) => (at, format!("The chain breaks off at byte {at}: {why}.")),
            (None, Some(last)) => (last.at, format!("The chain ends with the link at byte {}.", last.at)),
            (None, None) => (start, "The chain has no link.".to_owned()),
        },
        None => (
            extended::link_before(medium, start, unit).unwrap_or(start),
            "A link of a chain stands in front of it; no entry leads to the extended partition.".to_owned(),
        ),
    };
    faults.add(Finding::new(&c::CHAIN_BROKEN, summary).at(at, 512).at(start, 512).because(
        why,
        place.begins(),
        "Hosts do not see it.",
    ));
    place
}

/// True when `lost` begins in front of a listed volume and reaches into it. The entry and what was found
/// behind it are two witnesses, a left beginning is one.
fn reaches_into(lost: &Place, over: &Place, listed: &[Listed]) -> bool {
    over.way == Way::Listed
        && lost.extent.offset < over.extent.offset
        && over.extent.offset < lost.extent.end()
        && listed.iter().any(|entry| entry.extent.offset == over.extent.offset)
}

fn report_older(older: &Place, over: &Place, faults: &mut Collector) {
    let (old, new) = (older.what.title(), over.what.title());
    faults.add(
        Finding::new(&c::OLDER, format!("{old} volume at byte {}: {}", older.extent.offset, c::OLDER.title))
            .at(older.extent.offset, 512)
            .because(
                format!(
                    "By its own beginning it is {} bytes long and reaches past byte {}.",
                    older.bytes, over.extent.offset
                ),
                format!("There the table lists {} volume, and one stands there.", over.what.with_article()),
                format!("Hosts show the {new} volume."),
            ),
    );
}

fn report_lost(mut place: Place, unfilled: &[Extent], faults: &mut Collector) -> Place {
    let class = if unfilled.is_empty() { &c::ENTRY_MISSING } else { &c::WRONG_START };
    place.way_faults.push(class);
    let mut finding = Finding::new(
        class,
        format!("{} volume at byte {}: {}", place.what.title(), place.extent.offset, class.title),
    )
    .because(place.begins(), "A partition entry lists each volume.", "Hosts do not see it.");
    finding = match unfilled.first() {
        Some(entry) => finding.at(entry.offset, entry.length),
        None => finding.at(446, 64),
    };
    faults.add(finding.at(place.extent.offset, 512));
    place
}
