//! What a technician reads, word for word. Each text was read by a person when it was taken down;
//! `UPDATE_EXPECT=1 cargo test -p punchdog` takes them down anew, to be read again in the diff.

#![allow(
    clippy::needless_raw_string_hashes,
    clippy::too_many_lines,
    reason = "texts as they were taken down by the tool that keeps them"
)]

use super::{folder_with, patient, run};
use expect_test::{Expect, expect};
use punchdog_core::family::Kind;
use punchdog_damage::faults::{CROWDED, FOLDER, LONG, OTHER, PIECES, Patient, README, ROW};

/// Runs `command` on a damaged volume of `kind`, and holds what it prints against `expected`.
fn reads(kind: Kind, damage: impl Fn(&mut Patient), command: &[&str], status: i32, expected: &Expect) {
    let mut patient = patient(kind);
    damage(&mut patient);
    let folder = folder_with("card.img", &patient.bytes);
    let mut words = vec![command[0], "card.img"];
    words.extend(&command[1..]);
    let done = run(folder.path(), &words);
    let lines: Vec<&str> = done.out.lines().map(str::trim_end).collect();
    expected.assert_eq(&(lines.join("\n") + "\n"));
    assert_eq!(done.status, status, "{}", done.err);
}

const PLAN: &[&str] = &["plan", "--out", "card.plan.json"];

fn sound(_: &mut Patient) {}

fn no_boot_sector(patient: &mut Patient) {
    patient.fill(0, 512, 0);
}

fn no_boot_region(patient: &mut Patient) {
    patient.fill(0, u64::from(patient.geometry.reserved_sectors) * 512, 0xFF);
}

/// Zeros to the first table, and FF over that.
fn two_gaps(patient: &mut Patient) {
    let (at, length) = (patient.geometry.table_offset(0), patient.geometry.table_bytes());
    patient.fill(0, at, 0);
    patient.fill(at, length, 0xFF);
}

fn something_else(patient: &mut Patient) {
    let text = b"The lamp went out twice before nine, and nobody saw who lit it again. ";
    let length = patient.geometry.table_offset(0) + 700;
    let text: Vec<u8> = text.iter().copied().cycle().take(usize::try_from(length).unwrap()).collect();
    patient.write(0, &text);
}

fn crossed(patient: &mut Patient) {
    let (one, other) = (patient.find(ROW).clusters[2], patient.find(OTHER).clusters[3]);
    patient.set_link(one, other);
}

fn first_table_gone(patient: &mut Patient) {
    let (at, length) = (patient.geometry.table_offset(0), patient.geometry.table_bytes());
    patient.fill(at, length, 0);
}

fn first_table_erased(patient: &mut Patient) {
    let (at, length) = (patient.geometry.table_offset(0), patient.geometry.table_bytes());
    patient.fill(at, length, 0xFF);
}

fn both_tables_gone(patient: &mut Patient) {
    let (at, length) = (patient.geometry.table_offset(0), patient.geometry.table_bytes() * 2);
    patient.fill(at, length, 0);
}

fn folder_gone(patient: &mut Patient) {
    let entry = patient.find(FOLDER).entry;
    patient.write(entry, &[0xE5]);
}

fn several(patient: &mut Patient) {
    patient.set_size(README, 90_000);
    let thumb = patient.find(CROWDED).clusters[0];
    patient.set_first(LONG, thumb);
    let (first, second) = (patient.find(PIECES).clusters[0], patient.find(PIECES).clusters[1]);
    patient.set_link(second, first);
}

