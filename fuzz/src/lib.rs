//! What every target does with an image, and how a few bytes strike a volume of the lab.

use punchdog_core::{
    diagnosis::{self, Diagnosed, Wish},
    family::Wanted,
    medium::{Extent, Medium, Memory, Window},
    progress::Silent,
    registry,
    repair::{apply, measure::Subject, plan},
};
use punchdog_lab::workplace::Bench;
use std::{collections::BTreeMap, ops::ControlFlow};

/// Everything that a technician can ask of a whole image: what it holds, each volume, the plan, the copy, and back.
pub fn ask(bytes: Vec<u8>) {
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
pub fn ask_volume(bytes: Vec<u8>) {
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
pub fn strike(bytes: &mut [u8], mut blows: &[u8]) {
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
