//! One record of $MFT: its head, and its attributes as they can be read.
//!
//! Layout in `layout.rs`. What makes an attribute unreadable is what the driver of Linux 6.12 refuses
//! (`fs/ntfs3/record.c`, `mi_enum_attr`), and what leads outside the record.

use super::layout::{
    self, COMPRESSED, END_ALIGN, HEAD_OLD, OUTSIDE, RECORD_FOLDER, RECORD_IN_USE, RESIDENT, SPARSE, kind,
};
use crate::{
    arith::{Peek, Sat},
    files::utf16,
};

/// The head of a record.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Head {
    /// How often the record was given to a file.
    pub sequence: u16,
    /// Names that the file has.
    pub links: u16,
    /// Where the first attribute stands.
    pub first: usize,
    /// In use, folder, index of another kind.
    pub flags: u16,
    /// Bytes used.
    pub used: usize,
    /// Bytes of the record.
    pub allocated: usize,
    /// The reference to the base record, of a record that extends another.
    pub base: u64,
    /// The id that the next attribute gets.
    pub next_id: u16,
    /// Its own number, where the version has it.
    pub number: Option<u32>,
}

impl Head {
    /// The head of this record.
    pub fn read(record: &[u8]) -> Self {
        let number = (usize::from(record.le16(4)) >= layout::HEAD).then(|| record.le32(44));
        Self {
            sequence: record.le16(16),
            links: record.le16(18),
            first: usize::from(record.le16(20)),
            flags: record.le16(22),
            used: record.le32(24).size(),
            allocated: record.le32(28).size(),
            base: record.le64(32),
            next_id: record.le16(40),
            number,
        }
    }
    /// The record is a file's.
    pub fn in_use(&self) -> bool {
        self.flags & RECORD_IN_USE != 0
    }
    /// The file is a folder.
    pub fn folder(&self) -> bool {
        self.flags & RECORD_FOLDER != 0
    }
}

/// What keeps the attributes of a record from being read to the end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Broken {
    /// The head's own sizes do not go together.
    Head,
    /// An attribute of a type that there is not, or out of order, from this byte on.
    Type(usize),
    /// An attribute whose length cannot be, from this byte on.
    Length(usize),
    /// An attribute whose name or value lies outside it.
    Value(usize),
    /// There is no end mark.
    End,
    /// An attribute can be read, and is none that the file can have: a bit of its head was struck.
    Struck(usize),
}

impl Broken {
    /// Where in the record.
    pub fn at(self) -> usize {
        match self {
            Self::Head => 20,
            Self::Type(at) | Self::Length(at) | Self::Value(at) | Self::Struck(at) => at,
            Self::End => 24,
        }
    }
    /// What is so.
    pub fn words(self) -> &'static str {
        match self {
            Self::Head => "the sizes in its head do not go together",
            Self::Type(_) => "an attribute is of a type that there is not, or out of order",
            Self::Length(_) => "the length of an attribute cannot be",
            Self::Value(_) => "the name or value of an attribute lies outside it",
            Self::End => "the end mark of its attributes is missing",
            Self::Struck(_) => "an attribute is none that such a file has: a bit of its head was struck",
        }
    }
}

/// One attribute.
#[derive(Debug, Clone, Copy)]
pub struct Attribute<'r> {
    /// Bytes from the start of the record.
    pub at: usize,
    /// The attribute.
    pub bytes: &'r [u8],
}

