use crate::error::TrialError;
use crate::modbus::mapping;
use crate::modbus::one_off::{OneOff, Via};
use interlex_core::description::{Link, ModbusTable};
use interlex_modbus::{ExceptionCode, ReadRequest, RequestError, Response, ResponseError, Table};
use serde::Serialize;
use std::fmt;
use std::ops::RangeInclusive;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep_until};

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

/// One scan under way.
struct Scanner {
    line: OneOff,
    pace: Duration,
    free_at: Instant,
    requests: u32,
    events: mpsc::Sender<ScanEvent>,
}

/// Nobody listens any more.
struct Cancelled;

impl Scan {
    /// Looks, at `per_second` requests a second at the most, and tells what it finds. It ends when nobody listens any
    /// more; the polls of a running gateway go on meanwhile.
    ///
    /// # Errors
    /// [`TrialError`] when there is no way to the link.
    pub async fn run(
        self,
        link: &Link,
        via: &Via,
        per_second: u32,
        events: mpsc::Sender<ScanEvent>,
    ) -> Result<(), TrialError> {
        let line = OneOff::open(link, via).await?;
        let pace = Duration::from_secs(1) / per_second.max(1);
        let mut scanner = Scanner { line, pace, free_at: Instant::now(), requests: 0, events };
        let ended = match self {
            Self::Units(range) => scanner.units(range).await,
            Self::Addresses { unit, table, range } => scanner.addresses(unit, table, range).await,
        };
        // Whoever listened has gone: there is nobody to tell.
        let _ = ended;
        Ok(())
    }
}

impl Scanner {
    async fn tell(&self, event: ScanEvent) -> Result<(), Cancelled> {
        self.events.send(event).await.map_err(|_| Cancelled)
    }

    /// One read, not before its time.
    async fn read(&mut self, unit: u8, request: ReadRequest) -> Result<Result<Response, RequestError>, Cancelled> {
        sleep_until(self.free_at).await;
        let started = Instant::now();
        self.requests += 1;
        let answer = self.line.exchange(unit, request.into(), None).await;
        // At the most half of the time of the line: silent units must not hold up the polls of the others.
        self.free_at = (started + self.pace).max(Instant::now() + started.elapsed());
        match answer {
            Ok(answer) => Ok(answer.outcome),
            Err(error) => {
                self.tell(ScanEvent::Failed { why: error.to_string() }).await?;
                Err(Cancelled)
            }
        }
    }

    async fn units(&mut self, range: RangeInclusive<u8>) -> Result<(), Cancelled> {
        let total = u32::from(*range.end() - range.start()) + 1;
        for (done, unit) in (1..).zip(range) {
            let Ok(request) = ReadRequest::new(Table::HoldingRegister, 0, 1) else { return Ok(()) };
            let outcome = self.read(unit, request).await?;
            let said = match outcome {
                Err(RequestError::Timeout(_)) => None,
                Err(RequestError::Response(ResponseError::Exception(
                    ExceptionCode::GATEWAY_PATH_UNAVAILABLE | ExceptionCode::GATEWAY_TARGET_NO_RESPONSE,
                ))) => None,
                Ok(response) => Some(response.to_string()),
                Err(error) => Some(error.to_string()),
            };
            if let Some(said) = said {
                self.tell(ScanEvent::Unit { unit, said }).await?;
            }
            self.tell(ScanEvent::Progress { done, total }).await?;
        }
        self.tell(ScanEvent::Done { requests: self.requests }).await
    }

    /// Reads blocks; a block that is refused is halved until its addresses are settled one by one.
    async fn addresses(&mut self, unit: u8, table: ModbusTable, range: RangeInclusive<u16>) -> Result<(), Cancelled> {
        let table = mapping::table(table);
        let total = u32::from(*range.end() - range.start()) + 1;
        let block = u32::from(table.max_quantity()).min(125);
        let (mut next, end) = (u32::from(*range.start()), u32::from(*range.end()));
        let (mut done, mut silences) = (0, 0);
        let mut found: Option<(u16, u16)> = None;
        while next <= end {
            let mut parts = vec![(next, (next + block - 1).min(end))];
            next += block;
            while let Some((first, last)) = parts.pop() {
                let (Ok(address), Ok(count)) = (u16::try_from(first), u16::try_from(last - first + 1)) else {
                    continue;
                };
                let Ok(request) = ReadRequest::new(table, address, count) else { continue };
                let outcome = self.read(unit, request).await?;
                silences = if matches!(outcome, Err(RequestError::Timeout(_))) { silences + 1 } else { 0 };
                match outcome {
                    Ok(_) => {
                        done += last - first + 1;
                        let end = address + (count - 1);
                        found = match found {
                            Some((from, to)) if u32::from(to) + 1 == first => Some((from, end)),
                            Some((from, to)) => {
                                self.tell(ScanEvent::Range { first: from, last: to }).await?;
                                Some((address, end))
                            }
                            None => Some((address, end)),
                        };
                    }
                    Err(RequestError::Response(ResponseError::Exception(code)))
                        if code == ExceptionCode::ILLEGAL_FUNCTION || silences >= SILENCES =>
                    {
                        return self.tell(ScanEvent::Failed { why: format!("unit {unit}: {code}") }).await;
                    }
                    Err(error) if silences >= SILENCES => {
                        return self
                            .tell(ScanEvent::Failed { why: format!("unit {unit}: {error}, again and again") })
                            .await;
                    }
                    Err(_) if first == last => done += 1,
                    Err(_) => {
                        let middle = first + (last - first) / 2;
                        // The lower half is settled first.
                        parts.extend([(middle + 1, last), (first, middle)]);
                    }
                }
                self.tell(ScanEvent::Progress { done, total }).await?;
            }
        }
        if let Some((first, last)) = found {
            self.tell(ScanEvent::Range { first, last }).await?;
        }
        self.tell(ScanEvent::Done { requests: self.requests }).await
    }
}
