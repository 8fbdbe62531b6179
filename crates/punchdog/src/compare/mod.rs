//! `punchdog compare`: whether two images, devices or folders hold the same, by files or byte by byte.

pub(crate) mod bytes;
pub(crate) mod files;
mod side;

use crate::{
    args::{Args, Compare},
    failure::{Failure, Verdict},
    watch::Screen,
};

pub(crate) fn run(args: &Args, given: &Compare) -> anyhow::Result<Verdict> {
    if same_file::is_same_file(&given.one, &given.other).unwrap_or(false) {
        return Err(Failure::with(
            format!("{} and {} are one and the same", given.one.display(), given.other.display()),
            "name two images, or an image and a device or folder",
        ));
    }
    let screen = Screen::of_bytes();
    if given.bytes { bytes::run(args, given, &screen) } else { files::run(args, given, &screen) }
}
