//! What is described of Modbus: links, devices, addresses, which requests read a device, and what a line carries.

mod address;
mod device;
mod link;
mod load;
mod planned;

pub use address::{ModbusAddress, ModbusTable, ParseModbusAddressError};
pub use device::{BitWrites, Holes, ModbusDevice, ParseHolesError, WriteFunctions};
pub use link::{ModbusSerialLink, ModbusTcpLink, SerialParity};
pub(super) use load::load_fault;
pub use load::{LineLoad, line_load};
pub use planned::{PlannedRequest, planned, units};
