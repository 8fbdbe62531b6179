//! Entry sets: every changed byte is noticed, what is lost comes back where the checksum allows it,
//! and nothing in a folder's bytes makes reading panic or run away.

use proptest::prelude::*;
use punchdog_core::exfat::{
    layout::{DIRECTORY, ENTRY, NO_CHAIN, POSSIBLE, Stream, entry_set, name_hash, set_checksum},
    sets::{Flaws, Reading, begins_with_set, is_legal, looks_like_folder, made_legal},
    upcase::Upcase,
};

fn stream(length: u64) -> Stream {
    Stream { flags: POSSIBLE | NO_CHAIN, first: 9, length, valid: length, ..Stream::default() }
}

fn set(name: &str, attributes: u16) -> Vec<u8> {
    let units: Vec<u16> = name.encode_utf16().collect();
    let upper = Upcase::default().upper(&units);
    entry_set(attributes, &[0x21; 17], stream(70_000), &units, &upper)
}

fn read(bytes: &[u8]) -> Reading {
    Reading::of(bytes, &Upcase::default(), false)
}

#[test]
fn a_set_reads_as_it_was_written() {
    for name in ["a", "README.TXT", "exactly fifteen", "a name of sixteen", "Möwen und Lummen 文字 😀.wav"]
    {
        let mut bytes = set(name, 0x20);
        bytes.extend([0; 64]);
        let reading = read(&bytes);
        let [item] = reading.items.as_slice() else { panic!("{name}: {reading:?}") };
        assert_eq!((item.name.as_str(), item.flaws), (name, Flaws::empty()));
        assert_eq!((item.stream.first, item.stream.length, item.stream.valid), (9, 70_000, 70_000));
        assert_eq!(reading.end, Some(item.entries()));
        assert!(reading.strays.is_empty() && reading.junk.is_empty() && reading.tail.is_none());
        assert!(looks_like_folder(&bytes, false) && begins_with_set(&bytes, &Upcase::default()));
    }
}

#[test]
fn a_critical_entry_of_an_unknown_type_is_noticed_and_a_benign_one_is_not() {
    for (kind, flaws) in [(0xC2, Flaws::CRITICAL), (0xE2, Flaws::empty())] {
        let mut bytes = set("terns.wav", 0x20);
        bytes[1] += 1;
        bytes.push(kind);
        bytes.extend([5; ENTRY - 1]);
        let sum = set_checksum(&bytes);
        bytes[2..4].copy_from_slice(&sum.to_le_bytes());
        bytes.extend([0; 64]);
        let reading = read(&bytes);
        let [item] = reading.items.as_slice() else { panic!("{kind:x}: {reading:?}") };
        assert_eq!((item.flaws, item.entries()), (flaws, 4), "{kind:x}");
    }
}

#[test]
fn names_hash_without_regard_to_case() {
    let table = Upcase::default();
    let hash = |name: &str| name_hash(&table.upper(&name.encode_utf16().collect::<Vec<_>>()));
    assert_eq!(hash("Tordalk.WAV"), hash("TORDALK.wav"));
    assert_ne!(hash("tordalk.wav"), hash("tordalk.wave"));
}

#[test]
fn legal_names() {
    let units = |name: &str| name.encode_utf16().collect::<Vec<_>>();
    for name in ["a", "a.b", " leading", "trailing.", "文字", "it's [fine]; really, #1!"] {
        assert!(is_legal(&units(name)), "{name}");
        assert_eq!(made_legal(&units(name)), units(name));
    }
    for name in ["", "a/b", "a\\b", "a:b", "a*b", "a?b", "a\"b", "<a>", "a|b", "a\u{1}b", "a\u{0}"] {
        assert!(!is_legal(&units(name)), "{name:?}");
        assert!(is_legal(&made_legal(&units(name))), "{name:?}");
    }
    assert!(!is_legal(&vec![u16::from(b'x'); 256]));
}

