//! What belongs to nothing: lost clusters become files in a folder, or free; lost folders get an
//! entry.

use super::{
    Job,
    files::clear_bits,
    writing::{Slots, link, new_set, take_row},
};
use crate::{
    arith::Sat,
    exfat::{
        catalogue as c,
        layout::{DIRECTORY, NO_CHAIN, POSSIBLE, Stream},
        survey::Content,
        tree::{Lost, Node, Reached},
    },
    fat::ADRIFT,
    medium::{MediumError, Stage},
    naming::Names,
    step::{Provenance, Step},
    wording::counted,
};

/// The name under which lost clusters are kept.
pub(in crate::exfat) fn lost_name(first: u32, extension: Option<&str>) -> String {
    format!("A{first:07}.{}", extension.unwrap_or("BIN").to_uppercase())
}

/// The archive attribute.
const ARCHIVE: u16 = 0x20;
/// Lost chains that one step keeps.
const KEPT: usize = 2000;

pub(super) fn mend(job: &mut Job<'_, '_, '_>) -> Result<(), MediumError> {
    folders(job)?;
    if !job.steps.is_empty() {
        return Ok(());
    }
    let lost = std::mem::take(&mut job.survey.tree.lost);
    let (blank, lost): (Vec<Lost>, Vec<Lost>) = lost.into_iter().partition(|lost| lost.blank);
    free(job, &blank, "they hold nothing but one byte value", Provenance::Derived)?;
    if lost.is_empty() || !job.steps.is_empty() {
        return Ok(());
    }
    let options = [
        ("keep", "each becomes a file in the folder ADRIFT, to be looked through later".to_owned()),
        ("free", "the clusters become free; what they hold is given up".to_owned()),
    ];
    let paths = lost
        .iter()
        .take(2000)
        .map(|l| format!("{ADRIFT}/{}", lost_name(l.first, l.extension.as_deref())))
        .collect();
    let taken = job.choices.ask(
        "lost-chains",
        "Clusters are in use that belong to no file. Keep what they hold?",
        &options,
        paths,
    );
    if taken == "keep" && keep(job, &lost)? {
        return Ok(());
    }
    free(
        job,
        &lost,
        if taken == "keep" { "for want of room to keep them" } else { "as chosen" },
        Provenance::Judged,
    )
}

fn free(
    job: &mut Job<'_, '_, '_>,
    lost: &[Lost],
    from: &str,
    provenance: Provenance,
) -> Result<(), MediumError> {
    if lost.is_empty() {
        return Ok(());
    }
    let mut clusters = Vec::new();
    for chain in lost {
        clusters.extend(job.survey.chain(job.stage, chain.first, chain.length, !chain.chained));
    }
    let step = Step::new(
        "lost-clusters-freed",
        format!(
            "free {} to nothing",
            counted(clusters.len().wide(), "cluster that belongs", "clusters that belong")
        ),
        provenance,
        from,
        &[&c::LOST_CLUSTERS],
    );
    clear_bits(job, step, &clusters)
}

/// Writes the lost chains down as files of a new folder. False when there is no room for it.
fn keep(job: &mut Job<'_, '_, '_>, lost: &[Lost]) -> Result<bool, MediumError> {
    let geometry = job.believed.geometry;
    let each = geometry.cluster_bytes();
    let lost = lost.get(..lost.len().min(KEPT)).unwrap_or(lost);
    let mut sets = Vec::new();
    for chain in lost {
        let length = chain.length.wide().times(each);
        let flags = POSSIBLE | if chain.chained { 0 } else { NO_CHAIN };
        let stream = Stream { flags, first: chain.first, length, valid: length, ..Stream::default() };
        sets.extend(new_set(
            &job.survey.capitals,
            &lost_name(chain.first, chain.extension.as_deref()),
            ARCHIVE,
            stream,
        ));
    }
    let count = geometry.clusters_for(sets.len().wide()).narrow();
    let Some(first) = take_row(job, count, 0..0) else { return Ok(false) };
    let length = count.wide().times(each);
    sets.resize(length.size(), 0);
    let name = unused_name(job, &mut root_names(job), ADRIFT);
    let stream = Stream { flags: POSSIBLE | NO_CHAIN, first, length, valid: length, ..Stream::default() };
    let set = new_set(&job.survey.capitals, &name, DIRECTORY, stream);
    let mut step = Step::new(
        "lost-chains-kept",
        format!(
            "keep {} as files in the folder {name}",
            counted(lost.len().wide(), "lost chain", "lost chains")
        ),
        Provenance::Judged,
        "the bitmap has them in use, and no file claims them; names and exact lengths are not known",
        &[&c::LOST_CLUSTERS],
    )
    .or("free their clusters");
    step.paths =
        lost.iter().map(|l| format!("{name}/{}", lost_name(l.first, l.extension.as_deref()))).collect();
    let placed = put_into_root(job, step, &set, first..first.plus(count), |stage| {
        stage.write_at(geometry.cluster_place(first), &sets)
    })?;
    Ok(placed != Placed::Nowhere)
}

