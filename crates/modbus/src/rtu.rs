use crate::mbap::MAX_PDU;

/// Unit, function code and CRC: nothing shorter is a frame.
const SHORTEST: usize = 4;
/// Unit, the largest PDU, CRC.
///
/// Source: MODBUS over Serial Line V1.02, section 2.5.1 (RTU transmission mode).
const LONGEST: usize = 1 + MAX_PDU + 2;

/// The check at the end of an RTU frame, the low byte to be sent first.
///
/// ```
/// // The example of the specification: unit 2, function 7.
/// assert_eq!(interlex_modbus::crc(&[0x02, 0x07]), 0x1241);
/// ```
///
/// Source: MODBUS over Serial Line V1.02, section 6.2.2 (CRC generation): polynomial A001, start FFFF.
#[must_use]
pub fn crc(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0xFFFF, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xA001 } else { crc >> 1 })
    })
}

/// Appends an RTU frame to `out`.
pub(crate) fn encode(unit: u8, pdu: &[u8], out: &mut Vec<u8>) {
    let start = out.len();
    out.push(unit);
    out.extend_from_slice(pdu);
    let check = crc(out.get(start..).unwrap_or_default());
    out.extend_from_slice(&check.to_le_bytes());
}

/// Finds RTU frames in bytes that carry no marks of where one starts: by unit and function, by the length that the
/// function gives, and by the CRC. It never holds more than one frame and what arrived with it.
#[derive(Debug, Default)]
pub(crate) struct RtuBuffer {
    bytes: Vec<u8>,
}

impl RtuBuffer {
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

    /// The line fell silent: what is held is a whole frame of a function with a length that is not known here, or
    /// nothing that will become one. Either way it is taken out.
    ///
    /// Source: MODBUS over Serial Line V1.02, section 2.5.1.1: 3.5 characters of silence end a frame.
    pub(crate) fn end_of_frame(&mut self) -> Option<(u8, Vec<u8>)> {
        let bytes = std::mem::take(&mut self.bytes);
        let (unit, rest) = bytes.split_first().filter(|_| bytes.len() >= SHORTEST && is_whole(&bytes))?;
        Some((*unit, rest.get(..rest.len() - 2)?.to_vec()))
    }

    /// The next whole answer of whatever unit, noise before it passed over; `None` until it is there. It is taken out.
    ///
    /// Frames are found by the length that their function announces, then by their CRC. Where the answer to what is
    /// `awaited` has begun, all of it is waited for.
    pub(crate) fn next_answer(&mut self, awaited: Option<Awaited>) -> Option<Found> {
        for start in 0..self.bytes.len() {
            let rest = self.bytes.get(start..).unwrap_or_default();
            match answer_length(rest) {
                AnswerLength::Known(length) if rest.len() >= length => {
                    let Some(frame) = rest.get(..length).filter(|frame| is_whole(frame)) else { continue };
                    let (wire, noise) = (frame.to_vec(), start);
                    self.bytes.drain(..start + length);
                    return Some(Found { wire, noise });
                }
                AnswerLength::Known(length) if awaited.is_some_and(|awaited| awaited.begins(rest, Some(length))) => {
                    return None;
                }
                AnswerLength::NotYet if awaited.is_some_and(|awaited| awaited.begins(rest, None)) => return None,
                AnswerLength::Known(_) | AnswerLength::NotYet | AnswerLength::NoAnswer => {}
            }
        }
        None
    }

    /// Whether the answer to what is awaited has begun somewhere in what is held: it is cut, or its check is wrong.
    pub(crate) fn is_garbled(&self, awaited: Awaited) -> bool {
        (0..self.bytes.len()).filter_map(|start| self.bytes.get(start..)).any(|rest| match answer_length(rest) {
            AnswerLength::Known(length) => rest.len() > 1 && awaited.begins(rest, Some(length)),
            AnswerLength::NotYet => rest.len() > 1 && awaited.begins(rest, None),
            AnswerLength::NoAnswer => false,
        })
    }

