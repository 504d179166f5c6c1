use crate::{DataType, Value};
use serde::{Deserialize, Serialize};

/// In which order a device puts the bytes of a value into its 16-bit registers.
///
/// `A` is the most significant byte. The 64-bit types follow the same rule over four registers. Modbus itself
/// defines only the order inside one register (MODBUS Application Protocol V1.1b3, section 4.2: big-endian);
/// how registers make up longer values is each maker's choice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "UPPERCASE")]
pub enum ByteOrder {
    /// Most significant register first, most significant byte first.
    #[default]
    Abcd,
    /// Least significant register first, most significant byte first.
    Cdab,
    /// Most significant register first, bytes of each register swapped.
    Badc,
    /// Least significant register first, bytes of each register swapped.
    Dcba,
}

impl ByteOrder {
    /// The word in files and on screens.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Abcd => "ABCD",
            Self::Cdab => "CDAB",
            Self::Badc => "BADC",
            Self::Dcba => "DCBA",
        }
    }
}

/// Registers that do not make a value of the asked type.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RegisterError {
    /// The number of registers does not fit the type.
    #[error("{data_type} takes {wanted} registers, got {got}")]
    Count {
        /// The asked type.
        data_type: DataType,
        /// How many it takes.
        wanted: u16,
        /// How many were given.
        got: usize,
    },
    /// The type has no form in registers.
    #[error("{0} has no form in registers")]
    Type(DataType),
}

/// Makes one value out of the registers that carry it.
///
/// `Bool` is true when the register is not zero. Text ends at the first zero byte and loses trailing spaces;
/// bytes that are not UTF-8 become U+FFFD.
///
/// # Errors
/// [`RegisterError`] when the count or the type does not fit.
pub fn decode_registers(registers: &[u16], data_type: DataType, order: ByteOrder) -> Result<Value, RegisterError> {
    let wanted = data_type.registers().ok_or(RegisterError::Type(data_type))?;
    if registers.len() != usize::from(wanted) {
        return Err(RegisterError::Count { data_type, wanted, got: registers.len() });
    }
    let low_half = |bits: u64| u32::try_from(bits & 0xFFFF_FFFF).unwrap_or_default();
    Ok(match data_type {
        DataType::String(length) => text(registers, length, order),
        DataType::Bool => Value::Bool(registers.iter().any(|register| *register != 0)),
        DataType::Auto | DataType::Uint16 | DataType::Uint32 | DataType::Uint64 => Value::Uint(bits(registers, order)),
        DataType::Int16 | DataType::Int32 | DataType::Int64 => {
            let unused = 64 - 16 * u32::from(wanted);
            // Shifting up and back down copies the sign bit over the unused upper bits.
            Value::Int((bits(registers, order) << unused).cast_signed() >> unused)
        }
        DataType::Float32 => Value::Float32(f32::from_bits(low_half(bits(registers, order)))),
        DataType::Float64 => Value::Float64(f64::from_bits(bits(registers, order))),
    })
}

fn bits(registers: &[u16], order: ByteOrder) -> u64 {
    let push = |bits: u64, register: &u16| bits << 16 | u64::from(*register);
    let swapped = |bits: u64, register: &u16| push(bits, &register.swap_bytes());
    match order {
        ByteOrder::Abcd => registers.iter().fold(0, push),
        ByteOrder::Cdab => registers.iter().rev().fold(0, push),
        ByteOrder::Badc => registers.iter().fold(0, swapped),
        ByteOrder::Dcba => registers.iter().rev().fold(0, swapped),
    }
}

fn text(registers: &[u16], length: u16, order: ByteOrder) -> Value {
    let swap = matches!(order, ByteOrder::Badc | ByteOrder::Dcba);
    let bytes: Vec<u8> = registers
        .iter()
        .flat_map(|register| if swap { register.to_le_bytes() } else { register.to_be_bytes() })
        .take(usize::from(length))
        .take_while(|byte| *byte != 0)
        .collect();
    Value::Text(String::from_utf8_lossy(&bytes).trim_end_matches(' ').into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn one_pair_of_registers_reads_differently_in_each_order() {
        let read = |order| decode_registers(&[0x1234, 0x5678], DataType::Uint32, order).unwrap();
        assert_eq!(read(ByteOrder::Abcd), Value::Uint(0x1234_5678));
        assert_eq!(read(ByteOrder::Cdab), Value::Uint(0x5678_1234));
        assert_eq!(read(ByteOrder::Badc), Value::Uint(0x3412_7856));
        assert_eq!(read(ByteOrder::Dcba), Value::Uint(0x7856_3412));
    }

    #[test]
    fn signs_reach_over_the_whole_width() {
        let read = |registers: &[u16], data_type| decode_registers(registers, data_type, ByteOrder::Abcd);
        assert_eq!(read(&[0xFFFE], DataType::Int16), Ok(Value::Int(-2)));
        assert_eq!(read(&[0xFFFE], DataType::Uint16), Ok(Value::Uint(65534)));
        assert_eq!(read(&[0xFFFF, 0xFFFE], DataType::Int32), Ok(Value::Int(-2)));
        assert_eq!(read(&[0x8000, 0, 0, 0], DataType::Int64), Ok(Value::Int(i64::MIN)));
    }

    #[test]
    fn text_ends_at_the_first_zero_and_loses_its_padding() {
        let read = |order| decode_registers(&[0x4142, 0x4320, 0x0058], DataType::String(6), order).unwrap();
        assert_eq!(read(ByteOrder::Abcd), Value::Text("ABC".into()));
        assert_eq!(read(ByteOrder::Badc), Value::Text("BA CX".into()));
    }

    #[test]
    fn a_wrong_number_of_registers_is_refused() {
        let error = decode_registers(&[1], DataType::Float32, ByteOrder::Abcd).unwrap_err();
        assert_eq!(error.to_string(), "float32 takes 2 registers, got 1");
    }

    proptest! {
        #[test]
        fn floats_read_back_bit_for_bit_in_every_order(bits: u64) {
            let [a, b, c, d, e, f, g, h] = bits.to_be_bytes();
            let word = |high, low| u16::from_be_bytes([high, low]);
            for (order, registers) in [
                (ByteOrder::Abcd, [word(a, b), word(c, d), word(e, f), word(g, h)]),
                (ByteOrder::Cdab, [word(g, h), word(e, f), word(c, d), word(a, b)]),
                (ByteOrder::Badc, [word(b, a), word(d, c), word(f, e), word(h, g)]),
                (ByteOrder::Dcba, [word(h, g), word(f, e), word(d, c), word(b, a)]),
            ] {
                let value = decode_registers(&registers, DataType::Float64, order).unwrap();
                prop_assert!(matches!(value, Value::Float64(float) if float.to_bits() == bits));
                let value = decode_registers(&registers, DataType::Uint64, order).unwrap();
                prop_assert_eq!(value, Value::Uint(bits));
            }
        }
    }
}
