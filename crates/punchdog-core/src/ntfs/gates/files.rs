//! The file system's own files, in the order in which the driver of Linux loads them.

use super::{Loaded, Mount, Refusal, entry_of};
use crate::{
    arith::{Peek, Sat},
    ntfs::{
        catalogue as c,
        fresh::BY_NUMBERS,
        index::{in_root, root_fits, root_of},
        layout::{VOLUME_DIRTY, kind, own, sequence, unfix},
        record::attributes,
        runs::Mapping,
    },
};

impl Mount<'_> {
    pub(super) fn files(&mut self) -> Result<(), Refusal> {
        self.volume()?;
        self.journal()?;
        if self.write && !self.forced && (self.was_dirty || self.dirty) {
            self.say("volume is dirty and \"force\" flag is not set!");
            return Err((&c::DIRTY, "it mounts for reading only: the volume is marked dirty".into()));
        }
        self.records()?;
        self.clusters()?;
        self.tables()?;
        if self.version >= 3 {
            self.secure()?;
            self.extend();
        }
        self.own(own::ROOT, ".", ".").map(|_| ())
    }

    /// Loads one of the driver's own files, or says that it cannot.
    pub(super) fn own(&mut self, number: u32, name: &str, dot: &str) -> Result<Loaded, Refusal> {
        let said = if number == own::ROOT { "root" } else { name };
        let loaded = self.load(number, Some(name), false);
        loaded.map_err(|error| {
            self.say(format!("Failed to load {said} ({error}){dot}"));
            (entry_of(number), format!("record {number} ({said}) is not in order"))
        })
    }

    fn volume(&mut self) -> Result<(), Refusal> {
        let loaded = self.own(own::VOLUME, "$Volume", ".")?;
        let (list, _) = attributes(&loaded.record);
        let info = list.iter().find(|a| a.kind() == kind::VOLUME_INFO && a.value().len() >= 12);
        let Some(info) = info else {
            self.say("$Volume is corrupted.");
            return Err((&c::VOLUME_INFO, "$Volume has no volume information".into()));
        };
        self.version = info.value().byte(8);
        self.was_dirty = info.value().le16(10) & VOLUME_DIRTY != 0;
        if self.was_dirty {
            self.say("It is recommened to use …");
        }
        self.volume = true;
        self.own(own::MIRROR, "$MFTMirr", ".")?;
        Ok(())
    }

    fn records(&mut self) -> Result<(), Refusal> {
        let loaded = self.own(own::MFT, "$MFT", ".")?;
        let refused = |reason: &str| Err((&c::SYSTEM_RECORD, reason.to_owned()));
        let Some(bitmap) = loaded.bitmap.filter(|runs| !runs.is_empty()) else {
            return Err((&c::MFT_BITMAP, "$MFT has no bitmap of its records".into()));
        };
        let map = Mapping::of(&loaded.runs, self.cluster);
        // One that has a size and no clusters is found out at the next record.
        if map.is_empty() && loaded.size.per(self.record.wide()) == 0 {
            return refused("record 0 says nothing of where the records stand");
        }
        let bytes = loaded.size.per(self.record.wide()).per_up(8);
        if Mapping::of(&bitmap, self.cluster).len() < bytes {
            return Err((&c::MFT_BITMAP, "the bitmap of records is too short".into()));
        }
        if self.content_fails(&Mapping::of(&bitmap, self.cluster), bytes, true) {
            return refused("the bitmap of $MFT cannot be read");
        }
        self.map = Some(map);
        Ok(())
    }

    fn clusters(&mut self) -> Result<(), Refusal> {
        let loaded = self.own(own::BITMAP, "$Bitmap", ".")?;
        if loaded.size < self.clusters.per_up(64).times(8) {
            self.say("$Bitmap is corrupted.");
            return Err((&c::BITMAP_SIZE, "$Bitmap has fewer bits than the volume has clusters".into()));
        }
        let map = Mapping::of(&loaded.runs, self.cluster);
        if map.len() < self.clusters.per_up(8) {
            self.say("Failed to initialize $Bitmap (-2).");
            return Err((&c::BITMAP_GONE, "$Bitmap has no clusters for all of its bits".into()));
        }
        if self.content_fails(&map, self.clusters.per_up(8), true) {
            self.say("Failed to initialize $Bitmap (-5).");
            return Err((&c::BITMAP_GONE, "$Bitmap cannot be read".into()));
        }
        self.used = Some(map);
        let loaded = self.own(own::BADCLUS, "$BadClus", ".")?;
        let bad: Vec<u64> =
            loaded.runs.iter().filter(|run| run.first.is_some()).map(|run| run.length).collect();
        if !bad.is_empty() {
            let sum = bad.iter().fold(0_u64, |sum, length| sum.plus(*length));
            self.say(format!("Volume contains {sum} bad blocks in {} fragments.", bad.len()));
        }
        Ok(())
    }

    fn tables(&mut self) -> Result<(), Refusal> {
        let loaded = self.own(own::ATTRDEF, "$AttrDef", "")?;
        let wrong = |reason: &str| Err((&c::ATTRDEF, reason.to_owned()));
        if !(160..=16000).contains(&loaded.size) {
            self.say(format!("Looks like $AttrDef is corrupted (size={}).", loaded.size));
            return wrong("the length of $AttrDef");
        }
        let map = Mapping::of(&loaded.runs, self.cluster);
        if self.content_fails(&map, loaded.size, false) {
            self.say("Failed to read $AttrDef (-5).");
            return wrong("$AttrDef cannot be read");
        }
        if map.read(self.medium, 128, 4).le32(0) != kind::STANDARD {
            self.say("$AttrDef is corrupted.");
            return wrong("$AttrDef does not begin with standard information");
        }
        let loaded = self.own(own::UPCASE, "$UpCase", ".")?;
        if loaded.size != 131_072 {
            self.say("$UpCase is corrupted.");
            return Err((&c::UPCASE, "the length of $UpCase".into()));
        }
        if self.content_fails(&Mapping::of(&loaded.runs, self.cluster), loaded.size, false) {
            self.say("Failed to read $UpCase (-5).");
            return Err((&c::UPCASE, "$UpCase cannot be read".into()));
        }
        Ok(())
    }

    fn secure(&mut self) -> Result<(), Refusal> {
        let failed = |mount: &mut Self| mount.say("Failed to initialize $Secure (-22).");
        let loaded = match self.load(own::SECURE, Some("$Secure"), false) {
            Ok(loaded) => loaded,
            Err(error) => {
                self.say(format!("Failed to load $Secure ({error})."));
                self.say(format!("Failed to initialize $Secure ({error})."));
                return Err((&c::SYSTEM_RECORD, "record 9 ($Secure) is not in order".into()));
            }
        };
        let (list, _) = attributes(&loaded.record);
        for (name, rule) in [("$SDH", 0x12), ("$SII", 0x10)] {
            let root = list.iter().find(|a| a.kind() == kind::INDEX_ROOT && a.is_called(name));
            let fits = root.is_some_and(|root| {
                let value = root.value();
                value.len() >= 32
                    && value.le32(0) == 0
                    && value.le32(4) == rule
                    && value.le32(20).plus(16) <= value.len().narrow()
            });
            if !fits {
                self.say(format!("$Secure::{name} is corrupted."));
                failed(self);
                return Err((&c::SYSTEM_RECORD, format!("the index {name} of $Secure")));
            }
            if !root.is_some_and(|root| root_fits(root.value(), self.cluster)) {
                self.say(format!("Failed to initialize $Secure::{name} (-22)."));
                failed(self);
                return Err((&c::SECURE_INDEX, format!("the entries of {name} of $Secure")));
            }
        }
        Ok(())
    }

    /// Nothing here stops a mount. Of what it names, indexes by object ids and by reparse points are set up.
    fn extend(&mut self) {
        let folder = match self.load(own::EXTEND, Some("$Extend"), false) {
            Ok(folder) => folder,
            Err(error) => {
                self.say(format!("Failed to load $Extend ({error})."));
                self.say("Failed to initialize $Extend.");
                return;
            }
        };
        // Those that it holds are not read again, under whatever name they are asked for.
        let mut held: Vec<(u32, u16)> = [own::MFT, own::VOLUME, own::SECURE, own::EXTEND]
            .map(|own| (own, u16::try_from(own).unwrap_or(0).max(1)))
            .to_vec();
        let (mut objects, mut reparse) = (None, None);
        for name in ["$ObjId", "$Quota", "$Reparse", "$UsnJrnl"] {
            let Some(found) = in_root(&folder.record, name) else { continue };
            // Of the number, 32 bits are looked at.
            let (at, told) = ((found & u64::from(u32::MAX)).narrow(), sequence(found));
            if let Some((_, known)) = held.iter().find(|(own, _)| *own == at) {
                if *known != told {
                    self.error();
                    continue;
                }
            } else if self.load_as(at, Some(told), Some(name)).is_err() {
                continue;
            }
            match name {
                "$ObjId" => objects = Some(at),
                "$Reparse" => reparse = Some(at),
                _ => continue,
            }
            held.push((at, told));
        }
        for (file, index, name) in [(reparse, "$R", "$Reparse"), (objects, "$O", "$ObjId")] {
            let fits = file.is_none_or(|number| {
                let mut record = self.bytes_of(number).unwrap_or_default();
                // It was read before; what is not whole was refused there.
                let _ = unfix(&mut record);
                root_of(&record, index).is_some_and(|(root, _)| {
                    let value = root.value();
                    (value.le32(0), value.le32(4)) == (BY_NUMBERS.of, BY_NUMBERS.rule)
                        && root_fits(value, self.cluster)
                })
            });
            if !fits {
                self.say(format!("Failed to initialize $Extend/{name}."));
                return;
            }
        }
    }
}