#[test]
fn one_lost_type_or_count_is_put_right_and_the_checksum_says_so() {
    let whole = set("counts on the western ledges, second visit.csv", 0x20);
    let entries = whole.len() / ENTRY;
    for entry in 1..entries {
        for kind in [0x00, 0x05, 0x41, 0x77, 0xFF] {
            let mut bytes = whole.clone();
            bytes[entry * ENTRY] = kind;
            bytes.extend([0; 32]);
            let reading = read(&bytes);
            let Some(item) = reading.items.first() else {
                // An end mark in the middle of the name ends the folder: no set is made of that.
                assert_eq!(kind, 0, "entry {entry} of type {kind:02X}");
                continue;
            };
            assert!(item.flaws.intersects(Flaws::STREAM_TYPE | Flaws::NAME_TYPE), "{entry} {kind:02X}");
            assert!(!item.flaws.contains(Flaws::CHECKSUM), "entry {entry} of type {kind:02X}");
            assert_eq!(item.raw, whole, "entry {entry} of type {kind:02X}");
        }
    }
    for count in [0, 1, 2, 3, 7, 18, 19, 200, 255] {
        let mut bytes = whole.clone();
        bytes[1] = count;
        bytes.extend([0; 32]);
        let reading = read(&bytes);
        assert_eq!(reading.items[0].raw, whole, "count {count}");
        assert_eq!(reading.items[0].flaws, Flaws::COUNT, "count {count}");
    }
}

#[test]
fn a_deleted_set_is_known_by_the_checksum_that_it_had() {
    let mut bytes = set("old.wav", 0x20);
    bytes.chunks_exact_mut(ENTRY).for_each(|entry| entry[0] &= 0x7F);
    bytes.extend(set("new.wav", 0x20));
    let reading = read(&bytes);
    assert_eq!(reading.deleted.len(), 1);
    assert_eq!((reading.deleted[0].name.as_str(), reading.items[0].name.as_str()), ("old.wav", "new.wav"));
    bytes[70] ^= 1;
    assert!(read(&bytes).deleted.is_empty(), "a changed one is nobody's");
}

#[test]
fn what_stands_behind_an_end_mark_is_told_apart() {
    let mut bytes = set("one.txt", 0x20);
    bytes.extend([0; 32]);
    bytes.extend(set("two.txt", 0x20));
    bytes.extend([0; 64]);
    let reading = read(&bytes);
    assert_eq!((reading.items.len(), reading.behind.len(), reading.tail), (1, 1, None));
    let at = bytes.len() - 32;
    bytes[at] = 0xC3;
    assert_eq!(read(&bytes).tail, Some(u32::try_from(at / 32).unwrap()));
}

#[test]
fn entries_of_vendors_and_later_revisions_are_left_alone() {
    let mut bytes = set("one.txt", DIRECTORY);
    for kind in [0xA0, 0xA1, 0xA9, 0x8B, 0xE0, 0xC5] {
        let mut entry = [0x33; 32];
        entry[0] = kind;
        bytes.extend(entry);
    }
    bytes.extend([0; 32]);
    let reading = read(&bytes);
    assert_eq!(reading.unknown.len(), 1, "8B is critical, and nobody knows it");
    // Secondaries that follow no file are strays; behind a set they would be the set's own.
    assert_eq!(reading.strays.len(), 2, "{:?}", reading.strays);
    assert!(reading.junk.is_empty());
}

proptest! {
    #[test]
    fn any_changed_byte_of_a_set_is_noticed(at in 0_usize..128, with in 1_u8..) {
        let whole = set("nest at dawn 003.png", 0x20);
        let mut bytes = whole.clone();
        bytes[at] ^= with;
        bytes.extend([0; 64]);
        let reading = read(&bytes);
        let untouched = reading.items.first().is_some_and(|item| item.flaws.is_empty() && item.raw == whole);
        prop_assert!(!untouched, "byte {at}");
        // What is said to be without a flaw has its checksum.
        for item in reading.items.iter().filter(|item| item.flaws.is_empty()) {
            prop_assert_eq!(set_checksum(&item.raw), u16::from_le_bytes([item.raw[2], item.raw[3]]));
        }
    }

    #[test]
    fn any_bytes_are_read_within_bounds(bytes in prop::collection::vec(any::<u8>(), 0..2048)) {
        let reading = read(&bytes);
        let count = u32::try_from(bytes.len() / ENTRY).unwrap();
        let items = reading.items.iter().chain(&reading.behind).chain(&reading.deleted);
        for item in items {
            prop_assert!(item.index + item.entries() <= count);
            prop_assert!(item.entries() >= 3 && item.entries() <= 19);
        }
        prop_assert!(reading.end.is_none_or(|end| end < count));
        let _ = looks_like_folder(&bytes, true);
    }

    #[test]
    fn sets_among_noise_are_found(noise in prop::collection::vec(0x01_u8..0x80, 0..6), name in "[a-zA-Z0-9 ]{1,60}") {
        let mut bytes: Vec<u8> = noise.iter().flat_map(|kind| [*kind; ENTRY]).collect();
        bytes.extend(set(&name, 0x20));
        bytes.extend([0; 32]);
        let reading = read(&bytes);
        prop_assert!(reading.items.iter().any(|item| item.name == name && item.flaws.is_empty()));
    }
}
