use interlex_opcua::{
    Array, DataValue, Namespaces, NodeId, ReadRequest, ReadValueId, Request, RequestError, Response, Scalar,
    StatusCode, TimestampsToReturn, Variant,
};

/// What a server is asked for at the beginning of each connection.
#[derive(Debug, Clone, Default)]
pub(super) struct ServerFacts {
    pub(super) namespaces: Namespaces,
    pub(super) state: Option<i32>,
    /// By how much its clock is ahead of ours, in milliseconds.
    pub(super) clock_ahead: Option<i64>,
    pub(super) most: Most,
}

/// How much it does at a time. Where it does not tell, and where it lies, less is asked for once it refuses.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Most {
    pub(super) read: usize,
    pub(super) translate: usize,
    pub(super) browse: usize,
}

/// What is asked for at a time, where the server does not say otherwise.
const UNTOLD: usize = 1000;

impl Default for Most {
    fn default() -> Self {
        Self { read: UNTOLD, translate: UNTOLD, browse: 100 }
    }
}

/// Source: OPC 10000-6, annex A.3.
const NAMESPACE_ARRAY: u32 = 2255;
const CURRENT_TIME: u32 = 2258;
pub(super) const STATE: u32 = 2259;
const MOST_READ: u32 = 11_705;
const MOST_BROWSE: u32 = 11_710;
const MOST_TRANSLATE: u32 = 11_712;
/// A server that works as it should.
///
/// Source: OPC 10000-5, section 12.6.
pub(super) const RUNNING: i32 = 0;

/// Whether a server says that it was asked for too much at a time.
pub(super) fn is_too_much(error: &RequestError) -> bool {
    let too_much = [
        StatusCode::BAD_TOO_MANY_OPERATIONS,
        StatusCode::BAD_RESPONSE_TOO_LARGE,
        StatusCode::BAD_ENCODING_LIMITS_EXCEEDED,
    ];
    matches!(error, RequestError::Fault(status) if too_much.contains(&status.code()))
}

/// The value of a node.
pub(super) fn value_of(node: NodeId) -> ReadValueId {
    attribute_of(node, 13)
}

/// An attribute of a node.
pub(super) fn attribute_of(node: NodeId, attribute_id: u32) -> ReadValueId {
    ReadValueId { node_id: node, attribute_id, ..ReadValueId::default() }
}

/// Asks for values or other attributes with their times, not older than they are in the device.
pub(super) fn read(nodes_to_read: Vec<ReadValueId>) -> Request {
    let timestamps_to_return = TimestampsToReturn::Both;
    ReadRequest { nodes_to_read, timestamps_to_return, max_age: 0.0, ..ReadRequest::default() }.into()
}

impl ServerFacts {
    /// What is asked for.
    pub(super) fn request() -> Request {
        let nodes = [NAMESPACE_ARRAY, STATE, CURRENT_TIME, MOST_READ, MOST_BROWSE, MOST_TRANSLATE];
        read(nodes.map(|number| value_of(NodeId::numeric(0, number))).into())
    }

    /// What was answered, at a time of ours in milliseconds since 1970.
    pub(super) fn read(response: Response, now: i64) -> Result<Self, String> {
        let Response::Read(response) = response else {
            return Err("the server does not tell its namespaces".to_owned());
        };
        let value = |place: usize| response.results.get(place).and_then(|result: &DataValue| result.value.as_ref());
        let uris = match value(0) {
            Some(Variant::Array(Array::String(uris))) => {
                uris.iter().map(|uri| uri.clone().unwrap_or_default()).collect()
            }
            _ => {
                let status = response.results.first().map(DataValue::status).unwrap_or_default();
                return Err(format!("the server does not tell its namespaces: {status}"));
            }
        };
        let number = |place: usize| match value(place) {
            Some(Variant::Scalar(Scalar::UInt32(number))) => {
                usize::try_from(*number).ok().filter(|number| *number != 0)
            }
            _ => None,
        };
        let most = |place: usize, most: usize| number(place).map_or(most, |told| told.min(most));
        let untold = Most::default();
        Ok(Self {
            namespaces: Namespaces::new(uris),
            state: match value(1) {
                Some(Variant::Scalar(Scalar::Int32(state))) => Some(*state),
                _ => None,
            },
            clock_ahead: match value(2) {
                Some(Variant::Scalar(Scalar::DateTime(time))) => time.unix_millis().map(|theirs| theirs - now),
                _ => None,
            },
            most: Most {
                read: most(3, untold.read),
                browse: most(4, untold.browse),
                translate: most(5, untold.translate),
            },
        })
    }
}
