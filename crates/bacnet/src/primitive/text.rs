//! Character strings: a number for the character set, then the text in it.
//!
//! Source: ASHRAE 135-2016, clause 20.2.9.

use crate::codec::Fault;

const UTF_8: u8 = 0;
const UCS_4: u8 = 3;
const UCS_2: u8 = 4;
const ISO_8859_1: u8 = 5;

/// A text, whatever its character set. Octets that are none in UTF-8 are replaced: many devices send another set and say that it
/// is UTF-8, and a name with a mark in it is better than none.
pub(super) fn read(content: &[u8]) -> Result<String, Fault> {
    let (set, octets) = content.split_first().ok_or(Fault::Cut("a text"))?;
    match *set {
        UTF_8 => Ok(String::from_utf8_lossy(octets).into_owned()),
        UCS_2 => {
            let (units, rest) = octets.as_chunks::<2>();
            let units = units.iter().map(|unit| u16::from_be_bytes(*unit));
            let letters = char::decode_utf16(units).map(|letter| letter.unwrap_or(char::REPLACEMENT_CHARACTER));
            if rest.is_empty() { Ok(letters.collect()) } else { Err(Fault::Text) }
        }
        UCS_4 => {
            let (units, rest) = octets.as_chunks::<4>();
            let letter =
                |unit: &[u8; 4]| char::from_u32(u32::from_be_bytes(*unit)).unwrap_or(char::REPLACEMENT_CHARACTER);
            if rest.is_empty() { Ok(units.iter().map(letter).collect()) } else { Err(Fault::Text) }
        }
        ISO_8859_1 => Ok(octets.iter().copied().map(char::from).collect()),
        // JIS X 0208 and the code pages of DBCS are not read here: what is ASCII in them is.
        _ => Ok(octets
            .iter()
            .map(|octet| if octet.is_ascii() { char::from(*octet) } else { char::REPLACEMENT_CHARACTER })
            .collect()),
    }
}

/// Appends a text in UTF-8.
pub(super) fn write(out: &mut Vec<u8>, text: &str) {
    out.push(UTF_8);
    out.extend(text.as_bytes());
}
