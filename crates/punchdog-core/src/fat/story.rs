//! What a technician wants to be told: what is wrong in a sentence, what is whole, the bytes that
//! show it, and the structures field by field.

use super::{
    boot::Boot,
    catalogue as c,
    folder::Flaws,
    fsinfo,
    geometry::{Believed, Origin},
    layout::FsInfo,
    survey::Survey,
    table::entry_place,
};
use crate::{
    arith::{Peek, Sat},
    cluster::chain::End,
    medium::Medium,
    report::{
        examination::{Examination, Exhibit},
        fields::{FieldGroup, FieldRow},
        finding::Weight,
        judgement::row,
        wording::counted,
    },
};

/// Fills in the story, what is intact, and the exhibits.
pub(super) fn tell(
    medium: &dyn Medium,
    believed: &Believed,
    boot: &Boot,
    survey: &mut Survey,
    out: &mut Examination,
) {
    let geometry = believed.geometry;
    let whole_tables = (0..geometry.tables).all(|copy| survey.links.copy_is_clean(copy))
        && survey.links.differing().next().is_none();
    let has = |code: &str| out.findings.iter().any(|f| f.entry.code == code);
    if believed.backup.is_some() && geometry.wide() && !has(c::BACKUP_DIFFERS.code) {
        out.intact.push("the backup boot sector".to_owned());
    }
    if whole_tables && !survey.tree.nodes.iter().any(|node| node.fault.is_some()) {
        out.intact.push(match geometry.tables {
            1 => "the allocation table".to_owned(),
            2 => "both allocation tables".to_owned(),
            many => format!("all {many} allocation tables"),
        });
    }
    out.count_files();
    let broken = out.tally.broken("damaged", ("file, folder or chain is", "files, folders or chains are"));
    out.tell(boot.gone.then_some(("boot sector", broken.is_empty() && whole_tables)), &broken);
    let masked = survey.tree.below_root().filter(|(_, n)| n.flaws.has(Flaws::OTHER_COPY)).count().wide();
    if masked > 0 {
        let many = counted(masked, "file or folder", "files and folders");
        let text = format!(
            " A host that reads only the first table, as Linux does, cannot read {many}; another copy has them whole."
        );
        out.story.push_str(&text);
    }
    out.likely = survey.hollow.map(crate::cluster::blank_end::Tail::likely).or_else(|| likely(boot, out));
    exhibits(medium, believed, boot, survey, out);
}

fn likely(boot: &Boot, out: &Examination) -> Option<String> {
    let has = |code: &str| out.findings.iter().any(|f| f.entry.code == code);
    let heavy = out.findings.iter().filter(|f| f.weight <= Weight::RisksFiles).count();
    let text = if boot.gone && heavy == 1 && has(c::BACKUP_MISSING.code) {
        "both boot sectors were overwritten or lost, and nothing else that can be seen"
    } else if boot.gone && heavy == 1 {
        "sector 0 alone was overwritten or lost (unplugged during a write, or a failing first block)"
    } else if has(c::COPIES_DIFFER.code) {
        "a write to the allocation table was cut off, or part of one copy was overwritten"
    } else if has(c::NOT_CLOSED.code) && (has(c::LOST_CHAIN.code) || has(c::FSINFO_FREE.code)) {
        "the medium was pulled out while a host was writing"
    } else if has(c::HIDDEN_TREE.code) {
        "malware hid the files; check the host as well"
    } else {
        return None;
    };
    Some(text.to_owned())
}

