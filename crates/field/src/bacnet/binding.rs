use interlex_bacnet::{Audience, IAm, MacAddress, Peer, Station};
use interlex_core::description::BacnetDevice;
use std::net::SocketAddrV4;
use std::time::{Duration, Instant};

/// Where a device is, and how that is found out.
///
/// ```text
///   fixed ─────────────────────────────────────────────▶ there
///   unknown ──Who-Is, again and again──▶ I-Am ──▶ there ──I-Am from elsewhere──▶ both are asked:
///                                                   ▲      only the new one answers ──▶ there, at the new one
///                                                   └───── both answer ──▶ two have one instance: nothing is written
/// ```
#[derive(Debug)]
pub(super) struct Binding {
    instance: u32,
    network: Option<u16>,
    is_fixed: bool,
    peer: Option<Peer>,
    /// When it is asked for next, while nobody knows where it is.
    asks_at: Instant,
    wait: Duration,
    rival: Option<Rival>,
    /// Another one with the same instance.
    double: Option<Peer>,
    /// No rival is looked at before.
    quiet_until: Option<Instant>,
}

/// Somebody who says from elsewhere that it has the instance.
#[derive(Debug, Clone, Copy)]
struct Rival {
    peer: Peer,
    /// Whether the one that is known answered, once it was asked.
    known_answers: Option<bool>,
}

/// What becomes of an I-Am.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Heard {
    /// Now it is known where it is.
    Found,
    /// It said so again, unasked: it may have started anew.
    Again,
    /// It says so from elsewhere.
    Rival,
    /// Nothing.
    Nothing,
}

/// What came of asking both.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Verdict {
    /// It has moved.
    Moved(Peer),
    /// Two of them are there.
    Double(Peer),
    /// The other one is not there, or is another one.
    Nothing,
}

/// It is asked for at growing intervals: not everybody is asked at once for who is not there.
const FIRST_ASK: Duration = Duration::from_secs(2);
const LAST_ASK: Duration = Duration::from_secs(120);
/// Two are compared so often at the most, whatever is said.
const CONTESTS: Duration = Duration::from_secs(30);

impl Binding {
    pub(super) fn new(own: &BacnetDevice, port: u16, now: Instant) -> Self {
        let fixed = own.host.map(|host| {
            let mac = own.station_octets().and_then(|octets| MacAddress::new(&octets));
            let station = own.network.zip(mac).map(|(network, mac)| Station { network, mac });
            Peer { address: host.or_port(port), station }
        });
        Self {
            instance: own.instance,
            network: own.network,
            is_fixed: fixed.is_some(),
            peer: fixed,
            asks_at: now,
            wait: FIRST_ASK,
            rival: None,
            double: None,
            quiet_until: None,
        }
    }

    pub(super) const fn peer(&self) -> Option<Peer> {
        self.peer
    }

    /// Whether another one has the same instance, so that nobody knows which one is written to.
    pub(super) const fn double(&self) -> Option<Peer> {
        self.double
    }

    /// It is silent: it may be elsewhere now, and is asked for, too.
    pub(super) fn is_silent(&mut self, now: Instant) {
        if !self.is_fixed && self.asks_at < now {
            self.asks_at = now;
        }
    }

    /// It answers from where it is known to be.
    pub(super) const fn answers(&mut self) {
        self.wait = FIRST_ASK;
    }

    /// Whoever wants something of it now does not wait for the next time.
    pub(super) const fn ask_now(&mut self, now: Instant) {
        if self.peer.is_none() {
            self.asks_at = now;
        }
    }

    /// When it is asked for next; while it is silent, or nobody knows where it is.
    pub(super) fn due(&self, is_silent: bool) -> Option<Instant> {
        (!self.is_fixed && (self.peer.is_none() || is_silent)).then_some(self.asks_at)
    }

    /// Who is asked for it now.
    pub(super) fn ask(&mut self, now: Instant, is_silent: bool) -> Option<Audience> {
        self.due(is_silent).filter(|due| *due <= now)?;
        self.asks_at = now + self.wait;
        self.wait = (self.wait * 2).min(LAST_ASK);
        Some(self.network.map_or(Audience::Global, Audience::Network))
    }

    /// A device says that it has the instance.
    pub(super) fn heard(&mut self, now: Instant, from: Peer, told: &IAm, is_silent: bool) -> Heard {
        let is_of_network =
            self.network.is_none_or(|network| from.station.is_some_and(|station| station.network == network));
        if told.device.instance() != self.instance || !is_of_network {
            return Heard::Nothing;
        }
        match self.peer {
            None => {
                self.peer = Some(from);
                self.wait = FIRST_ASK;
                Heard::Found
            }
            Some(known) if known == from => Heard::Again,
            Some(_) if self.is_fixed || self.rival.is_some() => Heard::Nothing,
            // One that is silent may have moved: that is looked at in any case.
            Some(_) if !is_silent && self.quiet_until.is_some_and(|until| until > now) => Heard::Nothing,
            Some(_) => {
                self.quiet_until = Some(now + CONTESTS);
                self.rival = Some(Rival { peer: from, known_answers: None });
                Heard::Rival
            }
        }
    }

    /// Whom to ask next, to know which of two it is.
    pub(super) fn contest(&self) -> Option<Peer> {
        let rival = self.rival?;
        if rival.known_answers.is_none() { self.peer } else { Some(rival.peer) }
    }

