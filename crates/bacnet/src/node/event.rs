use crate::apdu::{AbortReason, ConfirmedService, Error, MaxApdu, RejectReason, Segmentation, UnconfirmedService};
use crate::network::Peer;
use std::net::SocketAddrV4;
use std::time::Duration;

/// Names a request of ours. The default one is none that was ever sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct RequestId(pub(super) u64);

/// Names a request of others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct AskedId {
    pub(super) peer: Peer,
    pub(super) invoke_id: u8,
    pub(super) serial: u64,
}

/// How a request is sent, and what is known of whom it goes to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Terms {
    /// How long an answer may take.
    pub timeout: Duration,
    /// How often it is sent again.
    pub retries: u8,
    /// How large a message to it may be.
    pub max_apdu: MaxApdu,
    /// Whether it takes and sends segments.
    pub segmentation: Segmentation,
    /// How large a message of the answer may be; smaller where the way there carries less.
    pub answer: MaxApdu,
}

impl Default for Terms {
    /// What BACnet/IP carries, and the standard's three seconds and three retries (clause 12.11).
    fn default() -> Self {
        Self {
            timeout: Duration::from_secs(3),
            retries: 3,
            max_apdu: MaxApdu::BACNET_IP,
            segmentation: Segmentation::Both,
            answer: MaxApdu::BACNET_IP,
        }
    }
}

/// Why nothing was sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotSent {
    /// The peer owes as many answers as there are numbers for.
    #[error("as many answers are owed as there are numbers for them")]
    Busy,
    /// The request is longer than the peer takes.
    #[error("the request is longer than the device takes")]
    TooLong,
}

/// Why a request brought nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Failure {
    /// The device says that it did not do it. What it says beside that stands in the octets.
    #[error("{error}")]
    Error {
        /// Why.
        error: Error,
        /// The octets of the error.
        data: Vec<u8>,
    },
    /// The device did not understand it.
    #[error("rejected: {0}")]
    Reject(RejectReason),
    /// The device gave it up, or this side did.
    #[error("aborted: {reason}")]
    Abort {
        /// Whether the device did.
        by_peer: bool,
        /// Why.
        reason: AbortReason,
    },
    /// Nothing came.
    #[error("no answer")]
    Timeout,
    /// Something came that is no answer to it.
    #[error("an answer to something else")]
    Unfitting,
}

/// What others are told of what they asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// It was done.
    Simple,
    /// It was done, and this came of it.
    Complex(Vec<u8>),
    /// It was not done.
    Error(Error),
    /// It was not understood.
    Reject(RejectReason),
    /// It is given up.
    Abort(AbortReason),
}

/// To whom something is told that nobody answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Audience {
    /// One.
    Peer(Peer),
    /// All of this network.
    Local,
    /// All of another network, by its number.
    Network(u16),
    /// All of all networks.
    Global,
}

/// Something that a node tells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NodeEvent {
    /// A request is done with.
    Answered {
        /// Which.
        id: RequestId,
        /// How long it took, from when it was sent last.
        took: Duration,
        /// The octets of the answer, or why there are none.
        outcome: Result<Vec<u8>, Failure>,
    },
    /// Somebody asks for something, and is owed an answer.
    Asked {
        /// Which.
        id: AskedId,
        /// Who.
        from: Peer,
        /// What.
        service: ConfirmedService,
        /// The octets of the service.
        data: Vec<u8>,
        /// How many octets an answer in one message may have.
        room: usize,
    },
    /// Somebody tells something.
    Told {
        /// Who.
        from: Peer,
        /// What.
        service: UnconfirmedService,
        /// The octets of the service.
        data: Vec<u8>,
    },
    /// A router says which networks it leads to.
    Router {
        /// Its address.
        address: SocketAddrV4,
        /// The networks.
        networks: Vec<u16>,
    },
    /// A router did not pass something on.
    NotRouted {
        /// Its address.
        address: SocketAddrV4,
        /// The network.
        network: u16,
        /// Why: 1 it leads nowhere there, 2 busy, 4 too long, ...
        reason: u8,
    },
    /// The broadcast management device took us on, or does so no more.
    Registered(bool),
    /// Something came that cannot be read.
    Garbled {
        /// From where.
        from: SocketAddrV4,
        /// Why.
        error: crate::codec::DecodeError,
    },
}

/// Where a datagram goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Target {
    /// To one.
    Address(SocketAddrV4),
    /// To all of the network.
    Broadcast,
}

/// On which of two sockets something came.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Via {
    /// The one with our own address.
    Unicast,
    /// The one that hears broadcasts.
    Broadcast,
}
