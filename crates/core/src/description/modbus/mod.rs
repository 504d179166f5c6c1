//! What is described of Modbus: links, devices, addresses, which requests read a device, and what a line carries.

mod address;
mod device;
mod link;
mod load;
mod planned;
mod point;

pub use address::{ModbusAddress, ModbusTable, ParseModbusAddressError};
pub(super) use device::shared_units;
pub use device::{BitWrites, Holes, ModbusDevice, ParseHolesError, WriteFunctions};
pub use link::{ModbusLink, ModbusSerialLink, ModbusTcpLink, ModbusTiming, SerialParity};
pub(super) use load::load_fault;
pub use load::{LineLoad, line_load};
pub use planned::{PlannedRequest, planned, units};
pub use point::ModbusPoint;
pub(super) use point::{clashes, point};
