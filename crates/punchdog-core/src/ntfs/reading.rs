//! Reading all records of $MFT: both cores read and take apart some while those before are put into the lists of all.

use super::{
    mft::Mft,
    parse::{Parsed, Several},
    records::{File, Flaw, Mark, Name, Notes, Piece, Records, Use, span},
    runs::Run,
};
use crate::{
    arith::Sat,
    medium::{Medium, MediumError},
    progress::Watch,
};
use rayon::prelude::*;
use std::ops::Range;

/// Bytes of records that are asked for at once, and those that a core reads and takes apart.
const LONG: usize = 4 << 20;
const PIECE: usize = 1 << 20;
/// Names of streams that are told apart.
const STREAMS: usize = 1 << 20;

/// What stands in these records. Both cores read and take apart a piece each, in the order of the table.
fn several(medium: &dyn Medium, mft: &Mft, records: Range<u32>) -> Vec<Several> {
    let many = records.end.minus(records.start);
    if many == 0 || mft.is_hole(medium, records.start, many) {
        return Vec::new();
    }
    let size = mft.geometry.record();
    let (cluster, clusters) = (mft.geometry.cluster(), mft.geometry.clusters());
    for (_, extent) in mft.map.places(records.end.wide().times(size.wide()), LONG.wide()) {
        if medium.data_from(extent.offset).is_some_and(|data| data.offset < extent.end()) {
            medium.soon(extent);
        }
    }
    let step = PIECE.per(size).max(1);
    let pieces: Vec<u32> = records.clone().step_by(step).collect();
    let read = pieces.into_par_iter().map_init(Vec::new, |buffer, first| {
        let end = first.plus(step.narrow()).min(records.end);
        buffer.resize(size.times(end.minus(first).size()), 0);
        mft.map.read_into(medium, first.wide().times(size.wide()), buffer);
        let mut several = Several::default();
        for (number, record) in (first..).zip(buffer.chunks_exact(size)) {
            several.read(number, record, cluster, clusters);
        }
        several
    });
    read.collect()
}

impl Records {
    /// Reads all records of `mft`.
    pub fn read(medium: &dyn Medium, mft: &Mft, watch: &dyn Watch) -> Result<Self, MediumError> {
        let size = mft.geometry.record();
        let cluster = mft.geometry.cluster();
        let mut all = Self { streams: vec!["".into()], ..Self::default() };
        let count = mft.records();
        all.uses = vec![Use::Blank; count.size()];
        all.sequences = vec![0; count.size()];
        let step = LONG.per(size).narrow();
        let mut next = 0_u32;
        let mut before = Vec::new();
        while next < count || !before.is_empty() {
            if watch.stop() {
                return Err(MediumError::Stopped);
            }
            watch.at("reading records", next.wide(), count.wide());
            let many = step.min(count.minus(next));
            // What was read before is taken in meanwhile.
            let read = || several(medium, mft, next..next.plus(many));
            let (several, ()) = rayon::join(read, || all.add_all(before));
            before = several;
            next = next.plus(many);
        }
        all.read_lists(medium, cluster);
        all.settle(cluster);
        Ok(all)
    }

    fn stream(&mut self, name: &str) -> u32 {
        if name.is_empty() {
            return 0;
        }
        if let Some(known) = self.by_name.get(name) {
            return *known;
        }
        if self.streams.len() >= STREAMS {
            return 0;
        }
        let number = self.streams.len().narrow();
        self.streams.push(name.into());
        self.by_name.insert(name.into(), number);
        number
    }

    fn add_all(&mut self, all: Vec<Several>) {
        for several in all {
            let (mut names, mut pieces) = (several.names.into_iter(), several.pieces.into_iter());
            for (number, parsed) in several.records {
                let names = names.by_ref().take(parsed.names);
                let pieces = pieces.by_ref().take(parsed.pieces);
                self.add(number, parsed, names, (pieces, &several.runs));
            }
        }
    }

    fn add(
        &mut self,
        number: u32,
        parsed: Parsed,
        names: impl Iterator<Item = Name>,
        (pieces, runs): (impl Iterator<Item = (Piece, String)>, &[Run]),
    ) {
        if let Some(usage) = self.uses.get_mut(number.size()) {
            *usage = parsed.usage;
        }
        if let Some(sequence) = self.sequences.get_mut(number.size()) {
            *sequence = parsed.head.sequence;
        }
        if parsed.usage == Use::Noise {
            return;
        }
        let doubtful = |flaw: &Flaw| match flaw {
            Flaw::Torn(_) | Flaw::Fixups | Flaw::Sizes(..) => true,
            Flaw::Broken(_) => !parsed.struck,
            _ => false,
        };
        let doubt = parsed.flaws.iter().any(doubtful);
        let mut file = number;
        if parsed.head.base != 0 {
            self.extending.push((number, parsed.head.base));
            file = u32::try_from(super::layout::number(parsed.head.base)).unwrap_or(u32::MAX);
            if parsed.struck {
                self.struck.push(file);
            }
        } else {
            let mut notes = Notes::empty();
            notes.set(Notes::FOLDER, parsed.head.folder());
            notes.set(Notes::VIEW, parsed.head.flags & super::layout::RECORD_VIEW != 0);
            notes.set(Notes::DELETED, parsed.usage == Use::Free);
            notes.set(Notes::DOUBT, doubt);
            notes.set(Notes::STRUCK, parsed.struck);
            notes.set(Notes::LISTED, parsed.listed);
            let (modified, attributes, security) = parsed.standard.unwrap_or_default();
            self.files.push(File {
                number,
                sequence: parsed.head.sequence,
                notes,
                links: parsed.head.links,
                modified,
                attributes,
                security,
                reparse: 0,
                names: 0..0,
                pieces: 0..0,
            });
        }
        if !parsed.has.is_empty() {
            self.lists.add(number, parsed.has, parsed.list.as_deref());
        }
        if parsed.usage != Use::Free {
            self.flaws.extend(parsed.flaws.into_iter().map(|flaw| (number, flaw)));
        }
        self.names.extend(names.map(|name| Name { file, ..name }));
        self.marks.extend(parsed.marks.into_iter().map(|what| Mark { file, holder: number, what }));
        for (mut piece, name) in pieces {
            piece.file = file;
            piece.name = self.stream(&name);
            let from = self.runs.len().narrow();
            self.runs.extend_from_slice(runs.get(span(&piece.runs)).unwrap_or(&[]));
            piece.runs = from..self.runs.len().narrow();
            self.pieces.push(piece);
        }
    }
}
