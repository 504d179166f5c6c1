use crate::Works;
use crate::works::Digester;
use interlex_modbus::Table;

/// The units with the name of their device: 1 to 3 behind the server, the others on the serial line.
pub const UNITS: [(u8, &str); 6] = [
    (1, "digester-1"),
    (2, "digester-2"),
    (3, "gas-analyser"),
    (11, "heat-meter-network"),
    (12, "heat-meter-digesters"),
    (13, "gas-meter"),
];

/// In which order the bytes of a long value stand in its registers; `A` is the most significant one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs, reason = "the names say it")]
pub enum Order {
    Abcd,
    Cdab,
    Badc,
    Dcba,
}

/// How a signal stands in its registers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs, reason = "the names are those of data types")]
pub enum Encoding {
    Bit,
    Int16,
    Uint16,
    Uint32(Order),
    Bcd32(Order),
    Float32(Order),
}

/// One signal of one unit: where it lives, how, and where its value comes from.
#[derive(Debug, Clone, Copy)]
pub struct Signal {
    /// Unit identifier.
    pub unit: u8,
    /// Name, as in the point lists of the demo.
    pub name: &'static str,
    /// Table of the data model.
    pub table: Table,
    /// Zero-based protocol address of its first register or bit.
    pub address: u16,
    /// How it is represented.
    pub encoding: Encoding,
    /// Engineering value = raw × scale.
    pub scale: f64,
    /// Unit of the engineering value.
    pub engineering_unit: &'static str,
    /// What it is.
    pub title: &'static str,
    pub(crate) source: fn(&Works) -> f64,
}

impl Signal {
    /// The device it belongs to.
    #[must_use]
    pub fn device(&self) -> &'static str {
        UNITS.iter().find(|(unit, _)| *unit == self.unit).map_or("", |(_, name)| name)
    }

    /// The address in the words of the description: `input:4`.
    #[must_use]
    pub fn address_text(&self) -> String {
        let table = match self.table {
            Table::Coil => "coil",
            Table::DiscreteInput => "discrete",
            Table::HoldingRegister => "holding",
            Table::InputRegister => "input",
        };
        format!("{table}:{}", self.address)
    }

    /// The raw number that stands in the registers: rounded and held inside what they can carry.
    #[must_use]
    pub fn raw(&self, works: &Works) -> f64 {
        let raw = (self.source)(works) / self.scale;
        match self.encoding {
            Bit => f64::from(u8::from(raw != 0.0)),
            Int16 => raw.round().clamp(f64::from(i16::MIN), f64::from(i16::MAX)),
            Uint16 => raw.round().clamp(0.0, f64::from(u16::MAX)),
            Uint32(_) => raw.round().clamp(0.0, f64::from(u32::MAX)),
            Bcd32(_) => raw.round().clamp(0.0, 99_999_999.0),
            #[expect(clippy::cast_possible_truncation, reason = "single precision is what the register carries")]
            Float32(_) => f64::from(raw as f32),
        }
    }

    /// The registers that carry a raw number; a bit is one register of 0 or 1.
    #[must_use]
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "`raw` has been held inside the range")]
    pub(crate) fn registers(&self, raw: f64) -> Vec<u16> {
        match self.encoding {
            Bit | Uint16 => vec![raw as u16],
            Int16 => vec![(raw as i16).cast_unsigned()],
            Uint32(order) => ordered(raw as u32, order),
            Bcd32(order) => {
                let digits = (0..8).map(|place| (raw as u32 / 10_u32.pow(place) % 10) << (4 * place));
                ordered(digits.sum(), order)
            }
            Float32(order) => ordered((raw as f32).to_bits(), order),
        }
    }
}

fn ordered(bits: u32, order: Order) -> Vec<u16> {
    let [a, b, c, d] = bits.to_be_bytes();
    let word = |high, low| u16::from_be_bytes([high, low]);
    match order {
        Abcd => vec![word(a, b), word(c, d)],
        Cdab => vec![word(c, d), word(a, b)],
        Badc => vec![word(b, a), word(d, c)],
        Dcba => vec![word(d, c), word(b, a)],
    }
}

macro_rules! signals {
    ($($unit:literal $name:literal $table:ident $address:literal $encoding:expr, $scale:literal $eu:literal $title:literal
       $source:expr;)+) => {
        /// Every signal of the works that is reached over Modbus.
        pub const SIGNALS: &[Signal] = &[$(Signal {
            unit: $unit,
            name: $name,
            table: Table::$table,
            address: $address,
            encoding: $encoding,
            scale: $scale,
            engineering_unit: $eu,
            title: $title,
            source: $source,
        }),+];
    };
}

