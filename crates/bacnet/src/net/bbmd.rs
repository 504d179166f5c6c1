use crate::network::{Bvll, BvllResult};
use crate::node::{Target, Via};
use std::collections::BTreeMap;
use std::net::SocketAddrV4;
use std::time::{Duration, Instant};

/// A broadcast management device for tests and plants: takes foreign devices on, and passes broadcasts between them and its network.
///
/// Source: ASHRAE 135-2016, annex J.4 and J.5.
#[derive(Debug, Default)]
pub(super) struct Bbmd {
    foreign: BTreeMap<SocketAddrV4, Instant>,
    /// It takes nobody on.
    pub(super) refuses: bool,
}

/// Whoever registered has so long more than it asked for.
const GRACE: Duration = Duration::from_secs(30);
/// So many foreign devices at the most.
const MOST: usize = 128;

impl Bbmd {
    /// Everybody has to register anew.
    pub(super) fn forget(&mut self) {
        self.foreign.clear();
    }

    pub(super) fn count(&self) -> usize {
        self.foreign.len()
    }

    /// What is to be sent because of a datagram, and whether it is done with.
    pub(super) fn handle(
        &mut self,
        now: Instant,
        via: Via,
        from: SocketAddrV4,
        bvll: &Bvll<'_>,
    ) -> (Vec<(Target, Vec<u8>)>, bool) {
        self.foreign.retain(|_, until| *until > now);
        let result = |result| {
            let mut datagram = Vec::new();
            Bvll::Result(result).encode(&mut datagram);
            vec![(Target::Address(from), datagram)]
        };
        match bvll {
            Bvll::RegisterForeignDevice { .. } if self.refuses || self.foreign.len() >= MOST => {
                (result(BvllResult::REGISTER_NAK), true)
            }
            Bvll::RegisterForeignDevice { time_to_live } => {
                self.foreign.insert(from, now + Duration::from_secs((*time_to_live).into()) + GRACE);
                (result(BvllResult::SUCCESS), true)
            }
            Bvll::DistributeBroadcast(_) if !self.foreign.contains_key(&from) => {
                (result(BvllResult::DISTRIBUTE_NAK), true)
            }
            // Told on its own network, and to the other foreign devices.
            Bvll::DistributeBroadcast(npdu) => {
                let mut sent = self.forward(from, npdu);
                let mut datagram = Vec::new();
                Bvll::Forwarded { origin: from, npdu }.encode(&mut datagram);
                sent.push((Target::Broadcast, datagram));
                (sent, false)
            }
            Bvll::Broadcast(npdu) if via == Via::Broadcast => (self.forward(from, npdu), false),
            _ => (Vec::new(), false),
        }
    }

    /// What is to be sent of a broadcast of the host itself.
    pub(super) fn forward(&self, origin: SocketAddrV4, npdu: &[u8]) -> Vec<(Target, Vec<u8>)> {
        let mut datagram = Vec::new();
        Bvll::Forwarded { origin, npdu }.encode(&mut datagram);
        let others = self.foreign.keys().filter(|address| **address != origin);
        others.map(|address| (Target::Address(*address), datagram.clone())).collect()
    }
}
