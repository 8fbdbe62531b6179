//! Single fields of a record that all else tells.

use super::{Job, records::step};
use crate::{
    arith::Peek,
    medium::MediumError,
    mending::step::Provenance,
    ntfs::{
        catalogue as c,
        edit::count_used,
        layout::{self, put},
        records::Flaw,
    },
    report::finding::Entry,
};

type Change = Box<dyn FnOnce(&mut Vec<u8>)>;

/// What is done to one field.
struct Field {
    name: &'static str,
    does: String,
    from: &'static str,
    mends: &'static Entry,
    change: Change,
}

pub(super) fn mend(
    job: &mut Job<'_, '_, '_, '_>,
    number: u32,
    flaw: &Flaw,
    path: Option<&String>,
) -> Result<(), MediumError> {
    let Some(Field { name, does, from, mends, change }) = field(number, flaw) else { return Ok(()) };
    let step = step(name, does, Provenance::Derived, from, mends, path);
    job.edit(number, step, |record| {
        change(record);
        true
    })
}

/// Puts these bytes at `at`.
fn set(at: usize, bytes: impl AsRef<[u8]> + 'static) -> Change {
    Box::new(move |record| put(record, at, bytes.as_ref()))
}

/// Sets or clears bits of the flags.
fn flags(change: fn(u16) -> u16) -> Change {
    Box::new(move |record| {
        let flags = change(record.le16(22));
        put(record, 22, &flags.to_le_bytes());
    })
}

fn field(number: u32, flaw: &Flaw) -> Option<Field> {
    Some(match flaw {
        Flaw::Number(other) => Field {
            name: "record-number",
            does: format!("set the number that record {number} gives itself, from {other}"),
            from: "where the record stands",
            mends: &c::RECORD_NUMBER,
            change: set(44, number.to_le_bytes()),
        },
        Flaw::Used(end) => Field {
            name: "record-used",
            does: format!("set the bytes in use of record {number} to {end}"),
            from: "the end of its attributes",
            mends: &c::RECORD_USED,
            change: Box::new(|record| count_used(record)),
        },
        Flaw::Links(found) => Field {
            name: "link-count",
            does: format!("set the number of names of record {number} to {found}"),
            from: "the names that it has",
            mends: &c::LINKS,
            change: set(18, found.to_le_bytes()),
        },
        Flaw::Free => Field {
            name: "record-flag",
            does: format!("mark record {number} in use again"),
            from: "an entry of its folder names it, and $MFT's bitmap has it in use; or the list of the file that it extends",
            mends: &c::RECORD_FLAG,
            change: flags(|flags| flags | layout::RECORD_IN_USE),
        },
        Flaw::Folder => Field {
            name: "record-folder",
            does: format!("set in record {number} whether it is a folder"),
            from: "an index of names, or content",
            mends: &c::RECORD_FOLDER,
            change: flags(|flags| flags ^ layout::RECORD_FOLDER),
        },
        Flaw::Parent(at, _, told) => Field {
            name: "name-folder",
            does: format!("set the folder of a name of record {number} to {}", layout::number(*told)),
            from: "the index of that folder has the name",
            mends: &c::NAME_PARENT,
            change: set(usize::from(*at), told.to_le_bytes()),
        },
        Flaw::Name(at, long, space) => Field {
            name: "name-head",
            does: format!("set length and kind of a name of record {number}"),
            from: "the length of its value; the kind that any name may have",
            mends: &c::NAME_HEAD,
            change: set(usize::from(*at).saturating_add(64), [*long, *space]),
        },
        Flaw::Own(_) => Field {
            name: "record-own",
            does: format!("clear in record {number} that it extends another"),
            from: "standard information and a name stand in a file's own record",
            mends: &c::RECORD_BASE,
            change: set(32, [0; 8]),
        },
        Flaw::Extends(_, told) => Field {
            name: "record-base",
            does: format!("set the record that record {number} extends to {}", layout::number(*told)),
            from: "the attribute list of that file, which alone has it; or the one gap that it fills",
            mends: &c::EXTENSION_BASE,
            change: set(32, told.to_le_bytes()),
        },
        Flaw::Sequence(own, told) => Field {
            name: "record-sequence",
            does: format!("set the sequence number of record {number} from {own} to {told}"),
            from: "its folder's entry, and all that stands in it",
            mends: &c::RECORD_SEQUENCE,
            change: set(16, told.to_le_bytes()),
        },
        _ => return None,
    })
}
