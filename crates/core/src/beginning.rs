/// So much of a text from outside is kept.
const LONGEST: usize = 500;

/// The beginning of a text that somebody else has written: its first 500 characters.
#[must_use]
pub fn beginning(text: &str) -> String {
    match text.char_indices().nth(LONGEST) {
        Some((end, _)) => format!("{} …", text.get(..end).unwrap_or_default()),
        None => text.to_owned(),
    }
}
