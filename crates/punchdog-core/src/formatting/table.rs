//! A fresh partition table with one volume: MBR, or GPT (UEFI 2.10, chapter 5) with its protective MBR.

use crate::{
    arith::Sat,
    family::Kind,
    medium::Extent,
    partition::{gpt, layout::ENTRIES_AT, new_entry},
};
use zerocopy::IntoBytes;

/// Which table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Table {
    /// A master boot record.
    Mbr,
    /// A GUID partition table.
    Gpt,
}

/// Why there can be no such table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum TableError {
    /// There is no room for it and a volume.
    #[error("{0} bytes have no room for a partition table and a volume")]
    TooSmall(u64),
    /// An MBR counts sectors in 32 bits.
    #[error("an MBR cannot list a volume that ends at byte {0}: take a GPT")]
    TooLarge(u64),
}

/// Where volumes begin: what hosts use, and a multiple of what media erase at once.
const ALIGNED: u64 = 1 << 20;

impl Table {
    /// Where the volume lies on a medium of `bytes` bytes.
    ///
    /// # Errors
    /// Where there is no room.
    pub fn room(self, bytes: u64, sector: u64) -> Result<Extent, TableError> {
        // A GPT has its second copy at the end.
        let end = match self {
            Self::Mbr => bytes.per(ALIGNED).times(ALIGNED),
            Self::Gpt => bytes.minus(ALIGNED).per(ALIGNED).times(ALIGNED),
        };
        if end <= ALIGNED {
            return Err(TableError::TooSmall(bytes));
        }
        if self == Self::Mbr && end.per(sector) > u64::from(u32::MAX) {
            return Err(TableError::TooLarge(end));
        }
        Ok(Extent::new(ALIGNED, end.minus(ALIGNED)))
    }

    /// Its bytes and where they go, in bytes of the medium.
    ///
    /// # Errors
    /// Where there is no room.
    pub fn pieces(
        self,
        bytes: u64,
        sector: u64,
        volume: Extent,
        kind: Kind,
        serial: u64,
    ) -> Result<Vec<(u64, Vec<u8>)>, TableError> {
        let first = match self {
            Self::Mbr => {
                let kind = match kind {
                    Kind::Fat12 => 0x01,
                    Kind::Fat16 => 0x0E,
                    Kind::Fat32 => 0x0C,
                    Kind::Exfat | Kind::Ntfs => 0x07,
                };
                new_entry(kind, volume.offset, volume.length, sector)
            }
            Self::Gpt => {
                let length = bytes.minus(sector).min(sector.times(u32::MAX.into()));
                let mut protective = new_entry(0xEE, sector, length, sector);
                protective.start_chs = [0, 2, 0];
                protective
            }
        };
        let mut sector_0 = vec![0; sector.size()];
        let mut put = |at: usize, bytes: &[u8]| {
            if let Some(place) = sector_0.get_mut(at..at.plus(bytes.len())) {
                place.copy_from_slice(bytes);
            }
        };
        put(440, &serial.narrow().to_le_bytes());
        put(ENTRIES_AT, first.as_bytes());
        put(510, &[0x55, 0xAA]);
        let mut pieces = vec![(0, sector_0)];
        if self == Self::Gpt {
            let unique = gpt::made_guid(&[b"volume".as_slice(), &serial.to_le_bytes()].concat());
            let disk = gpt::made_guid(&[b"disk".as_slice(), &serial.to_le_bytes()].concat());
            let mut entries = gpt::new_entry(volume, sector, unique).as_bytes().to_vec();
            entries.resize(128 * 128, 0);
            let both = gpt::both_copies(bytes, sector, disk, &entries).ok_or(TableError::TooSmall(bytes))?;
            pieces.extend(both);
        }
        Ok(pieces)
    }
}
