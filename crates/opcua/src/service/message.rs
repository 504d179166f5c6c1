use super::*;
use crate::codec::{Binary, DecodeError, Limits, Reader};
use crate::structure::Structure;
use crate::types::{Identifier, NodeId};

/// A message that is none of those that there are, or not whole.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MessageError {
    /// A service that is not known. A server answers `Bad_ServiceUnsupported`.
    #[error("{0} is no service that is known")]
    Unknown(NodeId),
    /// It cannot be read. A server answers `Bad_DecodingError`.
    #[error("{service}: {error}")]
    Malformed {
        /// The structure.
        service: &'static str,
        /// Why.
        #[source]
        error: DecodeError,
    },
}

macro_rules! messages {
    ($(#[$doc:meta])* $kind:ident, $header:ident: $header_type:ty { $($name:ident($structure:ty),)* }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, PartialEq)]
        pub enum $kind {
            $(#[doc = concat!("See [`", stringify!($structure), "`].")] $name($structure),)*
        }

        impl $kind {
            /// Its bytes: the node of its encoding, then its fields.
            ///
            /// Source: OPC 10000-6, section 5.2.9.
            #[must_use]
            pub fn to_bytes(&self) -> Vec<u8> {
                let mut out = Vec::new();
                match self {
                    $(Self::$name(message) => {
                        NodeId::numeric(0, <$structure>::ENCODING).encode(&mut out);
                        message.encode(&mut out);
                    })*
                }
                out
            }

            /// Reads one from all the bytes of a message.
            ///
            /// # Errors
            /// When it is none that is known, or cannot be read.
            pub fn from_bytes(bytes: &[u8], limits: Limits) -> Result<Self, MessageError> {
                let mut from = Reader::new(bytes, limits);
                let malformed = |service| move |error| MessageError::Malformed { service, error };
                let type_id = NodeId::decode(&mut from).map_err(malformed("TypeId"))?;
                let number = match type_id {
                    NodeId { namespace: 0, identifier: Identifier::Numeric(number) } => number,
                    other => return Err(MessageError::Unknown(other)),
                };
                let message = match number {
                    $(<$structure>::ENCODING => {
                        Self::$name(<$structure>::decode(&mut from).map_err(malformed(stringify!($structure)))?)
                    })*
                    _ => return Err(MessageError::Unknown(NodeId::numeric(0, number))),
                };
                from.finish().map_err(malformed(message.name()))?;
                Ok(message)
            }

            /// What the standard calls it.
            #[must_use]
            pub const fn name(&self) -> &'static str {
                match self { $(Self::$name(_) => stringify!($structure),)* }
            }

            /// Its header.
            #[must_use]
            pub const fn header(&self) -> &$header_type {
                match self { $(Self::$name(message) => &message.$header,)* }
            }

            /// Its header, to be filled in.
            pub const fn header_mut(&mut self) -> &mut $header_type {
                match self { $(Self::$name(message) => &mut message.$header,)* }
            }
        }

        $(impl From<$structure> for $kind {
            fn from(message: $structure) -> Self {
                Self::$name(message)
            }
        })*

        #[cfg(test)]
        impl serde::Serialize for $kind {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                match self { $(Self::$name(message) => message.serialize(serializer),)* }
            }
        }
    };
}

messages! {
    /// What a client asks.
    Request, request_header: RequestHeader {
        FindServers(FindServersRequest),
        GetEndpoints(GetEndpointsRequest),
        OpenSecureChannel(OpenSecureChannelRequest),
        CloseSecureChannel(CloseSecureChannelRequest),
        CreateSession(CreateSessionRequest),
        ActivateSession(ActivateSessionRequest),
        CloseSession(CloseSessionRequest),
        Browse(BrowseRequest),
        BrowseNext(BrowseNextRequest),
        TranslateBrowsePathsToNodeIds(TranslateBrowsePathsToNodeIdsRequest),
        RegisterNodes(RegisterNodesRequest),
        UnregisterNodes(UnregisterNodesRequest),
        Read(ReadRequest),
        HistoryRead(HistoryReadRequest),
        Write(WriteRequest),
        Call(CallRequest),
        CreateMonitoredItems(CreateMonitoredItemsRequest),
        ModifyMonitoredItems(ModifyMonitoredItemsRequest),
        SetMonitoringMode(SetMonitoringModeRequest),
        DeleteMonitoredItems(DeleteMonitoredItemsRequest),
        CreateSubscription(CreateSubscriptionRequest),
        ModifySubscription(ModifySubscriptionRequest),
        SetPublishingMode(SetPublishingModeRequest),
        Publish(PublishRequest),
        Republish(RepublishRequest),
        TransferSubscriptions(TransferSubscriptionsRequest),
        DeleteSubscriptions(DeleteSubscriptionsRequest),
    }
}

messages! {
    /// What a server answers.
    Response, response_header: ResponseHeader {
        Fault(ServiceFault),
        FindServers(FindServersResponse),
        GetEndpoints(GetEndpointsResponse),
        OpenSecureChannel(OpenSecureChannelResponse),
        CloseSecureChannel(CloseSecureChannelResponse),
        CreateSession(CreateSessionResponse),
        ActivateSession(ActivateSessionResponse),
        CloseSession(CloseSessionResponse),
        Browse(BrowseResponse),
        BrowseNext(BrowseNextResponse),
        TranslateBrowsePathsToNodeIds(TranslateBrowsePathsToNodeIdsResponse),
        RegisterNodes(RegisterNodesResponse),
        UnregisterNodes(UnregisterNodesResponse),
        Read(ReadResponse),
        HistoryRead(HistoryReadResponse),
        Write(WriteResponse),
        Call(CallResponse),
        CreateMonitoredItems(CreateMonitoredItemsResponse),
        ModifyMonitoredItems(ModifyMonitoredItemsResponse),
        SetMonitoringMode(SetMonitoringModeResponse),
        DeleteMonitoredItems(DeleteMonitoredItemsResponse),
        CreateSubscription(CreateSubscriptionResponse),
        ModifySubscription(ModifySubscriptionResponse),
        SetPublishingMode(SetPublishingModeResponse),
        Publish(PublishResponse),
        Republish(RepublishResponse),
        TransferSubscriptions(TransferSubscriptionsResponse),
        DeleteSubscriptions(DeleteSubscriptionsResponse),
    }
}
