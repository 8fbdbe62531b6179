//! The boot regions, their checksums, the flags, the table's first entries.

use super::Subject;
use crate::{
    arith::{Peek, Sat},
    cluster::former::{self, Live},
    exfat::{
        catalogue as c,
        geometry::Geometry,
        layout::{FLAG_ACTIVE, FLAG_DIRTY, FLAG_FAILURE, NOT_SUMMED, REGION_SECTORS},
        sets::Flaws,
        survey::Survey,
    },
    medium::Medium,
    report::{
        finding::{Finding, Sink},
        wording::counted,
    },
};

pub(super) fn check(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    fields(subject, sink);
    regions(subject, sink);
    flags(subject, sink);
    let geometry = subject.believed.geometry;
    if geometry.bytes() > subject.medium.len() {
        let there = subject.medium.len();
        sink.add(
            Finding::new(&c::BEYOND_IMAGE, c::BEYOND_IMAGE.title)
                .at(there, geometry.bytes().minus(there))
                .because(
                    format!("The image has {there} bytes."),
                    format!("The volume has {}.", geometry.bytes()),
                    "What lies in between cannot be read.",
                ),
        );
    }
    if let Some(tail) = subject.survey.hollow {
        let tree = &subject.survey.tree;
        let hit = || tree.below_root().filter(|(_, node)| node.flaws.contains(Flaws::HOLLOW));
        let paths = hit().take(2000).map(|(number, _)| tree.path(number));
        sink.add(paths.fold(tail.finding(&c::HOLLOW, subject.medium.len(), hit().count()), Finding::file));
    }
    for copy in 0..geometry.tables {
        let place = geometry.table_place(copy);
        if !crate::exfat::geometry::table_begins(&subject.medium.lenient(place, 8).bytes) {
            let bytes = subject.medium.lenient(place, 8).bytes;
            let is: Vec<String> = bytes.iter().map(|byte| format!("{byte:02X}")).collect();
            sink.add(Finding::new(&c::FAT_FIRST, c::FAT_FIRST.title).at(place, 8).because(
                format!("Table {copy} begins with {}.", is.join(" ")),
                "It should begin with F8 FF FF FF FF FF FF FF.",
                "",
            ));
        }
    }
}

fn fields(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let boot = subject.boot;
    if boot.gone {
        let bytes = boot.main.bytes.part(0, 16);
        let is: Vec<String> = bytes.iter().map(|byte| format!("{byte:02X}")).collect();
        sink.add(Finding::new(&c::BOOT_GONE, c::BOOT_GONE.title).at(0, 512).because(
            format!("Sector 0 begins with {} and has no usable field.", is.join(" ")),
            "It should begin with EB 76 90 and the name EXFAT.",
            if boot.backup_fits {
                "The backup region is whole."
            } else {
                "There is no backup that fits; the geometry was computed from what the volume holds."
            },
        ));
        return;
    }
    for field in boot.fields.iter().filter(|field| field.wrong()) {
        let Some(entry) = field.entry else { continue };
        let is = field.primary.as_deref().map_or(String::new(), |bytes| field.text(bytes));
        let should = field.text(&field.believed);
        sink.add(
            Finding::new(entry, format!("{}: {} is {is}, should be {should}", entry.title, field.field))
                .at(field.at.wide(), field.length.wide())
                .because(
                    format!("{} (boot sector, byte {}) is {is}.", field.field, field.at),
                    format!("It should be {should}: {}.", field.why),
                    "",
                ),
        );
    }
}

