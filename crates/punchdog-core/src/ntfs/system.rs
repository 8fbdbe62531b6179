//! The file system's own files: what each must have, and whether it does.

use super::{
    attrdef, catalogue as c,
    index::root_fits,
    layout::{STANDARD_LEAST, kind, own},
    mft::ToldBy,
    record::{Head, attributes},
    records::{File, Flaw, Piece, Use},
    runs::{Mapping, decode},
    survey::Survey,
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    report::finding::Entry,
};

/// A record of the file system's own that is not in order.
pub(super) struct Fault {
    /// The record.
    pub(super) number: u32,
    /// The class.
    pub(super) entry: &'static Entry,
    /// What is so.
    pub(super) is: String,
    /// What should be so.
    pub(super) should: String,
}

/// True for what keeps hosts from a record of the file system's own, and is told with it.
pub(super) fn is_told(number: u32, flaw: &Flaw) -> bool {
    let refused = matches!(
        flaw,
        Flaw::Broken(_)
            | Flaw::NoStandard
            | Flaw::Runs(..)
            | Flaw::Sizes(..)
            | Flaw::Pieces(_)
            | Flaw::Fixups
    );
    number <= own::EXTEND && refused
}

/// The attributes that a record must have: type, name, and whether it must stand outside the record.
pub(super) fn needs(number: u32) -> &'static [(u32, &'static str, bool)] {
    match number {
        own::MFT => &[(kind::DATA, "", true), (kind::BITMAP, "", true)],
        own::MIRROR | own::LOG | own::ATTRDEF | own::BITMAP | own::BOOT | own::UPCASE => {
            &[(kind::DATA, "", true)]
        }
        own::VOLUME => &[(kind::VOLUME_INFO, "", false)],
        own::BADCLUS => &[(kind::DATA, "$Bad", true)],
        own::SECURE => &[
            (kind::DATA, "$SDS", true),
            (kind::INDEX_ROOT, "$SDH", false),
            (kind::INDEX_ROOT, "$SII", false),
        ],
        own::ROOT | own::EXTEND => &[(kind::INDEX_ROOT, "$I30", false)],
        _ => &[],
    }
}

/// What is wrong with records 0 to 11.
pub(super) fn faults(survey: &Survey) -> Vec<Fault> {
    let mut found = Vec::new();
    let last =
        if survey.about.version.is_some_and(|(major, _)| major < 3) { own::UPCASE } else { own::EXTEND };
    for number in own::MFT..=last {
        if number == own::SECURE && last < own::EXTEND {
            continue;
        }
        if let Some((is, should)) = fault(survey, number) {
            let entry = match number {
                own::VOLUME if is.contains("$VOLUME_INFORMATION") => &c::VOLUME_INFO,
                own::BITMAP => &c::BITMAP_GONE,
                own::LOG => &c::LOG_GONE,
                _ => &c::SYSTEM_RECORD,
            };
            found.push(Fault { number, entry, is, should });
        } else if let Some(file) = survey.records.live(number) {
            let expected = u16::try_from(number).unwrap_or(0).max(1);
            if file.sequence != expected {
                found.push(Fault {
                    number,
                    entry: &c::SEQUENCE,
                    is: format!("Its sequence number is {}.", file.sequence),
                    should: format!("It is {expected}, always."),
                });
            }
        }
    }
    found
}