#[test]
fn a_sound_volume() {
    reads(
        Kind::Fat16,
        sound,
        &["check"],
        0,
        &expect![[r#"
            card.img · FAT16 · 4.39 MiB · "SKERRY"                                                         sound

            Nothing is wrong with this volume.

            Next   punchdog files card.img    if a host does not show it: reader, port, cable, drive letter
        "#]],
    );
    reads(
        Kind::Fat32,
        sound,
        &["explain"],
        0,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                                        mounts

            Nothing is wrong with this volume.

              linux     mounts     for reading and for writing
              windows   mounts     it meets the published demands; what the host does was not tried

            Nothing in the volume stops a host. Outside it, in this order:

               1  Try another reader, at another port of the computer itself.
                  It was this if it appears there at once.
               2  Try another cable, short, without a hub.
                  It was this if the host's log tells of resets or of lost devices.
               3  Look at the write-protect switch of the card or the adapter.
                  It was this if it can be read, and nothing can be written.
               4  Look at the drive letter or the mount point: another device, or a network drive, may have it.
                  It was this if disk management shows the volume, the file manager does not.
               5  Take away the original or its copy, where both are at one host: they have one serial number.
                  It was this if the host shows only one of both, or calls a disk offline.
               6  Look at the host's driver: every system has one for FAT, but it can be switched off.
                  It was this if another host mounts it; this one asks to format it.
               7  Ask whether encryption was set up on the device that wrote it, or whether a program watches
                  over removable media.
                  It was this if it is shown in that device, or at a host without such a program.

            Next   punchdog scout card.img    is it the right volume, and is the partition listed?
        "#]],
    );
    reads(
        Kind::Fat12,
        sound,
        PLAN,
        0,
        &expect![[r#"
        card.img · FAT12 · 700 KiB · "SKERRY"                                                nothing to mend

             35 intact  as they were
          hosts         linux mounts it, windows mounts it (forecast)

        35 of 35 files are whole after the repair; the volume is sound.
    "#]],
    );
    reads(
        Kind::Fat12,
        sound,
        &["fields"],
        0,
        &expect![[r#"
        card.img · FAT12 · 700 KiB                                               every field as it should be

        boot sector, at byte 0; no second copy
           at field          as it stands computed believed, and why
            0 BS_jmpBoot     EB 3C 90     -        as it stands
            3 BS_OEMName     "PUNCHDOG"   -        as it stands
           11 BPB_BytsPerSec 512          512      the volume agrees
           13 BPB_SecPerClus 2            2        the volume agrees
           14 BPB_RsvdSecCnt 1            1        the volume agrees
           16 BPB_NumFATs    2            2        the volume agrees
           17 BPB_RootEntCnt 224          224      the volume agrees
           19 BPB_TotSec16   1400         1400     the volume agrees
           21 BPB_Media      0xf8         0xf8     entry 0 of the tables has it
           22 BPB_FATSz16    3            3        the volume agrees
           24 BPB_SecPerTrk  63           -        as it stands
           26 BPB_NumHeads   255          -        as it stands
           28 BPB_HiddSec    0            -        as it stands
           32 BPB_TotSec32   0            0        the volume agrees
           36 BS_DrvNum      0x80         -        as it stands
           37 BS_Reserved1   0x00         0x00     clear when closed properly
           38 BS_BootSig     0x29         -        as it stands
           39 BS_VolID       0x5eab1bd5   -        as it stands
           43 BS_VolLab      "SKERRY"     -        as it stands
           54 BS_FilSysType  "FAT12"      -        as it stands
          510 Signature_word 55 AA        55 AA    always 55 AA

        Next   punchdog explain card.img    what follows from the wrong ones
    "#]],
    );
    reads(
        Kind::Fat32,
        sound,
        &["scout"],
        0,
        &expect![[r#"
            card.img · 1.56 MiB                                                                         in order

            It is a bare volume, without a partition table.

              1  FAT32    at byte 0, 1.56 MiB

            Next   punchdog check card.img    is the volume itself sound?
        "#]],
    );
}

#[test]
fn a_boot_sector_that_is_gone() {
    reads(
        Kind::Fat32,
        no_boot_sector,
        &["check"],
        1,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                       does not mount: 1 fault

            The boot sector is gone; everything behind it is whole: the backup boot sector, both allocation
            tables and all 35 files in 5 folders.

            Likely: sector 0 alone was overwritten or lost (unplugged during a write, or a failing first block).

              fat/boot-gone                 sector 0 holds no boot sector
                                            Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00
                                            00 and has no usable field. A boot sector begins with EB ?? 90 or E9
                                            and ends with 55 AA. Its backup fits the volume.
                                            blocks-mount · bytes 0 to 511

            Next   punchdog explain card.img                        which host refuses it, and at which byte
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        Kind::Fat32,
        no_boot_sector,
        &["explain"],
        1,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                                does not mount

            The boot sector is gone; everything behind it is whole: the backup boot sector, both allocation
            tables and all 35 files in 5 folders.

            Likely: sector 0 alone was overwritten or lost (unplugged during a write, or a failing first block).

              linux     refuses    reserved sector count is 0 (boot sector, byte 14)
                                   finding fat/boot-gone
                                   the log says: FAT-fs (DEV): bogus number of reserved sectors
                                   the log says: FAT-fs (DEV): Can't find a valid FAT filesystem
                                   mount says: wrong fs type, bad option, bad superblock
              windows   refuses    no signature 55 AA at byte 510 (documented demand)
                                   finding fat/boot-gone
                                   the user sees an unformatted volume and an offer to format it: decline

              sector 0      0x000000  00 00 00 00 00 00 00 00 …  all zero; a boot sector starts EB ?? 90
              sector 6      0x000c00  EB 58 90 50 55 4E 43 48 …  complete; agrees with the tables and the root
                                                                 folder

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        Kind::Fat32,
        no_boot_sector,
        &["fields", "boot"],
        0,
        &expect![[r#"
        card.img · FAT32 · 1.56 MiB                                                      20 fields are wrong

        boot sector, at byte 0; second copy at byte 3072
           at field          as it stands second copy computed believed, and why
        >   0 BS_jmpBoot     00 00 00     EB 58 90    -        EB 58 90: from the backup
        >   3 BS_OEMName     all 00       "PUNCHDOG"  -        "PUNCHDOG": from the backup
        >  11 BPB_BytsPerSec 0            512         512      512: backup and volume agree
        >  13 BPB_SecPerClus 0            2           2        2: backup and volume agree
        >  14 BPB_RsvdSecCnt 0            32          32       32: backup and volume agree
        >  16 BPB_NumFATs    0            2           2        2: backup and volume agree
           17 BPB_RootEntCnt 0            0           0        FAT32 has no fixed root folder
           19 BPB_TotSec16   0            0           0        backup and volume agree
        >  21 BPB_Media      0x00         0xf8        0xf8     0xf8: entry 0 of the tables has it
           22 BPB_FATSz16    0            0           0        FAT32 has it further behind
        >  24 BPB_SecPerTrk  0            63          -        63: from the backup
        >  26 BPB_NumHeads   0            255         -        255: from the backup
           28 BPB_HiddSec    0            0           -        from the backup
        >  32 BPB_TotSec32   0            3200        3200     3200: backup and volume agree
        >  36 BPB_FATSz32    0            13          13       13: backup and volume agree
           40 BPB_ExtFlags   0x0000       0x0000      -        from the backup
           42 BPB_FSVer      0x0000       0x0000      0x0000   only 0.0 was published
        >  44 BPB_RootClus   0            2           2        2: backup and volume agree
        >  48 BPB_FSInfo     0            1           1        1: the signatures are there
        >  50 BPB_BkBootSec  0            6           6        6: the backup stands there
           52 BPB_Reserved   all 00       all 00      all 00   must be zero
        >  64 BS_DrvNum      0x00         0x80        -        0x80: from the backup
           65 BS_Reserved1   0x00         0x00        0x00     clear when closed properly
        >  66 BS_BootSig     0x00         0x29        -        0x29: from the backup
        >  67 BS_VolID       0x00000000   0x5eab1bd5  -        0x5eab1bd5: from the backup
        >  71 BS_VolLab      all 00       "SKERRY"    -        "SKERRY": from the backup
        >  82 BS_FilSysType  all 00       "FAT32"     -        "FAT32": from the backup
        > 510 Signature_word 00 00        55 AA       55 AA    55 AA: always 55 AA

        Next   punchdog explain card.img    what follows from the wrong ones
    "#]],
    );
    reads(
        Kind::Fat32,
        no_boot_sector,
        PLAN,
        0,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                      1 step, sound afterwards

              exact         copy the backup boot sector at byte 3072 of the volume to sector 0
                            boot-from-backup: the backup boot sector at byte 3072 of the volume, which agrees
                            with the tables and the root folder
                            changes 51 bytes in 3 places, the first at byte 0

                 35 back    out of reach or damaged before, whole afterwards
                            Logs/2026/EMPTY.CSV
                            Logs/2026/counts on the western ledges, second visit.csv
                            Logs/2026/tides of the first week.csv
                            Logs/station.log
                            Möwen und Lummen/Ruf der Trottellumme.wav
                            Möwen und Lummen/文字.txt
                            Pictures/IMG_0002.PNG
                            Pictures/IMG_0004.PNG
                            and 27 more; the plan file names them
              hosts         linux mounts it, windows mounts it (forecast)

            35 of 35 files are whole after the repair; the volume is sound.
            The copy will differ from the image in 51 bytes, in 3 places.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
}

#[test]
fn a_boot_region_without_any_copy() {
    reads(
        Kind::Fat32,
        no_boot_region,
        &["explain"],
        1,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                                does not mount

            The boot sector is gone; everything behind it is whole: both allocation tables and all 35 files in
            5 folders.

            Likely: one gap: bytes 0 to 16383 of the volume are FF, and with them the boot sector, FSInfo and
            the backup boot sector; the findings follow from that (a block that was never written, or an erase
            that was cut off).

              linux     refuses    sector size is 65535 (boot sector, byte 11)
                                   finding fat/boot-gone
                                   the log says: FAT-fs (DEV): bogus logical sector size 65535
                                   the log says: FAT-fs (DEV): Can't find a valid FAT filesystem
                                   mount says: wrong fs type, bad option, bad superblock
              windows   refuses    no signature 55 AA at byte 510 (documented demand)
                                   finding fat/boot-gone
                                   the user sees an unformatted volume and an offer to format it: decline

              sector 0      0x000000  FF FF FF FF FF FF FF FF …  all FF; a boot sector starts EB ?? 90
              table         0x004000  F8 FF FF 0F FF FF FF 0F …  begins as an allocation table does

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        Kind::Fat12,
        no_boot_region,
        PLAN,
        0,
        &expect![[r#"
            card.img · FAT12 · 700 KiB · "SKERRY"                                       1 step, sound afterwards

              derived       write a boot sector computed from the volume
                            boot-derived: table copy 0 begins as a table does; table copy 1 begins as a table
                            does; two copies of the table are the rule; as many sectors before the tables as
                            is usual; the volume fits into the image; the table is as long as the volume needs;
                            the volume ends where what was looked at ends, and its table exactly fits it; 5 of
                            5 folders found by search name the cluster they stand in; the root folder reads as
                            one; 5 folders stand in the cluster that their name gives; 5 files have a chain as
                            long as their size needs; 4 files begin as their kind does
                            or: geometry=2: FAT12, clusters of 1024 bytes from byte 10752 on, 1 table at byte
                            2048, for which 206 points speak where 224 speak for the one that is taken
                            or: geometry=3: FAT12, clusters of 1024 bytes from byte 10752 on, 1 table at byte
                            512, for which 202 points speak where 224 speak for the one that is taken
                            or: boot code, maker's name, track geometry and serial number are lost; usual values
                            stand there instead
                            changes 511 bytes at byte 0

                 35 back    out of reach or damaged before, whole afterwards
                            Logs/2026/EMPTY.CSV
                            Logs/2026/counts on the western ledges, second visit.csv
                            Logs/2026/tides of the first week.csv
                            Logs/station.log
                            Möwen und Lummen/Ruf der Trottellumme.wav
                            Möwen und Lummen/文字.txt
                            Pictures/IMG_0002.PNG
                            Pictures/IMG_0004.PNG
                            and 27 more; the plan file names them
              hosts         linux mounts it, windows mounts it (forecast)

            35 of 35 files are whole after the repair; the volume is sound.
            The copy will differ from the image in 511 bytes, in 1 place.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
}

#[test]
fn what_was_written_or_lost_over_several_structures_is_one_cause() {
    reads(
        Kind::Fat32,
        two_gaps,
        &["check"],
        1,
        &expect![[r#"
        card.img · FAT32 · 1.56 MiB · "SKERRY"                                      does not mount: 7 faults

        The boot sector is gone; behind it is whole: all 35 files in 5 folders. A host that reads only the
        first table, as Linux does, cannot read 8 files and folders; another copy has them whole.

        Likely: 2 gaps: bytes 0 to 16383 of the volume are zero, and with them the boot sector, FSInfo and
        the backup boot sector; bytes 16384 to 23039 of the volume are FF, and with them the first table;
        the findings follow from that (blocks that were never written, or an erase that was cut off).

          fat/boot-gone                 sector 0 holds no boot sector
                                        Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00
                                        00 and has no usable field. A boot sector begins with EB ?? 90 or E9
                                        and ends with 55 AA. There is no backup; the geometry was computed
                                        from what the volume holds.
                                        blocks-mount · bytes 0 to 511
          fat/copies-differ             the copies of the allocation table differ at clusters 8 to 1572
                                        The copies of the table say different things about clusters 8 to
                                        1572. All copies should be alike. Which one is right is decided
                                        chain by chain.
                                        risks-files · bytes 16416 to 22675 · bytes 23072 to 29331
          fat/fsinfo-signature          the FSInfo sector has lost a signature
                                        The signature at byte 0 of the FSInfo sector is not there. 52 52
                                        61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its
                                        counts for unknown.
                                        untidy · bytes 512 to 515
          fat/fsinfo-signature          the FSInfo sector has lost a signature
                                        The signature at byte 484 of the FSInfo sector is not there. 52 52
                                        61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its
                                        counts for unknown.
                                        untidy · bytes 996 to 999
          fat/fsinfo-signature          the FSInfo sector has lost a signature
                                        untidy · bytes 1020 to 1023
          fat/backup-missing            there is no backup boot sector at byte 3072
                                        The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy
                                        of the boot sector there. If sector 0 is lost, the geometry has to
                                        be computed.
                                        untidy · bytes 3072 to 3583
          fat/media-entry               entry 0 of the table does not repeat the media byte (copy 0)
                                        Entry 0 of copy 0 is 0xfffffff. It should be 0xffffff8.
                                        untidy · bytes 16384 to 16387

        Next   punchdog explain card.img                        which host refuses it, and at which byte
               punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
    "#]],
    );
    reads(
        Kind::Fat32,
        something_else,
        &["check"],
        1,
        &expect![[r#"
        card.img · FAT32 · 1.56 MiB · "SKERRY"                                      does not mount: 8 faults

        The boot sector is gone; behind it is whole: all 35 files in 5 folders. A host that reads only the
        first table, as Linux does, cannot read 39 files and folders; another copy has them whole.

        Likely: something else was written over the beginning of the volume: over the boot sector, FSInfo,
        the backup boot sector and the head of the first table; the findings there follow from that.

          fat/boot-gone                 sector 0 holds no boot sector
                                        Sector 0 begins with 54 68 65 20 6C 61 6D 70 20 77 65 6E 74 20 6F
                                        75 and has no usable field. A boot sector begins with EB ?? 90 or E9
                                        and ends with 55 AA. There is no backup; the geometry was computed
                                        from what the volume holds.
                                        blocks-mount · bytes 0 to 511
          fat/copies-differ             the copies of the allocation table differ at clusters 2 to 174
                                        The copies of the table say different things about clusters 2 to
                                        174. All copies should be alike. Which one is right is decided chain
                                        by chain.
                                        risks-files · bytes 16392 to 17083 · bytes 23048 to 23739
          fat/fsinfo-signature          the FSInfo sector has lost a signature
                                        The signature at byte 0 of the FSInfo sector is not there. 52 52
                                        61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its
                                        counts for unknown.
                                        untidy · bytes 512 to 515
          fat/fsinfo-signature          the FSInfo sector has lost a signature
                                        The signature at byte 484 of the FSInfo sector is not there. 52 52
                                        61 41 at 0, 72 72 41 61 at 484, 00 00 55 AA at 508. Hosts take its
                                        counts for unknown.
                                        untidy · bytes 996 to 999
          fat/fsinfo-signature          the FSInfo sector has lost a signature
                                        untidy · bytes 1020 to 1023
          fat/backup-missing            there is no backup boot sector at byte 3072
                                        The sector at byte 3072 is no FAT32 boot sector. FAT32 keeps a copy
                                        of the boot sector there. If sector 0 is lost, the geometry has to
                                        be computed.
                                        untidy · bytes 3072 to 3583
          fat/media-entry               entry 0 of the table does not repeat the media byte (copy 0)
                                        Entry 0 of copy 0 is 0x6d616c. It should be 0xffffff8.
                                        untidy · bytes 16384 to 16387
          fat/end-entry                 entry 1 of the table is not an end mark (copy 0)
                                        Entry 1 of copy 0 is 0xe657720. It should be 0xfffffff.
                                        untidy · bytes 16388 to 16391

        Next   punchdog explain card.img                        which host refuses it, and at which byte
               punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
    "#]],
    );
    reads(
        Kind::Fat16,
        first_table_erased,
        &["check"],
        1,
        &expect![[r#"
        card.img · FAT16 · 4.39 MiB · "SKERRY"                                       files at risk: 2 faults

        The copies of the allocation table differ at clusters 7 to 4466. 1 finding besides. Whole: all 35
        files in 5 folders. A host that reads only the first table, as Linux does, cannot read 8 files and
        folders; another copy has them whole.

        Likely: a write to the allocation table was cut off, or part of one copy was overwritten.

          fat/copies-differ             the copies of the allocation table differ at clusters 7 to 4466
                                        The copies of the table say different things about clusters 7 to
                                        4466. All copies should be alike. Which one is right is decided
                                        chain by chain.
                                        risks-files · bytes 526 to 9445 · bytes 9742 to 18661
          fat/media-entry               entry 0 of the table does not repeat the media byte (copy 0)
                                        Entry 0 of copy 0 is 0xffff. It should be 0xfff8.
                                        untidy · bytes 512 to 513

        Next   punchdog explain card.img
                 what hosts make of it, and the bytes that show it
               punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
    "#]],
    );
}

#[test]
fn crossed_chains() {
    reads(
        Kind::Fat16,
        crossed,
        &["check"],
        1,
        &expect![[r#"
            card.img · FAT16 · 4.39 MiB · "SKERRY"                                        files at risk: 1 fault

            Logs/station.log: shares clusters with another chain. Whole: 34 files in 5 folders. 1 file or folder
            is damaged.

              fat/cross-linked              Logs/station.log: shares clusters with another chain
                                            Its chain, as the table has it, runs into another's. A cluster
                                            belongs to one file. The rest was found by judgement: clusters that
                                            fit and belong to nothing else.
                                            risks-files · bytes 530 to 531

            Next   punchdog explain card.img
                     what hosts make of it, and the bytes that show it
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        Kind::Fat16,
        crossed,
        &["explain"],
        0,
        &expect![[r#"
        card.img · FAT16 · 4.39 MiB · "SKERRY"                                      mounts, but is not sound

        Logs/station.log: shares clusters with another chain. Whole: 34 files in 5 folders. 1 file or folder
        is damaged.

          linux     mounts     for reading and for writing
          windows   mounts     it meets the published demands; what the host does was not tried

          table         0x000212  1B 00                      cluster 9 of station.log: leads to cluster 27
                                                             of another file

        Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
               punchdog plan card.img --out card.plan.json      the repair, and what it costs
    "#]],
    );
    reads(
        Kind::Fat16,
        crossed,
        PLAN,
        0,
        &expect![[r#"
            card.img · FAT16 · 4.39 MiB · "SKERRY"                                      1 step, sound afterwards

              judged        write 1 table entry that no copy has
                            chain-rebuilt: chains that nothing claimed and that fit the missing length, else the
                            clusters that follow and belong to nothing else, else the end of what is left
                            or: leave the files cut where the table breaks off
                            or: the clusters in question belonged to deleted files
                            Logs/station.log is taken to have the cluster behind cluster 9, which is no other
                            file's
                            changes 2 bytes in 2 places, the first at byte 530

                 34 intact  as they were
                  1 back    out of reach or damaged before, whole afterwards
                            Logs/station.log
              hosts         linux mounts it, windows mounts it (forecast)

            35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is
            handed out; the volume is sound.
            The copy will differ from the image in 2 bytes, in 2 places.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
}

#[test]
fn tables_that_are_gone() {
    reads(
        Kind::Fat16,
        first_table_gone,
        &["explain"],
        0,
        &expect![[r#"
            card.img · FAT16 · 4.39 MiB · "SKERRY"                                      mounts, but is not sound

            The copies of the allocation table differ at clusters 2 to 72. 2 findings besides. Whole: all 35
            files in 5 folders. A host that reads only the first table, as Linux does, cannot read 39 files and
            folders; another copy has them whole.

            Likely: a write to the allocation table was cut off, or part of one copy was overwritten.

              linux     mounts     for reading and for writing
              windows   mounts     it meets the published demands; what the host does was not tried

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        Kind::Fat16,
        first_table_gone,
        PLAN,
        0,
        &expect![[r#"
            card.img · FAT16 · 4.39 MiB · "SKERRY"                                     2 steps, sound afterwards

              exact         make all copies of the table alike in 64 entries
                            table-from-other-copy: for each chain the copy with which it fits its file's size or
                            its folder's content
                            changes 103 bytes at byte 516
              derived       set entries 0 and 1 of the table
                            table-first-entries: the media byte of the boot sector; the end mark
                            changes 4 bytes at byte 512

                  1 intact  as they were
                 34 back    out of reach or damaged before, whole afterwards
                            Logs/2026/counts on the western ledges, second visit.csv
                            Logs/2026/tides of the first week.csv
                            Logs/station.log
                            Möwen und Lummen/Ruf der Trottellumme.wav
                            Möwen und Lummen/文字.txt
                            Pictures/IMG_0002.PNG
                            Pictures/IMG_0004.PNG
                            Pictures/Nest 12.png
                            and 26 more; the plan file names them
              hosts         linux mounts it, windows mounts it (forecast)

            35 of 35 files are whole after the repair; the volume is sound.
            The copy will differ from the image in 107 bytes, in 1 place.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
    reads(
        Kind::Fat32,
        both_tables_gone,
        &["check"],
        1,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                               some hosts refuse it: 44 faults

            /: a chain runs into a free cluster. 43 findings besides. Whole: the backup boot sector and 1 file
            in 5 folders. 34 files and folders are damaged.

            Likely: one gap: bytes 4096 to 29695 of the volume are zero, and with them the first table and the
            second table; the findings follow from that (a block that was never written, or an erase that was
            cut off).

              fat/chain-into-free           /: a chain runs into a free cluster
                                            Cluster 2 belongs to the chain, but the table calls it free. It
                                            should name the next cluster, or end the chain. Its entries end
                                            there.
                                            blocks-mount · bytes 16392 to 16395 · bytes 23048 to 23051
              fat/chain-into-free           Logs: a chain runs into a free cluster
                                            Cluster 4 belongs to the chain, but the table calls it free. It
                                            should name the next cluster, or end the chain. Its entries end
                                            there.
                                            blocks-mount · bytes 16400 to 16403 · bytes 23056 to 23059
              fat/chain-into-free           Logs/2026: a chain runs into a free cluster
                                            blocks-mount · bytes 16404 to 16407 · bytes 23060 to 23063
              fat/chain-into-free           Pictures: a chain runs into a free cluster
                                            blocks-mount · bytes 16408 to 16411 · bytes 23064 to 23067
              fat/first-cluster-free        README.TXT: an entry begins in a free cluster
                                            Cluster 3 belongs to the chain, but the table calls it free. It
                                            should name the next cluster, or end the chain. All of its content
                                            is known.
                                            risks-files · bytes 16396 to 16399 · bytes 23052 to 23055
              fat/first-cluster-free        Logs/station.log: an entry begins in a free cluster
                                            Cluster 8 belongs to the chain, but the table calls it free. It
                                            should name the next cluster, or end the chain. The rest was found
                                            by judgement: clusters that fit and belong to nothing else.
                                            risks-files · bytes 16416 to 16419 · bytes 23072 to 23075
              fat/first-cluster-free        Logs/2026/tides of the first week.csv: an entry begins in a free
                                            cluster
                                            risks-files · bytes 16436 to 16439 · bytes 23092 to 23095
              fat/first-cluster-free        Logs/2026/counts on the western ledges, second visit.csv: an entry
                                            begins in a free cluster
                                            risks-files · bytes 16440 to 16443 · bytes 23096 to 23099
              fat/media-entry               entry 0 of the table does not repeat the media byte (copy 0)
                                            Entry 0 of copy 0 is 0x0. It should be 0xffffff8.
                                            untidy · bytes 16384 to 16387
              fat/end-entry                 entry 1 of the table is not an end mark (copy 0)
                                            Entry 1 of copy 0 is 0x0. It should be 0xfffffff.
                                            untidy · bytes 16388 to 16391
              fat/media-entry               entry 0 of the table does not repeat the media byte (copy 1)
                                            Entry 0 of copy 1 is 0x0. It should be 0xffffff8.
                                            untidy · bytes 23040 to 23043
              fat/end-entry                 entry 1 of the table is not an end mark (copy 1)
                                            Entry 1 of copy 1 is 0x0. It should be 0xfffffff.
                                            untidy · bytes 23044 to 23047
              fat/chain-into-free           and 2 more of this class; --all lists them
              fat/first-cluster-free        and 30 more of this class; --all lists them

            Next   punchdog explain card.img                        which host refuses it, and at which byte
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        Kind::Fat32,
        both_tables_gone,
        PLAN,
        0,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                     3 steps, sound afterwards

              judged        write 25 table entries that no copy has
                            chain-rebuilt: chains that nothing claimed and that fit the missing length, else the
                            clusters that follow and belong to nothing else, else the end of what is left
                            or: leave the files cut where the table breaks off
                            or: the clusters in question belonged to deleted files
                            ledges.csv is taken to have the 2 clusters behind cluster 71, which are no other
                            file's; the plan file has 7 more of these
                            changes 50 bytes in 12 places, the first at byte 16416
              derived       end 40 chains where the size or the folder's own end mark says
                            chain-ended-by-size: sizes in the folder entries, end marks in the folders
                            changes 320 bytes in 18 places, the first at byte 16392
              derived       set entries 0 and 1 of the table
                            table-first-entries: the media byte of the boot sector; the end mark
                            changes 16 bytes in 2 places, the first at byte 16384

                 35 back    out of reach or damaged before, whole afterwards
                            Logs/2026/EMPTY.CSV
                            Logs/2026/counts on the western ledges, second visit.csv
                            Logs/2026/tides of the first week.csv
                            Logs/station.log
                            Möwen und Lummen/Ruf der Trottellumme.wav
                            Möwen und Lummen/文字.txt
                            Pictures/IMG_0002.PNG
                            Pictures/IMG_0004.PNG
                            and 27 more; the plan file names them
              hosts         linux mounts it, windows mounts it (forecast)

            35 of 35 files are whole after the repair, 8 rest on judgement and should be opened before they are
            handed out; the volume is sound.
            The copy will differ from the image in 386 bytes, in 4 places.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
}

#[test]
fn a_folder_without_an_entry() {
    reads(
        Kind::Fat12,
        folder_gone,
        &["check"],
        1,
        &expect![[r#"
            card.img · FAT12 · 700 KiB · "SKERRY"                                        files at risk: 2 faults

            Pictures: marked deleted, but its clusters are in use. 1 finding besides. Whole: both allocation
            tables and 8 files in 3 folders. 29 files, folders or chains are out of reach.

              fat/deleted-in-use            Pictures: marked deleted, but its clusters are in use
                                            The entry's first byte says that it is free. Its chain is whole, as
                                            long as its size needs, and belongs to nothing else. Hosts do not
                                            show it.
                                            risks-files · byte 3744
              fat/long-name-stray           the root folder: parts of a long name belong to nothing (1 entry)
                                            1 entry of the root folder is of this kind.
                                            untidy · bytes 3712 to 3743

            Next   punchdog explain card.img
                     what hosts make of it, and the bytes that show it
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        Kind::Fat12,
        folder_gone,
        &["files"],
        0,
        &expect![[r#"
            card.img · FAT12 · 700 KiB                                                       8 intact, 27 orphan

              intact        folder  2026-04-01 00:40  Logs/
              intact        folder  2026-04-01 01:00  Logs/2026/
              intact       0 bytes  2026-04-01 03:00  Logs/2026/EMPTY.CSV
              intact      1.04 KiB  2026-04-01 02:40  Logs/2026/counts on the western ledges, second visit.csv
              intact      3.67 KiB  2026-04-01 02:20  Logs/2026/tides of the first week.csv
              intact      4.67 KiB  2026-04-01 02:00  Logs/station.log
              intact        folder  2026-04-01 01:40  Möwen und Lummen/
              intact      6.67 KiB  2026-04-01 04:40  Möwen und Lummen/Ruf der Trottellumme.wav
              intact     121 bytes  2026-04-01 05:00  Möwen und Lummen/文字.txt
              orphan        folder  2026-04-01 01:20  Pictures/
                                                    marked deleted, but its clusters are still in use
              orphan      2.67 KiB  2026-04-01 03:40  Pictures/IMG_0002.PNG
                                                    in a folder that hosts do not show
              orphan      5.67 KiB  2026-04-01 04:20  Pictures/IMG_0004.PNG
                                                    in a folder that hosts do not show
              orphan     872 bytes  2026-04-01 03:20  Pictures/Nest 12.png
                                                    in a folder that hosts do not show
              orphan        folder  2026-04-01 05:20  Pictures/Thumbs/
                                                    in a folder that hosts do not show
              orphan     163 bytes  2026-04-01 05:40  Pictures/Thumbs/thumbnail number 000.png
                                                    in a folder that hosts do not show
              orphan     162 bytes  2026-04-01 06:00  Pictures/Thumbs/thumbnail number 001.png
                                                    in a folder that hosts do not show
              orphan     164 bytes  2026-04-01 06:20  Pictures/Thumbs/thumbnail number 002.png
                                                    in a folder that hosts do not show
              orphan     164 bytes  2026-04-01 06:40  Pictures/Thumbs/thumbnail number 003.png
                                                    in a folder that hosts do not show
              orphan     166 bytes  2026-04-01 07:00  Pictures/Thumbs/thumbnail number 004.png
                                                    in a folder that hosts do not show
              orphan     158 bytes  2026-04-01 07:20  Pictures/Thumbs/thumbnail number 005.png
                                                    in a folder that hosts do not show
              orphan     159 bytes  2026-04-01 07:40  Pictures/Thumbs/thumbnail number 006.png
                                                    in a folder that hosts do not show
              orphan     161 bytes  2026-04-01 08:00  Pictures/Thumbs/thumbnail number 007.png
                                                    in a folder that hosts do not show
              orphan     163 bytes  2026-04-01 08:20  Pictures/Thumbs/thumbnail number 008.png
                                                    in a folder that hosts do not show
              orphan     164 bytes  2026-04-01 08:40  Pictures/Thumbs/thumbnail number 009.png
                                                    in a folder that hosts do not show
              orphan     165 bytes  2026-04-01 09:00  Pictures/Thumbs/thumbnail number 010.png
                                                    in a folder that hosts do not show
              orphan     165 bytes  2026-04-01 09:20  Pictures/Thumbs/thumbnail number 011.png
                                                    in a folder that hosts do not show
              orphan     160 bytes  2026-04-01 09:40  Pictures/Thumbs/thumbnail number 012.png
                                                    in a folder that hosts do not show
              orphan     158 bytes  2026-04-01 10:00  Pictures/Thumbs/thumbnail number 013.png
                                                    in a folder that hosts do not show
              orphan     164 bytes  2026-04-01 10:20  Pictures/Thumbs/thumbnail number 014.png
                                                    in a folder that hosts do not show
              orphan     162 bytes  2026-04-01 10:40  Pictures/Thumbs/thumbnail number 015.png
                                                    in a folder that hosts do not show
              orphan     162 bytes  2026-04-01 11:00  Pictures/Thumbs/thumbnail number 016.png
                                                    in a folder that hosts do not show
              orphan     157 bytes  2026-04-01 11:20  Pictures/Thumbs/thumbnail number 017.png
                                                    in a folder that hosts do not show
              orphan     163 bytes  2026-04-01 11:40  Pictures/Thumbs/thumbnail number 018.png
                                                    in a folder that hosts do not show
              orphan     161 bytes  2026-04-01 12:00  Pictures/Thumbs/thumbnail number 019.png
                                                    in a folder that hosts do not show
              orphan     159 bytes  2026-04-01 12:20  Pictures/Thumbs/thumbnail number 020.png
                                                    in a folder that hosts do not show
              orphan     164 bytes  2026-04-01 12:40  Pictures/Thumbs/thumbnail number 021.png
                                                    in a folder that hosts do not show
              orphan     160 bytes  2026-04-01 13:00  Pictures/Thumbs/thumbnail number 022.png
                                                    in a folder that hosts do not show
              orphan     160 bytes  2026-04-01 13:20  Pictures/Thumbs/thumbnail number 023.png
                                                    in a folder that hosts do not show
              intact     206 bytes  2026-04-01 00:20  README.TXT
              intact      2.67 KiB  2026-04-01 13:40  ledges.csv

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copies them out
        "#]],
    );
    reads(
        Kind::Fat12,
        folder_gone,
        PLAN,
        0,
        &expect![[r#"
            card.img · FAT12 · 700 KiB · "SKERRY"                                       1 step, sound afterwards

            Choice deleted-in-use: Entries are marked deleted, but their clusters are in use and nobody else's.
            Bring the files back?
              taken  restore            the files are listed again under their names
                     free               the delete is finished: their clusters become free
                                        Pictures

              judged        Pictures: mark the entry as in use again, as PICTURES
                            entry-restored: that the delete was none is judged; the first letter follows from
                            the checksum of the long name
                            or: finish the delete
                            changes 1 byte at byte 3744

                  8 intact  as they were
                 27 back    out of reach or damaged before, whole afterwards
                            Pictures/IMG_0002.PNG
                            Pictures/IMG_0004.PNG
                            Pictures/Nest 12.png
                            Pictures/Thumbs/thumbnail number 000.png
                            Pictures/Thumbs/thumbnail number 001.png
                            Pictures/Thumbs/thumbnail number 002.png
                            Pictures/Thumbs/thumbnail number 003.png
                            Pictures/Thumbs/thumbnail number 004.png
                            and 19 more; the plan file names them
              hosts         linux mounts it, windows mounts it (forecast)

            35 of 35 files are whole after the repair, 1 rests on judgement and should be opened before it is
            handed out; the volume is sound.
            The copy will differ from the image in 1 byte, in 1 place.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
}

#[test]
fn several_faults_at_once() {
    reads(
        Kind::Fat32,
        several,
        &["check"],
        1,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                       files at risk: 3 faults

            Möwen und Lummen/Ruf der Trottellumme.wav: a chain runs into itself. 2 findings besides. Whole: the
            backup boot sector and 32 files in 5 folders. 3 files and folders are damaged.

              fat/chain-loop                Möwen und Lummen/Ruf der Trottellumme.wav: a chain runs into itself
                                            The table entry of cluster 32 leads back to cluster 31 of the same
                                            chain. It should name the next cluster, or end the chain. The rest
                                            was found by judgement: clusters that fit and belong to nothing
                                            else.
                                            risks-files · bytes 16512 to 16515 · bytes 23168 to 23171
              fat/chain-too-short           README.TXT: a file has fewer clusters than its size needs
                                            The entry gives 90000 bytes, that is 88 clusters. Its chain has 1
                                            cluster, room for 1024 bytes. What is missing cannot be read.
                                            risks-files · bytes 29756 to 29759
              fat/first-cluster-wrong       Logs/2026/counts on the western ledges, second visit.csv: begins at
                                            cluster 44, its content at 14
                                            The entry names cluster 44. What fits it exactly, and belongs to
                                            nothing else, begins at cluster 14. Its content was found elsewhere.
                                            risks-files · bytes 33114 to 33115 · bytes 33108 to 33109

            Next   punchdog explain card.img
                     what hosts make of it, and the bytes that show it
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        Kind::Fat32,
        several,
        &["explain"],
        0,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                      mounts, but is not sound

            Möwen und Lummen/Ruf der Trottellumme.wav: a chain runs into itself. 2 findings besides. Whole: the
            backup boot sector and 32 files in 5 folders. 3 files and folders are damaged.

              linux     mounts     for reading and for writing
              windows   mounts     it meets the published demands; what the host does was not tried

              table         0x00400c  FF FF FF 0F                cluster 3 of README.TXT: the end of the chain
              table         0x004080  1F 00 00 00                cluster 32 of Ruf der Trottellumme.wav: back to
                                                                 cluster 31

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        Kind::Fat32,
        several,
        PLAN,
        0,
        &expect![[r#"
            card.img · FAT32 · 1.56 MiB · "SKERRY"                                     3 steps, sound afterwards

            Choice short-chain: A file's chain is shorter than its size. Set the size to what is there?
              taken  shorten            each file keeps what its chain holds (README.TXT: 1024 bytes)
                     leave              nothing changes; reading past the end gives an error
                                        README.TXT

              judged        write 1 table entry that no copy has
                            chain-rebuilt: chains that nothing claimed and that fit the missing length, else the
                            clusters that follow and belong to nothing else, else the end of what is left
                            or: leave the files cut where the table breaks off
                            or: the clusters in question belonged to deleted files
                            Möwen und Lummen/Ruf der Trottellumme.wav is taken to have a chain that no file
                            claimed, from cluster 35 on
                            changes 2 bytes in 2 places, the first at byte 16512
              judged        Logs/2026/counts on the western ledges, second visit.csv: set the first cluster
                            to 14
                            first-cluster-found: a chain that nothing claimed, of exactly the length or with the
                            ".." that this entry needs
                            or: leave the file empty and keep the chain as a file of its own
                            changes 1 byte at byte 33114
              derived       README.TXT: set the size from 90000 to 1024
                            size-from-chain: the length of its chain
                            changes 3 bytes at byte 29756

                 32 intact  as they were
                  2 back    out of reach or damaged before, whole afterwards
                            Logs/2026/counts on the western ledges, second visit.csv
                            Möwen und Lummen/Ruf der Trottellumme.wav
                  1 shorter without their end
                            README.TXT, 90000 → 1024 bytes
              hosts         linux mounts it, windows mounts it (forecast)

            34 of 35 files are whole after the repair, 3 rest on judgement and should be opened before they are
            handed out, 1 loses its end; the volume is sound.
            The copy will differ from the image in 6 bytes, in 4 places.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
    reads(
        Kind::Fat32,
        several,
        &["salvage", "--list", "--kind", "sound"],
        0,
        &expect![[r#"
        card.img · FAT32 · 1.56 MiB                                                         1 file, 6.67 KiB

          damaged     6.67 KiB  Möwen und Lummen/Ruf der Trottellumme.wav

        Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copies them, with the same filters
    "#]],
    );
}
