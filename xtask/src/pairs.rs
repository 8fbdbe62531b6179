//! Double faults: every pair of classes on one small volume of each kind; see [`trial`].

use anyhow::ensure;
use punchdog_core::family::Kind;
use punchdog_damage::{
    exfat, exfat_faults, fat, faults, ntfs, ntfs_faults,
    patient::Patient,
    row::Fault,
    trial::{self, Outcome},
};
use std::time::Instant;

/// Share of pairs that may cost a file beyond what each fault costs alone, in percent.
const COSTLY: usize = 3;

#[derive(Default)]
struct Count {
    all: usize,
    /// Pairs of which one fault takes away what the other needs.
    apart: usize,
    costly: usize,
    failed: usize,
}

impl Count {
    /// Every fault of `faults` that fits the volume with each `step`th of those behind it, from the `turn`th on.
    fn take<G: Clone + Sync + 'static>(
        &mut self,
        name: &str,
        sound: &Patient<G>,
        faults: impl Iterator<Item = &'static Fault<G>>,
        (step, turn): (usize, usize),
        verbose: bool,
    ) {
        let fitting: Vec<&Fault<G>> = faults.filter(|fault| (fault.on)(&sound.geometry)).collect();
        let mut pairs = Vec::new();
        for (number, one) in fitting.iter().enumerate() {
            pairs.extend(
                fitting
                    .iter()
                    .skip(number + 1 + (number + turn) % step)
                    .step_by(step)
                    .filter(|other| !ntfs_faults::beyond(one.name, other.name) && !faults::beyond(one, other))
                    .map(|other| (*one, *other)),
            );
        }
        self.all += pairs.len();
        for (pair, outcome) in trial::all(sound, &pairs) {
            match outcome {
                Outcome::Kept => {}
                Outcome::NoPair => {
                    self.all -= 1;
                    self.apart += 1;
                }
                Outcome::Costs(paths) => {
                    self.costly += 1;
                    if verbose {
                        println!("  costs  {name} + {pair}: {}", paths.join(", "));
                    }
                }
                Outcome::Fails(why) => {
                    self.failed += 1;
                    println!("  FAILS  {name} + {pair}: {why}");
                }
            }
        }
    }
}

pub(crate) fn run(verbose: bool, every: bool) -> anyhow::Result<()> {
    trial::hush();
    let started = Instant::now();
    let mut count = Count::default();
    let (share, turn) = if every { (1, 0) } else { (8, usize::try_from(crate::of_commit() % 1000)?) };
    // On FAT12, FAT16 and with two tables, each fault with every fifth of the others: the rest is the same code.
    for (kind, step) in [(Kind::Fat12, 5), (Kind::Fat16, 5), (Kind::Fat32, 1)] {
        let sound = Patient::new(fat::everyday(&fat::small(kind, 512, 512), 1));
        count.take(kind.name(), &sound, faults::all(), (step * share, turn), verbose);
    }
    for (name, tables, step) in [("exfat", 1, 1), ("exfat with two tables", 2, 5)] {
        let sound = Patient::new(exfat::everyday(&exfat::small(512, 2048, tables), 4));
        count.take(name, &sound, exfat_faults::all(), (step * share, turn), verbose);
    }
    let sound = Patient::new(ntfs::everyday(&ntfs::small(512, 4096, 1024), 4));
    count.take("ntfs", &sound, ntfs_faults::all(), (if every { 1 } else { 2 * share }, turn), verbose);
    let Count { all, apart, costly, failed } = count;
    println!(
        "pairs of faults: {all} ({apart} more exclude each other), sound and as planned: {}, of those costing a further file: {costly}, {} s",
        all - failed,
        started.elapsed().as_secs()
    );
    ensure!(apart * 100 <= all, "{apart} pairs exclude each other");
    ensure!(failed == 0, "{failed} pairs of faults fail");
    ensure!(costly * 100 <= all * COSTLY, "{costly} of {all} pairs cost a file that neither fault costs");
    Ok(())
}
