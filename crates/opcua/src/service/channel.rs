//! The secure channel.
//!
//! Source: OPC 10000-4, section 5.6.

use super::{RequestHeader, ResponseHeader};
use crate::structure::{enumerations, structures};
use crate::types::{ByteString, DateTime};

structures! {
    /// Opens a channel, or renews the token of one.
    OpenSecureChannelRequest = 446 {
        /// The header.
        request_header: RequestHeader,
        /// The version of the protocol: 0.
        client_protocol_version: u32,
        /// Whether it opens or renews.
        request_type: SecurityTokenRequestType,
        /// What is to be done to messages.
        security_mode: MessageSecurityMode,
        /// The client's part of the new keys.
        client_nonce: ByteString,
        /// For how many milliseconds the token is wanted.
        requested_lifetime: u32,
    }

    /// The channel is open.
    OpenSecureChannelResponse = 449 {
        /// The header.
        response_header: ResponseHeader,
        /// The version of the protocol: 0.
        server_protocol_version: u32,
        /// The token that messages carry from now on.
        security_token: ChannelSecurityToken,
        /// The server's part of the new keys.
        server_nonce: ByteString,
    }

    /// What tells which keys a message is secured with.
    ///
    /// Source: OPC 10000-4, section 5.6.2.2.
    ChannelSecurityToken {
        /// The channel.
        channel_id: u32,
        /// The token.
        token_id: u32,
        /// When it was made.
        created_at: DateTime,
        /// For how many milliseconds it holds.
        revised_lifetime: u32,
    }

    /// Ends a channel. Nothing answers it.
    CloseSecureChannelRequest = 452 {
        /// The header.
        request_header: RequestHeader,
    }

    /// Stands in the standard, and is never sent.
    CloseSecureChannelResponse = 455 {
        /// The header.
        response_header: ResponseHeader,
    }
}

enumerations! {
    /// Whether a channel is opened, or its token renewed.
    ///
    /// Source: OPC 10000-4, section 5.6.2.2.
    SecurityTokenRequestType {
        /// It is opened.
        #[default]
        Issue = 0,
        /// Its token is renewed.
        Renew = 1,
    }

    /// What is done to messages.
    ///
    /// Source: OPC 10000-4, section 7.20.
    MessageSecurityMode {
        /// Nobody said.
        #[default]
        Invalid = 0,
        /// Nothing.
        None = 1,
        /// They are signed.
        Sign = 2,
        /// They are signed and encrypted.
        SignAndEncrypt = 3,
    }
}
