use crate::codec::Binary;
use crate::service::{DataChangeFilter, DataChangeTrigger, MonitoringParameters, ReadValueId};
use crate::space::{AttributeId, Space};
use crate::structure::{Range, Structure};
use crate::types::{Array, DataValue, Scalar, StatusCode, Variant};

/// What counts as a change.
///
/// Source: OPC 10000-4, section 7.22.2; OPC 10000-8, section 6.3.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Filter {
    trigger: DataChangeTrigger,
    /// So much, in the unit of the value.
    deadband: Option<f64>,
}

const ABSOLUTE: u32 = 1;
const PERCENT: u32 = 2;

impl Default for Filter {
    fn default() -> Self {
        Self { trigger: DataChangeTrigger::StatusValue, deadband: None }
    }
}

impl Filter {
    /// Reads what a client asks for.
    pub(super) fn read(space: &Space, item: &ReadValueId, wanted: &MonitoringParameters) -> Result<Self, StatusCode> {
        if wanted.filter.type_id.is_null() {
            return Ok(Self::default());
        }
        if item.attribute_id != AttributeId::Value as u32 {
            return Err(StatusCode::BAD_FILTER_NOT_ALLOWED);
        }
        let read =
            DataChangeFilter::from_object(&wanted.filter).ok_or(StatusCode::BAD_MONITORED_ITEM_FILTER_UNSUPPORTED)?;
        let filter = read.map_err(|_| StatusCode::BAD_MONITORED_ITEM_FILTER_INVALID)?;
        let amount = filter.deadband_value;
        let deadband = match filter.deadband_type {
            0 => None,
            _ if !amount.is_finite() || amount < 0.0 => return Err(StatusCode::BAD_DEADBAND_FILTER_INVALID),
            _ if !is_number(space, item) => return Err(StatusCode::BAD_FILTER_NOT_ALLOWED),
            ABSOLUTE => Some(amount),
            PERCENT if amount > 100.0 => return Err(StatusCode::BAD_DEADBAND_FILTER_INVALID),
            PERCENT => {
                let Range { low, high } =
                    range_of(space, item).ok_or(StatusCode::BAD_MONITORED_ITEM_FILTER_UNSUPPORTED)?;
                Some((high - low) * amount / 100.0)
            }
            _ => return Err(StatusCode::BAD_MONITORED_ITEM_FILTER_UNSUPPORTED),
        };
        Ok(Self { trigger: filter.trigger, deadband })
    }

    /// Whether a value is another than the one that was told last.
    pub(super) fn is_change(self, before: &DataValue, now: &DataValue) -> bool {
        if before.status() != now.status() {
            return true;
        }
        let has_value_changed = || match (&before.value, &now.value) {
            (Some(before), Some(now)) => match self.deadband.and_then(|most| is_beyond(before, now, most)) {
                Some(is_beyond) => is_beyond,
                None => !is_same(before, now),
            },
            (before, now) => before.is_some() != now.is_some(),
        };
        match self.trigger {
            DataChangeTrigger::Status => false,
            DataChangeTrigger::StatusValue => has_value_changed(),
            DataChangeTrigger::StatusValueTimestamp => {
                has_value_changed()
                    || (before.source_time, before.source_picoseconds) != (now.source_time, now.source_picoseconds)
            }
        }
    }
}

/// What is no number is the same as itself.
fn is_same(before: &Variant, now: &Variant) -> bool {
    before == now || before.to_bytes() == now.to_bytes()
}

/// Whether a number, or one of several, went further than so much; none where they are none, or not as many.
fn is_beyond(before: &Variant, now: &Variant, most: f64) -> Option<bool> {
    let (before, now) = (numbers(before)?, numbers(now)?);
    if before.len() != now.len() {
        return None;
    }
    // A step from or to what is no number is a change.
    let is_within = |(before, now): (f64, f64)| (now - before).abs() <= most || before.to_bits() == now.to_bits();
    Some(!before.into_iter().zip(now).all(is_within))
}

#[expect(clippy::cast_precision_loss, reason = "a deadband is a floating-point number")]
fn numbers(value: &Variant) -> Option<Vec<f64>> {
    macro_rules! all {
        ($elements:expr) => {
            $elements.iter().map(|element| f64::from(*element)).collect()
        };
    }
    Some(match value {
        Variant::Scalar(scalar) => vec![match scalar {
            Scalar::SByte(number) => (*number).into(),
            Scalar::Byte(number) => (*number).into(),
            Scalar::Int16(number) => (*number).into(),
            Scalar::UInt16(number) => (*number).into(),
            Scalar::Int32(number) => (*number).into(),
            Scalar::UInt32(number) => (*number).into(),
            Scalar::Int64(number) => *number as f64,
            Scalar::UInt64(number) => *number as f64,
            Scalar::Float(number) => (*number).into(),
            Scalar::Double(number) => *number,
            _ => return None,
        }],
        Variant::Array(elements) | Variant::Matrix(elements, _) => match elements {
            Array::SByte(elements) => all!(elements),
            Array::Byte(elements) => all!(elements),
            Array::Int16(elements) => all!(elements),
            Array::UInt16(elements) => all!(elements),
            Array::Int32(elements) => all!(elements),
            Array::UInt32(elements) => all!(elements),
            Array::Int64(elements) => elements.iter().map(|element| *element as f64).collect(),
            Array::UInt64(elements) => elements.iter().map(|element| *element as f64).collect(),
            Array::Float(elements) => all!(elements),
            Array::Double(elements) => elements.clone(),
            _ => return None,
        },
        Variant::Null => return None,
    })
}

fn is_number(space: &Space, item: &ReadValueId) -> bool {
    let value = space.variable(&item.node_id).and_then(|variable| variable.value.value.as_ref());
    value.is_some_and(|value| numbers(value).is_some())
}

fn range_of(space: &Space, item: &ReadValueId) -> Option<Range> {
    match space.property(&item.node_id, "EURange")?.value.value.as_ref()? {
        Variant::Scalar(Scalar::ExtensionObject(object)) => Range::from_object(object)?.ok(),
        _ => None,
    }
}
