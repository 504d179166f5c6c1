use crate::structure::structures;
use crate::types::StatusCode;

structures! {
    /// The first word of a client: what it can take.
    ///
    /// Source: OPC 10000-6, section 7.1.2.3.
    Hello {
        /// The version of the protocol: 0.
        protocol_version: u32,
        /// So many bytes of a frame it takes: 8192 at the least.
        receive_buffer_size: u32,
        /// So many bytes its frames will have at the most.
        send_buffer_size: u32,
        /// So many bytes of a response it takes; 0 for any.
        max_message_size: u32,
        /// So many frames of a response it takes; 0 for any.
        max_chunk_count: u32,
        /// The address that it uses, of fewer than 4096 bytes.
        endpoint_url: Option<String>,
    }

    /// The server's answer: what it can take.
    ///
    /// Source: OPC 10000-6, section 7.1.2.4.
    Acknowledge {
        /// The version of the protocol: 0.
        protocol_version: u32,
        /// So many bytes of a frame it takes; no more than the client's frames will have.
        receive_buffer_size: u32,
        /// So many bytes its frames will have at the most; no more than the client takes.
        send_buffer_size: u32,
        /// So many bytes of a request it takes; 0 for any.
        max_message_size: u32,
        /// So many frames of a request it takes; 0 for any.
        max_chunk_count: u32,
    }

    /// The last word of a server; or, in a frame that gives a message up, why.
    ///
    /// Source: OPC 10000-6, sections 7.1.2.5 and 6.7.3.
    ErrorMessage {
        /// What is wrong.
        error: StatusCode,
        /// What the server says of it.
        reason: Option<String>,
    }

    /// The first word of a server that connects to a client. Nothing proves it.
    ///
    /// Source: OPC 10000-6, section 7.1.2.6.
    ReverseHello {
        /// The server.
        server_uri: Option<String>,
        /// What the client is to say that it connects to.
        endpoint_url: Option<String>,
    }
}
