//! Whether a file holds together: its content held against what its kind says of itself.

use super::{content::OnMedium, record::FileRecord};
use crate::{
    formats::{self, BEGINNING, End, Format, Proof, Tape},
    medium::Medium,
};

/// What looking at a file's content came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Judgement {
    /// Sums or codes that run through all of it fit.
    Whole,
    /// From this byte of the file on, something is wrong.
    Broken {
        /// The byte.
        from: u64,
        /// Why.
        why: String,
    },
    /// Its structure fits to its end; nothing in it proves the bytes between.
    Fits,
    /// Nothing in it says.
    NotJudged(&'static str),
}

impl Judgement {
    /// Its word.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Whole => "whole",
            Self::Broken { .. } => "broken",
            Self::Fits | Self::NotJudged(_) => "not-judged",
        }
    }
    /// Why, in words.
    pub fn words(&self) -> String {
        match self {
            Self::Whole => "its content fits to its end".to_owned(),
            Self::Broken { from, why } => format!("from byte {from} on: {why}"),
            Self::Fits => "its structure fits to its end; nothing in it proves the bytes between".to_owned(),
            Self::NotJudged(why) => (*why).to_owned(),
        }
    }
}

/// Bytes that may follow the end of a file's structure: makers add a few of their own.
const TAIL: u64 = 64 << 10;

/// Bytes before the place where a structure breaks in which zeros are looked for.
const BACK: u64 = 16 << 20;

/// Where zeros begin, a sector of them at least, that stand before `at`: packed bytes have none, and codes can go on over
/// them for a while.
fn blank_before(tape: &mut Tape<'_>, at: u64) -> Option<u64> {
    let mut from = at.saturating_sub(BACK) & !511;
    while from < at {
        let sector = tape.at(from, 512);
        if sector.len() == 512 && sector.iter().all(|byte| *byte == 0) {
            return Some(from);
        }
        from = from.saturating_add(512);
    }
    None
}

/// Looks at the content of `record`, whose places are on `medium`.
pub fn of(record: &FileRecord, medium: &dyn Medium) -> Judgement {
    let broken = |from, why: String| Judgement::Broken { from, why };
    if record.size == 0 {
        return Judgement::NotJudged("it is empty");
    }
    let held = record.content.held();
    if held == 0 {
        return broken(0, "none of it can be had".to_owned());
    }
    let source = OnMedium::new(medium, &record.content, record.size);
    let mut tape = Tape::new(&source);
    let named = record.path.name().rsplit_once('.').and_then(|(_, own)| Format::of_extension(own));
    let start = tape.at(0, BEGINNING).to_vec();
    let zeros = start.iter().all(|byte| *byte == 0);
    let Some(format) = formats::begins(&start) else {
        return match named {
            Some(_) if zeros => broken(0, "nothing but zeros there".to_owned()),
            Some(named) if !named.is_text() => {
                broken(0, format!("it does not begin as a {} does", named.title()))
            }
            _ if held < record.size => broken(held, "the rest of it is not there".to_owned()),
            _ => Judgement::NotJudged("its kind says nothing of its content"),
        };
    };
    if let Some(named) = named
        && !named.is_like(format)
        && !(named.is_text() && format.is_text())
    {
        // A beginning that proves little does not speak against a name.
        let proved = formats::walk(format, &mut tape).is_worth_keeping();
        return match () {
            () if proved => broken(0, format!("a {} begins there, not a {}", format.title(), named.title())),
            () if named.is_text() => Judgement::NotJudged("its kind says nothing of its content"),
            () => broken(0, format!("it does not begin as a {} does", named.title())),
        };
    }
    match formats::walk(format, &mut tape).end {
        End::Whole { length, .. } if length.saturating_add(TAIL) < held && !format.is_text() => {
            broken(length, "its structure ends there, and other bytes follow".to_owned())
        }
        End::Whole { .. } if held < record.size => broken(held, "the rest of it is not there".to_owned()),
        End::Whole { proof: Proof::Content, .. } => Judgement::Whole,
        End::Whole { length, .. } if format.is_text() && length < held => {
            broken(length, "something that is no text there".to_owned())
        }
        End::Whole { .. } => Judgement::Fits,
        End::Broken { at, why, .. } if format.is_text() => match why {
            formats::Why::EndsEarly => Judgement::NotJudged("its kind says nothing of its content"),
            why => broken(at, why.words()),
        },
        // A name that says nothing, and a beginning that proves little.
        End::Broken { .. } if named.is_none() && formats::is_weak(format) => {
            Judgement::NotJudged("its kind says nothing of its content")
        }
        End::Broken { at, why, .. } => match blank_before(&mut tape, at).filter(|_| format.is_packed()) {
            Some(from) => broken(from, formats::Why::Zeros.words()),
            // Codes can go on over what is not theirs for a while.
            None if format.is_packed() => {
                broken(at, format!("{}; the wrong bytes can begin before", why.words()))
            }
            None => broken(at, why.words()),
        },
    }
}
