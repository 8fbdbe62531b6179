//! What the volume says of itself: its label, version and flags, its log, and whether a host sleeps on it.

use super::{
    layout::{kind, own},
    log::{self, Log},
    mft::Mft,
    names::{Capitals, TABLE},
    record::{Head, attributes, text},
    records::{Records, Use},
    runs::Mapping,
};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
};

/// `$Volume`.
#[derive(Debug, Clone, Default)]
pub struct About {
    /// The label.
    pub label: String,
    /// Major and minor version; `None` where the attribute is gone.
    pub version: Option<(u8, u8)>,
    /// Flags.
    pub flags: u16,
    /// Where the attribute's value stands in the record.
    pub info_at: usize,
}

/// Reads `$Volume`.
pub fn about(medium: &dyn Medium, mft: &Mft) -> About {
    let mut about = About::default();
    let record = mft.read(medium, own::VOLUME).unwrap_or_default();
    if !Head::read(&record).in_use() {
        return about;
    }
    for attribute in attributes(&record).0 {
        match attribute.kind() {
            kind::VOLUME_NAME => about.label = text(attribute.value()),
            kind::VOLUME_INFO if attribute.resident() && attribute.value().len() >= 12 => {
                let value = attribute.value();
                about.version = Some((value.byte(8), value.byte(9)));
                about.flags = value.le16(10);
                about.info_at = attribute.value_at();
            }
            _ => {}
        }
    }
    about
}

/// Reads the state of the log.
pub fn log(medium: &dyn Medium, mft: &Mft, records: &Records) -> Log {
    let Some(file) = records.live(own::LOG) else { return Log::Gone };
    let pieces = records.stream_of(file, kind::DATA, "");
    let Some(first) = pieces.first().filter(|piece| !piece.resident) else { return Log::Gone };
    let map = Mapping::of(&records.all_runs(pieces), mft.geometry.cluster());
    log::state(medium, &map, first.size.min(map.len())).0
}

/// What `$UpCase` holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UpCase {
    /// A table: that of some version of Windows.
    Whole,
    /// No table, or one with so many letters in it that are none; where the first of them is.
    Damaged(usize, usize),
    /// There is none.
    Gone,
}

/// Reads `$UpCase`; letters that are none have their usual capitals then.
pub fn upcase(medium: &dyn Medium, mft: &Mft, records: &Records) -> (Capitals, UpCase) {
    let usual = Capitals::usual();
    let Some(file) = records.live(own::UPCASE) else { return (usual.clone(), UpCase::Gone) };
    let pieces = records.stream_of(file, kind::DATA, "");
    let whole = pieces.first().is_some_and(|piece| !piece.resident && piece.size == TABLE.wide());
    let map = Mapping::of(&records.all_runs(pieces), mft.geometry.cluster());
    if !whole || map.len() < TABLE.wide() {
        return (usual.clone(), UpCase::Gone);
    }
    Capitals::told(&map.read(medium, 0, TABLE))
}

/// A host that hibernated, or was shut down for a fast start: its file says so.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asleep {
    /// No such file, or it was used up.
    No,
    /// It holds a sleeping host.
    Yes,
}

/// Looks at the hibernation file in the root folder.
pub fn asleep(medium: &dyn Medium, mft: &Mft, records: &Records) -> Asleep {
    let in_root = |name: &super::records::Name| {
        super::layout::number(name.parent) == u64::from(own::ROOT)
            && name.text.eq_ignore_ascii_case("hiberfil.sys")
    };
    let Some(name) = records.names.iter().find(|name| in_root(name)) else { return Asleep::No };
    if records.uses.get(name.file.size()) != Some(&Use::File) {
        return Asleep::No;
    }
    let Some(file) = records.live(name.file) else { return Asleep::No };
    let content = super::content::of(medium, mft, records, records.stream_of(file, kind::DATA, ""));
    let head = content.start(medium, 4).to_ascii_lowercase();
    if matches!(head.as_slice(), b"hibr" | b"rstr") { Asleep::Yes } else { Asleep::No }
}
