//! Who is there: everybody is asked, and whoever answers is asked who it is.

use super::discovery::WhoIsThere;
use super::errand::{Appearance, properties_of_devices};
use super::many::ReadMany;
use super::ways::Ways;
use crate::link::{Answer, CommandId};
use interlex_bacnet::{Audience, ConfirmedService, Failure, IAm, Peer, RequestId, Terms, UnconfirmedService, WhoIs};
use interlex_core::OfferEvent;
use serde_json::{Map, json};
use std::collections::{BTreeMap, VecDeque};
use std::net::SocketAddrV4;
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::TrySendError;

/// Looks who is there.
pub(super) struct Scan {
    pub(super) id: CommandId,
    wanted: WhoIsThere,
    events: mpsc::Sender<OfferEvent>,
    asks: Asks,
    found: BTreeMap<(u32, Peer), IAm>,
    /// Which networks there are behind routers, each with its router.
    routers: BTreeMap<u16, SocketAddrV4>,
    waiting: VecDeque<(u32, Peer, IAm)>,
    under_way: Option<(RequestId, u32, Peer, IAm, ReadMany, Ways)>,
    told: VecDeque<OfferEvent>,
    done: usize,
    requests: u32,
}

/// Everybody is asked twice: an answer, or the question, may be lost.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Asks {
    First,
    Second(Instant),
    Over(Instant),
}

/// What a device is asked: where, for what, and how.
type Question = (Peer, ConfirmedService, Vec<u8>, Terms);

/// More are not told of.
const MOST: usize = 10_000;
const MOST_NETWORKS: usize = 256;
/// Whoever listens takes more after this.
const TAKEN_LATER: Duration = Duration::from_millis(20);

impl Scan {
    pub(super) fn new(id: CommandId, wanted: WhoIsThere, events: mpsc::Sender<OfferEvent>) -> Self {
        Self {
            id,
            wanted,
            events,
            asks: Asks::First,
            found: BTreeMap::new(),
            routers: BTreeMap::new(),
            waiting: VecDeque::new(),
            under_way: None,
            told: VecDeque::new(),
            done: 0,
            requests: 0,
        }
    }

    /// Which routers are asked for, before anybody else is.
    pub(super) fn ask_routers(&self) -> Option<Option<u16>> {
        (self.asks == Asks::First).then_some(self.wanted.network)
    }

    /// A router says to which networks it leads.
    pub(super) fn routed(&mut self, router: SocketAddrV4, networks: &[u16]) {
        for network in networks {
            let is_sought = self.wanted.network.is_none_or(|sought| sought == *network);
            if is_sought && self.routers.len() < MOST_NETWORKS && self.routers.insert(*network, router).is_none() {
                let text = format!("network {network} is behind the router at {router}");
                self.told.push_back(OfferEvent::Note { text });
            }
        }
    }

    /// Who is asked now, if it is time to.
    pub(super) fn ask(&mut self, now: Instant) -> Option<(Audience, UnconfirmedService, Vec<u8>)> {
        let half = self.wanted.wait / 2;
        self.asks = match self.asks {
            Asks::First => Asks::Second(now + half),
            Asks::Second(at) if at <= now => Asks::Over(now + half),
            Asks::Second(_) | Asks::Over(_) => return None,
        };
        self.requests += 1;
        let mut data = Vec::new();
        WhoIs { range: self.wanted.range }.encode(&mut data);
        let to = self.wanted.network.map_or(Audience::Global, Audience::Network);
        Some((to, UnconfirmedService::WHO_IS, data))
    }

    /// A device says who it is.
    pub(super) fn heard(&mut self, from: Peer, told: IAm) {
        let instance = told.device.instance();
        let is_sought = self.wanted.range.is_none_or(|(low, high)| (low..=high).contains(&instance))
            && self.wanted.network.is_none_or(|network| from.station.is_some_and(|station| station.network == network));
        let key = (instance, from);
        if !is_sought || self.found.len() >= MOST || self.found.insert(key, told).is_some() {
            return;
        }
        self.waiting.push_back((instance, from, told));
    }

