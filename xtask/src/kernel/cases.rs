//! What is put before the kernel: damaged and mended volumes with the truth about their files.

use super::{guest, setup::Machine};
use anyhow::Context;
use punchdog_core::{
    exfat::{self as exfat_core, ExfatVolume},
    family::{Kind, Wanted},
    fat::{FatVolume, fresh::Wish},
    files::record::State,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
    report::forecast::HostForecast,
};
use punchdog_damage::{
    exfat, exfat_faults, fat, faults, ntfs, ntfs_faults, patient::Patient, row::Fault, seed::Seed, station,
};
use std::collections::{BTreeMap, BTreeSet};

/// Kind, sector bytes, cluster bytes.
const VOLUMES: [(Kind, u32, u32); 4] =
    [(Kind::Fat12, 512, 512), (Kind::Fat16, 512, 512), (Kind::Fat32, 512, 512), (Kind::Fat32, 4096, 4096)];

/// One volume before and after repair.
pub(crate) struct Case {
    /// Fault and volume.
    pub(crate) name: String,
    /// The kernel's driver for it.
    pub(crate) driver: &'static str,
    /// The damaged volume.
    pub(crate) before: Vec<u8>,
    /// The mended one.
    pub(crate) after: Vec<u8>,
    /// What we say Linux will do with the damaged one.
    pub(crate) forecast: HostForecast,
    /// Files that must be there afterwards under their path: path to SHA-256.
    pub(crate) files: BTreeMap<String, String>,
    /// Contents that must be there afterwards under any path.
    pub(crate) contents: BTreeSet<String>,
    /// There is room for the write test.
    pub(crate) writable: bool,
    /// Why there is no mended volume.
    pub(crate) failure: Option<String>,
}

/// A volume that the kernel filled, with what it put there.
pub(crate) struct FilledByKernel {
    name: String,
    kind: Kind,
    bytes: Vec<u8>,
    files: BTreeMap<String, String>,
    failure: Option<String>,
}

pub(super) fn linux(bytes: &[u8]) -> Option<HostForecast> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).ok()??;
    volume.forecast(&medium, 512).into_iter().find(|host| host.host == "linux")
}

/// What a plan leaves as it is, as the catalogue says: which descriptor a file had, nothing tells.
const LEFT: &str = "ntfs/security-id";

/// Plans on an overlay, and gives the mended bytes back.
fn mend(bytes: &[u8], choose: &[(&str, &str)]) -> Result<Vec<u8>, String> {
    let medium = Memory::new(bytes.to_vec());
    let whole = Extent::new(0, medium.len());
    let wanted = choose.iter().map(|(name, option)| ((*name).into(), (*option).into())).collect();
    let plan =
        plan::build(&medium, "", Subject::Volume(whole), wanted, &Silent).map_err(|e| e.to_string())?;
    let overlay = plan.replay(&medium).map_err(|e| e.to_string())?;
    let mended: &dyn Medium = &overlay;
    let all = mended.bytes(0, bytes.len()).map_err(|e| e.to_string())?;
    let left = plan.outcome.after.findings.keys().all(|code| *code == LEFT);
    if plan.outcome.after.sound || left {
        Ok(all)
    } else {
        Err(format!("not sound: {:?}", plan.outcome.after.findings))
    }
}

pub(super) fn case(
    name: String,
    before: Vec<u8>,
    choose: &[(&str, &str)],
    files: BTreeMap<String, String>,
    contents: BTreeSet<String>,
) -> Case {
    let mended = mend(&before, choose);
    let failure = mended.as_ref().err().cloned();
    let after = mended.unwrap_or_default();
    let forecast = linux(&before);
    let failure = failure.or_else(|| forecast.is_none().then(|| "not recognised".to_owned()));
    let basis = punchdog_core::report::forecast::Basis::Driver;
    let forecast = forecast.unwrap_or_else(|| HostForecast::mounts("linux", basis));
    Case { name, driver: "vfat", before, after, forecast, files, contents, writable: true, failure }
}

fn of_fault<G>(fault: &Fault<G>, mut patient: Patient<G>, volume: &str, seed: u64) -> Case {
    (fault.make)(&mut patient, &mut Seed::new(seed));
    let (mut files, mut contents) = (BTreeMap::new(), BTreeSet::new());
    // The drivers show no named streams.
    let shown = patient.live().filter(|made| !made.folder && !made.path.contains(':'));
    for made in shown.filter(|made| !patient.costs.contains(&made.path)) {
        if patient.moved.contains(&made.path) {
            contents.insert(made.sha256.clone());
        } else {
            files.insert(made.path.clone(), made.sha256.clone());
        }
    }
    case(format!("{} ({volume})", fault.name), patient.bytes, fault.choose, files, contents)
}

