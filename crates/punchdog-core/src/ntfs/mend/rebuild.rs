//! Lost records of the file system's own files, made from what else tells of them.
//!
//! Where a file's content stands is taken from what can still be read of its record, from the boot sector, or found by
//! what it must hold among clusters that no file has; what can be computed wholly is written into free clusters where it
//! is not found.

use crate::{
    arith::{Peek, Sat},
    cluster::free::Room,
    medium::{Extent, Medium},
    ntfs::{
        attrdef,
        build::units,
        fresh::{Facts, set_bit},
        layout::{HEAD_OLD, kind, own},
        mirror,
        names::{Capitals, TABLE},
        records::{Notes, Use},
        runs::{Mapping, Run},
        survey::Survey,
    },
};
use std::ops::Range;

/// A record made anew.
pub(super) struct Made {
    /// Its bytes, fixups on.
    pub(super) record: Vec<u8>,
    /// What has to be written besides: where, and the bytes.
    pub(super) content: Vec<(u64, Vec<u8>)>,
    /// Where it comes from.
    pub(super) from: String,
    /// It is the likelier of several readings.
    pub(super) judged: bool,
    /// What cannot be had again.
    pub(super) lost: Option<String>,
}

/// Rows of free clusters that are looked at for blank ones.
const ROWS: usize = 4096;
/// Bytes of a bitmap that are made anew at most: of a volume of 2 TiB with clusters of 4 KiB.
const BITMAP: u64 = 64 << 20;
/// Bytes of $Boot.
const BOOT_BYTES: u64 = 8192;
/// Bytes of an empty log that is laid anew.
const LOG_BYTES: u64 = 2 << 20;
/// Bytes that a log has at most.
const LOG_MOST: u64 = 64 << 20;
/// Clusters that nobody has, of which is looked at what they hold.
const LOOKED_AT: usize = 1 << 20;

/// Where content stands, and how it came to be known.
struct Found {
    runs: Vec<Run>,
    size: u64,
    from: &'static str,
    write: Option<Vec<u8>>,
}

pub(super) struct Search<'s> {
    pub(super) medium: &'s dyn Medium,
    pub(super) survey: &'s Survey,
    given: &'s mut Given,
}

/// What the records that are made anew in one round were given: nothing is given twice.
pub(super) struct Given {
    room: Option<Room>,
    unclaimed: Option<Room>,
    clusters: Vec<Range<usize>>,
    /// Only what is found counts: no free clusters are taken, as some may be of what another record has.
    pub(super) finding: bool,
    /// What the record itself still says of its content is not so.
    pub(super) distrusted: bool,
}

impl Given {
    /// Nothing yet.
    pub(super) fn new(survey: &Survey, medium: &dyn Medium) -> Self {
        // The records themselves are nobody's where record 0 is lost.
        let records = survey.mft.runs.iter();
        let mut clusters: Vec<Range<usize>> =
            records.filter_map(|run| Some(run.first?.size()..run.end().size())).collect();
        // Nor are the copies of the first of them, where record 1 is.
        clusters.extend(
            Search::place_of_copies(survey, medium).filter(|(_, there)| *there).map(|(copies, _)| copies),
        );
        // The second half of $Boot is blank often.
        clusters.push(0..survey.mft.geometry.clusters_for(BOOT_BYTES).size());
        Self { room: None, unclaimed: None, clusters, finding: true, distrusted: false }
    }

    fn has(&self, clusters: &Range<usize>) -> bool {
        self.clusters.iter().any(|other| other.start < clusters.end && clusters.start < other.end)
    }
}

/// Of a bitmap, so many clusters marked where others claim so many: what has little else, and not all bits set, can be one.
pub(super) fn is_sparing(marked: u64, claimed: u64) -> bool {
    marked <= claimed.plus(claimed.per(4)).plus(512)
}

/// The record of one of the file system's own files, made anew; `None` where too little is left of it.
pub(super) fn record(medium: &dyn Medium, survey: &Survey, number: u32, given: &mut Given) -> Option<Made> {
    let before = given.clusters.clone();
    let made = try_record(medium, survey, number, given);
    if made.is_none() {
        given.clusters = before;
    }
    made
}

