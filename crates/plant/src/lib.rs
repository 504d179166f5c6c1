//! The simulated field of the Alderfen biogas works.
//!
//! Two digesters and a gas analyser answer Modbus TCP as units 1 to 3 of one server; two heat meters and a gas meter
//! answer Modbus RTU as units 11 to 13 of a serial line, the second heat meter slowly. Their values follow a small
//! physical model, so that trends look right; a seed makes every run the same. A control interface over HTTP tells
//! the truth that the registers are made from, freezes the model, and switches faults. The engine's controller is an OPC UA server, and the grid connection a
//! DNP3 outstation: when its breaker opens, the engine trips.
//!
//! ```text
//! Works (model) ──step──▶ SIGNALS (one row a register) ──▶ Modbus TCP units ◀── gateway
//!                                  └──▶ control: GET /truth, /map · PUT /running, /faults/DEVICE/FAULT
//! Engine (model) ──step──▶ nodes ──▶ OPC UA server ◀── gateway
//! Grid (model) ──step──▶ points ──▶ DNP3 outstation ◀── gateway
//! ```

mod control;
mod engine;
mod grid;
mod heating;
mod line;
mod run;
mod signals;
mod units;
mod works;

pub use engine::{Engine, EngineConfig, EngineFault, EngineState};
pub use line::SerialLine;
pub use run::{Plant, PlantConfig, PlantError};
pub use signals::{Encoding, Order, SIGNALS, Signal, UNITS};
pub use units::Fault;
pub use works::Works;
