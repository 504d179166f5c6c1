//! Sessions: what a server knows of a client, over connections that come and go.
//!
//! Source: OPC 10000-4, section 5.7.

use super::{ApplicationDescription, EndpointDescription, RequestHeader, ResponseHeader};
use crate::structure::structures;
use crate::types::{ByteString, DiagnosticInfo, ExtensionObject, NodeId, StatusCode};

/// Bytes of a nonce of a session at the least.
///
/// Source: OPC 10000-4, section 5.7.2.2 (table 15).
pub(crate) const SESSION_NONCE: usize = 32;

structures! {
    /// A signature.
    ///
    /// Source: OPC 10000-4, section 7.37.
    SignatureData {
        /// The algorithm, by its URI.
        algorithm: Option<String>,
        /// The signature.
        signature: ByteString,
    }

    /// What a program was certified for; no more in use.
    ///
    /// Source: OPC 10000-4, section 7.38.
    SignedSoftwareCertificate {
        /// The certificate.
        certificate_data: ByteString,
        /// Its signature.
        signature: ByteString,
    }

    /// Begins a session.
    CreateSessionRequest = 461 {
        /// The header.
        request_header: RequestHeader,
        /// The client.
        client_description: ApplicationDescription,
        /// The server that is wanted, behind a gateway server.
        server_uri: Option<String>,
        /// The address that the client used.
        endpoint_url: Option<String>,
        /// A name for people.
        session_name: Option<String>,
        /// What the server has to sign.
        client_nonce: ByteString,
        /// The client's certificate.
        client_certificate: ByteString,
        /// For how many milliseconds a silent session is kept.
        requested_session_timeout: f64,
        /// So many bytes a response may have; 0 for any.
        max_response_message_size: u32,
    }

    /// The session, which is still to be activated.
    CreateSessionResponse = 464 {
        /// The header.
        response_header: ResponseHeader,
        /// The node of the session.
        session_id: NodeId,
        /// Proves the session in every request; a secret.
        authentication_token: NodeId,
        /// For how many milliseconds a silent session is kept.
        revised_session_timeout: f64,
        /// What the client has to sign.
        server_nonce: ByteString,
        /// The server's certificate.
        server_certificate: ByteString,
        /// The endpoints of the server, to compare with what discovery told.
        server_endpoints: Vec<EndpointDescription>,
        /// No more in use.
        server_software_certificates: Vec<SignedSoftwareCertificate>,
        /// The server's signature over the client's certificate and nonce.
        server_signature: SignatureData,
        /// So many bytes a request may have; 0 for any.
        max_request_message_size: u32,
    }

    /// Tells who the user is, and takes a session over to this channel.
    ActivateSessionRequest = 467 {
        /// The header.
        request_header: RequestHeader,
        /// The client's signature over the server's certificate and nonce.
        client_signature: SignatureData,
        /// No more in use.
        client_software_certificates: Vec<SignedSoftwareCertificate>,
        /// Languages that are wanted, the best first.
        locale_ids: Vec<Option<String>>,
        /// The user.
        user_identity_token: ExtensionObject,
        /// The user's signature, where the token is a certificate.
        user_token_signature: SignatureData,
    }

    /// The session is active.
    ActivateSessionResponse = 470 {
        /// The header.
        response_header: ResponseHeader,
        /// What the client has to sign the next time.
        server_nonce: ByteString,
        /// Of the software certificates.
        results: Vec<StatusCode>,
        /// Of the software certificates.
        diagnostic_infos: Vec<DiagnosticInfo>,
    }

    /// Ends a session.
    CloseSessionRequest = 473 {
        /// The header.
        request_header: RequestHeader,
        /// Whether its subscriptions end with it.
        delete_subscriptions: bool,
    }

    /// The session has ended.
    CloseSessionResponse = 476 {
        /// The header.
        response_header: ResponseHeader,
    }

    /// No user.
    ///
    /// Source: OPC 10000-4, section 7.41.3.
    AnonymousIdentityToken = 321 {
        /// The policy that it follows.
        policy_id: Option<String>,
    }

    /// A user with a password.
    ///
    /// Source: OPC 10000-4, section 7.41.4.
    UserNameIdentityToken = 324 {
        /// The policy that it follows.
        policy_id: Option<String>,
        /// The name.
        user_name: Option<String>,
        /// The password, encrypted as the policy demands.
        password: ByteString,
        /// The algorithm, by its URI; none for a password in the clear.
        encryption_algorithm: Option<String>,
    }

    /// A user with a certificate.
    ///
    /// Source: OPC 10000-4, section 7.41.5.
    X509IdentityToken = 327 {
        /// The policy that it follows.
        policy_id: Option<String>,
        /// The certificate.
        certificate_data: ByteString,
    }
}
