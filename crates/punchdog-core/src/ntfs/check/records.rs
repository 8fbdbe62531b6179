//! Records, run lists, sizes, what is claimed twice.

use super::Subject;
use crate::{
    arith::{Peek, Sat},
    ntfs::{
        catalogue as c,
        layout::{kind, own, sequence},
        record::Broken,
        records::{Flaw, Notes, Piece, Use},
        system::is_told,
        tree::Why,
    },
    report::{
        finding::{Entry, Finding, Sink, Weight},
        wording::counted,
    },
};
use std::collections::{BTreeMap, HashMap, HashSet};

/// The name of a type of attribute.
pub(in crate::ntfs) fn title(of: u32) -> &'static str {
    match of {
        kind::STANDARD => "$STANDARD_INFORMATION",
        kind::LIST => "$ATTRIBUTE_LIST",
        kind::NAME => "$FILE_NAME",
        kind::OBJECT_ID => "$OBJECT_ID",
        kind::SECURITY => "$SECURITY_DESCRIPTOR",
        kind::DATA => "$DATA",
        kind::INDEX_ROOT => "$INDEX_ROOT",
        kind::INDEX_ALLOCATION => "$INDEX_ALLOCATION",
        kind::BITMAP => "$BITMAP",
        kind::REPARSE => "$REPARSE_POINT",
        _ => "an attribute",
    }
}

/// Paths of files by their records, for those that findings speak of.
pub(in crate::ntfs) fn paths(survey: &crate::ntfs::survey::Survey) -> HashMap<u32, String> {
    let mut wanted: HashSet<u32> = survey.records.flaws.iter().map(|(number, _)| *number).collect();
    for (number, base) in &survey.records.extending {
        if wanted.contains(number) {
            wanted.insert(u32::try_from(crate::ntfs::layout::number(*base)).unwrap_or(u32::MAX));
        }
    }
    wanted.extend(
        survey.records.files.iter().filter(|file| file.notes.contains(Notes::CROSSED)).map(|f| f.number),
    );
    survey.paths_of(|number| wanted.contains(&number))
}

pub(super) fn check(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let paths = paths(subject.survey);
    // What keeps hosts from the file system's own files is told with these.
    let flaws = subject.survey.records.flaws.iter();
    for (number, flaw) in flaws.filter(|(number, flaw)| !is_told(*number, flaw)) {
        one(subject, *number, flaw, &paths, sink);
    }
    lost(subject, sink);
    crossed(subject, &paths, sink);
    in_use(subject, sink);
}

/// Adds the file, where the record has one, and says which record it is.
fn about(subject: &Subject<'_>, finding: Finding, number: u32, paths: &HashMap<u32, String>) -> Finding {
    let records = &subject.survey.records;
    let path = paths.get(&number).or_else(|| paths.get(&records.base_of(number)));
    let places = subject.survey.mft.places(number);
    let finding = places.iter().fold(finding, |finding, place| {
        if finding.extents.is_empty() { finding.at(place.offset, place.length) } else { finding }
    });
    match path {
        Some(path) if !path.is_empty() => finding.file(path.clone()),
        _ => finding,
    }
}

