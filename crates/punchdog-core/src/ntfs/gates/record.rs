//! A record of $MFT, as the driver of Linux judges it.

use super::{EINVAL, EIO, ENOENT, ESTALE, Loaded, Mount};
use crate::{
    arith::{Peek, Sat},
    medium::Medium,
    ntfs::{
        index::root_fits,
        layout::{Fixups, NAME_HEAD, NAME_SHORT, RECORD_FOLDER, STANDARD_LEAST, kind, own, reference, unfix},
        list,
        names::of_key,
        record::{Attribute, Head, attributes, text},
        runs::{Mapping, Run, decode},
    },
};

/// Bytes of the longest list of attributes.
const LONGEST_LIST: u64 = 0x4_0000;

/// What the attributes of a record have shown so far.
#[derive(Default)]
struct Seen {
    standard: bool,
    names: u16,
    matching: bool,
    rooted: bool,
    parent: u64,
}

/// As a reference to $Extend has it, in the names of its files.
const EXTEND_SEQUENCE: u16 = 11;

/// True where $Bitmap has all of a run in use.
fn all_set(medium: &dyn Medium, used: &Mapping, first: u64, length: u64) -> bool {
    let mut at = first;
    let end = first.plus(length);
    while at < end {
        let byte = at.per(8);
        let many = end.minus(at).plus(at.rest(8)).per_up(8).min(1 << 16);
        let bytes = used.read(medium, byte, many.size());
        let stop = byte.plus(many).times(8).min(end);
        let set = |cluster: u64| bytes.byte(cluster.per(8).minus(byte).size()) >> cluster.rest(8) & 1 == 1;
        if bytes.iter().any(|byte| *byte != 0xFF) && !(at..stop).all(set) {
            return false;
        }
        at = stop;
    }
    true
}

