//! Holding a geometry against the volume.

use super::{Geometry, evidence, evidence::Evidence, propose::RESERVED};
use crate::{
    arith::Sat,
    cluster::chain::Link,
    fat::{
        folder::{self, Item, Reading},
        table::Copy,
    },
    files::kinds,
    medium::Medium,
};

/// One thing that speaks for or against a geometry.
#[derive(Debug, Clone)]
pub struct Reason {
    /// What was seen.
    pub text: String,
    /// Points for it, negative against.
    pub points: i64,
}

/// How well a geometry fits the volume.
#[derive(Debug, Clone, Default)]
pub struct Score {
    /// The sum of the reasons.
    pub points: i64,
    /// How many observations contradict the geometry.
    pub against: u32,
    /// Copies of the table that begin like one.
    pub tables: u32,
    /// The first two copies of the table begin alike.
    pub twins: bool,
    /// Folders that name the cluster they stand in, under this geometry.
    pub folders_agree: u32,
    /// The root reads as a folder and holds something.
    pub root_speaks: bool,
    /// Folders that read as such where their entries say, without naming themselves.
    pub folders_read: u32,
    /// Files that begin as their kind does.
    pub kinds_agree: u32,
    /// Files with a chain as long as their size needs.
    pub chains_agree: u32,
    /// What was seen.
    pub reasons: Vec<Reason>,
}

impl Score {
    /// Content is where the geometry says: folders, files that begin as their kind does, chains of their length.
    pub fn has_content(&self) -> bool {
        self.folders_agree.plus(self.folders_read) > 0 || self.kinds_agree > 1 || self.chains_agree > 1
    }
}

impl Score {
    fn note(&mut self, points: i64, text: impl Into<String>) {
        if points != 0 {
            self.points = self.points.saturating_add(points);
            self.reasons.push(Reason { text: text.into(), points });
        }
    }
    fn tally(&mut self, (yes, no): (u32, u32), (each, cap): (i64, i64), what: &str) {
        let points = |count: u32| i64::from(count).saturating_mul(each).min(cap);
        self.note(points(yes), format!("{yes} {what}"));
        self.note(points(no).saturating_neg(), format!("{no} times not: {what}"));
        self.against = self.against.plus(no);
    }
}

const FOLDERS: usize = 12;
const FILES: usize = 40;
const LISTED: usize = 32 * 1024;

/// The score of `geometry` on `medium`. With `evidence`, every folder found by search counts too.
pub fn weigh(medium: &dyn Medium, geometry: &Geometry, evidence: Option<&Evidence>) -> Score {
    let mut score = Score::default();
    if !geometry.possible() || geometry.root_offset() >= medium.len() {
        score.note(-1000, "the fields cannot stand together");
        return score;
    }
    weigh_tables(medium, geometry, evidence, &mut score);
    weigh_length(medium, geometry, &mut score);
    if let Some(evidence) = evidence {
        weigh_search(geometry, evidence, &mut score);
    }
    weigh_tree(medium, geometry, &mut score);
    score
}

fn weigh_tables(medium: &dyn Medium, geometry: &Geometry, evidence: Option<&Evidence>, score: &mut Score) {
    let told = |offset: u64| {
        let tables = evidence.map_or(&[][..], |evidence| &evidence.tables);
        tables.iter().any(|table| table.told && table.offset == offset && table.wide == geometry.wide())
    };
    let mut second = false;
    for copy in 0..geometry.tables {
        let place = geometry.table_offset(copy);
        let sector = medium.lenient(place, 512).bytes;
        let fits = match evidence::table_shape(&sector) {
            Some(wide) => wide || !geometry.wide(),
            None => false,
        };
        if fits || told(place) {
            second = second || copy == 1;
            score.tables = score.tables.plus(1);
            let points = if score.tables == 1 { 20 } else { 12 };
            let how = if fits { "begins as a table does" } else { "begins there, by its own entries" };
            score.note(points, format!("table copy {copy} {how}"));
        } else if copy > 1 {
            // Two copies are the rule, and one of them may be damaged; a third that is none was
            // never there.
            score.note(-6, format!("table copy {copy} does not begin as a table does"));
            score.against = score.against.plus(1);
        }
    }
    if let Some(evidence) = evidence {
        weigh_custom(geometry, evidence, second, score);
    }
    let sector = |copy: u32| medium.lenient(geometry.table_offset(copy), 512).bytes;
    let (one, other) = (sector(0), sector(1));
    score.twins = geometry.tables > 1 && one == other;
    if score.twins && score.tables == 0 && one.iter().any(|byte| *byte != 0) {
        score.note(10, "where the tables should be, the same stands twice");
    }
    // A second copy says where it is: what follows copy 0 under a single-table geometry must not
    // read as another table.
    let behind = medium.lenient(geometry.table_offset(geometry.tables), 512).bytes;
    if evidence::table_shape(&behind).is_some() && behind == one {
        score.note(-15, "one more copy of the table stands behind the last");
        score.against = score.against.plus(1);
    }
}

