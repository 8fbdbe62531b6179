//! What only hosts of FAT leave in the first 8 KiB: of a volume that was formatted as something else since, nothing of it
//! is left there. `$Boot` of NTFS takes these bytes whole, the boot regions of exFAT more.

use super::{Geometry, evidence::table_shape, weigh};
use crate::{
    arith::Peek,
    fat::layout::{BootSector, FSINFO_LEAD, FSINFO_STRUCTURE, FsInfo},
    medium::Medium,
};
use zerocopy::FromBytes;

/// Bytes that formatting as another family writes over.
const HEAD: usize = 8192;

/// True where a boot sector that leads to a table stands at the beginning, or behind it a second one, FSInfo, or a table.
pub fn marked(medium: &dyn Medium) -> bool {
    let head = medium.lenient(0, HEAD).bytes;
    let mut sectors = head.chunks_exact(512);
    let leads = |sector: &[u8]| {
        let boot = BootSector::read(sector).filter(|_| sector.ends_with(&[0x55, 0xAA]));
        let geometry = boot.and_then(|boot| Geometry::claimed_by(&boot));
        geometry.is_some_and(|geometry| weigh(medium, &geometry, None).tables > 0)
    };
    let first = sectors.next().is_some_and(|sector| sector.part(3, 8) != b"NTFS    " && leads(sector));
    first
        || sectors.any(|sector| {
            let info = FsInfo::read_from_bytes(sector).ok();
            let info = info.is_some_and(|info| {
                info.lead.get() == FSINFO_LEAD && info.structure.get() == FSINFO_STRUCTURE
            });
            info || table_shape(sector).is_some() || sector.part(3, 8) != b"NTFS    " && leads(sector)
        })
}
