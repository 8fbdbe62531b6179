//! The file system's own files: their records and copies, bitmaps, log, tables.

use super::Subject;
use crate::{
    arith::Sat,
    cluster::{
        former::{self, Live},
        set::ClusterSet,
    },
    medium::Medium,
    ntfs::{
        attrdef, catalogue as c,
        layout::{VOLUME_DIRTY, kind, own},
        log::Log,
        mirror::{self, Copy},
        records::{Piece, Use},
        runs::Mapping,
        survey::Survey,
        system,
        volume::{Asleep, UpCase},
    },
    report::{
        finding::{Finding, Sink, Weight},
        wording::counted,
    },
};

/// Files that are named in one finding.
const NAMED: usize = 2000;

pub(super) fn check(subject: &Subject<'_>, sink: &mut dyn Sink) {
    records(subject, sink);
    copies(subject, sink);
    volume(subject, sink);
    log(subject, sink);
    clusters(subject, sink);
    tables(subject, sink);
}

/// What an earlier formatting left.
pub(in crate::ntfs) fn older_volume(medium: &dyn Medium, survey: &Survey) -> Option<Finding> {
    if survey.mft.missing > 0 {
        // How much is on it is not known.
        return None;
    }
    let geometry = survey.mft.geometry;
    // Behind the last cluster stands the copy of the boot sector.
    let is_used = |place: u64| {
        let cluster = place.per(geometry.cluster());
        cluster >= geometry.clusters() || survey.claimed.contains(cluster.size())
    };
    let own = |file: Option<u32>| file.is_none_or(|number| number < own::FIRST_USER);
    let nodes = survey.tree.nodes.iter().filter(|node| !own(node.file)).count();
    // Records in free space may be where the table of files lay before a host moved it.
    let own = |sector: &[u8]| former::by_first_byte(sector, b'F');
    let live = Live { from: 0, cluster: geometry.cluster(), nodes, is_used: &is_used, own: &own };
    Some(former::look(medium, &live)?.finding(&c::FORMER))
}

/// Records 0 to 11.
fn records(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    for fault in system::faults(survey) {
        let number = fault.number;
        let name = own::NAMES.get(number.size()).copied().unwrap_or("?");
        let place =
            survey.mft.place(number).unwrap_or_else(|| survey.mft.geometry.place(survey.mft.geometry.mft));
        let entry = fault.entry;
        sink.add(
            Finding::new(entry, format!("record {number} ({name}) is not in order"))
                .at(place, survey.mft.geometry.record().wide())
                .because(fault.is, fault.should, ""),
        );
    }
}

/// $MFTMirr.
fn copies(subject: &Subject<'_>, sink: &mut dyn Sink) {
    for copy in mirror::copies(subject.medium, subject.survey) {
        match copy {
            Copy::Differs { number, place, at } => {
                let is = format!("The copy of record {number} differs from it at byte {at}.");
                sink.add(
                    Finding::new(&c::MIRROR_DIFFERS, c::MIRROR_DIFFERS.title)
                        .at(place.plus(at.wide()), 1)
                        .because(is, "It should be the same.", ""),
                );
            }
            Copy::Damaged { number, place } => {
                sink.add(Finding::new(&c::MIRROR_RECORD, c::MIRROR_RECORD.title).at(place, 4).because(
                    format!("The copy of record {number} cannot be read."),
                    "It should be the same.",
                    "",
                ));
            }
        }
    }
}

