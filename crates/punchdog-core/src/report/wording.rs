//! How numbers and lists are put into words.

/// A number with its noun: "1 entry", "12 entries".
pub fn counted(number: u64, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}

/// Words in a row: `a, b and c`.
pub fn listed(words: &[String]) -> String {
    match words.split_last() {
        Some((last, [])) => last.clone(),
        Some((last, others)) => format!("{} and {last}", others.join(", ")),
        None => "nothing".to_owned(),
    }
}

/// The text with a capital first letter.
pub fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |first| first.to_uppercase().chain(chars).collect())
}
