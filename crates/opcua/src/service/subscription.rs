//! Subscriptions, and what they tell.
//!
//! Source: OPC 10000-4, section 5.14.

use super::{RequestHeader, ResponseHeader};
use crate::structure::structures;
use crate::types::{DataValue, DateTime, DiagnosticInfo, ExtensionObject, StatusCode, Variant};

structures! {
    /// Begins a subscription.
    CreateSubscriptionRequest = 787 {
        /// The header.
        request_header: RequestHeader,
        /// It tells every so many milliseconds.
        requested_publishing_interval: f64,
        /// After so many intervals without a publish request it ends.
        requested_lifetime_count: u32,
        /// After so many intervals without news it tells that it lives.
        requested_max_keep_alive_count: u32,
        /// So many notifications at a time; 0 for any.
        max_notifications_per_publish: u32,
        /// Whether it tells.
        publishing_enabled: bool,
        /// More goes first.
        priority: u8,
    }

    /// The subscription.
    CreateSubscriptionResponse = 790 {
        /// The header.
        response_header: ResponseHeader,
        /// Its number.
        subscription_id: u32,
        /// It tells every so many milliseconds.
        revised_publishing_interval: f64,
        /// After so many intervals without a publish request it ends.
        revised_lifetime_count: u32,
        /// After so many intervals without news it tells that it lives.
        revised_max_keep_alive_count: u32,
    }

    /// Changes a subscription.
    ModifySubscriptionRequest = 793 {
        /// The header.
        request_header: RequestHeader,
        /// Its number.
        subscription_id: u32,
        /// It tells every so many milliseconds.
        requested_publishing_interval: f64,
        /// After so many intervals without a publish request it ends.
        requested_lifetime_count: u32,
        /// After so many intervals without news it tells that it lives.
        requested_max_keep_alive_count: u32,
        /// So many notifications at a time; 0 for any.
        max_notifications_per_publish: u32,
        /// More goes first.
        priority: u8,
    }

    /// How it is now.
    ModifySubscriptionResponse = 796 {
        /// The header.
        response_header: ResponseHeader,
        /// It tells every so many milliseconds.
        revised_publishing_interval: f64,
        /// After so many intervals without a publish request it ends.
        revised_lifetime_count: u32,
        /// After so many intervals without news it tells that it lives.
        revised_max_keep_alive_count: u32,
    }

    /// Whether subscriptions tell.
    SetPublishingModeRequest = 799 {
        /// The header.
        request_header: RequestHeader,
        /// Whether.
        publishing_enabled: bool,
        /// The subscriptions.
        subscription_ids: Vec<u32>,
    }

    /// What became of it.
    SetPublishingModeResponse = 802 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<StatusCode>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// A message that the client has, and the server need not keep.
    SubscriptionAcknowledgement {
        /// The subscription.
        subscription_id: u32,
        /// The message.
        sequence_number: u32,
    }

    /// Waits for what any subscription of the session tells next.
    PublishRequest = 826 {
        /// The header.
        request_header: RequestHeader,
        /// Messages that the client has.
        subscription_acknowledgements: Vec<SubscriptionAcknowledgement>,
    }

    /// What a subscription tells at a time.
    ///
    /// Source: OPC 10000-4, section 7.26.
    NotificationMessage {
        /// Its number: one more than the one before, and 1 after the largest.
        sequence_number: u32,
        /// When it was sent at first.
        publish_time: DateTime,
        /// The news; none tells that it lives.
        notification_data: Vec<ExtensionObject>,
    }

    /// What a subscription tells.
    PublishResponse = 829 {
        /// The header.
        response_header: ResponseHeader,
        /// The subscription.
        subscription_id: u32,
        /// The messages that the server still has.
        available_sequence_numbers: Vec<u32>,
        /// Whether there is more to be told at once.
        more_notifications: bool,
        /// The message.
        notification_message: NotificationMessage,
        /// What became of each acknowledgement.
        results: Vec<StatusCode>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// Asks for a message that did not come.
    RepublishRequest = 832 {
        /// The header.
        request_header: RequestHeader,
        /// The subscription.
        subscription_id: u32,
        /// The message.
        retransmit_sequence_number: u32,
    }

    /// The message.
    RepublishResponse = 835 {
        /// The header.
        response_header: ResponseHeader,
        /// The message.
        notification_message: NotificationMessage,
    }

    /// Takes subscriptions of another session over.
    TransferSubscriptionsRequest = 841 {
        /// The header.
        request_header: RequestHeader,
        /// The subscriptions.
        subscription_ids: Vec<u32>,
        /// Whether the newest values are told first.
        send_initial_values: bool,
    }

    /// What became of a subscription.
    TransferResult {
        /// What became of it.
        status_code: StatusCode,
        /// The messages that the server still has.
        available_sequence_numbers: Vec<u32>,
    }

    /// What became of subscriptions.
    TransferSubscriptionsResponse = 844 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<TransferResult>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// Ends subscriptions.
    DeleteSubscriptionsRequest = 847 {
        /// The header.
        request_header: RequestHeader,
        /// The subscriptions.
        subscription_ids: Vec<u32>,
    }

    /// What became of it.
    DeleteSubscriptionsResponse = 850 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<StatusCode>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// A value of an item that is watched.
    ///
    /// Source: OPC 10000-4, section 7.25.2.
    MonitoredItemNotification {
        /// The client's number for it.
        client_handle: u32,
        /// The value.
        value: DataValue,
    }

    /// Values that changed.
    ///
    /// Source: OPC 10000-4, section 7.25.2.
    DataChangeNotification = 811 {
        /// The values, those of one item in their order.
        monitored_items: Vec<MonitoredItemNotification>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// The subscription itself is another, or has ended.
    ///
    /// Source: OPC 10000-4, section 7.25.4.
    StatusChangeNotification = 820 {
        /// What became of it.
        status: StatusCode,
        /// What the server tells of it.
        diagnostic_info: DiagnosticInfo,
    }

    /// An event.
    ///
    /// Source: OPC 10000-4, section 7.25.3.
    EventFieldList {
        /// The client's number for the item.
        client_handle: u32,
        /// What was asked for of it.
        event_fields: Vec<Variant>,
    }

    /// Events.
    ///
    /// Source: OPC 10000-4, section 7.25.3.
    EventNotificationList = 916 {
        /// The events.
        events: Vec<EventFieldList>,
    }
}
