use crate::mbap::MAX_PDU;

/// The longest frame: a colon, two digits for each byte of unit, PDU and LRC, carriage return and line feed.
///
/// Source: MODBUS over Serial Line V1.02, section 2.5.2.1.
const LONGEST: usize = 1 + 2 * (1 + MAX_PDU + 1) + 2;

/// The check of an ASCII frame: what brings the sum of its bytes to zero.
///
/// ```
/// let frame = [0xF7, 0x03, 0x13, 0x89, 0x00, 0x0A];
/// assert_eq!(interlex_modbus::lrc(&frame), 0x60);
/// ```
///
/// Source: MODBUS over Serial Line V1.02, section 6.2.1 (LRC generation).
#[must_use]
pub fn lrc(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte)).wrapping_neg()
}

/// Appends an ASCII frame to `out`.
pub(crate) fn encode(unit: u8, pdu: &[u8], out: &mut Vec<u8>) {
    let check = lrc(pdu).wrapping_sub(unit);
    let digit = |nibble: u8| nibble + if nibble < 10 { b'0' } else { b'A' - 10 };
    out.push(b':');
    for byte in [&[unit], pdu, &[check]].concat() {
        out.extend_from_slice(&[digit(byte >> 4), digit(byte & 0xF)]);
    }
    out.extend_from_slice(b"\r\n");
}

/// Finds ASCII frames: each starts with a colon, whatever came before it, and ends with a line feed.
#[derive(Debug, Default)]
pub(crate) struct AsciiBuffer {
    bytes: Vec<u8>,
}

impl AsciiBuffer {
    pub(crate) fn push(&mut self, bytes: &[u8]) {
        self.bytes.extend_from_slice(bytes);
        // More than a frame cannot become one: the oldest bytes are noise.
        let excess = self.bytes.len().saturating_sub(2 * LONGEST);
        self.bytes.drain(..excess);
    }

    pub(crate) fn clear(&mut self) {
        self.bytes.clear();
    }

    /// What is held that has not become a frame.
    pub(crate) fn rest(&self) -> &[u8] {
        &self.bytes
    }

    /// Unit and PDU of the next whole frame; what is broken is passed over. It is taken out.
    pub(crate) fn next_frame(&mut self) -> Option<(u8, Vec<u8>)> {
        loop {
            if let Line::Frame { unit, pdu } = self.next_line()? {
                return Some((unit, pdu));
            }
        }
    }

    /// What the next line is. It is taken out.
    pub(crate) fn next_line(&mut self) -> Option<Line> {
        let end = self.bytes.iter().position(|byte| *byte == b'\n')?;
        let wire: Vec<u8> = self.bytes.drain(..=end).collect();
        Some(match decode(&wire) {
            Some((unit, pdu)) => Line::Frame { unit, pdu },
            None => Line::Garbled(wire),
        })
    }
}

/// What stands between two line feeds.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Line {
    Frame {
        unit: u8,
        pdu: Vec<u8>,
    },
    /// No frame, or one whose LRC is wrong.
    Garbled(Vec<u8>),
}

/// Unit and function that a broken line begins with.
pub(crate) fn header(line: &[u8]) -> Option<(u8, u8)> {
    let start = line.iter().rposition(|byte| *byte == b':')?;
    match *line.get(start + 1..)? {
        [a, b, c, d, ..] => Some((nibble(a)? << 4 | nibble(b)?, nibble(c)? << 4 | nibble(d)?)),
        _ => None,
    }
}

fn decode(line: &[u8]) -> Option<(u8, Vec<u8>)> {
    let start = line.iter().rposition(|byte| *byte == b':')?;
    let digits = line.get(start + 1..)?.strip_suffix(b"\r\n")?;
    let (pairs, odd) = digits.as_chunks::<2>();
    let bytes = pairs.iter().map(|pair| Some(nibble(pair[0])? << 4 | nibble(pair[1])?)).collect::<Option<Vec<u8>>>()?;
    match bytes.as_slice() {
        [unit, pdu @ .., check] if odd.is_empty() && (1..=MAX_PDU).contains(&pdu.len()) => {
            (lrc(pdu).wrapping_sub(*unit) == *check).then(|| (*unit, pdu.to_vec()))
        }
        _ => None,
    }
}

fn nibble(digit: u8) -> Option<u8> {
    char::from(digit).to_digit(16).and_then(|value| u8::try_from(value).ok())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn frames_come_out_as_they_went_in_behind_any_noise(
            noise in prop::collection::vec(any::<u8>(), 0..40), unit: u8, pdu in prop::collection::vec(any::<u8>(), 1..=253), cut in 1_usize..90,
        ) {
            let mut wire: Vec<u8> = noise.into_iter().filter(|byte| *byte != b'\n').collect();
            encode(unit, &pdu, &mut wire);
            let (mut buffer, mut got) = (AsciiBuffer::default(), Vec::new());
            for piece in wire.chunks(cut) {
                prop_assert_eq!(buffer.next_frame(), None);
                buffer.push(piece);
            }
            got.extend(std::iter::from_fn(|| buffer.next_frame()));
            prop_assert_eq!(got, vec![(unit, pdu)]);
        }

        #[test]
        fn any_bytes_never_panic_and_never_pile_up(pieces in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..900), 0..6)) {
            let mut buffer = AsciiBuffer::default();
            for piece in pieces {
                buffer.push(&piece);
                let _ = buffer.next_frame();
                prop_assert!(buffer.rest().len() <= 2 * LONGEST);
            }
        }
    }
}
