//! Loose patients: the station's cards, and every fault of the lab on one volume of each kind.

use punchdog_core::family::Kind;
use punchdog_lab::{
    canvas::write_with_holes,
    fat::{everyday, small},
    faults::{self, Patient},
    seed::Seed,
};
use std::path::Path;

pub(crate) fn run(dir: &Path) -> anyhow::Result<()> {
    std::fs::create_dir_all(dir)?;
    for (kind, name) in [(Kind::Fat12, "fat12"), (Kind::Fat16, "fat16"), (Kind::Fat32, "fat32")] {
        let sound = Patient::new(everyday(&small(kind, 512, 512), 1));
        write_with_holes(&dir.join(format!("{name}.img")), &sound.bytes)?;
        for fault in faults::all().filter(|fault| (fault.on)(&sound.geometry)) {
            let mut patient = sound.clone();
            (fault.make)(&mut patient, &mut Seed::new(1));
            let plain: String =
                fault.name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
            write_with_holes(&dir.join(format!("{name}-{plain}.img")), &patient.bytes)?;
        }
    }
    Ok(())
}
