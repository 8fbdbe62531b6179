//! Places that cannot be read, in every structure of every family, in folders and in files, alone and in pairs: each is
//! told, no wrong file is called intact, no plan rests on a zero, and the plan comes out as it was made.
//! `PUNCHDOG_PART` takes what has this text in its name only.

use punchdog_core::{
    family::{Kind, Wanted},
    files::{
        content::Piece,
        inventory::{Change, Fate},
        record::{FileRecord, State},
    },
    medium::{Extent, Medium, Memory, WithUnreadable},
    mending::step::Provenance,
    progress::Silent,
    registry,
    repair::{
        apply,
        error::PlanError,
        measure::Subject,
        plan::{self, Plan},
    },
    report::{
        finding::{Finding, Weight},
        structure::Purpose,
    },
};
use punchdog_damage::{
    exfat,
    fat::{self, Placing},
    ntfs,
    patient::{Made, Patient},
    seed::Seed,
    workplace::Bench,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{
        Mutex,
        atomic::{AtomicUsize, Ordering},
    },
};

/// A sound volume, whatever its family.
struct Sound {
    name: String,
    bytes: Vec<u8>,
    made: Vec<Made>,
    contents: BTreeMap<String, Vec<u8>>,
}

fn sound<G>(name: &str, patient: Patient<G>) -> Sound {
    let medium = Memory::new(patient.bytes.clone());
    let found = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = found.files(&medium, Wanted::default(), &Silent).unwrap();
    let files = files.iter().filter(|file| !file.folder);
    let contents = files.map(|file| (file.path.to_string(), file.content.start(&medium, u64::MAX))).collect();
    Sound { name: name.to_owned(), bytes: patient.bytes, made: patient.made, contents }
}

/// All of each file but what it is said to lack is what it was, and zeros stand there.
fn exact(volume: &Sound, medium: &dyn Medium) -> Result<(), String> {
    let found = registry::recognise(medium, &Silent).unwrap().ok_or("not recognised")?;
    for file in found.files(medium, Wanted::default(), &Silent).unwrap().iter().filter(|file| !file.folder) {
        let Some(was) = volume.contents.get(&file.path.to_string()) else { continue };
        let is = file.content.start(medium, u64::MAX);
        let lacks =
            |at: usize| file.lacks.iter().any(|gap| gap.offset <= at as u64 && (at as u64) < gap.end());
        let wrong = (0..was.len().max(is.len()))
            .find(|at| is.get(*at) != if lacks(*at) { Some(&0) } else { was.get(*at) });
        if let Some(at) = wrong {
            return Err(format!("{}: byte {at} is not what it was, and {:?} is told", file.path, file.lacks));
        }
    }
    Ok(())
}

fn volumes() -> Vec<Sound> {
    let fat = |kind, cluster| Patient::new(fat::everyday(&fat::small(kind, 512, cluster), 3));
    vec![
        sound("fat12", fat(Kind::Fat12, 1024)),
        sound("fat16", fat(Kind::Fat16, 2048)),
        sound("fat32", fat(Kind::Fat32, 1024)),
        sound("exfat", Patient::new(exfat::everyday(&exfat::small(512, 1024, 1), 3))),
        sound("exfat two tables", Patient::new(exfat::everyday(&exfat::small(512, 4096, 2), 3))),
        sound("ntfs", Patient::new(ntfs::everyday(&ntfs::small(512, 4096, 1024), 3))),
        sound("ntfs small", Patient::new(ntfs::everyday(&ntfs::small(512, 512, 1024), 3))),
    ]
}

/// A place, what lies there, and whether losing it may lose names or content besides that of the files hit.
#[derive(Clone)]
struct Spot {
    name: String,
    place: Extent,
    purpose: Option<Purpose>,
}

fn is_packed(file: &FileRecord) -> bool {
    file.content.pieces().iter().any(|piece| matches!(piece, Piece::Packed(_)))
}

/// The sector that `at` lies in.
fn sector(at: u64) -> Extent {
    Extent::new(at / 512 * 512, 512)
}

