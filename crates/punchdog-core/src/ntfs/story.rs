//! What a technician wants to be told: what is wrong in a sentence, what is whole, the bytes that show it, and the
//! structures field by field.

use super::{
    boot::Boot,
    catalogue as c,
    geometry::Believed,
    layout::{kind, own},
    mirror,
    record::{Head, attributes},
    survey::Survey,
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    report::{
        examination::{Examination, Exhibit},
        fields::{FieldGroup, FieldRow},
        finding::Weight,
        judgement::row,
    },
};

/// Fills in the story, what is intact, and the exhibits.
pub(super) fn tell(
    medium: &dyn Medium,
    believed: &Believed,
    boot: &Boot,
    survey: &Survey,
    out: &mut Examination,
) {
    let has = |code: &str| out.findings.iter().any(|f| f.entry.code == code);
    if boot.copy_fits {
        out.intact.push("the copy of the boot sector".to_owned());
    }
    let records = [c::SYSTEM_RECORD.code, c::SEQUENCE.code, c::BITMAP_GONE.code, c::LOG_GONE.code];
    if !records.iter().any(|code| has(code)) {
        out.intact.push("the file system's own records".to_owned());
    }
    let bitmaps = [c::CLUSTERS_FREE.code, c::CLUSTERS_USED.code, c::RECORD_FREE.code, c::RECORD_USED_UP.code];
    if survey.bitmap.is_some() && survey.in_use.is_some() && !bitmaps.iter().any(|code| has(code)) {
        out.intact.push("both bitmaps".to_owned());
    }
    out.count_files();
    let broken = out.tally.broken("damaged or out of reach", ("file or folder is", "files or folders are"));
    out.tell(boot.gone.then_some(("boot sector", broken.is_empty() && heavy(out) <= 1)), &broken);
    let foreign = boot.gone && {
        let first = medium.lenient(0, 512).bytes;
        !first.iter().all(|byte| matches!(byte, 0)) && !first.iter().all(|byte| *byte == 0xFF)
    };
    let why = likely(boot, out);
    out.likely = match (foreign, why) {
        (true, Some(why)) if heavy(out) > 1 => {
            Some(format!("something else was written over the beginning of the volume; besides, {why}"))
        }
        (true, _) => Some("something else was written over the beginning of the volume".to_owned()),
        (false, why) => why.map(str::to_owned),
    };
    exhibits(medium, believed, boot, out);
}

/// Findings that put files at risk, or more.
fn heavy(out: &Examination) -> usize {
    out.findings.iter().filter(|f| f.weight <= Weight::RisksFiles).count()
}

fn likely(boot: &Boot, out: &Examination) -> Option<&'static str> {
    let has = |code: &str| out.findings.iter().any(|f| f.entry.code == code);
    if boot.gone && heavy(out) == 1 && has(c::COPY_GONE.code) {
        Some("both boot sectors were overwritten or lost, and nothing else that can be seen")
    } else if boot.gone && heavy(out) == 1 {
        Some(
            "sector 0 alone was overwritten or lost (unplugged during a write, a failing first block, or a program that wrote there)",
        )
    } else if has(c::ASLEEP.code) {
        Some(
            "the computer was hibernated, or shut down for a fast start, and not switched off: wake it and shut it down fully where that can be done",
        )
    } else if has(c::RECORD_TORN.code) || has(c::INDEX_TORN.code) {
        Some("a write was cut off (power lost, or unplugged)")
    } else if has(c::DIRTY.code) || has(c::LOG_IN_USE.code) {
        Some("the medium was pulled out, or the host lost power, while it was in use")
    } else {
        None
    }
}

fn exhibits(medium: &dyn Medium, believed: &Believed, boot: &Boot, out: &mut Examination) {
    let geometry = believed.geometry;
    let mut shown: Vec<Exhibit> = Vec::new();
    if boot.gone {
        shown.push(Exhibit::of_lost_sector(medium, "an NTFS boot sector starts EB 52 90"));
    }
    let mut show = |place: &str, offset: u64, length: usize, note: String| {
        shown.push(Exhibit::of(medium, place, offset, length, note));
    };
    if boot.gone {
        if boot.copy_fits {
            show("last sector", boot.place, 16, "the copy: complete; agrees with the records".to_owned());
        }
        if let Some(evidence) = &believed.evidence {
            show(
                "$MFT",
                geometry.place(geometry.mft),
                16,
                if evidence.by_files.is_some() {
                    "the first records and their copies are gone; where they stood is not known".to_owned()
                } else {
                    format!(
                        "record 0: it says that it stands in cluster {}; {} of the first twelve records bear it out",
                        evidence.mft,
                        evidence.agree.min(12)
                    )
                },
            );
        }
    } else {
        for field in boot.fields.iter().filter(|field| field.wrong() && field.entry.is_some()).take(4) {
            let is = field.primary.as_deref().map_or(String::new(), |bytes| field.text(bytes));
            show(
                "boot sector",
                field.at.wide(),
                field.length,
                format!("{} is {is}; should be {}", field.field, field.text(&field.believed)),
            );
        }
    }
    let heavy =
        out.findings.iter().filter(|f| f.weight <= Weight::RisksFiles && !f.entry.code.contains("boot"));
    // One of a kind shows what is wrong with all of them.
    let mut kinds: Vec<&str> = Vec::new();
    for finding in heavy {
        let Some(extent) = finding.extents.first().filter(|_| kinds.len() < 4) else { continue };
        if finding.is.is_empty() || kinds.contains(&finding.entry.code) {
            continue;
        }
        kinds.push(finding.entry.code);
        let note = finding.is.trim_end_matches('.').to_owned();
        let bytes = medium.lenient(extent.offset, 16).bytes;
        let code = finding.entry.code.trim_start_matches("ntfs/");
        let place = code.split('-').next().unwrap_or(code).to_owned();
        shown.push(Exhibit { place, offset: extent.offset, bytes, note });
    }
    out.exhibits.extend(shown);
}