fn fault(survey: &Survey, number: u32) -> Option<(String, String)> {
    let records = &survey.records;
    if number == own::MFT && survey.mft.told_by != ToldBy::Itself {
        let by = if survey.mft.told_by == ToldBy::Mirror { "Its copy in $MFTMirr does." } else { "" };
        return Some(("It does not say where the records stand.".into(), by.into()));
    }
    let counted = |bytes: u64| bytes.per(survey.mft.geometry.record().wide());
    let where_stand = match (counted(survey.mft.missing), counted(survey.mft.refound)) {
        (0, 0) => None,
        (0, found) => Some(format!("Where {found} of the records stand is told by these alone")),
        (unseen, _) => Some(format!("Where {unseen} of the records stand is not known")),
    };
    if let Some(told) = where_stand.filter(|_| number == own::MFT) {
        return Some((
            format!("{told}: a record that extends it is lost."),
            "Each record that its list names is there.".into(),
        ));
    }
    match records.uses.get(number.size()) {
        Some(Use::File) => {}
        Some(Use::Blank) => return Some(("It is blank.".into(), String::new())),
        Some(Use::Free) => return Some(("It says that it is free.".into(), "It is in use, always.".into())),
        Some(Use::Extends) => return Some(("It says that it extends another.".into(), String::new())),
        Some(Use::Noise) | None => return Some(("It is no record.".into(), String::new())),
    }
    if let Some((_, flaw)) = records.flaws.iter().find(|(of, flaw)| *of == number && is_told(number, flaw)) {
        return Some((words(flaw), String::new()));
    }
    let file = records.live(number)?;
    let name = own::NAMES.get(number.size()).copied().unwrap_or("?");
    if !records.names_of(file).iter().any(|other| &*other.text == name) {
        return Some((format!("It has no name {name}."), String::new()));
    }
    for (of, name, outside) in needs(number) {
        if *of == kind::VOLUME_INFO {
            if survey.about.version.is_none() {
                return Some(("It has no $VOLUME_INFORMATION.".into(), String::new()));
            }
            continue;
        }
        let there = records.stream_of(file, *of, name).first();
        if there.is_none_or(|piece| *outside == piece.resident || *outside && piece.clusters == 0) {
            return Some((format!("It has no {}{}.", super::check::title(*of), named(name)), String::new()));
        }
    }
    let folder = matches!(number, own::ROOT | own::EXTEND);
    let is_folder = file.notes.contains(super::records::Notes::FOLDER);
    (folder != is_folder).then(|| {
        let is = if is_folder { "It says that it is a folder." } else { "It says that it is no folder." };
        (is.into(), String::new())
    })
}

fn named(name: &str) -> String {
    if name.is_empty() { String::new() } else { format!(" called {name}") }
}

fn words(flaw: &Flaw) -> String {
    match flaw {
        Flaw::Broken(broken) => format!("At its byte {}, {}.", broken.at(), broken.words()),
        Flaw::NoStandard => "It has no $STANDARD_INFORMATION.".into(),
        Flaw::Runs(of, ..) => format!("The run list of its {} cannot be.", super::check::title(*of)),
        Flaw::Sizes(of, _) => format!("The sizes of its {} do not go together.", super::check::title(*of)),
        Flaw::Pieces(of) => format!("Of its {} a piece is missing.", super::check::title(*of)),
        _ => "Its fixups cannot be.".into(),
    }
}

/// The content of one of the file system's own files.
pub(super) fn content<'s>(
    survey: &'s Survey,
    number: u32,
    name: &str,
) -> Option<(&'s File, &'s Piece, Mapping)> {
    let file = survey.records.live(number)?;
    let pieces = survey.records.stream_of(file, kind::DATA, name);
    let first = pieces.first().filter(|piece| !piece.resident)?;
    Some((file, first, Mapping::of(&survey.records.all_runs(pieces), survey.mft.geometry.cluster())))
}

/// Where it begins.
pub(super) fn content_place(survey: &Survey, number: u32) -> u64 {
    content(survey, number, "").and_then(|(_, _, map)| map.place(0)).unwrap_or(0)
}

/// What $AttrDef holds.
pub(super) enum Table {
    /// The table that volumes have.
    Whole,
    /// This row is another.
    Damaged(usize),
    /// Its record has a finding of its own.
    NoRecord,
}

