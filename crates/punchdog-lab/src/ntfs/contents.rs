//! Files and what they hold: short and long, with holes, packed, spread over records, with streams and further names.

use super::{Filler, other};
use crate::{canvas::Canvas, fat::Placing};
use punchdog_core::ntfs::{
    build::{Outside, Record, outside, resident},
    layout::{COMPRESSED, SPARSE, kind, reference},
    list,
    runs::Run,
};
use sha2::{Digest, Sha256};
use std::io;

impl<C: Canvas> Filler<C> {
    /// Makes a file with this content: in its record where it is short.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn file(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()> {
        self.reserved(path, content, content.len() as u64, lie)
    }

    /// Makes a file of `size` bytes of which only `content` was written; the rest reads as zeros.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn reserved(&mut self, path: &str, content: &[u8], size: u64, lie: Placing) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let short = size <= self.geometry.record() as u64 / 2 && size == content.len() as u64;
        let runs = if short { Vec::new() } else { self.take(size.div_ceil(cluster), lie)? };
        let allocated = if short { size.div_ceil(8) * 8 } else { size.div_ceil(cluster) * cluster };
        let record = self.begin(path, (allocated, size))?;
        let record = if short {
            record.with(resident(kind::DATA, "", content))
        } else {
            self.put(&runs, content)?;
            let data = Outside { valid: content.len() as u64, ..Outside::plain(&runs, size, cluster) };
            record.with(outside(kind::DATA, "", data))
        };
        self.put_record(&record)?;
        self.note(path, record.number, false, size, hash(content, size), &runs);
        Ok(())
    }

    /// Makes a file of `size` bytes of which only `head` is written, not hashed: for volumes with holes.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn hollow_file(&mut self, path: &str, size: u64, head: &[u8]) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let runs = self.take(size.div_ceil(cluster), Placing::Row)?;
        let record = self.begin(path, (size.div_ceil(cluster) * cluster, size))?;
        self.put(&runs, head)?;
        let record = record.with(outside(kind::DATA, "", Outside::plain(&runs, size, cluster)));
        self.put_record(&record)?;
        self.note(path, record.number, false, size, String::new(), &[]);
        Ok(())
    }

    /// Makes a file with a hole of so many clusters between its first cluster and the rest.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    ///
    /// # Panics
    /// When the content has no more than a cluster.
    pub fn sparse(&mut self, path: &str, content: &[u8], hole: u64) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        // Holes are whole units of sixteen clusters.
        let hole = hole.div_ceil(16) * 16;
        let first = self.take(16, Placing::Row)?;
        let head = usize::try_from(16 * cluster).map_err(other)?;
        assert!(content.len() > head, "more than the first unit");
        let rest = self.take(
            (content.len() - head).div_ceil(usize::try_from(cluster).map_err(other)?) as u64,
            Placing::Row,
        )?;
        self.put(&first, &content[..head])?;
        self.put(&rest, &content[head..])?;
        let mut runs = [first.as_slice(), &[Run { first: None, length: hole }], &rest].concat();
        // The last unit is whole too.
        let there: u64 = rest.iter().map(|run| run.length).sum();
        if !there.is_multiple_of(16) {
            runs.push(Run { first: None, length: 16 - there % 16 });
        }
        let size = content.len() as u64 + hole * cluster;
        let record = self.begin(path, (size.div_ceil(cluster) * cluster, size))?;
        let data = Outside { flags: SPARSE, unit: 4, ..Outside::plain(&runs, size, cluster) };
        let record = record.with(outside(kind::DATA, "", data));
        self.put_record(&record)?;
        let zeros = vec![0; usize::try_from(hole * cluster).map_err(other)?];
        let sum = hash(&[&content[..head], &zeros, &content[head..]].concat(), size);
        self.note(path, record.number, false, size, sum, &runs);
        Ok(())
    }

    /// Makes a packed file, unit by unit of sixteen clusters; what does not become shorter is kept as it is.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn packed(&mut self, path: &str, content: &[u8]) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let unit = usize::try_from(16 * cluster).map_err(other)?;
        let mut runs: Vec<Run> = Vec::new();
        for piece in content.chunks(unit) {
            let short = pack(piece);
            let need = (short.len() as u64).div_ceil(cluster);
            let whole = need >= 16;
            let bytes = if whole { piece.to_vec() } else { short };
            let count = if whole { (bytes.len() as u64).div_ceil(cluster) } else { need };
            let taken = self.take(count, Placing::Row)?;
            self.put(&taken, &bytes)?;
            runs.extend(taken);
            if count < 16 {
                runs.push(Run { first: None, length: 16 - count });
            }
        }
        let size = content.len() as u64;
        let record = self.begin(path, (size.div_ceil(cluster) * cluster, size))?;
        let data = Outside { flags: 1, unit: 4, ..Outside::plain(&runs, size, cluster) };
        debug_assert!(data.flags & COMPRESSED != 0);
        let record = record.with(outside(kind::DATA, "", data));
        self.put_record(&record)?;
        self.note(path, record.number, false, size, hash(content, size), &runs);
        Ok(())
    }

    /// Makes a file whose content is told by two records, and a list that says so.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    ///
    /// # Panics
    /// When the content has fewer than two clusters.
    pub fn spread(&mut self, path: &str, content: &[u8], lie: Placing) -> io::Result<()> {
        self.spread_over(path, content, lie, 2, false)
    }

    /// The same over so many records, the list in a cluster of its own or not.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    ///
    /// # Panics
    /// When the content has fewer pieces than that.
    pub fn spread_over(
        &mut self,
        path: &str,
        content: &[u8],
        lie: Placing,
        records: usize,
        outside_list: bool,
    ) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let size = content.len() as u64;
        let allocated = size.div_ceil(cluster) * cluster;
        let runs = self.take(size.div_ceil(cluster), lie)?;
        self.put(&runs, content)?;
        assert!(runs.len() >= records, "a piece for each record at least");
        let each = runs.len() / records;
        let record = self.begin(path, (allocated, size))?;
        let base = reference(record.number, 1);
        let entry = |kind: u32, first_vcn: u64, reference: u64, id: usize| list::Entry {
            kind,
            name: &[],
            first_vcn,
            reference,
            id: u16::try_from(id).expect("few attributes"),
            at: 0,
        };
        let mut entries = Vec::new();
        for (id, attribute) in record.attributes.iter().enumerate() {
            let of = u32::from_le_bytes([attribute[0], attribute[1], attribute[2], attribute[3]]);
            // The list itself comes behind the standard information.
            entries.push(entry(of, 0, base, id + usize::from(of != kind::STANDARD)));
        }
        let (mut vcn, mut first) = (0, Vec::new());
        for number in 0..records {
            let end = if number + 1 == records { runs.len() } else { (number + 1) * each };
            let own = &runs[number * each..end];
            let data = Outside { first_vcn: vcn, ..Outside::plain(own, size, cluster) };
            let mut bytes = outside(kind::DATA, "", data);
            if number == 0 {
                // The first piece tells the sizes of all.
                bytes[40..48].copy_from_slice(&allocated.to_le_bytes());
                entries.push(entry(kind::DATA, 0, base, record.attributes.len() + 1));
                first = bytes;
            } else {
                bytes[40..64].fill(0);
                let extension = self.number()?;
                entries.push(entry(kind::DATA, vcn, reference(extension, 1), 0));
                self.put_record(&Record { base, ..Record::new(extension, 1, 0) }.with(bytes))?;
            }
            vcn += own.iter().map(|run| run.length).sum::<u64>();
        }
        let list = list::bytes(&entries);
        let listed = if outside_list {
            let runs = self.take((list.len() as u64).div_ceil(cluster), Placing::Row)?;
            self.put(&runs, &list)?;
            outside(kind::LIST, "", Outside::plain(&runs, list.len() as u64, cluster))
        } else {
            resident(kind::LIST, "", &list)
        };
        let record = record.with(listed).with(first);
        self.put_record(&record)?;
        self.note(path, record.number, false, size, hash(content, size), &runs);
        Ok(())
    }

    /// Makes a file with a stream beside its content.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn with_stream(&mut self, path: &str, content: &[u8], stream: &str, beside: &[u8]) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let runs = self.take((content.len() as u64).div_ceil(cluster), Placing::Row)?;
        self.put(&runs, content)?;
        let size = content.len() as u64;
        let record = self.begin(path, (size.div_ceil(cluster) * cluster, size))?;
        let record = record
            .with(outside(kind::DATA, "", Outside::plain(&runs, size, cluster)))
            .with(resident(kind::DATA, stream, beside));
        self.put_record(&record)?;
        self.note(path, record.number, false, size, hash(content, size), &runs);
        let sum = hash(beside, beside.len() as u64);
        self.note(&format!("{path}:{stream}"), record.number, false, beside.len() as u64, sum, &[]);
        Ok(())
    }

    /// Makes a file of `size` bytes whose content its host keeps elsewhere: a reparse point of this tag, zeros that stand
    /// nowhere, and where there is one a stream beside.
    ///
    /// # Errors
    /// When the canvas fails.
    pub fn elsewhere(
        &mut self,
        path: &str,
        size: u64,
        tag: u32,
        stream: Option<(&str, &[u8])>,
    ) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let hole = [Run { first: None, length: size.div_ceil(cluster * 16) * 16 }];
        let record = self.begin(path, (0, size))?;
        let data = Outside { flags: SPARSE, unit: 4, ..Outside::plain(&hole, size, cluster) };
        let mut reparse = vec![0; 16];
        reparse[..4].copy_from_slice(&tag.to_le_bytes());
        reparse[4] = 8;
        let mut record =
            record.with(outside(kind::DATA, "", data)).with(resident(kind::REPARSE, "", &reparse));
        if let Some((name, bytes)) = stream {
            record = record.with(resident(kind::DATA, name, bytes));
        }
        self.put_record(&record)?;
        self.note(path, record.number, false, size, String::new(), &[]);
        Ok(())
    }

    /// Makes a file of two names.
    ///
    /// # Errors
    /// When the volume is full, or the canvas fails.
    pub fn linked(&mut self, path: &str, also: &str, content: &[u8]) -> io::Result<()> {
        let cluster = self.geometry.cluster();
        let runs = self.take((content.len() as u64).div_ceil(cluster), Placing::Row)?;
        self.put(&runs, content)?;
        let size = content.len() as u64;
        let sizes = (size.div_ceil(cluster) * cluster, size);
        let mut record = self.begin(path, sizes)?;
        let times = self.times();
        for key in self.name(also, record.number, sizes, false, times) {
            record = record.with(resident(kind::NAME, "", &key));
        }
        let record = record.with(outside(kind::DATA, "", Outside::plain(&runs, size, cluster)));
        self.put_record(&record)?;
        for path in [path, also] {
            self.note(path, record.number, false, size, hash(content, size), &runs);
        }
        Ok(())
    }
}

