//! What any bytes may be given to, and must not break: the bodies of the fuzz targets, which the tests run too.
//!
//! A panic is a fault, and so is a plan that does not hold what it promises, or an undo that leaves other bytes.

use crate::{
    cards::{Card, Fill, Listing, Shape},
    exfat, fat, ntfs,
    workplace::Bench,
};
use punchdog_core::{
    diagnosis::{self, Diagnosed, Wish},
    family::{Kind, Wanted},
    formats::{BEGINNING, End, Format, Tape, begins, walk, walk_with_stands},
    medium::{Extent, Medium, Memory, Window},
    progress::Silent,
    registry,
    repair::{apply, measure::Subject, plan},
};
use std::{collections::BTreeMap, ops::ControlFlow, sync::LazyLock};

/// Everything that a technician can ask of a whole image: what it holds, each volume, the plan, the copy, and back.
fn ask(bytes: Vec<u8>) {
    let image = Memory::new(bytes);
    let Ok((targets, _)) = diagnosis::choose(&image, Wish::All, &Silent) else { return };
    for target in targets {
        let window = Window::new(&image, target.extent);
        let mut survey = target.volume.survey(&window, &Silent).expect("memory can be read");
        survey.fields(&window);
        survey.each_file(&window, Wanted { deleted: true, system: true }, &mut |file| {
            // Reading is bounded by what is there, whatever sizes say.
            let _ = file.sha256(&window);
            ControlFlow::Continue(())
        });
        Diagnosed::of(&image, target, None, &Silent).expect("memory can be read");
    }
    mend(&image, Subject::Medium);
}

/// The same of a bare volume.
fn ask_volume(bytes: Vec<u8>) {
    let image = Memory::new(bytes);
    if registry::recognise(&image, &Silent).expect("memory can be read").is_some() {
        mend(&image, Subject::Volume(Extent::new(0, image.len())));
    }
    ask(image.bytes().to_vec());
}

/// A plan holds what it promises, undo puts every byte back, and what is mended needs no mending.
fn mend(image: &Memory, subject: Subject) {
    let Ok(plan) = plan::build(image, "x", subject, BTreeMap::new(), &Silent) else { return };
    let mut place = Bench::default();
    let applied = apply::apply(&plan, image, &mut place, &Silent).expect("a workplace in memory");
    assert!(applied.as_planned, "{:?} instead of {:?}", applied.measured, plan.outcome.after);
    apply::undo(&mut place).expect("a workplace in memory");
    assert!(place.copy.as_deref() == Some(image.bytes()), "undo left other bytes");
}

/// Strikes `bytes` as `blows` say: what, where, how long, and with which bytes.
fn strike(bytes: &mut [u8], mut blows: &[u8]) {
    while let [what, high, middle, low, length, rest @ ..] = blows {
        let place = usize::from(*high) << 16 | usize::from(*middle) << 8 | usize::from(*low);
        // Half of all blows fall where the structures stand.
        let room = if what & 0x80 == 0 { bytes.len().min(64 << 10) } else { bytes.len() };
        let from = place % room.max(1);
        let long = usize::from(*length) * if what & 0x40 == 0 { 1 } else { 64 };
        let to = (from + long).min(bytes.len());
        let mut used = 0;
        match what & 3 {
            0 => {
                used = (to - from).min(rest.len());
                bytes[from..from + used].copy_from_slice(&rest[..used]);
            }
            1 => bytes[from..to].fill(0),
            2 => bytes[from..to].fill(0xFF),
            _ => {
                let source = (from + 512 * (1 + usize::from(*length))) % bytes.len();
                let size = 512.min(bytes.len() - source).min(bytes.len() - from);
                bytes.copy_within(source..source + size, from);
            }
        }
        blows = &rest[used..];
    }
}

/// Any bytes as an image.
///
/// # Panics
/// Where they break something: that is what it is for.
pub fn any_image(bytes: &[u8]) {
    ask_volume(bytes.to_vec());
}

static VOLUMES: LazyLock<Vec<Vec<u8>>> = LazyLock::new(|| {
    let mut all: Vec<Vec<u8>> =
        [(Kind::Fat12, 512), (Kind::Fat16, 512), (Kind::Fat32, 512), (Kind::Fat12, 2048)]
            .map(|(kind, cluster)| fat::everyday(&fat::small(kind, 512, cluster), 3).canvas)
            .into();
    for (cluster, tables) in [(512, 1), (1024, 2)] {
        all.push(exfat::everyday(&exfat::small(512, cluster, tables), 3).canvas);
    }
    all.push(ntfs::everyday(&ntfs::small(512, 1024, 1024), 3).canvas);
    all
});

/// A small volume of each kind, struck a few times: the first byte says which.
///
/// # Panics
/// Where they break something: that is what it is for.
pub fn struck_volume(bytes: &[u8]) {
    let Some((which, blows)) = bytes.split_first() else { return };
    let mut volume = VOLUMES[usize::from(*which) % VOLUMES.len()].clone();
    strike(&mut volume, blows);
    ask_volume(volume);
}

