//! Volumes that an independent writer laid down and filled, in its own layout, damaged in ways
//! that depend on nothing of ours, mended by us, and read back by that independent reader.

use punchdog_core::{
    family::{Kind, Wanted},
    files::record::State,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    registry,
    repair::{apply, measure::Subject, plan},
    report::finding::Weight,
};
use punchdog_damage::{content, seed::Seed, workplace::Bench};
use sha2::{Digest, Sha256};
use std::{
    collections::BTreeMap,
    io::{Cursor, Read, Seek, SeekFrom, Write},
};

type Files = BTreeMap<String, String>;

/// Type, total bytes, cluster bytes, sector bytes.
const SHAPES: &[(fatfs::FatType, u64, u32, u16)] = &[
    (fatfs::FatType::Fat12, 2 << 20, 1024, 512),
    (fatfs::FatType::Fat12, 1_474_560, 512, 512),
    (fatfs::FatType::Fat16, 16 << 20, 2048, 512),
    (fatfs::FatType::Fat16, 24 << 20, 4096, 1024),
    (fatfs::FatType::Fat32, 40 << 20, 512, 512),
];

fn filled(shape: (fatfs::FatType, u64, u32, u16)) -> (Vec<u8>, Files) {
    let (fat, bytes, cluster, sector) = shape;
    let mut image = Cursor::new(vec![0_u8; usize::try_from(bytes).unwrap()]);
    let options = fatfs::FormatVolumeOptions::new()
        .fat_type(fat)
        .bytes_per_cluster(cluster)
        .bytes_per_sector(sector)
        .volume_label(*b"LEDGES     ");
    fatfs::format_volume(&mut image, options).unwrap();
    image.seek(SeekFrom::Start(0)).unwrap();
    let mut truth = Files::new();
    {
        let volume = fatfs::FileSystem::new(&mut image, fatfs::FsOptions::new()).unwrap();
        let root = volume.root_dir();
        let mut seed = Seed::new(bytes);
        let mut write = |folder: &fatfs::Dir<'_, _>, path: &str, name: &str, bytes: &[u8]| {
            let mut file = folder.create_file(name).unwrap();
            file.write_all(bytes).unwrap();
            file.flush().unwrap();
            truth.insert(format!("{path}{name}"), hex::encode(Sha256::digest(bytes)));
        };
        write(&root, "", "READ ME FIRST.TXT", &content::note(&mut seed, 9));
        let logs = root.create_dir("logs of the year").unwrap();
        for month in 1..=12 {
            write(
                &logs,
                "logs of the year/",
                &format!("2026-{month:02}.log"),
                &content::log(&mut seed, 40 * month),
            );
        }
        let birds = root.create_dir("Vögel").unwrap();
        let deep = birds.create_dir("Klippe").unwrap().create_dir("Süd").unwrap();
        for number in 0..20 {
            let name = format!("nest {number} — küken.png");
            write(&deep, "Vögel/Klippe/Süd/", &name, &content::picture(&mut seed, 16 + number, 16));
        }
        write(&birds, "Vögel/", "ruf.wav", &content::sound(&mut seed, 6000));
        write(&birds, "Vögel/", "nothing", b"");
        // A hole in the middle, then a file that fills it and goes on behind: a chain in pieces.
        logs.remove("2026-06.log").unwrap();
        write(&root, "", "tides.csv", &content::tides(&mut seed, 900));
    }
    truth.remove("logs of the year/2026-06.log");
    (image.into_inner(), truth)
}

fn read_back(bytes: &[u8]) -> Files {
    fn walk(folder: &fatfs::Dir<'_, Cursor<&mut Vec<u8>>>, above: &str, found: &mut Files) {
        for entry in folder.iter().map(Result::unwrap) {
            let name = entry.file_name();
            let path = format!("{above}{name}");
            if entry.is_dir() {
                if name != "." && name != ".." {
                    walk(&entry.to_dir(), &format!("{path}/"), found);
                }
            } else {
                let mut bytes = Vec::new();
                entry.to_file().read_to_end(&mut bytes).unwrap();
                found.insert(path, hex::encode(Sha256::digest(&bytes)));
            }
        }
    }
    let mut bytes = bytes.to_vec();
    let volume = fatfs::FileSystem::new(Cursor::new(&mut bytes), fatfs::FsOptions::new()).unwrap();
    let mut found = Files::new();
    walk(&volume.root_dir(), "", &mut found);
    found
}

fn ours(bytes: &[u8]) -> Files {
    let medium = Memory::new(bytes.to_vec());
    let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
    let files = volume.files(&medium, Wanted::default(), &Silent).unwrap();
    let whole = files.iter().filter(|file| !file.folder && file.state == State::Intact);
    whole.map(|file| (file.path.to_string(), file.sha256(&medium))).collect()
}

