//! OPC UA over UA-TCP in the binary encoding: a codec, state machines without I/O, and thin tokio drivers.
//!
//! ```text
//!   bytes ──Reader──▶ built-in types ──▶ structures of the services
//!         ◀──encode──                ◀──
//! ```
//!
//! Follows OPC 10000-3, -4 and -6, release 1.05.
//!
//! ```
//! use interlex_opcua::{Binary, NodeId, Scalar, Variant};
//!
//! let speed: NodeId = "ns=2;s=Engine.Speed".parse()?;
//! assert_eq!(NodeId::from_bytes(&speed.to_bytes())?, speed);
//! assert_eq!(Variant::from_bytes(&[10, 0, 0, 192, 63])?, Variant::Scalar(Scalar::Float(1.5)));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod address;
mod channel;
mod client;
mod codec;
mod net;
mod security;
mod server;
mod service;
mod space;
mod structure;
mod transport;
mod types;

#[cfg(test)]
mod tests;

pub use address::{
    AddressError, Namespaces, NumericRange, ParseNumericRangeError, ParsePathError, PathName, PathReference, PathStep,
    PathText,
};
pub use channel::{
    ChannelError, ClientChannel, ClientChannelConfig, ClientChannelEvent, Credentials, NotSent, RequestId,
    ServerChannel, ServerChannelConfig, ServerChannelEvent, TracedMessage, TransportLimits,
};
pub use client::{
    Asked, Backfill, BackfillConfig, BackfillEvent, ClientSession, ClientSessionConfig, ClientSessionEvent,
    EndpointDifference, FollowEvent, Follower, ItemPlace, MissedValues, News, Notification, RequestError, SessionError,
    Subscriber, UserIdentity, WatchConfig, WatchEvent, WatchedGroup, WatchedItem, Watcher, same_endpoints,
};
pub use codec::{Binary, DecodeError, Fault, Limits, Reader};
pub use net::{
    Connection, ConnectionError, ExpectedServer, ExpectedTwice, Host, HostConfig, ReverseDoor, Trust, endpoints_of,
};
pub use security::{
    CertificateDetails, CertificateError, CertificateFault, DerivedKeys, Expected, KEY_BITS, OpenedChunk,
    OwnCertificate, PrivateKey, PublicKey, Sealing, SecurityError, SecurityPolicy, Thumbprint, TrustList,
    UnknownPolicy, certificate_chain, certificate_details, certificate_faults, derive_keys, leaf_certificate,
    open_asymmetric, open_symmetric, pem_blocks, public_key, seal_asymmetric, seal_symmetric, thumbprint, to_pem,
};
pub use server::{
    Answer, ChannelInfo, Handled, Now, Process, Server, ServerDescription, ServerLimits, Sessions, User, Users,
};
pub use service::{
    ActivateSessionRequest, ActivateSessionResponse, AnonymousIdentityToken, ApplicationDescription, ApplicationType,
    BrowseDescription, BrowseDirection, BrowseNextRequest, BrowseNextResponse, BrowsePath, BrowsePathResult,
    BrowsePathTarget, BrowseRequest, BrowseResponse, BrowseResult, CallMethodRequest, CallMethodResult, CallRequest,
    CallResponse, ChannelSecurityToken, CloseSecureChannelRequest, CloseSecureChannelResponse, CloseSessionRequest,
    CloseSessionResponse, CreateMonitoredItemsRequest, CreateMonitoredItemsResponse, CreateSessionRequest,
    CreateSessionResponse, CreateSubscriptionRequest, CreateSubscriptionResponse, DataChangeFilter,
    DataChangeNotification, DataChangeTrigger, DeleteMonitoredItemsRequest, DeleteMonitoredItemsResponse,
    DeleteSubscriptionsRequest, DeleteSubscriptionsResponse, EndpointDescription, EventFieldList,
    EventNotificationList, FindServersRequest, FindServersResponse, GetEndpointsRequest, GetEndpointsResponse,
    HistoryData, HistoryReadRequest, HistoryReadResponse, HistoryReadResult, HistoryReadValueId, MessageError,
    MessageSecurityMode, ModifyMonitoredItemsRequest, ModifyMonitoredItemsResponse, ModifySubscriptionRequest,
    ModifySubscriptionResponse, MonitoredItemCreateRequest, MonitoredItemCreateResult, MonitoredItemModifyRequest,
    MonitoredItemModifyResult, MonitoredItemNotification, MonitoringMode, MonitoringParameters, NodeClass,
    NotificationMessage, OpenSecureChannelRequest, OpenSecureChannelResponse, PublishRequest, PublishResponse,
    ReadRawModifiedDetails, ReadRequest, ReadResponse, ReadValueId, ReferenceDescription, RegisterNodesRequest,
    RegisterNodesResponse, RelativePath, RelativePathElement, RepublishRequest, RepublishResponse, Request,
    RequestHeader, Response, ResponseHeader, SecurityTokenRequestType, ServiceFault, SetMonitoringModeRequest,
    SetMonitoringModeResponse, SetPublishingModeRequest, SetPublishingModeResponse, SignatureData,
    SignedSoftwareCertificate, StatusChangeNotification, SubscriptionAcknowledgement, TimestampsToReturn,
    TransferResult, TransferSubscriptionsRequest, TransferSubscriptionsResponse, TranslateBrowsePathsToNodeIdsRequest,
    TranslateBrowsePathsToNodeIdsResponse, UnregisterNodesRequest, UnregisterNodesResponse, UserNameIdentityToken,
    UserTokenPolicy, UserTokenType, ViewDescription, WriteRequest, WriteResponse, WriteValue, X509IdentityToken,
};
pub use space::{Access, AttributeId, History, Node, NodeKind, NodeSetError, Space, Variable, ids};
pub use structure::{
    Argument, BuildInfo, DataTypes, DictionaryError, EUInformation, EnumDefinition, EnumField, EnumValueType,
    FieldValue, Fields, NamedType, Range, ServerState, ServerStatusDataType, Structure, StructureDefinition,
    StructureError, StructureField, StructureType,
};
pub use transport::{
    Acknowledge, AsymmetricHeader, ChunkType, ErrorMessage, Frame, FrameDecoder, FrameError, Hello, MessageType,
    ReverseHello, SequenceHeader, encode_frame,
};
pub use types::{
    Array, Body, ByteString, DataValue, DateTime, DiagnosticInfo, ExpandedNodeId, ExtensionObject, Guid, Identifier,
    LocalizedText, Namespace, NodeId, ParseGuidError, ParseNodeIdError, QualifiedName, Scalar, StatusCode, Variant,
    XmlElement,
};
