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
    /// Gives lists what was found for them; gives those for which nothing was.
    fn take<'p>(
        &mut self,
        claimed: &mut ClusterSet,
        found: impl Iterator<Item = (&'p Piece, Option<Vec<Run>>)>,
    ) -> Vec<&'p Piece> {
        let mut left = Vec::new();
        for (piece, runs) in found {
            let Some(runs) = runs else {
                left.push(piece);
                continue;
            };
            for run in &runs {
                claimed.insert_range(run.first.unwrap_or(0).size()..run.end().size());
            }
            self.lists.insert((piece.holder, piece.at), runs);
        }
        left
    }
}

pub(in crate::ntfs) fn lost_content(survey: &Survey, medium: &dyn Medium) -> LostContent {
    let mut claimed = survey.claimed.clone();
    let mut all = LostContent::default();
    let mut damaged = runs::damaged(survey);
    damaged.retain(|(piece, _)| is_all(survey, piece));
    let struck = runs::by_one_byte(survey, medium, &damaged).into_iter().map(|struck| Some(struck?.runs));
    let left = all.take(&mut claimed, damaged.iter().map(|(piece, _)| piece).zip(struck));
    let found = of_lists(survey, medium, &claimed, &left);
    all.take(&mut claimed, left.into_iter().zip(found));
    all.lost = lost_files::found(survey, medium, &claimed);
    all
}
