//! What the work costs, in bytes read: numbers that do not depend on the machine.

use punchdog_core::{
    diagnosis::{self, Diagnosed, Wish},
    family::{Kind, Wanted},
    medium::{Extent, Medium, MediumError, Memory, ReadLog},
    progress::Silent,
    registry,
    repair::{apply, measure::Subject, plan},
};
use punchdog_damage::{
    exfat,
    fat::{self, Placing},
    workplace::Bench,
};
use std::{
    collections::BTreeMap,
    ops::ControlFlow,
    sync::atomic::{AtomicU64, Ordering},
};

/// Counts what is read.
struct Meter<'m> {
    inner: &'m dyn Medium,
    bytes: AtomicU64,
}

impl<'m> Meter<'m> {
    fn new(inner: &'m dyn Medium) -> Self {
        Self { inner, bytes: AtomicU64::new(0) }
    }
    /// Bytes read since the last question.
    fn bytes(&self) -> u64 {
        self.bytes.swap(0, Ordering::Relaxed)
    }
}

impl Medium for Meter<'_> {
    fn len(&self) -> u64 {
        self.inner.len()
    }
    fn read_at(&self, offset: u64, into: &mut [u8]) -> Result<(), MediumError> {
        self.bytes.fetch_add(into.len() as u64, Ordering::Relaxed);
        self.inner.read_at(offset, into)
    }
    fn data_from(&self, offset: u64) -> Option<Extent> {
        self.inner.data_from(offset)
    }
}

const FOLDERS: u32 = 60;
const FILES: u32 = 30;

fn name(folder: u32, file: u32) -> String {
    format!("day {folder:03}/recording number {file:04}.wav")
}

fn sound(folder: u32, file: u32) -> Vec<u8> {
    let mut bytes = b"RIFF\x24\x05\x00\x00WAVEfmt ".to_vec();
    bytes.extend(format!("{folder} {file} ").repeat(1500).into_bytes());
    bytes
}

fn fat16() -> Vec<u8> {
    let wish = fat::small(Kind::Fat16, 512, 8192);
    let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    for folder in 0..FOLDERS {
        filler.folder(&format!("day {folder:03}")).unwrap();
        for file in 0..FILES {
            filler.file(&name(folder, file), &sound(folder, file), Placing::Row).unwrap();
        }
    }
    filler.finish().unwrap().canvas
}

fn exfat() -> Vec<u8> {
    let wish = punchdog_core::exfat::fresh::Wish { bytes: 64 << 20, ..exfat::small(512, 4096, 1) };
    let mut filler = exfat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    for folder in 0..FOLDERS {
        filler.folder(&format!("day {folder:03}"), 3, Placing::Row).unwrap();
        for file in 0..FILES {
            filler.file(&name(folder, file), &sound(folder, file), Placing::Row).unwrap();
        }
    }
    filler.finish().unwrap().canvas
}

