use super::mapping::{Reader, request, table};
use super::one_off::{Exchange, OneOff, Via};
use crate::error::TrialError;
use crate::link::FrameView;
use interlex_core::description::{Address, Device, DeviceProtocol, Link, ModbusAddress, ModbusTable, Point};
use interlex_core::{ByteOrder, Interpretation, PointIndex, Value, interpretations};
use interlex_modbus::{ReadData, ReadRequest, Response};
use serde::Serialize;

/// A read done once, now, of a point that need not be described anywhere.
#[derive(Debug, Clone)]
pub struct TrialRead {
    /// How to get there.
    pub link: Link,
    /// Whom to ask.
    pub device: Device,
    /// What for.
    pub point: Point,
    /// Whether the neighbours are read too, so that every plausible type and order can be looked at side by side.
    pub neighbours: bool,
    /// The value that the device's own display shows.
    pub expected: Option<f64>,
}

/// What the registers would say as another type, in another order, or one address off.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TrialAlternative {
    /// The address.
    pub address: String,
    /// The type.
    #[serde(rename = "type")]
    pub data_type: String,
    /// The byte order; none for a single register in its usual order.
    pub order: Option<&'static str>,
    /// The value before shaping.
    #[schema(value_type = serde_json::Value)]
    pub value: Value,
    /// The scale under which it is the expected value.
    pub scale: Option<f64>,
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
    /// The frames sent and received.
    pub frames: Vec<FrameView>,
    /// Every plausible type and order side by side, when it was asked for; those near the expected value first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub alternatives: Vec<TrialAlternative>,
}

impl TrialRead {
    /// Reads. When the running gateway has an open connection to the same address, the request goes over it, ahead of
    /// the polls: many devices take one connection only.
    ///
    /// # Errors
    /// [`TrialError`]
    pub async fn run(&self, via: &Via) -> Result<TrialReading, TrialError> {
        let Address::Modbus(address) = self.point.address;
        let DeviceProtocol::Modbus(device) = &self.device.protocol;
        let read = request(address, self.point.settings.data_type).map_err(TrialError::Request)?;
        let mut line = OneOff::open(&self.link, via).await?;
        let (response, exchange) = line.call(device.unit, read.into(), None).await?;
        let Response::Data(data) = response else {
            return Err(TrialError::Request("the device answered something else".to_owned()));
        };
        let mut reading = self.reading(&data, exchange, line.is_shared());
        if self.neighbours && !address.table.is_bits() {
            reading.alternatives = self.alternatives(&mut line, device.unit, address).await;
        }
        Ok(reading)
    }

    /// Reads as much around an address as the device gives: one register before it, and as many as the longest number
    /// takes. Where a device refuses, it is asked for less.
    async fn alternatives(&self, line: &mut OneOff, unit: u8, address: ModbusAddress) -> Vec<TrialAlternative> {
        let before = address.number.checked_sub(1);
        let windows = [(before, 6), (before, 3), (Some(address.number), 4), (Some(address.number), 2)];
        for (first, count) in windows.into_iter().filter_map(|(first, count)| Some((first?, count))) {
            let Ok(request) = ReadRequest::new(table(address.table), first, count) else { continue };
            let answer = line.call(unit, request.into(), None).await;
            if let Ok((Response::Data(ReadData::Registers(registers)), _)) = answer {
                let told = interpretations(&registers, self.expected).into_iter();
                return told.map(|one| alternative(address.table, first, one)).collect();
            }
        }
        Vec::new()
    }

    fn reading(&self, data: &ReadData, exchange: Exchange, shared_connection: bool) -> TrialReading {
        let settings = &self.point.settings;
        let raw = Reader::new(PointIndex(0), &self.point).value_of(data);
        let registers = match data {
            ReadData::Registers(registers) => registers.clone(),
            ReadData::Bits(bits) => bits.iter().map(|bit| u16::from(*bit)).collect(),
        };
        TrialReading {
            address: self.point.address.to_string(),
            registers,
            value: raw.as_ref().map(|raw| self.point.shaping.apply(raw)),
            raw,
            unit: settings.unit.clone(),
            answer_ms: exchange.milliseconds(),
            shared_connection,
            frames: exchange.frames,
            alternatives: Vec::new(),
        }
    }
}

fn alternative(table: ModbusTable, first: u16, one: Interpretation) -> TrialAlternative {
    let number = first.saturating_add(u16::try_from(one.offset).unwrap_or(u16::MAX));
    let is_usual = one.data_type.registers() == Some(1) && one.order == ByteOrder::Abcd;
    TrialAlternative {
        address: ModbusAddress { table, number, bits: None }.to_string(),
        data_type: one.data_type.to_string(),
        order: (!is_usual).then(|| one.order.word()),
        value: one.value,
        scale: one.scale,
    }
}
