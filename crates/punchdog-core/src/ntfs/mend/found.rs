//! Content of files that nothing leads to, as it is known before anything is mended: for whoever copies files out first.
//!
//! What is found is what the repair would give each file, in the order in which it does: run lists with one byte struck, run
//! lists of which nothing is left, files whose records are lost.

use super::{
    by_content::{is_all, of_lists},
    lost_files, runs,
};
use crate::{
    arith::Sat,
    cluster::set::ClusterSet,
    medium::Medium,
    ntfs::{records::Piece, runs::Run, survey::Survey},
};
use std::collections::HashMap;

/// Where such content stands.
#[derive(Debug, Default)]
pub(in crate::ntfs) struct LostContent {
    /// Of files whose records are lost: by the reference that entries of folders have to them.
    pub(in crate::ntfs) lost: HashMap<u64, Vec<Run>>,
    /// Of files whose run lists are of no use: by the record that holds the list, and where in it the attribute stands.
    pub(in crate::ntfs) lists: HashMap<(u32, u16), Vec<Run>>,
}

impl LostContent {
    /// Gives lists what was found for them; gives those for which nothing was. What is plain content is kept: of other lists
    /// the repair tells, and only the clusters are theirs.
    fn take<'p>(
        &mut self,
        survey: &Survey,
        claimed: &mut ClusterSet,
        found: impl Iterator<Item = (&'p Piece, Option<Vec<Run>>)>,
    ) -> Vec<&'p Piece> {
        let mut left = Vec::new();
        for (piece, runs) in found {
            let plain = is_all(survey, piece);
            let Some(runs) = runs else {
                left.extend(plain.then_some(piece));
                continue;
            };
            for run in &runs {
                if let Some(first) = run.first {
                    claimed.insert_range(first.size()..run.end().size());
                }
            }
            if plain {
                self.lists.insert((piece.holder, piece.at), runs);
            }
        }
        left
    }
}

pub(in crate::ntfs) fn lost_content(survey: &Survey, medium: &dyn Medium) -> LostContent {
    let mut claimed = survey.claimed.clone();
    let mut all = LostContent::default();
    let damaged = runs::damaged(survey);
    let struck = runs::by_one_byte(survey, medium, &damaged).into_iter().map(|struck| Some(struck?.runs));
    let left = all.take(survey, &mut claimed, damaged.iter().map(|(piece, _)| piece).zip(struck));
    let found = of_lists(survey, medium, &claimed, &left);
    all.take(survey, &mut claimed, left.into_iter().zip(found));
    all.lost = lost_files::found(survey, medium, &claimed);
    all
}
