//! Names in units of 16 bits, as exFAT and NTFS store them.

/// A name as text; what is no UTF-16 becomes the replacement character. Room is made once: most names take a byte a unit.
pub fn text(units: impl ExactSizeIterator<Item = u16>) -> String {
    let mut text = String::with_capacity(units.len());
    text.extend(char::decode_utf16(units).map(|one| one.unwrap_or(char::REPLACEMENT_CHARACTER)));
    text
}