const fn one(works: &Works) -> &Digester {
    &works.digesters[0]
}

const fn two(works: &Works) -> &Digester {
    &works.digesters[1]
}

fn bit(is_set: bool) -> f64 {
    f64::from(u8::from(is_set))
}

/// What clients may write, and what it does.
type Setter = (u8, Table, u16, fn(&mut Works, u16));

/// Every address that takes writes.
pub(crate) const SETTERS: [Setter; 5] = [
    (1, Table::HoldingRegister, 0, |works, raw| works.digesters[0].temperature_set_point = f64::from(raw) * 0.1),
    (2, Table::HoldingRegister, 0, |works, raw| works.digesters[1].temperature_set_point = f64::from(raw) * 0.1),
    (1, Table::Coil, 0, |works, raw| works.digesters[0].switch_mixer(raw != 0)),
    (2, Table::Coil, 0, |works, raw| works.digesters[1].switch_mixer(raw != 0)),
    (3, Table::Coil, 2, |works, raw| works.analyser.purge(raw != 0)),
];

use Encoding::{Bcd32, Bit, Float32, Int16, Uint16, Uint32};
use Order::{Abcd, Badc, Cdab, Dcba};

signals! {
    1 "temperature" InputRegister 0 Int16, 0.1 "°C" "Temperature in the tank" |w| one(w).temperature;
    1 "ph" InputRegister 1 Uint16, 0.01 "pH" "Acidity" |w| one(w).ph;
    1 "level" InputRegister 2 Float32(Abcd), 1.0 "%" "Filling level" |w| one(w).level;
    1 "gas-flow" InputRegister 4 Float32(Cdab), 1.0 "m³/h" "Raw gas to the holder" |w| one(w).gas_flow;
    1 "gas-pressure" InputRegister 6 Int16, 0.1 "mbar" "Gas pressure under the roof" |w| one(w).gas_pressure;
    1 "feed-total" InputRegister 10 Uint32(Abcd), 1.0 "kg" "Feed since commissioning" |w| one(w).feed_total;
    1 "mixer-hours" InputRegister 12 Uint32(Cdab), 0.1 "h" "Running time of the mixer" |w| one(w).mixer_hours;
    1 "temperature-set-point" HoldingRegister 0 Uint16, 0.1 "°C" "Wanted temperature" |w| one(w).temperature_set_point;
    1 "feed-rate" HoldingRegister 100 Float32(Badc), 1.0 "kg/h" "Feed right now" |w| one(w).feed_rate;
    1 "mixer-speed" HoldingRegister 102 Float32(Dcba), 1.0 "rpm" "Speed of the mixer" |w| one(w).mixer_speed;
    1 "mixer" Coil 0 Bit, 1.0 "" "Mixer runs" |w| bit(one(w).is_mixing);
    1 "level-high" DiscreteInput 0 Bit, 1.0 "" "Level above 85 %" |w| bit(one(w).level > 85.0);
    1 "over-temperature" DiscreteInput 1 Bit, 1.0 "" "Temperature above 45 °C" |w| bit(one(w).temperature > 45.0);

    2 "temperature" InputRegister 0 Int16, 0.1 "°C" "Temperature in the tank" |w| two(w).temperature;
    2 "ph" InputRegister 1 Uint16, 0.01 "pH" "Acidity" |w| two(w).ph;
    2 "level" InputRegister 2 Float32(Abcd), 1.0 "%" "Filling level" |w| two(w).level;
    2 "gas-flow" InputRegister 4 Float32(Cdab), 1.0 "m³/h" "Raw gas to the holder" |w| two(w).gas_flow;
    2 "gas-pressure" InputRegister 6 Int16, 0.1 "mbar" "Gas pressure under the roof" |w| two(w).gas_pressure;
    2 "feed-total" InputRegister 10 Uint32(Abcd), 1.0 "kg" "Feed since commissioning" |w| two(w).feed_total;
    2 "mixer-hours" InputRegister 12 Uint32(Cdab), 0.1 "h" "Running time of the mixer" |w| two(w).mixer_hours;
    2 "temperature-set-point" HoldingRegister 0 Uint16, 0.1 "°C" "Wanted temperature" |w| two(w).temperature_set_point;
    2 "feed-rate" HoldingRegister 100 Float32(Badc), 1.0 "kg/h" "Feed right now" |w| two(w).feed_rate;
    2 "mixer-speed" HoldingRegister 102 Float32(Dcba), 1.0 "rpm" "Speed of the mixer" |w| two(w).mixer_speed;
    2 "mixer" Coil 0 Bit, 1.0 "" "Mixer runs" |w| bit(two(w).is_mixing);
    2 "level-high" DiscreteInput 0 Bit, 1.0 "" "Level above 85 %" |w| bit(two(w).level > 85.0);
    2 "over-temperature" DiscreteInput 1 Bit, 1.0 "" "Temperature above 45 °C" |w| bit(two(w).temperature > 45.0);

    3 "ch4" InputRegister 0 Uint16, 0.01 "%" "Methane in raw gas" |w| w.analyser.ch4;
    3 "co2" InputRegister 1 Uint16, 0.01 "%" "Carbon dioxide in raw gas" |w| w.analyser.co2;
    3 "h2s" InputRegister 2 Uint16, 1.0 "ppm" "Hydrogen sulphide in raw gas" |w| w.analyser.h2s;
    3 "o2" InputRegister 3 Uint16, 0.01 "%" "Oxygen in raw gas" |w| w.analyser.o2;
    3 "cooler-temperature" InputRegister 4 Int16, 0.1 "°C" "Temperature of the gas cooler" |w| w.analyser.cooler_temperature;
    3 "sample-flow" InputRegister 8 Float32(Cdab), 1.0 "l/h" "Gas through the cell" |w| w.analyser.sample_flow;
    3 "sample-point" InputRegister 10 Uint16, 1.0 "" "Where the gas comes from" |w| f64::from(w.analyser.sample_point);
    3 "operating-hours" InputRegister 30 Uint32(Abcd), 0.1 "h" "Operating time" |w| w.analyser.operating_hours;
    3 "purge" Coil 2 Bit, 1.0 "" "Purging with air" |w| bit(w.analyser.is_purging);
    3 "cooler-cold" DiscreteInput 0 Bit, 1.0 "" "Gas cooler is cold" |w| bit(w.analyser.cooler_temperature < 8.0);

    11 "flow-temperature" InputRegister 0 Int16, 0.1 "°C" "Flow temperature" |w| w.heat[0].flow_temperature;
    11 "return-temperature" InputRegister 1 Int16, 0.1 "°C" "Return temperature" |w| w.heat[0].return_temperature;
    11 "flow" InputRegister 2 Float32(Cdab), 1.0 "m³/h" "Flow" |w| w.heat[0].flow;
    11 "power" InputRegister 4 Float32(Cdab), 1.0 "kW" "Heat output" |w| w.heat[0].power;
    11 "energy" InputRegister 6 Uint32(Cdab), 1.0 "kWh" "Heat since commissioning" |w| w.heat[0].energy;

    12 "flow-temperature" InputRegister 0 Int16, 0.1 "°C" "Flow temperature" |w| w.heat[1].flow_temperature;
    12 "return-temperature" InputRegister 1 Int16, 0.1 "°C" "Return temperature" |w| w.heat[1].return_temperature;
    12 "flow" InputRegister 2 Float32(Cdab), 1.0 "m³/h" "Flow" |w| w.heat[1].flow;
    12 "power" InputRegister 4 Float32(Cdab), 1.0 "kW" "Heat output" |w| w.heat[1].power;
    12 "energy" InputRegister 6 Uint32(Cdab), 1.0 "kWh" "Heat since commissioning" |w| w.heat[1].energy;

    13 "volume" HoldingRegister 10 Bcd32(Abcd), 1.0 "m³" "Gas since commissioning" |w| w.gas_meter.volume;
    13 "flow" HoldingRegister 12 Float32(Badc), 1.0 "m³/h" "Gas flow" |w| w.gas_meter.flow;
    13 "pressure" HoldingRegister 14 Uint16, 0.1 "mbar" "Pressure" |w| w.gas_meter.pressure;
    13 "temperature" HoldingRegister 15 Int16, 0.1 "°C" "Gas temperature" |w| w.gas_meter.temperature;
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn no_two_signals_share_a_register_or_a_name() {
        let works = Works::new(1);
        let (mut places, mut names) = (HashSet::new(), HashSet::new());
        for signal in SIGNALS {
            assert!(names.insert((signal.unit, signal.name)), "{}", signal.name);
            for register in 0..signal.registers(signal.raw(&works)).len() {
                let address = signal.address + u16::try_from(register).unwrap();
                assert!(places.insert((signal.unit, signal.table, address)), "{} {}", signal.device(), signal.name);
            }
        }
    }

    #[test]
    fn orders_move_the_bytes_as_their_names_say() {
        assert_eq!(ordered(0x0102_0304, Abcd), [0x0102, 0x0304]);
        assert_eq!(ordered(0x0102_0304, Cdab), [0x0304, 0x0102]);
        assert_eq!(ordered(0x0102_0304, Badc), [0x0201, 0x0403]);
        assert_eq!(ordered(0x0102_0304, Dcba), [0x0403, 0x0201]);
    }
}
