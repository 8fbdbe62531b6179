//! A quick format over whatever was there: new tables and an empty root folder; all other bytes stay.

use punchdog_core::{exfat, fat, ntfs};
use std::io;

/// The file system that is laid over another.
#[derive(Debug, Clone)]
pub enum New {
    /// A FAT.
    Fat(fat::fresh::Wish),
    /// An exFAT.
    Exfat(exfat::fresh::Wish),
    /// An NTFS.
    Ntfs(ntfs::fresh::Wish),
}

fn size(bytes: u64) -> usize {
    usize::try_from(bytes).unwrap_or(usize::MAX)
}

/// Lays it over the volume whose bytes these are.
///
/// # Errors
/// When the wish cannot be met.
pub fn over(bytes: &mut [u8], new: &New) -> io::Result<()> {
    let mut put = |at: u64, piece: &[u8]| {
        let from = size(at).min(bytes.len());
        let end = (from + piece.len()).min(bytes.len());
        bytes[from..end].copy_from_slice(&piece[..end - from]);
    };
    match new {
        New::Fat(wish) => {
            let (geometry, pieces) = fat::fresh::lay_down(wish).map_err(io::Error::other)?;
            put(0, &vec![0; size(geometry.data_offset())]);
            if geometry.wide() {
                let root = geometry.cluster_offset(geometry.root_cluster);
                put(root, &vec![0; size(geometry.cluster_bytes().into())]);
            }
            for (extent, piece) in &pieces {
                put(extent.offset, piece);
            }
        }
        New::Exfat(wish) => {
            let (geometry, pieces) = exfat::fresh::lay_down(wish).map_err(io::Error::other)?;
            put(0, &vec![0; size(geometry.cluster_place(2))]);
            for (extent, piece) in &pieces {
                // Bitmap, up-case table and root have whole clusters.
                if extent.offset >= geometry.cluster_place(2) {
                    let whole = extent.length.next_multiple_of(geometry.cluster_bytes());
                    put(extent.offset, &vec![0; size(whole)]);
                }
                put(extent.offset, piece);
            }
        }
        New::Ntfs(wish) => {
            let (facts, pieces) = ntfs::fresh::lay_down(wish).map_err(io::Error::other)?;
            let geometry = facts.geometry;
            let own = [&facts.mft, &facts.mft_bitmap, &facts.mirror, &facts.log, &facts.bitmap, &facts.boot];
            for run in own.iter().flat_map(|(runs, _)| runs) {
                let place = geometry.place(run.first.unwrap_or(0));
                put(place, &vec![0; size(geometry.place(run.length))]);
            }
            for (extent, piece) in &pieces {
                put(extent.offset, piece);
            }
        }
    }
    Ok(())
}