impl<'r> Attribute<'r> {
    /// Its type.
    pub fn kind(&self) -> u32 {
        self.bytes.le32(0)
    }
    /// Its id within the record.
    pub fn id(&self) -> u16 {
        self.bytes.le16(14)
    }
    /// Compressed, encrypted, sparse.
    pub fn flags(&self) -> u16 {
        self.bytes.le16(12)
    }
    /// Its name in UTF-16, as bytes.
    pub fn name(&self) -> &'r [u8] {
        self.bytes.part(usize::from(self.bytes.le16(10)), usize::from(self.bytes.byte(9)).times(2))
    }
    /// True when it is called so.
    pub fn is_called(&self, name: &str) -> bool {
        let own = self.name();
        own.len() == name.len().times(2)
            && own.chunks_exact(2).zip(name.bytes()).all(|(unit, letter)| unit.le16(0) == u16::from(letter))
    }
    /// Its value stands in the record.
    pub fn resident(&self) -> bool {
        self.bytes.byte(8) == 0
    }
    /// Where in the record its value stands.
    pub fn value_at(&self) -> usize {
        self.at.plus(usize::from(self.bytes.le16(20)))
    }
    /// Its value, where it is resident.
    pub fn value(&self) -> &'r [u8] {
        if !self.resident() {
            return &[];
        }
        self.bytes.part(usize::from(self.bytes.le16(20)), self.bytes.le32(16).size())
    }
    /// First VCN.
    pub fn first_vcn(&self) -> u64 {
        self.bytes.le64(16)
    }
    /// Last VCN; one less than the first where it has no clusters.
    pub fn last_vcn(&self) -> u64 {
        self.bytes.le64(24)
    }
    /// Clusters that its runs should have.
    pub fn clusters(&self) -> u64 {
        self.last_vcn().wrapping_add(1).minus(self.first_vcn())
    }
    /// The run list.
    pub fn runs(&self) -> &'r [u8] {
        let at = usize::from(self.bytes.le16(32));
        self.bytes.part(at, self.bytes.len().minus(at))
    }
    /// Clusters of a compression unit, as a power of two; 0 for none.
    pub fn unit(&self) -> u8 {
        self.bytes.byte(34)
    }
    /// Bytes allocated.
    pub fn allocated(&self) -> u64 {
        self.bytes.le64(40)
    }
    /// Bytes of its content.
    pub fn size(&self) -> u64 {
        self.bytes.le64(48)
    }
    /// Bytes of its content that were written.
    pub fn valid(&self) -> u64 {
        self.bytes.le64(56)
    }
    /// True where its sizes are what hosts take, on a volume of `volume` bytes in clusters of `cluster`: none larger than the
    /// one before, the first whole clusters; the sum of a packed or holed one beside them, which others have no place
    /// for (Linux 6.12, `fs/ntfs3/record.c`, `mi_enum_attr`).
    pub fn sizes_stand(&self, cluster: u64, volume: u64) -> bool {
        if self.resident() {
            return true;
        }
        let (allocated, size, valid) = (self.allocated(), self.size(), self.valid());
        let whole = |bytes: u64| bytes.rest(cluster) == 0;
        valid <= size
            && size <= allocated
            && whole(allocated)
            && if self.sums() {
                self.bytes.len() >= 72 && whole(self.bytes.le64(64)) && self.bytes.le64(64) <= allocated
            } else {
                self.unit() == 0 && allocated <= volume
            }
    }
    /// True for one that has the sum of its clusters at 64: the first piece of what is packed or has holes.
    pub fn sums(&self) -> bool {
        !self.resident() && self.first_vcn() == 0 && self.flags() & (SPARSE | COMPRESSED) != 0
    }
    /// True where between its sizes and its runs there is room for that sum.
    pub fn has_room_for_sum(&self) -> bool {
        self.bytes.len() >= 72 && self.bytes.le16(32) >= 72
    }
}

/// The attributes of a record, whose fixups are off, and what ends them too early.
pub fn attributes(record: &[u8]) -> (Vec<Attribute<'_>>, Option<Broken>) {
    let head = Head::read(record);
    // Most have no more, and room is made once.
    let mut found = Vec::with_capacity(8);
    let used = head.used;
    let first = head.first;
    if used > record.len()
        || head.allocated != record.len()
        || first < HEAD_OLD
        || first.rest(8) != 0
        || first >= used
    {
        return (found, Some(Broken::Head));
    }
    let (mut at, mut before) = (first, 0_u32);
    loop {
        if at.plus(END_ALIGN) > used {
            return (found, Some(Broken::End));
        }
        let this = record.le32(at);
        if this == kind::END {
            return (found, None);
        }
        if this == 0 || this & 15 != 0 || this > 0x100 || this < before {
            return (found, Some(Broken::Type(at)));
        }
        let length = record.le32(at.plus(4)).size();
        if length.rest(8) != 0 || length < RESIDENT || at.plus(length) > used {
            return (found, Some(Broken::Length(at)));
        }
        let attribute = Attribute { at, bytes: record.part(at, length) };
        if !attribute.holds_together() {
            return (found, Some(Broken::Value(at)));
        }
        found.push(attribute);
        before = this;
        at = at.plus(length);
    }
}

impl Attribute<'_> {
    /// Name and value lie within it.
    pub(super) fn holds_together(&self) -> bool {
        let length = self.bytes.len();
        let name = usize::from(self.bytes.byte(9)).times(2);
        let name_end = usize::from(self.bytes.le16(10)).plus(name);
        match self.bytes.byte(8) {
            0 => {
                let value = usize::from(self.bytes.le16(20));
                let size = self.bytes.le32(16).size();
                value <= length
                    && (value >= RESIDENT || size == 0)
                    && size <= length.minus(value)
                    && (name == 0 || name_end <= value)
            }
            1 => {
                let runs = usize::from(self.bytes.le16(32));
                length >= OUTSIDE && (OUTSIDE..=length).contains(&runs) && (name == 0 || name_end <= runs)
            }
            _ => false,
        }
    }
}

/// A name as text; what is no UTF-16 becomes the replacement character.
pub fn text(units: &[u8]) -> String {
    utf16::text(units.chunks_exact(2).map(|unit| unit.le16(0)))
}
