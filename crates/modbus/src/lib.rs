//! Modbus client and server: codec, state machines without I/O, and thin tokio drivers.
