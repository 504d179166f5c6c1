//! Just enough of the protobuf wire format to look at payloads without any of Interlex's code.

/// One field as it stands on the wire.
#[derive(Debug, Clone, PartialEq)]
pub enum Field {
    Varint(u64),
    Fixed64([u8; 8]),
    Bytes(Vec<u8>),
    Fixed32([u8; 4]),
}

/// The fields of a message in their order; `None` when it is no protobuf.
pub fn fields(mut rest: &[u8]) -> Option<Vec<(u64, Field)>> {
    let mut found = Vec::new();
    while !rest.is_empty() {
        let key = take_varint(&mut rest)?;
        let field = match key & 7 {
            0 => Field::Varint(take_varint(&mut rest)?),
            1 => Field::Fixed64(take(&mut rest, 8)?.try_into().ok()?),
            2 => {
                let length = usize::try_from(take_varint(&mut rest)?).ok()?;
                Field::Bytes(take(&mut rest, length)?.to_vec())
            }
            5 => Field::Fixed32(take(&mut rest, 4)?.try_into().ok()?),
            _ => return None,
        };
        found.push((key >> 3, field));
    }
    Some(found)
}

/// The number in a field.
pub fn varint(message: &[(u64, Field)], number: u64) -> Option<u64> {
    message.iter().find_map(|(n, field)| match field {
        Field::Varint(value) if *n == number => Some(*value),
        _ => None,
    })
}

/// The text in a field.
pub fn text(message: &[(u64, Field)], number: u64) -> Option<String> {
    message.iter().find_map(|(n, field)| match field {
        Field::Bytes(bytes) if *n == number => String::from_utf8(bytes.clone()).ok(),
        _ => None,
    })
}

fn take<'a>(rest: &mut &'a [u8], length: usize) -> Option<&'a [u8]> {
    let (taken, left) = rest.split_at_checked(length)?;
    *rest = left;
    Some(taken)
}

fn take_varint(rest: &mut &[u8]) -> Option<u64> {
    let mut value = 0;
    for shift in (0..70).step_by(7) {
        let byte = *take(rest, 1)?.first()?;
        value |= u64::from(byte & 0x7F).checked_shl(shift)?;
        if byte < 0x80 {
            return Some(value);
        }
    }
    None
}
