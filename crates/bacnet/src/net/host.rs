use super::bbmd::Bbmd;
use super::sockets::{BindError, Sockets};
use crate::device::{Device, Now};
use crate::network::{Bvll, NetworkMessage, Npdu, NpduContent, Station};
use crate::node::{Node, NodeConfig, Target, Via};
use crate::primitive::ObjectIdentifier;
use parking_lot::Mutex;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::sync::Notify;
use tokio::time::{Instant, sleep_until};
use tokio_util::sync::CancellationToken;

/// Devices at one address: one of the network there, and others behind it, for which the host is the router.
#[derive(Debug)]
pub struct DeviceHost {
    sockets: Sockets,
    state: Mutex<State>,
    changed: Notify,
}

#[derive(Debug)]
struct State {
    members: Vec<Member>,
    bbmd: Option<Bbmd>,
    /// What is lost of what comes and goes: every so manieth datagram.
    loses_every: Option<u32>,
    count: u32,
    is_deaf: bool,
}

#[derive(Debug)]
struct Member {
    node: Node,
    device: Device,
    station: Option<Station>,
}

#[expect(clippy::disallowed_methods, reason = "a driver reads the clock")]
fn now() -> Now {
    let wall = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Now { instant: Instant::now().into_std(), utc_millis: i64::try_from(wall.as_millis()).unwrap_or(i64::MAX) }
}

impl DeviceHost {
    /// Binds the address, and says who is there.
    ///
    /// # Errors
    /// [`BindError`]
    pub fn bind(
        local: SocketAddrV4,
        broadcast: Ipv4Addr,
        devices: impl IntoIterator<Item = (Option<Station>, Device)>,
    ) -> Result<Arc<Self>, BindError> {
        let sockets = Sockets::bind(local, broadcast, true)?;
        let member = |(station, device): (Option<Station>, Device)| {
            let config = NodeConfig { station, max_apdu: device.config().max_apdu, ..NodeConfig::default() };
            let node = Node::new(config, fastrand::Rng::new(), now().instant);
            Member { node, device, station }
        };
        let members = devices.into_iter().map(member).collect();
        let state = State { members, bbmd: None, loses_every: None, count: 0, is_deaf: false };
        Ok(Arc::new(Self { sockets, state: Mutex::new(state), changed: Notify::new() }))
    }

    /// Where it is.
    #[must_use]
    pub const fn address(&self) -> SocketAddrV4 {
        self.sockets.local()
    }

    /// Does something with a device, by its instance; nothing where there is none. What changed is told to who subscribed.
    pub fn with<T>(&self, instance: u32, act: impl FnOnce(&mut Device, &mut Node, Now) -> T) -> Option<T> {
        let mut state = self.state.lock();
        let now = now();
        let member = state.members.iter_mut().find(|member| member.device.config().instance == instance)?;
        let done = act(&mut member.device, &mut member.node, now);
        member.device.tell_changes(now, &mut member.node);
        drop(state);
        self.changed.notify_one();
        Some(done)
    }

    /// The same with one object, where only that may have changed: cheaper where there are many.
    pub fn with_object<T>(
        &self,
        instance: u32,
        object: ObjectIdentifier,
        act: impl FnOnce(&mut crate::device::Object) -> T,
    ) -> Option<T> {
        let mut state = self.state.lock();
        let now = now();
        let member = state.members.iter_mut().find(|member| member.device.config().instance == instance)?;
        let done = act(member.device.object_mut(object)?);
        member.device.tell_changes_of(object, now, &mut member.node);
        drop(state);
        self.changed.notify_one();
        Some(done)
    }

    /// It is a broadcast management device too, from now on.
    pub fn manage_broadcasts(&self) {
        self.state.lock().bbmd = Some(Bbmd::default());
    }

    /// Whoever registered is forgotten; nobody is taken on where `refuses`.
    pub fn forget_foreign(&self, refuses: bool) {
        if let Some(bbmd) = &mut self.state.lock().bbmd {
            bbmd.forget();
            bbmd.refuses = refuses;
        }
    }

    /// How many foreign devices are registered.
    #[must_use]
    pub fn foreign(&self) -> usize {
        self.state.lock().bbmd.as_ref().map_or(0, Bbmd::count)
    }

    /// Every so manieth datagram that comes or goes is lost.
    pub fn lose_every(&self, every: Option<u32>) {
        self.state.lock().loses_every = every;
    }

    /// Nothing comes in and nothing goes out, as if the cable were pulled.
    pub fn pull_cable(&self, is_out: bool) {
        self.state.lock().is_deaf = is_out;
    }

