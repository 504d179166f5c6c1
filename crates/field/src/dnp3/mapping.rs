//! Between the objects of outstations and the values of points.

use crate::link::ToldState;
use interlex_core::description::Dnp3Kind;
use interlex_core::{DataType, Quality, Reason, Value};
use interlex_dnp3::{DoubleBit, Flags, MeasuredValue, Measurement, Number, PointKind};

/// What a kind of points is called by the protocol.
pub(super) const fn kind(described: Dnp3Kind) -> PointKind {
    match described {
        Dnp3Kind::Binary => PointKind::Binary,
        Dnp3Kind::DoubleBit => PointKind::DoubleBit,
        Dnp3Kind::BinaryOutput => PointKind::BinaryOutput,
        Dnp3Kind::Counter => PointKind::Counter,
        Dnp3Kind::FrozenCounter => PointKind::FrozenCounter,
        Dnp3Kind::Analog => PointKind::Analog,
        Dnp3Kind::FrozenAnalog => PointKind::FrozenAnalog,
        Dnp3Kind::AnalogOutput => PointKind::AnalogOutput,
        Dnp3Kind::Octets => PointKind::Octets,
    }
}

/// The same the other way round.
pub(super) fn described(told: PointKind) -> Dnp3Kind {
    Dnp3Kind::ALL.into_iter().find(|known| kind(*known) == told).unwrap_or(Dnp3Kind::Binary)
}

/// The kind of points of such a group.
pub(super) fn kind_of_group(of: u8) -> Option<PointKind> {
    Dnp3Kind::ALL.into_iter().map(kind).find(|kind| kind.group() == of)
}

/// A value in the type that its point has; none where it does not fit that.
pub(super) fn value(told: &MeasuredValue, data_type: DataType) -> Option<Value> {
    let raw = match told {
        MeasuredValue::State(state) => Value::Bool(*state),
        MeasuredValue::DoubleBit(state) => Value::Uint(match state {
            DoubleBit::Intermediate => 0,
            DoubleBit::Off => 1,
            DoubleBit::On => 2,
            DoubleBit::Indeterminate => 3,
        }),
        MeasuredValue::Number(told) => number(*told),
        MeasuredValue::Octets(octets) if data_type == DataType::Bytes => {
            Value::Text(octets.iter().map(|octet| format!("{octet:02x}")).collect::<String>().into())
        }
        // What follows a text often fills the rest of its place.
        MeasuredValue::Octets(octets) => {
            Value::Text(String::from_utf8_lossy(octets).trim_end_matches('\0').to_owned().into())
        }
    };
    raw.into_type(data_type)
}

/// A number as the outstation told it.
fn number(told: Number) -> Value {
    match told {
        Number::Uint16(number) => Value::Uint(number.into()),
        Number::Uint32(number) => Value::Uint(number.into()),
        Number::Int16(number) => Value::Int(number.into()),
        Number::Int32(number) => Value::Int(number.into()),
        Number::Float32(number) => Value::Float32(number),
        Number::Float64(number) => Value::Float64(number),
    }
}

/// A value in the words of the standard.
pub(super) fn state(told: &MeasuredValue) -> ToldState {
    match told {
        MeasuredValue::State(false) | MeasuredValue::DoubleBit(DoubleBit::Off) => ToldState::State("off"),
        MeasuredValue::State(true) | MeasuredValue::DoubleBit(DoubleBit::On) => ToldState::State("on"),
        MeasuredValue::DoubleBit(DoubleBit::Intermediate) => ToldState::State("intermediate"),
        MeasuredValue::DoubleBit(DoubleBit::Indeterminate) => ToldState::State("indeterminate"),
        MeasuredValue::Number(told) => ToldState::Number(number(*told)),
        MeasuredValue::Octets(octets) => {
            ToldState::Text(String::from_utf8_lossy(octets).trim_end_matches('\0').to_owned())
        }
    }
}