#[test]
fn a_sound_volume_of_another_maker_is_sound_to_us() {
    for shape in SHAPES {
        let (bytes, truth) = filled(*shape);
        let medium = Memory::new(bytes.clone());
        let volume = registry::recognise(&medium, &Silent).unwrap().expect("a volume");
        let kind = match shape.0 {
            fatfs::FatType::Fat12 => Kind::Fat12,
            fatfs::FatType::Fat16 => Kind::Fat16,
            fatfs::FatType::Fat32 => Kind::Fat32,
        };
        assert_eq!(volume.kind(), kind);
        let seen = volume.examine(&medium, &Silent).unwrap();
        // This writer gives "." and ".." long names and puts them behind those: the specification
        // ("Directory Creation") wants them bare, as the first two entries.
        let dots = ["fat/dot-entry", "fat/dot-dot-entry", "fat/stray-dots", "fat/long-name-stray"];
        let loud: Vec<_> = seen
            .findings
            .iter()
            .filter(|f| f.weight < Weight::Remark && !dots.contains(&f.entry.code))
            .map(|f| (f.entry.code, &f.summary))
            .collect();
        assert!(loud.is_empty(), "{kind:?}: {loud:?}");
        assert_eq!(ours(&bytes), truth, "{kind:?}");
    }
}

/// Table sizes and places as the volume's own boot sector gives them, read here and not by us.
struct Layout {
    reserved: usize,
    table: usize,
    sector: usize,
    wide: bool,
}

fn layout(bytes: &[u8]) -> Layout {
    let half = |at: usize| usize::from(u16::from_le_bytes([bytes[at], bytes[at + 1]]));
    let sector = half(11);
    let wide = half(22) == 0;
    let sectors = if wide { half(36) } else { half(22) };
    Layout { reserved: half(14) * sector, table: sectors * sector, sector, wide }
}

type Damage = (&'static str, fn(&mut [u8], &Layout));

const DAMAGES: &[Damage] = &[
    ("the boot sector is zero", |bytes, l| bytes[..l.sector].fill(0)),
    ("the boot sector is FF", |bytes, l| bytes[..l.sector].fill(0xFF)),
    ("all reserved sectors are zero", |bytes, l| bytes[..l.reserved].fill(0)),
    ("the first table is zero", |bytes, l| bytes[l.reserved..l.reserved + l.table].fill(0)),
    ("the second table is zero", |bytes, l| bytes[l.reserved + l.table..l.reserved + 2 * l.table].fill(0)),
    ("the first table is noise", |bytes, l| {
        let noise = Seed::new(1).bytes(l.table);
        bytes[l.reserved..l.reserved + l.table].copy_from_slice(&noise);
    }),
    ("each table has lost another sector", |bytes, l| {
        bytes[l.reserved..l.reserved + l.sector].fill(0);
        if l.table > l.sector {
            let other = l.reserved + l.table + l.sector;
            bytes[other..other + l.sector].fill(0);
        }
    }),
    ("boot sector and first table are zero", |bytes, l| {
        bytes[..l.sector].fill(0);
        bytes[l.reserved..l.reserved + l.table].fill(0);
    }),
    ("cluster size and number of tables are wrong", |bytes, _| {
        bytes[13] = 64;
        bytes[16] = 1;
    }),
    ("the FSInfo sector is noise", |bytes, l| {
        if l.wide {
            let noise = Seed::new(2).bytes(l.sector);
            bytes[l.sector..2 * l.sector].copy_from_slice(&noise);
        }
    }),
];

#[test]
fn what_we_mend_another_reader_reads_whole() {
    for shape in SHAPES {
        let (sound, truth) = filled(*shape);
        assert_eq!(read_back(&sound), truth, "{:?}", shape.0);
        for (name, damage) in DAMAGES {
            let mut bytes = sound.clone();
            damage(&mut bytes, &layout(&sound));
            let medium = Memory::new(bytes);
            let subject = Subject::Volume(Extent::new(0, medium.len()));
            let plan = plan::build(&medium, "x.img", subject, BTreeMap::new(), &Silent)
                .unwrap_or_else(|error| panic!("{:?}, {name}: {error}", shape.0));
            assert!(plan.outcome.after.sound, "{:?}, {name}: {:?}", shape.0, plan.outcome.after.findings);
            let mut bench = Bench::default();
            assert!(apply::apply(&plan, &medium, &mut bench, &Silent).unwrap().as_planned);
            let mut found = read_back(&bench.copy.unwrap());
            let missing: Vec<_> =
                truth.iter().filter(|(path, hash)| found.get(*path) != Some(hash)).collect();
            assert!(missing.is_empty(), "{:?}, {name}: {missing:?}", shape.0);
            found.retain(|path, _| !truth.contains_key(path));
            assert!(
                found.is_empty(),
                "{:?}, {name}: {} besides: {:?}",
                shape.0,
                found.len(),
                found.keys().next()
            );
        }
    }
}
