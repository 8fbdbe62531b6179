//! Where to look when nothing in a volume stops a host: first what the bytes say of hosts that do not show it, then what
//! is usual, in the order in which it is quickly tried.
//!
//! GPT attributes: UEFI 2.10, 5.3.3, Table 5.8 (bit 0), and what the vendor of the basic data type documents for its
//! bits 60, 62 and 63. What hosts do is documented or seen in practice; none of it was tried here.

use super::Diagnosed;
use crate::{
    arith::{Peek, Sat},
    family::{Kind, Survey, Wanted},
    files::{kinds, record::State},
    medium::{Medium, Window},
    partition::{
        Way, gpt,
        layout::{BASIC_DATA, MbrEntry},
        mbr,
    },
    progress::Watch,
    report::wording::counted,
};
use schemars::JsonSchema;
use serde::Serialize;
use std::ops::ControlFlow;

/// What a hint rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Ground {
    /// Bytes of the image.
    Bytes,
    /// That it often is so.
    Usual,
}

/// One thing to try outside the volume.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Hint {
    /// What it rests on.
    pub ground: Ground,
    /// What may be the reason, and what to do.
    pub what: String,
    /// How to tell that it was this.
    pub tell: String,
    /// Where the bytes stand, from the start of the image.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<u64>,
}

/// Files whose first bytes are looked at.
const LOOKED_AT: usize = 200;
/// How many must be strange before that is more than chance.
const STRANGE: usize = 3;
/// Folders that are named.
const NAMED: usize = 3;
/// A file of this name in a folder tells the galleries of phones to leave it out.
const NOT_FOR_GALLERIES: &str = ".nomedia";

const GIB: u64 = 1 << 30;

/// UEFI 2.10, 5.3.3: the GPT type of EFI system partitions (C12A7328-F81F-11D2-BA4B-00A0C93EC93B), as on the disk.
const EFI_SYSTEM: [u8; 16] =
    [0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11, 0xBA, 0x4B, 0x00, 0xA0, 0xC9, 0x3E, 0xC9, 0x3B];

fn bytes(at: u64, what: impl Into<String>, tell: impl Into<String>) -> Hint {
    Hint { ground: Ground::Bytes, what: what.into(), tell: tell.into(), at: Some(at) }
}

fn usual(what: impl Into<String>, tell: impl Into<String>) -> Hint {
    Hint { ground: Ground::Usual, what: what.into(), tell: tell.into(), at: None }
}

/// What to try, for a volume that every host should mount, read through a reader with sectors of `sector` bytes.
pub(super) fn hints(
    image: &dyn Medium,
    found: &Diagnosed,
    survey: &mut dyn Survey,
    sector: u32,
    watch: &dyn Watch,
) -> Vec<Hint> {
    let mut all = Vec::new();
    if found.target.place.as_ref().is_some_and(|place| place.way == Way::Listed) {
        of_table(image, found, &mut all);
    }
    of_sizes(image, found, sector, &mut all);
    of_files(image, found, survey, watch, &mut all);
    of_custom(image.len(), found.target.volume.kind(), &mut all);
    all
}

/// What the entry says that lists it.
fn of_table(image: &dyn Medium, found: &Diagnosed, all: &mut Vec<Hint>) {
    let offset = found.target.extent.offset;
    let (primary, backup) = gpt::copies(image);
    if let Some(copy) = primary.as_ref().or(backup.as_ref()) {
        let listed = copy.listed();
        if let Some(entry) = listed.iter().find(|entry| entry.extent.offset == offset) {
            of_gpt_entry(copy, entry, all);
        }
        if copy.sector != mbr::SECTOR {
            all.push(other_sectors(copy.at, copy.sector));
        }
        all.push(bytes(
            512,
            "The disk has a GPT. Hosts and devices that know only the older MBR (many recorders, televisions, cameras, hosts of before 2005) show one locked partition, or ask to format.",
            "a host of today shows the volume",
        ));
        let firsts = listed.iter().map(|entry| entry.extent.offset);
        behind_others(firsts.collect(), offset, copy.at, all);
        return;
    }
    let Some(entries) = mbr::entries(image, 0) else { return };
    let unit = mbr::unit(image, &entries);
    if unit != mbr::SECTOR {
        all.push(other_sectors(446, unit));
    }
    let begin = |entry: &MbrEntry| u64::from(entry.start.get()).times(unit);
    let used = || entries.iter().zip(0_u64..).filter(|(entry, _)| entry.kind != 0);
    let own = used().find(|(entry, _)| !mbr::is_extended(entry.kind) && begin(entry) == offset);
    match own {
        Some((entry, number)) if matches!(entry.kind, 0x27 | 0xEF) => all.push(bytes(
            446_u64.plus(number.times(16)).plus(4),
            format!(
                "Its partition has the type {:02X}, which stands for a host's own partition: many hosts give it no letter.",
                entry.kind
            ),
            "disk management shows the partition, without a letter; another host mounts it",
        )),
        None => all.push(bytes(
            446,
            "It is a logical volume in an extended partition: cameras, players and televisions look only at the four entries of sector 0.",
            "a computer shows it",
        )),
        Some(_) => {}
    }
    behind_others(used().map(|(entry, _)| begin(entry)).collect(), offset, 446, all);
}

