//! `$LogFile`, as the driver of Linux takes it (`fs/ntfs3/super.c`, `ntfs_loadlog_and_replay`).

use super::{Mount, PAGE, Refusal};
use crate::ntfs::{
    catalogue as c,
    layout::own,
    log::{self, Log, Replay},
    runs::Mapping,
};

impl Mount<'_> {
    /// Loads $LogFile, and looks whether changes wait in it.
    pub(super) fn journal(&mut self) -> Result<(), Refusal> {
        let loaded = self.own(own::LOG, "$LogFile", ".")?;
        if self.load(own::MFT, None, true).is_err() {
            // Record 0 is read from its copy then.
            let own = std::mem::replace(&mut self.mft, self.mirror);
            let copy = self.load(own::MFT, None, true);
            self.mft = own;
            if copy.is_err() {
                self.say("Failed to load $MFT.");
                return Err((&c::SYSTEM_RECORD, "record 0 is not in order, and its copy neither".into()));
            }
        }
        let map = Mapping::of(&loaded.runs, self.cluster);
        let block = self.cluster.clamp(512, PAGE);
        let ((state, replay), failures) = log::state_and_failures(self.medium, &map, loaded.size, block);
        for at in failures {
            self.say(format!("failed to read volume at offset {at:#x}"));
        }
        if let Replay::Version(major, minor) = replay {
            self.say(format!("$LogFile version {major}.{minor} is not supported"));
            self.error();
        }
        if replay != Replay::Done && self.write && !self.forced {
            self.say("failed to replay log file. Can't mount rw!");
            return Err(match state {
                Log::InUse => {
                    (&c::LOG_IN_USE, "it mounts for reading only: $LogFile cannot be replayed".into())
                }
                Log::Gone => (&c::LOG_GONE, "it mounts for reading only: $LogFile is too short".into()),
                _ => (&c::LOG_GARBAGE, "it mounts for reading only: $LogFile holds no log".into()),
            });
        }
        Ok(())
    }
}
