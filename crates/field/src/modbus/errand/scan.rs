use super::{End, Errand, Reply, Step};
use crate::link::Answer;
use crate::modbus::frames::peer;
use crate::modbus::mapping;
use interlex_core::description::ModbusTable;
use interlex_core::{Offer, OfferEvent};
use interlex_modbus::{ExceptionCode, ReadData, ReadRequest, Request, RequestError, Response, ResponseError, Table};
use serde_json::{Map, Value, json};
use std::collections::VecDeque;
use std::ops::RangeInclusive;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::TrySendError;

/// What to look for on a link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Scan {
    /// Which units answer.
    Units(RangeInclusive<u8>),
    /// Which addresses of one table exist in a unit.
    Addresses {
        /// The unit.
        unit: u8,
        /// What is added to the addresses of its lists.
        base: u16,
        /// The table.
        table: ModbusTable,
        /// From where to where, in order.
        stretches: Vec<(u16, u16)>,
        /// How many it answers at once.
        at_once: u16,
    },
}

/// So many answers in a row that do not come mean that the unit is gone, and not that addresses are missing.
const SILENCES: u32 = 4;

/// Whoever listens takes what is told a moment later.
const TAKEN_LATER: Duration = Duration::from_millis(10);

/// One scan under way.
pub(in crate::modbus) struct Scanning {
    looking: Looking,
    pace: Duration,
    free_at: Option<Instant>,
    requests: u32,
    events: mpsc::Sender<OfferEvent>,
    /// What is to be told.
    told: VecDeque<OfferEvent>,
    is_over: bool,
}

enum Looking {
    Units { left: RangeInclusive<u8>, done: u32, total: u32 },
    Addresses(Addresses),
}

/// Reads blocks; a block that is refused is halved until its addresses are settled one by one.
struct Addresses {
    unit: u8,
    base: u16,
    words: ModbusTable,
    table: Table,
    block: u32,
    /// The stretches that are in no part yet, the next one first.
    stretches: VecDeque<(u32, u32)>,
    /// Parts of one that are to be read, the next one last.
    parts: Vec<(u32, u32)>,
    done: u32,
    total: u32,
    silences: u32,
    /// The address that was asked for alone once before, without an answer.
    asked_again: Option<u32>,
}

impl Scanning {
    pub(in crate::modbus) fn new(scan: Scan, pace: Duration, events: mpsc::Sender<OfferEvent>) -> Self {
        let looking = match scan {
            Scan::Units(range) => {
                let total = u32::from(range.end().saturating_sub(*range.start())) + 1;
                Looking::Units { left: range, done: 0, total }
            }
            Scan::Addresses { unit, base, table: words, stretches, at_once } => {
                let table = mapping::table(words);
                let wide = |(first, last): (u16, u16)| (u32::from(first), u32::from(last));
                let stretches: VecDeque<_> = stretches.into_iter().map(wide).collect();
                Looking::Addresses(Addresses {
                    unit,
                    base,
                    words,
                    table,
                    block: u32::from(table.max_quantity().min(at_once)).clamp(1, 125),
                    parts: Vec::new(),
                    done: 0,
                    total: stretches.iter().map(|(first, last)| last - first + 1).sum(),
                    stretches,
                    silences: 0,
                    asked_again: None,
                })
            }
        };
        Self { looking, pace, free_at: None, requests: 0, events, told: VecDeque::new(), is_over: false }
    }

    fn request(&mut self) -> Option<(u8, Request)> {
        let (unit, request) = match &mut self.looking {
            Looking::Units { left, .. } if RangeInclusive::is_empty(left) => return None,
            Looking::Units { left, .. } => (*left.start(), ReadRequest::new(Table::HoldingRegister, 0, 1)),
            Looking::Addresses(addresses) => {
                let (first, last) = addresses.part()?;
                let (address, count) = (u16::try_from(first).ok()?, u16::try_from(last - first + 1).ok()?);
                (addresses.unit, ReadRequest::new(addresses.table, address, count))
            }
        };
        Some((unit, request.ok()?.into()))
    }

    /// Nothing more is asked.
    fn end(&mut self, failed: Option<String>) {
        if self.is_over {
            return;
        }
        self.is_over = true;
        self.told.push_back(match failed {
            Some(why) => OfferEvent::Failed { why },
            None => OfferEvent::Done { requests: self.requests },
        });
    }
}

impl Addresses {
    /// The part that is to be read next.
    fn part(&mut self) -> Option<(u32, u32)> {
        if self.parts.is_empty()
            && let Some((first, last)) = self.stretches.pop_front()
        {
            let end = (first + self.block - 1).min(last);
            self.parts.push((first, end));
            if end < last {
                self.stretches.push_front((end + 1, last));
            }
        }
        self.parts.last().copied()
    }

