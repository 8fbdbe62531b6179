//! FAT, on the widest kind of volume that a fault makes sense on.

use expect_test::{Expect, expect};
use punchdog_core::family::Kind;
use punchdog_damage::{
    fat::{everyday, small},
    faults::{self, Patient},
};

fn says(name: &str, expected: &Expect) {
    expected.assert_eq(&told(name));
}

fn told(name: &str) -> String {
    let fault = faults::all().find(|fault| fault.name == name).expect("a fault of that name");
    let kinds = [(Kind::Fat32, 512), (Kind::Fat16, 1024), (Kind::Fat12, 1024)];
    let volumes = kinds.map(|(kind, cluster)| Patient::new(everyday(&small(kind, 512, cluster), 3)));
    super::told(fault, volumes)
}

#[test]
fn every_fault_of_the_table_is_spoken_for_here() {
    super::all_spoken_for(faults::all(), include_str!("fat.rs"));
}

#[test]
fn the_boot_region() {
    says(
        "boot sector zeroed",
        &expect![[r#"
            fat/boot-gone at 0+512
              sector 0 holds no boot sector. Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 and has no usable field. A boot sector begins with EB ?? 90 or E9 and ends with 55 AA. Its backup fits the volume.
            exact: copy the backup boot sector at byte 3072 of the volume to sector 0
              the backup boot sector at byte 3072 of the volume, which agrees with the tables and the root folder
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "boot sector all FF",
        &expect![[r#"
            fat/boot-gone at 0+512
              sector 0 holds no boot sector. Sector 0 begins with FF FF FF FF FF FF FF FF FF FF FF FF FF FF FF FF and has no usable field. A boot sector begins with EB ?? 90 or E9 and ends with 55 AA. Its backup fits the volume.
            exact: copy the backup boot sector at byte 3072 of the volume to sector 0
              the backup boot sector at byte 3072 of the volume, which agrees with the tables and the root folder
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "boot sector overwritten with noise",
        &expect![[r#"
            fat/boot-gone at 0+512
              sector 0 holds no boot sector. Sector 0 begins with 47 41 52 42 41 47 45 3A 20 74 68 69 73 20 69 73 and has no usable field. A boot sector begins with EB ?? 90 or E9 and ends with 55 AA. Its backup fits the volume.
            exact: copy the backup boot sector at byte 3072 of the volume to sector 0
              the backup boot sector at byte 3072 of the volume, which agrees with the tables and the root folder
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "boot sector and its backup zeroed",
        &expect![[r#"
            fat/boot-gone at 0+512
              sector 0 holds no boot sector. Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 and has no usable field. A boot sector begins with EB ?? 90 or E9 and ends with 55 AA. There is no backup; the geometry was computed from what the volume holds.
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            derived: write a boot sector computed from the volume
              table copy 0 begins as a table does; table copy 1 begins as a table does; two copies of the table are the rule; as many sectors before the tables as is usual; the volume fits into the image; the table is as long as the volume needs; the volume ends where what was looked at ends, and its table exactly fits it; 5 of 5 folders found by search name the cluster they stand in; the root folder reads as one; the root's chain begins; 5 folders stand in the cluster that their name gives; 6 files have a chain as long as their size needs; 4 files begin as their kind does
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "the whole reserved area zeroed",
        &expect![[r#"
            fat/boot-gone at 0+512
              sector 0 holds no boot sector. Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 and has no usable field. A boot sector begins with EB ?? 90 or E9 and ends with 55 AA. There is no backup; the geometry was computed from what the volume holds.
            fat/fsinfo-signature at 512+4
              the FSInfo sector has lost a signature. The signature at byte 0 of the FSInfo sector is not there. 52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its counts for unknown.
            fat/fsinfo-signature at 996+4
              the FSInfo sector has lost a signature. The signature at byte 484 of the FSInfo sector is not there. 52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its counts for unknown.
            fat/fsinfo-signature at 1020+4
              the FSInfo sector has lost a signature. The signature at byte 508 of the FSInfo sector is not there. 52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its counts for unknown.
            derived: write a boot sector computed from the volume
              table copy 0 begins as a table does; table copy 1 begins as a table does; two copies of the table are the rule; as many sectors before the tables as is usual; the volume fits into the image; the table is as long as the volume needs; the volume ends where what was looked at ends, and its table exactly fits it; 5 of 5 folders found by search name the cluster they stand in; the root folder reads as one; the root's chain begins; 5 folders stand in the cluster that their name gives; 6 files have a chain as long as their size needs; 4 files begin as their kind does
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            derived: write the FSInfo sector: 1573 free clusters
              counted in the table
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "signature 55 AA zeroed",
        &expect![[r#"
        fat/boot-signature at 510+2
          the boot sector's signature 55 AA is missing: Signature_word is 00 00, should be 55 AA. Signature_word (boot sector, byte 510) is 00 00. It should be 55 AA: always 55 AA.
        exact: set Signature_word (boot sector, byte 510) from 00 00 to 55 AA
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "jump zeroed",
        &expect![[r#"
        fat/boot-jump at 0+3
          the boot sector does not begin with a jump: BS_jmpBoot is 00 00 00, should be EB 58 90. BS_jmpBoot (boot sector, byte 0) is 00 00 00. It should be EB 58 90: from the backup.
        exact: set BS_jmpBoot (boot sector, byte 0) from 00 00 00 to EB 58 90
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "sector size 0",
        &expect![[r#"
        fat/bpb-sector-size at 11+2
          the sector size is wrong: BPB_BytsPerSec is 0, should be 512. BPB_BytsPerSec (boot sector, byte 11) is 0. It should be 512: backup and volume agree.
        exact: set BPB_BytsPerSec (boot sector, byte 11) from 0 to 512
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "sector size doubled",
        &expect![[r#"
        fat/bpb-sector-size at 11+2
          the sector size is wrong: BPB_BytsPerSec is 1024, should be 512. BPB_BytsPerSec (boot sector, byte 11) is 1024. It should be 512: backup and volume agree.
        exact: set BPB_BytsPerSec (boot sector, byte 11) from 1024 to 512
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "sector size wrong in boot sector and backup",
        &expect![[r#"
            fat/bpb-sector-size at 11+2
              the sector size is wrong: BPB_BytsPerSec is 4096, should be 512. BPB_BytsPerSec (boot sector, byte 11) is 4096. It should be 512: computed from the volume.
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            derived: set BPB_BytsPerSec (boot sector, byte 11) from 4096 to 512
              computed from the volume
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "cluster size 0",
        &expect![[r#"
        fat/bpb-cluster-size at 13+1
          the cluster size is wrong: BPB_SecPerClus is 0, should be 1. BPB_SecPerClus (boot sector, byte 13) is 0. It should be 1: backup and volume agree.
        exact: set BPB_SecPerClus (boot sector, byte 13) from 0 to 1
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "cluster size 3",
        &expect![[r#"
        fat/bpb-cluster-size at 13+1
          the cluster size is wrong: BPB_SecPerClus is 3, should be 1. BPB_SecPerClus (boot sector, byte 13) is 3. It should be 1: backup and volume agree.
        exact: set BPB_SecPerClus (boot sector, byte 13) from 3 to 1
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "cluster size doubled",
        &expect![[r#"
            fat/bpb-cluster-size at 13+1
              the cluster size is wrong: BPB_SecPerClus is 2, should be 1. BPB_SecPerClus (boot sector, byte 13) is 2. It should be 1: computed from the volume.
            fat/backup-differs at 3085+1
              the backup boot sector differs in 1 byte. The first difference is at byte 13 of the sector. It should be a copy of the boot sector. Restoring it would bring a wrong value back.
            derived: set BPB_SecPerClus (boot sector, byte 13) from 2 to 1
              computed from the volume
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "reserved sectors 0",
        &expect![[r#"
            fat/bpb-reserved at 14+2
              the number of reserved sectors is wrong: BPB_RsvdSecCnt is 0, should be 32. BPB_RsvdSecCnt (boot sector, byte 14) is 0. It should be 32: computed from the volume.
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            derived: set BPB_RsvdSecCnt (boot sector, byte 14) from 0 to 32
              computed from the volume
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "reserved sectors one too many",
        &expect![[r#"
        fat/bpb-reserved at 14+2
          the number of reserved sectors is wrong: BPB_RsvdSecCnt is 33, should be 32. BPB_RsvdSecCnt (boot sector, byte 14) is 33. It should be 32: backup and volume agree.
        exact: set BPB_RsvdSecCnt (boot sector, byte 14) from 33 to 32
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "number of tables 0",
        &expect![[r#"
            fat/bpb-table-count at 16+1
              the number of allocation tables is wrong: BPB_NumFATs is 0, should be 2. BPB_NumFATs (boot sector, byte 16) is 0. It should be 2: computed from the volume.
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            derived: set BPB_NumFATs (boot sector, byte 16) from 0 to 2
              computed from the volume
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "number of tables 1",
        &expect![[r#"
        fat/bpb-table-count at 16+1
          the number of allocation tables is wrong: BPB_NumFATs is 1, should be 2. BPB_NumFATs (boot sector, byte 16) is 1. It should be 2: backup and volume agree.
        exact: set BPB_NumFATs (boot sector, byte 16) from 1 to 2
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "number of tables 255",
        &expect![[r#"
        fat/bpb-table-count at 16+1
          the number of allocation tables is wrong: BPB_NumFATs is 255, should be 2. BPB_NumFATs (boot sector, byte 16) is 255. It should be 2: backup and volume agree.
        exact: set BPB_NumFATs (boot sector, byte 16) from 255 to 2
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "root entries odd",
        &expect![[r#"
        fat/bpb-root-entries at 17+2
          the number of root folder entries is wrong: BPB_RootEntCnt is 7, should be 0. BPB_RootEntCnt (boot sector, byte 17) is 7. It should be 0: FAT32 has no fixed root folder.
        exact: set BPB_RootEntCnt (boot sector, byte 17) from 7 to 0
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "root entries doubled",
        &expect![[r#"
        fat/bpb-root-entries at 17+2
          the number of root folder entries is wrong: BPB_RootEntCnt is 1024, should be 512. BPB_RootEntCnt (boot sector, byte 17) is 1024. It should be 512: computed from the volume.
        derived: set BPB_RootEntCnt (boot sector, byte 17) from 1024 to 512
          computed from the volume
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "root entries set on FAT32",
        &expect![[r#"
            fat/bpb-root-entries at 17+2
              the number of root folder entries is wrong: BPB_RootEntCnt is 512, should be 0. BPB_RootEntCnt (boot sector, byte 17) is 512. It should be 0: FAT32 has no fixed root folder.
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            derived: set BPB_RootEntCnt (boot sector, byte 17) from 512 to 0
              FAT32 has no fixed root folder
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "total sectors 0",
        &expect![[r#"
        fat/bpb-total-sectors at 32+4
          the number of sectors is wrong: BPB_TotSec32 is 0, should be 1700. BPB_TotSec32 (boot sector, byte 32) is 0. It should be 1700: backup and volume agree.
        exact: set BPB_TotSec32 (boot sector, byte 32) from 0 to 1700
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "total sectors too few for what is there",
        &expect![[r#"
        fat/bpb-total-sectors at 32+4
          the number of sectors is wrong: BPB_TotSec32 is 129, should be 1700. BPB_TotSec32 (boot sector, byte 32) is 129. It should be 1700: backup and volume agree.
        exact: set BPB_TotSec32 (boot sector, byte 32) from 129 to 1700
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "total sectors halved",
        &expect![[r#"
        fat/bpb-total-sectors at 32+4
          the number of sectors is wrong: BPB_TotSec32 is 850, should be 1700. BPB_TotSec32 (boot sector, byte 32) is 850. It should be 1700: backup and volume agree.
        exact: set BPB_TotSec32 (boot sector, byte 32) from 850 to 1700
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "total sectors wrong on both ends",
        &expect![[r#"
            fat/bpb-total-sectors at 32+4
              the number of sectors is wrong: BPB_TotSec32 is 0, should be 1700. BPB_TotSec32 (boot sector, byte 32) is 0. It should be 1700: computed from the volume.
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            derived: set BPB_TotSec32 (boot sector, byte 32) from 0 to 1700
              computed from the volume
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "short total set on FAT32",
        &expect![[r#"
        fat/bpb-total-sectors at 19+2
          the number of sectors is wrong: BPB_TotSec16 is 564, should be 0. BPB_TotSec16 (boot sector, byte 19) is 564. It should be 0: backup and volume agree.
        exact: set BPB_TotSec16 (boot sector, byte 19) from 564 to 0
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "media byte 00",
        &expect![[r#"
            fat/bpb-media at 21+1
              the media byte is wrong: BPB_Media is 0x00, should be 0xf8. BPB_Media (boot sector, byte 21) is 0x00. It should be 0xf8: entry 0 of the tables has it.
            fat/backup-differs at 3093+1
              the backup boot sector differs in 1 byte. The first difference is at byte 21 of the sector. It should be a copy of the boot sector. Restoring it would bring a wrong value back.
            derived: set BPB_Media (boot sector, byte 21) from 0x00 to 0xf8
              entry 0 of the tables has it
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "media byte FF instead of F8",
        &expect![[r#"
        fat/bpb-media at 21+1
          the media byte is wrong: BPB_Media is 0xff, should be 0xf8. BPB_Media (boot sector, byte 21) is 0xff. It should be 0xf8: entry 0 of the tables has it.
        exact: set BPB_Media (boot sector, byte 21) from 0xff to 0xf8
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "table size 0",
        &expect![[r#"
            fat/bpb-table-size at 36+4
              the size of the allocation table is wrong: BPB_FATSz32 is 0, should be 13. BPB_FATSz32 (boot sector, byte 36) is 0. It should be 13: computed from the volume.
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            derived: set BPB_FATSz32 (boot sector, byte 36) from 0 to 13
              computed from the volume
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "table size one too many",
        &expect![[r#"
        fat/bpb-table-size at 36+4
          the size of the allocation table is wrong: BPB_FATSz32 is 14, should be 13. BPB_FATSz32 (boot sector, byte 36) is 14. It should be 13: backup and volume agree.
        exact: set BPB_FATSz32 (boot sector, byte 36) from 14 to 13
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "short table size set on FAT32",
        &expect![[r#"
        fat/bpb-table-size at 22+2
          the size of the allocation table is wrong: BPB_FATSz16 is 9, should be 0. BPB_FATSz16 (boot sector, byte 22) is 9. It should be 0: FAT32 has it further behind.
        exact: set BPB_FATSz16 (boot sector, byte 22) from 9 to 0
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "root cluster 0",
        &expect![[r#"
            fat/bpb-root-cluster at 44+4
              the root folder's first cluster is wrong: BPB_RootClus is 0, should be 2. BPB_RootClus (boot sector, byte 44) is 0. It should be 2: computed from the volume.
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            derived: set BPB_RootClus (boot sector, byte 44) from 0 to 2
              computed from the volume
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root cluster out of range",
        &expect![[r#"
        fat/bpb-root-cluster at 44+4
          the root folder's first cluster is wrong: BPB_RootClus is 15658734, should be 2. BPB_RootClus (boot sector, byte 44) is 15658734. It should be 2: backup and volume agree.
        exact: set BPB_RootClus (boot sector, byte 44) from 15658734 to 2
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "root cluster is a subfolder's",
        &expect![[r#"
            fat/bpb-root-cluster at 44+4
              the root folder's first cluster is wrong: BPB_RootClus is 6, should be 2. BPB_RootClus (boot sector, byte 44) is 6. It should be 2: computed from the volume.
            fat/backup-differs at 3116+1
              the backup boot sector differs in 1 byte. The first difference is at byte 44 of the sector. It should be a copy of the boot sector. Restoring it would bring a wrong value back.
            derived: set BPB_RootClus (boot sector, byte 44) from 6 to 2
              computed from the volume
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "mirroring names a table that is not there",
        &expect![[r#"
        fat/bpb-mirror-flags at 40+2
          the table mirroring flags mean nothing: BPB_ExtFlags is 0x0085, should be 0x0000. BPB_ExtFlags (boot sector, byte 40) is 0x0085. It should be 0x0000: from the backup.
        exact: set BPB_ExtFlags (boot sector, byte 40) from 0x0085 to 0x0000
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "version 1",
        &expect![[r#"
        fat/bpb-version at 42+2
          the file system version is not 0.0: BPB_FSVer is 0x0001, should be 0x0000. BPB_FSVer (boot sector, byte 42) is 0x0001. It should be 0x0000: only 0.0 was published.
        exact: set BPB_FSVer (boot sector, byte 42) from 0x0001 to 0x0000
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "FSInfo sector number FFFF",
        &expect![[r#"
        fat/bpb-fsinfo-place at 48+2
          the FSInfo sector is not where the boot sector says: BPB_FSInfo is 65535, should be 1. BPB_FSInfo (boot sector, byte 48) is 65535. It should be 1: the signatures are there.
        exact: set BPB_FSInfo (boot sector, byte 48) from 65535 to 1
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "backup sector number FFFF",
        &expect![[r#"
        fat/bpb-backup-place at 50+2
          the backup boot sector is not where the boot sector says: BPB_BkBootSec is 65535, should be 6. BPB_BkBootSec (boot sector, byte 50) is 65535. It should be 6: the backup stands there.
        exact: set BPB_BkBootSec (boot sector, byte 50) from 65535 to 6
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "reserved bytes not zero",
        &expect![[r#"
        fat/boot-reserved-bytes at 52+12
          reserved bytes of the boot sector are not zero: BPB_Reserved is 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A, should be 00 00 00 00 00 00 00 00 00 00 00 00. BPB_Reserved (boot sector, byte 52) is 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A. It should be 00 00 00 00 00 00 00 00 00 00 00 00: must be zero.
        exact: set BPB_Reserved (boot sector, byte 52) from 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A 5A to 00 00 00 00 00 00 00 00 00 00 00 00
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "type text wrong",
        &expect![[r#"
        fat/boot-type-text at 82+8
          the type text of the boot sector is wrong: BS_FilSysType is "HPFS", should be "FAT32". BS_FilSysType (boot sector, byte 82) is "HPFS". It should be "FAT32": from the backup.
        exact: set BS_FilSysType (boot sector, byte 82) from "HPFS" to "FAT32"
          the backup boot sector
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "backup zeroed",
        &expect![[r#"
            fat/backup-missing at 3072+512
              there is no backup boot sector at byte 3072. The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy of the boot sector there. If sector 0 is lost, the geometry has to be computed.
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "backup drifted",
        &expect![[r#"
            fat/backup-differs at 3096+1 3097+1
              the backup boot sector differs in 2 bytes. The first difference is at byte 24 of the sector. It should be a copy of the boot sector. Restoring it would bring a wrong value back.
            exact: write the backup boot sector at byte 3072 of the volume as a copy of sector 0
              the boot sector, as it stands after the steps before
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "FSInfo signature lost",
        &expect![[r#"
        fat/fsinfo-signature at 512+4
          the FSInfo sector has lost a signature. The signature at byte 0 of the FSInfo sector is not there. 52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its counts for unknown.
        derived: write the FSInfo sector: 1573 free clusters
          counted in the table
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "FSInfo second signature lost",
        &expect![[r#"
        fat/fsinfo-signature at 996+4
          the FSInfo sector has lost a signature. The signature at byte 484 of the FSInfo sector is not there. 52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its counts for unknown.
        derived: write the FSInfo sector: 1573 free clusters
          counted in the table
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "FSInfo zeroed",
        &expect![[r#"
        fat/fsinfo-signature at 512+4
          the FSInfo sector has lost a signature. The signature at byte 0 of the FSInfo sector is not there. 52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its counts for unknown.
        fat/fsinfo-signature at 996+4
          the FSInfo sector has lost a signature. The signature at byte 484 of the FSInfo sector is not there. 52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its counts for unknown.
        fat/fsinfo-signature at 1020+4
          the FSInfo sector has lost a signature. The signature at byte 508 of the FSInfo sector is not there. 52 52 61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its counts for unknown.
        derived: write the FSInfo sector: 1573 free clusters
          counted in the table
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "free count wrong",
        &expect![[r#"
        fat/fsinfo-free-count at 1000+4
          the free count is 77, counted are 1573. FSInfo gives 77 free clusters. The table has 1573. Hosts show a wrong amount of free space.
        derived: write the FSInfo sector: 1573 free clusters
          counted in the table
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "free count huge",
        &expect![[r#"
        fat/fsinfo-free-count at 1000+4
          the free count is 4294967280, counted are 1573. FSInfo gives 4294967280 free clusters. The table has 1573. Hosts show a wrong amount of free space.
        derived: write the FSInfo sector: 1573 free clusters
          counted in the table
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "next free out of range",
        &expect![[r#"
        fat/fsinfo-next-free at 1004+4
          the next free cluster is given as 250539758. FSInfo names cluster 250539758. The volume has clusters 2 to 1643.
        derived: write the FSInfo sector: 1573 free clusters
          counted in the table
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "media byte of the table is another one",
        &expect![[r#"
        fat/media-entry at 16384+4
          entry 0 of the table does not repeat the media byte (copy 0). Entry 0 of copy 0 is 0xffffff0. It should be 0xffffff8.
        fat/media-entry at 23040+4
          entry 0 of the table does not repeat the media byte (copy 1). Entry 0 of copy 1 is 0xffffff0. It should be 0xffffff8.
        derived: set entries 0 and 1 of the table
          the media byte of the boot sector; the end mark
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "media byte of the table is none",
        &expect![[r#"
        fat/media-entry at 16384+4
          entry 0 of the table does not repeat the media byte (copy 0). Entry 0 of copy 0 is 0xfffff12. It should be 0xffffff8.
        fat/media-entry at 23040+4
          entry 0 of the table does not repeat the media byte (copy 1). Entry 0 of copy 1 is 0xfffff12. It should be 0xffffff8.
        derived: set entries 0 and 1 of the table
          the media byte of the boot sector; the end mark
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "entry 1 is no end mark",
        &expect![[r#"
        fat/end-entry at 16388+4
          entry 1 of the table is not an end mark (copy 0). Entry 1 of copy 0 is 0x5. It should be 0xfffffff.
        fat/end-entry at 23044+4
          entry 1 of the table is not an end mark (copy 1). Entry 1 of copy 1 is 0x5. It should be 0xfffffff.
        derived: set entries 0 and 1 of the table
          the media byte of the boot sector; the end mark
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "not closed, in the boot sector",
        &expect![[r#"
        fat/not-closed at 65+1
          the boot sector says that the volume was not closed. Bit 0 of the state flags (byte 65) is set. A host clears it when it closes the volume. What was written last may be incomplete.
        derived: mark the volume as properly closed
          nothing else is wrong any more
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "errors met, in the boot sector",
        &expect![[r#"
        fat/errors-met at 65+1
          the boot sector says that errors were met. Bit 1 of the state flags (byte 65) is set. It is clear on a sound medium. A host could not read or write some place of the medium.
        derived: mark the volume as properly closed
          nothing else is wrong any more
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "not closed, in the table",
        &expect![[r#"
        fat/not-closed at 16388+4
          the table says that the volume was not closed. Entry 1 is 0x7ffffff: its "closed properly" bit is clear. A host sets it when it closes the volume. What was written last may be incomplete.
        derived: mark the volume as properly closed
          nothing else is wrong any more
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "errors met, in the table",
        &expect![[r#"
        fat/errors-met at 16388+4
          the table says that errors were met. Entry 1 is 0xbffffff: its "no errors" bit is clear. It is set on a sound medium. A host could not read or write some place of the medium.
        derived: mark the volume as properly closed
          nothing else is wrong any more
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "image cut short",
        &expect![[r#"
        fat/volume-beyond-image at 839168+31232
          the volume has 870400 bytes, the image 839168. The volume is 31232 bytes longer than the image. The image should hold the whole volume. What lies in the missing part cannot be had from this image.
        judged: set the number of sectors from 1700 to 1639
          the length of the image
        derived: write the FSInfo sector: 1512 free clusters
          counted in the table
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
}

#[test]
fn the_tables() {
    says(
        "one entry differs in copy 0",
        &expect![[r#"
        fat/copies-differ at 16420+4 23076+4
          the copies of the allocation table differ at cluster 9. The copies of the table say different things about cluster 9. All copies should be alike. Which one is right is decided chain by chain.
        exact: make all copies of the table alike in 1 entry
          for each chain the copy with which it fits its file's size or its folder's content
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "one entry differs in copy 1",
        &expect![[r#"
        fat/copies-differ at 16532+4 23188+4
          the copies of the allocation table differ at cluster 37. The copies of the table say different things about cluster 37. All copies should be alike. Which one is right is decided chain by chain.
        exact: make all copies of the table alike in 1 entry
          for each chain the copy with which it fits its file's size or its folder's content
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "copy 0 leads one chain into another",
        &expect![[r#"
        fat/copies-differ at 16420+4 23076+4
          the copies of the allocation table differ at cluster 9. The copies of the table say different things about cluster 9. All copies should be alike. Which one is right is decided chain by chain.
        exact: make all copies of the table alike in 1 entry
          for each chain the copy with which it fits its file's size or its folder's content
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "each copy wrong about another file",
        &expect![[r#"
        fat/copies-differ at 16416+100 23072+100
          the copies of the allocation table differ at clusters 8 to 32. The copies of the table say different things about clusters 8 to 32. All copies should be alike. Which one is right is decided chain by chain.
        exact: make all copies of the table alike in 11 entries
          for each chain the copy with which it fits its file's size or its folder's content
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a sector of copy 0 zeroed",
        &expect![[r#"
        fat/copies-differ at 16396+300 23052+300
          the copies of the allocation table differ at clusters 3 to 77. The copies of the table say different things about clusters 3 to 77. All copies should be alike. Which one is right is decided chain by chain.
        exact: make all copies of the table alike in 68 entries
          for each chain the copy with which it fits its file's size or its folder's content
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a sector of copy 1 zeroed",
        &expect![[r#"
        fat/copies-differ at 16396+300 23052+300
          the copies of the allocation table differ at clusters 3 to 77. The copies of the table say different things about clusters 3 to 77. All copies should be alike. Which one is right is decided chain by chain.
        exact: make all copies of the table alike in 68 entries
          for each chain the copy with which it fits its file's size or its folder's content
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a sector of copy 0 overwritten with noise",
        &expect![[r#"
            fat/copies-differ at 16396+500 23052+500
              the copies of the allocation table differ at clusters 3 to 127. The copies of the table say different things about clusters 3 to 127. All copies should be alike. Which one is right is decided chain by chain.
            exact: make all copies of the table alike in 125 entries
              for each chain the copy with which it fits its file's size or its folder's content
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a sector of copy 1 overwritten with noise",
        &expect![[r#"
        fat/copies-differ at 16396+500 23052+500
          the copies of the allocation table differ at clusters 3 to 127. The copies of the table say different things about clusters 3 to 127. All copies should be alike. Which one is right is decided chain by chain.
        exact: make all copies of the table alike in 125 entries
          for each chain the copy with which it fits its file's size or its folder's content
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a sector of copy 0 overwritten with text",
        &expect![[r#"
            fat/copies-differ at 16396+500 23052+500
              the copies of the allocation table differ at clusters 3 to 127. The copies of the table say different things about clusters 3 to 127. All copies should be alike. Which one is right is decided chain by chain.
            exact: make all copies of the table alike in 125 entries
              for each chain the copy with which it fits its file's size or its folder's content
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a sector of copy 0 all FF",
        &expect![[r#"
        fat/copies-differ at 16416+480 23072+480
          the copies of the allocation table differ at clusters 8 to 127. The copies of the table say different things about clusters 8 to 127. All copies should be alike. Which one is right is decided chain by chain.
        exact: make all copies of the table alike in 86 entries
          for each chain the copy with which it fits its file's size or its folder's content
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "copy 0 erased to FF whole",
        &expect![[r#"
        fat/copies-differ at 16416+6544 23072+6544
          the copies of the allocation table differ at clusters 8 to 1643. The copies of the table say different things about clusters 8 to 1643. All copies should be alike. Which one is right is decided chain by chain.
        fat/media-entry at 16384+4
          entry 0 of the table does not repeat the media byte (copy 0). Entry 0 of copy 0 is 0xfffffff. It should be 0xffffff8.
        exact: make all copies of the table alike in 1602 entries
          for each chain the copy with which it fits its file's size or its folder's content
        derived: set entries 0 and 1 of the table
          the media byte of the boot sector; the end mark
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "copy 0 zeroed whole",
        &expect![[r#"
        fat/copies-differ at 16392+304 23048+304
          the copies of the allocation table differ at clusters 2 to 77. The copies of the table say different things about clusters 2 to 77. All copies should be alike. Which one is right is decided chain by chain.
        fat/media-entry at 16384+4
          entry 0 of the table does not repeat the media byte (copy 0). Entry 0 of copy 0 is 0x0. It should be 0xffffff8.
        fat/end-entry at 16388+4
          entry 1 of the table is not an end mark (copy 0). Entry 1 of copy 0 is 0x0. It should be 0xfffffff.
        exact: make all copies of the table alike in 69 entries
          for each chain the copy with which it fits its file's size or its folder's content
        derived: set entries 0 and 1 of the table
          the media byte of the boot sector; the end mark
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "copy 1 zeroed whole",
        &expect![[r#"
        fat/copies-differ at 16392+304 23048+304
          the copies of the allocation table differ at clusters 2 to 77. The copies of the table say different things about clusters 2 to 77. All copies should be alike. Which one is right is decided chain by chain.
        fat/media-entry at 23040+4
          entry 0 of the table does not repeat the media byte (copy 1). Entry 0 of copy 1 is 0x0. It should be 0xffffff8.
        fat/end-entry at 23044+4
          entry 1 of the table is not an end mark (copy 1). Entry 1 of copy 1 is 0x0. It should be 0xfffffff.
        exact: make all copies of the table alike in 69 entries
          for each chain the copy with which it fits its file's size or its folder's content
        derived: set entries 0 and 1 of the table
          the media byte of the boot sector; the end mark
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "copy 0 overwritten whole with noise",
        &expect![[r#"
        fat/copies-differ at 16392+6568 23048+6568
          the copies of the allocation table differ at clusters 2 to 1643. The copies of the table say different things about clusters 2 to 1643. All copies should be alike. Which one is right is decided chain by chain.
        fat/media-entry at 16384+4
          entry 0 of the table does not repeat the media byte (copy 0). Entry 0 of copy 0 is 0xb018fed. It should be 0xffffff8.
        fat/end-entry at 16388+4
          entry 1 of the table is not an end mark (copy 0). Entry 1 of copy 0 is 0xd0b14e4. It should be 0xfffffff.
        exact: make all copies of the table alike in 1642 entries
          for each chain the copy with which it fits its file's size or its folder's content
        derived: set entries 0 and 1 of the table
          the media byte of the boot sector; the end mark
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a sector zeroed in both copies",
        &expect![[r#"
            fat/first-cluster-free at 16396+4 23052+4
              README.TXT: an entry begins in a free cluster. Cluster 3 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. All of its content is known.
            fat/chain-into-free at 16400+4 23056+4
              Logs: a chain runs into a free cluster. Cluster 4 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            fat/chain-into-free at 16404+4 23060+4
              Logs/2026: a chain runs into a free cluster. Cluster 5 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            fat/chain-into-free at 16408+4 23064+4
              Pictures: a chain runs into a free cluster. Cluster 6 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            derived: end 39 chains where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            judged: write 29 table entries that no copy has
              chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
            35 of 35 files are whole after the repair, 9 rest on judgement and should be opened before they are handed out; the volume is sound.
        "#]],
    );
    says(
        "both copies zeroed whole",
        &expect![[r#"
            fat/chain-into-free at 16392+4 23048+4
              /: a chain runs into a free cluster. Cluster 2 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            fat/chain-into-free at 16400+4 23056+4
              Logs: a chain runs into a free cluster. Cluster 4 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            fat/chain-into-free at 16404+4 23060+4
              Logs/2026: a chain runs into a free cluster. Cluster 5 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            fat/chain-into-free at 16408+4 23064+4
              Pictures: a chain runs into a free cluster. Cluster 6 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            derived: end 40 chains where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            judged: write 29 table entries that no copy has
              chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
            derived: set entries 0 and 1 of the table
              the media byte of the boot sector; the end mark
            35 of 35 files are whole after the repair, 9 rest on judgement and should be opened before they are handed out; the volume is sound.
        "#]],
    );
    says(
        "both copies and the root folder zeroed",
        &expect![[r#"
        fat/chain-into-free at 16392+4 23048+4
          /: a chain runs into a free cluster. Cluster 2 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. It names nothing: no entry stands in it.
        fat/chain-into-free at 16400+4 23056+4
          lost folder 4: a chain runs into a free cluster. Cluster 4 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
        fat/chain-into-free at 16404+4 23060+4
          lost folder 4/2026: a chain runs into a free cluster. Cluster 5 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
        fat/chain-into-free at 16408+4 23064+4
          lost folder 6: a chain runs into a free cluster. Cluster 6 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
        judged: end 38 chains where the size or the folder's own end mark says
          sizes in the folder entries, end marks in the folders
        judged: write 27 table entries that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        derived: give lost folder 4 an entry in the root folder, as ADRF0004
          its "." names its own cluster, its ".." the folder it lay in; its name is lost
        derived: give lost folder 6 an entry in the root folder, as ADRF0006
          its "." names its own cluster, its ".." the folder it lay in; its name is lost
        33 of 33 files are whole after the repair, 8 rest on judgement and should be opened before they are handed out; the volume is sound.
    "#]],
    );
    let (all, first) = (
        "both copies and the root folder zeroed",
        "the first sectors of both copies and of the root folder zeroed",
    );
    assert_eq!(told(all), told(first), "they say the same");
    says(
        "one chain zeroed in both copies",
        &expect![[r#"
            fat/first-cluster-free at 16492+4 23148+4
              Pictures/IMG_0004.PNG: an entry begins in a free cluster. Cluster 27 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that fit and belong to nothing else.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            judged: write 5 table entries that no copy has
              chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
            35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "a one-cluster file zeroed in both copies",
        &expect![[r#"
            fat/first-cluster-free at 16396+4 23052+4
              README.TXT: an entry begins in a free cluster. Cluster 3 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. All of its content is known.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
}

#[test]
fn chains() {
    says(
        "chain into a free cluster",
        &expect![[r#"
        fat/chain-into-free at 16424+4 23080+4
          Logs/station.log: a chain runs into a free cluster. Cluster 10 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that fit and belong to nothing else.
        judged: write 1 table entry that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain leads to an unused cluster",
        &expect![[r#"
        fat/chain-into-free at 16852+4 23508+4
          Logs/station.log: a chain runs into a free cluster. Cluster 117 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that fit and belong to nothing else.
        judged: write 1 table entry that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain into a cluster marked bad",
        &expect![[r#"
        fat/chain-into-bad at 16424+4 23080+4
          Logs/station.log: a chain runs into a cluster marked bad. Cluster 10 belongs to the chain, but the table marks it bad. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that fit and belong to nothing else.
        judged: write 1 table entry that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain out of range",
        &expect![[r#"
        fat/chain-out-of-range at 16424+4 23080+4
          Logs/station.log: a chain runs out of the volume. The table entry of cluster 10 holds 0x674, which is no cluster of this volume. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that fit and belong to nothing else.
        judged: write 1 table entry that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain into the reserved value 1",
        &expect![[r#"
        fat/chain-out-of-range at 16424+4 23080+4
          Logs/station.log: a chain runs out of the volume. The table entry of cluster 10 holds 0x1, which is no cluster of this volume. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that fit and belong to nothing else.
        judged: write 1 table entry that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain runs into itself",
        &expect![[r#"
        fat/chain-loop at 16424+4 23080+4
          Logs/station.log: a chain runs into itself. The table entry of cluster 10 leads back to cluster 8 of the same chain. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that fit and belong to nothing else.
        judged: write 1 table entry that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "last cluster leads back",
        &expect![[r#"
            fat/chain-loop at 16432+4 23088+4
              Logs/station.log: a chain runs into itself. The table entry of cluster 12 leads back to cluster 9 of the same chain. It should name the next cluster, or end the chain. All of its content is known.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "chain into another's",
        &expect![[r#"
        fat/cross-linked at 16420+4
          Logs/station.log: shares clusters with another chain. Its chain, as the table has it, runs into another's. A cluster belongs to one file. The rest was found by judgement: clusters that fit and belong to nothing else.
        judged: write 1 table entry that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "two entries name the same cluster",
        &expect![[r#"
        fat/first-cluster-wrong at 30042+2 30036+2
          ledges.csv: begins at cluster 27, its content at 75. The entry names cluster 27. What fits it exactly, and belongs to nothing else, begins at cluster 75. Its content was found elsewhere.
        judged: ledges.csv: set the first cluster to 75
          a chain that nothing claimed, of exactly the length or with the ".." that this entry needs
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain ended early",
        &expect![[r#"
        fat/chain-too-short at 16424+4 23080+4
          Logs/station.log: a file has fewer clusters than its size needs. The chain ends at cluster 10, before the size is reached. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that fit and belong to nothing else.
        judged: write 1 table entry that no copy has
          chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "size larger than the chain",
        &expect![[r#"
        fat/chain-too-short at 31996+4
          Pictures/IMG_0004.PNG: a file has fewer clusters than its size needs. The entry gives 13142 bytes, that is 26 clusters. Its chain has 6 clusters, room for 3072 bytes. What is missing cannot be read.
        derived: Pictures/IMG_0004.PNG: set the size from 13142 to 3072
          the length of its chain
        34 of 35 files are whole after the repair, 1 loses its end; the volume is sound.
    "#]],
    );
    says(
        "size smaller than the chain",
        &expect![[r#"
        fat/chain-too-long at 31996+4
          Pictures/IMG_0004.PNG: a file has more clusters than its size needs. The entry gives 10 bytes, that is 1 cluster. Its chain has 6 clusters, room for 3072 bytes. Either the size is too small, or clusters were not given back.
        judged: Pictures/IMG_0004.PNG: free 5 clusters behind its end
          the size in its entry
        derived: write the FSInfo sector: 1578 free clusters
          counted in the table
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "size of a picture smaller than its chain",
        &expect![[r#"
        fat/size-wrong at 31868+4
          Pictures/Nest 12.png: a file's size is not where its content ends. The entry gives 10 bytes. Its chain has 2 clusters. By its own structure its content ends at byte 877, in the last of these.
        judged: Pictures/Nest 12.png: set the size from 10 to 877
          its content ends there by its own structure, in the last cluster of its chain
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "size of a picture larger than its chain",
        &expect![[r#"
        fat/size-wrong at 31868+4
          Pictures/Nest 12.png: a file's size is not where its content ends. The entry gives 11117 bytes. Its chain has 2 clusters. By its own structure its content ends at byte 877, in the last of these.
        judged: Pictures/Nest 12.png: set the size from 11117 to 877
          its content ends there by its own structure, in the last cluster of its chain
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "size lost",
        &expect![[r#"
        fat/size-missing at 31996+4
          Pictures/IMG_0004.PNG: a file of size 0 has clusters. The entry gives 0 bytes, that is 0 clusters. Its chain has 6 clusters, room for 3072 bytes. Hosts show an empty file.
        judged: Pictures/IMG_0004.PNG: set the size from 0 to 3072
          the length of its chain
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "a bit of a size tipped over",
        &expect![[r#"
            fat/chain-too-short at 31996+4
              Pictures/IMG_0004.PNG: a file has fewer clusters than its size needs. The entry gives 2100054 bytes, that is 4102 clusters. Its chain has 6 clusters, room for 3072 bytes. What is missing cannot be read.
            judged: Pictures/IMG_0004.PNG: set the size from 2100054 to 2902
              the length of its chain, which the size has but for one bit or its highest byte
            34 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 loses its end; the volume is sound.
        "#]],
    );
    says(
        "first cluster 0",
        &expect![[r#"
        fat/first-cluster-missing at 31994+2 31988+2
          Pictures/IMG_0004.PNG: a file with a size has no first cluster. The entry gives no first cluster. Its content was found elsewhere.
        judged: Pictures/IMG_0004.PNG: set the first cluster to 27
          a chain that nothing claimed, of exactly the length or with the ".." that this entry needs
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "first cluster out of range",
        &expect![[r#"
        fat/first-cluster-out-of-range at 31994+2 31988+2
          Pictures/IMG_0004.PNG: an entry begins outside the volume. The entry's first cluster is none of this volume's. Its content was found elsewhere.
        judged: Pictures/IMG_0004.PNG: set the first cluster to 27
          a chain that nothing claimed, of exactly the length or with the ".." that this entry needs
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "first cluster is an unused one",
        &expect![[r#"
        fat/first-cluster-free at 16856+4 23512+4
          Pictures/IMG_0004.PNG: an entry begins in a free cluster. Cluster 118 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its content was found elsewhere.
        judged: Pictures/IMG_0004.PNG: set the first cluster to 27
          a chain that nothing claimed, of exactly the length or with the ".." that this entry needs
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "folder's first cluster 0",
        &expect![[r#"
        fat/first-cluster-missing at 32058+2 32052+2
          Pictures/Thumbs: a file with a size has no first cluster. The entry gives no first cluster. Its content was found elsewhere.
        judged: Pictures/Thumbs: set the first cluster to 46
          a chain that nothing claimed, of exactly the length or with the ".." that this entry needs
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "folder's first cluster out of range",
        &expect![[r#"
        fat/first-cluster-out-of-range at 32058+2 32052+2
          Pictures/Thumbs: an entry begins outside the volume. The entry's first cluster is none of this volume's. Its content was found elsewhere.
        judged: Pictures/Thumbs: set the first cluster to 46
          a chain that nothing claimed, of exactly the length or with the ".." that this entry needs
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "folder's first cluster is a file's",
        &expect![[r#"
        fat/first-cluster-wrong at 32058+2 32052+2
          Pictures/Thumbs: begins at cluster 3, its content at 46. The entry names cluster 3. What fits it exactly, and belongs to nothing else, begins at cluster 46. Its content was found elsewhere.
        judged: Pictures/Thumbs: set the first cluster to 46
          a chain that nothing claimed, of exactly the length or with the ".." that this entry needs
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "folder's first cluster zeroed",
        &expect![[r#"
            fat/not-a-folder at 31232+512
              Logs/2026: a folder's first cluster holds no folder. What the entry calls a folder does not begin as one. Its entries end there.
            fat/lost-chain at 16436+4
              4 clusters from 13 on belong to no file. The table has a chain of 4 clusters from cluster 13 on. Each chain belongs to a file or folder. It may be what is left of a missing file.
            fat/lost-chain at 16440+4
              3 clusters from 14 on belong to no file. The table has a chain of 3 clusters from cluster 14 on. Each chain belongs to a file or folder. It may be what is left of a missing file.
            fat/dot-entry at 31232+32
              folder Logs/2026: "." is missing. "." is missing. It should be the first entry and name cluster 5.
            derived: folder Logs/2026: let "." name cluster 5
              the folder's own first cluster
            derived: folder Logs/2026: let ".." name cluster 4
              the folder above
            judged: keep 2 lost chains as files in the folder ADRIFT
              the table has them in use, and no file claims them; names are not known, exact sizes where the content tells
            derived: write the FSInfo sector: 1572 free clusters
              counted in the table
            32 of 34 files are whole after the repair, 2 rest on judgement and should be opened before they are handed out, 2 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "folder's chain runs into itself",
        &expect![[r#"
            fat/chain-loop at 16408+4 23064+4
              Pictures: a chain runs into itself. The table entry of cluster 6 leads back to cluster 6 of the same chain. It should name the next cluster, or end the chain. Its entries end there.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "folder's chain into a free cluster",
        &expect![[r#"
            fat/chain-into-free at 16852+4 23508+4
              Pictures/Thumbs: a chain runs into a free cluster. Cluster 117 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "folder's chain lost over an imager's text",
        &expect![[r#"
            fat/chain-into-free at 16568+4 23224+4
              Pictures/Thumbs: a chain runs into a free cluster. Cluster 46 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. A part of it is missing; what goes on behind the fault was found by judgement.
            fat/fsinfo-free-count at 1000+4
              the free count is 1573, counted are 1574. FSInfo gives 1573 free clusters. The table has 1574. Hosts show a wrong amount of free space.
            fat/lost-chain at 16588+4
              1 cluster from 51 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 51 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            fat/lost-chain at 16596+4
              1 cluster from 53 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 53 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            judged: write 1 table entry that no copy has
              chains that nothing claimed and that fit the missing length, else the clusters that follow and belong to nothing else, else the end of what is left
            judged: keep 6 lost chains as files in the folder ADRIFT
              the table has them in use, and no file claims them; names are not known, exact sizes where the content tells
            derived: folder Pictures/Thumbs: mark 2 entries free
              no short entry follows that they belong to
            29 of 35 files are whole after the repair, 7 rest on judgement and should be opened before they are handed out, 6 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "folder's cluster is free in the table",
        &expect![[r#"
            fat/chain-into-free at 16408+4 23064+4
              Pictures: a chain runs into a free cluster. Cluster 6 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "lost chain",
        &expect![[r#"
            fat/lost-chain at 16492+4
              6 clusters from 27 on belong to no file, and begin like a png file. The table has a chain of 6 clusters from cluster 27 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            judged: keep 1 lost chain as a file in the folder ADRIFT
              the table has them in use, and no file claims them; names are not known, exact sizes where the content tells
            derived: write the FSInfo sector: 1572 free clusters
              counted in the table
            34 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 is kept without its name or folder; the volume is sound.
        "#]],
    );
    says(
        "lost chain, to be freed",
        &expect![[r#"
            fat/lost-chain at 16492+4
              6 clusters from 27 on belong to no file, and begin like a png file. The table has a chain of 6 clusters from cluster 27 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            judged: free 1 lost chain
              they belong to no file
            derived: write the FSInfo sector: 1579 free clusters
              counted in the table
            34 of 35 files are whole after the repair, 1 is lost; the volume is sound.
        "#]],
    );
    says(
        "lost folder",
        &expect![[r#"
            fat/lost-folder at 52224+64
              the folder at cluster 46 has no entry. Cluster 46 begins a folder that names it; no entry does. Each folder has an entry in the folder above it. Its files are out of reach.
            derived: give Pictures/lost folder 46 an entry in folder Pictures, as ADRF0046
              its "." names its own cluster, its ".." the folder it lay in; its name is lost
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root chain into a free cluster",
        &expect![[r#"
            fat/chain-into-free at 16392+4 23048+4
              /: a chain runs into a free cluster. Cluster 2 belongs to the chain, but the table calls it free. It should name the next cluster, or end the chain. Its entries end there.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root chain runs into itself",
        &expect![[r#"
            fat/chain-loop at 16392+4 23048+4
              /: a chain runs into itself. The table entry of cluster 2 leads back to cluster 2 of the same chain. It should name the next cluster, or end the chain. Its entries end there.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root chain out of range",
        &expect![[r#"
            fat/chain-out-of-range at 16392+4 23048+4
              /: a chain runs out of the volume. The table entry of cluster 2 holds 0x5555555, which is no cluster of this volume. It should name the next cluster, or end the chain. Its entries end there.
            derived: end 1 chain where the size or the folder's own end mark says
              sizes in the folder entries, end marks in the folders
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "chain into another's, to be cut",
        &expect![[r#"
        fat/cross-linked at 16420+4 43520+512 44032+512
          Logs/station.log: shares clusters with another chain. 4 of its clusters belong to another chain as well, the first is 29. A cluster belongs to one file. At most one of the files that share clusters is right there.
        fat/cross-linked at 16496+4 43520+512 44032+512
          Pictures/IMG_0004.PNG: shares clusters with another chain. 4 of its clusters belong to another chain as well, the first is 29. A cluster belongs to one file. At most one of the files that share clusters is right there.
        fat/fsinfo-free-count at 1000+4
          the free count is 1573, counted are 1576. FSInfo gives 1573 free clusters. The table has 1576. Hosts show a wrong amount of free space.
        judged: Logs/station.log: end it before the shared clusters, at 1024 bytes
          the other file's size fits the shared clusters, or it comes first
        derived: write the FSInfo sector: 1576 free clusters
          counted in the table
        34 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 loses its end; the volume is sound.
    "#]],
    );
    says(
        "chain into another's, its own end lost",
        &expect![[r#"
        fat/cross-linked at 16420+4 43520+512 44032+512
          Logs/station.log: shares clusters with another chain. 4 of its clusters belong to another chain as well, the first is 29. A cluster belongs to one file. At most one of the files that share clusters is right there.
        fat/cross-linked at 16496+4 43520+512 44032+512
          Pictures/IMG_0004.PNG: shares clusters with another chain. 4 of its clusters belong to another chain as well, the first is 29. A cluster belongs to one file. At most one of the files that share clusters is right there.
        fat/fsinfo-free-count at 1000+4
          the free count is 1573, counted are 1576. FSInfo gives 1573 free clusters. The table has 1576. Hosts show a wrong amount of free space.
        judged: Logs/station.log: give it its own copy of 3 shared clusters
          the shared clusters as they stand; in at most one of the files they are right
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
}

#[test]
fn folders_and_their_entries() {
    says(
        "\".\" names another cluster",
        &expect![[r#"
        fat/dot-entry at 30720+32
          folder Logs: "." names cluster 99. "." names cluster 99. It should be the first entry and name cluster 4.
        derived: folder Logs: let "." name cluster 4
          the folder's own first cluster
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "\"..\" names another cluster",
        &expect![[r#"
        fat/dot-dot-entry at 31264+32
          folder Logs/2026: ".." names cluster 99. ".." names cluster 99. It should be the second entry and name cluster 4.
        derived: folder Logs/2026: let ".." name cluster 4
          the folder above
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "\"..\" of a folder in the root does not name 0",
        &expect![[r#"
        fat/dot-dot-entry at 30752+32
          folder Logs: ".." names cluster 2. ".." names cluster 2. It should be the second entry and name cluster 0.
        derived: folder Logs: let ".." name cluster 0
          the folder above
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "\".\" and \"..\" zeroed",
        &expect![[r#"
            fat/end-mark-early at 52224+1
              folder Pictures/Thumbs: an end mark hides 24 entries. Entry 0 of folder Pictures/Thumbs is an end mark. Whole entries follow it, with chains that fit and belong to nothing else. Hosts that stop at the mark do not show them.
            fat/dot-entry at 52224+32
              folder Pictures/Thumbs: "." is missing. "." is missing. It should be the first entry and name cluster 46.
            fat/dot-dot-entry at 52256+32
              folder Pictures/Thumbs: ".." is missing. ".." is missing. It should be the second entry and name cluster 6.
            derived: folder Pictures/Thumbs: make the end mark at entry 0 a free entry
              the entries behind it have chains that fit and belong to nothing else
            derived: folder Pictures/Thumbs: let "." name cluster 46
              the folder's own first cluster
            derived: folder Pictures/Thumbs: let ".." name cluster 6
              the folder above
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "\".\" and \"..\" overwritten",
        &expect![[r#"
        fat/junk-entry at 52224+32 52256+32
          folder Pictures/Thumbs: a folder holds entries that no host wrote (2 entries). 2 entries of folder Pictures/Thumbs are of this kind.
        fat/dot-entry at 52224+32
          folder Pictures/Thumbs: "." is missing. "." is missing. It should be the first entry and name cluster 46.
        fat/dot-dot-entry at 52256+32
          folder Pictures/Thumbs: ".." is missing. ".." is missing. It should be the second entry and name cluster 6.
        derived: folder Pictures/Thumbs: let "." name cluster 46
          the folder's own first cluster
        derived: folder Pictures/Thumbs: let ".." name cluster 6
          the folder above
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "\".\" in the middle of a folder",
        &expect![[r#"
        fat/stray-dots at 30880+32
          folder Logs: "." or ".." stands in a wrong place (1 entry). 1 entry of folder Logs is of this kind.
        derived: folder Logs: mark 1 entry free
          only the first two entries may be "." and ".."
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a folder with a size",
        &expect![[r#"
        fat/folder-size at 29884+4
          Pictures: a folder has a size. The entry of a folder gives a size.
        derived: Pictures: set the size of the folder to 0
          a folder's size is always 0
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "garbage behind the end mark",
        &expect![[r#"
        fat/folder-tail at 30944+32
          folder Logs: 288 bytes behind its end mark are not empty. The folder ends at entry 5; something stands from entry 7 on.
        derived: folder Logs: clear what stands behind its end mark
          a folder ends at its first end mark
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "an end mark too early",
        &expect![[r#"
            fat/deleted-in-use at 31872+1
              Pictures/_MG_0002.PNG: marked deleted, but its clusters are in use. The entry's first byte says that it is free. Its chain is whole, as long as its size needs, and belongs to nothing else. Hosts do not show it.
            fat/end-mark-early at 31872+1
              folder Pictures: an end mark hides 2 entries. Entry 4 of folder Pictures is an end mark. Whole entries follow it, with chains that fit and belong to nothing else. Hosts that stop at the mark do not show them.
            judged: Pictures/_MG_0002.PNG: mark the entry as in use again, as _MG_0002.PNG
              that the delete was none is judged; the first letter of the short name is lost, and an underline stands for it
            35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "an imager's text in a folder",
        &expect![[r#"
            fat/junk-entry at 55296+32 55328+32 55360+32
              folder Pictures/Thumbs: a folder holds entries that no host wrote (16 entries). 16 entries of folder Pictures/Thumbs are of this kind.
            fat/lost-chain at 16588+4
              1 cluster from 51 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 51 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            fat/lost-chain at 16596+4
              1 cluster from 53 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 53 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            fat/lost-chain at 16600+4
              1 cluster from 54 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 54 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            judged: Pictures/Thumbs/thumbnail number 004.png: write the entry that its name has lost, for the lost chain at cluster 51, 160 bytes
              the files of its folder lie in the order of its entries: this chain is the first behind that of the file before it, and begins as its kind does
            judged: keep 5 lost chains as files in the folder ADRIFT
              the table has them in use, and no file claims them; names are not known, exact sizes where the content tells
            judged: folder Pictures/Thumbs: mark 15 entries free
              they name nothing that exists
            derived: write the FSInfo sector: 1572 free clusters
              counted in the table
            30 of 35 files are whole after the repair, 6 rest on judgement and should be opened before they are handed out, 5 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "entries that no host wrote",
        &expect![[r#"
        fat/junk-entry at 30880+32 30912+32
          folder Logs: a folder holds entries that no host wrote (2 entries). 2 entries of folder Logs are of this kind.
        judged: folder Logs: mark 2 entries free
          they name nothing that exists
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "long name numbered wrongly",
        &expect![[r#"
        fat/long-name-order at 31424+128
          Logs/2026/counts on the western ledges, second visit.csv: the parts of a long name are numbered wrongly. The parts of the long name are not numbered as they stand.
        derived: Logs/2026/counts on the western ledges, second visit.csv: write the parts of its long name again
          the place of each part and the short name
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "long name checksum wrong in one part",
        &expect![[r#"
        fat/long-name-checksum at 31424+128
          Logs/2026/counts on the western ledges, second visit.csv: a long name's checksum is wrong. Parts of the long name carry another checksum than the short name has.
        derived: Logs/2026/counts on the western ledges, second visit.csv: write the parts of its long name again
          the place of each part and the short name
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "long name checksum wrong in all parts",
        &expect![[r#"
        fat/long-name-checksum at 31424+128
          Logs/2026/counts on the western ledges, second visit.csv: a long name's checksum is wrong. Parts of the long name carry another checksum than the short name has.
        derived: Logs/2026/counts on the western ledges, second visit.csv: write the parts of its long name again
          the place of each part and the short name
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a part of a long name with attribute 143",
        &expect![[r#"
            fat/long-name-fields at 31424+128
              Logs/2026/counts on the western ledges, second visit.csv: a part of a long name is not marked as one. A part of the long name has other attributes than 15, or a value where 0 must stand.
            derived: Logs/2026/counts on the western ledges, second visit.csv: write the parts of its long name again
              the place of each part and the short name
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a part of a long name marked as a file",
        &expect![[r#"
            fat/long-name-fields at 31424+128
              Logs/2026/counts on the western ledges, second visit.csv: a part of a long name is not marked as one. A part of the long name has other attributes than 15, or a value where 0 must stand.
            derived: Logs/2026/counts on the western ledges, second visit.csv: write the parts of its long name again
              the place of each part and the short name
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a part of a long name that names a cluster",
        &expect![[r#"
            fat/long-name-fields at 31424+128
              Logs/2026/counts on the western ledges, second visit.csv: a part of a long name is not marked as one. A part of the long name has other attributes than 15, or a value where 0 must stand.
            derived: Logs/2026/counts on the western ledges, second visit.csv: write the parts of its long name again
              the place of each part and the short name
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "the entry behind a long name gone",
        &expect![[r#"
            fat/junk-entry at 55776+32
              folder Pictures/Thumbs: a folder holds entries that no host wrote (1 entry). 1 entry of folder Pictures/Thumbs is of this kind.
            fat/lost-chain at 16612+4
              1 cluster from 57 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 57 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            fat/long-name-stray at 55712+32 55744+32
              folder Pictures/Thumbs: parts of a long name belong to nothing (2 entries). 2 entries of folder Pictures/Thumbs are of this kind.
            judged: Pictures/Thumbs/thumbnail number 009.png: write the entry that its name has lost, for the lost chain at cluster 57, 165 bytes
              the chain begins as its kind does, and there is no other of either
            35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "a hole in a folder that begins behind a long name",
        &expect![[r#"
            fat/junk-entry at 55776+32 58880+32 58912+32
              folder Pictures/Thumbs: a folder holds entries that no host wrote (10 entries). 10 entries of folder Pictures/Thumbs are of this kind.
            fat/lost-chain at 16612+4
              1 cluster from 57 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 57 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            fat/lost-chain at 16616+4
              1 cluster from 58 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 58 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            fat/lost-chain at 16624+4
              1 cluster from 60 on belongs to no file, and begins like a png file. The table has a chain of 1 cluster from cluster 60 on, which begins like a png file. Each chain belongs to a file or folder. It may be what is left of a missing file.
            judged: Pictures/Thumbs/thumbnail number 009.png: write the entry that its name has lost, for the lost chain at cluster 57, 165 bytes
              the files of its folder lie in the order of its entries: this chain is the first behind that of the file before it, and begins as its kind does
            judged: keep 3 lost chains as files in the folder ADRIFT
              the table has them in use, and no file claims them; names are not known, exact sizes where the content tells
            judged: folder Pictures/Thumbs: mark 9 entries free
              they name nothing that exists
            derived: write the FSInfo sector: 1572 free clusters
              counted in the table
            32 of 35 files are whole after the repair, 4 rest on judgement and should be opened before they are handed out, 3 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "parts of a long name left over",
        &expect![[r#"
        fat/long-name-stray at 30880+32 30912+32 30944+32
          folder Logs: parts of a long name belong to nothing (4 entries). 4 entries of folder Logs are of this kind.
        derived: folder Logs: mark 4 entries free
          no short entry follows that they belong to
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "forbidden character in a long name",
        &expect![[r#"
        fat/long-name-illegal at 31424+128
          Logs/2026/c?unts on the western ledges, second visit.csv: a long name holds a forbidden character. The long name holds a character that is forbidden.
        judged: Logs/2026/c?unts on the western ledges, second visit.csv: name it c_unts on the western ledges, second visit.csv (COUNTS~1.CSV)
          the name, with what may not be in it replaced
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "lower case in a short name",
        &expect![[r#"
        fat/short-name-illegal at 29728+11
          rEADME.TXT: a short name holds an illegal character. The short name holds a byte that is not allowed there.
        judged: rEADME.TXT: name it  (README.TXT)
          the name, with what may not be in it replaced
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "control character in a short name",
        &expect![[r#"
        fat/short-name-illegal at 29728+11
          REDME.TXT: a short name holds an illegal character. The short name holds a byte that is not allowed there.
        judged: REDME.TXT: name it  (RE_DME.TXT)
          the name, with what may not be in it replaced
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "short name doubled",
        &expect![[r#"
        fat/name-twice at 31968+11
          Pictures/IMG_0002.PNG: two entries of a folder have the same name. Another entry of the folder has the same short name.
        judged: Pictures/IMG_0002.PNG: name it  (IMG_00~1.PNG)
          the name, with what may not be in it replaced
        35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "reserved attribute bits",
        &expect![[r#"
        fat/attributes at 29739+1
          README.TXT: an entry's attributes mean nothing. The attribute byte has bits set that cannot be set together.
        derived: README.TXT: clear attribute bits that cannot be
          the two highest bits are reserved; an entry with clusters is no label
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "label bit on a folder",
        &expect![[r#"
        fat/attributes at 29867+1
          Pictures: an entry's attributes mean nothing. The attribute byte has bits set that cannot be set together.
        derived: Pictures: clear attribute bits that cannot be
          the two highest bits are reserved; an entry with clusters is no label
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "folder marked as a file",
        &expect![[r#"
            fat/wrong-type at 29867+1
              Pictures: a folder is marked as a file, or a file as a folder. The folder bit does not agree with what stands in the first cluster. Its entries end there.
            fat/lost-folder at 52224+64
              the folder at cluster 46 has no entry. Cluster 46 begins a folder that names it; no entry does. Each folder has an entry in the folder above it. Its files are out of reach.
            fat/dot-dot-entry at 52256+32
              folder lost folder 46: ".." names cluster 6. ".." names cluster 6. It should be the second entry and name cluster 0.
            derived: Pictures: mark it as a folder
              what stands in its first cluster
            35 of 35 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "file marked as a folder",
        &expect![[r#"
        fat/wrong-type at 31883+1
          Pictures/IMG_0002.PNG: a folder is marked as a file, or a file as a folder. The folder bit does not agree with what stands in the first cluster. All of its content is known.
        derived: Pictures/IMG_0002.PNG: mark it as a file
          what stands in its first cluster
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "label in a subfolder",
        &expect![[r#"
        fat/label-misplaced at 30880+32
          folder Logs: a volume label where none may be (1 entry). 1 entry of folder Logs is of this kind.
        derived: folder Logs: mark 1 entry free
          one label is allowed, in the root folder
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "second label in the root",
        &expect![[r#"
        fat/label-misplaced at 30048+32
          the root folder: a volume label where none may be (1 entry). 1 entry of the root folder is of this kind.
        derived: the root folder: mark 1 entry free
          one label is allowed, in the root folder
        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "deleted entry whose clusters are in use",
        &expect![[r#"
            fat/deleted-in-use at 31840+1
              Pictures/Nest 12.png: marked deleted, but its clusters are in use. The entry's first byte says that it is free. Its chain is whole, as long as its size needs, and belongs to nothing else. Hosts do not show it.
            judged: Pictures/Nest 12.png: mark the entry as in use again, as NEST12~1.PNG
              that the delete was none is judged; the first letter follows from the checksum of the long name
            35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "deleted folder whose clusters are in use",
        &expect![[r#"
            fat/deleted-in-use at 32032+1
              Pictures/Thumbs: marked deleted, but its clusters are in use. The entry's first byte says that it is free. Its chain is whole, as long as its size needs, and belongs to nothing else. Hosts do not show it.
            fat/long-name-stray at 32000+32
              folder Pictures: parts of a long name belong to nothing (1 entry). 1 entry of folder Pictures is of this kind.
            judged: Pictures/Thumbs: mark the entry as in use again, as THUMBS
              that the delete was none is judged; the first letter follows from the checksum of the long name
            35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "deleted entry in use, delete to be finished",
        &expect![[r#"
        fat/deleted-in-use at 31840+1
          Pictures/Nest 12.png: marked deleted, but its clusters are in use. The entry's first byte says that it is free. Its chain is whole, as long as its size needs, and belongs to nothing else. Hosts do not show it.
        judged: Pictures/Nest 12.png: free its 2 clusters
          the mark in its entry
        derived: write the FSInfo sector: 1575 free clusters
          counted in the table
        34 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 is lost; the volume is sound.
    "#]],
    );
    says(
        "a tree hidden",
        &expect![[r#"
            fat/hidden-tree at 29739+1 29803+1 29867+1
              40 of 40 files and folders are hidden. The bits are set on ordinary files. Hosts set them on a few files of their own. Hosts do not show these files.
            judged: clear the hidden and system bits of 40 entries
              hosts set both bits only on files of their own
            35 of 35 files are whole after the repair, 40 rest on judgement and should be opened before they are handed out; the volume is sound.
        "#]],
    );
    says(
        "the same file in two folders, and a lost chain as long",
        &expect![[r#"
            fat/cross-linked at 30042+2 67072+512 67584+512
              ledges.csv: shares clusters with another chain. 3 of its clusters belong to another chain as well, the first is 75. A cluster belongs to one file. At most one of the files that share clusters is right there.
            fat/cross-linked at 30906+2 67072+512 67584+512
              Logs/LEDGES.CSV: shares clusters with another chain. 3 of its clusters belong to another chain as well, the first is 75. A cluster belongs to one file. Another entry names the same first cluster and the same size: a move that was cut off leaves a file in both folders.
            fat/fsinfo-free-count at 1000+4
              the free count is 1573, counted are 1570. FSInfo gives 1573 free clusters. The table has 1570. Hosts show a wrong amount of free space.
            fat/lost-chain at 16852+4
              3 clusters from 117 on belong to no file. The table has a chain of 3 clusters from cluster 117 on. Each chain belongs to a file or folder. It may be what is left of a missing file.
            judged: Logs/LEDGES.CSV: give it its own copy of 3 shared clusters
              the shared clusters as they stand: both entries name the same first cluster and the same size
            judged: keep 1 lost chain as a file in the folder ADRIFT
              the table has them in use, and no file claims them; names are not known, exact sizes where the content tells
            derived: write the FSInfo sector: 1566 free clusters
              counted in the table
            36 of 37 files are whole after the repair, 2 rest on judgement and should be opened before they are handed out, 1 is kept without its name or folder; the volume is sound.
        "#]],
    );
    says(
        "the same file in two folders",
        &expect![[r#"
            fat/cross-linked at 29754+2 30208+512
              README.TXT: shares clusters with another chain. 1 of its clusters belong to another chain as well, the first is 3. A cluster belongs to one file. At most one of the files that share clusters is right there.
            fat/cross-linked at 30906+2 30208+512
              Logs/README.TXT: shares clusters with another chain. 1 of its clusters belong to another chain as well, the first is 3. A cluster belongs to one file. Another entry names the same first cluster and the same size: a move that was cut off leaves a file in both folders.
            judged: Logs/README.TXT: give it its own copy of 1 shared cluster
              the shared clusters as they stand: both entries name the same first cluster and the same size
            derived: write the FSInfo sector: 1572 free clusters
              counted in the table
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
}
