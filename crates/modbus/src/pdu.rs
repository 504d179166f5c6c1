//! What requests and answers of all functions are made of.

use crate::error::{InvalidRequest, ResponseError};
use crate::exception::ExceptionCode;

/// What follows the function code of an answer to `asked`.
pub(crate) fn after_function(pdu: &[u8], asked: u8) -> Result<&[u8], ResponseError> {
    let (got, rest) = pdu.split_first().ok_or(ResponseError::Missing("function code"))?;
    if *got == asked | 0x80 {
        let code = rest.first().ok_or(ResponseError::Missing("exception code"))?;
        return Err(ResponseError::Exception(ExceptionCode(*code)));
    }
    if *got != asked {
        return Err(ResponseError::Function { got: *got, asked });
    }
    Ok(rest)
}

/// Whether `quantity` addresses from `address` on exist, and are not more than one request takes.
pub(crate) const fn check_range(address: u16, quantity: usize, max: u16) -> Result<u16, InvalidRequest> {
    if quantity == 0 || quantity > max as usize {
        return Err(InvalidRequest::Quantity { quantity, max });
    }
    #[expect(clippy::cast_possible_truncation, reason = "not above `max`")]
    let quantity = quantity as u16;
    if address.checked_add(quantity - 1).is_none() {
        return Err(InvalidRequest::Address { address, quantity });
    }
    Ok(quantity)
}

/// The 16-bit fields of a PDU from its second byte on.
pub(crate) fn word_at(bytes: &[u8], at: usize) -> Option<u16> {
    bytes.get(at..)?.first_chunk().map(|pair| u16::from_be_bytes(*pair))
}

/// Packs bits into bytes, the first one into the lowest bit.
pub(crate) fn pack_bits(bits: &[bool]) -> impl Iterator<Item = u8> + '_ {
    bits.chunks(8).map(|byte| byte.iter().rev().fold(0_u8, |packed, bit| packed << 1 | u8::from(*bit)))
}

/// The first `count` bits of some bytes.
pub(crate) fn unpack_bits(bytes: &[u8], count: u16) -> Vec<bool> {
    let bits = bytes.iter().flat_map(|byte| (0..8).map(move |bit| byte >> bit & 1 == 1));
    bits.take(usize::from(count)).collect()
}

/// Registers out of pairs of bytes.
pub(crate) fn registers_of(bytes: &[u8]) -> Vec<u16> {
    let (pairs, _) = bytes.as_chunks::<2>();
    pairs.iter().map(|pair| u16::from_be_bytes(*pair)).collect()
}
