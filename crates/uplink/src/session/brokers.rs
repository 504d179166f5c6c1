use crate::mqtt::{Connection, Intake, MqttEvent};
use interlex_core::description::{Uplink, UplinkKind};
use interlex_sparkplug::{EdgeNode, HostState};
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::time::{Instant, timeout};

/// Which of several brokers is in use or tried, and whether an earlier one is there again.
#[derive(Debug)]
pub(crate) struct Brokers {
    uplink: Uplink,
    count: usize,
    current: usize,
    /// When earlier ones are looked for.
    look_at: Instant,
    looking: Option<oneshot::Receiver<Option<usize>>>,
}

impl Brokers {
    pub(crate) fn new(uplink: &Uplink, now: Instant) -> Self {
        Self { uplink: uplink.clone(), count: uplink.urls().count(), current: 0, look_at: now, looking: None }
    }

    /// The place of the current one.
    pub(crate) const fn current(&self) -> usize {
        self.current
    }

    /// The uplink with the current one in the first place; the time to look for earlier ones begins anew.
    pub(crate) fn connect(&mut self) -> Uplink {
        (self.look_at, self.looking) = (Instant::now() + Duration::from(self.uplink.broker.return_after), None);
        self.uplink.at(self.current)
    }

    /// This one is of no use now: on to the next.
    pub(crate) const fn go_on(&mut self) {
        self.current = (self.current + 1) % self.count;
    }

    pub(crate) const fn go_to(&mut self, broker: usize) {
        self.current = broker;
    }

    /// Whether there are others to go to.
    pub(crate) const fn has_others(&self) -> bool {
        self.count > 1
    }

    /// Looks every now and then whether an earlier one is there again; tells its place. To be asked again and again.
    pub(crate) fn look_back(&mut self) -> Option<usize> {
        if self.current == 0 {
            return None;
        }
        if let Some(looking) = &mut self.looking {
            let found = match looking.try_recv() {
                Err(oneshot::error::TryRecvError::Empty) => return None,
                Ok(found) => found,
                Err(oneshot::error::TryRecvError::Closed) => None,
            };
            (self.look_at, self.looking) = (Instant::now() + Duration::from(self.uplink.broker.return_after), None);
            return found;
        }
        if Instant::now() >= self.look_at {
            let (sender, receiver) = oneshot::channel();
            let (uplink, earlier) = (self.uplink.clone(), self.current);
            tokio::spawn(async move {
                let mut found = None;
                for broker in 0..earlier {
                    if is_back(&uplink.at(broker)).await {
                        found = Some(broker);
                        break;
                    }
                }
                // An error means that the session has ended meanwhile.
                let _ = sender.send(found);
            });
            self.looking = Some(receiver);
        }
        None
    }
}

/// A broker that takes longer to let us in, or to tell of its host, is not back yet.
const BACK_LIMIT: Duration = Duration::from_secs(10);

/// Whether a broker lets the uplink in, and has its primary host, where it has one.
async fn is_back(uplink: &Uplink) -> bool {
    timeout(BACK_LIMIT, look(uplink)).await.is_ok_and(|back| back.is_some())
}

async fn look(uplink: &Uplink) -> Option<()> {
    let id = format!("{}-back", uplink.mqtt_client_id("gateway"));
    let mut connection = Connection::start(uplink, &id, None, Intake::COMMANDS).await.ok()?;
    if !matches!(connection.next().await, MqttEvent::ConnAck) {
        return None;
    }
    let UplinkKind::Sparkplug(own) = &uplink.kind else { return Some(()) };
    let Some(host) = &own.primary_host else { return Some(()) };
    let node = EdgeNode::new(own.group.as_str(), own.node.as_str(), Vec::new(), None);
    let state = node.with_primary_host(host.as_str(), None).state_topic()?;
    connection.subscribe(&[state]);
    loop {
        match connection.next().await {
            MqttEvent::Publish { payload, .. } => {
                let state: HostState = serde_json::from_slice(&payload).ok()?;
                return state.online.then_some(());
            }
            MqttEvent::Lost(_) => return None,
            MqttEvent::ConnAck | MqttEvent::SubAck | MqttEvent::UnsubAck | MqttEvent::PubAck => {}
        }
    }
}