type NtfsShape = (u32, u32, u32);

fn ntfs_patient((sector, cluster, record): NtfsShape, seed: u64) -> ntfs_faults::Patient {
    Patient::new(ntfs::everyday(&ntfs::small(sector, cluster, record), seed))
}

type FatShape = (Kind, u32, u32);
type ExfatShape = (u32, u32, u32);

fn fat_patient((kind, sector, cluster): FatShape, seed: u64) -> faults::Patient {
    Patient::new(fat::everyday(&fat::small(kind, sector, cluster), seed))
}

fn exfat_patient((sector, cluster, tables): ExfatShape, seed: u64) -> exfat_faults::Patient {
    Patient::new(exfat::everyday(&exfat::small(sector, cluster, tables), seed))
}

/// A case that is made when its turn comes: all of them together would fill the memory.
pub(crate) type Recipe<'a> = Box<dyn Fn() -> anyhow::Result<Case> + Send + Sync + 'a>;

/// One in so many faults is left out, which ones by the seed: other commits try them.
const LEFT_OUT: u64 = 4;

/// The faults of the lab, each on one volume that fits it: which faults and which volumes by the seed. Without a seed
/// all of them, on each.
pub(crate) fn of_matrix<'a>(only: Option<&str>, seed: Option<u64>) -> Vec<Recipe<'a>> {
    let mut recipes: Vec<Recipe<'a>> = Vec::new();
    // "exfat:…", "fat:…" and "ntfs:…" take one family only.
    let split = only.and_then(|text| text.split_once(':'));
    let (family, only) = split.map_or((None, only), |(family, part)| (Some(family), Some(part)));
    let fat = family.is_none_or(|family| family == "fat");
    let exfat = family.is_none_or(|family| family == "exfat");
    let ntfs = family.is_none_or(|family| family == "ntfs");
    let volumes = VOLUMES.map(|volume| (volume, fat_patient(volume, 1).geometry));
    for fault in faults::all().filter(|fault| fat && only.is_none_or(|part| fault.name.contains(part))) {
        let fitting = volumes.iter().filter(|(_, geometry)| (fault.on)(geometry));
        for (volume, _) in sampled(fitting.collect(), seed, recipes.len()) {
            let (volume, seed) = (*volume, 1 + recipes.len() as u64 % 3);
            let name = format!("{} {}/{}", volume.0.name(), volume.1, volume.2);
            recipes.push(Box::new(move || Ok(of_fault(fault, fat_patient(volume, seed), &name, seed))));
        }
    }
    let volumes = EXFAT_VOLUMES.map(|volume| (volume, exfat_patient(volume, 1).geometry));
    for fault in
        exfat_faults::all().filter(|fault| exfat && only.is_none_or(|part| fault.name.contains(part)))
    {
        let fitting = volumes.iter().filter(|(_, geometry)| (fault.on)(geometry));
        for (volume, _) in sampled(fitting.collect(), seed, recipes.len()) {
            let (volume, seed) = (*volume, 1 + recipes.len() as u64 % 3);
            let name = format!("exfat {}/{}/{}", volume.0, volume.1, volume.2);
            recipes.push(Box::new(move || {
                let case = of_fault(fault, exfat_patient(volume, seed), &name, seed);
                Ok(Case { driver: "exfat", ..case })
            }));
        }
    }
    let volumes = NTFS_VOLUMES.map(|volume| (volume, ntfs_patient(volume, 1).geometry));
    for fault in ntfs_faults::all().filter(|fault| ntfs && only.is_none_or(|part| fault.name.contains(part)))
    {
        let fitting = volumes.iter().filter(|(_, geometry)| (fault.on)(geometry));
        for (volume, _) in sampled(fitting.collect(), seed, recipes.len()) {
            let (volume, seed) = (*volume, 1 + recipes.len() as u64 % 3);
            let name = format!("ntfs {}/{}/{}", volume.0, volume.1, volume.2);
            recipes.push(Box::new(move || {
                let case = of_fault(fault, ntfs_patient(volume, seed), &name, seed);
                Ok(Case { driver: "ntfs3", ..case })
            }));
        }
    }
    if let Some(seed) = seed {
        let mut number = seed % LEFT_OUT;
        recipes.retain(|_| {
            number += 1;
            !number.is_multiple_of(LEFT_OUT)
        });
    }
    recipes
}

/// Sector bytes, cluster bytes, record bytes.
const NTFS_VOLUMES: [NtfsShape; 4] =
    [(512, 4096, 1024), (512, 512, 1024), (512, 65536, 1024), (512, 1024, 4096)];