fn try_record(medium: &dyn Medium, survey: &Survey, number: u32, given: &mut Given) -> Option<Made> {
    let version = survey.about.version.unwrap_or_else(|| by_heads(medium, survey));
    // What came with version 3.
    if version < (3, 0) && matches!(number, own::SECURE | own::EXTEND) {
        return None;
    }
    let mut search = Search { medium, survey, given };
    let geometry = survey.mft.geometry;
    let mut facts = facts(survey, version);
    if number == own::SECURE {
        return super::secured::made(&mut search, &facts);
    }
    let cluster = geometry.cluster();
    let mut content = Vec::new();
    let mut take = |found: Found| {
        if let Some(bytes) = found.write {
            let map = Mapping::of(&found.runs, cluster);
            for (skip, extent) in map.places(0, bytes.len().wide()) {
                content.push((extent.offset, bytes.part(skip.size(), extent.length.size()).to_vec()));
            }
        }
        ((found.runs, found.size), found.from)
    };
    let mut lost = None;
    let mut judged = false;
    let from = match number {
        // Of what is not seen the record could not tell.
        own::MFT if survey.mft.missing > 0 => return None,
        own::MFT => {
            let records = survey.mft.runs.clone();
            facts.mft = (records, survey.mft.size);
            let (bitmap, from) = take(search.record_bitmap()?);
            facts.mft_bitmap = bitmap;
            judged = survey.mft.told_by == crate::ntfs::mft::ToldBy::Found || survey.mft.refound > 0;
            lost = judged.then(|| "records that cannot be read, at its end, would not be found".to_owned());
            from
        }
        own::MIRROR => {
            let bytes = geometry.mirrored().times(geometry.record().wide());
            let (runs, from) = search.copies(bytes)?;
            facts.mirror = (runs, bytes);
            from
        }
        own::LOG => {
            let (log, from) = take(search.log()?);
            facts.log = log;
            judged = true;
            lost = Some("changes that waited in the log, if any, are not looked at".to_owned());
            from
        }
        own::VOLUME => {
            lost = Some("label and flags are lost where nothing else tells them".to_owned());
            "what every volume has; the version is that of the other records"
        }
        own::ROOT | own::EXTEND => {
            lost = Some("its own times, and who may read it, are the usual ones".to_owned());
            "what every such folder has; its names come from the records"
        }
        own::ATTRDEF => {
            let table = attrdef::TABLE.clone();
            let size = table.len().wide();
            let mark = units("$STANDARD_INFORMATION");
            let (found, from) = take(search.table(number, table, size, &mark)?);
            facts.attrdef = found;
            from
        }
        own::BITMAP => {
            let (bitmap, from) = take(search.cluster_bitmap()?);
            facts.bitmap = bitmap;
            from
        }
        own::BOOT => {
            facts.boot = (vec![Run::new(0, geometry.clusters_for(BOOT_BYTES))], BOOT_BYTES);
            "it is the first clusters, always"
        }
        own::BADCLUS => {
            lost = Some("clusters that were marked as failed are not known any more".to_owned());
            "it is as long as the volume"
        }
        own::UPCASE => {
            let table = Capitals::usual().bytes();
            let mark = table.part(0, 256).to_vec();
            let (found, from) = take(search.table(number, table, TABLE.wide(), &mark)?);
            facts.upcase = found;
            from
        }
        _ => return None,
    };
    let record = facts.record(number)?.bytes(geometry.record())?;
    Some(Made { record, content, from: from.to_owned(), judged, lost })
}

/// What is known of the volume before any of its records is made anew.
fn facts(survey: &Survey, version: (u8, u8)) -> Facts {
    Facts {
        geometry: survey.mft.geometry,
        mft: (Vec::new(), 0),
        mft_bitmap: (Vec::new(), 0),
        mirror: (Vec::new(), 0),
        log: (Vec::new(), 0),
        attrdef: (Vec::new(), 0),
        bitmap: (Vec::new(), 0),
        boot: (Vec::new(), 0),
        descriptors: (Vec::new(), 0),
        upcase: (Vec::new(), 0),
        label: survey.about.label.clone(),
        version,
        time: made(survey),
    }
}

/// Records whose heads are looked at for the version.
const HEADS: usize = 16;

/// The version that records are written in: before 3.1 their heads were shorter.
fn by_heads(medium: &dyn Medium, survey: &Survey) -> (u8, u8) {
    let files = survey.records.files.iter().filter(|file| !file.notes.contains(Notes::DELETED));
    let heads = files.take(HEADS).map(|file| usize::from(survey.mft.raw(medium, file.number).le16(4)));
    let (old, all) =
        heads.fold((0_usize, 0_usize), |(old, all), at| (old.plus(usize::from(at == HEAD_OLD)), all.plus(1)));
    if old.times(2) <= all {
        return (3, 1);
    }
    // $Secure came with version 3.
    let secure = survey.records.live(own::SECURE).is_some_and(|file| file.notes.contains(Notes::VIEW));
    if secure { (3, 0) } else { (1, 2) }
}

