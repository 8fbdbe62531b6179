//! Files in pieces that no folder names: put together by their content.

use super::{
    folder_with, json,
    unearth::{finds, place_of, sum},
};
use punchdog_damage::{content, seed::Seed};
use serde_json::Value;
use std::{fs, path::Path};

const STEP: usize = 4096;

fn noise(seed: &mut Seed, length: usize) -> Vec<u8> {
    (0..length).map(|_| seed.number().to_le_bytes()[2]).collect()
}

/// A card of nothing but a file that was cut in two, with so many clusters of noise between.
fn card(file: &[u8], cut: usize, gap: usize, seed: &mut Seed) -> Vec<u8> {
    let mut image = vec![0; STEP];
    image.extend(&file[..cut * STEP]);
    image.extend(noise(seed, gap * STEP));
    image.extend(&file[cut * STEP..]);
    image.resize(image.len().next_multiple_of(STEP), 0);
    image
}

#[test]
fn pictures_in_two_pieces_are_put_together() {
    let mut seed = Seed::new(23);
    let mut image = vec![0_u8; 1 << 20];
    let mut truth = Vec::new();
    let put = |image: &mut Vec<u8>, bytes: &[u8]| {
        image.extend(bytes);
        image.resize(image.len().next_multiple_of(4096), 0);
    };
    for number in 0..30_u32 {
        let photo = content::photo(&mut seed, (300 + number, 200), "2026:06:01 05:00:00");
        let between = content::photo(&mut seed, (200, 100 + number), "2026:06:02 05:00:00");
        let cut = 4096 * (1 + (number as usize % (photo.len() / 4096)));
        put(&mut image, &photo[..cut]);
        match number % 3 {
            // A file of its own, a piece of another picture, text.
            0 => put(&mut image, &between),
            1 => put(&mut image, &between[between.len() / 8192 * 4096..]),
            _ => put(&mut image, &content::log(&mut seed, 200)),
        }
        put(&mut image, &photo[cut..]);
        truth.push(sum(&photo));
    }
    let folder = folder_with("card.img", &image);
    json(folder.path(), &["unearth", "card.img", "--out", "finds.json", "--kind", "pictures"], 0);
    let found = finds(folder.path(), &image);
    let back = truth.iter().filter(|hash| found.iter().any(|(_, own)| own == *hash)).count();
    assert!(back * 10 >= truth.len() * 7, "{back} of {}", truth.len());
    let joined = |find: &Value| find["extents"].as_array().unwrap().len() > 1;
    for (find, hash) in found.iter().filter(|(find, _)| joined(find) && find["complete"] != "no") {
        assert_eq!(find["complete"], "likely", "{find}");
        assert!(truth.contains(hash), "put together wrongly: {find}");
    }
}

/// Where the index of a film stands does not matter: in front of its data, behind it, or behind it in the second piece.
/// What lies between the pieces begins no file, so that nothing but the film tells where it goes on.
#[test]
fn films_in_two_pieces_are_put_together() {
    let kinds = Path::new(env!("CARGO_MANIFEST_DIR")).join("../punchdog-lab/tests/kinds");
    let mut seed = Seed::new(41);
    let mut exact = 0;
    let films = ["front.mp4", "behind.mov", "hevc.mp4", "frames.mov", "visual.mp4", "busy.gif"];
    for (name, cut, gap) in films.iter().flat_map(|name| [(name, 3, 2), (name, 5, 9), (name, 2, 31)]) {
        let film = fs::read(kinds.join(name)).unwrap();
        let step = STEP;
        let image = card(&film, cut, gap, &mut seed);
        let folder = folder_with("card.img", &image);
        json(folder.path(), &["unearth", "card.img", "--out", "finds.json"], 0);
        let found = finds(folder.path(), &image);
        let case = format!("{name}, {cut}, {gap}: {found:#?}");
        let (find, hash) = found
            .iter()
            .find(|(find, _)| find["extents"][0]["offset"] == 4096 && find["complete"] != "no")
            .expect(&case);
        assert_eq!(
            (&find["complete"], find["size"].as_u64()),
            (&Value::from("likely"), Some(film.len() as u64))
        );
        exact += u32::from(*hash == sum(&film));
        // Where they meet is told as far as it is known: the pieces are right up to there, and from there on.
        let reason = find["reason"].as_str().unwrap();
        let numbers: Vec<usize> =
            reason.split(|c: char| !c.is_ascii_digit()).filter_map(|word| word.parse().ok()).collect();
        assert_eq!(numbers.first(), Some(&2), "{case}");
        let meeting = numbers.get(1).zip(numbers.get(2)).map_or(cut * step..cut * step, |(a, b)| *a..*b);
        let pieces: Vec<(usize, usize)> = find["extents"].as_array().unwrap().iter().map(place_of).collect();
        assert!(meeting.start <= cut * step && cut * step <= meeting.end, "{case}");
        assert!((meeting.start..=meeting.end).contains(&pieces[0].1), "{case}");
        assert_eq!(pieces[1].0 - pieces[0].0 - pieces[0].1, gap * step, "{case}");
    }
    assert!(exact >= 9, "{exact}");
}

