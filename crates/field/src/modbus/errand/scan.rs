use super::{End, Errand, Reply, Step};
use crate::error::TrialError;
use crate::link::{Answer, Via, Work};
use crate::modbus::ModbusDriver;
use crate::modbus::discovery::{Discovery, found};
use crate::modbus::frames::peer;
use crate::modbus::mapping;
use interlex_core::description::{Link, ModbusTable};
use interlex_modbus::{ExceptionCode, ReadRequest, Request, RequestError, Response, ResponseError, Table};
use serde::Serialize;
use std::collections::VecDeque;
use std::fmt;
use std::ops::RangeInclusive;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::TrySendError;

/// What to look for on a link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Scan {
    /// Which units answer.
    Units(RangeInclusive<u8>),
    /// Which addresses of one table exist in a unit.
    Addresses {
        /// The unit.
        unit: u8,
        /// The table.
        table: ModbusTable,
        /// From where to where.
        range: RangeInclusive<u16>,
    },
}

impl fmt::Display for Scan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Units(range) => write!(f, "units {} to {}", range.start(), range.end()),
            Self::Addresses { unit, table, range } => {
                write!(f, "{}:{} to {} of unit {unit}", table.word(), range.start(), range.end())
            }
        }
    }
}

/// What a scan has found, or how far it has come.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum ScanEvent {
    /// How far it has come.
    Progress {
        /// So many units or addresses are settled.
        done: u32,
        /// Of so many.
        total: u32,
    },
    /// A unit answers.
    Unit {
        /// Its identifier.
        unit: u8,
        /// What it said to a read of holding register 0.
        said: String,
    },
    /// Addresses that exist.
    Range {
        /// The first one.
        first: u16,
        /// The last one.
        last: u16,
    },
    /// It is over.
    Done {
        /// How many requests it took.
        requests: u32,
    },
    /// It cannot go on.
    Failed {
        /// Why.
        why: String,
    },
}

/// So many answers in a row that do not come mean that the unit is gone, and not that addresses are missing.
const SILENCES: u32 = 4;

/// Whoever listens takes what is told a moment later.
const TAKEN_LATER: Duration = Duration::from_millis(10);

/// Looks, at `per_second` requests a second at the most, and tells what it finds. It ends when nobody listens any
/// more; the polls of a running gateway go on meanwhile.
///
/// # Errors
/// [`TrialError`] when there is no way to the link.
pub async fn scan(
    scan: Scan,
    link: &Link,
    via: &Via,
    per_second: u32,
    events: mpsc::Sender<ScanEvent>,
) -> Result<(), TrialError> {
    let pace = Duration::from_secs(1) / per_second.max(1);
    let work = Work::Discover(Box::new(Discovery::Scan { scan, pace, events }));
    found(via.carry_out::<ModbusDriver>(link, work).await.0)
}

/// One scan under way.
pub(in crate::modbus) struct Scanning {
    looking: Looking,
    pace: Duration,
    free_at: Option<Instant>,
    requests: u32,
    events: mpsc::Sender<ScanEvent>,
    /// What is to be told.
    told: VecDeque<ScanEvent>,
    is_over: bool,
}

enum Looking {
    Units { left: RangeInclusive<u8>, done: u32, total: u32 },
    Addresses(Addresses),
}

/// Reads blocks; a block that is refused is halved until its addresses are settled one by one.
struct Addresses {
    unit: u8,
    table: Table,
    block: u32,
    /// The first address that is in no part yet, and the last one of all.
    next: u32,
    end: u32,
    /// Stretches that are to be read, the next one last.
    parts: Vec<(u32, u32)>,
    done: u32,
    total: u32,
    silences: u32,
    found: Option<(u16, u16)>,
}

impl Scanning {
    pub(in crate::modbus) fn new(scan: Scan, pace: Duration, events: mpsc::Sender<ScanEvent>) -> Self {
        let looking = match scan {
            Scan::Units(range) => {
                let total = u32::from(range.end().saturating_sub(*range.start())) + 1;
                Looking::Units { left: range, done: 0, total }
            }
            Scan::Addresses { unit, table, range } => {
                let table = mapping::table(table);
                let (next, end) = (u32::from(*range.start()), u32::from(*range.end()));
                Looking::Addresses(Addresses {
                    unit,
                    table,
                    block: u32::from(table.max_quantity()).min(125),
                    next,
                    end,
                    parts: Vec::new(),
                    done: 0,
                    total: (end + 1).saturating_sub(next),
                    silences: 0,
                    found: None,
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
        if let Looking::Addresses(Addresses { found: Some((first, last)), .. }) = self.looking
            && failed.is_none()
        {
            self.told.push_back(ScanEvent::Range { first, last });
        }
        self.told.push_back(match failed {
            Some(why) => ScanEvent::Failed { why },
            None => ScanEvent::Done { requests: self.requests },
        });
    }
}

impl Addresses {
    /// The stretch that is to be read next.
    fn part(&mut self) -> Option<(u32, u32)> {
        if self.parts.is_empty() && self.next <= self.end {
            self.parts.push((self.next, (self.next + self.block - 1).min(self.end)));
            self.next += self.block;
        }
        self.parts.last().copied()
    }

    /// Takes what became of the stretch that was read; an error ends the scan.
    fn take(&mut self, outcome: &Result<Response, RequestError>, told: &mut VecDeque<ScanEvent>) -> Result<(), String> {
        let Some((first, last)) = self.parts.pop() else { return Ok(()) };
        let is_silence = matches!(outcome, Err(RequestError::Timeout(_)));
        self.silences = if is_silence { self.silences + 1 } else { 0 };
        let is_given_up = self.silences >= SILENCES;
        match outcome {
            Ok(_) => {
                self.done += last - first + 1;
                let word = |address: u32| u16::try_from(address).unwrap_or(u16::MAX);
                self.found = match self.found {
                    Some((from, to)) if u32::from(to) + 1 == first => Some((from, word(last))),
                    Some((first_before, last_before)) => {
                        told.push_back(ScanEvent::Range { first: first_before, last: last_before });
                        Some((word(first), word(last)))
                    }
                    None => Some((word(first), word(last))),
                };
            }
            Err(RequestError::Response(ResponseError::Exception(code)))
                if *code == ExceptionCode::ILLEGAL_FUNCTION || is_given_up =>
            {
                return Err(format!("{}: {code}", peer(self.unit)));
            }
            Err(error) if is_given_up => return Err(format!("{}: {error}, again and again", peer(self.unit))),
            Err(_) if first == last => self.done += 1,
            Err(_) => {
                let middle = first + (last - first) / 2;
                // The lower half is settled first.
                self.parts.extend([(middle + 1, last), (first, middle)]);
            }
        }
        told.push_back(ScanEvent::Progress { done: self.done, total: self.total });
        Ok(())
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
                    Err(TrySendError::Closed(_)) => return Step::Done(Answer::Found(Ok(Box::new(())))),
                }
            }
            if self.is_over {
                return Step::Done(Answer::Found(Ok(Box::new(()))));
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
                    self.told.extend(said.map(|said| ScanEvent::Unit { unit, said }));
                }
                *done += 1;
                self.told.push_back(ScanEvent::Progress { done: *done, total: *total });
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
        // Whoever does not take it in time sees the stream end.
        let _ = self.events.try_send(ScanEvent::Failed { why: error.to_string() });
        Answer::Found(Ok(Box::new(())))
    }
}

#[cfg(test)]
mod tests;