/// Places in everything that the volume has: the first sector of each structure, one in its middle, its last.
fn spots(volume: &Sound) -> Vec<Spot> {
    let medium = Memory::new(volume.bytes.clone());
    let found = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let mut survey = found.survey(&medium, &Silent).unwrap();
    let mut spots = Vec::new();
    for structure in survey.structures(&medium) {
        let extent = structure.extent;
        let last = extent.end().min(medium.len()) - 1;
        let places: BTreeSet<u64> =
            [extent.offset, extent.offset + extent.length / 2, last].map(|at| sector(at).offset).into();
        for at in places {
            spots.push(Spot {
                name: format!("{} at {at}", structure.name),
                place: sector(at),
                purpose: Some(structure.purpose),
            });
        }
    }
    let files = found.files(&medium, Wanted::default(), &Silent).unwrap();
    let folders = files.iter().filter(|file| file.folder);
    let packed =
        |file: &&FileRecord| file.content.pieces().iter().any(|piece| matches!(piece, Piece::Packed(_)));
    for file in files.iter().filter(packed) {
        // What its parts were packed with lies in each of its sectors.
        for at in file.content.extents().flat_map(|e| (e.offset..e.end()).step_by(512)) {
            spots.push(Spot { name: format!("{} at {at}", file.path), place: sector(at), purpose: None });
        }
    }
    // Content that stands in its record.
    let in_record = |file: &&FileRecord| {
        let mut own = file.content.extents();
        !file.folder && own.next().is_some_and(|extent| extent.offset.abs_diff(file.place) < 4096)
    };
    for file in files.iter().filter(in_record).step_by(2) {
        let at = sector(file.content.extents().next().unwrap().offset);
        let purpose = Some(Purpose::Records);
        spots.push(Spot { name: format!("{} at {}", file.path, at.offset), place: at, purpose });
    }
    for file in folders.chain(files.iter().filter(|file| !file.folder && file.size > 600).step_by(7)) {
        let Some(extent) = file.content.extents().last() else { continue };
        let purpose = file.folder.then_some(Purpose::Folder);
        let at = sector(extent.offset + extent.length / 2);
        spots.push(Spot { name: format!("{} at {}", file.path, at.offset), place: at, purpose });
        let at = sector(extent.offset);
        spots.push(Spot { name: format!("{} at {}", file.path, at.offset), place: at, purpose });
    }
    spots
}

/// Every place is told of, and the volume is not called sound.
fn told_of(medium: &dyn Medium, places: &[Extent], names_hit: bool) -> Result<(), String> {
    let found = registry::recognise(medium, &Silent).unwrap().ok_or("not recognised")?;
    let seen = found.examine(medium, &Silent).unwrap();
    let told: Vec<Extent> = seen
        .findings
        .iter()
        .filter(|finding| finding.entry.code.starts_with("medium/"))
        .flat_map(|finding| finding.extents.clone())
        .collect();
    let covered = |place: &Extent| {
        let inside = told.iter().filter(|told| told.overlaps(*place));
        inside.map(|told| told.end().min(place.end()) - told.offset.max(place.offset)).sum::<u64>()
            >= place.length
    };
    if !places.iter().all(covered) {
        return Err(format!("not told: {places:?} in {told:?}"));
    }
    // The volume was sound: what is not read of anything but names is neither right nor wrong.
    let concluded: Vec<String> = seen
        .findings
        .iter()
        .filter(|finding| !finding.entry.code.starts_with("medium/") && finding.weight != Weight::Remark)
        .map(|finding| format!("{}: {}", finding.entry.code, finding.summary))
        .collect();
    if !names_hit && !concluded.is_empty() {
        return Err(format!("concluded from what cannot be read: {concluded:?}"));
    }
    if seen.sound() { Err("called sound".to_owned()) } else { Ok(()) }
}