/// The names in the root folder.
fn root_names(job: &Job<'_, '_, '_>) -> Names<Vec<u16>> {
    let mut names = Names::of([0]);
    // A lost folder has its name only in what we call it.
    let named = |node: &&Node| node.parent == 0 && node.place != 0;
    for node in job.survey.tree.below_root().map(|(_, node)| node).filter(named) {
        names.take(0, compared(job, &node.name));
    }
    names
}

fn compared(job: &Job<'_, '_, '_>, name: &str) -> Vec<u16> {
    job.survey.capitals.upper(&name.encode_utf16().collect::<Vec<_>>())
}

/// `wish`, or with a number where the root has that.
fn unused_name(job: &Job<'_, '_, '_>, names: &mut Names<Vec<u16>>, wish: &str) -> String {
    let with = |name: String| {
        let compared = compared(job, &name);
        (name, compared)
    };
    names.free(0, with(wish.to_owned()), |number| with(format!("{wish} {number}"))).unwrap_or_default()
}

/// Folders that no entry names get one in the root.
fn folders(job: &mut Job<'_, '_, '_>) -> Result<(), MediumError> {
    let orphans: Vec<(u32, Node)> = job
        .survey
        .tree
        .below_root()
        .filter(|(_, node)| node.reached == Reached::Orphan && node.place == 0 && node.length > 0)
        .map(|(number, node)| (number, node.clone()))
        .collect();
    let mut names = root_names(job);
    for (number, node) in orphans {
        let name = unused_name(job, &mut names, &node.name);
        let path = job.survey.tree.path(number);
        let set = new_set(&job.survey.capitals, &name, DIRECTORY, node.stream);
        let step = Step::new(
            "folder-reconnected",
            format!("give the folder at cluster {} an entry in the root folder, as {name}", node.first),
            Provenance::Derived,
            "it begins with a whole entry set, and belongs to no folder; its name is lost",
            &[&c::LOST_FOLDER],
        )
        .file(path);
        if put_into_root(job, step, &set, 0..0, |_| Ok(()))? != Placed::Within {
            // The root has grown: the next round sees where the next one fits.
            break;
        }
    }
    Ok(())
}

/// What became of a new entry in the root.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Placed {
    /// It stands where there was room.
    Within,
    /// The root grew for it.
    Grown,
    /// There is no room.
    Nowhere,
}

/// Runs a step that adds a set to the root folder, which grows by a cluster where it is full; not
/// by one of those that `also` writes, which are `taken`.
fn put_into_root(
    job: &mut Job<'_, '_, '_>,
    step: Step,
    set: &[u8],
    taken: std::ops::Range<u32>,
    also: impl FnOnce(&mut Stage<'_, '_>) -> Result<(), MediumError>,
) -> Result<Placed, MediumError> {
    let geometry = job.believed.geometry;
    let content: Content = job.survey.content(job.stage, 0);
    if let Some(slots) = Slots::find(&content, set.len().per(32).narrow()) {
        job.steps.run(job.stage, step, |stage| {
            also(stage)?;
            slots.put(stage, &content, set)
        })?;
        return Ok(Placed::Within);
    }
    let mut clusters = job.survey.clusters(job.stage, 0);
    let Some(fresh) = take_row(job, 1, taken) else { return Ok(Placed::Nowhere) };
    clusters.push(fresh);
    let mut page = set.to_vec();
    page.resize(geometry.cluster_bytes().size(), 0);
    job.steps.run(job.stage, step, |stage| {
        also(stage)?;
        stage.write_at(geometry.cluster_place(fresh), &page)?;
        link(stage, &geometry, &clusters)
    })?;
    Ok(Placed::Grown)
}