fn volume(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let about = &survey.about;
    let place = survey.mft.place(own::VOLUME).unwrap_or(0).plus(about.info_at.wide());
    match about.version {
        Some((major, minor)) if !matches!((major, minor), (1, 1 | 2) | (3, 0 | 1)) => {
            sink.add(Finding::new(&c::VERSION, c::VERSION.title).at(place.plus(8), 2).because(
                format!("It says {major}.{minor}."),
                "1.2, 3.0 and 3.1 were used.",
                "",
            ));
        }
        _ => {}
    }
    if about.flags & VOLUME_DIRTY != 0 {
        sink.add(Finding::new(&c::DIRTY, c::DIRTY.title).at(place.plus(10), 2).because(
            format!("The volume flags are {:#06x}.", about.flags),
            "A host clears the lowest bit when it closes the volume.",
            "",
        ));
    }
    let others = about.flags & !VOLUME_DIRTY;
    if others != 0 {
        sink.add(Finding::new(&c::VOLUME_FLAGS, c::VOLUME_FLAGS.title).at(place.plus(10), 2).because(
            format!("The volume flags are {:#06x}.", about.flags),
            "",
            "",
        ));
    }
    if survey.asleep == Asleep::Yes {
        sink.add(Finding::new(&c::ASLEEP, c::ASLEEP.title).file("hiberfil.sys").because(
            "hiberfil.sys begins with the mark of a host that sleeps.",
            "A host that was shut down leaves none.",
            "What is written now, that host may write over.",
        ));
    }
}

fn log(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let place = survey.records.live(own::LOG).and_then(|file| {
        let runs = survey.records.all_runs(survey.records.stream_of(file, kind::DATA, ""));
        Mapping::of(&runs, survey.mft.geometry.cluster()).place(0)
    });
    let (entry, is) = match survey.log {
        Log::Empty | Log::Clean => return,
        Log::InUse => (&c::LOG_IN_USE, "Its restart page says that a host uses it."),
        Log::Garbage => (&c::LOG_GARBAGE, "It has no restart page that can be believed, and is not empty."),
        // Its record has a finding of its own.
        Log::Gone if survey.records.live(own::LOG).is_none() => return,
        Log::Gone => (&c::LOG_GONE, "Its record says nothing of where it stands, or it is too short."),
    };
    sink.add(Finding::new(entry, entry.title).at(place.unwrap_or(0), 4096).because(
        is,
        if entry == &c::LOG_IN_USE { "A host that closes the volume says so there." } else { "" },
        "",
    ));
}

/// $Bitmap against what files have.
fn clusters(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let geometry = survey.mft.geometry;
    let Some(marked) = &survey.bitmap else {
        if survey.records.live(own::BITMAP).is_some() {
            sink.add(Finding::new(&c::BITMAP_GONE, c::BITMAP_GONE.title));
        }
        return;
    };
    let file = survey.records.live(own::BITMAP);
    let size =
        file.and_then(|file| survey.records.stream_of(file, kind::DATA, "").first()).map_or(0, |p| p.size);
    let wanted = geometry.clusters().per_up(64).times(8);
    if size < wanted {
        let place = survey.mft.place(own::BITMAP).unwrap_or(0);
        sink.add(
            Finding::new(&c::BITMAP_SIZE, c::BITMAP_SIZE.title).at(place, geometry.record().wide()).because(
                format!("It has {size} bytes."),
                format!("{} clusters need {wanted}.", geometry.clusters()),
                "",
            ),
        );
    }
    for (entry, one, other, is, should) in [
        (&c::CLUSTERS_FREE, &survey.claimed, marked, "marked free", "They are in use."),
        (
            &c::CLUSTERS_USED,
            marked,
            &survey.claimed,
            "marked in use that no file has",
            "By the records that can be read, all of that is free.",
        ),
    ] {
        let mut all = one.difference(other).peekable();
        let (mut sum, mut runs) = (0_u64, 0_u32);
        let mut finding = Finding::new(entry, entry.title);
        while let Some(first) = all.next() {
            let mut last = first;
            while all.peek() == Some(&last.plus(1)) {
                last = last.plus(1);
                all.next();
            }
            let length = last.minus(first).plus(1).wide();
            sum = sum.plus(length);
            if runs < 100 {
                finding = finding.at(geometry.place(first.wide()), geometry.place(length));
            }
            runs = runs.plus(1);
        }
        if sum > 0 {
            let many = if entry == &c::CLUSTERS_FREE {
                counted(sum, "cluster of a file is", "clusters of files are")
            } else {
                counted(sum, "cluster is", "clusters are")
            };
            finding.summary = format!("{many} {is}");
            if entry == &c::CLUSTERS_FREE {
                finding.paths = owners(survey, one, other);
            }
            sink.add(finding.because(format!("{many} {is}."), should, ""));
        }
    }
}