/// What went wrong, or nothing.
fn try_these(volume: &Sound, spots: &[&Spot], mark: bool) -> Result<(), String> {
    let mut places: Vec<Extent> = spots.iter().map(|spot| spot.place).collect();
    places.sort_unstable();
    places.dedup();
    let inner = Memory::new(volume.bytes.clone());
    let medium = WithUnreadable::new(&inner, places.clone());
    let hit = |extent: Extent| places.iter().any(|place| place.overlaps(extent));
    let truth: BTreeMap<&str, &Made> = volume
        .made
        .iter()
        .filter(|made| !made.deleted && !made.folder)
        .map(|m| (m.path.as_str(), m))
        .collect();

    // A name that cannot be read takes its file with it, or the file's length.
    let name_hit = spots.iter().any(|spot| matches!(spot.purpose, Some(Purpose::Folder | Purpose::Records)));
    told_of(&medium, &places, name_hit)?;
    // Intact is what is whole, in the view of the failing medium and on the copy.
    let intact = |medium: &dyn Medium,
                  of: &str,
                  but: &BTreeSet<String>|
     -> Result<(BTreeSet<String>, BTreeSet<String>), String> {
        let found = registry::recognise(medium, &Silent).unwrap().ok_or(format!("{of}: not recognised"))?;
        let (mut intact, mut all) = (BTreeSet::new(), BTreeSet::new());
        for file in found.files(medium, Wanted::default(), &Silent).unwrap() {
            if file.folder {
                continue;
            }
            let hash = file.sha256(medium);
            let path = file.path.to_string();
            if file.state == State::Intact
                && !but.contains(&path)
                && let Some(made) = truth.get(path.as_str())
                && (made.sha256 != hash && made.size > 0 || file.size != made.size)
            {
                return Err(format!("{of}: {path} is called intact, and is not"));
            }
            if file.state == State::Intact {
                intact.insert(path);
            }
            all.insert(hash);
        }
        Ok((intact, all))
    };
    intact(&medium, "before", &BTreeSet::new())?;
    if spots.iter().all(|spot| spot.purpose.is_none()) {
        exact(volume, &medium)?;
    }

    let plan = planned(&medium, mark)?;
    // What a lost record had stays in use, unless that is answered otherwise.
    let kept = plan.choices.iter().any(|choice| choice.name == "unowned-clusters" && choice.taken == "keep");
    let known = |code: &str| kept && code == "ntfs/cluster-marked-used";
    if !plan.outcome.after.sound && !plan.outcome.after.findings.keys().all(|code| known(code)) {
        let steps: Vec<&String> = plan.steps.iter().map(|step| &step.does).take(6).collect();
        return Err(format!("not sound after the plan: {:?}; {steps:?}", plan.outcome.after.findings));
    }
    let plan = Plan::from_json(&plan.to_json()).map_err(|e| format!("the plan file: {e}"))?;
    let mut bench = Bench::default();
    let applied = apply::apply(&plan, &medium, &mut bench, &Silent).map_err(|e| e.to_string())?;
    if !applied.as_planned {
        return Err(format!("not as planned: {:?}, {:?}", applied.measured, applied.written));
    }
    let copy = WithUnreadable::with_lost(Memory::new(bench.copy.clone().unwrap()), plan.outcome.lost.clone());
    // What the plan names as made worse, or as judged, is no news.
    let hurt = |change: &&Change| matches!(change.fate, Fate::Shorter | Fate::Damaged | Fate::Lost);
    let hurt = plan.outcome.changes.iter().filter(hurt).map(|change| change.path.to_string());
    let judged = plan.steps.iter().filter(|step| step.provenance == Provenance::Judged);
    let named: BTreeSet<String> = hurt.chain(judged.flat_map(|step| step.paths.clone())).collect();
    let (names, hashes) = intact(&copy, "after", &named)?;
    fates(&plan, &names, |path| truth.get(path).is_some_and(|made| hit_content(&inner, made, &hit)))?;
    if mark {
        // Where a table cannot be read, it does not tell of the marks either.
        let told =
            |spot: &&Spot| spot.purpose != Some(Purpose::Table) || spot.place.offset >= data_at(&inner);
        if spots.iter().all(told) {
            kept_off(&copy, &places, &known)?;
        }
    }
    let cluster_hit =
        |made: &Made| spots.iter().any(|spot| spot.purpose.is_none() && spot.name.starts_with(&made.path));
    for made in truth.values() {
        let content_hit = cluster_hit(made) && made.size > 0;
        if content_hit {
            if names.contains(&made.path) && !named.contains(&made.path) && hit_content(&inner, made, &hit) {
                return Err(format!("{} has lost bytes and is called intact", made.path));
            }
        } else if !name_hit && made.size > 0 && !named.contains(&made.path) && !hashes.contains(&made.sha256)
        {
            return Err(format!("{} is lost", made.path));
        }
    }
    let mut expected = volume.bytes.clone();
    for place in &places {
        expected[usize::try_from(place.offset).unwrap()..usize::try_from(place.end()).unwrap()].fill(0);
    }
    let undone = apply::undo(&mut bench).map_err(|e| e.to_string())?;
    if bench.copy.as_deref() != Some(&expected[..]) {
        return Err("undo did not give the image back".to_owned());
    }
    if undone.unread != places_joined(&places) {
        return Err(format!("undo does not say what could not be read: {:?}", undone.unread));
    }
    Ok(())
}

/// A plan for a copy that goes onto a good medium or back onto its own, where anything is hit that could move.
fn planned(medium: &dyn Medium, mark: bool) -> Result<Plan, String> {
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let wanted =
        |mark: bool| mark.then(|| ("unreadable-places".to_owned(), "mark".to_owned())).into_iter().collect();
    match plan::build(medium, "", whole, wanted(mark), &Silent) {
        Err(PlanError::NoSuchChoice { .. }) => plan::build(medium, "", whole, wanted(false), &Silent),
        plan => plan,
    }
    .map_err(|e| e.to_string())
}

