use std::collections::BTreeMap;

/// What a host application says of itself on `spBv1.0/STATE/HOST`.
///
/// ```
/// use interlex_sparkplug::HostState;
///
/// let told: HostState = serde_json::from_str(r#"{"online":true,"timestamp":1800000000000}"#)?;
/// assert!(told.online);
/// # Ok::<(), serde_json::Error>(())
/// ```
///
/// Source: Sparkplug 3.0.0, section 5.6 (tck-id-host-topic-phid-birth-payload).
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Deserialize)]
pub struct HostState {
    /// Whether it takes data.
    pub online: bool,
    /// When it said so, in milliseconds since 1970 UTC.
    pub timestamp: u64,
}

/// The host application without which the node says nothing, and how far its word can be trusted.
///
/// A STATE is retained: after a crash of the broker it still says online, though the host may not be back, and what is
/// published at QoS 0 then reaches nobody. So after a broken connection a retained STATE that is no newer than the last
/// one known proves nothing.
#[derive(Debug)]
pub(crate) struct PrimaryHost {
    pub(crate) id: String,
    /// The time of the last STATE accepted, by broker: every broker has a STATE of its own.
    known: BTreeMap<usize, u64>,
    broker: usize,
    /// What it said in this session.
    pub(crate) is_online: bool,
    /// Whether its last word may be older than the break of the connection.
    pub(crate) is_doubtful: bool,
    /// Whether the last session ended otherwise than it should.
    is_broken: bool,
}

/// What a STATE changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum HostNews {
    /// Nothing: it is outdated, or says what is known.
    Nothing,
    /// It said anew that it is there, and it was there all along.
    Alive,
    /// The host is there; it was not, as far as was known.
    Online,
    /// The host is there, and was away for a moment since it said so last.
    Renewed,
    /// It was in doubt, and is there.
    Confirmed,
    /// It is gone.
    Offline,
}

impl PrimaryHost {
    /// A host of which the time of its last STATE at the first broker may be known from an earlier run.
    pub(crate) fn new(id: &str, known: Option<u64>) -> Self {
        Self {
            id: id.to_owned(),
            known: known.map(|at| (0, at)).into_iter().collect(),
            broker: 0,
            is_online: false,
            is_doubtful: false,
            is_broken: known.is_some(),
        }
    }

    pub(crate) const fn connect(&mut self, broker: usize) {
        self.broker = broker;
        self.is_online = false;
        self.is_doubtful = false;
    }

    pub(crate) const fn ended(&mut self, is_broken: bool) {
        self.is_broken |= is_broken;
        self.is_online = false;
        self.is_doubtful = false;
    }

    /// Somebody answers, or was waited for long enough.
    pub(crate) const fn trust(&mut self) {
        self.is_doubtful = false;
        self.is_broken = false;
    }

    /// Takes a STATE in.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-operational-behavior-edge-node-termination-host-offline-timestamp: one that is
    /// older than the last one accepted is passed over.
    pub(crate) fn take_state(&mut self, state: HostState, is_retained: bool) -> HostNews {
        let known = self.known.get(&self.broker).copied();
        if known.is_some_and(|known| state.timestamp < known) {
            return HostNews::Nothing;
        }
        let is_fresh = !is_retained || known != Some(state.timestamp);
        self.known.insert(self.broker, state.timestamp);
        if !state.online {
            // It told so itself, or its will did: what follows is fresh.
            self.trust();
            self.is_online = false;
            return HostNews::Offline;
        }
        let is_newer = known.is_some_and(|known| state.timestamp > known);
        let (was_online, was_doubtful) = (self.is_online, self.is_doubtful);
        self.is_online = true;
        if is_fresh {
            self.trust();
        } else if !was_online {
            self.is_doubtful = self.is_broken;
        }
        match (was_online, was_doubtful && !self.is_doubtful) {
            (false, _) if is_newer => HostNews::Renewed,
            (false, _) => HostNews::Online,
            (true, true) => HostNews::Confirmed,
            (true, false) if is_newer => HostNews::Alive,
            (true, false) => HostNews::Nothing,
        }
    }

    /// The time of the last STATE accepted from the first broker.
    pub(crate) fn known(&self) -> Option<u64> {
        self.known.get(&0).copied()
    }
}
