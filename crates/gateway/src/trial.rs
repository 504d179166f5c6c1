use crate::gateway::Running;
use crate::link::LinkCommand;
use crate::modbus::Reader;
use interlex_core::description::{Address, Device, DeviceProtocol, Link, LinkProtocol, ModbusTcpLink, Point};
use interlex_core::{PointIndex, Shaping, Value};
use interlex_modbus::{ClientConfig, ReadData, ReadRequest, TcpClient};
use serde::Serialize;
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::time::Instant;

/// A read done once, now, of a point that need not be described anywhere.
#[derive(Debug, Clone)]
pub struct TrialRead {
    /// How to get there.
    pub link: Link,
    /// Whom to ask.
    pub device: Device,
    /// What for.
    pub point: Point,
}

/// What a trial brought.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TrialReading {
    /// The address, in its canonical form.
    pub address: String,
    /// The registers or bits as they came.
    pub registers: Vec<u16>,
    /// The value before shaping; `null` when the registers do not make one.
    #[schema(value_type = serde_json::Value)]
    pub raw: Option<Value>,
    /// The engineering value.
    #[schema(value_type = serde_json::Value)]
    pub value: Option<Value>,
    /// Its unit.
    pub unit: String,
    /// How long the answer took, in milliseconds.
    pub answer_ms: f64,
    /// Whether it went over a connection that was open for the running gateway.
    pub shared_connection: bool,
}

/// Why a trial brought nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TrialError {
    /// The address cannot be read as described.
    #[error("{0}")]
    Request(String),
    /// Nobody is there.
    #[error("cannot connect to {target}: {why}")]
    Connect {
        /// Host and port.
        target: String,
        /// What the network said.
        why: String,
    },
    /// The device did not give what it was asked for.
    #[error("unit {unit}: {why}")]
    Device {
        /// The unit.
        unit: u8,
        /// What it said instead, or that it said nothing.
        why: String,
    },
}

/// A link that is busy with a slow device answers within this, or the trial is given up.
const PATIENCE: Duration = Duration::from_secs(10);

impl TrialRead {
    /// Reads. When the running gateway has an open connection to the same address, the request goes over it, ahead of
    /// the polls: many devices take one connection only.
    ///
    /// # Errors
    /// [`TrialError`]
    pub async fn run(&self, running: Option<&Running>) -> Result<TrialReading, TrialError> {
        let LinkProtocol::ModbusTcp(link) = &self.link.protocol;
        let DeviceProtocol::Modbus(device) = &self.device.protocol;
        let Address::Modbus(address) = self.point.address;
        let request = crate::modbus::request(address, self.point.settings.data_type).map_err(TrialError::Request)?;
        let target = self.link.protocol.target();
        let commands = running.and_then(|running| running.link_to(&target));
        let started = Instant::now();
        let data = match commands {
            Some(commands) => {
                let (answer, answered) = oneshot::channel();
                let lost = |why: &str| TrialError::Connect { target: target.clone(), why: why.to_owned() };
                let command = LinkCommand { unit: device.unit, request, answer };
                commands.try_send(command).map_err(|_| lost("the link has too much to do; try again"))?;
                let waited = tokio::time::timeout(PATIENCE, answered).await;
                let outcome =
                    waited.map_err(|_| lost("the link is busy"))?.map_err(|_| lost("the link was stopped"))?;
                outcome.map_err(|why| TrialError::Device { unit: device.unit, why })?
            }
            None => read_alone(link, device.unit, request, &target).await?,
        };
        let answer_ms = started.elapsed().as_secs_f64() * 1000.0;
        Ok(self.reading(&data, answer_ms, commands.is_some()))
    }

    fn reading(&self, data: &ReadData, answer_ms: f64, shared_connection: bool) -> TrialReading {
        let settings = &self.point.settings;
        let raw = Reader::new(PointIndex(0), &self.point).value_of(data);
        let shaping = Shaping::linear(settings.scale, settings.offset);
        let registers = match data {
            ReadData::Registers(registers) => registers.clone(),
            ReadData::Bits(bits) => bits.iter().map(|bit| u16::from(*bit)).collect(),
        };
        TrialReading {
            address: self.point.address.to_string(),
            registers,
            value: raw.as_ref().map(|raw| shaping.apply(raw)),
            raw,
            unit: settings.unit.clone(),
            answer_ms,
            shared_connection,
        }
    }
}

async fn read_alone(
    link: &ModbusTcpLink,
    unit: u8,
    request: ReadRequest,
    target: &str,
) -> Result<ReadData, TrialError> {
    let mut config = ClientConfig::default();
    config.response_timeout = link.timeout.into();
    let connecting = TcpClient::connect(&link.host, link.port, link.connect_timeout.into(), config);
    let failed = |error: std::io::Error| TrialError::Connect { target: target.to_owned(), why: error.to_string() };
    let mut client = connecting.await.map_err(failed)?;
    client.read(unit, request).await.map_err(|error| TrialError::Device { unit, why: error.to_string() })
}
