//! One record of $MFT as the survey reads it: with what is wrong, and what stands in it all the same.
//!
//! Layout in `layout.rs`. A byte of an attribute's head that was struck is read as it must have been
//! ([`super::struck`]); of what was cut off as much is taken as the record can hold.

use super::{
    heads,
    layout::{
        Fixups, NAME_BOTH, NAME_HEAD, NAME_POSIX, STANDARD_LEAST, counts_fixups, kind, reference, unfix,
    },
    lists::Listed,
    record::{Attribute, Broken, Head, attributes, text},
    records::{Flaw, Marked, Name, Piece, Use},
    runs::{Run, decode_into},
    struck::{refitted, unstruck},
};
use crate::arith::{Peek, Sat};

/// What one record says.
pub(super) struct Parsed {
    pub(super) head: Head,
    /// A byte of it was struck, and is read as it must have been.
    pub(super) struck: bool,
    pub(super) usage: Use,
    pub(super) flaws: Vec<Flaw>,
    pub(super) standard: Option<(u64, u32, u32)>,
    pub(super) marks: Vec<Marked>,
    /// It has an attribute list.
    pub(super) listed: bool,
    /// The list, where it stands in the record.
    pub(super) list: Option<Vec<u8>>,
    /// All its attributes, where a list has them.
    pub(super) has: Vec<Listed>,
    /// How many of the names and pieces that are listed with it are its own.
    pub(super) names: usize,
    pub(super) pieces: usize,
}

/// Records one behind the other. What each has some of is in lists of all, in the order of the records.
#[derive(Default)]
pub(super) struct Several {
    /// By their numbers; those that were never written left out.
    pub(super) records: Vec<(u32, Parsed)>,
    pub(super) names: Vec<Name>,
    /// Pieces with their names; their runs are places in the list here.
    pub(super) pieces: Vec<(Piece, String)>,
    pub(super) runs: Vec<Run>,
    /// The record that is being read, its fixups off, and the ids of its attributes.
    record: Vec<u8>,
    ids: Vec<u16>,
}

fn blank(record: &[u8]) -> bool {
    let first = record.byte(0);
    matches!(first, 0 | 0xFF) && record.iter().all(|byte| *byte == first)
}

/// A record as it stands.
struct Read<'r> {
    number: u32,
    /// Fixups on, and off.
    bytes: &'r [u8],
    record: &'r [u8],
    list: &'r [Attribute<'r>],
    clusters: u64,
}

impl Read<'_> {
    /// The record as it must have been, where something of it was struck and the rest tells what.
    fn told(
        &self,
        fixups: &mut Fixups,
        broken: &mut Option<Broken>,
        flaws: &mut Vec<Flaw>,
    ) -> Option<Vec<u8>> {
        let Self { number, bytes, record, list, clusters } = *self;
        let unread = list.is_empty() && broken.is_some();
        match broken {
            _ if heads::lacks(number, fixups, heads::is_signed(record), unread) => {
                let told = heads::told(number, bytes)?;
                flaws.push(Flaw::Head(told.from, told.kept));
                (*fixups, *broken) = (Fixups::Whole, None);
                Some(told.record)
            }
            _ if *fixups != Fixups::Whole => None,
            Some(_) => unstruck(record, clusters).or_else(|| {
                // Where the first attribute was written over, the others can be read.
                let from = |told: &heads::Restored| usize::from(told.from) > Head::read(record).first;
                let told = unread.then(|| heads::told(number, bytes)).flatten();
                told.filter(|told| from(told) && told.kept).map(|told| told.record)
            }),
            None => refitted(record, list, clusters).map(|(at, told)| {
                *broken = Some(Broken::Struck(at));
                told
            }),
        }
    }
}

impl Several {
    /// Reads one record more, on a volume of `clusters`.
    pub(super) fn read(&mut self, number: u32, bytes: &[u8], cluster: u64, clusters: u64) {
        if blank(bytes) {
            return;
        }
        let mut record = std::mem::take(&mut self.record);
        record.clear();
        record.extend_from_slice(bytes);
        let (names, pieces) = (self.names.len(), self.pieces.len());
        let mut parsed = self.parse(number, bytes, &mut record, (cluster, clusters));
        self.record = record;
        // What is in one of these was written there by mistake.
        if super::layout::own::RESERVED.contains(&number) && !parsed.flaws.is_empty() {
            self.names.truncate(names);
            self.pieces.truncate(pieces);
        }
        parsed.names = self.names.len().minus(names);
        parsed.pieces = self.pieces.len().minus(pieces);
        self.records.push((number, parsed));
    }