/// What is usual, and tables that this geometry has no use for; `second`: the second copy is there.
fn weigh_custom(geometry: &Geometry, evidence: &Evidence, second: bool, score: &mut Score) {
    let copies = || (0..geometry.tables).map(|copy| geometry.table_offset(copy));
    let left = evidence.tables.iter().filter(|table| {
        table.told
            && table.wide == geometry.wide()
            && table.offset < geometry.data_offset()
            && copies().all(|copy| copy != table.offset)
    });
    let left = i64::try_from(left.count()).unwrap_or(0);
    score.note(left.saturating_mul(-12), "entries tell of a table where this geometry has none");
    if left > 0 {
        score.against = score.against.plus(1);
    }
    let longer = evidence.tables.iter().any(|table| {
        table.reach > geometry.table_bytes() && copies().any(|copy| copy == table.offset) && table.told
    });
    if longer {
        score.note(-30, "entries stand behind the end of the table");
        score.against = score.against.plus(1);
    }
    let usual = RESERVED.contains(&geometry.reserved_sectors);
    if geometry.tables == 2 && second && (usual || score.tables == 2) {
        score.note(6, "two copies of the table are the rule");
    }
    if usual {
        score.note(6, "as many sectors before the tables as is usual");
    }
}

fn weigh_length(medium: &dyn Medium, geometry: &Geometry, score: &mut Score) {
    if geometry.bytes() <= medium.len() {
        score.note(10, "the volume fits into the image");
    }
    let (needed, has) = (geometry.table_sectors_needed(), geometry.table_sectors);
    let spare = has.minus(needed);
    if needed > has {
        score.note(-10, format!("a table of {has} sectors is too small for the volume: {needed} are needed"));
    } else if spare.times(50) <= has.plus(400) {
        score.note(15, "the table is as long as the volume needs");
    } else if spare.times(3) > has {
        score.note(-6, format!("a table of {has} sectors is far longer than the {needed} that are needed"));
    }
    let end = geometry.bytes().plus(geometry.cluster_bytes().wide());
    if needed == has && geometry.bytes() <= medium.len() && end > medium.len() {
        score.note(4, "the volume ends where what was looked at ends, and its table exactly fits it");
    }
}

fn weigh_search(geometry: &Geometry, evidence: &Evidence, score: &mut Score) {
    let (mut yes, mut no) = (0_u32, 0_u32);
    for dots in &evidence.dots {
        let own = if geometry.wide() { dots.own } else { dots.own & 0xFFFF };
        if geometry.has(own) && geometry.cluster_offset(own) == dots.offset {
            yes = yes.plus(1);
        } else {
            no = no.plus(1);
        }
    }
    // Folders of an earlier life of the medium may disagree; they are fewer than those of now.
    let share = i64::from(yes).saturating_mul(60).checked_div(i64::from(yes.plus(no))).unwrap_or(0);
    score.folders_agree = yes;
    score.note(
        share,
        format!("{yes} of {} folders found by search name the cluster they stand in", yes.plus(no)),
    );
    if no > yes {
        score.note(-40, format!("{no} folders found by search do not"));
        score.against = score.against.plus(1);
    }
}

/// Counts of what agrees (first) and what does not (second).
#[derive(Default)]
struct Seen {
    folders: (u32, u32),
    dotless: u32,
    chains: (u32, u32),
    kinds: (u32, u32),
    range: u32,
}

fn up(pair: &mut (u32, u32), yes: bool) {
    if yes {
        pair.0 = pair.0.plus(1);
    } else {
        pair.1 = pair.1.plus(1);
    }
}

