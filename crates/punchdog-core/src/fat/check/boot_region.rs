//! Faults of the boot sector, its backup, the FSInfo sector, and the tables as a whole.

use super::Subject;
use crate::{
    arith::{Peek, Sat},
    cluster::former::{self, Live, Own},
    fat::{
        catalogue as c,
        fsinfo::{self, Count},
        geometry::{Geometry, Origin},
        survey::Survey,
        table::{entry_place, state_bits},
    },
    medium::Medium,
    report::{
        finding::{Finding, Sink, Weight},
        wording::counted,
    },
};
use zerocopy::IntoBytes;

pub(super) fn check(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    boot_sector(subject, sink);
    backup(subject, sink);
    length(subject, sink);
    blank_end(subject, sink);
    free_counts(subject, sink);
    first_entries(subject, sink);
    copies(subject, sink);
    if subject.survey.bad > 0 {
        let bad = subject.survey.bad;
        sink.add(Finding::new(&c::BAD_CLUSTERS, format!("{bad} clusters are marked bad")).because(
            format!("The table marks {bad} clusters as unreadable."),
            "A sound medium has none.",
            "If the number grows, the medium is failing.",
        ));
    }
}

fn boot_sector(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let boot = subject.boot;
    if boot.gone {
        let first = subject.medium.lenient(0, 16).bytes;
        let bytes: Vec<String> = first.iter().map(|byte| format!("{byte:02X}")).collect();
        let whence = match (boot.from_backup, subject.believed.origin) {
            (true, _) => "Its backup fits the volume.",
            _ if boot.stale_backup => {
                "There is a backup, but of another format: its clusters or tables are not this volume's. The geometry was computed from what the volume holds."
            }
            (false, Origin::Derived | Origin::Corrected(_)) => {
                "There is no backup; the geometry was computed from what the volume holds."
            }
            (false, _) => "The geometry is known from the rest of the volume.",
        };
        sink.add(Finding::new(&c::BOOT_GONE, "sector 0 holds no boot sector").at(0, 512).because(
            format!("Sector 0 begins with {} and has no usable field.", bytes.join(" ")),
            "A boot sector begins with EB ?? 90 or E9 and ends with 55 AA.",
            whence,
        ));
        return;
    }
    for field in boot.fields.iter().filter(|field| field.wrong()) {
        let Some(entry) = field.entry else { continue };
        let standing = field.primary.as_deref().unwrap_or(&[]);
        let (is, should) = (field.text(standing), field.text(&field.believed));
        let at = field.at.wide();
        if field.field == "BS_Reserved1" {
            flags(standing.byte(0), at, sink);
            continue;
        }
        let mut finding =
            Finding::new(entry, format!("{}: {} is {is}, should be {should}", entry.title, field.field))
                .at(at, field.length.wide())
                .because(
                    format!("{} (boot sector, byte {at}) is {is}.", field.field),
                    format!("It should be {should}: {}.", field.why),
                    "",
                );
        // A second, unused field of a pair is untidy; the one that counts is not.
        let harmless =
            matches!(field.field, "BPB_TotSec16" | "BPB_TotSec32") && field.believed.iter().all(|b| *b == 0);
        if harmless {
            finding = finding.weighing(Weight::RisksFiles);
        }
        sink.add(finding);
    }
}

fn flags(standing: u8, at: u64, sink: &mut dyn Sink) {
    if standing & 1 != 0 {
        sink.add(
            Finding::new(&c::NOT_CLOSED, "the boot sector says that the volume was not closed")
                .at(at, 1)
                .because(
                    format!("Bit 0 of the state flags (byte {at}) is set."),
                    "A host clears it when it closes the volume.",
                    "What was written last may be incomplete.",
                ),
        );
    }
    if standing & 2 != 0 {
        sink.add(
            Finding::new(&c::ERRORS_MET, "the boot sector says that errors were met").at(at, 1).because(
                format!("Bit 1 of the state flags (byte {at}) is set."),
                "It is clear on a sound medium.",
                "A host could not read or write some place of the medium.",
            ),
        );
    }
}

