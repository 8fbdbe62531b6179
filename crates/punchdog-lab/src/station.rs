//! The seabird field station on Skerry Point: what its cards hold, and what happened to them.

use crate::{
    content, exfat, exfat_faults,
    fat::{Filler, Placing},
    faults::Patient,
    seed::Seed,
};
use punchdog_core::{family::Kind, fat::fresh::Wish};
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
    pub sound: exfat_faults::Patient,
    /// The card as it came in.
    pub patient: exfat_faults::Patient,
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
    let sound = exfat_faults::Patient::new(filler.finish()?);
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
