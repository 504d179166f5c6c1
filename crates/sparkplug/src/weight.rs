//! What a payload takes when it is decoded, known before it is: two bytes on the wire may become a metric of 200 in memory.

use crate::proto::{
    DataSet, DataSetValue, MetaData, Metric, Parameter, PropertySet, PropertySetList, PropertyValue, Row, Template,
};

/// The messages of the Sparkplug B schema that hold others, or that may come in any number.
#[derive(Debug, Clone, Copy)]
enum Kind {
    Payload,
    Metric,
    PropertySet,
    PropertySets,
    PropertyValue,
    DataSet,
    Row,
    Template,
    Leaf(usize),
}

impl Kind {
    /// What a field of it is. Field numbers: Sparkplug 3.0.0, section 6.4.1.
    const fn child(self, field: u64) -> Self {
        match (self, field) {
            (Self::Payload, 2) | (Self::Template, 2) => Self::Metric,
            (Self::Metric, 9) | (Self::PropertySets, 1) | (Self::PropertyValue, 9) => Self::PropertySet,
            (Self::Metric, 17) => Self::DataSet,
            (Self::Metric, 18) => Self::Template,
            (Self::PropertySet, 2) => Self::PropertyValue,
            (Self::PropertyValue, 10) => Self::PropertySets,
            (Self::DataSet, 4) => Self::Row,
            (Self::Row, 1) => Self::Leaf(size_of::<DataSetValue>()),
            (Self::Template, 3) => Self::Leaf(size_of::<Parameter>()),
            (Self::Metric, 8) => Self::Leaf(size_of::<MetaData>()),
            _ => Self::Leaf(size_of::<String>()),
        }
    }

    const fn size(self) -> usize {
        match self {
            Self::Payload => 0,
            Self::Metric => size_of::<Metric>(),
            Self::PropertySet => size_of::<PropertySet>(),
            Self::PropertySets => size_of::<PropertySetList>(),
            Self::PropertyValue => size_of::<PropertyValue>(),
            Self::DataSet => size_of::<DataSet>(),
            Self::Row => size_of::<Row>(),
            Self::Template => size_of::<Template>(),
            Self::Leaf(size) => size,
        }
    }
}

/// Deeper than prost goes.
const DEEPEST: u8 = 100;

/// How many bytes of memory a payload takes at least, about. What is malformed counts as far as it can be read.
pub(crate) fn weight(payload: &[u8]) -> usize {
    weigh(Kind::Payload, payload, 0)
}

fn weigh(kind: Kind, mut bytes: &[u8], depth: u8) -> usize {
    let mut weight = kind.size();
    if let (Kind::Leaf(_), _) | (_, DEEPEST) = (kind, depth) {
        return weight + bytes.len();
    }
    while let Some(tag) = varint(&mut bytes) {
        let skipped = match tag & 7 {
            0 => varint(&mut bytes).map(|_| size_of::<u32>()),
            1 => take(&mut bytes, 8).map(|_| 0),
            2 => varint(&mut bytes)
                .and_then(|length| take(&mut bytes, usize::try_from(length).ok()?))
                .map(|inner| weigh(kind.child(tag >> 3), inner, depth + 1)),
            5 => take(&mut bytes, 4).map(|_| 0),
            _ => None,
        };
        let Some(skipped) = skipped else { break };
        weight = weight.saturating_add(skipped);
    }
    weight
}

fn take<'a>(bytes: &mut &'a [u8], length: usize) -> Option<&'a [u8]> {
    let (taken, rest) = bytes.split_at_checked(length)?;
    *bytes = rest;
    Some(taken)
}

/// A number in groups of seven bits, the lowest first.
fn varint(bytes: &mut &[u8]) -> Option<u64> {
    let mut number = 0_u64;
    for shift in (0..64).step_by(7) {
        let (&byte, rest) = bytes.split_first()?;
        *bytes = rest;
        number |= u64::from(byte & 0x7F) << shift;
        if byte & 0x80 == 0 {
            return Some(number);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::proto::{Payload, metric};
    use crate::{DecodeError, decode_payload, encode_payload};

    #[test]
    fn what_grows_when_it_is_decoded_is_refused_before() {
        // Metrics, rows and templates of two bytes each.
        let metrics = [0x12, 0x00].repeat(500_000);
        assert!(weight(&metrics) >= 500_000 * size_of::<Metric>());
        let inside = |tag: &[u8], field: &[u8], inner: &[u8]| {
            let wrap = |tag: &[u8], inner: &[u8]| {
                let mut out = tag.to_vec();
                prost::encoding::encode_varint(inner.len() as u64, &mut out);
                out.extend_from_slice(inner);
                out
            };
            wrap(&[0x12], &wrap(tag, &field.iter().chain(inner).copied().collect::<Vec<_>>()))
        };
        let rows = inside(&[0x8A, 0x01], &[], &[0x22, 0x00].repeat(1_500_000));
        let templates = inside(&[0x92, 0x01], &[], &metrics);
        for hostile in [&metrics, &rows, &templates] {
            assert!(matches!(decode_payload(hostile), Err(DecodeError::TooMuch { .. })), "{}", weight(hostile));
        }
    }

    #[test]
    fn a_birth_of_a_hundred_thousand_points_is_taken() {
        let metric = |alias: u64| Metric {
            name: Some(format!("digester-{alias}/temperature-set-point")),
            alias: Some(alias),
            datatype: Some(9),
            value: Some(metric::Value::FloatValue(41.0)),
            ..Metric::default()
        };
        let birth = Payload { metrics: (0..100_000).map(metric).collect(), ..Payload::default() };
        let bytes = encode_payload(&birth);
        assert!(decode_payload(&bytes).is_ok_and(|decoded| decoded == birth), "{}", weight(&bytes));
    }
}