/// What is set of the flags of a kind of points, by its word.
pub(super) fn flag_words(flags: u8, word: &'static str) -> String {
    let kind = Dnp3Kind::ALL.into_iter().find(|kind| kind.word() == word).map_or(PointKind::Binary, kind);
    Flags(flags).words(kind).collect::<Vec<_>>().join(", ")
}

/// What the flags of a point say: offline, out of reach and not updated since a restart are bad; set by hand, chattering, beyond
/// the range and against a wrong reference are doubtful; what cannot be compared with the value before is to be known.
pub(super) fn quality(told: &Measurement) -> Quality {
    // Where no flags are told, the point is online.
    let flags = told.flags.unwrap_or(Flags::ONLINE);
    let reason = Reason::Dnp3 { flags: flags.0, group: told.kind.group() };
    let is_indeterminate = told.value == MeasuredValue::DoubleBit(DoubleBit::Indeterminate);
    let by_hand = Flags::REMOTE_FORCED.with(Flags::LOCAL_FORCED);
    let is_counter = matches!(told.kind, PointKind::Counter | PointKind::FrozenCounter);
    let is_analog = matches!(told.kind, PointKind::Analog | PointKind::FrozenAnalog | PointKind::AnalogOutput);
    let is_input = matches!(told.kind, PointKind::Binary | PointKind::DoubleBit);
    if !flags.has(Flags::ONLINE) || flags.has(Flags::COMM_LOST.with(Flags::RESTART)) {
        Quality::Bad(reason)
    } else if flags.has(by_hand)
        || is_indeterminate
        || (is_input && flags.has(Flags::CHATTER_FILTER))
        || (is_analog && flags.has(Flags::OVER_RANGE.with(Flags::REFERENCE_ERROR)))
    {
        Quality::Uncertain(reason)
    } else if is_counter && flags.has(Flags::DISCONTINUITY) {
        Quality::Noted(reason)
    } else {
        Quality::Good
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn flags_are_qualities_with_their_names() {
        let of = |kind, value: MeasuredValue, flags: u8| {
            let (time, is_event) = (None, false);
            let quality = quality(&Measurement { kind, index: 0, value, flags: Some(Flags(flags)), time, is_event });
            let why = quality.reason().map(super::super::words).unwrap_or_default();
            format!("{} {why}", quality.class())
        };
        let analog = || MeasuredValue::Number(Number::Int32(5));
        assert_eq!(of(PointKind::Analog, analog(), 0x01), "good ");
        assert_eq!(of(PointKind::Analog, analog(), 0x21), "uncertain over range");
        assert_eq!(of(PointKind::Analog, analog(), 0x41), "uncertain reference error");
        assert_eq!(of(PointKind::Counter, analog(), 0x21), "good ", "it began anew, which is told no more");
        assert_eq!(of(PointKind::Counter, analog(), 0x41), "good discontinuity");
        assert_eq!(of(PointKind::Binary, true.into(), 0x05), "bad comm lost");
        assert_eq!(of(PointKind::Binary, true.into(), 0x02), "bad offline, restart");
        assert_eq!(of(PointKind::Binary, true.into(), 0x31), "uncertain local forced, chatter filter");
        assert_eq!(of(PointKind::DoubleBit, DoubleBit::Intermediate.into(), 0x01), "good ");
        assert_eq!(
            of(PointKind::DoubleBit, DoubleBit::Indeterminate.into(), 0x01),
            "uncertain both contacts are closed"
        );
        assert_eq!(value(&DoubleBit::On.into(), DataType::Uint8), Some(Value::Uint(2)));
        assert_eq!(value(&analog(), DataType::Float64), Some(Value::Float64(5.0)));
        assert_eq!(value(&MeasuredValue::Number(Number::Int32(70_000)), DataType::Int16), None);
        let text = MeasuredValue::Octets(b"trip 81\0".to_vec());
        assert_eq!(value(&text, DataType::String(250)), Some(Value::Text("trip 81".into())));
    }
}
