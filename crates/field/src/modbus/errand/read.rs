use super::{End, Errand, NOT_OURS, Reply, Step, device_error, something_else};
use crate::error::TrialError;
use crate::link::{Answer, TrialAlternative, TrialRead, TrialReading};
use crate::modbus::mapping::{Reader, request, table};
use interlex_core::description::{ModbusAddress, ModbusTable};
use interlex_core::{ByteOrder, Interpretation, interpretations};
use interlex_modbus::{ReadData, ReadRequest, Response};
use std::collections::VecDeque;
use std::time::Instant;

/// Reads a point, and where its neighbours are wanted, as much around it as the device gives: one register before it, and as
/// many as the longest number takes. Where a device refuses, it is asked for less.
pub(in crate::modbus) struct ReadErrand {
    read: TrialRead,
    unit: u8,
    address: ModbusAddress,
    request: ReadRequest,
    /// What the first answer brought.
    reading: Option<TrialReading>,
    windows: VecDeque<ReadRequest>,
    failed: Option<TrialError>,
}

impl ReadErrand {
    pub(in crate::modbus) fn new(read: TrialRead) -> Result<Self, TrialError> {
        let (Some((address, _)), Some(device)) = (read.point.modbus(), read.device.protocol.modbus()) else {
            return Err(TrialError::Request(NOT_OURS.to_owned()));
        };
        let unit = device.unit;
        let request = request(address, read.point.settings.data_type).map_err(TrialError::Request)?;
        let windows = if read.neighbours && !address.table.is_bits() { windows(address) } else { VecDeque::new() };
        Ok(Self { read, unit, address, request, reading: None, windows, failed: None })
    }

    fn reading(&self, data: &ReadData, reply: &Reply) -> TrialReading {
        let point = &self.read.point;
        let raw = Reader::new(0, point).and_then(|reader| reader.value_of(data));
        let registers = match data {
            ReadData::Registers(registers) => registers.clone(),
            ReadData::Bits(bits) => bits.iter().map(|bit| u16::from(*bit)).collect(),
        };
        TrialReading {
            address: point.address.to_string(),
            registers,
            value: raw.as_ref().map(|raw| point.shaping.apply(raw)),
            raw,
            unit: point.settings.unit.clone(),
            answer_ms: reply.milliseconds(),
            shared_connection: false,
            frames: reply.frames.clone(),
            alternatives: Vec::new(),
            said: Vec::new(),
        }
    }
}

fn windows(address: ModbusAddress) -> VecDeque<ReadRequest> {
    let before = address.number.checked_sub(1);
    let windows = [(before, 6), (before, 3), (Some(address.number), 4), (Some(address.number), 2)];
    let request = |(first, count): (Option<u16>, u16)| ReadRequest::new(table(address.table), first?, count).ok();
    windows.into_iter().filter_map(request).collect()
}

impl Errand for ReadErrand {
    fn unit(&self) -> u8 {
        self.unit
    }

    fn next(&mut self, _: Instant) -> Step {
        let unit = self.unit;
        if let Some(error) = self.failed.take() {
            return Step::Done(Answer::Read(Err(error)));
        }
        match (&self.reading, self.windows.front()) {
            (None, _) => Step::Send { unit, request: self.request.into(), written: None },
            (Some(_), Some(window)) => Step::Send { unit, request: (*window).into(), written: None },
            (Some(reading), None) => Step::Done(Answer::Read(Ok(reading.clone()))),
        }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        let Some(reading) = &mut self.reading else {
            match &reply.outcome {
                Ok(Response::Data(data)) => self.reading = Some(self.reading(data, &reply)),
                Ok(_) => self.failed = Some(something_else()),
                Err(error) => self.failed = Some(device_error(self.unit, error, reply.frames)),
            }
            return;
        };
        let window = self.windows.pop_front();
        if let (Some(window), Ok(Response::Data(ReadData::Registers(registers)))) = (window, &reply.outcome) {
            let told = interpretations(registers, self.read.expected).into_iter();
            let first = window.address();
            reading.alternatives = told.map(|one| alternative(self.address.table, first, one)).collect();
            self.windows.clear();
        }
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        // What is there is there, with or without its neighbours.
        Answer::Read(self.reading.take().ok_or_else(|| end.error()))
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
