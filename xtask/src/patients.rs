//! Loose patients: the station's cards, and every fault of the lab on one volume of each kind.

use punchdog_core::family::Kind;
use punchdog_damage::{
    canvas::write_with_holes,
    fat::{everyday, small},
    faults::{self, Patient},
    large,
    seed::Seed,
};
use std::path::Path;

/// Volumes that are large in one way.
pub(crate) fn large(dir: &Path) -> anyhow::Result<()> {
    std::fs::create_dir_all(dir)?;
    large::wide_exfat(&dir.join("wide-exfat.img"))?;
    large::wide_fat32(&dir.join("wide-fat32.img"))?;
    large::deep_fat32(&dir.join("deep-fat32.img"))?;
    for count in [8_000, 65_000] {
        large::equal_names_fat32(&dir.join(format!("equal-fat32-{count}.img")), count)?;
        large::equal_names_exfat(&dir.join(format!("equal-exfat-{count}.img")), count)?;
    }
    large::bad_checksums(&dir.join("bad-checksums.img"), 4_000)?;
    large::broken_chains(&dir.join("broken-chains.img"), 20_000)?;
    large::garbage_folder(&dir.join("garbage-folder.img"), 400 << 20)?;
    large::hollow_disk(&dir.join("hollow-disk.img"), 64 << 30, false)?;
    large::hollow_disk(&dir.join("hollow-disk-volume.img"), 64 << 30, true)?;
    Ok(())
}

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
