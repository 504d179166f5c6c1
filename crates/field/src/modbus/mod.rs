//! Modbus devices: what is asked when, how values are read and written, what devices tell of themselves.

mod activity;
mod connect;
mod discovery;
mod driver;
mod errand;
mod frames;
mod mapping;
mod owed;
mod poll;
mod polling;
#[cfg(test)]
mod schedule_tests;
mod unit;
mod words;
mod writing;

pub(crate) use discovery::{Discovery, discovery, sources};
pub(crate) use driver::ModbusDriver;
pub(crate) use words::of as words;
