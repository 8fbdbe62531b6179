//! Single bytes of boot and root structures, struck: what we call sound the kernel must mount, list as
//! we do and say nothing about; what we do not, it must do with as forecast, and mount after the repair.

use super::cases::{Case, Recipe, case, linux};
use punchdog_core::{
    family::{Kind, Wanted},
    files::record::State,
    medium::Memory,
    progress::Silent,
    registry,
    report::examination::Examination,
};
use punchdog_damage::{
    exfat, fat, ntfs,
    patient::Patient,
    seed::Seed,
    sweep::{self, Blow},
};
use std::collections::{BTreeMap, BTreeSet};

/// `count` cases, which ones by the seed; with `only`, of the parts of NTFS whose name contains it.
pub(super) fn recipes<'a>(count: usize, seed: u64, only: Option<&str>) -> Vec<Recipe<'a>> {
    let mut recipes: Vec<Recipe<'a>> = Vec::new();
    let mut pick = Seed::new(seed);
    let fats = [(Kind::Fat12, 512, 512), (Kind::Fat16, 512, 512), (Kind::Fat32, 512, 512)];
    let exfats = [(512, 4096, 1), (512, 512, 1)];
    let ntfses = [(512, 4096, 1024), (512, 512, 1024), (512, 1024, 4096)];
    for number in 0..count {
        // A sixth of them FAT: the others have more structures.
        if number % 2 == 0 || only.is_some() {
            let (sector, cluster, record) = *pick.pick(&ntfses);
            let mut patient = Patient::new(ntfs::everyday(&ntfs::small(sector, cluster, record), 3));
            let used = pick.below(3) == 0;
            sweep::give_log(&mut patient, used);
            let mut blows = sweep::of_ntfs(&patient);
            blows.retain(|blow| only.is_none_or(|text| blow.part.contains(text)));
            let blow = chosen(&mut pick, &blows);
            recipes.push(Box::new(move || {
                let mut patient = patient.clone();
                sweep::strike_ntfs(&mut patient, blow);
                Ok(of_struck(
                    format!("ntfs {cluster}, log {} {blow:?}", if used { "in use" } else { "closed" }),
                    "ntfs3",
                    patient.bytes,
                ))
            }));
        } else if number % 6 == 1 {
            let (kind, sector, cluster) = *pick.pick(&fats);
            let patient = Patient::new(fat::everyday(&fat::small(kind, sector, cluster), 3));
            let blow = chosen(&mut pick, &sweep::of_fat(&patient));
            recipes.push(Box::new(move || {
                let mut patient = patient.clone();
                sweep::strike_fat(&mut patient, blow);
                Ok(of_struck(format!("{} {blow:?}", kind.name()), "vfat", patient.bytes))
            }));
        } else {
            let (sector, cluster, tables) = *pick.pick(&exfats);
            let patient = Patient::new(exfat::everyday(&exfat::small(sector, cluster, tables), 3));
            let blow = chosen(&mut pick, &sweep::of_exfat(&patient));
            recipes.push(Box::new(move || {
                let mut patient = patient.clone();
                sweep::strike_exfat(&mut patient, blow);
                Ok(of_struck(format!("exfat {cluster} {blow:?}"), "exfat", patient.bytes))
            }));
        }
    }
    recipes
}

/// A part first, then a byte of it: small parts are tried as often as large ones.
fn chosen(pick: &mut Seed, blows: &[Blow]) -> Blow {
    let parts: BTreeSet<(&str, bool)> = blows.iter().map(|blow| (blow.part, blow.summed)).collect();
    let parts: Vec<(&str, bool)> = parts.into_iter().collect();
    let part = *pick.pick(&parts);
    let fitting: Vec<Blow> = blows.iter().filter(|blow| (blow.part, blow.summed) == part).copied().collect();
    *pick.pick(&fitting)
}

fn of_struck(name: String, driver: &'static str, bytes: Vec<u8>) -> Case {
    let medium = Memory::new(bytes);
    let volume = registry::recognise(&medium, &Silent).ok().flatten();
    let seen = volume.as_ref().and_then(|volume| volume.examine(&medium, &Silent).ok());
    let bytes = medium.bytes().to_vec();
    let has = |code: &str| {
        seen.as_ref().is_some_and(|seen| seen.findings.iter().any(|finding| finding.entry.code == code))
    };
    // What waits in a log is the technician's to give up.
    let choose: &[(&str, &str)] = if has("ntfs/log-in-use") { &[("log", "reset")] } else { &[] };
    if !seen.as_ref().is_some_and(Examination::sound) {
        return Case { driver, ..case(name, bytes, choose, BTreeMap::new(), BTreeSet::new()) };
    }
    let listed = volume.and_then(|volume| volume.files(&medium, Wanted::default(), &Silent).ok());
    let listed = listed.unwrap_or_default();
    // The drivers show no named streams.
    let shown = |path: &str| !path.contains(':');
    let whole = listed.iter().filter(|file| !file.folder && file.state == State::Intact);
    let whole = whole.filter(|file| shown(&file.path.to_string()));
    let files = whole.map(|file| (file.path.to_string(), file.sha256(&medium))).collect();
    let failure = linux(&bytes).is_none().then(|| "not recognised".to_owned());
    let forecast = linux(&bytes).unwrap_or_else(|| {
        punchdog_core::report::forecast::HostForecast::mounts(
            "linux",
            punchdog_core::report::forecast::Basis::Driver,
        )
    });
    Case {
        name: format!("{name}, called sound"),
        driver,
        before: bytes.clone(),
        after: bytes,
        forecast,
        files,
        contents: BTreeSet::new(),
        writable: true,
        failure,
    }
}
