use crate::broker_trial::is_back;
use interlex_core::description::Uplink;
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::time::Instant;

/// Which of several brokers is in use or tried, and whether an earlier one is there again.
#[derive(Debug)]
pub(super) struct Brokers {
    uplink: Uplink,
    count: usize,
    current: usize,
    /// When earlier ones are looked for.
    look_at: Instant,
    looking: Option<oneshot::Receiver<Option<usize>>>,
}

impl Brokers {
    pub(super) fn new(uplink: &Uplink, now: Instant) -> Self {
        Self { uplink: uplink.clone(), count: uplink.urls().count(), current: 0, look_at: now, looking: None }
    }

    /// The place of the current one.
    pub(super) const fn current(&self) -> usize {
        self.current
    }

    /// The uplink with the current one in the first place; the time to look for earlier ones begins anew.
    pub(super) fn connect(&mut self) -> Uplink {
        (self.look_at, self.looking) = (Instant::now() + Duration::from(self.uplink.broker.return_after), None);
        self.uplink.at(self.current)
    }

    /// This one is of no use now: on to the next.
    pub(super) const fn go_on(&mut self) {
        self.current = (self.current + 1) % self.count;
    }

    pub(super) const fn go_to(&mut self, broker: usize) {
        self.current = broker;
    }

    /// Whether there are others to go to.
    pub(super) const fn has_others(&self) -> bool {
        self.count > 1
    }

    /// Looks every now and then whether an earlier one is there again; tells its place. To be asked again and again.
    pub(super) fn look_back(&mut self) -> Option<usize> {
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