static DISKS: LazyLock<Vec<Vec<u8>>> = LazyLock::new(|| {
    let first = Shape { kind: Kind::Fat12, start: 1 << 20, bytes: 1 << 20, cluster: 2048, fill: Fill::Some };
    let second = Shape { kind: Kind::Exfat, start: 2 << 20, bytes: 3 << 20, cluster: 4096, fill: Fill::Some };
    [Listing::Mbr, Listing::Gpt].map(|listing| Card::new(6 << 20, listing, &[first, second]).bytes).into()
});

/// A disk with two volumes and a table, struck a few times: the first byte says which table.
///
/// # Panics
/// Where they break something: that is what it is for.
pub fn struck_disk(bytes: &[u8]) {
    let Some((which, blows)) = bytes.split_first() else { return };
    let mut disk = DISKS[usize::from(*which) % DISKS.len()].clone();
    strike(&mut disk, blows);
    ask(disk);
}

static IMAGE: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut bytes = fat::everyday(&fat::small(Kind::Fat12, 512, 512), 3).canvas;
    bytes[..512].fill(0);
    bytes
});
static PLAN: LazyLock<String> = LazyLock::new(|| {
    let image = Memory::new(IMAGE.clone());
    let whole = Subject::Volume(Extent::new(0, image.len()));
    plan::build(&image, "x", whole, BTreeMap::new(), &Silent).expect("a plan").to_json()
});

/// Any bytes as a plan file, and a real one with its bytes struck and its seal put right.
///
/// # Panics
/// Where they break something: that is what it is for.
pub fn plan_file(bytes: &[u8]) {
    let image = Memory::new(IMAGE.clone());
    let text = if bytes.first() == Some(&b'{') {
        String::from_utf8_lossy(bytes).into_owned()
    } else {
        let mut text = PLAN.clone().into_bytes();
        strike(&mut text, bytes);
        String::from_utf8_lossy(&text).into_owned()
    };
    let _ = plan::Plan::from_json(&text);
    // As if its seal fitted: whoever edits plans on purpose can make one.
    if let Ok(plan) = serde_json::from_str::<plan::Plan>(&text) {
        let _ = plan.must_fit(&image, &Silent);
        let _ = plan.replay(&image);
    }
}

/// The copy and its journal.
static APPLIED: LazyLock<(Vec<u8>, Vec<u8>)> = LazyLock::new(|| {
    let mut bytes = fat::everyday(&fat::small(Kind::Fat12, 512, 512), 3).canvas;
    bytes[..512].fill(0);
    let image = Memory::new(bytes);
    let whole = Subject::Volume(Extent::new(0, image.len()));
    let plan = plan::build(&image, "x", whole, BTreeMap::new(), &Silent).expect("a plan");
    let mut place = Bench::default();
    apply::apply(&plan, &image, &mut place, &Silent).expect("a workplace in memory");
    (place.copy.expect("a copy"), place.journal.expect("a journal"))
});

/// Any bytes as a journal, and a real one struck: undo refuses it, or puts back what it says.
///
/// # Panics
/// Where they break something: that is what it is for.
pub fn journal(bytes: &[u8]) {
    let (copy, journal) = &*APPLIED;
    let journal = if let Some((0, rest)) = bytes.split_first() {
        rest.to_vec()
    } else {
        let mut journal = journal.clone();
        strike(&mut journal, bytes);
        journal
    };
    let mut place = Bench { journal: Some(journal), copy: Some(copy.clone()), ..Bench::default() };
    let before = place.copy.clone();
    if apply::undo(&mut place).is_err() {
        assert!(place.copy == before, "what is refused changes nothing");
    }
}

const EXTENSIONS: [&str; 24] = [
    "jpg", "png", "gif", "bmp", "tif", "heic", "mp4", "avi", "wav", "mts", "mp3", "flac", "ogg", "mkv",
    "pdf", "zip", "doc", "sqlite", "7z", "gz", "rtf", "html", "xml", "txt",
];

/// Any bytes as a file of each kind that is walked: the first byte says which.
///
/// # Panics
/// Where they break something: that is what it is for.
pub fn walk_file(data: &[u8]) {
    let Some((first, bytes)) = data.split_first() else { return };
    let named =
        EXTENSIONS.get(usize::from(*first) % EXTENSIONS.len()).and_then(|own| Format::of_extension(own));
    for format in [named, begins(&bytes[..bytes.len().min(BEGINNING)])].into_iter().flatten() {
        let walked = walk(format, &mut Tape::new(&bytes));
        if let End::Whole { length, .. } = walked.end {
            assert!(length <= bytes.len() as u64);
        }
        walk_with_stands(format, &mut Tape::new(&bytes), 512);
    }
}
