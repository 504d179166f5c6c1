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
    const fn swaps_bytes(self) -> bool {
        matches!(self, Self::Badc | Self::Dcba)
    }

    const fn is_low_first(self) -> bool {
        matches!(self, Self::Cdab | Self::Dcba)
    }

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
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
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
    /// A digit of packed BCD is above nine.
    #[error("{0:X} is no packed BCD")]
    Digit(u64),
    /// The value cannot be written as the type.
    #[error("{value} does not fit {data_type}")]
    Value {
        /// The value.
        value: String,
        /// The type.
        data_type: DataType,
    },
}

/// Makes one value out of the registers that carry it.
///
/// `Bool` is true when the register is not zero. The 8-bit types are the less significant byte of their register, which the
/// orders with swapped bytes find in its upper half. Text ends at the first zero byte and loses trailing spaces;
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
        DataType::String(length) => text(registers, length, order, |bytes| String::from_utf8_lossy(bytes).into_owned()),
        DataType::Latin1(length) => {
            text(registers, length, order, |bytes| bytes.iter().copied().map(char::from).collect())
        }
        DataType::Int8 => Value::Int((bits(registers, order) << 56).cast_signed() >> 56),
        DataType::Uint8 => Value::Uint(bits(registers, order) & 0xFF),
        DataType::Float16 => {
            let half = u16::try_from(bits(registers, order)).map_or(half::f16::NAN, half::f16::from_bits);
            Value::Float32(half.to_f32())
        }
        DataType::Bool => Value::Bool(registers.iter().any(|register| *register != 0)),
        DataType::Uint16 | DataType::Uint32 | DataType::Uint64 => Value::Uint(bits(registers, order)),
        DataType::Int16 | DataType::Int32 | DataType::Int64 => {
            let unused = 64 - 16 * u32::from(wanted);
            // Shifting up and back down copies the sign bit over the unused upper bits.
            Value::Int((bits(registers, order) << unused).cast_signed() >> unused)
        }
        DataType::Bcd16 | DataType::Bcd32 | DataType::Bcd64 => Value::Uint(from_bcd(bits(registers, order))?),
        DataType::Float32 => Value::Float32(f32::from_bits(low_half(bits(registers, order)))),
        DataType::Float64 => Value::Float64(f64::from_bits(bits(registers, order))),
        DataType::Auto | DataType::DateTime | DataType::Uuid | DataType::Bytes | DataType::Array(_) => {
            return Err(RegisterError::Type(data_type));
        }
    })
}

fn from_bcd(bits: u64) -> Result<u64, RegisterError> {
    (0..16).rev().try_fold(0, |number, digit| match bits >> (4 * digit) & 0xF {
        digit @ 0..=9 => Ok(number * 10 + digit),
        _ => Err(RegisterError::Digit(bits)),
    })
}

