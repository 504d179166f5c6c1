//! Values that have no field of their own in a program are carried as text: moments as ISO 8601, bytes as hexadecimal digits, arrays
//! as a list in JSON.

use crate::DataType;
use crate::metric::ValueError;
use crate::proto::metric::Value as Wire;
use serde_json::Value as Json;
use std::str::FromStr;

/// Reads a text as what it carries. `None` for a moment before 1970, which Sparkplug cannot tell, and for an array with one.
///
/// Source: Sparkplug 3.0.0, section 6.4.16 and 6.4.17.
pub(crate) fn encode_text(data_type: DataType, text: &str) -> Result<Option<Wire>, ValueError> {
    let wrong = ValueError::Field(data_type);
    Ok(Some(match data_type {
        DataType::DateTime => {
            let moment = u64::try_from(milliseconds(text).ok_or(wrong)?);
            return Ok(moment.ok().map(Wire::LongValue));
        }
        DataType::Bytes => Wire::BytesValue(bytes(text).ok_or(wrong)?),
        DataType::Int8Array => numbers::<i8, 1>(text, i8::to_le_bytes).ok_or(wrong)?,
        DataType::Int16Array => numbers::<i16, 2>(text, i16::to_le_bytes).ok_or(wrong)?,
        DataType::Int32Array => numbers::<i32, 4>(text, i32::to_le_bytes).ok_or(wrong)?,
        DataType::Int64Array => numbers::<i64, 8>(text, i64::to_le_bytes).ok_or(wrong)?,
        DataType::UInt8Array => numbers::<u8, 1>(text, u8::to_le_bytes).ok_or(wrong)?,
        DataType::UInt16Array => numbers::<u16, 2>(text, u16::to_le_bytes).ok_or(wrong)?,
        DataType::UInt32Array => numbers::<u32, 4>(text, u32::to_le_bytes).ok_or(wrong)?,
        DataType::UInt64Array => numbers::<u64, 8>(text, u64::to_le_bytes).ok_or(wrong)?,
        DataType::FloatArray => numbers::<f32, 4>(&known(text), f32::to_le_bytes).ok_or(wrong)?,
        DataType::DoubleArray => numbers::<f64, 8>(&known(text), f64::to_le_bytes).ok_or(wrong)?,
        DataType::BooleanArray => {
            let bits: Vec<bool> = serde_json::from_str(text).map_err(|_| wrong)?;
            let count = u32::try_from(bits.len()).map_err(|_| wrong)?;
            let packed = bits
                .chunks(8)
                .map(|eight| (0..).zip(eight).fold(0_u8, |byte, (place, bit)| byte | u8::from(*bit) << (7 - place)));
            Wire::BytesValue(count.to_le_bytes().into_iter().chain(packed).collect())
        }
        DataType::StringArray => {
            let texts: Vec<Option<String>> = serde_json::from_str(text).map_err(|_| wrong)?;
            let mut all = Vec::new();
            for text in texts.into_iter().map(Option::unwrap_or_default) {
                if text.contains('\0') {
                    return Err(wrong);
                }
                all.extend(text.into_bytes());
                all.push(0);
            }
            Wire::BytesValue(all)
        }
        DataType::DateTimeArray => {
            let moments: Vec<Option<String>> = serde_json::from_str(text).map_err(|_| wrong)?;
            let mut all = Vec::with_capacity(moments.len() * 8);
            for moment in moments {
                let Some(moment) = moment else { return Ok(None) };
                match u64::try_from(milliseconds(&moment).ok_or(wrong)?) {
                    Ok(moment) => all.extend(moment.to_le_bytes()),
                    Err(_) => return Ok(None),
                }
            }
            Wire::BytesValue(all)
        }
        _ => return Err(wrong),
    }))
}

/// Whether values of a datatype come as text that has to be read. Texts themselves go as they are.
pub(crate) const fn is_carried(data_type: DataType) -> bool {
    matches!(data_type, DataType::DateTime | DataType::Bytes) || data_type.code() >= DataType::Int8Array.code()
}