fn other_sectors(at: u64, unit: u64) -> Hint {
    bytes(
        at,
        format!(
            "The partition table counts in sectors of {unit} bytes: through a reader or bridge with others hosts do not find the volume. Use one like that which it was written through."
        ),
        "through another reader hosts see one partition that covers everything, or none",
    )
}

/// Bits of the attributes, and the type.
fn of_gpt_entry(copy: &gpt::Copy, entry: &gpt::Listed, all: &mut Vec<Hint>) {
    let at = copy.entry_place(entry.number);
    let bit = |number: u32| entry.attributes >> number & 1 == 1;
    let shown = "disk management shows the partition, without a letter; Linux mounts it";
    let basic = entry.kind == BASIC_DATA;
    if basic && bit(63) {
        let what = "Bit 63 of its GPT attributes is set: Windows gives it no letter of its own accord. Give it one by hand, or clear the bit.";
        all.push(bytes(at.plus(48), what, shown));
    }
    if basic && bit(62) {
        let what = "Bit 62 of its GPT attributes is set: the partition is hidden from Windows.";
        all.push(bytes(at.plus(48), what, shown));
    }
    if basic && bit(60) {
        let what = "Bit 60 of its GPT attributes is set: Windows mounts it for reading only.";
        all.push(bytes(at.plus(48), what, "files open, and none can be saved"));
    }
    if bit(0) {
        let what = "Bit 0 of its GPT attributes is set: a partition that the computer itself needs. Windows gives it no letter.";
        all.push(bytes(at.plus(48), what, shown));
    }
    if !basic {
        let named = if entry.kind == EFI_SYSTEM { "an EFI system partition" } else { "another file system" };
        let what = format!("Its GPT type stands for {named}: Windows and macOS give it no letter or icon.");
        all.push(bytes(at, what, shown));
    }
}

/// Some hosts show the first of several only.
fn behind_others(mut begins: Vec<u64>, offset: u64, at: u64, all: &mut Vec<Hint>) {
    begins.sort_unstable();
    begins.dedup();
    if begins.len() > 1 && begins.first().is_some_and(|first| *first < offset) {
        all.push(bytes(
            at,
            "Another partition stands before it. Of a removable medium, cameras, players, televisions and Windows of before 2017 show the first partition only.",
            "only the first volume is shown; a computer of today shows both",
        ));
    }
}

/// Sectors and clusters that not every host takes.
fn of_sizes(image: &dyn Medium, found: &Diagnosed, sector: u32, all: &mut Vec<Hint>) {
    let begin = found.target.extent.offset;
    let boot = image.lenient(begin, 512).bytes;
    let kind = found.target.volume.kind();
    let shift = |exponent: u8| 1_u64.checked_shl(exponent.into()).unwrap_or(0);
    let (own, cluster) = match kind {
        Kind::Exfat => (shift(boot.byte(108)), shift(boot.byte(108).saturating_add(boot.byte(109)))),
        Kind::Ntfs if boot.byte(13) > 0x80 => {
            let own = u64::from(boot.le16(11));
            (own, own.times(shift(0_u8.wrapping_sub(boot.byte(13)))))
        }
        _ => (u64::from(boot.le16(11)), u64::from(boot.le16(11)).times(boot.byte(13).into())),
    };
    if own != u64::from(sector) {
        all.push(bytes(
            begin.plus(11),
            format!(
                "It was laid down for sectors of {own} bytes; a reader with sectors of {sector} is another kind. Use one like that of the device that formatted it, and see explain --sector {own}."
            ),
            "through the right reader the host mounts it at once",
        ));
    }
    let (most, who) = match kind {
        Kind::Fat12 | Kind::Fat16 | Kind::Fat32 => (32 << 10, "many devices, and hosts of before 2000"),
        Kind::Exfat => (32 << 20, "every host"),
        Kind::Ntfs => (64 << 10, "Windows of before 2017, and other systems"),
    };
    if cluster > most {
        all.push(bytes(
            begin.plus(13),
            format!("Its clusters have {} KiB: {who} take none above {} KiB.", cluster >> 10, most >> 10),
            "a host of today mounts it",
        ));
    }
}

