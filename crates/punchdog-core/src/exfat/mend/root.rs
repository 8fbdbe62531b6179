//! What the root names: bitmap, up-case table, label; and the bits of the bitmap.

use super::{
    Job,
    keep::reserved,
    writing::{Slots, free_entries, link, take_row},
};
use crate::{
    arith::{Peek, Sat},
    cluster::{
        chain::{End, Link, run_of},
        set::ClusterSet,
    },
    exfat::{
        catalogue as c,
        geometry::Geometry,
        layout::{BITMAP, ENTRY, LABEL, Owner, UPCASE, table_checksum},
        survey::{Owned, places},
        table,
        upcase::{RECOMMENDED_BYTES, RECOMMENDED_CHECKSUM, Upcase},
    },
    medium::MediumError,
    mending::step::{Provenance, Step},
    report::{finding::Entry, wording::counted},
};

pub(super) fn mend(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    root_chain(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    doubles(job)?;
    bitmap_entry(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    upcase(job)?;
    label(job)
}

/// The root's own chain.
fn root_chain(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let Some(node) = job.survey.tree.node(0).filter(|node| node.fault.is_some()).cloned() else {
        return Ok(());
    };
    let geometry = job.believed.geometry;
    let clusters = job.survey.clusters(job.window, 0);
    let many = counted(clusters.len().wide(), "cluster", "clusters");
    let faults: &[&'static Entry] = &[&c::INTO_FREE, &c::INTO_BAD, &c::INTO_RANGE, &c::LOOP];
    let guessed = node.length > 1 && node.fault.is_some_and(|(_, end)| end != End::Proper);
    let step = Step::new(
        "root-chain",
        format!("write the root folder's chain: {many}"),
        if guessed { Provenance::Judged } else { Provenance::Derived },
        "the folder's own end mark; clusters that go on as a folder does",
        faults,
    );
    job.steps.run(job.window, step, |window| link(window, &geometry, &clusters))
}

fn doubles(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let content = job.survey.content(job.window, 0);
    let all = [
        (job.survey.bitmap.doubles.clone(), &c::BITMAP_DOUBLE, "bitmap entries"),
        (job.survey.second.doubles.clone(), &c::BITMAP_DOUBLE, "second bitmap entries"),
        (job.survey.upcase.doubles.clone(), &c::UPCASE_DOUBLE, "up-case entries"),
        (job.survey.labels.clone(), &c::LABEL_DOUBLE, "labels"),
    ];
    for (indices, entry, what) in all {
        if !indices.is_empty() {
            let entry: &'static Entry = entry;
            let step = Step::new(
                "double-freed",
                format!("free further {what}"),
                Provenance::Derived,
                "one is allowed; the first leads to what it should",
                &[entry],
            );
            job.steps.run(job.window, step, |window| free_entries(window, &content.places, indices))?;
        }
    }
    Ok(())
}

/// Puts an entry into the root: over the one that is wrong, or where there is room.
fn put_owner(
    job: &mut Job<'_, '_, '_, '_>,
    at: Option<u32>,
    kind: u8,
    owner: Owner,
    step: Step,
    table: Option<&[u8]>,
) -> Result<(), MediumError> {
    let content = job.survey.content(job.window, 0);
    let geometry = job.believed.geometry;
    let raw = owner.entry(kind);
    let slots = match at {
        Some(_) => None,
        None => Slots::find(&content, 1, &reserved(job)),
    };
    if at.is_none() && slots.is_none() {
        return Ok(());
    }
    let count = geometry.clusters_for(owner.length).narrow();
    let clusters: Vec<u32> = run_of(owner.first, count).collect();
    job.steps.run(job.window, step, |window| {
        match (at.and_then(|index| content.place(index)), &slots) {
            (Some(place), _) => window.write_at(place, &raw)?,
            (None, Some(slots)) => slots.put(window, &content, &raw)?,
            (None, None) => {}
        }
        if let Some(bytes) = table {
            link(window, &geometry, &clusters)?;
            window.write_at(geometry.cluster_place(owner.first), bytes)?;
        }
        Ok(())
    })
}

fn bitmap_entry(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let bitmap = job.survey.bitmap.clone();
    one_bitmap(job, &bitmap, 0)?;
    if job.believed.geometry.tables == 2 && job.steps.is_empty() {
        let second = job.survey.second.clone();
        one_bitmap(job, &second, 1)?;
    }
    Ok(())
}

/// The entry of a bitmap whose `BitmapFlags` should be `flags`; the bitmap too, where there is none.
fn one_bitmap(job: &mut Job<'_, '_, '_, '_>, bitmap: &Owned, flags: u8) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let needed = geometry.bitmap_bytes();
    let (index, owner) = bitmap.entry.map_or((None, None), |(index, owner)| (Some(index), Some(owner)));
    let first = bitmap.clusters.first().copied();
    if owner.is_some_and(|owner| {
        bitmap.usable && owner.length == needed && Some(owner.first) == first && owner.flags == flags
    }) {
        return Ok(());
    }
    let entry: &'static Entry = if index.is_none() { &c::BITMAP_MISSING } else { &c::BITMAP_ENTRY };
    let which = if flags == 0 { "" } else { "second " };
    if let Some(first) = first {
        let step = Step::new(
            "bitmap-entry",
            format!("let the {which}bitmap entry name cluster {first} and {needed} bytes"),
            Provenance::Derived,
            "where the bitmap stands, which has itself and the root folder in use; one bit a cluster",
            &[entry],
        );
        let owner = Owner { flags, checksum: 0, first, length: needed };
        return put_owner(job, index, BITMAP, owner, step, None);
    }
    let count = geometry.clusters_for(needed).narrow();
    let Some(first) = take_row(job, count) else { return Ok(()) };
    let bytes = bits(&geometry, &job.survey.claimed, first, count);
    let step = Step::new(
        "bitmap-made-anew",
        format!("write a {which}bitmap at cluster {first}, computed from the folders"),
        Provenance::Derived,
        "every cluster that a file, a folder or the volume's own tables claim",
        &[entry],
    );
    let owner = Owner { flags, checksum: 0, first, length: needed };
    put_owner(job, index, BITMAP, owner, step, Some(&bytes))
}

fn upcase(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let upcase = job.survey.upcase.clone();
    let sum = table_checksum(&upcase.bytes);
    let (index, owner) = upcase.entry.map_or((None, None), |(index, owner)| (Some(index), Some(owner)));
    let first = upcase.clusters.first().copied();
    let whole = Upcase::is_recommended(&upcase.bytes)
        || owner.is_some_and(|owner| owner.checksum == sum) && Upcase::decode(&upcase.bytes).is_some();
    if owner.is_some_and(|owner| upcase.usable && owner.checksum == sum) && whole {
        return Ok(());
    }
    let faults: &[&'static Entry] =
        &[&c::UPCASE_MISSING, &c::UPCASE_ENTRY, &c::UPCASE_CHECKSUM, &c::UPCASE_DATA];
    let length = if Upcase::is_recommended(&upcase.bytes) {
        RECOMMENDED_BYTES.wide()
    } else {
        upcase.bytes.len().wide()
    };
    if let Some(first) = first.filter(|_| whole) {
        let step = Step::new(
            "upcase-entry",
            format!(
                "let the up-case entry name cluster {first}, {length} bytes and the checksum {sum:#010x}"
            ),
            Provenance::Derived,
            "where the table stands, which is the recommended one",
            faults,
        );
        return put_owner(job, index, UPCASE, Owner { flags: 0, checksum: sum, first, length }, step, None);
    }
    let table = Upcase::recommended();
    let count = job.believed.geometry.clusters_for(RECOMMENDED_BYTES.wide()).narrow();
    let room = job.survey.upcase.clusters.len().narrow();
    let in_place = first.filter(|first| {
        room >= count && upcase.clusters.iter().zip(run_of(*first, room)).all(|(one, other)| *one == other)
    });
    let Some(first) = in_place.or_else(|| take_row(job, count)) else { return Ok(()) };
    let step = Step::new(
        "upcase-recommended",
        format!("write the recommended up-case table at cluster {first}"),
        Provenance::Derived,
        "the specification's recommended table, which nearly every volume has; its checksum is known",
        faults,
    )
    .or("a table of another maker that the volume may have had");
    let owner = Owner { flags: 0, checksum: RECOMMENDED_CHECKSUM, first, length: RECOMMENDED_BYTES.wide() };
    put_owner(job, index, UPCASE, owner, step, Some(&table))
}

fn label(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let Some((index, _, false)) = job.survey.label.clone() else { return Ok(()) };
    let content = job.survey.content(job.window, 0);
    let raw = content.bytes.part(index.size().times(ENTRY), ENTRY).to_vec();
    let count = raw.part(2, 22).chunks_exact(2).take_while(|pair| pair.le16(0) != 0).count();
    let step = Step::new(
        "label-length",
        format!("set the label's length to {count}"),
        Provenance::Derived,
        "its characters, counted",
        &[&c::LABEL_LENGTH],
    );
    let Some(place) = content.place(index) else { return Ok(()) };
    job.steps
        .run(job.window, step, |window| window.write_at(place, &[LABEL, u8::try_from(count).unwrap_or(0)]))
}

/// The bitmap as it should be, with `count` clusters from `first` on in use as well.
fn bits(geometry: &Geometry, claimed: &ClusterSet, first: u32, count: u32) -> Vec<u8> {
    let mut bytes = vec![0_u8; geometry.bitmap_bytes().size()];
    let own = first..first.plus(count);
    for cluster in claimed.ones().map(Sat::narrow).chain(own).filter(|cluster| geometry.has(*cluster)) {
        let bit = cluster.minus(2);
        if let Some(byte) = bytes.get_mut(bit.per(8).size()) {
            *byte |= 1_u8.checked_shl(bit.rest(8)).unwrap_or(0);
        }
    }
    bytes
}

/// Sets the bitmap's bits as the clusters are used. Lost clusters for which `keep` found no room stay in
/// use.
pub(super) fn bitmap_bits(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let mut claimed = job.survey.claimed.clone();
    for lost in job.survey.tree.lost.clone() {
        for (first, count) in job.survey.runs(job.window, lost.first, lost.length, !lost.chained) {
            claimed.insert_range(first.size()..first.plus(count).size());
        }
    }
    // What is marked bad is nobody's, and stays in use (7.1.5).
    for extent in crate::exfat::structures::marked_bad(job.window, job.survey) {
        let each = geometry.cluster_bytes().max(1);
        let first = extent.offset.minus(geometry.heap_place()).per(each).plus(2).size();
        claimed.insert_range(first..first.plus(extent.length.per(each).size()));
    }
    let bytes = bits(&geometry, &claimed, 0, 0);
    let clusters = job.survey.bitmap.clusters.clone();
    let (claimed, used) = (&claimed, &job.survey.used);
    let wrong = claimed.difference(used).count().plus(used.difference(claimed).count()).wide();
    if clusters.is_empty() || wrong == 0 {
        return table_first(job);
    }
    let step = Step::new(
        "bitmap-bits",
        format!("set the bitmap as the clusters are used, in {}", counted(wrong, "cluster", "clusters")),
        Provenance::Derived,
        "every cluster that a file, a folder or the volume's own tables claim",
        &[&c::USED_BUT_FREE, &c::LOST_CLUSTERS],
    );
    job.steps.run(job.window, step, |window| {
        let mut at = 0_usize;
        for place in places(&geometry, &clusters) {
            let part = bytes.part(at, place.length.size());
            window.write_at(
                place.offset,
                if part.is_empty() { bytes.get(at..).unwrap_or(&[]) } else { part },
            )?;
            at = at.plus(place.length.size());
        }
        Ok(())
    })
}

/// The first two entries of the table (sections 4.1.1 and 4.1.2).
fn table_first(job: &mut Job<'_, '_, '_, '_>) -> Result<(), MediumError> {
    let geometry = job.believed.geometry;
    let step = Step::new(
        "table-first-entries",
        "set entries 0 and 1 of the table",
        Provenance::Exact,
        "they are the same on every volume",
        &[&c::FAT_FIRST],
    );
    job.steps.run(job.window, step, |window| {
        table::set(window, &geometry, 0, Link::Odd(0xFFFF_FFF8))?;
        table::set(window, &geometry, 1, Link::End)
    })
}
