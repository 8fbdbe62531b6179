//! The seabird field station on Skerry Point: what its cards hold, and what happened to them.

use crate::{
    cards::{Layout, Volume, build::gpt},
    content, exfat,
    fat::{Filler, Placing},
    formatted::{self, New},
    ntfs,
    patient::{self, Made, fat::Patient},
    seed::Seed,
};
use punchdog_core::{family::Kind, fat::fresh::Wish, medium::Extent, ntfs as ntfs_core};
use std::io;

/// A card of the station, sound and after its accident.
pub struct Card {
    /// Its file name in the demo folder, without an ending.
    pub name: &'static str,
    /// What happened, in a sentence.
    pub story: &'static str,
    /// The sound card.
    pub sound: Patient,
    /// The card as it came in.
    pub patient: Patient,
}

/// The tide logger's card: FAT16, 24 MiB. The logger lost power while it wrote the table.
///
/// # Errors
/// When the card is too small for its files, which it is not.
pub fn tide_card() -> io::Result<Card> {
    let wish = Wish {
        kind: Kind::Fat16,
        bytes: 24 << 20,
        sector_bytes: 512,
        cluster_bytes: 2048,
        tables: 2,
        label: *b"TIDELOG    ",
        serial: 0x71DE_1060,
    };
    let mut seed = Seed::new(1_701);
    let mut filler = Filler::new(&wish, vec![0; 24 << 20])?;
    filler.file("READ ME FIRST.txt", &content::note(&mut seed, 5), Placing::Row)?;
    filler.folder("Instrument")?;
    for number in 1..=6 {
        let lines = 200 + usize::try_from(seed.below(400)).unwrap_or(0);
        filler.file(
            &format!("Instrument/logger {number}.log"),
            &content::log(&mut seed, lines),
            Placing::Row,
        )?;
    }
    filler.folder("Tides")?;
    for (month, days) in [("2026-04 April", 30), ("2026-05 May", 31), ("2026-06 June", 30)] {
        filler.folder(&format!("Tides/{month}"))?;
        for day in 1..=days {
            let lie = if day % 5 == 0 { Placing::Pieces(1) } else { Placing::Row };
            let path = format!("Tides/{month}/gauge at the landing, day {day:02}.csv");
            filler.file(&path, &content::tides(&mut seed, 144 * 3), lie)?;
        }
    }
    filler.file("Tides/springs and neaps.csv", &content::tides(&mut seed, 900), Placing::Gaps)?;
    let sound = Patient::new(filler.finish()?);
    let mut patient = sound.clone();
    // Two sectors of the first table hold a log line instead of entries; one entry of the second
    // table was never written; the card was not closed.
    let log: Vec<u8> = content::log(&mut seed, 60).into_iter().take(1024).collect();
    let place = patient.geometry.table_offset(0) + 512;
    patient.write(place, &log);
    let cluster = patient.find("Instrument/logger 3.log").clusters[2];
    patient.set_link_in(1, cluster, 0);
    patient.write(37, &[1]);
    Ok(Card {
        name: "tide-logger",
        story: "the logger lost power while it wrote the allocation table",
        sound,
        patient,
    })
}

