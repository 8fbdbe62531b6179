//! Which host mounts a volume, which demand it fails first, and what the host will say.

use schemars::JsonSchema;
use serde::Serialize;

/// On what a forecast rests.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Basis {
    /// The checks of the driver, in its order; held against the driver itself.
    Driver,
    /// The published demands only: what the host really does was not tried.
    Documented,
}

/// What one host does with a volume.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct HostForecast {
    /// The host: `linux` or `windows`.
    pub host: &'static str,
    /// It mounts for reading.
    pub mounts_read_only: bool,
    /// It mounts for writing.
    pub mounts_read_write: bool,
    /// The code of the finding that it refuses at.
    pub refused_by: Option<&'static str>,
    /// The demand that fails, in words.
    pub reason: String,
    /// What the host writes into its log when asked to mount for reading.
    pub log: Vec<String>,
    /// The same when asked to mount for writing.
    pub log_read_write: Vec<String>,
    /// What the person in front of it sees.
    pub seen: String,
    /// On what this rests.
    pub basis: Basis,
}

impl HostForecast {
    /// A host that mounts without a word.
    pub fn mounts(host: &'static str, basis: Basis) -> Self {
        Self {
            host,
            mounts_read_only: true,
            mounts_read_write: true,
            refused_by: None,
            reason: String::new(),
            log: Vec::new(),
            log_read_write: Vec::new(),
            seen: String::new(),
            basis,
        }
    }
    /// A host that refuses, at the demand that finding `code` goes against.
    pub fn refuses(host: &'static str, basis: Basis, code: &'static str, reason: impl Into<String>) -> Self {
        Self {
            mounts_read_only: false,
            mounts_read_write: false,
            refused_by: Some(code),
            reason: reason.into(),
            ..Self::mounts(host, basis)
        }
    }
}
