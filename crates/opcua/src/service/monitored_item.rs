//! What a subscription watches.
//!
//! Source: OPC 10000-4, section 5.13.

use super::{ReadValueId, RequestHeader, ResponseHeader, TimestampsToReturn};
use crate::structure::{enumerations, structures};
use crate::types::{DiagnosticInfo, ExtensionObject, StatusCode};

structures! {
    /// How an item is watched.
    ///
    /// Source: OPC 10000-4, section 7.21.
    MonitoringParameters {
        /// The client's number for it.
        client_handle: u32,
        /// Every so many milliseconds; 0 for as fast as can be, -1 for the publishing interval.
        sampling_interval: f64,
        /// What counts as a change.
        filter: ExtensionObject,
        /// So many values are kept between two publishes.
        queue_size: u32,
        /// Which are lost when there are more: the oldest, or the newest but one.
        discard_oldest: bool,
    }

    /// An item that is to be watched.
    MonitoredItemCreateRequest {
        /// What.
        item_to_monitor: ReadValueId,
        /// Whether it is sampled, and told.
        monitoring_mode: MonitoringMode,
        /// How.
        requested_parameters: MonitoringParameters,
    }

    /// Asks for items to be watched.
    CreateMonitoredItemsRequest = 751 {
        /// The header.
        request_header: RequestHeader,
        /// The subscription.
        subscription_id: u32,
        /// Which times are wanted.
        timestamps_to_return: TimestampsToReturn,
        /// The items.
        items_to_create: Vec<MonitoredItemCreateRequest>,
    }

    /// How an item is watched now.
    MonitoredItemCreateResult {
        /// What became of it.
        status_code: StatusCode,
        /// The server's number for it.
        monitored_item_id: u32,
        /// Every so many milliseconds.
        revised_sampling_interval: f64,
        /// So many values are kept.
        revised_queue_size: u32,
        /// What the server says of the filter.
        filter_result: ExtensionObject,
    }

    /// How items are watched now.
    CreateMonitoredItemsResponse = 754 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<MonitoredItemCreateResult>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// An item that is to be watched in another way.
    MonitoredItemModifyRequest {
        /// The server's number for it.
        monitored_item_id: u32,
        /// How.
        requested_parameters: MonitoringParameters,
    }

    /// Asks for items to be watched in another way.
    ModifyMonitoredItemsRequest = 763 {
        /// The header.
        request_header: RequestHeader,
        /// The subscription.
        subscription_id: u32,
        /// Which times are wanted.
        timestamps_to_return: TimestampsToReturn,
        /// The items.
        items_to_modify: Vec<MonitoredItemModifyRequest>,
    }

    /// How an item is watched now.
    MonitoredItemModifyResult {
        /// What became of it.
        status_code: StatusCode,
        /// Every so many milliseconds.
        revised_sampling_interval: f64,
        /// So many values are kept.
        revised_queue_size: u32,
        /// What the server says of the filter.
        filter_result: ExtensionObject,
    }

    /// How items are watched now.
    ModifyMonitoredItemsResponse = 766 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<MonitoredItemModifyResult>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// Whether items are sampled, and told.
    SetMonitoringModeRequest = 769 {
        /// The header.
        request_header: RequestHeader,
        /// The subscription.
        subscription_id: u32,
        /// Whether.
        monitoring_mode: MonitoringMode,
        /// The items, by the server's numbers.
        monitored_item_ids: Vec<u32>,
    }

    /// What became of it.
    SetMonitoringModeResponse = 772 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<StatusCode>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// Asks for items to be watched no more.
    DeleteMonitoredItemsRequest = 781 {
        /// The header.
        request_header: RequestHeader,
        /// The subscription.
        subscription_id: u32,
        /// The items, by the server's numbers.
        monitored_item_ids: Vec<u32>,
    }

    /// What became of it.
    DeleteMonitoredItemsResponse = 784 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<StatusCode>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// What counts as a change of a value.
    ///
    /// Source: OPC 10000-4, section 7.22.2.
    DataChangeFilter = 724 {
        /// What has to change.
        trigger: DataChangeTrigger,
        /// 0 for any change, 1 for one of so much, 2 for one of so many percent of the range.
        deadband_type: u32,
        /// So much.
        deadband_value: f64,
    }
}

enumerations! {
    /// Whether an item is sampled, and told.
    ///
    /// Source: OPC 10000-4, section 7.23.
    MonitoringMode {
        /// Neither.
        #[default]
        Disabled = 0,
        /// Sampled.
        Sampling = 1,
        /// Both.
        Reporting = 2,
    }

    /// What has to change.
    ///
    /// Source: OPC 10000-4, section 7.10.
    DataChangeTrigger {
        /// The status.
        #[default]
        Status = 0,
        /// The status or the value.
        StatusValue = 1,
        /// The status, the value, or its source time.
        StatusValueTimestamp = 2,
    }
}
