//! What a technician wants to be told: what is wrong in a sentence, what is whole, the bytes that
//! show it, and the structures field by field.

use super::{
    Flaws,
    boot::{Boot, region},
    catalogue as c,
    geometry::Believed,
    layout::{BITMAP, ENTRY, UPCASE, boot_checksum, table_checksum},
    survey::Survey,
    tree::Node,
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
    let has = |code: &str| out.findings.iter().any(|f| f.entry.code == code);
    if boot.backup_fits {
        out.intact.push("the backup boot region".to_owned());
    }
    if survey.bitmap.usable
        && !has(c::USED_BUT_FREE.code)
        && !has(c::LOST_CLUSTERS.code)
        && !has(c::BITMAP_ENTRY.code)
    {
        out.intact.push("the allocation bitmap".to_owned());
    }
    let upcase = [c::UPCASE_MISSING.code, c::UPCASE_ENTRY.code, c::UPCASE_DATA.code, c::UPCASE_CHECKSUM.code];
    if !upcase.iter().any(|code| has(code)) {
        out.intact.push("the up-case table".to_owned());
    }
    out.count_files();
    let broken = out.tally.broken("damaged", ("file, folder or chain is", "files, folders or chains are"));
    out.tell(boot.gone.then_some(("main boot sector", broken.is_empty())), &broken);
    let hollow = survey.hollow.map(crate::cluster::blank_end::Tail::likely);
    out.likely = hollow.or_else(|| likely(boot, out).map(str::to_owned));
    exhibits(medium, believed, boot, survey, out);
}

fn likely(boot: &Boot, out: &Examination) -> Option<&'static str> {
    let has = |code: &str| out.findings.iter().any(|f| f.entry.code == code);
    let heavy = out.findings.iter().filter(|f| f.weight <= Weight::RisksFiles).count();
    if boot.gone && heavy == 1 {
        Some(
            "the first sectors alone were overwritten or lost (unplugged during a write, or a failing first block)",
        )
    } else if has(c::CHECKSUM.code) && has(c::DIRTY.code) {
        Some(
            "something wrote to the first sectors without computing their checksum anew; besides, the medium was pulled out or lost power during a write",
        )
    } else if has(c::CHECKSUM.code) {
        Some("something wrote to the first sectors without computing their checksum anew")
    } else if has(c::DIRTY.code) && (has(c::LOST_CLUSTERS.code) || has(c::USED_BUT_FREE.code)) {
        Some("the medium was pulled out, or the recorder lost power, while it was writing")
    } else if has(c::FAILURE.code) {
        Some("the medium is failing: make a full image before anything else")
    } else {
        None
    }
}