#[expect(clippy::too_many_lines, reason = "one flaw after the other")]
fn one(subject: &Subject<'_>, number: u32, flaw: &Flaw, paths: &HashMap<u32, String>, sink: &mut dyn Sink) {
    let place = subject.survey.mft.place(number).unwrap_or(0);
    let (entry, is, should): (&'static Entry, String, String) = match flaw {
        Flaw::Signature(found) => {
            let shown: Vec<String> = found.iter().map(|byte| format!("{byte:02X}")).collect();
            let bad = if found == b"BAAD" { ", as hosts mark what they met torn" } else { "" };
            (
                &c::RECORD_SIGNATURE,
                format!("Record {number} begins with {}{bad}.", shown.join(" ")),
                "It should begin with 46 49 4C 45.".into(),
            )
        }
        Flaw::Torn(strides) => {
            let all: Vec<String> = strides.iter().map(|stride| (stride.times(512)).to_string()).collect();
            (
                &c::RECORD_TORN,
                format!(
                    "In record {number} the 512 bytes from {} on do not end as its fixups say: they are of another writing.",
                    all.join(", ")
                ),
                "All of a record ends with one update sequence number.".into(),
            )
        }
        Flaw::Head(from, kept) => (
            &c::RECORD_HEAD,
            format!("The first bytes of record {number} are no head; its attributes can be read from byte {from} on."),
            if *kept { String::new() } else { "Sequence number, flags and sizes are not known from it.".into() },
        ),
        Flaw::Fixups => (
            &c::RECORD_FIXUPS,
            format!("The offset or number of fixups in the head of record {number} cannot be."),
            "There is one for every 512 bytes, and one more.".into(),
        ),
        Flaw::Broken(broken) => (
            &c::RECORD_BROKEN,
            format!("In record {number}, at its byte {}, {}.", broken.at(), broken.words()),
            String::new(),
        ),
        Flaw::Number(other) => {
            (&c::RECORD_NUMBER, format!("Record {number} says that it is {other}."), String::new())
        }
        Flaw::Used(end) => (
            &c::RECORD_USED,
            format!("Record {number} ends its attributes at byte {end}."),
            "Its head says otherwise.".into(),
        ),
        Flaw::Ids => (
            &c::ATTRIBUTE_IDS,
            format!("In record {number} two attributes have one id, or the next one is in use."),
            String::new(),
        ),
        Flaw::NoStandard => {
            (&c::NO_STANDARD, format!("Record {number} has no $STANDARD_INFORMATION."), String::new())
        }
        Flaw::Runs(of, _, bad) => {
            let entry = bad.entry();
            (entry, format!("In record {number}, for {}, {}.", title(*of), entry.title), String::new())
        }
        Flaw::Size(_, has, told) => (
            &c::SIZES,
            format!("In record {number}, the content is {has} bytes long."),
            format!("The entry in its folder says {told} bytes, and so many were written."),
        ),
        Flaw::Sizes(of, _) => (
            &c::SIZES,
            format!("In record {number}, the sizes of {}: allocated, content, valid.", title(*of)),
            "None is larger than the one before, and the first is whole clusters.".into(),
        ),
        Flaw::Pieces(of) => {
            (&c::PIECES, format!("Of {} of record {number}, a piece is missing.", title(*of)), String::new())
        }
        Flaw::Base(base) => (
            &c::EXTENSION_LOST,
            format!(
                "Record {number} extends record {} in its use {}.",
                crate::ntfs::layout::number(*base),
                sequence(*base)
            ),
            "That record is no file's, or another's.".into(),
        ),
        Flaw::Free => (
            &c::RECORD_FLAG,
            format!("Record {number} says that it is free."),
            "An entry of its folder names it with this number, and $MFT's bitmap has it in use; or the list of the file that it extends has it.".into(),
        ),
        Flaw::Own(base) => (
            &c::RECORD_BASE,
            format!("Record {number} says that it extends record {}.", crate::ntfs::layout::number(*base)),
            "It has standard information and a name, and so is a file's own.".into(),
        ),
        Flaw::Extends(base, told) => (
            &c::EXTENSION_BASE,
            format!("Record {number} says that it extends record {}.", crate::ntfs::layout::number(*base)),
            format!(
                "The attribute list of record {} alone has it, or it fills a gap there.",
                crate::ntfs::layout::number(*told)
            ),
        ),
        Flaw::List(list) => {
            let parts = [
                (list.unreadable, "it is not there, or cannot be read to its end".to_owned()),
                (list.missing > 0, format!("it leaves {} out", counted(list.missing.wide(), "attribute", "attributes"))),
                (list.stale > 0, format!("it has {} for none", counted(list.stale.wide(), "entry", "entries"))),
                (list.order, "it is out of order".to_owned()),
            ];
            let told: Vec<String> = parts.into_iter().filter(|(is, _)| *is).map(|(_, told)| told).collect();
            (
                &c::LIST,
                format!("The attribute list of record {number}: {}.", told.join(", ")),
                "It has what stands in the record and in those that extend it, each once.".into(),
            )
        }
        Flaw::Parent(_, own, told) => (
            &c::NAME_PARENT,
            format!(
                "A name in record {number} says that it stands in folder {}, use {}.",
                crate::ntfs::layout::number(*own),
                sequence(*own)
            ),
            format!("There is none; the index of folder {} has it.", crate::ntfs::layout::number(*told)),
        ),
        Flaw::Name(_, long, space) => (
            &c::NAME_HEAD,
            format!(
                "A name in record {number} is of another length than its value, or of a kind that there is not."
            ),
            format!("It has {long} characters; the kind is {space}."),
        ),
        Flaw::Folder => (
            &c::RECORD_FOLDER,
            format!("Record {number} says the opposite of what it has."),
            "Folders have an index of names, files have content.".into(),
        ),
        Flaw::Sequence(own, told) => (
            &c::RECORD_SEQUENCE,
            format!("Record {number} has the sequence number {own}."),
            format!("Its folder's entry, and all that stands in it, name {told}."),
        ),
        Flaw::Links(found) => {
            let said = subject.survey.records.file(number).map_or(0, |file| file.links);
            (&c::LINKS, format!("Record {number} says {said}."), format!("It has {found}."))
        }
    };
    let at = match flaw {
        Flaw::Signature(_) => Some((0, 4)),
        Flaw::Torn(strides) => strides.first().map(|stride| (stride.times(512).plus(510), 2)),
        Flaw::Fixups => Some((4, 4)),
        Flaw::Head(from, _) => Some((0, usize::from(*from).wide())),
        // Where name and value are is said in the head of an attribute, further behind than its type and length.
        Flaw::Broken(Broken::Value(at) | Broken::Struck(at)) => Some((*at, 40)),
        Flaw::Broken(broken) => Some((broken.at(), 16)),
        Flaw::Number(_) => Some((44, 4)),
        Flaw::Used(_) => Some((24, 4)),
        Flaw::Ids => Some((40, 2)),
        Flaw::Runs(_, at, _) => Some((at.plus(32), 2)),
        Flaw::Sizes(_, at) => Some((at.plus(40), 24)),
        Flaw::Size(at, ..) => Some((at.plus(48), 8)),
        Flaw::Links(_) => Some((18, 2)),
        Flaw::Free | Flaw::Folder => Some((22, 2)),
        Flaw::Parent(at, ..) => Some((usize::from(*at), 8)),
        Flaw::Name(at, ..) => Some((usize::from(*at).plus(64), 2)),
        Flaw::Sequence(..) => Some((16, 2)),
        Flaw::Base(_) | Flaw::Extends(..) | Flaw::Own(_) => Some((32, 8)),
        Flaw::NoStandard | Flaw::Pieces(_) | Flaw::List(_) => None,
    };
    let mut finding = Finding::new(entry, entry.title).because(is, should, "");
    if let Some((at, length)) = at {
        finding = finding.at(place.plus(at.wide()), length);
    }
    if number <= own::EXTEND && entry.weight < Weight::Untidy {
        finding.summary =
            format!("record {number} ({}): {}", own::NAMES.get(number.size()).unwrap_or(&"?"), entry.title);
    }
    sink.add(about(subject, finding, number, paths));
}

