use super::block::Presence;
use super::{Block, Control, FunctionCode, Indications};
use crate::codec::{DecodeError, Fault, Reader};
use crate::object::Mismatch;

/// What a master sends.
#[derive(Debug, Clone, PartialEq)]
pub struct Request {
    /// Its first octet.
    pub control: Control,
    /// What it is for.
    pub function: FunctionCode,
    /// Its objects.
    pub blocks: Vec<Block>,
}

/// What an outstation sends, without its objects.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ResponseHeader {
    /// Its first octet.
    pub control: Control,
    /// What the outstation says of itself.
    pub indications: Indications,
}

/// What an outstation sends.
#[derive(Debug, Clone, PartialEq)]
pub struct Response {
    /// What stands before its objects.
    pub header: ResponseHeader,
    /// Its objects.
    pub blocks: Vec<Block>,
}

impl Request {
    /// One with a number.
    #[must_use]
    pub const fn new(sequence: u8, function: FunctionCode, blocks: Vec<Block>) -> Self {
        Self { control: Control::request(sequence), function, blocks }
    }

    /// Its octets.
    ///
    /// # Errors
    /// When an object is of another kind than its variation.
    pub fn encode(&self) -> Result<Vec<u8>, Mismatch> {
        let mut out = vec![self.control.octet(), self.function.0];
        self.blocks.iter().try_for_each(|block| block.encode(&mut out))?;
        Ok(out)
    }

    /// Reads one. Functions that are not defined, and groups that there are not, are for the outstation to refuse.
    ///
    /// # Errors
    /// When the octets are no request.
    pub fn decode(octets: &[u8]) -> Result<Self, DecodeError> {
        let mut from = Reader::new(octets);
        let before = from.clone();
        let [control, function] = from.array()?;
        let (control, function) = (Control::of(control), FunctionCode(function));
        if function.is_response() || function == FunctionCode::AUTHENTICATE_RESPONSE {
            return Err(before.fault(Fault::Function(function.0)));
        }
        let presence = match function {
            FunctionCode::FREEZE_AT_TIME | FunctionCode::FREEZE_AT_TIME_NO_ACK => Presence::ToldOf(50),
            function if function.names_objects() => Presence::Named,
            _ => Presence::Told,
        };
        Ok(Self { control, function, blocks: blocks(&mut from, presence)? })
    }

    /// What an outstation says to a request that it cannot understand, where that can be told without knowing its points.
    #[must_use]
    pub fn objection(&self) -> Option<Indications> {
        if self.function.words().is_none() {
            return Some(Indications::NO_FUNCTION_CODE_SUPPORT);
        }
        self.blocks.iter().any(|block| !block.is_known()).then_some(Indications::OBJECT_UNKNOWN)
    }
}

impl ResponseHeader {
    /// Reads what stands before the objects, and gives those.
    ///
    /// # Errors
    /// When the octets are no response.
    pub fn decode(octets: &[u8]) -> Result<(Self, &[u8]), DecodeError> {
        let mut from = Reader::new(octets);
        let before = from.clone();
        let [control, function] = from.array()?;
        let (control, function) = (Control::of(control), FunctionCode(function));
        if function == FunctionCode::AUTHENTICATE_RESPONSE {
            return Err(before.fault(Fault::Challenge));
        }
        if !function.is_response() {
            return Err(before.fault(Fault::Function(function.0)));
        }
        if control.is_unsolicited != (function == FunctionCode::UNSOLICITED_RESPONSE) {
            return Err(before.fault(Fault::Unsolicited(function.0)));
        }
        let indications = Indications(from.u16()?);
        let (_, objects) = octets.split_at_checked(4).unwrap_or_default();
        Ok((Self { control, indications }, objects))
    }
}

impl Response {
    /// Its octets.
    ///
    /// # Errors
    /// When an object is of another kind than its variation.
    pub fn encode(&self) -> Result<Vec<u8>, Mismatch> {
        let ResponseHeader { control, indications } = self.header;
        let function = if control.is_unsolicited { FunctionCode::UNSOLICITED_RESPONSE } else { FunctionCode::RESPONSE };
        let mut out = vec![control.octet(), function.0];
        out.extend_from_slice(&indications.0.to_le_bytes());
        self.blocks.iter().try_for_each(|block| block.encode(&mut out))?;
        Ok(out)
    }

    /// Reads one: all of it, or nothing. What it says of the outstation is to be had by [`ResponseHeader::decode`], whatever
    /// becomes of the rest.
    ///
    /// # Errors
    /// When the octets are no response.
    pub fn decode(octets: &[u8]) -> Result<Self, DecodeError> {
        let (header, objects) = ResponseHeader::decode(octets)?;
        let mut from = Reader::new(objects);
        let blocks = blocks(&mut from, Presence::Told).map_err(|error| DecodeError { at: error.at + 4, ..error })?;
        Ok(Self { header, blocks })
    }
}

fn blocks(from: &mut Reader<'_>, presence: Presence) -> Result<Vec<Block>, DecodeError> {
    let mut blocks = Vec::new();
    while !from.is_empty() {
        blocks.push(Block::decode(from, presence)?);
    }
    Ok(blocks)
}
