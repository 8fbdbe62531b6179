//! Records of which only the beginning can be read: a write that was cut off in their midst, and what it wrote is of another
//! length than what stood there.
//!
//! ```text
//! 0 ─ head, standard information, names, … ─ 512 ─ of another writing: no attribute begins where it should ─ 1024
//! ```
//!
//! What a folder holds its files say themselves, so that it loses nothing by an empty index. Content that stands in the
//! record ends where its writing does.

use super::Job;
use crate::{
    arith::{Peek, Sat},
    medium::MediumError,
    mending::step::Provenance,
    ntfs::{
        build::{BY_NAME, Room, empty_root, resident},
        catalogue as c,
        edit::{count_used, insert},
        layout::{END_ALIGN, kind, put},
        record::{Attribute, Broken, Head, attributes},
    },
};

/// The flag in the header of a root node that has blocks below it, and where it stands in the value of `$INDEX_ROOT`.
const DEEP: u8 = 1;
const FLAGS: usize = 28;

/// What is left of a record.
struct Left {
    record: Vec<u8>,
    /// What is done about the rest.
    rest: String,
}

/// Keeps what can be read of a record, where that is enough for a file; of a torn one, what is of another writing begins at
/// byte `torn`.
pub(super) fn keep(
    job: &mut Job<'_, '_, '_, '_>,
    (number, torn): (u32, Option<usize>),
    path: Option<&String>,
) -> Result<(), MediumError> {
    let room = super::folders::sizes(job.survey);
    let Some(Left { record, rest }) = job.record(number).and_then(|record| left(&record, torn, room)) else {
        return Ok(());
    };
    let does = format!("keep what can be read of record {number}, {rest}");
    let from = "the attributes up to where they cannot be read";
    let step =
        super::records::step("record-beginning", does, Provenance::Judged, from, &c::RECORD_BROKEN, path)
            .or("what stood behind it in the record is not known".to_owned());
    job.edit(number, step, |old| {
        *old = record;
        true
    })
}

fn left(record: &[u8], torn: Option<usize>, room: Room) -> Option<Left> {
    let (list, broken) = attributes(record);
    let (Broken::Type(at) | Broken::Length(at) | Broken::Value(at)) = broken? else { return None };
    let head = Head::read(record);
    let has = |of: u32| list.iter().any(|a| a.kind() == of);
    // What a file of several records has stands in the others, by its list.
    if !has(kind::STANDARD) || !has(kind::NAME) || has(kind::LIST) || head.base != 0 {
        return None;
    }
    let plain = |of: u32, name: &str| list.iter().find(|a| a.kind() == of && a.is_called(name));
    if head.folder() {
        // Without a block of its own the index may be whole.
        let whole = plain(kind::INDEX_ROOT, "$I30").filter(|root| root.value().byte(FLAGS) & DEEP == 0);
        if whole.is_some() {
            return Some(Left { record: ended(record, at), rest: "and end it there".to_owned() });
        }
        let end = list.iter().find(|a| a.kind() >= kind::INDEX_ROOT).map_or(at, |a| a.at);
        let mut record = ended(record, end);
        let root = resident(kind::INDEX_ROOT, "$I30", &empty_root(BY_NAME, room));
        let rest = "with an empty index: its files name it themselves".to_owned();
        return insert(&mut record, &root).then_some(Left { record, rest });
    }
    // Content in the record ends where its writing does: what follows has another length, and is another's.
    let known = plain(kind::DATA, "").copied();
    let content = known.unwrap_or(Attribute { at, bytes: record.part(at, record.len().minus(at)) });
    if content.kind() != kind::DATA || content.bytes.byte(9) != 0 {
        return None;
    }
    let from = content.value_at();
    let end = from.plus(content.bytes.le32(16).size());
    let writing = torn.filter(|writing| (from..end).contains(writing) && content.resident());
    let Some(writing) = writing else {
        return known.map(|_| Left { record: ended(record, at), rest: "and end it there".to_owned() });
    };
    let kept = record.get(from..writing)?;
    let rest = format!("and of its content the {} bytes that are of one writing", kept.len());
    let data = resident(kind::DATA, "", kept);
    let mut record = ended(record, content.at);
    (!kept.is_empty() && insert(&mut record, &data)).then_some(Left { record, rest })
}

/// The record with the end mark at `at`.
fn ended(record: &[u8], at: usize) -> Vec<u8> {
    let mut ended = record.part(0, at).to_vec();
    ended.resize(record.len(), 0);
    put(&mut ended, at, &kind::END.to_le_bytes());
    put(&mut ended, 24, &at.plus(END_ALIGN).narrow().to_le_bytes());
    count_used(&mut ended);
    ended
}