/// When the volume was made: by the records of its own files that are left.
pub(super) fn made(survey: &Survey) -> u64 {
    let own_files =
        survey.records.files.iter().filter(|file| file.number < own::FIRST_FREE && file.modified > 0);
    own_files.map(|file| file.modified).min().unwrap_or(0)
}

impl Search<'_> {
    /// What the record itself still says.
    fn told(&self, number: u32, of: u32, least: u64) -> Option<Found> {
        let record = self.survey.records.live(number).filter(|_| !self.given.distrusted)?;
        let pieces = self.survey.records.stream_of(record, of, "");
        let first = pieces.first().filter(|piece| !piece.resident && piece.bad.is_none())?;
        let runs = self.survey.records.all_runs(pieces);
        let room = Mapping::of(&runs, self.survey.mft.geometry.cluster()).len();
        let size = if (least..=room).contains(&first.size) { first.size } else { room };
        (room >= least && room > 0 && runs.iter().all(|run| run.first.is_some())).then_some(Found {
            runs,
            size,
            from: "what can still be read of the record",
            write: None,
        })
    }

    /// Clusters in a row that are free. Where $Bitmap cannot be read, what nobody has may be of a file whose record is
    /// lost: then only blank ones.
    pub(super) fn taken(&mut self, bytes: u64) -> Option<Vec<Run>> {
        if self.given.finding {
            return None;
        }
        let geometry = self.survey.mft.geometry;
        let count = geometry.clusters_for(bytes).max(1);
        let survey = self.survey;
        let mut blank = survey.bitmap.is_none();
        for _ in 0..ROWS {
            let free = || super::room::free(survey, self.medium);
            let room = (!blank).then(|| self.given.room.get_or_insert_with(free));
            let row = room.and_then(|room| room.row(count.narrow()));
            // Also where it has all in use: then it tells nothing.
            blank = row.is_none();
            let unclaimed = || super::room::unclaimed(survey, self.medium);
            let first = match row {
                Some(first) => first,
                None => self.given.unclaimed.get_or_insert_with(unclaimed).row(count.narrow())?,
            };
            let first = u64::from(first);
            let place = Extent::new(geometry.place(first), geometry.place(count));
            let fits = !blank || self.medium.is_zero(place);
            let range = first.size()..first.plus(count).size();
            if fits && !self.given.has(&range) {
                self.given.clusters.push(range);
                return Some(vec![Run::new(first, count)]);
            }
        }
        None
    }

    /// The record is believed as far as it can be read.
    pub(super) fn trusts(&self) -> bool {
        !self.given.distrusted
    }

    /// Takes clusters, some of which may be taken already; false where a file has one of them.
    pub(super) fn claim(&mut self, clusters: Range<usize>) -> bool {
        let free = !self.survey.claimed.contains_any_in_range(clusters.clone());
        if free {
            self.given.clusters.push(clusters);
        }
        free
    }

    /// Where the copies of the first records stand, or shall stand. What a boot sector says may be wrong: nobody's
    /// content is written over.
    fn copies(&mut self, bytes: u64) -> Option<(Vec<Run>, &'static str)> {
        let named = Self::place_of_copies(self.survey, self.medium);
        let said = |there: &Range<usize>| vec![Run::new(there.start.wide(), there.len().wide())];
        let from = "the boot sector says where the copies stand";
        if let Some((there, true)) = &named {
            return Some((said(there), from));
        }
        let (medium, survey) = (self.medium, self.survey);
        let zero =
            |cluster: u64, head: &[u8]| head.starts_with(b"FILE") && mirror::begins(medium, survey, cluster);
        if let Some(runs) = self.found(bytes, &zero) {
            return Some((
                runs,
                "clusters that no file has hold the copies, elsewhere than the boot sector says",
            ));
        }
        // What is blank may be within what another has.
        if let Some((there, false)) = named.filter(|(there, _)| !self.given.has(there)) {
            self.given.clusters.push(there.clone());
            return Some((said(&there), from));
        }
        let from = "the boot sector names clusters of a file for the copies: others that are free";
        self.taken(bytes).map(|runs| (runs, from))
    }

    /// The clusters that the boot sector names for the copies, where they may be: nobody has them, and copies stand there, or
    /// (false) nothing does.
    fn place_of_copies(survey: &Survey, medium: &dyn Medium) -> Option<(Range<usize>, bool)> {
        let geometry = survey.mft.geometry;
        let count = geometry.clusters_for(geometry.mirrored().times(geometry.record().wide())).max(1);
        let there = geometry.mirror.size()..geometry.mirror.plus(count).size();
        let head = medium.lenient(geometry.place(geometry.mirror), 512).bytes;
        let copies = matches!(head.part(0, 4), b"FILE" | b"BAAD");
        let fits = copies || head.iter().all(|byte| *byte == 0);
        // Without record 0, or where the place is a guess, the records may stand there themselves.
        let records = survey.mft.runs.iter().filter_map(|run| Some(run.first?.size()..run.end().size()));
        let apart = records.into_iter().all(|run| run.end <= there.start || there.end <= run.start);
        (fits && apart && !survey.claimed.contains_any_in_range(there.clone())).then_some((there, copies))
    }

    /// The first run of clusters that nobody has whose content begins as `fits` says.
    pub(super) fn found(&mut self, bytes: u64, fits: &dyn Fn(u64, &[u8]) -> bool) -> Option<Vec<Run>> {
        let geometry = self.survey.mft.geometry;
        let count = geometry.clusters_for(bytes).max(1);
        let claimed = &self.survey.claimed;
        let end = claimed.len();
        let (mut at, mut looked) = (0_usize, 0_usize);
        while let Some(gap) = claimed.gap_in(at..end) {
            for cluster in gap.clone() {
                if gap.end.minus(cluster).wide() < count || looked >= LOOKED_AT {
                    break;
                }
                looked = looked.plus(1);
                let place = geometry.place(cluster.wide());
                let hole = self.medium.data_from(place).is_none_or(|data| data.offset >= place.plus(512));
                if hole {
                    continue;
                }
                let head = self.medium.lenient(place, 512).bytes;
                let range = cluster..cluster.plus(count.size());
                if fits(cluster.wide(), &head) && !self.given.has(&range) {
                    self.given.clusters.push(range);
                    return Some(vec![Run::new(cluster.wide(), count)]);
                }
            }
            at = gap.end.max(at.plus(1));
        }
        None
    }

    /// A table that can be written anew: where it stands, or free clusters for it.
    fn table(&mut self, number: u32, bytes: Vec<u8>, size: u64, mark: &[u8]) -> Option<Found> {
        if let Some(found) = self.told(number, kind::DATA, size) {
            return Some(Found { size, ..found });
        }
        if let Some(runs) = self.found(size, &|_, head| head.starts_with(mark)) {
            return Some(Found { runs, size, from: "clusters that no file has hold it", write: None });
        }
        let runs = self.taken(size)?;
        Some(Found { runs, size, from: "the usual table, written into free clusters", write: Some(bytes) })
    }

    fn log(&mut self) -> Option<Found> {
        if let Some(found) = self.told(own::LOG, kind::DATA, 3 * 4096) {
            return Some(found);
        }
        let least = LOG_BYTES.min(256 << 10);
        let medium = self.medium;
        let begins = |_: u64, head: &[u8]| head.starts_with(b"RSTR");
        // One that was never written is FF all over.
        let empty = |cluster: u64, head: &[u8]| {
            head.iter().all(|byte| *byte == 0xFF) && {
                let place = self.survey.mft.geometry.place(cluster);
                medium.lenient(place, least.size()).bytes.iter().all(|byte| *byte == 0xFF)
            }
        };
        if let Some(runs) = self.found(least, &begins).or_else(|| self.found(least, &empty)) {
            let geometry = self.survey.mft.geometry;
            let first = runs.first()?.first?;
            let beginning = first..first.plus(geometry.clusters_for(least));
            // It goes on as long as nobody has what follows, it is marked in use, and its pages are those of a log: what
            // follows may be of a file whose record is lost. A bitmap that has the log's beginning as free tells nothing.
            let marked = self.survey.bitmap.as_ref().filter(|marked| marked.contains(first.size()));
            let mine = |cluster: u64| {
                let range = cluster.size()..cluster.plus(1).size();
                !self.survey.claimed.contains(cluster.size())
                    && (beginning.contains(&cluster)
                        || !self.given.has(&range)
                            && marked.is_none_or(|marked| marked.contains(cluster.size()))
                            && self.is_log(geometry.place(cluster), geometry.cluster()))
            };
            let most = first.plus(geometry.clusters_for(LOG_MOST)).min(geometry.clusters());
            let length = (first..most).take_while(|cluster| mine(*cluster)).count().wide();
            let size = geometry.place(length).per(4096).times(4096);
            let runs = vec![Run::new(first, geometry.clusters_for(size))];
            self.given.clusters.push(first.size()..first.plus(geometry.clusters_for(size)).size());
            return Some(Found {
                runs,
                size,
                from: "clusters that no file has begin as a log does, written or empty",
                write: None,
            });
        }
        let runs = self.taken(LOG_BYTES).map(|runs| (runs, LOG_BYTES));
        let (runs, size) = runs.or_else(|| self.taken(256 << 10).map(|runs| (runs, 256 << 10)))?;
        let write = Some(vec![0xFF; size.size()]);
        Some(Found { runs, size, from: "an empty log, written into free clusters", write })
    }

    /// The pages that begin in these bytes are those of a log: records, restart areas, or never written.
    fn is_log(&self, at: u64, length: u64) -> bool {
        let pages = (at..at.plus(length)).filter(|at| at.rest(4096) == 0);
        pages.into_iter().all(|at| {
            let head = self.medium.lenient(at, 4).bytes;
            matches!(head.as_slice(), b"RCRD" | b"RSTR" | b"CHKD" | [0xFF, 0xFF, 0xFF, 0xFF] | [0, 0, 0, 0])
        })
    }

    /// Which records are in use, by the records.
    fn record_bitmap(&mut self) -> Option<Found> {
        let records = self.survey.mft.records();
        let size = records.wide().per_up(64).times(8);
        if let Some(found) = self.told(own::MFT, kind::BITMAP, size) {
            return Some(Found { size, ..found });
        }
        let mut bits = vec![0_u8; size.size()];
        for (number, usage) in (0_u64..).zip(&self.survey.records.uses) {
            if matches!(usage, Use::File | Use::Extends) || number < 16 {
                set_bit(&mut bits, number);
            }
        }
        let same = |_: u64, head: &[u8]| head.starts_with(bits.part(0, 512)) && size > 0;
        if let Some(runs) = self.found(size, &same) {
            return Some(Found {
                runs,
                size,
                from: "clusters that no file has hold the bitmap of the records",
                write: None,
            });
        }
        let runs = self.taken(size)?;
        Some(Found {
            runs,
            size,
            from: "the records, where they were found; their bitmap is counted from them, into free clusters",
            write: Some(bits),
        })
    }

    /// Which clusters are in use, by the records.
    fn cluster_bitmap(&mut self) -> Option<Found> {
        let geometry = self.survey.mft.geometry;
        let clusters = geometry.clusters();
        let size = clusters.per_up(64).times(8);
        if let Some(found) = self.told(own::BITMAP, kind::DATA, size) {
            return Some(Found { size, ..found });
        }
        let claimed = &self.survey.claimed;
        let mut head = vec![0_u8; size.min(512).size()];
        let upto = head.len().times(8).min(claimed.len());
        // What was found of others is in use as well.
        let found = self.given.clusters.iter().filter(|_| self.given.finding);
        let found = found.flat_map(|range| range.start.min(upto)..range.end.min(upto));
        for cluster in claimed.ones().take_while(|cluster| *cluster < upto).chain(found) {
            set_bit(&mut head, cluster.wide());
        }
        if size > BITMAP || head.iter().all(|byte| *byte == 0) {
            return None;
        }
        // The old one has all that is claimed, its own clusters, and little else. Where all bits are set it tells nothing:
        // a log that was never written looks like that, and on a full volume little else is different.
        let medium = self.medium;
        let blank = |cluster: u64| {
            let bytes = medium.lenient(geometry.place(cluster), clusters.per(8).size()).bytes;
            bytes.iter().all(|byte| *byte == 0xFF)
        };
        let fits = |cluster: u64, found: &[u8]| {
            let has = |(one, other): (&u8, &u8)| one & other == *one;
            let count = |bytes: &[u8]| bytes.iter().fold(0_u32, |sum, byte| sum.plus(byte.count_ones()));
            let found = found.part(0, head.len());
            head.iter().zip(found).all(has)
                && is_sparing(count(found).wide(), count(&head).wide())
                && !blank(cluster)
        };
        if let Some(runs) = self.found(size, &fits) {
            return Some(Found {
                runs,
                size,
                from: "clusters that no file has hold the bitmap",
                write: None,
            });
        }
        // Nothing says what is free but the records: its own clusters are taken from behind what they have.
        let runs = self.taken(size)?;
        let mut bits = vec![0_u8; size.size()];
        for cluster in claimed.ones() {
            set_bit(&mut bits, cluster.wide());
        }
        for run in &runs {
            (run.first.unwrap_or(0)..run.end()).for_each(|cluster| set_bit(&mut bits, cluster));
        }
        (clusters..size.times(8)).for_each(|cluster| set_bit(&mut bits, cluster));
        Some(Found { runs, size, from: "counted from the records, into free clusters", write: Some(bits) })
    }
}