/// What a program wrote in front of a picture is passed over by its length: a piece that is missing there shows at its end
/// alone. Where it was missing is told by the small picture in it.
#[test]
fn pictures_that_break_in_what_they_say_of_themselves_are_put_together() {
    let mut seed = Seed::new(52);
    let small = content::landscape(&mut seed, (480, 420));
    let text =
        "A line that says where the picture was taken, and when, and by which of the cameras on the ledge. ";
    let picture =
        content::with_a_small_picture(&content::landscape(&mut seed, (480, 400)), &small, &text.repeat(20));
    let head = picture.len() - content::landscape(&mut Seed::new(1), (480, 400)).len();
    assert!(small.len() > 4 * STEP && head > 4 * STEP, "{} {head}", small.len());
    for (cut, gap) in (1..5).flat_map(|cut| [(cut, 1), (cut, 6)]) {
        let image = card(&picture, cut, gap, &mut seed);
        let folder = folder_with("card.img", &image);
        json(folder.path(), &["unearth", "card.img", "--out", "finds.json"], 0);
        let found = finds(folder.path(), &image);
        let case = format!("{cut}, {gap}: {found:#?}");
        assert_eq!(found.len(), 1, "the small picture is no file of its own: {case}");
        let (find, hash) = &found[0];
        assert_eq!((&find["complete"], hash), (&Value::from("likely"), &sum(&picture)), "{case}");
        assert!(!find["reason"].as_str().unwrap().contains("not known"), "{case}");
    }
}

/// Where nothing tells at which border the pieces meet, that is said.
#[test]
fn where_pieces_meet_in_a_profile_is_not_known_and_said() {
    let mut seed = Seed::new(53);
    let plain = content::landscape(&mut seed, (480, 400));
    let mut picture = plain[..2].to_vec();
    picture.extend([0xFF, 0xE2]);
    picture.extend([0x50, 0]);
    picture.extend(noise(&mut seed, 5 * STEP - 2));
    picture.extend(&plain[2..]);
    let (cut, gap) = (3, 4);
    let image = card(&picture, cut, gap, &mut seed);
    let folder = folder_with("card.img", &image);
    json(folder.path(), &["unearth", "card.img", "--out", "finds.json"], 0);
    let found = finds(folder.path(), &image);
    let [(find, _)] = found.as_slice() else { panic!("{found:#?}") };
    let reason = find["reason"].as_str().unwrap();
    assert!(
        reason.contains("where they meet is not known: in what it says of itself, beside the picture, at its bytes 4096 to 20480"),
        "{reason}"
    );
    let pieces: Vec<(usize, usize)> = find["extents"].as_array().unwrap().iter().map(place_of).collect();
    assert_eq!(pieces[1].0 - pieces[0].0 - pieces[0].1, gap * STEP, "{found:#?}");
    assert_eq!(
        (&find["complete"], find["size"].as_u64()),
        (&Value::from("likely"), Some(picture.len() as u64))
    );
}
