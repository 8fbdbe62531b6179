//! What an NTFS volume's bytes are for, besides files: its own files, the indexes of folders, and what $BadClus has.
//! There is no complete published specification; see `layout` for what the names rest on.

use super::{
    geometry::Geometry,
    layout::{kind, own},
    records::{File, Notes},
    runs::Mapping,
    survey::Survey,
};
use crate::{
    arith::Sat,
    medium::{Extent, Medium},
    report::structure::{Purpose, Structure},
};

/// The file system's own files that are no folders, with what each does.
const OWN: [(u32, &str, Purpose); 10] = [
    (own::MFT, "$MFT", Purpose::Records),
    (own::MIRROR, "$MFTMirr", Purpose::Records),
    (own::LOG, "$LogFile", Purpose::Own),
    (own::VOLUME, "$Volume", Purpose::Own),
    (own::ATTRDEF, "$AttrDef", Purpose::Own),
    (own::BITMAP, "$Bitmap", Purpose::Table),
    (own::BOOT, "$Boot", Purpose::Boot),
    (own::SECURE, "$Secure", Purpose::Own),
    (own::UPCASE, "$UpCase", Purpose::Own),
    (own::EXTEND, "$Extend", Purpose::Own),
];

/// Where all that a record's attributes of these types hold stands.
fn extents(survey: &Survey, file: &File, types: &[u32]) -> Vec<Extent> {
    let pieces = survey.records.pieces_of(file);
    let cluster = survey.mft.geometry.cluster();
    let mut found = Vec::new();
    for piece in pieces.iter().filter(|piece| !piece.resident && types.contains(&piece.kind)) {
        let map = Mapping::of(survey.records.runs_of(piece), cluster);
        found.extend(map.places(0, u64::MAX).into_iter().map(|(_, extent)| extent));
    }
    found
}

/// The structures.
pub(super) fn of(medium: &dyn Medium, geometry: &Geometry, survey: &Survey) -> Vec<Structure> {
    let sector = geometry.sector();
    let copy = geometry.counted();
    let mut found = vec![
        Structure::new("the boot sector", Purpose::Boot, Extent::new(0, sector))
            .needed(sector)
            .with_twin(copy, "its copy in the last sector"),
        Structure::new("the copy of the boot sector", Purpose::Boot, Extent::new(copy, sector))
            .with_twin(0, "the boot sector"),
    ];
    let records = &survey.records;
    let first = survey.mft.places(0).first().map(|place| place.offset);
    let mirror = geometry.place(geometry.mirror);
    for (number, name, purpose) in OWN {
        let Some(file) = records.live(number) else { continue };
        for extent in extents(survey, file, &[kind::DATA, kind::BITMAP]) {
            // The boot sector has a name of its own.
            let own = if number == own::BOOT && extent.offset == 0 { sector } else { 0 };
            let extent = Extent::new(extent.offset.plus(own), extent.length.minus(own));
            let structure = Structure::new(name, purpose, extent);
            let whole = matches!(number, own::UPCASE | own::BITMAP);
            let structure = if whole { structure.needed(u64::MAX) } else { structure };
            // The first records stand twice.
            found.push(match (number, first) {
                (own::MIRROR, Some(first)) if extent.offset == mirror => structure.with_twin(first, "$MFT"),
                _ => structure,
            });
        }
    }
    if !survey.mft.map.is_empty() && !found.iter().any(|one| one.name == "$MFT") {
        // Record 0 is not to be had; where the records stand is known all the same.
        let places = survey.mft.map.places(0, u64::MAX);
        found.extend(places.into_iter().map(|(_, extent)| Structure::new("$MFT", Purpose::Records, extent)));
    }
    if let Some(first) = first
        && let Some(at) = found.iter().position(|one| one.name == "$MFT" && one.extent.offset == first)
        && let Some(whole) = found.get(at).cloned()
    {
        let twice = geometry.mirrored().times(geometry.record().wide()).min(whole.extent.length);
        let head = Structure::new("the first records of $MFT", Purpose::Records, Extent::new(first, twice));
        found.push(head.with_twin(mirror, "$MFTMirr").needed(u64::MAX));
        if let Some(rest) = found.get_mut(at) {
            rest.extent = Extent::new(first.plus(twice), whole.extent.length.minus(twice));
        }
    }
    folders(survey, &mut found);
    found.retain(|one| one.extent.length > 0 && one.extent.offset < medium.len());
    found
}

/// The blocks of folders' indexes.
fn folders(survey: &Survey, found: &mut Vec<Structure>) {
    let is_folder = |file: &&File| file.notes.contains(Notes::FOLDER) && !file.notes.contains(Notes::DELETED);
    let types = [kind::INDEX_ALLOCATION, kind::BITMAP];
    let with: Vec<(u32, Vec<Extent>)> = survey
        .records
        .files
        .iter()
        .filter(is_folder)
        .map(|file| (file.number, extents(survey, file, &types)))
        .filter(|(_, extents)| !extents.is_empty())
        .collect();
    let numbers: std::collections::HashSet<u32> = with.iter().map(|(number, _)| *number).collect();
    let paths = survey.paths_of(|number| numbers.contains(&number));
    for (number, extents) in with {
        let name = match paths.get(&number) {
            _ if number == own::ROOT => "the index of the root folder".to_owned(),
            Some(path) => format!("the index of folder {path}"),
            None => format!("the index of folder record {number}"),
        };
        found.extend(extents.into_iter().map(|extent| Structure::new(name.clone(), Purpose::Folder, extent)));
    }
}

/// What $BadClus has clusters for: they failed.
pub(super) fn marked_bad(survey: &Survey) -> Vec<Extent> {
    let Some(file) = survey.records.live(own::BADCLUS) else { return Vec::new() };
    let runs = survey.records.all_runs(survey.records.stream_of(file, kind::DATA, "$Bad"));
    let geometry = &survey.mft.geometry;
    let mut found: Vec<Extent> = runs
        .iter()
        .filter_map(|run| run.first.map(|first| (first, run.length)))
        .map(|(first, length)| Extent::new(geometry.place(first), length.times(geometry.cluster())))
        .collect();
    found.sort_unstable();
    found
}