/// The nest camera's card: FAT32, 64 MiB. Sector 0 is gone.
///
/// # Errors
/// When the card is too small for its files, which it is not.
pub fn camera_card() -> io::Result<Card> {
    let wish = Wish {
        kind: Kind::Fat32,
        bytes: 64 << 20,
        sector_bytes: 512,
        cluster_bytes: 1024,
        tables: 2,
        label: *b"NESTCAM    ",
        serial: 0x0E57_CA11,
    };
    let mut seed = Seed::new(2_026);
    let mut filler = Filler::new(&wish, vec![0; 64 << 20])?;
    filler.folder("DCIM")?;
    filler.folder("Notes")?;
    filler.folder("Sounds")?;
    for ledge in ["Ledge 03", "Ledge 07", "Ledge 09", "Ledge 12", "Ledge 17"] {
        filler.folder(&format!("DCIM/{ledge}"))?;
        for number in 1..=38 {
            let (width, height) = (60 + 4 * (number % 7), 45 + 3 * (number % 7));
            let picture = content::picture(&mut seed, width, height);
            filler.file(&format!("DCIM/{ledge}/nest at dawn {number:03}.png"), &picture, Placing::Row)?;
        }
    }
    filler.folder("Notes/2026")?;
    for week in 14..=27 {
        let note = content::note(&mut seed, 40);
        filler.file(&format!("Notes/2026/week {week}, who sat where.txt"), &note, Placing::Row)?;
    }
    for (number, bird) in
        ["razorbill", "kittiwake", "puffin", "shag", "fulmar", "guillemot"].iter().enumerate()
    {
        let sound = content::sound(&mut seed, 20_000);
        filler.file(&format!("Sounds/{number} {bird}.wav"), &sound, Placing::Pieces(3))?;
    }
    for name in ["camera.cfg", "Möwenzählung.csv", "counts by ledge.csv"] {
        filler.file(name, &content::counts(&mut seed, 80), Placing::Gaps)?;
    }
    filler.file("LOG.TXT", &content::log(&mut seed, 120), Placing::Row)?;
    let sound = Patient::new(filler.finish()?);
    let mut patient = sound.clone();
    patient.fill(0, 512, 0);
    Ok(Card {
        name: "nest-camera",
        story: "the card was pulled while the camera wrote; sector 0 is gone",
        sound,
        patient,
    })
}

/// The sound recorder's card, sound and after its accident.
pub struct RecorderCard {
    /// Its file name in the demo folder, without an ending.
    pub name: &'static str,
    /// What happened, in a sentence.
    pub story: &'static str,
    /// The sound card.
    pub sound: patient::exfat::Patient,
    /// The card as it came in.
    pub patient: patient::exfat::Patient,
}

/// The sound recorder's card: exFAT, 32 MiB. Another device wrote its mark into the first sectors,
/// and the battery died while a recording was being closed.
///
/// # Errors
/// When the card is too small for its files, which it is not.
pub fn recorder_card() -> io::Result<RecorderCard> {
    let wish = punchdog_core::exfat::fresh::Wish {
        bytes: 32 << 20,
        sector_bytes: 512,
        cluster_bytes: 32 << 10,
        tables: 1,
        label: "DAWNCHORUS".to_owned(),
        serial: 0x50FD_DA3B,
    };
    let mut seed = Seed::new(4_415);
    let mut filler = exfat::Filler::new(&wish, vec![0; 32 << 20])?;
    filler.file("recorder settings.txt", &content::note(&mut seed, 8), Placing::Row)?;
    for (number, ledge) in ["Ledge 03", "Ledge 09", "Ledge 17"].iter().enumerate() {
        filler.folder(ledge, 1, Placing::Row)?;
        for day in 1..=12 {
            let samples = 30_000 + u32::try_from(seed.below(60_000)).unwrap_or(0);
            let lie = if day % 4 == 0 { Placing::Pieces(1) } else { Placing::Row };
            let path = format!("{ledge}/2026-05-{day:02} dawn chorus, recorder {}.wav", number + 1);
            filler.file(&path, &content::sound(&mut seed, samples), lie)?;
        }
    }
    filler.folder("Listening notes", 1, Placing::Row)?;
    for bird in ["Tordalk", "Trottellumme", "Dreizehenmöwe", "Krähenscharbe", "Eissturmvogel"] {
        filler.file(&format!("Listening notes/{bird}.txt"), &content::note(&mut seed, 30), Placing::Gaps)?;
    }
    let begun = content::sound(&mut seed, 40_000);
    filler.reserved("Ledge 17/2026-05-13 not closed.wav", &begun, begun.len() as u64 * 2, Placing::Row)?;
    let sound = patient::exfat::Patient::new(filler.finish()?);
    let mut patient = sound.clone();
    patient.write(120, b"DEVICE MARK 7");
    patient.write(106, &[2]);
    // The up-case table's entry was freed, and two recordings lost the bits of their clusters.
    let entry = patient.root_entry(2);
    patient.write(entry, &[2]);
    for path in
        ["Ledge 17/2026-05-11 dawn chorus, recorder 3.wav", "Ledge 17/2026-05-12 dawn chorus, recorder 3.wav"]
    {
        for cluster in patient.find(path).clusters {
            patient.set_bit(cluster, false);
        }
    }
    patient.write_set("Ledge 17/2026-05-10 dawn chorus, recorder 3.wav", 33, &[1]);
    Ok(RecorderCard {
        name: "sound-recorder",
        story: "another device marked the card, then the battery died during a recording",
        sound,
        patient,
    })
}