/// The boot sector, and record 0 against its copy, field by field.
pub(super) fn fields(
    medium: &dyn Medium,
    believed: &Believed,
    boot: &Boot,
    survey: &Survey,
) -> Vec<FieldGroup> {
    let rows: Vec<FieldRow> = boot.fields.iter().map(row).collect();
    let copy = boot.copy.as_ref().map(|_| boot.place).or(boot.elsewhere);
    let mut groups = vec![FieldGroup {
        which: "boot",
        title: "boot sector".to_owned(),
        offset: 0,
        backup_offset: copy,
        rows,
    }];
    groups.push(record_zero(medium, believed, survey));
    groups
}

#[expect(clippy::too_many_lines, reason = "one row after the other")]
fn record_zero(medium: &dyn Medium, believed: &Believed, survey: &Survey) -> FieldGroup {
    let geometry = believed.geometry;
    let record = survey.mft.read(medium, own::MFT);
    let copy = mirror::copy_of(medium, survey, own::MFT);
    let value = |record: Option<&Vec<u8>>, read: &dyn Fn(&[u8]) -> Option<String>| {
        record.filter(|record| record.part(0, 4) == b"FILE").and_then(|record| read(record))
    };
    let mut rows = Vec::new();
    let mut add = |at: u64,
                   bytes: u64,
                   field: &'static str,
                   title: &'static str,
                   read: &dyn Fn(&[u8]) -> Option<String>,
                   computed: Option<String>,
                   why: &str| {
        let primary = value(record.as_ref(), read);
        let backup = value(copy.as_ref(), read);
        let believed =
            computed.clone().or_else(|| primary.clone()).or_else(|| backup.clone()).unwrap_or_default();
        let wrong = primary.as_ref() != Some(&believed);
        rows.push(FieldRow {
            at,
            bytes,
            field,
            title,
            primary,
            backup,
            computed,
            believed,
            why: why.to_owned(),
            wrong,
        });
    };
    let number = |read: fn(&Head) -> u64| move |record: &[u8]| Some(read(&Head::read(record)).to_string());
    add(
        0,
        4,
        "Signature",
        "signature",
        &|record| Some(String::from_utf8_lossy(record.part(0, 4)).into_owned()),
        Some("FILE".into()),
        "always the same",
    );
    add(
        16,
        2,
        "SequenceNumber",
        "sequence number",
        &number(|head| u64::from(head.sequence)),
        Some("1".into()),
        "always the same",
    );
    add(
        22,
        2,
        "Flags",
        "flags: 1 in use",
        &number(|head| u64::from(head.flags)),
        Some("1".into()),
        "always the same",
    );
    add(
        28,
        4,
        "BytesAllocated",
        "bytes of the record",
        &number(|head| head.allocated.wide()),
        Some(geometry.record().to_string()),
        "the size that records have",
    );
    add(24, 4, "BytesInUse", "bytes in use", &number(|head| head.used.wide()), None, "as it stands");
    let of = |which: u32, read: fn(&super::record::Attribute<'_>) -> u64| {
        move |record: &[u8]| {
            let (list, _) = attributes(record);
            let found = list.iter().find(|a| a.kind() == which && a.name().is_empty() && !a.resident())?;
            Some(read(found).to_string())
        }
    };
    let at = |which: u32, field: usize| {
        let record = record.as_deref().unwrap_or_default();
        let (list, _) = attributes(record);
        let found = list.iter().find(|a| a.kind() == which && a.name().is_empty() && !a.resident());
        found.map_or(0, |found| found.at.plus(field).wide())
    };
    let [first_at, size_at, bitmap_at] = [at(kind::DATA, 64), at(kind::DATA, 48), at(kind::BITMAP, 64)];
    let first = |found: &super::record::Attribute<'_>| {
        let (runs, _) = super::runs::decode(found.runs(), found.clusters(), u64::from(u32::MAX));
        runs.first().and_then(|run| run.first).unwrap_or(0)
    };
    add(
        first_at,
        0,
        "$DATA.FirstCluster",
        "first cluster of the records",
        &of(kind::DATA, first),
        Some(geometry.mft.to_string()),
        "where they stand",
    );
    add(
        size_at,
        8,
        "$DATA.Size",
        "bytes of all records",
        &of(kind::DATA, |found: &super::record::Attribute<'_>| found.size()),
        None,
        "as it stands",
    );
    add(
        bitmap_at,
        0,
        "$BITMAP.FirstCluster",
        "first cluster of their bitmap",
        &of(kind::BITMAP, first),
        None,
        "as it stands",
    );
    FieldGroup {
        which: "record-0",
        title: "record 0, $MFT, and its copy in $MFTMirr".to_owned(),
        offset: geometry.place(geometry.mft),
        backup_offset: Some(geometry.place(geometry.mirror)),
        rows,
    }
}
