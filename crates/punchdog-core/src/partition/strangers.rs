//! Naming what Punchdog does not mend, by published signatures.

use crate::{
    arith::{Peek, Sat},
    medium::Medium,
};

/// What a range holds when it is nothing that Punchdog mends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Name {
    /// What it is.
    pub title: &'static str,
    sort: Sort,
}

/// What is to be done about a stranger.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Sort {
    /// A file system.
    Files,
    /// A disc image.
    Disc,
    Swap,
    Encrypted,
    Container,
    /// A raw image with something behind it.
    NearlyRaw,
    Archive,
    Document,
    /// One of a set of disks.
    Member,
}

impl Name {
    /// What to do about it.
    pub fn advice(&self) -> &'static str {
        match self.sort {
            Sort::Files | Sort::Disc => {
                "another file system: leave it alone, and read it on a host that knows it"
            }
            Sort::Swap => "swap space holds no files",
            Sort::Encrypted => "encrypted: unlock it on its own host first, then image what is inside",
            Sort::Container => "an image in a container: convert it to a raw image first",
            Sort::NearlyRaw => "raw but for its last 512 bytes: work on it as it is, or convert it first",
            Sort::Archive => "a packed file, not an image: unpack it first",
            Sort::Document => "a document, not an image",
            Sort::Member => {
                "one of a set of disks: put the set together on its own host, read only, then image what it holds"
            }
        }
    }

    /// An older volume may lie beneath it, anywhere: it keeps files itself, and was laid onto the medium. Under a disc image
    /// nothing is left, and behind it volumes are looked for by themselves.
    pub fn was_laid_over(&self) -> bool {
        matches!(self.sort, Sort::Files | Sort::Encrypted | Sort::Swap)
    }
}

struct Sign {
    at: u64,
    bytes: &'static [u8],
    name: Name,
}

const fn sign(at: u64, bytes: &'static [u8], title: &'static str, sort: Sort) -> Sign {
    Sign { at, bytes, name: Name { title, sort } }
}

/// Signatures by place, longest first where one could be taken for another.
const SIGNS: &[Sign] = &[
    sign(0, b"LUKS\xBA\xBE", "LUKS encrypted volume", Sort::Encrypted),
    sign(3, b"-FVE-FS-", "BitLocker encrypted volume", Sort::Encrypted),
    sign(4096, b"\xFC\x4E\x2B\xA9\x01\0\0\0", "member of a software RAID", Sort::Member),
    sign(0, b"\xFC\x4E\x2B\xA9\x01\0\0\0", "member of a software RAID", Sort::Member),
    sign(0, b"XFSB", "XFS", Sort::Files),
    sign(0x1_0040, b"_BHRfS_M", "Btrfs", Sort::Files),
    sign(0x1_0034, b"ReIsEr2Fs", "ReiserFS", Sort::Files),
    sign(0x1_0034, b"ReIsErFs", "ReiserFS", Sort::Files),
    sign(0x8000, b"JFS1\x01\0\0\0", "JFS", Sort::Files),
    sign(0x8000, b"JFS1\x02\0\0\0", "JFS", Sort::Files),
    sign(0x1_0000 + 1372, b"\x19\x01\x54\x19", "UFS", Sort::Files),
    sign(0x2000 + 1372, b"\x54\x19\x01\0", "UFS", Sort::Files),
    sign(0x2_0000, b"\x0C\xB1\xBA\0\0\0\0\0", "ZFS", Sort::Files),
    sign(1080, b"\x53\xEF", "ext2, ext3 or ext4", Sort::Files),
    sign(32, b"NXSB", "APFS", Sort::Files),
    sign(1024, b"H+\0\x04", "HFS+", Sort::Files),
    sign(1024, b"HX\0\x05", "HFSX", Sort::Files),
    sign(1024, b"BD", "HFS", Sort::Files),
    sign(512, b"PM\0\0\0\0\0", "disk with an Apple partition map", Sort::Files),
    sign(0x8001, b"CD001", "ISO 9660", Sort::Disc),
    sign(0x8001, b"BEA01", "UDF", Sort::Files),
    sign(4086, b"SWAPSPACE2", "swap space", Sort::Swap),
    sign(1024, b"\x10\x20\xF5\xF2", "F2FS", Sort::Files),
    sign(1024, b"\xE2\xE1\xF5\xE0", "EROFS", Sort::Files),
    sign(0, b"hsqs", "SquashFS", Sort::Files),
    sign(0, b"UBI#\x01", "UBI volumes, as raw flash has them", Sort::Files),
    sign(3, b"ReFS\0\0\0\0", "ReFS", Sort::Files),
    sign(0, b"QFI\xFB", "qcow2 container", Sort::Container),
    sign(0, b"vhdxfile", "VHDX container", Sort::Container),
    sign(0, b"conectix", "VHD container", Sort::Container),
    sign(0, b"KDMV", "VMDK container", Sort::Container),
    sign(64, b"\x7F\x10\xDA\xBE", "VDI container", Sort::Container),
    sign(0, b"\x3A\xFF\x26\xED\x01\0", "sparse flash image", Sort::Container),
    sign(0, b"EVF\x09\x0D\x0A\xFF\0", "EWF evidence container", Sort::Container),
    sign(0, b"EVF2\r\n\x81\0", "EWF evidence container", Sort::Container),
    sign(0, b"AFF10\r\n\0", "AFF evidence container", Sort::Container),
    sign(0, b"MSWIM\0\0\0", "WIM archive", Sort::Archive),
    sign(0, b"PK\x03\x04", "ZIP archive", Sort::Archive),
    sign(0, b"7z\xBC\xAF\x27\x1C", "7z archive", Sort::Archive),
    sign(0, b"\x1F\x8B\x08", "gzip file", Sort::Archive),
    sign(0, b"\xFD7zXZ\0", "xz file", Sort::Archive),
    sign(0, b"BZh", "bzip2 file", Sort::Archive),
    sign(0, b"LZIP\x01", "lzip file", Sort::Archive),
    sign(0, b"\x04\x22\x4D\x18", "LZ4 file", Sort::Archive),
    sign(0, b"Rar!\x1A\x07", "RAR archive", Sort::Archive),
    sign(0, b"\x28\xB5\x2F\xFD", "Zstandard file", Sort::Archive),
    sign(257, b"ustar", "tar archive", Sort::Archive),
    sign(0, b"%PDF-", "PDF document", Sort::Document),
    sign(512, b"LABELONE", "logical volume manager", Sort::Files),
    sign(536, b"LVM2 001", "logical volume manager", Sort::Files),
];