    fn parse(
        &mut self,
        number: u32,
        bytes: &[u8],
        record: &mut [u8],
        (cluster, clusters): (u64, u64),
    ) -> Parsed {
        let names = self.names.len();
        let mut flaws = Vec::new();
        let mut fixups = unfix(record);
        let record = &*record;
        let (list, mut broken) = attributes(record);
        let read = Read { number, bytes, record, list: &list, clusters };
        let told = read.told(&mut fixups, &mut broken, &mut flaws);
        let struck = told.is_some();
        let (record, list) = match &told {
            Some(told) => (told.as_slice(), attributes(told).0),
            None => (record, list),
        };
        let head = Head::read(record);
        let signed = record.part(0, 4) == b"FILE";
        // Hosts write BAAD over the signature of what they met torn: that is a record too.
        let marked = heads::is_signed(record);
        let mut parsed = Parsed {
            head,
            struck,
            usage: Use::Noise,
            flaws: Vec::new(),
            standard: None,
            marks: Vec::new(),
            listed: false,
            list: None,
            has: Vec::new(),
            names: 0,
            pieces: 0,
        };
        let counts = counts_fixups(record);
        // Neither signature nor attributes, or no fixups: nothing says that this is a record.
        let none = list.is_empty() && broken.is_some();
        if fixups == Fixups::Bad && (!marked || none) || !marked && none {
            return parsed;
        }
        parsed.usage = match (head.in_use(), head.base) {
            (true, 0) => Use::File,
            (true, _) => Use::Extends,
            (false, _) => Use::Free,
        };
        // What is free is not judged: hosts leave it as it was.
        if !head.in_use() && (broken.is_some() || fixups != Fixups::Whole || !signed) {
            return parsed;
        }
        if !signed {
            let mut found = [0; 4];
            super::layout::put(&mut found, 0, record.part(0, 4));
            flaws.push(Flaw::Signature(found));
        }
        match fixups {
            Fixups::Torn(strides) => flaws.push(Flaw::Torn(strides)),
            Fixups::Bad => flaws.push(Flaw::Fixups),
            Fixups::Whole if !counts => flaws.push(Flaw::Fixups),
            Fixups::Whole => {}
        }
        flaws.extend(broken.map(Flaw::Broken));
        flaws.extend(head.number.filter(|own| *own != number).map(Flaw::Number));
        if broken.is_none() {
            let end = list.last().map_or(head.first, |last| last.at.plus(last.bytes.len())).plus(8);
            if end != head.used {
                flaws.push(Flaw::Used(end));
            }
        }
        self.ids.clear();
        self.ids.extend(list.iter().map(Attribute::id));
        self.ids.sort_unstable();
        let doubled = self.ids.windows(2).any(|pair| pair.first() == pair.last());
        if doubled || self.ids.last().is_some_and(|last| *last >= head.next_id) {
            flaws.push(Flaw::Ids);
        }
        for attribute in &list {
            self.take(number, attribute, (cluster, clusters), &mut parsed, &mut flaws);
        }
        if let Some(Broken::Length(at) | Broken::Value(at)) = broken {
            self.cut_off(number, record, at, &parsed);
        }
        if parsed.usage == Use::File && parsed.standard.is_none() && broken.is_none() {
            flaws.push(Flaw::NoStandard);
        }
        if broken.is_none() {
            flaws.extend(own_base(number, self.names.len() > names, &mut parsed));
        }
        // One without standard information may be one that extends another and does not say so.
        if parsed.listed || parsed.head.base != 0 || parsed.standard.is_none() {
            let own = reference(number, head.sequence);
            let has = list.iter().filter(|attribute| attribute.kind() != kind::LIST);
            parsed.has = has.map(|attribute| Listed::attribute(attribute, own)).collect();
        }
        // Files have content, folders an index of names.
        let has = |of: u32, name: &str| list.iter().any(|a| a.kind() == of && a.is_called(name));
        let (index, data) = (has(kind::INDEX_ROOT, "$I30"), has(kind::DATA, ""));
        let plain = parsed.usage == Use::File && broken.is_none() && !parsed.listed;
        if plain && number > super::layout::own::EXTEND && index != data && index != head.folder() {
            parsed.head.flags ^= super::layout::RECORD_FOLDER;
            flaws.push(Flaw::Folder);
        }
        parsed.flaws = flaws;
        parsed
    }