/// Makes the registers that carry a raw value: the way back of [`decode_registers`].
///
/// Text is padded with zero bytes. `Bool` is one register of 0 or 1.
///
/// # Errors
/// [`RegisterError`] when the value does not fit the type; it is never cut or wrapped.
pub fn encode_registers(value: &Value, data_type: DataType, order: ByteOrder) -> Result<Vec<u16>, RegisterError> {
    let count = data_type.registers().ok_or(RegisterError::Type(data_type))?;
    let unfit = || RegisterError::Value { value: value.to_string(), data_type };
    if let (DataType::String(length), Value::Text(text)) = (data_type, value) {
        let fits = text.len() <= usize::from(length);
        return if fits { Ok(byte_registers(text.as_bytes().to_vec(), count, order)) } else { Err(unfit()) };
    }
    if let (DataType::Latin1(length), Value::Text(text)) = (data_type, value) {
        let bytes: Option<Vec<u8>> = text.chars().map(|letter| u8::try_from(letter).ok()).collect();
        let fitting = bytes.filter(|bytes| bytes.len() <= usize::from(length)).ok_or_else(unfit)?;
        return Ok(byte_registers(fitting, count, order));
    }
    let width = match data_type {
        DataType::Int8 | DataType::Uint8 => 8,
        _ => 16 * u32::from(count),
    };
    let unsigned = || match value {
        Value::Uint(number) => Some(*number),
        Value::Int(number) => u64::try_from(*number).ok(),
        _ => None,
    };
    let signed = || match value {
        Value::Int(number) => Some(*number),
        Value::Uint(number) => i64::try_from(*number).ok(),
        _ => None,
    };
    let bits = match (data_type, value) {
        (DataType::Bool, Value::Bool(bit)) => Some(u64::from(*bit)),
        (DataType::Float16, Value::Float32(float)) => {
            Some(half::f16::from_f32(*float)).filter(|half| half.is_finite()).map(|half| u64::from(half.to_bits()))
        }
        (DataType::Float32, Value::Float32(float)) => Some(u64::from(float.to_bits())),
        (DataType::Float64, Value::Float64(float)) => Some(float.to_bits()),
        (DataType::Uint8 | DataType::Uint16 | DataType::Uint32 | DataType::Uint64, _) => {
            unsigned().filter(|number| number.checked_shr(width).unwrap_or_default() == 0)
        }
        (DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64, _) => signed()
            .filter(|number| width == 64 || (-1_i64 << (width - 1)..1 << (width - 1)).contains(number))
            .map(i64::cast_unsigned),
        (DataType::Bcd16 | DataType::Bcd32 | DataType::Bcd64, _) => {
            unsigned().filter(|number| *number < 10_u64.pow(width / 4)).map(to_bcd)
        }
        _ => None,
    };
    let bits = bits.ok_or_else(unfit)?;
    let register = |at: u32| u16::try_from(bits >> (16 * at) & 0xFFFF).unwrap_or_default();
    let swap = |register: u16| if order.swaps_bytes() { register.swap_bytes() } else { register };
    let registers = (0..u32::from(count)).map(|at| swap(register(at)));
    Ok(if order.is_low_first() { registers.collect() } else { registers.rev().collect() })
}

fn to_bcd(number: u64) -> u64 {
    (0..16).fold((0, number), |(bits, rest), digit| (bits | (rest % 10) << (4 * digit), rest / 10)).0
}