/// The office disk: 36 MiB with a GPT, and an NTFS volume in it. Somebody began to set up another system on it, and
/// switched it off: its worst day.
pub struct OfficeDisk {
    /// The sound disk.
    pub sound: Vec<u8>,
    /// The disk as it came in.
    pub patient: Vec<u8>,
    /// What is on it.
    pub made: Vec<Made>,
    /// What happened, in a sentence.
    pub story: &'static str,
}

/// Makes the office disk.
///
/// # Errors
/// When the disk is too small for its files, which it is not.
///
/// # Panics
/// Never: its records are where they are laid.
pub fn office_disk() -> io::Result<OfficeDisk> {
    const START: u64 = 1 << 20;
    const BYTES: u64 = 34 << 20;
    let wish = ntfs_core::fresh::Wish {
        bytes: BYTES,
        sector_bytes: 512,
        cluster_bytes: 4096,
        record_bytes: 1024,
        label: "OFFICE".to_owned(),
        serial: 0x0FF1_CE00_5EAB_1BD5,
        time: ntfs::SPRING,
        records: 512,
    };
    let mut seed = Seed::new(4_112);
    let size = usize::try_from(BYTES).map_err(io::Error::other)?;
    let mut filler = ntfs::Filler::new(&wish, vec![0; size])?;
    for folder in [
        "Reports",
        "Reports/2026",
        "Accounts",
        "Rota",
        "Ringing",
        "Ringing/Chicks 2026",
        "Pictures for the web",
    ] {
        filler.folder(folder, Placing::Row)?;
    }
    filler.file("who has the boat.txt", &content::note(&mut seed, 9), Placing::Row)?;
    for week in 14..=30 {
        let path = format!("Reports/2026/weekly report, week {week}.txt");
        filler.file(&path, &content::note(&mut seed, 60), Placing::Row)?;
        let counts = content::counts(&mut seed, 220);
        let lie = if week % 4 == 0 { Placing::Pieces(1) } else { Placing::Row };
        filler.file(&format!("Ringing/Chicks 2026/rings put on in week {week}.csv"), &counts, lie)?;
    }
    for month in ["April", "May", "June", "July"] {
        filler.file(&format!("Accounts/{month}.csv"), &content::counts(&mut seed, 90), Placing::Row)?;
        filler.file(&format!("Rota/{month}.txt"), &content::note(&mut seed, 4), Placing::Row)?;
    }
    for number in 1..=40 {
        let picture = content::picture(&mut seed, 90, 60);
        filler.file(
            &format!("Pictures for the web/puffin on the ledge, {number:02}.png"),
            &picture,
            Placing::Row,
        )?;
    }
    filler.linked(
        "Reports/rings of the year.csv",
        "Ringing/all rings.csv",
        &content::counts(&mut seed, 900),
    )?;
    filler.packed("Reports/2025, whole year.log", &content::log(&mut seed, 4000))?;
    let mut filled = filler.finish()?;
    // Sectors before the volume.
    for sector in [0, filled.geometry.counted()] {
        let at = usize::try_from(sector).map_err(io::Error::other)? + 28;
        filled.canvas[at..at + 4].copy_from_slice(&2048_u32.to_le_bytes());
    }
    let mut sound = vec![0; size + (2 << 20)];
    let start = usize::try_from(START).map_err(io::Error::other)?;
    sound[start..start + size].copy_from_slice(&filled.canvas);
    let layout = Layout::Ntfs(filled.geometry);
    let volume = Volume { kind: Kind::Ntfs, start: START, bytes: BYTES, layout, made: filled.made.clone() };
    gpt(&mut sound, &[volume]);
    let mut hurt = patient::ntfs::Patient::new(filled);
    // The first 8 KiB and the end are another system's, and what it laid in the middle: over the copies of the first
    // records, over $Bitmap, over every second block of the folders' indexes.
    let foreign = content::note(&mut seed, 900);
    hurt.write(0, &foreign[..8192.min(foreign.len())]);
    hurt.write(hurt.geometry.counted(), &foreign[..512]);
    hurt.write(hurt.geometry.place(hurt.geometry.mirror), &foreign[512..4608]);
    let bitmap = hurt.own_place(ntfs_core::layout::own::BITMAP, "", 0);
    hurt.fill(bitmap, hurt.geometry.clusters() / 8, 0x55);
    for folder in ["", "Pictures for the web", "Ringing/Chicks 2026", "Reports/2026"] {
        hurt.lose_half_of(folder, &foreign);
    }
    // A record was being written when the power went.
    let at = hurt.record_place(hurt.number("Reports/rings of the year.csv")) + 1022;
    hurt.write(at, &[0x11, 0x4E]);
    let flags = hurt.attribute(3, ntfs_core::layout::kind::VOLUME_INFO, "") + 34;
    hurt.edit(3, |record| record[flags] |= 1);
    let mut patient = sound.clone();
    patient[start..start + size].copy_from_slice(&hurt.bytes);
    Ok(OfficeDisk {
        sound,
        patient,
        made: hurt.made,
        story: "another system was begun on it and switched off: foreign bytes over both boot sectors, the copies of its first records, the list of free clusters and half of what its folders are made of",
    })
}

