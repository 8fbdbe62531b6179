//! What the root folder names: bitmap, up-case table, label; and the bitmap against use.

use super::Subject;
use crate::{
    arith::Sat,
    exfat::{
        catalogue as c,
        layout::{ENTRY, table_checksum},
        survey::{Content, Owned},
        upcase::Upcase,
    },
    report::{
        finding::{Entry, Finding, Sink, Weight},
        wording::counted,
    },
};

pub(super) fn check(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let content = subject.survey.content(subject.medium, 0);
    bitmap(subject, &content, sink);
    upcase(subject, &content, sink);
    label(subject, &content, sink);
    use_against_bitmap(subject, sink);
}

fn at(content: &Content, index: u32) -> u64 {
    content.place(index).unwrap_or(0)
}

fn doubled(content: &Content, indices: &[u32], entry: &'static Entry, sink: &mut dyn Sink) {
    for index in indices {
        sink.add(Finding::new(entry, entry.title).at(at(content, *index), ENTRY.wide()).because(
            format!("Entry {index} of the root folder is another one."),
            "One is allowed.",
            "",
        ));
    }
}

fn bitmap(subject: &Subject<'_>, content: &Content, sink: &mut dyn Sink) {
    one_bitmap(subject, &subject.survey.bitmap, 0, content, sink);
    if subject.survey.geometry.tables == 2 {
        one_bitmap(subject, &subject.survey.second, 1, content, sink);
    }
}

/// A bitmap's entry; `flags` is what `BitmapFlags` is for it: 0, or 1 for the second table's.
fn one_bitmap(subject: &Subject<'_>, bitmap: &Owned, flags: u8, content: &Content, sink: &mut dyn Sink) {
    let geometry = &subject.survey.geometry;
    let needed = geometry.bitmap_bytes();
    // No host looks at the second one before the first table is lost.
    let weigh = |finding: Finding| if flags == 0 { finding } else { finding.weighing(Weight::Untidy) };
    let which = if flags == 0 { "" } else { "second " };
    let first = bitmap.clusters.first().copied();
    let stands = first.map_or_else(
        || "No bitmap was found; use follows from the folders.".to_owned(),
        |cluster| format!("A bitmap stands at cluster {cluster}."),
    );
    let Some((index, owner)) = bitmap.entry else {
        let title = format!("there is no {which}allocation bitmap entry");
        let finding = Finding::new(&c::BITMAP_MISSING, title).at(at(content, 0), ENTRY.wide());
        let what = format!("No entry of type 81 with the flags {flags:02X} is in the root folder.");
        sink.add(weigh(finding.because(what, "One is demanded.", stands)));
        return;
    };
    if owner.flags != flags {
        let title = format!("the flags of the {which}bitmap entry are not {flags}");
        let finding = Finding::new(&c::BITMAP_ENTRY, title).at(at(content, index).plus(1), 1).because(
            format!("BitmapFlags is {:02X}.", owner.flags),
            format!("It should be {flags:02X}."),
            if flags == 0 { "Linux finds no bitmap, and refuses the volume." } else { "" },
        );
        sink.add(weigh(finding));
    }
    if !bitmap.usable || owner.length != needed || first != Some(owner.first) {
        let title = format!("the {which}allocation bitmap entry is wrong");
        let finding = Finding::new(&c::BITMAP_ENTRY, title).at(at(content, index), ENTRY.wide()).because(
            format!("It names cluster {} and {} bytes.", owner.first, owner.length),
            format!("{} clusters need {needed} bytes.", geometry.clusters),
            stands,
        );
        sink.add(weigh(finding));
    }
    doubled(content, &bitmap.doubles, &c::BITMAP_DOUBLE, sink);
}

