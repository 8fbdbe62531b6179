//! What several tests of the lab share.

#[allow(dead_code, reason = "each test binary uses a part of it")]
pub(crate) mod reader;