/// What the plan says of files is so: of those that it calls lost none is there, of those that it calls whole none has
/// lost bytes.
fn fates(plan: &Plan, there: &BTreeSet<String>, hurt: impl Fn(&str) -> bool) -> Result<(), String> {
    for change in &plan.outcome.changes {
        let path = change.path.to_string();
        if change.fate == Fate::Lost && there.contains(&path) {
            return Err(format!("{path} is called lost, and is there"));
        }
        let rebuilt =
            plan.steps.iter().any(|step| step.name == "chain-rebuilt" && step.paths.contains(&path));
        if change.fate == Fate::Back && !rebuilt && hurt(&path) {
            return Err(format!("{path} has lost bytes and is called whole afterwards"));
        }
    }
    Ok(())
}

fn data_at(medium: &dyn Medium) -> u64 {
    registry::recognise(medium, &Silent).unwrap().map_or(0, |volume| volume.data_at())
}

/// A mended copy on the medium that it came from: nothing that can move stands in places that fail.
fn kept_off(copy: &dyn Medium, places: &[Extent], known: &dyn Fn(&str) -> bool) -> Result<(), String> {
    let failing = WithUnreadable::new(copy, places.to_vec());
    let found = registry::recognise(&failing, &Silent).unwrap().ok_or("not recognised on its medium")?;
    let data = found.data_at();
    // Tables and boot sectors stay where they are, the root folder of FAT12 and FAT16 too.
    let seen = found.examine(&failing, &Silent).unwrap();
    let own = |extent: &Extent| extent.offset < data;
    let mft = |finding: &Finding| {
        let here = |name: &&str| finding.summary.contains(*name);
        finding.entry.code == "medium/unreadable-structure"
            && ["$MFTMirr", "$Boot", "$MFT", "boot sector"].iter().any(here)
    };
    let fixed = |finding: &&Finding| finding.extents.iter().all(own) || mft(finding);
    let all_movable = !places.iter().any(own) && !seen.findings.iter().any(mft);
    let wrong: Vec<String> = seen
        .findings
        .iter()
        .filter(|finding| finding.weight != Weight::Remark && !fixed(finding) && !known(finding.entry.code))
        .filter(|finding| all_movable || finding.entry.code.starts_with("medium/"))
        .map(|finding| format!("{}: {}", finding.entry.code, finding.summary))
        .collect();
    if !wrong.is_empty() {
        return Err(format!("on its medium: {wrong:?}"));
    }
    let hashes = |medium: &dyn Medium| -> BTreeMap<String, String> {
        let files = found.files(medium, Wanted::default(), &Silent).unwrap();
        files
            .iter()
            .filter(|file| !file.folder)
            .map(|file| (file.path.to_string(), file.sha256(medium)))
            .collect()
    };
    if all_movable && hashes(&failing) != hashes(copy) {
        return Err("on its medium other files".to_owned());
    }
    Ok(())
}

fn places_joined(places: &[Extent]) -> Vec<Extent> {
    let mut joined: Vec<Extent> = Vec::new();
    for place in places {
        match joined.last_mut() {
            Some(last) if last.end() >= place.offset => last.length = place.end() - last.offset,
            _ => joined.push(*place),
        }
    }
    joined
}

/// True when the content of a file, on the sound volume, lies in these places.
fn hit_content(sound: &Memory, made: &Made, hit: &impl Fn(Extent) -> bool) -> bool {
    let found = registry::recognise(sound, &Silent).unwrap().expect("a volume");
    let files = found.files(sound, Wanted::default(), &Silent).unwrap();
    let file = files.iter().find(|file| file.path == made.path);
    // What stands behind the end of what was packed is nobody's: `exact` tells.
    file.is_some_and(|file| !is_packed(file) && file.content.extents().any(hit))
}

/// `PUNCHDOG_SEED` takes other combinations than those of every run.
fn seed(usual: u64) -> Seed {
    let wanted = std::env::var("PUNCHDOG_SEED").ok().and_then(|seed| seed.parse().ok());
    Seed::new(wanted.unwrap_or(usual))
}

