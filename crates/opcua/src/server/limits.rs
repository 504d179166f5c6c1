use std::time::Duration;

/// How much a server does at a time; 0 sets no limit.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ServerLimits {
    /// Attributes in a read request.
    pub nodes_per_read: usize,
    /// Attributes in a write request.
    pub nodes_per_write: usize,
    /// Nodes in a browse request.
    pub nodes_per_browse: usize,
    /// Paths in a request for the nodes that they lead to.
    pub paths_per_translate: usize,
    /// Nodes that are registered at a time.
    pub nodes_per_register: usize,
    /// Methods in a call.
    pub methods_per_call: usize,
    /// Nodes in a request for history.
    pub nodes_per_history_read: usize,
    /// Monitored items in a request.
    pub items_per_call: usize,
    /// References of a node at a time.
    pub references_per_node: usize,
    /// Values of the history of a node at a time.
    pub values_per_history_read: usize,
    /// Places to go on from that a session has.
    pub continuation_points: usize,
    /// Subscriptions of the server.
    pub subscriptions: usize,
    /// Monitored items of a subscription.
    pub items: usize,
    /// Publish requests of a session that wait.
    pub publish_requests: usize,
    /// Messages of a subscription that are kept until they are acknowledged.
    pub kept_messages: usize,
    /// Values of an item between two messages.
    pub queue: u32,
    /// The shortest and the longest time between two messages.
    pub publishing_interval: (Duration, Duration),
    /// The shortest and the longest time between two looks at a value; where the longest is zero, every change is told.
    pub sampling_interval: (Duration, Duration),
    /// The longest that a subscription lives without a publish request.
    pub subscription_lifetime: Duration,
}

impl ServerLimits {
    /// What a server that is not too small does.
    pub const USUAL: Self = Self {
        nodes_per_read: 1000,
        nodes_per_write: 1000,
        nodes_per_browse: 1000,
        paths_per_translate: 1000,
        nodes_per_register: 1000,
        methods_per_call: 100,
        nodes_per_history_read: 100,
        items_per_call: 1000,
        references_per_node: 1000,
        values_per_history_read: 10_000,
        continuation_points: 10,
        subscriptions: 100,
        items: 100_000,
        publish_requests: 20,
        kept_messages: 100,
        queue: 10_000,
        publishing_interval: (Duration::from_millis(50), Duration::from_secs(3600)),
        sampling_interval: (Duration::from_millis(50), Duration::from_secs(3600)),
        subscription_lifetime: Duration::from_secs(6 * 3600),
    };
}

impl Default for ServerLimits {
    fn default() -> Self {
        Self::USUAL
    }
}
