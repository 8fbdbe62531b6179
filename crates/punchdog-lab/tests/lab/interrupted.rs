//! Writes that were cut off in the midst of many: of what differs between two states of a volume some is new and some is
//! old. Files that neither state touched are whole and where they were; and what is called intact is of one of the states.

use punchdog_core::{
    family::{Kind, Wanted},
    files::record::State,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    content::{counts, note, picture, sound},
    exfat,
    fat::{self, Placing},
    ntfs,
    patient::{Made, Patient},
    seed::Seed,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    io,
};

/// Volumes of each family and unit of writing.
const VOLUMES: u64 = 30;

/// What a family's filler can do.
trait Fill: Clone {
    type Geometry;
    fn folder(&mut self, path: &str);
    fn file(&mut self, path: &str, content: &[u8], lie: Placing);
    fn delete(&mut self, path: &str);
    fn done(self) -> Patient<Self::Geometry>;
}

macro_rules! fill {
    ($filler:ty, $geometry:ty, $folder:expr, $delete:expr) => {
        impl Fill for $filler {
            type Geometry = $geometry;
            fn folder(&mut self, path: &str) {
                let make: fn(&mut Self, &str) -> io::Result<()> = $folder;
                make(self, path).unwrap();
            }
            fn file(&mut self, path: &str, content: &[u8], lie: Placing) {
                <$filler>::file(self, path, content, lie).unwrap();
            }
            fn delete(&mut self, path: &str) {
                let delete: fn(&mut Self, &str) = $delete;
                delete(self, path);
            }
            fn done(self) -> Patient<Self::Geometry> {
                Patient::new(self.finish().unwrap())
            }
        }
    };
}

fill!(fat::Filler<Vec<u8>>, punchdog_core::fat::geometry::Geometry, |f, path| f.folder(path), |f, path| f
    .delete(path));
fill!(
    exfat::Filler<Vec<u8>>,
    punchdog_core::exfat::geometry::Geometry,
    |f, path| f.folder(path, 1, Placing::Row),
    |f, path| f.delete(path)
);
fill!(
    ntfs::Filler<Vec<u8>>,
    punchdog_core::ntfs::geometry::Geometry,
    |f, path| f.folder(path, Placing::Row),
    |f, path| f.delete(path).unwrap()
);

/// Two states of a volume, one after the other.
fn states<F: Fill>(mut filler: F, seed: u64) -> (Patient<F::Geometry>, Patient<F::Geometry>) {
    let mut seed = Seed::new(seed);
    let lie = |seed: &mut Seed| *seed.pick(&[Placing::Row, Placing::Pieces(1), Placing::Gaps]);
    for folder in ["Counts", "Counts/2026", "Pictures", "Recordings"] {
        filler.folder(folder);
    }
    let mut moved = Vec::new();
    for number in 0..14_u32 {
        let how = lie(&mut seed);
        let text = counts(&mut seed, 20 + 9 * number as usize);
        filler.file(&format!("Counts/2026/count of ledge {number}.csv"), &text, how);
        let image = picture(&mut seed, 20 + number, 16);
        filler.file(&format!("Pictures/IMG_{number:04}.PNG"), &image, lie(&mut seed.clone()));
        moved.push(image);
        let clip = sound(&mut seed, 80 + 40 * number);
        filler.file(&format!("Recordings/dawn {number}.wav"), &clip, Placing::Row);
    }
    let before = filler.clone().done();
    // Saved over, moved, deleted, and new ones.
    filler.folder("Pictures/Best of spring");
    for number in (0..14_u32).step_by(3) {
        let path = format!("Counts/2026/count of ledge {number}.csv");
        filler.delete(&path);
        filler.file(&path, &counts(&mut seed, 30 + 7 * number as usize), Placing::Row);
        let name = format!("IMG_{number:04}.PNG");
        filler.delete(&format!("Pictures/{name}"));
        filler.file(&format!("Pictures/Best of spring/{name}"), &moved[number as usize], Placing::Row);
        filler.delete(&format!("Recordings/dawn {number}.wav"));
        let how = lie(&mut seed);
        filler.file(
            &format!("Recordings/dusk {number} at the point.wav"),
            &sound(&mut seed, 90 + 31 * number),
            how,
        );
        filler.file(&format!("Note {number}.txt"), &note(&mut seed, 3), Placing::Row);
    }
    (before, filler.done())
}

type Listed = Vec<(String, State, String, u64)>;

