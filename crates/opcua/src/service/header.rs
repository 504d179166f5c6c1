use crate::structure::structures;
use crate::types::{DateTime, DiagnosticInfo, ExtensionObject, NodeId, StatusCode};

structures! {
    /// What every request begins with.
    ///
    /// Source: OPC 10000-4, section 7.33.
    RequestHeader {
        /// Proves the session; a secret.
        authentication_token: NodeId,
        /// When the client sent it.
        timestamp: DateTime,
        /// The client's own number for it.
        request_handle: u32,
        /// Which diagnostics are wanted, a bit each.
        return_diagnostics: u32,
        /// A name for the server's audit.
        audit_entry_id: Option<String>,
        /// After so many milliseconds nobody waits for the answer any more; 0 for never.
        timeout_hint: u32,
        /// Kept for later versions.
        additional_header: ExtensionObject,
    }

    /// What every response begins with.
    ///
    /// Source: OPC 10000-4, section 7.34.
    ResponseHeader {
        /// When the server sent it.
        timestamp: DateTime,
        /// The number of the request that it answers.
        request_handle: u32,
        /// What became of the request as a whole.
        service_result: StatusCode,
        /// What the server tells of a failure.
        service_diagnostics: DiagnosticInfo,
        /// The texts that diagnostics point to.
        string_table: Vec<Option<String>>,
        /// Kept for later versions.
        additional_header: ExtensionObject,
    }

    /// The answer to a request that failed as a whole.
    ///
    /// Source: OPC 10000-4, section 7.35.
    ServiceFault = 397 {
        /// Why.
        response_header: ResponseHeader,
    }
}
