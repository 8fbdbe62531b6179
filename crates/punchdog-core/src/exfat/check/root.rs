//! What the root folder names: bitmap, up-case table, label; and the bitmap against use.

use super::Subject;
use crate::{
    arith::Sat,
    exfat::{
        catalogue as c,
        layout::{ENTRY, table_checksum},
        survey::Content,
        upcase::Upcase,
    },
    finding::{Entry, Finding, Sink},
    wording::counted,
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
    let survey = &*subject.survey;
    let bitmap = &survey.bitmap;
    let needed = survey.geometry.bitmap_bytes();
    match bitmap.entry {
        None => {
            let first = bitmap.clusters.first();
            sink.add(
                Finding::new(&c::BITMAP_MISSING, c::BITMAP_MISSING.title)
                    .at(at(content, 0), ENTRY.wide())
                    .because(
                        "No entry of type 81 is in the root folder.",
                        "One is demanded.",
                        first.map_or_else(
                            || "No bitmap was found; use follows from the folders.".to_owned(),
                            |cluster| format!("A bitmap stands at cluster {cluster}."),
                        ),
                    ),
            );
        }
        Some((index, owner)) => {
            let first = bitmap.clusters.first().copied().unwrap_or(0);
            if !bitmap.usable || owner.length != needed || first != owner.first {
                sink.add(
                    Finding::new(&c::BITMAP_ENTRY, c::BITMAP_ENTRY.title)
                        .at(at(content, index), ENTRY.wide())
                        .because(
                            format!("It names cluster {} and {} bytes.", owner.first, owner.length),
                            format!("{} clusters need {needed} bytes.", survey.geometry.clusters),
                            if first == 0 {
                                "No bitmap was found.".to_owned()
                            } else {
                                format!("The bitmap stands at cluster {first}.")
                            },
                        ),
                );
            }
        }
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

fn use_against_bitmap(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    let survey = &*subject.survey;
    let geometry = survey.geometry;
    let Some(first_of_bitmap) = survey.bitmap.clusters.first().copied() else { return };
    let place = |cluster: u32| geometry.cluster_place(first_of_bitmap).plus(cluster.minus(2).per(8).wide());
    let mut free = survey.claimed.clone();
    free.difference_with(&survey.used);
    let free: Vec<u32> = free.ones().map(Sat::narrow).filter(|cluster| geometry.has(*cluster)).collect();
    if let Some(first) = free.first() {
        let mut bytes: Vec<u64> = free.iter().map(|cluster| place(*cluster)).collect();
        bytes.dedup();
        let finding = Finding::new(
            &c::USED_BUT_FREE,
            format!(
                "{} in use, free by the bitmap",
                counted(free.len().wide(), "cluster is", "clusters are")
            ),
        )
        .because(
            format!("Cluster {first} is the first."),
            "A cluster that belongs to a file has its bit set.",
            "",
        );
        let mut extents: Vec<(u64, u64)> = Vec::new();
        for byte in bytes {
            match extents.last_mut() {
                Some((start, length)) if start.plus(*length) == byte => *length = length.plus(1),
                _ => extents.push((byte, 1)),
            }
        }
        sink.add(extents.into_iter().take(2000).fold(finding, |f, (start, length)| f.at(start, length)));
    }
    for lost in &survey.tree.lost {
        let like = lost.extension.as_ref().map_or(String::new(), |e| format!(", and may be a {e} file"));
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
            .at(
                place(lost.first),
                place(lost.first.plus(lost.length).minus(1)).minus(place(lost.first)).plus(1),
            )
            .because(
                format!(
                    "The bitmap has clusters {} to {} in use.",
                    lost.first,
                    lost.first.plus(lost.length).minus(1)
                ),
                "Each cluster in use belongs to a file, a folder or the volume's own tables.",
                "",
            ),
        );
    }
}
