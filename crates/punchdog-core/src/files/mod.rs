//! What a volume is for: files, what they are called, what can be had of them.

pub mod capitals;
pub mod content;
pub mod end;
pub mod filler;
pub mod inventory;
pub mod judgement;
pub mod kinds;
pub mod lznt1;
pub mod naming;
pub mod order;
pub mod path;
pub mod record;
pub mod utf16;
