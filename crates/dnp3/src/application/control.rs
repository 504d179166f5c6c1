/// The first octet of a fragment.
///
/// Source: IEEE 1815-2012, section 4.2.2.4.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Control {
    /// No fragment of the message came before.
    pub is_first: bool,
    /// No fragment of the message follows.
    pub is_final: bool,
    /// It is to be confirmed.
    pub wants_confirm: bool,
    /// It belongs to what an outstation tells unasked, whose numbers are others.
    pub is_unsolicited: bool,
    /// Its number, 0 to 15.
    pub sequence: u8,
}

const FIRST: u8 = 0x80;
const FINAL: u8 = 0x40;
const CONFIRM: u8 = 0x20;
const UNSOLICITED: u8 = 0x10;
const SEQUENCE: u8 = 0x0F;

impl Control {
    /// That of a request, which is always one fragment.
    #[must_use]
    pub const fn request(sequence: u8) -> Self {
        Self { is_first: true, is_final: true, wants_confirm: false, is_unsolicited: false, sequence }
    }

    /// The number that follows.
    #[must_use]
    pub const fn next(sequence: u8) -> u8 {
        (sequence + 1) & SEQUENCE
    }

    pub(super) const fn octet(self) -> u8 {
        (if self.is_first { FIRST } else { 0 })
            | (if self.is_final { FINAL } else { 0 })
            | (if self.wants_confirm { CONFIRM } else { 0 })
            | (if self.is_unsolicited { UNSOLICITED } else { 0 })
            | (self.sequence & SEQUENCE)
    }

    pub(super) const fn of(octet: u8) -> Self {
        Self {
            is_first: octet & FIRST != 0,
            is_final: octet & FINAL != 0,
            wants_confirm: octet & CONFIRM != 0,
            is_unsolicited: octet & UNSOLICITED != 0,
            sequence: octet & SEQUENCE,
        }
    }
}