/// Marks in the last sector.
const LAST: &[Sign] = &[
    // A VHD of fixed size is a raw image with its mark behind it.
    sign(0, b"conectix", "VHD container of fixed size", Sort::NearlyRaw),
    sign(0, b"koly\0\0\0\x04", "DMG container", Sort::Container),
];

/// exFAT and NTFS, which scout names among the volumes.
pub fn own_mark(medium: &dyn Medium) -> Option<&'static str> {
    let sector = medium.lenient(0, 512).bytes;
    match sector.part(3, 8) {
        b"EXFAT   " => Some("exfat"),
        b"NTFS    " => Some("ntfs"),
        _ => None,
    }
}

/// The stranger on `medium`, if its signature is known.
pub fn name(medium: &dyn Medium) -> Option<Name> {
    let found = SIGNS.iter().find(|sign| {
        let bytes = medium.lenient(sign.at, sign.bytes.len()).bytes;
        sign.at < medium.len() && bytes == sign.bytes
    });
    if let Some(sign) = found {
        return Some(sign.name);
    }
    let tail = medium.lenient(medium.len().minus(512), 8).bytes;
    LAST.iter().find(|sign| tail.starts_with(sign.bytes)).map(|sign| sign.name)
}

/// How many bytes the stranger on `medium` says that it has: of disc images, which are written to media of any size (ISO 9660,
/// 8.4.8 and 8.4.12: space size and block size at 80 and 128 of the descriptor at 8000h).
pub fn length(medium: &dyn Medium, name: Name) -> Option<u64> {
    if name.sort != Sort::Disc {
        return None;
    }
    let head = medium.lenient(0x8000, 256).bytes;
    let size = u64::from(head.le16(128));
    let fits = size.is_power_of_two() && (512..=2048).contains(&size);
    let bytes = u64::from(head.le32(80)).times(if size == 0 { 2048 } else { size });
    (bytes > 0 && (fits || size == 0)).then_some(bytes)
}

/// One byte value throughout, as far as samples show.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Blank {
    /// All zero.
    Zeroes,
    /// All FF, as erased flash reads.
    Ones,
}

/// Samples taken of a medium to call it blank.
const SAMPLES: u64 = 4096;

/// `Some` when the first and last 4 MiB and samples between hold nothing but one value.
pub fn blank(medium: &dyn Medium) -> Option<Blank> {
    let first = *medium.lenient(0, 1).bytes.first()?;
    if first != 0 && first != 0xFF || medium.is_empty() {
        return None;
    }
    if medium.data_from(0).is_none() {
        return Some(Blank::Zeroes);
    }
    let edge = medium.len().min(4 << 20);
    let same =
        |at: u64, length: u64| medium.lenient(at, length.size()).bytes.iter().all(|byte| *byte == first);
    let step = medium.len().per(SAMPLES).max(512);
    let whole = same(0, edge)
        && same(medium.len().minus(edge), edge)
        && (0..SAMPLES).all(|n| {
            let at = n.times(step);
            at >= medium.len() || same(at, medium.len().minus(at).min(512))
        });
    whole.then_some(if first == 0 { Blank::Zeroes } else { Blank::Ones })
}

/// Bits of information a byte in a sample of the medium, 0 to 8; encrypted and packed data come
/// close to 8.
pub fn entropy(medium: &dyn Medium) -> f64 {
    let sample = medium.lenient(0, medium.len().min(1 << 18).size()).bytes;
    let mut counts = [0_u32; 256];
    for byte in &sample {
        if let Some(count) = counts.get_mut(usize::from(*byte)) {
            *count = count.plus(1);
        }
    }
    let all = f64::from(sample.len().narrow().max(1));
    let used = counts.iter().filter(|count| **count > 0);
    used.map(|count| f64::from(*count) / all).map(|share| -share * share.log2()).sum()
}
