//! Points that are read again and again, since they say so, or the server does not watch them.

use super::facts::{is_too_much, read};
use interlex_opcua::{DataValue, ReadValueId, Request, RequestError, Response, StatusCode};
use std::time::{Duration, Instant};

/// Reads in rounds: no I/O.
#[derive(Debug, Default)]
pub(super) struct Poller {
    rounds: Vec<Round>,
    /// So many values at a time, where the server took no more; 0 for as many as it says.
    at_most: usize,
    last_ask: u32,
}

#[derive(Debug)]
struct Round {
    part: u32,
    period: Duration,
    next: Instant,
    items: Vec<(usize, ReadValueId)>,
    /// Those of the running round that are still to be asked for.
    waiting: Vec<usize>,
    asked: Option<(u32, Vec<usize>)>,
}

/// What a device is told of its items.
pub(super) type Read = (u32, Vec<(usize, DataValue)>);

impl Poller {
    /// Reads items of a device, from now on.
    pub(super) fn add(&mut self, part: u32, period: Duration, items: Vec<(usize, ReadValueId)>, now: Instant) {
        let known = self.rounds.iter_mut().find(|round| (round.part, round.period) == (part, period));
        match known {
            Some(round) => {
                let (new, first) = (items.len(), round.items.len());
                round.items.extend(items);
                round.waiting.extend(first..first + new);
            }
            None if items.is_empty() => {}
            None => {
                let (waiting, asked) = (Vec::new(), None);
                self.rounds.push(Round { part, period, next: now, items, waiting, asked });
            }
        }
    }

    /// Reads nothing more of a device.
    pub(super) fn remove(&mut self, part: u32) {
        self.rounds.retain(|round| round.part != part);
    }

    /// Reads some items of a device no more.
    pub(super) fn forget(&mut self, part: u32, places: &[usize]) {
        for round in self.rounds.iter_mut().filter(|round| round.part == part) {
            round.items.retain(|(place, _)| !places.contains(place));
            // The running round was of other items.
            (round.waiting, round.asked) = (Vec::new(), None);
        }
        self.rounds.retain(|round| !round.items.is_empty());
    }

    /// The connection is gone, with what was asked over it: the next round begins at once.
    pub(super) fn lost(&mut self, now: Instant) {
        for round in &mut self.rounds {
            (round.waiting, round.asked, round.next) = (Vec::new(), None, now);
        }
    }

    /// How many requests a round of a device takes.
    pub(super) fn requests(&self, part: u32, most: usize) -> usize {
        let at_once = self.at_once(most);
        self.rounds.iter().filter(|round| round.part == part).map(|round| round.items.len().div_ceil(at_once)).sum()
    }

    /// The items that are read of a device, and how often.
    pub(super) fn views(&self) -> impl Iterator<Item = (u32, Duration, Vec<usize>)> {
        self.rounds.iter().map(|round| (round.part, round.period, round.items.iter().map(|(item, _)| *item).collect()))
    }

    fn at_once(&self, most: usize) -> usize {
        if self.at_most == 0 { most.max(1) } else { most.min(self.at_most).max(1) }
    }

    /// What is to be asked now: its number, the request, and how late it is.
    pub(super) fn poll_request(&mut self, most: usize, now: Instant) -> Option<(u32, Request, Duration)> {
        let at_once = self.at_once(most);
        for round in &mut self.rounds {
            if round.asked.is_some() {
                continue;
            }
            let mut late = Duration::ZERO;
            if round.waiting.is_empty() && now >= round.next {
                late = now - round.next;
                round.waiting = (0..round.items.len()).collect();
                // Late is late once: what was missed is not made up for.
                let missed = u32::try_from(late.as_nanos() / round.period.as_nanos().max(1)).unwrap_or(u32::MAX);
                round.next += round.period.saturating_mul(missed.saturating_add(1));
            }
            if round.waiting.is_empty() {
                continue;
            }
            let chosen: Vec<_> = round.waiting.drain(..at_once.min(round.waiting.len())).collect();
            let nodes = chosen.iter().filter_map(|place| round.items.get(*place)).map(|(_, what)| what.clone());
            self.last_ask = self.last_ask.wrapping_add(1);
            let request = read(nodes.collect());
            round.asked = Some((self.last_ask, chosen));
            return Some((self.last_ask, request, late));
        }
        None
    }

    /// When [`Poller::poll_request`] has something, if no answer comes before.
    pub(super) fn poll_timeout(&self) -> Option<Instant> {
        self.rounds.iter().filter(|round| round.asked.is_none()).map(|round| round.next).min()
    }

    pub(super) fn answered(
        &mut self,
        number: u32,
        answer: Result<Response, RequestError>,
    ) -> Option<Result<Read, (u32, StatusCode)>> {
        let is_asked = |round: &&mut Round| round.asked.as_ref().is_some_and(|(asked, _)| *asked == number);
        let round = self.rounds.iter_mut().find(is_asked)?;
        let (_, chosen) = round.asked.take()?;
        let items = chosen.iter().filter_map(|place| round.items.get(*place)).map(|(item, _)| *item);
        Some(match answer {
            Ok(Response::Read(told)) if told.results.len() == chosen.len() => {
                Ok((round.part, items.zip(told.results).collect()))
            }
            Err(error) if is_too_much(&error) && chosen.len() > 1 => {
                self.at_most = (chosen.len() / 2).max(1);
                round.waiting.splice(..0, chosen);
                return None;
            }
            Err(RequestError::Fault(status)) => Err((round.part, status.code())),
            Err(RequestError::Timeout) => Err((round.part, StatusCode::BAD_TIMEOUT)),
            // It ends with the connection.
            Err(RequestError::Lost | RequestError::NotSent(_)) => return None,
            Ok(_) | Err(_) => Err((round.part, StatusCode::BAD_UNKNOWN_RESPONSE)),
        })
    }
}