fn listed(medium: &dyn Medium) -> Listed {
    let volume = registry::recognise(medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(medium, Wanted::default(), &Silent).unwrap();
    let files = files.iter().filter(|file| !file.folder && file.size > 0);
    files.map(|file| (file.path.to_string(), file.state, file.sha256(medium), file.size)).collect()
}

/// The newer state with some of what differs as it was before, but for the content of its files.
fn mixed<G>(
    old: &Patient<G>,
    new: &Patient<G>,
    unit: usize,
    cluster: &dyn Fn(u32) -> Extent,
    seed: u64,
) -> Vec<u8> {
    let mut seed = Seed::new(seed);
    let mut content: Vec<Extent> = new
        .live()
        .filter(|made| !made.folder)
        .flat_map(|made| made.clusters.iter().map(|c| cluster(*c)))
        .collect();
    content.sort_by_key(|extent| extent.offset);
    let many = [10, 35, 65][usize::try_from(seed.below(3)).unwrap()];
    let mut bytes = new.bytes.clone();
    for at in (0..bytes.len()).step_by(unit) {
        let end = (at + unit).min(bytes.len());
        let before = content.partition_point(|extent| extent.offset < end as u64);
        let within = before > 0 && content[before - 1].end() > at as u64;
        if !within && bytes[at..end] != old.bytes[at..end] && seed.below(100) < many {
            bytes[at..end].copy_from_slice(&old.bytes[at..end]);
        }
    }
    bytes
}

fn each<F: Fill>(filler: impl Fn() -> F, units: &[usize], cluster: impl Fn(&F::Geometry, u32) -> Extent) {
    let mut wrong = Vec::new();
    for (number, unit) in (0..VOLUMES).flat_map(|number| units.iter().map(move |unit| (number, *unit))) {
        let (old, new) = states(filler(), 900 + number);
        let bytes = mixed(&old, &new, unit, &|at| cluster(&new.geometry, at), 70 + number);
        wrong.extend(one(&old, &new, bytes).into_iter().map(|is| format!("{number}, unit {unit}: {is}")));
    }
    assert!(wrong.is_empty(), "{}:\n{}", wrong.len(), wrong.join("\n"));
}

fn one<G>(old: &Patient<G>, new: &Patient<G>, bytes: Vec<u8>) -> Vec<String> {
    let all = |patient: &Patient<G>| -> BTreeMap<String, Made> {
        patient.live().filter(|made| !made.folder).map(|made| (made.path.clone(), made.clone())).collect()
    };
    let (was, is) = (all(old), all(new));
    let known: BTreeSet<&str> = was.values().chain(is.values()).map(|made| &*made.sha256).collect();
    let mut wrong = Vec::new();
    let medium = Memory::new(bytes);
    for (path, state, hash, _) in listed(&medium) {
        // What a file that is new has written over nothing tells, where the entry of the old one came back.
        let over = was.get(&path).is_some_and(|made| {
            let others = is.values().filter(|other| other.path != path || other.clusters != made.clusters);
            others.flat_map(|other| &other.clusters).any(|cluster| made.clusters.contains(cluster))
        });
        if state == State::Intact && !known.contains(&*hash) && !over {
            wrong.push(format!("{path} is called intact and is of neither state"));
        }
    }
    let whole = Subject::Volume(Extent::new(0, medium.len()));
    let mut plan = plan::build(&medium, "x", whole, BTreeMap::new(), &Silent).unwrap();
    if plan.choices.iter().any(|choice| choice.name == "unowned-clusters" && choice.taken == "keep") {
        let free = BTreeMap::from([("unowned-clusters".to_owned(), "free".to_owned())]);
        plan = plan::build(&medium, "x", whole, free, &Silent).unwrap();
    }
    if !plan.outcome.after.sound {
        wrong.push(format!("not sound: {:?}", plan.outcome.after.findings));
    }
    let mended = plan.replay(&medium).unwrap();
    let after: BTreeSet<(String, String)> =
        listed(&mended).into_iter().map(|(path, _, hash, _)| (path, hash)).collect();
    for (path, made) in &was {
        let kept = is.get(path).is_some_and(|other| other.sha256 == made.sha256) && made.size > 0;
        if kept && !after.contains(&(path.clone(), made.sha256.clone())) {
            wrong.push(format!("{path} is not there any more"));
        }
    }
    wrong
}

fn canvas(bytes: u64) -> Vec<u8> {
    vec![0; usize::try_from(bytes).unwrap()]
}

#[test]
fn on_fat() {
    for (kind, cluster) in [(Kind::Fat12, 2048), (Kind::Fat16, 512), (Kind::Fat32, 1024)] {
        let wish = fat::small(kind, 512, cluster);
        each(
            || fat::Filler::new(&wish, canvas(wish.bytes)).unwrap(),
            &[512, 4096],
            |geometry, at| Extent::new(geometry.cluster_offset(at), geometry.cluster_bytes().into()),
        );
    }
}

#[test]
fn on_exfat() {
    let wish = exfat::small(512, 4096, 1);
    each(
        || exfat::Filler::new(&wish, canvas(wish.bytes)).unwrap(),
        &[512, 4096],
        |geometry, at| Extent::new(geometry.cluster_place(at), geometry.cluster_bytes()),
    );
}

#[test]
fn on_ntfs() {
    let wish = ntfs::small(512, 1024, 1024);
    each(
        || ntfs::Filler::new(&wish, canvas(wish.bytes)).unwrap(),
        &[512, 4096],
        |geometry, at| Extent::new(geometry.place(at.into()), geometry.cluster()),
    );
}
