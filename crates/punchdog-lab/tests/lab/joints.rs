//! Where the codes of a picture break off, they go on in the piece that comes next and in no other: of thousands of places that
//! are tried, one that is taken wrongly makes a picture that nobody took.

use punchdog_core::formats::{self, End, Format, Resume, Tape};
use punchdog_damage::{content, seed::Seed};

const STEP: usize = 2048;

/// Pictures of several sizes, and the clusters of all of them: what a card holds where none has a name any more.
fn pictures() -> Vec<Vec<u8>> {
    let mut seed = Seed::new(77);
    (0..14_u32)
        .map(|number| content::landscape(&mut seed, (480 + 48 * (number % 5), 420 + 40 * (number % 3))))
        .collect()
}

#[test]
fn the_codes_of_a_picture_go_on_in_its_own_next_piece_alone() {
    let pictures = pictures();
    let (mut borders, mut right, mut tried, mut wrong) = (0, 0, 0, Vec::new());
    for (number, picture) in pictures.iter().enumerate() {
        for border in (2..picture.len() / STEP).step_by(2) {
            // As it breaks on a medium: noise follows.
            let cut = border * STEP;
            let mut seed = Seed::new(border as u64);
            let noise: Vec<u8> = (0..STEP).map(|_| seed.number().to_le_bytes()[3]).collect();
            let broken = [&picture[..cut], &noise].concat();
            let (_, stands) =
                formats::walk_with_stands(Format::Jpeg, &mut Tape::new(&broken.as_slice()), STEP as u64);
            let Some(stand) = stands.iter().rfind(|stand| stand.at() <= cut as u64) else { continue };
            let goes_on = |stand: &Resume, rest: &[u8]| {
                let whole = [&picture[..cut], rest].concat();
                let end = formats::resume(stand, &mut Tape::new(&whole.as_slice())).end;
                matches!(end, End::Whole { .. })
            };
            borders += 1;
            right += u32::from(goes_on(stand, &picture[cut..]));
            for (other, from) in pictures.iter().enumerate() {
                for start in (0..from.len()).step_by(STEP).skip(1) {
                    if other == number && start == cut {
                        continue;
                    }
                    tried += 1;
                    if goes_on(stand, &from[start..]) {
                        wrong.push((number, cut, other, start));
                    }
                }
            }
        }
    }
    assert!(borders >= 60 && tried > 10_000, "{borders}, {tried}");
    assert!(right * 20 >= borders * 19, "{right} of {borders}");
    assert!(wrong.is_empty(), "{} of {tried}: {wrong:?}", wrong.len());
}

#[test]
fn what_a_picture_says_of_itself_is_held_against_its_own_structure() {
    let mut seed = Seed::new(78);
    let small = content::landscape(&mut seed, (160, 120));
    let picture = content::with_a_small_picture(
        &content::landscape(&mut seed, (320, 240)),
        &small,
        "taken on the ledge",
    );
    let fit = |bytes: &[u8]| formats::segments_that_fit(Format::Jpeg, &mut Tape::new(&bytes));
    assert_eq!(fit(&picture), 2);
    let place = |of: &[u8]| picture.windows(of.len()).position(|window| window == of).unwrap();
    for (at, byte) in
        [(place(&small) + small.len() / 2, 0xFF), (place(b"on the ledge"), 0x01), (place(b"taken"), 0xFF)]
    {
        let mut struck = picture.clone();
        struck[at] = byte;
        assert_eq!(fit(&struck), 1, "byte {at}");
    }
    // The end of the first segment is where the second begins, and no other byte is.
    let second = place(b"http://example.invalid") - 4;
    let mut begins = (0..second + 9).filter_map(|at| {
        let start = formats::segment_ending_at(Format::Jpeg, &mut Tape::new(&picture.as_slice()), at as u64)?;
        Some((start, at))
    });
    assert_eq!((begins.next(), begins.next()), (Some((2, second)), None));
}
