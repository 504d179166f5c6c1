#[cfg(doc)]
use super::EdgeNode;
#[cfg(doc)]
use crate::DeviceSpec;
use crate::{MessageType, MetricValue};

/// A message for the MQTT client: QoS 0, not retained.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outgoing {
    /// What it is.
    pub message: MessageType,
    /// Where to.
    pub topic: String,
    /// The encoded payload.
    pub payload: Vec<u8>,
}

/// The last will of one connection: QoS 1, not retained.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Will {
    /// Where to.
    pub topic: String,
    /// The encoded payload.
    pub payload: Vec<u8>,
    /// The bdSeq in it; keep it over a restart.
    pub bd_seq: u8,
}

/// What the node asks its caller to do or to know.
#[derive(Debug, Clone, PartialEq)]
pub enum EdgeNodeEvent {
    /// Births are due: call [`EdgeNode::birth`]. Until then no data goes out.
    BirthDue,
    /// The primary host was in doubt and is there: what was published meanwhile may have reached nobody. Births follow.
    HostConfirmed,
    /// The primary host said anew that it is there, and no word of its end came between: what the broker had read before
    /// has reached it.
    HostAlive,
    /// The primary host came anew: what the broker had read before may have reached nobody.
    HostRenewed,
    /// The primary host is gone. Where births were out, the death is queued: disconnect after it, and connect again.
    HostOffline,
    /// A host wants a metric of a device to have a value. It is read by the datatype that the command names; whether it
    /// fits the metric is for the caller to say.
    Command {
        /// The device, by the number that the caller knows it by.
        device: usize,
        /// The metric, by its position in the [`DeviceSpec`].
        metric: usize,
        /// What it is to be; none where the command says null.
        value: Option<MetricValue<'static>>,
    },
    /// A command was not carried out.
    CommandRefused {
        /// The device that it was for, where there is such a device.
        device: Option<usize>,
        /// Why.
        why: String,
    },
}

/// Why data did not go out. The caller keeps it or drops it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotSent {
    /// The node's births are not out.
    #[error("the node is not born")]
    NodeNotBorn,
    /// The device's birth is not out.
    #[error("the device is not born")]
    DeviceNotBorn,
}