    /// What a device that answered is asked next; its id goes to [`Scan::sent`].
    pub(super) fn next(&mut self, timeout: Duration) -> Option<Question> {
        if self.under_way.is_some() {
            return None;
        }
        let (instance, peer, told) = self.waiting.pop_front()?;
        let mut ways = Ways::new(timeout, 1, None);
        ways.max_apdu = interlex_bacnet::MaxApdu::within(told.max_apdu);
        ways.segmentation = told.segmentation;
        let mut many = ReadMany::new(properties_of_devices(instance, &Appearance::ASKED), &ways);
        let (service, data) = many.next(&ways)?;
        let terms = ways.terms();
        self.under_way = Some((RequestId::default(), instance, peer, told, many, ways));
        Some((peer, service, data, terms))
    }

    /// What is asked has this id.
    pub(super) fn sent(&mut self, id: RequestId) {
        self.requests += 1;
        if let Some(under_way) = &mut self.under_way {
            under_way.0 = id;
        }
    }

    /// An answer; what is asked next, where it takes more. None where it is not of this.
    pub(super) fn answered(&mut self, id: RequestId, outcome: Result<Vec<u8>, Failure>) -> Option<Option<Question>> {
        let (_, instance, peer, told, mut many, mut ways) = self.under_way.take_if(|of| of.0 == id)?;
        let is_there = many.answered(&mut ways, outcome).is_ok();
        if is_there && let Some((service, data)) = many.next(&ways) {
            let terms = ways.terms();
            self.under_way = Some((id, instance, peer, told, many, ways));
            return Some(Some((peer, service, data, terms)));
        }
        self.tell(instance, peer, &told, many);
        Some(None)
    }

    fn tell(&mut self, instance: u32, peer: Peer, told: &IAm, many: ReadMany) {
        self.done += 1;
        let (name, appearance) = Appearance::of(many);
        let others = self.found.keys().filter(|(of, from)| *of == instance && *from != peer);
        let others: Vec<_> = others.map(|(_, from)| from.to_string()).collect();
        let mut device = Map::from_iter([("instance".to_owned(), json!(instance))]);
        device.extend(name.filter(|name| !name.is_empty()).map(|name| ("title".to_owned(), json!(name))));
        let mut said = vec![format!("at {peer}")];
        said.extend(Some(appearance.to_string()).filter(|text| !text.is_empty()));
        said.push(format!("takes {} octets, {}", told.max_apdu, told.segmentation));
        if !others.is_empty() {
            // Which one is meant has to be said then.
            device.insert("host".to_owned(), json!(peer.address.to_string()));
            said.push(format!("the same instance is at {}", others.join(", ")));
        }
        self.told.push_back(OfferEvent::Device { device, said: said.join("; ") });
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        self.told.push_back(OfferEvent::Progress { done: count(self.done), total: count(self.found.len()) });
    }

    /// Tells what was found; the answer once it is over.
    pub(super) fn progress(&mut self, now: Instant) -> Option<Answer> {
        let nothing = || Some(Answer::Found(Ok(Box::new(Vec::<OfferEvent>::new()))));
        while let Some(event) = self.told.pop_front() {
            match self.events.try_send(event) {
                Ok(()) => {}
                Err(TrySendError::Full(event)) => {
                    self.told.push_front(event);
                    return None;
                }
                Err(TrySendError::Closed(_)) => return nothing(),
            }
        }
        let is_over = matches!(self.asks, Asks::Over(at) if at <= now);
        if !is_over || self.under_way.is_some() || !self.waiting.is_empty() {
            return None;
        }
        let end = match self.wanted.network {
            Some(network) if self.found.is_empty() && !self.routers.contains_key(&network) => OfferEvent::Failed {
                why: format!("no router says that it leads to network {network}, and nobody answers from there"),
            },
            _ => OfferEvent::Done { requests: self.requests },
        };
        Some(Answer::Found(Ok(Box::new(vec![end]))))
    }

    /// When there is something to do.
    pub(super) fn due(&self, now: Instant) -> Option<Instant> {
        if !self.told.is_empty() {
            return Some(now + TAKEN_LATER);
        }
        match self.asks {
            Asks::First => Some(now),
            Asks::Second(at) => Some(at),
            Asks::Over(at) => (self.under_way.is_none() || at > now).then_some(at),
        }
    }
}
