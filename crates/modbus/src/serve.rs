use crate::{Framing, Server, Units, Wire};
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// Answers Modbus TCP clients until `stop` is cancelled, then closes their connections and the listener.
///
/// # Errors
/// When the listener fails for good; a client that misbehaves only loses its own connection.
pub async fn serve(listener: TcpListener, units: Arc<dyn Units>, stop: CancellationToken) -> io::Result<()> {
    serve_framed(listener, Framing::Tcp, units, stop).await
}

/// Answers clients that speak with a framing of their own, as [`serve`] does.
///
/// # Errors
/// As [`serve`].
pub async fn serve_framed(
    listener: TcpListener,
    framing: Framing,
    units: Arc<dyn Units>,
    stop: CancellationToken,
) -> io::Result<()> {
    let clients = TaskTracker::new();
    let result = loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = stop.cancelled() => break Ok(()),
        };
        match accepted {
            Ok((stream, _)) => {
                let (units, stop) = (Arc::clone(&units), stop.clone());
                clients.spawn(async move {
                    // A client that breaks off or sends nonsense is closed; there is nobody to tell.
                    let _ = stream.set_nodelay(true);
                    let _ = serve_wire(stream, framing, Duration::ZERO, units, stop).await;
                });
            }
            Err(error) if is_passing(&error) => tokio::task::yield_now().await,
            Err(error) => break Err(error),
        }
    };
    clients.close();
    clients.wait().await;
    result
}

/// Errors of `accept` that concern one client only.
fn is_passing(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::ConnectionAborted | io::ErrorKind::ConnectionReset | io::ErrorKind::Interrupted
    )
}

/// Answers whoever is at the other end of one wire, such as a serial line, until it closes or `stop` is cancelled.
/// `silence` ends an RTU frame of a function that is not known; zero where frames are not told apart by it.
///
/// # Errors
/// What the operating system says; nonsense instead of Modbus TCP ends it without an error.
pub async fn serve_wire(
    mut wire: impl Wire,
    framing: Framing,
    silence: Duration,
    units: Arc<dyn Units>,
    stop: CancellationToken,
) -> io::Result<()> {
    let mut server = Server::new(framing);
    let (mut incoming, mut outgoing) = ([0; 1024], Vec::new());
    loop {
        let waits_for_silence = !silence.is_zero() && server.is_inside_frame();
        outgoing.clear();
        tokio::select! {
            length = wire.read(&mut incoming) => {
                let length = length?;
                if length == 0 {
                    return Ok(());
                }
                let bytes = incoming.get(..length).unwrap_or_default();
                let handled = server.handle_input(bytes, &*units, &mut outgoing);
                let delay = server.take_delay();
                if !delay.is_zero() {
                    tokio::time::sleep(delay).await;
                }
                wire.write_all(&outgoing).await?;
                if handled.is_err() {
                    return Ok(());
                }
            }
            () = tokio::time::sleep(silence), if waits_for_silence => {
                server.handle_silence(&*units, &mut outgoing);
                wire.write_all(&outgoing).await?;
            }
            () = stop.cancelled() => return Ok(()),
        }
    }
}
