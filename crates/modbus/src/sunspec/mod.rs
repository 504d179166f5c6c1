//! SunSpec information models over Modbus: finds the marker, walks the chain of models, and tells which points a device
//! has, where, in which unit and under which scale factor.
//!
//! Source: *SunSpec Device Information Model Specification V1.1*, sections 6.2 (SunS identifier), 6.3 (chain of models)
//! and 6.5 (types and values of what is not implemented). The table of models, `models.tsv`, is made from the model
//! definitions that the SunSpec Alliance publishes under the Apache License 2.0.
//!
//! ```text
//!            next_request()                    answer()
//!   Walk ───────────────────▶ read of registers ─────────▶ Walk … until None ──▶ found()
//! ```

mod table;

use crate::{ReadRequest, Table};
use table::{Row, rows_of};

/// Where a device may begin: the preferred place first.
const BASES: [u16; 3] = [40_000, 0, 50_000];
/// "SunS".
const MARKER: [u16; 2] = [0x5375, 0x6E53];
/// The id of the model that ends the chain.
const END: u16 = 0xFFFF;
/// More than any device has; a chain that goes on longer is none.
const MOST_MODELS: usize = 128;

/// A walk over the models of one device, without I/O.
///
/// ```
/// use interlex_modbus::SunSpecWalk;
///
/// // A device with its marker at 40,000 and a model that nobody knows, of one register.
/// let memory = |address: u16| [0x5375, 0x6E53, 65_000, 1, 7, 0xFFFF, 0].get(usize::from(address) - 40_000).copied();
/// let mut walk = SunSpecWalk::new();
/// while let Some(read) = walk.next_request() {
///     let registers: Option<Vec<u16>> = (0..read.quantity()).map(|offset| memory(read.address() + offset)).collect();
///     walk.answer(registers.as_deref());
/// }
/// let device = walk.found().expect("a marker");
/// assert_eq!((device.base, device.models.len(), device.models[0].id), (40_000, 1, 65_000));
/// ```
#[derive(Debug)]
pub struct SunSpecWalk {
    state: State,
    base: Option<u16>,
    models: Vec<SunSpecModel>,
}

#[derive(Debug)]
enum State {
    /// The marker is looked for at one of the places.
    Marker(usize),
    /// The id and length of a model are read.
    Header(u16),
    /// The registers of a model are read, as many as one request takes at a time.
    Body {
        id: u16,
        address: u16,
        length: u16,
        registers: Vec<u16>,
    },
    Over,
}

/// What a device has.
#[derive(Debug, Clone, PartialEq)]
pub struct SunSpecDevice {
    /// The address of the marker.
    pub base: u16,
    /// Its models, in the order of their addresses.
    pub models: Vec<SunSpecModel>,
}

/// One model of a device.
#[derive(Debug, Clone, PartialEq)]
pub struct SunSpecModel {
    /// Its number in the standard.
    pub id: u16,
    /// What the standard calls it; none for models that are not known here.
    pub title: Option<&'static str>,
    /// The address of its id.
    pub address: u16,
    /// How many registers follow its length.
    pub length: u16,
    /// The points that the device has of it.
    pub points: Vec<SunSpecPoint>,
}

/// One point of a model.
#[derive(Debug, Clone, PartialEq)]
pub struct SunSpecPoint {
    /// Its name in the standard.
    pub name: &'static str,
    /// What it is.
    pub label: &'static str,
    /// The address of its first register, zero-based.
    pub address: u16,
    /// How many registers it takes.
    pub size: u16,
    /// Its type in the standard, such as `acc32` or `enum16`.
    pub kind: &'static str,
    /// Its unit; empty where it has none.
    pub unit: &'static str,
    /// The power of ten that it is multiplied with, as the device says it now.
    pub scale_factor: i16,
    /// Words of its numbers: `1=off;2=sleeping`; empty where it has none.
    pub words: &'static str,
    /// What its registers held.
    pub registers: Vec<u16>,
}

impl Default for SunSpecWalk {
    fn default() -> Self {
        Self::new()
    }
}

impl SunSpecWalk {
    /// A walk that has not begun.
    #[must_use]
    pub const fn new() -> Self {
        Self { state: State::Marker(0), base: None, models: Vec::new() }
    }

