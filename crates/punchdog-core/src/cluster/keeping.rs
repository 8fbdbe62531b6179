//! What becomes of clusters that are in use and belong to no file: one policy for the families that
//! have clusters.
//!
//! They are kept unless the technician says otherwise, each as a file in a folder of ours. Where there is
//! no room for that folder, as many as there is room for are listed; the others stay in use, and the
//! volume keeps its fault. Nothing is ever freed that was to be kept.

use crate::{arith::Sat, files::kinds, files::naming::ADRIFT, mending::choices::Choices};

/// Files named with the question at most.
const NAMED: usize = 2000;

/// Asks what shall become of them; true to keep them.
pub(crate) fn asked_to_keep(choices: &mut Choices, names: impl Iterator<Item = String>) -> bool {
    let options = [
        (
            "keep",
            format!(
                "each becomes a file in the folder {ADRIFT}, to be looked through later; what there is no room to list stays in use"
            ),
        ),
        ("free", "the clusters become free; what they hold is given up".to_owned()),
    ];
    let question = "Clusters are in use that belong to no file. Keep what they hold?";
    let names = names.take(NAMED).map(|name| format!("{ADRIFT}/{name}")).collect();
    choices.ask("lost-chains", question, &options, names) == "keep"
}

/// How many clusters the folder takes and how many of `lost` it lists, when `free` clusters are to be had:
/// `own` bytes are the folder's, and `each` one's listing takes so many. `None` when not even one fits.
pub(crate) fn listed(lost: usize, (own, each): (u64, u64), cluster: u64, free: u32) -> Option<(u32, usize)> {
    let wanted = own.plus(each.times(lost.wide())).per_up(cluster.max(1));
    let clusters = wanted.min(free.wide()).narrow();
    let fit = clusters.wide().times(cluster).minus(own).per(each.max(1)).size().min(lost);
    (fit > 0).then_some((clusters, fit))
}

/// Entries without content, and lost chains that begin as files of their names do, brought together: a
/// recording that was cut off has its clusters, and an entry that was never told of them. `empty` are names
/// with numbers, `lost` extensions with numbers, both in the order in which they were made. A kind is paired
/// off where it has as many of the one as of the other. Gives the numbers, entry first.
pub(crate) fn paired(empty: &[(u32, &str)], lost: &[(usize, &str)]) -> Vec<(u32, usize)> {
    let kind = |name: &str| name.rsplit_once('.').and_then(|(_, extension)| kinds::usual_of(extension));
    let mut kinds: Vec<String> = empty.iter().filter_map(|(_, name)| kind(name)).collect();
    kinds.sort_unstable();
    kinds.dedup();
    let mut pairs = Vec::new();
    for wanted in kinds {
        let entries: Vec<u32> =
            empty.iter().filter(|(_, name)| kind(name).as_ref() == Some(&wanted)).map(|(n, _)| *n).collect();
        let of_kind = |(_, extension): &&(usize, &str)| kinds::usual_of(extension).as_ref() == Some(&wanted);
        let chains: Vec<usize> = lost.iter().filter(of_kind).map(|(n, _)| *n).collect();
        if entries.len() == chains.len() {
            pairs.extend(entries.into_iter().zip(chains));
        }
    }
    pairs
}

/// A name whose entry is gone.
pub(crate) struct Left<'n> {
    /// The name.
    pub(crate) name: &'n str,
    /// The first clusters of the files before and behind it, where its folder has them in the order of its entries.
    pub(crate) between: Option<(u32, u32)>,
}

/// Which end of a gap in a folder a name was left at: the first file of the gap, or the last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Side {
    /// Its name stands before its entry.
    First,
    /// Its name stands behind its entry.
    Last,
}

/// Pairs of files, one behind the other, from which on a folder tells an order, and the tenths of them that must be in it.
const IN_ORDER: (usize, usize) = (4, 9);

/// The first clusters of the files before and behind entry `at`, where the folder has its files (entry and first cluster, in
/// the order of entries) in the order of their clusters, as where they were written one after the other.
pub(crate) fn between(files: &[(u32, u32)], at: u32) -> Option<(u32, u32)> {
    let pairs = files.len().minus(1);
    let rising = files.windows(2).filter(|pair| matches!(pair, [one, next] if one.1 < next.1)).count();
    let behind = files.partition_point(|(index, _)| *index < at);
    let before = files.get(behind.checked_sub(1)?)?.1;
    let next = files.get(behind).map_or(u32::MAX, |(_, first)| *first);
    (pairs >= IN_ORDER.0 && rising.times(10) >= pairs.times(IN_ORDER.1) && before < next)
        .then_some((before, next))
}

