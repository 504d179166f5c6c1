use crate::{Framing, Server, Units};
use std::io;
use std::sync::Arc;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
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
                    tokio::select! {
                        // A client that breaks off or sends nonsense is closed; there is nobody to tell.
                        _ = answer(stream, framing, units) => {}
                        () = stop.cancelled() => {}
                    }
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

async fn answer(mut stream: TcpStream, framing: Framing, units: Arc<dyn Units>) -> io::Result<()> {
    stream.set_nodelay(true)?;
    let mut server = Server::new(framing);
    let (mut incoming, mut outgoing) = ([0; 1024], Vec::new());
    loop {
        let length = stream.read(&mut incoming).await?;
        if length == 0 {
            return Ok(());
        }
        outgoing.clear();
        let bytes = incoming.get(..length).unwrap_or_default();
        let handled = server.handle_input(bytes, &*units, &mut outgoing);
        stream.write_all(&outgoing).await?;
        if handled.is_err() {
            return Ok(());
        }
    }
}