/// Looks at $AttrDef. Rows of types that are not known here may be there: versions differ.
pub(super) fn attrdef(medium: &dyn Medium, survey: &Survey) -> Table {
    let Some((_, first, map)) = content(survey, own::ATTRDEF, "") else { return Table::NoRecord };
    let length = first.size.min(map.len());
    if !(attrdef::ROW.wide()..=16_000).contains(&length) {
        return Table::Damaged(0);
    }
    let bytes = map.read(medium, 0, length.size());
    let known: Vec<&[u8]> = attrdef::TABLE.chunks(attrdef::ROW).collect();
    let before_3 = survey.about.version.is_some_and(|version| version < (3, 0));
    let padded = |name: &str| {
        let mut units = super::build::units(name);
        units.resize(128, 0);
        units
    };
    let mut before = 0;
    for (index, row) in bytes.chunks_exact(attrdef::ROW).enumerate() {
        let of = row.le32(128);
        if of == 0 {
            let blank = row.iter().all(|byte| *byte == 0) && index > 8;
            return if blank { Table::Whole } else { Table::Damaged(index) };
        }
        let usual = known.iter().find(|other| other.le32(128) == of);
        let named = |name: &str| row.part(0, 128) == padded(name);
        // Before version 3 the type 40h was another one.
        let older = of == kind::OBJECT_ID && before_3 && named("$VOLUME_VERSION");
        let same = older || usual.is_some_and(|other| other.part(0, 128) == row.part(0, 128));
        if of <= before || of.rest(16) != 0 || !same && of != 0xF0 && usual.is_some() && of <= 0xB0 {
            return Table::Damaged(index);
        }
        before = of;
    }
    Table::Whole
}

/// What $BadClus says.
pub(super) enum Bad {
    /// As long as the volume, and no cluster in it.
    Fits,
    /// So many clusters failed.
    Marked(u64),
    /// It counts so many clusters, and is so many bytes long.
    Length(u64, u64),
}

/// Looks at $BadClus.
pub(super) fn badclus(survey: &Survey) -> Bad {
    let Some(file) = survey.records.live(own::BADCLUS) else { return Bad::Fits };
    let pieces = survey.records.stream_of(file, kind::DATA, "$Bad");
    let Some(first) = pieces.first().filter(|piece| !piece.resident) else { return Bad::Fits };
    let runs = survey.records.all_runs(pieces);
    let clusters = runs.iter().fold(0_u64, |sum, run| sum.plus(run.length));
    let all = survey.mft.geometry.clusters();
    if clusters != all || first.size != survey.mft.geometry.place(all) {
        return Bad::Length(clusters, first.size);
    }
    let bad = runs.iter().filter(|run| run.first.is_some()).fold(0_u64, |sum, run| sum.plus(run.length));
    if bad > 0 { Bad::Marked(bad) } else { Bad::Fits }
}

/// True for bytes that are one of the file system's own records, whole, as far as hosts look. With a list, attributes that are
/// not in it may stand in other records.
pub(super) fn is_record(record: &[u8], number: u32, cluster: u64) -> bool {
    let head = Head::read(record);
    let (list, broken) = attributes(record);
    let name = own::NAMES.get(number.size()).copied().unwrap_or("?");
    let listed =
        |of: u32| list.iter().any(|a| a.kind() == kind::LIST) && !list.iter().any(|a| a.kind() == of);
    let named = listed(kind::NAME)
        || list
            .iter()
            .any(|a| a.kind() == kind::NAME && super::record::text(super::names::of_key(a.value())) == name);
    let has = |(of, name, outside): &(u32, &str, bool)| {
        let least = if *of == kind::VOLUME_INFO { 12 } else { 0 };
        listed(*of)
            || list.iter().any(|a| {
                let runs = || decode(a.runs(), a.clusters(), u64::MAX).1.is_none();
                let outer = !a.resident() && a.clusters() > 0 && runs();
                let whole = a.resident() && a.value().len() >= least || outer;
                a.kind() == *of && a.is_called(name) && a.resident() != *outside && whole
            })
    };
    let standard = list.iter().any(|a| a.kind() == kind::STANDARD && a.value().len() >= STANDARD_LEAST);
    let sizes = list.iter().all(|a| a.sizes_stand(cluster, u64::MAX) && (!a.sums() || a.has_room_for_sum()));
    let root =
        |a: &super::record::Attribute<'_>| a.kind() != kind::INDEX_ROOT || root_fits(a.value(), cluster);
    head.in_use()
        && head.base == 0
        && broken.is_none()
        && named
        && standard
        && sizes
        && list.iter().all(root)
        && head.sequence == u16::try_from(number).unwrap_or(0).max(1)
        && needs(number).iter().all(has)
}
