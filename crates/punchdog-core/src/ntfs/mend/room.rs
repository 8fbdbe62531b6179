//! Free clusters for what is mended: blank ones first, as what lies in others may be of a file whose record is lost.

use crate::{
    arith::Sat,
    cluster::{free::Room, set::ClusterSet},
    medium::{Extent, Medium},
    ntfs::{geometry::Geometry, runs::Run, survey::Survey},
};

/// Clusters that are looked at ahead.
const AHEAD: u32 = 1024;
/// Bytes of free clusters that are looked through for blank ones.
const LOOKED_AT: u64 = 256 << 20;

/// Clusters that neither a file nor $Bitmap has.
pub(super) fn free(survey: &Survey, medium: &dyn Medium) -> Room {
    without(survey, medium, survey.bitmap.as_ref())
}

/// Clusters that no file has, whatever $Bitmap says.
pub(super) fn unclaimed(survey: &Survey, medium: &dyn Medium) -> Room {
    without(survey, medium, None)
}

/// Clusters that $Bitmap has in use and no file has.
fn unowned(survey: &Survey, medium: &dyn Medium) -> Room {
    let Some(marked) = &survey.bitmap else { return Room::of(std::iter::empty()) };
    without(survey, medium, Some(&marked.complement()))
}

fn without(survey: &Survey, medium: &dyn Medium, marked: Option<&ClusterSet>) -> Room {
    let mut free = survey.claimed.complement();
    // Of an image that was cut short, or a volume that says that it is longer, the rest cannot be written.
    let there = medium.len().per(survey.mft.geometry.cluster()).size();
    free.remove_range(there.min(free.len())..free.len());
    // The records themselves are nobody's where record 0 is lost.
    for run in &survey.mft.runs {
        if let Some(first) = run.first {
            free.remove_range(first.size()..run.end().size());
        }
    }
    if let Some(marked) = marked {
        free.difference_with(marked);
        // Of what is behind its end it says nothing.
        free.remove_range(survey.bitmap_end.size()..free.len());
    }
    let used = free.complement();
    let mut room = Room::of(std::iter::empty());
    let mut at = 0_usize;
    while let Some(gap) = used.gap_in(at..used.len()) {
        room.add(gap.start.narrow(), gap.end.minus(gap.start).narrow());
        at = gap.end;
    }
    room
}

/// So many blank clusters in a row: of `blank`, and of what is looked at in `room` for that; the others are handed on.
fn blank_row(
    medium: &dyn Medium,
    geometry: Geometry,
    (wanted, left): (u32, &mut u64),
    room: &mut Room,
    blank: &mut Room,
    mut others: impl FnMut(u32),
) -> Option<u32> {
    loop {
        if let Some(first) = blank.row(wanted) {
            return Some(first);
        }
        let mut more = if *left == 0 { Vec::new() } else { room.up_to(AHEAD) };
        if more.is_empty() {
            return None;
        }
        more.sort_unstable();
        for cluster in more {
            let at = geometry.place(cluster.into());
            *left = left.minus(geometry.cluster());
            if medium.is_zero(Extent::new(at, geometry.cluster())) {
                blank.add(cluster, 1);
            } else {
                others(cluster);
            }
        }
    }
}

/// Free clusters of one round of mending, given out once.
pub(super) struct Clusters {
    geometry: Geometry,
    room: Option<Room>,
    /// $Bitmap tells which are free; else only blank ones are taken.
    known: bool,
    /// Bytes that may still be looked through.
    left: u64,
    blank: Room,
    others: Room,
    /// What $Bitmap has in use and no file has: where it has all in use it tells nothing, and what is blank holds nothing.
    unowned: Option<Room>,
    /// Blank ones of these.
    spare: Room,
}

impl Clusters {
    /// Those of a volume; they are looked for when the first are wanted.
    pub(super) fn of(survey: &Survey) -> Self {
        let none = || Room::of(std::iter::empty());
        Self {
            geometry: survey.mft.geometry,
            room: None,
            known: survey.bitmap.is_some(),
            left: LOOKED_AT,
            blank: none(),
            others: none(),
            unowned: None,
            spare: none(),
        }
    }

    /// Bytes of free clusters that are left.
    pub(super) fn bytes(&mut self, survey: &Survey, medium: &dyn Medium) -> u64 {
        let room = self.room.get_or_insert_with(|| free(survey, medium));
        self.geometry
            .place([&*room, &self.blank, &self.others].map(|part| u64::from(part.count())).iter().sum())
    }

    /// So many clusters, in a row where there is one; `None` where there are fewer.
    pub(super) fn rows(&mut self, survey: &Survey, medium: &dyn Medium, count: u64) -> Option<Vec<Run>> {
        let wanted = u32::try_from(count).ok()?;
        let room = self.room.get_or_insert_with(|| free(survey, medium));
        let (geometry, left) = (self.geometry, &mut self.left);
        if let Some(first) = blank_row(medium, geometry, (wanted, left), room, &mut self.blank, |cluster| {
            self.others.add(cluster, 1);
        }) {
            return Some(vec![Run::new(first.into(), count)]);
        }
        let mut taken = self.blank.exactly(wanted);
        if taken.is_none() && self.known {
            let mut all = self.blank.up_to(wanted);
            for others in [&mut self.others, room] {
                all.extend(others.up_to(wanted.minus(all.len().narrow())));
            }
            taken = Some(all).filter(|all| all.len() == wanted.size());
        }
        if taken.is_none() {
            let unowned = self.unowned.get_or_insert_with(|| unowned(survey, medium));
            let (geometry, left) = (self.geometry, &mut self.left);
            let row = blank_row(medium, geometry, (wanted, left), unowned, &mut self.spare, |_| {});
            if let Some(first) = row {
                return Some(vec![Run::new(first.into(), count)]);
            }
            taken = self.spare.exactly(wanted);
        }
        let mut runs: Vec<Run> = Vec::new();
        for cluster in taken? {
            match runs.last_mut() {
                Some(run) if run.end() == u64::from(cluster) => run.length = run.length.plus(1),
                _ => runs.push(Run::new(cluster.into(), 1)),
            }
        }
        Some(runs)
    }
}
