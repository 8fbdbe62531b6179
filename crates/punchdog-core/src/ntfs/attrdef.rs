//! `$AttrDef`: which types of attributes there are.
//!
//! ```text
//! 0 name, 128 bytes   128 type   132 display   136 order   140 flags   144 least bytes   152 most bytes
//! ```
//! As volumes of version 3 that were looked at have it; the driver of Linux 6.12 demands that the first is type 10h.

use super::{
    build::units,
    layout::{kind, put},
};
use crate::arith::Sat;
use std::sync::LazyLock;

/// Bytes of a row.
pub const ROW: usize = 160;
/// Rows, the empty last one with them.
const ROWS: usize = 16;

const ALL: [(&str, u32, u32, u64, u64); 15] = [
    ("$STANDARD_INFORMATION", kind::STANDARD, 0x40, 0x30, 0x48),
    ("$ATTRIBUTE_LIST", kind::LIST, 0x80, 0, u64::MAX),
    ("$FILE_NAME", kind::NAME, 0x42, 0x44, 0x242),
    ("$OBJECT_ID", kind::OBJECT_ID, 0x40, 0, 0x100),
    ("$SECURITY_DESCRIPTOR", kind::SECURITY, 0x80, 0, u64::MAX),
    ("$VOLUME_NAME", kind::VOLUME_NAME, 0x40, 2, 0x100),
    ("$VOLUME_INFORMATION", kind::VOLUME_INFO, 0x40, 12, 12),
    ("$DATA", kind::DATA, 0, 0, u64::MAX),
    ("$INDEX_ROOT", kind::INDEX_ROOT, 0x40, 0, u64::MAX),
    ("$INDEX_ALLOCATION", kind::INDEX_ALLOCATION, 0x80, 0, u64::MAX),
    ("$BITMAP", kind::BITMAP, 0x80, 0, u64::MAX),
    ("$REPARSE_POINT", kind::REPARSE, 0x80, 0, 0x4000),
    ("$EA_INFORMATION", 0xD0, 0x40, 8, 8),
    ("$EA", 0xE0, 0, 0, 0x1_0000),
    ("$LOGGED_UTILITY_STREAM", 0x100, 0x80, 0, 0x1_0000),
];

/// The table.
pub static TABLE: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let mut bytes = vec![0; ROW.times(ROWS)];
    for (row, (name, of, flags, least, most)) in ALL.iter().enumerate() {
        let at = row.times(ROW);
        put(&mut bytes, at, &units(name));
        put(&mut bytes, at.plus(128), &of.to_le_bytes());
        put(&mut bytes, at.plus(140), &flags.to_le_bytes());
        put(&mut bytes, at.plus(144), &least.to_le_bytes());
        put(&mut bytes, at.plus(152), &most.to_le_bytes());
    }
    bytes
});
