//! Calling methods.
//!
//! Source: OPC 10000-4, section 5.12.

use super::{RequestHeader, ResponseHeader};
use crate::structure::structures;
use crate::types::{DiagnosticInfo, NodeId, StatusCode, Variant};

structures! {
    /// A method with what it is given.
    CallMethodRequest {
        /// The object on which it is called.
        object_id: NodeId,
        /// The method.
        method_id: NodeId,
        /// What it is given.
        input_arguments: Vec<Variant>,
    }

    /// Calls methods.
    CallRequest = 712 {
        /// The header.
        request_header: RequestHeader,
        /// The methods.
        methods_to_call: Vec<CallMethodRequest>,
    }

    /// What a method gave.
    CallMethodResult {
        /// What became of it.
        status_code: StatusCode,
        /// What was wrong with each argument.
        input_argument_results: Vec<StatusCode>,
        /// What the server tells of that.
        input_argument_diagnostic_infos: Vec<DiagnosticInfo>,
        /// What it gave.
        output_arguments: Vec<Variant>,
    }

    /// What methods gave.
    CallResponse = 715 {
        /// The header.
        response_header: ResponseHeader,
        /// A result for each.
        results: Vec<CallMethodResult>,
        /// What the server tells of failures.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }
}
