//! A tree of files as a list by path, made record by record.
//!
//! Only the folders on the way to the present file have their paths in memory: a list of all paths would be as large
//! as the tree.

use super::{path::TreePath, record::FileRecord};
use crate::arith::Sat;
use std::ops::ControlFlow;

/// Takes records, and says when it has enough.
pub type Take<'t> = dyn FnMut(FileRecord) -> ControlFlow<()> + 't;

/// What a tree tells of its nodes, which are numbered from 0 on; 0 is the root.
pub(crate) trait Tree {
    /// How many there are.
    fn nodes(&self) -> u32;
    /// The folder it lies in. One that is not found before it is taken for the root.
    fn parent(&self, number: u32) -> u32;
    /// Its name.
    fn name(&self, number: u32) -> &str;
}

/// A tree to be listed, and what belongs to no tree, of which there is little.
pub(crate) struct Listing {
    /// Records besides those of the tree.
    pub(crate) others: Vec<FileRecord>,
    /// Where what stands on the medium ends.
    pub(crate) end: u64,
}

impl Listing {
    /// Passes everything on by path. `tree` is in `source`, and `record` makes the record of a node when its turn
    /// comes.
    pub(crate) fn pass_on<S, T: Tree>(
        mut self,
        source: &mut S,
        tree: impl Fn(&S) -> &T,
        mut record: impl FnMut(&mut S, u32, TreePath) -> Option<FileRecord>,
        take: &mut Take<'_>,
    ) {
        self.others.sort_by(|one, other| one.path.cmp(&other.path));
        let mut others = self.others.into_iter().peekable();
        let mut pass = |mut file: FileRecord| {
            file.mark_absent(self.end);
            take(file)
        };
        let by_folder = ByFolder::of(tree(source));
        let walked = by_folder.walk(source, tree, |source, number, path| {
            let Some(file) = record(source, number, path) else { return ControlFlow::Continue(()) };
            while let Some(other) = others.next_if(|other| other.path < file.path) {
                pass(other)?;
            }
            pass(file)
        });
        if walked.is_continue() {
            let _ = others.try_for_each(pass);
        }
    }
}

/// The nodes of a tree by the folder they lie in, each folder's by name.
struct ByFolder {
    /// Where each folder's children begin in `children`; one more at the end.
    starts: Vec<u32>,
    children: Vec<u32>,
}

impl ByFolder {
    fn of(tree: &impl Tree) -> Self {
        let count = tree.nodes();
        let parent = |number: u32| Some(tree.parent(number)).filter(|parent| *parent < number).unwrap_or(0);
        let mut starts = vec![0_u32; count.size().plus(2)];
        for number in 1..count {
            if let Some(start) = starts.get_mut(parent(number).size().plus(2)) {
                *start = start.plus(1);
            }
        }
        let mut sum = 0_u32;
        for start in &mut starts {
            sum = sum.plus(*start);
            *start = sum;
        }
        // Each start moves to its end while the children are put in.
        let mut children = vec![0_u32; count.minus(1).size()];
        for number in 1..count {
            if let Some(start) = starts.get_mut(parent(number).size().plus(1)) {
                if let Some(child) = children.get_mut(start.size()) {
                    *child = number;
                }
                *start = start.plus(1);
            }
        }
        for pair in starts.windows(2) {
            if let [from, to] = pair
                && let Some(row) = children.get_mut(from.size()..to.size())
            {
                row.sort_by(|one, other| tree.name(*one).cmp(tree.name(*other)));
            }
        }
        Self { starts, children }
    }

    fn row(&self, folder: u32) -> (u32, u32) {
        let start = |at: usize| self.starts.get(at).copied().unwrap_or(0);
        (start(folder.size()), start(folder.size().plus(1)))
    }

    /// Goes through the tree, a folder before what is in it.
    fn walk<S, T: Tree>(
        &self,
        source: &mut S,
        tree: impl Fn(&S) -> &T,
        mut take: impl FnMut(&mut S, u32, TreePath) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let mut open: Vec<(u32, u32, Option<TreePath>)> = Vec::new();
        let (from, to) = self.row(0);
        open.push((from, to, None));
        while let Some((next, end, above)) = open.last_mut() {
            if next >= end {
                open.pop();
                continue;
            }
            let number = self.children.get(next.size()).copied().unwrap_or(0);
            *next = next.plus(1);
            let here = path_below(above.as_ref(), tree(source).name(number));
            let (from, to) = self.row(number);
            if from < to && number != 0 {
                open.push((from, to, Some(here.clone())));
            }
            take(source, number, here)?;
        }
        ControlFlow::Continue(())
    }
}

/// The path of something in the folder of that path, or in the root.
fn path_below(above: Option<&TreePath>, name: &str) -> TreePath {
    above.map_or_else(|| TreePath::in_root(name), |above| above.child(name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    struct Names(Vec<(u32, String)>);

    impl Tree for Names {
        fn nodes(&self) -> u32 {
            u32::try_from(self.0.len()).unwrap()
        }
        fn parent(&self, number: u32) -> u32 {
            self.0[number as usize].0
        }
        fn name(&self, number: u32) -> &str {
            &self.0[number as usize].1
        }
    }

    proptest! {
        /// As a list of all paths would be, sorted.
        #[test]
        fn by_path(rows in prop::collection::vec((0_u32..9, "[a-c]{1,3}"), 0..40)) {
            let mut names = vec![(0, String::new())];
            // Siblings of one name are another matter.
            for (parent, name) in rows {
                if !names.contains(&(parent, name.clone())) {
                    names.push((parent, name));
                }
            }
            let tree = Names(names);
            let mut all: Vec<TreePath> = Vec::new();
            for number in 0..tree.nodes() {
                let parent = Some(tree.parent(number)).filter(|parent| *parent != 0 && *parent < number);
                all.push(path_below(parent.map(|parent| &all[parent as usize]), tree.name(number)));
            }
            let mut expected: Vec<(TreePath, u32)> = (1..).zip(all).skip(1).map(|(n, path)| (path, n - 1)).collect();
            expected.sort();
            let mut found = Vec::new();
            let by = ByFolder::of(&tree);
            let mut tree = tree;
            let _ = by.walk(&mut tree, |tree| tree, |_, number, path| {
                found.push((path, number));
                ControlFlow::Continue(())
            });
            prop_assert_eq!(found.len(), expected.len());
            let twice = |list: &[(TreePath, u32)]| list.windows(2).any(|pair| pair[0].0 == pair[1].0);
            if !twice(&expected) {
                prop_assert_eq!(found, expected);
            }
        }
    }
}