    /// What to read next; `None` when the walk is over. Tell what came of it by [`SunSpecWalk::answer`].
    #[must_use]
    pub fn next_request(&self) -> Option<ReadRequest> {
        let (address, quantity) = match &self.state {
            State::Marker(at) => (*BASES.get(*at)?, 2),
            State::Header(address) => (*address, 2),
            State::Body { address, length, registers, .. } => {
                let had = u16::try_from(registers.len()).ok()?;
                let left = length.checked_sub(had)?;
                (address.checked_add(2)?.checked_add(had)?, left.min(Table::HoldingRegister.max_quantity()))
            }
            State::Over => return None,
        };
        ReadRequest::new(Table::HoldingRegister, address, quantity).ok()
    }

    /// Takes in the registers that came, or `None` when the device refused or was silent.
    pub fn answer(&mut self, came: Option<&[u16]>) {
        self.state = match (std::mem::replace(&mut self.state, State::Over), came) {
            (State::Marker(at), Some(registers)) if registers == MARKER => {
                self.base = BASES.get(at).copied();
                self.base.and_then(|base| base.checked_add(2)).map_or(State::Over, State::Header)
            }
            (State::Marker(at), _) if at + 1 < BASES.len() => State::Marker(at + 1),
            (State::Header(address), Some([id, length])) if *id != END && self.models.len() < MOST_MODELS => {
                self.body(State::Body { id: *id, address, length: *length, registers: Vec::new() })
            }
            (State::Body { id, address, length, mut registers }, Some(more)) if !more.is_empty() => {
                registers.extend_from_slice(more);
                self.body(State::Body { id, address, length, registers })
            }
            _ => State::Over,
        };
    }

    /// The state after some registers of a model: more of them, or the next model.
    fn body(&mut self, state: State) -> State {
        let State::Body { id, address, length, registers } = &state else { return state };
        if registers.len() < usize::from(*length) {
            return state;
        }
        let rows = rows_of(*id);
        self.models.push(SunSpecModel {
            id: *id,
            title: rows.first().map(|row| row.title),
            address: *address,
            length: *length,
            points: points(rows, address.saturating_add(2), registers),
        });
        let next = address.checked_add(2).and_then(|start| start.checked_add(*length));
        next.map_or(State::Over, State::Header)
    }

    /// What was found; `None` when there is no marker.
    #[must_use]
    pub fn found(self) -> Option<SunSpecDevice> {
        Some(SunSpecDevice { base: self.base?, models: self.models })
    }
}

/// The points that registers of a model hold: those that the device has implemented.
fn points(rows: &'static [Row], start: u16, registers: &[u16]) -> Vec<SunSpecPoint> {
    let places = rows.iter().scan(0, |offset, row| {
        let own = *offset;
        *offset += usize::from(row.size);
        Some((own, row))
    });
    let places: Vec<_> = places.collect();
    let of = |(offset, row): &(usize, &'static Row)| registers.get(*offset..offset + usize::from(row.size));
    let factor = |wanted: &str| {
        if let Ok(fixed) = wanted.parse::<i16>() {
            return fixed;
        }
        let place = places.iter().find(|(_, row)| row.name == wanted && row.kind == "sunssf");
        let register = place.and_then(of).and_then(<[u16]>::first);
        register.map(|register| register.cast_signed()).filter(|factor| (-10..=10).contains(factor)).unwrap_or(0)
    };
    let point = |place: &(usize, &'static Row)| {
        let (offset, row) = place;
        let has_value = !matches!(row.kind, "sunssf" | "pad") && is_implemented(row.kind, of(place)?);
        has_value.then_some(SunSpecPoint {
            name: row.name,
            label: row.label,
            address: start.checked_add(u16::try_from(*offset).ok()?)?,
            size: row.size,
            kind: row.kind,
            unit: row.unit,
            scale_factor: factor(row.scale_factor),
            words: row.words,
            registers: of(place)?.to_vec(),
        })
    };
    places.iter().filter_map(point).collect()
}

/// Whether registers hold something else than what stands for "not implemented".
fn is_implemented(kind: &str, registers: &[u16]) -> bool {
    match kind {
        "int16" => registers != [0x8000],
        "int32" => registers != [0x8000, 0],
        "string" => registers.iter().any(|register| *register != 0),
        "float32" => {
            !matches!(registers, [high, low] if f32::from_bits(u32::from(*high) << 16 | u32::from(*low)).is_nan())
        }
        // Counters that have not counted yet are told all the same.
        "acc32" | "acc64" => true,
        _ => registers.iter().any(|register| *register != 0xFFFF),
    }
}

#[cfg(test)]
mod tests;
