//! A fresh file system as bytes and where they go: what stands in the volume's own places becomes new, all other bytes
//! stay.
//!
//! Cluster sizes that nobody chose are those of published tables: FAT 1.03, "FAT Type Determination" (DskTableFAT16 and
//! DskTableFAT32), and the vendor's published defaults for exFAT and NTFS.

mod table;

pub use table::{Table, TableError};

use crate::{
    arith::Sat,
    exfat,
    family::Kind,
    fat::{self, names},
    medium::Extent,
    ntfs,
};

/// What is laid down.
#[derive(Debug, Clone)]
pub enum Fresh {
    /// A FAT.
    Fat(fat::fresh::Wish),
    /// An exFAT.
    Exfat(exfat::fresh::Wish),
    /// An NTFS.
    Ntfs(ntfs::fresh::Wish),
}

/// What nobody else decides.
#[derive(Debug, Clone)]
pub struct Details {
    /// Bytes of a sector.
    pub sector: u32,
    /// Bytes of a cluster; by the published tables where there is none.
    pub cluster: Option<u32>,
    /// The label; empty for none.
    pub label: String,
    /// What serial numbers are made from.
    pub serial: u64,
    /// The time, in 100 ns since 1601.
    pub time: u64,
}

/// Why there can be no such file system.
#[derive(Debug, thiserror::Error)]
pub enum FormatError {
    /// By the rules of FAT.
    #[error(transparent)]
    Fat(#[from] fat::fresh::FreshError),
    /// By the rules of exFAT.
    #[error(transparent)]
    Exfat(#[from] exfat::fresh::FreshError),
    /// By the rules of NTFS.
    #[error(transparent)]
    Ntfs(#[from] ntfs::fresh::FreshError),
    /// No cluster size of the published tables fits.
    #[error("{} has no cluster size for {bytes} bytes", kind.title())]
    NoCluster {
        /// The file system.
        kind: Kind,
        /// Bytes there are.
        bytes: u64,
    },
    /// The label cannot be one.
    #[error("{label:?} is no label of {}: {why}", kind.title())]
    Label {
        /// The file system.
        kind: Kind,
        /// The label.
        label: String,
        /// Why not.
        why: &'static str,
    },
}

/// What goes to a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// These bytes.
    Bytes(Vec<u8>),
    /// So many zeros.
    Zeros(u64),
}

const KIB: u64 = 1 << 10;
const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;

/// The first row of a table whose end is not below `bytes`.
fn row(bytes: u64, rows: &[(u64, u64)]) -> Option<u64> {
    rows.iter().find(|(end, _)| bytes <= *end).map(|(_, cluster)| *cluster)
}

/// The cluster size that the published tables give a volume.
pub fn usual_cluster(kind: Kind, bytes: u64, sector: u32) -> Option<u32> {
    let cluster = match kind {
        // The smallest with which a table entry of 12 bits can name them all.
        Kind::Fat12 => (0..8_u32).map(|shift| sector.wide() << shift).find(|size| bytes.per(*size) < 4085),
        Kind::Fat16 => row(
            bytes,
            &[
                (16 * MIB, KIB),
                (128 * MIB, 2 * KIB),
                (256 * MIB, 4 * KIB),
                (512 * MIB, 8 * KIB),
                (GIB, 16 * KIB),
                (2 * GIB, 32 * KIB),
            ],
        ),
        Kind::Fat32 => row(
            bytes,
            &[
                (260 * MIB, KIB / 2),
                (8 * GIB, 4 * KIB),
                (16 * GIB, 8 * KIB),
                (32 * GIB, 16 * KIB),
                (u64::MAX, 32 * KIB),
            ],
        ),
        Kind::Exfat => row(bytes, &[(256 * MIB, 4 * KIB), (32 * GIB, 32 * KIB), (u64::MAX, 128 * KIB)]),
        Kind::Ntfs => row(
            bytes,
            &[
                (16 << 40, 4 * KIB),
                (32 << 40, 8 * KIB),
                (64 << 40, 16 * KIB),
                (128 << 40, 32 * KIB),
                (u64::MAX, 64 * KIB),
            ],
        ),
    };
    cluster.map(|size| size.max(sector.wide()).narrow())
}

/// A label as FAT has it: eleven bytes in capitals, padded (FAT 1.03, "DIR_Name", and its list of what may not be in it).
fn fat_label(label: &str, kind: Kind) -> Result<names::Short, FormatError> {
    let no = |why| FormatError::Label { kind, label: label.to_owned(), why };
    let upper = label.trim().to_uppercase();
    if upper.is_empty() {
        return Ok(*b"NO NAME    ");
    }
    if !upper.chars().all(|c| c.is_ascii() && !c.is_ascii_control() && !"\"*+,./:;<=>?[\\]|".contains(c)) {
        return Err(no("only letters of ASCII, digits and a few signs"));
    }
    let mut short = [b' '; 11];
    if upper.len() > short.len() {
        return Err(no("it has more than 11 characters"));
    }
    for (place, byte) in short.iter_mut().zip(upper.bytes()) {
        *place = byte;
    }
    Ok(short)
}

fn wide_label(label: &str, kind: Kind, most: usize) -> Result<String, FormatError> {
    let no = |why| FormatError::Label { kind, label: label.to_owned(), why };
    if label.encode_utf16().count() > most {
        return Err(no(if most == 11 {
            "it has more than 11 characters"
        } else {
            "it has more than 32 characters"
        }));
    }
    if label.chars().any(char::is_control) {
        return Err(no("it has characters that are none"));
    }
    Ok(label.trim().to_owned())
}

impl Fresh {
    /// A file system of `kind` in `bytes` bytes.
    ///
    /// # Errors
    /// Where such a one cannot be.
    pub fn new(kind: Kind, bytes: u64, details: &Details) -> Result<Self, FormatError> {
        let sector_bytes = details.sector;
        let usual = || usual_cluster(kind, bytes, sector_bytes).ok_or(FormatError::NoCluster { kind, bytes });
        let cluster_bytes = details.cluster.map_or_else(usual, Ok)?;
        let serial = details.serial.narrow();
        let fresh = match kind {
            Kind::Fat12 | Kind::Fat16 | Kind::Fat32 => Self::Fat(fat::fresh::Wish {
                kind,
                bytes,
                sector_bytes,
                cluster_bytes,
                tables: 2,
                label: fat_label(&details.label, kind)?,
                serial,
            }),
            Kind::Exfat => Self::Exfat(exfat::fresh::Wish {
                bytes,
                sector_bytes,
                cluster_bytes,
                tables: 1,
                label: wide_label(&details.label, kind, 11)?,
                serial,
            }),
            Kind::Ntfs => Self::Ntfs(ntfs::fresh::Wish {
                bytes,
                sector_bytes,
                cluster_bytes,
                record_bytes: sector_bytes.max(1024),
                label: wide_label(&details.label, kind, 32)?,
                serial: details.serial,
                time: details.time,
                records: 256,
            }),
        };
        // What cannot be is said before anything is done.
        fresh.pieces(0)?;
        Ok(fresh)
    }

    /// Bytes of a cluster.
    pub fn cluster(&self) -> u32 {
        match self {
            Self::Fat(wish) => wish.cluster_bytes,
            Self::Exfat(wish) => wish.cluster_bytes,
            Self::Ntfs(wish) => wish.cluster_bytes,
        }
    }

    /// What goes where, in bytes from the start of the volume, which has `before` bytes of the medium in front of it, in
    /// the order in which it is written: its own places become blank before something is put there.
    ///
    /// # Errors
    /// Where such a one cannot be.
    pub fn pieces(&self, before: u64) -> Result<Vec<(u64, Piece)>, FormatError> {
        let mut all = Vec::new();
        let put = |extent: Extent, bytes: Vec<u8>| (extent.offset, Piece::Bytes(bytes));
        match self {
            Self::Fat(wish) => {
                let (geometry, pieces) =
                    fat::fresh::lay_down_behind(before.per(wish.sector_bytes.wide()), wish)?;
                all.push((0, Piece::Zeros(geometry.data_offset())));
                if geometry.wide() {
                    let root = geometry.cluster_offset(geometry.root_cluster);
                    all.push((root, Piece::Zeros(geometry.cluster_bytes().wide())));
                }
                all.extend(pieces.into_iter().map(|(extent, bytes)| put(extent, bytes)));
            }
            Self::Exfat(wish) => {
                let (geometry, pieces) =
                    exfat::fresh::lay_down_behind(before.per(wish.sector_bytes.wide()), wish)?;
                let heap = geometry.cluster_place(2);
                all.push((0, Piece::Zeros(heap)));
                for (extent, bytes) in pieces {
                    // Bitmap, up-case table and root have whole clusters.
                    if extent.offset >= heap {
                        let each = geometry.cluster_bytes();
                        all.push((extent.offset, Piece::Zeros(extent.length.per_up(each).times(each))));
                    }
                    all.push(put(extent, bytes));
                }
            }
            Self::Ntfs(wish) => {
                let (facts, pieces) =
                    ntfs::fresh::lay_down_behind(before.per(wish.sector_bytes.wide()), wish)?;
                let geometry = facts.geometry;
                let own =
                    [&facts.mft, &facts.mft_bitmap, &facts.mirror, &facts.log, &facts.bitmap, &facts.boot];
                for run in own.iter().flat_map(|(runs, _)| runs) {
                    let place = geometry.place(run.first.unwrap_or(0));
                    all.push((place, Piece::Zeros(geometry.place(run.length))));
                }
                all.extend(pieces.into_iter().map(|(extent, bytes)| put(extent, bytes)));
            }
        }
        Ok(all)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn details(cluster: Option<u32>, label: &str) -> Details {
        Details { sector: 512, cluster, label: label.to_owned(), serial: 7, time: 0 }
    }

    #[test]
    fn every_size_of_the_tables_makes_a_file_system() {
        for (kind, sizes) in [
            (Kind::Fat12, &[MIB, 2 * MIB, 8 * MIB, 32 * MIB][..]),
            (Kind::Fat16, &[8 * MIB, 16 * MIB, 17 * MIB, 128 * MIB, 500 * MIB, 2 * GIB - MIB]),
            (Kind::Fat32, &[64 * MIB, 260 * MIB, 261 * MIB, 8 * GIB, 9 * GIB, 33 * GIB, 1 << 40]),
            (Kind::Exfat, &[MIB, 256 * MIB, 257 * MIB, 32 * GIB, 33 * GIB, 2 << 40]),
            (Kind::Ntfs, &[8 * MIB, GIB, 2 << 40]),
        ] {
            for bytes in sizes {
                let fresh = Fresh::new(kind, *bytes, &details(None, "SKERRY"));
                assert!(fresh.is_ok(), "{kind:?} {bytes}: {:?}", fresh.err());
            }
        }
        assert!(matches!(
            Fresh::new(Kind::Fat16, 3 * GIB, &details(None, "")),
            Err(FormatError::NoCluster { .. })
        ));
        for (kind, label) in [
            (Kind::Fat32, "twelve chars"),
            (Kind::Fat16, "a/b"),
            (Kind::Exfat, "twelve chars"),
            (Kind::Ntfs, "a\nb"),
        ] {
            let made = Fresh::new(kind, 64 * MIB, &details(None, label));
            assert!(matches!(made, Err(FormatError::Label { .. })), "{label}");
        }
    }
}