/// A nest camera's card that was formatted by mistake: FAT32, 48 MiB, laid over an older FAT32. Some pictures were
/// deleted long before, with the folder that they were in.
pub struct FormattedCard {
    /// The card before it was formatted.
    pub before: Patient,
    /// The card as it came in.
    pub patient: Vec<u8>,
    /// What happened, in a sentence.
    pub story: &'static str,
}

/// See [`FormattedCard`].
///
/// # Errors
/// When the card is too small for its files, which it is not.
pub fn formatted_card() -> io::Result<FormattedCard> {
    let wish = Wish {
        kind: Kind::Fat32,
        bytes: 48 << 20,
        sector_bytes: 512,
        cluster_bytes: 512,
        tables: 2,
        label: *b"NESTCAM 2  ",
        serial: 0x0E57_CA12,
    };
    let mut seed = Seed::new(3_007);
    let mut filler = Filler::new(&wish, vec![0; 48 << 20])?;
    filler.folder("DCIM")?;
    for (folder, day, count) in [("099LEDGE", 2, 9), ("100LEDGE", 14, 24), ("101LEDGE", 15, 18)] {
        filler.folder(&format!("DCIM/{folder}"))?;
        for number in 1..=count {
            let taken = format!(
                "2026:05:{day:02} {:02}:{:02}:{:02}",
                4 + number / 6,
                number * 7 % 60,
                number * 11 % 60
            );
            let size = (160 + 16 * (number % 5), 120 + 8 * (number % 5));
            let photo = content::photo(&mut seed, size, &taken);
            let lie = if number % 6 == 0 { Placing::Pieces(1) } else { Placing::Row };
            filler.file(&format!("DCIM/{folder}/NEST{number:04}.JPG"), &photo, lie)?;
        }
    }
    filler.folder("SOUND")?;
    for number in 1..=4 {
        let sound = content::sound(&mut seed, 12_000);
        filler.file(&format!("SOUND/LEDGE{number}.WAV"), &sound, Placing::Row)?;
    }
    filler.file("CAMERA.TXT", &content::note(&mut seed, 9), Placing::Row)?;
    let before = Patient::new(filler.finish()?);
    let mut patient = before.clone();
    // The folder was deleted, and its cluster given to another one since.
    let gone = patient.find("DCIM/099LEDGE").clusters;
    let each = patient.geometry.cluster_bytes();
    for cluster in gone {
        patient.fill(patient.geometry.cluster_offset(cluster), each.into(), 0);
    }
    let mut bytes = patient.bytes;
    formatted::over(&mut bytes, &New::Fat(Wish { label: *b"NO NAME    ", serial: 0x0A11_0F1D, ..wish }))?;
    Ok(FormattedCard {
        before,
        patient: bytes,
        story: "someone pressed \"format\" on the camera; nothing was written to it since",
    })
}

/// The weather mast's card: FAT32, 24 MiB. It fails in places.
pub struct FailingCard {
    /// The card before it failed.
    pub sound: Patient,
    /// The image that was made of it: zeros where it could not be read.
    pub image: Vec<u8>,
    /// The places that could not be read.
    pub places: Vec<Extent>,
    /// Files that lack something.
    pub hit: Vec<String>,
    /// What happened, in a sentence.
    pub story: &'static str,
}