    /// The next request, for whatever unit, noise before it passed over; `None` until it is there. It is taken out.
    pub(crate) fn next_request(&mut self) -> Option<(u8, Vec<u8>)> {
        let found = (0..self.bytes.len()).find_map(|start| {
            let rest = self.bytes.get(start..)?;
            let frame = rest.get(..request_length(rest)?).filter(|frame| is_whole(frame))?;
            let (unit, pdu) = (*frame.first()?, frame.get(1..frame.len() - 2)?.to_vec());
            Some((start + frame.len(), unit, pdu))
        });
        let (end, unit, pdu) = found?;
        self.bytes.drain(..end);
        Some((unit, pdu))
    }
}

/// The answer that a client waits for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Awaited {
    pub(crate) unit: u8,
    pub(crate) function: u8,
    /// How many bytes of data it has, where the request says so.
    pub(crate) byte_count: Option<u8>,
}

impl Awaited {
    fn is_of(self, bytes: &[u8]) -> bool {
        matches!(bytes, [unit, function, ..] if *unit == self.unit && function & 0x7F == self.function)
    }

    /// Whether its answer begins here, of this length.
    fn begins(self, bytes: &[u8], length: Option<usize>) -> bool {
        let is_exception = bytes.get(1).is_some_and(|function| function & 0x80 != 0);
        let fits = match (self.byte_count, length) {
            (Some(count), Some(length)) if !is_exception => length == SHORTEST + 1 + usize::from(count),
            _ => true,
        };
        fits && (self.is_of(bytes) || (bytes.len() == 1 && bytes.first() == Some(&self.unit)))
    }
}

/// A whole frame.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Found {
    /// From unit to CRC.
    pub(crate) wire: Vec<u8>,
    /// How many bytes before it belong to no frame.
    pub(crate) noise: usize,
}

impl Found {
    /// Unit and PDU.
    pub(crate) fn parts(&self) -> (u8, &[u8]) {
        let pdu = self.wire.get(1..self.wire.len().saturating_sub(2)).unwrap_or_default();
        (self.wire.first().copied().unwrap_or_default(), pdu)
    }
}

/// How long the answer that starts at some bytes is.
enum AnswerLength {
    Known(usize),
    /// More bytes are needed to tell.
    NotYet,
    /// None starts here.
    NoAnswer,
}

fn answer_length(bytes: &[u8]) -> AnswerLength {
    let length = match *bytes {
        [_] | [] => return AnswerLength::NotYet,
        [_, code, ..] if !is_known(code & 0x7F) => return AnswerLength::NoAnswer,
        [_, code, ..] if code & 0x80 != 0 => SHORTEST + 1,
        [_, 0x05 | 0x06 | 0x08 | 0x0F | 0x10, ..] => 8,
        [_, 0x16, ..] => 10,
        [_, 0x2B, ..] => match crate::identify::answer_length(bytes) {
            Some(length) => length,
            None => return AnswerLength::NotYet,
        },
        [_, _, count, ..] => SHORTEST + 1 + usize::from(count),
        [_, _] => return AnswerLength::NotYet,
    };
    if length <= LONGEST { AnswerLength::Known(length) } else { AnswerLength::NoAnswer }
}

/// Whether a client of this crate ever asks for a function.
const fn is_known(function: u8) -> bool {
    matches!(function, 0x01..=0x06 | 0x08 | 0x0F | 0x10 | 0x16 | 0x17 | 0x2B)
}

/// How long the request that starts here is.
fn request_length(bytes: &[u8]) -> Option<usize> {
    let length = match *bytes {
        [_, 0x01..=0x06 | 0x08, ..] => 8,
        [_, 0x16, ..] => 10,
        [_, 0x2B, ..] => 7,
        [_, 0x0F | 0x10, _, _, _, _, count, ..] => 9 + usize::from(count),
        [_, 0x17, _, _, _, _, _, _, _, _, count, ..] => 13 + usize::from(count),
        _ => return None,
    };
    (length <= LONGEST).then_some(length)
}