impl Mount<'_> {
    /// Reads and judges a record as the driver does (section 3.2 of what was seen): its content or an error.
    pub(super) fn load(&mut self, number: u32, name: Option<&str>, replaying: bool) -> Result<Loaded, i32> {
        let expected = u16::try_from(number).unwrap_or(0).max(1);
        self.load_as(number, (!replaying).then_some(expected), name)
    }

    /// The same, of a record that is referred to with this sequence number; `None`: with any, and whether it is in use or not.
    pub(super) fn load_as(
        &mut self,
        number: u32,
        expected: Option<u16>,
        name: Option<&str>,
    ) -> Result<Loaded, i32> {
        let found = self.judge(number, expected, name);
        if found.is_err() && !std::mem::take(&mut self.quiet) {
            self.error();
        }
        found
    }

    pub(super) fn bytes_of(&self, number: u32) -> Result<Vec<u8>, i32> {
        let at = number.wide().times(self.record.wide());
        let whole = |places: &[(u64, crate::medium::Extent)]| {
            places.iter().fold(0_u64, |sum, (_, extent)| sum.plus(extent.length)) == self.record.wide()
                && places.iter().all(|(_, extent)| extent.end() <= self.medium.len())
        };
        if let Some(map) = &self.map {
            let places = map.places(at, self.record.wide());
            if !whole(&places) {
                return Err(if places.is_empty() { ENOENT } else { EIO });
            }
            return Ok(map.read(self.medium, at, self.record));
        }
        let place = self.mft.plus(at);
        if place.plus(self.record.wide()) > self.medium.len() {
            return Err(EIO);
        }
        Ok(self.medium.lenient(place, self.record).bytes)
    }

    /// The block in which a part of a record cannot be read.
    fn record_fails(&self, number: u32) -> Option<u64> {
        let (at, length) = (number.wide().times(self.record.wide()), self.record.wide());
        let block = self.cluster.clamp(512, super::PAGE);
        let places = match &self.map {
            Some(map) => map.places(at, length).into_iter().map(|(_, extent)| extent).collect(),
            None => vec![crate::medium::Extent::new(self.mft.plus(at), length)],
        };
        places.into_iter().find_map(|extent| self.fails(extent, block))
    }

    fn judge(&mut self, number: u32, expected: Option<u16>, name: Option<&str>) -> Result<Loaded, i32> {
        if let Some(at) = self.record_fails(number) {
            self.say(format!("failed to read volume at offset {at:#x}"));
            return Err(EIO);
        }
        let mut record = match self.bytes_of(number) {
            Ok(record) => record,
            Err(error) => {
                if error == EIO {
                    let at = self.mft.plus(number.wide().times(self.record.wide()));
                    self.say(format!("failed to read volume at offset {at:#x}"));
                }
                return Err(error);
            }
        };
        // Offset and count 0 are taken for "no fixups".
        let none = record.le16(4) == 0 && record.le16(6) == 0;
        if !none && unfix(&mut record) == Fixups::Bad {
            self.say("mft corrupted");
            return Err(EINVAL);
        }
        let head = Head::read(&record);
        if head.allocated != self.record {
            return Err(EINVAL);
        }
        if let Some(expected) = expected {
            if head.sequence != expected {
                self.say(format!(
                    "MFT: r={number:x}, expect seq={expected:x} instead of {:x}!",
                    head.sequence
                ));
                return Err(EINVAL);
            }
            if !head.in_use() {
                self.say(format!("Inode r={number:x} is not in use!"));
                return Err(ESTALE);
            }
        }
        if head.base != 0 {
            return Err(EINVAL);
        }
        self.attributes(number, &record, &head, name)
    }

    fn attributes(
        &mut self,
        number: u32,
        record: &[u8],
        head: &Head,
        name: Option<&str>,
    ) -> Result<Loaded, i32> {
        let (list, broken) = attributes(record);
        let list = if head.in_use() { list } else { Vec::new() };
        let mut out = Loaded { folder: head.flags & RECORD_FOLDER != 0, ..Loaded::default() };
        let mut seen = Seen::default();
        let mut extensions = Vec::new();
        for attribute in &list {
            // What stands in other records comes where the list names it; it stands in the order of types.
            if attribute.kind() == kind::LIST && number != own::LOG {
                extensions = self.listed(number, attribute)?;
            }
            self.take(number, attribute, name, &mut seen, &mut out)?;
        }
        if broken.is_some() && head.in_use() {
            self.say(format!("ino={number:x}, mi_enum_attr"));
            return Err(EINVAL);
        }
        for extension in extensions {
            let found = self.extension(number, extension, &out);
            if found.is_err() {
                self.say(format!("ino={number:x}, ni_load_mi_ex"));
            }
            let record = found?;
            for attribute in &attributes(&record).0 {
                self.take(number, attribute, name, &mut seen, &mut out)?;
            }
        }
        if !seen.standard {
            return Err(EINVAL);
        }
        if name.is_some() && !seen.matching {
            return Err(ENOENT);
        }
        if seen.names == 0 {
            return Err(EINVAL);
        }
        if seen.names != head.links {
            self.say(format!("ino={number:x}, Correct links count -> {}.", seen.names));
        }
        let extended = seen.parent == reference(own::EXTEND, EXTEND_SEQUENCE);
        if out.folder && !seen.rooted || !out.folder && !out.regular && !extended {
            return Err(EINVAL);
        }
        out.record = record.to_vec();
        Ok(out)
    }

    /// The records that a list names beside its own, each once, in its order.
    fn listed(&mut self, number: u32, list: &Attribute<'_>) -> Result<Vec<u32>, i32> {
        let bytes = if list.resident() {
            list.value().to_vec()
        } else {
            let runs = self.unpack(list)?;
            let length = list.size().min(LONGEST_LIST).size();
            Mapping::of(&runs, self.cluster).read(self.medium, 0, length)
        };
        let mut found = Vec::new();
        for entry in list::entries(&bytes) {
            let of = (entry.reference & u64::from(u32::MAX)).narrow();
            if of != number && !found.contains(&of) {
                found.push(of);
            }
        }
        Ok(found)
    }

    /// A record that extends another; those of $MFT itself stand in the part of it that its own record tells of.
    fn extension(&self, number: u32, extension: u32, base: &Loaded) -> Result<Vec<u8>, i32> {
        let mut record = if number == own::MFT && self.map.is_none() && !base.runs.is_empty() {
            let at = extension.wide().times(self.record.wide());
            Mapping::of(&base.runs, self.cluster).read(self.medium, at, self.record)
        } else {
            self.bytes_of(extension)?
        };
        let whole = unfix(&mut record) == Fixups::Whole;
        let head = Head::read(&record);
        let base: u32 = (head.base & u64::from(u32::MAX)).narrow();
        let own = base == number && head.base != 0;
        if whole && head.in_use() && own { Ok(record) } else { Err(EINVAL) }
    }

    fn take(
        &mut self,
        number: u32,
        attribute: &Attribute<'_>,
        name: Option<&str>,
        seen: &mut Seen,
        out: &mut Loaded,
    ) -> Result<(), i32> {
        if !self.sizes_fit(attribute) {
            self.say(format!("ino={number:x}, mi_enum_attr"));
            return Err(EINVAL);
        }
        let value = attribute.value();
        match attribute.kind() {
            kind::STANDARD => {
                if !attribute.resident() || value.len() < STANDARD_LEAST {
                    return Err(EINVAL);
                }
                seen.standard = true;
            }
            kind::NAME => {
                if !attribute.resident() || value.len() < NAME_HEAD {
                    return Err(EINVAL);
                }
                seen.names = seen.names.saturating_add(1);
                seen.parent = value.le64(0);
                // The name is compared where it stands, however long the value is said to be.
                let from = usize::from(attribute.bytes.le16(20));
                let held = attribute.bytes.part(from, attribute.bytes.len().minus(from));
                if value.byte(65) != NAME_SHORT && name.is_some_and(|name| text(of_key(held)) == name) {
                    seen.matching = true;
                }
            }
            // The log is read before there are any records but the first ones.
            kind::LIST if number == own::LOG => return Err(EINVAL),
            kind::DATA if !out.folder => self.data(number, attribute, out)?,
            kind::INDEX_ROOT if attribute.is_called("$I30") => {
                if !attribute.resident() || value.le32(0) != kind::NAME || value.le32(4) != 1 {
                    return Err(EINVAL);
                }
                if out.folder {
                    seen.rooted = true;
                    if !root_fits(value, self.cluster) {
                        self.quiet = true;
                        return Err(EINVAL);
                    }
                }
            }
            kind::INDEX_ROOT if !attribute.resident() => return Err(EINVAL),
            kind::INDEX_ALLOCATION if seen.rooted && attribute.is_called("$I30") => {
                self.unpack(attribute)?;
            }
            kind::BITMAP if number == own::MFT => {
                if attribute.resident() || attribute.allocated() >= 0x2000_0000 {
                    return Err(EINVAL);
                }
                let runs = self.unpack(attribute)?;
                out.bitmap.get_or_insert_default().extend(runs);
            }
            kind::BITMAP if out.folder && attribute.is_called("$I30") && !attribute.resident() => {
                self.unpack(attribute)?;
            }
            _ => {}
        }
        Ok(())
    }

    fn data(&mut self, number: u32, attribute: &Attribute<'_>, out: &mut Loaded) -> Result<(), i32> {
        let of_bad = number == own::BADCLUS && attribute.is_called("$Bad") && !attribute.resident();
        let of_secure = number == own::SECURE && attribute.is_called("$SDS") && !attribute.resident();
        if number == own::BADCLUS && attribute.resident()
            || !attribute.name().is_empty() && !of_bad && !of_secure
        {
            return Ok(());
        }
        out.regular = true;
        if attribute.resident() {
            out.size = attribute.value().len().wide();
            return Ok(());
        }
        // The first piece tells the sizes of all.
        if attribute.first_vcn() > 0 {
            let runs = self.unpack(attribute)?;
            out.runs.extend(runs);
            return Ok(());
        }
        out.size = attribute.size();
        out.valid = attribute.valid();
        if attribute.allocated() > 0 {
            out.runs = self.unpack(attribute)?;
        }
        Ok(())
    }

    /// The runs of an attribute; clusters that $Bitmap has as free are an error that is put right.
    fn unpack(&mut self, attribute: &Attribute<'_>) -> Result<Vec<Run>, i32> {
        if attribute.last_vcn().wrapping_add(1) == attribute.first_vcn() {
            // It has no clusters, whatever its run list says: that is not looked at.
            return Ok(Vec::new());
        }
        let (runs, bad) = decode(attribute.runs(), attribute.clusters(), self.clusters);
        if bad.is_some() {
            return Err(EINVAL);
        }
        let free = self.used.as_ref().is_some_and(|used| {
            runs.iter()
                .any(|run| run.first.is_some_and(|first| !all_set(self.medium, used, first, run.length)))
        });
        if free {
            self.error();
        }
        Ok(runs)
    }

    /// What the driver demands of the sizes of an attribute that is not resident. Its clusters are no more than the volume
    /// has, but for the first piece of one with holes, which may have as many as 32 bits count.
    fn sizes_fit(&self, attribute: &Attribute<'_>) -> bool {
        let after = attribute.last_vcn().wrapping_add(1);
        let most = if attribute.sums() { 1 << 32 } else { self.clusters };
        attribute.resident()
            || attribute.first_vcn() <= after
                && after <= most
                && attribute.sizes_stand(self.cluster, self.bytes)
    }
}
