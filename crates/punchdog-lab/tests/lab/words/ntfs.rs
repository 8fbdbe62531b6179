//! NTFS: a fault of each class, on a small volume.

use expect_test::{Expect, expect};
use punchdog_damage::{
    ntfs::{everyday, small},
    ntfs_faults::{self, Patient},
};
use std::collections::BTreeSet;

fn says(name: &str, expected: &Expect) {
    let fault = ntfs_faults::all().find(|fault| fault.name == name).expect("a fault of that name");
    super::says(fault, [Patient::new(everyday(&small(512, 4096, 1024), 3))], expected);
}

#[test]
fn every_class_of_fault_is_spoken_for_here() {
    let source = include_str!("ntfs.rs");
    let all: BTreeSet<&str> = ntfs_faults::all().map(|fault| fault.code).collect();
    let spoken = ntfs_faults::all().filter(|fault| source.contains(&format!("{:?},", fault.name)));
    let spoken: BTreeSet<&str> = spoken.map(|fault| fault.code).collect();
    assert_eq!(spoken, all);
}

#[test]
fn the_boot_sector_and_its_copy() {
    says(
        "sector 0 zero",
        &expect![[r#"
        ntfs/boot-gone at 0+512
          the boot sector is gone. Sector 0 is no NTFS boot sector. It should say where $MFT begins. Its copy at byte 4865536 of the volume is whole.
        exact: write the copy of the boot sector, at byte 4865536 of the volume, over sector 0
          the copy of the boot sector: it leads to the records, and they agree
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "boot sector of an older format",
        &expect![[r#"
        ntfs/mft-place at 48+8
          $MFT is not where the boot sector says. MftStartLcn is 77. It should be 4: copy and records agree.
        ntfs/mirror-place at 56+8
          $MFTMirr is not where the boot sector says. Mft2StartLcn is 3. It should be 593: copy and records agree.
        exact: set MftStartLcn (boot sector, byte 48) from 77 to 4
          the copy of the boot sector
        exact: set Mft2StartLcn (boot sector, byte 56) from 3 to 593
          the copy of the boot sector
        exact: write the copy of the boot sector at byte 4865536 of the volume
          the boot sector, as it stands after the steps before
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "name overwritten",
        &expect![[r#"
        ntfs/boot-name at 3+8
          the boot sector does not name NTFS. OemId is "MSDOS5.0". It should be "NTFS": always the same.
        exact: set OemId (boot sector, byte 3) from "MSDOS5.0" to "NTFS"
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "signature zero",
        &expect![[r#"
        ntfs/boot-signature at 510+2
          the boot sector's signature 55 AA is missing. Signature is 00 00. It should be 55 AA: always the same.
        exact: set Signature (boot sector, byte 510) from 00 00 to 55 AA
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "jump zero",
        &expect![[r#"
        ntfs/boot-jump at 0+3
          the boot sector does not begin with EB 52 90. Jump is 00 00 00. It should be EB 52 90: always the same.
        exact: set Jump (boot sector, byte 0) from 00 00 00 to EB 52 90
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "sector size 0",
        &expect![[r#"
        ntfs/sector-size at 11+2
          the sector size is wrong. BytesPerSector is 0. It should be 512: copy and records agree.
        exact: set BytesPerSector (boot sector, byte 11) from 0 to 512
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "cluster size 0",
        &expect![[r#"
        ntfs/cluster-size at 13+1
          the cluster size is wrong. SectorsPerCluster is 0. It should be 8: copy and records agree.
        exact: set SectorsPerCluster (boot sector, byte 13) from 0 to 8
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "reserved sectors 1",
        &expect![[r#"
        ntfs/boot-must-be-zero at 14+7
          fields that must be zero are not. Reserved is 01 00 00 00 00 00 00. It should be 00 00 00 00 00 00 00: always zero.
        exact: set Reserved (boot sector, byte 14) from 01 00 00 00 00 00 00 to 00 00 00 00 00 00 00
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "media descriptor 0",
        &expect![[r#"
        ntfs/media at 21+1
          the media descriptor is none. Media is 0x00. It should be 0xf8: from the backup.
        exact: set Media (boot sector, byte 21) from 0x00 to 0xf8
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "total sectors 0",
        &expect![[r#"
        ntfs/total-sectors at 40+8
          the volume's length is wrong. TotalSectors is 0. It should be 9503: copy and records agree.
        exact: set TotalSectors (boot sector, byte 40) from 0 to 9503
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "$MFTMirr's cluster wrong",
        &expect![[r#"
        ntfs/mirror-place at 56+8
          $MFTMirr is not where the boot sector says. Mft2StartLcn is 99. It should be 593: the records agree.
        exact: set Mft2StartLcn (boot sector, byte 56) from 99 to 593
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "record size 0",
        &expect![[r#"
        ntfs/record-size at 64+1
          the size of the records is wrong. ClustersPerFileRecord is 0x00. It should be 0xf6: copy and records agree.
        exact: set ClustersPerFileRecord (boot sector, byte 64) from 0x00 to 0xf6
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "index size 0",
        &expect![[r#"
        ntfs/index-size at 68+1
          the size of the index blocks is wrong. ClustersPerIndexBlock is 0x00. It should be 0x01: copy and records agree.
        exact: set ClustersPerIndexBlock (boot sector, byte 68) from 0x00 to 0x01
          the copy of the boot sector
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "copy zero",
        &expect![[r#"
        ntfs/copy-gone at 4865536+512
          there is no copy of the boot sector. The sector at byte 4865536 of the volume is no NTFS boot sector. The sector behind the last one that is counted is a copy of sector 0. If the boot sector is lost, it has to be computed.
        exact: write the copy of the boot sector at byte 4865536 of the volume
          the boot sector, as it stands after the steps before
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "copy differs",
        &expect![[r#"
        ntfs/copy-differs at 4865576+1
          the copy of the boot sector is another one. It differs in 3 bytes, the first at its byte 40. It should be a copy.
        exact: write the copy of the boot sector at byte 4865536 of the volume
          the boot sector, as it stands after the steps before
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
}

#[test]
fn the_file_system_s_own_files() {
    says(
        "record 0 zero",
        &expect![[r#"
            ntfs/system-record at 16384+1024
              record 0 ($MFT) is not in order. It does not say where the records stand. Its copy in $MFTMirr does.
            ntfs/cluster-marked-used at 16384+200704
              49 clusters are marked in use that no file has. 49 clusters are marked in use that no file has. By the records that can be read, all of that is free.
            exact: copy record 0 ($MFT) from $MFTMirr, byte 2428928 of the volume
              $MFTMirr: the copy is whole
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "record 0's sequence number 2",
        &expect![[r#"
        ntfs/sequence at 16384+1024
          record 0 ($MFT) is not in order. Its sequence number is 2. It is 1, always.
        ntfs/index-entry-missing at 16384+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-stale at 885400+16
          a folder's index names a file that is not there. The record of the file was given to another since.
        derived: set sequence number and flags of record 0 ($MFT)
          they are always the same; the rest of the record is whole
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "record 2 zero",
        &expect![[r#"
            ntfs/log-gone at 18432+1024
              record 2 ($LogFile) is not in order. It is blank.
            ntfs/cluster-marked-used at 622592+262144
              64 clusters are marked in use that no file has. 64 clusters are marked in use that no file has. By the records that can be read, all of that is free.
            exact: copy record 2 ($LogFile) from $MFTMirr, byte 2430976 of the volume
              $MFTMirr: the copy is whole
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "record 3 without volume information",
        &expect![[r#"
        ntfs/volume-information at 19456+1024
          record 3 ($Volume) is not in order. It has no $VOLUME_INFORMATION.
        exact: copy record 3 ($Volume) from $MFTMirr, byte 2432000 of the volume
          $MFTMirr: the copy is whole
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "record 6 zero",
        &expect![[r#"
        ntfs/bitmap-gone at 22528+1024
          record 6 ($Bitmap) is not in order. It is blank.
        derived: write record 6 ($Bitmap) anew
          clusters that no file has hold the bitmap
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "record 8 too short",
        &expect![[r#"
            ntfs/bad-clusters-list at 24576+4
              $BadClus is not as long as the volume. $Bad has 1187 clusters and says that it is 4825088 bytes long. The volume has 1187 clusters, or 4861952 bytes.
            derived: write record 8 ($BadClus) anew
              it is as long as the volume
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "copies zero",
        &expect![[r#"
        ntfs/mirror-record at 2428928+4
          a copy in $MFTMirr is damaged. The copy of record 0 cannot be read. It should be the same.
        ntfs/mirror-record at 2429952+4
          a copy in $MFTMirr is damaged. The copy of record 1 cannot be read. It should be the same.
        ntfs/mirror-record at 2430976+4
          a copy in $MFTMirr is damaged. The copy of record 2 cannot be read. It should be the same.
        ntfs/mirror-record at 2432000+4
          a copy in $MFTMirr is damaged. The copy of record 3 cannot be read. It should be the same.
        exact: copy the first records into $MFTMirr
          the records themselves
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a copy is older",
        &expect![[r#"
        ntfs/mirror-differs at 2432330+1
          $MFTMirr is not a copy of the first records. The copy of record 3 differs from it at byte 330. It should be the same.
        exact: copy the first records into $MFTMirr
          the records themselves
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "up-case table zero",
        &expect![[r#"
        ntfs/up-case at 491522+2
          $UpCase holds no table of capitals. 255 letters have a capital that is none, the first is letter 0x0001. It has the capital of each of 65536 letters.
        derived: give letters in $UpCase their usual capitals
          the table that the exFAT specification publishes, which NTFS volumes have too
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "attribute definitions zero",
        &expect![[r#"
        ntfs/attribute-definitions at 217088+160
          $AttrDef is not the table of attributes. Row 0 is not what it is on other volumes.
        derived: write the usual table of attributes into $AttrDef
          the table that volumes of version 3 have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a security descriptor struck",
        &expect![[r#"
        ntfs/security-descriptors at 225280+104
          descriptors in $Secure are damaged. The first copy of the descriptor with the id 0x100 is damaged. Its hash should fit, in both, and the id should be one.
        exact: copy damaged security descriptors from where they stand a second time
          the copy in $Secure whose hash fits
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "volume dirty",
        &expect![[r#"
        ntfs/not-closed at 19786+2
          the volume is marked dirty. The volume flags are 0x0001. A host clears the lowest bit when it closes the volume.
        derived: clear the dirty flag in $Volume
          nothing else is wrong any more
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "version 9",
        &expect![[r#"
        ntfs/version at 19784+2
          the volume's version is none that was ever used. It says 9.1. 1.2, 3.0 and 3.1 were used.
        derived: set the volume's version from 9.1 to 3.1
          it has $Secure and $Extend, which came with version 3
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "log in use",
        &expect![[r#"
        ntfs/log-in-use at 622592+4096
          $LogFile was not closed. Its restart page says that a host uses it. A host that closes the volume says so there.
        judged: fill $LogFile with FF: hosts take that for an empty log
          what hosts write themselves when they have replayed it
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "log zero",
        &expect![[r#"
        ntfs/log-garbage at 622592+4096
          $LogFile holds no log. It has no restart page that can be believed, and is not empty.
        judged: fill $LogFile with FF: hosts take that for an empty log
          what hosts write themselves when they have replayed it
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
}

#[test]
fn records_and_attributes() {
    says(
        "a record's signature zero",
        &expect![[r#"
        ntfs/record-signature at 49152+4
          a record does not begin with FILE. Record 32 begins with 00 00 00 00. It should begin with 46 49 4C 45.
        derived: set the signature of record 32
          the rest of the record is whole
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "the head of a record zero",
        &expect![[r#"
        ntfs/record-head at 62464+56
          the head of a record was written over. The first bytes of record 45 are no head; its attributes can be read from byte 56 on. Sequence number, flags and sizes are not known from it.
        judged: write the head of record 45 anew
          its attributes, which can be read from byte 56 to their end; how often it was used from the entry in its folder, or from what stands in it
        77 of 77 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "head and standard information of a record noise",
        &expect![[r#"
        ntfs/no-standard-information at 56320+1024
          a file has no standard information. Record 39 has no $STANDARD_INFORMATION.
        ntfs/record-head at 56320+152
          the head of a record was written over. The first bytes of record 39 are no head; its attributes can be read from byte 152 on. Sequence number, flags and sizes are not known from it.
        judged: write the head of record 39 anew
          its attributes, which can be read from byte 152 to their end; how often it was used from the entry in its folder, or from what stands in it
        derived: give record 39 standard information again
          the times and attributes of its name
        77 of 77 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "a record holds a copy of another",
        &expect![[r#"
        ntfs/record-lost at 62464+1024
          a file's record cannot be read. Record 45 holds a copy of record 32: a write went to the wrong place. A folder has an entry for it. Its name, and how large it was, are what is left.
        ntfs/cluster-marked-used at 1118208+12288
          3 clusters are marked in use that no file has. 3 clusters are marked in use that no file has. By the records that can be read, all of that is free.
        derived: index of Möwen und Lummen: 2 entries taken out
          the names that the files' own records have
        judged: free 1 record that cannot be read
          nothing can be read of them, and no folder names them once it is mended
        derived: mark records in $MFT's bitmap as they are
          each record says itself whether it is in use
        judged: mark 3 clusters free in $Bitmap that no file has
          the run lists of the records
        76 of 77 files are whole after the repair, 1 is lost; the volume is sound.
    "#]],
    );
    says(
        "a record for later versions holds a part of another",
        &expect![[r#"
        ntfs/name-head at 29936+2
          the length or kind of a name cannot be. A name in record 13 is of another length than its value, or of a kind that there is not. It has 11 characters; the kind is 0.
        ntfs/record-broken at 29960+16
          the attributes of a record cannot be read to the end. In record 13, at its byte 264, an attribute is of a type that there is not, or out of order.
        ntfs/record-number at 29740+4
          a record says that it is another. Record 13 says that it is 32.
        derived: write record 13 anew, which holds nothing
          records 12 to 15 are kept for later versions on every volume
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a record is torn in its last sector",
        &expect![[r#"
        ntfs/record-torn at 50174+2
          a record is of two writings. In record 32 the 512 bytes from 512 on do not end as its fixups say: they are of another writing. All of a record ends with one update sequence number.
        judged: set the fixups of record 32 anew
          what the record says can be read to its end
        77 of 77 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "the number of fixups wrong",
        &expect![[r#"
        ntfs/record-fixups at 49156+4
          the fixups of a record cannot be. The offset or number of fixups in the head of record 32 cannot be. There is one for every 512 bytes, and one more.
        derived: set where the fixups of record 32 are
          they are always there, and all strides agree
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a record says that it is another",
        &expect![[r#"
        ntfs/record-number at 49196+4
          a record says that it is another. Record 32 says that it is 122.
        derived: set the number that record 32 gives itself, from 122
          where the record stands
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "bytes in use too many",
        &expect![[r#"
        ntfs/record-used at 49176+4
          a record has other bytes in use than it says. Record 32 ends its attributes at byte 344. Its head says otherwise.
        derived: set the bytes in use of record 32 to 344
          the end of its attributes
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "bytes in use too few",
        &expect![[r#"
            ntfs/no-name at 49152+1024
              a file has no name. Its record has no name.
            ntfs/record-broken at 49208+16
              the attributes of a record cannot be read to the end. In record 32, at its byte 56, the length of an attribute cannot be.
            ntfs/cluster-marked-used at 888832+20480
              5 clusters are marked in use that no file has. 5 clusters are marked in use that no file has. By the records that can be read, all of that is free.
            ntfs/index-entry-stale at 1258072+16
              a folder's index names a file that is not there. The file has no such name in this folder.
            derived: put the attributes of record 32 in order
              the other attributes can be read to their end in one way only
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "the next attribute id in use",
        &expect![[r#"
        ntfs/attribute-ids at 49192+2
          the ids of a record's attributes are not told apart. In record 32 two attributes have one id, or the next one is in use.
        derived: tell the attributes of record 32 apart by their ids
          the attributes, in their order
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "standard information gone",
        &expect![[r#"
            ntfs/no-standard-information at 49152+1024
              a file has no standard information. Record 32 has no $STANDARD_INFORMATION.
            derived: give record 32 standard information again
              the times and attributes of its name
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "link count 9",
        &expect![[r#"
        ntfs/link-count at 44050+2
          a file has another number of names than it says. Record 27 says 9. It has 1.
        derived: set the number of names of record 27 to 1
          the names that it has
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a file says that it is packed",
        &expect![[r#"
        ntfs/attribute-sizes at 49456+24
          the sizes of an attribute do not go together. In record 32, the sizes of $DATA: allocated, content, valid. None is larger than the one before, and the first is whole clusters.
        derived: set the sizes of $DATA of record 32 by its runs
          its size ends in the last of its clusters
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "last VCN wrong",
        &expect![[r#"
        ntfs/run-count at 49448+2
          a run list has other clusters than its attribute counts. In record 32, for $DATA, a run list has other clusters than its attribute counts.
        derived: set the last VCN of $DATA of record 32
          its run list, which its sizes bear out
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a security id that there is not",
        &expect![[r#"
        ntfs/security-id at 122880+1024
          1 file names a security id that is not in $Secure. 
        judged: give 1 file the security id of the others in its folder
          the files beside it; the descriptor that it names is not in $Secure
        77 of 77 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
}

#[test]
fn run_lists() {
    says(
        "a run list's first byte cannot be",
        &expect![[r#"
            ntfs/run-list at 49448+2
              a run list cannot be read. In record 32, for $DATA, a run list cannot be read.
            ntfs/cluster-marked-used at 888832+20480
              5 clusters are marked in use that no file has. 5 clusters are marked in use that no file has. By the records that can be read, all of that is free.
            derived: set one byte in the run list of $DATA of record 32
              the one byte with which it has the clusters that it counts, all of them in use and nobody else's
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a run leads before the volume",
        &expect![[r#"
            ntfs/run-beyond at 56744+2
              a run lies outside the volume. In record 39, for $DATA, a run lies outside the volume.
            ntfs/cluster-marked-used at 942080+24576
              6 clusters are marked in use that no file has. 6 clusters are marked in use that no file has. By the records that can be read, all of that is free.
            derived: set one byte in the run list of $DATA of record 39
              the one byte with which it has the clusters that it counts, all of them in use and nobody else's
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "a run leads into another file",
        &expect![[r#"
            ntfs/clusters-shared at 946176+20480
              files share clusters. 5 clusters are claimed more than once. Each cluster is one file's.
            ntfs/cluster-marked-used at 888832+20480
              5 clusters are marked in use that no file has. 5 clusters are marked in use that no file has. By the records that can be read, all of that is free.
            judged: set one byte in the run list of $DATA of record 32
              with it the file has the clusters that it counts, all of them in use and nobody else's; as it stands, another file has them too
            77 of 77 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
}

#[test]
fn attribute_lists() {
    says(
        "a list leaves a record out",
        &expect![[r#"
        ntfs/attribute-list at 60416+1024
          an attribute list is not what the file's records have. The attribute list of record 43: it leaves 1 attribute out. It has what stands in the record and in those that extend it, each once.
        derived: write the attribute list of record 43 anew
          the records that name this one as their base, and what stands in them
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "the third record of a file of four is lost",
        &expect![[r#"
            ntfs/attribute-pieces at 50176+1024
              the pieces of an attribute leave something out. Of $DATA of record 33, a piece is missing.
            ntfs/record-lost at 52224+1024
              a file's record cannot be read. Record 35 is no record. It is in use. No folder names it.
            ntfs/cluster-marked-used at 925696+4096
              1 cluster is marked in use that no file has. 1 cluster is marked in use that no file has. By the records that can be read, all of that is free.
            judged: record 33: end it before the clusters that a lost record told of
              what of its run lists can be read
            derived: write the attribute list of record 33 anew
              the records that name this one as their base, and what stands in them
            derived: index of Logs/2026: 1 entry set as the record says, 1 block written
              the names that the files' own records have
            judged: free 1 record that cannot be read
              nothing can be read of them, and no folder names them once it is mended
            76 of 77 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out, 1 loses its end; the volume is sound.
        "#]],
    );
    says(
        "a record extends another file",
        &expect![[r#"
        ntfs/extension-base at 61472+8
          a record extends another file than the one whose list has it. Record 44 says that it extends record 39. The attribute list of record 43 alone has it, or it fills a gap there.
        derived: set the record that record 44 extends to 43
          the attribute list of that file, which alone has it; or the one gap that it fills
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a file's own record says that it extends another",
        &expect![[r#"
        ntfs/record-base at 63520+8
          a file's record says that it extends another. Record 46 says that it extends record 8388608. It has standard information and a name, and so is a file's own.
        derived: clear in record 46 that it extends another
          standard information and a name stand in a file's own record
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a record that extends another says that it is free",
        &expect![[r#"
        ntfs/record-flag at 61462+2
          a record says that it is free, and is a file's. Record 44 says that it is free. An entry of its folder names it with this number, and $MFT's bitmap has it in use; or the list of the file that it extends has it.
        derived: mark record 44 in use again
          an entry of its folder names it, and $MFT's bitmap has it in use; or the list of the file that it extends
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
}

#[test]
fn bitmaps() {
    says(
        "a file's cluster marked free",
        &expect![[r#"
        ntfs/cluster-marked-free at 892928+4096
          1 cluster of a file is marked free. 1 cluster of a file is marked free. They are in use.
        derived: mark 1 cluster of files in use in $Bitmap
          the run lists of the records
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "all clusters marked used",
        &expect![[r#"
            ntfs/cluster-marked-used at 913408+4096 921600+4096 929792+4096
              889 clusters are marked in use that no file has. 889 clusters are marked in use that no file has. By the records that can be read, all of that is free.
            derived: mark 889 clusters free in $Bitmap that no file has
              the run lists of the records
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
    says(
        "bitmap too short",
        &expect![[r#"
        ntfs/bitmap-size at 22528+1024
          $Bitmap is too short. It has 8 bytes. 1187 clusters need 152.
        ntfs/cluster-marked-free at 262144+651264 917504+4096 925696+4096
          231 clusters of files are marked free. 231 clusters of files are marked free. They are in use.
        derived: set the length of $Bitmap to 152 bytes
          a bit for each cluster
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a file's record marked free",
        &expect![[r#"
        ntfs/record-marked-free at 212996+1
          a file's record is marked free. Record 39 is marked free. It is a file's.
        derived: mark records in $MFT's bitmap as they are
          each record says itself whether it is in use
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a free record marked used",
        &expect![[r#"
        ntfs/record-marked-used at 212997+1
          a free record is marked in use. Record 40 is marked in use. It says itself that it is free.
        derived: mark records in $MFT's bitmap as they are
          each record says itself whether it is in use
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
}

#[test]
fn folders_and_their_indexes() {
    says(
        "the root node begins nowhere",
        &expect![[r#"
        ntfs/index-root at 68608+8
          the root of a folder's index is damaged. Its root node cannot be read.
        ntfs/index-entry-missing at 69632+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 70656+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 71680+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        derived: lay the index of Recordings/Thumbs anew, of 90 names
          the names that the files' own records have
        derived: mark 1 cluster of files in use in $Bitmap
          the run lists of the records
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "an entry of the root node has no length",
        &expect![[r#"
        ntfs/index-entry at 46400+8
          an entry of a folder's index cannot be read. The length of an entry cannot be.
        ntfs/index-entry-missing at 50176+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 54272+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 55296+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        derived: lay the index of Logs/2026 anew, of 5 names
          the names that the files' own records have
        derived: mark 1 cluster free in $Bitmap that no file has
          the run lists of the records
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a folder has lost the bitmap of its blocks",
        &expect![[r#"
        ntfs/index-bitmap at 1269760+8
          blocks of a folder's index are not marked as they are used. A block in use is marked free.
        ntfs/index-bitmap at 1277952+8
          blocks of a folder's index are not marked as they are used. A block in use is marked free.
        ntfs/index-bitmap at 1286144+8
          blocks of a folder's index are not marked as they are used. A block in use is marked free.
        derived: lay the index of Recordings/Thumbs anew, of 90 names
          the names that the files' own records have
        derived: mark 1 cluster of files in use in $Bitmap
          the run lists of the records
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a block zero",
        &expect![[r#"
        ntfs/index-entry-missing at 74752+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 75776+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 76800+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 77824+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        derived: index of Recordings/Thumbs: 29 names put in, 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a block torn",
        &expect![[r#"
        ntfs/index-torn at 1269760+8
          a block of a folder's index is of two writings. A block is of two writings.
        derived: index of Recordings/Thumbs: 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "two entries exchanged",
        &expect![[r#"
        ntfs/index-order at 1278560+8
          entries of a folder's index are out of order. An entry stands behind one that should follow it.
        derived: index of Recordings/Thumbs: 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "an entry missing",
        &expect![[r#"
        ntfs/index-entry-missing at 77824+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        derived: index of Recordings/Thumbs: 1 name put in, 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "the entry of a short name missing",
        &expect![[r#"
        ntfs/short-name-missing at 70976+8
          a folder's index lacks short names. The folder's index has the long name alone. Its record has both.
        derived: index of Recordings/Thumbs: 1 name put in, 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "an entry names a free record",
        &expect![[r#"
        ntfs/index-entry-missing at 77824+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-stale at 1278424+16
          a folder's index names a file that is not there. The record of the file is free: it was deleted.
        derived: index of Recordings/Thumbs: 1 name put in, 1 entry taken out, 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a folder has another sequence number",
        &expect![[r#"
        ntfs/record-sequence at 45072+2
          a folder's record has another sequence number than all that names it. Record 28 has the sequence number 91. Its folder's entry, and all that stands in it, name 1.
        ntfs/index-entry-missing at 46080+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 49152+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 64512+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        derived: set the sequence number of record 28 from 91 to 1
          its folder's entry, and all that stands in it
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a folder says that it is a file",
        &expect![[r#"
        ntfs/record-folder at 45078+2
          a folder says that it is a file, or the reverse. Record 28 says the opposite of what it has. Folders have an index of names, files have content.
        derived: set in record 28 whether it is a folder
          an index of names, or content
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a name in a folder that there is not",
        &expect![[r#"
        ntfs/name-folder at 49328+8
          a name says that it stands in a folder that there is not. A name in record 32 says that it stands in folder 48059, use 1. There is none; the index of folder 28 has it.
        derived: set the folder of a name of record 32 to 28
          the index of that folder has the name
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a name of a kind that there is not",
        &expect![[r#"
        ntfs/index-entry-missing at 49152+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/name-head at 49392+2
          the length or kind of a name cannot be. A name in record 32 is of another length than its value, or of a kind that there is not. It has 11 characters; the kind is 0.
        ntfs/index-entry-stale at 1258072+16
          a folder's index names a file that is not there. The file has no such name in this folder.
        derived: set length and kind of a name of record 32
          the length of its value; the kind that any name may have
        derived: index of Logs: 1 name put in, 1 entry taken out, 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a file has lost its name",
        &expect![[r#"
        ntfs/no-name at 49152+1024
          a file has no name. Its record has no name.
        ntfs/link-count at 49170+2
          a file has another number of names than it says. Record 32 says 1. It has 0.
        ntfs/index-entry-stale at 1258072+16
          a folder's index names a file that is not there. The file has no such name in this folder.
        derived: give record 32 its name again
          the entry of the folder that names it
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "an entry says that a file is a folder",
        &expect![[r#"
        ntfs/index-entry-kind at 1278496+8
          a folder's index says that a file is a folder, or the reverse. Its entry says of a file that it is a folder, or the reverse.
        derived: index of Recordings/Thumbs: 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "an entry says another size than the file's record",
        &expect![[r#"
        ntfs/index-entry-sizes at 1278456+40
          a folder's index shows a file with another size or time than it has. The entry in its folder says 262304 bytes, changed on 2026-04-01 at 16:20:00. Record 60 says 160 bytes, changed on 2026-04-01 at 16:20:00.
        derived: index of Recordings/Thumbs: 1 entry set as the record says, 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a file's record is of an earlier writing than its folder's entry",
        &expect![[r#"
        ntfs/record-older at 1278456+40
          a file's record is of an earlier writing than its folder. The entry in its folder says 70160 bytes, changed on 2026-04-01 at 17:20:00. Record 60 says 160 bytes, changed on 2026-04-01 at 16:20:00.
        judged: index of Recordings/Thumbs: 1 entry set as the record says, 1 block written
          the names that the files' own records have
        77 of 77 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
    "#]],
    );
    says(
        "two files of one name in a folder",
        &expect![[r#"
            ntfs/index-entry-missing at 117760+1024
              a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
            ntfs/name-twice at 117936+8
              two files of a folder have one name. The files of records 93 and 99 are both called spectrogram number 041.png. A folder has a name once.
            judged: Recordings/Thumbs/spectrogram number 041.png: call it spectrogram number 041 2.png
              another file of the folder is called so, and hosts find one of two
            derived: index of Recordings/Thumbs: 1 name put in, 1 block written
              the names that the files' own records have
            77 of 77 files are whole after the repair, 1 rests on judgement and should be opened before it is handed out; the volume is sound.
        "#]],
    );
    says(
        "the record of a folder zero",
        &expect![[r#"
        ntfs/record-lost at 45056+1024
          a file's record cannot be read. Record 28 cannot be read. A folder has an entry for it. Its name, and how large it was, are what is left.
        ntfs/index-entry-missing at 46080+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 49152+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        ntfs/index-entry-missing at 64512+1024
          a folder's index does not lead to a file that is in it. Its folder's index does not lead to it. Its record names the folder.
        derived: write the record of folder Logs anew
          its entry in the folder above, and the names that say that they stand in it
        derived: lay the index of Logs anew, of 7 names
          the names that the files' own records have
        derived: mark 1 cluster of files in use in $Bitmap
          the run lists of the records
        derived: mark 1 cluster free in $Bitmap that no file has
          the run lists of the records
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "the record of a folder zero, and no entry for it",
        &expect![[r#"
        ntfs/record-lost at 45056+1024
          a file's record cannot be read. Record 28 is blank. It is in use. No folder names it.
        ntfs/orphan at 46080+1024
          the folder that a file names is gone. The record that it names as its folder is no folder, or another's by now.
        ntfs/orphan at 49152+1024
          the folder that a file names is gone. The record that it names as its folder is no folder, or another's by now.
        ntfs/orphan at 64512+1024
          the folder that a file names is gone. The record that it names as its folder is no folder, or another's by now.
        judged: make the folder ADRIFT
          files whose own folder is gone are put there
        judged: ADRIFT/FOLDER 28: a folder for 6 files whose own is gone
          the files name one folder; its own name and place are not known
        derived: index of the root folder: 1 name put in, 1 block written
          the names that the files' own records have
        derived: lay the index of ADRIFT/FOLDER 28 anew, of 7 names
          the names that the files' own records have
        68 of 77 files are whole after the repair, 2 rest on judgement and should be opened before they are handed out, 9 are kept without their names or folders; the volume is sound.
    "#]],
    );
}

#[test]
fn the_other_indexes() {
    says(
        "an id in $SII wrong",
        &expect![[r#"
        ntfs/security-index at 26144+128
          the index $SII of $Secure is wrong. It cannot be read to its end. It leads to each descriptor.
        derived: lay the index $SII of $Secure anew, of 2
          the descriptors in $SDS whose hashes fit
        77 of 77 files are whole after the repair; the volume is sound.
    "#]],
    );
    says(
        "a file's object id in no index",
        &expect![[r#"
            ntfs/extend-index at 42272+48
              the index $O of $ObjId is wrong. It leaves 1 file out. It leads to each file whose record says so, and to no other.
            derived: lay the index $O of $ObjId anew, of 1
              the records of the files
            77 of 77 files are whole after the repair; the volume is sound.
        "#]],
    );
}