fn milliseconds(text: &str) -> Option<i64> {
    let moment = text.parse().map(jiff::Timestamp::as_millisecond);
    // Beyond the year 9999 there is no such text.
    moment.ok().or_else(|| text.parse().ok())
}

/// What is not finite has no form in JSON.
fn known(text: &str) -> String {
    text.replace("null", "NaN")
}

fn numbers<T: FromStr, const SIZE: usize>(text: &str, to_bytes: fn(T) -> [u8; SIZE]) -> Option<Wire> {
    let inner = text.trim().strip_prefix('[')?.strip_suffix(']')?.trim();
    let numbers =
        inner.split(',').filter(|_| !inner.is_empty()).map(|number| number.trim().parse::<T>().ok().map(to_bytes));
    let bytes = numbers.collect::<Option<Vec<_>>>()?;
    Some(Wire::BytesValue(bytes.as_flattened().to_vec()))
}

fn bytes(text: &str) -> Option<Vec<u8>> {
    let digits = text.as_bytes();
    let digit = |digit: u8| char::from(digit).to_digit(16).and_then(|digit| u8::try_from(digit).ok());
    let (pairs, rest) = digits.as_chunks();
    let byte = |[high, low]: &[u8; 2]| Some(digit(*high)? << 4 | digit(*low)?);
    rest.is_empty().then(|| pairs.iter().map(byte).collect())?
}