fn regions(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let (boot, sector) = (subject.boot, subject.believed.geometry.sector_bytes());
    if !boot.gone {
        for number in &boot.main.unsigned {
            let at = number.plus(1).times(sector).minus(4);
            sink.add(
                Finding::new(&c::EXTENDED, format!("extended boot sector {number} has lost its signature"))
                    .at(at, 4)
                    .because(
                        format!("Sector {number} does not end with 00 00 55 AA."),
                        "Sectors 1 to 8 do.",
                        "",
                    ),
            );
        }
        if let Some((at, value)) = boot.main.wrong {
            sink.add(
                Finding::new(&c::CHECKSUM, c::CHECKSUM.title).at(at, 4).at(0, sector.times(11)).because(
                    format!("Sector 11 holds {value:#010x}."),
                    format!("The checksum of sectors 0 to 10 is {:#010x}.", boot.main.sum),
                    if boot.backup_fits { "The backup region is whole." } else { "" },
                ),
            );
        }
    }
    let backup = &boot.backup;
    let main_wrong = boot.fields.iter().any(|field| field.wrong() && !NOT_SUMMED.contains(&field.at));
    let drifted = !boot.differing.is_empty() && boot.main.whole() && !main_wrong;
    if !backup.named {
        sink.add(Finding::new(&c::BACKUP_GONE, c::BACKUP_GONE.title).at(backup.place, sector).because(
            format!("The sector at byte {} is no exFAT boot sector.", backup.place),
            "Sectors 12 to 23 are a copy of sectors 0 to 11.",
            "If the main region is lost, the geometry has to be computed.",
        ));
    } else if drifted || backup.wrong.is_some() || !backup.unsigned.is_empty() {
        let first = boot.differing.first().copied().unwrap_or(0);
        let at = match (boot.differing.is_empty(), backup.wrong) {
            (true, Some((at, _))) => at,
            _ => backup.place.plus(first.wide()),
        };
        let sum = if backup.wrong.is_some() { "Its checksum does not fit." } else { "Its checksum fits." };
        let many = counted(boot.differing.len().wide(), "byte", "bytes");
        let finding = Finding::new(&c::BACKUP_DIFFERS, c::BACKUP_DIFFERS.title).at(at, 1);
        sink.add(finding.at(backup.place, REGION_SECTORS.times(sector)).because(
            if boot.differing.is_empty() {
                sum.to_owned()
            } else {
                format!("It differs from the main one in {many}. {sum}")
            },
            "It should be a copy.",
            "",
        ));
    }
}

fn flags(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let flags = subject.boot.flags;
    for (bit, entry, name) in
        [(FLAG_DIRTY, &c::DIRTY, "VolumeDirty"), (FLAG_FAILURE, &c::FAILURE, "MediaFailure")]
    {
        if flags & bit != 0 {
            sink.add(Finding::new(entry, entry.title).at(106, 1).because(
                format!("{name} is set in VolumeFlags (byte 106)."),
                "A host clears it when it is done.",
                "",
            ));
        }
    }
    if flags & FLAG_ACTIVE != 0 && subject.believed.geometry.tables == 1 {
        sink.add(Finding::new(&c::ACTIVE, c::ACTIVE.title).at(106, 1).because(
            "ActiveFat is set.",
            "There is one table.",
            "",
        ));
    }
    let percent = subject.boot.believed.percent;
    let counted = percent_in_use(subject.survey);
    if !subject.boot.gone && percent != 0xFF && percent <= 100 && percent != counted {
        sink.add(Finding::new(&c::PERCENT_STALE, c::PERCENT_STALE.title).at(112, 1).because(
            format!("PercentInUse is {percent}."),
            format!("Counted are {counted}."),
            "",
        ));
    }
}

/// The percentage of the clusters that are in use, rounded down (section 3.1.18).
pub(in crate::exfat) fn percent_in_use(survey: &Survey) -> u8 {
    let used = survey.used.count().wide().times(100).per(survey.geometry.clusters.wide().max(1));
    u8::try_from(used.min(100)).unwrap_or(100)
}

/// Folders that an earlier formatting left.
pub(in crate::exfat) fn older_volume(
    medium: &dyn Medium,
    geometry: &Geometry,
    survey: &Survey,
) -> Option<Finding> {
    let nodes = survey.tree.nodes.len().plus(survey.tree.lost.len());
    let is_used = |place: u64| {
        let cluster = place.minus(geometry.heap_place()).per(geometry.cluster_bytes().max(1)).plus(2);
        survey.claimed.contains(cluster.size())
    };
    let own = |sector: &[u8]| former::by_first_byte(sector, former::FILE_ENTRY);
    let (from, cluster) = (geometry.heap_place(), geometry.cluster_bytes());
    let live = Live { from, cluster, nodes, is_used: &is_used, own: &own };
    Some(former::look(medium, &live)?.finding(&c::FORMER))
}
