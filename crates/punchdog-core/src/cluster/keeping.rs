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

#[cfg(test)]
mod pairing {
    use super::*;

    #[test]
    fn a_kind_is_paired_off_where_its_numbers_agree() {
        let empty = [(3, "a.WAV"), (5, "b.wave"), (7, "c.png"), (9, "d.txt")];
        assert_eq!(paired(&empty, &[(0, "wav"), (1, "png"), (2, "wav")]), [(7, 1), (3, 0), (5, 2)]);
        assert_eq!(paired(&empty, &[(0, "wav"), (1, "txt")]), [], "one chain for two names; text is no kind");
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
