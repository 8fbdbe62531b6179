//! The boot sector, as the driver of Linux goes through it.

use super::{Mount, PAGE, Refusal};
use crate::{
    arith::{Peek, Sat},
    medium::Extent,
    ntfs::{catalogue as c, geometry::cluster_sectors},
};

fn gb(bytes: u64) -> String {
    // As the driver rounds it (`format_size_gb`).
    let kib = bytes >> 10_u32;
    let part = (kib & 0xF_FFFF).times(100).plus(0x7_FFFF) >> 20_u32;
    format!("{}.{:02} Gb", kib >> 20_u32, part.min(99))
}

impl Mount<'_> {
    pub(super) fn boot(&mut self) -> Result<(), Refusal> {
        let length = self.medium.len();
        if length < 4096 {
            self.say("try to read out of volume at offset 0x0");
            return Err((&c::BOOT_GONE, "the device has fewer than 4096 bytes".into()));
        }
        // It is read with the rest of its page.
        if self.fails(Extent::new(0, 512), PAGE).is_some() {
            self.say("failed to read volume at offset 0x0");
            return Err((&c::BOOT_GONE, "the boot sector cannot be read".into()));
        }
        let sector = self.medium.lenient(0, 512).bytes;
        let first = match self.sector_zero(&sector, "Primary boot") {
            Ok(()) => return Ok(()),
            Err(refusal) => refusal,
        };
        // The driver tries the last 512 bytes; on a device with sectors of 512 bytes it does not let itself read there.
        if self.sector == 512 {
            self.say(format!("try to read out of volume at offset {:#x}", length.minus(512)));
            return Err(first);
        }
        let copy = self.medium.lenient(length.minus(512), 512).bytes;
        self.sector_zero(&copy, "Alternative boot").map_err(|_| first)?;
        if self.write && !self.forced {
            self.say("primary boot is updated");
        }
        Ok(())
    }

    fn sector_zero(&mut self, boot: &[u8], which: &str) -> Result<(), Refusal> {
        if boot.part(3, 8) != b"NTFS    " {
            self.say(format!("{which} signature is not NTFS."));
            return Err((&c::BOOT_NAME, "no \"NTFS\" at byte 3 of the boot sector".into()));
        }
        let size = u64::from(boot.le16(11));
        if size < 512 || !size.is_power_of_two() {
            self.say(format!("{which}: invalid bytes per sector {size}."));
            return Err((&c::SECTOR_SIZE, format!("{size} bytes per sector (boot sector, byte 11)")));
        }
        let code = boot.byte(13);
        let Some(shift) = cluster_sectors(code) else {
            let said = if code <= 0x80 { u32::from(code) } else { 4_294_967_274 };
            self.say(format!("{which}: invalid sectors per cluster {said}."));
            return Err((&c::CLUSTER_SIZE, format!("{code} sectors per cluster (boot sector, byte 13)")));
        };
        let per = 1_u64.checked_shl(u32::from(shift)).unwrap_or(0);
        let (sectors, mft, mirror) = (boot.le64(40), boot.le64(48), boot.le64(56));
        if mft.wrapping_mul(per) >= sectors || mirror.wrapping_mul(per) >= sectors {
            self.say(format!("{which}: start of MFT {mft:#x} ({mirror:#x}) is out of volume {sectors:#x}."));
            let entry = match (mft.wrapping_mul(per) >= sectors, mirror.wrapping_mul(per) >= sectors) {
                (true, true) => &c::TOTAL_SECTORS,
                (true, false) => &c::MFT_PLACE,
                _ => &c::MIRROR_PLACE,
            };
            return Err((entry, "$MFT or $MFTMirr begins outside the volume".into()));
        }
        let cluster = size.times(per);
        let sized = |code: i8| match u32::try_from(code) {
            Ok(many) => Some(cluster.times(u64::from(many))),
            Err(_) if code >= -12 => 1_u64.checked_shl(u32::from(code.unsigned_abs())),
            Err(_) => None,
        };
        let code = i8::from_le_bytes([boot.byte(64)]);
        let Some(record) = sized(code) else {
            self.say(format!("{which}: invalid record size {code}."));
            return Err((&c::RECORD_SIZE, "the size of a record (boot sector, byte 64)".into()));
        };
        if record < 512 || !record.is_power_of_two() {
            self.say(format!("{which}: invalid bytes per MFT record {record} ({code})."));
            return Err((&c::RECORD_SIZE, format!("records of {record} bytes (boot sector, byte 64)")));
        }
        if record > 4096 {
            self.say(format!("Unsupported bytes per MFT record {record}."));
            return Err((&c::RECORD_SIZE, format!("records of {record} bytes (boot sector, byte 64)")));
        }
        let code = i8::from_le_bytes([boot.byte(68)]);
        let Some(index) = sized(code) else {
            self.say(format!("{which}: invalid index size {code}."));
            return Err((&c::INDEX_SIZE, "the size of an index block (boot sector, byte 68)".into()));
        };
        if index < 512 || !index.is_power_of_two() {
            self.say(format!("{which}: invalid bytes per index {index}({code})."));
            return Err((&c::INDEX_SIZE, format!("index blocks of {index} bytes (boot sector, byte 68)")));
        }
        if index > 4096 {
            self.say(format!("{which}: unsupported bytes per index {index}."));
            return Err((&c::INDEX_SIZE, format!("index blocks of {index} bytes (boot sector, byte 68)")));
        }
        if size != self.sector {
            self.say(format!("Different NTFS sector size ({size}) and media sector size ({}).", self.sector));
        }
        if cluster < self.sector {
            self.say(format!(
                "Failed to mount 'cause NTFS's cluster size ({cluster}) is less than media sector size ({}).",
                self.sector
            ));
            return Err((&c::CLUSTER_SIZE, "clusters are smaller than the device's sectors".into()));
        }
        self.bytes = sectors.times(size);
        let all = self.bytes.plus(size);
        if self.medium.len() < all {
            self.say(format!(
                "RAW NTFS volume: Filesystem size {} > volume size {}. Mount in read-only.",
                gb(all),
                gb(self.medium.len())
            ));
            self.forced = true;
        }
        self.cluster = cluster;
        self.clusters = self.bytes.per(cluster);
        if self.clusters >> 32_u32 != 0 {
            self.say(format!("NTFS {} is too big to use 32 bits per cluster.", gb(self.bytes)));
            return Err((&c::TOTAL_SECTORS, "the volume has too many clusters".into()));
        }
        self.record = record.size();
        self.mft = mft.times(cluster);
        self.mirror = mirror.times(cluster);
        Ok(())
    }
}
