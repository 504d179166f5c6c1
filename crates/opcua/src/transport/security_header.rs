use crate::structure::structures;
use crate::types::ByteString;

structures! {
    /// What a message is secured with that opens a channel.
    ///
    /// Source: OPC 10000-6, section 6.7.2.3 (table 43).
    AsymmetricHeader {
        /// The algorithms, by the URI of their policy.
        security_policy_uri: Option<String>,
        /// The certificate of who sends it, perhaps followed by those of its issuers.
        sender_certificate: ByteString,
        /// Which certificate of who receives it is meant: its SHA-1.
        receiver_certificate_thumbprint: ByteString,
    }

    /// The place of a frame.
    ///
    /// Source: OPC 10000-6, section 6.7.2.4 (table 45).
    SequenceHeader {
        /// One more than that of the frame before.
        sequence_number: u32,
        /// The request that it belongs to, or answers.
        request_id: u32,
    }
}
