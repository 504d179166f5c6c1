use crate::{ByteOrder, DataType, Value, decode_registers};

/// What registers would say if they were of a type and order.
#[derive(Debug, Clone, PartialEq)]
pub struct Interpretation {
    /// How many registers after the first one it starts.
    pub offset: usize,
    /// The type.
    pub data_type: DataType,
    /// The order; meaningless for a single register.
    pub order: ByteOrder,
    /// The value before shaping.
    pub value: Value,
    /// The scale under which it is what is expected, when something is.
    pub scale: Option<f64>,
}

/// Types that meters use, the narrow ones first.
const TYPES: [DataType; 8] = [
    DataType::Uint16,
    DataType::Int16,
    DataType::Uint32,
    DataType::Int32,
    DataType::Float32,
    DataType::Uint64,
    DataType::Int64,
    DataType::Float64,
];
const ORDERS: [ByteOrder; 4] = [ByteOrder::Abcd, ByteOrder::Cdab, ByteOrder::Badc, ByteOrder::Dcba];
/// Scales that makers write into their lists.
const SCALES: [f64; 7] = [1.0, 0.1, 0.01, 0.001, 10.0, 100.0, 1000.0];
/// How near is near: the display of a meter rounds, and values move between two looks.
const NEAR: f64 = 0.02;

/// Every type and order that registers can be read as, side by side. With an expected value, those that come near it
/// stand first, the nearest before the others.
///
/// Floats that no plant has (not finite, or beyond 10^12, or below 10^-9) are left out: they come from a wrong order.
#[must_use]
pub fn interpretations(registers: &[u16], expected: Option<f64>) -> Vec<Interpretation> {
    let mut all = Vec::new();
    for offset in 0..registers.len() {
        for data_type in TYPES {
            let count = data_type.registers().map_or(0, usize::from);
            let Some(part) = registers.get(offset..offset + count) else { continue };
            let orders = if count > 1 { ORDERS.as_slice() } else { &[ByteOrder::Abcd, ByteOrder::Badc] };
            for order in orders {
                let Ok(value) = decode_registers(part, data_type, *order) else { continue };
                if is_plausible(&value) {
                    let scale = expected.and_then(|expected| scale_to(&value, expected));
                    all.push(Interpretation { offset, data_type, order: *order, value, scale });
                }
            }
        }
    }
    let distance = |one: &Interpretation| match (one.scale, one.value.as_f64(), expected) {
        (Some(scale), Some(number), Some(expected)) => (number * scale - expected).abs(),
        _ => f64::INFINITY,
    };
    all.sort_by(|left, right| distance(left).total_cmp(&distance(right)).then(left.offset.cmp(&right.offset)));
    all
}

fn is_plausible(value: &Value) -> bool {
    match value {
        Value::Float32(_) | Value::Float64(_) => {
            let size = value.as_f64().map_or(f64::NAN, f64::abs);
            size == 0.0 || (1e-9..1e12).contains(&size)
        }
        _ => true,
    }
}

/// The scale that brings a value near what is expected: 1 if it will do. Floats carry their point themselves.
fn scale_to(value: &Value, expected: f64) -> Option<f64> {
    let tried = if matches!(value, Value::Float32(_) | Value::Float64(_)) { 1 } else { SCALES.len() };
    let number = value.as_f64()?;
    SCALES.iter().take(tried).copied().find(|scale| (number * scale - expected).abs() <= expected.abs() * NEAR)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn near(registers: &[u16], expected: f64) -> Vec<String> {
        let found = interpretations(registers, Some(expected));
        let near = found.into_iter().filter(|one| one.scale.is_some());
        near.map(|one| {
            format!("+{} {} {:?} {} × {}", one.offset, one.data_type, one.order, one.value, one.scale.unwrap())
        })
        .collect()
    }

    #[test]
    fn the_wrong_word_order_and_the_register_off_by_one_are_found_in_one_look() {
        // 49.98 as a float whose low word comes first, one register further on than the manual was understood to say.
        let bits = 49.98_f32.to_bits();
        let (high, low) = (u16::try_from(bits >> 16).unwrap(), u16::try_from(bits & 0xFFFF).unwrap());
        assert_eq!(near(&[7, low, high, 0], 49.98)[0], "+1 float32 Cdab 49.98 × 1");
    }

    #[test]
    fn whole_numbers_are_tried_under_the_usual_scales() {
        let found = near(&[4998], 50.0);
        assert_eq!(found, ["+0 uint16 Abcd 4998 × 0.01", "+0 int16 Abcd 4998 × 0.01"]);
        assert_eq!(near(&[0xFF85], -12.3), ["+0 int16 Abcd -123 × 0.1"]);
        assert_eq!(near(&[0x0001, 0x86A0], 100_000.0)[..2], ["+0 uint32 Abcd 100000 × 1", "+0 int32 Abcd 100000 × 1"]);
    }

    #[test]
    fn without_an_expected_value_all_that_a_plant_may_say_is_told() {
        let found = interpretations(&[0x4248, 0x0000, 0, 0], None);
        assert!(found.iter().any(|one| one.data_type == DataType::Float32 && one.value == Value::Float32(50.0)));
        assert!(found.iter().all(|one| one.scale.is_none() && !one.value.is_not_finite()));
        assert!(interpretations(&[], Some(1.0)).is_empty());
    }
}