/// Records that cannot be read though something names them, or the bitmap has them in use.
fn lost(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let mut named: BTreeMap<u32, (String, u64)> = BTreeMap::new();
    let lost = || survey.strays.iter().filter(|stray| stray.why == Why::Lost);
    let within: HashSet<u32> = lost().map(|stray| stray.folder).collect();
    let folders = survey.paths_of(|number| within.contains(&number));
    for stray in lost() {
        let number = u32::try_from(crate::ntfs::layout::number(stray.reference)).unwrap_or(u32::MAX);
        let path = match folders.get(&stray.folder).filter(|above| !above.is_empty()) {
            Some(above) => format!("{above}/{}", stray.text),
            None => stray.text.to_string(),
        };
        let better = stray.space != crate::ntfs::layout::NAME_SHORT;
        if better || !named.contains_key(&number) {
            named.insert(number, (path, stray.place));
        }
    }
    let marked = survey.in_use.as_deref();
    for (number, usage) in (0_u32..).zip(&survey.records.uses) {
        let gone = *usage == Use::Noise || *usage == Use::Blank;
        let in_use = marked.is_some_and(|bits| bits.byte(number.per(8).size()) >> (number.rest(8)) & 1 == 1);
        if gone && (in_use || *usage == Use::Noise) && number > own::EXTEND && !named.contains_key(&number) {
            let place = survey.mft.place(number).unwrap_or(0);
            sink.add(
                Finding::new(&c::RECORD_LOST, c::RECORD_LOST.title)
                    .at(place, survey.mft.geometry.record().wide())
                    .because(
                        match survey.records.copy_of(number) {
                            Some(other) => format!("Record {number} holds a copy of record {other}."),
                            None if *usage == Use::Blank => format!("Record {number} is blank."),
                            None => format!("Record {number} is no record."),
                        },
                        "It is in use.",
                        "No folder names it.",
                    ),
            );
        }
    }
    // The file system's own have findings of their own.
    for (number, (path, entry)) in named.into_iter().filter(|(number, _)| *number > own::EXTEND) {
        let at = survey.mft.place(number).unwrap_or(entry);
        sink.add(
            Finding::new(&c::RECORD_LOST, c::RECORD_LOST.title)
                .at(at, survey.mft.geometry.record().wide())
                .because(
                    match survey.records.copy_of(number) {
                        Some(other) => format!(
                            "Record {number} holds a copy of record {other}: a write went to the wrong place."
                        ),
                        None => format!("Record {number} cannot be read."),
                    },
                    "A folder has an entry for it.",
                    "Its name, and how large it was, are what is left.",
                )
                .file(path),
        );
    }
}

