//! exFAT, on a volume with as many tables as a fault needs.

use expect_test::{Expect, expect};
use punchdog_damage::{
    exfat::{everyday, small},
    exfat_faults::{self, Patient},
};

fn says(name: &str, expected: &Expect) {
    let fault = exfat_faults::all().find(|fault| fault.name == name).expect("a fault of that name");
    let volumes = [1, 2].map(|tables| Patient::new(everyday(&small(512, 1024, tables), 3)));
    super::says(fault, volumes, expected);
}

#[test]
fn every_fault_of_the_table_is_spoken_for_here() {
    super::all_spoken_for(exfat_faults::all(), include_str!("exfat.rs"));
}

#[test]
fn the_boot_regions() {
    says(
        "boot sector zeroed",
        &expect![[r#"
        exfat/boot-gone at 0+512
          the main boot sector is gone. Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 and has no usable field. It should begin with EB 76 90 and the name EXFAT. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "boot sector all FF",
        &expect![[r#"
        exfat/boot-gone at 0+512
          the main boot sector is gone. Sector 0 begins with FF FF FF FF FF FF FF FF FF FF FF FF FF FF FF FF and has no usable field. It should begin with EB 76 90 and the name EXFAT. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "main boot region zeroed",
        &expect![[r#"
        exfat/boot-gone at 0+512
          the main boot sector is gone. Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 and has no usable field. It should begin with EB 76 90 and the name EXFAT. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "main boot region overwritten with noise",
        &expect![[r#"
        exfat/boot-gone at 0+512
          the main boot sector is gone. Sector 0 begins with ED 8F 01 DB E4 14 0B 1D 89 A9 81 7B 8A 6F 46 B3 and has no usable field. It should begin with EB 76 90 and the name EXFAT. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "both boot regions zeroed",
        &expect![[r#"
        exfat/boot-gone at 0+512
          the main boot sector is gone. Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 and has no usable field. It should begin with EB 76 90 and the name EXFAT. There is no backup that fits; the geometry was computed from what the volume holds.
        exfat/backup-gone at 6144+512
          there is no backup boot region. The sector at byte 6144 is no exFAT boot sector. Sectors 12 to 23 are a copy of sectors 0 to 11. If the main region is lost, the geometry has to be computed.
        derived: write a boot region computed from the volume
          the table begins as a table does; clusters, volume and image are one within the other; the clusters fill the volume; the table is about as long as it needs to be; the root's chain begins; the root folder reads as one; the bitmap is as long as the clusters need; the bitmap has itself and the root in use; the up-case table stands where the root says, with its checksum; folders stand where their entries say
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "both boot sectors zeroed",
        &expect![[r#"
        exfat/boot-gone at 0+512
          the main boot sector is gone. Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 and has no usable field. It should begin with EB 76 90 and the name EXFAT. There is no backup that fits; the geometry was computed from what the volume holds.
        exfat/backup-gone at 6144+512
          there is no backup boot region. The sector at byte 6144 is no exFAT boot sector. Sectors 12 to 23 are a copy of sectors 0 to 11. If the main region is lost, the geometry has to be computed.
        derived: write a boot region computed from the volume
          the table begins as a table does; clusters, volume and image are one within the other; the clusters fill the volume; the table is about as long as it needs to be; the root's chain begins; the root folder reads as one; the bitmap is as long as the clusters need; the bitmap has itself and the root in use; the up-case table stands where the root says, with its checksum; folders stand where their entries say
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "both boot regions noise",
        &expect![[r#"
        exfat/boot-gone at 0+512
          the main boot sector is gone. Sector 0 begins with ED 8F 01 DB E4 14 0B 1D 89 A9 81 7B 8A 6F 46 B3 and has no usable field. It should begin with EB 76 90 and the name EXFAT. There is no backup that fits; the geometry was computed from what the volume holds.
        exfat/backup-gone at 6144+512
          there is no backup boot region. The sector at byte 6144 is no exFAT boot sector. Sectors 12 to 23 are a copy of sectors 0 to 11. If the main region is lost, the geometry has to be computed.
        derived: write a boot region computed from the volume
          the table begins as a table does; clusters, volume and image are one within the other; the clusters fill the volume; the table is about as long as it needs to be; the root's chain begins; the root folder reads as one; the bitmap is as long as the clusters need; the bitmap has itself and the root in use; the up-case table stands where the root says, with its checksum; folders stand where their entries say
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "signature 55 AA zeroed",
        &expect![[r#"
        exfat/boot-signature at 510+2
          the boot sector's signature 55 AA is missing: BootSignature is 00 00, should be 55 AA. BootSignature (boot sector, byte 510) is 00 00. It should be 55 AA: always the same.
        exfat/boot-checksum at 5632+4 0+5632
          the boot checksum does not fit. Sector 11 holds 0x7fab7bd3. The checksum of sectors 0 to 10 is 0xffab7afe. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "name overwritten",
        &expect![[r#"
        exfat/boot-name at 3+8
          the boot sector does not name exFAT: FileSystemName is "MSDOS5.0", should be "EXFAT". FileSystemName (boot sector, byte 3) is "MSDOS5.0". It should be "EXFAT": always the same.
        exfat/boot-checksum at 5632+4 0+5632
          the boot checksum does not fit. Sector 11 holds 0x7fab7bd3. The checksum of sectors 0 to 10 is 0x7fb2b6d3. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "must-be-zero bytes set",
        &expect![[r#"
            exfat/boot-must-be-zero at 11+53
              bytes 11 to 63 of the boot sector are not zero: MustBeZero is 00 02 08 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00, should be 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00. MustBeZero (boot sector, byte 11) is 00 02 08 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00. It should be 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00: always zero.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "jump zeroed",
        &expect![[r#"
            exfat/boot-jump at 0+3
              the boot sector does not begin with EB 76 90: JumpBoot is 00 00 00, should be EB 76 90. JumpBoot (boot sector, byte 0) is 00 00 00. It should be EB 76 90: always the same.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "volume length 0",
        &expect![[r#"
            exfat/volume-length at 72+8
              the volume length is wrong: VolumeLength is 0, should be 1240. VolumeLength (boot sector, byte 72) is 0. It should be 1240: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "volume length halved in both",
        &expect![[r#"
        exfat/volume-length at 72+8
          the volume length is wrong: VolumeLength is 620, should be 1240. VolumeLength (boot sector, byte 72) is 620. It should be 1240: computed from the volume.
        derived: set VolumeLength (boot sector, byte 72) from 620 to 1240
          computed from the volume
        derived: compute the boot checksum anew, and sign the extended boot sectors
          sectors 0 to 10 as they stand after the steps before
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "table offset 0",
        &expect![[r#"
            exfat/fat-offset at 80+4
              the table is not where the boot sector says: FatOffset is 0, should be 24. FatOffset (boot sector, byte 80) is 0. It should be 24: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "table offset one too far, in both",
        &expect![[r#"
        exfat/fat-offset at 80+4
          the table is not where the boot sector says: FatOffset is 25, should be 24. FatOffset (boot sector, byte 80) is 25. It should be 24: computed from the volume.
        derived: set FatOffset (boot sector, byte 80) from 25 to 24
          computed from the volume
        derived: compute the boot checksum anew, and sign the extended boot sectors
          sectors 0 to 10 as they stand after the steps before
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "table length 0 in both",
        &expect![[r#"
        exfat/fat-length at 84+4
          the length of the table is wrong: FatLength is 0, should be 5. FatLength (boot sector, byte 84) is 0. It should be 5: computed from the volume.
        derived: set FatLength (boot sector, byte 84) from 0 to 5
          computed from the volume
        derived: compute the boot checksum anew, and sign the extended boot sectors
          sectors 0 to 10 as they stand after the steps before
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "table length huge",
        &expect![[r#"
            exfat/fat-length at 84+4
              the length of the table is wrong: FatLength is 16777216, should be 5. FatLength (boot sector, byte 84) is 16777216. It should be 5: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "heap offset 0",
        &expect![[r#"
            exfat/heap-offset at 88+4
              the clusters do not begin where the boot sector says: ClusterHeapOffset is 0, should be 30. ClusterHeapOffset (boot sector, byte 88) is 0. It should be 30: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "heap offset 8 too far, in both",
        &expect![[r#"
        exfat/heap-offset at 88+4
          the clusters do not begin where the boot sector says: ClusterHeapOffset is 38, should be 30. ClusterHeapOffset (boot sector, byte 88) is 38. It should be 30: computed from the volume.
        derived: set ClusterHeapOffset (boot sector, byte 88) from 38 to 30
          computed from the volume
        derived: compute the boot checksum anew, and sign the extended boot sectors
          sectors 0 to 10 as they stand after the steps before
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "cluster count 0",
        &expect![[r#"
            exfat/cluster-count at 92+4
              the number of clusters is wrong: ClusterCount is 0, should be 605. ClusterCount (boot sector, byte 92) is 0. It should be 605: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "cluster count halved in both",
        &expect![[r#"
        exfat/cluster-count at 92+4
          the number of clusters is wrong: ClusterCount is 302, should be 605. ClusterCount (boot sector, byte 92) is 302. It should be 605: computed from the volume.
        derived: set ClusterCount (boot sector, byte 92) from 302 to 605
          computed from the volume
        derived: compute the boot checksum anew, and sign the extended boot sectors
          sectors 0 to 10 as they stand after the steps before
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "cluster count huge",
        &expect![[r#"
            exfat/cluster-count at 92+4
              the number of clusters is wrong: ClusterCount is 4294967295, should be 605. ClusterCount (boot sector, byte 92) is 4294967295. It should be 605: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root cluster 0",
        &expect![[r#"
            exfat/root-cluster at 96+4
              the root folder's first cluster is wrong: FirstClusterOfRootDirectory is 0, should be 9. FirstClusterOfRootDirectory (boot sector, byte 96) is 0. It should be 9: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root cluster out of range",
        &expect![[r#"
            exfat/root-cluster at 96+4
              the root folder's first cluster is wrong: FirstClusterOfRootDirectory is 2109669, should be 9. FirstClusterOfRootDirectory (boot sector, byte 96) is 2109669. It should be 9: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root cluster is a folder's, in both",
        &expect![[r#"
        exfat/root-cluster at 96+4
          the root folder's first cluster is wrong: FirstClusterOfRootDirectory is 13, should be 9. FirstClusterOfRootDirectory (boot sector, byte 96) is 13. It should be 9: computed from the volume.
        derived: set FirstClusterOfRootDirectory (boot sector, byte 96) from 13 to 9
          computed from the volume
        derived: compute the boot checksum anew, and sign the extended boot sectors
          sectors 0 to 10 as they stand after the steps before
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "revision 2.00",
        &expect![[r#"
            exfat/revision at 104+2
              the revision is none that was published: FileSystemRevision is 0x0200, should be 0x0100. FileSystemRevision (boot sector, byte 104) is 0x0200. It should be 0x0100: from the backup.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "sector shift 8",
        &expect![[r#"
            exfat/sector-size at 108+1
              the sector size is wrong: BytesPerSectorShift is 8, should be 9. BytesPerSectorShift (boot sector, byte 108) is 8. It should be 9: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "sector shift 13",
        &expect![[r#"
        exfat/sector-size at 108+1
          the sector size is wrong: BytesPerSectorShift is 13, should be 9. BytesPerSectorShift (boot sector, byte 108) is 13. It should be 9: backup and volume agree.
        exfat/boot-checksum at 5632+4 0+5632
          the boot checksum does not fit. Sector 11 holds 0x7fab7bd3. The checksum of sectors 0 to 10 is 0x7fac7bd3. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "cluster shift one too many, in both",
        &expect![[r#"
        exfat/cluster-size at 109+1
          the cluster size is wrong: SectorsPerClusterShift is 2, should be 1. SectorsPerClusterShift (boot sector, byte 109) is 2. It should be 1: computed from the volume.
        derived: set SectorsPerClusterShift (boot sector, byte 109) from 2 to 1
          computed from the volume
        derived: compute the boot checksum anew, and sign the extended boot sectors
          sectors 0 to 10 as they stand after the steps before
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "cluster shift 25",
        &expect![[r#"
            exfat/cluster-size at 109+1
              the cluster size is wrong: SectorsPerClusterShift is 25, should be 1. SectorsPerClusterShift (boot sector, byte 109) is 25. It should be 1: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "number of tables 0",
        &expect![[r#"
            exfat/fat-count at 110+1
              the number of tables is wrong: NumberOfFats is 0, should be 1. NumberOfFats (boot sector, byte 110) is 0. It should be 1: backup and volume agree.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "number of tables 3, in both",
        &expect![[r#"
        exfat/fat-count at 110+1
          the number of tables is wrong: NumberOfFats is 3, should be 1. NumberOfFats (boot sector, byte 110) is 3. It should be 1: computed from the volume.
        derived: set NumberOfFats (boot sector, byte 110) from 3 to 1
          computed from the volume
        derived: compute the boot checksum anew, and sign the extended boot sectors
          sectors 0 to 10 as they stand after the steps before
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "percent in use 200",
        &expect![[r#"
        exfat/percent-in-use at 112+1
          the percentage in use is none: PercentInUse is 200, should be 255. PercentInUse (boot sector, byte 112) is 200. It should be 255: from the backup.
        exact: set PercentInUse (boot sector, byte 112) from 200 to 255
          the backup boot sector
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "reserved bytes set",
        &expect![[r#"
            exfat/boot-reserved-bytes at 113+7
              reserved bytes of the boot sector are not zero: Reserved is 01 01 01 01 01 01 01, should be 00 00 00 00 00 00 00. Reserved (boot sector, byte 113) is 01 01 01 01 01 01 01. It should be 00 00 00 00 00 00 00: always zero.
            exact: copy the backup boot region at byte 6144 of the volume over the main one
              the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "extended boot sector 5 unsigned",
        &expect![[r#"
        exfat/extended-signature at 3068+4
          extended boot sector 5 has lost its signature. Sector 5 does not end with 00 00 55 AA. Sectors 1 to 8 do.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "boot checksum: one value zeroed",
        &expect![[r#"
        exfat/boot-checksum at 5640+4 0+5632
          the boot checksum does not fit. Sector 11 holds 0x00000000. The checksum of sectors 0 to 10 is 0x7fab7bd3. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "boot checksum sector zeroed",
        &expect![[r#"
        exfat/boot-checksum at 5632+4 0+5632
          the boot checksum does not fit. Sector 11 holds 0x00000000. The checksum of sectors 0 to 10 is 0x7fab7bd3. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "boot code changed without the checksum",
        &expect![[r#"
        exfat/boot-checksum at 5632+4 0+5632
          the boot checksum does not fit. Sector 11 holds 0x7fab7bd3. The checksum of sectors 0 to 10 is 0x7d82bdd3. The backup region is whole.
        exact: copy the backup boot region at byte 6144 of the volume over the main one
          the backup boot region: its checksum fits, and it agrees with the table, the root folder and the bitmap
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "checksum wrong in both regions",
        &expect![[r#"
            exfat/boot-checksum at 5632+4 0+5632
              the boot checksum does not fit. Sector 11 holds 0x11111111. The checksum of sectors 0 to 10 is 0x7fab7bd3.
            exfat/backup-differs at 11776+1 6144+6144
              the backup boot region is not a copy of the main one. Its checksum does not fit. It should be a copy.
            derived: compute the boot checksum anew, and sign the extended boot sectors
              sectors 0 to 10 as they stand after the steps before
            exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
              the main boot region, as it stands after the steps before
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "backup region zeroed",
        &expect![[r#"
        exfat/backup-gone at 6144+512
          there is no backup boot region. The sector at byte 6144 is no exFAT boot sector. Sectors 12 to 23 are a copy of sectors 0 to 11. If the main region is lost, the geometry has to be computed.
        exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
          the main boot region, as it stands after the steps before
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "backup drifted",
        &expect![[r#"
            exfat/backup-differs at 6444+1 6144+6144
              the backup boot region is not a copy of the main one. It differs from the main one in 530 bytes. Its checksum fits. It should be a copy.
            exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
              the main boot region, as it stands after the steps before
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "backup checksum wrong",
        &expect![[r#"
            exfat/backup-differs at 11776+1 6144+6144
              the backup boot region is not a copy of the main one. It differs from the main one in 4 bytes. Its checksum does not fit. It should be a copy.
            exact: write the backup boot region at byte 6144 of the volume as a copy of the main one
              the main boot region, as it stands after the steps before
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "not closed",
        &expect![[r#"
        exfat/not-closed at 106+1
          the volume was not closed. VolumeDirty is set in VolumeFlags (byte 106). A host clears it when it is done.
        derived: mark the volume as properly closed
          nothing else is wrong any more
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "errors met",
        &expect![[r#"
        exfat/errors-met at 106+1
          a host met read or write errors. MediaFailure is set in VolumeFlags (byte 106). A host clears it when it is done.
        derived: mark the volume as properly closed
          nothing else is wrong any more
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "second table active, but none there",
        &expect![[r#"
        exfat/active-fat at 106+1
          the second table is active, but there is only one. ActiveFat is set. There is one table.
        derived: mark the volume as properly closed
          nothing else is wrong any more
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "image cut short",
        &expect![[r#"
        exfat/volume-beyond-image at 572416+62464
          the volume is longer than the image. The image has 572416 bytes. The volume has 634880. What lies in between cannot be read.
        judged: set the volume's length from 1240 to 1118 sectors, and its clusters from 605 to 544
          the length of the image
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
}

#[test]
fn what_the_root_names() {
    says(
        "table's first entries zeroed",
        &expect![[r#"
        exfat/table-first-entries at 12288+8
          the first two entries of the table are not what they must be. Table 0 begins with 00 00 00 00 00 00 00 00. It should begin with F8 FF FF FF FF FF FF FF.
        exact: set entries 0 and 1 of the table
          they are the same on every volume
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "bitmap entry unused",
        &expect![[r#"
            exfat/bitmap-entry-missing at 22528+32
              there is no allocation bitmap entry. No entry of type 81 with the flags 00 is in the root folder. One is demanded. A bitmap stands at cluster 2.
            derived: let the bitmap entry name cluster 2 and 76 bytes
              where the bitmap stands, which has itself and the root folder in use; one bit a cluster
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "bitmap entry overwritten",
        &expect![[r#"
            exfat/bitmap-entry-missing at 22528+32
              there is no allocation bitmap entry. No entry of type 81 with the flags 00 is in the root folder. One is demanded. A bitmap stands at cluster 2.
            derived: let the bitmap entry name cluster 2 and 76 bytes
              where the bitmap stands, which has itself and the root folder in use; one bit a cluster
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "bitmap entry and bitmap gone",
        &expect![[r#"
            exfat/bitmap-entry-missing at 22528+32
              there is no allocation bitmap entry. No entry of type 81 with the flags 00 is in the root folder. One is demanded. No bitmap was found; use follows from the folders.
            derived: write a bitmap at cluster 2, computed from the folders
              every cluster that a file, a folder or the volume's own tables claim
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "bitmap's first cluster 0",
        &expect![[r#"
            exfat/bitmap-entry at 22560+32
              the allocation bitmap entry is wrong. It names cluster 0 and 76 bytes. 605 clusters need 76 bytes. A bitmap stands at cluster 2.
            derived: let the bitmap entry name cluster 2 and 76 bytes
              where the bitmap stands, which has itself and the root folder in use; one bit a cluster
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "bitmap's first cluster is a file's",
        &expect![[r#"
            exfat/bitmap-entry at 22560+32
              the allocation bitmap entry is wrong. It names cluster 16 and 76 bytes. 605 clusters need 76 bytes. A bitmap stands at cluster 2.
            derived: let the bitmap entry name cluster 2 and 76 bytes
              where the bitmap stands, which has itself and the root folder in use; one bit a cluster
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "bitmap one byte too short",
        &expect![[r#"
            exfat/bitmap-entry at 22560+32
              the allocation bitmap entry is wrong. It names cluster 2 and 75 bytes. 605 clusters need 76 bytes. A bitmap stands at cluster 2.
            derived: let the bitmap entry name cluster 2 and 76 bytes
              where the bitmap stands, which has itself and the root folder in use; one bit a cluster
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "bitmap too long",
        &expect![[r#"
            exfat/bitmap-entry at 22560+32
              the allocation bitmap entry is wrong. It names cluster 2 and 65536 bytes. 605 clusters need 76 bytes. A bitmap stands at cluster 2.
            derived: let the bitmap entry name cluster 2 and 76 bytes
              where the bitmap stands, which has itself and the root folder in use; one bit a cluster
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "second bitmap entry",
        &expect![[r#"
        exfat/bitmap-entry-doubled at 22560+32
          the root folder has a second bitmap entry. Entry 1 of the root folder is another one. One is allowed.
        derived: free further bitmap entries
          one is allowed; the first leads to what it should
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "up-case entry unused",
        &expect![[r#"
        exfat/upcase-entry-missing at 22528+32
          the root folder has no up-case entry. No entry of type 82 is in the root folder. One is demanded. The recommended table stands at cluster 3.
        derived: let the up-case entry name cluster 3, 5836 bytes and the checksum 0xe619d30d
          where the table stands, which is the recommended one
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "up-case entry and table gone",
        &expect![[r#"
            exfat/upcase-entry-missing at 22528+32
              the root folder has no up-case entry. No entry of type 82 is in the root folder. One is demanded. No table was found either.
            exfat/lost-clusters at 15360+1
              6 clusters belong to nothing, and all is blank: from 3 on. The bitmap has clusters 3 to 8 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: write the recommended up-case table at cluster 98
              the specification's recommended table, which nearly every volume has; its checksum is known
            derived: free 6 clusters that belong to nothing
              they hold nothing but one byte value
            derived: set the bitmap as the clusters are used, in 6 clusters
              every cluster that a file, a folder or the volume's own tables claim
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "up-case first cluster out of range",
        &expect![[r#"
        exfat/upcase-entry at 22592+32
          the up-case entry is wrong. It names cluster 65535 and 5836 bytes, where no table begins. The table stands at cluster 3.
        derived: let the up-case entry name cluster 3, 5836 bytes and the checksum 0xe619d30d
          where the table stands, which is the recommended one
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "up-case length 0",
        &expect![[r#"
        exfat/upcase-entry at 22592+32
          the up-case entry is wrong. It names cluster 3 and 0 bytes, where no table begins. The table stands at cluster 3.
        derived: let the up-case entry name cluster 3, 5836 bytes and the checksum 0xe619d30d
          where the table stands, which is the recommended one
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "up-case checksum wrong",
        &expect![[r#"
        exfat/upcase-checksum at 22596+4
          the up-case table does not have its checksum. The entry gives 0x00000001. The table has 0xe619d30d, and is the recommended one.
        derived: let the up-case entry name cluster 3, 5836 bytes and the checksum 0xe619d30d
          where the table stands, which is the recommended one
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "up-case table damaged",
        &expect![[r#"
        exfat/upcase-table at 16384+5836 22592+32
          the up-case table is damaged. The table has the checksum 0xe619d0bd. Its entry gives 0xe619d30d. It is not the recommended table.
        derived: write the recommended up-case table at cluster 3
          the specification's recommended table, which nearly every volume has; its checksum is known
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "up-case table zeroed",
        &expect![[r#"
            exfat/upcase-entry at 22592+32
              the up-case entry is wrong. It names cluster 3 and 5836 bytes, where no table begins. No table was found.
            exfat/lost-clusters at 15360+1
              6 clusters belong to nothing, and all is blank: from 3 on. The bitmap has clusters 3 to 8 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: write the recommended up-case table at cluster 98
              the specification's recommended table, which nearly every volume has; its checksum is known
            derived: free 6 clusters that belong to nothing
              they hold nothing but one byte value
            derived: set the bitmap as the clusters are used, in 6 clusters
              every cluster that a file, a folder or the volume's own tables claim
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "second up-case entry",
        &expect![[r#"
        exfat/upcase-entry-doubled at 22592+32
          the root folder has a second up-case entry. Entry 2 of the root folder is another one. One is allowed.
        derived: free further up-case entries
          one is allowed; the first leads to what it should
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "label of 200 characters",
        &expect![[r#"
        exfat/label-length at 22529+1
          the label's length is none. The label's entry gives more than 11 characters. It has room for 11.
        derived: set the label's length to 6
          its characters, counted
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "second label",
        &expect![[r#"
        exfat/label-doubled at 23136+32
          the root folder has a second label. Entry 19 of the root folder is another one. One is allowed.
        derived: free further labels
          one is allowed; the first leads to what it should
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a file's bits cleared in the bitmap",
        &expect![[r#"
        exfat/used-but-free at 15363+1
          6 clusters are in use, free by the bitmap. Cluster 28 is the first. A cluster that belongs to a file has its bit set.
        derived: set the bitmap as the clusters are used, in 6 clusters
          every cluster that a file, a folder or the volume's own tables claim
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "the root's bit cleared",
        &expect![[r#"
        exfat/used-but-free at 15360+1
          1 cluster is in use, free by the bitmap. Cluster 9 is the first. A cluster that belongs to a file has its bit set.
        derived: set the bitmap as the clusters are used, in 1 cluster
          every cluster that a file, a folder or the volume's own tables claim
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "bits set that nothing uses",
        &expect![[r#"
            exfat/lost-clusters at 15376+2
              5 clusters belong to nothing, and all is blank: from 137 on. The bitmap has clusters 137 to 141 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: free 5 clusters that belong to nothing
              they hold nothing but one byte value
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "bitmap zeroed",
        &expect![[r#"
        exfat/used-but-free at 15360+12
          83 clusters are in use, free by the bitmap. Cluster 2 is the first. A cluster that belongs to a file has its bit set.
        derived: set the bitmap as the clusters are used, in 83 clusters
          every cluster that a file, a folder or the volume's own tables claim
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "bitmap all ones",
        &expect![[r#"
            exfat/deleted-in-use at 26720+96
              Recordings/old.wav: a file is marked deleted, but its clusters are in use. The set stands at byte 26720 of the volume.
            exfat/lost-clusters at 15364+1
              2 clusters belong to nothing, and all is blank: from 37 on. The bitmap has clusters 37 to 38 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15364+2
              2 clusters belong to nothing, and all is blank: from 41 on. The bitmap has clusters 41 to 42 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15365+1
              2 clusters belong to nothing, and all is blank: from 45 on. The bitmap has clusters 45 to 46 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            judged: Recordings/old.wav: mark its entry set as in use again
              the set has its checksum as it was before the delete; that the delete was none is judged
            derived: free 521 clusters that belong to nothing
              they hold nothing but one byte value
            37 of 37 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "lost clusters with content",
        &expect![[r#"
            exfat/lost-clusters at 15376+1
              1 cluster belongs to nothing, and may be a txt file: from 137 on. The bitmap has cluster 137 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15377+1
              1 cluster belongs to nothing, and may be a txt file: from 138 on. The bitmap has cluster 138 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15377+1
              1 cluster belongs to nothing, and may be a txt file: from 139 on. The bitmap has cluster 139 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            judged: keep 3 lost chains as files in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            36 of 39 files are whole after the repair, 3 rest on judgement and should be opened before they are handed out, 3 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "lost clusters, to be freed",
        &expect![[r#"
            exfat/lost-clusters at 15376+1
              1 cluster belongs to nothing, and may be a txt file: from 137 on. The bitmap has cluster 137 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            judged: free 1 cluster that belongs to nothing
              as chosen
            36 of 37 files are whole after the repair, 1 is lost; the volume is sound.
        "#]],
    );
}

#[test]
fn entry_sets_and_folders() {
    says(
        "set checksum wrong",
        &expect![[r#"
            exfat/set-checksum at 22626+2
              README.TXT: an entry set does not have its checksum. The set stands at byte 22624 of the volume.
            derived: README.TXT: put right the checksum in its entry set
              the entries that follow, the name's characters, and the checksum computed from them
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a byte of the times changed",
        &expect![[r#"
            exfat/set-checksum at 24674+2
              Logs/station.log: an entry set does not have its checksum. The set stands at byte 24672 of the volume.
            derived: Logs/station.log: put right the checksum in its entry set
              the entries that follow, the name's characters, and the checksum computed from them
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "secondary count 1",
        &expect![[r#"
            exfat/secondary-count at 25729+1
              Logs/2026/counts on the western ledges, second visit.csv: an entry set gives a wrong number of entries. The set stands at byte 25728 of the volume.
            exact: Logs/2026/counts on the western ledges, second visit.csv: put right the number of entries in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "secondary count 200",
        &expect![[r#"
            exfat/secondary-count at 22625+1
              README.TXT: an entry set gives a wrong number of entries. The set stands at byte 22624 of the volume.
            exact: README.TXT: put right the number of entries in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "file entry lost its type",
        &expect![[r#"
            exfat/set-entry-type at 26624+1
              Recordings/dawn 0001.wav: an entry of a set has lost its type. The set stands at byte 26624 of the volume.
            exact: Recordings/dawn 0001.wav: put right the file entry's type in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "file entry became an end mark",
        &expect![[r#"
            exfat/end-mark-early at 26624+1
              folder Recordings: an end mark hides 5 files. Entry 0 is an end mark. Whole sets follow it, with clusters that fit and belong to nothing else. Hosts that stop at the mark do not show them.
            exfat/set-entry-type at 26624+1
              Recordings/dawn 0001.wav: an entry of a set has lost its type. The set stands at byte 26624 of the volume.
            exact: Recordings/dawn 0001.wav: put right the file entry's type in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "file entry lost its in-use bit",
        &expect![[r#"
            exfat/deleted-in-use at 26816+96
              Recordings/dawn 0002.wav: a file is marked deleted, but its clusters are in use. The set stands at byte 26816 of the volume.
            exfat/set-entry-type at 26816+1
              Recordings/dawn 0002.wav: an entry of a set has lost its type. The set stands at byte 26816 of the volume.
            judged: Recordings/dawn 0002.wav: mark its entry set as in use again
              the set has its checksum as it was before the delete; that the delete was none is judged
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "file entry of zeros",
        &expect![[r#"
            exfat/end-mark-early at 26816+1
              folder Recordings: an end mark hides 4 files. Entry 6 is an end mark. Whole sets follow it, with clusters that fit and belong to nothing else. Hosts that stop at the mark do not show them.
            exfat/set-head-lost at 26816+32
              Recordings/dawn 0002.wav: the first entry of a set is lost. The set stands at byte 26816 of the volume.
            derived: Recordings/dawn 0002.wav: put right the file entry in its entry set
              the entries that follow: the name has its hash, and the clusters are in use and nobody else's; attributes and times are lost
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "file entry of a folder of zeros",
        &expect![[r#"
            exfat/end-mark-early at 22816+1
              the root folder: an end mark hides 3 files. Entry 9 is an end mark. Whole sets follow it, with clusters that fit and belong to nothing else. Hosts that stop at the mark do not show them.
            exfat/set-head-lost at 22816+32
              Recordings: the first entry of a set is lost. The set stands at byte 22816 of the volume.
            derived: Recordings: put right the file entry in its entry set
              the entries that follow: the name has its hash, and the clusters are in use and nobody else's; attributes and times are lost
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "file entry of noise",
        &expect![[r#"
            exfat/set-head-lost at 25728+32
              Logs/2026/counts on the western ledges, second visit.csv: the first entry of a set is lost. The set stands at byte 25728 of the volume.
            derived: Logs/2026/counts on the western ledges, second visit.csv: put right the file entry in its entry set
              the entries that follow: the name has its hash, and the clusters are in use and nobody else's; attributes and times are lost
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a name of zeros that its neighbours tell",
        &expect![[r#"
            exfat/set-name-lost at 81344+64
              Recordings/Thumbs/spectrogram number 011.png: the name of a file is lost. The set stands at byte 81280 of the volume.
            judged: Recordings/Thumbs/spectrogram number 011.png: put right the name in its entry set
              of the names that its neighbours' numbers suggest, it alone has the hash that the set tells
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "a name of noise that nothing tells",
        &expect![[r#"
            exfat/set-name-lost at 28736+32
              Möwen und Lummen/unnamed-61.wav: the name of a file is lost. The set stands at byte 28672 of the volume.
            judged: Möwen und Lummen/unnamed-61.wav: put right the name in its entry set
              made up: of the name only length and hash are left; content, length and times are the file's own
            35 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 is kept without its name or folder; the volume is sound.
        "#]],
    );
    says(
        "a hole of zeros across the sets of a folder",
        &expect![[r#"
            exfat/set-name-lost at 79424+64
              Recordings/Thumbs/spectrogram number 004.png: the name of a file is lost. The set stands at byte 79360 of the volume.
            exfat/end-mark-early at 79488+1
              folder Recordings/Thumbs: an end mark hides 16 files. Entry 20 is an end mark. Whole sets follow it, with clusters that fit and belong to nothing else. Hosts that stop at the mark do not show them.
            exfat/lost-clusters at 15369+1
              1 cluster belongs to nothing, and may be a png file: from 76 on. The bitmap has cluster 76 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15369+1
              1 cluster belongs to nothing, and may be a png file: from 77 on. The bitmap has cluster 77 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: folder Recordings/Thumbs: make the end mark at entry 20 an unused entry
              the sets behind it have clusters that fit and belong to nothing else
            judged: Recordings/Thumbs/spectrogram number 004.png: put right the name in its entry set
              of the names that its neighbours' numbers suggest, it alone has the hash that the set tells
            judged: keep 3 lost chains as files in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            33 of 36 files are whole after the repair, 4 rest on judgement and should be opened before they are handed out, 3 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "an entry more than the name needs",
        &expect![[r#"
        exfat/secondary-count at 28673+1
          Möwen und Lummen/Ruf der Tr: an entry set gives a wrong number of entries. The set stands at byte 28672 of the volume.
        exfat/stray-entry at 28768+32
          folder Möwen und Lummen: secondary entries belong to no file (1 entry). 
        derived: Möwen und Lummen/Ruf der Tr: put right the number of entries in its entry set
          the entries that follow, the name's characters, and the checksum computed from them
        derived: folder Möwen und Lummen: mark 1 entry unused
          no file entry stands before them
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "stream entry lost its type",
        &expect![[r#"
            exfat/set-entry-type at 26624+96
              Recordings/dawn 0001.wav: an entry of a set has lost its type. The set stands at byte 26624 of the volume.
            exact: Recordings/dawn 0001.wav: put right the stream entry's type in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "name entry lost its type",
        &expect![[r#"
            exfat/set-entry-type at 25728+192
              Logs/2026/counts on the western ledges, second visit.csv: an entry of a set has lost its type. The set stands at byte 25728 of the volume.
            exact: Logs/2026/counts on the western ledges, second visit.csv: put right a name entry's type in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "name length wrong",
        &expect![[r#"
            exfat/name-length at 22659+1
              README.TXT: a name's length is wrong. The set stands at byte 22624 of the volume.
            derived: README.TXT: put right the length of the name in its entry set
              the entries that follow, the name's characters, and the checksum computed from them
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "name hash wrong",
        &expect![[r#"
            exfat/name-hash at 24708+2
              Logs/station.log: a name does not have its hash. The set stands at byte 24672 of the volume.
            derived: Logs/station.log: put right the hash of the name in its entry set
              the entries that follow, the name's characters, and the checksum computed from them
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a bit of a name tipped over",
        &expect![[r#"
            exfat/name-hash at 24736+32
              Logs/station.log: a name does not have its hash. As the name stands, hash and checksum are those of another one. With one bit of one character as it was, both fit.
            exact: Logs/station.log: put right a character of the name in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a bit of a length tipped over",
        &expect![[r#"
            exfat/set-checksum at 24712+24
              Logs/station.log: an entry set does not have its checksum. Its two lengths differ, and the set does not have its checksum. With 4779 for both it has.
            exact: Logs/station.log: put right a length in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a bit of what is valid of a file tipped over",
        &expect![[r#"
            exfat/set-checksum at 24712+24
              Logs/station.log: an entry set does not have its checksum. Its two lengths differ, and the set does not have its checksum. With 4779 for both it has.
            exact: Logs/station.log: put right a length in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a bit of a first cluster tipped over",
        &expect![[r#"
            exfat/set-checksum at 24674+2
              Logs/station.log: an entry set does not have its checksum. The set stands at byte 24672 of the volume.
            judged: Logs/station.log: set the first cluster to 16
              clusters in use that nothing claimed, of exactly the length that this entry needs
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "a slash in a name",
        &expect![[r#"
            exfat/name-illegal at 22624+96
              R/ADME.TXT: a name has characters that are not allowed. The set stands at byte 22624 of the volume.
            exfat/name-hash at 22660+2
              R/ADME.TXT: a name does not have its hash. The set stands at byte 22624 of the volume.
            derived: R/ADME.TXT: put right the hash of the name in its entry set
              the entries that follow, the name's characters, and the checksum computed from them
            judged: R/ADME.TXT: call it R_ADME.TXT
              characters that are not allowed became _
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "a control character in a name",
        &expect![[r#"
            exfat/name-illegal at 23040+96
              edges.csv: a name has characters that are not allowed. The set stands at byte 23040 of the volume.
            exfat/name-hash at 23076+2
              edges.csv: a name does not have its hash. The set stands at byte 23040 of the volume.
            derived: edges.csv: put right the hash of the name in its entry set
              the entries that follow, the name's characters, and the checksum computed from them
            judged: edges.csv: call it _edges.csv
              characters that are not allowed became _
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "the same name twice",
        &expect![[r#"
            exfat/name-doubled at 79360+128
              Recordings/Thumbs/spectrogram number 003.png: a folder has the same name twice. The set stands at byte 79360 of the volume.
            judged: Recordings/Thumbs/spectrogram number 003.png: call it spectrogram number 003 2.png
              the folder has that name already
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "more bytes valid than there are",
        &expect![[r#"
        exfat/valid-length at 26664+8
          Recordings/dawn 0001.wav: more bytes of a file are valid than it has. 5808 bytes are said to be valid. The file has 5803.
        derived: Recordings/dawn 0001.wav: set the valid length from 5808 to 5803
          the length of the file
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "folder length 0",
        &expect![[r#"
            exfat/folder-length at 22872+8
              Recordings: a folder's length is wrong. The folder's length is 0, valid are 0. It has 1 cluster.
            exfat/lost-clusters at 15361+1
              1 cluster belongs to nothing, and all is blank: from 14 on. The bitmap has cluster 14 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: Recordings: set length and valid length to 1024
              its clusters
            derived: free 1 cluster that belongs to nothing
              they hold nothing but one byte value
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "folder length odd",
        &expect![[r#"
            exfat/valid-length at 22856+8
              Recordings: more bytes of a file are valid than it has. 2048 bytes are said to be valid. The file has 1017.
            exfat/folder-length at 22872+8
              Recordings: a folder's length is wrong. The folder's length is 1017, valid are 2048. It has 1 cluster.
            exfat/lost-clusters at 15361+1
              1 cluster belongs to nothing, and all is blank: from 14 on. The bitmap has cluster 14 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: Recordings: set length and valid length to 1024
              its clusters
            derived: free 1 cluster that belongs to nothing
              they hold nothing but one byte value
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "folder length huge",
        &expect![[r#"
            exfat/folder-length at 22776+8
              Logs: a folder's length is wrong. The folder's length is 1099511627776, valid are 1024. It has 1 cluster.
            derived: Logs: set length and valid length to 1024
              its clusters
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "allocation flag cleared",
        &expect![[r#"
            exfat/stream-flags at 24705+1
              Logs/station.log: the flags of a stream entry contradict the rest. The set stands at byte 24672 of the volume.
            derived: Logs/station.log: set NoFatChain
              its clusters
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "reserved attribute bits",
        &expect![[r#"
            exfat/attribute-bits at 22628+2
              README.TXT: reserved attribute bits are set. The set stands at byte 22624 of the volume.
            derived: README.TXT: put right reserved attribute bits in its entry set
              the entries that follow, the name's characters, and the checksum computed from them
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "empty file with a first cluster",
        &expect![[r#"
            exfat/first-cluster-unused at 25972+4
              Logs/2026/EMPTY.CSV: a file without content names a first cluster. The set stands at byte 25920 of the volume.
            derived: Logs/2026/EMPTY.CSV: set length and first cluster to 0
              its length is 0
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "end mark in the middle of a folder",
        &expect![[r#"
            exfat/end-mark-early at 26624+1
              folder Recordings: an end mark hides 5 files. Entry 0 is an end mark. Whole sets follow it, with clusters that fit and belong to nothing else. Hosts that stop at the mark do not show them.
            exfat/set-entry-type at 26624+1
              Recordings/dawn 0001.wav: an entry of a set has lost its type. The set stands at byte 26624 of the volume.
            exact: Recordings/dawn 0001.wav: put right the file entry's type in its entry set
              with it, the set has the checksum that stands in it
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "garbage behind the end mark",
        &expect![[r#"
        exfat/folder-tail at 28928+32
          folder Möwen und Lummen: something stands behind a folder's end mark. The folder ends at entry 7; something stands from entry 8 on.
        derived: folder Möwen und Lummen: clear what stands behind its end mark
          nothing may follow the end mark
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a file entry gone, its name left",
        &expect![[r#"
            exfat/lost-clusters at 15369+1
              1 cluster belongs to nothing, and may be a png file: from 80 on. The bitmap has cluster 80 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/stray-entry at 81024+32 81056+32 81088+32
              folder Recordings/Thumbs: secondary entries belong to no file (4 entries). 
            judged: Recordings/Thumbs/spectrogram number 009.png: write the entries that its name has lost, for the lost clusters from 80 on, 160 bytes
              the clusters begin as its kind does, and there is no other of either
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "a hole in a folder that ends before a name",
        &expect![[r#"
            exfat/lost-clusters at 15369+1
              1 cluster belongs to nothing, and may be a png file: from 80 on. The bitmap has cluster 80 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15369+1
              1 cluster belongs to nothing, and may be a png file: from 81 on. The bitmap has cluster 81 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15370+1
              1 cluster belongs to nothing, and may be a png file: from 82 on. The bitmap has cluster 82 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15370+1
              1 cluster belongs to nothing, and may be a png file: from 83 on. The bitmap has cluster 83 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            judged: Recordings/Thumbs/spectrogram number 012.png: write the entries that its name has lost, for the lost clusters from 83 on, 159 bytes
              the files of its folder lie in the order of its entries: these clusters are the last before those of the file behind it, and begin as its kind does
            judged: keep 3 lost chains as files in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            derived: folder Recordings/Thumbs: mark 12 entries unused
              no file entry stands before them
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            33 of 36 files are whole after the repair, 4 rest on judgement and should be opened before they are handed out, 3 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "name entries without a file",
        &expect![[r#"
        exfat/stray-entry at 26016+32
          folder Logs/2026: secondary entries belong to no file (1 entry). 
        derived: folder Logs/2026: mark 1 entry unused
          no file entry stands before them
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "an imager's text in a folder",
        &expect![[r#"
            exfat/junk-entry at 80896+32 80928+32 80960+32
              folder Recordings/Thumbs: a folder holds entries that no host wrote (16 entries). 
            exfat/lost-clusters at 15369+1
              1 cluster belongs to nothing, and may be a png file: from 79 on. The bitmap has cluster 79 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15369+1
              1 cluster belongs to nothing, and may be a png file: from 80 on. The bitmap has cluster 80 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15369+1
              1 cluster belongs to nothing, and may be a png file: from 81 on. The bitmap has cluster 81 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            judged: keep 4 lost chains as files in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            judged: folder Recordings/Thumbs: mark 16 entries unused
              they name nothing that exists
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            32 of 36 files are whole after the repair, 4 rest on judgement and should be opened before they are handed out, 4 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "entries that no host wrote",
        &expect![[r#"
        exfat/junk-entry at 26016+32
          folder Logs/2026: a folder holds entries that no host wrote (1 entry). 
        judged: folder Logs/2026: mark 1 entry unused
          they name nothing that exists
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a set marked deleted, clusters in use",
        &expect![[r#"
            exfat/deleted-in-use at 26816+96
              Recordings/dawn 0002.wav: a file is marked deleted, but its clusters are in use. The set stands at byte 26816 of the volume.
            judged: Recordings/dawn 0002.wav: mark its entry set as in use again
              the set has its checksum as it was before the delete; that the delete was none is judged
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "a delete to be finished",
        &expect![[r#"
            exfat/deleted-in-use at 24672+96
              Logs/station.log: a file is marked deleted, but its clusters are in use. The set stands at byte 24672 of the volume.
            judged: Logs/station.log: free its 5 clusters
              as chosen
            35 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 is lost; the volume is sound.
        "#]],
    );
    says(
        "a set lost, its clusters in use",
        &expect![[r#"
            exfat/lost-clusters at 15363+1
              6 clusters belong to nothing, and may be a wav file: from 28 on. The bitmap has clusters 28 to 33 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            judged: keep 1 lost chain as a file in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            35 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 is kept without its name or folder; the volume is sound.
        "#]],
    );
    says(
        "a folder's set lost",
        &expect![[r#"
            exfat/lost-folder at 26624+64
              the folder at cluster 13 has no entry. Cluster 13 begins with a whole entry set and belongs to no folder. Each folder has an entry in the folder above it. Its files are out of reach.
            exfat/lost-clusters at 15361+1
              1 cluster belongs to nothing, and all is blank: from 14 on. The bitmap has cluster 14 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: give the folder at cluster 13 an entry in the root folder, as lost folder 13
              it begins with a whole entry set, and belongs to no folder; its name is lost
            derived: free 1 cluster that belongs to nothing
              they hold nothing but one byte value
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a folder in pieces, its set lost",
        &expect![[r#"
            exfat/lost-folder at 78848+64
              the folder at cluster 64 has no entry. Cluster 64 begins with a whole entry set and belongs to no folder. Each folder has an entry in the folder above it. Its files are out of reach.
            derived: give the folder at cluster 64 an entry in the root folder, as lost folder 64
              it begins with a whole entry set, and belongs to no folder; its name is lost
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
}

#[test]
fn clusters_and_chains() {
    says(
        "chain into an empty entry",
        &expect![[r#"
        exfat/chain-into-free at 12448+4 12428+4
          Recordings/dawn 0002.wav: a chain runs into an empty table entry. The table entry of cluster 40 says nothing. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
        judged: rebuild 4 table entries
          chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
        36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain into a bad cluster",
        &expect![[r#"
        exfat/chain-into-bad at 12448+4
          Recordings/dawn 0002.wav: a chain runs into a bad cluster. The table entry of cluster 40 says that it is bad. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
        judged: rebuild 4 table entries
          chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
        36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain out of range",
        &expect![[r#"
        exfat/chain-out-of-range at 12432+4
          Recordings/dawn 0002.wav: a chain runs out of the volume. The table entry of cluster 36 holds 0xe530e5, which is no cluster of this volume. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
        judged: rebuild 6 table entries
          chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
        36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain into the value 1",
        &expect![[r#"
        exfat/chain-out-of-range at 12432+4
          Recordings/dawn 0002.wav: a chain runs out of the volume. The table entry of cluster 36 holds 0x1, which is no cluster of this volume. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
        judged: rebuild 6 table entries
          chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
        36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "chain runs into itself",
        &expect![[r#"
        exfat/chain-loop at 12460+4
          Recordings/dawn 0002.wav: a chain runs into itself. The table entry of cluster 43 leads back to cluster 36. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
        judged: rebuild 3 table entries
          chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
        36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "last cluster leads back",
        &expect![[r#"
        exfat/chain-loop at 12476+4
          Recordings/dawn 0002.wav: a chain runs into itself. The table entry of cluster 47 leads back to cluster 35. It should name the next cluster, or end the chain. All of its content is known.
        derived: end chains where the length says: 1 table entry
          lengths in the entry sets, end marks in the folders
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "chain without an end",
        &expect![[r#"
        exfat/chain-into-free at 12476+4 12428+4
          Recordings/dawn 0002.wav: a chain runs into an empty table entry. The table entry of cluster 47 says nothing. It should name the next cluster, or end the chain. All of its content is known.
        derived: end chains where the length says: 1 table entry
          lengths in the entry sets, end marks in the folders
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "chain ended early",
        &expect![[r#"
        exfat/chain-too-short at 26872+8
          Recordings/dawn 0002.wav: a file has fewer clusters than its length needs. Its length is 6827 bytes. It has 3 clusters.
        derived: Recordings/dawn 0002.wav: set the length from 6827 to 3072
          the clusters it has
        35 of 36 files are whole after the repair, 1 loses its end; the volume is sound.
    "#]],
    );
    says(
        "chain into another file's",
        &expect![[r#"
            exfat/cross-linked at 25652+4
              Logs/2026/tides of the first week.csv: a file shares clusters with another. The set stands at byte 25600 of the volume. The rest was found by judgement: clusters that are in use and belong to nothing else.
            judged: rebuild 3 table entries
              chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "two files name the same clusters",
        &expect![[r#"
            exfat/cross-linked at 26676+4
              Recordings/dawn 0001.wav: a file shares clusters with another. The set stands at byte 26624 of the volume. Clusters that fit its length and its kind, and belong to nothing else, were found elsewhere.
            judged: Recordings/dawn 0001.wav: set the first cluster to 28
              clusters in use that nothing claimed, of exactly the length that this entry needs
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "two files name the same clusters, one to be emptied",
        &expect![[r#"
            exfat/cross-linked at 26676+4
              Recordings/dawn 0001.wav: a file shares clusters with another. The set stands at byte 26624 of the volume.
            judged: Recordings/dawn 0001.wav: set length and first cluster to 0
              its clusters are another's too
            35 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 loses its end; the volume is sound.
        "#]],
    );
    says(
        "length larger than the clusters",
        &expect![[r#"
        exfat/chain-too-short at 26872+8
          Recordings/dawn 0002.wav: a file has fewer clusters than its length needs. Its length is 27307 bytes. It has 7 clusters.
        derived: Recordings/dawn 0002.wav: set the length from 27307 to 7168
          the clusters it has
        35 of 36 files are whole after the repair, 1 loses its end; the volume is sound.
    "#]],
    );
    says(
        "length larger than the clusters, what is valid is not",
        &expect![[r#"
            exfat/chain-too-short at 28856+8
              Möwen und Lummen/文字.txt: a file has fewer clusters than its length needs. Its length is 4398046511202 bytes. It has 1 cluster.
            derived: Möwen und Lummen/文字.txt: set the length from 4398046511202 to 98
              what is valid of it, which ends in the last of its clusters
            35 of 36 files are whole after the repair, 1 loses its end; the volume is sound.
        "#]],
    );
    says(
        "length smaller than the clusters",
        &expect![[r#"
            exfat/lost-clusters at 15364+2
              4 clusters belong to nothing: from 40 on. The bitmap has clusters 40 to 43 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/chain-too-long at 26872+8
              Recordings/dawn 0002.wav: a file has more clusters than its length needs. Its length is 3072 bytes. It has 3 clusters.
            derived: end chains where the length says: 1 table entry
              lengths in the entry sets, end marks in the folders
            judged: keep 1 lost chain as a file in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            36 of 37 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 is kept without its name or folder; the volume is sound.
        "#]],
    );
    says(
        "length smaller than the clusters, which are right",
        &expect![[r#"
            exfat/lost-clusters at 15364+2
              4 clusters belong to nothing: from 40 on. The bitmap has clusters 40 to 43 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/chain-too-long at 26872+8
              Recordings/dawn 0002.wav: a file has more clusters than its length needs. Its length is 3072 bytes. It has 3 clusters.
            judged: Recordings/dawn 0002.wav: set the length from 3072 to 7168
              the length of its chain, as chosen
            36 of 37 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 is lost; the volume is sound.
        "#]],
    );
    says(
        "NoFatChain cleared",
        &expect![[r#"
        exfat/no-fat-chain-lost at 24705+1
          Logs/station.log: a file in a row has lost its NoFatChain flag. NoFatChain is clear, and the table has no chain behind the first cluster. The clusters that follow are in use and nobody else's.
        derived: Logs/station.log: set NoFatChain
          the clusters that follow are in use and nobody else's, and the table has no chain
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "NoFatChain set on a file in pieces",
        &expect![[r#"
        exfat/no-fat-chain-wrong at 26849+1
          Recordings/dawn 0002.wav: a fragmented file has the NoFatChain flag. NoFatChain is set, but the clusters that follow are another's. The table has a chain of exactly the length.
        derived: Recordings/dawn 0002.wav: clear NoFatChain
          the table has a chain of exactly its length; what follows the first cluster is another's
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "NoFatChain cleared on a folder",
        &expect![[r#"
            exfat/no-fat-chain-lost at 22849+1
              Recordings: a file in a row has lost its NoFatChain flag. NoFatChain is clear, and the table has no chain behind the first cluster. The clusters that follow are in use and nobody else's.
            derived: Recordings: set NoFatChain
              the clusters that follow are in use and nobody else's, and the table has no chain
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "first cluster 0",
        &expect![[r#"
        exfat/first-cluster-missing at 26676+4
          Recordings/dawn 0001.wav: a file with a length has no first cluster. The entry names cluster 0 for 5803 bytes. What fits and belongs to nothing else begins at cluster 28.
        judged: Recordings/dawn 0001.wav: set the first cluster to 28
          clusters in use that nothing claimed, of exactly the length that this entry needs
        36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "first cluster out of range",
        &expect![[r#"
        exfat/first-cluster-range at 26868+4
          Recordings/dawn 0002.wav: a first cluster is none of the volume. The entry names cluster 15020261 for 6827 bytes. What fits and belongs to nothing else begins at cluster 35.
        judged: Recordings/dawn 0002.wav: set the first cluster to 35
          clusters in use that nothing claimed, of exactly the length that this entry needs
        36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "folder's first cluster out of range",
        &expect![[r#"
            exfat/first-cluster-range at 22868+4
              Recordings: a first cluster is none of the volume. The entry names cluster 15020261 for 2048 bytes. What fits and belongs to nothing else begins at cluster 13.
            judged: Recordings: set the first cluster to 13
              clusters in use that nothing claimed, of exactly the length that this entry needs
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "folder's first cluster is an unused one",
        &expect![[r#"
            exfat/used-but-free at 15379+1
              2 clusters are in use, free by the bitmap. Cluster 157 is the first. A cluster that belongs to a file has its bit set.
            exfat/lost-folder at 26624+64
              the folder at cluster 13 has no entry. Cluster 13 begins with a whole entry set and belongs to no folder. Each folder has an entry in the folder above it. Its files are out of reach.
            exfat/lost-clusters at 15361+1
              1 cluster belongs to nothing, and all is blank: from 14 on. The bitmap has cluster 14 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: give the folder at cluster 13 an entry in the root folder, as lost folder 13
              it begins with a whole entry set, and belongs to no folder; its name is lost
            derived: free 1 cluster that belongs to nothing
              they hold nothing but one byte value
            derived: set the bitmap as the clusters are used, in 2 clusters
              every cluster that a file, a folder or the volume's own tables claim
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "folder's clusters hold one value",
        &expect![[r#"
            exfat/first-cluster-wrong at 22964+4
              Möwen und Lummen: a folder's first cluster holds no folder. The set stands at byte 22912 of the volume.
            exfat/lost-clusters at 15363+1
              1 cluster belongs to nothing, and may be a txt file: from 26 on. The bitmap has cluster 26 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15367+1
              3 clusters belong to nothing, and may be a wav file: from 61 on. The bitmap has clusters 61 to 63 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            judged: Möwen und Lummen: empty the folder
              one value stands in all of it, or what an imager puts there: what it held is gone
            judged: keep 2 lost chains as files in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            34 of 36 files are whole after the repair, 3 rest on judgement and should be opened before they are handed out, 2 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "folder's clusters hold noise",
        &expect![[r#"
            exfat/first-cluster-wrong at 22964+4
              Möwen und Lummen: a folder's first cluster holds no folder. The set stands at byte 22912 of the volume.
            exfat/lost-clusters at 15363+1
              1 cluster belongs to nothing, and may be a txt file: from 26 on. The bitmap has cluster 26 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            exfat/lost-clusters at 15367+1
              3 clusters belong to nothing, and may be a wav file: from 61 on. The bitmap has clusters 61 to 63 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            judged: Möwen und Lummen: make the folder a file
              what it names holds no folder; as a file it can be looked at
            judged: keep 2 lost chains as files in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            35 of 37 files are whole after the repair, 3 rest on judgement and should be opened before they are handed out, 2 are kept without their names or folders; the volume is sound.
        "#]],
    );
    says(
        "folder's chain broken",
        &expect![[r#"
            exfat/chain-into-free at 12544+4
              Recordings/Thumbs: a chain runs into an empty table entry. The table entry of cluster 64 says nothing. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
            judged: rebuild 1 table entry
              chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "row runs out of the volume",
        &expect![[r#"
            exfat/run-out-of-range at 26676+12
              Recordings/dawn 0001.wav: clusters in a row run out of the volume. The set stands at byte 26624 of the volume.
            exfat/chain-too-short at 26680+8
              Recordings/dawn 0001.wav: a file has fewer clusters than its length needs. Its length is 5803 bytes. It has 2 clusters.
            exfat/lost-clusters at 15363+1
              6 clusters belong to nothing, and may be a wav file: from 28 on. The bitmap has clusters 28 to 33 in use. Each cluster in use belongs to a file, a folder or the volume's own tables.
            derived: Recordings/dawn 0001.wav: set the length from 5803 to 2048
              the clusters it has
            judged: keep 1 lost chain as a file in the folder ADRIFT
              the bitmap has them in use, and no file claims them; names are not known, exact lengths where the content tells
            derived: set the bitmap as the clusters are used, in 1 cluster
              every cluster that a file, a folder or the volume's own tables claim
            35 of 37 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 is kept without its name or folder, 1 loses its end; the volume is sound.
        "#]],
    );
    says(
        "root chain zeroed",
        &expect![[r#"
            exfat/chain-into-free at 12324+4 12324+4
              the root folder: a chain runs into an empty table entry. The table entry of cluster 9 says nothing. It should name the next cluster, or end the chain. Its entries end there.
            derived: write the root folder's chain: 1 cluster
              the folder's own end mark; clusters that go on as a folder does
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root chain runs into itself",
        &expect![[r#"
            exfat/chain-loop at 12324+4 12324+4
              the root folder: a chain runs into itself. The table entry of cluster 9 leads back to cluster 9. It should name the next cluster, or end the chain. Its entries end there.
            derived: write the root folder's chain: 1 cluster
              the folder's own end mark; clusters that go on as a folder does
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "root chain out of range",
        &expect![[r#"
            exfat/chain-out-of-range at 12324+4 12324+4
              the root folder: a chain runs out of the volume. The table entry of cluster 9 holds 0x3030e5, which is no cluster of this volume. It should name the next cluster, or end the chain. Its entries end there.
            derived: write the root folder's chain: 1 cluster
              the folder's own end mark; clusters that go on as a folder does
            36 of 36 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "table erased to FF",
        &expect![[r#"
            exfat/chain-into-free at 12372+4
              Logs/2026/tides of the first week.csv: a chain runs into an empty table entry. The table entry of cluster 21 says nothing. It should name the next cluster, or end the chain. What is missing was not found.
            exfat/chain-into-free at 12376+4
              Logs/2026/counts on the western ledges, second visit.csv: a chain runs into an empty table entry. The table entry of cluster 22 says nothing. It should name the next cluster, or end the chain. What is missing was not found.
            exfat/chain-into-free at 12428+4
              Recordings/dawn 0002.wav: a chain runs into an empty table entry. The table entry of cluster 35 says nothing. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
            exfat/chain-into-free at 12480+4
              Recordings/dusk 0003.wav: a chain runs into an empty table entry. The table entry of cluster 48 says nothing. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
            judged: rebuild 13 table entries
              chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
            derived: Recordings/Thumbs: set the length from 4096 to 3072
              the clusters it has
            derived: Logs/2026/tides of the first week.csv: set the length from 3755 to 1024
              the clusters it has
            derived: Logs/2026/counts on the western ledges, second visit.csv: set the length from 1041 to 1024
              the clusters it has
            34 of 39 files are whole after the repair, 6 rest on judgement and should be opened before they are handed out, 3 are kept without their names or folders, 2 lose their end; the volume is sound.
        "#]],
    );
    says(
        "table and bitmap zeroed",
        &expect![[r#"
        exfat/chain-into-free at 12324+4 12324+4
          the root folder: a chain runs into an empty table entry. The table entry of cluster 9 says nothing. It should name the next cluster, or end the chain. Its entries end there.
        exfat/chain-into-free at 12372+4
          Logs/2026/tides of the first week.csv: a chain runs into an empty table entry. The table entry of cluster 21 says nothing. It should name the next cluster, or end the chain. What is missing was not found.
        exfat/chain-into-free at 12376+4
          Logs/2026/counts on the western ledges, second visit.csv: a chain runs into an empty table entry. The table entry of cluster 22 says nothing. It should name the next cluster, or end the chain. What is missing was not found.
        exfat/chain-into-free at 12428+4
          Recordings/dawn 0002.wav: a chain runs into an empty table entry. The table entry of cluster 35 says nothing. It should name the next cluster, or end the chain. What is missing was not found.
        derived: write the root folder's chain: 1 cluster
          the folder's own end mark; clusters that go on as a folder does
        derived: end chains where the length says: 5 table entries
          lengths in the entry sets, end marks in the folders
        judged: rebuild 2 table entries
          chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
        derived: Recordings/dawn 0002.wav: set the length from 6827 to 1024
          the clusters it has
        32 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 4 lose their end; the volume is sound.
    "#]],
    );
    says(
        "table zeroed whole",
        &expect![[r#"
            exfat/chain-into-free at 12324+4 12324+4
              the root folder: a chain runs into an empty table entry. The table entry of cluster 9 says nothing. It should name the next cluster, or end the chain. Its entries end there.
            exfat/chain-into-free at 12372+4
              Logs/2026/tides of the first week.csv: a chain runs into an empty table entry. The table entry of cluster 21 says nothing. It should name the next cluster, or end the chain. What is missing was not found.
            exfat/chain-into-free at 12376+4
              Logs/2026/counts on the western ledges, second visit.csv: a chain runs into an empty table entry. The table entry of cluster 22 says nothing. It should name the next cluster, or end the chain. What is missing was not found.
            exfat/chain-into-free at 12428+4
              Recordings/dawn 0002.wav: a chain runs into an empty table entry. The table entry of cluster 35 says nothing. It should name the next cluster, or end the chain. The rest was found by judgement: clusters that are in use and belong to nothing else.
            derived: write the root folder's chain: 1 cluster
              the folder's own end mark; clusters that go on as a folder does
            derived: end chains where the length says: 3 table entries
              lengths in the entry sets, end marks in the folders
            judged: rebuild 13 table entries
              chains in use that nothing claimed and that fit the missing length, else the clusters that follow, are in use and belong to nothing else
            derived: Recordings/Thumbs: set the length from 4096 to 3072
              the clusters it has
            34 of 39 files are whole after the repair, 6 rest on judgement and should be opened before they are handed out, 3 are kept without their names or folders, 2 lose their end; the volume is sound.
        "#]],
    );
    says(
        "first table damaged, the second right",
        &expect![[r#"
        exfat/copies-differ at 12448+4 15008+4 12468+4
          the two tables differ in 2 entries. They differ at clusters 40 to 45. A clean volume has both alike.
        exact: take over 7 table entries
          the other table of TexFAT, in which the chains fit their files
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "second table zeroed",
        &expect![[r#"
        exfat/copies-differ at 12296+4 14856+4 12300+4
          the two tables differ in 30 entries. They differ at clusters 2 to 71. A clean volume has both alike.
        exact: make both tables alike in 30 entries
          the active table, whose chains fit their files
        36 of 36 files are whole after the repair; the volume is sound.
    "#]],
    );
}
