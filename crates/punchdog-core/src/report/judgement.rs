//! A structure field by field: as it stands, in its second copy, as computed, as believed.
//!
//! One table of judgements serves check (what is wrong), `fields` (all of it side by side) and
//! mend (the bytes to write), so that the three cannot disagree.

use crate::{
    arith::{Peek, Sat},
    report::{fields::FieldRow, finding::Entry},
};

/// How a value is written for people.
#[derive(Debug, Clone, Copy)]
pub enum Show {
    /// A number in decimal.
    Number,
    /// A number in hexadecimal.
    Hex,
    /// Letters.
    Text,
    /// The bytes.
    Bytes,
}

/// One field with everything known of it.
#[derive(Debug, Clone)]
pub struct Judgement {
    /// Bytes from the start of the sector.
    pub at: usize,
    /// Bytes long.
    pub length: usize,
    /// The specification's name.
    pub field: &'static str,
    /// In plain words.
    pub title: &'static str,
    /// How its value is written.
    pub show: Show,
    /// The bytes as they stand; `None` when the sector cannot be read.
    pub primary: Option<Vec<u8>>,
    /// The bytes in the backup.
    pub backup: Option<Vec<u8>>,
    /// The bytes computed from the rest of the volume.
    pub computed: Option<Vec<u8>>,
    /// The bytes that are believed.
    pub believed: Vec<u8>,
    /// Why they are.
    pub why: String,
    /// The class of fault if it is wrong; `None` when any value goes.
    pub entry: Option<&'static Entry>,
}

impl Judgement {
    /// True when the value as it stands is not the believed one.
    pub fn wrong(&self) -> bool {
        self.primary.as_deref().is_none_or(|bytes| bytes != self.believed)
    }
    /// A value of this field for people.
    pub fn text(&self, bytes: &[u8]) -> String {
        let number = || bytes.iter().rev().fold(0_u64, |sum, byte| sum << 8_u32 | u64::from(*byte));
        match self.show {
            Show::Number => number().to_string(),
            Show::Hex => format!("{:#0width$x}", number(), width = self.length.times(2).plus(2)),
            Show::Text => format!("\"{}\"", String::from_utf8_lossy(bytes).trim_end().escape_debug()),
            Show::Bytes => {
                let words: Vec<String> = bytes.iter().map(|byte| format!("{byte:02X}")).collect();
                words.join(" ")
            }
        }
    }
}

/// The judgements of one sector in the making.
pub struct Table<'a> {
    /// The sector as it stands.
    pub primary: Option<&'a [u8]>,
    /// Its second copy.
    pub backup: Option<&'a [u8]>,
    /// Nothing of the sector as it stands is worth keeping.
    pub gone: bool,
    /// The second copy is of another format than the volume: it is shown, and not believed.
    pub stale: bool,
    /// The judgements so far.
    pub fields: Vec<Judgement>,
}

impl Table<'_> {
    /// A field whose value follows from the geometry or another structure.
    pub fn computed(
        &mut self,
        place: (usize, usize),
        names: (&'static str, &'static str),
        show: Show,
        value: &[u8],
        why: &str,
        entry: &'static Entry,
    ) {
        self.push(place, names, show, Some(value.to_vec()), value.to_vec(), why.to_owned(), Some(entry));
    }

    /// A field that nothing else tells: as it stands unless `usable` says no, then the backup,
    /// then a customary value.
    pub fn kept(
        &mut self,
        (at, length): (usize, usize),
        names: (&'static str, &'static str),
        show: Show,
        usable: impl Fn(&[u8]) -> bool,
        customary: &[u8],
        entry: Option<&'static Entry>,
    ) {
        let primary = self.primary.map(|sector| sector.part(at, length).to_vec());
        let backup = self.backup.map(|sector| sector.part(at, length).to_vec());
        let (believed, why) = match (
            primary.filter(|v| !self.gone && usable(v)),
            backup.filter(|v| !self.stale && usable(v)),
        ) {
            (Some(value), _) => (value, "as it stands".to_owned()),
            (None, Some(value)) => (value, "from the backup".to_owned()),
            (None, None) => (customary.to_vec(), "the usual value".to_owned()),
        };
        self.push((at, length), names, show, None, believed, why, entry);
    }

    #[expect(clippy::too_many_arguments, reason = "one row of a table; its two callers name what they pass")]
    fn push(
        &mut self,
        (at, length): (usize, usize),
        (field, title): (&'static str, &'static str),
        show: Show,
        computed: Option<Vec<u8>>,
        believed: Vec<u8>,
        why: String,
        entry: Option<&'static Entry>,
    ) {
        self.fields.push(Judgement {
            at,
            length,
            field,
            title,
            show,
            primary: self.primary.map(|sector| sector.part(at, length).to_vec()),
            backup: self.backup.map(|sector| sector.part(at, length).to_vec()),
            computed,
            believed,
            why,
            entry,
        });
    }
}

/// A row of `fields` from a judgement.
pub fn row(judgement: &Judgement) -> FieldRow {
    let text = |bytes: &Option<Vec<u8>>| bytes.as_ref().map(|bytes| judgement.text(bytes));
    FieldRow {
        at: judgement.at.wide(),
        bytes: judgement.length.wide(),
        field: judgement.field,
        title: judgement.title,
        primary: text(&judgement.primary),
        backup: text(&judgement.backup),
        computed: text(&judgement.computed),
        believed: judgement.text(&judgement.believed),
        why: judgement.why.clone(),
        wrong: judgement.wrong(),
    }
}