fn exhibits(medium: &dyn Medium, believed: &Believed, boot: &Boot, survey: &Survey, out: &mut Examination) {
    let geometry = believed.geometry;
    if boot.gone {
        out.exhibits.push(Exhibit::of_lost_sector(medium, "a boot sector starts EB ?? 90"));
    }
    let mut show = |place: &str, offset: u64, length: usize, note: String| {
        out.exhibits.push(Exhibit::of(medium, place, offset, length, note));
    };
    if !boot.gone {
        for field in boot.fields.iter().filter(|field| field.wrong() && field.entry.is_some()).take(4) {
            let is = field.primary.as_deref().map_or(String::new(), |bytes| field.text(bytes));
            let note = format!("{} is {is}; should be {}", field.field, field.text(&field.believed));
            show("boot sector", field.at.wide(), field.length, note);
        }
    }
    if let Some((place, _)) = believed.backup.filter(|_| boot.gone || believed.origin != Origin::Primary) {
        let name = format!("sector {}", place.per(geometry.sector_bytes.wide()));
        let note = if boot.stale_backup {
            "a boot sector of another format: its clusters or tables are not this volume's"
        } else {
            "complete; agrees with the tables and the root folder"
        };
        show(&name, place, 16, note.to_owned());
    }
    if boot.gone && (believed.backup.is_none() || boot.stale_backup) {
        let begins = |place: &u64| {
            let head = medium.lenient(*place, 16).bytes;
            let erased = head.iter().all(|byte| *byte == 0xFF);
            super::boot::media_is_valid(head.byte(0)) && head.byte(1) == 0xFF && !erased
        };
        let copies = (0..geometry.tables).map(|copy| geometry.table_offset(copy));
        match copies.clone().find(begins) {
            Some(table) => show("table", table, 16, "begins as an allocation table does".to_owned()),
            None => copies.for_each(|table| {
                show("table", table, 16, "a table begins with F8 or F0, and FF".to_owned());
            }),
        }
    }
    let mut shown = 0_u32;
    for node in &survey.tree.nodes {
        if let Some((cluster, end)) = node.fault.filter(|_| shown < 3) {
            shown = shown.plus(1);
            let (at, width) = entry_place(geometry.kind, cluster);
            let name = if node.name.is_empty() { "the root folder" } else { &node.name };
            let what = match end {
                End::Free => "free".to_owned(),
                End::Bad => "marked bad".to_owned(),
                End::Odd(value) => format!("{value:#x}, no cluster of this volume"),
                End::Loop(back) => format!("back to cluster {back}"),
                End::Unreadable => "not a table entry at all".to_owned(),
                End::Proper => "the end of the chain".to_owned(),
                End::Another(into) if node.flaws.has(Flaws::SKIPS) => {
                    format!("leads to cluster {into}, past others of the file")
                }
                End::Another(into) => format!("leads to cluster {into} of another file"),
            };
            show(
                "table",
                geometry.table_offset(0).plus(at),
                width.size(),
                format!("cluster {cluster} of {name}: {what}"),
            );
        }
    }
}

/// The boot sector and the FSInfo sector, field by field.
pub(super) fn fields(
    medium: &dyn Medium,
    believed: &Believed,
    boot: &Boot,
    survey: &Survey,
) -> Vec<FieldGroup> {
    let mut groups = vec![FieldGroup {
        which: "boot",
        title: "boot sector".to_owned(),
        offset: 0,
        backup_offset: believed.backup.as_ref().map(|(place, _)| *place),
        rows: boot.fields.iter().map(row).collect(),
    }];
    if let Some(place) = fsinfo::place(boot, &believed.geometry)
        && let Some(info) = FsInfo::read(&medium.lenient(place, 512).bytes)
    {
        let sector = believed.geometry.sector_bytes.wide();
        let second = believed.backup.as_ref().map(|(backup, _)| backup.plus(sector));
        let copy = second.and_then(|at| FsInfo::read(&medium.lenient(at, 512).bytes)).filter(FsInfo::signed);
        groups.push(FieldGroup {
            which: "fsinfo",
            title: "FSInfo sector".to_owned(),
            offset: place,
            backup_offset: second.filter(|_| copy.is_some()),
            rows: fsinfo_rows(&info, copy.as_ref(), survey),
        });
    }
    groups
}

fn fsinfo_rows(info: &FsInfo, copy: Option<&FsInfo>, survey: &Survey) -> Vec<FieldRow> {
    let fresh = FsInfo::with_counts(survey.free, survey.first_free.unwrap_or(u32::MAX));
    let hex = |value: u32| format!("{value:#010x}");
    let dec = |value: u32| if value == u32::MAX { "not known".to_owned() } else { value.to_string() };
    let mut rows = Vec::new();
    let mut add =
        |at, field, title, get: fn(&FsInfo) -> u32, show: &dyn Fn(u32) -> String, wrong: bool, why: &str| {
            rows.push(FieldRow {
                at,
                bytes: 4,
                field,
                title,
                primary: Some(show(get(info))),
                backup: copy.map(|c| show(get(c))),
                computed: Some(show(get(&fresh))),
                believed: show(if wrong { get(&fresh) } else { get(info) }),
                why: why.to_owned(),
                wrong,
            });
        };
    let bad = |get: fn(&FsInfo) -> u32| get(info) != get(&fresh);
    add(
        0,
        "FSI_LeadSig",
        "first signature",
        |i| i.lead.get(),
        &hex,
        bad(|i| i.lead.get()),
        "always the same",
    );
    add(
        484,
        "FSI_StrucSig",
        "second signature",
        |i| i.structure.get(),
        &hex,
        bad(|i| i.structure.get()),
        "always the same",
    );
    let free = info.free_count.get();
    let free_wrong = free != survey.free && free != u32::MAX;
    add(
        488,
        "FSI_Free_Count",
        "free clusters",
        |i| i.free_count.get(),
        &dec,
        free_wrong,
        "counted in the table",
    );
    let next = info.next_free.get();
    let next_wrong = next != u32::MAX && next > survey.geometry.last_cluster();
    add(
        492,
        "FSI_Nxt_Free",
        "where to look for free ones",
        |i| i.next_free.get(),
        &dec,
        next_wrong,
        "any cluster will do",
    );
    add(
        508,
        "FSI_TrailSig",
        "last signature",
        |i| i.trail.get(),
        &hex,
        bad(|i| i.trail.get()),
        "always the same",
    );
    rows
}
