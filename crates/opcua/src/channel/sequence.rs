use super::error::ChannelError;

/// Numbers of frames begin anew somewhere between these two ends.
///
/// Source: OPC 10000-6, section 6.7.2.4.
const LAST_BEFORE_WRAP: u32 = u32::MAX - 1024;
const FIRST_AFTER_WRAP: u32 = 1024;

/// The numbers of the frames that are sent.
#[derive(Debug, Clone, Default)]
pub(super) struct Outgoing(u32);

impl Outgoing {
    /// The next one.
    pub(super) const fn next(&mut self) -> u32 {
        self.0 = if self.0 > LAST_BEFORE_WRAP { 1 } else { self.0 + 1 };
        self.0
    }

    #[cfg(test)]
    pub(super) const fn set(&mut self, number: u32) {
        self.0 = number;
    }
}

/// The numbers of the frames that are received.
#[derive(Debug, Clone, Default)]
pub(super) struct Incoming(Option<u32>);

impl Incoming {
    /// Takes the number of a frame, which is one more than that of the frame before.
    pub(super) const fn take(&mut self, got: u32) -> Result<(), ChannelError> {
        if let Some(last) = self.0 {
            let expected = last.wrapping_add(1);
            let wraps = last > LAST_BEFORE_WRAP && got < FIRST_AFTER_WRAP;
            if got != expected && !wraps {
                return Err(ChannelError::Sequence { got, expected });
            }
        }
        self.0 = Some(got);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_begin_anew_before_they_run_out_and_none_comes_twice() {
        let mut incoming = Incoming::default();
        for number in [100, 101, 102] {
            incoming.take(number).unwrap();
        }
        for wrong in [102, 104, 1, 0] {
            let error = incoming.clone().take(wrong).unwrap_err();
            assert_eq!(error, ChannelError::Sequence { got: wrong, expected: 103 });
        }
        let mut outgoing = Outgoing::default();
        outgoing.set(u32::MAX - 1026);
        let mut incoming = Incoming(Some(u32::MAX - 1026));
        let numbers: Vec<_> = (0..4).map(|_| outgoing.next()).collect();
        assert_eq!(numbers, [u32::MAX - 1025, u32::MAX - 1024, u32::MAX - 1023, 1]);
        numbers.into_iter().for_each(|number| incoming.take(number).unwrap());
        // Others go on to the very end.
        let mut late = Incoming(Some(u32::MAX - 1));
        [u32::MAX, 0, 1].into_iter().for_each(|number| late.take(number).unwrap());
    }
}
