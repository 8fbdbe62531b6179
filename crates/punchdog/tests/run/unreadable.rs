//! Media that fail in places, from the list of them to the report.

use super::{folder_with, json, patient, run};
use punchdog_core::{family::Kind, fat::fresh::Wish};
use punchdog_damage::{
    exfat, exfat_faults,
    fat::{Filler, Placing},
    faults::Patient,
    seed::Seed,
};
use serde_json::{Value, json};
use std::{fs, path::Path};

/// A card with places that fail: boot sector, first table, a file's second sector, nothing.
fn card() -> (Patient, Vec<(u64, u64)>) {
    let patient = patient(Kind::Fat32);
    let g = patient.geometry;
    let file = patient.find("ledges.csv");
    let content = g.cluster_offset(file.clusters[1]);
    let last = patient.bytes.len() as u64 - 512;
    (patient, vec![(0, 512), (g.table_offset(0), 1024), (content, 512), (last, 512)])
}

fn list(folder: &Path, places: &[(u64, u64)]) {
    let lines: Vec<String> =
        places.iter().map(|(at, length)| format!("{at:#x} {length} # found by hand\n")).collect();
    fs::write(folder.join("bad.txt"), lines.concat()).unwrap();
}

#[test]
fn a_medium_with_failing_places_is_told_of_mended_and_undone() {
    let (mut patient, places) = card();
    // What the file has there is not to be believed.
    for (at, length) in &places {
        patient.fill(*at, *length, 0xA5);
    }
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    list(at, &places);
    let with = |words: &[&'static str]| [words, &["--unreadable", "bad.txt"]].concat();

    let check = json(at, &with(&["check", "card.img"]), 1);
    let findings = check["volumes"][0]["findings"].as_array().unwrap().clone();
    let codes: Vec<&str> = findings.iter().map(|f| f["code"].as_str().unwrap()).collect();
    for code in ["medium/unreadable-structure", "medium/unreadable-file", "medium/unreadable-free"] {
        assert!(codes.contains(&code), "{code} in {codes:?}");
    }
    assert!(!codes.contains(&"fat/boot-gone"), "nobody knows that it is gone: {codes:?}");
    let told: u64 = findings
        .iter()
        .filter(|f| f["code"].as_str().unwrap().starts_with("medium/"))
        .flat_map(|f| f["extents"].as_array().unwrap().clone())
        .map(|extent| extent["length"].as_u64().unwrap())
        .sum();
    assert_eq!(told, places.iter().map(|(_, length)| length).sum::<u64>(), "every byte, and none twice");
    let text = run(at, &with(&["explain", "card.img"])).out;
    assert!(text.contains("the boot sector cannot be read"), "{text}");
    assert!(text.contains("5 sectors cannot be read"), "{text}");
    assert!(text.contains("--unreadable bad.txt --out"), "the next command is told of the list: {text}");

    let files = json(at, &with(&["files", "card.img"]), 0);
    let of = |files: &Value, path: &str| -> Value {
        files["files"].as_array().unwrap().iter().find(|f| f["path"] == path).unwrap().clone()
    };
    let hit = of(&files, "ledges.csv");
    let each = u64::from(patient.geometry.cluster_bytes());
    assert_eq!(hit["state"], "damaged");
    assert_eq!(hit["missing"], json!([{ "offset": each, "length": 512 }]));

    let saved = json(at, &[&with(&["salvage", "card.img", "--to", "out"])[..]].concat(), 1);
    let hit = of(&saved, "ledges.csv");
    assert_eq!((hit["missing_bytes"].as_u64(), hit["whole"].as_bool()), (Some(512), Some(false)));
    assert_eq!(hit["missing"], json!([{ "offset": each, "length": 512 }]));
    let copied = fs::read(at.join("out/ledges.csv")).unwrap();
    assert_eq!(copied.len() as u64, patient.find("ledges.csv").size, "it keeps its length");
    let from = usize::try_from(each).unwrap();
    assert!(copied[from..from + 512].iter().all(|byte| *byte == 0));

    let plan = json(at, &with(&["plan", "card.img", "--out", "card.plan"]), 0);
    assert_eq!(plan["image"]["unreadable"].as_array().unwrap().len(), places.len());
    let apply = ["apply", "card.plan", "--image", "card.img", "--copy", "mended.img", "--unreadable"];
    // A place of which the plan does not know, and that it may rest on.
    let more = [&places[..], &[(patient.geometry.table_offset(1), 512)]].concat();
    list(at, &more);
    let refused = run(at, &[&apply[..], &["bad.txt"]].concat());
    assert_eq!(refused.status, 2, "{}", refused.err);
    let place = patient.geometry.table_offset(1);
    assert!(refused.err.contains(&format!("512 bytes, the first at byte {place}")), "{}", refused.err);
    assert!(refused.err.contains("plan card.img --unreadable bad.txt --out"), "{}", refused.err);
    assert!(!at.join("mended.img").exists() && !at.join("mended.img.undo").exists());
    // One place fewer: the plan knows more than the list.
    list(at, &places[1..]);
    let done = json(at, &[&apply[..], &["bad.txt"]].concat(), 0);
    assert_eq!(done["as_planned"], true);
    list(at, &places);
    let after = json(at, &["check", "mended.img"], 0);
    // What the copy lacks is known from the journal beside it.
    let files = patient.live().filter(|made| !made.folder).count();
    assert_eq!(after["volumes"][0]["files"]["intact"], json!(files - 1));
    assert_eq!(after["volumes"][0]["findings"][0]["paths"], json!(["ledges.csv"]));
    let hashes = json(at, &["files", "mended.img", "--hash"], 0);
    for made in patient.live().filter(|made| !made.folder && made.size > 0 && made.path != "ledges.csv") {
        assert_eq!(of(&hashes, &made.path)["sha256"], json!(made.sha256), "{}", made.path);
    }

    let undone = run(at, &["undo", "mended.img"]);
    assert!(undone.out.contains("5 sectors of the image could not be read"), "{}", undone.out);
    let mut expected = patient.bytes;
    for (place, length) in places {
        expected[usize::try_from(place).unwrap()..usize::try_from(place + length).unwrap()].fill(0);
    }
    assert!(fs::read(at.join("mended.img")).unwrap() == expected);
}

#[test]
fn a_report_says_what_was_measured_and_no_more() {
    let (patient, places) = card();
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    list(at, &places);
    let with = |words: &[&'static str]| [words, &["--unreadable", "bad.txt"]].concat();
    json(at, &with(&["salvage", "card.img", "--to", "out"]), 1);
    json(at, &with(&["plan", "card.img", "--out", "card.plan"]), 0);
    json(at, &["apply", "card.plan", "--image", "card.img", "--copy", "mended.img"], 0);
    let report = run(
        at,
        &with(&[
            "report",
            "card.img",
            "--plan",
            "card.plan",
            "--copy",
            "mended.img",
            "--saved",
            "out",
            "--job",
            "Job <7>",
            "--out",
            "r.html",
        ]),
    );
    assert_eq!(report.status, 0, "{}", report.err);
    let page = fs::read_to_string(at.join("r.html")).unwrap();
    for part in [
        "Job &lt;7&gt;",
        "5 sectors cannot be read",
        "came out as planned",
        "ledges.csv",
        "What was not tried",
        "<svg",
    ] {
        assert!(page.contains(part), "{part}");
    }
    for outside in ["<script", "src=\"http", "href=\"http", "@import", "url(http"] {
        assert!(!page.contains(outside), "{outside}");
    }
    let facts: Value = serde_json::from_str(&fs::read_to_string(at.join("r.json")).unwrap()).unwrap();
    assert_eq!(facts["schema"], "punchdog.report/1");
    assert_eq!(facts["copy"]["as_planned"], true);
    // A report never puts a plan beside an image that it is not for, nor a copy that was changed since.
    let mut changed = fs::read(at.join("mended.img")).unwrap();
    let cluster = usize::try_from(patient.geometry.cluster_offset(2)).unwrap();
    changed[cluster..cluster + 64].fill(0);
    fs::write(at.join("changed.img"), changed).unwrap();
    let wrong = run(at, &["report", "changed.img", "--plan", "card.plan", "--out", "w.html"]);
    assert_eq!(wrong.status, 2, "{}", wrong.out);
    let told = json(
        at,
        &with(&["report", "card.img", "--plan", "card.plan", "--copy", "changed.img", "--out", "c.html"]),
        0,
    );
    assert_eq!(told["copy"]["as_planned"], false);
    assert!(told["summary"].to_string().contains("must not be handed out"));
}

#[test]
fn filler_of_an_imager_is_no_content() {
    let (mut patient, places) = card();
    for (at, length) in &places {
        let filler: Vec<u8> =
            b"\xDE\xAD\xBE\xEF".iter().copied().cycle().take(usize::try_from(*length).unwrap()).collect();
        patient.write(*at, &filler);
    }
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    list(at, &places);
    let by_filler = json(at, &["check", "card.img", "--filler", "BEEFDEAD"], 1);
    let by_list = json(at, &["check", "card.img", "--unreadable", "bad.txt"], 1);
    assert_eq!(by_filler, by_list);
    let zeros = run(at, &["check", "card.img", "--filler", "0000"]);
    assert_eq!(zeros.status, 2, "{}", zeros.out);
}

#[test]
fn lists_that_do_not_fit_are_refused() {
    let (patient, _) = card();
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let length = patient.bytes.len();
    let document = json!({ "schema": "punchdog.surface/1", "source": { "path": "x", "bytes": length + 1 },
        "sector": 512, "done": true, "extents": [] });
    for (text, reason) in [
        (format!("{length} 512"), "beyond the end"),
        ("0x10 twelve".to_owned(), "line 1"),
        (document.to_string(), "is of a source of"),
        (document.to_string()[..60].to_owned(), "neither a list"),
        ("\u{1}\u{2}".to_owned(), "neither a list"),
    ] {
        fs::write(at.join("bad.txt"), text).unwrap();
        for words in [&["check", "card.img"][..], &["plan", "card.img"], &["map", "card.img"]] {
            let refused = run(at, &[words, &["--unreadable", "bad.txt"]].concat());
            assert_eq!(refused.status, 2, "{}", refused.out);
            assert!(refused.err.contains(reason), "{reason} in {}", refused.err);
        }
    }
    let missing = run(at, &["check", "card.img", "--unreadable", "none.txt"]);
    assert_eq!(missing.status, 2, "{}", missing.out);
}

#[test]
fn surface_reads_all_goes_on_and_leaves_what_is_not_its_own() {
    let (patient, _) = card();
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    let bytes = patient.bytes.len() as u64;
    let done = json(at, &["surface", "card.img", "--list", "l.json", "--image", "new.img"], 0);
    assert_eq!((done["done"].as_bool(), done["read_bytes"].as_u64()), (Some(true), Some(bytes)));
    assert!(fs::read(at.join("new.img")).unwrap() == patient.bytes);
    let list: Value = serde_json::from_str(&fs::read_to_string(at.join("l.json")).unwrap()).unwrap();
    assert_eq!((&list["schema"], &list["extents"]), (&json!("punchdog.surface/1"), &json!([])));

    // As a run leaves it that was stopped: only what is still missing is read.
    let mut part = patient.bytes.clone();
    part[8192..20_480].fill(0);
    part[40_960..41_472].fill(0);
    part[0] = 0x77;
    fs::write(at.join("part.img"), &part).unwrap();
    let standing = json!({ "schema": "punchdog.surface/1", "source": { "path": "card.img", "bytes": bytes }, "sector": 512,
        "done": false, "extents": [{ "offset": 8192, "length": 12_288, "state": "untried" }, { "offset": 40_960, "length": 512, "state": "unreadable" }] });
    fs::write(at.join("part.json"), standing.to_string()).unwrap();
    json(at, &["surface", "card.img", "--list", "part.json", "--image", "part.img"], 0);
    let mut expected = patient.bytes.clone();
    expected[0] = 0x77;
    assert!(fs::read(at.join("part.img")).unwrap() == expected, "what was read before is not read again");

    fs::write(at.join("text"), "not ours").unwrap();
    fs::write(at.join("hand.txt"), "512 512\n").unwrap();
    for words in [
        &["surface", "card.img", "--list", "text"][..],
        &["surface", "card.img", "--list", "hand.txt"],
        &["surface", "card.img", "--list", "card.img"],
        &["surface", "card.img", "--list", "x.json", "--image", "new.img"],
        &["surface", "card.img", "--list", "x.json", "--image", "card.img"],
        &["surface", "none.img", "--list", "x.json"],
    ] {
        let refused = run(at, words);
        assert_eq!(refused.status, 2, "{words:?}: {}", refused.out);
    }
    assert!(fs::read(at.join("card.img")).unwrap() == patient.bytes);
    assert_eq!(fs::read_to_string(at.join("text")).unwrap(), "not ours");
}

#[test]
fn the_map_has_a_lane_for_everything() {
    let (patient, places) = card();
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    list(at, &places);
    let map = run(at, &["map", "card.img", "--unreadable", "bad.txt", "--file", "ledges.csv"]);
    assert_eq!(map.status, 0, "{}", map.err);
    for lane in [
        "lies in  B",
        "full     ",
        "trouble  u",
        "the file ",
        "B boot sectors",
        "F folders",
        "u unreadable 2.50 KiB, 1 file",
    ] {
        assert!(map.out.contains(lane), "{lane} in {}", map.out);
    }
    let document = json(at, &["map", "card.img", "--unreadable", "bad.txt", "--rows", "400"], 0);
    let cells = document["cells"].as_array().unwrap();
    let covered: u64 = cells.iter().map(|cell| cell["length"].as_u64().unwrap()).sum();
    assert_eq!(covered, patient.bytes.len() as u64);
    for (offset, _) in &places {
        let inside = |cell: &&Value| {
            let from = cell["offset"].as_u64().unwrap();
            (from..from + cell["length"].as_u64().unwrap()).contains(offset)
        };
        let cell = cells.iter().find(inside).unwrap();
        assert_eq!(cell["troubles"][0], "unreadable", "{offset}");
    }
    let used = document["used"]["bytes"].as_u64().unwrap();
    let each = u64::from(patient.geometry.cluster_bytes());
    let clusters: usize = patient.live().map(|made| made.clusters.len()).sum();
    assert!(used >= clusters as u64 * each, "{used}");
    let part = json(at, &["map", "card.img", "--from", "0", "--to", "4096"], 0);
    assert_eq!(part["cell_bytes"], 512);

    assert_eq!(run(at, &["map", "card.img", "--out", "m.svg"]).status, 0);
    let drawing = fs::read_to_string(at.join("m.svg")).unwrap();
    assert!(drawing.starts_with("<?xml") && drawing.trim_end().ends_with("</svg>"));
    drawn_alike(at, &drawing);
    for words in [
        &["map", "card.img", "--out", "m.svg"][..],
        &["map", "card.img", "--out", "m.gif"],
        &["map", "card.img", "--file", "no such file"],
        &["map", "card.img", "--from", "99999999999"],
    ] {
        assert_eq!(run(at, words).status, 2, "{words:?}");
    }
}

/// The picture in pixels has the bar of the boot sectors where the drawing has it, twice as large.
fn drawn_alike(at: &Path, drawing: &str) {
    assert_eq!(run(at, &["map", "card.img", "--out", "m.png"]).status, 0);
    let picture = image::open(at.join("m.png")).unwrap().into_rgb8();
    let number = |text: &str, name: &str| {
        let from = text.find(&format!(" {name}=\"")).unwrap() + name.len() + 3;
        text[from..].split(['"', '.']).next().unwrap().parse::<u32>().unwrap()
    };
    let head = &drawing[drawing.find("<svg").unwrap()..];
    assert_eq!(picture.dimensions(), (number(head, "width") * 2, number(head, "height") * 2));
    let bar = &drawing[..drawing.find("url(#p-boot)").unwrap()];
    let bar = &bar[bar.rfind("<rect").unwrap()..];
    let (x, y) = (number(bar, "x") + number(bar, "width") / 2, number(bar, "y") + number(bar, "height") / 2);
    let pixel = |x: u32, y: u32| picture.get_pixel(x * 2, (y + 40) * 2).0;
    assert_eq!(pixel(x, y), [0x8A, 0x1F, 0x4B]);
    let name = (10..200).flat_map(|x| (10..28).map(move |y| (x, y)));
    let black = name.filter(|(x, y)| picture.get_pixel(x * 2, y * 2).0 == [0, 0, 0]).count();
    assert!(black > 50, "the title has {black} black pixels");
}

/// What a card shows that says it has four times as many bytes as it has: what was written behind its true end landed
/// at its beginning, but for what would have hit the tables.
#[test]
fn a_medium_that_begins_again_is_told_and_its_files_are_not_called_intact() {
    const TRUE_END: usize = 6 << 20;
    let wish = Wish {
        kind: Kind::Fat32,
        bytes: 40 << 20,
        sector_bytes: 512,
        cluster_bytes: 512,
        tables: 2,
        label: *b"BIG CARD   ",
        serial: 4,
    };
    let mut seed = Seed::new(9);
    let mut filler = Filler::new(&wish, vec![0; 40 << 20]).unwrap();
    for number in 0..30 {
        let content = seed.bytes(400_000 + 5_000 * number);
        filler.file(&format!("take {number:02}.dat"), &content, Placing::Row).unwrap();
    }
    let sound = Patient::new(filler.finish().unwrap());
    let mut chip = sound.bytes[..TRUE_END].to_vec();
    for at in (TRUE_END..sound.bytes.len()).step_by(512) {
        let sector = &sound.bytes[at..at + 512];
        let landed = at % TRUE_END;
        if landed > 1 << 20 && sector.iter().any(|byte| *byte != 0) {
            chip[landed..landed + 512].copy_from_slice(sector);
        }
    }
    let image: Vec<u8> = chip.iter().copied().cycle().take(sound.bytes.len()).collect();
    let folder = folder_with("card.img", &image);
    let at = folder.path();
    let check = json(at, &["check", "card.img"], 1);
    let findings = check["volumes"][0]["findings"].as_array().unwrap();
    let told = findings.iter().find(|f| f["code"] == "medium/begins-again").expect("the finding");
    assert_eq!(told["extents"][0]["offset"], json!(TRUE_END));
    let explain = run(at, &["explain", "card.img"]);
    assert!(explain.out.contains("begins again after 6291456 bytes"), "{}", explain.out);
    assert!(explain.out.contains("false capacity"), "{}", explain.out);
    let files = json(at, &["files", "card.img", "--hash"], 0);
    let mut intact = 0;
    for made in sound.live() {
        // Where the folder itself was written over, the name is gone.
        let list = files["files"].as_array().unwrap();
        let Some(file) = list.iter().find(|f| f["path"] == made.path.as_str()) else { continue };
        if file["state"] == "intact" {
            assert_eq!(file["sha256"], json!(made.sha256), "{} is called intact", made.path);
            intact += 1;
        }
    }
    assert_eq!(check["volumes"][0]["files"]["intact"], json!(intact));
    assert!(intact < 10, "most stand behind the true end");
    // A sound card of that size is none of this.
    let folder = folder_with("card.img", &sound.bytes);
    json(folder.path(), &["check", "card.img"], 0);
}

#[test]
fn what_can_be_read_and_is_wrong_stops_a_host_before_what_cannot() {
    let mut patient = exfat_faults::Patient::new(exfat::everyday(&exfat::small(512, 4096, 1), 3));
    let g = patient.geometry;
    patient.fill(0, g.region_bytes() * 2, 0);
    let file = patient.find("Recordings/dawn 0002.wav");
    let folder = folder_with("card.img", &patient.bytes);
    let at = folder.path();
    list(at, &[(g.cluster_place(2), 512), (g.cluster_place(file.clusters[0]), 512)]);
    let linux = |words: &[&str]| -> Value {
        let told = json(at, words, 1);
        told["hosts"].as_array().unwrap().iter().find(|host| host["host"] == "linux").unwrap().clone()
    };
    let alone = linux(&["explain", "card.img"]);
    assert_eq!(alone["refused_by"], "exfat/boot-gone");
    let with = linux(&["explain", "card.img", "--unreadable", "bad.txt"]);
    assert_eq!(with, alone, "it never comes to the bitmap");
    let text = run(at, &["explain", "card.img", "--unreadable", "bad.txt"]).out;
    assert!(!text.contains("everything behind it is whole"), "a file and the bitmap are hit: {text}");
    // With a whole boot region it does.
    let mut sound = exfat_faults::Patient::new(exfat::everyday(&exfat::small(512, 4096, 1), 3));
    fs::write(at.join("card.img"), std::mem::take(&mut sound.bytes)).unwrap();
    let with = linux(&["explain", "card.img", "--unreadable", "bad.txt"]);
    assert_eq!(with["refused_by"], "medium/unreadable-structure");
    assert_eq!(with["reason"], "the bitmap cannot be read");
}