/// One of these by the seed and the number of the case, or all.
fn sampled<T>(mut all: Vec<T>, seed: Option<u64>, number: usize) -> Vec<T> {
    if let Some(seed) = seed.filter(|_| !all.is_empty()) {
        let turn = usize::try_from(seed % 1000).unwrap_or(0) + number;
        all = vec![all.swap_remove(turn % all.len())];
    }
    all
}

/// Sector bytes, cluster bytes, tables.
const EXFAT_VOLUMES: [(u32, u32, u32); 3] = [(512, 4096, 1), (4096, 4096, 1), (512, 1024, 2)];

/// The station's cards.
pub(crate) fn of_station<'a>() -> Vec<Recipe<'a>> {
    let cards: [fn() -> std::io::Result<station::Card>; 2] = [station::tide_card, station::camera_card];
    let recipe = |make: fn() -> std::io::Result<station::Card>| -> Recipe<'a> {
        Box::new(move || {
            let card = make()?;
            let made = card.sound.live().filter(|made| !made.folder);
            let files = made.map(|made| (made.path.clone(), made.sha256.clone())).collect();
            Ok(case(card.name.to_owned(), card.patient.bytes, &[], files, BTreeSet::new()))
        })
    };
    let mut recipes: Vec<Recipe<'a>> = cards.map(recipe).into();
    recipes.push(Box::new(|| {
        let card = station::recorder_card()?;
        let made = card.sound.live().filter(|made| !made.folder);
        let files = made.map(|made| (made.path.clone(), made.sha256.clone())).collect();
        let case = case(card.name.to_owned(), card.patient.bytes, &[], files, BTreeSet::new());
        Ok(Case { driver: "exfat", ..case })
    }));
    recipes
}

/// Empty volumes of several kinds, filled by the kernel and held against our own reading.
pub(crate) fn filled(machine: &Machine) -> anyhow::Result<Vec<FilledByKernel>> {
    let wishes: [(Kind, u64, u32, u32); 6] = [
        (Kind::Fat12, 1_900_000, 512, 512),
        (Kind::Fat12, 4 << 20, 512, 2048),
        (Kind::Fat16, 5 << 20, 512, 512),
        (Kind::Fat16, 20 << 20, 4096, 4096),
        (Kind::Fat32, 3 << 20, 512, 1024),
        (Kind::Fat32, 40 << 20, 512, 8192),
    ];
    let mut volumes = Vec::new();
    for (kind, bytes, sector_bytes, cluster_bytes) in wishes {
        let wish =
            Wish { kind, bytes, sector_bytes, cluster_bytes, tables: 2, label: *b"LANE       ", serial: 7 };
        let canvas = vec![0; usize::try_from(bytes)?];
        volumes.push(("vfat", fat::Filler::new(&wish, canvas)?.finish()?.canvas));
    }
    let others: [(u64, u32, u32); 4] =
        [(2 << 20, 512, 512), (8 << 20, 512, 4096), (40 << 20, 512, 32768), (24 << 20, 4096, 4096)];
    for (bytes, sector_bytes, cluster_bytes) in others {
        let wish = exfat_core::fresh::Wish {
            bytes,
            sector_bytes,
            cluster_bytes,
            tables: 1,
            label: "LANE".to_owned(),
            serial: 7,
        };
        let canvas = vec![0; usize::try_from(bytes)?];
        volumes.push(("exfat", exfat::Filler::new(&wish, canvas)?.finish()?.canvas));
    }
    let answers = guest::fill(machine, &volumes)?;
    let shapes = wishes.iter().map(|(kind, _, sector, cluster)| (*kind, *sector, *cluster));
    let shapes = shapes.chain(others.map(|(_, sector, cluster)| (Kind::Exfat, sector, cluster)));
    let named = shapes.zip(answers).map(|((kind, sector, cluster), (bytes, files))| {
        let failure = read_alike(&bytes, &files).err();
        FilledByKernel {
            name: format!("filled by the kernel ({} {sector}/{cluster})", kind.name()),
            kind,
            bytes,
            files,
            failure,
        }
    });
    Ok(named.collect())
}

/// Our reading of a sound volume must be the kernel's, and find nothing wrong.
fn read_alike(bytes: &[u8], files: &BTreeMap<String, String>) -> Result<(), String> {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).map_err(|e| e.to_string())?.ok_or("not recognised")?;
    let seen = volume.examine(&medium, &Silent).map_err(|e| e.to_string())?;
    if !seen.sound() {
        let codes: Vec<&str> = seen.findings.iter().map(|f| f.entry.code).collect();
        return Err(format!("findings on a sound volume: {codes:?}"));
    }
    let listed = volume.files(&medium, Wanted::default(), &Silent).map_err(|e| e.to_string())?;
    let whole = listed.iter().filter(|file| !file.folder && file.state == State::Intact);
    let ours: BTreeMap<String, String> =
        whole.map(|file| (file.path.to_string(), file.sha256(&medium))).collect();
    if &ours == files && files.len() > 250 {
        Ok(())
    } else {
        Err(format!("we list {} files, the kernel {}", ours.len(), files.len()))
    }
}

