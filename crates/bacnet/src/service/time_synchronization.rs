use super::moment;
use crate::codec::{DecodeError, Reader};
use crate::primitive::DateTime;

/// What time it is: locally, or everywhere, as the service says.
///
/// Source: ASHRAE 135-2016, clauses 16.7 and 16.8.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TimeSynchronization(pub DateTime);

impl TimeSynchronization {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let at = moment::read(&mut reader)?;
        reader.finish("TimeSynchronization")?;
        Ok(Self(at))
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        moment::put(out, self.0);
    }
}