fn crossed(subject: &Subject<'_>, paths: &HashMap<u32, String>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    if survey.crossed.is_empty() {
        return;
    }
    let cluster = survey.mft.geometry.cluster();
    let mut finding = Finding::new(&c::CROSSED, c::CROSSED.title);
    let mut clusters = survey.crossed.ones().peekable();
    let (mut runs, mut sum) = (0_u32, 0_u64);
    while let Some(first) = clusters.next() {
        let mut last = first;
        while clusters.peek() == Some(&last.plus(1)) {
            last = last.plus(1);
            clusters.next();
        }
        let length = last.minus(first).plus(1).wide();
        sum = sum.plus(length);
        if runs < 100 {
            finding = finding.at(first.wide().times(cluster), length.times(cluster));
        }
        runs = runs.plus(1);
    }
    let mut own_files = false;
    let sharing = survey.records.files.iter().filter(|file| file.notes.contains(Notes::CROSSED));
    for file in sharing {
        own_files = own_files || file.number < own::FIRST_FREE;
        if let Some(path) = paths.get(&file.number) {
            finding = finding.file(path.clone());
        }
    }
    let finding = finding.because(
        format!("{sum} clusters are claimed more than once."),
        "Each cluster is one file's.",
        if own_files { "The file system's own files are among them." } else { "" },
    );
    sink.add(finding);
}

/// $MFT's bitmap against the records.
fn in_use(subject: &Subject<'_>, sink: &mut dyn Sink) {
    let survey = subject.survey;
    let Some(bits) = survey.in_use.as_deref() else {
        if survey.records.live(own::MFT).is_some() {
            sink.add(Finding::new(&c::MFT_BITMAP, c::MFT_BITMAP.title).because(
                "Record 0 has no $BITMAP that can be read.",
                "It has a bit for each record.",
                "",
            ));
        }
        return;
    };
    let map = survey.records.live(own::MFT).map(|file| {
        let pieces: &[Piece] = survey.records.stream_of(file, kind::BITMAP, "");
        crate::ntfs::runs::Mapping::of(&survey.records.all_runs(pieces), survey.mft.geometry.cluster())
    });
    let place = |number: u32| map.as_ref().and_then(|map| map.place(number.wide().per(8))).unwrap_or(0);
    let marked = |number: u32| bits.byte(number.per(8).size()) >> (number.rest(8)) & 1 == 1;
    let nodes = survey.nodes_of(|number| !marked(number));
    for (number, usage) in (0_u32..).zip(&survey.records.uses) {
        let marked = marked(number);
        let used = matches!(usage, Use::File | Use::Extends);
        if used && !marked {
            let finding = Finding::new(&c::RECORD_FREE, c::RECORD_FREE.title).at(place(number), 1).because(
                format!("Record {number} is marked free."),
                "It is a file's.",
                "",
            );
            sink.add(match nodes.get(&number) {
                Some(node) => finding.file(survey.path(*node)),
                None => finding,
            });
        } else if marked && *usage == Use::Free && number >= own::FIRST_USER {
            sink.add(Finding::new(&c::RECORD_USED_UP, c::RECORD_USED_UP.title).at(place(number), 1).because(
                format!("Record {number} is marked in use."),
                "It says itself that it is free.",
                "",
            ));
        }
    }
}