/// Files that some hosts do not show, or that only one device can read.
fn of_files(
    image: &dyn Medium,
    found: &Diagnosed,
    survey: &mut dyn Survey,
    watch: &dyn Watch,
    all: &mut Vec<Hint>,
) {
    let window = Window::new(image, found.target.extent);
    let (mut skipped, mut looked, mut strange) = (Vec::new(), 0_usize, Vec::new());
    survey.each_file(&window, Wanted::default(), &mut |file| {
        if watch.stop() {
            return ControlFlow::Break(());
        }
        let path = file.path.to_string();
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
        if name.eq_ignore_ascii_case(NOT_FOR_GALLERIES) {
            let folder = if folder.is_empty() { "the root folder" } else { folder };
            skipped.push((folder.to_owned(), file.place));
        }
        if !file.folder && file.state == State::Intact && file.size > 512 && looked < LOOKED_AT {
            let start = file.content.extents().next();
            let medium: &dyn Medium = &window;
            let start = start.map(|extent| medium.lenient(extent.offset, kinds::ENOUGH).bytes);
            match start.and_then(|start| kinds::agrees(name, &start)) {
                Some(true) => looked = looked.plus(1),
                Some(false) => {
                    looked = looked.plus(1);
                    strange.push(file.place);
                }
                None => {}
            }
        }
        ControlFlow::Continue(())
    });
    let base = found.target.extent.offset;
    if let Some((_, place)) = skipped.first() {
        let names: Vec<&str> = skipped.iter().take(NAMED).map(|(folder, _)| folder.as_str()).collect();
        let more = skipped.len().minus(names.len());
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        all.push(bytes(
            base.plus(*place),
            format!(
                "A file {NOT_FOR_GALLERIES} lies in {}{more}: the galleries of phones leave out all pictures there and below.",
                names.join(", ")
            ),
            "a file manager shows the pictures, the gallery does not",
        ));
    }
    if strange.len() >= STRANGE && strange.len().times(4) > looked.times(3) {
        let many = counted(strange.len().wide(), "file", "files");
        all.push(bytes(
            base.plus(strange.first().copied().unwrap_or(0)),
            format!(
                "Of {looked} files that were looked at, {many} do not begin as their kind does: as where the device that wrote them keeps them encrypted. Put the medium into that device, and switch that off there."
            ),
            "they open in the device that wrote them, and nowhere else",
        ));
    }
}

/// What is usual.
fn of_custom(bytes: u64, kind: Kind, all: &mut Vec<Hint>) {
    all.push(usual(
        "Try another reader, at another port of the computer itself.",
        "it appears there at once",
    ));
    if bytes > 2 * GIB {
        let (size, since) = match bytes {
            bytes if bytes > 2048 * GIB => ("2 TiB", "count sectors in 32 bits"),
            bytes if bytes > 32 * GIB => ("32 GiB", "were made before 2010"),
            _ => ("2 GiB", "were made before 2007"),
        };
        all.push(usual(
            format!("Take a reader that knows media above {size}: those that {since} do not."),
            "the reader shows nothing, a wrong size, or the first part only",
        ));
    }
    all.push(usual(
        "Try another cable, short, without a hub.",
        "the host's log tells of resets or of lost devices",
    ));
    all.push(usual(
        "Look at the write-protect switch of the card or the adapter.",
        "it can be read, and nothing can be written",
    ));
    all.push(usual(
        "Look at the drive letter or the mount point: another device, or a network drive, may have it.",
        "disk management shows the volume, the file manager does not",
    ));
    all.push(usual(
        "Take away the original or its copy, where both are at one host: they have one serial number.",
        "the host shows only one of both, or calls a disk offline",
    ));
    let who = match kind {
        Kind::Fat12 | Kind::Fat16 | Kind::Fat32 => {
            "Look at the host's driver: every system has one for FAT, but it can be switched off."
        }
        Kind::Exfat => {
            "Look at the host's driver: systems of before 2009, Linux of before 5.4 and many devices have none for exFAT."
        }
        Kind::Ntfs => {
            "Look at the host's driver: cameras, televisions and players have none for NTFS, macOS has one for reading, Linux of before 5.15 another one."
        }
    };
    all.push(usual(who, "another host mounts it; this one asks to format it"));
    all.push(usual(
        "Ask whether encryption was set up on the device that wrote it, or whether a program watches over removable media.",
        "it is shown in that device, or at a host without such a program",
    ));
}