    /// What came of asking that one.
    pub(super) fn contested(&mut self, answers: bool) -> Option<Verdict> {
        let rival = self.rival.as_mut()?;
        let Some(known_answers) = rival.known_answers else {
            rival.known_answers = Some(answers);
            return None;
        };
        let other = rival.peer;
        self.rival = None;
        Some(match (known_answers, answers) {
            (false, true) => {
                (self.peer, self.double) = (Some(other), None);
                Verdict::Moved(other)
            }
            (true, true) => {
                self.double = Some(other);
                Verdict::Double(other)
            }
            (_, false) => {
                // The other one has gone.
                self.double = self.double.filter(|double| *double != other);
                Verdict::Nothing
            }
        })
    }

    /// Where a router passes nothing on, it is not the way any more.
    pub(super) fn lost_router(&mut self, router: SocketAddrV4, network: u16) -> bool {
        let is_it = self.peer.is_some_and(|peer| {
            peer.address == router && peer.station.is_some_and(|station| station.network == network)
        });
        if is_it && !self.is_fixed {
            self.peer = None;
        }
        is_it
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_bacnet::{ObjectIdentifier, Segmentation};

    fn i_am(instance: u32) -> IAm {
        let device = ObjectIdentifier::device(instance).unwrap();
        IAm { device, max_apdu: 1476, segmentation: Segmentation::Both, vendor: 1 }
    }

    fn binding(keys: &str, now: Instant) -> Binding {
        let main = format!(
            "[gateway]\nname = \"g\"\n[[link]]\nname = \"l\"\nprotocol = \"bacnet-ip\"\ninterface = \"lo\"\n[[device]]\nname = \
             \"d\"\nlink = \"l\"\ninstance = 7\n{keys}"
        );
        let list = "name,address,rate\n".into();
        let files = [("gateway.toml".into(), main), ("points/d.csv".into(), list)].into();
        let description = interlex_core::description::read(&files).unwrap();
        Binding::new(description.devices[0].protocol.bacnet().unwrap(), 47_808, now)
    }

    fn peer(last: u8) -> Peer {
        SocketAddrV4::new([10, 0, 0, last].into(), 47_808).into()
    }

    #[test]
    fn it_is_asked_for_seldom_and_found_by_its_instance() {
        let start = tokio::time::Instant::now().into_std();
        let mut binding = binding("", start);
        let mut asked = Vec::new();
        let mut now = start;
        while now < start + Duration::from_secs(600) {
            now = binding.due(false).unwrap();
            assert_eq!(binding.ask(now, false), Some(Audience::Global));
            asked.push(now.duration_since(start).as_secs());
        }
        assert_eq!(asked, [0, 2, 6, 14, 30, 62, 126, 246, 366, 486, 606]);
        assert_eq!(binding.heard(now, peer(5), &i_am(8), false), Heard::Nothing);
        assert_eq!((binding.heard(now, peer(5), &i_am(7), false), binding.peer()), (Heard::Found, Some(peer(5))));
        assert_eq!((binding.heard(now, peer(5), &i_am(7), false), binding.due(false)), (Heard::Again, None));
    }

    #[test]
    fn who_speaks_from_elsewhere_takes_its_place_only_when_it_has_gone() {
        let now = tokio::time::Instant::now().into_std();
        let mut binding = binding("", now);
        binding.heard(now, peer(5), &i_am(7), false);
        let mut contest = |later, known, other| {
            let now = now + Duration::from_secs(later);
            assert_eq!(
                (binding.heard(now, peer(6), &i_am(7), false), binding.contest()),
                (Heard::Rival, Some(peer(5)))
            );
            assert_eq!((binding.contested(known), binding.contest()), (None, Some(peer(6))));
            let verdict = binding.contested(other);
            assert_eq!(
                binding.heard(now, peer(6), &i_am(7), false) == Heard::Again,
                verdict == Some(Verdict::Moved(peer(6)))
            );
            (verdict, binding.double(), binding.peer())
        };
        assert_eq!(contest(0, false, false), (Some(Verdict::Nothing), None, Some(peer(5))));
        assert_eq!(contest(40, true, true), (Some(Verdict::Double(peer(6))), Some(peer(6)), Some(peer(5))));
        assert_eq!(contest(80, true, false), (Some(Verdict::Nothing), None, Some(peer(5))));
        assert_eq!(contest(120, false, true), (Some(Verdict::Moved(peer(6))), None, Some(peer(6))));
    }

    #[test]
    fn a_fixed_one_is_where_it_is_said_to_be() {
        let now = tokio::time::Instant::now().into_std();
        let mut direct = binding("host = \"10.0.0.9\"\n", now);
        assert_eq!((direct.peer(), direct.heard(now, peer(6), &i_am(7), false)), (Some(peer(9)), Heard::Nothing));
        let routed = binding("host = \"10.0.0.9:47809\"\nnetwork = 5\nstation = \"0c\"\n", now);
        assert_eq!(routed.peer().unwrap().to_string(), "network 5 station 0c by 10.0.0.9:47809");
        let mut by_network = binding("network = 5\n", now);
        assert_eq!(by_network.ask(now, false), Some(Audience::Network(5)));
        assert_eq!(by_network.heard(now, peer(6), &i_am(7), false), Heard::Nothing, "it is of another network");
    }
}