/// Tries cases on all processors; names what failed.
fn all(cases: &[(&Sound, Vec<&Spot>)], mark: bool) {
    let next = AtomicUsize::new(0);
    let failures = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some((volume, spots)) = cases.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if let Err(why) = try_these(volume, spots, mark) {
                        let names: Vec<&str> = spots.iter().map(|spot| spot.name.as_str()).collect();
                        failures.lock().unwrap().push(format!(
                            "{}, {}: {why}",
                            volume.name,
                            names.join(" + ")
                        ));
                    }
                }
            });
        }
    });
    let failures = failures.into_inner().unwrap();
    assert!(failures.is_empty(), "{} of {}:\n{}", failures.len(), cases.len(), failures.join("\n"));
}

fn chosen() -> Vec<(Sound, Vec<Spot>)> {
    let only = std::env::var("PUNCHDOG_PART").unwrap_or_default();
    let all = volumes().into_iter().map(|volume| {
        let mut found = spots(&volume);
        found.retain(|spot| format!("{} {}", volume.name, spot.name).contains(&only));
        (volume, found)
    });
    all.collect()
}

#[test]
fn an_unreadable_sector_anywhere_is_told_and_nothing_rests_on_it() {
    let volumes = chosen();
    let cases: Vec<(&Sound, Vec<&Spot>)> = volumes
        .iter()
        .flat_map(|(volume, spots)| spots.iter().map(move |spot| (volume, vec![spot])))
        .collect();
    assert!(cases.len() > 200 || std::env::var_os("PUNCHDOG_PART").is_some());
    all(&cases, false);
}

#[test]
fn two_of_them_at_once() {
    let volumes = chosen();
    let mut seed = seed(11);
    let mut cases: Vec<(&Sound, Vec<&Spot>)> = Vec::new();
    for (volume, spots) in &volumes {
        for _ in 0..60 {
            let one = &spots[usize::try_from(seed.below(spots.len() as u64)).unwrap()];
            let other = &spots[usize::try_from(seed.below(spots.len() as u64)).unwrap()];
            cases.push((volume, vec![one, other]));
        }
    }
    all(&cases, false);
}

/// The copy goes back onto the medium that fails: what can move does, and hosts are kept off the places.
#[test]
fn what_fails_is_kept_off_where_that_is_wanted() {
    let volumes = chosen();
    let mut seed = seed(12);
    let mut cases: Vec<(&Sound, Vec<&Spot>)> = Vec::new();
    for (volume, spots) in &volumes {
        // The boot sector alone leaves nothing to move.
        let can_move: Vec<&Spot> = spots.iter().filter(|spot| spot.purpose != Some(Purpose::Boot)).collect();
        cases.extend(can_move.iter().map(|spot| (volume, vec![*spot])));
        for _ in 0..20 {
            let some = (0..5).map(|_| can_move[usize::try_from(seed.below(can_move.len() as u64)).unwrap()]);
            cases.push((volume, some.collect()));
        }
    }
    all(&cases, true);
}

fn while_there_is_room(mut put: impl FnMut(usize) -> bool) {
    let full = (0..60).find(|number| !put(*number));
    assert!(full.is_some(), "there is room left");
}

/// Where nothing is free, what fails stays where it is, and that is said by name.
#[test]
fn what_has_no_room_to_move_is_named() {
    let wish = fat::small(Kind::Fat12, 512, 1024);
    let mut filler = fat::Filler::new(&wish, vec![0; usize::try_from(wish.bytes).unwrap()]).unwrap();
    filler.file("FIRST.BIN", &Seed::new(1).bytes(9000), Placing::Row).unwrap();
    for size in [20_000, 1000] {
        let name = |number: usize| format!("F{size}{number}.BIN");
        while_there_is_room(|number| filler.file(&name(number), &vec![7; size], Placing::Row).is_ok());
    }
    let patient = Patient::new(filler.finish().unwrap());
    let inner = Memory::new(patient.bytes.clone());
    let found = registry::recognise(&inner, &Silent).unwrap().unwrap();
    let files = found.files(&inner, Wanted::default(), &Silent).unwrap();
    let first = files.iter().find(|file| file.path == "FIRST.BIN").unwrap();
    let at = first.content.extents().next().unwrap().offset + 1024;
    let medium = WithUnreadable::new(&inner, vec![Extent::new(at, 512)]);
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let mark = [("unreadable-places".to_owned(), "mark".to_owned())].into();
    let plan = plan::build(&medium, "", whole, mark, &Silent).unwrap();
    assert!(plan.steps.is_empty(), "{:?}", plan.steps);
    let choice = plan.choices.iter().find(|choice| choice.name == "unreadable-places").unwrap();
    let effect = &choice.options.iter().find(|option| option.option == "mark").unwrap().effect;
    assert!(effect.ends_with("; FIRST.BIN stays where it is, and fails there"), "{effect}");
}
