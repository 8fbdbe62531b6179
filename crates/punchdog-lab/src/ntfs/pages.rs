//! Restart pages of a log, as a host leaves them.

/// A restart page of a log of 256 KiB that a host uses, with nothing to go on from.
pub fn log_in_use() -> Vec<u8> {
    log_page(&[])
}

/// The same with other bytes at some places.
pub fn log_page(others: &[(usize, &[u8])]) -> Vec<u8> {
    let mut page = vec![0; 4096];
    let mut put = |at: usize, value: &[u8]| page[at..at + value.len()].copy_from_slice(value);
    put(0, b"RSTR");
    put(4, &30_u16.to_le_bytes());
    put(6, &9_u16.to_le_bytes());
    put(16, &4096_u32.to_le_bytes());
    put(20, &4096_u32.to_le_bytes());
    // The restart area, and version 1.1.
    put(24, &48_u16.to_le_bytes());
    put(26, &1_u16.to_le_bytes());
    put(28, &1_u16.to_le_bytes());
    // One client, none free, the first in use; behind the area of 48 bytes.
    put(48 + 8, &1_u16.to_le_bytes());
    put(48 + 10, &0xFFFF_u16.to_le_bytes());
    put(48 + 16, &48_u32.to_le_bytes());
    put(48 + 20, &(48_u16 + 160).to_le_bytes());
    put(48 + 22, &48_u16.to_le_bytes());
    put(48 + 24, &(1_u64 << 18).to_le_bytes());
    put(48 + 36, &48_u16.to_le_bytes());
    put(48 + 38, &64_u16.to_le_bytes());
    // The client: no earlier and no later one, and its name.
    put(96 + 16, &[0xFF, 0xFF, 0xFF, 0xFF]);
    put(96 + 28, &8_u32.to_le_bytes());
    put(96 + 32, b"N\0T\0F\0S\0");
    for (at, bytes) in others {
        put(*at, bytes);
    }
    punchdog_core::ntfs::layout::fix(&mut page);
    page
}