fn byte_registers(mut bytes: Vec<u8>, count: u16, order: ByteOrder) -> Vec<u16> {
    bytes.resize(usize::from(count) * 2, 0);
    let (pairs, _) = bytes.as_chunks::<2>();
    let register =
        |pair: &[u8; 2]| if order.swaps_bytes() { u16::from_le_bytes(*pair) } else { u16::from_be_bytes(*pair) };
    pairs.iter().map(register).collect()
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

fn text(registers: &[u16], length: u16, order: ByteOrder, decode: impl Fn(&[u8]) -> String) -> Value {
    let swap = order.swaps_bytes();
    let bytes: Vec<u8> = registers
        .iter()
        .flat_map(|register| if swap { register.to_le_bytes() } else { register.to_be_bytes() })
        .take(usize::from(length))
        .take_while(|byte| *byte != 0)
        .collect();
    Value::Text(decode(&bytes).trim_end_matches(' ').into())
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
    fn packed_digits_are_a_decimal_number() {
        assert_eq!(decode_registers(&[0x1234, 0x5678], DataType::Bcd32, ByteOrder::Cdab), Ok(Value::Uint(56_781_234)));
        assert_eq!(
            decode_registers(&[0x12A4], DataType::Bcd16, ByteOrder::Abcd).unwrap_err().to_string(),
            "12A4 is no packed BCD"
        );
    }

    #[test]
    fn narrow_types_and_other_alphabets_read_and_write_their_own_part() {
        let read = |register, data_type, order| decode_registers(&[register], data_type, order).unwrap();
        assert_eq!(read(0x12FE, DataType::Int8, ByteOrder::Abcd), Value::Int(-2));
        assert_eq!(read(0x12FE, DataType::Uint8, ByteOrder::Badc), Value::Uint(0x12));
        assert_eq!(read(0x3E00, DataType::Float16, ByteOrder::Abcd), Value::Float32(1.5));
        let write = |value, data_type| encode_registers(&value, data_type, ByteOrder::Abcd);
        assert_eq!(write(Value::Int(-2), DataType::Int8), Ok(vec![0xFFFE]));
        assert_eq!(write(Value::Float32(1.5), DataType::Float16), Ok(vec![0x3E00]));
        assert_eq!(write(Value::Text("°C".into()), DataType::Latin1(4)), Ok(vec![0xB043, 0]));
        assert_eq!(decode_registers(&[0xB043, 0], DataType::Latin1(4), ByteOrder::Abcd), Ok(Value::Text("°C".into())));
        let digits = Value::Uint(9_999_999_999_999_999);
        assert_eq!(write(digits.clone(), DataType::Bcd64), Ok(vec![0x9999; 4]));
        assert_eq!(decode_registers(&[0x9999; 4], DataType::Bcd64, ByteOrder::Abcd), Ok(digits));
        for (value, data_type) in [
            (Value::Int(128), DataType::Int8),
            (Value::Uint(256), DataType::Uint8),
            (Value::Float32(70_000.0), DataType::Float16),
            (Value::Text("€".into()), DataType::Latin1(4)),
            (Value::Uint(10_000_000_000_000_000), DataType::Bcd64),
        ] {
            assert!(matches!(write(value, data_type), Err(RegisterError::Value { .. })), "{data_type}");
        }
    }

    #[test]
    fn what_does_not_fit_is_refused_and_never_cut() {
        let write = |value, data_type| encode_registers(&value, data_type, ByteOrder::Abcd);
        assert_eq!(write(Value::Int(-32_768), DataType::Int16), Ok(vec![0x8000]));
        for (value, data_type) in [
            (Value::Int(32_768), DataType::Int16),
            (Value::Int(-1), DataType::Uint32),
            (Value::Uint(65_536), DataType::Uint16),
            (Value::Uint(10_000), DataType::Bcd16),
            (Value::Text("abc".into()), DataType::String(2)),
            (Value::Bool(true), DataType::Uint16),
            (Value::Float64(1.5), DataType::Uint16),
        ] {
            assert!(matches!(write(value, data_type), Err(RegisterError::Value { .. })), "{data_type}");
        }
    }

    #[test]
    fn a_wrong_number_of_registers_is_refused() {
        let error = decode_registers(&[1], DataType::Float32, ByteOrder::Abcd).unwrap_err();
        assert_eq!(error.to_string(), "float32 takes 2 registers, got 1");
    }

    proptest! {
        #[test]
        fn registers_come_back_from_the_value_that_they_make(
            registers in prop::array::uniform4(any::<u16>()), which in 0_usize..11, order in 0_usize..4,
        ) {
            use DataType::{Bcd16, Bcd32, Float32, Float64, Int16, Int32, Int64, String, Uint16, Uint32, Uint64};
            let data_type = [Int16, Uint16, Int32, Uint32, Int64, Uint64, Bcd16, Bcd32, Float32, Float64, String(8)][which];
            let order = [ByteOrder::Abcd, ByteOrder::Cdab, ByteOrder::Badc, ByteOrder::Dcba][order];
            let registers = &registers[..usize::from(data_type.registers().unwrap())];
            if let Ok(value) = decode_registers(registers, data_type, order) {
                // Text loses what is behind its end, bytes that are no text, and the padding.
                let again = encode_registers(&value, data_type, order);
                match (value, again) {
                    (Value::Text(text), Ok(again)) => {
                        prop_assert_eq!(decode_registers(&again, data_type, order), Ok(Value::Text(text)));
                    }
                    (Value::Text(text), Err(_)) => prop_assert!(text.len() > 8),
                    (_, again) => prop_assert_eq!(again.as_deref(), Ok(registers)),
                }
            }
        }

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
