use crate::signals::SETTERS;
use crate::{SIGNALS, UNITS, Works};
use interlex_modbus::{
    DiagnosticRequest, ExceptionCode, ReadData, ReadRequest, Refusal, Request, Response, Table, WriteRequest, Written,
};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;

/// What can go wrong with a unit at will.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// It answers nothing.
    Silent,
    /// It refuses its first input register.
    WrongRegister,
    /// It takes 0.4 s for each answer.
    Slow,
    /// Its sensors are fifty times as loud as usual (the gas analyser only).
    NoisySensor,
}

/// The works behind the Modbus server.
#[derive(Debug)]
pub(crate) struct Field {
    state: Mutex<State>,
}

#[derive(Debug)]
struct State {
    works: Works,
    is_running: bool,
    registers: HashMap<(u8, Table, u16), u16>,
    faults: BTreeSet<(u8, Fault)>,
}

impl Field {
    pub(crate) fn new(seed: u64) -> Self {
        let mut state =
            State { works: Works::new(seed), is_running: true, registers: HashMap::new(), faults: BTreeSet::new() };
        state.write_registers();
        Self { state: Mutex::new(state) }
    }

    /// Moves the model on, unless it is frozen.
    pub(crate) fn step(&self, dt: f64) {
        let mut state = self.state.lock();
        if state.is_running {
            let is_noisy = state.faults.iter().any(|(_, fault)| *fault == Fault::NoisySensor);
            state.works.noise = if is_noisy { 50.0 } else { 1.0 };
            state.works.step(dt);
            state.write_registers();
        }
    }

    pub(crate) fn set_running(&self, is_running: bool) {
        self.state.lock().is_running = is_running;
    }

    /// Switches a fault; `false` when there is no such unit.
    pub(crate) fn set_fault(&self, device: &str, fault: Fault, is_on: bool) -> bool {
        let Some((unit, _)) = UNITS.iter().find(|(_, name)| *name == device) else { return false };
        let mut state = self.state.lock();
        if is_on {
            state.faults.insert((*unit, fault));
        } else {
            state.faults.remove(&(*unit, fault));
        }
        true
    }

    /// The engineering values that the registers say right now, by device and signal.
    pub(crate) fn truth(&self) -> BTreeMap<&'static str, BTreeMap<&'static str, f64>> {
        let state = self.state.lock();
        let mut truth: BTreeMap<_, BTreeMap<_, _>> = BTreeMap::new();
        for signal in SIGNALS {
            let value = signal.raw(&state.works) * signal.scale;
            truth.entry(signal.device()).or_default().insert(signal.name, value);
        }
        truth
    }
}

impl State {
    fn write_registers(&mut self) {
        for signal in SIGNALS {
            let registers = signal.registers(signal.raw(&self.works));
            for (address, register) in (signal.address..).zip(registers) {
                self.registers.insert((signal.unit, signal.table, address), register);
            }
        }
    }
}

/// How long the second heat meter takes for each answer, and how long a unit takes that has become slow.
const SLOW: [Duration; 2] = [Duration::from_millis(120), Duration::from_millis(400)];

/// Where units are reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Side {
    Network,
    Line,
}

/// The units of one side.
#[derive(Debug)]
pub(crate) struct Units {
    pub(crate) field: Arc<Field>,
    pub(crate) side: Side,
}

impl interlex_modbus::Units for Units {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        let mut state = self.field.state.lock();
        if state.faults.contains(&(unit, Fault::Silent)) {
            return Err(Refusal::Silence);
        }
        let name = UNITS.iter().find(|(known, _)| *known == unit && (unit > 10) == (self.side == Side::Line));
        let Some((_, name)) = name else {
            // A gateway says that nobody is there; on a line nobody says anything.
            return Err(match self.side {
                Side::Network => ExceptionCode::GATEWAY_TARGET_NO_RESPONSE.into(),
                Side::Line => Refusal::Silence,
            });
        };
        match request {
            Request::Read(request) => state.read(unit, *request).map(Response::Data),
            Request::Write(request) => state.write(unit, request).map(|()| Response::Written),
            Request::ReadWrite(request) => {
                let (address, registers) = request.written();
                state.set_all(unit, Table::HoldingRegister, address, registers)?;
                state.read(unit, request.read()).map(Response::Data)
            }
            Request::Identify(request) => {
                let all = [(0, "Alderfen Instruments"), (1, *name), (2, "V1.4"), (4, "Part of the simulated works")];
                Ok(Response::Identification(request.pick(0x82, &all)?))
            }
            Request::Diagnostic(request) if request.sub_function == DiagnosticRequest::RETURN_QUERY_DATA => {
                Ok(Response::Diagnostic(request.data))
            }
            Request::Diagnostic(_) => Err(ExceptionCode::ILLEGAL_FUNCTION.into()),
        }
    }

    fn delay(&self, unit: u8) -> Duration {
        let is_slow = self.field.state.lock().faults.contains(&(unit, Fault::Slow));
        let [usual, slow] = SLOW;
        match unit {
            _ if is_slow => slow,
            12 => usual,
            _ => Duration::ZERO,
        }
    }
}