    /// Answers until `stop` is cancelled.
    ///
    /// # Errors
    /// When the sockets fail.
    pub async fn serve(self: Arc<Self>, stop: CancellationToken) -> std::io::Result<()> {
        let mut buffer = Sockets::buffer();
        {
            let mut state = self.state.lock();
            state
                .members
                .iter_mut()
                .for_each(|member| member.device.say_who(&mut member.node, crate::node::Audience::Local));
        }
        loop {
            let changed = self.changed.notified();
            while let Some((via, from, length)) = self.sockets.try_receive(&mut buffer) {
                self.take(via, from, buffer.get(..length).unwrap_or_default());
                self.send();
            }
            let due = self.tick();
            self.send();
            tokio::select! {
                ready = self.sockets.readable() => ready?,
                () = changed => {}
                () = until(due) => {}
                () = stop.cancelled() => return Ok(()),
            }
        }
    }

    fn take(&self, via: Via, from: SocketAddrV4, datagram: &[u8]) {
        let mut state = self.state.lock();
        let now = now();
        if state.is_lost() {
            return;
        }
        let Ok(bvll) = Bvll::decode(datagram) else { return };
        if let Some(bbmd) = &mut state.bbmd {
            let (sent, is_done) = bbmd.handle(now.instant, via, from, &bvll);
            sent.iter().for_each(|(to, datagram)| self.put(*to, datagram));
            if is_done {
                return;
            }
        }
        let networks: Vec<u16> = state.members.iter().filter_map(|member| Some(member.station?.network)).collect();
        if let Some(told) = routed(&bvll, &networks) {
            return self.put_everywhere(&state, Target::Broadcast, &told);
        }
        // What it is asked to pass on, it hears itself too.
        let mut own = Vec::new();
        if let Bvll::DistributeBroadcast(npdu) = bvll {
            Bvll::Broadcast(npdu).encode(&mut own);
        } else {
            own.extend(datagram);
        }
        for Member { node, device, .. } in &mut state.members {
            node.handle_input(now.instant, via, from, &own);
            while let Some(event) = node.poll_event() {
                device.handle(now, node, event);
            }
        }
    }

    /// Does what is due, and tells when something is next.
    fn tick(&self) -> Option<Instant> {
        let mut state = self.state.lock();
        let now = now();
        let due = state.members.iter_mut().filter_map(|Member { node, device, .. }| {
            node.handle_timeout(now.instant);
            device.handle_timeout(now);
            while let Some(event) = node.poll_event() {
                device.handle(now, node, event);
            }
            node.poll_timeout().into_iter().chain(device.poll_timeout()).min()
        });
        // Devices with logs are looked at again and again.
        let least = now.instant + Duration::from_millis(1);
        due.min().map(|due| Instant::from_std(due.max(least)))
    }

    fn send(&self) {
        let mut state = self.state.lock();
        let mut sent = Vec::new();
        for member in &mut state.members {
            while let Some(transmit) = member.node.poll_transmit() {
                sent.push(transmit);
            }
        }
        for (to, datagram) in sent {
            if state.is_lost() {
                continue;
            }
            self.put_everywhere(&state, to, &datagram);
        }
    }

    /// Sends something, and what is told to all to the foreign devices too.
    fn put_everywhere(&self, state: &State, to: Target, datagram: &[u8]) {
        if let (Target::Broadcast, Some(bbmd), Ok(Bvll::Broadcast(npdu))) = (to, &state.bbmd, Bvll::decode(datagram)) {
            let forwarded = bbmd.forward(self.sockets.local(), npdu);
            forwarded.iter().for_each(|(to, datagram)| self.put(*to, datagram));
        }
        self.put(to, datagram);
    }

    fn put(&self, to: Target, datagram: &[u8]) {
        // What cannot be sent is lost, as on any network.
        let _ = self.sockets.send(to, datagram);
    }
}

impl State {
    fn is_lost(&mut self) -> bool {
        self.count = self.count.wrapping_add(1);
        self.is_deaf || self.loses_every.is_some_and(|every| self.count.is_multiple_of(every.max(1)))
    }
}

/// The answer of a router to who asks for one.
fn routed(bvll: &Bvll<'_>, networks: &[u16]) -> Option<Vec<u8>> {
    let (Bvll::Broadcast(npdu) | Bvll::Unicast(npdu) | Bvll::Forwarded { npdu, .. } | Bvll::DistributeBroadcast(npdu)) =
        bvll
    else {
        return None;
    };
    let NpduContent::Message(NetworkMessage::WhoIsRouter(asked)) = Npdu::decode(npdu).ok()?.content else {
        return None;
    };
    let led: Vec<u16> =
        networks.iter().copied().filter(|network| asked.is_none_or(|asked| asked == *network)).collect();
    if led.is_empty() {
        return None;
    }
    let (mut told, mut datagram) = (Vec::new(), Vec::new());
    let content = NpduContent::Message(NetworkMessage::IAmRouter(led));
    Npdu { content, ..Npdu::plain(&[], false) }.encode(&mut told);
    Bvll::Broadcast(&told).encode(&mut datagram);
    Some(datagram)
}

async fn until(at: Option<Instant>) {
    match at {
        Some(at) => sleep_until(at).await,
        None => std::future::pending().await,
    }
}
