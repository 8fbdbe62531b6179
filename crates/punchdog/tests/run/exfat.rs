//! exFAT through the built program: the whole job, and what a technician reads, word for word.

#![allow(
    clippy::needless_raw_string_hashes,
    clippy::too_many_lines,
    reason = "texts as they were taken down by the tool that keeps them"
)]

use super::{folder_with, json, run};
use expect_test::{Expect, expect};
use punchdog_damage::{
    exfat::{everyday, small},
    exfat_faults::{CROWDED, FOLDER, OTHER, PIECES, Patient, README, ROW},
};
use std::{collections::BTreeMap, fs};

fn patient() -> Patient {
    Patient::new(everyday(&small(512, 1024, 1), 4))
}

fn no_boot_regions(patient: &mut Patient) {
    let length = patient.geometry.region_bytes() * 2;
    patient.fill(0, length, 0);
}

fn marked(patient: &mut Patient) {
    patient.write(200, b"WRITTEN BY ANOTHER DEVICE");
}

fn root_entries_gone(patient: &mut Patient) {
    for entry in 0..3 {
        let at = patient.root_entry(entry);
        patient.fill(at, 32, 0x05);
    }
}

fn upcase_gone(patient: &mut Patient) {
    let at = patient.root_entry(2);
    patient.write(at, &[2]);
}

fn chains_and_sets(patient: &mut Patient) {
    let clusters = patient.find(PIECES).clusters;
    patient.set_link(clusters[4], clusters[1]);
    let at = patient.find(README).entry + 1;
    patient.write(at, &[1]);
    patient.write_set(ROW, 33, &[1]);
    for cluster in patient.find(OTHER).clusters {
        patient.set_bit(cluster, false);
    }
}

fn folder_lost(patient: &mut Patient) {
    let made = patient.find(FOLDER);
    patient.fill(made.entry, u64::from(made.entries) * 32, 0x05);
}

fn table_gone(patient: &mut Patient) {
    let (place, length) = (patient.geometry.table_place(0), patient.geometry.table_bytes());
    patient.fill(place, length, 0);
}