fn hash(content: &[u8], size: u64) -> String {
    let mut hash = Sha256::new();
    hash.update(content);
    let mut left = size - content.len() as u64;
    while left > 0 {
        let part = left.min(1 << 16);
        hash.update(vec![0_u8; usize::try_from(part).expect("a short piece")]);
        left -= part;
    }
    hex::encode(hash.finalize())
}

/// Packs a unit: LZNT1 with whatever repeats at a short distance.
fn pack(unit: &[u8]) -> Vec<u8> {
    let mut all = Vec::new();
    for chunk in unit.chunks(4096) {
        let mut body: Vec<u8> = Vec::new();
        let mut at = 0_usize;
        while at < chunk.len() {
            let flags_at = body.len();
            body.push(0);
            for bit in 0..8 {
                if at >= chunk.len() {
                    break;
                }
                let mut long = 12_u32;
                let mut reach = 16_usize;
                while reach < at {
                    reach *= 2;
                    long -= 1;
                }
                let most = ((1_usize << long) + 2).min(chunk.len() - at);
                // The farthest of the longest repeats. This is most of what making a volume takes: no iterators, which
                // stay calls in a test build.
                let (mut length, mut from) = (0, 0);
                let mut back = 1;
                let reach = at.min(reach).min(512);
                while back <= reach {
                    let mut n = 0;
                    let same = |n: usize| chunk[at + n] == chunk[at + n - back];
                    if length == 0 || same(length - 1) {
                        while n < most && same(n) {
                            n += 1;
                        }
                    }
                    if n >= length {
                        (length, from) = (n, back);
                    }
                    back += 1;
                }
                let best = (length >= 3).then_some((length, from));
                if let Some((length, back)) = best {
                    let item = u16::try_from((back - 1) << long | (length - 3)).expect("it has its bits");
                    body[flags_at] |= 1 << bit;
                    body.extend(item.to_le_bytes());
                    at += length;
                } else {
                    body.push(chunk[at]);
                    at += 1;
                }
            }
        }
        let (head, body) = if body.len() >= chunk.len() {
            (0x3000 | u16::try_from(chunk.len() - 1).expect("a chunk"), chunk.to_vec())
        } else {
            (0xB000 | u16::try_from(body.len() - 1).expect("a chunk"), body)
        };
        all.extend(head.to_le_bytes());
        all.extend(body);
    }
    all
}
