//! Another reader of FAT, which knows nothing of ours, sees what the lab made and what we mended.

use punchdog_core::{
    family::Kind,
    medium::{Extent, Medium, Memory},
    progress::Silent,
    repair::{measure::Subject, plan},
};
use punchdog_damage::{
    fat::{everyday, small},
    faults::Patient,
};
use sha2::{Digest, Sha256};
use std::{
    collections::BTreeMap,
    io::{Cursor, Read},
};

fn walk(folder: &fatfs::Dir<'_, Cursor<Vec<u8>>>, above: &str, found: &mut BTreeMap<String, String>) {
    for entry in folder.iter().map(Result::unwrap) {
        let name = entry.file_name();
        let path = if above.is_empty() { name.clone() } else { format!("{above}/{name}") };
        if name == "." || name == ".." {
            continue;
        }
        if entry.is_dir() {
            walk(&entry.to_dir(), &path, found);
        } else {
            let mut bytes = Vec::new();
            entry.to_file().read_to_end(&mut bytes).unwrap();
            found.insert(path, hex::encode(Sha256::digest(&bytes)));
        }
    }
}

fn as_others_see_it(bytes: Vec<u8>) -> BTreeMap<String, String> {
    let volume = fatfs::FileSystem::new(Cursor::new(bytes), fatfs::FsOptions::new()).unwrap();
    let mut found = BTreeMap::new();
    walk(&volume.root_dir(), "", &mut found);
    found
}

#[test]
fn fresh_and_mended_volumes_read_alike_elsewhere() {
    // That reader wants FAT32 volumes as large as the published rule has them, and 512-byte sectors.
    for kind in [Kind::Fat12, Kind::Fat16] {
        let mut patient = Patient::new(everyday(&small(kind, 512, 1024), 11));
        let truth: BTreeMap<String, String> =
            patient.live().filter(|m| !m.folder).map(|m| (m.path.clone(), m.sha256.clone())).collect();
        assert_eq!(as_others_see_it(patient.bytes.clone()), truth, "{kind:?}, fresh");

        patient.fill(0, 512, 0);
        let (from, length) = (patient.geometry.table_offset(0), patient.geometry.table_bytes());
        patient.fill(from, length, 0);
        let medium = Memory::new(patient.bytes.clone());
        let whole = Subject::Volume(Extent::new(0, medium.len()));
        let plan = plan::build(&medium, "", whole, BTreeMap::new(), &Silent).unwrap();
        let overlay = plan.replay(&medium).unwrap();
        let mended = (&overlay as &dyn Medium).bytes(0, patient.bytes.len()).unwrap();
        assert_eq!(as_others_see_it(mended), truth, "{kind:?}, mended");
    }
}