/// Damage to a volume that the kernel filled, by place alone.
type Blow = (&'static str, fn(&mut Vec<u8>, &punchdog_core::fat::geometry::Geometry));

fn range(start: u64, length: u64) -> std::ops::Range<usize> {
    let at = usize::try_from(start).unwrap_or(usize::MAX);
    at..at + usize::try_from(length).unwrap_or(0)
}

const BLOWS: [Blow; 6] = [
    ("untouched", |_, _| {}),
    ("boot sector zeroed", |bytes, _| bytes[..512].fill(0)),
    ("copy 0 zeroed", |bytes, g| bytes[range(g.table_offset(0), g.table_bytes())].fill(0)),
    ("copy 1 zeroed, boot sector all FF", |bytes, g| {
        bytes[range(g.table_offset(1), g.table_bytes())].fill(0);
        bytes[..512].fill(0xFF);
    }),
    ("a sector of copy 0 is noise", |bytes, g| {
        let noise = Seed::new(99).bytes(512);
        bytes[range(g.table_offset(0), 512)].copy_from_slice(&noise);
    }),
    ("not closed, sector size 0", |bytes, g| {
        bytes[if g.wide() { 65 } else { 37 }] = 1;
        bytes[11..13].fill(0);
    }),
];

/// The same for exFAT.
type ExfatBlow = (&'static str, fn(&mut Vec<u8>, &exfat_core::geometry::Geometry));

const EXFAT_BLOWS: [ExfatBlow; 7] = [
    ("untouched", |_, _| {}),
    ("main boot region zeroed", |bytes, g| bytes[range(0, g.region_bytes())].fill(0)),
    ("both boot regions all FF", |bytes, g| bytes[range(0, g.region_bytes() * 2)].fill(0xFF)),
    ("bitmap zeroed", |bytes, g| bytes[range(g.cluster_place(2), g.bitmap_bytes())].fill(0)),
    ("a sector of the bitmap is noise, not closed", |bytes, g| {
        let length = g.bitmap_bytes().min(512);
        let noise = Seed::new(99).bytes(usize::try_from(length).unwrap_or(0));
        bytes[range(g.cluster_place(2), length)].copy_from_slice(&noise);
        bytes[106] = 2;
    }),
    ("boot code changed", |bytes, _| bytes[200] ^= 0x10),
    ("root's first entries zeroed in use", |bytes, g| {
        for entry in 0..3 {
            bytes[range(g.cluster_place(g.root_cluster) + entry * 32, 1)].fill(0x05);
        }
    }),
];

fn of_filled_exfat(volume: &FilledByKernel) -> Vec<Recipe<'_>> {
    let mut recipes: Vec<Recipe<'_>> = Vec::new();
    for (name, strike) in EXFAT_BLOWS {
        recipes.push(Box::new(move || {
            let medium = Memory::new(volume.bytes.clone());
            let found =
                ExfatVolume::recognise(&medium, &Silent)?.context("what the kernel filled is no volume")?;
            let mut bytes = volume.bytes.clone();
            strike(&mut bytes, &found.believed().geometry);
            let name = format!("{name}, {}", volume.name);
            let mut case = case(name, bytes, &[], volume.files.clone(), BTreeSet::new());
            case.driver = "exfat";
            case.failure = volume.failure.clone().or(case.failure);
            Ok(case)
        }));
    }
    recipes
}

/// The volumes that the kernel filled, struck in several ways.
pub(crate) fn of_filled(filled: &[FilledByKernel]) -> Vec<Recipe<'_>> {
    let mut recipes: Vec<Recipe<'_>> = Vec::new();
    for volume in filled {
        if volume.kind == Kind::Exfat {
            recipes.extend(of_filled_exfat(volume));
            continue;
        }
        for (name, strike) in BLOWS {
            recipes.push(Box::new(move || {
                let medium = Memory::new(volume.bytes.clone());
                let found =
                    FatVolume::recognise(&medium, &Silent)?.context("what the kernel filled is no volume")?;
                let mut bytes = volume.bytes.clone();
                strike(&mut bytes, &found.believed().geometry);
                let name = format!("{name}, {}", volume.name);
                let mut case = case(name, bytes, &[], volume.files.clone(), BTreeSet::new());
                case.failure = volume.failure.clone().or(case.failure);
                Ok(case)
            }));
        }
    }
    recipes
}