/// Names without entries, and lost chains (first cluster, extension) that can be theirs: a kind is paired off where it has as
/// many of the one as of the other; else the name is that of the first, or the last, chain between its neighbours, where it
/// begins as that kind does. Gives the numbers, name first, and whether the neighbours told.
pub(crate) fn named(
    names: &[Left<'_>],
    lost: &[(u32, Option<&str>)],
    side: Side,
) -> Vec<(usize, usize, bool)> {
    let kind = |name: &str| name.rsplit_once('.').and_then(|(_, extension)| kinds::usual_of(extension));
    let fits = |name: &Left<'_>, extension: Option<&str>| match (kind(name.name), extension) {
        (Some(kind), extension) => extension.and_then(kinds::usual_of) == Some(kind),
        (None, None) => true,
        (None, Some(own)) => {
            name.name.rsplit_once('.').is_some_and(|(_, extension)| extension.eq_ignore_ascii_case(own))
        }
    };
    if let ([name], [(_, extension)]) = (names, lost) {
        return if fits(name, *extension) { vec![(0, 0, false)] } else { Vec::new() };
    }
    let numbered: Vec<(u32, &str)> =
        names.iter().enumerate().map(|(n, left)| (n.narrow(), left.name)).collect();
    let chains: Vec<(usize, &str)> =
        lost.iter().enumerate().filter_map(|(n, (_, extension))| Some((n, (*extension)?))).collect();
    let mut pairs: Vec<(usize, usize, bool)> =
        paired(&numbered, &chains).into_iter().map(|(name, chain)| (name.size(), chain, false)).collect();
    for (number, left) in names.iter().enumerate() {
        let Some((from, to)) = left.between.filter(|_| pairs.iter().all(|pair| pair.0 != number)) else {
            continue;
        };
        let inside = lost.iter().enumerate().filter(|(chain, (first, _))| {
            (from..to).contains(first) && pairs.iter().all(|pair| pair.1 != *chain)
        });
        let chosen = match side {
            Side::First => inside.min_by_key(|(_, (first, _))| *first),
            Side::Last => inside.max_by_key(|(_, (first, _))| *first),
        };
        pairs.extend(
            chosen
                .filter(|(_, (_, extension))| fits(left, *extension))
                .map(|(chain, _)| (number, chain, true)),
        );
    }
    pairs
}

#[cfg(test)]
mod pairing {
    use super::*;

    #[test]
    fn a_kind_is_paired_off_where_its_numbers_agree() {
        let empty = [(3, "a.WAV"), (5, "b.wave"), (7, "c.png"), (9, "d.txt")];
        assert_eq!(paired(&empty, &[(0, "wav"), (1, "png"), (2, "wav")]), [(7, 1), (3, 0), (5, 2)]);
        assert_eq!(paired(&empty, &[(0, "wav"), (1, "txt")]), [], "one chain for two names; text is no kind");
    }

    #[test]
    fn a_folder_in_order_tells_what_stood_between_two_files() {
        let rising = [(2, 10), (5, 20), (8, 30), (20, 90), (23, 100), (26, 110)];
        assert_eq!(between(&rising, 11), Some((30, 90)));
        assert_eq!(between(&rising, 30), Some((110, u32::MAX)));
        assert_eq!(between(&rising, 1), None, "nothing before it");
        assert_eq!(between(&rising[..4], 11), None, "too few to tell an order");
        let mixed = [(2, 10), (5, 70), (8, 30), (20, 90), (23, 40), (26, 110)];
        assert_eq!(between(&mixed, 11), None);
    }

    #[test]
    fn a_name_gets_the_chain_at_its_end_of_the_gap() {
        let left = |name, between| [Left { name, between }];
        let lost = [(40, Some("jpg")), (50, Some("png")), (60, Some("jpg")), (95, Some("jpg"))];
        assert_eq!(named(&left("a.JPG", Some((30, 90))), &lost, Side::First), [(0, 0, true)]);
        assert_eq!(named(&left("a.JPG", Some((30, 90))), &lost, Side::Last), [(0, 2, true)]);
        assert_eq!(
            named(&left("a.jpg", Some((45, 55))), &lost, Side::First),
            [],
            "a picture of another kind"
        );
        assert_eq!(named(&left("a.jpg", None), &lost, Side::First), [], "three chains for one name");
        assert_eq!(
            named(&left("a.png", None), &lost, Side::Last),
            [(0, 1, false)],
            "the only one of its kind"
        );
        assert_eq!(named(&left("notes.txt", None), &[(7, None)], Side::First), [(0, 0, false)]);
        assert_eq!(named(&left("a.jpg", None), &[(7, None)], Side::First), []);
        assert_eq!(named(&left("film.MP4", None), &[(7, Some("mp4"))], Side::First), [(0, 0, false)]);
        assert_eq!(named(&left("film.mp4", None), &[(7, Some("exe"))], Side::First), []);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_many_are_listed_as_there_is_room_for() {
        assert_eq!(listed(3, (96, 32), 512, 100), Some((1, 3)));
        assert_eq!(listed(20, (96, 32), 512, 100), Some((2, 20)));
        assert_eq!(listed(20, (96, 32), 512, 1), Some((1, 13)));
        assert_eq!(listed(20, (96, 32), 512, 0), None);
        assert_eq!(listed(900, (0, 96), 512, 2), Some((2, 10)));
        assert_eq!(listed(1, (0, 96), 0, 2), None);
    }
}
