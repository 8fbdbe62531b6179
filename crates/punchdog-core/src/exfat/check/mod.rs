//! Every fault of an exFAT volume, as findings. Nothing is written here.

mod boot_region;
mod files;
mod root;

pub(super) use boot_region::{older_volume, percent_in_use};
pub(super) use files::hidden_tree;

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
    root::check(subject, sink);
    files::check(subject, sink);
}
