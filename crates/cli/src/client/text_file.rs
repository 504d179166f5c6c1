//! Text files of other programs.

use anyhow::Context;
use std::path::Path;

/// The text of a file, whatever program wrote it: in UTF-16 where it begins so, else in UTF-8 where it is that, else in Windows-1252, in
/// which every octet is a character.
pub(super) fn read(path: &Path) -> anyhow::Result<String> {
    let octets = std::fs::read(path).with_context(|| format!("reading {}", path.display()))?;
    Ok(decode(&octets))
}

fn decode(octets: &[u8]) -> String {
    let by_mark = encoding_rs::Encoding::for_bom(octets).map(|(encoding, _)| encoding);
    let is_utf8 = std::str::from_utf8(octets).is_ok();
    let guessed = if is_utf8 { encoding_rs::UTF_8 } else { encoding_rs::WINDOWS_1252 };
    by_mark.unwrap_or(guessed).decode(octets).0.into_owned()
}

#[cfg(test)]
mod tests {
    use super::decode;

    #[test]
    fn lists_are_read_as_spreadsheets_write_them() {
        let utf16 = |text: &str| text.encode_utf16().collect::<Vec<_>>();
        let little: Vec<_> = utf16("\u{FEFF}1;°C").into_iter().flat_map(u16::to_le_bytes).collect();
        let big: Vec<_> = utf16("\u{FEFF}1;°C").into_iter().flat_map(u16::to_be_bytes).collect();
        for octets in [&b"1;\xB0C"[..], "1;°C".as_bytes(), "\u{FEFF}1;°C".as_bytes(), &little, &big] {
            assert_eq!(decode(octets), "1;°C", "{octets:?}");
        }
    }
}