fn is_whole(frame: &[u8]) -> bool {
    frame.split_last_chunk::<2>().is_some_and(|(covered, check)| crc(covered) == u16::from_le_bytes(*check))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_check_is_that_of_the_standards_example() {
        // MODBUS over Serial Line V1.02, section 6.2.2: 02 07 is checked by 41 12.
        assert_eq!(crc(&[0x02, 0x07]).to_le_bytes(), [0x41, 0x12]);
    }

    #[test]
    fn silence_ends_a_frame_whose_length_nobody_knows() {
        let mut buffer = RtuBuffer::default();
        let mut frame = Vec::new();
        encode(7, &[0x63, 1, 2], &mut frame);
        buffer.push(&frame);
        assert_eq!(buffer.next_request(), None);
        assert_eq!(buffer.end_of_frame(), Some((7, vec![0x63, 1, 2])));
        buffer.push(&frame[1..]);
        assert_eq!((buffer.end_of_frame(), buffer.rest().len()), (None, 0), "noise goes with the silence");
    }

    #[test]
    fn an_answer_is_found_behind_noise_and_only_when_it_is_whole() {
        let mut frame = Vec::new();
        encode(1, &[3, 4, 0, 7, 0, 8], &mut frame);
        let mut buffer = RtuBuffer::default();
        let awaited = Awaited { unit: 1, function: 3, byte_count: Some(4) };
        buffer.push(&[0x00, 0xFF, 0x01, 0x03]);
        for byte in &frame {
            assert_eq!(buffer.next_answer(Some(awaited)), None);
            buffer.push(&[*byte]);
        }
        buffer.push(&[0x7F]);
        assert_eq!(buffer.next_answer(Some(awaited)), Some(Found { wire: frame.clone(), noise: 4 }));
        assert_eq!(
            (buffer.next_answer(Some(awaited)), buffer.rest()),
            (None, &[0x7F][..]),
            "a byte behind it does no harm"
        );
        buffer.clear();
        frame[4] ^= 1;
        buffer.push(&frame);
        assert_eq!(buffer.next_answer(Some(awaited)), None);
        assert!(buffer.is_garbled(awaited) && !buffer.is_garbled(Awaited { unit: 2, ..awaited }));
    }

    #[test]
    fn an_answer_that_has_begun_is_waited_for_though_a_frame_stands_inside_it() {
        let (mut inner, mut outer) = (Vec::new(), Vec::new());
        encode(1, &[3, 2, 0, 9], &mut inner);
        encode(1, &[&[3, 8][..], &inner, &[0]].concat(), &mut outer);
        let mut buffer = RtuBuffer::default();
        let awaited = Awaited { unit: 1, function: 3, byte_count: Some(8) };
        buffer.push(&outer[..outer.len() - 1]);
        assert_eq!(buffer.next_answer(Some(awaited)), None);
        buffer.push(&outer[outer.len() - 1..]);
        assert_eq!(buffer.next_answer(Some(awaited)).map(|found| found.wire), Some(outer));
    }

    proptest! {
        #[test]
        fn any_bytes_never_panic_and_never_pile_up(pieces in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..300), 0..8)) {
            let mut buffer = RtuBuffer::default();
            for piece in pieces {
                buffer.push(&piece);
                while buffer.next_answer(None).is_some() {}
                let _ = buffer.next_request();
                prop_assert!(buffer.bytes.len() <= 2 * LONGEST);
            }
        }

        #[test]
        fn requests_come_out_as_they_went_in_however_the_bytes_are_cut(
            requests in prop::collection::vec((any::<u8>(), 1_u8..=4, any::<[u8; 4]>()), 1..6), cut in 1_usize..20,
        ) {
            let mut wire = Vec::new();
            for (unit, function, rest) in &requests {
                encode(*unit, &[&[*function], &rest[..]].concat(), &mut wire);
            }
            let (mut buffer, mut got) = (RtuBuffer::default(), Vec::new());
            for piece in wire.chunks(cut) {
                buffer.push(piece);
                got.extend(std::iter::from_fn(|| buffer.next_request()));
            }
            let wanted: Vec<_> = requests.iter().map(|(unit, function, rest)| (*unit, [&[*function], &rest[..]].concat())).collect();
            prop_assert_eq!(got, wanted);
        }
    }
}
