use crate::{SIGNALS, UNITS, Works};
use interlex_modbus::{ExceptionCode, ReadData, ReadRequest, Refusal, Table, Units};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What can go wrong with a unit at will.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// It answers nothing.
    Silent,
    /// It refuses its first input register.
    WrongRegister,
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

impl Units for Field {
    fn read(&self, unit: u8, request: ReadRequest) -> Result<ReadData, Refusal> {
        let state = self.state.lock();
        let has = |fault| state.faults.contains(&(unit, fault));
        if has(Fault::Silent) {
            return Err(Refusal::Silence);
        }
        if !UNITS.iter().any(|(known, _)| *known == unit) {
            return Err(Refusal::Exception(ExceptionCode::GATEWAY_TARGET_NO_RESPONSE));
        }
        if has(Fault::WrongRegister) && request.table() == Table::InputRegister && request.address() == 0 {
            return Err(Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS));
        }
        let registers = (0..request.quantity())
            .map(|offset| state.registers.get(&(unit, request.table(), request.address() + offset)).copied())
            .collect::<Option<Vec<u16>>>()
            .ok_or(Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS))?;
        Ok(if request.table().is_bits() {
            ReadData::Bits(registers.into_iter().map(|bit| bit != 0).collect())
        } else {
            ReadData::Registers(registers)
        })
    }
}