/// Files that have clusters of the one set that are not in the other.
fn owners(survey: &Survey, claimed: &ClusterSet, marked: &ClusterSet) -> Vec<String> {
    let mut missing = claimed.clone();
    missing.difference_with(marked);
    let hit = |piece: &Piece| {
        let runs = survey.records.runs_of(piece).iter();
        runs.filter_map(|run| run.first.map(|first| first.size()..run.end().size()))
            .any(|range| missing.contains_any_in_range(range))
    };
    let mut numbers: Vec<u32> = survey
        .records
        .pieces
        .iter()
        .filter(|piece| !piece.resident && hit(piece))
        .map(|piece| piece.file)
        .collect();
    numbers.dedup();
    let mut paths = Vec::new();
    for (node, of) in (0_u32..).zip(&survey.tree.nodes) {
        if paths.len() >= NAMED {
            break;
        }
        if of.file.is_some_and(|number| numbers.binary_search(&number).is_ok()) {
            let path = survey.path(node);
            paths.extend(Some(path).filter(|path| !path.is_empty()));
        }
    }
    paths
}

fn tables(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let at = |number| survey.mft.place(number).unwrap_or(0);
    match survey.upcase {
        UpCase::Whole => {}
        UpCase::Gone if survey.records.uses.get(own::UPCASE.size()) != Some(&Use::File) => {}
        UpCase::Damaged(wrong, first) => {
            let place = system::content_place(survey, own::UPCASE).plus(first.times(2).wide());
            let many = counted(wrong.wide(), "letter has", "letters have");
            sink.add(Finding::new(&c::UPCASE, c::UPCASE.title).at(place, 2).because(
                format!("{many} a capital that is none, the first is letter {first:#06x}."),
                "It has the capital of each of 65536 letters.",
                "",
            ));
        }
        UpCase::Gone => {
            sink.add(
                Finding::new(&c::UPCASE, c::UPCASE.title)
                    .at(system::content_place(survey, own::UPCASE), 512)
                    .because(
                        "It is not 131072 bytes long.",
                        "It has the capital of each of 65536 letters.",
                        "",
                    ),
            );
        }
    }
    match system::attrdef(subject.medium, survey) {
        system::Table::Whole | system::Table::NoRecord => {}
        system::Table::Damaged(row) => {
            let place = system::content_place(survey, own::ATTRDEF);
            let mut finding = Finding::new(&c::ATTRDEF, c::ATTRDEF.title)
                .at(place.plus(row.times(attrdef::ROW).wide()), attrdef::ROW.wide())
                .because(format!("Row {row} is not what it is on other volumes."), "", "");
            if row > 0 {
                finding = finding.weighing(Weight::RisksFiles);
            }
            sink.add(finding);
        }
    }
    match system::badclus(survey) {
        system::Bad::Fits => {}
        system::Bad::Marked(clusters) => sink.add(
            Finding::new(
                &c::BAD_CLUSTERS,
                format!("{} as failed", counted(clusters, "cluster is marked", "clusters are marked")),
            )
            .at(at(own::BADCLUS), 4),
        ),
        system::Bad::Length(clusters, bytes) => {
            let all = survey.mft.geometry.clusters();
            sink.add(Finding::new(&c::BADCLUS, c::BADCLUS.title).at(at(own::BADCLUS), 4).because(
                format!("$Bad has {clusters} clusters and says that it is {bytes} bytes long."),
                format!("The volume has {all} clusters, or {} bytes.", survey.mft.geometry.place(all)),
                "",
            ));
        }
    }
    for fault in crate::ntfs::secure::faults(subject.medium, survey) {
        sink.add(fault);
    }
    for fault in crate::ntfs::views::faults(subject.medium, survey) {
        sink.add(fault);
    }
}
