//! Timing check on a large volume with holes.

use clap::Args;

/// What to time.
#[derive(Args)]
pub(crate) struct Bench {
    /// GiB of the volume.
    #[arg(long, default_value_t = 64)]
    gib: u64,
    /// Folders.
    #[arg(long, default_value_t = 5000)]
    folders: u32,
    /// Files in all.
    #[arg(long, default_value_t = 200_000)]
    files: u32,
}

pub(crate) fn run(given: &Bench) -> anyhow::Result<()> {
    let _ = (given.gib, given.folders, given.files);
    anyhow::bail!("not yet")
}
