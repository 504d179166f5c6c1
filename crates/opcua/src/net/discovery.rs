use super::connection::ConnectionError;
use super::{closed, now, until};
use crate::channel::{ClientChannel, ClientChannelConfig, ClientChannelEvent, TransportLimits};
use crate::client::{RequestError, SessionError};
use crate::security::SecurityPolicy;
use crate::service::{EndpointDescription, GetEndpointsRequest, MessageSecurityMode, Response};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

/// The ways to reach a server, as it tells whoever asks over a stream without security.
///
/// Source: OPC 10000-4, section 5.5.4.
///
/// # Errors
/// When it does not tell.
pub async fn endpoints_of(
    mut stream: TcpStream,
    url: &str,
    timeout: Duration,
) -> Result<Vec<EndpointDescription>, ConnectionError> {
    let config = ClientChannelConfig {
        url: url.to_owned(),
        policy: SecurityPolicy::None,
        mode: MessageSecurityMode::None,
        own: None,
        server_certificate: Vec::new(),
        limits: TransportLimits::default(),
        token_lifetime: Duration::from_secs(60),
        timeout,
        trace: false,
    };
    let deadline = now().0 + timeout;
    let mut channel = ClientChannel::new(config, now().0);
    let (mut incoming, mut outgoing) = (vec![0; 8192], Vec::new());
    loop {
        while let Some(event) = channel.poll_event() {
            match event {
                ClientChannelEvent::Opened => {
                    let mut request = GetEndpointsRequest { endpoint_url: Some(url.to_owned()), ..Default::default() };
                    request.request_header.timestamp = now().1;
                    channel.request(request.into()).map_err(RequestError::from)?;
                }
                ClientChannelEvent::Response(_, response) => {
                    return match *response {
                        Response::GetEndpoints(told) => {
                            channel.close();
                            outgoing.clear();
                            // It has told all; whether it hears that we go does not matter.
                            if channel.poll_transmit(&mut outgoing) {
                                let _ = stream.write_all(&outgoing).await;
                            }
                            Ok(told.endpoints)
                        }
                        Response::Fault(fault) => Err(RequestError::Fault(fault.response_header.service_result).into()),
                        _ => Err(SessionError::Answer("GetEndpoints").into()),
                    };
                }
                ClientChannelEvent::Closed(error) => return Err(SessionError::from(error).into()),
                _ => {}
            }
        }
        outgoing.clear();
        if channel.poll_transmit(&mut outgoing) {
            stream.write_all(&outgoing).await?;
        }
        tokio::select! {
            length = stream.read(&mut incoming) => match length? {
                0 => return Err(closed().into()),
                length => channel.handle_input(now().0, incoming.get(..length).unwrap_or_default()),
            },
            () = until(channel.poll_timeout()) => channel.handle_timeout(now().0),
            () = until(Some(deadline)) => return Err(RequestError::Timeout.into()),
        }
    }
}
