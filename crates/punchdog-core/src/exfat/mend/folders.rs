//! What stands in folders besides sets.

use super::{Job, names, writing::free_entries};
use crate::{
    arith::Sat,
    exfat::{
        catalogue as c,
        layout::{ENTRY, FILE, IN_USE},
    },
    files::filler::Filled,
    medium::MediumError,
    mending::step::{Provenance, Step},
    report::{finding::Entry, wording::counted},
};

/// An entry that is not in use, and was of no file (exFAT 1.00, 6.2.1).
const UNUSED: [u8; ENTRY] = {
    let mut entry = [0; ENTRY];
    entry[0] = FILE & !IN_USE;
    entry
};

/// Names, and what stands in folders besides sets.
pub(super) fn folders(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    names::mend(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    let all: Vec<u32> = job.survey.tree.notes.keys().copied().collect();
    for folder in all {
        let Some(notes) = job.survey.tree.notes.get(&folder).cloned() else { continue };
        let content = job.survey.content(job.window, folder);
        let title = job.survey.tree.folder_title(folder);
        let groups: [(&[u32], &'static Entry, &'static str, Provenance, &str); 2] = [
            (
                &notes.strays,
                &c::STRAY,
                "strays-freed",
                Provenance::Derived,
                "no file entry stands before them",
            ),
            (&notes.junk, &c::JUNK, "junk-freed", Provenance::Judged, "they name nothing that exists"),
        ];
        for (indices, entry, name, provenance, from) in groups {
            if indices.is_empty() {
                continue;
            }
            let many = counted(indices.len().wide(), "entry", "entries");
            let step = Step::new(name, format!("{title}: mark {many} unused"), provenance, from, &[entry]);
            job.steps.run(job.window, step, |window| {
                let mut filled = Filled::default();
                for index in indices {
                    let at = index.size().times(ENTRY);
                    match content.place(*index).filter(|_| filled.at(&content.bytes, at)) {
                        Some(place) => window.write_at(place, &UNUSED)?,
                        None => free_entries(window, &content.places, [*index])?,
                    }
                }
                Ok(())
            })?;
        }
        if let Some((end, _)) = notes.tail {
            let step = Step::new(
                "tail-cleared",
                format!("{title}: clear what stands behind its end mark"),
                Provenance::Derived,
                "nothing may follow the end mark",
                &[&c::TAIL],
            );
            job.steps.run(job.window, step, |window| {
                (end..content.entries())
                    .filter_map(|index| content.place(index))
                    .try_for_each(|place| window.write_at(place, &[0; ENTRY]))
            })?;
        }
    }
    Ok(())
}
