//! What a volume is for: files, what they are called, what can be had of them.

pub mod content;
pub mod end;
pub mod filler;
pub mod inventory;
pub mod kinds;
pub mod naming;
pub mod order;
pub mod path;
pub mod record;
