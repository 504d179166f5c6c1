//! Reading and writing.
//!
//! Source: OPC 10000-4, section 5.11.

use super::{RequestHeader, ResponseHeader};
use crate::structure::{enumerations, structures};
use crate::types::{
    ByteString, DataValue, DateTime, DiagnosticInfo, ExtensionObject, NodeId, QualifiedName, StatusCode,
};

structures! {
    /// An attribute of a node.
    ///
    /// Source: OPC 10000-4, section 7.28.
    ReadValueId {
        /// The node.
        node_id: NodeId,
        /// The attribute, by its number: 13 is the value.
        attribute_id: u32,
        /// Which elements of an array; all where it is not told.
        index_range: Option<String>,
        /// How structures are wanted; as the server likes where it is not told.
        data_encoding: QualifiedName,
    }

    /// Asks for attributes.
    ReadRequest = 631 {
        /// The header.
        request_header: RequestHeader,
        /// How many milliseconds old a value may be.
        max_age: f64,
        /// Which times are wanted.
        timestamps_to_return: TimestampsToReturn,
        /// The attributes.
        nodes_to_read: Vec<ReadValueId>,
    }

    /// Their values.
    ReadResponse = 634 {
        /// The header.
        response_header: ResponseHeader,
        /// A value for each.
        results: Vec<DataValue>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// A value for an attribute.
    WriteValue {
        /// The node.
        node_id: NodeId,
        /// The attribute, by its number: 13 is the value.
        attribute_id: u32,
        /// Which elements of an array; all where it is not told.
        index_range: Option<String>,
        /// The value.
        value: DataValue,
    }

    /// Sets attributes.
    WriteRequest = 673 {
        /// The header.
        request_header: RequestHeader,
        /// The attributes with their values.
        nodes_to_write: Vec<WriteValue>,
    }

    /// What became of it.
    WriteResponse = 676 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<StatusCode>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// A node whose history is wanted.
    HistoryReadValueId {
        /// The node.
        node_id: NodeId,
        /// Which elements of an array; all where it is not told.
        index_range: Option<String>,
        /// How structures are wanted.
        data_encoding: QualifiedName,
        /// Where to go on; null at first.
        continuation_point: ByteString,
    }

    /// Asks for the history of nodes.
    HistoryReadRequest = 664 {
        /// The header.
        request_header: RequestHeader,
        /// What is wanted of it.
        history_read_details: ExtensionObject,
        /// Which times are wanted.
        timestamps_to_return: TimestampsToReturn,
        /// Whether no more is wanted.
        release_continuation_points: bool,
        /// The nodes.
        nodes_to_read: Vec<HistoryReadValueId>,
    }

    /// The history of a node.
    HistoryReadResult {
        /// What became of it.
        status_code: StatusCode,
        /// Where to go on; null when this is all.
        continuation_point: ByteString,
        /// The values.
        history_data: ExtensionObject,
    }

    /// The history of nodes.
    HistoryReadResponse = 667 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<HistoryReadResult>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// All values of a time.
    ///
    /// Source: OPC 10000-11, section 6.4.3.
    ReadRawModifiedDetails = 649 {
        /// Whether values are wanted that were changed afterwards.
        is_read_modified: bool,
        /// From here.
        start_time: DateTime,
        /// To here, not included.
        end_time: DateTime,
        /// So many of each node at a time; 0 for any.
        num_values_per_node: u32,
        /// Whether the values just outside are wanted, too.
        return_bounds: bool,
    }

    /// Values of a time.
    ///
    /// Source: OPC 10000-11, section 6.5.2.
    HistoryData = 658 {
        /// The values.
        data_values: Vec<DataValue>,
    }
}

enumerations! {
    /// Which times are wanted.
    ///
    /// Source: OPC 10000-4, section 7.40.
    TimestampsToReturn {
        /// Those of the source.
        #[default]
        Source = 0,
        /// Those of the server.
        Server = 1,
        /// Both.
        Both = 2,
        /// None.
        Neither = 3,
        /// Nobody said.
        Invalid = 4,
    }
}
