//! Every fault of the catalogue, as findings. Writes nothing.

pub(super) mod boot_region;
mod chains;
mod folders;

pub(crate) use boot_region::differences;
pub(crate) use folders::hidden_tree;

use super::{boot::Boot, geometry::Believed, survey::Survey};
use crate::{medium::Medium, report::finding::Sink};

/// What the checks look at.
pub(super) struct Subject<'a> {
    pub(super) medium: &'a dyn Medium,
    pub(super) believed: &'a Believed,
    pub(super) boot: &'a Boot,
    pub(super) survey: &'a mut Survey,
}

/// Reports every fault of the volume to `sink`.
pub(super) fn check(subject: &mut Subject<'_>, sink: &mut dyn Sink) {
    boot_region::check(subject, sink);
    chains::check(subject, sink);
    folders::check(subject, sink);
}