/// An array in JSON, to be looked at; `None` for what is no array of its datatype.
#[must_use]
pub fn array_elements(data_type: DataType, packed: &[u8]) -> Option<Vec<Json>> {
    fn elements<T: Into<Json>, const SIZE: usize>(packed: &[u8], of_bytes: fn([u8; SIZE]) -> T) -> Option<Vec<Json>> {
        let (elements, rest) = packed.as_chunks::<SIZE>();
        rest.is_empty().then(|| elements.iter().map(|bytes| of_bytes(*bytes).into()).collect())
    }
    match data_type {
        DataType::Int8Array => elements(packed, i8::from_le_bytes),
        DataType::Int16Array => elements(packed, i16::from_le_bytes),
        DataType::Int32Array => elements(packed, i32::from_le_bytes),
        DataType::Int64Array => elements(packed, i64::from_le_bytes),
        DataType::UInt8Array => elements(packed, u8::from_le_bytes),
        DataType::UInt16Array => elements(packed, u16::from_le_bytes),
        DataType::UInt32Array => elements(packed, u32::from_le_bytes),
        DataType::UInt64Array | DataType::DateTimeArray => elements(packed, u64::from_le_bytes),
        // As short as single precision is.
        DataType::FloatArray => elements(packed, |bytes| {
            f32::from_le_bytes(bytes).to_string().parse::<f64>().map_or(Json::Null, Json::from)
        }),
        DataType::DoubleArray => elements(packed, f64::from_le_bytes),
        DataType::BooleanArray => {
            let (count, packed) = packed.split_first_chunk()?;
            let count =
                usize::try_from(u32::from_le_bytes(*count)).ok().filter(|count| packed.len() == count.div_ceil(8))?;
            let bit = |place: usize| Some(packed.get(place / 8)? & (0x80 >> (place % 8)) != 0);
            (0..count).map(|place| bit(place).map(Json::from)).collect()
        }
        DataType::StringArray => {
            let Some((0, texts)) = packed.split_last() else { return packed.is_empty().then(Vec::new) };
            Some(texts.split(|byte| *byte == 0).map(|text| String::from_utf8_lossy(text).into()).collect())
        }
        _ => None,
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic, reason = "tests")]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn packed(data_type: DataType, text: &str) -> Vec<u8> {
        match encode_text(data_type, text) {
            Ok(Some(Wire::BytesValue(bytes))) => bytes,
            other => panic!("{data_type} {text}: {other:?}"),
        }
    }

    #[test]
    fn arrays_are_packed_and_unpacked_as_others_do() {
        let mut seen = 0;
        for line in include_str!("../tests/vectors/sparkplug.jsonl").lines() {
            let vector: Json = serde_json::from_str(line).unwrap();
            for metric in vector["meaning"]["metrics"].as_array().into_iter().flatten() {
                let code = metric["datatype_code"].as_u64().and_then(|code| u32::try_from(code).ok());
                let data_type = code.and_then(DataType::from_code);
                let (Some(data_type), Some(raw), Some(list)) =
                    (data_type, metric["raw"].as_str(), metric["value"].as_array())
                else {
                    continue;
                };
                let raw = hex::decode(raw).unwrap();
                let texts: Vec<_> = list.iter().map(Json::to_string).collect();
                let list_as_text = match data_type {
                    DataType::DateTimeArray => {
                        format!("[{}]", texts.iter().map(|ms| format!("\"{ms}\"")).collect::<Vec<_>>().join(","))
                    }
                    _ => format!("[{}]", texts.join(",")),
                };
                assert_eq!(packed(data_type, &list_as_text), raw, "{}", vector["name"]);
                let unpacked = Json::from(array_elements(data_type, &raw).unwrap()).to_string();
                let again = match data_type {
                    DataType::DateTimeArray => list_as_text,
                    _ => unpacked,
                };
                assert_eq!(packed(data_type, &again), raw, "{}", vector["name"]);
                seen += 1;
            }
        }
        assert!(seen >= 16, "{seen}");
        let moments = "[\"2009-10-21T05:27:55.335Z\"]";
        assert_eq!(packed(DataType::DateTimeArray, moments), [0xC7, 0xD0, 0x90, 0x75, 0x24, 0x01, 0, 0]);
        assert_eq!(packed(DataType::Bytes, "00ffA0"), [0, 0xFF, 0xA0]);
    }

    #[test]
    fn what_is_no_such_text_is_refused_and_moments_before_1970_are_none() {
        assert_eq!(encode_text(DataType::DateTime, "1955-01-01T00:00:00Z"), Ok(None));
        assert_eq!(encode_text(DataType::DateTimeArray, "[\"2022-06-24T21:57:55Z\",null]"), Ok(None));
        for (data_type, text) in [
            (DataType::DateTime, "yesterday"),
            (DataType::Bytes, "0ff"),
            (DataType::Bytes, "+1"),
            (DataType::Int8Array, "[128]"),
            (DataType::Int8Array, "[1,]"),
            (DataType::UInt8Array, "1"),
            (DataType::StringArray, "[\"\\u0000\"]"),
            (DataType::BooleanArray, "[1]"),
        ] {
            assert_eq!(encode_text(data_type, text), Err(ValueError::Field(data_type)), "{text}");
        }
    }

    proptest! {
        #[test]
        fn arrays_come_back_as_they_were(
            floats: Vec<f32>, longs: Vec<i64>, bits: Vec<bool>, texts in prop::collection::vec("[^\0]*", 0..5)
        ) {
            let finite: Vec<_> = floats.into_iter().filter(|float| float.is_finite()).collect();
            for (data_type, list) in [
                (DataType::FloatArray, format!("[{}]", finite.iter().map(f32::to_string).collect::<Vec<_>>().join(","))),
                (DataType::Int64Array, serde_json::to_string(&longs).unwrap()),
                (DataType::BooleanArray, serde_json::to_string(&bits).unwrap()),
                (DataType::StringArray, serde_json::to_string(&texts).unwrap()),
            ] {
                let bytes = packed(data_type, &list);
                let back = Json::from(array_elements(data_type, &bytes).unwrap()).to_string();
                prop_assert_eq!(packed(data_type, &back), bytes);
            }
        }

        #[test]
        fn any_bytes_are_looked_at(code in 22_u32..35, packed: Vec<u8>) {
            let _ = array_elements(DataType::from_code(code).unwrap(), &packed);
        }
    }
}