    /// Takes what became of the part that was read; an error ends the scan.
    fn take(
        &mut self,
        outcome: &Result<Response, RequestError>,
        told: &mut VecDeque<OfferEvent>,
    ) -> Result<(), String> {
        let Some((first, last)) = self.parts.pop() else { return Ok(()) };
        let is_silence = matches!(outcome, Err(RequestError::Timeout(_)));
        self.silences = if is_silence { self.silences + 1 } else { 0 };
        let is_given_up = self.silences >= SILENCES;
        match outcome {
            Ok(response) => {
                self.done += last - first + 1;
                let offers: Vec<_> = self.offers(first, response).collect();
                told.push_back(OfferEvent::Points { offers });
            }
            Err(RequestError::Response(ResponseError::Exception(code)))
                if *code == ExceptionCode::ILLEGAL_FUNCTION || is_given_up =>
            {
                return Err(format!("{}: {code}", peer(self.unit)));
            }
            Err(error) if is_given_up => return Err(format!("{}: {error}, again and again", peer(self.unit))),
            // One lost answer is no missing address.
            Err(RequestError::Timeout(_)) if first == last && self.asked_again != Some(first) => {
                self.asked_again = Some(first);
                self.parts.push((first, last));
            }
            Err(_) if first == last => self.done += 1,
            Err(_) => {
                let middle = first + (last - first) / 2;
                // The lower half is settled first.
                self.parts.extend([(middle + 1, last), (first, middle)]);
            }
        }
        told.push_back(OfferEvent::Progress { done: self.done, total: self.total });
        Ok(())
    }
}

impl Addresses {
    /// What stands from an address on, as points.
    fn offers(&self, first: u32, response: &Response) -> impl Iterator<Item = Offer> {
        let values: Vec<(Value, String)> = match response {
            Response::Data(ReadData::Registers(registers)) => {
                registers.iter().map(|register| (json!(register), format!("0x{register:04X}"))).collect()
            }
            Response::Data(ReadData::Bits(bits)) => bits.iter().map(|bit| (json!(bit), String::new())).collect(),
            _ => Vec::new(),
        };
        (first..).zip(values).map(|(address, (value, note))| {
            // The scan began at its base.
            let number = address.saturating_sub(self.base.into()).to_string();
            let table = self.words.word();
            let mut point = Map::from_iter([("address".to_owned(), json!(format!("{table}:{number}")))]);
            if !self.words.is_bits() {
                point.insert("type".to_owned(), json!("uint16"));
            }
            Offer { path: vec![table.to_owned(), number], point, value, quality: String::new(), note }
        })
    }
}

/// What a unit said, where one is there.
fn said(outcome: &Result<Response, RequestError>) -> Option<String> {
    match outcome {
        Err(RequestError::Timeout(_)) => None,
        Err(RequestError::Response(ResponseError::Exception(
            ExceptionCode::GATEWAY_PATH_UNAVAILABLE | ExceptionCode::GATEWAY_TARGET_NO_RESPONSE,
        ))) => None,
        Ok(response) => Some(response.to_string()),
        Err(error) => Some(error.to_string()),
    }
}

impl Errand for Scanning {
    fn unit(&self) -> u8 {
        match &self.looking {
            Looking::Units { left, .. } => *left.start(),
            Looking::Addresses(addresses) => addresses.unit,
        }
    }

    fn next(&mut self, now: Instant) -> Step {
        loop {
            while let Some(event) = self.told.pop_front() {
                match self.events.try_send(event) {
                    Ok(()) => {}
                    Err(TrySendError::Full(event)) => {
                        self.told.push_front(event);
                        return Step::Wait(now + TAKEN_LATER);
                    }
                    // Whoever listened has gone: there is nobody to tell.
                    Err(TrySendError::Closed(_)) => {
                        return Step::Done(Answer::Found(Ok(Box::new(Vec::<OfferEvent>::new()))));
                    }
                }
            }
            if self.is_over {
                return Step::Done(Answer::Found(Ok(Box::new(Vec::<OfferEvent>::new()))));
            }
            if let Some(at) = self.free_at.filter(|at| now < *at) {
                return Step::Wait(at);
            }
            match self.request() {
                Some((unit, request)) => return Step::Send { unit, request, written: None },
                None => self.end(None),
            }
        }
    }

    fn answered(&mut self, reply: Reply, now: Instant) {
        self.requests += 1;
        // At the most half of the time of the line: silent units must not hold up the polls of the others.
        let started = now.checked_sub(reply.took).unwrap_or(now);
        self.free_at = Some((started + self.pace).max(now + reply.took));
        let ended = match &mut self.looking {
            Looking::Units { left, done, total } => {
                if let (Some(unit), said) = (left.next(), said(&reply.outcome)) {
                    let device = Map::from_iter([("unit".to_owned(), json!(unit))]);
                    self.told.extend(said.map(|said| OfferEvent::Device { device, said }));
                }
                *done += 1;
                self.told.push_back(OfferEvent::Progress { done: *done, total: *total });
                Ok(())
            }
            Looking::Addresses(addresses) => addresses.take(&reply.outcome, &mut self.told),
        };
        if let Err(why) = ended {
            self.end(Some(why));
        }
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        let error = end.error();
        if self.requests == 0 {
            return Answer::Found(Err(error));
        }
        Answer::Found(Ok(Box::new(vec![OfferEvent::Failed { why: error.to_string() }])))
    }
}

#[cfg(test)]
mod tests;