/// A volume, and a blow to its boot sector and to its table.
type Row = (&'static str, Vec<u8>, fn(&mut [u8]));

fn rows() -> Vec<Row> {
    vec![
        ("fat16", fat16(), |bytes| {
            let table = usize::from(u16::from_le_bytes([bytes[14], bytes[15]])) * 512;
            bytes[..512].fill(0);
            bytes[table..table + 8192].fill(0);
        }),
        ("exfat", exfat(), |bytes| {
            // The bitmap loses its first bytes; it stands in cluster 2.
            let heap = u32::from_le_bytes(bytes[88..92].try_into().unwrap()) as usize * 512;
            bytes[..512].fill(0);
            bytes[heap..heap + 64].fill(0);
        }),
    ]
}

/// Bytes that a check reads, and how many different ones these are.
fn check(meter: &Meter<'_>) -> (u64, u64) {
    let log = ReadLog::new(meter);
    let volume = registry::recognise(&log, &Silent).unwrap().unwrap();
    volume.examine(&log, &Silent).unwrap();
    let different = log.seen().iter().map(|extent| extent.length).sum();
    (meter.bytes(), different)
}

/// Where nothing of a boot sector is left, scouting reads the volume through, to see whether another one begins in its midst.
#[test]
fn what_scouting_read_through_is_not_read_again() {
    for (name, mut bytes, blow) in rows() {
        blow(&mut bytes);
        let memory = Memory::new(bytes);
        let meter = Meter::new(&memory);
        let volume = registry::recognise(&meter, &Silent).unwrap().unwrap();
        meter.bytes();
        drop(volume.survey(&meter, &Silent).unwrap());
        let read = meter.bytes();
        let after_it = |let_go: bool| {
            let (mut targets, _) = diagnosis::choose(&meter, Wish::All, &Silent).unwrap();
            assert_eq!(targets.len(), 1, "{name}");
            let scouted = meter.bytes();
            assert!(scouted > read, "{name}: scouting reads {scouted} bytes, a survey {read}");
            let target = targets.remove(0);
            if let_go {
                target.let_go();
            }
            let found = Diagnosed::of(&meter, target, None, &Silent).unwrap();
            assert!(found.examination.tally.intact > u64::from(FOLDERS * FILES) / 2, "{name}");
            meter.bytes()
        };
        let (anew, kept) = (after_it(true), after_it(false));
        assert!(anew - kept > read / 10 * 9, "{name}: {kept} bytes after scouting, {anew} were it let go");
    }
}

fn build(meter: &Meter<'_>) -> plan::Plan {
    let whole = Subject::Volume(Extent::new(0, meter.len()));
    plan::build(meter, "", whole, BTreeMap::new(), &Silent).unwrap()
}

#[test]
fn nothing_is_read_twice_for_one_question() {
    for (name, bytes, _) in rows() {
        let memory = Memory::new(bytes);
        let meter = Meter::new(&memory);
        let (read, different) = check(&meter);
        assert!(read * 10 <= different * 13, "{name}: check reads {read} bytes, {different} different ones");

        // A survey answers what is asked of it without reading the volume again.
        let volume = registry::recognise(&meter, &Silent).unwrap().unwrap();
        let mut survey = volume.survey(&meter, &Silent).unwrap();
        meter.bytes();
        let mut files = 0;
        survey.each_file(&meter, Wanted { deleted: true, system: true }, &mut |_| {
            files += 1;
            ControlFlow::Continue(())
        });
        survey.fields(&meter);
        let more = meter.bytes();
        assert!(files >= FOLDERS * (FILES + 1), "{name}: {files}");
        assert!(more * 10 <= read, "{name}: {more} bytes for the list, {read} for the check");

        // One survey, and the digests of what it read.
        let plan = build(&meter);
        assert!(plan.steps.is_empty());
        let planned = meter.bytes();
        assert!(planned * 10 <= (read + different) * 11, "{name}: a plan reads {planned}, a check {read}");
    }
}

#[test]
fn a_repair_costs_no_more_surveys_than_it_has_rounds() {
    for (name, mut bytes, strike) in rows() {
        strike(&mut bytes);
        let memory = Memory::new(bytes.clone());
        let meter = Meter::new(&memory);
        let (read, _) = check(&meter);
        let plan = build(&meter);
        let planned = meter.bytes();
        let evidence: u64 = plan.image.evidence.iter().map(|piece| piece.length).sum();
        assert!(plan.outcome.after.sound && !plan.steps.is_empty());
        // Before and the boot sector, the table, the counts; reading through the overlay is reading.
        assert!(planned <= 3 * read + evidence + read / 2, "{name}: {planned} bytes, a check reads {read}");

        let mut place = Bench::default();
        let applied = apply::apply(&plan, &meter, &mut place, &Silent).unwrap();
        assert!(applied.as_planned);
        let applying = meter.bytes();
        // The evidence, what the changes replace, and the copy.
        let most = evidence + bytes.len() as u64 + read / 4;
        assert!(applying <= most, "{name}: apply reads {applying} bytes, {most} at most");
    }
}