/// See [`FailingCard`].
///
/// # Errors
/// When the card is too small for its files, which it is not.
pub fn failing_card() -> io::Result<FailingCard> {
    let wish = Wish {
        kind: Kind::Fat32,
        bytes: 36 << 20,
        sector_bytes: 512,
        cluster_bytes: 512,
        tables: 2,
        label: *b"MAST       ",
        serial: 0x3A57_0B51,
    };
    let mut seed = Seed::new(6_240);
    let mut filler = Filler::new(&wish, vec![0; 36 << 20])?;
    filler.folder("Readings")?;
    for month in ["2026-04", "2026-05", "2026-06"] {
        filler.folder(&format!("Readings/{month}"))?;
        for day in 1..=28 {
            let log = content::log(&mut seed, 60);
            filler.file(
                &format!("Readings/{month}/{month}-{day:02}, wind and rain.log"),
                &log,
                Placing::Row,
            )?;
        }
    }
    filler.folder("Pictures")?;
    for number in 1..=24 {
        let picture = content::picture(&mut seed, 120, 90);
        filler.file(&format!("Pictures/sky {number:02}.png"), &picture, Placing::Row)?;
    }
    filler.file("mast settings.txt", &content::note(&mut seed, 12), Placing::Row)?;
    let sound = Patient::new(filler.finish()?);
    let g = sound.geometry;
    let sector = |at: u64, count: u64| Extent::new(at, count * 512);
    let hit = ["Readings/2026-05/2026-05-17, wind and rain.log", "Pictures/sky 09.png"];
    let mut places = vec![sector(g.table_offset(0) + 512, 3), sector(sound.bytes.len() as u64 - 8192, 2)];
    for path in hit {
        places.push(sector(g.cluster_offset(sound.find(path).clusters[1]), 1));
    }
    places.sort_unstable();
    let mut patient = sound.clone();
    for place in &places {
        patient.fill(place.offset, place.length, 0);
    }
    Ok(FailingCard {
        sound,
        image: patient.bytes,
        places,
        hit: hit.map(str::to_owned).to_vec(),
        story: "a worn card; the reader gave up at some sectors, which stand in weather-mast.surface.json",
    })
}

/// The field stick: a disk of 14 MiB with one FAT16 volume at 1 MiB. Its partition table is gone.
/// Sound disk, damaged disk.
///
/// # Errors
/// When the stick is too small for its files, which it is not.
pub fn field_stick() -> io::Result<(Vec<u8>, Vec<u8>)> {
    const START: usize = 1 << 20;
    let bytes = 12 << 20;
    let wish = Wish {
        kind: Kind::Fat16,
        bytes,
        sector_bytes: 512,
        cluster_bytes: 2048,
        tables: 2,
        label: *b"FIELDSTICK ",
        serial: 0xF1E1_D571,
    };
    let mut seed = Seed::new(57);
    let mut filler = Filler::new(&wish, vec![0; 12 << 20])?;
    filler.folder("Transects")?;
    filler.folder("Pictures")?;
    for number in 1..=12 {
        let counts = content::counts(&mut seed, 150);
        filler.file(&format!("Transects/transect {number:02}, north side.csv"), &counts, Placing::Row)?;
        let picture = content::picture(&mut seed, 64, 48);
        filler.file(&format!("Pictures/IMG_{number:04}.PNG"), &picture, Placing::Row)?;
    }
    filler.file("boat list.txt", &content::note(&mut seed, 12), Placing::Row)?;
    let volume = filler.finish()?.canvas;
    let mut sound = vec![0; 14 << 20];
    sound[START..START + volume.len()].copy_from_slice(&volume);
    // One entry: type 0E, from sector 2048 on (UEFI 2.10, 5.2.1).
    sound[446..450].copy_from_slice(&[0, 0xFE, 0xFF, 0xFF]);
    sound[450..454].copy_from_slice(&[0x0E, 0xFE, 0xFF, 0xFF]);
    sound[454..458].copy_from_slice(&2048_u32.to_le_bytes());
    sound[458..462].copy_from_slice(&(12_u32 << 11).to_le_bytes());
    sound[510..512].copy_from_slice(&[0x55, 0xAA]);
    let mut damaged = sound.clone();
    damaged[..512].fill(0);
    Ok((sound, damaged))
}
