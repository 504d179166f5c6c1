//! Modbus TCP devices for the suite.

use crate::line::Line;
use crate::suite::{Field, Writes};
use interlex_core::description::{Description, Files, read};
use interlex_modbus::{ExceptionCode, ReadData, Refusal, Request, Response, Table, Units, WriteRequest, serve};
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use tokio::net::TcpListener;
use tokio_util::sync::{CancellationToken, DropGuard};

pub(crate) struct ModbusField {
    units: Arc<Behaviour>,
    line: Line,
    _stop: DropGuard,
}

#[derive(Default)]
struct Behaviour {
    units: Mutex<HashMap<u8, Unit>>,
}

#[derive(Default)]
struct Unit {
    told: u64,
    set_point: u16,
    written: Vec<u64>,
    is_silent: bool,
    writes: Option<Writes>,
}

/// `one` is unit 1, `two` is unit 2.
fn unit_of(device: &str) -> u8 {
    if device == "one" { 1 } else { 2 }
}

impl Units for Behaviour {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        let mut units = self.units.lock().unwrap();
        let unit = units.entry(unit).or_default();
        if unit.is_silent {
            return Err(Refusal::Silence);
        }
        match request {
            Request::Read(read) if read.table() == Table::InputRegister => {
                let told = unit.told;
                unit.told += 1;
                let words = [u16::try_from(told >> 16).unwrap(), u16::try_from(told & 0xFFFF).unwrap(), 7, 7];
                let range = usize::from(read.address())..usize::from(read.address() + read.quantity());
                Ok(Response::Data(ReadData::Registers(words[range].to_vec())))
            }
            Request::Read(_) => Ok(Response::Data(ReadData::Registers(vec![unit.set_point]))),
            Request::Write(write) => unit.write(write),
            _ => Err(ExceptionCode::ILLEGAL_FUNCTION.into()),
        }
    }
}

impl Unit {
    fn write(&mut self, write: &WriteRequest) -> Result<Response, Refusal> {
        let interlex_modbus::Written::Register(value) = write.written() else {
            return Err(ExceptionCode::ILLEGAL_FUNCTION.into());
        };
        match self.writes.unwrap_or(Writes::Takes) {
            Writes::Refuses => return Err(ExceptionCode::SERVER_DEVICE_BUSY.into()),
            Writes::Ignores => return Ok(Response::Written),
            Writes::Takes | Writes::Swallows => {}
        }
        self.set_point = *value;
        self.written.push((*value).into());
        if self.writes == Some(Writes::Swallows) { Err(Refusal::Silence) } else { Ok(Response::Written) }
    }
}

impl ModbusField {
    fn with<T>(&self, device: &str, act: impl FnOnce(&mut Unit) -> T) -> T {
        act(self.units.units.lock().unwrap().entry(unit_of(device)).or_default())
    }
}

impl Field for ModbusField {
    async fn start() -> Self {
        let listener = TcpListener::bind((interlex_sidecar::own_address(), 0)).await.unwrap();
        let (behind, units, stop) =
            (listener.local_addr().unwrap(), Arc::<Behaviour>::default(), CancellationToken::new());
        tokio::spawn(serve(listener, Arc::clone(&units) as Arc<dyn Units>, stop.clone()));
        // Valid frames that answer nothing.
        let line = Line::new(behind, &[0xFF, 0xFF, 0, 0, 0, 5, 1, 3, 2, 0x12, 0x34]);
        line.connect(false).await;
        Self { units, line, _stop: stop.drop_guard() }
    }

    fn description(&self, devices: &[&str], with_more: &[&str]) -> Description {
        let mut main = format!(
            "[gateway]\nname = \"g\"\n[rates]\nfast = \"10ms\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \"{}\"\nport = {}\n\
             timeout = \"200ms\"\nreconnect-limit = \"50ms\"\n",
            self.line.address.ip(),
            self.line.address.port()
        );
        let mut files = Files::new();
        for device in devices {
            let unit = unit_of(device);
            main.push_str(&format!("[[device]]\nname = \"{device}\"\nlink = \"bus\"\nunit = {unit}\nretries = 0\n"));
            let more = if with_more.contains(device) { "more,input:2,uint16,fast,read\n" } else { "" };
            let list = format!(
                "name,address,type,rate,access\ncount,input:0,uint32,fast,read\nset-point,holding:0,uint16,fast,read-write\n{more}"
            );
            files.insert(format!("points/{device}.csv"), list);
        }
        files.insert("gateway.toml".to_owned(), main);
        read(&files).unwrap()
    }

    fn told(&self, device: &str) -> u64 {
        self.with(device, |unit| unit.told)
    }

    fn silence(&self, device: &str, is_silent: bool) {
        self.with(device, |unit| unit.is_silent = is_silent);
    }

    fn takes_writes(&self, device: &str, how: Writes) {
        self.with(device, |unit| unit.writes = Some(how));
    }

    fn written(&self, device: &str) -> Vec<u64> {
        self.with(device, |unit| unit.written.clone())
    }

    fn cut(&self) {
        self.line.cut();
    }

    async fn mend(&self) {
        self.line.connect(false).await;
    }

    async fn flood(&self, is_flooding: bool) {
        self.line.connect(is_flooding).await;
    }
}
