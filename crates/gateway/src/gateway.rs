use crate::activation::{Activation, Outcome, Parts, Tasks};
use crate::aside;
use crate::clock::{SystemClock, watch_clock};
use crate::command::{Commands, Lifetimes, carry_out_broker_commands};
use crate::running::{GatewayStatus, Running, StoreKeeper, WaitingLoss};
use arc_swap::ArcSwap;
use interlex_core::description::Description;
use interlex_core::{Clock, Inventory, PointTable, RecentValues};
use interlex_field::{Keeper, Listeners, Memories, Surroundings};
use interlex_store::{AuditTrail, Store};
use interlex_uplink::{BrokerCommands, LinkHealth};
use parking_lot::Mutex;
use std::sync::Arc;
use tokio::sync::watch;

/// What a gateway runs with beside its description.
#[derive(Debug, Clone, Default)]
pub struct GatewayOptions {
    /// The number of the revision, to show.
    pub revision: u32,
    /// Where bdSeq and journal are kept; without one they last as long as the process.
    pub store: Option<Store>,
    /// Where it is written down what hosts did; a trail of its own into the store when it is left out.
    pub trail: Option<AuditTrail>,
    /// Whether nothing that hosts command is carried out while the audit trail does not take entries.
    pub is_audit_required: bool,
    /// The time of day; that of the system when it is left out.
    pub clock: Option<Arc<dyn Clock>>,
    /// What is remembered of the places in the field, and by what devices know this program.
    pub memories: Memories,
}

/// One running gateway. Another description can take the place of its own at any time: only what differs is touched.
#[derive(Debug)]
pub struct Gateway {
    since: i64,
    parts: Parts,
    commands: Commands,
    /// What everybody looks at.
    running: Arc<ArcSwap<Running>>,
    /// What the last activation did.
    activation: Mutex<Activation>,
    keeper: Option<Arc<StoreKeeper>>,
    /// The tasks, for whoever changes something; one at a time.
    tasks: tokio::sync::Mutex<Tasks>,
}

impl Gateway {
    /// Starts everything that a description describes. What cannot be reached is tried again and again.
    pub async fn start(description: Arc<Description>, options: GatewayOptions) -> Self {
        let GatewayOptions { revision, store, trail, is_audit_required, clock, memories } = options;
        let clock = clock.unwrap_or_else(|| {
            watch_clock();
            Arc::new(SystemClock)
        });
        let trail = trail.or_else(|| store.clone().map(AuditTrail::new));
        let name = description.gateway.name.as_str();
        let keeper = store.clone().map(|store| Arc::new(StoreKeeper::new(store, name)));
        let memories = memories.of_gateway(keeper.clone().map(|keeper| keeper as Arc<dyn Keeper>));
        let running = Arc::new(ArcSwap::from_pointee(Running::nothing(&description, memories, Arc::clone(&clock))));
        let lifetimes = Lifetimes::new(name, store.clone(), trail.clone(), Arc::clone(&clock)).await;
        let commands = Commands::new(Arc::clone(&running), lifetimes);
        let (from_brokers, receiver) = BrokerCommands::channel();
        carry_out_broker_commands((&from_brokers, receiver), commands.clone(), trail, is_audit_required);
        // Weak: what runs has the uplinks, and these must not keep it.
        let looked_at = Arc::downgrade(&running);
        let look = move || looked_at.upgrade().map(|running| running.load().link_states()).unwrap_or_default();
        let gateway = Self {
            since: clock.now().as_millis(),
            parts: Parts {
                store,
                clock,
                listeners: Listeners::default(),
                commands: from_brokers,
                link_health: LinkHealth::new(look),
            },
            commands,
            running,
            activation: Mutex::default(),
            keeper,
            tasks: tokio::sync::Mutex::default(),
        };
        gateway.activate(description, revision).await;
        gateway.commands.watch_lifetimes();
        gateway
    }

    /// Lets a description take the place of the one that runs. Links that ask for the same things in the same way go
    /// on without a gap, and uplinks with the same settings stay connected.
    pub async fn activate(&self, description: Arc<Description>, revision: u32) {
        let mut tasks = self.tasks.lock().await;
        let before = self.running.load_full();
        if let Some(keeper) = &self.keeper {
            keeper.keep_most_events(description.gateway.events_kept);
        }
        let points = Arc::new(aside(|| PointTable::new(&description, before.points())));
        let latest = Arc::new(aside(|| before.latest().grown(points.indices())));
        let recent = Arc::clone(before.recent());
        aside(|| recent.grow(points.indices()));
        let mut activation = Activation { revision, at: self.parts.clock.now().as_millis(), ..Activation::default() };

        tasks.stop_links(before.description(), &description, &mut activation).await;
        let descriptions = (before.description(), &*description);
        for index in tasks.part_with(descriptions, (before.points(), &points), &activation).await {
            latest.forget(index);
            recent.forget(index);
        }
        // Uplinks first, so that no first sample finds nobody to take it.
        let inventory = Inventory::new(&description, Arc::clone(&points), Arc::clone(&latest));
        tasks.change_uplinks(&self.parts, (&description, &inventory), &mut activation).await;
        let (listeners, clock) = (self.parts.listeners.clone(), Arc::clone(&self.parts.clock));
        let memories = before.memories().clone();
        let around = Surroundings { points, latest, recent, listeners, memories, clock };
        tasks.start_links(&description, &around, &mut activation).await;

        let running = before.followed_by((description, revision), inventory, tasks.links(), tasks.uplinks());
        *self.activation.lock() = activation;
        self.running.store(Arc::new(running));
    }

    /// The samples that wait for brokers and that a description in the place of the running one would lose, since their
    /// uplinks or points are not in it.
    pub async fn would_lose(&self, description: &Description) -> Vec<WaitingLoss> {
        self.running().would_lose(description).await
    }

    /// Stops in order: links first, then uplinks, which send what is left, publish their deaths and keep the rest.
    pub async fn stop(&self) {
        let mut tasks = self.tasks.lock().await;
        std::mem::take(&mut *tasks).stop().await;
    }

    /// What runs right now: a consistent view, whatever is activated meanwhile.
    #[must_use]
    pub fn running(&self) -> Arc<Running> {
        self.running.load_full()
    }

    /// The way of commands to the points.
    #[must_use]
    pub const fn commands(&self) -> &Commands {
        &self.commands
    }

    /// The last minutes of each point.
    #[must_use]
    pub fn recent(&self) -> Arc<RecentValues> {
        Arc::clone(self.running().recent())
    }

    /// Tells whenever something was added to the sequence of events; none where nothing is kept.
    #[must_use]
    pub fn sequence_additions(&self) -> Option<watch::Receiver<u64>> {
        self.keeper.as_ref().map(|keeper| keeper.additions())
    }

    /// What everything is doing right now.
    #[must_use]
    pub fn status(&self) -> GatewayStatus {
        let activated_at = self.activation.lock().at;
        self.running().status(self.since, activated_at)
    }

    /// What became of the last activation, link by link and uplink by uplink.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        let running = self.running();
        Outcome::new(&self.activation.lock(), (&running.link_states(), &running.uplink_states()))
    }
}
