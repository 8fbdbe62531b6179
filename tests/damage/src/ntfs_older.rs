//! Volumes as older versions of NTFS have them: 3.0, and 1.2.
//!
//! ```text
//! head of a record, 3.1: fixups at 48, behind the record's own number (44)       1.2 and 3.0: fixups at 42, no number
//! $STANDARD_INFORMATION, 3.0 and 3.1: 72 bytes, with a security id               1.2: 48 bytes
//! ```
//!
//! What came with version 3 ($Secure, $Extend) is left where it is: hosts do not look for it below that version.

use crate::ntfs_faults::Patient;
use punchdog_core::ntfs::layout::{HEAD_OLD, fix, kind, own, unfix};

/// Bytes of standard information in version 1.2.
const SHORT: usize = 48;
/// Where the value of a resident attribute without a name begins.
const VALUE: usize = 24;

fn half(bytes: &[u8], at: usize) -> usize {
    usize::from(u16::from_le_bytes([bytes[at], bytes[at + 1]]))
}

fn small(value: usize) -> [u8; 2] {
    u16::try_from(value).expect("within a record").to_le_bytes()
}

fn word(bytes: &[u8], at: usize) -> usize {
    half(bytes, at) | half(bytes, at + 2) << 16
}

/// Gives all records of a volume the shape that they have in this version.
///
/// # Panics
/// Where the volume is none of the lab's.
#[must_use]
pub fn older(mut patient: Patient, version: (u8, u8)) -> Patient {
    let record = patient.geometry.record();
    let clusters: u64 = patient.runs(own::MFT, kind::DATA, "").iter().map(|run| run.length).sum();
    let count = u32::try_from(patient.geometry.place(clusters) / record as u64).expect("a small volume");
    let places = (0..count).map(|number| patient.record_place(number));
    let copies = (0..4).map(|number| patient.copy_place(number));
    for place in places.chain(copies).collect::<Vec<_>>() {
        let bytes = patient.read(place, record);
        if bytes.starts_with(b"FILE") {
            patient.write(place, &of_version(bytes, version));
        }
    }
    patient.damaged.clear();
    patient
}

fn of_version(mut old: Vec<u8>, version: (u8, u8)) -> Vec<u8> {
    unfix(&mut old);
    let (array, first, used) = (half(&old, 6) * 2, half(&old, 20), word(&old, 24));
    let number = old[half(&old, 4)..][..2].to_vec();
    let from = (HEAD_OLD + array).next_multiple_of(8);
    let mut new = old[..HEAD_OLD].to_vec();
    new.extend(number);
    new.resize(from, 0);
    let mut at = first;
    while at + 8 <= used && word(&old, at) != 0xFFFF_FFFF {
        let length = word(&old, at + 4);
        let mut attribute = old[at..at + length].to_vec();
        match u32::try_from(word(&attribute, 0)) {
            Ok(kind::STANDARD) if version < (3, 0) => {
                attribute.truncate(VALUE + SHORT);
                attribute[4] = u8::try_from(attribute.len()).expect("short");
                attribute[16] = 48;
            }
            Ok(kind::VOLUME_INFO) => {
                attribute[VALUE + 8..VALUE + 10].copy_from_slice(&[version.0, version.1]);
            }
            _ => {}
        }
        new.extend(attribute);
        at += length;
    }
    new.extend(&old[at..used]);
    let end = u32::try_from(new.len()).expect("a record").to_le_bytes();
    new[24..28].copy_from_slice(&end);
    new[4..6].copy_from_slice(&small(HEAD_OLD));
    new[20..22].copy_from_slice(&small(from));
    new.resize(old.len(), 0);
    fix(&mut new);
    new
}