/// Runs `command` on a damaged volume, and holds what it prints against `expected`.
fn reads(damage: impl Fn(&mut Patient), command: &[&str], status: i32, expected: &Expect) {
    let mut patient = patient();
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

fn hashes(document: &serde_json::Value) -> BTreeMap<String, String> {
    let files = document["files"].as_array().unwrap().iter().filter(|file| file["folder"] == false);
    files.map(|f| (f["path"].as_str().unwrap().into(), f["sha256"].as_str().unwrap_or("").into())).collect()
}

#[test]
fn from_raw_to_mended_and_back() {
    for damage in [no_boot_regions, marked, root_entries_gone, upcase_gone, chains_and_sets] {
        let mut patient = patient();
        let expected: BTreeMap<String, String> = patient
            .live()
            .filter(|made| !made.folder)
            .map(|made| (made.path.clone(), made.sha256.clone()))
            .collect();
        damage(&mut patient);
        let folder = folder_with("card.img", &patient.bytes);
        let at = folder.path();
        let checked = json(at, &["check", "card.img"], 1);
        let volume = &checked["volumes"][0];
        assert_eq!((&volume["kind"], &volume["sound"]), (&"exfat".into(), &false.into()));
        assert!(!volume["findings"].as_array().unwrap().is_empty());
        let plan = json(at, &["plan", "card.img", "--out", "plan.json"], 0);
        assert_eq!(plan["outcome"]["after"]["sound"], true);
        let words = ["apply", "plan.json", "--image", "card.img", "--copy", "mended.img"];
        assert_eq!(json(at, &words, 0)["as_planned"], true);
        assert_eq!(fs::read(at.join("card.img")).unwrap(), patient.bytes, "the image is never changed");
        assert_eq!(json(at, &["check", "mended.img"], 0)["sound"], true);
        assert_eq!(hashes(&json(at, &["files", "mended.img", "--hash"], 0)), expected);
        assert_eq!(run(at, &["undo", "mended.img"]).status, 0);
        assert_eq!(fs::read(at.join("mended.img")).unwrap(), patient.bytes, "undone byte for byte");
    }
}

#[test]
fn files_come_out_before_the_repair_half_written_ones_with_their_zeros() {
    let mut patient = patient();
    no_boot_regions(&mut patient);
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let done = run(at, &["salvage", "card.img", "--to", "saved"]);
    assert_eq!(done.status, 0, "{}{}", done.out, done.err);
    let sum = |bytes: &[u8]| {
        use sha2::Digest;
        hex::encode(sha2::Sha256::digest(bytes))
    };
    for made in patient.live().filter(|made| !made.folder && made.size > 0) {
        let bytes =
            fs::read(at.join("saved").join(&made.path)).unwrap_or_else(|e| panic!("{}: {e}", made.path));
        assert_eq!((bytes.len() as u64, sum(&bytes)), (made.size, made.sha256.clone()), "{}", made.path);
    }
}

#[test]
fn a_volume_inside_a_disk_is_found_also_without_its_boot_regions() {
    let mut patient = patient();
    let mut disk = vec![0_u8; 63 * 512];
    disk[446..462].copy_from_slice(&[0, 0, 0, 0, 7, 0, 0, 0, 63, 0, 0, 0, 0, 0, 0, 0]);
    let sectors = u32::try_from(patient.bytes.len() / 512).unwrap();
    disk[458..462].copy_from_slice(&sectors.to_le_bytes());
    disk[510..512].copy_from_slice(&[0x55, 0xAA]);
    for gone in [false, true] {
        if gone {
            no_boot_regions(&mut patient);
        }
        let bytes = [disk.as_slice(), &patient.bytes, &[0; 4096]].concat();
        let folder = folder_with("disk.img", &bytes);
        let seen = json(folder.path(), &["check", "disk.img"], i32::from(gone));
        let volume = &seen["volumes"][0];
        assert_eq!((&volume["kind"], &volume["offset"]), (&"exfat".into(), &(63 * 512).into()));
    }
}

#[test]
fn sound_and_its_fields() {
    reads(
        |_| {},
        &["check"],
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                                          sound

            Nothing is wrong with this volume.

            Next   punchdog files card.img    if a host does not show it: reader, port, cable, drive letter
        "#]],
    );
    reads(
        |_| {},
        &["scout"],
        0,
        &expect![[r#"
            card.img · 620 KiB                                                                          in order

            It is a bare volume, without a partition table.

              1  exFAT    at byte 0, 620 KiB

            Next   punchdog check card.img    is the volume itself sound?
        "#]],
    );
    reads(
        |_| {},
        &["fields"],
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB                                               every field as it should be

            main boot sector, at byte 0; second copy at byte 6144
                at field                       as it stands second copy computed   believed, and why
                 0 JumpBoot                    EB 76 90     EB 76 90    EB 76 90   always the same
                 3 FileSystemName              "EXFAT"      "EXFAT"     "EXFAT"    always the same
                11 MustBeZero                  all 00       all 00      all 00     always zero
                64 PartitionOffset             0            0           -          as it stands
                72 VolumeLength                1240         1240        1240       the volume agrees
                80 FatOffset                   24           24          24         the volume agrees
                84 FatLength                   5            5           5          the volume agrees
                88 ClusterHeapOffset           30           30          30         the volume agrees
                92 ClusterCount                605          605         605        the volume agrees
                96 FirstClusterOfRootDirectory 9            9           9          the volume agrees
               100 VolumeSerialNumber          0x5eab1bd5   0x5eab1bd5  -          as it stands
               104 FileSystemRevision          0x0100       0x0100      -          as it stands
               106 VolumeFlags                 0x0000       0x0000      -          as it stands
               108 BytesPerSectorShift         9            9           9          the volume agrees
               109 SectorsPerClusterShift      1            1           1          the volume agrees
               110 NumberOfFats                1            1           1          the volume agrees
               111 DriveSelect                 0x80         0x80        -          as it stands
               112 PercentInUse                255          255         -          as it stands
               113 Reserved                    all 00       all 00      all 00     always zero
               510 BootSignature               55 AA        55 AA       55 AA      always the same
              5632 BootChecksum                0x7fab7bd3   0x7fab7bd3  0x7fab7bd3 computed from sectors 0 to
                                                                                   10 as believed

            entries of the root folder, at byte 22528; no second copy
              at field                         as it stands computed   believed, and why
              52 AllocationBitmap.FirstCluster 2            2          where a bitmap stands
              56 AllocationBitmap.DataLength   76           76         one bit a cluster
              68 UpcaseTable.TableChecksum     0xe619d30d   0xe619d30d computed from the table
              84 UpcaseTable.FirstCluster      3            3          where a table stands
              88 UpcaseTable.DataLength        5836         5836       the table's length

            Next   punchdog explain card.img    what follows from the wrong ones
        "#]],
    );
    reads(
        |_| {},
        &["files"],
        0,
        &expect![[r#"
        card.img · exFAT · 620 KiB                                                                 36 intact

          intact        folder  2026-04-01 00:40  Logs/
          intact        folder  2026-04-01 01:00  Logs/2026/
          intact       0 bytes  2026-04-01 03:00  Logs/2026/EMPTY.CSV
          intact      1.04 KiB  2026-04-01 02:40  Logs/2026/counts on the western ledges, second visit.csv
          intact      3.67 KiB  2026-04-01 02:20  Logs/2026/tides of the first week.csv
          intact      4.67 KiB  2026-04-01 02:00  Logs/station.log
          intact        folder  2026-04-01 01:40  Möwen und Lummen/
          intact      2.67 KiB  2026-04-01 05:00  Möwen und Lummen/Ruf der Trottellumme.wav
          intact     121 bytes  2026-04-01 05:20  Möwen und Lummen/文字.txt
          intact     206 bytes  2026-04-01 00:20  README.TXT
          intact        folder  2026-04-01 01:20  Recordings/
          intact        folder  2026-04-01 05:40  Recordings/Thumbs/
          intact     162 bytes  2026-04-01 06:00  Recordings/Thumbs/spectrogram number 000.png
          intact     164 bytes  2026-04-01 06:20  Recordings/Thumbs/spectrogram number 001.png
          intact     164 bytes  2026-04-01 06:40  Recordings/Thumbs/spectrogram number 002.png
          intact     166 bytes  2026-04-01 07:00  Recordings/Thumbs/spectrogram number 003.png
          intact     158 bytes  2026-04-01 07:20  Recordings/Thumbs/spectrogram number 004.png
          intact     159 bytes  2026-04-01 07:40  Recordings/Thumbs/spectrogram number 005.png
          intact     161 bytes  2026-04-01 08:00  Recordings/Thumbs/spectrogram number 006.png
          intact     163 bytes  2026-04-01 08:20  Recordings/Thumbs/spectrogram number 007.png
          intact     164 bytes  2026-04-01 08:40  Recordings/Thumbs/spectrogram number 008.png
          intact     165 bytes  2026-04-01 09:00  Recordings/Thumbs/spectrogram number 009.png
          intact     165 bytes  2026-04-01 09:20  Recordings/Thumbs/spectrogram number 010.png
          intact     160 bytes  2026-04-01 09:40  Recordings/Thumbs/spectrogram number 011.png
          intact     158 bytes  2026-04-01 10:00  Recordings/Thumbs/spectrogram number 012.png
          intact     164 bytes  2026-04-01 10:20  Recordings/Thumbs/spectrogram number 013.png
          intact     162 bytes  2026-04-01 10:40  Recordings/Thumbs/spectrogram number 014.png
          intact     162 bytes  2026-04-01 11:00  Recordings/Thumbs/spectrogram number 015.png
          intact     157 bytes  2026-04-01 11:20  Recordings/Thumbs/spectrogram number 016.png
          intact     163 bytes  2026-04-01 11:40  Recordings/Thumbs/spectrogram number 017.png
          intact     161 bytes  2026-04-01 12:00  Recordings/Thumbs/spectrogram number 018.png
          intact     159 bytes  2026-04-01 12:20  Recordings/Thumbs/spectrogram number 019.png
          intact     164 bytes  2026-04-01 12:40  Recordings/Thumbs/spectrogram number 020.png
          intact     160 bytes  2026-04-01 13:00  Recordings/Thumbs/spectrogram number 021.png
          intact     160 bytes  2026-04-01 13:20  Recordings/Thumbs/spectrogram number 022.png
          intact     161 bytes  2026-04-01 13:40  Recordings/Thumbs/spectrogram number 023.png
          intact      5.67 KiB  2026-04-01 03:20  Recordings/dawn 0001.wav
          intact      6.67 KiB  2026-04-01 04:00  Recordings/dawn 0002.wav
          intact      3.67 KiB  2026-04-01 04:20  Recordings/dusk 0003.wav
          intact         5 KiB  2026-04-01 04:40  Recordings/unfinished 0004.wav
          intact      2.67 KiB  2026-04-01 14:00  ledges.csv

        Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copies them out
    "#]],
    );
}

#[test]
fn boot_regions_that_are_gone() {
    reads(
        no_boot_regions,
        &["check"],
        1,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                       does not mount: 2 faults

            The main boot sector is gone; everything behind it is whole: the allocation bitmap, the up-case
            table and all 36 files in 5 folders.

            Likely: one gap: bytes 0 to 12287 of the volume are zero, and with them the main boot region and the
            backup boot region; the findings follow from that (a block that was never written, or an erase that
            was cut off).

              exfat/boot-gone               the main boot sector is gone
                                            Sector 0 begins with 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00 00
                                            and has no usable field. It should begin with EB 76 90 and the name
                                            EXFAT. There is no backup that fits; the geometry was computed from
                                            what the volume holds.
                                            blocks-mount · bytes 0 to 511
              exfat/backup-gone             there is no backup boot region
                                            The sector at byte 6144 is no exFAT boot sector. Sectors 12 to
                                            23 are a copy of sectors 0 to 11. If the main region is lost, the
                                            geometry has to be computed.
                                            untidy · bytes 6144 to 6655

            Next   punchdog explain card.img                        which host refuses it, and at which byte
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        no_boot_regions,
        &["explain"],
        1,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                                 does not mount

            The main boot sector is gone; everything behind it is whole: the allocation bitmap, the up-case
            table and all 36 files in 5 folders.

            Likely: one gap: bytes 0 to 12287 of the volume are zero, and with them the main boot region and the
            backup boot region; the findings follow from that (a block that was never written, or an erase that
            was cut off).

              linux     refuses    no 55 AA at byte 510 of the boot sector
                                   finding exfat/boot-gone
                                   the log says: exFAT-fs (DEV): invalid boot record signature
                                   the log says: exFAT-fs (DEV): failed to read boot sector
                                   the log says: exFAT-fs (DEV): failed to recognize exfat type
              windows   refuses    sector 0 does not name exFAT
                                   finding exfat/boot-gone
                                   an unformatted (RAW) volume, and an offer to format it: decline

              sector 0      0x000000  00 00 00 00 00 00 00 00 …  all zero; an exFAT boot sector starts EB 76 90
              table         0x003000  F8 FF FF FF FF FF FF FF …  begins as a table does

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        no_boot_regions,
        &["fields"],
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB                                                       16 fields are wrong

            main boot sector, at byte 0; no second copy
                at field                       as it stands computed   believed, and why
            >    0 JumpBoot                    00 00 00     EB 76 90   EB 76 90: always the same
            >    3 FileSystemName              all 00       "EXFAT"    "EXFAT": always the same
                11 MustBeZero                  all 00       all 00     always zero
                64 PartitionOffset             0            -          the usual value
            >   72 VolumeLength                0            1240       1240: computed from the volume
            >   80 FatOffset                   0            24         24: computed from the volume
            >   84 FatLength                   0            5          5: computed from the volume
            >   88 ClusterHeapOffset           0            30         30: computed from the volume
            >   92 ClusterCount                0            605        605: computed from the volume
            >   96 FirstClusterOfRootDirectory 0            9          9: computed from the volume
               100 VolumeSerialNumber          0x00000000   -          the usual value
            >  104 FileSystemRevision          0x0000       -          0x0100: the usual value
               106 VolumeFlags                 0x0000       -          the usual value
            >  108 BytesPerSectorShift         0            9          9: computed from the volume
            >  109 SectorsPerClusterShift      0            1          1: computed from the volume
            >  110 NumberOfFats                0            1          1: computed from the volume
            >  111 DriveSelect                 0x00         -          0x80: the usual value
            >  112 PercentInUse                0            -          255: the usual value
               113 Reserved                    all 00       all 00     always zero
            >  510 BootSignature               00 00        55 AA      55 AA: always the same
            > 5632 BootChecksum                0x00000000   0x7fa4d4d3 0x7fa4d4d3: computed from sectors 0 to
                                                                       10 as believed

            entries of the root folder, at byte 22528; no second copy
              at field                         as it stands computed   believed, and why
              52 AllocationBitmap.FirstCluster 2            2          where a bitmap stands
              56 AllocationBitmap.DataLength   76           76         one bit a cluster
              68 UpcaseTable.TableChecksum     0xe619d30d   0xe619d30d computed from the table
              84 UpcaseTable.FirstCluster      3            3          where a table stands
              88 UpcaseTable.DataLength        5836         5836       the table's length

            Next   punchdog explain card.img    what follows from the wrong ones
        "#]],
    );
    reads(
        no_boot_regions,
        PLAN,
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                      2 steps, sound afterwards

              derived       write a boot region computed from the volume
                            boot-region-derived: the table begins as a table does; clusters, volume and image
                            are one within the other; the clusters fill the volume; the table is about as long
                            as it needs to be; the root's chain begins; the root folder reads as one; the bitmap
                            is as long as the clusters need; the bitmap has itself and the root in use; the
                            up-case table stands where the root says, with its checksum; folders stand where
                            their entries say
                            or: boot code, serial number and OEM parameters are lost; usual values stand there
                            instead
                            changes 945 bytes in 12 places, the first at byte 0
              exact         write the backup boot region at byte 6144 of the volume as a copy of the main one
                            backup-from-main: the main boot region, as it stands after the steps before
                            changes 945 bytes in 12 places, the first at byte 6144

                 36 back    out of reach or damaged before, whole afterwards
                            Logs/2026/EMPTY.CSV
                            Logs/2026/counts on the western ledges, second visit.csv
                            Logs/2026/tides of the first week.csv
                            Logs/station.log
                            Möwen und Lummen/Ruf der Trottellumme.wav
                            Möwen und Lummen/文字.txt
                            README.TXT
                            Recordings/Thumbs/spectrogram number 000.png
                            and 28 more; the plan file names them
              hosts         linux mounts it, windows mounts it (forecast)

            36 of 36 files are whole after the repair; the volume is sound.
            The copy will differ from the image in 1.85 KiB, in 23 places.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
}

#[test]
fn cases_that_all_look_raw_are_told_apart() {
    reads(
        marked,
        &["explain"],
        1,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                                 does not mount

            The boot checksum does not fit. Whole: the backup boot region, the allocation bitmap, the up-case
            table and all 36 files in 5 folders.

            Likely: something wrote to the first sectors without computing their checksum anew.

              linux     refuses    the boot checksum is 0xc8919f1a, sector 11 holds 0x7fab7bd3
                                   finding exfat/boot-checksum
                                   the log says: exFAT-fs (DEV): Invalid boot checksum (boot checksum :
                                   0x7fab7bd3, checksum : 0xc8919f1a)
                                   the log says: exFAT-fs (DEV): invalid boot region
                                   the log says: exFAT-fs (DEV): failed to recognize exfat type
              windows   refuses    the boot checksum is 0xc8919f1a, not 0x7fab7bd3 (documented demand)
                                   finding exfat/boot-checksum
                                   an unformatted (RAW) volume, and an offer to format it: decline

              sector 11     0x001600  D3 7B AB 7F D3 7B AB 7F    holds 0x7fab7bd3; the checksum is 0xc8919f1a

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        root_entries_gone,
        &["explain"],
        1,
        &expect![[r#"
            card.img · exFAT · 620 KiB                                                            does not mount

            There is no allocation bitmap entry. 1 finding besides. Whole: the backup boot region and all 36
            files in 5 folders.

              linux     refuses    the root folder has no bitmap entry
                                   finding exfat/bitmap-entry-missing
                                   the log says: exFAT-fs (DEV): error, no upcase table entry
                                   the log says: exFAT-fs (DEV): failed to load alloc-bitmap
                                   the log says: exFAT-fs (DEV): failed to recognize exfat type
                                   for writing, it adds: exFAT-fs (DEV): Filesystem has been set read-only
              windows   refuses    the root folder has no bitmap entry (documented demand)
                                   finding exfat/bitmap-entry-missing
                                   an unformatted (RAW) volume, and an offer to format it: decline

              root folder   0x005800  05 05 05 05 05 05 05 05 …  entry 0: type 05, an unused entry
              root folder   0x005820  05 05 05 05 05 05 05 05 …  entry 1: type 05, an unused entry
              root folder   0x005840  05 05 05 05 05 05 05 05 …  entry 2: type 05, an unused entry
              root folder   0x005860  85 02 FC 29 20 00 00 00 …  entry 3: type 85, a file

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        upcase_gone,
        &["explain"],
        1,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                           some hosts refuse it

            The root folder has no up-case entry. Whole: the backup boot region, the allocation bitmap and all
            36 files in 5 folders.

              linux     read-only  it mounts for reading only, whatever was asked: the up-case table was not
                                   found
                                   finding exfat/upcase-entry-missing
                                   the log says: exFAT-fs (DEV): error, no upcase table entry
                                   for writing, it adds: exFAT-fs (DEV): Filesystem has been set read-only
              windows   refuses    the root folder has no up-case entry (documented demand)
                                   finding exfat/upcase-entry-missing
                                   an unformatted (RAW) volume, and an offer to format it: decline

              root folder   0x005800  83 06 53 00 4B 00 45 00 …  entry 0: type 83, the label
              root folder   0x005820  81 00 00 00 00 00 00 00 …  entry 1: type 81, the bitmap
              root folder   0x005840  02 00 00 00 0D D3 19 E6 …  entry 2: type 02, an unused entry
              root folder   0x005860  85 02 FC 29 20 00 00 00 …  entry 3: type 85, a file

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        root_entries_gone,
        PLAN,
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB                                                 2 steps, sound afterwards

              derived       let the bitmap entry name cluster 2 and 76 bytes
                            bitmap-entry: where the bitmap stands, which has itself and the root folder in use;
                            one bit a cluster
                            changes 32 bytes at byte 22528
              derived       let the up-case entry name cluster 3, 5836 bytes and the checksum 0xe619d30d
                            upcase-entry: where the table stands, which is the recommended one
                            changes 32 bytes at byte 22560

                 36 back    out of reach or damaged before, whole afterwards
                            Logs/2026/EMPTY.CSV
                            Logs/2026/counts on the western ledges, second visit.csv
                            Logs/2026/tides of the first week.csv
                            Logs/station.log
                            Möwen und Lummen/Ruf der Trottellumme.wav
                            Möwen und Lummen/文字.txt
                            README.TXT
                            Recordings/Thumbs/spectrogram number 000.png
                            and 28 more; the plan file names them
              hosts         linux mounts it, windows mounts it (forecast)

            36 of 36 files are whole after the repair; the volume is sound.
            The copy will differ from the image in 64 bytes, in 1 place.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
}

#[test]
fn chains_sets_and_the_bitmap() {
    reads(
        chains_and_sets,
        &["check"],
        1,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                        files at risk: 4 faults

            Recordings/dawn 0002.wav: a chain runs into itself. 3 findings besides. Whole: the backup boot
            region, the up-case table and 34 files in 5 folders. 2 files and folders are damaged.

              exfat/chain-loop              Recordings/dawn 0002.wav: a chain runs into itself
                                            The table entry of cluster 43 leads back to cluster 36. It should
                                            name the next cluster, or end the chain. The rest was found by
                                            judgement: clusters that are in use and belong to nothing else.
                                            risks-files · bytes 12460 to 12463
              exfat/used-but-free           6 clusters are in use, free by the bitmap
                                            Cluster 28 is the first. A cluster that belongs to a file has its
                                            bit set.
                                            risks-files · byte 15363
              exfat/secondary-count         README.TXT: an entry set gives a wrong number of entries
                                            The set stands at byte 22624 of the volume.
                                            risks-files · byte 22625
              exfat/no-fat-chain-lost       Logs/station.log: a file in a row has lost its NoFatChain flag
                                            NoFatChain is clear, and the table has no chain behind the first
                                            cluster. The clusters that follow are in use and nobody else's.
                                            risks-files · byte 24705

            Next   punchdog explain card.img
                     what hosts make of it, and the bytes that show it
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        chains_and_sets,
        &["explain"],
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                       mounts, but is not sound

            Recordings/dawn 0002.wav: a chain runs into itself. 3 findings besides. Whole: the backup boot
            region, the up-case table and 34 files in 5 folders. 2 files and folders are damaged.

              linux     mounts     for reading and for writing
              windows   mounts     it meets the published demands; what the host does was not tried

              table         0x0030ac  24 00 00 00                cluster 43 of dawn 0002.wav: back to cluster 36

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
                   punchdog plan card.img --out card.plan.json      the repair, and what it costs
        "#]],
    );
    reads(
        chains_and_sets,
        PLAN,
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                      4 steps, sound afterwards

              judged        rebuild 3 table entries
                            chain-rebuilt: chains in use that nothing claimed and that fit the missing length,
                            else the clusters that follow, are in use and belong to nothing else
                            or: leave the files cut where the table breaks off
                            Recordings/dawn 0002.wav is taken to have the cluster behind cluster 43, which is no
                            other file's; then cluster 47, which no file claimed
                            changes 1 byte at byte 12460
              exact         README.TXT: put right the number of entries in its entry set
                            set-rewritten: with it, the set has the checksum that stands in it
                            changes 1 byte at byte 22625
              derived       Logs/station.log: set NoFatChain
                            stream-flags: the clusters that follow are in use and nobody else's, and the table
                            has no chain
                            changes 2 bytes in 2 places, the first at byte 24674
              derived       set the bitmap as the clusters are used, in 6 clusters
                            bitmap-bits: every cluster that a file, a folder or the volume's own tables claim
                            changes 1 byte at byte 15363

                 34 intact  as they were
                  2 back    out of reach or damaged before, whole afterwards
                            README.TXT
                            Recordings/dawn 0002.wav
              hosts         linux mounts it, windows mounts it (forecast)

            36 of 36 files are whole after the repair, 1 rests on judgement and should be opened before it is
            handed out; the volume is sound.
            The copy will differ from the image in 5 bytes, in 5 places.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
}

#[test]
fn what_is_lost() {
    reads(
        folder_lost,
        &["check"],
        1,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                        files at risk: 2 faults

            The folder at cluster 13 has no entry. 1 finding besides. Whole: the backup boot region, the up-case
            table and 8 files in 3 folders. 30 files, folders or chains are out of reach.

              exfat/lost-folder             the folder at cluster 13 has no entry
                                            Cluster 13 begins with a whole entry set and belongs to no folder.
                                            Each folder has an entry in the folder above it. Its files are out
                                            of reach.
                                            risks-files · bytes 26624 to 26687
              exfat/lost-clusters           1 cluster belongs to nothing, and all is blank: from 14 on
                                            The bitmap has cluster 14 in use. Each cluster in use belongs to a
                                            file, a folder or the volume's own tables.
                                            untidy · byte 15361

            Next   punchdog explain card.img
                     what hosts make of it, and the bytes that show it
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        folder_lost,
        &["files"],
        0,
        &expect![[r#"
        card.img · exFAT · 620 KiB                                                       8 intact, 28 orphan

          intact        folder  2026-04-01 00:40  Logs/
          intact        folder  2026-04-01 01:00  Logs/2026/
          intact       0 bytes  2026-04-01 03:00  Logs/2026/EMPTY.CSV
          intact      1.04 KiB  2026-04-01 02:40  Logs/2026/counts on the western ledges, second visit.csv
          intact      3.67 KiB  2026-04-01 02:20  Logs/2026/tides of the first week.csv
          intact      4.67 KiB  2026-04-01 02:00  Logs/station.log
          intact        folder  2026-04-01 01:40  Möwen und Lummen/
          intact      2.67 KiB  2026-04-01 05:00  Möwen und Lummen/Ruf der Trottellumme.wav
          intact     121 bytes  2026-04-01 05:20  Möwen und Lummen/文字.txt
          intact     206 bytes  2026-04-01 00:20  README.TXT
          intact      2.67 KiB  2026-04-01 14:00  ledges.csv
          orphan        folder                    lost folder 13/
                                                in a folder that hosts do not show
          orphan        folder  2026-04-01 05:40  lost folder 13/Thumbs/
                                                in a folder that hosts do not show
          orphan     162 bytes  2026-04-01 06:00  lost folder 13/Thumbs/spectrogram number 000.png
                                                in a folder that hosts do not show
          orphan     164 bytes  2026-04-01 06:20  lost folder 13/Thumbs/spectrogram number 001.png
                                                in a folder that hosts do not show
          orphan     164 bytes  2026-04-01 06:40  lost folder 13/Thumbs/spectrogram number 002.png
                                                in a folder that hosts do not show
          orphan     166 bytes  2026-04-01 07:00  lost folder 13/Thumbs/spectrogram number 003.png
                                                in a folder that hosts do not show
          orphan     158 bytes  2026-04-01 07:20  lost folder 13/Thumbs/spectrogram number 004.png
                                                in a folder that hosts do not show
          orphan     159 bytes  2026-04-01 07:40  lost folder 13/Thumbs/spectrogram number 005.png
                                                in a folder that hosts do not show
          orphan     161 bytes  2026-04-01 08:00  lost folder 13/Thumbs/spectrogram number 006.png
                                                in a folder that hosts do not show
          orphan     163 bytes  2026-04-01 08:20  lost folder 13/Thumbs/spectrogram number 007.png
                                                in a folder that hosts do not show
          orphan     164 bytes  2026-04-01 08:40  lost folder 13/Thumbs/spectrogram number 008.png
                                                in a folder that hosts do not show
          orphan     165 bytes  2026-04-01 09:00  lost folder 13/Thumbs/spectrogram number 009.png
                                                in a folder that hosts do not show
          orphan     165 bytes  2026-04-01 09:20  lost folder 13/Thumbs/spectrogram number 010.png
                                                in a folder that hosts do not show
          orphan     160 bytes  2026-04-01 09:40  lost folder 13/Thumbs/spectrogram number 011.png
                                                in a folder that hosts do not show
          orphan     158 bytes  2026-04-01 10:00  lost folder 13/Thumbs/spectrogram number 012.png
                                                in a folder that hosts do not show
          orphan     164 bytes  2026-04-01 10:20  lost folder 13/Thumbs/spectrogram number 013.png
                                                in a folder that hosts do not show
          orphan     162 bytes  2026-04-01 10:40  lost folder 13/Thumbs/spectrogram number 014.png
                                                in a folder that hosts do not show
          orphan     162 bytes  2026-04-01 11:00  lost folder 13/Thumbs/spectrogram number 015.png
                                                in a folder that hosts do not show
          orphan     157 bytes  2026-04-01 11:20  lost folder 13/Thumbs/spectrogram number 016.png
                                                in a folder that hosts do not show
          orphan     163 bytes  2026-04-01 11:40  lost folder 13/Thumbs/spectrogram number 017.png
                                                in a folder that hosts do not show
          orphan     161 bytes  2026-04-01 12:00  lost folder 13/Thumbs/spectrogram number 018.png
                                                in a folder that hosts do not show
          orphan     159 bytes  2026-04-01 12:20  lost folder 13/Thumbs/spectrogram number 019.png
                                                in a folder that hosts do not show
          orphan     164 bytes  2026-04-01 12:40  lost folder 13/Thumbs/spectrogram number 020.png
                                                in a folder that hosts do not show
          orphan     160 bytes  2026-04-01 13:00  lost folder 13/Thumbs/spectrogram number 021.png
                                                in a folder that hosts do not show
          orphan     160 bytes  2026-04-01 13:20  lost folder 13/Thumbs/spectrogram number 022.png
                                                in a folder that hosts do not show
          orphan     161 bytes  2026-04-01 13:40  lost folder 13/Thumbs/spectrogram number 023.png
                                                in a folder that hosts do not show
          orphan      5.67 KiB  2026-04-01 03:20  lost folder 13/dawn 0001.wav
                                                in a folder that hosts do not show
          orphan      6.67 KiB  2026-04-01 04:00  lost folder 13/dawn 0002.wav
                                                in a folder that hosts do not show
          orphan      3.67 KiB  2026-04-01 04:20  lost folder 13/dusk 0003.wav
                                                in a folder that hosts do not show
          orphan         5 KiB  2026-04-01 04:40  lost folder 13/unfinished 0004.wav
                                                in a folder that hosts do not show

        Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copies them out
    "#]],
    );
    reads(
        folder_lost,
        PLAN,
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                      2 steps, sound afterwards

              derived       give the folder at cluster 13 an entry in the root folder, as lost folder 13
                            folder-reconnected: it begins with a whole entry set, and belongs to no folder; its
                            name is lost
                            changes 96 bytes at byte 22816
              derived       free 1 cluster that belongs to nothing
                            lost-clusters-freed: they hold nothing but one byte value
                            changes 1 byte at byte 15361

                  8 intact  as they were
                 28 back    out of reach or damaged before, whole afterwards
                            lost folder 13/Thumbs/spectrogram number 000.png
                            lost folder 13/Thumbs/spectrogram number 001.png
                            lost folder 13/Thumbs/spectrogram number 002.png
                            lost folder 13/Thumbs/spectrogram number 003.png
                            lost folder 13/Thumbs/spectrogram number 004.png
                            lost folder 13/Thumbs/spectrogram number 005.png
                            lost folder 13/Thumbs/spectrogram number 006.png
                            lost folder 13/Thumbs/spectrogram number 007.png
                            and 20 more; the plan file names them
              hosts         linux mounts it, windows mounts it (forecast)

            36 of 36 files are whole after the repair; the volume is sound.
            The copy will differ from the image in 97 bytes, in 2 places.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
    reads(
        table_gone,
        &["check"],
        1,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                some hosts refuse it: 14 faults

            The root folder: a chain runs into an empty table entry. 13 findings besides. Whole: the backup boot
            region, the up-case table and 32 files in 5 folders. 4 files and folders are damaged, 3 more are out
            of reach.

              exfat/chain-into-free         the root folder: a chain runs into an empty table entry
                                            The table entry of cluster 9 says nothing. It should name the next
                                            cluster, or end the chain. Its entries end there.
                                            blocks-mount · bytes 12324 to 12327 · bytes 12324 to 12327
              exfat/chain-into-free         Logs/2026/tides of the first week.csv: a chain runs into an empty
                                            table entry
                                            The table entry of cluster 21 says nothing. It should name the next
                                            cluster, or end the chain. What is missing was not found.
                                            blocks-mount · bytes 12372 to 12375
              exfat/chain-into-free         Logs/2026/counts on the western ledges, second visit.csv: a chain
                                            runs into an empty table entry
                                            blocks-mount · bytes 12376 to 12379
              exfat/chain-into-free         Recordings/dawn 0002.wav: a chain runs into an empty table entry
                                            blocks-mount · bytes 12428 to 12431
              exfat/chain-too-short         Logs/2026/tides of the first week.csv: a file has fewer clusters
                                            than its length needs
                                            Its length is 3755 bytes. It has 1 cluster.
                                            risks-files · bytes 25656 to 25663
              exfat/chain-too-short         Logs/2026/counts on the western ledges, second visit.csv: a file has
                                            fewer clusters than its length needs
                                            Its length is 1060 bytes. It has 1 cluster.
                                            risks-files · bytes 25784 to 25791
              exfat/chain-too-short         Recordings/Thumbs: a file has fewer clusters than its length needs
                                            risks-files · bytes 27192 to 27199
              exfat/table-first-entries     the first two entries of the table are not what they must be
                                            Table 0 begins with 00 00 00 00 00 00 00 00. It should begin with F8
                                            FF FF FF FF FF FF FF.
                                            untidy · bytes 12288 to 12295
              exfat/lost-clusters           2 clusters belong to nothing, and may be a txt file: from 23 on
                                            The bitmap has clusters 23 to 24 in use. Each cluster in use belongs
                                            to a file, a folder or the volume's own tables.
                                            untidy · byte 15362
              exfat/lost-clusters           1 cluster belongs to nothing, and may be a csv file: from 25 on
                                            The bitmap has cluster 25 in use. Each cluster in use belongs to a
                                            file, a folder or the volume's own tables.
                                            untidy · byte 15362
              exfat/lost-clusters           1 cluster belongs to nothing, and may be a csv file: from 27 on
                                            untidy · byte 15363
              exfat/lost-clusters           1 cluster belongs to nothing, and all is blank: from 70 on
                                            untidy · byte 15368
              exfat/chain-into-free         and 2 more of this class; --all lists them

            Next   punchdog explain card.img                        which host refuses it, and at which byte
                   punchdog salvage card.img --to SOMEWHERE-ELSE    copy the files out first
        "#]],
    );
    reads(
        table_gone,
        PLAN,
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB · "SKERRY"                                     10 steps, sound afterwards

            Choice lost-chains: Clusters are in use that belong to no file. Keep what they hold?
              taken  keep               each becomes a file in the folder ADRIFT, to be looked through later;
                                        what there is no room to list stays in use
                     free               the clusters become free; what they hold is given up
                                        ADRIFT/A0000023.TXT, ADRIFT/A0000025.CSV, ADRIFT/A0000027.CSV

            Choice short-chain: A file has fewer clusters than its length needs. Set the length to what is
            there?
              taken  shorten            each file keeps what its clusters hold (Recordings/Thumbs: 3072 bytes)
                     leave              nothing changes; reading past the end gives an error
                                        Recordings/Thumbs, Logs/2026/tides of the first week.csv,
                                        Logs/2026/counts on the western ledges, second visit.csv

              judged        rebuild 13 table entries
                            chain-rebuilt: chains in use that nothing claimed and that fit the missing length,
                            else the clusters that follow, are in use and belong to nothing else
                            or: leave the files cut where the table breaks off
                            Recordings/dawn 0002.wav is taken to have the cluster behind cluster 35, which is
                            no other file's; then a chain that no file claimed, from cluster 39 on; then the
                            cluster behind cluster 39, which is no other file's; then a chain that no file
                            claimed, from cluster 43 on; then 2 more; the plan file has 2 more of these
                            changes 19 bytes in 6 places, the first at byte 12428
              judged        keep 3 lost chains as files in the folder ADRIFT
                            lost-chains-kept: the bitmap has them in use, and no file claims them; names are not
                            known, exact lengths where the content tells
                            or: free their clusters
                            changes 268 bytes in 4 places, the first at byte 23136
              derived       write the root folder's chain: 1 cluster
                            root-chain: the folder's own end mark; clusters that go on as a folder does
                            changes 4 bytes at byte 12324
              derived       end chains where the length says: 3 table entries
                            chain-ended-by-length: lengths in the entry sets, end marks in the folders
                            changes 12 bytes in 2 places, the first at byte 12372
              derived       Recordings/Thumbs: set the length from 4096 to 3072, and 2 more of this kind
                            length-from-clusters: the clusters it has
                            3 files: Logs/2026/counts on the western ledges, second visit.csv, Logs/2026/tides
                            of the first week.csv, Recordings/Thumbs
                            changes 12 bytes in 9 places, the first at byte 27139
              derived       free 1 cluster that belongs to nothing
                            lost-clusters-freed: they hold nothing but one byte value
                            changes 1 byte at byte 15368
              derived       set the bitmap as the clusters are used, in 1 cluster
                            bitmap-bits: every cluster that a file, a folder or the volume's own tables claim
                            changes 1 byte at byte 15364
              exact         set entries 0 and 1 of the table
                            table-first-entries: they are the same on every volume
                            changes 8 bytes at byte 12288

                 34 back    out of reach or damaged before, whole afterwards
                            Logs/2026/EMPTY.CSV
                            Logs/station.log
                            Möwen und Lummen/Ruf der Trottellumme.wav
                            Möwen und Lummen/文字.txt
                            README.TXT
                            Recordings/Thumbs/spectrogram number 000.png
                            Recordings/Thumbs/spectrogram number 001.png
                            Recordings/Thumbs/spectrogram number 002.png
                            and 26 more; the plan file names them
                  3 adrift  content kept, name or folder lost; the length where the content tells it
                            ADRIFT/A0000023.TXT
                            ADRIFT/A0000025.CSV
                            ADRIFT/A0000027.CSV
                  2 shorter without their end
                            Logs/2026/counts on the western ledges, second visit.csv, 1060 → 1024 bytes
                            Logs/2026/tides of the first week.csv, 3755 → 1024 bytes
              hosts         linux mounts it, windows mounts it (forecast)

            34 of 39 files are whole after the repair, 6 rest on judgement and should be opened before they are
            handed out, 3 are kept without their names or folders, 2 lose their end; the volume is sound.
            The copy will differ from the image in 325 bytes, in 23 places.

            Next   punchdog apply card.plan.json --image card.img --copy card.mended.img    mends a copy
        "#]],
    );
    reads(
        table_gone,
        &["salvage", "--list", "--state", "damaged"],
        0,
        &expect![[r#"
            card.img · exFAT · 620 KiB                                                        4 files, 12.33 KiB

              damaged     1.04 KiB  Logs/2026/counts on the western ledges, second visit.csv
              damaged     3.67 KiB  Logs/2026/tides of the first week.csv
              damaged     6.67 KiB  Recordings/dawn 0002.wav
              damaged     3.67 KiB  Recordings/dusk 0003.wav

            Next   punchdog salvage card.img --to SOMEWHERE-ELSE    copies them, with the same filters
        "#]],
    );
    assert!(CROWDED.starts_with(FOLDER));
}
