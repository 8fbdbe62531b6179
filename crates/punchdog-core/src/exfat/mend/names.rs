//! Names with characters that may not be in them (exFAT 7.7.3, table 35), and names that a folder
//! has twice (7.7: unique, case apart).

use super::{
    Job,
    files::flawed,
    writing::{set_of, write_set},
};
use crate::{
    arith::{Peek, Sat},
    exfat::{
        catalogue as c,
        layout::{ENTRY, NAME, NAME_UNITS, name_hash, put},
        sets::{Flaws, made_legal},
    },
    files::naming::{Names, numbered},
    medium::MediumError,
    mending::step::{Provenance, Step},
};

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let wrong = flawed(job, Flaws::ILLEGAL | Flaws::TWICE);
    let mut names = Names::of(wrong.iter().map(|(_, node)| node.parent));
    for (_, node) in job.survey.tree.below_root() {
        if names.keeps(node.parent) {
            let units: Vec<u16> = node.name.encode_utf16().collect();
            names.take(node.parent, job.survey.capitals.upper(&units));
        }
    }
    for (number, node) in wrong {
        let path = job.survey.tree.path(number);
        let Some((places, mut item)) = set_of(job, number) else { continue };
        let all: Vec<u16> = item
            .raw
            .chunks_exact(ENTRY)
            .filter(|entry| entry.byte(0) == NAME)
            .flat_map(|entry| entry.part(2, 30).chunks_exact(2).map(|pair| pair.le16(0)).collect::<Vec<_>>())
            .collect();
        let upper = |units: &[u16]| job.survey.capitals.upper(units);
        let old = all.get(..usize::from(item.stream.name_length).min(all.len())).unwrap_or(&[]);
        let mut units = made_legal(old);
        let room = all.len();
        units.truncate(room);
        let compared = upper(&units);
        let doubled = node.flaws.contains(Flaws::TWICE);
        if doubled || units != old && names.has(node.parent, &compared) {
            let other = names.another(node.parent, &compared, |number| {
                let name = numbered(&units, number, room);
                let compared = upper(&name);
                (name, compared)
            });
            units = other.unwrap_or(units);
        } else {
            names.take(node.parent, compared);
        }
        let mut stream = item.stream;
        stream.name_length = u8::try_from(units.len()).unwrap_or(u8::MAX);
        stream.name_hash = name_hash(&upper(&units));
        if let Some(entry) = item.raw.get_mut(ENTRY..2.times(ENTRY)) {
            stream.put(entry);
        }
        let mut padded = units.clone();
        padded.resize(room, 0);
        let mut parts = padded.chunks(NAME_UNITS);
        for entry in item.raw.chunks_exact_mut(ENTRY).filter(|entry| entry.byte(0) == NAME) {
            let bytes: Vec<u8> =
                parts.next().unwrap_or(&[]).iter().flat_map(|unit| unit.to_le_bytes()).collect();
            put(entry, 2, &bytes);
        }
        let step = Step::new(
            "renamed",
            format!("{path}: call it {}", String::from_utf16_lossy(&units)),
            Provenance::Judged,
            if doubled {
                "the folder has that name already"
            } else {
                "characters that are not allowed became _"
            },
            &[&c::NAME_ILLEGAL, &c::NAME_TWICE],
        )
        .file(path);
        job.steps.run(job.window, step, |window| write_set(window, &places, item.index, &item.raw))?;
    }
    Ok(())
}