impl State {
    fn read(&self, unit: u8, request: ReadRequest) -> Result<ReadData, Refusal> {
        let is_wrong = self.faults.contains(&(unit, Fault::WrongRegister));
        if is_wrong && request.table() == Table::InputRegister && request.address() == 0 {
            return Err(ExceptionCode::ILLEGAL_DATA_ADDRESS.into());
        }
        let address = |offset| request.address().checked_add(offset);
        let registers = (0..request.quantity())
            .map(|offset| self.registers.get(&(unit, request.table(), address(offset)?)).copied())
            .collect::<Option<Vec<u16>>>()
            .ok_or(ExceptionCode::ILLEGAL_DATA_ADDRESS)?;
        Ok(match request.table().is_bits() {
            true => ReadData::Bits(registers.into_iter().map(|bit| bit != 0).collect()),
            false => ReadData::Registers(registers),
        })
    }

    fn write(&mut self, unit: u8, request: &WriteRequest) -> Result<(), Refusal> {
        let address = request.address();
        let bits = |bits: &[bool]| bits.iter().map(|bit| u16::from(*bit)).collect::<Vec<_>>();
        match request.written() {
            Written::Coil(bit) => self.set_all(unit, Table::Coil, address, &bits(&[*bit])),
            Written::Coils(coils) => self.set_all(unit, Table::Coil, address, &bits(coils)),
            Written::Register(register) => self.set_all(unit, Table::HoldingRegister, address, &[*register]),
            Written::Registers(registers) => self.set_all(unit, Table::HoldingRegister, address, registers),
            Written::Mask { and, or } => {
                let key = (unit, Table::HoldingRegister, address);
                let before = *self.registers.get(&key).ok_or(ExceptionCode::ILLEGAL_DATA_ADDRESS)?;
                self.set_all(unit, Table::HoldingRegister, address, &[before & and | or & !and])
            }
        }
    }

    /// All of them, or none.
    fn set_all(&mut self, unit: u8, table: Table, address: u16, values: &[u16]) -> Result<(), Refusal> {
        let setter = |address| {
            let found = SETTERS.iter().find(|(u, t, a, _)| (*u, *t, *a) == (unit, table, address));
            found.map(|(.., set)| *set).ok_or(Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS))
        };
        let sets = (address..=u16::MAX).zip(values).map(|(address, value)| Ok((setter(address)?, *value)));
        for (set, value) in sets.collect::<Result<Vec<_>, Refusal>>()? {
            set(&mut self.works, value);
        }
        self.write_registers();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_modbus::Units as _;

    #[test]
    fn what_is_written_moves_the_works_and_the_rest_is_refused() {
        let units = Units { field: Arc::new(Field::new(1)), side: Side::Network };
        let write = |unit, address, written| units.answer(unit, &WriteRequest::new(address, written).unwrap().into());
        assert_eq!(write(1, 0, Written::Register(425)), Ok(Response::Written));
        assert_eq!(write(1, 0, Written::Mask { and: 0xFFFE, or: 0 }), Ok(Response::Written));
        assert_eq!(write(2, 0, Written::Coil(false)), Ok(Response::Written));
        let refused = Err(Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS));
        assert_eq!(write(1, 0, Written::Registers(vec![1, 2])), refused, "all or nothing");
        assert_eq!(write(1, 100, Written::Register(1)), refused, "read only");
        let truth = units.field.truth();
        assert!((truth["digester-1"]["temperature-set-point"] - 42.4).abs() < 1e-9);
        assert_eq!(truth["digester-2"]["mixer"], 0.0);
        units.field.step(1.0);
        assert_eq!(units.field.truth()["digester-2"]["mixer"], 0.0, "its own cycle stands back");
        let line = Units { field: Arc::clone(&units.field), side: Side::Line };
        let read = ReadRequest::new(Table::InputRegister, 0, 1).unwrap().into();
        assert_eq!(line.answer(1, &read), Err(Refusal::Silence), "not on this side");
        assert!(line.answer(11, &read).is_ok() && line.delay(12) > line.delay(11));
    }
}