    fn take(
        &mut self,
        number: u32,
        attribute: &Attribute<'_>,
        (cluster, clusters): (u64, u64),
        parsed: &mut Parsed,
        flaws: &mut Vec<Flaw>,
    ) {
        let value = attribute.value();
        let of = attribute.kind();
        let at = u16::try_from(attribute.at).unwrap_or(u16::MAX);
        match of {
            kind::STANDARD if attribute.resident() && value.len() >= STANDARD_LEAST => {
                let security = if value.len() >= 72 { value.le32(52) } else { 0 };
                parsed.standard = Some((value.le64(8), value.le32(32), security));
            }
            kind::NAME if value.len() > NAME_HEAD => {
                // The value ends with the name.
                let long = u8::try_from(value.len().minus(NAME_HEAD).per(2)).unwrap_or(u8::MAX);
                let space = if value.byte(65) > NAME_BOTH { NAME_POSIX } else { value.byte(65) };
                let value_at = u16::try_from(attribute.value_at()).unwrap_or(u16::MAX);
                if (long, space) != (value.byte(64), value.byte(65)) {
                    flaws.push(Flaw::Name(value_at, long, space));
                }
                let units = value.part(NAME_HEAD, usize::from(long).times(2));
                self.names.push(Name {
                    file: number,
                    holder: number,
                    at: value_at,
                    space,
                    indexed: false,
                    parent: value.le64(0),
                    text: text(units).into_boxed_str(),
                });
            }
            kind::LIST => {
                parsed.listed = true;
                parsed.list = attribute.resident().then(|| value.to_vec());
            }
            kind::REPARSE if attribute.resident() => parsed.marks.push(Marked::Reparse(value.le32(0))),
            kind::OBJECT_ID if value.len() >= 16 => parsed.marks.push(Marked::Object(value.into())),
            _ => {}
        }
        let kept =
            !attribute.resident() || matches!(of, kind::DATA | kind::LIST | kind::INDEX_ROOT | kind::BITMAP);
        if !kept {
            return;
        }
        let mut piece = Piece {
            file: number,
            holder: number,
            kind: of,
            name: 0,
            at,
            flags: attribute.flags(),
            unit: 0,
            resident: attribute.resident(),
            bad: None,
            first_vcn: attribute.value_at().wide(),
            clusters: 0,
            runs: 0..0,
            allocated: value.len().wide(),
            size: value.len().wide(),
            valid: value.len().wide(),
        };
        if !attribute.resident() {
            piece.first_vcn = attribute.first_vcn();
            piece.clusters = attribute.clusters();
            let from = self.runs.len().narrow();
            let bad = decode_into(&mut self.runs, attribute.runs(), piece.clusters, clusters);
            piece.runs = from..self.runs.len().narrow();
            piece.bad = bad;
            piece.unit = attribute.unit();
            if let Some(bad) = bad {
                flaws.push(Flaw::Runs(of, attribute.at, bad));
            }
            if piece.first_vcn == 0 {
                (piece.allocated, piece.size, piece.valid) =
                    (attribute.allocated(), attribute.size(), attribute.valid());
            }
            let no_room = attribute.sums() && !attribute.has_room_for_sum();
            if no_room || !attribute.sizes_stand(cluster, clusters.times(cluster)) {
                flaws.push(Flaw::Sizes(of, attribute.at));
            }
        }
        self.pieces.push((piece, text(attribute.name())));
    }

    /// Content in the record whose attribute has another length than there is: as much as the record can hold of it.
    fn cut_off(&mut self, number: u32, record: &[u8], at: usize, parsed: &Parsed) {
        let attribute = Attribute { at, bytes: record.part(at, record.len().minus(at)) };
        let value = record.len().minus(attribute.value_at()).min(attribute.bytes.le32(16).size());
        let plain = attribute.kind() == kind::DATA && attribute.resident() && attribute.bytes.byte(9) == 0;
        if !plain || value == 0 || parsed.listed {
            return;
        }
        let size = value.wide();
        let piece = Piece {
            file: number,
            holder: number,
            kind: kind::DATA,
            name: 0,
            at: u16::try_from(at).unwrap_or(u16::MAX),
            flags: 0,
            unit: 0,
            resident: true,
            bad: None,
            first_vcn: attribute.value_at().wide(),
            clusters: 0,
            runs: 0..0,
            allocated: size,
            size,
            valid: size,
        };
        self.pieces.push((piece, String::new()));
    }
}

/// Standard information and a name stand in a file's own record, and so does all that it has without a list: that it extends
/// another is not so.
fn own_base(number: u32, named: bool, parsed: &mut Parsed) -> Option<Flaw> {
    let own = parsed.standard.is_some() && named && !parsed.listed;
    let base = parsed.head.base;
    if !own || base == 0 || number <= super::layout::own::EXTEND || parsed.usage != Use::Extends {
        return None;
    }
    parsed.head.base = 0;
    parsed.struck = true;
    parsed.usage = Use::File;
    Some(Flaw::Own(base))
}