fn upcase(subject: &Subject<'_>, content: &Content, sink: &mut dyn Sink) {
    let upcase = &subject.survey.upcase;
    let sum = table_checksum(&upcase.bytes);
    let readable = Upcase::decode(&upcase.bytes).is_some();
    match upcase.entry {
        None => sink.add(
            Finding::new(&c::UPCASE_MISSING, c::UPCASE_MISSING.title)
                .at(at(content, 0), ENTRY.wide())
                .because(
                    "No entry of type 82 is in the root folder.",
                    "One is demanded.",
                    upcase.clusters.first().map_or_else(
                        || "No table was found either.".to_owned(),
                        |cluster| format!("The recommended table stands at cluster {cluster}."),
                    ),
                ),
        ),
        Some((index, owner)) if !upcase.usable => {
            sink.add(
                Finding::new(&c::UPCASE_ENTRY, c::UPCASE_ENTRY.title)
                    .at(at(content, index), ENTRY.wide())
                    .because(
                        format!(
                            "It names cluster {} and {} bytes, where no table begins.",
                            owner.first, owner.length
                        ),
                        upcase.clusters.first().map_or_else(
                            || "No table was found.".to_owned(),
                            |cluster| format!("The table stands at cluster {cluster}."),
                        ),
                        "",
                    ),
            );
        }
        Some((index, owner)) if owner.checksum != sum && (Upcase::is_recommended(&upcase.bytes)) => {
            sink.add(
                Finding::new(&c::UPCASE_CHECKSUM, c::UPCASE_CHECKSUM.title)
                    .at(at(content, index).plus(4), 4)
                    .because(
                        format!("The entry gives {:#010x}.", owner.checksum),
                        format!("The table has {sum:#010x}, and is the recommended one."),
                        "",
                    ),
            );
        }
        Some((index, owner)) if owner.checksum != sum || !readable => {
            let place =
                upcase.clusters.first().map_or(0, |cluster| subject.survey.geometry.cluster_place(*cluster));
            sink.add(
                Finding::new(&c::UPCASE_DATA, c::UPCASE_DATA.title)
                    .at(place, owner.length)
                    .at(at(content, index), ENTRY.wide())
                    .because(
                        format!("The table has the checksum {sum:#010x}."),
                        format!("Its entry gives {:#010x}.", owner.checksum),
                        "It is not the recommended table.",
                    ),
            );
        }
        Some(_) => {}
    }
    doubled(content, &upcase.doubles, &c::UPCASE_DOUBLE, sink);
}

fn label(subject: &Subject<'_>, content: &Content, sink: &mut dyn Sink) {
    if let Some((index, _, false)) = &subject.survey.label {
        sink.add(
            Finding::new(&c::LABEL_LENGTH, c::LABEL_LENGTH.title).at(at(content, *index).plus(1), 1).because(
                "The label's entry gives more than 11 characters.",
                "It has room for 11.",
                "",
            ),
        );
    }
    doubled(content, &subject.survey.labels, &c::LABEL_DOUBLE, sink);
}

/// Ranges that one finding names at most.
const NAMED: usize = 2000;

fn use_against_bitmap(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let survey = &*subject.survey;
    let geometry = survey.geometry;
    let Some(first_of_bitmap) = survey.bitmap.clusters.first().copied() else { return };
    let place = |cluster: u32| geometry.cluster_place(first_of_bitmap).plus(cluster.minus(2).per(8).wide());
    let mut free = survey.claimed.clone();
    free.difference_with(&survey.used);
    let (mut count, mut first, mut extents) = (0_u64, None, Vec::<(u64, u64)>::new());
    for cluster in free.ones().map(Sat::narrow).filter(|cluster| geometry.has(*cluster)) {
        count = count.plus(1);
        first = first.or(Some(cluster));
        let byte = place(cluster);
        let room = extents.len() < NAMED;
        match extents.last_mut() {
            Some((start, length)) if start.plus(*length) > byte => {}
            Some((start, length)) if start.plus(*length) == byte => *length = length.plus(1),
            _ if room => extents.push((byte, 1)),
            _ => {}
        }
    }
    if let Some(first) = first {
        let finding = Finding::new(
            &c::USED_BUT_FREE,
            format!("{} in use, free by the bitmap", counted(count, "cluster is", "clusters are")),
        )
        .because(
            format!("Cluster {first} is the first."),
            "A cluster that belongs to a file has its bit set.",
            "",
        );
        sink.add(extents.into_iter().fold(finding, |f, (start, length)| f.at(start, length)));
    }
    let unseen = survey.has_unseen();
    if unseen && !survey.tree.lost.is_empty() {
        let many = survey.tree.lost.iter().fold(0_u64, |sum, lost| sum.plus(lost.length.wide()));
        let summary = counted(many, "cluster may belong to a folder", "clusters may belong to folders");
        sink.add(Finding::new(&c::UNSEEN, format!("{summary} in the part of the volume that is not there")));
    }
    for lost in survey.tree.lost.iter().filter(|_| !unseen) {
        let like = lost.kind().map_or(String::new(), |e| format!(", and may be a {e} file"));
        let last = lost.first.plus(lost.length).minus(1);
        let what = if lost.blank { ", and all is blank".to_owned() } else { like };
        sink.add(
            Finding::new(
                &c::LOST_CLUSTERS,
                format!(
                    "{} to nothing{what}: from {} on",
                    counted(lost.length.wide(), "cluster belongs", "clusters belong"),
                    lost.first
                ),
            )
            .at(place(lost.first), place(last).minus(place(lost.first)).plus(1))
            .because(
                if lost.length == 1 {
                    format!("The bitmap has cluster {last} in use.")
                } else {
                    format!("The bitmap has clusters {} to {last} in use.", lost.first)
                },
                "Each cluster in use belongs to a file, a folder or the volume's own tables.",
                "",
            ),
        );
    }
}