fn backup(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let geometry = &subject.believed.geometry;
    let place =
        u64::from(subject.boot.believed.tail32().backup_sector.get()).times(geometry.sector_bytes.wide());
    if !geometry.wide() || place == 0 {
        return;
    }
    let found = subject.believed.backup.as_ref().filter(|(at, _)| *at == place);
    let Some((_, copy)) = found else {
        sink.add(
            Finding::new(&c::BACKUP_MISSING, format!("there is no backup boot sector at byte {place}"))
                .at(place, 512)
                .because(
                    format!("The sector at byte {place} is no FAT32 boot sector."),
                    "FAT32 keeps a copy of the boot sector there.",
                    "If sector 0 is lost, the geometry has to be computed.",
                ),
        );
        return;
    };
    let believed = subject.boot.believed;
    let differing = differences(believed.as_bytes(), copy.as_bytes());
    if let Some(first) = differing.first() {
        let mut finding = Finding::new(
            &c::BACKUP_DIFFERS,
            format!("the backup boot sector differs in {}", counted(differing.len().wide(), "byte", "bytes")),
        )
        .because(
            format!("The first difference is at byte {first} of the sector."),
            "It should be a copy of the boot sector.",
            "Restoring it would bring a wrong value back.",
        );
        for byte in differing.iter().take(16) {
            finding = finding.at(place.plus(byte.wide()), 1);
        }
        sink.add(finding);
    }
}

/// The bytes in which a backup must agree: the BPB and what identifies the volume, not the boot
/// code, and not the state flags, which hosts keep in sector 0 alone.
pub(crate) fn differences(believed: &[u8], copy: &[u8]) -> Vec<usize> {
    (11..90).chain(510..512).filter(|at| *at != 65 && believed.byte(*at) != copy.byte(*at)).collect()
}

fn length(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let geometry = subject.believed.geometry;
    let (claimed, there) = (geometry.bytes(), subject.medium.len());
    if claimed <= there {
        return;
    }
    let mut finding =
        Finding::new(&c::BEYOND_IMAGE, format!("the volume has {claimed} bytes, the image {there}"))
            .at(there, claimed.minus(there))
            .because(
                format!("The volume is {} bytes longer than the image.", claimed.minus(there)),
                "The image should hold the whole volume.",
                "What lies in the missing part cannot be had from this image.",
            );
    let cut: Vec<u32> = subject
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.flaws.has(crate::fat::folder::Flaws::BEYOND))
        .map(|(number, _)| number)
        .collect();
    for number in cut.into_iter().take(2000) {
        finding = finding.file(subject.survey.tree.path(number));
    }
    sink.add(finding);
}

/// A blank end of the medium where files should stand.
fn blank_end(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = &subject.survey;
    let Some(tail) = survey.hollow else { return };
    let hit =
        || survey.tree.below_root().filter(|(_, node)| node.flaws.has(crate::fat::folder::Flaws::HOLLOW));
    let paths = hit().take(2000).map(|(number, _)| survey.tree.path(number));
    sink.add(paths.fold(tail.finding(&c::HOLLOW, subject.medium.len(), hit().count()), Finding::file));
}

/// Folders that an earlier formatting left.
pub(in crate::fat) fn older_volume(
    medium: &dyn Medium,
    geometry: &Geometry,
    survey: &Survey,
) -> Option<Finding> {
    let each = geometry.cluster_bytes().wide();
    let is_used = |place: u64| {
        let cluster = place.minus(geometry.data_offset()).per(each).plus(2);
        survey.claimed.contains(cluster.size())
    };
    let nodes = survey.tree.nodes.len().plus(survey.tree.lost.len());
    let own = |sector: &[u8]| own_place(geometry, sector);
    let (from, cluster) = (geometry.data_offset(), each);
    let live = Live { from, cluster, nodes, is_used: &is_used, own: &own };
    Some(former::look(medium, &live)?.finding(&c::FORMER))
}

/// Where a folder that begins so would stand in this volume.
pub(in crate::fat) fn own_place(geometry: &Geometry, sector: &[u8]) -> Own {
    if former::begins_with_dots(sector) {
        Own::At(geometry.cluster_offset(former::says_cluster(sector, geometry.wide()).narrow()))
    } else {
        Own::Never
    }
}

