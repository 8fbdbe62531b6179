//! Every fault of an NTFS volume, as findings. Nothing is written here.

mod boot_sector;
mod differing;
mod folders;
mod records;
mod system;

pub(super) use records::{paths, title};
pub(super) use system::older_volume;

use super::{boot::Boot, geometry::Believed, survey::Survey};
use crate::{medium::Medium, report::finding::Sink};

/// What the checks look at.
pub(super) struct Subject<'a> {
    pub(super) medium: &'a dyn Medium,
    pub(super) believed: &'a Believed,
    pub(super) boot: &'a Boot,
    pub(super) survey: &'a Survey,
}

/// Reports every fault of the volume to `sink`.
pub(super) fn check(subject: &Subject<'_>, sink: &mut dyn Sink) {
    boot_sector::check(subject, sink);
    system::check(subject, sink);
    records::check(subject, sink);
    folders::check(subject, sink);
    differing::check(subject, sink);
}