fn weigh_tree(medium: &dyn Medium, geometry: &Geometry, score: &mut Score) {
    let (offset, length) = if geometry.wide() {
        (geometry.cluster_offset(geometry.root_cluster), geometry.cluster_bytes().wide())
    } else {
        (geometry.root_offset(), geometry.root_bytes())
    };
    let root = medium.lenient(offset, length.size().min(LISTED)).bytes;
    let bounds = geometry.bounds();
    let reading = Reading::of(&root, bounds, true);
    let dotted = !reading.stray_dots.is_empty();
    if !folder::looks_like_folder(&root, bounds, true) || dotted && geometry.wide() {
        score.note(-30, "what should be the root folder does not read as one");
        score.against = score.against.plus(1);
        return;
    }
    let empty = reading.items.is_empty() && reading.labels.is_empty() && reading.deleted.is_empty();
    score.root_speaks = !empty;
    score.note(
        if empty { 5 } else { 20 },
        if empty { "the root folder is empty" } else { "the root folder reads as one" },
    );
    let mut copies: Vec<Copy> = (0..geometry.tables).map(|number| Copy::new(geometry, number)).collect();
    let mut seen = Seen::default();
    let mut later = Vec::new();
    weigh_items(medium, geometry, &mut copies, &reading.items, &mut seen, &mut later);
    for cluster in later.into_iter().take(FOLDERS) {
        let bytes = medium
            .lenient(geometry.cluster_offset(cluster), geometry.cluster_bytes().size().min(LISTED))
            .bytes;
        let below = Reading::of(&bytes, bounds, false);
        if below.dot.is_some() {
            weigh_items(medium, geometry, &mut copies, &below.items, &mut seen, &mut Vec::new());
        }
    }
    if geometry.wide() {
        // The root of FAT32 is a chain like any other.
        let good = copies.iter_mut().any(|copy| copy.link(medium, geometry.root_cluster).in_chain());
        score.note(
            if good { 4 } else { -4 },
            if good { "the root's chain begins" } else { "the root has no chain" },
        );
    }
    if score.tables == 0 {
        // What stands in place of a table says nothing of chains.
        seen.chains.1 = 0;
    }
    score.folders_agree = score.folders_agree.max(seen.folders.0);
    (score.kinds_agree, score.chains_agree) = (seen.kinds.0, seen.chains.0);
    score.folders_read = seen.dotless;
    score.tally(seen.folders, (8, 40), "folders stand in the cluster that their name gives");
    score.tally(seen.chains, (3, 45), "files have a chain as long as their size needs");
    score.tally(seen.kinds, (4, 24), "files begin as their kind does");
    score.note(
        i64::from(seen.range.min(5)).saturating_mul(-4),
        crate::report::wording::counted(
            u64::from(seen.range),
            "file begins outside the volume",
            "files begin outside the volume",
        ),
    );
    score.against = score.against.plus(seen.range);
}

fn weigh_items(
    medium: &dyn Medium,
    geometry: &Geometry,
    copies: &mut [Copy],
    items: &[Item],
    seen: &mut Seen,
    later: &mut Vec<u32>,
) {
    let (mut folders, mut files) = (0, 0);
    for item in items {
        let first = item.entry.first_cluster(geometry.wide());
        if first == 0 {
            continue;
        }
        if !geometry.has(first) {
            seen.range = seen.range.plus(1);
        } else if geometry.cluster_offset(first) >= medium.len() {
            // What the image does not hold speaks neither for nor against.
        } else if item.entry.is_folder() {
            if folders < FOLDERS {
                folders = folders.plus(1);
                let start = medium.lenient(geometry.cluster_offset(first), 512).bytes;
                let mask = if geometry.wide() { u32::MAX } else { 0xFFFF };
                let named = evidence::dots(&start).is_some_and(|(own, _)| own & mask == first);
                // A folder that reads as one and only lacks its dots speaks neither for nor against.
                if named || !folder::looks_like_folder(&start, geometry.bounds(), false) {
                    up(&mut seen.folders, named);
                } else {
                    seen.dotless = seen.dotless.plus(1);
                }
                later.push(first);
            }
        } else if files < FILES {
            files = files.plus(1);
            let needed = geometry.clusters_for(item.entry.size.get().wide());
            // A table that calls the first cluster free has lost it: that says nothing of the geometry.
            let silent = copies.iter_mut().all(|copy| copy.link(medium, first) == Link::Free);
            if needed > 1 && !silent {
                let whole =
                    copies.iter_mut().any(|copy| chain_length(medium, copy, first, needed) == Some(needed));
                up(&mut seen.chains, whole);
            }
            let start = medium.lenient(geometry.cluster_offset(first), 512).bytes;
            if let Some(agrees) = kinds::agrees(&item.name, &start) {
                up(&mut seen.kinds, agrees);
            }
        }
    }
}

fn chain_length(medium: &dyn Medium, copy: &mut Copy, first: u32, most: u32) -> Option<u32> {
    let mut at = first;
    for length in 1..=most.min(4096) {
        match copy.link(medium, at) {
            Link::Next(next) => at = next,
            Link::End => return Some(length),
            _ => return None,
        }
    }
    // A long file that is whole for 4096 clusters is taken for whole.
    (most > 4096).then_some(most)
}