fn free_counts(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let Some(place) = fsinfo::place(subject.boot, &subject.believed.geometry) else { return };
    for wrong in fsinfo::judge(subject.medium, place, subject.survey) {
        match wrong {
            Count::Signature { at } => sink.add(
                Finding::new(&c::FSINFO_SIGNATURE, "the FSInfo sector has lost a signature")
                    .at(place.plus(at), 4)
                    .because(
                        format!("The signature at byte {at} of the FSInfo sector is not there."),
                        "52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508.",
                        "Hosts take its counts for unknown.",
                    ),
            ),
            Count::Free { is, should } => sink.add(
                Finding::new(&c::FSINFO_FREE, format!("the free count is {is}, counted are {should}"))
                    .at(place.plus(488), 4)
                    .because(
                        format!("FSInfo gives {is} free clusters."),
                        format!("The table has {should}."),
                        "Hosts show a wrong amount of free space.",
                    ),
            ),
            Count::Next { is, .. } => sink.add(
                Finding::new(&c::FSINFO_NEXT, format!("the next free cluster is given as {is}"))
                    .at(place.plus(492), 4)
                    .because(
                        format!("FSInfo names cluster {is}."),
                        format!("The volume has clusters 2 to {}.", subject.believed.geometry.last_cluster()),
                        "",
                    ),
            ),
        }
    }
}

fn first_entries(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let geometry = subject.believed.geometry;
    for copy in 0..geometry.tables {
        let should = fsinfo::first_entries(&geometry, subject.boot.believed.media);
        for (cluster, entry) in [(0, &c::MEDIA_ENTRY), (1, &c::END_ENTRY)] {
            let (at, width) = entry_place(geometry.kind, cluster);
            let place = geometry.table_offset(copy).plus(at);
            let Some(value) = subject.survey.links.raw(subject.medium, copy, cluster) else { continue };
            let wanted = if cluster == 0 { should.0 } else { should.1 };
            let flags = if cluster == 1 { state_bits(geometry.kind).map_or(0, |(a, b)| a | b) } else { 0 };
            if value | flags != wanted | flags {
                sink.add(
                    Finding::new(entry, format!("{} (copy {copy})", entry.title)).at(place, width).because(
                        format!("Entry {cluster} of copy {copy} is {value:#x}."),
                        format!("It should be {wanted:#x}."),
                        "",
                    ),
                );
            } else if let Some((closed, fine)) =
                state_bits(geometry.kind).filter(|_| cluster == 1 && copy == 0)
            {
                if value & closed == 0 {
                    sink.add(
                        Finding::new(&c::NOT_CLOSED, "the table says that the volume was not closed")
                            .at(place, width)
                            .because(
                                format!("Entry 1 is {value:#x}: its \"closed properly\" bit is clear."),
                                "A host sets it when it closes the volume.",
                                "What was written last may be incomplete.",
                            ),
                    );
                }
                if value & fine == 0 {
                    sink.add(
                        Finding::new(&c::ERRORS_MET, "the table says that errors were met")
                            .at(place, width)
                            .because(
                                format!("Entry 1 is {value:#x}: its \"no errors\" bit is clear."),
                                "It is set on a sound medium.",
                                "A host could not read or write some place of the medium.",
                            ),
                    );
                }
            }
        }
    }
}

/// One finding a stretch of differing entries.
fn copies(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let geometry = subject.believed.geometry;
    let mut stretch: Option<(u32, u32)> = None;
    let differing: Vec<u32> = subject.survey.links.differing().chain([u32::MAX]).collect();
    for cluster in differing {
        match stretch {
            // Up to 128 equal entries in between belong to the same accident.
            Some((from, to)) if cluster.minus(to) <= 128 && cluster != u32::MAX => {
                stretch = Some((from, cluster));
            }
            _ => {
                if let Some((from, to)) = stretch {
                    report_stretch(subject, &geometry, from, to, sink);
                }
                stretch = Some((cluster, cluster));
            }
        }
    }
}

fn report_stretch(subject: &mut Subject<'_>, geometry: &Geometry, from: u32, to: u32, sink: &mut dyn Sink) {
    let (start, _) = entry_place(geometry.kind, from);
    let (last, width) = entry_place(geometry.kind, to);
    let unreadable =
        (0..geometry.tables).any(|copy| subject.survey.links.raw(subject.medium, copy, from).is_none());
    let entry = if unreadable { &c::TABLE_UNREADABLE } else { &c::COPIES_DIFFER };
    let which = if from == to { format!("cluster {from}") } else { format!("clusters {from} to {to}") };
    let mut finding = Finding::new(entry, format!("{} at {which}", entry.title)).because(
        format!("The copies of the table say different things about {which}."),
        "All copies should be alike.",
        "Which one is right is decided chain by chain.",
    );
    for copy in 0..geometry.tables {
        finding = finding.at(geometry.table_offset(copy).plus(start), last.plus(width).minus(start));
    }
    sink.add(finding);
}
