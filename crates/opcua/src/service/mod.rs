//! The services: what a client asks, and what a server answers.
//!
//! Source: OPC 10000-4, section 5.

mod attribute;
mod channel;
mod discovery;
mod header;
mod message;
mod method;
mod monitored_item;
mod session;
mod subscription;
mod view;

pub use attribute::{
    HistoryData, HistoryReadRequest, HistoryReadResponse, HistoryReadResult, HistoryReadValueId,
    ReadRawModifiedDetails, ReadRequest, ReadResponse, ReadValueId, TimestampsToReturn, WriteRequest, WriteResponse,
    WriteValue,
};
pub use channel::{
    ChannelSecurityToken, CloseSecureChannelRequest, CloseSecureChannelResponse, MessageSecurityMode,
    OpenSecureChannelRequest, OpenSecureChannelResponse, SecurityTokenRequestType,
};
pub(crate) use discovery::UA_TCP;
pub use discovery::{
    ApplicationDescription, ApplicationType, EndpointDescription, FindServersRequest, FindServersResponse,
    GetEndpointsRequest, GetEndpointsResponse, UserTokenPolicy, UserTokenType,
};
pub use header::{RequestHeader, ResponseHeader, ServiceFault};
pub use message::{MessageError, Request, Response};
pub use method::{CallMethodRequest, CallMethodResult, CallRequest, CallResponse};
pub use monitored_item::{
    CreateMonitoredItemsRequest, CreateMonitoredItemsResponse, DataChangeFilter, DataChangeTrigger,
    DeleteMonitoredItemsRequest, DeleteMonitoredItemsResponse, ModifyMonitoredItemsRequest,
    ModifyMonitoredItemsResponse, MonitoredItemCreateRequest, MonitoredItemCreateResult, MonitoredItemModifyRequest,
    MonitoredItemModifyResult, MonitoringMode, MonitoringParameters, SetMonitoringModeRequest,
    SetMonitoringModeResponse,
};
pub(crate) use session::SESSION_NONCE;
pub use session::{
    ActivateSessionRequest, ActivateSessionResponse, AnonymousIdentityToken, CloseSessionRequest, CloseSessionResponse,
    CreateSessionRequest, CreateSessionResponse, SignatureData, SignedSoftwareCertificate, UserNameIdentityToken,
    X509IdentityToken,
};
pub use subscription::{
    CreateSubscriptionRequest, CreateSubscriptionResponse, DataChangeNotification, DeleteSubscriptionsRequest,
    DeleteSubscriptionsResponse, EventFieldList, EventNotificationList, ModifySubscriptionRequest,
    ModifySubscriptionResponse, MonitoredItemNotification, NotificationMessage, PublishRequest, PublishResponse,
    RepublishRequest, RepublishResponse, SetPublishingModeRequest, SetPublishingModeResponse, StatusChangeNotification,
    SubscriptionAcknowledgement, TransferResult, TransferSubscriptionsRequest, TransferSubscriptionsResponse,
};
pub use view::{
    BrowseDescription, BrowseDirection, BrowseNextRequest, BrowseNextResponse, BrowsePath, BrowsePathResult,
    BrowsePathTarget, BrowseRequest, BrowseResponse, BrowseResult, NodeClass, ReferenceDescription,
    RegisterNodesRequest, RegisterNodesResponse, RelativePath, RelativePathElement,
    TranslateBrowsePathsToNodeIdsRequest, TranslateBrowsePathsToNodeIdsResponse, UnregisterNodesRequest,
    UnregisterNodesResponse, ViewDescription,
};
