//! What servers there are, and how each can be reached.
//!
//! Source: OPC 10000-4, section 5.5.

use super::{MessageSecurityMode, RequestHeader, ResponseHeader};
use crate::structure::{enumerations, structures};
use crate::types::{ByteString, LocalizedText};

/// The transport profile of UA-TCP with the binary encoding.
///
/// Source: OPC 10000-7, the transport facets.
pub(crate) const UA_TCP: &str = "http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary";

structures! {
    /// A server, or a client.
    ///
    /// Source: OPC 10000-4, section 7.2.
    ApplicationDescription {
        /// Names the installed program, all over the world.
        application_uri: Option<String>,
        /// Names the product.
        product_uri: Option<String>,
        /// What people call it.
        application_name: LocalizedText,
        /// What it is.
        application_type: ApplicationType,
        /// The server through which it is reached.
        gateway_server_uri: Option<String>,
        /// How it is discovered.
        discovery_profile_uri: Option<String>,
        /// Where it tells its endpoints.
        discovery_urls: Vec<Option<String>>,
    }

    /// How a user can prove who they are.
    ///
    /// Source: OPC 10000-4, section 7.42.
    UserTokenPolicy {
        /// The server's name for it.
        policy_id: Option<String>,
        /// With what.
        token_type: UserTokenType,
        /// What issued tokens are.
        issued_token_type: Option<String>,
        /// Who issues them.
        issuer_endpoint_url: Option<String>,
        /// How a secret is encrypted; that of the endpoint where it is not told.
        security_policy_uri: Option<String>,
    }

    /// A way to reach a server.
    ///
    /// Source: OPC 10000-4, section 7.14.
    EndpointDescription {
        /// Its address.
        endpoint_url: Option<String>,
        /// The server.
        server: ApplicationDescription,
        /// The server's certificate, perhaps followed by those of its issuers.
        server_certificate: ByteString,
        /// What is done to messages.
        security_mode: MessageSecurityMode,
        /// With which algorithms.
        security_policy_uri: Option<String>,
        /// How users can prove who they are.
        user_identity_tokens: Vec<UserTokenPolicy>,
        /// The transport and the encoding.
        transport_profile_uri: Option<String>,
        /// How the server rates it: more is better.
        security_level: u8,
    }

    /// Asks for the servers that one knows.
    FindServersRequest = 422 {
        /// The header.
        request_header: RequestHeader,
        /// The address that the client used.
        endpoint_url: Option<String>,
        /// Languages that are wanted, the best first.
        locale_ids: Vec<Option<String>>,
        /// Which servers are wanted; none for all.
        server_uris: Vec<Option<String>>,
    }

    /// The servers.
    FindServersResponse = 425 {
        /// The header.
        response_header: ResponseHeader,
        /// The servers.
        servers: Vec<ApplicationDescription>,
    }

    /// Asks for the endpoints of a server.
    GetEndpointsRequest = 428 {
        /// The header.
        request_header: RequestHeader,
        /// The address that the client used.
        endpoint_url: Option<String>,
        /// Languages that are wanted, the best first.
        locale_ids: Vec<Option<String>>,
        /// Which transports are wanted; none for all.
        profile_uris: Vec<Option<String>>,
    }

    /// The endpoints.
    GetEndpointsResponse = 431 {
        /// The header.
        response_header: ResponseHeader,
        /// The endpoints.
        endpoints: Vec<EndpointDescription>,
    }
}

enumerations! {
    /// What a program is.
    ///
    /// Source: OPC 10000-4, section 7.4.
    ApplicationType {
        /// A server.
        #[default]
        Server = 0,
        /// A client.
        Client = 1,
        /// Both.
        ClientAndServer = 2,
        /// Something that tells of servers only.
        DiscoveryServer = 3,
    }

    /// With what a user proves who they are.
    ///
    /// Source: OPC 10000-4, section 7.43.
    UserTokenType {
        /// Not at all.
        #[default]
        Anonymous = 0,
        /// With a name and a password.
        UserName = 1,
        /// With a certificate.
        Certificate = 2,
        /// With what somebody else issued.
        IssuedToken = 3,
    }
}