fn exhibits(
    medium: &dyn Medium,
    believed: &Believed,
    boot: &Boot,
    survey: &mut Survey,
    out: &mut Examination,
) {
    let geometry = believed.geometry;
    let mut shown: Vec<Exhibit> = Vec::new();
    if boot.gone {
        shown.push(Exhibit::of_lost_sector(medium, "an exFAT boot sector starts EB 76 90"));
    }
    let mut show = |place: &str, offset: u64, length: usize, note: String| {
        shown.push(Exhibit::of(medium, place, offset, length, note));
    };
    if boot.gone {
        if boot.backup_fits {
            show(
                "sector 12",
                boot.backup.place,
                16,
                "the backup: complete; agrees with the table and the root folder".to_owned(),
            );
        } else {
            show("table", geometry.table_place(0), 16, "begins as a table does".to_owned());
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
        if let Some((at, value)) = boot.main.wrong {
            show("sector 11", at, 8, format!("holds {value:#010x}; the checksum is {:#010x}", boot.main.sum));
        }
    }
    let content = survey.content(medium, 0);
    let root =
        |index: u32| content.place(index).unwrap_or_else(|| geometry.cluster_place(geometry.root_cluster));
    let has = |code: &str| out.findings.iter().any(|f| f.entry.code == code);
    if has(c::BITMAP_MISSING.code) || has(c::UPCASE_MISSING.code) {
        for index in 0..content.entries().min(4) {
            let kind = content.bytes.byte(index.size().times(ENTRY));
            let what = match kind {
                BITMAP => "the bitmap",
                UPCASE => "the up-case table",
                0x83 => "the label",
                0x85 => "a file",
                0 => "the end mark",
                _ if kind & 0x80 == 0 => "an unused entry",
                _ => "something else",
            };
            show("root folder", root(index), 16, format!("entry {index}: type {kind:02X}, {what}"));
        }
    }
    for (owned, code, name) in [
        (&survey.bitmap, c::BITMAP_ENTRY.code, "bitmap"),
        (&survey.upcase, c::UPCASE_ENTRY.code, "up-case table"),
    ] {
        if let Some((index, owner)) = owned.entry.filter(|_| has(code)) {
            show(
                "root folder",
                root(index).plus(20),
                12,
                format!("the {name}'s entry: cluster {}, {} bytes", owner.first, owner.length),
            );
        }
    }
    if let Some((index, owner)) =
        survey.upcase.entry.filter(|_| has(c::UPCASE_CHECKSUM.code) || has(c::UPCASE_DATA.code))
    {
        show(
            "root folder",
            root(index).plus(4),
            4,
            format!(
                "the up-case table's checksum: {:#010x}; it has {:#010x}",
                owner.checksum,
                table_checksum(&survey.upcase.bytes)
            ),
        );
    }
    for node in survey.tree.nodes.iter().filter(|node| node.fault.is_some()).take(3) {
        let Some((cluster, end)) = node.fault else { continue };
        let name = if node.name.is_empty() { "the root folder" } else { &node.name };
        let what = stands(node, end);
        show(
            "table",
            geometry.table_place(0).plus(cluster.wide().times(4)),
            4,
            format!("cluster {cluster} of {name}: {what}"),
        );
    }
    out.exhibits.extend(shown);
}

/// The boot sector and what the root names, field by field.
#[expect(clippy::too_many_lines, reason = "one row after the other")]
pub(super) fn fields(believed: &Believed, boot: &Boot, survey: &Survey) -> Vec<FieldGroup> {
    let geometry = believed.geometry;
    let mut rows: Vec<FieldRow> = boot.fields.iter().map(row).collect();
    let hex = |value: u32| format!("{value:#010x}");
    let stored = boot.main.wrong.map_or(boot.main.sum, |(_, value)| value);
    let like = (!boot.gone).then_some(boot.main.bytes.as_slice());
    let size = geometry.sector_bytes().size();
    let right = boot_checksum(&region(&boot.believed, &geometry, like), size);
    rows.push(FieldRow {
        at: geometry.sector_bytes().times(11),
        bytes: 4,
        field: "BootChecksum",
        title: "checksum of sectors 0 to 10",
        primary: Some(hex(stored)),
        backup: boot.backup.named.then(|| hex(boot.backup.wrong.map_or(boot.backup.sum, |(_, value)| value))),
        computed: Some(hex(right)),
        believed: hex(right),
        why: "computed from sectors 0 to 10 as believed".to_owned(),
        wrong: stored != right || boot.main.wrong.is_some(),
    });
    let mut groups = vec![FieldGroup {
        which: "boot",
        title: "main boot sector".to_owned(),
        offset: 0,
        backup_offset: boot.backup.named.then_some(boot.backup.place),
        rows,
    }];
    let mut root: Vec<FieldRow> = Vec::new();
    let mut add = |field, title, at: u64, bytes: u64, is: Option<String>, should: String, why: &str| {
        root.push(FieldRow {
            at,
            bytes,
            field,
            title,
            wrong: is.as_ref() != Some(&should),
            primary: is,
            backup: None,
            computed: Some(should.clone()),
            believed: should,
            why: why.to_owned(),
        });
    };
    let place = |index: Option<u32>| index.map_or(0, |index| index.wide().times(ENTRY.wide()));
    let bitmap = survey.bitmap.entry;
    let at = place(bitmap.map(|(index, _)| index));
    let first = survey.bitmap.clusters.first().copied().unwrap_or(0);
    add(
        "AllocationBitmap.FirstCluster",
        "bitmap, first cluster",
        at.plus(20),
        4,
        bitmap.map(|(_, o)| o.first.to_string()),
        first.to_string(),
        "where a bitmap stands",
    );
    add(
        "AllocationBitmap.DataLength",
        "bitmap, bytes",
        at.plus(24),
        8,
        bitmap.map(|(_, o)| o.length.to_string()),
        geometry.bitmap_bytes().to_string(),
        "one bit a cluster",
    );
    let upcase = survey.upcase.entry;
    let at = place(upcase.map(|(index, _)| index));
    let first = survey.upcase.clusters.first().copied().unwrap_or(0);
    add(
        "UpcaseTable.TableChecksum",
        "up-case table, checksum",
        at.plus(4),
        4,
        upcase.map(|(_, o)| hex(o.checksum)),
        hex(table_checksum(&survey.upcase.bytes)),
        "computed from the table",
    );
    add(
        "UpcaseTable.FirstCluster",
        "up-case table, first cluster",
        at.plus(20),
        4,
        upcase.map(|(_, o)| o.first.to_string()),
        first.to_string(),
        "where a table stands",
    );
    add(
        "UpcaseTable.DataLength",
        "up-case table, bytes",
        at.plus(24),
        8,
        upcase.map(|(_, o)| o.length.to_string()),
        survey.upcase.bytes.len().to_string(),
        "the table's length",
    );
    groups.push(FieldGroup {
        which: "root",
        title: "entries of the root folder".to_owned(),
        offset: geometry.cluster_place(geometry.root_cluster),
        backup_offset: None,
        rows: root,
    });
    groups
}

/// What stands in the entry of the table where a chain goes wrong.
fn stands(node: &Node, end: End) -> String {
    match end {
        End::Free => "empty".to_owned(),
        End::Bad => "marked bad".to_owned(),
        End::Odd(value) => format!("{value:#x}, no cluster of this volume"),
        End::Loop(back) => format!("back to cluster {back}"),
        End::Unreadable => "cannot be read".to_owned(),
        End::Proper => "the end of the chain".to_owned(),
        End::Another(into) if node.flaws.contains(Flaws::ENDS_EARLY) => {
            format!("leads to cluster {into}, which holds no folder")
        }
        End::Another(into) if node.flaws.contains(Flaws::SKIPS) => {
            format!("leads to cluster {into}, past others of the file")
        }
        End::Another(into) => format!("leads to cluster {into} of another file"),
    }
}
